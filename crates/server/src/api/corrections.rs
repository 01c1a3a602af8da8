//! Other prices, tax codes and discounts on drafts; cancelling what is posted.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::Deserialize;
use till_core::ids::{CreditMemoId, CustomerId, InvoiceId, OrderLineId, ShipmentLineId};
use till_store::customers::Outcome;
use till_store::invoices::{
    self, Cancelled, CreditDraftForm, CreditMemoFilter, CreditMemoList, CreditMemoView, CreditPosted, CreditPreview,
    LineKey, NewDiscount, NewPrice, NewTax, ToCancelInvoice, ToCredit,
};
use till_store::{Store, rules};
use utoipa::IntoParams;
use utoipa_actix_web::service_config::ServiceConfig;

use super::credits::{KeptAs, credit_from};
use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(change_price)
        .service(change_work_price)
        .service(change_tax)
        .service(change_work_tax)
        .service(change_discount)
        .service(preview_cancel)
        .service(cancel_invoice)
        .service(preview_credit)
        .service(credit)
        .service(list_credit_memos)
        .service(view_credit_memo);
}

async fn price(store: &Store, change: &Change, id: i64, key: LineKey, new: &NewPrice) -> Answer<Outcome> {
    let request = change.request(new);
    let outcome = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_price(writing, &rules, InvoiceId(id), key, new).await
        })
        .await?;
    Ok(Json(outcome))
}

async fn tax(store: &Store, change: &Change, id: i64, key: LineKey, new: &NewTax) -> Answer<Version> {
    let request = change.request(new);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_tax(writing, &rules, InvoiceId(id), key, new).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Sets the price of a shipped line on a draft, or asks for approval where it is above the limit.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/lines/{line}/price")]
pub(super) async fn change_price(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<NewPrice>,
) -> Answer<Outcome> {
    price(&store, &change, path.0, LineKey::Shipped(ShipmentLineId(path.1)), &new).await
}

/// The same for work of an order that needs no shipment.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/order-lines/{line}/price")]
pub(super) async fn change_work_price(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<NewPrice>,
) -> Answer<Outcome> {
    price(&store, &change, path.0, LineKey::Ordered(OrderLineId(path.1)), &new).await
}

/// Sets the tax code of a shipped line on a draft, with the reason.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/lines/{line}/tax")]
pub(super) async fn change_tax(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<NewTax>,
) -> Answer<Version> {
    tax(&store, &change, path.0, LineKey::Shipped(ShipmentLineId(path.1)), &new).await
}

/// The same for work of an order that needs no shipment.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/order-lines/{line}/tax")]
pub(super) async fn change_work_tax(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<NewTax>,
) -> Answer<Version> {
    tax(&store, &change, path.0, LineKey::Ordered(OrderLineId(path.1)), &new).await
}

/// Sets a discount over a draft, or asks for approval where it takes off more than the limit.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Outcome), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/discount")]
pub(super) async fn change_discount(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewDiscount>,
) -> Answer<Outcome> {
    let request = change.request(&new.0);
    let outcome = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_discount(writing, &rules, InvoiceId(*id), &new).await
        })
        .await?;
    Ok(Json(outcome))
}

/// What cancelling a posted invoice would do. Nothing is written.
#[utoipa::path(responses((status = 200, body = invoices::CancelPreview), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/invoices/{id}/cancel/preview")]
pub(super) async fn preview_cancel(
    store: Data<Store>,
    id: Path<i64>,
    wish: Json<ToCancelInvoice>,
) -> Answer<invoices::CancelPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::cancel_preview(&mut connection, &rules, InvoiceId(*id), &wish).await?))
}

/// Cancels a posted invoice with a credit memo for all of it, or asks for approval.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Cancelled), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/cancel")]
pub(super) async fn cancel_invoice(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<ToCancelInvoice>,
) -> Answer<Cancelled> {
    let request = change.request(&wish.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::cancel(writing, &rules, InvoiceId(*id), &wish).await
        })
        .await?;
    Ok(Json(done))
}

/// What crediting lines of a posted invoice would do. Nothing is written.
#[utoipa::path(operation_id = "preview_credit", responses((status = 200, body = CreditPreview), (status = 404, body = Problem), (status = 409, body = Problem)))]
#[post("/invoices/{id}/credit/preview")]
pub(super) async fn preview_credit(store: Data<Store>, id: Path<i64>, wish: Json<ToCredit>) -> Answer<CreditPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::credit_preview(&mut connection, &rules, InvoiceId(*id), &wish).await?))
}

/// Credits lines of a posted invoice: a quantity, or an amount of it. Asks for approval above the limit.
#[utoipa::path(
    operation_id = "credit_invoice",
    params(KeptAs, ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CreditPosted), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/credit")]
pub(super) async fn credit(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    kept: Query<KeptAs>,
    wish: Json<ToCredit>,
) -> Answer<CreditPosted> {
    let form = CreditDraftForm::Invoice { invoice: InvoiceId(*id), wish: wish.0 };
    credit_from(&store, &change, &kept, &form).await
}

/// Whose credit memos to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Whose {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

/// Credit memos, newest first. State `kept` keeps to those of which something is kept for the customer.
#[utoipa::path(operation_id = "credit_memos", params(Stretch, Whose), responses((status = 200, body = CreditMemoList)))]
#[get("/credit-memos")]
pub(super) async fn list_credit_memos(
    store: Data<Store>,
    stretch: Query<Stretch>,
    whose: Query<Whose>,
) -> Answer<CreditMemoList> {
    let filter = CreditMemoFilter {
        search: stretch.search(),
        only_kept: stretch.state.as_deref() == Some("kept"),
        customer: whose.customer.map(CustomerId),
    };
    let stretch = (stretch.limit(), stretch.offset());
    Ok(Json(invoices::credit_memos(&mut *store.read().await?, &filter, stretch).await?))
}

/// One credit memo.
#[utoipa::path(operation_id = "credit_memo", responses((status = 200, body = CreditMemoView), (status = 404, body = Problem)))]
#[get("/credit-memos/{id}")]
pub(super) async fn view_credit_memo(store: Data<Store>, id: Path<i64>) -> Answer<CreditMemoView> {
    Ok(Json(invoices::credit_memo(&mut *store.read().await?, CreditMemoId(*id)).await?))
}
