//! Lines typed on an invoice: items, or revenue accounts, with no order behind them.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::checks::{Blocker, Check};
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::CustomerId;
use till_core::invoice::{BillingHabit, ItemKind, LineFault, LineSource, LineToBill, Picking, TaxChange};
use till_core::marks::Marks;
use till_core::money::Currency;
use till_core::ordering::{self, HIGHEST_PRICE, LARGEST_QUANTITY, LineWish, OrderInput, PricedLine};
use till_core::pricing::PriceStep;
use till_core::treatment::{Taxed, Treatment};
use till_core::units::in_stock_units;

use super::load::Picked;
use crate::convert::known;
use crate::orders::{LineForm, OrderForm, Standing, resolve};
use crate::rules::{Rules, exchange_rate};
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
    /// Why its tax code is another, or its price zero.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// How it was billed on the invoice it bills anew; counts while item, unit and price are those.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub as_billed: Option<AsBilled>,
    /// Own fields and reporting codes.
    #[serde(default, skip_serializing_if = "Marks::is_empty")]
    pub marks: Marks,
}

/// How a typed line stood on the invoice that was canceled. Numbers are decimal texts.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AsBilled {
    /// The item's code, or the account's number.
    pub code: String,
    /// The unit.
    pub unit: String,
    /// The price for one, before discounts.
    pub unit_price: UnitPrice,
    /// The list price.
    pub list_price: UnitPrice,
    /// All discounts together, a fraction of one.
    pub discount: Rate,
    /// Where they came from.
    pub discount_reason: Option<String>,
    /// On top, for one.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// How the price came about.
    pub steps: Vec<PriceStep>,
    /// Its tax code.
    pub tax_code: String,
    /// The day that picked its rate.
    pub tax_date: NaiveDate,
}

impl AddedLine {
    /// How it was billed before, where it still is that line.
    fn billed(&self, code: &str, unit: &str) -> Option<&AsBilled> {
        let typed = said(self.unit_price.as_deref()).and_then(|price| price.parse::<UnitPrice>().ok());
        self.as_billed.as_ref().filter(|billed| {
            billed.code == code && billed.unit == unit && typed.is_none_or(|typed| typed == billed.unit_price)
        })
    }
}

/// The most lines that are typed on one invoice.
const MOST_ADDED: usize = 200;

fn said(text: Option<&str>) -> Option<&str> {
    text.map(str::trim).filter(|text| !text.is_empty())
}

/// What typed lines stand beside: they follow it.
pub(crate) struct Beside {
    pub(crate) currency: Currency,
    pub(crate) gross_priced: bool,
    /// Where the goods go, and how that is taxed; none where no ship-to is named.
    pub(crate) delivered: Option<(String, Taxed)>,
}

impl Beside {
    /// The first line of those.
    pub(crate) fn of(lines: &[Picked]) -> Option<Self> {
        let Picked { picking, line, .. } = lines.first()?;
        let (currency, gross_priced) = (picking.currency, picking.gross_priced);
        Some(Self { currency, gross_priced, delivered: line.delivered.clone() })
    }
}

/// The lines as the core wants them, priced for the customer: in the currency, the way of pricing and the
/// treatment of what they stand `beside`, or else of the customer's own place.
pub(crate) async fn load_added(
    connection: &mut SqliteConnection,
    rules: &Rules,
    customer: CustomerId,
    lines: &[AddedLine],
    beside: Option<&Beside>,
) -> Result<Vec<Picked>> {
    if lines.is_empty() {
        return Ok(Vec::new());
    }
    if lines.len() > MOST_ADDED {
        return Err(StoreError::invalid("added", format!("{MOST_ADDED} lines at most are typed on one invoice.")));
    }
    let lines = &told_apart(connection, lines).await?[..];
    let items = items_of(lines)?;
    let form =
        OrderForm { customer, lines: items.iter().map(|(_, form)| form.clone()).collect(), ..OrderForm::default() };
    let mut resolved = resolve(connection, rules, &form, Standing::default()).await.map_err(|error| match error {
        StoreError::Invalid { field, sentence } => StoreError::Invalid { field: at_line(&items, field), sentence },
        other => other,
    })?;
    stand_beside(connection, rules, &mut resolved.input, beside).await?;
    let input = &resolved.input;
    let decision = ordering::decide(input);
    let picked = |line: LineToBill, typed: AddedLine| Picked {
        picking: Picking {
            customer,
            currency: input.currency,
            terms: input.terms.clone(),
            gross_priced: input.gross_priced,
            treatment: None,
            habit: BillingHabit::Order,
            structured: None,
            source: LineSource::Typed,
        },
        line,
        typed: Some(typed),
        when_complete: false,
    };
    let mut found: Vec<Option<Picked>> = vec![None; lines.len()];
    let mut along = Vec::new();
    for (place, (wish, priced)) in input.lines.iter().zip(&decision.lines).enumerate() {
        match items.get(place) {
            Some((at, _)) => {
                let faults = faults_of(&decision.blockers, place, &lines[*at]);
                let line = of_item(input, (wish, priced), &lines[*at], faults);
                found[*at] = Some(picked(line, lines[*at].clone()));
            }
            // Packaging goes along with what it belongs to.
            None => {
                let typed = AddedLine {
                    item: Some(priced.code.clone()),
                    quantity: priced.quantity.to_string(),
                    ..AddedLine::default()
                };
                along.push(picked(of_item(input, (wish, priced), &typed, Vec::new()), typed));
            }
        }
    }
    let treated = match input.taxed.treatment {
        Treatment::Standard => None,
        other => rules.treatments.get(&other).cloned(),
    };
    for (at, line) in lines.iter().enumerate() {
        if found[at].is_none() {
            let mut loaded = of_account(connection, at, line, treated.as_deref()).await?;
            loaded.delivered = Some((input.ship_to.clone(), input.taxed.clone()));
            found[at] = Some(picked(loaded, line.clone()));
        }
    }
    Ok(found.into_iter().flatten().chain(along).collect())
}

/// The lines that name items, each with its place among all.
fn items_of(lines: &[AddedLine]) -> Result<Vec<(usize, LineForm)>> {
    let mut items = Vec::new();
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
        for (name, words) in [("description", &line.description), ("reason", &line.reason)] {
            if words.as_deref().is_some_and(|words| words.chars().count() > 200) {
                return Err(StoreError::invalid(field(name), "Write 200 characters at most."));
            }
        }
    }
    Ok(items)
}

/// The field of a typed line that a field of the order made from it stands for.
fn at_line(items: &[(usize, LineForm)], field: String) -> String {
    match field.strip_prefix("lines.").and_then(|rest| rest.split_once('.')) {
        Some((place, name)) => {
            let at = place.parse::<usize>().ok().and_then(|place| items.get(place)).map_or(0, |(at, _)| *at);
            format!("added.{at}.{name}")
        }
        None => field,
    }
}

/// What is typed follows what it stands beside.
async fn stand_beside(
    connection: &mut SqliteConnection,
    rules: &Rules,
    input: &mut OrderInput<'_>,
    beside: Option<&Beside>,
) -> Result<()> {
    let Some(beside) = beside else { return Ok(()) };
    input.gross_priced = beside.gross_priced;
    if let Some((name, taxed)) = &beside.delivered {
        (input.ship_to, input.taxed) = (name.clone(), taxed.clone());
    }
    if beside.currency != input.currency {
        input.currency = beside.currency;
        input.rate = exchange_rate(connection, rules, input.currency, input.date).await?;
        for wish in &mut input.lines {
            (wish.price.document, wish.price.rate, wish.price.price_list) = (input.currency, input.rate, None);
        }
    }
    Ok(())
}

/// What is wrong with an item as it is sold, of what is found on an order.
fn faults_of(blockers: &[Blocker], place: usize, typed: &AddedLine) -> Vec<LineFault> {
    let prefix = format!("lines.{place}.");
    let chosen = said(typed.tax_code.as_deref()).is_some();
    blockers
        .iter()
        .filter_map(|blocker| {
            let field = match blocker.check {
                Check::NotSold | Check::UnitOrStep | Check::PriceNotMade | Check::MarkNotAllowed => {
                    blocker.field.strip_prefix(&prefix)?
                }
                Check::TreatmentWithoutCode if !chosen => "tax_code",
                _ => return None,
            };
            Some(LineFault { check: blocker.check, field: field.to_owned(), sentence: blocker.sentence.clone() })
        })
        .collect()
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

fn of_item(
    input: &OrderInput<'_>,
    (wish, priced): (&LineWish, &PricedLine),
    typed: &AddedLine,
    faults: Vec<LineFault>,
) -> LineToBill {
    let kept = wish.stock.counted && priced.kind == ItemKind::Goods;
    let price = priced.price.as_ref();
    let unit_price = price.map_or(UnitPrice::ZERO, |price| price.unit_price);
    // The code that would come is what the choice is told apart from.
    let would_come = input.taxed.code(&wish.item.tax_code, input.treatments).unwrap_or(&wish.item.tax_code);
    let tax_change = (wish.tax.is_some() && priced.tax.code != would_come).then(|| TaxChange {
        code: priced.tax.code.clone(),
        reason: said(typed.reason.as_deref()).unwrap_or_default().to_owned(),
    });
    let mut line = LineToBill {
        source: LineSource::Typed,
        item: Some(priced.item),
        account: None,
        code: priced.code.clone(),
        description: priced.description.clone(),
        kind: priced.kind,
        class: wish.item.class.clone(),
        unit: priced.unit.clone(),
        quantity: priced.quantity,
        unbilled: priced.quantity,
        unit_price,
        list_price: price.map_or(UnitPrice::ZERO, |price| price.list_price),
        discount: price.map_or(Rate::ZERO, |price| price.discount),
        discount_reason: price.and_then(|price| price.discount_reason.clone()),
        surcharge: price.map_or(UnitPrice::ZERO, |price| price.surcharge),
        surcharge_name: price.and_then(|price| price.surcharge_name.clone()),
        price_steps: price.map(|price| price.steps.clone()).unwrap_or_default(),
        tax_code: if tax_change.is_some() { would_come.to_owned() } else { priced.tax.code.clone() },
        tax_by_hand: tax_change.is_some(),
        tax_change,
        tax_date: None,
        delivered: Some((input.ship_to.clone(), input.taxed.clone())),
        marks: typed.marks.trimmed(),
        held_cost: None,
        leaves: kept.then(|| in_stock_units(priced.quantity, priced.factor)).flatten(),
        faults,
        billable: Vec::new(),
        price_change: None,
        reason: said(typed.reason.as_deref()).map(str::to_owned),
    };
    if let Some(billed) = typed.billed(&priced.code, &priced.unit) {
        line.unit_price = billed.unit_price;
        line.list_price = billed.list_price;
        line.discount = billed.discount;
        line.discount_reason.clone_from(&billed.discount_reason);
        line.surcharge = billed.surcharge;
        line.surcharge_name.clone_from(&billed.surcharge_name);
        line.price_steps.clone_from(&billed.steps);
        line.tax_date = Some(billed.tax_date);
        if said(typed.tax_code.as_deref()).is_none() {
            line.tax_code.clone_from(&billed.tax_code);
        }
    }
    line
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
    let unit = said(line.unit.as_deref()).unwrap_or("pc");
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
        unit: unit.to_owned(),
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
        tax_by_hand: said(line.tax_code.as_deref()).is_some(),
        tax_date: line.billed(number, unit).map(|billed| billed.tax_date),
        delivered: None,
        marks: line.marks.trimmed(),
        held_cost: None,
        leaves: None,
        faults: Vec::new(),
        billable: Vec::new(),
        price_change: None,
        reason: said(line.reason.as_deref()).map(str::to_owned),
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
