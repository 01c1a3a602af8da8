//! Returnable packaging at customers: charged as it goes, owed back, taken back without
//! inspection, margin or cost.
//!
//! *Source: domain.md section 5; postings.md, Goods.* A container that comes back is settled like
//! money that came in: against open invoices, oldest first, and unapplied where none is open.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::containers::AtCustomer;
use till_core::fixed::Quantity;
use till_core::ids::{ContainerReturnId, CustomerId, DocumentKind, DocumentRef, ItemId};
use till_core::money::Money;
use till_core::room::Movement;
use till_core::settle::{SettleInput, Source};

use crate::receipts::{self, MoneyPreview};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, items, open_items, posting, stock};

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

/// Containers that were taken back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedReturn {
    /// Its id.
    pub id: ContainerReturnId,
    /// Its number.
    pub number: String,
}

struct Checked<'a> {
    input: SettleInput<'a>,
    item: ItemId,
    quantity: Quantity,
    amount: Money,
}

async fn check<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    customer: CustomerId,
    new: &BroughtBack,
) -> Result<Checked<'a>> {
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
    let date = new.date.unwrap_or(rules.business_date);
    let (moves, amounts) = movements(connection, customer, item).await?;
    let there = AtCustomer { pieces: known.there, owed_back: known.owed_back, moves, amounts };
    let amount = there.back(quantity, date, &new.item).map_err(|sentence| StoreError::invalid("date", sentence))?;
    let source = Source::Containers { what: format!("{quantity} × {}", known.code), item, quantity };
    let input = receipts::containers_input(connection, rules, customer, (source, amount), new.date).await?;
    Ok(Checked { input, item, quantity, amount })
}

/// What went to a customer of one kind of container and came back, day by day: pieces, and what was charged for them
/// and given back, in base currency.
pub(crate) async fn movements(
    connection: &mut SqliteConnection,
    customer: CustomerId,
    item: ItemId,
) -> Result<(Vec<Movement>, Vec<Movement>)> {
    Ok(sqlx::query!(
        r#"SELECT posting_date AS "date: NaiveDate", quantity_e4, amount_minor FROM container_moves WHERE customer_id = ? AND item_id = ?"#,
        customer.0,
        item.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (Movement::new(row.date, row.quantity_e4), Movement::new(row.date, row.amount_minor)))
    .unzip())
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
    Ok(receipts::preview_of(&checked.input))
}

/// Takes containers back: what was charged for them is owed no more.
///
/// # Errors
/// More than are at the customer, what the core refuses; [`StoreError::Moved`] where it is not as it
/// was seen.
pub async fn take_back(
    writing: &mut Writing<'_>,
    rules: &Rules,
    customer: CustomerId,
    new: &BroughtBack,
    seen: Option<&str>,
) -> Result<PostedReturn> {
    let exists =
        sqlx::query_scalar!("SELECT id FROM customers WHERE id = ?", customer.0).fetch_optional(&mut **writing).await?;
    if exists.is_none() {
        return Err(StoreError::not_found(DocumentKind::Customer, customer));
    }
    let Checked { input, item, quantity, amount } = check(writing, rules, customer, new).await?;
    let decision = receipts::decided(&input, seen)?;
    let (number, sequence) = next_number(writing, "container_return").await?;
    let id = open_items::next_id(writing, "container_returns").await?;
    let document = DocumentRef { kind: DocumentKind::ContainerReturn, id, number: number.clone() };
    let written = posting::write(writing, &document, &decision.posting(&input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let date = decision.document.date.date;
    let scaled = quantity.scaled();
    sqlx::query!(
        "INSERT INTO container_returns (id, number, sequence, customer_id, item_id, quantity_e4, posting_date, amount_minor, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, customer.0, item.0, scaled, date, amount.0, entry.0
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = vec![set("item", &new.item), set("quantity", quantity), set("amount", rules.base.format(amount))];
    fields.extend(receipts::applied_fields(&decision));
    let words = format!("posted {number}: {quantity} × {} brought back", new.item);
    writing.note_on((DocumentKind::ContainerReturn, id, &number), "containers_back", words, Some(1), fields);
    Ok(PostedReturn { id: ContainerReturnId(id), number })
}
