//! # till-demo: Marram Hive Supply
//!
//! An invented wholesaler of beekeeping goods on an invented coast, with the half year before
//! 18 March 2026. Everything in it comes from the operations the application itself uses, run
//! day by day with the business date moving along; no row is written by hand. The same seed
//! gives the same books.

mod bank;
mod billing;
mod cards;
mod catalogue;
mod company;
mod deposits;
mod goods;
mod history;
mod prepayments;
mod returns;
mod special;
mod staff;

use chrono::NaiveDate;
use till_processor::book::Book;
use till_store::{Result, Store};

pub use bank::next_statement;
pub use company::set_up;
pub use staff::{Member, STAFF, add as add_staff};

/// The day the demo stands still on.
pub const BUSINESS_DATE: NaiveDate = match NaiveDate::from_ymd_opt(2026, 3, 18) {
    Some(date) => date,
    None => NaiveDate::MIN,
};

/// The first day of its books.
pub const FIRST_DAY: NaiveDate = match NaiveDate::from_ymd_opt(2025, 9, 15) {
    Some(date) => date,
    None => NaiveDate::MIN,
};

/// Builds the demo company in empty books. Returns what its simulated card processor knows.
///
/// # Errors
/// Where the books are set up already, or an operation is refused.
pub async fn build(store: &Store) -> Result<Book> {
    let people = company::build(store).await?;
    billing::by_mail(store, &people).await?;
    history::run(store, &people).await?;
    special::run(store, &people).await?;
    bank::winter(store).await?;
    company::close_months(store, &people).await?;
    goods::set_up(store, &people).await?;
    goods::cases(store, &people).await?;
    billing::habits(store, &people).await?;
    billing::cases(store, &people).await?;
    deposits::run(store, &people).await?;
    prepayments::run(store, &people).await?;
    returns::run(store, &people).await?;
    let book = cards::run(store, &people).await?;
    bank::run(store, &people).await?;
    Ok(book)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The same seed gives the same books: two demos agree to the cent.
    #[tokio::test]
    async fn the_demo_is_the_same_every_time() {
        let mut balances = Vec::new();
        for _ in 0..2 {
            let folder = tempfile::tempdir().unwrap();
            let store = Store::open(&folder.path().join("demo.db")).await.unwrap();
            build(&store).await.unwrap();
            let mut connection = store.read().await.unwrap();
            let balance = till_store::ledger::trial_balance(&mut connection, BUSINESS_DATE).await.unwrap();
            let sheet = till_store::day_sheet::day_sheet(&mut connection, None).await.unwrap();
            balances.push((balance, sheet.items));
        }
        assert_eq!(balances[0], balances[1]);
    }

    /// The demo is proved like any other books, and has what its users are to find in it.
    #[tokio::test]
    async fn the_demo_holds_and_has_work_to_do() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("demo.db")).await.unwrap();
        build(&store).await.unwrap();
        let mut connection = store.read().await.unwrap();
        let verification = till_store::verify::verify(&mut connection).await.unwrap();
        let broken: Vec<_> = verification.proofs.iter().filter(|proof| !proof.holds).collect();
        assert!(verification.holds, "{broken:#?}");
        let sheet = till_store::day_sheet::day_sheet(&mut connection, None).await.unwrap();
        use till_core::day_sheet::Work;
        for work in [
            Work::Stopped,
            Work::MoneyLyingStill,
            Work::ReadyToGo,
            Work::ToBill,
            Work::Returned,
            Work::Late,
            Work::OrdersToFinish,
        ] {
            assert!(sheet.items.iter().any(|item| item.work == work), "nothing of {work:?}");
        }
        assert_eq!(sheet.business_date, BUSINESS_DATE);
        let orders = till_store::orders::list(
            &mut connection,
            &till_store::orders::OrderFilter { limit: 1000, ..Default::default() },
        )
        .await
        .unwrap();
        use till_core::order::OrderState;
        for state in [OrderState::Draft, OrderState::Open, OrderState::Filled, OrderState::Closed] {
            assert!(orders.orders.iter().any(|order| order.state == state), "no order is {state:?}");
        }
    }
}
