//! What a line is taken for, as the core wants it: a receipt, a booking, what the books expected, a payment that came back.

use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::bank::{BookDecision, BookInput, Booking, CameBack, book, fee_of};
use till_core::calendar::DocumentDate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, EntryId, OpenItemId, ReceiptId};
use till_core::money::Money;
use till_core::settle::Method;

use super::facts::{self, Line};
use super::slips;
use crate::convert::known;
use crate::receipts::{ChargeOn, NewApplication, NewReceipt, ToReverseReceipt};
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError, customers, disputes, money_places};

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

pub(super) async fn receipt(
    connection: &mut SqliteConnection,
    line: &Line,
    (customer, applications): (CustomerId, Option<Vec<NewApplication>>),
) -> Result<(NewReceipt, Method)> {
    let left = line.left();
    if !left.is_positive() {
        return Err(StoreError::WrongState("Money left with this line: it is no receipt.".to_owned()));
    }
    // Also of someone who is billed in another currency: what they owe is converted at the rates of the day.
    let (_, money) = customers::facts(connection, customer).await?;
    let applications = match applications {
        Some(typed) => Some(without_standing_disputes(connection, line, typed).await?),
        None => None,
    };
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
        currency: (money != line.currency).then(|| line.currency.code().to_owned()),
    };
    Ok((new, method))
}

/// The same, without putting into dispute what is there already: an advice says what was taken off whatever became of it before.
async fn without_standing_disputes(
    connection: &mut SqliteConnection,
    line: &Line,
    typed: Vec<NewApplication>,
) -> Result<Vec<NewApplication>> {
    let items: Vec<OpenItemId> = typed.iter().filter(|one| one.dispute.is_some()).filter_map(|one| one.item).collect();
    if items.is_empty() {
        return Ok(typed);
    }
    let standing = disputes::over(connection, line.line.booked_on, &items).await?;
    let once = |one: NewApplication| match one.item {
        Some(item) if standing.contains_key(&item) => NewApplication { dispute: None, ..one },
        _ => one,
    };
    Ok(typed.into_iter().map(once).collect())
}

pub(super) async fn book_input<'a>(
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
pub(super) async fn plain_input<'a>(
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
pub(super) struct Fits {
    pub(super) document: DocumentRef,
    pub(super) entry: EntryId,
    /// What the entry moved the account by.
    pub(super) amount: Money,
    /// What the bank counted more; below zero where it counted less. Booked with it.
    pub(super) counted: Option<Counted>,
}

/// What the bank counted otherwise of a slip.
pub(super) struct Counted {
    pub(super) amount: Money,
    pub(super) decision: BookDecision,
}

impl Fits {
    pub(super) fn mark(&self, line: &Line) -> String {
        let counted = self.counted.as_ref().map(|counted| &counted.decision.fingerprint);
        till_core::fingerprint::of(&(line.id, self.entry, self.amount, line.left(), counted))
    }
}

/// The entry that was expected, as far as it still is.
pub(super) async fn expected_entry(
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

/// A payment that a line took back.
pub(super) struct PaymentBack {
    pub(super) kind: DocumentKind,
    pub(super) number: String,
    pub(super) version: i64,
    /// What the line takes more.
    pub(super) fee: Money,
}

/// The payment that a line took back, with what the bank takes for it.
pub(super) async fn payment_back(
    connection: &mut SqliteConnection,
    line: &Line,
    payment: ReceiptId,
) -> Result<PaymentBack> {
    let row = sqlx::query!(
        "SELECT kind, number, currency, amount_minor, entry_id, place, version FROM payments WHERE id = ?",
        payment.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, payment))?;
    let was_here = match &row.place {
        Some(place) => slips::place_now(connection, (row.entry_id, &row.number), place).await?.code == line.place,
        None => false,
    };
    let fee = fee_of(&CameBack {
        number: &row.number,
        amount: (Money(row.amount_minor), crate::convert::currency(&row.currency)?),
        was_here,
        left: (-line.left(), line.currency),
    })
    .map_err(StoreError::WrongState)?;
    Ok(PaymentBack { kind: crate::convert::kind(&row.kind)?, number: row.number, version: row.version, fee })
}

/// What a line that came back makes of the receipt it was.
pub(super) fn returned(line: &Line, back: &PaymentBack, charge: &Option<ChargeOn>) -> ToReverseReceipt {
    ToReverseReceipt {
        date: Some(line.line.booked_on),
        reason: came_back(line),
        fee: back.fee.is_positive().then(|| line.currency.format(back.fee)),
        charge: charge.clone(),
    }
}

/// Why what a line took back is reversed: as the bank says it.
pub(super) fn came_back(line: &Line) -> String {
    let said = [line.line.words.trim(), "returned by the bank"].into_iter().find(|text| !text.is_empty());
    said.unwrap_or_default().chars().take(140).collect()
}
