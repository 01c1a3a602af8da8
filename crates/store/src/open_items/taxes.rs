//! Tax that stands on money in advance, and what of it went with applications.

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::deposit::{HeldTax, left_of};
use till_core::fixed::Rate;
use till_core::ids::OpenItemId;
use till_core::money::Money;
use till_core::tax::{TaxCategory, TaxRate};

use crate::Result;
use crate::convert::{json, known};

/// A row of tax, of an item or of an application.
struct Row {
    of: i64,
    code: String,
    category: String,
    rate: i64,
    day: NaiveDate,
    amounts: [i64; 4],
}

impl Row {
    fn held(self) -> Result<(i64, HeldTax)> {
        let [net, tax, net_base, tax_base] = self.amounts.map(Money);
        let rate = TaxRate {
            code: self.code,
            category: known(&self.category, TaxCategory::of)?,
            rate: Rate::from_scaled(self.rate),
        };
        Ok((self.of, HeldTax { rate, tax_date: self.day, net, tax, net_base, tax_base }))
    }
}

fn by_owner(rows: impl Iterator<Item = Row>) -> Result<HashMap<i64, Vec<HeldTax>>> {
    let mut found: HashMap<i64, Vec<HeldTax>> = HashMap::new();
    for row in rows {
        let (of, held) = row.held()?;
        found.entry(of).or_default().push(held);
    }
    Ok(found)
}

/// Tax that stood on a deposit as it was taken.
pub(crate) async fn taken_with(connection: &mut SqliteConnection, item: OpenItemId) -> Result<Vec<HeldTax>> {
    let ids = json(&[item])?;
    Ok(taken(connection, &ids).await?.remove(&item.0).unwrap_or_default())
}

async fn taken(connection: &mut SqliteConnection, ids: &str) -> Result<HashMap<i64, Vec<HeldTax>>> {
    let rows = sqlx::query!(
        r#"SELECT item_id AS "of!", tax_code, category, rate_e6, tax_date AS "day: NaiveDate", net_minor, tax_minor, net_base_minor, tax_base_minor
           FROM json_each(?) AS wanted JOIN item_taxes ON item_id = wanted.value ORDER BY item_id, position"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    by_owner(rows.into_iter().map(|row| Row {
        of: row.of,
        code: row.tax_code,
        category: row.category,
        rate: row.rate_e6,
        day: row.day,
        amounts: [row.net_minor, row.tax_minor, row.net_base_minor, row.tax_base_minor],
    }))
}

/// Tax that stands on what is open of deposits, by item. `ids` is a list in JSON.
pub(super) async fn held(connection: &mut SqliteConnection, ids: &str) -> Result<HashMap<i64, Vec<HeldTax>>> {
    let mut taken = taken(connection, ids).await?;
    if taken.is_empty() {
        return Ok(taken);
    }
    let rows = sqlx::query!(
        r#"SELECT item AS "of!: i64", tax_code AS "tax_code!", category AS "category!", rate_e6 AS "rate_e6!", tax_date AS "day!: NaiveDate",
                  net_minor AS "net!", tax_minor AS "tax!", net_base_minor AS "net_base!", tax_base_minor AS "tax_base!"
           FROM (SELECT credit_item AS item, applications.id AS id FROM json_each(?1) AS wanted JOIN applications ON credit_item = wanted.value
                 UNION ALL
                 SELECT debit_item, applications.id FROM json_each(?1) AS wanted JOIN applications ON debit_item = wanted.value) AS moved
           JOIN application_taxes ON application_id = moved.id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let used = by_owner(rows.into_iter().map(|row| Row {
        of: row.of,
        code: row.tax_code,
        category: row.category,
        rate: row.rate_e6,
        day: row.day,
        amounts: [row.net, row.tax, row.net_base, row.tax_base],
    }))?;
    for (item, taxes) in &mut taken {
        if let Some(used) = used.get(item) {
            *taxes = left_of(taxes, used);
        }
    }
    Ok(taken)
}

/// The tax that went with applications, by application. `ids` is a list in JSON.
pub(crate) async fn of_applications(
    connection: &mut SqliteConnection,
    ids: &str,
) -> Result<HashMap<i64, Vec<HeldTax>>> {
    let rows = sqlx::query!(
        r#"SELECT application_id AS "of!", tax_code, category, rate_e6, tax_date AS "day: NaiveDate", net_minor, tax_minor, net_base_minor, tax_base_minor
           FROM json_each(?) AS wanted JOIN application_taxes ON application_id = wanted.value ORDER BY application_id, position"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    by_owner(rows.into_iter().map(|row| Row {
        of: row.of,
        code: row.tax_code,
        category: row.category,
        rate: row.rate_e6,
        day: row.day,
        amounts: [row.net_minor, row.tax_minor, row.net_base_minor, row.tax_base_minor],
    }))
}

/// What discounts took of the tax, by application. `ids` is a list in JSON.
pub(crate) async fn of_discounts(connection: &mut SqliteConnection, ids: &str) -> Result<HashMap<i64, Vec<HeldTax>>> {
    let rows = sqlx::query!(
        r#"SELECT application_id AS "of!", tax_code, category, rate_e6, tax_date AS "day: NaiveDate", net_minor, tax_minor, net_base_minor, tax_base_minor
           FROM json_each(?) AS wanted JOIN discount_taxes ON application_id = wanted.value ORDER BY application_id, position"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    by_owner(rows.into_iter().map(|row| Row {
        of: row.of,
        code: row.tax_code,
        category: row.category,
        rate: row.rate_e6,
        day: row.day,
        amounts: [row.net_minor, row.tax_minor, row.net_base_minor, row.tax_base_minor],
    }))
}

/// What the discounts that stand on an item took of the tax, by tax code.
pub(super) async fn discount_taxes_on(connection: &mut SqliteConnection, item: OpenItemId) -> Result<Vec<HeldTax>> {
    let rows = sqlx::query!(
        r#"SELECT tax_code AS "code!: String", category AS "category!: String", rate_e6 AS "rate!: i64", tax_date AS "day!: NaiveDate",
                  sum(net_minor) AS "net!: i64", sum(tax_minor) AS "tax!: i64", sum(net_base_minor) AS "net_base!: i64",
                  sum(tax_base_minor) AS "tax_base!: i64"
           FROM applications JOIN discount_taxes ON application_id = applications.id WHERE debit_item = ?
           GROUP BY tax_code, category, rate_e6, tax_date
           HAVING sum(net_minor + tax_minor) <> 0 OR sum(net_base_minor + tax_base_minor) <> 0
           ORDER BY tax_code, rate_e6, tax_date"#,
        item.0
    )
    .fetch_all(connection)
    .await?;
    let held = rows.into_iter().map(|row| Row {
        of: item.0,
        code: row.code,
        category: row.category,
        rate: row.rate,
        day: row.day,
        amounts: [row.net, row.tax, row.net_base, row.tax_base],
    });
    Ok(by_owner(held)?.remove(&item.0).unwrap_or_default())
}
