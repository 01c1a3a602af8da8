//! The entries of an invoice. *Source: postings.md, Documents and Goods.*

use crate::accounts::Purpose;
use crate::checks::{Check, Findings};
use crate::entry::{Converted, Entry, EntryBuilder, LineFor, TaxMark, convert};
use crate::ids::ShipmentLineId;
use crate::invoice::{InvoiceDocument, InvoiceInput, ItemKind};
use crate::money::Money;

/// Dr receivable; Cr revenue by item class, charges, tax by code.
pub(super) fn enter(input: &InvoiceInput<'_>, document: &InvoiceDocument, findings: &mut Findings) -> Option<Entry> {
    let nets: Vec<Money> = document.lines.iter().map(|line| line.net).collect();
    let taxes: Vec<Money> = document.taxes.iter().map(|line| line.tax).collect();
    let Converted { total, taxes: taxes_base, others } =
        convert(&taxes, &nets, document.rate, document.currency, input.base);
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref());
    builder.add(
        Purpose::Receivable,
        document.total,
        total,
        LineFor { customer: Some(document.customer), ..LineFor::default() },
    );
    // Goods and work first, charges after them, packaging that is owed back last.
    for purpose in [Purpose::Revenue, Purpose::ChargeRevenue, Purpose::ContainerLiability] {
        for ((line, net), base) in input.lines.iter().zip(&nets).zip(&others) {
            if purpose_of(line.kind) != purpose {
                continue;
            }
            let owed_back = purpose == Purpose::ContainerLiability;
            let what = LineFor {
                item_class: Some(&line.class),
                customer: owed_back.then_some(document.customer),
                marks: Some(&line.marks),
                ..LineFor::default()
            };
            match &line.account {
                Some(account) => builder.add_to(account, purpose, (-*net, -*base), what),
                None => builder.add(purpose, -*net, -*base, what),
            }
        }
    }
    for (tax, base) in document.taxes.iter().zip(&taxes_base) {
        let mark = TaxMark {
            code: tax.rate.code.clone(),
            base: tax.base.to_base(document.rate, document.currency, input.base),
        };
        builder.add(Purpose::TaxPayable, -tax.tax, -*base, LineFor { tax: Some(mark), ..LineFor::default() });
    }
    let text = format!("Invoice to {}", input.customer.name);
    let (entry, problems) = builder.finish(document.posting_date.date, text, document.currency);
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    entry.filter(|_| complete)
}

/// Where the net of a line goes.
const fn purpose_of(kind: ItemKind) -> Purpose {
    match kind {
        ItemKind::Goods | ItemKind::Service => Purpose::Revenue,
        ItemKind::Charge => Purpose::ChargeRevenue,
        ItemKind::Packaging => Purpose::ContainerLiability,
    }
}

/// Dr cost of goods sold; Cr goods shipped and not billed. *Source: postings.md, Goods.*
pub(super) fn enter_cost(
    input: &InvoiceInput<'_>,
    document: &InvoiceDocument,
    findings: &mut Findings,
) -> (Option<Entry>, Vec<(ShipmentLineId, Money)>) {
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref());
    let mut costs = Vec::new();
    for line in &input.lines {
        let (Some(held), Some(shipment_line)) = (line.held_cost, line.source.shipment_line()) else { continue };
        let cost = held.following(line.quantity);
        costs.push((shipment_line, cost));
        let what = || LineFor { item_class: Some(&line.class), marks: Some(&line.marks), ..LineFor::default() };
        builder.add_base(Purpose::Cogs, cost, what());
        builder.add_base(Purpose::ShippedCost, -cost, what());
    }
    let text = format!("Cost of what was billed to {}", input.customer.name);
    let (entry, problems) = builder.finish(document.posting_date.date, text, input.base);
    let complete = problems.is_empty();
    for problem in problems {
        findings.add(Check::AccountMissing, "account_map", problem.to_string());
    }
    (entry.filter(|_| complete), costs)
}
