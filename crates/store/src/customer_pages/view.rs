//! What a customer's page shows: what waits for their word, what they owe, what is on its way, their papers.

use std::collections::BTreeMap;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::acceptance::Requirement;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CardId, CustomerId, DocumentKind, DocumentRef, InvoiceId, OrderId, QuoteId, ReturnId};
use till_core::money::{Currency, Money};
use till_core::open_items::{due_in_base, late_parts};

use super::accepted;
use crate::convert::{currency, kind, terms};
use crate::quotes::{self, QuoteState};
use crate::returns::{self, ReturnFilter};
use crate::rules::Rules;
use crate::{Result, cards};

/// How many days what is over stays on the page.
const KEPT_DAYS: u64 = 365;

/// What a customer owes and has, in one currency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageSum {
    /// The currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What is open on invoices, less credit memos.
    pub owed: Money,
    /// What of it is past its day.
    pub late: Money,
    /// Deposits and unapplied money that we hold for the customer.
    pub held: Money,
}

/// A line of a quote or an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageLine {
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// How much was offered or ordered, less what was canceled.
    pub quantity: Quantity,
    /// The unit.
    pub unit: String,
    /// What of it has shipped; zero on a quote.
    pub shipped: Quantity,
    /// Per unit, before discounts; none on an order.
    pub unit_price: Option<UnitPrice>,
    /// Line discount; none on an order.
    pub discount: Option<Rate>,
    /// Line net.
    pub net: Money,
    /// When goods that were ordered in for it are to come.
    pub expected_on: Option<NaiveDate>,
}

/// A quote on the page.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageQuote {
    /// Its id.
    pub id: QuoteId,
    /// Its number.
    pub number: String,
    /// When it was written.
    pub quote_date: NaiveDate,
    /// The last day on which it can be accepted.
    pub valid_until: NaiveDate,
    /// Where it stands.
    pub state: QuoteState,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its lines.
    pub lines: Vec<PageLine>,
    /// Sum of the line nets.
    pub net: Money,
    /// Net and tax.
    pub total: Money,
    /// What it asks for before its order is confirmed.
    pub asked: Requirement,
    /// Our note to the customer.
    pub note: Option<String>,
    /// To be sent back with the acceptance.
    pub version: i64,
}

/// A shipment of an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageShipment {
    /// Its number.
    pub number: String,
    /// When it left.
    pub left_on: NaiveDate,
    /// Who carries it.
    pub carrier: Option<String>,
    /// The carrier's number for it.
    pub tracking_number: Option<String>,
}

/// An order on the page.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageOrder {
    /// Its id.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// The customer's number for it.
    pub customer_order_number: Option<String>,
    /// Its date.
    pub order_date: NaiveDate,
    /// When it was promised.
    pub promised_date: Option<NaiveDate>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whether it is confirmed.
    pub confirmed: bool,
    /// Its lines.
    pub lines: Vec<PageLine>,
    /// What has left of it.
    pub shipments: Vec<PageShipment>,
    /// Who accepted its quote on this page; none where it came another way.
    pub accepted_by: Option<String>,
    /// What was asked for and is missing; an amount of zero where nothing is.
    pub missing: Requirement,
}

/// An invoice on the page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageInvoice {
    /// Its id.
    pub id: InvoiceId,
    /// Its number.
    pub number: String,
    /// Whether it bills in advance.
    pub prepayment: bool,
    /// Its date.
    pub document_date: NaiveDate,
    /// When what is open of it falls due.
    pub due_date: NaiveDate,
    /// Whether some of it is past its day.
    pub late: bool,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total.
    pub total: Money,
    /// What is open of it.
    pub open: Money,
    /// What of that can be paid by card now.
    pub payable: Money,
}

/// A paper of the customer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PagePaper {
    /// What it is of.
    pub document: DocumentRef,
    /// Its date.
    pub date: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it is about.
    pub total: Money,
}

/// A line of a return.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageReturnLine {
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// How much may come back.
    pub authorized: Quantity,
    /// What of it has arrived.
    pub arrived: Quantity,
    /// The unit.
    pub unit: String,
}

/// A return that is not done.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageReturn {
    /// Its id.
    pub id: ReturnId,
    /// Its number.
    pub number: String,
    /// What the customer calls it.
    pub reference: Option<String>,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// Whether goods may still arrive.
    pub live: bool,
    /// Its lines.
    pub lines: Vec<PageReturnLine>,
}

/// A card the customer has left.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageCard {
    /// Its id.
    pub id: CardId,
    /// The last four digits of its number.
    pub last_four: String,
    /// The month it is valid through: `2028-05`.
    pub valid_through: String,
}

/// A customer's page.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageView {
    /// Whose page it is.
    pub customer: String,
    /// The customer's number.
    pub number: String,
    /// Who sells.
    pub company: String,
    /// The business date.
    pub today: NaiveDate,
    /// How many decimals each currency has.
    pub exponents: BTreeMap<String, u8>,
    /// What is owed and held, by currency.
    pub sums: Vec<PageSum>,
    /// Quotes: open ones, and those decided of late.
    pub quotes: Vec<PageQuote>,
    /// Orders that are not done.
    pub orders: Vec<PageOrder>,
    /// Invoices with something open, the first to fall due first.
    pub invoices: Vec<PageInvoice>,
    /// Returns that are not done, the oldest first.
    pub returns: Vec<PageReturn>,
    /// Papers, newest first.
    pub papers: Vec<PagePaper>,
    /// Cards the customer has left.
    pub cards: Vec<PageCard>,
}

/// The page of a customer. Everything on it is asked for by that customer.
///
/// # Errors
/// Where the database cannot be read.
pub async fn view(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<PageView> {
    let head = sqlx::query!("SELECT number, name, currency FROM customers WHERE id = ?", customer.0)
        .fetch_one(&mut *connection)
        .await?;
    let (sums, invoices) = owed(connection, rules, (customer, currency(&head.currency)?)).await?;
    Ok(PageView {
        customer: head.name,
        number: head.number,
        company: rules.company.clone(),
        today: rules.business_date,
        exponents: Currency::all().map(|(code, exponent)| (code.to_owned(), exponent)).collect(),
        sums,
        quotes: quotes(connection, rules, customer).await?,
        orders: orders(connection, rules, customer).await?,
        invoices,
        returns: open_returns(connection, rules, customer).await?,
        papers: papers(connection, rules, customer).await?,
        cards: kept_cards(connection, customer).await?,
    })
}

async fn owed(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, own): (CustomerId, Currency),
) -> Result<(Vec<PageSum>, Vec<PageInvoice>)> {
    let rows = sqlx::query!(
        r#"SELECT kind, document_id, number, side, purpose, currency, terms, amount_minor, open_minor,
                  document_date AS "document_date: NaiveDate", next_due_date AS "next: NaiveDate",
                  EXISTS (SELECT 1 FROM prepaid_register WHERE prepaid_register.document_id = open_items.document_id) AS "prepayment!: bool"
           FROM open_items WHERE customer_id = ? AND open_minor > 0 ORDER BY next_due_date, id"#,
        customer.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let invoiced = rows.iter().filter(|row| row.kind == "invoice").map(|row| InvoiceId(row.document_id));
    let invoiced: Vec<InvoiceId> = invoiced.collect();
    let to_pay = cards::invoices_to_pay(connection, rules, (customer, &invoiced)).await?;
    let mut sums: BTreeMap<String, PageSum> = BTreeMap::new();
    let mut invoices = Vec::new();
    for row in rows {
        let (of, open, total) = (currency(&row.currency)?, Money(row.open_minor), Money(row.amount_minor));
        let none = PageSum { currency: of, owed: Money::ZERO, late: Money::ZERO, held: Money::ZERO };
        let sum = sums.entry(row.currency).or_insert(none);
        match (row.side.as_str(), row.purpose.as_str()) {
            ("owed_to_us", _) => {
                let dates = (row.document_date, row.next, rules.business_date);
                let late = late(row.terms.as_deref(), dates, (total, open))?;
                sum.owed += open;
                sum.late += late;
                let id = InvoiceId(row.document_id);
                // What was there before the books began has no paper, and is not paid by card.
                let Some(to_pay) = to_pay.get(&id).filter(|_| row.kind == "invoice") else { continue };
                invoices.push(PageInvoice {
                    id,
                    number: row.number,
                    prepayment: row.prepayment,
                    document_date: row.document_date,
                    due_date: row.next,
                    late: late.is_positive(),
                    currency: of,
                    total,
                    open,
                    payable: if own == of { to_pay.room() } else { Money::ZERO },
                });
            }
            (_, "receivable") => sum.owed -= open,
            _ => sum.held += open,
        }
    }
    Ok((sums.into_values().collect(), invoices))
}

/// What of an open amount is past its day, by instalment, in its own currency: spread over itself.
fn late(
    kept: Option<&str>,
    (document_date, next, today): (NaiveDate, NaiveDate, NaiveDate),
    (total, open): (Money, Money),
) -> Result<Money> {
    Ok(match kept {
        Some(kept) => late_parts(&due_in_base(&terms(kept)?, document_date, (total, open), open), today),
        None if next < today => open,
        None => Money::ZERO,
    })
}

async fn quotes(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Vec<PageQuote>> {
    let since = rules.business_date.checked_sub_days(Days::new(KEPT_DAYS)).unwrap_or(rules.business_date);
    let ids = sqlx::query_scalar!(
        r#"SELECT id AS "id!" FROM quotes WHERE customer_id = ? AND quote_date >= ? ORDER BY state <> 'open', id DESC LIMIT 20"#,
        customer.0,
        since
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut found = Vec::with_capacity(ids.len());
    for id in ids {
        let view = quotes::view(connection, rules, QuoteId(id)).await?;
        found.push(PageQuote {
            id: view.id,
            number: view.number,
            quote_date: view.quote_date,
            valid_until: view.valid_until,
            state: view.state,
            currency: view.currency,
            lines: view
                .lines
                .into_iter()
                .map(|line| PageLine {
                    code: line.code,
                    description: line.description,
                    quantity: line.quantity,
                    unit: line.unit,
                    shipped: Quantity::ZERO,
                    unit_price: line.price.as_ref().map(|price| price.unit_price),
                    discount: line.price.map(|price| price.discount),
                    net: line.net,
                    expected_on: None,
                })
                .collect(),
            net: view.net,
            total: view.total,
            asked: view.asked,
            note: view.form.note,
            version: view.version,
        });
    }
    Ok(found)
}

async fn orders(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Vec<PageOrder>> {
    let rows = sqlx::query!(
        r#"SELECT orders.id AS "id!", number AS "number!", customer_order_number, order_date AS "order_date!: NaiveDate",
                  promised_date AS "promised_date: NaiveDate", currency AS "currency!", confirmed AS "confirmed!: bool"
           FROM orders LEFT JOIN quote_acceptances ON quote_acceptances.order_id = orders.id
           WHERE customer_id = ? AND state IN ('draft', 'open') AND (confirmed = 1 OR quote_acceptances.quote_id IS NOT NULL)
             AND EXISTS (SELECT 1 FROM order_lines WHERE order_id = orders.id AND ordered_e4 > cancelled_e4)
           ORDER BY orders.id DESC LIMIT 50"#,
        customer.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut found = Vec::with_capacity(rows.len());
    for row in rows {
        let id = OrderId(row.id);
        let accepted = accepted(connection, rules, (Some(id), None)).await?;
        let missing = accepted.as_ref().map_or(Requirement::default(), |accepted| Requirement {
            what: accepted.asked.what,
            amount: accepted.missing,
        });
        found.push(PageOrder {
            id,
            number: row.number,
            customer_order_number: row.customer_order_number,
            order_date: row.order_date,
            promised_date: row.promised_date,
            currency: currency(&row.currency)?,
            confirmed: row.confirmed,
            lines: order_lines(connection, id).await?,
            shipments: shipments(connection, id).await?,
            accepted_by: accepted.map(|accepted| accepted.name),
            missing,
        });
    }
    Ok(found)
}

async fn order_lines(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<PageLine>> {
    Ok(sqlx::query!(
        r#"SELECT items.code, description, order_lines.unit, ordered_e4 - cancelled_e4 AS "quantity!: i64", shipped_e4, net_minor,
                  (SELECT min(expected_on) FROM expected_goods WHERE order_line_id = order_lines.id AND arrived_e4 < quantity_e4) AS "expected_on: NaiveDate"
           FROM order_lines JOIN items ON items.id = item_id WHERE order_id = ? AND ordered_e4 > cancelled_e4 ORDER BY position"#,
        order.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|line| PageLine {
        code: line.code,
        description: line.description,
        quantity: Quantity::from_scaled(line.quantity),
        unit: line.unit,
        shipped: Quantity::from_scaled(line.shipped_e4),
        unit_price: None,
        discount: None,
        net: Money(line.net_minor),
        expected_on: line.expected_on,
    })
    .collect())
}

async fn shipments(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<PageShipment>> {
    Ok(sqlx::query!(
        r#"SELECT number, posting_date AS "left_on!: NaiveDate", carrier, consignment_number
           FROM shipments WHERE order_id = ? AND state = 'posted' ORDER BY id DESC"#,
        order.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| PageShipment {
        number: row.number,
        left_on: row.left_on,
        carrier: row.carrier,
        tracking_number: row.consignment_number,
    })
    .collect())
}

async fn open_returns(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
) -> Result<Vec<PageReturn>> {
    let filter = ReturnFilter { customer: Some(customer), only_open: true, ..ReturnFilter::default() };
    let list = returns::list(connection, rules, &filter, (20, 0)).await?;
    let mut found = Vec::with_capacity(list.returns.len());
    for row in list.returns {
        let view = returns::view(connection, rules, row.id).await?;
        found.push(PageReturn {
            id: view.id,
            number: view.number,
            reference: view.reference,
            expires_on: view.expires_on,
            live: view.live,
            lines: view
                .lines
                .into_iter()
                .map(|line| PageReturnLine {
                    code: line.code,
                    description: line.description,
                    authorized: line.progress.authorized,
                    arrived: line.progress.arrived(),
                    unit: line.unit,
                })
                .collect(),
        });
    }
    Ok(found)
}

async fn papers(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Vec<PagePaper>> {
    let since = rules.business_date.checked_sub_days(Days::new(KEPT_DAYS)).unwrap_or(rules.business_date);
    sqlx::query!(
        r#"SELECT kind AS "kind!: String", id AS "id!: i64", number AS "number!: String", date AS "date!: NaiveDate", currency AS "currency!: String",
                  total AS "total!: i64"
           FROM (SELECT CASE kind WHEN 'credit_memo' THEN kind ELSE 'invoice' END AS kind, id, number, document_date AS date, currency, total_minor AS total
                 FROM documents
                 WHERE customer_id = ?1 AND number IS NOT NULL AND kind IN ('invoice', 'prepayment_invoice', 'credit_memo')
                 UNION ALL SELECT 'deposit', id, number, posting_date, currency, amount_minor FROM payments WHERE customer_id = ?1 AND kind = 'deposit')
           WHERE date >= ?2 ORDER BY date DESC, kind, id DESC LIMIT 200"#,
        customer.0,
        since
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(PagePaper {
            document: DocumentRef { kind: kind(&row.kind)?, id: row.id, number: row.number },
            date: row.date,
            currency: currency(&row.currency)?,
            total: Money(row.total),
        })
    })
    .collect()
}

async fn kept_cards(connection: &mut SqliteConnection, customer: CustomerId) -> Result<Vec<PageCard>> {
    Ok(sqlx::query!(
        "SELECT id, last_four, valid_through FROM cards WHERE customer_id = ? ORDER BY id DESC LIMIT 20",
        customer.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| PageCard { id: CardId(row.id), last_four: row.last_four, valid_through: row.valid_through })
    .collect())
}

/// Whether a paper is shown on the page of a customer: theirs, and posted.
///
/// # Errors
/// Where the database cannot be read.
pub async fn shows(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    (kind, id): (DocumentKind, i64),
) -> Result<bool> {
    let word = kind.word();
    let shown = sqlx::query_scalar!(
        r#"SELECT (?2 IN ('invoice', 'credit_memo')
                   AND EXISTS (SELECT 1 FROM documents WHERE id = ?3 AND customer_id = ?1 AND number IS NOT NULL
                                 AND CASE kind WHEN 'prepayment_invoice' THEN 'invoice' ELSE kind END = ?2))
               OR (?2 = 'deposit' AND EXISTS (SELECT 1 FROM payments WHERE id = ?3 AND customer_id = ?1 AND kind = 'deposit'))
               OR (?2 = 'return' AND EXISTS (SELECT 1 FROM returns WHERE id = ?3 AND customer_id = ?1)) AS "shown!: bool""#,
        customer.0,
        word,
        id
    );
    Ok(shown.fetch_one(connection).await?)
}
