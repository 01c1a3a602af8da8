//! Taking back the end of a deposit: a refund that was never sent, a part kept as income in error.

use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::stops;
use till_core::deposit::ending::EndKind;
use till_core::deposit::undoing::{UndoDecision, UndoInput, decide};
use till_core::ids::{DepositId, DocumentKind, DocumentRef, EntryId, OrderId};
use till_core::money::Money;
use till_core::open_items::Side;

use super::EndPreview;
use crate::convert::known;
use crate::receipts::ToReverse;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, ledger, open_items, orders, posting, sensible_date};

struct Loaded<'a> {
    input: UndoInput<'a>,
    /// The number of the deposit.
    deposit: String,
    order: Option<i64>,
    version: i64,
}

async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (deposit, end): (DepositId, i64),
    wish: &ToReverse,
) -> Result<Loaded<'a>> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let row = sqlx::query!(
        r#"SELECT deposit_ends.number, deposit_ends.kind, deposit_ends.entry_id, payments.customer_id, payments.number AS deposit, order_id, version
           FROM deposit_ends JOIN payments ON payments.id = deposit_id JOIN deposits ON deposits.id = deposit_id
           WHERE deposit_ends.id = ? AND deposit_id = ?"#,
        end,
        deposit.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::DepositEnd, end))?;
    let (customer, _) = customers::facts(connection, till_core::ids::CustomerId(row.customer_id)).await?;
    let against = open_items::item_of(connection, DocumentKind::DepositEnd, end, Side::OwedToUs).await?;
    let standing = open_items::standing_on_debit(connection, against.id).await?;
    let entry = EntryId(row.entry_id);
    let input = UndoInput {
        // What closes it once it is taken back is of its own kind.
        standing: standing.into_iter().find(|one| one.credit.document.kind == DocumentKind::Deposit),
        number: row.number,
        kind: known(&row.kind, EndKind::of)?,
        entry: (entry, ledger::entry(connection, entry).await?.entry),
        customer_name: customer.name,
        date: DocumentDate::or_business_date(wish.date, rules.business_date),
        reason: wish.reason.trim().to_owned(),
        dates: DateOrder::of_today(rules.business_date),
        periods: &rules.periods,
    };
    Ok(Loaded { input, deposit: row.deposit, order: row.order_id, version: row.version })
}

impl Loaded<'_> {
    fn amount(&self) -> Money {
        self.input.standing.as_ref().map_or(Money::ZERO, |standing| standing.used.0)
    }

    fn shown(&self, decision: UndoDecision) -> EndPreview {
        EndPreview {
            currency: self.input.entry.1.currency,
            amount: self.amount(),
            entry: Some(decision.entry),
            tape: decision.tape,
            changes: decision.changes,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// What taking back the end of a deposit would do.
///
/// # Errors
/// [`StoreError::NotFound`]; a date that makes no sense.
pub async fn preview_undo(
    connection: &mut SqliteConnection,
    rules: &Rules,
    end: (DepositId, i64),
    wish: &ToReverse,
) -> Result<EndPreview> {
    let loaded = load(connection, rules, end, wish).await?;
    Ok(loaded.shown(decide(&loaded.input)))
}

/// Takes back the end of a deposit: what was refunded or kept is held again. Returns the deposit's new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn undo(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (deposit, end): (DepositId, i64),
    (version, seen): (i64, &str),
    wish: &ToReverse,
) -> Result<i64> {
    let loaded = load(writing, rules, (deposit, end), wish).await?;
    if version != loaded.version {
        return Err(StoreError::Stale { what: loaded.deposit, current: loaded.version });
    }
    let decision = decide(&loaded.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(Some(seen), &decision.fingerprint)?;
    let input = &loaded.input;
    let source = DocumentRef { kind: DocumentKind::DepositEnd, id: end, number: input.number.clone() };
    let written = posting::write(writing, &source, &decision.posting(input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let (date, after) = (input.date.date, version + 1);
    sqlx::query!(
        "UPDATE deposit_ends SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ? WHERE id = ?",
        date,
        input.reason,
        entry.0,
        end
    )
    .execute(&mut **writing)
    .await?;
    // Whatever was written of it counts as one version.
    sqlx::query!("UPDATE payments SET version = ? WHERE id = ?", after, deposit.0).execute(&mut **writing).await?;
    let order = loaded.order.map(OrderId);
    orders::refresh_states(writing, order.as_slice()).await?;
    let amount = input.entry.1.currency.format(loaded.amount());
    let fields = vec![set("amount", amount), set("reason", &input.reason)];
    let words = format!("reversed {} of {}", input.number, loaded.deposit);
    writing.note_on(
        (DocumentKind::Deposit, deposit.0, &loaded.deposit),
        "deposit_end_reversed",
        words,
        Some(after),
        fields,
    );
    Ok(after)
}
