//! Accounts and the account map: the code speaks of purposes, the map of accounts.
//!
//! *Source: domain.md section 11 and the chart in postings.md.*
//!
//! ```
//! use till_core::accounts::{Account, AccountMap, AccountRule, AccountType, Purpose};
//! let to = |number: &str, item_class: Option<&str>| AccountRule {
//!     purpose: Purpose::Revenue,
//!     item_class: item_class.map(str::to_owned),
//!     customer_class: None,
//!     account: Account { number: number.to_owned(), name: "Sales".to_owned(), account_type: AccountType::Revenue },
//! };
//! let map = AccountMap(vec![to("61000", None), to("61400", Some("tools"))]);
//! // The most specific row wins; a purpose without a row is an error, never a default.
//! assert_eq!(map.account(Purpose::Revenue, Some("tools"), None).unwrap().number, "61400");
//! assert_eq!(map.account(Purpose::Revenue, Some("feed"), None).unwrap().number, "61000");
//! assert!(map.account(Purpose::Receivable, None, None).is_err());
//! ```

use serde::{Deserialize, Serialize};

/// What kind of account it is; decides where a balance stands in the reports.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum AccountType {
    /// What is owned or owed to us.
    Asset,
    /// What is owed by us.
    Liability,
    /// What belongs to the owners.
    Equity,
    /// What was earned.
    Revenue,
    /// What it cost.
    Expense,
}

impl AccountType {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Asset => "asset",
            Self::Liability => "liability",
            Self::Equity => "equity",
            Self::Revenue => "revenue",
            Self::Expense => "expense",
        }
    }

    /// The type with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Asset, Self::Liability, Self::Equity, Self::Revenue, Self::Expense]
            .into_iter()
            .find(|kind| kind.word() == word)
    }
}

macro_rules! purposes {
    ($($(#[$doc:meta])* $variant:ident $word:literal $kind:ident),+ $(,)?) => {
        /// What a ledger line is for. Each purpose demands an account type.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
        #[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
        #[serde(rename_all = "snake_case")]
        pub enum Purpose { $($(#[$doc])* $variant),+ }

        impl Purpose {
            /// Every purpose.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// The word kept in the database and used in postings.md.
            pub const fn word(self) -> &'static str {
                match self { $(Self::$variant => $word),+ }
            }

            /// The account type it demands.
            pub const fn demands(self) -> AccountType {
                match self { $(Self::$variant => AccountType::$kind),+ }
            }
        }
    };
}

purposes! {
    /// Money at the bank.
    Bank "bank" Asset,
    /// Checks and cash not yet taken to the bank.
    InHand "in_hand" Asset,
    /// What customers owe.
    Receivable "receivable" Asset,
    /// Goods for sale, at cost.
    Inventory "inventory" Asset,
    /// What is owed to suppliers for goods taken in.
    SupplierClearing "supplier_clearing" Liability,
    /// Money that came in without a target.
    Unapplied "unapplied" Liability,
    /// Tax to be paid over, by code.
    TaxPayable "tax_payable" Liability,
    /// Opening balances and earnings of earlier years.
    Equity "equity" Equity,
    /// Sales by item class.
    Revenue "revenue" Revenue,
    /// Freight and fees charged to customers.
    ChargeRevenue "charge_revenue" Revenue,
    /// Cost of the goods that left.
    Cogs "cogs" Expense,
    /// Goods that left and are not billed, where cost follows billing.
    ShippedCost "shipped_cost" Asset,
    /// What counts found too much or too little.
    StockAdjustment "stock_adjustment" Expense,
    /// Returnable packaging owed back.
    ContainerLiability "container_liability" Liability,
    /// Differences between the rate of a document and the rate of its payment.
    FxDifference "fx_difference" Expense,
    /// Card payments the processor has not paid out yet.
    CardClearing "card_clearing" Asset,
    /// Goods that came back and wait for a decision, at cost.
    Inspection "inspection" Asset,
    /// What expected returns will bring back, at cost.
    RightToGoods "right_to_goods" Asset,
    /// What suppliers owe for goods sent back.
    SupplierClaim "supplier_claim" Asset,
    /// What of the receivables is expected to be lost; stands against them.
    Allowance "allowance" Asset,
    /// Revaluation of open items at month end; stands beside them.
    Revaluation "revaluation" Asset,
    /// Shipped and not billed at month end.
    UnbilledAccrual "unbilled_accrual" Asset,
    /// Taken in advance on purpose, before an invoice exists.
    DepositLiability "deposit_liability" Liability,
    /// Billed in advance by prepayment invoices.
    PrepaymentLiability "prepayment_liability" Liability,
    /// Goods received back that are to be credited.
    RefundLiability "refund_liability" Liability,
    /// Balances that a company brings when it begins in the middle of its life.
    Opening "opening" Equity,
    /// Sales taken back and allowances.
    Returns "returns" Revenue,
    /// Given for paying early.
    DiscountAllowed "discount_allowed" Revenue,
    /// Interest, fees charged, deposits kept.
    OtherIncome "other_income" Revenue,
    /// Goods that cannot be sold any more.
    Scrap "scrap" Expense,
    /// What banks and card processors take.
    Fees "fees" Expense,
    /// Bad debts and small differences.
    WriteOff "write_off" Expense,
    /// Change of what is expected to be lost.
    AllowanceExpense "allowance_expense" Expense,
    /// Differences of rates that no payment has settled yet.
    FxUnrealized "fx_unrealized" Expense,
}

impl Purpose {
    /// The purpose with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|purpose| purpose.word() == word)
    }
}

impl Purpose {
    /// As people say it: “accounts receivable”.
    pub fn name(self) -> String {
        match self {
            Self::Receivable => "accounts receivable".to_owned(),
            Self::Cogs => "cost of goods sold".to_owned(),
            Self::FxDifference => "currency differences, realized".to_owned(),
            Self::FxUnrealized => "currency differences, unrealized".to_owned(),
            Self::InHand => "receipts in hand".to_owned(),
            Self::Revenue => "sales".to_owned(),
            Self::ChargeRevenue => "freight and fees charged".to_owned(),
            Self::ShippedCost => "goods shipped, not billed".to_owned(),
            other => other.word().replace('_', " "),
        }
    }

    /// Whether a side ledger is proved against its account: nothing else may stand there then.
    /// *Source: the chart in postings.md, “control”.*
    pub const fn is_control(self) -> bool {
        matches!(
            self,
            Self::Bank
                | Self::InHand
                | Self::Receivable
                | Self::Inventory
                | Self::Unapplied
                | Self::TaxPayable
                | Self::ShippedCost
                | Self::ContainerLiability
                | Self::CardClearing
                | Self::Inspection
                | Self::Allowance
                | Self::Revaluation
                | Self::UnbilledAccrual
                | Self::DepositLiability
                | Self::PrepaymentLiability
                | Self::RefundLiability
        )
    }
}

/// A ledger account.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Account {
    /// Its number, a text: `21000`.
    pub number: String,
    /// Its name.
    pub name: String,
    /// Its type.
    pub account_type: AccountType,
}

/// One row of the account map. An absent class stands for any.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AccountRule {
    /// For which purpose.
    pub purpose: Purpose,
    /// For items of this class.
    pub item_class: Option<String>,
    /// For customers of this class.
    pub customer_class: Option<String>,
    /// The account it leads to.
    pub account: Account,
}

/// Whether an account can be added or renamed so.
///
/// # Errors
/// The field and what to write instead.
pub fn check_account(number: &str, name: &str) -> Result<(), (&'static str, String)> {
    if !(3..=10).contains(&number.len()) || !number.chars().all(|digit| digit.is_ascii_digit()) {
        return Err(("number", "An account has a number of 3 to 10 digits, such as 61400.".to_owned()));
    }
    if name.trim().is_empty() || name.chars().count() > 60 {
        return Err(("name", "Write a name of 60 characters at most.".to_owned()));
    }
    Ok(())
}

/// Whether a purpose may lead to an account: of the type it demands, and where a side ledger is proved against an
/// account, nothing else on it. `carries` is what the account carries for other reasons: lines of entries that were
/// posted, places of money. *Source: domain.md section 11; docs/rules.md.*
///
/// # Errors
/// A sentence that says why not.
pub fn may_lead(map: &AccountMap, purpose: Purpose, account: &Account, carries: &[Purpose]) -> Result<(), String> {
    if account.account_type != purpose.demands() {
        let (is, wanted) = (account.account_type.word(), purpose.demands().word());
        let article = |word: &str| if word.starts_with(['a', 'e']) { "an" } else { "a" };
        return Err(format!(
            "{} {} is {} {is} account; {} goes to {} {wanted} account.",
            account.number,
            account.name,
            article(is),
            purpose.name(),
            article(wanted)
        ));
    }
    let in_map = map.0.iter().filter(|rule| rule.account.number == account.number).map(|rule| rule.purpose);
    let other = in_map.chain(carries.iter().copied()).find(|other| *other != purpose);
    match other.filter(|other| purpose.is_control() || other.is_control()) {
        Some(other) => Err(format!(
            "{} {} carries {}. It is proved line by line, so {} needs an account of its own.",
            account.number,
            account.name,
            other.name(),
            purpose.name()
        )),
        None => Ok(()),
    }
}

/// The account map.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AccountMap(pub Vec<AccountRule>);

/// Why a purpose led to no account.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NoAccount {
    /// No row fits.
    #[error("The account map has no account for {purpose}{classes}. Ask a supervisor to add one.")]
    Missing {
        /// The purpose asked for.
        purpose: &'static str,
        /// “ of item class x”, where one was given.
        classes: String,
    },
    /// The row leads to an account of another type.
    #[error(
        "The account map leads {purpose} to {number} {name}, which is no {wanted} account. Ask a supervisor to correct it."
    )]
    WrongType {
        /// The purpose asked for.
        purpose: &'static str,
        /// The account's number.
        number: String,
        /// The account's name.
        name: String,
        /// The type demanded.
        wanted: &'static str,
    },
}

impl AccountMap {
    /// Whether a side ledger is proved against an account: documents write there, nobody by hand.
    pub fn is_control(&self, number: &str) -> bool {
        self.0.iter().any(|rule| rule.purpose.is_control() && rule.account.number == number)
    }

    /// The account for a line: most specific row first, item class before customer class.
    ///
    /// # Errors
    /// [`NoAccount`] where no row fits, or the row's account has the wrong type: never a default.
    pub fn account(
        &self,
        purpose: Purpose,
        item_class: Option<&str>,
        customer_class: Option<&str>,
    ) -> Result<&Account, NoAccount> {
        let fits = |rule_class: &Option<String>, class: Option<&str>| {
            rule_class.as_deref().is_none_or(|wanted| Some(wanted) == class)
        };
        let rule = self
            .0
            .iter()
            .filter(|rule| {
                rule.purpose == purpose
                    && fits(&rule.item_class, item_class)
                    && fits(&rule.customer_class, customer_class)
            })
            .max_by_key(|rule| (rule.item_class.is_some(), rule.customer_class.is_some()))
            .ok_or_else(|| NoAccount::Missing {
                purpose: purpose.word(),
                classes: item_class.map(|class| format!(" of item class {class}")).unwrap_or_default(),
            })?;
        if rule.account.account_type != purpose.demands() {
            return Err(NoAccount::WrongType {
                purpose: purpose.word(),
                number: rule.account.number.clone(),
                name: rule.account.name.clone(),
                wanted: purpose.demands().word(),
            });
        }
        Ok(&rule.account)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule(item: Option<&str>, customer: Option<&str>, number: &str) -> AccountRule {
        AccountRule {
            purpose: Purpose::Revenue,
            item_class: item.map(str::to_owned),
            customer_class: customer.map(str::to_owned),
            account: Account {
                number: number.to_owned(),
                name: "Sales".to_owned(),
                account_type: if number.starts_with('6') { AccountType::Revenue } else { AccountType::Asset },
            },
        }
    }

    #[test]
    fn the_most_specific_row_wins_and_item_class_comes_first() {
        let map = AccountMap(vec![
            rule(None, None, "61000"),
            rule(None, Some("abroad"), "61900"),
            rule(Some("wax"), None, "61200"),
            rule(Some("wax"), Some("abroad"), "61290"),
        ]);
        let number = |item, customer| map.account(Purpose::Revenue, item, customer).unwrap().number.as_str();
        assert_eq!(number(None, None), "61000");
        assert_eq!(number(Some("jars"), Some("abroad")), "61900");
        assert_eq!(number(Some("wax"), Some("home")), "61200");
        assert_eq!(number(Some("wax"), Some("abroad")), "61290");
    }

    #[test]
    fn a_missing_or_wrong_account_is_never_a_default() {
        let map = AccountMap(vec![rule(Some("wax"), None, "11000")]);
        assert!(matches!(map.account(Purpose::Revenue, Some("jars"), None), Err(NoAccount::Missing { .. })));
        assert!(matches!(map.account(Purpose::Revenue, Some("wax"), None), Err(NoAccount::WrongType { .. })));
    }

    #[test]
    fn an_account_has_digits_and_a_name() {
        let field = |number, name| check_account(number, name).map_err(|(field, _)| field);
        assert_eq!(field("61400", "Sales of tools"), Ok(()));
        assert_eq!((field("61", "Sales"), field("6140x", "Sales")), (Err("number"), Err("number")));
        assert_eq!((field("614", " "), field("614", &"x".repeat(61))), (Err("name"), Err("name")));
    }

    /// Two kinds of sales may share an account; receivables share theirs with nothing, in the map or in the books.
    #[test]
    fn what_is_proved_has_an_account_of_its_own() {
        let map = AccountMap(vec![rule(None, None, "61000")]);
        let account =
            |number: &str, account_type| Account { number: number.to_owned(), name: "Some".to_owned(), account_type };
        let sales = account("61000", AccountType::Revenue);
        assert_eq!(may_lead(&map, Purpose::Returns, &sales, &[]), Ok(()));
        assert_eq!(may_lead(&map, Purpose::Revenue, &sales, &[Purpose::Revenue]), Ok(()));
        assert!(may_lead(&map, Purpose::Receivable, &sales, &[]).unwrap_err().contains("is a revenue account"));
        let owed = account("21000", AccountType::Asset);
        assert_eq!(may_lead(&map, Purpose::Receivable, &owed, &[]), Ok(()));
        let why = may_lead(&map, Purpose::Receivable, &owed, &[Purpose::RightToGoods]).unwrap_err();
        assert!(why.contains("needs an account of its own"), "{why}");
        assert!(may_lead(&map, Purpose::RightToGoods, &owed, &[Purpose::Receivable]).is_err());
    }
}
