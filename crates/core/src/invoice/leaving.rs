//! Goods that stand on no shipment leave stock as they are billed. *Source: domain.md section 7, direct
//! invoices; postings.md, Goods.*

use std::collections::BTreeMap;

use crate::checks::{Check, Findings};
use crate::fixed::Quantity;
use crate::ids::ItemId;
use crate::invoice::InvoiceInput;
use crate::money::Money;
use crate::stock::{Issue, Layer, take_free};
use crate::tape::{Change, Figure};

/// What leaves with a line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leaving {
    /// The position of the line.
    pub line: usize,
    /// The item.
    pub item: ItemId,
    /// Which layers it comes from, in stock units.
    pub issues: Vec<Issue>,
}

impl Leaving {
    /// Its cost, in base currency.
    pub fn cost(&self) -> Money {
        self.issues.iter().map(|issue| issue.cost).sum()
    }
}

/// Takes what leaves out of stock, line after line: never what is not there, nor what is reserved.
pub(super) fn leave(input: &InvoiceInput<'_>, findings: &mut Findings) -> Vec<Leaving> {
    let mut stock: BTreeMap<ItemId, Vec<Layer>> = input.stock.clone();
    let mut leaving = Vec::new();
    for (at, line) in input.lines.iter().enumerate() {
        let (Some(wanted), Some(item)) = (line.leaves.filter(|wanted| wanted.is_positive()), line.item) else {
            continue;
        };
        let layers = stock.entry(item).or_default();
        let committed = input.committed.get(&item).copied().unwrap_or_default();
        match take_free(layers, (wanted, committed), input.posting_date.date, &line.code) {
            Ok(issues) => leaving.push(Leaving { line: at, item, issues }),
            Err(sentence) => findings.add(Check::StockShort, format!("lines.{at}.quantity"), sentence),
        }
    }
    leaving
}

/// What is on hand of each item, before and after.
pub(super) fn changes(input: &InvoiceInput<'_>, leaving: &[Leaving]) -> Vec<Change> {
    let mut items: Vec<ItemId> = leaving.iter().map(|one| one.item).collect();
    items.sort_unstable();
    items.dedup();
    items
        .into_iter()
        .map(|item| {
            let on_hand: i64 = input.stock.get(&item).into_iter().flatten().map(|layer| layer.remaining.scaled()).sum();
            let mine = leaving.iter().filter(|one| one.item == item);
            let gone: i64 = mine.clone().flat_map(|one| &one.issues).map(|issue| issue.quantity.scaled()).sum();
            let code = mine.clone().next().and_then(|one| input.lines.get(one.line)).map_or("", |line| &line.code);
            let words = |scaled: i64| Figure::words(Quantity::from_scaled(scaled).to_string());
            Change { label: format!("{code} on hand"), before: Some(words(on_hand)), after: words(on_hand - gone) }
        })
        .collect()
}
