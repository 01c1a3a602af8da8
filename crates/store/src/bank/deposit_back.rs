//! A deposit that came back: its check was returned, its transfer recalled. It is reversed on the day of the line; what the line takes
//! more is the bank's fee, booked with it.

use sqlx::SqliteConnection;
use till_core::bank::{BankLineKind, BookDecision, BookInput, Booking, book};
use till_core::checks::stops;
use till_core::ids::{DepositId, DocumentKind, DocumentRef, EntryId, ReceiptId};
use till_core::money::Money;

use super::accepting::{AcceptPreview, write_booking};
use super::facts::Line;
use super::fitting::{PaymentBack, plain_input};
use crate::deposits;
use crate::receipts::{ChargeOn, ToReverse};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// A deposit a line took back.
pub(super) struct DepositBack {
    id: DepositId,
    number: String,
    version: i64,
    wish: ToReverse,
    /// What the line takes more.
    fee: Money,
}

/// What a line that came back makes of a deposit.
///
/// # Errors
/// Where something is to be charged on with it.
pub(super) fn deposit_back(
    line: &Line,
    (payment, back): (ReceiptId, PaymentBack),
    charge: &Option<ChargeOn>,
) -> Result<DepositBack> {
    if charge.is_some() {
        let sentence = "A deposit is no receipt: bill the charge on an invoice of its own.";
        return Err(StoreError::invalid("charge.tax_code", sentence));
    }
    let wish = ToReverse { date: Some(line.line.booked_on), reason: super::fitting::came_back(line) };
    let PaymentBack { number, version, fee, .. } = back;
    Ok(DepositBack { id: DepositId(payment.0), number, version, wish, fee })
}

async fn fee(
    connection: &mut SqliteConnection,
    rules: &Rules,
    line: &Line,
    back: &DepositBack,
) -> Result<Option<BookDecision>> {
    if back.fee.is_zero() {
        return Ok(None);
    }
    let usual = plain_input(connection, rules, line, Booking::Usual(BankLineKind::Fee)).await?;
    let text = format!("{} came back: what the bank takes for it", back.number);
    Ok(Some(book(&BookInput { text, amount: -back.fee, ..usual })))
}

fn mark(reversal: &str, fee: Option<&BookDecision>) -> String {
    match fee {
        Some(fee) => till_core::fingerprint::of(&(reversal, &fee.fingerprint)),
        None => reversal.to_owned(),
    }
}

/// What accepting the line would do.
pub(super) async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    line: &Line,
    back: &DepositBack,
) -> Result<AcceptPreview> {
    let reversal = deposits::preview_reverse(connection, rules, back.id, &back.wish).await?;
    let fee = fee(connection, rules, line, back).await?;
    let fingerprint = mark(&reversal.fingerprint, fee.as_ref());
    let mut blockers = reversal.blockers;
    blockers.extend(fee.iter().flat_map(|fee| fee.blockers.clone()));
    Ok(AcceptPreview {
        tape: reversal.tape,
        entry: reversal.entry,
        beside: fee.and_then(|fee| fee.entry).into_iter().collect(),
        changes: reversal.changes,
        blockers,
        fingerprint,
    })
}

/// Reverses the deposit and books the fee. Returns the deposit, and each entry with what it moved.
pub(super) async fn post(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (line, back): (&Line, &DepositBack),
    seen: Option<&str>,
) -> Result<(DocumentRef, (EntryId, Money), Option<(EntryId, Money)>)> {
    let reversal = deposits::preview_reverse(writing, rules, back.id, &back.wish).await?;
    let fee = fee(writing, rules, line, back).await?;
    writing.saw(seen, &mark(&reversal.fingerprint, fee.as_ref()))?;
    if let Some(fee) = fee.as_ref().filter(|fee| stops(&fee.blockers)) {
        return Err(StoreError::Refused(fee.blockers.clone()));
    }
    deposits::reverse(writing, rules, back.id, (back.version, &reversal.fingerprint), &back.wish).await?;
    let entry =
        sqlx::query_scalar!(r#"SELECT reversal_entry_id AS "entry!: i64" FROM payments WHERE id = ?"#, back.id.0)
            .fetch_one(&mut **writing)
            .await?;
    let booked = match &fee {
        Some(fee) => Some((write_booking(writing, line, fee).await?, -back.fee)),
        None => None,
    };
    let document = DocumentRef { kind: DocumentKind::Deposit, id: back.id.0, number: back.number.clone() };
    Ok((document, (EntryId(entry), line.left() + back.fee), booked))
}
