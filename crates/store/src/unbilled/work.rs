//! Work and charges of orders that are billed without a shipment.

use sqlx::SqliteConnection;
use till_core::ids::OrderLineId;
use till_core::invoice::BillingHabit;
use till_core::money::Money;

use super::selecting::{CustomerSum, UnbilledFilter};
use super::{Unbilled, add, by_source, rows};
use crate::Result;
use crate::invoices::{OrderPick, load_ordered};
use crate::rules::Rules;

/// Work and charges of confirmed orders that stand on no shipment: once goods of the order have gone, or where
/// it has none. As old as the last goods that went, or as the order.
pub(super) async fn work(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
) -> Result<Vec<OrderPick>> {
    let bounds = filter.bounds(rules);
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", orders.customer_id AS "customer!",
                  EXISTS (SELECT 1 FROM order_lines AS goods JOIN items AS kept ON kept.id = goods.item_id
                          WHERE goods.order_id = orders.id AND kept.kind IN ('goods', 'packaging')) AS "has_goods!: bool",
                  EXISTS (SELECT 1 FROM order_lines AS goods JOIN items AS kept ON kept.id = goods.item_id
                          WHERE goods.order_id = orders.id AND kept.kind IN ('goods', 'packaging') AND goods.shipped_e4 > 0) AS "goods_gone!: bool"
           FROM items JOIN order_lines ON item_id = items.id JOIN orders ON orders.id = order_id JOIN customers ON customers.id = customer_id
           WHERE items.kind IN ('service', 'charge') AND confirmed = 1
             AND order_lines.shipped_e4 + order_lines.drafted_e4 < order_lines.ordered_e4 - order_lines.cancelled_e4
             AND (SELECT billable_e4 FROM order_line_state WHERE order_line_state.id = order_lines.id) > 0
             AND (?1 IS NULL OR customer_id = ?1) AND (?3 IS NULL OR orders.currency = ?3) AND (?4 IS NULL OR billing = ?4)
             AND (?5 IS NULL OR coalesce((SELECT max(posting_date) FROM shipments WHERE order_id = orders.id AND state = 'posted'), order_date) <= ?5)
             AND (?6 IS NULL OR coalesce((SELECT max(posting_date) FROM shipments WHERE order_id = orders.id AND state = 'posted'), order_date) >= ?6)
             AND (?2 IS NULL OR customers.name LIKE ?2 ESCAPE '\' OR orders.number LIKE ?2 ESCAPE '\' OR customer_order_number LIKE ?2 ESCAPE '\'
                  OR description LIKE ?2 ESCAPE '\' OR code LIKE ?2 ESCAPE '\')
           ORDER BY orders.id, position"#,
        bounds.customer,
        bounds.like,
        filter.currency,
        bounds.habit,
        bounds.latest,
        bounds.earliest
    )
    .fetch_all(connection)
    .await?;
    Ok(lines
        .iter()
        .filter(|line| till_core::order::work_is_due(line.has_goods, line.goods_gone))
        .map(|line| OrderPick { order_line: OrderLineId(line.id), quantity: None })
        .collect())
}

/// Adds work and charges to what is unbilled.
pub(super) async fn add_work(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &UnbilledFilter,
    unbilled: &mut Unbilled,
) -> Result<()> {
    let due: Vec<_> = work(connection, rules, filter).await?.into_iter().map(|pick| (None, pick)).collect();
    let loaded = load_ordered(connection, &due).await?;
    let groups = by_source(loaded, |one, other| one.order() == other.order());
    let mut rows = rows(connection, rules, groups).await?;
    if let Some(least) = filter.at_least {
        rows.retain(|(_, row)| row.net >= Money(least));
    }
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
