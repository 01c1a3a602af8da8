//! Cards on the customer's page: left for an order that asks for one, or paying a deposit or an invoice at once.

use serde::{Deserialize, Serialize};
use till_core::acceptance::QuoteAsks;
use till_core::ids::{CardId, DocumentKind, InvoiceId, OrderId};
use till_core::money::Money;

use super::{Link, accepted};
use crate::cards::{self, Asked, NewAuthorization, NewCardPayment};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers};

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

/// Writes down what a card on the customer's page is to do.
///
/// # Errors
/// An order or invoice of someone else, an amount that is not the one that was seen, or what the core refuses.
pub async fn pay(writing: &mut Writing<'_>, rules: &Rules, link: &Link, wish: &PagePayment) -> Result<PageAsked> {
    match wish.pays {
        PagePays::Invoice => {
            let new = NewCardPayment {
                customer: link.customer,
                invoice: InvoiceId(wish.id),
                card: wish.card,
                amount: wish.amount,
            };
            Ok(PageAsked { asked: cards::pay(writing, rules, &new).await?, at_once: true })
        }
        PagePays::Order => {
            let order = OrderId(wish.id);
            let (_, own) = customers::facts(writing, link.customer).await?;
            let mine =
                sqlx::query_scalar!("SELECT id FROM orders WHERE id = ? AND customer_id = ?", order.0, link.customer.0)
                    .fetch_optional(&mut **writing)
                    .await?;
            let accepted = match mine {
                Some(_) => accepted(writing, rules, (Some(order), None)).await?,
                None => None,
            };
            let accepted = accepted.ok_or_else(|| StoreError::not_found(DocumentKind::Order, order))?;
            if !accepted.missing.is_positive() {
                let sentence = format!("Nothing is missing for {} any more.", accepted.order.number);
                return Err(StoreError::WrongState(sentence));
            }
            if accepted.missing != wish.amount {
                return Err(StoreError::Moved);
            }
            let amount = Some(own.format(wish.amount));
            let new = NewAuthorization { order, card: wish.card, amount };
            let asked = cards::authorize(writing, rules, &new).await?;
            Ok(PageAsked { asked, at_once: accepted.asked.what == QuoteAsks::Deposit })
        }
    }
}
