//! Bringing into the books what the processor did: captures become receipts or deposits, what goes back stands against them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::card::Goes;
use till_core::card::payout::LineKind;
use till_core::checks::{Blocker, stops};
use till_core::deposit::ending::{EndInput, Ending, decide};
use till_core::entry::Entry;
use till_core::fingerprint;
use till_core::ids::{CardAuthorizationId, CardCaptureId, CardReturnId, DocumentKind, DocumentRef, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::tape::{Change, Tape};

use super::asking::{captured, in_books, note};
use super::facts::{Loaded, load};
use crate::convert::known;
use crate::deposits::{self, EndPreview, NewDeposit};
use crate::open_items::standing_on_credit;
use crate::receipts::{self, NewApplication, NewApplications, NewReceipt, ToUnapply};
use crate::rules::{Rules, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Actor, Result, Store, StoreError, customers, money_places, open_items, posting, rules, sensible_date};

/// What a capture becomes in the books.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CapturePreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How much.
    pub amount: Money,
    /// Where it goes.
    pub goes: Goes,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What it changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// The document a capture becomes.
pub(super) enum Becomes {
    Receipt(NewReceipt),
    Deposit(NewDeposit),
}

/// What a capture becomes on a day: the first way that nothing stops, or else the last with what stops it.
pub(super) async fn decided(
    connection: &mut SqliteConnection,
    rules: &Rules,
    loaded: &Loaded,
    (amount, date): (Money, NaiveDate),
) -> Result<(CapturePreview, Becomes)> {
    let method = money_places::card(connection).await?;
    let target = deposits::target(connection, rules, loaded.order.id, loaded.customer).await;
    let room = target.map_or(Money::ZERO, |target| target.total() - target.taken_before);
    let open = loaded.order.open_by_invoice();
    let sum = open.iter().map(|(_, open)| *open).sum();
    let mut last = None;
    for goes in Goes::ways(sum, room, amount) {
        let becomes = becomes(loaded, goes, (amount, date), &open);
        let (entry, tape, changes, blockers, fingerprint) = match &becomes {
            Becomes::Receipt(new) => {
                let seen = receipts::preview_by(connection, rules, new, method.clone()).await?;
                (seen.entry, seen.tape, seen.changes, seen.blockers, seen.fingerprint)
            }
            Becomes::Deposit(new) => {
                let seen = deposits::preview_by(connection, rules, new, method.clone()).await?;
                (seen.entry, seen.tape, seen.changes, seen.blockers, seen.fingerprint)
            }
        };
        let currency = loaded.card.currency;
        let preview = CapturePreview { currency, amount, goes, entry, tape, changes, blockers, fingerprint };
        let stopped = stops(&preview.blockers);
        last = Some((preview, becomes));
        if !stopped {
            break;
        }
    }
    last.ok_or(StoreError::Moved)
}

fn becomes(
    loaded: &Loaded,
    goes: Goes,
    (amount, date): (Money, NaiveDate),
    open: &[(till_core::ids::InvoiceId, Money)],
) -> Becomes {
    let currency = loaded.card.currency;
    let mut left = amount;
    let applications = match goes {
        Goes::ToInvoices => open
            .iter()
            .map(|(invoice, open)| {
                let part = left.min(*open);
                left -= part;
                (*invoice, part)
            })
            .filter(|(_, part)| part.is_positive())
            .map(|(invoice, part)| NewApplication::to_invoice(invoice, currency.format(part)))
            .collect(),
        Goes::Deposit | Goes::Unapplied => Vec::new(),
    };
    let (method, reference) = ("card".to_owned(), Some(loaded.card.number.clone()));
    match goes {
        Goes::Deposit => Becomes::Deposit(NewDeposit {
            customer: loaded.customer,
            order: Some(loaded.order.id),
            quote: None,
            method,
            date: Some(date),
            amount: currency.format(amount),
            reference,
            memo: None,
        }),
        Goes::ToInvoices | Goes::Unapplied => Becomes::Receipt(NewReceipt {
            customer: loaded.customer,
            method,
            date: Some(date),
            amount: currency.format(amount),
            reference,
            applications: Some(applications),
            first: None,
        }),
    }
}

/// Brings a capture into the books. Returns the number of the receipt or deposit.
///
/// # Errors
/// One that is in the books already, or what the core refuses.
pub async fn book_capture(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardCaptureId,
    date: Option<NaiveDate>,
) -> Result<String> {
    let row = sqlx::query!(
        r#"SELECT authorization_id, amount_minor, captured_on AS "day: NaiveDate", payment_id FROM card_captures WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CardAuthorization, format!("capture {id}")))?;
    let loaded = load(writing, CardAuthorizationId(row.authorization_id)).await?;
    if row.payment_id.is_some() {
        let sentence = format!("This capture of {} is in the books already.", loaded.card.number);
        return Err(StoreError::WrongState(sentence));
    }
    let date = match date {
        Some(date) => sensible_date("date", date)?,
        None => in_books(row.day, rules),
    };
    let (preview, becomes) = decided(writing, rules, &loaded, (Money(row.amount_minor), date)).await?;
    if stops(&preview.blockers) {
        return Err(StoreError::Refused(preview.blockers));
    }
    let method = money_places::card(writing).await?;
    let (payment, number) = match &becomes {
        Becomes::Receipt(new) => {
            let posted = receipts::post_by(writing, rules, new, method, Some(&preview.fingerprint)).await?;
            (posted.id.0, posted.number)
        }
        Becomes::Deposit(new) => {
            let taken = deposits::take_by(writing, rules, new, method, Some(&preview.fingerprint)).await?;
            (taken.id.0, taken.number)
        }
    };
    sqlx::query!("UPDATE card_captures SET payment_id = ? WHERE id = ?", payment, id.0).execute(&mut **writing).await?;
    note(writing, &loaded, ("card_booked", "booked a capture of"), vec![set("became", &number)]).await?;
    Ok(number)
}

/// How what went back to a card is brought into the books.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BookReturn {
    /// When; none for the day it happened.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What went back to a card, in the books.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BookedReturn {
    /// Its number.
    pub number: String,
    /// The entries, in their order: what was applied is unapplied, the money leaves, the rest is applied again.
    pub entries: Vec<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// To be sent back.
    pub fingerprint: String,
}

/// What of a payment could go back to its card: the deposit or the receipt it became.
pub(super) async fn ending<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (payment, fee): (i64, Option<Money>),
    (date, reason): (DocumentDate, &str),
) -> Result<EndInput<'a>> {
    let kind = receipts::kind_of(connection, ReceiptId(payment)).await?;
    let item = open_items::item_of(connection, kind, payment, Side::OwedByUs).await?;
    let (customer, _) = customers::facts(connection, item.customer).await?;
    Ok(EndInput {
        customer_name: customer.name,
        customer_class: customer.class,
        ending: Ending::Card { place: money_places::card(connection).await?.place, fee },
        amount: item.open,
        date,
        reason: reason.trim().to_owned(),
        rate: exchange_rate(connection, rules, item.currency, date.date).await?,
        at_place: Vec::new(),
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
        item,
    })
}

/// What sending money back would do, with what it is carried at.
pub(super) fn previewed_end(input: &EndInput<'_>) -> (EndPreview, Money) {
    let decision = decide(input);
    let preview = EndPreview {
        currency: input.item.currency,
        amount: input.amount,
        entry: decision.entry,
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    };
    (preview, decision.amount_base)
}

struct Return {
    kind: LineKind,
    capture: CardCaptureId,
    amount: Money,
    fee: Money,
    happened_on: NaiveDate,
    reason: String,
    booked: bool,
}

async fn returned(connection: &mut SqliteConnection, id: CardReturnId) -> Result<Return> {
    let row = sqlx::query!(
        r#"SELECT kind, capture_id, amount_minor, fee_minor, happened_on AS "day: NaiveDate", reason, entry_id FROM card_returns WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CardReturn, id))?;
    let kind = |word: &str| match word {
        "refunded" => Some(LineKind::Refund),
        "charged_back" => Some(LineKind::ChargeBack),
        _ => None,
    };
    Ok(Return {
        kind: known(&row.kind, kind)?,
        capture: CardCaptureId(row.capture_id),
        amount: Money(row.amount_minor),
        fee: Money(row.fee_minor),
        happened_on: row.day,
        reason: row.reason,
        booked: row.entry_id.is_some(),
    })
}

/// What bringing a charge back or refund into the books would do. It is carried out and taken back: nothing stays written.
///
/// # Errors
/// As [`book_return`].
pub async fn preview_return(store: &Store, actor: &Actor, id: CardReturnId, wish: &BookReturn) -> Result<BookedReturn> {
    store
        .rehearse(actor, async |writing| {
            let rules = rules::load(writing).await?;
            carry_out(writing, &rules, id, wish.date).await
        })
        .await
}

/// Brings a charge back or refund into the books. What of it was applied is unapplied first, the newest before the older,
/// and what is left over is applied again: what it settled is open again by what went back.
///
/// # Errors
/// [`StoreError::Moved`], one that is in the books already, or what the core refuses.
pub async fn book_return(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardReturnId,
    wish: &BookReturn,
) -> Result<BookedReturn> {
    let booked = carry_out(writing, rules, id, wish.date).await?;
    writing.saw(wish.seen.as_deref(), &booked.fingerprint)?;
    Ok(booked)
}

/// An application that is taken back so that money can leave, with what of it is made anew.
struct Again {
    item: till_core::ids::OpenItemId,
    amount: Money,
}

/// Frees as much of a payment as is missing. Returns what is to be applied again.
async fn free(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (payment, missing): (i64, Money),
    (date, reason): (NaiveDate, &str),
    entries: &mut Vec<Entry>,
) -> Result<Vec<Again>> {
    let kind = receipts::kind_of(writing, ReceiptId(payment)).await?;
    let item = open_items::item_of(writing, kind, payment, Side::OwedByUs).await?;
    let mut standing = standing_on_credit(writing, item.id).await?;
    standing.retain(|one| !matches!(one.debit.document.kind, DocumentKind::DepositEnd | DocumentKind::CardReturn));
    let (mut freed, mut wanted, mut again) = (Money::ZERO, Vec::new(), Vec::new());
    for one in standing.iter().rev() {
        if freed >= missing {
            break;
        }
        freed += one.used.0;
        wanted.push(one.id);
        if freed > missing {
            // In two currencies what is made anew is applied as the money says, at the rates of the day.
            again.push(Again { item: one.debit.id, amount: freed - missing });
        }
    }
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let wish = ToUnapply { applications: Some(wanted), date: Some(date), reason: reason.to_owned() };
    let preview = receipts::preview_unapply(writing, rules, ReceiptId(payment), &wish).await?;
    entries.extend(preview.entries.iter().map(|reversal| reversal.entry.clone()));
    let version = version_of(writing, payment).await?;
    receipts::unapply(writing, rules, ReceiptId(payment), (version, &preview.fingerprint), &wish).await?;
    Ok(again)
}

async fn version_of(connection: &mut SqliteConnection, payment: i64) -> Result<i64> {
    Ok(sqlx::query_scalar!("SELECT version FROM payments WHERE id = ?", payment).fetch_one(connection).await?)
}

async fn apply_again(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (payment, currency, date): (i64, Currency, NaiveDate),
    again: &[Again],
    entries: &mut Vec<Entry>,
) -> Result<()> {
    if again.is_empty() {
        return Ok(());
    }
    let applications = again.iter().map(|one| NewApplication::to_item(one.item, currency.format(one.amount))).collect();
    let new = NewApplications { date: Some(date), applications: Some(applications) };
    let preview = receipts::preview_apply(writing, rules, ReceiptId(payment), &new).await?;
    entries.extend(preview.entry.clone());
    let version = version_of(writing, payment).await?;
    receipts::apply(writing, rules, ReceiptId(payment), version, &new, Some(&preview.fingerprint)).await?;
    Ok(())
}

async fn carry_out(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardReturnId,
    date: Option<NaiveDate>,
) -> Result<BookedReturn> {
    let back = returned(writing, id).await?;
    let capture = captured(writing, back.capture).await?;
    let loaded = load(writing, capture.authorization).await?;
    if back.booked {
        return Err(StoreError::WrongState("This is in the books already.".to_owned()));
    }
    let Some(payment) = capture.payment else {
        let sentence = format!("Its capture of {} is not in the books yet. Book that first.", loaded.card.number);
        return Err(StoreError::WrongState(sentence));
    };
    let date = match date {
        Some(date) => DocumentDate { date: sensible_date("date", date)?, typed: true },
        None => DocumentDate { date: in_books(back.happened_on, rules), typed: false },
    };
    let mut entries = Vec::new();
    let fee = (back.kind == LineKind::ChargeBack).then_some(back.fee);
    let input = ending(writing, rules, (payment, fee), (date, &back.reason)).await?;
    let missing = back.amount - input.item.open;
    let again = match missing.is_positive() {
        true => free(writing, rules, (payment, missing), (date.date, &back.reason), &mut entries).await?,
        false => Vec::new(),
    };
    let mut input = ending(writing, rules, (payment, fee), (date, &back.reason)).await?;
    input.amount = back.amount;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    let (number, sequence) = next_number(writing, "card_return").await?;
    let source = DocumentRef { kind: DocumentKind::CardReturn, id: id.0, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(&input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    entries.extend(decision.entry.clone());
    let rate = input.rate.ok_or(StoreError::Moved)?;
    let to_base = |amount: Money| amount.to_base(rate, input.item.currency, rules.base);
    let cleared = to_base(back.amount) + to_base(back.fee);
    sqlx::query!(
        "UPDATE card_returns SET number = ?, sequence = ?, posting_date = ?, amount_base_minor = ?, cleared_base_minor = ?, entry_id = ?
         WHERE id = ?",
        number, sequence, date.date, decision.amount_base.0, cleared.0, entry.0, id.0
    )
    .execute(&mut **writing)
    .await?;
    apply_again(writing, rules, (payment, input.item.currency, date.date), &again, &mut entries).await?;
    deposits::refresh_orders(writing, &[payment]).await?;
    let document = &input.item.document;
    let what = if fee.is_some() { "booked a charge back of" } else { "booked a refund of" };
    let fields = vec![set("amount", loaded.card.currency.format(back.amount)), set("of", &document.number)];
    note(writing, &loaded, ("card_returned", what), fields).await?;
    let fingerprint = fingerprint::of(&(id, &entries));
    Ok(BookedReturn { number, entries, tape: decision.tape, fingerprint })
}

/// Brings what the processor just answered into the books where nothing stops it; otherwise the day sheet asks for it.
pub(super) async fn book_if_possible(writing: &mut Writing<'_>, rules: &Rules, what: ToBook) -> Result<()> {
    match what {
        ToBook::Capture(id, authorization, amount, on) => {
            let loaded = load(writing, authorization).await?;
            let (preview, _) = decided(writing, rules, &loaded, (amount, in_books(on, rules))).await?;
            if !stops(&preview.blockers) {
                book_capture(writing, rules, id, None).await?;
            }
        }
        ToBook::Refund(id) => {
            let back = returned(writing, id).await?;
            let Some(payment) = captured(writing, back.capture).await?.payment else { return Ok(()) };
            let date = DocumentDate { date: in_books(back.happened_on, rules), typed: false };
            let mut input = ending(writing, rules, (payment, None), (date, &back.reason)).await?;
            input.amount = back.amount;
            if !stops(&decide(&input).blockers) {
                carry_out(writing, rules, id, None).await?;
            }
        }
    }
    Ok(())
}

/// What the processor just answered.
pub(super) enum ToBook {
    Capture(CardCaptureId, CardAuthorizationId, Money, NaiveDate),
    Refund(CardReturnId),
}
