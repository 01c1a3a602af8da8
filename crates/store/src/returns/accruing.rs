//! Goods that are back and not credited at the end of a period, entered and reversed on the first day of the next.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Quantity, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef};
use till_core::invoice::credit::{Credited, alone};
use till_core::money::Money;
use till_core::returns::{AccrueInput, BackLine, accrue, last_month_end};
use till_core::tape::Tape;

use crate::convert::currency;
use crate::invoices::{AddedLine, CreditAlone, load_alone};
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, posting, sensible_date};

/// What is back and not credited, to be entered.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewAccrual {
    /// The day, the last one of a month; none for that of the month that ended last.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What it would enter.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccrualPreview {
    /// What is owed for it, net, in base currency.
    pub net: Money,
    /// The day it is reversed on.
    pub reversed_on: NaiveDate,
    /// The arithmetic.
    pub tape: Tape,
    /// The entry; none where nothing is owed.
    pub entry: Option<Entry>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// One that was entered.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccrualRow {
    /// Its number.
    pub number: String,
    /// Its day.
    pub date: NaiveDate,
    /// The day it is reversed on.
    pub reversed_on: NaiveDate,
    /// What was owed, net, in base currency.
    pub net: Money,
    /// Its entry.
    pub entry: DocumentRef,
}

/// Those that were entered, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn accruals(connection: &mut SqliteConnection) -> Result<Vec<AccrualRow>> {
    Ok(sqlx::query!(
        r#"SELECT return_accruals.number AS "number!", return_accruals.posting_date AS "date!: NaiveDate", reversed_on AS "reversed_on!: NaiveDate",
                  net_minor AS "net!", entries.id AS "entry!", entries.number AS "entry_number!"
           FROM return_accruals JOIN entries ON entries.id = entry_id ORDER BY return_accruals.id DESC"#
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| AccrualRow {
        number: row.number,
        date: row.date,
        reversed_on: row.reversed_on,
        net: Money(row.net),
        entry: DocumentRef { kind: DocumentKind::Entry, id: row.entry, number: format!("E-{}", row.entry_number) },
    })
    .collect())
}

async fn back_on(connection: &mut SqliteConnection, rules: &Rules, date: NaiveDate) -> Result<Vec<BackLine>> {
    let rows = sqlx::query!(
        r#"SELECT returns.number AS "number!", items.code AS "code!", coalesce(billed.quantity_e4, line.quantity_e4) AS "billed!: i64", billed.net_minor AS "net: i64",
                  returns.currency AS "currency!", returns.customer_id AS "customer!", documents.rate_e9 AS "rate: i64", line.unit_price_e6,
                  coalesce((SELECT -sum(credit.quantity_e4) FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id
                            WHERE credit.credits_line_id = billed.id AND memo.posting_date <= ?1), 0) AS "credited_quantity!: i64",
                  coalesce((SELECT -sum(credit.net_minor) FROM document_lines AS credit JOIN documents AS memo ON memo.id = credit.document_id
                            WHERE credit.credits_line_id = billed.id AND memo.posting_date <= ?1), 0) AS "credited_net!: i64",
                  (SELECT coalesce(sum(quantity_e4), 0) FROM return_line_moves WHERE return_line_id = line.id AND posting_date <= ?1) AS "back!: i64"
           FROM return_lines AS line JOIN returns ON returns.id = line.return_id JOIN items ON items.id = line.item_id
           LEFT JOIN document_lines AS billed ON billed.id = line.document_line_id LEFT JOIN documents ON documents.id = billed.document_id
           -- Of what is not billed nothing will be credited.
           WHERE returns.authorized_on <= ?1 AND (billed.id IS NOT NULL OR line.shipment_line_id IS NULL) ORDER BY returns.id, line.position"#,
        date
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut lines = Vec::new();
    for row in rows.into_iter().filter(|row| row.back > 0) {
        let (billed, currency) = (Quantity::from_scaled(row.billed), currency(&row.currency)?);
        let credited = Credited {
            quantity: Quantity::from_scaled(row.credited_quantity),
            amount: Money(row.credited_net),
            net: Money(row.credited_net),
        };
        let (net, rate) = match (row.net, row.rate, row.unit_price_e6) {
            (Some(net), Some(rate), _) => (Money(net), ExchangeRate::from_scaled(rate)),
            // No document is known: what crediting it on that day would come to, without tax.
            (_, _, price) => {
                let unit_price = UnitPrice::from_scaled(price.unwrap_or_default()).to_string();
                let line = AddedLine {
                    item: Some(row.code.clone()),
                    quantity: billed.to_string(),
                    unit_price: Some(unit_price),
                    ..AddedLine::default()
                };
                let credit = CreditAlone {
                    customer: CustomerId(row.customer),
                    currency: Some(row.currency),
                    added: vec![line],
                    came_back: Vec::new(),
                    date: Some(date),
                    reason: String::new(),
                    seen: None,
                };
                let input = load_alone(connection, rules, &credit, &[]).await?;
                let document = alone::decide(&input).document.ok_or_else(|| {
                    StoreError::invalid("date", format!("There is no exchange rate of {currency} for that day."))
                })?;
                (document.net, document.rate)
            }
        };
        let quantity = Quantity::from_scaled(row.back);
        lines.push(BackLine { number: row.number, code: row.code, quantity, billed, net, credited, currency, rate });
    }
    Ok(lines)
}

async fn load<'a>(connection: &mut SqliteConnection, rules: &'a Rules, new: &NewAccrual) -> Result<AccrueInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let date = DocumentDate::or_business_date(new.date, last_month_end(rules.business_date));
    let last = accruals(connection).await?.into_iter().next().map(|row| (row.number, row.date, row.reversed_on));
    Ok(AccrueInput {
        lines: back_on(connection, rules, date.date).await?,
        date,
        last,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What is back and not credited on a day, and what entering it would do. Nothing is written.
///
/// # Errors
/// A date that makes no sense.
pub async fn accrual_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    new: &NewAccrual,
) -> Result<AccrualPreview> {
    let decision = accrue(&load(connection, rules, new).await?);
    Ok(AccrualPreview {
        net: decision.net,
        reversed_on: decision.reversed_on,
        tape: decision.tape,
        entry: decision.entry,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Enters what is back and not credited, with its reversal on the first day of the next month. Returns it.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn enter_accrual(writing: &mut Writing<'_>, rules: &Rules, new: &NewAccrual) -> Result<DocumentRef> {
    let input = load(writing, rules, new).await?;
    let decision = accrue(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(new.seen.as_deref(), &decision.fingerprint)?;
    let (number, sequence) = next_number(writing, "return_accrual").await?;
    let id = next_id(writing, "return_accruals").await?;
    let source = DocumentRef { kind: DocumentKind::ReturnAccrual, id, number: number.clone() };
    let entry = posting::write(writing, &source, &decision.posting()).await?.pop().ok_or(StoreError::Moved)?;
    let reversal =
        posting::write(writing, &source, &decision.taking_back(entry)).await?.pop().ok_or(StoreError::Moved)?;
    let (date, reversed_on, net) = (input.date.date, decision.reversed_on, decision.net.0);
    sqlx::query!(
        "INSERT INTO return_accruals (id, number, sequence, posting_date, reversed_on, net_minor, entry_id, reversal_entry_id)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        id,
        number,
        sequence,
        date,
        reversed_on,
        net,
        entry.0,
        reversal.0
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![
        set("net", rules.base.format(decision.net)),
        set("date", till_core::calendar::words(date)),
        set("reversed on", till_core::calendar::words(reversed_on)),
    ];
    let words = format!("entered what is back and not credited, {number}");
    writing.note_on((DocumentKind::ReturnAccrual, id, &number), "return_accrual_entered", words, None, fields);
    Ok(source)
}
