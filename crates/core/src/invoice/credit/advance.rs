//! Crediting what was billed in advance: an amount of what is neither used nor credited of its row.
//! *Source: domain.md section 8.*

use super::crediting::credit_line;
use super::{CreditInput, What};
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::fixed::Quantity;
use crate::invoice::InvoiceLine;
use crate::prepayment::{Part, Prepaid};

/// A line that bills in advance: an amount of what is neither used nor credited of it, from the day on.
pub(super) fn advance(
    input: &CreditInput<'_>,
    (at, billed): (usize, &InvoiceLine),
    row: &Prepaid,
    what: What,
    findings: &mut Findings,
) -> Option<InvoiceLine> {
    let field = format!("lines.{at}.amount");
    let gross_priced = input.document.gross_priced;
    let (left, currency) = (row.left().priced(gross_priced), input.document.currency);
    let What::Price(amount) = what else {
        findings.add(
            Check::CannotCredit,
            field,
            format!("{} is billed in advance: credit an amount of it.", billed.code),
        );
        return None;
    };
    if !amount.is_positive() {
        findings.add(Check::AmountNotPositive, field, "Credit more than zero.");
        return None;
    }
    if amount > left {
        let sentence =
            format!("{} {currency} of {} are neither used nor credited.", currency.grouped(left), billed.code);
        findings.add(Check::MoreThanBilled, field, sentence);
        return None;
    }
    let part = row.part(amount, gross_priced, input.date.date);
    if part.priced(gross_priced) != amount {
        let when = row.free_from().map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = format!(
            "Not all that is left of {} on {} was there on {}.{when}",
            billed.code,
            input.number,
            words(input.date.date)
        );
        findings.add(Check::DateTooEarly, "date", sentence);
        return None;
    }
    Some(credit_line(billed, Quantity::ZERO, amount, part.net))
}

/// What a line that bills in advance gives up of its row; none for other lines.
pub(super) fn given_up(input: &CreditInput<'_>, position: usize, line: &InvoiceLine) -> Option<Part> {
    let row = input.prepaid(position)?;
    Some(row.part(line.amount, input.document.gross_priced, input.date.date))
}
