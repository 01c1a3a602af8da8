//! Open items and applications: taken back, reversed, paid by a parent, in two currencies, as of past
//! days; and nothing used before it is there. Figures worked out by hand beside each.

use crate::common::*;
use chrono::NaiveDate;
use till_core::checks::Check;
use till_core::day_sheet::Work;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, InvoiceId, OrderId, ReceiptId, ShipmentId};
use till_core::money::Money;
use till_core::shipment::CostEntry;
use till_core::terms::{Due, Instalment, SimpleDue, Terms};
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::invoices::{ToBill, ToCancelInvoice};
use till_store::open_items::open_as_of;
use till_store::receipts::{NewApplication, NewApplications, NewReceipt, ReceiptView, ToReverse, ToUnapply};
use till_store::rules::Rules;
use till_store::shipments::{self, TakeBack};
use till_store::{Result, StoreError, Writing, customers, day_sheet, invoices, items, ledger, receipts, rules};

async fn change<T, F>(company: &Company, work: F) -> Result<T>
where
    T: serde::Serialize + serde::de::DeserializeOwned,
    F: AsyncFnOnce(&mut Writing<'_>, &Rules) -> Result<T>,
{
    let work = async |writing: &mut Writing<'_>| {
        let rules = rules::load(writing).await?;
        work(writing, &rules).await
    };
    company.store.change(&by(), None, work).await
}

fn money(customer: CustomerId, amount: &str, on: &str, to: Vec<NewApplication>) -> NewReceipt {
    NewReceipt {
        customer,
        method: "transfer".to_owned(),
        date: Some(day(on)),
        amount: amount.to_owned(),
        reference: None,
        applications: Some(to),
        first: None,
        with: Vec::new(),
        currency: None,
    }
}

async fn ship_on(company: &Company, order: OrderId, quantity: i64, on: &str) -> ShipmentId {
    company
        .store
        .change(&by(), None, async |writing| {
            let view = till_store::orders::view(writing, order).await?;
            let new = shipments::NewShipment {
                order,
                packed_date: day(on),
                carrier: None,
                consignment_number: None,
                lines: vec![(view.lines[0].id, Quantity::from_whole(quantity))],
            };
            let shipment = shipments::pack(writing, &new).await?;
            let rules = rules::load(writing).await?;
            shipments::post(writing, &rules, shipment, None, day(on)).await
        })
        .await
        .unwrap()
}

/// Bills a shipment on a day.
async fn bill_on(company: &Company, shipment: ShipmentId, on: &str) -> Result<InvoiceId> {
    let to_bill = ToBill { document_date: Some(day(on)), ..company.to_bill(shipment).await };
    let posted =
        change(company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await?;
    Ok(posted[0].id)
}

/// 100 pieces at 59.00 with 23 %: 7,257.00.
async fn invoice(company: &Company, customer: usize, on: &str) -> InvoiceId {
    let order = company.order(customer, 100).await;
    let shipment = ship_on(company, order, 100, "2026-03-01").await;
    bill_on(company, shipment, on).await.unwrap()
}

async fn cancel_on(company: &Company, invoice: InvoiceId, on: &str) -> Result<()> {
    let wish = ToCancelInvoice { date: Some(day(on)), reason: "a test".to_owned(), ..ToCancelInvoice::default() };
    change(company, async |writing, rules| invoices::cancel(writing, rules, invoice, &wish).await).await.map(|_| ())
}

async fn receipt(company: &Company, id: ReceiptId) -> ReceiptView {
    receipts::view(&mut company.store.read().await.unwrap(), id).await.unwrap()
}

async fn balance(company: &Company, account: &str, on: &str) -> i64 {
    let trial = ledger::trial_balance(&mut company.store.read().await.unwrap(), day(on)).await.unwrap();
    trial.accounts.iter().find(|one| one.number == account).map_or(0, |one| one.balance.0)
}

fn sentences<T: std::fmt::Debug>(outcome: Result<T>) -> Vec<(Check, String, String)> {
    match outcome {
        Err(StoreError::Refused(blockers)) => {
            blockers.into_iter().map(|one| (one.check, one.field, one.sentence)).collect()
        }
        other => panic!("not refused: {other:?}"),
    }
}

fn too_early<T: std::fmt::Debug>(outcome: Result<T>, field: &str, day: &str) {
    let found = sentences(outcome);
    let early = found.iter().find(|(check, at, _)| *check == Check::DateTooEarly && at == field);
    let (.., sentence) = early.unwrap_or_else(|| panic!("{found:?}"));
    assert!(sentence.contains(day), "{sentence}");
}

/// Case a: money of 1 March settles I-1 that day, which is cancelled on 20 March; to I-2 it can go from
/// 20 March on. On 627e442 it went on 5 March: for two weeks 2120 had a debit of 1,000.00.
#[tokio::test]
async fn money_is_not_used_before_it_is_free_again() {
    let company = Company::new().await;
    let (first, second) = (invoice(&company, 0, "2026-03-01").await, invoice(&company, 0, "2026-03-02").await);
    let to = vec![NewApplication::to_invoice(first, "1000")];
    let paid = company.receive(&money(company.customers[0], "1000", "2026-03-01", to)).await.unwrap();
    cancel_on(&company, first, "2026-03-20").await.unwrap();
    let apply = async |on: &str| {
        let version = receipt(&company, paid.id).await.version;
        let new = NewApplications {
            date: Some(day(on)),
            applications: Some(vec![NewApplication::to_invoice(second, "1000")]),
        };
        change(&company, async |writing, rules| receipts::apply(writing, rules, paid.id, version, &new, None).await)
            .await
    };
    too_early(apply("2026-03-05").await, "date", "20 Mar 2026");
    too_early(apply("2026-03-19").await, "date", "20 Mar 2026");
    apply("2026-03-20").await.unwrap();
    assert_eq!(balance(&company, "27000", "2026-03-10").await, 0);
    company.holds().await;
}

/// Case b: what an invoice cancelled on 2 April billed is not billed again on 31 March.
#[tokio::test]
async fn nothing_is_billed_again_before_it_was_cancelled() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = ship_on(&company, order, 10, "2026-03-01").await;
    let first = bill_on(&company, shipment, "2026-03-05").await.unwrap();
    cancel_on(&company, first, "2026-04-02").await.unwrap();
    too_early(bill_on(&company, shipment, "2026-03-31").await, "posting_date", "2 Apr 2026");
    bill_on(&company, shipment, "2026-04-02").await.unwrap();
    // 10 × 59.00 with 23 % are 725.70: March closes with one invoice, not with two.
    assert_eq!(balance(&company, "21000", "2026-03-31").await, 72_570);
    company.holds().await;
}

/// The same for what `cancel and rebill` puts on a draft, typed lines among it.
#[tokio::test]
async fn a_draft_that_bills_anew_waits_for_the_cancellation() {
    let company = Company::new().await;
    let first = invoice(&company, 0, "2026-03-05").await;
    let wish = ToCancelInvoice {
        date: Some(day("2026-03-20")),
        reason: "the wrong terms".to_owned(),
        rebill: true,
        ..ToCancelInvoice::default()
    };
    let done = change(&company, async |writing, rules| invoices::cancel(writing, rules, first, &wish).await).await;
    let draft = done.unwrap().draft.unwrap();
    // The business date is 18 March: the draft is dated with the cancellation, and not before it.
    let view = async || invoices::view(&mut company.store.read().await.unwrap(), draft).await.unwrap();
    let made = view().await;
    assert_eq!(made.document.as_ref().unwrap().posting_date.date, day("2026-03-20"));
    assert!(made.blockers.iter().all(|one| one.check != Check::DateTooEarly), "{:?}", made.blockers);
    let earlier = ToBill { document_date: Some(day("2026-03-19")), ..made.to_bill.unwrap() };
    let refused = change(&company, async |writing, rules| {
        invoices::change_draft(writing, rules, draft, made.version, &earlier).await
    })
    .await;
    too_early(refused, "posting_date", "I-1 was canceled on 20 Mar 2026");
}

/// Case c: cost follows billing, cost 100.00 per piece of the first layer; left 1 March, billed 5 March,
/// cancelled 20 March: taken back on 10 March, 1320 would be below zero for ten days.
#[tokio::test]
async fn goods_are_not_taken_back_while_they_stood_on_an_invoice() {
    let company = Company::new().await;
    change(&company, async |writing, _| {
        let now = goods_settings::view(writing).await?;
        let new = NewGoodsSettings {
            warehouse: now.warehouse,
            cost_entry: CostEntry::AtBilling,
            clearing_days: now.clearing_days,
            freight_item: String::new(),
            treatments: Vec::new(),
        };
        goods_settings::change(writing, &new).await
    })
    .await
    .unwrap();
    let order = company.order(0, 10).await;
    let shipment = ship_on(&company, order, 10, "2026-03-01").await;
    let first = bill_on(&company, shipment, "2026-03-05").await.unwrap();
    cancel_on(&company, first, "2026-03-20").await.unwrap();
    let back = async |on: &str| {
        let version = shipments::view(&mut company.store.read().await.unwrap(), shipment).await.unwrap().version;
        let what = TakeBack { version, date: Some(day(on)), reason: "a test".to_owned() };
        change(&company, async |writing, rules| shipments::take_back(writing, rules, shipment, &what).await).await
    };
    too_early(back("2026-03-10").await, "date", "20 Mar 2026");
    back("2026-03-20").await.unwrap();
    assert_eq!(balance(&company, "13000", "2026-03-12").await, 0);
    company.holds().await;
}

/// Case d: goods that came on 10 March do not leave on 5 March, and are not missing at a count then.
#[tokio::test]
async fn goods_do_not_leave_before_they_came() {
    let company = Company::new().await;
    let order = company.order(0, 995).await;
    ship_on(&company, order, 995, "2026-03-03").await;
    change(&company, async |writing, rules| {
        let ten = Quantity::from_whole(10);
        items::take_in(writing, rules, company.items[0], ten, Money(5_000), day("2026-03-10")).await
    })
    .await
    .unwrap();
    let second = company.order(1, 12).await;
    let try_on = async |on: &str| {
        company
            .store
            .change(&by(), None, async |writing| {
                let view = till_store::orders::view(writing, second).await?;
                let new = shipments::NewShipment {
                    order: second,
                    packed_date: day(on),
                    carrier: None,
                    consignment_number: None,
                    lines: vec![(view.lines[0].id, Quantity::from_whole(12))],
                };
                let shipment = shipments::pack(writing, &new).await?;
                let rules = rules::load(writing).await?;
                shipments::post(writing, &rules, shipment, None, day(on)).await
            })
            .await
    };
    let found = sentences(try_on("2026-03-05").await);
    assert_eq!(found[0].0, Check::StockShort);
    assert!(found[0].2.contains("10 Mar 2026 or later"), "{}", found[0].2);
    try_on("2026-03-10").await.unwrap();
    company.holds().await;
}

/// A receipt typed for the wrong customer and amount: reversed, its entry turned round and pointing to
/// it, the invoice open again; then typed again.
#[tokio::test]
async fn a_receipt_typed_in_error_is_reversed() {
    let company = Company::new().await;
    let open = invoice(&company, 0, "2026-03-02").await;
    let to = vec![NewApplication::to_invoice(open, "2000")];
    let wrong = company.receive(&money(company.customers[0], "2500", "2026-03-10", to)).await.unwrap();
    let wish = |on: &str| ToReverse { date: Some(day(on)), reason: "the other customer paid".to_owned() };
    let reverse = async |on: &str| {
        let view = receipt(&company, wrong.id).await;
        change(&company, async |writing, rules| {
            let seen = receipts::preview_reverse(writing, rules, wrong.id, &wish(on)).await?;
            receipts::reverse(writing, rules, wrong.id, (view.version, &seen.fingerprint), &wish(on)).await
        })
        .await
    };
    too_early(reverse("2026-03-09").await, "date", "10 Mar 2026");
    reverse("2026-03-12").await.unwrap();
    let view = receipt(&company, wrong.id).await;
    assert_eq!((view.row.unapplied, view.applications.len()), (Money::ZERO, 0));
    assert_eq!((view.row.reversed_on, view.row.whereabouts.as_str()), (Some(day("2026-03-12")), "returned"));
    // The reversal stands against the receipt; it is not taken apart again: the bank has given the money back.
    let none = ToUnapply { reason: "by mistake".to_owned(), date: Some(day("2026-03-13")), applications: None };
    let unapplied = change(&company, async |writing, rules| {
        let seen = receipts::preview_unapply(writing, rules, wrong.id, &none).await?;
        receipts::unapply(writing, rules, wrong.id, (view.version, &seen.fingerprint), &none).await
    });
    let Err(StoreError::Refused(blockers)) = unapplied.await else { panic!("a reversal was unapplied") };
    assert_eq!((blockers[0].check, blockers[0].field.as_str()), (Check::CannotCancel, "receipt"));
    let [posted, back] = view.entries.as_slice() else { panic!("{:?}", view.entries) };
    assert_eq!(back.reverses.as_ref().map(|first| first.id), Some(posted.id.0));
    assert_eq!(back.made_by.as_deref(), Some("Glad Till"));
    let lines = |entry: &ledger::PostedEntry| -> Vec<(String, i64)> {
        let mut lines: Vec<_> = entry.entry.lines.iter().map(|line| (line.account.clone(), line.base.0)).collect();
        lines.sort();
        lines
    };
    // postings.md, Money: 31000 2,500.00 against 21000 2,000.00 and 27000 500.00, and turned round.
    let expected = |sign: i64| {
        [("21000", -200_000), ("27000", -50_000), ("31000", 250_000)]
            .map(|(account, base)| (account.to_owned(), sign * base))
    };
    assert_eq!((lines(posted).as_slice(), lines(back).as_slice()), (&expected(1)[..], &expected(-1)[..]));
    let shown = invoices::view(&mut company.store.read().await.unwrap(), open).await.unwrap();
    assert_eq!(shown.open, Some(Money(725_700)));
    // Once only.
    assert_eq!(sentences(reverse("2026-03-13").await)[0].0, Check::CannotCancel);
    let to = vec![NewApplication::to_invoice(open, "725.70")];
    company.receive(&money(company.customers[0], "725.70", "2026-03-12", to)).await.unwrap();
    company.holds().await;
}

/// One of two applications is taken back; what it settled is open again, the money lies unapplied, and the
/// list of what is applied shows what stands and nothing else (B11).
#[tokio::test]
async fn one_application_is_taken_back_and_the_other_stands() {
    let company = Company::new().await;
    let (first, second) = (invoice(&company, 0, "2026-03-02").await, invoice(&company, 0, "2026-03-03").await);
    let to = vec![NewApplication::to_invoice(first, "300"), NewApplication::to_invoice(second, "400")];
    let paid = company.receive(&money(company.customers[0], "1000", "2026-03-05", to)).await.unwrap();
    let view = receipt(&company, paid.id).await;
    let wish = ToUnapply {
        applications: Some(vec![view.applications[0].id]),
        date: Some(day("2026-03-09")),
        reason: "meant for the second".to_owned(),
    };
    change(&company, async |writing, rules| {
        let seen = receipts::preview_unapply(writing, rules, paid.id, &wish).await?;
        receipts::unapply(writing, rules, paid.id, (view.version, &seen.fingerprint), &wish).await
    })
    .await
    .unwrap();
    let after = receipt(&company, paid.id).await;
    assert_eq!(after.row.unapplied, Money(60_000));
    let standing: Vec<_> = after.applications.iter().map(|one| (one.document.id, one.amount.0)).collect();
    assert_eq!(standing, [(second.0, 40_000)]);
    // Dated: 300.00 unapplied from the 5th, 600.00 from the 9th.
    assert_eq!(balance(&company, "27000", "2026-03-08").await, -30_000);
    assert_eq!(balance(&company, "27000", "2026-03-09").await, -60_000);
    // An application of another receipt, or one that was taken back, is refused by name.
    let again =
        change(&company, async |writing, rules| receipts::preview_unapply(writing, rules, paid.id, &wish).await).await;
    assert!(matches!(again, Err(StoreError::Invalid { field, .. }) if field == "applications.0"));
    company.holds().await;
}

/// A parent pays one invoice of its own and one of its branch; a stranger's it does not pay.
#[tokio::test]
async fn a_parent_pays_for_its_branches() {
    let company = Company::new().await;
    let (parent, branch) = (company.customers[0], company.customers[1]);
    let (own, theirs) = (invoice(&company, 0, "2026-03-02").await, invoice(&company, 1, "2026-03-03").await);
    let to =
        |own_part: &str| vec![NewApplication::to_invoice(own, own_part), NewApplication::to_invoice(theirs, "7257")];
    let refused = company.receive(&money(parent, "10000", "2026-03-05", to("2743"))).await;
    assert_eq!(sentences(refused)[0].0, Check::OtherCustomer);
    change(&company, async |writing, rules| {
        let view = customers::view(writing, branch).await?;
        let mut form = customers::form(writing, rules.base, branch).await?;
        form.parent = "1".to_owned();
        customers::save(writing, rules, Some((branch, view.version)), &form).await
    })
    .await
    .unwrap();
    let seen = customers::view(&mut company.store.read().await.unwrap(), parent).await.unwrap();
    let listed: Vec<_> = seen.open_items.iter().map(|one| (one.document.id, one.branch.is_some())).collect();
    assert_eq!(listed, [(own.0, false), (theirs.0, true)]);
    let paid = company.receive(&money(parent, "10000", "2026-03-05", to("2743"))).await.unwrap();
    let owes = async |id| customers::view(&mut company.store.read().await.unwrap(), id).await.unwrap().owes.0;
    assert_eq!((owes(parent).await, owes(branch).await), (725_700 - 274_300, 0));
    // One entry, a line for each customer.
    let view = receipt(&company, paid.id).await;
    let credits: Vec<_> = view.entries[0]
        .entry
        .lines
        .iter()
        .filter(|line| line.account == "21000")
        .map(|line| (line.customer, line.base.0))
        .collect();
    assert_eq!(credits, [(Some(parent), -274_300), (Some(branch), -725_700)]);
    // The branch does not pay for its parent.
    let back = company.receive(&money(branch, "5", "2026-03-05", vec![NewApplication::to_invoice(own, "5")])).await;
    assert_eq!(sentences(back)[0].0, Check::OtherCustomer);
    company.holds().await;
}

/// Euros for an invoice in pounds at 1.17, converted at the day's 1.15: 575.00 EUR are 500.00 GBP, carried
/// at 585.00; 10.00 are a realized difference.
#[tokio::test]
async fn money_in_one_currency_pays_an_invoice_in_another() {
    let company = Company::new().await;
    let (parent, abroad) = (company.customers[0], company.customers[2]);
    change(&company, async |writing, rules| {
        let view = customers::view(writing, abroad).await?;
        let mut form = customers::form(writing, rules.base, abroad).await?;
        form.parent = "1".to_owned();
        customers::save(writing, rules, Some((abroad, view.version)), &form).await
    })
    .await
    .unwrap();
    let in_pounds = invoice(&company, 2, "2026-03-02").await;
    let to = vec![NewApplication::to_invoice(in_pounds, "575")];
    let paid = company.receive(&money(parent, "575", "2026-03-20", to)).await.unwrap();
    let view = receipt(&company, paid.id).await;
    assert_eq!((view.applications[0].amount, view.applications[0].open), (Money(57_500), Money(725_700 - 50_000)));
    let lines: Vec<_> = view.entries[0]
        .entry
        .lines
        .iter()
        .map(|line| (line.account.as_str(), line.base.0, line.document.0, line.currency.code()))
        .collect();
    assert_eq!(
        lines,
        [("31000", 57_500, 57_500, "EUR"), ("21000", -58_500, -50_000, "GBP"), ("91000", 1_000, 1_000, "EUR")]
    );
    company.holds().await;
}

fn thirds() -> Terms {
    let part = |share: &str, days| Instalment { share: share.parse().unwrap(), due: SimpleDue::NetDays { days } };
    let parts = vec![part("0.333333", 10), part("0.333333", 40), part("0.333334", 70)];
    Terms { due: Due::Instalments { parts }, discount: None }
}

/// B1: an invoice in three parts, the first of them late: a third is late, not all of it.
/// 7,257.00 of 2 March in thirds: 2,419.00 due 12 March; the business date is 18 March.
#[tokio::test]
async fn lateness_goes_by_instalment() {
    let company = Company::new().await;
    let customer = company.customers[0];
    let order = company.order(0, 100).await;
    let shipment = ship_on(&company, order, 100, "2026-03-01").await;
    let to_bill =
        ToBill { document_date: Some(day("2026-03-02")), terms: Some(thirds()), ..company.to_bill(shipment).await };
    change(&company, async |writing, rules| invoices::post_picks(writing, rules, &to_bill, None).await).await.unwrap();
    let mut books = company.store.read().await.unwrap();
    let view = customers::view(&mut books, customer).await.unwrap();
    assert_eq!((view.ageing.late(), view.ageing.not_due), (Money(241_900), Money(483_800)));
    let sheet = day_sheet::day_sheet(&mut books, None).await.unwrap();
    assert_eq!((sheet.late, sheet.owed), (Money(241_900), Money(725_700)));
    let late = sheet.items.iter().find(|item| item.work == Work::Late).unwrap();
    assert_eq!(late.amount, Money(241_900));
    // A week before, nothing was late; in May all of it will be.
    let as_of = async |books: &mut _, on: &str| open_as_of(books, None, day(on)).await.unwrap().ageing.late();
    assert_eq!(as_of(&mut books, "2026-03-12").await, Money::ZERO);
    assert_eq!(as_of(&mut books, "2026-04-12").await, Money(483_800));
    assert_eq!(as_of(&mut books, "2026-05-12").await, Money(725_700));
}

/// What was open on a past day counts what was applied by then, and nothing later.
#[tokio::test]
async fn open_items_are_told_as_of_any_day() {
    let company = Company::new().await;
    let customer = company.customers[0];
    let (first, second) = (invoice(&company, 0, "2026-03-02").await, invoice(&company, 0, "2026-03-06").await);
    let paid = company
        .receive(&money(customer, "10000", "2026-03-10", vec![NewApplication::to_invoice(first, "7257")]))
        .await
        .unwrap();
    let version = receipt(&company, paid.id).await.version;
    let later = NewApplications {
        date: Some(day("2026-03-16")),
        applications: Some(vec![NewApplication::to_invoice(second, "2743")]),
    };
    change(&company, async |writing, rules| receipts::apply(writing, rules, paid.id, version, &later, None).await)
        .await
        .unwrap();
    cancel_on(&company, first, "2026-03-25").await.unwrap();
    // Owed and unapplied, in hundreds of a euro.
    let expected = [
        ("2026-03-01", 0, 0),
        ("2026-03-02", 725_700, 0),
        ("2026-03-06", 1_451_400, 0),
        ("2026-03-10", 725_700, 274_300),
        ("2026-03-16", 451_400, 0),
        ("2026-03-25", 451_400, 725_700),
    ];
    let mut books = company.store.read().await.unwrap();
    for (on, owed, unapplied) in expected {
        let then = open_as_of(&mut books, Some(customer), day(on)).await.unwrap();
        assert_eq!((then.owed_base.0, then.unapplied_base.0), (owed, unapplied), "{on}");
        // The same figures as the ledger of that day.
        let of = |account: &'static str| balance(&company, account, on);
        assert_eq!((of("21000").await, -of("27000").await), (owed, unapplied), "{on}");
        assert_eq!(then.ageing.total().0, then.owed_base.0, "{on}");
    }
    drop(books);
    company.holds().await;
}

/// A10: an invoice keeps how its tax was computed: 3 × 1.10 at 23 % are 0.76 per document, 0.75 line by
/// line, and the proof holds whatever the setting says afterwards.
#[tokio::test]
async fn a_document_keeps_how_its_tax_was_computed() {
    let company = Company::new().await;
    let typed = |price: &str| invoices::AddedLine {
        account: Some("61000".to_owned()),
        description: Some("by hand".to_owned()),
        quantity: "1".to_owned(),
        unit_price: Some(price.to_owned()),
        tax_code: Some("S23".to_owned()),
        ..invoices::AddedLine::default()
    };
    let direct = ToBill {
        customer: Some(company.customers[0]),
        added: vec![typed("1.10"), typed("1.10"), typed("1.10")],
        ..ToBill::default()
    };
    let post = async || {
        let posted =
            change(&company, async |writing, rules| invoices::post_picks(writing, rules, &direct, None).await).await;
        let id = posted.unwrap()[0].id;
        invoices::view(&mut company.store.read().await.unwrap(), id).await.unwrap().document.unwrap().tax
    };
    assert_eq!(post().await, Money(76));
    change(&company, async |writing, _| {
        let now = till_store::settings::view(writing).await?;
        let new = till_store::settings::CompanySettings {
            write_off_tolerance: None,
            version: now.version,
            company: now.company,
            tax_computed: till_core::tax::TaxComputed::PerLine,
            tax_date: None,
            dates_in_order: None,
            advance_tax: None,
            hold_until_prepaid: None,
            deposit_use: None,
            fixed_date: now.fixed_date,
        };
        till_store::settings::change_company(writing, &new).await
    })
    .await
    .unwrap();
    company.holds().await;
    assert_eq!(post().await, Money(75));
    company.holds().await;
}

/// A date that is in no way possible is refused at its field, and an id that is nobody's by name.
#[tokio::test]
async fn nonsense_is_refused_at_its_field() {
    let company = Company::new().await;
    let paid = company.receive(&money(company.customers[0], "10", "2026-03-10", Vec::new())).await.unwrap();
    let unapply = async |wish: ToUnapply| {
        change(&company, async |writing, rules| receipts::preview_unapply(writing, rules, paid.id, &wish).await).await
    };
    let far: NaiveDate = day("0026-03-18");
    let refused = unapply(ToUnapply { date: Some(far), ..ToUnapply::default() }).await;
    assert!(matches!(refused, Err(StoreError::Invalid { field, .. }) if field == "date"));
    let preview = |id| {
        let company = &company;
        async move {
            let wish = ToReverse::default();
            change(company, async |writing, rules| receipts::preview_reverse(writing, rules, id, &wish).await).await
        }
    };
    assert!(matches!(preview(ReceiptId(99)).await, Err(StoreError::NotFound { .. })));
    let both =
        NewApplication { item: Some(till_core::ids::OpenItemId(1)), ..NewApplication::to_invoice(InvoiceId(1), "5") };
    let refused = company.receive(&money(company.customers[0], "10", "2026-03-10", vec![both])).await;
    assert!(matches!(refused, Err(StoreError::Invalid { field, .. }) if field == "applications.0.item"));
}
