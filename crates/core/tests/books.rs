//! Faults found in the books by reading, mended: each with its figures worked out by hand. The names are those
//! of the table in docs/rules.md.

use std::collections::BTreeMap;

use crate::common::*;
use chrono::NaiveDate;
use till_core::checks::{Check, Effect, stops};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{ItemId, LayerId};
use till_core::invoice::{self, InvoiceInput, ItemKind, LineToBill, TaxChange, decide_in_order, waits_for_rest};
use till_core::money::{Currency, Money};
use till_core::order::{LineProgress, Settlement, track};
use till_core::posting::MovedWith;
use till_core::pricing::{PriceInput, QuantityBreak, Typed, build};
use till_core::shipment::freight_by_code;
use till_core::stock::Layer;
use till_core::tape::Figure;
use till_core::tax::TaxComputed;
use till_core::terms::{DiscountBase, EarlyDiscount, Terms};
use till_core::treatment::{Taxed, Treatment};

fn whole(quantity: i64) -> Quantity {
    Quantity::from_whole(quantity)
}

/// Goods typed on an invoice, of an item in stock.
fn goods(id: i64, quantity: i64, price: &str) -> LineToBill {
    LineToBill {
        kind: ItemKind::Goods,
        leaves: Some(whole(quantity)),
        item: Some(ItemId(1)),
        code: "HB-12".to_owned(),
        ..typed(id, &quantity.to_string(), price, "S23")
    }
}

fn in_stock(input: &mut InvoiceInput<'_>, layers: &[(i64, i64, i64)]) {
    let layer = |(id, quantity, cost): &(i64, i64, i64)| Layer {
        id: LayerId(*id),
        remaining: whole(*quantity),
        remaining_cost: Money(*cost),
        later: Vec::new(),
    };
    input.stock = BTreeMap::from([(ItemId(1), layers.iter().map(layer).collect())]);
}

fn checks(input: &InvoiceInput<'_>) -> Vec<(Check, Effect, String)> {
    invoice::decide(input).blockers.into_iter().map(|one| (one.check, one.effect, one.field)).collect()
}

/// A1, postings.md: a direct invoice of 4 pieces at cost 14.50, 71000 58.00 against 11000 58.00, beside 130.00
/// and 29.90 of tax.
#[test]
fn goods_typed_on_an_invoice_leave_stock_with_it() {
    let books = Books::new();
    let mut input = books.invoice(vec![goods(1, 4, "32.50")]);
    input.orders.clear();
    in_stock(&mut input, &[(7, 9, 13_050)]);
    let decision = invoice::decide(&input);
    assert_eq!(decision.blockers, []);
    assert_eq!(written(&decision.entry), pairs(&[("21000", 15_990), ("41000", -2_990), ("61000", -13_000)]));
    assert_eq!(written(&decision.cost_entry), pairs(&[("71000", 5_800), ("11000", -5_800)]));
    assert_eq!(decision.costs, [Money(5_800)]);
    let posting = decision.posting();
    agrees(&posting, &[]);
    let [left] = posting.stock[..] else { panic!("{posting:?}") };
    assert_eq!((left.layer, left.quantity, left.cost), (LayerId(7), whole(4), Money(5_800)));
    assert_eq!(left.with, MovedWith::DocumentLine { invoice: None, line: 0 });
    let on_hand = decision.changes.iter().find(|change| change.label == "HB-12 on hand").unwrap();
    assert_eq!(on_hand.after, Figure::words("5"));
}

/// Ten of nine are not sold; nor what is reserved for others; nor before it came.
#[test]
fn what_is_not_there_is_not_sold() {
    let books = Books::new();
    let mut input = books.invoice(vec![goods(1, 10, "32.50")]);
    input.orders.clear();
    in_stock(&mut input, &[(7, 9, 13_050)]);
    let short = vec![(Check::StockShort, Effect::Stops, "lines.0.quantity".to_owned())];
    assert_eq!(checks(&input), short);
    assert!(invoice::decide(&input).posting().stock.is_empty());
    input.lines = vec![goods(1, 5, "32.50"), goods(2, 5, "32.50")];
    assert_eq!(checks(&input), vec![(Check::StockShort, Effect::Stops, "lines.1.quantity".to_owned())]);
    input.lines = vec![goods(1, 5, "32.50")];
    assert_eq!(checks(&input), []);
    input.committed = BTreeMap::from([(ItemId(1), whole(5))]);
    assert_eq!(checks(&input), short);
}

/// Two drafts of six of the nine, posted together: the second sees what the first left, three at 43.50.
#[test]
fn drafts_posted_together_share_one_stock() {
    let books = Books::new();
    let mut inputs: Vec<InvoiceInput<'_>> = [6, 3, 1]
        .into_iter()
        .map(|quantity| {
            let mut input = books.invoice(vec![goods(1, quantity, "32.50")]);
            input.orders.clear();
            in_stock(&mut input, &[(7, 9, 13_051)]);
            input
        })
        .collect();
    let decisions = decide_in_order(&mut inputs);
    // 130.51 × 6 ÷ 9 = 87.0067; the last three take what is left.
    assert_eq!((decisions[0].costs[0], decisions[1].costs[0]), (Money(8_701), Money(4_350)));
    assert!(stops(&decisions[2].blockers));
}

/// A9: drums in pounds are stopped, as on an order. A11: an exempt code chosen by hand asks for the certificate.
#[test]
fn typed_lines_follow_the_rules_of_their_document() {
    let books = Books::new();
    let gbp = Currency::of("GBP").unwrap();
    let mut input = books.invoice(vec![LineToBill { kind: ItemKind::Packaging, ..typed(1, "10", "40.00", "Z0") }]);
    input.orders.clear();
    (input.basis.currency, input.rate) = (gbp, Some("1.17".parse().unwrap()));
    assert_eq!(checks(&input), [(Check::ContainerCurrency, Effect::Stops, "lines.0.item".to_owned())]);

    let standard = Taxed::standard();
    let mut chosen = line(1, "1", "1000", "0", "S23");
    chosen.tax_change = Some(TaxChange { code: "E0".to_owned(), reason: "says it is a school".to_owned() });
    chosen.delivered = Some(("School".to_owned(), standard.clone()));
    let mut input = books.invoice(vec![chosen]);
    assert_eq!(checks(&input), [(Check::ExemptionExpired, Effect::Stops, "lines.0.tax_code".to_owned())]);
    let holds = Taxed { certificate: Some("E 12".to_owned()), until: Some(day("2026-12-31")), ..standard };
    input.lines[0].delivered = Some(("School".to_owned(), holds));
    assert_eq!(checks(&input), []);

    // Treated as exempt, led to a zero-rated code: the certificate is looked at all the same.
    let expired =
        Taxed { treatment: Treatment::Exempt, certificate: Some("E 12".to_owned()), until: Some(day("2026-02-28")) };
    let mut exempt = line(1, "1", "500", "0", "Z0");
    exempt.delivered = Some(("School".to_owned(), expired));
    assert_eq!(
        checks(&books.invoice(vec![exempt])),
        [(Check::ExemptionExpired, Effect::Stops, "customer.ship_tos".to_owned())]
    );
}

/// A typed line that is taxed otherwise, or given away, says why.
#[test]
fn what_is_given_away_or_taxed_otherwise_says_why() {
    let books = Books::new();
    let mut free = goods(1, 1, "0");
    free.tax_change = Some(TaxChange { code: "S135".to_owned(), reason: String::new() });
    let mut input = books.invoice(vec![free]);
    input.orders.clear();
    in_stock(&mut input, &[(7, 9, 13_050)]);
    let missing: Vec<_> = checks(&input).into_iter().filter(|(check, ..)| *check == Check::ReasonMissing).collect();
    assert_eq!(missing, vec![(Check::ReasonMissing, Effect::Stops, "lines.0.reason".to_owned()); 2]);
    input.lines[0].reason = Some("a sample".to_owned());
    assert!(!stops(&invoice::decide(&input).blockers));
}

/// B4: of drafts posted together the second is dated before the first; one dated after today holds nobody up.
#[test]
fn dates_are_in_order_among_what_is_posted_together() {
    let books = Books::new();
    let dated = |on: &str| {
        let mut input = books.invoice(vec![line(1, "1", "10", "0", "S23")]);
        input.dates.stops = true;
        (input.document_date.date, input.posting_date.date) = (day(on), day(on));
        input
    };
    let found = |dates: &[&str]| -> Vec<Vec<Check>> {
        let mut inputs: Vec<_> = dates.iter().map(|on| dated(on)).collect();
        let decisions = decide_in_order(&mut inputs);
        decisions.iter().map(|one| one.blockers.iter().map(|blocker| blocker.check).collect()).collect()
    };
    assert_eq!(found(&["2026-03-18", "2026-03-16"]), [vec![], vec![Check::DateBeforeLast]]);
    assert_eq!(found(&["2026-12-18", "2026-03-18"]), [vec![Check::DateAhead], vec![]]);
}

/// B6: 10,000 seeds at 0.0040 in pounds at 1.17 are 34.19 (0.003419 each), not nothing; 10,000 at 0.0123 with
/// 23 % are 151.29 (0.015129 each), not 200.00. From 1,000.00 on a price has the currency's decimals.
#[test]
fn small_prices_keep_their_digits() {
    let gbp = Currency::of("GBP").unwrap();
    let seeds = |list: &str, quantity: &str| PriceInput { list: list.parse().unwrap(), ..price_of(quantity) };
    let abroad = PriceInput { document: gbp, rate: Some("1.17".parse().unwrap()), ..seeds("0.0040", "10000") };
    let built = build(&abroad).unwrap();
    assert_eq!((built.unit_price, built.net), ("0.003419".parse().unwrap(), Money(3_419)));
    let with_tax = PriceInput { tax: Some(Rate::from_percent("23").unwrap()), ..seeds("0.0123", "10000") };
    let built = build(&with_tax).unwrap();
    assert_eq!((built.unit_price, built.net), ("0.015129".parse().unwrap(), Money(15_129)));
    let price = |list: &str| {
        let abroad = PriceInput { document: gbp, rate: Some("1.17".parse().unwrap()), ..seeds(list, "1") };
        build(&abroad).unwrap().unit_price.to_string()
    };
    // 1.5384…, 85.4700…, 8,547.0085…
    assert_eq!([price("1.80"), price("100"), price("10000")], ["1.538", "85.47", "8547.01"]);
}

fn price_of(quantity: &str) -> PriceInput {
    PriceInput {
        code: "SEED".to_owned(),
        quantity: quantity.parse().unwrap(),
        factor: Quantity::ONE,
        list: UnitPrice::ZERO,
        base: eur(),
        document: eur(),
        rate: None,
        price_list: None,
        call_off: None,
        breaks: Vec::new(),
        promotions: Vec::new(),
        date: day("2026-03-18"),
        typed: Typed::default(),
        surcharge: None,
        tax: None,
    }
}

/// B7: 7.5 % and 3.25 % and 2.25 % one after the other off 12,500.00: 10,935.02 (10,935.0244…), where a discount
/// of 12.5198 % together gave 10,935.03; and the invoice over it comes to the same.
#[test]
fn discounts_one_after_the_other_are_rounded_once() {
    let off = |percent: &str| Rate::from_percent(percent).unwrap();
    let mut input = price_of("1000");
    input.list = "12.50".parse().unwrap();
    let broken = |percent, source: &str| QuantityBreak { from: whole(1), off: off(percent), source: source.to_owned() };
    input.breaks = vec![broken("7.5", "1 and over")];
    input.promotions = vec![till_core::pricing::Promotion {
        code: "SPRING".to_owned(),
        name: "Spring".to_owned(),
        first: day("2026-03-01"),
        last: day("2026-03-31"),
        off: off("3.25"),
    }];
    input.typed.discount = Some(off("2.25"));
    let built = build(&input).unwrap();
    assert_eq!(built.net, Money(1_093_502));
    let books = Books::new();
    let mut billed = line(1, "1000", "12.50", "0", "Z0");
    (billed.discount, billed.price_steps) = (built.discount, built.steps);
    assert_eq!(invoice::decide(&books.invoice(vec![billed])).document.unwrap().total, Money(1_093_502));
}

/// B9: zero-rated goods carry their freight at zero; of goods of 200.00 at 23 % and 100.00 at zero, freight of
/// 18.01 is 12.01 and 6.00.
#[test]
fn freight_is_taxed_as_its_goods() {
    let goods = |lines: &[(&str, i64)]| -> Vec<(String, Money)> {
        lines.iter().map(|(code, net)| ((*code).to_owned(), Money(*net))).collect()
    };
    let parts = |freight: i64, lines: &[(&str, i64)]| freight_by_code(Money(freight), &goods(lines), "S23");
    assert_eq!(parts(1_800, &[("Z0", 10_000)]), goods(&[("Z0", 1_800)]));
    assert_eq!(parts(1_801, &[("S23", 15_000), ("Z0", 10_000), ("S23", 5_000)]), goods(&[("S23", 1_201), ("Z0", 600)]));
    assert_eq!(parts(1_800, &[]), goods(&[("S23", 1_800)]));
    assert_eq!(parts(1_800, &[("Z0", 0)]), goods(&[("Z0", 1_800)]));
}

/// B10: 2 % of goods of 123.00 with tax and a drum of 40.00 are 2.46, not 3.26; and where an invoice of 14 March is
/// due on 15 March, it earns until then, not until the 24th.
#[test]
fn paying_early_earns_on_what_is_sold_and_until_it_is_due() {
    let discount = EarlyDiscount {
        rate: Rate::from_percent("2").unwrap(),
        days: 10,
        grace_days: 0,
        base: DiscountBase::Gross,
        tax_adjusted: false,
    };
    let terms = Terms { discount: Some(discount), ..Terms::day_of_month(15) };
    let books = Books::new();
    let drum = LineToBill { kind: ItemKind::Packaging, ..line(2, "1", "40.00", "0", "Z0") };
    let mut input = books.invoice(vec![line(1, "1", "100.00", "0", "S23"), drum]);
    input.basis.terms = terms;
    input.document_date.date = day("2026-03-14");
    let early = invoice::decide(&input).document.unwrap().early.unwrap();
    assert_eq!((early.amount, early.until), (Money(246), day("2026-03-15")));
    input.document_date.date = day("2026-03-16");
    assert_eq!(invoice::decide(&input).document.unwrap().early.unwrap().until, day("2026-03-26"));
}

/// B3: prices with tax, three orders of 1.00 each on one invoice: net 2.44, tax 0.56, each order exactly 1.00. Tax line
/// by line of 0.10, 0.10, 0.10 and 10.00: 0.02, 0.02, 0.02 and 2.30.
#[test]
fn each_order_has_its_own_share() {
    let books = Books::new();
    let orders = |prices: &[&str]| -> InvoiceInput<'_> {
        let lines = prices
            .iter()
            .zip(1..)
            .map(|(price, id)| {
                let mut line = line(id, "1", price, "0", "S23");
                line.source = shipped(id, id, id, id, "2026-03-12");
                line
            })
            .collect();
        let mut input = books.invoice(lines);
        let first = input.orders[0].clone();
        input.orders = (1..=prices.len())
            .map(|id| {
                let mut order = first.clone();
                order.id = till_core::ids::OrderId(i64::try_from(id).unwrap());
                order
            })
            .collect();
        input
    };
    let shares = |input: &InvoiceInput<'_>| -> Vec<i64> {
        let document = invoice::decide(input).document.unwrap();
        assert_eq!(document.order_shares.iter().map(|share| share.gross).sum::<Money>(), document.total);
        document.order_shares.iter().map(|share| share.gross.0).collect()
    };
    let mut gross = orders(&["1.00", "1.00", "1.00"]);
    gross.basis.gross_priced = true;
    for order in &mut gross.orders {
        order.promised.gross = true;
    }
    assert_eq!(shares(&gross), [100, 100, 100]);
    let mut by_line = orders(&["0.10", "0.10", "0.10", "10.00"]);
    by_line.tax_computed = TaxComputed::PerLine;
    assert_eq!(shares(&by_line), [12, 12, 12, 1_230]);
}

/// Wire 9: one of five wanted has shipped (23 ordered, 18 canceled): exactly a fifth.
#[test]
fn a_fifth_is_a_fifth() {
    let line = |ordered, cancelled, shipped| LineProgress {
        ordered: whole(ordered),
        cancelled: whole(cancelled),
        shipped: whole(shipped),
        billed: Quantity::ZERO,
        value: Money(23_456),
    };
    let shipped = |lines: &[LineProgress]| track(true, lines, Settlement::default()).shipped;
    assert_eq!(shipped(&[line(23, 18, 1)]), 200);
    assert_eq!(shipped(&[line(7, 0, 7), line(3, 0, 3)]), 1_000);
    // A ten-thousandth is missing of a hundred million.
    let mut almost = line(99_999_999, 0, 99_999_999);
    almost.shipped = Quantity::from_scaled(almost.shipped.scaled() - 1);
    assert_eq!(shipped(&[almost]), 999);
}

/// B13: what is still to be done beside goods that have all gone keeps no order waiting.
#[test]
fn work_keeps_no_order_waiting() {
    let books = Books::new();
    let input = books.invoice(vec![line(1, "1", "10", "0", "S23"), line(2, "1", "60", "0", "S23")]);
    let mut order = input.orders[0].clone();
    let id = order.lines[1].0;
    order.lines[0].1.shipped = order.lines[0].1.ordered;
    order.lines[1].1.shipped = Quantity::ZERO;
    assert!(waits_for_rest(&order));
    order.work = vec![id];
    assert!(!waits_for_rest(&order));
    order.lines[0].1.shipped = Quantity::ZERO;
    assert!(waits_for_rest(&order));
}

/// A4: a line that bills anew what was canceled keeps the day that picked its rate.
#[test]
fn what_is_billed_anew_keeps_its_tax_date() {
    let books = Books::new();
    let mut input = books.invoice(vec![typed(1, "1", "100", "S23")]);
    input.orders.clear();
    let dates = |input: &InvoiceInput<'_>| -> Vec<NaiveDate> {
        invoice::decide(input).document.unwrap().lines.iter().map(|line| line.tax_date).collect()
    };
    assert_eq!(dates(&input), [day("2026-03-18")]);
    input.lines[0].tax_date = Some(day("2025-12-30"));
    assert_eq!(dates(&input), [day("2025-12-30")]);
}
