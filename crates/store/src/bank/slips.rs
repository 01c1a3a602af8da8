//! Bank deposit slips: prepared, banked, cleared by a bank statement, or given up.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::slip::{self, CancelSlip, InHand, SlipInput, SlipState};
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::stops;
use till_core::ids::{BankSlipId, CustomerId, DocumentKind, DocumentRef, EntryId};
use till_core::money::Money;
use till_core::room::Movement;
use till_core::settle::MoneyPlace;

use super::slip_views::{SlipPreview, SlipRow, row};
use crate::convert::{currency, json, kind};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, money_places, open_items, people, posting, sensible_date};

/// A slip to prepare, as chosen.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewSlip {
    /// What goes to the bank: entries of what lies in hand.
    pub entries: Vec<EntryId>,
    /// The bank account; none where there is one only.
    #[serde(default)]
    pub bank: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
}

/// A slip that was taken to the bank.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToBank {
    /// What the bank counted, a decimal; none for what stands on the slip.
    #[serde(default)]
    pub counted: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
}

/// A slip to give up.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToCancelSlip {
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
}

/// A slip that was prepared.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PreparedSlip {
    /// Its id.
    pub id: BankSlipId,
    /// Its number.
    pub number: String,
}

/// Which of what came in hand, or went out of it.
pub(super) enum Which<'a> {
    /// What stands on no slip.
    Free,
    /// Those entries, on a slip or not.
    These(&'a [EntryId]),
    /// What stands on a slip.
    On(BankSlipId),
}

pub(super) async fn load(connection: &mut SqliteConnection, which: Which<'_>) -> Result<Vec<InHand>> {
    let (these, on) = match which {
        Which::Free => (None, None),
        Which::These(entries) => (Some(json(&entries)?), None),
        Which::On(slip) => (None, Some(slip.0)),
    };
    let rows = sqlx::query!(
        r#"SELECT place AS "place!: String", day AS "day!: NaiveDate", amount_minor AS "amount!: i64", base_minor AS "base!: i64", place_moves.currency AS "currency!: String",
                  entry_id AS "entry!: i64", back_of AS "back_of?: i64", place_moves.kind AS "kind!: String", document_id AS "document!: i64", place_moves.number AS "number!: String",
                  customer_id AS "customer!: i64", customers.name AS "name!: String", coalesce(reference, '') AS "words!: String"
           FROM place_moves JOIN money_places ON money_places.code = place JOIN customers ON customers.id = customer_id
           WHERE money_places.kind IN ('checks_in_hand', 'drawer')
             AND CASE WHEN ?1 IS NOT NULL THEN entry_id IN (SELECT value FROM json_each(?1))
                      WHEN ?2 IS NOT NULL THEN entry_id IN (SELECT bank_slip_lines.entry_id FROM bank_slip_lines WHERE slip_id = ?2)
                      ELSE NOT EXISTS (SELECT 1 FROM bank_slip_lines WHERE bank_slip_lines.entry_id = place_moves.entry_id AND live) END
           ORDER BY day, entry_id"#,
        these,
        on
    )
    .fetch_all(&mut *connection)
    .await?;
    // What came and was taken back while it lay there is as if it never was.
    let free: std::collections::HashSet<i64> = rows.iter().map(|row| row.entry).collect();
    let gone: std::collections::HashSet<i64> = match which {
        Which::Free => {
            let backs =
                rows.iter().filter_map(|row| Some((row.back_of.filter(|first| free.contains(first))?, row.entry)));
            backs.flat_map(|(first, back)| [first, back]).collect()
        }
        _ => std::collections::HashSet::new(),
    };
    let mut places: std::collections::HashMap<String, MoneyPlace> = std::collections::HashMap::new();
    let mut found = Vec::with_capacity(rows.len());
    for row in rows {
        if gone.contains(&row.entry) {
            continue;
        }
        let place = match places.get(&row.place) {
            Some(place) => place.clone(),
            None => {
                let place = money_places::place(connection, &row.place).await?;
                places.insert(row.place.clone(), place.clone());
                place
            }
        };
        found.push(InHand {
            entry: EntryId(row.entry),
            document: DocumentRef { kind: kind(&row.kind)?, id: row.document, number: row.number },
            customer: CustomerId(row.customer),
            name: row.name,
            words: row.words,
            date: row.day,
            place,
            currency: currency(&row.currency)?,
            amount: (Money(row.amount), Money(row.base)),
        });
    }
    Ok(found)
}

async fn bank_place(connection: &mut SqliteConnection, code: Option<&str>) -> Result<MoneyPlace> {
    let codes = sqlx::query_scalar!("SELECT code FROM money_places WHERE kind = 'bank' ORDER BY code")
        .fetch_all(&mut *connection)
        .await?;
    let code = match code {
        Some(code) => codes.iter().find(|known| *known == code),
        None if codes.len() == 1 => codes.first(),
        None => None,
    };
    match code {
        Some(code) => money_places::place(connection, code).await,
        None => Err(StoreError::invalid("bank", "Choose the bank account the money goes to.")),
    }
}

async fn at_places(connection: &mut SqliteConnection, lines: &[InHand]) -> Result<Vec<(String, Vec<Movement>)>> {
    let mut found: Vec<(String, Vec<Movement>)> = Vec::new();
    for line in lines {
        if !found.iter().any(|(place, _)| *place == line.place.code) {
            let movements = money_places::movements(connection, &line.place.code).await?;
            found.push((line.place.code.clone(), movements));
        }
    }
    Ok(found)
}

async fn input<'a>(connection: &mut SqliteConnection, rules: &'a Rules, new: &NewSlip) -> Result<SlipInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let free = load(connection, Which::Free).await?;
    let mut lines = Vec::with_capacity(new.entries.len());
    for (position, entry) in new.entries.iter().enumerate() {
        let Some(line) = free.iter().find(|line| line.entry == *entry) else {
            let known = load(connection, Which::These(&[*entry])).await?;
            let number = known.first().map_or("That", |one| one.document.number.as_str()).to_owned();
            let sentence = format!("{number} is not in hand any more, or stands on another slip.");
            return Err(StoreError::invalid(format!("entries.{position}"), sentence));
        };
        if lines.iter().any(|known: &InHand| known.entry == *entry) {
            let sentence = format!("{} is named twice.", line.document.number);
            return Err(StoreError::invalid(format!("entries.{position}"), sentence));
        }
        lines.push(line.clone());
    }
    Ok(SlipInput {
        number: None,
        at_places: at_places(connection, &lines).await?,
        lines,
        bank: bank_place(connection, new.bank.as_deref()).await?,
        counted: None,
        date: DocumentDate::or_business_date(new.date, rules.business_date),
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What a slip would come to. Nothing is written.
///
/// # Errors
/// What is not in hand, an unknown account, a date out of reach.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewSlip) -> Result<SlipPreview> {
    Ok(SlipPreview::of(slip::prepare(&input(connection, rules, new).await?)))
}

/// Prepares a slip: it gets its number, and what stands on it goes on no other.
///
/// # Errors
/// [`StoreError::Moved`], or what the core refuses.
pub async fn prepare(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewSlip,
    seen: Option<&str>,
) -> Result<PreparedSlip> {
    let input = input(writing, rules, new).await?;
    let decision = slip::prepare(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(seen, &decision.fingerprint)?;
    let (number, sequence) = next_number(writing, "bank_slip").await?;
    let id = open_items::next_id(writing, "bank_slips").await?;
    let (code, date) = (decision.currency.code(), input.date.date);
    sqlx::query!(
        "INSERT INTO bank_slips (id, number, sequence, bank, currency, prepared_on, amount_minor, amount_base_minor) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        id,
        number,
        sequence,
        input.bank.code,
        code,
        date,
        decision.total.0.0,
        decision.total.1.0
    )
    .execute(&mut **writing)
    .await?;
    for (position, line) in input.lines.iter().enumerate() {
        let (position, word) = (i64::try_from(position).unwrap_or(i64::MAX), line.document.kind.word());
        sqlx::query!(
            "INSERT INTO bank_slip_lines (slip_id, position, entry_id, place, kind, document_id, number, amount_minor, amount_base_minor)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            id,
            position,
            line.entry.0,
            line.place.code,
            word,
            line.document.id,
            line.document.number,
            line.amount.0.0,
            line.amount.1.0
        )
        .execute(&mut **writing)
        .await?;
    }
    let fields = vec![set("amount", decision.currency.format(decision.total.0)), set("to", &input.bank.name)];
    let words = format!("prepared {number}");
    writing.note_on((DocumentKind::BankSlip, id, &number), "slip_prepared", words, Some(1), fields);
    Ok(PreparedSlip { id: BankSlipId(id), number })
}

/// What stands on a slip, in its order.
pub(super) async fn on(connection: &mut SqliteConnection, id: BankSlipId) -> Result<Vec<InHand>> {
    let order = sqlx::query_scalar!("SELECT entry_id FROM bank_slip_lines WHERE slip_id = ? ORDER BY position", id.0)
        .fetch_all(&mut *connection)
        .await?;
    let mut lines = load(connection, Which::On(id)).await?;
    lines.sort_by_key(|line| order.iter().position(|entry| *entry == line.entry.0));
    Ok(lines)
}

async fn bank_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: BankSlipId,
    wish: &ToBank,
) -> Result<(SlipInput<'a>, SlipRow)> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let row = row(connection, id).await?;
    match row.state {
        SlipState::Prepared => {}
        SlipState::Canceled => return Err(StoreError::WrongState(format!("{} is canceled.", row.number))),
        SlipState::Banked | SlipState::Cleared => {
            return Err(StoreError::WrongState(format!("{} was taken to the bank already.", row.number)));
        }
    }
    let counted = match wish.counted.as_deref().map(str::trim).filter(|typed| !typed.is_empty()) {
        Some(typed) => Some(row.currency.parse(typed).map_err(|error| StoreError::decimal("counted", &error))?),
        None => None,
    };
    let bank =
        sqlx::query_scalar!("SELECT bank FROM bank_slips WHERE id = ?", id.0).fetch_one(&mut *connection).await?;
    let lines = on(connection, id).await?;
    let input = SlipInput {
        number: Some(row.number.clone()),
        at_places: at_places(connection, &lines).await?,
        lines,
        bank: money_places::place(connection, &bank).await?,
        counted,
        date: DocumentDate::or_business_date(wish.date, rules.business_date),
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok((input, row))
}

/// What banking a slip would do. Nothing is written.
///
/// # Errors
/// An unknown slip, one that is banked or canceled, an amount that cannot be read.
pub async fn preview_bank(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: BankSlipId,
    wish: &ToBank,
) -> Result<SlipPreview> {
    Ok(SlipPreview::of(slip::bank(&bank_input(connection, rules, id, wish).await?.0)))
}

/// Banks a slip: the bank took it. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn bank(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: BankSlipId,
    (version, seen): (i64, Option<&str>),
    wish: &ToBank,
) -> Result<i64> {
    let (input, row) = bank_input(writing, rules, id, wish).await?;
    fresh(&row, version)?;
    let decision = slip::bank(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(seen, &decision.fingerprint)?;
    within_limit(writing, rules, decision.short()).await?;
    let source = DocumentRef { kind: DocumentKind::BankSlip, id: id.0, number: row.number.clone() };
    let written = posting::write(writing, &source, &decision.posting()).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let date = input.date.date;
    sqlx::query!(
        "UPDATE bank_slips SET banked_on = ?, counted_minor = ?, counted_base_minor = ?, entry_id = ?, version = version + 1 WHERE id = ?",
        date,
        decision.counted.0.0,
        decision.counted.1.0,
        entry.0,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    whereabouts(writing, id, "at_bank").await?;
    let fields = vec![set("banked", decision.currency.format(decision.counted.0))];
    let words = format!("took {} to the bank", row.number);
    writing.note_on((DocumentKind::BankSlip, id.0, &row.number), "slip_banked", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Refuses to book more as counted short or over than who does it may, in base currency.
pub(super) async fn within_limit(writing: &mut Writing<'_>, rules: &Rules, short: Money) -> Result<()> {
    let Some(role) = writing.actor().role else { return Ok(()) };
    let limits = people::limits(writing).await?;
    slip::apart_allowed(role, short, rules.write_off_tolerance, &limits, rules.base).map_err(StoreError::NotAllowed)
}

fn fresh(row: &SlipRow, version: i64) -> Result<()> {
    if row.version == version {
        Ok(())
    } else {
        Err(StoreError::Stale { what: row.number.clone(), current: row.version })
    }
}

/// Says of the payments on a slip where they are.
async fn whereabouts(writing: &mut Writing<'_>, id: BankSlipId, word: &str) -> Result<()> {
    sqlx::query!(
        "UPDATE payments SET whereabouts = ? WHERE entry_id IN (SELECT entry_id FROM bank_slip_lines WHERE slip_id = ?) AND reversed_on IS NULL",
        word,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}

/// Gives a slip up: what stood on it is in hand. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], or what the core refuses.
pub async fn cancel(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: BankSlipId,
    version: i64,
    wish: &ToCancelSlip,
) -> Result<i64> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let row = row(writing, id).await?;
    fresh(&row, version)?;
    let known = sqlx::query!(
        r#"SELECT entry_id, (SELECT payments.number FROM bank_slip_lines JOIN payments ON payments.entry_id = bank_slip_lines.entry_id
                             WHERE slip_id = bank_slips.id AND reversed_on IS NOT NULL LIMIT 1) AS "reversed: String"
           FROM bank_slips WHERE id = ?"#,
        id.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let entry = match known.entry_id {
        Some(entry) => Some((EntryId(entry), ledger::entry(writing, EntryId(entry)).await?.entry)),
        None => None,
    };
    let input = CancelSlip {
        number: row.number.clone(),
        state: row.state,
        entry,
        reversed: known.reversed,
        date: DocumentDate::or_business_date(wish.date, rules.business_date),
        reason: wish.reason.trim().to_owned(),
        periods: &rules.periods,
    };
    let decided = slip::cancel(&input).map_err(StoreError::Refused)?;
    let source = DocumentRef { kind: DocumentKind::BankSlip, id: id.0, number: row.number.clone() };
    let back = if decided.entries.is_empty() {
        None
    } else {
        posting::write(writing, &source, &decided).await?.first().map(|entry| entry.0)
    };
    let date = input.date.date;
    sqlx::query!(
        "UPDATE bank_slips SET canceled_on = ?, cancel_reason = ?, cancel_entry_id = ?, version = version + 1 WHERE id = ?",
        date,
        input.reason,
        back,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    whereabouts(writing, id, "in_hand").await?;
    sqlx::query!("UPDATE bank_slip_lines SET live = 0 WHERE slip_id = ?", id.0).execute(&mut **writing).await?;
    let words = format!("canceled {}", row.number);
    let fields = vec![set("reason", &input.reason)];
    writing.note_on((DocumentKind::BankSlip, id.0, &row.number), "slip_canceled", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Where the money of a payment is: where it came to, or the bank account its slip took it to.
///
/// # Errors
/// Where it stands on a slip that waits to be taken to the bank: nobody knows until that is said.
pub(crate) async fn place_now(
    connection: &mut SqliteConnection,
    (entry, number): (i64, &str),
    place: &str,
) -> Result<MoneyPlace> {
    let slip = sqlx::query!(
        r#"SELECT bank_slips.number AS "number!", bank AS "bank!", banked_on IS NOT NULL AS "banked!: bool"
           FROM bank_slip_lines JOIN bank_slips ON bank_slips.id = slip_id WHERE bank_slip_lines.entry_id = ? AND live"#,
        entry
    )
    .fetch_optional(&mut *connection)
    .await?;
    match slip {
        Some(slip) if slip.banked => money_places::place(connection, &slip.bank).await,
        Some(slip) => Err(StoreError::WrongState(slip::waits(number, &slip.number))),
        None => money_places::place(connection, place).await,
    }
}
