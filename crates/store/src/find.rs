//! Finding any document, customer or item by what people type.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::DocumentRef;

use crate::Result;
use crate::convert::kind;

/// Longer than any number or name; SQLite refuses patterns without measure.
const LONGEST: usize = 200;

/// A LIKE pattern that finds `text` anywhere, taken literally.
pub(crate) fn pattern(text: &str) -> String {
    let mut pattern = String::with_capacity(text.len() + 2);
    pattern.push('%');
    for character in text.trim().chars().take(LONGEST) {
        if matches!(character, '%' | '_' | '\\') {
            pattern.push('\\');
        }
        pattern.push(character);
    }
    pattern.push('%');
    pattern
}

/// Something found.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Found {
    /// Where it leads.
    pub document: DocumentRef,
    /// What it is, in words.
    pub text: String,
    /// Whether the number is exactly what was typed.
    pub exact: bool,
}

/// Documents and customers whose number or name holds `text`: exact numbers first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn find(connection: &mut SqliteConnection, text: &str) -> Result<Vec<Found>> {
    let exact = text.trim().to_uppercase();
    if exact.is_empty() {
        return Ok(Vec::new());
    }
    let like = pattern(text);
    let rows = sqlx::query!(
        r#"SELECT kind AS "kind!: String", id AS "id!: i64", number AS "number!: String", text AS "text!: String" FROM (
             SELECT 'customer' AS kind, id, number, name AS text, 0 AS rank FROM customers
               WHERE name LIKE ?1 ESCAPE '\' OR number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'order', orders.id, orders.number, name, 1 FROM orders JOIN customers ON customers.id = customer_id
               WHERE orders.number LIKE ?1 ESCAPE '\' OR customer_order_number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'shipment', shipments.id, shipments.number, name, 2 FROM shipments JOIN customers ON customers.id = customer_id
               WHERE shipments.number LIKE ?1 ESCAPE '\' OR consignment_number LIKE ?1 ESCAPE '\' OR outside_number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'invoice', invoices.id, invoices.number, name, 3 FROM invoices JOIN customers ON customers.id = customer_id
               WHERE invoices.number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'credit_memo', memo.id, memo.number, memo.bill_to_name, 3 FROM credit_memos AS memo
               WHERE memo.number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT kind, payments.id, payments.number, name, 4 FROM payments JOIN customers ON customers.id = customer_id
               WHERE payments.number LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'card_authorization', card_authorizations.id, card_authorizations.number, name, 4
               FROM card_authorizations JOIN customers ON customers.id = customer_id WHERE card_authorizations.number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'card_payout', id, coalesce(number, reference), 'Card payout', 4 FROM card_payouts
               WHERE number LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'payment_request', payment_requests.id, payment_requests.number, bill_to_name, 3 FROM payment_requests
               WHERE payment_requests.number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'return', returns.id, returns.number, name, 3 FROM returns JOIN customers ON customers.id = customer_id
               WHERE returns.number LIKE ?1 ESCAPE '\' OR reference LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'item', id, code, name, 0 FROM items WHERE code LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'quote', quotes.id, quotes.number, coalesce(customers.name, contacts.company, contacts.name), 1 FROM quotes
               LEFT JOIN customers ON customers.id = quotes.customer_id LEFT JOIN contacts ON contacts.id = quotes.contact_id
               WHERE quotes.number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'call_off', call_offs.id, call_offs.number, name, 1 FROM call_offs JOIN customers ON customers.id = customer_id
               WHERE call_offs.number LIKE ?1 ESCAPE '\' OR customer_order_number LIKE ?1 ESCAPE '\'
             UNION ALL SELECT 'entry', id, 'E-' || number, text, 5 FROM entries WHERE 'E-' || number = ?2
           ) ORDER BY upper(number) <> ?2, rank, id DESC LIMIT 12"#,
        like,
        exact
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(Found {
                exact: row.number.to_uppercase() == exact,
                document: DocumentRef { kind: kind(&row.kind)?, id: row.id, number: row.number },
                text: row.text,
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    #[test]
    fn what_is_typed_is_taken_literally() {
        assert_eq!(super::pattern(" 5%_\\ "), "%5\\%\\_\\\\%");
    }
}
