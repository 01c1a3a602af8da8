//! Commercial documents: invoices and credit memos, with their lines, taxes and links.
//!
//! What takes something back is kept with a minus: quantities of its lines, amounts, tax. Read by
//! [`posted`] it says what it takes back, without it, as the document it takes it back from does.

mod writing;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::calendar::{DocumentDate, Terms};
use till_core::deposit::using::DepositUsed;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, EntryId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{
    DocumentDiscount, InvoiceDocument, InvoiceLine, ItemKind, LineSource, LinkRole, OrderShare, early_offer,
};
use till_core::money::Money;
use till_core::prepayment::Asks;
use till_core::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate};

use crate::convert::{currency, known, terms};
use crate::invoices::read;
use crate::open_items::made_by;
use crate::prepayments;
use crate::{Result, StoreError};

pub(crate) use writing::{
    MemoToWrite, NewMemo, new_memo, post_memo, write_memo, write_supplied, write_taxes, write_typed,
};

/// Ties a document to the one it cancels, credits or replaces.
pub(crate) async fn link(connection: &mut SqliteConnection, from: i64, role: LinkRole, to: i64) -> Result<()> {
    let role = role.word();
    sqlx::query!("INSERT INTO document_links (from_id, to_id, role) VALUES (?, ?, ?)", from, to, role)
        .execute(connection)
        .await?;
    Ok(())
}

/// A posted document put together again from its rows; nothing is computed. Of a credit memo: what it
/// takes back, without its minus.
///
/// # Errors
/// [`StoreError::NotFound`].
pub(crate) async fn posted(connection: &mut SqliteConnection, id: i64) -> Result<InvoiceDocument> {
    let head = sqlx::query!(
        r#"SELECT kind, customer_id, currency, rate_e9 AS "rate!", document_date AS "document_date!: NaiveDate",
                  posting_date AS "posting_date!: NaiveDate", tax_date AS "tax_date!: NaiveDate", due_date AS "due_date!: NaiveDate",
                  terms, net_minor AS "net!", tax_minor AS "tax!", total_minor AS "total!", total_base_minor AS "total_base!",
                  gross_priced, tax_computed AS "tax_computed!", lines_minor AS "lines!", entry_id, discount_e6, discount_minor, discount_reason, text_above, text_below
           FROM documents WHERE id = ? AND state = 'posted'"#,
        id
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let sign = if head.kind == DocumentKind::CreditMemo.word() { -1 } else { 1 };
    let money = |minor: i64| Money(sign * minor);
    let (net, total) = (money(head.net), money(head.total));
    // What was typed and what was assumed no longer matters once it is posted.
    let posted = |date| DocumentDate { date, typed: true };
    let terms = head.terms.as_deref().map_or_else(|| Ok(Terms::net_days(0)), terms)?;
    let mut lines = lines(connection, id, sign).await?;
    if sign > 0 {
        prepayments::read_uses(connection, id, &mut lines).await?;
    }
    let deposits = match head.entry_id.filter(|_| sign > 0) {
        Some(entry) => deposits(connection, EntryId(entry)).await?,
        None => Vec::new(),
    };
    let mut document = InvoiceDocument {
        customer: CustomerId(head.customer_id),
        currency: currency(&head.currency)?,
        rate: ExchangeRate::from_scaled(head.rate),
        document_date: posted(head.document_date),
        posting_date: posted(head.posting_date),
        tax_date: head.tax_date,
        due_parts: Vec::new(),
        early: None,
        terms,
        due: total - deposits.iter().map(|deposit| deposit.amount).sum::<Money>(),
        deposits,
        due_date: head.due_date,
        text_above: head.text_above,
        text_below: head.text_below,
        gross_priced: head.gross_priced != 0,
        tax_computed: known(&head.tax_computed, TaxComputed::of)?,
        lines,
        lines_total: money(head.lines),
        discount: head.discount_minor.map(|amount| DocumentDiscount {
            percent: head.discount_e6.map(Rate::from_scaled),
            amount: money(amount),
            reason: head.discount_reason.unwrap_or_default(),
        }),
        taxes: taxes(connection, id, sign).await?,
        net,
        tax: money(head.tax),
        total,
        total_base: money(head.total_base),
        order_shares: order_shares(connection, id).await?,
    };
    let (date, terms) = (document.document_date.date, &document.terms);
    document.due_parts = match document.deposits.is_empty() {
        true => terms.schedule(date, document.total),
        false => terms.open_parts(date, document.total, document.due),
    };
    document.early = early_offer(&document);
    Ok(document)
}

/// Deposits that were applied as an invoice was posted.
async fn deposits(connection: &mut SqliteConnection, entry: EntryId) -> Result<Vec<DepositUsed>> {
    let mut used = Vec::new();
    for one in made_by(connection, entry).await? {
        let order = sqlx::query_scalar!(
            r#"SELECT orders.number AS "number?" FROM deposits LEFT JOIN orders ON orders.id = order_id WHERE deposits.id = ?"#,
            one.credit.document.id
        )
        .fetch_optional(&mut *connection)
        .await?;
        used.push(DepositUsed {
            item: one.credit.id,
            document: one.credit.document,
            order: order.flatten(),
            amount: one.used.0,
            amount_base: one.used.1,
            taxes: one.taxes,
        });
    }
    Ok(used)
}

/// What a line of a document says of where it comes from. A line that takes another back comes from
/// where that one came from.
#[derive(Default)]
struct Whence {
    shipment_line: Option<i64>,
    shipment: Option<(i64, String, NaiveDate)>,
    order: Option<(i64, String)>,
    customer_order_number: Option<String>,
    order_line: Option<i64>,
    /// What it asks for in advance of its order line, where it is that.
    asks: Option<Asks>,
}

fn source(whence: Whence) -> LineSource {
    if let (Some((order, order_number)), Some(line), Some(asks)) = (&whence.order, whence.order_line, whence.asks) {
        return LineSource::Prepaid {
            order: OrderId(*order),
            order_number: order_number.clone(),
            customer_order_number: whence.customer_order_number,
            in_advance_of: OrderLineId(line),
            asks,
        };
    }
    match (whence.order, whence.order_line, whence.shipment_line, whence.shipment) {
        (Some((order, order_number)), Some(order_line), Some(shipment_line), Some((shipment, number, shipped_on))) => {
            LineSource::Shipped {
                shipment_line: ShipmentLineId(shipment_line),
                shipment: ShipmentId(shipment),
                shipment_number: number,
                shipped_on,
                order: OrderId(order),
                order_number,
                customer_order_number: whence.customer_order_number,
                order_line: OrderLineId(order_line),
            }
        }
        (Some((order, order_number)), Some(order_line), None, _) => LineSource::Ordered {
            order: OrderId(order),
            order_number,
            customer_order_number: whence.customer_order_number,
            order_line: OrderLineId(order_line),
        },
        _ => LineSource::Typed,
    }
}

async fn lines(connection: &mut SqliteConnection, id: i64, sign: i64) -> Result<Vec<InvoiceLine>> {
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id AS "shipment_line_id?", shipments.id AS "shipment_id?", shipments.number AS "shipment_number?",
                  shipments.posting_date AS "shipped_on?: NaiveDate",
                  orders.id AS "order_id?", orders.number AS "order_number?", document_orders.customer_order_number AS "customer_order_number?",
                  order_lines.id AS "order_line_id?", mine.item_id, mine.account,
                  mine.code AS "code!", mine.unit AS "unit!",
                  mine.quantity_e4, mine.billed_before_e4 AS "billed_before!", mine.still_to_come_e4 AS "still_to_come!",
                  mine.ordered_e4 AS "ordered!", mine.description AS "description!",
                  mine.unit_price_e6 AS "unit_price!", mine.order_price_e6, mine.price_reason, mine.list_price_e6 AS "list_price!",
                  mine.discount_e6 AS "discount!", mine.discount_reason, mine.full_minor AS "full!",
                  mine.amount_minor AS "amount!", mine.off_minor, mine.net_minor AS "net!",
                  mine.tax_code AS "tax_code!", mine.tax_category AS "tax_category!",
                  mine.tax_rate_e6 AS "tax_rate!", mine.surcharge_e6, mine.surcharge_name, mine.price_steps,
                  mine.marks, coalesce(mine.kind, items.kind) AS "kind!: String", mine.order_tax_code, mine.tax_reason,
                  mine.tax_date AS "tax_date!: NaiveDate", coalesce(mine.asks, credited.asks) AS "asks: String"
           FROM document_lines AS mine
           LEFT JOIN document_lines AS credited ON credited.id = mine.credits_line_id
           LEFT JOIN shipment_lines ON shipment_lines.id = coalesce(mine.shipment_line_id, credited.shipment_line_id)
           LEFT JOIN shipments ON shipments.id = shipment_lines.shipment_id
           LEFT JOIN order_lines ON order_lines.id = coalesce(mine.order_line_id, mine.prepays_line_id, credited.order_line_id, credited.prepays_line_id)
           LEFT JOIN items ON items.id = mine.item_id
           LEFT JOIN orders ON orders.id = order_lines.order_id
           LEFT JOIN document_orders ON document_orders.document_id = coalesce(credited.document_id, mine.document_id) AND document_orders.order_id = orders.id
           WHERE mine.document_id = ? ORDER BY mine.position"#,
        id
    )
    .fetch_all(connection)
    .await?;
    let quantity = |scaled: i64| Quantity::from_scaled(sign * scaled);
    let money = |minor: i64| Money(sign * minor);
    rows.into_iter()
        .map(|row| {
            let whence = Whence {
                shipment_line: row.shipment_line_id,
                shipment: row
                    .shipment_id
                    .map(|id| (id, row.shipment_number.unwrap_or_default(), row.shipped_on.unwrap_or_default())),
                order: row.order_id.map(|id| (id, row.order_number.unwrap_or_default())),
                customer_order_number: row.customer_order_number,
                order_line: row.order_line_id,
                asks: row.asks.as_deref().map(read).transpose()?,
            };
            Ok(InvoiceLine {
                source: source(whence),
                item: row.item_id.map(ItemId),
                account: row.account,
                code: row.code,
                description: row.description,
                unit: row.unit,
                ordered: Quantity::from_scaled(row.ordered),
                billed_before: Quantity::from_scaled(row.billed_before),
                quantity: quantity(row.quantity_e4),
                unbilled: quantity(row.quantity_e4),
                still_to_come: Quantity::from_scaled(row.still_to_come),
                unit_price: UnitPrice::from_scaled(row.unit_price),
                order_price: UnitPrice::from_scaled(row.order_price_e6.unwrap_or(row.unit_price)),
                price_reason: row.price_reason,
                list_price: UnitPrice::from_scaled(row.list_price),
                discount: Rate::from_scaled(row.discount),
                discount_reason: row.discount_reason,
                surcharge: UnitPrice::from_scaled(row.surcharge_e6),
                surcharge_name: row.surcharge_name,
                price_steps: read(&row.price_steps)?,
                marks: read(&row.marks)?,
                kind: known(&row.kind, ItemKind::of)?,
                full: money(row.full),
                amount: money(row.amount),
                off: money(row.off_minor),
                net: money(row.net),
                prepaid: Vec::new(),
                tax: TaxRate {
                    code: row.tax_code,
                    category: known(&row.tax_category, TaxCategory::of)?,
                    rate: Rate::from_scaled(row.tax_rate),
                },
                order_tax_code: row.order_tax_code,
                tax_reason: row.tax_reason,
                tax_date: row.tax_date,
            })
        })
        .collect()
}

async fn taxes(connection: &mut SqliteConnection, id: i64, sign: i64) -> Result<Vec<TaxLine>> {
    sqlx::query!(
        "SELECT tax_code, category, rate_e6, base_minor, tax_minor FROM document_taxes WHERE document_id = ? ORDER BY position",
        id
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(TaxLine {
            rate: TaxRate {
                code: row.tax_code,
                category: known(&row.category, TaxCategory::of)?,
                rate: Rate::from_scaled(row.rate_e6),
            },
            base: Money(sign * row.base_minor),
            tax: Money(sign * row.tax_minor),
        })
    })
    .collect()
}

async fn order_shares(connection: &mut SqliteConnection, id: i64) -> Result<Vec<OrderShare>> {
    Ok(sqlx::query!("SELECT order_id, gross_minor FROM document_orders WHERE document_id = ? ORDER BY position", id)
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| OrderShare { order: OrderId(row.order_id), gross: Money(row.gross_minor) })
        .collect())
}
