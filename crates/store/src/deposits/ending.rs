//! Refunding a deposit, keeping it as income, reversing one that was typed in error.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::deposit::ending::{EndDecision, EndInput, EndKind, Ending, decide};
use till_core::entry::Entry;
use till_core::ids::{ApprovalId, DepositId, DocumentKind, DocumentRef, EntryId, OrderId};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::settle::PlaceKind;
use till_core::tape::{Change, Tape};

use crate::approvals::{self, Asked, Go};
use crate::receipts::ToReverse;
use crate::rules::{Rules, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, bank, customers, money_places, open_items, orders, posting, sensible_date};

/// How a deposit ends, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewEnd {
    /// Refunded, or kept as income.
    pub kind: EndKind,
    /// How much, in its currency; none for all that is held.
    #[serde(default)]
    pub amount: Option<String>,
    /// How a refund is paid.
    #[serde(default)]
    pub method: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// What the end of a deposit would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EndPreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How much of it ends.
    pub amount: Money,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// What became of the wish to end one.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Ended {
    /// Its number; none where it waits for approval.
    pub number: Option<String>,
    /// The approval it waits for.
    pub waits: Option<ApprovalId>,
    /// The deposit's version now.
    pub version: i64,
}

/// Everything needed to decide on how what is open of a payment ends: all of it, unless less is said.
pub(crate) async fn end_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (item, ending): (OpenItem, Ending),
    (date, reason): (DocumentDate, &str),
) -> Result<EndInput<'a>> {
    let (customer, _) = customers::facts(connection, item.customer).await?;
    Ok(EndInput {
        customer_name: customer.name,
        customer_class: customer.class,
        ending,
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

struct Loaded<'a> {
    input: EndInput<'a>,
    version: i64,
    order: Option<i64>,
    said: Said,
}

/// What taking it said: where its money was, or what it was made of, amount and base amount, and by which entry.
struct Said {
    place: Option<String>,
    turned_from: Option<i64>,
    amount: (Money, Money),
    entry: EntryId,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: DepositId,
    (date, reason): (Option<NaiveDate>, &str),
) -> Result<Loaded<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!(
        "SELECT version, order_id, place, turned_from, amount_minor, amount_base_minor, entry_id FROM payments JOIN deposits ON deposits.id = payments.id
         WHERE payments.id = ?",
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Deposit, id))?;
    let item = open_items::item_of(connection, DocumentKind::Deposit, id.0, Side::OwedByUs).await?;
    let date = DocumentDate::or_business_date(date, rules.business_date);
    let input = end_input(connection, rules, (item, Ending::Keep), (date, reason)).await?;
    let said = Said {
        place: row.place,
        turned_from: row.turned_from,
        amount: (Money(row.amount_minor), Money(row.amount_base_minor)),
        entry: EntryId(row.entry_id),
    };
    Ok(Loaded { input, version: row.version, order: row.order_id, said })
}

async fn to_end<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: DepositId,
    wish: &NewEnd,
) -> Result<Loaded<'a>> {
    let mut loaded = load(connection, rules, id, (wish.date, &wish.reason)).await?;
    let input = &mut loaded.input;
    if let Some(typed) = &wish.amount {
        input.amount = input.item.currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?;
    }
    if wish.kind == EndKind::Refunded {
        let Some(method) = &wish.method else {
            return Err(StoreError::invalid("method", "Choose how the money is sent back."));
        };
        let method = money_places::method(connection, method).await?;
        if method.place.kind == PlaceKind::Drawer {
            input.at_place = money_places::movements(connection, &method.place.code).await?;
        }
        input.ending = Ending::Refund { method };
    }
    Ok(loaded)
}

async fn to_reverse<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: DepositId,
    wish: &ToReverse,
) -> Result<Loaded<'a>> {
    let mut loaded = load(connection, rules, id, (wish.date, &wish.reason)).await?;
    let Said { place, turned_from, amount, entry } = &loaded.said;
    let (amount, entry) = (*amount, *entry);
    loaded.input.ending = match (place, turned_from) {
        (Some(place), _) => {
            let number = &loaded.input.item.document.number;
            let place = bank::place_now(connection, (entry.0, number), place).await?;
            Ending::Reverse { place, entry, amount }
        }
        (None, Some(origin)) => {
            let against = open_items::item_of(connection, DocumentKind::Deposit, id.0, Side::OwedToUs).await?;
            let standing = open_items::standing_on_debit(connection, against.id).await?;
            let unapplied = standing.into_iter().find(|one| one.credit.id.0 == *origin).ok_or_else(|| {
                let sentence = format!("{} is reversed already.", loaded.input.item.document.number);
                StoreError::invalid("deposit", sentence)
            })?;
            Ending::Return { entry, amount, unapplied: Box::new(unapplied) }
        }
        (None, None) => return Err(StoreError::Corrupt("a deposit without a place".to_owned())),
    };
    loaded.input.amount = amount.0;
    Ok(loaded)
}

/// What it would do.
pub(crate) fn previewed(input: &EndInput<'_>, decision: EndDecision) -> EndPreview {
    EndPreview {
        currency: input.item.currency,
        amount: input.amount,
        entry: decision.entry,
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    }
}

/// What refunding or keeping a deposit would do.
///
/// # Errors
/// An unknown deposit, an amount that cannot be read, a refund without a way of paying.
pub async fn preview_end(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: DepositId,
    wish: &NewEnd,
) -> Result<EndPreview> {
    let input = to_end(connection, rules, id, wish).await?.input;
    Ok(previewed(&input, decide(&input)))
}

/// What reversing a deposit would do.
///
/// # Errors
/// An unknown deposit.
pub async fn preview_reverse(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: DepositId,
    wish: &ToReverse,
) -> Result<EndPreview> {
    let input = to_reverse(connection, rules, id, wish).await?.input;
    Ok(previewed(&input, decide(&input)))
}

fn agreed(loaded: &Loaded<'_>, version: Option<i64>) -> Result<EndDecision> {
    if version.is_some_and(|version| version != loaded.version) {
        let what = loaded.input.item.document.number.clone();
        return Err(StoreError::Stale { what, current: loaded.version });
    }
    let decision = decide(&loaded.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    Ok(decision)
}

/// Refunds a deposit or keeps it as income, or asks for approval where the role has to.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn end(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: DepositId,
    (version, seen): (Option<i64>, Option<&str>),
    wish: &NewEnd,
) -> Result<Ended> {
    let loaded = to_end(writing, rules, id, wish).await?;
    let decision = agreed(&loaded, version)?;
    writing.saw(seen, &decision.fingerprint)?;
    let input = &loaded.input;
    let document = input.item.document.clone();
    let what = match wish.kind {
        EndKind::Refunded => "refund",
        EndKind::Kept => "keep as income",
    };
    let (currency, amount) = (input.item.currency, input.amount);
    let asked = approvals::Wish {
        asked: Asked::EndDeposit {
            deposit: id,
            wish: NewEnd { amount: Some(currency.format(amount)), ..wish.clone() },
        },
        document: document.clone(),
        amount: decision.amount_base,
        words: format!(
            "{what} {} {currency} of {} of {}",
            currency.grouped(amount),
            document.number,
            input.customer_name
        ),
        changes: vec![set(what, currency.format(amount))],
        reason: input.reason.clone(),
        mark: till_core::fingerprint::of(&(id, amount, input.item.open)),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(Ended { number: None, waits: Some(approval), version: loaded.version });
    }
    let (number, sequence) = next_number(writing, "deposit_end").await?;
    let row = open_items::next_id(writing, "deposit_ends").await?;
    let source = DocumentRef { kind: DocumentKind::DepositEnd, id: row, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let method = match &input.ending {
        Ending::Refund { method } => Some(method),
        Ending::Card { .. } | Ending::Keep | Ending::Reverse { .. } | Ending::Return { .. } => None,
    };
    let paid = match (method, input.rate) {
        (Some(_), Some(rate)) => amount.to_base(rate, currency, rules.base),
        _ => decision.amount_base,
    };
    let (code, place) = (method.map(|method| &method.code), method.map(|method| &method.place.code));
    let (kind, date) = (wish.kind.word(), input.date.date);
    sqlx::query!(
        "INSERT INTO deposit_ends (id, number, sequence, deposit_id, kind, method, place, posting_date, amount_minor, amount_base_minor,
                                   paid_base_minor, reason, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        row, number, sequence, id.0, kind, code, place, date, amount.0, decision.amount_base.0, paid.0, input.reason, entry.0
    )
    .execute(&mut **writing)
    .await?;
    let order = loaded.order.map(OrderId);
    orders::refresh_states(writing, order.as_slice()).await?;
    let after = loaded.version + 1;
    let fields = vec![set("amount", currency.format(amount)), set("reason", &input.reason)];
    let words = format!("{kind} {} with {number}", document.number);
    writing.note_on(
        (DocumentKind::Deposit, id.0, &document.number),
        &format!("deposit_{kind}"),
        words,
        Some(after),
        fields,
    );
    Ok(Ended { number: Some(number), waits: None, version: after })
}

/// Reverses a deposit that was typed in error. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn reverse(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: DepositId,
    (version, seen): (i64, &str),
    wish: &ToReverse,
) -> Result<i64> {
    let loaded = to_reverse(writing, rules, id, wish).await?;
    let decision = agreed(&loaded, Some(version))?;
    writing.saw(Some(seen), &decision.fingerprint)?;
    let input = &loaded.input;
    let document = &input.item.document;
    let written = posting::write(writing, document, &decision.posting(input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let (date, reason, after) = (input.date.date, &input.reason, version + 1);
    let whereabouts = if loaded.said.turned_from.is_some() { "none" } else { "returned" };
    sqlx::query!(
        "UPDATE payments SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ?, whereabouts = ?, version = ? WHERE id = ?",
        date,
        reason,
        entry.0,
        whereabouts,
        after,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let order = loaded.order.map(OrderId);
    orders::refresh_states(writing, order.as_slice()).await?;
    let fields = vec![set("amount", input.item.currency.format(input.amount)), set("reason", reason)];
    let words = format!("reversed {}", document.number);
    writing.note_on((DocumentKind::Deposit, id.0, &document.number), "deposit_reversed", words, Some(after), fields);
    Ok(after)
}
