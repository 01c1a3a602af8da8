//! Bank deposit slips: prepared, banked, cleared by a bank statement, or given up.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::slip::{self, CancelSlip, InHand, SlipDecision, SlipInput, SlipState};
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::day_sheet::SlipFacts;
use till_core::entry::Entry;
use till_core::ids::{BankSlipId, CustomerId, DocumentKind, DocumentRef, EntryId};
use till_core::money::{Currency, Money};
use till_core::people::write_off_allowed;
use till_core::room::Movement;
use till_core::settle::{MoneyPlace, PlaceKind};
use till_core::tape::Tape;

use crate::convert::{currency, json, kind};
use crate::ledger::{self, PostedEntry};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, money_places, open_items, people, posting, sensible_date};

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
    fn of(decision: SlipDecision) -> Self {
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
enum Which<'a> {
    /// What stands on no slip.
    Free,
    /// Those entries, on a slip or not.
    These(&'a [EntryId]),
    /// What stands on a slip.
    On(BankSlipId),
}

async fn load(connection: &mut SqliteConnection, which: Which<'_>) -> Result<Vec<InHand>> {
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

/// What lies in hand and stands on no slip, the oldest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn in_hand(connection: &mut SqliteConnection) -> Result<Vec<InHandRow>> {
    Ok(load(connection, Which::Free).await?.iter().map(InHandRow::of).collect())
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

async fn row(connection: &mut SqliteConnection, id: BankSlipId) -> Result<SlipRow> {
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
    let lines = on(connection, id).await?;
    Ok(SlipView {
        row,
        bank_account: more.bank_account,
        company: more.company,
        line_list: lines.iter().map(InHandRow::of).collect(),
        cancel_reason: more.cancel_reason,
        entries: ledger::entries_of(connection, DocumentKind::BankSlip, id.0).await?,
    })
}

/// What stands on a slip, in its order.
async fn on(connection: &mut SqliteConnection, id: BankSlipId) -> Result<Vec<InHand>> {
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

/// Refuses to book more as counted short than who does it may write off.
pub(super) async fn within_limit(writing: &mut Writing<'_>, rules: &Rules, short: Money) -> Result<()> {
    let above = short > rules.write_off_tolerance;
    let Some(role) = writing.actor().role.filter(|_| above) else { return Ok(()) };
    let limits = people::limits(writing).await?;
    write_off_allowed(role, short, &limits, rules.base).map_err(StoreError::NotAllowed)
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
