//! A small company in a file of its own.
#![allow(dead_code, missing_docs, clippy::unwrap_used)]

use chrono::NaiveDate;
use tempfile::TempDir;
use till_core::accounts::{AccountType, Purpose};
use till_core::calendar::Terms;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CustomerId, InvoiceId, ItemId, OrderId, ShipmentId, ShipmentLineId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_core::tax::{TaxCategory, TaxComputed};
use till_store::customers::NewCustomer;
use till_store::invoices::{Pick, ToBill};
use till_store::items::NewItem;
use till_store::orders::{NewOrder, NewOrderLine};
use till_store::setup::{NewAccount, NewCompany};
use till_store::shipments::{NewShipment, PickForm, ShipmentForm};
use till_store::{
    Actor, Result, Store, Writing, customers, invoices, items, orders, receipts, rules, setup, shipments,
};
use tokio::sync::OnceCell;

/// The program at work, whom no limit holds.
pub fn by() -> Actor {
    Actor::program("2026-03-18T09:00:00Z".parse().unwrap())
}

pub fn day(text: &str) -> NaiveDate {
    text.parse().unwrap()
}

pub struct Company {
    pub store: Store,
    pub customers: Vec<CustomerId>,
    pub items: Vec<ItemId>,
    pub folder: TempDir,
}

const ACCOUNTS: &[(&str, AccountType, Purpose, Option<&str>)] = &[
    ("31000", AccountType::Asset, Purpose::Bank, None),
    ("33000", AccountType::Asset, Purpose::CardClearing, None),
    ("81000", AccountType::Expense, Purpose::Fees, None),
    ("32000", AccountType::Asset, Purpose::InHand, None),
    ("21000", AccountType::Asset, Purpose::Receivable, None),
    ("11000", AccountType::Asset, Purpose::Inventory, None),
    ("12000", AccountType::Asset, Purpose::Inspection, None),
    ("13000", AccountType::Asset, Purpose::ShippedCost, None),
    ("14000", AccountType::Asset, Purpose::SupplierClaim, None),
    ("72000", AccountType::Expense, Purpose::Scrap, None),
    ("28000", AccountType::Liability, Purpose::RefundLiability, None),
    ("13500", AccountType::Asset, Purpose::RightToGoods, None),
    ("29000", AccountType::Liability, Purpose::ContainerLiability, None),
    ("73000", AccountType::Expense, Purpose::StockAdjustment, None),
    ("45000", AccountType::Liability, Purpose::SupplierClearing, None),
    ("27000", AccountType::Liability, Purpose::Unapplied, None),
    ("25000", AccountType::Liability, Purpose::DepositLiability, None),
    ("26000", AccountType::Liability, Purpose::PrepaymentLiability, None),
    ("69000", AccountType::Revenue, Purpose::OtherIncome, None),
    ("41000", AccountType::Liability, Purpose::TaxPayable, None),
    ("61000", AccountType::Revenue, Purpose::Revenue, None),
    ("64000", AccountType::Revenue, Purpose::ChargeRevenue, None),
    ("65000", AccountType::Revenue, Purpose::Returns, None),
    ("66000", AccountType::Revenue, Purpose::DiscountAllowed, None),
    ("82000", AccountType::Expense, Purpose::WriteOff, None),
    ("71000", AccountType::Expense, Purpose::Cogs, None),
    ("91000", AccountType::Expense, Purpose::FxDifference, None),
    ("50000", AccountType::Equity, Purpose::Opening, None),
];

/// The books every test begins with: made once, then copied.
struct Made {
    books: Vec<u8>,
    customers: Vec<CustomerId>,
    items: Vec<ItemId>,
}

static MADE: [OnceCell<Made>; FOREIGN.len()] = [const { OnceCell::const_new() }; FOREIGN.len()];

impl Made {
    async fn new(foreign: (&str, &str, &str)) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("books.db");
        let store = Store::open(&file).await.unwrap();
        let (customers, items) =
            store.change(&by(), None, async |writing| set_up(writing, foreign).await).await.unwrap();
        store.close().await;
        Self { books: std::fs::read(&file).unwrap(), customers, items }
    }
}

impl Company {
    /// Two customers at home and one in pounds, two items with 1,000 in stock and freight.
    pub async fn new() -> Self {
        Self::with_foreign(FOREIGN[0]).await
    }

    /// The same, with the third customer in another currency: its code, what one is worth from the first of
    /// January, and from 20 March on.
    pub async fn with_foreign(foreign: (&str, &str, &str)) -> Self {
        let at = FOREIGN.iter().position(|known| *known == foreign).unwrap();
        let made = MADE[at].get_or_init(async || Made::new(foreign).await).await;
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("books.db");
        std::fs::write(&file, &made.books).unwrap();
        let store = Store::open(&file).await.unwrap();
        Self { store, customers: made.customers.clone(), items: made.items.clone(), folder }
    }

    /// An order of `quantity` of the first item (59.00 each) and freight, confirmed.
    pub async fn order(&self, customer: usize, quantity: i64) -> OrderId {
        let new = NewOrder {
            customer: self.customers[customer],
            customer_order_number: None,
            order_date: day("2026-03-01"),
            promised_date: None,
            // In another currency the prices are agreed, not converted.
            lines: [(self.items[0], quantity, "59"), (self.items[2], 1, "18")]
                .map(|(item, quantity, price)| NewOrderLine {
                    unit_price: (customer == 2).then(|| price.parse().unwrap()),
                    ..order_line(item, quantity)
                })
                .to_vec(),
        };
        self.store
            .change(&by(), None, async |connection| {
                let order = orders::enter(connection, &new).await?;
                orders::confirm(connection, order).await?;
                Ok(order)
            })
            .await
            .unwrap()
    }

    /// Ships `quantity` of the order's first line, and posts the shipment.
    pub async fn ship(&self, order: OrderId, quantity: i64) -> ShipmentId {
        self.try_ship(order, Quantity::from_whole(quantity)).await.unwrap()
    }

    pub async fn try_ship(&self, order: OrderId, quantity: Quantity) -> Result<ShipmentId> {
        self.store
            .change(&by(), None, async |connection| {
                let view = orders::view(connection, order).await?;
                let mut lines = vec![(view.lines[0].id, quantity)];
                if view.lines[1].progress.shipped.is_zero() {
                    lines.push((view.lines[1].id, Quantity::ONE));
                }
                let shipment = shipments::pack(
                    connection,
                    &NewShipment {
                        order,
                        packed_date: day("2026-03-10"),
                        carrier: None,
                        consignment_number: None,
                        lines,
                    },
                )
                .await?;
                let rules = rules::load(connection).await?;
                shipments::post(connection, &rules, shipment, None, day("2026-03-12")).await
            })
            .await
    }

    pub async fn lines_of(&self, shipment: ShipmentId) -> Vec<ShipmentLineId> {
        let mut connection = self.store.read().await.unwrap();
        shipments::view(&mut connection, shipment).await.unwrap().lines.iter().map(|line| line.id).collect()
    }

    pub async fn to_bill(&self, shipment: ShipmentId) -> ToBill {
        all_of(&self.lines_of(shipment).await)
    }

    pub async fn bill(&self, shipment: ShipmentId) -> InvoiceId {
        let to_bill = self.to_bill(shipment).await;
        self.store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                invoices::post_picks(connection, &rules, &to_bill, None).await
            })
            .await
            .unwrap()[0]
            .id
    }

    pub async fn receive(&self, new: &receipts::NewReceipt) -> Result<receipts::PostedReceipt> {
        self.store
            .change(&by(), None, async |connection| {
                let rules = rules::load(connection).await?;
                receipts::post(connection, &rules, new, None).await
            })
            .await
    }

    /// Proves the books.
    pub async fn holds(&self) {
        let mut connection = self.store.read().await.unwrap();
        let verification = till_store::verify::verify(&mut connection).await.unwrap();
        let broken: Vec<_> = verification.proofs.iter().filter(|proof| !proof.holds).collect();
        assert!(verification.holds, "{broken:#?}");
    }
}

pub fn all_of(lines: &[ShipmentLineId]) -> ToBill {
    ToBill {
        picks: lines.iter().map(|line| Pick { shipment_line: *line, quantity: None }).collect(),
        ..ToBill::default()
    }
}

pub fn order_line(item: ItemId, quantity: i64) -> NewOrderLine {
    NewOrderLine {
        item,
        quantity: Quantity::from_whole(quantity),
        unit_price: None,
        discount: Rate::ZERO,
        discount_reason: None,
        tax_code: None,
    }
}

/// Currencies with two decimals, none and three, and what one of each is worth in euros.
pub const FOREIGN: [(&str, &str, &str); 3] =
    [("GBP", "1.17", "1.15"), ("JPY", "0.0061", "0.0060"), ("KWD", "2.99", "3.05")];

async fn set_up(
    connection: &mut Writing<'_>,
    (foreign, worth, worth_later): (&str, &str, &str),
) -> Result<(Vec<CustomerId>, Vec<ItemId>)> {
    let eur = Currency::of("EUR").unwrap();
    let foreign = Currency::of(foreign).unwrap();
    setup::company(
        connection,
        &NewCompany {
            name: "Small Books".to_owned(),
            base: eur,
            business_date: Some(day("2026-03-18")),
            tax_computed: TaxComputed::PerDocument,
        },
    )
    .await?;
    for (kind, prefix) in [
        ("quote", "Q-"),
        ("call_off", "K-"),
        ("order", "O-"),
        ("shipment", "S-"),
        ("invoice", "I-"),
        ("credit_memo", "CM-"),
        ("receipt", "C-"),
        ("container_return", "CR-"),
        ("opening", "OB-"),
        ("return", "RA-"),
        ("estimate", "XR-"),
        ("return_accrual", "AR-"),
        ("bank_statement", "BS-"),
        ("bank_slip", "DS-"),
        ("deposit", "D-"),
        ("deposit_end", "DE-"),
        ("refund", "RF-"),
        ("prepayment_invoice", "P-"),
        ("payment_request", "PR-"),
        ("card_authorization", "CA-"),
        ("card_return", "CB-"),
        ("card_payout", "CP-"),
        ("entry", "E-"),
    ] {
        setup::number_range(connection, kind, prefix, 1).await?;
    }
    setup::months(connection, day("2026-02-01"), day("2026-12-01")).await?;
    setup::set_period(connection, day("2026-02-01"), false).await?;
    for (number, account_type, purpose, class) in ACCOUNTS {
        let serves = [(*purpose, *class)];
        setup::account(
            connection,
            &NewAccount { number, name: purpose.word(), account_type: *account_type, serves: &serves },
        )
        .await?;
    }
    setup::money_places(connection).await?;
    setup::tax_code(
        connection,
        "S23",
        "Standard",
        TaxCategory::S,
        day("2020-01-01"),
        Rate::from_percent("23").unwrap(),
    )
    .await?;
    setup::tax_code(
        connection,
        "S135",
        "Reduced",
        TaxCategory::S,
        day("2020-01-01"),
        Rate::from_percent("13.5").unwrap(),
    )
    .await?;
    setup::tax_code(connection, "Z0", "Zero", TaxCategory::Z, day("2020-01-01"), Rate::from_percent("0").unwrap())
        .await?;
    setup::exchange_rate(connection, foreign, day("2026-01-01"), worth.parse().unwrap()).await?;
    setup::exchange_rate(connection, foreign, day("2026-03-20"), worth_later.parse().unwrap()).await?;
    let mut people = Vec::new();
    for (number, currency) in [("1", eur), ("2", eur), ("3", foreign)] {
        people.push(
            customers::add(
                connection,
                &NewCustomer {
                    number,
                    name: number,
                    class: None,
                    address: "1 Test Road",
                    country: "MH",
                    tax_id: None,
                    currency,
                    terms: Terms::net_days(30),
                    credit_limit: None,
                    stop_reason: None,
                    needs_order_number: false,
                },
            )
            .await?,
        );
    }
    let rules = rules::load(connection).await?;
    let mut things = Vec::new();
    for (code, kind, price) in
        [("A", ItemKind::Goods, "59.00"), ("B", ItemKind::Goods, "0.333333"), ("FRT", ItemKind::Charge, "18.00")]
    {
        let item = items::add(
            connection,
            &NewItem {
                code,
                name: code,
                kind,
                class: "goods",
                unit: "pc",
                list_price: price.parse().unwrap(),
                tax_code: "S23",
            },
        )
        .await?;
        things.push(item);
        if kind == ItemKind::Goods {
            // A cost that does not divide evenly, in two layers.
            items::take_in(connection, &rules, item, Quantity::from_whole(333), Money(1_000_000), day("2026-03-01"))
                .await?;
            items::take_in(connection, &rules, item, Quantity::from_whole(667), Money(2_099_999), day("2026-03-02"))
                .await?;
        }
    }
    Ok((people, things))
}

/// Carries out a change with the rules of the company.
pub async fn change<T: serde::Serialize + serde::de::DeserializeOwned>(
    company: &Company,
    what: impl AsyncFnOnce(&mut Writing<'_>, &rules::Rules) -> Result<T>,
) -> Result<T> {
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            what(writing, &rules).await
        })
        .await
}

/// Ships what is given of the lines of an order, with freight or without.
pub async fn ship(company: &Company, order: OrderId, quantities: &[&str], freight: Option<&str>) -> ShipmentId {
    change(company, async |writing, rules| {
        let view = orders::view(writing, order).await?;
        let form = ShipmentForm {
            carrier: None,
            consignment_number: None,
            freight: freight.map(str::to_owned),
            warehouse: None,
            lines: view
                .lines
                .iter()
                .zip(quantities)
                .filter(|(_, quantity)| **quantity != "0")
                .map(|(line, quantity)| PickForm { order_line: line.id, quantity: (*quantity).to_owned() })
                .collect(),
        };
        let shipment = shipments::start(writing, rules, order, Some(&form)).await?;
        shipments::post(writing, rules, shipment, None, day("2026-03-12")).await
    })
    .await
    .unwrap()
}
