//! Everything that settling is decided on, as the books have it.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, OpenItemId, OrderId};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::order::OrderFacts;
use till_core::settle::{
    Beside, Early, Member, Said, SettleInput, Source, Suggestion, ToApply, paid_on, settles, settles_differences,
    suggest,
};

use super::NewApplication;
use crate::convert::json;
use crate::rules::{Rules, date_order, exchange_rate};
use crate::{Result, StoreError, customers, deposits, open_items, orders};

/// Everything a credit of a customer is decided on.
pub(super) struct Credit<'a> {
    pub(super) payer: CustomerId,
    pub(super) source: Source,
    pub(super) date: DocumentDate,
    pub(super) money: (Currency, Money),
    pub(super) typed: Option<&'a [NewApplication]>,
    pub(super) first: Option<InvoiceId>,
    /// What the payer wrote.
    pub(super) words: Option<&'a str>,
    /// Whether the money is in another currency than the customer's: what they owe in theirs may be paid with it.
    pub(super) foreign: bool,
}

/// What is applied, why, and what paying early earns on it.
struct Targets {
    to_apply: Vec<ToApply>,
    suggested: Vec<Suggestion>,
    early: BTreeMap<OpenItemId, Early>,
}

/// What the money is for: as it was typed, or as it is suggested where nothing was.
async fn targets(
    connection: &mut SqliteConnection,
    rules: &Rules,
    group: &[Member],
    (credit, tolerance): (&Credit<'_>, Money),
) -> Result<Targets> {
    let paid_on = paid_on(&credit.source, credit.date.date);
    let Some(typed) = credit.typed else {
        let members: Vec<CustomerId> = group.iter().map(|member| member.id).collect();
        let open = open_items::owed_by(connection, &members).await?;
        let own = open.iter().filter(|item| item.currency == credit.money.0).map(|item| item.id);
        let early = open_items::early(connection, own).await?;
        let worth = match credit.foreign {
            true => worth(connection, rules, (credit.money.0, credit.date.date), &open).await?,
            false => BTreeMap::new(),
        };
        let first = credit.first.map(|id| DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: String::new() });
        let said = Said {
            first: first.as_ref(),
            words: credit.words,
            paid_on,
            early: Some(&early),
            tolerance,
            worth: Some(&worth),
        };
        let suggested = suggest((credit.money.1, credit.money.0), &open, said, credit.date.date);
        let by_id: BTreeMap<OpenItemId, &OpenItem> = open.iter().map(|item| (item.id, item)).collect();
        let to_apply = suggested.iter().filter_map(|one| {
            let item = (*by_id.get(&one.item)?).clone();
            Some(ToApply { item, amount: one.amount, beside: one.beside })
        });
        return Ok(Targets { to_apply: to_apply.collect(), suggested, early });
    };
    let found = named(connection, typed).await?;
    let early = open_items::early(connection, found.iter().map(|item| item.id)).await?;
    let mut to_apply = Vec::with_capacity(typed.len());
    for (position, (application, item)) in typed.iter().zip(found).enumerate() {
        let decimal = |name: &str, text: &str| {
            let field = format!("applications.{position}.{name}");
            credit.money.0.parse(text).map_err(|error| StoreError::decimal(field, &error))
        };
        let typed = |text: &Option<String>| text.clone().filter(|text| !text.trim().is_empty());
        let amount = decimal("amount", &application.amount)?;
        let discount = match typed(&application.discount) {
            Some(text) => decimal("discount", &text)?,
            None => earned_with(&early, &item, (paid_on, amount, credit.money.0)),
        };
        let written_off = typed(&application.write_off).map_or(Ok(Money::ZERO), |text| decimal("write_off", &text))?;
        to_apply.push(ToApply { item, amount, beside: Beside { discount, written_off } });
    }
    Ok(Targets { to_apply, suggested: Vec::new(), early })
}

/// The discount an amount takes by itself: what is earned, where it settles the item with it.
fn earned_with(
    early: &BTreeMap<OpenItemId, Early>,
    item: &OpenItem,
    (paid_on, amount, money): (Option<NaiveDate>, Money, Currency),
) -> Money {
    let (Some(early), Some(date)) = (early.get(&item.id), paid_on.filter(|_| item.currency == money)) else {
        return Money::ZERO;
    };
    let earned = early.earned(date, item.open, amount);
    if amount + earned == item.open { earned } else { Money::ZERO }
}

/// The open items that were named, in their order.
async fn named(connection: &mut SqliteConnection, typed: &[NewApplication]) -> Result<Vec<OpenItem>> {
    let mut ids = Vec::with_capacity(typed.len());
    for (position, application) in typed.iter().enumerate() {
        let found = match (application.item, application.invoice) {
            (Some(item), None) => Some(item),
            (None, Some(invoice)) => {
                open_items::of_document(connection, DocumentKind::Invoice, invoice.0, Side::OwedToUs).await?
            }
            _ => None,
        };
        ids.push(found.ok_or_else(|| nothing_there(position, application))?);
    }
    let found = open_items::load(connection, &ids).await?;
    let owed = found.iter().filter(|item| item.side == Side::OwedToUs);
    let by_id: BTreeMap<OpenItemId, &OpenItem> = owed.map(|item| (item.id, item)).collect();
    let of = |(position, id): (usize, &OpenItemId)| {
        let item = by_id.get(id).copied();
        item.cloned().ok_or_else(|| nothing_there(position, &typed[position]))
    };
    ids.iter().enumerate().map(of).collect()
}

fn nothing_there(position: usize, application: &NewApplication) -> StoreError {
    let (field, sentence) = match (application.item, application.invoice) {
        (None, Some(invoice)) => ("invoice", format!("There is no posted invoice {invoice}.")),
        (Some(item), None) => ("item", format!("There is no open item {item} that is owed to us.")),
        _ => ("item", "Name one thing it goes to: an open item, or an invoice.".to_owned()),
    };
    StoreError::invalid(format!("applications.{position}.{field}"), sentence)
}

/// Orders on the invoices among those documents.
pub(super) async fn orders_on<'a>(
    connection: &mut SqliteConnection,
    documents: impl Iterator<Item = &'a DocumentRef>,
) -> Result<Vec<OrderFacts>> {
    let invoices: Vec<i64> =
        documents.filter(|document| document.kind == DocumentKind::Invoice).map(|document| document.id).collect();
    let invoices = json(&invoices)?;
    let ids = sqlx::query_scalar!(
        "SELECT DISTINCT order_id FROM document_orders WHERE document_id IN (SELECT value FROM json_each(?)) ORDER BY order_id",
        invoices
    )
    .fetch_all(&mut *connection)
    .await?;
    orders::facts(connection, &ids.into_iter().map(OrderId).collect::<Vec<_>>()).await
}

/// Rates of the currencies among the items that are not the money's own.
async fn other_rates(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (money, date): (Currency, NaiveDate),
    to_apply: &[ToApply],
) -> Result<Vec<(Currency, ExchangeRate)>> {
    let mut rates: Vec<(Currency, ExchangeRate)> = Vec::new();
    for ToApply { item, .. } in to_apply {
        if item.currency != money && !rates.iter().any(|(known, _)| *known == item.currency) {
            rates
                .extend(exchange_rate(connection, rules, item.currency, date).await?.map(|rate| (item.currency, rate)));
        }
    }
    Ok(rates)
}

/// What settles those of the items that are in another currency than the money, at the rates of a day. Not those no rate is known of.
pub(super) async fn worth(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (money, date): (Currency, NaiveDate),
    items: &[OpenItem],
) -> Result<BTreeMap<OpenItemId, Money>> {
    let Some(of_money) = exchange_rate(connection, rules, money, date).await? else { return Ok(BTreeMap::new()) };
    let mut rates: BTreeMap<&str, Option<ExchangeRate>> = BTreeMap::new();
    let mut worth = BTreeMap::new();
    for item in items.iter().filter(|item| item.currency != money) {
        let code = item.currency.code();
        if !rates.contains_key(code) {
            rates.insert(code, exchange_rate(connection, rules, item.currency, date).await?);
        }
        if let Some(Some(rate)) = rates.get(code) {
            worth.insert(item.id, settles(item, *rate, (money, of_money)));
        }
    }
    Ok(worth)
}

/// Everything needed to decide on a credit.
pub(super) async fn settle_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    credit: Credit<'_>,
) -> Result<SettleInput<'a>> {
    let group = open_items::paying_group(connection, credit.payer).await?;
    let (customer, _) = customers::facts(connection, credit.payer).await?;
    let rate = exchange_rate(connection, rules, credit.money.0, credit.date.date).await?;
    let tolerance = match rate.filter(|_| settles_differences(&credit.source)) {
        Some(rate) => rules.write_off_tolerance.exchanged((rules.base, ExchangeRate::ONE), (credit.money.0, rate)),
        None => Money::ZERO,
    };
    let Targets { mut to_apply, mut suggested, early } =
        targets(connection, rules, &group, (&credit, tolerance)).await?;
    let Credit { payer, source, date, money: (money, amount), typed, .. } = credit;
    if let (Source::Item(item), None) = (&source, typed)
        && item.purpose == Purpose::DepositLiability
    {
        // A deposit goes to what it was taken for.
        to_apply = deposits::proposed(connection, item, to_apply).await?;
        suggested.clear();
    }
    let dates = match &source {
        Source::Received { .. } => date_order(connection, rules, DocumentKind::Receipt).await?,
        Source::Containers { .. } => date_order(connection, rules, DocumentKind::ContainerReturn).await?,
        Source::Item(_) => DateOrder::of_today(rules.business_date),
    };
    Ok(SettleInput {
        payer,
        suggested,
        rooms: match &source {
            Source::Item(item) if item.purpose == Purpose::DepositLiability => {
                deposits::rooms(connection, item, to_apply.iter().map(|one| &one.item)).await?
            }
            _ => Vec::new(),
        },
        payer_name: customer.name,
        payer_class: customer.class,
        group,
        source,
        date,
        amount,
        currency: money,
        rate,
        early,
        tolerance,
        other_rates: other_rates(connection, rules, (money, date.date), &to_apply).await?,
        base: rules.base,
        orders: orders_on(connection, to_apply.iter().map(|one| &one.item.document)).await?,
        to_apply,
        dates,
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}
