//! Returns in their list, on the day sheet, and what waits for inspection.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::day_sheet::ReturnedFacts;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, ReturnId, ShipmentId};
use till_core::money::Money;
use till_core::returns::{NextStep, Progress, ReturnState, is_live, next_step, state};

use super::holding::StateRow;
use crate::Result;
use crate::convert::json;
use crate::rules::Rules;

/// A return in the list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnRow {
    /// Its id.
    pub id: ReturnId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// What the customer calls it.
    pub reference: Option<String>,
    /// When it was authorized.
    pub authorized_on: NaiveDate,
    /// Days since.
    pub days: i64,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// When it was closed, where it was.
    pub closed_on: Option<NaiveDate>,
    /// Where it is to arrive.
    pub warehouse: String,
    /// What it is about: the codes of its items.
    pub items: String,
    /// Numbers of the invoices and shipments it points at; empty where it points at none.
    pub documents: String,
    /// How far it is, all lines together, in the units they were sold in.
    pub progress: Progress,
    /// Whether something waits for inspection.
    pub waiting: bool,
    /// What waits for inspection, at cost, in base currency.
    pub waiting_cost: Money,
    /// The state it is in.
    pub state: ReturnState,
    /// What it still needs.
    pub next: NextStep,
}

/// Which returns to list.
#[derive(Debug, Clone, Default)]
pub struct ReturnFilter<'a> {
    /// Words of the number, the customer, the reference, an item or an invoice.
    pub search: Option<&'a str>,
    /// Only those that still need something.
    pub only_open: bool,
    /// Of one customer.
    pub customer: Option<CustomerId>,
    /// That point at one invoice.
    pub invoice: Option<InvoiceId>,
    /// Of goods of one shipment, billed or not.
    pub shipment: Option<ShipmentId>,
}

/// A stretch of the list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnList {
    /// The returns, newest first.
    pub returns: Vec<ReturnRow>,
    /// How many fit the filter.
    pub count: i64,
}

struct LineOf {
    row: StateRow,
    waiting: bool,
    waiting_cost: Money,
}

async fn lines_of(connection: &mut SqliteConnection, ids: &[i64]) -> Result<BTreeMap<i64, Vec<LineOf>>> {
    let ids = json(&ids)?;
    let rows = sqlx::query!(
        r#"SELECT return_id, authorized_e4, received_e4 AS "received!: i64", sent_back_e4 AS "sent_back!: i64",
                  replaced_e4 AS "replaced!: i64", credited_e4 AS "credited!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", given_back_e4 AS "given_back!: i64", kept_e4 AS "kept!: i64",
                  waiting_e4 AS "waiting!: i64", waiting_cost_minor AS "cost!: i64"
           FROM return_line_state WHERE return_id IN (SELECT value FROM json_each(?)) ORDER BY return_id, position"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut lines: BTreeMap<i64, Vec<LineOf>> = BTreeMap::new();
    for row in rows {
        lines.entry(row.return_id).or_default().push(LineOf {
            row: StateRow {
                authorized_e4: row.authorized_e4,
                received_e4: row.received,
                sent_back_e4: row.sent_back,
                replaced_e4: row.replaced,
                credited_e4: row.credited,
                for_repair_e4: row.for_repair,
                repaired_e4: row.repaired,
                given_back_e4: row.given_back,
                kept_e4: row.kept,
            },
            waiting: row.waiting > 0,
            waiting_cost: Money(row.cost),
        });
    }
    Ok(lines)
}

fn together(lines: &[Progress]) -> Progress {
    let sum = |of: fn(&Progress) -> Quantity| Quantity::from_scaled(lines.iter().map(|line| of(line).scaled()).sum());
    Progress {
        authorized: sum(|line| line.authorized),
        received: sum(|line| line.received),
        sent_back: sum(|line| line.sent_back),
        replaced: sum(|line| line.replaced),
        credited: sum(|line| line.credited),
        given_back: sum(|line| line.given_back),
        kept: sum(|line| line.kept),
        for_repair: sum(|line| line.for_repair),
        repaired: sum(|line| line.repaired),
    }
}

/// Returns, newest first; what needs something, the longest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &ReturnFilter<'_>,
    (limit, offset): (i64, i64),
) -> Result<ReturnList> {
    let like = filter.search.map(crate::find::pattern);
    let (customer, invoice) = (filter.customer.map(|id| id.0), filter.invoice.map(|id| id.0));
    let shipment = filter.shipment.map(|id| id.0);
    // What is open follows from what is expected, waits or is to be settled: as the core's `next_step` has it.
    let rows = sqlx::query!(
        r#"SELECT returns.id AS "id!", returns.number AS "number!", returns.customer_id AS "customer_id!", name AS "name!", reference, authorized_on AS "authorized_on: NaiveDate",
                  expires_on AS "expires_on: NaiveDate", closed_on AS "closed_on: NaiveDate", returns.warehouse,
                  (SELECT group_concat(code, ', ') FROM return_lines JOIN items ON items.id = item_id WHERE return_id = returns.id) AS "items!: String",
                  coalesce((SELECT group_concat(DISTINCT origin.number) FROM return_origins AS origin WHERE origin.return_id = returns.id), '') AS "documents!: String",
                  count(*) OVER () AS "count!: i64"
           FROM returns JOIN customers ON customers.id = customer_id
           WHERE (?1 IS NULL OR returns.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\' OR EXISTS (
                    SELECT 1 FROM return_origins AS origin
                    WHERE origin.return_id = returns.id AND (origin.code LIKE ?1 ESCAPE '\' OR origin.number LIKE ?1 ESCAPE '\')))
             AND (?2 IS NULL OR returns.customer_id = ?2)
             AND (?3 IS NULL OR EXISTS (SELECT 1 FROM return_lines JOIN document_lines ON document_lines.id = document_line_id
                                        WHERE return_id = returns.id AND document_id = ?3))
             AND (?8 IS NULL OR EXISTS (SELECT 1 FROM return_origins AS origin JOIN shipment_lines ON shipment_lines.id = origin.shipment_line_id
                                        WHERE origin.return_id = returns.id AND shipment_id = ?8))
             AND (NOT ?4 OR EXISTS (
                    SELECT 1 FROM return_line_state AS line WHERE line.return_id = returns.id
                      AND (waiting_e4 > 0 OR received_e4 - sent_back_e4 - replaced_e4 - credited_e4 - given_back_e4 > 0
                           OR for_repair_e4 > repaired_e4 + kept_e4
                           OR (closed_on IS NULL AND expires_on >= ?5 AND authorized_e4 > received_e4 + for_repair_e4 - kept_e4))))
           ORDER BY CASE WHEN ?4 THEN returns.sequence ELSE -returns.sequence END LIMIT ?6 OFFSET ?7"#,
        like,
        customer,
        invoice,
        filter.only_open,
        rules.business_date,
        limit,
        offset,
        shipment
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = rows.first().map_or(0, |row| row.count);
    let ids: Vec<i64> = rows.iter().map(|row| row.id).collect();
    let mut lines = lines_of(connection, &ids).await?;
    let returns = rows
        .into_iter()
        .map(|row| {
            let of = lines.remove(&row.id).unwrap_or_default();
            let progress: Vec<Progress> = of.iter().map(|line| line.row.progress()).collect();
            let waiting = of.iter().any(|line| line.waiting);
            let next = next_step(&progress, waiting, is_live(row.closed_on, row.expires_on, rules.business_date));
            ReturnRow {
                id: ReturnId(row.id),
                number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                reference: row.reference,
                authorized_on: row.authorized_on,
                days: (rules.business_date - row.authorized_on).num_days(),
                expires_on: row.expires_on,
                closed_on: row.closed_on,
                warehouse: row.warehouse,
                items: row.items,
                documents: row.documents.replace(',', ", "),
                waiting,
                waiting_cost: of.iter().map(|line| line.waiting_cost).sum(),
                state: state(&progress, next, row.closed_on.is_some()),
                progress: together(&progress),
                next,
            }
        })
        .collect();
    Ok(ReturnList { returns, count })
}

/// Returns of which something is back and not decided on, for the day sheet.
pub(crate) async fn of_day_sheet(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<ReturnedFacts>> {
    let filter = ReturnFilter { only_open: true, ..ReturnFilter::default() };
    let open = list(connection, rules, &filter, (1_000, 0)).await?;
    Ok(open
        .returns
        .into_iter()
        .filter(|row| matches!(row.next, NextStep::Inspect | NextStep::Settle | NextStep::Repair))
        .map(|row| ReturnedFacts {
            returned: DocumentRef { kind: DocumentKind::Return, id: row.id.0, number: row.number },
            name: row.customer_name,
            items: row.items,
            needs: row.next,
            cost: row.waiting_cost,
            since: row.authorized_on,
        })
        .collect())
}

/// Goods that wait for inspection.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WaitingRow {
    /// Where.
    pub warehouse: String,
    /// The return.
    pub id: ReturnId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer_name: String,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub name: String,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// The unit stock is kept in.
    pub unit: String,
    /// At cost, in base currency.
    pub cost: Money,
    /// Since when.
    pub since: NaiveDate,
    /// Days since.
    pub days: i64,
}

/// Everything that waits for inspection, by place, the longest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn waiting(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<WaitingRow>> {
    Ok(sqlx::query!(
        r#"SELECT inspection_layers.warehouse AS "warehouse!", returns.id AS "id!", returns.number AS "number!", customers.name AS "customer!", code AS "code!",
                  items.name AS "name!", sum(remaining_e4) AS "quantity!: i64", items.unit AS "unit!", sum(remaining_cost_minor) AS "cost!: i64",
                  min(inspection_layers.posting_date) AS "since!: NaiveDate"
           FROM inspection_layers JOIN return_lines ON return_lines.id = return_line_id JOIN returns ON returns.id = return_id
           JOIN customers ON customers.id = customer_id JOIN items ON items.id = inspection_layers.item_id
           WHERE remaining_e4 > 0 GROUP BY return_line_id ORDER BY inspection_layers.warehouse, min(inspection_layers.posting_date), returns.id"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| WaitingRow {
        warehouse: row.warehouse,
        id: ReturnId(row.id),
        number: row.number,
        customer_name: row.customer,
        code: row.code,
        name: row.name,
        quantity: Quantity::from_scaled(row.quantity),
        unit: row.unit,
        cost: Money(row.cost),
        since: row.since,
        days: (rules.business_date - row.since).num_days(),
    })
    .collect())
}
