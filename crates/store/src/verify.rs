//! Proving the books: every tie-out and everything that must always be true.
//!
//! *Source: domain.md section 14.* Each query lists what is wrong; an empty list is the proof.
//! Sub-ledgers are compared day by day, so that they tie out at every date, not only today.

use std::collections::BTreeSet;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::{Row, SqliteConnection};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::OrderId;
use till_core::money::{Money, line_total_less};
use till_core::order::{LineProgress, LineState};
use till_core::pricing::{PriceStep, offs};
use till_core::returns::NextStep;
use till_core::units::in_stock_units;

use crate::convert::{currency, terms};
use crate::returns::{self, ReturnFilter, ReturnRow};
use crate::{Result, StoreError, orders};

/// One thing that must hold.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Proof {
    /// What must hold.
    pub name: String,
    /// Whether it does.
    pub holds: bool,
    /// What is wrong, a few examples at most.
    pub findings: Vec<String>,
}

/// All proofs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Verification {
    /// Whether everything holds.
    pub holds: bool,
    /// One by one.
    pub proofs: Vec<Proof>,
}

const TIE_OUTS: &[(&str, &str)] = &[
    ("Open items equal their accounts, by customer and day", include_str!("verify/open_items.sql")),
    ("Receipts in hand equal their account, by day", include_str!("verify/in_hand.sql")),
    ("Captured and not paid out equals card clearing, by day", include_str!("verify/card_clearing.sql")),
    ("Inventory equals its account, by day", include_str!("verify/inventory.sql")),
    ("Goods waiting for inspection equal their account, by day", include_str!("verify/inspection.sql")),
    ("Claims on suppliers equal their account, by day", include_str!("verify/claims.sql")),
    ("Discounts and differences equal their accounts, by day", include_str!("verify/beside_money.sql")),
    ("Bank statements prove their balances, and what they cleared", include_str!("verify/bank.sql")),
    ("Tax equals its account, by code and day", include_str!("verify/tax.sql")),
    ("Goods shipped and not billed equal their account, by line and day", include_str!("verify/shipped_cost.sql")),
    ("Containers at customers equal their account, by customer and day", include_str!("verify/containers.sql")),
    ("Control accounts carry nothing else", include_str!("verify/control.sql")),
];

const INVARIANTS: &[(&str, &str)] = &[
    ("Every entry balances", include_str!("verify/balance.sql")),
    ("Numbers have no double and no gap", include_str!("verify/numbers.sql")),
    ("Invoices add up", include_str!("verify/invoices.sql")),
    ("Open and unapplied amounts follow from what was applied", include_str!("verify/applications.sql")),
    ("No sub-ledger is below zero on any day", include_str!("verify/never_below.sql")),
    ("What was taxed equals what was sold, by code and tax date, in both currencies", include_str!("verify/taxed.sql")),
    ("Revenue equals the lines of its documents", include_str!("verify/revenue.sql")),
    ("Expected returns equal their accounts", include_str!("verify/expected_returns.sql")),
    ("Billed goods have left stock", include_str!("verify/issues.sql")),
    ("Shipped, billed and drafted quantities follow from the documents", include_str!("verify/quantities.sql")),
    ("Stock follows from what came in and went out", include_str!("verify/stock.sql")),
    ("What is reserved is there, and no more than is still to ship", include_str!("verify/aside.sql")),
    ("Every posting has its entry", include_str!("verify/entries.sql")),
    ("Reporting codes stand beside their ledger lines", include_str!("verify/codes.sql")),
    ("Deposits: what was taken is held, applied, refunded or kept, by tax code", include_str!("verify/deposits.sql")),
    ("Prepaid is used, credited or left, by order line", include_str!("verify/prepaid.sql")),
    ("Captured is never above authorized, and is paid out as it was booked", include_str!("verify/cards.sql")),
    (
        "Customers accepted their own quotes, and cards pay their own invoices",
        include_str!("verify/customer_pages.sql"),
    ),
    ("Canceled invoices are turned round in whole", include_str!("verify/cancelled.sql")),
    ("Credited is never above billed, line by line", include_str!("verify/credited.sql")),
    (
        "Returned is never above billed, credited never above returned, line by line and day by day",
        include_str!("verify/returns.sql"),
    ),
    ("Documents on their way are posted, and what is emailed is in the mailbox", include_str!("verify/deliveries.sql")),
];

/// A proof whose query is empty would hold whatever the books say: such a program is not built.
const _: () = {
    let mut at = 0;
    while at < TIE_OUTS.len() {
        assert!(!TIE_OUTS[at].1.is_empty(), "a tie-out asks nothing");
        at += 1;
    }
    let mut at = 0;
    while at < INVARIANTS.len() {
        assert!(!INVARIANTS[at].1.is_empty(), "a proof asks nothing");
        at += 1;
    }
};

/// The tie-outs alone: fit for asking often.
///
/// # Errors
/// Where the database cannot be read.
pub async fn tie_outs(connection: &mut SqliteConnection) -> Result<Verification> {
    let mut proofs = Vec::new();
    run(connection, TIE_OUTS, &mut proofs).await?;
    Ok(finish(proofs))
}

/// Everything.
///
/// # Errors
/// Where the database cannot be read.
pub async fn verify(connection: &mut SqliteConnection) -> Result<Verification> {
    let mut proofs = vec![integrity(connection).await?];
    run(connection, TIE_OUTS, &mut proofs).await?;
    run(connection, INVARIANTS, &mut proofs).await?;
    proofs.push(proof("The record is whole and as it was written", crate::record::check(connection).await?));
    proofs.push(states(connection).await?);
    proofs.push(line_states(connection).await?);
    proofs.push(open_returns(connection).await?);
    proofs.push(line_nets(connection).await?);
    proofs.push(next_dues(connection).await?);
    proofs.push(taxes(connection).await?);
    Ok(finish(proofs))
}

fn finish(proofs: Vec<Proof>) -> Verification {
    Verification { holds: proofs.iter().all(|proof| proof.holds), proofs }
}

fn proof(name: &str, findings: Vec<String>) -> Proof {
    Proof { name: name.to_owned(), holds: findings.is_empty(), findings }
}

async fn run(
    connection: &mut SqliteConnection,
    queries: &[(&str, &'static str)],
    proofs: &mut Vec<Proof>,
) -> Result<()> {
    for (name, query) in queries {
        let rows = sqlx::query(*query).fetch_all(&mut *connection).await?;
        let findings =
            rows.iter().take(10).map(|row| row.try_get::<String, _>(0)).collect::<std::result::Result<Vec<_>, _>>()?;
        proofs.push(proof(name, findings));
    }
    Ok(())
}

async fn integrity(connection: &mut SqliteConnection) -> Result<Proof> {
    let mut findings: Vec<String> = sqlx::query("PRAGMA integrity_check")
        .fetch_all(&mut *connection)
        .await?
        .iter()
        .map(|row| row.try_get::<String, _>(0))
        .collect::<std::result::Result<Vec<_>, _>>()?;
    findings.retain(|finding| finding != "ok");
    for row in sqlx::query("PRAGMA foreign_key_check").fetch_all(connection).await? {
        findings.push(format!("a row of {} points to nothing", row.try_get::<String, _>(0)?));
    }
    Ok(proof("The database file is sound", findings))
}

async fn states(connection: &mut SqliteConnection) -> Result<Proof> {
    let rows = sqlx::query!("SELECT id, number, state FROM orders ORDER BY id").fetch_all(&mut *connection).await?;
    let ids: Vec<OrderId> = rows.iter().map(|row| OrderId(row.id)).collect();
    let mut findings = Vec::new();
    for (row, facts) in rows.iter().zip(orders::facts(connection, &ids).await?) {
        let derived = facts.state().word();
        if row.state != derived {
            findings.push(format!("{} is kept as {} but is {derived}", row.number, row.state));
        }
    }
    findings.truncate(10);
    Ok(proof("Orders are in the state that follows from what happened", findings))
}

/// The list of open returns keeps to those of which the core says that something is to be done.
async fn open_returns(connection: &mut SqliteConnection) -> Result<Proof> {
    let rules = crate::rules::load(connection).await?;
    let all = returns::list(connection, &rules, &ReturnFilter::default(), (i64::MAX, 0)).await?.returns;
    let open = ReturnFilter { only_open: true, ..ReturnFilter::default() };
    let open = returns::list(connection, &rules, &open, (i64::MAX, 0)).await?.returns;
    let listed: BTreeSet<&str> = open.iter().map(|row| row.number.as_str()).collect();
    let wrong = |row: &&ReturnRow| (row.next != NextStep::Nothing) != listed.contains(row.number.as_str());
    let says =
        |row: &ReturnRow| format!("{}: {:?} follows from its lines, the list says otherwise", row.number, row.next);
    let findings = all.iter().filter(wrong).map(says).take(10).collect();
    Ok(proof("Returns are open while something is to be done", findings))
}

/// What the view says of every order line is what the core says of its quantities, and no more is reserved
/// than is to ship.
async fn line_states(connection: &mut SqliteConnection) -> Result<Proof> {
    let rows = sqlx::query!(
        r#"SELECT orders.number, state.position, ordered_e4, cancelled_e4, shipped_e4, billed_e4, drafted_e4, reserved_e4, leaving_e4 AS "leaving_e4!: i64",
                  stocked AS "stocked!: bool", work AS "work!: bool", factor_e4, to_ship_e4 AS "to_ship!: i64", free_to_ship_e4 AS "free!: i64",
                  waiting_e4 AS "waiting!: i64", back_ordered_e4 AS "back_ordered!: i64", billable_e4 AS "billable!: i64",
                  reserved_in_stock_e4 AS "in_stock!: i64"
           FROM order_line_state AS state JOIN orders ON orders.id = order_id"#
    )
    .fetch_all(connection)
    .await?;
    let mut findings = Vec::new();
    for row in rows {
        let quantity = Quantity::from_scaled;
        let progress =
            LineProgress::from_scaled([row.ordered_e4, row.cancelled_e4, row.shipped_e4, row.billed_e4], Money::ZERO);
        let state = LineState {
            progress,
            drafted: quantity(row.drafted_e4),
            reserved: quantity(row.reserved_e4),
            leaving: quantity(row.leaving_e4),
            stocked: row.stocked,
            work: row.work,
        };
        let derived =
            [progress.to_ship(), state.free_to_ship(), state.waiting(), state.back_ordered(), state.billable()];
        let said = [row.to_ship, row.free, row.waiting, row.back_ordered, row.billable].map(quantity);
        let what = format!("{}, line {}", row.number, row.position + 1);
        if derived != said {
            findings.push(format!("{what}: {derived:?} follow from its quantities, the list says {said:?}"));
        }
        if state.reserved > progress.to_ship() {
            findings.push(format!("{what}: {} reserved, {} to ship", state.reserved, progress.to_ship()));
        }
        if in_stock_units(state.reserved, quantity(row.factor_e4)) != Some(quantity(row.in_stock)) {
            findings.push(format!("{what}: {} reserved are no whole number of what stock is kept in", state.reserved));
        }
    }
    findings.truncate(10);
    Ok(proof("What is short, free and billable of an order line follows from its quantities", findings))
}

/// The next due date of every open invoice worked out once more by the core.
async fn next_dues(connection: &mut SqliteConnection) -> Result<Proof> {
    let rows = sqlx::query!(
        r#"SELECT number, terms AS "terms!", document_date AS "date: NaiveDate", amount_minor AS total, open_minor AS open,
                  next_due_date AS "next: NaiveDate"
           FROM open_items WHERE terms IS NOT NULL AND open_minor > 0"#
    )
    .fetch_all(connection)
    .await?;
    let mut findings = Vec::new();
    for row in rows {
        let due = terms(&row.terms)?.next_due(row.date, Money(row.total), Money(row.open));
        if row.next != due {
            findings.push(format!("{}: the next part falls due on {due}, not on {}", row.number, row.next));
        }
    }
    findings.truncate(10);
    Ok(proof("What falls due next follows from the terms and what is open", findings))
}

/// Every posted line computed once more by the core.
async fn line_nets(connection: &mut SqliteConnection) -> Result<Proof> {
    let rows = sqlx::query!(
        r#"SELECT invoices.number AS "number!", currency, position, quantity_e4, unit_price_e6 AS "price!", invoice_lines.discount_e6 AS "discount!",
                  full_minor AS "full!", amount_minor AS "amount!", surcharge_e6, price_steps AS "steps!",
                  coalesce(entry_id, 0) >= (SELECT entry_id FROM ledger_since WHERE what = 'exact_discounts') AS "exact!: bool"
           FROM invoice_lines JOIN invoices ON invoices.id = invoice_id WHERE state = 'posted'"#
    )
    .fetch_all(connection)
    .await?;
    let mut findings = Vec::new();
    for row in rows {
        // Until then several discounts were rounded to a millionth together.
        let discount = Rate::from_scaled(row.discount);
        let steps: Vec<PriceStep> =
            serde_json::from_str(&row.steps).map_err(|error| StoreError::Corrupt(error.to_string()))?;
        let offs = if row.exact { offs(discount, &steps) } else { vec![discount] };
        let amounts = line_total_less(
            Quantity::from_scaled(row.quantity_e4),
            UnitPrice::from_scaled(row.price),
            &offs,
            UnitPrice::from_scaled(row.surcharge_e6),
            currency(&row.currency)?,
        );
        if (amounts.full.0, amounts.net.0) != (row.full, row.amount) {
            findings.push(format!("{}: line {} is not its quantity × price", row.number, row.position + 1));
        }
    }
    findings.truncate(10);
    Ok(proof("Invoice lines are quantity × price less discount", findings))
}

/// The tax of every posted invoice worked out once more by the core, from its lines.
async fn taxes(connection: &mut SqliteConnection) -> Result<Proof> {
    let ids = sqlx::query!(
        r#"SELECT id, number AS "number!", (SELECT count(*) FROM invoice_lines WHERE invoice_id = invoices.id) AS "lines!"
           FROM invoices WHERE state = 'posted' ORDER BY sequence"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut findings = Vec::new();
    for row in ids {
        let document = crate::documents::posted(connection, row.id).await?;
        // Of an exchange what it supplies; what it takes back is proved against what was billed.
        let lines = usize::try_from(row.lines).unwrap_or_default();
        let document = if lines < document.lines.len() { document.supplied_part(lines) } else { document };
        let faults = till_core::invoice::arithmetic_faults(&document);
        findings.extend(faults.into_iter().map(|fault| format!("{}: {fault}", row.number)));
    }
    findings.truncate(10);
    Ok(proof("Tax and totals of invoices follow from their lines", findings))
}
