//! Nucleus colonies that are ordered in winter with a deposit and shipped in May, and what else there is to do with
//! money in advance.

use chrono::NaiveDate;
use till_core::deposit::AdvanceTax;
use till_core::fixed::Quantity;
use till_core::ids::{DepositId, ItemId, OrderId};
use till_core::invoice::ItemKind;
use till_store::deposits::{self, NewDeposit};
use till_store::invoices::{self, ToBill};
use till_store::items::{self, NewItem};
use till_store::orders::{NewOrder, ToCancel};
use till_store::settings::{self, CompanySettings};
use till_store::{Result, Store, Writing, orders, rules, setup, shipments};

use crate::BUSINESS_DATE;
use crate::catalogue::CUSTOMERS;
use crate::company::{People, date};
use crate::history::{line, pack};
use crate::staff::{INES, SANNA, at_work};

const COLONY: &str = "185.00";

/// A deposit: customer, order, method, day, amount, reference.
type Taken<'a> = (&'a str, Option<OrderId>, &'a str, &'a str, &'a str, &'a str);

async fn take(writing: &mut Writing<'_>, people: &People, taken: Taken<'_>) -> Result<DepositId> {
    let (customer, order, method, day, amount, reference) = taken;
    let rules = rules::load(writing).await?;
    let new = NewDeposit {
        receipt: None,
        customer: people.customer(customer)?,
        order,
        quote: None,
        method: method.to_owned(),
        date: Some(date(day)?),
        amount: amount.to_owned(),
        reference: Some(reference.to_owned()),
        memo: None,
    };
    let seen = deposits::preview(writing, &rules, &new).await?.fingerprint;
    Ok(deposits::take(writing, &rules, &new, Some(&seen)).await?.id)
}

/// An order of one line.
async fn order(
    writing: &mut Writing<'_>,
    people: &People,
    (number, item, price, quantity): (&str, ItemId, &str, i64),
    (ordered, promised): (&str, Option<NaiveDate>),
) -> Result<OrderId> {
    let customer = CUSTOMERS.iter().find(|customer| customer.number == number).unwrap_or(&CUSTOMERS[0]);
    let new = NewOrder {
        customer: people.customer(number)?,
        customer_order_number: Some(format!("NC {number}")),
        order_date: date(ordered)?,
        promised_date: promised,
        lines: vec![line(customer, item, price, quantity, "0", None)?],
    };
    let order = orders::enter(writing, &new).await?;
    orders::confirm(writing, order).await?;
    Ok(order)
}

/// Takes the deposits of the winter. January and February are opened for it as they were then.
pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(SANNA, BUSINESS_DATE), None, async |writing| {
            let now = settings::view(writing).await?;
            let new = CompanySettings {
                write_off_tolerance: None,
                version: now.version,
                company: now.company,
                tax_computed: now.tax_computed,
                tax_date: None,
                dates_in_order: None,
                advance_tax: Some(AdvanceTax::AtReceipt),
                hold_until_prepaid: None,
                deposit_use: None,
                fixed_date: now.fixed_date,
            };
            settings::change_company(writing, &new).await
        })
        .await?;
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            for month in ["2026-02-01", "2026-01-01"] {
                setup::set_period(writing, date(month)?, true).await?;
            }
            cases(writing, people).await?;
            for month in ["2026-01-01", "2026-02-01"] {
                setup::set_period(writing, date(month)?, false).await?;
            }
            Ok(())
        })
        .await
}

async fn cases(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let may = Some(date("2026-05-08")?);
    let colony = NewItem {
        code: "NC-05",
        name: "Nucleus colony, five frames",
        kind: ItemKind::Goods,
        class: "tools",
        unit: "pc",
        list_price: COLONY.parse().map_err(|_| till_store::StoreError::NotSetUp)?,
        tax_code: "S135",
    };
    let colony = items::add(writing, &colony).await?;
    // Ordered in winter, a good quarter of it paid: held until May.
    let winter = order(writing, people, ("1002", colony, COLONY, 20), ("2026-01-12", may)).await?;
    take(writing, people, ("1002", Some(winter), "transfer", "2026-01-14", "1000.00", "20 colonies for May")).await?;
    // Given up since: the deposit is left hanging on an order that is done.
    let given_up = order(writing, people, ("1006", colony, COLONY, 6), ("2026-02-02", may)).await?;
    take(writing, people, ("1006", Some(given_up), "check", "2026-02-03", "300.00", "check 4391")).await?;
    let version = orders::view(writing, given_up).await?.version;
    let reason = "the apiary was sold".to_owned();
    orders::cancel(writing, given_up, &ToCancel { version, line: None, quantity: None, reason }).await?;
    // In pounds.
    let abroad = order(writing, people, ("3001", colony, COLONY, 4), ("2026-02-09", may)).await?;
    take(writing, people, ("3001", Some(abroad), "transfer", "2026-02-10", "150.00", "colonies, first part")).await?;
    // Two thirds shipped and billed: the deposit went with the first invoice by itself, the difference is due.
    let smokers = people.item("SM-ST")?;
    let part = order(writing, people, ("1010", smokers, "38.00", 12), ("2026-02-20", None)).await?;
    take(writing, people, ("1010", Some(part), "transfer", "2026-02-23", "250.00", "smokers for the club")).await?;
    bill_part(writing, part, 8).await?;
    take(writing, people, ("1003", None, "check", "2026-03-12", "150.00", "check 131, towards the spring order"))
        .await?;
    Ok(())
}

async fn bill_part(writing: &mut Writing<'_>, order: OrderId, quantity: i64) -> Result<()> {
    let day = date("2026-03-09")?;
    let line = orders::view(writing, order).await?.lines[0].id;
    let shipment = pack(writing, day, order, vec![(line, Quantity::from_whole(quantity))], 509_909).await?;
    let rules = rules::load(writing).await?;
    shipments::post(writing, &rules, shipment, None, day).await?;
    let lines = shipments::view(writing, shipment).await?.lines;
    let to_bill = ToBill {
        picks: lines.iter().map(|line| invoices::Pick { shipment_line: line.id, quantity: None }).collect(),
        document_date: Some(date("2026-03-10")?),
        ..ToBill::default()
    };
    invoices::post_picks(writing, &rules, &to_bill, None).await?;
    Ok(())
}
