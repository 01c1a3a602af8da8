//! Cards that pay at once: invoices, and what a customer uses a card for on their own page.

use std::collections::HashMap;

use sqlx::SqliteConnection;
use till_core::card::{Earlier, InvoiceToPay, check_pay};
use till_core::checks::stops;
use till_core::ids::{CardAuthorizationId, CardId, CustomerId, DocumentKind, DocumentRef, InvoiceId};
use till_core::money::Money;

use super::{Asked, NewCapture, ask_to_authorize, capture, note, open_calls};
use crate::cards::facts::load;
use crate::convert::{currency, json};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers};

/// An invoice that is to be paid by card.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewCardPayment {
    /// Whose card and invoice.
    pub customer: CustomerId,
    /// Which invoice.
    pub invoice: InvoiceId,
    /// Which card.
    pub card: CardId,
    /// How much, in the currency of the invoice.
    pub amount: Money,
}

/// What there is to pay by card of posted invoices of a customer, prepayment invoices among them; those of anybody else
/// are left out.
pub(crate) async fn invoices_to_pay(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, invoices): (CustomerId, &[InvoiceId]),
) -> Result<HashMap<InvoiceId, InvoiceToPay>> {
    let (wanted, today) = (json(&invoices)?, rules.business_date);
    let rows = sqlx::query!(
        r#"SELECT documents.id AS "id!", documents.number AS "number!", documents.currency AS "currency!", coalesce(open_minor, 0) AS "open!: i64",
                  coalesce((SELECT sum(amount_minor - coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures
                                                                WHERE authorization_id = card_authorizations.id AND payment_id IS NOT NULL), 0))
                            FROM card_authorizations
                            WHERE invoice_id = documents.id AND (status = 'asked' OR (status = 'live' AND valid_until >= ?3))), 0) AS "authorized!: i64"
           FROM json_each(?1) AS wanted CROSS JOIN documents ON documents.id = wanted.value
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND document_id = documents.id AND side = 'owed_to_us'
           WHERE documents.customer_id = ?2 AND documents.kind IN ('invoice', 'prepayment_invoice') AND documents.number IS NOT NULL"#,
        wanted,
        customer.0,
        today
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let (currency, open) = (currency(&row.currency)?, Money(row.open));
            let authorized = Money(row.authorized);
            Ok((InvoiceId(row.id), InvoiceToPay { number: row.number, currency, open, authorized }))
        })
        .collect()
}

/// Writes down that a card is to pay an invoice. It is authorized first; [`capture_all`] takes the money.
///
/// # Errors
/// An invoice of someone else, or what the core refuses.
pub async fn pay(writing: &mut Writing<'_>, rules: &Rules, new: &NewCardPayment) -> Result<Asked> {
    let (_, own) = customers::facts(writing, new.customer).await?;
    let invoice = invoices_to_pay(writing, rules, (new.customer, &[new.invoice])).await?.remove(&new.invoice);
    let invoice = invoice.ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, new.invoice))?;
    let blockers = check_pay(&invoice, new.amount, own);
    if stops(&blockers) {
        return Err(StoreError::Refused(blockers));
    }
    let target = DocumentRef { kind: DocumentKind::Invoice, id: new.invoice.0, number: invoice.number };
    ask_to_authorize(writing, rules, (new.customer, new.card, &target), (invoice.currency, new.amount)).await
}

/// The latest authorization for an order or an invoice that is not done with: not answered, or else not captured.
pub(crate) async fn earlier(
    connection: &mut SqliteConnection,
    rules: &Rules,
    target: (DocumentKind, i64),
) -> Result<Option<(CardAuthorizationId, Earlier)>> {
    let (order, invoice) = match target {
        (DocumentKind::Invoice, id) => (None, Some(id)),
        (_, id) => (Some(id), None),
    };
    let row = sqlx::query!(
        r#"SELECT id AS "id!", card_id AS "card!", waits AS "waits!: bool", left_minor AS "left!: i64"
           FROM (SELECT id, card_id, EXISTS (SELECT 1 FROM card_calls WHERE authorization_id = card_authorizations.id AND answer IS NULL) AS waits,
                        amount_minor - coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures
                                                 WHERE authorization_id = card_authorizations.id), 0) AS left_minor
                 FROM card_authorizations WHERE (order_id = ?1 OR invoice_id = ?2)
                   AND (status = 'asked' OR (status = 'live' AND valid_until >= ?3)))
           WHERE waits OR left_minor > 0 ORDER BY waits DESC, id DESC LIMIT 1"#,
        order,
        invoice,
        rules.business_date
    )
    .fetch_optional(connection)
    .await?;
    let earlier = |card, left, waits| Earlier { card: CardId(card), left: Money(left), waits };
    Ok(row.map(|row| (CardAuthorizationId(row.id), earlier(row.card, row.left, row.waits))))
}

/// What was begun goes on: whatever was not answered is asked again, with its key.
pub(crate) async fn go_on(writing: &mut Writing<'_>, id: CardAuthorizationId) -> Result<Asked> {
    let loaded = load(writing, id).await?;
    let call = open_calls(writing, id).await?.first().map(|outgoing| outgoing.call);
    note(writing, &loaded, ("card_goes_on", "went on with the card of"), Vec::new()).await?;
    Ok(Asked { authorization: id, call, waits: None })
}

/// Writes down that all that is left of an authorization is to be captured, where it stands; none where it does not.
///
/// # Errors
/// What the core refuses.
pub async fn capture_all(writing: &mut Writing<'_>, rules: &Rules, id: CardAuthorizationId) -> Result<Option<Asked>> {
    let loaded = load(writing, id).await?;
    if loaded.card.waits || !loaded.card.stands(rules.business_date) {
        return Ok(None);
    }
    let amount = Some(loaded.card.currency.format(loaded.card.left()));
    capture(writing, rules, id, (loaded.version, &NewCapture { amount, seen: None })).await.map(Some)
}
