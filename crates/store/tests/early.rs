//! Discounts for early payment and differences within the tolerance, from the invoice to the ledger and back. By hand:
//! 4 × 59.00 = 236.00 net, 54.28 tax, 290.28; 2 % of net and of tax are 4.72 and 1.09, of the total 5.81.

use crate::common::*;
use till_core::checks::Check;
use till_core::ids::{CreditMemoId, CustomerId, DocumentKind, InvoiceId, OpenItemId, PersonId, ReceiptId};
use till_core::money::Money;
use till_core::people::{LimitKind, Role};
use till_core::terms::{DiscountBase, EarlyDiscount, Terms};
use till_store::invoices::{self, CreditLine, ToCredit};
use till_store::people::{self, NewPerson};
use till_store::receipts::{self, NewApplication, NewReceipt, ToReverse, ToUnapply};
use till_store::settings::{self, CompanySettings, NewLimit};
use till_store::{Actor, Result, StoreError, customers, ledger};

/// 2/10 net 30 for the first customer.
async fn early(company: &Company, base: DiscountBase, tax_adjusted: bool) {
    let discount = EarlyDiscount { rate: "0.02".parse().unwrap(), days: 10, base, grace_days: 0, tax_adjusted };
    change(company, async |writing, rules| {
        let id = CustomerId(1);
        let version = customers::view(writing, id).await?.version;
        let mut form = customers::form(writing, rules.base, id).await?;
        form.terms = Terms { discount: Some(discount), ..Terms::net_days(30) };
        customers::save(writing, rules, Some((id, version)), &form).await
    })
    .await
    .unwrap();
}

/// An invoice of 4 × 59.00, dated 18 March.
async fn invoice(company: &Company) -> InvoiceId {
    let order = company.order(0, 4).await;
    let shipment = ship(company, order, &["4", "0"], None).await;
    company.bill(shipment).await
}

fn receipt(amount: &str, applications: Option<Vec<NewApplication>>, date: &str) -> NewReceipt {
    NewReceipt {
        customer: CustomerId(1),
        method: "transfer".to_owned(),
        date: Some(day(date)),
        amount: amount.to_owned(),
        reference: None,
        applications,
        first: None,
        with: Vec::new(),
        currency: None,
    }
}

async fn lines(company: &Company, id: ReceiptId) -> Vec<Vec<(String, i64)>> {
    let mut books = company.store.read().await.unwrap();
    let all = ledger::entries_of(&mut books, DocumentKind::Receipt, id.0).await.unwrap();
    all.iter()
        .map(|one| {
            let mut lines: Vec<_> = one.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
            lines.sort();
            lines
        })
        .collect()
}

fn pairs(lines: &[(&str, i64)]) -> Vec<(String, i64)> {
    lines.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

async fn open(company: &Company) -> Vec<customers::OpenItem> {
    customers::view(&mut company.store.read().await.unwrap(), CustomerId(1)).await.unwrap().open_items
}

fn refused<T: std::fmt::Debug>(outcome: Result<T>) -> (Check, String) {
    match outcome {
        Err(StoreError::Refused(blockers)) => (blockers[0].check, blockers[0].field.clone()),
        other => panic!("{other:?}"),
    }
}

#[tokio::test]
async fn earned_unapplied_and_earned_again() {
    let company = Company::new().await;
    early(&company, DiscountBase::Gross, true).await;
    invoice(&company).await;
    let item = open(&company).await.remove(0);
    let left = item.early.unwrap();
    assert_eq!((left.until, left.amount, item.open), (day("2026-03-28"), Money(581), Money(29_028)));
    // 284.47 is suggested for it with its discount, by itself.
    let posted = company.receive(&receipt("284.47", None, "2026-03-28")).await.unwrap();
    company.holds().await;
    let entry = pairs(&[("21000", -29_028), ("31000", 28_447), ("41000", 109), ("66000", 472)]);
    assert_eq!(lines(&company, posted.id).await, [entry]);
    assert!(open(&company).await.is_empty());
    let view = receipts::view(&mut company.store.read().await.unwrap(), posted.id).await.unwrap();
    assert_eq!((view.applications[0].amount, view.applications[0].discount), (Money(28_447), Money(581)));
    // Unapplied, all of it is open again and the discount is taken back, tax and all.
    let wish =
        ToUnapply { reason: "another invoice was meant".to_owned(), date: Some(day("2026-03-30")), applications: None };
    change(&company, async |writing, rules| {
        let seen = receipts::preview_unapply(writing, rules, posted.id, &wish).await?.fingerprint;
        receipts::unapply(writing, rules, posted.id, (view.version, &seen), &wish).await
    })
    .await
    .unwrap();
    company.holds().await;
    let back = pairs(&[("21000", 29_028), ("27000", -28_447), ("41000", -109), ("66000", -472)]);
    assert_eq!(lines(&company, posted.id).await[1], back);
    assert_eq!(open(&company).await[0].open, Money(29_028));
    // The money came in time: applied on 2 April, it earns the discount still.
    let to = vec![NewApplication::to_item(item.item, "284.47")];
    let new = receipts::NewApplications { date: Some(day("2026-04-02")), applications: Some(to) };
    let version = receipts::view(&mut company.store.read().await.unwrap(), posted.id).await.unwrap().version;
    change(&company, async |writing, rules| receipts::apply(writing, rules, posted.id, version, &new, None).await)
        .await
        .unwrap();
    company.holds().await;
    let again = pairs(&[("21000", -29_028), ("27000", 28_447), ("41000", 109), ("66000", 472)]);
    assert_eq!(lines(&company, posted.id).await[2], again);
    // Reversed as a whole, nothing of it ever came: the discount is gone with it.
    let wish = ToReverse { reason: "returned".to_owned(), date: Some(day("2026-04-03")) };
    let version = version + 1;
    change(&company, async |writing, rules| {
        let seen = receipts::preview_reverse(writing, rules, posted.id, &wish).await?.fingerprint;
        receipts::reverse(writing, rules, posted.id, (version, &seen), &wish).await
    })
    .await
    .unwrap();
    company.holds().await;
    let reversed = pairs(&[("21000", 29_028), ("31000", -28_447), ("41000", -109), ("66000", -472)]);
    assert_eq!(lines(&company, posted.id).await[3], reversed);
}

#[tokio::test]
async fn too_late_too_much_and_by_parts() {
    let company = Company::new().await;
    early(&company, DiscountBase::Gross, false).await;
    invoice(&company).await;
    let item = open(&company).await[0].item;
    let with = |amount: &str, discount: &str| {
        let to = NewApplication { discount: Some(discount.to_owned()), ..NewApplication::to_item(item, amount) };
        Some(vec![to])
    };
    let late = company.receive(&receipt("284.47", with("284.47", "5.81"), "2026-03-29")).await;
    assert_eq!(refused(late), (Check::DiscountNotEarned, "applications.0.discount".to_owned()));
    let more = company.receive(&receipt("284.46", with("284.46", "5.82"), "2026-03-20")).await;
    assert_eq!(refused(more), (Check::DiscountNotEarned, "applications.0.discount".to_owned()));
    let unreadable = company.receive(&receipt("284.47", with("284.47", "five"), "2026-03-20")).await;
    assert!(matches!(unreadable, Err(StoreError::Invalid { field, .. }) if field == "applications.0.discount"));
    // Half of 284.47 earns half of 5.81, rounded: 142.24 earn 2.91; the rest of it 2.90.
    let first = company.receive(&receipt("142.24", with("142.24", "2.91"), "2026-03-20")).await.unwrap();
    assert_eq!(lines(&company, first.id).await, [pairs(&[("21000", -14_515), ("31000", 14_224), ("66000", 291)])]);
    assert_eq!(open(&company).await[0].early.unwrap().amount, Money(290));
    let second = company.receive(&receipt("142.23", None, "2026-03-20")).await.unwrap();
    assert_eq!(lines(&company, second.id).await, [pairs(&[("21000", -14_513), ("31000", 14_223), ("66000", 290)])]);
    company.holds().await;
    assert!(open(&company).await.is_empty());
}

/// What was credited earns nothing: of 4 one is credited, 2 % of 217.71 are 4.35.
#[tokio::test]
async fn a_credit_lowers_the_offer() {
    let company = Company::new().await;
    early(&company, DiscountBase::Gross, false).await;
    let invoice = invoice(&company).await;
    let credit = till_store::invoices::ToCredit {
        lines: vec![till_store::invoices::CreditLine {
            position: 0,
            quantity: Some("1".to_owned()),
            ..Default::default()
        }],
        reason: "one was missing".to_owned(),
        ..Default::default()
    };
    change(&company, async |writing, rules| till_store::invoices::credit(writing, rules, invoice, &credit).await)
        .await
        .unwrap();
    let item = open(&company).await.remove(0);
    assert_eq!((item.open, item.early.unwrap().amount), (Money(21_771), Money(435)));
    company.receive(&receipt("213.36", None, "2026-03-20")).await.unwrap();
    company.holds().await;
    assert!(open(&company).await.is_empty());
}

async fn credit_two(company: &Company, invoice: InvoiceId, date: &str) -> CreditMemoId {
    let two = CreditLine { position: 0, quantity: Some("2".to_owned()), ..CreditLine::default() };
    let wish = ToCredit {
        lines: vec![two],
        date: Some(day(date)),
        reason: "not needed any more".to_owned(),
        ..ToCredit::default()
    };
    let posted = change(company, async |writing, rules| invoices::credit(writing, rules, invoice, &wish).await);
    posted.await.unwrap().credit_memo.unwrap()
}

async fn kept(company: &Company, id: CreditMemoId) -> invoices::KeptCredit {
    invoices::credit_memo(&mut company.store.read().await.unwrap(), id).await.unwrap().kept.unwrap()
}

/// docs/postings.md, Documents. 284.47 were paid of 290.28. Two of four come back: 145.14, of which 145.14 ÷ 290.28 × 5.81 = 2.905, so
/// 2.91, was never paid (2.36 and tax 0.55): 142.23 are kept. The other two take the rest, 2.90: 142.24. Then the check comes back: the
/// discount is gone, the credits are over all of what they credit, and the invoice is open as if nobody had paid.
#[tokio::test]
async fn a_credit_takes_its_part_of_the_discount_along() {
    let company = Company::new().await;
    early(&company, DiscountBase::Gross, true).await;
    let invoice = invoice(&company).await;
    let posted = company.receive(&receipt("284.47", None, "2026-03-20")).await.unwrap();
    let first = credit_two(&company, invoice, "2026-03-21").await;
    company.holds().await;
    let entry = async |id: CreditMemoId| {
        let mut books = company.store.read().await.unwrap();
        let all = ledger::entries_of(&mut books, DocumentKind::CreditMemo, id.0).await.unwrap();
        let lines = |one: &ledger::PostedEntry| {
            let mut lines: Vec<_> = one.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
            lines.sort();
            lines
        };
        all.iter().map(lines).collect::<Vec<_>>()
    };
    assert_eq!(
        entry(first).await,
        [pairs(&[("27000", -14_223), ("41000", -55), ("41000", 2_714), ("65000", 11_800), ("66000", -236)])]
    );
    let what = kept(&company, first).await;
    assert_eq!((what.amount, what.discount, what.open), (Money(14_223), Money(291), Money(14_223)));
    assert!(what.applied.is_empty(), "what it gave up is no use of it");
    let second = credit_two(&company, invoice, "2026-03-22").await;
    company.holds().await;
    assert_eq!(kept(&company, second).await.open, Money(14_224));
    // What it gave up cannot be unapplied by itself, and is not among what is unapplied.
    let version = invoices::credit_memo(&mut company.store.read().await.unwrap(), first).await.unwrap().version;
    let all = ToUnapply { reason: "typed in error".to_owned(), date: Some(day("2026-03-23")), applications: None };
    let refusal = change(&company, async |writing, rules| {
        let seen = receipts::preview_unapply(writing, rules, first, &all).await?.fingerprint;
        receipts::unapply(writing, rules, first, (version, &seen), &all).await
    });
    assert_eq!(refused(refusal.await), (Check::NothingToDo, "applications".to_owned()));
    let view = receipts::view(&mut company.store.read().await.unwrap(), posted.id).await.unwrap();
    let wish = ToReverse { reason: "no funds".to_owned(), date: Some(day("2026-03-25")) };
    change(&company, async |writing, rules| {
        let seen = receipts::preview_reverse(writing, rules, posted.id, &wish).await?.fingerprint;
        receipts::reverse(writing, rules, posted.id, (view.version, &seen), &wish).await
    })
    .await
    .unwrap();
    company.holds().await;
    assert_eq!(open(&company).await[0].open, Money(29_028));
    assert_eq!((kept(&company, first).await.open, kept(&company, second).await.open), (Money(14_514), Money(14_514)));
    assert_eq!(kept(&company, first).await.discount, Money::ZERO);
}

/// By a number, by the customer's own, by a payment reference, by what is open, and by what is open less its discount.
#[tokio::test]
async fn who_paid_is_found_by_what_lies_in_hand() {
    let company = Company::new().await;
    early(&company, DiscountBase::Gross, false).await;
    invoice(&company).await;
    let number = open(&company).await.remove(0).number;
    let found = async |words: &str, amount: Option<&str>| {
        let mut books = company.store.read().await.unwrap();
        let rules = till_store::rules::load(&mut books).await.unwrap();
        let found = receipts::payers(&mut books, &rules, (words, amount)).await.unwrap();
        found
            .into_iter()
            .map(|one| {
                (one.document.number, one.customer.0, one.open.map(|open| open.0), one.early.map(|early| early.0))
            })
            .collect::<Vec<_>>()
    };
    let of = |early| vec![(number.clone(), 1, Some(29_028), early)];
    let reference = till_core::settle::creditor_reference(&number).unwrap();
    assert_eq!(found(&reference, None).await, of(None));
    assert_eq!(found("290.28", Some("290.28")).await, of(None));
    assert_eq!(found("284.47", Some("284.47")).await, of(Some(28_447)));
    assert_eq!(found("284.46", Some("284.46")).await, []);
    assert_eq!(found("x", Some("no amount")).await, []);
    // By both it stands there once.
    let by_both = found(&number, Some("290.28")).await;
    assert_eq!(by_both.iter().filter(|one| one.0 == number).count(), 1, "{by_both:?}");
    let by_number = found(&number.to_lowercase(), None).await;
    assert!(by_number.contains(&(number, 1, Some(29_028), None)), "{by_number:?}");
}

#[tokio::test]
async fn differences_by_tolerance_and_by_limit() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        let hash = "$argon2id$nobody signs in here";
        let (name, role) = ("tess", Role::Clerk);
        people::add(writing, &NewPerson { sign_in: name, name, role, password_hash: hash, must_change: false }).await?;
        let limit = NewLimit { role, kind: LimitKind::WriteOff, amount: Some("5".to_owned()) };
        settings::set_limit(writing, &limit).await
    })
    .await
    .unwrap();
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let write_off = |item: OpenItemId, amount: &str, difference: &str| {
        let to = NewApplication { write_off: Some(difference.to_owned()), ..NewApplication::to_item(item, amount) };
        receipt(amount, Some(vec![to]), "2026-03-20")
    };
    // Within the tolerance of 0.05 it is suggested.
    invoice(&company).await;
    let little = company.receive(&receipt("290.25", None, "2026-03-20")).await.unwrap();
    assert_eq!(lines(&company, little.id).await, [pairs(&[("21000", -29_028), ("31000", 29_025), ("82000", 3)])]);
    invoice(&company).await;
    let much = company.receive(&receipt("290.30", None, "2026-03-20")).await.unwrap();
    assert_eq!(lines(&company, much.id).await, [pairs(&[("21000", -29_028), ("31000", 29_030), ("69000", -2)])]);
    company.holds().await;
    // A clerk may write off 5.00, not 5.01; nobody keeps more than the tolerance.
    invoice(&company).await;
    let item = open(&company).await[0].item;
    let as_clerk = async |new: NewReceipt| {
        company
            .store
            .change(&clerk, None, async |writing| {
                let rules = till_store::rules::load(writing).await?;
                receipts::post(writing, &rules, &new, None).await
            })
            .await
    };
    let refused_by_limit = as_clerk(write_off(item, "285.27", "5.01")).await;
    assert!(
        matches!(&refused_by_limit, Err(StoreError::NotAllowed(why)) if why.contains("5.01") && why.contains("5.00")),
        "{refused_by_limit:?}"
    );
    assert_eq!(open(&company).await[0].open, Money(29_028), "nothing was written");
    let posted = as_clerk(write_off(item, "285.28", "5.00")).await.unwrap();
    assert_eq!(lines(&company, posted.id).await, [pairs(&[("21000", -29_028), ("31000", 28_528), ("82000", 500)])]);
    invoice(&company).await;
    let item = open(&company).await[0].item;
    let kept = company.receive(&write_off(item, "290.38", "-0.10")).await;
    assert_eq!(refused(kept), (Check::MoreThanTolerance, "applications.0.write_off".to_owned()));
    company.holds().await;
    // The company decides how much: with a tolerance of 1.00, 0.10 too much are kept.
    change(&company, async |writing, _| {
        let now = settings::view(writing).await?;
        let new = CompanySettings {
            version: now.version,
            company: now.company.clone(),
            tax_computed: now.tax_computed,
            tax_date: None,
            dates_in_order: None,
            advance_tax: None,
            deposit_use: None,
            hold_until_prepaid: None,
            write_off_tolerance: Some("1".to_owned()),
            fixed_date: now.fixed_date,
        };
        settings::change_company(writing, &new).await
    })
    .await
    .unwrap();
    let kept = company.receive(&write_off(item, "290.38", "-0.10")).await.unwrap();
    assert_eq!(lines(&company, kept.id).await, [pairs(&[("21000", -29_028), ("31000", 29_038), ("69000", -10)])]);
    company.holds().await;
}
