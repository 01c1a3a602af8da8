//! Taking a deposit.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::deposit::{AdvanceTax, Comes, HeldTax, TakeInput, take as decide};
use till_core::entry::Entry;
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DepositId, DocumentKind, DocumentRef, OrderId, QuoteId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::settle::Method;
use till_core::tape::{Change, Tape};

use super::facts::{quoted, target};
use crate::convert::json;
use crate::rules::{Rules, date_order, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customer_pages, customers, money_places, open_items, orders, posting, sensible_date};

/// A deposit to take, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewDeposit {
    /// Who paid.
    pub customer: CustomerId,
    /// The order it is for; none on account.
    #[serde(default)]
    pub order: Option<OrderId>,
    /// The quote it is for, instead of an order.
    #[serde(default)]
    pub quote: Option<QuoteId>,
    /// How: the code of a way of paying; empty where it is made of a receipt.
    #[serde(default)]
    pub method: String,
    /// The receipt it is made of: what lies unapplied there, instead of money that comes in.
    #[serde(default)]
    pub receipt: Option<ReceiptId>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// A decimal in the currency of the order, or of the customer.
    pub amount: String,
    /// Check number, words of the transfer.
    #[serde(default)]
    pub reference: Option<String>,
    /// A note for ourselves.
    #[serde(default)]
    pub memo: Option<String>,
}

/// A deposit as it would be taken.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DepositPreview {
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// All of it.
    pub amount: Money,
    /// When tax on it is due.
    pub regime: AdvanceTax,
    /// Tax that stands on it, by code.
    pub taxes: Vec<HeldTax>,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What it changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub fingerprint: String,
}

/// A deposit that was taken.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedDeposit {
    /// Its id.
    pub id: DepositId,
    /// Its number.
    pub number: String,
}

fn said(text: &Option<String>) -> Option<&str> {
    text.as_deref().map(str::trim).filter(|text| !text.is_empty())
}

/// Where the money of a deposit comes from: it comes in now, or lies unapplied on a receipt of the customer.
async fn comes(connection: &mut SqliteConnection, new: &NewDeposit) -> Result<Comes> {
    let Some(receipt) = new.receipt else {
        return Ok(Comes::In { method: money_places::method(connection, &new.method).await? });
    };
    let none = || StoreError::invalid("receipt", format!("There is no receipt {receipt} of this customer."));
    let item = open_items::of_document(connection, DocumentKind::Receipt, receipt.0, Side::OwedByUs).await?;
    let item = open_items::load(connection, item.as_slice()).await?.pop();
    let mine =
        |item: &till_core::open_items::OpenItem| item.customer == new.customer && item.purpose == Purpose::Unapplied;
    Ok(Comes::Unapplied { item: item.filter(mine).ok_or_else(none)? })
}

/// How the money came and where it is, as its row says: what was reserved came as the receipt did, and is where it was.
struct Came {
    method: String,
    place: Option<String>,
    whereabouts: &'static str,
    rate: ExchangeRate,
    turned_from: Option<i64>,
}

async fn came(connection: &mut SqliteConnection, input: &TakeInput<'_>) -> Result<Came> {
    match &input.comes {
        Comes::In { method } => Ok(Came {
            method: method.code.clone(),
            place: Some(method.place.code.clone()),
            whereabouts: if method.place.kind.purpose() == Purpose::Bank { "at_bank" } else { "in_hand" },
            rate: input.rate.unwrap_or(ExchangeRate::ONE),
            turned_from: None,
        }),
        Comes::Unapplied { item } => {
            let of = sqlx::query!("SELECT method, rate_e9 FROM payments WHERE id = ?", item.document.id);
            let of = of.fetch_one(connection).await?;
            Ok(Came {
                method: of.method,
                place: None,
                whereabouts: "none",
                rate: ExchangeRate::from_scaled(of.rate_e9),
                turned_from: Some(item.id.0),
            })
        }
    }
}

async fn input<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    new: &NewDeposit,
    comes: Comes,
) -> Result<TakeInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    for (field, text, most) in [("reference", &new.reference, 140), ("memo", &new.memo, 500)] {
        if text.as_deref().is_some_and(|text| text.chars().count() > most) {
            return Err(StoreError::invalid(field, format!("Write {most} characters at most.")));
        }
    }
    let (customer, own) = customers::facts(connection, new.customer).await?;
    let target = match (new.order, new.quote) {
        (Some(_), Some(_)) => {
            return Err(StoreError::invalid("quote", "A deposit is for an order or for a quote, not for both."));
        }
        (Some(order), None) => Some(target(connection, rules, order, new.customer).await?),
        (None, Some(quote)) => Some(quoted(connection, rules, quote, new.customer).await?),
        (None, None) => None,
    };
    // Money that is there already is in a currency of its own.
    let currency = match &comes {
        Comes::In { .. } => target.as_ref().map_or(own, |target| target.currency),
        Comes::Unapplied { item } => item.currency,
    };
    let date = DocumentDate::or_business_date(new.date, rules.business_date);
    let held_before = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(open_base_minor), 0) AS "held!: i64" FROM open_items
           WHERE customer_id = ? AND open_minor > 0 AND purpose = 'deposit_liability' AND side = 'owed_by_us'"#,
        new.customer.0
    )
    .fetch_one(&mut *connection)
    .await?;
    Ok(TakeInput {
        customer: new.customer,
        customer_name: customer.name,
        customer_class: customer.class,
        target,
        comes,
        date,
        amount: currency.parse(&new.amount).map_err(|error| StoreError::decimal("amount", &error))?,
        currency,
        rate: exchange_rate(connection, rules, currency, date.date).await?,
        base: rules.base,
        regime: rules.advance_tax,
        held_before: Money(held_before),
        dates: date_order(connection, rules, DocumentKind::Deposit).await?,
        accounts: &rules.accounts,
        periods: &rules.periods,
    })
}

/// What taking a deposit would do.
///
/// # Errors
/// An unknown customer or order, an amount that cannot be read.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewDeposit) -> Result<DepositPreview> {
    let comes = comes(connection, new).await?;
    previewed(connection, rules, new, comes).await
}

/// What taking a deposit that came by that way would do, whatever way it names.
pub(crate) async fn preview_by(
    connection: &mut SqliteConnection,
    rules: &Rules,
    new: &NewDeposit,
    method: Method,
) -> Result<DepositPreview> {
    previewed(connection, rules, new, Comes::In { method }).await
}

async fn previewed(
    connection: &mut SqliteConnection,
    rules: &Rules,
    new: &NewDeposit,
    comes: Comes,
) -> Result<DepositPreview> {
    let input = input(connection, rules, new, comes).await?;
    let decision = decide(&input);
    Ok(DepositPreview {
        currency: input.currency,
        amount: input.amount,
        regime: decision.regime,
        taxes: decision.taxes,
        entry: decision.entry,
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Takes a deposit.
///
/// # Errors
/// [`StoreError::Moved`] where a figure changed since the preview, or what the core refuses.
pub async fn take(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewDeposit,
    seen: Option<&str>,
) -> Result<PostedDeposit> {
    let comes = comes(writing, new).await?;
    taken(writing, rules, new, comes, seen).await
}

/// Takes a deposit that came by that way, whatever way it names.
pub(crate) async fn take_by(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewDeposit,
    method: Method,
    seen: Option<&str>,
) -> Result<PostedDeposit> {
    taken(writing, rules, new, Comes::In { method }, seen).await
}

async fn taken(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewDeposit,
    comes: Comes,
    seen: Option<&str>,
) -> Result<PostedDeposit> {
    let input = input(writing, rules, new, comes).await?;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(seen, &decision.fingerprint)?;
    let (number, sequence) = next_number(writing, "deposit").await?;
    let id = open_items::next_id(writing, "payments").await?;
    let source = DocumentRef { kind: DocumentKind::Deposit, id, number: number.clone() };
    let written = posting::write(writing, &source, &decision.posting(&input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let (came, date) = (came(writing, &input).await?, input.date.date);
    let (code, rate) = (input.currency.code(), came.rate.scaled());
    let reference = said(&new.reference);
    sqlx::query!(
        "INSERT INTO payments (id, kind, number, sequence, customer_id, method, place, whereabouts, posting_date, reference, currency, rate_e9,
                               amount_minor, amount_base_minor, entry_id)
         VALUES (?, 'deposit', ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id, number, sequence, new.customer.0, came.method, came.place, came.whereabouts, date, reference, code, rate,
        input.amount.0, decision.amount_base.0, entry.0
    )
    .execute(&mut **writing)
    .await?;
    let (regime, memo, tape) = (decision.regime.word(), said(&new.memo), json(&decision.tape)?);
    let (order, quote) = (new.order.map(|order| order.0), new.quote.map(|quote| quote.0));
    sqlx::query!(
        "INSERT INTO deposits (id, order_id, quote_id, regime, memo, tape, turned_from) VALUES (?, ?, ?, ?, ?, ?, ?)",
        id,
        order,
        quote,
        regime,
        memo,
        tape,
        came.turned_from
    )
    .execute(&mut **writing)
    .await?;
    orders::refresh_states(writing, new.order.as_slice()).await?;
    if let Some(order) = new.order {
        customer_pages::settle(writing, rules, order).await?;
    }
    let mut fields = vec![set("amount", input.currency.format(input.amount))];
    fields.extend(input.target.as_ref().map(|target| set("for", &target.number)));
    fields.extend(reference.map(|reference| set("reference", reference)));
    let words = match &input.comes {
        Comes::In { .. } => format!("took {number} from {}", input.customer_name),
        Comes::Unapplied { item } => format!("turned unapplied money of {} into {number}", item.document.number),
    };
    writing.note_on((DocumentKind::Deposit, id, &number), "deposit_taken", words, Some(1), fields);
    Ok(PostedDeposit { id: DepositId(id), number })
}
