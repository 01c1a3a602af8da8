//! What is asked of the processor: decided on, written down with its key, and sent by someone else.

mod keeping;
mod paying;
mod refunding;

use chrono::SecondsFormat;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::card::{Ask, Status, ToPay, check_authorize, check_capture, check_void};
use till_core::checks::{Blocker, stops};
use till_core::ids::{
    ApprovalId, CardAuthorizationId, CardCallId, CardCaptureId, CardId, CustomerId, DocumentKind, DocumentRef, OrderId,
};
use till_core::money::{Currency, Money};

use super::booking::{CapturePreview, decided};
use super::facts::{Loaded, load};
use crate::convert::json;
use crate::invoices::read;
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customer_pages, customers, deposits, orders};

pub use keeping::{AddedCard, add_card};
pub use paying::{NewCardPayment, capture_all, pay};
pub(crate) use paying::{earlier, go_on, invoices_to_pay};
pub(super) use refunding::captured;
pub use refunding::{NewRefund, preview_refund, refund};

/// What authorizing a card for an order starts from.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CardForm {
    /// The customer.
    pub customer: CustomerId,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What the order comes to, with tax.
    pub total: Money,
    /// What was taken for it in advance, or paid of its invoices.
    pub paid: Money,
    /// What is authorized already and not captured.
    pub authorized: Money,
    /// What nothing stands for yet: proposed, and the most there is.
    pub room: Money,
    /// The customer's cards.
    pub cards: Vec<AddedCard>,
    /// What stands in the way of the proposal.
    pub blockers: Vec<Blocker>,
}

/// A card to authorize, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewAuthorization {
    /// For which order.
    pub order: OrderId,
    /// Which card.
    pub card: CardId,
    /// A decimal in the currency of the order; none for all that nothing stands for yet.
    #[serde(default)]
    pub amount: Option<String>,
}

/// What is to be captured, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewCapture {
    /// A decimal; none for what has gone out and is not paid.
    #[serde(default)]
    pub amount: Option<String>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What was written down to be asked.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Asked {
    /// The authorization it is about.
    pub authorization: CardAuthorizationId,
    /// The call; none where it waits for approval first.
    pub call: Option<CardCallId>,
    /// The approval it waits for.
    pub waits: Option<ApprovalId>,
}

/// A call to be sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Outgoing {
    /// Which.
    pub call: CardCallId,
    /// Its key: whenever it is sent again, it is the same.
    pub key: String,
    /// What is asked.
    pub ask: Ask,
}

/// A call that was not answered yet; none where it was.
///
/// # Errors
/// Where the database cannot be read.
pub async fn outgoing(connection: &mut SqliteConnection, call: CardCallId) -> Result<Option<Outgoing>> {
    let row = sqlx::query!("SELECT key, ask FROM card_calls WHERE id = ? AND answer IS NULL", call.0)
        .fetch_optional(connection)
        .await?;
    row.map(|row| Ok(Outgoing { call, key: row.key, ask: read(&row.ask)? })).transpose()
}

/// Calls of an authorization that were not answered yet, the oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn open_calls(
    connection: &mut SqliteConnection,
    authorization: CardAuthorizationId,
) -> Result<Vec<Outgoing>> {
    let calls = sqlx::query!(
        "SELECT id, key, ask FROM card_calls WHERE authorization_id = ? AND answer IS NULL ORDER BY id",
        authorization.0
    )
    .fetch_all(connection)
    .await?;
    calls.into_iter().map(|row| Ok(Outgoing { call: CardCallId(row.id), key: row.key, ask: read(&row.ask)? })).collect()
}

async fn to_pay(
    connection: &mut SqliteConnection,
    rules: &Rules,
    order: OrderId,
) -> Result<(CustomerId, Currency, ToPay)> {
    let customer = sqlx::query_scalar!("SELECT customer_id FROM orders WHERE id = ?", order.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    let customer = CustomerId(customer);
    let (_, own) = customers::facts(connection, customer).await?;
    let target = deposits::target(connection, rules, order, customer).await?;
    let facts = orders::facts(connection, &[order]).await?.pop();
    let facts = facts.ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    let to_pay = ToPay {
        binds: facts.confirmed || customer_pages::is_accepted(connection, order).await?,
        paid: facts.paid_otherwise(target.taken_before),
        authorized: facts.card_left,
        target,
    };
    Ok((customer, own, to_pay))
}

/// What authorizing a card for an order starts from.
///
/// # Errors
/// An order that is not there, is a draft, or is closed.
pub async fn form(connection: &mut SqliteConnection, rules: &Rules, order: OrderId) -> Result<CardForm> {
    let (customer, own, to_pay) = to_pay(connection, rules, order).await?;
    let cards = sqlx::query!(
        "SELECT id, last_four, valid_through FROM cards WHERE customer_id = ? ORDER BY id DESC",
        customer.0
    )
    .fetch_all(connection)
    .await?;
    let room = to_pay.room();
    Ok(CardForm {
        customer,
        currency: to_pay.target.currency,
        total: to_pay.target.total(),
        paid: to_pay.paid + to_pay.target.taken_before,
        authorized: to_pay.authorized,
        room,
        cards: cards
            .into_iter()
            .map(|row| AddedCard { id: CardId(row.id), last_four: row.last_four, valid_through: row.valid_through })
            .collect(),
        blockers: check_authorize(&to_pay, room, own),
    })
}

/// Writes down what is to be asked.
async fn write_call(
    writing: &mut Writing<'_>,
    authorization: CardAuthorizationId,
    (ask, capture, reason): (&Ask, Option<CardCaptureId>, Option<&str>),
) -> Result<CardCallId> {
    let id = next_id(writing, "card_calls").await?;
    let (asked, capture) = (json(ask)?, capture.map(|capture| capture.0));
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    sqlx::query!(
        "INSERT INTO card_calls (id, key, authorization_id, capture_id, ask, reason, asked_at)
         VALUES (?, lower(hex(randomblob(16))), ?, ?, ?, ?, ?)",
        id,
        authorization.0,
        capture,
        asked,
        reason,
        at
    )
    .execute(&mut **writing)
    .await?;
    Ok(CardCallId(id))
}

/// Writes down that a card is to be authorized for an order.
///
/// # Errors
/// More than nothing stands for yet, a card of someone else, an order that is closed.
pub async fn authorize(writing: &mut Writing<'_>, rules: &Rules, new: &NewAuthorization) -> Result<Asked> {
    let (customer, own, to_pay) = to_pay(writing, rules, new.order).await?;
    let currency = to_pay.target.currency;
    let amount = match &new.amount {
        Some(typed) => currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?,
        None => to_pay.room(),
    };
    let blockers = check_authorize(&to_pay, amount, own);
    if stops(&blockers) {
        return Err(StoreError::Refused(blockers));
    }
    let target = DocumentRef { kind: DocumentKind::Order, id: new.order.0, number: to_pay.target.number };
    ask_to_authorize(writing, rules, (customer, new.card, &target), (currency, amount)).await
}

async fn ask_to_authorize(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (customer, card, target): (CustomerId, CardId, &DocumentRef),
    (currency, amount): (Currency, Money),
) -> Result<Asked> {
    let token = sqlx::query_scalar!("SELECT token FROM cards WHERE id = ? AND customer_id = ?", card.0, customer.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid("card", "Choose a card of this customer, or add one."))?;
    let (number, sequence) = next_number(writing, "card_authorization").await?;
    let id = next_id(writing, "card_authorizations").await?;
    let (code, status, day) = (currency.code(), Status::Asked.word(), rules.business_date);
    let pays = target.kind == DocumentKind::Invoice;
    let (order, invoice) = ((!pays).then_some(target.id), pays.then_some(target.id));
    sqlx::query!(
        "INSERT INTO card_authorizations (id, number, sequence, customer_id, order_id, invoice_id, card_id, currency, amount_minor, asked_on, status)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, customer.0, order, invoice, card.0, code, amount.0, day, status
    )
    .execute(&mut **writing)
    .await?;
    let authorization = CardAuthorizationId(id);
    let ask = Ask::Authorize { card: token, amount, currency, number: number.clone() };
    let call = write_call(writing, authorization, (&ask, None, None)).await?;
    let fields = vec![set("amount", currency.format(amount)), set("for", &target.number)];
    let words = format!("asked to authorize a card for {}", target.number);
    writing.note_on((DocumentKind::CardAuthorization, id, &number), "card_asked", words, Some(1), fields);
    Ok(Asked { authorization, call: Some(call), waits: None })
}

fn agreed(loaded: &Loaded, version: i64) -> Result<()> {
    match loaded.version == version {
        true => Ok(()),
        false => Err(StoreError::Stale { what: loaded.card.number.clone(), current: loaded.version }),
    }
}

fn named(loaded: &Loaded) -> Result<String> {
    let nowhere = || StoreError::WrongState(format!("{} was not authorized.", loaded.card.number));
    loaded.reference.clone().ok_or_else(nowhere)
}

async fn to_capture(
    connection: &mut SqliteConnection,
    rules: &Rules,
    loaded: &Loaded,
    new: &NewCapture,
) -> Result<CapturePreview> {
    let currency = loaded.card.currency;
    let amount = match &new.amount {
        Some(typed) => currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?,
        None => loaded.card.to_capture(),
    };
    let mut blockers = check_capture(&loaded.card, amount, rules.business_date);
    let (mut preview, _) = decided(connection, rules, loaded, (amount, rules.business_date)).await?;
    blockers.extend(preview.blockers);
    blockers.dedup();
    preview.blockers = blockers;
    Ok(preview)
}

/// What capturing would do to the books, once the processor has answered.
///
/// # Errors
/// An unknown authorization, an amount that cannot be read.
pub async fn preview_capture(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardAuthorizationId,
    new: &NewCapture,
) -> Result<CapturePreview> {
    let loaded = load(connection, id).await?;
    to_capture(connection, rules, &loaded, new).await
}

/// Writes down that something is to be captured.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn capture(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardAuthorizationId,
    (version, new): (i64, &NewCapture),
) -> Result<Asked> {
    let loaded = load(writing, id).await?;
    agreed(&loaded, version)?;
    let preview = to_capture(writing, rules, &loaded, new).await?;
    if stops(&preview.blockers) {
        return Err(StoreError::Refused(preview.blockers));
    }
    writing.saw(new.seen.as_deref(), &preview.fingerprint)?;
    let ask = Ask::Capture { authorization: named(&loaded)?, amount: preview.amount };
    let call = write_call(writing, id, (&ask, None, None)).await?;
    let fields = vec![set("amount", loaded.card.currency.format(preview.amount))];
    note(writing, &loaded, ("card_capture_asked", "asked to capture from"), fields).await?;
    Ok(Asked { authorization: id, call: Some(call), waits: None })
}

/// Writes down that what was not captured is to be given up.
///
/// # Errors
/// [`StoreError::Stale`], or what the core refuses.
pub async fn void(writing: &mut Writing<'_>, rules: &Rules, id: CardAuthorizationId, version: i64) -> Result<Asked> {
    let loaded = load(writing, id).await?;
    agreed(&loaded, version)?;
    let blockers = check_void(&loaded.card, rules.business_date);
    if stops(&blockers) {
        return Err(StoreError::Refused(blockers));
    }
    let ask = Ask::Void { authorization: named(&loaded)? };
    let call = write_call(writing, id, (&ask, None, None)).await?;
    let fields = vec![set("left", loaded.card.currency.format(loaded.card.left()))];
    note(writing, &loaded, ("card_void_asked", "asked to void"), fields).await?;
    Ok(Asked { authorization: id, call: Some(call), waits: None })
}

/// Notes what was done to an authorization, and counts its version.
pub(super) async fn note(
    writing: &mut Writing<'_>,
    loaded: &Loaded,
    (what, words): (&str, &str),
    fields: Vec<till_core::merge::FieldChange>,
) -> Result<()> {
    sqlx::query!("UPDATE card_authorizations SET version = version + 1 WHERE id = ?", loaded.id.0)
        .execute(&mut **writing)
        .await?;
    let number = &loaded.card.number;
    let at = (DocumentKind::CardAuthorization, loaded.id.0, number.as_str());
    writing.note_on(at, what, format!("{words} {number}"), Some(loaded.version + 1), fields);
    Ok(())
}
