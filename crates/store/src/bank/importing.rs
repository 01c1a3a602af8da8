//! Taking statements in: each once, whatever its file was called, and only where it follows the one before it.

use serde::{Deserialize, Serialize};
use till_core::bank::{Balance, BankStatement, Before, account_number, check, plain_account};
use till_core::ids::{BankStatementId, DocumentKind};
use till_core::money::Money;
use till_core::settle::PlaceKind;

use crate::convert::json;
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, money_places};

/// The number of a bank account, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BankAccountForm {
    /// An IBAN, or the number the bank's statements name; empty for none.
    pub number: String,
}

/// What became of a file of statements.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TakenIn {
    /// The statements that were taken in.
    pub statements: Vec<BankStatementId>,
    /// How many lines they have.
    pub lines: usize,
    /// How many of the file were here already.
    pub known: usize,
}

/// Says under which number a bank names an account of ours.
///
/// # Errors
/// A place that is no bank account, a number that another has, one that is none.
pub async fn set_account(writing: &mut Writing<'_>, code: &str, form: &BankAccountForm) -> Result<()> {
    let before = sqlx::query!("SELECT name, kind, bank_account FROM money_places WHERE code = ?", code)
        .fetch_optional(&mut **writing)
        .await?
        .filter(|row| row.kind == PlaceKind::Bank.word())
        .ok_or_else(|| StoreError::WrongState(format!("“{code}” is no bank account.")))?;
    let number = account_number(&form.number).map_err(|why| StoreError::invalid("number", why))?;
    let other = sqlx::query_scalar!("SELECT name FROM money_places WHERE bank_account = ? AND code <> ?", number, code)
        .fetch_optional(&mut **writing)
        .await?;
    if let Some(other) = other {
        return Err(StoreError::invalid("number", format!("{other} has that number.")));
    }
    sqlx::query!("UPDATE money_places SET bank_account = ? WHERE code = ?", number, code)
        .execute(&mut **writing)
        .await?;
    let fields = changed("account number", before.bank_account.as_deref(), number.as_deref());
    writing.note_setting(&before.name, format!("said the account number of {}", before.name), fields);
    Ok(())
}

/// Takes the statements of a file in, in its order. What is here already is passed over.
///
/// # Errors
/// An account that is none of ours, balances that do not agree, a statement in between that is missing: nothing of the file is
/// taken in then.
pub async fn take_in(
    writing: &mut Writing<'_>,
    rules: &Rules,
    file: &str,
    statements: &[BankStatement],
) -> Result<TakenIn> {
    let mut taken = TakenIn { statements: Vec::new(), lines: 0, known: 0 };
    // A file may hold the days in any order; each account's follow one another.
    let mut in_order: Vec<&BankStatement> = statements.iter().collect();
    in_order.sort_by_key(|statement| (statement.account.clone(), statement.opening.date, statement.closing.date));
    for statement in in_order {
        let place = place_of(writing, rules, statement).await?;
        let mark = statement.mark();
        let known = sqlx::query_scalar!("SELECT id FROM bank_statements WHERE place = ? AND mark = ?", place, mark)
            .fetch_optional(&mut **writing)
            .await?;
        if known.is_some() {
            taken.known += 1;
            continue;
        }
        let before = last(writing, &place).await?;
        check(statement, before.as_ref(), rules.business_date)
            .map_err(|flaw| StoreError::invalid("file", flaw.to_string()))?;
        taken.statements.push(write(writing, rules, (&place, file, &mark), statement).await?);
        taken.lines += statement.lines.len();
    }
    if taken.statements.is_empty() {
        return Err(StoreError::invalid("file", "Every statement of this file is here already. Nothing was changed."));
    }
    Ok(taken)
}

/// The bank account of ours that a statement is of.
async fn place_of(writing: &mut Writing<'_>, rules: &Rules, statement: &BankStatement) -> Result<String> {
    let number = plain_account(&statement.account);
    let code = sqlx::query_scalar!("SELECT code FROM money_places WHERE bank_account = ? AND kind = 'bank'", number)
        .fetch_optional(&mut **writing)
        .await?;
    let Some(code) = code else {
        let sentence = format!(
            "The statement is of account {}, which none of our bank accounts has. Say in Setup, Bank accounts whose it is.",
            statement.account
        );
        return Err(StoreError::invalid("file", sentence));
    };
    let place = money_places::place(writing, &code).await?;
    let wanted = place.currency.unwrap_or(rules.base);
    if wanted != statement.currency {
        let sentence = format!("The statement is in {}, {} is kept in {wanted}.", statement.currency, place.name);
        return Err(StoreError::invalid("file", sentence));
    }
    Ok(code)
}

/// The last statement of an account.
pub(super) async fn last(connection: &mut sqlx::SqliteConnection, place: &str) -> Result<Option<Before>> {
    let row = sqlx::query!(
        r#"SELECT number, closing_on AS "closing_on: chrono::NaiveDate", closing_minor FROM bank_statements WHERE place = ? ORDER BY id DESC LIMIT 1"#,
        place
    )
    .fetch_optional(connection)
    .await?;
    Ok(row.map(|row| Before {
        number: row.number,
        closing: Balance { date: row.closing_on, amount: Money(row.closing_minor) },
    }))
}

async fn write(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (place, file, mark): (&str, &str, &str),
    statement: &BankStatement,
) -> Result<BankStatementId> {
    let (number, sequence) = next_number(writing, "bank_statement").await?;
    let id = next_id(writing, "bank_statements").await?;
    let (code, opening, closing) = (statement.currency.code(), statement.opening, statement.closing);
    sqlx::query!(
        "INSERT INTO bank_statements (id, number, sequence, place, bank_id, currency, opening_on, opening_minor, closing_on, closing_minor, mark,
                                      file_name, imported_on)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id,
        number,
        sequence,
        place,
        statement.bank_id,
        code,
        opening.date,
        opening.amount.0,
        closing.date,
        closing.amount.0,
        mark,
        file,
        rules.business_date
    )
    .execute(&mut **writing)
    .await?;
    let rows: Vec<_> = statement
        .lines
        .iter()
        .enumerate()
        .map(|(at, line)| {
            let account = line.party_account.as_deref().map(plain_account).filter(|text| !text.is_empty());
            (
                (at, line.booked_on, line.value_on, line.amount, line.kind.word()),
                (&line.words, &line.reference, &line.party, account, &line.bank_reference),
                Some(&line.advised).filter(|advised| !advised.is_empty()),
            )
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO bank_lines (statement_id, position, booked_on, value_on, amount_minor, kind, words, reference, party, party_account, bank_reference,
                                 advised)
         SELECT ?1, value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][4]', value ->> '$[2]'
         FROM jsonb_each(?2)",
        id,
        rows
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![
        set("opening balance", statement.currency.grouped(opening.amount)),
        set("closing balance", statement.currency.grouped(closing.amount)),
        set("lines", statement.lines.len()),
        set("file", file),
    ];
    let words = format!("imported {number}");
    writing.note_on((DocumentKind::BankStatement, id, &number), "bank_statement_imported", words, Some(1), fields);
    Ok(BankStatementId(id))
}

/// The number of the bank account that customers are asked to pay to: the first that one is said of.
///
/// # Errors
/// Where the database cannot be read.
pub async fn own_account(connection: &mut sqlx::SqliteConnection) -> Result<Option<String>> {
    Ok(sqlx::query_scalar!(
        r#"SELECT bank_account AS "number!" FROM money_places WHERE kind = 'bank' AND bank_account IS NOT NULL ORDER BY code LIMIT 1"#
    )
    .fetch_optional(connection)
    .await?)
}
