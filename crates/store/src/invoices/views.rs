//! Invoices as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, Step};
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, InvoiceId, ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use till_core::invoice::{InvoiceDocument, InvoiceLine, ItemKind, OrderShare, decide, tape};
use till_core::money::{Currency, Money};
use till_core::tape::{Change, Tape};
use till_core::tax::{TaxCategory, TaxLine, TaxRate};

use super::{draft, draft_input};
use crate::convert::{currency, known, terms};
use crate::ledger::{self, PostedEntry};
use crate::trail::{Trail, trail};
use crate::{Result, StoreError, rules};

/// An invoice in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceRow {
    /// Its id.
    pub id: InvoiceId,
    /// Its number; none on a draft.
    pub number: Option<String>,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// Its document date.
    pub document_date: Option<NaiveDate>,
    /// When it is due.
    pub due_date: Option<NaiveDate>,
    /// Days past due.
    pub days_late: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total; on a draft what it comes to.
    pub total: Option<Money>,
    /// What is open; none on a draft.
    pub open: Option<Money>,
    /// What is open, in base currency.
    pub open_base: Option<Money>,
}

/// A stretch of the invoice list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceList {
    /// The invoices: drafts first, then newest first.
    pub invoices: Vec<InvoiceRow>,
    /// How many fit the filter.
    pub count: i64,
    /// What is open on all that fit, in base currency.
    pub open_base: Money,
}

/// Invoices: drafts first, then newest first. `state` is `draft`, `open`, `late`, `settled` or none for all.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    search: Option<&str>,
    state: Option<&str>,
    limit: i64,
    offset: i64,
) -> Result<InvoiceList> {
    let rules = rules::load(connection).await?;
    let like = search.map(crate::find::pattern);
    let today = rules.business_date;
    let rows = sqlx::query!(
        r#"SELECT invoices.id, invoices.number, customer_id, name, document_date AS "document_date: NaiveDate",
                  next_due_date AS "due_date: NaiveDate", invoices.currency, total_minor, open_minor, open_base_minor
           FROM invoices JOIN customers ON customers.id = customer_id
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (?2 IS NULL OR (?2 = 'draft' AND state = 'draft') OR (?2 = 'open' AND open_minor > 0)
                  OR (?2 = 'late' AND open_minor > 0 AND next_due_date < ?3) OR (?2 = 'settled' AND open_minor = 0))
           ORDER BY state = 'posted', sequence DESC, invoices.id DESC LIMIT ?4 OFFSET ?5"#,
        like,
        state,
        today,
        limit,
        offset
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(*) AS "count!: i64", coalesce(sum(open_base_minor), 0) AS "open!: i64"
           FROM invoices JOIN customers ON customers.id = customer_id
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\')
             AND (?2 IS NULL OR (?2 = 'draft' AND state = 'draft') OR (?2 = 'open' AND open_minor > 0)
                  OR (?2 = 'late' AND open_minor > 0 AND next_due_date < ?3) OR (?2 = 'settled' AND open_minor = 0))"#,
        like,
        state,
        today
    )
    .fetch_one(&mut *connection)
    .await?;
    let mut invoices = rows
        .into_iter()
        .map(|row| {
            let late = row.due_date.filter(|_| row.open_minor.is_some_and(|open| open > 0));
            Ok(InvoiceRow {
                id: InvoiceId(row.id),
                number: row.number,
                customer: CustomerId(row.customer_id),
                customer_name: row.name,
                document_date: row.document_date,
                due_date: row.due_date,
                days_late: late.map_or(0, |due| (today - due).num_days()),
                currency: currency(&row.currency)?,
                total: row.total_minor.map(Money),
                open: row.open_minor.map(Money),
                open_base: row.open_base_minor.map(Money),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    // What a draft comes to is decided, not kept.
    for row in invoices.iter_mut().filter(|row| row.number.is_none()) {
        let draft = draft(connection, row.id, None).await?;
        let input = draft_input(connection, &rules, row.id, &draft, Step::Bill).await?;
        if let Some(document) = decide(&input).document {
            row.document_date = Some(document.document_date.date);
            row.due_date = Some(document.due_date);
            row.total = Some(document.total);
        }
    }
    Ok(InvoiceList { invoices, count: all.count, open_base: Money(all.open) })
}

/// Whom a document is addressed to.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Party {
    /// Its id.
    pub id: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its address.
    pub address: String,
    /// Its tax id.
    pub tax_id: Option<String>,
}

/// An invoice on screen: a draft as it would be posted, or a posted one as it is.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceView {
    /// Its id.
    pub id: InvoiceId,
    /// Its number; none on a draft.
    pub number: Option<String>,
    /// Who owes it.
    pub customer: Party,
    /// The document.
    pub document: Option<InvoiceDocument>,
    /// The entry a draft would write.
    pub entry: Option<Entry>,
    /// The entry of the cost that follows billing.
    pub cost_entry: Option<Entry>,
    /// The entries it wrote.
    pub entries: Vec<PostedEntry>,
    /// Its arithmetic.
    pub tape: Tape,
    /// What posting would change.
    pub changes: Vec<Change>,
    /// What stands in the way of posting.
    pub blockers: Vec<Blocker>,
    /// To be sent back when posting.
    pub fingerprint: String,
    /// What is open.
    pub open: Option<Money>,
    /// Where it came from and led to.
    pub trail: Trail,
    /// Changes with every edit.
    pub version: i64,
}

/// One invoice.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: InvoiceId) -> Result<InvoiceView> {
    let head = sqlx::query!(
        "SELECT invoices.number, state, open_minor, invoices.version, customers.id AS customer, customers.number AS customer_number,
                coalesce(bill_to_name, name) AS \"name!\", coalesce(bill_to_address, address) AS \"address!\",
                CASE invoices.state WHEN 'posted' THEN bill_to_tax_id ELSE tax_id END AS tax_id
         FROM invoices JOIN customers ON customers.id = customer_id WHERE invoices.id = ?",
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let rules = rules::load(connection).await?;
    let customer = Party {
        id: CustomerId(head.customer),
        number: head.customer_number,
        name: head.name,
        address: head.address,
        tax_id: head.tax_id,
    };
    let trail = trail(connection, DocumentKind::Invoice, id.0).await?;
    if head.state == "posted" {
        let document = posted_document(connection, id).await?;
        return Ok(InvoiceView {
            tape: tape(&document, &customer.name, rules.base),
            id,
            number: head.number,
            customer,
            document: Some(document),
            entry: None,
            cost_entry: None,
            entries: ledger::entries_of(connection, DocumentKind::Invoice, id.0).await?,
            changes: Vec::new(),
            blockers: Vec::new(),
            fingerprint: String::new(),
            open: head.open_minor.map(Money),
            trail,
            version: head.version,
        });
    }
    let draft = draft(connection, id, None).await?;
    let input = draft_input(connection, &rules, id, &draft, Step::Post).await?;
    let decision = decide(&input);
    Ok(InvoiceView {
        id,
        number: None,
        customer,
        document: decision.document,
        entry: decision.entry,
        cost_entry: decision.cost_entry,
        entries: Vec::new(),
        tape: decision.tape,
        changes: decision.changes,
        blockers: decision.blockers,
        fingerprint: decision.fingerprint,
        open: None,
        trail,
        version: head.version,
    })
}

/// A posted invoice put together again from its rows; nothing is computed.
async fn posted_document(connection: &mut SqliteConnection, id: InvoiceId) -> Result<InvoiceDocument> {
    let head = sqlx::query!(
        r#"SELECT customer_id, currency, rate_e9 AS "rate!", document_date AS "document_date!: NaiveDate",
                  posting_date AS "posting_date!: NaiveDate", tax_date AS "tax_date!: NaiveDate", due_date AS "due_date!: NaiveDate",
                  terms AS "terms!", net_minor AS "net!", tax_minor AS "tax!", total_minor AS "total!", total_base_minor AS "total_base!"
           FROM invoices WHERE id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let lines = sqlx::query!(
        r#"SELECT shipment_line_id, shipment_id, shipments.number AS shipment_number, shipments.posting_date AS "shipped_on!: NaiveDate",
                  orders.id AS order_id, orders.number AS order_number, invoice_orders.customer_order_number, order_line_id, item_id,
                  invoice_lines.code AS "code!", invoice_lines.unit AS "unit!",
                  invoice_lines.quantity_e4, billed_before_e4 AS "billed_before!", still_to_come_e4 AS "still_to_come!",
                  invoice_lines.ordered_e4 AS "ordered!", invoice_lines.description AS "description!",
                  invoice_lines.unit_price_e6 AS "unit_price!", invoice_lines.order_price_e6, invoice_lines.price_reason, invoice_lines.list_price_e6 AS "list_price!",
                  invoice_lines.discount_e6 AS "discount!", invoice_lines.discount_reason, full_minor AS "full!",
                  invoice_lines.net_minor AS "net!", invoice_lines.tax_code AS "tax_code!", tax_category AS "tax_category!",
                  tax_rate_e6 AS "tax_rate!", invoice_lines.surcharge_e6, invoice_lines.surcharge_name, invoice_lines.price_steps,
                  invoice_lines.marks, coalesce(invoice_lines.kind, items.kind) AS "kind!: String"
           FROM invoice_lines
           JOIN shipment_lines ON shipment_lines.id = shipment_line_id
           JOIN shipments ON shipments.id = shipment_id
           JOIN order_lines ON order_lines.id = order_line_id
           JOIN items ON items.id = item_id
           JOIN orders ON orders.id = order_lines.order_id
           JOIN invoice_orders ON invoice_orders.invoice_id = invoice_lines.invoice_id AND invoice_orders.order_id = orders.id
           WHERE invoice_lines.invoice_id = ? ORDER BY invoice_lines.position"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = lines
        .into_iter()
        .map(|row| {
            Ok(InvoiceLine {
                shipment_line: ShipmentLineId(row.shipment_line_id),
                shipment: ShipmentId(row.shipment_id),
                shipment_number: row.shipment_number,
                shipped_on: row.shipped_on,
                order: OrderId(row.order_id),
                order_number: row.order_number,
                customer_order_number: row.customer_order_number,
                order_line: OrderLineId(row.order_line_id),
                item: ItemId(row.item_id),
                code: row.code,
                description: row.description,
                unit: row.unit,
                ordered: Quantity::from_scaled(row.ordered),
                billed_before: Quantity::from_scaled(row.billed_before),
                quantity: Quantity::from_scaled(row.quantity_e4),
                unbilled: Quantity::from_scaled(row.quantity_e4),
                still_to_come: Quantity::from_scaled(row.still_to_come),
                unit_price: UnitPrice::from_scaled(row.unit_price),
                order_price: UnitPrice::from_scaled(row.order_price_e6.unwrap_or(row.unit_price)),
                price_reason: row.price_reason,
                list_price: UnitPrice::from_scaled(row.list_price),
                discount: Rate::from_scaled(row.discount),
                discount_reason: row.discount_reason,
                surcharge: UnitPrice::from_scaled(row.surcharge_e6),
                surcharge_name: row.surcharge_name,
                price_steps: serde_json::from_str(&row.price_steps)
                    .map_err(|error| StoreError::Corrupt(error.to_string()))?,
                marks: serde_json::from_str(&row.marks).map_err(|error| StoreError::Corrupt(error.to_string()))?,
                kind: known(&row.kind, ItemKind::of)?,
                full: Money(row.full),
                net: Money(row.net),
                tax: TaxRate {
                    code: row.tax_code,
                    category: known(&row.tax_category, TaxCategory::of)?,
                    rate: Rate::from_scaled(row.tax_rate),
                },
            })
        })
        .collect::<Result<Vec<_>>>()?;
    let taxes = sqlx::query!(
        "SELECT tax_code, category, rate_e6, base_minor, tax_minor FROM invoice_taxes WHERE invoice_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(TaxLine {
            rate: TaxRate {
                code: row.tax_code,
                category: known(&row.category, TaxCategory::of)?,
                rate: Rate::from_scaled(row.rate_e6),
            },
            base: Money(row.base_minor),
            tax: Money(row.tax_minor),
        })
    })
    .collect::<Result<Vec<_>>>()?;
    let order_shares =
        sqlx::query!("SELECT order_id, gross_minor FROM invoice_orders WHERE invoice_id = ? ORDER BY position", id.0)
            .fetch_all(connection)
            .await?
            .into_iter()
            .map(|row| OrderShare { order: OrderId(row.order_id), gross: Money(row.gross_minor) })
            .collect();
    // What was typed and what was assumed no longer matters once it is posted.
    let posted = |date| DocumentDate { date, typed: true };
    let terms = terms(&head.terms)?;
    Ok(InvoiceDocument {
        customer: CustomerId(head.customer_id),
        currency: currency(&head.currency)?,
        rate: ExchangeRate::from_scaled(head.rate),
        document_date: posted(head.document_date),
        posting_date: posted(head.posting_date),
        tax_date: head.tax_date,
        due_parts: terms.schedule(head.document_date, Money(head.total)),
        early: terms.offer(head.document_date, Money(head.net), Money(head.total)),
        terms,
        due_date: head.due_date,
        lines,
        taxes,
        net: Money(head.net),
        tax: Money(head.tax),
        total: Money(head.total),
        total_base: Money(head.total_base),
        order_shares,
    })
}
