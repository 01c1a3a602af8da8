//! Disputes: what customers will not pay of open items, and who looks after it.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::day_sheet::DisputeFacts;
use till_core::dispute::{self, DisputeReason};
use till_core::ids::{CustomerId, DisputeId, DocumentKind, DocumentRef, InvoiceId, OpenItemId, PersonId};
use till_core::money::{Currency, Money};
use till_core::open_items::{OpenItem, Side};

use crate::convert::{currency, json, kind, known};
use crate::rules::Rules;
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, open_items};

/// What a customer will not pay, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewDispute {
    /// The open item, or
    #[serde(default)]
    pub item: Option<OpenItemId>,
    /// the invoice.
    #[serde(default)]
    pub invoice: Option<InvoiceId>,
    /// How much of it, a decimal in its currency; none for all that is open.
    #[serde(default)]
    pub amount: Option<String>,
    /// Why, and who looks after it.
    #[serde(flatten)]
    pub what: DisputeWords,
}

/// Why something is not paid, and who looks after that.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DisputeWords {
    /// Why.
    pub reason: DisputeReason,
    /// In words; may be empty.
    #[serde(default)]
    pub words: String,
    /// Who looks after it; none for nobody yet.
    #[serde(default)]
    pub owner: Option<PersonId>,
}

impl DisputeWords {
    /// What a payer took off by its own list. Nobody looks after it yet.
    pub(crate) fn deduction(words: &str) -> Self {
        let words = words.chars().take(dispute::MOST_WORDS).collect();
        Self { reason: DisputeReason::Deduction, words, owner: None }
    }
}

/// A dispute on screen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DisputeView {
    /// Its id.
    pub id: DisputeId,
    /// The open item.
    pub item: OpenItemId,
    /// What that came from.
    pub document: DocumentRef,
    /// Whose it is.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The currency of the item.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What is in dispute now: never more than is open.
    pub amount: Money,
    /// What the item has open.
    pub open: Money,
    /// Why.
    pub reason: DisputeReason,
    /// In words.
    pub words: String,
    /// Who looks after it.
    pub owner: Option<PersonId>,
    /// Whose name that is.
    pub owner_name: Option<String>,
    /// Since when.
    pub since: NaiveDate,
    /// For how many days.
    pub days: i64,
    /// When it was closed, where it was.
    pub closed_on: Option<NaiveDate>,
    /// What came of it.
    pub outcome: Option<String>,
    /// Changes with every change.
    pub version: i64,
}

/// Someone who can look after a dispute.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DisputeOwner {
    /// Who.
    pub id: PersonId,
    /// The name.
    pub name: String,
}

/// Disputes, the oldest first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Disputes {
    /// One by one.
    pub disputes: Vec<DisputeView>,
    /// Who can look after one.
    pub owners: Vec<DisputeOwner>,
}

/// Which disputes.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Which<'a> {
    /// Those that stand: not closed, and something of the item is open.
    Standing,
    /// Those that ended.
    Ended,
    /// The one with that id.
    One(DisputeId),
    /// Those that stand over those items.
    Over(&'a [OpenItemId]),
}

pub(crate) async fn load(
    connection: &mut SqliteConnection,
    today: NaiveDate,
    which: Which<'_>,
) -> Result<Vec<DisputeView>> {
    let (standing, ended, one, items) = match which {
        Which::Standing => (true, false, None, None),
        Which::Ended => (false, true, None, None),
        Which::One(id) => (false, false, Some(id.0), None),
        Which::Over(items) => (true, false, None, Some(json(&items)?)),
    };
    sqlx::query!(
        r#"SELECT disputes.id AS "id!", item_id AS "item!", open_items.kind AS "kind!", open_items.document_id AS "document!", open_items.number AS "number!",
                  open_items.customer_id AS "customer!", customers.name AS "name!", open_items.currency AS "currency!", disputes.amount_minor AS "amount!", open_minor AS "open!",
                  reason AS "reason!", words AS "words!", owner_id AS "owner: i64", people.name AS "owner_name?", opened_on AS "since!: NaiveDate", closed_on AS "closed_on: NaiveDate",
                  outcome, disputes.version AS "version!"
           FROM disputes JOIN open_items ON open_items.id = item_id JOIN customers ON customers.id = open_items.customer_id LEFT JOIN people ON people.id = owner_id
           WHERE (?3 IS NULL OR disputes.id = ?3) AND (?4 IS NULL OR item_id IN (SELECT value FROM json_each(?4)))
             AND (NOT ?1 OR (closed_on IS NULL AND open_minor > 0)) AND (NOT ?2 OR NOT (closed_on IS NULL AND open_minor > 0))
           ORDER BY opened_on, disputes.id"#,
        standing,
        ended,
        one,
        items
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let open = Money(row.open);
        Ok(DisputeView {
            id: DisputeId(row.id),
            item: OpenItemId(row.item),
            document: DocumentRef { kind: kind(&row.kind)?, id: row.document, number: row.number },
            customer: CustomerId(row.customer),
            customer_name: row.name,
            currency: currency(&row.currency)?,
            amount: if row.closed_on.is_some() { Money(row.amount) } else { dispute::standing(Money(row.amount), open) },
            open,
            reason: known(&row.reason, DisputeReason::of)?,
            words: row.words,
            owner: row.owner.map(PersonId),
            owner_name: row.owner_name,
            since: row.since,
            days: (row.closed_on.unwrap_or(today) - row.since).num_days(),
            closed_on: row.closed_on,
            outcome: row.outcome,
            version: row.version,
        })
    })
    .collect()
}

/// Disputes that stand, or those that ended, with who can look after one.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, rules: &Rules, ended: bool) -> Result<Disputes> {
    let which = if ended { Which::Ended } else { Which::Standing };
    let disputes = load(connection, rules.business_date, which).await?;
    let owners = sqlx::query!("SELECT id, name FROM people WHERE active AND role IN ('clerk', 'lead') ORDER BY name")
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| DisputeOwner { id: PersonId(row.id), name: row.name })
        .collect();
    Ok(Disputes { disputes, owners })
}

async fn item_of(connection: &mut SqliteConnection, new: &NewDispute) -> Result<OpenItem> {
    let nothing = || StoreError::invalid("item", "Name what is not paid: an open item, or an invoice.");
    let id = match (new.item, new.invoice) {
        (Some(item), None) => Some(item),
        (None, Some(invoice)) => {
            open_items::of_document(connection, DocumentKind::Invoice, invoice.0, Side::OwedToUs).await?
        }
        _ => None,
    };
    let item = open_items::load(connection, id.as_slice()).await?.pop().ok_or_else(nothing)?;
    if item.side != Side::OwedToUs || item.purpose != Purpose::Receivable {
        return Err(nothing());
    }
    Ok(item)
}

async fn check_owner(connection: &mut SqliteConnection, owner: Option<PersonId>) -> Result<()> {
    let Some(owner) = owner else { return Ok(()) };
    let known = sqlx::query_scalar!(
        r#"SELECT 1 AS "known!: i64" FROM people WHERE id = ? AND active AND role IN ('clerk', 'lead')"#,
        owner.0
    )
    .fetch_optional(connection)
    .await?;
    known.map(|_| ()).ok_or_else(|| StoreError::invalid("owner", "Choose someone of the list who still works here."))
}

/// Puts something into dispute.
///
/// # Errors
/// What is not open, more than is, one that is in dispute already.
pub async fn open(writing: &mut Writing<'_>, rules: &Rules, new: &NewDispute) -> Result<DisputeId> {
    let item = item_of(writing, new).await?;
    let typed = match new.amount.as_deref().map(str::trim).filter(|typed| !typed.is_empty()) {
        Some(typed) => Some(item.currency.parse(typed).map_err(|error| StoreError::decimal("amount", &error))?),
        None => None,
    };
    write(writing, rules, (&item, item.open, typed), &new.what).await
}

/// Puts what stays open of an item into dispute; `open` is what that is.
pub(crate) async fn write(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (item, open, typed): (&OpenItem, Money, Option<Money>),
    what: &DisputeWords,
) -> Result<DisputeId> {
    let amount = dispute::check(typed, open, (what.reason, &what.words), item.currency)
        .map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    check_owner(writing, what.owner).await?;
    let standing = load(writing, rules.business_date, Which::Over(&[item.id])).await?;
    if !standing.is_empty() {
        return Err(StoreError::invalid("item", format!("{} is in dispute already.", item.document.number)));
    }
    // One that ended by itself, as the item was settled, stands in the way of no new one.
    let settled = "settled";
    sqlx::query!(
        "UPDATE disputes SET closed_on = max(?, opened_on), outcome = ?, version = version + 1 WHERE item_id = ? AND closed_on IS NULL",
        rules.business_date,
        settled,
        item.id.0
    )
    .execute(&mut **writing)
    .await?;
    let id = open_items::next_id(writing, "disputes").await?;
    let (reason, words, owner) = (what.reason.word(), what.words.trim(), what.owner.map(|owner| owner.0));
    sqlx::query!(
        "INSERT INTO disputes (id, item_id, amount_minor, reason, words, owner_id, opened_on) VALUES (?, ?, ?, ?, ?, ?, ?)",
        id,
        item.id.0,
        amount.0,
        reason,
        words,
        owner,
        rules.business_date
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("in dispute", item.currency.format(amount)), set("reason", reason.replace('_', " "))];
    let document = &item.document;
    let said = format!("put {} into dispute", document.number);
    writing.note_on((document.kind, document.id, &document.number), "dispute_opened", said, None, fields);
    Ok(DisputeId(id))
}

async fn standing(writing: &mut Writing<'_>, rules: &Rules, id: DisputeId, version: i64) -> Result<DisputeView> {
    let gone = || StoreError::WrongState("There is no such dispute.".to_owned());
    let dispute = load(writing, rules.business_date, Which::One(id)).await?.pop().ok_or_else(gone)?;
    if dispute.version != version {
        return Err(StoreError::Stale {
            what: format!("the dispute over {}", dispute.document.number),
            current: dispute.version,
        });
    }
    if dispute.closed_on.is_some() {
        return Err(StoreError::WrongState(format!("The dispute over {} is closed.", dispute.document.number)));
    }
    Ok(dispute)
}

/// Changes why something is not paid, or who looks after it. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], one that is closed.
pub async fn change(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (id, version): (DisputeId, i64),
    what: &DisputeWords,
) -> Result<i64> {
    let before = standing(writing, rules, id, version).await?;
    dispute::check_words(&what.words).map_err(|(field, sentence)| StoreError::invalid(field, sentence))?;
    check_owner(writing, what.owner).await?;
    let (reason, words, owner) = (what.reason.word(), what.words.trim(), what.owner.map(|owner| owner.0));
    sqlx::query!(
        "UPDATE disputes SET reason = ?, words = ?, owner_id = ?, version = version + 1 WHERE id = ?",
        reason,
        words,
        owner,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let name = match owner {
        Some(owner) => {
            Some(sqlx::query_scalar!("SELECT name FROM people WHERE id = ?", owner).fetch_one(&mut **writing).await?)
        }
        None => None,
    };
    let mut fields = changed("reason", Some(before.reason.word()), Some(reason));
    fields.extend(changed("words", Some(&before.words), Some(words)));
    fields.extend(changed("looks after it", before.owner_name.as_deref(), name.as_deref()));
    let document = &before.document;
    let said = format!("changed the dispute over {}", document.number);
    writing.note_on((document.kind, document.id, &document.number), "dispute_changed", said, None, fields);
    Ok(version + 1)
}

/// Closes a dispute: what came of it. The item stays open as far as it is.
///
/// # Errors
/// [`StoreError::Stale`], one that is closed, no outcome.
pub async fn close(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (id, version): (DisputeId, i64),
    outcome: &str,
) -> Result<i64> {
    let before = standing(writing, rules, id, version).await?;
    let outcome = till_core::people::check_reason(outcome).map_err(|why| StoreError::invalid("outcome", why))?;
    sqlx::query!(
        "UPDATE disputes SET closed_on = max(?, opened_on), outcome = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        outcome,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let document = &before.document;
    let fields = vec![set("outcome", &outcome)];
    let said = format!("closed the dispute over {}", document.number);
    writing.note_on((document.kind, document.id, &document.number), "dispute_closed", said, None, fields);
    Ok(version + 1)
}

/// What stands in dispute of those items, each in its currency.
pub(crate) async fn over(
    connection: &mut SqliteConnection,
    today: NaiveDate,
    items: &[OpenItemId],
) -> Result<HashMap<OpenItemId, Money>> {
    let standing = load(connection, today, Which::Over(items)).await?;
    Ok(standing.into_iter().map(|one| (one.item, one.amount)).collect())
}

/// The dispute that stands over an invoice; none where nothing does.
pub(crate) async fn of_invoice(
    connection: &mut SqliteConnection,
    today: NaiveDate,
    id: InvoiceId,
) -> Result<Option<DisputeView>> {
    let item = open_items::of_document(connection, DocumentKind::Invoice, id.0, Side::OwedToUs).await?;
    Ok(load(connection, today, Which::Over(item.as_slice())).await?.pop())
}

/// What stands in dispute, for the day sheet.
pub(crate) async fn of_day_sheet(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<DisputeFacts>> {
    let mut facts = Vec::new();
    for one in load(connection, rules.business_date, Which::Standing).await? {
        let rate = crate::rules::exchange_rate(connection, rules, one.currency, rules.business_date).await?;
        let said = [one.reason.word().replace('_', " "), one.words].into_iter().filter(|text| !text.is_empty());
        facts.push(DisputeFacts {
            item: one.document,
            name: one.customer_name,
            why: said.collect::<Vec<_>>().join(", "),
            owner: one.owner_name,
            amount: rate.map_or(Money::ZERO, |rate| one.amount.to_base(rate, one.currency, rules.base)),
            since: one.since,
        });
    }
    Ok(facts)
}
