//! The ledger: writing entries, and reading journal, account sheets and trial balance.

mod liabilities;

pub use liabilities::{Liabilities, liabilities};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{AccountType, Purpose};
use till_core::entry::{Entry, EntryLine, TaxMark};
use till_core::fixed::Rate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId};
use till_core::money::Money;

use crate::convert::{currency, json, kind, known};
use crate::rules::next_numbers;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// The id of the entry that is written next.
pub(crate) async fn next_entry(connection: &mut SqliteConnection) -> Result<i64> {
    Ok(sqlx::query_scalar!(r#"SELECT coalesce(max(id), 0) + 1 AS "next!: i64" FROM entries"#)
        .fetch_one(connection)
        .await?)
}

/// Writes entries with the next numbers, in their order: each with its source and the entry it
/// takes back, if it does. Returns their ids.
///
/// # Errors
/// [`StoreError::Corrupt`] where one does not balance: the core never makes such an entry, and
/// the books never take one.
pub(crate) async fn write_all(
    writing: &mut Writing<'_>,
    entries: &[(&Entry, DocumentRef, Option<EntryId>)],
) -> Result<Vec<EntryId>> {
    if entries.is_empty() {
        return Ok(Vec::new());
    }
    if let Some((_, source, _)) = entries.iter().find(|(entry, ..)| !entry.balances() || entry.lines.len() < 2) {
        return Err(StoreError::Corrupt(format!("an entry for {} that does not balance", source.number)));
    }
    let (made_by, made_at) = (writing.actor().doer.name.clone(), till_core::record::time_words(writing.actor().at));
    let (_, number) = next_numbers(writing, "entry", entries.len()).await?;
    let first = next_entry(writing).await?;
    let mut heads = Vec::with_capacity(entries.len());
    let mut rows = Vec::with_capacity(entries.len() * 4);
    for (((entry, source, reverses), id), number) in entries.iter().zip(first..).zip(number..) {
        heads.push((
            (id, number, entry.date, &entry.text),
            (source.kind.word(), source.id, &source.number, entry.currency.code()),
            reverses,
        ));
        for (position, line) in entry.lines.iter().enumerate() {
            rows.push((
                (id, position, &line.account, line.purpose.word(), line.base, line.document, line.customer),
                line.tax
                    .as_ref()
                    .map(|tax| (&tax.code, tax.base, tax.document_base, tax.rate.map(Rate::scaled), tax.tax_date)),
                (!line.marks.is_empty()).then_some(&line.marks),
                line.currency.code(),
            ));
        }
    }
    let heads = json(&heads)?;
    sqlx::query!(
        "INSERT INTO entries (id, number, posting_date, text, source_kind, source_id, source_number, currency, reverses_id, made_by, made_at)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[1][0]',
                value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[2]', ?2, ?3 FROM jsonb_each(?1)",
        heads,
        made_by,
        made_at
    )
    .execute(&mut **writing)
    .await?;
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO entry_lines (entry_id, position, account, purpose, base_minor, document_minor, customer_id,
                                  tax_code, tax_base_minor, tax_document_base_minor, tax_rate_e6, tax_date, marks, currency)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]', value ->> '$[0][5]',
                value ->> '$[0][6]', value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][4]',
                value ->> '$[2]', value ->> '$[3]' FROM jsonb_each(?)",
        rows
    )
    .execute(&mut **writing)
    .await?;
    if entries.iter().flat_map(|(entry, ..)| &entry.lines).any(|line| !line.marks.codes.is_empty()) {
        sqlx::query!(
            "INSERT INTO entry_line_codes (entry_id, position, list, code)
             SELECT line.value ->> '$[0][0]', line.value ->> '$[0][1]', said.key, said.value
             FROM jsonb_each(?) AS line, json_each(line.value -> '$[2].codes') AS said",
            rows
        )
        .execute(&mut **writing)
        .await?;
    }
    // From here on nothing is slipped into them.
    sqlx::query!("UPDATE ledger_end SET entry_id = (SELECT max(id) FROM entries)").execute(&mut **writing).await?;
    Ok((first..).take(entries.len()).map(EntryId).collect())
}

/// An entry as posted.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedEntry {
    /// Its id.
    pub id: EntryId,
    /// Its number.
    pub number: i64,
    /// The document it came from.
    pub source: DocumentRef,
    /// Date, text and lines.
    #[serde(flatten)]
    pub entry: Entry,
    /// Sum of its debits in base currency.
    pub debits: Money,
    /// Who wrote it; none on entries of before it was kept there.
    pub made_by: Option<String>,
    /// When; none on entries of before it was kept there.
    pub made_at: Option<String>,
    /// The entry it takes back, in whole or in part.
    pub reverses: Option<DocumentRef>,
}

/// One entry.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn entry(connection: &mut SqliteConnection, id: EntryId) -> Result<PostedEntry> {
    let mut found = load(connection, &[id.0]).await?;
    found.pop().ok_or_else(|| StoreError::not_found(DocumentKind::Entry, id))
}

/// The entries a document wrote, oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn entries_of(connection: &mut SqliteConnection, source: DocumentKind, id: i64) -> Result<Vec<PostedEntry>> {
    let word = source.word();
    let ids =
        sqlx::query_scalar!("SELECT id FROM entries WHERE source_kind = ? AND source_id = ? ORDER BY number", word, id)
            .fetch_all(&mut *connection)
            .await?;
    load(connection, &ids).await
}

async fn load(connection: &mut SqliteConnection, ids: &[i64]) -> Result<Vec<PostedEntry>> {
    let ids = json(&ids)?;
    let heads = sqlx::query!(
        r#"SELECT entries.id, number, posting_date AS "posting_date: NaiveDate", text, source_kind, source_id, source_number, currency,
                  made_by, made_at, reverses_id, (SELECT number FROM entries AS first WHERE first.id = entries.reverses_id) AS "reverses_number: i64"
           FROM jsonb_each(?) AS wanted JOIN entries ON entries.id = wanted.value ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = sqlx::query!(
        r#"SELECT entry_id AS "entry_id!", account, name, purpose, base_minor, document_minor, currency AS "currency!", customer_id, tax_code, tax_base_minor,
                  tax_document_base_minor, tax_rate_e6, tax_date AS "tax_date: NaiveDate", marks
           FROM jsonb_each(?) AS wanted JOIN entry_lines ON entry_id = wanted.value
           JOIN accounts ON accounts.number = account ORDER BY entry_id, position"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut posted = Vec::with_capacity(heads.len());
    for head in heads {
        let mut own = Vec::new();
        for line in lines.iter().filter(|line| line.entry_id == head.id) {
            own.push(EntryLine {
                account: line.account.clone(),
                account_name: line.name.clone(),
                purpose: known(&line.purpose, Purpose::of)?,
                base: Money(line.base_minor),
                document: Money(line.document_minor),
                currency: currency(&line.currency)?,
                customer: line.customer_id.map(CustomerId),
                tax: line.tax_code.clone().zip(line.tax_base_minor).map(|(code, base)| TaxMark {
                    code,
                    base: Money(base),
                    document_base: Money(line.tax_document_base_minor.unwrap_or(0)),
                    rate: line.tax_rate_e6.map(Rate::from_scaled),
                    tax_date: line.tax_date,
                }),
                marks: match &line.marks {
                    Some(marks) => {
                        serde_json::from_str(marks).map_err(|error| StoreError::Corrupt(error.to_string()))?
                    }
                    None => Default::default(),
                },
            });
        }
        let entry = Entry { date: head.posting_date, text: head.text, currency: currency(&head.currency)?, lines: own };
        posted.push(PostedEntry {
            id: EntryId(head.id),
            number: head.number,
            source: DocumentRef { kind: kind(&head.source_kind)?, id: head.source_id, number: head.source_number },
            debits: entry.debits(),
            made_by: head.made_by,
            made_at: head.made_at,
            reverses: head.reverses_id.zip(head.reverses_number).map(|(id, number)| DocumentRef {
                kind: DocumentKind::Entry,
                id,
                number: format!("E-{number}"),
            }),
            entry,
        });
    }
    Ok(posted)
}

/// Which entries of the journal to show.
#[derive(Debug, Clone, Default)]
pub struct JournalFilter {
    /// From this day on.
    pub from: Option<NaiveDate>,
    /// Up to this day.
    pub to: Option<NaiveDate>,
    /// Words in the text or the document number.
    pub search: Option<String>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// A stretch of the journal.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Journal {
    /// The entries, newest first.
    pub entries: Vec<PostedEntry>,
    /// How many fit the filter.
    pub count: i64,
    /// Sum of the debits of all that fit.
    pub debits: Money,
}

/// The journal, newest entry first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn journal(connection: &mut SqliteConnection, filter: &JournalFilter) -> Result<Journal> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let ids = sqlx::query_scalar!(
        "SELECT id FROM entries
         WHERE (?1 IS NULL OR posting_date >= ?1) AND (?2 IS NULL OR posting_date <= ?2)
           AND (?3 IS NULL OR text LIKE ?3 ESCAPE '\\' OR source_number LIKE ?3 ESCAPE '\\')
         ORDER BY posting_date DESC, number DESC LIMIT ?4 OFFSET ?5",
        filter.from,
        filter.to,
        like,
        filter.limit,
        filter.offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(DISTINCT id) AS "count!: i64", coalesce(sum(max(base_minor, 0)), 0) AS "debits!: i64"
           FROM entries JOIN entry_lines ON entry_id = id
           WHERE (?1 IS NULL OR posting_date >= ?1) AND (?2 IS NULL OR posting_date <= ?2)
             AND (?3 IS NULL OR text LIKE ?3 ESCAPE '\' OR source_number LIKE ?3 ESCAPE '\')"#,
        filter.from,
        filter.to,
        like
    )
    .fetch_one(&mut *connection)
    .await?;
    Ok(Journal { entries: load(connection, &ids).await?, count: all.count, debits: Money(all.debits) })
}

/// One account in the trial balance.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Balance {
    /// The account.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its type.
    pub account_type: AccountType,
    /// Sum of debits up to the date.
    pub debits: Money,
    /// Sum of credits up to the date, positive.
    pub credits: Money,
    /// Debits less credits.
    pub balance: Money,
}

/// Every account with something on it, as of a date.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TrialBalance {
    /// The date.
    pub as_of: NaiveDate,
    /// The accounts, by number.
    pub accounts: Vec<Balance>,
    /// Sum of all debits.
    pub debits: Money,
    /// Sum of all credits; the same.
    pub credits: Money,
}

/// The trial balance as of a date.
///
/// # Errors
/// Where the database cannot be read.
pub async fn trial_balance(connection: &mut SqliteConnection, as_of: NaiveDate) -> Result<TrialBalance> {
    let rows = sqlx::query!(
        r#"SELECT accounts.number AS "number!", name, account_type,
                  sum(max(base_minor, 0)) AS "debits!: i64", sum(max(-base_minor, 0)) AS "credits!: i64"
           FROM entry_lines JOIN entries ON entries.id = entry_id JOIN accounts ON accounts.number = account
           WHERE posting_date <= ? GROUP BY accounts.number ORDER BY accounts.number"#,
        as_of
    )
    .fetch_all(connection)
    .await?;
    let mut accounts = Vec::with_capacity(rows.len());
    for row in rows {
        accounts.push(Balance {
            number: row.number,
            name: row.name,
            account_type: known(&row.account_type, AccountType::of)?,
            debits: Money(row.debits),
            credits: Money(row.credits),
            balance: Money(row.debits - row.credits),
        });
    }
    Ok(TrialBalance {
        as_of,
        debits: accounts.iter().map(|account| account.debits).sum(),
        credits: accounts.iter().map(|account| account.credits).sum(),
        accounts,
    })
}

/// A line of an account sheet.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountLine {
    /// The entry.
    pub entry: EntryId,
    /// Its number.
    pub number: i64,
    /// When.
    pub date: NaiveDate,
    /// What.
    pub text: String,
    /// The document behind it.
    pub source: DocumentRef,
    /// Debit positive, credit negative.
    pub amount: Money,
    /// Balance after it.
    pub balance: Money,
}

/// An account with its movements.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountSheet {
    /// The account.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its type.
    pub account_type: AccountType,
    /// Its balance before the first line shown.
    pub opening: Money,
    /// Its lines, oldest first.
    pub lines: Vec<AccountLine>,
    /// Its balance after the last line.
    pub closing: Money,
}

/// The sheet of an account, up to a date: the latest `limit` lines with the balance before them.
///
/// # Errors
/// [`StoreError::NotFound`] for an unknown number.
pub async fn account_sheet(
    connection: &mut SqliteConnection,
    number: &str,
    as_of: NaiveDate,
    limit: i64,
) -> Result<AccountSheet> {
    let account = sqlx::query!("SELECT name, account_type FROM accounts WHERE number = ?", number)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::invalid("account", format!("There is no account {number}.")))?;
    let closing = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(base_minor), 0) AS "sum!: i64" FROM entry_lines JOIN entries ON entries.id = entry_id
           WHERE account = ? AND posting_date <= ?"#,
        number,
        as_of
    )
    .fetch_one(&mut *connection)
    .await?;
    let mut rows = sqlx::query!(
        r#"SELECT entry_id, number, posting_date AS "posting_date: NaiveDate", text, source_kind, source_id, source_number,
                  base_minor
           FROM entry_lines JOIN entries ON entries.id = entry_id
           WHERE account = ? AND posting_date <= ? ORDER BY posting_date DESC, number DESC, position DESC LIMIT ?"#,
        number,
        as_of,
        limit
    )
    .fetch_all(connection)
    .await?;
    rows.reverse();
    let moved: i64 = rows.iter().map(|row| row.base_minor).sum();
    let mut balance = closing - moved;
    let opening = Money(balance);
    let mut lines = Vec::with_capacity(rows.len());
    for row in rows {
        balance += row.base_minor;
        lines.push(AccountLine {
            entry: EntryId(row.entry_id),
            number: row.number,
            date: row.posting_date,
            text: row.text,
            source: DocumentRef { kind: kind(&row.source_kind)?, id: row.source_id, number: row.source_number },
            amount: Money(row.base_minor),
            balance: Money(balance),
        });
    }
    Ok(AccountSheet {
        number: number.to_owned(),
        name: account.name,
        account_type: known(&account.account_type, AccountType::of)?,
        opening,
        lines,
        closing: Money(closing),
    })
}
