//! The checks of an invoice.

use chrono::NaiveDate;

use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::entry::Entry;
use crate::fixed::ExchangeRate;
use crate::ids::{DocumentKind, DocumentRef};
use crate::invoice::{InvoiceInput, ItemKind, LineToBill, order_of, price_difference};
use crate::marks::MarkRules;
use crate::money::Currency;
use crate::order::OrderFacts;
use crate::tax::{TaxCategory, TaxRate};

pub(super) fn check(input: &InvoiceInput<'_>, findings: &mut Findings) {
    check_quantities(input, findings);
    check_combination(input, findings);
    check_orders(input, findings);
    check_dates(input, findings);
    if let Some(reason) = &input.customer.stop_reason {
        findings.add_at(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on stop: {reason}. What has gone out can be billed all the same.", input.customer.name),
            Some(customer_ref(input)),
        );
    }
    if input.rate.is_none() {
        findings.add(
            Check::ExchangeRateMissing,
            "document_date",
            "No exchange rate is known for the document date. Ask a lead to enter it.",
        );
    }
}

fn check_quantities(input: &InvoiceInput<'_>, findings: &mut Findings) {
    for (position, line) in input.lines.iter().enumerate() {
        let field = format!("lines.{position}.quantity");
        if input.lines[..position].iter().any(|other| other.shipment_line == line.shipment_line) {
            findings.add(
                Check::NamedTwice,
                field,
                format!("{} of {} is picked twice. Pick it once.", line.code, line.shipment_number),
            );
        } else if !line.quantity.is_positive() {
            findings.add(
                Check::QuantityNotPositive,
                field,
                format!("Bill more than nothing of {}, or leave the line out.", line.code),
            );
        } else if line.quantity > line.unbilled {
            findings.add(
                Check::MoreThanUnbilled,
                field,
                format!(
                    "{} of {} to bill, but only {} of {} is shipped and unbilled.",
                    line.quantity, line.code, line.unbilled, line.shipment_number
                ),
            );
        }
        let price = line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price);
        if line.kind == ItemKind::Goods && price.is_zero() {
            findings.add(
                Check::PriceZero,
                format!("lines.{position}.unit_price"),
                format!("{} has a price of zero.", line.code),
            );
        }
    }
}

/// Same currency and terms go together; the tax treatment is the customer's.
fn check_combination(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let mut orders = input.lines.iter().filter_map(|line| order_of(input, line.order));
    let Some(first) = orders.next() else { return };
    for other in orders {
        if other.currency != first.currency {
            findings.add(
                Check::CannotCombine,
                "lines",
                format!(
                    "{} is in {}, {} in {}. Bill them on two invoices.",
                    first.number, first.currency, other.number, other.currency
                ),
            );
        }
        if other.terms != first.terms {
            findings.add(
                Check::CannotCombine,
                "lines",
                format!(
                    "{} has the terms {}, {} has {}. Bill them on two invoices.",
                    first.number,
                    first.terms.words(),
                    other.number,
                    other.terms.words()
                ),
            );
        }
    }
}

fn check_orders(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let needed = input.customer.needs_order_number;
    let unnamed =
        |order: &&OrderFacts| order.customer_order_number.as_deref().is_none_or(|number| number.trim().is_empty());
    for order in input.orders.iter().filter(|order| needed && unnamed(order)) {
        findings.add_at(
            Check::OrderNumberMissing,
            "order.customer_order_number",
            format!(
                "{} wants its own order number on every invoice and {} has none. Add it to the order.",
                input.customer.name, order.number
            ),
            Some(DocumentRef { kind: DocumentKind::Order, id: order.id.0, number: order.number.clone() }),
        );
    }
}

fn check_dates(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let document = input.document_date.date;
    let posting = input.posting_date.date;
    if let Some(obstacle) = input.periods.obstacle(posting) {
        findings.add(Check::PeriodClosed, "posting_date", obstacle);
    }
    if let Some(last) = input.last_document_date.filter(|last| document < *last) {
        findings.add(
            Check::DateOutOfOrder,
            "document_date",
            format!("The last invoice is dated {}, after this one.", words(last)),
        );
    }
    if document > posting {
        findings.add(
            Check::DateOutOfOrder,
            "document_date",
            format!("The document is dated {}, after it is posted on {}.", words(document), words(posting)),
        );
    }
    if let Some(line) = input.lines.iter().find(|line| line.shipped_on > posting) {
        findings.add(
            Check::DateTooEarly,
            "posting_date",
            format!(
                "{} left on {}. It cannot be billed before; choose that day or a later one.",
                line.shipment_number,
                words(line.shipped_on)
            ),
        );
    }
}

/// A changed price may take off or add no more than was allowed, whatever the quantity became.
pub(super) fn check_price(
    input: &InvoiceInput<'_>,
    position: usize,
    line: &LineToBill,
    currency: Currency,
    findings: &mut Findings,
) {
    let Some(change) = &line.price_change else { return };
    let Some(allowed) = change.allowed else { return };
    let currencies = (currency, input.base, input.rate.unwrap_or(ExchangeRate::ONE));
    let difference = price_difference((line.quantity, line.discount), line.unit_price, change.unit_price, currencies);
    if difference.abs() > allowed {
        findings.add(
            Check::PriceNotApproved,
            format!("lines.{position}.unit_price"),
            format!(
                "The changed price of {} makes {} {} of difference; {} is allowed. Set the price again, to ask for approval.",
                line.code,
                input.base.format(difference.abs()),
                input.base,
                input.base.format(allowed)
            ),
        );
    }
}

pub(super) fn check_tax_id(input: &InvoiceInput<'_>, tax: &TaxRate, findings: &mut Findings) {
    let missing = input.customer.tax_id.as_deref().is_none_or(|id| id.trim().is_empty());
    if tax.category.needs_buyer_tax_id() && missing {
        findings.add_at(
            Check::TaxIdMissing,
            "customer.tax_id",
            format!(
                "Tax category {} needs the buyer's tax id, and {} has none. Add it to the customer.",
                tax.category.code(),
                input.customer.name
            ),
            Some(customer_ref(input)),
        );
    }
}

/// A line that is exempt needs a certificate that holds on the tax date.
pub(super) fn check_exemption(
    input: &InvoiceInput<'_>,
    line: &LineToBill,
    tax: &TaxRate,
    tax_date: NaiveDate,
    findings: &mut Findings,
) {
    let Some((name, taxed)) = &line.delivered else { return };
    if tax.category == TaxCategory::E
        && let Some(sentence) = taxed.exemption_problem(name, tax_date)
    {
        findings.add_at(Check::ExemptionExpired, "customer.ship_tos", sentence, Some(customer_ref(input)));
    }
}

/// Accounts that demand a reporting code get one.
pub(crate) fn check_codes(rules: &MarkRules, entry: &Entry, findings: &mut Findings) {
    for line in &entry.lines {
        for list in rules.missing_codes(&line.account, &line.marks) {
            findings.add(
                Check::ReportingCodeMissing,
                format!("codes.{}", list.key),
                format!(
                    "{} {} wants a code of {}. Give the order or its line one.",
                    line.account, line.account_name, list.name
                ),
            );
        }
    }
}

fn customer_ref(input: &InvoiceInput<'_>) -> DocumentRef {
    DocumentRef { kind: DocumentKind::Customer, id: input.customer.id.0, number: input.customer.number.clone() }
}
