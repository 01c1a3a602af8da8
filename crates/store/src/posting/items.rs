//! Open items and what is tied to what. What is open of each item, when it falls due next and what each
//! customer owes are kept here for speed and proved by [`crate::verify`].

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::deposit::HeldTax;
use till_core::ids::{CustomerId, EntryId, OpenItemId};
use till_core::money::Money;
use till_core::open_items::Side;
use till_core::posting::{NewApplication, NewItem, Which};

use super::Of;
use crate::convert::{json, terms, terms_json};
use crate::open_items::next_id;
use crate::{Result, StoreError, customers};

/// Items first, then what is tied to them.
pub(super) async fn write(
    connection: &mut SqliteConnection,
    postings: &[Of<'_>],
    entries: &[Vec<EntryId>],
) -> Result<()> {
    let first = add(connection, postings).await?;
    let mut made = 0;
    let mut ties = Vec::new();
    for ((_, posting), entries) in postings.iter().zip(entries) {
        let id = |which: Which| match which {
            Which::Known(id) => id,
            Which::New(place) => OpenItemId(first + made + i64::try_from(place).unwrap_or(i64::MAX)),
        };
        for new in &posting.applications {
            let entry = match new.entry {
                Some(place) => Some(*entries.get(place).ok_or_else(no_entry)?),
                None => None,
            };
            ties.push((id(new.debit), id(new.credit), new, entry));
        }
        made += i64::try_from(posting.items.len()).unwrap_or(i64::MAX);
    }
    if ties.is_empty() { Ok(()) } else { apply(connection, &ties).await }
}

fn no_entry() -> StoreError {
    StoreError::Corrupt("an application of an entry that its posting does not have".to_owned())
}

/// Writes new items, all of each open, and adds what is owed to us to what their customers owe. Returns the
/// id of the first; the others follow it.
async fn add(connection: &mut SqliteConnection, postings: &[Of<'_>]) -> Result<i64> {
    let items: Vec<_> = postings
        .iter()
        .flat_map(|(document, posting)| {
            posting.items.iter().map(|item| (item.document.as_ref().unwrap_or(document), item))
        })
        .collect();
    if items.is_empty() {
        return Ok(0);
    }
    let first = next_id(connection, "open_items").await?;
    let mut rows = Vec::with_capacity(items.len());
    for ((document, item), id) in items.iter().zip(first..) {
        // What came to nothing is settled as it is posted.
        let base = if item.amount.is_zero() { Money::ZERO } else { item.amount_base };
        rows.push((
            (id, item.customer, item.purpose.word(), &item.account, item.side.word()),
            (document.kind.word(), document.id, &document.number, item.currency.code()),
            (item.amount, item.amount_base, item.posting_date, item.document_date, item.due_date, base),
            item.terms.as_ref().map(terms_json).transpose()?,
        ));
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO open_items (id, customer_id, purpose, account, side, kind, document_id, number, currency, amount_minor,
                                 amount_base_minor, posting_date, document_date, next_due_date, open_minor, open_base_minor, terms)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]',
                value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]', value ->> '$[2][3]', value ->> '$[2][4]',
                value ->> '$[2][0]', value ->> '$[2][5]', value ->> '$[3]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(&mut *connection)
    .await?;
    let mut taxes = Vec::new();
    for ((_, item), id) in items.iter().zip(first..) {
        taxes.extend(item.taxes.iter().enumerate().map(|(position, held)| tax_row(id, position, held)));
    }
    write_taxes(connection, TaxOf::Items, &taxes).await?;
    let mut owed = BTreeMap::new();
    for (_, item) in items.iter().filter(|(_, item)| item.purpose == Purpose::Receivable) {
        *owed.entry(item.customer).or_insert(Money::ZERO) += owes(item);
    }
    customers::add_owed_to(connection, &owed).await?;
    Ok(first)
}

/// Tax of money in advance as saved: of an item, or of an application.
type TaxRow<'a> = ((i64, usize, &'a str, &'static str, i64), (NaiveDate, Money, Money, Money, Money));

fn tax_row(id: i64, position: usize, held: &HeldTax) -> TaxRow<'_> {
    let what = (id, position, held.rate.code.as_str(), held.rate.category.code(), held.rate.rate.scaled());
    (what, (held.tax_date, held.net, held.tax, held.net_base, held.tax_base))
}

/// What tax is kept of.
enum TaxOf {
    Items,
    Applications,
    Discounts,
}

async fn write_taxes(connection: &mut SqliteConnection, of: TaxOf, rows: &[TaxRow<'_>]) -> Result<()> {
    if rows.is_empty() {
        return Ok(());
    }
    let rows = json(&rows)?;
    let table = match of {
        TaxOf::Items => "item_taxes",
        TaxOf::Applications => "application_taxes",
        TaxOf::Discounts => "discount_taxes",
    };
    // The tables have the same columns; the name is one of the three above.
    let insert = format!(
        "INSERT INTO {table}
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]', value ->> '$[1][0]',
                value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][4]' FROM jsonb_each(?)"
    );
    sqlx::query(sqlx::AssertSqlSafe(insert)).bind(rows).execute(connection).await?;
    Ok(())
}

fn owes(item: &NewItem) -> Money {
    if item.side == Side::OwedToUs { item.amount_base } else { -item.amount_base }
}

/// Ties items together. What stays open of each follows.
async fn apply(
    connection: &mut SqliteConnection,
    ties: &[(OpenItemId, OpenItemId, &NewApplication, Option<EntryId>)],
) -> Result<()> {
    let first = next_id(connection, "applications").await?;
    let rows: Vec<_> = ties
        .iter()
        .zip(first..)
        .map(|((debit, credit, new, entry), id)| {
            let beside = &new.beside;
            let beside = [beside.discount, beside.written_off, beside.kept].map(|both| (both.amount, both.base));
            ((debit, new.debit_amount), (credit, new.credit_amount), new.reverses, entry, new.date, id, beside)
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO applications (id, application_date, debit_item, debit_minor, debit_base_minor, credit_item, credit_minor,
                                   credit_base_minor, reverses_id, entry_id, discount_minor, discount_base_minor, written_off_minor,
                                   written_off_base_minor, kept_minor, kept_base_minor)
         SELECT value ->> '$[5]', value ->> '$[4]', value ->> '$[0][0]', value ->> '$[0][1][0]', value ->> '$[0][1][1]', value ->> '$[1][0]',
                value ->> '$[1][1][0]', value ->> '$[1][1][1]', value ->> '$[2]', value ->> '$[3]', value ->> '$[6][0][0]', value ->> '$[6][0][1]',
                value ->> '$[6][1][0]', value ->> '$[6][1][1]', value ->> '$[6][2][0]', value ->> '$[6][2][1]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(&mut *connection)
    .await?;
    let mut taxes = Vec::new();
    for ((_, _, new, _), id) in ties.iter().zip(first..) {
        taxes.extend(new.taxes.iter().enumerate().map(|(position, held)| tax_row(id, position, held)));
    }
    write_taxes(connection, TaxOf::Applications, &taxes).await?;
    let mut taxes = Vec::new();
    for ((_, _, new, _), id) in ties.iter().zip(first..) {
        taxes.extend(new.beside.taxes.iter().enumerate().map(|(position, part)| tax_row(id, position, part)));
    }
    write_taxes(connection, TaxOf::Discounts, &taxes).await?;
    let mut moved: BTreeMap<OpenItemId, (Money, Money)> = BTreeMap::new();
    for (debit, credit, new, _) in ties {
        for (item, (amount, base)) in [(debit, new.debit_amount), (credit, new.credit_amount)] {
            let sum = moved.entry(*item).or_default();
            sum.0 += amount;
            sum.1 += base;
        }
    }
    let moved = json(&moved.into_iter().collect::<Vec<_>>())?;
    sqlx::query!(
        "UPDATE open_items SET open_minor = open_minor - (new.value ->> '$[1][0]'), open_base_minor = open_base_minor - (new.value ->> '$[1][1]')
         FROM jsonb_each(?) AS new WHERE open_items.id = new.value ->> '$[0]'",
        moved
    )
    .execute(&mut *connection)
    .await?;
    refresh(connection, &moved).await
}

/// What falls due next, what customers owe and the versions of the documents follow what was applied.
async fn refresh(connection: &mut SqliteConnection, moved: &str) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", customer_id, purpose, side, kind, document_id, terms, document_date AS "date: NaiveDate", amount_minor, open_minor,
                  new.value ->> '$[1][1]' AS "base!: i64"
           FROM jsonb_each(?) AS new JOIN open_items ON open_items.id = new.value ->> '$[0]'"#,
        moved
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut due = Vec::new();
    let mut owed = std::collections::BTreeMap::new();
    let (mut invoices, mut payments) = (Vec::new(), Vec::new());
    for row in &rows {
        if let Some(kept) = &row.terms {
            due.push((row.id, terms(kept)?.next_due(row.date, Money(row.amount_minor), Money(row.open_minor))));
        }
        if row.purpose == Purpose::Receivable.word() {
            let sign = if row.side == Side::OwedToUs.word() { -1 } else { 1 };
            *owed.entry(CustomerId(row.customer_id)).or_insert(Money::ZERO) += Money(sign * row.base);
        }
        match row.kind.as_str() {
            "invoice" | "credit_memo" => invoices.push(row.document_id),
            "receipt" | "deposit" => payments.push(row.document_id),
            _ => {}
        }
    }
    let (due, invoices, payments) = (json(&due)?, json(&invoices)?, json(&payments)?);
    sqlx::query!(
        "UPDATE open_items SET next_due_date = new.value ->> 1 FROM jsonb_each(?) AS new WHERE open_items.id = new.value ->> 0",
        due
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("UPDATE documents SET version = version + 1 WHERE id IN (SELECT value FROM jsonb_each(?))", invoices)
        .execute(&mut *connection)
        .await?;
    sqlx::query!("UPDATE payments SET version = version + 1 WHERE id IN (SELECT value FROM jsonb_each(?))", payments)
        .execute(&mut *connection)
        .await?;
    customers::add_owed_to(connection, &owed).await
}
