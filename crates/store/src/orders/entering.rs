//! Entering, changing, confirming and cancelling orders.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Check, Effect, asks, stops};
use till_core::fingerprint;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId, OrderLineId, QuoteId};
use till_core::merge::{FieldChange, Fields, differences};
use till_core::money::{Currency, Money};
use till_core::ordering::{OrderDecision, PricedLine, decide};
use till_core::people::{LimitKind, check_reason};
use till_core::tape::{Change, Tape};
use till_core::tax::TaxLine;

use super::form::{self, OrderForm, described, said};
use super::refresh_states;
use super::resolve::{Resolved, Standing, resolve};
use crate::approvals::{self, Asked, Wish};
use crate::convert::{json, terms_json};
use crate::customers::Outcome;
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, people, stock};

/// An order as it would be.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderPreview {
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its lines as typed, and packaging that goes with them at the end.
    pub lines: Vec<PricedLine>,
    /// Tax by code.
    pub taxes: Vec<TaxLine>,
    /// Sum of the line nets.
    pub net: Money,
    /// Net and tax.
    pub total: Money,
    /// The arithmetic.
    pub tape: Tape,
    /// What confirming it changes.
    pub changes: Vec<Change>,
    /// What stands in the way of confirming it.
    pub blockers: Vec<Blocker>,
    /// To be sent back when confirming.
    pub fingerprint: String,
}

pub(crate) fn preview_of(resolved: &Resolved<'_>, decision: OrderDecision) -> OrderPreview {
    OrderPreview {
        customer: resolved.input.customer.id,
        customer_name: resolved.input.customer.name.clone(),
        currency: resolved.input.currency,
        fingerprint: fingerprint::of(&(
            &decision.lines.iter().map(|line| (line.item, line.net, line.quantity)).collect::<Vec<_>>(),
            decision.total,
        )),
        lines: decision.lines,
        taxes: decision.taxes,
        net: decision.net,
        total: decision.total,
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
    }
}

/// What above which total the person has to ask; none for no limit, or for the program.
pub(crate) async fn order_limit(
    connection: &mut SqliteConnection,
    role: Option<till_core::people::Role>,
) -> Result<Option<Money>> {
    let Some(role) = role else { return Ok(None) };
    Ok(people::limits(connection).await?.of(role, LimitKind::Order))
}

/// What an order comes to as typed. Nothing is written.
///
/// # Errors
/// What cannot be read, with its field.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    typed: &OrderForm,
    order: Option<OrderId>,
    quote: bool,
    role: Option<till_core::people::Role>,
) -> Result<OrderPreview> {
    let limit = order_limit(connection, role).await?;
    let standing = Standing { order, quote, limit, keep_prices: false };
    let mut resolved = resolve(connection, rules, typed, standing).await?;
    resolved.input.name = match order {
        Some(order) => number_of(connection, order).await?,
        None if quote => "new quote".to_owned(),
        None => "new order".to_owned(),
    };
    let decision = decide(&resolved.input);
    Ok(preview_of(&resolved, decision))
}

async fn number_of(connection: &mut SqliteConnection, id: OrderId) -> Result<String> {
    sqlx::query_scalar!("SELECT number FROM orders WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))
}

/// What makes an order impossible even as a draft: the rest waits for the confirmation.
fn refuse_nonsense(decision: &OrderDecision) -> Result<()> {
    let nonsense = [
        Check::NothingToDo,
        Check::QuantityNotPositive,
        Check::UnitOrStep,
        Check::PriceNotMade,
        Check::LessThanShipped,
        Check::MarkNotAllowed,
        Check::MoreThanCalledOff,
        Check::NotSold,
        Check::ContainerCurrency,
        Check::TreatmentWithoutCode,
    ];
    let found: Vec<Blocker> = decision
        .blockers
        .iter()
        .filter(|blocker| blocker.effect == Effect::Stops && nonsense.contains(&blocker.check))
        .cloned()
        .collect();
    if found.is_empty() { Ok(()) } else { Err(StoreError::Refused(found)) }
}

/// Where a new order comes from.
#[derive(Debug, Clone, Copy, Default)]
pub struct Lineage {
    /// The quote that was accepted.
    pub quote: Option<QuoteId>,
    /// The order it is a copy of.
    pub copied_from: Option<OrderId>,
}

/// Enters a draft order.
///
/// # Errors
/// What cannot be read or cannot be, with its field.
pub async fn enter_form(writing: &mut Writing<'_>, rules: &Rules, typed: &OrderForm, from: Lineage) -> Result<OrderId> {
    let resolved = resolve(writing, rules, typed, Standing::default()).await?;
    let decision = decide(&resolved.input);
    refuse_nonsense(&decision)?;
    enter_resolved(writing, &resolved, &decision.lines, from).await
}

/// Writes a new draft order with lines that are priced.
pub(crate) async fn enter_resolved(
    writing: &mut Writing<'_>,
    resolved: &Resolved<'_>,
    lines: &[PricedLine],
    from: Lineage,
) -> Result<OrderId> {
    let (number, _) = next_number(writing, "order").await?;
    let code = resolved.input.currency.code();
    let terms = terms_json(&resolved.input.terms)?;
    let (quote, copied) = (from.quote.map(|id| id.0), from.copied_from.map(|id| id.0));
    let id = sqlx::query_scalar!(
        "INSERT INTO orders (number, customer_id, order_date, currency, terms, quote_id, copied_from_id, gross_priced)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
        number,
        resolved.input.customer.id.0,
        resolved.input.date,
        code,
        terms,
        quote,
        copied,
        resolved.input.gross_priced
    )
    .fetch_one(&mut **writing)
    .await?;
    write_head(writing, OrderId(id), resolved).await?;
    write_lines(writing, OrderId(id), resolved, lines).await?;
    let is = described(&resolved.form);
    let changes = differences(&Fields::new(), &is);
    writing.note_on((DocumentKind::Order, id, &number), "order_entered", format!("entered {number}"), Some(1), changes);
    Ok(OrderId(id))
}

async fn write_head(connection: &mut SqliteConnection, id: OrderId, resolved: &Resolved<'_>) -> Result<()> {
    let form = &resolved.form;
    let theirs = said(form.customer_order_number.as_deref());
    let address = form.address.as_ref();
    let (name, street, country) = (
        address.map(|address| address.name.trim()),
        address.map(|address| address.address.trim()),
        address.map(|address| address.country.as_str()),
    );
    let ship_to = resolved.ship_to.map(|id| id.0);
    let contact = form.contact.map(|id| id.0);
    let (carrier, delivery, place) =
        (said(form.carrier.as_deref()), said(form.delivery_terms.as_deref()), said(form.delivery_place.as_deref()));
    let (note, own_note) = (said(form.note.as_deref()), said(form.own_note.as_deref()));
    let (tags, marks) = (json(&form.tidy_tags())?, json(&form.marks.trimmed())?);
    let call_off = form.call_off.map(|id| id.0);
    sqlx::query!(
        "UPDATE orders SET customer_order_number = ?, order_date = ?, requested_date = ?, promised_date = ?, ship_to_id = ?,
                ship_name = ?, ship_address = ?, ship_country = ?, warehouse = ?, carrier = ?, delivery_terms = ?, delivery_place = ?,
                salesperson = ?, tags = ?, contact_id = ?, note = ?, own_note = ?, marks = ?, call_off_id = ?
         WHERE id = ?",
        theirs,
        resolved.input.date,
        form.requested_date,
        form.promised_date,
        ship_to,
        name,
        street,
        country,
        resolved.warehouse,
        carrier,
        delivery,
        place,
        resolved.salesperson,
        tags,
        contact,
        note,
        own_note,
        marks,
        call_off,
        id.0
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn write_lines(
    connection: &mut SqliteConnection,
    id: OrderId,
    resolved: &Resolved<'_>,
    lines: &[PricedLine],
) -> Result<()> {
    // Places are given anew; until then none may stand in the way of another.
    sqlx::query!("UPDATE order_lines SET position = -1 - position WHERE order_id = ?", id.0)
        .execute(&mut *connection)
        .await?;
    for ((position, line), refs) in (0_i64..).zip(lines).zip(&resolved.lines) {
        let Some(price) = &line.price else { continue };
        let marks = &resolved.input.lines[usize::try_from(position).unwrap_or(0)].marks;
        write_line(connection, id, position, line, refs, price, &json(marks)?).await?;
    }
    Ok(())
}

async fn write_line(
    connection: &mut SqliteConnection,
    order: OrderId,
    position: i64,
    line: &PricedLine,
    refs: &super::resolve::LineRefs,
    price: &till_core::pricing::PriceBuild,
    marks: &str,
) -> Result<()> {
    let (quantity, factor, over) = (line.quantity.scaled(), line.factor.scaled(), line.over.scaled());
    let (unit_price, list, discount) = (price.unit_price.scaled(), price.list_price.scaled(), price.discount.scaled());
    let surcharge = price.surcharge.scaled();
    let (steps, typed) = (json(&price.steps)?, json(&refs.typed)?);
    match refs.id {
        Some(own) => {
            sqlx::query!(
                "UPDATE order_lines SET position = ?1, item_id = ?2, description = ?3, ordered_e4 = ?4, unit = ?5, factor_e4 = ?6, over_e4 = ?7,
                        allocated_e4 = min(allocated_e4, max(0, ?4 - cancelled_e4 - shipped_e4)), unit_price_e6 = ?8, list_price_e6 = ?9,
                        discount_e6 = ?10, discount_reason = ?11, promotion = ?12, surcharge_e6 = ?13, surcharge_name = ?14,
                        price_steps = ?15, typed = ?16, tax_code = ?17, tax_reason = ?18, net_minor = ?19, warehouse = ?20, marks = ?21,
                        call_off_line_id = ?22, amount_minor = ?24 WHERE id = ?23",
                position, line.item.0, line.description, quantity, line.unit, factor, over, unit_price, list, discount,
                price.discount_reason, price.promotion, surcharge, price.surcharge_name, steps, typed, line.tax.code,
                refs.tax_reason, line.net.0, refs.warehouse, marks, refs.call_off_line, own.0, line.amount.0
            )
            .execute(connection)
            .await?;
        }
        None => {
            sqlx::query!(
                "INSERT INTO order_lines (order_id, position, item_id, description, ordered_e4, unit, factor_e4, over_e4, unit_price_e6,
                        list_price_e6, discount_e6, discount_reason, promotion, surcharge_e6, surcharge_name, price_steps, typed,
                        tax_code, tax_reason, net_minor, warehouse, marks, call_off_line_id, amount_minor)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                order.0, position, line.item.0, line.description, quantity, line.unit, factor, over, unit_price, list,
                discount, price.discount_reason, price.promotion, surcharge, price.surcharge_name, steps, typed,
                line.tax.code, refs.tax_reason, line.net.0, refs.warehouse, marks, refs.call_off_line, line.amount.0
            )
            .execute(connection)
            .await?;
        }
    }
    Ok(())
}

struct Head {
    number: String,
    customer: String,
    version: i64,
    confirmed: bool,
    state: String,
    quote: bool,
}

async fn head(connection: &mut SqliteConnection, id: OrderId, version: Option<i64>) -> Result<Head> {
    let row = sqlx::query!(
        "SELECT orders.number, name, orders.version, confirmed, state, quote_id FROM orders
         JOIN customers ON customers.id = customer_id WHERE orders.id = ?",
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    Ok(Head {
        number: row.number,
        customer: row.name,
        version: row.version,
        confirmed: row.confirmed != 0,
        state: row.state,
        quote: row.quote_id.is_some(),
    })
}

/// Changes a draft, or amends an open order: never below what shipped. Where an amendment takes
/// the customer over its limit, or the order above what the person may confirm, it is asked for.
///
/// # Errors
/// [`StoreError::Stale`], an order that has ended, what the core refuses.
pub async fn change(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    version: i64,
    typed: &OrderForm,
) -> Result<Outcome> {
    let head = head(writing, id, Some(version)).await?;
    if head.confirmed && head.state != "open" {
        return Err(StoreError::WrongState(format!(
            "{} is {}: everything of it has shipped or was cancelled. Copy it into a new order.",
            head.number, head.state
        )));
    }
    let before = form::form(writing, id).await?;
    if typed.customer != before.customer {
        return Err(StoreError::invalid("customer", "An order stays with its customer. Enter another order."));
    }
    let role = writing.actor().role;
    let limit = order_limit(writing, role).await?;
    let standing = Standing { order: Some(id), limit, ..Standing::default() };
    let resolved = resolve(writing, rules, typed, standing).await?;
    let decision = decide(&resolved.input);
    refuse_nonsense(&decision)?;
    if head.confirmed {
        if stops(&decision.blockers) {
            return Err(StoreError::Refused(decision.blockers));
        }
        let old_total = total_of(writing, rules, id).await?;
        if asks(&decision.blockers) && decision.total > old_total {
            let wish = amendment(id, &head, version, typed, &before, &decision);
            let held = held(&decision.blockers);
            if let Some(approval) = approvals::allowed_or_asked_held(writing, rules, wish, held).await? {
                return Ok(Outcome { version, waits: Some(approval) });
            }
        }
    }
    let version = write_change(writing, id, &head, &resolved, &decision, &before).await?;
    Ok(Outcome { version, waits: None })
}

/// Whether it is the customer that is held back.
fn held(blockers: &[Blocker]) -> bool {
    blockers.iter().any(|blocker| matches!(blocker.check, Check::CustomerOnStop | Check::CreditLimit))
}

fn amendment(
    id: OrderId,
    head: &Head,
    version: i64,
    typed: &OrderForm,
    before: &OrderForm,
    decision: &OrderDecision,
) -> Wish {
    let sentences: Vec<&str> = decision
        .blockers
        .iter()
        .filter(|blocker| blocker.effect == Effect::Asks)
        .map(|blocker| blocker.sentence.as_str())
        .collect();
    Wish {
        asked: Asked::ChangeOrder { order: id, version, form: Box::new(typed.clone()) },
        document: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number.clone() },
        amount: decision.total_base,
        words: format!("{} of {} changed", head.number, head.customer),
        changes: differences(&described(before), &described(typed)),
        reason: sentences.join(" "),
    }
}

async fn total_of(connection: &mut SqliteConnection, rules: &Rules, id: OrderId) -> Result<Money> {
    let typed = form::form(connection, id).await?;
    let standing = Standing { order: Some(id), keep_prices: true, ..Standing::default() };
    let resolved = resolve(connection, rules, &typed, standing).await?;
    Ok(decide(&resolved.input).total)
}

async fn write_change(
    writing: &mut Writing<'_>,
    id: OrderId,
    head: &Head,
    resolved: &Resolved<'_>,
    decision: &OrderDecision,
    before: &OrderForm,
) -> Result<i64> {
    let kept: Vec<i64> = resolved.lines.iter().filter_map(|line| line.id).map(|id| id.0).collect();
    let kept = json(&kept)?;
    let gone = sqlx::query!(
        r#"SELECT order_lines.id, code, EXISTS (SELECT 1 FROM shipment_lines WHERE order_line_id = order_lines.id) AS "on_shipment!: bool"
           FROM order_lines JOIN items ON items.id = item_id
           WHERE order_id = ? AND order_lines.id NOT IN (SELECT value FROM json_each(?))"#,
        id.0,
        kept
    )
    .fetch_all(&mut **writing)
    .await?;
    for line in gone {
        if line.on_shipment {
            return Err(StoreError::invalid(
                "lines",
                format!(
                    "{} stands on a shipment and cannot be taken off. Cancel what is left of it instead.",
                    line.code
                ),
            ));
        }
        sqlx::query!("UPDATE expected_goods SET order_line_id = NULL WHERE order_line_id = ?", line.id)
            .execute(&mut **writing)
            .await?;
        sqlx::query!("DELETE FROM order_lines WHERE id = ?", line.id).execute(&mut **writing).await?;
    }
    write_lines(writing, id, resolved, &decision.lines).await?;
    write_head(writing, id, resolved).await?;
    sqlx::query!("UPDATE orders SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    if head.confirmed {
        stock::trim_aside(writing, id).await?;
        stock::set_aside(writing, id, None).await?;
        refresh_states(writing, &[id]).await?;
    }
    let version = head.version + 1;
    let is = described(&form::form(writing, id).await?);
    let changes = differences(&described(before), &is);
    let words = format!("changed {}", head.number);
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_changed", words, Some(version), changes);
    Ok(version)
}

/// An amendment that someone approved.
pub(crate) async fn change_approved(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    version: i64,
    typed: &OrderForm,
) -> Result<()> {
    let head = head(writing, id, Some(version)).await?;
    let before = form::form(writing, id).await?;
    let standing = Standing { order: Some(id), ..Standing::default() };
    let resolved = resolve(writing, rules, typed, standing).await?;
    let decision = decide(&resolved.input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    write_change(writing, id, &head, &resolved, &decision, &before).await?;
    Ok(())
}

/// What stands in the way of confirming an order as it stands, and what confirming changes.
pub(crate) async fn confirmation<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: OrderId,
    limit: Option<Money>,
) -> Result<(Resolved<'a>, OrderDecision)> {
    let typed = form::form(connection, id).await?;
    let standing = Standing { order: Some(id), limit, keep_prices: true, quote: false };
    let mut resolved = resolve(connection, rules, &typed, standing).await?;
    resolved.input.name = number_of(connection, id).await?;
    let mut decision = decide(&resolved.input);
    let quoted = head(connection, id, None).await?.quote;
    if !quoted {
        decision.blockers.splice(0..0, ended_promotions(&resolved, rules.business_date));
    }
    Ok((resolved, decision))
}

/// Promotions that ended between entering and confirming.
fn ended_promotions(resolved: &Resolved<'_>, today: NaiveDate) -> Vec<Blocker> {
    till_core::ordering::ended_promotions(&resolved.input, today)
}

/// Makes a draft order binding, or asks for it: over the credit limit, on stop, above an amount.
///
/// # Errors
/// What the core refuses; an order that is no draft; no reason where someone has to approve.
pub async fn confirm_as(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    version: Option<i64>,
    reason: &str,
) -> Result<Outcome> {
    let head = head(writing, id, version).await?;
    if head.confirmed {
        return Err(StoreError::WrongState(format!("{} is confirmed already.", head.number)));
    }
    let role = writing.actor().role;
    let limit = order_limit(writing, role).await?;
    let (_, decision) = confirmation(writing, rules, id, limit).await?;
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    if asks(&decision.blockers) && writing.actor().role.is_some() {
        let why: Vec<String> = decision
            .blockers
            .iter()
            .filter(|blocker| blocker.effect == Effect::Asks)
            .map(|blocker| blocker.sentence.clone())
            .collect();
        let reason = check_reason(reason).map_err(|_| {
            StoreError::invalid("reason", format!("{} Say why the order should go ahead.", why.join(" ")))
        })?;
        let changes: Vec<FieldChange> = why
            .iter()
            .map(|sentence| FieldChange { field: "why".to_owned(), from: None, to: Some(sentence.clone()) })
            .collect();
        let wish = Wish {
            asked: Asked::ConfirmOrder { order: id },
            document: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number.clone() },
            amount: decision.total_base,
            words: format!("{} for {} confirmed", head.number, head.customer),
            changes,
            reason,
        };
        if let Some(approval) = approvals::allowed_or_asked_held(writing, rules, wish, held(&decision.blockers)).await?
        {
            return Ok(Outcome { version: head.version, waits: Some(approval) });
        }
    }
    write_confirmed(writing, rules, id, &head).await
}

/// A confirmation that someone approved.
pub(crate) async fn confirm_approved(writing: &mut Writing<'_>, rules: &Rules, id: OrderId) -> Result<()> {
    let head = head(writing, id, None).await?;
    if head.confirmed {
        return Err(StoreError::WrongState(format!("{} is confirmed already. Decline this.", head.number)));
    }
    let (_, decision) = confirmation(writing, rules, id, None).await?;
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    write_confirmed(writing, rules, id, &head).await?;
    Ok(())
}

async fn write_confirmed(writing: &mut Writing<'_>, rules: &Rules, id: OrderId, head: &Head) -> Result<Outcome> {
    sqlx::query!(
        "UPDATE orders SET confirmed = 1, confirmed_on = ?, version = version + 1 WHERE id = ?",
        rules.business_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let added = stock::set_aside(writing, id, None).await?;
    let fields = added.iter().map(|(code, quantity)| set(&format!("set aside {code}"), quantity)).collect();
    let version = head.version + 1;
    let words = format!("confirmed {}", head.number);
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_confirmed", words, Some(version), fields);
    refresh_states(writing, &[id]).await?;
    Ok(Outcome { version, waits: None })
}

/// Makes a draft order binding as part of something larger, which is not done where it would have
/// to be asked for.
///
/// # Errors
/// As [`confirm_as`]; [`StoreError::NotAllowed`] where someone has to approve it first.
pub(crate) async fn confirm_at_once(writing: &mut Writing<'_>, rules: &Rules, id: OrderId) -> Result<()> {
    match confirm_as(writing, rules, id, None, "sold over the counter").await?.waits {
        None => Ok(()),
        Some(_) => Err(StoreError::NotAllowed(
            "This order has to be approved before its goods go. Confirm it first, and say why.".to_owned(),
        )),
    }
}

/// Makes a draft order binding, for the program.
///
/// # Errors
/// As [`confirm_as`]; [`StoreError::NotAllowed`] where it would have to be asked for.
pub async fn confirm(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let rules = crate::rules::load(writing).await?;
    match confirm_as(writing, &rules, id, None, "entered by the program").await?.waits {
        None => Ok(()),
        Some(_) => Err(StoreError::NotAllowed("This order has to be approved first.".to_owned())),
    }
}

/// What to cancel.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToCancel {
    /// The version seen.
    pub version: i64,
    /// A line, or none for the rest of the order.
    #[serde(default)]
    pub line: Option<OrderLineId>,
    /// How much of the line, as typed; none for all that has not shipped.
    #[serde(default)]
    pub quantity: Option<String>,
    /// Why.
    pub reason: String,
}

/// Cancels what of an order has not shipped: a line, a part of one, or the rest.
///
/// # Errors
/// [`StoreError::Stale`], nothing left, no reason, what is being shipped.
pub async fn cancel(writing: &mut Writing<'_>, id: OrderId, what: &ToCancel) -> Result<i64> {
    let head = head(writing, id, Some(what.version)).await?;
    let reason = check_reason(&what.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let asked = match said(what.quantity.as_deref()) {
        Some(typed) => Some(stock::read_quantity("quantity", typed)?),
        None => None,
    };
    let only = what.line.map(|line| line.0);
    let lines = sqlx::query!(
        r#"SELECT order_lines.id, code, ordered_e4 - cancelled_e4 - shipped_e4 AS "open!: i64",
                  coalesce((SELECT sum(quantity_e4) FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
                            WHERE order_line_id = order_lines.id AND state IN ('picking', 'packed')), 0) AS "leaving!: i64"
           FROM order_lines JOIN items ON items.id = item_id
           WHERE order_id = ?1 AND (?2 IS NULL OR order_lines.id = ?2) AND ordered_e4 > cancelled_e4 + shipped_e4 ORDER BY position"#,
        id.0,
        only
    )
    .fetch_all(&mut **writing)
    .await?;
    let mut fields = vec![set("reason", &reason)];
    for line in lines {
        let free = line.open - line.leaving;
        let wanted = asked.map_or(free, Quantity::scaled);
        if wanted > free || (free <= 0 && only.is_some()) {
            return Err(StoreError::invalid(
                "quantity",
                format!(
                    "{} of {} can be cancelled: the rest has shipped, or is being shipped.",
                    Quantity::from_scaled(free.max(0)),
                    line.code
                ),
            ));
        }
        if wanted <= 0 {
            continue;
        }
        sqlx::query!(
            "UPDATE order_lines SET cancelled_e4 = cancelled_e4 + ?1, cancel_reason = ?2,
                    allocated_e4 = min(allocated_e4, max(0, ordered_e4 - cancelled_e4 - ?1 - shipped_e4)) WHERE id = ?3",
            wanted,
            reason,
            line.id
        )
        .execute(&mut **writing)
        .await?;
        fields.push(set(&line.code, Quantity::from_scaled(wanted)));
    }
    if fields.len() == 1 {
        return Err(StoreError::WrongState(format!("Nothing of {} is left to cancel.", head.number)));
    }
    sqlx::query!("UPDATE orders SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    let words = match what.line {
        Some(_) => format!("cancelled a line of {}", head.number),
        None => format!("cancelled the rest of {}", head.number),
    };
    let version = head.version + 1;
    writing.note_on((DocumentKind::Order, id.0, &head.number), "order_cancelled", words, Some(version), fields);
    if only.is_none() {
        approvals::document_gone(writing, DocumentKind::Order, id.0).await?;
    }
    refresh_states(writing, &[id]).await?;
    Ok(version)
}

/// Cancels what of the order's lines has not shipped, for the program.
///
/// # Errors
/// As [`cancel`].
pub async fn cancel_rest(writing: &mut Writing<'_>, id: OrderId) -> Result<()> {
    let version = head(writing, id, None).await?.version;
    let what = ToCancel { version, line: None, quantity: None, reason: "not wanted any more".to_owned() };
    cancel(writing, id, &what).await?;
    Ok(())
}

/// Copies an order into a new draft of today, with today's prices.
///
/// # Errors
/// [`StoreError::NotFound`]; what of it cannot be ordered any more.
pub async fn copy(writing: &mut Writing<'_>, rules: &Rules, id: OrderId) -> Result<OrderId> {
    let mut typed = form::form(writing, id).await?;
    typed.order_date = None;
    typed.requested_date = None;
    typed.promised_date = None;
    typed.customer_order_number = None;
    typed.reprice = true;
    for line in &mut typed.lines {
        line.id = None;
    }
    enter_form(writing, rules, &typed, Lineage { quote: None, copied_from: Some(id) }).await
}
