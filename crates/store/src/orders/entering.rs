//! Entering orders, and copying them.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Step, at_step, stops};
use till_core::fingerprint;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, OrderId, QuoteId};
use till_core::merge::{Fields, differences};
use till_core::money::{Currency, Money};
use till_core::ordering::{ConfirmLimits, OrderDecision, PricedLine, decide};
use till_core::people::LimitKind;
use till_core::tape::{Change, Tape};
use till_core::tax::TaxLine;

use super::form::{self, OrderForm, described, said};
use super::resolve::{Resolved, Standing, resolve};
use crate::convert::{json, terms_json};
use crate::rules::{Rules, next_number};
use crate::writing::Writing;
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

/// Above which amounts the person has to ask; none for the program.
pub(crate) async fn confirm_limits(
    connection: &mut SqliteConnection,
    role: Option<till_core::people::Role>,
) -> Result<ConfirmLimits> {
    let Some(role) = role else { return Ok(ConfirmLimits::default()) };
    let limits = people::limits(connection).await?;
    Ok(ConfirmLimits { total: limits.of(role, LimitKind::Order), given_away: limits.of(role, LimitKind::PriceChange) })
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
    let limits = confirm_limits(connection, role).await?;
    let standing = Standing { order, quote, limits, keep_prices: false };
    let mut resolved = resolve(connection, rules, typed, standing).await?;
    resolved.input.name = match order {
        Some(order) => number_of(connection, order).await?,
        None if quote => "new quote".to_owned(),
        None => "new order".to_owned(),
    };
    let decision = decide(&resolved.input);
    Ok(preview_of(&resolved, decision))
}

pub(super) async fn number_of(connection: &mut SqliteConnection, id: OrderId) -> Result<String> {
    sqlx::query_scalar!("SELECT number FROM orders WHERE id = ?", id.0)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))
}

/// Refuses an order that cannot stand at a step, whatever a confirmation would still ask for.
pub(crate) fn refuse_at(decision: &OrderDecision, step: Step) -> Result<()> {
    let found = at_step(&decision.blockers, step);
    if stops(&found) { Err(StoreError::Refused(found)) } else { Ok(()) }
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
    refuse_at(&decision, Step::Draft)?;
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

pub(super) async fn write_head(connection: &mut SqliteConnection, id: OrderId, resolved: &Resolved<'_>) -> Result<()> {
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

pub(super) async fn write_lines(
    connection: &mut SqliteConnection,
    id: OrderId,
    resolved: &Resolved<'_>,
    lines: &[PricedLine],
) -> Result<()> {
    let before: HashMap<i64, i64> =
        sqlx::query!(r#"SELECT id AS "id!", ordered_e4 FROM order_lines WHERE order_id = ?"#, id.0)
            .fetch_all(&mut *connection)
            .await?
            .into_iter()
            .map(|row| (row.id, row.ordered_e4))
            .collect();
    let less: Vec<_> = lines
        .iter()
        .zip(&resolved.lines)
        .filter_map(|(line, refs)| {
            let less = before.get(&refs.id?.0)? - line.quantity.scaled();
            Some((refs.id?, Quantity::from_scaled(less)))
        })
        .filter(|(_, less)| less.is_positive())
        .collect();
    stock::trim_aside(connection, &less).await?;
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

pub(super) async fn write_line(
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
                        unit_price_e6 = ?8, list_price_e6 = ?9,
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
