//! Applications that stand.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::ids::{ApplicationId, EntryId, OpenItemId};
use till_core::invoice::credit::DiscountOn;
use till_core::money::Money;
use till_core::settle::back::Standing;
use till_core::settle::{BesideBooked, Both};

use super::taxes::{discount_taxes_on, of_discounts};
use super::{load, of_applications};
use crate::Result;
use crate::convert::json;

/// What is applied of a credit, and not taken back.
pub(crate) async fn standing_on_credit(connection: &mut SqliteConnection, credit: OpenItemId) -> Result<Vec<Standing>> {
    standing(connection, None, Some(credit), None).await
}

/// What is applied to something owed to us, and not taken back.
pub(crate) async fn standing_on_debit(connection: &mut SqliteConnection, debit: OpenItemId) -> Result<Vec<Standing>> {
    standing(connection, Some(debit), None, None).await
}

/// Deposits that were applied by an entry, whether that still stands or not.
pub(crate) async fn made_by(connection: &mut SqliteConnection, entry: EntryId) -> Result<Vec<Standing>> {
    let mut made = standing(connection, None, None, Some(entry)).await?;
    made.retain(|one| one.credit.purpose == Purpose::DepositLiability);
    Ok(made)
}

/// What goes with applications that are taken back: what credits took back of the discounts they had earned.
pub(crate) async fn with_discounts(
    connection: &mut SqliteConnection,
    applications: Vec<Standing>,
) -> Result<Vec<Standing>> {
    let mut all = applications;
    let earned = all.iter().filter(|standing| standing.beside.discount.amount.is_positive());
    let mut items: Vec<OpenItemId> = earned.map(|standing| standing.debit.id).collect();
    items.sort_unstable();
    items.dedup();
    for item in items {
        let mut with = standing_on_debit(connection, item).await?;
        with.retain(|one| one.takes_back() && !all.iter().any(|known| known.id == one.id));
        all.extend(with);
    }
    Ok(all)
}

/// The discount for early payment that stands on an item.
pub(crate) async fn discount_on(connection: &mut SqliteConnection, item: OpenItemId) -> Result<DiscountOn> {
    let row = sqlx::query!(
        r#"SELECT coalesce(sum(discount_minor), 0) AS "amount!: i64", coalesce(sum(discount_base_minor), 0) AS "base!: i64",
                  max(application_date) AS "last: NaiveDate"
           FROM applications WHERE debit_item = ? AND discount_minor <> 0"#,
        item.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let stands = BesideBooked {
        discount: Both::of(Money(row.amount), Money(row.base)),
        taxes: discount_taxes_on(connection, item).await?,
        ..BesideBooked::default()
    };
    Ok(DiscountOn { stands, last: row.last })
}

async fn standing(
    connection: &mut SqliteConnection,
    debit: Option<OpenItemId>,
    credit: Option<OpenItemId>,
    entry: Option<EntryId>,
) -> Result<Vec<Standing>> {
    let entry = entry.map(|id| id.0);
    let (debit, credit) = (debit.map(|id| id.0), credit.map(|id| id.0));
    let rows = sqlx::query!(
        r#"SELECT id AS "id!", application_date AS "date: NaiveDate", debit_item, credit_item, debit_minor, debit_base_minor, credit_minor,
                  credit_base_minor, entry_id, discount_minor, discount_base_minor, written_off_minor, written_off_base_minor, kept_minor, kept_base_minor
           FROM (SELECT id AS wanted FROM applications WHERE debit_item = ?1 UNION SELECT id FROM applications WHERE credit_item = ?2
                 UNION SELECT id FROM applications WHERE entry_id = ?3)
           JOIN applications ON id = wanted
           WHERE reverses_id IS NULL
             AND (?3 IS NOT NULL OR NOT EXISTS (SELECT 1 FROM applications AS back WHERE back.reverses_id = applications.id))
           ORDER BY id"#,
        debit,
        credit,
        entry
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<OpenItemId> =
        rows.iter().flat_map(|row| [OpenItemId(row.debit_item), OpenItemId(row.credit_item)]).collect();
    let items = load(connection, &ids).await?;
    let applications = json(&rows.iter().map(|row| row.id).collect::<Vec<_>>())?;
    let mut taxes = of_applications(connection, &applications).await?;
    let mut discounts = of_discounts(connection, &applications).await?;
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
                beside: BesideBooked {
                    discount: Both::of(Money(row.discount_minor), Money(row.discount_base_minor)),
                    written_off: Both::of(Money(row.written_off_minor), Money(row.written_off_base_minor)),
                    kept: Both::of(Money(row.kept_minor), Money(row.kept_base_minor)),
                    taxes: discounts.remove(&row.id).unwrap_or_default(),
                },
                taxes: taxes.remove(&row.id).unwrap_or_default(),
                entry: row.entry_id.map(EntryId),
            })
        })
        .collect())
}
