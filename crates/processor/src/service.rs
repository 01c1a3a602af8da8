//! The book behind HTTP, kept in a file, its notifications on their way.

use std::net::{SocketAddr, TcpListener};
use std::path::{Path as FilePath, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use actix_web::dev::{Server, ServerHandle};
use actix_web::http::StatusCode;
use actix_web::http::header::AUTHORIZATION;
use actix_web::web::{Data, Json, Path};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, ResponseError, get, post};
use chrono::{NaiveDate, Utc};

use crate::book::Book;
use crate::pages;
use crate::signature::sign;
use crate::wire::{
    Amount, Authorization, Capture, Event, Habit, NewAuthorization, NewSession, Payout, Problem, Refund, Session,
};

/// How it runs.
#[derive(Debug, Clone)]
pub struct Options {
    /// Where it listens; port 0 takes a free one.
    pub address: SocketAddr,
    /// What callers send as their bearer token.
    pub key: String,
    /// Signs its notifications.
    pub secret: String,
    /// Where notifications go; none keeps them.
    pub notify: Option<String>,
    /// The file it is kept in; none forgets everything at its end.
    pub file: Option<PathBuf>,
    /// Its today, where it begins anew.
    pub today: NaiveDate,
    /// How late the answers of a slow card come.
    pub slow: Duration,
}

/// A processor that is running.
#[allow(missing_debug_implementations)]
pub struct Running {
    /// To be awaited.
    pub server: Server,
    /// Where it listens.
    pub address: SocketAddr,
    /// To stop it.
    pub handle: ServerHandle,
    /// What it knows.
    pub desk: Desk,
}

/// The book with where it is kept and whom it tells.
#[derive(Debug, Clone)]
pub struct Desk {
    book: Arc<Mutex<Book>>,
    options: Arc<Options>,
    notify: Arc<Mutex<Option<String>>>,
}

impl Desk {
    /// With what it knows already, in place of a file.
    pub fn with(options: Options, book: Book) -> Self {
        let notify = Arc::new(Mutex::new(options.notify.clone()));
        Self { book: Arc::new(Mutex::new(book)), options: Arc::new(options), notify }
    }

    /// Opens the book in its file, or an empty one.
    ///
    /// # Errors
    /// A file that cannot be read, or is no such book.
    pub fn open(options: Options) -> std::io::Result<Self> {
        let book = match options.file.as_ref().filter(|file| file.exists()) {
            None => Book::new(options.today),
            Some(file) => serde_json::from_slice(&std::fs::read(file)?).map_err(std::io::Error::other)?,
        };
        Ok(Self::with(options, book))
    }

    /// The book, for as long as nobody else has it.
    pub fn book(&self) -> MutexGuard<'_, Book> {
        self.book.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// From here on notifications go there.
    pub fn notify(&self, address: &str) {
        *self.notify.lock().unwrap_or_else(PoisonError::into_inner) = Some(address.to_owned());
    }

    /// Does something and keeps the book; the file is whole at any moment.
    ///
    /// # Errors
    /// A file that cannot be written: nothing is answered then.
    pub fn keep<T>(&self, act: impl FnOnce(&mut Book) -> T) -> Result<T, Failed> {
        let mut book = self.book();
        let answer = act(&mut book);
        if let Some(file) = &self.options.file {
            write(&book, file).map_err(|error| Failed::file(&error))?;
        }
        Ok(answer)
    }

    /// Sends what waits, the oldest first; stops at the first that is not taken. Returns how many went.
    pub async fn deliver(&self) -> usize {
        let mut sent = 0;
        loop {
            let address = self.notify.lock().unwrap_or_else(PoisonError::into_inner).clone();
            let next = self.book().waiting.first().cloned();
            let (Some(address), Some(event)) = (address, next) else { return sent };
            if !self.send(&address, &event).await {
                return sent;
            }
            let _ = self.keep(|book| book.waiting.retain(|waiting| waiting.id != event.id));
            sent += 1;
        }
    }

    async fn send(&self, address: &str, event: &Event) -> bool {
        let Ok(body) = serde_json::to_vec(event) else { return false };
        let now = Utc::now().timestamp();
        let request = reqwest::Client::new()
            .post(address)
            .timeout(Duration::from_secs(10))
            .header("content-type", "application/json")
            .header("webhook-id", &event.id)
            .header("webhook-timestamp", now.to_string())
            .header("webhook-signature", sign(self.options.secret.as_bytes(), &event.id, now, &body))
            .body(body);
        match request.send().await {
            Ok(answer) => answer.status().is_success(),
            Err(error) => {
                tracing::debug!(%error, "a notification was not taken");
                false
            }
        }
    }

    /// The first answer to a key of a slow card comes late.
    async fn take_its_time(&self, known: bool, card: Option<&str>) {
        let slow = card.and_then(|card| self.book().habit(card)) == Some(Habit::Slow);
        if slow && !known {
            actix_web::rt::time::sleep(self.options.slow).await;
        }
    }
}

/// Writes a book into its file, which is whole at any moment.
///
/// # Errors
/// A file that cannot be written.
pub fn write(book: &Book, file: &FilePath) -> std::io::Result<()> {
    let beside = file.with_extension("new");
    std::fs::write(&beside, serde_json::to_vec(book).map_err(std::io::Error::other)?)?;
    std::fs::rename(&beside, file)
}

/// What goes back where something went wrong.
#[derive(Debug, thiserror::Error)]
#[error("{}", .0.detail)]
pub struct Failed(Problem);

impl Failed {
    fn file(error: &dyn std::fmt::Display) -> Self {
        Self(Problem { code: "file".to_owned(), detail: format!("The book cannot be written: {error}."), status: 500 })
    }
}

impl From<Problem> for Failed {
    fn from(problem: Problem) -> Self {
        Self(problem)
    }
}

impl ResponseError for Failed {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let body = serde_json::to_string(&self.0).unwrap_or_default();
        HttpResponse::build(self.status_code()).insert_header(("content-type", "application/problem+json")).body(body)
    }
}

type Answer<T> = Result<Json<T>, Failed>;

/// Who calls has the key; a change has a key of its own.
fn caller(desk: &Desk, request: &HttpRequest) -> Result<String, Failed> {
    let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    if header(AUTHORIZATION.as_str()).strip_prefix("Bearer ") != Some(desk.options.key.as_str()) {
        let detail = "Send the key of the company as a bearer token.".to_owned();
        return Err(Failed(Problem { code: "unknown_caller".to_owned(), detail, status: 401 }));
    }
    Ok(header("idempotency-key").to_owned())
}

/// The same, of a change.
fn change(desk: &Desk, request: &HttpRequest) -> Result<String, Failed> {
    let key = caller(desk, request)?;
    if key.len() < 8 {
        let detail = "A change needs an Idempotency-Key of 8 characters or more.".to_owned();
        return Err(Failed(Problem { code: "key_missing".to_owned(), detail, status: 400 }));
    }
    Ok(key)
}

#[post("/v1/card-sessions")]
async fn open_session(desk: Data<Desk>, request: HttpRequest, new: Json<NewSession>) -> Answer<Session> {
    caller(&desk, &request)?;
    let mut bytes = [0_u8; 16];
    getrandom::fill(&mut bytes).map_err(|error| Failed::file(&error))?;
    let id: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    Ok(Json(desk.keep(|book| book.open_session(&id, &new))?))
}

#[get("/v1/card-sessions/{id}")]
async fn session(desk: Data<Desk>, request: HttpRequest, id: Path<String>) -> Answer<Session> {
    caller(&desk, &request)?;
    let known = desk.book().session(&id).map(|(_, session)| session.clone());
    let missing = || Problem { code: "not_found".to_owned(), detail: "There is no such page.".to_owned(), status: 404 };
    Ok(Json(known.ok_or_else(missing)?))
}

#[post("/v1/authorizations")]
async fn authorize(desk: Data<Desk>, request: HttpRequest, new: Json<NewAuthorization>) -> Answer<Authorization> {
    let key = change(&desk, &request)?;
    let known = desk.book().knows(&key);
    let answer = desk.keep(|book| book.authorize(&key, &new))?;
    desk.take_its_time(known, Some(&new.card)).await;
    Ok(Json(answer?))
}

#[get("/v1/authorizations/{id}")]
async fn authorization(desk: Data<Desk>, request: HttpRequest, id: Path<String>) -> Answer<Authorization> {
    caller(&desk, &request)?;
    Ok(Json(desk.book().authorization(&id)?))
}

fn card_of(desk: &Desk, id: &str) -> Option<String> {
    desk.book().authorization(id).ok().map(|known| known.card)
}

#[post("/v1/authorizations/{id}/captures")]
async fn capture(desk: Data<Desk>, request: HttpRequest, id: Path<String>, new: Json<Amount>) -> Answer<Capture> {
    let key = change(&desk, &request)?;
    let known = desk.book().knows(&key);
    let answer = desk.keep(|book| book.capture(&key, &id, &new))?;
    desk.take_its_time(known, card_of(&desk, &id).as_deref()).await;
    Ok(Json(answer?))
}

#[post("/v1/authorizations/{id}/void")]
async fn void(desk: Data<Desk>, request: HttpRequest, id: Path<String>) -> Answer<Authorization> {
    let key = change(&desk, &request)?;
    let known = desk.book().knows(&key);
    let answer = desk.keep(|book| book.void(&key, &id))?;
    desk.take_its_time(known, card_of(&desk, &id).as_deref()).await;
    Ok(Json(answer?))
}

#[post("/v1/captures/{id}/refunds")]
async fn refund(desk: Data<Desk>, request: HttpRequest, id: Path<String>, new: Json<Amount>) -> Answer<Refund> {
    let key = change(&desk, &request)?;
    Ok(Json(desk.keep(|book| book.refund(&key, &id, &new))??))
}

#[get("/v1/payouts/{id}")]
async fn payout(desk: Data<Desk>, request: HttpRequest, id: Path<String>) -> Answer<Payout> {
    caller(&desk, &request)?;
    Ok(Json(desk.book().payout(&id)?))
}

/// Starts a processor.
///
/// # Errors
/// A port that is taken, a file that cannot be read.
pub fn start(options: Options) -> std::io::Result<Running> {
    start_at(Desk::open(options)?)
}

/// Starts a processor with what it knows already.
///
/// # Errors
/// A port that is taken.
pub fn start_at(desk: Desk) -> std::io::Result<Running> {
    let listener = TcpListener::bind(desk.options.address)?;
    let address = listener.local_addr()?;
    let shared = Data::new(desk.clone());
    let server = HttpServer::new(move || {
        App::new()
            .app_data(shared.clone())
            .service(open_session)
            .service(session)
            .service(authorize)
            .service(authorization)
            .service(capture)
            .service(void)
            .service(refund)
            .service(payout)
            .configure(pages::configure)
    })
    .workers(1)
    .shutdown_timeout(1)
    .disable_signals()
    .listen(listener)?
    .run();
    let telling = desk.clone();
    actix_web::rt::spawn(async move {
        loop {
            actix_web::rt::time::sleep(Duration::from_millis(300)).await;
            telling.deliver().await;
        }
    });
    let handle = server.handle();
    Ok(Running { server, address, handle, desk })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::wire::NewAuthorization;

    fn options(file: Option<PathBuf>) -> Options {
        Options {
            address: SocketAddr::from(([127, 0, 0, 1], 0)),
            key: "key".to_owned(),
            secret: "secret".to_owned(),
            notify: None,
            file,
            today: "2026-03-18".parse().unwrap(),
            slow: Duration::from_millis(10),
        }
    }

    #[test]
    fn what_it_knows_is_there_after_a_restart() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("card-processor.json");
        let desk = Desk::open(options(Some(file.clone()))).unwrap();
        let card = desk.keep(|book| book.add_card(Habit::Good)).unwrap().token;
        let new = NewAuthorization { card, amount: 100, currency: "EUR".to_owned(), reference: "CA-1".to_owned() };
        let authorized = desk.keep(|book| book.authorize("key 1", &new)).unwrap().unwrap();
        drop(desk);
        let again = Desk::open(options(Some(file.clone()))).unwrap();
        // Asked again with its key it is the same one, and what was not told yet is told.
        assert_eq!(again.keep(|book| book.authorize("key 1", &new)).unwrap().unwrap(), authorized);
        assert_eq!(again.book().waiting.len(), 1);
        std::fs::write(&file, "not a book").unwrap();
        assert!(Desk::open(options(Some(file))).is_err());
    }

    #[actix_web::test]
    async fn who_has_no_key_is_told_nothing() {
        let running = start(options(None)).unwrap();
        actix_web::rt::spawn(running.server);
        let client = reqwest::Client::new();
        let address = format!("http://{}/v1/authorizations", running.address);
        let new =
            NewAuthorization { card: "c".to_owned(), amount: 1, currency: "EUR".to_owned(), reference: "r".to_owned() };
        let status = async |key: &str, once: &str| {
            let request = client.post(&address).bearer_auth(key).header("Idempotency-Key", once).json(&new);
            request.send().await.unwrap().status().as_u16()
        };
        assert_eq!(status("a guess", "key number 1").await, 401);
        assert_eq!(status("key", "short").await, 400);
        // The card is not known; said once, it stays said.
        assert_eq!(status("key", "key number 1").await, 404);
        running.handle.stop(false).await;
    }
}
