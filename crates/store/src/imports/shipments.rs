//! Posted shipments from a file: many at once, written in stretches.

use std::collections::{BTreeMap, HashMap, HashSet};

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{ExchangeRate, Quantity, UnitPrice};
use till_core::ids::{CustomerId, ItemId, OrderId, OrderLineId};
use till_core::invoice::{CustomerFacts, Delivery};
use till_core::money::{Currency, Money};
use till_core::ordering::{LineWish, OrderInput, PricedLine, StockFacts, decide};
use till_core::pricing::{PriceInput, Typed};
use till_core::shipment::most_to_ship;
use till_core::terms::Terms;
use till_core::treatment::Taxed;

use super::{ImportCheck, ImportLine, Planned, Progress, TakenOver};
use crate::convert::{currency, json, known, terms, terms_json};
use crate::orders::{LoadedItem, load_items};
use crate::prices::{self, Sources};
use crate::rules::{Rules, exchange_rate};
use crate::writing::Writing;
use crate::{Result, StoreError};

/// How many rows are written by one statement.
const STRETCH: usize = 1_000;
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

struct Party {
    facts: CustomerFacts,
    currency: Currency,
    terms: Terms,
    price_list: Option<i64>,
    ship_to: Option<i64>,
    ship_to_name: String,
    taxed: Taxed,
}

/// Everything the lines of a file refer to, loaded once.
struct Known {
    parties: HashMap<String, Party>,
    items: HashMap<String, LoadedItem>,
    ids: Vec<ItemId>,
    taken: HashSet<String>,
    sources: HashMap<(Option<i64>, NaiveDate), Sources>,
    rates: HashMap<(Currency, NaiveDate), Option<ExchangeRate>>,
    open: HashMap<String, OpenOrder>,
}

struct OpenOrder {
    id: OrderId,
    customer: String,
    counted: bool,
    /// Line, item, what may still leave.
    lines: Vec<(OrderLineId, String, Quantity)>,
}

async fn load(connection: &mut SqliteConnection, lines: &[ImportLine]) -> Result<Known> {
    let distinct = |heading: &str| -> Vec<&str> {
        let found: HashSet<&str> = lines.iter().filter_map(|line| line.cell(heading)).collect();
        found.into_iter().collect()
    };
    let numbers = json(&distinct("customer"))?;
    let mut parties = HashMap::new();
    let rows = sqlx::query!(
        r#"SELECT customers.id AS "id!", number AS "number!", customers.name AS "name!", class, tax_id, currency AS "currency!", terms AS "terms!", price_list_id, gross_priced AS "gross_priced!",
                  ship_tos.id AS "ship_to?", ship_tos.name AS "ship_to_name?", treatment AS "treatment?", certificate, certificate_until AS "until: NaiveDate"
           FROM customers LEFT JOIN ship_tos ON ship_tos.customer_id = customers.id AND ship_tos.code = 'MAIN'
           WHERE number IN (SELECT value FROM json_each(?))"#,
        numbers
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in rows {
        let taxed = match row.treatment {
            Some(word) => Taxed {
                treatment: known(&word, till_core::treatment::Treatment::of)?,
                certificate: row.certificate,
                until: row.until,
            },
            None => Taxed::standard(),
        };
        let facts = CustomerFacts {
            id: CustomerId(row.id),
            number: row.number.clone(),
            name: row.name.clone(),
            class: row.class,
            tax_id: row.tax_id,
            needs_order_number: false,
            // The goods have gone: limit and stop never prevent billing them.
            stop_reason: None,
            owes: Money::ZERO,
            credit_limit: None,
            delivery: Delivery::Paper,
            email: None,
            gross_priced: row.gross_priced != 0,
        };
        parties.insert(
            row.number,
            Party {
                facts,
                currency: currency(&row.currency)?,
                terms: terms(&row.terms)?,
                price_list: row.price_list_id,
                ship_to: row.ship_to,
                ship_to_name: row.ship_to_name.unwrap_or(row.name),
                taxed,
            },
        );
    }
    let codes = json(&distinct("item"))?;
    let ids: Vec<ItemId> = sqlx::query_scalar!(
        r#"SELECT items.id AS "id!" FROM json_each(?) JOIN items ON code = value COLLATE NOCASE"#,
        codes
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(ItemId)
    .collect();
    let items =
        load_items(connection, &ids).await?.into_values().map(|item| (item.facts.code.to_uppercase(), item)).collect();
    let wanted = json(&distinct("shipment"))?;
    let taken = sqlx::query_scalar!(
        r#"SELECT outside_number AS "number!" FROM shipments WHERE outside_number IN (SELECT value FROM json_each(?))"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .collect();
    let open = open_orders(connection, &distinct("order")).await?;
    Ok(Known { parties, items, ids, taken, sources: HashMap::new(), rates: HashMap::new(), open })
}

async fn open_orders(connection: &mut SqliteConnection, numbers: &[&str]) -> Result<HashMap<String, OpenOrder>> {
    let wanted = json(&numbers)?;
    let mut found: HashMap<String, OpenOrder> = HashMap::new();
    let rows = sqlx::query!(
        r#"SELECT orders.id AS "order!", orders.number AS "number!", customers.number AS "customer!", counted AS "counted!", order_lines.id AS "line!", items.code AS "code!", ordered_e4 AS "ordered!",
                  cancelled_e4 AS "cancelled!", shipped_e4 AS "shipped!", over_e4 AS "over!"
           FROM orders JOIN customers ON customers.id = customer_id JOIN warehouses ON warehouses.code = orders.warehouse
           JOIN order_lines ON order_id = orders.id JOIN items ON items.id = item_id
           WHERE orders.number IN (SELECT value FROM json_each(?)) AND confirmed = 1 ORDER BY orders.id, position"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    for row in rows {
        let progress = till_core::order::LineProgress {
            ordered: Quantity::from_scaled(row.ordered),
            cancelled: Quantity::from_scaled(row.cancelled),
            shipped: Quantity::from_scaled(row.shipped),
            billed: Quantity::ZERO,
            value: Money::ZERO,
        };
        let most = most_to_ship(&progress, Quantity::from_scaled(row.over));
        let order = found.entry(row.number).or_insert_with(|| OpenOrder {
            id: OrderId(row.order),
            customer: row.customer.clone(),
            counted: row.counted != 0,
            lines: Vec::new(),
        });
        order.lines.push((OrderLineId(row.line), row.code.to_uppercase(), most));
    }
    Ok(found)
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
            plans.check.problem(line.line, "shipment", "Give the shipment its number: it is taken over once.");
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
        check.problem(first.line, "shipment", format!("{number} was taken over already. Leave it out."));
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
        customer_order_number: lines[0].cell("their_order").map(str::to_owned),
        date,
        terms: party.terms.clone(),
        currency: party.currency,
        rate: *rate,
        base: rules.base,
        lines: wishes,
        marks: Default::default(),
        quote: false,
        limit: None,
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

/// Ids and numbers of what is written, given out from memory: nothing else writes meanwhile.
struct Next {
    order: i64,
    order_line: i64,
    shipment: i64,
    shipment_line: i64,
}

/// Writes the plans: orders, their lines, shipments, their lines, a thousand rows a statement.
pub(super) async fn write(
    writing: &mut Writing<'_>,
    rules: &Rules,
    plans: Plans,
    progress: Progress<'_>,
) -> Result<TakenOver> {
    sqlx::query!(
        "INSERT INTO warehouses (code, name, counted) VALUES (?, 'Kept elsewhere', 0) ON CONFLICT DO NOTHING",
        ELSEWHERE
    )
    .execute(&mut **writing)
    .await?;
    let new_orders = plans.plans.iter().filter(|plan| matches!(plan.target, Target::New(_))).count();
    let (order_prefix, mut order_number) = crate::rules::next_numbers(writing, "order", new_orders).await?;
    let (prefix, first) = crate::rules::next_numbers(writing, "shipment", plans.plans.len()).await?;
    let last = sqlx::query!(
        r#"SELECT (SELECT coalesce(max(id), 0) FROM orders) AS "order!: i64", (SELECT coalesce(max(id), 0) FROM order_lines) AS "order_line!: i64",
                  (SELECT coalesce(max(id), 0) FROM shipments) AS "shipment!: i64", (SELECT coalesce(max(id), 0) FROM shipment_lines) AS "shipment_line!: i64""#
    )
    .fetch_one(&mut **writing)
    .await?;
    let mut next = Next {
        order: last.order + 1,
        order_line: last.order_line + 1,
        shipment: last.shipment + 1,
        shipment_line: last.shipment_line + 1,
    };
    let mut rows = Rows::default();
    let (mut done, mut number) = (0, first);
    for plan in &plans.plans {
        rows.add(plan, &mut next, (&order_prefix, &mut order_number), format!("{prefix}{number}"), rules)?;
        number += 1;
        done += plan.lines;
        if rows.shipment_lines.len() >= STRETCH {
            rows.write(writing).await?;
            progress(done);
        }
    }
    rows.write(writing).await?;
    progress(done);
    Ok(TakenOver {
        documents: plans.plans.len(),
        lines: done,
        first: format!("{prefix}{first}"),
        last: format!("{prefix}{}", number - 1),
        confirmed: None,
    })
}

/// Rows that wait to be written together.
#[derive(Default)]
struct Rows {
    orders: Vec<serde_json::Value>,
    order_lines: Vec<serde_json::Value>,
    shipped: BTreeMap<i64, i64>,
    shipments: Vec<serde_json::Value>,
    shipment_lines: Vec<serde_json::Value>,
}

impl Rows {
    fn add(
        &mut self,
        plan: &Plan,
        next: &mut Next,
        (order_prefix, order_number): (&str, &mut i64),
        number: String,
        rules: &Rules,
    ) -> Result<()> {
        let shipment = next.shipment;
        next.shipment += 1;
        let (order, lines): (i64, Vec<(i64, i64)>) = match &plan.target {
            Target::Known(order, lines) => {
                for (line, quantity) in lines {
                    *self.shipped.entry(line.0).or_default() += quantity.scaled();
                }
                (order.0, lines.iter().map(|(line, quantity)| (line.0, quantity.scaled())).collect())
            }
            Target::New(priced) => {
                let order = next.order;
                next.order += 1;
                self.orders.push(serde_json::json!([
                    order,
                    format!("{order_prefix}{order_number}"),
                    plan.customer,
                    plan.theirs,
                    plan.date,
                    plan.currency.code(),
                    terms_json(&plan.terms)?,
                    plan.ship_to,
                    ELSEWHERE,
                    rules.business_date,
                    i64::from(plan.gross_priced),
                ]));
                *order_number += 1;
                let mut lines = Vec::with_capacity(priced.len());
                for (position, line) in priced.iter().enumerate() {
                    let Some(price) = &line.price else { continue };
                    let quantity = line.quantity.scaled();
                    self.order_lines.push(serde_json::json!([
                        next.order_line,
                        order,
                        position,
                        line.item,
                        line.description,
                        quantity,
                        line.unit,
                        line.factor.scaled(),
                        price.unit_price.scaled(),
                        price.list_price.scaled(),
                        price.discount.scaled(),
                        price.discount_reason,
                        price.surcharge.scaled(),
                        price.surcharge_name,
                        json(&price.steps)?,
                        line.tax.code,
                        line.net,
                        ELSEWHERE,
                        line.amount,
                    ]));
                    lines.push((next.order_line, quantity));
                    next.order_line += 1;
                }
                (order, lines)
            }
        };
        self.shipments.push(serde_json::json!([
            shipment,
            number,
            order,
            plan.customer,
            plan.date,
            plan.carrier,
            plan.consignment,
            plan.number,
            ELSEWHERE,
        ]));
        for (position, (line, quantity)) in lines.into_iter().enumerate() {
            self.shipment_lines.push(serde_json::json!([next.shipment_line, shipment, position, line, quantity]));
            next.shipment_line += 1;
        }
        Ok(())
    }

    async fn write(&mut self, connection: &mut SqliteConnection) -> Result<()> {
        let orders = json(&std::mem::take(&mut self.orders))?;
        sqlx::query!(
            "INSERT INTO orders (id, number, customer_id, customer_order_number, order_date, currency, terms, ship_to_id, warehouse, confirmed, confirmed_on, state, gross_priced)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6, value ->> 7, value ->> 8, 1, value ->> 9, 'open', value ->> 10
             FROM json_each(?)",
            orders
        )
        .execute(&mut *connection)
        .await?;
        let lines = json(&std::mem::take(&mut self.order_lines))?;
        sqlx::query!(
            "INSERT INTO order_lines (id, order_id, position, item_id, description, ordered_e4, shipped_e4, unit, factor_e4, unit_price_e6,
                    list_price_e6, discount_e6, discount_reason, surcharge_e6, surcharge_name, price_steps, tax_code, net_minor, warehouse, amount_minor)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 5, value ->> 6, value ->> 7, value ->> 8,
                    value ->> 9, value ->> 10, value ->> 11, value ->> 12, value ->> 13, value ->> 14, value ->> 15, value ->> 16, value ->> 17, value ->> 18
             FROM json_each(?)",
            lines
        )
        .execute(&mut *connection)
        .await?;
        let shipped = json(&std::mem::take(&mut self.shipped).into_iter().collect::<Vec<_>>())?;
        sqlx::query!(
            "UPDATE order_lines SET shipped_e4 = shipped_e4 + gone.quantity
             FROM (SELECT value ->> 0 AS line, value ->> 1 AS quantity FROM json_each(?)) AS gone WHERE order_lines.id = gone.line",
            shipped
        )
        .execute(&mut *connection)
        .await?;
        let shipments = json(&std::mem::take(&mut self.shipments))?;
        // They stand as packed until their lines are there: a posted shipment takes no more.
        sqlx::query!(
            "INSERT INTO shipments (id, number, order_id, customer_id, state, packed_date, carrier, consignment_number, outside_number, warehouse, cost_purpose)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, 'packed', value ->> 4, value ->> 5, value ->> 6, value ->> 7, value ->> 8, 'none'
             FROM json_each(?)",
            shipments
        )
        .execute(&mut *connection)
        .await?;
        let lines = json(&std::mem::take(&mut self.shipment_lines))?;
        sqlx::query!(
            "INSERT INTO shipment_lines (id, shipment_id, position, order_line_id, quantity_e4, unbilled_e4, asked_e4)
             SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 4, value ->> 4 FROM json_each(?)",
            lines
        )
        .execute(&mut *connection)
        .await?;
        sqlx::query!(
            "UPDATE shipments SET state = 'posted', posting_date = packed_date WHERE id IN (SELECT value ->> 0 FROM json_each(?))",
            shipments
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}
