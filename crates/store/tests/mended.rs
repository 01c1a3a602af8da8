//! Faults found in the books by reading, mended: through the store, from what is typed to the ledger and back.
//! Figures worked out by hand; the names are those of the table in docs/rules.md.

use crate::common::*;
use sqlx::Connection as _;
use till_core::checks::Check;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{DocumentKind, InvoiceId, ItemId};
use till_core::invoice::{Combine, InvoiceDocument, ItemKind};
use till_core::money::{Currency, Money};
use till_core::shipment::CostEntry;
use till_core::tax::TaxCategory;
use till_core::treatment::{Taxed, Treatment};
use till_store::customers::{self, ShipTo};
use till_store::goods_settings::{self, NewGoodsSettings, TreatmentCode};
use till_store::invoices::{self, AddedLine, LineKey, NewTax, OrderPick, Pick, SeenDraft, ToBill, ToCancelInvoice};
use till_store::items::{self, IntakeBack, NewItem};
use till_store::orders::{self, LineForm, OrderForm};
use till_store::prices::{self, NewBreak};
use till_store::runs::{self, RunForm};
use till_store::shipments::{self, PickForm, ShipmentForm};
use till_store::stock::{self, NewCount};
use till_store::{Result, StoreError, ledger, rules, setup, verify};

async fn document(company: &Company, id: InvoiceId) -> InvoiceDocument {
    invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap().document.unwrap()
}

fn added(item: &str, quantity: &str) -> AddedLine {
    AddedLine { item: Some(item.to_owned()), quantity: quantity.to_owned(), ..AddedLine::default() }
}

fn typed(company: &Company, lines: Vec<AddedLine>) -> ToBill {
    ToBill { customer: Some(company.customers[0]), added: lines, ..ToBill::default() }
}

async fn post(company: &Company, to_bill: &ToBill) -> Result<InvoiceId> {
    let posted =
        change(company, async |writing, rules| invoices::post_picks(writing, rules, to_bill, None).await).await?;
    Ok(posted[0].id)
}

/// Every entry of a document, account by account.
async fn written(company: &Company, kind: DocumentKind, id: i64) -> Vec<Vec<(String, i64)>> {
    let mut books = company.store.read().await.unwrap();
    let entries = ledger::entries_of(&mut books, kind, id).await.unwrap();
    let lines = |entry: &ledger::PostedEntry| {
        entry.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect()
    };
    entries.iter().map(lines).collect()
}

fn pairs(lines: &[(&str, i64)]) -> Vec<(String, i64)> {
    lines.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect()
}

async fn on_hand(company: &Company, item: ItemId) -> Quantity {
    let view = items::view(&mut company.store.read().await.unwrap(), item).await.unwrap();
    view.stock
        .iter()
        .map(|stock| stock.on_hand)
        .fold(Quantity::ZERO, |sum, one| Quantity::from_scaled(sum.scaled() + one.scaled()))
}

async fn freight_is_billed(company: &Company, treatments: Vec<TreatmentCode>) {
    change(company, async |writing, _| {
        let new = NewGoodsSettings {
            warehouse: "MAIN".to_owned(),
            cost_entry: CostEntry::AtPosting,
            clearing_days: 7,
            freight_item: "FRT".to_owned(),
            treatments: treatments.clone(),
        };
        goods_settings::change(writing, &new).await
    })
    .await
    .unwrap();
}

/// A1. Four of A at 59.00 typed on an invoice: 333 cost 10,000.00, four of them 120.12. Canceled, they lie in
/// their layer again; 1,001 of 1,000 are not sold.
#[tokio::test]
async fn goods_on_a_direct_invoice_leave_stock_and_come_back() {
    let company = Company::new().await;
    let id = post(&company, &typed(&company, vec![added("A", "4")])).await.unwrap();
    assert_eq!(
        written(&company, DocumentKind::Invoice, id.0).await,
        [
            pairs(&[("21000", 29_028), ("61000", -23_600), ("41000", -5_428)]),
            pairs(&[("71000", 12_012), ("11000", -12_012)])
        ]
    );
    assert_eq!(on_hand(&company, company.items[0]).await, Quantity::from_whole(996));
    company.holds().await;
    let told = items::view(&mut company.store.read().await.unwrap(), company.items[0]).await.unwrap().moves;
    assert!(told.iter().any(|moved| moved.what == "left with I-1" && moved.quantity == Quantity::from_whole(-4)));

    let wish = ToCancelInvoice { reason: "wrong customer".to_owned(), ..ToCancelInvoice::default() };
    let memo =
        change(&company, async |writing, rules| invoices::cancel(writing, rules, id, &wish).await).await.unwrap();
    assert_eq!(
        written(&company, DocumentKind::CreditMemo, memo.credit_memo.unwrap().0).await,
        [
            pairs(&[("21000", -29_028), ("61000", 23_600), ("41000", 5_428)]),
            pairs(&[("71000", -12_012), ("11000", 12_012)])
        ]
    );
    assert_eq!(on_hand(&company, company.items[0]).await, Quantity::from_whole(1_000));
    company.holds().await;

    let refused = post(&company, &typed(&company, vec![added("A", "1001")])).await.unwrap_err();
    let StoreError::Refused(blockers) = refused else { panic!("{refused:?}") };
    assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::StockShort, "lines.0.quantity"));
}

/// A proof sees goods that were billed and did not leave.
#[tokio::test]
async fn goods_that_did_not_leave_are_seen() {
    let company = Company::new().await;
    post(&company, &typed(&company, vec![added("A", "4")])).await.unwrap();
    company.holds().await;
    let mut raw = sqlx::SqliteConnection::connect_with(
        &sqlx::sqlite::SqliteConnectOptions::new().filename(company.folder.path().join("books.db")),
    )
    .await
    .unwrap();
    sqlx::raw_sql("DROP TRIGGER stock_moves_stay; DELETE FROM stock_moves").execute(&mut raw).await.unwrap();
    let proofs = verify::verify(&mut raw).await.unwrap().proofs;
    let broken: Vec<_> = proofs.iter().filter(|proof| !proof.holds).map(|proof| proof.name.as_str()).collect();
    assert!(broken.contains(&"Billed goods have left stock"), "{broken:?}");
}

/// A4. 100 of A, 10 % off from 100 on: 5,310.00 and 1,221.30. Canceled and billed anew it is the same, not the
/// 5,900.00 of the price before the break.
#[tokio::test]
async fn billed_anew_a_typed_line_keeps_its_discount() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        let new = NewBreak {
            price_list: None,
            item: "A".to_owned(),
            class: String::new(),
            from: "100".to_owned(),
            off: "10".to_owned(),
        };
        prices::set_break(writing, &new).await
    })
    .await
    .unwrap();
    let id = post(&company, &typed(&company, vec![added("A", "100")])).await.unwrap();
    let was = document(&company, id).await;
    assert_eq!((was.net, was.tax), (Money(531_000), Money(122_130)));
    let wish = ToCancelInvoice { reason: "wrong address".to_owned(), rebill: true, ..ToCancelInvoice::default() };
    let anew =
        change(&company, async |writing, rules| invoices::cancel(writing, rules, id, &wish).await).await.unwrap();
    let draft = anew.draft.unwrap();
    let again = document(&company, draft).await;
    assert_eq!((again.net, again.tax, again.total), (was.net, was.tax, was.total));
    assert_eq!(again.lines[0].discount, was.lines[0].discount);
    // A price that is typed on it then is a price of its own.
    let view = invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap();
    let mut changed = view.to_bill.unwrap();
    changed.added[0].unit_price = Some("50".to_owned());
    change(&company, async |writing, rules| {
        invoices::change_draft(writing, rules, draft, view.version, &changed).await
    })
    .await
    .unwrap();
    assert_eq!(document(&company, draft).await.net, Money(500_000));
    company.holds().await;
}

/// A9, wire 8. Goods that went to an export place, and handling typed beside them: both of category G, no tax.
#[tokio::test]
async fn what_is_typed_beside_an_export_is_taxed_as_one() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        setup::tax_code(writing, "G0", "Export", TaxCategory::G, day("2020-01-01"), Rate::ZERO).await
    })
    .await
    .unwrap();
    freight_is_billed(&company, vec![TreatmentCode { treatment: Treatment::Export, tax_code: Some("G0".to_owned()) }])
        .await;
    let order = change(&company, async |writing, rules| {
        let place = ShipTo {
            id: None,
            code: "PORT".to_owned(),
            name: "The port".to_owned(),
            address: "1 Quay".to_owned(),
            country: "MH".to_owned(),
            taxed: Taxed { treatment: Treatment::Export, certificate: None, until: None },
            active: true,
        };
        let ship_to = customers::set_ship_to(writing, company.customers[0], &place).await?;
        let line = LineForm { item: "A".to_owned(), quantity: "2".to_owned(), ..LineForm::default() };
        let form = OrderForm {
            customer: company.customers[0],
            ship_to: Some(ship_to),
            order_date: Some(day("2026-03-01")),
            lines: vec![line],
            ..OrderForm::default()
        };
        let order = orders::enter_form(writing, rules, &form, orders::Lineage::default()).await?;
        orders::confirm(writing, order).await?;
        Ok(order)
    })
    .await
    .unwrap();
    let shipment = ship(&company, order, &["2"], None).await;
    let mut to_bill = company.to_bill(shipment).await;
    to_bill.added = vec![AddedLine { unit_price: Some("50".to_owned()), ..added("FRT", "1") }];
    let id = post(&company, &to_bill).await.unwrap();
    let billed = document(&company, id).await;
    let codes: Vec<_> = billed.lines.iter().map(|line| line.tax.code.as_str()).collect();
    assert_eq!((codes, billed.tax, billed.net), (vec!["G0", "G0"], Money::ZERO, Money(11_800 + 5_000)));
    company.holds().await;
}

/// B5, B9. An order of goods at 23 % for 118.00 and at 13.5 % for 59.00, shipped with freight of 18.00: 12.00 and
/// 6.00 of it, taxed as they are; and what the order had promised with it is what is billed: no difference.
#[tokio::test]
async fn freight_is_promised_and_taxed_as_its_goods() {
    let company = Company::new().await;
    freight_is_billed(&company, Vec::new()).await;
    let order = change(&company, async |writing, rules| {
        let new = NewItem {
            code: "FEED",
            name: "Feed",
            kind: ItemKind::Goods,
            class: "goods",
            unit: "pc",
            list_price: "59".parse().unwrap(),
            tax_code: "S135",
        };
        let feed = items::add(writing, &new).await?;
        items::take_in(writing, rules, feed, Quantity::from_whole(9), Money(9_000), day("2026-03-01")).await?;
        let line = |item: &str, quantity: &str| LineForm {
            item: item.to_owned(),
            quantity: quantity.to_owned(),
            ..LineForm::default()
        };
        let form = OrderForm {
            customer: company.customers[0],
            order_date: Some(day("2026-03-01")),
            lines: vec![line("A", "2"), line("FEED", "1")],
            ..OrderForm::default()
        };
        let order = orders::enter_form(writing, rules, &form, orders::Lineage::default()).await?;
        orders::confirm(writing, order).await?;
        Ok(order)
    })
    .await
    .unwrap();
    let shipment = ship(&company, order, &["2", "1"], Some("18.00")).await;
    let to_bill = company.to_bill(shipment).await;
    let id = post(&company, &to_bill).await.unwrap();
    let billed = document(&company, id).await;
    let freight: Vec<_> = billed
        .lines
        .iter()
        .filter(|line| line.kind == ItemKind::Charge)
        .map(|line| (line.tax.code.as_str(), line.net))
        .collect();
    assert_eq!(freight, [("S23", Money(1_200)), ("S135", Money(600))]);
    // 130.00 × 23 % = 29.90; 65.00 × 13.5 % = 8.78 (8.775).
    assert_eq!((billed.net, billed.tax), (Money(19_500), Money(2_990 + 878)));
    let view = invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap();
    assert!(!view.tape.to_text().contains("tax and rounding"), "{}", view.tape.to_text());
    company.holds().await;
}

/// M9, wire 11. The first invoice with the freight is canceled while a second one stands: the freight goes with
/// the next line; and with a shipment that comes onto a draft.
#[tokio::test]
async fn freight_goes_along_in_every_order_of_events() {
    let company = Company::new().await;
    freight_is_billed(&company, Vec::new()).await;
    let order = company.order(0, 9).await;
    let shipment = ship(&company, order, &["9", "0"], Some("18.00")).await;
    let line = company.lines_of(shipment).await[0];
    let part = |quantity: i64| ToBill {
        picks: vec![Pick { shipment_line: line, quantity: Some(Quantity::from_whole(quantity)) }],
        ..ToBill::default()
    };
    let first = post(&company, &part(2)).await.unwrap();
    assert_eq!(document(&company, first).await.lines.len(), 2);
    let second = post(&company, &part(3)).await.unwrap();
    assert_eq!(document(&company, second).await.lines.len(), 1);
    let wish = ToCancelInvoice { reason: "wrong date".to_owned(), ..ToCancelInvoice::default() };
    change(&company, async |writing, rules| invoices::cancel(writing, rules, first, &wish).await).await.unwrap();
    let third = post(&company, &part(1)).await.unwrap();
    assert_eq!(document(&company, third).await.lines.len(), 2);

    let other = ship(&company, company.order(0, 2).await, &["2", "0"], Some("7.00")).await;
    let draft = change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &part(1)).await)
        .await
        .unwrap()[0];
    let view = invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap();
    let mut more = view.to_bill.unwrap();
    let goods = company.lines_of(other).await[0];
    more.picks.push(Pick { shipment_line: goods, quantity: None });
    change(&company, async |writing, rules| invoices::change_draft(writing, rules, draft, view.version, &more).await)
        .await
        .unwrap();
    assert_eq!(document(&company, draft).await.lines.len(), 3);
    company.holds().await;
}

/// M3, B13. A run made from a filter takes work of an order once its goods have gone, and a customer who is billed
/// when all has gone does not wait for work that nobody put on the shipment: 9 × 59.00 and 18.00.
#[tokio::test]
async fn a_run_takes_work_along() {
    let company = Company::new().await;
    change(&company, async |writing, rules| {
        let id = company.customers[0];
        let version = customers::view(writing, id).await?.version;
        let mut form = customers::form(writing, rules.base, id).await?;
        form.bill_when_complete = true;
        customers::save(writing, rules, Some((id, version)), &form).await
    })
    .await
    .unwrap();
    ship(&company, company.order(0, 9).await, &["9", "0"], None).await;
    let form = RunForm { combine: Combine::Habit, ..RunForm::default() };
    let run = change(&company, async |writing, rules| runs::make(writing, rules, &form, None).await).await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let view = runs::view(&mut books, &rules, run, None, (100, 0)).await.unwrap();
    assert_eq!((view.waiting, view.count), (0, 1));
    let id = view.invoices[0].id;
    drop(books);
    assert_eq!(document(&company, id).await.net, Money(9 * 5_900 + 1_800));
    company.holds().await;
}

/// Wire 7. Two drafts of one shipment line, each seen by itself, are posted together; and a draft that is not what
/// was seen is not.
#[tokio::test]
async fn two_drafts_of_one_line_are_posted_together() {
    let company = Company::new().await;
    let shipment = ship(&company, company.order(0, 10).await, &["10", "0"], None).await;
    let line = company.lines_of(shipment).await[0];
    let mut seen = Vec::new();
    for quantity in [4, 6] {
        let picks = vec![Pick { shipment_line: line, quantity: Some(Quantity::from_whole(quantity)) }];
        let to_bill = ToBill { picks, ..ToBill::default() };
        let draft = change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &to_bill).await)
            .await
            .unwrap()[0];
        seen.push(draft);
    }
    let mut both = Vec::new();
    for draft in seen {
        let view = invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap();
        both.push(SeenDraft { id: draft, seen: view.fingerprint });
    }
    let other = vec![both[0].clone(), SeenDraft { seen: both[0].seen.clone(), ..both[1].clone() }];
    let moved = change(&company, async |writing, rules| invoices::post_many(writing, rules, &other).await).await;
    assert!(matches!(moved, Err(StoreError::Moved)), "{moved:?}");
    let posted =
        change(&company, async |writing, rules| invoices::post_many(writing, rules, &both).await).await.unwrap();
    let last = document(&company, posted[1].id).await;
    assert_eq!((last.lines[0].billed_before, last.net), (Quantity::from_whole(4), Money(6 * 5_900)));
    company.holds().await;
}

/// Wire 6. Work that stands on a draft of an invoice does not leave on a shipment too.
#[tokio::test]
async fn work_on_a_draft_does_not_leave() {
    let company = Company::new().await;
    let order = company.order(0, 2).await;
    ship(&company, order, &["2", "0"], None).await;
    let work = orders::view(&mut company.store.read().await.unwrap(), order).await.unwrap().lines[1].id;
    let to_bill = ToBill { order_picks: vec![OrderPick { order_line: work, quantity: None }], ..ToBill::default() };
    change(&company, async |writing, rules| invoices::make_drafts(writing, rules, &to_bill).await).await.unwrap();
    let proposed = shipments::propose(&mut company.store.read().await.unwrap(), order).await.unwrap();
    assert!(proposed.iter().all(|line| line.proposed.is_zero()), "{proposed:?}");
    let left = change(&company, async |writing, rules| {
        let form = ShipmentForm {
            carrier: None,
            consignment_number: None,
            freight: None,
            warehouse: None,
            lines: vec![PickForm { order_line: work, quantity: "1".to_owned() }],
        };
        let shipment = shipments::start(writing, rules, order, Some(&form)).await?;
        shipments::post(writing, rules, shipment, None, day("2026-03-13")).await
    })
    .await;
    assert!(left.is_err(), "{left:?}");
    company.holds().await;
}

/// B12. A rate of more than a quarter ago is none: neither an order's limit nor an invoice is worked out with it.
#[tokio::test]
async fn a_rate_that_was_forgotten_is_none() {
    let company = Company::new().await;
    let gbp = Currency::of("GBP").unwrap();
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    // The latest is of 20 March 2026.
    let at = async |books: &mut sqlx::SqliteConnection, on: &str| {
        rules::exchange_rate(books, &rules, gbp, day(on)).await.unwrap().map(|rate| rate.to_string())
    };
    assert_eq!(at(&mut books, "2026-06-20").await, Some("1.15".to_owned()));
    assert_eq!(at(&mut books, "2026-06-21").await, None);
    assert_eq!(at(&mut books, "2025-12-31").await, None);
}

/// B12. Ordered in pounds for which there is no rate any more: what the customer could owe cannot be told, and a
/// customer with a limit has to be approved.
#[tokio::test]
async fn what_cannot_be_told_counts_as_nothing_silently_no_more() {
    let company = Company::new().await;
    company.order(2, 5).await;
    let exposed = change(&company, async |writing, _| {
        setup::move_business_date(writing, day("2026-09-18")).await?;
        let rules = rules::load(writing).await?;
        till_store::exposure::exposure(writing, &rules, company.customers[2], None).await
    })
    .await
    .unwrap();
    assert_eq!((exposed.to_ship, exposed.without_rate), (Money::ZERO, Currency::of("GBP").ok()));
}

/// Wire 10. A rate that changes on a day: 23 % to 31 March, 21.5 % after; 59.00 of it before and after.
#[tokio::test]
async fn a_tax_rate_changes_on_a_day() {
    let company = Company::new().await;
    let rate = |percent: &str| Rate::from_percent(percent).unwrap();
    change(&company, async |writing, _| setup::tax_rate(writing, "S23", day("2026-04-01"), rate("21.5")).await)
        .await
        .unwrap();
    let tax = async |on: &str| {
        let to_bill = ToBill { document_date: Some(day(on)), ..typed(&company, vec![added("A", "1")]) };
        let id = post(&company, &to_bill).await.unwrap();
        document(&company, id).await.tax
    };
    assert_eq!((tax("2026-03-31").await, tax("2026-04-01").await), (Money(1_357), Money(1_269)));
    let field = async |code: &str, on: &str, percent: &str| {
        let refused =
            change(&company, async |writing, _| setup::tax_rate(writing, code, day(on), rate(percent)).await).await;
        match refused {
            Err(StoreError::Invalid { field, .. }) => field,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(field("S99", "2026-05-01", "20").await, "code");
    assert_eq!(field("S23", "2026-04-01", "20").await, "valid_from");
    assert_eq!(field("S23", "2026-05-01", "0").await, "rate");
    assert_eq!(field("Z0", "2026-05-01", "5").await, "rate");
    let shown = goods_settings::view(&mut company.store.read().await.unwrap()).await.unwrap().tax_codes;
    let rates: Vec<_> =
        shown.iter().find(|code| code.code == "S23").unwrap().rates.iter().map(|one| one.percent.clone()).collect();
    assert_eq!(rates, ["21.5", "23"]);
    company.holds().await;
}

/// B2. A limit of 1,000.00; 8 × 100.00 untaxed, five shipped, billed and unpaid; amended to 9: 500.00 owed and
/// 400.00 to ship are 900.00, and nobody has to ask.
#[tokio::test]
async fn what_is_billed_is_exposed_once() {
    let company = Company::new().await;
    let id = company.customers[0];
    let order = change(&company, async |writing, rules| {
        let mut form = customers::form(writing, rules.base, id).await?;
        form.credit_limit = "1000".to_owned();
        let version = customers::view(writing, id).await?.version;
        customers::save(writing, rules, Some((id, version)), &form).await?;
        let line = LineForm {
            item: "A".to_owned(),
            quantity: "8".to_owned(),
            unit_price: Some("100".to_owned()),
            price_reason: Some("agreed".to_owned()),
            tax_code: Some("Z0".to_owned()),
            tax_reason: Some("agreed".to_owned()),
            ..LineForm::default()
        };
        let form =
            OrderForm { customer: id, order_date: Some(day("2026-03-01")), lines: vec![line], ..OrderForm::default() };
        let order = orders::enter_form(writing, rules, &form, orders::Lineage::default()).await?;
        orders::confirm(writing, order).await?;
        Ok(order)
    })
    .await
    .unwrap();
    let shipment = ship(&company, order, &["5"], None).await;
    company.bill(shipment).await;
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let mut form = orders::view(&mut books, order).await.unwrap().form;
    form.lines[0].quantity = "9".to_owned();
    let preview = orders::preview(&mut books, &rules, &form, Some(order), false, None).await.unwrap();
    assert!(preview.blockers.iter().all(|one| one.check != Check::CreditLimit), "{:?}", preview.blockers);
    let exposure = preview.changes.iter().find(|change| change.label == "Exposure").unwrap();
    assert_eq!(exposure.after, till_core::tape::Figure::money(Money(90_000)));
}

/// M12. 10 of A typed in for 900.00 instead of 90.00 and reversed, postings.md: 45000 900.00 against 11000 900.00.
/// Not once something of it has left, nor before it came, nor what a count found.
#[tokio::test]
async fn a_goods_receipt_typed_in_error_is_reversed() {
    let company = Company::new().await;
    let item = company.items[0];
    let take_in = async |quantity: i64, cost: i64| {
        change(&company, async |writing, rules| {
            items::take_in(writing, rules, item, Quantity::from_whole(quantity), Money(cost), day("2026-03-16")).await
        })
        .await
        .unwrap()
    };
    let back = async |layer, on: &str, reason: &str| {
        let what = IntakeBack { date: Some(day(on)), reason: reason.to_owned() };
        change(&company, async |writing, rules| items::reverse_intake(writing, rules, (item, layer), &what).await).await
    };
    let layer = take_in(10, 90_000).await;
    let field = |outcome: Result<bool>| match outcome {
        Err(StoreError::Refused(blockers)) => blockers[0].field.clone(),
        other => panic!("{other:?}"),
    };
    assert_eq!(field(back(layer, "2026-03-15", "typed ten times the cost").await), "date");
    assert_eq!(field(back(layer, "2026-03-17", " ").await), "reason");
    back(layer, "2026-03-17", "typed ten times the cost").await.unwrap();
    let entries = written(&company, DocumentKind::Intake, layer.0).await;
    assert_eq!(
        entries,
        [pairs(&[("11000", 90_000), ("45000", -90_000)]), pairs(&[("11000", -90_000), ("45000", 90_000)])]
    );
    assert_eq!(on_hand(&company, item).await, Quantity::from_whole(1_000));
    assert_eq!(field(back(layer, "2026-03-17", "again").await), "layer");
    company.holds().await;

    // 1,001 leave: the first two layers, and one of the new one.
    let later = take_in(2, 1_000).await;
    post(&company, &typed(&company, vec![added("A", "1001")])).await.unwrap();
    assert_eq!(field(back(later, "2026-03-18", "typed twice").await), "layer");
    // What a count found is no receipt.
    let found = change(&company, async |writing, rules| {
        let new = NewCount {
            warehouse: None,
            counted: "5".to_owned(),
            unit_cost: Some("5".to_owned()),
            date: None,
            reason: "found behind the shelf".to_owned(),
        };
        stock::adjust(writing, rules, item, &new).await?;
        Ok(items::view(writing, item).await?.layers)
    })
    .await
    .unwrap();
    assert!(found.iter().all(|layer| !layer.reversible), "{found:?}");
    assert_eq!(field(back(found[1].id, "2026-03-18", "not found after all").await), "layer");
    company.holds().await;
}

/// A11. An exempt code chosen by hand on goods that have left asks for the certificate of where they went; entered
/// there afterwards, it counts.
#[tokio::test]
async fn an_exemption_by_hand_is_put_right_where_the_certificate_is_kept() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        setup::tax_code(writing, "E0", "Exempt", TaxCategory::E, day("2020-01-01"), Rate::ZERO).await
    })
    .await
    .unwrap();
    let shipment = ship(&company, company.order(0, 2).await, &["2", "0"], None).await;
    let line = company.lines_of(shipment).await[0];
    let to_bill = company.to_bill(shipment).await;
    let draft = change(&company, async |writing, rules| {
        let draft = invoices::make_drafts(writing, rules, &to_bill).await?[0];
        let tax = NewTax { version: 1, tax_code: "E0".to_owned(), reason: "says it is a school".to_owned() };
        invoices::change_tax(writing, rules, draft, LineKey::Shipped(line), &tax).await?;
        Ok(draft)
    })
    .await
    .unwrap();
    let stopped = async || {
        let view = invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap();
        view.blockers.into_iter().map(|one| (one.check, one.field)).collect::<Vec<_>>()
    };
    assert_eq!(stopped().await, [(Check::ExemptionExpired, "lines.0.tax_code".to_owned())]);
    change(&company, async |writing, _| {
        let mut places = customers::ship_tos(writing, company.customers[0]).await?;
        let mut main = places.remove(0);
        main.taxed.certificate = Some("E 12".to_owned());
        main.taxed.until = Some(day("2026-12-31"));
        customers::set_ship_to(writing, company.customers[0], &main).await
    })
    .await
    .unwrap();
    assert_eq!(stopped().await, []);
    company.holds().await;
}

/// A break of a price list that is not there is refused at its field, and nothing breaks.
#[tokio::test]
async fn a_break_of_no_price_list_is_refused_at_its_field() {
    let company = Company::new().await;
    let new = NewBreak {
        price_list: Some(till_core::ids::PriceListId(-9)),
        item: String::new(),
        class: "goods".to_owned(),
        from: "12.50".to_owned(),
        off: "0.0001".to_owned(),
    };
    let refused = change(&company, async |writing, _| prices::set_break(writing, &new).await).await;
    assert!(matches!(&refused, Err(StoreError::Invalid { field, .. }) if field == "price_list"), "{refused:?}");
}
