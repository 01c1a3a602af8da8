//! What lines are matched with: everything that is open, everyone who may pay, and what the books expect of the bank.

use std::collections::{HashMap, HashSet};

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::bank::{BankLine, BankLineKind, Claim, Expected, Index, Paid, Payer};
use till_core::ids::{BankLineId, BankStatementId, CustomerId, DocumentKind, DocumentRef, EntryId, OpenItemId};
use till_core::money::{Currency, Money};

use crate::convert::{currency, kind, known};
use crate::rules::Rules;
use crate::{Result, StoreError};

/// For how many days receipts are looked up that may come back.
const PAID_SINCE: u64 = 180;

/// A line with what is known of it.
pub(super) struct Line {
    pub(super) id: BankLineId,
    pub(super) statement: BankStatementId,
    pub(super) number: String,
    pub(super) place: String,
    pub(super) currency: Currency,
    pub(super) position: i64,
    pub(super) line: BankLine,
    /// What of it is cleared.
    pub(super) cleared: Money,
}

impl Line {
    /// Its statement, which what is booked from it names.
    pub(super) fn document(&self) -> DocumentRef {
        DocumentRef { kind: DocumentKind::BankStatement, id: self.statement.0, number: self.number.clone() }
    }

    pub(super) fn left(&self) -> Money {
        self.line.amount - self.cleared
    }
}

/// Which lines to read.
#[derive(Clone, Copy)]
pub(super) enum Lines {
    One(BankLineId),
    Of(BankStatementId),
    OpenOf(BankStatementId),
}

pub(super) async fn lines(connection: &mut SqliteConnection, which: Lines) -> Result<Vec<Line>> {
    let (one, of, open) = match which {
        Lines::One(id) => (Some(id.0), None, false),
        Lines::Of(id) => (None, Some(id.0), false),
        Lines::OpenOf(id) => (None, Some(id.0), true),
    };
    sqlx::query!(
        r#"SELECT bank_lines.id AS "id!", statement_id AS "statement!", number AS "number!", place AS "place!", currency AS "currency!", position AS "position!",
                  booked_on AS "booked_on!: NaiveDate", value_on AS "value_on: NaiveDate", amount_minor AS "amount!", bank_lines.kind AS "kind!", words AS "words!",
                  reference, party, party_account, bank_reference, advised, cleared_minor AS "cleared!"
           FROM bank_lines JOIN bank_statements ON bank_statements.id = statement_id
           WHERE (bank_lines.id = ?1 OR statement_id = ?2) AND (NOT ?3 OR cleared_minor <> amount_minor) ORDER BY statement_id, position"#,
        one,
        of,
        open
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(Line {
            id: BankLineId(row.id),
            statement: BankStatementId(row.statement),
            number: row.number,
            place: row.place,
            currency: currency(&row.currency)?,
            position: row.position,
            line: BankLine {
                booked_on: row.booked_on,
                value_on: row.value_on,
                amount: Money(row.amount),
                kind: known(&row.kind, BankLineKind::of)?,
                words: row.words,
                reference: row.reference,
                party: row.party,
                party_account: row.party_account,
                bank_reference: row.bank_reference,
                advised: match &row.advised {
                    Some(text) => serde_json::from_str(text).map_err(|error| StoreError::Corrupt(error.to_string()))?,
                    None => Vec::new(),
                },
            },
            cleared: Money(row.cleared),
        })
    })
    .collect()
}

pub(super) async fn line(connection: &mut SqliteConnection, id: BankLineId) -> Result<Line> {
    lines(connection, Lines::One(id))
        .await?
        .pop()
        .ok_or_else(|| StoreError::WrongState("There is no such line of a bank statement.".to_owned()))
}

/// Everything a statement's lines are looked up in.
pub(super) async fn index(
    connection: &mut SqliteConnection,
    rules: &Rules,
    statement: BankStatementId,
    (place, money): (&str, Currency),
) -> Result<Index> {
    let claims = claims(connection, money).await?;
    let payers = payers(connection, statement).await?;
    let expected = expected(connection, rules, place, money).await?;
    let rate = crate::rules::exchange_rate(connection, rules, money, rules.business_date).await?;
    let tolerance = rate.map_or(Money::ZERO, |rate| {
        rules.write_off_tolerance.exchanged((rules.base, till_core::fixed::ExchangeRate::ONE), (money, rate))
    });
    Ok(Index::new(claims, payers, expected, tolerance).with_paid(paid(connection, rules, place, money).await?))
}

async fn claims(connection: &mut SqliteConnection, money: Currency) -> Result<Vec<Claim>> {
    let code = money.code();
    let rows = sqlx::query!(
        r#"SELECT open_items.id, customer_id, open_items.number, open_minor, next_due_date AS "due: NaiveDate", open_items.terms ->> '$.discount' IS NOT NULL AS "early!: bool"
           FROM open_items JOIN customers ON customers.id = customer_id AND customers.currency = open_items.currency
           WHERE open_minor > 0 AND side = 'owed_to_us' AND purpose = 'receivable' AND open_items.currency = ?"#,
        code
    )
    .fetch_all(&mut *connection)
    .await?;
    let with_offer = rows.iter().filter(|row| row.early).map(|row| OpenItemId(row.id));
    let early = crate::open_items::early(connection, with_offer).await?;
    let early: HashMap<OpenItemId, (Money, NaiveDate)> = early
        .values()
        .filter_map(|early| Some((early.item, (early.left(), early.offer()?.until_with_grace))))
        .filter(|(_, (amount, _))| amount.is_positive())
        .collect();
    Ok(rows
        .into_iter()
        .map(|row| Claim {
            item: OpenItemId(row.id),
            customer: CustomerId(row.customer_id),
            number: row.number,
            open: Money(row.open_minor),
            due: row.due,
            early: early.get(&OpenItemId(row.id)).copied(),
        })
        .collect())
}

/// Everyone who may pay. An account of the statement's lines is known where a receipt that stands was made of a line it paid.
async fn payers(connection: &mut SqliteConnection, statement: BankStatementId) -> Result<Vec<Payer>> {
    let known = sqlx::query!(
        r#"SELECT DISTINCT earlier.party_account AS "account!", customer_id AS "customer!"
           FROM bank_lines AS mine JOIN bank_lines AS earlier ON earlier.party_account = mine.party_account
           JOIN bank_matches ON line_id = earlier.id AND how = 'receipt' AND undone_on IS NULL
           JOIN payments ON payments.entry_id = bank_matches.entry_id AND reversed_on IS NULL
           WHERE mine.statement_id = ?"#,
        statement.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut accounts: HashMap<i64, Vec<String>> = HashMap::new();
    for row in known {
        accounts.entry(row.customer).or_default().push(row.account);
    }
    let rows = sqlx::query!("SELECT id, name, parent_id FROM customers").fetch_all(connection).await?;
    Ok(rows
        .into_iter()
        .map(|row| Payer {
            accounts: accounts.remove(&row.id).unwrap_or_default(),
            customer: CustomerId(row.id),
            name: row.name,
            parent: row.parent_id.map(CustomerId),
        })
        .collect())
}

/// Receipts and deposits whose money came to a bank account, by itself or on a slip, and may come back.
async fn paid(connection: &mut SqliteConnection, rules: &Rules, place: &str, money: Currency) -> Result<Vec<Paid>> {
    let code = money.code();
    let since = rules.business_date - chrono::Days::new(PAID_SINCE);
    let rows = sqlx::query!(
        r#"SELECT payments.id AS "id!", payments.kind AS "kind!", payments.number AS "number!", customer_id AS "customer!", payments.amount_minor AS "amount!",
                  payments.posting_date AS "date!: NaiveDate", coalesce(reference, '') AS "words!: String"
           FROM payments
           WHERE payments.kind IN ('receipt', 'deposit') AND reversed_on IS NULL AND whereabouts IN ('at_bank', 'cleared') AND currency = ?1 AND posting_date >= ?3
             AND (place = ?2 OR EXISTS (SELECT 1 FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id
                                        WHERE bank_slip_lines.entry_id = payments.entry_id AND live AND bank = ?2))"#,
        code,
        place,
        since
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(Paid {
                receipt: DocumentRef { kind: kind(&row.kind)?, id: row.id, number: row.number },
                customer: CustomerId(row.customer),
                amount: Money(row.amount),
                date: row.date,
                words: row.words,
            })
        })
        .collect()
}

/// What moved the ledger account of a bank account and no line of it says yet, in the account's currency. What was entered and
/// taken back, amount for amount, before the bank said anything of either is as if it never was.
pub(super) async fn expected(
    connection: &mut SqliteConnection,
    rules: &Rules,
    place: &str,
    money: Currency,
) -> Result<Vec<Expected>> {
    let (code, in_base) = (money.code(), money == rules.base);
    let rows = sqlx::query!(
        r#"SELECT entries.id AS "id!", posting_date AS "date!: NaiveDate", source_kind AS "kind!: String", source_id AS "source!", source_number AS "number!: String",
                  reverses_id, sum(CASE WHEN ?3 THEN base_minor ELSE document_minor END) AS "amount!: i64",
                  (SELECT customer_id FROM payments WHERE payments.id = source_id AND source_kind IN ('receipt', 'deposit')) AS "customer: i64",
                  coalesce((SELECT reference FROM payments WHERE payments.id = source_id AND source_kind IN ('receipt', 'deposit')),
                           (SELECT reference FROM card_payouts WHERE card_payouts.id = source_id AND source_kind = 'card_payout'), '') AS "words!: String"
           FROM money_places JOIN entry_lines ON entry_lines.account = money_places.account AND purpose = 'bank'
           JOIN entries ON entries.id = entry_id
           WHERE money_places.code = ?1 AND (?3 OR entry_lines.currency = ?2)
             AND NOT EXISTS (SELECT 1 FROM bank_matches WHERE bank_matches.entry_id = entries.id AND undone_on IS NULL)
           GROUP BY entries.id HAVING sum(CASE WHEN ?3 THEN base_minor ELSE document_minor END) <> 0 ORDER BY entries.id"#,
        place,
        code,
        in_base
    )
    .fetch_all(connection)
    .await?;
    // What takes another one back stands against it where both moved the account by the same.
    let amounts: HashMap<i64, i64> = rows.iter().map(|row| (row.id, row.amount)).collect();
    let turned = |first: Option<i64>, amount: i64| first.filter(|first| amounts.get(first) == Some(&-amount));
    let backs: HashMap<i64, i64> =
        rows.iter().filter_map(|row| Some((turned(row.reverses_id, row.amount)?, row.id))).collect();
    let gone: HashSet<i64> = backs.into_iter().flat_map(|(first, back)| [first, back]).collect();
    rows.into_iter()
        .filter(|row| !gone.contains(&row.id))
        .map(|row| {
            Ok(Expected {
                entry: EntryId(row.id),
                document: DocumentRef { kind: kind(&row.kind)?, id: row.source, number: row.number },
                amount: Money(row.amount),
                date: row.date,
                customer: row.customer.map(CustomerId),
                words: row.words,
            })
        })
        .collect()
}
