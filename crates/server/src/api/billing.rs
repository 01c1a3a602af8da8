//! Unbilled shipments, drafts and invoices.

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{CustomerId, InvoiceId};
use till_core::invoice::BillingHabit;
use till_core::invoice::whereabouts::Whereabouts;
use till_store::invoices::{
    self, GridAnswer, InvoiceFilter, InvoiceList, InvoicePreview, InvoiceView, MergeView, PostedInvoice, SeenDraft,
    ToBill, ToMerge,
};
use till_store::unbilled::{self, Unbilled, UnbilledFilter};
use till_store::{Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(why_not_here)
        .service(list_unbilled)
        .service(preview_grid)
        .service(post_grid)
        .service(preview)
        .service(post_picks)
        .service(post_drafts)
        .service(make_drafts)
        .service(list)
        .service(view)
        .service(change_draft)
        .service(drop_draft)
        .service(merge_draft)
        .service(post_draft);
}

/// What to list of the unbilled.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Which {
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
    /// Words in customer, shipment, order or item.
    #[serde(default)]
    q: Option<String>,
    /// Only shipments at least so many days old.
    #[serde(default)]
    over_days: Option<i64>,
    /// Only shipments at most so many days old.
    #[serde(default)]
    up_to_days: Option<i64>,
    /// Only in this currency.
    #[serde(default)]
    currency: Option<String>,
    /// Only customers billed so.
    #[serde(default)]
    #[param(inline)]
    habit: Option<BillingHabit>,
    /// Only shipments worth at least so much, in minor units of their currency.
    #[serde(default)]
    at_least: Option<i64>,
    /// Only what stands in its own way, or only what does not.
    #[serde(default)]
    blocked: Option<bool>,
}

/// Which page of the unbilled.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Page {
    /// How many shipments at most; 500 at most.
    #[serde(default)]
    limit: Option<i64>,
    /// How many to pass over.
    #[serde(default)]
    offset: Option<i64>,
}

impl Which {
    pub(super) fn filter(&self) -> UnbilledFilter {
        UnbilledFilter {
            customer: self.customer.map(CustomerId),
            search: self.q.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned),
            over_days: self.over_days.filter(|days| (1..=10_000).contains(days)),
            up_to_days: self.up_to_days.filter(|days| (0..=10_000).contains(days)),
            currency: self.currency.clone().filter(|code| !code.is_empty()),
            habit: self.habit,
            at_least: self.at_least.filter(|amount| *amount > 0),
            blocked: self.blocked,
            limit: None,
            offset: 0,
        }
    }
}

/// Posted shipments with something left to bill, by customer.
#[utoipa::path(params(Which, Page), responses((status = 200, body = Unbilled)))]
#[get("/unbilled")]
pub(super) async fn list_unbilled(store: Data<Store>, which: Query<Which>, page: Query<Page>) -> Answer<Unbilled> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = UnbilledFilter {
        limit: Some(page.limit.unwrap_or(200).clamp(1, 500)),
        offset: page.offset.unwrap_or(0).max(0),
        ..which.filter()
    };
    Ok(Json(unbilled::list(&mut connection, &rules, &filter).await?))
}

/// A number someone asks about.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct AskedFor {
    /// Number of an order, of the customer's, or of a shipment.
    number: String,
}

/// Why an order is not among the unbilled, or where in its billing it stands.
#[utoipa::path(params(AskedFor), responses((status = 200, body = Vec<Whereabouts>)))]
#[get("/unbilled/why")]
pub(super) async fn why_not_here(store: Data<Store>, asked: Query<AskedFor>) -> Answer<Vec<Whereabouts>> {
    Ok(Json(unbilled::why(&mut *store.read().await?, &asked.number).await?))
}

/// Drafts to post together.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostMany {
    /// Each with the fingerprint that was seen.
    drafts: Vec<SeenDraft>,
}

/// Posts drafts together: all of them, or none.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<PostedInvoice>), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/post-drafts")]
pub(super) async fn post_drafts(store: Data<Store>, change: Change, new: Json<PostMany>) -> Answer<Vec<PostedInvoice>> {
    if new.drafts.is_empty() || new.drafts.len() > 500 {
        return Err(till_store::StoreError::invalid("drafts", "Pick 1 to 500 drafts to post.").into());
    }
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::post_many(writing, &rules, &new.drafts).await
        })
        .await?;
    Ok(Json(posted))
}

/// One-line invoices typed into a grid: what each comes to. Nothing is written.
#[utoipa::path(responses((status = 200, body = Vec<GridAnswer>), (status = 422, body = Problem)))]
#[post("/invoices/grid/preview")]
pub(super) async fn preview_grid(store: Data<Store>, rows: Json<Vec<ToBill>>) -> Answer<Vec<GridAnswer>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::preview_grid(&mut connection, &rules, &rows).await?))
}

/// A grid to post.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostGrid {
    /// Its rows.
    rows: Vec<ToBill>,
    /// Fingerprints of what was seen, in their order.
    seen: Vec<String>,
}

/// Posts a grid of one-line invoices: all of them, or none.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<PostedInvoice>), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/grid")]
pub(super) async fn post_grid(store: Data<Store>, change: Change, new: Json<PostGrid>) -> Answer<Vec<PostedInvoice>> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::post_grid(writing, &rules, &new.rows, &new.seen).await
        })
        .await?;
    Ok(Json(posted))
}

/// What picked lines come to: document, tape, entry, changes and blockers. Nothing is written.
#[utoipa::path(operation_id = "preview_invoices", responses((status = 200, body = Vec<InvoicePreview>), (status = 422, body = Problem)))]
#[post("/invoices/preview")]
pub(super) async fn preview(store: Data<Store>, to_bill: Json<ToBill>) -> Answer<Vec<InvoicePreview>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::preview(&mut connection, &rules, &to_bill).await?))
}

/// Picked lines to post.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostPicks {
    /// What.
    #[serde(flatten)]
    to_bill: ToBill,
    /// Fingerprints of the previews seen, in their order.
    seen: Vec<String>,
}

beside!(PostPicks { seen: Vec<String> } and to_bill: ToBill);

/// Posts picked lines: every invoice they come to, or none.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<PostedInvoice>), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/post")]
pub(super) async fn post_picks(store: Data<Store>, change: Change, new: Json<PostPicks>) -> Answer<Vec<PostedInvoice>> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            invoices::post_picks(connection, &rules, &new.to_bill, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(posted))
}

/// Makes drafts of picked lines.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Vec<i64>), (status = 422, body = Problem))
)]
#[post("/invoices")]
pub(super) async fn make_drafts(store: Data<Store>, change: Change, new: Json<ToBill>) -> Answer<Vec<InvoiceId>> {
    let request = change.request(&new.0);
    let drafts = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            invoices::make_drafts(connection, &rules, &new).await
        })
        .await?;
    Ok(Json(drafts))
}

/// Only of one customer.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Whose {
    /// The customer.
    #[serde(default)]
    customer: Option<i64>,
}

/// Invoices: drafts first, then newest first. State: `draft`, `open`, `late`, `settled`,
/// `cancelled`, `to_send` or `failed`.
#[utoipa::path(operation_id = "invoices", params(Stretch, Whose), responses((status = 200, body = InvoiceList)))]
#[get("/invoices")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>, whose: Query<Whose>) -> Answer<InvoiceList> {
    let filter = InvoiceFilter {
        search: stretch.search().map(str::to_owned),
        state: stretch.state.clone().filter(|state| !state.is_empty()),
        customer: whose.customer.map(CustomerId),
        limit: stretch.limit(),
        offset: stretch.offset(),
    };
    Ok(Json(invoices::list(&mut *store.read().await?, &filter).await?))
}

/// One invoice, draft or posted.
#[utoipa::path(operation_id = "invoice", responses((status = 200, body = InvoiceView), (status = 404, body = Problem)))]
#[get("/invoices/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<InvoiceView> {
    Ok(Json(invoices::view(&mut *store.read().await?, InvoiceId(*id)).await?))
}

/// New lines and dates for a draft.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ChangeDraft {
    /// The version seen.
    version: i64,
    /// Its lines and dates from now on.
    #[serde(flatten)]
    to_bill: ToBill,
}

beside!(ChangeDraft { version: i64 } and to_bill: ToBill);

/// Replaces the lines and dates of a draft.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}")]
pub(super) async fn change_draft(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangeDraft>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            invoices::change_draft(connection, &rules, InvoiceId(*id), new.version, &new.to_bill).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// The version seen.
#[derive(Debug, Serialize, Deserialize, IntoParams)]
pub(super) struct SeenVersion {
    /// The version.
    pub(super) version: i64,
}

/// Drops a draft.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header), SeenVersion),
    responses((status = 200, body = Version), (status = 409, body = Problem))
)]
#[delete("/invoices/{id}")]
pub(super) async fn drop_draft(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    seen: Query<SeenVersion>,
) -> Answer<Version> {
    let request = change.request(&seen.0);
    store
        .change(change.actor(), Some(&request), async |connection| {
            invoices::drop_draft(connection, InvoiceId(*id), seen.version).await
        })
        .await?;
    Ok(Json(Version { version: seen.version }))
}

/// A draft to post.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostDraft {
    /// The version seen.
    version: i64,
    /// Fingerprint of what was seen.
    seen: String,
}

/// Posts a draft.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedInvoice), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/invoices/{id}/post")]
pub(super) async fn post_draft(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostDraft>,
) -> Answer<PostedInvoice> {
    let request = change.request(&new.0);
    let posted = store
        .change(change.actor(), Some(&request), async |connection| {
            let rules = rules::load(connection).await?;
            invoices::post_draft(connection, &rules, InvoiceId(*id), new.version, &new.seen).await
        })
        .await?;
    Ok(Json(posted))
}

/// What can be made of a change to a draft that someone else changed meanwhile. Nothing is written.
#[utoipa::path(responses((status = 200, body = MergeView), (status = 404, body = Problem)))]
#[post("/invoices/{id}/merge")]
pub(super) async fn merge_draft(store: Data<Store>, id: Path<i64>, wish: Json<ToMerge>) -> Answer<MergeView> {
    Ok(Json(invoices::merge(&mut *store.read().await?, InvoiceId(*id), &wish).await?))
}
