//! Credit memos that stand alone: with a reason, and no invoice behind them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Step, stops};
use till_core::ids::{CreditMemoId, CustomerId, DocumentKind, DocumentRef, ReturnLineId};
use till_core::invoice::credit::alone::{AloneDecision, AloneInput, decide};
use till_core::money::{Currency, Money};
use till_core::people::check_reason;
use till_core::returns::OnReturn;
use till_core::tape::{Change, Tape};

use super::added::{Beside, load_added};
use super::credit::CreditPosted;
use super::{AddedLine, Head, ToDecide, inputs};
use crate::approvals::{self, Asked, Go, Wish};
use crate::convert::{currency, json};
use crate::documents::{new_memo, write_taxes, write_typed};
use crate::rules::{Rules, date_order, exchange_rate};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, deliveries, posting, returns, sensible_date};

/// A line that credits what came back on a return without a document.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CameBack {
    /// Its place among what is credited, from zero.
    pub line: usize,
    /// The line of the return.
    pub return_line: ReturnLineId,
}

/// A credit memo to write, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditAlone {
    /// Whose.
    pub customer: CustomerId,
    /// Its currency; none for the customer's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub currency: Option<String>,
    /// What is credited.
    pub added: Vec<AddedLine>,
    /// Which of that came back on a return without a document.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub came_back: Vec<CameBack>,
    /// Its date; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// Fingerprint of the preview that was seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seen: Option<String>,
}

/// What it would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditAlonePreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it comes to, with tax.
    pub total: Money,
    /// What each of its lines comes to, as priced.
    pub added: Vec<Money>,
    /// The arithmetic.
    pub tape: Tape,
    /// The entry.
    pub entry: Option<till_core::entry::Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<till_core::checks::Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

async fn load<'a>(connection: &mut SqliteConnection, rules: &'a Rules, wish: &CreditAlone) -> Result<AloneInput<'a>> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let date = DocumentDate::or_business_date(wish.date, rules.business_date);
    let (customer, own) = customers::facts(connection, wish.customer).await?;
    let wanted = match wish.currency.as_deref().map(str::trim).filter(|code| !code.is_empty()) {
        Some(code) => currency(code).map_err(|_| StoreError::invalid("currency", "Choose a currency of the list."))?,
        None => own,
    };
    let beside = Beside { currency: wanted, gross_priced: customer.gross_priced, delivered: None };
    let mut lines = load_added(connection, rules, wish.customer, &wish.added, Some(&beside)).await?;
    // Packaging that goes along with goods that are sold does not come back with a credit.
    lines.truncate(wish.added.len());
    let typed = date.typed.then_some(date.date);
    let head = Head {
        document_date: typed,
        posting_date: typed,
        gross_priced: Some(customer.gross_priced),
        ..Head::default()
    };
    let to_decide = vec![ToDecide { customer: customer.id, lines, head }];
    let mut lines = inputs(connection, rules, Step::Post, to_decide).await?.pop().ok_or(StoreError::Moved)?;
    lines.deposits.clear();
    if lines.basis.currency != wanted {
        lines.basis.currency = wanted;
        lines.rate = exchange_rate(connection, rules, wanted, date.date).await?;
    }
    let dates = date_order(connection, rules, DocumentKind::CreditMemo).await?;
    let mut came_back = Vec::new();
    for CameBack { line, return_line } in &wish.came_back {
        let found = returns::without_document(connection, *return_line, wish.customer).await?;
        let field = format!("added.{line}");
        let Some((on_return, code, unit)) = found else {
            return Err(StoreError::invalid(field, "No return of this customer has that line without a document."));
        };
        let fits = lines.lines.get(*line).is_some_and(|typed| typed.code == code && typed.unit == unit);
        if !fits
            || came_back.iter().any(|(place, known): &(usize, OnReturn)| place == line || known.line == *return_line)
        {
            let sentence = format!("{unit} of {code} came back on {}: credit those, on one line.", on_return.number);
            return Err(StoreError::invalid(field, sentence));
        }
        came_back.push((*line, on_return));
    }
    Ok(AloneInput { lines, date, dates, reason: wish.reason.clone(), came_back })
}

/// What a credit memo that stands alone would do. Nothing is written.
///
/// # Errors
/// An unknown customer, an amount that cannot be read.
pub async fn credit_alone_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    wish: &CreditAlone,
) -> Result<CreditAlonePreview> {
    let input = load(connection, rules, wish).await?;
    let decision = decide(&input);
    let document = decision.document.as_ref();
    Ok(CreditAlonePreview {
        currency: input.lines.basis.currency,
        total: document.map_or(Money::ZERO, |document| document.total),
        added: document.map(|document| document.lines.iter().map(|line| line.amount).collect()).unwrap_or_default(),
        tape: decision.tape,
        entry: decision.entry,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Posts a credit memo that stands alone, or asks for approval where it comes to more than the limit for credit memos.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn credit_alone(writing: &mut Writing<'_>, rules: &Rules, wish: &CreditAlone) -> Result<CreditPosted> {
    let reason = check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let input = load(writing, rules, wish).await?;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    let document = decision.document.as_ref().ok_or(StoreError::Moved)?;
    let customer = &input.lines.customer;
    let (currency, total) = (document.currency, document.total);
    let asked = Wish {
        asked: Asked::CreditAlone { wish: CreditAlone { seen: None, ..wish.clone() } },
        document: DocumentRef { kind: DocumentKind::Customer, id: customer.id.0, number: customer.number.clone() },
        amount: document.total_base,
        words: format!("credit {} {currency} to {}", currency.grouped(total), customer.name),
        changes: vec![set("credit", currency.format(total))],
        reason,
        mark: decision.mark.clone(),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(CreditPosted { credit_memo: None, number: None, waits: Some(approval) });
    }
    let memo = write(writing, &input, &decision).await?;
    Ok(CreditPosted { credit_memo: Some(CreditMemoId(memo.id)), number: Some(memo.number), waits: None })
}

/// Writes it, with the minus of what credits.
async fn write(writing: &mut Writing<'_>, input: &AloneInput<'_>, decision: &AloneDecision) -> Result<DocumentRef> {
    let document = decision.document.as_ref().ok_or(StoreError::Moved)?;
    let memo = new_memo(writing, DocumentKind::CreditMemo).await?;
    let (code, date, reason) = (document.currency.code(), input.date.date, input.reason.trim());
    let (rate, computed, tape) = (document.rate.scaled(), document.tax_computed.word(), json(&decision.tape)?);
    let (net, tax, total, base) = (-document.net.0, -document.tax.0, -document.total.0, -document.total_base.0);
    let customer = document.customer.0;
    let (lines, gross_priced) = (-document.lines_total.0, i64::from(document.gross_priced));
    sqlx::query!(
        "INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, currency, rate_e9,
                net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, gross_priced, tax_computed,
                lines_minor, reason, tape)
         SELECT ?1, 'credit_memo', ?2, ?3, 'draft', id, ?4, ?4, ?5, ?4, ?6, ?7, ?8, ?9, ?10, ?11, name, address, tax_id, ?12, ?13, ?14, ?15, ?16
         FROM customers WHERE id = ?17",
        memo.id,
        memo.number,
        memo.sequence,
        date,
        document.tax_date,
        code,
        rate,
        net,
        tax,
        total,
        base,
        gross_priced,
        computed,
        lines,
        reason,
        tape,
        customer
    )
    .execute(&mut **writing)
    .await?;
    let nothing: Vec<_> = document.lines.iter().map(|_| (None, Money::ZERO)).collect();
    write_typed(writing, (memo.id, 0, -1), &document.lines, &nothing).await?;
    for (at, on_return) in &input.came_back {
        let at = i64::try_from(*at).unwrap_or(i64::MAX);
        sqlx::query!(
            "UPDATE document_lines SET return_line_id = ? WHERE document_id = ? AND position = ?",
            on_return.line.0,
            memo.id,
            at
        )
        .execute(&mut **writing)
        .await?;
    }
    write_taxes(writing, memo.id, document.taxes.iter().map(|tax| (tax, -tax.base, -tax.tax))).await?;
    let source = memo.source();
    let entry = posting::write(writing, &source, &decision.posting()).await?.pop().map(|entry| entry.0);
    sqlx::query!("UPDATE documents SET state = 'posted', entry_id = ? WHERE id = ?", entry, memo.id)
        .execute(&mut **writing)
        .await?;
    let customer = &input.lines.customer;
    deliveries::add(writing, &[(memo.id, customer.id, customer.delivery)]).await?;
    let fields = vec![set("credited", document.currency.format(document.total)), set("reason", reason)];
    let words = format!("credited {} with {}", customer.name, memo.number);
    writing.note_on((DocumentKind::CreditMemo, memo.id, &memo.number), "credit_memo_posted", words, None, fields);
    Ok(source)
}
