//! What goes the other way on a credit: a restocking fee, freight, goods in exchange. Rows of postings.md with figures
//! worked out by hand beside them.

use std::collections::BTreeMap;

use crate::common::*;
use till_core::accounts::Purpose;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Check, stops};
use till_core::entry::{Entry, EntryBuilder, LineFor};
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, ItemId, LayerId};
use till_core::invoice::credit::alone::{self, AloneInput};
use till_core::invoice::credit::{BilledLine, CreditInput, DiscountOn, LineToCredit, What, decide};
use till_core::invoice::{self, InvoiceInput, ItemKind, LineToBill};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::posting::{MovedWith, Posting, Which};
use till_core::room::Movement;
use till_core::stock::Layer;

fn charge(id: i64, price: &str, code: &str) -> LineToBill {
    LineToBill { kind: ItemKind::Charge, class: "charge".to_owned(), ..typed(id, "1", price, code) }
}

/// One piece of goods with a layer of its own at that cost.
fn goods_out(books: &Books, lines: Vec<(LineToBill, i64)>) -> InvoiceInput<'_> {
    let mut stock = BTreeMap::new();
    let mut out = Vec::new();
    for (line, cost) in lines {
        let item = line.item.unwrap();
        let layer = Layer {
            id: LayerId(item.0),
            remaining: Quantity::from_whole(1),
            remaining_cost: Money(cost),
            later: Vec::new(),
        };
        stock.insert(item, vec![layer]);
        out.push(LineToBill { kind: ItemKind::Goods, leaves: Some(Quantity::from_whole(1)), ..line });
    }
    InvoiceInput { stock, ..other_way(books, out) }
}

/// What goes the other way on 19 March.
fn other_way(books: &Books, lines: Vec<LineToBill>) -> InvoiceInput<'_> {
    let on = DocumentDate { date: day("2026-03-19"), typed: true };
    let today = DateOrder::of_today(day("2026-12-31"));
    InvoiceInput { orders: Vec::new(), document_date: on, posting_date: on, dates: today, ..books.invoice(lines) }
}

/// A credit of one piece of the first line of an invoice, of which nothing or all is paid, on 19 March.
fn crediting<'a>(
    books: &'a Books,
    input: &InvoiceInput<'_>,
    paid: bool,
    supplies: Option<InvoiceInput<'a>>,
) -> CreditInput<'a> {
    let document = invoice::decide(input).document.unwrap();
    let named = DocumentRef { kind: DocumentKind::Invoice, id: 5, number: "I-5".to_owned() };
    let mut item = open_item(Side::OwedToUs, Purpose::Receivable, named, (document.total.0, document.total_base.0));
    item.currency = document.currency;
    if paid {
        item.movements.push(Movement::new(day("2026-03-18"), -document.total.0));
        item.base_movements.push(Movement::new(day("2026-03-18"), -document.total_base.0));
        (item.open, item.open_base) = (Money::ZERO, Money::ZERO);
    }
    CreditInput {
        invoice: InvoiceId(5),
        number: "I-5".to_owned(),
        billed: vec![BilledLine::default(); document.lines.len()],
        tax_credited: vec![Money::ZERO; document.taxes.len()],
        discount: DiscountOn::default(),
        item,
        customer: input.customer.clone(),
        cancelled_by: None,
        orders: Vec::new(),
        lines: vec![LineToCredit { position: 0, what: What::Quantity(Quantity::from_whole(1)), returned: None }],
        supplies,
        exchange: false,
        goods: Vec::new(),
        date: DocumentDate { date: day("2026-03-19"), typed: true },
        reason: "the larger one is wanted".to_owned(),
        base: eur(),
        dates: DateOrder::of_today(day("2026-12-31")),
        accounts: &books.accounts,
        periods: &books.periods,
        document,
    }
}

/// Goods of so much that come to the inspection place and, where they can be sold, on into stock.
fn back(books: &Books, cost: i64, sellable: bool) -> Vec<Entry> {
    let entry = |debit, credit| {
        let mut builder = EntryBuilder::new(&books.accounts, None, eur());
        builder.add_base(debit, Money(cost), LineFor::default());
        builder.add_base(credit, Money(-cost), LineFor::default());
        builder.finish(day("2026-03-19"), "goods".to_owned()).0.unwrap()
    };
    let mut entries = vec![entry(Purpose::Inspection, Purpose::Cogs)];
    if sellable {
        entries.push(entry(Purpose::Inventory, Purpose::Inspection));
    }
    entries
}

/// What the posting makes: purpose, side, amount.
fn items(posting: &Posting) -> Vec<(Purpose, Side, i64)> {
    posting.items.iter().map(|item| (item.purpose, item.side, item.amount.0)).collect()
}

/// postings.md, Documents: with a restocking fee of 5.00 (goods then 21 %, fee today 23 %).
#[test]
fn a_restocking_fee_is_a_supply_of_today() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "4", "59", "0", "S21")]);
    let fee = other_way(&books, vec![charge(9, "5", "S21")]);
    let credit = crediting(&books, &input, false, Some(fee));
    let decision = decide(&credit);
    assert_eq!(decision.blockers, []);
    assert_eq!(
        written(&decision.entry),
        pairs(&[("41000", 1_239), ("65000", 5_900), ("21000", -6_524), ("41000", -115), ("64000", -500)])
    );
    assert_eq!((decision.balance(), decision.first_supplied()), (Money(6_524), 1));
    let codes: Vec<_> =
        decision.entry.iter().flat_map(|entry| &entry.lines).filter_map(|line| line.tax.clone()).collect();
    let said: Vec<_> = codes.iter().map(|tax| (tax.base.0, tax.rate.unwrap().to_string())).collect();
    assert_eq!(said, [(-5_900, "0.21".to_owned()), (500, "0.23".to_owned())]);
    let text = decision.tape.to_text();
    for says in ["Credited", "-71.39", "goes the other way", "6.15", "-65.24"] {
        assert!(text.contains(says), "{says} in {text}");
    }
    // Paid, all of what is left is kept.
    let kept = decide(&crediting(&books, &input, true, credit.supplies.clone()));
    assert_eq!(items(&kept.posting(&credit)), [(Purpose::Unapplied, Side::OwedByUs, 6_524)]);
}

/// postings.md, Documents: exchange, sellable: back 1 × 31.00 (cost 14.50), out 1 × 44.00 (cost 20.60).
#[test]
fn an_exchange_is_one_entry_with_tax_on_each_side() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "2", "31", "0", "S23")]);
    let out = goods_out(&books, vec![(typed(2, "1", "44", "S23"), 2_060)]);
    let mut credit = crediting(&books, &input, false, Some(out));
    (credit.exchange, credit.goods) = (true, back(&books, 1_450, true));
    let decision = decide(&credit);
    assert_eq!(decision.blockers, []);
    let row = [
        ("11000", 1_450),
        ("21000", 1_599),
        ("41000", 713),
        ("65000", 3_100),
        ("71000", 2_060),
        ("11000", -2_060),
        ("41000", -1_012),
        ("61000", -4_400),
        ("71000", -1_450),
    ];
    assert_eq!(written(&decision.entry), pairs(&row));
    assert!(decision.entry.as_ref().is_some_and(Entry::balances));
    // To pay 15.99 in 30 days, whatever is open of the invoice; the piece leaves its layer with the first line.
    let posting = decision.posting(&credit);
    assert_eq!(items(&posting), [(Purpose::Receivable, Side::OwedToUs, 1_599)]);
    assert_eq!((posting.items[0].due_date, posting.applications.len()), (day("2026-04-18"), 0));
    let moved: Vec<_> = posting.stock.iter().map(|one| (one.layer, one.cost.0, one.with)).collect();
    assert_eq!(moved, [(LayerId(2), 2_060, MovedWith::DocumentLine { invoice: None, line: 0 })]);
    assert!(decision.tape.to_text().contains("To pay"), "{}", decision.tape.to_text());
}

/// The other way round: back 1 × 44.00 (cost 20.60), to inspection, out 1 × 31.00 (cost 14.50): 54.12 less 38.13 is 15.99
/// to credit, off what is open or kept.
#[test]
fn in_the_customers_favor_it_credits() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "2", "44", "0", "S23")]);
    let with = || Some(goods_out(&books, vec![(typed(2, "1", "31", "S23"), 1_450)]));
    let mut credit = crediting(&books, &input, false, with());
    (credit.exchange, credit.goods) = (true, back(&books, 2_060, false));
    let decision = decide(&credit);
    let row = [
        ("12000", 2_060),
        ("41000", 1_012),
        ("65000", 4_400),
        ("71000", 1_450),
        ("11000", -1_450),
        ("21000", -1_599),
        ("41000", -713),
        ("61000", -3_100),
        ("71000", -2_060),
    ];
    assert_eq!(written(&decision.entry), pairs(&row));
    let posting = decision.posting(&credit);
    assert_eq!(items(&posting), [(Purpose::Receivable, Side::OwedByUs, 1_599)]);
    assert!(matches!(posting.applications[0].debit, Which::Known(_)));
    assert_eq!(posting.stock[0].with, MovedWith::DocumentLine { invoice: None, line: 1 });
    let mut paid = crediting(&books, &input, true, with());
    paid.exchange = true;
    assert_eq!(items(&decide(&paid).posting(&paid)), [(Purpose::Unapplied, Side::OwedByUs, 1_599)]);
}

/// Even: one for another at the same price. Nothing is owed either way, and the goods are written all the same, at no
/// price too.
#[test]
fn an_even_exchange_writes_the_goods() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "2", "31", "0", "S23")]);
    let mut credit =
        crediting(&books, &input, false, Some(goods_out(&books, vec![(typed(2, "1", "31", "S23"), 1_600)])));
    (credit.exchange, credit.goods) = (true, back(&books, 1_450, true));
    let decision = decide(&credit);
    assert_eq!(decision.blockers, []);
    let row = [
        ("11000", 1_450),
        ("41000", 713),
        ("65000", 3_100),
        ("71000", 1_600),
        ("11000", -1_600),
        ("41000", -713),
        ("61000", -3_100),
        ("71000", -1_450),
    ];
    assert_eq!(written(&decision.entry), pairs(&row));
    assert_eq!(items(&decision.posting(&credit)), [(Purpose::Receivable, Side::OwedByUs, 0)]);

    let given = books.invoice(vec![line(1, "2", "0", "0", "S23")]);
    let gift = LineToBill { reason: Some("in place of the first".to_owned()), ..typed(2, "1", "0", "S23") };
    let mut free = crediting(&books, &given, false, Some(goods_out(&books, vec![(gift, 1_600)])));
    (free.exchange, free.goods) = (true, back(&books, 1_450, false));
    free.lines[0].returned = None;
    let entry = decide(&free).entry;
    let row = [("12000", 1_450), ("71000", 1_600), ("11000", -1_600), ("71000", -1_450)];
    assert_eq!(written(&entry), pairs(&row));
}

/// In pounds, taken back at the 1.17 of the invoice, supplied at the 1.20 of the day: 61.50 each, 71.96 against 73.80. The
/// customer owes nothing; the difference of 1.84 is ours. 65000 58.50 · 41000 13.46 · 91000 1.84 against 61000 60.00 ·
/// 41000 13.80. With 20.00 more to pay (24.60 with tax): 29.52 at the rate of the day.
#[test]
fn each_side_has_its_rate() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let foreign = |mut input: InvoiceInput<'static>, rate: &str| {
        input.basis.currency = gbp;
        input.rate = Some(rate.parse().unwrap());
        input
    };
    // Books live as long as the test run: the closure above wants them so.
    let books: &'static Books = Box::leak(Box::new(books));
    let mut billed = books.invoice(vec![line(1, "2", "50", "0", "S23")]);
    billed.orders[0].currency = gbp;
    let billed = foreign(billed, "1.17");
    let supplied = |price: &str| foreign(goods_out(books, vec![(typed(2, "1", price, "S23"), 0)]), "1.2");
    let mut credit = crediting(books, &billed, false, Some(supplied("50")));
    credit.exchange = true;
    let row = [("41000", 1_346), ("65000", 5_850), ("91000", 184), ("41000", -1_380), ("61000", -6_000)];
    assert_eq!(written(&decide(&credit).entry), pairs(&row));
    credit.supplies = Some(supplied("70"));
    let decision = decide(&credit);
    assert_eq!((decision.owed, decision.balance()), ((Money(2_460), Money(2_952)), Money(-2_460)));
    let row =
        [("21000", 2_952), ("41000", 1_346), ("65000", 5_850), ("91000", 184), ("41000", -1_932), ("61000", -8_400)];
    assert_eq!(written(&decision.entry), pairs(&row));
}

/// postings.md, Goods: repair charged, net 35.00 (tax 8.05); parts used at cost 6.00. A direct invoice, its parts given away with
/// the reason.
#[test]
fn a_repair_is_charged_and_its_parts_leave_at_cost() {
    let books = Books::new();
    let part = LineToBill { reason: Some("used in the repair".to_owned()), ..typed(2, "1", "0", "S23") };
    let mut input = goods_out(&books, vec![(part, 600)]);
    input.lines.insert(0, charge(1, "35", "S23"));
    let decision = invoice::decide(&input);
    assert!(!stops(&decision.blockers), "{:?}", decision.blockers);
    assert_eq!(written(&decision.entry), pairs(&[("21000", 4_305), ("41000", -805), ("64000", -3_500)]));
    assert_eq!(written(&decision.cost_entry), pairs(&[("71000", 600), ("11000", -600)]));
    // Without the reason it is asked for.
    input.lines[1].reason = None;
    let asked = invoice::decide(&input).blockers;
    assert!(asked.iter().any(|one| one.check == Check::ReasonMissing && one.field == "lines.1.reason"), "{asked:?}");
}

/// What cannot go the other way, each said at its line.
#[test]
fn what_cannot_go_the_other_way() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "2", "31", "0", "S23")]);
    let stopped = |supplies: InvoiceInput<'_>, exchange: bool| -> Vec<(Check, String)> {
        let mut credit = crediting(&books, &input, false, None);
        credit.exchange = exchange;
        let credit = CreditInput { supplies: Some(supplies), ..credit };
        let blockers = decide(&credit).blockers;
        assert!(stops(&blockers), "{blockers:?}");
        blockers.into_iter().filter(|one| stops(std::slice::from_ref(one))).map(|one| (one.check, one.field)).collect()
    };
    let goods = || goods_out(&books, vec![(typed(2, "1", "20", "S23"), 900)]);
    assert_eq!(stopped(goods(), false), [(Check::CannotCredit, "added.0.item".to_owned())]);
    // 38.13 is credited; a fee of 40.00 is more than that.
    let fee = other_way(&books, vec![charge(9, "40", "S23")]);
    assert_eq!(stopped(fee, false), [(Check::CannotCredit, "added".to_owned())]);
    let drum = LineToBill { kind: ItemKind::Packaging, ..typed(3, "1", "12", "S23") };
    assert!(stopped(other_way(&books, vec![drum]), true).contains(&(Check::CannotCredit, "added.0.item".to_owned())));
    let mut short = goods();
    short.stock.insert(ItemId(2), Vec::new());
    assert_eq!(stopped(short, true), [(Check::StockShort, "added.0.quantity".to_owned())]);
    // The day of what is left to pay keeps the order of invoices, that of what is credited the order of credit memos.
    let mut late = goods_out(&books, vec![(typed(2, "1", "90", "S23"), 900)]);
    late.dates = DateOrder { last: Some(day("2026-03-20")), stops: true, ..late.dates };
    assert_eq!(stopped(late.clone(), true), [(Check::DateBeforeLast, "date".to_owned())]);
    let mut favor = crediting(&books, &input, false, Some(InvoiceInput { lines: goods().lines, ..late }));
    favor.exchange = true;
    assert!(!stops(&decide(&favor).blockers), "{:?}", decide(&favor).blockers);
}

/// What came back and points at no invoice, credited on 19 March, and what goes out for it.
fn without_invoice<'a>(
    books: &'a Books,
    back: LineToBill,
    out: Option<InvoiceInput<'a>>,
    goods: Vec<Entry>,
) -> AloneInput<'a> {
    let lines = vec![LineToBill { kind: ItemKind::Goods, ..back }];
    AloneInput {
        lines: other_way(books, lines),
        date: DocumentDate { date: day("2026-03-19"), typed: true },
        dates: DateOrder::of_today(day("2026-12-31")),
        reason: "the larger one is wanted".to_owned(),
        came_back: Vec::new(),
        exchange: out.is_some(),
        supplies: out,
        at_once: true,
        goods,
    }
}

/// postings.md, Documents, the exchange of above, pointing at no invoice: back 1 × 31.00 at the newest layer's 14.50, out
/// 1 × 44.00 (cost 20.60). One entry, an invoice over 15.99 that is due by the customer's terms.
#[test]
fn an_exchange_points_at_an_invoice_or_at_none() {
    let books = Books::new();
    let out = goods_out(&books, vec![(typed(2, "1", "44", "S23"), 2_060)]);
    let input = without_invoice(&books, typed(1, "1", "31", "S23"), Some(out), back(&books, 1_450, true));
    let decision = alone::decide(&input);
    assert_eq!(decision.blockers, []);
    let row = [
        ("11000", 1_450),
        ("21000", 1_599),
        ("41000", 713),
        ("65000", 3_100),
        ("71000", 2_060),
        ("11000", -2_060),
        ("41000", -1_012),
        ("61000", -4_400),
        ("71000", -1_450),
    ];
    assert_eq!(written(&decision.entry), pairs(&row));
    assert_eq!((decision.balance(), decision.places()), (Money(-1_599), (1, 0)));
    let posting = decision.posting(&input);
    assert_eq!(items(&posting), [(Purpose::Receivable, Side::OwedToUs, 1_599)]);
    assert_eq!(posting.items[0].due_date, day("2026-04-18"));
    let moved: Vec<_> = posting.stock.iter().map(|one| (one.layer, one.cost.0, one.with)).collect();
    assert_eq!(moved, [(LayerId(2), 2_060, MovedWith::DocumentLine { invoice: None, line: 0 })]);
    let text = decision.tape.to_text();
    for says in ["Credited", "-38.13", "54.12", "To pay", "15.99"] {
        assert!(text.contains(says), "{says} in {text}");
    }
    // The cheaper one: 15.99 less is kept for the customer. The same price: even, and the goods are written all the same.
    let out = goods_out(&books, vec![(typed(2, "1", "18", "S23"), 900)]);
    let input = without_invoice(&books, typed(1, "1", "31", "S23"), Some(out), back(&books, 1_450, false));
    let decision = alone::decide(&input);
    let row = [
        ("12000", 1_450),
        ("41000", 713),
        ("65000", 3_100),
        ("71000", 900),
        ("11000", -900),
        ("27000", -1_599),
        ("41000", -414),
        ("61000", -1_800),
        ("71000", -1_450),
    ];
    assert_eq!(written(&decision.entry), pairs(&row));
    assert_eq!(items(&decision.posting(&input)), [(Purpose::Unapplied, Side::OwedByUs, 1_599)]);
    assert_eq!(decision.posting(&input).stock[0].with, MovedWith::DocumentLine { invoice: None, line: 1 });
    let out = goods_out(&books, vec![(typed(2, "1", "31", "S23"), 1_600)]);
    let input = without_invoice(&books, typed(1, "1", "31", "S23"), Some(out), back(&books, 1_450, true));
    let decision = alone::decide(&input);
    assert_eq!((decision.blockers.len(), decision.balance()), (0, Money::ZERO));
    assert_eq!(items(&decision.posting(&input)), [(Purpose::Receivable, Side::OwedByUs, 0)]);
    assert!(decision.entry.as_ref().is_some_and(Entry::balances));
}

/// Goods go out only in exchange, a fee takes no more than is credited, and each fault stands at its own list.
#[test]
fn faults_of_an_exchange_stand_at_the_side_they_are_on() {
    let books = Books::new();
    let out = || goods_out(&books, vec![(typed(2, "1", "44", "S23"), 2_060)]);
    let mut input = without_invoice(&books, typed(1, "1", "31", "S23"), Some(out()), Vec::new());
    input.exchange = false;
    let found: Vec<_> = alone::decide(&input).blockers.into_iter().map(|one| (one.check, one.field)).collect();
    assert!(found.contains(&(Check::CannotCredit, "added.0.item".to_owned())), "{found:?}");
    assert!(found.contains(&(Check::CannotCredit, "added".to_owned())), "{found:?}");
    let mut input = without_invoice(&books, typed(1, "0", "31", "S23"), Some(out()), Vec::new());
    input.supplies.as_mut().unwrap().stock.clear();
    let found: Vec<_> = alone::decide(&input).blockers.into_iter().map(|one| one.field).collect();
    for field in ["back.0.quantity", "added.0.quantity"] {
        assert!(found.iter().any(|one| one == field), "{field} in {found:?}");
    }
    let mut input = without_invoice(&books, typed(1, "1", "31", "S23"), None, Vec::new());
    input.reason = String::new();
    let found: Vec<_> = alone::decide(&input).blockers.into_iter().map(|one| one.field).collect();
    assert_eq!(found, ["reason"]);
}
