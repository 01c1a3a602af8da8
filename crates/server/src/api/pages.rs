//! Customers' own pages. Each call comes with a link, and works for the link's customer alone.

use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_SECURITY_POLICY};
use actix_web::web::{Data, Path, Query};
use actix_web::{HttpResponse, get, post};
use chrono::{DateTime, Duration, Utc};
use serde::{Deserialize, Serialize};
use till_core::acceptance::LinkState;
use till_core::card::CardState;
use till_core::ids::{DocumentKind, OrderId, PageLinkId, QuoteId};
use till_core::money::{Currency, Money};
use till_formats::link::{read, sign};
use till_store::cards::{self, AddedCard, CardView};
use till_store::customer_pages::{self, PageAcceptance, PageAsked, PagePayment, PageView};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::cards::{no_answer, no_processor, send, shown, there};
use super::going_out::paper_of;
use crate::gate::From;
use crate::problem::Problem;
use crate::processor::Processor;
use crate::request::{Json, Visited, VisitorChange};

/// So long the address of a paper works.
const PAPER_MINUTES: i64 = 30;

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(customer_page).service(accept).service(new_card).service(keep_card).service(pay).service(paper);
}

/// A paper on the page.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PaperAddress {
    /// What it is of.
    kind: DocumentKind,
    /// Its id.
    id: i64,
    /// Where it can be opened for half an hour.
    address: String,
}

/// A customer's page with where its papers are.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct Page {
    /// What it shows.
    #[serde(flatten)]
    view: PageView,
    /// Where its papers are.
    addresses: Vec<PaperAddress>,
    /// Whether cards are taken.
    cards_taken: bool,
    /// The quote the link went with.
    quote: Option<QuoteId>,
    /// When the link stops working.
    works_until: DateTime<Utc>,
}

/// What the address of a paper is signed for.
fn signed_for(kind: DocumentKind, id: i64) -> String {
    format!("paper {} {id}", kind.word())
}

/// The page of the customer that the link leads to.
#[utoipa::path(
    operation_id = "customer_page",
    params(("Authorization" = String, Header)),
    responses((status = 200, body = Page), (status = 401, body = Problem), (status = 410, body = Problem), (status = 429, body = Problem))
)]
#[get("/page")]
pub(super) async fn customer_page(
    store: Data<Store>,
    processor: Data<Processor>,
    visited: Visited,
) -> Result<HttpResponse, Problem> {
    let (link, now) = (&visited.0.link, Utc::now());
    let (view, key) = {
        let mut connection = store.read().await?;
        let rules = rules::load(&mut connection).await?;
        let view = customer_pages::view(&mut connection, &rules, link.customer).await?;
        (view, customer_pages::key(&mut connection).await?)
    };
    // On a full disk people can still read.
    if let Err(error) = store.jot(async |connection| customer_pages::opened(connection, link.id, now).await).await {
        tracing::warn!(%error, "that a page was opened could not be noted");
    }
    let until = (now + Duration::minutes(PAPER_MINUTES)).timestamp();
    let address = |kind: DocumentKind, id: i64| {
        let mark = key.as_ref().map(|key| sign(&key.0, &signed_for(kind, id), link.id.0, until)).unwrap_or_default();
        PaperAddress { kind, id, address: format!("/api/page/papers/{}/{id}?mark={mark}", kind.word()) }
    };
    let shown_page = Page {
        addresses: view
            .papers
            .iter()
            .map(|one| (one.document.kind, one.document.id))
            .chain(view.returns.iter().map(|one| (DocumentKind::Return, one.id.0)))
            .map(|(kind, id)| address(kind, id))
            .collect(),
        view,
        cards_taken: processor.is_there(),
        quote: link.quote,
        works_until: link.expires,
    };
    Ok(HttpResponse::Ok().insert_header((CACHE_CONTROL, "no-store")).json(shown_page))
}

/// What the address of a paper carries.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Mark {
    /// Signs it.
    mark: String,
}

/// A paper of the customer, under an address that works for half an hour and as long as the link does.
#[utoipa::path(
    operation_id = "customer_paper",
    params(Mark),
    responses((status = 200, body = String, content_type = "text/html"), (status = 404, body = Problem), (status = 410, body = Problem))
)]
#[get("/page/papers/{kind}/{id}")]
pub(super) async fn paper(
    store: Data<Store>,
    of: Path<(DocumentKind, i64)>,
    mark: Query<Mark>,
) -> Result<HttpResponse, Problem> {
    let ((kind, id), now) = (of.into_inner(), Utc::now());
    let nowhere = || Problem::from(StoreError::not_found(kind, id));
    let mut connection = store.read().await?;
    let key = customer_pages::key(&mut connection).await?.ok_or_else(nowhere)?;
    let (link, until) = read(&key.0, &signed_for(kind, id), &mark.mark).ok_or_else(nowhere)?;
    let link = customer_pages::of(&mut connection, PageLinkId(link), now).await?.ok_or_else(nowhere)?;
    if now.timestamp() >= until || link.state != LinkState::Works {
        let sentence = "This address has expired. Go back to your page, load it again, and open the paper there.";
        return Err(Problem::new(StatusCode::GONE, "link_over", sentence));
    }
    if !customer_pages::shows(&mut connection, link.customer, (kind, id)).await? {
        return Err(nowhere());
    }
    let rules = rules::load(&mut connection).await?;
    let html = paper_of(&mut connection, &rules, kind, id).await?;
    Ok(HttpResponse::Ok()
        .content_type("text/html; charset=utf-8")
        .insert_header((CONTENT_SECURITY_POLICY, crate::PAPER_POLICY))
        .insert_header((CACHE_CONTROL, "no-store"))
        .body(html))
}

/// Accepts a quote by name.
#[utoipa::path(
    operation_id = "accept_on_page",
    params(("Authorization" = String, Header), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = OrderId), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/page/quotes/{id}/accept")]
pub(super) async fn accept(
    store: Data<Store>,
    change: VisitorChange,
    id: Path<i64>,
    word: Json<PageAcceptance>,
) -> Answer<OrderId> {
    let (request, link) = (change.request(&word.0), &change.visitor.link);
    let order = store
        .change(&change.visitor.actor, Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            customer_pages::accept(writing, &rules, link, QuoteId(*id), &word).await
        })
        .await?;
    Ok(Json(order))
}

/// A page of the processor on which the customer types a card.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct TypingPage {
    /// Names it.
    session: String,
    /// Its address.
    address: String,
}

/// Opens a page of the processor on which the customer types a card.
#[utoipa::path(
    operation_id = "page_card_session",
    params(("Authorization" = String, Header), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = TypingPage), (status = 409, body = Problem), (status = 502, body = Problem))
)]
#[post("/page/card-session")]
pub(super) async fn new_card(processor: Data<Processor>, change: VisitorChange, from: From) -> Answer<TypingPage> {
    there(&processor)?;
    // The link itself is told to nobody: the page has it in its own tab.
    let back = Some(format!("{}/page", from.base));
    let session = processor.open_session(&change.visitor.link.customer_name, back).await.ok_or_else(no_answer)?;
    let address = processor.page(&session.path).ok_or_else(no_processor)?;
    Ok(Json(TypingPage { session: session.id, address }))
}

/// A page on which a card was typed.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct TypedOn {
    /// Names the page.
    session: String,
}

/// What is known of a card that was typed.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct TypedOnPage {
    /// The card; none where it was not typed yet.
    card: Option<AddedCard>,
}

/// Keeps the card that the customer typed on a page of the processor, once it was.
#[utoipa::path(
    operation_id = "page_keep_card",
    params(("Authorization" = String, Header), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = TypedOnPage), (status = 422, body = Problem), (status = 502, body = Problem))
)]
#[post("/page/cards")]
pub(super) async fn keep_card(
    store: Data<Store>,
    processor: Data<Processor>,
    change: VisitorChange,
    typed: Json<TypedOn>,
) -> Answer<TypedOnPage> {
    there(&processor)?;
    let session = processor.session(&typed.session).await.map_err(|_| no_answer())?;
    let nowhere = || StoreError::invalid("session", "The card was not saved. Type it again.");
    let Some(card) = session.ok_or_else(nowhere)?.card else { return Ok(Json(TypedOnPage { card: None })) };
    let customer = change.visitor.link.customer;
    let added = store
        .change(&change.visitor.actor, None, async |writing| {
            let rules = rules::load(writing).await?;
            let known = (card.token.as_str(), card.last_four.as_str(), card.valid_through.as_str());
            cards::add_card(writing, &rules, customer, known).await
        })
        .await?;
    Ok(Json(TypedOnPage { card: Some(added) }))
}

/// What became of a card that was used.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PagePaid {
    /// How its authorization stands.
    state: CardState,
    /// How much was asked.
    amount: Money,
    /// What of it was taken.
    captured: Money,
    /// The currency.
    #[schema(value_type = String)]
    currency: Currency,
    /// Why it was declined or refused, in the processor's words.
    words: Option<String>,
}

impl PagePaid {
    fn of(view: CardView) -> Self {
        let CardView { row, words, .. } = view;
        Self { state: row.state, amount: row.amount, captured: row.captured, currency: row.currency, words }
    }
}

/// Leaves a card for what an order asks for, or pays a deposit or an invoice with it at once. Without an answer of the
/// processor the same request is sent again: nothing is charged twice.
#[utoipa::path(
    operation_id = "page_pay",
    params(("Authorization" = String, Header), ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PagePaid), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/page/payments")]
pub(super) async fn pay(
    store: Data<Store>,
    processor: Data<Processor>,
    change: VisitorChange,
    wish: Json<PagePayment>,
) -> Answer<PagePaid> {
    there(&processor)?;
    let (request, visitor) = (change.request(&wish.0), &change.visitor);
    let PageAsked { asked, at_once } = store
        .change(&visitor.actor, Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            customer_pages::pay(writing, &rules, &visitor.link, &wish).await
        })
        .await?;
    if let Some(call) = asked.call {
        send(&store, &processor, &visitor.actor, call).await?;
    }
    if at_once {
        let captures = store
            .change(&visitor.actor, None, async |writing| {
                let rules = rules::load(writing).await?;
                cards::capture_all(writing, &rules, asked.authorization).await
            })
            .await;
        let captures = match captures {
            // It does not stand: declined, or no answer yet.
            Ok(None) | Err(StoreError::Unrecorded) => None,
            // It stands, and cannot be captured now: the day sheet asks us for it, and the customer has done their part.
            Err(StoreError::Refused(blockers)) => {
                let check = blockers.first().map(|blocker| blocker.check);
                tracing::warn!(?check, "a card on a customer's page was not captured");
                None
            }
            Ok(Some(asked)) => asked.call,
            Err(error) => return Err(error.into()),
        };
        if let Some(call) = captures {
            send(&store, &processor, &visitor.actor, call).await?;
        }
    }
    Ok(Json(PagePaid::of(shown(&store, asked.authorization).await?)))
}
