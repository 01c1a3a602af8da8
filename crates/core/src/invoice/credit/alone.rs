//! A credit memo that stands alone: an allowance, goodwill, a bonus, with a reason and no invoice behind it.
//!
//! Its lines are typed, priced and taxed as of today, at today's rates: only what points at an invoice uses the rates of that.
//! No goods move: what comes back comes back on a return, and where no document is known of that, a line here credits it. All of it is kept for the customer, to be applied or refunded.
//! *Source: domain.md section 9; postings.md, Documents, credit memo kept.*

use super::entering::{give_back, tax_back};
use crate::accounts::{Account, Purpose};
use crate::calendar::{DateOrder, DocumentDate, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::invoice::{InvoiceDocument, InvoiceInput, ItemKind, decide as invoice};
use crate::money::Money;
use crate::open_items::Side;
use crate::people::check_reason;
use crate::posting::{NewItem, Posting, account_of};
use crate::returns::{OnReturn, check_received};
use crate::spread::spread;
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// Everything needed to decide on a credit memo that stands alone.
#[derive(Debug, Clone)]
pub struct AloneInput<'a> {
    /// Its lines as if they were billed, with the customer, the accounts and the rates of the day. Nothing of them leaves stock.
    pub lines: InvoiceInput<'a>,
    /// Its date.
    pub date: DocumentDate,
    /// Today's date, and that of the last credit memo.
    pub dates: DateOrder,
    /// Why.
    pub reason: String,
    /// The lines that credit what came back on a return without a document: the place of each, and the line of the return.
    pub came_back: Vec<(usize, OnReturn)>,
}

/// What a credit memo that stands alone does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct AloneDecision {
    /// What it credits, without a minus; none where nothing was typed.
    pub document: Option<InvoiceDocument>,
    /// Its entry; none where it comes to nothing, or an account is missing.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date: who posts names the one seen.
    pub fingerprint: String,
    /// Changes with what is credited, on whatever day: what an approval is for.
    pub mark: String,
}

impl AloneDecision {
    /// What it does to the books: an open item of the customer, not applied to anything.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        let Some(document) = &self.document else { return posting };
        posting.enter(self.entry.clone(), None);
        let account = account_of(self.entry.as_ref(), Purpose::Unapplied);
        posting.make(NewItem::due_at_once(
            (document.customer, Purpose::Unapplied, Side::OwedByUs),
            account,
            document.currency,
            (document.total, document.total_base),
            document.posting_date.date,
        ));
        posting
    }
}

/// Decides on a credit memo that stands alone.
pub fn decide(input: &AloneInput<'_>) -> AloneDecision {
    let mut findings = Findings::at(Step::Post);
    let mut lines = input.lines.clone();
    for line in &mut lines.lines {
        line.leaves = None;
    }
    let as_billed = invoice(&lines);
    check(input, &as_billed.blockers, &mut findings);
    for (at, on_return) in &input.came_back {
        let Some(line) = input.lines.lines.get(*at) else { continue };
        let what = (on_return.number.as_str(), line.code.as_str());
        let field = format!("added.{at}.quantity");
        check_received(what, (line.quantity, input.date.date), &on_return.movements, &field, &mut findings);
    }
    let document = as_billed.document.map(|document| InvoiceDocument {
        document_date: input.date,
        posting_date: input.date,
        due_date: input.date.date,
        early: None,
        ..document
    });
    if document.as_ref().is_some_and(|document| !document.total.is_positive()) {
        findings.add(Check::AmountNotPositive, "added", "It comes to nothing. Enter what is credited.");
    }
    let entry = document.as_ref().and_then(|document| enter(input, document, &mut findings));
    let amounts: Option<Vec<_>> = document.as_ref().map(|document| {
        document.lines.iter().map(|line| (&line.code, line.quantity.scaled(), line.net, &line.tax)).collect()
    });
    let kept = document.as_ref().map_or(Money::ZERO, |document| document.total);
    AloneDecision {
        tape: tape(input, document.as_ref()),
        changes: vec![Change { label: "Kept unapplied".to_owned(), before: None, after: Figure::money(kept) }],
        mark: match input.came_back.as_slice() {
            [] => fingerprint::of(&(input.lines.customer.id, &amounts, input.reason.trim())),
            came_back => {
                let lines: Vec<_> = came_back.iter().map(|(at, on_return)| (at, on_return.line)).collect();
                fingerprint::of(&(input.lines.customer.id, &amounts, input.reason.trim(), lines))
            }
        },
        fingerprint: fingerprint::of(&(&document, &entry)),
        blockers: findings.finish(),
        document,
        entry,
    }
}

fn check(input: &AloneInput<'_>, as_billed: &[Blocker], findings: &mut Findings) {
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCredit, "reason", sentence);
    }
    input.dates.check("credit memo", input.date.date, "date", findings);
    for (at, line) in input.lines.lines.iter().enumerate() {
        if line.kind == ItemKind::Packaging {
            let sentence =
                format!("{} is owed back. Enter what comes back under the customer's containers.", line.code);
            findings.add(Check::CannotCredit, format!("added.{at}.item"), sentence);
        }
    }
    for blocker in as_billed {
        // The order of invoices is none of its own, and nothing is shipped or owed.
        let of_invoice = matches!(
            blocker.check,
            Check::DateBeforeLast | Check::DateOutOfOrder | Check::DateAhead | Check::OrderNumberMissing
        );
        if of_invoice {
            continue;
        }
        let field = match blocker.field.strip_prefix("lines.") {
            Some(rest) => format!("added.{rest}"),
            None if blocker.field.ends_with("_date") => "date".to_owned(),
            None if matches!(blocker.field.as_str(), "picks" | "lines") => "added".to_owned(),
            None => blocker.field.clone(),
        };
        findings.add_at(blocker.check, field, blocker.sentence.clone(), blocker.at.clone());
    }
}

/// Dr returns, charges or the account that was typed, and tax; Cr unapplied.
fn enter(input: &AloneInput<'_>, document: &InvoiceDocument, findings: &mut Findings) -> Option<Entry> {
    let customer = &input.lines.customer;
    let to_base = |amount: Money| amount.to_base(document.rate, document.currency, input.lines.base);
    let tax_bases: Vec<Money> = document.taxes.iter().map(|tax| to_base(tax.tax)).collect();
    let nets: Vec<i64> = document.lines.iter().map(|line| line.net.0).collect();
    let bases = spread(document.total_base - tax_bases.iter().copied().sum::<Money>(), &nets);
    let mut builder = EntryBuilder::new(input.lines.accounts, customer.class.as_deref(), document.currency);
    for ((line, typed), base) in document.lines.iter().zip(&input.lines.lines).zip(&bases) {
        let account: Option<&Account> = typed.account.as_ref();
        give_back(&mut builder, (line, Some(&typed.class)), account, *base);
    }
    tax_back(&mut builder, document, &tax_bases, &bases);
    let whose = LineFor { customer: Some(customer.id), ..LineFor::default() };
    builder.add(Purpose::Unapplied, -document.total, -document.total_base, whose);
    builder.finish_or_say(input.date.date, format!("Credit to {}", customer.name), findings)
}

fn tape(input: &AloneInput<'_>, document: Option<&InvoiceDocument>) -> Tape {
    let currency = input.lines.basis.currency;
    let mut tape = Tape::new(input.lines.customer.name.clone(), "credit memo", currency);
    let Some(document) = document else { return tape };
    for (at, line) in document.lines.iter().enumerate() {
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.code), -line.amount);
        if let Some((_, on_return)) = input.came_back.iter().find(|(place, _)| *place == at) {
            tape.remark(TapeStyle::Detail, format!("received on {}", on_return.number), false);
        }
    }
    if document.gross_priced {
        tape.remark(TapeStyle::Detail, "prices with tax: it is taken out of them", false);
    }
    tape.amount(TapeStyle::Sum, "Net", -document.net);
    for tax in &document.taxes {
        tape.part(TapeStyle::Line, tax.label(), -tax.base, -tax.tax);
    }
    tape.amount(TapeStyle::Due, "Credit", -document.total);
    tape.amount(TapeStyle::Detail, "kept for the customer, unapplied", document.total);
    tape.remark(TapeStyle::Detail, format!("posted on {}", words(input.date.date)), !input.date.typed);
    tape.remark(TapeStyle::Detail, "rates of that day: it points at no invoice", false);
    tape
}
