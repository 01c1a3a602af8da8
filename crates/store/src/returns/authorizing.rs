//! Authorizing a return, extending it, closing it. None of it writes to the ledger.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::words;
use till_core::checks::{Blocker, stops};
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentLineId, ItemId, ReturnId};
use till_core::money::Money;
use till_core::people::check_reason;
use till_core::returns::{
    AuthorizeDecision, AuthorizeInput, Disposition, LineExtended, ReturnReason, ReturnWish, check_extension, free,
};
use till_core::tape::Tape;

use super::billed::{self, Found};
use super::facts::{head, held, lines};
use super::settings::{dispositions, last_day, reasons};
use crate::convert::json;
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, customers, sensible_date, stock};

/// A billed line that is to come back.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReturnLine {
    /// The line of the invoice.
    pub line: DocumentLineId,
    /// How much, in the unit it was sold in, as typed.
    pub quantity: String,
    /// Why: the code of a reason.
    #[serde(default)]
    pub reason: String,
    /// What is planned to become of it: the code of a disposition; none where inspection decides.
    #[serde(default)]
    pub disposition: Option<String>,
}

/// A return to authorize.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReturn {
    /// Whose.
    pub customer: CustomerId,
    /// What is to come back.
    pub lines: Vec<NewReturnLine>,
    /// The last day it may arrive on; none for the company's days from now.
    #[serde(default)]
    pub expires_on: Option<NaiveDate>,
    /// Where it is to arrive; none for the company's own.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// What the customer calls it: their claim, their debit note.
    #[serde(default)]
    pub reference: Option<String>,
    /// Anything to remember of it.
    #[serde(default)]
    pub note: Option<String>,
}

/// What authorizing would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnPreview {
    /// What crediting each line would come to, as priced, in its invoice's currency.
    pub worth: Vec<Money>,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// The arithmetic; none where nothing is chosen.
    pub tape: Option<Tape>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// A return to give up, or to let arrive until another day.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnToClose {
    /// The version seen.
    pub version: i64,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

struct Loaded {
    expires_on: NaiveDate,
    found: Vec<Found>,
    decision: AuthorizeDecision,
    lines: Vec<ReturnWish>,
}

fn said(text: Option<&str>) -> Option<String> {
    text.map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned)
}

async fn load(connection: &mut SqliteConnection, rules: &Rules, new: &NewReturn) -> Result<Loaded> {
    let expires_on = match new.expires_on {
        Some(date) => sensible_date("expires_on", date)?,
        None => last_day(rules),
    };
    let (customer, _) = customers::facts(connection, new.customer).await?;
    let (reasons, dispositions): (Vec<ReturnReason>, Vec<Disposition>) =
        (reasons(connection).await?, dispositions(connection).await?);
    let ids: Vec<DocumentLineId> = new.lines.iter().map(|line| line.line).collect();
    let found = billed::lines(connection, rules, &ids).await?;
    let mut lines = Vec::new();
    for (at, typed) in new.lines.iter().enumerate() {
        let of = found.iter().find(|found| found.of.line == typed.line);
        let Some(of) = of else {
            return Err(StoreError::invalid(format!("lines.{at}"), "That line is on no posted invoice."));
        };
        let mine = sqlx::query_scalar!("SELECT customer_id FROM documents WHERE id = ?", of.of.invoice.0)
            .fetch_one(&mut *connection)
            .await?;
        if mine != new.customer.0 {
            let sentence = format!("{} was billed to another customer.", of.of.number);
            return Err(StoreError::invalid(format!("lines.{at}"), sentence));
        }
        let field = format!("lines.{at}.quantity");
        let quantity: Quantity = match typed.quantity.trim() {
            "" => Quantity::ZERO,
            text => text.parse().map_err(|error| StoreError::decimal(field, &error))?,
        };
        lines.push(ReturnWish {
            of: of.of.clone(),
            quantity,
            reason: typed.reason.trim().to_owned(),
            disposition: said(typed.disposition.as_deref()),
        });
    }
    let input = AuthorizeInput {
        customer,
        lines,
        date: rules.business_date,
        expires_on,
        reasons: &reasons,
        dispositions: &dispositions,
    };
    let decision = till_core::returns::authorize(&input);
    Ok(Loaded { expires_on, found, decision, lines: input.lines })
}

/// What authorizing a return would do. Nothing is written.
///
/// # Errors
/// Lines that are on no invoice of the customer; what cannot be read.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewReturn) -> Result<ReturnPreview> {
    let Loaded { expires_on, decision, .. } = load(connection, rules, new).await?;
    Ok(ReturnPreview {
        worth: decision.worth,
        expires_on,
        tape: decision.tape,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Authorizes a return. Returns its id and number.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn authorize(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReturn,
    seen: Option<&str>,
) -> Result<(ReturnId, String)> {
    authorize_of(writing, rules, new, seen, None).await
}

/// The same, of another item than was billed, where one went by mistake.
pub(super) async fn authorize_of(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReturn,
    seen: Option<&str>,
    went: Option<ItemId>,
) -> Result<(ReturnId, String)> {
    let loaded = load(writing, rules, new).await?;
    if stops(&loaded.decision.blockers) {
        return Err(StoreError::Refused(loaded.decision.blockers));
    }
    writing.saw(seen, &loaded.decision.fingerprint)?;
    let warehouse = said(new.warehouse.as_deref()).unwrap_or_else(|| rules.warehouse.clone());
    if !stock::counted(writing, &warehouse, "warehouse").await? {
        return Err(StoreError::invalid("warehouse", "Goods come back to a warehouse whose stock is kept here."));
    }
    let (number, sequence) = next_number(writing, "return").await?;
    let id = ReturnId(next_id(writing, "returns").await?);
    let currency = loaded.lines.first().map_or(rules.base, |line| line.of.currency);
    let code = currency.code();
    let (reference, note) = (said(new.reference.as_deref()), said(new.note.as_deref()));
    sqlx::query!(
        "INSERT INTO returns (id, number, sequence, customer_id, authorized_on, expires_on, warehouse, currency, reference, note)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id.0,
        number,
        sequence,
        new.customer.0,
        rules.business_date,
        loaded.expires_on,
        warehouse,
        code,
        reference,
        note
    )
    .execute(&mut **writing)
    .await?;
    let billed = |line: DocumentLineId| loaded.found.iter().find(|found| found.of.line == line).map(|found| found.item);
    let item = |line: DocumentLineId| went.map(|item| item.0).or_else(|| billed(line));
    let rows: Vec<_> = loaded
        .lines
        .iter()
        .enumerate()
        .map(|(at, line)| {
            let of = &line.of;
            (at, of.line, item(of.line), line.quantity.scaled(), of.factor.scaled(), &line.reason, &line.disposition)
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO return_lines (return_id, position, document_line_id, item_id, quantity_e4, factor_e4, reason, disposition)
         SELECT ?1, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6 FROM jsonb_each(?2)",
        id.0,
        rows
    )
    .execute(&mut **writing)
    .await?;
    let mut fields: Vec<_> = loaded
        .lines
        .iter()
        .map(|line| set(&format!("{} of {}", line.of.code, line.of.number), line.quantity))
        .collect();
    fields.push(set("may arrive until", words(loaded.expires_on)));
    fields.extend(reference.map(|reference| set("their reference", reference)));
    let words = format!("authorized {number}");
    writing.note_on((DocumentKind::Return, id.0, &number), "return_authorized", words, Some(1), fields);
    Ok((id, number))
}

/// Lets a return arrive until another day: what it still expects must be free. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`]; a return that was closed, a day that cannot be, goods that were credited or returned since.
pub async fn extend(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, until): (i64, NaiveDate),
) -> Result<i64> {
    let head = head(writing, id).await?;
    head.is(version)?;
    sensible_date("expires_on", until)?;
    if let Some(day) = head.closed_on {
        return Err(StoreError::WrongState(format!("{} was closed on {}.", head.number, words(day))));
    }
    let known = lines(writing, id).await?;
    let documents: Vec<i64> = known.iter().map(|line| line.document_line).collect();
    let held = held(writing, rules, &documents).await?;
    let extended: Vec<LineExtended> = known
        .into_iter()
        .map(|line| {
            let held = held.get(&line.document_line).copied().unwrap_or_default();
            LineExtended { free: free(line.billed, line.credited, held), code: line.code, progress: line.progress }
        })
        .collect();
    check_extension((head.expires_on, until), rules.business_date, &extended)
        .map_err(|why| StoreError::invalid("expires_on", why))?;
    sqlx::query!("UPDATE returns SET expires_on = ?, version = version + 1 WHERE id = ?", until, id.0)
        .execute(&mut **writing)
        .await?;
    let fields = changed("may arrive until", Some(&words(head.expires_on)), Some(&words(until)));
    let words = format!("extended {}", head.number);
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_extended", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Closes a return: nothing more arrives on it, what came stays. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], one that is closed already, no reason.
pub async fn close(writing: &mut Writing<'_>, rules: &Rules, id: ReturnId, wish: &ReturnToClose) -> Result<i64> {
    let head = head(writing, id).await?;
    head.is(wish.version)?;
    let reason = check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    if let Some(day) = head.closed_on {
        return Err(StoreError::WrongState(format!("{} was closed on {}.", head.number, words(day))));
    }
    sqlx::query!(
        "UPDATE returns SET closed_on = ?, closed_reason = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        reason,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let said = format!("closed {}", head.number);
    let fields = vec![set("reason", &reason)];
    let after = head.version + 1;
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_closed", said, Some(after), fields);
    Ok(after)
}
