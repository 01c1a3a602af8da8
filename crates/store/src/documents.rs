//! Commercial documents: invoices and credit memos, with their lines, taxes and links.
//!
//! What takes something back is kept with a minus: quantities of its lines, amounts, tax. Read by
//! [`posted`] it says what it takes back, without it, as the document it takes it back from does.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::calendar::{DocumentDate, Terms};
use till_core::deposit::using::DepositUsed;
use till_core::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use till_core::ids::{
    CustomerId, DocumentKind, DocumentRef, EntryId, ItemId, OrderId, OrderLineId, ReturnLineId, ShipmentId,
    ShipmentLineId,
};
use till_core::invoice::{
    DocumentDiscount, InvoiceDecision, InvoiceDocument, InvoiceLine, ItemKind, LineSource, LinkRole, OrderShare,
    early_offer,
};
use till_core::money::Money;
use till_core::prepayment::{Asks, Part};
use till_core::tape::Tape;
use till_core::tax::{TaxCategory, TaxComputed, TaxLine, TaxRate};

use crate::convert::{currency, json, known, terms, terms_json};
use crate::invoices::read;
use crate::open_items::{made_by, next_id};
use crate::prepayments;
use crate::rules::next_numbers;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// Ties a document to the one it cancels, credits or replaces.
pub(crate) async fn link(connection: &mut SqliteConnection, from: i64, role: LinkRole, to: i64) -> Result<()> {
    let role = role.word();
    sqlx::query!("INSERT INTO document_links (from_id, to_id, role) VALUES (?, ?, ?)", from, to, role)
        .execute(connection)
        .await?;
    Ok(())
}

/// A posted document put together again from its rows; nothing is computed. Of a credit memo: what it
/// takes back, without its minus.
///
/// # Errors
/// [`StoreError::NotFound`].
pub(crate) async fn posted(connection: &mut SqliteConnection, id: i64) -> Result<InvoiceDocument> {
    let head = sqlx::query!(
        r#"SELECT kind, customer_id, currency, rate_e9 AS "rate!", document_date AS "document_date!: NaiveDate",
                  posting_date AS "posting_date!: NaiveDate", tax_date AS "tax_date!: NaiveDate", due_date AS "due_date!: NaiveDate",
                  terms, net_minor AS "net!", tax_minor AS "tax!", total_minor AS "total!", total_base_minor AS "total_base!",
                  gross_priced, tax_computed AS "tax_computed!", lines_minor AS "lines!", entry_id, discount_e6, discount_minor, discount_reason, text_above, text_below
           FROM documents WHERE id = ? AND state = 'posted'"#,
        id
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let sign = if head.kind == DocumentKind::CreditMemo.word() { -1 } else { 1 };
    let money = |minor: i64| Money(sign * minor);
    let (net, total) = (money(head.net), money(head.total));
    // What was typed and what was assumed no longer matters once it is posted.
    let posted = |date| DocumentDate { date, typed: true };
    let terms = head.terms.as_deref().map_or_else(|| Ok(Terms::net_days(0)), terms)?;
    let mut lines = lines(connection, id, sign).await?;
    if sign > 0 {
        prepayments::read_uses(connection, id, &mut lines).await?;
    }
    let deposits = match head.entry_id.filter(|_| sign > 0) {
        Some(entry) => deposits(connection, EntryId(entry)).await?,
        None => Vec::new(),
    };
    let mut document = InvoiceDocument {
        customer: CustomerId(head.customer_id),
        currency: currency(&head.currency)?,
        rate: ExchangeRate::from_scaled(head.rate),
        document_date: posted(head.document_date),
        posting_date: posted(head.posting_date),
        tax_date: head.tax_date,
        due_parts: Vec::new(),
        early: None,
        terms,
        due: total - deposits.iter().map(|deposit| deposit.amount).sum::<Money>(),
        deposits,
        due_date: head.due_date,
        text_above: head.text_above,
        text_below: head.text_below,
        gross_priced: head.gross_priced != 0,
        tax_computed: known(&head.tax_computed, TaxComputed::of)?,
        lines,
        lines_total: money(head.lines),
        discount: head.discount_minor.map(|amount| DocumentDiscount {
            percent: head.discount_e6.map(Rate::from_scaled),
            amount: money(amount),
            reason: head.discount_reason.unwrap_or_default(),
        }),
        taxes: taxes(connection, id, sign).await?,
        net,
        tax: money(head.tax),
        total,
        total_base: money(head.total_base),
        order_shares: order_shares(connection, id).await?,
    };
    let (date, terms) = (document.document_date.date, &document.terms);
    document.due_parts = match document.deposits.is_empty() {
        true => terms.schedule(date, document.total),
        false => terms.open_parts(date, document.total, document.due),
    };
    document.early = early_offer(&document);
    Ok(document)
}

/// Deposits that were applied as an invoice was posted.
async fn deposits(connection: &mut SqliteConnection, entry: EntryId) -> Result<Vec<DepositUsed>> {
    let mut used = Vec::new();
    for one in made_by(connection, entry).await? {
        let order = sqlx::query_scalar!(
            r#"SELECT orders.number AS "number?" FROM deposits LEFT JOIN orders ON orders.id = order_id WHERE deposits.id = ?"#,
            one.credit.document.id
        )
        .fetch_optional(&mut *connection)
        .await?;
        used.push(DepositUsed {
            item: one.credit.id,
            document: one.credit.document,
            order: order.flatten(),
            amount: one.used.0,
            amount_base: one.used.1,
            taxes: one.taxes,
        });
    }
    Ok(used)
}

/// What a line of a document says of where it comes from. A line that takes another back comes from
/// where that one came from.
#[derive(Default)]
struct Whence {
    shipment_line: Option<i64>,
    shipment: Option<(i64, String, NaiveDate)>,
    order: Option<(i64, String)>,
    customer_order_number: Option<String>,
    order_line: Option<i64>,
    /// What it asks for in advance of its order line, where it is that.
    asks: Option<Asks>,
}

fn source(whence: Whence) -> LineSource {
    if let (Some((order, order_number)), Some(line), Some(asks)) = (&whence.order, whence.order_line, whence.asks) {
        return LineSource::Prepaid {
            order: OrderId(*order),
            order_number: order_number.clone(),
            customer_order_number: whence.customer_order_number,
            in_advance_of: OrderLineId(line),
            asks,
        };
    }
    match (whence.order, whence.order_line, whence.shipment_line, whence.shipment) {
        (Some((order, order_number)), Some(order_line), Some(shipment_line), Some((shipment, number, shipped_on))) => {
            LineSource::Shipped {
                shipment_line: ShipmentLineId(shipment_line),
                shipment: ShipmentId(shipment),
                shipment_number: number,
                shipped_on,
                order: OrderId(order),
                order_number,
                customer_order_number: whence.customer_order_number,
                order_line: OrderLineId(order_line),
            }
        }
        (Some((order, order_number)), Some(order_line), None, _) => LineSource::Ordered {
            order: OrderId(order),
            order_number,
            customer_order_number: whence.customer_order_number,
            order_line: OrderLineId(order_line),
        },
        _ => LineSource::Typed,
    }
}

async fn lines(connection: &mut SqliteConnection, id: i64, sign: i64) -> Result<Vec<InvoiceLine>> {
    let rows = sqlx::query!(
        r#"SELECT shipment_lines.id AS "shipment_line_id?", shipments.id AS "shipment_id?", shipments.number AS "shipment_number?",
                  shipments.posting_date AS "shipped_on?: NaiveDate",
                  orders.id AS "order_id?", orders.number AS "order_number?", document_orders.customer_order_number AS "customer_order_number?",
                  order_lines.id AS "order_line_id?", mine.item_id, mine.account,
                  mine.code AS "code!", mine.unit AS "unit!",
                  mine.quantity_e4, mine.billed_before_e4 AS "billed_before!", mine.still_to_come_e4 AS "still_to_come!",
                  mine.ordered_e4 AS "ordered!", mine.description AS "description!",
                  mine.unit_price_e6 AS "unit_price!", mine.order_price_e6, mine.price_reason, mine.list_price_e6 AS "list_price!",
                  mine.discount_e6 AS "discount!", mine.discount_reason, mine.full_minor AS "full!",
                  mine.amount_minor AS "amount!", mine.off_minor, mine.net_minor AS "net!",
                  mine.tax_code AS "tax_code!", mine.tax_category AS "tax_category!",
                  mine.tax_rate_e6 AS "tax_rate!", mine.surcharge_e6, mine.surcharge_name, mine.price_steps,
                  mine.marks, coalesce(mine.kind, items.kind) AS "kind!: String", mine.order_tax_code, mine.tax_reason,
                  mine.tax_date AS "tax_date!: NaiveDate", coalesce(mine.asks, credited.asks) AS "asks: String"
           FROM document_lines AS mine
           LEFT JOIN document_lines AS credited ON credited.id = mine.credits_line_id
           LEFT JOIN shipment_lines ON shipment_lines.id = coalesce(mine.shipment_line_id, credited.shipment_line_id)
           LEFT JOIN shipments ON shipments.id = shipment_lines.shipment_id
           LEFT JOIN order_lines ON order_lines.id = coalesce(mine.order_line_id, mine.prepays_line_id, credited.order_line_id, credited.prepays_line_id)
           LEFT JOIN items ON items.id = mine.item_id
           LEFT JOIN orders ON orders.id = order_lines.order_id
           LEFT JOIN document_orders ON document_orders.document_id = coalesce(credited.document_id, mine.document_id) AND document_orders.order_id = orders.id
           WHERE mine.document_id = ? ORDER BY mine.position"#,
        id
    )
    .fetch_all(connection)
    .await?;
    let quantity = |scaled: i64| Quantity::from_scaled(sign * scaled);
    let money = |minor: i64| Money(sign * minor);
    rows.into_iter()
        .map(|row| {
            let whence = Whence {
                shipment_line: row.shipment_line_id,
                shipment: row
                    .shipment_id
                    .map(|id| (id, row.shipment_number.unwrap_or_default(), row.shipped_on.unwrap_or_default())),
                order: row.order_id.map(|id| (id, row.order_number.unwrap_or_default())),
                customer_order_number: row.customer_order_number,
                order_line: row.order_line_id,
                asks: row.asks.as_deref().map(read).transpose()?,
            };
            Ok(InvoiceLine {
                source: source(whence),
                item: row.item_id.map(ItemId),
                account: row.account,
                code: row.code,
                description: row.description,
                unit: row.unit,
                ordered: Quantity::from_scaled(row.ordered),
                billed_before: Quantity::from_scaled(row.billed_before),
                quantity: quantity(row.quantity_e4),
                unbilled: quantity(row.quantity_e4),
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
                full: money(row.full),
                amount: money(row.amount),
                off: money(row.off_minor),
                net: money(row.net),
                prepaid: Vec::new(),
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
        .collect()
}

async fn taxes(connection: &mut SqliteConnection, id: i64, sign: i64) -> Result<Vec<TaxLine>> {
    sqlx::query!(
        "SELECT tax_code, category, rate_e6, base_minor, tax_minor FROM document_taxes WHERE document_id = ? ORDER BY position",
        id
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(TaxLine {
            rate: TaxRate {
                code: row.tax_code,
                category: known(&row.category, TaxCategory::of)?,
                rate: Rate::from_scaled(row.rate_e6),
            },
            base: Money(sign * row.base_minor),
            tax: Money(sign * row.tax_minor),
        })
    })
    .collect()
}

async fn order_shares(connection: &mut SqliteConnection, id: i64) -> Result<Vec<OrderShare>> {
    Ok(sqlx::query!("SELECT order_id, gross_minor FROM document_orders WHERE document_id = ? ORDER BY position", id)
        .fetch_all(connection)
        .await?
        .into_iter()
        .map(|row| OrderShare { order: OrderId(row.order_id), gross: Money(row.gross_minor) })
        .collect())
}

/// What takes something back, with its id and number, before it is written: a credit memo, or the invoice of an exchange
/// that leaves something to pay.
#[derive(Debug, Clone)]
pub(crate) struct NewMemo {
    pub(crate) id: i64,
    pub(crate) number: String,
    pub(crate) kind: DocumentKind,
    pub(crate) sequence: i64,
}

impl NewMemo {
    /// It, as what its entry comes from.
    pub(crate) fn source(&self) -> DocumentRef {
        DocumentRef { kind: self.kind, id: self.id, number: self.number.clone() }
    }
}

/// The next of a kind.
pub(crate) async fn new_memo(writing: &mut Writing<'_>, kind: DocumentKind) -> Result<NewMemo> {
    let (prefix, sequence) = next_numbers(writing, kind.word(), 1).await?;
    let id = next_id(writing, "documents").await?;
    Ok(NewMemo { id, number: format!("{prefix}{sequence}"), kind, sequence })
}

/// What a credit memo says.
pub(crate) struct MemoToWrite<'a> {
    /// The invoice it takes something back from, and whether all of it.
    pub(crate) of: (i64, LinkRole),
    /// What it takes back, without a minus; its dates are its own.
    pub(crate) document: &'a InvoiceDocument,
    /// The line of the invoice that each of its lines takes back, by position there, with the cost that
    /// goes back with it.
    pub(crate) credits: &'a [(usize, Money)],
    /// The line of a return that the goods of each of its lines came back on; empty where none did.
    pub(crate) returned: &'a [Option<ReturnLineId>],
    /// What each of its lines gives up of what was billed in advance; empty where none does.
    pub(crate) given_up: &'a [Part],
    /// What goes the other way.
    pub(crate) supplied: Option<&'a InvoiceDecision>,
    /// What is left of it, in base currency: above zero to pay, below zero to credit.
    pub(crate) left_base: Money,
    /// When what is left to pay is due; none on a credit memo.
    pub(crate) to_pay: Option<&'a Terms>,
    /// Why.
    pub(crate) reason: &'a str,
    /// Its arithmetic.
    pub(crate) tape: &'a Tape,
}

impl MemoToWrite<'_> {
    fn other_way(&self) -> Option<&InvoiceDocument> {
        self.supplied.and_then(|supplied| supplied.document.as_ref())
    }

    /// Where the lines it takes back begin, and where those that go the other way: what is to pay says these first.
    fn places(&self) -> (usize, usize) {
        match self.to_pay {
            Some(_) => (self.other_way().map_or(0, |document| document.lines.len()), 0),
            None => (0, self.document.lines.len()),
        }
    }
}

/// Writes it, with the minus of what takes back, as a draft: it is posted with [`post_memo`].
pub(crate) async fn write_memo(
    connection: &mut SqliteConnection,
    memo: &NewMemo,
    what: &MemoToWrite<'_>,
) -> Result<()> {
    let document = what.document;
    let invoice = what.of.0;
    let (currency, kind) = (document.currency.code(), memo.kind.word());
    let dated = document.document_date.date;
    let posted = document.posting_date.date;
    let other = what.other_way();
    // Its rate and how its tax was computed: of the invoice it takes back from, or of what is to pay.
    let own = other.filter(|_| what.to_pay.is_some()).unwrap_or(document);
    let (rate, computed) = (own.rate.scaled(), own.tax_computed.word());
    let of_other = |of: fn(&InvoiceDocument) -> Money| other.map_or(0, |other| of(other).0);
    let (due, terms) = match what.to_pay {
        Some(terms) => {
            let total = Money(of_other(|other| other.total)) - document.total;
            (terms.next_due(dated, total, total), Some(terms_json(terms)?))
        }
        None => (dated, None),
    };
    let tape = json(what.tape)?;
    let reason = what.reason.trim();
    let gross_priced = i64::from(document.gross_priced);
    let discount = document.discount.as_ref();
    let (percent, off) =
        (discount.and_then(|discount| discount.percent).map(Rate::scaled), discount.map(|discount| -discount.amount.0));
    let why = discount.map(|discount| &discount.reason);
    let (net, tax) = (of_other(|other| other.net) - document.net.0, of_other(|other| other.tax) - document.tax.0);
    let total = net + tax;
    let base = what.left_base.0;
    let lines = of_other(|other| other.lines_total) - document.lines_total.0;
    let tax_date = document.tax_date.max(other.map_or(document.tax_date, |other| other.tax_date));
    sqlx::query!(
        "INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, currency, rate_e9,
                net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, terms,
                gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, reason, tape)
         SELECT ?1, ?22, ?2, ?3, 'draft', customer_id, ?4, ?5, ?6, ?13, ?7, ?8, ?9, ?10, ?11, ?12, bill_to_name, bill_to_address,
                bill_to_tax_id, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?24 FROM documents WHERE id = ?23",
        memo.id, memo.number, memo.sequence, dated, posted, tax_date, currency, rate,
        net, tax, total, base, due, terms, gross_priced, computed, lines, percent, off, why, reason, kind, invoice, tape
    )
    .execute(&mut *connection)
    .await?;
    write_memo_lines(connection, memo.id, what).await?;
    if let Some((supplied, document)) = what.supplied.zip(what.other_way()) {
        write_supplied(connection, (memo.id, what.places().1), supplied, document).await?;
    }
    write_memo_taxes(connection, memo.id, what).await
}

/// Posts what was written, with its entry and that of the cost.
pub(crate) async fn post_memo(
    connection: &mut SqliteConnection,
    memo: &NewMemo,
    (invoice, role): (i64, LinkRole),
    (entry, cost_entry): (Option<EntryId>, Option<EntryId>),
) -> Result<()> {
    link(connection, memo.id, role, invoice).await?;
    let (entry, cost_entry) = (entry.map(|id| id.0), cost_entry.map(|id| id.0));
    sqlx::query!(
        "UPDATE documents SET state = 'posted', entry_id = ?, cost_entry_id = ? WHERE id = ?",
        entry,
        cost_entry,
        memo.id
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("UPDATE documents SET version = version + 1 WHERE id = ?", invoice).execute(connection).await?;
    Ok(())
}

/// What a line says beyond its amounts is what the line it takes back says.
async fn write_memo_lines(connection: &mut SqliteConnection, id: i64, what: &MemoToWrite<'_>) -> Result<()> {
    let document = what.document;
    let (first, _) = what.places();
    let rows: Vec<_> = document
        .lines
        .iter()
        .zip(what.credits)
        .enumerate()
        .map(|(at, (line, (credits, cost)))| {
            let given_up = what.given_up.get(at).filter(|part| !part.is_zero());
            let amounts = (-line.full, -line.amount, -line.off, -line.net, -*cost);
            let given_up = given_up.map(|part| (-part.tax, -part.net_base));
            let returned = what.returned.get(at).copied().flatten();
            (first + at, *credits, -line.quantity.scaled(), amounts, given_up, returned)
        })
        .collect();
    let (rows, invoice) = (json(&rows)?, what.of.0);
    sqlx::query!(
        "INSERT INTO document_lines (document_id, position, credits_line_id, quantity_e4, full_minor, amount_minor, off_minor, net_minor,
                cost_minor, kind, item_id, account, ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6,
                order_price_e6, list_price_e6, price_reason, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks,
                tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, prepaid_tax_minor, prepaid_base_minor, return_line_id)
         SELECT ?1, new.value ->> '$[0]', credited.id, new.value ->> '$[2]', new.value ->> '$[3][0]', new.value ->> '$[3][1]',
                new.value ->> '$[3][2]', new.value ->> '$[3][3]', new.value ->> '$[3][4]', kind, item_id, account, ordered_e4,
                billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
                price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, tax_code, tax_category, tax_rate_e6,
                tax_date, order_tax_code, tax_reason, new.value ->> '$[4][0]', new.value ->> '$[4][1]', new.value ->> '$[5]'
         FROM jsonb_each(?2) AS new
         -- In this order: begun with the lines of the invoice, the list would be read once for each of them.
         CROSS JOIN document_lines AS credited ON credited.document_id = ?3 AND credited.position = new.value ->> '$[1]'",
        id,
        rows,
        invoice
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The lines that go the other way, from a place of a document on: supplies of the day, as on an invoice.
pub(crate) async fn write_supplied(
    connection: &mut SqliteConnection,
    (id, first): (i64, usize),
    supplied: &InvoiceDecision,
    document: &InvoiceDocument,
) -> Result<()> {
    let leaves = |at: usize| {
        let leaving = supplied.leaving.iter().find(|leaving| leaving.line == at);
        leaving.map(|leaving| leaving.issues.iter().map(|issue| issue.quantity.scaled()).sum::<i64>())
    };
    let goods: Vec<_> = supplied.costs.iter().enumerate().map(|(at, cost)| (leaves(at), *cost)).collect();
    write_typed(connection, (id, first, 1), &document.lines, &goods).await
}

/// Lines that stand on nothing but what was typed, from a place of a document on, with a sign of minus one where they are
/// credited; with each what leaves stock with it, and its cost.
pub(crate) async fn write_typed(
    connection: &mut SqliteConnection,
    (id, first, sign): (i64, usize, i64),
    lines: &[InvoiceLine],
    goods: &[(Option<i64>, Money)],
) -> Result<()> {
    let money = |amount: Money| Money(sign * amount.0);
    let rows: Vec<_> = lines
        .iter()
        .zip(goods)
        .enumerate()
        .map(|(at, (line, (leaves, cost)))| {
            (
                (first + at, sign * line.quantity.scaled(), line.kind.word(), line.item, &line.account, leaves, cost),
                (&line.code, &line.description, &line.unit, line.unit_price.scaled(), line.list_price.scaled()),
                (line.discount.scaled(), &line.discount_reason, line.surcharge.scaled(), &line.surcharge_name),
                (
                    money(line.full),
                    money(line.amount),
                    money(line.off),
                    money(line.net),
                    &line.price_steps,
                    &line.marks,
                ),
                (&line.tax.code, line.tax.category, line.tax.rate.scaled(), line.tax_date, &line.tax_reason),
            )
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO document_lines (document_id, position, quantity_e4, kind, item_id, account, leaves_e4, cost_minor, code, description, unit,
                unit_price_e6, order_price_e6, list_price_e6, discount_e6, discount_reason, surcharge_e6, surcharge_name, full_minor, amount_minor,
                off_minor, net_minor, price_steps, marks, tax_code, tax_category, tax_rate_e6, tax_date, tax_reason, ordered_e4, billed_before_e4,
                still_to_come_e4)
         SELECT ?1, value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]', value ->> '$[0][5]',
                value ->> '$[0][6]', value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][3]',
                value ->> '$[1][4]', value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]', value ->> '$[2][3]', value ->> '$[3][0]',
                value ->> '$[3][1]', value ->> '$[3][2]', value ->> '$[3][3]', value -> '$[3][4]', value -> '$[3][5]', value ->> '$[4][0]',
                value ->> '$[4][1]', value ->> '$[4][2]', value ->> '$[4][3]', value ->> '$[4][4]', value ->> '$[0][1]', 0, 0
         FROM jsonb_each(?2)",
        id,
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Tax on each side: what goes back with a minus, what is supplied without.
async fn write_memo_taxes(connection: &mut SqliteConnection, id: i64, what: &MemoToWrite<'_>) -> Result<()> {
    let back = what.document.taxes.iter().map(|tax| (tax, -tax.base, -tax.tax));
    let other = what.other_way().into_iter().flat_map(|document| &document.taxes).map(|tax| (tax, tax.base, tax.tax));
    let sides: Vec<_> = if what.to_pay.is_some() { other.chain(back).collect() } else { back.chain(other).collect() };
    write_taxes(connection, id, sides.into_iter()).await
}

/// The taxes of a document, each with its base and its tax as they are kept.
pub(crate) async fn write_taxes(
    connection: &mut SqliteConnection,
    id: i64,
    sides: impl Iterator<Item = (&TaxLine, Money, Money)>,
) -> Result<()> {
    let taxes: Vec<_> = sides
        .enumerate()
        .map(|(position, (tax, base, amount))| {
            (position, &tax.rate.code, tax.rate.category, tax.rate.rate.scaled(), base, amount)
        })
        .collect();
    let taxes = json(&taxes)?;
    sqlx::query!(
        "INSERT INTO document_taxes (document_id, position, tax_code, category, rate_e6, base_minor, tax_minor)
         SELECT ?1, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5 FROM jsonb_each(?2)",
        id,
        taxes
    )
    .execute(connection)
    .await?;
    Ok(())
}
