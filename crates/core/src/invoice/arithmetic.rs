//! The arithmetic of an invoice, checked from the outside of [`super::decide`]: the rules that an
//! EN 16931 validator applies to sums, and that the books apply to every posted invoice.
//!
//! *Source: EN 16931-1, business rules BR-CO-10, -11, -13, -14, -15, -16 and -17, from memory.*

use crate::invoice::InvoiceDocument;
use crate::money::Money;
use crate::tax::{TaxRate, compute, compute_gross};

/// What does not add up; nothing on a sound invoice. BR-CO-17 (tax of a category = base × rate)
/// is for tax per document and prices without tax; a document computed otherwise is checked by the
/// rule it was computed by, whatever the setting says today.
pub fn arithmetic_faults(document: &InvoiceDocument) -> Vec<String> {
    let mut faults = Vec::new();
    let mut must = |holds: bool, rule: &str| {
        if !holds {
            faults.push(rule.to_owned());
        }
    };
    let sum = |of: fn(&crate::invoice::InvoiceLine) -> Money| document.lines.iter().map(of).sum::<Money>();
    let off = document.discount.as_ref().map_or(Money::ZERO, |discount| discount.amount);
    must(document.lines_total == sum(|line| line.amount), "BR-CO-10: the sum of the lines");
    must(off == sum(|line| line.off), "BR-CO-11: the sum of the allowances");
    must(document.net == sum(|line| line.net), "BR-CO-13: the total without tax");
    if document.gross_priced {
        must(document.total == document.lines_total - off, "the customer pays exactly the gross");
    } else {
        must(document.net == document.lines_total - off, "BR-CO-13: lines less allowances");
    }
    must(document.tax == document.taxes.iter().map(|tax| tax.tax).sum(), "BR-CO-14: the sum of the tax");
    must(document.total == document.net + document.tax, "BR-CO-15: the total with tax");
    must(
        document.due_parts.iter().map(|part| part.amount).sum::<Money>() == document.total,
        "BR-CO-16: the amount due",
    );
    let priced: Vec<(TaxRate, Money)> =
        document.lines.iter().map(|line| (line.tax.clone(), line.amount - line.off)).collect();
    let again = if document.gross_priced { compute_gross(&priced).0 } else { compute(document.tax_computed, &priced) };
    must(document.taxes == again, "BR-CO-17: the tax of each category");
    for tax in &document.taxes {
        let base: Money = document.lines.iter().filter(|line| line.tax == tax.rate).map(|line| line.net).sum();
        must(base == tax.base, "BR-S-08 and its kin: the base of each category");
    }
    faults
}
