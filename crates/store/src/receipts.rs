//! Receipts, and applying what lies unapplied.

mod views;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OrderId, ReceiptId};
use till_core::merge::FieldChange;
use till_core::money::{Currency, Money};
use till_core::money_in::{
    Method, MoneyDecision, MoneyDocument, MoneyInput, OpenInvoice, Source, ToApply, decide, oldest_first,
};
use till_core::tape::{Change, Tape};

use crate::convert::{currency, json};
use crate::rules::{Rules, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, ledger, orders, sensible_date};

pub use views::{ApplicationView, ReceiptList, ReceiptRow, ReceiptView, list, view};

/// An amount for an invoice, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewApplication {
    /// The invoice.
    pub invoice: InvoiceId,
    /// A decimal in the currency of the money.
    pub amount: String,
}

/// A receipt to post, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReceipt {
    /// Who paid.
    pub customer: CustomerId,
    /// How.
    pub method: Method,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// A decimal in the customer's currency.
    pub amount: String,
    /// Check number, words of the transfer.
    #[serde(default)]
    pub reference: Option<String>,
    /// Where it goes; none to propose the oldest invoices first.
    #[serde(default)]
    pub applications: Option<Vec<NewApplication>>,
    /// In a proposal, the invoice that comes before all others.
    #[serde(default)]
    pub first: Option<InvoiceId>,
}

/// Unapplied money to apply, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewApplications {
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Where it goes; none to propose the oldest invoices first.
    #[serde(default)]
    pub applications: Option<Vec<NewApplication>>,
}

/// Money in as it would be posted.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoneyPreview {
    /// Currency of its amounts.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What becomes of the money.
    pub document: MoneyDocument,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What it changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub fingerprint: String,
}

/// A receipt that was posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedReceipt {
    /// Its id.
    pub id: ReceiptId,
    /// Its number.
    pub number: String,
}

async fn open_invoices(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    currency_wanted: Currency,
) -> Result<Vec<OpenInvoice>> {
    let code = currency_wanted.code();
    let ids = sqlx::query_scalar!(
        "SELECT id FROM invoices WHERE customer_id = ? AND currency = ? AND open_minor > 0 ORDER BY next_due_date, id",
        customer.0,
        code
    )
    .fetch_all(&mut *connection)
    .await?;
    load_invoices(connection, &ids.into_iter().map(InvoiceId).collect::<Vec<_>>()).await
}

async fn load_invoices(connection: &mut SqliteConnection, ids: &[InvoiceId]) -> Result<Vec<OpenInvoice>> {
    let ids = json(&ids)?;
    sqlx::query!(
        r#"SELECT invoices.id, number AS "number!", customer_id, currency, posting_date AS "posting_date!: NaiveDate",
                  next_due_date AS "due_date!: NaiveDate", open_minor AS "open!: i64", open_base_minor AS "open_base!: i64"
           FROM json_each(?) AS wanted JOIN invoices ON invoices.id = wanted.value AND state = 'posted' ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(OpenInvoice {
            id: InvoiceId(row.id),
            number: row.number,
            customer: CustomerId(row.customer_id),
            currency: currency(&row.currency)?,
            posting_date: row.posting_date,
            due_date: row.due_date,
            open: Money(row.open),
            open_base: Money(row.open_base),
        })
    })
    .collect()
}

/// Turns what was typed into amounts for invoices; proposes them where nothing was typed.
async fn to_apply(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    money: Currency,
    amount: Money,
    typed: Option<&[NewApplication]>,
    first: Option<InvoiceId>,
) -> Result<Vec<ToApply>> {
    let Some(typed) = typed else {
        let open = open_invoices(connection, customer, money).await?;
        return Ok(oldest_first(amount, &open, first)
            .into_iter()
            .filter_map(|(id, amount)| {
                let invoice = open.iter().find(|invoice| invoice.id == id)?.clone();
                Some(ToApply { invoice, amount })
            })
            .collect());
    };
    let ids: Vec<InvoiceId> = typed.iter().map(|application| application.invoice).collect();
    let found = load_invoices(connection, &ids).await?;
    let mut to_apply = Vec::with_capacity(typed.len());
    for (position, application) in typed.iter().enumerate() {
        let invoice = found.iter().find(|invoice| invoice.id == application.invoice).ok_or_else(|| {
            StoreError::invalid(
                format!("applications.{position}.invoice"),
                format!("There is no posted invoice {}.", application.invoice),
            )
        })?;
        let amount = money
            .parse(&application.amount)
            .map_err(|error| StoreError::decimal(format!("applications.{position}.amount"), &error))?;
        to_apply.push(ToApply { invoice: invoice.clone(), amount });
    }
    Ok(to_apply)
}

async fn orders_on(
    connection: &mut SqliteConnection,
    to_apply: &[ToApply],
) -> Result<Vec<till_core::order::OrderFacts>> {
    let invoices = json(&to_apply.iter().map(|to_apply| to_apply.invoice.id).collect::<Vec<_>>())?;
    let ids = sqlx::query_scalar!(
        "SELECT DISTINCT order_id FROM invoice_orders WHERE invoice_id IN (SELECT value FROM json_each(?)) ORDER BY order_id",
        invoices
    )
    .fetch_all(&mut *connection)
    .await?;
    orders::facts(connection, &ids.into_iter().map(OrderId).collect::<Vec<_>>()).await
}

async fn receipt_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    new: &NewReceipt,
) -> Result<MoneyInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    if new.reference.as_deref().is_some_and(|text| text.chars().count() > 140) {
        return Err(StoreError::invalid("reference", "A reference has 140 characters at most."));
    }
    let (customer, money) = customers::facts(connection, new.customer).await?;
    let amount = money.parse(&new.amount).map_err(|error| StoreError::decimal("amount", &error))?;
    let date = DocumentDate::or_business_date(new.date, rules.business_date);
    let to_apply = to_apply(connection, new.customer, money, amount, new.applications.as_deref(), new.first).await?;
    Ok(MoneyInput {
        customer: customer.id,
        customer_name: customer.name,
        customer_class: customer.class,
        owes: customer.owes,
        source: Source::Received { method: new.method },
        date,
        amount,
        currency: money,
        rate: exchange_rate(connection, rules, money, date.date).await?,
        base: rules.base,
        orders: orders_on(connection, &to_apply).await?,
        to_apply,
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

fn previewed(input: &MoneyInput<'_>, decision: MoneyDecision) -> MoneyPreview {
    MoneyPreview {
        currency: input.currency,
        document: decision.document,
        entry: decision.entry,
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    }
}

/// What a receipt would do.
///
/// # Errors
/// An unknown customer or invoice, an amount that cannot be read.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewReceipt) -> Result<MoneyPreview> {
    let input = receipt_input(connection, rules, new).await?;
    Ok(previewed(&input, decide(&input)))
}

/// Posts a receipt with its applications.
///
/// # Errors
/// [`StoreError::Moved`] where a figure changed since the preview, or what the core refuses.
pub async fn post(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReceipt,
    seen: Option<&str>,
) -> Result<PostedReceipt> {
    if new.method == Method::Containers {
        return Err(StoreError::invalid("method", "Containers are taken back from the customer's page."));
    }
    post_any(writing, rules, new, seen).await
}

/// Posts a receipt of any kind: money, or containers that came back.
pub(crate) async fn post_any(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReceipt,
    seen: Option<&str>,
) -> Result<PostedReceipt> {
    let input = receipt_input(writing, rules, new).await?;
    let decision = decide(&input);
    let entry = agreed(&decision, seen)?;
    let (number, sequence) = next_number(writing, "receipt").await?;
    let id = sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "id!: i64" FROM receipts"#)
        .fetch_one(&mut **writing)
        .await?;
    let source = DocumentRef { kind: DocumentKind::Receipt, id, number: number.clone() };
    let entry = ledger::write(writing, entry, &source).await?;
    let document = &decision.document;
    let method = new.method.word();
    let code = input.currency.code();
    let rate = input.rate.unwrap_or(till_core::fixed::ExchangeRate::ONE).scaled();
    let reference = new.reference.as_deref().map(str::trim).filter(|text| !text.is_empty());
    sqlx::query!(
        "INSERT INTO receipts (id, number, sequence, customer_id, method, posting_date, reference, currency, rate_e9, amount_minor,
                               amount_base_minor, unapplied_minor, unapplied_base_minor, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, new.customer.0, method, document.date.date, reference, code, rate, document.amount.0,
        document.amount_base.0, document.unapplied.0, document.unapplied_base.0, entry.0
    )
    .execute(&mut **writing)
    .await?;
    write_applications(writing, ReceiptId(id), input.customer, &decision, entry).await?;
    let mut fields = vec![set("amount", input.currency.format(document.amount))];
    fields.extend(applied_fields(&input, &decision));
    let words = format!("posted {number}");
    writing.note_on((DocumentKind::Receipt, id, &number), "receipt_posted", words, Some(1), fields);
    Ok(PostedReceipt { id: ReceiptId(id), number })
}

/// What was applied to which invoice, for the record.
fn applied_fields(input: &MoneyInput<'_>, decision: &MoneyDecision) -> Vec<FieldChange> {
    let applied = decision.document.applied.iter();
    applied.map(|one| set(&one.invoice_number, input.currency.format(one.amount))).collect()
}

fn agreed<'a>(decision: &'a MoneyDecision, seen: Option<&str>) -> Result<&'a Entry> {
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers.clone()));
    }
    if seen.is_some_and(|seen| seen != decision.fingerprint) {
        return Err(StoreError::Moved);
    }
    decision.entry.as_ref().ok_or(StoreError::Moved)
}

/// When the next part of what is open falls due.
async fn refresh_next_due(connection: &mut SqliteConnection, id: InvoiceId) -> Result<()> {
    let row = sqlx::query!(
        r#"SELECT terms AS "terms!", document_date AS "date!: NaiveDate", total_minor AS "total!: i64", open_minor AS "open!: i64"
           FROM invoices WHERE id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let due = crate::convert::terms(&row.terms)?.next_due(row.date, Money(row.total), Money(row.open));
    sqlx::query!("UPDATE invoices SET next_due_date = ? WHERE id = ?", due, id.0).execute(connection).await?;
    Ok(())
}

async fn write_applications(
    connection: &mut SqliteConnection,
    receipt: ReceiptId,
    customer: CustomerId,
    decision: &MoneyDecision,
    entry: EntryId,
) -> Result<()> {
    let date = decision.document.date.date;
    let mut settled = Money::ZERO;
    for applied in &decision.document.applied {
        sqlx::query!(
            "INSERT INTO applications (receipt_id, invoice_id, application_date, amount_minor, receivable_base_minor, money_base_minor, entry_id)
             VALUES (?, ?, ?, ?, ?, ?, ?)",
            receipt.0, applied.invoice.0, date, applied.amount.0, applied.receivable_base.0, applied.money_base.0, entry.0
        )
        .execute(&mut *connection)
        .await?;
        sqlx::query!(
            "UPDATE invoices SET open_minor = open_minor - ?, open_base_minor = open_base_minor - ?, version = version + 1 WHERE id = ?",
            applied.amount.0, applied.receivable_base.0, applied.invoice.0
        )
        .execute(&mut *connection)
        .await?;
        refresh_next_due(connection, applied.invoice).await?;
        settled += applied.receivable_base;
    }
    customers::add_owed(connection, customer, -settled).await?;
    orders::write_states(connection, &decision.orders).await
}

async fn unapplied_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: ReceiptId,
    new: &NewApplications,
) -> Result<(MoneyInput<'a>, i64)> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!(
        r#"SELECT number, customer_id, posting_date AS "posting_date: NaiveDate", currency, unapplied_minor, unapplied_base_minor, version
           FROM receipts WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let (customer, _) = customers::facts(connection, CustomerId(row.customer_id)).await?;
    let money = currency(&row.currency)?;
    let amount = Money(row.unapplied_minor);
    let date = DocumentDate::or_business_date(new.date, rules.business_date);
    let to_apply = to_apply(connection, customer.id, money, amount, new.applications.as_deref(), None).await?;
    let input = MoneyInput {
        customer: customer.id,
        customer_name: customer.name,
        customer_class: customer.class,
        owes: customer.owes,
        source: Source::Unapplied {
            number: row.number,
            received_on: row.posting_date,
            carried: Money(row.unapplied_base_minor),
        },
        date,
        amount,
        currency: money,
        rate: exchange_rate(connection, rules, money, date.date).await?,
        base: rules.base,
        orders: orders_on(connection, &to_apply).await?,
        to_apply,
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok((input, row.version))
}

/// What applying unapplied money would do.
///
/// # Errors
/// An unknown receipt or invoice, an amount that cannot be read.
pub async fn preview_apply(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReceiptId,
    new: &NewApplications,
) -> Result<MoneyPreview> {
    let (input, _) = unapplied_input(connection, rules, id, new).await?;
    Ok(previewed(&input, decide(&input)))
}

/// Applies money that lies unapplied on a receipt. Returns the receipt's new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn apply(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReceiptId,
    version: i64,
    new: &NewApplications,
    seen: Option<&str>,
) -> Result<i64> {
    let (input, current) = unapplied_input(writing, rules, id, new).await?;
    let Source::Unapplied { number, .. } = &input.source else { return Err(StoreError::Moved) };
    if current != version {
        return Err(StoreError::Stale { what: number.clone(), current });
    }
    let decision = decide(&input);
    let entry = agreed(&decision, seen)?;
    let source = DocumentRef { kind: DocumentKind::Receipt, id: id.0, number: number.clone() };
    let entry = ledger::write(writing, entry, &source).await?;
    sqlx::query!(
        "UPDATE receipts SET unapplied_minor = ?, unapplied_base_minor = ?, version = version + 1 WHERE id = ?",
        decision.document.unapplied.0,
        decision.document.unapplied_base.0,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    write_applications(writing, id, input.customer, &decision, entry).await?;
    let fields = applied_fields(&input, &decision);
    let words = format!("applied unapplied money of {number}");
    writing.note_on((DocumentKind::Receipt, id.0, number), "money_applied", words, Some(version + 1), fields);
    Ok(version + 1)
}
