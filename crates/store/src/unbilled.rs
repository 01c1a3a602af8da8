//! Unbilled: posted shipments with something left to bill, and work of orders that needs none.
//!
//! What of each shipment line is worth is kept beside it (`unbilled_minor`), worked out by the core
//! at the end of the change that touched it, so that a list of many thousands adds up at once.

use std::collections::HashMap;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Step, stops};
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::whereabouts::{OrderBilling, Whereabouts, document, whereabouts};
use till_core::invoice::{BillingHabit, InvoiceInput, decide};
use till_core::money::{Currency, Money, line_total};
use till_core::order::{LineProgress, OrderState, Track};

use crate::convert::{currency, json, known, terms};
use crate::invoices::{Head, OrderPick, Pick, Picked, ToDecide, inputs, load_ordered, load_shipped};
use crate::rules::{Rules, exchange_rate};
use crate::shipments::and_more;
use crate::{Result, StoreError};

/// A line with something left to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledLine {
    /// The shipment line; none for work without a shipment.
    pub shipment_line: Option<ShipmentLineId>,
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// What is left to bill.
    pub quantity: Quantity,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// Net of it in the order's currency.
    pub net: Money,
}

/// A shipment with something left to bill, or an order with work to bill without one.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledShipment {
    /// The shipment; none for work of an order.
    pub shipment: Option<ShipmentId>,
    /// Its number, or the order's.
    pub number: String,
    /// The order.
    pub order: OrderId,
    /// The order's number.
    pub order_number: String,
    /// The number the customer gave the order.
    pub customer_order_number: Option<String>,
    /// The order's track.
    pub track: Track,
    /// When it left; for work the day of the order.
    pub shipped_on: NaiveDate,
    /// Days since.
    pub days: i64,
    /// Words for what is on it.
    pub what: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Net left to bill, in its currency.
    pub net: Money,
    /// Net left to bill, in base currency.
    pub net_base: Money,
    /// Its lines.
    pub lines: Vec<UnbilledLine>,
    /// What would stand in the way of posting it.
    pub blockers: Vec<Blocker>,
}

/// A customer with something to bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledCustomer {
    /// The customer.
    pub customer: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Terms in words.
    pub terms: String,
    /// How it wants to be billed.
    pub habit: BillingHabit,
    /// Whether only when all of an order has gone.
    pub when_complete: bool,
    /// Days since its oldest shipment.
    pub days: i64,
    /// How many shipments it has, those on other pages included.
    pub count: i64,
    /// Net left to bill, in base currency, those on other pages included.
    pub net_base: Money,
    /// Its shipments on this page, oldest first.
    pub shipments: Vec<UnbilledShipment>,
}

/// A page of the unbilled.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Unbilled {
    /// By customer, the oldest first.
    pub customers: Vec<UnbilledCustomer>,
    /// How many shipments fit, those on other pages included.
    pub shipments: i64,
    /// Net left to bill of all that fits, in base currency.
    pub net_base: Money,
    /// Where the next page begins; none on the last.
    pub next: Option<i64>,
}

/// What to list.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnbilledFilter {
    /// Only of this customer.
    #[serde(default)]
    pub customer: Option<CustomerId>,
    /// Words in customer, shipment, order or item.
    #[serde(default)]
    pub search: Option<String>,
    /// Only shipments at least so many days old.
    #[serde(default)]
    pub over_days: Option<i64>,
    /// Only shipments at most so many days old.
    #[serde(default)]
    pub up_to_days: Option<i64>,
    /// Only in this currency.
    #[serde(default)]
    pub currency: Option<String>,
    /// Only customers billed so.
    #[serde(default)]
    pub habit: Option<BillingHabit>,
    /// Only shipments worth at least so much, in their currency's minor units.
    #[serde(default)]
    pub at_least: Option<i64>,
    /// Only what stands in its own way, or only what does not.
    #[serde(default)]
    pub blocked: Option<bool>,
    /// How many shipments a page has; none for all.
    #[serde(skip)]
    pub limit: Option<i64>,
    /// How many shipments to pass over.
    #[serde(skip)]
    pub offset: i64,
}

/// What one customer has unbilled.
#[derive(Debug, Clone)]
pub(crate) struct CustomerSum {
    pub(crate) customer: CustomerId,
    pub(crate) number: String,
    pub(crate) name: String,
    pub(crate) terms: String,
    pub(crate) habit: BillingHabit,
    pub(crate) when_complete: bool,
    pub(crate) shipments: i64,
    pub(crate) net_base: Money,
    pub(crate) oldest: NaiveDate,
}

struct Bounds {
    customer: Option<i64>,
    like: Option<String>,
    latest: Option<NaiveDate>,
    earliest: Option<NaiveDate>,
    habit: Option<&'static str>,
}

impl UnbilledFilter {
    fn bounds(&self, rules: &Rules) -> Bounds {
        let ago = |days: Option<i64>| {
            days.and_then(|days| rules.business_date.checked_sub_days(Days::new(u64::try_from(days).unwrap_or(0))))
        };
        Bounds {
            customer: self.customer.map(|customer| customer.0),
            like: self.search.as_deref().map(crate::find::pattern),
            latest: ago(self.over_days),
            earliest: ago(self.up_to_days),
            habit: self.habit.map(BillingHabit::word),
        }
    }
}

/// Sums by customer, the one with the oldest shipment first.
pub(crate) async fn sums(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
) -> Result<Vec<CustomerSum>> {
    let bounds = filter.bounds(rules);
    let rows = sqlx::query!(
        r#"SELECT shipments.customer_id AS "customer_id!", orders.currency AS "currency!", count(*) AS "count!: i64", sum(open.net) AS "net!: i64",
                  min(shipments.posting_date) AS "oldest!: NaiveDate"
           FROM (SELECT shipment_id, coalesce(sum(unbilled_minor), 0) AS net FROM shipment_lines WHERE unbilled_e4 > 0 GROUP BY shipment_id) AS open
           JOIN shipments ON shipments.id = open.shipment_id JOIN orders ON orders.id = shipments.order_id
           WHERE (?1 IS NULL OR shipments.customer_id = ?1) AND (?3 IS NULL OR shipments.posting_date <= ?3)
             AND (?4 IS NULL OR shipments.posting_date >= ?4) AND (?5 IS NULL OR orders.currency = ?5)
             AND (?6 IS NULL OR (SELECT billing FROM customers WHERE customers.id = shipments.customer_id) = ?6) AND (?7 IS NULL OR open.net >= ?7)
             AND (?2 IS NULL OR shipments.number LIKE ?2 ESCAPE '\' OR outside_number LIKE ?2 ESCAPE '\' OR orders.number LIKE ?2 ESCAPE '\'
                  OR orders.customer_order_number LIKE ?2 ESCAPE '\'
                  OR shipments.customer_id IN (SELECT customers.id FROM customers WHERE name LIKE ?2 ESCAPE '\')
                  OR EXISTS (SELECT 1 FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
                             WHERE shipment_id = shipments.id AND unbilled_e4 > 0 AND (description LIKE ?2 ESCAPE '\' OR code LIKE ?2 ESCAPE '\')))
           GROUP BY shipments.customer_id, orders.currency"#,
        bounds.customer,
        bounds.like,
        bounds.latest,
        bounds.earliest,
        filter.currency,
        bounds.habit,
        filter.at_least
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids = json(&rows.iter().map(|row| row.customer_id).collect::<Vec<_>>())?;
    let customers = sqlx::query!(
        "SELECT id, number, name, terms, billing, bill_when_complete FROM customers WHERE id IN (SELECT value FROM json_each(?))",
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut sums: HashMap<i64, CustomerSum> = HashMap::with_capacity(customers.len());
    for row in customers {
        let sum = CustomerSum {
            customer: CustomerId(row.id),
            number: row.number,
            name: row.name,
            terms: terms(&row.terms)?.words(),
            habit: known(&row.billing, BillingHabit::of)?,
            when_complete: row.bill_when_complete != 0,
            shipments: 0,
            net_base: Money::ZERO,
            oldest: NaiveDate::MAX,
        };
        sums.insert(row.id, sum);
    }
    for row in rows {
        let document = currency(&row.currency)?;
        let rate = exchange_rate(connection, rules, document, rules.business_date).await?.unwrap_or(ExchangeRate::ONE);
        let Some(sum) = sums.get_mut(&row.customer_id) else { continue };
        sum.shipments += row.count;
        sum.net_base += Money(row.net).to_base(rate, document, rules.base);
        sum.oldest = sum.oldest.min(row.oldest);
    }
    let mut sums: Vec<CustomerSum> = sums.into_values().collect();
    sums.sort_by_key(|sum| (sum.oldest, sum.customer));
    Ok(sums)
}

/// The unbilled lines of a page of shipments, in the order of the list.
async fn page(connection: &mut SqliteConnection, rules: &Rules, filter: &UnbilledFilter) -> Result<(Vec<Pick>, i64)> {
    let bounds = filter.bounds(rules);
    // What is blocked is known only once it is decided: then all of it is read.
    let limit = filter.limit.filter(|_| filter.blocked.is_none()).unwrap_or(i64::MAX);
    let shipments = sqlx::query_scalar!(
        r#"SELECT shipments.id AS "id!: i64"
           FROM (SELECT shipment_id, coalesce(sum(unbilled_minor), 0) AS net FROM shipment_lines WHERE unbilled_e4 > 0 GROUP BY shipment_id) AS open
           JOIN shipments ON shipments.id = open.shipment_id JOIN orders ON orders.id = shipments.order_id
           WHERE (?1 IS NULL OR shipments.customer_id = ?1) AND (?3 IS NULL OR shipments.posting_date <= ?3)
             AND (?4 IS NULL OR shipments.posting_date >= ?4) AND (?5 IS NULL OR orders.currency = ?5)
             AND (?6 IS NULL OR (SELECT billing FROM customers WHERE customers.id = shipments.customer_id) = ?6) AND (?7 IS NULL OR open.net >= ?7)
             AND (?2 IS NULL OR shipments.number LIKE ?2 ESCAPE '\' OR outside_number LIKE ?2 ESCAPE '\' OR orders.number LIKE ?2 ESCAPE '\'
                  OR orders.customer_order_number LIKE ?2 ESCAPE '\'
                  OR shipments.customer_id IN (SELECT customers.id FROM customers WHERE name LIKE ?2 ESCAPE '\')
                  OR EXISTS (SELECT 1 FROM shipment_lines JOIN order_lines ON order_lines.id = order_line_id JOIN items ON items.id = item_id
                             WHERE shipment_id = shipments.id AND unbilled_e4 > 0 AND (description LIKE ?2 ESCAPE '\' OR code LIKE ?2 ESCAPE '\')))
           ORDER BY min(shipments.posting_date) OVER (PARTITION BY shipments.customer_id), shipments.customer_id, shipments.posting_date, shipments.id
           LIMIT ?8 OFFSET ?9"#,
        bounds.customer,
        bounds.like,
        bounds.latest,
        bounds.earliest,
        filter.currency,
        bounds.habit,
        filter.at_least,
        limit,
        filter.offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = i64::try_from(shipments.len()).unwrap_or(i64::MAX);
    let shipments = json(&shipments)?;
    let lines = sqlx::query_scalar!(
        r#"SELECT shipment_lines.id AS "id!: i64" FROM json_each(?) AS wanted JOIN shipment_lines ON shipment_id = wanted.value
           WHERE unbilled_e4 > 0 ORDER BY wanted.key, position"#,
        shipments
    )
    .fetch_all(connection)
    .await?;
    Ok((lines.into_iter().map(|id| Pick { shipment_line: ShipmentLineId(id), quantity: None }).collect(), count))
}

/// Every unbilled shipment line that fits a filter, in the order of the list.
pub(crate) async fn picks(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
) -> Result<Vec<Pick>> {
    let whole = UnbilledFilter { limit: None, offset: 0, ..filter.clone() };
    if filter.blocked.is_none() {
        return Ok(page(connection, rules, &whole).await?.0);
    }
    let listed = list(connection, rules, &whole).await?;
    let lines = listed.customers.iter().flat_map(|customer| &customer.shipments).flat_map(|shipment| &shipment.lines);
    Ok(lines
        .filter_map(|line| line.shipment_line.map(|shipment_line| Pick { shipment_line, quantity: None }))
        .collect())
}

/// Lists what is unbilled.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, rules: &Rules, filter: &UnbilledFilter) -> Result<Unbilled> {
    let sums = sums(connection, rules, filter).await?;
    let (picks, on_page) = page(connection, rules, filter).await?;
    let all: i64 = sums.iter().map(|sum| sum.shipments).sum();
    let mut unbilled = Unbilled {
        shipments: all,
        net_base: sums.iter().map(|sum| sum.net_base).sum(),
        customers: Vec::new(),
        next: (filter.offset + on_page < all && filter.blocked.is_none()).then_some(filter.offset + on_page),
    };
    let wanted: Vec<_> = picks.iter().map(|pick| (None, *pick)).collect();
    let lines = load_shipped(connection, &wanted).await?;
    let by_shipment =
        by_source(lines, |one, other| one.shipment().map(|(id, _)| id) == other.shipment().map(|(id, _)| id));
    for row in rows(connection, rules, by_shipment).await? {
        add(&mut unbilled, row, &sums, rules);
    }
    if filter.offset == 0 {
        add_work(connection, rules, filter, &mut unbilled).await?;
    }
    if let Some(wanted) = filter.blocked {
        for customer in &mut unbilled.customers {
            customer.shipments.retain(|shipment| stops(&shipment.blockers) == wanted);
            customer.count = i64::try_from(customer.shipments.len()).unwrap_or(0);
            customer.net_base = customer.shipments.iter().map(|shipment| shipment.net_base).sum();
        }
        unbilled.customers.retain(|customer| !customer.shipments.is_empty());
        unbilled.shipments = unbilled.customers.iter().map(|customer| customer.count).sum();
        unbilled.net_base = unbilled.customers.iter().map(|customer| customer.net_base).sum();
    }
    Ok(unbilled)
}

fn by_source(
    lines: Vec<Picked>,
    same: impl Fn(&till_core::invoice::LineSource, &till_core::invoice::LineSource) -> bool,
) -> Vec<Vec<Picked>> {
    let mut groups: Vec<Vec<Picked>> = Vec::new();
    for line in lines {
        match groups.last_mut().filter(|last| same(&last[0].line.source, &line.line.source)) {
            Some(last) => last.push(line),
            None => groups.push(vec![line]),
        }
    }
    groups
}

/// Each group as it would be billed alone, with whose it is.
async fn rows(
    connection: &mut SqliteConnection,
    rules: &Rules,
    groups: Vec<Vec<Picked>>,
) -> Result<Vec<(CustomerId, UnbilledShipment)>> {
    let wanted = groups
        .into_iter()
        .map(|lines| ToDecide { customer: lines[0].picking.customer, lines, head: Head::default() })
        .collect();
    let inputs = inputs(connection, rules, Step::Post, wanted).await?;
    Ok(inputs.iter().filter_map(|input| Some((input.customer.id, row(input, rules)?))).collect())
}

fn row(input: &InvoiceInput<'_>, rules: &Rules) -> Option<UnbilledShipment> {
    let decision = decide(input);
    let document = decision.document.as_ref()?;
    let order = input.orders.first()?;
    let lines: Vec<UnbilledLine> = document
        .lines
        .iter()
        .filter_map(|line| {
            Some(UnbilledLine {
                shipment_line: line.source.shipment_line(),
                order_line: line.source.order_line()?,
                code: line.code.clone(),
                description: line.description.clone(),
                unit: line.unit.clone(),
                quantity: line.unbilled,
                unit_price: line.unit_price,
                net: line.net,
            })
        })
        .collect();
    let first = document.lines.first()?;
    let shipped_on = first.source.shipped_on().unwrap_or(rules.business_date);
    let more = i64::try_from(lines.len()).unwrap_or(1) - 1;
    Some(UnbilledShipment {
        shipment: first.source.shipment().map(|(id, _)| id),
        number: first.source.shipment().map_or_else(|| order.number.clone(), |(_, number)| number.to_owned()),
        order: order.id,
        order_number: order.number.clone(),
        customer_order_number: order.customer_order_number.clone(),
        track: order.track(),
        shipped_on,
        days: (rules.business_date - shipped_on).num_days(),
        what: and_more(&format!("{} × {}", first.unbilled, first.description), more),
        currency: document.currency,
        net: document.net,
        net_base: document.net.to_base(document.rate, document.currency, rules.base),
        lines,
        blockers: decision.blockers,
    })
}

fn add(unbilled: &mut Unbilled, (id, row): (CustomerId, UnbilledShipment), sums: &[CustomerSum], rules: &Rules) {
    if let Some(known) = unbilled.customers.iter_mut().find(|known| known.customer == id) {
        known.shipments.push(row);
        return;
    }
    let Some(sum) = sums.iter().find(|sum| sum.customer == id) else { return };
    unbilled.customers.push(UnbilledCustomer {
        customer: id,
        number: sum.number.clone(),
        name: sum.name.clone(),
        terms: sum.terms.clone(),
        habit: sum.habit,
        when_complete: sum.when_complete,
        days: (rules.business_date - sum.oldest).num_days(),
        count: sum.shipments,
        net_base: sum.net_base,
        shipments: vec![row],
    });
}

/// Work and charges of confirmed orders that stand on no shipment: once goods of the order have
/// gone, or where it has none.
async fn add_work(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
    unbilled: &mut Unbilled,
) -> Result<()> {
    if filter.at_least.is_some() || filter.over_days.is_some() {
        return Ok(());
    }
    let bounds = filter.bounds(rules);
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", orders.customer_id AS "customer!",
                  EXISTS (SELECT 1 FROM order_lines AS goods JOIN items AS kept ON kept.id = goods.item_id
                          WHERE goods.order_id = orders.id AND kept.kind IN ('goods', 'packaging')) AS "has_goods!: bool",
                  EXISTS (SELECT 1 FROM order_lines AS goods JOIN items AS kept ON kept.id = goods.item_id
                          WHERE goods.order_id = orders.id AND kept.kind IN ('goods', 'packaging') AND goods.shipped_e4 > 0) AS "goods_gone!: bool"
           FROM items JOIN order_lines ON item_id = items.id JOIN orders ON orders.id = order_id JOIN customers ON customers.id = customer_id
           WHERE items.kind IN ('service', 'charge') AND confirmed = 1
             AND ordered_e4 - cancelled_e4 - shipped_e4 - drafted_e4 > coalesce((
                SELECT sum(leaving.quantity_e4) FROM shipment_lines AS leaving JOIN shipments ON shipments.id = leaving.shipment_id
                WHERE leaving.order_line_id = order_lines.id AND shipments.state IN ('picking', 'packed')), 0)
             AND (?1 IS NULL OR customer_id = ?1) AND (?3 IS NULL OR orders.currency = ?3) AND (?4 IS NULL OR billing = ?4)
             AND (?2 IS NULL OR customers.name LIKE ?2 ESCAPE '\' OR orders.number LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\'
                  OR description LIKE ?2 ESCAPE '\' OR code LIKE ?2 ESCAPE '\')
           ORDER BY orders.id, position LIMIT 2000"#,
        bounds.customer,
        bounds.like,
        filter.currency,
        bounds.habit
    )
    .fetch_all(&mut *connection)
    .await?;
    let due: Vec<_> = lines
        .iter()
        .filter(|line| till_core::order::work_is_due(line.has_goods, line.goods_gone))
        .map(|line| (None, OrderPick { order_line: OrderLineId(line.id), quantity: None }))
        .collect();
    let loaded = load_ordered(connection, &due).await?;
    let groups = by_source(loaded, |one, other| one.order() == other.order());
    let rows = rows(connection, rules, groups).await?;
    let mut own: Vec<CustomerSum> = Vec::new();
    for (id, row) in &rows {
        match own.iter_mut().find(|sum| sum.customer == *id) {
            Some(sum) => {
                sum.shipments += 1;
                sum.net_base += row.net_base;
            }
            None => {
                let known = crate::customers::facts_of(connection, &[*id]).await?;
                let Some(known) = known.get(id) else { continue };
                own.push(CustomerSum {
                    customer: *id,
                    number: known.facts.number.clone(),
                    name: known.facts.name.clone(),
                    terms: known.terms.words(),
                    habit: BillingHabit::Order,
                    when_complete: false,
                    shipments: 1,
                    net_base: row.net_base,
                    oldest: rules.business_date,
                });
            }
        }
    }
    for sum in &own {
        if let Some(known) = unbilled.customers.iter_mut().find(|known| known.customer == sum.customer) {
            known.count += sum.shipments;
            known.net_base += sum.net_base;
        }
        unbilled.shipments += sum.shipments;
        unbilled.net_base += sum.net_base;
    }
    for row in rows {
        add(unbilled, row, &own, rules);
    }
    Ok(())
}

/// Net value of what one customer has unbilled, in base currency.
pub(crate) async fn value_of(connection: &mut SqliteConnection, rules: &Rules, customer: CustomerId) -> Result<Money> {
    let filter = UnbilledFilter { customer: Some(customer), limit: Some(1), ..UnbilledFilter::default() };
    Ok(list(connection, rules, &filter).await?.net_base)
}

/// Works out what lines are worth that a change touched.
pub(crate) async fn value(connection: &mut SqliteConnection) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id AS "id!", unbilled_e4, unit_price_e6, discount_e6, surcharge_e6, orders.currency, orders.gross_priced,
                  coalesce((SELECT rate_e6 FROM tax_rates WHERE code = order_lines.tax_code AND valid_from <= shipments.posting_date
                            ORDER BY valid_from DESC LIMIT 1), 0) AS "rate!: i64"
           FROM shipment_lines JOIN shipments ON shipments.id = shipment_id JOIN order_lines ON order_lines.id = order_line_id
           JOIN orders ON orders.id = order_lines.order_id
           WHERE unbilled_minor IS NULL AND unbilled_e4 > 0"#
    )
    .fetch_all(&mut *connection)
    .await?;
    if rows.is_empty() {
        return Ok(());
    }
    let mut values = Vec::with_capacity(rows.len());
    for row in rows {
        let amount = line_total(
            Quantity::from_scaled(row.unbilled_e4),
            UnitPrice::from_scaled(row.unit_price_e6),
            Rate::from_scaled(row.discount_e6),
            UnitPrice::from_scaled(row.surcharge_e6),
            currency(&row.currency)?,
        )
        .net;
        values.push((row.id, if row.gross_priced != 0 { amount.without(Rate::from_scaled(row.rate)) } else { amount }));
    }
    let values = json(&values)?;
    sqlx::query!(
        "UPDATE shipment_lines SET unbilled_minor = new.value ->> 1 FROM jsonb_each(?) AS new WHERE shipment_lines.id = new.value ->> 0",
        values
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Where the billing of an order stands, asked for by its number, the customer's number of it, or
/// the number of one of its shipments; nothing where there is no such thing.
///
/// # Errors
/// Where the database cannot be read.
pub async fn why(connection: &mut SqliteConnection, number: &str) -> Result<Vec<Whereabouts>> {
    let number = number.trim();
    let ids = sqlx::query_scalar!(
        r#"SELECT DISTINCT orders.id AS "id!" FROM orders LEFT JOIN shipments ON shipments.order_id = orders.id
           WHERE orders.number = ?1 COLLATE NOCASE OR customer_order_number = ?1 COLLATE NOCASE OR shipments.number = ?1 COLLATE NOCASE
              OR outside_number = ?1 COLLATE NOCASE ORDER BY orders.id DESC LIMIT 5"#,
        number
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut answers = Vec::new();
    for id in ids {
        answers.extend(whereabouts(&billing_of(connection, OrderId(id)).await?));
    }
    Ok(answers)
}

async fn billing_of(connection: &mut SqliteConnection, id: OrderId) -> Result<OrderBilling> {
    let head =
        sqlx::query!(r#"SELECT number, state, promised_date AS "promised: NaiveDate" FROM orders WHERE id = ?"#, id.0)
            .fetch_one(&mut *connection)
            .await?;
    let lines = crate::orders::facts(connection, &[id]).await?.pop();
    let lines: Vec<LineProgress> = lines.into_iter().flat_map(|facts| facts.lines).map(|(_, line)| line).collect();
    let shipments = sqlx::query!(
        r#"SELECT shipments.id, number, state,
                  EXISTS (SELECT 1 FROM shipment_lines WHERE shipment_id = shipments.id AND unbilled_e4 > 0) AS "unbilled!: bool"
           FROM shipments WHERE order_id = ? ORDER BY shipments.id"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let invoices = sqlx::query!(
        r#"SELECT DISTINCT invoices.id AS "id!", invoices.number, invoices.state, document_date AS "date: NaiveDate", cancelled_by,
                  run_id, billing_runs.name AS "run?"
           FROM invoice_lines JOIN invoices ON invoices.id = invoice_id
           LEFT JOIN shipment_lines ON shipment_lines.id = shipment_line_id
           JOIN order_lines ON order_lines.id = coalesce(invoice_lines.order_line_id, shipment_lines.order_line_id)
           LEFT JOIN billing_runs ON billing_runs.id = run_id
           WHERE order_id = ? ORDER BY invoices.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut facts = OrderBilling {
        order: document(DocumentKind::Order, id.0, head.number),
        state: OrderState::of(&head.state)
            .ok_or_else(|| StoreError::Corrupt(format!("an order that is {}", head.state)))?,
        lines,
        underway: Vec::new(),
        drafts: Vec::new(),
        invoices: Vec::new(),
        unbilled: Vec::new(),
        promised: head.promised,
    };
    for row in shipments {
        let shipment = document(DocumentKind::Shipment, row.id, row.number);
        match row.state.as_str() {
            "picking" | "packed" => facts.underway.push(shipment),
            "posted" if row.unbilled => facts.unbilled.push(shipment),
            _ => {}
        }
    }
    for row in invoices {
        match (row.number, row.date) {
            (Some(number), Some(date)) if row.state == "posted" => {
                if row.cancelled_by.is_none() {
                    facts.invoices.push((document(DocumentKind::Invoice, row.id, number), date));
                }
            }
            _ => facts.drafts.push((document(DocumentKind::Invoice, row.id, format!("draft {}", row.id)), row.run)),
        }
    }
    Ok(facts)
}
