//! What is owed to customers, by kind, before and after the movements of a day.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::liability::{KINDS, Liability, NotDue};
use till_core::money::Money;
use till_core::open_items::due_in_base;

use crate::Result;
use crate::convert::terms;

/// What is owed to customers, as a balance sheet shows it; in base currency.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Liabilities {
    /// The day.
    pub as_of: NaiveDate,
    /// By kind.
    pub rows: Vec<Liability>,
    /// All kinds at the end of the day before.
    pub before: Money,
    /// All kinds at the end of the day.
    pub after: Money,
    /// What of prepayment invoices is neither paid nor due on the day, with tax: that much of receivables is not shown.
    pub not_due: Money,
    /// What of the liability is not shown for that, without tax.
    pub not_shown: Money,
    /// What a balance sheet of the day shows.
    pub shown: Money,
}

/// What is owed to customers, by kind.
///
/// # Errors
/// Where the database cannot be read.
pub async fn liabilities(connection: &mut SqliteConnection, as_of: NaiveDate) -> Result<Liabilities> {
    let mut rows = Vec::with_capacity(KINDS.len());
    for purpose in KINDS {
        let word = purpose.word();
        let sums = sqlx::query!(
            r#"SELECT coalesce(sum(CASE WHEN posting_date < ?2 THEN -base_minor END), 0) AS "before!: i64",
                      coalesce(sum(CASE WHEN posting_date = ?2 THEN max(-base_minor, 0) END), 0) AS "added!: i64",
                      coalesce(sum(CASE WHEN posting_date = ?2 THEN max(base_minor, 0) END), 0) AS "taken!: i64"
               FROM entry_lines JOIN entries ON entries.id = entry_id WHERE purpose = ?1 AND posting_date <= ?2"#,
            word,
            as_of
        )
        .fetch_one(&mut *connection)
        .await?;
        rows.push(Liability::of(purpose, Money(sums.before), Money(sums.added), Money(sums.taken)));
    }
    let (mut not_due, mut not_shown) = (Money::ZERO, Money::ZERO);
    for invoice in unpaid(connection, as_of).await? {
        not_due += invoice.open_later;
        not_shown += invoice.not_shown();
    }
    let after = rows.iter().map(|row| row.after).sum();
    Ok(Liabilities {
        as_of,
        before: rows.iter().map(|row| row.before).sum(),
        after,
        not_due,
        not_shown,
        shown: after - not_shown,
        rows,
    })
}

/// Prepayment invoices with something open on a day that falls due after it.
async fn unpaid(connection: &mut SqliteConnection, as_of: NaiveDate) -> Result<Vec<NotDue>> {
    let rows = sqlx::query!(
        r#"SELECT open_items.document_date AS "document_date: NaiveDate", open_items.terms, open_items.next_due_date AS "next: NaiveDate",
                  amount_minor, amount_base_minor,
                  (SELECT sum(net_base_minor) FROM prepaid_register WHERE prepaid_register.document_id = open_items.document_id) AS "net!: i64",
                  (SELECT sum(net_base_minor - used_base_minor - credited_base_minor) FROM prepaid_register
                   WHERE prepaid_register.document_id = open_items.document_id) AS "left!: i64",
                  amount_minor - coalesce((SELECT sum(debit_minor) FROM applications WHERE debit_item = open_items.id AND application_date <= ?1), 0) AS "open!: i64",
                  amount_base_minor - coalesce((SELECT sum(debit_base_minor) FROM applications WHERE debit_item = open_items.id AND application_date <= ?1), 0) AS "base!: i64"
           FROM open_items WHERE kind = 'invoice' AND side = 'owed_to_us' AND posting_date <= ?1
             AND document_id IN (SELECT document_id FROM prepaid_register)
             -- What is settled today may have been open then.
             AND (open_minor > 0 OR EXISTS (SELECT 1 FROM applications WHERE debit_item = open_items.id AND application_date > ?1))"#,
        as_of
    )
    .fetch_all(connection)
    .await?;
    let mut invoices = Vec::new();
    for row in rows.into_iter().filter(|row| row.open > 0) {
        let (amount, open, base) = (Money(row.amount_minor), Money(row.open), Money(row.base));
        let open_later = match &row.terms {
            Some(kept) => due_in_base(&terms(kept)?, row.document_date, (amount, open), base)
                .iter()
                .filter(|part| part.date > as_of)
                .map(|part| part.amount)
                .sum(),
            None if row.next > as_of => base,
            None => Money::ZERO,
        };
        invoices.push(NotDue {
            net: Money(row.net),
            total: Money(row.amount_base_minor),
            open_later,
            left: Money(row.left),
        });
    }
    Ok(invoices)
}
