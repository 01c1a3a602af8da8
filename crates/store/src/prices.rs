//! Price lists, quantity breaks and promotions.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::words;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{DocumentKind, ItemId, PriceListId};
use till_core::merge::{Fields, differences};
use till_core::money::Currency;
use till_core::pricing::{ListPrice, Promotion, QuantityBreak};

use crate::convert::{currency, json};
use crate::writing::{Writing, changed, fields, set};
use crate::{Result, StoreError, items, sensible_date};

/// What prices of items are made from, besides the list price.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sources {
    pub(crate) list: BTreeMap<ItemId, ListPrice>,
    pub(crate) breaks: BTreeMap<ItemId, Vec<QuantityBreak>>,
    pub(crate) promotions: BTreeMap<ItemId, Vec<Promotion>>,
}

/// Loads what prices of items are made from for a customer's price list on a day.
pub(crate) async fn sources(
    connection: &mut SqliteConnection,
    ids: &[ItemId],
    price_list: Option<i64>,
    date: NaiveDate,
) -> Result<Sources> {
    let wanted = json(&ids)?;
    let mut sources = Sources::default();
    if let Some(list) = price_list {
        let rows = sqlx::query!(
            r#"SELECT item_id AS "item_id!", name AS "name!", max(valid_from) AS "valid_from!: NaiveDate", price_e6 AS "price_e6!" FROM list_prices
               JOIN price_lists ON price_lists.id = price_list_id
               WHERE price_list_id = ? AND valid_from <= ? AND item_id IN (SELECT value FROM json_each(?)) GROUP BY item_id"#,
            list,
            date,
            wanted
        )
        .fetch_all(&mut *connection)
        .await?;
        for row in rows {
            let price = UnitPrice::from_scaled(row.price_e6);
            sources.list.insert(ItemId(row.item_id), ListPrice { list: row.name, from: row.valid_from, price });
        }
    }
    let breaks = sqlx::query!(
        r#"SELECT items.id AS "item!", from_e4, off_e6 FROM quantity_breaks
           JOIN items ON items.id = quantity_breaks.item_id OR items.class = quantity_breaks.item_class
           WHERE items.id IN (SELECT value FROM json_each(?1)) AND (price_list_id IS NULL OR price_list_id = ?2)
           ORDER BY items.id, from_e4, off_e6"#,
        wanted,
        price_list
    )
    .fetch_all(&mut *connection)
    .await?;
    for row in breaks {
        let from = Quantity::from_scaled(row.from_e4);
        let found = QuantityBreak { from, off: Rate::from_scaled(row.off_e6), source: format!("{from} and over") };
        sources.breaks.entry(ItemId(row.item)).or_default().push(found);
    }
    let promotions = sqlx::query!(
        r#"SELECT items.id AS "item!", promotions.code, promotions.name, first AS "first: NaiveDate", last AS "last: NaiveDate", off_e6
           FROM promotions JOIN items ON items.id = promotions.item_id OR items.class = promotions.item_class
                OR (promotions.item_id IS NULL AND promotions.item_class IS NULL AND items.kind = 'goods')
           WHERE items.id IN (SELECT value FROM json_each(?)) ORDER BY items.id, promotions.code"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    for row in promotions {
        sources.promotions.entry(ItemId(row.item)).or_default().push(Promotion {
            code: row.code,
            name: row.name,
            first: row.first,
            last: row.last,
            off: Rate::from_scaled(row.off_e6),
        });
    }
    Ok(sources)
}

/// A price list with its prices.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PriceListView {
    /// Its id.
    pub id: PriceListId,
    /// Its name.
    pub name: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How many customers have it.
    pub customers: i64,
    /// Its prices by item and day, the newest of an item first.
    pub prices: Vec<ListPriceView>,
}

/// A price of a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ListPriceView {
    /// The item's code.
    pub item: String,
    /// Its name.
    pub name: String,
    /// Per this unit.
    pub unit: String,
    /// From when on.
    pub valid_from: NaiveDate,
    /// The price.
    pub price: UnitPrice,
    /// The company's list price, in base currency.
    pub list_price: UnitPrice,
}

/// A quantity break.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BreakView {
    /// Its id.
    pub id: i64,
    /// The price list it holds in; none for all.
    pub price_list: Option<String>,
    /// The item's code, or none where it holds for a class.
    pub item: Option<String>,
    /// The class.
    pub class: Option<String>,
    /// From how many stock units on.
    pub from: Quantity,
    /// How much comes off.
    pub off: Rate,
}

/// A promotion.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PromotionView {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// First day.
    pub first: NaiveDate,
    /// Last day.
    pub last: NaiveDate,
    /// The item's code, where it is for one.
    pub item: Option<String>,
    /// The class, where it is for one; for all goods where neither is said.
    pub class: Option<String>,
    /// How much comes off.
    pub off: Rate,
    /// Whether it runs today.
    pub runs: bool,
}

/// Everything prices are made from.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Prices {
    /// Price lists.
    pub lists: Vec<PriceListView>,
    /// Quantity breaks.
    pub breaks: Vec<BreakView>,
    /// Promotions, the latest first.
    pub promotions: Vec<PromotionView>,
}

/// Everything prices are made from.
///
/// # Errors
/// Where the database cannot be read.
pub async fn all(connection: &mut SqliteConnection, today: NaiveDate) -> Result<Prices> {
    let mut lists = Vec::new();
    let heads = sqlx::query!(
        r#"SELECT id, name, currency, (SELECT count(*) FROM customers WHERE price_list_id = price_lists.id) AS "customers!: i64"
           FROM price_lists ORDER BY name"#
    )
    .fetch_all(&mut *connection)
    .await?;
    for head in heads {
        let prices = sqlx::query!(
            r#"SELECT code, name, unit, valid_from AS "valid_from: NaiveDate", price_e6, list_price_e6 FROM list_prices
               JOIN items ON items.id = item_id WHERE price_list_id = ? ORDER BY code, valid_from DESC"#,
            head.id
        )
        .fetch_all(&mut *connection)
        .await?
        .into_iter()
        .map(|row| ListPriceView {
            item: row.code,
            name: row.name,
            unit: row.unit,
            valid_from: row.valid_from,
            price: UnitPrice::from_scaled(row.price_e6),
            list_price: UnitPrice::from_scaled(row.list_price_e6),
        })
        .collect();
        lists.push(PriceListView {
            id: PriceListId(head.id),
            name: head.name,
            currency: currency(&head.currency)?,
            customers: head.customers,
            prices,
        });
    }
    let breaks = sqlx::query!(
        r#"SELECT quantity_breaks.id, price_lists.name AS "list?", items.code AS "item?", item_class, from_e4, off_e6 FROM quantity_breaks
           LEFT JOIN price_lists ON price_lists.id = price_list_id LEFT JOIN items ON items.id = item_id
           ORDER BY coalesce(items.code, item_class), from_e4"#
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| BreakView {
        id: row.id,
        price_list: row.list,
        item: row.item,
        class: row.item_class,
        from: Quantity::from_scaled(row.from_e4),
        off: Rate::from_scaled(row.off_e6),
    })
    .collect();
    let promotions = sqlx::query!(
        r#"SELECT promotions.code, promotions.name, first AS "first: NaiveDate", last AS "last: NaiveDate", items.code AS "item?",
                  item_class, off_e6
           FROM promotions LEFT JOIN items ON items.id = item_id ORDER BY last DESC, promotions.code"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| PromotionView {
        code: row.code,
        name: row.name,
        first: row.first,
        last: row.last,
        item: row.item,
        class: row.item_class,
        off: Rate::from_scaled(row.off_e6),
        runs: row.first <= today && today <= row.last,
    })
    .collect();
    Ok(Prices { lists, breaks, promotions })
}

fn price(field: &str, typed: &str) -> Result<UnitPrice> {
    let price: UnitPrice = typed.parse().map_err(|error| StoreError::decimal(field, &error))?;
    if price < UnitPrice::ZERO || price > till_core::ordering::HIGHEST_PRICE {
        return Err(StoreError::invalid(field, "A price is zero or more, and less than a hundred million."));
    }
    Ok(price)
}

fn off(typed: &str) -> Result<Rate> {
    let off = Rate::from_percent(typed).map_err(|error| StoreError::decimal("off", &error))?;
    if !off.is_positive() || off > Rate::ONE {
        return Err(StoreError::invalid("off", "Write what comes off, above 0 and up to 100 %."));
    }
    Ok(off)
}

fn name(field: &str, typed: &str, longest: usize) -> Result<String> {
    let typed = typed.trim();
    if typed.is_empty() || typed.chars().count() > longest {
        return Err(StoreError::invalid(field, format!("Write 1 to {longest} characters here.")));
    }
    Ok(typed.to_owned())
}

/// Adds a price list.
///
/// # Errors
/// A name that is taken.
pub async fn add_list(writing: &mut Writing<'_>, typed: &str, of: Currency) -> Result<PriceListId> {
    let name = name("name", typed, 60)?;
    let code = of.code();
    let taken =
        sqlx::query_scalar!("SELECT id FROM price_lists WHERE name = ?", name).fetch_optional(&mut **writing).await?;
    if taken.is_some() {
        return Err(StoreError::invalid("name", format!("There is a price list {name} already.")));
    }
    let id = sqlx::query_scalar!(
        "INSERT INTO price_lists (name, currency) VALUES (?, ?) RETURNING id AS \"id!\"",
        name,
        code
    )
    .fetch_one(&mut **writing)
    .await?;
    let words = format!("added price list {name}");
    writing.note_on((DocumentKind::PriceList, id, &name), "price_list_added", words, None, vec![set("currency", code)]);
    Ok(PriceListId(id))
}

/// A price of a list to set.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewListPrice {
    /// The item's code.
    pub item: String,
    /// From when on; none for the business date.
    #[serde(default)]
    pub valid_from: Option<NaiveDate>,
    /// Per stock unit, as typed.
    pub price: String,
}

/// Sets the price of an item in a list from a day on.
///
/// # Errors
/// An unknown list or item, a price that cannot be.
pub async fn set_price(
    writing: &mut Writing<'_>,
    list: PriceListId,
    new: &NewListPrice,
    today: NaiveDate,
) -> Result<()> {
    let list_name = sqlx::query_scalar!("SELECT name FROM price_lists WHERE id = ?", list.0)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::PriceList, list))?;
    let item = items::by_code(writing, &new.item, "item").await?;
    let price = price("price", &new.price)?;
    let from = new.valid_from.map_or(Ok(today), |date| sensible_date("valid_from", date))?;
    let scaled = price.scaled();
    let before = sqlx::query_scalar!(
        "SELECT price_e6 FROM list_prices WHERE price_list_id = ? AND item_id = ? AND valid_from <= ? ORDER BY valid_from DESC LIMIT 1",
        list.0,
        item.0,
        from
    )
    .fetch_optional(&mut **writing)
    .await?
    .map(|price| UnitPrice::from_scaled(price).with_decimals(2));
    sqlx::query!(
        "INSERT INTO list_prices (price_list_id, item_id, valid_from, price_e6) VALUES (?, ?, ?, ?)
         ON CONFLICT (price_list_id, item_id, valid_from) DO UPDATE SET price_e6 = excluded.price_e6",
        list.0,
        item.0,
        from,
        scaled
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = vec![set("item", &new.item), set("from", words(from))];
    fields.extend(changed("price", before.as_deref(), Some(&price.with_decimals(2))));
    let said = format!("set the price of {} in {list_name}", new.item);
    writing.note_on((DocumentKind::PriceList, list.0, &list_name), "price_set", said, None, fields);
    Ok(())
}

/// A quantity break to set.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewBreak {
    /// The price list it holds in; none for all.
    #[serde(default)]
    pub price_list: Option<PriceListId>,
    /// The item's code, or empty for a class.
    #[serde(default)]
    pub item: String,
    /// The class, or empty for an item.
    #[serde(default)]
    pub class: String,
    /// From how many stock units on, as typed.
    pub from: String,
    /// What comes off, in percent.
    pub off: String,
}

/// What a break or a promotion is for: an item, or a class.
async fn target(connection: &mut SqliteConnection, item: &str, class: &str) -> Result<(Option<i64>, Option<String>)> {
    match (item.trim(), class.trim()) {
        ("", "") => Ok((None, None)),
        ("", class) => Ok((None, Some(class.to_owned()))),
        (item, "") => Ok((Some(items::by_code(connection, item, "item").await?.0), None)),
        _ => Err(StoreError::invalid("class", "Name an item or a class, not both.")),
    }
}

/// Sets a quantity break.
///
/// # Errors
/// Neither item nor class, or both; a quantity or share that cannot be; one that is there.
pub async fn set_break(writing: &mut Writing<'_>, new: &NewBreak) -> Result<()> {
    let (item, class) = target(writing, &new.item, &new.class).await?;
    if item.is_none() && class.is_none() {
        return Err(StoreError::invalid("item", "Name the item or the class the break is for."));
    }
    if let Some(list) = new.price_list {
        let there =
            sqlx::query_scalar!(r#"SELECT EXISTS (SELECT 1 FROM price_lists WHERE id = ?) AS "there!: bool""#, list.0)
                .fetch_one(&mut **writing)
                .await?;
        if !there {
            return Err(StoreError::invalid("price_list", "There is no such price list."));
        }
    }
    let from = crate::stock::read_quantity("from", &new.from)?;
    let off = off(&new.off)?;
    let (scaled, rate, list) = (from.scaled(), off.scaled(), new.price_list.map(|list| list.0));
    let before = sqlx::query_scalar!(
        "DELETE FROM quantity_breaks WHERE price_list_id IS ? AND item_id IS ? AND item_class IS ? AND from_e4 = ? RETURNING off_e6",
        list,
        item,
        class,
        scaled
    )
    .fetch_optional(&mut **writing)
    .await?
    .map(|off| format!("{} %", Rate::from_scaled(off).percent()));
    sqlx::query!(
        "INSERT INTO quantity_breaks (price_list_id, item_id, item_class, from_e4, off_e6) VALUES (?, ?, ?, ?, ?)",
        list,
        item,
        class,
        scaled,
        rate
    )
    .execute(&mut **writing)
    .await?;
    let of = if new.item.trim().is_empty() { new.class.trim() } else { new.item.trim() };
    let mut fields = vec![set("from", from)];
    fields.extend(changed("off", before.as_deref(), Some(&format!("{} %", off.percent()))));
    writing.note_setting("quantity breaks", format!("set a quantity break of {of}"), fields);
    Ok(())
}

/// Takes a quantity break away. Orders keep the prices they have.
///
/// # Errors
/// Where it is gone already.
pub async fn drop_break(writing: &mut Writing<'_>, id: i64) -> Result<()> {
    let gone = sqlx::query!(
        r#"DELETE FROM quantity_breaks WHERE id = ? RETURNING from_e4, off_e6,
               coalesce(item_class, (SELECT code FROM items WHERE items.id = item_id)) AS "of!: String""#,
        id
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::WrongState("This quantity break was deleted already.".to_owned()))?;
    let from = Quantity::from_scaled(gone.from_e4).to_string();
    let off = format!("{} %", Rate::from_scaled(gone.off_e6).percent());
    let mut fields = changed("from", Some(&from), None);
    fields.extend(changed("off", Some(&off), None));
    writing.note_setting("quantity breaks", format!("took a quantity break of {} away", gone.of), fields);
    Ok(())
}

/// A promotion to set.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewPromotion {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// First day.
    pub first: NaiveDate,
    /// Last day.
    pub last: NaiveDate,
    /// The item's code, or empty.
    #[serde(default)]
    pub item: String,
    /// The class, or empty; for all goods where both are.
    #[serde(default)]
    pub class: String,
    /// What comes off, in percent.
    pub off: String,
}

/// A promotion as named fields, for the record; nothing where there is none.
async fn described_promotion(connection: &mut SqliteConnection, code: &str) -> Result<Fields> {
    let row = sqlx::query!(
        r#"SELECT name, first AS "first: NaiveDate", last AS "last: NaiveDate", off_e6, item_class,
                  (SELECT items.code FROM items WHERE items.id = item_id) AS "item: String" FROM promotions WHERE code = ?"#,
        code
    )
    .fetch_optional(connection)
    .await?;
    Ok(row.map_or_else(Fields::new, |row| {
        fields([
            ("name", row.name),
            ("from", words(row.first)),
            ("to", words(row.last)),
            ("of", row.item.or(row.item_class).unwrap_or_else(|| "all goods".to_owned())),
            ("off", format!("{} %", Rate::from_scaled(row.off_e6).percent())),
        ])
    }))
}

/// Sets a promotion.
///
/// # Errors
/// Days the wrong way round, a share that cannot be.
pub async fn set_promotion(writing: &mut Writing<'_>, new: &NewPromotion) -> Result<()> {
    let code = name("code", &new.code, 20)?;
    let name = name("name", &new.name, 40)?;
    let (item, class) = target(writing, &new.item, &new.class).await?;
    sensible_date("first", new.first)?;
    sensible_date("last", new.last)?;
    if new.last < new.first {
        return Err(StoreError::invalid("last", "A promotion ends on its first day or later."));
    }
    let off = off(&new.off)?;
    let rate = off.scaled();
    let was = described_promotion(writing, &code).await?;
    sqlx::query!(
        "INSERT INTO promotions (code, name, first, last, item_id, item_class, off_e6) VALUES (?, ?, ?, ?, ?, ?, ?)
         ON CONFLICT (code) DO UPDATE SET name = excluded.name, first = excluded.first, last = excluded.last,
             item_id = excluded.item_id, item_class = excluded.item_class, off_e6 = excluded.off_e6",
        code,
        name,
        new.first,
        new.last,
        item,
        class,
        rate
    )
    .execute(&mut **writing)
    .await?;
    let fields = differences(&was, &described_promotion(writing, &code).await?);
    writing.note_setting("promotions", format!("set promotion {code}"), fields);
    Ok(())
}
