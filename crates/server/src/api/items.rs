//! Items, their stock and their prices.

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::fixed::Quantity;
use till_core::ids::{ItemId, LayerId, PriceListId};
use till_core::money::{Currency, Money};
use till_store::items::{self, IntakeBack, ItemForm, ItemList, ItemView};
use till_store::prices::{self, NewBreak, NewListPrice, NewPromotion, Prices};
use till_store::stock::{self, NewCount, NewExpected};
use till_store::{Store, StoreError, rules, sensible_date};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::customers::Saved;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list_items)
        .service(item)
        .service(add_item)
        .service(change_item)
        .service(take_in)
        .service(reverse_intake)
        .service(count_item)
        .service(expect_goods)
        .service(view_prices)
        .service(add_price_list)
        .service(set_list_price)
        .service(set_break)
        .service(drop_break)
        .service(set_promotion);
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichItems {
    /// Only what is still sold.
    #[serde(default)]
    sold: bool,
}

/// Items by code, with what there is of them.
#[utoipa::path(params(Stretch, WhichItems), responses((status = 200, body = ItemList)))]
#[get("/items")]
pub(super) async fn list_items(
    store: Data<Store>,
    stretch: Query<Stretch>,
    which: Query<WhichItems>,
) -> Answer<ItemList> {
    let found =
        items::list(&mut *store.read().await?, stretch.search(), which.sold, stretch.limit(), stretch.offset()).await?;
    Ok(Json(found))
}

/// One item, with its layers and moves.
#[utoipa::path(responses((status = 200, body = ItemView), (status = 404, body = Problem)))]
#[get("/items/{id}")]
pub(super) async fn item(store: Data<Store>, id: Path<i64>) -> Answer<ItemView> {
    Ok(Json(items::view(&mut *store.read().await?, ItemId(*id)).await?))
}

/// Adds an item.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Saved), (status = 422, body = Problem))
)]
#[post("/items")]
pub(super) async fn add_item(store: Data<Store>, change: Change, new: Json<ItemForm>) -> Answer<Saved> {
    let request = change.request(&new.0);
    let (id, version) =
        store.change(change.actor(), Some(&request), async |writing| items::save(writing, None, &new).await).await?;
    Ok(Json(Saved { id: id.0, version }))
}

/// An item as changed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ChangedItem {
    /// The version seen.
    version: i64,
    /// As typed.
    form: ItemForm,
}

/// Changes an item.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Saved), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/items/{id}")]
pub(super) async fn change_item(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangedItem>,
) -> Answer<Saved> {
    let request = change.request(&new.0);
    let (id, version) = store
        .change(change.actor(), Some(&request), async |writing| {
            items::save(writing, Some((ItemId(*id), new.version)), &new.form).await
        })
        .await?;
    Ok(Json(Saved { id: id.0, version }))
}

/// Goods that came in.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Intake {
    /// Where; none for the company's own warehouse.
    #[serde(default)]
    warehouse: Option<String>,
    /// How much, in stock units, as typed.
    quantity: String,
    /// What all of it cost, in base currency, as typed.
    cost: String,
    /// When; none for the business date.
    #[serde(default)]
    date: Option<NaiveDate>,
}

/// Takes goods into stock.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 422, body = Problem))
)]
#[post("/items/{id}/intakes")]
pub(super) async fn take_in(store: Data<Store>, change: Change, id: Path<i64>, new: Json<Intake>) -> Answer<i64> {
    let request = change.request(&new.0);
    let layer = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let quantity: Quantity = new.quantity.parse().map_err(|error| StoreError::decimal("quantity", &error))?;
            let cost: Money = rules.base.parse(&new.cost).map_err(|error| StoreError::decimal("cost", &error))?;
            let date = new.date.map_or(Ok(rules.business_date), |date| sensible_date("date", date))?;
            let warehouse = new.warehouse.clone().unwrap_or_else(|| rules.warehouse.clone());
            items::take_in_at(writing, &rules, ItemId(*id), &warehouse, quantity, cost, date).await
        })
        .await?;
    Ok(Json(layer.0))
}

/// Reverses a goods receipt of which nothing has left.
#[utoipa::path(
    params(("id" = i64, Path), ("layer" = i64, Path), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/items/{id}/intakes/{layer}/reverse")]
pub(super) async fn reverse_intake(
    store: Data<Store>,
    change: Change,
    at: Path<(i64, i64)>,
    what: Json<IntakeBack>,
) -> Answer<bool> {
    let request = change.request(&(&*at, &what.0));
    let (of, layer) = *at;
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            items::reverse_intake(writing, &rules, (ItemId(of), LayerId(layer)), &what).await
        })
        .await?;
    Ok(Json(true))
}

/// Puts stock right after a count.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Quantity), (status = 422, body = Problem))
)]
#[post("/items/{id}/counts")]
pub(super) async fn count_item(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewCount>,
) -> Answer<Quantity> {
    let request = change.request(&new.0);
    let difference = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            stock::adjust(writing, &rules, ItemId(*id), &new).await
        })
        .await?;
    Ok(Json(difference))
}

/// Notes goods that were ordered in and are on their way.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[post("/expected-goods")]
pub(super) async fn expect_goods(store: Data<Store>, change: Change, new: Json<NewExpected>) -> Answer<bool> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            stock::expect(writing, &rules, &new).await
        })
        .await?;
    Ok(Json(true))
}

/// Price lists, quantity breaks and promotions.
#[utoipa::path(responses((status = 200, body = Prices)))]
#[get("/prices")]
pub(super) async fn view_prices(store: Data<Store>) -> Answer<Prices> {
    let mut connection = store.read().await?;
    let today = rules::load(&mut connection).await?.business_date;
    Ok(Json(prices::all(&mut connection, today).await?))
}

/// A price list to add.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct NewPriceList {
    /// Its name.
    name: String,
    /// Its currency.
    currency: String,
}

/// Adds a price list.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PriceListId), (status = 422, body = Problem))
)]
#[post("/price-lists")]
pub(super) async fn add_price_list(store: Data<Store>, change: Change, new: Json<NewPriceList>) -> Answer<PriceListId> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let currency = Currency::of(new.currency.trim())
                .map_err(|error| StoreError::invalid("currency", error.to_string()))?;
            prices::add_list(writing, &new.name, currency).await
        })
        .await?;
    Ok(Json(id))
}

/// Sets the price of an item in a list from a day on.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/price-lists/{id}/prices")]
pub(super) async fn set_list_price(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewListPrice>,
) -> Answer<bool> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            let today = rules::load(writing).await?.business_date;
            prices::set_price(writing, PriceListId(*id), &new, today).await
        })
        .await?;
    Ok(Json(true))
}

/// Sets a quantity break.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[post("/quantity-breaks")]
pub(super) async fn set_break(store: Data<Store>, change: Change, new: Json<NewBreak>) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| prices::set_break(writing, &new).await).await?;
    Ok(Json(true))
}

/// Takes a quantity break away.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 409, body = Problem))
)]
#[delete("/quantity-breaks/{id}")]
pub(super) async fn drop_break(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<bool> {
    let request = change.request(&*id);
    store.change(change.actor(), Some(&request), async |writing| prices::drop_break(writing, *id).await).await?;
    Ok(Json(true))
}

/// Sets a promotion.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/promotions")]
pub(super) async fn set_promotion(store: Data<Store>, change: Change, new: Json<NewPromotion>) -> Answer<bool> {
    let request = change.request(&new.0);
    store.change(change.actor(), Some(&request), async |writing| prices::set_promotion(writing, &new).await).await?;
    Ok(Json(true))
}
