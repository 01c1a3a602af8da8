//! The document of what is credited: its lines, and the tax that goes back with them.

use super::supplying::Balance;
use super::{CreditInput, LineToCredit, What, advance, left, share_of};
use crate::checks::{Check, Findings};
use crate::fixed::Quantity;
use crate::invoice::{InvoiceDocument, InvoiceLine};
use crate::money::Money;
use crate::returns::check_received;
use crate::tax::{TaxComputed, TaxLine};
use crate::terms::{DuePart, Terms};

/// A line of the credit; none where the invoice has no such line.
pub(super) fn line(
    input: &CreditInput<'_>,
    at: usize,
    wish: &LineToCredit,
    findings: &mut Findings,
) -> Option<InvoiceLine> {
    let Some(billed) = input.document.lines.get(wish.position) else {
        let sentence = format!("{} has no line {}.", input.number, wish.position + 1);
        findings.add(Check::CannotCredit, format!("lines.{at}"), sentence);
        return None;
    };
    if let Some(row) = input.prepaid(wish.position) {
        return advance::advance(input, (at, billed), row, wish.what, findings);
    }
    let field = format!("lines.{at}");
    if let Some(sentence) = left::obstacle(input, wish.position, billed) {
        findings.add(Check::CannotCredit, field, sentence);
    }
    let so_far = input.so_far(wish.position);
    let priced = billed.amount - billed.off;
    let (_, left) = left::of_line(billed, so_far);
    let currency = input.document.currency;
    let (quantity, amount) = match wish.what {
        What::Quantity(quantity) => {
            let field = format!("lines.{at}.quantity");
            if !quantity.is_positive() {
                findings.add(Check::QuantityNotPositive, field.as_str(), "Credit more than zero.");
            } else if let Some(returned) = &wish.returned {
                let what = (returned.number.as_str(), billed.code.as_str());
                check_received(what, (quantity, input.date.date), &returned.movements, &field, findings);
            } else {
                left::check_stays(input, wish.position, billed, (quantity, &field), findings);
            }
            // Goods that came back are settled by it all the same, where their price was taken off before.
            if quantity.is_positive() && !left.is_positive() && wish.returned.is_none() {
                let sentence = format!("All that {} came to is credited already.", billed.code);
                findings.add(Check::MoreThanBilled, field, sentence);
            }
            (quantity, share_of(billed.quantity, priced, so_far, quantity))
        }
        What::Price(amount) => {
            let field = format!("lines.{at}.amount");
            if wish.returned.is_some() {
                let sentence =
                    "Goods that came back are credited by quantity. Take the price off on a line of its own.";
                findings.add(Check::CannotCredit, field.clone(), sentence);
            }
            if !amount.is_positive() {
                findings.add(Check::AmountNotPositive, field, "Credit more than zero.");
            } else if amount > left {
                let sentence = format!("{} {currency} of {} are left to credit.", currency.grouped(left), billed.code);
                findings.add(Check::MoreThanBilled, field, sentence);
            }
            (Quantity::ZERO, amount)
        }
    };
    let left_net = billed.net - so_far.net;
    // All that is left of the amount takes all that is left of the net.
    let net = if input.document.gross_priced { left_net.share(amount.0, left.0) } else { amount };
    Some(credit_line(billed, quantity, amount, net))
}

pub(super) fn credit_line(billed: &InvoiceLine, quantity: Quantity, amount: Money, net: Money) -> InvoiceLine {
    let (off, prepaid) = (Money::ZERO, Vec::new());
    InvoiceLine { quantity, unbilled: quantity, full: amount, amount, off, net, prepaid, ..billed.clone() }
}

/// The document of what is credited, and what is left of it against what goes the other way.
pub(super) fn document(
    input: &CreditInput<'_>,
    lines: Vec<InvoiceLine>,
    supplied: Option<&InvoiceDocument>,
) -> (InvoiceDocument, Balance) {
    let billed = &input.document;
    let taxes: Vec<TaxLine> = input
        .taxes()
        .iter()
        .zip(&input.tax_credited)
        .filter(|(tax, _)| lines.iter().any(|line| line.tax == tax.rate))
        .map(|(tax, so_far)| tax_of(input, &lines, tax, *so_far))
        .collect();
    let net: Money = lines.iter().map(|line| line.net).sum();
    let tax: Money = taxes.iter().map(|line| line.tax).sum();
    let total = net + tax;
    let balance = Balance::of(input, total, supplied);
    let date = input.date.date;
    let document = InvoiceDocument {
        document_date: input.date,
        posting_date: input.date,
        due_date: date,
        due_parts: vec![DuePart { date, amount: total }],
        early: None,
        terms: Terms::net_days(0),
        text_above: None,
        text_below: None,
        tax_date: lines.iter().map(|line| line.tax_date).max().unwrap_or(billed.tax_date),
        lines_total: lines.iter().map(|line| line.amount).sum(),
        discount: None,
        order_shares: Vec::new(),
        lines,
        taxes,
        net,
        tax,
        total,
        total_base: balance.credit_base(),
        deposits: Vec::new(),
        due: total,
        ..billed.clone()
    };
    (document, balance)
}

/// The tax of a code that goes back: what belongs to all that is credited then, less what was credited.
fn tax_of(input: &CreditInput<'_>, lines: &[InvoiceLine], billed: &TaxLine, so_far: Money) -> TaxLine {
    let of_code = || lines.iter().filter(|line| line.tax == billed.rate);
    let net: Money = of_code().map(|line| line.net).sum();
    let all = input.document.lines.iter().enumerate().filter(|(_, line)| line.tax == billed.rate);
    let before: Money = all.map(|(at, _)| input.so_far(at).net).sum();
    let rate = billed.rate.rate;
    let tax = if before + net == billed.base {
        billed.tax - so_far
    } else if input.document.gross_priced {
        of_code().map(|line| line.amount - line.net).sum()
    } else if input.document.tax_computed == TaxComputed::PerDocument {
        (before + net).times_rate(rate) - so_far
    } else {
        input
            .lines
            .iter()
            .zip(lines)
            .filter(|(_, line)| line.tax == billed.rate)
            .map(|(wish, line)| {
                let before = input.so_far(wish.position).net;
                (before + line.net).times_rate(rate) - before.times_rate(rate)
            })
            .sum()
    };
    let left = (billed.tax - so_far).max(Money::ZERO);
    TaxLine { rate: billed.rate.clone(), base: net, tax: tax.clamp(Money::ZERO, left) }
}
