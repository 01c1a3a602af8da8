//! What a cancelled invoice billed, put on a new draft.

use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, OrderLineId, ShipmentLineId};
use till_core::invoice::cancel::CancelInput;
use till_core::invoice::{DiscountWish, InvoiceDocument, InvoiceLine, LineSource, PriceChange, TaxChange};
use till_core::money::Money;

use super::added::{AsBilled, Beside, load_added};
use super::drafts::write_checked;
use super::load::read;
use super::{AddedLine, Head, OrderPick, Pick, Picked, ToDecide, load_ordered, load_shipped};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// The lines of a posted invoice as they can be put on a draft again: what, how much, at which
/// price and tax.
pub(super) struct Rebillable {
    picks: Vec<Pick>,
    order_picks: Vec<OrderPick>,
    added: Vec<AddedLine>,
    /// How far the changed prices of its lines may go, in base currency; none for any amount.
    prices_allowed: Vec<(LineSourceIds, Option<Money>)>,
    /// How much its discount may take off, in base currency; none for any amount.
    discount_allowed: Option<Money>,
}

type LineSourceIds = (Option<ShipmentLineId>, Option<OrderLineId>);

pub(super) async fn rebillable(
    connection: &mut SqliteConnection,
    id: InvoiceId,
    document: &InvoiceDocument,
) -> Result<Rebillable> {
    let rows = sqlx::query!(
        "SELECT shipment_line_id, order_line_id, quantity_e4, typed, price_allowed_minor FROM invoice_lines WHERE invoice_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let discount_allowed = sqlx::query_scalar!("SELECT discount_allowed_minor FROM invoices WHERE id = ?", id.0)
        .fetch_one(connection)
        .await?;
    let mut lines = Rebillable {
        picks: Vec::new(),
        order_picks: Vec::new(),
        added: Vec::new(),
        prices_allowed: Vec::new(),
        discount_allowed: discount_allowed.map(Money),
    };
    for (row, line) in rows.into_iter().zip(&document.lines) {
        let ids = (row.shipment_line_id.map(ShipmentLineId), row.order_line_id.map(OrderLineId));
        lines.prices_allowed.push((ids, row.price_allowed_minor.map(Money)));
        let quantity = Some(Quantity::from_scaled(row.quantity_e4));
        match (row.shipment_line_id, row.order_line_id, row.typed) {
            (Some(id), ..) => lines.picks.push(Pick { shipment_line: ShipmentLineId(id), quantity }),
            (None, Some(id), _) => lines.order_picks.push(OrderPick { order_line: OrderLineId(id), quantity }),
            (None, None, Some(typed)) => {
                lines.added.push(AddedLine { as_billed: Some(as_billed(line)), ..read(&typed)? });
            }
            (None, None, None) => {}
        }
    }
    debug_assert_eq!(lines.picks.len() + lines.order_picks.len() + lines.added.len(), document.lines.len());
    Ok(lines)
}

/// A typed line as it stands: its price and the way it came about, its tax code and the day that picked the rate.
fn as_billed(line: &InvoiceLine) -> AsBilled {
    AsBilled {
        code: line.code.clone(),
        unit: line.unit.clone(),
        unit_price: line.unit_price,
        list_price: line.list_price,
        discount: line.discount,
        discount_reason: line.discount_reason.clone(),
        surcharge: line.surcharge,
        surcharge_name: line.surcharge_name.clone(),
        steps: line.price_steps.clone(),
        tax_code: line.tax.code.clone(),
        tax_date: line.tax_date,
    }
}

/// A new draft over what a cancelled invoice billed, as it billed it.
pub(super) async fn bill_anew(
    writing: &mut Writing<'_>,
    rules: &Rules,
    input: &CancelInput<'_>,
    again: Rebillable,
) -> Result<InvoiceId> {
    let document = &input.document;
    let unbound = |pick: &Pick| (None, *pick);
    let mut lines = load_shipped(writing, &again.picks.iter().map(unbound).collect::<Vec<_>>()).await?;
    let ordered: Vec<_> = again.order_picks.iter().map(|pick| (None, *pick)).collect();
    lines.extend(load_ordered(writing, &ordered).await?);
    for picked in &mut lines {
        keep_changes(picked, document, &again.prices_allowed);
    }
    let beside = Beside::of(&lines);
    let added = load_added(writing, rules, document.customer, &again.added, beside.as_ref()).await?;
    lines.extend(added);
    let terms =
        (input.orders.first().is_none_or(|order| order.terms != document.terms)).then(|| document.terms.clone());
    let discount = document.discount.as_ref().map(|discount| DiscountWish {
        percent: discount.percent,
        amount: Some(discount.amount),
        reason: discount.reason.clone(),
        allowed: again.discount_allowed,
    });
    // Not before the cancellation: where that lies ahead of the business date, so does the draft.
    let cancelled_on = input.date.date;
    let head = Head {
        document_date: (cancelled_on > rules.business_date).then_some(cancelled_on),
        replaces: Some((input.number.clone(), cancelled_on)),
        terms,
        text_above: document.text_above.clone(),
        text_below: document.text_below.clone(),
        discount: discount.clone(),
        ..Head::default()
    };
    let wanted = vec![ToDecide { customer: document.customer, lines, head }];
    let ids = write_checked(writing, rules, wanted, Some(input.invoice)).await?;
    let id = ids.first().copied().ok_or(StoreError::Moved)?;
    if let Some(wish) = discount {
        let amount = wish.amount.filter(|_| wish.percent.is_none());
        super::keep_discount(writing, id, input.customer.name.as_str(), DiscountWish { amount, ..wish }).await?;
    }
    let words = format!("put what {} billed on a new draft for {}", input.number, input.customer.name);
    writing.note_on((DocumentKind::Invoice, id.0, &format!("draft {id}")), "draft_made", words, Some(1), Vec::new());
    Ok(id)
}

/// Prices and tax codes that the cancelled invoice had been given stay, and so do the limits that were
/// kept to: a larger quantity or another price has to be allowed anew.
fn keep_changes(picked: &mut Picked, document: &InvoiceDocument, allowed: &[(LineSourceIds, Option<Money>)]) {
    let Some(line) = document.lines.iter().find(|line| same(&line.source, &picked.line.source)) else { return };
    picked.line.tax_date = Some(line.tax_date);
    if let Some(reason) = line.price_reason.clone() {
        let ids = (line.source.shipment_line(), line.source.order_line());
        let allowed = allowed.iter().find(|(known, _)| *known == ids).and_then(|(_, allowed)| *allowed);
        picked.line.price_change = Some(PriceChange { unit_price: line.unit_price, reason, allowed });
    }
    if let (Some(_), Some(reason)) = (&line.order_tax_code, line.tax_reason.clone()) {
        picked.line.tax_change = Some(TaxChange { code: line.tax.code.clone(), reason });
    }
}

fn same(one: &LineSource, other: &LineSource) -> bool {
    one.shipment_line() == other.shipment_line() && one.order_line() == other.order_line()
}
