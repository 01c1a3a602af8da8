//! Everything that was ever billed or shipped to a customer, and what of it may still come back.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentLineId, DocumentRef, InvoiceId, ItemId, ShipmentId, ShipmentLineId,
};
use till_core::invoice::ItemKind;
use till_core::invoice::credit::Credited;
use till_core::money::{Currency, Money};
use till_core::returns::{Origin, Progress, Returnable, is_live};

use super::holding::held;
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
    /// Only of this shipment.
    pub shipment: Option<ShipmentId>,
    /// Words of the item, the invoice, the order, the customer PO, the ship-to or the shipment; a date as it is written.
    pub search: Option<&'a str>,
}

/// A line that was billed, or shipped and not billed, with what of it may come back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnableRow {
    /// The line of the invoice; none where it is not billed.
    pub line: Option<DocumentLineId>,
    /// The line of the shipment, where it is not billed.
    pub shipment_line: Option<ShipmentLineId>,
    /// The invoice, or the shipment.
    pub document: DocumentRef,
    /// Its position there, from zero.
    pub position: i64,
    /// When it was billed, or left.
    pub date: NaiveDate,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub description: String,
    /// The unit it was sold in.
    pub unit: String,
    /// How much was billed, or is not billed yet.
    pub billed: Quantity,
    /// How much may still come back.
    pub left: Quantity,
    /// At which price for one, less discount by the line, in its currency.
    pub unit_price: UnitPrice,
    /// The discount on it.
    pub discount: Rate,
    /// What crediting all that may come back would come to, as priced.
    pub worth: Money,
    /// The currency of the invoice, or of the order.
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

/// Lines, newest first.
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
    pub(super) customer: CustomerId,
    row: Row,
}

struct Row {
    id: i64,
    document_id: i64,
    customer_id: i64,
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
    if ids.is_empty() {
        return Ok(Vec::new());
    }
    let ids = json(&ids)?;
    let rows = sqlx::query_as!(
        Row,
        r#"SELECT billed.id AS "id!", billed.document_id AS "document_id!", invoices.customer_id AS "customer_id!", billed.position AS "position!", invoices.number AS "number!", invoices.posting_date AS "date!: NaiveDate",
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
           WHERE invoices.state = 'posted' AND billed.quantity_e4 > 0 ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    found(connection, rules, rows, |row| Origin::Billed(DocumentLineId(row.id))).await
}

async fn found(
    connection: &mut SqliteConnection,
    rules: &Rules,
    rows: Vec<Row>,
    origin: impl Fn(&Row) -> Origin,
) -> Result<Vec<Found>> {
    let origins: Vec<Origin> = rows.iter().map(&origin).collect();
    let held = held(connection, rules, &origins).await?;
    rows.into_iter()
        .map(|row| {
            let origin = origin(&row);
            let of = Returnable {
                origin,
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
                on_returns: held.get(&origin).copied().unwrap_or_default(),
                canceled_by: row.canceled_by.clone(),
            };
            Ok(Found { of, item: row.item_id.unwrap_or_default(), customer: CustomerId(row.customer_id), row })
        })
        .collect()
}

/// Lines of shipments by id, in their order: what is not billed of them.
pub(super) async fn shipped(
    connection: &mut SqliteConnection,
    rules: &Rules,
    ids: &[ShipmentLineId],
) -> Result<Vec<Found>> {
    if ids.is_empty() {
        return Ok(Vec::new());
    }
    let ids = json(&ids)?;
    let rows = sqlx::query_as!(
        Row,
        r#"SELECT sent.id AS "id!", sent.shipment_id AS "document_id!", orders.customer_id AS "customer_id!", sent.position AS "position!", shipments.number AS "number!",
                  shipments.posting_date AS "date!: NaiveDate", order_lines.item_id AS "item_id?", items.code AS "code!", order_lines.description AS "description!",
                  order_lines.unit AS "unit!", items.kind AS "kind!: String", sent.unbilled_e4 AS "quantity_e4!", order_lines.factor_e4 AS "factor_e4!: i64",
                  items.kind = 'goods' AS "goods_left!: bool", order_lines.unit_price_e6 AS "unit_price_e6!", order_lines.discount_e6 AS "discount_e6!",
                  coalesce(sent.unbilled_minor, 0) AS "priced!: i64", orders.currency AS "currency!",
                  coalesce(sent.tax_code, order_lines.tax_code) AS "tax_code!: String",
                  coalesce((SELECT rate_e6 FROM tax_rates WHERE code = coalesce(sent.tax_code, order_lines.tax_code) AND valid_from <= shipments.posting_date
                            ORDER BY valid_from DESC LIMIT 1), 0) AS "tax_rate_e6!: i64",
                  0 AS "credited_e4!: i64", 0 AS "credited_amount!: i64", 0 AS "credited_net!: i64", NULL AS "canceled_by?: String",
                  orders.number AS "order_number?", orders.customer_order_number AS "customer_po?",
                  shipments.number AS "shipment?", shipments.ship_name AS "ship_to?"
           FROM json_each(?) AS wanted JOIN shipment_lines AS sent ON sent.id = wanted.value JOIN shipments ON shipments.id = sent.shipment_id
           JOIN order_lines ON order_lines.id = sent.order_line_id JOIN orders ON orders.id = order_lines.order_id
           JOIN items ON items.id = order_lines.item_id
           WHERE shipments.state = 'posted' ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    found(connection, rules, rows, |row| Origin::Shipped(ShipmentLineId(row.id))).await
}

/// Everything a customer was ever billed of an item, newest first.
pub(super) async fn of_item(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, item): (CustomerId, ItemId),
) -> Result<Vec<Found>> {
    let ids = sqlx::query_scalar!(
        r#"SELECT billed.id AS "id!" FROM document_lines AS billed JOIN invoices ON invoices.id = billed.document_id
           WHERE billed.item_id = ? AND invoices.customer_id = ? AND invoices.state = 'posted' AND invoices.kind = 'invoice'
             AND billed.credits_line_id IS NULL AND billed.quantity_e4 > 0 AND invoices.cancelled_by IS NULL
           ORDER BY invoices.sequence DESC, billed.position"#,
        item.0,
        customer.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<DocumentLineId> = ids.into_iter().map(DocumentLineId).collect();
    lines(connection, rules, &ids).await
}

/// What a customer ever bought of an item and did not send back, in stock units: what may still come back without a document,
/// where that is the limit.
pub(super) async fn bought(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, item): (CustomerId, ItemId),
) -> Result<Quantity> {
    let billed = of_item(connection, rules, (customer, item)).await?;
    let in_stock = |quantity: Quantity, factor: Quantity| {
        till_core::units::in_stock_units(quantity, factor).map_or(0, Quantity::scaled)
    };
    let left: i64 = billed.iter().map(|found| in_stock(found.of.left(), found.of.factor)).sum();
    // What went out for what came back, where that left something to credit: no invoice says so.
    let exchanged = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(leaves_e4), 0) AS "left!: i64" FROM document_lines JOIN documents ON documents.id = document_id
           WHERE documents.kind = 'credit_memo' AND state = 'posted' AND item_id = ? AND customer_id = ?"#,
        item.0,
        customer.0
    )
    .fetch_one(&mut *connection)
    .await?;
    // What came back, or is to, without a document: that was of what was bought too.
    let rows = sqlx::query!(
        r#"SELECT closed_on AS "closed_on: NaiveDate", expires_on AS "expires_on!: NaiveDate", factor_e4 AS "factor!", authorized_e4 AS "authorized!",
                  received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64", replaced_e4 AS "replaced!: i64",
                  credited_e4 AS "credited!: i64", for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", kept_e4 AS "kept!: i64"
           FROM return_line_state JOIN returns ON returns.id = return_id
           WHERE item_id = ? AND customer_id = ? AND document_line_id IS NULL AND shipment_line_id IS NULL"#,
        item.0,
        customer.0
    )
    .fetch_all(connection)
    .await?;
    let gone: i64 = rows
        .into_iter()
        .map(|row| {
            let quantity = Quantity::from_scaled;
            let progress = Progress {
                authorized: quantity(row.authorized),
                received: quantity(row.received),
                sent_back: quantity(row.sent_back),
                replaced: quantity(row.replaced),
                credited: quantity(row.credited),
                given_back: Quantity::ZERO,
                for_repair: quantity(row.for_repair),
                repaired: quantity(row.repaired),
                kept: quantity(row.kept),
            };
            let held = progress.held(is_live(row.closed_on, row.expires_on, rules.business_date));
            in_stock(Quantity::from_scaled(held.scaled() + row.credited), quantity(row.factor))
        })
        .sum();
    Ok(Quantity::from_scaled((left + exchanged - gone).max(0)))
}

/// Everything that was billed, or shipped and not billed, and fits, newest first.
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
    let (customer, invoice, shipment) =
        (filter.customer.map(|id| id.0), filter.invoice.map(|id| id.0), filter.shipment.map(|id| id.0));
    let fits = sqlx::query!(
        r#"SELECT billed AS "billed!: bool", id AS "id!: i64", count(*) OVER () AS "count!: i64" FROM (
           SELECT 1 AS billed, billed.id, invoices.posting_date AS day, invoices.sequence, billed.position
           FROM document_lines AS billed JOIN invoices ON invoices.id = billed.document_id
           LEFT JOIN shipment_lines ON shipment_lines.id = billed.shipment_line_id LEFT JOIN shipments ON shipments.id = shipment_id
           LEFT JOIN order_lines ON order_lines.id = coalesce(billed.order_line_id, shipment_lines.order_line_id)
           LEFT JOIN orders ON orders.id = order_lines.order_id
           WHERE invoices.state = 'posted' AND invoices.kind = 'invoice' AND billed.credits_line_id IS NULL AND billed.quantity_e4 > 0
             AND (?1 IS NULL OR invoices.customer_id = ?1) AND (?2 IS NULL OR invoices.id = ?2) AND (?6 IS NULL OR shipments.id = ?6)
             AND (?2 IS NOT NULL OR (billed.kind = 'goods' AND invoices.cancelled_by IS NULL))
             AND (?3 IS NULL OR billed.code LIKE ?3 ESCAPE '\' OR billed.description LIKE ?3 ESCAPE '\' OR invoices.number LIKE ?3 ESCAPE '\'
                  OR orders.number LIKE ?3 ESCAPE '\' OR orders.customer_order_number LIKE ?3 ESCAPE '\' OR shipments.number LIKE ?3 ESCAPE '\'
                  OR shipments.ship_name LIKE ?3 ESCAPE '\' OR invoices.posting_date LIKE ?3 ESCAPE '\')
           UNION ALL
           SELECT 0, sent.id, shipments.posting_date, shipments.id, sent.position
           FROM shipment_lines AS sent JOIN shipments ON shipments.id = sent.shipment_id JOIN order_lines ON order_lines.id = sent.order_line_id
           JOIN orders ON orders.id = order_lines.order_id JOIN items ON items.id = order_lines.item_id
           WHERE sent.unbilled_e4 > 0 AND shipments.state = 'posted' AND items.kind = 'goods' AND ?2 IS NULL
             AND (?1 IS NULL OR orders.customer_id = ?1) AND (?6 IS NULL OR shipments.id = ?6)
             AND (?3 IS NULL OR items.code LIKE ?3 ESCAPE '\' OR order_lines.description LIKE ?3 ESCAPE '\' OR shipments.number LIKE ?3 ESCAPE '\'
                  OR orders.number LIKE ?3 ESCAPE '\' OR orders.customer_order_number LIKE ?3 ESCAPE '\'
                  OR shipments.ship_name LIKE ?3 ESCAPE '\' OR shipments.posting_date LIKE ?3 ESCAPE '\'))
           ORDER BY day DESC, sequence DESC, billed DESC, position LIMIT ?4 OFFSET ?5"#,
        customer,
        invoice,
        like,
        limit,
        offset,
        shipment
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = fits.first().map_or(0, |row| row.count);
    let ids: Vec<DocumentLineId> = fits.iter().filter(|row| row.billed).map(|row| DocumentLineId(row.id)).collect();
    let sent: Vec<ShipmentLineId> = fits.iter().filter(|row| !row.billed).map(|row| ShipmentLineId(row.id)).collect();
    let mut billed = lines(connection, rules, &ids).await?.into_iter();
    let mut shipped = shipped(connection, rules, &sent).await?.into_iter();
    let next = |billed_line: bool| if billed_line { billed.next() } else { shipped.next() };
    let lines = fits.iter().map(|row| row.billed).filter_map(next).map(shown).collect();
    Ok(ReturnableList { lines, count })
}

fn shown(Found { of, row, .. }: Found) -> ReturnableRow {
    let left = of.left();
    let (line, shipment_line, kind) = match of.origin {
        Origin::Billed(line) => (Some(line), None, DocumentKind::Invoice),
        Origin::Shipped(line) => (None, Some(line), DocumentKind::Shipment),
        Origin::Unknown(_) => (None, None, DocumentKind::Return),
    };
    ReturnableRow {
        line,
        shipment_line,
        document: DocumentRef { kind, id: row.document_id, number: row.number },
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
        code: of.code,
        unit: of.unit,
    }
}
