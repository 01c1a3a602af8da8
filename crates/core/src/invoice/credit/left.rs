//! What of the lines of an invoice is left to credit, and what stands in the way of each.

use serde::{Deserialize, Serialize};

use super::{CreditInput, Credited};
use crate::checks::{Check, Findings};
use crate::fixed::Quantity;
use crate::invoice::{InvoiceLine, ItemKind};
use crate::money::Money;
use crate::prepayment::using::taxed_alike;
use crate::returns::free;

/// What of a line of an invoice is left to credit. Amounts are as priced, in the invoice's currency: with tax where its
/// prices carry it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LeftToCredit {
    /// The position of the line on the invoice, from zero.
    pub position: usize,
    /// How much of it is left to credit as staying with the customer, in the line's unit: what was neither credited nor
    /// is on a return. Nothing of what bills in advance, of which amounts are credited.
    pub quantity: Quantity,
    /// What of its amount is left.
    pub amount: Money,
    /// What was credited of it before.
    pub credited: Money,
    /// What is credited of it now.
    pub now: Money,
    /// What returns hold of it: expected, or back and not credited. In the line's unit.
    pub on_returns: Quantity,
    /// Why nothing of it can be credited; none where something can.
    pub obstacle: Option<String>,
}

/// The quantity and the amount, as priced, that are left of a line that bills goods, work or charges.
pub(super) fn of_line(billed: &InvoiceLine, so_far: Credited) -> (Quantity, Money) {
    let quantity = Quantity::from_scaled(billed.quantity.scaled() - so_far.quantity.scaled());
    (quantity, billed.amount - billed.off - so_far.amount)
}

/// Why nothing of a line that bills goods, work or charges can be credited, whatever is left of it.
pub(super) fn obstacle(input: &CreditInput<'_>, position: usize, billed: &InvoiceLine) -> Option<String> {
    if input.prepaid(position).is_some() {
        return None;
    }
    let (code, number) = (&billed.code, &input.number);
    if billed.kind == ItemKind::Packaging {
        return Some(format!("{code} is owed back. Enter what comes back under the customer's containers."));
    }
    let sentence =
        format!("{code} was taxed in advance at another rate than on {number}. Cancel {number} and bill it again.");
    (!taxed_alike(billed)).then_some(sentence)
}

/// Notes where more is credited as staying with the customer than is neither credited nor on a return.
pub(super) fn check_stays(
    input: &CreditInput<'_>,
    position: usize,
    billed: &InvoiceLine,
    (wanted, field): (Quantity, &str),
    findings: &mut Findings,
) {
    let so_far = input.so_far(position);
    let on_returns = input.on_returns(position);
    let left = free(billed.quantity, so_far.quantity, on_returns);
    if wanted <= left {
        return;
    }
    let sentence = match on_returns.is_positive() {
        true => format!(
            "Of {} {}, {left} are left to credit where the goods stay with the customer: {on_returns} are on a return.",
            billed.quantity, billed.code
        ),
        false => format!("Of {} {}, {left} are left to credit.", billed.quantity, billed.code),
    };
    findings.add(Check::MoreThanBilled, field, sentence);
}

/// What is left of each line, and what the lines of a credit take of it now.
pub(super) fn left(input: &CreditInput<'_>, credits: &[usize], lines: &[InvoiceLine]) -> Vec<LeftToCredit> {
    let of = |(position, billed): (usize, &InvoiceLine)| {
        let so_far = input.so_far(position);
        let (quantity, amount) = match input.prepaid(position) {
            Some(row) => (Quantity::ZERO, row.left().priced(input.document.gross_priced)),
            None => of_line(billed, so_far),
        };
        let now = credits.iter().zip(lines).filter(|(at, _)| **at == position).map(|(_, line)| line.amount).sum();
        let nothing =
            || (!amount.is_positive()).then(|| format!("All that {} came to is credited already.", billed.code));
        let obstacle = obstacle(input, position, billed).or_else(nothing);
        let on_returns = input.on_returns(position);
        let quantity = free(quantity, Quantity::ZERO, on_returns);
        LeftToCredit { position, quantity, amount, credited: so_far.amount, now, on_returns, obstacle }
    };
    input.document.lines.iter().enumerate().map(of).collect()
}
