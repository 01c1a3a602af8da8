//! Quotes: offers to customers, and to people who are none yet.

use chrono::{Days, NaiveDate};
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::acceptance::{QuoteAsks, Requirement, share_problem};
use till_core::calendar::words;
use till_core::checks::Step;
use till_core::fixed::Rate;
use till_core::ids::{ContactId, CustomerId, DocumentKind, OrderId, QuoteId};
use till_core::merge::{Fields, differences};
use till_core::money::{Currency, Money};
use till_core::ordering::{OrderDecision, PricedLine, decide};
use till_core::people::check_reason;
use till_core::tape::Tape;

use crate::convert::{currency, json, known};
use crate::customer_pages::{self, AcceptedView};
use crate::orders::{self, Lineage, OrderForm, Standing, enter_resolved, refuse_at, resolve};
use crate::rules::{Rules, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, sensible_date};

/// A quote as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct QuoteForm {
    /// What is offered, as it would be ordered.
    pub order: OrderForm,
    /// Until when it holds; none for thirty days.
    #[serde(default)]
    pub valid_until: Option<NaiveDate>,
    /// What it asks for before its order is confirmed.
    #[serde(default)]
    pub asks: QuoteAsks,
    /// The share of its total that is asked for, in percent; a decimal.
    #[serde(default)]
    pub asks_percent: Option<String>,
}

/// Where a quote stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum QuoteState {
    /// Waits for the customer's word.
    Open,
    /// Its day has passed without one.
    Expired,
    /// Became an order.
    Accepted,
    /// Not wanted.
    Declined,
}

/// A quote on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct QuoteView {
    /// Its id.
    pub id: QuoteId,
    /// Its number.
    pub number: String,
    /// Whose, where it is a customer.
    pub customer: Option<CustomerId>,
    /// The contact.
    pub contact: Option<ContactId>,
    /// Who it is for, in words.
    pub name: String,
    /// When it was written.
    pub quote_date: NaiveDate,
    /// Until when it holds.
    pub valid_until: NaiveDate,
    /// Where it stands.
    pub state: QuoteState,
    /// Why it was declined.
    pub reason: Option<String>,
    /// The order it became.
    pub order: Option<OrderId>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its lines as offered.
    pub lines: Vec<PricedLine>,
    /// Sum of the line nets.
    pub net: Money,
    /// Net and tax.
    pub total: Money,
    /// What it asks for before its order is confirmed.
    pub asked: Requirement,
    /// The share of its total that is asked for, in percent; none where nothing is.
    pub asks_percent: Option<String>,
    /// Who accepted it on the customer page, and what is missing since.
    pub accepted: Option<AcceptedView>,
    /// As typed.
    pub form: OrderForm,
    /// Its arithmetic, as it was written.
    pub tape: Tape,
    /// Changes with every edit.
    pub version: i64,
}

/// A quote in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct QuoteRow {
    /// Its id.
    pub id: QuoteId,
    /// Its number.
    pub number: String,
    /// Who it is for.
    pub name: String,
    /// When it was written.
    pub quote_date: NaiveDate,
    /// Until when it holds.
    pub valid_until: NaiveDate,
    /// Where it stands.
    pub state: QuoteState,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Sum of the line nets.
    pub net: Money,
}

fn state(word: &str, valid_until: NaiveDate, today: NaiveDate) -> QuoteState {
    match word {
        "accepted" => QuoteState::Accepted,
        "declined" => QuoteState::Declined,
        _ if valid_until < today => QuoteState::Expired,
        _ => QuoteState::Open,
    }
}

fn valid_until(typed: &QuoteForm, date: NaiveDate) -> Result<NaiveDate> {
    let until = match typed.valid_until {
        Some(until) => sensible_date("valid_until", until)?,
        None => date.checked_add_days(Days::new(30)).unwrap_or(date),
    };
    if until < date {
        return Err(StoreError::invalid("valid_until", "A quote holds at least for the day it is written on."));
    }
    Ok(until)
}

async fn written(
    writing: &mut Writing<'_>,
    rules: &Rules,
    typed: &QuoteForm,
) -> Result<(NaiveDate, NaiveDate, OrderDecision, Currency, String)> {
    let standing = Standing { quote: true, ..Standing::default() };
    let mut resolved = resolve(writing, rules, &typed.order, standing).await?;
    resolved.input.name = "quote".to_owned();
    let decision = decide(&resolved.input);
    refuse_at(&decision, Step::Quote)?;
    let date = resolved.input.date;
    Ok((date, valid_until(typed, date)?, decision, resolved.input.currency, resolved.input.customer.name.clone()))
}

/// The share that is asked for, as typed.
fn share(typed: &QuoteForm) -> Result<Rate> {
    let share = match typed.asks_percent.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        Some(text) => Rate::from_percent(text).map_err(|error| StoreError::decimal("asks_percent", &error))?,
        None => Rate::ZERO,
    };
    match share_problem(typed.asks, share) {
        None => Ok(share),
        Some(sentence) => Err(StoreError::invalid("asks_percent", sentence)),
    }
}

/// A quote as named fields, for the record.
async fn described(connection: &mut SqliteConnection, id: QuoteId) -> Result<Fields> {
    let row = sqlx::query!(
        r#"SELECT form, net_minor, currency, valid_until AS "until: NaiveDate", asks, asks_share_e6 FROM quotes WHERE id = ?"#,
        id.0
    )
    .fetch_one(connection)
    .await?;
    let form: OrderForm = serde_json::from_str(&row.form).map_err(|error| StoreError::Corrupt(error.to_string()))?;
    let mut fields = orders::described(&form);
    fields.insert("net".to_owned(), currency(&row.currency)?.format(Money(row.net_minor)));
    fields.insert("valid until".to_owned(), till_core::calendar::words(row.until));
    if row.asks_share_e6 > 0 {
        let share = Rate::from_scaled(row.asks_share_e6).percent();
        fields.insert("asks for".to_owned(), format!("{} of {share}%", row.asks));
    }
    Ok(fields)
}

/// Writes a quote, or writes an open one anew.
///
/// # Errors
/// [`StoreError::Stale`], a quote that is decided, what cannot be offered.
pub async fn save(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: Option<(QuoteId, i64)>,
    typed: &QuoteForm,
) -> Result<QuoteId> {
    let (date, until, decision, of, name) = written(writing, rules, typed).await?;
    let (form, lines, tape) = (json(&typed.order)?, json(&decision.lines)?, json(&decision.tape)?);
    let code = of.code();
    let (asks, share) = (typed.asks.word(), share(typed)?.scaled());
    let customer = Some(typed.order.customer.0).filter(|id| *id != 0);
    let contact = typed.order.contact.map(|id| id.0);
    let mut was = Fields::new();
    let (row, number, version) = match id {
        Some((id, version)) => {
            let head = head(writing, id, Some(version)).await?;
            was = described(writing, id).await?;
            if head.state != "open" {
                return Err(StoreError::WrongState(format!("{} is {}. Write a new quote.", head.number, head.state)));
            }
            sqlx::query!(
                "UPDATE quotes SET customer_id = ?, contact_id = ?, quote_date = ?, valid_until = ?, currency = ?, form = ?, lines = ?, tape = ?,
                        net_minor = ?, tax_minor = ?, asks = ?, asks_share_e6 = ?, version = version + 1 WHERE id = ?",
                customer, contact, date, until, code, form, lines, tape, decision.net.0, decision.tax.0, asks, share, id.0
            )
            .execute(&mut **writing)
            .await?;
            (id.0, head.number, version + 1)
        }
        None => {
            let (number, _) = next_number(writing, "quote").await?;
            let id = sqlx::query_scalar!(
                "INSERT INTO quotes (number, customer_id, contact_id, quote_date, valid_until, currency, form, lines, tape, net_minor, tax_minor, asks, asks_share_e6)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id AS \"id!\"",
                number, customer, contact, date, until, code, form, lines, tape, decision.net.0, decision.tax.0, asks, share
            )
            .fetch_one(&mut **writing)
            .await?;
            (id, number, 1)
        }
    };
    let fields = differences(&was, &described(writing, QuoteId(row)).await?);
    let (what, said) = if version == 1 { ("quote_written", "wrote") } else { ("quote_changed", "changed") };
    writing.note_on(
        (DocumentKind::Quote, row, &number),
        what,
        format!("{said} {number} for {name}"),
        Some(version),
        fields,
    );
    Ok(QuoteId(row))
}

struct Head {
    number: String,
    state: String,
    customer: Option<CustomerId>,
    form: OrderForm,
    lines: Vec<PricedLine>,
    valid_until: NaiveDate,
    version: i64,
}

async fn head(connection: &mut SqliteConnection, id: QuoteId, version: Option<i64>) -> Result<Head> {
    let corrupt = |error: serde_json::Error| StoreError::Corrupt(error.to_string());
    let row = sqlx::query!(
        r#"SELECT number, state, customer_id, form, lines, valid_until AS "valid_until: NaiveDate", version FROM quotes WHERE id = ?"#,
        id.0
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Quote, id))?;
    if version.is_some_and(|seen| seen != row.version) {
        return Err(StoreError::Stale { what: row.number, current: row.version });
    }
    Ok(Head {
        number: row.number,
        state: row.state,
        customer: row.customer_id.map(CustomerId),
        form: serde_json::from_str(&row.form).map_err(corrupt)?,
        lines: serde_json::from_str(&row.lines).map_err(corrupt)?,
        valid_until: row.valid_until,
        version: row.version,
    })
}

/// The customer's word on a quote.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Acceptance {
    /// The version seen.
    pub version: i64,
    /// The customer that the contact has become, where the quote went to one.
    #[serde(default)]
    pub customer: Option<CustomerId>,
    /// The number the customer gives the order.
    #[serde(default)]
    pub customer_order_number: Option<String>,
}

/// Turns an accepted quote into a draft order at the very prices it offered.
///
/// # Errors
/// [`StoreError::Stale`], a quote that is decided or has expired, a contact who is no customer yet.
pub async fn accept(writing: &mut Writing<'_>, rules: &Rules, id: QuoteId, word: &Acceptance) -> Result<OrderId> {
    let head = head(writing, id, Some(word.version)).await?;
    if head.state != "open" {
        return Err(StoreError::WrongState(format!("{} is {} already.", head.number, head.state)));
    }
    if head.valid_until < rules.business_date {
        return Err(StoreError::WrongState(format!(
            "{} held until {}. Write it anew at today's prices.",
            head.number,
            words(head.valid_until)
        )));
    }
    let Some(customer) = head.customer.or(word.customer) else {
        return Err(StoreError::invalid(
            "customer",
            format!(
                "{} went to someone who is no customer yet. Add the customer first, then name it here.",
                head.number
            ),
        ));
    };
    let mut form = head.form.clone();
    form.customer = customer;
    form.order_date = Some(rules.business_date);
    if word.customer_order_number.is_some() {
        form.customer_order_number = word.customer_order_number.clone();
    }
    let resolved = resolve(writing, rules, &form, Standing::default()).await?;
    let offered = currency_of(writing, id).await?;
    if resolved.input.currency != offered {
        return Err(StoreError::invalid(
            "customer",
            format!("The quote is in {offered}, the customer in {}.", resolved.input.currency),
        ));
    }
    let mut lines = decide(&resolved.input).lines;
    if lines.len() != head.lines.len() {
        return Err(StoreError::WrongState("Items of this quote have changed. Write it anew.".to_owned()));
    }
    // What was offered is what is ordered; only tax follows who the customer is.
    for (line, offered) in lines.iter_mut().zip(&head.lines) {
        line.price = offered.price.clone();
        line.amount = offered.price.as_ref().map_or(offered.net, |price| price.net);
        line.net = offered.net;
    }
    let from = Lineage { quote: Some(id), copied_from: None };
    let order = enter_resolved(writing, &resolved, &lines, from).await?;
    sqlx::query!(
        "UPDATE quotes SET state = 'accepted', order_id = ?, customer_id = ?, version = version + 1 WHERE id = ?",
        order.0,
        customer.0,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    crate::deposits::follow(writing, rules, id, order).await?;
    if let Some(contact) = form.contact {
        sqlx::query!("UPDATE contacts SET customer_id = ? WHERE id = ? AND customer_id IS NULL", customer.0, contact.0)
            .execute(&mut **writing)
            .await?;
    }
    let number =
        sqlx::query_scalar!("SELECT number FROM orders WHERE id = ?", order.0).fetch_one(&mut **writing).await?;
    let said = format!("{} was accepted and became {number}", head.number);
    let version = Some(head.version + 1);
    writing.note_on(
        (DocumentKind::Quote, id.0, &head.number),
        "quote_accepted",
        said,
        version,
        vec![set("order", &number)],
    );
    Ok(order)
}

async fn currency_of(connection: &mut SqliteConnection, id: QuoteId) -> Result<Currency> {
    let code = sqlx::query_scalar!("SELECT currency FROM quotes WHERE id = ?", id.0).fetch_one(connection).await?;
    currency(&code)
}

/// Notes that a quote is not wanted.
///
/// # Errors
/// [`StoreError::Stale`], a quote that is decided, no reason.
pub async fn decline(writing: &mut Writing<'_>, id: QuoteId, version: i64, reason: &str) -> Result<()> {
    let head = head(writing, id, Some(version)).await?;
    if head.state != "open" {
        return Err(StoreError::WrongState(format!("{} is {} already.", head.number, head.state)));
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    sqlx::query!("UPDATE quotes SET state = 'declined', reason = ?, version = version + 1 WHERE id = ?", reason, id.0)
        .execute(&mut **writing)
        .await?;
    let fields = differences(&Fields::new(), &Fields::from([("reason".to_owned(), reason)]));
    let said = format!("{} was declined", head.number);
    writing.note_on((DocumentKind::Quote, id.0, &head.number), "quote_declined", said, Some(version + 1), fields);
    Ok(())
}

/// One quote.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, rules: &Rules, id: QuoteId) -> Result<QuoteView> {
    let head = head(connection, id, None).await?;
    let row = sqlx::query!(
        r#"SELECT quotes.contact_id, coalesce(customers.name, contacts.company, contacts.name) AS "name!: String",
                  quote_date AS "quote_date: NaiveDate", reason, order_id, quotes.currency, net_minor, tax_minor, tape, asks, asks_share_e6
           FROM quotes LEFT JOIN customers ON customers.id = quotes.customer_id LEFT JOIN contacts ON contacts.id = quotes.contact_id
           WHERE quotes.id = ?"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let state = state(&head.state, head.valid_until, rules.business_date);
    let tape: Tape = serde_json::from_str(&row.tape).map_err(|error| StoreError::Corrupt(error.to_string()))?;
    let (asks, share) = (known(&row.asks, QuoteAsks::of)?, Rate::from_scaled(row.asks_share_e6));
    let total = Money(row.net_minor + row.tax_minor);
    Ok(QuoteView {
        id,
        asked: Requirement::of(asks, share, total),
        asks_percent: (asks != QuoteAsks::Nothing).then(|| share.percent()),
        accepted: customer_pages::accepted(connection, rules, (None, Some(id))).await?,
        number: head.number,
        customer: head.customer,
        contact: row.contact_id.map(ContactId),
        name: row.name,
        quote_date: row.quote_date,
        valid_until: head.valid_until,
        state,
        reason: row.reason,
        order: row.order_id.map(OrderId),
        currency: currency(&row.currency)?,
        lines: head.lines,
        net: Money(row.net_minor),
        total,
        form: head.form,
        tape,
        version: head.version,
    })
}

/// Quotes, open ones first, then the newest.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, search: Option<&str>, today: NaiveDate) -> Result<Vec<QuoteRow>> {
    let like = search.map(crate::find::pattern);
    let rows = sqlx::query!(
        r#"SELECT quotes.id, quotes.number, coalesce(customers.name, contacts.company, contacts.name) AS "name!: String",
                  quote_date AS "quote_date: NaiveDate", valid_until AS "valid_until: NaiveDate", state, quotes.currency, net_minor
           FROM quotes LEFT JOIN customers ON customers.id = quotes.customer_id LEFT JOIN contacts ON contacts.id = quotes.contact_id
           WHERE ?1 IS NULL OR quotes.number LIKE ?1 ESCAPE '\' OR customers.name LIKE ?1 ESCAPE '\' OR contacts.name LIKE ?1 ESCAPE '\'
           ORDER BY state <> 'open', quotes.id DESC LIMIT 500"#,
        like
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            Ok(QuoteRow {
                id: QuoteId(row.id),
                number: row.number,
                name: row.name,
                quote_date: row.quote_date,
                valid_until: row.valid_until,
                state: state(&row.state, row.valid_until, today),
                currency: currency(&row.currency)?,
                net: Money(row.net_minor),
            })
        })
        .collect()
}

/// A quote with its prices of today as it is typed: nothing is written.
///
/// # Errors
/// What cannot be read, with its field.
pub async fn preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    typed: &QuoteForm,
) -> Result<orders::OrderPreview> {
    orders::preview(connection, rules, &typed.order, None, true, None).await
}
