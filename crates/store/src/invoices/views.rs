//! Invoices as shown.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::checks::{Blocker, Step};
use till_core::deposit::using::DepositOffer;
use till_core::entry::Entry;
use till_core::fixed::Rate;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, RunId};
use till_core::invoice::{Difference, InvoiceDocument, tape};
use till_core::money::{Currency, Money};
use till_core::prepayment::Part;
use till_core::prepayment::using::by_document;
use till_core::settle::{creditor_reference, grouped_reference};
use till_core::tape::{Change, Tape};

use super::drafts::not_there;
use super::load::read;
use super::{ToBill, decide_drafts};
use crate::convert::{currency, known};
use crate::deliveries::{self, DeliveryRow, GoingOut};
use crate::disputes::{self, DisputeView};
use crate::documents;
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
    /// Whether it bills in advance: a prepayment invoice.
    pub in_advance: bool,
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
        r#"SELECT invoices.id, invoices.number, invoices.kind = 'prepayment_invoice' AS "in_advance!: bool", invoices.customer_id, name, invoices.document_date AS "document_date: NaiveDate",
                  next_due_date AS "due_date?: NaiveDate", invoices.currency, invoices.total_minor, open_minor AS "open_minor?", open_base_minor AS "open_base_minor?", invoices.run_id,
                  memo.number AS "cancelled_by?", deliveries.way AS "way?", deliveries.state AS "delivery_state?",
                  (SELECT group_concat(number, ' ') FROM (SELECT DISTINCT shipments.number AS number FROM invoice_lines
                      JOIN shipment_lines ON shipment_lines.id = shipment_line_id JOIN shipments ON shipments.id = shipment_id
                      WHERE invoice_id = invoices.id ORDER BY shipments.id LIMIT 3)) AS "shipments: String",
                  (SELECT group_concat(number, ' ') FROM (SELECT DISTINCT orders.number AS number FROM invoice_lines
                      JOIN order_lines ON order_lines.id = coalesce(invoice_lines.order_line_id, prepays_line_id) JOIN orders ON orders.id = order_id
                      WHERE invoice_id = invoices.id ORDER BY orders.id LIMIT 3)) AS "orders: String"
           FROM invoices JOIN customers ON customers.id = invoices.customer_id
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id
           LEFT JOIN documents AS memo ON memo.id = cancelled_by
           LEFT JOIN deliveries ON deliveries.id = (SELECT max(id) FROM deliveries WHERE deliveries.document_id = invoices.id)
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\'
                  OR invoices.id IN (SELECT document_id FROM document_orders JOIN orders ON orders.id = order_id
                                     WHERE orders.number LIKE ?1 ESCAPE '\' OR document_orders.customer_order_number LIKE ?1 ESCAPE '\'))
             AND (?6 IS NULL OR invoices.customer_id = ?6)
             AND (?2 IS NULL OR (?2 = 'draft' AND invoices.state = 'draft') OR (?2 = 'open' AND open_minor > 0)
                  OR (?2 = 'late' AND open_minor > 0 AND next_due_date < ?3)
                  OR (?2 = 'settled' AND open_minor = 0 AND cancelled_by IS NULL) OR (?2 = 'cancelled' AND cancelled_by IS NOT NULL)
                  OR (?2 = 'to_send' AND deliveries.state = 'waiting') OR (?2 = 'failed' AND deliveries.state = 'failed'))
           ORDER BY invoices.state = 'posted', CASE invoices.state WHEN 'posted' THEN invoices.document_date END DESC, invoices.sequence DESC, invoices.id DESC LIMIT ?4 OFFSET ?5"#,
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
           LEFT JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id
           LEFT JOIN deliveries ON deliveries.id = (SELECT max(id) FROM deliveries WHERE deliveries.document_id = invoices.id)
           WHERE (?1 IS NULL OR invoices.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\'
                  OR invoices.id IN (SELECT document_id FROM document_orders JOIN orders ON orders.id = order_id
                                     WHERE orders.number LIKE ?1 ESCAPE '\' OR document_orders.customer_order_number LIKE ?1 ESCAPE '\'))
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
                in_advance: row.in_advance,
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
    /// What its payer is asked to write on a transfer, in groups of four; none on a draft.
    pub payment_reference: Option<String>,
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
    /// Deposits that could be applied to a draft, used or not.
    pub deposits: Vec<DepositOffer>,
    /// What a posted one uses of prepayment invoices.
    pub prepaid: Vec<LessPrepaid>,
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
    /// What of that the customer will not pay.
    pub dispute: Option<DisputeView>,
    /// What was typed on a draft, to be sent back changed.
    pub to_bill: Option<ToBill>,
    /// The discount wished for on a draft.
    pub discount: Option<DiscountTyped>,
    /// The credit memo that cancelled it.
    pub cancelled_by: Option<DocumentRef>,
    /// The cancelled invoice it bills anew.
    pub replaces: Option<DocumentRef>,
    /// The invoice whose goods it takes back, or the return they came back on, where it is an exchange.
    pub takes_back: Option<DocumentRef>,
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

/// The invoice whose goods an exchange takes back, or the return they came back on where no document is known of them.
pub(super) async fn takes_back(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Option<DocumentRef>> {
    let first = sqlx::query!(
        r#"SELECT kind AS "kind!: String", documents.id AS "id!: i64", number AS "number!: String"
           FROM document_links JOIN documents ON documents.id = to_id WHERE from_id = ?1 AND role = 'credits'
           UNION ALL
           SELECT 'return', returns.id, returns.number FROM document_lines JOIN return_lines ON return_lines.id = return_line_id
           JOIN returns ON returns.id = return_id WHERE document_lines.document_id = ?1 AND credits_line_id IS NULL"#,
        id.0
    )
    .fetch_optional(connection)
    .await?;
    first
        .map(|row| Ok(DocumentRef { kind: known(&row.kind, DocumentKind::of)?, id: row.id, number: row.number }))
        .transpose()
}

/// What an invoice uses of a prepayment invoice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LessPrepaid {
    /// The prepayment invoice.
    pub document: DocumentRef,
    /// How much, as the invoice is priced, in its currency.
    pub amount: Money,
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
                memo.number AS \"memo_number?\", invoices.replaces_id, replaced.number AS \"replaced_number?\", invoices.run_id, invoices.held,
                invoices.differences, invoices.tape
         FROM invoices JOIN customers ON customers.id = invoices.customer_id
         LEFT JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = invoices.id
         LEFT JOIN documents AS memo ON memo.id = invoices.cancelled_by
         LEFT JOIN documents AS replaced ON replaced.id = invoices.replaces_id
         WHERE invoices.id = ?",
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?;
    let Some(head) = head else { return Err(not_there(connection, id).await?) };
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
        payment_reference: head.number.as_deref().and_then(creditor_reference).map(|one| grouped_reference(&one)),
        number: head.number,
        customer,
        document: None,
        entry: None,
        cost_entry: None,
        entries: Vec::new(),
        deposits: Vec::new(),
        prepaid: Vec::new(),
        changes: Vec::new(),
        blockers: Vec::new(),
        fingerprint: String::new(),
        open: head.open_minor.map(Money),
        dispute: None,
        to_bill: None,
        discount: None,
        cancelled_by: document_ref(DocumentKind::CreditMemo, head.cancelled_by, head.memo_number),
        replaces: document_ref(DocumentKind::Invoice, head.replaces_id, head.replaced_number),
        takes_back: None,
        run: head.run_id.map(RunId),
        held: head.held,
        deliveries: deliveries::of_document(connection, id.0).await?,
        trail,
        version: head.version,
    };
    if head.state == "posted" {
        let document = documents::posted(connection, id.0).await?;
        // As it was posted; of older books as their rows tell.
        let differences: Vec<Difference> = read(&head.differences)?;
        let anew = || Ok(tape(&document, &shown.customer.name, rules.base, &differences));
        shown.tape = head.tape.as_deref().map_or_else(anew, read)?;
        let less = |(used, part): (DocumentRef, Part)| LessPrepaid {
            document: used,
            amount: part.priced(document.gross_priced),
        };
        shown.prepaid = by_document(&document).into_iter().map(less).collect();
        shown.document = Some(document);
        shown.takes_back = takes_back(connection, id).await?;
        shown.dispute = disputes::of_invoice(connection, rules.business_date, id).await?;
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
    shown.deposits = decision.deposits;
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
