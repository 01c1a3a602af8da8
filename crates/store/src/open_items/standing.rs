//! Applications that stand.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::ids::{ApplicationId, EntryId, OpenItemId};
use till_core::money::Money;
use till_core::settle::back::Standing;

use super::load;
use crate::Result;

/// What is applied of a credit, and not taken back.
pub(crate) async fn standing_on_credit(connection: &mut SqliteConnection, credit: OpenItemId) -> Result<Vec<Standing>> {
    standing(connection, None, Some(credit)).await
}

/// What is applied to something owed to us, and not taken back.
pub(crate) async fn standing_on_debit(connection: &mut SqliteConnection, debit: OpenItemId) -> Result<Vec<Standing>> {
    standing(connection, Some(debit), None).await
}

async fn standing(
    connection: &mut SqliteConnection,
    debit: Option<OpenItemId>,
    credit: Option<OpenItemId>,
) -> Result<Vec<Standing>> {
    let (debit, credit) = (debit.map(|id| id.0), credit.map(|id| id.0));
    let rows = sqlx::query!(
        r#"SELECT id, application_date AS "date: NaiveDate", debit_item, credit_item, debit_minor, debit_base_minor, credit_minor,
                  credit_base_minor, entry_id
           FROM applications
           WHERE (?1 IS NULL OR debit_item = ?1) AND (?2 IS NULL OR credit_item = ?2) AND reverses_id IS NULL
             AND NOT EXISTS (SELECT 1 FROM applications AS back WHERE back.reverses_id = applications.id)
           ORDER BY id"#,
        debit,
        credit
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<OpenItemId> =
        rows.iter().flat_map(|row| [OpenItemId(row.debit_item), OpenItemId(row.credit_item)]).collect();
    let items = load(connection, &ids).await?;
    // Two items for each row, in its order.
    Ok(rows
        .iter()
        .zip(items.chunks_exact(2))
        .filter_map(|(row, pair)| {
            let [debit, credit] = pair else { return None };
            Some(Standing {
                id: ApplicationId(row.id),
                debit: debit.clone(),
                credit: credit.clone(),
                date: row.date,
                settled: (Money(row.debit_minor), Money(row.debit_base_minor)),
                used: (Money(row.credit_minor), Money(row.credit_base_minor)),
                entry: row.entry_id.map(EntryId),
            })
        })
        .collect())
}
