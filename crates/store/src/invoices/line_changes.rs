//! Another price or tax code on a line of a draft, a discount over all of it: with its reason, and
//! what takes money off up to the limit of who sets it.

use serde::{Deserialize, Serialize};
use till_core::checks::Step;
use till_core::fingerprint;
use till_core::fixed::{ExchangeRate, Rate, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, OrderLineId, ShipmentLineId};
use till_core::invoice::{DiscountWish, InvoiceInput, LineToBill, decide, price_difference};
use till_core::merge::FieldChange;
use till_core::money::{Money, line_amounts};
use till_core::people::check_reason;

use super::DraftRow;
use super::drafts::{draft, draft_inputs};
use crate::approvals::{self, Asked, Go};
use crate::customers::Outcome;
use crate::orders::HIGHEST_PRICE;
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

/// Which line of a draft: a line of a shipment, or of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum LineKey {
    /// A shipment line.
    Shipped(ShipmentLineId),
    /// An order line that needs no shipment.
    Ordered(OrderLineId),
}

impl LineKey {
    fn fits(self, line: &LineToBill) -> bool {
        match self {
            Self::Shipped(id) => line.source.shipment_line() == Some(id),
            Self::Ordered(id) => line.source.shipment_line().is_none() && line.source.order_line() == Some(id),
        }
    }

    const fn columns(self) -> (Option<i64>, Option<i64>) {
        match self {
            Self::Shipped(id) => (Some(id.0), None),
            Self::Ordered(id) => (None, Some(id.0)),
        }
    }
}

/// A price for a line of a draft.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewPrice {
    /// The version of the draft that was seen.
    pub version: i64,
    /// Price per unit, as typed; that of the order takes a changed price back.
    pub unit_price: String,
    /// Why it differs from the order.
    #[serde(default)]
    pub reason: String,
}

/// A tax code for a line of a draft.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewTax {
    /// The version of the draft that was seen.
    pub version: i64,
    /// The code; that of the order takes a changed one back.
    pub tax_code: String,
    /// Why it differs from the order.
    #[serde(default)]
    pub reason: String,
}

/// A discount over a whole draft.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NewDiscount {
    /// The version of the draft that was seen.
    pub version: i64,
    /// In percent, as typed, or
    #[serde(default)]
    pub percent: Option<String>,
    /// as an amount; neither takes the discount off again.
    #[serde(default)]
    pub amount: Option<String>,
    /// What for.
    #[serde(default)]
    pub reason: String,
}

struct Line {
    name: String,
    agreed: UnitPrice,
    before: UnitPrice,
    difference: Money,
    code: String,
    /// What another price would change, as people read it.
    changes: Vec<FieldChange>,
    customer: String,
    version: i64,
}

async fn input_of<'a>(writing: &mut Writing<'_>, rules: &'a Rules, row: &DraftRow) -> Result<InvoiceInput<'a>> {
    let mut inputs = draft_inputs(writing, rules, std::slice::from_ref(row), Step::Bill).await?;
    inputs.pop().ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, row.id))
}

fn not_there() -> StoreError {
    StoreError::invalid("line", "This line is not on the draft any more.")
}

async fn line(
    writing: &mut Writing<'_>,
    rules: &Rules,
    row: &DraftRow,
    key: LineKey,
    price: UnitPrice,
) -> Result<Line> {
    let input = input_of(writing, rules, row).await?;
    let line = input.lines.iter().find(|line| key.fits(line)).ok_or_else(not_there)?;
    let document = input.basis.currency;
    let currencies = (document, rules.base, input.rate.unwrap_or(ExchangeRate::ONE));
    let net = |price| document.format(line_amounts(line.quantity, price, line.discount, document).net);
    let same = |field: &str, value: String| FieldChange {
        field: field.to_owned(),
        from: Some(value.clone()),
        to: Some(value),
    };
    let place = line
        .source
        .shipment()
        .map(|(_, number)| ("shipment", number))
        .or_else(|| Some(("order", line.source.order_number()?)));
    let mut changes: Vec<FieldChange> = place.iter().map(|(field, number)| same(field, (*number).to_owned())).collect();
    changes.push(same("quantity", line.quantity.to_string()));
    let (agreed, asked) = (line.unit_price.with_decimals(2), price.with_decimals(2));
    changes.extend(changed("price for one", Some(&agreed), Some(&asked)));
    changes.extend(changed(&format!("net {document}"), Some(&net(line.unit_price)), Some(&net(price))));
    Ok(Line {
        code: line.code.clone(),
        changes,
        name: format!("{} {}", place.map_or("", |(_, number)| number), line.code),
        agreed: line.unit_price,
        before: line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price),
        difference: price_difference((line.quantity, line.discount), line.unit_price, price, currencies),
        customer: input.customer.name.clone(),
        version: row.version,
    })
}

fn read_price(typed: &str) -> Result<UnitPrice> {
    let price: UnitPrice = typed.parse().map_err(|error| StoreError::decimal("unit_price", &error))?;
    if price < UnitPrice::ZERO || price > HIGHEST_PRICE {
        return Err(StoreError::invalid("unit_price", "A price is zero or more, and less than a hundred million."));
    }
    Ok(price)
}

/// Sets the price of a line, or asks for approval where it is above the limit.
///
/// # Errors
/// [`StoreError::Stale`], a line that is not on the draft, a price that cannot be, no reason.
pub async fn change_price(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    key: LineKey,
    new: &NewPrice,
) -> Result<Outcome> {
    let price = read_price(&new.unit_price)?;
    price_or_ask(writing, rules, id, Some(new.version), key, (price, &new.reason)).await
}

/// The same with the price read; without a version, on the draft as it stands.
pub(crate) async fn price_or_ask(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: Option<i64>,
    key: LineKey,
    (price, reason): (UnitPrice, &str),
) -> Result<Outcome> {
    let row = draft(writing, id, version).await?;
    let line = line(writing, rules, &row, key, price).await?;
    if price == line.agreed {
        let version = set_price(writing, id, key, (price, "", None), &line).await?;
        return Ok(Outcome { version, waits: None });
    }
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let (shipment_line, order_line) = key.columns();
    let wish = approvals::Wish {
        asked: Asked::ChangePrice {
            invoice: id,
            shipment_line: shipment_line.map(ShipmentLineId),
            order_line: order_line.map(OrderLineId),
            unit_price: price,
            reason: reason.clone(),
        },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: format!("draft {id}") },
        amount: line.difference.abs(),
        words: format!(
            "price {} at {}, not {}, for {}",
            line.code,
            price.with_decimals(2),
            line.agreed.with_decimals(2),
            line.customer
        ),
        mark: fingerprint::of(&(&line.name, &line.changes, line.difference)),
        changes: line.changes.clone(),
        reason: reason.clone(),
        gives_away: Money::ZERO,
        held: false,
    };
    let allowed = match approvals::allowed_or_asked(writing, rules, wish).await? {
        Go::Waits(approval) => return Ok(Outcome { version: line.version, waits: Some(approval) }),
        Go::Ahead(allowed) => allowed,
    };
    let version = set_price(writing, id, key, (price, &reason, allowed), &line).await?;
    Ok(Outcome { version, waits: None })
}

/// Writes a price that may be set; `allowed` is how far the line's net may differ because of it.
async fn set_price(
    writing: &mut Writing<'_>,
    id: InvoiceId,
    key: LineKey,
    (price, reason, allowed): (UnitPrice, &str, Option<Money>),
    line: &Line,
) -> Result<i64> {
    let agreed = price == line.agreed;
    let scaled = (!agreed).then(|| price.scaled());
    let reason = (!agreed).then_some(reason);
    let allowed = allowed.filter(|_| !agreed).map(|allowed| allowed.0);
    let (shipment_line, order_line) = key.columns();
    sqlx::query!(
        "UPDATE document_lines SET unit_price_e6 = ?1, price_reason = ?2, price_allowed_minor = ?3
         WHERE document_id = ?4 AND (shipment_line_id = ?5 OR (shipment_line_id IS NULL AND order_line_id = ?6))",
        scaled,
        reason,
        allowed,
        id.0,
        shipment_line,
        order_line
    )
    .execute(&mut **writing)
    .await?;
    touch(writing, id).await?;
    let (from, to) = (line.before.with_decimals(2), price.with_decimals(2));
    let mut changes = changed(&format!("{} price", line.name), Some(&from), Some(&to));
    changes.extend(changed("reason", None, reason));
    let words = format!("changed a price on a draft for {}", line.customer);
    let number = format!("draft {id}");
    writing.note_on((DocumentKind::Invoice, id.0, &number), "price_changed", words, Some(line.version + 1), changes);
    Ok(line.version + 1)
}

pub(super) async fn touch(writing: &mut Writing<'_>, id: InvoiceId) -> Result<()> {
    sqlx::query!("UPDATE documents SET held = NULL, version = version + 1 WHERE id = ?", id.0)
        .execute(&mut **writing)
        .await?;
    Ok(())
}

/// Sets the tax code of a line, with the reason. Returns the new version.
///
/// # Errors
/// [`StoreError::Stale`], a line that is not on the draft, an unknown code, no reason.
pub async fn change_tax(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    key: LineKey,
    new: &NewTax,
) -> Result<i64> {
    let row = draft(writing, id, Some(new.version)).await?;
    let input = input_of(writing, rules, &row).await?;
    let line = input.lines.iter().find(|line| key.fits(line)).ok_or_else(not_there)?;
    let code = new.tax_code.trim();
    if !rules.taxes.0.iter().any(|known| known.code == code) {
        return Err(StoreError::invalid("tax_code", format!("There is no tax code {code}. Choose one of the list.")));
    }
    let agreed = code == line.tax_code;
    let reason = match agreed {
        true => None,
        false => Some(check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?),
    };
    let changed_code = (!agreed).then_some(code);
    let (shipment_line, order_line) = key.columns();
    sqlx::query!(
        "UPDATE document_lines SET tax_code = ?1, tax_reason = ?2
         WHERE document_id = ?3 AND (shipment_line_id = ?4 OR (shipment_line_id IS NULL AND order_line_id = ?5))",
        changed_code,
        reason,
        id.0,
        shipment_line,
        order_line
    )
    .execute(&mut **writing)
    .await?;
    touch(writing, id).await?;
    let before = line.tax_change.as_ref().map_or(&line.tax_code, |change| &change.code);
    let mut changes = changed(&format!("{} tax code", line.code), Some(before), Some(code));
    changes.extend(changed("reason", None, reason.as_deref()));
    let words = format!("changed a tax code on a draft for {}", input.customer.name);
    let number = format!("draft {id}");
    writing.note_on((DocumentKind::Invoice, id.0, &number), "tax_changed", words, Some(row.version + 1), changes);
    Ok(row.version + 1)
}

/// Sets a discount over a draft, or asks for approval where it takes off more than the limit.
///
/// # Errors
/// [`StoreError::Stale`], a discount that cannot be, no reason.
pub async fn change_discount(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    new: &NewDiscount,
) -> Result<Outcome> {
    let said =
        |text: &Option<String>| text.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned);
    let rate = |percent: &str| {
        let rate = Rate::from_percent(percent).map_err(|error| StoreError::decimal("percent", &error))?;
        match rate > Rate::ZERO && rate <= Rate::ONE {
            true => Ok(rate),
            false => Err(StoreError::invalid("percent", "A discount lies between 0 and 100 %.")),
        }
    };
    let (percent, amount) = match (said(&new.percent), said(&new.amount)) {
        (None, None) => (None, None),
        (Some(_), Some(_)) => {
            return Err(StoreError::invalid("amount", "Give the discount in percent, or as an amount: one of them."));
        }
        (Some(percent), None) => (Some(rate(&percent)?), None),
        (None, Some(amount)) => {
            let row = draft(writing, id, None).await?;
            let currency = input_of(writing, rules, &row).await?.basis.currency;
            let amount = currency.parse(&amount).map_err(|error| StoreError::decimal("amount", &error))?;
            if !amount.is_positive() {
                return Err(StoreError::invalid("amount", "A discount takes something off. To add, type a line."));
            }
            (None, Some(amount))
        }
    };
    discount_or_ask(writing, rules, id, Some(new.version), (percent, amount, &new.reason)).await
}

/// The same with the discount read; without a version, on the draft as it stands.
pub(crate) async fn discount_or_ask(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: Option<i64>,
    (percent, amount, reason): (Option<Rate>, Option<Money>, &str),
) -> Result<Outcome> {
    let row = draft(writing, id, version).await?;
    let input = input_of(writing, rules, &row).await?;
    let customer = input.customer.name.clone();
    if percent.is_none() && amount.is_none() {
        let version = set_discount(writing, &row, &customer, None, None).await?;
        return Ok(Outcome { version, waits: None });
    }
    let currency = input.basis.currency;
    let reason = check_reason(reason).map_err(|why| StoreError::invalid("reason", why))?;
    let wanted = DiscountWish { percent, amount, reason: reason.clone(), allowed: None };
    let decision = decide(&InvoiceInput { discount: Some(wanted.clone()), ..input.clone() });
    let Some((lines, taken)) =
        decision.document.as_ref().and_then(|document| Some((document.lines_total, document.discount.as_ref()?)))
    else {
        return Err(StoreError::Refused(decision.blockers));
    };
    let in_base = taken.amount.to_base(input.rate.unwrap_or(ExchangeRate::ONE), currency, rules.base);
    let before = row.discount.as_ref().map(describe).unwrap_or_default();
    let wish = approvals::Wish {
        asked: Asked::Discount { invoice: id, percent, amount, reason: reason.clone() },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: format!("draft {id}") },
        amount: in_base,
        words: format!("take {} {currency} off an invoice to {customer}", currency.grouped(taken.amount)),
        changes: changed("discount", Some(&before), Some(&describe(&wanted))),
        reason,
        mark: fingerprint::of(&(lines, taken.amount, percent, amount, in_base)),
        gives_away: Money::ZERO,
        held: false,
    };
    let allowed = match approvals::allowed_or_asked(writing, rules, wish).await? {
        Go::Waits(approval) => return Ok(Outcome { version: row.version, waits: Some(approval) }),
        Go::Ahead(allowed) => allowed,
    };
    let version = set_discount(writing, &row, &customer, Some(wanted), allowed).await?;
    Ok(Outcome { version, waits: None })
}

fn describe(wish: &DiscountWish) -> String {
    match (wish.percent, wish.amount) {
        (Some(percent), _) => format!("{} %, {}", percent.percent(), wish.reason),
        (None, Some(amount)) => format!("{} minor units, {}", amount.0, wish.reason),
        (None, None) => String::new(),
    }
}

/// Puts a discount on a draft as another document had it, with the limit it was given under.
pub(super) async fn keep_discount(
    writing: &mut Writing<'_>,
    id: InvoiceId,
    customer: &str,
    wish: DiscountWish,
) -> Result<()> {
    let row = draft(writing, id, None).await?;
    let allowed = wish.allowed;
    set_discount(writing, &row, customer, Some(wish), allowed).await?;
    Ok(())
}

/// Writes a discount that may be given, or takes it off; `allowed` is how much it may take off.
async fn set_discount(
    writing: &mut Writing<'_>,
    row: &DraftRow,
    customer: &str,
    wanted: Option<DiscountWish>,
    allowed: Option<Money>,
) -> Result<i64> {
    let id = row.id;
    let percent = wanted.as_ref().and_then(|wish| wish.percent).map(Rate::scaled);
    let amount = wanted.as_ref().and_then(|wish| wish.amount).map(|amount| amount.0);
    let why = wanted.as_ref().map(|wish| &wish.reason);
    let most = allowed.filter(|_| wanted.is_some()).map(|allowed| allowed.0);
    sqlx::query!(
        "UPDATE documents SET discount_e6 = ?, discount_minor = ?, discount_reason = ?, discount_allowed_minor = ? WHERE id = ?",
        percent,
        amount,
        why,
        most,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    touch(writing, id).await?;
    let before = row.discount.as_ref().map(describe);
    let after = wanted.as_ref().map(describe);
    let changes = changed("discount", before.as_deref(), after.as_deref());
    let words = format!("changed the discount on a draft for {customer}");
    let number = format!("draft {id}");
    writing.note_on((DocumentKind::Invoice, id.0, &number), "discount_changed", words, Some(row.version + 1), changes);
    Ok(row.version + 1)
}
