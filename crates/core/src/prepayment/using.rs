//! Using what was prepaid: by itself, as the lines it was prepaid on are billed.
//!
//! What of it a document uses follows from what of the order line is billed by then, cumulatively; never more than the
//! line comes to, and never before it was prepaid. *Source: domain.md section 8.*
//!
//! ```
//! use till_core::money::Money;
//! use till_core::prepayment::Part;
//! // A third of 100.00 with 23.00 tax: the parts of three documents come to all of it.
//! let parts = [Money(3_333), Money(3_334), Money(3_333)];
//! assert_eq!(parts.into_iter().sum::<Money>(), Part { net: Money(10_000), ..Part::default() }.net);
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{Part, Prepaid};
use crate::fixed::Quantity;
use crate::ids::{DocumentRef, OrderId, PrepaidId};
use crate::invoice::{InvoiceDocument, InvoiceInput, InvoiceLine};
use crate::money::Money;
use crate::tax::TaxRate;

/// What a line of an invoice uses of what was prepaid on its order line.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PrepaidUsed {
    /// The row of the register.
    pub prepaid: PrepaidId,
    /// The prepayment invoice.
    pub document: DocumentRef,
    /// The code and rate it was taxed at.
    #[serde(flatten)]
    pub rate: TaxRate,
    /// How much.
    #[serde(flatten)]
    pub part: Part,
}

/// What each line uses, in their order.
pub(crate) fn of_lines(input: &InvoiceInput<'_>, lines: &[InvoiceLine]) -> Vec<Vec<PrepaidUsed>> {
    let gross_priced = input.basis.gross_priced;
    let mut rows: Vec<Prepaid> = input.prepaid.clone();
    lines.iter().map(|line| of_line(line, &mut rows, (gross_priced, input.posting_date.date))).collect()
}

fn of_line(line: &InvoiceLine, rows: &mut [Prepaid], (gross_priced, date): (bool, NaiveDate)) -> Vec<PrepaidUsed> {
    let Some(order_line) = line.source.order_line() else { return Vec::new() };
    let mut room = line.amount - line.off;
    let billed = Quantity::from_scaled(line.billed_before.scaled() + line.quantity.scaled());
    let mut used = Vec::new();
    for row in rows.iter_mut().filter(|row| row.order_line == order_line) {
        let amount = row.to_use(line.ordered, billed, gross_priced).min(room);
        if !amount.is_positive() {
            continue;
        }
        let part = row.part(amount, gross_priced, date);
        if part.is_zero() {
            continue;
        }
        room -= part.priced(gross_priced);
        *row = row.after(&part, date);
        used.push(PrepaidUsed { prepaid: row.id, document: row.document.clone(), rate: row.rate.clone(), part });
    }
    used
}

/// What lines use, all together.
pub fn used_by<'a>(lines: impl IntoIterator<Item = &'a InvoiceLine>) -> Part {
    lines.into_iter().flat_map(|line| &line.prepaid).fold(Part::default(), |sum, used| sum.plus(&used.part))
}

/// What a document uses of each prepayment invoice, in the order in which they first appear.
pub fn by_document(document: &InvoiceDocument) -> Vec<(DocumentRef, Part)> {
    let mut sums: Vec<(DocumentRef, Part)> = Vec::new();
    for used in document.lines.iter().flat_map(|line| &line.prepaid) {
        match sums.iter_mut().find(|(known, _)| *known == used.document) {
            Some((_, sum)) => *sum = sum.plus(&used.part),
            None => sums.push((used.document.clone(), used.part)),
        }
    }
    sums
}

/// Whether what a line uses was taxed at the code and rate of the line itself.
pub fn taxed_alike(line: &InvoiceLine) -> bool {
    line.prepaid.iter().all(|used| used.rate == line.tax)
}

/// What lines of an order use, without tax.
pub(crate) fn net_of_order(document: &InvoiceDocument, order: OrderId) -> Money {
    used_by(document.lines.iter().filter(|line| line.source.order() == Some(order))).net
}
