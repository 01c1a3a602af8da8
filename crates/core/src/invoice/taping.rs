//! The tape of an invoice, and what it changes.

use crate::calendar::words;
use crate::invoice::{Difference, InvoiceDocument, InvoiceInput, InvoiceLine};
use crate::money::Currency;
use crate::prepayment::Asks;
use crate::prepayment::using::by_document;
use crate::pricing::{tape_offs, tape_sources};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// The arithmetic of an invoice, draft or posted, line by line.
pub fn tape(document: &InvoiceDocument, customer_name: &str, base: Currency, differences: &[Difference]) -> Tape {
    let mut tape = Tape::new(customer_name.to_owned(), made_from(document), document.currency);
    tape_lines(&mut tape, document, base);
    tape_totals(&mut tape, document);
    tape_dates(&mut tape, document, base);
    if !differences.is_empty() {
        tape.remark(TapeStyle::Group, "why not what was ordered", false);
        for cause in differences {
            tape.amount(TapeStyle::Detail, cause.label.clone(), cause.amount);
        }
    }
    tape
}

/// “one invoice from S-1 and S-2”.
fn made_from(document: &InvoiceDocument) -> String {
    let shipments: Vec<&str> =
        document.lines.iter().filter_map(|line| line.source.shipment().map(|(_, number)| number)).collect();
    let orders: Vec<&str> = document.lines.iter().filter_map(|line| line.source.order_number()).collect();
    if document.is_prepayment() {
        return format!("one prepayment invoice for {}", and(&orders));
    }
    match (shipments.is_empty(), orders.is_empty()) {
        (false, _) => format!("one invoice from {}", and(&shipments)),
        (true, false) => format!("one invoice from {}", and(&orders)),
        (true, true) => "one direct invoice".to_owned(),
    }
}

/// The lines, under what they come from where that is more than one, and what comes off all of them.
fn tape_lines(tape: &mut Tape, document: &InvoiceDocument, base: Currency) {
    let mut groups: Vec<String> = Vec::new();
    for line in &document.lines {
        let heading = line.source.heading();
        if !groups.contains(&heading) {
            groups.push(heading);
        }
    }
    let mut current = None;
    for line in &document.lines {
        let heading = line.source.heading();
        if groups.len() > 1 && current.as_ref() != Some(&heading) {
            tape.remark(TapeStyle::Group, heading.clone(), false);
            current = Some(heading);
        }
        match line.source.in_advance() {
            Some((_, asks)) => tape_advance(tape, line, asks, document.currency),
            None => tape_line(tape, line, document.currency == base),
        }
    }
    if let Some(discount) = &document.discount {
        let sum = if document.gross_priced { "Lines, with tax" } else { "Lines" };
        tape.amount(TapeStyle::Sum, sum, document.lines_total);
        let share = discount.percent.map(|percent| format!(" {} %", percent.percent())).unwrap_or_default();
        tape.amount(TapeStyle::Line, format!("less{share}, {}", discount.reason), -discount.amount);
    }
}

/// Net, tax by code, and what is due when.
fn tape_totals(tape: &mut Tape, document: &InvoiceDocument) {
    if document.gross_priced {
        tape.remark(TapeStyle::Detail, "prices with tax: it is taken out of them", false);
    }
    tape_prepaid(tape, document);
    tape.amount(TapeStyle::Sum, "Net", document.net);
    for tax in &document.taxes {
        if document.taxes.len() > 1 {
            tape.part(TapeStyle::Line, tax.label(), tax.base, tax.tax);
        } else {
            tape.amount(TapeStyle::Line, tax.label(), tax.tax);
        }
    }
    if !document.deposits.is_empty() {
        tape.amount(TapeStyle::Sum, "Total", document.total);
        tape_deposits(tape, document);
    }
    if document.due.is_zero() && !document.deposits.is_empty() {
        tape.amount(TapeStyle::Due, "Nothing left to pay", document.due);
    } else if document.due_parts.len() > 1 {
        let label = if document.deposits.is_empty() { "Total" } else { "Balance due" };
        tape.amount(TapeStyle::Due, label, document.due);
        for part in &document.due_parts {
            tape.amount(TapeStyle::Detail, format!("due {}", words(part.date)), part.amount);
        }
    } else {
        tape.amount(TapeStyle::Due, format!("Due {}", words(document.due_date)), document.due);
    }
    if let Some(early) = &document.early {
        tape.amount(TapeStyle::Detail, format!("less, if paid by {}", words(early.until)), -early.amount);
    }
}

/// What the lines come to, and what of it was billed in advance: as priced.
fn tape_prepaid(tape: &mut Tape, document: &InvoiceDocument) {
    let used = by_document(document);
    if used.is_empty() {
        return;
    }
    if document.discount.is_none() {
        let sum = if document.gross_priced { "Lines, with tax" } else { "Lines" };
        tape.amount(TapeStyle::Sum, sum, document.lines_total);
    }
    for (prepayment, part) in used {
        let label = format!("less prepaid on {}", prepayment.number);
        tape.amount(TapeStyle::Line, label, -part.priced(document.gross_priced));
    }
}

/// What was taken in advance and is applied, with the tax that was due as it came in.
fn tape_deposits(tape: &mut Tape, document: &InvoiceDocument) {
    for deposit in &document.deposits {
        tape.amount(TapeStyle::Line, format!("less deposit {}", deposit.document.number), -deposit.amount);
        for held in &deposit.taxes {
            tape.part(TapeStyle::Detail, format!("of it tax {}%", held.rate.rate.percent()), held.net, held.tax);
        }
    }
}

/// Terms and dates, those nobody typed marked, and the rate of exchange.
fn tape_dates(tape: &mut Tape, document: &InvoiceDocument, base: Currency) {
    tape.remark(
        TapeStyle::Detail,
        format!("{}, from {}", document.terms.words(), words(document.document_date.date)),
        !document.document_date.typed,
    );
    tape.remark(
        TapeStyle::Detail,
        format!("posted on {}", words(document.posting_date.date)),
        !document.posting_date.typed,
    );
    let delivered = document.lines.iter().any(|line| line.source.shipped_on() == Some(document.tax_date));
    let day = if delivered { ", last delivery" } else { "" };
    tape.remark(TapeStyle::Detail, format!("tax of {}{day}", words(document.tax_date)), false);
    if document.currency != base {
        tape.remark(TapeStyle::Detail, format!("at {} {} for 1 {}", document.rate, base, document.currency), false);
    }
}

/// A line that bills in advance: which share of what, what was asked before and what of that is used.
fn tape_advance(tape: &mut Tape, line: &InvoiceLine, asks: &Asks, currency: Currency) {
    let label = match asks.percent {
        Some(percent) => format!("{}% of {}", percent.percent(), currency.grouped(asks.of)),
        None => format!("of {}", currency.grouped(asks.of)),
    };
    tape.amount(TapeStyle::Line, label, line.amount);
    tape.remark(TapeStyle::Detail, line.description.clone(), false);
    if asks.before.is_positive() {
        let used = match asks.used.is_positive() {
            true => format!(", {} of it used", currency.grouped(asks.used)),
            false => String::new(),
        };
        tape.remark(TapeStyle::Detail, format!("asked before: {}{used}", currency.grouped(asks.before)), false);
    }
}

fn tape_line(tape: &mut Tape, line: &InvoiceLine, home: bool) {
    tape.amount(TapeStyle::Line, format!("{} × {}", line.quantity, line.unit_price.grouped(2)), line.full);
    tape.remark(TapeStyle::Detail, line.description.clone(), false);
    if let Some(reason) = &line.price_reason {
        let label = format!("price changed, {} on the order: {reason}", line.order_price.grouped(2));
        tape.remark(TapeStyle::Detail, label, false);
    } else if !line.price_steps.is_empty() {
        tape_sources(tape, &line.price_steps, home);
    // The list is in base currency; a foreign price cannot be compared with it.
    } else if line.unit_price != line.list_price && home {
        tape.remark(TapeStyle::Detail, format!("agreed, list {}", line.list_price.grouped(2)), false);
    }
    tape_offs(tape, line.discount, line.discount_reason.as_deref(), (line.full, line.amount), {
        (line.surcharge, line.surcharge_name.as_deref(), line.quantity)
    });
    if let (Some(code), Some(reason)) = (&line.order_tax_code, &line.tax_reason) {
        tape.remark(TapeStyle::Detail, format!("tax {}, {code} on the order: {reason}", line.tax.code), false);
    }
    if !line.off.is_zero() {
        tape.amount(TapeStyle::Detail, "its share of the discount below", -line.off);
    }
    if line.still_to_come.is_positive() {
        tape.remark(TapeStyle::Detail, format!("{} of {} still to come", line.still_to_come, line.ordered), false);
    }
}

/// “S-1”, “S-1 and S-2”, “S-1, S-2 and 3 more”.
pub(super) fn and(numbers: &[&str]) -> String {
    let mut unique: Vec<&str> = Vec::new();
    for number in numbers {
        if !unique.contains(number) {
            unique.push(number);
        }
    }
    match unique.as_slice() {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [one, two] => format!("{one} and {two}"),
        [one, two, rest @ ..] => format!("{one}, {two} and {} more", rest.len()),
    }
}

pub(super) fn changes(input: &InvoiceInput<'_>, document: &InvoiceDocument, orders: Vec<Change>) -> Vec<Change> {
    let owes_after = input.customer.owes + document.due_base();
    let mut changes = vec![Change {
        label: "Customer owes".to_owned(),
        before: Some(Figure::money(input.customer.owes)),
        after: Figure::money(owes_after),
    }];
    if let Some(limit) = input.customer.credit_limit {
        changes.push(Change {
            label: "Credit left".to_owned(),
            before: Some(Figure::money(limit - input.customer.owes)),
            after: Figure::money(limit - owes_after),
        });
    }
    for deposit in &document.deposits {
        let Some(facts) = input.deposits.iter().find(|facts| facts.item.id == deposit.item) else { continue };
        let held = |amount| Figure::words(document.currency.grouped(amount));
        changes.push(Change {
            label: format!("Held of {}", deposit.document.number),
            before: Some(held(facts.item.open)),
            after: held(facts.item.open - deposit.amount),
        });
    }
    changes.extend(orders);
    changes
}
