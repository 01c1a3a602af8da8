//! The chart of accounts and the account map.

use actix_web::web::{Data, Path};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_store::Store;
use till_store::chart::{self, ChartView, NewChartAccount, NewMapRow};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(view_chart).service(add_account).service(rename_account).service(lead);
}

/// The chart of accounts, and which account each purpose leads to.
#[utoipa::path(responses((status = 200, body = ChartView)))]
#[get("/chart")]
pub(super) async fn view_chart(store: Data<Store>) -> Answer<ChartView> {
    Ok(Json(chart::view(&mut *store.read().await?).await?))
}

/// Adds an account.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ChartView), (status = 422, body = Problem))
)]
#[post("/chart/accounts")]
pub(super) async fn add_account(store: Data<Store>, change: Change, new: Json<NewChartAccount>) -> Answer<ChartView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            chart::add(writing, &new).await?;
            chart::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

/// Another name of an account.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Rename {
    /// The name.
    name: String,
}

/// Gives an account another name.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ChartView), (status = 422, body = Problem))
)]
#[put("/chart/accounts/{number}")]
pub(super) async fn rename_account(
    store: Data<Store>,
    change: Change,
    number: Path<String>,
    new: Json<Rename>,
) -> Answer<ChartView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            chart::rename(writing, &number, &new.name).await?;
            chart::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

/// Leads a purpose to an account, for any class or for one.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ChartView), (status = 422, body = Problem))
)]
#[put("/chart/map")]
pub(super) async fn lead(store: Data<Store>, change: Change, new: Json<NewMapRow>) -> Answer<ChartView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            chart::lead(writing, &new).await?;
            chart::view(writing).await
        })
        .await?;
    Ok(Json(view))
}
