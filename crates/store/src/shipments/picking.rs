//! From an order to goods on the ramp: what to pick, what was picked, who carries it.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Check, Step, one};
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, OrderId, OrderLineId, ShipmentId};
use till_core::merge::{Fields, differences};
use till_core::money::{Currency, Money};
use till_core::order::{LineProgress, LineState};
use till_core::units::{can_go, from_stock_units};

use crate::rules::{Rules, next_number};
use crate::writing::{Writing, changed, fields, set};
use crate::{Result, StoreError, rules, stock};

/// A shipment to pack in one go, by the program.
#[derive(Debug, Clone)]
pub struct NewShipment {
    /// The order it ships.
    pub order: OrderId,
    /// When it was packed.
    pub packed_date: NaiveDate,
    /// Who carries it.
    pub carrier: Option<String>,
    /// The carrier's number for it.
    pub consignment_number: Option<String>,
    /// Order lines and quantities.
    pub lines: Vec<(OrderLineId, Quantity)>,
}

/// A shipment as typed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentForm {
    /// Who carries it.
    #[serde(default)]
    pub carrier: Option<String>,
    /// The carrier's number for it.
    #[serde(default)]
    pub consignment_number: Option<String>,
    /// Freight to charge, in the order's currency, as typed; empty for none.
    #[serde(default)]
    pub freight: Option<String>,
    /// Where it leaves from; none for where the order's lines lie.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// Lines and quantities.
    pub lines: Vec<PickForm>,
}

/// A line of a shipment as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PickForm {
    /// The order line.
    pub order_line: OrderLineId,
    /// How much, as typed; zero leaves it out.
    pub quantity: String,
}

/// A line of an order that could go on a shipment.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PickLine {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// The unit sold.
    pub unit: String,
    /// Where it lies.
    pub warehouse: String,
    /// Left to ship.
    pub to_ship: Quantity,
    /// What of it stands on other shipments that are not posted.
    pub leaving: Quantity,
    /// What is reserved for it.
    pub allocated: Quantity,
    /// What is there and free for it, what is reserved for it included; all of it where no stock is kept.
    pub free: Quantity,
    /// How much more than ordered may leave.
    pub over: Quantity,
    /// The most that may go on a shipment now, tolerance included.
    pub most: Quantity,
    /// What would be picked.
    pub proposed: Quantity,
}

/// What could be shipped of an order now: what is reserved for it, and what else is free.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn propose(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<PickLine>> {
    let rows = sqlx::query!(
        r#"SELECT order_lines.id, order_lines.item_id, items.code, description, order_lines.unit, order_lines.warehouse, items.kind = 'goods' AND counted = 1 AS "kept!: bool",
                  order_lines.factor_e4, items.step_e4, order_lines.over_e4, reserved_e4, state.ordered_e4, state.cancelled_e4, state.shipped_e4,
                  state.billed_e4, state.drafted_e4, order_lines.net_minor, stocked AS "stocked!: bool", work AS "work!: bool", leaving_e4 AS "leaving!: i64"
           FROM order_lines JOIN order_line_state AS state ON state.id = order_lines.id JOIN items ON items.id = order_lines.item_id
           JOIN warehouses ON warehouses.code = order_lines.warehouse
           WHERE order_lines.order_id = ? ORDER BY order_lines.position"#,
        order.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let items: Vec<_> = rows.iter().map(|row| till_core::ids::ItemId(row.item_id)).collect();
    let there = stock::facts(connection, &items, None).await?;
    let mut lines = Vec::new();
    for row in rows {
        let state = LineState {
            progress: LineProgress::from_scaled(
                [row.ordered_e4, row.cancelled_e4, row.shipped_e4, row.billed_e4],
                Money(row.net_minor),
            ),
            drafted: Quantity::from_scaled(row.drafted_e4),
            reserved: Quantity::from_scaled(row.reserved_e4),
            leaving: Quantity::from_scaled(row.leaving),
            stocked: row.stocked,
            work: row.work,
        };
        let to_ship = state.progress.to_ship();
        if !to_ship.is_positive() {
            continue;
        }
        // Work that stands on a draft of an invoice is no longer to leave.
        let open = if state.work { state.billable() } else { state.free_to_ship() }.scaled();
        let (free, proposed) = if row.kept {
            let [factor, step] = [row.factor_e4, row.step_e4].map(Quantity::from_scaled);
            let facts = there.get(&(till_core::ids::ItemId(row.item_id), row.warehouse.clone()));
            let available = facts.map(|facts| facts.available()).unwrap_or_default();
            let more = from_stock_units(available, factor).scaled();
            let aside = (row.reserved_e4 - row.leaving).clamp(0, open);
            let fits = can_go(Quantity::from_scaled(open - aside), available, factor, step).scaled();
            ((row.reserved_e4 + more - row.leaving).max(0), aside + fits)
        } else {
            (open + row.over_e4, open)
        };
        lines.push(PickLine {
            order_line: OrderLineId(row.id),
            code: row.code,
            description: row.description,
            unit: row.unit,
            warehouse: row.warehouse,
            to_ship,
            leaving: state.leaving,
            allocated: state.reserved,
            free: Quantity::from_scaled(free),
            over: Quantity::from_scaled(row.over_e4),
            most: state.most_to_ship(Quantity::from_scaled(row.over_e4)),
            proposed: Quantity::from_scaled(proposed),
        });
    }
    Ok(lines)
}

struct OrderHead {
    number: String,
    customer: i64,
    currency: till_core::money::Currency,
    carrier: Option<String>,
    stopped: Option<(String, String)>,
}

async fn order_head(connection: &mut SqliteConnection, order: OrderId) -> Result<OrderHead> {
    let row = sqlx::query!(
        "SELECT orders.number, customer_id, confirmed, orders.currency, carrier, name, stop_reason FROM orders
         JOIN customers ON customers.id = customer_id WHERE orders.id = ?",
        order.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
    if row.confirmed == 0 {
        return Err(StoreError::WrongState(format!("{} is a draft. Confirm it before it ships.", row.number)));
    }
    Ok(OrderHead {
        number: row.number,
        customer: row.customer_id,
        currency: crate::convert::currency(&row.currency)?,
        carrier: row.carrier,
        stopped: row.stop_reason.map(|reason| (row.name, reason)),
    })
}

/// Starts a shipment: a pick list of what is reserved, or of what is typed. Nothing leaves stock.
///
/// # Errors
/// An order that is not confirmed, a customer on hold, nothing that can go, more than is left.
pub async fn start(
    writing: &mut Writing<'_>,
    rules: &Rules,
    order: OrderId,
    typed: Option<&ShipmentForm>,
) -> Result<ShipmentId> {
    let head = order_head(writing, order).await?;
    if let Some((name, reason)) = &head.stopped {
        let sentence = format!("{name} is on hold: {reason}. A supervisor can lift it.");
        return Err(StoreError::Refused(one(Check::CustomerOnStop, Step::Ship, "customer.stop_reason", sentence)));
    }
    let proposed = propose(writing, order).await?;
    let form = match typed {
        Some(form) => form.clone(),
        None => {
            // One shipment leaves from one warehouse: that of the first line that can go.
            let from = proposed.iter().find(|line| line.proposed.is_positive()).map(|line| line.warehouse.clone());
            ShipmentForm {
                carrier: head.carrier.clone(),
                lines: proposed
                    .iter()
                    .filter(|line| line.proposed.is_positive() && Some(&line.warehouse) == from.as_ref())
                    .map(|line| PickForm { order_line: line.order_line, quantity: line.proposed.to_string() })
                    .collect(),
                warehouse: from,
                ..ShipmentForm::default()
            }
        }
    };
    if form.lines.is_empty() {
        return Err(StoreError::invalid(
            "lines",
            format!("Nothing of {} can go now: it is out of stock, on other shipments, or gone.", head.number),
        ));
    }
    let (number, _) = next_number(writing, "shipment").await?;
    let warehouse = form.warehouse.clone().unwrap_or_else(|| rules.warehouse.clone());
    stock::counted(writing, &warehouse, "warehouse").await?;
    let id = sqlx::query_scalar!(
        "INSERT INTO shipments (number, order_id, customer_id, state, packed_date, warehouse) VALUES (?, ?, ?, 'picking', ?, ?) RETURNING id AS \"id!\"",
        number,
        order.0,
        head.customer,
        rules.business_date,
        warehouse
    )
    .fetch_one(&mut **writing)
    .await?;
    let id = ShipmentId(id);
    write_form(writing, id, order, &warehouse, &head, &form).await?;
    let fields = vec![set("order", &head.number), set("lines", form.lines.len()), set("from", &warehouse)];
    let words = format!("started {number}");
    writing.note_on((DocumentKind::Shipment, id.0, &number), "shipment_started", words, Some(1), fields);
    Ok(id)
}

async fn write_form(
    writing: &mut Writing<'_>,
    id: ShipmentId,
    order: OrderId,
    warehouse: &str,
    head: &OrderHead,
    form: &ShipmentForm,
) -> Result<()> {
    let short =
        |field: &str, text: &Option<String>| match text.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
            Some(text) if text.chars().count() > 60 => Err(StoreError::invalid(field, "Write 60 characters at most.")),
            other => Ok(other.map(str::to_owned)),
        };
    let carrier = short("carrier", &form.carrier)?;
    let consignment = short("consignment_number", &form.consignment_number)?;
    let freight = match form.freight.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        Some(typed) => {
            let freight = head.currency.parse(typed).map_err(|error| StoreError::decimal("freight", &error))?;
            if freight < Money::ZERO {
                return Err(StoreError::invalid("freight", "Freight is zero or more."));
            }
            Some(freight.0).filter(|minor| *minor > 0)
        }
        None => None,
    };
    sqlx::query!(
        "UPDATE shipments SET carrier = ?, consignment_number = ?, freight_minor = ? WHERE id = ?",
        carrier,
        consignment,
        freight,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let asked = sqlx::query!("SELECT order_line_id, asked_e4 FROM shipment_lines WHERE shipment_id = ?", id.0)
        .fetch_all(&mut **writing)
        .await?;
    sqlx::query!("DELETE FROM shipment_lines WHERE shipment_id = ?", id.0).execute(&mut **writing).await?;
    let open = propose(writing, order).await?;
    let mut position = 0_i64;
    for (at, line) in form.lines.iter().enumerate() {
        let field = format!("lines.{at}.quantity");
        let quantity: Quantity = line.quantity.parse().map_err(|error| StoreError::decimal(&field, &error))?;
        if quantity.is_zero() {
            continue;
        }
        let Some(known) = open.iter().find(|known| known.order_line == line.order_line) else {
            return Err(StoreError::invalid(
                format!("lines.{at}.order_line"),
                format!("This line is not on {}, or has nothing left to ship.", head.number),
            ));
        };
        if known.warehouse != warehouse {
            return Err(StoreError::invalid(
                format!("lines.{at}.order_line"),
                format!("{} lies in {}, this shipment leaves from {warehouse}. Make two.", known.code, known.warehouse),
            ));
        }
        if !quantity.is_positive() || quantity > known.most {
            let sentence = format!("{} of {} can still be shipped.", known.most, known.code);
            return Err(StoreError::Refused(one(Check::MoreThanOrdered, Step::Ship, field, sentence)));
        }
        let scaled = quantity.scaled();
        // What was to be picked stays beside what was.
        let first = asked
            .iter()
            .find(|before| before.order_line_id == line.order_line.0)
            .and_then(|before| before.asked_e4)
            .unwrap_or(scaled);
        let inserted = sqlx::query!(
            "INSERT INTO shipment_lines (shipment_id, position, order_line_id, quantity_e4, asked_e4) VALUES (?, ?, ?, ?, ?)
             ON CONFLICT DO NOTHING",
            id.0,
            position,
            line.order_line.0,
            scaled,
            first
        )
        .execute(&mut **writing)
        .await?;
        if inserted.rows_affected() == 0 {
            return Err(StoreError::invalid(
                format!("lines.{at}.order_line"),
                format!("{} stands on this shipment twice. Keep one line.", known.code),
            ));
        }
        position += 1;
    }
    if position == 0 {
        return Err(StoreError::invalid("lines", "Nothing is left on this shipment. Cancel it instead."));
    }
    Ok(())
}

struct Unposted {
    number: String,
    order: OrderId,
    state: String,
    warehouse: String,
    version: i64,
}

async fn unposted(connection: &mut SqliteConnection, id: ShipmentId, version: i64) -> Result<Unposted> {
    let row = sqlx::query!("SELECT number, order_id, state, warehouse, version FROM shipments WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    if row.version != version {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    if !matches!(row.state.as_str(), "picking" | "packed") {
        return Err(StoreError::WrongState(format!(
            "{} is {}. It does not change any more.",
            row.number,
            row.state.replace('_', " ")
        )));
    }
    Ok(Unposted {
        number: row.number,
        order: OrderId(row.order_id),
        state: row.state,
        warehouse: row.warehouse,
        version: row.version,
    })
}

/// A shipment as named fields, for the record.
async fn described(connection: &mut SqliteConnection, id: ShipmentId, currency: Currency) -> Result<Fields> {
    let head = sqlx::query!("SELECT carrier, consignment_number, freight_minor FROM shipments WHERE id = ?", id.0)
        .fetch_one(&mut *connection)
        .await?;
    let mut described = fields([
        ("carrier", head.carrier.unwrap_or_default()),
        ("tracking number", head.consignment_number.unwrap_or_default()),
        ("freight", head.freight_minor.map(|freight| currency.format(Money(freight))).unwrap_or_default()),
    ]);
    let lines = sqlx::query!(
        "SELECT order_lines.position, code, shipment_lines.quantity_e4 FROM shipment_lines
         JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id WHERE shipment_id = ?",
        id.0
    )
    .fetch_all(connection)
    .await?;
    described.extend(lines.into_iter().map(|line| {
        (format!("line {}, {}", line.position + 1, line.code), Quantity::from_scaled(line.quantity_e4).to_string())
    }));
    Ok(described)
}

/// Keeps what was picked, the carrier and the freight of a shipment that is not posted.
///
/// # Errors
/// [`StoreError::Stale`], a posted shipment, more than is left.
pub async fn save(writing: &mut Writing<'_>, id: ShipmentId, version: i64, form: &ShipmentForm) -> Result<i64> {
    let shipment = unposted(writing, id, version).await?;
    let head = order_head(writing, shipment.order).await?;
    let was = described(writing, id, head.currency).await?;
    write_form(writing, id, shipment.order, &shipment.warehouse, &head, form).await?;
    sqlx::query!("UPDATE shipments SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    let fields = differences(&was, &described(writing, id, head.currency).await?);
    let words = format!("changed {}", shipment.number);
    let version = shipment.version + 1;
    writing.note_on((DocumentKind::Shipment, id.0, &shipment.number), "shipment_changed", words, Some(version), fields);
    Ok(version)
}

/// Notes that everything picked is packed.
///
/// # Errors
/// [`StoreError::Stale`], one that is packed already.
pub async fn pack_up(writing: &mut Writing<'_>, rules: &Rules, id: ShipmentId, version: i64) -> Result<i64> {
    let shipment = unposted(writing, id, version).await?;
    if shipment.state == "packed" {
        return Err(StoreError::WrongState(format!("{} is packed already. Post it when it leaves.", shipment.number)));
    }
    sqlx::query!(
        "UPDATE shipments SET state = 'packed', packed_date = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let version = shipment.version + 1;
    let words = format!("packed {}", shipment.number);
    writing.note_on(
        (DocumentKind::Shipment, id.0, &shipment.number),
        "shipment_packed",
        words,
        Some(version),
        changed("state", Some("being picked"), Some("packed")),
    );
    Ok(version)
}

/// Drops a shipment that is not posted: its goods stay, its number is used up.
///
/// # Errors
/// [`StoreError::Stale`], a posted shipment.
pub async fn drop(writing: &mut Writing<'_>, id: ShipmentId, version: i64) -> Result<()> {
    let shipment = unposted(writing, id, version).await?;
    sqlx::query!("UPDATE shipments SET state = 'dropped', version = version + 1 WHERE id = ?", id.0)
        .execute(&mut **writing)
        .await?;
    let was = if shipment.state == "packed" { "packed" } else { "being picked" };
    let changes = changed("state", Some(was), Some("canceled"));
    let words = format!("canceled {}", shipment.number);
    let version = Some(shipment.version + 1);
    writing.note_on((DocumentKind::Shipment, id.0, &shipment.number), "shipment_dropped", words, version, changes);
    Ok(())
}

/// Picks and packs a shipment in one go, by the program: nothing leaves stock yet.
///
/// # Errors
/// Lines of another order, an order that is not confirmed, a quantity of zero or below.
pub async fn pack(writing: &mut Writing<'_>, new: &NewShipment) -> Result<ShipmentId> {
    let rules = rules::load(writing).await?;
    let form = ShipmentForm {
        carrier: new.carrier.clone(),
        consignment_number: new.consignment_number.clone(),
        lines: new
            .lines
            .iter()
            .map(|(line, quantity)| PickForm { order_line: *line, quantity: quantity.to_string() })
            .collect(),
        ..ShipmentForm::default()
    };
    if let Some((position, _)) = new.lines.iter().enumerate().find(|(_, (_, quantity))| !quantity.is_positive()) {
        return Err(StoreError::invalid(
            format!("lines.{position}.quantity"),
            "Pack more than nothing, or leave the line out.",
        ));
    }
    let id = start(writing, &rules, new.order, Some(&form)).await?;
    sqlx::query!("UPDATE shipments SET state = 'packed', packed_date = ? WHERE id = ?", new.packed_date, id.0)
        .execute(&mut **writing)
        .await?;
    Ok(id)
}
