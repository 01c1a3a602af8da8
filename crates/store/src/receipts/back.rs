//! Unapplying money, and reversing a receipt that was typed in error.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::{DateOrder, DocumentDate};
use till_core::checks::{Blocker, stops};
use till_core::ids::{ApplicationId, CustomerId, DocumentKind, DocumentRef, EntryId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::settle::back::{BackDecision, BackInput, BankFee, Reversal, Standing, WholeReceipt, decide};
use till_core::tape::{Change, Tape};

use super::returned::{ChargeOn, Charged, charged_on};
use super::{CreditOf, kind_of, orders_on};
use crate::convert::currency;
use crate::open_items::{load, members, of_document, standing_on_credit, with_discounts};
use crate::rules::{Rules, exchange_rate};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, bank, customers, deposits, posting, sensible_date};

/// Applications of a receipt to take back.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToUnapply {
    /// Which; none for all that stand.
    #[serde(default)]
    pub applications: Option<Vec<ApplicationId>>,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// A receipt to reverse as a whole.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToReverse {
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

/// A receipt to reverse as a whole, also because its check or transfer came back.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToReverseReceipt {
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// What the bank takes for it in one with the money, a decimal in the currency of its account; none for nothing.
    #[serde(default)]
    pub fee: Option<String>,
    /// What the customer is charged for it; none for nothing.
    #[serde(default)]
    pub charge: Option<ChargeOn>,
}

impl From<&ToReverse> for ToReverseReceipt {
    fn from(wish: &ToReverse) -> Self {
        Self { date: wish.date, reason: wish.reason.clone(), ..Self::default() }
    }
}

impl From<&Self> for ToReverseReceipt {
    fn from(wish: &Self) -> Self {
        wish.clone()
    }
}

/// What taking back would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BackPreview {
    /// The currency of the money.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What of the receipt is concerned, in that currency.
    pub amount: Money,
    /// The arithmetic.
    pub tape: Tape,
    /// The entries it will write, each with the one it takes back.
    pub entries: Vec<Reversal>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

struct Loaded<'a> {
    kind: DocumentKind,
    id: i64,
    input: BackInput<'a>,
    version: i64,
}

async fn loaded<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: ReceiptId,
    (date, reason): (Option<NaiveDate>, &str),
) -> Result<Loaded<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let kind = kind_of(connection, id).await?;
    let row = sqlx::query!(
        r#"SELECT number, customer_id, currency, place, amount_minor, amount_base_minor, entry_id, reversed_on IS NOT NULL AS "reversed!: bool", version
           FROM payments WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let credit = of_document(connection, kind, id.0, Side::OwedByUs).await?;
    let credit = load(connection, credit.as_slice())
        .await?
        .pop()
        .ok_or_else(|| StoreError::not_found(DocumentKind::Receipt, id))?;
    let applications = standing_on_credit(connection, credit.id).await?;
    let mut concerned: Vec<CustomerId> = applications.iter().map(|standing| standing.debit.customer).collect();
    concerned.push(CustomerId(row.customer_id));
    let group = members(connection, &concerned).await?;
    let payer = group
        .iter()
        .find(|member| member.id.0 == row.customer_id)
        .cloned()
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, row.customer_id))?;
    let place = match &row.place {
        Some(code) => Some(bank::place_now(connection, (row.entry_id, &row.number), code).await?),
        None => None,
    };
    let input = BackInput {
        number: row.number,
        payer_class: customers::facts(connection, payer.id).await?.0.class,
        payer,
        group,
        orders: orders_on(connection, applications.iter().map(|standing| &standing.debit.document)).await?,
        applications,
        receipt: Some(WholeReceipt {
            credit,
            place,
            amount: (Money(row.amount_minor), Money(row.amount_base_minor)),
            entry: EntryId(row.entry_id),
            reversed: row.reversed,
        }),
        fee: None,
        date: DocumentDate::or_business_date(date, rules.business_date),
        reason: reason.to_owned(),
        currency: currency(&row.currency)?,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok(Loaded { kind, id: id.0, input, version: row.version })
}

/// The same, for what is kept of a credit memo.
async fn credit_memo<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    of: CreditOf,
    (date, reason): (Option<NaiveDate>, &str),
) -> Result<Loaded<'a>> {
    if let Some(date) = date {
        sensible_date("date", date)?;
    }
    let (credit, version) = of.item(connection).await?;
    let applications = standing_on_credit(connection, credit.id).await?;
    let mut concerned: Vec<CustomerId> = applications.iter().map(|standing| standing.debit.customer).collect();
    concerned.push(credit.customer);
    let group = members(connection, &concerned).await?;
    let payer = group
        .iter()
        .find(|member| member.id == credit.customer)
        .cloned()
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, credit.customer))?;
    let input = BackInput {
        number: credit.document.number.clone(),
        payer_class: customers::facts(connection, payer.id).await?.0.class,
        payer,
        group,
        orders: orders_on(connection, applications.iter().map(|standing| &standing.debit.document)).await?,
        applications,
        receipt: None,
        fee: None,
        date: DocumentDate::or_business_date(date, rules.business_date),
        reason: reason.to_owned(),
        currency: credit.currency,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok(Loaded { kind: credit.document.kind, id: credit.document.id, input, version })
}

/// The same, for all of a receipt: a deposit is reversed in its own way.
async fn receipt<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: ReceiptId,
    wish: &ToReverseReceipt,
) -> Result<Loaded<'a>> {
    let mut loaded = loaded(connection, rules, id, (wish.date, &wish.reason)).await?;
    if loaded.kind != DocumentKind::Receipt {
        return Err(StoreError::not_found(DocumentKind::Receipt, id));
    }
    loaded.input.applications = with_discounts(connection, loaded.input.applications).await?;
    if let Some(typed) = wish.fee.as_deref().map(str::trim).filter(|typed| !typed.is_empty()) {
        let place = loaded.input.receipt.as_ref().and_then(|receipt| receipt.place.as_ref());
        let currency = place.and_then(|place| place.currency).unwrap_or(rules.base);
        let amount = currency.parse(typed).map_err(|error| StoreError::decimal("fee", &error))?;
        let rate = exchange_rate(connection, rules, currency, loaded.input.date.date).await?;
        loaded.input.fee = Some(BankFee { amount, currency, rate });
    }
    Ok(loaded)
}

/// The same, for some of its applications.
async fn some_of<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    of: CreditOf,
    wish: &ToUnapply,
) -> Result<Loaded<'a>> {
    let wanted = (wish.date, wish.reason.as_str());
    let mut loaded = match of {
        CreditOf::Payment(id) => loaded(connection, rules, id, wanted).await?,
        CreditOf::CreditMemo(_) => credit_memo(connection, rules, of, wanted).await?,
    };
    loaded.input.receipt = None;
    if wish.applications.is_none() {
        // What it was refunded or kept with, what went back to its card, or was reserved as a deposit, is no use of it.
        let ends = |standing: &Standing| match standing.debit.document.kind {
            DocumentKind::DepositEnd | DocumentKind::CardReturn | DocumentKind::Refund => true,
            DocumentKind::Deposit => loaded.kind == DocumentKind::Receipt,
            _ => standing.takes_back(),
        };
        loaded.input.applications.retain(|standing| !ends(standing));
    }
    if let Some(wanted) = &wish.applications {
        for (position, one) in wanted.iter().enumerate() {
            if !loaded.input.applications.iter().any(|standing| standing.id == *one) {
                return Err(StoreError::invalid(
                    format!("applications.{position}"),
                    format!("{} has no such application that stands.", loaded.input.number),
                ));
            }
        }
        loaded.input.applications.retain(|standing| wanted.contains(&standing.id));
        // Orders on what stays applied do not change.
        let documents: Vec<DocumentRef> =
            loaded.input.applications.iter().map(|standing| standing.debit.document.clone()).collect();
        loaded.input.orders = orders_on(connection, documents.iter()).await?;
    }
    loaded.input.applications = with_discounts(connection, loaded.input.applications).await?;
    Ok(loaded)
}

fn previewed(input: &BackInput<'_>, decision: BackDecision) -> BackPreview {
    let amount = match &input.receipt {
        Some(receipt) => receipt.amount.0,
        None => {
            let mine = input.applications.iter().filter(|standing| !standing.takes_back());
            mine.map(|standing| standing.used.0).sum()
        }
    };
    BackPreview {
        currency: input.currency,
        amount,
        tape: decision.tape,
        entries: decision.entries,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    }
}

/// What unapplying would do.
///
/// # Errors
/// An unknown receipt, an application that does not stand.
pub async fn preview_unapply(
    connection: &mut SqliteConnection,
    rules: &Rules,
    of: impl Into<CreditOf>,
    wish: &ToUnapply,
) -> Result<BackPreview> {
    let loaded = some_of(connection, rules, of.into(), wish).await?;
    Ok(previewed(&loaded.input, decide(&loaded.input)))
}

/// What reversing a receipt would do.
///
/// # Errors
/// An unknown receipt, a fee or a charge that cannot be read.
pub async fn preview_reverse(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: ReceiptId,
    wish: impl Into<ToReverseReceipt>,
) -> Result<BackPreview> {
    let wish = wish.into();
    let loaded = receipt(connection, rules, id, &wish).await?;
    let charge = charged_on(connection, rules, &loaded.input, &wish).await?;
    let mut preview = previewed(&loaded.input, decide(&loaded.input));
    if let Some(charge) = charge {
        charge.add_to(&mut preview);
    }
    Ok(preview)
}

fn agreed(loaded: &Loaded<'_>, version: i64, seen: &str, charge: Option<&Charged>) -> Result<BackDecision> {
    if loaded.version != version {
        return Err(StoreError::Stale { what: loaded.input.number.clone(), current: loaded.version });
    }
    let decision = decide(&loaded.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    if let Some(charge) = charge.filter(|charge| stops(charge.blockers())) {
        return Err(StoreError::Refused(charge.blockers().to_vec()));
    }
    if seen != charge.map_or_else(|| decision.fingerprint.clone(), |charge| charge.mark(&decision.fingerprint)) {
        return Err(StoreError::Moved);
    }
    Ok(decision)
}

/// Takes applications of a receipt back: the money lies unapplied again. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn unapply(
    writing: &mut Writing<'_>,
    rules: &Rules,
    of: impl Into<CreditOf>,
    (version, seen): (i64, &str),
    wish: &ToUnapply,
) -> Result<i64> {
    let loaded = some_of(writing, rules, of.into(), wish).await?;
    let decision = agreed(&loaded, version, seen, None)?;
    let input = &loaded.input;
    posting::write(writing, &document(&loaded), &decision.posting(input)).await?;
    if loaded.kind == DocumentKind::Deposit {
        deposits::refresh_orders(writing, &[loaded.id]).await?;
    }
    let mut fields = freed(&input.applications);
    fields.push(set("reason", input.reason.trim()));
    let words = format!("unapplied money of {}", input.number);
    let at = (loaded.kind, loaded.id, input.number.as_str());
    writing.note_on(at, "money_unapplied", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Reverses a receipt as a whole: what it settled is open again, and the money was never there.
/// Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], [`StoreError::Moved`], or what the core refuses.
pub async fn reverse(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReceiptId,
    (version, seen): (i64, &str),
    wish: impl Into<ToReverseReceipt>,
) -> Result<i64> {
    let wish = wish.into();
    let loaded = receipt(writing, rules, id, &wish).await?;
    let charge = charged_on(writing, rules, &loaded.input, &wish).await?;
    let decision = agreed(&loaded, version, seen, charge.as_ref())?;
    let input = &loaded.input;
    let Some(receipt) = &input.receipt else { return Err(StoreError::Moved) };
    let written = posting::write(writing, &document(&loaded), &decision.posting(input)).await?;
    let entry = written.first().copied().ok_or(StoreError::Moved)?;
    let date = input.date.date;
    let reason = input.reason.trim();
    // Each change of it counts one version; the last brings it to the one it is known by.
    let after = version + 1;
    let fee = input.fee.map_or(Money::ZERO, |fee| fee.amount);
    let fee_base = input.fee.and_then(|fee| fee.in_base(input.base)).unwrap_or_default();
    sqlx::query!(
        "UPDATE payments SET reversed_on = ?, reversal_reason = ?, reversal_entry_id = ?, fee_minor = ?, fee_base_minor = ?, whereabouts = 'returned', version = ? WHERE id = ?",
        date,
        reason,
        entry.0,
        fee.0,
        fee_base.0,
        after,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let mut fields = vec![set("amount", input.currency.format(receipt.amount.0))];
    fields.extend(freed(&input.applications));
    fields.push(set("reason", reason));
    if let Some(fee) = input.fee {
        fields.push(set("fee", fee.currency.format(fee.amount)));
    }
    if let Some(charge) = charge {
        fields.push(set("charged on", charge.post(writing, rules).await?));
    }
    let words = format!("reversed {}", input.number);
    let at = (DocumentKind::Receipt, id.0, input.number.as_str());
    writing.note_on(at, "receipt_reversed", words, Some(after), fields);
    Ok(after)
}

fn document(loaded: &Loaded<'_>) -> DocumentRef {
    DocumentRef { kind: loaded.kind, id: loaded.id, number: loaded.input.number.clone() }
}

fn freed(applications: &[Standing]) -> Vec<till_core::merge::FieldChange> {
    applications
        .iter()
        .map(|standing| till_core::merge::FieldChange {
            field: standing.debit.document.number.clone(),
            from: Some(standing.debit.currency.format(standing.settled.0)),
            to: None,
        })
        .collect()
}
