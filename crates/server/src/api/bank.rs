//! Bank accounts and their statements: importing, what each line may be, accepting and undoing.

use actix_web::web::{Data, Path, Query};
use actix_web::{get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{BankLineId, BankMatchId, BankStatementId};
use till_formats::camt;
use till_store::bank::{
    self, AcceptPreview, Accepted, AccountState, BankAccountForm, LineFilter, OutstandingRow, ProposalView,
    StatementList, StatementView, SureAccepted, TakenIn, ToAccept,
};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::{Answer, Stretch};
use crate::body::File;
use crate::problem::Problem;
use crate::request::{Change, Json, beside};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(accounts)
        .service(set_account)
        .service(outstanding)
        .service(import)
        .service(list)
        .service(view)
        .service(accept_sure)
        .service(find)
        .service(preview_accept)
        .service(accept)
        .service(undo);
}

/// The bank accounts, with how bank and books compare.
#[utoipa::path(operation_id = "bank_accounts", responses((status = 200, body = Vec<AccountState>)))]
#[get("/bank-accounts")]
pub(super) async fn accounts(store: Data<Store>) -> Answer<Vec<AccountState>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::accounts(&mut connection, &rules).await?))
}

/// Says under which number the bank names an account.
#[utoipa::path(
    operation_id = "set_bank_account",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = ()), (status = 422, body = Problem))
)]
#[put("/bank-accounts/{code}")]
pub(super) async fn set_account(
    store: Data<Store>,
    change: Change,
    code: Path<String>,
    form: Json<BankAccountForm>,
) -> Answer<()> {
    let request = change.request(&form.0);
    store
        .change(change.actor(), Some(&request), async |writing| bank::set_account(writing, &code, &form).await)
        .await?;
    Ok(Json(()))
}

/// What the books say and the bank does not yet.
#[utoipa::path(operation_id = "bank_outstanding", responses((status = 200, body = Vec<OutstandingRow>)))]
#[get("/bank-accounts/{code}/outstanding")]
pub(super) async fn outstanding(store: Data<Store>, code: Path<String>) -> Answer<Vec<OutstandingRow>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::outstanding(&mut connection, &rules, &code).await?))
}

/// The name of a file.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct FileName {
    /// Its name.
    #[serde(default)]
    name: String,
}

/// Imports a file of statements in camt.053. What is here already is passed over.
#[utoipa::path(
    operation_id = "import_bank_statements",
    params(("Idempotency-Key" = String, Header), FileName),
    request_body(content = String, content_type = "application/xml"),
    responses((status = 200, body = TakenIn), (status = 422, body = Problem))
)]
#[post("/bank-statements")]
pub(super) async fn import(store: Data<Store>, change: Change, name: Query<FileName>, body: File) -> Answer<TakenIn> {
    let request = change.request(&till_core::fingerprint::of(&body.as_ref()));
    // Reading a large file takes a moment: not on the threads that answer everyone.
    let statements = actix_web::web::block(move || camt::read(&body))
        .await
        .map_err(|_| StoreError::WrongState("The file could not be read. Try again.".to_owned()))?
        .map_err(|error| StoreError::invalid("file", error.to_string()))?;
    let file: String = name.name.chars().take(120).collect();
    let taken = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::take_in(writing, &rules, &file, &statements).await
        })
        .await?;
    Ok(Json(taken))
}

/// Statements, newest first.
#[utoipa::path(operation_id = "bank_statements", params(Stretch), responses((status = 200, body = StatementList)))]
#[get("/bank-statements")]
pub(super) async fn list(store: Data<Store>, stretch: Query<Stretch>) -> Answer<StatementList> {
    Ok(Json(bank::list(&mut *store.read().await?, (stretch.limit(), stretch.offset())).await?))
}

/// Which lines of a statement.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichLines {
    /// Only those that are not cleared.
    #[serde(default)]
    open: bool,
}

/// A statement with its lines, and what each that is open may be.
#[utoipa::path(operation_id = "bank_statement", params(WhichLines), responses((status = 200, body = StatementView), (status = 404, body = Problem)))]
#[get("/bank-statements/{id}")]
pub(super) async fn view(store: Data<Store>, id: Path<i64>, which: Query<WhichLines>) -> Answer<StatementView> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let filter = if which.open { LineFilter::Open } else { LineFilter::All };
    Ok(Json(bank::view(&mut connection, &rules, BankStatementId(*id), filter).await?))
}

/// What of a statement was seen to be sure.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SureSeen {
    /// The mark of the statement that was seen.
    seen: String,
}

/// Accepts every line of a statement that is sure.
#[utoipa::path(
    operation_id = "accept_sure_lines",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SureAccepted), (status = 409, body = Problem))
)]
#[post("/bank-statements/{id}/accept-sure")]
pub(super) async fn accept_sure(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    sure: Json<SureSeen>,
) -> Answer<SureAccepted> {
    let request = change.request(&sure.0);
    let done = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::accept_sure(writing, &rules, BankStatementId(*id), Some(&sure.seen)).await
        })
        .await?;
    Ok(Json(done))
}

/// What a line is looked for by.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Typed {
    /// A number, a name, an amount, what was noted.
    #[serde(default)]
    q: String,
}

/// What a line may be by what someone typed, the best first.
#[utoipa::path(operation_id = "find_for_line", params(Typed), responses((status = 200, body = Vec<ProposalView>)))]
#[get("/bank-lines/{id}/find")]
pub(super) async fn find(store: Data<Store>, id: Path<i64>, typed: Query<Typed>) -> Answer<Vec<ProposalView>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::find(&mut connection, &rules, BankLineId(*id), &typed.q).await?))
}

/// What accepting a line as something would do.
#[utoipa::path(operation_id = "preview_accept_line", responses((status = 200, body = AcceptPreview), (status = 422, body = Problem)))]
#[post("/bank-lines/{id}/accept/preview")]
pub(super) async fn preview_accept(store: Data<Store>, id: Path<i64>, wish: Json<ToAccept>) -> Answer<AcceptPreview> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(bank::preview_accept(&mut connection, &rules, BankLineId(*id), &wish).await?))
}

/// A line to accept.
#[derive(Debug, Serialize, ToSchema)]
pub(super) struct PostAccept {
    /// As what.
    #[serde(flatten)]
    wish: ToAccept,
    /// Fingerprint of the preview seen.
    seen: String,
}

beside!(PostAccept { seen: String } and wish: ToAccept);

/// Accepts a line as something.
#[utoipa::path(
    operation_id = "accept_line",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Accepted), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/bank-lines/{id}/accept")]
pub(super) async fn accept(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<PostAccept>,
) -> Answer<Accepted> {
    let request = change.request(&new.0);
    let accepted = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::accept(writing, &rules, BankLineId(*id), &new.wish, Some(&new.seen)).await
        })
        .await?;
    Ok(Json(accepted))
}

/// Why a match is undone.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct UndoMatch {
    /// Why.
    #[serde(default)]
    reason: String,
}

/// Undoes what a line was cleared against.
#[utoipa::path(
    operation_id = "undo_match",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = BankStatementId), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/bank-matches/{id}/undo")]
pub(super) async fn undo(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    wish: Json<UndoMatch>,
) -> Answer<BankStatementId> {
    let request = change.request(&wish.0);
    let statement = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            bank::undo(writing, &rules, BankMatchId(*id), &wish.reason).await
        })
        .await?;
    Ok(Json(statement))
}
