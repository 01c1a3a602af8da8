//! An item as it is typed in, added or changed.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{DocumentKind, ItemId};
use till_core::invoice::ItemKind;
use till_core::merge::{Fields, differences};
use till_core::units::unit;

use crate::convert::known;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// A unit an item is sold in besides its stock unit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SalesUnit {
    /// The unit.
    pub unit: String,
    /// Stock units in one of it, as typed.
    pub factor: String,
}

/// An item as typed. Numbers are decimal texts; shares are in percent.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ItemForm {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What it is; stays once it exists.
    pub kind: ItemKind,
    /// Its class, for the account map.
    pub class: String,
    /// Its stock unit; stays once it exists.
    pub unit: String,
    /// Other units it is sold in.
    #[serde(default)]
    pub units: Vec<SalesUnit>,
    /// List price per stock unit, in base currency.
    pub list_price: String,
    /// Its tax code.
    pub tax_code: String,
    /// The least quantity, in stock units; empty for none.
    #[serde(default)]
    pub minimum: String,
    /// Quantities are multiples of it; empty for any.
    #[serde(default)]
    pub step: String,
    /// How much more than ordered may leave, in percent; empty for none.
    #[serde(default)]
    pub over: String,
    /// A surcharge per stock unit, in base currency; empty for none.
    #[serde(default)]
    pub surcharge: String,
    /// What the surcharge is for.
    #[serde(default)]
    pub surcharge_name: String,
    /// The share asked for ahead, in percent; empty for the customer's usual one.
    #[serde(default)]
    pub share_ahead: String,
    /// The code of the packaging it comes in, one for each stock unit; empty for none.
    #[serde(default)]
    pub container: String,
    /// Whether it is sold.
    #[serde(default = "yes")]
    pub active: bool,
}

const fn yes() -> bool {
    true
}

struct Checked {
    list: UnitPrice,
    minimum: Quantity,
    step: Quantity,
    over: Rate,
    surcharge: UnitPrice,
    share_ahead: Option<Rate>,
    container: Option<i64>,
    units: Vec<(String, Quantity)>,
}

fn number<T>(
    field: &str,
    typed: &str,
    empty: T,
    read: impl Fn(&str) -> std::result::Result<T, till_core::fixed::DecimalError>,
) -> Result<T> {
    if typed.trim().is_empty() {
        return Ok(empty);
    }
    read(typed).map_err(|error| StoreError::decimal(field, &error))
}

fn share(field: &str, typed: &str) -> Result<Rate> {
    let rate = number(field, typed, Rate::ZERO, Rate::from_percent)?;
    if rate < Rate::ZERO || rate > Rate::ONE {
        return Err(StoreError::invalid(field, "Write a share between 0 and 100 %."));
    }
    Ok(rate)
}

fn text(field: &str, typed: &str, longest: usize) -> Result<()> {
    if typed.trim().is_empty() || typed.trim().chars().count() > longest {
        return Err(StoreError::invalid(field, format!("Write 1 to {longest} characters here.")));
    }
    Ok(())
}

impl ItemForm {
    async fn check(&self, connection: &mut SqliteConnection) -> Result<Checked> {
        text("code", &self.code, 20)?;
        text("name", &self.name, 100)?;
        text("class", &self.class, 40)?;
        let known_unit = |field: &str, word: &str| {
            unit(word).map(|_| ()).ok_or_else(|| {
                StoreError::invalid(field, format!("There is no unit “{word}”. Choose one of the list."))
            })
        };
        known_unit("unit", &self.unit)?;
        let list: UnitPrice = number("list_price", &self.list_price, UnitPrice::ZERO, str::parse)?;
        if list < UnitPrice::ZERO || list > till_core::ordering::HIGHEST_PRICE {
            return Err(StoreError::invalid("list_price", "A price is zero or more, and less than a hundred million."));
        }
        let tax = sqlx::query_scalar!("SELECT code FROM tax_codes WHERE code = ?", self.tax_code)
            .fetch_optional(&mut *connection)
            .await?;
        if tax.is_none() {
            let sentence = match self.tax_code.trim() {
                "" => "Choose the tax code it is billed with. None is assumed.".to_owned(),
                code => format!("There is no tax code {code}. Choose one of the list, or add it in Setup."),
            };
            return Err(StoreError::invalid("tax_code", sentence));
        }
        let quantity = |field: &str, typed: &str| -> Result<Quantity> {
            let quantity: Quantity = number(field, typed, Quantity::ZERO, str::parse)?;
            if quantity < Quantity::ZERO {
                return Err(StoreError::invalid(field, "Write zero or more."));
            }
            Ok(quantity)
        };
        let surcharge: UnitPrice = number("surcharge", &self.surcharge, UnitPrice::ZERO, str::parse)?;
        if surcharge < UnitPrice::ZERO {
            return Err(StoreError::invalid("surcharge", "A surcharge is zero or more."));
        }
        if surcharge.is_positive() {
            text("surcharge_name", &self.surcharge_name, 40)?;
        }
        let mut units: Vec<(String, Quantity)> = Vec::new();
        for (at, sold) in self.units.iter().enumerate() {
            known_unit(&format!("units.{at}.unit"), &sold.unit)?;
            let factor: Quantity =
                sold.factor.parse().map_err(|error| StoreError::decimal(format!("units.{at}.factor"), &error))?;
            if !factor.is_positive() {
                return Err(StoreError::invalid(
                    format!("units.{at}.factor"),
                    "Write how many stock units are in one.",
                ));
            }
            if sold.unit == self.unit || units.iter().any(|(known, _)| *known == sold.unit) {
                return Err(StoreError::invalid(
                    format!("units.{at}.unit"),
                    format!("{} is there already.", sold.unit),
                ));
            }
            units.push((sold.unit.clone(), factor));
        }
        Ok(Checked {
            list,
            minimum: quantity("minimum", &self.minimum)?,
            step: quantity("step", &self.step)?,
            over: share("over", &self.over)?,
            surcharge,
            share_ahead: if self.share_ahead.trim().is_empty() {
                None
            } else {
                Some(share("share_ahead", &self.share_ahead)?)
            },
            container: self.container(connection).await?,
            units,
        })
    }

    async fn container(&self, connection: &mut SqliteConnection) -> Result<Option<i64>> {
        if self.container.trim().is_empty() {
            return Ok(None);
        }
        let id = super::by_code(connection, &self.container, "container").await?;
        let kind = sqlx::query_scalar!("SELECT kind FROM items WHERE id = ?", id.0).fetch_one(connection).await?;
        if kind != ItemKind::Packaging.word() || self.kind != ItemKind::Goods {
            return Err(StoreError::invalid("container", "Goods come in an item that is packaging. Choose one."));
        }
        Ok(Some(id.0))
    }
}

/// An item as people read it on the record.
pub(super) async fn described(connection: &mut SqliteConnection, id: i64) -> Result<Fields> {
    let row = sqlx::query!("SELECT * FROM items WHERE id = ?", id).fetch_one(&mut *connection).await?;
    let mut fields = Fields::from([
        ("code".to_owned(), row.code),
        ("name".to_owned(), row.name),
        ("class".to_owned(), row.class),
        ("list price".to_owned(), UnitPrice::from_scaled(row.list_price_e6).with_decimals(2)),
        ("tax code".to_owned(), row.tax_code),
        ("sold".to_owned(), if row.active != 0 { "yes" } else { "no" }.to_owned()),
    ]);
    let mut add = |name: &str, value: String, there: bool| {
        if there {
            fields.insert(name.to_owned(), value);
        }
    };
    add("least quantity", Quantity::from_scaled(row.minimum_e4).to_string(), row.minimum_e4 > 0);
    add("step", Quantity::from_scaled(row.step_e4).to_string(), row.step_e4 > 0);
    add("may go over by", format!("{} %", Rate::from_scaled(row.over_e6).percent()), row.over_e6 > 0);
    add(
        "surcharge",
        format!(
            "{} {}",
            UnitPrice::from_scaled(row.surcharge_e6).with_decimals(2),
            row.surcharge_name.unwrap_or_default()
        ),
        row.surcharge_e6 > 0,
    );
    if let Some(share) = row.share_ahead_e6 {
        add("advance %", format!("{} %", Rate::from_scaled(share).percent()), true);
    }
    let units = sqlx::query!("SELECT unit, factor_e4 FROM item_units WHERE item_id = ? ORDER BY unit", id)
        .fetch_all(&mut *connection)
        .await?;
    for unit in units {
        fields.insert(format!("one {}", unit.unit), Quantity::from_scaled(unit.factor_e4).to_string());
    }
    Ok(fields)
}

/// Adds an item, or changes one of the version seen. Returns its id and version.
///
/// # Errors
/// [`StoreError::Stale`], a code that is taken, a field that cannot be.
pub async fn save(writing: &mut Writing<'_>, id: Option<(ItemId, i64)>, form: &ItemForm) -> Result<(ItemId, i64)> {
    let checked = form.check(writing).await?;
    let (code, name, class) = (form.code.trim(), form.name.trim(), form.class.trim());
    let own = id.map_or(-1, |(id, _)| id.0);
    let taken = sqlx::query_scalar!("SELECT id FROM items WHERE code = ? COLLATE NOCASE AND id <> ?", code, own)
        .fetch_optional(&mut **writing)
        .await?;
    if taken.is_some() {
        return Err(StoreError::invalid("code", format!("Item code {code} is taken. Choose another.")));
    }
    let before = match id {
        Some((id, version)) => {
            let row = sqlx::query!("SELECT code, kind, unit, version FROM items WHERE id = ?", id.0)
                .fetch_optional(&mut **writing)
                .await?
                .ok_or_else(|| StoreError::not_found(DocumentKind::Item, id))?;
            if row.version != version {
                return Err(StoreError::Stale { what: row.code, current: row.version });
            }
            if known(&row.kind, ItemKind::of)? != form.kind || row.unit != form.unit {
                return Err(StoreError::invalid(
                    "unit",
                    "What an item is and its stock unit cannot change: stock and documents are counted in it. Add a new item.",
                ));
            }
            Some(described(writing, id.0).await?)
        }
        None => None,
    };
    let kind = form.kind.word();
    let (list, minimum, step) = (checked.list.scaled(), checked.minimum.scaled(), checked.step.scaled());
    let (over, surcharge) = (checked.over.scaled(), checked.surcharge.scaled());
    let share_ahead = checked.share_ahead.map(Rate::scaled);
    let surcharge_name = Some(form.surcharge_name.trim()).filter(|_| surcharge > 0);
    let row_id = match id {
        Some((id, _)) => {
            sqlx::query!(
                "UPDATE items SET code = ?, name = ?, class = ?, list_price_e6 = ?, tax_code = ?, minimum_e4 = ?, step_e4 = ?,
                        over_e6 = ?, surcharge_e6 = ?, surcharge_name = ?, share_ahead_e6 = ?, container_id = ?, active = ?,
                        version = version + 1 WHERE id = ?",
                code, name, class, list, form.tax_code, minimum, step, over, surcharge, surcharge_name, share_ahead,
                checked.container, form.active, id.0
            )
            .execute(&mut **writing)
            .await?;
            id.0
        }
        None => {
            sqlx::query_scalar!(
            "INSERT INTO items (code, name, kind, class, unit, list_price_e6, tax_code, minimum_e4, step_e4, over_e6,
                                    surcharge_e6, surcharge_name, share_ahead_e6, container_id, active)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
            code,
            name,
            kind,
            class,
            form.unit,
            list,
            form.tax_code,
            minimum,
            step,
            over,
            surcharge,
            surcharge_name,
            share_ahead,
            checked.container,
            form.active
        )
            .fetch_one(&mut **writing)
            .await?
        }
    };
    sqlx::query!("DELETE FROM item_units WHERE item_id = ?", row_id).execute(&mut **writing).await?;
    for (unit, factor) in &checked.units {
        let factor = factor.scaled();
        sqlx::query!("INSERT INTO item_units (item_id, unit, factor_e4) VALUES (?, ?, ?)", row_id, unit, factor)
            .execute(&mut **writing)
            .await?;
    }
    let after = described(writing, row_id).await?;
    let (what, words) = if before.is_some() {
        ("item_changed", format!("changed {code}"))
    } else {
        ("item_added", format!("added item {code}"))
    };
    let version = id.map_or(1, |(_, version)| version + 1);
    let changes = differences(&before.unwrap_or_default(), &after);
    writing.note_on((DocumentKind::Item, row_id, code), what, words, Some(version), changes);
    Ok((ItemId(row_id), version))
}
