//! What is asked of an order in advance, as typed and as saved with the order.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::fixed::Rate;
use till_core::ids::OrderLineId;
use till_core::money::Money;
use till_core::prepayment::asking::{AskAs, LineWish, Wish};

use super::order::Loaded;
use crate::{Result, StoreError, sensible_date};

/// What is asked of a line, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceLine {
    /// The order line.
    pub order_line: OrderLineId,
    /// In or out; none for what comes by itself.
    #[serde(default)]
    pub included: Option<bool>,
    /// Its own share, in percent; none for what comes by itself.
    #[serde(default)]
    pub percent: Option<String>,
}

/// What is asked of an order in advance, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceForm {
    /// A share of its lines, or an amount.
    #[serde(default)]
    pub ask_as: AskAs,
    /// The share, in percent; none for the customer's usual one.
    #[serde(default)]
    pub percent: Option<String>,
    /// The amount, in the order's currency, where one is asked for.
    #[serde(default)]
    pub amount: Option<String>,
    /// What was set line by line; lines that are not named come by themselves.
    #[serde(default)]
    pub lines: Vec<AdvanceLine>,
    /// Document date, if typed.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date, if typed.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
    /// Words above the lines.
    #[serde(default)]
    pub text_above: Option<String>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What is kept of it with the order: the share, and what was set line by line.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SavedAdvance {
    /// The share for the order, in percent; none for the customer's usual one.
    #[serde(default)]
    pub percent: Option<String>,
    /// Line by line.
    #[serde(default)]
    pub lines: Vec<AdvanceLine>,
}

/// What was typed, without the space around it; nothing where nothing was.
pub(super) fn said(text: &Option<String>) -> Option<&str> {
    text.as_deref().map(str::trim).filter(|text| !text.is_empty())
}

/// A percentage without its sign.
pub(super) fn figure_of(percent: &str) -> &str {
    percent.trim_end_matches('%').trim_end()
}

fn read_percent(text: &Option<String>, field: String) -> Result<Option<Rate>> {
    let Some(text) = said(text) else { return Ok(None) };
    Rate::from_percent(figure_of(text)).map(Some).map_err(|error| StoreError::decimal(field, &error))
}

/// Reads what was typed: the wish for the order, and that for each line, which is put on it.
pub(super) fn read_form(loaded: &mut Loaded, form: &AdvanceForm) -> Result<Wish> {
    for (field, date) in [("document_date", form.document_date), ("posting_date", form.posting_date)] {
        if let Some(date) = date {
            sensible_date(field, date)?;
        }
    }
    for typed in &form.lines {
        let at = loaded.lines.iter().position(|(line, _)| line.order_line == typed.order_line);
        let Some(at) = at else {
            let sentence = format!("{} has no line {}.", loaded.order.number, typed.order_line);
            return Err(StoreError::invalid("lines", sentence));
        };
        loaded.lines[at].0.wish = LineWish {
            included: typed.included,
            percent: read_percent(&typed.percent, format!("lines.{at}.percent"))?,
        };
    }
    let amount = match said(&form.amount).filter(|_| form.ask_as != AskAs::Percent) {
        Some(amount) => loaded.currency.parse(amount).map_err(|error| StoreError::decimal("amount", &error))?,
        None => Money::ZERO,
    };
    let percent = read_percent(&form.percent, "percent".to_owned())?;
    Ok(Wish { ask_as: form.ask_as, percent, usual: loaded.usual, amount })
}

/// What is typed where nothing was: what is kept with the order.
pub(super) fn from_saved(saved: &SavedAdvance) -> AdvanceForm {
    AdvanceForm { percent: saved.percent.clone(), lines: saved.lines.clone(), ..AdvanceForm::default() }
}
