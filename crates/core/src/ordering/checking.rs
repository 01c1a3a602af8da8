//! The checks of an order.

use super::{HIGHEST_PRICE, LARGEST_QUANTITY, LineWish, OrderInput};
use crate::accounts::Purpose;
use crate::checks::{Check, Findings};
use crate::fixed::{Quantity, Rate, UnitPrice};
use crate::ids::{DocumentKind, DocumentRef};
use crate::invoice::ItemKind;
use crate::marks::FieldPlace;
use crate::money::Money;
use crate::pricing::PriceBuild;
use crate::tax::{TaxCategory, TaxRate};
use crate::treatment::Treatment;
use crate::units::{check_steps, in_stock_units};

fn customer_ref(input: &OrderInput<'_>) -> Option<DocumentRef> {
    Some(DocumentRef { kind: DocumentKind::Customer, id: input.customer.id.0, number: input.customer.number.clone() })
}

/// The quantity, unit, steps, price and marks of one line.
pub(super) fn check_line(input: &OrderInput<'_>, at: usize, findings: &mut Findings) {
    let wish = &input.lines[at];
    let code = &wish.item.code;
    let field = |name: &str| format!("lines.{at}.{name}");
    if !wish.item.active && wish.progress.is_none() {
        findings.add(Check::NotSold, field("item"), format!("{code} is not sold any more. Take another item."));
    }
    if !wish.quantity.is_positive() || wish.quantity > LARGEST_QUANTITY {
        findings.add(
            Check::QuantityNotPositive,
            field("quantity"),
            format!("Order more than nothing of {code}, and less than a hundred million."),
        );
    }
    check_unit(input, at, findings);
    if let Some(price) = wish.price.typed.unit_price
        && (price < UnitPrice::ZERO || price > HIGHEST_PRICE)
    {
        findings.add(
            Check::PriceNotMade,
            field("unit_price"),
            format!("The price of {code} is zero or more, and less than a hundred million."),
        );
    }
    if let Some(progress) = wish.progress {
        let least = progress.shipped.scaled() + progress.cancelled.scaled() + wish.on_the_way_out.scaled();
        if wish.quantity.scaled() < least {
            findings.add(
                Check::LessThanShipped,
                field("quantity"),
                format!(
                    "{} of {code} have shipped, {} are canceled and {} are being shipped. Leave at least {}.",
                    progress.shipped,
                    progress.cancelled,
                    wish.on_the_way_out,
                    Quantity::from_scaled(least)
                ),
            );
        }
    }
    for (name, sentence) in input.mark_rules.faults(&wish.marks, FieldPlace::Line) {
        findings.add(Check::MarkNotAllowed, field(&name), sentence);
    }
    for missing in input.mark_rules.missing_fields(&wish.marks, FieldPlace::Line) {
        findings.add(
            Check::OwnFieldMissing,
            field(&format!("fields.{}", missing.key)),
            format!("{} of {code} is required. Fill it in.", missing.label),
        );
    }
    check_account(input, at, findings);
    if wish.item.kind == ItemKind::Packaging && input.currency != input.base {
        findings.add(
            Check::ContainerCurrency,
            field("item"),
            format!("{code} is returnable packaging: it goes to customers in {} only.", input.base),
        );
    }
}

fn check_unit(input: &OrderInput<'_>, at: usize, findings: &mut Findings) {
    let wish = &input.lines[at];
    let field = |name: &str| format!("lines.{at}.{name}");
    let Some(factor) = wish.item.factor(&wish.unit) else {
        let known: Vec<&str> = std::iter::once(wish.item.unit.as_str())
            .chain(wish.item.units.iter().map(|(unit, _)| unit.as_str()))
            .collect();
        findings.add(
            Check::UnitOrStep,
            field("unit"),
            format!("{} is sold in {}, not in {}.", wish.item.code, known.join(", "), wish.unit),
        );
        return;
    };
    let Some(stock) = in_stock_units(wish.quantity, factor) else {
        findings.add(
            Check::UnitOrStep,
            field("quantity"),
            format!("{} {} are no exact number of {}.", wish.quantity, wish.unit, wish.item.unit),
        );
        return;
    };
    if let Err(sentence) = check_steps(stock, wish.item.minimum, wish.item.step, &wish.item.unit) {
        findings.add(Check::UnitOrStep, field("quantity"), format!("{}: {sentence}", wish.item.code));
    }
    if let Some((number, left)) = &wish.call_off
        && stock > *left
    {
        findings.add(
            Check::MoreThanCalledOff,
            field("quantity"),
            format!("{number} has {left} {} of {} left. Order that or less.", wish.item.unit, wish.item.code),
        );
    }
}

/// The account its revenue will go to, and the reporting codes that one demands.
fn check_account(input: &OrderInput<'_>, at: usize, findings: &mut Findings) {
    let wish = &input.lines[at];
    let purpose = match wish.item.kind {
        ItemKind::Goods | ItemKind::Service => Purpose::Revenue,
        ItemKind::Charge => Purpose::ChargeRevenue,
        ItemKind::Packaging => Purpose::ContainerLiability,
    };
    match input.accounts.account(purpose, Some(&wish.item.class), input.customer.class.as_deref()) {
        Err(problem) => findings.add(Check::AccountMissing, "account_map", problem.to_string()),
        Ok(account) => {
            for list in input.mark_rules.missing_codes(&account.number, &wish.marks.over(&input.marks)) {
                findings.add(
                    Check::ReportingCodeMissing,
                    format!("codes.{}", list.key),
                    format!(
                        "{} {} wants a code of {}. Give the order or the line of {} one before it ships.",
                        account.number, account.name, list.name, wish.item.code
                    ),
                );
            }
        }
    }
}

/// The tax of a line and where its code comes from.
pub(super) fn tax_of(input: &OrderInput<'_>, at: usize, findings: &mut Findings) -> (TaxRate, String) {
    let wish = &input.lines[at];
    // Packaging that is owed back is no sale; its own code stands whatever the treatment.
    let packaging = wish.item.kind == ItemKind::Packaging;
    let (code, source) = match &wish.tax {
        Some(choice) => (Some(choice.code.as_str()), format!("chosen: {}", choice.reason)),
        None if packaging || input.taxed.treatment == Treatment::Standard => {
            (Some(wish.item.tax_code.as_str()), "of the item".to_owned())
        }
        None => (
            input.taxed.code(&wish.item.tax_code, input.treatments),
            format!("{}, {}", input.ship_to, input.taxed.treatment.name()),
        ),
    };
    let nothing = |code: &str| TaxRate { code: code.to_owned(), category: TaxCategory::O, rate: Rate::ZERO };
    let Some(code) = code else {
        findings.add(
            Check::TreatmentWithoutCode,
            "ship_to",
            format!("No tax code is set for {}. Ask an administrator to choose one.", input.taxed.treatment.name()),
        );
        return (nothing(&wish.item.tax_code), source);
    };
    let Some(rate) = input.taxes.rate_on(code, input.date) else {
        findings.add(
            Check::TaxRateMissing,
            format!("lines.{at}.tax_code"),
            format!("Tax code {code} has no rate on this day. Ask a supervisor to add it."),
        );
        return (nothing(code), source);
    };
    let no_id = input.customer.tax_id.as_deref().is_none_or(|id| id.trim().is_empty());
    if rate.category.needs_buyer_tax_id() && no_id {
        findings.add_at(
            Check::TaxIdMissing,
            "customer.tax_id",
            format!(
                "Tax category {} needs the buyer's tax id, and {} has none. Add it to the customer.",
                rate.category.code(),
                input.customer.name
            ),
            customer_ref(input),
        );
    }
    (rate, source)
}

/// The customer, the amount, the marks of the order.
pub(super) fn check_order(
    input: &OrderInput<'_>,
    (total_base, given_away, to_ship): (Money, Money, Money),
    findings: &mut Findings,
) {
    let unnamed = input.customer_order_number.as_deref().is_none_or(|number| number.trim().is_empty());
    if input.customer.needs_order_number && unnamed {
        findings.add(
            Check::OrderNumberMissing,
            "customer_order_number",
            format!("{} wants its own order number on every invoice. Ask for it now.", input.customer.name),
        );
    }
    if let Some(sentence) = input.taxed.exemption_problem(&input.ship_to, input.date) {
        findings.add_at(Check::ExemptionExpired, "customer.ship_tos", sentence, customer_ref(input));
    }
    if let Some((typed, ship_to)) = &input.elsewhere {
        let sentence = format!(
            "The address lies in {typed}, but it would be taxed as the ship-to in {ship_to}. Add it to the customer as a ship-to of its own."
        );
        findings.add(Check::AddressElsewhere, "address.country", sentence);
    }
    if input.rate.is_none() {
        findings.add(
            Check::ExchangeRateMissing,
            "order_date",
            format!("No exchange rate of {} is known for this day. Ask a supervisor to enter it.", input.currency),
        );
    }
    check_marks(input, findings);
    if !input.quote {
        check_customer(input, to_ship, findings);
        check_amounts(input, (total_base, given_away), findings);
    }
}

/// Own fields and reporting codes of the order.
fn check_marks(input: &OrderInput<'_>, findings: &mut Findings) {
    for (name, sentence) in input.mark_rules.faults(&input.marks, FieldPlace::Order) {
        findings.add(Check::MarkNotAllowed, name, sentence);
    }
    for missing in input.mark_rules.missing_fields(&input.marks, FieldPlace::Order) {
        findings.add(
            Check::OwnFieldMissing,
            format!("fields.{}", missing.key),
            format!("{} is required. Fill it in.", missing.label),
        );
    }
}

/// What holds the customer back: a stop, the credit limit, or that what it could owe cannot be told.
fn check_customer(input: &OrderInput<'_>, to_ship: Money, findings: &mut Findings) {
    if let Some(reason) = &input.customer.stop_reason {
        findings.add_at(
            Check::CustomerOnStop,
            "customer.stop_reason",
            format!("{} is on hold: {reason}. A supervisor has to approve the order.", input.customer.name),
            customer_ref(input),
        );
    }
    if let (Some(unknown), Some(_)) = (input.exposure.without_rate, input.customer.credit_limit) {
        findings.add_at(
            Check::CreditLimit,
            "customer.credit_limit",
            format!(
                "What {} could owe in {unknown} cannot be told: no exchange rate is known. Enter one, or a supervisor has to approve the order.",
                input.customer.name
            ),
            customer_ref(input),
        );
    }
    let exposure = input.exposure.with_order(to_ship);
    if let (Some(over), Some(limit)) = (exposure.over(input.customer.credit_limit), input.customer.credit_limit) {
        findings.add_at(
            Check::CreditLimit,
            "customer.credit_limit",
            format!(
                "With this order {} comes to {} {}, {} above its limit of {}. A supervisor has to approve the order.",
                input.customer.name,
                input.base.grouped(exposure.total()),
                input.base,
                input.base.grouped(over),
                input.base.grouped(limit)
            ),
            customer_ref(input),
        );
    }
}

/// What is more than whoever confirms it may confirm alone.
fn check_amounts(input: &OrderInput<'_>, (total_base, given_away): (Money, Money), findings: &mut Findings) {
    if let Some(limit) = input.limits.given_away.filter(|limit| given_away > *limit) {
        let sentence = format!(
            "Typed prices and discounts give away {} {}. Above {} that takes someone else's approval.",
            input.base.grouped(given_away),
            input.base,
            input.base.grouped(limit)
        );
        findings.add(Check::PriceGivenAway, "lines", sentence);
    }
    if let Some(limit) = input.limits.total.filter(|limit| total_base > *limit) {
        findings.add(
            Check::OrderAmount,
            "lines",
            format!("Orders above {} {} take someone else's approval.", input.base.grouped(limit), input.base),
        );
    }
}

/// What a line gives away says why: a price below what would have come, a discount, goods for nothing.
pub(super) fn check_given_away(
    wish: &LineWish,
    at: usize,
    (price, given_away): (Option<&PriceBuild>, Money),
    findings: &mut Findings,
) {
    let typed = &wish.price.typed;
    let field = |name: &str| format!("lines.{at}.{name}");
    let (code, goods) = (&wish.item.code, wish.item.kind == ItemKind::Goods);
    let said = |why: &Option<String>| why.as_deref().is_some_and(|why| !why.trim().is_empty());
    let (price_said, discount_said) = (said(&typed.price_reason), said(&typed.discount_reason));
    if price.is_some_and(|price| price.unit_price.is_zero()) && goods && !price_said {
        let sentence = format!("{code} has a price of zero. Say why beside the price.");
        findings.add(Check::PriceZero, field("unit_price"), sentence);
    } else if typed.unit_price.is_some() && given_away.is_positive() && !price_said {
        let sentence = format!("The price of {code} is below what was agreed. Say why beside it.");
        findings.add(Check::ReasonMissing, field("price_reason"), sentence);
    }
    if typed.discount == Some(Rate::ONE) && goods && !price_said && !discount_said {
        let sentence = format!("{code} is given away at 100 % off. Say why beside the discount.");
        findings.add(Check::PriceZero, field("discount_reason"), sentence);
    } else if typed.discount.is_some_and(|off| !off.is_zero()) && !discount_said && !price_said {
        let sentence = format!("{code} has a discount of its own. Say why beside it.");
        findings.add(Check::ReasonMissing, field("discount_reason"), sentence);
    }
}
