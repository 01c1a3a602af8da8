//! Deposits as shown: the register of what was taken, held, applied, refunded and kept.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::deposit::ending::EndKind;
use till_core::deposit::{AdvanceTax, HeldTax};
use till_core::ids::{ApplicationId, CustomerId, DepositId, DocumentKind, DocumentRef, OpenItemId, OrderId, QuoteId};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::tape::Tape;

use super::facts::regime;
use crate::convert::{currency, known};
use crate::invoices::read;
use crate::ledger::{self, PostedEntry};
use crate::rules::Rules;
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, open_items};

/// A deposit in the register.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositRow {
    /// Its id.
    pub id: DepositId,
    /// Its number.
    pub number: String,
    /// Who paid.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The order it is for; none on account.
    pub order: Option<OrderId>,
    /// Its number.
    pub order_number: Option<String>,
    /// Where that order stands.
    pub order_state: Option<String>,
    /// The quote it is for, until that becomes an order.
    pub quote: Option<QuoteId>,
    /// Its number.
    pub quote_number: Option<String>,
    /// Where that quote stands.
    pub quote_state: Option<String>,
    /// When it came.
    pub date: NaiveDate,
    /// Days since.
    pub days: i64,
    /// How: as people say it.
    pub method: String,
    /// Check number, words of the transfer.
    pub reference: Option<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What was taken.
    pub taken: Money,
    /// What of it is held.
    pub held: Money,
    /// The same, in base currency.
    pub held_base: Money,
    /// What of it is applied to invoices.
    pub applied: Money,
    /// What of it was sent back.
    pub refunded: Money,
    /// What of it was kept as income.
    pub kept: Money,
    /// When its tax was due.
    pub regime: AdvanceTax,
    /// The day it was reversed as typed in error, where it was.
    pub reversed_on: Option<NaiveDate>,
}

/// What deposits to list.
#[derive(Debug, Clone, Default)]
pub struct DepositFilter<'a> {
    /// Words of the number, the customer, the order or the reference.
    pub search: Option<&'a str>,
    /// Only those of which something is held.
    pub only_held: bool,
    /// Of one order.
    pub order: Option<OrderId>,
    /// Of one customer.
    pub customer: Option<CustomerId>,
}

/// A stretch of the register.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositList {
    /// The deposits, newest first.
    pub deposits: Vec<DepositRow>,
    /// How many fit the filter.
    pub count: i64,
    /// What is held of all that fit, in base currency.
    pub held_base: Money,
}

struct Found {
    id: i64,
    number: String,
    customer_id: i64,
    name: String,
    order_id: Option<i64>,
    order_number: Option<String>,
    order_state: Option<String>,
    quote_id: Option<i64>,
    quote_number: Option<String>,
    quote_state: Option<String>,
    date: NaiveDate,
    method: String,
    reference: Option<String>,
    currency: String,
    amount: i64,
    open: i64,
    open_base: i64,
    refunded: i64,
    kept: i64,
    regime: String,
    reversed_on: Option<NaiveDate>,
}

impl Found {
    fn row(self, today: NaiveDate) -> Result<DepositRow> {
        let reversed = if self.reversed_on.is_some() { self.amount } else { 0 };
        Ok(DepositRow {
            id: DepositId(self.id),
            number: self.number,
            customer: CustomerId(self.customer_id),
            customer_name: self.name,
            order: self.order_id.map(OrderId),
            order_number: self.order_number,
            order_state: self.order_state,
            quote: self.quote_id.map(QuoteId),
            quote_number: self.quote_number,
            quote_state: self.quote_state,
            date: self.date,
            days: (today - self.date).num_days(),
            method: self.method,
            reference: self.reference,
            currency: currency(&self.currency)?,
            taken: Money(self.amount),
            held: Money(self.open),
            held_base: Money(self.open_base),
            applied: Money(self.amount - self.open - self.refunded - self.kept - reversed),
            refunded: Money(self.refunded),
            kept: Money(self.kept),
            regime: regime(&self.regime)?,
            reversed_on: self.reversed_on,
        })
    }
}

/// Deposits, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &DepositFilter<'_>,
    (limit, offset): (i64, i64),
) -> Result<DepositList> {
    let like = filter.search.map(crate::find::pattern);
    let (order, customer) = (filter.order.map(|id| id.0), filter.customer.map(|id| id.0));
    let rows = sqlx::query_as!(
        Found,
        r#"SELECT payments.id AS "id!", payments.number AS "number!", payments.customer_id AS "customer_id!", customers.name AS "name!", deposits.order_id, orders.number AS "order_number?",
                  orders.state AS "order_state?", deposits.quote_id, quotes.number AS "quote_number?", quotes.state AS "quote_state?", payments.posting_date AS "date!: NaiveDate", payment_methods.name AS "method!", reference,
                  payments.currency AS "currency!", payments.amount_minor AS "amount!", open_minor AS "open!", open_base_minor AS "open_base!",
                  coalesce((SELECT sum(amount_minor) FROM deposit_ends WHERE deposit_id = deposits.id AND deposit_ends.kind = 'refunded' AND deposit_ends.reversed_on IS NULL), 0)
                  + coalesce((SELECT sum(card_returns.amount_minor) FROM card_captures JOIN card_returns ON capture_id = card_captures.id
                              WHERE payment_id = deposits.id AND card_returns.entry_id IS NOT NULL), 0) AS "refunded!: i64",
                  coalesce((SELECT sum(amount_minor) FROM deposit_ends WHERE deposit_id = deposits.id AND deposit_ends.kind = 'kept' AND deposit_ends.reversed_on IS NULL), 0) AS "kept!: i64",
                  regime AS "regime!", reversed_on AS "reversed_on: NaiveDate"
           FROM deposits JOIN payments ON payments.id = deposits.id JOIN customers ON customers.id = payments.customer_id
           JOIN payment_methods ON payment_methods.code = method LEFT JOIN orders ON orders.id = deposits.order_id
           LEFT JOIN quotes ON quotes.id = deposits.quote_id
           JOIN open_items ON open_items.kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us'
           WHERE (?1 IS NULL OR payments.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\'
                  OR orders.number LIKE ?1 ESCAPE '\' OR quotes.number LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR open_minor > 0) AND (?3 IS NULL OR deposits.order_id = ?3) AND (?4 IS NULL OR payments.customer_id = ?4)
           ORDER BY payments.sequence DESC LIMIT ?5 OFFSET ?6"#,
        like, filter.only_held, order, customer, limit, offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(*) AS "count!: i64", coalesce(sum(open_base_minor), 0) AS "held!: i64"
           FROM deposits JOIN payments ON payments.id = deposits.id JOIN customers ON customers.id = payments.customer_id
           LEFT JOIN orders ON orders.id = deposits.order_id
           LEFT JOIN quotes ON quotes.id = deposits.quote_id
           JOIN open_items ON open_items.kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us'
           WHERE (?1 IS NULL OR payments.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\'
                  OR orders.number LIKE ?1 ESCAPE '\' OR quotes.number LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR open_minor > 0) AND (?3 IS NULL OR deposits.order_id = ?3) AND (?4 IS NULL OR payments.customer_id = ?4)"#,
        like, filter.only_held, order, customer
    )
    .fetch_one(connection)
    .await?;
    let deposits = rows.into_iter().map(|row| row.row(rules.business_date)).collect::<Result<Vec<_>>>()?;
    Ok(DepositList { deposits, count: all.count, held_base: Money(all.held) })
}

/// What of a deposit is applied to an invoice, and stands.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositApplication {
    /// Its id.
    pub id: ApplicationId,
    /// What it went to.
    pub document: DocumentRef,
    /// When.
    pub date: NaiveDate,
    /// How much, in the currency of the deposit.
    pub amount: Money,
    /// Tax that went with it, by code.
    pub taxes: Vec<HeldTax>,
}

/// A refund, or a part kept as income.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositEndView {
    /// Its id; none where it went back to a card.
    pub id: Option<i64>,
    /// Its number.
    pub number: String,
    /// Which.
    pub kind: EndKind,
    /// When.
    pub date: NaiveDate,
    /// How it was paid, where it was.
    pub method: Option<String>,
    /// How much, in the currency of the deposit.
    pub amount: Money,
    /// Why.
    pub reason: String,
    /// The day it was taken back, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// Why.
    pub reversal_reason: Option<String>,
}

/// What was held as it was moved.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositMoveView {
    /// When.
    pub date: NaiveDate,
    /// From which order or quote; none from on account.
    pub from: Option<String>,
    /// To which order; none on account.
    pub to: Option<String>,
    /// What was held then.
    pub amount: Money,
    /// Why.
    pub reason: String,
}

/// A deposit on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositView {
    /// What stands in the register.
    #[serde(flatten)]
    pub row: DepositRow,
    /// A note for ourselves.
    pub memo: Option<String>,
    /// The receipt it was made of; none where its money came in with it.
    pub made_of: Option<DocumentRef>,
    /// Where the money is: in hand, at the bank, cleared, returned.
    pub whereabouts: String,
    /// Why it was reversed, where it was.
    pub reversal_reason: Option<String>,
    /// Tax that stands on what is held, by code.
    pub taxes: Vec<HeldTax>,
    /// Tax that stood on it as it was taken, by code.
    pub taken_taxes: Vec<HeldTax>,
    /// What is applied to invoices.
    pub applications: Vec<DepositApplication>,
    /// Refunds, and what was kept as income.
    pub ends: Vec<DepositEndView>,
    /// Where it was before.
    pub moves: Vec<DepositMoveView>,
    /// Its arithmetic, as it was taken.
    pub tape: Tape,
    /// The entries it wrote, and those of its end.
    pub entries: Vec<PostedEntry>,
    /// Related documents.
    pub trail: Trail,
    /// Changes with everything that happens to it.
    pub version: i64,
}

/// One deposit.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, rules: &Rules, id: DepositId) -> Result<DepositView> {
    let head = sqlx::query!(
        "SELECT number, memo, whereabouts, reversal_reason, tape, version, turned_from FROM deposits JOIN payments ON payments.id = deposits.id
         WHERE deposits.id = ?",
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Deposit, id))?;
    let filter = DepositFilter { search: Some(&head.number), ..DepositFilter::default() };
    let rows = list(connection, rules, &filter, (i64::MAX, 0)).await?.deposits;
    let row = rows.into_iter().find(|row| row.id == id);
    let row = row.ok_or_else(|| StoreError::not_found(DocumentKind::Deposit, id))?;
    let item = open_items::item_of(connection, DocumentKind::Deposit, id.0, Side::OwedByUs).await?;
    let applications = open_items::standing_on_credit(connection, item.id)
        .await?
        .into_iter()
        .filter(|standing| {
            !matches!(
                standing.debit.document.kind,
                DocumentKind::Deposit | DocumentKind::DepositEnd | DocumentKind::CardReturn
            )
        })
        .map(|standing| DepositApplication {
            id: standing.id,
            document: standing.debit.document,
            date: standing.date,
            amount: standing.used.0,
            taxes: standing.taxes,
        })
        .collect();
    let made_of = open_items::load(connection, head.turned_from.map(OpenItemId).as_slice()).await?.pop();
    let mut entries = ledger::entries_of(connection, DocumentKind::Deposit, id.0).await?;
    for end in ends_of(connection, id).await? {
        entries.extend(ledger::entries_of(connection, DocumentKind::DepositEnd, end).await?);
    }
    entries.extend(crate::cards::entries_of(connection, id.0).await?);
    Ok(DepositView {
        row,
        memo: head.memo,
        made_of: made_of.map(|item| item.document),
        whereabouts: head.whereabouts,
        reversal_reason: head.reversal_reason,
        taken_taxes: open_items::taken_with(connection, item.id).await?,
        taxes: item.taxes,
        applications,
        ends: ends(connection, id).await?,
        moves: moves(connection, id).await?,
        tape: read(&head.tape)?,
        entries,
        trail: trail(connection, DocumentKind::Deposit, id.0).await?,
        version: head.version,
    })
}

async fn ends_of(connection: &mut SqliteConnection, id: DepositId) -> Result<Vec<i64>> {
    Ok(sqlx::query_scalar!("SELECT id FROM deposit_ends WHERE deposit_id = ? ORDER BY id", id.0)
        .fetch_all(connection)
        .await?)
}

async fn ends(connection: &mut SqliteConnection, id: DepositId) -> Result<Vec<DepositEndView>> {
    sqlx::query!(
        r#"SELECT id AS "id?", number AS "number!", kind AS "kind!", posting_date AS "date!: NaiveDate", payment_methods.name AS "method?",
                  amount_minor AS "amount_minor!", reason AS "reason!", reversed_on AS "reversed_on?: NaiveDate", reversal_reason AS "reversal_reason?"
           FROM deposit_ends LEFT JOIN payment_methods ON code = method WHERE deposit_id = ?1
           UNION ALL
           SELECT NULL, card_returns.number, 'refunded', posting_date, CASE card_returns.kind WHEN 'refunded' THEN 'card' ELSE 'charged back' END,
                  card_returns.amount_minor, reason, NULL, NULL
           FROM card_captures JOIN card_returns ON capture_id = card_captures.id WHERE payment_id = ?1 AND entry_id IS NOT NULL
           ORDER BY 4"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(DepositEndView {
            id: row.id,
            number: row.number,
            kind: known(&row.kind, EndKind::of)?,
            date: row.date,
            method: row.method,
            amount: Money(row.amount_minor),
            reason: row.reason,
            reversed_on: row.reversed_on,
            reversal_reason: row.reversal_reason,
        })
    })
    .collect()
}

async fn moves(connection: &mut SqliteConnection, id: DepositId) -> Result<Vec<DepositMoveView>> {
    Ok(sqlx::query!(
        r#"SELECT moved_on AS "date: NaiveDate", coalesce(before.number, quotes.number) AS "was: String", after.number AS "is?", deposit_moves.amount_minor, deposit_moves.reason
           FROM deposit_moves LEFT JOIN orders AS before ON before.id = from_order_id LEFT JOIN orders AS after ON after.id = to_order_id
           LEFT JOIN quotes ON quotes.id = from_quote_id
           WHERE deposit_id = ? ORDER BY deposit_moves.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| DepositMoveView {
        date: row.date,
        from: row.was,
        to: row.is,
        amount: Money(row.amount_minor),
        reason: row.reason,
    })
    .collect())
}
