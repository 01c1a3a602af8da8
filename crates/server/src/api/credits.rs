//! Credit memos that stand alone, and what becomes of a credit: applied, unapplied, refunded.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post};
use serde::{Deserialize, Serialize};
use till_core::ids::{CreditDraftId, CreditMemoId, DocumentRef, ReceiptId, RefundId};
use till_store::deposits::EndPreview;
use till_store::invoices::{
    self, CreditAlone, CreditAlonePreview, CreditDraft, CreditDraftForm, CreditDraftRow, CreditPosted,
};
use till_store::receipts::{self, BackPreview, CreditOf, MoneyPreview, NewApplications, ToReverse, ToUnapply};
use till_store::refunds::{self, CreditToRefund, Refunded};
use till_store::{Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::overview::Version;
use super::receipts::{PostApplications, PostUnapply};
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(preview)
        .service(post)
        .service(list_drafts)
        .service(view_draft)
        .service(save_draft)
        .service(save_draft_anew)
        .service(delete_draft)
        .service(preview_apply)
        .service(apply)
        .service(preview_unapply)
        .service(unapply)
        .service(preview_refund)
        .service(refund)
        .service(preview_refund_receipt)
        .service(refund_receipt)
        .service(reverse_refund);
}

/// What a credit memo that stands alone would do. Nothing is written.
#[utoipa::path(operation_id = "preview_credit_alone", responses((status = 200, body = CreditAlonePreview), (status = 422, body = Problem)))]
#[post("/credit-memos/preview")]
pub(super) async fn preview(store: Data<Store>, wish: Json<CreditAlone>) -> Answer<CreditAlonePreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::credit_alone_preview(&mut connection, &rules, &wish).await?))
}

/// Posts a credit memo that stands alone, or asks for approval.
#[utoipa::path(
    operation_id = "credit_alone",
    params(KeptAs, ("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CreditPosted), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/credit-memos")]
pub(super) async fn post(
    store: Data<Store>,
    change: Change,
    kept: Query<KeptAs>,
    wish: Json<CreditAlone>,
) -> Answer<CreditPosted> {
    credit_from(&store, &change, &kept, &CreditDraftForm::Alone { wish: wish.0 }).await
}

/// The draft that is posted.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct KeptAs {
    /// Its id; none where what is posted was never saved.
    #[serde(default)]
    draft: Option<i64>,
    /// The version seen.
    #[serde(default)]
    draft_version: i64,
}

/// Posts a credit memo, or asks for approval; its draft ends with it.
pub(super) async fn credit_from(
    store: &Store,
    change: &Change,
    kept: &KeptAs,
    form: &CreditDraftForm,
) -> Answer<CreditPosted> {
    let request = change.request(form);
    let draft = kept.draft.map(|id| (CreditDraftId(id), kept.draft_version));
    let posted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::credit_from(writing, &rules, form, draft).await
        })
        .await?;
    Ok(Json(posted))
}

/// Drafts of credit memos, the one saved last first.
#[utoipa::path(operation_id = "credit_drafts", responses((status = 200, body = Vec<CreditDraftRow>)))]
#[get("/credit-drafts")]
pub(super) async fn list_drafts(store: Data<Store>) -> Answer<Vec<CreditDraftRow>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(invoices::credit_drafts(&mut connection, &rules, None).await?))
}

/// One draft of a credit memo, as it was saved.
#[utoipa::path(operation_id = "credit_draft", responses((status = 200, body = CreditDraft), (status = 404, body = Problem)))]
#[get("/credit-drafts/{id}")]
pub(super) async fn view_draft(store: Data<Store>, id: Path<i64>) -> Answer<CreditDraft> {
    Ok(Json(invoices::credit_draft(&mut *store.read().await?, CreditDraftId(*id)).await?))
}

/// Saves a draft of a credit memo.
#[utoipa::path(
    operation_id = "save_credit_draft",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CreditDraft), (status = 422, body = Problem))
)]
#[post("/credit-drafts")]
pub(super) async fn save_draft(store: Data<Store>, change: Change, form: Json<CreditDraftForm>) -> Answer<CreditDraft> {
    let request = change.request(&form.0);
    let saved = store
        .change(change.actor(), Some(&request), async |writing| invoices::save_credit_draft(writing, None, &form).await)
        .await?;
    Ok(Json(saved))
}

/// A draft of a credit memo to save anew.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SaveCreditDraft {
    /// The version seen.
    version: i64,
    /// What was typed.
    form: CreditDraftForm,
}

/// Saves a draft of a credit memo anew.
#[utoipa::path(
    operation_id = "save_credit_draft_anew",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = CreditDraft), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/credit-drafts/{id}")]
pub(super) async fn save_draft_anew(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<SaveCreditDraft>,
) -> Answer<CreditDraft> {
    let request = change.request(&new.0);
    let known = (CreditDraftId(*id), new.version);
    let saved = store
        .change(change.actor(), Some(&request), async |writing| {
            invoices::save_credit_draft(writing, Some(known), &new.form).await
        })
        .await?;
    Ok(Json(saved))
}

/// Deletes a draft of a credit memo.
#[utoipa::path(
    operation_id = "delete_credit_draft",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200), (status = 409, body = Problem))
)]
#[post("/credit-drafts/{id}/delete")]
pub(super) async fn delete_draft(store: Data<Store>, change: Change, id: Path<i64>, seen: Json<Version>) -> Answer<()> {
    let request = change.request(&seen.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            invoices::drop_credit_draft(writing, CreditDraftId(*id), seen.version).await
        })
        .await?;
    Ok(Json(()))
}

/// What applying what is kept of a credit memo would do.
#[utoipa::path(operation_id = "preview_apply_credit", responses((status = 200, body = MoneyPreview), (status = 422, body = Problem)))]
#[post("/credit-memos/{id}/applications/preview")]
pub(super) async fn preview_apply(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<NewApplications>,
) -> Answer<MoneyPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_apply(&mut connection, &rules, CreditMemoId(*id), &new).await?))
}

/// Applies what is kept of a credit memo.
#[utoipa::path(
    operation_id = "apply_credit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/credit-memos/{id}/applications")]
pub(super) async fn apply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostApplications>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::apply(writing, &rules, CreditMemoId(*id), new.version, &new.new, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What unapplying a credit memo would do.
#[utoipa::path(operation_id = "preview_unapply_credit", responses((status = 200, body = BackPreview), (status = 422, body = Problem)))]
#[post("/credit-memos/{id}/unapply/preview")]
pub(super) async fn preview_unapply(store: Data<Store>, id: Path<i64>, wish: Json<ToUnapply>) -> Answer<BackPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_unapply(&mut connection, &rules, CreditMemoId(*id), &wish).await?))
}

/// Unapplies a credit memo: what it settled is open again, the credit is kept.
#[utoipa::path(
    operation_id = "unapply_credit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/credit-memos/{id}/unapply")]
pub(super) async fn unapply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostUnapply>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::unapply(writing, &rules, CreditMemoId(*id), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// A refund to post.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostRefundOfCredit {
    /// The version seen of what it is paid back of.
    version: i64,
    /// How much, how and why.
    #[serde(flatten)]
    wish: CreditToRefund,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostRefundOfCredit { version: i64, seen: String } and wish: CreditToRefund);

async fn previewed(store: &Store, of: CreditOf, wish: &CreditToRefund) -> Answer<EndPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(refunds::preview(&mut connection, &rules, of, wish).await?))
}

async fn refunded(store: &Store, change: &Change, of: CreditOf, new: &PostRefundOfCredit) -> Answer<Refunded> {
    let request = change.request(new);
    let refunded = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            refunds::refund(writing, &rules, of, (Some(new.version), Some(&new.seen)), &new.wish).await
        })
        .await?;
    Ok(Json(refunded))
}

/// What refunding what is kept of a credit memo would do.
#[utoipa::path(operation_id = "preview_refund_credit", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/credit-memos/{id}/refund/preview")]
pub(super) async fn preview_refund(
    store: Data<Store>,
    id: Path<i64>,
    wish: Json<CreditToRefund>,
) -> Answer<EndPreview> {
    previewed(&store, CreditMemoId(*id).into(), &wish).await
}

/// Refunds what is kept of a credit memo, or asks for approval.
#[utoipa::path(
    operation_id = "refund_credit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Refunded), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/credit-memos/{id}/refund")]
pub(super) async fn refund(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostRefundOfCredit>,
) -> Answer<Refunded> {
    refunded(&store, &change, CreditMemoId(*id).into(), &new).await
}

/// What refunding unapplied money of a receipt would do.
#[utoipa::path(operation_id = "preview_refund_receipt", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/receipts/{id}/refund/preview")]
pub(super) async fn preview_refund_receipt(
    store: Data<Store>,
    id: Path<i64>,
    wish: Json<CreditToRefund>,
) -> Answer<EndPreview> {
    previewed(&store, ReceiptId(*id).into(), &wish).await
}

/// Refunds unapplied money of a receipt, or asks for approval.
#[utoipa::path(
    operation_id = "refund_receipt",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Refunded), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/receipts/{id}/refund")]
pub(super) async fn refund_receipt(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostRefundOfCredit>,
) -> Answer<Refunded> {
    refunded(&store, &change, ReceiptId(*id).into(), &new).await
}

/// What a refund that was reversed had been paid back of.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct RefundReversed {
    /// The receipt, or the credit memo.
    of: DocumentRef,
}

/// Reverses a refund that was never sent: what was refunded lies unapplied again.
#[utoipa::path(
    operation_id = "reverse_refund",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = RefundReversed), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/refunds/{id}/reverse")]
pub(super) async fn reverse_refund(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<ToReverse>,
) -> Answer<RefundReversed> {
    let request = change.request(&wish.0);
    let of = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            refunds::reverse(writing, &rules, RefundId(*id), &wish).await
        })
        .await?;
    Ok(Json(RefundReversed { of }))
}
