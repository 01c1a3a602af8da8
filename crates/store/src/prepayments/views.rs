//! Prepayment invoices in lists: what is billed in advance, used, credited, left, paid.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, OrderId};
use till_core::money::{Currency, Money};
use till_core::prepayment::{Part, Prepaid};

use crate::convert::{currency, json};
use crate::invoices::CreditLine;
use crate::rules::Rules;
use crate::{Result, prepayments};

/// A prepayment invoice in a list.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PrepaymentRow {
    /// Its id.
    pub id: InvoiceId,
    /// Its number.
    pub number: String,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The order it is for.
    pub order: DocumentRef,
    /// How far that has come.
    pub order_state: String,
    /// Its document date.
    pub document_date: NaiveDate,
    /// When it is due.
    pub due_date: NaiveDate,
    /// Days past due, where it is open.
    pub days_late: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What it came to, with tax.
    pub total: Money,
    /// What is open of it.
    pub open: Money,
    /// Net billed in advance.
    pub net: Money,
    /// What of that invoices used.
    pub used: Money,
    /// What of it was credited.
    pub credited: Money,
    /// What is neither used nor credited.
    pub left: Money,
    /// The same at what it is carried at, in base currency.
    pub left_base: Money,
    /// What is to be credited of its lines, because they were canceled: amounts as it is priced.
    pub to_credit: Vec<CreditLine>,
    /// All that is left of its lines, as amounts as it is priced.
    pub all_left: Vec<CreditLine>,
}

/// Which prepayment invoices to list.
#[derive(Debug, Clone, Default)]
pub struct PrepaymentFilter {
    /// Words in its number, its customer, its order.
    pub search: Option<String>,
    /// `unpaid`, `left`, `to_credit`, `used`; none for all.
    pub state: Option<String>,
    /// Only of this customer.
    pub customer: Option<CustomerId>,
    /// How many at most.
    pub limit: i64,
    /// How many to pass over.
    pub offset: i64,
}

/// A stretch of the register.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PrepaymentList {
    /// The prepayment invoices, the newest first.
    pub rows: Vec<PrepaymentRow>,
    /// How many fit the filter.
    pub count: i64,
    /// What is open on all that fit, in base currency.
    pub open_base: Money,
    /// What is left of all that fit, in base currency, without tax.
    pub left_base: Money,
}

/// The register of prepayment invoices, the newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(
    connection: &mut SqliteConnection,
    rules: &Rules,
    filter: &PrepaymentFilter,
) -> Result<PrepaymentList> {
    let like = filter.search.as_deref().map(crate::find::pattern);
    let customer = filter.customer.map(|id| id.0);
    let to_credit: Vec<i64> = match filter.state.as_deref() {
        Some("to_credit") => {
            let found = prepayments::to_credit(connection, rules.business_date).await?;
            found.iter().map(|facts| facts.invoice.id).collect()
        }
        _ => Vec::new(),
    };
    let to_credit = json(&to_credit)?;
    // Every prepayment invoice has rows in the register, so it is begun with those.
    let found = sqlx::query!(
        r#"WITH sums AS (
               SELECT document_id, min(order_id) AS order_id, sum(net_minor - used_minor - credited_minor) AS left_minor,
                      sum(net_base_minor - used_base_minor - credited_base_minor) AS left_base
               FROM prepaid_register GROUP BY document_id)
           SELECT sums.document_id AS "id!", open_base_minor AS "open!", left_base AS "left_base!: i64"
           FROM sums JOIN documents ON documents.id = sums.document_id JOIN customers ON customers.id = documents.customer_id
           JOIN orders ON orders.id = sums.order_id
           JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = documents.id AND side = 'owed_to_us'
           WHERE (?1 IS NULL OR documents.number LIKE ?1 ESCAPE '\' OR name LIKE ?1 ESCAPE '\' OR orders.number LIKE ?1 ESCAPE '\')
             AND (?2 IS NULL OR documents.customer_id = ?2)
             AND (?3 IS NULL OR (?3 = 'unpaid' AND open_minor > 0) OR (?3 = 'left' AND left_minor > 0)
                  OR (?3 = 'used' AND left_minor = 0)
                  OR (?3 = 'to_credit' AND documents.id IN (SELECT value FROM json_each(?4))))
           ORDER BY documents.document_date DESC, documents.id DESC"#,
        like,
        customer,
        filter.state,
        to_credit
    )
    .fetch_all(&mut *connection)
    .await?;
    let (count, open, left) = (
        found.len(),
        found.iter().map(|row| Money(row.open)).sum(),
        found.iter().map(|row| Money(row.left_base)).sum(),
    );
    let page = found.iter().skip(usize::try_from(filter.offset).unwrap_or(0));
    let ids: Vec<i64> = page.take(usize::try_from(filter.limit).unwrap_or(usize::MAX)).map(|row| row.id).collect();
    Ok(PrepaymentList {
        rows: rows(connection, rules, &ids).await?,
        count: i64::try_from(count).unwrap_or(i64::MAX),
        open_base: open,
        left_base: left,
    })
}

/// Prepayment invoices of an order, the oldest first. `register` is what was prepaid on its lines.
///
/// # Errors
/// Where the database cannot be read.
pub async fn of_order(
    connection: &mut SqliteConnection,
    rules: &Rules,
    order: OrderId,
    register: &[Prepaid],
) -> Result<Vec<PrepaymentRow>> {
    let mut ids: Vec<i64> = register.iter().filter(|row| row.order == order).map(|row| row.document.id).collect();
    ids.dedup();
    rows(connection, rules, &ids).await
}

async fn rows(connection: &mut SqliteConnection, rules: &Rules, ids: &[i64]) -> Result<Vec<PrepaymentRow>> {
    let wanted = json(&ids)?;
    let heads = sqlx::query!(
        r#"SELECT documents.id AS "id!", documents.number AS "number!", documents.customer_id AS "customer!", name AS "name!",
                  orders.id AS "order!", orders.number AS "order_number!", orders.state AS "order_state!",
                  documents.document_date AS "date!: NaiveDate", next_due_date AS "due!: NaiveDate", documents.currency AS "currency!",
                  documents.gross_priced AS "gross_priced!", orders.gross_priced AS "order_gross!",
                  total_minor AS "total!", open_minor AS "open!"
           FROM json_each(?) AS wanted JOIN documents ON documents.id = wanted.value JOIN customers ON customers.id = documents.customer_id
           JOIN document_orders ON document_orders.document_id = documents.id JOIN orders ON orders.id = order_id
           CROSS JOIN open_items ON open_items.kind = 'invoice' AND open_items.document_id = documents.id AND side = 'owed_to_us'
           ORDER BY wanted.key"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let wanted_of = quantities(connection, &wanted).await?;
    let mut all = Vec::with_capacity(heads.len());
    for head in heads {
        let register = prepayments::rows_of(connection, InvoiceId(head.id)).await?;
        let parts: Vec<&Prepaid> = register.iter().flatten().collect();
        let sum = |of: fn(&Prepaid) -> Part| parts.iter().fold(Part::default(), |sum, row| sum.plus(&of(row)));
        let currency = currency(&head.currency)?;
        let amounts = |amount: &dyn Fn(&Prepaid) -> Money| -> Vec<CreditLine> {
            let lines = parts.iter().enumerate().map(|(position, row)| (position, amount(row)));
            let some = lines.filter(|(_, amount)| amount.is_positive());
            let line = |(position, amount)| CreditLine {
                position,
                quantity: None,
                amount: Some(currency.format(amount)),
                return_line: None,
            };
            some.map(line).collect()
        };
        let (gross, order_gross) = (head.gross_priced != 0, head.order_gross != 0);
        let to_credit = amounts(&|row| {
            let Some((wanted, billed)) = wanted_of.get(&row.order_line.0) else { return Money::ZERO };
            let amount = row.to_credit(*wanted, *billed, order_gross);
            row.part(amount, order_gross, rules.business_date).priced(gross)
        });
        let left = sum(Prepaid::left);
        let open = Money(head.open);
        all.push(PrepaymentRow {
            id: InvoiceId(head.id),
            number: head.number,
            customer: CustomerId(head.customer),
            customer_name: head.name,
            order: DocumentRef { kind: DocumentKind::Order, id: head.order, number: head.order_number },
            order_state: head.order_state,
            document_date: head.date,
            due_date: head.due,
            days_late: if open.is_positive() { (rules.business_date - head.due).num_days().max(0) } else { 0 },
            currency,
            total: Money(head.total),
            open,
            net: sum(|row| row.whole).net,
            used: sum(|row| row.used).net,
            credited: sum(|row| row.credited).net,
            left: left.net,
            left_base: left.net_base,
            to_credit,
            all_left: amounts(&|row| row.left().priced(gross)),
        });
    }
    Ok(all)
}

/// What is wanted and billed of each order line that prepayment invoices are on; `ids` is a list in JSON.
async fn quantities(connection: &mut SqliteConnection, ids: &str) -> Result<HashMap<i64, (Quantity, Quantity)>> {
    let mut wanted_of: HashMap<i64, (Quantity, Quantity)> = HashMap::new();
    for row in sqlx::query!(
        r#"SELECT order_lines.id AS "id!", order_lines.ordered_e4 - cancelled_e4 AS "wanted!: i64", order_lines.billed_e4 AS "billed!" FROM json_each(?) AS wanted
           JOIN document_lines ON document_id = wanted.value JOIN order_lines ON order_lines.id = prepays_line_id"#,
        ids
    )
    .fetch_all(connection)
    .await?
    {
        wanted_of.insert(row.id, (Quantity::from_scaled(row.wanted), Quantity::from_scaled(row.billed)));
    }
    Ok(wanted_of)
}
