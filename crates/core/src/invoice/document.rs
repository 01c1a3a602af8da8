//! The document, as posted and printed.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::calendar::{DocumentDate, Terms};
use crate::deposit::using::DepositUsed;
use crate::fixed::{ExchangeRate, Rate};
use crate::ids::{CustomerId, OrderId};
use crate::invoice::InvoiceLine;
use crate::money::{Currency, Money};
use crate::prepayment::Part;
use crate::prepayment::using::used_by;
use crate::tax::{TaxComputed, TaxLine, TaxRate};
use crate::terms::{DiscountOffer, DuePart};

/// The document, as posted and printed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct InvoiceDocument {
    /// Who is billed.
    pub customer: CustomerId,
    /// Currency of all amounts.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Base currency per unit of it.
    pub rate: ExchangeRate,
    /// Printed; starts the terms.
    pub document_date: DocumentDate,
    /// Decides the period.
    pub posting_date: DocumentDate,
    /// The latest of the days that pick the tax rates.
    pub tax_date: NaiveDate,
    /// Its terms.
    pub terms: Terms,
    /// When it falls due; where it does in parts, the first of them.
    pub due_date: NaiveDate,
    /// What falls due when.
    pub due_parts: Vec<DuePart>,
    /// What paying early earns.
    pub early: Option<DiscountOffer>,
    /// Words above the lines.
    pub text_above: Option<String>,
    /// Words below the lines.
    pub text_below: Option<String>,
    /// Whether prices carry the tax.
    pub gross_priced: bool,
    /// At which step its tax was rounded: kept, whatever the setting says later.
    pub tax_computed: TaxComputed,
    /// Its lines.
    pub lines: Vec<InvoiceLine>,
    /// Sum of the line amounts, as priced.
    pub lines_total: Money,
    /// What comes off the whole.
    pub discount: Option<DocumentDiscount>,
    /// Tax by code.
    pub taxes: Vec<TaxLine>,
    /// Sum of the nets, less what of them was prepaid: what is billed now.
    pub net: Money,
    /// Sum of the tax.
    pub tax: Money,
    /// What it comes to, with tax.
    pub total: Money,
    /// The total in base currency: deposits at what they were carried at, the rest at the rate of the document.
    pub total_base: Money,
    /// Deposits applied to it as it was posted.
    pub deposits: Vec<DepositUsed>,
    /// What is left to pay as it is posted: the total less its deposits.
    pub due: Money,
    /// Gross of each order's lines, what was typed with the first; adds up to the total where
    /// there is an order.
    pub order_shares: Vec<OrderShare>,
}

impl InvoiceDocument {
    /// Whether it bills in advance: a prepayment invoice.
    pub fn is_prepayment(&self) -> bool {
        !self.lines.is_empty() && self.lines.iter().all(|line| line.source.in_advance().is_some())
    }

    /// What an exchange supplies, without what it takes back: its first `lines` lines, which come first, as their taxes do.
    #[must_use]
    pub fn supplied_part(&self, lines: usize) -> Self {
        let lines = self.lines[..lines.min(self.lines.len())].to_vec();
        let mut rates: Vec<&TaxRate> = Vec::new();
        for line in &lines {
            if !rates.contains(&&line.tax) {
                rates.push(&line.tax);
            }
        }
        let taxes: Vec<TaxLine> = self.taxes.iter().take(rates.len()).cloned().collect();
        let net = lines.iter().map(InvoiceLine::net_now).sum();
        let tax = taxes.iter().map(|tax| tax.tax).sum();
        let total = net + tax;
        let due_parts = self.terms.schedule(self.document_date.date, total);
        let lines_total = lines.iter().map(|line| line.amount).sum();
        Self { lines, taxes, net, tax, total, due: total, due_parts, lines_total, ..self.clone() }
    }

    /// What of it was prepaid.
    pub fn prepaid(&self) -> Part {
        used_by(&self.lines)
    }

    /// What is left to pay as it is posted, in base currency: what receivables carry.
    pub fn due_base(&self) -> Money {
        self.total_base - self.deposits.iter().map(|deposit| deposit.amount_base).sum::<Money>()
    }
}

/// A discount over the whole document, spread over its lines.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct DocumentDiscount {
    /// As a share of the lines, where it was typed as one.
    pub percent: Option<Rate>,
    /// What it takes off, as priced.
    pub amount: Money,
    /// Why.
    pub reason: String,
}

/// An order's part of an invoice.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct OrderShare {
    /// The order.
    pub order: OrderId,
    /// Gross of its lines.
    pub gross: Money,
}

/// What a document has to do with another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LinkRole {
    /// Takes all of it back, its quantities to be billed again.
    Cancels,
    /// Takes part of it back.
    Credits,
    /// Bills anew what was cancelled.
    Replaces,
}

impl LinkRole {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Cancels => "cancels",
            Self::Credits => "credits",
            Self::Replaces => "replaces",
        }
    }
}
