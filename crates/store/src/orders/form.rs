//! An order as it is typed, and reading one back as typed.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CallOffId, ContactId, CustomerId, DocumentKind, OrderId, OrderLineId, ShipToId};
use till_core::marks::Marks;
use till_core::merge::Fields;
use till_core::pricing::Typed;

use crate::{Result, StoreError};

/// An address typed once.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TypedAddress {
    /// Whose door.
    pub name: String,
    /// Street, place.
    pub address: String,
    /// Country.
    pub country: String,
}

/// An order, or what a quote offers, as typed. Numbers are decimal texts.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderForm {
    /// Whose; zero for someone who is no customer yet, on a quote.
    #[serde(default = "nobody")]
    pub customer: CustomerId,
    /// Who at the customer.
    #[serde(default)]
    pub contact: Option<ContactId>,
    /// The number the customer gave it.
    #[serde(default)]
    pub customer_order_number: Option<String>,
    /// When it came; none for the business date.
    #[serde(default)]
    pub order_date: Option<NaiveDate>,
    /// When it is wanted.
    #[serde(default)]
    pub requested_date: Option<NaiveDate>,
    /// When it was promised for.
    #[serde(default)]
    pub promised_date: Option<NaiveDate>,
    /// Where it goes; none for the customer's main ship-to.
    #[serde(default)]
    pub ship_to: Option<ShipToId>,
    /// An address for this order only, instead of a ship-to.
    #[serde(default)]
    pub address: Option<TypedAddress>,
    /// Where it leaves from; none for the company's own warehouse.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// Who is to carry it.
    #[serde(default)]
    pub carrier: Option<String>,
    /// Delivery terms, of Incoterms.
    #[serde(default)]
    pub delivery_terms: Option<String>,
    /// The place of the delivery terms.
    #[serde(default)]
    pub delivery_place: Option<String>,
    /// Who sold it; none for the customer's usual salesperson.
    #[serde(default)]
    pub salesperson: Option<String>,
    /// Tags.
    #[serde(default)]
    pub tags: Vec<String>,
    /// For the customer, printed.
    #[serde(default)]
    pub note: Option<String>,
    /// For ourselves.
    #[serde(default)]
    pub own_note: Option<String>,
    /// Own fields and reporting codes.
    #[serde(default)]
    pub marks: Marks,
    /// The call-off it takes from.
    #[serde(default)]
    pub call_off: Option<CallOffId>,
    /// Its lines.
    pub lines: Vec<LineForm>,
    /// Whether prices are made anew, also of lines nobody changed.
    #[serde(default)]
    pub reprice: bool,
}

const fn nobody() -> CustomerId {
    CustomerId(0)
}

/// A line as typed.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LineForm {
    /// The line it is, where the order has it already.
    #[serde(default)]
    pub id: Option<OrderLineId>,
    /// The item's code.
    pub item: String,
    /// Other words than the item's name.
    #[serde(default)]
    pub description: Option<String>,
    /// How much.
    pub quantity: String,
    /// The unit; none for the stock unit.
    #[serde(default)]
    pub unit: Option<String>,
    /// Another price than would come.
    #[serde(default)]
    pub unit_price: Option<String>,
    /// Why.
    #[serde(default)]
    pub price_reason: Option<String>,
    /// A line discount, in percent.
    #[serde(default)]
    pub discount: Option<String>,
    /// Why.
    #[serde(default)]
    pub discount_reason: Option<String>,
    /// A promotion by its code.
    #[serde(default)]
    pub promotion: Option<String>,
    /// Another tax code than would come.
    #[serde(default)]
    pub tax_code: Option<String>,
    /// Why.
    #[serde(default)]
    pub tax_reason: Option<String>,
    /// Another warehouse than the order's.
    #[serde(default)]
    pub warehouse: Option<String>,
    /// Own fields and reporting codes of the line.
    #[serde(default)]
    pub marks: Marks,
}

/// The eleven delivery terms of Incoterms 2020, from memory.
pub const DELIVERY_TERMS: [&str; 11] = ["EXW", "FCA", "CPT", "CIP", "DAP", "DPU", "DDP", "FAS", "FOB", "CFR", "CIF"];

/// Nothing where it is empty.
pub(super) fn said(text: Option<&str>) -> Option<&str> {
    text.map(str::trim).filter(|text| !text.is_empty())
}

fn short(field: &str, text: Option<&str>, longest: usize) -> Result<()> {
    match said(text) {
        Some(text) if text.chars().count() > longest => {
            Err(StoreError::invalid(field, format!("Write {longest} characters at most.")))
        }
        _ => Ok(()),
    }
}

impl OrderForm {
    /// What can be said about the words alone.
    pub(super) fn check_words(&self) -> Result<()> {
        short("customer_order_number", self.customer_order_number.as_deref(), 60)?;
        short("carrier", self.carrier.as_deref(), 60)?;
        short("delivery_place", self.delivery_place.as_deref(), 60)?;
        short("salesperson", self.salesperson.as_deref(), 60)?;
        short("note", self.note.as_deref(), 1_000)?;
        short("own_note", self.own_note.as_deref(), 1_000)?;
        for (field, date) in [
            ("order_date", self.order_date),
            ("requested_date", self.requested_date),
            ("promised_date", self.promised_date),
        ] {
            if let Some(date) = date {
                crate::sensible_date(field, date)?;
            }
        }
        if let Some(terms) = said(self.delivery_terms.as_deref())
            && !DELIVERY_TERMS.contains(&terms)
        {
            return Err(StoreError::invalid(
                "delivery_terms",
                format!("Delivery terms are one of {}.", DELIVERY_TERMS.join(", ")),
            ));
        }
        if self.tags.len() > 12 || self.tags.iter().any(|tag| tag.chars().count() > 30) {
            return Err(StoreError::invalid("tags", "Twelve tags at most, of 30 characters each."));
        }
        if let Some(address) = &self.address {
            let empty = |text: &str| text.trim().is_empty();
            if empty(&address.name) || empty(&address.address) {
                return Err(StoreError::invalid("address", "An address needs a name, and street and place."));
            }
            let two_letters = address.country.len() == 2 && address.country.chars().all(|c| c.is_ascii_uppercase());
            if !two_letters {
                return Err(StoreError::invalid("address.country", "A country has two letters, such as FR."));
            }
        }
        if self.lines.len() > 1_000 {
            return Err(StoreError::invalid("lines", "An order has a thousand lines at most. Enter two."));
        }
        for (at, line) in self.lines.iter().enumerate() {
            short(&format!("lines.{at}.description"), line.description.as_deref(), 200)?;
            for (name, reason) in [
                ("price_reason", &line.price_reason),
                ("discount_reason", &line.discount_reason),
                ("tax_reason", &line.tax_reason),
            ] {
                short(&format!("lines.{at}.{name}"), reason.as_deref(), 200)?;
            }
        }
        Ok(())
    }

    /// Tags without what is empty or doubled.
    pub(super) fn tidy_tags(&self) -> Vec<String> {
        let mut tags: Vec<String> = Vec::new();
        for tag in &self.tags {
            let tag = tag.trim().trim_start_matches('#').to_owned();
            if !tag.is_empty() && !tags.contains(&tag) {
                tags.push(tag);
            }
        }
        tags
    }
}

impl LineForm {
    /// What was typed about the price.
    pub(super) fn typed(&self, at: usize) -> Result<Typed> {
        let field = |name: &str| format!("lines.{at}.{name}");
        let unit_price = match said(self.unit_price.as_deref()) {
            Some(text) => Some(text.parse().map_err(|error| StoreError::decimal(field("unit_price"), &error))?),
            None => None,
        };
        let discount = match said(self.discount.as_deref()) {
            Some(text) => {
                Some(Rate::from_percent(text).map_err(|error| StoreError::decimal(field("discount"), &error))?)
            }
            None => None,
        };
        let owned = |text: &Option<String>| said(text.as_deref()).map(str::to_owned);
        Ok(Typed {
            unit_price,
            price_reason: owned(&self.price_reason),
            discount,
            discount_reason: owned(&self.discount_reason),
            promotion: owned(&self.promotion),
        })
    }

    pub(super) fn quantity(&self, at: usize) -> Result<Quantity> {
        self.quantity.parse().map_err(|error| StoreError::decimal(format!("lines.{at}.quantity"), &error))
    }
}

/// An order as it was typed: what a change starts from, and a copy.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn form(connection: &mut SqliteConnection, id: OrderId) -> Result<OrderForm> {
    let corrupt = |error: serde_json::Error| StoreError::Corrupt(error.to_string());
    let row = sqlx::query!(
        r#"SELECT customer_id, contact_id, customer_order_number, order_date AS "order_date: NaiveDate",
                  requested_date AS "requested_date: NaiveDate", promised_date AS "promised_date: NaiveDate", ship_to_id,
                  ship_name, ship_address, ship_country, warehouse, carrier, delivery_terms, delivery_place, salesperson,
                  tags, note, own_note, marks, call_off_id
           FROM orders WHERE id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let lines = sqlx::query!(
        "SELECT order_lines.id, code, description, items.name, ordered_e4, order_lines.unit, typed, order_lines.tax_code,
                tax_reason, warehouse, marks
         FROM order_lines JOIN items ON items.id = item_id WHERE order_id = ? ORDER BY position",
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|line| {
        let typed: Typed = serde_json::from_str(&line.typed).map_err(corrupt)?;
        let chosen = line.tax_reason.is_some();
        Ok(LineForm {
            id: Some(OrderLineId(line.id)),
            item: line.code,
            description: (line.description != line.name).then_some(line.description),
            quantity: Quantity::from_scaled(line.ordered_e4).to_string(),
            unit: Some(line.unit),
            unit_price: typed.unit_price.map(|price| price.with_decimals(2)),
            price_reason: typed.price_reason,
            discount: typed.discount.map(Rate::percent),
            discount_reason: typed.discount_reason,
            promotion: typed.promotion,
            tax_code: chosen.then_some(line.tax_code),
            tax_reason: line.tax_reason,
            warehouse: (line.warehouse != row.warehouse).then_some(line.warehouse),
            marks: serde_json::from_str(&line.marks).map_err(corrupt)?,
        })
    })
    .collect::<Result<Vec<_>>>()?;
    let address = match (row.ship_name, row.ship_address, row.ship_country) {
        (Some(name), Some(address), Some(country)) => Some(TypedAddress { name, address, country }),
        _ => None,
    };
    Ok(OrderForm {
        customer: CustomerId(row.customer_id),
        contact: row.contact_id.map(ContactId),
        customer_order_number: row.customer_order_number,
        order_date: Some(row.order_date),
        requested_date: row.requested_date,
        promised_date: row.promised_date,
        ship_to: row.ship_to_id.map(ShipToId),
        address,
        warehouse: Some(row.warehouse),
        carrier: row.carrier,
        delivery_terms: row.delivery_terms,
        delivery_place: row.delivery_place,
        salesperson: row.salesperson,
        tags: serde_json::from_str(&row.tags).map_err(corrupt)?,
        note: row.note,
        own_note: row.own_note,
        marks: serde_json::from_str(&row.marks).map_err(corrupt)?,
        call_off: row.call_off_id.map(CallOffId),
        lines,
        reprice: false,
    })
}

/// As people read it on the record.
pub(crate) fn described(form: &OrderForm) -> Fields {
    let date = |date: Option<NaiveDate>| date.map(|date| date.to_string());
    let mut fields: Fields = [
        ("customer PO", form.customer_order_number.clone()),
        ("ordered", date(form.order_date)),
        ("requested", date(form.requested_date)),
        ("promised", date(form.promised_date)),
        ("goes to", form.address.as_ref().map(|address| format!("{}, {}", address.name, address.address))),
        ("ship-to", form.ship_to.map(|id| id.to_string())),
        ("warehouse", form.warehouse.clone()),
        ("carrier", form.carrier.clone()),
        ("delivery terms", form.delivery_terms.clone()),
        ("salesperson", form.salesperson.clone()),
        ("tags", Some(form.tags.join(", "))),
        ("note", form.note.clone()),
        ("note for ourselves", form.own_note.clone()),
    ]
    .into_iter()
    .filter_map(|(name, value)| Some((name.to_owned(), value.filter(|value| !value.trim().is_empty())?)))
    .collect();
    for (key, value) in form.marks.fields.iter().chain(&form.marks.codes) {
        fields.insert(key.clone(), value.clone());
    }
    for (at, line) in form.lines.iter().enumerate() {
        let mut value = format!("{} {}", line.quantity, line.unit.as_deref().unwrap_or(""));
        if let Some(price) = said(line.unit_price.as_deref()) {
            value.push_str(&format!(" at {price}"));
        }
        if let Some(off) = said(line.discount.as_deref()) {
            value.push_str(&format!(" less {off} %"));
        }
        fields.insert(format!("line {} {}", at + 1, line.item), value);
    }
    fields
}
