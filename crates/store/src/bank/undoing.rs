//! Undoing what a line of a bank statement was cleared against.

use till_core::checks::stops;
use till_core::ids::{BankLineId, BankMatchId, BankStatementId, DocumentKind, EntryId, ReceiptId};
use till_core::posting::Posting;

use super::accepting::said_by_bank;
use super::facts::{self, Line};
use crate::receipts::{self, ToReverse};
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, posting};

/// Undoes what a line was cleared against: what was in the books stays there and is expected again, a receipt made of the line is
/// reversed, what was booked from it is booked back.
///
/// # Errors
/// One that is undone already, a receipt that cannot be reversed, a closed period.
pub async fn undo(writing: &mut Writing<'_>, rules: &Rules, id: BankMatchId, reason: &str) -> Result<BankStatementId> {
    let known = sqlx::query!(
        r#"SELECT line_id, undone_on IS NOT NULL AS "undone!: bool" FROM bank_matches WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::WrongState("There is no such match.".to_owned()))?;
    if known.undone {
        return Err(StoreError::WrongState("That is undone already.".to_owned()));
    }
    let reason = till_core::people::check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let line = facts::line(writing, BankLineId(known.line_id)).await?;
    let standing = sqlx::query!(
        r#"SELECT bank_matches.id AS "id!", bank_matches.entry_id AS "entry!", bank_matches.amount_minor AS "amount!", how AS "how!",
                  source_id AS "source!", source_number AS "number!"
           FROM bank_matches JOIN entries ON entries.id = bank_matches.entry_id
           WHERE line_id = ? AND undone_on IS NULL ORDER BY bank_matches.id"#,
        known.line_id
    )
    .fetch_all(&mut **writing)
    .await?;
    // A slip and what was counted short of it are one: neither fits the line alone.
    let together = standing.iter().any(|one| (one.amount > 0) != line.line.amount.is_positive());
    let undone = standing.iter().filter(|one| together || one.id == id.0);
    let was: Vec<&str> = undone.clone().map(|one| one.number.as_str()).collect();
    let all: i64 = undone.clone().map(|one| one.amount).sum();
    sqlx::query!("UPDATE bank_lines SET cleared_minor = cleared_minor - ? WHERE id = ?", all, known.line_id)
        .execute(&mut **writing)
        .await?;
    for one in undone {
        sqlx::query!(
            "UPDATE bank_matches SET undone_on = ?, undone_reason = ? WHERE id = ?",
            rules.business_date,
            reason,
            one.id
        )
        .execute(&mut **writing)
        .await?;
        let entry = EntryId(one.entry);
        said_by_bank(writing, entry, ("cleared", "at_bank")).await?;
        match one.how.as_str() {
            "receipt" => reverse_receipt(writing, rules, ReceiptId(one.source), &reason).await?,
            "booked" => book_back(writing, rules, &line, entry).await?,
            _ => {}
        }
    }
    let fields = vec![set("line", line.position + 1), set("was", was.join(", ")), set("reason", &reason)];
    let words = format!("opened a line of {} again", line.number);
    writing.note_on(
        (DocumentKind::BankStatement, line.statement.0, &line.number),
        "bank_line_opened",
        words,
        None,
        fields,
    );
    Ok(line.statement)
}

/// Reverses a receipt that was made of a line, where it still stands.
async fn reverse_receipt(writing: &mut Writing<'_>, rules: &Rules, receipt: ReceiptId, reason: &str) -> Result<()> {
    let row = sqlx::query!(
        r#"SELECT reversed_on IS NOT NULL AS "reversed!: bool", version FROM payments WHERE id = ?"#,
        receipt.0
    )
    .fetch_one(&mut **writing)
    .await?;
    if row.reversed {
        return Ok(());
    }
    let wish = ToReverse { date: None, reason: reason.to_owned() };
    let seen = receipts::preview_reverse(writing, rules, receipt, &wish).await?;
    if stops(&seen.blockers) {
        return Err(StoreError::Refused(seen.blockers));
    }
    receipts::reverse(writing, rules, receipt, (row.version, &seen.fingerprint), &wish).await?;
    Ok(())
}

/// Books back what was booked from a line.
async fn book_back(writing: &mut Writing<'_>, rules: &Rules, line: &Line, entry: EntryId) -> Result<()> {
    let posted = ledger::entry(writing, entry).await?.entry;
    let date = rules.business_date.max(posted.date);
    if let Some(obstacle) = rules.periods.obstacle(date) {
        return Err(StoreError::WrongState(obstacle));
    }
    let mut posting = Posting::default();
    let text = format!("{}, reversed", posted.text);
    posting.take_back(posted.reversed(date, text), entry);
    posting::write(writing, &line.document(), &posting).await?;
    Ok(())
}
