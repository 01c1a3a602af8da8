//! Half a year of trade, played day by day.

use std::collections::BTreeMap;

use chrono::{Datelike, Days, NaiveDate, Weekday};
use fastrand::Rng;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, InvoiceId, ItemId, OrderId, OrderLineId, ShipmentId};
use till_core::money::{Currency, Money};
use till_store::invoices::{Pick, ToBill};
use till_store::orders::{NewOrder, NewOrderLine};
use till_store::receipts::{NewApplication, NewReceipt};
use till_store::shipments::NewShipment;
use till_store::{Result, Store, Writing, invoices, items, orders, receipts, rules, setup, shipments, unbilled};

use crate::catalogue::{CUSTOMERS, Customer, ITEMS};
use crate::company::People;
use crate::staff::{INES, TOMAS, at_work};
use crate::{BUSINESS_DATE, FIRST_DAY};

/// What is to happen on a later day.
enum Event {
    Ship { order: OrderId, lines: Vec<(OrderLineId, Quantity)> },
    Bill { customer: CustomerId },
    Pay { customer: usize, invoice: InvoiceId },
}

struct Player<'a> {
    people: &'a People,
    random: Rng,
    coming: BTreeMap<NaiveDate, Vec<Event>>,
}

/// The next working day on or after `date`.
pub(crate) fn working_day(mut date: NaiveDate) -> NaiveDate {
    while matches!(date.weekday(), Weekday::Sat | Weekday::Sun) {
        date = date.succ_opt().unwrap_or(date);
    }
    date
}

pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    let mut player = Player { people, random: Rng::with_seed(1_803), coming: BTreeMap::new() };
    let mut day = FIRST_DAY;
    while day < BUSINESS_DATE {
        store
            .change(&at_work(TOMAS, day), None, async |writing| {
                setup::move_business_date(writing, day).await?;
                player.day(writing, day).await
            })
            .await?;
        // Some have a discount that is more than a clerk may give away.
        let busy = player.random.u32(0..5);
        if busy > 0 {
            store
                .change(&at_work(INES, day), None, async |writing| {
                    for _ in 0..busy {
                        player.order(writing, day).await?;
                    }
                    Ok(())
                })
                .await?;
        }
        day = working_day(day.succ_opt().unwrap_or(BUSINESS_DATE));
    }
    Ok(())
}

impl Player<'_> {
    fn later(&mut self, from: NaiveDate, days: u64, event: Event) {
        let date = working_day(from.checked_add_days(Days::new(days)).unwrap_or(from));
        self.coming.entry(date).or_default().push(event);
    }

    async fn day(&mut self, writing: &mut Writing<'_>, day: NaiveDate) -> Result<()> {
        if day.day() <= 2 {
            self.restock(writing, day).await?;
        }
        for event in self.coming.remove(&day).unwrap_or_default() {
            match event {
                Event::Ship { order, lines } => self.ship(writing, day, order, lines).await?,
                Event::Bill { customer } => self.bill(writing, day, customer).await?,
                Event::Pay { customer, invoice } => self.pay(writing, day, customer, invoice).await?,
            }
        }
        Ok(())
    }

    async fn restock(&mut self, writing: &mut Writing<'_>, day: NaiveDate) -> Result<()> {
        let rules = rules::load(writing).await?;
        for ((.., cost), item) in ITEMS.iter().zip(&self.people.items) {
            if (1..50_000).contains(cost) {
                let quantity = self.random.i64(50..110);
                let dearer = cost + self.random.i64(-20..60);
                items::take_in(writing, &rules, *item, Quantity::from_whole(quantity), Money(dearer * quantity), day)
                    .await?;
            }
        }
        Ok(())
    }

    fn someone(&mut self) -> usize {
        let all: u32 = CUSTOMERS.iter().map(|customer| customer.weight).sum();
        let mut at = self.random.u32(0..all);
        for (position, customer) in CUSTOMERS.iter().enumerate() {
            if at < customer.weight {
                return position;
            }
            at -= customer.weight;
        }
        0
    }

    async fn order(&mut self, writing: &mut Writing<'_>, day: NaiveDate) -> Result<()> {
        let position = self.someone();
        let customer = &CUSTOMERS[position];
        let mut lines: Vec<NewOrderLine> = Vec::new();
        for _ in 0..self.random.usize(1..5) {
            let at = self.random.usize(0..18);
            let item = self.people.items[at];
            if at == 12 || lines.iter().any(|line| line.item == item) {
                continue;
            }
            let quantity = self.random.i64(1..=if ITEMS[at].7 > 2_500 { 6 } else { 24 });
            let many = quantity >= 20;
            lines.push(line(
                customer,
                item,
                ITEMS[at].5,
                quantity,
                if many { "5" } else { "0" },
                many.then_some("20 and over"),
            )?);
        }
        if lines.is_empty() {
            lines.push(line(customer, self.people.item("JR-34")?, "11.85", 12, "0", None)?);
        }
        if self.random.u32(0..3) == 0 {
            lines.push(line(customer, self.people.item("FRT")?, "18.00", 1, "0", None)?);
        }
        let wants_number = customer.needs_order_number || self.random.bool();
        let number = wants_number.then(|| format!("PO {}", self.random.u32(20_000..99_000)));
        let order = orders::enter(
            writing,
            &NewOrder {
                customer: self.people.customers[position],
                customer_order_number: number,
                order_date: day,
                promised_date: Some(working_day(day.checked_add_days(Days::new(7)).unwrap_or(day))),
                lines,
            },
        )
        .await?;
        orders::confirm(writing, order).await?;
        self.plan(writing, day, order).await
    }

    /// Most orders ship at once a few days later, some in two parts.
    async fn plan(&mut self, writing: &mut Writing<'_>, day: NaiveDate, order: OrderId) -> Result<()> {
        let view = orders::view(writing, order).await?;
        let in_parts = self.random.u32(0..6) == 0;
        let mut first = Vec::new();
        let mut rest = Vec::new();
        for line in view.lines {
            let ordered = line.progress.ordered;
            let half = ordered.scaled() / 20_000 * 10_000;
            if in_parts && half > 0 {
                first.push((line.id, Quantity::from_scaled(half)));
                rest.push((line.id, Quantity::from_scaled(ordered.scaled() - half)));
            } else {
                first.push((line.id, ordered));
            }
        }
        let days = self.random.u64(1..5);
        self.later(day, days, Event::Ship { order, lines: first });
        if !rest.is_empty() {
            let more = self.random.u64(9..25);
            self.later(day, days + more, Event::Ship { order, lines: rest });
        }
        Ok(())
    }

    async fn ship(
        &mut self,
        writing: &mut Writing<'_>,
        day: NaiveDate,
        order: OrderId,
        lines: Vec<(OrderLineId, Quantity)>,
    ) -> Result<()> {
        let shipment = pack(writing, day, order, lines, self.random.u32(100_000..999_999)).await?;
        let rules = rules::load(writing).await?;
        shipments::post(writing, &rules, shipment, None, day).await?;
        let customer = shipments::view(writing, shipment).await?.row.customer;
        let days = self.random.u64(1..6);
        self.later(day, days, Event::Bill { customer });
        Ok(())
    }

    async fn bill(&mut self, writing: &mut Writing<'_>, day: NaiveDate, customer: CustomerId) -> Result<()> {
        let rules = rules::load(writing).await?;
        let filter = unbilled::UnbilledFilter { customer: Some(customer), ..Default::default() };
        let open = unbilled::list(writing, &rules, &filter).await?;
        let picks: Vec<Pick> = open
            .customers
            .iter()
            .flat_map(|customer| &customer.shipments)
            .flat_map(|shipment| &shipment.lines)
            .filter_map(|line| line.shipment_line.map(|shipment_line| Pick { shipment_line, quantity: None }))
            .collect();
        if picks.is_empty() {
            return Ok(());
        }
        let to_bill = ToBill { picks, ..ToBill::default() };
        for posted in invoices::post_picks(writing, &rules, &to_bill, None).await? {
            let view = invoices::view(writing, posted.id).await?;
            let position = self.people.customers.iter().position(|known| *known == customer).unwrap_or(0);
            let Some(document) = view.document else { continue };
            if let Some(after) = CUSTOMERS[position].pays_after {
                let due = (document.due_date - day).num_days() + after + self.random.i64(-2..5);
                self.later(
                    day,
                    u64::try_from(due.max(1)).unwrap_or(1),
                    Event::Pay { customer: position, invoice: posted.id },
                );
            }
        }
        Ok(())
    }

    async fn pay(
        &mut self,
        writing: &mut Writing<'_>,
        _day: NaiveDate,
        customer: usize,
        invoice: InvoiceId,
    ) -> Result<()> {
        let rules = rules::load(writing).await?;
        let view = invoices::view(writing, invoice).await?;
        let (Some(open), Some(document), Some(number)) = (view.open, view.document, view.number) else { return Ok(()) };
        if !open.is_positive() {
            return Ok(());
        }
        let amount = document.currency.format(open);
        let check = self.random.u32(0..3) == 0;
        let reference = if check { format!("check {}", self.random.u32(1_000..9_999)) } else { number };
        receipts::post(
            writing,
            &rules,
            &NewReceipt {
                customer: self.people.customers[customer],
                method: if check { "check" } else { "transfer" }.to_owned(),
                date: None,
                amount: amount.clone(),
                reference: Some(reference),
                applications: Some(vec![NewApplication::to_invoice(invoice, amount)]),
                first: None,
                with: Vec::new(),
                currency: None,
            },
            None,
        )
        .await?;
        Ok(())
    }
}

/// Packs a shipment with a carrier of ours.
pub(crate) async fn pack(
    writing: &mut Writing<'_>,
    day: NaiveDate,
    order: OrderId,
    lines: Vec<(OrderLineId, Quantity)>,
    consignment: u32,
) -> Result<ShipmentId> {
    shipments::pack(
        writing,
        &NewShipment {
            order,
            packed_date: day,
            carrier: Some("Coast & Moor Parcels".to_owned()),
            consignment_number: Some(format!("CM{consignment}")),
            lines,
        },
    )
    .await
}

/// An order line in the customer's currency.
pub(crate) fn line(
    customer: &Customer,
    item: ItemId,
    list_price: &str,
    quantity: i64,
    percent_off: &str,
    reason: Option<&str>,
) -> Result<NewOrderLine> {
    let corrupt = |error: till_core::fixed::DecimalError| till_store::StoreError::Corrupt(error.to_string());
    let price: UnitPrice = list_price.parse().map_err(corrupt)?;
    // Prices abroad are agreed in the customer's currency, a little under and over home prices.
    let abroad = match Currency::of(customer.currency).map(|currency| currency.code().to_owned()).as_deref() {
        Ok("GBP") => Some(UnitPrice::from_scaled(price.scaled() / 1_000_000 * 880_000)),
        Ok("USD") => Some(UnitPrice::from_scaled(price.scaled() / 1_000_000 * 1_120_000)),
        _ => None,
    };
    Ok(NewOrderLine {
        item,
        quantity: Quantity::from_whole(quantity),
        unit_price: abroad,
        discount: Rate::from_percent(percent_off).map_err(corrupt)?,
        discount_reason: reason.map(str::to_owned),
        tax_code: None,
    })
}
