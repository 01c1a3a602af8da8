//! The tape of a credit memo, and what it changes.

use super::CreditInput;
use super::discounting::TakenBack;
use super::supplying::{self, Balance};
use crate::calendar::words;
use crate::invoice::InvoiceDocument;
use crate::money::Money;
use crate::tape::{Change, Figure, Tape, TapeStyle};

pub(super) fn tape(
    input: &CreditInput<'_>,
    (document, other_way): (&InvoiceDocument, Option<&InvoiceDocument>),
    (balance, taken): (&Balance, &TakenBack),
) -> Tape {
    let (settled, kept) = (balance.settles.0, balance.kept.0 - taken.credit.0);
    let what = if input.exchange { "exchange against" } else { "credit memo on" };
    let mut tape = Tape::new(input.customer.name.clone(), format!("{what} {}", input.number), document.currency);
    for line in &document.lines {
        let label = match line.quantity.is_positive() {
            true => format!("{} × {}", line.quantity, line.code),
            false if line.source.in_advance().is_some() => format!("in advance on {}", line.code),
            false => format!("off the price of {}", line.code),
        };
        tape.amount(TapeStyle::Line, label, -line.amount);
    }
    if document.gross_priced {
        tape.remark(TapeStyle::Detail, "prices with tax: it is taken out of them", false);
    }
    tape.amount(TapeStyle::Sum, "Net", -document.net);
    for tax in &document.taxes {
        tape.part(TapeStyle::Line, tax.label(), -tax.base, -tax.tax);
    }
    match other_way {
        Some(other) => {
            tape.amount(TapeStyle::Sum, "Credited", -document.total);
            supplying::tape(&mut tape, other, balance.owed.0 - settled - balance.kept.0);
        }
        None => tape.amount(TapeStyle::Due, "Credit", -document.total),
    }
    if !settled.is_zero() {
        tape.amount(TapeStyle::Detail, format!("off what is open of {}", input.number), settled);
    }
    if taken.credit.0.is_positive() {
        tape.amount(TapeStyle::Detail, "less the early-payment discount taken on it", taken.credit.0);
        for part in &taken.given.taxes {
            tape.amount(TapeStyle::Detail, format!("of which tax {}%", part.rate.rate.percent()), part.tax);
        }
    }
    if !kept.is_zero() {
        tape.amount(TapeStyle::Detail, "kept for the customer, unapplied", kept);
    }
    tape.remark(TapeStyle::Detail, format!("posted on {}", words(input.date.date)), !input.date.typed);
    let whose = if other_way.is_some() { ", for what is credited" } else { "" };
    tape.remark(TapeStyle::Detail, format!("rates and tax dates of the invoice{whose}"), false);
    tape
}

pub(super) fn changes(input: &CreditInput<'_>, owed_less: Money, kept: Money, orders: Vec<Change>) -> Vec<Change> {
    let mut changes = vec![Change {
        label: "Customer owes".to_owned(),
        before: Some(Figure::money(input.customer.owes)),
        after: Figure::money(input.customer.owes - owed_less),
    }];
    if !kept.is_zero() {
        changes.push(Change { label: "Kept unapplied".to_owned(), before: None, after: Figure::money(kept) });
    }
    changes.extend(orders);
    changes
}
