//! Invoices posted one after the other: each sees what those before it make of its orders, of cost that waits for them,
//! of stock, of money in advance and of what the customer owes.

use std::collections::HashMap;

use chrono::NaiveDate;

use crate::checks::stops;
use crate::fixed::Quantity;
use crate::ids::{CustomerId, LayerId, OpenItemId, OrderId, PrepaidId, ShipmentLineId};
use crate::invoice::{HeldCost, InvoiceDecision, InvoiceDocument, InvoiceInput, decide};
use crate::money::Money;
use crate::open_items::OpenItem;
use crate::order::OrderFacts;
use crate::prepayment::Prepaid;

/// Decides on invoices that are posted one after the other. One that is stopped makes nothing of those after it.
pub fn decide_in_order(inputs: &mut [InvoiceInput<'_>]) -> Vec<InvoiceDecision> {
    decide_those_that_go(inputs, |_, _| true)
}

/// The same where some of them are held back though nothing stops them, as one whose figures have moved since a run
/// was looked at: what is not posted makes nothing of the orders, the cost and the money in advance of those after it.
/// `goes` says by place and decision whether one is posted.
pub fn decide_those_that_go(
    inputs: &mut [InvoiceInput<'_>],
    goes: impl Fn(usize, &InvoiceDecision) -> bool,
) -> Vec<InvoiceDecision> {
    let mut so_far = SoFar::default();
    let mut decisions = Vec::with_capacity(inputs.len());
    for (place, input) in inputs.iter_mut().enumerate() {
        so_far.put_on(input);
        let mut decision = decide(input);
        if !stops(&decision.blockers) && goes(place, &decision) {
            so_far.note(input, &mut decision);
        }
        decisions.push(decision);
    }
    decisions
}

/// What the invoices posted so far made of what the next ones look at.
#[derive(Default)]
struct SoFar {
    orders: HashMap<OrderId, OrderFacts>,
    owes: HashMap<CustomerId, Money>,
    held: HashMap<ShipmentLineId, HeldCost>,
    gone: HashMap<LayerId, (Quantity, Money)>,
    deposits: HashMap<OpenItemId, OpenItem>,
    prepaid: HashMap<PrepaidId, Prepaid>,
    last: Option<NaiveDate>,
}

impl SoFar {
    /// Puts it on an invoice that is decided on next.
    fn put_on(&self, input: &mut InvoiceInput<'_>) {
        input.dates.last = input.dates.last.max(self.last);
        for line in &mut input.lines {
            if let Some(later) = line.source.shipment_line().and_then(|id| self.held.get(&id)) {
                line.held_cost = Some(*later);
            }
        }
        for order in &mut input.orders {
            if let Some(later) = self.orders.get(&order.id) {
                *order = later.clone();
            }
        }
        for layer in input.stock.values_mut().flatten() {
            if let Some((quantity, cost)) = self.gone.get(&layer.id) {
                layer.remaining = Quantity::from_scaled(layer.remaining.scaled() - quantity.scaled());
                layer.remaining_cost -= *cost;
            }
        }
        if let Some(later) = self.owes.get(&input.customer.id) {
            input.customer.owes = *later;
        }
        for deposit in &mut input.deposits {
            if let Some(later) = self.deposits.get(&deposit.item.id) {
                deposit.item = later.clone();
            }
        }
        for row in &mut input.prepaid {
            if let Some(later) = self.prepaid.get(&row.id) {
                *row = later.clone();
            }
        }
    }

    /// Notes what one that is posted makes of it all.
    fn note(&mut self, input: &InvoiceInput<'_>, decision: &mut InvoiceDecision) {
        let Some(document) = &decision.document else { return };
        // One that is dated ahead holds nobody up.
        self.last = self.last.max(Some(document.document_date.date).filter(|date| *date <= input.dates.today));
        self.owes.insert(input.customer.id, input.customer.owes + document.due_base());
        self.note_advance(input, document);
        for line in &input.lines {
            let (Some(id), Some(cost)) = (line.source.shipment_line(), line.held_cost) else { continue };
            self.held.insert(id, cost.after(line.quantity));
        }
        for issue in decision.leaving.iter().flat_map(|leaving| &leaving.issues) {
            let sum = self.gone.entry(issue.layer).or_default();
            *sum = (Quantity::from_scaled(sum.0.scaled() + issue.quantity.scaled()), sum.1 + issue.cost);
        }
        for order in std::mem::take(&mut decision.orders_after) {
            self.orders.insert(order.id, order);
        }
    }

    /// Money in advance that it used.
    fn note_advance(&mut self, input: &InvoiceInput<'_>, document: &InvoiceDocument) {
        let date = document.posting_date.date;
        for used in &document.deposits {
            if let Some(facts) = input.deposits.iter().find(|facts| facts.item.id == used.item) {
                self.deposits.insert(used.item, facts.item.less(used, date));
            }
        }
        for used in document.lines.iter().flat_map(|line| &line.prepaid) {
            // Two lines of one order line use the same row one after the other.
            let row = self.prepaid.get(&used.prepaid).or(input.prepaid.iter().find(|row| row.id == used.prepaid));
            if let Some(after) = row.map(|row| row.after(&used.part, date)) {
                self.prepaid.insert(used.prepaid, after);
            }
        }
    }
}
