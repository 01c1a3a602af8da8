//! Orders to finish: shipped and billed, and not closed yet. What hangs on each, and the step that frees it.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CustomerId, OrderId};
use till_core::money::{Currency, Money};
use till_core::order::{Hanging, hanging};

use super::facts;
use crate::Result;
use crate::convert::currency;

/// An order that is shipped and billed, and on which something hangs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderToFinish {
    /// Its id.
    pub id: OrderId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The customer's own number for it.
    pub customer_order_number: Option<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// When the last of its invoices falls due; none where nothing is open on them.
    pub due: Option<NaiveDate>,
    /// What is open on its invoices.
    pub open: Money,
    /// Everything that hangs on it, with the step that frees each.
    pub hanging: Vec<Hanging>,
}

/// Orders to finish, those due first in front.
///
/// # Errors
/// Where the database cannot be read.
pub async fn to_finish(connection: &mut SqliteConnection) -> Result<Vec<OrderToFinish>> {
    let rows = sqlx::query!(
        r#"SELECT orders.id AS "id!", orders.number AS "number!", orders.customer_id AS "customer!", customers.name AS "name!", customer_order_number, orders.currency AS "currency!",
                  (SELECT max(next_due_date) FROM document_orders JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = document_orders.document_id
                   WHERE order_id = orders.id AND open_minor > 0) AS "due: NaiveDate"
           FROM orders JOIN customers ON customers.id = orders.customer_id WHERE state = 'filled' ORDER BY 7, orders.id LIMIT 1000"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<OrderId> = rows.iter().map(|row| OrderId(row.id)).collect();
    let facts = facts(connection, &ids).await?;
    rows.into_iter()
        .zip(facts)
        .map(|(row, facts)| {
            let hanging = hanging(&facts);
            let to_pay = hanging.iter().filter(|one| one.what == till_core::order::Hangs::ToPay);
            Ok(OrderToFinish {
                id: OrderId(row.id),
                number: row.number,
                customer: CustomerId(row.customer),
                customer_name: row.name,
                customer_order_number: row.customer_order_number,
                currency: currency(&row.currency)?,
                due: row.due,
                open: to_pay.map(|one| one.amount).sum(),
                hanging,
            })
        })
        .collect()
}
