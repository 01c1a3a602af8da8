//! Settings of goods: warehouses, when cost is entered, freight, tax treatments, custom fields and
//! reporting lists.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Rate;
use till_core::marks::MarkRules;
use till_core::shipment::CostEntry;
use till_core::treatment::Treatment;
use till_core::units::{UNITS, Unit};

use crate::stock::{Warehouse, warehouses};
use crate::writing::{Writing, changed};
use crate::{Result, StoreError, items, rules};

/// A tax code of the company.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TaxCodeRow {
    /// The code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Its category.
    pub category: String,
    /// Its rates, the latest first.
    pub rates: Vec<RateFrom>,
}

/// A rate of a tax code, from a day on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RateFrom {
    /// The first day.
    pub valid_from: NaiveDate,
    /// In percent, as written: “21.5”.
    pub percent: String,
}

/// The tax code a treatment leads to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TreatmentCode {
    /// The treatment.
    pub treatment: Treatment,
    /// The code; none where nobody chose one.
    pub tax_code: Option<String>,
}

/// An account lines may go to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountRow {
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
}

/// What the pages about goods need to know: settings, and what can be chosen.
#[derive(Debug, Clone, Serialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GoodsSettings {
    /// Warehouses.
    pub warehouses: Vec<Warehouse>,
    /// The one that is taken where nobody says another.
    pub warehouse: String,
    /// When cost is entered.
    pub cost_entry: CostEntry,
    /// For how many days a check counts as not cleared.
    pub clearing_days: u64,
    /// The code of the item that freight is billed as.
    pub freight_item: Option<String>,
    /// Tax codes.
    pub tax_codes: Vec<TaxCodeRow>,
    /// Where treatments lead.
    pub treatments: Vec<TreatmentCode>,
    /// Item classes in use.
    pub classes: Vec<String>,
    /// Customer classes in use.
    pub customer_classes: Vec<String>,
    /// Revenue and expense accounts.
    pub accounts: Vec<AccountRow>,
    /// Own fields and reporting lists.
    pub marks: MarkRules,
    /// Units of measure.
    pub units: Vec<Unit>,
    /// Delivery terms.
    pub delivery_terms: Vec<String>,
}

async fn tax_codes(connection: &mut SqliteConnection) -> Result<Vec<TaxCodeRow>> {
    let mut rates: HashMap<String, Vec<RateFrom>> = HashMap::new();
    for row in sqlx::query!(
        r#"SELECT code, valid_from AS "valid_from: NaiveDate", rate_e6 FROM tax_rates ORDER BY code, valid_from DESC"#
    )
    .fetch_all(&mut *connection)
    .await?
    {
        let percent = Rate::from_scaled(row.rate_e6).percent();
        rates.entry(row.code).or_default().push(RateFrom { valid_from: row.valid_from, percent });
    }
    Ok(sqlx::query!("SELECT code, name, category FROM tax_codes ORDER BY code")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| {
            let rates = rates.remove(&row.code).unwrap_or_default();
            TaxCodeRow { code: row.code, name: row.name, category: row.category, rates }
        })
        .collect())
}

/// Reads the settings of goods.
///
/// # Errors
/// [`StoreError::NotSetUp`] on empty books.
pub async fn view(connection: &mut SqliteConnection) -> Result<GoodsSettings> {
    let rules = rules::load(connection).await?;
    let tax_codes = tax_codes(connection).await?;
    let treatments = Treatment::ALL
        .into_iter()
        .filter(|treatment| *treatment != Treatment::Standard)
        .map(|treatment| TreatmentCode { treatment, tax_code: rules.treatments.get(&treatment).cloned() })
        .collect();
    let freight = rules.freight_item.map_or(-1, |item| item.0);
    let freight_item =
        sqlx::query_scalar!("SELECT code FROM items WHERE id = ?", freight).fetch_optional(&mut *connection).await?;
    let classes =
        sqlx::query_scalar!("SELECT DISTINCT class FROM items ORDER BY class").fetch_all(&mut *connection).await?;
    let customer_classes = sqlx::query_scalar!(
        r#"SELECT DISTINCT class AS "class!" FROM customers WHERE class IS NOT NULL ORDER BY class"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let accounts =
        sqlx::query!("SELECT number, name FROM accounts WHERE account_type IN ('revenue', 'expense') ORDER BY number")
            .fetch_all(&mut *connection)
            .await?
            .into_iter()
            .map(|row| AccountRow { number: row.number, name: row.name })
            .collect();
    Ok(GoodsSettings {
        warehouses: warehouses(connection).await?,
        warehouse: rules.warehouse,
        cost_entry: rules.cost_entry,
        clearing_days: rules.clearing_days,
        freight_item,
        tax_codes,
        treatments,
        classes,
        customer_classes,
        accounts,
        marks: rules.marks,
        units: UNITS.to_vec(),
        delivery_terms: crate::orders::DELIVERY_TERMS.iter().map(|term| (*term).to_owned()).collect(),
    })
}

/// Settings of goods as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewGoodsSettings {
    /// The warehouse that is taken where nobody says another.
    pub warehouse: String,
    /// When cost is entered, of what leaves from now on.
    pub cost_entry: CostEntry,
    /// For how many days a check counts as not cleared.
    pub clearing_days: u64,
    /// The code of the item that freight is billed as; empty for none.
    #[serde(default)]
    pub freight_item: String,
    /// Where treatments lead.
    pub treatments: Vec<TreatmentCode>,
}

/// Changes the settings of goods.
///
/// # Errors
/// A warehouse, item or code that is not there, a freight item that is no charge.
pub async fn change(writing: &mut Writing<'_>, new: &NewGoodsSettings) -> Result<()> {
    let before = view(writing).await?;
    if !crate::stock::counted(writing, &new.warehouse, "warehouse").await? {
        return Err(StoreError::invalid("warehouse", "The company's own warehouse is one that is counted here."));
    }
    if new.clearing_days > 90 {
        return Err(StoreError::invalid("clearing_days", "A check clears within 90 days."));
    }
    let freight = match new.freight_item.trim() {
        "" => None,
        code => {
            let id = items::by_code(writing, code, "freight_item").await?.0;
            let kind = sqlx::query_scalar!("SELECT kind FROM items WHERE id = ?", id).fetch_one(&mut **writing).await?;
            if kind != "charge" {
                return Err(StoreError::invalid("freight_item", "Freight is billed as an item that is a charge."));
            }
            Some(id)
        }
    };
    let cost = new.cost_entry.word();
    let days = i64::try_from(new.clearing_days).unwrap_or(0);
    sqlx::query!(
        "UPDATE company SET warehouse = ?, cost_entry = ?, clearing_days = ?, freight_item_id = ?, version = version + 1",
        new.warehouse,
        cost,
        days,
        freight
    )
    .execute(&mut **writing)
    .await?;
    for chosen in &new.treatments {
        set_treatment(writing, chosen).await?;
    }
    let mut changes = changed("warehouse", Some(&before.warehouse), Some(&new.warehouse));
    changes.extend(changed("cost is entered", Some(before.cost_entry.word()), Some(cost)));
    changes.extend(changed("checks clear in days", Some(&before.clearing_days.to_string()), Some(&days.to_string())));
    changes.extend(changed(
        "freight item",
        before.freight_item.as_deref(),
        Some(new.freight_item.trim()).filter(|code| !code.is_empty()),
    ));
    writing.note_setting("goods", "changed the settings of goods", changes);
    Ok(())
}

/// Chooses the tax code a treatment leads to.
///
/// # Errors
/// A code that is not there, or of a category that does not fit.
pub async fn set_treatment(writing: &mut Writing<'_>, chosen: &TreatmentCode) -> Result<()> {
    let word = chosen.treatment.word();
    let before = sqlx::query_scalar!("SELECT tax_code FROM treatment_codes WHERE treatment = ?", word)
        .fetch_optional(&mut **writing)
        .await?;
    let Some(code) = chosen.tax_code.as_deref().filter(|code| !code.is_empty()) else {
        sqlx::query!("DELETE FROM treatment_codes WHERE treatment = ?", word).execute(&mut **writing).await?;
        let changes = changed("code", before.as_deref(), None);
        if !changes.is_empty() {
            writing.note_setting("tax treatments", format!("{} leads nowhere", chosen.treatment.name()), changes);
        }
        return Ok(());
    };
    let category = sqlx::query_scalar!("SELECT category FROM tax_codes WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?
        .ok_or_else(|| StoreError::invalid("treatments", format!("There is no tax code {code}.")))?;
    let fits: &[&str] = match chosen.treatment {
        Treatment::Standard => &[],
        Treatment::Exempt => &["E", "Z"],
        Treatment::ReverseCharge => &["AE"],
        Treatment::Union => &["K"],
        Treatment::Export => &["G"],
    };
    if !fits.contains(&category.as_str()) {
        return Err(StoreError::invalid(
            "treatments",
            format!(
                "{} leads to a code of category {}; {code} is of {category}.",
                chosen.treatment.name(),
                fits.join(" or ")
            ),
        ));
    }
    sqlx::query!(
        "INSERT INTO treatment_codes (treatment, tax_code) VALUES (?, ?) ON CONFLICT (treatment) DO UPDATE SET tax_code = excluded.tax_code",
        word,
        code
    )
    .execute(&mut **writing)
    .await?;
    let changes = changed("code", before.as_deref(), Some(code));
    if !changes.is_empty() {
        writing.note_setting("tax treatments", format!("{} leads to {code}", chosen.treatment.name()), changes);
    }
    Ok(())
}
