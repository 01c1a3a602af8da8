//! Invoices as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, Step};
use till_core::entry::Entry;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentRef, InvoiceId, ItemId, OrderId, OrderLineId, RunId, ShipmentId, ShipmentLineId,
};
use till_core::invoice::{
    Difference, DocumentDiscount, InvoiceDocument, InvoiceLine, ItemKind, LineSource, OrderShare, tape,
};
use till_core::money::{Currency, Money};
use till_core::tape::{Change, Tape};
use till_core::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate};

use super::load::read;
use super::{ToBill, decide_drafts};
use crate::convert::{currency, known, terms};
use crate::deliveries::{self, DeliveryRow, GoingOut};
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
    /// What it was made from: shipments, orders, or nothing but itself.
    pub source: String,
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
    /// The credit memo that cancelled it.
    pub cancelled_by: Option<String>,
    /// How far it is on its way to the customer.
    pub going_out: Option<GoingOut>,
    /// The billing run it is in, or came from.
    pub run: Option<RunId>,
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

/// Which invoices to list.
#[derive(Debug, Clone, Default)]
pub struct InvoiceFilter {
    /// Words in its number, its customer, its orders.
    pub search: Option<String>,
    /// `draft`, `open`, `late`, `settled`, `cancelled`, `to_send`, `failed`; none for all.
    pub state: Option<String>,
    /// Only of this customer.
    pub customer: Option<CustomerId>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// Invoices: drafts first, then newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, filter: &InvoiceFilter) -> Result<InvoiceList> {
    let rules = rules::load(connection).await?;
    let like = filter.search.as_deref().map(crate::find::pattern);
    let today = rules.business_date;
    let customer = filter.customer.map(|id| id.0);
    let rows = sqlx::query!(
        r#"SELECT invoices.id, invoices.number, invoices.customer_id, name, invoices.document_date AS "document_date: NaiveDate",
                  next_due_date AS "due_date?: NaiveDate", invoices.currency, invoices.total_minor, open_minor AS "open_minor?", open_base_minor AS "open_base_minor?", run_id,
                  credit_memos.number AS "cancelled_by?", deliveries.way AS "way?", deliveries.state AS "delivery_state?",
                  (SELECT group_concat(number, ' ') FROM (SELECT DISTINCT shipments.number AS number FROM invoice_lines
                      JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
                      WHERE invoice_id = invoices.id ORDER BY shipments.id LIMIT 3)) AS "shipments: String",
                  (SELECT group_concat(number, ' ') FROM (SELECT DISTINCT orders.number AS number FROM invoice_lines
                      JOIN order_lines ON order_lines.id = invoice_lines.order_line_id JOIN orders ON orders.id = order_id
                      WHERE invoice_id = invoices.id ORDER BY orders.id LIMIT 3)) AS "orders: String"
           FROM invoices JOIN customers ON customers.id = invoices.customer_id
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND document_id = invoices.id
           LEFT JOIN credit_memos ON credit_memos.id = cancelled_by
           LEFT JOIN deliveries ON deliveries.id = (SELECT max(id) FROM deliveries WHERE invoice_id = invoices.id)
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\'
                  OR invoices.id IN (SELECT invoice_id FROM invoice_orders JOIN orders ON orders.id = order_id
                                     WHERE orders.number LIKE ?1 ESCAPE '\' OR invoice_orders.customer_order_number LIKE ?1 ESCAPE '\'))
             AND (?6 IS NULL OR invoices.customer_id = ?6)
             AND (?2 IS NULL OR (?2 = 'draft' AND invoices.state = 'draft') OR (?2 = 'open' AND open_minor > 0)
                  OR (?2 = 'late' AND open_minor > 0 AND next_due_date < ?3)
                  OR (?2 = 'settled' AND open_minor = 0 AND cancelled_by IS NULL) OR (?2 = 'cancelled' AND cancelled_by IS NOT NULL)
                  OR (?2 = 'to_send' AND deliveries.state = 'waiting') OR (?2 = 'failed' AND deliveries.state = 'failed'))
           ORDER BY invoices.state = 'posted', invoices.sequence DESC, invoices.id DESC LIMIT ?4 OFFSET ?5"#,
        like,
        filter.state,
        today,
        filter.limit,
        filter.offset,
        customer
    )
    .fetch_all(&mut *connection)
    .await?;
    let all = sqlx::query!(
        r#"SELECT count(*) AS "count!: i64", coalesce(sum(open_base_minor), 0) AS "open!: i64"
           FROM invoices JOIN customers ON customers.id = invoices.customer_id
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND document_id = invoices.id
           LEFT JOIN deliveries ON deliveries.id = (SELECT max(id) FROM deliveries WHERE invoice_id = invoices.id)
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\'
                  OR invoices.id IN (SELECT invoice_id FROM invoice_orders JOIN orders ON orders.id = order_id
                                     WHERE orders.number LIKE ?1 ESCAPE '\' OR invoice_orders.customer_order_number LIKE ?1 ESCAPE '\'))
             AND (?4 IS NULL OR invoices.customer_id = ?4)
             AND (?2 IS NULL OR (?2 = 'draft' AND invoices.state = 'draft') OR (?2 = 'open' AND open_minor > 0)
                  OR (?2 = 'late' AND open_minor > 0 AND next_due_date < ?3)
                  OR (?2 = 'settled' AND open_minor = 0 AND cancelled_by IS NULL) OR (?2 = 'cancelled' AND cancelled_by IS NOT NULL)
                  OR (?2 = 'to_send' AND deliveries.state = 'waiting') OR (?2 = 'failed' AND deliveries.state = 'failed'))"#,
        like,
        filter.state,
        today,
        customer
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
                source: row.shipments.or(row.orders).unwrap_or_else(|| "direct".to_owned()),
                document_date: row.document_date,
                due_date: row.due_date,
                days_late: late.map_or(0, |due| (today - due).num_days()),
                currency: currency(&row.currency)?,
                total: row.total_minor.map(Money),
                open: row.open_minor.map(Money),
                open_base: row.open_base_minor.map(Money),
                cancelled_by: row.cancelled_by,
                going_out: row
                    .way
                    .zip(row.delivery_state)
                    .map(|(way, state)| deliveries::going_out(&way, &state))
                    .transpose()?,
                run: row.run_id.map(RunId),
            })
        })
        .collect::<Result<Vec<_>>>()?;
    // What a draft comes to is decided, not kept.
    let drafts: Vec<InvoiceId> = invoices.iter().filter(|row| row.number.is_none()).map(|row| row.id).collect();
    for one in decide_drafts(connection, &rules, &drafts, Step::Bill).await? {
        let Some(row) = invoices.iter_mut().find(|row| row.id == one.draft.id) else { continue };
        if let Some(document) = one.decision.document {
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
    /// What was typed on a draft, to be sent back changed.
    pub to_bill: Option<ToBill>,
    /// The discount wished for on a draft.
    pub discount: Option<DiscountTyped>,
    /// The credit memo that cancelled it.
    pub cancelled_by: Option<DocumentRef>,
    /// The cancelled invoice it bills anew.
    pub replaces: Option<DocumentRef>,
    /// The billing run it is in, or came from.
    pub run: Option<RunId>,
    /// Why the run did not post it.
    pub held: Option<String>,
    /// How it goes, or went, to the customer.
    pub deliveries: Vec<DeliveryRow>,
    /// Where it came from and led to.
    pub trail: Trail,
    /// Changes with every edit.
    pub version: i64,
}

/// A discount as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DiscountTyped {
    /// In percent, or
    pub percent: Option<String>,
    /// as an amount.
    pub amount: Option<Money>,
    /// What for.
    pub reason: String,
}

/// One invoice.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: InvoiceId) -> Result<InvoiceView> {
    let head = sqlx::query!(
        "SELECT invoices.number, invoices.state, open_minor AS \"open_minor?\", invoices.version, customers.id AS customer, customers.number AS customer_number,
                coalesce(invoices.bill_to_name, name) AS \"name!\", coalesce(invoices.bill_to_address, address) AS \"address!\",
                CASE invoices.state WHEN 'posted' THEN invoices.bill_to_tax_id ELSE tax_id END AS tax_id, invoices.cancelled_by,
                credit_memos.number AS \"memo_number?\", invoices.replaces_id, replaced.number AS \"replaced_number?\", invoices.run_id, invoices.held,
                invoices.differences
         FROM invoices JOIN customers ON customers.id = invoices.customer_id
         LEFT JOIN open_items ON open_items.kind = 'invoice' AND document_id = invoices.id
         LEFT JOIN credit_memos ON credit_memos.id = invoices.cancelled_by
         LEFT JOIN invoices AS replaced ON replaced.id = invoices.replaces_id
         WHERE invoices.id = ?",
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
    let document_ref = |kind, id: Option<i64>, number: Option<String>| {
        id.zip(number).map(|(id, number)| DocumentRef { kind, id, number })
    };
    let trail = trail(connection, DocumentKind::Invoice, id.0).await?;
    let mut shown = InvoiceView {
        tape: Tape::new("", "", rules.base),
        id,
        number: head.number,
        customer,
        document: None,
        entry: None,
        cost_entry: None,
        entries: Vec::new(),
        changes: Vec::new(),
        blockers: Vec::new(),
        fingerprint: String::new(),
        open: head.open_minor.map(Money),
        to_bill: None,
        discount: None,
        cancelled_by: document_ref(DocumentKind::CreditMemo, head.cancelled_by, head.memo_number),
        replaces: document_ref(DocumentKind::Invoice, head.replaces_id, head.replaced_number),
        run: head.run_id.map(RunId),
        held: head.held,
        deliveries: deliveries::of_invoice(connection, id).await?,
        trail,
        version: head.version,
    };
    if head.state == "posted" {
        let document = posted_document(connection, id).await?;
        let differences: Vec<Difference> = read(&head.differences)?;
        shown.tape = tape(&document, &shown.customer.name, rules.base, &differences);
        shown.document = Some(document);
        shown.entries = ledger::entries_of(connection, DocumentKind::Invoice, id.0).await?;
        return Ok(shown);
    }
    let Some(decided) = decide_drafts(connection, &rules, &[id], Step::Post).await?.pop() else {
        return Err(StoreError::not_found(DocumentKind::Invoice, id));
    };
    let decision = decided.decision;
    shown.document = decision.document;
    shown.entry = decision.entry;
    shown.cost_entry = decision.cost_entry;
    shown.tape = decision.tape;
    shown.changes = decision.changes;
    shown.blockers = decision.blockers;
    shown.fingerprint = decision.fingerprint;
    shown.discount = decided.draft.discount.as_ref().map(|wish| DiscountTyped {
        percent: wish.percent.map(Rate::percent),
        amount: wish.amount,
        reason: wish.reason.clone(),
    });
    shown.to_bill = Some(decided.draft.to_bill);
    Ok(shown)
}

/// A posted invoice put together again from its rows; nothing is computed.
pub(crate) async fn posted_document(connection: &mut SqliteConnection, id: InvoiceId) -> Result<InvoiceDocument> {
    let head = sqlx::query!(
        r#"SELECT customer_id, currency, rate_e9 AS "rate!", document_date AS "document_date!: NaiveDate",
                  posting_date AS "posting_date!: NaiveDate", tax_date AS "tax_date!: NaiveDate", due_date AS "due_date!: NaiveDate",
                  terms AS "terms!", net_minor AS "net!", tax_minor AS "tax!", total_minor AS "total!", total_base_minor AS "total_base!",
                  gross_priced, tax_computed AS "tax_computed!", lines_minor AS "lines!", discount_e6, discount_minor, discount_reason, text_above, text_below
           FROM invoices WHERE id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let lines = sqlx::query!(
        r#"SELECT shipment_line_id AS "shipment_line_id?", shipment_id AS "shipment_id?", shipments.number AS "shipment_number?",
                  shipments.posting_date AS "shipped_on?: NaiveDate",
                  orders.id AS "order_id?", orders.number AS "order_number?", invoice_orders.customer_order_number AS "customer_order_number?",
                  invoice_lines.order_line_id, invoice_lines.item_id, invoice_lines.account,
                  invoice_lines.code AS "code!", invoice_lines.unit AS "unit!",
                  invoice_lines.quantity_e4, billed_before_e4 AS "billed_before!", still_to_come_e4 AS "still_to_come!",
                  invoice_lines.ordered_e4 AS "ordered!", invoice_lines.description AS "description!",
                  invoice_lines.unit_price_e6 AS "unit_price!", invoice_lines.order_price_e6, invoice_lines.price_reason, invoice_lines.list_price_e6 AS "list_price!",
                  invoice_lines.discount_e6 AS "discount!", invoice_lines.discount_reason, full_minor AS "full!",
                  invoice_lines.amount_minor AS "amount!", off_minor, invoice_lines.net_minor AS "net!",
                  invoice_lines.tax_code AS "tax_code!", tax_category AS "tax_category!",
                  tax_rate_e6 AS "tax_rate!", invoice_lines.surcharge_e6, invoice_lines.surcharge_name, invoice_lines.price_steps,
                  invoice_lines.marks, coalesce(invoice_lines.kind, items.kind) AS "kind!: String", order_tax_code, invoice_lines.tax_reason,
                  invoice_lines.tax_date AS "tax_date!: NaiveDate"
           FROM invoice_lines
           LEFT JOIN shipment_lines ON shipment_lines.id = shipment_line_id
           LEFT JOIN shipments ON shipments.id = shipment_id
           LEFT JOIN order_lines ON order_lines.id = invoice_lines.order_line_id
           LEFT JOIN items ON items.id = invoice_lines.item_id
           LEFT JOIN orders ON orders.id = order_lines.order_id
           LEFT JOIN invoice_orders ON invoice_orders.invoice_id = invoice_lines.invoice_id AND invoice_orders.order_id = orders.id
           WHERE invoice_lines.invoice_id = ? ORDER BY invoice_lines.position"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = lines
        .into_iter()
        .map(|row| {
            let source = match (row.order_id, row.order_line_id, row.shipment_line_id, row.shipment_id) {
                (Some(order), Some(order_line), Some(shipment_line), Some(shipment)) => LineSource::Shipped {
                    shipment_line: ShipmentLineId(shipment_line),
                    shipment: ShipmentId(shipment),
                    shipment_number: row.shipment_number.unwrap_or_default(),
                    shipped_on: row.shipped_on.unwrap_or_default(),
                    order: OrderId(order),
                    order_number: row.order_number.unwrap_or_default(),
                    customer_order_number: row.customer_order_number,
                    order_line: OrderLineId(order_line),
                },
                (Some(order), Some(order_line), None, _) => LineSource::Ordered {
                    order: OrderId(order),
                    order_number: row.order_number.unwrap_or_default(),
                    customer_order_number: row.customer_order_number,
                    order_line: OrderLineId(order_line),
                },
                _ => LineSource::Typed,
            };
            Ok(InvoiceLine {
                source,
                item: row.item_id.map(ItemId),
                account: row.account,
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
                price_steps: read(&row.price_steps)?,
                marks: read(&row.marks)?,
                kind: known(&row.kind, ItemKind::of)?,
                full: Money(row.full),
                amount: Money(row.amount),
                off: Money(row.off_minor),
                net: Money(row.net),
                tax: TaxRate {
                    code: row.tax_code,
                    category: known(&row.tax_category, TaxCategory::of)?,
                    rate: Rate::from_scaled(row.tax_rate),
                },
                order_tax_code: row.order_tax_code,
                tax_reason: row.tax_reason,
                tax_date: row.tax_date,
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
        text_above: head.text_above,
        text_below: head.text_below,
        gross_priced: head.gross_priced != 0,
        tax_computed: known(&head.tax_computed, TaxComputed::of)?,
        lines,
        lines_total: Money(head.lines),
        discount: head.discount_minor.map(|amount| DocumentDiscount {
            percent: head.discount_e6.map(Rate::from_scaled),
            amount: Money(amount),
            reason: head.discount_reason.unwrap_or_default(),
        }),
        taxes,
        net: Money(head.net),
        tax: Money(head.tax),
        total: Money(head.total),
        total_base: Money(head.total_base),
        order_shares,
    })
}
