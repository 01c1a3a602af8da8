//! Bringing into the books what the card processor did: captures, what went back, payouts.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{CardCaptureId, CardPayoutId, CardReturnId};
use till_store::cards::{self, BookPayout, BookReturn, BookedReturn, PayoutList, PayoutPreview, PayoutView};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use crate::api::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(book_capture)
        .service(preview_return)
        .service(book_return)
        .service(payouts)
        .service(payout)
        .service(preview_payout)
        .service(book_payout);
}

/// When a capture is brought into the books.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub(super) struct BookDate {
    /// The day; none for the day it was captured.
    #[serde(default)]
    date: Option<NaiveDate>,
}

/// The number something got.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct CardBooked {
    /// Its number.
    number: String,
}

/// Brings a capture into the books that could not be as it was captured.
#[utoipa::path(
    operation_id = "book_capture",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardBooked), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/card-captures/{id}/book")]
pub(super) async fn book_capture(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BookDate>,
) -> Answer<CardBooked> {
    let request = change.request(&wish.0);
    let number = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::book_capture(writing, &rules, CardCaptureId(*id), wish.date).await
        })
        .await?;
    Ok(Json(CardBooked { number }))
}

/// What bringing a charge back or refund into the books would do.
#[utoipa::path(operation_id = "preview_card_return", params(("Idempotency-Key" = String, Header)), responses((status = 200, body = BookedReturn), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/card-returns/{id}/book/preview")]
pub(super) async fn preview_return(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BookReturn>,
) -> Answer<BookedReturn> {
    Ok(Json(cards::preview_return(&store, change.actor(), CardReturnId(*id), &wish).await?))
}

/// Brings a charge back or refund into the books.
#[utoipa::path(
    operation_id = "book_card_return",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = BookedReturn), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/card-returns/{id}/book")]
pub(super) async fn book_return(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BookReturn>,
) -> Answer<BookedReturn> {
    let request = change.request(&wish.0);
    let booked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::book_return(writing, &rules, CardReturnId(*id), &wish).await
        })
        .await?;
    Ok(Json(booked))
}

/// Payouts of the card processor, newest first. State `to_book` keeps to those that are not in the books.
#[utoipa::path(operation_id = "card_payouts", params(Stretch), responses((status = 200, body = PayoutList)))]
#[get("/card-payouts")]
pub(super) async fn payouts(store: Data<Store>, stretch: Query<Stretch>) -> Answer<PayoutList> {
    let to_book = stretch.state.as_deref() == Some("to_book");
    let mut connection = store.read().await?;
    Ok(Json(cards::payouts(&mut connection, to_book, (stretch.limit(), stretch.offset())).await?))
}

/// One payout with its lines.
#[utoipa::path(operation_id = "card_payout", responses((status = 200, body = PayoutView), (status = 404, body = Problem)))]
#[get("/card-payouts/{id}")]
pub(super) async fn payout(store: Data<Store>, id: Path<i64>) -> Answer<PayoutView> {
    Ok(Json(cards::payout(&mut *store.read().await?, CardPayoutId(*id)).await?))
}

/// What booking a payout would do.
#[utoipa::path(operation_id = "preview_card_payout", responses((status = 200, body = PayoutPreview), (status = 422, body = Problem)))]
#[post("/card-payouts/{id}/book/preview")]
pub(super) async fn preview_payout(store: Data<Store>, id: Path<i64>, wish: Json<BookPayout>) -> Answer<PayoutPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(cards::preview_payout(&mut connection, &rules, CardPayoutId(*id), &wish).await?))
}

/// Books a payout.
#[utoipa::path(
    operation_id = "book_card_payout",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardBooked), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/card-payouts/{id}/book")]
pub(super) async fn book_payout(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<BookPayout>,
) -> Answer<CardBooked> {
    let request = change.request(&wish.0);
    let number = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::book_payout(writing, &rules, CardPayoutId(*id), &wish).await
        })
        .await?;
    Ok(Json(CardBooked { number }))
}
