//! Approvals, the record, and who has what open.

use std::time::Instant;

use actix_web::web::{Data, Path, Query};
use actix_web::{HttpResponse, get, post};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::{ApprovalId, CardAuthorizationId, DocumentKind, PersonId};
use till_core::people::check_record_of;
use till_store::approvals::{self, ApprovalView};
use till_store::record::{self, RecordFilter, RecordList};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::cards::send_open;
use crate::presence::{OpenElsewhere, Presence};
use crate::problem::Problem;
use crate::processor::Processor;
use crate::request::{Change, Json, Signed};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(list_approvals)
        .service(view_approval)
        .service(approve)
        .service(decline)
        .service(withdraw)
        .service(whole_record)
        .service(document_record)
        .service(list_presence)
        .service(note_presence);
}

/// Which approvals.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichApprovals {
    /// Only of this kind of document; goes with `id`.
    #[serde(default)]
    kind: Option<DocumentKind>,
    /// Only of this document.
    #[serde(default)]
    id: Option<i64>,
}

/// Approvals, those that wait first.
#[utoipa::path(operation_id = "approvals", params(WhichApprovals), responses((status = 200, body = Vec<ApprovalView>)))]
#[get("/approvals")]
pub(super) async fn list_approvals(
    store: Data<Store>,
    who: Signed,
    which: Query<WhichApprovals>,
) -> Answer<Vec<ApprovalView>> {
    let of = which.kind.zip(which.id);
    Ok(Json(approvals::list(&mut *store.read().await?, of, who.viewer()).await?))
}

/// One approval.
#[utoipa::path(operation_id = "approval", responses((status = 200, body = ApprovalView), (status = 404, body = Problem)))]
#[get("/approvals/{id}")]
pub(super) async fn view_approval(store: Data<Store>, who: Signed, id: Path<i64>) -> Answer<ApprovalView> {
    Ok(Json(approvals::view(&mut *store.read().await?, ApprovalId(*id), who.viewer()).await?))
}

/// Approves what someone else asked for, and carries it out.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ApprovalView), (status = 403, body = Problem), (status = 409, body = Problem))
)]
#[post("/approvals/{id}/approve")]
pub(super) async fn approve(
    store: Data<Store>,
    processor: Data<Processor>,
    change: Change,
    who: Signed,
    id: Path<i64>,
) -> Answer<ApprovalView> {
    let request = change.request(&());
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            approvals::approve(writing, &rules, ApprovalId(*id), who.viewer()).await
        })
        .await?;
    if view.document.kind == DocumentKind::CardAuthorization {
        // What was approved is to be asked of the processor.
        send_open(&store, &processor, change.actor(), CardAuthorizationId(view.document.id)).await?;
    }
    Ok(Json(view))
}

/// A reason.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Reason {
    /// Why, for who asked.
    reason: String,
}

/// Declines what someone else asked for.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ApprovalView), (status = 403, body = Problem), (status = 422, body = Problem))
)]
#[post("/approvals/{id}/decline")]
pub(super) async fn decline(
    store: Data<Store>,
    change: Change,
    who: Signed,
    id: Path<i64>,
    new: Json<Reason>,
) -> Answer<ApprovalView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            approvals::decline(writing, ApprovalId(*id), &new.reason, who.viewer()).await
        })
        .await?;
    Ok(Json(view))
}

/// Takes back what one asked for.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ApprovalView), (status = 403, body = Problem))
)]
#[post("/approvals/{id}/withdraw")]
pub(super) async fn withdraw(store: Data<Store>, change: Change, who: Signed, id: Path<i64>) -> Answer<ApprovalView> {
    let request = change.request(&());
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            approvals::withdraw(writing, ApprovalId(*id), who.viewer()).await
        })
        .await?;
    Ok(Json(view))
}

/// What to read of the record.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichRows {
    /// Only what this person did.
    #[serde(default)]
    person: Option<i64>,
    /// From this day on.
    #[serde(default)]
    from: Option<NaiveDate>,
    /// Up to the end of this day.
    #[serde(default)]
    to: Option<NaiveDate>,
    /// Words in what was done, or in the document's number.
    #[serde(default)]
    q: Option<String>,
    /// How many at most, 500 at most.
    #[serde(default)]
    limit: Option<i64>,
    /// How many to pass over.
    #[serde(default)]
    offset: Option<i64>,
}

/// The record of who did what, newest first.
#[utoipa::path(operation_id = "record", params(WhichRows), responses((status = 200, body = RecordList)))]
#[get("/record")]
pub(super) async fn whole_record(store: Data<Store>, which: Query<WhichRows>) -> Answer<RecordList> {
    let filter = RecordFilter {
        document: None,
        person: which.person.map(PersonId),
        from: which.from,
        to: which.to,
        search: which.q.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned),
        limit: which.limit.unwrap_or(100).clamp(1, 500),
        offset: which.offset.unwrap_or(0).max(0),
    };
    Ok(Json(record::list(&mut *store.read().await?, &filter).await?))
}

/// What happened to one document, newest first.
#[utoipa::path(operation_id = "document_record", responses((status = 200, body = RecordList), (status = 404, body = Problem)))]
#[get("/record/{kind}/{id}")]
pub(super) async fn document_record(store: Data<Store>, who: Signed, path: Path<(String, i64)>) -> Answer<RecordList> {
    let (word, id) = path.into_inner();
    let kind = DocumentKind::of(&word)
        .ok_or_else(|| StoreError::invalid("kind", format!("There is no kind of document “{word}”.")))?;
    check_record_of(who.0.session.role, kind, who.0.session.person == PersonId(id)).map_err(StoreError::NotAllowed)?;
    let filter = RecordFilter { document: Some((kind, id)), limit: 200, ..RecordFilter::default() };
    Ok(Json(record::list(&mut *store.read().await?, &filter).await?))
}

/// What others have open.
#[utoipa::path(operation_id = "presence", responses((status = 200, body = Vec<OpenElsewhere>)))]
#[get("/presence")]
pub(super) async fn list_presence(presence: Data<Presence>, who: Signed) -> Answer<Vec<OpenElsewhere>> {
    Ok(Json(presence.of_others(who.0.session.person, Instant::now())))
}

/// A document on one's screen.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct OnScreen {
    /// What it is.
    kind: DocumentKind,
    /// Its id.
    id: i64,
    /// Whether it is open now; said again every so often.
    open: bool,
}

/// Says what one has open.
#[utoipa::path(responses((status = 204)))]
#[post("/presence")]
pub(super) async fn note_presence(
    presence: Data<Presence>,
    who: Signed,
    on_screen: Json<OnScreen>,
) -> Result<HttpResponse, Problem> {
    let session = &who.0.session;
    presence.note((session.person, &session.name), on_screen.kind, on_screen.id, on_screen.open, Instant::now());
    Ok(HttpResponse::NoContent().finish())
}
