//! An order as asking for a part of it in advance needs it.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::Findings;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId, OrderLineId};
use till_core::invoice::ItemKind;
use till_core::money::{Currency, Money};
use till_core::order::OrderState;
use till_core::prepayment::Prepaid;
use till_core::prepayment::asking::{self, AskLine, LineWish, Wish};
use till_core::tax::{TaxCategory, TaxRate};

use super::form::SavedAdvance;
use crate::convert::{currency, json, known};
use crate::invoices::read;
use crate::prepayments::facts::of_lines;
use crate::rules::Rules;
use crate::{Result, StoreError};

/// An order with its lines as asking needs them.
pub(in crate::prepayments) struct Loaded {
    pub(in crate::prepayments) order: DocumentRef,
    pub(super) version: i64,
    pub(super) state: OrderState,
    pub(in crate::prepayments) customer: CustomerId,
    pub(super) customer_name: String,
    pub(super) customer_class: Option<String>,
    pub(super) currency: Currency,
    pub(super) gross_priced: bool,
    pub(super) usual: Option<Rate>,
    pub(super) saved: SavedAdvance,
    pub(super) lines: Vec<(AskLine, LineWords)>,
    /// What was prepaid on its lines.
    pub(super) rows: Vec<Prepaid>,
}

/// What a line says on paper, and where it is booked.
pub(super) struct LineWords {
    pub(super) description: String,
    pub(super) unit: String,
    pub(super) class: String,
}

impl Loaded {
    /// Its lines, each with what was set for it.
    pub(super) fn asks(&self) -> Vec<AskLine> {
        self.lines.iter().map(|(line, _)| line.clone()).collect()
    }

    /// What is wrong with what is wished for of it.
    pub(super) fn check(&self, wish: &Wish, findings: &mut Findings) {
        asking::check(wish, (&self.asks(), self.gross_priced), (&self.order.number, self.currency), findings);
    }
}

/// Reads an order, with the rates of tax of a day.
pub(super) async fn load(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: OrderId,
    on: NaiveDate,
) -> Result<Loaded> {
    let head = sqlx::query!(
        r#"SELECT orders.number, orders.version, orders.state, customer_id, name, customers.class, orders.currency, orders.gross_priced,
                  customers.share_ahead_e6 AS usual, orders.advance
           FROM orders JOIN customers ON customers.id = customer_id WHERE orders.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", items.code, items.kind, items.class, items.share_ahead_e6, order_lines.description, order_lines.unit,
                  order_lines.tax_code, order_lines.amount_minor, ordered_e4, cancelled_e4, billed_e4
           FROM order_lines JOIN items ON items.id = item_id WHERE order_id = ? ORDER BY position"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids = json(&lines.iter().map(|line| line.id).collect::<Vec<_>>())?;
    let rows = of_lines(connection, &ids).await?;
    let gross_priced = head.gross_priced != 0;
    let mut all = Vec::with_capacity(lines.len());
    for line in lines {
        let wanted = Quantity::from_scaled(line.ordered_e4 - line.cancelled_e4);
        let billed = Quantity::from_scaled(line.billed_e4);
        let mine: Vec<&Prepaid> = rows.iter().filter(|row| row.order_line.0 == line.id).collect();
        let priced = |part: &dyn Fn(&Prepaid) -> Money| -> Money { mine.iter().map(|row| part(row)).sum() };
        let tax = rules.taxes.rate_on(&line.tax_code, on).unwrap_or_else(|| TaxRate {
            code: line.tax_code.clone(),
            category: TaxCategory::O,
            rate: Rate::ZERO,
        });
        let asks = AskLine {
            order_line: OrderLineId(line.id),
            code: line.code,
            kind: known(&line.kind, ItemKind::of)?,
            wanted,
            billed,
            billed_before: mine.first().map_or(billed, |row| row.billed_before),
            amount: Money(line.amount_minor).share(wanted.scaled(), line.ordered_e4),
            tax,
            item_percent: line.share_ahead_e6.map(Rate::from_scaled),
            wish: LineWish::default(),
            before: priced(&|row| row.whole.less(&row.credited).priced(gross_priced)),
            used: priced(&|row| row.used.priced(gross_priced)),
            to_credit: priced(&|row| row.to_credit(wanted, billed, gross_priced)),
        };
        all.push((asks, LineWords { description: line.description, unit: line.unit, class: line.class }));
    }
    Ok(Loaded {
        order: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number },
        version: head.version,
        state: known(&head.state, OrderState::of)?,
        customer: CustomerId(head.customer_id),
        customer_name: head.name,
        customer_class: head.class,
        currency: currency(&head.currency)?,
        gross_priced,
        usual: (head.usual > 0).then(|| Rate::from_scaled(head.usual)),
        saved: head.advance.as_deref().map(read).transpose()?.unwrap_or_default(),
        lines: all,
        rows,
    })
}
