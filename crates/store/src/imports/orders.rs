//! Orders from a file: each becomes a draft, as if it had been typed.

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::{Step, at_step};
use till_core::ids::{CustomerId, OrderId};
use till_core::ordering::decide;

use super::{ImportCheck, ImportLine, Planned, Progress, TakenOver, refuse};
use crate::orders::{LineForm, Lineage, OrderForm, Standing, confirm_as, enter_form, resolve};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError};

/// An order of the file: its name there, its lines, and where they stand.
struct Grouped {
    name: String,
    places: Vec<usize>,
    form: Result<OrderForm>,
}

fn date(line: &ImportLine, heading: &str) -> Result<Option<NaiveDate>> {
    match line.cell(heading) {
        None => Ok(None),
        Some(text) => text
            .parse()
            .map(Some)
            .map_err(|_| StoreError::invalid(heading, format!("“{text}” is no date. Write it as 2026-03-18."))),
    }
}

async fn group(connection: &mut SqliteConnection, lines: &[ImportLine]) -> Result<Vec<Grouped>> {
    let mut groups: Vec<(String, Vec<&ImportLine>)> = Vec::new();
    for line in lines {
        let name = line.cell("order").unwrap_or("").to_owned();
        match groups.iter_mut().rev().take(50).find(|(known, _)| *known == name) {
            Some((_, members)) => members.push(line),
            None => groups.push((name, vec![line])),
        }
    }
    let mut grouped = Vec::with_capacity(groups.len());
    for (name, members) in groups {
        let places = members.iter().map(|line| line.line).collect();
        let form = form(connection, &name, &members).await;
        grouped.push(Grouped { name, places, form });
    }
    Ok(grouped)
}

async fn form(connection: &mut SqliteConnection, name: &str, lines: &[&ImportLine]) -> Result<OrderForm> {
    if name.is_empty() {
        return Err(StoreError::invalid("order", "Name the order: lines with the same name become one order."));
    }
    let first = lines[0];
    let number = first.cell("customer").unwrap_or("");
    let customer = sqlx::query_scalar!("SELECT id AS \"id!\" FROM customers WHERE number = ?", number)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::invalid("customer", format!("There is no customer {number}.")))?;
    if let Some((at, other)) =
        lines.iter().enumerate().find(|(_, line)| line.cell("customer").is_some_and(|other| other != number))
    {
        return Err(StoreError::invalid(
            format!("lines.{at}.customer"),
            format!(
                "{name} is of customer {number} above and of {} here. Give it another name.",
                other.cell("customer").unwrap_or("")
            ),
        ));
    }
    let owned = |line: &ImportLine, heading: &str| line.cell(heading).map(str::to_owned);
    let lines_of = lines
        .iter()
        .map(|line| LineForm {
            item: line.cell("item").unwrap_or("").to_owned(),
            quantity: line.cell("quantity").unwrap_or("").to_owned(),
            unit: owned(line, "unit"),
            unit_price: owned(line, "price"),
            price_reason: line
                .cell("price")
                .map(|_| owned(line, "reason").unwrap_or_else(|| "from the file".to_owned())),
            discount: owned(line, "discount"),
            discount_reason: owned(line, "reason"),
            description: owned(line, "description"),
            ..LineForm::default()
        })
        .collect();
    Ok(OrderForm {
        customer: CustomerId(customer),
        customer_order_number: Some(owned(first, "their_order").unwrap_or_else(|| name.to_owned())),
        order_date: date(first, "date")?,
        requested_date: date(first, "requested")?,
        promised_date: date(first, "promised")?,
        warehouse: owned(first, "warehouse"),
        note: owned(first, "note"),
        lines: lines_of,
        ..OrderForm::default()
    })
}

pub(super) async fn check(
    connection: &mut SqliteConnection,
    rules: &Rules,
    lines: &[ImportLine],
    progress: Progress<'_>,
) -> Result<ImportCheck> {
    let mut check = ImportCheck { lines: lines.len(), ..ImportCheck::default() };
    let mut done = 0;
    for group in group(connection, lines).await? {
        done += group.places.len();
        progress(done);
        let typed = match &group.form {
            Ok(typed) => typed,
            Err(error) => {
                check.refused(error, &group.places);
                continue;
            }
        };
        match resolve(connection, rules, typed, Standing::default()).await {
            Err(error) => check.refused(&error, &group.places),
            Ok(resolved) => {
                let decision = decide(&resolved.input);
                check.found(&at_step(&decision.blockers, Step::Import), &group.places);
                check.plan(Planned {
                    number: group.name,
                    customer_name: resolved.input.customer.name.clone(),
                    lines: group.places.len(),
                    net: decision.net,
                    currency: resolved.input.currency.code().to_owned(),
                });
            }
        }
    }
    Ok(check)
}

pub(super) async fn take_over(
    writing: &mut Writing<'_>,
    rules: &Rules,
    lines: &[ImportLine],
    confirm: bool,
    progress: Progress<'_>,
) -> Result<TakenOver> {
    refuse(&check(writing, rules, lines, &|_| ()).await?)?;
    let mut made: Vec<OrderId> = Vec::new();
    let mut confirmed = 0;
    let mut done = 0;
    for group in group(writing, lines).await? {
        let order = enter_form(writing, rules, &group.form?, Lineage::default()).await?;
        // What has to be asked for, or lacks something, stays a draft.
        if confirm && confirm_as(writing, rules, order, None, "").await.is_ok() {
            confirmed += 1;
        }
        made.push(order);
        done += group.places.len();
        progress(done);
    }
    let number = async |writing: &mut Writing<'_>, id: Option<&OrderId>| -> Result<String> {
        let id = id.map_or(-1, |id| id.0);
        Ok(sqlx::query_scalar!("SELECT number FROM orders WHERE id = ?", id).fetch_one(&mut **writing).await?)
    };
    Ok(TakenOver {
        documents: made.len(),
        lines: lines.len(),
        first: number(writing, made.first()).await?,
        last: number(writing, made.last()).await?,
        confirmed: Some(confirmed),
    })
}
