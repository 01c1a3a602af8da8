//! The entry of a settlement. *Source: postings.md, Money.*

use super::beside::beside_lines;
use super::{SettleInput, Settlement, Source};
use crate::accounts::Purpose;
use crate::checks::Findings;
use crate::deposit::advance_lines;
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::ids::CustomerId;
use crate::money::{Currency, Money};
use crate::open_items::OpenItem;

/// Dr where the money is, or the credit it comes from; Cr each item it goes to, and unapplied for
/// what has no target. What the rates make of it is a currency difference.
pub(super) fn enter(input: &SettleInput<'_>, document: &Settlement, findings: &mut Findings) -> Option<Entry> {
    let mut builder = EntryBuilder::new(input.accounts, input.payer_class.as_deref(), input.currency);
    let payer = || LineFor { customer: Some(input.payer), ..LineFor::default() };
    let all: Money = document.applied.iter().map(|applied| applied.credit_amount).sum();
    let given_up = document.amount_base - document.unapplied_base;
    let whole = (document.amount, document.amount_base);
    let mut stays_put = false;
    let text = match &input.source {
        Source::Received { method } => {
            let purpose = method.place.kind.purpose();
            let customer = (purpose != Purpose::Bank).then_some(input.payer);
            builder.add_to(&method.place.account, purpose, whole, LineFor { customer, ..LineFor::default() });
            format!("Receipt from {}", input.payer_name)
        }
        Source::Containers { what, .. } => {
            builder.add(Purpose::ContainerLiability, whole.0, whole.1, payer());
            format!("{what} brought back by {}", input.payer_name)
        }
        Source::Item(item) => {
            stays_put = document.applied.iter().zip(&input.to_apply).all(|(applied, to)| {
                to.item.account == item.account
                    && to.item.purpose == item.purpose
                    && to.item.customer == item.customer
                    && applied.receivable_base == applied.money_base
                    && applied.beside.is_nothing()
            });
            let taxes: Vec<_> = document.applied.iter().flat_map(|applied| applied.taxes.clone()).collect();
            advance_lines(&mut builder, item, (all, given_up), &taxes);
            format!("{} of {} applied", item.document.number, input.payer_name)
        }
    };
    // Two items on one account at one base amount are only matched: no entry.
    if stays_put && !document.applied.is_empty() {
        return None;
    }
    let mut difference = Money::ZERO;
    for (applied, to_apply) in document.applied.iter().zip(&input.to_apply) {
        on_item(&mut builder, &to_apply.item, (-applied.amount, -applied.receivable_base));
        beside_lines(&mut builder, applied.currency, &applied.beside);
        difference += applied.receivable_base - applied.beside.base() - applied.money_base;
    }
    if !matches!(input.source, Source::Item(_)) {
        builder.add(Purpose::Unapplied, -document.unapplied, -document.unapplied_base, payer());
    }
    builder.add_difference(difference, input.base);
    builder.finish_or_say(document.date.date, text, findings)
}

/// A line on the very account an item stands on: debit positive.
pub(super) fn on_item(builder: &mut EntryBuilder<'_>, item: &OpenItem, amounts: (Money, Money)) {
    on_account(builder, item, item.customer, item.currency, amounts);
}

fn on_account(
    builder: &mut EntryBuilder<'_>,
    item: &OpenItem,
    customer: CustomerId,
    currency: Currency,
    (document, base): (Money, Money),
) {
    let what = LineFor { customer: Some(customer), currency: Some(currency), ..LineFor::default() };
    match &item.account {
        Some(account) => builder.add_to(account, item.purpose, (document, base), what),
        None => builder.add(item.purpose, document, base, what),
    }
}
