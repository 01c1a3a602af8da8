//! Money as an integer count of minor units, and the one way of rounding.
//!
//! [`Money`] carries no currency: a document has one, and every amount on it is in
//! it. Where two currencies meet (a foreign document in the ledger) the names say
//! `base` or `document`.
//!
//! ```
//! use till_core::money::{Currency, Money};
//! let eur = Currency::of("EUR").unwrap();
//! assert_eq!(eur.parse("290.28").unwrap(), Money(29_028));
//! assert_eq!(eur.format(Money(-1)), "-0.01");
//! assert!(eur.parse("1.005").is_err());
//! ```

use std::fmt;
use std::iter::Sum;
use std::ops::{Add, AddAssign, Neg, Sub, SubAssign};

use serde::{Deserialize, Serialize};

use crate::fixed::{DecimalError, ExchangeRate, Quantity, Rate, UnitPrice, format_scaled, parse_scaled};

/// An amount in minor units (cents, pence, yen) of a currency known from its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(transparent)]
pub struct Money(pub i64);

/// The largest amount a single field may carry, in minor units. Sums of a great many
/// such amounts still fit an `i64`, and JavaScript reads them exactly.
pub const LARGEST_AMOUNT: i64 = 1_000_000_000_000;
/// What a line is held at: a thousand such lines add up without wrapping. No document may come near it.
const MOST_OF_A_LINE: i64 = 1_000 * LARGEST_AMOUNT;

impl Money {
    /// Nothing.
    pub const ZERO: Self = Self(0);

    /// The amount without its sign.
    pub const fn abs(self) -> Self {
        Self(self.0.abs())
    }

    /// Whether it is zero.
    pub const fn is_zero(self) -> bool {
        self.0 == 0
    }

    /// Whether it is above zero.
    pub const fn is_positive(self) -> bool {
        self.0 > 0
    }

    /// Converts a document amount to base currency, rounded half away from zero.
    ///
    /// `rate` is base per one unit of document currency (major units).
    pub fn to_base(self, rate: ExchangeRate, document: Currency, base: Currency) -> Self {
        let numerator = i128::from(self.0) * i128::from(rate.scaled()) * pow10(base.exponent());
        let denominator = ExchangeRate::scale() * pow10(document.exponent());
        Self(round_ratio(numerator, denominator))
    }

    /// Converts an amount of one currency to another over base currency, rounded once, half away
    /// from zero. Each rate is base per one unit of its currency, in major units.
    pub fn exchanged(
        self,
        (from, from_rate): (Currency, ExchangeRate),
        (to, to_rate): (Currency, ExchangeRate),
    ) -> Self {
        let numerator = i128::from(self.0) * i128::from(from_rate.scaled()) * pow10(to.exponent());
        Self(round_ratio(numerator, i128::from(to_rate.scaled()) * pow10(from.exponent())))
    }

    /// This amount × `rate`, rounded half away from zero.
    pub fn times_rate(self, rate: Rate) -> Self {
        Self(round_ratio(i128::from(self.0) * i128::from(rate.scaled()), Rate::scale()))
    }

    /// This amount as the price of one piece.
    pub fn as_price(self, currency: Currency) -> UnitPrice {
        UnitPrice::from_scaled(self.0.saturating_mul(10_i64.pow(6 - currency.exponent().min(6))))
    }

    /// What is left of an amount once the tax of a rate, which it carries, is taken out:
    /// amount ÷ (1 + rate), rounded half away from zero.
    pub fn without(self, rate: Rate) -> Self {
        Self(round_ratio(i128::from(self.0) * Rate::scale(), Rate::scale() + i128::from(rate.scaled())))
    }

    /// This amount with the tax of a rate on it, rounded half away from zero.
    pub fn with_tax(self, rate: Rate) -> Self {
        self + self.times_rate(rate)
    }

    /// This amount × `part` ÷ `whole`, rounded half away from zero. Zero where `whole` is zero.
    pub fn share(self, part: i64, whole: i64) -> Self {
        if whole == 0 {
            return Self::ZERO;
        }
        Self(round_ratio(i128::from(self.0) * i128::from(part), i128::from(whole)))
    }
}

impl Add for Money {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0 + other.0)
    }
}
impl Sub for Money {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        Self(self.0 - other.0)
    }
}
impl Neg for Money {
    type Output = Self;
    fn neg(self) -> Self {
        Self(-self.0)
    }
}
impl AddAssign for Money {
    fn add_assign(&mut self, other: Self) {
        self.0 += other.0;
    }
}
impl SubAssign for Money {
    fn sub_assign(&mut self, other: Self) {
        self.0 -= other.0;
    }
}
impl Sum for Money {
    fn sum<I: Iterator<Item = Self>>(amounts: I) -> Self {
        Self(amounts.map(|amount| amount.0).sum())
    }
}

/// Why an amount cannot be kept; none where it can.
pub(crate) fn too_large(amount: Money) -> Option<String> {
    (amount.0.abs() > LARGEST_AMOUNT)
        .then(|| "This comes to more than the books can hold. Check quantity and price, or split it.".to_owned())
}

/// Ten to the power of `exponent`.
pub(crate) const fn pow10(exponent: u32) -> i128 {
    10_i128.pow(exponent)
}

/// `numerator ÷ denominator` rounded half away from zero: the one rounding of the project.
///
/// A zero denominator gives zero; a result beyond 64 bits is held at the largest one,
/// which the limits on input make unreachable.
pub fn round_ratio(numerator: i128, denominator: i128) -> i64 {
    if denominator == 0 {
        return 0;
    }
    let negative = numerator.is_negative() != denominator.is_negative();
    let (numerator, denominator) = (numerator.unsigned_abs(), denominator.unsigned_abs());
    let rounded = (numerator + denominator / 2) / denominator;
    // For an odd denominator, half of it is cut off and a tie cannot occur, so this is exact.
    let magnitude = i64::try_from(rounded).unwrap_or(i64::MAX);
    if negative { -magnitude } else { magnitude }
}

/// `round(quantity × price − discount)` in one step, to the currency's exponent: a line without
/// a surcharge.
pub fn line_amounts(quantity: Quantity, price: UnitPrice, discount: Rate, currency: Currency) -> LineAmounts {
    line_total(quantity, price, discount, UnitPrice::ZERO, currency)
}

/// `round(quantity × price − discount + quantity × surcharge)` in one step, to the currency's
/// exponent.
///
/// Returns the full amount, the surcharge, the discount and the net, of which all but the
/// discount are each rounded once from the exact figures and the discount is their difference,
/// so that they add up on the tape. *Source: domain.md section 2, line net.*
pub fn line_total(
    quantity: Quantity,
    price: UnitPrice,
    discount: Rate,
    surcharge: UnitPrice,
    currency: Currency,
) -> LineAmounts {
    line_total_less(quantity, price, &[discount], surcharge, currency)
}

/// The same, with discounts that come off one after the other, each off what the one before left: rounded
/// once, however many they are.
pub fn line_total_less(
    quantity: Quantity,
    price: UnitPrice,
    offs: &[Rate],
    surcharge: UnitPrice,
    currency: Currency,
) -> LineAmounts {
    let exact =
        |price: UnitPrice| i128::from(quantity.scaled()) * i128::from(price.scaled()) * pow10(currency.exponent());
    let scale = Quantity::scale() * UnitPrice::scale();
    // Sums of lines that are far too large still fit, so that they are told, not broken off.
    let held = |amount: i64| amount.clamp(-MOST_OF_A_LINE, MOST_OF_A_LINE);
    let full = Money(held(round_ratio(exact(price), scale)));
    let left = |off: Rate| Rate::scale() - i128::from(off.scaled());
    let net = match offs {
        [] => round_ratio(exact(price) + exact(surcharge), scale),
        // Exact: 13 + 15 + 3 + 6 digits stay within the 38 of an i128.
        [off] => round_ratio(exact(price) * left(*off) + exact(surcharge) * Rate::scale(), scale * Rate::scale()),
        several => {
            let kept = several.iter().map(|off| (left(*off), Rate::scale()));
            sum_less(reduced(exact(price), scale), kept, reduced(exact(surcharge), scale))
        }
    };
    let net = Money(held(net));
    let surcharge = Money(held(round_ratio(exact(surcharge), scale)));
    LineAmounts { full, surcharge, discount: full + surcharge - net, net }
}

type Fraction = (i128, i128);

/// What is left of an amount after several shares were kept of it, one after the other, and something on top:
/// exact in lowest terms. Figures of the largest kind that do not fit are rounded before they are added up.
fn sum_less(sold: Fraction, kept: impl Iterator<Item = Fraction>, on_top: Fraction) -> i64 {
    let mut sold = sold;
    for kept in kept {
        let kept = reduced(kept.0, kept.1);
        sold = match sold.0.checked_mul(kept.0).zip(sold.1.checked_mul(kept.1)) {
            Some((numerator, denominator)) => reduced(numerator, denominator),
            None => (i128::from(round_ratio(sold.0, sold.1)) * kept.0, kept.1),
        };
    }
    let exact = || {
        let numerator = sold.0.checked_mul(on_top.1)?.checked_add(on_top.0.checked_mul(sold.1)?)?;
        Some(round_ratio(numerator, sold.1.checked_mul(on_top.1)?))
    };
    exact().unwrap_or_else(|| round_ratio(sold.0, sold.1) + round_ratio(on_top.0, on_top.1))
}

/// A fraction in its lowest terms; the denominator is above zero.
fn reduced(numerator: i128, denominator: i128) -> Fraction {
    let (mut one, mut other) = (numerator.unsigned_abs(), denominator.unsigned_abs());
    while other != 0 {
        (one, other) = (other, one % other);
    }
    let common = i128::try_from(one.max(1)).unwrap_or(1);
    (numerator / common, denominator / common)
}

/// What [`line_total`] gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LineAmounts {
    /// Quantity × price.
    pub full: Money,
    /// What comes on top.
    pub surcharge: Money,
    /// What the line discount takes off.
    pub discount: Money,
    /// The line net.
    pub net: Money,
}

/// A currency of ISO 4217: three letters and the number of decimals of its amounts.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct Currency {
    code: [u8; 3],
    exponent: u8,
}

/// Exponents as in ISO 4217, values from memory; the check against a package's list is in `tests/`.
const CURRENCIES: &[(&str, u8)] = &[
    ("AUD", 2),
    ("BHD", 3),
    ("CAD", 2),
    ("CHF", 2),
    ("CNY", 2),
    ("CZK", 2),
    ("DKK", 2),
    ("EUR", 2),
    ("GBP", 2),
    ("HUF", 2),
    ("ISK", 0),
    ("JPY", 0),
    ("KRW", 0),
    ("KWD", 3),
    ("MXN", 2),
    ("NOK", 2),
    ("NZD", 2),
    ("OMR", 3),
    ("PLN", 2),
    ("RON", 2),
    ("SEK", 2),
    ("SGD", 2),
    ("TND", 3),
    ("TRY", 2),
    ("USD", 2),
    ("VND", 0),
    ("ZAR", 2),
];

/// A currency code the application does not know.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("“{0}” is not a currency Glad Till knows. Use an ISO 4217 code such as EUR.")]
pub struct UnknownCurrency(pub String);

impl Currency {
    /// The currency with this ISO 4217 code.
    ///
    /// # Errors
    /// [`UnknownCurrency`] where the code is not in the list.
    pub fn of(code: &str) -> Result<Self, UnknownCurrency> {
        CURRENCIES
            .iter()
            .find(|(known, _)| *known == code)
            .and_then(|(known, exponent)| {
                let code: [u8; 3] = known.as_bytes().try_into().ok()?;
                Some(Self { code, exponent: *exponent })
            })
            .ok_or_else(|| UnknownCurrency(code.to_owned()))
    }

    /// All currencies known, as code and exponent.
    pub fn all() -> impl Iterator<Item = (&'static str, u8)> {
        CURRENCIES.iter().copied()
    }

    /// The three letters.
    pub fn code(&self) -> &str {
        std::str::from_utf8(&self.code).unwrap_or("???")
    }

    /// How many decimals its amounts have.
    pub const fn exponent(self) -> u32 {
        self.exponent as u32
    }

    /// Reads an amount such as `1204.50`.
    ///
    /// # Errors
    /// [`DecimalError`] for anything but a plain decimal with at most the currency's
    /// decimals, or an amount above [`LARGEST_AMOUNT`].
    pub fn parse(self, text: &str) -> Result<Money, DecimalError> {
        let minor = parse_scaled(text, self.exponent())?;
        if minor.abs() > LARGEST_AMOUNT {
            return Err(DecimalError::TooLarge(text.to_owned()));
        }
        Ok(Money(minor))
    }

    /// Writes an amount with exactly the currency's decimals.
    pub fn format(self, amount: Money) -> String {
        format_scaled(amount.0, self.exponent())
    }

    /// Writes an amount for a sentence, its thousands apart: `29,800.77`.
    pub fn grouped(self, amount: Money) -> String {
        crate::fixed::thousands_apart(&self.format(amount))
    }
}

impl fmt::Debug for Currency {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.code())
    }
}

impl fmt::Display for Currency {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        formatter.write_str(self.code())
    }
}

impl Serialize for Currency {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.code())
    }
}

impl<'de> Deserialize<'de> for Currency {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let code = String::deserialize(deserializer)?;
        Self::of(&code).map_err(serde::de::Error::custom)
    }
}

#[cfg(feature = "schema")]
impl utoipa::PartialSchema for Currency {
    fn schema() -> utoipa::openapi::RefOr<utoipa::openapi::Schema> {
        utoipa::openapi::ObjectBuilder::new()
            .schema_type(utoipa::openapi::Type::String)
            .description(Some("an ISO 4217 code"))
            .pattern(Some("^[A-Z]{3}$"))
            .build()
            .into()
    }
}

#[cfg(feature = "schema")]
impl utoipa::ToSchema for Currency {}

#[cfg(test)]
mod tests {
    /// C6: the largest quantity at the highest price in dinars comes to 10^19 fils, more than is kept anywhere.
    #[test]
    fn a_line_that_is_far_too_large_is_held() {
        let dinars = Currency::of("KWD").unwrap();
        let (quantity, price) = (Quantity::from_whole(99_999_999), UnitPrice::from_whole(99_999_999));
        let line = line_total(quantity, price, Rate::ZERO, price, dinars);
        assert_eq!(
            (line.full, line.net, line.discount),
            (Money(MOST_OF_A_LINE), Money(MOST_OF_A_LINE), Money(MOST_OF_A_LINE))
        );
        let thousand: Money = std::iter::repeat_n(line.net, 1_000).sum();
        assert_eq!(thousand, Money(1_000 * MOST_OF_A_LINE));
    }

    use super::*;

    #[test]
    fn rounds_half_away_from_zero() {
        for (numerator, denominator, expected) in [
            (5, 10, 1),
            (-5, 10, -1),
            (4, 10, 0),
            (15, 10, 2),
            (25, 10, 3),
            (-25, 10, -3),
            (1, 3, 0),
            (2, 3, 1),
            (1, 2, 1),
            (7, -2, -4),
            (3, 7, 0),
            (4, 7, 1),
            (9, 0, 0),
        ] {
            assert_eq!(round_ratio(numerator, denominator), expected, "{numerator}/{denominator}");
        }
    }

    #[test]
    fn keeps_the_exponent_of_each_currency() {
        let jpy = Currency::of("JPY").unwrap();
        let bhd = Currency::of("BHD").unwrap();
        assert_eq!(jpy.parse("1200").unwrap(), Money(1200));
        assert!(matches!(jpy.parse("1.5"), Err(DecimalError::TooPrecise { places: 0, .. })));
        assert_eq!(bhd.parse("0.005").unwrap(), Money(5));
        assert_eq!(bhd.format(Money(-12_345)), "-12.345");
        assert_eq!(jpy.format(Money(7)), "7");
        assert!(Currency::of("EURO").is_err());
    }

    #[test]
    fn amounts_have_a_ceiling() {
        let eur = Currency::of("EUR").unwrap();
        assert!(eur.parse("10000000000.00").is_ok());
        assert!(matches!(eur.parse("10000000000.01"), Err(DecimalError::TooLarge(_))));
    }

    #[test]
    fn line_net_is_rounded_once() {
        let eur = Currency::of("EUR").unwrap();
        let amounts = line_amounts("40".parse().unwrap(), "32.50".parse().unwrap(), "0.05".parse().unwrap(), eur);
        assert_eq!(
            amounts,
            LineAmounts { full: Money(130_000), surcharge: Money(0), discount: Money(6_500), net: Money(123_500) }
        );
        // 3 × 0.335 less 50 % is 0.5025: rounding the 1.005 first would give 0.51.
        let once = line_amounts("3".parse().unwrap(), "0.335".parse().unwrap(), "0.5".parse().unwrap(), eur);
        assert_eq!(once.net, Money(50));
        // A surcharge is not discounted: 3 × 0.335 × 0.5 + 3 × 0.105 is 0.8175.
        let (price, on_top) = ("0.335".parse().unwrap(), "0.105".parse().unwrap());
        let more = line_total("3".parse().unwrap(), price, "0.5".parse().unwrap(), on_top, eur);
        assert_eq!((more.full, more.surcharge, more.discount, more.net), (Money(101), Money(32), Money(51), Money(82)));
    }
}
