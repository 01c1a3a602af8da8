//! Two people on one draft: what the other changed, and both changes put together.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, ShipmentLineId};
use till_core::merge::{Clash, Fields};
use till_core::record::Row;

use super::{Pick, ToBill, draft};
use crate::convert::json;
use crate::{Result, StoreError, record};

const DOCUMENT_DATE: &str = "document date";
const POSTING_DATE: &str = "posting date";

/// A change someone wants to make to a draft that has moved on.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToMerge {
    /// The version it began from.
    pub version: i64,
    /// The draft as it was then.
    pub base: ToBill,
    /// The draft as it was to become.
    pub mine: ToBill,
}

/// What can be made of it.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MergeView {
    /// The version the draft has now; keeping the merge names it.
    pub version: i64,
    /// Both changes together; where both changed one field, mine.
    pub merged: ToBill,
    /// Fields that both changed.
    pub clashes: Vec<Clash>,
    /// What the other did since, oldest first.
    pub since: Vec<Row>,
}

/// Puts a change and what happened to the draft in the meantime together. Nothing is written.
///
/// # Errors
/// An unknown draft or line.
pub async fn merge(connection: &mut SqliteConnection, id: InvoiceId, wish: &ToMerge) -> Result<MergeView> {
    let version = sqlx::query_scalar!("SELECT version FROM invoices WHERE id = ?", id.0)
        .fetch_optional(&mut *connection)
        .await?
        .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let theirs = draft(connection, id, None).await?.to_bill;
    let all = [&wish.base, &wish.mine, &theirs];
    let names = names(connection, all.iter().flat_map(|one| one.picks.iter().map(|pick| pick.shipment_line))).await?;
    let merged =
        till_core::merge::merge(&fields(&wish.base, &names), &fields(&wish.mine, &names), &fields(&theirs, &names));
    Ok(MergeView {
        version,
        merged: to_bill(&merged.fields, &names, &all)?,
        clashes: merged.clashes,
        since: record::since(connection, DocumentKind::Invoice, id.0, wish.version).await?,
    })
}

/// A draft as named fields, for the record.
pub(super) async fn described(connection: &mut SqliteConnection, draft: ToBill) -> Result<Fields> {
    let names = names(connection, draft.picks.iter().map(|pick| pick.shipment_line)).await?;
    Ok(fields(&draft, &names))
}

/// What people call a shipment line: “S-4417 line 2, HB-12”.
async fn names(
    connection: &mut SqliteConnection,
    lines: impl Iterator<Item = ShipmentLineId>,
) -> Result<HashMap<ShipmentLineId, String>> {
    let ids = json(&lines.collect::<Vec<_>>())?;
    let rows = sqlx::query!(
        r#"SELECT DISTINCT shipment_lines.id AS "id!", shipments.number AS "number!", shipment_lines.position AS "position!", code AS "code!"
           FROM json_each(?) AS wanted JOIN shipment_lines ON shipment_lines.id = wanted.value
           JOIN shipments ON shipments.id = shipment_id JOIN order_lines ON order_lines.id = order_line_id
           JOIN items ON items.id = item_id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    Ok(rows
        .into_iter()
        .map(|row| (ShipmentLineId(row.id), format!("{} line {}, {}", row.number, row.position + 1, row.code)))
        .collect())
}

fn fields(draft: &ToBill, names: &HashMap<ShipmentLineId, String>) -> Fields {
    let mut fields = BTreeMap::new();
    for pick in &draft.picks {
        if let Some(name) = names.get(&pick.shipment_line) {
            let quantity = pick.quantity.map_or_else(|| "all".to_owned(), |quantity| quantity.to_string());
            fields.insert(name.clone(), quantity);
        }
    }
    let dates = [(DOCUMENT_DATE, draft.document_date), (POSTING_DATE, draft.posting_date)];
    fields.extend(dates.into_iter().filter_map(|(name, date)| date.map(|date| (name.to_owned(), date.to_string()))));
    fields
}

/// Fields back as a draft: lines in the order of who came first.
fn to_bill(fields: &Fields, names: &HashMap<ShipmentLineId, String>, sources: &[&ToBill]) -> Result<ToBill> {
    let corrupt = |error: &dyn std::fmt::Display| StoreError::Corrupt(error.to_string());
    let mut picks: Vec<Pick> = Vec::new();
    for pick in sources.iter().rev().flat_map(|source| &source.picks) {
        let Some(quantity) = names.get(&pick.shipment_line).and_then(|name| fields.get(name)) else { continue };
        if picks.iter().any(|known| known.shipment_line == pick.shipment_line) {
            continue;
        }
        let quantity: Option<Quantity> = match quantity.as_str() {
            "all" => None,
            typed => Some(typed.parse().map_err(|error| corrupt(&error))?),
        };
        picks.push(Pick { shipment_line: pick.shipment_line, quantity });
    }
    let date = |name: &str| fields.get(name).map(|date| date.parse().map_err(|error| corrupt(&error))).transpose();
    Ok(ToBill { picks, document_date: date(DOCUMENT_DATE)?, posting_date: date(POSTING_DATE)? })
}
