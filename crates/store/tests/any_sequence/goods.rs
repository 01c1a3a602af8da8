//! Steps of goods and orders: what the store refuses is refused, and the books hold after either.

use chrono::NaiveDate;
use till_core::fixed::Quantity;
use till_core::ids::{ItemId, OrderId, ShipmentId};
use till_core::invoice::ItemKind;
use till_core::money::Money;
use till_core::shipment::CostEntry;
use till_core::tax::TaxCategory;
use till_core::terms::{DiscountBase, EarlyDiscount, Terms};
use till_store::goods_settings::{self, NewGoodsSettings};
use till_store::invoices::{self, AddedLine, ToBill};
use till_store::items::{IntakeBack, NewItem};
use till_store::orders::{NewOrder, NewOrderLine, ToCancel};
use till_store::shipments::{self, PickForm, ShipmentForm, TakeBack};
use till_store::stock::{self, NewCount};
use till_store::{Result, items, orders, rules, setup};

use super::common::*;
use super::{Made, Step, money};

/// Drums that are owed back, and freight that is billed as its item.
pub(crate) async fn containers_and_freight(company: &Company) {
    company
        .store
        .change(&by(), None, async |writing| {
            let zero = till_core::fixed::Rate::ZERO;
            setup::tax_code(writing, "O0", "No sale", TaxCategory::O, day("2020-01-01"), zero).await?;
            let drum = NewItem {
                code: "DRUM",
                name: "Drum",
                kind: ItemKind::Packaging,
                class: "packaging",
                unit: "pc",
                list_price: "9.99".parse().unwrap(),
                tax_code: "O0",
            };
            items::add(writing, &drum).await?;
            early_payment(writing).await?;
            set_cost_entry(writing, CostEntry::AtPosting).await
        })
        .await
        .unwrap();
}

/// Each customer pays early by terms of its own: of the total with its tax adjusted, of the net, of the total.
async fn early_payment(writing: &mut till_store::Writing<'_>) -> Result<()> {
    for (at, (base, tax_adjusted)) in
        [(DiscountBase::Gross, true), (DiscountBase::Net, false), (DiscountBase::Gross, false)].into_iter().enumerate()
    {
        let rate = "0.03".parse().unwrap();
        let discount = EarlyDiscount { rate, days: 8, base, grace_days: 4, tax_adjusted };
        let terms = Terms { discount: Some(discount), ..Terms::net_days(30) };
        let terms = serde_json::to_string(&terms).unwrap();
        // What the form of a customer does is tested elsewhere; here every sequence wants it done at once.
        sqlx::query(
            "UPDATE customers SET terms = ? WHERE id = (SELECT id FROM customers ORDER BY id LIMIT 1 OFFSET ?)",
        )
        .bind(terms)
        .bind(i64::try_from(at).unwrap())
        .execute(&mut **writing)
        .await?;
    }
    Ok(())
}

async fn set_cost_entry(writing: &mut till_store::Writing<'_>, cost_entry: CostEntry) -> Result<()> {
    let now = goods_settings::view(writing).await?;
    let new = NewGoodsSettings {
        warehouse: now.warehouse,
        cost_entry,
        clearing_days: now.clearing_days,
        freight_item: "FRT".to_owned(),
        treatments: Vec::new(),
    };
    goods_settings::change(writing, &new).await
}

/// An order of the first item, of the second for half as much, and of drums where they are in euros.
pub(crate) async fn order(company: &Company, customer: usize, quantity: i64) -> OrderId {
    let drum = ItemId(company.items[2].0 + 1);
    let mut lines = vec![(company.items[0], quantity), (company.items[1], quantity / 2 + 1)];
    if customer != 2 {
        lines.push((drum, quantity / 5 + 1));
    }
    let new = NewOrder {
        customer: company.customers[customer],
        customer_order_number: None,
        order_date: day("2026-03-01"),
        promised_date: None,
        lines: lines
            .into_iter()
            .map(|(item, quantity)| NewOrderLine {
                unit_price: (customer == 2).then(|| "59".parse().unwrap()),
                ..order_line(item, quantity)
            })
            .collect(),
    };
    company
        .store
        .change(&by(), None, async |writing| {
            let order = orders::enter(writing, &new).await?;
            orders::confirm(writing, order).await?;
            Ok(order)
        })
        .await
        .unwrap()
}

/// Ships a part of the first line and whatever else has not gone, with freight now and then.
pub(crate) async fn ship(
    company: &Company,
    order: OrderId,
    (ten_thousandths, on): (i64, NaiveDate),
) -> Result<ShipmentId> {
    company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let view = orders::view(writing, order).await?;
            let lines = view
                .lines
                .iter()
                .enumerate()
                .map(|(at, line)| PickForm {
                    order_line: line.id,
                    quantity: match at {
                        // Now and then more than is left, to be refused.
                        0 if ten_thousandths % 5 == 0 => Quantity::from_scaled(ten_thousandths).to_string(),
                        0 => Quantity::from_scaled(ten_thousandths).min(line.progress.to_ship()).to_string(),
                        _ => line.progress.to_ship().to_string(),
                    },
                })
                .filter(|pick| pick.quantity != "0")
                .collect();
            let form = ShipmentForm {
                carrier: None,
                consignment_number: None,
                freight: (ten_thousandths % 3 == 0).then(|| "7.77".to_owned()),
                warehouse: None,
                lines,
            };
            let shipment = shipments::start(writing, &rules, order, Some(&form)).await?;
            shipments::post(writing, &rules, shipment, None, on).await
        })
        .await
}

/// Steps of goods and orders: what the store refuses is refused, and the books hold after either.
pub(crate) async fn run(company: &Company, made: &mut Made, step: &Step) {
    let store = &company.store;
    match step {
        Step::TakeBack { shipment } if !made.shipments.is_empty() => {
            let shipment = made.shipments[shipment % made.shipments.len()];
            let version = shipments::view(&mut *store.read().await.unwrap(), shipment).await.unwrap().version;
            let what = TakeBack { version, date: Some(made.on), reason: "by chance".to_owned() };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    shipments::take_back(writing, &rules, shipment, &what).await
                })
                .await;
            made.note("take back", outcome);
        }
        Step::Count { item, counted } => {
            let (item, counted) = (company.items[*item], counted.to_string());
            let new = NewCount {
                warehouse: None,
                counted,
                unit_cost: None,
                date: Some(made.on),
                reason: "by chance".to_owned(),
            };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    stock::adjust(writing, &rules, item, &new).await
                })
                .await;
            made.note("count", outcome);
        }
        Step::TakeIn { item, quantity, cost } => {
            let (item, quantity, cost) = (company.items[*item], Quantity::from_whole(*quantity), Money(*cost));
            let on = made.on;
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    items::take_in(writing, &rules, item, quantity, cost, on).await
                })
                .await;
            let layer = made.note("take in", outcome);
            made.intakes.extend(layer.map(|layer| (item, layer)));
        }
        Step::Direct { customer, quantity } => {
            let price = (*customer == 2).then(|| "59".to_owned());
            let line = AddedLine {
                item: Some("A".to_owned()),
                quantity: quantity.to_string(),
                unit_price: price,
                ..AddedLine::default()
            };
            let to_bill = ToBill {
                customer: Some(company.customers[*customer]),
                added: vec![line],
                document_date: Some(made.on),
                ..ToBill::default()
            };
            let posted = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    invoices::post_picks(writing, &rules, &to_bill, None).await
                })
                .await;
            let posted = made.note("direct", posted);
            made.invoices.extend(posted.into_iter().flatten().map(|one| one.id));
        }
        Step::IntakeBack { before } if made.intakes.len() > *before => {
            let at = made.intakes[made.intakes.len() - 1 - before];
            let what = IntakeBack { date: Some(made.on), reason: "by chance".to_owned() };
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    items::reverse_intake(writing, &rules, at, &what).await
                })
                .await;
            made.note("intake back", outcome);
        }
        Step::Aside { order, give } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let line = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap().lines[0].id;
            let outcome = store
                .change(&by(), None, async |writing| {
                    if *give {
                        stock::let_go(writing, line).await
                    } else {
                        stock::allocate(writing, order).await.map(|_| ())
                    }
                })
                .await;
            made.note("aside", outcome);
        }
        Step::Amend { order, quantity, price } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let view = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap();
            let mut form = view.form;
            form.lines[0].quantity = quantity.to_string();
            if let Some(price) = price {
                form.lines[0].unit_price = Some(price.to_string());
                form.lines[0].price_reason = Some("by chance".to_owned());
            }
            let outcome = store
                .change(&by(), None, async |writing| {
                    let rules = rules::load(writing).await?;
                    orders::change(writing, &rules, order, view.version, &form).await
                })
                .await;
            made.note("amend", outcome);
        }
        Step::CancelLine { order, ten_thousandths } if !made.orders.is_empty() => {
            let order = made.orders[order % made.orders.len()];
            let view = orders::view(&mut *store.read().await.unwrap(), order).await.unwrap();
            let quantity = Some(Quantity::from_scaled(*ten_thousandths).to_string());
            let (line, reason) = (Some(view.lines[0].id), "by chance".to_owned());
            let what = ToCancel { version: view.version, line, quantity, reason };
            let outcome = store.change(&by(), None, async |writing| orders::cancel(writing, order, &what).await).await;
            made.note("cancel line", outcome);
        }
        Step::CostFollows { billing } => {
            let cost_entry = if *billing { CostEntry::AtBilling } else { CostEntry::AtPosting };
            let outcome = store.change(&by(), None, async |writing| set_cost_entry(writing, cost_entry).await).await;
            made.note("cost follows", outcome);
        }
        step => money::run(company, made, step).await,
    }
}
