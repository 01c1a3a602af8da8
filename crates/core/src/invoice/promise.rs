//! Why an invoice comes to something else than its orders promised: each cause has its line.
//!
//! *Source: domain.md section 7.* All amounts carry their tax, at the rate of their line, so
//! that they lead from the promise to what is due; what rounding and another tax make of it is
//! the last line.

use serde::{Deserialize, Serialize};

use crate::invoice::{InvoiceDocument, InvoiceInput, InvoiceLine, LineSource};
use crate::money::{Money, line_total_less};
use crate::order::OrderFacts;
use crate::prepayment::using::by_document;
use crate::pricing::offs;

/// A cause, and what it adds or takes off.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Difference {
    /// What.
    pub label: String,
    /// By how much, with tax.
    pub amount: Money,
}

/// From what the orders promised to what is due; empty where that is the same.
pub(super) fn differences(input: &InvoiceInput<'_>, document: &InvoiceDocument) -> Vec<Difference> {
    if input.orders.is_empty() || input.orders.iter().any(|order| order.promised.lines.is_empty()) {
        return Vec::new();
    }
    let promised: Money = input.orders.iter().map(|order| order.promised.total()).sum();
    if promised == document.total || document.is_prepayment() {
        return Vec::new();
    }
    let numbers: Vec<&str> = input.orders.iter().map(|order| order.number.as_str()).collect();
    let mut causes = vec![Difference { label: format!("{} promised", super::taping::and(&numbers)), amount: promised }];
    let mut add = |label: String, amount: Money| {
        if !amount.is_zero() {
            causes.push(Difference { label, amount });
        }
    };
    for order in &input.orders {
        before(order, &mut add);
    }
    let mut later = Money::ZERO;
    for order in &input.orders {
        later += still_to_come(order, &document.lines);
    }
    add("still to come".to_owned(), -later);
    for line in &document.lines {
        of_line(input, document, line, &mut add);
    }
    let discount: Money = document.lines.iter().map(|line| with_tax(document, line, line.off)).sum();
    add("discount on this invoice".to_owned(), -discount);
    for (prepayment, used) in by_document(document) {
        add(format!("billed in advance on {}", prepayment.number), -used.gross());
    }
    let explained: Money = causes.iter().map(|cause| cause.amount).sum();
    if explained != document.total {
        causes.push(Difference { label: "tax and rounding".to_owned(), amount: document.total - explained });
    }
    causes
}

/// What was cancelled, and what earlier invoices took.
fn before(order: &OrderFacts, add: &mut impl FnMut(String, Money)) {
    let mut cancelled = Money::ZERO;
    let mut billed = Money::ZERO;
    for (id, progress) in &order.lines {
        let whole = order.promised.line(*id);
        cancelled += whole.share(progress.cancelled.scaled(), progress.ordered.scaled());
        billed += whole.share(progress.billed.scaled(), progress.ordered.scaled());
    }
    add(format!("canceled on {}", order.number), -cancelled);
    let names: Vec<&str> =
        order.invoices.iter().filter(|invoice| !invoice.in_advance).map(|invoice| invoice.name.as_str()).collect();
    add(format!("billed before: {}", super::taping::and(&names)), -billed);
}

/// What of an order is neither billed nor on this invoice.
fn still_to_come(order: &OrderFacts, lines: &[InvoiceLine]) -> Money {
    let mut later = Money::ZERO;
    for (id, progress) in &order.lines {
        let now: i64 =
            lines.iter().filter(|line| line.source.order_line() == Some(*id)).map(|line| line.quantity.scaled()).sum();
        // More than ordered may have gone: that counts the other way round.
        let rest = progress.wanted().scaled() - progress.billed.scaled() - now;
        later += order.promised.line(*id).share(rest, progress.ordered.scaled());
    }
    later
}

fn of_line(
    input: &InvoiceInput<'_>,
    document: &InvoiceDocument,
    line: &InvoiceLine,
    add: &mut impl FnMut(String, Money),
) {
    if line.source == LineSource::Typed {
        add(format!("added here: {}", line.description), with_tax(document, line, line.amount));
        return;
    }
    if line.unit_price != line.order_price {
        let offs = offs(line.discount, &line.price_steps);
        let at_order =
            line_total_less(line.quantity, line.order_price, &offs, line.surcharge, input.basis.currency).net;
        let why = line.price_reason.as_deref().map(|why| format!(": {why}")).unwrap_or_default();
        add(format!("price of {} changed{why}", line.code), with_tax(document, line, line.amount - at_order));
    }
}

fn with_tax(document: &InvoiceDocument, line: &InvoiceLine, amount: Money) -> Money {
    if document.gross_priced { amount } else { amount.with_tax(line.tax.rate) }
}
