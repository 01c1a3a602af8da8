//! Lines typed on an invoice: items, or revenue accounts, with no order behind them.

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::checks::Effect;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::CustomerId;
use till_core::invoice::{BillingHabit, ItemKind, LineSource, LineToBill, Picking};
use till_core::marks::Marks;
use till_core::ordering::{self, HIGHEST_PRICE, LARGEST_QUANTITY, PricedLine};
use till_core::treatment::Treatment;

use super::load::Picked;
use crate::convert::known;
use crate::orders::{LineForm, OrderForm, Standing, resolve};
use crate::rules::Rules;
use crate::{Result, StoreError, customers};

/// A line typed on an invoice. Numbers are decimal texts.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AddedLine {
    /// The item's code (or an account's number that is no item's code), or
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub item: Option<String>,
    /// the number of a revenue account.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Its words; none for the item's name.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
    /// How much.
    pub quantity: String,
    /// The unit; none for the item's own.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// The price per unit; none for the price the customer gets.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit_price: Option<String>,
    /// Another tax code than would come; for an account the code.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tax_code: Option<String>,
    /// Own fields and reporting codes.
    #[serde(default, skip_serializing_if = "Marks::is_empty")]
    pub marks: Marks,
}

/// The most lines that are typed on one invoice.
const MOST_ADDED: usize = 200;

fn said(text: Option<&str>) -> Option<&str> {
    text.map(str::trim).filter(|text| !text.is_empty())
}

/// The lines as the core wants them, priced for the customer.
pub(crate) async fn load_added(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    lines: &[AddedLine],
) -> Result<Vec<Picked>> {
    if lines.is_empty() {
        return Ok(Vec::new());
    }
    if lines.len() > MOST_ADDED {
        return Err(StoreError::invalid("added", format!("{MOST_ADDED} lines at most are typed on one invoice.")));
    }
    let lines = &told_apart(connection, lines).await?[..];
    let mut items: Vec<(usize, LineForm)> = Vec::new();
    for (at, line) in lines.iter().enumerate() {
        let field = |name: &str| format!("added.{at}.{name}");
        match (said(line.item.as_deref()), said(line.account.as_deref())) {
            (Some(item), None) => items.push((at, item_form(line, item))),
            (None, Some(_)) if said(line.description.as_deref()).is_none() => {
                return Err(StoreError::invalid(field("description"), "Say what is billed."));
            }
            (None, Some(_)) => {}
            _ => return Err(StoreError::invalid(field("item"), "Choose an item, or an account.")),
        }
        if line.description.as_deref().is_some_and(|words| words.chars().count() > 200) {
            return Err(StoreError::invalid(field("description"), "Write 200 characters at most."));
        }
    }
    let mut found: Vec<Option<Picked>> = vec![None; lines.len()];
    let form =
        OrderForm { customer, lines: items.iter().map(|(_, form)| form.clone()).collect(), ..OrderForm::default() };
    let at_line = |field: String| match field.strip_prefix("lines.").and_then(|rest| rest.split_once('.')) {
        Some((place, name)) => {
            let at = place.parse::<usize>().ok().and_then(|place| items.get(place)).map_or(0, |(at, _)| *at);
            format!("added.{at}.{name}")
        }
        None => field,
    };
    let resolved = resolve(connection, rules, &form, Standing::default()).await.map_err(|error| match error {
        StoreError::Invalid { field, sentence } => StoreError::Invalid { field: at_line(field), sentence },
        other => other,
    })?;
    let decision = ordering::decide(&resolved.input);
    let picking = |source| Picking {
        customer,
        currency: resolved.input.currency,
        terms: resolved.input.terms.clone(),
        gross_priced: resolved.input.gross_priced,
        treatment: None,
        habit: BillingHabit::Order,
        structured: None,
        source,
    };
    for ((at, _), priced) in items.iter().zip(&decision.lines) {
        let Some(line) = of_item(priced, &resolved.input.lines, &lines[*at]) else {
            let sentence = decision
                .blockers
                .iter()
                .find(|one| {
                    one.effect == Effect::Stops && at_line(one.field.clone()).starts_with(&format!("added.{at}."))
                })
                .map_or_else(|| "This item has no price. Type one.".to_owned(), |one| one.sentence.clone());
            return Err(StoreError::invalid(format!("added.{at}.unit_price"), sentence));
        };
        let typed = Some(lines[*at].clone());
        found[*at] = Some(Picked { picking: picking(LineSource::Typed), line, typed, when_complete: false });
    }
    let treated = match resolved.input.taxed.treatment {
        Treatment::Standard => None,
        other => rules.treatments.get(&other).cloned(),
    };
    for (at, line) in lines.iter().enumerate() {
        if found[at].is_none() {
            let loaded = of_account(connection, at, line, treated.as_deref()).await?;
            let typed = Some(line.clone());
            found[at] = Some(Picked { picking: picking(LineSource::Typed), line: loaded, typed, when_complete: false });
        }
    }
    Ok(found.into_iter().flatten().collect())
}

/// What was typed where an item or an account may stand, told apart: what is no item's code and is an account's
/// number is the account.
async fn told_apart(connection: &mut SqliteConnection, lines: &[AddedLine]) -> Result<Vec<AddedLine>> {
    let mut told = lines.to_vec();
    for line in &mut told {
        let (Some(typed), None) = (said(line.item.as_deref()), said(line.account.as_deref())) else { continue };
        let an_account = sqlx::query_scalar!(
            "SELECT EXISTS (SELECT 1 FROM accounts WHERE number = ?1) \
                AND NOT EXISTS (SELECT 1 FROM items WHERE code = ?1 COLLATE NOCASE) AS \"an_account!: bool\"",
            typed
        )
        .fetch_one(&mut *connection)
        .await?;
        if an_account {
            line.account = line.item.take();
        }
    }
    Ok(told)
}

fn item_form(line: &AddedLine, item: &str) -> LineForm {
    let price = said(line.unit_price.as_deref()).map(str::to_owned);
    let code = said(line.tax_code.as_deref()).map(str::to_owned);
    LineForm {
        item: item.to_owned(),
        description: line.description.clone(),
        quantity: line.quantity.clone(),
        unit: line.unit.clone(),
        price_reason: price.as_ref().map(|_| "on the invoice".to_owned()),
        unit_price: price,
        tax_reason: code.as_ref().map(|_| "on the invoice".to_owned()),
        tax_code: code,
        marks: line.marks.clone(),
        ..LineForm::default()
    }
}

fn of_item(priced: &PricedLine, wishes: &[ordering::LineWish], typed: &AddedLine) -> Option<LineToBill> {
    let price = priced.price.as_ref()?;
    let class = wishes.iter().find(|wish| wish.item.id == priced.item).map(|wish| wish.item.class.clone())?;
    Some(LineToBill {
        source: LineSource::Typed,
        item: Some(priced.item),
        account: None,
        code: priced.code.clone(),
        description: priced.description.clone(),
        kind: priced.kind,
        class,
        unit: priced.unit.clone(),
        quantity: priced.quantity,
        unbilled: priced.quantity,
        unit_price: price.unit_price,
        list_price: price.list_price,
        discount: price.discount,
        discount_reason: price.discount_reason.clone(),
        surcharge: price.surcharge,
        surcharge_name: price.surcharge_name.clone(),
        price_steps: price.steps.clone(),
        tax_code: priced.tax.code.clone(),
        tax_change: None,
        delivered: None,
        marks: typed.marks.trimmed(),
        held_cost: None,
        billable: Vec::new(),
        price_change: None,
    })
}

async fn of_account(
    connection: &mut SqliteConnection,
    at: usize,
    line: &AddedLine,
    treated: Option<&str>,
) -> Result<LineToBill> {
    let field = |name: &str| format!("added.{at}.{name}");
    let number = said(line.account.as_deref()).unwrap_or_default();
    let account = sqlx::query!("SELECT number, name, account_type FROM accounts WHERE number = ?", number)
        .fetch_optional(connection)
        .await?
        .ok_or_else(|| StoreError::invalid(field("account"), format!("There is no account {number}.")))?;
    let quantity: Quantity =
        line.quantity.trim().parse().map_err(|error| StoreError::decimal(field("quantity"), &error))?;
    let typed = said(line.unit_price.as_deref())
        .ok_or_else(|| StoreError::invalid(field("unit_price"), "An account has no price of its own. Type one."))?;
    let price: UnitPrice = typed.parse().map_err(|error| StoreError::decimal(field("unit_price"), &error))?;
    if quantity > LARGEST_QUANTITY || price > HIGHEST_PRICE {
        return Err(StoreError::invalid(field("quantity"), "That is more than a line can carry. Split it."));
    }
    let code = said(line.tax_code.as_deref()).or(treated).ok_or_else(|| {
        StoreError::invalid(field("tax_code"), "Choose the tax code: an account has none of its own.")
    })?;
    Ok(LineToBill {
        source: LineSource::Typed,
        item: None,
        code: account.number.clone(),
        account: Some(Account {
            number: account.number,
            name: account.name,
            account_type: known(&account.account_type, AccountType::of)?,
        }),
        description: said(line.description.as_deref()).unwrap_or_default().to_owned(),
        kind: ItemKind::Service,
        class: String::new(),
        unit: said(line.unit.as_deref()).unwrap_or("pc").to_owned(),
        quantity,
        unbilled: quantity,
        unit_price: price,
        list_price: price,
        discount: Rate::ZERO,
        discount_reason: None,
        surcharge: UnitPrice::ZERO,
        surcharge_name: None,
        price_steps: Vec::new(),
        tax_code: code.to_owned(),
        tax_change: None,
        delivered: None,
        marks: line.marks.trimmed(),
        held_cost: None,
        billable: Vec::new(),
        price_change: None,
    })
}

/// Refuses lines of a customer who is not there.
pub(super) async fn check_customer(
    connection: &mut SqliteConnection,
    customer: Option<CustomerId>,
) -> Result<CustomerId> {
    let id = customer.ok_or_else(|| StoreError::invalid("customer", "Who is billed? Choose a customer."))?;
    customers::facts(connection, id).await?;
    Ok(id)
}
