//! Open items and their age as of any day: what was applied by then, and nothing that came later.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::day_sheet::Ageing;
use till_core::ids::{CustomerId, DocumentRef, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::open_items::{Side, due_in_base};
use till_core::terms::DuePart;

use crate::Result;
use crate::convert::{currency, kind, known, terms};

/// An open item as it stood on a day.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenItemRow {
    /// Its id.
    pub id: OpenItemId,
    /// Whose account it stands on.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// What it came from.
    pub document: DocumentRef,
    /// The kind of control account.
    pub purpose: Purpose,
    /// Who owes it.
    pub side: Side,
    /// Its document date: the terms start there.
    pub document_date: NaiveDate,
    /// When the next part of what is open falls due.
    pub due_date: NaiveDate,
    /// Days past that day; negative before.
    pub days_late: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it came to, in its currency.
    pub amount: Money,
    /// What was open of it that day, in its currency.
    pub open: Money,
    /// The same, in base currency.
    pub open_base: Money,
    /// What of that was past its day, by instalment, in base currency.
    pub late_base: Money,
}

/// Open items of a day.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenItems {
    /// The day.
    pub as_of: NaiveDate,
    /// The items, by customer, the oldest due first.
    pub items: Vec<OpenItemRow>,
    /// What is owed to us less what stands against it on receivables, in base currency.
    pub owed_base: Money,
    /// What lies unapplied, in base currency.
    pub unapplied_base: Money,
    /// What is owed to us by days late, each instalment by its own date, in base currency.
    pub ageing: Ageing,
}

/// A part of what a customer owes, with its due date, in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Aged {
    /// Whose.
    pub customer: CustomerId,
    /// The item it is part of.
    pub item: OpenItemId,
    /// What falls due when.
    pub part: DuePart,
}

/// What was open on a day, of one customer or of all, from the documents and applications dated by
/// then alone.
///
/// # Errors
/// Where the database cannot be read.
pub async fn open_as_of(
    connection: &mut SqliteConnection,
    customer: Option<CustomerId>,
    as_of: NaiveDate,
) -> Result<OpenItems> {
    let customer = customer.map(|id| id.0);
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", customer_id, name, purpose, side, kind, document_id, open_items.number, open_items.currency,
                  document_date AS "document_date: NaiveDate", open_items.terms, amount_minor, next_due_date AS "next: NaiveDate",
                  amount_minor - coalesce((SELECT sum(debit_minor) FROM applications WHERE debit_item = open_items.id AND application_date <= ?2), 0)
                               - coalesce((SELECT sum(credit_minor) FROM applications WHERE credit_item = open_items.id AND application_date <= ?2), 0) AS "open!: i64",
                  amount_base_minor - coalesce((SELECT sum(debit_base_minor) FROM applications WHERE debit_item = open_items.id AND application_date <= ?2), 0)
                               - coalesce((SELECT sum(credit_base_minor) FROM applications WHERE credit_item = open_items.id AND application_date <= ?2), 0) AS "base!: i64"
           FROM open_items JOIN customers ON customers.id = customer_id
           WHERE posting_date <= ?2 AND (?1 IS NULL OR customer_id = ?1)
             -- What is settled today may have been open then; what has been settled since before it was not.
             AND (open_minor > 0 OR EXISTS (SELECT 1 FROM applications WHERE debit_item = open_items.id AND application_date > ?2)
                                 OR EXISTS (SELECT 1 FROM applications WHERE credit_item = open_items.id AND application_date > ?2))
           ORDER BY name, customer_id, next_due_date, open_items.id"#,
        customer,
        as_of
    )
    .fetch_all(connection)
    .await?;
    let mut items = Vec::new();
    let (mut owed, mut unapplied, mut ageing) = (Money::ZERO, Money::ZERO, Ageing::default());
    for row in rows.into_iter().filter(|row| row.open != 0) {
        let (amount, open, base) = (Money(row.amount_minor), Money(row.open), Money(row.base));
        let parts = match &row.terms {
            Some(kept) => due_in_base(&terms(kept)?, row.document_date, (amount, open), base),
            None => vec![DuePart { date: row.next, amount: base }],
        };
        let purpose = known(&row.purpose, Purpose::of)?;
        let side = known(&row.side, Side::of)?;
        let mut late = Money::ZERO;
        match (purpose, side) {
            (Purpose::Receivable, Side::OwedToUs) => {
                for part in &parts {
                    ageing.add(part.date, as_of, part.amount);
                }
                late = till_core::open_items::late_parts(&parts, as_of);
                owed += base;
            }
            (Purpose::Receivable, Side::OwedByUs) => owed -= base,
            (Purpose::Unapplied, Side::OwedByUs) => unapplied += base,
            _ => {}
        }
        let due_date = parts.first().map_or(row.next, |part| part.date);
        items.push(OpenItemRow {
            id: OpenItemId(row.id),
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            document: DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number },
            purpose,
            side,
            document_date: row.document_date,
            due_date,
            days_late: (as_of - due_date).num_days(),
            currency: currency(&row.currency)?,
            amount,
            open,
            open_base: base,
            late_base: late,
        });
    }
    Ok(OpenItems { as_of, items, owed_base: owed, unapplied_base: unapplied, ageing })
}

/// What is owed to us today, part by part, by customer: for lists that are asked often.
///
/// # Errors
/// Where the database cannot be read.
pub async fn ageing(connection: &mut SqliteConnection, customer: Option<CustomerId>) -> Result<Vec<Aged>> {
    let customer = customer.map(|id| id.0);
    let rows = sqlx::query!(
        r#"SELECT id, customer_id, terms, document_date AS "document_date: NaiveDate", next_due_date AS "next: NaiveDate",
                  amount_minor, open_minor, open_base_minor
           FROM open_items WHERE open_minor > 0 AND side = 'owed_to_us' AND purpose = 'receivable' AND (?1 IS NULL OR customer_id = ?1)
           ORDER BY customer_id, next_due_date"#,
        customer
    )
    .fetch_all(connection)
    .await?;
    let mut aged = Vec::with_capacity(rows.len());
    for row in rows {
        let (item, customer) = (OpenItemId(row.id), CustomerId(row.customer_id));
        let whole = DuePart { date: row.next, amount: Money(row.open_base_minor) };
        let parts = match &row.terms {
            Some(kept) => due_in_base(
                &terms(kept)?,
                row.document_date,
                (Money(row.amount_minor), Money(row.open_minor)),
                Money(row.open_base_minor),
            ),
            None => vec![whole],
        };
        aged.extend(parts.into_iter().map(|part| Aged { customer, item, part }));
    }
    Ok(aged)
}
