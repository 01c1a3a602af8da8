//! Books small enough to read: the chart of postings.md, one open year, tax of 23 %.
#![allow(dead_code, missing_docs, clippy::unwrap_used)]

use std::collections::BTreeMap;

use chrono::NaiveDate;
use till_core::accounts::{Account, AccountMap, AccountRule, Purpose};
use till_core::calendar::{DateOrder, DocumentDate, Period, Periods, Terms};
use till_core::checks::Step;
use till_core::deposit::using::DepositUse;
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentRef, ItemId, OpenItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId,
};
use till_core::invoice::{Basis, CustomerFacts, Delivery, InvoiceInput, ItemKind, LineSource, LineToBill, TaxDateRule};
use till_core::marks::{MarkRules, Marks};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};
use till_core::order::{LineProgress, OrderFacts, Promised};
use till_core::posting::{Posting, Which};
use till_core::room::Movement;
use till_core::settle::{Member, Method, MoneyPlace, PlaceKind, SettleInput, Source, ToApply};
use till_core::tax::{TaxCategory, TaxCode, TaxComputed, TaxTable};
use till_core::treatment::{Treatment, TreatmentCodes};

pub fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

pub fn eur() -> Currency {
    Currency::of("EUR").unwrap()
}

/// The rules every case needs.
pub struct Books {
    pub accounts: AccountMap,
    pub taxes: TaxTable,
    pub periods: Periods,
    pub marks: MarkRules,
    pub treatments: TreatmentCodes,
}

impl Books {
    pub fn new() -> Self {
        let rows: &[(Purpose, Option<&str>, &str)] = &[
            (Purpose::Bank, None, "31000"),
            (Purpose::InHand, None, "32000"),
            (Purpose::Receivable, None, "21000"),
            (Purpose::Inventory, None, "11000"),
            (Purpose::SupplierClearing, None, "45000"),
            (Purpose::Unapplied, None, "27000"),
            (Purpose::TaxPayable, None, "41000"),
            (Purpose::Revenue, Some("goods"), "61000"),
            (Purpose::Revenue, Some("service"), "61800"),
            (Purpose::ChargeRevenue, None, "64000"),
            (Purpose::Returns, None, "65000"),
            (Purpose::Cogs, None, "71000"),
            (Purpose::FxDifference, None, "91000"),
            (Purpose::ShippedCost, None, "13000"),
            (Purpose::StockAdjustment, None, "73000"),
            (Purpose::ContainerLiability, None, "29000"),
            (Purpose::CardClearing, None, "33000"),
            (Purpose::DepositLiability, None, "25000"),
            (Purpose::PrepaymentLiability, None, "26000"),
            (Purpose::DiscountAllowed, None, "66000"),
            (Purpose::WriteOff, None, "82000"),
            (Purpose::OtherIncome, None, "69000"),
            (Purpose::Fees, None, "81000"),
            (Purpose::Inspection, None, "12000"),
            (Purpose::SupplierClaim, None, "14000"),
            (Purpose::Scrap, None, "72000"),
            (Purpose::RefundLiability, None, "28000"),
            (Purpose::RightToGoods, None, "13500"),
        ];
        let accounts = rows
            .iter()
            .map(|(purpose, class, number)| AccountRule {
                purpose: *purpose,
                item_class: class.map(str::to_owned),
                customer_class: None,
                account: Account {
                    number: (*number).to_owned(),
                    name: purpose.word().to_owned(),
                    account_type: purpose.demands(),
                },
            })
            .collect();
        let code = |code: &str, category, percent: &str| TaxCode {
            code: code.to_owned(),
            category,
            rates: vec![(day("2020-01-01"), Rate::from_percent(percent).unwrap())],
        };
        Self {
            accounts: AccountMap(accounts),
            taxes: TaxTable(vec![
                code("S23", TaxCategory::S, "23"),
                code("S135", TaxCategory::S, "13.5"),
                code("Z0", TaxCategory::Z, "0"),
                code("AE", TaxCategory::AE, "0"),
                code("E0", TaxCategory::E, "0"),
                code("O0", TaxCategory::O, "0"),
                // 21 % until the middle of March, 23 % from then on.
                TaxCode {
                    code: "S21".to_owned(),
                    category: TaxCategory::S,
                    rates: vec![
                        (day("2020-01-01"), Rate::from_percent("21").unwrap()),
                        (day("2026-03-15"), Rate::from_percent("23").unwrap()),
                    ],
                },
            ]),
            periods: Periods(vec![Period { first: day("2026-01-01"), last: day("2026-12-31"), open: true }]),
            marks: MarkRules::default(),
            treatments: TreatmentCodes::from([
                (Treatment::ReverseCharge, "AE".to_owned()),
                (Treatment::Exempt, "E0".to_owned()),
            ]),
        }
    }

    /// An invoice over lines of one order, all shipped on 12 March 2026.
    pub fn invoice(&self, lines: Vec<LineToBill>) -> InvoiceInput<'_> {
        let progress = lines
            .iter()
            .filter_map(|line| Some((line, line.source.order_line()?)))
            .map(|(line, order_line)| {
                (
                    order_line,
                    LineProgress {
                        ordered: line.unbilled,
                        cancelled: Quantity::ZERO,
                        shipped: line.unbilled,
                        billed: Quantity::ZERO,
                        value: Money(1_000),
                    },
                )
            })
            .collect();
        let today = DocumentDate { date: day("2026-03-18"), typed: false };
        InvoiceInput {
            prepaid: Vec::new(),
            step: Step::Post,
            dates: DateOrder::of_today(today.date),
            stock: BTreeMap::new(),
            committed: BTreeMap::new(),
            customer: CustomerFacts {
                id: CustomerId(7),
                number: "1001".to_owned(),
                name: "Saltmarsh Honey Co-op".to_owned(),
                class: None,
                tax_id: None,
                needs_order_number: false,
                stop_reason: None,
                owes: Money(10_000),
                credit_limit: Some(Money(500_000)),
                delivery: Delivery::Paper,
                email: None,
                gross_priced: false,
            },
            basis: Basis { currency: eur(), terms: Terms::net_days(30), terms_typed: false, gross_priced: false },
            discount: None,
            waits: None,
            deposits: Vec::new(),
            deposit_use: DepositUse::First,
            text_above: None,
            text_below: None,
            tax_date: TaxDateRule::Delivery,
            lines,
            orders: vec![OrderFacts {
                prepaid_left: Money::ZERO,
                card_left: Money::ZERO,
                work: Vec::new(),
                id: OrderId(1),
                number: "O-1".to_owned(),
                customer_order_number: Some("PO 1".to_owned()),
                terms: Terms::net_days(30),
                currency: eur(),
                confirmed: true,
                lines: progress,
                invoices: Vec::new(),
                promised: Promised::default(),
                deposits_held: Money::ZERO,
            }],
            document_date: today,
            posting_date: today,
            rate: Some(ExchangeRate::ONE),
            base: eur(),
            replaces: None,
            tax_computed: TaxComputed::PerDocument,
            taxes: &self.taxes,
            accounts: &self.accounts,
            periods: &self.periods,
            mark_rules: &self.marks,
        }
    }

    /// A credit, at a rate of one, applied to open items.
    pub fn money(&self, source: Source, amount: i64, to_apply: Vec<ToApply>) -> SettleInput<'_> {
        SettleInput {
            suggested: Vec::new(),
            payer: CustomerId(7),
            payer_name: "Saltmarsh Honey Co-op".to_owned(),
            payer_class: None,
            group: vec![member()],
            source,
            date: DocumentDate { date: day("2026-04-10"), typed: true },
            amount: Money(amount),
            currency: eur(),
            rate: Some(ExchangeRate::ONE),
            rooms: Vec::new(),
            early: BTreeMap::new(),
            tolerance: Money(5),
            other_rates: Vec::new(),
            base: eur(),
            to_apply,
            dates: DateOrder::of_today(day("2026-12-31")),
            orders: Vec::new(),
            accounts: &self.accounts,
            periods: &self.periods,
        }
    }

    /// The account a purpose leads to.
    pub fn account(&self, purpose: Purpose) -> Account {
        self.accounts.account(purpose, None, None).unwrap().clone()
    }
}

/// The customer of all cases: it owes 1,000.00.
pub fn member() -> Member {
    Member { id: CustomerId(7), name: "Saltmarsh Honey Co-op".to_owned(), owes: Money(100_000) }
}

/// A way of paying whose money goes to a place.
pub fn method(name: &str, kind: PlaceKind) -> Method {
    let account = Books::new().account(kind.purpose());
    let place = MoneyPlace { code: name.to_owned(), name: name.to_owned(), kind, account, currency: None };
    Method { code: name.to_owned(), name: name.to_owned(), place }
}

pub fn transfer() -> Source {
    Source::Received { method: method("transfer", PlaceKind::Bank) }
}

pub fn check() -> Source {
    Source::Received { method: method("check", PlaceKind::ChecksInHand) }
}

/// A line of a posted shipment.
pub fn shipped(line: i64, order_line: i64, shipment: i64, order: i64, on: &str) -> LineSource {
    LineSource::Shipped {
        shipment_line: ShipmentLineId(line),
        shipment: ShipmentId(shipment),
        shipment_number: format!("S-{shipment}"),
        shipped_on: day(on),
        order: OrderId(order),
        order_number: format!("O-{order}"),
        customer_order_number: Some(format!("PO {order}")),
        order_line: OrderLineId(order_line),
    }
}

pub fn line(id: i64, quantity: &str, price: &str, percent_off: &str, tax_code: &str) -> LineToBill {
    let quantity: Quantity = quantity.parse().unwrap();
    let unit_price: UnitPrice = price.parse().unwrap();
    LineToBill {
        source: shipped(id, id, 1, 1, "2026-03-12"),
        item: Some(ItemId(id)),
        account: None,
        code: format!("IT-{id}"),
        description: format!("Item {id}"),
        kind: ItemKind::Goods,
        class: "goods".to_owned(),
        unit: "pc".to_owned(),
        quantity,
        unbilled: quantity,
        unit_price,
        list_price: unit_price,
        discount: Rate::from_percent(percent_off).unwrap(),
        discount_reason: None,
        surcharge: UnitPrice::ZERO,
        surcharge_name: None,
        price_steps: Vec::new(),
        tax_code: tax_code.to_owned(),
        tax_change: None,
        tax_by_hand: false,
        tax_date: None,
        delivered: None,
        marks: Marks::default(),
        held_cost: None,
        leaves: None,
        faults: Vec::new(),
        billable: Vec::new(),
        price_change: None,
        reason: None,
    }
}

/// A line typed on the invoice itself.
pub fn typed(id: i64, quantity: &str, price: &str, code: &str) -> LineToBill {
    LineToBill { source: LineSource::Typed, kind: ItemKind::Service, ..line(id, quantity, price, "0", code) }
}

/// An open item of an account, there since 18 March 2026.
pub fn open_item(side: Side, purpose: Purpose, document: DocumentRef, open: (i64, i64)) -> OpenItem {
    let since = day("2026-03-18");
    OpenItem {
        id: OpenItemId(document.id),
        document,
        customer: CustomerId(7),
        purpose,
        account: Some(Books::new().account(purpose)),
        side,
        currency: eur(),
        posting_date: since,
        due_date: day("2026-04-17"),
        open: Money(open.0),
        open_base: Money(open.1),
        movements: vec![Movement::new(since, open.0)],
        base_movements: vec![Movement::new(since, open.1)],
        taxes: Vec::new(),
    }
}

pub fn open_invoice(id: i64, open: i64, open_base: i64) -> OpenItem {
    let document = DocumentRef { kind: DocumentKind::Invoice, id, number: format!("I-{id}") };
    open_item(Side::OwedToUs, Purpose::Receivable, document, (open, open_base))
}

/// Money that lies unapplied on a receipt.
pub fn unapplied(number: &str, open: i64, open_base: i64) -> OpenItem {
    let document = DocumentRef { kind: DocumentKind::Receipt, id: 900, number: number.to_owned() };
    open_item(Side::OwedByUs, Purpose::Unapplied, document, (open, open_base))
}

/// An entry as `account debit/-credit` pairs, debits first, the way postings.md writes them.
pub fn written(entry: &Option<Entry>) -> Vec<(String, i64)> {
    let mut lines: Vec<(String, i64)> =
        entry.iter().flat_map(|entry| &entry.lines).map(|line| (line.account.clone(), line.base.0)).collect();
    lines.sort_by_key(|(account, amount)| (*amount < 0, account.clone()));
    lines
}

/// The first entry a posting writes.
pub fn first_entry(posting: &Posting) -> Option<Entry> {
    posting.entries.first().map(|one| one.entry.clone())
}

/// Whether what a posting does to open items is what its entries say, for every control account and customer:
/// Σ lines = Σ new items − what is applied of them and of those that are known.
pub fn agrees(posting: &Posting, known: &[&OpenItem]) {
    let mut balances: BTreeMap<(&str, CustomerId), i64> = BTreeMap::new();
    let signed = |side: Side, amount: Money| if side == Side::OwedToUs { amount.0 } else { -amount.0 };
    for item in &posting.items {
        // Tax of money in advance stands on the tax account.
        let tax: Money = item.taxes.iter().map(|held| held.tax_base).sum();
        *balances.entry((item.purpose.word(), item.customer)).or_default() += signed(item.side, item.amount_base - tax);
    }
    for application in &posting.applications {
        for (which, (_, base)) in
            [(application.debit, application.debit_amount), (application.credit, application.credit_amount)]
        {
            let (purpose, customer, side) = match which {
                Which::New(place) => {
                    let item = &posting.items[place];
                    (item.purpose, item.customer, item.side)
                }
                Which::Known(id) => {
                    let item = known.iter().find(|item| item.id == id).unwrap();
                    (item.purpose, item.customer, item.side)
                }
            };
            let tax: Money = application.taxes.iter().map(|held| held.tax_base).sum();
            let tax = if purpose == Purpose::DepositLiability { tax } else { Money::ZERO };
            *balances.entry((purpose.word(), customer)).or_default() -= signed(side, base - tax);
        }
    }
    for line in posting.entries.iter().flat_map(|one| &one.entry.lines) {
        if matches!(line.purpose, Purpose::Receivable | Purpose::Unapplied | Purpose::DepositLiability) {
            *balances.entry((line.purpose.word(), line.customer.unwrap())).or_default() -= line.base.0;
        }
    }
    balances.retain(|_, difference| *difference != 0);
    assert!(balances.is_empty(), "{balances:?} in {posting:#?}");
    let places = posting.applications.iter().filter_map(|application| application.entry);
    assert!(places.into_iter().all(|place| place < posting.entries.len()), "{posting:#?}");
}

pub fn pairs(expected: &[(&str, i64)]) -> Vec<(String, i64)> {
    let mut lines: Vec<(String, i64)> =
        expected.iter().map(|(account, amount)| ((*account).to_owned(), *amount)).collect();
    lines.sort_by_key(|(account, amount)| (*amount < 0, account.clone()));
    lines
}
