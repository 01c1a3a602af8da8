//! Opening items, opening stock and opening balances: beginning in the middle of a company's life.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType, Purpose};
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, OpeningId};
use till_core::money::{Currency, Money};
use till_core::opening::{self, OpeningBalance, OpeningDecision, OpeningInput, OpeningItem, OpeningSide, OpeningStock};
use till_core::tape::Tape;

use crate::convert::{json, known};
use crate::open_items::next_id;
use crate::rules::{Rules, exchange_rate, next_number};
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customers, items, posting, sensible_date, stock};

/// Accounts whose balance is the sum of what stands behind them: never opened by hand.
const BY_DOCUMENTS: [Purpose; 9] = [
    Purpose::Receivable,
    Purpose::Unapplied,
    Purpose::DepositLiability,
    Purpose::PrepaymentLiability,
    Purpose::Inventory,
    Purpose::ShippedCost,
    Purpose::ContainerLiability,
    Purpose::InHand,
    Purpose::TaxPayable,
];

/// An open item of before, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewOpeningItem {
    /// The customer's number.
    pub customer: String,
    /// An open invoice, or unapplied money.
    pub side: OpeningSide,
    /// The number it had.
    pub number: String,
    /// Its document date.
    pub document_date: NaiveDate,
    /// When it is due; none for its document date.
    #[serde(default)]
    pub due_date: Option<NaiveDate>,
    /// What is open: a decimal in the customer's currency.
    pub amount: String,
}

/// Stock of before, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewOpeningStock {
    /// The item's code.
    pub item: String,
    /// How much, in stock units.
    pub quantity: String,
    /// What all of it cost: a decimal in base currency.
    pub cost: String,
    /// The warehouse; none for the usual one.
    #[serde(default)]
    pub warehouse: Option<String>,
}

/// The balance of an account, as typed.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewOpeningBalance {
    /// The account's number.
    pub account: String,
    /// A decimal in base currency: debit positive, credit negative.
    pub amount: String,
}

/// What a company brings along, as typed.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewOpening {
    /// The day; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Open items.
    #[serde(default)]
    pub items: Vec<NewOpeningItem>,
    /// Stock.
    #[serde(default)]
    pub stock: Vec<NewOpeningStock>,
    /// Balances of other accounts.
    #[serde(default)]
    pub balances: Vec<NewOpeningBalance>,
}

/// What an opening would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OpeningPreview {
    /// The arithmetic.
    pub tape: Tape,
    /// The entry.
    pub entry: Option<Entry>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

/// An opening that was posted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PostedOpening {
    /// Its id.
    pub id: OpeningId,
    /// Its number.
    pub number: String,
    /// The entry it wrote.
    pub entry: EntryId,
}

async fn input<'a>(connection: &mut SqliteConnection, rules: &'a Rules, new: &NewOpening) -> Result<OpeningInput<'a>> {
    if let Some(date) = new.date {
        sensible_date("date", date)?;
    }
    let date = DocumentDate::or_business_date(new.date, rules.business_date);
    let mut items = Vec::with_capacity(new.items.len());
    for (at, typed) in new.items.iter().enumerate() {
        items.push(item(connection, rules, (at, typed), date.date).await?);
    }
    let mut stock = Vec::with_capacity(new.stock.len());
    for (at, typed) in new.stock.iter().enumerate() {
        stock.push(layer(connection, rules, (at, typed)).await?);
    }
    let mut balances = Vec::with_capacity(new.balances.len());
    for (at, typed) in new.balances.iter().enumerate() {
        balances.push(balance(connection, rules, (at, typed)).await?);
    }
    let numbers = json(&items.iter().map(|item: &OpeningItem| &item.number).collect::<Vec<_>>())?;
    let known = sqlx::query_scalar!(
        "SELECT number FROM opening_items WHERE number IN (SELECT value FROM jsonb_each(?))",
        numbers
    )
    .fetch_all(connection)
    .await?;
    Ok(OpeningInput {
        date,
        items,
        stock,
        balances,
        known,
        accounts: &rules.accounts,
        periods: &rules.periods,
        base: rules.base,
    })
}

async fn item(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (at, typed): (usize, &NewOpeningItem),
    date: NaiveDate,
) -> Result<OpeningItem> {
    let field = |name: &str| format!("items.{at}.{name}");
    let number = typed.number.trim();
    if number.is_empty() || number.chars().count() > 40 {
        return Err(StoreError::invalid(field("number"), "Write the number it had, 40 characters at most."));
    }
    sensible_date(&field("document_date"), typed.document_date)?;
    let due_date = typed.due_date.unwrap_or(typed.document_date);
    sensible_date(&field("due_date"), due_date)?;
    let customer = typed.customer.trim();
    let id = sqlx::query_scalar!(r#"SELECT id AS "id!" FROM customers WHERE number = ?"#, customer)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::invalid(field("customer"), format!("There is no customer {customer}.")))?;
    let (facts, currency) = customers::facts(connection, till_core::ids::CustomerId(id)).await?;
    Ok(OpeningItem {
        customer: facts.id,
        customer_name: facts.name,
        customer_class: facts.class,
        side: typed.side,
        number: number.to_owned(),
        document_date: typed.document_date,
        due_date,
        amount: amount(currency, field("amount"), &typed.amount)?,
        currency,
        rate: exchange_rate(connection, rules, currency, date).await?,
    })
}

fn amount(currency: Currency, field: String, typed: &str) -> Result<Money> {
    currency.parse(typed.trim()).map_err(|error| StoreError::decimal(field, &error))
}

async fn layer(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (at, typed): (usize, &NewOpeningStock),
) -> Result<OpeningStock> {
    let field = |name: &str| format!("stock.{at}.{name}");
    let id = items::by_code(connection, &typed.item, &field("item")).await?;
    let row =
        sqlx::query!("SELECT code, class, kind FROM items WHERE id = ?", id.0).fetch_one(&mut *connection).await?;
    let warehouse = warehouse(rules, typed);
    if row.kind != "goods" || !stock::counted(connection, warehouse, &field("warehouse")).await? {
        return Err(StoreError::invalid(field("item"), format!("{} is not kept in stock in {warehouse}.", row.code)));
    }
    let quantity = typed.quantity.trim().parse().map_err(|error| StoreError::decimal(field("quantity"), &error))?;
    let cost = amount(rules.base, field("cost"), &typed.cost)?;
    let warehouse = warehouse.to_owned();
    Ok(OpeningStock { item: id, code: row.code, class: row.class, warehouse, quantity, cost })
}

fn warehouse<'a>(rules: &'a Rules, typed: &'a NewOpeningStock) -> &'a str {
    typed.warehouse.as_deref().map(str::trim).filter(|text| !text.is_empty()).unwrap_or(&rules.warehouse)
}

async fn balance(
    connection: &mut SqliteConnection,
    rules: &Rules,
    (at, typed): (usize, &NewOpeningBalance),
) -> Result<OpeningBalance> {
    let field = |name: &str| format!("balances.{at}.{name}");
    let number = typed.account.trim();
    let row = sqlx::query!("SELECT number, name, account_type FROM accounts WHERE number = ?", number)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::invalid(field("account"), format!("There is no account {number}.")))?;
    let serves = |purpose: &Purpose| {
        rules.accounts.0.iter().any(|rule| rule.account.number == row.number && rule.purpose == *purpose)
    };
    let control = BY_DOCUMENTS.into_iter().find(serves);
    let purpose = rules
        .accounts
        .0
        .iter()
        .find(|rule| rule.account.number == row.number)
        .map_or(Purpose::Opening, |rule| rule.purpose);
    Ok(OpeningBalance {
        account: Account {
            number: row.number,
            name: row.name,
            account_type: known(&row.account_type, AccountType::of)?,
        },
        purpose,
        amount: amount(rules.base, field("amount"), &typed.amount)?,
        control,
    })
}

/// What an opening would do. Nothing is written.
///
/// # Errors
/// What is not there, or cannot be read, each at its field.
pub async fn preview(connection: &mut SqliteConnection, rules: &Rules, new: &NewOpening) -> Result<OpeningPreview> {
    let OpeningDecision { entry, tape, blockers, fingerprint } = opening::decide(&input(connection, rules, new).await?);
    Ok(OpeningPreview { tape, entry, blockers, fingerprint })
}

/// Posts an opening: one document, one entry, its items and layers.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn post(writing: &mut Writing<'_>, rules: &Rules, new: &NewOpening, seen: &str) -> Result<PostedOpening> {
    let input = input(writing, rules, new).await?;
    let decision = opening::decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    if seen != decision.fingerprint {
        return Err(StoreError::Moved);
    }
    let (number, sequence) = next_number(writing, "opening").await?;
    let id = next_id(writing, "openings").await?;
    let source = DocumentRef { kind: DocumentKind::Opening, id, number: number.clone() };
    let mut posting = decision.posting(&input);
    // Each item comes from a document of before.
    let first = next_id(writing, "opening_items").await?;
    for ((item, opened), id) in posting.items.iter_mut().zip(&input.items).zip(first..) {
        item.document = Some(DocumentRef { kind: DocumentKind::Opening, id, number: opened.number.clone() });
    }
    let entry = posting::write(writing, &source, &posting).await?.pop().ok_or(StoreError::Moved)?;
    let date = input.date.date;
    sqlx::query!(
        "INSERT INTO openings (id, number, sequence, posting_date, entry_id) VALUES (?, ?, ?, ?, ?)",
        id,
        number,
        sequence,
        date,
        entry.0
    )
    .execute(&mut **writing)
    .await?;
    for (item, own) in input.items.iter().zip(first..) {
        sqlx::query!(
            "INSERT INTO opening_items (id, opening_id, number, customer_id) VALUES (?, ?, ?, ?)",
            own,
            id,
            item.number,
            item.customer.0
        )
        .execute(&mut **writing)
        .await?;
    }
    let count = |what: usize| what.to_string();
    let fields = vec![
        set("open items", count(input.items.len())),
        set("layers of stock", count(input.stock.len())),
        set("balances", count(input.balances.len())),
    ];
    let words = format!("posted {number}: opening balances");
    writing.note_on((DocumentKind::Opening, id, &number), "opening_posted", words, Some(1), fields);
    Ok(PostedOpening { id: OpeningId(id), number, entry })
}
