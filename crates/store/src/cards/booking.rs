//! Bringing into the books what the processor did: captures become receipts or deposits, what goes back stands against them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::card::payout::LineKind;
use till_core::card::{Freeing, Goes, in_books, spread_over, to_free};
use till_core::checks::{Blocker, stops};
use till_core::deposit::ending::{EndInput, Ending, decide};
use till_core::entry::Entry;
use till_core::fingerprint;
use till_core::ids::{
    CardAuthorizationId, CardCaptureId, CardReturnId, DocumentKind, DocumentRef, InvoiceId, OpenItemId, ReceiptId,
};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::tape::{Change, Tape};

use super::asking::{captured, note};
use super::facts::{Loaded, load};
use crate::convert::known;
use crate::deposits::{self, NewDeposit};
use crate::open_items::standing_on_credit;
use crate::receipts::{self, NewApplication, NewApplications, NewReceipt, ToUnapply};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Actor, Result, Store, StoreError, money_places, open_items, posting, rules, sensible_date};

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
    let room = match loaded.target.order() {
        Some(order) => {
            let target = deposits::target(connection, rules, order, loaded.customer).await;
            target.map_or(Money::ZERO, |target| target.total() - target.taken_before)
        }
        None => Money::ZERO,
    };
    let open = loaded.target.open_by_invoice();
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

fn becomes(loaded: &Loaded, goes: Goes, (amount, date): (Money, NaiveDate), open: &[(InvoiceId, Money)]) -> Becomes {
    let currency = loaded.card.currency;
    let parts = if goes == Goes::ToInvoices { spread_over(amount, open) } else { Vec::new() };
    let applied = |(invoice, part)| NewApplication::to_invoice(invoice, currency.format(part));
    let applications = parts.into_iter().map(applied).collect();
    let (method, reference) = ("card".to_owned(), Some(loaded.card.number.clone()));
    match goes {
        Goes::Deposit => Becomes::Deposit(NewDeposit {
            receipt: None,
            customer: loaded.customer,
            order: loaded.target.order(),
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
            with: Vec::new(),
            currency: None,
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
        None => in_books(row.day, rules.business_date),
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
    let ending = Ending::Card { place: money_places::card(connection).await?.place, fee };
    deposits::end_input(connection, rules, (item, ending), (date, reason)).await
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

/// Frees as much of a payment as is missing. Returns what is to be applied again: to which item, how much of the payment.
async fn free(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (payment, missing): (i64, Money),
    (date, reason): (NaiveDate, &str),
    entries: &mut Vec<Entry>,
) -> Result<Option<(OpenItemId, Money)>> {
    let kind = receipts::kind_of(writing, ReceiptId(payment)).await?;
    let item = open_items::item_of(writing, kind, payment, Side::OwedByUs).await?;
    let standing = standing_on_credit(writing, item.id).await?;
    let ends = |kind| matches!(kind, DocumentKind::DepositEnd | DocumentKind::CardReturn);
    let applied = standing.iter().filter(|one| !ends(one.debit.document.kind));
    let applied: Vec<_> = applied.map(|one| (one.id, one.debit.id, one.used.0)).collect();
    let Freeing { back, again } = to_free(&applied, missing);
    if back.is_empty() {
        return Ok(None);
    }
    let wish = ToUnapply { applications: Some(back), date: Some(date), reason: reason.to_owned() };
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
    (item, amount): (OpenItemId, Money),
    entries: &mut Vec<Entry>,
) -> Result<()> {
    // To an item in another currency it goes at the rates of the day, as any money.
    let application = NewApplication::to_item(item, currency.format(amount));
    let new = NewApplications { date: Some(date), applications: Some(vec![application]) };
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
        None => DocumentDate { date: in_books(back.happened_on, rules.business_date), typed: false },
    };
    let mut entries = Vec::new();
    let fee = (back.kind == LineKind::ChargeBack).then_some(back.fee);
    let input = ending(writing, rules, (payment, fee), (date, &back.reason)).await?;
    let missing = back.amount - input.item.open;
    let again = match missing.is_positive() {
        true => free(writing, rules, (payment, missing), (date.date, &back.reason), &mut entries).await?,
        false => None,
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
    if let Some(again) = again {
        apply_again(writing, rules, (payment, input.item.currency, date.date), again, &mut entries).await?;
    }
    deposits::refresh_orders(writing, &[payment]).await?;
    let document = &input.item.document;
    let what = if fee.is_some() { "booked a charge back of" } else { "booked a refund of" };
    let fields = vec![set("amount", loaded.card.currency.format(back.amount)), set("of", &document.number)];
    note(writing, &loaded, ("card_returned", what), fields).await?;
    let fingerprint = fingerprint::of(&(id, &entries));
    Ok(BookedReturn { number, entries, tape: decision.tape, fingerprint })
}

/// Brings a capture into the books where nothing stops that; otherwise the day sheet asks for it.
pub(super) async fn book_capture_if_possible(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardCaptureId,
) -> Result<()> {
    match book_capture(writing, rules, id, None).await {
        // It was refused before anything was written.
        Ok(_) | Err(StoreError::Refused(_)) => Ok(()),
        Err(error) => Err(error),
    }
}

/// The same of money that was sent back; nothing is unapplied for it without a word.
pub(super) async fn book_refund_if_possible(writing: &mut Writing<'_>, rules: &Rules, id: CardReturnId) -> Result<()> {
    let back = returned(writing, id).await?;
    let Some(payment) = captured(writing, back.capture).await?.payment else { return Ok(()) };
    let date = DocumentDate { date: in_books(back.happened_on, rules.business_date), typed: false };
    let mut input = ending(writing, rules, (payment, None), (date, &back.reason)).await?;
    input.amount = back.amount;
    if !stops(&decide(&input).blockers) {
        carry_out(writing, rules, id, None).await?;
    }
    Ok(())
}
