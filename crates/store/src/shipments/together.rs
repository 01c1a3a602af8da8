//! Ship and bill: shipment and invoice posted together, or neither.

use serde::{Deserialize, Serialize};
use till_core::checks::{Blocker, Effect, stops};
use till_core::entry::Entry;
use till_core::fingerprint;
use till_core::ids::{DocumentKind, OpenItemId, OrderId, ReceiptId, ShipmentId};
use till_core::money::Money;
use till_core::settle::Applied;
use till_core::tape::{Change, Tape};

use super::{ShipmentForm, decide_on, picking, posting};
use crate::invoices::{self, InvoicePreview, Pick, PostedInvoice, ToBill};
use crate::receipts::{self, MoneyPreview, NewReceipt};
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
    /// Whether a draft order is confirmed first: a sale over the counter.
    #[serde(default)]
    pub confirm: bool,
    /// Money that came in for it at once.
    #[serde(default)]
    pub paid: Option<PaidAtOnce>,
    /// Fingerprint of the invoice that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// Money that comes in as the goods go out.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PaidAtOnce {
    /// How: the code of a way of paying.
    pub method: String,
    /// How much, as typed; none for what is due of the invoice once its deposits are applied: nothing where that is nothing.
    #[serde(default)]
    pub amount: Option<String>,
    /// Check number, words of the transfer.
    #[serde(default)]
    pub reference: Option<String>,
}

/// What ship and bill would do, or did.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShippedAndBilled {
    /// The shipment; none in a preview.
    pub shipment: Option<ShipmentId>,
    /// The invoice; none in a preview.
    pub invoice: Option<PostedInvoice>,
    /// The receipt; none in a preview, or where nothing was paid.
    pub receipt: Option<ReceiptId>,
    /// The arithmetic of the shipment.
    pub shipment_tape: Tape,
    /// The cost entry.
    pub shipment_entry: Option<Entry>,
    /// What the shipment changes.
    pub shipment_changes: Vec<Change>,
    /// The invoice as it would be; none where the goods cannot leave.
    pub preview: Option<InvoicePreview>,
    /// The receipt as it would be, where money comes in at once.
    pub money: Option<MoneyPreview>,
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
    if what.confirm {
        crate::orders::confirm_at_once(writing, rules, order).await?;
    }
    let shipment = picking::start(writing, rules, order, what.shipment.as_ref()).await?;
    let loaded = decide_on(writing, rules, shipment, rules.business_date).await?;
    let mut done = ShippedAndBilled {
        shipment: posting.then_some(shipment),
        invoice: None,
        receipt: None,
        shipment_tape: loaded.decision.tape,
        shipment_entry: loaded.decision.entry,
        shipment_changes: loaded.decision.changes,
        preview: None,
        money: None,
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
    if !posting {
        done.preview.clone_from(&preview);
    }
    // A preview goes on as far as the money does: it is taken back with all the rest.
    if stops(&done.blockers) || !(posting || what.paid.is_some()) {
        return Ok(done);
    }
    let invoice = invoices::post_picks(writing, rules, &to_bill, None).await?.pop();
    if let (Some(paid), Some(invoice), Some(preview)) = (&what.paid, &invoice, &preview)
        && let Some(receipt) = receipt_for(paid, invoice, preview)?
    {
        let money = receipts::preview(writing, rules, &receipt).await.map_err(of_money)?;
        done.seen = fingerprint::of(&(&done.seen, where_it_goes(&money, invoice)));
        if posting {
            done.receipt = Some(receipts::post(writing, rules, &receipt, None).await.map_err(of_money)?.id);
        } else {
            let stopping = money.blockers.iter().filter(|blocker| blocker.effect == Effect::Stops);
            done.blockers.extend(at_money(stopping.cloned()));
            done.money = Some(money);
        }
    }
    if posting {
        // All of it is taken back where it is not what was seen.
        writing.saw(what.seen.as_deref(), &done.seen)?;
        done.invoice = invoice;
    }
    Ok(done)
}

/// Which open items the money pays by how much, the one posted with it without its id: another may
/// have it by then.
fn where_it_goes(money: &MoneyPreview, invoice: &PostedInvoice) -> Vec<(Option<OpenItemId>, Money)> {
    let applied = money.document.applied.iter();
    let this = |one: &Applied| one.document.kind == DocumentKind::Invoice && one.document.id == invoice.id.0;
    applied.map(|one| ((!this(one)).then_some(one.item), one.amount)).collect()
}

/// What was paid at once, applied to the invoice first; none where nothing was said and nothing is due.
fn receipt_for(paid: &PaidAtOnce, invoice: &PostedInvoice, preview: &InvoicePreview) -> Result<Option<NewReceipt>> {
    let document = preview.document.as_ref().ok_or(StoreError::Moved)?;
    let amount = paid.amount.as_deref().map(str::trim).filter(|amount| !amount.is_empty());
    if amount.is_none() && !document.due.is_positive() {
        return Ok(None);
    }
    Ok(Some(NewReceipt {
        customer: preview.customer,
        method: paid.method.clone(),
        date: None,
        amount: amount.map_or_else(|| document.currency.format(document.due), str::to_owned),
        reference: paid.reference.clone(),
        applications: None,
        first: Some(invoice.id),
        with: Vec::new(),
        // Whatever else they are billed in, this is paid in the invoice's.
        currency: Some(document.currency.code().to_owned()),
    }))
}

/// The fields of the receipt are those of what was paid.
fn of_money(error: StoreError) -> StoreError {
    match error {
        StoreError::Invalid { field, sentence } => StoreError::Invalid { field: format!("paid.{field}"), sentence },
        StoreError::Refused(blockers) => StoreError::Refused(at_money(blockers).collect()),
        other => other,
    }
}

fn at_money(blockers: impl IntoIterator<Item = Blocker>) -> impl Iterator<Item = Blocker> {
    blockers.into_iter().map(|blocker| Blocker { field: format!("paid.{}", blocker.field), ..blocker })
}

/// Several orders to ship and bill.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ShipAndBillMany {
    /// The orders.
    pub orders: Vec<OrderId>,
    /// What was seen of each, in their order.
    #[serde(default)]
    pub seen: Vec<String>,
}

/// The most orders that are shipped and billed at once.
const MOST_ORDERS: usize = 100;

async fn each(
    writing: &mut Writing<'_>,
    rules: &Rules,
    many: &ShipAndBillMany,
    posting: bool,
) -> Result<Vec<ShippedAndBilled>> {
    if many.orders.is_empty() || many.orders.len() > MOST_ORDERS {
        return Err(StoreError::invalid("orders", format!("Pick 1 to {MOST_ORDERS} orders.")));
    }
    let mut done = Vec::with_capacity(many.orders.len());
    for (at, order) in many.orders.iter().enumerate() {
        let what = ShipAndBill { seen: many.seen.get(at).cloned(), ..ShipAndBill::default() };
        done.push(carry_out(writing, rules, *order, &what, posting).await?);
    }
    Ok(done)
}

/// Ships and bills several confirmed orders: where one is blocked, none is posted.
///
/// # Errors
/// As [`ship_and_bill`].
pub async fn ship_and_bill_many(
    writing: &mut Writing<'_>,
    rules: &Rules,
    many: &ShipAndBillMany,
) -> Result<Vec<ShippedAndBilled>> {
    if many.seen.len() != many.orders.len() {
        return Err(StoreError::Moved);
    }
    let done = each(writing, rules, many, true).await?;
    if let Some(blocked) = done.iter().find(|one| stops(&one.blockers)) {
        return Err(StoreError::Refused(blocked.blockers.clone()));
    }
    Ok(done)
}

/// What shipping and billing several orders would do. It is carried out and taken back.
///
/// # Errors
/// What cannot be read; an order of which nothing can go.
pub async fn preview_ship_and_bill_many(
    store: &crate::Store,
    actor: &crate::Actor,
    many: &ShipAndBillMany,
) -> Result<Vec<ShippedAndBilled>> {
    let many = ShipAndBillMany { orders: many.orders.clone(), seen: Vec::new() };
    store
        .rehearse(actor, async |writing| {
            let rules = crate::rules::load(writing).await?;
            each(writing, &rules, &many, false).await
        })
        .await
}

/// Mark of the figures of an invoice and of what it books. Numbers are left out: others may ship meanwhile.
fn figures(preview: &InvoicePreview) -> String {
    let lines: Vec<_> = preview
        .document
        .iter()
        .flat_map(|document| &document.lines)
        .map(|line| (&line.code, line.quantity, line.unit_price, line.net, &line.tax.code))
        .collect();
    let due = preview
        .document
        .as_ref()
        .map(|document| (document.total, document.total_base, document.rate, document.due_date, &document.discount));
    let booked = |entry: &Option<Entry>| -> Vec<_> {
        entry
            .iter()
            .flat_map(|entry| &entry.lines)
            .map(|line| (line.account.clone(), line.base, line.document))
            .collect()
    };
    fingerprint::of(&(lines, due, booked(&preview.entry), booked(&preview.cost_entry)))
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
