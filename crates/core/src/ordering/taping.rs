//! The tape of an order or a quote.

use super::{OrderDecision, OrderInput};
use crate::calendar::words;
use crate::invoice::ItemKind;
use crate::money::Money;
use crate::pricing::{tape_offs, tape_sources};
use crate::tape::{Tape, TapeStyle};
use crate::tax::TaxCategory;

pub(super) fn tape(input: &OrderInput<'_>, decision: &OrderDecision) -> Tape {
    let goes_to = if input.ship_to == input.customer.name { String::new() } else { format!(" to {}", input.ship_to) };
    let mut tape = Tape::new(input.customer.name.clone(), format!("{}{goes_to}", input.name), input.currency);
    let home = input.currency == input.base;
    for line in &decision.lines {
        let Some(price) = &line.price else {
            tape.remark(TapeStyle::Line, format!("{} × {}, no price", line.quantity, line.code), false);
            continue;
        };
        tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, price.unit_price.grouped(2)), price.full);
        tape.remark(TapeStyle::Detail, line.description.clone(), false);
        tape_sources(&mut tape, &price.steps, home);
        tape_offs(&mut tape, price.discount, price.discount_reason.as_deref(), (price.full, price.net), {
            (price.surcharge, price.surcharge_name.as_deref(), line.quantity)
        });
        if line.tax_source.starts_with("chosen") {
            tape.remark(TapeStyle::Detail, format!("tax code {} {}", line.tax.code, line.tax_source), false);
        }
        if line.short.is_positive() {
            tape.remark(TapeStyle::Detail, format!("{} of {} on back order", line.short, line.quantity), false);
        }
    }
    if input.gross_priced {
        tape.remark(TapeStyle::Detail, "prices with tax: it is taken out of them", false);
    }
    tape.amount(TapeStyle::Sum, "Net", decision.net);
    for tax in &decision.taxes {
        if decision.taxes.len() > 1 {
            tape.part(TapeStyle::Line, tax.label(), tax.base, tax.tax);
        } else {
            tape.amount(TapeStyle::Line, tax.label(), tax.tax);
        }
    }
    let exempt = decision.taxes.iter().any(|tax| tax.rate.category == TaxCategory::E);
    if let Some(certificate) = input.taxed.certificate_words().filter(|_| exempt) {
        tape.remark(TapeStyle::Detail, certificate, false);
    }
    tape.amount(TapeStyle::Due, "With tax", decision.total);
    tape.remark(TapeStyle::Detail, input.terms.words(), false);
    let packaging = decision.lines.iter().filter(|line| line.kind == ItemKind::Packaging);
    let owed_back: Money = packaging.map(|line| line.net).sum();
    if let Some(offer) = input.terms.offer(input.date, decision.net - owed_back, decision.total - owed_back) {
        tape.amount(TapeStyle::Detail, format!("if billed today and paid by {}", words(offer.until)), -offer.amount);
    }
    let kind = if input.quote { "a quote" } else { "an order" };
    tape.remark(TapeStyle::Detail, format!("no entry: {kind} writes nothing to the ledger"), false);
    tape
}
