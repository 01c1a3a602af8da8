//! Whose money it is, by what someone has in hand: the number of a document, a payment reference, an amount.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{CustomerId, DocumentRef, OpenItemId};
use till_core::money::{Currency, Money};
use till_core::settle::references_in;

use crate::convert::{currency, json, kind};
use crate::rules::Rules;
use crate::{Result, open_items};

/// How many are shown: who sees more types more.
const MOST: i64 = 8;
/// A discount for early payment takes off no more than one part in so many: what is looked at for an amount less a discount.
const LARGEST_DISCOUNT: i64 = 4;

/// Someone who may have paid, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PayerFound {
    /// Who.
    pub customer: CustomerId,
    /// The name.
    pub customer_name: String,
    /// What was found: something open, an order, a shipment.
    pub document: DocumentRef,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What of it is open; none where it is nothing that is owed.
    pub open: Option<Money>,
    /// What is to be paid of that today, where paying early takes something off and the amount that was typed is what is left.
    pub early: Option<Money>,
    /// Whether it was found by the amount, not by a number.
    pub by_amount: bool,
}

/// Who may have paid: by a part of a number of what is open, of an order, a shipment or the customer's own order number, by a payment
/// reference, or by `amount`, a decimal, where something is open over just that, or less its discount for early payment.
///
/// # Errors
/// Where the database cannot be read.
pub async fn payers(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (words, amount): (&str, Option<&str>),
) -> Result<Vec<PayerFound>> {
    let mut found = by_number(connection, words).await?;
    if let Some(amount) = amount.map(str::trim).filter(|amount| !amount.is_empty()) {
        let equal = by_amount(connection, rules, amount).await?;
        // What is both is there once, with what is to be paid of it.
        found.retain(|one| !equal.iter().any(|other| other.document == one.document));
        found.extend(equal);
    }
    Ok(found)
}

async fn by_number(connection: &mut SqliteConnection, words: &str) -> Result<Vec<PayerFound>> {
    let reference = references_in(words).into_iter().next();
    // Of a reference what stands behind its check digits is the number.
    let typed = reference.as_deref().and_then(|reference| reference.get(4..)).unwrap_or(words);
    let plain: String = typed.chars().filter(|letter| letter.is_ascii_alphanumeric()).collect();
    if plain.len() < 2 || !plain.chars().any(|letter| letter.is_ascii_digit()) {
        return Ok(Vec::new());
    }
    let rows = sqlx::query!(
        r#"SELECT found.kind AS "kind!: String", found.id AS "id!: i64", found.number AS "number!: String", customer AS "customer!: i64", customers.name AS "name!: String",
                  found.currency AS "currency!: String", open AS "open: i64"
           FROM (
               SELECT * FROM (SELECT 1 AS place, kind, document_id AS id, number, customer_id AS customer, currency, open_minor AS open FROM open_items
                              WHERE open_minor > 0 AND side = 'owed_to_us' AND purpose = 'receivable' AND replace(number, '-', '') LIKE '%' || ?1 || '%'
                              ORDER BY next_due_date, open_items.id LIMIT ?2)
               UNION ALL
               SELECT * FROM (SELECT 2, 'order', orders.id, number, customer_id, currency, NULL FROM orders
                              WHERE replace(number, '-', '') LIKE '%' || ?1 || '%' OR replace(customer_order_number, '-', '') LIKE '%' || ?1 || '%'
                              ORDER BY orders.id DESC LIMIT ?2)
               UNION ALL
               SELECT * FROM (SELECT 3, 'shipment', shipments.id, shipments.number, shipments.customer_id, customers.currency, NULL
                              FROM shipments JOIN customers ON customers.id = shipments.customer_id
                              WHERE replace(shipments.number, '-', '') LIKE '%' || ?1 || '%' ORDER BY shipments.id DESC LIMIT ?2)
           ) AS found JOIN customers ON customers.id = customer ORDER BY place LIMIT ?2"#,
        plain,
        MOST
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(PayerFound {
                customer: CustomerId(row.customer),
                customer_name: row.name,
                document: DocumentRef { kind: kind(&row.kind)?, id: row.id, number: row.number },
                currency: currency(&row.currency)?,
                open: row.open.map(Money),
                early: None,
                by_amount: false,
            })
        })
        .collect()
}

/// One open item that may be what an amount is for.
struct Open {
    item: OpenItemId,
    found: PayerFound,
    wanted: Money,
}

async fn by_amount(connection: &mut SqliteConnection, rules: &Rules, amount: &str) -> Result<Vec<PayerFound>> {
    let codes = sqlx::query_scalar!(r#"SELECT DISTINCT currency FROM open_items WHERE open_minor > 0"#)
        .fetch_all(&mut *connection)
        .await?;
    let mut wanted: Vec<(String, i64)> = Vec::new();
    for code in codes {
        // What is no amount of a currency is none that is open in it.
        wanted.extend(
            currency(&code)?.parse(amount).ok().filter(|money| money.is_positive()).map(|money| (code, money.0)),
        );
    }
    let wanted = json(&wanted)?;
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "item!", kind, document_id, open_items.number, customer_id, customers.name AS "name!", open_items.currency, open_minor,
                  wanted.value ->> 1 AS "wanted!: i64"
           FROM json_each(?1) AS wanted JOIN open_items ON open_items.currency = wanted.value ->> 0
           JOIN customers ON customers.id = customer_id
           WHERE side = 'owed_to_us' AND purpose = 'receivable'
             AND (open_minor = wanted.value ->> 1
                  OR (open_items.terms ->> '$.discount' IS NOT NULL AND open_minor > wanted.value ->> 1 AND open_minor - open_minor / ?2 <= wanted.value ->> 1))
           -- The smaller what is taken off, the likelier it is a discount.
           ORDER BY open_minor - (wanted.value ->> 1), next_due_date, open_items.id LIMIT 200"#,
        wanted,
        LARGEST_DISCOUNT
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut open = Vec::with_capacity(rows.len());
    for row in rows {
        let document = DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number };
        let found = PayerFound {
            customer: CustomerId(row.customer_id),
            customer_name: row.name,
            document,
            currency: currency(&row.currency)?,
            open: Some(Money(row.open_minor)),
            early: None,
            by_amount: true,
        };
        open.push(Open { item: OpenItemId(row.item), found, wanted: Money(row.wanted) });
    }
    let more = open.iter().filter(|one| one.found.open != Some(one.wanted)).map(|one| one.item);
    let early = open_items::early(connection, more.collect::<Vec<_>>().into_iter()).await?;
    let fits = |one: Open| {
        let open = one.found.open?;
        if open == one.wanted {
            return Some(one.found);
        }
        let to_pay = open - early.get(&one.item)?.for_all(rules.business_date, open);
        (to_pay == one.wanted).then_some(PayerFound { early: Some(to_pay), ..one.found })
    };
    Ok(open.into_iter().filter_map(fits).take(usize::try_from(MOST).unwrap_or_default()).collect())
}
