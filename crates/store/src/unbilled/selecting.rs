//! Which shipments a filter takes, and what they come to by customer.

use std::collections::HashMap;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, ShipmentLineId};
use till_core::invoice::BillingHabit;
use till_core::money::{Currency, Money};

use crate::Result;
use crate::convert::{currency, json, known, terms};
use crate::invoices::Pick;
use crate::rules::{Rules, exchange_rate};

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

pub(super) struct Bounds {
    pub(super) customer: Option<i64>,
    pub(super) like: Option<String>,
    pub(super) latest: Option<NaiveDate>,
    pub(super) earliest: Option<NaiveDate>,
    pub(super) habit: Option<&'static str>,
}

impl UnbilledFilter {
    pub(super) fn bounds(&self, rules: &Rules) -> Bounds {
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
    let base = rules.base.code();
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
           -- What is in another currency is converted shipment by shipment, as it is listed.
           GROUP BY shipments.customer_id, orders.currency, CASE WHEN orders.currency = ?8 THEN 0 ELSE shipments.id END"#,
        bounds.customer,
        bounds.like,
        bounds.latest,
        bounds.earliest,
        filter.currency,
        bounds.habit,
        filter.at_least,
        base
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
    let mut rates: Vec<(Currency, Option<ExchangeRate>)> = Vec::new();
    for row in rows {
        let document = currency(&row.currency)?;
        let rate = match rates.iter().find(|(known, _)| *known == document) {
            Some((_, rate)) => *rate,
            None => {
                let rate = exchange_rate(connection, rules, document, rules.business_date).await?;
                rates.push((document, rate));
                rate
            }
        };
        let Some(sum) = sums.get_mut(&row.customer_id) else { continue };
        sum.shipments += row.count;
        // Without a rate of the day it counts as nothing, and its row says so.
        sum.net_base += rate.map_or(Money::ZERO, |rate| Money(row.net).to_base(rate, document, rules.base));
        sum.oldest = sum.oldest.min(row.oldest);
    }
    let mut sums: Vec<CustomerSum> = sums.into_values().collect();
    sums.sort_by_key(|sum| (sum.oldest, sum.customer));
    Ok(sums)
}

/// The unbilled lines of a page of shipments, in the order of the list.
pub(super) async fn page(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
) -> Result<(Vec<Pick>, i64)> {
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
