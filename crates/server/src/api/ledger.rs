//! The ledger, read only: entries are written by documents.

use actix_web::get;
use actix_web::web::{Data, Path, Query};
use chrono::NaiveDate;
use serde::Deserialize;
use till_core::ids::{CustomerId, EntryId};
use till_store::ledger::{self, AccountSheet, Journal, JournalFilter, Liabilities, PostedEntry, TrialBalance};
use till_store::open_items::{OpenItems, open_as_of};
use till_store::{Store, rules, sensible_date};
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::Json;

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(journal)
        .service(trial_balance)
        .service(account)
        .service(entry)
        .service(open_items_as_of)
        .service(liabilities);
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Days {
    /// From this day on.
    #[serde(default)]
    from: Option<NaiveDate>,
    /// Up to this day.
    #[serde(default)]
    to: Option<NaiveDate>,
}

pub(super) fn filter(stretch: &Stretch, days: &Days) -> JournalFilter {
    JournalFilter {
        from: days.from,
        to: days.to,
        search: stretch.search().map(str::to_owned),
        limit: stretch.limit(),
        offset: stretch.offset(),
    }
}

/// The journal, newest entry first.
#[utoipa::path(params(Stretch, Days), responses((status = 200, body = Journal)))]
#[get("/ledger/journal")]
pub(super) async fn journal(store: Data<Store>, stretch: Query<Stretch>, days: Query<Days>) -> Answer<Journal> {
    Ok(Json(ledger::journal(&mut *store.read().await?, &filter(&stretch, &days)).await?))
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct AsOf {
    /// The date; the business date where none is given.
    #[serde(default)]
    pub(super) as_of: Option<NaiveDate>,
}

/// The trial balance as of a date.
#[utoipa::path(params(AsOf), responses((status = 200, body = TrialBalance), (status = 422, body = Problem)))]
#[get("/ledger/trial-balance")]
pub(super) async fn trial_balance(store: Data<Store>, as_of: Query<AsOf>) -> Answer<TrialBalance> {
    let mut connection = store.read().await?;
    let date = as_of.date(&mut connection).await?;
    Ok(Json(ledger::trial_balance(&mut connection, date).await?))
}

impl AsOf {
    pub(super) async fn date(
        &self,
        connection: &mut till_store::Connection,
    ) -> Result<NaiveDate, till_store::StoreError> {
        match self.as_of {
            Some(date) => sensible_date("as_of", date),
            None => Ok(rules::load(connection).await?.business_date),
        }
    }
}

/// The sheet of an account up to a date: its latest lines, with the balance before them.
#[utoipa::path(params(AsOf, Stretch), responses((status = 200, body = AccountSheet), (status = 422, body = Problem)))]
#[get("/ledger/accounts/{number}")]
pub(super) async fn account(
    store: Data<Store>,
    number: Path<String>,
    as_of: Query<AsOf>,
    stretch: Query<Stretch>,
) -> Answer<AccountSheet> {
    let mut connection = store.read().await?;
    let date = as_of.date(&mut connection).await?;
    Ok(Json(ledger::account_sheet(&mut connection, &number, date, stretch.limit()).await?))
}

/// One entry.
#[utoipa::path(responses((status = 200, body = PostedEntry), (status = 404, body = Problem)))]
#[get("/ledger/entries/{id}")]
pub(super) async fn entry(store: Data<Store>, id: Path<i64>) -> Answer<PostedEntry> {
    Ok(Json(ledger::entry(&mut *store.read().await?, EntryId(*id)).await?))
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhoseItems {
    /// Only this customer's.
    #[serde(default)]
    customer: Option<i64>,
}

/// What was open on customer accounts on a day, with its age: only what was applied by then counts.
#[utoipa::path(operation_id = "open_items", params(AsOf, WhoseItems), responses((status = 200, body = OpenItems), (status = 422, body = Problem)))]
#[get("/ledger/open-items")]
pub(super) async fn open_items_as_of(
    store: Data<Store>,
    as_of: Query<AsOf>,
    whose: Query<WhoseItems>,
) -> Answer<OpenItems> {
    let mut connection = store.read().await?;
    let date = as_of.date(&mut connection).await?;
    Ok(Json(open_as_of(&mut connection, whose.customer.map(CustomerId), date).await?))
}

/// What is owed to customers by kind, before and after the movements of a day.
#[utoipa::path(params(AsOf), responses((status = 200, body = Liabilities), (status = 422, body = Problem)))]
#[get("/ledger/liabilities")]
pub(super) async fn liabilities(store: Data<Store>, as_of: Query<AsOf>) -> Answer<Liabilities> {
    let mut connection = store.read().await?;
    let date = as_of.date(&mut connection).await?;
    Ok(Json(ledger::liabilities(&mut connection, date).await?))
}
