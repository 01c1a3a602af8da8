//! Receipts: money that comes in, applying it, and taking back what was done in error.

mod advice;
mod applying;
mod back;
mod mixed;
mod payers;
mod returned;
mod settling;
mod views;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OpenItemId, ReceiptId};
use till_core::merge::FieldChange;
use till_core::money::{Currency, Money};
use till_core::people::write_off_allowed;
use till_core::settle::{Method, SettleDecision, SettleInput, Settlement, Source, Suggestion, decide};
use till_core::tape::{Change, Tape};

use crate::disputes::{self, DisputeWords};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, money_places, open_items, people, posting, sensible_date};

use settling::{Credit, orders_on, settle_input};

pub use advice::{Advice, AdviceLine, advice};
pub use applying::{CreditOf, NewApplications, apply, preview_apply};
pub use back::{
    BackPreview, ToReverse, ToReverseReceipt, ToUnapply, preview_reverse, preview_unapply, reverse, unapply,
};
pub use mixed::{CreditTo, CreditUsed, preview_mixed};
pub use payers::{PayerFound, payers};
pub use returned::ChargeOn;
pub use views::{ApplicationView, ReceiptList, ReceiptRow, ReceiptView, list, view};

/// An amount for something owed to us, as typed: named by its open item, or by its invoice.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
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
    /// A discount for early payment, a decimal; none for what is earned where the amount settles the item with it.
    #[serde(default)]
    pub discount: Option<String>,
    /// A difference to give up, a decimal; below zero for what is too much and kept. None for none.
    #[serde(default)]
    pub write_off: Option<String>,
    /// What stays open of it goes into dispute: why, and who looks after it. None where it just stays open.
    #[serde(default)]
    pub dispute: Option<DisputeWords>,
}

impl NewApplication {
    /// An amount for an invoice.
    pub fn to_invoice(invoice: InvoiceId, amount: impl Into<String>) -> Self {
        Self { invoice: Some(invoice), amount: amount.into(), ..Self::default() }
    }

    /// An amount for an open item.
    pub fn to_item(item: OpenItemId, amount: impl Into<String>) -> Self {
        Self { item: Some(item), amount: amount.into(), ..Self::default() }
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
    /// A decimal in its currency.
    pub amount: String,
    /// Its currency; none for the customer's.
    #[serde(default)]
    pub currency: Option<String>,
    /// Check number, words of the transfer.
    #[serde(default)]
    pub reference: Option<String>,
    /// Where it goes; none to propose the oldest invoices first.
    #[serde(default)]
    pub applications: Option<Vec<NewApplication>>,
    /// In a proposal, the invoice that comes before all others.
    #[serde(default)]
    pub first: Option<InvoiceId>,
    /// What of theirs lies open and is used with it, in that order: amounts then say what goes to an item in all.
    #[serde(default)]
    pub with: Vec<OpenItemId>,
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
    /// What of theirs is used with it.
    pub with: Vec<CreditUsed>,
    /// What settles items in other currencies, in the currency of the money, at the rates of its day; nothing where the money is in the
    /// customer's own currency.
    pub settled_by: Vec<SettledBy>,
}

/// What settles an item in another currency than the money's.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettledBy {
    /// The item.
    pub item: OpenItemId,
    /// How much of the money.
    pub amount: Money,
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

/// The currency of the money: as typed, or the customer's.
async fn currency_of(connection: &mut SqliteConnection, new: &NewReceipt) -> Result<Currency> {
    match new.currency.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        Some(code) => Currency::of(code).map_err(|error| StoreError::invalid("currency", error.to_string())),
        None => Ok(customers::facts(connection, new.customer).await?.1),
    }
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
    let money = currency_of(connection, new).await?;
    let foreign = money != customers::facts(connection, new.customer).await?.1;
    let amount = money.parse(&new.amount).map_err(|error| StoreError::decimal("amount", &error))?;
    let credit = Credit {
        payer: new.customer,
        source: Source::Received { method },
        date: DocumentDate::or_business_date(new.date, rules.business_date),
        money: (money, amount),
        typed: new.applications.as_deref(),
        first: new.first,
        words: new.reference.as_deref(),
        foreign,
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
        with: Vec::new(),
        settled_by: Vec::new(),
    }
}

/// What settles those of what a payer owes that are in another currency than its money, where that is not the customer's.
async fn settled_by(
    connection: &mut SqliteConnection,
    rules: &Rules,
    input: &SettleInput<'_>,
) -> Result<Vec<SettledBy>> {
    if input.currency == customers::facts(connection, input.payer).await?.1 {
        return Ok(Vec::new());
    }
    let members: Vec<CustomerId> = input.group.iter().map(|member| member.id).collect();
    let open = open_items::owed_by(connection, &members).await?;
    let worth = settling::worth(connection, rules, (input.currency, input.date.date), &open).await?;
    Ok(worth.into_iter().map(|(item, amount)| SettledBy { item, amount }).collect())
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
    let settled_by = settled_by(connection, rules, &input).await?;
    Ok(MoneyPreview { settled_by, ..previewed(&input, decide(&input)) })
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
    if !new.with.is_empty() {
        return mixed::post_mixed(writing, rules, (new, method), seen).await;
    }
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
    within_limit(writing, &input, &decision).await?;
    let (number, sequence) = next_number(writing, "receipt").await?;
    let id = open_items::next_id(writing, "payments").await?;
    let source = DocumentRef { kind: DocumentKind::Receipt, id, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(&input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    write_payment(writing, (id, &number, sequence), new, (&input, &decision), entry).await?;
    disputed(writing, rules, new.applications.as_deref(), (&input, &decision)).await?;
    let mut fields = vec![set("amount", input.currency.format(decision.document.amount))];
    fields.extend(applied_fields(&decision));
    let words = format!("posted {number}");
    writing.note_on((DocumentKind::Receipt, id, &number), "receipt_posted", words, Some(1), fields);
    Ok(PostedReceipt { id: ReceiptId(id), number })
}

/// Puts what stays open of items into dispute, where that was said.
async fn disputed(
    writing: &mut Writing<'_>,
    rules: &Rules,
    typed: Option<&[NewApplication]>,
    (input, decision): (&SettleInput<'_>, &SettleDecision),
) -> Result<()> {
    for (position, (one, to)) in typed.into_iter().flatten().zip(&input.to_apply).enumerate() {
        let Some(what) = &one.dispute else { continue };
        let left = decision.document.applied.iter().find(|applied| applied.item == to.item.id);
        let left = left.map_or(to.item.open, |applied| applied.open_after);
        disputes::write(writing, rules, (&to.item, left, None), what).await.map_err(|error| match error {
            StoreError::Invalid { sentence, .. } => {
                StoreError::invalid(format!("applications.{position}.dispute"), sentence)
            }
            other => other,
        })?;
    }
    Ok(())
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

/// Refuses to write off more than the tolerance where the limit of who does it is lower.
async fn within_limit(writing: &mut Writing<'_>, input: &SettleInput<'_>, decision: &SettleDecision) -> Result<()> {
    let above = decision.document.applied.iter().map(|one| one.beside.written_off);
    let above: Money = above.filter(|both| both.amount > input.tolerance).map(|both| both.base).sum();
    let Some(role) = writing.actor().role.filter(|_| above.is_positive()) else { return Ok(()) };
    let limits = people::limits(writing).await?;
    match write_off_allowed(role, above, &limits, input.base) {
        Ok(()) => Ok(()),
        Err(why) => Err(StoreError::NotAllowed(why)),
    }
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
        foreign: false,
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
