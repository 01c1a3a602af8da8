//! Writing a decided invoice into the books.

use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, ShipmentLineId};
use till_core::invoice::{InvoiceDecision, InvoiceDocument, ItemKind};
use till_core::money::Money;

use super::{PostedInvoice, release};
use crate::convert::{json, terms_json};
use crate::rules::next_number;
use crate::writing::{Writing, set};
use crate::{Result, customers, ledger, orders};

/// Whether the quantities stand reserved by the draft that is posted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Reserved {
    /// They do.
    Yes,
    /// They are taken straight from what is unbilled.
    No,
}

/// Turns a draft row into a posted invoice, with everything that follows from it.
pub(super) async fn post(
    writing: &mut Writing<'_>,
    id: InvoiceId,
    decision: &InvoiceDecision,
    document: &InvoiceDocument,
    reserved: Reserved,
) -> Result<PostedInvoice> {
    if reserved == Reserved::Yes {
        release(writing, id).await?;
    }
    let (number, sequence) = next_number(writing, "invoice").await?;
    write_lines(writing, id, document).await?;
    write_taxes(writing, id, document).await?;
    let source = DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: number.clone() };
    let entry = match &decision.entry {
        Some(entry) => Some(ledger::write(writing, entry, &source).await?.0),
        None => None,
    };
    let cost_entry = match &decision.cost_entry {
        Some(entry) => Some(ledger::write(writing, entry, &source).await?.0),
        None => None,
    };
    follow_cost(writing, &decision.costs).await?;
    write_head(writing, id, document, &number, sequence, entry).await?;
    sqlx::query!(
        "UPDATE invoices SET cost_entry_id = ?, next_due_date = ? WHERE id = ?",
        cost_entry,
        document.due_date,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    send_containers(writing, id, document).await?;
    customers::add_owed(writing, document.customer, document.total_base).await?;
    orders::write_states(writing, &decision.orders).await?;
    let name = &decision.tape.heading;
    let fields = vec![
        set("total", document.currency.format(document.total)),
        set("due", document.due_date),
        set("lines", document.lines.len()),
    ];
    let words = format!("posted {number} to {name}");
    writing.note_on((DocumentKind::Invoice, id.0, &number), "invoice_posted", words, None, fields);
    crate::approvals::document_gone(writing, DocumentKind::Invoice, id.0).await?;
    Ok(PostedInvoice { id, number })
}

async fn write_lines(connection: &mut SqliteConnection, id: InvoiceId, document: &InvoiceDocument) -> Result<()> {
    let lines: Vec<_> = document
        .lines
        .iter()
        .map(|line| {
            (
                (
                    line.shipment_line,
                    line.quantity.scaled(),
                    line.ordered.scaled(),
                    line.billed_before.scaled(),
                    line.still_to_come.scaled(),
                ),
                (
                    &line.description,
                    line.unit_price.scaled(),
                    line.list_price.scaled(),
                    line.discount.scaled(),
                    &line.discount_reason,
                ),
                (line.full, line.net, &line.tax.code, line.tax.category, line.tax.rate.scaled()),
                line.order_line,
                &line.code,
                &line.unit,
                (line.order_price.scaled(), &line.price_reason),
                (line.surcharge.scaled(), &line.surcharge_name, &line.price_steps, &line.marks, line.kind),
            )
        })
        .collect();
    let lines = json(&lines)?;
    sqlx::query!(
        "INSERT INTO invoice_lines (invoice_id, position, shipment_line_id, quantity_e4, ordered_e4, billed_before_e4, still_to_come_e4,
                                    description, unit_price_e6, list_price_e6, discount_e6, discount_reason,
                                    full_minor, net_minor, tax_code, tax_category, tax_rate_e6, code, unit,
                                    order_price_e6, price_reason, surcharge_e6, surcharge_name, price_steps, marks, kind)
         SELECT ?, key, value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][4]',
                value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]', value ->> '$[2][3]', value ->> '$[2][4]',
                value ->> '$[4]', value ->> '$[5]', value ->> '$[6][0]', value ->> '$[6][1]',
                value ->> '$[7][0]', value ->> '$[7][1]', value -> '$[7][2]', value -> '$[7][3]', value ->> '$[7][4]'
         FROM json_each(?)",
        id.0,
        lines
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE shipment_lines SET billed_e4 = billed_e4 + picked.quantity, unbilled_e4 = unbilled_e4 - picked.quantity
         FROM (SELECT value ->> '$[0][0]' AS line, value ->> '$[0][1]' AS quantity FROM json_each(?)) AS picked
         WHERE shipment_lines.id = picked.line",
        lines
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE order_lines SET billed_e4 = billed_e4 + picked.quantity
         FROM (SELECT value ->> '$[3]' AS line, sum(value ->> '$[0][1]') AS quantity FROM json_each(?) GROUP BY 1) AS picked
         WHERE order_lines.id = picked.line",
        lines
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// What of the cost of shipment lines has followed their billing.
async fn follow_cost(connection: &mut SqliteConnection, costs: &[(ShipmentLineId, Money)]) -> Result<()> {
    for (line, cost) in costs {
        sqlx::query!(
            "UPDATE shipment_lines SET cost_billed_minor = cost_billed_minor + ? WHERE id = ?",
            cost.0,
            line.0
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Returnable packaging is at the customer once it is billed.
async fn send_containers(connection: &mut SqliteConnection, id: InvoiceId, document: &InvoiceDocument) -> Result<()> {
    for line in document.lines.iter().filter(|line| line.kind == ItemKind::Packaging) {
        let quantity = line.quantity.scaled();
        sqlx::query!(
            "INSERT INTO container_moves (customer_id, item_id, posting_date, quantity_e4, amount_minor, invoice_id) VALUES (?, ?, ?, ?, ?, ?)",
            document.customer.0,
            line.item.0,
            document.posting_date.date,
            quantity,
            line.net.0,
            id.0
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

async fn write_taxes(connection: &mut SqliteConnection, id: InvoiceId, document: &InvoiceDocument) -> Result<()> {
    let taxes: Vec<_> = document
        .taxes
        .iter()
        .map(|tax| (&tax.rate.code, tax.rate.category, tax.rate.rate.scaled(), tax.base, tax.tax))
        .collect();
    let taxes = json(&taxes)?;
    sqlx::query!(
        "INSERT INTO invoice_taxes (invoice_id, position, tax_code, category, rate_e6, base_minor, tax_minor)
         SELECT ?, key, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4 FROM json_each(?)",
        id.0,
        taxes
    )
    .execute(&mut *connection)
    .await?;
    let theirs = |order| {
        document.lines.iter().find(|line| line.order == order).and_then(|line| line.customer_order_number.as_deref())
    };
    let shares: Vec<_> =
        document.order_shares.iter().map(|share| (share.order, share.gross, theirs(share.order))).collect();
    let shares = json(&shares)?;
    sqlx::query!(
        "INSERT INTO invoice_orders (invoice_id, order_id, position, gross_minor, customer_order_number)
         SELECT ?, value ->> 0, key, value ->> 1, value ->> 2 FROM json_each(?)",
        id.0,
        shares
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn write_head(
    connection: &mut SqliteConnection,
    id: InvoiceId,
    document: &InvoiceDocument,
    number: &str,
    sequence: i64,
    entry: Option<i64>,
) -> Result<()> {
    let terms = terms_json(&document.terms)?;
    let rate = document.rate.scaled();
    let code = document.currency.code();
    // An invoice over nothing is settled as it is posted.
    let open_base = if document.total.is_zero() { Money::ZERO } else { document.total_base };
    sqlx::query!(
        "UPDATE invoices SET state = 'posted', number = ?, sequence = ?, document_date = ?, posting_date = ?, tax_date = ?,
                due_date = ?, terms = ?, currency = ?, rate_e9 = ?, net_minor = ?, tax_minor = ?, total_minor = ?,
                total_base_minor = ?, open_minor = ?, open_base_minor = ?, entry_id = ?, version = version + 1,
                (bill_to_name, bill_to_address, bill_to_tax_id) = (SELECT name, address, tax_id FROM customers WHERE id = customer_id)
         WHERE id = ?",
        number,
        sequence,
        document.document_date.date,
        document.posting_date.date,
        document.tax_date,
        document.due_date,
        terms,
        code,
        rate,
        document.net.0,
        document.tax.0,
        document.total.0,
        document.total_base.0,
        document.total.0,
        open_base.0,
        entry,
        id.0
    )
    .execute(connection)
    .await?;
    Ok(())
}
