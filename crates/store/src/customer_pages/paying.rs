//! Cards on the customer's page: left for an order that asks for one, or paying a deposit or an invoice at once.

use serde::{Deserialize, Serialize};
use till_core::card::Again;
use till_core::ids::{CardId, DocumentKind, DocumentRef, InvoiceId, OrderId};
use till_core::money::Money;

use super::Link;
use super::accepting::accepted_by;
use crate::cards::{self, Asked, NewAuthorization, NewCardPayment};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// What a card is left for, or pays.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PagePays {
    /// What an accepted order asks for.
    Order,
    /// An invoice.
    Invoice,
}

/// A card used on the customer's page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PagePayment {
    /// What it is left for, or pays.
    pub pays: PagePays,
    /// The id of that order or invoice.
    pub id: i64,
    /// Which card.
    pub card: CardId,
    /// The amount that was seen.
    pub amount: Money,
}

/// What is asked of the processor, and whether the money is taken at once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PageAsked {
    /// What was written down.
    pub asked: Asked,
    /// Whether the money is taken at once: a deposit, an invoice. A card that is only left is captured by us later.
    pub at_once: bool,
}

/// Writes down what a card on the customer's page is to do. The same once more goes on with what was begun.
///
/// # Errors
/// An order or invoice of someone else, an amount that is not the one that was seen, or what the core refuses.
pub async fn pay(writing: &mut Writing<'_>, rules: &Rules, link: &Link, wish: &PagePayment) -> Result<PageAsked> {
    let (customer, amount) = (link.customer, wish.amount);
    match wish.pays {
        PagePays::Invoice => {
            let invoice = InvoiceId(wish.id);
            let known = cards::invoices_to_pay(writing, rules, (customer, &[invoice])).await?.remove(&invoice);
            let number = known.ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, invoice))?.number;
            let target = DocumentRef { kind: DocumentKind::Invoice, id: wish.id, number };
            if let Some(begun) = begun(writing, rules, &target, (wish, true)).await? {
                return Ok(PageAsked { asked: begun, at_once: true });
            }
            let new = NewCardPayment { customer, invoice, card: wish.card, amount };
            Ok(PageAsked { asked: cards::pay(writing, rules, &new).await?, at_once: true })
        }
        PagePays::Order => {
            let order = OrderId(wish.id);
            let accepted = accepted_by(writing, rules, (customer, order)).await?;
            let accepted = accepted.ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
            let at_once = accepted.asked.what.takes_money();
            if !accepted.missing.is_positive() {
                let sentence = format!("Nothing is missing for {} any more.", accepted.order.number);
                return Err(StoreError::WrongState(sentence));
            }
            if accepted.missing != amount {
                return Err(StoreError::Moved);
            }
            if let Some(begun) = begun(writing, rules, &accepted.order, (wish, at_once)).await? {
                return Ok(PageAsked { asked: begun, at_once });
            }
            let amount = Some(accepted.currency.format(amount));
            let new = NewAuthorization { order, card: wish.card, amount };
            Ok(PageAsked { asked: cards::authorize(writing, rules, &new).await?, at_once })
        }
    }
}

/// What goes on where a card was used for the same before; none where it is something new.
async fn begun(
    writing: &mut Writing<'_>,
    rules: &Rules,
    target: &DocumentRef,
    (wish, at_once): (&PagePayment, bool),
) -> Result<Option<Asked>> {
    let Some((id, earlier)) = cards::earlier(writing, rules, (target.kind, target.id)).await? else { return Ok(None) };
    match earlier.again(wish.card, wish.amount, at_once) {
        Again::Anew => Ok(None),
        Again::GoesOn => cards::go_on(writing, id).await.map(Some),
        Again::Waits => {
            let sentence = format!("A card is being used for {} already. Look again in a moment.", target.number);
            Err(StoreError::WrongState(sentence))
        }
    }
}
