//! Refunds of what lies unapplied: of a receipt, or of a credit memo that was kept for the customer.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::stops;
use till_core::deposit::ending::{EndDecision, EndInput, EndKind, Ending, decide};
use till_core::deposit::undoing::{self, UndoInput};
use till_core::ids::{ApprovalId, DocumentKind, DocumentRef, EntryId, OpenItemId, RefundId};
use till_core::money::Money;
use till_core::open_items::Side;
use till_core::settle::PlaceKind;

use crate::approvals::{self, Asked, Go};
use crate::deposits::{EndPreview, end_input, previewed};
use crate::ledger::PostedEntry;
use crate::receipts::{CreditOf, ToReverse};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, ledger, money_places, open_items, posting, sensible_date};

/// What to refund, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditToRefund {
    /// How much, in the currency of the credit; none for all that is unapplied.
    #[serde(default)]
    pub amount: Option<String>,
    /// How it is paid.
    pub method: String,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// What became of the wish to refund.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Refunded {
    /// Its number; none where it waits for approval.
    pub number: Option<String>,
    /// The approval it waits for.
    pub waits: Option<ApprovalId>,
    /// The version of what was refunded now.
    pub version: i64,
}

/// A refund as it is shown.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RefundView {
    /// Its id.
    pub id: RefundId,
    /// Its number.
    pub number: String,
    /// When.
    pub date: NaiveDate,
    /// How much, in the currency of what was refunded.
    pub amount: Money,
    /// How it was paid.
    pub method: String,
    /// Why.
    pub reason: String,
    /// When it was reversed, where it was.
    pub reversed_on: Option<NaiveDate>,
}

/// The refunds of what lies open on a credit, oldest first.
pub(crate) async fn of_item(connection: &mut SqliteConnection, item: OpenItemId) -> Result<Vec<RefundView>> {
    Ok(sqlx::query!(
        r#"SELECT refunds.id AS "id!", number, posting_date AS "date: NaiveDate", amount_minor, payment_methods.name, reason,
                  reversed_on AS "reversed_on: NaiveDate"
           FROM refunds JOIN payment_methods ON payment_methods.code = method WHERE item_id = ? ORDER BY refunds.id"#,
        item.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| RefundView {
        id: RefundId(row.id),
        number: row.number,
        date: row.date,
        amount: Money(row.amount_minor),
        method: row.name,
        reason: row.reason,
        reversed_on: row.reversed_on,
    })
    .collect())
}

/// What refunds wrote to the ledger.
pub(crate) async fn entries_of(connection: &mut SqliteConnection, refunds: &[RefundView]) -> Result<Vec<PostedEntry>> {
    let mut entries = Vec::new();
    for refund in refunds {
        entries.extend(ledger::entries_of(connection, DocumentKind::Refund, refund.id.0).await?);
    }
    Ok(entries)
}

struct Loaded<'a> {
    input: EndInput<'a>,
    version: i64,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    of: CreditOf,
    wish: &CreditToRefund,
) -> Result<Loaded<'a>> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let (item, version) = of.item(connection).await?;
    if item.document.kind == DocumentKind::Deposit {
        return Err(StoreError::not_found(DocumentKind::Receipt, item.document.id));
    }
    if wish.method.is_empty() {
        return Err(StoreError::invalid("method", "Choose how the money is sent back."));
    }
    let method = money_places::method(connection, &wish.method).await?;
    let there = match method.place.kind {
        PlaceKind::Drawer => money_places::movements(connection, &method.place.code).await?,
        _ => Vec::new(),
    };
    let date = DocumentDate::or_business_date(wish.date, rules.business_date);
    let mut input = end_input(connection, rules, (item, Ending::Refund { method }), (date, &wish.reason)).await?;
    input.at_place = there;
    if let Some(typed) = wish.amount.as_deref().map(str::trim).filter(|typed| !typed.is_empty()) {
        input.amount = input.item.currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?;
    }
    Ok(Loaded { input, version })
}

/// What a refund would do. Nothing is written.
///
/// # Errors
/// [`StoreError::NotFound`]; what cannot be read.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    of: impl Into<CreditOf>,
    wish: &CreditToRefund,
) -> Result<EndPreview> {
    let input = load(connection, rules, of.into(), wish).await?.input;
    Ok(previewed(&input, decide(&input)))
}

/// Refunds what lies unapplied, or asks for approval where it comes to more than the limit.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn refund(
    writing: &mut Writing<'_>,
    rules: &Rules,
    of: impl Into<CreditOf>,
    (version, seen): (Option<i64>, Option<&str>),
    wish: &CreditToRefund,
) -> Result<Refunded> {
    let of = of.into();
    let Loaded { input, version: current } = load(writing, rules, of, wish).await?;
    let document = input.item.document.clone();
    if version.is_some_and(|version| version != current) {
        return Err(StoreError::Stale { what: document.number, current });
    }
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(seen, &decision.fingerprint)?;
    let (currency, amount) = (input.item.currency, input.amount);
    let said = format!("{} {currency} of {} of {}", currency.grouped(amount), document.number, input.customer_name);
    let asked = approvals::Wish {
        asked: Asked::RefundCredit {
            of,
            wish: CreditToRefund { amount: Some(currency.format(amount)), ..wish.clone() },
        },
        document: document.clone(),
        amount: decision.amount_base,
        words: format!("refund {said}"),
        changes: vec![set("refund", currency.format(amount))],
        reason: input.reason.clone(),
        mark: till_core::fingerprint::of(&(document.kind, document.id, amount, input.item.open)),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(Refunded { number: None, waits: Some(approval), version: current });
    }
    let number = write(writing, rules, &input, &decision).await?;
    let fields = vec![set("amount", currency.format(amount)), set("reason", &input.reason)];
    let words = format!("refunded {said} with {number}");
    let at = (document.kind, document.id, document.number.as_str());
    writing.note_on(at, "credit_refunded", words, Some(current + 1), fields);
    Ok(Refunded { number: Some(number), waits: None, version: current + 1 })
}

async fn write(
    writing: &mut Writing<'_>,
    rules: &Rules,
    input: &EndInput<'_>,
    decision: &EndDecision,
) -> Result<String> {
    let Ending::Refund { method } = &input.ending else { return Err(StoreError::Moved) };
    let (number, sequence) = next_number(writing, "refund").await?;
    let id = open_items::next_id(writing, "refunds").await?;
    let source = DocumentRef { kind: DocumentKind::Refund, id, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let paid = match input.rate {
        Some(rate) => input.amount.to_base(rate, input.item.currency, rules.base),
        None => decision.amount_base,
    };
    let (code, place, date) = (&method.code, &method.place.code, input.date.date);
    sqlx::query!(
        "INSERT INTO refunds (id, number, sequence, item_id, method, place, posting_date, amount_minor, amount_base_minor, paid_base_minor, reason, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id,
        number,
        sequence,
        input.item.id.0,
        code,
        place,
        date,
        input.amount.0,
        decision.amount_base.0,
        paid.0,
        input.reason,
        entry.0
    )
    .execute(&mut **writing)
    .await?;
    Ok(number)
}

/// Reverses a refund that was never sent: what was refunded lies unapplied again. Returns what it was of.
///
/// # Errors
/// [`StoreError::NotFound`], or what the core refuses.
pub async fn reverse(writing: &mut Writing<'_>, rules: &Rules, id: RefundId, wish: &ToReverse) -> Result<DocumentRef> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!("SELECT number, item_id, entry_id FROM refunds WHERE id = ?", id.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Refund, id))?;
    let of = open_items::load(writing, &[OpenItemId(row.item_id)])
        .await?
        .pop()
        .ok_or_else(|| StoreError::not_found(DocumentKind::Refund, id))?;
    let (customer, _) = customers::facts(writing, of.customer).await?;
    let against = open_items::item_of(writing, DocumentKind::Refund, id.0, Side::OwedToUs).await?;
    let standing = open_items::standing_on_debit(writing, against.id).await?;
    let entry = EntryId(row.entry_id);
    let input = UndoInput {
        // What closes it once it is reversed is of its own kind.
        standing: standing.into_iter().find(|one| one.credit.id == of.id),
        number: row.number.clone(),
        kind: EndKind::Refunded,
        entry: (entry, ledger::entry(writing, entry).await?.entry),
        customer_name: customer.name,
        date: DocumentDate::or_business_date(wish.date, rules.business_date),
        reason: wish.reason.trim().to_owned(),
        dates: DateOrder::of_today(rules.business_date),
        periods: &rules.periods,
    };
    let decision = undoing::decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    let source = DocumentRef { kind: DocumentKind::Refund, id: id.0, number: row.number.clone() };
    let written = posting::write(writing, &source, &decision.posting(&input)).await?;
    let reversal = written.first().copied().ok_or(StoreError::Moved)?;
    let date = input.date.date;
    sqlx::query!(
        "UPDATE refunds SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ? WHERE id = ?",
        date,
        input.reason,
        reversal.0,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let document = of.document;
    let fields = vec![set("refund", &row.number), set("reason", &input.reason)];
    let words = format!("reversed {} of {}", row.number, document.number);
    writing.note_on((document.kind, document.id, &document.number), "refund_reversed", words, None, fields);
    Ok(document)
}
