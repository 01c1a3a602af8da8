//! What a customer could leave us without, loaded for the core.

use chrono::{Days, NaiveDate};
use sqlx::SqliteConnection;
use till_core::exposure::Exposure;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, OrderId};
use till_core::money::{Money, line_total};

use crate::Result;
use crate::convert::currency;
use crate::rules::{Rules, exchange_rate};

/// A customer's exposure in base currency, one order left out where it is asked about itself.
/// What is not billed counts with its tax at today's rates.
///
/// # Errors
/// Where the database cannot be read.
pub async fn exposure(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    without: Option<OrderId>,
) -> Result<Exposure> {
    let owes = sqlx::query_scalar!("SELECT owes_base_minor FROM customers WHERE id = ?", customer.0)
        .fetch_optional(&mut *connection)
        .await?
        .unwrap_or(0);
    let since: NaiveDate =
        rules.business_date.checked_sub_days(Days::new(rules.clearing_days)).unwrap_or(rules.business_date);
    let money = sqlx::query!(
        r#"SELECT (SELECT coalesce(sum(amount_base_minor), 0) FROM payments JOIN money_places ON money_places.code = place
                   WHERE customer_id = ?1 AND money_places.kind = 'checks_in_hand' AND posting_date > ?2 AND reversed_on IS NULL AND whereabouts <> 'cleared') AS "in_hand!: i64",
                  (SELECT coalesce(sum(open_base_minor), 0) FROM open_items
                   WHERE customer_id = ?1 AND open_minor > 0 AND purpose <> 'receivable') AS "ahead!: i64""#,
        customer.0,
        since
    )
    .fetch_one(&mut *connection)
    .await?;
    // What was billed in advance is owed, or was paid, already: it does not count once more as an order.
    let prepaid = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(net_base_minor - used_base_minor - credited_base_minor
                  + (tax_minor - used_tax_minor - credited_tax_minor) * net_base_minor / max(1, net_minor)), 0) AS "prepaid!: i64"
           FROM prepaid_register WHERE customer_id = ?"#,
        customer.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let without = without.map_or(-1, |order| order.0);
    let lines = sqlx::query!(
        r#"SELECT orders.id AS "order!", orders.currency AS "currency!", unit_price_e6, discount_e6, surcharge_e6, tax_code, gross_priced AS "gross_priced!",
                  order_lines.shipped_e4 - order_lines.billed_e4 AS "unbilled!: i64", to_ship_e4 AS "to_ship!: i64"
           FROM orders JOIN order_lines ON order_lines.order_id = orders.id JOIN order_line_state ON order_line_state.id = order_lines.id
           WHERE customer_id = ? AND state = 'open' AND (order_lines.shipped_e4 > order_lines.billed_e4 OR to_ship_e4 > 0)"#,
        customer.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut exposure = Exposure {
        receivables: Money(owes),
        in_hand: Money(money.in_hand),
        money_ahead: Money(money.ahead + prepaid),
        ..Exposure::default()
    };
    for line in lines {
        let document = currency(&line.currency)?;
        let Some(rate) = exchange_rate(connection, rules, document, rules.business_date).await? else {
            exposure.without_rate = Some(document);
            continue;
        };
        let tax = rules.taxes.rate_on(&line.tax_code, rules.business_date).map_or(Rate::ZERO, |found| found.rate);
        let gross = |quantity: i64| {
            let net = line_total(
                Quantity::from_scaled(quantity),
                UnitPrice::from_scaled(line.unit_price_e6),
                Rate::from_scaled(line.discount_e6),
                UnitPrice::from_scaled(line.surcharge_e6),
                document,
            )
            .net;
            let with_tax = if line.gross_priced != 0 { net } else { net.with_tax(tax) };
            with_tax.to_base(rate, document, rules.base)
        };
        // What has shipped is owed whichever order is asked about.
        exposure.unbilled += gross(line.unbilled);
        if line.order != without {
            exposure.to_ship += gross(line.to_ship);
        }
    }
    Ok(exposure)
}
