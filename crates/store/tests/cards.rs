//! Cards on the books, with the simulated processor at the other end and verify after each. Figures by hand, those of
//! postings.md: 4 at 59.00 are net 236.00, with 23 % tax 290.28; the processor keeps 1.4 %, 4.06 (4.06392).

use crate::common::*;
use sqlx::ConnectOptions;
use till_core::card::{CardNext, CardState, Goes};
use till_core::checks::Check;
use till_core::day_sheet::Next;
use till_core::deposit::AdvanceTax;
use till_core::ids::{CardAuthorizationId, CardCallId, CardId, DocumentKind, OrderId};
use till_core::money::Money;
use till_core::order::OrderState;
use till_formats::cards::{ask, notice};
use till_processor::book::Book;
use till_processor::wire::{Event, Habit};
use till_store::cards::{self, Asked, BookPayout, BookReturn, CardView, NewAuthorization, NewCapture, NewRefund};
use till_store::settings::{self, CompanySettings};
use till_store::{Result, StoreError, day_sheet, deposits, ledger, orders, receipts, rules};

/// A company with a processor.
struct Till {
    company: Company,
    book: Book,
}

impl Till {
    async fn new() -> Self {
        Self { company: Company::new().await, book: Book::new(day("2026-03-18")) }
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

    /// Sends what was written down; the answer is lost where `lost` says so.
    async fn send(&mut self, asked: &Asked, lost: bool) {
        let Some(call) = asked.call else { return };
        let outgoing = {
            let mut books = self.company.store.read().await.unwrap();
            cards::outgoing(&mut books, call).await.unwrap().unwrap()
        };
        let answer = ask(&mut self.book, &outgoing.key, &outgoing.ask);
        if !lost {
            change(&self.company, async |writing, rules| cards::answer(writing, rules, call, &answer).await)
                .await
                .unwrap();
        }
    }

    /// What the processor told by itself is taken in.
    async fn hear(&mut self) {
        for event in std::mem::take(&mut self.book.waiting) {
            let _ = self.hear_one(&event).await;
        }
    }

    async fn hear_one(&self, event: &Event) -> Result<()> {
        let told = notice(event).unwrap();
        let about = (event.id.as_str(), event.key.as_deref());
        change(&self.company, async |writing, rules| cards::hear(writing, rules, about, &told).await).await
    }

    async fn try_authorize(&mut self, order: OrderId, card: CardId, amount: Option<&str>) -> Result<Asked> {
        let new = NewAuthorization { order, card, amount: amount.map(str::to_owned) };
        change(&self.company, async |writing, rules| cards::authorize(writing, rules, &new).await).await
    }

    async fn authorized(&mut self, order: OrderId, habit: Habit, amount: Option<&str>) -> CardAuthorizationId {
        let card = self.card(0, habit).await;
        let asked = self.try_authorize(order, card, amount).await.unwrap();
        self.send(&asked, false).await;
        asked.authorization
    }

    async fn view(&self, id: CardAuthorizationId) -> CardView {
        let mut books = self.company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        cards::view(&mut books, &rules, id).await.unwrap()
    }

    async fn try_capture(&mut self, id: CardAuthorizationId, amount: Option<&str>) -> Result<Asked> {
        let version = self.view(id).await.version;
        let new = NewCapture { amount: amount.map(str::to_owned), seen: None };
        change(&self.company, async |writing, rules| cards::capture(writing, rules, id, (version, &new)).await).await
    }

    async fn capture(&mut self, id: CardAuthorizationId, amount: Option<&str>) {
        let asked = self.try_capture(id, amount).await.unwrap();
        self.send(&asked, false).await;
    }

    /// The entries of the last capture and of what went back, one after the other: account and amount in base currency.
    async fn entries(&self, id: CardAuthorizationId) -> Vec<Vec<(String, i64)>> {
        let entries = self.view(id).await.entries;
        entries
            .iter()
            .map(|posted| posted.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect())
            .collect()
    }

    /// Work of cards on the day sheet: what is next, and how much.
    async fn work(&self) -> Vec<(Next, i64)> {
        let sheet = day_sheet::day_sheet(&mut *self.company.store.read().await.unwrap(), None).await.unwrap();
        let kinds = [DocumentKind::CardAuthorization, DocumentKind::CardPayout];
        let of_cards = sheet.items.iter().filter(|item| kinds.contains(&item.at.kind));
        of_cards.map(|item| (item.next, item.amount.0)).collect()
    }
}

fn lines(wanted: &[(&str, i64)]) -> Vec<(String, i64)> {
    wanted.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

/// Figures of an entry: what several entries come to by account.
fn sum(entries: &[Vec<(String, i64)>]) -> Vec<(String, i64)> {
    let mut sums = std::collections::BTreeMap::new();
    for (account, amount) in entries.iter().flatten() {
        *sums.entry(account.clone()).or_insert(0) += amount;
    }
    sums.into_iter().filter(|(_, amount)| *amount != 0).collect()
}

fn refused(error: StoreError) -> Vec<Check> {
    match error {
        StoreError::Refused(blockers) => blockers.iter().map(|blocker| blocker.check).collect(),
        other => panic!("{other}"),
    }
}

async fn regime(company: &Company, advance_tax: AdvanceTax) {
    company
        .store
        .change(&by(), None, async |writing| {
            let now = settings::view(writing).await?;
            let new = CompanySettings {
                write_off_tolerance: None,
                version: now.version,
                company: now.company,
                tax_computed: now.tax_computed,
                tax_date: None,
                dates_in_order: None,
                advance_tax: Some(advance_tax),
                hold_until_prepaid: None,
                deposit_use: None,
                fixed_date: now.fixed_date,
            };
            settings::change_company(writing, &new).await
        })
        .await
        .unwrap();
}

/// Row “card captured, invoice open”, then “payout, fee 4.06”.
#[tokio::test]
async fn captured_after_the_invoice_and_found_on_the_payout() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, Some("290.28")).await;
    let view = till.view(id).await;
    assert_eq!((view.row.state, view.row.next), (CardState::Authorized, CardNext::Wait));
    assert!(view.entries.is_empty(), "a promise writes nothing");
    assert_eq!(till.work().await, []);
    let shipment = ship(&till.company, order, &["4", "0"], None).await;
    assert_eq!(till.work().await, [(Next::Capture, 29_028)]);
    till.company.bill(shipment).await;
    assert_eq!(till.work().await, [(Next::Capture, 29_028)]);
    till.capture(id, None).await;
    assert_eq!(till.entries(id).await, [lines(&[("33000", 29_028), ("21000", -29_028)])]);
    assert_eq!(till.view(id).await.row.state, CardState::Captured);
    till.company.holds().await;
    // Told once more of what was answered: nothing happens twice.
    till.hear().await;
    assert_eq!(till.view(id).await.captures.len(), 1);
    till.book.pay_out();
    till.hear().await;
    assert_eq!(till.work().await, [(Next::Book, 28_622)]);
    let mut books = till.company.store.read().await.unwrap();
    let payouts = cards::payouts(&mut books, true, (10, 0)).await.unwrap();
    let payout = payouts.payouts[0].id;
    assert!(cards::payout(&mut books, payout).await.unwrap().lines.iter().all(|line| line.unmatched.is_none()));
    drop(books);
    let wish = BookPayout { method: "transfer".to_owned(), ..BookPayout::default() };
    let number = change(&till.company, async |writing, rules| cards::book_payout(writing, rules, payout, &wish).await);
    assert_eq!(number.await.unwrap(), "CP-1");
    let mut books = till.company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::CardPayout, payout.0).await.unwrap();
    let entry: Vec<_> = entries[0].entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    assert_eq!(entry, lines(&[("31000", 28_622), ("81000", 406), ("33000", -29_028)]));
    drop(books);
    assert_eq!(till.work().await, []);
    let again = change(&till.company, async |writing, rules| cards::book_payout(writing, rules, payout, &wish).await);
    assert_eq!(refused(again.await.unwrap_err()), [Check::CannotCancel]);
    till.company.holds().await;
}

/// Rows “not yet (tax at invoice)” and “not yet (tax at receipt)”: 290.28 is 236.00 and 54.28 of tax.
#[tokio::test]
async fn captured_before_the_invoice_it_is_a_deposit() {
    for (tax, wanted) in [
        (AdvanceTax::AtInvoice, lines(&[("33000", 29_028), ("25000", -29_028)])),
        (AdvanceTax::AtReceipt, lines(&[("33000", 29_028), ("25000", -23_600), ("41000", -5_428)])),
    ] {
        let mut till = Till::new().await;
        regime(&till.company, tax).await;
        let order = till.company.order(0, 4).await;
        let id = till.authorized(order, Habit::Good, Some("290.28")).await;
        till.capture(id, Some("290.28")).await;
        assert_eq!(till.entries(id).await, [wanted]);
        let capture = till.view(id).await.captures[0].clone();
        assert_eq!(capture.document.unwrap().kind, DocumentKind::Deposit);
        till.company.holds().await;
        // It is used by its invoice as any deposit.
        let shipment = ship(&till.company, order, &["4", "1"], None).await;
        till.company.bill(shipment).await;
        till.company.holds().await;
    }
}

/// Row “card refunded” 50.00, then what is left goes; no more than came.
#[tokio::test]
async fn sent_back_to_the_card() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, None).await;
    let shipment = ship(&till.company, order, &["4", "0"], None).await;
    till.company.bill(shipment).await;
    // 22.14 more than the invoice: unapplied.
    till.capture(id, Some("312.42")).await;
    let capture = till.view(id).await.captures[0].clone();
    let refund =
        |amount: &str| NewRefund { amount: Some(amount.to_owned()), reason: "one came broken".to_owned(), seen: None };
    let more =
        change(&till.company, async |writing, rules| cards::refund(writing, rules, capture.id, &refund("50.00")).await);
    assert_eq!(refused(more.await.unwrap_err()), [Check::MoreThanHeld]);
    let receipt = till_core::ids::ReceiptId(capture.document.clone().unwrap().id);
    unapply(&till.company, receipt).await;
    let asked =
        change(&till.company, async |writing, rules| cards::refund(writing, rules, capture.id, &refund("50.00")).await);
    let asked = asked.await.unwrap();
    // The answer is lost: nothing is in the books, and it can be asked again with its key.
    till.send(&asked, true).await;
    assert_eq!(till.work().await[0].0, Next::AskAgain);
    let twice =
        change(&till.company, async |writing, rules| cards::refund(writing, rules, capture.id, &refund("10.00")).await);
    assert_eq!(refused(twice.await.unwrap_err()), [Check::CardNotLive]);
    till.send(&asked, false).await;
    assert_eq!(*till.entries(id).await.last().unwrap(), lines(&[("27000", 5_000), ("33000", -5_000)]));
    assert_eq!(till.view(id).await.captures[0].left, Money(26_242));
    till.hear().await;
    assert_eq!(till.view(id).await.captures[0].returns.len(), 1, "told of again, it is the same");
    till.company.holds().await;
    // Typed in error it was not.
    let wish = receipts::ToReverse { date: None, reason: "wrong".to_owned() };
    let mut books = till.company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let preview = receipts::preview_reverse(&mut books, &rules, receipt, &wish).await.unwrap();
    assert!(preview.blockers.iter().any(|blocker| blocker.sentence.contains("captured from a card")));
}

async fn unapply(company: &Company, receipt: till_core::ids::ReceiptId) {
    let wish = receipts::ToUnapply { reason: "goes back".to_owned(), ..receipts::ToUnapply::default() };
    change(company, async |writing, rules| {
        let preview = receipts::preview_unapply(writing, rules, receipt, &wish).await?;
        let version = receipts::view(writing, receipt).await?.version;
        receipts::unapply(writing, rules, receipt, (version, &preview.fingerprint), &wish).await
    })
    .await
    .unwrap();
}

/// Row “charged back with fee 15.00”: what it settled is open again by what went back, whatever was applied.
#[tokio::test]
async fn charged_back_with_a_fee() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, Some("290.28")).await;
    let shipment = ship(&till.company, order, &["4", "0"], None).await;
    let invoice = till.company.bill(shipment).await;
    till.capture(id, None).await;
    let capture = till.view(id).await.captures[0].clone();
    till.book.waiting.clear();
    till.book.charge_back(&capture.reference, 5_000, "goods not received").unwrap();
    till.hear().await;
    assert_eq!(till.work().await, [(Next::Book, 5_000)]);
    let back = till.view(id).await.captures[0].returns[0].clone();
    assert!(back.charged_back && back.number.is_none());
    let wish = BookReturn::default();
    let preview = cards::preview_return(&till.company.store, &by(), back.id, &wish).await.unwrap();
    let booked = change(&till.company, async |writing, rules| {
        cards::book_return(writing, rules, back.id, &BookReturn { seen: Some(preview.fingerprint), ..wish }).await
    });
    let booked: Vec<Vec<(String, i64)>> = booked
        .await
        .unwrap()
        .entries
        .iter()
        .map(|entry| entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect())
        .collect();
    assert_eq!(sum(&booked), lines(&[("21000", 5_000), ("33000", -6_500), ("81000", 1_500)]));
    let open = till_store::invoices::view(&mut *till.company.store.read().await.unwrap(), invoice).await.unwrap().open;
    assert_eq!(open, Some(Money(5_000)));
    assert_eq!(till.work().await, []);
    till.company.holds().await;
    // The next payout takes it off: 290.28 − 50.00 less 4.06 and 15.00.
    let payout = till.book.pay_out().remove(0);
    assert_eq!((payout.gross, payout.fee, payout.net), (24_028, 1_906, 22_122));
    till.hear().await;
    let id = cards::payouts(&mut *till.company.store.read().await.unwrap(), true, (1, 0)).await.unwrap().payouts[0].id;
    let wish = BookPayout { method: "transfer".to_owned(), ..BookPayout::default() };
    change(&till.company, async |writing, rules| cards::book_payout(writing, rules, id, &wish).await).await.unwrap();
    let mut books = till.company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::CardPayout, id.0).await.unwrap();
    let entry: Vec<_> = entries[0].entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    // Two lines of one customer on card clearing: what came and what went.
    assert_eq!(sum(&[entry]), lines(&[("31000", 22_122), ("33000", -22_528), ("81000", 406)]));
    drop(books);
    till.company.holds().await;
}

/// A deposit that came by card, charged back: the register says it went back, its order asks for nothing of it.
#[tokio::test]
async fn a_deposit_charged_back() {
    let mut till = Till::new().await;
    regime(&till.company, AdvanceTax::AtReceipt).await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, Some("100.00")).await;
    till.capture(id, Some("100.00")).await;
    let capture = till.view(id).await.captures[0].clone();
    till.book.charge_back(&capture.reference, 10_000, "card was stolen").unwrap();
    till.hear().await;
    let back = till.view(id).await.captures[0].returns[0].id;
    change(&till.company, async |writing, rules| {
        cards::book_return(writing, rules, back, &BookReturn::default()).await
    })
    .await
    .unwrap();
    // 100.00 with 23 %: 81.30 and 18.70, as postings.md has it.
    let entry = till.entries(id).await.pop().unwrap();
    assert_eq!(sum(&[entry]), lines(&[("25000", 8_130), ("33000", -11_500), ("41000", 1_870), ("81000", 1_500)]));
    let mut books = till.company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let deposit = deposits::view(&mut books, &rules, till_core::ids::DepositId(capture.document.unwrap().id)).await;
    let row = deposit.unwrap().row;
    assert_eq!((row.held, row.refunded, row.applied), (Money::ZERO, Money(10_000), Money::ZERO));
    drop(books);
    till.company.holds().await;
}

/// No answer, the same key: captured once. The notice may come first, and then answers it.
#[tokio::test]
async fn an_answer_that_is_lost_charges_nothing_twice() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, None).await;
    let asked = till.try_capture(id, Some("100.00")).await.unwrap();
    till.send(&asked, true).await;
    let view = till.view(id).await;
    assert_eq!((view.row.next, view.waits_for.as_deref()), (CardNext::AskAgain, Some("capture")));
    assert_eq!(refused(till.try_capture(id, Some("10.00")).await.unwrap_err()), [Check::CardNotLive]);
    till.send(&asked, false).await;
    assert_eq!(till.view(id).await.row.captured, Money(10_000));
    // Again, and this time the notice comes before the answer.
    let asked = till.try_capture(id, Some("50.00")).await.unwrap();
    till.send(&asked, true).await;
    till.hear().await;
    let view = till.view(id).await;
    assert_eq!((view.row.captured, view.waits_for), (Money(15_000), None));
    let late = change(&till.company, async |writing, rules| {
        let answer = till_core::card::Answer::Refused { words: "too late".to_owned() };
        cards::answer(writing, rules, asked.call.unwrap_or(CardCallId(0)), &answer).await
    });
    assert!(matches!(late.await, Err(StoreError::Unrecorded)));
    till.company.holds().await;
}

/// Twice, out of order, before its time: what the processor tells is taken in once, and the newest counts.
#[tokio::test]
async fn notices_twice_and_out_of_order() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let card = till.card(0, Habit::Good).await;
    let asked = till.try_authorize(order, card, Some("200.00")).await.unwrap();
    till.send(&asked, true).await;
    let authorized = till.book.waiting[0].clone();
    let reference = match &authorized.data {
        till_processor::wire::Happened::Authorization { authorization } => authorization.id.clone(),
        other => panic!("{other:?}"),
    };
    till.book.void("another desk", &reference).unwrap();
    let voided = till.book.waiting[1].clone();
    // It was given up at the processor before we heard that it stands.
    till.hear_one(&voided).await.unwrap();
    assert_eq!(till.view(asked.authorization).await.row.state, CardState::NoAnswer);
    till.hear_one(&authorized).await.unwrap();
    assert_eq!(till.view(asked.authorization).await.row.state, CardState::Voided);
    assert!(matches!(till.hear_one(&voided).await, Err(StoreError::Unrecorded)));
    assert!(matches!(till.hear_one(&authorized).await, Err(StoreError::Unrecorded)));
    assert_eq!(till.view(asked.authorization).await.row.state, CardState::Voided);
    till.company.holds().await;
}

#[tokio::test]
async fn what_cannot_be_is_refused_at_its_field() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let card = till.card(0, Habit::Good).await;
    // The order comes to 312.42 with its freight.
    let more = till.try_authorize(order, card, Some("312.43")).await.unwrap_err();
    assert!(more.to_string().contains("312.42"), "{more}");
    assert_eq!(refused(more), [Check::MoreThanOrder]);
    assert_eq!(refused(till.try_authorize(order, card, Some("0")).await.unwrap_err()), [Check::AmountNotPositive]);
    let other = till.card(1, Habit::Good).await;
    let theirs = till.try_authorize(order, other, None).await.unwrap_err();
    assert!(matches!(theirs, StoreError::Invalid { ref field, .. } if field == "card"));
    let id = till.authorized(order, Habit::Good, Some("300.00")).await;
    assert_eq!(refused(till.try_authorize(order, card, Some("20.00")).await.unwrap_err()), [Check::MoreThanOrder]);
    assert_eq!(refused(till.try_capture(id, Some("300.01")).await.unwrap_err()), [Check::MoreThanAuthorized]);
    assert_eq!(refused(till.try_capture(id, Some("-1")).await.unwrap_err()), [Check::AmountNotPositive]);
    // A card is captured, not typed.
    let typed = deposits::NewDeposit {
        receipt: None,
        customer: till.company.customers[0],
        order: Some(order),
        quote: None,
        method: "card".to_owned(),
        date: None,
        amount: "10.00".to_owned(),
        reference: None,
        memo: None,
    };
    let by_hand = change(&till.company, async |writing, rules| deposits::take(writing, rules, &typed, None).await);
    assert!(matches!(by_hand.await, Err(StoreError::Invalid { ref field, .. }) if field == "method"));
    // Another version.
    let new = NewCapture { amount: Some("1.00".to_owned()), seen: None };
    let stale = change(&till.company, async |writing, rules| cards::capture(writing, rules, id, (99, &new)).await);
    assert!(matches!(stale.await, Err(StoreError::Stale { .. })));
}

/// Declined, another card, voided, expired: each says what is next, and nothing is left on the order.
#[tokio::test]
async fn each_state_has_its_next_step() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let declined = till.authorized(order, Habit::Declined, Some("10.00")).await;
    let view = till.view(declined).await;
    assert_eq!((view.row.state, view.row.next), (CardState::Declined, CardNext::AuthorizeAgain));
    assert_eq!(view.words.as_deref(), Some("The card's bank declined it."));
    assert_eq!(till.work().await, [(Next::AuthorizeAgain, 1_000)]);
    let another = till.authorized(order, Habit::AnotherCard, Some("10.00")).await;
    assert_eq!(till.view(another).await.row.state, CardState::AnotherCard);
    // The last one of an order counts.
    assert_eq!(till.work().await.len(), 1);
    let short = till.authorized(order, Habit::ShortLived, Some("10.00")).await;
    let view = till.view(short).await;
    assert_eq!((view.row.state, view.row.next), (CardState::Expiring, CardNext::ShipSoon));
    assert_eq!(till.work().await, [(Next::ShipSoon, 1_000)]);
    till.hear().await;
    till.book.set_today(day("2026-03-21"));
    till.hear().await;
    assert_eq!(till.view(short).await.row.state, CardState::Expired);
    assert_eq!(refused(till.try_capture(short, Some("1.00")).await.unwrap_err()), [Check::CardNotLive]);
    till.book.set_today(day("2026-03-18"));
    let good = till.authorized(order, Habit::Good, Some("10.00")).await;
    let version = till.view(good).await.version;
    let asked = change(&till.company, async |writing, rules| cards::void(writing, rules, good, version).await);
    let asked = asked.await.unwrap();
    till.send(&asked, false).await;
    assert_eq!(till.view(good).await.row.state, CardState::Voided);
    assert_eq!(till.work().await, []);
    till.company.holds().await;
}

/// An order that is done is not closed while a card stands for it.
#[tokio::test]
async fn an_order_is_not_closed_while_a_card_stands() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, None).await;
    let shipment = ship(&till.company, order, &["4", "1"], None).await;
    till.company.bill(shipment).await;
    till.capture(id, Some("312.00")).await;
    let new = receipts::NewReceipt {
        customer: till.company.customers[0],
        method: "transfer".to_owned(),
        date: None,
        amount: "0.42".to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    till.company.receive(&new).await.unwrap();
    let state = async |till: &Till| {
        orders::view(&mut *till.company.store.read().await.unwrap(), order).await.unwrap().row.state
    };
    assert_eq!(state(&till).await, OrderState::Filled);
    let version = till.view(id).await.version;
    let asked = change(&till.company, async |writing, rules| cards::void(writing, rules, id, version).await);
    let asked = asked.await.unwrap();
    till.send(&asked, false).await;
    assert_eq!(state(&till).await, OrderState::Closed);
    assert_eq!(till.view(id).await.row.state, CardState::Captured);
    till.company.holds().await;
}

/// In pounds: captured at 1.17 as 117.00, paid out at 1.17 less its fee of 1.40; the books carry 117.00.
#[tokio::test]
async fn in_pounds() {
    let mut till = Till::new().await;
    let order = till.company.order(2, 4).await;
    let card = till.card(2, Habit::Good).await;
    let asked = till.try_authorize(order, card, Some("100.00")).await.unwrap();
    till.send(&asked, false).await;
    let id = asked.authorization;
    till.capture(id, Some("100.00")).await;
    assert_eq!(till.entries(id).await[0][0], ("33000".to_owned(), 11_700));
    till.book.set_today(day("2026-03-20"));
    till.book.pay_out();
    till.hear().await;
    let payout =
        cards::payouts(&mut *till.company.store.read().await.unwrap(), true, (1, 0)).await.unwrap().payouts[0].id;
    // From 20 March on a pound is worth 1.15: 98.60 are 113.39, the fee 1.61, 2.00 are lost.
    let wish = BookPayout { method: "transfer".to_owned(), date: Some(day("2026-03-20")), seen: None };
    change(&till.company, async |writing, rules| cards::book_payout(writing, rules, payout, &wish).await)
        .await
        .unwrap();
    let mut books = till.company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::CardPayout, payout.0).await.unwrap();
    let entry: Vec<_> = entries[0].entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
    assert_eq!(entry, lines(&[("31000", 11_339), ("81000", 161), ("33000", -11_700), ("91000", 200)]));
    drop(books);
    till.company.holds().await;
}

/// A payout of what is not in the books, or that does not add up, is not booked; each damage of the books is named.
#[tokio::test]
async fn a_payout_that_does_not_match_is_not_booked() {
    let mut till = Till::new().await;
    let order = till.company.order(0, 4).await;
    let id = till.authorized(order, Habit::Good, None).await;
    till.capture(id, Some("100.00")).await;
    till.book.waiting.clear();
    // Captured at another desk: the books do not know of it.
    let reference = match till.book.authorization("auth_000002") {
        Ok(known) => known.id,
        Err(_) => panic!("the authorization is the second thing the processor named"),
    };
    till.book.capture("another desk", &reference, &till_processor::wire::Amount { amount: 5_000 }).unwrap();
    let unknown = till.book.waiting.pop().unwrap();
    till.book.pay_out();
    till.hear().await;
    let payout =
        cards::payouts(&mut *till.company.store.read().await.unwrap(), true, (1, 0)).await.unwrap().payouts[0].id;
    let wish = BookPayout { method: "transfer".to_owned(), ..BookPayout::default() };
    let book = async |till: &Till| {
        change(&till.company, async |writing, rules| cards::book_payout(writing, rules, payout, &wish).await).await
    };
    assert_eq!(refused(book(&till).await.unwrap_err()), [Check::PayoutUnmatched]);
    // Heard of, it is in the books by itself, and the payout matches.
    till.hear_one(&unknown).await.unwrap();
    assert_eq!(till.view(id).await.captures.len(), 2);
    book(&till).await.unwrap();
    till.company.holds().await;
    assert_eq!(Goes::ways(Money(1), Money(5), Money(5)), [Goes::ToInvoices, Goes::Unapplied]);
}

#[tokio::test]
async fn damage_is_named() {
    for (damage, named) in [
        ("DROP TRIGGER card_captures_keep; UPDATE card_captures SET amount_minor = 9999", "Captured is never above"),
        (
            "DROP TRIGGER card_captures_booked_once; UPDATE card_captures SET payment_id = NULL",
            "Captured is never above",
        ),
        ("UPDATE card_captures SET amount_minor = 99999999", "Captured is never above"),
        (
            "DROP TRIGGER card_returns_booked_once; UPDATE card_returns SET cleared_base_minor = cleared_base_minor + 1",
            "Captured and not paid out equals card clearing",
        ),
        (
            "DROP TRIGGER card_payouts_booked_once; UPDATE card_payouts SET cleared_base_minor = cleared_base_minor - 1",
            "Captured and not paid out equals card clearing",
        ),
        ("DROP TRIGGER card_returns_booked_once; UPDATE card_returns SET sequence = 7", "Numbers have no double"),
    ] {
        let mut till = Till::new().await;
        let order = till.company.order(0, 4).await;
        let id = till.authorized(order, Habit::Good, None).await;
        till.capture(id, Some("100.00")).await;
        let capture = till.view(id).await.captures[0].clone();
        till.book.waiting.clear();
        till.book.charge_back(&capture.reference, 3_000, "card was stolen").unwrap();
        till.book.pay_out();
        till.hear().await;
        let back = till.view(id).await.captures[0].returns[0].id;
        let company = &till.company;
        change(company, async |writing, rules| cards::book_return(writing, rules, back, &BookReturn::default()).await)
            .await
            .unwrap();
        let payout =
            cards::payouts(&mut *company.store.read().await.unwrap(), true, (1, 0)).await.unwrap().payouts[0].id;
        let wish = BookPayout { method: "transfer".to_owned(), ..BookPayout::default() };
        change(company, async |writing, rules| cards::book_payout(writing, rules, payout, &wish).await).await.unwrap();
        company.holds().await;
        let file = company.folder.path().join("books.db");
        let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
        let done = sqlx::raw_sql(damage).execute(&mut raw).await;
        // What a trigger refuses does no damage.
        if !damage.starts_with("DROP") {
            assert!(done.is_err(), "{damage} went through");
            continue;
        }
        done.unwrap();
        let verification = till_store::verify::verify(&mut *company.store.read().await.unwrap()).await.unwrap();
        let broken: Vec<&str> =
            verification.proofs.iter().filter(|proof| !proof.holds).map(|proof| proof.name.as_str()).collect();
        assert!(broken.iter().any(|name| name.starts_with(named)), "{damage}: {broken:?}");
    }
}
