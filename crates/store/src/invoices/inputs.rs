//! What the core needs to decide on invoices, many at a time as well as one: customer, orders, dates,
//! rates, and what was billed of each line before.

use std::collections::{BTreeMap, HashMap};

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::calendar::{Terms, invoice_dates};
use till_core::checks::Step;
use till_core::fixed::{ExchangeRate, Quantity};
use till_core::ids::{CustomerId, DocumentKind, ItemId, OpenItemId, OrderId};
use till_core::invoice::{Basis, DiscountWish, InvoiceInput, LineSource, WaitingRequest};
use till_core::money::{Currency, Money};
use till_core::order::OrderFacts;
use till_core::room::Movement;
use till_core::stock::Layer;

use super::load::{Picked, distinct};
use crate::rules::{Rules, date_order, exchange_rate};
use crate::{Result, StoreError, customers, orders, stock};

/// An invoice to decide on: whose, over what, and what was typed about the whole of it.
#[derive(Debug, Clone)]
pub(crate) struct ToDecide {
    pub(crate) customer: CustomerId,
    pub(crate) lines: Vec<Picked>,
    pub(crate) head: Head,
}

impl ToDecide {
    /// Whether it bills in advance: a prepayment invoice.
    pub(crate) fn in_advance(&self) -> bool {
        !self.lines.is_empty() && self.lines.iter().all(|line| line.line.source.in_advance().is_some())
    }
}

/// What was typed about a whole invoice.
#[derive(Debug, Clone, Default)]
pub(crate) struct Head {
    pub(crate) document_date: Option<NaiveDate>,
    pub(crate) posting_date: Option<NaiveDate>,
    pub(crate) terms: Option<Terms>,
    pub(crate) text_above: Option<String>,
    pub(crate) text_below: Option<String>,
    pub(crate) discount: Option<DiscountWish>,
    pub(crate) waits: Option<WaitingRequest>,
    /// The cancelled invoice it bills anew, and the day it was cancelled.
    pub(crate) replaces: Option<(String, NaiveDate)>,
    /// Whether its prices carry the tax, where that is not as its order says: an amount asked for in advance.
    pub(crate) gross_priced: Option<bool>,
    /// What is to be applied of which deposit.
    pub(crate) deposits: Vec<(OpenItemId, Money)>,
}

/// Everything the core needs to decide on these invoices, in their order.
pub(crate) async fn inputs<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    step: Step,
    wanted: Vec<ToDecide>,
) -> Result<Vec<InvoiceInput<'a>>> {
    let mut customer_ids: Vec<CustomerId> = wanted.iter().map(|one| one.customer).collect();
    customer_ids.sort_unstable();
    customer_ids.dedup();
    let customers = customers::facts_of(connection, &customer_ids).await?;
    let mut order_ids: Vec<OrderId> =
        wanted.iter().flat_map(|one| one.lines.iter().filter_map(|line| line.line.source.order())).collect();
    order_ids.sort_unstable();
    order_ids.dedup();
    let orders: HashMap<OrderId, OrderFacts> =
        orders::facts(connection, &order_ids).await?.into_iter().map(|facts| (facts.id, facts)).collect();
    let dates = date_order(connection, rules, DocumentKind::Invoice).await?;
    let mut rates: HashMap<(Currency, NaiveDate), Option<ExchangeRate>> = HashMap::new();
    let mut inputs = Vec::with_capacity(wanted.len());
    let mut deposits = Vec::with_capacity(wanted.len());
    for one in wanted {
        let known = customers.get(&one.customer).ok_or_else(|| {
            StoreError::invalid("customer", format!("There is no customer with the id {}.", one.customer))
        })?;
        let mut mine: Vec<OrderFacts> = Vec::new();
        for id in one.lines.iter().filter_map(|line| line.line.source.order()) {
            if let Some(facts) = orders.get(&id).filter(|_| !mine.iter().any(|known| known.id == id)) {
                mine.push(facts.clone());
            }
        }
        let first = mine.first();
        let basis = Basis {
            currency: first.map_or(known.currency, |order| order.currency),
            terms: one
                .head
                .terms
                .clone()
                .unwrap_or_else(|| first.map_or_else(|| known.terms.clone(), |order| order.terms.clone())),
            terms_typed: one.head.terms.is_some(),
            gross_priced: one
                .head
                .gross_priced
                .unwrap_or_else(|| first.map_or(known.facts.gross_priced, |order| order.promised.gross)),
        };
        let (document_date, posting_date) =
            invoice_dates(one.head.document_date, one.head.posting_date, rules.business_date);
        let at = (basis.currency, document_date.date);
        if let std::collections::hash_map::Entry::Vacant(vacant) = rates.entry(at) {
            vacant.insert(exchange_rate(connection, rules, at.0, at.1).await?);
        }
        let leaving: Vec<ItemId> =
            one.lines.iter().filter(|line| line.line.leaves.is_some()).filter_map(|line| line.line.item).collect();
        let (stock, committed) = in_stock(connection, rules, &leaving, posting_date.date).await?;
        deposits.push(one.head.deposits);
        inputs.push(InvoiceInput {
            prepaid: Vec::new(),
            deposits: Vec::new(),
            deposit_use: rules.deposit_use,
            step,
            stock,
            committed,
            customer: known.facts.clone(),
            basis,
            lines: one.lines.into_iter().map(|picked| picked.line).collect(),
            orders: mine,
            discount: one.head.discount,
            waits: one.head.waits,
            text_above: one.head.text_above,
            text_below: one.head.text_below,
            document_date,
            posting_date,
            rate: rates.get(&at).copied().flatten(),
            replaces: one.head.replaces,
            base: rules.base,
            dates,
            tax_date: rules.tax_date,
            tax_computed: rules.tax_computed,
            taxes: &rules.taxes,
            accounts: &rules.accounts,
            periods: &rules.periods,
            mark_rules: &rules.marks,
        });
    }
    load_billable(connection, &mut inputs).await?;
    crate::prepayments::load_for_invoices(connection, &mut inputs).await?;
    crate::deposits::load_for_invoices(connection, &mut inputs, deposits).await?;
    Ok(inputs)
}

/// What lies in the company's warehouse of what leaves with an invoice, and what of it is reserved.
async fn in_stock(
    connection: &mut SqliteConnection,
    rules: &Rules,
    items: &[ItemId],
    date: NaiveDate,
) -> Result<(BTreeMap<ItemId, Vec<Layer>>, BTreeMap<ItemId, Quantity>)> {
    if items.is_empty() {
        return Ok(Default::default());
    }
    let layers = stock::layers(connection, items, &rules.warehouse, date).await?;
    let committed = stock::facts(connection, items, None)
        .await?
        .into_iter()
        .filter(|((_, warehouse), _)| *warehouse == rules.warehouse)
        .map(|((item, _), facts)| (item, facts.committed))
        .collect();
    Ok((layers, committed))
}

/// Lines of which an invoice was cancelled are billed again only from the day they were free: what of
/// each stood on invoices when. Other lines need no more than the day they left.
async fn load_billable(connection: &mut SqliteConnection, inputs: &mut [InvoiceInput<'_>]) -> Result<()> {
    let shipped: Vec<i64> = lines_of(inputs).filter_map(|source| source.shipment_line()).map(|id| id.0).collect();
    let ordered: Vec<i64> = lines_of(inputs)
        .filter(|source| source.shipment_line().is_none())
        .filter_map(LineSource::order_line)
        .map(|id| id.0)
        .collect();
    let (shipped, ordered) = (distinct(shipped)?, distinct(ordered)?);
    let rows = sqlx::query!(
        r#"SELECT 1 AS "shipped!: bool", shipment_line_id AS "line!", quantity_e4 AS "quantity!", invoices.posting_date AS "billed_on!: NaiveDate",
                  memo.posting_date AS "cancelled_on: NaiveDate"
           FROM json_each(?1) AS wanted JOIN invoice_lines ON shipment_line_id = wanted.value
           JOIN invoices ON invoices.id = invoice_lines.invoice_id AND invoices.state = 'posted'
           LEFT JOIN documents AS memo ON memo.id = cancelled_by
           UNION ALL
           -- What came back before it was billed is there to be billed no more, until its receipt is reversed.
           SELECT 1, shipment_line_id, quantity_e4, posting_date, reversed_on
           FROM json_each(?1) AS wanted JOIN unbilled_returns ON shipment_line_id = wanted.value
           UNION ALL
           SELECT 0, order_line_id, quantity_e4, invoices.posting_date, memo.posting_date
           FROM json_each(?2) AS wanted JOIN invoice_lines ON order_line_id = wanted.value AND shipment_line_id IS NULL
           JOIN invoices ON invoices.id = invoice_lines.invoice_id AND invoices.state = 'posted'
           LEFT JOIN documents AS memo ON memo.id = cancelled_by"#,
        shipped,
        ordered
    )
    .fetch_all(connection)
    .await?;
    let mut billed: HashMap<(bool, i64), Vec<_>> = HashMap::new();
    for row in rows {
        billed.entry((row.shipped, row.line)).or_default().push(row);
    }
    billed.retain(|_, rows| rows.iter().any(|row| row.cancelled_on.is_some()));
    for line in inputs.iter_mut().flat_map(|input| &mut input.lines) {
        let key = match (line.source.shipment_line(), line.source.order_line()) {
            (Some(id), _) => (true, id.0),
            (None, Some(id)) => (false, id.0),
            (None, None) => continue,
        };
        let Some(rows) = billed.get(&key) else { continue };
        let standing: i64 = rows.iter().filter(|row| row.cancelled_on.is_none()).map(|row| row.quantity).sum();
        let since = line.source.shipped_on().unwrap_or(NaiveDate::MIN);
        line.billable.push(Movement::new(since, line.unbilled.scaled() + standing));
        for row in rows {
            line.billable.push(Movement::new(row.billed_on, -row.quantity));
            line.billable.extend(row.cancelled_on.map(|day| Movement::new(day, row.quantity)));
        }
    }
    Ok(())
}

fn lines_of<'a>(inputs: &'a [InvoiceInput<'_>]) -> impl Iterator<Item = &'a LineSource> {
    inputs.iter().flat_map(|input| &input.lines).map(|line| &line.source)
}
