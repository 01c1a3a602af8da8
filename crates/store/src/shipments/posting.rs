//! Posting a shipment: stock goes down, the cost entry is written, its lines are unbilled.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::stops;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, ItemId, OrderId, ShipmentId};
use till_core::money::{Currency, Money};
use till_core::pricing::{PriceStep, StepKind};
use till_core::shipment::freight_by_code;
use till_core::tax::compute_gross;
use till_core::treatment::{Taxed, Treatment};

use super::{Loaded, decide_on};
use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, orders, posting, stock};

/// Posts a picked or packed shipment.
///
/// # Errors
/// What the core refuses; [`StoreError::Stale`] where it changed since `version`.
pub async fn post(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ShipmentId,
    version: Option<i64>,
    date: NaiveDate,
) -> Result<ShipmentId> {
    let loaded = decide_on(writing, rules, id, date).await?;
    if version.is_some_and(|seen| seen != loaded.version) {
        return Err(StoreError::Stale { what: loaded.number, current: loaded.version });
    }
    if stops(&loaded.decision.blockers) {
        return Err(StoreError::Refused(loaded.decision.blockers));
    }
    if let Some(freight) = loaded.freight {
        add_freight(writing, rules, id, loaded.order, freight).await?;
    }
    let source = DocumentRef { kind: DocumentKind::Shipment, id: id.0, number: loaded.number.clone() };
    let entry = posting::write(writing, &source, &loaded.decision.posting(date)).await?.pop().map(|id| id.0);
    write_lines(writing, &loaded).await?;
    let counted = stock::counted(writing, &loaded.warehouse, "warehouse").await?;
    let purpose = if counted { rules.cost_entry.purpose().word() } else { "none" };
    // Freight that was added has no cost and is unbilled like the rest. What leaves keeps how it is taxed.
    sqlx::query!(
        "UPDATE shipment_lines SET unbilled_e4 = quantity_e4, unbilled_minor = NULL,
                tax_code = (SELECT tax_code FROM order_lines WHERE order_lines.id = order_line_id) WHERE shipment_id = ?",
        id.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!(
        "UPDATE shipments SET state = 'posted', posting_date = ?, entry_id = ?, cost_purpose = ?, version = version + 1,
                (ship_name, ship_address, ship_country) =
                    (SELECT coalesce(orders.ship_name, ship_tos.name), coalesce(orders.ship_address, ship_tos.address),
                            coalesce(orders.ship_country, ship_tos.country)
                     FROM orders LEFT JOIN ship_tos ON ship_tos.id = ship_to_id WHERE orders.id = order_id),
                (ship_to_id, treatment, certificate, certificate_until) =
                    (SELECT orders.ship_to_id, ship_tos.treatment, ship_tos.certificate, ship_tos.certificate_until
                     FROM orders LEFT JOIN ship_tos ON ship_tos.id = ship_to_id WHERE orders.id = order_id)
         WHERE id = ?",
        date,
        entry,
        purpose,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    orders::refresh_states(writing, &[loaded.order]).await?;
    writing.note_on(
        (DocumentKind::Shipment, id.0, &loaded.number),
        "shipment_posted",
        format!("posted {}", loaded.number),
        Some(loaded.version + 1),
        vec![set("posting date", till_core::calendar::words(date))],
    );
    Ok(id)
}

async fn write_lines(connection: &mut SqliteConnection, loaded: &Loaded) -> Result<()> {
    let lines: Vec<_> = loaded
        .decision
        .lines
        .iter()
        .map(|line| (line.shipment_line, line.cost, line.order_line, line.quantity.scaled()))
        .collect();
    let lines = json(&lines)?;
    sqlx::query!(
        "UPDATE shipment_lines SET cost_minor = new.value ->> 1 FROM jsonb_each(?) AS new WHERE shipment_lines.id = new.value ->> 0",
        lines
    )
    .execute(&mut *connection)
    .await?;
    // What was reserved for the line has gone with it.
    sqlx::query!(
        "UPDATE order_lines SET shipped_e4 = shipped_e4 + (new.value ->> 3), allocated_e4 = max(0, allocated_e4 - (new.value ->> 3))
         FROM jsonb_each(?) AS new WHERE order_lines.id = new.value ->> 2",
        lines
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Freight to charge becomes a charge on the order that has shipped with it, and is billed once; where the goods
/// are taxed differently, a charge for each code.
/// *Source: domain.md section 7.*
async fn add_freight(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ShipmentId,
    order: OrderId,
    freight: Money,
) -> Result<()> {
    let Some(item) = rules.freight_item else {
        return Err(StoreError::invalid(
            "freight",
            "No item is chosen that freight is billed as. Ask an administrator to choose one under Setup.",
        ));
    };
    let goods: Vec<(String, Money)> = sqlx::query!(
        r#"SELECT order_lines.tax_code, net_minor, quantity_e4, ordered_e4
           FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
           WHERE shipment_id = ? AND kind = 'goods' ORDER BY shipment_lines.position"#,
        id.0
    )
    .fetch_all(&mut **writing)
    .await?
    .into_iter()
    .map(|row| (row.tax_code, Money(row.net_minor).share(row.quantity_e4, row.ordered_e4)))
    .collect();
    let own = sqlx::query_scalar!("SELECT tax_code FROM items WHERE id = ?", item.0).fetch_one(&mut **writing).await?;
    let otherwise = match goods.is_empty() {
        true => freight_tax_code(writing, rules, order, &own).await?,
        false => own,
    };
    for (code, amount) in freight_by_code(freight, &goods, &otherwise) {
        add_charge(writing, rules, (id, order, item), (&code, amount)).await?;
    }
    Ok(())
}

/// A charge for freight, on the order and on the shipment.
async fn add_charge(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (id, order, item): (ShipmentId, OrderId, ItemId),
    (code, amount): (&str, Money),
) -> Result<()> {
    let head = sqlx::query!(
        r#"SELECT currency, gross_priced, warehouse, order_date AS "date: NaiveDate",
                  (SELECT max(position) + 1 FROM order_lines WHERE order_id = orders.id) AS "next!: i64",
                  (SELECT max(position) + 1 FROM shipment_lines WHERE shipment_id = ?) AS "place!: i64"
           FROM orders WHERE id = ?"#,
        id.0,
        order.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let row = sqlx::query!("SELECT name, unit FROM items WHERE id = ?", item.0).fetch_one(&mut **writing).await?;
    let document: Currency = crate::convert::currency(&head.currency)?;
    let net = match rules.taxes.rate_on(code, head.date).filter(|_| head.gross_priced != 0) {
        Some(rate) => compute_gross(&[(rate, amount)]).1.first().copied().unwrap_or(amount),
        None => amount,
    };
    let price = UnitPrice::from_scaled(amount.0 * 10_i64.pow(6 - document.exponent()));
    let scaled = price.scaled();
    let step = PriceStep {
        kind: StepKind::Typed,
        source: "typed: freight of the shipment".to_owned(),
        off: None,
        unit_price: price,
    };
    let steps = json(&[step])?;
    let one = Quantity::ONE.scaled();
    let line = sqlx::query_scalar!(
        "INSERT INTO order_lines (order_id, position, item_id, description, ordered_e4, shipped_e4, unit, unit_price_e6, list_price_e6,
                price_steps, tax_code, net_minor, amount_minor, warehouse, freight_of)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        order.0, head.next, item.0, row.name, one, one, row.unit, scaled, scaled, steps, code, net.0, amount.0, head.warehouse, id.0
    )
    .fetch_one(&mut **writing)
    .await?;
    sqlx::query!(
        "INSERT INTO shipment_lines (shipment_id, position, order_line_id, quantity_e4, asked_e4) VALUES (?, ?, ?, ?, ?)",
        id.0,
        head.place,
        line,
        one,
        one
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}

/// The code freight without goods gets where the order goes: never another treatment's.
async fn freight_tax_code(
    connection: &mut SqliteConnection,
    rules: &Rules,
    order: OrderId,
    item_code: &str,
) -> Result<String> {
    let treatment = sqlx::query_scalar!(
        "SELECT treatment FROM orders JOIN ship_tos ON ship_tos.id = ship_to_id WHERE orders.id = ?",
        order.0
    )
    .fetch_optional(connection)
    .await?;
    let treatment = match treatment {
        Some(word) => crate::convert::known(&word, Treatment::of)?,
        None => Treatment::Standard,
    };
    let taxed = Taxed { treatment, certificate: None, until: None };
    taxed.code(item_code, &rules.treatments).map(str::to_owned).ok_or_else(|| {
        let sentence =
            format!("No tax code is set for {}. Ask an administrator to choose one under Setup.", treatment.name());
        StoreError::invalid("freight", sentence)
    })
}
