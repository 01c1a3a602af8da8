//! Orders as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Step, at_step};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId, OrderLineId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_core::order::{Hanging, LineProgress, LineState, OrderState, Track};
use till_core::people::Role;
use till_core::pricing::PriceStep;
use till_core::tape::{Change, Tape};
use till_core::terms::Terms;

use super::form::{OrderForm, TypedAddress, form};
use super::{confirm_limits, confirmation, facts};
use crate::convert::{json, known};
use crate::customer_pages::AcceptedView;
use crate::rules::Rules;
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, rules};

/// Which orders to list.
#[derive(Debug, Clone, Default)]
pub struct OrderFilter {
    /// Only those in these states; empty for all.
    pub states: Vec<OrderState>,
    /// Words in number, customer, the customer's own number or a tag.
    pub search: Option<String>,
    /// Only of this customer.
    pub customer: Option<CustomerId>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// An order in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderRow {
    /// Its id.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The number the customer gave it.
    pub customer_order_number: Option<String>,
    /// When it came.
    pub order_date: NaiveDate,
    /// When it was promised for.
    pub promised_date: Option<NaiveDate>,
    /// Whether the promise has passed and something is still to ship.
    pub late: bool,
    /// Its state.
    pub state: OrderState,
    /// Whether something of it waits for approval.
    pub waits: bool,
    /// Its track.
    pub track: Track,
    /// Its tags.
    pub tags: Vec<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Net value as ordered, in its currency.
    pub net: Money,
    /// What of it is still to ship, at its share of the value.
    pub to_ship: Money,
}

/// A stretch of the order list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderList {
    /// The orders, newest first.
    pub orders: Vec<OrderRow>,
    /// How many fit the filter.
    pub count: i64,
}

/// What of the lines is still to ship, at its share of their value.
fn to_ship_value(lines: &[(OrderLineId, LineProgress)]) -> Money {
    lines.iter().map(|(_, progress)| progress.value.share(progress.to_ship().scaled(), progress.ordered.scaled())).sum()
}

/// Orders, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &OrderFilter) -> Result<OrderList> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let states = json(&filter.states.iter().map(|state| state.word()).collect::<Vec<_>>())?;
    let customer = filter.customer.map(|customer| customer.0);
    let tag = filter.search.as_deref().and_then(|text| text.trim().strip_prefix('#')).map(str::to_owned);
    let rows = sqlx::query!(
        r#"SELECT orders.id, orders.number, customer_id, name, customer_order_number, order_date AS "order_date: NaiveDate",
                  promised_date AS "promised_date: NaiveDate", state, tags, orders.currency,
                  (SELECT coalesce(sum(net_minor), 0) FROM order_lines WHERE order_id = orders.id) AS "net!: i64",
                  EXISTS (SELECT 1 FROM approvals WHERE document_kind = 'order' AND document_id = orders.id AND approvals.state = 'waiting') AS "waits!: bool"
           FROM orders JOIN customers ON customers.id = customer_id
           WHERE (json_array_length(?1) = 0 OR state IN (SELECT value FROM json_each(?1)))
             AND (?2 IS NULL OR orders.number LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\'
                  OR EXISTS (SELECT 1 FROM json_each(tags) WHERE value = ?6))
             AND (?3 IS NULL OR customer_id = ?3)
           ORDER BY orders.id DESC LIMIT ?4 OFFSET ?5"#,
        states,
        like,
        customer,
        filter.limit,
        filter.offset,
        tag
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!(
        r#"SELECT count(*) AS "count!: i64" FROM orders JOIN customers ON customers.id = customer_id
           WHERE (json_array_length(?1) = 0 OR state IN (SELECT value FROM json_each(?1)))
             AND (?2 IS NULL OR orders.number LIKE ?2 ESCAPE '\' OR name LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\'
                  OR EXISTS (SELECT 1 FROM json_each(tags) WHERE value = ?4))
             AND (?3 IS NULL OR customer_id = ?3)"#,
        states,
        like,
        customer,
        tag
    )
    .fetch_one(&mut *connection)
    .await?;
    let today = rules::load(connection).await?.business_date;
    let ids: Vec<OrderId> = rows.iter().map(|row| OrderId(row.id)).collect();
    let facts = facts(connection, &ids).await?;
    let orders = rows
        .into_iter()
        .zip(facts)
        .map(|(row, facts)| {
            let to_ship = to_ship_value(&facts.lines);
            let waiting = facts.lines.iter().any(|(_, progress)| progress.to_ship().is_positive());
            Ok(OrderRow {
                id: OrderId(row.id),
                number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                customer_order_number: row.customer_order_number,
                order_date: row.order_date,
                promised_date: row.promised_date,
                late: facts.confirmed && waiting && row.promised_date.is_some_and(|date| date < today),
                state: known(&row.state, OrderState::of)?,
                waits: row.waits,
                track: facts.track(),
                tags: tags(&row.tags)?,
                currency: facts.currency,
                net: Money(row.net),
                to_ship,
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(OrderList { orders, count })
}

fn tags(text: &str) -> Result<Vec<String>> {
    serde_json::from_str(text).map_err(|error| StoreError::Corrupt(error.to_string()))
}

/// A line of an order on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderLineView {
    /// Its id.
    pub id: OrderLineId,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// Where it lies.
    pub warehouse: String,
    /// How far it has come.
    #[serde(flatten)]
    pub progress: LineProgress,
    /// What is reserved for it.
    pub allocated: Quantity,
    /// What stands on shipments that are not posted.
    pub leaving: Quantity,
    /// What is back-ordered: a part has shipped, or stock is short.
    pub back_ordered: Quantity,
    /// When goods ordered in for it are to come.
    pub expected_on: Option<NaiveDate>,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// How it came about.
    pub price_steps: Vec<PriceStep>,
    /// Line discount.
    pub discount: Rate,
    /// Where it comes from.
    pub discount_reason: Option<String>,
    /// On top, per unit.
    pub surcharge: UnitPrice,
    /// Its tax code.
    pub tax_code: String,
    /// Why it is another than would come.
    pub tax_reason: Option<String>,
    /// Why a part was cancelled.
    pub cancel_reason: Option<String>,
}

/// An order on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: OrderRow,
    /// Its terms.
    pub terms: Terms,
    /// The same in words.
    pub terms_words: String,
    /// As typed: what a change starts from.
    pub form: OrderForm,
    /// Where it goes.
    pub goes_to: TypedAddress,
    /// The bill-to address.
    pub bill_to: TypedAddress,
    /// Who at the customer.
    pub contact_name: Option<String>,
    /// Its lines.
    pub lines: Vec<OrderLineView>,
    /// Its arithmetic as it stands.
    pub tape: Tape,
    /// What confirming it would change; nothing once it is confirmed.
    pub changes: Vec<Change>,
    /// What stands in the way of confirming a draft; of shipping an open order.
    pub blockers: Vec<Blocker>,
    /// Net and tax.
    pub total: Money,
    /// Gross of its lines on posted invoices.
    pub billed_gross: Money,
    /// What of it is paid.
    pub paid_gross: Money,
    /// What hangs on it: it closes by itself once nothing does.
    pub hanging: Vec<Hanging>,
    /// What can be shipped now, in lines.
    pub can_ship: i64,
    /// The quote it came from, the order it is a copy of, the call-off it takes from.
    pub from: Vec<DocumentRef>,
    /// Who accepted it on the customer page, and what is missing since.
    pub accepted: Option<AcceptedView>,
    /// What it led to.
    pub trail: Trail,
    /// Changes with every edit.
    pub version: i64,
}

/// One order, as a person of a role sees it.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: OrderId) -> Result<OrderView> {
    view_for(connection, id, None).await
}

/// One order; what stands in the way depends on what the role may confirm.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view_for(connection: &mut SqliteConnection, id: OrderId, role: Option<Role>) -> Result<OrderView> {
    let rules = rules::load(connection).await?;
    let head = sqlx::query!(
        r#"SELECT orders.number, orders.customer_id, customers.name, customer_order_number, order_date AS "order_date: NaiveDate",
                  promised_date AS "promised_date: NaiveDate", state, tags, orders.version, customers.address, customers.country,
                  coalesce(ship_name, ship_tos.name, customers.name) AS "ship_name!: String",
                  coalesce(ship_address, ship_tos.address, customers.address) AS "ship_address!: String",
                  coalesce(ship_country, ship_tos.country, customers.country) AS "ship_country!: String",
                  (SELECT name FROM contacts WHERE contacts.id = contact_id) AS contact_name,
                  (SELECT coalesce(sum(net_minor), 0) FROM order_lines WHERE order_id = orders.id) AS "net!: i64",
                  EXISTS (SELECT 1 FROM approvals WHERE document_kind = 'order' AND document_id = orders.id AND approvals.state = 'waiting') AS "waits!: bool"
           FROM orders JOIN customers ON customers.id = orders.customer_id LEFT JOIN ship_tos ON ship_tos.id = ship_to_id
           WHERE orders.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let facts = facts(connection, &[id]).await?.pop().ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let lines = lines(connection, id, &facts.lines).await?;
    let can_ship = super::super::shipments::propose(connection, id).await?;
    let can_ship = can_ship.iter().filter(|line| line.proposed.is_positive()).count();
    let settlement = till_core::order::settlement(id, &facts.invoices);
    let typed = form(connection, id).await?;
    let (tape, mut changes, mut blockers, total) = arithmetic(connection, &rules, id, role).await?;
    if facts.confirmed {
        changes.clear();
        blockers = at_step(&blockers, Step::Follow);
    }
    let to_ship = to_ship_value(&facts.lines);
    let waiting = facts.lines.iter().any(|(_, progress)| progress.to_ship().is_positive());
    Ok(OrderView {
        row: OrderRow {
            id,
            number: head.number,
            customer: CustomerId(head.customer_id),
            customer_name: head.name.clone(),
            customer_order_number: head.customer_order_number,
            order_date: head.order_date,
            promised_date: head.promised_date,
            late: facts.confirmed && waiting && head.promised_date.is_some_and(|date| date < rules.business_date),
            state: known(&head.state, OrderState::of)?,
            waits: head.waits,
            track: facts.track(),
            tags: tags(&head.tags)?,
            currency: facts.currency,
            net: Money(head.net),
            to_ship,
        },
        terms_words: facts.terms.words(),
        terms: facts.terms.clone(),
        form: typed,
        goes_to: TypedAddress { name: head.ship_name, address: head.ship_address, country: head.ship_country },
        bill_to: TypedAddress { name: head.name, address: head.address, country: head.country },
        contact_name: head.contact_name,
        lines,
        tape,
        changes,
        blockers,
        total,
        billed_gross: settlement.billed_gross,
        paid_gross: settlement.paid_gross,
        hanging: till_core::order::hanging(&facts),
        can_ship: if facts.confirmed { i64::try_from(can_ship).unwrap_or(0) } else { 0 },
        from: came_from(connection, id).await?,
        accepted: crate::customer_pages::accepted(connection, &rules, (Some(id), None)).await?,
        trail: trail(connection, DocumentKind::Order, id.0).await?,
        version: head.version,
    })
}

/// The tape of an order as it stands. An order of long ago may hold what could not be entered
/// today; it is shown all the same.
async fn arithmetic(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: OrderId,
    role: Option<Role>,
) -> Result<(Tape, Vec<Change>, Vec<Blocker>, Money)> {
    let limits = confirm_limits(connection, role).await?;
    let (_, decision) = confirmation(connection, rules, id, limits).await?;
    Ok((decision.tape, decision.changes, decision.blockers, decision.total))
}

async fn lines(
    connection: &mut SqliteConnection,
    id: OrderId,
    progress: &[(OrderLineId, LineProgress)],
) -> Result<Vec<OrderLineView>> {
    let rows = sqlx::query!(
        r#"SELECT order_lines.id, items.code, items.kind, description, order_lines.unit, order_lines.warehouse, allocated_e4, unit_price_e6,
                  discount_e6, discount_reason, order_lines.surcharge_e6, price_steps, order_lines.tax_code, tax_reason, cancel_reason,
                  stocked AS "stocked!: bool", work AS "work!: bool", leaving_e4 AS "leaving!: i64", state.drafted_e4 AS "drafted!: i64",
                  (SELECT min(expected_on) FROM expected_goods WHERE order_line_id = order_lines.id AND arrived_e4 < quantity_e4) AS "expected_on: NaiveDate"
           FROM order_lines JOIN items ON items.id = order_lines.item_id JOIN order_line_state AS state ON state.id = order_lines.id
           WHERE order_lines.order_id = ? ORDER BY order_lines.position"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .zip(progress)
        .map(|(row, (line, progress))| {
            let kind = known(&row.kind, ItemKind::of)?;
            let allocated = Quantity::from_scaled(row.allocated_e4);
            let state = LineState {
                progress: *progress,
                drafted: Quantity::from_scaled(row.drafted),
                reserved: allocated,
                leaving: Quantity::from_scaled(row.leaving),
                stocked: row.stocked,
                work: row.work,
            };
            Ok(OrderLineView {
                id: *line,
                code: row.code,
                kind,
                description: row.description,
                unit: row.unit,
                warehouse: row.warehouse,
                progress: *progress,
                allocated,
                leaving: state.leaving,
                back_ordered: state.back_ordered(),
                expected_on: row.expected_on,
                unit_price: UnitPrice::from_scaled(row.unit_price_e6),
                price_steps: serde_json::from_str(&row.price_steps)
                    .map_err(|error| StoreError::Corrupt(error.to_string()))?,
                discount: Rate::from_scaled(row.discount_e6),
                discount_reason: row.discount_reason,
                surcharge: UnitPrice::from_scaled(row.surcharge_e6),
                tax_code: row.tax_code,
                tax_reason: row.tax_reason,
                cancel_reason: row.cancel_reason,
            })
        })
        .collect()
}

async fn came_from(connection: &mut SqliteConnection, id: OrderId) -> Result<Vec<DocumentRef>> {
    let rows = sqlx::query!(
        r#"SELECT 'quote' AS "kind!: String", quotes.id AS "id!: i64", quotes.number AS "number!: String" FROM orders JOIN quotes ON quotes.id = quote_id WHERE orders.id = ?1
           UNION ALL SELECT 'order', copied.id, copied.number FROM orders JOIN orders AS copied ON copied.id = orders.copied_from_id WHERE orders.id = ?1
           UNION ALL SELECT 'call_off', call_offs.id, call_offs.number FROM orders JOIN call_offs ON call_offs.id = call_off_id WHERE orders.id = ?1"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| Ok(DocumentRef { kind: crate::convert::kind(&row.kind)?, id: row.id, number: row.number }))
        .collect()
}
