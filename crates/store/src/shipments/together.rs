//! Ship and bill: shipment and invoice posted together, or neither.

use serde::{Deserialize, Serialize};
use till_core::checks::{Blocker, Effect, stops};
use till_core::entry::Entry;
use till_core::fingerprint;
use till_core::ids::{OrderId, ShipmentId};
use till_core::tape::{Change, Tape};

use super::{ShipmentForm, decide_on, picking, posting};
use crate::invoices::{self, InvoicePreview, Pick, PostedInvoice, ToBill};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// What is to be shipped and billed of an order.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipAndBill {
    /// What leaves; none for everything that can go.
    #[serde(default)]
    pub shipment: Option<ShipmentForm>,
    /// Fingerprint of the invoice that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What ship and bill would do, or did.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShippedAndBilled {
    /// The shipment; none in a preview.
    pub shipment: Option<ShipmentId>,
    /// The invoice; none in a preview.
    pub invoice: Option<PostedInvoice>,
    /// The arithmetic of the shipment.
    pub shipment_tape: Tape,
    /// The cost entry.
    pub shipment_entry: Option<Entry>,
    /// What the shipment changes.
    pub shipment_changes: Vec<Change>,
    /// The invoice as it would be; none where the goods cannot leave.
    pub preview: Option<InvoicePreview>,
    /// What stands in the way of the goods, or of the invoice.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub seen: String,
}

/// Ships and bills an order in one posting: where one is blocked, neither is posted.
///
/// # Errors
/// What the core refuses of either; [`StoreError::Moved`] where the invoice is not the one seen.
pub async fn ship_and_bill(
    writing: &mut Writing<'_>,
    rules: &Rules,
    order: OrderId,
    what: &ShipAndBill,
) -> Result<ShippedAndBilled> {
    let done = carry_out(writing, rules, order, what, true).await?;
    if stops(&done.blockers) {
        return Err(StoreError::Refused(done.blockers));
    }
    Ok(done)
}

async fn carry_out(
    writing: &mut Writing<'_>,
    rules: &Rules,
    order: OrderId,
    what: &ShipAndBill,
    posting: bool,
) -> Result<ShippedAndBilled> {
    let shipment = picking::start(writing, rules, order, what.shipment.as_ref()).await?;
    let loaded = decide_on(writing, rules, shipment, rules.business_date).await?;
    let mut done = ShippedAndBilled {
        shipment: posting.then_some(shipment),
        invoice: None,
        shipment_tape: loaded.decision.tape,
        shipment_entry: loaded.decision.entry,
        shipment_changes: loaded.decision.changes,
        preview: None,
        blockers: loaded.decision.blockers,
        seen: String::new(),
    };
    if stops(&done.blockers) {
        return Ok(done);
    }
    posting::post(writing, rules, shipment, None, rules.business_date).await?;
    let lines = super::view(writing, shipment).await?.lines;
    let picks = lines.iter().map(|line| Pick { shipment_line: line.id, quantity: None }).collect();
    let to_bill = ToBill { picks, ..ToBill::default() };
    let preview = invoices::preview(writing, rules, &to_bill).await?.pop();
    if let Some(preview) = &preview {
        done.blockers.extend(preview.blockers.iter().filter(|blocker| blocker.effect == Effect::Stops).cloned());
    }
    done.seen = preview.as_ref().map(figures).unwrap_or_default();
    if posting && !stops(&done.blockers) {
        if what.seen.as_ref().is_some_and(|seen| *seen != done.seen) {
            return Err(StoreError::Moved);
        }
        done.invoice = invoices::post_picks(writing, rules, &to_bill, None).await?.pop();
    } else {
        done.preview = preview;
    }
    Ok(done)
}

/// Mark of the figures of an invoice. Numbers are left out: others may ship meanwhile.
fn figures(preview: &InvoicePreview) -> String {
    let lines: Vec<_> = preview
        .document
        .iter()
        .flat_map(|document| &document.lines)
        .map(|line| (&line.code, line.quantity, line.unit_price, line.net, &line.tax.code))
        .collect();
    let due = preview.document.as_ref().map(|document| (document.total, document.due_date));
    fingerprint::of(&(lines, due))
}

/// What ship and bill would do. It is carried out and taken back: nothing stays written.
///
/// # Errors
/// What cannot be read; where nothing can go.
pub async fn preview_ship_and_bill(
    store: &crate::Store,
    actor: &crate::Actor,
    order: OrderId,
    what: &ShipAndBill,
) -> Result<ShippedAndBilled> {
    store
        .rehearse(actor, async |writing| {
            let rules = crate::rules::load(writing).await?;
            carry_out(writing, &rules, order, what, false).await
        })
        .await
}
