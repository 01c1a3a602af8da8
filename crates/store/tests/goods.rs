//! Orders, stock and shipments as the store keeps them: what is refused, what is given back, and
//! that the books hold after each.

use crate::common::*;
use sqlx::{ConnectOptions, Connection, Executor};
use till_core::calendar::Terms;
use till_core::checks::Check;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, OrderId, PersonId, ShipmentId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_core::people::{LimitKind, Role};
use till_core::shipment::CostEntry;
use till_core::treatment::{Taxed, Treatment};
use till_store::call_offs::{self, CallOffForm, CallOffLineForm};
use till_store::containers::{self, BroughtBack};
use till_store::customers::{Contact, CustomerForm};
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::items::ItemForm;
use till_store::marks::{NewCode, NewList};
use till_store::orders::{self, LineForm, Lineage, OrderForm, ToCancel};
use till_store::prices::{self, NewPromotion};
use till_store::quotes::{self, Acceptance, QuoteForm};
use till_store::settings::{self, NewLimit};
use till_store::shipments::{self, PickForm, ShipmentForm, TakeBack};
use till_store::stock::{self, NewCount};
use till_store::{Actor, Result, StoreError, approvals, customers, invoices, items, ledger, people, rules};

/// One change of the program, with the rules at hand.
macro_rules! doing {
    ($company:expr, |$writing:ident, $rules:ident| $body:expr) => {
        doing!(by(), $company, |$writing, $rules| $body)
    };
    ($actor:expr, $company:expr, |$writing:ident, $rules:ident| $body:expr) => {
        $company
            .store
            .change(&$actor, None, async |$writing| {
                #[allow(unused_variables)]
                let $rules = rules::load($writing).await?;
                $body.await
            })
            .await
    };
}

fn line(item: &str, quantity: &str) -> LineForm {
    LineForm { item: item.to_owned(), quantity: quantity.to_owned(), ..LineForm::default() }
}

fn form(customer: CustomerId, lines: Vec<LineForm>) -> OrderForm {
    OrderForm { customer, lines, ..OrderForm::default() }
}

async fn enter(company: &Company, form: &OrderForm) -> Result<OrderId> {
    doing!(company, |w, rules| orders::enter_form(w, &rules, form, Lineage::default()))
}

async fn confirmed(company: &Company, customer: usize, lines: Vec<LineForm>) -> OrderId {
    let order = enter(company, &form(company.customers[customer], lines)).await.unwrap();
    doing!(company, |w, rules| orders::confirm_as(w, &rules, order, None, "")).unwrap();
    order
}

async fn view(company: &Company, order: OrderId) -> orders::OrderView {
    orders::view(&mut company.store.read().await.unwrap(), order).await.unwrap()
}

async fn posted(company: &Company, order: OrderId, quantity: &str) -> Result<ShipmentId> {
    let order_line = view(company, order).await.lines[0].id;
    let typed =
        ShipmentForm { lines: vec![PickForm { order_line, quantity: quantity.to_owned() }], ..ShipmentForm::default() };
    doing!(company, |w, rules| async {
        let shipment = shipments::start(w, &rules, order, Some(&typed)).await?;
        shipments::post(w, &rules, shipment, None, day("2026-03-18")).await
    })
}

async fn balance(company: &Company, account: &str) -> Money {
    let mut connection = company.store.read().await.unwrap();
    let shown = ledger::trial_balance(&mut connection, day("2026-12-31")).await.unwrap();
    shown.accounts.iter().find(|row| row.number == account).map(|row| row.balance).unwrap_or_default()
}

/// The checks that were refused, or the field that was.
fn refused<T: std::fmt::Debug>(result: Result<T>) -> Vec<String> {
    match result.unwrap_err() {
        StoreError::Refused(blockers) => blockers.iter().map(|one| format!("{:?} {}", one.check, one.field)).collect(),
        StoreError::Invalid { field, .. } => vec![field],
        other => vec![format!("{other:?}").split(['(', ' ']).next().unwrap().to_owned()],
    }
}

#[tokio::test]
async fn an_amendment_never_goes_below_what_has_shipped() {
    let company = Company::new().await;
    let order = confirmed(&company, 0, vec![line("A", "60"), line("FRT", "1")]).await;
    let shipment = posted(&company, order, "40").await.unwrap();
    let before = view(&company, order).await;
    let mut typed = before.form.clone();
    typed.lines[0].quantity = "39".to_owned();
    let said = refused(doing!(company, |w, rules| orders::change(w, &rules, order, before.version, &typed)));
    assert_eq!(said, [format!("{:?} lines.0.quantity", Check::LessThanShipped)]);
    // Nor is a line taken off that has shipped.
    let mut without = before.form.clone();
    without.lines.remove(0);
    assert!(
        !refused(doing!(company, |w, rules| orders::change(w, &rules, order, before.version, &without))).is_empty()
    );
    assert_eq!(view(&company, order).await.version, before.version);

    // Down to what has shipped it may go, and then nothing of it is left to ship or reserved.
    typed.lines[0].quantity = "40".to_owned();
    let version = doing!(company, |w, rules| orders::change(w, &rules, order, before.version, &typed)).unwrap().version;
    let after = view(&company, order).await;
    assert_eq!((after.version, after.lines[0].allocated), (version, Quantity::ZERO));
    assert_eq!(
        refused(doing!(company, |w, rules| orders::change(w, &rules, order, before.version, &typed))),
        ["Stale"],
        "whoever saw the old version is told"
    );
    // The rest is cancelled with a reason, not without.
    let mut rest = ToCancel { version, line: None, quantity: None, reason: " ".to_owned() };
    assert_eq!(refused(doing!(company, |w, rules| orders::cancel(w, order, &rest))), ["reason"]);
    rest.reason = "wanted no freight".to_owned();
    doing!(company, |w, rules| orders::cancel(w, order, &rest)).unwrap();
    let seen = view(&company, order).await;
    assert_eq!((seen.row.state.word(), seen.can_ship), ("open", 0), "only to be billed");
    company.bill(shipment).await;
    assert_eq!(view(&company, order).await.row.state.word(), "filled");
    company.holds().await;
}

#[tokio::test]
async fn no_more_leaves_than_was_ordered_and_the_tolerance_allows() {
    let company = Company::new().await;
    let view_of = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap();
    let tolerant = ItemForm { over: "10".to_owned(), ..view_of.form.clone() };
    doing!(company, |w, rules| items::save(w, Some((company.items[0], view_of.version)), &tolerant)).unwrap();
    let order = confirmed(&company, 0, vec![line("A", "20"), line("B", "20")]).await;
    assert!(!refused(posted(&company, order, "22.0001").await).is_empty());
    let shipment = posted(&company, order, "22").await.unwrap();
    let seen = view(&company, order).await;
    assert_eq!(seen.lines[0].progress.shipped, Quantity::from_whole(22));
    assert_eq!(seen.lines[0].back_ordered, Quantity::ZERO);
    // What left beyond the order is billed too.
    let invoice = company.bill(shipment).await;
    let billed = invoices::view(&mut company.store.read().await.unwrap(), invoice).await.unwrap();
    assert_eq!(billed.document.unwrap().lines[0].quantity, Quantity::from_whole(22));
    company.holds().await;
}

#[tokio::test]
async fn two_who_want_the_last_one_do_not_both_get_it() {
    let company = Company::new().await;
    let mut people = Vec::new();
    for _ in 0..6 {
        people.push(enter(&company, &form(company.customers[0], vec![line("A", "300")])).await.unwrap());
    }
    // 1,000 are there: three orders of 300, a part of a fourth, whoever comes first.
    let confirming = people.iter().map(|order| {
        let (store, order) = (company.store.clone(), *order);
        tokio::spawn(async move {
            store
                .change(&by(), None, async |w| {
                    let rules = rules::load(w).await?;
                    orders::confirm_as(w, &rules, order, None, "").await
                })
                .await
        })
    });
    for one in confirming.collect::<Vec<_>>() {
        one.await.unwrap().unwrap();
    }
    let mut aside = Vec::new();
    for order in &people {
        aside.push(view(&company, *order).await.lines[0].allocated);
    }
    aside.sort_unstable();
    assert_eq!(aside, [0, 0, 100, 300, 300, 300].map(Quantity::from_whole));
    // Who comes late is told that nothing is free, and what was let go is there for another.
    let (mut empty, mut full) = (None, None);
    for order in &people {
        let seen = view(&company, *order).await;
        if seen.lines[0].allocated.is_zero() {
            empty = Some(*order);
        } else if seen.lines[0].allocated == Quantity::from_whole(300) {
            full = Some(seen.lines[0].id);
        }
    }
    let (empty, full) = (empty.unwrap(), full.unwrap());
    assert_eq!(refused(doing!(company, |w, rules| stock::allocate(w, empty))), ["WrongState"]);
    doing!(company, |w, rules| stock::let_go(w, full)).unwrap();
    doing!(company, |w, rules| stock::allocate(w, empty)).unwrap();
    assert_eq!(view(&company, empty).await.lines[0].allocated, Quantity::from_whole(300));
    company.holds().await;
}

#[tokio::test]
async fn a_shipment_is_taken_back_only_while_nothing_of_it_is_billed() {
    let company = Company::new().await;
    let order = confirmed(&company, 0, vec![line("A", "340")]).await;
    let before = (balance(&company, "11000").await, balance(&company, "71000").await);
    // It empties the first layer and takes seven of the second.
    let shipment = posted(&company, order, "340").await.unwrap();
    assert_ne!(balance(&company, "11000").await, before.0);
    let shown = |id| {
        let company = &company;
        async move { shipments::view(&mut company.store.read().await.unwrap(), id).await.unwrap() }
    };
    let version = shown(shipment).await.version;
    let back = TakeBack { version, date: None, reason: "sent to the wrong door".to_owned() };
    // On a draft it stays.
    let to_bill = company.to_bill(shipment).await;
    let draft = doing!(company, |w, rules| invoices::make_drafts(w, &rules, &to_bill)).unwrap()[0];
    assert!(!refused(doing!(company, |w, rules| shipments::take_back(w, &rules, shipment, &back))).is_empty());
    let draft_version = invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap().version;
    doing!(company, |w, rules| invoices::drop_draft(w, draft, draft_version)).unwrap();
    let silent = TakeBack { reason: String::new(), ..back.clone() };
    assert_eq!(refused(doing!(company, |w, rules| shipments::take_back(w, &rules, shipment, &silent))), ["reason"]);
    doing!(company, |w, rules| shipments::take_back(w, &rules, shipment, &back)).unwrap();
    assert_eq!((balance(&company, "11000").await, balance(&company, "71000").await), before, "the very cost came back");
    let seen = shown(shipment).await;
    assert_eq!(seen.taken_back.unwrap().reason, "sent to the wrong door");
    assert_eq!(view(&company, order).await.lines[0].allocated, Quantity::from_whole(340), "it stays reserved");
    // Twice it does not come back; once billed it does not at all.
    assert_eq!(
        refused(doing!(company, |w, rules| shipments::take_back(w, &rules, shipment, &back))).len(),
        1,
        "taken back already"
    );
    let again = posted(&company, order, "340").await.unwrap();
    company.bill(again).await;
    let billed = TakeBack { version: shown(again).await.version, ..back };
    assert!(!refused(doing!(company, |w, rules| shipments::take_back(w, &rules, again, &billed))).is_empty());
    company.holds().await;
}

#[tokio::test]
async fn cost_may_follow_billing_to_the_last_cent() {
    let company = Company::new().await;
    let now = goods_settings::view(&mut company.store.read().await.unwrap()).await.unwrap();
    let following = NewGoodsSettings {
        warehouse: now.warehouse,
        cost_entry: CostEntry::AtBilling,
        clearing_days: now.clearing_days,
        freight_item: "FRT".to_owned(),
        treatments: Vec::new(),
    };
    doing!(company, |w, rules| goods_settings::change(w, &following)).unwrap();
    let order = confirmed(&company, 0, vec![line("A", "7")]).await;
    let shipment = posted(&company, order, "7").await.unwrap();
    let held = balance(&company, "13000").await;
    assert_eq!(balance(&company, "71000").await, Money::ZERO);
    assert_ne!(held, Money::ZERO, "what has left and is not billed is held");
    company.holds().await;
    // Billed in two parts, the cost of sale is what was held, and nothing stays behind.
    let line = company.lines_of(shipment).await[0];
    for quantity in [Some(Quantity::from_whole(3)), None] {
        let mut to_bill = all_of(&[line]);
        to_bill.picks[0].quantity = quantity;
        doing!(company, |w, rules| invoices::post_picks(w, &rules, &to_bill, None)).unwrap();
        company.holds().await;
    }
    assert_eq!((balance(&company, "13000").await, balance(&company, "71000").await), (Money::ZERO, held));
}

#[tokio::test]
async fn a_short_count_takes_stock_from_the_latest_orders() {
    let company = Company::new().await;
    let first = confirmed(&company, 0, vec![line("A", "600")]).await;
    let last = confirmed(&company, 1, vec![line("A", "400")]).await;
    let count = |counted: &str| NewCount {
        warehouse: None,
        counted: counted.to_owned(),
        unit_cost: None,
        date: None,
        reason: "counted".to_owned(),
    };
    let item = company.items[0];
    let inventory = balance(&company, "11000").await;
    let found = doing!(company, |w, rules| stock::adjust(w, &rules, item, &count("700"))).unwrap();
    assert_eq!(found, Quantity::from_whole(-300));
    assert_eq!(view(&company, first).await.lines[0].allocated, Quantity::from_whole(600));
    assert_eq!(view(&company, last).await.lines[0].allocated, Quantity::from_whole(100));
    assert_eq!(inventory - balance(&company, "11000").await, balance(&company, "73000").await);
    company.holds().await;
    assert_eq!(refused(doing!(company, |w, rules| stock::adjust(w, &rules, item, &count("-1")))), ["counted"]);
    let silent = NewCount { reason: String::new(), ..count("800") };
    assert_eq!(refused(doing!(company, |w, rules| stock::adjust(w, &rules, item, &silent))), ["reason"]);
    doing!(company, |w, rules| stock::adjust(w, &rules, item, &count("900"))).unwrap();
    company.holds().await;
}

#[tokio::test]
async fn a_call_off_gives_its_price_until_it_is_used_up() {
    let company = Company::new().await;
    let agreed = CallOffForm {
        customer: company.customers[0],
        customer_order_number: None,
        first: day("2026-03-01"),
        last: day("2026-06-30"),
        lines: vec![CallOffLineForm { item: "A".to_owned(), agreed: "100".to_owned(), price: "50".to_owned() }],
    };
    let backwards = CallOffForm { last: day("2026-02-01"), ..agreed.clone() };
    assert_eq!(refused(doing!(company, |w, rules| call_offs::enter(w, &backwards))), ["last"]);
    let call_off = doing!(company, |w, rules| call_offs::enter(w, &agreed)).unwrap();
    let from =
        |quantity| OrderForm { call_off: Some(call_off), ..form(company.customers[0], vec![line("A", quantity)]) };
    let order = enter(&company, &from("60")).await.unwrap();
    assert_eq!(view(&company, order).await.row.net, Money(300_000));
    assert_eq!(
        refused(enter(&company, &from("40.5")).await),
        [format!("{:?} lines.0.quantity", Check::MoreThanCalledOff)]
    );
    enter(&company, &from("40")).await.unwrap();
    let left = call_offs::view(&mut company.store.read().await.unwrap(), call_off, day("2026-03-18")).await.unwrap();
    assert_eq!(left.lines[0].left, Quantity::ZERO);
    // What is cancelled may be called off again.
    let cancel =
        ToCancel { version: view(&company, order).await.version, line: None, quantity: None, reason: "no need".into() };
    doing!(company, |w, rules| orders::cancel(w, order, &cancel)).unwrap();
    enter(&company, &from("60")).await.unwrap();
    company.holds().await;
}

#[tokio::test]
async fn a_quote_for_a_stranger_waits_for_the_customer_and_keeps_its_prices() {
    let company = Company::new().await;
    let contact = Contact {
        id: None,
        name: "Ada Moor".to_owned(),
        company: "Moor Hives".to_owned(),
        email: String::new(),
        phone: String::new(),
        role: String::new(),
        active: true,
    };
    let contact = doing!(company, |w, rules| customers::set_contact(w, None, &contact)).unwrap();
    let offered = QuoteForm {
        order: OrderForm { contact: Some(contact), lines: vec![line("A", "10")], ..OrderForm::default() },
        valid_until: None,
        asks: till_core::acceptance::QuoteAsks::Nothing,
        asks_percent: None,
    };
    let quote = doing!(company, |w, rules| quotes::save(w, &rules, None, &offered)).unwrap();
    let word = Acceptance { version: 1, customer: None, customer_order_number: Some("AM 1".to_owned()) };
    assert_eq!(refused(doing!(company, |w, rules| quotes::accept(w, &rules, quote, &word))), ["customer"]);
    // The list price goes up in the meantime; the quote holds.
    let item = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap();
    let dearer = ItemForm { list_price: "99".to_owned(), ..item.form };
    doing!(company, |w, rules| items::save(w, Some((company.items[0], item.version)), &dearer)).unwrap();
    let named = Acceptance { customer: Some(company.customers[1]), ..word };
    let order = doing!(company, |w, rules| quotes::accept(w, &rules, quote, &named)).unwrap();
    let seen = view(&company, order).await;
    assert_eq!(seen.row.net, Money(59_000));
    assert_eq!(seen.form.customer_order_number.as_deref(), Some("AM 1"));
    assert!(seen.from.iter().any(|one| one.number.starts_with("Q-")), "{:?}", seen.from);
    assert_eq!(refused(doing!(company, |w, rules| quotes::accept(w, &rules, quote, &named))).len(), 1, "once only");
    company.holds().await;
}

#[tokio::test]
async fn who_is_whose_parent_goes_in_no_circle_and_codes_are_no_ones_twice() {
    let company = Company::new().await;
    let eur = Currency::of("EUR").unwrap();
    let load = async |at: usize| {
        let mut connection = company.store.read().await.unwrap();
        let version = customers::view(&mut connection, company.customers[at]).await.unwrap().version;
        (customers::form(&mut connection, eur, company.customers[at]).await.unwrap(), version)
    };
    let keep = async |at: usize, change: &dyn Fn(&mut CustomerForm)| {
        let (mut typed, version) = load(at).await;
        change(&mut typed);
        let id = Some((company.customers[at], version));
        doing!(company, |w, rules| customers::save(w, &rules, id, &typed))
    };
    keep(0, &|typed| typed.parent = "2".to_owned()).await.unwrap();
    assert_eq!(refused(keep(1, &|typed| typed.parent = "1".to_owned()).await), ["parent"]);
    assert_eq!(refused(keep(1, &|typed| typed.parent = "2".to_owned()).await), ["parent"]);
    assert_eq!(refused(keep(1, &|typed| typed.number = "1".to_owned()).await), ["number"]);
    assert_eq!(refused(keep(1, &|typed| typed.number = String::new()).await), ["number"]);
    assert_eq!(refused(keep(1, &|typed| typed.credit_limit = "-1".to_owned()).await), ["credit_limit"]);
    keep(1, &|typed| typed.terms = Terms::net_days(14)).await.unwrap();

    let item = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap().form;
    assert_eq!(refused(doing!(company, |w, rules| items::save(w, None, &item))), ["code"]);
    let lower = ItemForm { code: "a".to_owned(), ..item };
    assert_eq!(refused(doing!(company, |w, rules| items::save(w, None, &lower))), ["code"], "A and a are one code");
}

#[tokio::test]
async fn a_promotion_that_has_ended_does_not_count_and_is_not_confirmed() {
    let company = Company::new().await;
    let mut spring = NewPromotion {
        code: "SPRING".to_owned(),
        name: "spring".to_owned(),
        first: day("2026-03-01"),
        last: day("2026-03-18"),
        item: "A".to_owned(),
        class: String::new(),
        off: "10".to_owned(),
    };
    doing!(company, |w, rules| prices::set_promotion(w, &spring)).unwrap();
    let order = enter(&company, &form(company.customers[0], vec![line("A", "10")])).await.unwrap();
    assert_eq!(view(&company, order).await.row.net, Money(53_100));
    spring.last = day("2026-03-10");
    doing!(company, |w, rules| prices::set_promotion(w, &spring)).unwrap();
    let said = refused(doing!(company, |w, rules| orders::confirm_as(w, &rules, order, None, "")));
    assert_eq!(said, [format!("{:?} lines.0.promotion", Check::PriceNotMade)]);
    // Named on a line it is refused where it was typed.
    let named = LineForm { promotion: Some("SPRING".to_owned()), ..line("A", "10") };
    let said = refused(enter(&company, &form(company.customers[0], vec![named])).await);
    assert!(said[0].contains("lines.0.promotion"), "{said:?}");
    // Made anew the price is today's, and the order is confirmed.
    let seen = view(&company, order).await;
    let anew = OrderForm { reprice: true, ..seen.form };
    doing!(company, |w, rules| orders::change(w, &rules, order, seen.version, &anew)).unwrap();
    doing!(company, |w, rules| orders::confirm_as(w, &rules, order, None, "")).unwrap();
    assert_eq!(view(&company, order).await.row.net, Money(59_000));
}

#[tokio::test]
async fn containers_are_charged_kept_count_of_and_given_back() {
    let company = Company::new().await;
    let drum = ItemForm {
        code: "DRUM".to_owned(),
        name: "Drum".to_owned(),
        kind: ItemKind::Packaging,
        class: "packaging".to_owned(),
        unit: "pc".to_owned(),
        units: Vec::new(),
        list_price: "9".to_owned(),
        tax_code: "O0".to_owned(),
        minimum: String::new(),
        step: String::new(),
        over: String::new(),
        surcharge: String::new(),
        surcharge_name: String::new(),
        share_ahead: String::new(),
        container: String::new(),
        active: true,
    };
    let zero = till_core::fixed::Rate::ZERO;
    doing!(company, |w, rules| async {
        till_store::setup::tax_code(w, "O0", "No sale", till_core::tax::TaxCategory::O, day("2020-01-01"), zero)
            .await?;
        items::save(w, None, &drum).await
    })
    .unwrap();
    let item = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap();
    let filled = ItemForm { container: "DRUM".to_owned(), ..item.form };
    doing!(company, |w, rules| items::save(w, Some((company.items[0], item.version)), &filled)).unwrap();
    let order = confirmed(&company, 0, vec![line("A", "5")]).await;
    let shipment = doing!(company, |w, rules| async {
        let shipment = shipments::start(w, &rules, order, None).await?;
        shipments::post(w, &rules, shipment, None, day("2026-03-18")).await
    })
    .unwrap();
    company.bill(shipment).await;
    assert_eq!(balance(&company, "29000").await, Money(-4_500), "what is to be given back is owed, not earned");
    let customer = company.customers[0];
    let back = |quantity: &str| BroughtBack { item: "DRUM".to_owned(), quantity: quantity.to_owned(), date: None };
    let said = refused(doing!(company, |w, rules| containers::take_back(w, &rules, customer, &back("6"), None)));
    assert_eq!(said, ["quantity"]);
    for quantity in ["2", "3"] {
        doing!(company, |w, rules| containers::take_back(w, &rules, customer, &back(quantity), None)).unwrap();
        company.holds().await;
    }
    assert_eq!(balance(&company, "29000").await, Money::ZERO);
    let left = containers::balance(&mut company.store.read().await.unwrap(), customer).await.unwrap();
    assert_eq!((left[0].sent, left[0].there), (Quantity::from_whole(5), Quantity::ZERO));
}

#[tokio::test]
async fn an_order_over_the_limit_waits_for_who_may_say_yes() {
    let company = Company::new().await;
    let hash = "$argon2id$nobody signs in here";
    doing!(company, |w, rules| async {
        for (sign_in, role) in [("tess", Role::Clerk), ("lee", Role::Lead)] {
            let new = people::NewPerson { sign_in, name: sign_in, role, password_hash: hash, must_change: false };
            people::add(w, &new).await?;
        }
        let limit = NewLimit { role: Role::Clerk, kind: LimitKind::Order, amount: Some("1000".to_owned()) };
        settings::set_limit(w, &limit).await
    })
    .unwrap();
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let lead = Actor::person(PersonId(2), "lee", Role::Lead, "here", by().at);
    let order = enter(&company, &form(company.customers[0], vec![line("A", "20")])).await.unwrap();
    let said = refused(doing!(clerk, company, |w, rules| orders::confirm_as(w, &rules, order, None, "")));
    assert_eq!(said, ["reason"], "asking takes a reason");
    let asked =
        doing!(clerk, company, |w, rules| orders::confirm_as(w, &rules, order, None, "a good customer")).unwrap();
    let approval = asked.waits.unwrap();
    assert_eq!(view(&company, order).await.row.state.word(), "draft", "until then nothing is reserved");
    // 20 were asked for. The draft that says 400 by the time the lead looks is another order.
    let viewer = approvals::Viewer { person: PersonId(2), role: Role::Lead };
    let enlarged = form(company.customers[0], vec![line("A", "400")]);
    doing!(clerk, company, |w, rules| orders::change(w, &rules, order, 1, &enlarged)).unwrap();
    let refused = doing!(lead, company, |w, rules| approvals::approve(w, &rules, approval, viewer)).unwrap_err();
    assert!(refused.to_string().contains("has changed since it was asked for"), "{refused}");
    assert_eq!(view(&company, order).await.row.state.word(), "draft");
    let as_asked = form(company.customers[0], vec![line("A", "20")]);
    doing!(clerk, company, |w, rules| orders::change(w, &rules, order, 2, &as_asked)).unwrap();
    doing!(lead, company, |w, rules| approvals::approve(w, &rules, approval, viewer)).unwrap();
    let seen = view(&company, order).await;
    assert_eq!((seen.row.state.word(), seen.lines[0].allocated), ("open", Quantity::from_whole(20)));
    // An amendment asked for is of the order as it was then. Someone amends it meanwhile: it is asked for anew.
    let amended = async |quantity: &str| {
        let mut form = orders::form(&mut company.store.read().await.unwrap(), order).await.unwrap();
        form.lines[0].quantity = quantity.to_owned();
        form
    };
    let version = async || view(&company, order).await.version;
    let (forty, seen) = (amended("40").await, version().await);
    let asked = doing!(clerk, company, |w, rules| orders::change(w, &rules, order, seen, &forty)).unwrap();
    let (twentyone, seen) = (amended("21").await, version().await);
    doing!(company, |w, rules| orders::change(w, &rules, order, seen, &twentyone)).unwrap();
    let approval = asked.waits.unwrap();
    let refused = doing!(lead, company, |w, rules| approvals::approve(w, &rules, approval, viewer)).unwrap_err();
    assert!(refused.to_string().contains("has changed since it was asked for"), "{refused}");
    assert_eq!(view(&company, order).await.lines[0].progress.ordered, Quantity::from_whole(21));
    company.holds().await;
}

/// Ten at 100.00; five left on 12 March for the home ship-to with 23 %; the rest is redirected abroad. The five
/// are billed with 115.00 of tax, the others, shipped later, with none. On 627e442 both came to 0.00.
#[tokio::test]
async fn goods_that_have_left_keep_their_tax() {
    let company = Company::new().await;
    let customer = company.customers[0];
    let abroad = doing!(company, |w, rules| async {
        let zero = till_core::fixed::Rate::ZERO;
        till_store::setup::tax_code(w, "G0", "Export", till_core::tax::TaxCategory::G, day("2020-01-01"), zero).await?;
        let export = goods_settings::TreatmentCode { treatment: Treatment::Export, tax_code: Some("G0".to_owned()) };
        goods_settings::set_treatment(w, &export).await?;
        let taxed = Taxed { treatment: Treatment::Export, certificate: None, until: None };
        let place = customers::ShipTo {
            id: None,
            code: "ABROAD".to_owned(),
            name: "Over the sea".to_owned(),
            address: "2 Test Road".to_owned(),
            country: "XB".to_owned(),
            taxed,
            active: true,
        };
        customers::set_ship_to(w, customer, &place).await
    })
    .unwrap();
    let typed =
        LineForm { unit_price: Some("100".to_owned()), price_reason: Some("agreed".to_owned()), ..line("A", "10") };
    let order = confirmed(&company, 0, vec![typed]).await;
    let first = posted(&company, order, "5").await.unwrap();
    let before = view(&company, order).await;
    let redirected = OrderForm { ship_to: Some(abroad), ..before.form };
    doing!(company, |w, rules| orders::change(w, &rules, order, before.version, &redirected)).unwrap();
    let second = posted(&company, order, "5").await.unwrap();
    let taxed = async |shipment| {
        let id = company.bill(shipment).await;
        let shown = invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap();
        let document = shown.document.unwrap();
        (document.net, document.tax, document.taxes[0].rate.code.clone())
    };
    assert_eq!(taxed(first).await, (Money(50_000), Money(11_500), "S23".to_owned()));
    assert_eq!(taxed(second).await, (Money(50_000), Money::ZERO, "G0".to_owned()));
    company.holds().await;
}

/// A line that is sold for a project carries it on revenue and cost, in the ledger, as a row of its own that a
/// report finds; nothing changes it, and where it is missing it is seen.
#[tokio::test]
async fn reporting_codes_are_rows_beside_their_ledger_lines() {
    let company = Company::new().await;
    let code = |code: &str| NewCode { code: code.to_owned(), name: format!("project {code}") };
    let list = NewList {
        key: "project".to_owned(),
        name: "Projects".to_owned(),
        codes: vec![code("P1"), code("P2")],
        required_by: vec!["61000".to_owned()],
    };
    doing!(company, |w, rules| till_store::marks::set_list(w, &list)).unwrap();
    let mut typed = form(company.customers[0], vec![line("A", "3")]);
    typed.marks.codes.insert("project".to_owned(), "P2".to_owned());
    let order = enter(&company, &typed).await.unwrap();
    doing!(company, |w, rules| orders::confirm_as(w, &rules, order, None, "")).unwrap();
    let shipment = posted(&company, order, "3").await.unwrap();
    company.bill(shipment).await;
    company.holds().await;
    let mut books = company.store.read().await.unwrap();
    let rows: Vec<(String, i64)> = sqlx::query_as(
        "SELECT account, sum(base_minor) FROM entry_line_codes JOIN entry_lines USING (entry_id, position)
         WHERE list = 'project' AND code = 'P2' GROUP BY account ORDER BY account",
    )
    .fetch_all(&mut *books)
    .await
    .unwrap();
    drop(books);
    // Three at 59.00, and the three at 30.03 that left for them.
    assert_eq!(
        rows,
        [("11000", -9_009), ("61000", -17_700), ("71000", 9_009)].map(|(account, sum)| (account.to_owned(), sum))
    );
    let file = company.folder.path().join("books.db");
    let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(file).connect().await.unwrap();
    let refused = raw.execute("UPDATE entry_line_codes SET code = 'P1'").await.map(|_| ()).unwrap_err().to_string();
    assert!(refused.contains("never changes"), "{refused}");
    raw.execute("DROP TRIGGER entry_line_codes_keep; UPDATE entry_line_codes SET code = 'P1'").await.unwrap();
    raw.close().await.unwrap();
    let proofs = till_store::verify::verify(&mut company.store.read().await.unwrap()).await.unwrap().proofs;
    assert!(proofs.iter().any(|proof| !proof.holds && proof.name.starts_with("Reporting codes")), "{proofs:#?}");
}
