//! Two people on one draft: what the other changed, and both changes put together.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, OrderLineId, ShipmentLineId};
use till_core::merge::{Clash, Fields};
use till_core::record::Row;

use super::drafts::draft;
use super::{AddedLine, OrderPick, Pick, ToBill};
use crate::convert::json;
use crate::{Result, StoreError, record};

const DOCUMENT_DATE: &str = "document date";
const POSTING_DATE: &str = "posting date";
const TERMS: &str = "terms";
const TEXT_ABOVE: &str = "text above";
const TEXT_BELOW: &str = "text below";

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
    let now = draft(connection, id, None).await?;
    let (version, theirs) = (now.version, now.to_bill);
    let all = [&wish.base, &wish.mine, &theirs];
    let names = names(connection, &all).await?;
    let merged =
        till_core::merge::merge(&fields(&wish.base, &names), &fields(&wish.mine, &names), &fields(&theirs, &names));
    Ok(MergeView {
        version,
        merged: to_bill(&merged.fields, &names, &all)?,
        clashes: merged.clashes,
        since: record::since(connection, DocumentKind::Invoice, id.0, wish.version).await?,
    })
}

/// What people call the lines of drafts.
struct Names {
    shipped: HashMap<ShipmentLineId, String>,
    ordered: HashMap<OrderLineId, String>,
}

/// A draft as named fields, for the record.
pub(super) async fn described(connection: &mut SqliteConnection, draft: &ToBill) -> Result<Fields> {
    let names = names(connection, &[draft]).await?;
    let mut described = fields(draft, &names);
    for (name, date) in [(DOCUMENT_DATE, draft.document_date), (POSTING_DATE, draft.posting_date)] {
        if let (Some(said), Some(date)) = (described.get_mut(name), date) {
            *said = till_core::calendar::words(date);
        }
    }
    Ok(described)
}

/// “S-4417 line 2, HB-12”; “O-1009 line 3, SETUP”.
async fn names(connection: &mut SqliteConnection, drafts: &[&ToBill]) -> Result<Names> {
    let ids: Vec<ShipmentLineId> =
        drafts.iter().flat_map(|draft| draft.picks.iter().map(|pick| pick.shipment_line)).collect();
    let ids = json(&ids)?;
    let shipped = sqlx::query!(
        r#"SELECT DISTINCT shipment_lines.id AS "id!", shipments.number AS "number!", shipment_lines.position AS "position!", code AS "code!"
           FROM json_each(?) AS wanted JOIN shipment_lines ON shipment_lines.id = wanted.value
           JOIN shipments ON shipments.id = shipment_id JOIN order_lines ON order_lines.id = order_line_id
           JOIN items ON items.id = item_id"#,
        ids
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids: Vec<OrderLineId> =
        drafts.iter().flat_map(|draft| draft.order_picks.iter().map(|pick| pick.order_line)).collect();
    let ids = json(&ids)?;
    let ordered = sqlx::query!(
        r#"SELECT DISTINCT order_lines.id AS "id!", orders.number AS "number!", position AS "position!", code AS "code!"
           FROM json_each(?) AS wanted JOIN order_lines ON order_lines.id = wanted.value
           JOIN orders ON orders.id = order_id JOIN items ON items.id = item_id"#,
        ids
    )
    .fetch_all(connection)
    .await?;
    let name = |number: &str, position: i64, code: &str| format!("{number} line {}, {code}", position + 1);
    Ok(Names {
        shipped: shipped
            .into_iter()
            .map(|row| (ShipmentLineId(row.id), name(&row.number, row.position, &row.code)))
            .collect(),
        ordered: ordered
            .into_iter()
            .map(|row| (OrderLineId(row.id), name(&row.number, row.position, &row.code)))
            .collect(),
    })
}

/// “2 × SM-ST at 18.00” with everything that was typed of it.
fn added(line: &AddedLine) -> String {
    let what = line.item.as_deref().or(line.account.as_deref()).unwrap_or_default();
    let mut text = format!("{} × {what}", line.quantity);
    for (word, typed) in
        [("in", &line.unit), ("at", &line.unit_price), ("tax", &line.tax_code), ("called", &line.description)]
    {
        if let Some(typed) = typed {
            text.push_str(&format!(" {word} {typed}"));
        }
    }
    if !line.marks.is_empty() {
        text.push_str(&format!(" for {:?}", line.marks));
    }
    text
}

fn fields(draft: &ToBill, names: &Names) -> Fields {
    let mut fields = BTreeMap::new();
    let said = |quantity: Option<Quantity>| quantity.map_or_else(|| "all".to_owned(), |quantity| quantity.to_string());
    for pick in &draft.picks {
        if let Some(name) = names.shipped.get(&pick.shipment_line) {
            fields.insert(name.clone(), said(pick.quantity));
        }
    }
    for pick in &draft.order_picks {
        if let Some(name) = names.ordered.get(&pick.order_line) {
            fields.insert(name.clone(), said(pick.quantity));
        }
    }
    for (at, line) in draft.added.iter().enumerate() {
        fields.insert(format!("typed line {}", at + 1), added(line));
    }
    let dates = [(DOCUMENT_DATE, draft.document_date), (POSTING_DATE, draft.posting_date)];
    fields.extend(dates.into_iter().filter_map(|(name, date)| date.map(|date| (name.to_owned(), date.to_string()))));
    fields.extend(draft.terms.iter().map(|terms| (TERMS.to_owned(), terms.words())));
    let texts = [(TEXT_ABOVE, &draft.text_above), (TEXT_BELOW, &draft.text_below)];
    fields.extend(texts.into_iter().filter_map(|(name, text)| text.clone().map(|text| (name.to_owned(), text))));
    fields
}

/// Fields back as a draft: lines in the order of who came first.
fn to_bill(fields: &Fields, names: &Names, sources: &[&ToBill]) -> Result<ToBill> {
    let corrupt = |error: &dyn std::fmt::Display| StoreError::Corrupt(error.to_string());
    let quantity = |text: &str| -> Result<Option<Quantity>> {
        match text {
            "all" => Ok(None),
            typed => Ok(Some(typed.parse().map_err(|error| corrupt(&error))?)),
        }
    };
    let mut merged = ToBill { customer: sources.iter().find_map(|source| source.customer), ..ToBill::default() };
    for pick in sources.iter().rev().flat_map(|source| &source.picks) {
        let Some(text) = names.shipped.get(&pick.shipment_line).and_then(|name| fields.get(name)) else { continue };
        if !merged.picks.iter().any(|known| known.shipment_line == pick.shipment_line) {
            merged.picks.push(Pick { shipment_line: pick.shipment_line, quantity: quantity(text)? });
        }
    }
    for pick in sources.iter().rev().flat_map(|source| &source.order_picks) {
        let Some(text) = names.ordered.get(&pick.order_line).and_then(|name| fields.get(name)) else { continue };
        if !merged.order_picks.iter().any(|known| known.order_line == pick.order_line) {
            merged.order_picks.push(OrderPick { order_line: pick.order_line, quantity: quantity(text)? });
        }
    }
    let longest = sources.iter().map(|source| source.added.len()).max().unwrap_or(0);
    for at in 0..longest {
        let Some(text) = fields.get(&format!("typed line {}", at + 1)) else { continue };
        let typed = sources.iter().flat_map(|source| &source.added).find(|line| added(line) == *text);
        merged.added.extend(typed.cloned());
    }
    let date = |name: &str| fields.get(name).map(|date| date.parse().map_err(|error| corrupt(&error))).transpose();
    merged.document_date = date(DOCUMENT_DATE)?;
    merged.posting_date = date(POSTING_DATE)?;
    merged.terms = fields.get(TERMS).and_then(|words| {
        sources.iter().filter_map(|source| source.terms.as_ref()).find(|terms| terms.words() == *words).cloned()
    });
    merged.text_above = fields.get(TEXT_ABOVE).cloned();
    merged.text_below = fields.get(TEXT_BELOW).cloned();
    Ok(merged)
}
