//! Which picked lines make one invoice.

use std::collections::HashMap;

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};

use crate::calendar::Terms;
use crate::ids::{CustomerId, OrderId, ShipmentId};
use crate::invoice::LineSource;
use crate::money::Currency;
use crate::order::OrderFacts;
use crate::treatment::Treatment;

/// How a customer wants to be billed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum BillingHabit {
    /// An invoice for each shipment.
    Shipment,
    /// An invoice for each order.
    Order,
    /// What left in a week on one.
    Weekly,
    /// What left in a month on one.
    Monthly,
}

impl BillingHabit {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Shipment => "shipment",
            Self::Order => "order",
            Self::Weekly => "weekly",
            Self::Monthly => "monthly",
        }
    }

    /// The habit with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Shipment, Self::Order, Self::Weekly, Self::Monthly].into_iter().find(|habit| habit.word() == word)
    }
}

/// How picks are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Combine {
    /// Everything of a customer that may stand on one invoice.
    #[default]
    Customer,
    /// As each customer wants it.
    Habit,
    /// An invoice for each order.
    Order,
    /// An invoice for each shipment.
    Shipment,
}

impl Combine {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Customer => "customer",
            Self::Habit => "habit",
            Self::Order => "order",
            Self::Shipment => "shipment",
        }
    }

    /// The way with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Customer, Self::Habit, Self::Order, Self::Shipment].into_iter().find(|way| way.word() == word)
    }
}

/// What has to be known of a line to say which invoice it goes on.
#[derive(Debug, Clone)]
pub struct Picking {
    /// The customer.
    pub customer: CustomerId,
    /// The currency.
    pub currency: Currency,
    /// The payment terms.
    pub terms: Terms,
    /// Whether its price carries the tax.
    pub gross_priced: bool,
    /// How the place it went to is taxed.
    pub treatment: Option<Treatment>,
    /// How the customer wants to be billed.
    pub habit: BillingHabit,
    /// Whether the customer gets structured invoices, and where the line went.
    pub structured: Option<String>,
    /// Where it comes from.
    pub source: LineSource,
}

/// What lines on one invoice have in common.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Group {
    /// The customer.
    pub customer: CustomerId,
    /// The currency.
    pub currency: Currency,
    /// The payment terms.
    pub terms: Terms,
    /// Whether prices carry the tax.
    pub gross_priced: bool,
    treatment: Option<Treatment>,
    /// What a structured invoice says once: the customer's order number, and where it went.
    structured: Option<(Option<String>, String)>,
    split: Option<Split>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Split {
    Order(OrderId),
    Shipment(ShipmentId),
    Week(i32, u32),
    Month(i32, u32),
}

impl Picking {
    /// Work goes where the goods of its order `went`, where some of them are billed with it.
    fn group(&self, combine: Combine, together: bool, went: Option<&LineSource>) -> Group {
        let source = went.filter(|_| self.source.shipment().is_none()).unwrap_or(&self.source);
        let by_order = source.order().map(Split::Order);
        let by_shipment = source.shipment().map(|(id, _)| Split::Shipment(id)).or(by_order);
        let split = match combine {
            Combine::Customer => None,
            Combine::Order => by_order,
            Combine::Shipment => by_shipment,
            Combine::Habit => match self.habit {
                BillingHabit::Shipment => by_shipment,
                BillingHabit::Order => by_order,
                BillingHabit::Weekly => source.shipped_on().map(week),
                BillingHabit::Monthly => source.shipped_on().map(|day| Split::Month(day.year(), day.month())),
            },
        };
        let structured = self
            .structured
            .clone()
            .filter(|_| !together)
            .map(|place| (self.source.customer_order_number().map(str::to_owned), place));
        Group {
            customer: self.customer,
            currency: self.currency,
            terms: self.terms.clone(),
            gross_priced: self.gross_priced,
            treatment: self.treatment,
            structured,
            split,
        }
    }
}

fn week(day: NaiveDate) -> Split {
    let week = day.iso_week();
    Split::Week(week.year(), week.week())
}

/// Sorts picks into invoices, in the order in which they were picked.
///
/// Same customer, currency, terms, tax treatment and way of pricing go together; where the
/// customer gets structured invoices, same order number and delivery place too, unless the clerk
/// puts them `together`. *Source: domain.md section 7.*
pub fn group<T>(picks: Vec<(Picking, T)>, combine: Combine, together: bool) -> Vec<(Group, Vec<T>)> {
    let mut places: HashMap<Group, usize> = HashMap::new();
    let mut groups: Vec<(Group, Vec<T>)> = Vec::new();
    let mut went: HashMap<OrderId, LineSource> = HashMap::new();
    if picks.iter().any(|(picking, _)| picking.source.shipment().is_none()) {
        let gone = picks.iter().filter(|(picking, _)| picking.source.shipment().is_some());
        went.extend(gone.filter_map(|(picking, _)| Some((picking.source.order()?, picking.source.clone()))));
    }
    for (picking, pick) in picks {
        let beside = picking.source.order().and_then(|order| went.get(&order));
        let group = picking.group(combine, together, beside);
        match places.get(&group) {
            Some(place) => groups[*place].1.push(pick),
            None => {
                places.insert(group.clone(), groups.len());
                groups.push((group, vec![pick]));
            }
        }
    }
    groups
}

/// Whether an order of a customer who is billed only when all has gone still waits for goods. Work and charges
/// never leave: they are done as they are billed.
pub fn waits_for_rest(order: &OrderFacts) -> bool {
    order.lines.iter().any(|(id, progress)| !order.work.contains(id) && progress.to_ship().is_positive())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ids::{OrderLineId, ShipmentLineId};

    fn pick(customer: i64, code: &str, days: u16, shipment: i64, day: &str) -> Picking {
        Picking {
            customer: CustomerId(customer),
            currency: Currency::of(code).unwrap(),
            terms: Terms::net_days(days),
            gross_priced: false,
            treatment: Some(Treatment::Standard),
            habit: BillingHabit::Shipment,
            structured: None,
            source: LineSource::Shipped {
                shipment_line: ShipmentLineId(shipment),
                shipment: ShipmentId(shipment),
                shipment_number: format!("S-{shipment}"),
                shipped_on: day.parse().unwrap(),
                order: OrderId(shipment / 10),
                order_number: format!("O-{}", shipment / 10),
                customer_order_number: Some(format!("PO {}", shipment / 10)),
                order_line: OrderLineId(shipment),
            },
        }
    }

    fn members(picks: &[(Picking, char)], combine: Combine, together: bool) -> Vec<String> {
        group(picks.to_vec(), combine, together).into_iter().map(|(_, members)| members.into_iter().collect()).collect()
    }

    #[test]
    fn what_differs_is_kept_apart() {
        let mut gross = pick(1, "EUR", 30, 14, "2026-03-02");
        gross.gross_priced = true;
        let mut export = pick(1, "EUR", 30, 15, "2026-03-02");
        export.treatment = Some(Treatment::Export);
        let picks = vec![
            (pick(1, "EUR", 30, 11, "2026-03-02"), 'a'),
            (pick(2, "EUR", 30, 21, "2026-03-02"), 'b'),
            (pick(1, "EUR", 30, 12, "2026-03-02"), 'c'),
            (pick(1, "EUR", 14, 13, "2026-03-02"), 'd'),
            (pick(1, "GBP", 30, 16, "2026-03-02"), 'e'),
            (gross, 'f'),
            (export, 'g'),
        ];
        assert_eq!(members(&picks, Combine::Customer, false), ["ac", "b", "d", "e", "f", "g"]);
    }

    #[test]
    fn runs_combine_as_each_customer_wants_it() {
        let with = |habit, shipment, day| Picking { habit, ..pick(1, "EUR", 30, shipment, day) };
        let two_weeks = |habit| {
            vec![
                (with(habit, 11, "2026-03-02"), 'a'),
                (with(habit, 12, "2026-03-06"), 'b'),
                (with(habit, 21, "2026-03-09"), 'c'),
                (with(habit, 22, "2026-04-01"), 'd'),
            ]
        };
        let by = |habit| members(&two_weeks(habit), Combine::Habit, false);
        assert_eq!(by(BillingHabit::Shipment), ["a", "b", "c", "d"]);
        assert_eq!(by(BillingHabit::Order), ["ab", "cd"]);
        assert_eq!(by(BillingHabit::Weekly), ["ab", "c", "d"]);
        assert_eq!(by(BillingHabit::Monthly), ["abc", "d"]);
        assert_eq!(members(&two_weeks(BillingHabit::Monthly), Combine::Order, false), ["ab", "cd"]);
        assert_eq!(members(&two_weeks(BillingHabit::Monthly), Combine::Customer, false), ["abcd"]);
    }

    /// Work of an order goes on the invoice of its last goods, in whatever way they are put together.
    #[test]
    fn work_goes_where_the_goods_of_its_order_went() {
        let mut work = pick(1, "EUR", 30, 12, "2026-03-06");
        work.source = LineSource::Ordered {
            order: OrderId(1),
            order_number: "O-1".to_owned(),
            customer_order_number: None,
            order_line: OrderLineId(99),
        };
        let of_habit = |habit| {
            let with = |picking: Picking| Picking { habit, ..picking };
            let goods = [(11, "2026-03-02", 'a'), (12, "2026-03-09", 'b'), (21, "2026-03-09", 'c')];
            let mut picks: Vec<_> =
                goods.iter().map(|(id, day, name)| (with(pick(1, "EUR", 30, *id, day)), *name)).collect();
            picks.push((with(work.clone()), 'w'));
            members(&picks, Combine::Habit, false)
        };
        assert_eq!(of_habit(BillingHabit::Shipment), ["a", "bw", "c"]);
        assert_eq!(of_habit(BillingHabit::Weekly), ["a", "bcw"]);
        assert_eq!(of_habit(BillingHabit::Order), ["abw", "c"]);
        assert_eq!(members(&[(work.clone(), 'w')], Combine::Habit, false), ["w"]);
    }

    #[test]
    fn structured_invoices_carry_one_order_number_and_place() {
        let to = |place: &str, shipment| Picking {
            structured: Some(place.to_owned()),
            ..pick(1, "EUR", 30, shipment, "2026-03-02")
        };
        let picks = vec![(to("Shop", 11), 'a'), (to("Shop", 12), 'b'), (to("Yard", 13), 'c'), (to("Shop", 21), 'd')];
        assert_eq!(members(&picks, Combine::Customer, false), ["ab", "c", "d"]);
        assert_eq!(members(&picks, Combine::Customer, true), ["abcd"]);
    }
}
