//! Another price on a line of a draft, with its reason, up to the limit of who sets it.

use serde::{Deserialize, Serialize};
use till_core::checks::Step;
use till_core::fixed::{ExchangeRate, UnitPrice};
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId, ShipmentLineId};
use till_core::invoice::price_difference;
use till_core::merge::FieldChange;
use till_core::money::{Money, line_amounts};
use till_core::people::{LimitKind, check_reason};

use super::{Draft, draft, draft_input};
use crate::approvals::{self, Asked};
use crate::customers::Outcome;
use crate::orders::HIGHEST_PRICE;
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError, people};

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

async fn line(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    draft: &Draft,
    shipment_line: ShipmentLineId,
    price: UnitPrice,
) -> Result<Line> {
    let input = draft_input(writing, rules, id, draft, Step::Bill).await?;
    let line = input.lines.iter().find(|line| line.shipment_line == shipment_line);
    let Some(line) = line else {
        return Err(StoreError::invalid("shipment_line", "This line is not on the draft any more."));
    };
    let document = input.orders.first().map_or(rules.base, |order| order.currency);
    let currencies = (document, rules.base, input.rate.unwrap_or(ExchangeRate::ONE));
    let version =
        sqlx::query_scalar!("SELECT version FROM invoices WHERE id = ?", id.0).fetch_one(&mut **writing).await?;
    let net = |price| document.format(line_amounts(line.quantity, price, line.discount, document).net);
    let same = |field: &str, value: String| FieldChange {
        field: field.to_owned(),
        from: Some(value.clone()),
        to: Some(value),
    };
    let mut changes = vec![same("shipment", line.shipment_number.clone()), same("quantity", line.quantity.to_string())];
    let (agreed, asked) = (line.unit_price.with_decimals(2), price.with_decimals(2));
    changes.extend(changed("price for one", Some(&agreed), Some(&asked)));
    changes.extend(changed(&format!("net {document}"), Some(&net(line.unit_price)), Some(&net(price))));
    Ok(Line {
        code: line.code.clone(),
        changes,
        name: format!("{} {}", line.shipment_number, line.code),
        agreed: line.unit_price,
        before: line.price_change.as_ref().map_or(line.unit_price, |change| change.unit_price),
        difference: price_difference((line.quantity, line.discount), line.unit_price, price, currencies),
        customer: input.customer.name.clone(),
        version,
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
    shipment_line: ShipmentLineId,
    new: &NewPrice,
) -> Result<Outcome> {
    let draft = draft(writing, id, Some(new.version)).await?;
    let price = read_price(&new.unit_price)?;
    let line = line(writing, rules, id, &draft, shipment_line, price).await?;
    if price == line.agreed {
        let version = set_price(writing, rules, id, shipment_line, price, "", None).await?;
        return Ok(Outcome { version, waits: None });
    }
    let reason = check_reason(&new.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let wish = approvals::Wish {
        asked: Asked::ChangePrice { invoice: id, shipment_line, unit_price: price, reason: reason.clone() },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: format!("draft {id}") },
        amount: line.difference.abs(),
        words: format!(
            "{} at {}, not {}, for {}",
            line.code,
            price.with_decimals(2),
            line.agreed.with_decimals(2),
            line.customer
        ),
        changes: line.changes,
        reason: reason.clone(),
    };
    if let Some(approval) = approvals::allowed_or_asked(writing, rules, wish).await? {
        return Ok(Outcome { version: new.version, waits: Some(approval) });
    }
    let limits = people::limits(writing).await?;
    let allowed = writing.actor().role.and_then(|role| limits.of(role, LimitKind::PriceChange));
    let version = set_price(writing, rules, id, shipment_line, price, &reason, allowed).await?;
    Ok(Outcome { version, waits: None })
}

/// Writes a price that may be set; `allowed` is how far the line's net may differ because of it.
pub(crate) async fn set_price(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    shipment_line: ShipmentLineId,
    price: UnitPrice,
    reason: &str,
    allowed: Option<Money>,
) -> Result<i64> {
    let draft = draft(writing, id, None).await?;
    let line = line(writing, rules, id, &draft, shipment_line, price).await?;
    let agreed = price == line.agreed;
    let scaled = (!agreed).then(|| price.scaled());
    let reason = (!agreed).then_some(reason);
    let allowed = allowed.filter(|_| !agreed).map(|allowed| allowed.0);
    sqlx::query!(
        "UPDATE invoice_lines SET unit_price_e6 = ?, price_reason = ?, price_allowed_minor = ?
         WHERE invoice_id = ? AND shipment_line_id = ?",
        scaled,
        reason,
        allowed,
        id.0,
        shipment_line.0
    )
    .execute(&mut **writing)
    .await?;
    sqlx::query!("UPDATE invoices SET version = version + 1 WHERE id = ?", id.0).execute(&mut **writing).await?;
    let (from, to) = (line.before.with_decimals(2), price.with_decimals(2));
    let mut changes = changed(&format!("{} price", line.name), Some(&from), Some(&to));
    changes.extend(changed("reason", None, reason));
    let words = format!("changed a price on a draft for {}", line.customer);
    let number = format!("draft {id}");
    writing.note_on((DocumentKind::Invoice, id.0, &number), "price_changed", words, Some(line.version + 1), changes);
    Ok(line.version + 1)
}
