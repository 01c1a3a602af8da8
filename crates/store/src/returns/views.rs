//! Returns as they are shown.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::day_sheet::ReturnedFacts;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentLineId, DocumentRef, InvoiceId, ItemId, ReturnId, ReturnLineId, ReturnStepId,
    ShipmentId,
};
use till_core::money::{Currency, Money};
use till_core::returns::{NextStep, Progress, ReturnOutcome, ReturnState, is_live, next_step, state};

use super::facts::StateRow;
use super::pictures::{self, PictureView};
use crate::convert::{currency, json, known};
use crate::deliveries::{self, DeliveryRow};
use crate::invoices::Party;
use crate::ledger::{self, PostedEntry};
use crate::rules::Rules;
use crate::trail::{Trail, trail};
use crate::{Result, StoreError};

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

/// A line of a return.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnLineView {
    /// Its id.
    pub id: ReturnLineId,
    /// The line it was billed on; none where it was not billed, or no document is known.
    pub billed_on: Option<DocumentLineId>,
    /// Whether it left with a shipment and is not billed: its order has it to ship again once it is back.
    pub unbilled: bool,
    /// The position on its document, from zero.
    pub position: Option<i64>,
    /// Its invoice, or its shipment; none where no document is known.
    pub document: Option<DocumentRef>,
    /// The price for one it is credited at where no document is known, in the return's currency.
    pub unit_price: Option<UnitPrice>,
    /// What one cost, in base currency, where someone said so.
    pub unit_cost: Option<Money>,
    /// Why it cost that.
    pub cost_reason: Option<String>,
    /// The item.
    pub item: ItemId,
    /// The item's code.
    pub code: String,
    /// What it is.
    pub description: String,
    /// The code of what was billed, where this went in its place by mistake.
    pub in_place_of: Option<String>,
    /// The unit it was sold in.
    pub unit: String,
    /// The unit stock is kept in.
    pub stock_unit: String,
    /// How many stock units one is.
    pub factor: Quantity,
    /// Why it comes back: the code of the reason.
    pub reason: String,
    /// Its name.
    pub reason_name: String,
    /// What is planned to become of it.
    pub disposition: Option<String>,
    /// How far it is.
    pub progress: Progress,
    /// What is still to arrive.
    pub expected: Quantity,
    /// What came back and is neither credited, replaced nor sent back.
    pub to_settle: Quantity,
    /// What is in for repair.
    pub in_repair: Quantity,
    /// What waits for inspection, in stock units.
    pub waiting: Quantity,
    /// The same at cost, in base currency.
    pub waiting_cost: Money,
}

/// A quantity of a step.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnStepLineView {
    /// The line of the return.
    pub line: ReturnLineId,
    /// The item's code.
    pub code: String,
    /// How much, in stock units.
    pub stock: Quantity,
    /// The unit stock is kept in.
    pub unit: String,
    /// Its cost, in base currency.
    pub cost: Money,
    /// The name of the disposition, where it was inspected.
    pub disposition: Option<String>,
    /// What became of it.
    pub outcome: Option<ReturnOutcome>,
    /// What the supplier is to credit, in base currency.
    pub claim: Money,
}

/// Something that was done with the goods.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnStepView {
    /// The step.
    pub id: ReturnStepId,
    /// `received`, `inspected`, `replaced`, `swapped`, `for_repair`, `repaired` or `kept`.
    pub kind: String,
    /// When.
    pub date: NaiveDate,
    /// What was found.
    pub note: Option<String>,
    /// When it was reversed, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// Why.
    pub reversal_reason: Option<String>,
    /// How much of what.
    pub lines: Vec<ReturnStepLineView>,
}

/// What credits goods that came back on the return: a credit memo, or the invoice of an exchange.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnCreditView {
    /// The credit memo, or the invoice.
    pub document: DocumentRef,
    /// Its date.
    pub date: NaiveDate,
    /// What is left to credit of it with tax, in its currency; below zero where something is to pay.
    pub total: Money,
}

/// A return on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnView {
    /// Its id.
    pub id: ReturnId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: Party,
    /// What the customer calls it.
    pub reference: Option<String>,
    /// Anything to remember of it.
    pub note: Option<String>,
    /// When it was authorized.
    pub authorized_on: NaiveDate,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// When it was closed, where it was.
    pub closed_on: Option<NaiveDate>,
    /// Why.
    pub closed_reason: Option<String>,
    /// Where it is to arrive: the code of the warehouse.
    pub warehouse: String,
    /// Its name.
    pub warehouse_name: String,
    /// The currency of its invoices.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whether goods may still arrive.
    pub live: bool,
    /// The state it is in.
    pub state: ReturnState,
    /// What it still needs.
    pub next: NextStep,
    /// Its lines.
    pub lines: Vec<ReturnLineView>,
    /// What was done with the goods.
    pub steps: Vec<ReturnStepView>,
    /// Its pictures, oldest first.
    pub pictures: Vec<PictureView>,
    /// How its slip goes, or went, to the customer.
    pub deliveries: Vec<DeliveryRow>,
    /// Credit memos over goods that came back on it.
    pub credits: Vec<ReturnCreditView>,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
    /// Where it came from and led to.
    pub trail: Trail,
    /// To be sent back with what is changed.
    pub version: i64,
}

/// One return.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, rules: &Rules, id: ReturnId) -> Result<ReturnView> {
    let row = sqlx::query!(
        r#"SELECT returns.number, customers.id AS customer, customers.number AS customer_number, customers.name, customers.address AS "address!",
                  customers.tax_id, reference, note, authorized_on AS "authorized_on: NaiveDate", expires_on AS "expires_on: NaiveDate",
                  closed_on AS "closed_on: NaiveDate", closed_reason, returns.warehouse, warehouses.name AS warehouse_name, returns.currency,
                  returns.version
           FROM returns JOIN customers ON customers.id = customer_id JOIN warehouses ON warehouses.code = returns.warehouse
           WHERE returns.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, id))?;
    let live = is_live(row.closed_on, row.expires_on, rules.business_date);
    let lines = lines(connection, id, live).await?;
    let progress: Vec<Progress> = lines.iter().map(|line| line.progress).collect();
    let waiting = lines.iter().any(|line| line.waiting.is_positive());
    let next = next_step(&progress, waiting, live);
    Ok(ReturnView {
        id,
        customer: Party {
            id: CustomerId(row.customer),
            number: row.customer_number,
            name: row.name,
            address: row.address,
            tax_id: row.tax_id,
        },
        reference: row.reference,
        note: row.note,
        authorized_on: row.authorized_on,
        expires_on: row.expires_on,
        closed_on: row.closed_on,
        closed_reason: row.closed_reason,
        warehouse: row.warehouse,
        warehouse_name: row.warehouse_name,
        currency: currency(&row.currency)?,
        live,
        state: state(&progress, next, row.closed_on.is_some()),
        next,
        steps: steps(connection, id).await?,
        pictures: pictures::of_return(connection, id).await?,
        deliveries: deliveries::of_return(connection, id).await?,
        credits: credits(connection, id).await?,
        entries: ledger::entries_of(connection, DocumentKind::Return, id.0).await?,
        trail: trail(connection, DocumentKind::Return, id.0).await?,
        number: row.number,
        version: row.version,
        lines,
    })
}

async fn lines(connection: &mut SqliteConnection, id: ReturnId, live: bool) -> Result<Vec<ReturnLineView>> {
    let rows = sqlx::query!(
        r#"SELECT state.id AS "id!", state.document_line_id, state.shipment_line_id, origin.position AS "billed_position: i64",
                  origin.document_kind AS "kind: String", origin.document_id AS "document: i64",
                  origin.number AS "number: String", state.item_id AS "item!", items.code AS "code!",
                  CASE WHEN origin.sold_item_id = state.item_id THEN origin.description ELSE items.name END AS "description!: String",
                  CASE WHEN origin.sold_item_id <> state.item_id THEN origin.code END AS "in_place_of: String",
                  return_lines.unit_price_e6, unit_cost_minor, cost_reason,
                  origin.unit AS "unit!: String", items.unit AS "stock_unit!", state.factor_e4 AS "factor!", state.reason AS "reason!",
                  return_reasons.name AS "reason_name!", state.disposition, authorized_e4 AS "authorized!", received_e4 AS "received!: i64",
                  sent_back_e4 AS "sent_back!: i64", replaced_e4 AS "replaced!: i64", credited_e4 AS "credited!: i64",
                  for_repair_e4 AS "for_repair!: i64", repaired_e4 AS "repaired!: i64", given_back_e4 AS "given_back!: i64", kept_e4 AS "kept!: i64",
                  waiting_e4 AS "waiting!: i64", waiting_cost_minor AS "waiting_cost!: i64"
           FROM return_line_state AS state JOIN return_origins AS origin ON origin.return_line_id = state.id
           JOIN return_lines ON return_lines.id = state.id JOIN items ON items.id = state.item_id
           JOIN return_reasons ON return_reasons.code = state.reason
           WHERE state.return_id = ? ORDER BY state.position"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let state = StateRow {
                authorized_e4: row.authorized,
                received_e4: row.received,
                sent_back_e4: row.sent_back,
                replaced_e4: row.replaced,
                credited_e4: row.credited,
                for_repair_e4: row.for_repair,
                repaired_e4: row.repaired,
                given_back_e4: row.given_back,
                kept_e4: row.kept,
            };
            let progress = state.progress();
            let kind = row.kind.as_deref().map(|word| known(word, DocumentKind::of)).transpose()?;
            let document = kind.zip(row.document).zip(row.number);
            Ok(ReturnLineView {
                id: ReturnLineId(row.id),
                billed_on: row.document_line_id.map(DocumentLineId),
                unbilled: row.document_line_id.is_none() && row.shipment_line_id.is_some(),
                position: row.billed_position,
                document: document.map(|((kind, id), number)| DocumentRef { kind, id, number }),
                unit_price: row.unit_price_e6.map(UnitPrice::from_scaled),
                unit_cost: row.unit_cost_minor.map(Money),
                cost_reason: row.cost_reason,
                item: ItemId(row.item),
                code: row.code,
                description: row.description,
                in_place_of: row.in_place_of,
                unit: row.unit,
                stock_unit: row.stock_unit,
                factor: Quantity::from_scaled(row.factor),
                reason: row.reason,
                reason_name: row.reason_name,
                disposition: row.disposition,
                expected: progress.expected(live),
                to_settle: progress.to_settle(),
                in_repair: progress.in_repair(),
                progress,
                waiting: Quantity::from_scaled(row.waiting),
                waiting_cost: Money(row.waiting_cost),
            })
        })
        .collect()
}

async fn steps(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<ReturnStepView>> {
    let mut lines: BTreeMap<i64, Vec<ReturnStepLineView>> = BTreeMap::new();
    let rows = sqlx::query!(
        r#"SELECT step_id, return_line_id, items.code, unit, stock_e4, return_step_lines.cost_minor, dispositions.name AS "disposition?",
                  return_step_lines.outcome, claim_minor
           FROM return_step_lines JOIN return_lines ON return_lines.id = return_line_id JOIN items ON items.id = item_id
           LEFT JOIN dispositions ON dispositions.code = return_step_lines.disposition
           WHERE return_id = ? ORDER BY return_step_lines.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in rows {
        lines.entry(row.step_id).or_default().push(ReturnStepLineView {
            line: ReturnLineId(row.return_line_id),
            code: row.code,
            stock: Quantity::from_scaled(row.stock_e4),
            unit: row.unit,
            cost: Money(row.cost_minor),
            disposition: row.disposition,
            outcome: row.outcome.as_deref().map(|word| known(word, ReturnOutcome::of)).transpose()?,
            claim: Money(row.claim_minor),
        });
    }
    Ok(sqlx::query!(
        r#"SELECT id, kind, posting_date AS "date: NaiveDate", note, reversed_on AS "reversed_on: NaiveDate", reversal_reason
           FROM return_steps WHERE return_id = ? ORDER BY id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| ReturnStepView {
        id: ReturnStepId(row.id),
        kind: row.kind,
        date: row.date,
        note: row.note,
        reversed_on: row.reversed_on,
        reversal_reason: row.reversal_reason,
        lines: lines.remove(&row.id).unwrap_or_default(),
    })
    .collect())
}

async fn credits(connection: &mut SqliteConnection, id: ReturnId) -> Result<Vec<ReturnCreditView>> {
    sqlx::query!(
        r#"SELECT DISTINCT memo.id, memo.kind AS "kind!", memo.number AS "number!", memo.posting_date AS "date!: NaiveDate", memo.total_minor AS "total!"
           FROM return_lines JOIN document_lines AS credit ON credit.return_line_id = return_lines.id JOIN documents AS memo ON memo.id = credit.document_id
           WHERE return_id = ? ORDER BY memo.sequence"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let kind = known(&row.kind, DocumentKind::of)?;
        let document = DocumentRef { kind, id: row.id, number: row.number };
        Ok(ReturnCreditView { document, date: row.date, total: Money(-row.total) })
    })
    .collect()
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
