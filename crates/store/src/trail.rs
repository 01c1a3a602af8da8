//! The trail: everything a document came from and led to.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, DocumentRef, EntryId};
use till_core::money::{Currency, Money};
use till_core::order::OrderState;

use crate::Result;
use crate::convert::{currency, json};

/// Points at an entry.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EntryRef {
    /// Its id.
    pub id: EntryId,
    /// Its number.
    pub number: i64,
}

/// One document on the trail.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TrailStep {
    /// The document.
    pub document: DocumentRef,
    /// Its date.
    pub date: Option<NaiveDate>,
    /// Its state in a word.
    pub state: String,
    /// Its amount, where it has one.
    pub amount: Option<Money>,
    /// Currency of the amount.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The entries it wrote.
    pub entries: Vec<EntryRef>,
    /// Whether it is the document asked about.
    pub here: bool,
}

/// The trail of a document: orders, shipments, invoices, receipts.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Trail {
    /// Its steps in the order of the work.
    pub steps: Vec<TrailStep>,
}

/// The trail of one document.
pub(crate) async fn trail(connection: &mut SqliteConnection, kind: DocumentKind, id: i64) -> Result<Trail> {
    let word = kind.word();
    let invoices = sqlx::query_scalar!(
        r#"SELECT invoice_id AS "id!: i64" FROM invoice_lines JOIN shipment_lines ON shipment_lines.id = shipment_line_id
           JOIN order_lines ON order_lines.id = shipment_lines.order_line_id
           WHERE (?1 = 'order' AND order_id = ?2) OR (?1 = 'shipment' AND shipment_id = ?2)
           UNION SELECT invoice_id FROM invoice_lines JOIN order_lines ON order_lines.id = invoice_lines.order_line_id
           WHERE ?1 = 'order' AND order_id = ?2 AND shipment_line_id IS NULL
           UNION SELECT document_id FROM document_lines JOIN order_lines ON order_lines.id = prepays_line_id WHERE ?1 = 'order' AND order_id = ?2
           UNION SELECT prepaid.document_id FROM document_lines AS mine JOIN prepaid_uses ON line_id = mine.id
             JOIN document_lines AS prepaid ON prepaid.id = prepaid_line_id WHERE ?1 = 'invoice' AND mine.document_id = ?2
           UNION SELECT mine.document_id FROM document_lines AS prepaid JOIN prepaid_uses ON prepaid_line_id = prepaid.id
             JOIN document_lines AS mine ON mine.id = line_id WHERE ?1 = 'invoice' AND prepaid.document_id = ?2
           UNION SELECT debit.document_id FROM open_items AS credit JOIN applications ON credit_item = credit.id
             JOIN open_items AS debit ON debit.id = debit_item AND debit.kind = 'invoice'
             WHERE ?1 IN ('receipt', 'deposit', 'credit_memo') AND credit.kind = ?1 AND credit.document_id = ?2 AND credit.side = 'owed_by_us'
           UNION SELECT to_id FROM document_links WHERE ?1 = 'credit_memo' AND from_id = ?2
           UNION SELECT from_id FROM document_links WHERE ?1 = 'invoice' AND to_id = ?2 AND role IN ('replaces', 'credits')
           UNION SELECT to_id FROM document_links WHERE ?1 = 'invoice' AND from_id = ?2 AND role IN ('replaces', 'credits')
           UNION SELECT document_id FROM return_lines JOIN document_lines ON document_lines.id = document_line_id
             WHERE ?1 = 'return' AND return_id = ?2
           UNION SELECT ?2 WHERE ?1 = 'invoice'"#,
        word,
        id
    )
    .fetch_all(&mut *connection)
    .await?;
    let invoices = json(&invoices)?;
    let mut steps = quotes(connection, word, id, &invoices).await?;
    steps.extend(orders(connection, word, id, &invoices).await?);
    steps.extend(shipments(connection, word, id, &invoices).await?);
    steps.extend(invoice_steps(connection, &invoices).await?);
    steps.extend(returns(connection, word, id, &invoices).await?);
    steps.extend(receipts(connection, word, id, &invoices).await?);
    steps.extend(credit_memos(connection, word, id, &invoices).await?);
    for step in &mut steps {
        step.here = step.document.kind == kind && step.document.id == id;
    }
    attach_entries(connection, &mut steps).await?;
    Ok(Trail { steps })
}

fn step(
    kind: DocumentKind,
    id: i64,
    number: String,
    date: Option<NaiveDate>,
    state: String,
    amount: Option<i64>,
    code: &str,
) -> Result<TrailStep> {
    Ok(TrailStep {
        document: DocumentRef { kind, id, number },
        date,
        state,
        amount: amount.map(Money),
        currency: currency(code)?,
        entries: Vec::new(),
        here: false,
    })
}

/// Quotes that became the orders on the trail.
async fn quotes(connection: &mut SqliteConnection, word: &str, id: i64, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT id, number, quote_date AS "date: NaiveDate", net_minor, currency FROM quotes
           WHERE order_id IS NOT NULL AND ((?1 = 'order' AND order_id = ?2)
              OR order_id IN (SELECT order_id FROM shipments WHERE ?1 = 'shipment' AND shipments.id = ?2)
              OR (?1 = 'invoice' AND order_id IN (SELECT order_id FROM document_orders WHERE document_id IN (SELECT value FROM json_each(?3)))))
           ORDER BY id"#,
        word,
        id,
        invoices
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        step(DocumentKind::Quote, row.id, row.number, Some(row.date), "accepted".to_owned(), Some(row.net_minor), &row.currency)
    })
    .collect()
}

async fn orders(connection: &mut SqliteConnection, word: &str, id: i64, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT id, number, order_date AS "date: NaiveDate", state, currency,
                  (SELECT sum(net_minor) FROM order_lines WHERE order_id = orders.id) AS "net: i64"
           FROM orders WHERE (?1 = 'order' AND id = ?2)
              OR id IN (SELECT order_id FROM deposits WHERE ?1 = 'deposit' AND deposits.id = ?2)
              OR id IN (SELECT order_id FROM shipments WHERE ?1 = 'shipment' AND shipments.id = ?2)
              OR id IN (SELECT order_id FROM return_lines JOIN shipment_lines ON shipment_lines.id = return_lines.shipment_line_id
                        JOIN shipments ON shipments.id = shipment_id WHERE ?1 = 'return' AND return_id = ?2)
              OR (?1 NOT IN ('order', 'shipment') AND id IN (
                    SELECT order_id FROM invoice_lines LEFT JOIN shipment_lines ON shipment_lines.id = shipment_line_id
                    JOIN order_lines ON order_lines.id = coalesce(invoice_lines.order_line_id, shipment_lines.order_line_id, prepays_line_id)
                    WHERE invoice_id IN (SELECT value FROM json_each(?3))))
           ORDER BY id"#,
        word, id, invoices
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = OrderState::of(&row.state).map_or(row.state, |state| state.name().to_owned());
        step(DocumentKind::Order, row.id, row.number, Some(row.date), state, row.net, &row.currency)
    })
    .collect()
}

async fn shipments(connection: &mut SqliteConnection, word: &str, id: i64, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT shipments.id, shipments.number, coalesce(posting_date, packed_date) AS "date!: NaiveDate", shipments.state, currency
           FROM shipments JOIN orders ON orders.id = order_id
           WHERE (?1 = 'shipment' AND shipments.id = ?2) OR (?1 = 'order' AND order_id = ?2)
              OR (?1 IN ('invoice', 'receipt', 'credit_memo', 'deposit', 'return') AND shipments.id IN (
                    SELECT shipment_id FROM invoice_lines JOIN shipment_lines ON shipment_lines.id = shipment_line_id
                    WHERE invoice_id IN (SELECT value FROM json_each(?3))))
              OR (?1 = 'return' AND shipments.id IN (
                    SELECT shipment_id FROM return_lines JOIN shipment_lines ON shipment_lines.id = return_lines.shipment_line_id WHERE return_id = ?2))
           ORDER BY shipments.id"#,
        word, id, invoices
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = match row.state.as_str() {
            "picking" => "on its pick list",
            "taken_back" => "reversed",
            "dropped" => "canceled",
            other => other,
        };
        step(DocumentKind::Shipment, row.id, row.number, Some(row.date), state.to_owned(), None, &row.currency)
    })
    .collect()
}

/// Returns of what the invoices on the trail billed, or of what a shipment or an order had not billed.
async fn returns(connection: &mut SqliteConnection, word: &str, id: i64, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT returns.id AS "id!", number AS "number!", authorized_on AS "date!: NaiveDate", currency AS "currency!",
                  CASE WHEN sum(waiting_e4) > 0 THEN 'to be inspected'
                       WHEN sum(received_e4 - sent_back_e4 - replaced_e4 - credited_e4 - given_back_e4) > 0 THEN 'received'
                       WHEN sum(for_repair_e4 - repaired_e4 - kept_e4) > 0 THEN 'in for repair'
                       WHEN sum(received_e4 + for_repair_e4) > 0 THEN 'settled' WHEN closed_on IS NOT NULL THEN 'closed' ELSE 'authorized' END AS "state!: String"
           FROM return_line_state AS line JOIN returns ON returns.id = return_id
           WHERE returns.id IN (SELECT return_id FROM return_lines JOIN document_lines ON document_lines.id = document_line_id
                                WHERE document_id IN (SELECT value FROM json_each(?1))
                                UNION SELECT return_id FROM return_lines JOIN shipment_lines ON shipment_lines.id = return_lines.shipment_line_id
                                JOIN order_lines ON order_lines.id = order_line_id
                                WHERE (?2 = 'shipment' AND shipment_id = ?3) OR (?2 = 'order' AND order_id = ?3)
                                UNION SELECT ?3 WHERE ?2 = 'return')
           GROUP BY returns.id ORDER BY returns.id"#,
        invoices,
        word,
        id
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| step(DocumentKind::Return, row.id, row.number, Some(row.date), row.state, None, &row.currency))
    .collect()
}

async fn invoice_steps(connection: &mut SqliteConnection, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT invoices.id, invoices.number, invoices.document_date AS "date: NaiveDate", state, open_minor AS "open_minor?", total_minor, invoices.currency, cancelled_by
           FROM invoices LEFT JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id
           WHERE invoices.id IN (SELECT value FROM json_each(?)) ORDER BY state = 'draft', sequence, invoices.id"#,
        invoices
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = match (row.state.as_str(), row.open_minor, row.total_minor) {
            ("draft", ..) => "not posted",
            _ if row.cancelled_by.is_some() => "canceled",
            (_, Some(0), _) => "settled",
            (_, open, total) if open == total => "open",
            _ => "partly paid",
        };
        step(
            DocumentKind::Invoice,
            row.id,
            row.number.unwrap_or_else(|| "draft".to_owned()),
            row.date,
            state.to_owned(),
            row.total_minor,
            &row.currency,
        )
    })
    .collect()
}

async fn receipts(connection: &mut SqliteConnection, word: &str, id: i64, invoices: &str) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT payments.id, kind, number, posting_date AS "date: NaiveDate", name AS method, reversed_on IS NOT NULL AS "reversed!: bool", amount_minor, currency
           FROM payments JOIN payment_methods ON code = method
           WHERE (?1 IN ('receipt', 'deposit') AND payments.id = ?2)
              OR (?1 NOT IN ('receipt', 'deposit') AND payments.id IN (
                    SELECT credit.document_id FROM open_items AS debit JOIN applications ON debit_item = debit.id
                    JOIN open_items AS credit ON credit.id = credit_item AND credit.kind IN ('receipt', 'deposit')
                    WHERE debit.kind = 'invoice' AND debit.document_id IN (SELECT value FROM json_each(?3))))
              OR (?1 = 'order' AND payments.id IN (SELECT id FROM deposits WHERE order_id = ?2))
              OR (?1 = 'receipt' AND payments.id IN (SELECT deposits.id FROM open_items JOIN deposits ON turned_from = open_items.id
                    WHERE open_items.kind = 'receipt' AND document_id = ?2))
              OR (?1 = 'deposit' AND payments.id IN (SELECT document_id FROM deposits JOIN open_items ON open_items.id = turned_from WHERE deposits.id = ?2))
           ORDER BY payments.id"#,
        word, id, invoices
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = if row.reversed { "reversed".to_owned() } else { row.method };
        step(crate::convert::kind(&row.kind)?, row.id, row.number, Some(row.date), state, Some(row.amount_minor), &row.currency)
    })
    .collect()
}

async fn credit_memos(
    connection: &mut SqliteConnection,
    word: &str,
    id: i64,
    invoices: &str,
) -> Result<Vec<TrailStep>> {
    sqlx::query!(
        r#"SELECT id AS "id!", number AS "number!", document_date AS "date!: NaiveDate", -total_minor AS "total_minor!: i64", currency AS "currency!",
                  whole AS "whole!: bool", invoice_id IS NULL AS "alone!: bool"
           FROM credit_memos WHERE invoice_id IN (SELECT value FROM json_each(?1)) OR (?2 = 'credit_memo' AND id = ?3)
             OR id IN (SELECT credit.document_id FROM open_items AS debit JOIN applications ON debit_item = debit.id
                       JOIN open_items AS credit ON credit.id = credit_item AND credit.kind = 'credit_memo'
                       WHERE debit.kind = 'invoice' AND debit.document_id IN (SELECT value FROM json_each(?1)))
           ORDER BY id"#,
        invoices,
        word,
        id
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let state = match (row.whole, row.alone) {
            (true, _) => "for the full amount",
            (false, true) => "stands alone",
            (false, false) => "for some lines",
        }
        .to_owned();
        step(DocumentKind::CreditMemo, row.id, row.number, Some(row.date), state, Some(-row.total_minor), &row.currency)
    })
    .collect()
}

async fn attach_entries(connection: &mut SqliteConnection, steps: &mut [TrailStep]) -> Result<()> {
    let wanted: Vec<(&str, i64)> = steps.iter().map(|step| (step.document.kind.word(), step.document.id)).collect();
    let wanted = json(&wanted)?;
    let rows = sqlx::query!(
        r#"SELECT entries.id AS "id!", number, source_kind, source_id FROM json_each(?) AS wanted
         JOIN entries ON source_kind = wanted.value ->> 0 AND source_id = wanted.value ->> 1 ORDER BY number"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    let mut of_document: BTreeMap<(String, i64), Vec<EntryRef>> = BTreeMap::new();
    for row in rows {
        of_document
            .entry((row.source_kind, row.source_id))
            .or_default()
            .push(EntryRef { id: EntryId(row.id), number: row.number });
    }
    for step in steps {
        step.entries =
            of_document.remove(&(step.document.kind.word().to_owned(), step.document.id)).unwrap_or_default();
    }
    Ok(())
}
