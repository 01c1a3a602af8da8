//! What stands in the way of settling.

use std::collections::BTreeSet;

use super::{SettleInput, Settlement, Source, ToApply, advance_steps, beside};
use crate::accounts::Purpose;
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::money::Money;

pub(super) fn check(input: &SettleInput<'_>, document: &Settlement, findings: &mut Findings) {
    let format = |amount: Money| input.currency.format(amount);
    if !input.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    }
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    let kind = match &input.source {
        Source::Received { .. } => "receipt",
        Source::Containers { .. } => "return of containers",
        Source::Item(_) => "application",
    };
    input.dates.check(kind, input.date.date, "date", findings);
    if input.rate.is_none() {
        findings.add(
            Check::ExchangeRateMissing,
            "date",
            "No exchange rate is known for this date. Ask a supervisor to enter it.",
        );
    }
    let all: Money = input.to_apply.iter().map(|to_apply| to_apply.amount).sum();
    match &input.source {
        Source::Received { method } => check_place(input, method, findings),
        Source::Containers { .. } => {}
        Source::Item(_) if input.to_apply.is_empty() => {
            findings.add(Check::NothingToDo, "applications", "Give at least one invoice an amount.");
        }
        Source::Item(_) => check_credit(input, all, findings),
    }
    if all > input.amount && input.amount.is_positive() {
        findings.add(
            Check::MoreThanReceived,
            "applications",
            format!("{} is applied, but there is only {}. Lower an amount.", format(all), format(input.amount)),
        );
    }
    let mut named = BTreeSet::new();
    for (position, to_apply) in input.to_apply.iter().enumerate() {
        let debit = document.applied.get(position).map_or(Money::ZERO, |applied| applied.amount);
        let once = named.insert(to_apply.item.id);
        check_application(input, (position, once), to_apply, debit, findings);
        beside::check(input, position, findings);
    }
}

/// What a deposit cannot be applied to: another order's lines, more of a tax code than the invoice has, another
/// currency. *Source: domain.md section 8.*
fn beyond_deposit(input: &SettleInput<'_>, position: usize) -> Option<String> {
    let Source::Item(deposit) = &input.source else { return None };
    let to_apply = input.to_apply.get(position)?;
    if deposit.purpose != Purpose::DepositLiability {
        return None;
    }
    let (number, debit) = (&deposit.document.number, &to_apply.item.document.number);
    if to_apply.item.currency != deposit.currency {
        return Some(format!("{number} is in {}, {debit} in {}.", deposit.currency, to_apply.item.currency));
    }
    let room = input.rooms.iter().find(|room| room.item == to_apply.item.id)?;
    let format = |amount: Money| input.currency.grouped(amount);
    if let Some(of_order) = room.of_order.filter(|of_order| to_apply.amount > *of_order) {
        return Some(match of_order.is_positive() {
            true => {
                format!("{number} is for an order of which {debit} bills {}. Apply that or less.", format(of_order))
            }
            false => format!("{number} is for an order that is not on {debit}. Move the deposit first."),
        });
    }
    let most = advance_steps(input, deposit).get(position)?.most;
    (to_apply.amount > most).then(|| {
        format!("{number} was taxed as it came in: {debit} has {} of its tax codes. Apply that or less.", format(most))
    })
}

/// A bank account in one currency takes no other.
fn check_place(input: &SettleInput<'_>, method: &super::Method, findings: &mut Findings) {
    if let Some(kept_in) = method.place.currency.filter(|kept_in| *kept_in != input.currency) {
        findings.add(
            Check::CurrencyDiffers,
            "method",
            format!(
                "{} is kept in {kept_in}, the money is in {}. Choose another way.",
                method.place.name, input.currency
            ),
        );
    }
}

/// A credit is not used before it is there.
fn check_credit(input: &SettleInput<'_>, all: Money, findings: &mut Findings) {
    let Source::Item(item) = &input.source else { return };
    let (number, date) = (&item.document.number, input.date.date);
    if date < item.posting_date {
        findings.add(
            Check::DateTooEarly,
            "date",
            format!("{number} came in on {}. It cannot be applied before.", words(item.posting_date)),
        );
        return;
    }
    if let Some(from) = item.free_from().filter(|from| !item.taxes.is_empty() && *from > date) {
        let sentence = format!("{number} is free from {} on. Apply it on that day or later.", words(from));
        findings.add(Check::DateTooEarly, "date", sentence);
        return;
    }
    let room = item.room_from(date);
    if !item.is_there(all, date) && all <= item.open {
        let when = item.first_day(all).map_or_else(String::new, |day| format!(" Apply it on {} or later.", words(day)));
        findings.add(
            Check::DateTooEarly,
            "date",
            format!(
                "On {} only {} of {number} was free: the rest was applied elsewhere until later.{when}",
                words(date),
                input.currency.format(room)
            ),
        );
    }
}

fn check_application(
    input: &SettleInput<'_>,
    (position, once): (usize, bool),
    to_apply: &ToApply,
    debit: Money,
    findings: &mut Findings,
) {
    let field = format!("applications.{position}.amount");
    let (item, date) = (&to_apply.item, input.date.date);
    let number = &item.document.number;
    let at = Some(item.document.clone());
    let format = |amount: Money| item.currency.format(amount);
    if !once {
        findings.add(Check::NamedTwice, field, format!("{number} is named twice. Give it one amount."));
    } else if !input.group.iter().any(|member| member.id == item.customer) {
        findings.add_at(
            Check::OtherCustomer,
            field,
            format!("{number} belongs to another customer than {}, who does not pay for it.", input.payer_name),
            at,
        );
    } else if item.currency != input.currency && debit.is_zero() {
        findings.add_at(
            Check::ExchangeRateMissing,
            field,
            format!(
                "{number} is in {}, the money in {}, and no rate between them is known for {}.",
                item.currency,
                input.currency,
                words(date)
            ),
            at,
        );
    } else if let Some(sentence) = beyond_deposit(input, position) {
        findings.add_at(Check::MoreThanHeld, field, sentence, at);
    } else if !to_apply.amount.is_positive() {
        findings.add(Check::AmountNotPositive, field, format!("Apply more than nothing to {number}, or leave it out."));
    } else if debit > item.open {
        findings.add_at(
            Check::MoreThanOpen,
            field,
            match to_apply.beside.sum().is_positive() {
                true => {
                    format!("{number} has {} open: that is more with what is settled beside it.", format(item.open))
                }
                false => format!("{number} has {} open. Apply that or less.", format(item.open)),
            },
            at,
        );
    } else if item.posting_date > date {
        findings.add_at(
            Check::DateTooEarly,
            field,
            format!(
                "{number} was posted on {}, after {}. Apply the money on that day or later.",
                words(item.posting_date),
                words(date)
            ),
            at,
        );
    } else if !item.is_there(debit, date) {
        let when =
            item.first_day(debit).map_or_else(String::new, |day| format!(" Apply it on {} or later.", words(day)));
        findings.add_at(
            Check::DateTooEarly,
            field,
            format!(
                "From {} on only {} of {number} can be settled: the rest was settled until later.{when}",
                words(date),
                format(item.room_from(date))
            ),
            at,
        );
    }
}
