//! Setting up Marram Hive Supply: accounts, taxes, rates, customers, items, first stock.

use chrono::NaiveDate;
use till_core::accounts::{AccountType, Purpose};
use till_core::fixed::{ExchangeRate, Quantity, Rate};
use till_core::ids::{CustomerId, ItemId};
use till_core::money::{Currency, Money};
use till_core::tax::{TaxCategory, TaxComputed};
use till_core::treatment::Treatment;
use till_store::customers::NewCustomer;
use till_store::goods_settings::TreatmentCode;
use till_store::items::NewItem;
use till_store::setup::{NewAccount, NewCompany};
use till_store::{Result, Store, StoreError, Writing, customers, goods_settings, items, rules, setup, starting};

use crate::catalogue::{CUSTOMERS, ITEMS};
use crate::staff::{INES, SANNA, at_work};
use crate::{BUSINESS_DATE, FIRST_DAY};

/// Ids of what was set up.
pub(crate) struct People {
    pub(crate) customers: Vec<CustomerId>,
    pub(crate) items: Vec<ItemId>,
}

impl People {
    pub(crate) fn customer(&self, number: &str) -> Result<CustomerId> {
        let position = CUSTOMERS.iter().position(|customer| customer.number == number);
        position
            .and_then(|position| self.customers.get(position))
            .copied()
            .ok_or_else(|| StoreError::Corrupt(format!("no customer {number}")))
    }

    pub(crate) fn item(&self, code: &str) -> Result<ItemId> {
        let position = ITEMS.iter().position(|item| item.0 == code);
        position
            .and_then(|position| self.items.get(position))
            .copied()
            .ok_or_else(|| StoreError::Corrupt(format!("no item {code}")))
    }
}

/// Sales by item class, beside the chart every company begins with.
const ACCOUNTS: &[NewAccount<'static>] = &[
    NewAccount {
        number: "61100",
        name: "Sales, woodenware",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("woodenware"))],
    },
    NewAccount {
        number: "61200",
        name: "Sales, wax",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("wax"))],
    },
    NewAccount {
        number: "61300",
        name: "Sales, jars",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("jars"))],
    },
    NewAccount {
        number: "61400",
        name: "Sales, tools and books",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("tools")), (Purpose::Revenue, Some("books"))],
    },
    NewAccount {
        number: "61500",
        name: "Sales, clothing",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("clothing"))],
    },
    NewAccount {
        number: "61600",
        name: "Sales, feed",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("feed"))],
    },
    NewAccount {
        number: "61800",
        name: "Services",
        account_type: AccountType::Revenue,
        serves: &[(Purpose::Revenue, Some("service"))],
    },
];

fn corrupt(error: impl ToString) -> StoreError {
    StoreError::Corrupt(error.to_string())
}

/// Settings, numbers, periods, accounts, taxes and exchange rates, and nothing else.
///
/// # Errors
/// Where the books are set up already.
pub async fn set_up(writing: &mut Writing<'_>, business_date: NaiveDate) -> Result<()> {
    let base = Currency::of("EUR").map_err(corrupt)?;
    setup::company(
        writing,
        &NewCompany {
            name: "Marram Hive Supply".to_owned(),
            base,
            business_date: Some(business_date),
            tax_computed: TaxComputed::PerDocument,
        },
    )
    .await?;
    for (kind, prefix, first) in [
        ("quote", "Q-", 301),
        ("call_off", "K-", 21),
        ("order", "O-", 1841),
        ("shipment", "S-", 4201),
        ("invoice", "I-", 3107),
        ("credit_memo", "CM-", 61),
        ("receipt", "C-", 512),
        ("container_return", "CR-", 31),
        ("opening", "OB-", 1),
        ("return", "RA-", 14),
        ("estimate", "XR-", 3),
        ("return_accrual", "AR-", 1),
        ("bank_statement", "BS-", 1),
        ("bank_slip", "DS-", 8),
        ("deposit", "D-", 41),
        ("deposit_end", "DE-", 7),
        ("refund", "RF-", 1),
        ("prepayment_invoice", "P-", 18),
        ("payment_request", "PR-", 4),
        ("card_authorization", "CA-", 12),
        ("card_return", "CB-", 2),
        ("card_payout", "CP-", 3),
        ("entry", "E-", 1),
    ] {
        setup::number_range(writing, kind, prefix, first).await?;
    }
    let first_month = date("2025-09-01")?;
    setup::months(writing, first_month, date("2026-12-31")?).await?;
    starting::chart(writing).await?;
    for account in ACCOUNTS {
        setup::account(writing, account).await?;
    }
    setup::money_places(writing).await?;
    for (code, name, category, percent) in [
        ("S23", "Standard rate", TaxCategory::S, "23"),
        ("S135", "Reduced rate", TaxCategory::S, "13.5"),
        ("Z0", "Zero rate", TaxCategory::Z, "0"),
        ("AE", "Reverse charge", TaxCategory::AE, "0"),
        ("K0", "Supply within the union", TaxCategory::K, "0"),
        ("G0", "Export", TaxCategory::G, "0"),
        ("E0", "Exempt", TaxCategory::E, "0"),
        ("O0", "No sale: owed back", TaxCategory::O, "0"),
    ] {
        let rate = Rate::from_percent(percent).map_err(corrupt)?;
        setup::tax_code(writing, code, name, category, first_month, rate).await?;
    }
    for (treatment, code) in [
        (Treatment::Exempt, "E0"),
        (Treatment::ReverseCharge, "AE"),
        (Treatment::Union, "K0"),
        (Treatment::Export, "G0"),
    ] {
        let chosen = TreatmentCode { treatment, tax_code: Some(code.to_owned()) };
        goods_settings::set_treatment(writing, &chosen).await?;
    }
    for (currency, from, rate) in [
        ("GBP", "2025-09-01", "1.158"),
        ("GBP", "2025-12-01", "1.164"),
        ("GBP", "2026-02-01", "1.171"),
        ("GBP", "2026-03-16", "1.169"),
        ("USD", "2025-09-01", "0.921"),
        ("USD", "2026-01-01", "0.914"),
        ("USD", "2026-03-01", "0.908"),
    ] {
        let currency = Currency::of(currency).map_err(corrupt)?;
        let rate: ExchangeRate = rate.parse().map_err(corrupt)?;
        setup::exchange_rate(writing, currency, date(from)?, rate).await?;
    }
    Ok(())
}

pub(crate) fn date(text: &str) -> Result<NaiveDate> {
    text.parse().map_err(corrupt)
}

pub(crate) async fn build(store: &Store) -> Result<People> {
    crate::staff::add(store, FIRST_DAY).await?;
    store
        .change(&at_work(SANNA, FIRST_DAY), None, async |writing| {
            set_up(writing, FIRST_DAY).await?;
            crate::staff::set_limits(writing).await?;
            let mut people = (Vec::new(), Vec::new());
            for customer in CUSTOMERS {
                let id = customers::add(
                    writing,
                    &NewCustomer {
                        number: customer.number,
                        name: customer.name,
                        class: customer.class,
                        address: customer.address,
                        country: customer.country,
                        tax_id: customer.tax_id,
                        currency: Currency::of(customer.currency).map_err(corrupt)?,
                        terms: (customer.terms)(),
                        // Limits and stops are set when the history has been played.
                        credit_limit: None,
                        stop_reason: None,
                        needs_order_number: customer.needs_order_number,
                    },
                )
                .await?;
                if customer.treatment != Treatment::Standard {
                    tax_ship_to(writing, id, customer.treatment).await?;
                }
                people.0.push(id);
            }
            let rules = rules::load(writing).await?;
            for (code, name, kind, class, unit, price, tax_code, cost) in ITEMS {
                let list_price = price.parse().map_err(corrupt)?;
                let item = items::add(writing, &NewItem { code, name, kind: *kind, class, unit, list_price, tax_code })
                    .await?;
                people.1.push(item);
                if *cost > 0 {
                    let quantity = if *cost > 50_000 { 9 } else { 420 };
                    items::take_in(
                        writing,
                        &rules,
                        item,
                        Quantity::from_whole(quantity),
                        Money(cost * quantity),
                        FIRST_DAY,
                    )
                    .await?;
                }
            }
            Ok(people)
        })
        .await
        .map(|(customers, items)| People { customers, items })
}

/// Says how deliveries to a customer's main ship-to are taxed.
async fn tax_ship_to(writing: &mut Writing<'_>, id: CustomerId, treatment: Treatment) -> Result<()> {
    let mut ship_to = customers::ship_tos(writing, id).await?.remove(0);
    ship_to.taxed.treatment = treatment;
    customers::set_ship_to(writing, id, &ship_to).await?;
    Ok(())
}

/// Closes the months before the last one, sets credit limits, and puts on hold who is.
pub(crate) async fn close_months(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            setup::move_business_date(writing, BUSINESS_DATE).await?;
            for month in ["2025-09-01", "2025-10-01", "2025-11-01", "2025-12-01", "2026-01-01", "2026-02-01"] {
                setup::set_period(writing, date(month)?, false).await?;
            }
            let rules = rules::load(writing).await?;
            for customer in CUSTOMERS {
                let id = people.customer(customer.number)?;
                if let Some(limit) = customer.limit {
                    let mut form = customers::form(writing, rules.base, id).await?;
                    form.credit_limit = rules.base.format(Money(limit));
                    let version = customers::view(writing, id).await?.version;
                    customers::save(writing, &rules, Some((id, version)), &form).await?;
                }
                if let Some(reason) = customer.stop_reason {
                    let version = customers::view(writing, id).await?.version;
                    customers::put_on_stop(writing, id, version, reason).await?;
                }
            }
            Ok(())
        })
        .await
}
