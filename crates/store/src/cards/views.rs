//! Card authorizations as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::card::{Answer, Ask, CardNext, CardState};
use till_core::ids::{
    CardAuthorizationId, CardCaptureId, CardReturnId, CustomerId, DocumentKind, DocumentRef, OrderId,
};
use till_core::money::{Currency, Money};

use super::facts::{Loaded, load, load_all};
use crate::Result;
use crate::convert::{json, kind};
use crate::invoices::read;
use crate::ledger;
use crate::ledger::PostedEntry;
use crate::rules::Rules;

/// Which authorizations to list.
#[derive(Debug, Clone, Default)]
pub struct CardFilter<'a> {
    /// Words to look for.
    pub search: Option<&'a str>,
    /// Only those with something to do or that can still be captured.
    pub only_open: bool,
    /// Only for this order.
    pub order: Option<OrderId>,
    /// Only of this customer.
    pub customer: Option<CustomerId>,
}

/// An authorization in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CardRow {
    /// Its id.
    pub id: CardAuthorizationId,
    /// Its number.
    pub number: String,
    /// The customer.
    pub customer: CustomerId,
    /// Its name.
    pub customer_name: String,
    /// The order it is for, or the invoice it pays.
    pub target: DocumentRef,
    /// The last four digits of the card.
    pub last_four: String,
    /// When it was asked for.
    pub asked_on: NaiveDate,
    /// The last day on which it can be captured; none before it was answered.
    pub valid_until: Option<NaiveDate>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How much was authorized.
    pub amount: Money,
    /// How much of it was captured.
    pub captured: Money,
    /// What can still be captured.
    pub left: Money,
    /// What of its order has gone out and is not paid, as far as it is left: to be captured.
    pub to_capture: Money,
    /// How it stands.
    pub state: CardState,
    /// The next step.
    pub next: CardNext,
}

/// Authorizations, newest first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CardList {
    /// One by one.
    pub cards: Vec<CardRow>,
    /// How many there are.
    pub count: i64,
}

/// What went back to a card.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CardReturnView {
    /// Its id.
    pub id: CardReturnId,
    /// Whether the card's bank took it back.
    pub charged_back: bool,
    /// Its number, once it is in the books.
    pub number: Option<String>,
    /// How much.
    pub amount: Money,
    /// What the processor asked for it, beside.
    pub fee: Money,
    /// When it happened.
    pub happened_on: NaiveDate,
    /// Why.
    pub reason: String,
    /// The payout it went with.
    pub payout: Option<DocumentRef>,
}

/// A capture.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CaptureView {
    /// Its id.
    pub id: CardCaptureId,
    /// As the processor names it.
    pub reference: String,
    /// How much.
    pub amount: Money,
    /// What of it did not go back.
    pub left: Money,
    /// When.
    pub captured_on: NaiveDate,
    /// The receipt or deposit it became; none before it is in the books.
    pub document: Option<DocumentRef>,
    /// The payout it went with.
    pub payout: Option<DocumentRef>,
    /// What went back of it.
    pub returns: Vec<CardReturnView>,
}

/// An authorization as shown.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CardView {
    /// As in the list.
    #[serde(flatten)]
    pub row: CardRow,
    /// Why it was declined or refused, or what was refused last, in the processor's words.
    pub words: Option<String>,
    /// What was asked and not answered yet: authorize, capture, void, refund.
    pub waits_for: Option<String>,
    /// What was captured.
    pub captures: Vec<CaptureView>,
    /// The entries of its captures and of what went back.
    pub entries: Vec<PostedEntry>,
    /// Changes with everything that happens to it.
    pub version: i64,
}

fn row(loaded: Loaded, rules: &Rules) -> CardRow {
    let (card, today) = (&loaded.card, rules.business_date);
    CardRow {
        id: loaded.id,
        number: card.number.clone(),
        customer: loaded.customer,
        customer_name: loaded.customer_name,
        target: loaded.target.document(),
        last_four: loaded.last_four,
        asked_on: loaded.asked_on,
        valid_until: card.valid_until,
        currency: card.currency,
        amount: card.amount,
        captured: card.captured,
        left: card.left_on(today),
        to_capture: card.to_capture_on(today),
        state: card.state(today),
        next: card.next(today),
    }
}

/// Authorizations, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &CardFilter<'_>,
    (limit, offset): (i64, i64),
) -> Result<CardList> {
    let like = filter.search.map(crate::find::pattern);
    let (order, customer) = (filter.order.map(|id| id.0), filter.customer.map(|id| id.0));
    let rows = sqlx::query!(
        r#"SELECT card_authorizations.id AS "id!", count(*) OVER () AS "count!: i64"
           FROM card_authorizations JOIN customers ON customers.id = card_authorizations.customer_id
                LEFT JOIN orders ON orders.id = order_id LEFT JOIN documents ON documents.id = invoice_id
           WHERE (?1 IS NULL OR card_authorizations.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\'
                  OR documents.number LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR status IN ('asked', 'live')
                  OR EXISTS (SELECT 1 FROM card_calls WHERE authorization_id = card_authorizations.id AND answer IS NULL)
                  OR EXISTS (SELECT 1 FROM card_captures LEFT JOIN card_returns ON capture_id = card_captures.id AND entry_id IS NULL
                             WHERE authorization_id = card_authorizations.id AND (payment_id IS NULL OR card_returns.id IS NOT NULL)))
             AND (?3 IS NULL OR order_id = ?3) AND (?4 IS NULL OR card_authorizations.customer_id = ?4)
           ORDER BY card_authorizations.id DESC LIMIT ?5 OFFSET ?6"#,
        like, filter.only_open, order, customer, limit, offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = rows.first().map_or(0, |row| row.count);
    let ids: Vec<CardAuthorizationId> = rows.into_iter().map(|row| CardAuthorizationId(row.id)).collect();
    let cards = load_all(connection, &ids).await?.into_iter().map(|loaded| row(loaded, rules)).collect();
    Ok(CardList { cards, count })
}

/// One authorization.
///
/// # Errors
/// [`crate::StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, rules: &Rules, id: CardAuthorizationId) -> Result<CardView> {
    let loaded = load(connection, id).await?;
    let captures = captures(connection, id).await?;
    let mut entries = Vec::new();
    for capture in &captures {
        if let Some(document) = &capture.document {
            entries.extend(ledger::entries_of(connection, document.kind, document.id).await?);
        }
        for back in capture.returns.iter().filter(|back| back.number.is_some()) {
            entries.extend(ledger::entries_of(connection, DocumentKind::CardReturn, back.id.0).await?);
        }
    }
    let (waits_for, refused) = last_call(connection, id).await?;
    Ok(CardView {
        words: loaded.words.clone().or(refused),
        waits_for,
        captures,
        entries,
        version: loaded.version,
        row: row(loaded, rules),
    })
}

/// What was asked last: the word of it where it was not answered, why where it was refused.
async fn last_call(
    connection: &mut SqliteConnection,
    id: CardAuthorizationId,
) -> Result<(Option<String>, Option<String>)> {
    let row =
        sqlx::query!("SELECT ask, answer FROM card_calls WHERE authorization_id = ? ORDER BY id DESC LIMIT 1", id.0)
            .fetch_optional(connection)
            .await?;
    let Some(row) = row else { return Ok((None, None)) };
    Ok(match row.answer {
        None => (Some(read::<Ask>(&row.ask)?.word().to_owned()), None),
        Some(answer) => match read(&answer)? {
            Answer::Refused { words } => (None, Some(words)),
            _ => (None, None),
        },
    })
}

fn payout_of(id: Option<i64>, number: Option<String>) -> Option<DocumentRef> {
    Some(DocumentRef { kind: DocumentKind::CardPayout, id: id?, number: number? })
}

async fn captures(connection: &mut SqliteConnection, id: CardAuthorizationId) -> Result<Vec<CaptureView>> {
    let rows = sqlx::query!(
        r#"SELECT card_captures.id, card_captures.reference, card_captures.amount_minor, captured_on AS "day: NaiveDate", payments.id AS "payment?: i64",
                  payments.kind AS "kind?: String", payments.number AS "number?: String", payout_id,
                  (SELECT number FROM card_payouts WHERE card_payouts.id = payout_id) AS "payout: String"
           FROM card_captures LEFT JOIN payments ON payments.id = payment_id WHERE authorization_id = ? ORDER BY card_captures.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let mut returns = returns(connection, &ids).await?;
    rows.into_iter()
        .map(|row| {
            let (mine, others): (Vec<_>, Vec<_>) = returns.drain(..).partition(|(capture, _)| *capture == row.id);
            returns = others;
            let mine: Vec<CardReturnView> = mine.into_iter().map(|(_, back)| back).collect();
            let amount = Money(row.amount_minor);
            let document = match (row.kind, row.payment, row.number) {
                (Some(word), Some(id), Some(number)) => Some(DocumentRef { kind: kind(&word)?, id, number }),
                _ => None,
            };
            Ok(CaptureView {
                id: CardCaptureId(row.id),
                reference: row.reference,
                amount,
                left: amount - mine.iter().map(|back| back.amount).sum::<Money>(),
                captured_on: row.day,
                document,
                payout: payout_of(row.payout_id, row.payout),
                returns: mine,
            })
        })
        .collect()
}

async fn returns(connection: &mut SqliteConnection, captures: &[i64]) -> Result<Vec<(i64, CardReturnView)>> {
    let captures = json(&captures)?;
    let rows = sqlx::query!(
        r#"SELECT capture_id AS "capture!", card_returns.id AS "id!", kind AS "kind!", number, amount_minor AS "amount!", fee_minor AS "fee!",
                  happened_on AS "day!: NaiveDate", reason AS "reason!", payout_id,
                  (SELECT number FROM card_payouts WHERE card_payouts.id = payout_id) AS "payout: String"
           FROM json_each(?) AS wanted CROSS JOIN card_returns ON capture_id = wanted.value ORDER BY card_returns.id"#,
        captures
    )
    .fetch_all(connection)
    .await?;
    let view = |id, charged_back, number, (amount, fee), (happened_on, reason), payout| CardReturnView {
        id: CardReturnId(id),
        charged_back,
        number,
        amount: Money(amount),
        fee: Money(fee),
        happened_on,
        reason,
        payout,
    };
    Ok(rows
        .into_iter()
        .map(|row| {
            let payout = payout_of(row.payout_id, row.payout);
            let (sums, told) = ((row.amount, row.fee), (row.day, row.reason));
            (row.capture, view(row.id, row.kind == "charged_back", row.number, sums, told, payout))
        })
        .collect())
}
