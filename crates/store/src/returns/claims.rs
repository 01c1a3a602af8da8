//! Claims on suppliers for goods that went back to them, and what they answer.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{ClaimAnswerId, ClaimId, DocumentKind, DocumentRef, EntryId, ReturnId};
use till_core::money::{Currency, Money};
use till_core::returns::{ClaimInput, UndoAnswerInput, answer_claim, claim_open, undo_answer};
use till_core::room::Movement;
use till_core::tape::{Change, Tape};

use crate::invoices::read;
use crate::receipts::ToReverse;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, money_places, posting, sensible_date};

/// What a supplier answered to a claim.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClaimAnswerView {
    /// Its id.
    pub id: ClaimAnswerId,
    /// When.
    pub date: NaiveDate,
    /// What they paid, in base currency.
    pub settled: Money,
    /// What they refused, in base currency.
    pub refused: Money,
    /// What they call it.
    pub reference: Option<String>,
    /// Its entry.
    pub entry: DocumentRef,
    /// When it was reversed, where it was.
    pub reversed_on: Option<NaiveDate>,
    /// Why.
    pub reversal_reason: Option<String>,
}

/// A claim on a supplier.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClaimView {
    /// Its id.
    pub id: ClaimId,
    /// The return its goods came back on.
    pub returned: DocumentRef,
    /// Code of the item.
    pub code: String,
    /// What it is.
    pub description: String,
    /// The day the goods went back.
    pub date: NaiveDate,
    /// For how many days it has been open; of an answered one until its last answer.
    pub age: i64,
    /// What was claimed, in base currency.
    pub claimed: Money,
    /// What was paid of it.
    pub settled: Money,
    /// What was refused of it.
    pub refused: Money,
    /// What is open.
    pub open: Money,
    /// The answers, oldest first.
    pub answers: Vec<ClaimAnswerView>,
}

/// Claims on suppliers, open ones first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Claims {
    /// What is open of all, in base currency.
    pub open: Money,
    /// Open ones, oldest first, then the newest two hundred that are answered.
    pub claims: Vec<ClaimView>,
}

/// The answer to a claim.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClaimAnswer {
    /// What the supplier pays, as typed; none for nothing.
    #[serde(default)]
    pub settled: Option<String>,
    /// What the supplier refuses, as typed; none for nothing.
    #[serde(default)]
    pub refused: Option<String>,
    /// The way the money came.
    #[serde(default)]
    pub method: Option<String>,
    /// What the supplier calls it.
    #[serde(default)]
    pub reference: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What the answer to a claim would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClaimAnswerPreview {
    /// The arithmetic.
    pub tape: Tape,
    /// The entry; none where something is missing.
    pub entry: Option<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// Claims on suppliers.
///
/// # Errors
/// Where the database cannot be read.
pub async fn claims(connection: &mut SqliteConnection, rules: &Rules) -> Result<Claims> {
    let mut answers = answers(connection).await?;
    let today = rules.business_date;
    let mut claims: Vec<ClaimView> = sqlx::query!(
        r#"SELECT done.id AS "id!", returns.id AS "return_id!", returns.number, items.code, origin.description AS "description!: String", step.posting_date AS "date!: NaiveDate",
                  done.claim_minor AS claimed
           FROM return_step_lines AS done JOIN return_steps AS step ON step.id = done.step_id JOIN returns ON returns.id = step.return_id
           JOIN return_lines AS line ON line.id = done.return_line_id JOIN items ON items.id = line.item_id
           JOIN return_origins AS origin ON origin.return_line_id = line.id
           WHERE done.claim_minor > 0 AND step.reversed_on IS NULL ORDER BY step.posting_date, done.id"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let answers = answers.remove(&row.id).unwrap_or_default();
        let standing = || answers.iter().filter(|answer| answer.reversed_on.is_none());
        let (settled, refused) = (
            standing().map(|answer| answer.settled).sum::<Money>(),
            standing().map(|answer| answer.refused).sum::<Money>(),
        );
        let open = Money(row.claimed) - settled - refused;
        let until = if open.is_zero() { standing().map(|answer| answer.date).max() } else { None };
        ClaimView {
            id: ClaimId(row.id),
            returned: DocumentRef { kind: DocumentKind::Return, id: row.return_id, number: row.number },
            code: row.code,
            description: row.description,
            date: row.date,
            age: (until.unwrap_or(today) - row.date).num_days().max(0),
            claimed: Money(row.claimed),
            settled,
            refused,
            open,
            answers,
        }
    })
    .collect();
    let open = claims.iter().map(|claim| claim.open).sum();
    let (mut first, mut answered): (Vec<_>, Vec<_>) = claims.drain(..).partition(|claim| claim.open.is_positive());
    answered.reverse();
    answered.truncate(200);
    first.append(&mut answered);
    Ok(Claims { open, claims: first })
}

async fn answers(connection: &mut SqliteConnection) -> Result<BTreeMap<i64, Vec<ClaimAnswerView>>> {
    let mut all: BTreeMap<i64, Vec<ClaimAnswerView>> = BTreeMap::new();
    let rows = sqlx::query!(
        r#"SELECT claim_answers.id AS "id!", claim_id, claim_answers.posting_date AS "date!: NaiveDate", settled_minor, refused_minor, reference,
                  reversed_on AS "reversed_on: NaiveDate", reversal_reason, entries.id AS "entry!", entries.number AS "entry_number!"
           FROM claim_answers JOIN entries ON entries.id = entry_id ORDER BY claim_answers.id"#
    )
    .fetch_all(connection)
    .await?;
    for row in rows {
        all.entry(row.claim_id).or_default().push(ClaimAnswerView {
            id: ClaimAnswerId(row.id),
            date: row.date,
            settled: Money(row.settled_minor),
            refused: Money(row.refused_minor),
            reference: row.reference,
            entry: DocumentRef { kind: DocumentKind::Entry, id: row.entry, number: format!("E-{}", row.entry_number) },
            reversed_on: row.reversed_on,
            reversal_reason: row.reversal_reason,
        });
    }
    Ok(all)
}

/// What was claimed and answered, day by day.
pub(super) async fn moves(connection: &mut SqliteConnection, claim: ClaimId) -> Result<Vec<Movement>> {
    Ok(sqlx::query!(
        r#"SELECT posting_date AS "date!: NaiveDate", amount_minor AS "amount!: i64" FROM claim_moves WHERE claim_id = ?"#,
        claim.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| Movement::new(row.date, row.amount))
    .collect())
}

fn typed(base: Currency, field: &str, text: Option<&str>) -> Result<Money> {
    let text = text.map(str::trim).filter(|text| !text.is_empty());
    text.map_or(Ok(Money::ZERO), |text| base.parse(text).map_err(|error| StoreError::decimal(field, &error)))
}

/// A claim with the return its goods came back on.
struct Loaded<'a> {
    input: ClaimInput<'a>,
    returned: ReturnId,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    claim: ClaimId,
    answer: &ClaimAnswer,
) -> Result<Loaded<'a>> {
    if let Some(date) = answer.date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!(
        r#"SELECT returns.id, returns.number, items.code, items.class, origin.marks AS "marks!: String"
         FROM return_step_lines AS done JOIN return_lines AS line ON line.id = done.return_line_id JOIN returns ON returns.id = line.return_id
         JOIN items ON items.id = line.item_id JOIN return_origins AS origin ON origin.return_line_id = line.id
         WHERE done.id = ? AND done.claim_minor > 0"#,
        claim.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, claim))?;
    let settled = typed(rules.base, "settled", answer.settled.as_deref())?;
    let refused = typed(rules.base, "refused", answer.refused.as_deref())?;
    let method = match answer.method.as_deref().filter(|code| !code.is_empty() && settled.is_positive()) {
        Some(code) => Some(money_places::method(connection, code).await?),
        None => None,
    };
    let input = ClaimInput {
        claim,
        number: row.number,
        code: row.code,
        class: Some(row.class),
        marks: read(&row.marks)?,
        moves: moves(connection, claim).await?,
        settled,
        refused,
        method,
        date: DocumentDate::or_business_date(answer.date, rules.business_date),
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok(Loaded { input, returned: ReturnId(row.id) })
}

/// What the answer to a claim would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; what cannot be read.
pub async fn answer_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    claim: ClaimId,
    answer: &ClaimAnswer,
) -> Result<ClaimAnswerPreview> {
    let decision = answer_claim(&load(connection, rules, claim, answer).await?.input);
    Ok(ClaimAnswerPreview {
        tape: decision.tape,
        entry: decision.entry,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Enters what a supplier answered to a claim. Returns what is left open of it, in base currency.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn answer(writing: &mut Writing<'_>, rules: &Rules, claim: ClaimId, answer: &ClaimAnswer) -> Result<Money> {
    let Loaded { input, returned } = load(writing, rules, claim, answer).await?;
    let decision = answer_claim(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(answer.seen.as_deref(), &decision.fingerprint)?;
    let source = DocumentRef { kind: DocumentKind::Return, id: returned.0, number: input.number.clone() };
    let entry = posting::write(writing, &source, &decision.posting()).await?.pop().map(|entry| entry.0);
    let (date, settled, refused) = (input.date.date, input.settled.0, input.refused.0);
    let method = input.method.as_ref().map(|method| method.code.as_str());
    let reference = answer.reference.as_deref().map(str::trim).filter(|text| !text.is_empty());
    sqlx::query!(
        "INSERT INTO claim_answers (claim_id, posting_date, settled_minor, refused_minor, method, reference, entry_id) VALUES (?, ?, ?, ?, ?, ?, ?)",
        claim.0,
        date,
        settled,
        refused,
        method,
        reference,
        entry
    )
    .execute(&mut **writing)
    .await?;
    let left = claim_open(&input.moves) - input.settled - input.refused;
    let fields = vec![
        set("paid", rules.base.format(input.settled)),
        set("refused", rules.base.format(input.refused)),
        set("left open", rules.base.format(left)),
        set("date", till_core::calendar::words(date)),
    ];
    let words = format!("entered the supplier's answer to the claim on {} of {}", input.code, input.number);
    writing.note_on((DocumentKind::Return, returned.0, &input.number), "claim_answered", words, None, fields);
    Ok(left)
}

/// Reverses an answer that was entered in error: the claim is open again.
///
/// # Errors
/// [`StoreError::NotFound`], or what the core refuses.
pub async fn reverse_answer(
    writing: &mut Writing<'_>,
    rules: &Rules,
    answer: ClaimAnswerId,
    wish: &ToReverse,
) -> Result<Money> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!(
        r#"SELECT claim_answers.claim_id, posting_date AS "answered_on!: NaiveDate", reversed_on AS "reversed_on: NaiveDate", entry_id,
                  settled_minor, refused_minor, returns.id AS "return_id!", returns.number, items.code
           FROM claim_answers JOIN return_step_lines AS done ON done.id = claim_id JOIN return_lines AS line ON line.id = done.return_line_id
           JOIN returns ON returns.id = line.return_id JOIN items ON items.id = line.item_id WHERE claim_answers.id = ?"#,
        answer.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Return, answer))?;
    let entry = EntryId(row.entry_id);
    let input = UndoAnswerInput {
        number: row.number.clone(),
        answered_on: row.answered_on,
        reversed_on: row.reversed_on,
        entry: (entry, ledger::entry(writing, entry).await?.entry),
        date: DocumentDate::or_business_date(wish.date, rules.business_date),
        reason: wish.reason.trim().to_owned(),
        dates: DateOrder::of_today(rules.business_date),
        periods: &rules.periods,
    };
    let posting = undo_answer(&input).map_err(StoreError::Refused)?;
    let source = DocumentRef { kind: DocumentKind::Return, id: row.return_id, number: row.number.clone() };
    let reversal = posting::write(writing, &source, &posting).await?.pop().map(|entry| entry.0);
    let date = input.date.date;
    sqlx::query!(
        "UPDATE claim_answers SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ? WHERE id = ?",
        date,
        input.reason,
        reversal,
        answer.0
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("date", till_core::calendar::words(date)), set("reason", &input.reason)];
    let words = format!("reversed the supplier's answer to the claim on {} of {}", row.code, row.number);
    writing.note_on((DocumentKind::Return, row.return_id, &row.number), "claim_answer_reversed", words, None, fields);
    let claim = ClaimId(row.claim_id);
    Ok(claim_open(&moves(writing, claim).await?))
}
