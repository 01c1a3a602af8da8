//! A quote accepted by the customer on their own page, and the link that leads there.
//!
//! A quote can ask for something before its order is confirmed: a card that is authorized, or a deposit, for a share of what
//! it comes to. Accepted by name, with what it asks for, its order confirms itself; until then it is a draft that says what
//! is missing. Money taken in advance stands for a card as well; a card that is only authorized is no deposit.
//!
//! *Source: domain.md section 8, customer page.*
//!
//! ```
//! use till_core::acceptance::{QuoteAsks, Requirement};
//! use till_core::fixed::Rate;
//! use till_core::money::Money;
//! // 30 % of 1,234.55 is 370.365, which rounds to 370.37.
//! let asked = Requirement::of(QuoteAsks::Card, Rate::from_percent("30").unwrap(), Money(123_455));
//! assert_eq!(asked.amount, Money(37_037));
//! // A deposit of 100.00 and a card for 150.00 leave 120.37 to be authorized.
//! assert_eq!(asked.missing(Money(10_000), Money(15_000)), Money(12_037));
//! ```

use chrono::{DateTime, Days, NaiveDate, Utc};
use serde::{Deserialize, Serialize};

use crate::calendar::words;
use crate::checks::{Blocker, Check, Findings, Step};
use crate::fixed::{Quantity, Rate};
use crate::ids::ItemId;
use crate::money::{Currency, Money};

/// What a quote asks for before its order is confirmed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum QuoteAsks {
    /// Nothing but the customer's name.
    #[default]
    Nothing,
    /// A card that is authorized.
    Card,
    /// Money in advance.
    Deposit,
}

impl QuoteAsks {
    const ALL: [Self; 3] = [Self::Nothing, Self::Card, Self::Deposit];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Nothing => "nothing",
            Self::Card => "card",
            Self::Deposit => "deposit",
        }
    }

    /// The one with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|asks| asks.word() == word)
    }

    /// Whether a card that is used for it is captured at once; one that is only left is captured once the goods have gone.
    pub const fn takes_money(self) -> bool {
        matches!(self, Self::Deposit)
    }
}

/// What is wrong with a share that is asked for, if anything is.
pub fn share_problem(asks: QuoteAsks, share: Rate) -> Option<&'static str> {
    let all = Rate::scale();
    match asks {
        QuoteAsks::Nothing if share == Rate::ZERO => None,
        QuoteAsks::Nothing => Some("Choose what the share is asked as: a card, or a deposit."),
        _ if share > Rate::ZERO && i128::from(share.scaled()) <= all => None,
        _ => Some("Ask for more than 0% and for 100% at most."),
    }
}

/// What a quote asks for, as an amount.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Requirement {
    /// What.
    pub what: QuoteAsks,
    /// How much, in the currency of the quote, with tax. Zero where nothing is asked for.
    pub amount: Money,
}

impl Requirement {
    /// The share of `total`, what the quote comes to with tax.
    pub fn of(what: QuoteAsks, share: Rate, total: Money) -> Self {
        let amount = if what == QuoteAsks::Nothing { Money::ZERO } else { total.times_rate(share) };
        Self { what, amount }
    }

    /// What is missing of it: `held` was taken in advance for the order and not sent back, captured money that is not in the
    /// books yet included; `authorized` stands on cards and is not captured.
    pub fn missing(&self, held: Money, authorized: Money) -> Money {
        let there = match self.what {
            QuoteAsks::Nothing => return Money::ZERO,
            QuoteAsks::Card => held + authorized,
            QuoteAsks::Deposit => held,
        };
        (self.amount - there).max(Money::ZERO)
    }

    /// What is missing, as a part of a sentence: “a deposit of €120.37”.
    pub fn words(&self, missing: Money, currency: Currency) -> String {
        let what = match self.what {
            QuoteAsks::Nothing => return "nothing".to_owned(),
            QuoteAsks::Card => "a card authorization",
            QuoteAsks::Deposit => "a deposit",
        };
        format!("{what} of {} {currency}", currency.grouped(missing))
    }
}

/// A quote that is to be accepted.
#[derive(Debug, Clone)]
pub struct ToAccept {
    /// Its number.
    pub number: String,
    /// Whether it waits for the customer's word.
    pub open: bool,
    /// Until when it holds.
    pub valid_until: NaiveDate,
    /// Changes with every change of it.
    pub version: i64,
}

/// The longest name a customer signs with.
pub const LONGEST_NAME: usize = 80;

/// What stands in the way of accepting a quote by `name`, in the version that was seen.
pub fn check_accept(quote: &ToAccept, name: &str, seen: i64, today: NaiveDate) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    let name = name.trim();
    let letters = name.chars().filter(|letter| letter.is_alphabetic()).count();
    if letters < 2 || name.chars().count() > LONGEST_NAME || name.chars().any(char::is_control) {
        findings.add(Check::NameMissing, "name", format!("Type your name, {LONGEST_NAME} characters at most."));
    }
    if !quote.open {
        findings.add(Check::QuoteDecided, "quote", format!("{} has been decided already.", quote.number));
    } else if quote.valid_until < today {
        let until = words(quote.valid_until);
        let sentence = format!("{} was valid until {until}. Ask for a new one.", quote.number);
        findings.add(Check::QuoteDecided, "quote", sentence);
    } else if seen != quote.version {
        let sentence = format!("{} has changed since you opened it. Look at it again, then accept it.", quote.number);
        findings.add(Check::QuoteDecided, "quote", sentence);
    }
    findings.finish()
}

/// A line as it was offered, or as it stands on the order: item, how much, line net.
pub type AcceptedLine = (ItemId, Quantity, Money);

/// Whether an order that was accepted still is what was: nobody confirmed anything else.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SinceAccepted {
    /// Line by line what was offered.
    AsOffered,
    /// Something was changed or canceled since: someone has to look at it.
    Changed,
    /// All of it was canceled.
    GivenUp,
}

impl SinceAccepted {
    /// From the lines of the quote and those of the order, what was canceled taken off.
    pub fn of(offered: &[AcceptedLine], now: &[AcceptedLine]) -> Self {
        if now.iter().all(|(_, quantity, _)| !quantity.is_positive()) {
            Self::GivenUp
        } else if offered == now {
            Self::AsOffered
        } else {
            Self::Changed
        }
    }

    /// Why the order does not confirm itself, where it is another than was accepted.
    pub const fn hinders(self) -> Option<&'static str> {
        match self {
            Self::Changed => Some("It was changed since: agree on that with the customer, then confirm it."),
            Self::AsOffered | Self::GivenUp => None,
        }
    }
}

/// The longest a link works, in days.
pub const LONGEST_LINK_DAYS: u64 = 90;

/// When a link that works for so many days stops working.
///
/// # Errors
/// What to type instead.
pub fn link_expires(made: DateTime<Utc>, days: u64) -> Result<DateTime<Utc>, String> {
    let refused = || format!("A link works for 1 to {LONGEST_LINK_DAYS} days.");
    if days == 0 || days > LONGEST_LINK_DAYS {
        return Err(refused());
    }
    made.checked_add_days(Days::new(days)).ok_or_else(refused)
}

/// Whether a link works.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LinkState {
    /// It leads to the customer's page.
    Works,
    /// Its days are over.
    Expired,
    /// Someone ended it.
    Ended,
}

impl LinkState {
    /// At a moment; the moment it expires at is over.
    pub fn at(now: DateTime<Utc>, expires: DateTime<Utc>, ended: bool) -> Self {
        match ended {
            true => Self::Ended,
            false if now < expires => Self::Works,
            false => Self::Expired,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    fn percent(text: &str) -> Rate {
        Rate::from_percent(text).unwrap()
    }

    #[test]
    fn a_share_is_more_than_nothing_and_no_more_than_all() {
        for (asks, share, fits) in [
            (QuoteAsks::Nothing, "0", true),
            (QuoteAsks::Nothing, "10", false),
            (QuoteAsks::Card, "0", false),
            (QuoteAsks::Card, "100", true),
            (QuoteAsks::Deposit, "100.0001", false),
            (QuoteAsks::Deposit, "0.0001", true),
            (QuoteAsks::Deposit, "-5", false),
        ] {
            assert_eq!(share_problem(asks, percent(share)).is_none(), fits, "{asks:?} {share}");
        }
    }

    #[test]
    fn money_in_advance_stands_for_a_card_and_a_card_for_no_deposit() {
        let total = Money(100_000);
        let missing = |asks, held, authorized| {
            Requirement::of(asks, percent("25"), total).missing(Money(held), Money(authorized))
        };
        // 25 % of 1,000.00 is 250.00.
        assert_eq!(missing(QuoteAsks::Card, 0, 0), Money(25_000));
        assert_eq!(missing(QuoteAsks::Card, 10_000, 14_999), Money(1));
        assert_eq!(missing(QuoteAsks::Card, 30_000, 0), Money::ZERO);
        assert_eq!(missing(QuoteAsks::Deposit, 0, 25_000), Money(25_000));
        assert_eq!(missing(QuoteAsks::Deposit, 24_000, 25_000), Money(1_000));
        assert_eq!(missing(QuoteAsks::Nothing, 0, 0), Money::ZERO);
        assert_eq!(
            Requirement::of(QuoteAsks::Nothing, Rate::ZERO, total).words(Money::ZERO, Currency::of("EUR").unwrap()),
            "nothing"
        );
    }

    #[test]
    fn a_quote_is_accepted_by_name_while_it_is_valid_and_as_it_was_seen() {
        let quote = |open| ToAccept { number: "Q-7".to_owned(), open, valid_until: day("2026-03-18"), version: 100 };
        let said = |open, name: &str, seen, today| {
            let blockers = check_accept(&quote(open), name, seen, day(today));
            blockers.into_iter().map(|blocker| format!("{}: {}", blocker.field, blocker.sentence)).collect::<Vec<_>>()
        };
        assert_eq!(said(true, " Ann Brook ", 100, "2026-03-18"), [""; 0]);
        assert_eq!(said(true, "王芳", 100, "2026-03-18"), [""; 0]);
        for name in ["", "  ", "7", "A", "Ann\nBrook", &"A".repeat(81)] {
            assert_eq!(
                said(true, name, 100, "2026-03-18"),
                ["name: Type your name, 80 characters at most."],
                "{name:?}"
            );
        }
        assert_eq!(said(false, "Ann", 100, "2026-03-18"), ["quote: Q-7 has been decided already."]);
        assert_eq!(
            said(true, "Ann", 100, "2026-03-19"),
            ["quote: Q-7 was valid until 18 Mar 2026. Ask for a new one."]
        );
        assert_eq!(
            said(true, "Ann", 101, "2026-03-18"),
            ["quote: Q-7 has changed since you opened it. Look at it again, then accept it."]
        );
    }

    #[test]
    fn an_order_is_what_was_accepted_or_someone_looks_at_it() {
        let line = |item, quantity, net| (ItemId(item), Quantity::from_whole(quantity), Money(net));
        let offered = [line(1, 4, 23_600), line(2, 1, 1_800)];
        assert_eq!(SinceAccepted::of(&offered, &offered), SinceAccepted::AsOffered);
        for other in [
            vec![line(1, 5, 29_500), line(2, 1, 1_800)],
            vec![line(1, 4, 23_601), line(2, 1, 1_800)],
            vec![line(3, 4, 23_600), line(2, 1, 1_800)],
            vec![line(1, 4, 23_600)],
            vec![line(1, 0, 23_600), line(2, 1, 1_800)],
        ] {
            let since = SinceAccepted::of(&offered, &other);
            assert!(since == SinceAccepted::Changed && since.hinders().is_some(), "{other:?}");
        }
        let nothing = [line(1, 0, 23_600), line(2, 0, 1_800)];
        assert_eq!(SinceAccepted::of(&offered, &nothing), SinceAccepted::GivenUp);
    }

    #[test]
    fn a_link_works_until_its_moment_and_not_once_it_is_ended() {
        let at = |text: &str| text.parse::<DateTime<Utc>>().unwrap();
        let made = at("2026-03-18T10:00:00Z");
        assert_eq!(link_expires(made, 14), Ok(at("2026-04-01T10:00:00Z")));
        assert!(
            link_expires(made, 0).is_err() && link_expires(made, 91).is_err() && link_expires(made, u64::MAX).is_err()
        );
        let expires = at("2026-04-01T10:00:00Z");
        assert_eq!(LinkState::at(at("2026-04-01T09:59:59Z"), expires, false), LinkState::Works);
        assert_eq!(LinkState::at(expires, expires, false), LinkState::Expired);
        assert_eq!(LinkState::at(made, expires, true), LinkState::Ended);
    }
}
