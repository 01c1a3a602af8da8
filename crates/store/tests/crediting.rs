//! Credit memos over lines of an invoice: in the books, with approval, and what is refused. Figures worked
//! out by hand beside each.

use crate::common::*;
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor};
use till_core::checks::Check;
use till_core::ids::{CreditMemoId, DocumentKind, InvoiceId, PersonId};
use till_core::money::Money;
use till_core::people::{LimitKind, Role};
use till_store::approvals::{self, Viewer};
use till_store::invoices::{self, CreditLine, CreditMemoFilter, CreditPosted, ToCancelInvoice, ToCredit};
use till_store::open_items::open_as_of;
use till_store::people::{self, NewPerson};
use till_store::receipts::NewReceipt;
use till_store::settings::{self, NewLimit};
use till_store::{Actor, Result, StoreError, ledger, record, rules, setup, verify};

fn some(position: usize, quantity: &str) -> CreditLine {
    CreditLine { position, quantity: Some(quantity.to_owned()), amount: None, return_line: None }
}

fn off(position: usize, amount: &str) -> CreditLine {
    CreditLine { position, quantity: None, amount: Some(amount.to_owned()), return_line: None }
}

fn wish(date: &str, lines: Vec<CreditLine>) -> ToCredit {
    ToCredit { lines, added: Vec::new(), date: Some(day(date)), reason: "arrived scratched".to_owned(), seen: None }
}

/// A person posts what they have seen.
async fn credit_as(company: &Company, actor: &Actor, id: InvoiceId, wish: &ToCredit) -> Result<CreditPosted> {
    let seen = async || -> Result<String> {
        let mut books = company.store.read().await?;
        let rules = rules::load(&mut books).await?;
        Ok(invoices::credit_preview(&mut books, &rules, id, wish).await?.fingerprint)
    };
    let wish = &match (&wish.seen, actor.role) {
        (None, Some(_)) => ToCredit { seen: Some(seen().await?), ..wish.clone() },
        _ => wish.clone(),
    };
    company
        .store
        .change(actor, None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::credit(writing, &rules, id, wish).await
        })
        .await
}

async fn credit(company: &Company, id: InvoiceId, wish: &ToCredit) -> Result<CreditPosted> {
    credit_as(company, &by(), id, wish).await
}

async fn invoice_over(company: &Company, customer: usize, quantity: i64) -> InvoiceId {
    let order = company.order(customer, quantity).await;
    let shipment = company.ship(order, quantity).await;
    company.bill(shipment).await
}

async fn open_of(company: &Company, id: InvoiceId) -> Money {
    invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap().open.unwrap()
}

/// What an entry of a credit memo says, account by account.
async fn entry_of(company: &Company, memo: CreditMemoId) -> Vec<(String, i64)> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, DocumentKind::CreditMemo, memo.0).await.unwrap();
    let mut lines: Vec<_> =
        entries.iter().flat_map(|entry| &entry.entry.lines).map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort();
    lines
}

fn pairs(lines: &[(&str, i64)]) -> Vec<(String, i64)> {
    lines.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

fn blocked(outcome: Result<CreditPosted>) -> (Check, String) {
    match outcome {
        Err(StoreError::Refused(blockers)) => (blockers[0].check, blockers[0].field.clone()),
        other => panic!("{other:?}"),
    }
}

/// Four at 59.00 and freight of 18.00: 254.00 and 58.42 tax. One credited while it is open: postings.md,
/// 65000 59.00 · 41000 13.57 against 21000 72.57. The rest of the line in two steps, the freight last:
/// 254.00 and 58.42 in all, to the cent.
#[tokio::test]
async fn lines_are_credited_in_parts_until_nothing_is_left() {
    let company = Company::new().await;
    let invoice = invoice_over(&company, 0, 4).await;
    assert_eq!(open_of(&company, invoice).await, Money(31_242));
    let preview = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        invoices::credit_preview(&mut books, &rules, invoice, &wish("2026-03-20", vec![some(0, "1")])).await.unwrap()
    };
    // Two days ahead of the business date, which is asked about.
    assert_eq!(preview.blockers.iter().map(|one| one.check).collect::<Vec<_>>(), [Check::DateAhead]);
    let seen = ToCredit { seen: Some(preview.fingerprint), ..wish("2026-03-20", vec![some(0, "1")]) };
    let posted = credit(&company, invoice, &seen).await.unwrap();
    let memo = posted.credit_memo.unwrap();
    assert_eq!(entry_of(&company, memo).await, pairs(&[("21000", -7_257), ("41000", 1_357), ("65000", 5_900)]));
    assert_eq!(open_of(&company, invoice).await, Money(31_242 - 7_257));
    company.holds().await;
    // Seen once, it is not what was seen any more.
    assert!(matches!(credit(&company, invoice, &seen).await, Err(StoreError::Moved)));

    let view = invoices::credit_memo(&mut company.store.read().await.unwrap(), memo).await.unwrap();
    assert_eq!((view.whole, view.document.total, view.document.lines[0].net), (false, Money(7_257), Money(5_900)));
    assert!(view.document.lines[0].source.shipment().is_some(), "it says what it came from");
    assert_eq!(view.deliveries.len(), 1);
    assert_eq!(view.deliveries[0].document.kind, DocumentKind::CreditMemo);

    // Cancelled as a whole it cannot be any more; the way out is named.
    let whole = ToCancelInvoice { reason: "all of it".to_owned(), ..ToCancelInvoice::default() };
    let cancelled = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::cancel(writing, &rules, invoice, &whole).await
        })
        .await;
    let Err(StoreError::Refused(blockers)) = cancelled else { panic!("{cancelled:?}") };
    assert!(blockers[0].sentence.contains(&posted.number.unwrap()), "{}", blockers[0].sentence);

    // 10.00 off the price of the three that are left, then all of both lines.
    credit(&company, invoice, &wish("2026-03-21", vec![off(0, "10.00")])).await.unwrap();
    let last = credit(&company, invoice, &wish("2026-03-21", vec![some(0, "3"), some(1, "1")])).await.unwrap();
    // 254.00 less 59.00 less 10.00; 58.42 less 13.57 less 2.30.
    assert_eq!(
        entry_of(&company, last.credit_memo.unwrap()).await,
        pairs(&[("21000", -18_500 - 4_255), ("41000", 4_255), ("64000", 1_800), ("65000", 16_700)])
    );
    assert_eq!(open_of(&company, invoice).await, Money::ZERO);
    company.holds().await;
    let nothing = blocked(credit(&company, invoice, &wish("2026-03-22", vec![some(0, "1")])).await);
    assert_eq!(nothing, (Check::MoreThanBilled, "lines.0.quantity".to_owned()));
    // The log of the invoice tells each of them.
    let mut books = company.store.read().await.unwrap();
    let filter = record::RecordFilter {
        document: Some((DocumentKind::Invoice, invoice.0)),
        limit: 20,
        ..record::RecordFilter::default()
    };
    let rows = record::list(&mut books, &filter).await.unwrap().rows;
    assert_eq!(rows.iter().filter(|row| row.deed.what == "invoice_credited").count(), 3);
    let all = invoices::credit_memos(&mut books, &CreditMemoFilter::default(), (10, 0)).await.unwrap();
    assert_eq!((all.memos.len(), all.count), (3, 3));
}

/// A paid invoice in pounds at 1.17. One at 59.00 with 13.57 of tax is credited: nothing is open, so 72.57 are
/// kept, at the rate of the invoice whatever the day's is: 72.57 × 1.17 = 84.91 (84.9069), tax 15.88
/// (15.8769), returns what is left of it, 69.03.
#[tokio::test]
async fn what_is_paid_is_kept_at_the_rate_of_the_invoice() {
    let company = Company::new().await;
    let invoice = invoice_over(&company, 2, 2).await;
    let document = invoices::view(&mut company.store.read().await.unwrap(), invoice).await.unwrap().document.unwrap();
    assert_eq!((document.currency.code(), document.rate.to_string()), ("GBP", "1.17".to_owned()));
    company
        .store
        .change(&by(), None, async |writing| {
            setup::exchange_rate(writing, document.currency, day("2026-03-19"), "1.25".parse().unwrap()).await
        })
        .await
        .unwrap();
    let pay = NewReceipt {
        customer: company.customers[2],
        method: "transfer".to_owned(),
        date: Some(day("2026-03-19")),
        amount: document.currency.format(document.total),
        reference: None,
        applications: None,
        first: Some(invoice),
        with: Vec::new(),
        currency: None,
    };
    company.receive(&pay).await.unwrap();
    assert_eq!(open_of(&company, invoice).await, Money::ZERO);
    let posted = credit(&company, invoice, &wish("2026-03-20", vec![some(0, "1")])).await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let items = open_as_of(&mut books, Some(company.customers[2]), day("2026-03-20")).await.unwrap().items;
    let [item] = items.as_slice() else { panic!("{items:?}") };
    assert_eq!((Some(&item.document.number), item.open.abs()), (posted.number.as_ref(), Money(7_257)));
    drop(books);
    let entry = entry_of(&company, posted.credit_memo.unwrap()).await;
    assert_eq!(entry, pairs(&[("27000", -8_491), ("41000", 1_588), ("65000", 6_903)]));
    company.holds().await;
}

/// A clerk may credit 50.00. 72.57 wait for a supervisor; and when meanwhile someone else has credited the line,
/// what was asked for is not what would be done.
#[tokio::test]
async fn above_the_limit_it_waits_and_what_is_approved_is_what_was_asked() {
    let company = Company::new().await;
    company
        .store
        .change(&by(), None, async |writing| {
            for (sign_in, role) in [("tess", Role::Clerk), ("lee", Role::Lead)] {
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
    let lead = Actor::person(PersonId(2), "lee", Role::Lead, "here", by().at);
    let viewer = Viewer { person: PersonId(2), role: Role::Lead };
    let approve = async |approval| {
        company
            .store
            .change(&lead, None, async |writing| {
                let rules = rules::load(writing).await?;
                approvals::approve(writing, &rules, approval, viewer).await
            })
            .await
    };
    let invoice = invoice_over(&company, 0, 4).await;
    // 10.00 and 2.30 of tax are within the limit.
    assert!(
        credit_as(&company, &clerk, invoice, &wish("2026-03-20", vec![off(0, "10")])).await.unwrap().waits.is_none()
    );
    let ask = wish("2026-03-20", vec![some(0, "1")]);
    let asked = credit_as(&company, &clerk, invoice, &ask).await.unwrap();
    assert_eq!((asked.credit_memo, asked.number), (None, None));
    credit(&company, invoice, &wish("2026-03-20", vec![off(0, "26.00")])).await.unwrap();
    let refused = approve(asked.waits.unwrap()).await.unwrap_err();
    assert!(refused.to_string().contains("has changed since it was asked for"), "{refused}");
    // Asked again as it stands now: 236.00 less 36.00 is 200.00, a quarter of it 50.00.
    let ask = ToCredit { reason: "arrived scratched, once more".to_owned(), ..ask };
    let asked = credit_as(&company, &clerk, invoice, &ask).await.unwrap();
    approve(asked.waits.unwrap()).await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let memos = invoices::credit_memos(&mut books, &CreditMemoFilter::default(), (1, 0)).await.unwrap().memos;
    drop(books);
    assert_eq!(memos[0].total, Money(5_000 + 1_150));
    company.holds().await;
}

#[tokio::test]
async fn what_cannot_be_credited_is_said_at_its_field() {
    let company = Company::new().await;
    let invoice = invoice_over(&company, 0, 4).await;
    let try_it = async |lines: Vec<CreditLine>, date: &str| credit(&company, invoice, &wish(date, lines)).await;
    assert_eq!(blocked(try_it(vec![some(0, "5")], "2026-03-20").await).1, "lines.0.quantity");
    assert_eq!(blocked(try_it(vec![off(0, "236.01")], "2026-03-20").await).1, "lines.0.amount");
    assert_eq!(blocked(try_it(vec![some(9, "1")], "2026-03-20").await).1, "lines.0");
    assert_eq!(blocked(try_it(vec![some(0, "1")], "2026-03-01").await), (Check::DateTooEarly, "date".to_owned()));
    assert_eq!(blocked(try_it(vec![], "2026-03-20").await), (Check::NothingToDo, "lines".to_owned()));
    for (line, field) in [
        (some(0, "one"), "lines.0.quantity"),
        (off(0, "ten"), "lines.0.amount"),
        (
            CreditLine { position: 0, quantity: Some("1".into()), amount: Some("1".into()), return_line: None },
            "lines.0.quantity",
        ),
        (CreditLine::default(), "lines.0.quantity"),
    ] {
        let said = try_it(vec![line], "2026-03-20").await.unwrap_err();
        assert!(matches!(&said, StoreError::Invalid { field: at, .. } if at == field), "{said:?}");
    }
    let draft = {
        let order = company.order(0, 2).await;
        let to_bill = company.to_bill(company.ship(order, 2).await).await;
        company
            .store
            .change(&by(), None, async |writing| {
                let rules = rules::load(writing).await?;
                invoices::make_drafts(writing, &rules, &to_bill).await
            })
            .await
            .unwrap()[0]
    };
    let ask = wish("2026-03-20", vec![some(0, "1")]);
    assert!(matches!(credit(&company, draft, &ask).await, Err(StoreError::WrongState(_))));
    assert!(matches!(credit(&company, InvoiceId(99_999), &ask).await, Err(StoreError::NotFound { .. })));
    company.holds().await;
}

/// The database refuses to change what is posted; what got past it is seen.
#[tokio::test]
async fn a_credit_memo_stays_as_it_is_and_too_much_of_it_is_seen() {
    let damages = [
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET quantity_e4 = -50000 WHERE credits_line_id IS NOT NULL",
            "Credited is never above",
        ),
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET net_minor = -23601 WHERE credits_line_id IS NOT NULL",
            "Credited is never above",
        ),
        (
            "DROP TRIGGER document_taxes_keep; UPDATE document_taxes SET tax_minor = -5900 WHERE tax_minor < 0",
            "Credited is never above",
        ),
        (
            "DROP TRIGGER documents_keep; UPDATE documents SET posting_date = '2026-03-01' WHERE kind = 'credit_memo'",
            "Credited is never above",
        ),
        ("DROP TRIGGER document_links_stay; DELETE FROM document_links", "Credited is never above"),
        (
            "DROP TRIGGER document_taxes_keep; UPDATE document_taxes SET tax_minor = tax_minor - 1 WHERE tax_minor < 0",
            "Tax equals",
        ),
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET net_minor = net_minor - 1 WHERE credits_line_id IS NOT NULL",
            "Revenue equals",
        ),
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET tax_date = '2026-01-01' WHERE credits_line_id IS NOT NULL",
            "What was taxed",
        ),
    ];
    for (damage, seen_by) in damages {
        let company = Company::new().await;
        let invoice = invoice_over(&company, 0, 4).await;
        credit(&company, invoice, &wish("2026-03-20", vec![some(0, "1")])).await.unwrap();
        company.holds().await;
        let file = company.folder.path().join("books.db");
        let mut raw = SqliteConnectOptions::new().filename(file).connect().await.unwrap();
        let statement = damage.split("; ").nth(1).unwrap();
        let refused = raw.execute(statement).await.map(|_| ()).unwrap_err().to_string();
        assert!(refused.contains("never"), "{statement}: {refused}");
        raw.execute(damage).await.unwrap();
        raw.close().await.unwrap();
        let proofs = verify::verify(&mut company.store.read().await.unwrap()).await.unwrap().proofs;
        assert!(proofs.iter().any(|proof| !proof.holds && proof.name.starts_with(seen_by)), "{damage}: {proofs:#?}");
    }
}
