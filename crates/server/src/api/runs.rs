//! Billing runs and the recipes they are made from.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{InvoiceId, RunId};
use till_store::runs::{self, Looked, Recipe, RunDates, RunForm, RunProgress, RunRow, RunView, Standing};
use till_store::{Actor, Store, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::billing::SeenVersion;
use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(make_run)
        .service(list_runs)
        .service(run_progress)
        .service(view_run)
        .service(leave_out)
        .service(set_run_dates)
        .service(post_run)
        .service(go_on)
        .service(drop_run)
        .service(list_recipes)
        .service(keep_recipe)
        .service(repeat_recipe)
        .service(drop_recipe);
}

/// Runs that this process is posting now, and how many it has ended.
#[derive(Debug, Clone, Default)]
pub struct Posting(Arc<Mutex<PostingNow>>);

#[derive(Debug, Default)]
struct PostingNow {
    runs: HashSet<i64>,
    ended: u64,
}

/// As long as saved, a run is being posted.
#[derive(Debug)]
struct PostingMark {
    posting: Posting,
    id: RunId,
}

impl Drop for PostingMark {
    fn drop(&mut self) {
        let mut now = self.posting.now();
        now.runs.remove(&self.id.0);
        now.ended += 1;
    }
}

impl Posting {
    fn now(&self) -> MutexGuard<'_, PostingNow> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Marks a run as being posted; none where it is already.
    fn begin(&self, id: RunId) -> Option<PostingMark> {
        self.now().runs.insert(id.0).then(|| PostingMark { posting: self.clone(), id })
    }

    fn is_on(&self, id: RunId) -> bool {
        self.now().runs.contains(&id.0)
    }

    fn ended(&self) -> u64 {
        self.now().ended
    }
}

/// What was decided on the runs looked at last. Lost with the process: then they are decided anew.
#[derive(Debug, Clone, Default)]
pub struct Looks(Arc<Mutex<HashMap<i64, Looked>>>);

impl Looks {
    /// Of how many runs: of ten thousand invoices each takes about a megabyte.
    const KEPT: usize = 8;

    fn keep(&self, id: RunId, looked: Looked) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if kept.len() >= Self::KEPT && !kept.contains_key(&id.0) {
            kept.clear();
        }
        kept.insert(id.0, looked);
    }

    fn of(&self, id: RunId) -> Option<Looked> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&id.0).cloned()
    }
}

/// Posts stretch after stretch until nothing is left, whether anyone looks or not.
fn post_in_background(store: Store, mark: PostingMark, actor: Actor) {
    actix_web::rt::spawn(async move {
        let id = mark.id;
        loop {
            let done = store
                .change(&actor, None, async |writing| {
                    let rules = rules::load(writing).await?;
                    runs::go_on(writing, &rules, id).await
                })
                .await;
            match done {
                Ok(RunProgress { left: 0, .. }) => break,
                Ok(_) => {}
                Err(error) => {
                    // Nothing is lost: the run stands where it was and can go on.
                    tracing::error!(run = id.0, %error, "posting a run was cut off");
                    break;
                }
            }
        }
        drop(mark);
    });
}

/// A run, and whether it is being posted at this moment.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ShownRun {
    #[serde(flatten)]
    run: RunView,
    /// Whether it is being posted now; a run that is `posting` and not under way was cut off.
    underway: bool,
}

/// Makes a billing run: its invoices as they will be, nothing posted.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 422, body = Problem))
)]
#[post("/runs")]
pub(super) async fn make_run(store: Data<Store>, change: Change, new: Json<RunForm>) -> Answer<RunId> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            runs::make(writing, &rules, &new, None).await
        })
        .await?;
    Ok(Json(id))
}

/// Billing runs, newest first.
#[utoipa::path(operation_id = "runs", params(Stretch), responses((status = 200, body = Vec<RunRow>)))]
#[get("/runs")]
pub(super) async fn list_runs(store: Data<Store>, stretch: Query<Stretch>) -> Answer<Vec<RunRow>> {
    Ok(Json(runs::list(&mut *store.read().await?, stretch.limit(), stretch.offset()).await?))
}

/// Which invoices of a run.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct OfRun {
    /// Only those that stand so.
    standing: Option<Standing>,
}

/// A billing run with a stretch of its invoices.
#[utoipa::path(operation_id = "run", params(OfRun, Stretch), responses((status = 200, body = ShownRun), (status = 404, body = Problem)))]
#[get("/runs/{id}")]
pub(super) async fn view_run(
    store: Data<Store>,
    posting: Data<Posting>,
    looks: Data<Looks>,
    id: Path<i64>,
    which: Query<OfRun>,
    stretch: Query<Stretch>,
) -> Answer<ShownRun> {
    let (before, ended) = (posting.is_on(RunId(*id)), posting.ended());
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let mut run =
        runs::view(&mut connection, &rules, RunId(*id), which.standing, (stretch.limit(), stretch.offset())).await?;
    looks.keep(RunId(*id), std::mem::take(&mut run.looked));
    // Its posting may have ended while it was read; that is no posting cut off, and who looks asks
    // how far it is.
    let underway = before || posting.is_on(RunId(*id)) || posting.ended() != ended;
    Ok(Json(ShownRun { underway: underway && run.state == "posting", run }))
}

/// How far a run is.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct RunHowFar {
    #[serde(flatten)]
    progress: RunProgress,
    /// Whether it is being posted now.
    underway: bool,
}

/// How far the posting of a run has come.
#[utoipa::path(responses((status = 200, body = RunHowFar)))]
#[get("/runs/{id}/progress")]
pub(super) async fn run_progress(store: Data<Store>, posting: Data<Posting>, id: Path<i64>) -> Answer<RunHowFar> {
    let progress = runs::progress(&mut *store.read().await?, RunId(*id)).await?;
    Ok(Json(RunHowFar { progress, underway: posting.is_on(RunId(*id)) }))
}

/// Invoices to leave out of a run, or to take in again.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct LeaveOut {
    /// The version seen.
    version: i64,
    /// Which.
    invoices: Vec<InvoiceId>,
    /// Whether they are left out.
    out: bool,
}

/// Leaves invoices out of a run, or takes them in again.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem))
)]
#[put("/runs/{id}/left-out")]
pub(super) async fn leave_out(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<LeaveOut>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            runs::leave_out(writing, RunId(*id), new.version, &new.invoices, new.out).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// Sets the dates of all invoices of a run.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/runs/{id}/dates")]
pub(super) async fn set_run_dates(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<RunDates>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| runs::set_dates(writing, RunId(*id), &new).await)
        .await?;
    Ok(Json(Version { version }))
}

/// A run to post.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct PostRun {
    /// The version seen.
    version: i64,
    /// The mark of what was seen.
    seen: String,
}

/// Begins to post a run. It goes on by itself; ask how far it is.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = RunProgress), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/runs/{id}/post")]
pub(super) async fn post_run(
    store: Data<Store>,
    posting: Data<Posting>,
    looks: Data<Looks>,
    change: Change,
    id: Path<i64>,
    new: Json<PostRun>,
) -> Answer<RunProgress> {
    let (id, request) = (RunId(*id), change.request(&new.0));
    let looked = looks.of(id);
    // Marked before it is begun, so that nobody sees it begun and not under way.
    let mark = posting.begin(id);
    let progress = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            runs::begin(writing, &rules, id, new.version, &new.seen, looked).await
        })
        .await?;
    // The same request again, after all of it is posted, has nothing left to begin.
    if let Some(mark) = mark.or_else(|| posting.begin(id))
        && runs::cut_off(&mut *store.read().await?).await?.contains(&id)
    {
        post_in_background(store.get_ref().clone(), mark, change.actor().clone());
    }
    Ok(Json(progress))
}

/// Lets a run go on whose posting was cut off.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = RunHowFar), (status = 409, body = Problem))
)]
#[post("/runs/{id}/go-on")]
pub(super) async fn go_on(
    store: Data<Store>,
    posting: Data<Posting>,
    change: Change,
    id: Path<i64>,
) -> Answer<RunHowFar> {
    let mut connection = store.read().await?;
    let progress = runs::progress(&mut connection, RunId(*id)).await?;
    let cut_off = runs::cut_off(&mut connection).await?.contains(&RunId(*id));
    drop(connection);
    if !cut_off {
        return Err(till_store::StoreError::WrongState("This run is not being posted.".to_owned()).into());
    }
    if let Some(mark) = posting.begin(RunId(*id)) {
        post_in_background(store.get_ref().clone(), mark, change.actor().clone());
    }
    Ok(Json(RunHowFar { progress, underway: true }))
}

/// Drops a run: everything is as before.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header), SeenVersion),
    responses((status = 200, body = Version), (status = 409, body = Problem))
)]
#[delete("/runs/{id}")]
pub(super) async fn drop_run(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    seen: Query<SeenVersion>,
) -> Answer<Version> {
    let request = change.request(&seen.0);
    store
        .change(change.actor(), Some(&request), async |writing| runs::drop(writing, RunId(*id), seen.version).await)
        .await?;
    Ok(Json(Version { version: seen.version }))
}

/// Recipes of billing runs.
#[utoipa::path(responses((status = 200, body = Vec<Recipe>)))]
#[get("/recipes")]
pub(super) async fn list_recipes(store: Data<Store>) -> Answer<Vec<Recipe>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(runs::recipes(&mut connection, &rules).await?))
}

/// Keeps a recipe.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/recipes")]
pub(super) async fn keep_recipe(store: Data<Store>, change: Change, new: Json<Recipe>) -> Answer<i64> {
    let request = change.request(&new.0);
    let id =
        store.change(change.actor(), Some(&request), async |writing| runs::keep_recipe(writing, &new).await).await?;
    Ok(Json(id))
}

/// Drops a recipe.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[delete("/recipes/{id}")]
pub(super) async fn drop_recipe(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<i64> {
    let request = change.request(&*id);
    store.change(change.actor(), Some(&request), async |writing| runs::drop_recipe(writing, *id).await).await?;
    Ok(Json(*id))
}

/// Makes a run as a recipe says.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/recipes/{id}/run")]
pub(super) async fn repeat_recipe(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<RunId> {
    let request = change.request(&*id);
    let run = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            runs::repeat(writing, &rules, *id).await
        })
        .await?;
    Ok(Json(run))
}
