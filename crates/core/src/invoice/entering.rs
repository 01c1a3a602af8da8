//! The entries of an invoice. *Source: postings.md, Documents and Goods.*

use std::collections::BTreeMap;

use chrono::NaiveDate;

use crate::accounts::Purpose;
use crate::checks::Findings;
use crate::entry::{Converted, Entry, EntryBuilder, LineFor, TaxMark, convert};
use crate::invoice::{InvoiceDocument, InvoiceInput, ItemKind, Leaving};
use crate::money::Money;
use crate::spread::spread;
use crate::tax::TaxLine;

/// Dr receivable; Cr revenue by item class, charges, tax by code.
pub(super) fn enter(input: &InvoiceInput<'_>, document: &InvoiceDocument, findings: &mut Findings) -> Option<Entry> {
    let nets: Vec<Money> = document.lines.iter().map(|line| line.net).collect();
    let taxes: Vec<Money> = document.taxes.iter().map(|line| line.tax).collect();
    let Converted { total, taxes: taxes_base, others } =
        convert(&taxes, &nets, document.rate, document.currency, input.base);
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), document.currency);
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
        for part in by_tax_date(document, tax, *base, &others) {
            let mark = TaxMark {
                code: tax.rate.code.clone(),
                base: part.base,
                document_base: part.net,
                rate: Some(tax.rate.rate),
                tax_date: Some(part.date),
            };
            let what = LineFor { tax: Some(mark), ..LineFor::default() };
            builder.add(Purpose::TaxPayable, -part.tax, -part.tax_base, what);
        }
    }
    let text = format!("Invoice to {}", input.customer.name);
    builder.finish_or_say(document.posting_date.date, text, findings)
}

/// What of a tax belongs to one tax date.
pub(super) struct TaxPart {
    pub(super) date: NaiveDate,
    /// Taxed, in document currency.
    pub(super) net: Money,
    /// Taxed, in base currency: the sum of what its revenue lines carry.
    pub(super) base: Money,
    pub(super) tax: Money,
    pub(super) tax_base: Money,
}

/// Deliveries of two months on one invoice are reported in two months: the tax of a code and rate is
/// worked out once and spread over the tax dates of its lines by what was taxed.
pub(super) fn by_tax_date(
    document: &InvoiceDocument,
    tax: &TaxLine,
    tax_base: Money,
    others: &[Money],
) -> Vec<TaxPart> {
    let mut parts: BTreeMap<NaiveDate, (Money, Money)> = BTreeMap::new();
    for (line, base) in document.lines.iter().zip(others).filter(|(line, _)| line.tax == tax.rate) {
        let part = parts.entry(line.tax_date).or_default();
        part.0 += line.net;
        part.1 += *base;
    }
    let nets: Vec<i64> = parts.values().map(|part| part.0.0).collect();
    let (taxes, tax_bases) = (spread(tax.tax, &nets), spread(tax_base, &nets));
    let spread = taxes.into_iter().zip(tax_bases);
    parts
        .into_iter()
        .zip(spread)
        .map(|((date, (net, base)), (tax, tax_base))| TaxPart { date, net, base, tax, tax_base })
        .collect()
}

/// Where the net of a line goes.
const fn purpose_of(kind: ItemKind) -> Purpose {
    match kind {
        ItemKind::Goods | ItemKind::Service => Purpose::Revenue,
        ItemKind::Charge => Purpose::ChargeRevenue,
        ItemKind::Packaging => Purpose::ContainerLiability,
    }
}

/// Dr cost of goods sold; Cr goods shipped and not billed, or stock for what leaves with the invoice. With
/// the cost of each line. *Source: postings.md, Goods.*
pub(super) fn enter_cost(
    input: &InvoiceInput<'_>,
    document: &InvoiceDocument,
    leaving: &[Leaving],
    findings: &mut Findings,
) -> (Option<Entry>, Vec<Money>) {
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), input.base);
    let mut costs = vec![Money::ZERO; input.lines.len()];
    for ((at, line), cost_of_line) in input.lines.iter().enumerate().zip(&mut costs) {
        let held = line.held_cost.filter(|_| line.source.shipment_line().is_some());
        let leaves = leaving.iter().find(|leaving| leaving.line == at);
        let (cost, from) = match (held, leaves) {
            (Some(held), _) => (held.following(line.quantity), Purpose::ShippedCost),
            (None, Some(leaving)) => (leaving.cost(), Purpose::Inventory),
            (None, None) => continue,
        };
        *cost_of_line = cost;
        let what = || LineFor { item_class: Some(&line.class), marks: Some(&line.marks), ..LineFor::default() };
        builder.add_base(Purpose::Cogs, cost, what());
        builder.add_base(from, -cost, what());
    }
    let text = format!("Cost of what was billed to {}", input.customer.name);
    (builder.finish_or_say(document.posting_date.date, text, findings), costs)
}
