//! Bank deposit slips, and what lies in hand, as they are looked at.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::slip::{InHand, SlipDecision, SlipState};
use till_core::checks::Blocker;
use till_core::day_sheet::SlipFacts;
use till_core::entry::Entry;
use till_core::ids::{BankSlipId, CustomerId, DocumentKind, DocumentRef, EntryId};
use till_core::money::{Currency, Money};
use till_core::settle::PlaceKind;
use till_core::tape::Tape;

use super::slips::{self, Which};
use crate::convert::currency;
use crate::ledger::{self, PostedEntry};
use crate::{Result, StoreError};

/// Something that lies in hand, on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InHandRow {
    /// The entry that brought it: its id on a slip.
    pub entry: EntryId,
    /// The receipt, the deposit; a refund that was paid in cash.
    pub document: DocumentRef,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The number of the check, what was noted with it.
    pub words: String,
    /// When.
    pub date: NaiveDate,
    /// Where it lies.
    pub place_name: String,
    /// What kind of place that is.
    pub kind: PlaceKind,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How much; below zero where it was paid out.
    pub amount: Money,
}

impl InHandRow {
    fn of(one: &InHand) -> Self {
        Self {
            entry: one.entry,
            document: one.document.clone(),
            customer: one.customer,
            customer_name: one.name.clone(),
            words: one.words.clone(),
            date: one.date,
            place_name: one.place.name.clone(),
            kind: one.place.kind,
            currency: one.currency,
            amount: one.amount.0,
        }
    }
}

/// A slip as it would be prepared, or banked.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SlipPreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What stands on it.
    pub amount: Money,
    /// What the bank counted.
    pub counted: Money,
    /// The arithmetic.
    pub tape: Tape,
    /// The entry of banking it; none where it is only prepared.
    pub entry: Option<Entry>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

impl SlipPreview {
    pub(super) fn of(decision: SlipDecision) -> Self {
        Self {
            currency: decision.currency,
            amount: decision.total.0,
            counted: decision.counted.0,
            tape: decision.tape,
            entry: decision.entry,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// A slip in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SlipRow {
    /// Its id.
    pub id: BankSlipId,
    /// Its number.
    pub number: String,
    /// How far it is.
    pub state: SlipState,
    /// Name of the bank account.
    pub bank_name: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// When it was prepared.
    pub prepared_on: NaiveDate,
    /// When the bank took it.
    pub banked_on: Option<NaiveDate>,
    /// When it was given up.
    pub canceled_on: Option<NaiveDate>,
    /// What stands on it.
    pub amount: Money,
    /// What the bank counted; none before it did.
    pub counted: Option<Money>,
    /// How many checks and movements of cash stand on it.
    pub lines: i64,
    /// Changes with every step.
    pub version: i64,
}

/// Slips, newest first, and what lies in hand.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SlipList {
    /// One by one.
    pub slips: Vec<SlipRow>,
    /// How many there are.
    pub count: i64,
}

/// A slip on screen and on paper.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SlipView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: SlipRow,
    /// Number of the bank account, as its bank names it; none where nobody said.
    pub bank_account: Option<String>,
    /// The company's name.
    pub company: String,
    /// What stands on it.
    pub line_list: Vec<InHandRow>,
    /// Why it was given up, where it was.
    pub cancel_reason: Option<String>,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
}

/// What lies in hand and stands on no slip, the oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn in_hand(connection: &mut SqliteConnection) -> Result<Vec<InHandRow>> {
    Ok(slips::load(connection, Which::Free).await?.iter().map(InHandRow::of).collect())
}

async fn rows(
    connection: &mut SqliteConnection,
    id: Option<BankSlipId>,
    (limit, offset): (i64, i64),
) -> Result<Vec<SlipRow>> {
    let id = id.map(|id| id.0);
    sqlx::query!(
        r#"SELECT bank_slips.id AS "id!", number AS "number!", name AS "name!", bank_slips.currency AS "currency!", prepared_on AS "prepared_on!: NaiveDate",
                  banked_on AS "banked_on: NaiveDate", canceled_on AS "canceled_on: NaiveDate", amount_minor AS "amount!", counted_minor AS "counted: i64", version AS "version!",
                  (SELECT count(*) FROM bank_slip_lines WHERE slip_id = bank_slips.id) AS "lines!: i64",
                  EXISTS (SELECT 1 FROM bank_matches WHERE bank_matches.entry_id = bank_slips.entry_id AND undone_on IS NULL) AS "cleared!: bool"
           FROM bank_slips JOIN money_places ON money_places.code = bank
           WHERE ?1 IS NULL OR bank_slips.id = ?1 ORDER BY bank_slips.id DESC LIMIT ?2 OFFSET ?3"#,
        id,
        limit,
        offset
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = match (row.canceled_on, row.cleared, row.banked_on) {
            (Some(_), ..) => SlipState::Canceled,
            (None, true, _) => SlipState::Cleared,
            (None, false, Some(_)) => SlipState::Banked,
            (None, false, None) => SlipState::Prepared,
        };
        Ok(SlipRow {
            id: BankSlipId(row.id),
            number: row.number,
            state,
            bank_name: row.name,
            currency: currency(&row.currency)?,
            prepared_on: row.prepared_on,
            banked_on: row.banked_on,
            canceled_on: row.canceled_on,
            amount: Money(row.amount),
            counted: row.counted.map(Money),
            lines: row.lines,
            version: row.version,
        })
    })
    .collect()
}

/// Slips, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, stretch: (i64, i64)) -> Result<SlipList> {
    let slips = rows(connection, None, stretch).await?;
    let count = sqlx::query_scalar!("SELECT count(*) FROM bank_slips").fetch_one(connection).await?;
    Ok(SlipList { slips, count })
}

pub(super) async fn row(connection: &mut SqliteConnection, id: BankSlipId) -> Result<SlipRow> {
    rows(connection, Some(id), (1, 0)).await?.pop().ok_or_else(|| StoreError::not_found(DocumentKind::BankSlip, id))
}

/// One slip.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: BankSlipId) -> Result<SlipView> {
    let row = row(connection, id).await?;
    let more = sqlx::query!(
        r#"SELECT cancel_reason, bank_account, (SELECT company.name FROM company) AS "company!: String"
           FROM bank_slips JOIN money_places ON money_places.code = bank WHERE bank_slips.id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let lines = slips::on(connection, id).await?;
    Ok(SlipView {
        row,
        bank_account: more.bank_account,
        company: more.company,
        line_list: lines.iter().map(InHandRow::of).collect(),
        cancel_reason: more.cancel_reason,
        entries: ledger::entries_of(connection, DocumentKind::BankSlip, id.0).await?,
    })
}

/// Slips that wait to be taken to the bank, for the day sheet.
pub(crate) async fn waiting(connection: &mut SqliteConnection) -> Result<Vec<SlipFacts>> {
    let rows = sqlx::query!(
        r#"SELECT bank_slips.id AS "id!", number, name, amount_base_minor, prepared_on AS "since: NaiveDate"
           FROM bank_slips JOIN money_places ON money_places.code = bank WHERE banked_on IS NULL AND canceled_on IS NULL ORDER BY bank_slips.id"#
    )
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|row| SlipFacts {
            slip: DocumentRef { kind: DocumentKind::BankSlip, id: row.id, number: row.number },
            bank: row.name,
            amount: Money(row.amount_base_minor),
            since: row.since,
        })
        .collect())
}
