//! What stands in the way of an invoice.

use chrono::NaiveDate;

use crate::accounts::AccountType;
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::entry::Entry;
use crate::fixed::{ExchangeRate, RATE_HOLDS_DAYS, Rate, UnitPrice};
use crate::ids::{DocumentKind, DocumentRef};
use crate::invoice::{
    Delivery, DiscountWish, InvoiceInput, ItemKind, LineSource, LineToBill, order_of, price_difference,
};
use crate::marks::MarkRules;
use crate::money::{Currency, Money};
use crate::order::OrderFacts;
use crate::room::{first_day, room_from};
use crate::tax::{TaxCategory, TaxComputed, TaxRate};
use crate::treatment::Treatment;

pub(super) fn check(input: &InvoiceInput<'_>, findings: &mut Findings) {
    check_lines(input, findings);
    check_combination(input, findings);
    check_orders(input, findings);
    check_dates(input, findings);
    check_going_out(input, findings);
    check_waiting(input, findings);
    if let Some(reason) = &input.customer.stop_reason {
        findings.add_at(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on hold: {reason}. What has shipped can still be billed.", input.customer.name),
            Some(customer_ref(input)),
        );
    }
    if input.rate.is_none() {
        findings.add(
            Check::ExchangeRateMissing,
            "document_date",
            format!(
                "No exchange rate of the last {RATE_HOLDS_DAYS} days is known for the document date. Ask a supervisor to enter it."
            ),
        );
    }
}

fn check_lines(input: &InvoiceInput<'_>, findings: &mut Findings) {
    for (position, line) in input.lines.iter().enumerate() {
        let field = format!("lines.{position}.quantity");
        let typed = line.source == LineSource::Typed;
        let named = match line.source.shipment() {
            Some((_, number)) => format!("{} of {number}", line.code),
            None => line.code.clone(),
        };
        if !typed && input.lines[..position].iter().any(|other| other.source == line.source) {
            findings.add(Check::NamedTwice, field, format!("{named} is selected twice. Select it once."));
        } else if !line.quantity.is_positive() {
            findings.add(
                Check::QuantityNotPositive,
                field,
                format!("Bill more than nothing of {}, or leave the line out.", line.code),
            );
        } else if !typed && line.quantity > line.unbilled {
            let sentence = match line.source.shipment() {
                Some((_, number)) => format!(
                    "{} of {} to bill, but only {} of {number} is shipped and unbilled.",
                    line.quantity, line.code, line.unbilled
                ),
                None => format!(
                    "{} of {} to bill, but only {} is ordered and unbilled.",
                    line.quantity, line.code, line.unbilled
                ),
            };
            findings.add(Check::MoreThanUnbilled, field, sentence);
        }
        let price = line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price);
        let field = format!("lines.{position}.unit_price");
        if price < UnitPrice::ZERO {
            findings.add(
                Check::PriceBelowZero,
                field,
                format!("{} has a price below zero. To give money back, credit an invoice.", line.code),
            );
        } else if line.kind == ItemKind::Goods && price.is_zero() {
            findings.add(Check::PriceZero, field, format!("{} has a price of zero.", line.code));
        }
        check_reason(position, line, findings);
        for fault in &line.faults {
            findings.add(fault.check, format!("lines.{position}.{}", fault.field), fault.sentence.clone());
        }
        if line.kind == ItemKind::Packaging && input.basis.currency != input.base {
            findings.add(
                Check::ContainerCurrency,
                format!("lines.{position}.item"),
                format!("{} is returnable packaging: it goes to customers in {} only.", line.code, input.base),
            );
        }
        let typed_account = line.account.as_ref().filter(|_| typed);
        if let Some(account) = typed_account.filter(|account| account.account_type != AccountType::Revenue) {
            findings.add(
                Check::NotRevenue,
                format!("lines.{position}.account"),
                format!("{} {} earns no revenue. Choose a revenue account.", account.number, account.name),
            );
        }
    }
}

/// A typed line whose tax code is another than would come, or that is given away, says why.
fn check_reason(position: usize, line: &LineToBill, findings: &mut Findings) {
    if line.source != LineSource::Typed || line.reason.as_deref().is_some_and(|why| !why.trim().is_empty()) {
        return;
    }
    if let Some(change) = &line.tax_change {
        findings.add(
            Check::ReasonMissing,
            format!("lines.{position}.reason"),
            format!("{} is taxed as {}, not {}. Say why.", line.code, change.code, line.tax_code),
        );
    }
    if line.kind == ItemKind::Goods && (line.unit_price.is_zero() || line.discount == Rate::ONE) {
        findings.add(
            Check::ReasonMissing,
            format!("lines.{position}.reason"),
            format!("{} is given away. Say why.", line.code),
        );
    }
}

/// What waits for approval would be lost, or come too late, were the draft posted before.
fn check_waiting(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let Some(waits) = &input.waits else { return };
    findings.add_at(
        Check::WaitsForApproval,
        "approval",
        format!(
            "{} asked for something on this draft that nobody has decided on: {}. Decide on it, or withdraw the request.",
            waits.maker, waits.words
        ),
        Some(DocumentRef { kind: DocumentKind::Approval, id: waits.id.0, number: "the request".to_owned() }),
    );
}

/// Same currency, terms, tax treatment and way of pricing go together.
fn check_combination(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let mut differs = |sentence: String| findings.add(Check::CannotCombine, "lines", sentence);
    let mut orders = input.lines.iter().filter_map(|line| order_of(input, line.source.order()?));
    let Some(first) = orders.next() else { return };
    for other in orders {
        if other.currency != first.currency {
            differs(format!(
                "{} is in {}, {} in {}. Bill them on two invoices.",
                first.number, first.currency, other.number, other.currency
            ));
        }
        if other.terms != first.terms && !input.basis.terms_typed {
            differs(format!(
                "{} has the terms {}, {} has {}. Bill them on two invoices, or choose terms for this one.",
                first.number,
                first.terms.words(),
                other.number,
                other.terms.words()
            ));
        }
        if other.promised.gross != first.promised.gross {
            let (with, without) =
                if other.promised.gross { (&other.number, &first.number) } else { (&first.number, &other.number) };
            differs(format!("{with} has prices with tax, {without} without. Bill them on two invoices."));
        }
    }
    let mut delivered = input.lines.iter().filter_map(|line| line.delivered.as_ref());
    let Some((place, taxed)) = delivered.next() else { return };
    for (other_place, other) in delivered {
        if other.treatment != taxed.treatment {
            differs(format!(
                "{place} is taxed as {}, {other_place} as {}. Bill them on two invoices.",
                taxed.treatment.name(),
                other.treatment.name()
            ));
        }
    }
}

fn check_orders(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let needed = input.customer.needs_order_number;
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

fn unnamed(order: &OrderFacts) -> bool {
    order.customer_order_number.as_deref().is_none_or(|number| number.trim().is_empty())
}

/// What the way documents go to the customer asks for.
fn check_going_out(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let customer = &input.customer;
    let no_address = customer.email.as_deref().is_none_or(|email| email.trim().is_empty());
    if customer.delivery != Delivery::Paper && no_address {
        findings.add_at(
            Check::NoMailAddress,
            "customer.email",
            format!("{} gets its documents by email, and no address is kept. Add it to the customer.", customer.name),
            Some(customer_ref(input)),
        );
    }
    if customer.delivery != Delivery::Structured {
        return;
    }
    // BT-10 or BT-13, without which most receivers refuse. EN 16931-1, from memory.
    for order in input.orders.iter().filter(|order| unnamed(order) && !customer.needs_order_number) {
        findings.add_at(
            Check::StructuredDataMissing,
            "order.customer_order_number",
            format!(
                "{} gets structured invoices, which carry its order number, and {} has none. Add it to the order.",
                customer.name, order.number
            ),
            Some(DocumentRef { kind: DocumentKind::Order, id: order.id.0, number: order.number.clone() }),
        );
    }
    if input.tax_computed == TaxComputed::PerLine && !input.basis.gross_priced {
        findings.add(
            Check::StructuredTax,
            "company.tax_computed",
            format!(
                "{} gets structured invoices, and tax is computed line by line. Compute it per document in Setup.",
                customer.name
            ),
        );
    }
}

fn check_dates(input: &InvoiceInput<'_>, findings: &mut Findings) {
    let document = input.document_date.date;
    let posting = input.posting_date.date;
    if let Some(obstacle) = input.periods.obstacle(posting) {
        findings.add(Check::PeriodClosed, "posting_date", obstacle);
    }
    input.dates.check("invoice", document, "document_date", findings);
    if document > posting {
        findings.add(
            Check::DateOutOfOrder,
            "document_date",
            format!("The document is dated {}, after it is posted on {}.", words(document), words(posting)),
        );
    }
    let gone = input.lines.iter().filter_map(|line| line.source.shipment().zip(line.source.shipped_on()));
    if let Some(((_, number), left)) = gone.into_iter().find(|(_, left)| *left > posting) {
        findings.add(
            Check::DateTooEarly,
            "posting_date",
            format!("{number} left on {}. It cannot be billed before; choose that day or a later one.", words(left)),
        );
    }
    check_rebilling(input, posting, findings);
}

/// What an invoice billed that was cancelled since is not billed again before the cancellation.
fn check_rebilling(input: &InvoiceInput<'_>, posting: NaiveDate, findings: &mut Findings) {
    if let Some((number, cancelled_on)) = input.replaces.as_ref().filter(|(_, day)| posting < *day) {
        findings.add(
            Check::DateTooEarly,
            "posting_date",
            format!(
                "{number} was canceled on {}. What it billed cannot be billed again before; choose that day or a later one.",
                words(*cancelled_on)
            ),
        );
        return;
    }
    let early = input
        .lines
        .iter()
        .find(|line| !line.billable.is_empty() && room_from(posting, &line.billable) < line.quantity.scaled());
    // Too much altogether is said at its quantity.
    if let Some(line) = early.filter(|line| line.quantity <= line.unbilled) {
        let when = first_day(line.quantity.scaled(), &line.billable)
            .map_or_else(String::new, |day| format!(" It can be billed again on {} or later.", words(day)));
        findings.add(
            Check::DateTooEarly,
            "posting_date",
            format!("{} stood on another invoice on {}, canceled since.{when}", line.code, words(posting)),
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

/// A discount over the document may take off no more than was allowed.
pub(super) fn check_discount(input: &InvoiceInput<'_>, amount: Money, wish: &DiscountWish, findings: &mut Findings) {
    let Some(allowed) = wish.allowed else { return };
    let amount = amount.to_base(input.rate.unwrap_or(ExchangeRate::ONE), input.basis.currency, input.base);
    if amount > allowed {
        findings.add(
            Check::PriceNotApproved,
            "discount",
            format!(
                "The discount takes off {} {}; {} is allowed. Set it again, to ask for approval.",
                input.base.grouped(amount),
                input.base,
                input.base.grouped(allowed)
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

/// A line that is exempt needs a certificate that holds on the tax date: where the ship-to is treated as exempt,
/// whatever the category of the code that leads to, and where someone chose an exempt code by hand.
pub(super) fn check_exemption(
    input: &InvoiceInput<'_>,
    (position, line): (usize, &LineToBill),
    tax: &TaxRate,
    tax_date: NaiveDate,
    findings: &mut Findings,
) {
    let by_hand = tax.category == TaxCategory::E && (line.tax_by_hand || line.tax_change.is_some());
    let as_treated = !line.tax_by_hand && line.tax_change.is_none() && line.kind != ItemKind::Packaging;
    let problem = match &line.delivered {
        Some((name, taxed)) if taxed.treatment == Treatment::Exempt && as_treated => {
            taxed.exemption_problem(name, tax_date)
        }
        Some((name, taxed)) if by_hand => taxed.certificate_problem(name, tax_date),
        None if by_hand => Some(format!("{} is exempt by hand, and no certificate is kept for it.", line.code)),
        _ => None,
    };
    let Some(sentence) = problem else { return };
    let field = if by_hand { format!("lines.{position}.tax_code") } else { "customer.ship_tos".to_owned() };
    findings.add_at(Check::ExemptionExpired, field, sentence, Some(customer_ref(input)));
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
