//! Cards: kept, authorized, captured, voided, sent back. What the processor did is brought into the books in [`booking`],
//! what it tells by itself comes in through [`hearing`].

mod booking;
mod hearing;

use actix_web::http::StatusCode;
use actix_web::web::{Data, Path, Query};
use actix_web::{get, post};
use serde::{Deserialize, Serialize};
use till_core::ids::{ApprovalId, CardAuthorizationId, CardCallId, CardCaptureId, CustomerId, OrderId};
use till_store::cards::{
    self, AddedCard, Asked, CapturePreview, CardFilter, CardForm, CardList, CardView, NewAuthorization, NewCapture,
    NewRefund,
};
use till_store::deposits::EndPreview;
use till_store::{Actor, Store, StoreError, customers, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::processor::Processor;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list)
        .service(view)
        .service(form)
        .service(new_card)
        .service(keep_card)
        .service(authorize)
        .service(preview_capture)
        .service(capture)
        .service(void)
        .service(ask_again)
        .service(preview_refund)
        .service(refund)
        .configure(booking::configure)
        .configure(hearing::configure);
}

/// Whose authorizations to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhoseCards {
    /// Only for this order.
    #[serde(default)]
    order: Option<i64>,
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

/// Card authorizations, newest first. State `open` keeps to those with something to do or that can still be captured.
#[utoipa::path(operation_id = "cards", params(Stretch, WhoseCards), responses((status = 200, body = CardList)))]
#[get("/cards")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>, whose: Query<WhoseCards>) -> Answer<CardList> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = CardFilter {
        search: stretch.search(),
        only_open: stretch.state.as_deref() == Some("open"),
        order: whose.order.map(OrderId),
        customer: whose.customer.map(CustomerId),
    };
    Ok(Json(cards::list(&mut connection, &rules, &filter, (stretch.limit(), stretch.offset())).await?))
}

pub(super) async fn shown(store: &Store, id: CardAuthorizationId) -> Result<CardView, StoreError> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    cards::view(&mut connection, &rules, id).await
}

/// One card authorization.
#[utoipa::path(operation_id = "card", responses((status = 200, body = CardView), (status = 404, body = Problem)))]
#[get("/cards/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<CardView> {
    Ok(Json(shown(&store, CardAuthorizationId(*id)).await?))
}

/// What authorizing a card for an order starts from.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct OrderCard {
    /// What the order comes to, and the customer's cards.
    #[serde(flatten)]
    form: CardForm,
    /// Whether a card processor is set up.
    processor: bool,
}

/// What authorizing a card for an order starts from.
#[utoipa::path(operation_id = "order_card", responses((status = 200, body = OrderCard), (status = 404, body = Problem), (status = 422, body = Problem)))]
#[get("/orders/{id}/card")]
pub(super) async fn form(store: Data<Store>, processor: Data<Processor>, id: Path<i64>) -> Answer<OrderCard> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let form = cards::form(&mut connection, &rules, OrderId(*id)).await?;
    Ok(Json(OrderCard { form, processor: processor.is_there() }))
}

pub(super) fn no_processor() -> Problem {
    let sentence = "No card processor is set up. The setting card_processor names its address.";
    Problem::new(StatusCode::CONFLICT, "no_card_processor", sentence)
}

pub(super) fn no_answer() -> Problem {
    let sentence = "The card processor does not answer. Try again in a moment.";
    Problem::new(StatusCode::BAD_GATEWAY, "no_card_answer", sentence)
}

pub(super) fn there(processor: &Processor) -> Result<(), Problem> {
    if processor.is_there() { Ok(()) } else { Err(no_processor()) }
}

/// A page of the processor on which a card is typed.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct CardPage {
    /// Names it.
    session: String,
    /// Its address.
    address: String,
}

/// Opens a page of the processor on which a card is typed: its number comes nowhere near these books.
#[utoipa::path(
    operation_id = "new_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardPage), (status = 404, body = Problem), (status = 502, body = Problem))
)]
#[post("/customers/{id}/cards/new")]
pub(super) async fn new_card(
    store: Data<Store>,
    processor: Data<Processor>,
    _change: Change,
    id: Path<i64>,
) -> Answer<CardPage> {
    there(&processor)?;
    let name = customers::view(&mut *store.read().await?, CustomerId(*id)).await?.name;
    let session = processor.open_session(&name, None).await.ok_or_else(no_answer)?;
    let address = processor.page(&session.path).ok_or_else(no_processor)?;
    Ok(Json(CardPage { session: session.id, address }))
}

/// A page on which a card was typed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TypedCard {
    /// Names the page.
    session: String,
}

/// What is known of a card that was typed.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct KeptCard {
    /// The card; none where it was not typed yet.
    card: Option<AddedCard>,
}

/// Keeps the card that was typed on a page of the processor, once it was.
#[utoipa::path(
    operation_id = "keep_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = KeptCard), (status = 422, body = Problem), (status = 502, body = Problem))
)]
#[post("/customers/{id}/cards")]
pub(super) async fn keep_card(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    id: Path<i64>,
    typed: Json<TypedCard>,
) -> Answer<KeptCard> {
    there(&processor)?;
    let session = processor.session(&typed.session).await.map_err(|_| no_answer())?;
    let nowhere = || StoreError::invalid("session", "The processor has no such page. Add the card again.");
    let Some(card) = session.ok_or_else(nowhere)?.card else { return Ok(Json(KeptCard { card: None })) };
    let added = store
        .change(change.actor(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let customer = CustomerId(*id);
            let known = (card.token.as_str(), card.last_four.as_str(), card.valid_through.as_str());
            cards::add_card(writing, &rules, customer, known).await
        })
        .await?;
    Ok(Json(KeptCard { card: Some(added) }))
}

/// Sends what was written down, and writes the answer down. Without an answer it stays as it is, to be asked again.
pub(super) async fn send(
    store: &Store,
    processor: &Processor,
    actor: &Actor,
    call: CardCallId,
) -> Result<(), StoreError> {
    let Some(outgoing) = cards::outgoing(&mut *store.read().await?, call).await? else { return Ok(()) };
    let Some(answer) = processor.send(&outgoing).await else { return Ok(()) };
    let written = store
        .change(actor, None, async |writing| {
            let rules = rules::load(writing).await?;
            cards::answer(writing, &rules, call, &answer).await
        })
        .await;
    match written {
        // The processor told of it by itself in the meantime.
        Err(StoreError::Unrecorded) => Ok(()),
        other => other,
    }
}

/// Sends whatever of an authorization was not answered.
pub(super) async fn send_open(
    store: &Store,
    processor: &Processor,
    actor: &Actor,
    id: CardAuthorizationId,
) -> Result<(), StoreError> {
    let open = cards::open_calls(&mut *store.read().await?, id).await?;
    for outgoing in open {
        send(store, processor, actor, outgoing.call).await?;
    }
    Ok(())
}

/// What became of something that was asked of the processor.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct CardAsked {
    /// The authorization as it stands now.
    card: CardView,
    /// The approval it waits for, where the role has to ask.
    waits: Option<ApprovalId>,
}

async fn carried_out(
    store: &Store,
    processor: &Processor,
    change: &Change,
    asked: Asked,
) -> Result<Json<CardAsked>, Problem> {
    if let Some(call) = asked.call {
        send(store, processor, change.actor(), call).await?;
    }
    Ok(Json(CardAsked { card: shown(store, asked.authorization).await?, waits: asked.waits }))
}

/// Authorizes a card for an order.
#[utoipa::path(
    operation_id = "authorize_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardAsked), (status = 422, body = Problem))
)]
#[post("/cards")]
pub(super) async fn authorize(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    new: Json<NewAuthorization>,
) -> Answer<CardAsked> {
    there(&processor)?;
    let request = change.request(&new.0);
    let asked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::authorize(writing, &rules, &new).await
        })
        .await?;
    carried_out(&store, &processor, &change, asked).await
}

/// What capturing would do to the books.
#[utoipa::path(operation_id = "preview_capture", responses((status = 200, body = CapturePreview), (status = 422, body = Problem)))]
#[post("/cards/{id}/capture/preview")]
pub(super) async fn preview_capture(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<NewCapture>,
) -> Answer<CapturePreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(cards::preview_capture(&mut connection, &rules, CardAuthorizationId(*id), &new).await?))
}

/// What is to be captured.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Capture {
    /// The version seen.
    version: i64,
    /// How much.
    #[serde(flatten)]
    new: NewCapture,
}

beside!(Capture { version: i64 } and new: NewCapture);

/// Captures what was authorized, or part of it.
#[utoipa::path(
    operation_id = "capture_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardAsked), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/cards/{id}/capture")]
pub(super) async fn capture(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    id: Path<i64>,
    wish: Json<Capture>,
) -> Answer<CardAsked> {
    there(&processor)?;
    let request = change.request(&wish.0);
    let asked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::capture(writing, &rules, CardAuthorizationId(*id), (wish.version, &wish.new)).await
        })
        .await?;
    carried_out(&store, &processor, &change, asked).await
}

/// The version that was seen.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SeenVersion {
    /// Which.
    version: i64,
}

/// Gives up what was not captured.
#[utoipa::path(
    operation_id = "void_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardAsked), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/cards/{id}/void")]
pub(super) async fn void(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    id: Path<i64>,
    seen: Json<SeenVersion>,
) -> Answer<CardAsked> {
    there(&processor)?;
    let request = change.request(&seen.0);
    let asked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::void(writing, &rules, CardAuthorizationId(*id), seen.version).await
        })
        .await?;
    carried_out(&store, &processor, &change, asked).await
}

/// Asks the processor again what it did not answer, with the same key: nothing is done twice.
#[utoipa::path(
    operation_id = "ask_card_again",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardAsked), (status = 404, body = Problem))
)]
#[post("/cards/{id}/ask-again")]
pub(super) async fn ask_again(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    id: Path<i64>,
) -> Answer<CardAsked> {
    there(&processor)?;
    let id = CardAuthorizationId(*id);
    send_open(&store, &processor, change.actor(), id).await?;
    Ok(Json(CardAsked { card: shown(&store, id).await?, waits: None }))
}

/// What sending money back to its card would do to the books.
#[utoipa::path(operation_id = "preview_card_refund", responses((status = 200, body = EndPreview), (status = 409, body = Problem), (status = 422, body = Problem)))]
#[post("/card-captures/{id}/refund/preview")]
pub(super) async fn preview_refund(store: Data<Store>, id: Path<i64>, new: Json<NewRefund>) -> Answer<EndPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(cards::preview_refund(&mut connection, &rules, CardCaptureId(*id), &new).await?))
}

/// Sends money back to its card, or asks for approval where the role has to.
#[utoipa::path(
    operation_id = "refund_card",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CardAsked), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/card-captures/{id}/refund")]
pub(super) async fn refund(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    id: Path<i64>,
    new: Json<NewRefund>,
) -> Answer<CardAsked> {
    there(&processor)?;
    let request = change.request(&new.0);
    let asked = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            cards::refund(writing, &rules, CardCaptureId(*id), &new).await
        })
        .await?;
    carried_out(&store, &processor, &change, asked).await
}
