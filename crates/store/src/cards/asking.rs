//! What is asked of the processor: decided on, written down with its key, and sent by someone else.

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::card::{Ask, Status, ToPay, check_authorize, check_capture, check_refund, check_void};
use till_core::checks::{Blocker, stops};
use till_core::fingerprint;
use till_core::ids::{
    ApprovalId, CardAuthorizationId, CardCallId, CardCaptureId, CardId, CustomerId, DocumentKind, OrderId,
};
use till_core::money::{Currency, Money};
use till_core::people::check_reason;

use super::booking::{CapturePreview, decided, ending, previewed_end};
use super::facts::{Loaded, load};
use crate::approvals::{self, Asked as AskedFor, Go, Wish};
use crate::convert::json;
use crate::deposits::{self, EndPreview};
use crate::invoices::read;
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, orders};

/// A card of a customer that was typed on the processor's page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AddedCard {
    /// Its id here.
    pub id: CardId,
    /// The last four digits of its number.
    pub last_four: String,
    /// The month it is valid through: `2028-05`.
    pub valid_through: String,
}

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

/// What is to go back to a card, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewRefund {
    /// A decimal; none for all that is held or unapplied of it.
    #[serde(default)]
    pub amount: Option<String>,
    /// Why.
    #[serde(default)]
    pub reason: String,
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

/// Keeps a card that a customer typed on the processor's page. No number comes near: only what stands for it.
///
/// # Errors
/// A card that is kept already for someone else.
pub async fn add_card(
    writing: &mut Writing<'_>,
    rules: &Rules,
    customer: CustomerId,
    (token, last_four, valid_through): (&str, &str, &str),
) -> Result<AddedCard> {
    let (facts, _) = customers::facts(writing, customer).await?;
    let known =
        sqlx::query!("SELECT id, customer_id FROM cards WHERE token = ?", token).fetch_optional(&mut **writing).await?;
    let id = match known {
        Some(known) if known.customer_id == customer.0 => known.id,
        Some(_) => return Err(StoreError::invalid("session", "This card is another customer's. Add it anew.")),
        None => {
            let id = next_id(writing, "cards").await?;
            sqlx::query!(
                "INSERT INTO cards (id, customer_id, token, last_four, valid_through, added_on) VALUES (?, ?, ?, ?, ?, ?)",
                id,
                customer.0,
                token,
                last_four,
                valid_through,
                rules.business_date
            )
            .execute(&mut **writing)
            .await?;
            id
        }
    };
    let number =
        sqlx::query_scalar!("SELECT number FROM customers WHERE id = ?", customer.0).fetch_one(&mut **writing).await?;
    let words = format!("kept a card of {}", facts.name);
    let fields = vec![set("ends in", last_four)];
    writing.note_on((DocumentKind::Customer, customer.0, &number), "card_kept", words, None, fields);
    Ok(AddedCard { id: CardId(id), last_four: last_four.to_owned(), valid_through: valid_through.to_owned() })
}

async fn to_pay(
    connection: &mut SqliteConnection,
    rules: &Rules,
    order: OrderId,
) -> Result<(CustomerId, Currency, ToPay)> {
    let row = sqlx::query!("SELECT customer_id, state, number FROM orders WHERE id = ?", order.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    if row.state == "draft" {
        let sentence = format!("{} is a draft. Confirm it first.", row.number);
        return Err(StoreError::invalid("order", sentence));
    }
    let customer = CustomerId(row.customer_id);
    let (_, own) = customers::facts(connection, customer).await?;
    let target = deposits::target(connection, rules, order, customer).await?;
    let facts = orders::facts(connection, &[order]).await?.pop();
    let facts = facts.ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    let to_pay = ToPay { paid: facts.paid_otherwise(target.taken_before), authorized: facts.card_left, target };
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
    let token = sqlx::query_scalar!("SELECT token FROM cards WHERE id = ? AND customer_id = ?", new.card.0, customer.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid("card", "Choose a card of this customer, or add one."))?;
    let (number, sequence) = next_number(writing, "card_authorization").await?;
    let id = next_id(writing, "card_authorizations").await?;
    let (code, status, day) = (currency.code(), Status::Asked.word(), rules.business_date);
    sqlx::query!(
        "INSERT INTO card_authorizations (id, number, sequence, customer_id, order_id, card_id, currency, amount_minor, asked_on, status)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, customer.0, new.order.0, new.card.0, code, amount.0, day, status
    )
    .execute(&mut **writing)
    .await?;
    let authorization = CardAuthorizationId(id);
    let ask = Ask::Authorize { card: token, amount, currency, number: number.clone() };
    let call = write_call(writing, authorization, (&ask, None, None)).await?;
    let fields = vec![set("amount", currency.format(amount)), set("for", &to_pay.target.number)];
    let words = format!("asked to authorize a card for {}", to_pay.target.number);
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

/// A capture that is in the books.
pub(super) struct Captured {
    pub(super) id: CardCaptureId,
    pub(super) authorization: CardAuthorizationId,
    pub(super) reference: String,
    pub(super) payment: Option<i64>,
    /// What of it did not go back.
    pub(super) left: Money,
}

pub(super) async fn captured(connection: &mut SqliteConnection, id: CardCaptureId) -> Result<Captured> {
    let row = sqlx::query!(
        r#"SELECT authorization_id, reference, payment_id,
                  amount_minor - coalesce((SELECT sum(card_returns.amount_minor) FROM card_returns WHERE capture_id = card_captures.id), 0) AS "left!: i64"
           FROM card_captures WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CardAuthorization, format!("capture {id}")))?;
    Ok(Captured {
        id,
        authorization: CardAuthorizationId(row.authorization_id),
        reference: row.reference,
        payment: row.payment_id,
        left: Money(row.left),
    })
}

struct ToRefund {
    capture: Captured,
    loaded: Loaded,
    preview: EndPreview,
    amount_base: Money,
    payment_number: String,
    open: Money,
}

async fn to_refund(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardCaptureId,
    new: &NewRefund,
) -> Result<ToRefund> {
    let capture = captured(connection, id).await?;
    let loaded = load(connection, capture.authorization).await?;
    let Some(payment) = capture.payment else {
        let sentence = format!("A capture of {} is not in the books yet. Book it first.", loaded.card.number);
        return Err(StoreError::WrongState(sentence));
    };
    let date = DocumentDate::or_business_date(None, rules.business_date);
    let mut input = ending(connection, rules, (payment, None), (date, &new.reason)).await?;
    input.amount = match &new.amount {
        Some(typed) => loaded.card.currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?,
        None => input.item.open.min(capture.left),
    };
    let (mut preview, amount_base) = previewed_end(&input);
    let number = input.item.document.number.clone();
    preview.blockers.extend(check_refund((&number, capture.left), input.amount, loaded.card.currency));
    Ok(ToRefund { capture, loaded, preview, amount_base, payment_number: number, open: input.item.open })
}

/// What sending money back to its card would do to the books, once the processor has answered.
///
/// # Errors
/// An unknown capture, an amount that cannot be read.
pub async fn preview_refund(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardCaptureId,
    new: &NewRefund,
) -> Result<EndPreview> {
    Ok(to_refund(connection, rules, id, new).await?.preview)
}

/// Writes down that money is to go back to its card, or asks for approval where the role has to.
///
/// # Errors
/// [`StoreError::Moved`], or what the core refuses.
pub async fn refund(writing: &mut Writing<'_>, rules: &Rules, id: CardCaptureId, new: &NewRefund) -> Result<Asked> {
    let reason = check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let ToRefund { capture, loaded, preview, amount_base, payment_number, open } =
        to_refund(writing, rules, id, new).await?;
    if loaded.card.waits {
        let sentence = format!("The processor did not answer yet what was asked of {}.", loaded.card.number);
        return Err(StoreError::WrongState(format!("{sentence} Ask it again first.")));
    }
    if stops(&preview.blockers) {
        return Err(StoreError::Refused(preview.blockers));
    }
    writing.saw(new.seen.as_deref(), &preview.fingerprint)?;
    let (currency, amount) = (loaded.card.currency, preview.amount);
    let typed = currency.format(amount);
    let wish = Wish {
        asked: AskedFor::RefundCard {
            capture: id,
            wish: NewRefund { amount: Some(typed.clone()), reason: reason.clone(), seen: None },
        },
        document: loaded.document(),
        amount: amount_base,
        words: format!(
            "send {} {currency} of {payment_number} of {} back to the card",
            currency.grouped(amount),
            loaded.customer_name
        ),
        changes: vec![set("refund", &typed)],
        reason: reason.clone(),
        mark: fingerprint::of(&(id, amount, open)),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, wish).await? {
        return Ok(Asked { authorization: capture.authorization, call: None, waits: Some(approval) });
    }
    let ask = Ask::Refund { capture: capture.reference, amount };
    let call = write_call(writing, capture.authorization, (&ask, Some(capture.id), Some(&reason))).await?;
    let fields = vec![set("amount", typed), set("reason", reason)];
    note(writing, &loaded, ("card_refund_asked", "asked to send money back to the card of"), fields).await?;
    Ok(Asked { authorization: capture.authorization, call: Some(call), waits: None })
}

/// The day something is said to have happened at the processor, for the books: no later than today.
pub(super) fn in_books(on: NaiveDate, rules: &Rules) -> NaiveDate {
    on.min(rules.business_date)
}
