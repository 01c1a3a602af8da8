//! Steps of customers on their own pages: quotes accepted by name, what they ask for paid by card, invoices paid; answers that
//! are lost.

use till_core::acceptance::QuoteAsks;
use till_core::ids::CustomerId;
use till_core::money::Money;
use till_processor::wire::Habit;
use till_store::cards;
use till_store::customer_pages::{self, Link, NewLink, PageAcceptance, PageAsked, PagePayment, PagePays, PageView};
use till_store::quotes::{self, QuoteForm};
use till_store::{StoreError, orders, rules};

use super::common::*;
use super::{Made, Step, cards::send};

async fn link(company: &Company, customer: CustomerId) -> Link {
    let new = NewLink { days: 14, quote: None, recipient: None };
    let id = change(company, async |writing, _| Ok(customer_pages::make(writing, customer, &new).await?.id)).await;
    let mut books = company.store.read().await.unwrap();
    customer_pages::of(&mut books, id.unwrap(), by().at).await.unwrap().unwrap()
}

async fn page(company: &Company, link: &Link) -> PageView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    customer_pages::view(&mut books, &rules, link.customer).await.unwrap()
}

/// What an order says is offered again, and accepted at once or twice.
async fn accept(company: &Company, made: &mut Made, (at, what, minor): (usize, u8, i64)) {
    let like = made.orders[at % made.orders.len()];
    let asks = [QuoteAsks::Nothing, QuoteAsks::Deposit, QuoteAsks::Card, QuoteAsks::Deposit][usize::from(what % 4)];
    let percent = (asks != QuoteAsks::Nothing).then(|| (1 + minor.abs() % 100).to_string());
    let quote = change(company, async |writing, rules| {
        let order = orders::form(writing, like).await?;
        let form = QuoteForm { order, valid_until: Some(day("2026-05-17")), asks, asks_percent: percent.clone() };
        quotes::save(writing, rules, None, &form).await
    })
    .await;
    let Some(quote) = made.note("quote", quote) else { return };
    let customer = orders::view(&mut *company.store.read().await.unwrap(), like).await.unwrap().row.customer;
    let link = link(company, customer).await;
    let name = if minor % 9 == 0 { " " } else { "Ann Brook" };
    let word = PageAcceptance { version: 1, name: name.to_owned(), customer_order_number: Some("AM 7".to_owned()) };
    for _ in 0..2 {
        let accepted =
            change(company, async |writing, rules| customer_pages::accept(writing, rules, &link, quote, &word).await);
        let accepted = made.note("accept on the page", accepted.await);
        made.orders.extend(accepted);
    }
}

/// What a customer can pay: what a quote asked for is missing of an order, or an invoice is open.
fn payable(page: &PageView, (at, minor): (usize, i64)) -> Option<(PagePays, i64, Money)> {
    let orders = page.orders.iter().filter(|order| order.missing.amount.is_positive());
    let orders = orders.map(|order| (PagePays::Order, order.id.0, order.missing.amount));
    let invoices = page.invoices.iter().map(|invoice| (PagePays::Invoice, invoice.id.0, invoice.payable));
    let all: Vec<_> = orders.chain(invoices).collect();
    let (pays, id, all_of_it) = *all.get(at % all.len().max(1))?;
    let amount = match (pays, minor % 3) {
        (PagePays::Invoice, 0) => Money(minor / 4),
        _ => all_of_it,
    };
    Some((pays, id, amount))
}

async fn pay(company: &Company, made: &mut Made, (at, what, minor): (usize, u8, i64)) {
    let customer = company.customers[at % company.customers.len()];
    let link = link(company, customer).await;
    let Some((pays, id, amount)) = payable(&page(company, &link).await, (at, minor)) else { return };
    let habit = [Habit::Good, Habit::Good, Habit::Declined][usize::from(what % 3)];
    let card = made.processor.add_card(habit);
    let kept = change(company, async |writing, rules| {
        cards::add_card(writing, rules, customer, (&card.token, &card.last_four, &card.valid_through)).await
    })
    .await;
    let Some(card) = made.note("keep a card", kept).map(|card| card.id) else { return };
    // The second time from another window: what is paid is not paid again.
    for _ in 0..2 {
        once(company, made, &link, &PagePayment { pays, id, card, amount }, minor % 5 == 0).await;
    }
}

async fn once(company: &Company, made: &mut Made, link: &Link, wish: &PagePayment, lost: bool) {
    let asked = change(company, async |writing, rules| customer_pages::pay(writing, rules, link, wish).await).await;
    let Some(PageAsked { asked, at_once }) = made.note("pay on the page", asked) else { return };
    let id = asked.authorization;
    if !made.cards.contains(&id) {
        made.cards.push(id);
    }
    send(company, made, Some(asked), lost).await;
    if !at_once {
        return;
    }
    match change(company, async |writing, rules| cards::capture_all(writing, rules, id).await).await {
        Ok(captures) => send(company, made, captures, lost).await,
        Err(StoreError::Unrecorded) => {}
        other => {
            made.note("capture of the page", other);
        }
    }
}

pub(crate) async fn run(company: &Company, made: &mut Made, step: &Step) {
    if let Step::Credits { at, what, minor } = step {
        return super::credits::run(company, made, (*at, *what, *minor)).await;
    }
    if let Step::Returned { at, what, how_much } = step {
        return super::returns::run(company, made, (*at, *what, *how_much)).await;
    }
    let Step::Page { at, what, minor } = step else { return super::prepayments::run(company, made, step).await };
    if made.orders.is_empty() {
        return;
    }
    // Customers act on the day they act on: their page has no dates to choose.
    made.processor.set_today(day("2026-03-18"));
    match what {
        0..4 => accept(company, made, (*at, *what, *minor)).await,
        _ => pay(company, made, (*at, *what, *minor)).await,
    }
}
