//! Credit memos that stand alone, and what becomes of a credit that is kept: applied, unapplied, refunded. Each entry against
//! postings.md, worked out by hand.

use crate::common::*;
use sqlx::{ConnectOptions, Connection, Executor, sqlite::SqliteConnectOptions};
use till_core::checks::Check;
use till_core::ids::{CreditMemoId, CustomerId, DocumentKind, InvoiceId, PersonId, RefundId};
use till_core::money::Money;
use till_core::people::{LimitKind, Role};
use till_store::invoices::{self, AddedLine, CreditAlone, CreditLine, CreditMemoView, CreditPosted, ToCredit};
use till_store::people::{self, NewPerson};
use till_store::receipts::{self, NewApplication, NewApplications, NewReceipt, ToReverse, ToUnapply};
use till_store::refunds::{self, CreditToRefund};
use till_store::settings::{self, NewLimit};
use till_store::{Actor, Result, StoreError, approvals, customers, ledger, rules, verify};

/// An allowance on a revenue account.
fn allowance(amount: &str, tax: &str) -> AddedLine {
    AddedLine {
        account: Some("61000".to_owned()),
        description: Some("Goodwill for late delivery".to_owned()),
        quantity: "1".to_owned(),
        unit_price: Some(amount.to_owned()),
        tax_code: Some(tax.to_owned()),
        ..AddedLine::default()
    }
}

fn goods(item: &str, quantity: &str, price: &str) -> AddedLine {
    AddedLine {
        item: Some(item.to_owned()),
        quantity: quantity.to_owned(),
        unit_price: Some(price.to_owned()),
        ..AddedLine::default()
    }
}

fn wish(customer: CustomerId, added: Vec<AddedLine>) -> CreditAlone {
    CreditAlone {
        customer,
        currency: None,
        added,
        came_back: Vec::new(),
        date: None,
        reason: "promised by phone".to_owned(),
        seen: None,
    }
}

async fn credit(company: &Company, wish: &CreditAlone) -> Result<CreditPosted> {
    change(company, async |writing, rules| invoices::credit_alone(writing, rules, wish).await).await
}

async fn credited(company: &Company, wish: &CreditAlone) -> CreditMemoId {
    let posted = credit(company, wish).await.unwrap();
    company.holds().await;
    posted.credit_memo.unwrap()
}

async fn view(company: &Company, id: CreditMemoId) -> CreditMemoView {
    invoices::credit_memo(&mut *company.store.read().await.unwrap(), id).await.unwrap()
}

/// The entries of a document in their order, each as its accounts and amounts in base currency, sorted.
async fn entries(company: &Company, kind: DocumentKind, id: i64) -> Vec<Vec<(String, i64)>> {
    let mut books = company.store.read().await.unwrap();
    let all = ledger::entries_of(&mut books, kind, id).await.unwrap();
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

fn blocked<T: std::fmt::Debug>(outcome: Result<T>) -> (Check, String) {
    match outcome {
        Err(StoreError::Refused(blockers)) => (blockers[0].check, blockers[0].field.clone()),
        other => panic!("{other:?}"),
    }
}

fn at(check: Check, field: &str) -> (Check, String) {
    (check, field.to_owned())
}

/// 4 × 59.00 and freight of 18.00: 254.00 net, 58.42 tax, 312.42.
async fn billed(company: &Company, customer: usize) -> InvoiceId {
    let order = company.order(customer, 4).await;
    let shipment = company.ship(order, 4).await;
    company.bill(shipment).await
}

fn to(invoice: InvoiceId, amount: &str, date: Option<&str>) -> NewApplications {
    NewApplications { date: date.map(day), applications: Some(vec![NewApplication::to_invoice(invoice, amount)]) }
}

async fn apply(company: &Company, id: CreditMemoId, new: &NewApplications) -> Result<i64> {
    let version = view(company, id).await.version;
    change(company, async |writing, rules| receipts::apply(writing, rules, id, version, new, None).await).await
}

async fn refund(company: &Company, id: CreditMemoId, amount: Option<&str>, method: &str) -> Result<refunds::Refunded> {
    let wish = CreditToRefund {
        amount: amount.map(str::to_owned),
        method: method.to_owned(),
        date: None,
        reason: "the customer asks for the money".to_owned(),
    };
    change(company, async |writing, rules| refunds::refund(writing, rules, id, (None, None), &wish).await).await
}

/// 50.00 of goodwill at 23 %: 65000 is not touched where an account was typed, so 61000 50.00 and 11.50 of tax against 61.50
/// kept. Two of A at 59.00 that stay with the customer: 65000 118.00, tax 27.14, 145.14 kept, and no goods move.
#[tokio::test]
async fn a_credit_memo_that_stands_alone_is_kept() {
    let company = Company::new().await;
    let mine = company.customers[0];
    let id = credited(&company, &wish(mine, vec![allowance("50", "S23")])).await;
    let row = [("27000", -6_150), ("41000", 1_150), ("61000", 5_000)];
    assert_eq!(entries(&company, DocumentKind::CreditMemo, id.0).await, [pairs(&row)]);
    let memo = view(&company, id).await;
    assert_eq!((memo.number.as_str(), memo.invoice.is_none(), memo.whole), ("CM-1", true, false));
    assert_eq!((memo.document.net, memo.document.total), (Money(5_000), Money(6_150)));
    assert_eq!(memo.document.lines[0].description, "Goodwill for late delivery");
    let kept = memo.kept.unwrap();
    assert_eq!((kept.amount, kept.open, kept.applied.len()), (Money(6_150), Money(6_150), 0));

    let id = credited(&company, &wish(mine, vec![goods("A", "2", "59"), allowance("-0", "Z0")])).await;
    let row = [("27000", -14_514), ("41000", 2_714), ("65000", 11_800)];
    let written = entries(&company, DocumentKind::CreditMemo, id.0).await;
    assert_eq!(written[0].iter().filter(|line| line.1 != 0).cloned().collect::<Vec<_>>(), pairs(&row));
    // In the list, by its customer, with what is kept of both.
    let mut books = company.store.read().await.unwrap();
    let filter = invoices::CreditMemoFilter { customer: Some(mine), only_kept: true, search: None };
    let list = invoices::credit_memos(&mut books, &filter, (10, 0)).await.unwrap();
    assert_eq!((list.count, list.total_base), (2, Money(20_664)));
    assert!(list.memos.iter().all(|memo| memo.invoice.is_none() && memo.kept == memo.total));
    assert_eq!(customers::view(&mut books, mine).await.unwrap().unapplied, Money(20_664));
}

/// 61.50 is applied to an invoice of 312.42 (27000 against 21000), unapplied again, and applied in part; of the 41.50 that
/// are left 20.00 are refunded (27000 against 31000) and that is reversed. postings.md, Money: applied later, a receipt
/// unapplied, open credit refunded.
#[tokio::test]
async fn a_kept_credit_is_applied_unapplied_and_refunded() {
    let company = Company::new().await;
    let mine = company.customers[0];
    let invoice = billed(&company, 0).await;
    let id = credited(&company, &wish(mine, vec![allowance("50", "S23")])).await;
    let open = async || invoices::view(&mut *company.store.read().await.unwrap(), invoice).await.unwrap().open.unwrap();
    // More than is kept, more than is open, another customer's invoice.
    let other = billed(&company, 1).await;
    assert_eq!(blocked(apply(&company, id, &to(invoice, "61.51", None)).await).0, Check::MoreThanReceived);
    assert_eq!(blocked(apply(&company, id, &to(other, "1", None)).await).0, Check::OtherCustomer);
    apply(&company, id, &to(invoice, "61.50", None)).await.unwrap();
    company.holds().await;
    assert_eq!(open().await, Money(31_242 - 6_150));
    let written = entries(&company, DocumentKind::CreditMemo, id.0).await;
    assert_eq!(written[1], pairs(&[("21000", -6_150), ("27000", 6_150)]));
    let used = view(&company, id).await.kept.unwrap();
    assert_eq!(
        (used.open, used.applied[0].amount, used.applied[0].document.id),
        (Money::ZERO, Money(6_150), invoice.0)
    );
    assert_eq!(blocked(refund(&company, id, None, "transfer").await), at(Check::AmountNotPositive, "amount"));
    // The related documents of the invoice name it.
    let trail = invoices::view(&mut *company.store.read().await.unwrap(), invoice).await.unwrap().trail;
    assert!(trail.steps.iter().any(|step| step.document.number == "CM-1"), "{:?}", trail.steps);

    let version = view(&company, id).await.version;
    let all = ToUnapply { applications: None, date: None, reason: "the other invoice is meant".to_owned() };
    let seen = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        receipts::preview_unapply(&mut books, &rules, id, &all).await.unwrap().fingerprint
    };
    let stale = change(&company, async |writing, rules| {
        receipts::unapply(writing, rules, id, (version - 1, &seen), &all).await
    });
    assert!(matches!(stale.await, Err(StoreError::Stale { .. })));
    change(&company, async |writing, rules| receipts::unapply(writing, rules, id, (version, &seen), &all).await)
        .await
        .unwrap();
    company.holds().await;
    assert_eq!(open().await, Money(31_242));
    let written = entries(&company, DocumentKind::CreditMemo, id.0).await;
    assert_eq!(written[2], pairs(&[("21000", 6_150), ("27000", -6_150)]));

    apply(&company, id, &to(invoice, "20", None)).await.unwrap();
    assert_eq!(blocked(refund(&company, id, Some("41.51"), "transfer").await), at(Check::MoreThanHeld, "amount"));
    assert_eq!(blocked(refund(&company, id, Some("20"), "cash").await), at(Check::MoreThanHeld, "method"));
    let paid = refund(&company, id, Some("20"), "transfer").await.unwrap();
    assert_eq!(paid.number.as_deref(), Some("RF-1"));
    company.holds().await;
    assert_eq!(entries(&company, DocumentKind::Refund, 1).await, [pairs(&[("27000", 2_000), ("31000", -2_000)])]);
    let now = view(&company, id).await.kept.unwrap();
    assert_eq!((now.open, now.refunds[0].amount), (Money(2_150), Money(2_000)));
    // What is refunded is not applied as well.
    assert_eq!(blocked(apply(&company, id, &to(invoice, "21.51", None)).await).0, Check::MoreThanReceived);
    let reverse = async |reason: &str| {
        let wish = ToReverse { date: None, reason: reason.to_owned() };
        change(&company, async |writing, rules| refunds::reverse(writing, rules, RefundId(1), &wish).await).await
    };
    assert_eq!(blocked(reverse("").await), at(Check::CannotCancel, "reason"));
    assert_eq!(reverse("never sent").await.unwrap().number, "CM-1");
    company.holds().await;
    assert_eq!(blocked(reverse("again").await), at(Check::CannotCancel, "end"));
    let back = view(&company, id).await.kept.unwrap();
    assert_eq!((back.open, back.refunds[0].reversed_on), (Money(4_150), Some(day("2026-03-18"))));
    let written = entries(&company, DocumentKind::Refund, 1).await;
    assert_eq!(written[1], pairs(&[("27000", -2_000), ("31000", 2_000)]));
}

/// An invoice of 312.42 is paid; a credit of 59.00 net, 72.57, is kept and refunded by transfer; 100.00 that came without a
/// target are refunded in part. postings.md: the same, invoice paid, kept; open credit refunded, kept as unapplied; received
/// without a target, refunded.
#[tokio::test]
async fn what_lies_unapplied_is_refunded_whatever_it_came_from() {
    let company = Company::new().await;
    let invoice = billed(&company, 0).await;
    let receipt = |amount: &str, method: &str| NewReceipt {
        customer: company.customers[0],
        method: method.to_owned(),
        date: None,
        amount: amount.to_owned(),
        reference: None,
        applications: None,
        first: None,
        with: Vec::new(),
        currency: None,
    };
    company.receive(&receipt("312.42", "transfer")).await.unwrap();
    let line = CreditLine { position: 0, quantity: Some("1".to_owned()), amount: None, return_line: None };
    let one = ToCredit { lines: vec![line], added: Vec::new(), date: None, reason: "damaged".to_owned(), seen: None };
    let posted =
        change(&company, async |writing, rules| invoices::credit(writing, rules, invoice, &one).await).await.unwrap();
    let memo = posted.credit_memo.unwrap();
    refund(&company, memo, None, "transfer").await.unwrap();
    company.holds().await;
    assert_eq!(entries(&company, DocumentKind::Refund, 1).await, [pairs(&[("27000", 7_257), ("31000", -7_257)])]);

    // Out of the drawer only what lies in it, in its currency.
    let posted = company.receive(&receipt("100", "cash")).await.unwrap();
    let wish = |amount: &str, method: &str| CreditToRefund {
        amount: Some(amount.to_owned()),
        method: method.to_owned(),
        date: None,
        reason: "overpaid".to_owned(),
    };
    let id = posted.id;
    let paid = change(&company, async |writing, rules| {
        refunds::refund(writing, rules, id, (None, None), &wish("40", "cash")).await
    })
    .await
    .unwrap();
    assert_eq!(paid.number.as_deref(), Some("RF-2"));
    company.holds().await;
    assert_eq!(entries(&company, DocumentKind::Refund, 2).await, [pairs(&[("27000", 4_000), ("32000", -4_000)])]);
    let seen = receipts::view(&mut *company.store.read().await.unwrap(), id).await.unwrap();
    assert_eq!((seen.row.unapplied, seen.refunds.len(), seen.applications.len()), (Money(6_000), 1, 0));
    // A receipt of which something was refunded is not reversed as a whole.
    let version = seen.version;
    let whole = ToReverse { date: None, reason: "returned".to_owned() };
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let preview = receipts::preview_reverse(&mut books, &rules, id, &whole).await.unwrap();
    drop(books);
    let reversed = change(&company, async |writing, rules| {
        receipts::reverse(writing, rules, id, (version, &preview.fingerprint), &whole).await
    })
    .await;
    assert!(matches!(&reversed, Err(StoreError::Refused(_))), "{reversed:?}");
    company.holds().await;
    // The proofs see a refund whose amount was changed, and one without its item.
    for (damage, proof) in [
        (
            "DROP TRIGGER refunds_keep; UPDATE refunds SET paid_base_minor = paid_base_minor - 1 WHERE id = 2",
            "Receipts in hand equal their account, by day",
        ),
        (
            "DROP TRIGGER refunds_keep; UPDATE refunds SET amount_minor = amount_minor + 1 WHERE id = 1",
            "Open and unapplied amounts follow from what was applied",
        ),
    ] {
        let copy = tempfile::tempdir().unwrap();
        let file = copy.path().join("books.db");
        till_store::copies::backup(&company.folder.path().join("books.db"), &file).await.unwrap();
        let mut side = SqliteConnectOptions::new().filename(&file).connect().await.unwrap();
        side.execute(damage).await.unwrap();
        let verification = verify::verify(&mut side).await.unwrap();
        side.close().await.unwrap();
        let broken: Vec<_> = verification.proofs.iter().filter(|one| !one.holds).map(|one| one.name.as_str()).collect();
        assert!(broken.contains(&proof), "{damage}: {broken:?}");
    }
}

/// 50.00 pounds and 11.50 of tax are credited on 20 March at 1.15: 57.50 and 13.23, 70.73 kept. Applied to an invoice of 312.42
/// carried at 1.17 (365.53), 61.50 of it are 71.95 (365.53 × 61.50 / 312.42 = 71.9547): 1.22 is a currency difference. postings.md, Period ends: stand-alone
/// credit memo in pounds, applied to an invoice carried at another rate.
#[tokio::test]
async fn a_credit_in_pounds_takes_the_rate_of_its_day() {
    let company = Company::new().await;
    let invoice = billed(&company, 2).await;
    let alone =
        CreditAlone { date: Some(day("2026-03-20")), ..wish(company.customers[2], vec![allowance("50", "S23")]) };
    let id = credited(&company, &alone).await;
    let row = [("27000", -7_073), ("41000", 1_323), ("61000", 5_750)];
    assert_eq!(entries(&company, DocumentKind::CreditMemo, id.0).await, [pairs(&row)]);
    // Not before it is there.
    assert_eq!(
        blocked(apply(&company, id, &to(invoice, "61.50", Some("2026-03-19"))).await),
        at(Check::DateTooEarly, "date")
    );
    apply(&company, id, &to(invoice, "61.50", Some("2026-03-20"))).await.unwrap();
    company.holds().await;
    let written = entries(&company, DocumentKind::CreditMemo, id.0).await;
    assert_eq!(written[1], pairs(&[("21000", -7_195), ("27000", 7_073), ("91000", 122)]));
    // In euros for the customer in pounds: the currency is chosen.
    let euros = CreditAlone { currency: Some("EUR".to_owned()), ..alone.clone() };
    let id = credited(&company, &euros).await;
    let row = [("27000", -6_150), ("41000", 1_150), ("61000", 5_000)];
    assert_eq!(entries(&company, DocumentKind::CreditMemo, id.0).await, [pairs(&row)]);
}

/// Each thing that is wrong is said at its field; above the limit a clerk asks, a supervisor says yes, and then it is posted.
#[tokio::test]
async fn what_is_wrong_is_said_and_limits_hold() {
    let company = Company::new().await;
    let mine = company.customers[0];
    let fine = wish(mine, vec![allowance("50", "S23")]);
    let invalid = async |wish: CreditAlone, field: &str| {
        let outcome = credit(&company, &wish).await;
        assert!(matches!(&outcome, Err(StoreError::Invalid { field: at, .. }) if at == field), "{field}: {outcome:?}");
    };
    invalid(CreditAlone { reason: " ".to_owned(), ..fine.clone() }, "reason").await;
    invalid(CreditAlone { currency: Some("XYZ".to_owned()), ..fine.clone() }, "currency").await;
    invalid(wish(mine, vec![allowance("fifty", "S23")]), "added.0.unit_price").await;
    assert_eq!(
        blocked(credit(&company, &wish(mine, vec![allowance("50", "NONE")])).await),
        at(Check::TaxRateMissing, "added.0.tax_code")
    );
    invalid(CreditAlone { date: Some(day("1826-03-18")), ..fine.clone() }, "date").await;
    let nobody = credit(&company, &wish(CustomerId(99), vec![allowance("50", "S23")])).await;
    assert!(matches!(nobody, Err(StoreError::NotFound { .. })));
    assert_eq!(blocked(credit(&company, &wish(mine, Vec::new())).await).1, "added");
    let zero = AddedLine { reason: Some("free".to_owned()), ..goods("A", "1", "0") };
    assert_eq!(blocked(credit(&company, &wish(mine, vec![zero])).await), at(Check::AmountNotPositive, "added"));
    let early = CreditAlone { date: Some(day("2026-01-15")), ..fine.clone() };
    assert_eq!(blocked(credit(&company, &early).await).1, "date");

    company
        .store
        .change(&by(), None, async |writing| {
            for (sign_in, role) in [("tess", Role::Clerk), ("lena", Role::Lead)] {
                let hash = "$argon2id$nobody signs in here";
                let new = NewPerson { sign_in, name: sign_in, role, password_hash: hash, must_change: false };
                people::add(writing, &new).await?;
            }
            let limit =
                |role, amount: &str| NewLimit { role, kind: LimitKind::CreditMemo, amount: Some(amount.to_owned()) };
            settings::set_limit(writing, &limit(Role::Clerk, "50")).await?;
            settings::set_limit(writing, &limit(Role::Lead, "5000")).await
        })
        .await
        .unwrap();
    let clerk = Actor::person(PersonId(1), "tess", Role::Clerk, "here", by().at);
    let ask = async |wish: &CreditAlone| {
        company
            .store
            .change(&clerk, None, async |writing| {
                let rules = rules::load(writing).await?;
                invoices::credit_alone(writing, &rules, wish).await
            })
            .await
    };
    assert!(matches!(ask(&fine).await, Err(StoreError::Moved)), "a person posts what was seen");
    let seen = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        invoices::credit_alone_preview(&mut books, &rules, &fine).await.unwrap().fingerprint
    };
    let asked = ask(&CreditAlone { seen: Some(seen), ..fine.clone() }).await.unwrap();
    assert!(asked.credit_memo.is_none());
    let lead = Actor::person(PersonId(2), "lena", Role::Lead, "here", by().at);
    company
        .store
        .change(&lead, None, async |writing| {
            let rules = rules::load(writing).await?;
            let viewer = approvals::Viewer { person: PersonId(2), role: Role::Lead };
            approvals::approve(writing, &rules, asked.waits.unwrap(), viewer).await
        })
        .await
        .unwrap();
    company.holds().await;
    let list = invoices::credit_memos(&mut *company.store.read().await.unwrap(), &Default::default(), (10, 0)).await;
    assert_eq!(list.unwrap().memos[0].total, Money(6_150));
}
