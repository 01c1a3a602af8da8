//! Approvals: a request above someone's limit, kept as it was made, until someone else decides.

mod asked;

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{ApprovalId, DocumentKind, DocumentRef, PersonId};
use till_core::merge::FieldChange;
use till_core::money::Money;
use till_core::people::{
    Approval, ApprovalState, Limits, Operation, Question, Right, Role, ToConfirm, Verdict, check_reason, decide,
    decide_approval, decide_confirm, decide_decline, decide_withdrawal,
};

use crate::convert::{json, kind, known};
use crate::rules::Rules;
use crate::writing::{Approved, Writing, set};
use crate::{Result, StoreError, people};

pub(crate) use asked::Asked;
use asked::carry_out;

/// Something a person wants done that may be above their limit.
#[derive(Debug, Clone)]
pub(crate) struct Wish {
    pub(crate) asked: Asked,
    pub(crate) document: DocumentRef,
    /// In base currency, without sign.
    pub(crate) amount: Money,
    pub(crate) words: String,
    pub(crate) changes: Vec<FieldChange>,
    pub(crate) reason: String,
    /// Mark of what was decided on: where it is another one when it is approved, something else
    /// would be carried out than was asked for.
    pub(crate) mark: String,
    /// What typed prices and discounts of an order give away, in base currency; zero for anything else.
    pub(crate) gives_away: Money,
    /// Whether an order is for a customer who is held back.
    pub(crate) held: bool,
}

/// How an operation goes on.
pub(crate) enum Go {
    /// It is carried out; so far, in base currency, where it is bounded.
    Ahead(Option<Money>),
    /// It waits for someone else.
    Waits(ApprovalId),
}

/// Whether it may be done now; otherwise it is kept and waits for someone else. What was approved goes
/// the same way a second time, and on only where it is still what was asked for.
pub(crate) async fn allowed_or_asked(writing: &mut Writing<'_>, rules: &Rules, wish: Wish) -> Result<Go> {
    if let Some(approved) = writing.take_approved() {
        return match approved.mark == wish.mark {
            true => Ok(Go::Ahead(Some(approved.amount))),
            false => Err(changed_since(&wish.words)),
        };
    }
    let (Some(role), Some(maker)) = (writing.actor().role, writing.actor().doer.person) else {
        return Ok(Go::Ahead(None));
    };
    let limits = people::limits(writing).await?;
    let operation = wish.asked.operation();
    let verdict = match operation {
        Operation::ConfirmOrder => {
            let Wish { amount, gives_away, held, .. } = wish;
            decide_confirm(role, ToConfirm { amount, gives_away, held }, &limits)
        }
        _ => decide(role, operation, wish.amount, &limits),
    };
    match verdict {
        Verdict::Allowed => Ok(Go::Ahead(match operation.right(role) {
            Right::UpTo(kind) => limits.of(role, kind),
            _ => None,
        })),
        Verdict::Denied(why) => Err(StoreError::NotAllowed(why)),
        Verdict::NeedsApproval(_) => ask(writing, rules, wish, maker).await.map(Go::Waits),
    }
}

fn changed_since(words: &str) -> StoreError {
    StoreError::WrongState(format!(
        "What this is about has changed since it was asked for ({words}). Decline it; it can be asked for again as it stands now."
    ))
}

async fn ask(writing: &mut Writing<'_>, rules: &Rules, wish: Wish, maker: PersonId) -> Result<ApprovalId> {
    let asked = json(&wish.asked)?;
    let operation = wish.asked.operation().word();
    let document_kind = wish.document.kind.word();
    let waiting = sqlx::query!(
        "SELECT approvals.id, name FROM approvals JOIN people ON people.id = maker_id
         WHERE state = 'waiting' AND operation = ? AND document_kind = ? AND document_id = ? AND asked = ?",
        operation,
        document_kind,
        wish.document.id,
        asked
    )
    .fetch_optional(&mut **writing)
    .await?;
    if let Some(waiting) = waiting {
        return Err(StoreError::WrongState(format!(
            "{} has asked for this already. It waits for approval.",
            waiting.name
        )));
    }
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    let amount = wish.amount.abs();
    let changes = json(&wish.changes)?;
    let id = sqlx::query_scalar!(
        r#"INSERT INTO approvals (operation, asked, mark, words, document_kind, document_id, document_number, amount_base_minor,
                                  changes, reason, maker_id, made_at, made_on, gives_away_base_minor)
           VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS "id!""#,
        operation,
        asked,
        wish.mark,
        wish.words,
        document_kind,
        wish.document.id,
        wish.document.number,
        amount.0,
        changes,
        wish.reason,
        maker.0,
        at,
        rules.business_date,
        wish.gives_away.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let fields = vec![set("amount", rules.base.format(amount)), set("reason", &wish.reason)];
    let words = format!("asked: {}", wish.words);
    let document = (wish.document.kind, wish.document.id, wish.document.number.as_str());
    writing.note_on(document, "approval_asked", words, None, fields);
    Ok(ApprovalId(id))
}

/// An approval on screen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ApprovalView {
    /// Its id.
    pub id: ApprovalId,
    /// What kind of operation.
    pub operation: Operation,
    /// What is to be done.
    pub words: String,
    /// To which document.
    pub document: DocumentRef,
    /// Over how much, in base currency.
    pub amount: Money,
    /// From which value to which.
    pub changes: Vec<FieldChange>,
    /// The limit of who asked, where a limit is what stands in the way.
    pub limit: Option<Money>,
    /// Why, in the words of who asked.
    pub reason: String,
    /// Who asked.
    pub maker: String,
    /// Whether that is who looks at it.
    pub own: bool,
    /// The business date it was asked on.
    pub made_on: NaiveDate,
    /// Where it stands.
    pub state: ApprovalState,
    /// Who decided.
    pub decided_by: Option<String>,
    /// What was said to it.
    pub decision: Option<String>,
    /// Why who looks at it cannot approve it; none where they can.
    pub obstacle: Option<String>,
}

struct Kept {
    asked: Asked,
    view: ApprovalView,
    approval: Approval,
    mark: String,
    maker: Role,
}

/// Who looks.
#[derive(Debug, Clone, Copy)]
pub struct Viewer {
    /// The person.
    pub person: PersonId,
    /// The person's role.
    pub role: Role,
}

impl Viewer {
    const fn question(self) -> Question {
        Question { person: self.person, role: self.role }
    }
}

async fn kept(
    connection: &mut SqliteConnection,
    only: Option<ApprovalId>,
    of: Option<(DocumentKind, i64)>,
    viewer: Viewer,
    limits: &Limits,
) -> Result<Vec<Kept>> {
    let only = only.map(|id| id.0);
    let (of_kind, of_id) = (of.map(|(kind, _)| kind.word()), of.map(|(_, id)| id));
    let rows = sqlx::query!(
        r#"SELECT approvals.id, operation, asked, mark, words, document_kind, document_id, document_number, amount_base_minor, gives_away_base_minor, changes,
                  reason, maker_id, maker.role AS maker_role, made_on AS "made_on: NaiveDate", state, decision,
                  maker.name AS maker, decider.name AS "decider?"
           FROM approvals JOIN people AS maker ON maker.id = maker_id LEFT JOIN people AS decider ON decider.id = decided_by
           WHERE (?1 IS NULL OR approvals.id = ?1) AND (?2 IS NULL OR (document_kind = ?2 AND document_id = ?3))
           ORDER BY state = 'waiting' DESC, approvals.id DESC LIMIT 500"#,
        only,
        of_kind,
        of_id
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let asked: Asked =
                serde_json::from_str(&row.asked).map_err(|error| StoreError::Corrupt(error.to_string()))?;
            let maker = known(&row.maker_role, Role::of)?;
            let approval = Approval {
                operation: known(&row.operation, Operation::of)?,
                amount: Money(row.amount_base_minor),
                gives_away: Money(row.gives_away_base_minor),
                maker: PersonId(row.maker_id),
                state: known(&row.state, ApprovalState::of)?,
            };
            let view = ApprovalView {
                id: ApprovalId(row.id),
                operation: approval.operation,
                words: row.words,
                document: DocumentRef {
                    kind: kind(&row.document_kind)?,
                    id: row.document_id,
                    number: row.document_number,
                },
                amount: approval.amount,
                changes: serde_json::from_str(&row.changes).map_err(|error| StoreError::Corrupt(error.to_string()))?,
                limit: match approval.operation.right(maker) {
                    Right::UpTo(kind) => limits.of(maker, kind),
                    _ => None,
                },
                reason: row.reason,
                maker: row.maker,
                own: approval.maker == viewer.person,
                made_on: row.made_on,
                state: approval.state,
                decided_by: row.decider,
                decision: row.decision,
                obstacle: decide_approval(&approval, viewer.question(), limits).err(),
            };
            Ok(Kept { asked, view, approval, mark: row.mark, maker })
        })
        .collect()
}

/// Approvals, those that wait first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    of: Option<(DocumentKind, i64)>,
    viewer: Viewer,
) -> Result<Vec<ApprovalView>> {
    let limits = people::limits(connection).await?;
    Ok(kept(connection, None, of, viewer, &limits).await?.into_iter().map(|kept| kept.view).collect())
}

async fn one(connection: &mut SqliteConnection, id: ApprovalId, viewer: Viewer) -> Result<(Kept, Limits)> {
    let limits = people::limits(connection).await?;
    let found = kept(connection, Some(id), None, viewer, &limits).await?.pop();
    Ok((found.ok_or_else(|| StoreError::not_found(DocumentKind::Approval, id))?, limits))
}

/// One approval.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: ApprovalId, viewer: Viewer) -> Result<ApprovalView> {
    Ok(one(connection, id, viewer).await?.0.view)
}

/// Approves what someone else asked for, and carries it out.
///
/// # Errors
/// What the core refuses; where what it is about has changed so that it cannot be done any more.
pub async fn approve(writing: &mut Writing<'_>, rules: &Rules, id: ApprovalId, viewer: Viewer) -> Result<ApprovalView> {
    let (kept, limits) = one(writing, id, viewer).await?;
    decide_approval(&kept.approval, viewer.question(), &limits).map_err(StoreError::NotAllowed)?;
    end(writing, &kept.view, ApprovalState::Approved, None, viewer).await?;
    if kept.mark.is_empty() {
        return Err(StoreError::WrongState(
            "This was asked for in an earlier version of the program, which did not keep what was seen. Decline it; it can be asked for again.".to_owned(),
        ));
    }
    let approved = Approved { mark: kept.mark, amount: kept.view.amount, maker: kept.maker };
    writing.carry_out(&kept.view.maker, approved);
    carry_out(writing, rules, kept.asked, &kept.view.reason).await.map_err(|error| match error {
        StoreError::Stale { .. } => changed_since(&kept.view.words),
        other => other,
    })?;
    // It would not have to be asked for any more: then it is not what was asked for either.
    if writing.take_approved().is_some() {
        return Err(changed_since(&kept.view.words));
    }
    view(writing, id, viewer).await
}

/// Declines what was asked for, with a reason the maker reads.
///
/// # Errors
/// Where it does not wait any more, the reason is missing, or the role cannot decide.
pub async fn decline(writing: &mut Writing<'_>, id: ApprovalId, reason: &str, viewer: Viewer) -> Result<ApprovalView> {
    let (kept, _) = one(writing, id, viewer).await?;
    decide_decline(&kept.approval, viewer.question()).map_err(StoreError::NotAllowed)?;
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    end(writing, &kept.view, ApprovalState::Declined, Some(&reason), viewer).await?;
    view(writing, id, viewer).await
}

/// Takes one's own request back.
///
/// # Errors
/// Where someone else asked, or it does not wait any more.
pub async fn withdraw(writing: &mut Writing<'_>, id: ApprovalId, viewer: Viewer) -> Result<ApprovalView> {
    let (kept, _) = one(writing, id, viewer).await?;
    decide_withdrawal(&kept.approval, viewer.question()).map_err(StoreError::NotAllowed)?;
    end(writing, &kept.view, ApprovalState::Withdrawn, None, viewer).await?;
    view(writing, id, viewer).await
}

async fn end(
    writing: &mut Writing<'_>,
    view: &ApprovalView,
    state: ApprovalState,
    said: Option<&str>,
    viewer: Viewer,
) -> Result<()> {
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    let word = state.word();
    sqlx::query!(
        "UPDATE approvals SET state = ?, decided_by = ?, decided_at = ?, decision = ? WHERE id = ?",
        word,
        viewer.person.0,
        at,
        said,
        view.id.0
    )
    .execute(&mut **writing)
    .await?;
    let what = format!("approval_{word}");
    let words = format!("{word}: {}", view.words);
    let mut fields = vec![set("asked by", &view.maker)];
    fields.extend(said.map(|said| set("reason", said)));
    let document = (view.document.kind, view.document.id, view.document.number.as_str());
    writing.note_on(document, &what, words, None, fields);
    Ok(())
}

/// Ends every request about a document that is gone: nobody is left to approve it for.
pub(crate) async fn document_gone(writing: &mut Writing<'_>, kind: DocumentKind, id: i64) -> Result<()> {
    documents_gone(writing, kind, &[id]).await
}

/// The same for several documents.
pub(crate) async fn documents_gone(writing: &mut Writing<'_>, kind: DocumentKind, ids: &[i64]) -> Result<()> {
    let at = writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true);
    let word = kind.word();
    let ids = json(&ids)?;
    sqlx::query!(
        "UPDATE approvals SET state = 'withdrawn', decided_by = maker_id, decided_at = ?, decision = 'the draft is gone'
         WHERE state = 'waiting' AND document_kind = ? AND document_id IN (SELECT value FROM json_each(?))",
        at,
        word,
        ids
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}
