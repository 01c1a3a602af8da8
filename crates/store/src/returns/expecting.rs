//! Expected returns: the estimate of what will come back, entered against what stands.

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Rate};
use till_core::ids::{DocumentKind, DocumentRef, EstimateId};
use till_core::money::Money;
use till_core::returns::{Estimate, ExpectInput, expect};
use till_core::tape::{Change, Tape};

use super::accruing::{AccrualRow, accruals};
use crate::convert::currency;
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, posting, sensible_date};

/// An estimate that was entered.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ExpectedReturnsRow {
    /// Its id.
    pub id: EstimateId,
    /// Its number.
    pub number: String,
    /// The day it is of.
    pub date: NaiveDate,
    /// The first day whose invoices it is about.
    pub from: NaiveDate,
    /// The share that is expected back.
    pub share: Rate,
    /// What is expected back.
    pub estimate: Estimate,
    /// Its entry.
    pub entry: DocumentRef,
}

/// What is expected back, as it stands.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ExpectedReturns {
    /// What stands on the accounts, in base currency.
    pub standing: Estimate,
    /// For how many days goods may come back: what was billed before is not expected any more.
    pub days: i64,
    /// What was billed within them and is not credited, in base currency.
    pub billed: Estimate,
    /// The share of what was billed in the year before that did come back and was credited.
    pub came_back: Rate,
    /// The estimates, newest first.
    pub estimates: Vec<ExpectedReturnsRow>,
    /// What was back and not credited at the end of months, newest first.
    pub accruals: Vec<AccrualRow>,
}

/// An estimate to enter.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewExpectedReturns {
    /// The share that is expected back, in percent.
    pub share: String,
    /// The day it is of; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What an estimate would enter.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ExpectedReturnsPreview {
    /// What is expected back, in base currency.
    pub estimate: Estimate,
    /// The arithmetic.
    pub tape: Tape,
    /// The entry; none where nothing changes.
    pub entry: Option<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// What was billed from one day to another and not credited by then, net and at cost, in base currency.
async fn billed(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (from, to): (NaiveDate, NaiveDate),
) -> Result<Estimate> {
    let rows = sqlx::query!(
        r#"SELECT documents.currency AS "currency!", documents.rate_e9 AS "rate!: i64", billed.net_minor AS "net!: i64", billed.quantity_e4 AS "quantity!: i64",
                  CASE WHEN shipment_lines.id IS NULL THEN billed.cost_minor
                       ELSE shipment_lines.cost_minor * billed.quantity_e4 / shipment_lines.quantity_e4 END AS "cost!: i64",
                  coalesce(sum(credit.net_minor), 0) AS "credited!: i64", coalesce(-sum(credit.quantity_e4), 0) AS "credited_quantity!: i64"
           FROM document_lines AS billed JOIN documents ON documents.id = billed.document_id
           LEFT JOIN shipment_lines ON shipment_lines.id = billed.shipment_line_id
           LEFT JOIN (document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id AND memo.posting_date <= ?2)
             ON credit.credits_line_id = billed.id
           WHERE documents.state = 'posted' AND billed.kind = 'goods' AND billed.credits_line_id IS NULL AND billed.quantity_e4 > 0
             AND billed.prepays_line_id IS NULL
             AND documents.posting_date BETWEEN ?1 AND ?2
           GROUP BY billed.id"#,
        from,
        to
    )
    .fetch_all(connection)
    .await?;
    let mut all = Estimate::default();
    for row in rows {
        let left = Money(row.net + row.credited);
        all.net += left.to_base(ExchangeRate::from_scaled(row.rate), currency(&row.currency)?, rules.base);
        if row.quantity > 0 {
            all.cost += Money(row.cost).share(row.quantity - row.credited_quantity, row.quantity);
        }
    }
    Ok(all)
}

/// What stands: the last estimate.
async fn standing(connection: &mut SqliteConnection) -> Result<(Estimate, Option<NaiveDate>)> {
    let row = sqlx::query!(
        r#"SELECT net_minor, cost_minor, posting_date AS "date: NaiveDate" FROM expected_returns ORDER BY id DESC LIMIT 1"#
    )
    .fetch_optional(connection)
    .await?;
    Ok(row.map_or((Estimate::default(), None), |row| {
        (Estimate { net: Money(row.net_minor), cost: Money(row.cost_minor) }, Some(row.date))
    }))
}

/// The share of what was billed in the year up to a day that came back and was credited, in base currency of today's rates.
async fn came_back(connection: &mut SqliteConnection, to: NaiveDate) -> Result<Rate> {
    let from = to.checked_sub_days(Days::new(365)).unwrap_or(to);
    let row = sqlx::query!(
        r#"SELECT coalesce(sum(CASE WHEN return_line_id IS NOT NULL THEN -document_lines.net_minor * (rate_e9 / 1000) END), 0) AS "back!: i64",
                  coalesce(sum(CASE WHEN credits_line_id IS NULL AND quantity_e4 > 0 THEN document_lines.net_minor * (rate_e9 / 1000) END), 0) AS "billed!: i64"
           FROM document_lines JOIN documents ON documents.id = document_id
           WHERE state = 'posted' AND document_lines.kind = 'goods' AND prepays_line_id IS NULL AND posting_date BETWEEN ? AND ?"#,
        from,
        to
    )
    .fetch_one(connection)
    .await?;
    let share = if row.billed > 0 { Money(1_000_000).share(row.back, row.billed) } else { Money::ZERO };
    Ok(Rate::from_scaled(share.0.clamp(0, 1_000_000)))
}

/// What is expected back, as it stands.
///
/// # Errors
/// Where the database cannot be read.
pub async fn expected_returns(connection: &mut SqliteConnection, rules: &Rules) -> Result<ExpectedReturns> {
    let days = rules.return_days;
    let to = rules.business_date;
    let estimates = sqlx::query!(
        r#"SELECT expected_returns.id AS "id!", expected_returns.number AS "number!", expected_returns.posting_date AS "date!: NaiveDate", from_date AS "from!: NaiveDate",
                  share_e6 AS "share!", net_minor AS "net!", cost_minor AS "cost!", entries.id AS "entry!", entries.number AS "entry_number!"
           FROM expected_returns JOIN entries ON entries.id = entry_id ORDER BY expected_returns.id DESC"#
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| ExpectedReturnsRow {
        id: EstimateId(row.id),
        number: row.number,
        date: row.date,
        from: row.from,
        share: Rate::from_scaled(row.share),
        estimate: Estimate { net: Money(row.net), cost: Money(row.cost) },
        entry: DocumentRef { kind: DocumentKind::Entry, id: row.entry, number: format!("E-{}", row.entry_number) },
    })
    .collect();
    Ok(ExpectedReturns {
        standing: standing(connection).await?.0,
        days,
        billed: billed(connection, rules, (first_day(to, days), to)).await?,
        came_back: came_back(connection, to).await?,
        estimates,
        accruals: accruals(connection).await?,
    })
}

/// The first day whose invoices may still come back on a day.
fn first_day(to: NaiveDate, days: i64) -> NaiveDate {
    to.checked_sub_days(Days::new(u64::try_from(days).unwrap_or(0))).unwrap_or(to)
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    new: &NewExpectedReturns,
) -> Result<ExpectInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let date = DocumentDate::or_business_date(new.date, rules.business_date);
    let typed = new.share.trim().trim_end_matches('%').trim();
    let share = Rate::from_percent(typed).map_err(|error| StoreError::decimal("share", &error))?;
    let from = first_day(date.date, rules.return_days);
    let (standing, last) = standing(connection).await?;
    Ok(ExpectInput {
        from,
        date,
        billed: billed(connection, rules, (from, date.date)).await?,
        share,
        standing,
        last,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What an estimate would enter. Nothing is written.
///
/// # Errors
/// What cannot be read.
pub async fn expected_returns_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    new: &NewExpectedReturns,
) -> Result<ExpectedReturnsPreview> {
    let decision = expect(&load(connection, rules, new).await?);
    Ok(ExpectedReturnsPreview {
        estimate: decision.estimate,
        tape: decision.tape,
        entry: decision.entry,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Enters an estimate: the difference to the one that stands. Returns its number.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn enter_expected_returns(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewExpectedReturns,
) -> Result<DocumentRef> {
    let input = load(writing, rules, new).await?;
    let decision = expect(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(new.seen.as_deref(), &decision.fingerprint)?;
    let (number, sequence) = next_number(writing, "estimate").await?;
    let id = EstimateId(next_id(writing, "expected_returns").await?);
    let source = DocumentRef { kind: DocumentKind::Estimate, id: id.0, number: number.clone() };
    let entry = posting::write(writing, &source, &decision.posting()).await?.pop().map(|entry| entry.0);
    let (from, date, share) = (input.from, input.date.date, input.share.scaled());
    sqlx::query!(
        "INSERT INTO expected_returns (id, number, sequence, from_date, posting_date, billed_net_minor, billed_cost_minor, share_e6,
                net_minor, cost_minor, more_net_minor, more_cost_minor, entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id.0,
        number,
        sequence,
        from,
        date,
        input.billed.net.0,
        input.billed.cost.0,
        share,
        decision.estimate.net.0,
        decision.estimate.cost.0,
        decision.more.net.0,
        decision.more.cost.0,
        entry
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![
        set("share", format!("{} %", input.share.percent())),
        set("net", rules.base.format(decision.estimate.net)),
        set("cost", rules.base.format(decision.estimate.cost)),
        set("date", till_core::calendar::words(date)),
    ];
    let words = format!("entered what returns are expected, {number}");
    writing.note_on((DocumentKind::Estimate, id.0, &number), "expected_returns_entered", words, None, fields);
    Ok(source)
}
