//! Receipts: money that comes in, applying it, and taking back what was done in error.

mod applying;
mod back;
mod views;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OpenItemId, OrderId, ReceiptId};
use till_core::merge::FieldChange;
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::order::OrderFacts;
use till_core::settle::{
    Member, Method, Said, SettleDecision, SettleInput, Settlement, Source, Suggestion, ToApply, decide, suggest,
};
use till_core::tape::{Change, Tape};

use crate::convert::json;
use crate::rules::{Rules, date_order, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, deposits, money_places, open_items, orders, posting, sensible_date};

pub use applying::{CreditOf, NewApplications, apply, preview_apply};
pub use back::{BackPreview, ToReverse, ToUnapply, preview_reverse, preview_unapply, reverse, unapply};
pub use views::{ApplicationView, ReceiptList, ReceiptRow, ReceiptView, list, view};

/// An amount for something owed to us, as typed: named by its open item, or by its invoice.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewApplication {
    /// The open item.
    #[serde(default)]
    pub item: Option<OpenItemId>,
    /// The invoice, where no item is named.
    #[serde(default)]
    pub invoice: Option<InvoiceId>,
    /// A decimal in the currency of the money.
    pub amount: String,
}

impl NewApplication {
    /// An amount for an invoice.
    pub fn to_invoice(invoice: InvoiceId, amount: impl Into<String>) -> Self {
        Self { item: None, invoice: Some(invoice), amount: amount.into() }
    }

    /// An amount for an open item.
    pub fn to_item(item: OpenItemId, amount: impl Into<String>) -> Self {
        Self { item: Some(item), invoice: None, amount: amount.into() }
    }
}

/// A receipt to post, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReceipt {
    /// Who paid.
    pub customer: CustomerId,
    /// How: the code of a way of paying.
    pub method: String,
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

/// Money in as it would be posted.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MoneyPreview {
    /// Currency of its amounts.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What becomes of the money.
    pub document: Settlement,
    /// Why it goes where it goes, where that was suggested; empty where someone said so.
    pub suggested: Vec<Suggestion>,
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

/// The kind of a payment: a receipt, or a deposit.
pub(crate) async fn kind_of(connection: &mut SqliteConnection, id: ReceiptId) -> Result<DocumentKind> {
    let kind = sqlx::query_scalar!("SELECT kind FROM payments WHERE id = ?", id.0).fetch_optional(connection).await?;
    kind.as_deref().map(crate::convert::kind).ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?
}

/// Turns what was typed into amounts for open items; suggests them where nothing was typed, with why.
async fn to_apply(
    connection: &mut SqliteConnection,
    group: &[Member],
    (money, amount): (Currency, Money),
    date: NaiveDate,
    typed: Option<&[NewApplication]>,
    (first, words): (Option<InvoiceId>, Option<&str>),
) -> Result<(Vec<ToApply>, Vec<Suggestion>)> {
    let Some(typed) = typed else {
        let members: Vec<CustomerId> = group.iter().map(|member| member.id).collect();
        let open = open_items::owed_by(connection, &members).await?;
        let first = first.map(|id| DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: String::new() });
        let suggested = suggest((amount, money), &open, Said { first: first.as_ref(), words }, date);
        let to_apply = suggested.iter().filter_map(|one| {
            let item = open.iter().find(|item| item.id == one.item)?.clone();
            Some(ToApply { item, amount: one.amount })
        });
        return Ok((to_apply.collect(), suggested));
    };
    let mut ids = Vec::with_capacity(typed.len());
    for (position, application) in typed.iter().enumerate() {
        let found = match (application.item, application.invoice) {
            (Some(item), None) => Some(item),
            (None, Some(invoice)) => {
                open_items::of_document(connection, DocumentKind::Invoice, invoice.0, Side::OwedToUs).await?
            }
            _ => None,
        };
        ids.push(found.ok_or_else(|| nothing_there(position, application))?);
    }
    let found = open_items::load(connection, &ids).await?;
    let mut to_apply = Vec::with_capacity(typed.len());
    for (position, (application, id)) in typed.iter().zip(&ids).enumerate() {
        let item: &OpenItem = found
            .iter()
            .find(|item| item.id == *id && item.side == Side::OwedToUs)
            .ok_or_else(|| nothing_there(position, application))?;
        let amount = money
            .parse(&application.amount)
            .map_err(|error| StoreError::decimal(format!("applications.{position}.amount"), &error))?;
        to_apply.push(ToApply { item: item.clone(), amount });
    }
    Ok((to_apply, Vec::new()))
}

fn nothing_there(position: usize, application: &NewApplication) -> StoreError {
    let (field, sentence) = match (application.item, application.invoice) {
        (None, Some(invoice)) => ("invoice", format!("There is no posted invoice {invoice}.")),
        (Some(item), None) => ("item", format!("There is no open item {item} that is owed to us.")),
        _ => ("item", "Name one thing it goes to: an open item, or an invoice.".to_owned()),
    };
    StoreError::invalid(format!("applications.{position}.{field}"), sentence)
}

/// Orders on the invoices among those documents.
async fn orders_on<'a>(
    connection: &mut SqliteConnection,
    documents: impl Iterator<Item = &'a DocumentRef>,
) -> Result<Vec<OrderFacts>> {
    let invoices: Vec<i64> =
        documents.filter(|document| document.kind == DocumentKind::Invoice).map(|document| document.id).collect();
    let invoices = json(&invoices)?;
    let ids = sqlx::query_scalar!(
        "SELECT DISTINCT order_id FROM document_orders WHERE document_id IN (SELECT value FROM json_each(?)) ORDER BY order_id",
        invoices
    )
    .fetch_all(&mut *connection)
    .await?;
    orders::facts(connection, &ids.into_iter().map(OrderId).collect::<Vec<_>>()).await
}

/// Rates of the currencies among the items that are not the money's own.
async fn other_rates(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (money, date): (Currency, NaiveDate),
    to_apply: &[ToApply],
) -> Result<Vec<(Currency, ExchangeRate)>> {
    let mut rates: Vec<(Currency, ExchangeRate)> = Vec::new();
    for ToApply { item, .. } in to_apply {
        if item.currency != money && !rates.iter().any(|(known, _)| *known == item.currency) {
            rates
                .extend(exchange_rate(connection, rules, item.currency, date).await?.map(|rate| (item.currency, rate)));
        }
    }
    Ok(rates)
}

/// Everything a credit of a customer is decided on.
struct Credit<'a> {
    payer: CustomerId,
    source: Source,
    date: DocumentDate,
    money: (Currency, Money),
    typed: Option<&'a [NewApplication]>,
    first: Option<InvoiceId>,
    /// What the payer wrote.
    words: Option<&'a str>,
}

async fn settle_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    credit: Credit<'_>,
) -> Result<SettleInput<'a>> {
    let Credit { payer, source, date, money: (money, amount), typed, first, words } = credit;
    let group = open_items::paying_group(connection, payer).await?;
    let (customer, _) = customers::facts(connection, payer).await?;
    let (mut to_apply, mut suggested) =
        to_apply(connection, &group, (money, amount), date.date, typed, (first, words)).await?;
    if let (Source::Item(item), None) = (&source, typed)
        && item.purpose == Purpose::DepositLiability
    {
        // A deposit goes to what it was taken for.
        to_apply = deposits::proposed(connection, item, to_apply).await?;
        suggested.clear();
    }
    let dates = match &source {
        Source::Received { .. } => date_order(connection, rules, DocumentKind::Receipt).await?,
        Source::Containers { .. } => date_order(connection, rules, DocumentKind::ContainerReturn).await?,
        Source::Item(_) => DateOrder::of_today(rules.business_date),
    };
    Ok(SettleInput {
        payer,
        suggested,
        rooms: match &source {
            Source::Item(item) if item.purpose == Purpose::DepositLiability => {
                deposits::rooms(connection, item, to_apply.iter().map(|one| &one.item)).await?
            }
            _ => Vec::new(),
        },
        payer_name: customer.name,
        payer_class: customer.class,
        group,
        source,
        date,
        amount,
        currency: money,
        rate: exchange_rate(connection, rules, money, date.date).await?,
        other_rates: other_rates(connection, rules, (money, date.date), &to_apply).await?,
        base: rules.base,
        orders: orders_on(connection, to_apply.iter().map(|one| &one.item.document)).await?,
        to_apply,
        dates,
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

async fn receipt_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    new: &NewReceipt,
    method: Method,
) -> Result<SettleInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    if new.reference.as_deref().is_some_and(|text| text.chars().count() > 140) {
        return Err(StoreError::invalid("reference", "A reference has 140 characters at most."));
    }
    let (_, money) = customers::facts(connection, new.customer).await?;
    let amount = money.parse(&new.amount).map_err(|error| StoreError::decimal("amount", &error))?;
    let credit = Credit {
        payer: new.customer,
        source: Source::Received { method },
        date: DocumentDate::or_business_date(new.date, rules.business_date),
        money: (money, amount),
        typed: new.applications.as_deref(),
        first: new.first,
        words: new.reference.as_deref(),
    };
    settle_input(connection, rules, credit).await
}

fn previewed(input: &SettleInput<'_>, decision: SettleDecision) -> MoneyPreview {
    MoneyPreview {
        currency: input.currency,
        document: decision.document,
        suggested: input.suggested.clone(),
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
    let method = money_places::method(connection, &new.method).await?;
    preview_by(connection, rules, new, method).await
}

/// What a receipt that came by that way would do, whatever way it names.
pub(crate) async fn preview_by(
    connection: &mut SqliteConnection,
    rules: &Rules,
    new: &NewReceipt,
    method: Method,
) -> Result<MoneyPreview> {
    let input = receipt_input(connection, rules, new, method).await?;
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
    let method = money_places::method(writing, &new.method).await?;
    post_by(writing, rules, new, method, seen).await
}

/// Posts a receipt that came by that way, whatever way it names.
pub(crate) async fn post_by(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReceipt,
    method: Method,
    seen: Option<&str>,
) -> Result<PostedReceipt> {
    let input = receipt_input(writing, rules, new, method).await?;
    let decision = decide(&input);
    agreed(&decision, seen)?;
    let (number, sequence) = next_number(writing, "receipt").await?;
    let id = open_items::next_id(writing, "payments").await?;
    let source = DocumentRef { kind: DocumentKind::Receipt, id, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(&input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    write_payment(writing, (id, &number, sequence), new, (&input, &decision), entry).await?;
    let mut fields = vec![set("amount", input.currency.format(decision.document.amount))];
    fields.extend(applied_fields(&decision));
    let words = format!("posted {number}");
    writing.note_on((DocumentKind::Receipt, id, &number), "receipt_posted", words, Some(1), fields);
    Ok(PostedReceipt { id: ReceiptId(id), number })
}

async fn write_payment(
    writing: &mut Writing<'_>,
    (id, number, sequence): (i64, &str, i64),
    new: &NewReceipt,
    (input, decision): (&SettleInput<'_>, &SettleDecision),
    entry: EntryId,
) -> Result<()> {
    let Source::Received { method } = &input.source else { return Err(StoreError::Moved) };
    let document = &decision.document;
    let whereabouts = if method.place.kind.purpose() == Purpose::Bank { "at_bank" } else { "in_hand" };
    let code = input.currency.code();
    let rate = input.rate.unwrap_or(ExchangeRate::ONE).scaled();
    let reference = new.reference.as_deref().map(str::trim).filter(|text| !text.is_empty());
    sqlx::query!(
        "INSERT INTO payments (id, number, sequence, customer_id, method, place, whereabouts, posting_date, reference, currency, rate_e9,
                               amount_minor, amount_base_minor, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, new.customer.0, method.code, method.place.code, whereabouts, document.date.date, reference, code, rate,
        document.amount.0, document.amount_base.0, entry.0
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}

/// What was applied to which document, for the record.
pub(crate) fn applied_fields(decision: &SettleDecision) -> Vec<FieldChange> {
    let applied = decision.document.applied.iter();
    applied.map(|one| set(&one.document.number, one.currency.format(one.amount))).collect()
}

/// Refuses what is blocked, or not as it was seen.
fn agreed(decision: &SettleDecision, seen: Option<&str>) -> Result<()> {
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers.clone()));
    }
    if seen.is_some_and(|seen| seen != decision.fingerprint) {
        return Err(StoreError::Moved);
    }
    Ok(())
}

/// Containers that came back, decided like money: against open items, the oldest first.
pub(crate) async fn containers_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    payer: CustomerId,
    (source, amount): (Source, Money),
    date: Option<NaiveDate>,
) -> Result<SettleInput<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let credit = Credit {
        payer,
        source,
        date: DocumentDate::or_business_date(date, rules.business_date),
        money: (rules.base, amount),
        typed: None,
        first: None,
        words: None,
    };
    settle_input(connection, rules, credit).await
}

/// Decides on containers that came back, for showing.
pub(crate) fn preview_of(input: &SettleInput<'_>) -> MoneyPreview {
    previewed(input, decide(input))
}

/// Decides on containers that came back, for posting.
pub(crate) fn decided(input: &SettleInput<'_>, seen: Option<&str>) -> Result<SettleDecision> {
    let decision = decide(input);
    agreed(&decision, seen)?;
    Ok(decision)
}
