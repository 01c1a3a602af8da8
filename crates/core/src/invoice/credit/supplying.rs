//! What goes the other way on a credit memo: a restocking fee, return freight, or goods in exchange.
//!
//! It is a supply of today, with accounts, tax and tax date of its own, and is set off against what is credited.
//! What is left is to credit, to pay, or nothing; tax shows on each side. With goods it is an **exchange**: a document whose
//! net is to pay is an invoice, any other a credit memo, as law and EN 16931 know no third kind.
//! *Source: domain.md section 9; postings.md, Documents.*

use super::CreditInput;
use crate::accounts::Purpose;
use crate::checks::{Check, Findings};
use crate::entry::{Entry, EntryLine};
use crate::invoice::{InvoiceDecision, InvoiceDocument, ItemKind};
use crate::money::Money;
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

/// What stands in the way of what goes the other way. Its fields are those of lines that were added.
pub(super) fn check(input: &CreditInput<'_>, (supplied, credit): (&InvoiceDecision, Money), findings: &mut Findings) {
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
    if input.document.is_prepayment() {
        let sentence = "What was billed in advance is credited by itself. Bill a fee on an invoice of its own.";
        findings.add(Check::CannotCredit, "added", sentence);
    }
    for (at, line) in document.lines.iter().enumerate() {
        if line.kind == ItemKind::Packaging {
            let sentence = format!("{} is returnable packaging: ship or bill it, then it is kept track of.", line.code);
            findings.add(Check::CannotCredit, format!("added.{at}.item"), sentence);
        } else if line.kind == ItemKind::Goods && !input.exchange {
            let sentence = format!("{} goes out in place of what came back: enter it as an exchange.", line.code);
            findings.add(Check::CannotCredit, format!("added.{at}.item"), sentence);
        }
    }
    if owed && !input.exchange {
        let sentence = "The charges come to more than what is credited. Bill them on an invoice of their own.";
        findings.add(Check::CannotCredit, "added", sentence);
    }
}

/// The lines of the entries of what goes the other way, what the customer owes for it left out: that is netted.
pub(super) fn entry_lines(supplied: &InvoiceDecision) -> impl Iterator<Item = &EntryLine> {
    let entries = supplied.entry.iter().chain(&supplied.cost_entry);
    entries.flat_map(|entry: &Entry| &entry.lines).filter(|line| line.purpose != Purpose::Receivable)
}

/// What goes the other way, and what is left: to credit, to pay, or nothing.
pub(super) fn tape(tape: &mut Tape, document: &InvoiceDocument, balance: &Balance) {
    tape.remark(TapeStyle::Group, "goes the other way", false);
    for line in &document.lines {
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.code), line.amount);
    }
    tape.amount(TapeStyle::Sum, "Net", document.net);
    for tax in &document.taxes {
        tape.part(TapeStyle::Line, tax.label(), tax.base, tax.tax);
    }
    tape.amount(TapeStyle::Sum, "With tax", document.total);
    match (balance.owed.0, balance.settles.0 + balance.kept.0) {
        (owed, _) if owed.is_positive() => tape.amount(TapeStyle::Due, "To pay", owed),
        (_, rest) => tape.amount(TapeStyle::Due, "Credit", -rest),
    }
}
