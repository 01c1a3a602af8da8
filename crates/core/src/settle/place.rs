//! Places of money and ways of paying: data, not code.

use serde::{Deserialize, Serialize};

use crate::accounts::{Account, AccountMap, Purpose, may_lead};
use crate::money::Currency;

/// What kind of place money lies in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum PlaceKind {
    /// An account at a bank.
    Bank,
    /// Notes and coins.
    Drawer,
    /// Checks that were not taken to the bank yet.
    ChecksInHand,
    /// Card payments that were not paid out yet.
    CardClearing,
}

impl PlaceKind {
    /// Every kind.
    pub const ALL: [Self; 4] = [Self::Bank, Self::Drawer, Self::ChecksInHand, Self::CardClearing];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Bank => "bank",
            Self::Drawer => "drawer",
            Self::ChecksInHand => "checks_in_hand",
            Self::CardClearing => "card_clearing",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }

    /// What a ledger line on such a place is for. *Source: postings.md, the chart.*
    pub const fn purpose(self) -> Purpose {
        match self {
            Self::Bank => Purpose::Bank,
            Self::Drawer | Self::ChecksInHand => Purpose::InHand,
            Self::CardClearing => Purpose::CardClearing,
        }
    }
}

/// A place money lies in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MoneyPlace {
    /// Its code.
    pub code: String,
    /// Its name.
    pub name: String,
    /// What kind of place.
    pub kind: PlaceKind,
    /// The ledger account of what lies there.
    pub account: Account,
    /// The currency it is kept in; none where it takes any.
    pub currency: Option<Currency>,
}

/// Whether a place of money can be added so: named, on an account that may carry it, a bank account on one of its own. `shared` is a
/// place that lies on the account already; `carries` is what else the account carries.
///
/// # Errors
/// The field and what to write instead.
pub fn check_place(
    (name, method): (&str, &str),
    (kind, account): (PlaceKind, &Account),
    shared: Option<(&str, PlaceKind)>,
    (map, carries): (&AccountMap, &[Purpose]),
) -> Result<(), (&'static str, String)> {
    check_named("name", name)?;
    check_named("method", method)?;
    if kind == PlaceKind::CardClearing {
        let sentence = "Captured cards lie in one place, and it is there. Choose another kind.";
        return Err(("kind", sentence.to_owned()));
    }
    // A bank's statement is held against its account: what lies elsewhere stands elsewhere.
    if let Some((other, _)) = shared.filter(|(_, other)| kind == PlaceKind::Bank || *other == PlaceKind::Bank) {
        let sentence = format!("{other} lies on {} {}. Add an account of its own first.", account.number, account.name);
        return Err(("account", sentence));
    }
    may_lead(map, kind.purpose(), account, carries).map_err(|sentence| ("account", sentence))
}

/// Whether a place of money or a way of paying can be called so.
///
/// # Errors
/// The field and what to write instead.
pub fn check_named(field: &'static str, name: &str) -> Result<(), (&'static str, String)> {
    match name.trim().is_empty() || name.chars().count() > 40 {
        true => Err((field, "Write a name of 40 characters at most.".to_owned())),
        false => Ok(()),
    }
}

/// A way of paying: where the money is from then on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Method {
    /// Its code, as kept on receipts.
    pub code: String,
    /// As people say it.
    pub name: String,
    /// Where the money is.
    pub place: MoneyPlace,
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::accounts::AccountType;

    #[test]
    fn a_bank_account_has_an_account_of_its_own() {
        let map = AccountMap(Vec::new());
        let account =
            |account_type| Account { number: "31100".to_owned(), name: "Bank, pounds".to_owned(), account_type };
        let asset = account(AccountType::Asset);
        let check = |name: &str, kind, account: &Account, shared, carries: &[Purpose]| {
            check_place((name, "transfer in pounds"), (kind, account), shared, (&map, carries))
                .map_err(|(field, _)| field)
        };
        assert_eq!(check("Bank, pounds", PlaceKind::Bank, &asset, None, &[]), Ok(()));
        assert_eq!(check("Bank, pounds", PlaceKind::Bank, &asset, None, &[Purpose::Bank]), Ok(()));
        assert_eq!(check(" ", PlaceKind::Bank, &asset, None, &[]), Err("name"));
        assert_eq!(check(&"x".repeat(41), PlaceKind::Bank, &asset, None, &[]), Err("name"));
        assert_eq!(check("Cards", PlaceKind::CardClearing, &asset, None, &[]), Err("kind"));
        let bank = Some(("Bank", PlaceKind::Bank));
        assert_eq!(check("Bank, pounds", PlaceKind::Bank, &asset, bank, &[]), Err("account"));
        assert_eq!(check("Drawer", PlaceKind::Drawer, &asset, bank, &[]), Err("account"));
        let checks = Some(("Checks", PlaceKind::ChecksInHand));
        assert_eq!(check("Bank, pounds", PlaceKind::Bank, &asset, checks, &[]), Err("account"));
        assert_eq!(check("Drawer", PlaceKind::Drawer, &asset, checks, &[Purpose::InHand]), Ok(()));
        assert_eq!(check("Bank, pounds", PlaceKind::Bank, &account(AccountType::Revenue), None, &[]), Err("account"));
        assert_eq!(check("Drawer", PlaceKind::Drawer, &asset, None, &[Purpose::Receivable]), Err("account"));
        assert!(
            check_place(("Bank", ""), (PlaceKind::Bank, &asset), None, (&map, &[]))
                .is_err_and(|(field, _)| field == "method")
        );
    }
}
