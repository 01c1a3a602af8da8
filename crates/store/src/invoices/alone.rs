//! Credit memos that stand alone: with a reason, and no invoice behind them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::stops;
use till_core::ids::{CreditMemoId, CustomerId, DocumentKind, DocumentRef, EntryId, ReturnLineId};
use till_core::invoice::InvoiceDocument;
use till_core::invoice::credit::alone::{AloneDecision, AloneInput, decide};
use till_core::money::{Currency, Money};
use till_core::people::check_reason;
use till_core::returns::OnReturn;
use till_core::tape::{Change, Tape};

use super::AddedLine;
use super::added::{Beside, load_added};
use super::credit::{CreditPosted, as_billed, supplies};
use crate::approvals::{self, Asked, Go, Wish};
use crate::convert::{currency, json, terms_json};
use crate::documents::{NewMemo, new_memo, write_supplied, write_taxes, write_typed};
use crate::rules::{Rules, date_order};
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

/// What is credited, with what goes the other way.
pub(crate) async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    wish: &CreditAlone,
    other_way: &[AddedLine],
) -> Result<AloneInput<'a>> {
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
    let whose = (customer.id, &beside);
    let lines = as_billed(connection, rules, whose, (lines, date)).await?.ok_or(StoreError::Moved)?;
    let supplies = supplies(connection, rules, whose, (other_way, date)).await?;
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
    let (reason, goods) = (wish.reason.clone(), Vec::new());
    Ok(AloneInput { lines, date, dates, reason, came_back, supplies, exchange: false, at_once: false, goods })
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
    let input = load(connection, rules, wish, &[]).await?;
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
    let input = load(writing, rules, wish, &[]).await?;
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
    let (memo, _) = write(writing, &input, &decision).await?;
    Ok(CreditPosted { credit_memo: Some(CreditMemoId(memo.id)), number: Some(memo.number), waits: None })
}

/// Writes it, with the minus of what credits: a credit memo, or the invoice of an exchange that leaves something to pay. With
/// its entry.
pub(crate) async fn write(
    writing: &mut Writing<'_>,
    input: &AloneInput<'_>,
    decision: &AloneDecision,
) -> Result<(DocumentRef, Option<EntryId>)> {
    let document = decision.document.as_ref().ok_or(StoreError::Moved)?;
    let owed = decision.owed.0.is_positive();
    let memo = new_memo(writing, if owed { DocumentKind::Invoice } else { DocumentKind::CreditMemo }).await?;
    write_head(writing, &memo, input, decision).await?;
    let (first, other_first) = decision.places();
    let nothing: Vec<_> = document.lines.iter().map(|_| (None, Money::ZERO)).collect();
    write_typed(writing, (memo.id, first, -1), &document.lines, &nothing).await?;
    for (at, on_return) in &input.came_back {
        let at = i64::try_from(first + at).unwrap_or(i64::MAX);
        sqlx::query!(
            "UPDATE document_lines SET return_line_id = ? WHERE document_id = ? AND position = ?",
            on_return.line.0,
            memo.id,
            at
        )
        .execute(&mut **writing)
        .await?;
    }
    let back = document.taxes.iter().map(|tax| (tax, -tax.base, -tax.tax));
    let mut taxes: Vec<_> = back.collect();
    if let Some((supplied, other)) = decision.supplied.as_deref().zip(decision.other_way()) {
        write_supplied(writing, (memo.id, other_first), supplied, other).await?;
        let out = other.taxes.iter().map(|tax| (tax, tax.base, tax.tax));
        taxes = if owed { out.chain(taxes).collect() } else { taxes.into_iter().chain(out).collect() };
    }
    write_taxes(writing, memo.id, taxes.into_iter()).await?;
    let source = memo.source();
    let entry = posting::write(writing, &source, &decision.posting(input)).await?.pop();
    let entry_id = entry.map(|entry| entry.0);
    sqlx::query!("UPDATE documents SET state = 'posted', entry_id = ? WHERE id = ?", entry_id, memo.id)
        .execute(&mut **writing)
        .await?;
    let customer = &input.lines.customer;
    deliveries::add(writing, &[(memo.id, customer.id, customer.delivery)]).await?;
    let mut fields =
        vec![set("credited", document.currency.format(document.total)), set("reason", input.reason.trim())];
    if let Some(other) = decision.other_way() {
        fields.push(set("the other way", document.currency.format(other.total)));
    }
    let (deed, did) = if owed { ("exchanged", "exchanged goods of") } else { ("credit_memo_posted", "credited") };
    let words = format!("{did} {} with {}", customer.name, memo.number);
    writing.note_on((memo.kind, memo.id, &memo.number), deed, words, None, fields);
    Ok((source, entry))
}

async fn write_head(
    writing: &mut Writing<'_>,
    memo: &NewMemo,
    input: &AloneInput<'_>,
    decision: &AloneDecision,
) -> Result<()> {
    let document = decision.document.as_ref().ok_or(StoreError::Moved)?;
    let other = decision.other_way();
    let of_other = |of: fn(&InvoiceDocument) -> Money| other.map_or(Money::ZERO, of);
    let left = |of: fn(&InvoiceDocument) -> Money| (of_other(of) - of(document)).0;
    let (date, reason, kind) = (input.date.date, input.reason.trim(), memo.kind.word());
    let terms = input.supplies.as_ref().map(|with| &with.basis.terms).filter(|_| decision.owed.0.is_positive());
    let total = left(|one| one.total);
    let due = terms.map_or(date, |terms| terms.next_due(date, Money(total), Money(total)));
    let terms = terms.map(terms_json).transpose()?;
    let (code, rate, computed) = (document.currency.code(), document.rate.scaled(), document.tax_computed.word());
    let (net, tax, lines) = (left(|one| one.net), left(|one| one.tax), left(|one| one.lines_total));
    let base = (decision.owed.1 - decision.kept.1).0;
    let tax_date = document.tax_date.max(other.map_or(document.tax_date, |other| other.tax_date));
    let (tape, gross_priced, customer) = (json(&decision.tape)?, i64::from(document.gross_priced), document.customer.0);
    sqlx::query!(
        "INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, currency, rate_e9,
                net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, gross_priced, tax_computed,
                lines_minor, reason, tape, terms)
         SELECT ?1, ?18, ?2, ?3, 'draft', id, ?4, ?4, ?5, ?19, ?6, ?7, ?8, ?9, ?10, ?11, name, address, tax_id, ?12, ?13, ?14, ?15, ?16, ?20
         FROM customers WHERE id = ?17",
        memo.id,
        memo.number,
        memo.sequence,
        date,
        tax_date,
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
        customer,
        kind,
        due,
        terms
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}
