//! Clearing a line: against what the books expected, as a receipt of a customer, or booked to an account. And undoing it.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::bank::{BookDecision, BookInput, Booking, Certainty, Index, Proposal, Proposed, book};
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{
    BankLineId, BankMatchId, BankStatementId, CustomerId, DocumentKind, DocumentRef, EntryId, ReceiptId,
};
use till_core::money::Money;
use till_core::posting::Posting;
use till_core::settle::Method;
use till_core::tape::{Change, Tape, TapeStyle};

use super::facts::{self, Line, Lines};
use super::slips;
use crate::convert::known;
use crate::receipts::{self, ChargeOn, NewApplication, NewReceipt, ToReverse, ToReverseReceipt};
use crate::rules::{Rules, exchange_rate};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, ledger, money_places, posting};

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
    /// A payment that came back: its receipt is reversed on the day of the line, what the line takes more is the bank's fee.
    Returned {
        /// The receipt.
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

/// The way money came to a bank account, as receipts name it.
async fn method(connection: &mut SqliteConnection, place: &str) -> Result<Method> {
    let row = sqlx::query!(
        "SELECT code, name FROM payment_methods WHERE place = ? ORDER BY active DESC, position LIMIT 1",
        place
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| {
        StoreError::WrongState("No way of paying leads to this bank account. Add one in Setup.".to_owned())
    })?;
    Ok(Method { code: row.code, name: row.name, place: money_places::place(connection, place).await? })
}

async fn receipt(
    connection: &mut SqliteConnection,
    line: &Line,
    (customer, applications): (CustomerId, Option<Vec<NewApplication>>),
) -> Result<(NewReceipt, Method)> {
    let left = line.left();
    if !left.is_positive() {
        return Err(StoreError::WrongState("Money left with this line: it is no receipt.".to_owned()));
    }
    let (facts, money) = customers::facts(connection, customer).await?;
    if money != line.currency {
        let sentence = format!("{} pays in {money}, the account is kept in {}.", facts.name, line.currency);
        return Err(StoreError::invalid("customer", sentence));
    }
    let method = method(connection, &line.place).await?;
    let words: Vec<&str> =
        [line.line.reference.as_deref(), Some(line.line.words.as_str())].into_iter().flatten().collect();
    let reference: String = words.join(" ").trim().chars().take(140).collect();
    let new = NewReceipt {
        customer,
        method: method.code.clone(),
        date: Some(line.line.booked_on),
        amount: line.currency.format(left),
        reference: (!reference.is_empty()).then_some(reference),
        applications,
        first: None,
        with: Vec::new(),
    };
    Ok((new, method))
}

async fn book_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    line: &Line,
    (account, text, amount): (&Option<String>, &str, &Option<String>),
) -> Result<BookInput<'a>> {
    let typed = account.as_deref().map(str::trim).filter(|text| !text.is_empty());
    let booking = match typed {
        Some(number) => {
            let row = sqlx::query!("SELECT number, name, account_type FROM accounts WHERE number = ?", number)
                .fetch_optional(&mut *connection)
                .await?
                .ok_or_else(|| StoreError::invalid("account", format!("There is no account {number}.")))?;
            let account_type = known(&row.account_type, AccountType::of)?;
            Booking::Account(Account { number: row.number, name: row.name, account_type })
        }
        None => Booking::Usual(line.line.kind),
    };
    let left = line.left();
    let amount = match amount.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        Some(text) => {
            let typed = line.currency.parse(text).map_err(|error| StoreError::decimal("amount", &error))?;
            // A part is typed without its sign: it goes where the line goes.
            let signed = if left.is_positive() { typed } else { -typed.abs() };
            if signed.is_zero() || signed.abs() > left.abs() || signed.is_positive() != left.is_positive() {
                let sentence = format!("{} of the line is left.", line.currency.grouped(left.abs()));
                return Err(StoreError::invalid("amount", sentence));
            }
            signed
        }
        None => left,
    };
    let said = [text.trim(), line.line.words.trim(), "line of the bank"].into_iter().find(|text| !text.is_empty());
    let text = said.unwrap_or_default().chars().take(80).collect();
    Ok(BookInput { text, amount, ..plain_input(connection, rules, line, booking).await? })
}

/// All that is left of a line, booked as something.
async fn plain_input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    line: &Line,
    booking: Booking,
) -> Result<BookInput<'a>> {
    Ok(BookInput {
        number: line.number.clone(),
        text: String::new(),
        place: money_places::place(connection, &line.place).await?,
        amount: line.left(),
        currency: line.currency,
        rate: exchange_rate(connection, rules, line.currency, line.line.booked_on).await?,
        base: rules.base,
        booking,
        date: DocumentDate { date: line.line.booked_on, typed: false },
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// An entry that was expected, with what the line says otherwise.
struct Fits {
    document: DocumentRef,
    entry: EntryId,
    /// What the entry moved the account by.
    amount: Money,
    /// What the bank counted more; below zero where it counted less. Booked with it.
    counted: Option<Counted>,
}

/// What the bank counted otherwise of a slip.
struct Counted {
    amount: Money,
    decision: BookDecision,
}

impl Fits {
    fn mark(&self, line: &Line) -> String {
        let counted = self.counted.as_ref().map(|counted| &counted.decision.fingerprint);
        till_core::fingerprint::of(&(line.id, self.entry, self.amount, line.left(), counted))
    }
}

/// The entry that was expected, as far as it still is.
async fn expected_entry(
    connection: &mut SqliteConnection,
    rules: &Rules,
    line: &Line,
    (entry, counted): (EntryId, bool),
) -> Result<Fits> {
    let expected = facts::expected(connection, rules, &line.place, line.currency).await?;
    let one = expected
        .into_iter()
        .find(|one| one.entry == entry)
        .ok_or_else(|| StoreError::WrongState("That is cleared already, or is not of this account.".to_owned()))?;
    let left = line.left();
    let slip = one.document.kind == DocumentKind::BankSlip;
    if counted && slip && one.amount != left && left.is_positive() {
        let apart = left - one.amount;
        let text = format!("{} counted {}", one.document.number, if apart.is_positive() { "over" } else { "short" });
        let input = BookInput { text, amount: apart, ..plain_input(connection, rules, line, Booking::Counted).await? };
        let counted = Counted { amount: apart, decision: book(&input) };
        return Ok(Fits { document: one.document, entry, amount: one.amount, counted: Some(counted) });
    }
    if one.amount.is_positive() != left.is_positive() || one.amount.abs() > left.abs() {
        let sentence = format!(
            "{} is {}, of the line {} is left.",
            one.document.number,
            line.currency.grouped(one.amount),
            line.currency.grouped(left)
        );
        return Err(StoreError::WrongState(sentence));
    }
    Ok(Fits { document: one.document, entry, amount: one.amount, counted: None })
}

/// What a line that came back makes of the receipt it was.
async fn returned(
    connection: &mut SqliteConnection,
    line: &Line,
    (receipt, charge): (ReceiptId, &Option<ChargeOn>),
) -> Result<ToReverseReceipt> {
    let left = -line.left();
    if !left.is_positive() {
        return Err(StoreError::WrongState("Money came with this line: nothing came back.".to_owned()));
    }
    let row = sqlx::query!("SELECT number, currency, amount_minor FROM payments WHERE id = ?", receipt.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, receipt))?;
    let amount = Money(row.amount_minor);
    if row.currency != line.currency.code() || amount > left {
        let sentence = format!(
            "{} is over {} {}, of the line {} {} is left.",
            row.number,
            crate::convert::currency(&row.currency)?.grouped(amount),
            row.currency,
            line.currency.grouped(left),
            line.currency
        );
        return Err(StoreError::WrongState(sentence));
    }
    let fee = left - amount;
    let said = [line.line.words.trim(), "returned by the bank"].into_iter().find(|text| !text.is_empty());
    Ok(ToReverseReceipt {
        date: Some(line.line.booked_on),
        reason: said.unwrap_or_default().chars().take(140).collect(),
        fee: fee.is_positive().then(|| line.currency.format(fee)),
        charge: charge.clone(),
    })
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
            Ok(AcceptPreview { tape, entry, changes: Vec::new(), blockers, fingerprint })
        }
        ToAccept::Returned { receipt, charge } => {
            let wish = returned(connection, &line, (*receipt, charge)).await?;
            let preview = receipts::preview_reverse(connection, rules, *receipt, &wish).await?;
            Ok(AcceptPreview {
                tape: preview.tape,
                entry: preview.entries.into_iter().next().map(|one| one.entry),
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
            let wish = returned(writing, &line, (*receipt, charge)).await?;
            let row = sqlx::query!("SELECT number, version FROM payments WHERE id = ?", receipt.0)
                .fetch_one(&mut **writing)
                .await?;
            let seen = match seen {
                Some(seen) => seen.to_owned(),
                None => receipts::preview_reverse(writing, rules, *receipt, &wish).await?.fingerprint,
            };
            receipts::reverse(writing, rules, *receipt, (row.version, &seen), &wish).await?;
            let entry = sqlx::query_scalar!(
                r#"SELECT reversal_entry_id AS "entry!: i64" FROM payments WHERE id = ?"#,
                receipt.0
            )
            .fetch_one(&mut **writing)
            .await?;
            let document = DocumentRef { kind: DocumentKind::Receipt, id: receipt.0, number: row.number };
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
    let mut ties = vec![(entry, amount, how)];
    ties.extend(beside);
    let made = tie(writing, rules, &line, &ties).await?;
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
async fn write_booking(writing: &mut Writing<'_>, line: &Line, decision: &BookDecision) -> Result<EntryId> {
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

/// Says of what an entry brought to the bank, by itself or on a slip, that a bank statement says so, or does not any more.
async fn said_by_bank(writing: &mut Writing<'_>, entry: EntryId, (from, to): (&str, &str)) -> Result<()> {
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

/// A proposal as a wish.
pub(super) fn wished(proposal: &Proposal, line: &Line) -> ToAccept {
    match &proposal.what {
        Proposed::Clears { entry, apart, .. } => ToAccept::Clears { entry: *entry, counted: !apart.is_zero() },
        Proposed::Returned { receipt, .. } => ToAccept::Returned { receipt: ReceiptId(receipt.id), charge: None },
        Proposed::Receipt { customer, to } => {
            let said = |amount: Money| line.currency.format(amount);
            let applications = to
                .iter()
                .map(|part| NewApplication {
                    discount: Some(said(part.beside.discount)),
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
