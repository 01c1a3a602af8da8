//! Customers' own pages: links, quotes accepted by name, orders that confirm themselves, cards left and invoices paid, with
//! verify after each. Figures by hand: 4 at 63.50 are net 254.00, with 23 % tax 312.42; 30 % of that is 93.73 (93.726).

use crate::common::*;
use chrono::{DateTime, Duration, Utc};
use sqlx::ConnectOptions;
use till_core::acceptance::{LinkState, QuoteAsks};
use till_core::card::CardState;
use till_core::checks::Check;
use till_core::day_sheet::Next;
use till_core::ids::{CardId, DocumentKind, InvoiceId, OrderId, PageLinkId, QuoteId};
use till_core::money::Money;
use till_core::order::OrderState;
use till_core::people::{LimitKind, Role};
use till_formats::cards::ask;
use till_processor::book::Book;
use till_processor::wire::Habit;
use till_store::customer_pages::{self, Link, NewLink, PageAcceptance, PageAsked, PagePayment, PagePays, PageView};
use till_store::deliveries::Said;
use till_store::deposits::{self, NewDeposit};
use till_store::orders::ToCancel;
use till_store::prepayments::{self, AdvanceForm};
use till_store::quotes::{self, QuoteForm, QuoteState};
use till_store::settings::{self, NewLimit};
use till_store::{Result, StoreError, cards, day_sheet, ledger, open_items, orders, receipts, rules, setup};

/// A company with a processor, and a limit for orders that no order here reaches.
struct Till {
    company: Company,
    book: Book,
}

impl Till {
    async fn new() -> Self {
        let till = Self { company: Company::new().await, book: Book::new(day("2026-03-18")) };
        till.limit("100000").await;
        till
    }

    async fn limit(&self, amount: &str) {
        let new = NewLimit { role: Role::Clerk, kind: LimitKind::Order, amount: Some(amount.to_owned()) };
        change(&self.company, async |writing, _| settings::set_limit(writing, &new).await).await.unwrap();
    }

    async fn try_link(&self, customer: usize, new: NewLink) -> Result<PageLinkId> {
        let customer = self.company.customers[customer];
        change(&self.company, async |writing, _| Ok(customer_pages::make(writing, customer, &new).await?.id)).await
    }

    async fn link(&self, customer: usize) -> Link {
        let id = self.try_link(customer, NewLink { days: 14, quote: None, recipient: None }).await.unwrap();
        let mut books = self.company.store.read().await.unwrap();
        customer_pages::of(&mut books, id, by().at).await.unwrap().unwrap()
    }

    async fn quote(&self, customer: usize, asks: QuoteAsks, percent: Option<&str>) -> QuoteId {
        let order = self.company.order(customer, 4).await;
        let percent = percent.map(str::to_owned);
        change(&self.company, async |writing, rules| {
            let form = QuoteForm {
                order: orders::form(writing, order).await?,
                valid_until: Some(day("2026-04-17")),
                asks,
                asks_percent: percent.clone(),
            };
            // The order it was typed from is not needed any more.
            let version = orders::view(writing, order).await?.version;
            let all = ToCancel { version, line: None, quantity: None, reason: "only asked".to_owned() };
            orders::cancel(writing, order, &all).await?;
            quotes::save(writing, rules, None, &form).await
        })
        .await
        .unwrap()
    }

    async fn accept(&self, link: &Link, quote: QuoteId, name: &str) -> Result<OrderId> {
        let word = PageAcceptance { version: 1, name: name.to_owned(), customer_order_number: Some("AM 7".to_owned()) };
        change(&self.company, async |writing, rules| customer_pages::accept(writing, rules, link, quote, &word).await)
            .await
    }

    async fn state(&self, order: OrderId) -> OrderState {
        orders::view(&mut *self.company.store.read().await.unwrap(), order).await.unwrap().row.state
    }

    async fn missing(&self, order: OrderId) -> Money {
        let view = orders::view(&mut *self.company.store.read().await.unwrap(), order).await.unwrap();
        view.accepted.unwrap().missing
    }

    async fn page(&self, link: &Link) -> PageView {
        let mut books = self.company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        customer_pages::view(&mut books, &rules, link.customer).await.unwrap()
    }

    async fn deposit(&self, customer: usize, (order, quote): (Option<OrderId>, Option<QuoteId>), amount: &str) {
        let new = NewDeposit {
            receipt: None,
            customer: self.company.customers[customer],
            order,
            quote,
            method: "transfer".to_owned(),
            date: None,
            amount: amount.to_owned(),
            reference: None,
            memo: None,
        };
        change(&self.company, async |writing, rules| deposits::take(writing, rules, &new, None).await).await.unwrap();
    }

    async fn card(&mut self, customer: usize, habit: Habit) -> CardId {
        let card = self.book.add_card(habit);
        let customer = self.company.customers[customer];
        change(&self.company, async |writing, rules| {
            cards::add_card(writing, rules, customer, (&card.token, &card.last_four, &card.valid_through)).await
        })
        .await
        .unwrap()
        .id
    }

    async fn try_pay(&self, link: &Link, wish: &PagePayment) -> Result<PageAsked> {
        change(&self.company, async |writing, rules| customer_pages::pay(writing, rules, link, wish).await).await
    }

    async fn send(&mut self, asked: &cards::Asked) {
        let Some(call) = asked.call else { return };
        let outgoing = cards::outgoing(&mut *self.company.store.read().await.unwrap(), call).await.unwrap().unwrap();
        let answer = ask(&mut self.book, &outgoing.key, &outgoing.ask);
        change(&self.company, async |writing, rules| cards::answer(writing, rules, call, &answer).await).await.unwrap();
    }

    /// As the server does it: authorized, then captured where the money is taken at once. How the card stands then.
    async fn pay(&mut self, link: &Link, wish: &PagePayment) -> CardState {
        let PageAsked { asked, at_once } = self.try_pay(link, wish).await.unwrap();
        self.send(&asked).await;
        if at_once {
            let captures = change(&self.company, async |writing, rules| {
                cards::capture_all(writing, rules, asked.authorization).await
            })
            .await;
            match captures {
                Ok(Some(captures)) => self.send(&captures).await,
                Ok(None) | Err(StoreError::Unrecorded) => {}
                Err(error) => panic!("{error}"),
            }
        }
        let mut books = self.company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        cards::view(&mut books, &rules, asked.authorization).await.unwrap().row.state
    }

    async fn work(&self) -> Vec<(Next, String)> {
        let sheet = day_sheet::day_sheet(&mut *self.company.store.read().await.unwrap(), None).await.unwrap();
        let orders = sheet.items.into_iter().filter(|item| item.at.kind == DocumentKind::Order);
        orders.map(|item| (item.next, item.why)).collect()
    }
}

fn refused(error: StoreError) -> Vec<(Check, String)> {
    match error {
        StoreError::Refused(blockers) => blockers.into_iter().map(|one| (one.check, one.field)).collect(),
        other => panic!("{other}"),
    }
}

fn of_order(order: OrderId, card: CardId, amount: i64) -> PagePayment {
    PagePayment { pays: PagePays::Order, id: order.0, card, amount: Money(amount) }
}

fn of_invoice(invoice: InvoiceId, card: CardId, amount: i64) -> PagePayment {
    PagePayment { pays: PagePays::Invoice, id: invoice.0, card, amount: Money(amount) }
}

#[tokio::test]
async fn a_quote_that_asks_for_nothing_becomes_a_confirmed_order() {
    let till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Nothing, None).await;
    let (mine, other) = (till.link(0).await, till.link(1).await);
    assert!(matches!(till.accept(&other, quote, "Bo Moor").await, Err(StoreError::NotFound { .. })));
    assert_eq!(refused(till.accept(&mine, quote, " ").await.unwrap_err()), [(Check::NameMissing, "name".to_owned())]);
    let order = till.accept(&mine, quote, " Ann Brook ").await.unwrap();
    assert_eq!(till.state(order).await, OrderState::Open, "nothing is missing and nobody has to be asked");
    let again = till.accept(&mine, quote, "Ann Brook").await.unwrap_err();
    assert_eq!(refused(again), [(Check::QuoteDecided, "quote".to_owned())]);
    let mut books = till.company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let view = quotes::view(&mut books, &rules, quote).await.unwrap();
    let accepted = view.accepted.unwrap();
    assert_eq!((view.state, accepted.name.as_str(), accepted.confirmed), (QuoteState::Accepted, "Ann Brook", true));
    let order = orders::view(&mut books, order).await.unwrap();
    assert_eq!((order.row.customer_order_number.as_deref(), order.total), (Some("AM 7"), Money(31_242)));
    drop(books);
    till.company.holds().await;
}

#[tokio::test]
async fn a_deposit_that_was_asked_for_confirms_the_order_once_all_of_it_is_there() {
    let till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    // What came before the quote was accepted counts.
    till.deposit(0, (None, Some(quote)), "50").await;
    let link = till.link(0).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    assert_eq!((till.state(order).await, till.missing(order).await), (OrderState::Draft, Money(4_373)));
    let why = "Ann Brook accepted O-2, a deposit of 43.73 EUR is missing";
    assert_eq!(till.work().await, [(Next::AskForMissing, why.to_owned())]);
    let page = till.page(&link).await;
    assert_eq!((page.orders[0].missing.what, page.orders[0].missing.amount), (QuoteAsks::Deposit, Money(4_373)));
    till.deposit(0, (Some(order), None), "43.72").await;
    assert_eq!((till.state(order).await, till.missing(order).await), (OrderState::Draft, Money(1)));
    till.deposit(0, (Some(order), None), "0.01").await;
    assert_eq!((till.state(order).await, till.missing(order).await), (OrderState::Open, Money::ZERO));
    assert!(till.work().await.is_empty());
    till.company.holds().await;
}

#[tokio::test]
async fn a_deposit_moved_to_the_order_confirms_it_too() {
    let till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let order = till.accept(&till.link(0).await, quote, "Ann Brook").await.unwrap();
    till.deposit(0, (None, None), "93.73").await;
    assert_eq!(till.state(order).await, OrderState::Draft);
    let wish = deposits::ToMove { order: Some(order), reason: "it was for this".to_owned() };
    change(&till.company, async |writing, rules| {
        let row = deposits::list(writing, rules, &deposits::DepositFilter::default(), (10, 0)).await?;
        let id = row.deposits[0].id;
        let version = deposits::view(writing, rules, id).await?.version;
        deposits::move_to(writing, rules, id, version, &wish).await
    })
    .await
    .unwrap();
    assert_eq!(till.state(order).await, OrderState::Open);
    till.company.holds().await;
}

#[tokio::test]
async fn a_card_that_was_asked_for_confirms_the_order_once_it_stands() {
    let mut till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Card, Some("30")).await;
    let link = till.link(0).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    let (bad, good) = (till.card(0, Habit::Declined).await, till.card(0, Habit::Good).await);
    let foreign = till.card(1, Habit::Good).await;
    // Not what was seen, not their card, not their order.
    assert!(matches!(till.try_pay(&link, &of_order(order, good, 9_372)).await, Err(StoreError::Moved)));
    assert!(matches!(till.try_pay(&link, &of_order(order, foreign, 9_373)).await, Err(StoreError::Invalid { .. })));
    let other = till.link(1).await;
    assert!(matches!(till.try_pay(&other, &of_order(order, foreign, 9_373)).await, Err(StoreError::NotFound { .. })));
    assert_eq!(till.pay(&link, &of_order(order, bad, 9_373)).await, CardState::Declined);
    assert_eq!(till.state(order).await, OrderState::Draft);
    assert_eq!(
        till.pay(&link, &of_order(order, good, 9_373)).await,
        CardState::Authorized,
        "it is captured once goods go"
    );
    assert_eq!(till.state(order).await, OrderState::Open);
    assert!(matches!(till.try_pay(&link, &of_order(order, good, 9_373)).await, Err(StoreError::WrongState(_))));
    till.company.holds().await;
}

/// postings.md, Money: a card captured before the invoice is a deposit; due at the invoice, it carries no tax.
#[tokio::test]
async fn a_deposit_is_paid_by_card_at_once() {
    let mut till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let link = till.link(0).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    let card = till.card(0, Habit::Good).await;
    assert_eq!(till.pay(&link, &of_order(order, card, 9_373)).await, CardState::Captured);
    assert_eq!(till.state(order).await, OrderState::Open);
    let mut books = till.company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let filter = deposits::DepositFilter::default();
    let deposit = deposits::list(&mut books, &rules, &filter, (10, 0)).await.unwrap().deposits.remove(0);
    assert_eq!((deposit.order, deposit.held), (Some(order), Money(9_373)));
    let entry = ledger::entries_of(&mut books, DocumentKind::Deposit, deposit.id.0).await.unwrap().remove(0).entry;
    let amounts: Vec<i64> = entry.lines.iter().map(|line| line.base.0).collect();
    assert_eq!(amounts, [9_373, -9_373], "card clearing to deposits");
    drop(books);
    assert_eq!(till.page(&link).await.sums[0].held, Money(9_373));
    till.company.holds().await;
}

#[tokio::test]
async fn an_invoice_is_paid_by_card_at_once_and_once() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let invoice = till.company.bill(till.company.ship(order, 4).await).await;
    let link = till.link(0).await;
    let page = till.page(&link).await;
    assert_eq!(
        (page.invoices[0].open, page.invoices[0].payable, page.sums[0].owed),
        (Money(31_242), Money(31_242), Money(31_242))
    );
    let (card, other_card) = (till.card(0, Habit::Good).await, till.card(1, Habit::Good).await);
    let over = till.try_pay(&link, &of_invoice(invoice, card, 31_243)).await.unwrap_err();
    assert_eq!(refused(over), [(Check::MoreThanOpen, "amount".to_owned())]);
    let other = till.link(1).await;
    let stolen = till.try_pay(&other, &of_invoice(invoice, other_card, 31_242)).await;
    assert!(matches!(stolen, Err(StoreError::NotFound { .. })));
    // The answer is not there yet: nothing can be paid a second time meanwhile.
    let first = till.try_pay(&link, &of_invoice(invoice, card, 31_242)).await.unwrap();
    assert_eq!(till.page(&link).await.invoices[0].payable, Money::ZERO);
    assert!(till.try_pay(&link, &of_invoice(invoice, card, 1)).await.is_err());
    till.send(&first.asked).await;
    let captures = change(&till.company, async |writing, rules| {
        cards::capture_all(writing, rules, first.asked.authorization).await
    })
    .await
    .unwrap()
    .unwrap();
    till.send(&captures).await;
    let again = till.try_pay(&link, &of_invoice(invoice, card, 31_242)).await.unwrap_err();
    assert_eq!(refused(again), [(Check::MoreThanOpen, "amount".to_owned())]);
    let page = till.page(&link).await;
    assert!(page.invoices.is_empty() && page.sums.is_empty(), "{:?}", page.sums);
    let mut books = till.company.store.read().await.unwrap();
    let open = open_items::open_as_of(&mut books, None, day("2026-03-18")).await.unwrap();
    assert!(open.items.is_empty(), "{:?}", open.items);
    let received = receipts::list(&mut books, None, false, 10, 0).await.unwrap();
    assert_eq!((received.receipts[0].amount, received.receipts.len()), (Money(31_242), 1));
    drop(books);
    till.company.holds().await;
}

#[tokio::test]
async fn what_a_clerk_would_have_to_ask_for_is_not_confirmed_by_itself() {
    let till = Till::new().await;
    till.limit("100").await;
    let quote = till.quote(0, QuoteAsks::Nothing, None).await;
    let order = till.accept(&till.link(0).await, quote, "Ann Brook").await.unwrap();
    assert_eq!(till.state(order).await, OrderState::Draft);
    let work = till.work().await;
    assert_eq!(work[0].0, Next::Confirm);
    assert!(work[0].1.starts_with("Ann Brook accepted O-2. "), "{}", work[0].1);
    till.company.holds().await;
}

#[tokio::test]
async fn a_share_that_cannot_be_asked_for_is_refused_at_its_field() {
    let till = Till::new().await;
    let order = till.company.order(0, 4).await;
    for (asks, percent) in [
        (QuoteAsks::Deposit, None),
        (QuoteAsks::Card, Some("101")),
        (QuoteAsks::Deposit, Some("a third")),
        (QuoteAsks::Nothing, Some("5")),
    ] {
        let said = change(&till.company, async |writing, rules| {
            let order = orders::form(writing, order).await?;
            let form = QuoteForm { order, valid_until: None, asks, asks_percent: percent.map(str::to_owned) };
            quotes::save(writing, rules, None, &form).await
        })
        .await;
        match said {
            Err(StoreError::Invalid { field, .. }) => assert_eq!(field, "asks_percent", "{asks:?} {percent:?}"),
            other => panic!("{asks:?} {percent:?}: {other:?}"),
        }
    }
}

#[tokio::test]
async fn links_work_for_their_days_until_someone_ends_them() {
    let till = Till::new().await;
    let new = |days| NewLink { days, quote: None, recipient: None };
    for days in [0, 91] {
        assert!(matches!(till.try_link(0, new(days)).await, Err(StoreError::Invalid { .. })), "{days}");
    }
    let nobody = NewLink { recipient: Some("nobody".to_owned()), ..new(14) };
    assert!(matches!(till.try_link(0, nobody).await, Err(StoreError::Invalid { .. })));
    let quote = till.quote(0, QuoteAsks::Nothing, None).await;
    let wrong = NewLink { quote: Some(quote), ..new(14) };
    assert!(matches!(till.try_link(1, wrong).await, Err(StoreError::Invalid { .. })), "a quote of someone else");
    let id = till.try_link(0, NewLink { quote: Some(quote), ..new(14) }).await.unwrap();
    let (now, customer) = (by().at, till.company.customers[0]);
    let state = async |at: DateTime<Utc>| {
        let mut books = till.company.store.read().await.unwrap();
        customer_pages::of(&mut books, id, at).await.unwrap().unwrap().state
    };
    assert_eq!(state(now + Duration::days(14) - Duration::seconds(1)).await, LinkState::Works);
    assert_eq!(state(now + Duration::days(14)).await, LinkState::Expired);
    let other = till.company.customers[1];
    let end = async |customer| {
        change(&till.company, async |writing, _| customer_pages::end(writing, customer, id).await).await
    };
    assert!(end(other).await.is_err(), "nobody ends the link of another customer by its id");
    end(customer).await.unwrap();
    assert!(end(customer).await.is_err(), "it was ended before");
    assert_eq!(state(now).await, LinkState::Ended);
    let mut books = till.company.store.read().await.unwrap();
    let rows = customer_pages::links(&mut books, customer, now).await.unwrap();
    assert_eq!((rows.len(), rows[0].quote_number.as_deref(), rows[0].state), (1, Some("Q-1"), LinkState::Ended));
    assert!(customer_pages::text_of(&mut books, customer, id, now).await.is_err());
    let mailed = (id, "office@orchard.example", "Your account");
    for said in [
        Said::Took { message: "Dear all".to_owned() },
        Said::Took { message: "Dear all, once more".to_owned() },
        Said::Refused { problem: "no answer".to_owned() },
    ] {
        change(&till.company, async |writing, _| customer_pages::mailed(writing, customer, mailed, &said).await)
            .await
            .unwrap();
    }
    // One key for all, made with the first link.
    assert!(customer_pages::key(&mut books).await.unwrap().is_some());
    drop(books);
    till.company.holds().await;
}

#[tokio::test]
async fn a_page_shows_one_customers_papers_and_no_draft() {
    let till = Till::new().await;
    let (mine, theirs) = (till.company.order(0, 4).await, till.company.order(1, 2).await);
    let invoice = till.company.bill(till.company.ship(mine, 4).await).await;
    let foreign = till.company.bill(till.company.ship(theirs, 2).await).await;
    let next = till.company.order(0, 1).await;
    let to_bill = till.company.to_bill(till.company.ship(next, 1).await).await;
    let draft =
        change(&till.company, async |writing, rules| till_store::invoices::make_drafts(writing, rules, &to_bill).await)
            .await
            .unwrap()[0];
    let link = till.link(0).await;
    let page = till.page(&link).await;
    let papers: Vec<i64> = page.papers.iter().map(|paper| paper.document.id).collect();
    assert_eq!(papers, [invoice.0]);
    assert_eq!(
        page.orders.iter().map(|order| order.id).collect::<Vec<_>>(),
        [next],
        "what is billed is not on its way"
    );
    let mut books = till.company.store.read().await.unwrap();
    for (id, shown) in [(invoice, true), (foreign, false), (draft, false), (InvoiceId(99), false)] {
        let found = customer_pages::shows(&mut books, link.customer, (DocumentKind::Invoice, id.0)).await.unwrap();
        assert_eq!(found, shown, "{id}");
    }
    let as_memo =
        customer_pages::shows(&mut books, link.customer, (DocumentKind::CreditMemo, invoice.0)).await.unwrap();
    let as_order = customer_pages::shows(&mut books, link.customer, (DocumentKind::Order, mine.0)).await.unwrap();
    assert!(!as_memo && !as_order);
}

#[tokio::test]
async fn a_prepayment_invoice_is_an_invoice_like_any_other_on_the_page() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let form = AdvanceForm { percent: Some("25".to_owned()), ..AdvanceForm::default() };
    let ahead = change(&till.company, async |writing, rules| prepayments::bill(writing, rules, order, &form).await)
        .await
        .unwrap()
        .id;
    let link = till.link(0).await;
    let page = till.page(&link).await;
    // 25 % of 254.00 is 63.50, with tax 78.11.
    let invoice = &page.invoices[0];
    assert_eq!((invoice.id, invoice.prepayment, invoice.payable), (ahead, true, Money(7_811)));
    assert_eq!(page.papers[0].document.id, ahead.0);
    let card = till.card(0, Habit::Good).await;
    assert_eq!(till.pay(&link, &of_invoice(ahead, card, 7_811)).await, CardState::Captured);
    assert!(till.page(&link).await.invoices.is_empty());
    till.company.holds().await;
}

/// What no operation does is found by verify, and what never changes is refused by the books.
#[tokio::test]
async fn damage_is_refused_or_found() {
    for damage in [
        "UPDATE quote_acceptances SET name = 'Bo Moor'",
        "DELETE FROM quote_acceptances",
        "UPDATE page_links SET customer_id = 2",
        "UPDATE page_links SET expires_at = '2999-01-01T00:00:00Z'",
        "DELETE FROM page_links",
        "UPDATE card_authorizations SET invoice_id = NULL",
        "UPDATE quotes SET state = 'open', order_id = NULL",
        "UPDATE quotes SET customer_id = 2",
        "DROP TRIGGER card_authorizations_keep; UPDATE card_authorizations SET customer_id = 2",
    ] {
        let mut till = Till::new().await;
        let quote = till.quote(0, QuoteAsks::Nothing, None).await;
        let link = till.link(0).await;
        till.accept(&link, quote, "Ann Brook").await.unwrap();
        let order = till.company.order(0, 4).await;
        let invoice = till.company.bill(till.company.ship(order, 4).await).await;
        let card = till.card(0, Habit::Declined).await;
        assert_eq!(till.pay(&link, &of_invoice(invoice, card, 31_242)).await, CardState::Declined);
        till.company.holds().await;
        let file = till.company.folder.path().join("books.db");
        let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
        let done = sqlx::raw_sql(damage).execute(&mut raw).await;
        let refused =
            damage.contains("quote_acceptances") || damage.contains("page_links") || damage.contains("invoice_id");
        assert_eq!(done.is_err(), refused, "{damage}: {done:?}");
        if !refused {
            let verified = till_store::verify::verify(&mut *till.company.store.read().await.unwrap()).await.unwrap();
            let broken: Vec<&str> =
                verified.proofs.iter().filter(|proof| !proof.holds).map(|proof| proof.name.as_str()).collect();
            assert!(broken.iter().any(|name| name.starts_with("Customers accepted")), "{damage}: {broken:?}");
        }
    }
}

#[tokio::test]
async fn what_was_changed_since_is_not_confirmed_by_itself_and_what_was_given_up_waits_for_nothing() {
    let till = Till::new().await;
    let link = till.link(0).await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    change(&till.company, async |writing, rules| {
        let mut form = orders::form(writing, order).await?;
        form.lines[0].quantity = "5".to_owned();
        let version = orders::view(writing, order).await?.version;
        orders::change(writing, rules, order, version, &form).await.map(|_| ())
    })
    .await
    .unwrap();
    till.deposit(0, (Some(order), None), "93.73").await;
    assert_eq!((till.state(order).await, till.missing(order).await), (OrderState::Draft, Money::ZERO));
    let why = "Ann Brook accepted O-2. It was changed since: agree on that with the customer, then confirm it.";
    assert_eq!(till.work().await, [(Next::Confirm, why.to_owned())]);
    // Another one is given up altogether.
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let given_up = till.accept(&link, quote, "Ann Brook").await.unwrap();
    assert_eq!(till.work().await.len(), 2);
    change(&till.company, async |writing, _| {
        let version = orders::view(writing, given_up).await?.version;
        let all = ToCancel { version, line: None, quantity: None, reason: "changed their mind".to_owned() };
        orders::cancel(writing, given_up, &all).await
    })
    .await
    .unwrap();
    assert_eq!((till.work().await.len(), till.missing(given_up).await), (1, Money::ZERO));
    assert!(till.page(&link).await.orders.iter().all(|one| one.id != given_up));
    till.company.holds().await;
}

/// The answer is lost, the page is loaded anew, the customer taps again, with this card and another: one is charged, once.
#[tokio::test]
async fn a_deposit_is_charged_once_however_often_it_is_tried() {
    let mut till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let link = till.link(0).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    let (card, other) = (till.card(0, Habit::Good).await, till.card(0, Habit::Good).await);
    let first = till.try_pay(&link, &of_order(order, card, 9_373)).await.unwrap();
    // Nobody knows what became of it: the same goes on, anything else waits.
    let again = till.try_pay(&link, &of_order(order, card, 9_373)).await.unwrap();
    assert_eq!(again, first);
    assert!(matches!(till.try_pay(&link, &of_order(order, other, 9_373)).await, Err(StoreError::WrongState(_))));
    // It stands: once more, and it is captured.
    till.send(&first.asked).await;
    let third = till.try_pay(&link, &of_order(order, card, 9_373)).await.unwrap();
    assert_eq!((third.asked.authorization, third.asked.call), (first.asked.authorization, None));
    assert_eq!(till.pay(&link, &of_order(order, card, 9_373)).await, CardState::Captured);
    assert_eq!(till.book.open_captures().len(), 1);
    assert!(matches!(till.try_pay(&link, &of_order(order, card, 9_373)).await, Err(StoreError::WrongState(_))));
    assert_eq!(till.state(order).await, OrderState::Open);
    till.company.holds().await;
}

/// What the processor has captured and the books cannot take yet is not asked for a second time.
#[tokio::test]
async fn captured_money_counts_before_it_is_in_the_books() {
    let mut till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Deposit, Some("30")).await;
    let link = till.link(0).await;
    let order = till.accept(&link, quote, "Ann Brook").await.unwrap();
    let card = till.card(0, Habit::Good).await;
    let first = till.try_pay(&link, &of_order(order, card, 9_373)).await.unwrap();
    till.send(&first.asked).await;
    let captures = change(&till.company, async |writing, rules| {
        cards::capture_all(writing, rules, first.asked.authorization).await
    })
    .await
    .unwrap()
    .unwrap();
    change(&till.company, async |writing, _| setup::set_period(writing, day("2026-03-01"), false).await).await.unwrap();
    till.send(&captures).await;
    assert_eq!((till.missing(order).await, till.state(order).await), (Money::ZERO, OrderState::Open));
    assert!(matches!(till.try_pay(&link, &of_order(order, card, 9_373)).await, Err(StoreError::WrongState(_))));
    till.company.holds().await;
}

/// What a clerk would put right is said to the customer in their own words.
#[tokio::test]
async fn a_quote_that_cannot_be_accepted_any_more_asks_for_a_new_one() {
    let till = Till::new().await;
    let quote = till.quote(0, QuoteAsks::Nothing, None).await;
    let link = till.link(0).await;
    let long = PageAcceptance { version: 1, name: "Ann Brook".to_owned(), customer_order_number: Some("7".repeat(61)) };
    let said =
        change(&till.company, async |writing, rules| customer_pages::accept(writing, rules, &link, quote, &long).await)
            .await;
    assert!(matches!(said, Err(StoreError::Invalid { field, .. }) if field == "customer_order_number"));
    let file = till.company.folder.path().join("books.db");
    let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
    sqlx::raw_sql("UPDATE customers SET currency = 'GBP' WHERE id = 1").execute(&mut raw).await.unwrap();
    match till.accept(&link, quote, "Ann Brook").await {
        Err(StoreError::WrongState(said)) => {
            assert_eq!(said, "Q-1 cannot be accepted as it is any more. Ask us for a new one.")
        }
        other => panic!("{other:?}"),
    }
}
