//! The register as the core wants it.

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::day_sheet::ToCreditFacts;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, OrderId, OrderLineId, PrepaidId};
use till_core::invoice::{InvoiceInput, InvoiceLine};
use till_core::money::Money;
use till_core::prepayment::using::PrepaidUsed;
use till_core::prepayment::{Asks, Part, Prepaid};
use till_core::room::Movement;
use till_core::tax::{TaxCategory, TaxRate};

use crate::Result;
use crate::convert::{currency, json, known};
use crate::invoices::read;

/// Rows of the register by their ids, in their order; `ids` is a list in JSON.
async fn load(connection: &mut SqliteConnection, ids: &str) -> Result<Vec<Prepaid>> {
    let rows = sqlx::query!(
        r#"SELECT register.id AS "id!", document_id AS "document!", register.number AS "number!", posting_date AS "day!: NaiveDate",
                  order_line_id AS "order_line!", order_id AS "order!", account, accounts.name AS "account_name?",
                  account_type AS "account_type?", tax_code AS "tax_code!", tax_category AS "category!", tax_rate_e6 AS "rate!",
                  asks AS "asks!", net_minor AS "net!", tax_minor AS "tax!", net_base_minor AS "base!",
                  used_minor AS "used!: i64", used_tax_minor AS "used_tax!: i64", used_base_minor AS "used_base!: i64",
                  credited_minor AS "credited!: i64", credited_tax_minor AS "credited_tax!: i64", credited_base_minor AS "credited_base!: i64"
           FROM json_each(?) AS wanted CROSS JOIN prepaid_register AS register ON register.id = wanted.value
           LEFT JOIN accounts ON accounts.number = account ORDER BY wanted.key"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut moved = movements(connection, ids).await?;
    rows.into_iter()
        .map(|row| {
            let asks: Asks = read(&row.asks)?;
            let account = match (row.account, row.account_name, row.account_type) {
                (Some(number), Some(name), Some(account_type)) => {
                    Some(Account { number, name, account_type: known(&account_type, AccountType::of)? })
                }
                _ => None,
            };
            let part = |net, tax, net_base| Part { net: Money(net), tax: Money(tax), net_base: Money(net_base) };
            let (mut movements, mut base_movements) =
                (vec![Movement::new(row.day, row.net)], vec![Movement::new(row.day, row.base)]);
            for (day, net, base) in moved.remove(&row.id).unwrap_or_default() {
                movements.push(Movement::new(day, net));
                base_movements.push(Movement::new(day, base));
            }
            Ok(Prepaid {
                id: PrepaidId(row.id),
                document: DocumentRef { kind: DocumentKind::Invoice, id: row.document, number: row.number },
                order: OrderId(row.order),
                order_line: OrderLineId(row.order_line),
                account,
                rate: TaxRate {
                    code: row.tax_code,
                    category: known(&row.category, TaxCategory::of)?,
                    rate: Rate::from_scaled(row.rate),
                },
                asked_on: asks.asked_on,
                billed_before: asks.billed_before,
                whole: part(row.net, row.tax, row.base),
                used: part(row.used, row.used_tax, row.used_base),
                credited: part(row.credited, row.credited_tax, row.credited_base),
                movements,
                base_movements,
            })
        })
        .collect()
}

/// What was used, given back and credited of rows, day by day: net and what it is carried at, signed as it moves them.
async fn movements(connection: &mut SqliteConnection, ids: &str) -> Result<HashMap<i64, Vec<(NaiveDate, i64, i64)>>> {
    let rows = sqlx::query!(
        r#"SELECT prepaid_line_id AS "id!", posting_date AS "day!: NaiveDate", -net_minor AS "net!: i64", -net_base_minor AS "base!: i64"
           FROM json_each(?1) AS wanted JOIN prepaid_uses ON prepaid_line_id = wanted.value
           UNION ALL
           SELECT credits_line_id, documents.posting_date, document_lines.net_minor, prepaid_base_minor
           FROM json_each(?1) AS wanted JOIN document_lines ON credits_line_id = wanted.value JOIN documents ON documents.id = document_id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let mut moved: HashMap<i64, Vec<(NaiveDate, i64, i64)>> = HashMap::new();
    for row in rows {
        moved.entry(row.id).or_default().push((row.day, row.net, row.base));
    }
    Ok(moved)
}

/// What was prepaid on order lines, the oldest first; `lines` is a list in JSON.
pub(super) async fn of_lines(connection: &mut SqliteConnection, lines: &str) -> Result<Vec<Prepaid>> {
    let ids = sqlx::query_scalar!(
        r#"SELECT document_lines.id AS "id!" FROM json_each(?) AS wanted CROSS JOIN document_lines ON prepays_line_id = wanted.value
           JOIN documents ON documents.id = document_id AND state = 'posted' ORDER BY documents.posting_date, document_lines.id"#,
        lines
    )
    .fetch_all(&mut *connection)
    .await?;
    if ids.is_empty() { Ok(Vec::new()) } else { load(connection, &json(&ids)?).await }
}

/// Puts what was prepaid on their order lines on invoices that are to be decided on: of many at once.
pub(crate) async fn load_for_invoices(
    connection: &mut SqliteConnection,
    inputs: &mut [InvoiceInput<'_>],
) -> Result<()> {
    let lines = inputs.iter().flat_map(|input| &input.lines).filter_map(|line| line.source.order_line());
    let lines = json(&lines.collect::<std::collections::BTreeSet<_>>())?;
    let mut of_line: HashMap<OrderLineId, Vec<Prepaid>> = HashMap::new();
    for row in of_lines(connection, &lines).await? {
        of_line.entry(row.order_line).or_default().push(row);
    }
    if of_line.is_empty() {
        return Ok(());
    }
    for input in inputs {
        let mut mine: Vec<OrderLineId> = input.lines.iter().filter_map(|line| line.source.order_line()).collect();
        mine.sort_unstable();
        mine.dedup();
        input.prepaid = mine.iter().flat_map(|line| of_line.get(line).into_iter().flatten().cloned()).collect();
    }
    Ok(())
}

/// The row of the register that each line of an invoice is, in their order; none for what bills goods and work.
pub(crate) async fn rows_of(connection: &mut SqliteConnection, invoice: InvoiceId) -> Result<Vec<Option<Prepaid>>> {
    let lines = sqlx::query!(
        r#"SELECT id AS "id!", prepays_line_id IS NOT NULL AS "row!: bool" FROM document_lines WHERE document_id = ? ORDER BY position"#,
        invoice.0
    )
    .fetch_all(&mut *connection)
    .await?;
    if !lines.iter().any(|line| line.row) {
        return Ok(vec![None; lines.len()]);
    }
    let ids: Vec<i64> = lines.iter().filter(|line| line.row).map(|line| line.id).collect();
    let mut rows = load(connection, &json(&ids)?).await?.into_iter();
    Ok(lines.iter().map(|line| if line.row { rows.next() } else { None }).collect())
}

/// What is neither used nor credited of what was billed in advance of orders, without tax, in the currency of each.
/// `orders` is a list in JSON.
pub(crate) async fn left_of(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, Money>> {
    Ok(sqlx::query!(
        r#"SELECT order_lines.order_id AS "order!", sum(line.net_minor
                  - coalesce((SELECT sum(net_minor) FROM prepaid_uses WHERE prepaid_line_id = line.id), 0)
                  + coalesce((SELECT sum(net_minor) FROM document_lines WHERE credits_line_id = line.id), 0)) AS "left!: i64"
           FROM json_each(?) AS wanted JOIN order_lines ON order_lines.order_id = wanted.value
           CROSS JOIN document_lines AS line ON line.prepays_line_id = order_lines.id
           JOIN documents ON documents.id = line.document_id AND documents.state = 'posted'
           GROUP BY order_lines.order_id"#,
        orders
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (row.order, Money(row.left)))
    .collect())
}

/// The same, with its tax.
pub(crate) async fn left_with_tax(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, Money>> {
    Ok(sqlx::query!(
        r#"SELECT order_lines.order_id AS "order!", sum(line.net_minor + line.prepaid_tax_minor
                  - coalesce((SELECT sum(net_minor + tax_minor) FROM prepaid_uses WHERE prepaid_line_id = line.id), 0)
                  + coalesce((SELECT sum(net_minor + prepaid_tax_minor) FROM document_lines WHERE credits_line_id = line.id), 0)) AS "left!: i64"
           FROM json_each(?) AS wanted JOIN order_lines ON order_lines.order_id = wanted.value
           CROSS JOIN document_lines AS line ON line.prepays_line_id = order_lines.id
           JOIN documents ON documents.id = line.document_id AND documents.state = 'posted'
           GROUP BY order_lines.order_id"#,
        orders
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (row.order, Money(row.left)))
    .collect())
}

/// Prepayment invoices of which something is to be credited, because lines of their order were canceled: each with the
/// number of its order, the customer's name and how much, without tax, in base currency. Only what is left is read: cost
/// does not grow with what is done.
pub(crate) async fn to_credit(connection: &mut SqliteConnection, today: NaiveDate) -> Result<Vec<ToCreditFacts>> {
    let rows = sqlx::query!(
        r#"SELECT line.id AS "id!", line.posting_date AS "day!: NaiveDate", orders.number AS "order!", orders.gross_priced AS "gross!",
                  name AS "name!", order_lines.ordered_e4 - cancelled_e4 AS "wanted!: i64", order_lines.billed_e4 AS "billed!"
           FROM prepaid_register AS line JOIN order_lines ON order_lines.id = line.order_line_id
           JOIN orders ON orders.id = line.order_id JOIN customers ON customers.id = line.customer_id
           WHERE line.net_minor <> used_minor + credited_minor OR line.tax_minor <> used_tax_minor + credited_tax_minor
           ORDER BY line.id"#
    )
    .fetch_all(&mut *connection)
    .await?;
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let register = load(connection, &json(&rows.iter().map(|row| row.id).collect::<Vec<_>>())?).await?;
    let mut found: Vec<ToCreditFacts> = Vec::new();
    for (row, prepaid) in rows.into_iter().zip(register) {
        let (wanted, billed) = (Quantity::from_scaled(row.wanted), Quantity::from_scaled(row.billed));
        let gross = row.gross != 0;
        let part = prepaid.part(prepaid.to_credit(wanted, billed, gross), gross, today);
        if part.is_zero() {
            continue;
        }
        match found.iter_mut().find(|known| known.invoice == prepaid.document) {
            Some(known) => known.amount += part.net_base,
            None => found.push(ToCreditFacts {
                posted_on: row.day,
                invoice: prepaid.document,
                name: row.name,
                order: row.order,
                amount: part.net_base,
            }),
        }
    }
    Ok(found)
}

/// Prepayment invoices and requests for payment of an order that are not paid, with what is open of each, in words with its currency.
pub(crate) async fn unpaid_of(connection: &mut SqliteConnection, order: OrderId) -> Result<Vec<(DocumentRef, String)>> {
    sqlx::query!(
        r#"SELECT 0 AS "request!: bool", documents.id AS "id!", documents.number AS "number!", open_minor AS "open!", open_items.currency AS "currency!" FROM document_orders
           JOIN documents ON documents.id = document_orders.document_id AND +documents.kind = 'prepayment_invoice'
           CROSS JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = documents.id AND open_items.side = 'owed_to_us'
           WHERE document_orders.order_id = ?1 AND open_minor > 0
           UNION ALL
           SELECT 1, id, number, total_minor, currency FROM payment_requests
           WHERE order_id = ?1 AND invoice_id IS NULL AND withdrawn_because IS NULL ORDER BY 1, 2"#,
        order.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let open = format!("{} {}", currency(&row.currency)?.grouped(Money(row.open)), row.currency);
        let kind = if row.request { DocumentKind::PaymentRequest } else { DocumentKind::Invoice };
        Ok((DocumentRef { kind, id: row.id, number: row.number }, open))
    })
    .collect()
}

/// Puts what its lines used of what was prepaid on an invoice that is read again.
pub(crate) async fn read_uses(
    connection: &mut SqliteConnection,
    invoice: i64,
    lines: &mut [InvoiceLine],
) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT mine.position AS "position!", prepaid.id AS "prepaid!", documents.id AS "document!", documents.number AS "number!",
                  prepaid.tax_code AS "tax_code!", prepaid.tax_category AS "category!", prepaid.tax_rate_e6 AS "rate!",
                  prepaid_uses.net_minor, prepaid_uses.tax_minor, prepaid_uses.net_base_minor
           FROM document_lines AS mine CROSS JOIN prepaid_uses ON line_id = mine.id AND given_back = 0
           JOIN document_lines AS prepaid ON prepaid.id = prepaid_line_id JOIN documents ON documents.id = prepaid.document_id
           WHERE mine.document_id = ? ORDER BY mine.position, prepaid_uses.id"#,
        invoice
    )
    .fetch_all(connection)
    .await?;
    for row in rows {
        let Some(line) = usize::try_from(row.position).ok().and_then(|at| lines.get_mut(at)) else { continue };
        line.prepaid.push(PrepaidUsed {
            prepaid: PrepaidId(row.prepaid),
            document: DocumentRef { kind: DocumentKind::Invoice, id: row.document, number: row.number },
            rate: TaxRate {
                code: row.tax_code,
                category: known(&row.category, TaxCategory::of)?,
                rate: Rate::from_scaled(row.rate),
            },
            part: Part { net: Money(row.net_minor), tax: Money(row.tax_minor), net_base: Money(row.net_base_minor) },
        });
    }
    Ok(())
}
