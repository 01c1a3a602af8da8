//! Cards of customers, by what stands for them: their numbers come nowhere near.

use serde::{Deserialize, Serialize};
use till_core::ids::{CardId, CustomerId, DocumentKind};

use crate::open_items::next_id;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers};

/// A card of a customer that was typed on the processor's page.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AddedCard {
    /// Its id here.
    pub id: CardId,
    /// The last four digits of its number.
    pub last_four: String,
    /// The month it is valid through: `2028-05`.
    pub valid_through: String,
}

/// Keeps a card that a customer typed on the processor's page. No number comes near: only what stands for it.
///
/// # Errors
/// A card that is kept already for someone else.
pub async fn add_card(
    writing: &mut Writing<'_>,
    rules: &Rules,
    customer: CustomerId,
    (token, last_four, valid_through): (&str, &str, &str),
) -> Result<AddedCard> {
    let (facts, _) = customers::facts(writing, customer).await?;
    let known =
        sqlx::query!("SELECT id, customer_id FROM cards WHERE token = ?", token).fetch_optional(&mut **writing).await?;
    let id = match known {
        Some(known) if known.customer_id == customer.0 => known.id,
        Some(_) => return Err(StoreError::invalid("session", "This card is another customer's. Add it anew.")),
        None => {
            let id = next_id(writing, "cards").await?;
            sqlx::query!(
                "INSERT INTO cards (id, customer_id, token, last_four, valid_through, added_on) VALUES (?, ?, ?, ?, ?, ?)",
                id,
                customer.0,
                token,
                last_four,
                valid_through,
                rules.business_date
            )
            .execute(&mut **writing)
            .await?;
            id
        }
    };
    let number =
        sqlx::query_scalar!("SELECT number FROM customers WHERE id = ?", customer.0).fetch_one(&mut **writing).await?;
    let words = format!("saved a card of {}", facts.name);
    let fields = vec![set("ends in", last_four)];
    writing.note_on((DocumentKind::Customer, customer.0, &number), "card_kept", words, None, fields);
    Ok(AddedCard { id: CardId(id), last_four: last_four.to_owned(), valid_through: valid_through.to_owned() })
}
