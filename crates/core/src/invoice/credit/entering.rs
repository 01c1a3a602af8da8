//! Lines of an entry that give back what was billed. *Source: postings.md, Documents.*

use crate::accounts::{Account, Purpose};
use crate::entry::{EntryBuilder, LineFor, TaxMark};
use crate::invoice::entering::by_tax_date;
use crate::invoice::{InvoiceDocument, InvoiceLine, ItemKind};
use crate::money::Money;

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
