//! Beginning new books: the company, a chart of accounts, numbers from one, a year of periods.
//!
//! The chart is that of the team's postings page. Tax codes are not made up: which rates hold
//! is the company's country's to say.

use chrono::{Datelike, NaiveDate};
use till_core::accounts::{AccountType, Purpose};
use till_core::money::Currency;
use till_core::people::check_name;
use till_core::tax::TaxComputed;

use crate::setup::{self, NewAccount, NewCompany};
use crate::writing::Writing;
use crate::{Result, StoreError};

type Row = (&'static str, &'static str, AccountType, &'static [(Purpose, Option<&'static str>)]);

const CHART: &[Row] = &[
    ("1000", "Bank", AccountType::Asset, &[(Purpose::Bank, None)]),
    ("1010", "Receipts in hand", AccountType::Asset, &[(Purpose::InHand, None)]),
    ("1100", "Accounts receivable", AccountType::Asset, &[(Purpose::Receivable, None)]),
    ("1300", "Inventory, sellable", AccountType::Asset, &[(Purpose::Inventory, None)]),
    ("1320", "Goods shipped, not billed", AccountType::Asset, &[(Purpose::ShippedCost, None)]),
    ("2000", "Suppliers, goods received", AccountType::Liability, &[(Purpose::SupplierClearing, None)]),
    ("2120", "Unapplied", AccountType::Liability, &[(Purpose::Unapplied, None)]),
    ("2200", "Tax payable", AccountType::Liability, &[(Purpose::TaxPayable, None)]),
    ("2300", "Containers owed back", AccountType::Liability, &[(Purpose::ContainerLiability, None)]),
    (
        "3000",
        "Opening balances and retained earnings",
        AccountType::Equity,
        &[(Purpose::Equity, None), (Purpose::Opening, None)],
    ),
    ("4000", "Sales", AccountType::Revenue, &[(Purpose::Revenue, None)]),
    ("4200", "Freight and fees charged", AccountType::Revenue, &[(Purpose::ChargeRevenue, None)]),
    ("5000", "Cost of goods sold", AccountType::Expense, &[(Purpose::Cogs, None)]),
    ("5200", "Stock adjustments", AccountType::Expense, &[(Purpose::StockAdjustment, None)]),
    ("7000", "Currency differences, realised", AccountType::Expense, &[(Purpose::FxDifference, None)]),
];

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
        ("entry", "E-"),
    ] {
        setup::number_range(writing, kind, prefix, 1).await?;
    }
    let day = |month, day| NaiveDate::from_ymd_opt(today.year(), month, day).unwrap_or(today);
    setup::months(writing, day(1, 1), day(12, 31)).await?;
    for (number, name, account_type, serves) in CHART {
        setup::account(writing, &NewAccount { number, name, account_type: *account_type, serves }).await?;
    }
    setup::money_places(writing).await?;
    Ok(())
}
