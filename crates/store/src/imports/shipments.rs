//! Posted shipments from a file: many at once, written in stretches.

mod known;
mod writing;

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{ExchangeRate, Quantity, UnitPrice};
use till_core::ids::{CustomerId, OrderId, OrderLineId};
use till_core::money::{Currency, Money};
use till_core::ordering::{LineWish, OrderInput, PricedLine, StockFacts, decide};
use till_core::pricing::{PriceInput, Typed};
use till_core::terms::Terms;

use self::known::{Known, Party, load};
pub(super) use self::writing::write;
use super::{ImportCheck, ImportLine, Planned, Progress};
use crate::orders::LoadedItem;
use crate::prices::{self, Sources};
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError};

/// The warehouse of goods that others keep the stock of.
const ELSEWHERE: &str = "ELSEWHERE";

/// What is to be written for one shipment.
struct Plan {
    number: String,
    date: NaiveDate,
    customer: CustomerId,
    theirs: Option<String>,
    carrier: Option<String>,
    consignment: Option<String>,
    target: Target,
    currency: Currency,
    terms: Terms,
    gross_priced: bool,
    ship_to: Option<i64>,
    lines: usize,
}

/// The order a shipment belongs to.
enum Target {
    /// A new one, with these lines.
    New(Vec<PricedLine>),
    /// One that is here: lines and quantities.
    Known(OrderId, Vec<(OrderLineId, Quantity)>),
}

/// A file of shipments as it would be written.
pub(super) struct Plans {
    pub(super) check: ImportCheck,
    plans: Vec<Plan>,
}

/// What a file of shipments comes to, and what would be written.
pub(super) async fn plan(
    connection: &mut SqliteConnection,
    rules: &Rules,
    lines: &[ImportLine],
    progress: Progress<'_>,
) -> Result<Plans> {
    let mut plans = Plans { check: ImportCheck { lines: lines.len(), ..ImportCheck::default() }, plans: Vec::new() };
    let mut known = load(connection, lines).await?;
    let mut groups: Vec<(&str, Vec<&ImportLine>)> = Vec::new();
    let mut places: HashMap<&str, usize> = HashMap::new();
    for line in lines {
        let Some(number) = line.cell("shipment") else {
            plans.check.problem(line.line, "shipment", "Give the shipment its number: it is imported once.");
            continue;
        };
        let at = *places.entry(number).or_insert_with(|| {
            groups.push((number, Vec::new()));
            groups.len() - 1
        });
        groups[at].1.push(line);
    }
    let mut done = 0;
    for (number, members) in groups {
        done += members.len();
        if let Some(plan) = one(connection, rules, &mut known, number, &members, &mut plans.check).await? {
            plans.plans.push(plan);
        }
        if done % 500 < members.len() {
            progress(done);
        }
    }
    Ok(plans)
}

async fn one(
    connection: &mut SqliteConnection,
    rules: &Rules,
    known: &mut Known,
    number: &str,
    lines: &[&ImportLine],
    check: &mut ImportCheck,
) -> Result<Option<Plan>> {
    let first = lines[0];
    let before = check.problem_count;
    if known.taken.contains(number) {
        check.problem(first.line, "shipment", format!("{number} was imported already. Leave it out."));
        return Ok(None);
    }
    let date = first.cell("date").unwrap_or("");
    let Ok(date) = date.parse::<NaiveDate>() else {
        check.problem(first.line, "date", format!("“{date}” is no date. Write it as 2026-03-18."));
        return Ok(None);
    };
    if let Some(obstacle) = rules.periods.obstacle(date) {
        check.problem(first.line, "date", obstacle);
    }
    if date > rules.business_date {
        check.problem(first.line, "date", "This day has not come yet. What has not left cannot be billed.");
    }
    let customer = first.cell("customer").unwrap_or("").to_owned();
    for line in lines {
        if line.cell("customer") != Some(customer.as_str()) || line.cell("date") != first.cell("date") {
            check.problem(
                line.line,
                "shipment",
                format!("{number} has another customer or date above. One shipment has one."),
            );
        }
    }
    if !known.parties.contains_key(&customer) {
        check.problem(first.line, "customer", format!("There is no customer {customer}."));
        return Ok(None);
    }
    let target = match first.cell("order") {
        Some(order) => on_order(known, order, &customer, lines, check),
        None => on_new_order(connection, rules, known, (number, date, &customer), lines, check).await?,
    };
    if check.problem_count > before {
        return Ok(None);
    }
    let (Some((target, net)), Some(party)) = (target, known.parties.get(&customer)) else { return Ok(None) };
    known.taken.insert(number.to_owned());
    check.plan(Planned {
        number: number.to_owned(),
        customer_name: party.facts.name.clone(),
        lines: lines.len(),
        net,
        currency: party.currency.code().to_owned(),
    });
    Ok(Some(Plan {
        number: number.to_owned(),
        date,
        customer: party.facts.id,
        theirs: first.cell("their_order").map(str::to_owned),
        carrier: first.cell("carrier").map(|text| text.chars().take(60).collect()),
        consignment: first.cell("consignment").map(|text| text.chars().take(60).collect()),
        target,
        currency: party.currency,
        terms: party.terms.clone(),
        gross_priced: party.facts.gross_priced,
        ship_to: party.ship_to,
        lines: lines.len(),
    }))
}

/// Lines that ship an order which is here.
fn on_order(
    known: &mut Known,
    number: &str,
    customer: &str,
    lines: &[&ImportLine],
    check: &mut ImportCheck,
) -> Option<(Target, Money)> {
    let first = lines[0];
    let Some(order) = known.open.get_mut(number) else {
        check.problem(
            first.line,
            "order",
            format!("There is no confirmed order {number}. Leave it empty for a new one."),
        );
        return None;
    };
    if order.customer != customer {
        check.problem(first.line, "order", format!("{number} is of customer {}.", order.customer));
        return None;
    }
    if order.counted {
        check.problem(
            first.line,
            "order",
            format!("{number} leaves from a warehouse whose stock is kept here. Post its shipment here."),
        );
        return None;
    }
    let mut taken: Vec<(OrderLineId, Quantity)> = Vec::new();
    for line in lines {
        let code = line.cell("item").unwrap_or("").to_uppercase();
        let quantity = match line.cell("quantity").unwrap_or("").parse::<Quantity>() {
            Ok(quantity) if quantity.is_positive() => quantity,
            Ok(_) => {
                check.problem(line.line, "quantity", "Ship more than nothing, or leave the line out.");
                continue;
            }
            Err(error) => {
                check.problem(line.line, "quantity", error.to_string());
                continue;
            }
        };
        let fits = order
            .lines
            .iter_mut()
            .find(|(id, of, most)| *of == code && *most >= quantity && !taken.iter().any(|(known, _)| known == id));
        match fits {
            Some((id, _, most)) => {
                *most = Quantity::from_scaled(most.scaled() - quantity.scaled());
                taken.push((*id, quantity));
            }
            None => check.problem(
                line.line,
                "quantity",
                format!("{number} has no line with {quantity} of {code} left to ship."),
            ),
        }
    }
    Some((Target::Known(order.id, taken), Money::ZERO))
}

/// Lines that come with an order of their own.
async fn on_new_order(
    connection: &mut SqliteConnection,
    rules: &Rules,
    known: &mut Known,
    (number, date, customer): (&str, NaiveDate, &str),
    lines: &[&ImportLine],
    check: &mut ImportCheck,
) -> Result<Option<(Target, Money)>> {
    let Some(party) = known.parties.get(customer) else { return Ok(None) };
    let key = (party.price_list, date);
    if let std::collections::hash_map::Entry::Vacant(vacant) = known.sources.entry(key) {
        vacant.insert(prices::sources(connection, &known.ids, party.price_list, date).await?);
    }
    let rate_key = (party.currency, date);
    if let std::collections::hash_map::Entry::Vacant(vacant) = known.rates.entry(rate_key) {
        vacant.insert(exchange_rate(connection, rules, party.currency, date).await?);
    }
    let (Some(sources), Some(rate)) = (known.sources.get(&key), known.rates.get(&rate_key)) else { return Ok(None) };
    let mut wishes = Vec::with_capacity(lines.len());
    let mut places = Vec::with_capacity(lines.len());
    for line in lines {
        let code = line.cell("item").unwrap_or("");
        let Some(item) = known.items.get(&code.to_uppercase()) else {
            check.problem(line.line, "item", format!("There is no item {code}."));
            continue;
        };
        match wish(rules, party, *rate, date, sources, item, line) {
            Ok(wish) => {
                wishes.push(wish);
                places.push(line.line);
            }
            Err(StoreError::Invalid { field, sentence }) => check.problem(line.line, &field, sentence),
            Err(other) => return Err(other),
        }
    }
    let input = OrderInput {
        gross_priced: party.facts.gross_priced,
        name: number.to_owned(),
        customer: party.facts.clone(),
        exposure: Default::default(),
        ship_to: party.ship_to_name.clone(),
        taxed: party.taxed.clone(),
        elsewhere: None,
        customer_order_number: lines[0].cell("their_order").map(str::to_owned),
        date,
        terms: party.terms.clone(),
        currency: party.currency,
        rate: *rate,
        base: rules.base,
        lines: wishes,
        marks: Default::default(),
        quote: false,
        limits: Default::default(),
        mark_rules: &Default::default(),
        treatments: &rules.treatments,
        taxes: &rules.taxes,
        tax_computed: rules.tax_computed,
        accounts: &rules.accounts,
    };
    let decision = decide(&input);
    check.found(&decision.blockers, &places);
    Ok(Some((Target::New(decision.lines), decision.net)))
}

fn wish(
    rules: &Rules,
    party: &Party,
    rate: Option<ExchangeRate>,
    date: NaiveDate,
    sources: &Sources,
    item: &LoadedItem,
    line: &ImportLine,
) -> Result<LineWish> {
    let quantity: Quantity =
        line.cell("quantity").unwrap_or("").parse().map_err(|error| StoreError::decimal("quantity", &error))?;
    let unit_price = match line.cell("price") {
        Some(text) => Some(text.parse::<UnitPrice>().map_err(|error| StoreError::decimal("price", &error))?),
        None => None,
    };
    let id = item.facts.id;
    Ok(LineWish {
        description: line.cell("description").unwrap_or(&item.facts.name).chars().take(200).collect(),
        quantity,
        unit: line.cell("unit").unwrap_or(&item.facts.unit).to_owned(),
        price: PriceInput {
            code: item.facts.code.clone(),
            quantity,
            factor: Quantity::ONE,
            list: item.list,
            base: rules.base,
            document: party.currency,
            rate,
            price_list: sources.list.get(&id).cloned(),
            call_off: None,
            breaks: sources.breaks.get(&id).cloned().unwrap_or_default(),
            promotions: sources.promotions.get(&id).cloned().unwrap_or_default(),
            date,
            typed: Typed {
                unit_price,
                price_reason: unit_price.map(|_| "from the file".to_owned()),
                ..Typed::default()
            },
            surcharge: item.surcharge.clone(),
            tax: None,
        },
        kept: None,
        tax: None,
        stock: StockFacts::default(),
        progress: None,
        on_the_way_out: Quantity::ZERO,
        marks: Default::default(),
        call_off: None,
        item: item.facts.clone(),
    })
}
