//! What is done with the goods of a return: received, inspected, replaced at no charge.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::Blocker;
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{ReturnId, ReturnLineId, ReturnStepId, ShipmentLineId};
use till_core::money::Money;
use till_core::returns::{
    ArrivingLine, InspectInput, LineInspected, LineToInspect, LineToReceive, ReceiveInput, ReplaceInput,
};
use till_core::room::Movement;
use till_core::tape::{Change, Tape};

use super::carrying::{NewStep, StepLine, WithDocument, carry_out};
use super::facts::{self, Head, Layers};
use super::holding;
use super::settings::dispositions;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, sensible_date, stock};

/// How much of a line arrived, as typed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiveLine {
    /// The line of the return.
    pub line: ReturnLineId,
    /// How much, in the unit it was sold in.
    pub quantity: String,
}

/// What arrived.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReceiveForm {
    /// How much of which line.
    pub lines: Vec<ReceiveLine>,
    /// Whether it is here already, in for repair, and is kept after all.
    #[serde(default)]
    pub in_repair: bool,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Anything to remember of it.
    #[serde(default)]
    pub note: Option<String>,
}

/// What becomes of a quantity, as typed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InspectLine {
    /// The line of the return.
    pub line: ReturnLineId,
    /// How much, in stock units.
    pub quantity: String,
    /// The code of the disposition.
    #[serde(default)]
    pub disposition: String,
    /// What the supplier is to credit for it, in base currency, where it goes back there.
    #[serde(default)]
    pub claim: Option<String>,
}

/// What becomes of what.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InspectForm {
    /// How much of which line, and what becomes of it.
    pub lines: Vec<InspectLine>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// What was found.
    #[serde(default)]
    pub note: Option<String>,
}

/// A replacement at no charge.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReplaceForm {
    /// The line of the return.
    pub line: ReturnLineId,
    /// How much, in the unit it was sold in.
    pub quantity: String,
    /// When it leaves; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Anything to remember of it: the carrier, the tracking number.
    #[serde(default)]
    pub note: Option<String>,
}

/// What a step would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StepPreview {
    /// What it costs, line by line, in base currency.
    pub costs: Vec<Money>,
    /// The arithmetic; none where a step is reversed.
    pub tape: Option<Tape>,
    /// The entry; none where it costs nothing.
    pub entry: Option<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// What a step did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Done {
    /// The step.
    pub step: ReturnStepId,
    /// The return's version after it.
    pub version: i64,
}

pub(super) fn quantity_of(field: String, text: &str) -> Result<Quantity> {
    match text.trim() {
        "" => Ok(Quantity::ZERO),
        text => text.parse().map_err(|error| StoreError::decimal(field, &error)),
    }
}

pub(super) fn place(lines: &[facts::Line], id: ReturnLineId, field: &str) -> Result<usize> {
    let at = lines.iter().position(|line| line.id == id);
    at.ok_or_else(|| StoreError::invalid(field, "The return has no such line."))
}

pub(super) fn dated(rules: &Rules, date: Option<NaiveDate>) -> Result<DocumentDate> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    Ok(DocumentDate::or_business_date(date, rules.business_date))
}

/// The lines of a return as goods of them arrive, and how much does.
pub(super) async fn arriving(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReturnId,
    form: &ReceiveForm,
) -> Result<(Vec<ArrivingLine>, Vec<LineToReceive>)> {
    let known = facts::lines(connection, id).await?;
    let held = holding::held_with(connection, rules, &known).await?;
    let date = dated(rules, form.date)?.date;
    let mut arrived = Vec::new();
    for (at, line) in form.lines.iter().enumerate() {
        let quantity = quantity_of(format!("lines.{at}.quantity"), &line.quantity)?;
        arrived.push(LineToReceive { line: place(&known, line.line, &format!("lines.{at}"))?, quantity });
    }
    let mut lines = Vec::new();
    for line in known {
        lines.push(ArrivingLine {
            id: line.id,
            origin: line.origin,
            cost: facts::arrival_cost(connection, &line, date).await?,
            item: line.item,
            billed: line.billed,
            credited: line.credited,
            on_returns: held.get(&line.id).copied().unwrap_or_default(),
            moved: facts::moved(connection, &line).await?,
            shipment_line: line.shipment_line.map(ShipmentLineId),
            with_customer: facts::with_customer(connection, &line).await?,
            left_on: line.left_on,
            code: line.code,
            unit: line.unit,
            factor: line.factor,
            class: line.class,
            marks: line.marks,
            progress: line.progress,
        });
    }
    Ok((lines, arrived))
}

/// What of each line is in for repair, day by day.
pub(super) async fn there(connection: &mut SqliteConnection, lines: &[ArrivingLine]) -> Result<Vec<Vec<Movement>>> {
    let mut there = Vec::new();
    for line in lines {
        there.push(facts::in_repair(connection, line.id).await?);
    }
    Ok(there)
}

async fn receive_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (id, head): (ReturnId, &Head),
    form: &ReceiveForm,
) -> Result<ReceiveInput<'a>> {
    let (lines, arrived) = arriving(connection, rules, id, form).await?;
    let in_repair = if form.in_repair { Some(there(connection, &lines).await?) } else { None };
    Ok(ReceiveInput {
        number: head.number.clone(),
        customer: customers::facts(connection, head.customer).await?.0,
        warehouse: head.warehouse.clone(),
        lines,
        arrived,
        in_repair,
        date: dated(rules, form.date)?,
        expires_on: head.expires_on,
        closed_on: head.closed_on,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What receiving goods would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; what cannot be read.
pub async fn receive_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReturnId,
    form: &ReceiveForm,
) -> Result<StepPreview> {
    let head = facts::head(connection, id).await?;
    let decision = till_core::returns::receive(&receive_input(connection, rules, (id, &head), form).await?);
    Ok(StepPreview {
        costs: decision.lines.iter().map(|line| line.cost).collect(),
        tape: Some(decision.tape),
        entry: decision.entry,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Receives goods of a return at the inspection place.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn receive(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    form: &ReceiveForm,
) -> Result<Done> {
    receive_with(writing, rules, id, (version, seen), form, None).await
}

/// The same, its entry kept for that of the document it is posted with, where it is.
pub(super) async fn receive_with(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    form: &ReceiveForm,
    with: Option<&mut WithDocument>,
) -> Result<Done> {
    let head = facts::head(writing, id).await?;
    head.is(version)?;
    let input = receive_input(writing, rules, (id, &head), form).await?;
    let decision = till_core::returns::receive(&input);
    let lines = decision.lines.iter().filter_map(|line| {
        Some(StepLine {
            quantity: line.quantity.scaled(),
            released: line.released,
            ..StepLine::of(input.lines.get(line.line)?.id, line.stock, line.cost)
        })
    });
    let fields = decision.lines.iter().map(|line| set(&input.lines[line.line].code, line.quantity)).collect();
    let (kind, what, words) = match form.in_repair {
        false => ("received", "return_received", format!("received goods of {}", head.number)),
        true => ("kept", "return_kept", format!("kept goods of {} that were in for repair", head.number)),
    };
    let new = NewStep {
        kind,
        date: input.date.date,
        note: form.note.as_deref(),
        blockers: decision.blockers.clone(),
        fingerprint: &decision.fingerprint,
        lines: lines.collect(),
        deed: (what, words, fields),
        with,
    };
    carry_out(writing, (id, &head), seen, new, |step| decision.posting(&input, step)).await
}

async fn inspect_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (id, head): (ReturnId, &Head),
    form: &InspectForm,
) -> Result<InspectInput<'a>> {
    let known = facts::lines(connection, id).await?;
    let dispositions = dispositions(connection).await?;
    let date = dated(rules, form.date)?;
    let mut decided = Vec::new();
    for (at, line) in form.lines.iter().enumerate() {
        let claim = line.claim.as_deref().map(str::trim).filter(|text| !text.is_empty());
        let claim = claim.map_or(Ok(Money::ZERO), |text| {
            rules.base.parse(text).map_err(|error| StoreError::decimal(format!("lines.{at}.claim"), &error))
        })?;
        let code = line.disposition.trim();
        decided.push(LineToInspect {
            line: place(&known, line.line, &format!("lines.{at}"))?,
            quantity: quantity_of(format!("lines.{at}.quantity"), &line.quantity)?,
            outcome: dispositions.iter().find(|one| one.active && one.code == code).map(|one| one.outcome),
            disposition: code.to_owned(),
            claim,
        });
    }
    let mut lines = Vec::new();
    for line in known {
        let layers = facts::layers(connection, Layers::OfLine(line.id), date.date).await?;
        lines.push(LineInspected {
            layers: layers.into_iter().map(|(.., layer)| layer).collect(),
            settled: facts::movements(connection, line.id).await?,
            id: line.id,
            origin: line.origin,
            item: line.item,
            code: line.code,
            stock_unit: line.stock_unit,
            unit: line.unit,
            factor: line.factor,
            class: line.class,
            marks: line.marks,
        });
    }
    Ok(InspectInput {
        number: head.number.clone(),
        customer: customers::facts(connection, head.customer).await?.0,
        warehouse: head.warehouse.clone(),
        lines,
        decided,
        date,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What an inspection would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; what cannot be read.
pub async fn inspect_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReturnId,
    form: &InspectForm,
) -> Result<StepPreview> {
    let head = facts::head(connection, id).await?;
    let decision = till_core::returns::inspect(&inspect_input(connection, rules, (id, &head), form).await?);
    Ok(StepPreview {
        costs: decision.lines.iter().map(|line| line.cost).collect(),
        tape: Some(decision.tape),
        entry: decision.entry,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Decides what becomes of goods that came back.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn inspect(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    form: &InspectForm,
) -> Result<Done> {
    inspect_with(writing, rules, id, (version, seen), form, None).await
}

/// The same, its entry kept for that of the document it is posted with, where it is.
pub(super) async fn inspect_with(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    form: &InspectForm,
    with: Option<&mut WithDocument>,
) -> Result<Done> {
    let head = facts::head(writing, id).await?;
    head.is(version)?;
    let input = inspect_input(writing, rules, (id, &head), form).await?;
    let decision = till_core::returns::inspect(&input);
    let lines = decision.lines.iter().filter_map(|line| {
        Some(StepLine {
            quantity: line.sent_back.scaled(),
            disposition: Some(&line.disposition),
            outcome: Some(line.outcome.word()),
            claim: line.claim,
            ..StepLine::of(input.lines.get(line.line)?.id, line.stock, line.cost)
        })
    });
    let said = |line: &till_core::returns::Inspected| {
        let what = format!("{} {}", input.lines[line.line].code, line.outcome.name());
        set(&what, line.stock)
    };
    let new = NewStep {
        kind: "inspected",
        date: input.date.date,
        note: form.note.as_deref(),
        blockers: decision.blockers.clone(),
        fingerprint: &decision.fingerprint,
        lines: lines.collect(),
        deed: (
            "return_inspected",
            format!("inspected goods of {}", head.number),
            decision.lines.iter().map(said).collect(),
        ),
        with,
    };
    carry_out(writing, (id, &head), seen, new, |step| decision.posting(&input, step)).await
}

async fn replace_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (id, head): (ReturnId, &Head),
    form: &ReplaceForm,
) -> Result<ReplaceInput<'a>> {
    let mut known = facts::lines(connection, id).await?;
    let line = known.swap_remove(place(&known, form.line, "line")?);
    let date = dated(rules, form.date)?;
    let layers = stock::layers(connection, &[line.item], &head.warehouse, date.date).await?.remove(&line.item);
    let there = stock::facts(connection, &[line.item], None).await?.remove(&(line.item, head.warehouse.clone()));
    Ok(ReplaceInput {
        number: head.number.clone(),
        customer: customers::facts(connection, head.customer).await?.0,
        settled: facts::movements(connection, line.id).await?,
        quantity: quantity_of("quantity".to_owned(), &form.quantity)?,
        layers: layers.unwrap_or_default(),
        committed: there.map(|facts| facts.committed).unwrap_or_default(),
        date,
        origin: line.origin,
        code: line.code,
        unit: line.unit,
        factor: line.factor,
        class: line.class,
        marks: line.marks,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What sending a replacement would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; what cannot be read.
pub async fn replace_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReturnId,
    form: &ReplaceForm,
) -> Result<StepPreview> {
    let head = facts::head(connection, id).await?;
    let decision = till_core::returns::replace(&replace_input(connection, rules, (id, &head), form).await?);
    Ok(StepPreview {
        costs: vec![decision.cost],
        tape: Some(decision.tape),
        entry: decision.entry,
        changes: Vec::new(),
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Sends a replacement at no charge for goods that came back.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn replace(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, seen): (i64, Option<&str>),
    form: &ReplaceForm,
) -> Result<Done> {
    let head = facts::head(writing, id).await?;
    head.is(version)?;
    let input = replace_input(writing, rules, (id, &head), form).await?;
    let decision = till_core::returns::replace(&input);
    let line = StepLine { quantity: input.quantity.scaled(), ..StepLine::of(form.line, decision.stock, decision.cost) };
    let new = NewStep {
        kind: "replaced",
        date: input.date.date,
        note: form.note.as_deref(),
        blockers: decision.blockers.clone(),
        fingerprint: &decision.fingerprint,
        lines: vec![line],
        deed: (
            "return_replaced",
            format!("sent a replacement for {}", head.number),
            vec![set(&input.code, input.quantity)],
        ),
        with: None,
    };
    carry_out(writing, (id, &head), seen, new, |step| decision.posting(&input, step)).await
}
