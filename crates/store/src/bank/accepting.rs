//! Clearing a line: against what the books expected, as a receipt of a customer, or booked to an account.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::{BookDecision, Certainty, Clue, Index, Proposal, Proposed, book};
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{
    BankLineId, BankMatchId, BankStatementId, CustomerId, DocumentKind, DocumentRef, EntryId, ReceiptId,
};
use till_core::money::Money;
use till_core::remittance::Advised;
use till_core::tape::{Change, Tape, TapeStyle};

use super::deposit_back::{self, deposit_back};
use super::facts::{self, Line, Lines};
use super::fitting::{book_input, expected_entry, payment_back, receipt, returned};
use super::slips;
use crate::disputes::DisputeWords;
use crate::receipts::{self, ChargeOn, NewApplication};
use crate::rules::{Rules, exchange_rate};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, ledger, posting};

/// What a line is to be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "as", rename_all = "snake_case")]
pub enum ToAccept {
    /// What the books expected: the entry that moved the account.
    Clears {
        /// The entry.
        entry: EntryId,
        /// Of a slip: what the bank counted otherwise is booked with it.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        counted: bool,
    },
    /// A payment that came back: its receipt, or deposit, is reversed on the day of the line, what the line takes more is the bank's fee.
    Returned {
        /// The receipt, or the deposit: they share their ids.
        receipt: ReceiptId,
        /// What the customer is charged for it; none for nothing.
        #[serde(default)]
        charge: Option<ChargeOn>,
    },
    /// A receipt of a customer, over all that is left of the line.
    Receipt {
        /// Whose.
        customer: CustomerId,
        /// Where it goes; none for what is suggested.
        #[serde(default)]
        applications: Option<Vec<NewApplication>>,
    },
    /// A fee, interest, or anything else that is nobody's payment.
    Book {
        /// The account's number; none for what is usual: fees where money left, other income where it came.
        #[serde(default)]
        account: Option<String>,
        /// What it is; empty for what the bank says.
        #[serde(default)]
        text: String,
        /// How much of the line, a decimal; none for all that is left.
        #[serde(default)]
        amount: Option<String>,
    },
}

/// What accepting a line would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AcceptPreview {
    /// The arithmetic.
    pub tape: Tape,
    /// The entry it will write; none where the books have it already.
    pub entry: Option<Entry>,
    /// Entries that are written with it: of the invoice over what is charged on.
    pub beside: Vec<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// A line that was accepted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Accepted {
    /// What it is cleared against.
    pub id: BankMatchId,
    /// The document that is: a receipt that was made, what was expected, the statement where it was booked.
    pub document: DocumentRef,
}

/// What accepting the sure lines of a statement did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SureAccepted {
    /// How many were accepted.
    pub accepted: usize,
    /// How many of those became receipts.
    pub receipts: usize,
    /// Lines that were sure and could not be accepted, with why: their place from one.
    pub left: Vec<(i64, String)>,
}

fn open(line: &Line) -> Result<()> {
    if line.left().is_zero() {
        return Err(StoreError::WrongState(
            "This line is cleared already, perhaps by someone else just now.".to_owned(),
        ));
    }
    Ok(())
}

/// What accepting a line would do. Nothing is written.
///
/// # Errors
/// A line that is cleared, what cannot be read, what the core refuses.
pub async fn preview_accept(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: BankLineId,
    wish: &ToAccept,
) -> Result<AcceptPreview> {
    let line = facts::line(connection, id).await?;
    open(&line)?;
    match wish {
        ToAccept::Clears { entry, counted } => {
            let fits = expected_entry(connection, rules, &line, (*entry, *counted)).await?;
            let fingerprint = fits.mark(&line);
            let mut tape = Tape::new(fits.document.number.clone(), format!("line of {}", line.number), line.currency);
            tape.amount(TapeStyle::Line, "expected", fits.amount);
            if let Some(counted) = &fits.counted {
                let label = if counted.amount.is_positive() { "counted over" } else { "counted short" };
                tape.amount(TapeStyle::Line, label, counted.amount);
            }
            let settled = fits.amount + fits.counted.as_ref().map_or(Money::ZERO, |counted| counted.amount);
            tape.amount(TapeStyle::Due, "Left of the line", line.left() - settled);
            let (entry, blockers) = match fits.counted {
                Some(counted) => (counted.decision.entry, counted.decision.blockers),
                None => (Some(ledger::entry(connection, *entry).await?.entry), Vec::new()),
            };
            Ok(AcceptPreview { tape, entry, beside: Vec::new(), changes: Vec::new(), blockers, fingerprint })
        }
        ToAccept::Returned { receipt, charge } => {
            let back = payment_back(connection, &line, *receipt).await?;
            if back.kind == DocumentKind::Deposit {
                let back = deposit_back(&line, (*receipt, back), charge)?;
                return deposit_back::preview(connection, rules, &line, &back).await;
            }
            let wish = returned(&line, &back, charge);
            let preview = receipts::preview_reverse(connection, rules, *receipt, &wish).await?;
            let mut entries = preview.entries.into_iter().map(|one| one.entry);
            Ok(AcceptPreview {
                tape: preview.tape,
                entry: entries.next(),
                beside: entries.collect(),
                changes: preview.changes,
                blockers: preview.blockers,
                fingerprint: preview.fingerprint,
            })
        }
        ToAccept::Receipt { customer, applications } => {
            let (new, method) = receipt(connection, &line, (*customer, applications.clone())).await?;
            let preview = receipts::preview_by(connection, rules, &new, method).await?;
            Ok(AcceptPreview {
                tape: preview.tape,
                entry: preview.entry,
                beside: Vec::new(),
                changes: preview.changes,
                blockers: preview.blockers,
                fingerprint: preview.fingerprint,
            })
        }
        ToAccept::Book { account, text, amount } => {
            let input = book_input(connection, rules, &line, (account, text, amount)).await?;
            let decision = book(&input);
            Ok(AcceptPreview {
                tape: decision.tape,
                entry: decision.entry,
                beside: Vec::new(),
                changes: Vec::new(),
                blockers: decision.blockers,
                fingerprint: decision.fingerprint,
            })
        }
    }
}

/// Accepts a line as something.
///
/// # Errors
/// As [`preview_accept`]; [`StoreError::Moved`] where a figure changed since it was seen.
pub async fn accept(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: BankLineId,
    wish: &ToAccept,
    seen: Option<&str>,
) -> Result<Accepted> {
    let line = facts::line(writing, id).await?;
    open(&line)?;
    // What is booked with what clears the line, together with it.
    let mut beside: Vec<(EntryId, Money, &str)> = Vec::new();
    let (document, entry, amount, how) = match wish {
        ToAccept::Clears { entry, counted } => {
            let fits = expected_entry(writing, rules, &line, (*entry, *counted)).await?;
            writing.saw(seen, &fits.mark(&line))?;
            if let Some(counted) = &fits.counted {
                if stops(&counted.decision.blockers) {
                    return Err(StoreError::Refused(counted.decision.blockers.clone()));
                }
                let rate = exchange_rate(writing, rules, line.currency, line.line.booked_on).await?;
                let short = rate.map_or(Money::ZERO, |rate| (-counted.amount).to_base(rate, line.currency, rules.base));
                slips::within_limit(writing, rules, short).await?;
                let booked = write_booking(writing, &line, &counted.decision).await?;
                beside.push((booked, counted.amount, "booked"));
            }
            (fits.document, fits.entry, fits.amount, "cleared")
        }
        ToAccept::Returned { receipt, charge } => {
            let back = payment_back(writing, &line, *receipt).await?;
            if back.kind == DocumentKind::Deposit {
                let back = deposit_back(&line, (*receipt, back), charge)?;
                let (document, (entry, moved), fee) = deposit_back::post(writing, rules, (&line, &back), seen).await?;
                beside.extend(fee.map(|(entry, amount)| (entry, amount, "booked")));
                return done(writing, rules, (&line, document), (entry, moved, "cleared"), beside).await;
            }
            let wish = returned(&line, &back, charge);
            let seen = match seen {
                Some(seen) => seen.to_owned(),
                None => receipts::preview_reverse(writing, rules, *receipt, &wish).await?.fingerprint,
            };
            receipts::reverse(writing, rules, *receipt, (back.version, &seen), &wish).await?;
            let entry = sqlx::query_scalar!(
                r#"SELECT reversal_entry_id AS "entry!: i64" FROM payments WHERE id = ?"#,
                receipt.0
            )
            .fetch_one(&mut **writing)
            .await?;
            let document = DocumentRef { kind: DocumentKind::Receipt, id: receipt.0, number: back.number };
            (document, EntryId(entry), line.left(), "cleared")
        }
        ToAccept::Receipt { customer, applications } => {
            let (new, method) = receipt(writing, &line, (*customer, applications.clone())).await?;
            let posted = receipts::post_by(writing, rules, &new, method, seen).await?;
            let entry = sqlx::query_scalar!("SELECT entry_id FROM payments WHERE id = ?", posted.id.0)
                .fetch_one(&mut **writing)
                .await?;
            let document = DocumentRef { kind: DocumentKind::Receipt, id: posted.id.0, number: posted.number };
            (document, EntryId(entry), line.left(), "receipt")
        }
        ToAccept::Book { account, text, amount } => {
            let input = book_input(writing, rules, &line, (account, text, amount)).await?;
            let decision = book(&input);
            if stops(&decision.blockers) {
                return Err(StoreError::Refused(decision.blockers));
            }
            writing.saw(seen, &decision.fingerprint)?;
            let entry = write_booking(writing, &line, &decision).await?;
            (line.document(), entry, input.amount, "booked")
        }
    };
    done(writing, rules, (&line, document), (entry, amount, how), beside).await
}

/// Ties a line to what it was accepted as, and notes it.
async fn done(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (line, document): (&Line, DocumentRef),
    (entry, amount, how): (EntryId, Money, &str),
    beside: Vec<(EntryId, Money, &str)>,
) -> Result<Accepted> {
    let mut ties = vec![(entry, amount, how)];
    ties.extend(beside);
    let made = tie(writing, rules, line, &ties).await?;
    let fields =
        vec![set("amount", line.currency.format(amount)), set("line", line.position + 1), set("as", &document.number)];
    let words = format!("cleared a line of {}", line.number);
    writing.note_on(
        (DocumentKind::BankStatement, line.statement.0, &line.number),
        "bank_line_cleared",
        words,
        None,
        fields,
    );
    Ok(Accepted { id: made, document })
}

/// Writes what a line is booked as.
pub(super) async fn write_booking(writing: &mut Writing<'_>, line: &Line, decision: &BookDecision) -> Result<EntryId> {
    let written = posting::write(writing, &line.document(), &decision.posting()).await?;
    written.first().copied().ok_or(StoreError::Moved)
}

/// Ties a line to entries; what is at the bank is cleared from then on. Returns the first match.
async fn tie(
    writing: &mut Writing<'_>,
    rules: &Rules,
    line: &Line,
    ties: &[(EntryId, Money, &str)],
) -> Result<BankMatchId> {
    let first = crate::open_items::next_id(writing, "bank_matches").await?;
    let all: Money = ties.iter().map(|(_, amount, _)| *amount).sum();
    for (id, (entry, amount, how)) in (first..).zip(ties) {
        sqlx::query!(
            "INSERT INTO bank_matches (id, line_id, entry_id, amount_minor, how, matched_on) VALUES (?, ?, ?, ?, ?, ?)",
            id,
            line.id.0,
            entry.0,
            amount.0,
            how,
            rules.business_date
        )
        .execute(&mut **writing)
        .await?;
        said_by_bank(writing, *entry, ("at_bank", "cleared")).await?;
    }
    sqlx::query!("UPDATE bank_lines SET cleared_minor = cleared_minor + ? WHERE id = ?", all.0, line.id.0)
        .execute(&mut **writing)
        .await?;
    Ok(BankMatchId(first))
}

/// A proposal as a wish.
pub(super) fn wished(proposal: &Proposal, line: &Line) -> ToAccept {
    match &proposal.what {
        Proposed::Clears { entry, apart, .. } => ToAccept::Clears { entry: *entry, counted: !apart.is_zero() },
        Proposed::Returned { receipt, .. } => ToAccept::Returned { receipt: ReceiptId(receipt.id), charge: None },
        Proposed::Receipt { customer, to } => {
            let said = |amount: Money| line.currency.format(amount);
            // An advice names its documents in the order it is given as; what is sure settles them, and leaves nothing to dispute.
            let advised = line
                .line
                .advised
                .iter()
                .filter(|_| proposal.because.contains(&Clue::Advice) && proposal.certainty != Certainty::Sure);
            let taken_off = |one: &Advised| one.deducted.is_positive().then(|| DisputeWords::deduction(&one.words));
            let mut disputes = advised.map(taken_off);
            let applications = to
                .iter()
                .map(|part| NewApplication {
                    discount: Some(said(part.beside.discount)),
                    dispute: disputes.next().flatten(),
                    write_off: (!part.beside.written_off.is_zero()).then(|| said(part.beside.written_off)),
                    ..NewApplication::to_item(part.item, said(part.amount))
                })
                .collect();
            ToAccept::Receipt { customer: *customer, applications: Some(applications) }
        }
        Proposed::Book { .. } => ToAccept::Book { account: None, text: String::new(), amount: None },
    }
}

/// A mark of what the sure lines of a statement are proposed to be: what someone sees who accepts them together.
pub(super) fn sure_mark(sure: &[(BankLineId, ToAccept)]) -> String {
    till_core::fingerprint::of(&sure)
}

/// Accepts every open line of a statement whose best proposal is sure, each as if it were accepted by itself.
///
/// # Errors
/// [`StoreError::Moved`] where other lines are sure, or as something else, than was seen; where nothing is sure.
pub async fn accept_sure(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: BankStatementId,
    seen: Option<&str>,
) -> Result<SureAccepted> {
    let lines = facts::lines(writing, Lines::OpenOf(id)).await?;
    let Some(first) = lines.first() else {
        return Err(StoreError::WrongState("Every line of this statement is cleared.".to_owned()));
    };
    let mut index = facts::index(writing, rules, id, (&first.place, first.currency)).await?;
    let untouched = || lines.iter().filter(|line| line.cleared.is_zero());
    let best = |index: &Index, line: &Line| {
        index.propose(&line.line).into_iter().next().filter(|first| first.certainty == Certainty::Sure)
    };
    let sure: Vec<(BankLineId, ToAccept)> =
        untouched().filter_map(|line| Some((line.id, wished(&best(&index, line)?, line)))).collect();
    writing.saw(seen, &sure_mark(&sure))?;
    let mut done = SureAccepted { accepted: 0, receipts: 0, left: Vec::new() };
    for line in untouched() {
        let Some(proposal) = best(&index, line) else { continue };
        match accept_one(writing, rules, line, &wished(&proposal, line)).await {
            Ok(()) => {
                done.accepted += 1;
                done.receipts += usize::from(matches!(proposal.what, Proposed::Receipt { .. }));
                index.accepted(&line.line, &proposal);
            }
            // What is refused wrote nothing: the line stays open, and says why.
            Err(StoreError::Refused(blockers)) => {
                let why = blockers.first().map(|blocker| blocker.sentence.clone()).unwrap_or_default();
                done.left.push((line.position + 1, why));
            }
            Err(
                StoreError::WrongState(why) | StoreError::Invalid { sentence: why, .. } | StoreError::NotAllowed(why),
            ) => {
                done.left.push((line.position + 1, why));
            }
            Err(other) => return Err(other),
        }
    }
    if done.accepted == 0 {
        let why = done.left.first().map_or_else(
            || "No line is sure. Accept the likely ones one by one.".to_owned(),
            |(line, why)| format!("Nothing was accepted. Line {line}: {why}"),
        );
        return Err(StoreError::WrongState(why));
    }
    Ok(done)
}

/// Accepts a line as what it was seen to be, among others that are accepted with it.
async fn accept_one(writing: &mut Writing<'_>, rules: &Rules, line: &Line, wish: &ToAccept) -> Result<()> {
    let preview = preview_accept(writing, rules, line.id, wish).await?;
    if stops(&preview.blockers) {
        return Err(StoreError::Refused(preview.blockers));
    }
    accept(writing, rules, line.id, wish, Some(&preview.fingerprint)).await.map(|_| ())
}

/// Says of what an entry brought to the bank, by itself or on a slip, that a bank statement says so, or does not any more.
pub(super) async fn said_by_bank(writing: &mut Writing<'_>, entry: EntryId, (from, to): (&str, &str)) -> Result<()> {
    sqlx::query!(
        "UPDATE payments SET whereabouts = ?3 WHERE whereabouts = ?2 AND (entry_id = ?1 OR entry_id IN (
            SELECT bank_slip_lines.entry_id FROM bank_slips JOIN bank_slip_lines ON slip_id = bank_slips.id WHERE bank_slips.entry_id = ?1 AND live))",
        entry.0,
        from,
        to
    )
    .execute(&mut **writing)
    .await?;
    Ok(())
}
