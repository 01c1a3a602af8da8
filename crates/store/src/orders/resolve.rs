//! Loading what the core needs to decide on an order as typed.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate, UnitPrice};
use till_core::ids::{CustomerId, DocumentKind, ItemId, OrderId, OrderLineId, ShipToId};
use till_core::invoice::{CustomerFacts, Delivery, ItemKind};
use till_core::money::{Currency, Money};
use till_core::order::LineProgress;
use till_core::ordering::{ConfirmLimits, ItemFacts, LineWish, OrderInput, StockFacts, TaxChoice};
use till_core::pricing::{PriceBuild, PriceInput, PriceStep, Typed};
use till_core::terms::Terms;
use till_core::treatment::{Taxed, Treatment};
use till_core::units::in_stock_units;

use super::form::{LineForm, OrderForm, said};
use crate::convert::{currency, json, known, terms};
use crate::prices::Sources;
use crate::rules::{Rules, exchange_rate};
use crate::{Result, StoreError, customers, exposure, items, prices, stock};

/// An item with what its price is made from.
#[derive(Debug, Clone)]
pub(crate) struct LoadedItem {
    pub(crate) facts: ItemFacts,
    pub(crate) list: UnitPrice,
    pub(crate) surcharge: Option<(String, UnitPrice)>,
    pub(crate) container: Option<ItemId>,
}

/// Items by id.
pub(crate) async fn load_items(
    connection: &mut SqliteConnection,
    ids: &[ItemId],
) -> Result<BTreeMap<ItemId, LoadedItem>> {
    let wanted = json(&ids)?;
    let mut found: BTreeMap<ItemId, LoadedItem> = sqlx::query!(
        r#"SELECT items.id AS "id!", code, name, kind, class, unit, list_price_e6, tax_code, minimum_e4, step_e4, over_e6, surcharge_e6,
                  surcharge_name, container_id, active
           FROM items WHERE id IN (SELECT value FROM json_each(?))"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?
    .into_iter()
    .map(|row| {
        let surcharge = UnitPrice::from_scaled(row.surcharge_e6);
        let facts = ItemFacts {
            id: ItemId(row.id),
            code: row.code,
            name: row.name,
            kind: known(&row.kind, ItemKind::of)?,
            class: row.class,
            unit: row.unit,
            units: Vec::new(),
            tax_code: row.tax_code,
            minimum: Quantity::from_scaled(row.minimum_e4),
            step: Quantity::from_scaled(row.step_e4),
            over: Rate::from_scaled(row.over_e6),
            active: row.active != 0,
        };
        Ok((
            facts.id,
            LoadedItem {
                facts,
                list: UnitPrice::from_scaled(row.list_price_e6),
                surcharge: row.surcharge_name.filter(|_| !surcharge.is_zero()).map(|name| (name, surcharge)),
                container: row.container_id.map(ItemId),
            },
        ))
    })
    .collect::<Result<_>>()?;
    let units = sqlx::query!(
        "SELECT item_id, unit, factor_e4 FROM item_units WHERE item_id IN (SELECT value FROM json_each(?)) ORDER BY unit",
        wanted
    )
    .fetch_all(connection)
    .await?;
    for row in units {
        if let Some(item) = found.get_mut(&ItemId(row.item_id)) {
            item.facts.units.push((row.unit, Quantity::from_scaled(row.factor_e4)));
        }
    }
    Ok(found)
}

/// A line the order has already.
#[derive(Debug, Clone)]
pub(super) struct ExistingLine {
    pub(super) id: OrderLineId,
    item: ItemId,
    unit: String,
    typed: Typed,
    build: PriceBuild,
    progress: LineProgress,
    on_the_way_out: Quantity,
}

/// The lines of an order, as they stand.
pub(super) async fn existing(connection: &mut SqliteConnection, id: OrderId) -> Result<Vec<ExistingLine>> {
    let corrupt = |error: serde_json::Error| StoreError::Corrupt(error.to_string());
    let rows = sqlx::query!(
        r#"SELECT id, item_id, unit, typed, price_steps, list_price_e6, unit_price_e6, discount_e6, discount_reason, promotion,
                  surcharge_e6, surcharge_name, net_minor, ordered_e4, cancelled_e4, shipped_e4, billed_e4,
                  coalesce((SELECT sum(quantity_e4) FROM shipment_lines JOIN shipments ON shipments.id = shipment_id
                            WHERE order_line_id = order_lines.id AND state IN ('picking', 'packed')), 0) AS "leaving!: i64"
           FROM order_lines WHERE order_id = ? ORDER BY position"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    rows.into_iter()
        .map(|row| {
            let steps: Vec<PriceStep> = serde_json::from_str(&row.price_steps).map_err(corrupt)?;
            Ok(ExistingLine {
                id: OrderLineId(row.id),
                item: ItemId(row.item_id),
                unit: row.unit,
                typed: serde_json::from_str(&row.typed).map_err(corrupt)?,
                build: PriceBuild {
                    steps,
                    list_price: UnitPrice::from_scaled(row.list_price_e6),
                    unit_price: UnitPrice::from_scaled(row.unit_price_e6),
                    discount: Rate::from_scaled(row.discount_e6),
                    discount_reason: row.discount_reason,
                    promotion: row.promotion,
                    surcharge: UnitPrice::from_scaled(row.surcharge_e6),
                    surcharge_name: row.surcharge_name,
                    full: Money::ZERO,
                    net: Money(row.net_minor),
                },
                progress: LineProgress::from_scaled(
                    [row.ordered_e4, row.cancelled_e4, row.shipped_e4, row.billed_e4],
                    Money(row.net_minor),
                ),
                on_the_way_out: Quantity::from_scaled(row.leaving),
            })
        })
        .collect()
}

/// An order as the core wants it, with what is written besides.
pub(crate) struct Resolved<'a> {
    pub(crate) input: OrderInput<'a>,
    /// For each line: the line it is, the warehouse, the line of the call-off.
    pub(crate) lines: Vec<LineRefs>,
    pub(crate) form: OrderForm,
    pub(crate) ship_to: Option<ShipToId>,
    pub(crate) warehouse: String,
    pub(crate) salesperson: Option<String>,
}

pub(crate) struct LineRefs {
    pub(crate) id: Option<OrderLineId>,
    pub(crate) warehouse: String,
    pub(crate) call_off_line: Option<i64>,
    pub(crate) typed: Typed,
    pub(crate) tax_reason: Option<String>,
}

/// Whose order it is, and in what currency and terms.
struct Party {
    facts: CustomerFacts,
    currency: Currency,
    terms: Terms,
    price_list: Option<i64>,
    salesperson: Option<String>,
}

/// What about an order there is already.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Standing {
    pub(crate) order: Option<OrderId>,
    pub(crate) quote: bool,
    /// Above which amounts who confirms it has to ask.
    pub(crate) limits: ConfirmLimits,
    /// Prices stand as they are, whatever has changed since.
    pub(crate) keep_prices: bool,
}

async fn party(connection: &mut SqliteConnection, rules: &Rules, form: &OrderForm, quote: bool) -> Result<Party> {
    if quote && form.customer.0 == 0 {
        let contact = form.contact.map_or(-1, |contact| contact.0);
        let row = sqlx::query!("SELECT name, company FROM contacts WHERE id = ?", contact)
            .fetch_optional(connection)
            .await?
            .ok_or_else(|| StoreError::invalid("customer", "A quote goes to a customer, or to a contact. Name one."))?;
        let facts = CustomerFacts {
            id: CustomerId(0),
            number: String::new(),
            name: row.company.unwrap_or(row.name),
            class: None,
            tax_id: None,
            needs_order_number: false,
            stop_reason: None,
            owes: Money::ZERO,
            credit_limit: None,
            delivery: Delivery::Paper,
            email: None,
            gross_priced: false,
        };
        return Ok(Party {
            facts,
            currency: rules.base,
            terms: Terms::net_days(30),
            price_list: None,
            salesperson: None,
        });
    }
    if form.customer.0 == 0 {
        return Err(StoreError::invalid("customer", "Whose order is it? Choose a customer."));
    }
    let row =
        sqlx::query!("SELECT currency, terms, price_list_id, salesperson FROM customers WHERE id = ?", form.customer.0)
            .fetch_optional(&mut *connection)
            .await?
            .ok_or_else(|| StoreError::not_found(DocumentKind::Customer, form.customer))?;
    Ok(Party {
        facts: customers::facts(connection, form.customer).await?.0,
        currency: currency(&row.currency)?,
        terms: terms(&row.terms)?,
        price_list: row.price_list_id,
        salesperson: row.salesperson,
    })
}

/// Where it goes: its name, how that is taxed, the ship-to, and the countries where a typed address lies elsewhere.
struct Destination {
    name: String,
    taxed: Taxed,
    ship_to: Option<ShipToId>,
    elsewhere: Option<(String, String)>,
}

async fn destination(connection: &mut SqliteConnection, form: &OrderForm) -> Result<Destination> {
    if form.customer.0 == 0 {
        return Ok(Destination { name: String::new(), taxed: Taxed::standard(), ship_to: None, elsewhere: None });
    }
    let wanted = form.ship_to.map_or(-1, |id| id.0);
    let row = sqlx::query!(
        r#"SELECT id, name, country, treatment, certificate, certificate_until AS "until: NaiveDate" FROM ship_tos
           WHERE customer_id = ?1 AND (id = ?2 OR (?2 = -1 AND code = 'MAIN'))"#,
        form.customer.0,
        wanted
    )
    .fetch_optional(connection)
    .await?
    .ok_or_else(|| StoreError::invalid("ship_to", "This customer has no such ship-to. Choose another."))?;
    let taxed =
        Taxed { treatment: known(&row.treatment, Treatment::of)?, certificate: row.certificate, until: row.until };
    // An address typed once is taxed as the ship-to it stands beside, in the same country.
    let typed = form.address.as_ref().map(|address| address.country.trim().to_owned());
    let elsewhere = typed.filter(|country| *country != row.country).map(|country| (country, row.country));
    let name = form.address.as_ref().map_or(row.name, |address| address.name.clone());
    Ok(Destination { name, taxed, ship_to: Some(ShipToId(row.id)), elsewhere })
}

/// The lines with their items; packaging that goes with goods follows them by itself.
async fn with_packaging(
    connection: &mut SqliteConnection,
    form: &OrderForm,
    at_home: bool,
    known_lines: &[ExistingLine],
) -> Result<(Vec<(LineForm, ItemId)>, BTreeMap<ItemId, LoadedItem>)> {
    let mut lines = Vec::with_capacity(form.lines.len());
    for (at, line) in form.lines.iter().enumerate() {
        let item = items::by_code(connection, &line.item, &format!("lines.{at}.item")).await?;
        lines.push((line.clone(), item));
    }
    let ids: Vec<ItemId> = lines.iter().map(|(_, item)| *item).collect();
    let mut loaded = load_items(connection, &ids).await?;
    let mut needed: BTreeMap<ItemId, i64> = BTreeMap::new();
    for (at, (line, item)) in lines.iter().enumerate() {
        let Some(item) = loaded.get(item).filter(|_| at_home) else { continue };
        let Some(container) = item.container else { continue };
        let factor = line.unit.as_deref().and_then(|unit| item.facts.factor(unit)).unwrap_or(Quantity::ONE);
        let quantity = line.quantity(at)?;
        let stock = in_stock_units(quantity, factor).unwrap_or(quantity).scaled().max(0);
        *needed.entry(container).or_default() += stock;
    }
    let containers: Vec<ItemId> = needed.keys().copied().collect();
    loaded.extend(load_items(connection, &containers).await?);
    for (container, scaled) in needed {
        let whole = (scaled + Quantity::ONE.scaled() - 1) / Quantity::ONE.scaled();
        let quantity = whole.to_string();
        match lines.iter_mut().find(|(_, item)| *item == container) {
            Some((line, _)) => line.quantity = quantity,
            None => {
                let Some(item) = loaded.get(&container) else { continue };
                let id = known_lines.iter().find(|line| line.item == container).map(|line| line.id);
                let line = LineForm { id, item: item.facts.code.clone(), quantity, ..LineForm::default() };
                lines.push((line, container));
            }
        }
    }
    Ok((lines, loaded))
}

/// The lines of a call-off with what they have left, in stock units.
async fn call_off(
    connection: &mut SqliteConnection,
    form: &OrderForm,
    without: Option<OrderId>,
    date: NaiveDate,
) -> Result<BTreeMap<ItemId, (String, i64, UnitPrice, Quantity)>> {
    let Some(id) = form.call_off else { return Ok(BTreeMap::new()) };
    let head = sqlx::query!(
        r#"SELECT number, customer_id, first AS "first: NaiveDate", last AS "last: NaiveDate" FROM call_offs WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::CallOff, id))?;
    if head.customer_id != form.customer.0 {
        return Err(StoreError::invalid("call_off", format!("{} is another customer's.", head.number)));
    }
    if date < head.first || date > head.last {
        return Err(StoreError::invalid(
            "call_off",
            format!(
                "{} runs from {} to {}.",
                head.number,
                till_core::calendar::words(head.first),
                till_core::calendar::words(head.last)
            ),
        ));
    }
    let left = crate::call_offs::left(connection, id, without).await?;
    Ok(left.into_iter().map(|line| (line.item, (head.number.clone(), line.id.0, line.price, line.left))).collect())
}

/// Loads everything the core needs to decide on an order as typed.
pub(crate) async fn resolve<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    form: &OrderForm,
    standing: Standing,
) -> Result<Resolved<'a>> {
    form.check_words()?;
    let party = party(connection, rules, form, standing.quote).await?;
    let Destination { name: ship_to_name, taxed, ship_to, elsewhere } = destination(connection, form).await?;
    let date = form.order_date.unwrap_or(rules.business_date);
    let rate = exchange_rate(connection, rules, party.currency, date).await?;
    let warehouse = said(form.warehouse.as_deref()).unwrap_or(&rules.warehouse).to_owned();
    stock::counted(connection, &warehouse, "warehouse").await?;
    let known_lines = match standing.order {
        Some(order) => existing(connection, order).await?,
        None => Vec::new(),
    };
    let at_home = party.currency == rules.base;
    let (lines, loaded) = with_packaging(connection, form, at_home, &known_lines).await?;
    let ids: Vec<ItemId> = loaded.keys().copied().collect();
    let sources = prices::sources(connection, &ids, party.price_list, date).await?;
    let there = stock::facts(connection, &ids, standing.order).await?;
    let called = call_off(connection, form, standing.order, date).await?;
    let mut wishes = Vec::with_capacity(lines.len());
    let mut refs = Vec::with_capacity(lines.len());
    for (at, (line, item)) in lines.iter().enumerate() {
        let Some(item) = loaded.get(item) else { continue };
        let before = line.id.and_then(|id| known_lines.iter().find(|known| known.id == id));
        if line.id.is_some() && before.is_none() && standing.order.is_some() {
            return Err(StoreError::invalid(format!("lines.{at}.id"), "This line is not on the order any more."));
        }
        let at_warehouse = said(line.warehouse.as_deref()).unwrap_or(&warehouse).to_owned();
        let facts = there.get(&(item.facts.id, at_warehouse.clone())).cloned().ok_or_else(|| {
            StoreError::invalid(format!("lines.{at}.warehouse"), format!("There is no warehouse {at_warehouse}."))
        })?;
        let typed = line.typed(at)?;
        refs.push(LineRefs {
            id: before.map(|before| before.id),
            warehouse: at_warehouse,
            call_off_line: called.get(&item.facts.id).map(|(_, line, ..)| *line),
            typed: typed.clone(),
            tax_reason: line.tax_code.as_ref().map(|_| line.tax_reason.clone().unwrap_or_default()),
        });
        let deal = Deal { rules, party: &party, rate, date, sources: &sources };
        let wish = wish(&deal, form, standing, (at, line), item, before, facts)?;
        let call_off = called.get(&item.facts.id).map(|(number, _, price, left)| (number.clone(), *price, *left));
        wishes.push(with_call_off(wish, call_off));
    }
    let exposure = if form.customer.0 == 0 {
        Default::default()
    } else {
        exposure::exposure(connection, rules, form.customer, standing.order).await?
    };
    // As it was when the order was entered.
    let gross_priced = match standing.order {
        Some(order) => {
            sqlx::query_scalar!("SELECT gross_priced FROM orders WHERE id = ?", order.0)
                .fetch_one(&mut *connection)
                .await?
                != 0
        }
        None => party.facts.gross_priced,
    };
    let input = OrderInput {
        gross_priced,
        name: String::new(),
        ship_to: if ship_to_name.is_empty() { party.facts.name.clone() } else { ship_to_name },
        customer: party.facts,
        exposure,
        taxed,
        elsewhere,
        customer_order_number: form.customer_order_number.clone(),
        date,
        terms: party.terms,
        currency: party.currency,
        rate,
        base: rules.base,
        lines: wishes,
        marks: form.marks.trimmed(),
        quote: standing.quote,
        limits: standing.limits,
        mark_rules: &rules.marks,
        treatments: &rules.treatments,
        taxes: &rules.taxes,
        tax_computed: rules.tax_computed,
        accounts: &rules.accounts,
    };
    let salesperson = said(form.salesperson.as_deref()).map(str::to_owned).or(party.salesperson);
    let form = OrderForm { lines: lines.into_iter().map(|(line, _)| line).collect(), ..form.clone() };
    Ok(Resolved { input, lines: refs, form, ship_to, warehouse, salesperson })
}

/// What prices of an order are made from.
struct Deal<'a> {
    rules: &'a Rules,
    party: &'a Party,
    rate: Option<till_core::fixed::ExchangeRate>,
    date: NaiveDate,
    sources: &'a Sources,
}

fn wish(
    deal: &Deal<'_>,
    form: &OrderForm,
    standing: Standing,
    (at, line): (usize, &LineForm),
    item: &LoadedItem,
    before: Option<&ExistingLine>,
    stock: StockFacts,
) -> Result<LineWish> {
    let quantity = line.quantity(at)?;
    let unit = said(line.unit.as_deref()).unwrap_or(&item.facts.unit).to_owned();
    let typed = line.typed(at)?;
    // A price changes only where something changes that it is made from; once a part has shipped
    // it stands.
    let kept = before
        .filter(|before| before.item == item.facts.id && before.unit == unit)
        .filter(|before| {
            let same = before.typed == typed && before.progress.ordered == quantity && !form.reprice;
            standing.keep_prices || before.progress.shipped.is_positive() || same
        })
        .map(|before| before.build.clone());
    let tax = match said(line.tax_code.as_deref()) {
        Some(code) => {
            let reason = said(line.tax_reason.as_deref()).ok_or_else(|| {
                StoreError::invalid(format!("lines.{at}.tax_reason"), "Say why the tax code is another.")
            })?;
            Some(TaxChoice { code: code.to_owned(), reason: reason.to_owned() })
        }
        None => None,
    };
    let id = item.facts.id;
    Ok(LineWish {
        description: said(line.description.as_deref()).unwrap_or(&item.facts.name).to_owned(),
        quantity,
        unit,
        price: PriceInput {
            code: item.facts.code.clone(),
            quantity,
            factor: Quantity::ONE,
            list: item.list,
            base: deal.rules.base,
            document: deal.party.currency,
            rate: deal.rate,
            price_list: deal.sources.list.get(&id).cloned(),
            call_off: None,
            breaks: deal.sources.breaks.get(&id).cloned().unwrap_or_default(),
            promotions: deal.sources.promotions.get(&id).cloned().unwrap_or_default(),
            date: deal.date,
            typed,
            surcharge: item.surcharge.clone(),
            tax: None,
        },
        kept,
        tax,
        stock,
        progress: before.map(|before| before.progress),
        on_the_way_out: before.map(|before| before.on_the_way_out).unwrap_or_default(),
        marks: line.marks.trimmed(),
        call_off: None,
        item: item.facts.clone(),
    })
}

/// A line that takes from a call-off has its price and what is left.
fn with_call_off(mut wish: LineWish, call_off: Option<(String, UnitPrice, Quantity)>) -> LineWish {
    if let Some((number, price, left)) = call_off {
        wish.price.call_off = Some((number.clone(), price));
        wish.call_off = Some((number, left));
    }
    wish
}
