//! Returnable packaging at customers: charged as it goes, owed back, taken back without
//! inspection, margin or cost.
//!
//! *Source: domain.md section 5; postings.md, Goods.* A container that comes back is settled like
//! money that came in: against open invoices, oldest first, and unapplied where none is open.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, ItemId};
use till_core::money::Money;
use till_core::money_in::Method;

use crate::receipts::{self, MoneyPreview, NewReceipt, PostedReceipt};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, items, stock};

/// Containers of one kind at a customer.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ContainerBalance {
    /// The packaging.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Sent and charged.
    pub sent: Quantity,
    /// Brought back.
    pub back: Quantity,
    /// Still there.
    pub there: Quantity,
    /// What was charged for those, in base currency.
    pub owed_back: Money,
}

/// Containers at a customer.
///
/// # Errors
/// Where the database cannot be read.
pub async fn balance(connection: &mut SqliteConnection, customer: CustomerId) -> Result<Vec<ContainerBalance>> {
    Ok(sqlx::query!(
        r#"SELECT item_id, code, name, sum(max(quantity_e4, 0)) AS "sent!: i64", sum(max(-quantity_e4, 0)) AS "back!: i64",
                  sum(amount_minor) AS "owed!: i64"
           FROM container_moves JOIN items ON items.id = item_id WHERE customer_id = ? GROUP BY item_id ORDER BY code"#,
        customer.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| ContainerBalance {
        item: ItemId(row.item_id),
        code: row.code,
        name: row.name,
        sent: Quantity::from_scaled(row.sent),
        back: Quantity::from_scaled(row.back),
        there: Quantity::from_scaled(row.sent - row.back),
        owed_back: Money(row.owed),
    })
    .collect())
}

/// Containers that were brought back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BroughtBack {
    /// The packaging's code.
    pub item: String,
    /// How many, as typed.
    pub quantity: String,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
}

struct Checked {
    receipt: NewReceipt,
    item: ItemId,
    quantity: Quantity,
    amount: Money,
}

async fn check(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    new: &BroughtBack,
) -> Result<Checked> {
    let item = items::by_code(connection, &new.item, "item").await?;
    let quantity = stock::read_quantity("quantity", &new.quantity)?;
    let known = balance(connection, customer).await?.into_iter().find(|known| known.item == item);
    let there = known.as_ref().map(|known| known.there).unwrap_or_default();
    let Some(known) = known.filter(|known| quantity <= known.there) else {
        return Err(StoreError::invalid(
            "quantity",
            format!("{there} of {} are at this customer. No more than that can come back.", new.item),
        ));
    };
    // The last one takes all that is left, so that nothing stays owed.
    let amount = if quantity == known.there {
        known.owed_back
    } else {
        known.owed_back.share(quantity.scaled(), known.there.scaled())
    };
    let receipt = NewReceipt {
        customer,
        method: Method::Containers,
        date: new.date,
        amount: rules.base.format(amount),
        reference: Some(format!("{quantity} × {} brought back", known.code)),
        applications: None,
        first: None,
    };
    Ok(Checked { receipt, item, quantity, amount })
}

/// What taking containers back would do.
///
/// # Errors
/// More than are at the customer, what the core refuses.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    new: &BroughtBack,
) -> Result<MoneyPreview> {
    let checked = check(connection, rules, customer, new).await?;
    receipts::preview(connection, rules, &checked.receipt).await
}

/// Takes containers back: what was charged for them is owed no more.
///
/// # Errors
/// More than are at the customer, what the core refuses.
pub async fn take_back(
    writing: &mut Writing<'_>,
    rules: &Rules,
    customer: CustomerId,
    new: &BroughtBack,
) -> Result<PostedReceipt> {
    let exists =
        sqlx::query_scalar!("SELECT id FROM customers WHERE id = ?", customer.0).fetch_optional(&mut **writing).await?;
    if exists.is_none() {
        return Err(StoreError::not_found(DocumentKind::Customer, customer));
    }
    let checked = check(writing, rules, customer, new).await?;
    let posted = receipts::post_any(writing, rules, &checked.receipt, None).await?;
    let (quantity, amount) = (-checked.quantity.scaled(), -checked.amount.0);
    let date = checked.receipt.date.unwrap_or(rules.business_date);
    sqlx::query!(
        "INSERT INTO container_moves (customer_id, item_id, posting_date, quantity_e4, amount_minor, receipt_id) VALUES (?, ?, ?, ?, ?, ?)",
        customer.0,
        checked.item.0,
        date,
        quantity,
        amount,
        posted.id.0
    )
    .execute(&mut **writing)
    .await?;
    Ok(posted)
}
