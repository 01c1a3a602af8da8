//! Loading what the core needs to decide on invoices: many at a time as well as one.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::{Terms, invoice_dates};
use till_core::checks::Step;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, InvoiceId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{
    Basis, BillingHabit, DiscountWish, HeldCost, InvoiceInput, ItemKind, LineSource, LineToBill, Picking, PriceChange,
    TaxChange,
};
use till_core::marks::Marks;
use till_core::money::{Currency, Money};
use till_core::order::OrderFacts;
use till_core::treatment::{Taxed, Treatment};

use super::added::AddedLine;
use crate::convert::{currency, json, known, terms};
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError, customers, orders};

/// A shipment line to bill.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Pick {
    /// The line.
    pub shipment_line: ShipmentLineId,
    /// How much of it; none for all that is unbilled.
    #[serde(default)]
    pub quantity: Option<Quantity>,
}

/// Work or a charge of an order, to bill without a shipment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderPick {
    /// The order line.
    pub order_line: OrderLineId,
    /// How much of it; none for all that is open.
    #[serde(default)]
    pub quantity: Option<Quantity>,
}

/// A line to bill, and what decides which invoice it goes on.
#[derive(Debug, Clone)]
pub(crate) struct Picked {
    pub(crate) picking: Picking,
    pub(crate) line: LineToBill,
    /// As typed, where it was.
    pub(crate) typed: Option<AddedLine>,
    /// Whether its customer is billed only when all of an order has gone.
    pub(crate) when_complete: bool,
}

/// What of a draft a line stands on already.
pub(crate) type Wanted<P> = (Option<InvoiceId>, P);

/// Columns that shipped and ordered lines have in common.
struct Common {
    customer: i64,
    currency: String,
    terms: String,
    gross: i64,
    habit: String,
    delivery: String,
    when_complete: i64,
    item: (i64, String, String, String, String),
    unit: String,
    unbilled: i64,
    price: (i64, i64, i64, Option<String>, i64, Option<String>),
    steps: String,
    tax_code: String,
    marks: (String, String),
    place: (Option<String>, Option<String>, Option<String>, Option<NaiveDate>),
    changed: (Option<i64>, Option<String>, Option<i64>),
    tax_changed: (Option<String>, Option<String>),
}

fn picked(row: Common, source: LineSource, held_cost: Option<HeldCost>) -> Result<Picked> {
    let unbilled = Quantity::from_scaled(row.unbilled);
    let (ship_to, treatment, certificate, until) = row.place;
    let delivered = match (ship_to, treatment) {
        (Some(name), Some(treatment)) => {
            Some((name, Taxed { treatment: known(&treatment, Treatment::of)?, certificate, until }))
        }
        _ => None,
    };
    let (item, code, description, kind, class) = row.item;
    let (unit_price, list_price, discount, discount_reason, surcharge, surcharge_name) = row.price;
    let (changed_price, price_reason, price_allowed) = row.changed;
    let structured =
        (row.delivery == "structured").then(|| delivered.as_ref().map(|(name, _)| name.clone()).unwrap_or_default());
    Ok(Picked {
        picking: Picking {
            customer: CustomerId(row.customer),
            currency: currency(&row.currency)?,
            terms: terms(&row.terms)?,
            gross_priced: row.gross != 0,
            treatment: delivered.as_ref().map(|(_, taxed)| taxed.treatment),
            habit: known(&row.habit, BillingHabit::of)?,
            structured,
            source: source.clone(),
        },
        line: LineToBill {
            source,
            item: Some(ItemId(item)),
            account: None,
            code,
            description,
            kind: known(&kind, ItemKind::of)?,
            class,
            unit: row.unit,
            quantity: unbilled,
            unbilled,
            unit_price: UnitPrice::from_scaled(unit_price),
            list_price: UnitPrice::from_scaled(list_price),
            discount: Rate::from_scaled(discount),
            discount_reason,
            surcharge: UnitPrice::from_scaled(surcharge),
            surcharge_name,
            price_steps: read(&row.steps)?,
            tax_code: row.tax_code,
            tax_change: row.tax_changed.0.zip(row.tax_changed.1).map(|(code, reason)| TaxChange { code, reason }),
            delivered,
            marks: match (row.marks.0.as_str(), row.marks.1.as_str()) {
                ("{}", "{}") => Marks::default(),
                (line, order) => read::<Marks>(line)?.over(&read(order)?),
            },
            held_cost,
            price_change: changed_price.zip(price_reason).map(|(price, reason)| PriceChange {
                unit_price: UnitPrice::from_scaled(price),
                reason,
                allowed: price_allowed.map(Money),
            }),
        },
        typed: None,
        when_complete: row.when_complete != 0,
    })
}

/// The picked lines of shipments, in the order picked. What a draft named beside a pick has
/// reserved of it counts as free.
pub(crate) async fn load_shipped(connection: &mut SqliteConnection, wanted: &[Wanted<Pick>]) -> Result<Vec<Picked>> {
    let ids = json(&wanted.iter().map(|(draft, pick)| (pick.shipment_line, *draft)).collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT wanted.key + 0 AS "at!: i64", shipment_lines.id AS "id!: i64", shipment_id AS "shipment_id!", shipments.number AS "shipment_number!",
                  posting_date AS "posting_date: NaiveDate", shipments.customer_id AS "customer_id!", shipments.order_id AS "order_id!",
                  orders.number AS "order_number!", customer_order_number, shipment_lines.order_line_id AS "order_line_id!", order_lines.item_id AS "item_id!",
                  items.code AS "code!", order_lines.description AS "description!", items.kind AS "kind!", items.class AS "class!",
                  unbilled_e4 + coalesce(drafted.quantity_e4, 0) AS "unbilled!: i64",
                  drafted.unit_price_e6 AS "changed_price?", drafted.price_reason AS "price_reason?",
                  drafted.price_allowed_minor AS "price_allowed?", drafted.tax_code AS "changed_code?", drafted.tax_reason AS "tax_reason?",
                  order_lines.unit_price_e6 AS "unit_price_e6!", order_lines.list_price_e6 AS "list_price_e6!", order_lines.discount_e6 AS "discount_e6!",
                  order_lines.discount_reason, order_lines.tax_code AS "tax_code!",
                  order_lines.surcharge_e6 AS "surcharge_e6!", order_lines.surcharge_name, order_lines.price_steps AS "price_steps!", order_lines.marks AS "line_marks!",
                  order_lines.unit AS "line_unit!", shipment_lines.quantity_e4 AS "shipped!", shipment_lines.billed_e4 AS "billed!",
                  shipment_lines.cost_minor AS "cost_minor!", cost_billed_minor AS "cost_billed_minor!", cost_purpose AS "cost_purpose!",
                  orders.currency AS "currency!", orders.terms AS "terms!", orders.gross_priced AS "gross_priced!", orders.marks AS "order_marks!",
                  ship_tos.name AS "ship_to?", ship_tos.treatment AS "treatment?",
                  ship_tos.certificate, ship_tos.certificate_until AS "certificate_until: NaiveDate",
                  billing AS "billing!", delivery AS "delivery!", bill_when_complete AS "bill_when_complete!"
           FROM json_each(?) AS wanted
           JOIN shipment_lines ON shipment_lines.id = wanted.value ->> 0
           JOIN shipments ON shipments.id = shipment_id
           JOIN order_lines ON order_lines.id = shipment_lines.order_line_id
           JOIN orders ON orders.id = shipments.order_id
           JOIN customers ON customers.id = shipments.customer_id
           JOIN items ON items.id = order_lines.item_id
           LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id
           LEFT JOIN invoice_lines AS drafted ON drafted.invoice_id = wanted.value ->> 1 AND drafted.shipment_line_id = shipment_lines.id
           ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut found = rows.into_iter().peekable();
    let mut all = Vec::with_capacity(wanted.len());
    for (at, (_, pick)) in wanted.iter().enumerate() {
        let Some(row) = found.next_if(|row| row.at == at as i64) else {
            return Err(StoreError::invalid(
                format!("picks.{at}.shipment_line"),
                format!("There is no shipment line {}.", pick.shipment_line),
            ));
        };
        let source = LineSource::Shipped {
            shipment_line: ShipmentLineId(row.id),
            shipment: ShipmentId(row.shipment_id),
            shipment_number: row.shipment_number,
            // A line of a packed shipment has nothing unbilled; billing it is refused by quantity.
            shipped_on: row.posting_date.unwrap_or_default(),
            order: OrderId(row.order_id),
            order_number: row.order_number.clone(),
            customer_order_number: row.customer_order_number.clone(),
            order_line: OrderLineId(row.order_line_id),
        };
        let held = (row.cost_purpose == Purpose::ShippedCost.word()).then(|| HeldCost {
            shipped: Quantity::from_scaled(row.shipped),
            billed: Quantity::from_scaled(row.billed),
            cost: Money(row.cost_minor),
            followed: Money(row.cost_billed_minor),
        });
        let common = Common {
            customer: row.customer_id,
            currency: row.currency,
            terms: row.terms,
            gross: row.gross_priced,
            habit: row.billing,
            delivery: row.delivery,
            when_complete: row.bill_when_complete,
            item: (row.item_id, row.code, row.description, row.kind, row.class),
            unit: row.line_unit,
            unbilled: row.unbilled,
            price: (
                row.unit_price_e6,
                row.list_price_e6,
                row.discount_e6,
                row.discount_reason,
                row.surcharge_e6,
                row.surcharge_name,
            ),
            steps: row.price_steps,
            tax_code: row.tax_code,
            marks: (row.line_marks, row.order_marks),
            place: (row.ship_to, row.treatment, row.certificate, row.certificate_until),
            changed: (row.changed_price, row.price_reason, row.price_allowed),
            tax_changed: (row.changed_code, row.tax_reason),
        };
        let mut line = picked(common, source, held)?;
        if let Some(quantity) = pick.quantity {
            line.line.quantity = quantity;
        }
        all.push(line);
    }
    Ok(all)
}

/// Picked work and charges of orders, in the order picked.
pub(crate) async fn load_ordered(
    connection: &mut SqliteConnection,
    wanted: &[Wanted<OrderPick>],
) -> Result<Vec<Picked>> {
    if wanted.is_empty() {
        return Ok(Vec::new());
    }
    let ids = json(&wanted.iter().map(|(draft, pick)| (pick.order_line, *draft)).collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT wanted.key + 0 AS "at!: i64", order_lines.id AS "id!: i64", orders.customer_id AS "customer_id!", orders.id AS "order_id!: i64",
                  orders.number AS "order_number!", customer_order_number, order_lines.item_id AS "item_id!",
                  items.code AS "code!", order_lines.description AS "description!", items.kind AS "kind!", items.class AS "class!",
                  CASE WHEN confirmed = 1 AND items.kind IN ('service', 'charge') THEN
                      order_lines.ordered_e4 - cancelled_e4 - shipped_e4 - drafted_e4 + coalesce(drafted.quantity_e4, 0)
                      - coalesce((SELECT sum(leaving.quantity_e4) FROM shipment_lines AS leaving JOIN shipments ON shipments.id = leaving.shipment_id
                                  WHERE leaving.order_line_id = order_lines.id AND shipments.state IN ('picking', 'packed')), 0)
                  ELSE 0 END AS "unbilled!: i64",
                  drafted.unit_price_e6 AS "changed_price?", drafted.price_reason AS "price_reason?",
                  drafted.price_allowed_minor AS "price_allowed?", drafted.tax_code AS "changed_code?", drafted.tax_reason AS "tax_reason?",
                  order_lines.unit_price_e6 AS "unit_price_e6!", order_lines.list_price_e6 AS "list_price_e6!", order_lines.discount_e6 AS "discount_e6!",
                  order_lines.discount_reason, order_lines.tax_code AS "tax_code!",
                  order_lines.surcharge_e6 AS "surcharge_e6!", order_lines.surcharge_name, order_lines.price_steps AS "price_steps!", order_lines.marks AS "line_marks!",
                  order_lines.unit AS "line_unit!", orders.currency AS "currency!", orders.terms AS "terms!", orders.gross_priced AS "gross_priced!", orders.marks AS "order_marks!",
                  ship_tos.name AS "ship_to?", ship_tos.treatment AS "treatment?",
                  ship_tos.certificate, ship_tos.certificate_until AS "certificate_until: NaiveDate",
                  billing AS "billing!", delivery AS "delivery!", bill_when_complete AS "bill_when_complete!"
           FROM json_each(?) AS wanted
           JOIN order_lines ON order_lines.id = wanted.value ->> 0
           JOIN orders ON orders.id = order_lines.order_id
           JOIN customers ON customers.id = orders.customer_id
           JOIN items ON items.id = order_lines.item_id
           LEFT JOIN ship_tos ON ship_tos.id = orders.ship_to_id
           LEFT JOIN invoice_lines AS drafted ON drafted.invoice_id = wanted.value ->> 1 AND drafted.order_line_id = order_lines.id
                AND drafted.shipment_line_id IS NULL
           ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut found = rows.into_iter().peekable();
    let mut all = Vec::with_capacity(wanted.len());
    for (at, (_, pick)) in wanted.iter().enumerate() {
        let Some(row) = found.next_if(|row| row.at == at as i64) else {
            return Err(StoreError::invalid(
                format!("order_picks.{at}.order_line"),
                format!("There is no order line {}.", pick.order_line),
            ));
        };
        let source = LineSource::Ordered {
            order: OrderId(row.order_id),
            order_number: row.order_number.clone(),
            customer_order_number: row.customer_order_number.clone(),
            order_line: OrderLineId(row.id),
        };
        let common = Common {
            customer: row.customer_id,
            currency: row.currency,
            terms: row.terms,
            gross: row.gross_priced,
            habit: row.billing,
            delivery: row.delivery,
            when_complete: row.bill_when_complete,
            item: (row.item_id, row.code, row.description, row.kind, row.class),
            unit: row.line_unit,
            unbilled: row.unbilled.max(0),
            price: (
                row.unit_price_e6,
                row.list_price_e6,
                row.discount_e6,
                row.discount_reason,
                row.surcharge_e6,
                row.surcharge_name,
            ),
            steps: row.price_steps,
            tax_code: row.tax_code,
            marks: (row.line_marks, row.order_marks),
            place: (row.ship_to, row.treatment, row.certificate, row.certificate_until),
            changed: (row.changed_price, row.price_reason, row.price_allowed),
            tax_changed: (row.changed_code, row.tax_reason),
        };
        let mut line = picked(common, source, None)?;
        if let Some(quantity) = pick.quantity {
            line.line.quantity = quantity;
        }
        all.push(line);
    }
    Ok(all)
}

/// An invoice to decide on: whose, over what, and what was typed about the whole of it.
#[derive(Debug, Clone)]
pub(crate) struct ToDecide {
    pub(crate) customer: CustomerId,
    pub(crate) lines: Vec<Picked>,
    pub(crate) head: Head,
}

/// What was typed about a whole invoice.
#[derive(Debug, Clone, Default)]
pub(crate) struct Head {
    pub(crate) document_date: Option<NaiveDate>,
    pub(crate) posting_date: Option<NaiveDate>,
    pub(crate) terms: Option<Terms>,
    pub(crate) text_above: Option<String>,
    pub(crate) text_below: Option<String>,
    pub(crate) discount: Option<DiscountWish>,
}

/// Everything the core needs to decide on these invoices, in their order.
pub(crate) async fn inputs<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    step: Step,
    wanted: Vec<ToDecide>,
) -> Result<Vec<InvoiceInput<'a>>> {
    let mut customer_ids: Vec<CustomerId> = wanted.iter().map(|one| one.customer).collect();
    customer_ids.sort_unstable();
    customer_ids.dedup();
    let customers = customers::facts_of(connection, &customer_ids).await?;
    let mut order_ids: Vec<OrderId> =
        wanted.iter().flat_map(|one| one.lines.iter().filter_map(|line| line.line.source.order())).collect();
    order_ids.sort_unstable();
    order_ids.dedup();
    let orders: HashMap<OrderId, OrderFacts> =
        orders::facts(connection, &order_ids).await?.into_iter().map(|facts| (facts.id, facts)).collect();
    let last_document_date =
        sqlx::query_scalar!(r#"SELECT max(document_date) AS "last: NaiveDate" FROM invoices WHERE state = 'posted'"#)
            .fetch_one(&mut *connection)
            .await?;
    let mut rates: HashMap<(Currency, NaiveDate), Option<ExchangeRate>> = HashMap::new();
    let mut inputs = Vec::with_capacity(wanted.len());
    for one in wanted {
        let known = customers.get(&one.customer).ok_or_else(|| {
            StoreError::invalid("customer", format!("There is no customer with the id {}.", one.customer))
        })?;
        let mut mine: Vec<OrderFacts> = Vec::new();
        for id in one.lines.iter().filter_map(|line| line.line.source.order()) {
            if let Some(facts) = orders.get(&id).filter(|_| !mine.iter().any(|known| known.id == id)) {
                mine.push(facts.clone());
            }
        }
        let first = mine.first();
        let basis = Basis {
            currency: first.map_or(known.currency, |order| order.currency),
            terms: one
                .head
                .terms
                .clone()
                .unwrap_or_else(|| first.map_or_else(|| known.terms.clone(), |order| order.terms.clone())),
            terms_typed: one.head.terms.is_some(),
            gross_priced: first.map_or(known.facts.gross_priced, |order| order.promised.gross),
        };
        let (document_date, posting_date) =
            invoice_dates(one.head.document_date, one.head.posting_date, rules.business_date);
        let at = (basis.currency, document_date.date);
        if let std::collections::hash_map::Entry::Vacant(vacant) = rates.entry(at) {
            vacant.insert(exchange_rate(connection, rules, at.0, at.1).await?);
        }
        inputs.push(InvoiceInput {
            step,
            customer: known.facts.clone(),
            basis,
            lines: one.lines.into_iter().map(|picked| picked.line).collect(),
            orders: mine,
            discount: one.head.discount,
            text_above: one.head.text_above,
            text_below: one.head.text_below,
            document_date,
            posting_date,
            rate: rates.get(&at).copied().flatten(),
            base: rules.base,
            last_document_date,
            dates_in_order: rules.dates_in_order,
            tax_date: rules.tax_date,
            tax_computed: rules.tax_computed,
            taxes: &rules.taxes,
            accounts: &rules.accounts,
            periods: &rules.periods,
            mark_rules: &rules.marks,
        });
    }
    Ok(inputs)
}

/// JSON the program wrote itself.
pub(super) fn read<T: serde::de::DeserializeOwned>(text: &str) -> Result<T> {
    serde_json::from_str(text).map_err(|error| StoreError::Corrupt(error.to_string()))
}
