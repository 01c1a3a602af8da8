//! The entries of an invoice. *Source: postings.md, Documents and Goods.*

use std::collections::BTreeMap;

use chrono::NaiveDate;

use crate::accounts::Purpose;
use crate::checks::Findings;
use crate::deposit::HeldTax;
use crate::entry::{Converted, Entry, EntryBuilder, LineFor, TaxMark, convert};
use crate::invoice::{InvoiceDocument, InvoiceInput, InvoiceLine, ItemKind, Leaving, LineSource};
use crate::money::{Currency, Money};
use crate::prepayment::Part;
use crate::spread::spread;
use crate::tax::TaxLine;

/// Dr receivable; Cr revenue by item class, charges, tax by code.
pub(super) fn enter(input: &InvoiceInput<'_>, document: &InvoiceDocument, findings: &mut Findings) -> Option<Entry> {
    let nets: Vec<Money> = document.lines.iter().map(|line| line.net).collect();
    let taxes: Vec<Money> = document.taxes.iter().map(|line| line.tax).collect();
    let advance = Advance::of(document);
    let now: Vec<Money> = document.lines.iter().map(InvoiceLine::net_now).collect();
    let Converted { total, taxes: taxes_base, others: rest } = advance.convert(document, (&taxes, &now), input.base);
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), document.currency);
    builder.add(
        Purpose::Receivable,
        document.due,
        total - advance.base,
        LineFor { customer: Some(document.customer), ..LineFor::default() },
    );
    for deposit in &document.deposits {
        let item = input.deposits.iter().map(|facts| &facts.item).find(|item| item.id == deposit.item);
        let tax: Money = deposit.taxes.iter().map(|held| held.tax).sum();
        let tax_base: Money = deposit.taxes.iter().map(|held| held.tax_base).sum();
        let amounts = (deposit.amount - tax, deposit.amount_base - tax_base);
        let what = LineFor { customer: Some(document.customer), ..LineFor::default() };
        match item.and_then(|item| item.account.as_ref()) {
            Some(account) => builder.add_to(account, Purpose::DepositLiability, amounts, what),
            None => builder.add(Purpose::DepositLiability, amounts.0, amounts.1, what),
        }
    }
    enter_prepaid(input, document, &mut builder);
    // What was prepaid stands at what it was carried at, the rest at the rate of the document.
    let others: Vec<Money> =
        document.lines.iter().zip(&rest).map(|(line, base)| *base + line.used().net_base).collect();
    // Goods and work first, charges after them, packaging that is owed back, what is billed in advance last.
    let purposes =
        [Purpose::Revenue, Purpose::ChargeRevenue, Purpose::ContainerLiability, Purpose::PrepaymentLiability];
    for purpose in purposes {
        for ((line, net), base) in input.lines.iter().zip(&nets).zip(&others) {
            if purpose_of(&line.source, line.kind) != purpose {
                continue;
            }
            let controlled = matches!(purpose, Purpose::ContainerLiability | Purpose::PrepaymentLiability);
            let what = LineFor {
                item_class: Some(&line.class),
                customer: controlled.then_some(document.customer),
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
        for part in advance.less(tax, by_tax_date(document, tax, *base, &rest)) {
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
    let what = if document.is_prepayment() { "Prepayment invoice" } else { "Invoice" };
    let text = format!("{what} to {}", input.customer.name);
    builder.finish_or_say(document.posting_date.date, text, findings)
}

/// What each line of a prepayment invoice bills in advance: its net, its share of the tax of its code, and what the account
/// carries of it. Empty for other invoices.
pub(super) fn advanced(document: &InvoiceDocument, base: Currency) -> Vec<Part> {
    if !document.is_prepayment() {
        return Vec::new();
    }
    let nets: Vec<Money> = document.lines.iter().map(|line| line.net).collect();
    let taxes: Vec<Money> = document.taxes.iter().map(|line| line.tax).collect();
    let bases = Advance::of(document).convert(document, (&taxes, &nets), base).others;
    let mut parts: Vec<Part> =
        nets.iter().zip(bases).map(|(net, net_base)| Part { net: *net, tax: Money::ZERO, net_base }).collect();
    for tax in &document.taxes {
        let of_code: Vec<usize> = (0..parts.len()).filter(|at| document.lines[*at].tax == tax.rate).collect();
        let weights: Vec<i64> = of_code.iter().map(|at| parts[*at].net.0).collect();
        for (at, share) in of_code.into_iter().zip(spread(tax.tax, &weights)) {
            let line = &document.lines[at];
            parts[at].tax = if document.gross_priced { line.amount - line.off - line.net } else { share };
        }
    }
    parts
}

/// What of an invoice is covered by deposits, and what tax was due as they came in, by code.
struct Advance {
    /// At what they were carried at, in base currency.
    base: Money,
    amount: Money,
    taxes: Vec<HeldTax>,
}

impl Advance {
    fn of(document: &InvoiceDocument) -> Self {
        Self {
            base: document.deposits.iter().map(|deposit| deposit.amount_base).sum(),
            amount: document.deposits.iter().map(|deposit| deposit.amount).sum(),
            taxes: document.deposits.iter().flat_map(|deposit| deposit.taxes.clone()).collect(),
        }
    }

    fn of_code<'a>(&'a self, tax: &'a TaxLine) -> impl Iterator<Item = &'a HeldTax> {
        self.taxes.iter().filter(|held| held.rate == tax.rate)
    }

    /// The total with what is covered at its own rate and the rest at that of the document, then each tax in the same
    /// way, and what remains is spread over the lines. *Source: domain.md sections 8 and 11, foreign currency.*
    fn convert(&self, document: &InvoiceDocument, (taxes, nets): (&[Money], &[Money]), base: Currency) -> Converted {
        let to_base = |amount: Money| amount.to_base(document.rate, document.currency, base);
        if self.amount.is_zero() {
            return convert(taxes, nets, document.rate, document.currency, base);
        }
        let of_tax = |tax: &TaxLine| {
            let used: Money = self.of_code(tax).map(|held| held.tax).sum();
            to_base(tax.tax - used) + self.of_code(tax).map(|held| held.tax_base).sum::<Money>()
        };
        let taxes: Vec<Money> = document.taxes.iter().map(of_tax).collect();
        let rest = document.total_base - taxes.iter().copied().sum::<Money>();
        let weights: Vec<i64> = nets.iter().map(|net| net.0).collect();
        Converted { total: document.total_base, taxes, others: spread(rest, &weights) }
    }

    /// Tax of a code less what was due as deposits came in, day by day.
    fn less(&self, tax: &TaxLine, mut parts: Vec<TaxPart>) -> Vec<TaxPart> {
        for held in self.of_code(tax) {
            if let Some(part) = parts.iter_mut().find(|part| part.date == held.tax_date) {
                part.net -= held.net;
                part.base -= held.net_base;
                part.tax -= held.tax;
                part.tax_base -= held.tax_base;
            }
        }
        parts
    }
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
/// worked out once and spread over the tax dates of its lines by what was taxed. `bases` is what is taxed of each line in
/// base currency, what was prepaid left out.
pub(super) fn by_tax_date(document: &InvoiceDocument, tax: &TaxLine, tax_base: Money, bases: &[Money]) -> Vec<TaxPart> {
    let mut parts: BTreeMap<NaiveDate, (Money, Money)> = BTreeMap::new();
    for (line, base) in document.lines.iter().zip(bases).filter(|(line, _)| line.tax == tax.rate) {
        let part = parts.entry(line.tax_date).or_default();
        part.0 += line.net_now();
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

/// Dr prepayments: what the lines use of it, at what it was carried at.
fn enter_prepaid(input: &InvoiceInput<'_>, document: &InvoiceDocument, builder: &mut EntryBuilder<'_>) {
    for (line, billed) in input.lines.iter().zip(&document.lines) {
        for used in &billed.prepaid {
            let row = input.prepaid.iter().find(|row| row.id == used.prepaid);
            let what = LineFor {
                item_class: Some(&line.class),
                customer: Some(document.customer),
                marks: Some(&line.marks),
                ..LineFor::default()
            };
            let (purpose, net, base) = (Purpose::PrepaymentLiability, used.part.net, used.part.net_base);
            match row.and_then(|row| row.account.as_ref()) {
                Some(account) => builder.add_to(account, purpose, (net, base), what),
                None => builder.add(purpose, net, base, what),
            }
        }
    }
}

/// Where the net of a line goes.
const fn purpose_of(source: &LineSource, kind: ItemKind) -> Purpose {
    if source.in_advance().is_some() {
        return Purpose::PrepaymentLiability;
    }
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
