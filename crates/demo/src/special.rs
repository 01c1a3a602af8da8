//! The cases a visitor is to find on 18 March 2026, ready to be worked on.

use chrono::{Days, NaiveDate};
use till_core::fixed::Quantity;
use till_core::ids::{OrderId, ShipmentLineId};
use till_store::invoices::{LineKey, NewPrice, Pick, ToBill};
use till_store::orders::{NewOrder, NewOrderLine};
use till_store::receipts::NewReceipt;
use till_store::{Result, Store, Writing, invoices, orders, receipts, rules, setup, shipments};

use crate::BUSINESS_DATE;
use crate::catalogue::{CUSTOMERS, Customer, ITEMS};
use crate::company::People;
use crate::history::{line, pack};
use crate::staff::{INES, TOMAS, at_work};

fn days_ago(days: u64) -> NaiveDate {
    BUSINESS_DATE.checked_sub_days(Days::new(days)).unwrap_or(BUSINESS_DATE)
}

/// An order, how much of each line goes, and when.
struct Case<'a> {
    customer: &'a str,
    customer_order_number: Option<&'a str>,
    ordered: u64,
    /// Item, quantity ordered, quantity shipped, percent off, why.
    lines: &'a [(&'a str, i64, i64, &'a str, Option<&'a str>)],
    /// Days ago; none for packed and waiting.
    shipped: Option<u64>,
}

const CASES: &[Case<'static>] = &[
    // Two orders of one customer, one of them shipped in part: two shipments for one invoice.
    Case {
        customer: "1001",
        customer_order_number: Some("SH-2611"),
        ordered: 9,
        shipped: Some(6),
        lines: &[
            ("HB-12", 60, 40, "5", Some("40 and over")),
            ("FL-PI", 12, 12, "0", None),
            ("RF-AL", 4, 4, "0", None),
            ("FRT", 1, 1, "0", None),
        ],
    },
    Case {
        customer: "1001",
        customer_order_number: Some("SH-2619"),
        ordered: 5,
        shipped: Some(2),
        lines: &[("WX-BR", 25, 25, "0", None), ("BK-01", 2, 2, "0", None)],
    },
    Case {
        customer: "1002",
        customer_order_number: None,
        ordered: 12,
        shipped: Some(9),
        lines: &[("HB-SU", 80, 50, "7.5", Some("spring order")), ("FR-50", 30, 30, "5", Some("20 and over"))],
    },
    // Stopped: reverse charge without a tax id.
    Case {
        customer: "2001",
        customer_order_number: Some("VC 77"),
        ordered: 8,
        shipped: Some(4),
        lines: &[("EX-09", 1, 1, "5", Some("spring offer, to 31 Mar"))],
    },
    // Stopped: this customer wants its order number on every invoice.
    Case {
        customer: "1004",
        customer_order_number: None,
        ordered: 14,
        shipped: Some(11),
        lines: &[
            ("JR-34", 120, 120, "5", Some("20 and over")),
            ("LD-GD", 60, 60, "5", Some("20 and over")),
            ("FRT", 1, 1, "0", None),
        ],
    },
    // On hold: billing what has gone goes on, with a warning.
    Case {
        customer: "1007",
        customer_order_number: None,
        ordered: 13,
        shipped: Some(8),
        lines: &[("JR-50", 30, 30, "5", Some("20 and over")), ("LD-GD", 12, 12, "0", None)],
    },
    Case {
        customer: "1003",
        customer_order_number: None,
        ordered: 4,
        shipped: Some(1),
        lines: &[("JR-34", 12, 12, "0", None), ("SM-ST", 1, 1, "0", None)],
    },
    // Two rates of tax on one invoice.
    Case {
        customer: "1010",
        customer_order_number: Some("BW 0318"),
        ordered: 3,
        shipped: Some(0),
        lines: &[("FD-14", 20, 20, "5", Some("20 and over")), ("SU-FL", 2, 2, "0", None), ("FRT", 1, 1, "0", None)],
    },
    // Abroad.
    Case {
        customer: "3001",
        customer_order_number: Some("WF-1190"),
        ordered: 7,
        shipped: Some(3),
        lines: &[("SU-FL", 4, 4, "0", None), ("GL-LE", 10, 10, "0", None)],
    },
    // Packed and not posted: not there to be billed.
    Case {
        customer: "1006",
        customer_order_number: None,
        ordered: 4,
        shipped: None,
        lines: &[("SM-ST", 6, 6, "0", None), ("HT-JH", 12, 12, "0", None)],
    },
    Case {
        customer: "1012",
        customer_order_number: None,
        ordered: 3,
        shipped: None,
        lines: &[("FD-FN", 10, 10, "0", None)],
    },
    // Confirmed, nothing gone.
    Case {
        customer: "1008",
        customer_order_number: None,
        ordered: 1,
        shipped: None,
        lines: &[("BK-01", 30, 0, "5", Some("20 and over"))],
    },
];

pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    // Discounts of this size are more than a clerk may give away.
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            setup::move_business_date(writing, BUSINESS_DATE).await?;
            for case in CASES {
                play(writing, people, case).await?;
            }
            Ok(())
        })
        .await?;
    store
        .change(&at_work(TOMAS, BUSINESS_DATE), None, async |writing| {
            paid_too_much(writing, people).await?;
            paid_in_part(writing, people).await?;
            draft_order(writing, people).await?;
            draft_invoice(writing, people).await
        })
        .await
}

fn customer(number: &str) -> &'static Customer {
    CUSTOMERS.iter().find(|customer| customer.number == number).unwrap_or(&CUSTOMERS[0])
}

fn lines(people: &People, case: &Case<'_>) -> Result<Vec<NewOrderLine>> {
    case.lines
        .iter()
        .map(|(code, ordered, _, percent, reason)| {
            let price = ITEMS.iter().find(|item| item.0 == *code).map_or("0", |item| item.5);
            line(customer(case.customer), people.item(code)?, price, *ordered, percent, *reason)
        })
        .collect()
}

async fn play(writing: &mut Writing<'_>, people: &People, case: &Case<'_>) -> Result<OrderId> {
    let order = orders::enter(
        writing,
        &NewOrder {
            customer: people.customer(case.customer)?,
            customer_order_number: case.customer_order_number.map(str::to_owned),
            order_date: days_ago(case.ordered),
            promised_date: BUSINESS_DATE.checked_add_days(Days::new(6)),
            lines: lines(people, case)?,
        },
    )
    .await?;
    orders::confirm(writing, order).await?;
    let view = orders::view(writing, order).await?;
    let going: Vec<_> = view
        .lines
        .iter()
        .zip(case.lines)
        .filter(|(_, (_, _, shipped, _, _))| *shipped > 0)
        .map(|(line, (_, _, shipped, _, _))| (line.id, Quantity::from_whole(*shipped)))
        .collect();
    if going.is_empty() {
        return Ok(order);
    }
    let day = days_ago(case.shipped.unwrap_or(1));
    let consignment = 500_000 + u32::try_from(order.0).unwrap_or(0);
    let shipment = pack(writing, day, order, going, consignment).await?;
    if case.shipped.is_some() {
        let rules = rules::load(writing).await?;
        shipments::post(writing, &rules, shipment, None, day).await?;
    }
    Ok(order)
}

/// 40.00 more than the oldest invoice; other invoices are open.
async fn paid_too_much(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let quillback = people.customer("1005")?;
    receipts::post(
        writing,
        &rules,
        &NewReceipt {
            customer: quillback,
            method: "transfer".to_owned(),
            date: Some(days_ago(8)),
            amount: "40.00".to_owned(),
            reference: Some("paid twice, sorry".to_owned()),
            applications: Some(Vec::new()),
            first: None,
            with: Vec::new(),
            currency: None,
        },
        None,
    )
    .await?;
    let tern = people.customer("1006")?;
    receipts::post(
        writing,
        &rules,
        &NewReceipt {
            customer: tern,
            method: "check".to_owned(),
            date: Some(days_ago(2)),
            amount: "250.00".to_owned(),
            reference: Some("check 4410, for the May colonies".to_owned()),
            applications: Some(Vec::new()),
            first: None,
            with: Vec::new(),
            currency: None,
        },
        None,
    )
    .await?;
    Ok(())
}

/// Half of an invoice, so that one is partly paid.
async fn paid_in_part(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    receipts::post(
        writing,
        &rules,
        &NewReceipt {
            customer: people.customer("1003")?,
            method: "check".to_owned(),
            date: Some(days_ago(1)),
            amount: "75.00".to_owned(),
            reference: Some("check 118, on account".to_owned()),
            applications: None,
            first: None,
            with: Vec::new(),
            currency: None,
        },
        None,
    )
    .await?;
    Ok(())
}

async fn draft_order(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    orders::enter(
        writing,
        &NewOrder {
            customer: people.customer("1009")?,
            customer_order_number: None,
            order_date: BUSINESS_DATE,
            promised_date: None,
            lines: vec![line(customer("1009"), people.item("SU-FL")?, "94.00", 12, "0", None)?],
        },
    )
    .await?;
    Ok(())
}

/// A draft over one line of the Orchard Lane shipment: its quantity is reserved.
async fn draft_invoice(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let filter =
        till_store::unbilled::UnbilledFilter { customer: Some(people.customer("1002")?), ..Default::default() };
    let open = till_store::unbilled::list(writing, &rules, &filter).await?;
    let line: Option<ShipmentLineId> = open
        .customers
        .iter()
        .flat_map(|customer| &customer.shipments)
        .flat_map(|shipment| &shipment.lines)
        .find(|line| line.code == "FR-50")
        .and_then(|line| line.shipment_line);
    if let Some(shipment_line) = line {
        let pick = Pick { shipment_line, quantity: Some(Quantity::from_whole(10)) };
        let to_bill = ToBill { picks: vec![pick], ..ToBill::default() };
        let drafts = invoices::make_drafts(writing, &rules, &to_bill).await?;
        // Tomas wants to go further down than he may: it waits for Ines or Maud.
        let price = NewPrice {
            version: 1,
            unit_price: "38.00".to_owned(),
            reason: "side bars split, agreed with Orchard Lane by phone".to_owned(),
        };
        invoices::change_price(writing, &rules, drafts[0], LineKey::Shipped(shipment_line), &price).await?;
    }
    Ok(())
}
