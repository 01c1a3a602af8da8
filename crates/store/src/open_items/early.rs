//! What paying early earns on open items.

use std::collections::{BTreeMap, HashMap};

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::Rate;
use till_core::ids::OpenItemId;
use till_core::money::Money;
use till_core::settle::{Early, Sold};
use till_core::tax::{TaxCategory, TaxRate};

use crate::Result;
use crate::convert::{json, known, terms};

/// The offers on those of the items that have one: invoices by their terms.
pub(crate) async fn early(
    connection: &mut SqliteConnection,
    items: impl Iterator<Item = OpenItemId>,
) -> Result<BTreeMap<OpenItemId, Early>> {
    let ids = json(&items.collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", document_id AS "document!", terms AS "terms!", document_date AS "date!: NaiveDate",
                  (SELECT coalesce(sum(discount_minor), 0) FROM applications WHERE debit_item = open_items.id) AS "taken!: i64",
                  -- What of the deposits was taxed with them is not among what the invoice was taxed.
                  (SELECT coalesce(sum(debit_minor), 0) FROM applications JOIN open_items AS credit ON credit.id = credit_item
                   WHERE debit_item = open_items.id AND credit.purpose = 'deposit_liability') AS "in_advance!: i64",
                  (SELECT coalesce(sum(application_taxes.net_minor + application_taxes.tax_minor), 0) FROM applications JOIN application_taxes ON application_id = applications.id
                   JOIN documents ON documents.id = open_items.document_id
                   WHERE debit_item = open_items.id AND applications.entry_id = documents.entry_id) AS "taxed!: i64"
           FROM json_each(?) AS wanted JOIN open_items ON open_items.id = wanted.value
           WHERE open_items.kind = 'invoice' AND terms IS NOT NULL AND terms ->> '$.discount' IS NOT NULL
             AND NOT EXISTS (SELECT 1 FROM document_lines WHERE document_id = open_items.document_id AND prepays_line_id IS NOT NULL)"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    if rows.is_empty() {
        return Ok(BTreeMap::new());
    }
    let mut sold = sold(connection, &rows.iter().map(|row| row.document).collect::<Vec<_>>()).await?;
    rows.into_iter()
        .map(|row| {
            let early = Early {
                item: OpenItemId(row.id),
                terms: terms(&row.terms)?,
                document_date: row.date,
                sold: sold.remove(&row.document).unwrap_or_default(),
                in_advance: Money(row.in_advance - row.taxed),
                taken: Money(row.taken),
            };
            Ok((early.item, early))
        })
        .collect()
}

/// What invoices sold at each tax rate, less what was credited of it and packaging that is owed back; by invoice.
async fn sold(connection: &mut SqliteConnection, invoices: &[i64]) -> Result<HashMap<i64, Vec<Sold>>> {
    let invoices = json(&invoices)?;
    let rows = sqlx::query!(
        r#"SELECT invoice AS "invoice!: i64", taxed AS "code!: String", rate_e6 AS "rate!: i64", tax_date AS "day!: NaiveDate", category AS "category!: String",
                  sum(net) AS "net!: i64", sum(tax) AS "tax!: i64"
           FROM (
               SELECT documents.id AS invoice, tax_code AS taxed, tax_rate_e6 AS rate_e6, entry_lines.tax_date AS tax_date, tax_document_base_minor AS net, -document_minor AS tax
               FROM json_each(?1) AS wanted JOIN documents ON documents.id = wanted.value
               JOIN entry_lines ON entry_lines.entry_id = documents.entry_id AND purpose = 'tax_payable' AND tax_document_base_minor IS NOT NULL
               UNION ALL
               SELECT to_id, tax_code, tax_rate_e6, entry_lines.tax_date, tax_document_base_minor, -document_minor
               FROM json_each(?1) AS wanted JOIN document_links ON to_id = wanted.value AND role IN ('credits', 'cancels')
               JOIN documents ON documents.id = from_id AND state = 'posted'
               JOIN entry_lines ON entry_lines.entry_id = documents.entry_id AND purpose = 'tax_payable' AND tax_document_base_minor IS NOT NULL
               UNION ALL
               -- What such a credit took back of a discount is no sale.
               SELECT to_id, discount_taxes.tax_code, discount_taxes.rate_e6, discount_taxes.tax_date, discount_taxes.net_minor, discount_taxes.tax_minor
               FROM json_each(?1) AS wanted JOIN document_links ON to_id = wanted.value AND role IN ('credits', 'cancels')
               JOIN documents ON documents.id = from_id AND state = 'posted'
               JOIN applications ON applications.entry_id = documents.entry_id JOIN discount_taxes ON application_id = applications.id
               UNION ALL
               SELECT document_id, tax_code, tax_rate_e6, tax_date, -net_minor, 0
               FROM json_each(?1) AS wanted JOIN document_lines ON document_id = wanted.value AND kind = 'packaging'
           ) JOIN tax_codes ON tax_codes.code = taxed
           WHERE rate_e6 IS NOT NULL AND tax_date IS NOT NULL
           GROUP BY invoice, taxed, rate_e6, tax_date HAVING sum(net) <> 0 OR sum(tax) <> 0 ORDER BY invoice, taxed, rate_e6, tax_date"#,
        invoices
    )
    .fetch_all(connection)
    .await?;
    let mut found: BTreeMap<i64, Vec<Sold>> = BTreeMap::new();
    for row in rows {
        let rate = TaxRate {
            code: row.code,
            category: known(&row.category, TaxCategory::of)?,
            rate: Rate::from_scaled(row.rate),
        };
        let sold = Sold { rate, tax_date: row.day, net: Money(row.net), tax: Money(row.tax) };
        found.entry(row.invoice).or_default().push(sold);
    }
    Ok(found.into_iter().collect())
}
