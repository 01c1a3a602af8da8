//! Drafts of credit memos: what was typed so far, kept in the books for whoever goes on with it.
//!
//! A draft reserves nothing and counts nowhere: what is left to credit is looked at anew whenever it is opened, and as it is
//! posted. It ends as its credit memo is posted or asked for.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::Effect;
use till_core::ids::{CreditDraftId, CustomerId, DocumentKind, DocumentRef, InvoiceId, PersonId, ReturnId};
use till_core::merge::FieldChange;
use till_core::money::{Currency, Money};

use super::alone::{self, CreditAlone};
use super::credit::{self, CreditPosted, ToCredit};
use crate::convert::{json, moment};
use crate::invoices::read;
use crate::open_items::next_id;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError};

/// The longest that is kept of one, in bytes.
const LONGEST: usize = 200_000;

/// What a draft of a credit memo would credit, as typed: it need not be complete.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "of", rename_all = "snake_case")]
pub enum CreditDraftForm {
    /// Lines of a posted invoice.
    Invoice {
        /// The invoice.
        invoice: InvoiceId,
        /// What of it.
        wish: ToCredit,
    },
    /// What stands on no invoice.
    Alone {
        /// What.
        wish: CreditAlone,
    },
}

impl CreditDraftForm {
    fn reason(&self) -> &str {
        match self {
            Self::Invoice { wish, .. } => wish.reason.trim(),
            Self::Alone { wish } => wish.reason.trim(),
        }
    }

    /// Without what was seen: it is seen again before it is posted.
    fn unseen(&self) -> Self {
        match self.clone() {
            Self::Invoice { invoice, wish } => Self::Invoice { invoice, wish: ToCredit { seen: None, ..wish } },
            Self::Alone { wish } => Self::Alone { wish: CreditAlone { seen: None, ..wish } },
        }
    }
}

/// A draft of a credit memo.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditDraft {
    /// Its id.
    pub id: CreditDraftId,
    /// What was typed.
    pub form: CreditDraftForm,
    /// The return its goods came back on, where they did.
    pub returned: Option<ReturnId>,
    /// Changes with every save.
    pub version: i64,
}

/// A draft in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditDraftRow {
    /// Its id.
    pub id: CreditDraftId,
    /// Whose.
    pub customer: DocumentRef,
    /// The customer's name.
    pub customer_name: String,
    /// The invoice it would credit lines of; none where it stands alone.
    pub invoice: Option<DocumentRef>,
    /// Why, as far as it is said.
    pub reason: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it would come to, with tax; none where that cannot be said.
    pub total: Option<Money>,
    /// What stands in its way today, in a sentence.
    pub blocked: Option<String>,
    /// Who saved it last.
    pub saved_by: String,
    /// When.
    pub saved_at: DateTime<Utc>,
    /// Changes with every save.
    pub version: i64,
}

/// The customer of what a draft would credit, whose document that is.
async fn customer_of(connection: &mut SqliteConnection, form: &CreditDraftForm) -> Result<(CustomerId, Option<i64>)> {
    match form {
        CreditDraftForm::Invoice { invoice, .. } => {
            let customer = sqlx::query_scalar!(
                "SELECT customer_id FROM documents WHERE id = ? AND kind = 'invoice' AND state = 'posted'",
                invoice.0
            )
            .fetch_optional(connection)
            .await?
            .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, *invoice))?;
            Ok((CustomerId(customer), Some(invoice.0)))
        }
        CreditDraftForm::Alone { wish } => {
            let customer = sqlx::query_scalar!("SELECT id FROM customers WHERE id = ?", wish.customer.0)
                .fetch_optional(connection)
                .await?
                .ok_or_else(|| StoreError::invalid("customer", "Choose the customer first."))?;
            Ok((CustomerId(customer), None))
        }
    }
}

/// Saves a draft: a new one, or another version of one that was seen. Returns its id and version.
///
/// # Errors
/// [`StoreError::Stale`] where someone saved it since, an unknown customer or invoice, more than is kept.
pub async fn save_credit_draft(
    writing: &mut Writing<'_>,
    known: Option<(CreditDraftId, i64)>,
    form: &CreditDraftForm,
) -> Result<CreditDraft> {
    let form = form.unseen();
    let (customer, invoice) = customer_of(writing, &form).await?;
    let wish = json(&form)?;
    if wish.len() > LONGEST {
        return Err(StoreError::invalid("added", "That is too long for a draft. Post it, or put fewer lines on it."));
    }
    let (id, version) = match known {
        None => {
            let id = CreditDraftId(next_id(writing, "credit_drafts").await?);
            sqlx::query!(
                "INSERT INTO credit_drafts (id, customer_id, invoice_id, wish) VALUES (?, ?, ?, ?)",
                id.0,
                customer.0,
                invoice,
                wish
            )
            .execute(&mut **writing)
            .await?;
            (id, 1)
        }
        Some((id, seen)) => {
            check_version(writing, id, seen).await?;
            let next = seen + 1;
            sqlx::query!(
                "UPDATE credit_drafts SET customer_id = ?, invoice_id = ?, wish = ?, version = ? WHERE id = ?",
                customer.0,
                invoice,
                wish,
                next,
                id.0
            )
            .execute(&mut **writing)
            .await?;
            (id, next)
        }
    };
    let fields = vec![set("reason", form.reason())];
    note(writing, id, "credit_draft_saved", format!("saved {}", named(id)), fields);
    credit_draft(writing, id).await.map(|draft| CreditDraft { version, ..draft })
}

fn named(id: CreditDraftId) -> String {
    format!("credit draft {id}")
}

fn note(writing: &mut Writing<'_>, id: CreditDraftId, deed: &str, words: String, fields: Vec<FieldChange>) {
    writing.note_on((DocumentKind::CreditDraft, id.0, &named(id)), deed, words, None, fields);
}

/// Refuses a draft that is gone, or that someone saved since it was seen.
async fn check_version(connection: &mut SqliteConnection, id: CreditDraftId, seen: i64) -> Result<()> {
    let gone = "This draft was posted or deleted already. Look at the credit memos of the customer before you credit it again.";
    let version = sqlx::query_scalar!("SELECT version FROM credit_drafts WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::WrongState(gone.to_owned()))?;
    if version == seen { Ok(()) } else { Err(StoreError::Stale { what: named(id), current: version }) }
}

/// Deletes a draft.
///
/// # Errors
/// [`StoreError::Stale`] where someone saved it since; where it is gone.
pub async fn drop_credit_draft(writing: &mut Writing<'_>, id: CreditDraftId, seen: i64) -> Result<()> {
    check_version(writing, id, seen).await?;
    gone(writing, id).await?;
    note(writing, id, "credit_draft_deleted", format!("deleted {}", named(id)), Vec::new());
    Ok(())
}

async fn gone(connection: &mut SqliteConnection, id: CreditDraftId) -> Result<()> {
    sqlx::query!("DELETE FROM credit_drafts WHERE id = ?", id.0).execute(connection).await?;
    Ok(())
}

/// One draft, as it was saved.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn credit_draft(connection: &mut SqliteConnection, id: CreditDraftId) -> Result<CreditDraft> {
    let row = sqlx::query!("SELECT wish, version FROM credit_drafts WHERE id = ?", id.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::CreditDraft, id))?;
    let form: CreditDraftForm = read(&row.wish)?;
    let line = match &form {
        CreditDraftForm::Invoice { wish, .. } => wish.lines.iter().find_map(|line| line.return_line),
        CreditDraftForm::Alone { wish } => wish.came_back.first().map(|line| line.return_line),
    };
    let line = line.map(|line| line.0);
    let returned = sqlx::query_scalar!("SELECT return_id FROM return_lines WHERE id = ?", line)
        .fetch_optional(connection)
        .await?
        .map(ReturnId);
    Ok(CreditDraft { id, form, returned, version: row.version })
}

/// Every draft, the one saved last first; of one person only, where one is named.
///
/// # Errors
/// Where the database cannot be read.
pub async fn credit_drafts(
    connection: &mut SqliteConnection,
    rules: &Rules,
    person: Option<PersonId>,
) -> Result<Vec<CreditDraftRow>> {
    let person = person.map(|person| person.0);
    let rows = sqlx::query!(
        r#"SELECT draft.id AS "id!", customers.id AS "customer!", customers.number AS "customer_number!", customers.name AS "name!",
                  customers.currency AS "currency!", invoice.id AS "invoice?", invoice.number AS "invoice_number?",
                  invoice.currency AS "invoice_currency?", wish AS "wish!", draft.version AS "version!", saved.person AS "saved_by!", saved.at AS "saved_at!"
           FROM credit_drafts AS draft JOIN customers ON customers.id = draft.customer_id LEFT JOIN documents AS invoice ON invoice.id = invoice_id
           JOIN record AS saved ON saved.sequence = (SELECT max(sequence) FROM record WHERE document_kind = 'credit_draft' AND document_id = draft.id)
           WHERE ?1 IS NULL OR saved.person_id = ?1 ORDER BY saved.sequence DESC"#,
        person
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut drafts = Vec::with_capacity(rows.len());
    for row in rows {
        let form: CreditDraftForm = read(&row.wish)?;
        let (total, blocked) = outcome(connection, rules, &form).await?;
        let invoice = row.invoice.zip(row.invoice_number);
        drafts.push(CreditDraftRow {
            id: CreditDraftId(row.id),
            customer: DocumentRef { kind: DocumentKind::Customer, id: row.customer, number: row.customer_number },
            customer_name: row.name,
            invoice: invoice.map(|(id, number)| DocumentRef { kind: DocumentKind::Invoice, id, number }),
            reason: form.reason().to_owned(),
            currency: crate::convert::currency(row.invoice_currency.as_ref().unwrap_or(&row.currency))?,
            total,
            blocked,
            saved_by: row.saved_by,
            saved_at: moment(&row.saved_at)?,
            version: row.version,
        });
    }
    Ok(drafts)
}

/// What a draft would come to today, and what stands in its way.
async fn outcome(
    connection: &mut SqliteConnection,
    rules: &Rules,
    form: &CreditDraftForm,
) -> Result<(Option<Money>, Option<String>)> {
    let decided = match form {
        CreditDraftForm::Invoice { invoice, wish } => credit::credit_preview(connection, rules, *invoice, wish)
            .await
            .map(|preview| (preview.total, preview.blockers)),
        CreditDraftForm::Alone { wish } => {
            alone::credit_alone_preview(connection, rules, wish).await.map(|preview| (preview.total, preview.blockers))
        }
    };
    match decided {
        Ok((total, blockers)) => {
            // That it does not say why yet is seen in its own column.
            let mut stops = blockers.into_iter().filter(|blocker| blocker.effect == Effect::Stops);
            let first = stops.find(|blocker| blocker.field != "reason");
            Ok((Some(total), first.map(|blocker| blocker.sentence)))
        }
        Err(error @ (StoreError::Database(_) | StoreError::Corrupt(_) | StoreError::NotSetUp)) => Err(error),
        // What one draft says wrong is no reason to hide the others.
        Err(error) => Ok((None, Some(error.to_string()))),
    }
}

/// Posts what was typed, or asks for it, and ends the draft it was kept as, named with the version that was seen.
///
/// # Errors
/// [`StoreError::Stale`] where someone saved the draft since; where someone posted or deleted it: so that what two people opened
/// is credited once. Where it cannot be posted; then the draft stays.
pub async fn credit_from(
    writing: &mut Writing<'_>,
    rules: &Rules,
    form: &CreditDraftForm,
    draft: Option<(CreditDraftId, i64)>,
) -> Result<CreditPosted> {
    if let Some((id, seen)) = draft {
        check_version(writing, id, seen).await?;
    }
    let posted = match form {
        CreditDraftForm::Invoice { invoice, wish } => credit::credit(writing, rules, *invoice, wish).await?,
        CreditDraftForm::Alone { wish } => alone::credit_alone(writing, rules, wish).await?,
    };
    if let Some((id, _)) = draft {
        gone(writing, id).await?;
    }
    Ok(posted)
}
