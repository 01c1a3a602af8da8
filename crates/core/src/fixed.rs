//! Exact decimals with a fixed number of places: quantities, unit prices, rates.
//!
//! A [`Fixed`] is an integer that counts units of its last place, so that it can
//! stand in an SQL column, be summed there, and never meets a floating-point
//! number on its way. It travels in JSON as a decimal string.
//!
//! ```
//! use till_core::fixed::{Quantity, Rate};
//! let quantity: Quantity = "2.5".parse().unwrap();
//! assert_eq!(quantity.scaled(), 25_000);
//! assert_eq!(quantity.to_string(), "2.5");
//! assert_eq!(Rate::from_percent("13.5").unwrap().to_string(), "0.135");
//! ```

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// A quantity of goods or services: up to 4 places.
pub type Quantity = Fixed<4>;
/// A price per unit in the document's currency (major units): up to 6 places.
pub type UnitPrice = Fixed<6>;
/// A share or a tax rate as a fraction of one: 23 % is `0.23`.
pub type Rate = Fixed<6>;
/// Units of base currency for one unit of document currency: up to 9 places.
pub type ExchangeRate = Fixed<9>;

/// How many days a rate of exchange holds: an older one is no rate of the day. Rates that are kept weekly or
/// monthly do; one that was forgotten for a quarter does not. *Common practice, no source.*
pub const RATE_HOLDS_DAYS: u64 = 92;

/// An exact decimal with `PLACES` decimal places.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct Fixed<const PLACES: u32>(i64);

/// Why a text is not a decimal of the wanted kind.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DecimalError {
    /// Not digits with at most one point.
    #[error("“{0}” is not a number. Write digits with a point, like 12.5.")]
    Malformed(String),
    /// More decimals than the kind allows.
    #[error("“{text}” has more than {places} decimals.")]
    TooPrecise {
        /// What was given.
        text: String,
        /// How many decimals are allowed.
        places: u32,
    },
    /// Larger than can be kept exactly.
    #[error("“{0}” is too large.")]
    TooLarge(String),
}

impl<const PLACES: u32> Fixed<PLACES> {
    /// Nothing.
    pub const ZERO: Self = Self(0);
    /// One whole unit.
    pub const ONE: Self = Self(10_i64.pow(PLACES));

    /// From a count of units of the last place (as kept in the database).
    pub const fn from_scaled(scaled: i64) -> Self {
        Self(scaled)
    }

    /// From whole units.
    pub const fn from_whole(whole: i64) -> Self {
        Self(whole * 10_i64.pow(PLACES))
    }

    /// The count of units of the last place.
    pub const fn scaled(self) -> i64 {
        self.0
    }

    /// How many units of the last place make one.
    pub const fn scale() -> i128 {
        10_i128.pow(PLACES)
    }

    /// The sum, if it can be kept.
    pub fn checked_add(self, other: Self) -> Option<Self> {
        self.0.checked_add(other.0).map(Self)
    }

    /// The difference, if it can be kept.
    pub fn checked_sub(self, other: Self) -> Option<Self> {
        self.0.checked_sub(other.0).map(Self)
    }

    /// With at least `places` decimals, as prices are written: 9.4 is `9.40`.
    pub fn with_decimals(self, places: usize) -> String {
        let short = self.to_string();
        let (whole, fraction) = short.split_once('.').unwrap_or((&short, ""));
        format!("{whole}.{fraction:0<places$}")
    }

    /// As [`Self::with_decimals`], its thousands apart: 1240 is `1,240.00`.
    pub fn grouped(self, places: usize) -> String {
        thousands_apart(&self.with_decimals(places))
    }

    /// Whether it is above zero.
    pub const fn is_positive(self) -> bool {
        self.0 > 0
    }

    /// Whether it is zero.
    pub const fn is_zero(self) -> bool {
        self.0 == 0
    }
}

impl Rate {
    /// A rate from a text in percent: `"13.5"` is 0.135.
    ///
    /// # Errors
    /// [`DecimalError`] where the text is no decimal with up to 4 places.
    pub fn from_percent(text: &str) -> Result<Self, DecimalError> {
        let percent: Fixed<4> = text.parse()?;
        Ok(Self(percent.scaled()))
    }

    /// The rate in percent, without trailing zeros: 0.135 is `13.5`.
    pub fn percent(self) -> String {
        Fixed::<4>(self.0).to_string()
    }
}

/// Reads a plain decimal into a count of units of the last of `places`.
pub(crate) fn parse_scaled(text: &str, places: u32) -> Result<i64, DecimalError> {
    let trimmed = text.trim();
    let (negative, digits) = match trimmed.strip_prefix(['-', '\u{2212}']) {
        Some(rest) => (true, rest),
        None => (false, trimmed),
    };
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    let malformed = || DecimalError::Malformed(text.to_owned());
    if whole.is_empty() || (digits.contains('.') && fraction.is_empty()) {
        return Err(malformed());
    }
    if !whole.bytes().chain(fraction.bytes()).all(|b| b.is_ascii_digit()) {
        return Err(malformed());
    }
    let fraction = fraction.trim_end_matches('0');
    if fraction.len() > places as usize {
        return Err(DecimalError::TooPrecise { text: text.to_owned(), places });
    }
    let padded = format!("{whole}{fraction:0<width$}", width = places as usize);
    let value: i64 = padded.parse().map_err(|_| DecimalError::TooLarge(text.to_owned()))?;
    Ok(if negative { -value } else { value })
}

/// Writes a count of units of the last of `places` with exactly that many decimals.
pub(crate) fn format_scaled(scaled: i64, places: u32) -> String {
    let unit = 10_u64.pow(places);
    let magnitude = scaled.unsigned_abs();
    let sign = if scaled < 0 { "-" } else { "" };
    if places == 0 {
        return format!("{sign}{magnitude}");
    }
    format!("{sign}{}.{:0width$}", magnitude / unit, magnitude % unit, width = places as usize)
}

impl<const PLACES: u32> FromStr for Fixed<PLACES> {
    type Err = DecimalError;

    fn from_str(text: &str) -> Result<Self, DecimalError> {
        parse_scaled(text, PLACES).map(Self)
    }
}

impl<const PLACES: u32> fmt::Display for Fixed<PLACES> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let full = format_scaled(self.0, PLACES);
        let short = if PLACES == 0 { full.as_str() } else { full.trim_end_matches('0').trim_end_matches('.') };
        formatter.write_str(short)
    }
}

impl<const PLACES: u32> fmt::Debug for Fixed<PLACES> {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, formatter)
    }
}

impl<const PLACES: u32> Serialize for Fixed<PLACES> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de, const PLACES: u32> Deserialize<'de> for Fixed<PLACES> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(feature = "schema")]
impl<const PLACES: u32> utoipa::PartialSchema for Fixed<PLACES> {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::Schema> {
        utoipa::openapi::ObjectBuilder::new()
            .schema_type(utoipa::openapi::Type::String)
            .description(Some(format!("an exact decimal with up to {PLACES} places")))
            .pattern(Some(format!(r"^-?\d+(\.\d{{1,{PLACES}}})?$")))
            .build()
            .into()
    }
}

#[cfg(feature = "schema")]
impl<const PLACES: u32> utoipa::ToSchema for Fixed<PLACES> {
    fn name() -> std::borrow::Cow<'static, str> {
        format!("Decimal{PLACES}").into()
    }
}

/// A decimal text with its thousands apart, as tapes and sentences show figures.
pub(crate) fn thousands_apart(plain: &str) -> String {
    let whole = plain.split('.').next().unwrap_or(plain);
    let mut out = String::with_capacity(plain.len() + whole.len() / 3);
    for (at, digit) in whole.chars().enumerate() {
        let left = whole.len() - at - 1;
        out.push(digit);
        if digit != '-' && left > 0 && left.is_multiple_of(3) {
            out.push(',');
        }
    }
    out + &plain[whole.len()..]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_what_it_writes() {
        for text in ["0", "1", "-1", "0.0001", "12.5", "-922337203685477.5807"] {
            let value: Quantity = text.parse().unwrap();
            assert_eq!(value.to_string(), text);
        }
        assert_eq!("1.50000".parse::<Quantity>().unwrap().to_string(), "1.5");
        assert_eq!("\u{2212}2".parse::<Quantity>().unwrap(), Quantity::from_whole(-2));
    }

    #[test]
    fn refuses_what_is_not_a_decimal() {
        for text in ["", "-", ".", "1.", ".5", "1,5", "1e3", "0x1", "1.2.3", "NaN", "--1"] {
            assert!(matches!(text.parse::<Quantity>(), Err(DecimalError::Malformed(_))), "{text}");
        }
        assert!(matches!("0.00001".parse::<Quantity>(), Err(DecimalError::TooPrecise { places: 4, .. })));
        assert!(matches!("922337203685477.5808".parse::<Quantity>(), Err(DecimalError::TooLarge(_))));
    }

    #[test]
    fn prices_have_two_decimals_or_more() {
        let grouped = |text: &str| text.parse::<UnitPrice>().unwrap().grouped(2);
        assert_eq!(
            ["0", "-7.5", "999.999", "1240", "-1240", "1234567.5"].map(grouped),
            ["0.00", "-7.50", "999.999", "1,240.00", "-1,240.00", "1,234,567.50"]
        );
        let price = |text: &str| text.parse::<UnitPrice>().unwrap().with_decimals(2);
        assert_eq!([price("9.4"), price("18"), price("0.335")], ["9.40", "18.00", "0.335"]);
    }

    #[test]
    fn rates_speak_percent() {
        assert_eq!(Rate::from_percent("23").unwrap().to_string(), "0.23");
        assert_eq!(Rate::from_percent("13.5").unwrap().percent(), "13.5");
        assert_eq!(serde_json::to_string(&Rate::from_percent("23").unwrap()).unwrap(), "\"0.23\"");
    }
}
