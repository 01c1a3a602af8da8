//! Files of orders and of posted shipments.

use std::collections::BTreeMap;
use std::sync::Mutex;

use actix_web::web::{Data, Path, Query};
use actix_web::{delete, get, post};
use serde::{Deserialize, Serialize};
use till_core::ids::ImportId;
use till_formats::table::read_csv;
use till_store::imports::{self, ImportCheck, ImportKind, ImportLine, ImportView, TakenOver};
use till_store::{Store, StoreError, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::body::File;
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(read_file)
        .service(list_imports)
        .service(view_import)
        .service(import_progress)
        .service(take_file_over)
        .service(drop_import);
}

/// How far files are that are being imported: lines done and in all, by id.
#[derive(Debug, Default)]
pub struct Underway(Mutex<BTreeMap<i64, (usize, usize)>>);

impl Underway {
    fn set(&self, id: i64, done: Option<(usize, usize)>) {
        let mut known = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        match done {
            Some(done) => known.insert(id, done),
            None => known.remove(&id),
        };
    }

    fn get(&self, id: i64) -> Option<(usize, usize)> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner).get(&id).copied()
    }
}

#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichFile {
    /// What it holds: `orders` or `shipments`.
    kind: String,
    /// Its name.
    #[serde(default)]
    name: String,
}

fn lines(kind: ImportKind, text: &[u8]) -> Result<Vec<ImportLine>, StoreError> {
    let table = read_csv(text).map_err(|error| StoreError::invalid("file", error.to_string()))?;
    imports::check_headings(kind, &table.headings)?;
    Ok(table
        .rows
        .into_iter()
        .map(|(line, cells)| ImportLine { line, cells: table.headings.iter().cloned().zip(cells).collect() })
        .collect())
}

/// A file that was read and checked.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct CheckedFile {
    /// The file.
    file: ImportView,
    /// What it comes to; none once it is imported or dropped.
    check: Option<ImportCheck>,
}

/// Reads a file of comma-separated lines and checks it. Nothing is imported yet.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header), WhichFile),
    request_body(content = String, content_type = "text/csv"),
    responses((status = 200, body = ImportId), (status = 422, body = Problem))
)]
#[post("/imports")]
pub(super) async fn read_file(
    store: Data<Store>,
    change: Change,
    which: Query<WhichFile>,
    body: File,
) -> Answer<ImportId> {
    let kind =
        ImportKind::of(&which.kind).ok_or_else(|| StoreError::invalid("kind", "A file holds orders or shipments."))?;
    // Reading a large file takes a moment: not on the threads that answer everyone.
    let read = body.clone();
    let lines = actix_web::web::block(move || lines(kind, &read))
        .await
        .map_err(|_| StoreError::WrongState("The file could not be read. Try again.".to_owned()))??;
    let check = {
        let mut connection = store.read().await?;
        let rules = rules::load(&mut connection).await?;
        imports::check(&mut connection, &rules, kind, &lines, &|_| ()).await?
    };
    let text = String::from_utf8_lossy(&body).into_owned();
    let request = change.request(&till_core::fingerprint::of(&text));
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            imports::keep(writing, kind, &which.name, &text, &check).await
        })
        .await?;
    Ok(Json(id))
}

/// Files, newest first.
#[utoipa::path(responses((status = 200, body = Vec<ImportView>)))]
#[get("/imports")]
pub(super) async fn list_imports(store: Data<Store>) -> Answer<Vec<ImportView>> {
    Ok(Json(imports::list(&mut *store.read().await?).await?))
}

/// A file with what it comes to, checked anew against the books as they are.
#[utoipa::path(responses((status = 200, body = CheckedFile), (status = 404, body = Problem)))]
#[get("/imports/{id}")]
pub(super) async fn view_import(store: Data<Store>, id: Path<i64>) -> Answer<CheckedFile> {
    let mut connection = store.read().await?;
    let (file, text) = imports::kept(&mut connection, ImportId(*id)).await?;
    let check = if file.state == "checked" {
        let rules = rules::load(&mut connection).await?;
        let lines = lines(file.kind, text.as_bytes())?;
        Some(imports::check(&mut connection, &rules, file.kind, &lines, &|_| ()).await?)
    } else {
        None
    };
    Ok(Json(CheckedFile { file, check }))
}

/// How far a file is.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct HowFar {
    /// Whether it is being imported now.
    running: bool,
    /// Lines done.
    done: usize,
    /// Lines in all.
    total: usize,
}

/// How far taking a file over has come.
#[utoipa::path(responses((status = 200, body = HowFar)))]
#[get("/imports/{id}/progress")]
pub(super) async fn import_progress(underway: Data<Underway>, id: Path<i64>) -> Answer<HowFar> {
    let known = underway.get(*id);
    let (done, total) = known.unwrap_or_default();
    Ok(Json(HowFar { running: known.is_some(), done, total }))
}

/// How a file is to be imported.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ToTakeOver {
    /// Whether orders are confirmed at once where nothing stands in the way.
    #[serde(default)]
    confirm: bool,
}

/// Takes a file over: all of it, or nothing.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = TakenOver), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/imports/{id}/take-over")]
pub(super) async fn take_file_over(
    store: Data<Store>,
    underway: Data<Underway>,
    change: Change,
    id: Path<i64>,
    new: Json<ToTakeOver>,
) -> Answer<TakenOver> {
    let request = change.request(&new.0);
    let (file, text) = imports::kept(&mut *store.read().await?, ImportId(*id)).await?;
    let lines = if file.state == "checked" { lines(file.kind, text.as_bytes())? } else { Vec::new() };
    let total = lines.len();
    underway.set(*id, Some((0, total)));
    let told = |done: usize| underway.set(*id, Some((done, total)));
    let taken = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            imports::take_over(writing, &rules, ImportId(*id), &lines, new.confirm, &told).await
        })
        .await;
    underway.set(*id, None);
    Ok(Json(taken?))
}

/// Drops a file that was checked and is not wanted.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[delete("/imports/{id}")]
pub(super) async fn drop_import(store: Data<Store>, change: Change, id: Path<i64>) -> Answer<i64> {
    let request = change.request(&*id);
    store.change(change.actor(), Some(&request), async |writing| imports::drop(writing, ImportId(*id)).await).await?;
    Ok(Json(*id))
}
