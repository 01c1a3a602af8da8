//! A credit memo that stands alone: an allowance, goodwill, a bonus, with a reason and no invoice behind it.
//!
//! Its lines are typed, priced and taxed as of today, at today's rates: only what points at an invoice uses the rates of that.
//! What comes back comes back on a return, and where no document is known of that, a line here credits it. What is left is
//! kept for the customer, to be applied or refunded.
//!
//! It is also an **exchange** that points at no invoice: goods that came back with this very posting are credited, others go
//! out for them, and what is left is to credit, to pay, or nothing. Both sides are of today, in one currency.
//! *Source: domain.md section 9; postings.md, Documents, credit memo kept, exchange.*

use super::entering::{give_back, tax_back};
use super::supplying::{self, Against};
use crate::accounts::{Account, Purpose};
use crate::calendar::{DateOrder, DocumentDate, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::invoice::{InvoiceDecision, InvoiceDocument, InvoiceInput, ItemKind, decide as invoice, leaving};
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
    /// What goes the other way, in the same currency: goods in exchange, a fee, freight. None where nothing does.
    pub supplies: Option<InvoiceInput<'a>>,
    /// Whether goods may go out in exchange, and something may be left to pay.
    pub exchange: bool,
    /// Whether what it credits comes back with this very posting: its fields are those of `back`, and
    pub at_once: bool,
    /// the entries of the goods stand in its entry.
    pub goods: Vec<Entry>,
}

impl AloneInput<'_> {
    /// The field its lines are typed in.
    fn credited(&self) -> &'static str {
        if self.at_once { "back" } else { "added" }
    }
}

/// What a credit memo that stands alone does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct AloneDecision {
    /// What it credits, without a minus; none where nothing was typed.
    pub document: Option<InvoiceDocument>,
    /// What goes the other way; none where nothing does.
    pub supplied: Option<Box<InvoiceDecision>>,
    /// What is kept for the customer, in its currency and in base currency.
    pub kept: (Money, Money),
    /// What the customer owes where the other way comes to more, likewise.
    pub owed: (Money, Money),
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
    /// What is left to credit, in its currency; below zero where the customer owes something.
    pub fn balance(&self) -> Money {
        self.kept.0 - self.owed.0
    }

    /// What goes the other way, as a document; none where nothing does.
    pub fn other_way(&self) -> Option<&InvoiceDocument> {
        self.supplied.as_ref().and_then(|supplied| supplied.document.as_ref())
    }

    /// The places, on the document, of the first line it credits and of the first that goes the other way: on what is to pay
    /// these come first.
    pub fn places(&self) -> (usize, usize) {
        match self.owed.0.is_positive() {
            true => (self.other_way().map_or(0, |other| other.lines.len()), 0),
            false => (0, self.document.as_ref().map_or(0, |document| document.lines.len())),
        }
    }

    /// What it does to the books: an open item of the customer, not applied to anything, and what leaves stock for it.
    pub fn posting(&self, input: &AloneInput<'_>) -> Posting {
        let mut posting = Posting::default();
        let Some(document) = &self.document else { return posting };
        posting.enter(self.entry.clone(), None);
        let (date, currency) = (input.date.date, document.currency);
        if self.owed.0.is_positive() {
            let whose = (document.customer, currency);
            posting.make(supplying::to_pay(whose, input.supplies.as_ref(), self.entry.as_ref(), (self.owed, date)));
        } else {
            // Over nothing, as where both sides come to the same: it stands there all the same.
            let purpose = if self.kept.0.is_positive() { Purpose::Unapplied } else { Purpose::Receivable };
            let account = account_of(self.entry.as_ref(), purpose).filter(|_| self.kept.0.is_positive());
            let whose = (document.customer, purpose, Side::OwedByUs);
            posting.make(NewItem::due_at_once(whose, account, currency, self.kept, date));
        }
        supplying::leave(self.supplied.as_deref(), self.places().1, date, &mut posting);
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
        let field = format!("{}.{at}.quantity", input.credited());
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
        findings.add(Check::AmountNotPositive, input.credited(), "It comes to nothing. Enter what is credited.");
    }
    let supplied = input.supplies.as_ref().map(invoice);
    let other_way = supplied.as_ref().and_then(|one| one.document.as_ref());
    let both = |of: fn(&InvoiceDocument) -> Money| {
        // At one rate, the side that comes to more comes to no less in base currency.
        let left = document.as_ref().map_or(Money::ZERO, of) - other_way.map_or(Money::ZERO, of);
        (left.max(Money::ZERO), (-left).max(Money::ZERO))
    };
    let ((kept, owed), (kept_base, owed_base)) = (both(|one| one.total), both(|one| one.total_base));
    let (kept, owed) = ((kept, kept_base), (owed, owed_base));
    if let Some((supplied, document)) = supplied.as_ref().zip(document.as_ref()) {
        let against = Against { credit: document.total, exchange: input.exchange, in_advance: false };
        supplying::check(supplied, against, &mut findings);
    }
    if owed.0.is_zero() {
        input.dates.check("credit memo", input.date.date, "date", &mut findings);
    }
    let entry =
        document.as_ref().and_then(|document| enter(input, document, ((kept, owed), supplied.as_ref()), &mut findings));
    let amounts: Option<Vec<_>> = document.as_ref().map(|document| {
        document.lines.iter().map(|line| (&line.code, line.quantity.scaled(), line.net, &line.tax)).collect()
    });
    let against: Option<Vec<_>> =
        other_way.map(|other| other.lines.iter().map(|line| (line.quantity.scaled(), line.net, &line.tax)).collect());
    AloneDecision {
        tape: tape(input, (document.as_ref(), other_way), (kept.0, owed.0)),
        changes: changes(input, (kept.0, owed.0), supplied.as_ref()),
        // Where nothing came back or goes the other way it is what it was before those could be.
        mark: match input.came_back.as_slice() {
            [] if against.is_none() => fingerprint::of(&(input.lines.customer.id, &amounts, input.reason.trim())),
            came_back => {
                let lines: Vec<_> = came_back.iter().map(|(at, on_return)| (at, on_return.line)).collect();
                let what = (input.lines.customer.id, &amounts, input.reason.trim(), lines);
                against.as_ref().map_or_else(|| fingerprint::of(&what), |against| fingerprint::of(&(&what, against)))
            }
        },
        fingerprint: match other_way {
            None => fingerprint::of(&(&document, &entry)),
            Some(other) => fingerprint::of(&(&document, &entry, other)),
        },
        blockers: findings.finish(),
        supplied: supplied.map(Box::new),
        kept,
        owed,
        document,
        entry,
    }
}

fn check(input: &AloneInput<'_>, as_billed: &[Blocker], findings: &mut Findings) {
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCredit, "reason", sentence);
    }
    for (at, line) in input.lines.lines.iter().enumerate() {
        if line.kind == ItemKind::Packaging {
            let sentence =
                format!("{} is owed back. Enter what comes back under the customer's containers.", line.code);
            findings.add(Check::CannotCredit, format!("{}.{at}.item", input.credited()), sentence);
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
            Some(rest) => format!("{}.{rest}", input.credited()),
            None if blocker.field.ends_with("_date") => "date".to_owned(),
            None if matches!(blocker.field.as_str(), "picks" | "lines") => input.credited().to_owned(),
            None => blocker.field.clone(),
        };
        findings.add_at(blocker.check, field, blocker.sentence.clone(), blocker.at.clone());
    }
}

fn changes(input: &AloneInput<'_>, (kept, owed): (Money, Money), supplied: Option<&InvoiceDecision>) -> Vec<Change> {
    let mut changes = Vec::new();
    if owed.is_positive() {
        let owes = input.lines.customer.owes;
        let after = Figure::money(owes + owed);
        changes.push(Change { label: "Customer owes".to_owned(), before: Some(Figure::money(owes)), after });
    } else if kept.is_positive() {
        changes.push(Change { label: "Kept unapplied".to_owned(), before: None, after: Figure::money(kept) });
    }
    if let Some((with, supplied)) = input.supplies.as_ref().zip(supplied) {
        changes.extend(leaving::changes(with, &supplied.leaving));
    }
    changes
}

/// What is left of both sides, each in its currency and in base currency.
type Left = ((Money, Money), (Money, Money));

/// Dr returns, charges or the account that was typed, and tax; Cr unapplied. With what goes the other way, and the goods.
fn enter(
    input: &AloneInput<'_>,
    document: &InvoiceDocument,
    ((kept, owed), supplied): (Left, Option<&InvoiceDecision>),
    findings: &mut Findings,
) -> Option<Entry> {
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
    let whose = || LineFor { customer: Some(customer.id), ..LineFor::default() };
    builder.add(Purpose::Unapplied, -kept.0, -kept.1, whose());
    builder.add(Purpose::Receivable, owed.0, owed.1, whose());
    let what = if input.exchange { "Exchange with" } else { "Credit to" };
    let own = (builder, document.currency, (input.date.date, format!("{what} {}", customer.name)));
    supplying::whole(own, supplied, &input.goods, findings)
}

fn tape(
    input: &AloneInput<'_>,
    (document, other_way): (Option<&InvoiceDocument>, Option<&InvoiceDocument>),
    (kept, owed): (Money, Money),
) -> Tape {
    let currency = input.lines.basis.currency;
    let what = if input.exchange { "exchange" } else { "credit memo" };
    let mut tape = Tape::new(input.lines.customer.name.clone(), what, currency);
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
    match other_way {
        Some(other) => {
            tape.amount(TapeStyle::Sum, "Credited", -document.total);
            supplying::tape(&mut tape, other, owed - kept);
        }
        None => tape.amount(TapeStyle::Due, "Credit", -document.total),
    }
    if kept.is_positive() {
        tape.amount(TapeStyle::Detail, "kept for the customer, unapplied", kept);
    }
    tape.remark(TapeStyle::Detail, format!("posted on {}", words(input.date.date)), !input.date.typed);
    tape.remark(TapeStyle::Detail, "rates of that day: it points at no invoice", false);
    tape
}
