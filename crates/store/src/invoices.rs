//! Invoices: drafts that reserve what they bill, posting them, cancelling them.

mod added;
mod alone;
mod cancel;
mod conflict;
mod credit;
mod credit_drafts;
mod deposit_wishes;
mod drafts;
mod inputs;
mod line_changes;
mod load;
mod memos;
mod post;
mod rebill;
mod views;
mod write;

use std::collections::{BTreeSet, HashMap};

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::checks::{Blocker, Step};
use till_core::deposit::using::DepositOffer;
use till_core::entry::Entry;
use till_core::ids::{CustomerId, InvoiceId};
use till_core::invoice::{Combine, InvoiceDecision, InvoiceDocument, InvoiceInput, decide_in_order, group};
use till_core::tape::{Change, Tape};

use crate::rules::Rules;
use crate::{Result, StoreError, sensible_date};

pub use added::AddedLine;
pub use alone::{CameBack, CreditAlone, CreditAlonePreview, credit_alone, credit_alone_preview};
pub(crate) use alone::{load as load_alone, write as write_alone};
pub use cancel::{CancelPreview, Cancelled, ToCancelInvoice, cancel, cancel_preview};
pub use conflict::{MergeView, ToMerge, merge};
pub use credit::{CreditLine, CreditPosted, CreditPreview, ToCredit, credit, credit_preview};
pub(crate) use credit::{load as load_credit, write as write_credit};
pub use credit_drafts::{
    CreditDraft, CreditDraftForm, CreditDraftRow, credit_draft, credit_drafts, credit_from, drop_credit_draft,
    save_credit_draft,
};
pub use deposit_wishes::{DepositWish, change_deposit};
pub(crate) use drafts::{DraftRow, drafts, drop_many, write_drafts};
pub use drafts::{change_draft, drop_draft, make_drafts};
pub(crate) use inputs::{Head, ToDecide, inputs};
use line_changes::keep_discount;
pub use line_changes::{LineKey, NewDiscount, NewPrice, NewTax, change_discount, change_price, change_tax};
pub(crate) use line_changes::{discount_or_ask, price_or_ask};
pub use load::{OrderPick, Pick};
pub(crate) use load::{Picked, load_ordered, load_shipped, read};
pub use memos::{
    CreditMemoFilter, CreditMemoList, CreditMemoRow, CreditMemoView, KeptCredit, UsedCredit, credit_memo, credit_memos,
};
pub(crate) use post::{Decided, decide_as_seen, decide_drafts};
pub use post::{GridAnswer, SeenDraft, post_draft, post_grid, post_many, post_picks, preview_grid};
pub use views::{InvoiceFilter, InvoiceList, InvoiceRow, InvoiceView, LessPrepaid, Party, list, view};
pub(crate) use write::{ToPost, post_all};

/// What to bill, and what was typed about it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToBill {
    /// Lines of posted shipments; without a quantity all that is unbilled.
    #[serde(default)]
    pub picks: Vec<Pick>,
    /// Work and charges of orders that need no shipment.
    #[serde(default)]
    pub order_picks: Vec<OrderPick>,
    /// Lines typed here.
    #[serde(default)]
    pub added: Vec<AddedLine>,
    /// Who is billed, where nothing is picked.
    #[serde(default)]
    pub customer: Option<CustomerId>,
    /// Document date, if typed.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date, if typed.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
    /// Terms for this invoice, if chosen.
    #[serde(default)]
    pub terms: Option<Terms>,
    /// Words above the lines.
    #[serde(default)]
    pub text_above: Option<String>,
    /// Words below the lines.
    #[serde(default)]
    pub text_below: Option<String>,
    /// How picks are put together.
    #[serde(default)]
    pub combine: Combine,
    /// Whether what a structured invoice would keep apart goes together all the same.
    #[serde(default)]
    pub together: bool,
}

impl ToBill {
    /// What can be said about it alone.
    fn check(&self) -> Result<()> {
        for (field, date) in [("document_date", self.document_date), ("posting_date", self.posting_date)] {
            if let Some(date) = date {
                sensible_date(field, date)?;
            }
        }
        for (field, text) in [("text_above", &self.text_above), ("text_below", &self.text_below)] {
            if text.as_ref().is_some_and(|text| text.chars().count() > 2_000) {
                return Err(StoreError::invalid(field, "Write 2,000 characters at most."));
            }
        }
        if let Some(terms) = &self.terms {
            terms.check().map_err(|(_, sentence)| StoreError::invalid("terms", sentence))?;
        }
        Ok(())
    }

    fn head(&self) -> Head {
        let said =
            |text: &Option<String>| text.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned);
        Head {
            document_date: self.document_date,
            posting_date: self.posting_date,
            terms: self.terms.clone(),
            text_above: said(&self.text_above),
            text_below: said(&self.text_below),
            discount: None,
            waits: None,
            replaces: None,
            gross_priced: None,
            deposits: Vec::new(),
        }
    }
}

/// An invoice as it would be posted.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoicePreview {
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The document.
    pub document: Option<InvoiceDocument>,
    /// The entry it will write.
    pub entry: Option<Entry>,
    /// The entry of the cost that follows billing.
    pub cost_entry: Option<Entry>,
    /// Deposits that could be applied to it, used or not.
    pub deposits: Vec<DepositOffer>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What it changes.
    pub changes: Vec<Change>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub fingerprint: String,
}

impl InvoicePreview {
    pub(crate) fn of(input: &InvoiceInput<'_>, decision: InvoiceDecision) -> Self {
        Self {
            customer: input.customer.id,
            customer_name: input.customer.name.clone(),
            document: decision.document,
            entry: decision.entry,
            cost_entry: decision.cost_entry,
            deposits: decision.deposits,
            tape: decision.tape,
            changes: decision.changes,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// An invoice that was posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedInvoice {
    /// Its id.
    pub id: InvoiceId,
    /// Its number.
    pub number: String,
}

/// What the picks come to: one invoice for each group of what may stand together.
///
/// # Errors
/// An unknown line, a date out of reach.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    to_bill: &ToBill,
) -> Result<Vec<InvoicePreview>> {
    let wanted = split(connection, rules, to_bill).await?;
    let mut inputs = inputs(connection, rules, Step::Post, wanted).await?;
    let decisions = decide_in_order(&mut inputs);
    Ok(inputs.iter().zip(decisions).map(|(input, decision)| InvoicePreview::of(input, decision)).collect())
}

/// Picks sorted into invoices. What is typed goes on the first of them, or makes one alone.
async fn split(connection: &mut SqliteConnection, rules: &Rules, to_bill: &ToBill) -> Result<Vec<ToDecide>> {
    to_bill.check()?;
    let picks = with_freight(connection, rules, &to_bill.picks).await?;
    let mut picked = load_shipped(connection, &unbound(&picks)).await?;
    picked.extend(load_ordered(connection, &unbound(&to_bill.order_picks)).await?);
    let mut groups: Vec<ToDecide> =
        group(picked.into_iter().map(|one| (one.picking.clone(), one)).collect(), to_bill.combine, to_bill.together)
            .into_iter()
            .map(|(group, lines)| ToDecide { customer: group.customer, lines, head: to_bill.head() })
            .collect();
    if !to_bill.added.is_empty() {
        match groups.first_mut() {
            Some(first) => {
                let beside = added::Beside::of(&first.lines);
                let typed = &to_bill.added;
                let added = added::load_added(connection, rules, first.customer, typed, beside.as_ref()).await?;
                first.lines.extend(added);
            }
            None => {
                let customer = added::check_customer(connection, to_bill.customer).await?;
                let lines = added::load_added(connection, rules, customer, &to_bill.added, None).await?;
                groups.push(ToDecide { customer, lines, head: to_bill.head() });
            }
        }
    }
    Ok(groups)
}

fn unbound<P: Clone>(picks: &[P]) -> Vec<(Option<InvoiceId>, P)> {
    picks.iter().map(|pick| (None, pick.clone())).collect()
}

/// Freight of a shipment goes with the first line of it that is billed while it is unbilled itself, whatever
/// was billed and canceled before. *Source: domain.md section 7.*
async fn with_freight(connection: &mut SqliteConnection, rules: &Rules, picks: &[Pick]) -> Result<Vec<Pick>> {
    let Some(freight) = rules.freight_item.filter(|_| !picks.is_empty()) else { return Ok(picks.to_vec()) };
    let ids = crate::convert::json(&picks.iter().map(|pick| pick.shipment_line).collect::<Vec<_>>())?;
    let shipments: HashMap<i64, i64> = sqlx::query!(
        r#"SELECT shipment_lines.id AS "id!", shipment_id AS "shipment!" FROM json_each(?) AS wanted
           JOIN shipment_lines ON shipment_lines.id = wanted.value"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| (row.id, row.shipment))
    .collect();
    let wanted = crate::convert::json(&shipments.values().collect::<BTreeSet<_>>())?;
    let mut unbilled: HashMap<i64, Vec<i64>> = HashMap::new();
    for row in sqlx::query!(
        r#"SELECT shipment_id AS "shipment!", freight.id AS "id!" FROM json_each(?1) AS wanted
           JOIN shipment_lines AS freight ON shipment_id = wanted.value AND unbilled_e4 > 0
           JOIN order_lines ON order_lines.id = order_line_id AND item_id = ?2 ORDER BY freight.id"#,
        wanted,
        freight.0
    )
    .fetch_all(connection)
    .await?
    {
        if !shipments.contains_key(&row.id) {
            unbilled.entry(row.shipment).or_default().push(row.id);
        }
    }
    // After the last picked line of its shipment.
    let mut all = Vec::with_capacity(picks.len());
    for pick in picks.iter().rev() {
        let shipment = shipments.get(&pick.shipment_line.0);
        for id in shipment.and_then(|shipment| unbilled.remove(shipment)).unwrap_or_default() {
            all.push(Pick { shipment_line: till_core::ids::ShipmentLineId(id), quantity: None });
        }
        all.push(*pick);
    }
    all.reverse();
    Ok(all)
}
