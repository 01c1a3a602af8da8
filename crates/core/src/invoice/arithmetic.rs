//! The arithmetic of an invoice, checked from the outside of [`super::decide`]: the rules that an
//! EN 16931 validator applies to sums, and that the books apply to every posted invoice.
//!
//! *Source: EN 16931-1, business rules BR-CO-10, -11, -13, -14, -15, -16 and -17, from memory.*

use crate::deposit::HeldTax;
use crate::invoice::building::tax_now;
use crate::invoice::{InvoiceDocument, InvoiceLine};
use crate::money::Money;

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
    let prepaid = document.prepaid();
    must(document.net == sum(|line| line.net) - prepaid.net, "BR-CO-13: the total without tax");
    if document.gross_priced {
        let due = document.lines_total - off - prepaid.gross();
        must(document.total == due, "the customer pays exactly the gross");
    } else {
        must(document.net == document.lines_total - off - prepaid.net, "BR-CO-13: lines less allowances");
    }
    must(document.tax == document.taxes.iter().map(|tax| tax.tax).sum(), "BR-CO-14: the sum of the tax");
    must(document.total == document.net + document.tax, "BR-CO-15: the total with tax");
    let in_advance: Money = document.deposits.iter().map(|deposit| deposit.amount).sum();
    let due_parts: Money = document.due_parts.iter().map(|part| part.amount).sum();
    must(document.due == document.total - in_advance, "BR-CO-16: the amount due is the total less what was paid");
    must(due_parts == document.due, "BR-CO-16: the parts of the amount due");
    for tax in &document.taxes {
        let used = |of: fn(&HeldTax) -> Money| -> Money {
            let all = document.deposits.iter().flat_map(|deposit| &deposit.taxes);
            all.filter(|held| held.rate == tax.rate).map(of).sum()
        };
        let (net, taxed) = (used(|held| held.net), used(|held| held.tax));
        let none = net.is_zero() && taxed.is_zero();
        must(
            none || (net <= tax.base && taxed <= tax.tax),
            "no more of a tax code is paid in advance than the invoice has of it",
        );
    }
    let (again, _) = tax_now(&document.lines, (document.gross_priced, document.tax_computed));
    must(document.taxes == again, "BR-CO-17: the tax of each category");
    for tax in &document.taxes {
        let base: Money = document.lines.iter().filter(|line| line.tax == tax.rate).map(InvoiceLine::net_now).sum();
        must(base == tax.base, "BR-S-08 and its kin: the base of each category");
    }
    faults
}
