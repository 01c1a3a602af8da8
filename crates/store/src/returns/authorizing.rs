//! Authorizing a return, extending it, closing it. None of it writes to the ledger.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::words;
use till_core::checks::{Blocker, stops};
use till_core::fixed::{Quantity, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, DocumentLineId, ItemId, ReturnId, ShipmentLineId};
use till_core::invoice::ItemKind;
use till_core::invoice::credit::Credited;
use till_core::money::{Currency, Money, line_total_less};
use till_core::people::{Operation, Verdict, check_reason, decide as may};
use till_core::returns::{
    AuthorizeDecision, AuthorizeInput, Disposition, LineExtended, Origin, ReturnLimit, ReturnReason, ReturnWish,
    Returnable, check_extension, free,
};
use till_core::tape::Tape;

use super::billed;
use super::facts::{head, lines};
use super::holding::held_with;
use super::settings::{dispositions, last_day, reasons};
use crate::convert::{json, known};
use crate::open_items::next_id;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, changed, set};
use crate::{Result, StoreError, customers, people, sensible_date, stock};

/// What is to come back: of a billed line, of a shipment's line that is not billed, or of an item no document is known of.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReturnLine {
    /// The line of the invoice, or
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub line: Option<DocumentLineId>,
    /// the line of the shipment, or
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shipment_line: Option<ShipmentLineId>,
    /// the item's code, where no document is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// The price for one it is to be credited at, where no document is known, in the customer's currency, as typed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub price: Option<String>,
    /// What one cost, in base currency, where no document is known; none for what the newest goods of the item cost.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost: Option<String>,
    /// Why it cost that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost_reason: Option<String>,
    /// How much, in the unit it was sold in, as typed.
    pub quantity: String,
    /// Why: the code of a reason.
    #[serde(default)]
    pub reason: String,
    /// What is planned to become of it: the code of a disposition; none where inspection decides.
    #[serde(default)]
    pub disposition: Option<String>,
}

/// A return to authorize.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewReturn {
    /// Whose.
    pub customer: CustomerId,
    /// What is to come back.
    pub lines: Vec<NewReturnLine>,
    /// The last day it may arrive on; none for the company's days from now.
    #[serde(default)]
    pub expires_on: Option<NaiveDate>,
    /// Where it is to arrive; none for the company's own.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// What the customer calls it: their claim, their debit note.
    #[serde(default)]
    pub reference: Option<String>,
    /// Anything to remember of it.
    #[serde(default)]
    pub note: Option<String>,
}

/// What authorizing would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnPreview {
    /// What crediting each line would come to, as priced, in its invoice's currency.
    pub worth: Vec<Money>,
    /// The last day it may arrive on.
    pub expires_on: NaiveDate,
    /// The arithmetic; none where nothing is chosen.
    pub tape: Option<Tape>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// A return to give up, or to let arrive until another day.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ReturnToClose {
    /// The version seen.
    pub version: i64,
    /// Why.
    #[serde(default)]
    pub reason: String,
}

struct Loaded {
    expires_on: NaiveDate,
    currency: Currency,
    decision: AuthorizeDecision,
    lines: Vec<ReturnWish>,
    /// The item of each, and the price for one where no document is known.
    items: Vec<(ItemId, Option<UnitPrice>)>,
}

fn said(text: Option<&str>) -> Option<String> {
    text.map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned)
}

/// A line as it was typed, with what it points at.
struct Typed {
    of: Returnable,
    item: ItemId,
    quantity: Quantity,
    price: Option<UnitPrice>,
    cost: Option<(Money, String)>,
}

fn quantity_of(at: usize, text: &str) -> Result<Quantity> {
    match text.trim() {
        "" => Ok(Quantity::ZERO),
        text => text.parse().map_err(|error| StoreError::decimal(format!("lines.{at}.quantity"), &error)),
    }
}

/// What the lines point at, in their order.
async fn typed(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (new, currency): (&NewReturn, Currency),
) -> Result<Vec<Typed>> {
    let ids: Vec<DocumentLineId> = new.lines.iter().filter_map(|line| line.line).collect();
    let sent: Vec<ShipmentLineId> = new.lines.iter().filter_map(|line| line.shipment_line).collect();
    let mut found = billed::lines(connection, rules, &ids).await?;
    found.extend(billed::shipped(connection, rules, &sent).await?);
    let mut all = Vec::with_capacity(new.lines.len());
    for (at, line) in new.lines.iter().enumerate() {
        let quantity = quantity_of(at, &line.quantity)?;
        let wanted = match (line.line, line.shipment_line) {
            (Some(line), _) => Origin::Billed(line),
            (None, Some(line)) => Origin::Shipped(line),
            (None, None) => {
                all.push(unknown(connection, rules, (new.customer, currency), (at, line, quantity)).await?);
                continue;
            }
        };
        let of = found.iter().find(|found| found.of.origin == wanted).ok_or_else(|| {
            StoreError::invalid(
                format!("lines.{at}"),
                "That line is on no posted invoice, and on no shipment that left.",
            )
        })?;
        if of.customer != new.customer {
            let sentence = format!("{} went to another customer.", of.of.number);
            return Err(StoreError::invalid(format!("lines.{at}"), sentence));
        }
        all.push(Typed { of: of.of.clone(), item: ItemId(of.item), quantity, price: None, cost: None });
    }
    Ok(all)
}

/// An item no document is known of, at the price that was typed.
async fn unknown(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, currency): (CustomerId, Currency),
    (at, line, quantity): (usize, &NewReturnLine, Quantity),
) -> Result<Typed> {
    let field = |name: &str| format!("lines.{at}.{name}");
    let code = said(line.item.as_deref());
    let code = code.ok_or_else(|| StoreError::invalid(field("item"), "Choose a line, or the item by its code."))?;
    let item = sqlx::query!("SELECT id, code, unit, kind FROM items WHERE code = ? COLLATE NOCASE", code)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::invalid(field("item"), format!("There is no item {code}.")))?;
    let price: UnitPrice = match said(line.price.as_deref()) {
        Some(text) => text.parse().map_err(|error| StoreError::decimal(field("price"), &error))?,
        None => return Err(StoreError::invalid(field("price"), "At which price for one is it to be credited?")),
    };
    let cost = match said(line.cost.as_deref()) {
        Some(text) => Some(rules.base.parse(&text).map_err(|error| StoreError::decimal(field("cost"), &error))?),
        None => None,
    };
    let id = ItemId(item.id);
    let most = match rules.return_limit {
        ReturnLimit::Customer => billed::bought(connection, rules, (customer, id)).await?,
        // No limit: before a quantity is typed, one may.
        ReturnLimit::Line => quantity.max(Quantity::ONE),
    };
    let of = Returnable {
        origin: Origin::Unknown(id),
        number: "no document".to_owned(),
        code: item.code,
        unit: item.unit,
        factor: Quantity::ONE,
        kind: known(&item.kind, ItemKind::of)?,
        goods_left: true,
        billed: most,
        priced: line_total_less(quantity, price, &[], UnitPrice::default(), currency).net,
        currency,
        credited: Credited::default(),
        on_returns: Quantity::ZERO,
        canceled_by: None,
    };
    let cost = cost.map(|cost| (cost, said(line.cost_reason.as_deref()).unwrap_or_default()));
    Ok(Typed { of, item: id, quantity, price: Some(price), cost })
}

/// What is more than a line billed, on the customer's other lines of the item, newest first: where all that was ever bought
/// may come back.
async fn beyond(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    typed: &[Typed],
    at: usize,
) -> Result<Vec<(Returnable, Quantity)>> {
    let one = &typed[at];
    let whole = vec![(one.of.clone(), one.quantity)];
    let reaches = matches!(one.of.origin, Origin::Billed(_)) && rules.return_limit == ReturnLimit::Customer;
    if !reaches || one.quantity <= one.of.left() {
        return Ok(whole);
    }
    let others = billed::of_item(connection, rules, (customer, one.item)).await?.into_iter().map(|found| found.of);
    // What is typed of another line is asked for there.
    let free = others.filter(|of| !typed.iter().any(|typed| typed.of.origin == of.origin)).collect();
    Ok(one.of.with_others(one.quantity, free))
}

async fn load(connection: &mut SqliteConnection, rules: &Rules, new: &NewReturn) -> Result<Loaded> {
    let expires_on = match new.expires_on {
        Some(date) => sensible_date("expires_on", date)?,
        None => last_day(rules),
    };
    let (customer, own) = customers::facts(connection, new.customer).await?;
    let (reasons, dispositions): (Vec<ReturnReason>, Vec<Disposition>) =
        (reasons(connection).await?, dispositions(connection).await?);
    let typed = typed(connection, rules, (new, own)).await?;
    let (mut lines, mut items) = (Vec::new(), Vec::new());
    for (at, (one, line)) in typed.iter().zip(&new.lines).enumerate() {
        for (of, quantity) in beyond(connection, rules, new.customer, &typed, at).await? {
            items.push((one.item, one.price));
            lines.push(ReturnWish {
                of,
                typed: at,
                quantity,
                cost: one.cost.clone(),
                reason: line.reason.trim().to_owned(),
                disposition: said(line.disposition.as_deref()),
            });
        }
    }
    let input = AuthorizeInput {
        customer,
        lines,
        date: rules.business_date,
        expires_on,
        reasons: &reasons,
        dispositions: &dispositions,
        proof: rules.return_proof,
    };
    let decision = till_core::returns::authorize(&input);
    let currency = input.lines.first().map_or(own, |line| line.of.currency);
    Ok(Loaded { expires_on, currency, decision, items, lines: input.lines })
}

/// What authorizing a return would do. Nothing is written.
///
/// # Errors
/// Lines that are on no invoice of the customer; what cannot be read.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewReturn) -> Result<ReturnPreview> {
    let Loaded { expires_on, decision, lines, .. } = load(connection, rules, new).await?;
    let mut worth = vec![Money::ZERO; new.lines.len()];
    for (line, part) in lines.iter().zip(&decision.worth) {
        worth[line.typed] += *part;
    }
    Ok(ReturnPreview {
        worth,
        expires_on,
        tape: decision.tape,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
    })
}

/// Authorizes a return. Returns its id and number.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn authorize(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReturn,
    seen: Option<&str>,
) -> Result<(ReturnId, String)> {
    authorize_of(writing, rules, new, seen, None).await
}

/// The same, of another item than was billed, where one went by mistake.
pub(super) async fn authorize_of(
    writing: &mut Writing<'_>,
    rules: &Rules,
    new: &NewReturn,
    seen: Option<&str>,
    went: Option<ItemId>,
) -> Result<(ReturnId, String)> {
    let loaded = load(writing, rules, new).await?;
    if stops(&loaded.decision.blockers) {
        return Err(StoreError::Refused(loaded.decision.blockers));
    }
    writing.saw(seen, &loaded.decision.fingerprint)?;
    if loaded.lines.iter().any(|line| matches!(line.of.origin, Origin::Unknown(_)))
        && let Some(role) = writing.actor().role
    {
        let limits = people::limits(writing).await?;
        match may(role, Operation::ReturnWithoutDocument, Money::ZERO, &limits) {
            Verdict::Allowed => {}
            Verdict::Denied(why) | Verdict::NeedsApproval(why) => return Err(StoreError::NotAllowed(why)),
        }
    }
    let warehouse = said(new.warehouse.as_deref()).unwrap_or_else(|| rules.warehouse.clone());
    if !stock::counted(writing, &warehouse, "warehouse").await? {
        return Err(StoreError::invalid("warehouse", "Goods come back to a warehouse whose stock is kept here."));
    }
    let (number, sequence) = next_number(writing, "return").await?;
    let id = ReturnId(next_id(writing, "returns").await?);
    let code = loaded.currency.code();
    let (reference, note) = (said(new.reference.as_deref()), said(new.note.as_deref()));
    sqlx::query!(
        "INSERT INTO returns (id, number, sequence, customer_id, authorized_on, expires_on, warehouse, currency, reference, note)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id.0,
        number,
        sequence,
        new.customer.0,
        rules.business_date,
        loaded.expires_on,
        warehouse,
        code,
        reference,
        note
    )
    .execute(&mut **writing)
    .await?;
    let rows: Vec<_> = loaded
        .lines
        .iter()
        .zip(&loaded.items)
        .enumerate()
        .map(|(at, (line, (item, price)))| {
            let (billed, sent) = match line.of.origin {
                Origin::Billed(id) => (Some(id), None),
                Origin::Shipped(id) => (None, Some(id)),
                Origin::Unknown(_) => (None, None),
            };
            let (cost, why) = line.cost.as_ref().map(|(cost, why)| (*cost, why.as_str())).unzip();
            let goods = (went.unwrap_or(*item), line.quantity.scaled(), line.of.factor.scaled());
            (
                at,
                (billed, sent),
                goods,
                (&line.reason, &line.disposition),
                (price.map(|price| price.scaled()), cost, why),
            )
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO return_lines (return_id, position, document_line_id, shipment_line_id, item_id, quantity_e4, factor_e4, reason, disposition,
                                   unit_price_e6, unit_cost_minor, cost_reason)
         SELECT ?1, value ->> 0, value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]',
                value ->> '$[3][0]', value ->> '$[3][1]', value ->> '$[4][0]', value ->> '$[4][1]', value ->> '$[4][2]'
         FROM jsonb_each(?2)",
        id.0,
        rows
    )
    .execute(&mut **writing)
    .await?;
    let mut fields: Vec<_> = loaded
        .lines
        .iter()
        .map(|line| set(&format!("{} of {}", line.of.code, line.of.number), line.quantity))
        .collect();
    fields.push(set("may arrive until", words(loaded.expires_on)));
    fields.extend(reference.map(|reference| set("their reference", reference)));
    let words = format!("authorized {number}");
    writing.note_on((DocumentKind::Return, id.0, &number), "return_authorized", words, Some(1), fields);
    Ok((id, number))
}

/// Lets a return arrive until another day: what it still expects must be free. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`]; a return that was closed, a day that cannot be, goods that were credited or returned since.
pub async fn extend(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: ReturnId,
    (version, until): (i64, NaiveDate),
) -> Result<i64> {
    let head = head(writing, id).await?;
    head.is(version)?;
    sensible_date("expires_on", until)?;
    if let Some(day) = head.closed_on {
        return Err(StoreError::WrongState(format!("{} was closed on {}.", head.number, words(day))));
    }
    let known = lines(writing, id).await?;
    let held = held_with(writing, rules, &known).await?;
    let extended: Vec<LineExtended> = known
        .into_iter()
        .map(|line| {
            let held = held.get(&line.id).copied().unwrap_or_default();
            LineExtended { free: free(line.billed, line.credited, held), code: line.code, progress: line.progress }
        })
        .collect();
    check_extension((head.expires_on, until), rules.business_date, &extended)
        .map_err(|why| StoreError::invalid("expires_on", why))?;
    sqlx::query!("UPDATE returns SET expires_on = ?, version = version + 1 WHERE id = ?", until, id.0)
        .execute(&mut **writing)
        .await?;
    let fields = changed("may arrive until", Some(&words(head.expires_on)), Some(&words(until)));
    let words = format!("extended {}", head.number);
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_extended", words, Some(version + 1), fields);
    Ok(version + 1)
}

/// Closes a return: nothing more arrives on it, what came stays. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], one that is closed already, no reason.
pub async fn close(writing: &mut Writing<'_>, rules: &Rules, id: ReturnId, wish: &ReturnToClose) -> Result<i64> {
    let head = head(writing, id).await?;
    head.is(wish.version)?;
    let reason = check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    if let Some(day) = head.closed_on {
        return Err(StoreError::WrongState(format!("{} was closed on {}.", head.number, words(day))));
    }
    sqlx::query!(
        "UPDATE returns SET closed_on = ?, closed_reason = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        reason,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let said = format!("closed {}", head.number);
    let fields = vec![set("reason", &reason)];
    let after = head.version + 1;
    writing.note_on((DocumentKind::Return, id.0, &head.number), "return_closed", said, Some(after), fields);
    Ok(after)
}
