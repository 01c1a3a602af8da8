//! Writing postings: the one place that writes entries, open items, applications, stock, billed quantities,
//! packaging and what orders become.
//!
//! An operation loads its facts, lets the core decide, and hands what that comes to over as a
//! [`Posting`] with the document it is of. *Source: docs/architecture.md, one posting.*

mod goods;
mod items;
mod prepaid;

use std::collections::BTreeMap;

use till_core::ids::{DocumentRef, EntryId, OrderId};
use till_core::order::OrderAfter;
use till_core::posting::Posting;

use crate::writing::Writing;
use crate::{Result, StoreError, ledger, orders};

/// A posting with the document it is of.
pub(crate) type Of<'a> = (&'a DocumentRef, &'a Posting);

/// Writes the posting of one document. Returns the ids of its entries, in their order.
///
/// # Errors
/// [`StoreError::Corrupt`] where an entry does not balance, which the core never makes.
pub(crate) async fn write(
    writing: &mut Writing<'_>,
    document: &DocumentRef,
    posting: &Posting,
) -> Result<Vec<EntryId>> {
    let mut written = write_all(writing, &[(document, posting)]).await?;
    written.pop().ok_or_else(|| StoreError::Corrupt("a posting that was not written".to_owned()))
}

/// Writes the postings of many documents in a few statements. Returns the ids of the entries of each.
///
/// # Errors
/// As [`write`].
pub(crate) async fn write_all(writing: &mut Writing<'_>, postings: &[Of<'_>]) -> Result<Vec<Vec<EntryId>>> {
    let entries: Vec<_> = postings
        .iter()
        .flat_map(|(document, posting)| {
            posting.entries.iter().map(|new| (&new.entry, (*document).clone(), new.reverses))
        })
        .collect();
    // The document itself may follow: what points to it is checked as the change is done.
    sqlx::query("PRAGMA defer_foreign_keys = ON").execute(&mut **writing).await?;
    let mut ids = ledger::write_all(writing, &entries).await?.into_iter();
    let written: Vec<Vec<EntryId>> =
        postings.iter().map(|(_, posting)| ids.by_ref().take(posting.entries.len()).collect()).collect();
    items::write(writing, postings, &written).await?;
    goods::write(writing, postings, &written).await?;
    prepaid::write(writing, postings).await?;
    // What the last one made of an order counts.
    let states: BTreeMap<OrderId, OrderAfter> =
        postings.iter().flat_map(|(_, posting)| posting.orders.iter().map(|after| (after.id, *after))).collect();
    orders::write_states(writing, &states.into_values().collect::<Vec<_>>()).await?;
    Ok(written)
}
