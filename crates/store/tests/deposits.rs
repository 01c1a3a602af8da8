//! Customer deposits on the books: from taking to the ledger and back, with verify after each.

use crate::common::*;
use sqlx::ConnectOptions;
use till_core::acceptance::QuoteAsks;
use till_core::checks::Check;
use till_core::deposit::AdvanceTax;
use till_core::deposit::ending::EndKind;
use till_core::ids::{ApprovalId, CustomerId, DepositId, InvoiceId, OrderId, PersonId, ReceiptId};
use till_core::money::Money;
use till_core::order::OrderState;
use till_core::people::{LimitKind, Role};
use till_store::approvals::{self, Viewer};
use till_store::deposits::{self, DepositView, NewDeposit, NewEnd, ToMove};
use till_store::invoices::{self, DepositWish, ToCancelInvoice};
use till_store::people::{self, NewPerson};
use till_store::quotes::{Acceptance, QuoteForm};
use till_store::receipts::{self, NewApplications, NewReceipt, ToReverse, ToUnapply};
use till_store::settings::{self, CompanySettings, NewLimit};
use till_store::{Actor, Result, StoreError, orders, quotes, rules, shipments};

async fn regime(company: &Company, regime: AdvanceTax) {
    let version = settings::view(&mut *company.store.read().await.unwrap()).await.unwrap();
    let new = CompanySettings {
        write_off_tolerance: None,
        version: version.version,
        company: version.company,
        tax_computed: version.tax_computed,
        tax_date: None,
        dates_in_order: None,
        advance_tax: Some(regime),
        hold_until_prepaid: None,
        deposit_use: None,
        fixed_date: version.fixed_date,
    };
    company.store.change(&by(), None, async |writing| settings::change_company(writing, &new).await).await.unwrap();
}

fn new(customer: CustomerId, order: Option<OrderId>, amount: &str) -> NewDeposit {
    NewDeposit {
        receipt: None,
        customer,
        order,
        quote: None,
        method: "transfer".to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: Some("winter order".to_owned()),
        memo: None,
    }
}

async fn try_take(company: &Company, new: &NewDeposit) -> Result<DepositId> {
    let taken = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = deposits::preview(writing, &rules, new).await?.fingerprint;
            deposits::take(writing, &rules, new, Some(&seen)).await
        })
        .await?;
    Ok(taken.id)
}

async fn take(company: &Company, order: OrderId, amount: &str) -> DepositId {
    try_take(company, &new(company.customers[0], Some(order), amount)).await.unwrap()
}

async fn view(company: &Company, id: DepositId) -> DepositView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    deposits::view(&mut books, &rules, id).await.unwrap()
}

/// Taken, held, applied, refunded, kept.
async fn register(company: &Company, id: DepositId) -> [i64; 5] {
    let row = view(company, id).await.row;
    [row.taken, row.held, row.applied, row.refunded, row.kept].map(|amount| amount.0)
}

async fn end(company: &Company, id: DepositId, kind: EndKind, amount: Option<&str>) -> Result<deposits::Ended> {
    end_as(&by(), company, id, kind, amount).await
}

async fn end_as(
    who: &Actor,
    company: &Company,
    id: DepositId,
    kind: EndKind,
    amount: Option<&str>,
) -> Result<deposits::Ended> {
    let wish = NewEnd {
        kind,
        amount: amount.map(str::to_owned),
        method: (kind == EndKind::Refunded).then(|| "transfer".to_owned()),
        date: None,
        reason: "the order was given up".to_owned(),
    };
    let version = view(company, id).await.version;
    company
        .store
        .change(who, None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = deposits::preview_end(writing, &rules, id, &wish).await?.fingerprint;
            deposits::end(writing, &rules, id, (Some(version), Some(&seen)), &wish).await
        })
        .await
}

async fn open(company: &Company, id: InvoiceId) -> i64 {
    invoices::view(&mut *company.store.read().await.unwrap(), id).await.unwrap().open.unwrap().0
}

async fn state(company: &Company, id: OrderId) -> OrderState {
    orders::view(&mut *company.store.read().await.unwrap(), id).await.unwrap().row.state
}

/// An order of 4 at 59.00 and freight of 18.00: 254.00 and 58.42 tax, 312.42 (postings.md).
#[tokio::test]
async fn a_deposit_is_applied_as_its_order_is_billed() {
    for (tax, due) in [(AdvanceTax::AtInvoice, 5_842), (AdvanceTax::AtReceipt, 4_346)] {
        let company = Company::new().await;
        regime(&company, tax).await;
        let order = company.order(0, 4).await;
        let deposit = take(&company, order, "80.00").await;
        assert_eq!(register(&company, deposit).await, [8_000, 8_000, 0, 0, 0]);
        company.holds().await;
        let shipment = company.ship(order, 4).await;
        let invoice = company.bill(shipment).await;
        assert_eq!(register(&company, deposit).await, [8_000, 0, 8_000, 0, 0]);
        assert_eq!(open(&company, invoice).await, 31_242 - 8_000);
        let shown = invoices::view(&mut *company.store.read().await.unwrap(), invoice).await.unwrap();
        let document = shown.document.unwrap();
        assert_eq!((document.total, document.due, document.deposits.len()), (Money(31_242), Money(23_242), 1));
        let tax: i64 =
            shown.entries[0].entry.lines.iter().filter(|line| line.account == "41000").map(|line| -line.base.0).sum();
        assert_eq!(tax, due);
        company.holds().await;
        // Its rest paid, the order is closed.
        let pay = NewReceipt {
            customer: company.customers[0],
            method: "transfer".to_owned(),
            date: None,
            amount: "232.42".to_owned(),
            reference: None,
            applications: None,
            first: None,
            with: Vec::new(),
            currency: None,
        };
        company.receive(&pay).await.unwrap();
        assert_eq!(state(&company, order).await, OrderState::Closed);
        company.holds().await;
    }
}

#[tokio::test]
async fn an_invoice_with_a_deposit_is_canceled_whatever_stands() {
    for unapplied_before in [false, true] {
        let company = Company::new().await;
        regime(&company, AdvanceTax::AtReceipt).await;
        let order = company.order(0, 4).await;
        let deposit = take(&company, order, "80.00").await;
        let shipment = company.ship(order, 4).await;
        let invoice = company.bill(shipment).await;
        if unapplied_before {
            unapply(&company, deposit).await.unwrap();
            assert_eq!(open(&company, invoice).await, 31_242);
            company.holds().await;
        }
        let wish = ToCancelInvoice { reason: "billed too early".to_owned(), ..ToCancelInvoice::default() };
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                invoices::cancel(writing, &rules, invoice, &wish).await
            })
            .await
            .unwrap();
        assert_eq!(register(&company, deposit).await, [8_000, 8_000, 0, 0, 0]);
        company.holds().await;
        // Billed again, it is applied again.
        let again = company.bill(shipment).await;
        assert_eq!(open(&company, again).await, 23_242);
        company.holds().await;
    }
}

async fn unapply(company: &Company, deposit: DepositId) -> Result<i64> {
    let version = view(company, deposit).await.version;
    let wish = ToUnapply { reason: "for another order".to_owned(), ..ToUnapply::default() };
    let id = ReceiptId(deposit.0);
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = receipts::preview_unapply(writing, &rules, id, &wish).await?.fingerprint;
            receipts::unapply(writing, &rules, id, (version, &seen), &wish).await
        })
        .await
}

#[tokio::test]
async fn unapplied_moved_applied_refunded_and_kept() {
    let company = Company::new().await;
    regime(&company, AdvanceTax::AtReceipt).await;
    let (order, other) = (company.order(0, 4).await, company.order(0, 2).await);
    let deposit = take(&company, order, "80.00").await;
    let shipment = company.ship(order, 4).await;
    let invoice = company.bill(shipment).await;
    let refused = |error: StoreError| match error {
        StoreError::Refused(blockers) => blockers.into_iter().map(|one| one.check).collect::<Vec<_>>(),
        other => panic!("{other:?}"),
    };
    // An applied deposit is frozen: the message says which step frees it.
    assert_eq!(refused(end(&company, deposit, EndKind::Refunded, Some("1")).await.unwrap_err()), [Check::MoreThanHeld]);
    let wish = |order| ToMove { order, reason: "ordered anew".to_owned() };
    let move_it = async |order, version| {
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                deposits::move_to(writing, &rules, deposit, version, &wish(order)).await
            })
            .await
    };
    let version = view(&company, deposit).await.version;
    assert!(matches!(move_it(Some(other), version).await, Err(StoreError::Invalid { .. })));
    let version = unapply(&company, deposit).await.unwrap();
    // Held for the other order, it is none of the first one's.
    let version = move_it(Some(other), version).await.unwrap();
    assert!(matches!(move_it(Some(other), version - 1).await, Err(StoreError::Stale { .. })));
    let apply = async |version| {
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                let all = NewApplications { date: None, applications: None };
                receipts::apply(writing, &rules, ReceiptId(deposit.0), version, &all, None).await
            })
            .await
    };
    assert_eq!(refused(apply(version).await.unwrap_err()), [Check::NothingToDo]);
    let version = move_it(None, version).await.unwrap();
    let version = move_it(Some(order), version).await.unwrap();
    apply(version).await.unwrap();
    assert_eq!((open(&company, invoice).await, view(&company, deposit).await.moves.len()), (23_242, 3));
    company.holds().await;
    unapply(&company, deposit).await.unwrap();
    // In three parts: 30.00 sent back, 20.00 kept, the rest of 30.00 sent back.
    end(&company, deposit, EndKind::Refunded, Some("30")).await.unwrap();
    end(&company, deposit, EndKind::Kept, Some("20.00")).await.unwrap();
    company.holds().await;
    end(&company, deposit, EndKind::Refunded, None).await.unwrap();
    assert_eq!(register(&company, deposit).await, [8_000, 0, 0, 6_000, 2_000]);
    assert!(end(&company, deposit, EndKind::Refunded, None).await.is_err(), "a refund is not made twice");
    assert!(unapply(&company, deposit).await.is_err(), "what was sent back is not unapplied");
    company.holds().await;
}

#[tokio::test]
async fn typed_in_error() {
    let company = Company::new().await;
    regime(&company, AdvanceTax::AtReceipt).await;
    let order = company.order(0, 4).await;
    let deposit = take(&company, order, "80.00").await;
    let reverse = async || {
        let version = view(&company, deposit).await.version;
        let wish = ToReverse { date: None, reason: "typed twice".to_owned() };
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                let seen = deposits::preview_reverse(writing, &rules, deposit, &wish).await?.fingerprint;
                deposits::reverse(writing, &rules, deposit, (version, &seen), &wish).await
            })
            .await
    };
    reverse().await.unwrap();
    assert!(reverse().await.is_err());
    assert_eq!(register(&company, deposit).await, [8_000, 0, 0, 0, 0]);
    // It can be taken again, all of the order of 312.42.
    take(&company, order, "312.42").await;
    company.holds().await;
}

async fn receive(company: &Company, amount: &str) -> ReceiptId {
    let pay = NewReceipt {
        customer: company.customers[0],
        method: "transfer".to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: None,
        applications: Some(Vec::new()),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&pay).await.unwrap().id
}

async fn receipt(company: &Company, id: ReceiptId) -> receipts::ReceiptView {
    receipts::view(&mut *company.store.read().await.unwrap(), id).await.unwrap()
}

async fn reverse(company: &Company, deposit: DepositId) -> Result<i64> {
    let version = view(company, deposit).await.version;
    let wish = ToReverse { date: None, reason: "for nothing of the kind".to_owned() };
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let seen = deposits::preview_reverse(writing, &rules, deposit, &wish).await?.fingerprint;
            deposits::reverse(writing, &rules, deposit, (version, &seen), &wish).await
        })
        .await
}

/// A receipt of 100.00 without a target: 80.00 of it for the order of 312.42, billed with it; the rest on account, and
/// back. Neither is unapplied or reversed from its receipt while it is a deposit.
#[tokio::test]
async fn unapplied_money_becomes_a_deposit_and_unapplied_again() {
    for tax in [AdvanceTax::AtInvoice, AdvanceTax::AtReceipt] {
        let company = Company::new().await;
        regime(&company, tax).await;
        let paid = receive(&company, "100.00").await;
        let order = company.order(0, 4).await;
        let of = |order, amount| NewDeposit {
            receipt: Some(paid),
            method: String::new(),
            ..new(company.customers[0], order, amount)
        };
        let deposit = try_take(&company, &of(Some(order), "80.00")).await.unwrap();
        let shown = view(&company, deposit).await;
        assert_eq!(shown.made_of.as_ref().map(|made_of| made_of.id), Some(paid.0));
        assert_eq!((shown.whereabouts.as_str(), shown.row.method.as_str()), ("none", "transfer"));
        assert_eq!(register(&company, deposit).await, [8_000, 8_000, 0, 0, 0]);
        let after = receipt(&company, paid).await;
        assert_eq!((after.row.unapplied, after.applications.len()), (Money(2_000), 1));
        company.holds().await;
        let StoreError::Refused(blockers) = try_take(&company, &of(None, "20.01")).await.unwrap_err() else { panic!() };
        assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::MoreThanHeld, "amount"));

        // Not freed from the side of the receipt, in part or in whole.
        let wish = ToUnapply { reason: "wrong".to_owned(), ..ToUnapply::default() };
        let some = ToUnapply { applications: Some(vec![after.applications[0].id]), ..wish.clone() };
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        for wish in [&wish, &some] {
            let blockers = receipts::preview_unapply(&mut books, &rules, paid, wish).await.unwrap().blockers;
            assert!(!blockers.is_empty());
        }
        let whole = ToReverse { date: None, reason: "typed twice".to_owned() };
        let blockers = receipts::preview_reverse(&mut books, &rules, paid, &whole).await.unwrap().blockers;
        assert!(blockers.iter().any(|one| one.sentence.contains("Reverse D-")), "{blockers:?}");
        drop(books);

        // The rest on account, typed in error: it lies on its receipt again, and is reserved once more.
        let rest = try_take(&company, &of(None, "20.00")).await.unwrap();
        assert_eq!(receipt(&company, paid).await.row.unapplied, Money::ZERO);
        reverse(&company, rest).await.unwrap();
        assert!(reverse(&company, rest).await.is_err());
        assert_eq!(receipt(&company, paid).await.row.unapplied, Money(2_000));
        company.holds().await;
        try_take(&company, &of(None, "5.00")).await.unwrap();

        // The deposit goes the way of any other.
        let shipment = company.ship(order, 4).await;
        let invoice = company.bill(shipment).await;
        assert_eq!(open(&company, invoice).await, 31_242 - 8_000);
        assert!(reverse(&company, deposit).await.is_err(), "what is applied is not reversed");
        company.holds().await;
        unapply(&company, deposit).await.unwrap();
        reverse(&company, deposit).await.unwrap();
        assert_eq!(
            (receipt(&company, paid).await.row.unapplied, open(&company, invoice).await),
            (Money(9_500), 31_242)
        );
        company.holds().await;
    }
}

#[tokio::test]
async fn a_deposit_is_made_of_the_customers_own_receipt() {
    let company = Company::new().await;
    let paid = receive(&company, "100.00").await;
    let of = |receipt, customer| NewDeposit { receipt: Some(receipt), ..new(customer, None, "10.00") };
    for wrong in [of(ReceiptId(99), company.customers[0]), of(paid, company.customers[1])] {
        let error = try_take(&company, &wrong).await.unwrap_err();
        assert!(matches!(error, StoreError::Invalid { ref field, .. } if field == "receipt"), "{error:?}");
    }
}

/// 30.00 refunded and 20.00 kept of 80.00, both taken back: all of it is held, its tax with it, and can be refunded.
#[tokio::test]
async fn the_end_of_a_deposit_is_taken_back() {
    for tax in [AdvanceTax::AtInvoice, AdvanceTax::AtReceipt] {
        let company = Company::new().await;
        regime(&company, tax).await;
        let order = company.order(0, 4).await;
        let deposit = take(&company, order, "80.00").await;
        let before = view(&company, deposit).await.taxes;
        end(&company, deposit, EndKind::Refunded, Some("30.00")).await.unwrap();
        end(&company, deposit, EndKind::Kept, Some("20.00")).await.unwrap();
        let ends: Vec<i64> = view(&company, deposit).await.ends.iter().filter_map(|end| end.id).collect();
        let undo = async |end: i64, version: i64| {
            let wish = ToReverse { date: None, reason: "never sent".to_owned() };
            company
                .store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    let seen = deposits::preview_undo(writing, &rules, (deposit, end), &wish).await?.fingerprint;
                    deposits::undo(writing, &rules, (deposit, end), (version, &seen), &wish).await
                })
                .await
        };
        let version = view(&company, deposit).await.version;
        assert!(matches!(undo(ends[0], version - 1).await, Err(StoreError::Stale { .. })));
        let version = undo(ends[0], version).await.unwrap();
        assert_eq!(register(&company, deposit).await, [8_000, 6_000, 0, 0, 2_000]);
        company.holds().await;
        assert!(matches!(undo(ends[0], version).await, Err(StoreError::Refused(_))), "taken back once");
        assert!(matches!(undo(99, version).await, Err(StoreError::NotFound { .. })));
        undo(ends[1], version).await.unwrap();
        assert_eq!(register(&company, deposit).await, [8_000, 8_000, 0, 0, 0]);
        let after = view(&company, deposit).await;
        assert_eq!(after.taxes, before);
        assert!(after.ends.iter().all(|end| end.reversed_on.is_some()));
        company.holds().await;
        end(&company, deposit, EndKind::Refunded, None).await.unwrap();
        assert_eq!(register(&company, deposit).await, [8_000, 0, 0, 8_000, 0]);
        company.holds().await;
    }
}

#[tokio::test]
async fn what_is_refused_names_its_field() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let customer = company.customers[0];
    let field = async |new: NewDeposit| match try_take(&company, &new).await.unwrap_err() {
        StoreError::Refused(blockers) => blockers[0].field.clone(),
        StoreError::Invalid { field, .. } => field,
        other => panic!("{other:?}"),
    };
    assert_eq!(field(new(customer, Some(order), "312.43")).await, "amount");
    assert_eq!(field(new(customer, None, "0")).await, "amount");
    assert_eq!(field(new(customer, None, "8,0,0")).await, "amount");
    assert_eq!(field(new(company.customers[1], Some(order), "10")).await, "order");
    assert_eq!(field(NewDeposit { method: "shells".to_owned(), ..new(customer, None, "10") }).await, "method");
    assert_eq!(field(NewDeposit { date: Some(day("2026-02-10")), ..new(customer, None, "10") }).await, "date");
    assert_eq!(field(NewDeposit { memo: Some("x".repeat(501)), ..new(customer, None, "10") }).await, "memo");
    company.holds().await;
}

#[tokio::test]
async fn lowered_on_a_draft_and_offered_on_account() {
    let company = Company::new().await;
    regime(&company, AdvanceTax::AtReceipt).await;
    let order = company.order(0, 4).await;
    take(&company, order, "80.00").await;
    let on_account = try_take(&company, &new(company.customers[0], None, "50")).await.unwrap();
    let shipment = company.ship(order, 4).await;
    let to_bill = company.to_bill(shipment).await;
    let draft = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::make_drafts(writing, &rules, &to_bill).await
        })
        .await
        .unwrap()[0];
    let shown = async || invoices::view(&mut *company.store.read().await.unwrap(), draft).await.unwrap();
    let before = shown().await;
    let offered: Vec<_> = before.deposits.iter().map(|offer| (offer.held.0, offer.most.0, offer.applied.0)).collect();
    assert_eq!(offered, [(8_000, 8_000, 8_000), (5_000, 5_000, 0)]);
    let say = async |at: usize, amount: Option<&str>| {
        let shown = shown().await;
        let (item, amount) = (shown.deposits[at].item, amount.map(str::to_owned));
        let wish = DepositWish { version: shown.version, item, amount };
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                invoices::change_deposit(writing, &rules, draft, &wish).await
            })
            .await
    };
    say(0, Some("60")).await.unwrap();
    say(1, Some("20.50")).await.unwrap();
    for more in ["50.01", "-1", "x"] {
        assert!(say(1, Some(more)).await.is_err(), "{more}");
    }
    let now = shown().await;
    assert_eq!(now.document.as_ref().unwrap().due, Money(31_242 - 6_000 - 2_050));
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::post_draft(writing, &rules, draft, now.version, &now.fingerprint).await
        })
        .await
        .unwrap();
    assert_eq!(register(&company, on_account).await, [5_000, 2_950, 2_050, 0, 0]);
    // 20.00 of the order's own deposit is left hanging: completed, not closed.
    let pay = NewReceipt {
        customer: company.customers[0],
        method: "check".to_owned(),
        date: None,
        amount: "231.92".to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&pay).await.unwrap();
    assert_eq!(state(&company, order).await, OrderState::Filled);
    company.holds().await;
}

/// A clerk refunds up to the limit, keeps nothing without a supervisor's word; what is approved is what was asked.
#[tokio::test]
async fn refunds_have_a_limit_and_keeping_asks() {
    let company = Company::new().await;
    let order = company.order(0, 4).await;
    let deposit = take(&company, order, "80.00").await;
    company
        .store
        .change(&by(), None, async |writing| {
            for (at, role) in [(1, Role::Clerk), (2, Role::Lead)] {
                let (sign_in, name) = (format!("p{at}"), format!("person {at}"));
                let hash = "$argon2id$nobody signs in here";
                let new = NewPerson { sign_in: &sign_in, name: &name, role, password_hash: hash, must_change: false };
                people::add(writing, &new).await?;
            }
            let limit =
                |role, amount: &str| NewLimit { role, kind: LimitKind::Refund, amount: Some(amount.to_owned()) };
            settings::set_limit(writing, &limit(Role::Clerk, "20")).await?;
            settings::set_limit(writing, &limit(Role::Lead, "500")).await
        })
        .await
        .unwrap();
    let someone = |id: i64, role| Actor::person(PersonId(id), &format!("person {id}"), role, "here", by().at);
    let clerk = someone(1, Role::Clerk);
    assert!(end_as(&clerk, &company, deposit, EndKind::Refunded, Some("20")).await.unwrap().waits.is_none());
    let refund = end_as(&clerk, &company, deposit, EndKind::Refunded, Some("20.01")).await.unwrap().waits.unwrap();
    let keep = end_as(&clerk, &company, deposit, EndKind::Kept, Some("5")).await.unwrap().waits.unwrap();
    assert_eq!(register(&company, deposit).await, [8_000, 6_000, 0, 2_000, 0]);
    let approve = async |approval: ApprovalId| {
        company
            .store
            .change(&someone(2, Role::Lead), None, async |writing| {
                let rules = rules::load(writing).await?;
                let viewer = Viewer { person: PersonId(2), role: Role::Lead };
                approvals::approve(writing, &rules, approval, viewer).await
            })
            .await
    };
    approve(keep).await.unwrap();
    // Less is held than when the refund was asked for: it is asked for again.
    assert!(approve(refund).await.is_err());
    assert_eq!(register(&company, deposit).await, [8_000, 5_500, 0, 2_000, 500]);
    company.holds().await;
}

/// A deposit that settles an invoice that is posted closes its order at once; unapplied, the order is open to be settled
/// again. Held for another order since, it is that one which does not close.
#[tokio::test]
async fn orders_close_and_open_with_their_deposits() {
    let company = Company::new().await;
    let (order, other) = (company.order(0, 4).await, company.order(0, 4).await);
    let invoice = company.bill(company.ship(order, 4).await).await;
    let deposit = take(&company, order, "312.42").await;
    let version = view(&company, deposit).await.version;
    change(&company, async |writing, rules| {
        let all = NewApplications { date: None, applications: None };
        receipts::apply(writing, rules, ReceiptId(deposit.0), version, &all, None).await
    })
    .await
    .unwrap();
    assert_eq!((open(&company, invoice).await, state(&company, order).await), (0, OrderState::Closed));
    company.holds().await;
    unapply(&company, deposit).await.unwrap();
    assert_eq!(state(&company, order).await, OrderState::Filled);
    company.holds().await;
    let cash = NewEnd {
        kind: EndKind::Refunded,
        amount: None,
        method: Some("cash".to_owned()),
        date: None,
        reason: "by chance".to_owned(),
    };
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let blockers = deposits::preview_end(&mut books, &rules, deposit, &cash).await.unwrap().blockers;
    drop(books);
    assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::MoreThanHeld, "method"), "an empty drawer");
    let version = view(&company, deposit).await.version;
    let wish = ToMove { order: Some(other), reason: "ordered anew".to_owned() };
    change(&company, async |writing, rules| deposits::move_to(writing, rules, deposit, version, &wish).await)
        .await
        .unwrap();
    assert_eq!(state(&company, other).await, OrderState::Open);
    company.holds().await;
}

/// A deposit for a quote is none of any invoice until the quote becomes an order; then it goes with that order's.
#[tokio::test]
async fn a_deposit_follows_its_quote_into_the_order() {
    let company = Company::new().await;
    regime(&company, AdvanceTax::AtReceipt).await;
    let customer = company.customers[0];
    let before = company.order(0, 4).await;
    let (quote, version) = change(&company, async |writing, rules| {
        let form = orders::form(writing, before).await?;
        let id = quotes::save(
            writing,
            rules,
            None,
            &QuoteForm { order: form, valid_until: None, asks: QuoteAsks::Nothing, asks_percent: None },
        )
        .await?;
        Ok((id, quotes::view(writing, rules, id).await?.version))
    })
    .await
    .unwrap();
    let new = |amount: &str| NewDeposit { quote: Some(quote), ..new(customer, None, amount) };
    // The quote comes to 312.42, as the order did.
    assert!(matches!(try_take(&company, &new("312.43")).await, Err(StoreError::Refused(_))));
    let both = NewDeposit { order: Some(before), ..new("10") };
    assert!(matches!(try_take(&company, &both).await, Err(StoreError::Invalid { .. })));
    let deposit = try_take(&company, &new("80.00")).await.unwrap();
    let row = view(&company, deposit).await.row;
    assert_eq!((row.quote, row.order, row.held), (Some(quote), None, Money(8_000)));
    // An invoice of the customer's other order leaves it alone.
    let other = company.bill(company.ship(before, 4).await).await;
    assert_eq!(open(&company, other).await, 31_242);
    let order = change(&company, async |writing, rules| {
        let word = Acceptance { version, customer: None, customer_order_number: None };
        let order = quotes::accept(writing, rules, quote, &word).await?;
        orders::confirm(writing, order).await?;
        Ok(order)
    })
    .await
    .unwrap();
    let followed = view(&company, deposit).await;
    assert_eq!((followed.row.order, followed.row.quote), (Some(order), None));
    assert_eq!(followed.moves[0].reason, "Q-1 was accepted");
    company.holds().await;
    let shipment = change(&company, async |writing, rules| {
        let shipment = shipments::start(writing, rules, order, None).await?;
        shipments::post(writing, rules, shipment, None, day("2026-03-18")).await
    })
    .await
    .unwrap();
    let invoice = company.bill(shipment).await;
    assert_eq!(open(&company, invoice).await, 23_242);
    assert_eq!(register(&company, deposit).await, [8_000, 0, 8_000, 0, 0]);
    company.holds().await;
}

/// In pounds at 1.17 until 20 March, 1.15 from then on: revenue the deposit covers keeps its rate.
#[tokio::test]
async fn in_pounds() {
    let company = Company::new().await;
    regime(&company, AdvanceTax::AtReceipt).await;
    let order = company.order(2, 4).await;
    let deposit = try_take(&company, &new(company.customers[2], Some(order), "100")).await.unwrap();
    assert_eq!(view(&company, deposit).await.row.held_base, Money(11_700));
    let shipment = company.ship(order, 4).await;
    let mut to_bill = company.to_bill(shipment).await;
    to_bill.document_date = Some(day("2026-03-21"));
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::post_picks(writing, &rules, &to_bill, None).await
        })
        .await
        .unwrap();
    assert_eq!(register(&company, deposit).await, [10_000, 0, 10_000, 0, 0]);
    company.holds().await;
}

/// Each proof names what was damaged.
#[tokio::test]
async fn damaged_deposits_are_named() {
    for damage in [
        "DROP TRIGGER item_taxes_keep; UPDATE item_taxes SET net_minor = net_minor + 1",
        "DROP TRIGGER application_taxes_keep; UPDATE application_taxes SET tax_minor = tax_minor + 1",
        "DROP TRIGGER deposit_ends_keep; UPDATE deposit_ends SET amount_minor = amount_minor - 1",
        "DROP TRIGGER deposits_keep; UPDATE deposits SET regime = 'at_invoice'",
    ] {
        let company = Company::new().await;
        regime(&company, AdvanceTax::AtReceipt).await;
        let order = company.order(0, 4).await;
        let deposit = take(&company, order, "80.00").await;
        end(&company, deposit, EndKind::Refunded, Some("10")).await.unwrap();
        let shipment = company.ship(order, 4).await;
        company.bill(shipment).await;
        company.holds().await;
        let file = company.folder.path().join("books.db");
        let mut raw = sqlx::sqlite::SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
        sqlx::raw_sql(damage).execute(&mut raw).await.unwrap();
        let verified = till_store::verify::verify(&mut *company.store.read().await.unwrap()).await.unwrap();
        let named: Vec<_> = verified.proofs.iter().filter(|proof| !proof.holds).map(|proof| &proof.name).collect();
        assert!(named.iter().any(|name| name.starts_with("Deposits")), "{damage}: {named:?}");
    }
}

/// Shipped, billed and paid in one posting: the deposit goes first, and what is received by itself is exactly the rest,
/// 312.42 less 100.00. Where a deposit covers all of it, nothing is received.
#[tokio::test]
async fn ship_and_bill_receives_the_rest_of_a_deposit() {
    for (deposit, rest) in [("100", Some(21_242)), ("312.42", None)] {
        let company = Company::new().await;
        let order = company.order(0, 4).await;
        try_take(&company, &new(company.customers[0], Some(order), deposit)).await.unwrap();
        let paid = shipments::PaidAtOnce { method: "transfer".to_owned(), amount: None, reference: None };
        let what = shipments::ShipAndBill { paid: Some(paid), ..shipments::ShipAndBill::default() };
        let seen = shipments::preview_ship_and_bill(&company.store, &by(), order, &what).await.unwrap();
        assert_eq!(seen.money.as_ref().map(|money| money.document.amount.0), rest);
        let what = shipments::ShipAndBill { seen: Some(seen.seen), ..what };
        let done =
            change(&company, async |writing, rules| shipments::ship_and_bill(writing, rules, order, &what).await);
        assert_eq!(done.await.unwrap().receipt.is_some(), rest.is_some());
        let mut books = company.store.read().await.unwrap();
        let unapplied = sqlx::query_scalar::<_, i64>("SELECT sum(open_minor) FROM open_items");
        assert_eq!(unapplied.fetch_one(&mut *books).await.unwrap(), 0, "nothing is left open");
        let state = orders::view(&mut books, order).await.unwrap().row.state;
        assert_eq!(state, till_core::order::OrderState::Closed);
        drop(books);
        company.holds().await;
    }
}
