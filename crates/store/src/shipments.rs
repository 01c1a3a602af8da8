//! Shipments: packed, then posted.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{
    CustomerId, DocumentKind, DocumentRef, ItemId, LayerId, OrderId, OrderLineId, ShipmentId, ShipmentLineId,
};
use till_core::money::Money;
use till_core::order::LineProgress;
use till_core::shipment::{LineToShip, ShipmentDecision, ShipmentInput, decide, order_ref};
use till_core::stock::Layer;
use till_core::tape::{Change, Tape};

use crate::convert::json;
use crate::ledger::{self, PostedEntry};
use crate::rules::{Rules, next_number};
use crate::trail::{Trail, trail};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, orders, rules};

/// A shipment to pack.
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

/// Packs a shipment: nothing leaves stock yet, nothing can be billed.
///
/// # Errors
/// Lines of another order, an order that is not confirmed, a quantity of zero or below.
pub async fn pack(writing: &mut Writing<'_>, new: &NewShipment) -> Result<ShipmentId> {
    let order = sqlx::query!("SELECT number, customer_id, confirmed FROM orders WHERE id = ?", new.order.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, new.order))?;
    if order.confirmed == 0 {
        return Err(StoreError::WrongState(format!("{} is a draft. Confirm it before it ships.", order.number)));
    }
    if new.lines.is_empty() {
        return Err(StoreError::invalid("lines", "Nothing to pack. Give at least one line a quantity."));
    }
    let (number, _) = next_number(writing, "shipment").await?;
    let id = sqlx::query_scalar!(
        "INSERT INTO shipments (number, order_id, customer_id, state, packed_date, carrier, consignment_number)
         VALUES (?, ?, ?, 'packed', ?, ?, ?) RETURNING id AS \"id!\"",
        number,
        new.order.0,
        order.customer_id,
        new.packed_date,
        new.carrier,
        new.consignment_number
    )
    .fetch_one(&mut **writing)
    .await?;
    for (position, (line, quantity)) in (0_i64..).zip(&new.lines) {
        let owner = sqlx::query_scalar!("SELECT order_id FROM order_lines WHERE id = ?", line.0)
            .fetch_optional(&mut **writing)
            .await?;
        if owner != Some(new.order.0) {
            return Err(StoreError::invalid(
                format!("lines.{position}.order_line"),
                format!("This line is not on {}.", order.number),
            ));
        }
        if !quantity.is_positive() {
            return Err(StoreError::invalid(
                format!("lines.{position}.quantity"),
                "Pack more than nothing, or leave the line out.",
            ));
        }
        let scaled = quantity.scaled();
        sqlx::query!(
            "INSERT INTO shipment_lines (shipment_id, position, order_line_id, quantity_e4) VALUES (?, ?, ?, ?)",
            id,
            position,
            line.0,
            scaled
        )
        .execute(&mut **writing)
        .await?;
    }
    let fields = vec![set("order", &order.number), set("lines", new.lines.len())];
    writing.note_on(
        (DocumentKind::Shipment, id, &number),
        "shipment_packed",
        format!("packed {number}"),
        Some(1),
        fields,
    );
    Ok(ShipmentId(id))
}

struct Loaded {
    number: String,
    order: OrderId,
    version: i64,
    decision: ShipmentDecision,
    shipment_lines: Vec<i64>,
}

async fn decide_on(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ShipmentId,
    date: NaiveDate,
) -> Result<Loaded> {
    let head = sqlx::query!(
        r#"SELECT shipments.number, shipments.state, shipments.version, shipments.order_id, orders.number AS order_number,
                  order_date AS "order_date: NaiveDate", name, class, stop_reason
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE shipments.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    if head.state == "posted" {
        return Err(StoreError::WrongState(format!("{} is posted already.", head.number)));
    }
    let rows = sqlx::query!(
        "SELECT shipment_lines.id, order_line_id, quantity_e4, item_id, code, kind, class,
                ordered_e4, cancelled_e4, shipped_e4, order_lines.billed_e4, net_minor
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let items = json(&rows.iter().map(|row| row.item_id).collect::<Vec<_>>())?;
    let layers = sqlx::query!(
        "SELECT id, item_id, remaining_e4, remaining_cost_minor FROM stock_layers
         WHERE item_id IN (SELECT value FROM json_each(?)) AND remaining_e4 > 0 ORDER BY item_id, id",
        items
    )
    .fetch_all(connection)
    .await?;
    let mut stock: BTreeMap<ItemId, Vec<Layer>> = BTreeMap::new();
    for layer in layers {
        stock.entry(ItemId(layer.item_id)).or_default().push(Layer {
            id: LayerId(layer.id),
            remaining: Quantity::from_scaled(layer.remaining_e4),
            remaining_cost: Money(layer.remaining_cost_minor),
        });
    }
    let shipment_lines = rows.iter().map(|row| row.id).collect();
    let input = ShipmentInput {
        number: head.number.clone(),
        customer: head.name,
        customer_class: head.class,
        stop_reason: head.stop_reason,
        order: order_ref(head.order_id, &head.order_number),
        order_date: head.order_date,
        date,
        lines: rows
            .into_iter()
            .map(|row| LineToShip {
                order_line: OrderLineId(row.order_line_id),
                item: ItemId(row.item_id),
                code: row.code,
                class: row.class,
                stocked: row.kind == "goods",
                quantity: Quantity::from_scaled(row.quantity_e4),
                progress: LineProgress {
                    ordered: Quantity::from_scaled(row.ordered_e4),
                    cancelled: Quantity::from_scaled(row.cancelled_e4),
                    shipped: Quantity::from_scaled(row.shipped_e4),
                    billed: Quantity::from_scaled(row.billed_e4),
                    value: Money(row.net_minor),
                },
            })
            .collect(),
        stock,
        accounts: &rules.accounts,
        periods: &rules.periods,
        base: rules.base,
    };
    Ok(Loaded {
        number: head.number,
        order: OrderId(head.order_id),
        version: head.version,
        decision: decide(&input),
        shipment_lines,
    })
}

/// Posts a packed shipment: stock goes down, the cost entry is written, its lines are unbilled.
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
    let entry = match &loaded.decision.entry {
        Some(entry) => {
            let source = DocumentRef { kind: DocumentKind::Shipment, id: id.0, number: loaded.number.clone() };
            Some(ledger::write(writing, entry, &source).await?.0)
        }
        None => None,
    };
    for (line_id, line) in loaded.shipment_lines.iter().zip(&loaded.decision.lines) {
        let quantity = line.quantity.scaled();
        sqlx::query!(
            "UPDATE shipment_lines SET cost_minor = ?, unbilled_e4 = quantity_e4 WHERE id = ?",
            line.cost.0,
            line_id
        )
        .execute(&mut **writing)
        .await?;
        sqlx::query!("UPDATE order_lines SET shipped_e4 = shipped_e4 + ? WHERE id = ?", quantity, line.order_line.0)
            .execute(&mut **writing)
            .await?;
        for issue in &line.issues {
            let taken = issue.quantity.scaled();
            sqlx::query!(
                "UPDATE stock_layers SET remaining_e4 = remaining_e4 - ?, remaining_cost_minor = remaining_cost_minor - ? WHERE id = ?",
                taken, issue.cost.0, issue.layer.0
            )
            .execute(&mut **writing)
            .await?;
            sqlx::query!(
                "INSERT INTO stock_issues (shipment_line_id, layer_id, quantity_e4, cost_minor) VALUES (?, ?, ?, ?)",
                line_id,
                issue.layer.0,
                taken,
                issue.cost.0
            )
            .execute(&mut **writing)
            .await?;
        }
    }
    sqlx::query!(
        "UPDATE shipments SET state = 'posted', posting_date = ?, entry_id = ?, version = version + 1 WHERE id = ?",
        date,
        entry,
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
        vec![set("posting date", date)],
    );
    Ok(id)
}

/// A shipment in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentRow {
    /// Its id.
    pub id: ShipmentId,
    /// Its number.
    pub number: String,
    /// The order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// When it was packed.
    pub packed_date: NaiveDate,
    /// When it was posted, if it was.
    pub posting_date: Option<NaiveDate>,
    /// Who carries it.
    pub carrier: Option<String>,
    /// Whether something of it is not billed.
    pub unbilled: bool,
    /// Words for what is on it.
    pub what: String,
}

/// A stretch of the shipment list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentList {
    /// The shipments: packed ones first, then newest first.
    pub shipments: Vec<ShipmentRow>,
    /// How many fit the filter.
    pub count: i64,
}

/// Shipments: packed ones first, then newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    search: Option<&str>,
    only_packed: bool,
    limit: i64,
    offset: i64,
) -> Result<ShipmentList> {
    let like = search.map(crate::find::pattern);
    let rows = sqlx::query!(
        r#"SELECT shipments.id, shipments.number, order_id, orders.number AS order_number, shipments.customer_id, name,
                  packed_date AS "packed_date: NaiveDate", posting_date AS "posting_date: NaiveDate", carrier,
                  EXISTS (SELECT 1 FROM shipment_lines WHERE shipment_id = shipments.id AND unbilled_e4 + drafted_e4 > 0) AS "unbilled!: bool",
                  (SELECT description FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id
                   WHERE shipment_id = shipments.id ORDER BY shipment_lines.position LIMIT 1) AS "first!: String",
                  (SELECT count(*) - 1 FROM shipment_lines WHERE shipment_id = shipments.id) AS "more!: i64"
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE (?1 IS NULL OR shipments.number LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR shipments.state = 'packed')
           ORDER BY shipments.state = 'posted', shipments.id DESC LIMIT ?3 OFFSET ?4"#,
        like, only_packed, limit, offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE (?1 IS NULL OR shipments.number LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (NOT ?2 OR shipments.state = 'packed')"#,
        like, only_packed
    )
    .fetch_one(connection)
    .await?;
    let shipments = rows
        .into_iter()
        .map(|row| ShipmentRow {
            id: ShipmentId(row.id),
            number: row.number,
            order: OrderId(row.order_id),
            order_number: row.order_number,
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            packed_date: row.packed_date,
            posting_date: row.posting_date,
            carrier: row.carrier,
            unbilled: row.unbilled,
            what: and_more(&row.first, row.more),
        })
        .collect();
    Ok(ShipmentList { shipments, count })
}

/// “Smoker, 2 more lines”.
pub(crate) fn and_more(first: &str, more: i64) -> String {
    match more {
        ..=0 => first.to_owned(),
        1 => format!("{first}, 1 more line"),
        _ => format!("{first}, {more} more lines"),
    }
}

/// A line of a shipment on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentLineView {
    /// Its id.
    pub id: ShipmentLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// What leaves.
    pub quantity: Quantity,
    /// What of it stands on drafts.
    pub on_draft: Quantity,
    /// What of it is billed.
    pub billed: Quantity,
    /// What it cost, in base currency.
    pub cost: Money,
}

/// A shipment on screen: what posting would do, or what it did.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: ShipmentRow,
    /// The carrier's number for it.
    pub consignment_number: Option<String>,
    /// Its lines.
    pub lines: Vec<ShipmentLineView>,
    /// The arithmetic, while it is not posted.
    pub tape: Option<Tape>,
    /// The entry it would write.
    pub entry: Option<Entry>,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
    /// What posting would change.
    pub changes: Vec<Change>,
    /// What stands in the way of posting.
    pub blockers: Vec<Blocker>,
    /// Where it came from and led to.
    pub trail: Trail,
    /// Changes with every edit.
    pub version: i64,
}

/// One shipment.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: ShipmentId) -> Result<ShipmentView> {
    let head = sqlx::query!(
        r#"SELECT shipments.number, order_id, orders.number AS order_number, shipments.customer_id, name, shipments.version,
                  packed_date AS "packed_date: NaiveDate", posting_date AS "posting_date: NaiveDate", carrier, consignment_number
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE shipments.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    let rows = sqlx::query!(
        "SELECT shipment_lines.id, code, description, unit, quantity_e4, drafted_e4, shipment_lines.billed_e4, cost_minor
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines: Vec<ShipmentLineView> = rows
        .into_iter()
        .map(|row| ShipmentLineView {
            id: ShipmentLineId(row.id),
            code: row.code,
            description: row.description,
            unit: row.unit,
            quantity: Quantity::from_scaled(row.quantity_e4),
            on_draft: Quantity::from_scaled(row.drafted_e4),
            billed: Quantity::from_scaled(row.billed_e4),
            cost: Money(row.cost_minor),
        })
        .collect();
    let decision = if head.posting_date.is_none() {
        let rules = rules::load(connection).await?;
        Some(decide_on(connection, &rules, id, rules.business_date).await?.decision)
    } else {
        None
    };
    let first = lines.first().map(|line| line.description.clone()).unwrap_or_default();
    let more = i64::try_from(lines.len()).unwrap_or(1) - 1;
    let (tape, entry, changes, blockers) = decision.map_or_else(Default::default, |decision| {
        (Some(decision.tape), decision.entry, decision.changes, decision.blockers)
    });
    Ok(ShipmentView {
        row: ShipmentRow {
            id,
            number: head.number,
            order: OrderId(head.order_id),
            order_number: head.order_number,
            customer: CustomerId(head.customer_id),
            customer_name: head.name,
            packed_date: head.packed_date,
            posting_date: head.posting_date,
            carrier: head.carrier,
            unbilled: lines.iter().any(|line| line.billed < line.quantity) && head.posting_date.is_some(),
            what: and_more(&first, more),
        },
        consignment_number: head.consignment_number,
        lines,
        tape,
        entry,
        entries: ledger::entries_of(connection, DocumentKind::Shipment, id.0).await?,
        changes,
        blockers,
        trail: trail(connection, DocumentKind::Shipment, id.0).await?,
        version: head.version,
    })
}
