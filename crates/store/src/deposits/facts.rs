//! What the core needs to know of deposits: those of invoices, those of orders, what an invoice has for one.

use std::collections::HashMap;

use sqlx::SqliteConnection;
use till_core::deposit::using::{DepositFacts, TaxRoom, most_by_code, part_of};
use till_core::deposit::{AdvanceTax, DepositTarget};
use till_core::fixed::Rate;
use till_core::ids::{CustomerId, DocumentKind, OpenItemId, OrderId, QuoteId};
use till_core::invoice::InvoiceInput;
use till_core::money::Money;
use till_core::open_items::OpenItem;
use till_core::settle::{AdvanceRoom, ToApply};
use till_core::tax::{TaxCategory, TaxRate, compute, compute_gross};

use crate::convert::{currency, json, known};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers, open_items, orders, quotes};

/// What is held of deposits for orders, in the currency of each. `orders` is a list in JSON.
pub(crate) async fn held_for(connection: &mut SqliteConnection, orders: &str) -> Result<HashMap<i64, Money>> {
    Ok(sqlx::query!(
        r#"SELECT deposits.order_id AS "order!", sum(open_minor) AS "held!: i64" FROM json_each(?) AS wanted
           JOIN deposits ON deposits.order_id = wanted.value
           JOIN open_items ON kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us' GROUP BY deposits.order_id"#,
        orders
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| (row.order, Money(row.held)))
    .collect())
}

/// Puts the deposits of their orders, and those on account, on invoices that are to be decided on: of many at once.
/// `wanted` is what was typed on each draft.
pub(crate) async fn load_for_invoices(
    connection: &mut SqliteConnection,
    inputs: &mut [InvoiceInput<'_>],
    wanted: Vec<Vec<(OpenItemId, Money)>>,
) -> Result<()> {
    let customers = json(&inputs.iter().map(|input| input.customer.id).collect::<std::collections::BTreeSet<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "item!", open_items.customer_id AS "customer!", payments.amount_minor AS "taken!", deposits.order_id,
                  orders.number AS "order_number?"
           FROM json_each(?) AS wanted JOIN open_items ON open_items.customer_id = wanted.value AND open_minor > 0
           JOIN deposits ON deposits.id = document_id JOIN payments ON payments.id = deposits.id
           LEFT JOIN orders ON orders.id = deposits.order_id
           WHERE purpose = 'deposit_liability' AND open_items.kind = 'deposit' AND side = 'owed_by_us' AND deposits.quote_id IS NULL
           ORDER BY open_items.posting_date, open_items.id"#,
        customers
    )
    .fetch_all(&mut *connection)
    .await?;
    if rows.is_empty() {
        return Ok(());
    }
    let ids: Vec<OpenItemId> = rows.iter().map(|row| OpenItemId(row.item)).collect();
    let items = open_items::load(connection, &ids).await?;
    let mut of_customer: HashMap<i64, Vec<DepositFacts>> = HashMap::new();
    for (row, item) in rows.into_iter().zip(items) {
        of_customer.entry(row.customer).or_default().push(DepositFacts {
            item,
            taken: Money(row.taken),
            order: row.order_id.map(OrderId).zip(row.order_number),
            wish: None,
        });
    }
    for (input, wanted) in inputs.iter_mut().zip(wanted) {
        let Some(all) = of_customer.get(&input.customer.id.0) else { continue };
        for facts in all {
            let wish = wanted.iter().find(|(item, _)| *item == facts.item.id).map(|(_, amount)| *amount);
            let mine = |order: OrderId| input.orders.iter().any(|known| known.id == order);
            // One for another order is none of this invoice's business, unless someone typed an amount of it.
            let concerns = facts.order.as_ref().is_none_or(|(order, _)| mine(*order));
            if concerns && facts.item.currency == input.basis.currency || wish.is_some() {
                input.deposits.push(DepositFacts { wish, ..facts.clone() });
            }
        }
    }
    Ok(())
}

/// What each item has for a deposit: of the order it is for, and of each tax code.
pub(crate) async fn rooms(
    connection: &mut SqliteConnection,
    deposit: &OpenItem,
    items: impl Iterator<Item = &OpenItem>,
) -> Result<Vec<AdvanceRoom>> {
    let target = sqlx::query!("SELECT order_id, quote_id FROM deposits WHERE id = ?", deposit.document.id)
        .fetch_one(&mut *connection)
        .await?;
    let mut rooms = Vec::new();
    for item in items {
        let invoice = (item.document.kind == DocumentKind::Invoice).then_some(item.document.id);
        let of_order = match (target.order_id, target.quote_id) {
            (Some(order), _) => Some(of_order(connection, (order, invoice), item.id).await?),
            // What was offered is on no invoice yet.
            (None, Some(_)) => Some(Money::ZERO),
            (None, None) => None,
        };
        rooms.push(AdvanceRoom { item: item.id, of_order, taxes: tax_rooms(connection, invoice, item.id).await? });
    }
    Ok(rooms)
}

/// What of an invoice belongs to an order, less what deposits of that order cover of it.
async fn of_order(
    connection: &mut SqliteConnection,
    (order, invoice): (i64, Option<i64>),
    item: OpenItemId,
) -> Result<Money> {
    let room = sqlx::query_scalar!(
        r#"SELECT coalesce((SELECT gross_minor FROM document_orders WHERE document_id = ?1 AND order_id = ?2), 0)
                - coalesce((SELECT sum(debit_minor) FROM applications JOIN open_items ON open_items.id = credit_item AND kind = 'deposit'
                            JOIN deposits ON deposits.id = document_id WHERE debit_item = ?3 AND deposits.order_id = ?2), 0) AS "room!: i64""#,
        invoice, order, item.0
    )
    .fetch_one(connection)
    .await?;
    Ok(Money(room).max(Money::ZERO))
}

/// What an invoice has of each tax code, less what deposits cover of it.
async fn tax_rooms(connection: &mut SqliteConnection, invoice: Option<i64>, item: OpenItemId) -> Result<Vec<TaxRoom>> {
    let rows = sqlx::query!(
        r#"SELECT tax_code AS "code!", category AS "category!", rate_e6 AS "rate!", sum(net) AS "net!: i64", sum(tax) AS "tax!: i64"
           FROM (SELECT tax_code, category, rate_e6, base_minor AS net, tax_minor AS tax FROM document_taxes WHERE document_id = ?1
                 UNION ALL
                 SELECT tax_code, category, rate_e6, -net_minor, -tax_minor FROM applications
                 JOIN application_taxes ON application_id = applications.id WHERE debit_item = ?2)
           GROUP BY tax_code, category, rate_e6"#,
        invoice,
        item.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let category = known(&row.category, TaxCategory::of)?;
            let rate = TaxRate { code: row.code, category, rate: Rate::from_scaled(row.rate) };
            Ok(TaxRoom { rate, net: Money(row.net), tax: Money(row.tax) })
        })
        .collect()
}

/// A proposal for a deposit: no more than each invoice has for it.
pub(crate) async fn proposed(
    connection: &mut SqliteConnection,
    deposit: &OpenItem,
    to_apply: Vec<ToApply>,
) -> Result<Vec<ToApply>> {
    let rooms = rooms(connection, deposit, to_apply.iter().map(|one| &one.item)).await?;
    let mut left = deposit.clone();
    let mut proposal = Vec::new();
    for (mut one, room) in to_apply.into_iter().zip(rooms) {
        let of_order = room.of_order.unwrap_or(one.item.open);
        one.amount = one.item.open.min(of_order).min(most_by_code(&left, &room.taxes)).min(left.open);
        if one.amount.is_positive() {
            let (base, taxes) = part_of(&left, one.amount, left.posting_date, Some(&room.taxes));
            left = left.after(one.amount, base, &taxes);
            proposal.push(one);
        }
    }
    Ok(proposal)
}

/// An order a deposit is taken for: what it comes to by tax code today, and what was taken for it before.
pub(crate) async fn target(
    connection: &mut SqliteConnection,
    rules: &Rules,
    order: OrderId,
    customer: CustomerId,
) -> Result<DepositTarget> {
    let head =
        sqlx::query!("SELECT number, currency, gross_priced, customer_id, state FROM orders WHERE id = ?", order.0)
            .fetch_optional(&mut *connection)
            .await?
            .filter(|head| head.customer_id == customer.0)
            .ok_or_else(|| StoreError::invalid("order", format!("There is no order {order} of this customer.")))?;
    if head.state == "closed" {
        return Err(StoreError::invalid("order", format!("{} is closed. Take the money on account.", head.number)));
    }
    let lines = sqlx::query!(
        r#"SELECT tax_code, amount_minor, ordered_e4, cancelled_e4 FROM order_lines WHERE order_id = ? ORDER BY position"#,
        order.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let priced: Vec<(TaxRate, Money)> = lines
        .into_iter()
        .filter(|line| line.ordered_e4 > 0)
        .filter_map(|line| {
            let rate = rules.taxes.rate_on(&line.tax_code, rules.business_date)?;
            Some((rate, Money(line.amount_minor).share(line.ordered_e4 - line.cancelled_e4, line.ordered_e4)))
        })
        .collect();
    let taxes = match head.gross_priced != 0 {
        true => compute_gross(&priced).0,
        false => compute(rules.tax_computed, &priced),
    };
    Ok(DepositTarget {
        number: head.number,
        currency: currency(&head.currency)?,
        gross: taxes
            .into_iter()
            .map(|tax| (tax.rate, tax.base + tax.tax))
            .filter(|(_, gross)| gross.is_positive())
            .collect(),
        taken_before: taken_before(connection, Some(order), None).await?,
    })
}

/// What was taken for an order or a quote and is not sent back, kept or reversed.
async fn taken_before(
    connection: &mut SqliteConnection,
    order: Option<OrderId>,
    quote: Option<QuoteId>,
) -> Result<Money> {
    let (order, quote) = (order.map(|id| id.0), quote.map(|id| id.0));
    let before = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(payments.amount_minor - coalesce((SELECT sum(deposit_ends.amount_minor) FROM deposit_ends WHERE deposit_id = deposits.id AND deposit_ends.reversed_on IS NULL), 0)
                  - coalesce((SELECT sum(card_returns.amount_minor) FROM card_captures JOIN card_returns ON capture_id = card_captures.id
                              WHERE payment_id = deposits.id AND card_returns.entry_id IS NOT NULL), 0)), 0) AS "before!: i64"
           FROM deposits JOIN payments ON payments.id = deposits.id WHERE (order_id = ?1 OR quote_id = ?2) AND payments.reversed_on IS NULL"#,
        order,
        quote
    )
    .fetch_one(connection)
    .await?;
    Ok(Money(before))
}

/// A quote a deposit is taken for: what was offered, by tax code.
pub(super) async fn quoted(
    connection: &mut SqliteConnection,
    rules: &Rules,
    quote: QuoteId,
    customer: CustomerId,
) -> Result<DepositTarget> {
    let none = || StoreError::invalid("quote", format!("There is no quote {quote} of this customer."));
    let head = sqlx::query!("SELECT customer_id, state FROM quotes WHERE id = ?", quote.0)
        .fetch_optional(&mut *connection)
        .await?
        .filter(|head| head.customer_id == Some(customer.0))
        .ok_or_else(none)?;
    let view = quotes::view(connection, rules, quote).await?;
    if head.state != "open" {
        let sentence = format!("{} is {}. Take the deposit for its order, or on account.", view.number, head.state);
        return Err(StoreError::invalid("quote", sentence));
    }
    let gross_priced = customers::facts(connection, customer).await?.0.gross_priced;
    let priced: Vec<(TaxRate, Money)> =
        view.lines.iter().map(|line| (line.tax.clone(), if gross_priced { line.amount } else { line.net })).collect();
    let taxes = match gross_priced {
        true => compute_gross(&priced).0,
        false => compute(rules.tax_computed, &priced),
    };
    let gross = taxes.into_iter().map(|tax| (tax.rate, tax.base + tax.tax));
    Ok(DepositTarget {
        number: view.number,
        currency: view.currency,
        gross: gross.filter(|(_, gross)| gross.is_positive()).collect(),
        taken_before: taken_before(connection, None, Some(quote)).await?,
    })
}

/// Deposits that were taken for a quote follow it into the order it became.
pub(crate) async fn follow(writing: &mut Writing<'_>, rules: &Rules, quote: QuoteId, order: OrderId) -> Result<()> {
    let rows = sqlx::query!(
        r#"SELECT deposits.id AS "id!", open_items.number AS "number!", open_minor AS "held!", payments.version AS "version!", quotes.number AS "quote!"
           FROM deposits JOIN payments ON payments.id = deposits.id JOIN quotes ON quotes.id = quote_id
           JOIN open_items ON open_items.kind = 'deposit' AND document_id = deposits.id AND side = 'owed_by_us' WHERE quote_id = ?"#,
        quote.0
    )
    .fetch_all(&mut **writing)
    .await?;
    for row in &rows {
        sqlx::query!("UPDATE deposits SET order_id = ?, quote_id = NULL WHERE id = ?", order.0, row.id)
            .execute(&mut **writing)
            .await?;
        if row.held > 0 {
            let reason = format!("{} was accepted", row.quote);
            sqlx::query!(
                "INSERT INTO deposit_moves (deposit_id, moved_on, from_quote_id, to_order_id, amount_minor, reason) VALUES (?, ?, ?, ?, ?, ?)",
                row.id, rules.business_date, quote.0, order.0, row.held, reason
            )
            .execute(&mut **writing)
            .await?;
        }
        sqlx::query!("UPDATE payments SET version = version + 1 WHERE id = ?", row.id).execute(&mut **writing).await?;
        let words = format!("{} followed {} into its order", row.number, row.quote);
        let at = (DocumentKind::Deposit, row.id, row.number.as_str());
        writing.note_on(at, "deposit_moved", words, Some(row.version + 1), Vec::new());
    }
    Ok(())
}

/// What is held of deposits has changed without their orders being decided on: those may close, or not be closed any more.
pub(crate) async fn refresh_orders(connection: &mut SqliteConnection, deposits: &[i64]) -> Result<()> {
    let ids = json(&deposits)?;
    let orders = sqlx::query_scalar!(
        r#"SELECT DISTINCT order_id AS "order!" FROM deposits WHERE order_id IS NOT NULL AND id IN (SELECT value FROM json_each(?))"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    orders::refresh_states(connection, &orders.into_iter().map(OrderId).collect::<Vec<_>>()).await
}

/// The regime a deposit was taken under.
pub(super) fn regime(word: &str) -> Result<AdvanceTax> {
    known(word, AdvanceTax::of)
}
