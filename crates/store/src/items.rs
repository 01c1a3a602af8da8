//! Items, and goods coming into stock.

mod form;
mod intake_back;
mod views;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, ItemId, LayerId};
use till_core::invoice::ItemKind;
use till_core::money::Money;
use till_core::shipment::{IntakeInput, decide_intake};

use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, posting, stock};

pub use form::{ItemForm, SalesUnit, save};
pub use intake_back::{IntakeBack, reverse_intake};
pub use views::{ItemList, ItemRow, ItemView, LayerView, MoveView, list, view};

/// An item to add.
#[derive(Debug, Clone)]
pub struct NewItem<'a> {
    /// Its code.
    pub code: &'a str,
    /// Its name.
    pub name: &'a str,
    /// Goods, service or charge.
    pub kind: ItemKind,
    /// Its class, for the account map.
    pub class: &'a str,
    /// Its unit.
    pub unit: &'a str,
    /// Price per unit in base currency.
    pub list_price: UnitPrice,
    /// Its tax code at home.
    pub tax_code: &'a str,
}

/// Adds an item.
///
/// # Errors
/// Where the code is taken.
pub async fn add(writing: &mut Writing<'_>, new: &NewItem<'_>) -> Result<ItemId> {
    let taken =
        sqlx::query_scalar!("SELECT id FROM items WHERE code = ?", new.code).fetch_optional(&mut **writing).await?;
    if taken.is_some() {
        return Err(StoreError::invalid("code", format!("Item code {} is taken. Choose another.", new.code)));
    }
    let kind = new.kind.word();
    let price = new.list_price.scaled();
    let id = sqlx::query_scalar!(
        "INSERT INTO items (code, name, kind, class, unit, list_price_e6, tax_code) VALUES (?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        new.code, new.name, kind, new.class, new.unit, price, new.tax_code
    )
    .fetch_one(&mut **writing)
    .await?;
    let words = format!("added item {}", new.code);
    let fields = vec![set("name", new.name), set("list price", new.list_price)];
    writing.note_on((DocumentKind::Item, id, new.code), "item_added", words, None, fields);
    Ok(ItemId(id))
}

/// The item with a code, as typed.
pub(crate) async fn by_code(connection: &mut SqliteConnection, code: &str, field: &str) -> Result<ItemId> {
    let typed = code.trim();
    sqlx::query_scalar!("SELECT id AS \"id!\" FROM items WHERE code = ? COLLATE NOCASE", typed)
        .fetch_optional(connection)
        .await?
        .map(ItemId)
        .ok_or_else(|| StoreError::invalid(field, format!("There is no item {typed}.")))
}

/// Takes goods into stock in the company's own warehouse: a new layer of cost, and its entry.
///
/// # Errors
/// What the core refuses.
pub async fn take_in(
    writing: &mut Writing<'_>,
    rules: &Rules,
    item: ItemId,
    quantity: Quantity,
    cost: Money,
    date: NaiveDate,
) -> Result<LayerId> {
    let warehouse = rules.warehouse.clone();
    take_in_at(writing, rules, item, &warehouse, quantity, cost, date).await
}

/// Takes goods into stock in a warehouse. What was expected of them has arrived; what an order
/// waited for is reserved for it.
///
/// # Errors
/// What the core refuses.
pub async fn take_in_at(
    writing: &mut Writing<'_>,
    rules: &Rules,
    item: ItemId,
    warehouse: &str,
    quantity: Quantity,
    cost: Money,
    date: NaiveDate,
) -> Result<LayerId> {
    let row = sqlx::query!("SELECT code, class, kind FROM items WHERE id = ?", item.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Item, item))?;
    if row.kind != ItemKind::Goods.word() || !stock::counted(writing, warehouse, "warehouse").await? {
        return Err(StoreError::invalid("item", format!("{} is not kept in stock in {warehouse}.", row.code)));
    }
    let input = IntakeInput {
        item,
        warehouse: warehouse.to_owned(),
        class: row.class,
        code: row.code.clone(),
        quantity,
        cost,
        date,
        accounts: &rules.accounts,
        periods: &rules.periods,
        base: rules.base,
    };
    let posting = decide_intake(&input).map_err(StoreError::Refused)?;
    let layer = sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "id!: i64" FROM stock_layers"#)
        .fetch_one(&mut **writing)
        .await?;
    let source = DocumentRef { kind: DocumentKind::Intake, id: layer, number: row.code.clone() };
    posting::write(writing, &source, &posting).await?;
    let fields = vec![set("quantity", quantity), set("cost", rules.base.format(cost)), set("in", warehouse)];
    let words = format!("took {quantity} of {} in", row.code);
    writing.note_on((DocumentKind::Intake, layer, &row.code), "taken_in", words, None, fields);
    stock::arrived(writing, item, warehouse, quantity).await?;
    Ok(LayerId(layer))
}
