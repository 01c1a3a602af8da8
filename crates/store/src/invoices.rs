//! Invoices: drafts that reserve what they bill, and posting them.

mod conflict;
mod load;
mod price;
mod views;
mod write;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DocumentDate, invoice_dates};
use till_core::checks::{Blocker, Check, Effect, Step, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, ShipmentLineId};
use till_core::invoice::{InvoiceDecision, InvoiceDocument, InvoiceInput, decide, group};
use till_core::merge::{FieldChange, Fields, differences};
use till_core::tape::{Change, Tape};

use crate::convert::json;
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers, sensible_date};

pub use conflict::{MergeView, ToMerge, merge};
pub use load::Pick;
pub(crate) use load::{Picked, input, load_lines};
pub(crate) use price::set_price;
pub use price::{NewPrice, change_price};
pub use views::{InvoiceList, InvoiceRow, InvoiceView, Party, list, view};

/// What to bill: lines, and dates where someone typed them.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToBill {
    /// Shipment lines; without a quantity all that is unbilled.
    pub picks: Vec<Pick>,
    /// Document date, if typed.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date, if typed.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
}

/// An invoice as it would be posted.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoicePreview {
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The document.
    pub document: Option<InvoiceDocument>,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// The entry of the cost that follows billing.
    pub cost_entry: Option<Entry>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What it changes.
    pub changes: Vec<Change>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub fingerprint: String,
}

impl InvoicePreview {
    fn of(input: &InvoiceInput<'_>, decision: InvoiceDecision) -> Self {
        Self {
            customer: input.customer.id,
            customer_name: input.customer.name.clone(),
            document: decision.document,
            entry: decision.entry,
            cost_entry: decision.cost_entry,
            tape: decision.tape,
            changes: decision.changes,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// An invoice that was posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedInvoice {
    /// Its id.
    pub id: InvoiceId,
    /// Its number.
    pub number: String,
}

fn dates(to_bill: &ToBill, rules: &Rules) -> Result<(DocumentDate, DocumentDate)> {
    if let Some(date) = to_bill.document_date {
        sensible_date("document_date", date)?;
    }
    if let Some(date) = to_bill.posting_date {
        sensible_date("posting_date", date)?;
    }
    Ok(invoice_dates(to_bill.document_date, to_bill.posting_date, rules.business_date))
}

/// What the picks come to: one invoice for each customer, currency and terms.
///
/// # Errors
/// An unknown line, a date out of reach.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    to_bill: &ToBill,
) -> Result<Vec<InvoicePreview>> {
    let (document_date, posting_date) = dates(to_bill, rules)?;
    let mut previews = Vec::new();
    for (customer, lines) in split(load_lines(connection, &to_bill.picks, None).await?) {
        let input = input(connection, rules, Step::Post, customer, lines, document_date, posting_date).await?;
        previews.push(InvoicePreview::of(&input, decide(&input)));
    }
    Ok(previews)
}

fn split(picked: Vec<Picked>) -> Vec<(CustomerId, Vec<Picked>)> {
    group(picked.into_iter().map(|picked| (picked.group.clone(), picked)).collect())
        .into_iter()
        .map(|(group, lines)| (group.customer, lines))
        .collect()
}

/// Posts the picks at once: every invoice they come to, or none.
///
/// `seen` are the fingerprints of the previews, in their order; none for operations without
/// a person before them.
///
/// # Errors
/// [`StoreError::Moved`] where a figure changed since the preview, or what the core refuses.
pub async fn post_picks(
    writing: &mut Writing<'_>,
    rules: &Rules,
    to_bill: &ToBill,
    seen: Option<&[String]>,
) -> Result<Vec<PostedInvoice>> {
    let (document_date, posting_date) = dates(to_bill, rules)?;
    let groups = split(load_lines(writing, &to_bill.picks, None).await?);
    if groups.is_empty() {
        return Err(StoreError::Refused(vec![Blocker {
            check: Check::NothingToDo,
            effect: Effect::Stops,
            field: "picks".to_owned(),
            words: Check::NothingToDo.words().to_owned(),
            sentence: "Nothing is picked. Pick a shipment or a line to bill.".to_owned(),
            at: None,
        }]));
    }
    if seen.is_some_and(|seen| seen.len() != groups.len()) {
        return Err(StoreError::Moved);
    }
    let mut posted = Vec::with_capacity(groups.len());
    for (position, (customer, lines)) in groups.into_iter().enumerate() {
        let input = input(writing, rules, Step::Post, customer, lines, document_date, posting_date).await?;
        let decision = decide(&input);
        let document = agreed(&decision, seen.and_then(|seen| seen.get(position)))?;
        let code = document.currency.code();
        let id = sqlx::query_scalar!(
            "INSERT INTO invoices (state, customer_id, currency) VALUES ('draft', ?, ?) RETURNING id AS \"id!\"",
            document.customer.0,
            code
        )
        .fetch_one(&mut **writing)
        .await?;
        posted.push(write::post(writing, InvoiceId(id), &decision, document, write::Reserved::No).await?);
    }
    Ok(posted)
}

/// The document of a decision that may be posted.
fn agreed<'a>(decision: &'a InvoiceDecision, seen: Option<&String>) -> Result<&'a InvoiceDocument> {
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers.clone()));
    }
    if seen.is_some_and(|seen| *seen != decision.fingerprint) {
        return Err(StoreError::Moved);
    }
    decision.document.as_ref().ok_or(StoreError::Moved)
}

/// Makes a draft of each invoice the picks come to; the drafts reserve what they bill.
///
/// # Errors
/// What the core refuses to put on a draft: more than is unbilled, a quantity of zero.
pub async fn make_drafts(writing: &mut Writing<'_>, rules: &Rules, to_bill: &ToBill) -> Result<Vec<InvoiceId>> {
    let (document_date, posting_date) = dates(to_bill, rules)?;
    let groups = split(load_lines(writing, &to_bill.picks, None).await?);
    if groups.is_empty() {
        return Err(StoreError::invalid("picks", "Nothing is picked. Pick a shipment or a line to bill."));
    }
    let mut drafts = Vec::with_capacity(groups.len());
    for (customer, lines) in groups {
        let input = input(writing, rules, Step::Bill, customer, lines, document_date, posting_date).await?;
        let decision = decide(&input);
        if stops(&decision.blockers) {
            return Err(StoreError::Refused(decision.blockers));
        }
        let code = input.orders.first().map_or_else(|| rules.base, |order| order.currency);
        let code = code.code();
        let id = sqlx::query_scalar!(
            "INSERT INTO invoices (state, customer_id, currency, document_date, posting_date) VALUES ('draft', ?, ?, ?, ?) RETURNING id AS \"id!\"",
            customer.0, code, to_bill.document_date, to_bill.posting_date
        )
        .fetch_one(&mut **writing)
        .await?;
        reserve(writing, InvoiceId(id), &input).await?;
        let fields = conflict::described(writing, to_bill_of(&input, to_bill)).await?;
        note_draft(writing, InvoiceId(id), "draft_made", 1, differences(&Fields::new(), &fields)).await?;
        drafts.push(InvoiceId(id));
    }
    Ok(drafts)
}

/// What an input bills, with its quantities said.
fn to_bill_of(input: &InvoiceInput<'_>, to_bill: &ToBill) -> ToBill {
    let picks =
        input.lines.iter().map(|line| Pick { shipment_line: line.shipment_line, quantity: Some(line.quantity) });
    ToBill { picks: picks.collect(), document_date: to_bill.document_date, posting_date: to_bill.posting_date }
}

/// Notes what was done to a draft.
async fn note_draft(
    writing: &mut Writing<'_>,
    id: InvoiceId,
    what: &str,
    version: i64,
    changes: Vec<FieldChange>,
) -> Result<()> {
    let name = sqlx::query_scalar!(
        "SELECT name FROM invoices JOIN customers ON customers.id = customer_id WHERE invoices.id = ?",
        id.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let verb = match what {
        "draft_made" => "made",
        "draft_dropped" => "dropped",
        _ => "changed",
    };
    let words = format!("{verb} a draft for {name}");
    writing.note_on((DocumentKind::Invoice, id.0, &format!("draft {id}")), what, words, Some(version), changes);
    Ok(())
}

async fn reserve(connection: &mut SqliteConnection, id: InvoiceId, input: &InvoiceInput<'_>) -> Result<()> {
    let lines: Vec<_> = input
        .lines
        .iter()
        .map(|line| {
            let change = line.price_change.as_ref();
            (
                line.shipment_line,
                line.quantity.scaled(),
                change.map(|change| change.unit_price.scaled()),
                change.map(|change| change.reason.as_str()),
                change.and_then(|change| change.allowed),
            )
        })
        .collect();
    let lines = json(&lines)?;
    sqlx::query!(
        "INSERT INTO invoice_lines (invoice_id, position, shipment_line_id, quantity_e4, unit_price_e6, price_reason, price_allowed_minor)
         SELECT ?, key, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4 FROM json_each(?)",
        id.0,
        lines
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE shipment_lines SET drafted_e4 = drafted_e4 + picked.quantity, unbilled_e4 = unbilled_e4 - picked.quantity
         FROM (SELECT value ->> 0 AS line, value ->> 1 AS quantity FROM json_each(?)) AS picked WHERE shipment_lines.id = picked.line",
        lines
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn release(connection: &mut SqliteConnection, id: InvoiceId) -> Result<()> {
    sqlx::query!(
        "UPDATE shipment_lines SET drafted_e4 = drafted_e4 - mine.quantity_e4, unbilled_e4 = unbilled_e4 + mine.quantity_e4
         FROM (SELECT shipment_line_id, quantity_e4 FROM invoice_lines WHERE invoice_id = ?) AS mine
         WHERE shipment_lines.id = mine.shipment_line_id",
        id.0
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("DELETE FROM invoice_lines WHERE invoice_id = ?", id.0).execute(connection).await?;
    Ok(())
}

struct Draft {
    customer: CustomerId,
    to_bill: ToBill,
}

/// A draft of the version seen, or why it cannot be changed.
async fn draft(connection: &mut SqliteConnection, id: InvoiceId, version: Option<i64>) -> Result<Draft> {
    let row = sqlx::query!(
        r#"SELECT customer_id, state, number, version, document_date AS "document_date: NaiveDate", posting_date AS "posting_date: NaiveDate"
           FROM invoices WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    if let Some(number) = row.number.filter(|_| row.state == "posted") {
        return Err(StoreError::WrongState(format!(
            "This draft is posted already, as {number}. A posted invoice never changes."
        )));
    }
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: "This draft".to_owned(), current: row.version });
    }
    let picks = sqlx::query!(
        "SELECT shipment_line_id, quantity_e4 FROM invoice_lines WHERE invoice_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|line| Pick {
        shipment_line: ShipmentLineId(line.shipment_line_id),
        quantity: Some(Quantity::from_scaled(line.quantity_e4)),
    })
    .collect();
    Ok(Draft {
        customer: CustomerId(row.customer_id),
        to_bill: ToBill { picks, document_date: row.document_date, posting_date: row.posting_date },
    })
}

/// What a draft comes to as it stands.
async fn draft_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: InvoiceId,
    draft: &Draft,
    step: Step,
) -> Result<InvoiceInput<'a>> {
    let (document_date, posting_date) = dates(&draft.to_bill, rules)?;
    let lines = load_lines(connection, &draft.to_bill.picks, Some(id)).await?;
    input(connection, rules, step, draft.customer, lines, document_date, posting_date).await
}

/// Replaces the lines and dates of a draft. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], a line of another customer, or what the core refuses.
pub async fn change_draft(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: i64,
    to_bill: &ToBill,
) -> Result<i64> {
    let before = draft(writing, id, Some(version)).await?;
    let was = conflict::described(writing, before.to_bill.clone()).await?;
    // Reserved lines count as free again, and keep their prices, until the new ones are checked.
    let lines = load_lines(writing, &to_bill.picks, Some(id)).await?;
    if let Some(foreign) = lines.iter().find(|line| line.group.customer != before.customer) {
        let (owner, _) = customers::facts(writing, before.customer).await?;
        return Err(StoreError::invalid(
            "picks",
            format!("{} is not a shipment to {}.", foreign.line.shipment_number, owner.name),
        ));
    }
    let (document_date, posting_date) = dates(to_bill, rules)?;
    let input = input(writing, rules, Step::Bill, before.customer, lines, document_date, posting_date).await?;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    release(writing, id).await?;
    reserve(writing, id, &input).await?;
    sqlx::query!(
        "UPDATE invoices SET document_date = ?, posting_date = ?, version = version + 1 WHERE id = ?",
        to_bill.document_date,
        to_bill.posting_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let is = conflict::described(writing, to_bill_of(&input, to_bill)).await?;
    note_draft(writing, id, "draft_changed", version + 1, differences(&was, &is)).await?;
    Ok(version + 1)
}

/// Drops a draft: its quantities are unbilled again.
///
/// # Errors
/// [`StoreError::Stale`], or where it is posted.
pub async fn drop_draft(writing: &mut Writing<'_>, id: InvoiceId, version: i64) -> Result<()> {
    let before = draft(writing, id, Some(version)).await?;
    let was = conflict::described(writing, before.to_bill).await?;
    note_draft(writing, id, "draft_dropped", version, differences(&was, &Fields::new())).await?;
    crate::approvals::document_gone(writing, DocumentKind::Invoice, id.0).await?;
    release(writing, id).await?;
    sqlx::query!("DELETE FROM invoices WHERE id = ?", id.0).execute(&mut **writing).await?;
    Ok(())
}

/// Posts a draft.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn post_draft(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: i64,
    seen: &str,
) -> Result<PostedInvoice> {
    let draft = draft(writing, id, Some(version)).await?;
    let input = draft_input(writing, rules, id, &draft, Step::Post).await?;
    let decision = decide(&input);
    let document = agreed(&decision, Some(&seen.to_owned()))?;
    write::post(writing, id, &decision, document, write::Reserved::Yes).await
}
