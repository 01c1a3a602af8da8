//! One return as it is shown.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentLineId, DocumentRef, ItemId, ReturnId, ReturnLineId, ReturnStepId,
};
use till_core::money::{Currency, Money};
use till_core::returns::{NextStep, Progress, ReturnOutcome, ReturnState, is_live, next_step, state};

use super::holding::StateRow;
use super::pictures::{self, PictureView};
use crate::convert::{currency, known};
use crate::deliveries::{self, DeliveryRow};
use crate::invoices::Party;
use crate::ledger::{self, PostedEntry};
use crate::rules::Rules;
use crate::trail::{Trail, trail};
use crate::{Result, StoreError};

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
