//! A customer as it is looked at: what it owes, what is open, what came and went.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::day_sheet::Ageing;
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OpenItemId};
use till_core::money::{Currency, Money};

use crate::convert::{currency, json, kind, terms};
use crate::{Result, StoreError, rules};

/// Something the customer owes, an invoice for one, with something open.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpenItem {
    /// The open item.
    pub item: OpenItemId,
    /// What it came from.
    pub document: DocumentRef,
    /// Whose it is: a branch, where this is the parent that may pay for it.
    pub customer: CustomerId,
    /// That branch's name; none where it is the customer's own.
    pub branch: Option<String>,
    /// Its number.
    pub number: String,
    /// Its document date.
    pub document_date: NaiveDate,
    /// When it is due.
    pub due_date: NaiveDate,
    /// Days past due; negative before.
    pub days_late: i64,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its total.
    pub total: Money,
    /// What is open.
    pub open: Money,
    /// What paying early takes off still; none where nothing does, or its day has passed.
    pub early: Option<EarlyLeft>,
    /// What of it is in dispute; zero where nothing is.
    pub disputed: Money,
}

/// A discount for early payment that can still be earned.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct EarlyLeft {
    /// The last day, with the days of grace.
    pub until: NaiveDate,
    /// How much, in the item's currency.
    pub amount: Money,
}

/// Something that lies open on a customer's side.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditOpen {
    /// The open item.
    pub item: OpenItemId,
    /// What it came from.
    pub document: DocumentRef,
    /// Since when.
    pub date: NaiveDate,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// What is open.
    pub open: Money,
}

/// A line of a customer account.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AccountEvent {
    /// When.
    pub date: NaiveDate,
    /// The document.
    pub document: DocumentRef,
    /// What happened.
    pub text: String,
    /// Receivable up (positive) or down (negative), in base currency.
    pub amount: Money,
    /// What the customer owed after it.
    pub balance: Money,
}

/// A customer with its account.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CustomerView {
    /// Its id.
    pub id: CustomerId,
    /// Its number.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Street, place.
    pub address: String,
    /// Country.
    pub country: String,
    /// Its tax id.
    pub tax_id: Option<String>,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its terms.
    pub terms: Terms,
    /// The same in words.
    pub terms_words: String,
    /// What it may owe.
    pub credit_limit: Option<Money>,
    /// Why it is on hold.
    pub stop_reason: Option<String>,
    /// Whether it wants its order number on invoices.
    pub needs_order_number: bool,
    /// What it owes, in base currency.
    pub owes: Money,
    /// What lies unapplied, in base currency.
    pub unapplied: Money,
    /// What is shipped and not billed, net in base currency.
    pub unbilled: Money,
    /// What it owes by days late, in base currency.
    pub ageing: Ageing,
    /// What is open of what it owes, and of what its branches owe, the oldest due first.
    pub open_items: Vec<OpenItem>,
    /// What lies open on its side and can be used with money that comes: credit memos that were kept, money without a target.
    pub credits: Vec<CreditOpen>,
    /// The latest movements of its account, newest first.
    pub history: Vec<AccountEvent>,
    /// Changes with every edit.
    pub version: i64,
}

/// One customer with its account.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(connection: &mut SqliteConnection, id: CustomerId) -> Result<CustomerView> {
    let row = sqlx::query!("SELECT * FROM customers WHERE id = ?", id.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, id))?;
    let rules = rules::load(connection).await?;
    let open_items = open_items(connection, id, rules.business_date).await?;
    let mut ageing = Ageing::default();
    for aged in crate::open_items::ageing(connection, Some(id)).await? {
        ageing.add(aged.part.date, rules.business_date, aged.part.amount);
    }
    let unapplied = sqlx::query_scalar!(
        r#"SELECT coalesce(sum(open_base_minor), 0) AS "sum!: i64" FROM open_items WHERE customer_id = ? AND purpose = 'unapplied' AND open_minor > 0"#,
        id.0
    )
    .fetch_one(&mut *connection)
    .await?;
    let unbilled = crate::unbilled::value_of(connection, &rules, id).await?;
    let terms = terms(&row.terms)?;
    Ok(CustomerView {
        id,
        number: row.number,
        name: row.name,
        address: row.address,
        country: row.country,
        tax_id: row.tax_id,
        currency: currency(&row.currency)?,
        terms_words: terms.words(),
        terms,
        credit_limit: row.credit_limit_minor.map(Money),
        stop_reason: row.stop_reason,
        needs_order_number: row.needs_order_number != 0,
        owes: Money(row.owes_base_minor),
        unapplied: Money(unapplied),
        unbilled,
        ageing,
        open_items,
        credits: credits(connection, id).await?,
        history: history(connection, id, Money(row.owes_base_minor)).await?,
        version: row.version,
    })
}

async fn open_items(connection: &mut SqliteConnection, id: CustomerId, as_of: NaiveDate) -> Result<Vec<OpenItem>> {
    let group = crate::open_items::paying_group(connection, id).await?;
    let members = json(&group.iter().map(|member| member.id).collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT open_items.id AS "id!", customer_id AS "customer_id!", kind AS "kind!", document_id AS "document_id!", number AS "number!",
                  document_date AS "document_date!: NaiveDate", next_due_date AS "due_date!: NaiveDate",
                  currency AS "currency!", amount_minor AS "total!", open_minor AS "open!"
           FROM json_each(?1) AS wanted JOIN open_items ON customer_id = wanted.value
           WHERE open_minor > 0 AND side = 'owed_to_us' ORDER BY customer_id <> ?2, next_due_date, open_items.id"#,
        members,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let early = crate::open_items::early(connection, rows.iter().map(|row| OpenItemId(row.id))).await?;
    let ids: Vec<OpenItemId> = rows.iter().map(|row| OpenItemId(row.id)).collect();
    let disputed = crate::disputes::over(connection, as_of, &ids).await?;
    let left = |id: i64, open: Money| {
        let early = early.get(&OpenItemId(id))?;
        let amount = early.for_all(as_of, open);
        Some(EarlyLeft { until: early.offer()?.until_with_grace, amount }).filter(|_| amount.is_positive())
    };
    rows.into_iter()
        .map(|row| {
            let branch = group.iter().find(|member| member.id.0 == row.customer_id && member.id != id);
            Ok(OpenItem {
                item: OpenItemId(row.id),
                document: DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number.clone() },
                customer: CustomerId(row.customer_id),
                branch: branch.map(|member| member.name.clone()),
                number: row.number,
                document_date: row.document_date,
                due_date: row.due_date,
                days_late: (as_of - row.due_date).num_days(),
                currency: currency(&row.currency)?,
                total: Money(row.total),
                open: Money(row.open),
                early: left(row.id, Money(row.open)),
                disputed: disputed.get(&OpenItemId(row.id)).copied().unwrap_or_default(),
            })
        })
        .collect()
}

async fn credits(connection: &mut SqliteConnection, id: CustomerId) -> Result<Vec<CreditOpen>> {
    sqlx::query!(
        r#"SELECT id, kind, document_id, number, posting_date AS "date: NaiveDate", currency, open_minor
           FROM open_items WHERE customer_id = ? AND open_minor > 0 AND side = 'owed_by_us' AND purpose = 'unapplied' AND kind IN ('receipt', 'credit_memo')
           ORDER BY posting_date, id"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(CreditOpen {
            item: OpenItemId(row.id),
            document: DocumentRef { kind: kind(&row.kind)?, id: row.document_id, number: row.number },
            date: row.date,
            currency: currency(&row.currency)?,
            open: Money(row.open_minor),
        })
    })
    .collect()
}

async fn history(connection: &mut SqliteConnection, id: CustomerId, owes: Money) -> Result<Vec<AccountEvent>> {
    let rows = sqlx::query!(
        r#"SELECT posting_date AS "date: NaiveDate", source_kind, source_id, source_number, text, sum(base_minor) AS "amount!: i64"
           FROM entry_lines JOIN entries ON entries.id = entry_id
           WHERE customer_id = ? AND purpose = 'receivable'
           GROUP BY entries.id HAVING sum(base_minor) <> 0 ORDER BY posting_date DESC, number DESC LIMIT 100"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut balance = owes;
    let mut events = Vec::with_capacity(rows.len());
    for row in rows {
        events.push(AccountEvent {
            date: row.date,
            document: DocumentRef { kind: kind(&row.source_kind)?, id: row.source_id, number: row.source_number },
            text: row.text,
            amount: Money(row.amount),
            balance,
        });
        balance -= Money(row.amount);
    }
    Ok(events)
}
