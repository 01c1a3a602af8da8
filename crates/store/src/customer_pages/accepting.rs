//! Quotes accepted by customers on their page, and the orders that confirm themselves.

use chrono::{NaiveDate, SecondsFormat};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::acceptance::{AcceptedLine, QuoteAsks, Requirement, SinceAccepted, ToAccept, check_accept};
use till_core::checks::stops;
use till_core::day_sheet::AcceptedFacts;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, ItemId, OrderId, QuoteId};
use till_core::money::{Currency, Money};
use till_core::ordering::PricedLine;

use super::Link;
use crate::convert::{currency, known};
use crate::invoices::read;
use crate::quotes::{self, QuoteState};
use crate::rules::{Rules, exchange_rate};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, cards, deposits, orders};

/// A customer's word on a quote.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PageAcceptance {
    /// The version that was seen.
    pub version: i64,
    /// Who accepts it.
    pub name: String,
    /// The number the customer gives the order.
    #[serde(default)]
    pub customer_order_number: Option<String>,
}

/// Accepts a quote on the customer's page. Its order confirms itself once what the quote asks for is there.
///
/// # Errors
/// A quote of someone else, or what the core refuses.
pub async fn accept(
    writing: &mut Writing<'_>,
    rules: &Rules,
    link: &Link,
    id: QuoteId,
    word: &PageAcceptance,
) -> Result<OrderId> {
    let quote = quotes::view(writing, rules, id).await?;
    // Whether someone else's quote is there or not, nobody learns here.
    if quote.customer != Some(link.customer) {
        return Err(StoreError::not_found(DocumentKind::Quote, id));
    }
    let open = matches!(quote.state, QuoteState::Open | QuoteState::Expired);
    let to_accept =
        ToAccept { number: quote.number.clone(), open, valid_until: quote.valid_until, version: quote.version };
    let blockers = check_accept(&to_accept, &word.name, word.version, rules.business_date);
    if stops(&blockers) {
        return Err(StoreError::Refused(blockers));
    }
    let name = word.name.trim().to_owned();
    let accepted = quotes::Acceptance {
        version: quote.version,
        customer: None,
        customer_order_number: word.customer_order_number.clone().filter(|text| !text.trim().is_empty()),
    };
    let order =
        quotes::accept(writing, rules, id, &accepted).await.map_err(|error| for_customers(error, &quote.number))?;
    let (day, at) = (rules.business_date, writing.actor().at.to_rfc3339_opts(SecondsFormat::Secs, true));
    let (came_from, asks) = (writing.actor().doer.from.clone(), quote.asked.what.word());
    sqlx::query!(
        "INSERT INTO quote_acceptances (quote_id, order_id, link_id, name, accepted_on, accepted_at, came_from, total_minor, asks, asked_minor)
         VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
        id.0, order.0, link.id.0, name, day, at, came_from, quote.total.0, asks, quote.asked.amount.0
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("accepted by", &name), set("total", quote.currency.format(quote.total))];
    let words = format!("{name} accepted {} on the customer page", quote.number);
    let version = Some(quote.version + 1);
    writing.note_on((DocumentKind::Quote, id.0, &quote.number), "quote_accepted_on_page", words, version, fields);
    settle(writing, rules, order).await?;
    Ok(order)
}

/// What a clerk would put right is no business of the customer's.
fn for_customers(error: StoreError, number: &str) -> StoreError {
    match error {
        StoreError::Invalid { ref field, .. } if field == "customer_order_number" => error,
        StoreError::Invalid { .. } | StoreError::WrongState(_) | StoreError::Refused(_) => {
            StoreError::WrongState(format!("{number} cannot be accepted as it is any more. Ask us for a new one."))
        }
        other => other,
    }
}

/// How an acceptance stands.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AcceptedView {
    /// The quote.
    pub quote: DocumentRef,
    /// The order it became.
    pub order: DocumentRef,
    /// Who accepted it.
    pub name: String,
    /// When.
    pub accepted_on: NaiveDate,
    /// What the quote asked for.
    pub asked: Requirement,
    /// What of it is missing; zero where all of it is there, or the order is confirmed.
    pub missing: Money,
    /// The currency of both.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whether its order is confirmed.
    pub confirmed: bool,
}

struct Loaded {
    view: AcceptedView,
    customer: CustomerId,
    customer_name: String,
    total: Money,
    since: SinceAccepted,
}

/// Acceptances: of one order, of one quote, or of orders that are drafts still.
async fn load(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (order, quote): (Option<OrderId>, Option<QuoteId>),
) -> Result<Vec<Loaded>> {
    let (order, quote) = (order.map(|id| id.0), quote.map(|id| id.0));
    let rows = sqlx::query!(
        r#"SELECT quote_acceptances.quote_id, quotes.number AS quote, quote_acceptances.order_id, orders.number, quote_acceptances.name,
                  accepted_on AS "accepted_on: NaiveDate", quote_acceptances.asks, asked_minor, total_minor, confirmed AS "confirmed: bool",
                  quotes.lines, orders.customer_id, customers.name AS customer, orders.currency
           FROM quote_acceptances JOIN quotes ON quotes.id = quote_acceptances.quote_id JOIN orders ON orders.id = quote_acceptances.order_id
           JOIN customers ON customers.id = orders.customer_id
           WHERE quote_acceptances.order_id = ?1 OR quote_acceptances.quote_id = ?2 OR (?1 IS NULL AND ?2 IS NULL AND confirmed = 0)
           ORDER BY quote_acceptances.quote_id"#,
        order,
        quote
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut loaded = Vec::with_capacity(rows.len());
    for row in rows {
        let asked = Requirement { what: known(&row.asks, QuoteAsks::of)?, amount: Money(row.asked_minor) };
        let (order, customer) = (OrderId(row.order_id), CustomerId(row.customer_id));
        let since = match row.confirmed {
            true => SinceAccepted::AsOffered,
            false => SinceAccepted::of(&offered(&row.lines)?, &lines_of(connection, order).await?),
        };
        let missing = match row.confirmed || since == SinceAccepted::GivenUp {
            true => Money::ZERO,
            false => {
                let held = deposits::target(connection, rules, order, customer).await?.taken_before;
                let (unbooked, left) = cards::standing_for(connection, order, rules.business_date).await?;
                asked.missing(held + unbooked, left)
            }
        };
        loaded.push(Loaded {
            view: AcceptedView {
                quote: DocumentRef { kind: DocumentKind::Quote, id: row.quote_id, number: row.quote },
                order: DocumentRef { kind: DocumentKind::Order, id: row.order_id, number: row.number },
                name: row.name,
                accepted_on: row.accepted_on,
                asked,
                missing,
                currency: currency(&row.currency)?,
                confirmed: row.confirmed,
            },
            customer,
            customer_name: row.customer,
            total: Money(row.total_minor),
            since,
        });
    }
    Ok(loaded)
}

/// The lines of a quote, as they were offered.
fn offered(lines: &str) -> Result<Vec<AcceptedLine>> {
    let lines: Vec<PricedLine> = read(lines)?;
    Ok(lines.into_iter().map(|line| (line.item, line.quantity, line.net)).collect())
}

/// The lines of an order as they stand, what was canceled taken off.
async fn lines_of(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<AcceptedLine>> {
    let rows = sqlx::query!(
        r#"SELECT item_id, ordered_e4 - cancelled_e4 AS "wanted!: i64", net_minor FROM order_lines WHERE order_id = ? ORDER BY position"#,
        order.0
    );
    let line = |item, wanted, net| (ItemId(item), Quantity::from_scaled(wanted), Money(net));
    let rows = rows.fetch_all(connection).await?;
    Ok(rows.into_iter().map(|row| line(row.item_id, row.wanted, row.net_minor)).collect())
}

/// The acceptance an order or a quote comes from; none where there is none.
///
/// # Errors
/// Where the database cannot be read.
pub async fn accepted(
    connection: &mut SqliteConnection,
    rules: &Rules,
    of: (Option<OrderId>, Option<QuoteId>),
) -> Result<Option<AcceptedView>> {
    if of == (None, None) {
        return Ok(None);
    }
    Ok(load(connection, rules, of).await?.pop().map(|loaded| loaded.view))
}

/// Confirms an order that was accepted on the customer page, where all that was asked for is there and nobody has to be
/// asked. Called wherever money or a card came for an order; any other order is left alone.
pub(crate) async fn settle(writing: &mut Writing<'_>, rules: &Rules, order: OrderId) -> Result<()> {
    let Some(loaded) = load(writing, rules, (Some(order), None)).await?.pop() else { return Ok(()) };
    // What nobody accepted is not confirmed by itself.
    let goes = loaded.since == SinceAccepted::AsOffered;
    if loaded.view.confirmed || loaded.view.missing.is_positive() || !goes {
        return Ok(());
    }
    orders::confirm_by_itself(writing, rules, order).await
}

/// Whether the customer accepted the quote an order comes from on their page.
pub(crate) async fn is_accepted(connection: &mut SqliteConnection, order: OrderId) -> Result<bool> {
    let accepted = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM quote_acceptances WHERE order_id = ?) AS "accepted!: bool""#,
        order.0
    );
    Ok(accepted.fetch_one(connection).await?)
}

/// The acceptance an order of a customer comes from; none where there is none, or the order is somebody else's.
pub(super) async fn accepted_by(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (customer, order): (CustomerId, OrderId),
) -> Result<Option<AcceptedView>> {
    let loaded = load(connection, rules, (Some(order), None)).await?.pop();
    Ok(loaded.filter(|loaded| loaded.customer == customer).map(|loaded| loaded.view))
}

/// Accepted orders that did not confirm themselves, for the day sheet; those that were given up are left out.
pub(crate) async fn waiting(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<AcceptedFacts>> {
    let mut facts = Vec::new();
    for loaded in load(connection, rules, (None, None)).await? {
        if loaded.since == SinceAccepted::GivenUp {
            continue;
        }
        let (missing, currency) = (loaded.view.missing, loaded.view.currency);
        let hindered_by = match (missing.is_positive(), loaded.since.hinders()) {
            (true, _) => None,
            (false, Some(changed)) => Some(changed.to_owned()),
            (false, None) => {
                let found = orders::hindering(connection, rules, OrderId(loaded.view.order.id)).await?;
                found.into_iter().next().map(|blocker| blocker.sentence)
            }
        };
        // Without a rate of the day it counts as nothing.
        let rate = exchange_rate(connection, rules, currency, rules.business_date).await?;
        facts.push(AcceptedFacts {
            order: loaded.view.order,
            name: loaded.customer_name,
            by: loaded.view.name,
            missing: missing.is_positive().then(|| loaded.view.asked.words(missing, currency)),
            hindered_by,
            amount: rate.map_or(Money::ZERO, |rate| loaded.total.to_base(rate, currency, rules.base)),
            since: loaded.view.accepted_on,
        });
    }
    Ok(facts)
}
