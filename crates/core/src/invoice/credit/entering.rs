//! The entry of a credit, and the lines that give back what was billed. *Source: postings.md, Documents.*

use super::CreditInput;
use super::discounting::{self, TakenBack};
use super::supplying::{self, Balance};
use crate::accounts::{Account, Purpose};
use crate::checks::Findings;
use crate::entry::{Entry, EntryBuilder, LineFor, TaxMark};
use crate::invoice::entering::by_tax_date;
use crate::invoice::{InvoiceDecision, InvoiceDocument, InvoiceLine, ItemKind};
use crate::money::Money;
use crate::prepayment::Part;
use crate::spread::spread;

/// Dr returns, charges or the account that was typed, and tax; Cr receivable for what was open, unapplied
/// for what is kept.
pub(super) fn enter(
    input: &CreditInput<'_>,
    (document, given_up): (&InvoiceDocument, &[Part]),
    (balance, taken): (&Balance, &TakenBack),
    supplied: Option<&InvoiceDecision>,
    findings: &mut Findings,
) -> Option<Entry> {
    let Balance { settles, kept, owed, set_off } = *balance;
    let to_base = |amount: Money| amount.to_base(document.rate, document.currency, input.base);
    let tax_bases: Vec<Money> = document.taxes.iter().map(|tax| to_base(tax.tax)).collect();
    let nets: Vec<i64> = document.lines.iter().map(|line| line.net.0).collect();
    let rest = document.total_base - tax_bases.iter().copied().sum::<Money>();
    // What was billed in advance goes at what it is carried at: what rounding makes of it is a currency difference.
    let carried = || given_up.iter().map(|part| part.net_base).collect();
    let others: Vec<Money> = if document.is_prepayment() { carried() } else { spread(rest, &nets) };
    let mut builder = EntryBuilder::new(input.accounts, input.customer.class.as_deref(), document.currency);
    for ((line, wish), base) in document.lines.iter().zip(&input.lines).zip(&others) {
        let billed = input.billed.get(wish.position);
        let class = billed.and_then(|billed| billed.class.as_deref());
        if line.source.in_advance().is_some() {
            let customer = Some(document.customer);
            let what = LineFor { item_class: class, customer, marks: Some(&line.marks), ..LineFor::default() };
            match billed.and_then(|billed| billed.account.as_ref()) {
                Some(account) => builder.add_to(account, Purpose::PrepaymentLiability, (line.net, *base), what),
                None => builder.add(Purpose::PrepaymentLiability, line.net, *base, what),
            }
            continue;
        }
        give_back(&mut builder, (line, class), billed.and_then(|billed| billed.account.as_ref()), *base);
    }
    tax_back(&mut builder, document, &tax_bases, &others);
    let customer = || LineFor { customer: Some(document.customer), ..LineFor::default() };
    match &input.item.account {
        Some(account) => builder.add_to(account, Purpose::Receivable, (-settles.0, -settles.1), customer()),
        None => builder.add(Purpose::Receivable, -settles.0, -settles.1, customer()),
    }
    builder.add(Purpose::Unapplied, taken.credit.0 - kept.0, taken.credit.1 - kept.1, customer());
    discounting::enter(input, &mut builder, taken);
    builder.add(Purpose::Receivable, owed.0, owed.1, customer());
    if document.is_prepayment() {
        builder.add_difference(rest - others.iter().copied().sum::<Money>(), input.base);
    }
    // What both sides have in common, at the rate of each.
    builder.add_difference(set_off.1 - set_off.0, input.base);
    let what = if input.exchange { "Exchange against" } else { "Credit on" };
    let text = format!("{what} {}", input.number);
    let own = (builder, document.currency, (input.date.date, text));
    supplying::whole(own, supplied, &input.goods, findings)
}

/// Dr returns, charges, or the account that was typed.
pub(super) fn give_back(
    builder: &mut EntryBuilder<'_>,
    (line, class): (&InvoiceLine, Option<&str>),
    account: Option<&Account>,
    base: Money,
) {
    let what = LineFor { item_class: class, marks: Some(&line.marks), ..LineFor::default() };
    match (account, line.kind) {
        (Some(account), _) => builder.add_to(account, Purpose::Revenue, (line.net, base), what),
        (None, ItemKind::Charge) => builder.add(Purpose::ChargeRevenue, line.net, base, what),
        (None, _) => builder.add(Purpose::Returns, line.net, base, what),
    }
}

/// Dr tax, by code and tax date.
pub(super) fn tax_back(
    builder: &mut EntryBuilder<'_>,
    document: &InvoiceDocument,
    tax_bases: &[Money],
    line_bases: &[Money],
) {
    for (tax, base) in document.taxes.iter().zip(tax_bases) {
        for part in by_tax_date(document, tax, *base, line_bases) {
            let mark = TaxMark {
                code: tax.rate.code.clone(),
                base: -part.base,
                document_base: -part.net,
                rate: Some(tax.rate.rate),
                tax_date: Some(part.date),
            };
            let what = LineFor { tax: Some(mark), ..LineFor::default() };
            builder.add(Purpose::TaxPayable, part.tax, part.tax_base, what);
        }
    }
}
