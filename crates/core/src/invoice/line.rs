//! Lines: where they come from, what is billed of them, and what they become on the document.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::Account;
use crate::checks::Check;
use crate::fixed::{ExchangeRate, Quantity, Rate, UnitPrice};
use crate::ids::{ItemId, OrderId, OrderLineId, ShipmentId, ShipmentLineId};
use crate::invoice::ItemKind;
use crate::marks::Marks;
use crate::money::{Currency, Money, line_amounts};
use crate::prepayment::using::{PrepaidUsed, used_by};
use crate::prepayment::{Asks, Part};
use crate::pricing::PriceStep;
use crate::room::Movement;
use crate::tax::TaxRate;
use crate::treatment::Taxed;

/// Where a line of an invoice comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "from", rename_all = "snake_case")]
pub enum LineSource {
    /// A line of a posted shipment.
    Shipped {
        /// The shipment line.
        shipment_line: ShipmentLineId,
        /// The shipment.
        shipment: ShipmentId,
        /// Its number.
        shipment_number: String,
        /// When it left.
        shipped_on: NaiveDate,
        /// The order.
        order: OrderId,
        /// The order's number.
        order_number: String,
        /// The number the customer gave the order.
        customer_order_number: Option<String>,
        /// The order line.
        order_line: OrderLineId,
    },
    /// Work or a charge of an order that leaves on no shipment.
    Ordered {
        /// The order.
        order: OrderId,
        /// The order's number.
        order_number: String,
        /// The number the customer gave the order.
        customer_order_number: Option<String>,
        /// The order line.
        order_line: OrderLineId,
    },
    /// Billed in advance of an order line, before anything of it ships.
    Prepaid {
        /// The order.
        order: OrderId,
        /// The order's number.
        order_number: String,
        /// The number the customer gave the order.
        customer_order_number: Option<String>,
        /// The order line.
        in_advance_of: OrderLineId,
        /// What it asks for.
        asks: Asks,
    },
    /// Typed on the invoice itself.
    Typed,
}

impl LineSource {
    /// The order, where there is one.
    pub const fn order(&self) -> Option<OrderId> {
        match self {
            Self::Shipped { order, .. } | Self::Ordered { order, .. } | Self::Prepaid { order, .. } => Some(*order),
            Self::Typed => None,
        }
    }

    /// The order line whose quantity it bills, where there is one: what is billed in advance bills no quantity.
    pub const fn order_line(&self) -> Option<OrderLineId> {
        match self {
            Self::Shipped { order_line, .. } | Self::Ordered { order_line, .. } => Some(*order_line),
            Self::Prepaid { .. } | Self::Typed => None,
        }
    }

    /// What it asks for in advance, and of which order line.
    pub const fn in_advance(&self) -> Option<(OrderLineId, &Asks)> {
        match self {
            Self::Prepaid { in_advance_of, asks, .. } => Some((*in_advance_of, asks)),
            Self::Shipped { .. } | Self::Ordered { .. } | Self::Typed => None,
        }
    }

    /// The order's number.
    pub fn order_number(&self) -> Option<&str> {
        match self {
            Self::Shipped { order_number, .. }
            | Self::Ordered { order_number, .. }
            | Self::Prepaid { order_number, .. } => Some(order_number),
            Self::Typed => None,
        }
    }

    /// The number the customer gave the order.
    pub fn customer_order_number(&self) -> Option<&str> {
        match self {
            Self::Shipped { customer_order_number, .. }
            | Self::Ordered { customer_order_number, .. }
            | Self::Prepaid { customer_order_number, .. } => customer_order_number.as_deref(),
            Self::Typed => None,
        }
    }

    /// The shipment line, where there is one.
    pub const fn shipment_line(&self) -> Option<ShipmentLineId> {
        match self {
            Self::Shipped { shipment_line, .. } => Some(*shipment_line),
            Self::Ordered { .. } | Self::Prepaid { .. } | Self::Typed => None,
        }
    }

    /// The shipment with its number.
    pub fn shipment(&self) -> Option<(ShipmentId, &str)> {
        match self {
            Self::Shipped { shipment, shipment_number, .. } => Some((*shipment, shipment_number)),
            Self::Ordered { .. } | Self::Prepaid { .. } | Self::Typed => None,
        }
    }

    /// When it left, where it did.
    pub const fn shipped_on(&self) -> Option<NaiveDate> {
        match self {
            Self::Shipped { shipped_on, .. } => Some(*shipped_on),
            Self::Ordered { .. } | Self::Prepaid { .. } | Self::Typed => None,
        }
    }

    /// As the tape heads a group of lines: “S-1 · O-1”.
    pub fn heading(&self) -> String {
        match self {
            Self::Shipped { shipment_number, order_number, .. } => format!("{shipment_number} · {order_number}"),
            Self::Ordered { order_number, .. } => format!("{order_number}, not shipped"),
            Self::Prepaid { order_number, .. } => format!("{order_number}, in advance"),
            Self::Typed => "added here".to_owned(),
        }
    }
}

/// A line, and how much of it to bill now.
#[derive(Debug, Clone)]
pub struct LineToBill {
    /// Where it comes from.
    pub source: LineSource,
    /// The item; none for a line to an account.
    pub item: Option<ItemId>,
    /// The revenue account a line without an item goes to.
    pub account: Option<Account>,
    /// The item's code, or the account's number.
    pub code: String,
    /// Its words on the document.
    pub description: String,
    /// What kind of item.
    pub kind: ItemKind,
    /// Its class, for the account map.
    pub class: String,
    /// Its unit, as shown.
    pub unit: String,
    /// How much to bill now.
    pub quantity: Quantity,
    /// How much is free to be billed.
    pub unbilled: Quantity,
    /// Price per unit, agreed on the order.
    pub unit_price: UnitPrice,
    /// Price per unit of the list, if it differed.
    pub list_price: UnitPrice,
    /// Line discount as a fraction of one.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// What comes on top, per unit.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// How the price of the order came about.
    pub price_steps: Vec<PriceStep>,
    /// Tax code, agreed on the order.
    pub tax_code: String,
    /// Another tax code than the order's.
    pub tax_change: Option<TaxChange>,
    /// Whether someone chose its tax code, on the order or on the line itself.
    pub tax_by_hand: bool,
    /// The day that picks its tax rate, where it bills anew what was canceled; none for the day that would come.
    pub tax_date: Option<NaiveDate>,
    /// Where it went and how that is taxed.
    pub delivered: Option<(String, Taxed)>,
    /// Own fields and reporting codes.
    pub marks: Marks,
    /// Its cost, where cost follows billing.
    pub held_cost: Option<HeldCost>,
    /// What leaves stock with it, in stock units: goods that stand on no shipment. None where nothing does.
    pub leaves: Option<Quantity>,
    /// What is wrong with it as an item that is sold.
    pub faults: Vec<LineFault>,
    /// What could be billed of it day by day, in ten-thousandths, where an invoice over it was cancelled;
    /// empty where none was: then it can be billed from the day it left.
    pub billable: Vec<Movement>,
    /// Where the invoice has another price than the order.
    pub price_change: Option<PriceChange>,
    /// Why its price is what it is, or its tax code another, where someone said so on the line itself.
    pub reason: Option<String>,
}

/// What is wrong with a typed line as an item that is sold: its unit, its steps, its price.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineFault {
    /// The check.
    pub check: Check,
    /// The field of the line.
    pub field: String,
    /// What is wrong and what to do.
    pub sentence: String,
}

/// The cost of a shipment line that waits for its billing, in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct HeldCost {
    /// What left, less what came back before it was billed.
    pub shipped: Quantity,
    /// What of it is billed already.
    pub billed: Quantity,
    /// Its cost, less that of what came back.
    pub cost: Money,
    /// What of the cost has followed already.
    pub followed: Money,
}

impl HeldCost {
    /// What of the cost follows a quantity billed now, in base currency: what of it belongs to all that
    /// is billed then, less what has followed. Cumulative, so that parts never drift, never come to more
    /// than the cost and never to less than nothing; the last of it takes all that is left.
    pub fn following(&self, quantity: Quantity) -> Money {
        let left = self.cost - self.followed;
        let billed = self.billed.scaled() + quantity.scaled();
        if billed >= self.shipped.scaled() {
            return left;
        }
        let due = self.cost.share(billed, self.shipped.scaled()) - self.followed;
        Money(due.0.clamp(0, left.0.max(0)))
    }

    /// As it stands once a quantity is billed.
    #[must_use]
    pub fn after(&self, quantity: Quantity) -> Self {
        Self {
            billed: Quantity::from_scaled(self.billed.scaled() + quantity.scaled()),
            followed: self.followed + self.following(quantity),
            ..*self
        }
    }
}

/// A price that differs from what the order agreed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PriceChange {
    /// Price per unit on the invoice.
    pub unit_price: UnitPrice,
    /// Why.
    pub reason: String,
    /// How far the line's net may differ because of it, in base currency: the limit of who
    /// changed it, or what was approved. None for any amount.
    pub allowed: Option<Money>,
}

/// A tax code that differs from what the order had.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TaxChange {
    /// The code.
    pub code: String,
    /// Why.
    pub reason: String,
}

/// What another price does to the net of a line, in base currency; negative where the customer
/// pays less. *Source: domain.md section 5: the difference to the order stays visible.*
pub fn price_difference(
    (quantity, discount): (Quantity, Rate),
    agreed: UnitPrice,
    price: UnitPrice,
    (document, base, rate): (Currency, Currency, ExchangeRate),
) -> Money {
    let net = |price| line_amounts(quantity, price, discount, document).net;
    (net(price) - net(agreed)).to_base(rate, document, base)
}

/// A line of an invoice.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceLine {
    /// Where it comes from.
    #[serde(flatten)]
    pub source: LineSource,
    /// The item; none for a line to an account.
    pub item: Option<ItemId>,
    /// The account's number, where it was typed.
    pub account: Option<String>,
    /// The item's code, or the account's number.
    pub code: String,
    /// Its words.
    pub description: String,
    /// Its unit.
    pub unit: String,
    /// Ordered, less what was cancelled.
    pub ordered: Quantity,
    /// Billed on earlier invoices.
    pub billed_before: Quantity,
    /// Billed now.
    pub quantity: Quantity,
    /// Free to bill on this line.
    pub unbilled: Quantity,
    /// Left to bill after this invoice.
    pub still_to_come: Quantity,
    /// Price per unit.
    pub unit_price: UnitPrice,
    /// Price per unit on the order.
    pub order_price: UnitPrice,
    /// Why it differs from the order, where it does.
    pub price_reason: Option<String>,
    /// Price per unit on the list.
    pub list_price: UnitPrice,
    /// Line discount.
    pub discount: Rate,
    /// Where the discount comes from.
    pub discount_reason: Option<String>,
    /// What comes on top, per unit.
    pub surcharge: UnitPrice,
    /// What for.
    pub surcharge_name: Option<String>,
    /// How the price came about.
    pub price_steps: Vec<PriceStep>,
    /// Own fields and reporting codes.
    pub marks: Marks,
    /// What it is.
    pub kind: ItemKind,
    /// Quantity × price.
    pub full: Money,
    /// The line's amount as priced, after its own discount and surcharge: net, or with tax where
    /// prices carry it.
    pub amount: Money,
    /// Its share of the discount over the document.
    pub off: Money,
    /// Its net, after all discounts.
    pub net: Money,
    /// What it uses of what was prepaid: billed and taxed before, not due again.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub prepaid: Vec<PrepaidUsed>,
    /// Tax code with the rate of the tax date.
    pub tax: TaxRate,
    /// The day that decides its rate, and in which return its tax stands.
    pub tax_date: NaiveDate,
    /// The tax code of the order, where another was chosen.
    pub order_tax_code: Option<String>,
    /// Why another was chosen.
    pub tax_reason: Option<String>,
}

impl InvoiceLine {
    /// What it uses of what was prepaid.
    pub fn used(&self) -> Part {
        used_by([self])
    }

    /// What of its net was not prepaid: what is taxed and due with this document.
    pub fn net_now(&self) -> Money {
        self.net - self.used().net
    }

    /// What of its amount was not prepaid, as priced, after its share of the discount over the document.
    pub fn amount_now(&self, gross_priced: bool) -> Money {
        self.amount - self.off - self.used().priced(gross_priced)
    }
}
