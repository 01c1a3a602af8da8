//! What the books know of what a file of shipments names.

use std::collections::{HashMap, HashSet};

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{ExchangeRate, Quantity};
use till_core::ids::{CustomerId, ItemId, OrderId, OrderLineId};
use till_core::invoice::{CustomerFacts, Delivery};
use till_core::money::{Currency, Money};
use till_core::terms::Terms;
use till_core::treatment::Taxed;

use super::super::ImportLine;
use crate::Result;
use crate::convert::{currency, json, known, terms};
use crate::orders::{LoadedItem, load_items};
use crate::prices::Sources;

pub(super) struct Party {
    pub(super) facts: CustomerFacts,
    pub(super) currency: Currency,
    pub(super) terms: Terms,
    pub(super) price_list: Option<i64>,
    pub(super) ship_to: Option<i64>,
    pub(super) ship_to_name: String,
    pub(super) taxed: Taxed,
}

/// Everything the lines of a file refer to, loaded once.
pub(super) struct Known {
    pub(super) parties: HashMap<String, Party>,
    pub(super) items: HashMap<String, LoadedItem>,
    pub(super) ids: Vec<ItemId>,
    pub(super) taken: HashSet<String>,
    pub(super) sources: HashMap<(Option<i64>, NaiveDate), Sources>,
    pub(super) rates: HashMap<(Currency, NaiveDate), Option<ExchangeRate>>,
    pub(super) open: HashMap<String, OpenOrder>,
}

pub(super) struct OpenOrder {
    pub(super) id: OrderId,
    pub(super) customer: String,
    pub(super) counted: bool,
    /// Line, item, what may still leave.
    pub(super) lines: Vec<(OrderLineId, String, Quantity)>,
}

pub(super) async fn load(connection: &mut SqliteConnection, lines: &[ImportLine]) -> Result<Known> {
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
        let progress =
            till_core::order::LineProgress::from_scaled([row.ordered, row.cancelled, row.shipped, 0], Money::ZERO);
        let most = progress.most_to_ship(Quantity::from_scaled(row.over));
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
