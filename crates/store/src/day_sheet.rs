//! What the day sheet and the spine show.

use std::collections::HashMap;

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::Step;
use till_core::day_sheet::{
    Ageing, ApprovalFacts, DayFacts, DayItem, DraftFacts, FINISH_WITHIN_DAYS, HangingFacts, LONG_HELD_DAYS, LateFacts,
    PackedFacts, UnappliedFacts, UnbilledFacts, UnfinishedFacts, Work, customer_ref, rank,
};
use till_core::fixed::ExchangeRate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, OpenItemId, OrderId};
use till_core::money::{Currency, Money};
use till_core::order::OrderFacts;
use till_core::people::ApprovalState;

use crate::approvals::Viewer;
use crate::convert::{json, kind};
use crate::invoices::{credit_drafts, decide_drafts};
use crate::open_items::Aged;
use crate::rules::{self, Rules, exchange_rate};
use crate::unbilled::{ToValue, nets};
use crate::{Result, unbilled};

/// The day sheet.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DaySheet {
    /// The day.
    pub business_date: NaiveDate,
    /// The work, ranked.
    pub items: Vec<DayItem>,
    /// Net value shipped and not billed.
    pub unbilled: Money,
    /// How much more that is than at the end of the day before.
    pub unbilled_change: Money,
    /// What is owed.
    pub owed: Money,
    /// How much more that is than at the end of the day before.
    pub owed_change: Money,
    /// What of it is past due.
    pub late: Money,
    /// What is owed, by days late.
    pub ageing: Ageing,
    /// Totals of the last day something was posted before the business date.
    pub yesterday: DayTotals,
}

/// What was done on a day, gross in base currency.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DayTotals {
    /// The day.
    pub date: NaiveDate,
    /// Invoices posted.
    pub billed: Money,
    /// Receipts posted.
    pub received: Money,
}

/// Works out the day sheet. What waits for approval stands on that of who can approve it.
///
/// # Errors
/// Where the database cannot be read.
pub async fn day_sheet(connection: &mut SqliteConnection, viewer: Option<Viewer>) -> Result<DaySheet> {
    let rules = rules::load(connection).await?;
    let today = rules.business_date;
    let filter = unbilled::UnbilledFilter { limit: Some(LOOKED_AT), ..unbilled::UnbilledFilter::default() };
    let unbilled = unbilled::list(connection, &rules, &filter).await?;
    let sums = unbilled::sums(connection, &rules, &unbilled::UnbilledFilter::default()).await?;
    let today_only = unbilled::UnbilledFilter { up_to_days: Some(0), ..unbilled::UnbilledFilter::default() };
    let shipped_today: Money =
        unbilled::sums(connection, &rules, &today_only).await?.iter().map(|sum| sum.net_base).sum();
    let mut facts = DayFacts { unbilled: unbilled_facts(&unbilled, &sums), ..DayFacts::default() };
    load_unapplied(connection, &mut facts).await?;
    load_packed(connection, &rules, &mut facts).await?;
    let ageing = load_late(connection, today, &mut facts).await?;
    load_hanging(connection, today, &mut facts).await?;
    facts.to_credit = crate::prepayments::to_credit(connection, today).await?;
    facts.cards = crate::cards::of_day_sheet(connection, &rules).await?;
    facts.to_book = crate::cards::to_book(connection, &rules).await?;
    facts.accepted = crate::customer_pages::waiting(connection, &rules).await?;
    facts.returned = crate::returns::of_day_sheet(connection, &rules).await?;
    facts.bank = crate::bank::of_day_sheet(connection, &rules).await?;
    facts.slips = crate::bank::slips_waiting(connection).await?;
    facts.disputes = crate::disputes::of_day_sheet(connection, &rules).await?;
    load_unfinished(connection, today, &mut facts).await?;
    load_approvals(connection, viewer, &mut facts).await?;
    load_drafts(connection, &rules, viewer, &mut facts).await?;
    Ok(DaySheet {
        business_date: today,
        items: rank(&facts, today),
        unbilled: unbilled.net_base,
        unbilled_change: shipped_today - billed_of_earlier(connection, today, &rules).await?,
        owed: ageing.total(),
        owed_change: owed_change(connection, today).await?,
        late: ageing.late(),
        ageing,
        yesterday: yesterday(connection, today).await?,
    })
}

/// What invoices of today took off what was unbilled yesterday, net in base currency.
async fn billed_of_earlier(connection: &mut SqliteConnection, today: NaiveDate, rules: &Rules) -> Result<Money> {
    let rows = sqlx::query!(
        r#"SELECT currency, rate_e9 AS "rate!", sum(invoice_lines.net_minor) AS "net!: i64"
           FROM invoices JOIN invoice_lines ON invoice_id = invoices.id
           JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
           WHERE invoices.state = 'posted' AND invoices.posting_date = ?1 AND shipments.posting_date < ?1
           GROUP BY invoices.id"#,
        today
    )
    .fetch_all(connection)
    .await?;
    let mut sum = Money::ZERO;
    for row in rows {
        let document = crate::convert::currency(&row.currency)?;
        sum += Money(row.net).to_base(ExchangeRate::from_scaled(row.rate), document, rules.base);
    }
    Ok(sum)
}

async fn owed_change(connection: &mut SqliteConnection, today: NaiveDate) -> Result<Money> {
    let sum = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(base_minor), 0) AS "sum!: i64" FROM entries JOIN entry_lines ON entry_id = entries.id
           WHERE posting_date = ? AND purpose = 'receivable'"#,
        today
    )
    .fetch_one(connection)
    .await?;
    Ok(Money(sum))
}

/// How many of the oldest shipments are looked at for what stands in their way.
const LOOKED_AT: i64 = 1_000;

/// Stopped and ready shipments of a customer are two different things to do.
fn unbilled_facts(unbilled: &unbilled::Unbilled, sums: &[unbilled::CustomerSum]) -> Vec<UnbilledFacts> {
    let mut facts = Vec::new();
    for customer in &unbilled.customers {
        let (stopped, ready): (Vec<_>, Vec<_>) =
            customer.shipments.iter().partition(|shipment| till_core::checks::stops(&shipment.blockers));
        let of = |mine: &[&unbilled::UnbilledShipment]| {
            let oldest = mine.iter().map(|shipment| shipment.shipped_on).min()?;
            Some(UnbilledFacts {
                customer: customer_ref(customer.customer.0, &customer.number),
                name: customer.name.clone(),
                shipments: i64::try_from(mine.len()).unwrap_or(i64::MAX),
                value: mine.iter().map(|shipment| shipment.net_base).sum(),
                oldest,
                stopped_by: mine.iter().flat_map(|shipment| shipment.blockers.clone()).collect(),
            })
        };
        let stopped = of(&stopped);
        let gone = stopped.as_ref().map_or((0, Money::ZERO), |facts| (facts.shipments, facts.value));
        // What is ready counts in whole, beyond what was looked at too.
        let ready = of(&ready).map(|ready| UnbilledFacts {
            shipments: customer.count - gone.0,
            value: customer.net_base - gone.1,
            ..ready
        });
        facts.extend(stopped.into_iter().chain(ready));
    }
    for sum in sums.iter().filter(|sum| !unbilled.customers.iter().any(|known| known.customer == sum.customer)) {
        facts.push(UnbilledFacts {
            customer: customer_ref(sum.customer.0, &sum.number),
            name: sum.name.clone(),
            shipments: sum.shipments,
            value: sum.net_base,
            oldest: sum.oldest,
            stopped_by: Vec::new(),
        });
    }
    facts
}

async fn load_approvals(connection: &mut SqliteConnection, viewer: Option<Viewer>, facts: &mut DayFacts) -> Result<()> {
    let Some(viewer) = viewer else { return Ok(()) };
    let waiting = crate::approvals::list(connection, None, viewer).await?;
    for approval in waiting.into_iter().filter(|approval| approval.state == ApprovalState::Waiting) {
        let asked = match (approval.own, approval.obstacle.is_none()) {
            (true, _) => &mut facts.requested,
            (false, true) => &mut facts.approvals,
            (false, false) => continue,
        };
        asked.push(ApprovalFacts {
            approval: DocumentRef { kind: DocumentKind::Approval, id: approval.id.0, number: approval.document.number },
            words: approval.words,
            maker: approval.maker,
            amount: approval.amount,
            since: approval.made_on,
        });
    }
    Ok(())
}

/// Drafts outside a billing run that who looks was the last to change.
async fn load_drafts(
    connection: &mut SqliteConnection,
    rules: &Rules,
    viewer: Option<Viewer>,
    facts: &mut DayFacts,
) -> Result<()> {
    let Some(viewer) = viewer else { return Ok(()) };
    let changed = sqlx::query!(
        r#"SELECT invoices.id AS "id!", (SELECT date(at) FROM record WHERE document_kind = 'invoice' AND document_id = invoices.id
                                  ORDER BY sequence DESC LIMIT 1) AS "since: NaiveDate"
           FROM invoices WHERE state = 'draft' AND run_id IS NULL
             AND (SELECT person_id FROM record WHERE document_kind = 'invoice' AND document_id = invoices.id
                  ORDER BY sequence DESC LIMIT 1) = ?"#,
        viewer.person.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let own: Vec<InvoiceId> = changed.iter().map(|row| InvoiceId(row.id)).collect();
    // Only one's own are worked out: a run of a thousand drafts costs this nothing.
    for one in decide_drafts(connection, rules, &own, Step::Bill).await? {
        let id = one.draft.id;
        let document = one.decision.document;
        let mut numbers: Vec<&str> = document
            .iter()
            .flat_map(|document| &document.lines)
            .filter_map(|line| line.source.shipment().map(|(_, number)| number).or_else(|| line.source.order_number()))
            .collect();
        numbers.dedup();
        let since = changed.iter().find(|row| row.id == id.0).and_then(|row| row.since);
        facts.drafts.push(DraftFacts {
            draft: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: format!("draft {id}") },
            name: one.input.customer.name.clone(),
            source: if numbers.is_empty() { "direct lines".to_owned() } else { numbers.join(" ") },
            total: document.as_ref().map_or(Money::ZERO, |document| document.total_base),
            since: since.unwrap_or(rules.business_date),
        });
    }
    for one in credit_drafts(connection, rules, Some(viewer.person)).await? {
        let source = one.invoice.map_or_else(|| "no invoice".to_owned(), |invoice| invoice.number);
        let rate = exchange_rate(connection, rules, one.currency, rules.business_date).await?;
        let total = one.total.zip(rate).map(|(total, rate)| total.to_base(rate, one.currency, rules.base));
        facts.drafts.push(DraftFacts {
            draft: DocumentRef {
                kind: DocumentKind::CreditDraft,
                id: one.id.0,
                number: format!("credit draft {}", one.id),
            },
            name: one.customer_name,
            source: format!("a credit memo on {source}"),
            total: total.unwrap_or_default(),
            since: one.saved_at.date_naive(),
        });
    }
    Ok(())
}

async fn load_unapplied(connection: &mut SqliteConnection, facts: &mut DayFacts) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT credit.kind, credit.document_id, credit.number, name, credit.open_base_minor, credit.posting_date AS "date: NaiveDate",
                  (SELECT count(*) FROM open_items WHERE customer_id = credit.customer_id AND open_minor > 0 AND side = 'owed_to_us') AS "open!: i64"
           FROM open_items AS credit JOIN customers ON customers.id = credit.customer_id
           WHERE credit.open_minor > 0 AND credit.purpose = 'unapplied' AND credit.kind IN ('receipt', 'credit_memo')"#
    )
    .fetch_all(connection)
    .await?;
    for row in rows {
        facts.unapplied.push(UnappliedFacts {
            credit: DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number },
            name: row.name,
            amount: Money(row.open_base_minor),
            since: row.date,
            open_invoices: row.open,
        });
    }
    Ok(())
}

async fn load_hanging(connection: &mut SqliteConnection, today: NaiveDate, facts: &mut DayFacts) -> Result<()> {
    let long_ago = today.checked_sub_days(Days::new(LONG_HELD_DAYS)).unwrap_or(today);
    let rows = sqlx::query!(
        r#"SELECT deposits.id AS "id!", open_items.number AS "number!", name AS "name!", open_base_minor AS "held!", posting_date AS "date!: NaiveDate",
                  CASE WHEN orders.state = 'filled' THEN orders.number || ' is completed'
                       WHEN quotes.state = 'declined' THEN quotes.number || ' was declined' END AS "done: String"
           FROM open_items JOIN deposits ON deposits.id = document_id JOIN customers ON customers.id = open_items.customer_id
           LEFT JOIN orders ON orders.id = deposits.order_id LEFT JOIN quotes ON quotes.id = deposits.quote_id
           WHERE open_minor > 0 AND open_items.kind = 'deposit' AND side = 'owed_by_us'
             AND (orders.state = 'filled' OR quotes.state = 'declined' OR posting_date < ?)
           ORDER BY open_items.id"#,
        long_ago
    )
    .fetch_all(connection)
    .await?;
    facts.hanging = rows
        .into_iter()
        .map(|row| HangingFacts {
            deposit: DocumentRef { kind: DocumentKind::Deposit, id: row.id, number: row.number },
            name: row.name,
            held: Money(row.held),
            taken_on: row.date,
            done: row.done,
        })
        .collect();
    Ok(())
}

async fn load_packed(connection: &mut SqliteConnection, rules: &Rules, facts: &mut DayFacts) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT shipments.id, shipments.number, name, packed_date AS "date: NaiveDate", orders.currency, orders.gross_priced,
                  shipment_lines.quantity_e4, unit_price_e6, discount_e6, surcharge_e6, price_steps, order_lines.tax_code,
                  coalesce((SELECT rate_e6 FROM tax_rates WHERE code = order_lines.tax_code AND valid_from <= ? ORDER BY valid_from DESC LIMIT 1), 0) AS "rate!: i64"
           FROM shipments JOIN orders ON orders.id = shipments.order_id JOIN customers ON customers.id = shipments.customer_id
           JOIN shipment_lines ON shipment_id = shipments.id JOIN order_lines ON order_lines.id = order_line_id
           WHERE shipments.state = 'packed' ORDER BY shipments.id, shipment_lines.position"#,
        rules.business_date
    )
    .fetch_all(&mut *connection)
    .await?;
    for packed in rows.chunk_by(|one, other| one.id == other.id) {
        let first = &packed[0];
        let document: Currency = crate::convert::currency(&first.currency)?;
        let lines: Vec<ToValue> = packed
            .iter()
            .map(|row| ToValue {
                quantity: row.quantity_e4,
                unit_price: row.unit_price_e6,
                discount: row.discount_e6,
                surcharge: row.surcharge_e6,
                price_steps: row.price_steps.clone(),
                tax_code: row.tax_code.clone(),
                rate: row.rate,
            })
            .collect();
        let net: Money = nets(&lines, document, first.gross_priced != 0)?.into_iter().sum();
        let rate = rules::exchange_rate(connection, rules, document, rules.business_date).await?;
        facts.packed.push(PackedFacts {
            shipment: DocumentRef { kind: DocumentKind::Shipment, id: first.id, number: first.number.clone() },
            name: first.name.clone(),
            // Without a rate of the day it counts as nothing.
            value: rate.map_or(Money::ZERO, |rate| net.to_base(rate, document, rules.base)),
            packed_on: first.date,
        });
    }
    Ok(())
}

async fn load_late(connection: &mut SqliteConnection, today: NaiveDate, facts: &mut DayFacts) -> Result<Ageing> {
    let mut ageing = Ageing::default();
    let mut late: Vec<(CustomerId, LateFacts, Vec<OpenItemId>)> = Vec::new();
    for Aged { customer, item, part } in crate::open_items::ageing(connection, None).await? {
        ageing.add(part.date, today, part.amount);
        if part.date >= today {
            continue;
        }
        if late.last().is_none_or(|(known, ..)| *known != customer) {
            let nothing = LateFacts {
                customer: customer_ref(customer.0, ""),
                name: String::new(),
                amount: Money::ZERO,
                invoices: 0,
                oldest_due: part.date,
            };
            late.push((customer, nothing, Vec::new()));
        }
        let Some((_, facts, items)) = late.last_mut() else { continue };
        facts.amount += part.amount;
        facts.oldest_due = facts.oldest_due.min(part.date);
        if !items.contains(&item) {
            items.push(item);
            facts.invoices += 1;
        }
    }
    let wanted = json(&late.iter().map(|(customer, ..)| customer).collect::<Vec<_>>())?;
    let names =
        sqlx::query!("SELECT id, number, name FROM customers WHERE id IN (SELECT value FROM jsonb_each(?))", wanted)
            .fetch_all(connection)
            .await?;
    for (customer, mut of_customer, _) in late {
        if let Some(row) = names.iter().find(|row| row.id == customer.0) {
            of_customer.customer = customer_ref(row.id, &row.number);
            of_customer.name = row.name.clone();
        }
        facts.late.push(of_customer);
    }
    Ok(ageing)
}

/// What is open of invoices, in base currency.
async fn carried(connection: &mut SqliteConnection, orders: &[OrderFacts]) -> Result<HashMap<InvoiceId, Money>> {
    let ids = json(&orders.iter().flat_map(|order| &order.invoices).map(|one| one.invoice).collect::<Vec<_>>())?;
    Ok(sqlx::query!(
        "SELECT document_id, open_base_minor FROM json_each(?) AS wanted
         CROSS JOIN open_items ON kind = 'invoice' AND document_id = wanted.value AND side = 'owed_to_us'",
        ids
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (InvoiceId(row.document_id), Money(row.open_base_minor)))
    .collect())
}

/// Filled orders whose payment falls due soon, or has.
async fn load_unfinished(connection: &mut SqliteConnection, today: NaiveDate, facts: &mut DayFacts) -> Result<()> {
    let soon = today.checked_add_days(Days::new(FINISH_WITHIN_DAYS)).unwrap_or(today);
    let rows = sqlx::query!(
        r#"SELECT orders.id AS "id!", orders.number AS "number!", name AS "name!", max(next_due_date) AS "due!: NaiveDate"
           FROM orders JOIN customers ON customers.id = orders.customer_id
           JOIN document_orders ON order_id = orders.id
           CROSS JOIN open_items ON kind = 'invoice' AND open_items.document_id = document_orders.document_id AND open_items.side = 'owed_to_us'
           WHERE orders.state = 'filled' AND open_minor > 0 GROUP BY orders.id HAVING max(next_due_date) <= ?"#,
        soon
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<OrderId> = rows.iter().map(|row| OrderId(row.id)).collect();
    let orders = crate::orders::facts(connection, &ids).await?;
    let carried = carried(connection, &orders).await?;
    facts.unfinished = rows
        .into_iter()
        .zip(&orders)
        .map(|(row, order)| UnfinishedFacts {
            order: DocumentRef { kind: DocumentKind::Order, id: row.id, number: row.number },
            name: row.name,
            open: till_core::order::open_share(order.id, &order.invoices, &carried),
            due: row.due,
        })
        .collect();
    Ok(())
}

async fn yesterday(connection: &mut SqliteConnection, today: NaiveDate) -> Result<DayTotals> {
    let date = sqlx::query_scalar!(
        r#"SELECT max(posting_date) AS "date: NaiveDate" FROM entries WHERE posting_date < ? AND source_kind IN ('invoice', 'receipt')"#,
        today
    )
    .fetch_one(&mut *connection)
    .await?
    .unwrap_or(today);
    let row = sqlx::query!(
        r#"SELECT (SELECT coalesce(sum(total_base_minor), 0) FROM invoices WHERE posting_date = ?1 AND state = 'posted') AS "billed!: i64",
                  (SELECT coalesce(sum(amount_base_minor), 0) FROM payments WHERE posting_date = ?1 AND reversed_on IS NULL) AS "received!: i64""#,
        date
    )
    .fetch_one(connection)
    .await?;
    Ok(DayTotals { date, billed: Money(row.billed), received: Money(row.received) })
}

/// What the spine shows: whose books, which day, and where something waits.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Spine {
    /// The company.
    pub company: String,
    /// Base currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub base_currency: Currency,
    /// Currencies by code with the number of their decimals.
    pub exponents: std::collections::BTreeMap<String, u8>,
    /// The currencies money may come in: the base currency, then those a rate is known of.
    #[cfg_attr(feature = "schema", schema(value_type = Vec<String>))]
    pub currencies: Vec<Currency>,
    /// The day.
    pub business_date: NaiveDate,
    /// Things on the day sheet.
    pub day_sheet: i64,
    /// Packed shipments.
    pub shipments: i64,
    /// Unbilled shipments.
    pub billing: i64,
    /// Deposits that are left hanging, prepayment invoices of which something is to be credited, cards to capture or book.
    pub prepayments: i64,
    /// Returns of which something is back and not decided on.
    pub returns: i64,
    /// Receipts with something unapplied, bank statements with lines that are not in the books, slips that wait.
    pub receipts: i64,
    /// Whether something among the unbilled is stopped.
    pub billing_stopped: bool,
}

/// Works out the spine.
///
/// # Errors
/// Where the database cannot be read.
pub async fn spine(connection: &mut SqliteConnection, viewer: Option<Viewer>) -> Result<Spine> {
    let rules = rules::load(connection).await?;
    let sheet = day_sheet(connection, viewer).await?;
    let count = |work: Work| i64::try_from(sheet.items.iter().filter(|item| item.work == work).count()).unwrap_or(0);
    let still = |kind: DocumentKind| {
        let still = |item: &&DayItem| item.work == Work::MoneyLyingStill && item.at.kind == kind;
        i64::try_from(sheet.items.iter().filter(still).count()).unwrap_or(0)
    };
    let billing = sqlx::query_scalar!(
        r#"SELECT count(DISTINCT shipment_id) AS "count!: i64" FROM shipment_lines WHERE unbilled_e4 > 0"#
    )
    .fetch_one(&mut *connection)
    .await?;
    let currencies = rules::currencies(connection, &rules).await?;
    Ok(Spine {
        company: rules.company,
        base_currency: rules.base,
        currencies,
        exponents: Currency::all().map(|(code, exponent)| (code.to_owned(), exponent)).collect(),
        business_date: rules.business_date,
        day_sheet: i64::try_from(sheet.items.len()).unwrap_or(0),
        shipments: count(Work::ReadyToGo),
        billing,
        prepayments: still(DocumentKind::Deposit)
            + still(DocumentKind::Invoice)
            + still(DocumentKind::CardAuthorization)
            + still(DocumentKind::CardPayout),
        returns: count(Work::Returned),
        receipts: still(DocumentKind::Receipt) + still(DocumentKind::BankStatement) + still(DocumentKind::BankSlip),
        billing_stopped: count(Work::Stopped) > 0,
    })
}
