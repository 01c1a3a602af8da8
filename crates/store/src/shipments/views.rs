//! Shipments as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::Blocker;
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_core::tape::{Change, Tape};

use super::decide_on;
use crate::convert::{currency, known};
use crate::ledger::{self, PostedEntry};
use crate::orders::TypedAddress;
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, rules};

/// Where a shipment stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum ShipmentState {
    /// On a pick list.
    Picking,
    /// Ready to leave.
    Packed,
    /// Gone.
    Posted,
    /// Gone, and taken back.
    TakenBack,
    /// Never left.
    Dropped,
}

impl ShipmentState {
    fn of(word: &str) -> Option<Self> {
        match word {
            "picking" => Some(Self::Picking),
            "packed" => Some(Self::Packed),
            "posted" => Some(Self::Posted),
            "taken_back" => Some(Self::TakenBack),
            "dropped" => Some(Self::Dropped),
            _ => None,
        }
    }
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
    /// Where it stands.
    pub state: ShipmentState,
    /// Where it leaves from.
    pub warehouse: String,
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

/// Which shipments to list.
#[derive(Debug, Clone, Default)]
pub struct ShipmentFilter {
    /// Words in number, order or customer.
    pub search: Option<String>,
    /// Only in this state; none for all that were not dropped.
    pub state: Option<String>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// Shipments: those on their way out first, then newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &ShipmentFilter) -> Result<ShipmentList> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let state = filter.state.as_deref();
    let rows = sqlx::query!(
        r#"SELECT shipments.id, shipments.number, order_id, orders.number AS order_number, shipments.customer_id, name,
                  packed_date AS "packed_date: NaiveDate", posting_date AS "posting_date: NaiveDate", shipments.carrier,
                  shipments.state, shipments.warehouse,
                  EXISTS (SELECT 1 FROM shipment_lines WHERE shipment_id = shipments.id AND unbilled_e4 + drafted_e4 > 0) AS "unbilled!: bool",
                  (SELECT description FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id
                   WHERE shipment_id = shipments.id ORDER BY shipment_lines.position LIMIT 1) AS "first!: String",
                  (SELECT count(*) - 1 FROM shipment_lines WHERE shipment_id = shipments.id) AS "more!: i64"
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE (?1 IS NULL OR shipments.number LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR customer_order_number LIKE ?1 ESCAPE '\' OR outside_number LIKE ?1 ESCAPE '\')
             AND ((?2 IS NULL AND shipments.state <> 'dropped') OR shipments.state = ?2)
           ORDER BY shipments.state NOT IN ('picking', 'packed'), shipments.id DESC LIMIT ?3 OFFSET ?4"#,
        like, state, filter.limit, filter.offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           WHERE (?1 IS NULL OR shipments.number LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR customer_order_number LIKE ?1 ESCAPE '\' OR outside_number LIKE ?1 ESCAPE '\')
             AND ((?2 IS NULL AND shipments.state <> 'dropped') OR shipments.state = ?2)"#,
        like, state
    )
    .fetch_one(connection)
    .await?;
    let shipments = rows
        .into_iter()
        .map(|row| {
            Ok(ShipmentRow {
                state: known(&row.state, ShipmentState::of)?,
                warehouse: row.warehouse,
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
        })
        .collect::<Result<Vec<_>>>()?;
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

/// When and why a shipment was taken back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TakenBack {
    /// The posting date of the taking back.
    pub date: NaiveDate,
    /// Why.
    pub reason: String,
}

/// A line of a shipment on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipmentLineView {
    /// Its id.
    pub id: ShipmentLineId,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// What was to be picked.
    pub asked: Quantity,
    /// What leaves.
    pub quantity: Quantity,
    /// Left to ship on the order, this shipment included while it is not posted.
    pub to_ship: Quantity,
    /// Ordered.
    pub ordered: Quantity,
    /// What is still to come once this shipment has gone.
    pub to_come: Quantity,
    /// What of it stands on drafts.
    pub on_draft: Quantity,
    /// What of it is billed.
    pub billed: Quantity,
    /// What of it came back before it was billed.
    pub returned: Quantity,
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
    /// Freight to charge.
    pub freight: Option<Money>,
    /// Currency of the freight.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The number the customer gave the order.
    pub customer_order_number: Option<String>,
    /// Where it goes.
    pub ship_to: TypedAddress,
    /// Delivery terms with their place.
    pub delivery_terms: Option<String>,
    /// What the order says to the customer.
    pub note: Option<String>,
    /// When and why it was taken back.
    pub taken_back: Option<TakenBack>,
    /// The number it has where the warehouse works elsewhere.
    pub outside_number: Option<String>,
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
        r#"SELECT shipments.number, order_id, orders.number AS order_number, shipments.customer_id, customers.name, shipments.version,
                  packed_date AS "packed_date: NaiveDate", posting_date AS "posting_date: NaiveDate", shipments.carrier, consignment_number,
                  shipments.state, shipments.warehouse, freight_minor, orders.currency, orders.customer_order_number, orders.note,
                  orders.delivery_terms, orders.delivery_place, taken_back_date AS "taken_back_date: NaiveDate", taken_back_reason, outside_number,
                  coalesce(shipments.ship_name, orders.ship_name, ship_tos.name, customers.name) AS "ship_name!: String",
                  coalesce(shipments.ship_address, orders.ship_address, ship_tos.address, customers.address) AS "ship_address!: String",
                  coalesce(shipments.ship_country, orders.ship_country, ship_tos.country, customers.country) AS "ship_country!: String"
           FROM shipments JOIN orders ON orders.id = order_id JOIN customers ON customers.id = shipments.customer_id
           LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id
           WHERE shipments.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Shipment, id))?;
    let rows = sqlx::query!(
        "SELECT shipment_lines.id, order_line_id, items.code, items.kind, description, order_lines.unit, quantity_e4, shipment_lines.drafted_e4, shipment_lines.billed_e4, returned_e4,
                cost_minor, asked_e4, order_lines.ordered_e4, to_ship_e4 AS \"to_ship!: i64\"
         FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN order_line_state ON order_line_state.id = order_lines.id JOIN items ON items.id = order_lines.item_id
         WHERE shipment_id = ? ORDER BY shipment_lines.position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let state = known(&head.state, ShipmentState::of)?;
    let unposted = matches!(state, ShipmentState::Picking | ShipmentState::Packed);
    let lines: Vec<ShipmentLineView> = rows
        .into_iter()
        .map(|row| {
            Ok(ShipmentLineView {
                id: ShipmentLineId(row.id),
                order_line: OrderLineId(row.order_line_id),
                kind: known(&row.kind, ItemKind::of)?,
                asked: Quantity::from_scaled(row.asked_e4.unwrap_or(row.quantity_e4)),
                to_ship: Quantity::from_scaled(row.to_ship),
                ordered: Quantity::from_scaled(row.ordered_e4),
                to_come: Quantity::from_scaled(if unposted {
                    (row.to_ship - row.quantity_e4).max(0)
                } else {
                    row.to_ship
                }),
                code: row.code,
                description: row.description,
                unit: row.unit,
                quantity: Quantity::from_scaled(row.quantity_e4),
                on_draft: Quantity::from_scaled(row.drafted_e4),
                billed: Quantity::from_scaled(row.billed_e4),
                returned: Quantity::from_scaled(row.returned_e4),
                cost: Money(row.cost_minor),
            })
        })
        .collect::<Result<_>>()?;
    let decision = if unposted {
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
            state,
            warehouse: head.warehouse,
            carrier: head.carrier,
            unbilled: lines.iter().any(|line| line.billed < line.quantity) && state == ShipmentState::Posted,
            what: and_more(&first, more),
        },
        consignment_number: head.consignment_number,
        freight: head.freight_minor.map(Money),
        currency: currency(&head.currency)?,
        customer_order_number: head.customer_order_number,
        ship_to: TypedAddress { name: head.ship_name, address: head.ship_address, country: head.ship_country },
        delivery_terms: head
            .delivery_terms
            .map(|terms| format!("{terms} {}", head.delivery_place.as_deref().unwrap_or("")).trim().to_owned()),
        note: head.note,
        taken_back: head.taken_back_date.zip(head.taken_back_reason).map(|(date, reason)| TakenBack { date, reason }),
        outside_number: head.outside_number,
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
