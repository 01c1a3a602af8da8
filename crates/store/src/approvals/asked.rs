//! What is asked for, kept as the operation takes it, and carried out as whoever asked would.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::deposit::ending::EndKind;
use till_core::fixed::{Rate, UnitPrice};
use till_core::ids::{CardCaptureId, CustomerId, DepositId, InvoiceId, OrderId, OrderLineId, ShipmentLineId};
use till_core::money::Money;
use till_core::people::Operation;

use crate::cards::NewRefund;
use crate::deposits::NewEnd;
use crate::invoices::{CreditAlone, LineKey, ToCancelInvoice, ToCredit};
use crate::orders::OrderForm;
use crate::receipts::CreditOf;
use crate::refunds::CreditToRefund;
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, cards, customers, deposits, invoices, orders, refunds};

/// What is asked for, as the operation takes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "snake_case")]
pub(crate) enum Asked {
    /// Another price on a line of a draft.
    ChangePrice {
        /// The draft.
        invoice: InvoiceId,
        /// The line, where it was shipped.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        shipment_line: Option<ShipmentLineId>,
        /// The order's line, where it needs no shipment.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        order_line: Option<OrderLineId>,
        /// The price.
        unit_price: UnitPrice,
        /// Why.
        reason: String,
    },
    /// A discount over a draft.
    Discount {
        /// The draft.
        invoice: InvoiceId,
        /// As a share.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        percent: Option<Rate>,
        /// As an amount.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        amount: Option<Money>,
        /// What for.
        reason: String,
    },
    /// An invoice cancelled.
    CancelInvoice {
        /// The invoice.
        invoice: InvoiceId,
        /// The date of the credit memo, if typed.
        #[serde(default)]
        date: Option<NaiveDate>,
        /// Why.
        reason: String,
        /// Whether its quantities go on a new draft at once.
        #[serde(default)]
        rebill: bool,
    },
    /// Lines of an invoice credited.
    CreditInvoice {
        /// The invoice.
        invoice: InvoiceId,
        /// What of which line.
        wish: ToCredit,
    },
    /// A customer credited, with no invoice behind it.
    CreditAlone {
        /// What, and why.
        wish: CreditAlone,
    },
    /// An order made binding.
    ConfirmOrder {
        /// The order.
        order: OrderId,
    },
    /// An open order amended.
    ChangeOrder {
        /// The order.
        order: OrderId,
        /// The version that was seen.
        version: i64,
        /// What it is to be.
        form: Box<OrderForm>,
    },
    /// A deposit refunded, or kept as income.
    EndDeposit {
        /// The deposit.
        deposit: DepositId,
        /// How.
        wish: NewEnd,
    },
    /// Money sent back to the card it came from.
    RefundCard {
        /// What it was captured with.
        capture: CardCaptureId,
        /// How much, and why.
        wish: NewRefund,
    },
    /// Unapplied money, or a credit memo, refunded.
    RefundCredit {
        /// What of.
        of: CreditOf,
        /// How much, how and why.
        wish: CreditToRefund,
    },
    /// A customer's stop lifted.
    LiftStop {
        /// The customer.
        customer: CustomerId,
        /// Why.
        reason: String,
    },
}

impl Asked {
    pub(crate) const fn operation(&self) -> Operation {
        match self {
            Self::ChangePrice { .. } | Self::Discount { .. } => Operation::ChangePrice,
            Self::CancelInvoice { .. } | Self::CreditInvoice { .. } | Self::CreditAlone { .. } => {
                Operation::CancelInvoice
            }
            Self::ConfirmOrder { .. } | Self::ChangeOrder { .. } => Operation::ConfirmOrder,
            Self::EndDeposit { wish, .. } => match wish.kind {
                EndKind::Refunded => Operation::RefundDeposit,
                EndKind::Kept => Operation::KeepDeposit,
            },
            Self::RefundCard { .. } | Self::RefundCredit { .. } => Operation::RefundDeposit,
            Self::LiftStop { .. } => Operation::LiftStop,
        }
    }
}

/// The operation itself, as whoever asked would carry it out.
pub(super) async fn carry_out(writing: &mut Writing<'_>, rules: &Rules, asked: Asked, reason: &str) -> Result<()> {
    match asked {
        Asked::ChangePrice { invoice, shipment_line, order_line, unit_price, reason } => {
            let key = shipment_line
                .map(LineKey::Shipped)
                .or(order_line.map(LineKey::Ordered))
                .ok_or_else(|| StoreError::Corrupt("a price asked for no line".to_owned()))?;
            invoices::price_or_ask(writing, rules, invoice, None, key, (unit_price, &reason)).await?;
        }
        Asked::Discount { invoice, percent, amount, reason } => {
            invoices::discount_or_ask(writing, rules, invoice, None, (percent, amount, &reason)).await?;
        }
        Asked::CancelInvoice { invoice, date, reason, rebill } => {
            let wish = ToCancelInvoice { date, reason, rebill, seen: None };
            invoices::cancel(writing, rules, invoice, &wish).await?;
        }
        Asked::CreditInvoice { invoice, wish } => {
            invoices::credit(writing, rules, invoice, &wish).await?;
        }
        Asked::CreditAlone { wish } => {
            invoices::credit_alone(writing, rules, &wish).await?;
        }
        Asked::ConfirmOrder { order } => {
            orders::confirm_as(writing, rules, order, None, reason).await?;
        }
        Asked::ChangeOrder { order, version, form } => {
            orders::change(writing, rules, order, version, &form).await?;
        }
        Asked::EndDeposit { deposit, wish } => {
            deposits::end(writing, rules, deposit, (None, None), &wish).await?;
        }
        Asked::RefundCard { capture, wish } => {
            cards::refund(writing, rules, capture, &wish).await?;
        }
        Asked::RefundCredit { of, wish } => {
            refunds::refund(writing, rules, of, (None, None), &wish).await?;
        }
        Asked::LiftStop { customer, reason } => {
            customers::lift_stop(writing, rules, customer, None, &reason).await?;
        }
    }
    Ok(())
}
