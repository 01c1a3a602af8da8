//! Settings of goods: warehouses, cost, freight, tax treatments, custom fields, reporting lists.

use actix_web::web::{Data, Path};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::fixed::{ExchangeRate, Rate};
use till_core::marks::OwnField;
use till_core::money::Currency;
use till_core::tax::TaxCategory;
use till_store::goods_settings::{self, GoodsSettings, NewGoodsSettings};
use till_store::marks::{self, NewList};
use till_store::stock::{self, Warehouse};
use till_store::{Store, StoreError, rules, sensible_date, setup};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(view_goods_settings)
        .service(change_goods_settings)
        .service(set_warehouse)
        .service(set_own_field)
        .service(set_reporting_list)
        .service(add_tax_code)
        .service(add_tax_rate)
        .service(add_exchange_rate);
}

/// Settings of goods, and what can be chosen on orders.
#[utoipa::path(responses((status = 200, body = GoodsSettings)))]
#[get("/goods-settings")]
pub(super) async fn view_goods_settings(store: Data<Store>) -> Answer<GoodsSettings> {
    Ok(Json(goods_settings::view(&mut *store.read().await?).await?))
}

/// Changes the settings of goods.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/goods-settings")]
pub(super) async fn change_goods_settings(
    store: Data<Store>,
    change: Change,
    new: Json<NewGoodsSettings>,
) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| goods_settings::change(writing, &new).await).await?;
    Ok(Json(true))
}

/// Adds a warehouse, or changes its name.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/goods-settings/warehouses")]
pub(super) async fn set_warehouse(store: Data<Store>, change: Change, new: Json<Warehouse>) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| stock::set_warehouse(writing, &new).await).await?;
    Ok(Json(true))
}

/// Adds an own field, or changes one.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/goods-settings/own-fields")]
pub(super) async fn set_own_field(store: Data<Store>, change: Change, new: Json<OwnField>) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| marks::set_field(writing, &new).await).await?;
    Ok(Json(true))
}

/// Adds a reporting list, or changes one.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/goods-settings/reporting-lists")]
pub(super) async fn set_reporting_list(store: Data<Store>, change: Change, new: Json<NewList>) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| marks::set_list(writing, &new).await).await?;
    Ok(Json(true))
}

/// A tax code with its first rate.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewTaxCode {
    /// The code.
    code: String,
    /// Its name.
    name: String,
    /// Its category.
    category: TaxCategory,
    /// Its rate in percent.
    rate: String,
    /// From when on; none for the first day of the books.
    #[serde(default)]
    valid_from: Option<NaiveDate>,
}

/// Adds a tax code.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[post("/goods-settings/tax-codes")]
pub(super) async fn add_tax_code(store: Data<Store>, change: Change, new: Json<NewTaxCode>) -> Answer<bool> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let rate = Rate::from_percent(&new.rate).map_err(|error| StoreError::decimal("rate", &error))?;
            let first = rules.periods.0.first().map_or(rules.business_date, |period| period.first);
            let from = new.valid_from.map_or(Ok(first), |date| sensible_date("valid_from", date))?;
            setup::typed_tax_code(writing, &new.code, &new.name, new.category, from, rate).await
        })
        .await?;
    Ok(Json(true))
}

/// Another rate of a tax code, from a day on.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewTaxRate {
    /// In percent, as typed.
    rate: String,
    /// From when on.
    valid_from: NaiveDate,
}

/// Gives a tax code another rate from a day on.
#[utoipa::path(
    params(("code" = String, Path), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[post("/goods-settings/tax-codes/{code}/rates")]
pub(super) async fn add_tax_rate(
    store: Data<Store>,
    change: Change,
    code: Path<String>,
    new: Json<NewTaxRate>,
) -> Answer<bool> {
    let request = change.request(&(&*code, &new.0));
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rate = Rate::from_percent(&new.rate).map_err(|error| StoreError::decimal("rate", &error))?;
            setup::tax_rate(writing, &code, sensible_date("valid_from", new.valid_from)?, rate).await
        })
        .await?;
    Ok(Json(true))
}

/// An exchange rate from a day on.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewExchangeRate {
    /// The currency.
    currency: String,
    /// Base currency for one unit of it.
    rate: String,
    /// From when on; none for the business date.
    #[serde(default)]
    valid_from: Option<NaiveDate>,
}

/// Notes an exchange rate.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[post("/goods-settings/exchange-rates")]
pub(super) async fn add_exchange_rate(store: Data<Store>, change: Change, new: Json<NewExchangeRate>) -> Answer<bool> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let of = Currency::of(new.currency.trim())
                .map_err(|error| StoreError::invalid("currency", error.to_string()))?;
            let rate: ExchangeRate = new.rate.parse().map_err(|error| StoreError::decimal("rate", &error))?;
            let from = new.valid_from.map_or(Ok(rules.business_date), |date| sensible_date("valid_from", date))?;
            setup::typed_exchange_rate(writing, &rules, of, from, rate).await
        })
        .await?;
    Ok(Json(true))
}
