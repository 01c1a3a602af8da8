//! Beginning new books: the company, a chart of accounts, numbers from one, a year of periods.
//!
//! The chart is that of the team's postings page. Tax codes are not made up: which rates hold
//! is the company's country's to say.

use chrono::{Datelike, NaiveDate};
use till_core::accounts::{AccountType, Purpose};
use till_core::money::Currency;
use till_core::people::{LimitKind, Role, check_name};
use till_core::tax::TaxComputed;

use crate::settings::{self, NewLimit};
use crate::setup::{self, NewAccount, NewCompany};
use crate::writing::Writing;
use crate::{Result, StoreError};

/// A row of the chart: number, name, type, and the purposes that lead to it.
pub type Row = (&'static str, &'static str, AccountType, &'static [(Purpose, Option<&'static str>)]);

/// The chart new books begin with: every purpose has its account.
pub const CHART: &[Row] = &[
    ("11000", "Inventory, sellable", AccountType::Asset, &[(Purpose::Inventory, None)]),
    ("12000", "Inspection and quarantine", AccountType::Asset, &[(Purpose::Inspection, None)]),
    ("13000", "Goods shipped, not billed", AccountType::Asset, &[(Purpose::ShippedCost, None)]),
    ("13500", "Goods customers may send back", AccountType::Asset, &[(Purpose::RightToGoods, None)]),
    ("14000", "Claims on suppliers", AccountType::Asset, &[(Purpose::SupplierClaim, None)]),
    ("21000", "Accounts receivable", AccountType::Asset, &[(Purpose::Receivable, None)]),
    ("21500", "Allowance for expected loss", AccountType::Asset, &[(Purpose::Allowance, None)]),
    ("21800", "Revaluation of open items", AccountType::Asset, &[(Purpose::Revaluation, None)]),
    ("22000", "Unbilled receivables", AccountType::Asset, &[(Purpose::UnbilledAccrual, None)]),
    ("25000", "Customer deposits", AccountType::Liability, &[(Purpose::DepositLiability, None)]),
    ("26000", "Prepayments billed", AccountType::Liability, &[(Purpose::PrepaymentLiability, None)]),
    ("27000", "Unapplied", AccountType::Liability, &[(Purpose::Unapplied, None)]),
    ("28000", "Returned goods to be credited", AccountType::Liability, &[(Purpose::RefundLiability, None)]),
    ("29000", "Containers owed back", AccountType::Liability, &[(Purpose::ContainerLiability, None)]),
    ("31000", "Bank", AccountType::Asset, &[(Purpose::Bank, None)]),
    ("32000", "Receipts in hand", AccountType::Asset, &[(Purpose::InHand, None)]),
    ("33000", "Card clearing", AccountType::Asset, &[(Purpose::CardClearing, None)]),
    ("41000", "Tax payable", AccountType::Liability, &[(Purpose::TaxPayable, None)]),
    ("45000", "Suppliers, goods received", AccountType::Liability, &[(Purpose::SupplierClearing, None)]),
    (
        "50000",
        "Opening balances and retained earnings",
        AccountType::Equity,
        &[(Purpose::Equity, None), (Purpose::Opening, None)],
    ),
    ("61000", "Sales", AccountType::Revenue, &[(Purpose::Revenue, None)]),
    ("64000", "Freight and handling charged", AccountType::Revenue, &[(Purpose::ChargeRevenue, None)]),
    ("65000", "Sales returns and allowances", AccountType::Revenue, &[(Purpose::Returns, None)]),
    ("66000", "Early-payment discounts", AccountType::Revenue, &[(Purpose::DiscountAllowed, None)]),
    ("69000", "Other income, interest, fees charged", AccountType::Revenue, &[(Purpose::OtherIncome, None)]),
    ("71000", "Cost of goods sold", AccountType::Expense, &[(Purpose::Cogs, None)]),
    ("72000", "Scrap and damage", AccountType::Expense, &[(Purpose::Scrap, None)]),
    ("73000", "Stock adjustments", AccountType::Expense, &[(Purpose::StockAdjustment, None)]),
    ("81000", "Bank and card fees", AccountType::Expense, &[(Purpose::Fees, None)]),
    ("82000", "Bad debts and small differences", AccountType::Expense, &[(Purpose::WriteOff, None)]),
    ("83000", "Change in allowance", AccountType::Expense, &[(Purpose::AllowanceExpense, None)]),
    ("91000", "Currency differences, realized", AccountType::Expense, &[(Purpose::FxDifference, None)]),
    ("92000", "Currency differences, unrealized", AccountType::Expense, &[(Purpose::FxUnrealized, None)]),
];

/// Writes the chart.
///
/// # Errors
/// Where an account is there already.
pub async fn chart(writing: &mut Writing<'_>) -> Result<()> {
    for (number, name, account_type, serves) in CHART {
        setup::account(writing, &NewAccount { number, name, account_type: *account_type, serves }).await?;
    }
    Ok(())
}

/// Begins new books.
///
/// # Errors
/// A name or currency that cannot be, or books that were begun already.
pub async fn begin(writing: &mut Writing<'_>, name: &str, currency: &str, today: NaiveDate) -> Result<()> {
    let name = check_name(name).map_err(|why| StoreError::invalid("company", why))?;
    let base = Currency::of(currency.trim())
        .map_err(|_| StoreError::invalid("currency", "Write a currency by its three letters, such as EUR."))?;
    let company = NewCompany { name, base, business_date: None, tax_computed: TaxComputed::PerDocument };
    setup::company(writing, &company).await?;
    for (kind, prefix) in [
        ("quote", "Q-"),
        ("call_off", "K-"),
        ("order", "O-"),
        ("shipment", "S-"),
        ("invoice", "I-"),
        ("receipt", "C-"),
        ("credit_memo", "CM-"),
        ("container_return", "CR-"),
        ("opening", "OB-"),
        ("return", "RA-"),
        ("estimate", "XR-"),
        ("return_accrual", "AR-"),
        ("bank_statement", "BS-"),
        ("bank_slip", "DS-"),
        ("deposit", "D-"),
        ("deposit_end", "DE-"),
        ("refund", "RF-"),
        ("prepayment_invoice", "P-"),
        ("payment_request", "PR-"),
        ("card_authorization", "CA-"),
        ("card_return", "CB-"),
        ("card_payout", "CP-"),
        ("entry", "E-"),
    ] {
        setup::number_range(writing, kind, prefix, 1).await?;
    }
    let day = |month, day| NaiveDate::from_ymd_opt(today.year(), month, day).unwrap_or(today);
    setup::months(writing, day(1, 1), day(12, 31)).await?;
    chart(writing).await?;
    setup::money_places(writing).await?;
    // Somebody has to be able to work before anyone has thought of limits, alone if need be. An administrator sets them.
    for kind in LimitKind::ALL {
        settings::set_limit(writing, &NewLimit { role: Role::Lead, kind, amount: None }).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The rows of postings.md: every purpose of the code leads to one account, of the type it demands.
    #[test]
    fn every_purpose_has_one_account_of_its_type() {
        for purpose in Purpose::ALL {
            let serving: Vec<_> =
                CHART.iter().filter(|(.., serves)| serves.iter().any(|(served, _)| served == purpose)).collect();
            let [(_, _, account_type, _)] = serving.as_slice() else { panic!("{purpose:?}: {serving:?}") };
            assert_eq!(*account_type, purpose.demands(), "{purpose:?}");
        }
    }
}
