//! Requests for payment in advance: the paper of a prepayment invoice without its entry. Paid, it becomes one of that day,
//! and the money settles it at once; an order that is canceled before leaves nothing behind.
//! *Source: domain.md section 8; postings.md, Money: payment request paid.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::entry::Entry;
use till_core::fingerprint;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId, PaymentRequestId, ReceiptId};
use till_core::invoice::InvoiceDocument;
use till_core::money::{Currency, Money};
use till_core::people::check_reason;
use till_core::prepayment::asking::asks_otherwise;
use till_core::tape::{Change, Tape};

use super::asking::{AdvanceForm, asked, post};
use crate::convert::{currency, json};
use crate::invoices::{Party, PostedInvoice, read};
use crate::open_items::next_id;
use crate::receipts::{self, NewReceipt};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Actor, Result, Store, StoreError, rules, sensible_date};

/// What became of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RequestState {
    /// It waits for the money.
    Open,
    /// It was paid, and is a prepayment invoice since.
    Paid,
    /// It was withdrawn.
    Withdrawn,
}

/// A request in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PaymentRequestRow {
    /// Its id.
    pub id: PaymentRequestId,
    /// Its number.
    pub number: String,
    /// When it was sent.
    pub requested_on: NaiveDate,
    /// When it is to be paid.
    pub due_date: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it asks for, with tax.
    pub total: Money,
    /// What became of it.
    pub state: RequestState,
    /// The prepayment invoice it became.
    pub invoice: Option<DocumentRef>,
}

/// A request as shown.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PaymentRequestView {
    /// As in a list.
    #[serde(flatten)]
    pub row: PaymentRequestRow,
    /// The order it is for.
    pub order: DocumentRef,
    /// Who is asked, as it was sent.
    pub customer: Party,
    /// What it asks for, as it was sent.
    pub document: InvoiceDocument,
    /// Its arithmetic, as it was sent.
    pub tape: Tape,
    /// Why it was withdrawn.
    pub withdrawn_because: Option<String>,
    /// Changes with what becomes of it.
    pub version: i64,
}

/// Money that came for a request: all that it asks for.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewRequestPayment {
    /// How: the code of a way of paying.
    pub method: String,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Check number, words of the transfer.
    #[serde(default)]
    pub reference: Option<String>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What the money makes of a request.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RequestPaid {
    /// The prepayment invoice.
    pub invoice: PostedInvoice,
    /// The receipt.
    pub receipt: ReceiptId,
    /// The entries, in their order: the prepayment invoice, the money.
    pub entries: Vec<Entry>,
    /// The arithmetic of the prepayment invoice.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// To be sent back when posting.
    pub fingerprint: String,
}

/// Asks for payment in advance: keeps what is asked for with its paper, and writes no entry.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn request(
    writing: &mut Writing<'_>,
    rules: &Rules,
    order: OrderId,
    form: &AdvanceForm,
) -> Result<PaymentRequestRow> {
    let asked = asked(writing, rules, order, form).await?;
    writing.saw(form.seen.as_deref(), &asked.decision.fingerprint)?;
    let document = asked.decision.document.as_ref().ok_or(StoreError::Moved)?;
    let (number, sequence) = next_number(writing, "payment_request").await?;
    let id = next_id(writing, "payment_requests").await?;
    let (kept, said, tape) =
        (json(&AdvanceForm { seen: None, ..form.clone() })?, json(document)?, json(&asked.decision.tape)?);
    let (code, day, customer) = (document.currency.code(), document.document_date.date, asked.loaded.customer.0);
    sqlx::query!(
        "INSERT INTO payment_requests (id, number, sequence, order_id, requested_on, due_date, currency, total_minor, form, document, tape,
                                       bill_to_name, bill_to_address, bill_to_tax_id)
         SELECT ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, name, address, tax_id FROM customers WHERE id = ?",
        id, number, sequence, order.0, day, document.due_date, code, document.total.0, kept, said, tape, customer
    )
    .execute(&mut **writing)
    .await?;
    let total = document.currency.format(document.total);
    let words = format!("asked {} for payment in advance with {number}", asked.input.customer.name);
    let fields = vec![set("total", total), set("order", asked.loaded.order.number.as_str())];
    writing.note_on((DocumentKind::PaymentRequest, id, &number), "payment_requested", words, Some(1), fields);
    requests_of(writing, order).await?.pop().ok_or(StoreError::Moved)
}

/// Requests for an order, the oldest first.
pub(super) async fn requests_of(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<PaymentRequestRow>> {
    let ids = sqlx::query_scalar!("SELECT id FROM payment_requests WHERE order_id = ? ORDER BY id", order.0)
        .fetch_all(&mut *connection)
        .await?;
    let mut rows = Vec::with_capacity(ids.len());
    for id in ids {
        rows.push(request_view(connection, PaymentRequestId(id)).await?.row);
    }
    Ok(rows)
}

/// One request.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn request_view(connection: &mut SqliteConnection, id: PaymentRequestId) -> Result<PaymentRequestView> {
    let row = sqlx::query!(
        r#"SELECT payment_requests.id AS "id!", payment_requests.number AS "number!", requested_on AS "day!: NaiveDate",
                  payment_requests.due_date AS "due!: NaiveDate", payment_requests.currency AS "currency!", payment_requests.total_minor AS "total!",
                  document AS "document!", payment_requests.tape AS "tape!", payment_requests.bill_to_name AS "name!",
                  payment_requests.bill_to_address AS "address!", payment_requests.bill_to_tax_id AS tax_id, withdrawn_because,
                  payment_requests.version AS "version!", invoice_id, documents.number AS "invoice?",
                  orders.id AS "order!", orders.number AS "order_number!", customers.id AS "customer!", customers.number AS "customer_number!"
           FROM payment_requests JOIN orders ON orders.id = order_id JOIN customers ON customers.id = orders.customer_id
           LEFT JOIN documents ON documents.id = invoice_id WHERE payment_requests.id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::PaymentRequest, id))?;
    let state = match (row.invoice_id, &row.withdrawn_because) {
        (Some(_), _) => RequestState::Paid,
        (None, Some(_)) => RequestState::Withdrawn,
        (None, None) => RequestState::Open,
    };
    let became = |(id, number)| DocumentRef { kind: DocumentKind::Invoice, id, number };
    Ok(PaymentRequestView {
        row: PaymentRequestRow {
            id,
            number: row.number,
            requested_on: row.day,
            due_date: row.due,
            currency: currency(&row.currency)?,
            total: Money(row.total),
            state,
            invoice: row.invoice_id.zip(row.invoice).map(became),
        },
        order: DocumentRef { kind: DocumentKind::Order, id: row.order, number: row.order_number },
        customer: Party {
            id: CustomerId(row.customer),
            number: row.customer_number,
            name: row.name,
            address: row.address,
            tax_id: row.tax_id,
        },
        document: read(&row.document)?,
        tape: read(&row.tape)?,
        withdrawn_because: row.withdrawn_because,
        version: row.version,
    })
}

/// A request that still waits for its money.
async fn open(connection: &mut SqliteConnection, id: PaymentRequestId) -> Result<PaymentRequestView> {
    let view = request_view(connection, id).await?;
    match view.row.state {
        RequestState::Open => Ok(view),
        RequestState::Paid => Err(StoreError::WrongState(format!("{} is paid already.", view.row.number))),
        RequestState::Withdrawn => Err(StoreError::WrongState(format!("{} was withdrawn.", view.row.number))),
    }
}

/// Withdraws a request that was not paid. Returns its version.
///
/// # Errors
/// [`StoreError::Stale`], one that is paid or withdrawn, no reason.
pub async fn withdraw(writing: &mut Writing<'_>, id: PaymentRequestId, (version, reason): (i64, &str)) -> Result<i64> {
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let view = open(writing, id).await?;
    if view.version != version {
        return Err(StoreError::Stale { what: view.row.number, current: view.version });
    }
    sqlx::query!("UPDATE payment_requests SET withdrawn_because = ?, version = version + 1 WHERE id = ?", reason, id.0)
        .execute(&mut **writing)
        .await?;
    let number = view.row.number;
    let at = (DocumentKind::PaymentRequest, id.0, number.as_str());
    let words = format!("withdrew {number} to {}", view.customer.name);
    writing.note_on(at, "payment_request_withdrawn", words, Some(version + 1), vec![set("reason", reason)]);
    Ok(version + 1)
}

/// What the money for a request would do. It is carried out and taken back: nothing stays written.
///
/// # Errors
/// As [`pay`].
pub async fn preview_pay(
    store: &Store,
    actor: &Actor,
    id: PaymentRequestId,
    new: &NewRequestPayment,
) -> Result<RequestPaid> {
    store
        .rehearse(actor, async |writing| {
            let rules = rules::load(writing).await?;
            carry_out(writing, &rules, id, new).await
        })
        .await
}

/// Takes the money for a request: it becomes a prepayment invoice of that day, which the money settles.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`]; one that is paid or withdrawn; an order that asks for something else
/// since; what the core refuses of the invoice or of the money.
pub async fn pay(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: PaymentRequestId,
    (version, new): (i64, &NewRequestPayment),
) -> Result<RequestPaid> {
    let view = request_view(writing, id).await?;
    if view.version != version {
        return Err(StoreError::Stale { what: view.row.number, current: view.version });
    }
    let paid = carry_out(writing, rules, id, new).await?;
    writing.saw(new.seen.as_deref(), &paid.fingerprint)?;
    Ok(paid)
}

async fn carry_out(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: PaymentRequestId,
    new: &NewRequestPayment,
) -> Result<RequestPaid> {
    let view = open(writing, id).await?;
    let date = new.date.unwrap_or(rules.business_date);
    sensible_date("date", date)?;
    let kept =
        sqlx::query_scalar!("SELECT form FROM payment_requests WHERE id = ?", id.0).fetch_one(&mut **writing).await?;
    // Its tax arises with the payment, on that day.
    let form = AdvanceForm { document_date: Some(date), posting_date: None, ..read(&kept)? };
    let asked = asked(writing, rules, OrderId(view.order.id), &form).await?;
    let document = asked.decision.document.clone().ok_or(StoreError::Moved)?;
    let named = (view.order.number.as_str(), view.row.number.as_str());
    if let Some(why) = asks_otherwise(&view.document, &document, named) {
        return Err(StoreError::WrongState(why));
    }
    let (tape, changes) = (asked.decision.tape.clone(), asked.decision.changes.clone());
    let mut entries: Vec<Entry> = asked.decision.entry.iter().cloned().collect();
    let invoice = post(writing, rules, asked).await?;
    let receipt = NewReceipt {
        customer: view.customer.id,
        method: new.method.clone(),
        date: Some(date),
        amount: document.currency.format(document.due),
        reference: new.reference.clone(),
        applications: None,
        first: Some(invoice.id),
        with: Vec::new(),
        currency: None,
    };
    let money = receipts::preview(writing, rules, &receipt).await?;
    entries.extend(money.entry.clone());
    let taken = receipts::post(writing, rules, &receipt, Some(&money.fingerprint)).await?;
    sqlx::query!("UPDATE payment_requests SET invoice_id = ?, version = version + 1 WHERE id = ?", invoice.id.0, id.0)
        .execute(&mut **writing)
        .await?;
    let at = (DocumentKind::PaymentRequest, id.0, view.row.number.as_str());
    let words = format!("{} was paid, it is {} now", view.row.number, invoice.number);
    writing.note_on(at, "payment_request_paid", words, Some(view.version + 1), Vec::new());
    let fingerprint = fingerprint::of(&(&document.taxes, document.total, &entries));
    Ok(RequestPaid { invoice, receipt: taken.id, entries, tape, changes, fingerprint })
}
