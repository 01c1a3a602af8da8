//! Payouts: what the processor paid, matched line by line with what lies in card clearing.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::card::payout::{Booked, Line, LineKind, PayoutDecision, PayoutInput, ReportLine, decide};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{CardPayoutId, CustomerId, DocumentKind, DocumentRef};
use till_core::money::{Currency, Money};
use till_core::tape::Tape;

use crate::convert::{currency, kind};
use crate::invoices::read;
use crate::ledger::PostedEntry;
use crate::rules::{Rules, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, money_places, posting, sensible_date};

/// A payout in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayoutRow {
    /// Its id.
    pub id: CardPayoutId,
    /// As the processor names it.
    pub reference: String,
    /// Its number, once it is in the books.
    pub number: Option<String>,
    /// The day of the payment.
    pub paid_on: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// All that was captured less what was taken off.
    pub gross: Money,
    /// All fees.
    pub fee: Money,
    /// What was paid.
    pub net: Money,
    /// When it was booked; none where it is not.
    pub booked_on: Option<NaiveDate>,
}

/// Payouts, newest first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayoutList {
    /// One by one.
    pub payouts: Vec<PayoutRow>,
    /// How many there are.
    pub count: i64,
}

/// A line of a payout as shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayoutLineView {
    /// What it is about.
    pub kind: LineKind,
    /// As the processor names it.
    pub reference: String,
    /// How much; below zero where it was taken off.
    pub gross: Money,
    /// What the processor keeps of it.
    pub fee: Money,
    /// The receipt, deposit, refund or charge back it is in the books.
    pub document: Option<DocumentRef>,
    /// Whose.
    pub customer: Option<String>,
    /// Why it cannot be matched; none where it is.
    pub unmatched: Option<String>,
}

/// A payout as shown.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayoutView {
    /// As in the list.
    #[serde(flatten)]
    pub row: PayoutRow,
    /// Its lines.
    pub lines: Vec<PayoutLineView>,
    /// The entry it wrote.
    pub entries: Vec<PostedEntry>,
}

/// How a payout is booked.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BookPayout {
    /// The way of paying of the bank account it came to.
    #[serde(default)]
    pub method: String,
    /// When; none for the day of the payment.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What booking a payout would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayoutPreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// Payouts, newest first; `to_book` keeps to those that are not in the books.
///
/// # Errors
/// Where the database cannot be read.
pub async fn payouts(
    connection: &mut SqliteConnection,
    to_book: bool,
    (limit, offset): (i64, i64),
) -> Result<PayoutList> {
    let rows = sqlx::query_as!(
        Kept,
        r#"SELECT id, reference, number, paid_on AS "paid_on: NaiveDate", currency, gross_minor, fee_minor, net_minor, report,
                  posting_date AS "posting_date: NaiveDate"
           FROM card_payouts WHERE NOT ? OR entry_id IS NULL ORDER BY id DESC LIMIT ? OFFSET ?"#,
        to_book,
        limit,
        offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let count = sqlx::query_scalar!("SELECT count(*) FROM card_payouts WHERE NOT ? OR entry_id IS NULL", to_book)
        .fetch_one(&mut *connection)
        .await?;
    Ok(PayoutList { payouts: rows.iter().map(Kept::row).collect::<Result<_>>()?, count })
}

/// A payout as saved.
struct Kept {
    id: i64,
    reference: String,
    number: Option<String>,
    paid_on: NaiveDate,
    currency: String,
    gross_minor: i64,
    fee_minor: i64,
    net_minor: i64,
    report: String,
    posting_date: Option<NaiveDate>,
}

impl Kept {
    fn row(&self) -> Result<PayoutRow> {
        Ok(PayoutRow {
            id: CardPayoutId(self.id),
            reference: self.reference.clone(),
            number: self.number.clone(),
            paid_on: self.paid_on,
            currency: currency(&self.currency)?,
            gross: Money(self.gross_minor),
            fee: Money(self.fee_minor),
            net: Money(self.net_minor),
            booked_on: self.posting_date,
        })
    }
}

async fn load(connection: &mut SqliteConnection, id: CardPayoutId) -> Result<(PayoutRow, Vec<ReportLine>)> {
    let kept = sqlx::query_as!(
        Kept,
        r#"SELECT id, reference, number, paid_on AS "paid_on: NaiveDate", currency, gross_minor, fee_minor, net_minor, report,
                  posting_date AS "posting_date: NaiveDate" FROM card_payouts WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CardPayout, id))?;
    Ok((kept.row()?, read(&kept.report)?))
}

/// What a line moved in the books; with the customer's name and the day.
struct InBooks {
    booked: Booked,
    customer: String,
    moved_on: NaiveDate,
}

async fn in_books(connection: &mut SqliteConnection, line: &ReportLine) -> Result<Option<InBooks>> {
    let row = match line.kind {
        LineKind::Capture => sqlx::query!(
            r#"SELECT payments.kind AS "kind!", payments.id AS "id!", payments.number AS "number!", payments.customer_id AS "customer!",
                      customers.name AS "name!", payments.amount_minor AS "amount!: i64", amount_base_minor AS "base!: i64",
                      posting_date AS "day!: NaiveDate",
                      (SELECT coalesce(number, reference) FROM card_payouts WHERE card_payouts.id = payout_id) AS "paid_with: String"
               FROM card_captures JOIN payments ON payments.id = payment_id JOIN customers ON customers.id = payments.customer_id
               WHERE card_captures.reference = ?"#,
            line.reference
        )
        .fetch_optional(connection)
        .await?
        .map(|row| (row.kind, row.id, row.number, row.customer, row.name, row.amount, row.base, row.day, row.paid_with)),
        LineKind::Refund | LineKind::ChargeBack => sqlx::query!(
            r#"SELECT card_returns.id AS "id!", card_returns.number AS "number!", customer_id AS "customer!", customers.name AS "name!",
                      -(card_returns.amount_minor + fee_minor) AS "amount!: i64", -cleared_base_minor AS "base!: i64",
                      posting_date AS "day!: NaiveDate",
                      (SELECT coalesce(number, reference) FROM card_payouts WHERE card_payouts.id = card_returns.payout_id) AS "paid_with: String"
               FROM card_returns JOIN card_captures ON card_captures.id = capture_id
               JOIN card_authorizations ON card_authorizations.id = authorization_id JOIN customers ON customers.id = customer_id
               WHERE card_returns.reference = ? AND entry_id IS NOT NULL"#,
            line.reference
        )
        .fetch_optional(connection)
        .await?
        .map(|row| {
            let word = DocumentKind::CardReturn.word().to_owned();
            (word, row.id, row.number, row.customer, row.name, row.amount, row.base, row.day, row.paid_with)
        }),
    };
    let Some((word, id, number, customer, name, amount, base, moved_on, paid_with)) = row else { return Ok(None) };
    let booked = Booked {
        document: DocumentRef { kind: kind(&word)?, id, number },
        customer: CustomerId(customer),
        amount: Money(amount),
        base: Money(base),
        paid_with,
    };
    Ok(Some(InBooks { booked, customer: name, moved_on }))
}

async fn lines_of(
    connection: &mut SqliteConnection,
    report: &[ReportLine],
) -> Result<Vec<(Line, Option<String>, Option<NaiveDate>)>> {
    let mut lines = Vec::with_capacity(report.len());
    for line in report {
        let known = in_books(connection, line).await?;
        let (customer, moved) =
            (known.as_ref().map(|known| known.customer.clone()), known.as_ref().map(|known| known.moved_on));
        let line = Line {
            kind: line.kind,
            reference: line.reference.clone(),
            gross: line.gross,
            fee: line.fee,
            booked: known.map(|known| known.booked),
        };
        lines.push((line, customer, moved));
    }
    Ok(lines)
}

/// One payout.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn payout(connection: &mut SqliteConnection, id: CardPayoutId) -> Result<PayoutView> {
    let (row, report) = load(connection, id).await?;
    let (currency, booked) = (row.currency, row.booked_on.is_some());
    let lines = lines_of(connection, &report).await?;
    Ok(PayoutView {
        lines: lines
            .into_iter()
            .map(|(line, customer, _)| PayoutLineView {
                kind: line.kind,
                reference: line.reference.clone(),
                gross: line.gross,
                fee: line.fee,
                unmatched: if booked { None } else { line.unmatched(currency) },
                document: line.booked.map(|booked| booked.document),
                customer,
            })
            .collect(),
        entries: ledger::entries_of(connection, DocumentKind::CardPayout, id.0).await?,
        row,
    })
}

async fn decided<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: CardPayoutId,
    wish: &BookPayout,
) -> Result<(PayoutInput<'a>, PayoutDecision)> {
    let (row, report) = load(connection, id).await?;
    let lines = lines_of(connection, &report).await?;
    let date = match wish.date {
        Some(date) => DocumentDate { date: sensible_date("date", date)?, typed: true },
        None => DocumentDate { date: row.paid_on.min(rules.business_date), typed: false },
    };
    let input = PayoutInput {
        reference: row.reference,
        currency: row.currency,
        gross: row.gross,
        fee: row.fee,
        net: row.net,
        paid_on: row.paid_on,
        last_moved: lines.iter().filter_map(|(.., moved)| *moved).max(),
        lines: lines.into_iter().map(|(line, ..)| line).collect(),
        to: money_places::method(connection, &wish.method).await?,
        clearing: money_places::card(connection).await?.place,
        date,
        booked: row.booked_on.is_some(),
        rate: exchange_rate(connection, rules, row.currency, date.date).await?,
        base: rules.base,
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    let decision = decide(&input);
    Ok((input, decision))
}

/// What booking a payout would do.
///
/// # Errors
/// An unknown payout, or no bank account.
pub async fn preview_payout(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: CardPayoutId,
    wish: &BookPayout,
) -> Result<PayoutPreview> {
    let (input, decision) = decided(connection, rules, id, wish).await?;
    Ok(PayoutPreview {
        currency: input.currency,
        entry: decision.entry,
        tape: decision.tape,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Books a payout: what it pays leaves card clearing for the bank. Returns its number.
///
/// # Errors
/// [`StoreError::Moved`], or what the core refuses.
pub async fn book_payout(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardPayoutId,
    wish: &BookPayout,
) -> Result<String> {
    let (input, decision) = decided(writing, rules, id, wish).await?;
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    let (number, sequence) = next_number(writing, "card_payout").await?;
    let source = DocumentRef { kind: DocumentKind::CardPayout, id: id.0, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting()).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let (date, cleared) = (input.date.date, decision.cleared_base);
    sqlx::query!(
        "UPDATE card_payouts SET number = ?, sequence = ?, method = ?, posting_date = ?, cleared_base_minor = ?, entry_id = ? WHERE id = ?",
        number, sequence, input.to.code, date, cleared.0, entry.0, id.0
    )
    .execute(&mut **writing)
    .await?;
    for line in &input.lines {
        match line.kind {
            LineKind::Capture => {
                sqlx::query!("UPDATE card_captures SET payout_id = ? WHERE reference = ?", id.0, line.reference)
                    .execute(&mut **writing)
                    .await?;
                // The bank has it.
                sqlx::query!(
                    "UPDATE payments SET whereabouts = 'at_bank', version = version + 1
                     WHERE id = (SELECT payment_id FROM card_captures WHERE reference = ?)",
                    line.reference
                )
                .execute(&mut **writing)
                .await?;
            }
            LineKind::Refund | LineKind::ChargeBack => {
                sqlx::query!("UPDATE card_returns SET payout_id = ? WHERE reference = ?", id.0, line.reference)
                    .execute(&mut **writing)
                    .await?;
            }
        }
    }
    let fields = vec![set("paid", input.currency.format(input.net)), set("fees", input.currency.format(input.fee))];
    let words = format!("booked {number}, payout {} of the card processor", input.reference);
    writing.note_on((DocumentKind::CardPayout, id.0, &number), "card_payout_booked", words, None, fields);
    Ok(number)
}
