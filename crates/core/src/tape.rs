//! The tape: the arithmetic of a document, step by step, and what it will change.
//!
//! Tape and document come from the same function, so they cannot tell two stories.
//!
//! ```
//! use till_core::money::{Currency, Money};
//! use till_core::tape::{Tape, TapeStyle};
//! let mut tape = Tape::new("Dunlin School Farm", "one invoice", Currency::of("EUR").unwrap());
//! tape.amount(TapeStyle::Due, "Owed", Money(29_028));
//! assert!(tape.to_text().lines().last().unwrap().ends_with("290.28"));
//! ```

use serde::{Deserialize, Serialize};

use crate::money::{Currency, Money};
use crate::order::Track;

/// How a line of the tape stands out.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum TapeStyle {
    /// An amount that counts.
    Line,
    /// A step on the way to one, or a remark.
    Detail,
    /// A heading between lines.
    Group,
    /// A sum.
    Sum,
    /// The figure all of it is for.
    Due,
}

/// One line of the tape.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct TapeLine {
    /// How it stands out.
    pub style: TapeStyle,
    /// What it is.
    pub label: String,
    /// What the figure is a part of, said after the label: “of 2,198.80”.
    pub of: Option<Money>,
    /// The figure, where it has one.
    pub amount: Option<Money>,
    /// Whether a date or figure in it was assumed rather than typed.
    pub assumed: bool,
}

/// The arithmetic of a document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Tape {
    /// Whose document.
    pub heading: String,
    /// What it is made from.
    pub subheading: String,
    /// Currency of its amounts.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Its lines.
    pub lines: Vec<TapeLine>,
}

impl Tape {
    /// An empty tape.
    pub fn new(heading: impl Into<String>, subheading: impl Into<String>, currency: Currency) -> Self {
        Self { heading: heading.into(), subheading: subheading.into(), currency, lines: Vec::new() }
    }

    /// Adds a line with a figure.
    pub fn amount(&mut self, style: TapeStyle, label: impl Into<String>, amount: Money) {
        self.push(style, label.into(), Some(amount), false);
    }

    /// Adds a line whose figure is a part of another: a tax of its base.
    pub fn part(&mut self, style: TapeStyle, label: impl Into<String>, of: Money, amount: Money) {
        self.lines.push(TapeLine { style, label: label.into(), of: Some(of), amount: Some(amount), assumed: false });
    }

    /// Adds a line without a figure; `assumed` marks what nobody typed.
    pub fn remark(&mut self, style: TapeStyle, label: impl Into<String>, assumed: bool) {
        self.push(style, label.into(), None, assumed);
    }

    fn push(&mut self, style: TapeStyle, label: String, amount: Option<Money>, assumed: bool) {
        self.lines.push(TapeLine { style, label, of: None, amount, assumed });
    }

    /// As text, for snapshots and the log: label left, figure right.
    pub fn to_text(&self) -> String {
        let mut text = format!("{}\n{}\n", self.heading, self.subheading);
        for line in &self.lines {
            let indent = if line.style == TapeStyle::Detail { "  " } else { "" };
            let of = line.of.map(|of| format!(" of {}", self.currency.format(of))).unwrap_or_default();
            let label = format!("{indent}{}{of}{}", line.label, if line.assumed { " (assumed)" } else { "" });
            let amount = line.amount.map(|amount| self.currency.format(amount)).unwrap_or_default();
            if matches!(line.style, TapeStyle::Sum | TapeStyle::Due) {
                text.push_str(&format!("{:-<62}\n", ""));
            }
            text.push_str(format!("{label:<48}{amount:>14}").trim_end());
            text.push('\n');
        }
        text
    }
}

/// A value before or after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Figure {
    /// An amount in the currency of the tape.
    Money {
        /// Minor units.
        minor: Money,
    },
    /// Words.
    Words {
        /// The words.
        text: String,
    },
    /// An order's track.
    Track {
        /// Its four shares.
        track: Track,
    },
}

impl Figure {
    /// An amount.
    pub const fn money(minor: Money) -> Self {
        Self::Money { minor }
    }

    /// Words.
    pub fn words(text: impl Into<String>) -> Self {
        Self::Words { text: text.into() }
    }
}

/// One thing a posting changes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Change {
    /// What changes.
    pub label: String,
    /// What it is now, where it is something now.
    pub before: Option<Figure>,
    /// What it becomes.
    pub after: Figure,
}
