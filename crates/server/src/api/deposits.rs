//! Customer deposits: taking, applying, unapplying, moving, refunding, keeping, reversing, taking a refund back; what of
//! them goes on a draft.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::deposit::ending::EndKind;
use till_core::ids::{CustomerId, DepositId, InvoiceId, OrderId, ReceiptId};
use till_store::deposits::{
    self, DepositFilter, DepositList, DepositPreview, DepositView, EndPreview, Ended, NewDeposit, NewEnd,
    PostedDeposit, ToMove,
};
use till_store::invoices::{self, DepositWish};
use till_store::receipts::{self, BackPreview, MoneyPreview, NewApplications, ToReverse, ToUnapply};
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
        .service(preview)
        .service(take)
        .service(list)
        .service(view)
        .service(preview_apply)
        .service(apply)
        .service(preview_unapply)
        .service(unapply)
        .service(preview_refund)
        .service(refund)
        .service(preview_keep)
        .service(keep)
        .service(preview_reverse)
        .service(reverse)
        .service(preview_undo)
        .service(undo)
        .service(move_to)
        .service(on_draft);
}

/// What taking a deposit would do.
#[utoipa::path(operation_id = "preview_deposit", responses((status = 200, body = DepositPreview), (status = 422, body = Problem)))]
#[post("/deposits/preview")]
pub(super) async fn preview(store: Data<Store>, new: Json<NewDeposit>) -> Answer<DepositPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(deposits::preview(&mut connection, &rules, &new).await?))
}

/// A deposit to take.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostDeposit {
    /// The deposit.
    #[serde(flatten)]
    deposit: NewDeposit,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostDeposit { seen: String } and deposit: NewDeposit);

/// Takes a deposit.
#[utoipa::path(
    operation_id = "take_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = PostedDeposit), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits")]
pub(super) async fn take(store: Data<Store>, change: Change, new: Json<PostDeposit>) -> Answer<PostedDeposit> {
    let request = change.request(&new.0);
    let taken = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            deposits::take(writing, &rules, &new.deposit, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(taken))
}

/// Whose deposits to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Whose {
    /// Only for this order.
    #[serde(default)]
    order: Option<i64>,
    /// Only of this customer.
    #[serde(default)]
    customer: Option<i64>,
}

/// Deposits, newest first. State `held` keeps to those of which something is held.
#[utoipa::path(operation_id = "deposits", params(Stretch, Whose), responses((status = 200, body = DepositList)))]
#[get("/deposits")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>, whose: Query<Whose>) -> Answer<DepositList> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = DepositFilter {
        search: stretch.search(),
        only_held: stretch.state.as_deref() == Some("held"),
        order: whose.order.map(OrderId),
        customer: whose.customer.map(CustomerId),
    };
    Ok(Json(deposits::list(&mut connection, &rules, &filter, (stretch.limit(), stretch.offset())).await?))
}

/// One deposit.
#[utoipa::path(operation_id = "deposit", responses((status = 200, body = DepositView), (status = 404, body = Problem)))]
#[get("/deposits/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>) -> Answer<DepositView> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(deposits::view(&mut connection, &rules, DepositId(*id)).await?))
}

/// What applying what is held of a deposit would do.
#[utoipa::path(operation_id = "preview_apply_deposit", responses((status = 200, body = MoneyPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/applications/preview")]
pub(super) async fn preview_apply(
    store: Data<Store>,
    id: Path<i64>,
    new: Json<NewApplications>,
) -> Answer<MoneyPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_apply(&mut connection, &rules, ReceiptId(*id), &new).await?))
}

/// What of a deposit is to be applied.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ApplyDeposit {
    /// The version seen.
    version: i64,
    /// Where it goes.
    #[serde(flatten)]
    new: NewApplications,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(ApplyDeposit { version: i64, seen: String } and new: NewApplications);

/// Applies what is held of a deposit to invoices that are posted.
#[utoipa::path(
    operation_id = "apply_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/applications")]
pub(super) async fn apply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ApplyDeposit>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::apply(writing, &rules, ReceiptId(*id), new.version, &new.new, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What unapplying a deposit would do.
#[utoipa::path(operation_id = "preview_unapply_deposit", responses((status = 200, body = BackPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/unapply/preview")]
pub(super) async fn preview_unapply(store: Data<Store>, id: Path<i64>, wish: Json<ToUnapply>) -> Answer<BackPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(receipts::preview_unapply(&mut connection, &rules, ReceiptId(*id), &wish).await?))
}

/// What of a deposit is unapplied.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct UnapplyDeposit {
    /// The version seen.
    version: i64,
    /// Which, when and why.
    #[serde(flatten)]
    wish: ToUnapply,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(UnapplyDeposit { version: i64, seen: String } and wish: ToUnapply);

/// Unapplies a deposit: what it settled is open again, the money is held again.
#[utoipa::path(
    operation_id = "unapply_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/unapply")]
pub(super) async fn unapply(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<UnapplyDeposit>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            receipts::unapply(writing, &rules, ReceiptId(*id), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// A refund of a deposit, or a part of it kept as income.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub(super) struct EndOfDeposit {
    /// How much, a decimal in its currency; none for all that is held.
    #[serde(default)]
    amount: Option<String>,
    /// How a refund is paid.
    #[serde(default)]
    method: Option<String>,
    /// When; none for the business date.
    #[serde(default)]
    date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    reason: String,
}

impl EndOfDeposit {
    fn of(&self, kind: EndKind) -> NewEnd {
        NewEnd {
            kind,
            amount: self.amount.clone(),
            method: self.method.clone().filter(|_| kind == EndKind::Refunded),
            date: self.date,
            reason: self.reason.clone(),
        }
    }
}

/// The same to carry out.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostEnd {
    /// The version seen.
    version: i64,
    /// How much, when and why.
    #[serde(flatten)]
    end: EndOfDeposit,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostEnd { version: i64, seen: String } and end: EndOfDeposit);

async fn previewed(store: &Store, id: i64, wish: NewEnd) -> Answer<EndPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(deposits::preview_end(&mut connection, &rules, DepositId(id), &wish).await?))
}

async fn ended(store: &Store, change: &Change, id: i64, (new, kind): (&PostEnd, EndKind)) -> Answer<Ended> {
    let request = change.request(new);
    let ended = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let seen = (Some(new.version), Some(new.seen.as_str()));
            deposits::end(writing, &rules, DepositId(id), seen, &new.end.of(kind)).await
        })
        .await?;
    Ok(Json(ended))
}

/// What a refund of a deposit would do.
#[utoipa::path(operation_id = "preview_refund_deposit", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/refund/preview")]
pub(super) async fn preview_refund(store: Data<Store>, id: Path<i64>, new: Json<EndOfDeposit>) -> Answer<EndPreview> {
    previewed(&store, *id, new.of(EndKind::Refunded)).await
}

/// Sends a deposit back, or asks for approval where it is above the limit.
#[utoipa::path(
    operation_id = "refund_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Ended), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/refund")]
pub(super) async fn refund(store: Data<Store>, change: Change, id: Path<i64>, new: Json<PostEnd>) -> Answer<Ended> {
    ended(&store, &change, *id, (&new, EndKind::Refunded)).await
}

/// What keeping a deposit as income would do.
#[utoipa::path(operation_id = "preview_keep_deposit", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/keep/preview")]
pub(super) async fn preview_keep(store: Data<Store>, id: Path<i64>, new: Json<EndOfDeposit>) -> Answer<EndPreview> {
    previewed(&store, *id, new.of(EndKind::Kept)).await
}

/// Keeps a deposit as income, or asks for approval.
#[utoipa::path(
    operation_id = "keep_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Ended), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/keep")]
pub(super) async fn keep(store: Data<Store>, change: Change, id: Path<i64>, new: Json<PostEnd>) -> Answer<Ended> {
    ended(&store, &change, *id, (&new, EndKind::Kept)).await
}

/// What reversing a deposit would do.
#[utoipa::path(operation_id = "preview_reverse_deposit", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/reverse/preview")]
pub(super) async fn preview_reverse(store: Data<Store>, id: Path<i64>, wish: Json<ToReverse>) -> Answer<EndPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(deposits::preview_reverse(&mut connection, &rules, DepositId(*id), &wish).await?))
}

/// A deposit to reverse.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct ReverseDeposit {
    /// The version seen.
    version: i64,
    /// When and why.
    #[serde(flatten)]
    wish: ToReverse,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(ReverseDeposit { version: i64, seen: String } and wish: ToReverse);

/// Reverses a deposit that was typed in error: the money never came.
#[utoipa::path(
    operation_id = "reverse_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/reverse")]
pub(super) async fn reverse(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ReverseDeposit>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            deposits::reverse(writing, &rules, DepositId(*id), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What taking back a refund, or what was kept, would do.
#[utoipa::path(operation_id = "preview_undo_deposit_end", responses((status = 200, body = EndPreview), (status = 422, body = Problem)))]
#[post("/deposits/{id}/ends/{end}/reverse/preview")]
pub(super) async fn preview_undo(
    store: Data<Store>,
    path: Path<(i64, i64)>,
    wish: Json<ToReverse>,
) -> Answer<EndPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let (id, end) = *path;
    Ok(Json(deposits::preview_undo(&mut connection, &rules, (DepositId(id), end), &wish).await?))
}

/// Takes back a refund that was never sent, or what was kept in error: the money is held again.
#[utoipa::path(
    operation_id = "undo_deposit_end",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/ends/{end}/reverse")]
pub(super) async fn undo(
    store: Data<Store>,
    change: Change,
    path: Path<(i64, i64)>,
    new: Json<ReverseDeposit>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let (id, end) = *path;
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            deposits::undo(writing, &rules, (DepositId(id), end), (new.version, &new.seen), &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// A deposit to move.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct MoveDeposit {
    /// The version seen.
    version: i64,
    /// Where to, and why.
    #[serde(flatten)]
    wish: ToMove,
}

beside!(MoveDeposit { version: i64 } and wish: ToMove);

/// Moves what is held of a deposit to another order, or on account. Nothing is posted.
#[utoipa::path(
    operation_id = "move_deposit",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deposits/{id}/move")]
pub(super) async fn move_to(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<MoveDeposit>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            deposits::move_to(writing, &rules, DepositId(*id), new.version, &new.wish).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Says how much of a deposit is applied on a draft; without an amount it goes by itself again.
#[utoipa::path(
    operation_id = "deposit_on_draft",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/invoices/{id}/deposit")]
pub(super) async fn on_draft(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<DepositWish>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            invoices::change_deposit(writing, &rules, InvoiceId(*id), &new).await
        })
        .await?;
    Ok(Json(Version { version }))
}
