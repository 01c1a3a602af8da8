//! Authorizations as the core wants them.

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::card::{Authorization, CardNext, Status};
use till_core::day_sheet::{CardFacts, ToBookFacts};
use till_core::ids::{CardAuthorizationId, CustomerId, DocumentKind, DocumentRef, InvoiceId, OrderId};
use till_core::money::{Currency, Money};
use till_core::order::OrderFacts;

use crate::convert::{currency, json, known};
use crate::ledger::PostedEntry;
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError, ledger, orders, prepayments};

/// What an authorization is for.
#[derive(Debug, Clone)]
pub(super) enum Target {
    /// An order: captured once its goods have gone.
    Order(Box<OrderFacts>),
    /// An invoice that it pays at once.
    Invoice { id: InvoiceId, number: String, open: Money },
}

impl Target {
    pub(super) fn document(&self) -> DocumentRef {
        match self {
            Self::Order(order) => {
                DocumentRef { kind: DocumentKind::Order, id: order.id.0, number: order.number.clone() }
            }
            Self::Invoice { id, number, .. } => {
                DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: number.clone() }
            }
        }
    }

    pub(super) fn order(&self) -> Option<OrderId> {
        match self {
            Self::Order(order) => Some(order.id),
            Self::Invoice { .. } => None,
        }
    }

    /// What captured money can be applied to.
    pub(super) fn open_by_invoice(&self) -> Vec<(InvoiceId, Money)> {
        match self {
            Self::Order(order) => order.open_by_invoice(),
            Self::Invoice { id, open, .. } => Vec::from_iter(open.is_positive().then_some((*id, *open))),
        }
    }
}

/// An authorization with everything beside it.
#[derive(Debug, Clone)]
pub(super) struct Loaded {
    pub(super) id: CardAuthorizationId,
    pub(super) card: Authorization,
    pub(super) customer: CustomerId,
    pub(super) customer_name: String,
    pub(super) target: Target,
    pub(super) reference: Option<String>,
    pub(super) revision: i64,
    pub(super) asked_on: NaiveDate,
    pub(super) words: Option<String>,
    pub(super) last_four: String,
    pub(super) version: i64,
}

impl Loaded {
    pub(super) fn document(&self) -> DocumentRef {
        DocumentRef { kind: DocumentKind::CardAuthorization, id: self.id.0, number: self.card.number.clone() }
    }
}

/// Authorizations, in the order of `ids`.
pub(super) async fn load_all(connection: &mut SqliteConnection, ids: &[CardAuthorizationId]) -> Result<Vec<Loaded>> {
    let wanted = json(&ids)?;
    let rows = sqlx::query!(
        r#"SELECT card_authorizations.id AS "id!", card_authorizations.number AS "number!", card_authorizations.customer_id AS "customer!",
                  customers.name AS "name!", order_id AS "order: i64", invoice_id AS "invoice: i64", card_authorizations.currency AS "currency!", amount_minor AS "amount!",
                  asked_on AS "asked_on!: NaiveDate", status AS "status!", reference, revision AS "revision!",
                  valid_until AS "valid_until: NaiveDate", words, last_four AS "last_four!", card_authorizations.version AS "version!",
                  coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures WHERE authorization_id = card_authorizations.id), 0) AS "captured!: i64",
                  EXISTS (SELECT 1 FROM card_calls WHERE authorization_id = card_authorizations.id AND answer IS NULL) AS "waits!: bool"
           FROM json_each(?) AS wanted JOIN card_authorizations ON card_authorizations.id = wanted.value
           JOIN customers ON customers.id = card_authorizations.customer_id JOIN cards ON cards.id = card_id ORDER BY wanted.key"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let on: Vec<OrderId> = rows.iter().filter_map(|row| row.order.map(OrderId)).collect();
    let mut facts = orders::facts(connection, &on).await?.into_iter();
    let pays: Vec<i64> = rows.iter().filter_map(|row| row.invoice).collect();
    let invoices = paid_invoices(connection, &pays).await?;
    let prepaid = prepayments::left_with_tax(connection, &json(&on)?).await?;
    rows.into_iter()
        .map(|row| {
            let lost = || StoreError::Corrupt(format!("what {} is for", row.number));
            let (target, due) = match row.invoice {
                // Facts come in the order of the orders that were asked for.
                None => {
                    let order = facts.next().ok_or_else(lost)?;
                    let due = order.gone_out_unpaid(prepaid.get(&order.id.0).copied().unwrap_or_default());
                    (Target::Order(Box::new(order)), due)
                }
                Some(id) => {
                    let (number, open) = invoices.get(&id).cloned().ok_or_else(lost)?;
                    (Target::Invoice { id: InvoiceId(id), number, open }, open)
                }
            };
            Ok(Loaded {
                id: CardAuthorizationId(row.id),
                card: Authorization {
                    number: row.number,
                    status: known(&row.status, Status::of)?,
                    currency: currency(&row.currency)?,
                    amount: Money(row.amount),
                    captured: Money(row.captured),
                    valid_until: row.valid_until,
                    waits: row.waits,
                    due,
                },
                customer: CustomerId(row.customer),
                customer_name: row.name,
                target,
                reference: row.reference,
                revision: row.revision,
                asked_on: row.asked_on,
                words: row.words,
                last_four: row.last_four,
                version: row.version,
            })
        })
        .collect()
}

/// Number of the invoices that cards pay, and what is open of them.
async fn paid_invoices(connection: &mut SqliteConnection, invoices: &[i64]) -> Result<HashMap<i64, (String, Money)>> {
    if invoices.is_empty() {
        return Ok(HashMap::new());
    }
    let wanted = json(&invoices)?;
    let rows = sqlx::query!(
        r#"SELECT documents.id AS "id!", documents.number AS "number!", coalesce(open_minor, 0) AS "open!: i64"
           FROM json_each(?) AS wanted CROSS JOIN documents ON documents.id = wanted.value
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND document_id = documents.id AND side = 'owed_to_us'
           WHERE documents.kind IN ('invoice', 'prepayment_invoice') AND documents.number IS NOT NULL"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    Ok(rows.into_iter().map(|row| (row.id, (row.number, Money(row.open)))).collect())
}

/// What cards have brought for an order and is not in the books yet, and what is authorized for it on a day and neither
/// captured nor over.
pub(crate) async fn standing_for(
    connection: &mut SqliteConnection,
    order: OrderId,
    today: NaiveDate,
) -> Result<(Money, Money)> {
    let row = sqlx::query!(
        r#"SELECT coalesce(sum(unbooked), 0) AS "unbooked!: i64",
                  coalesce(sum(CASE WHEN status = 'live' AND valid_until >= ?2 THEN amount_minor - captured END), 0) AS "left!: i64"
           FROM (SELECT status, valid_until, amount_minor,
                        coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures WHERE authorization_id = card_authorizations.id), 0) AS captured,
                        coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures
                                  WHERE authorization_id = card_authorizations.id AND payment_id IS NULL), 0) AS unbooked
                 FROM card_authorizations WHERE order_id = ?1)"#,
        order.0,
        today
    )
    .fetch_one(connection)
    .await?;
    Ok((Money(row.unbooked), Money(row.left)))
}

/// One of them.
pub(super) async fn load(connection: &mut SqliteConnection, id: CardAuthorizationId) -> Result<Loaded> {
    let loaded = load_all(connection, &[id]).await?.pop();
    loaded.ok_or_else(|| StoreError::not_found(DocumentKind::CardAuthorization, id))
}

/// What is authorized for each order and neither captured nor given up; `orders` is a list in JSON.
pub(crate) async fn left_of(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, Money>> {
    Ok(sqlx::query!(
        r#"SELECT order_id AS "order_id!", sum(amount_minor - coalesce((SELECT sum(card_captures.amount_minor) FROM card_captures
                                                         WHERE authorization_id = card_authorizations.id), 0)) AS "left!: i64"
           FROM json_each(?) AS wanted CROSS JOIN card_authorizations ON order_id = wanted.value
           WHERE status IN ('asked', 'live') GROUP BY order_id"#,
        orders
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (row.order_id, Money(row.left)))
    .collect())
}

/// Entries of what went back to the card a payment came with.
pub(crate) async fn entries_of(connection: &mut SqliteConnection, payment: i64) -> Result<Vec<PostedEntry>> {
    let returns = sqlx::query_scalar!(
        r#"SELECT card_returns.id AS "id!" FROM card_captures JOIN card_returns ON capture_id = card_captures.id
           WHERE payment_id = ? AND entry_id IS NOT NULL ORDER BY card_returns.id"#,
        payment
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut entries = Vec::new();
    for id in returns {
        entries.extend(ledger::entries_of(connection, DocumentKind::CardReturn, id).await?);
    }
    Ok(entries)
}

async fn in_base(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (money, amount): (Currency, Money),
) -> Result<Money> {
    // Without a rate of the day it counts as nothing.
    let rate = exchange_rate(connection, rules, money, rules.business_date).await?;
    Ok(rate.map_or(Money::ZERO, |rate| amount.to_base(rate, money, rules.base)))
}

/// Authorizations with something to do: those that stand or wait, and the last of an order that came to nothing.
pub(crate) async fn of_day_sheet(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<CardFacts>> {
    let ids = sqlx::query_scalar!(
        r#"SELECT mine.id AS "id!" FROM card_authorizations AS mine WHERE status IN ('asked', 'live')
           UNION SELECT authorization_id FROM card_calls WHERE answer IS NULL
           UNION SELECT mine.id FROM card_authorizations AS mine JOIN orders ON orders.id = mine.order_id
           WHERE status IN ('declined', 'another_card', 'expired') AND orders.state IN ('open', 'filled')
             AND NOT EXISTS (SELECT 1 FROM card_authorizations AS later WHERE later.order_id = mine.order_id AND later.id > mine.id)"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<CardAuthorizationId> = ids.into_iter().map(CardAuthorizationId).collect();
    let mut facts = Vec::with_capacity(ids.len());
    for loaded in load_all(connection, &ids).await? {
        let amount = match loaded.card.next(rules.business_date) {
            CardNext::Capture => loaded.card.to_capture(),
            _ => loaded.card.left(),
        };
        facts.push(CardFacts {
            authorization: loaded.document(),
            name: loaded.customer_name,
            target: loaded.target.document(),
            amount: in_base(connection, rules, (loaded.card.currency, amount)).await?,
            card: loaded.card,
            since: loaded.asked_on,
        });
    }
    Ok(facts)
}

/// What the processor told of that is not in the books yet: captures, what went back, payouts.
pub(crate) async fn to_book(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<ToBookFacts>> {
    let rows = sqlx::query!(
        r#"SELECT 'captured' AS "what!", card_authorizations.id AS "id!", card_authorizations.number AS "number!", customers.name AS "name!",
                  card_captures.amount_minor AS "amount!", card_authorizations.currency AS "currency!", captured_on AS "day!: NaiveDate"
           FROM card_captures JOIN card_authorizations ON card_authorizations.id = authorization_id
           JOIN customers ON customers.id = card_authorizations.customer_id WHERE payment_id IS NULL
           UNION ALL
           SELECT card_returns.kind, card_authorizations.id, card_authorizations.number, customers.name, card_returns.amount_minor, card_authorizations.currency, happened_on
           FROM card_returns JOIN card_captures ON card_captures.id = capture_id JOIN card_authorizations ON card_authorizations.id = authorization_id
           JOIN customers ON customers.id = card_authorizations.customer_id WHERE entry_id IS NULL
           UNION ALL
           SELECT 'paid_out', id, reference, 'Card processor', net_minor, currency, paid_on FROM card_payouts WHERE entry_id IS NULL"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut facts = Vec::with_capacity(rows.len());
    for row in rows {
        let (kind, why) = match row.what.as_str() {
            "paid_out" => (DocumentKind::CardPayout, format!("{} is not in the books", row.number)),
            "charged_back" => (DocumentKind::CardAuthorization, format!("{} was charged back", row.number)),
            "refunded" => (DocumentKind::CardAuthorization, format!("a refund of {} is not in the books", row.number)),
            _ => (DocumentKind::CardAuthorization, format!("a capture of {} is not in the books", row.number)),
        };
        facts.push(ToBookFacts {
            at: DocumentRef { kind, id: row.id, number: row.number },
            title: row.name,
            why,
            amount: in_base(connection, rules, (currency(&row.currency)?, Money(row.amount))).await?,
            since: row.day,
        });
    }
    Ok(facts)
}
