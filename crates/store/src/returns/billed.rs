//! Everything that was ever billed to a customer, and what of it may still come back.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentLineId, InvoiceId};
use till_core::invoice::ItemKind;
use till_core::invoice::credit::Credited;
use till_core::money::{Currency, Money};
use till_core::returns::Returnable;

use super::facts::held;
use crate::Result;
use crate::convert::{currency, json, known};
use crate::rules::Rules;

/// Whose billed lines to look through, and for what.
#[derive(Debug, Clone, Default)]
pub struct ReturnableFilter<'a> {
    /// Whose.
    pub customer: Option<CustomerId>,
    /// Only of this invoice.
    pub invoice: Option<InvoiceId>,
    /// Words of the item, the invoice, the order, the customer PO, the ship-to or the shipment; a date as it is written.
    pub search: Option<&'a str>,
}

/// A billed line, with what of it may come back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnableRow {
    /// The line.
    pub line: DocumentLineId,
    /// Its invoice.
    pub invoice: InvoiceId,
    /// Its position on the invoice, from zero.
    pub position: i64,
    /// The invoice's number.
    pub number: String,
    /// When it was billed.
    pub date: NaiveDate,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub description: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How much was billed.
    pub billed: Quantity,
    /// How much may still come back.
    pub left: Quantity,
    /// At which price for one, less discount by the line, in the invoice's currency.
    pub unit_price: UnitPrice,
    /// The discount on it.
    pub discount: Rate,
    /// What crediting all that may come back would come to, as priced.
    pub worth: Money,
    /// The invoice's currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its tax code.
    pub tax_code: String,
    /// The tax rate.
    pub tax_rate: Rate,
    /// The order's number, where it had one.
    pub order: Option<String>,
    /// The customer's own number of that order.
    pub customer_po: Option<String>,
    /// The shipment it left with.
    pub shipment: Option<String>,
    /// Where it went.
    pub ship_to: Option<String>,
    /// Why nothing of it may come back; none where something may.
    pub obstacle: Option<String>,
}

/// Billed lines, newest first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnableList {
    /// The lines.
    pub lines: Vec<ReturnableRow>,
    /// How many fit.
    pub count: i64,
}

pub(super) struct Found {
    pub(super) of: Returnable,
    pub(super) item: i64,
    row: Row,
}

struct Row {
    id: i64,
    document_id: i64,
    position: i64,
    number: String,
    date: NaiveDate,
    item_id: Option<i64>,
    code: String,
    description: String,
    unit: String,
    kind: String,
    quantity_e4: i64,
    factor_e4: i64,
    goods_left: bool,
    unit_price_e6: i64,
    discount_e6: i64,
    priced: i64,
    currency: String,
    tax_code: String,
    tax_rate_e6: i64,
    credited_e4: i64,
    credited_amount: i64,
    credited_net: i64,
    canceled_by: Option<String>,
    order_number: Option<String>,
    customer_po: Option<String>,
    shipment: Option<String>,
    ship_to: Option<String>,
}

/// Billed lines by id, in their order.
pub(super) async fn lines(
    connection: &mut SqliteConnection,
    rules: &Rules,
    ids: &[DocumentLineId],
) -> Result<Vec<Found>> {
    let ids = json(&ids)?;
    let rows = sqlx::query_as!(
        Row,
        r#"SELECT billed.id AS "id!", billed.document_id AS "document_id!", billed.position AS "position!", invoices.number AS "number!", invoices.posting_date AS "date!: NaiveDate",
                  billed.item_id, billed.code AS "code!", billed.description AS "description!", billed.unit AS "unit!",
                  coalesce(billed.kind, items.kind) AS "kind!: String", billed.quantity_e4 AS "quantity_e4!",
                  CASE WHEN order_lines.id IS NOT NULL THEN order_lines.factor_e4
                       WHEN billed.leaves_e4 IS NOT NULL THEN billed.leaves_e4 * 10000 / billed.quantity_e4 ELSE 10000 END AS "factor_e4!: i64",
                  billed.shipment_line_id IS NOT NULL OR billed.leaves_e4 IS NOT NULL AS "goods_left!: bool",
                  billed.unit_price_e6 AS "unit_price_e6!", billed.discount_e6 AS "discount_e6!",
                  billed.amount_minor - billed.off_minor AS "priced!: i64", invoices.currency AS "currency!",
                  billed.tax_code AS "tax_code!", billed.tax_rate_e6 AS "tax_rate_e6!",
                  (SELECT coalesce(-sum(quantity_e4), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "credited_e4!: i64",
                  (SELECT coalesce(-sum(amount_minor - off_minor), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "credited_amount!: i64",
                  (SELECT coalesce(-sum(net_minor), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "credited_net!: i64",
                  memo.number AS "canceled_by?", orders.number AS "order_number?", orders.customer_order_number AS "customer_po?",
                  shipments.number AS "shipment?", shipments.ship_name AS "ship_to?"
           FROM json_each(?) AS wanted JOIN document_lines AS billed ON billed.id = wanted.value
           JOIN invoices ON invoices.id = billed.document_id
           LEFT JOIN documents AS memo ON memo.id = invoices.cancelled_by
           LEFT JOIN items ON items.id = billed.item_id
           LEFT JOIN shipment_lines ON shipment_lines.id = billed.shipment_line_id LEFT JOIN shipments ON shipments.id = shipment_id
           LEFT JOIN order_lines ON order_lines.id = coalesce(billed.order_line_id, shipment_lines.order_line_id)
           LEFT JOIN orders ON orders.id = order_lines.order_id
           WHERE invoices.state = 'posted' ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let known_ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let held = held(connection, rules, &known_ids).await?;
    rows.into_iter()
        .map(|row| {
            let of = Returnable {
                line: DocumentLineId(row.id),
                invoice: InvoiceId(row.document_id),
                number: row.number.clone(),
                code: row.code.clone(),
                unit: row.unit.clone(),
                factor: Quantity::from_scaled(row.factor_e4),
                kind: known(&row.kind, ItemKind::of)?,
                goods_left: row.goods_left && row.item_id.is_some(),
                billed: Quantity::from_scaled(row.quantity_e4),
                priced: Money(row.priced),
                currency: currency(&row.currency)?,
                credited: Credited {
                    quantity: Quantity::from_scaled(row.credited_e4),
                    amount: Money(row.credited_amount),
                    net: Money(row.credited_net),
                },
                on_returns: held.get(&row.id).copied().unwrap_or_default(),
                canceled_by: row.canceled_by.clone(),
            };
            Ok(Found { of, item: row.item_id.unwrap_or_default(), row })
        })
        .collect()
}

/// Everything that was billed and fits, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn returnable(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &ReturnableFilter<'_>,
    (limit, offset): (i64, i64),
) -> Result<ReturnableList> {
    let like = filter.search.map(crate::find::pattern);
    let (customer, invoice) = (filter.customer.map(|id| id.0), filter.invoice.map(|id| id.0));
    let found = sqlx::query!(
        r#"SELECT billed.id AS "id!", count(*) OVER () AS "count!: i64"
           FROM document_lines AS billed JOIN invoices ON invoices.id = billed.document_id
           LEFT JOIN shipment_lines ON shipment_lines.id = billed.shipment_line_id LEFT JOIN shipments ON shipments.id = shipment_id
           LEFT JOIN order_lines ON order_lines.id = coalesce(billed.order_line_id, shipment_lines.order_line_id)
           LEFT JOIN orders ON orders.id = order_lines.order_id
           WHERE invoices.state = 'posted' AND invoices.kind = 'invoice' AND billed.credits_line_id IS NULL
             AND (?1 IS NULL OR invoices.customer_id = ?1) AND (?2 IS NULL OR invoices.id = ?2)
             AND (?2 IS NOT NULL OR (billed.kind = 'goods' AND invoices.cancelled_by IS NULL))
             AND (?3 IS NULL OR billed.code LIKE ?3 ESCAPE '\' OR billed.description LIKE ?3 ESCAPE '\' OR invoices.number LIKE ?3 ESCAPE '\'
                  OR orders.number LIKE ?3 ESCAPE '\' OR orders.customer_order_number LIKE ?3 ESCAPE '\' OR shipments.number LIKE ?3 ESCAPE '\'
                  OR shipments.ship_name LIKE ?3 ESCAPE '\' OR invoices.posting_date LIKE ?3 ESCAPE '\')
           ORDER BY invoices.sequence DESC, billed.position LIMIT ?4 OFFSET ?5"#,
        customer,
        invoice,
        like,
        limit,
        offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = found.first().map_or(0, |row| row.count);
    let ids: Vec<DocumentLineId> = found.iter().map(|row| DocumentLineId(row.id)).collect();
    let lines = lines(connection, rules, &ids).await?.into_iter().map(shown).collect();
    Ok(ReturnableList { lines, count })
}

fn shown(Found { of, row, .. }: Found) -> ReturnableRow {
    let left = of.left();
    ReturnableRow {
        line: of.line,
        invoice: of.invoice,
        position: row.position,
        date: row.date,
        description: row.description,
        billed: of.billed,
        worth: if left.is_positive() { of.worth(left) } else { Money::ZERO },
        left,
        unit_price: UnitPrice::from_scaled(row.unit_price_e6),
        discount: Rate::from_scaled(row.discount_e6),
        currency: of.currency,
        tax_code: row.tax_code,
        tax_rate: Rate::from_scaled(row.tax_rate_e6),
        order: row.order_number,
        customer_po: row.customer_po,
        shipment: row.shipment,
        ship_to: row.ship_to,
        obstacle: of.obstacle(),
        number: of.number,
        code: of.code,
        unit: of.unit,
    }
}
