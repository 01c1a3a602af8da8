//! What goes the other way on a credit memo: a restocking fee, return freight, or goods in exchange.
//!
//! It is a supply of today, with accounts, tax and tax date of its own, and is set off against what is credited.
//! What is left is to credit, to pay, or nothing; tax shows on each side. With goods it is an **exchange**: a document whose
//! net is to pay is an invoice, any other a credit memo, as law and EN 16931 know no third kind.
//! *Source: domain.md section 9; postings.md, Documents.*

use chrono::NaiveDate;

use super::CreditInput;
use crate::accounts::Purpose;
use crate::calendar::Terms;
use crate::checks::{Check, Findings};
use crate::entry::{Entry, EntryBuilder, EntryLine};
use crate::ids::CustomerId;
use crate::invoice::{InvoiceDecision, InvoiceDocument, InvoiceInput, ItemKind};
use crate::money::{Currency, Money};
use crate::open_items::Side;
use crate::posting::{MovedWith, NewItem, Posting, StockMove, account_of};
use crate::tape::{Tape, TapeStyle};

/// What a credit comes to with what goes the other way. Amounts in its currency, with the same in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Balance {
    /// What settles the open rest of the invoice.
    pub(super) settles: (Money, Money),
    /// What is kept for the customer.
    pub(super) kept: (Money, Money),
    /// What the customer owes.
    pub(super) owed: (Money, Money),
    /// What both sides have in common, in base currency: at the rate of the invoice, and at that of the supply.
    pub(super) set_off: (Money, Money),
}

impl Balance {
    /// What of a credit of so much is set off against a supply, settles the invoice, is kept, or is left to pay.
    pub(super) fn of(input: &CreditInput<'_>, credit: Money, supplied: Option<&InvoiceDocument>) -> Self {
        let supply = supplied.map_or(Money::ZERO, |document| document.total);
        let both = credit.min(supply).max(Money::ZERO);
        let (rest, owed) = (credit - both, supply - both);
        let billed = &input.document;
        let at = |amount: Money, rate| amount.to_base(rate, billed.currency, input.base);
        // In the invoice's currency and at what it is carried at: matching the two makes no difference.
        let date = input.date.date;
        let settled = rest.min(input.item.room_from(date)).max(Money::ZERO);
        let kept = rest - settled;
        let both_today = supplied.map_or(Money::ZERO, |document| at(both, document.rate));
        let settled_base = if settled.is_zero() { Money::ZERO } else { input.item.release(settled, date) };
        Self {
            settles: (settled, settled_base),
            kept: (kept, at(kept, billed.rate)),
            owed: (owed, supplied.map_or(Money::ZERO, |document| document.total_base) - both_today),
            set_off: (at(both, billed.rate), both_today),
        }
    }

    /// What the credit side comes to, in base currency.
    pub(super) fn credit_base(&self) -> Money {
        self.settles.1 + self.kept.1 + self.set_off.0
    }
}

/// What a supply stands against.
#[derive(Debug, Clone, Copy)]
pub(super) struct Against {
    /// What is credited, with tax, in the currency of both.
    pub(super) credit: Money,
    /// Whether goods may go out, and something may be left to pay.
    pub(super) exchange: bool,
    /// Whether what is credited was billed in advance.
    pub(super) in_advance: bool,
}

/// What stands in the way of what goes the other way. Its fields are those of lines that were added.
pub(super) fn check(supplied: &InvoiceDecision, against: Against, findings: &mut Findings) {
    let Against { credit, exchange, in_advance } = against;
    let Some(document) = &supplied.document else { return };
    let owed = document.total > credit;
    for blocker in &supplied.blockers {
        // The dates are the credit's own; an invoice's order holds where it becomes one.
        let of_order = matches!(blocker.check, Check::DateBeforeLast | Check::DateOutOfOrder | Check::DateAhead);
        if blocker.check == Check::PeriodClosed || (of_order && !owed) {
            continue;
        }
        let field = match blocker.field.strip_prefix("lines.") {
            Some(rest) => format!("added.{rest}"),
            None if blocker.field.ends_with("_date") => "date".to_owned(),
            None => blocker.field.clone(),
        };
        findings.add_at(blocker.check, field, blocker.sentence.clone(), blocker.at.clone());
    }
    if in_advance {
        let sentence = "What was billed in advance is credited by itself. Bill a fee on an invoice of its own.";
        findings.add(Check::CannotCredit, "added", sentence);
    }
    for (at, line) in document.lines.iter().enumerate() {
        if line.kind == ItemKind::Packaging {
            let sentence = format!("{} is returnable packaging: ship or bill it, then it is kept track of.", line.code);
            findings.add(Check::CannotCredit, format!("added.{at}.item"), sentence);
        } else if line.kind == ItemKind::Goods && !exchange {
            let sentence = format!("{} goes out in place of what came back: enter it as an exchange.", line.code);
            findings.add(Check::CannotCredit, format!("added.{at}.item"), sentence);
        }
    }
    if owed && !exchange {
        let sentence = "The charges come to more than what is credited. Bill them on an invoice of their own.";
        findings.add(Check::CannotCredit, "added", sentence);
    }
}

/// What is left to pay, due by the terms of what was supplied.
pub(super) fn to_pay(
    (customer, currency): (CustomerId, Currency),
    supplies: Option<&InvoiceInput<'_>>,
    entry: Option<&Entry>,
    (owed, date): ((Money, Money), NaiveDate),
) -> NewItem {
    let terms = supplies.map_or_else(|| Terms::net_days(0), |with| with.basis.terms.clone());
    let whose = (customer, Purpose::Receivable, Side::OwedToUs);
    let due = NewItem::due_at_once(whose, account_of(entry, Purpose::Receivable), currency, owed, date);
    NewItem { due_date: terms.next_due(date, owed.0, owed.0), terms: Some(terms), ..due }
}

/// What leaves stock with a supply whose lines stand on the document from a place on.
pub(super) fn leave(supplied: Option<&InvoiceDecision>, first: usize, date: NaiveDate, posting: &mut Posting) {
    for leaving in supplied.into_iter().flat_map(|supplied| &supplied.leaving) {
        let with = MovedWith::DocumentLine { invoice: None, line: first + leaving.line };
        posting.stock.extend(StockMove::out(&leaving.issues, date, with));
    }
}

/// The lines of the entries of what goes the other way, what the customer owes for it left out: that is netted.
fn entry_lines(supplied: &InvoiceDecision) -> impl Iterator<Item = &EntryLine> {
    let entries = supplied.entry.iter().chain(&supplied.cost_entry);
    entries.flat_map(|entry: &Entry| &entry.lines).filter(|line| line.purpose != Purpose::Receivable)
}

/// One entry over what is credited, what goes the other way and the goods that came back with it; none where it would say
/// nothing, or an account is missing.
pub(super) fn whole(
    (credited, currency, (date, text)): (EntryBuilder<'_>, Currency, (NaiveDate, String)),
    supplied: Option<&InvoiceDecision>,
    goods: &[Entry],
    findings: &mut Findings,
) -> Option<Entry> {
    let (entry, problems) = credited.finish(date, text.clone());
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    let mut entry = entry.unwrap_or(Entry { date, text, currency, lines: Vec::new() });
    entry.lines.extend(supplied.into_iter().flat_map(entry_lines).cloned());
    // Goods that only pass the inspection place say nothing of it.
    let goods = goods.iter().skip(1).fold(goods.first().cloned(), |sum, one| sum.map(|sum| sum.with(&one.lines)));
    entry.lines.extend(goods.into_iter().flat_map(|goods| goods.lines));
    // Over nothing it still writes the goods; without either there is none.
    (complete && !entry.lines.is_empty()).then_some(entry)
}

/// What goes the other way, and what is left: above zero to pay, below to credit, or nothing.
pub(super) fn tape(tape: &mut Tape, document: &InvoiceDocument, to_pay: Money) {
    tape.remark(TapeStyle::Group, "goes the other way", false);
    for line in &document.lines {
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.code), line.amount);
    }
    tape.amount(TapeStyle::Sum, "Net", document.net);
    for tax in &document.taxes {
        tape.part(TapeStyle::Line, tax.label(), tax.base, tax.tax);
    }
    tape.amount(TapeStyle::Sum, "With tax", document.total);
    let label = if to_pay.is_positive() { "To pay" } else { "Credit" };
    tape.amount(TapeStyle::Due, label, to_pay);
}
