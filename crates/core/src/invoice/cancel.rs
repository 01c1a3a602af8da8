//! Cancelling a posted invoice: a credit memo for all of it.
//!
//! It reverses the very accounts, rates and tax of the original and the cost that followed it;
//! receipts applied to the invoice become unapplied money first, and its quantities are unbilled
//! again. *Source: domain.md section 7; postings.md, Documents and Money.*

use crate::accounts::AccountMap;
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::advance_lines;
use crate::entry::{Entry, EntryBuilder};
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{EntryId, InvoiceId};
use crate::invoice::{CustomerFacts, InvoiceDocument};
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};
use crate::order::{OrderAfter, OrderFacts, compare};
use crate::people::check_reason;
use crate::posting::{
    Billed, ContainerMove, NewApplication, NewItem, Posting, PrepaidMove, StockMove, Which, containers_of,
};
use crate::prepayment::{Part, using};
use crate::settle::BesideBooked;
use crate::settle::back::{Reversal, Standing, first_whole_day, taken_back, unapplied};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// Everything needed to decide on cancelling.
#[derive(Debug, Clone)]
pub struct CancelInput<'a> {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number.
    pub number: String,
    /// The document, as posted.
    pub document: InvoiceDocument,
    /// Its open item: what of it is open, and when what was settled.
    pub item: OpenItem,
    /// Whose.
    pub customer: CustomerFacts,
    /// The entry it wrote.
    pub entry: Option<(EntryId, Entry)>,
    /// The entry of the cost that followed.
    pub cost_entry: Option<(EntryId, Entry)>,
    /// The cost that followed each of its lines, in their order, in base currency.
    pub costs: Vec<Money>,
    /// What left stock with lines of it that stand on no shipment.
    pub left: Vec<StockMove>,
    /// What is applied to it, and stands.
    pub applied: Vec<Standing>,
    /// Deposits that were applied as it was posted, whether that still stands or not: they share its entry.
    pub advances: Vec<Standing>,
    /// Packaging billed on it of which so little is still at the customer: code, billed, there.
    pub containers_gone: Vec<(String, Quantity, Quantity)>,
    /// The number of the credit memo that cancelled it, where one did.
    pub cancelled_by: Option<String>,
    /// Credit memos over lines of it.
    pub credited_by: Vec<String>,
    /// Returns that hold something of it: expected, or back and not credited.
    pub returned_on: Vec<String>,
    /// The orders on it.
    pub orders: Vec<OrderFacts>,
    /// Date of the credit memo.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Base currency.
    pub base: Currency,
    /// Today's date, and that of the last document of its kind.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What cancelling does, or why it cannot be done.
#[derive(Debug, Clone)]
pub struct CancelDecision {
    /// The entries that unapply the money, each pointing to the one it takes back.
    pub unapplied: Vec<Reversal>,
    /// The entry of the credit memo.
    pub entry: Option<Entry>,
    /// The entry that takes the cost back.
    pub cost_entry: Option<Entry>,
    /// What the customer owes less, in base currency: what was open.
    pub owed_less: Money,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date: who posts names the one seen.
    pub fingerprint: String,
    /// Changes with what is credited and what is freed by it, on whatever day: what an approval is for.
    pub mark: String,
}

/// Decides on cancelling an invoice.
pub fn decide(input: &CancelInput<'_>) -> CancelDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let date = input.date.date;
    let text = format!("{} canceled", input.number);
    let unapplied = unapply(input, &mut findings);
    let entry = whole_invoice(input, &text, &mut findings);
    let cost_entry = input.cost_entry.as_ref().map(|(_, entry)| entry.reversed(date, format!("{text}: cost")));
    let (orders, order_changes) = compare(&input.orders, &orders_after(input));
    let freed: Money = input.applied.iter().map(|applied| applied.settled.1).sum();
    let owed_less = input.document.total_base - freed;
    let freed_by: Vec<_> = input.applied.iter().map(|applied| (applied.id, applied.date)).collect();
    let fingerprint = fingerprint::of(&(&input.document, &unapplied, &entry, &cost_entry, &freed_by));
    let mark = fingerprint::of(&(input.invoice, input.document.total, input.item.open, &freed_by));
    CancelDecision {
        mark,
        tape: tape(input),
        changes: changes(input, owed_less, order_changes),
        unapplied,
        entry,
        cost_entry,
        owed_less,
        orders,
        blockers: findings.finish(),
        fingerprint,
    }
}

impl CancelDecision {
    /// What it does to the books: the money is free again, the credit memo stands against the whole of the
    /// invoice, and what was billed is to be billed again.
    pub fn posting(&self, input: &CancelInput<'_>) -> CancelPosting {
        let date = input.date.date;
        let document = &input.document;
        let mut posting = Posting {
            entries: self.unapplied.clone(),
            applications: taken_back(&input.applied, &self.unapplied, date),
            billed: given_back(input),
            containers: containers_of(document)
                .map(|sent| ContainerMove {
                    date,
                    quantity: Quantity::from_scaled(-sent.quantity.scaled()),
                    amount: -sent.amount,
                    canceled: Some(input.invoice),
                    ..sent
                })
                .collect(),
            prepaid: PrepaidMove::of(document)
                .map(|used| PrepaidMove {
                    date,
                    canceled: Some(input.invoice),
                    part: Part::default().less(&used.part),
                    ..used
                })
                .collect(),
            stock: input.left.iter().map(|left| left.back(date)).collect(),
            orders: self.orders.clone(),
            ..Posting::default()
        };
        let entry = posting.enter(self.entry.clone(), input.entry.as_ref().map(|(id, _)| *id));
        let cost_entry = posting.enter(self.cost_entry.clone(), input.cost_entry.as_ref().map(|(id, _)| *id));
        let whole = (document.total, document.total_base);
        let account = input.item.account.as_ref().map(|account| account.number.as_str());
        let whose = (document.customer, input.item.purpose, Side::OwedByUs);
        let credit = posting.make(NewItem::due_at_once(whose, account, document.currency, whole, date));
        if !document.total.is_zero() {
            let debit = Which::Known(input.item.id);
            let (debit_amount, credit_amount) = (whole, whole);
            posting.applications.push(NewApplication {
                date,
                debit,
                credit,
                debit_amount,
                credit_amount,
                beside: BesideBooked::default(),
                taxes: Vec::new(),
                reverses: None,
                entry,
            });
        }
        CancelPosting { posting, entry, cost_entry }
    }
}

/// What cancelling does to the books, and which of its entries are the credit memo's own.
#[derive(Debug, Clone)]
pub struct CancelPosting {
    /// All of it.
    pub posting: Posting,
    /// The entry of the credit memo, by its place.
    pub entry: Option<usize>,
    /// The entry of the cost that goes back, by its place.
    pub cost_entry: Option<usize>,
}

/// Quantities and cost that followed go back to where they came from.
fn given_back(input: &CancelInput<'_>) -> Vec<Billed> {
    let costs = input.costs.iter().copied().chain(std::iter::repeat(Money::ZERO));
    let lines = input.document.lines.iter().zip(costs);
    lines
        .filter_map(|(line, cost)| {
            Some(Billed {
                shipment_line: line.source.shipment_line(),
                order_line: line.source.order_line()?,
                quantity: Quantity::from_scaled(-line.quantity.scaled()),
                cost: -cost,
            })
        })
        .collect()
}

fn check(input: &CancelInput<'_>, findings: &mut Findings) {
    if let Some(memo) = &input.cancelled_by {
        let sentence = format!("{} is canceled already, by {memo}.", input.number);
        findings.add(Check::CannotCancel, "invoice", sentence);
    }
    if input.document.is_prepayment() {
        let sentence = format!("{} bills in advance. Credit what of it is not used.", input.number);
        findings.add(Check::CannotCancel, "invoice", sentence);
    }
    if !input.returned_on.is_empty() {
        let sentence = format!(
            "Goods of {} are on {}. Credit what came back, or close the return; then credit the rest.",
            input.number,
            input.returned_on.join(", ")
        );
        findings.add(Check::CannotCancel, "invoice", sentence);
    }
    if !input.credited_by.is_empty() {
        let sentence = format!(
            "{} is credited in part, by {}. Credit what is left of its lines.",
            input.number,
            input.credited_by.join(", ")
        );
        findings.add(Check::CannotCancel, "invoice", sentence);
    }
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("credit memo", date, "date", findings);
    let posted = input.document.posting_date.date;
    let freed = input.applied.iter().map(|applied| applied.settled.0);
    let until = first_whole_day(&input.item, freed, input.document.total, date);
    let latest = input.applied.iter().map(|applied| applied.date).chain([posted]).chain(until).max().unwrap_or(posted);
    if date < latest {
        let what = if latest == posted { "was posted" } else { "was last paid, or its money reversed, on" };
        let sentence = format!(
            "{} {what} {}. It cannot be canceled before; choose that day or a later one.",
            input.number,
            words(latest)
        );
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    for (code, billed, there) in &input.containers_gone {
        let sentence = format!(
            "{billed} {code} went out with {}, and only {there} are still at {}: some have come back. Credit them instead.",
            input.number, input.customer.name
        );
        findings.add(Check::CannotCancel, "invoice", sentence);
    }
}

/// The entry of the invoice turned round, without the deposits that were applied in it: those are unapplied by
/// entries of their own, or were before.
fn whole_invoice(input: &CancelInput<'_>, text: &str, findings: &mut Findings) -> Option<Entry> {
    let (_, entry) = input.entry.as_ref()?;
    let turned = entry.reversed(input.date.date, text.to_owned());
    if input.advances.is_empty() {
        return Some(turned);
    }
    let class = input.customer.class.as_deref();
    let mut builder = EntryBuilder::new(input.accounts, class, input.document.currency);
    for advance in &input.advances {
        advance_lines(&mut builder, &advance.credit, advance.used, &advance.taxes);
        advance_lines(&mut builder, &advance.debit, (-advance.settled.0, -advance.settled.1), &[]);
    }
    let without = builder.finish_or_say(input.date.date, text.to_owned(), findings)?;
    Some(turned.with(&without.lines))
}

/// Dr receivable, Cr what it was settled with; what the rates make of it is a currency difference.
fn unapply(input: &CancelInput<'_>, findings: &mut Findings) -> Vec<Reversal> {
    let class = input.customer.class.as_deref();
    let builder = || EntryBuilder::new(input.accounts, class, input.document.currency);
    let text = format!("Money on {} unapplied", input.number);
    unapplied(&input.applied, builder, (input.date.date, &text, input.base), findings)
}

fn orders_after(input: &CancelInput<'_>) -> Vec<OrderFacts> {
    let mut after = input.orders.clone();
    for order in &mut after {
        for (id, progress) in &mut order.lines {
            for line in input.document.lines.iter().filter(|line| line.source.order_line() == Some(*id)) {
                let less = |quantity: Quantity| Quantity::from_scaled(quantity.scaled() - line.quantity.scaled());
                progress.billed = less(progress.billed);
                if line.source.shipment_line().is_none() {
                    progress.shipped = less(progress.shipped);
                }
            }
        }
        order.invoices.retain(|invoice| invoice.invoice != input.invoice);
        order.prepaid_left += using::net_of_order(&input.document, order.id);
    }
    after
}

fn tape(input: &CancelInput<'_>) -> Tape {
    let document = &input.document;
    let mut tape =
        Tape::new(input.customer.name.clone(), format!("credit memo for all of {}", input.number), document.currency);
    tape.amount(TapeStyle::Sum, "Net", -document.net);
    for tax in &document.taxes {
        tape.part(TapeStyle::Line, tax.label(), -tax.base, -tax.tax);
    }
    tape.amount(TapeStyle::Due, "Credit", -document.total);
    if input.item.open.is_positive() {
        tape.amount(TapeStyle::Detail, format!("of {} still open, settled by it", input.number), input.item.open);
    }
    for applied in &input.applied {
        tape.amount(
            TapeStyle::Detail,
            format!("{}, unapplied again", applied.credit.document.number),
            applied.settled.0,
        );
    }
    tape.remark(TapeStyle::Detail, format!("posted on {}", words(input.date.date)), !input.date.typed);
    tape.remark(TapeStyle::Detail, "the very accounts, rates and tax of the invoice", false);
    tape
}

fn changes(input: &CancelInput<'_>, owed_less: Money, orders: Vec<Change>) -> Vec<Change> {
    let money = |label: &str, before: Money, after: Money| Change {
        label: label.to_owned(),
        before: Some(Figure::money(before)),
        after: Figure::money(after),
    };
    let mut changes = vec![money("Customer owes", input.customer.owes, input.customer.owes - owed_less)];
    let back = input.document.lines.iter().filter(|line| line.source.order_line().is_some()).count();
    if back > 0 {
        changes.push(Change {
            label: "Unbilled again".to_owned(),
            before: None,
            after: Figure::words(if back == 1 { "1 line".to_owned() } else { format!("{back} lines") }),
        });
    }
    changes.extend(orders);
    changes
}
