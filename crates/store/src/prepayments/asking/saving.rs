//! Keeping with an order what it asks for in advance.

use till_core::checks::{Findings, Step, stops};
use till_core::ids::{DocumentKind, OrderId};

use super::form::{AdvanceLine, SavedAdvance, figure_of, from_saved, read_form, said};
use super::order::{Loaded, load};
use crate::convert::json;
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError};

/// Keeps with an order what it asks for in advance. Returns its version.
///
/// # Errors
/// [`StoreError::Stale`] where someone changed the order since `version`; a figure that cannot be read.
pub async fn save(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    (version, wanted): (i64, &SavedAdvance),
) -> Result<i64> {
    let mut loaded = load(writing, rules, id, rules.business_date).await?;
    if loaded.version != version {
        return Err(StoreError::Stale { what: loaded.order.number, current: loaded.version });
    }
    let wish = read_form(&mut loaded, &from_saved(wanted))?;
    let mut findings = Findings::at(Step::Post);
    loaded.check(&wish, &mut findings);
    let found = findings.finish();
    if stops(&found) {
        return Err(StoreError::Refused(found));
    }
    keep(writing, &loaded, wanted.clone()).await
}

/// Keeps it where it is not what is kept already. Returns the version of the order.
pub(super) async fn keep(writing: &mut Writing<'_>, loaded: &Loaded, wanted: SavedAdvance) -> Result<i64> {
    let percent = said(&wanted.percent).map(|text| figure_of(text).to_owned());
    let set = |line: &AdvanceLine| line.included.is_some() || said(&line.percent).is_some();
    let wanted = SavedAdvance { percent, lines: wanted.lines.into_iter().filter(set).collect() };
    if wanted == loaded.saved {
        return Ok(loaded.version);
    }
    let (kept, version) = (json(&wanted)?, loaded.version + 1);
    sqlx::query!("UPDATE orders SET advance = ?, version = ? WHERE id = ?", kept, version, loaded.order.id)
        .execute(&mut **writing)
        .await?;
    let shown = |saved: &SavedAdvance| -> Option<String> {
        let lines = saved.lines.iter().filter_map(|line| {
            let (known, _) = loaded.lines.iter().find(|(known, _)| known.order_line == line.order_line)?;
            let out = if line.included == Some(false) { Some("out".to_owned()) } else { None };
            Some(format!("{} {}", known.code, out.or(said(&line.percent).map(|text| format!("{text}%")))?))
        });
        let order = said(&saved.percent).map(|text| format!("{text}%"));
        let words: Vec<String> = order.into_iter().chain(lines).collect();
        (!words.is_empty()).then(|| words.join(", "))
    };
    let (before, after) = (shown(&loaded.saved), shown(&wanted));
    let at = (DocumentKind::Order, loaded.order.id, loaded.order.number.as_str());
    let words = format!("changed what {} asks for in advance", loaded.order.number);
    let fields = changed("advance %", before.as_deref(), after.as_deref());
    writing.note_on(at, "order_changed", words, Some(version), fields);
    Ok(version)
}
