//! Orders that are billed ahead: a quarter with a line out, paid and shipped in part; one in pounds that is to be paid;
//! one whose rest was canceled, with a part to credit.

use till_core::fixed::Quantity;
use till_core::ids::{InvoiceId, OrderId};
use till_store::invoices::{self, ToBill};
use till_store::orders::{NewOrder, ToCancel};
use till_store::prepayments::{self, AdvanceForm, AdvanceLine};
use till_store::receipts::{self, NewReceipt};
use till_store::{Result, Store, Writing, orders, rules, shipments};

use crate::BUSINESS_DATE;
use crate::catalogue::CUSTOMERS;
use crate::company::{People, date};
use crate::history::{line, pack};
use crate::staff::{INES, at_work};

pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    store.change(&at_work(INES, BUSINESS_DATE), None, async |writing| cases(writing, people).await).await
}

/// An order of several lines: item, list price, how many.
pub(crate) async fn order(
    writing: &mut Writing<'_>,
    people: &People,
    number: &str,
    (ordered, promised): (&str, &str),
    lines: &[(&str, &str, i64)],
) -> Result<OrderId> {
    let customer = CUSTOMERS.iter().find(|customer| customer.number == number).unwrap_or(&CUSTOMERS[0]);
    let mut wanted = Vec::with_capacity(lines.len());
    for (code, price, quantity) in lines {
        wanted.push(line(customer, people.item(code)?, price, *quantity, "0", None)?);
    }
    let new = NewOrder {
        customer: people.customer(number)?,
        customer_order_number: Some(format!("SP {number}")),
        order_date: date(ordered)?,
        promised_date: Some(date(promised)?),
        lines: wanted,
    };
    let order = orders::enter(writing, &new).await?;
    orders::confirm(writing, order).await?;
    Ok(order)
}

/// Bills a share of an order ahead; the last line is out where that is said.
async fn ahead(
    writing: &mut Writing<'_>,
    order: OrderId,
    (percent, day, last_out): (&str, &str, bool),
) -> Result<InvoiceId> {
    let lines = orders::view(writing, order).await?.lines;
    let out = lines.last().filter(|_| last_out).map(|line| AdvanceLine {
        order_line: line.id,
        included: Some(false),
        percent: None,
    });
    let form = AdvanceForm {
        percent: Some(percent.to_owned()),
        lines: out.into_iter().collect(),
        document_date: Some(date(day)?),
        ..AdvanceForm::default()
    };
    let rules = rules::load(writing).await?;
    let plan = prepayments::plan(writing, &rules, order, Some(&form)).await?;
    let form = AdvanceForm { seen: plan.preview.map(|preview| preview.fingerprint), ..form };
    Ok(prepayments::bill(writing, &rules, order, &form).await?.id)
}

async fn pay(
    writing: &mut Writing<'_>,
    people: &People,
    (number, invoice, day, reference): (&str, InvoiceId, &str, &str),
) -> Result<()> {
    let view = invoices::view(writing, invoice).await?;
    let currency = view.document.map_or(rules::load(writing).await?.base, |document| document.currency);
    let new = NewReceipt {
        customer: people.customer(number)?,
        method: "transfer".to_owned(),
        date: Some(date(day)?),
        amount: currency.format(view.open.unwrap_or_default()),
        reference: Some(reference.to_owned()),
        applications: None,
        first: Some(invoice),
        with: Vec::new(),
        currency: None,
    };
    let rules = rules::load(writing).await?;
    receipts::post(writing, &rules, &new, None).await?;
    Ok(())
}

/// Ships part of the first line of an order and bills it.
pub(crate) async fn bill_part(
    writing: &mut Writing<'_>,
    order: OrderId,
    quantity: i64,
    day: &str,
) -> Result<InvoiceId> {
    let day = date(day)?;
    let line = orders::view(writing, order).await?.lines[0].id;
    let shipment = pack(writing, day, order, vec![(line, Quantity::from_whole(quantity))], 509_917).await?;
    let rules = rules::load(writing).await?;
    shipments::post(writing, &rules, shipment, None, day).await?;
    let lines = shipments::view(writing, shipment).await?.lines;
    let to_bill = ToBill {
        picks: lines.iter().map(|line| invoices::Pick { shipment_line: line.id, quantity: None }).collect(),
        document_date: Some(day),
        ..ToBill::default()
    };
    let posted = invoices::post_picks(writing, &rules, &to_bill, None).await?;
    posted.first().map(|one| one.id).ok_or(till_store::StoreError::NotSetUp)
}

async fn cases(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    // A quarter of an apiary shed ahead, the handbooks out; paid, and a part of it billed since and paid.
    let shed = [("FL-PI", "18.90", 40), ("RF-AL", "24.75", 40), ("BK-01", "22.00", 5)];
    let shed = order(writing, people, "1009", ("2026-03-02", "2026-04-02"), &shed).await?;
    let quarter = ahead(writing, shed, ("25", "2026-03-03", true)).await?;
    pay(writing, people, ("1009", quarter, "2026-03-09", "first quarter")).await?;
    let part = bill_part(writing, shed, 16, "2026-03-11").await?;
    pay(writing, people, ("1009", part, "2026-03-17", "first part of the shed")).await?;
    // In pounds, to be paid.
    let suits = order(writing, people, "3001", ("2026-03-05", "2026-04-10"), &[("SU-FL", "94.00", 30)]).await?;
    ahead(writing, suits, ("40", "2026-03-06", false)).await?;
    // Half of an order of roofs; half of them were canceled after it was paid: what was prepaid of those is to be credited.
    let roofs = order(writing, people, "1011", ("2026-03-04", "2026-04-15"), &[("RF-AL", "24.75", 40)]).await?;
    let half = ahead(writing, roofs, ("50", "2026-03-05", false)).await?;
    pay(writing, people, ("1011", half, "2026-03-10", "roofs, half")).await?;
    let view = orders::view(writing, roofs).await?;
    let wish = ToCancel {
        version: view.version,
        line: view.lines.first().map(|line| line.id),
        quantity: Some("20".to_owned()),
        reason: "half of the shed comes next year".to_owned(),
    };
    orders::cancel(writing, roofs, &wish).await?;
    Ok(())
}
