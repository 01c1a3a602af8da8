//! Signing in and out, the own password, the first start.

use std::sync::Arc;
use std::sync::atomic::{AtomicU32, Ordering};

use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::StatusCode;
use actix_web::web::{Data, Query};
use actix_web::{HttpResponse, delete, get, post, put};
use chrono::Utc;
use serde::{Deserialize, Serialize};
use till_core::ids::PersonId;
use till_core::people::{Operation, Role, check_password, operations_of};
use till_store::people::{self, NewPerson, sessions};
use till_store::{Actor, Store, StoreError, passwords, starting};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use crate::gate::{From, Gate, Who, cookie_name, csrf_of};
use crate::hashing::Hashing;
use crate::problem::Problem;
use crate::request::{Json, Signed, SignedMaybe};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(view_session).service(sign_in).service(sign_out).service(change_password).service(first_start);
}

/// Whoever is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub(super) struct SignedIn {
    id: PersonId,
    name: String,
    sign_in: String,
    role: Role,
    /// Whether a password has to be chosen first.
    must_change: bool,
    /// What the role may do, or ask for.
    may: Vec<Operation>,
    /// To be sent back with every change, in the header X-Csrf-Token.
    csrf: String,
}

/// Where a visitor stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub(super) struct SessionView {
    /// The company, where the books have one.
    company: Option<String>,
    /// Whether the books wait for their first administrator.
    first_start: bool,
    /// Who is signed in.
    person: Option<SignedIn>,
}

fn signed_in(session: &sessions::Session, token: &str) -> SignedIn {
    SignedIn {
        id: session.person,
        name: session.name.clone(),
        sign_in: session.sign_in.clone(),
        role: session.role,
        must_change: session.must_change,
        may: operations_of(session.role),
        csrf: csrf_of(token),
    }
}

async fn company_name(connection: &mut till_store::Connection) -> Result<Option<String>, StoreError> {
    match till_store::rules::load(connection).await {
        Ok(rules) => Ok(Some(rules.company)),
        Err(StoreError::NotSetUp) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Who is signed in, or what it takes to be.
#[utoipa::path(operation_id = "session", responses((status = 200, body = SessionView)))]
#[get("/session")]
pub(super) async fn view_session(store: Data<Store>, who: SignedMaybe) -> Answer<SessionView> {
    let mut connection = store.read().await?;
    Ok(Json(SessionView {
        company: company_name(&mut connection).await?,
        first_start: people::nobody(&mut connection).await?,
        person: who.0.map(|who| signed_in(&who.session, &who.token)),
    }))
}

/// A name and a password.
#[derive(Deserialize, ToSchema)]
pub(super) struct SignIn {
    /// The name to sign in with.
    sign_in: String,
    /// The password.
    password: String,
}

/// A fresh token of 256 bits: 64 hexadecimal digits.
fn token() -> Result<String, Problem> {
    let mut bytes = [0_u8; 32];
    getrandom::fill(&mut bytes).map_err(|_| {
        Problem::new(
            StatusCode::SERVICE_UNAVAILABLE,
            "no_randomness",
            "This machine gives no random numbers. Try again.",
        )
    })?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}

fn cookie(token: &str, secure: bool, gate: &Gate) -> Cookie<'static> {
    Cookie::build(cookie_name(secure), token.to_owned())
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(secure)
        .max_age(actix_web::cookie::time::Duration::seconds(gate.settings.session.whole.num_seconds()))
        .finish()
}

fn wrong() -> Problem {
    Problem::new(
        StatusCode::UNAUTHORIZED,
        "wrong_sign_in",
        "Name and password do not go together. Check both and try again.",
    )
    .at("password")
}

fn locked(seconds: i64) -> Problem {
    let mut problem = Problem::new(
        StatusCode::TOO_MANY_REQUESTS,
        "locked",
        format!("Too many wrong passwords for this name. Wait {seconds} seconds, then try again."),
    )
    .at("password");
    problem.retry_after = Some(seconds);
    problem
}

async fn hashed(hashing: &Hashing, password: String) -> Result<String, Problem> {
    Ok(hashing.run(move || passwords::hash(&password)).await??)
}

/// Signs in: a session begins, with a token of its own.
#[utoipa::path(responses((status = 200, body = SessionView), (status = 401, body = Problem), (status = 429, body = Problem)))]
#[post("/session")]
pub(super) async fn sign_in(
    store: Data<Store>,
    gate: Data<Gate>,
    hashing: Data<Hashing>,
    from: From,
    before: SignedMaybe,
    typed: Json<SignIn>,
) -> Result<HttpResponse, Problem> {
    // Of one name one try is looked at at a time: what is tried at once is counted as if it were tried in turn.
    let _alone = hashing.alone(&typed.sign_in).await?;
    let now = Utc::now();
    let found = sessions::look_up(&mut *store.read().await?, &typed.sign_in, now).await?;
    if let Some(until) = found.locked_until {
        return Err(locked((until - now).num_seconds().max(1)));
    }
    let (password, hash) = (typed.password.chars().take(1_000).collect::<String>(), found.hash.clone());
    let right = hashing.run(move || passwords::matches(&password, hash.as_deref())).await?;
    let address = from.address.to_string();
    let Some(person) = found.person.filter(|_| right) else {
        let mut actor = Actor::program(now);
        actor.doer.from = address;
        let known = found.person.map(|id| (id, found.name.clone()));
        let seconds = store
            .change(&actor, None, async |writing| sessions::refused(writing, &typed.sign_in, known.clone()).await)
            .await?;
        return Err(if seconds > 0 { locked(seconds) } else { wrong() });
    };
    let token = token()?;
    // The role is not needed to begin: what it may do is read anew with each request.
    let actor = Actor::person(person, &found.name, Role::Auditor, &address, now);
    store
        .change(&actor, None, async |writing| {
            // Whoever was signed in here before is signed out: nobody's session is taken over.
            if let Some(before) = &before.0 {
                sessions::end(writing, before.session.person, &before.token, false).await?;
            }
            sessions::begin(writing, person, &token, gate.settings.session).await
        })
        .await?;
    let mut connection = store.read().await?;
    let session = sessions::of_token(&mut connection, &token, now, gate.settings.session).await?.ok_or_else(wrong)?;
    let view = SessionView {
        company: company_name(&mut connection).await?,
        first_start: false,
        person: Some(signed_in(&session, &token)),
    };
    Ok(HttpResponse::Ok().cookie(cookie(&token, from.secure, &gate)).json(view))
}

/// Where to sign out.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Everywhere {
    /// On every machine, not only here.
    #[serde(default)]
    everywhere: bool,
}

/// Signs out.
#[utoipa::path(params(Everywhere), responses((status = 204)))]
#[delete("/session")]
pub(super) async fn sign_out(
    store: Data<Store>,
    from: From,
    who: Signed,
    everywhere: Query<Everywhere>,
) -> Result<HttpResponse, Problem> {
    let Who { session, token, actor } = who.0;
    store
        .change(&actor, None, async |writing| {
            sessions::end(writing, session.person, &token, everywhere.everywhere).await
        })
        .await?;
    let mut gone = Cookie::build(cookie_name(from.secure), "").path("/").secure(from.secure).http_only(true).finish();
    gone.make_removal();
    // The browser forgets what it kept of the books, for whoever sits down here next.
    Ok(HttpResponse::NoContent().cookie(gone).insert_header(("Clear-Site-Data", "\"cache\"")).finish())
}

/// The old password and the new one.
#[derive(Deserialize, ToSchema)]
pub(super) struct NewPassword {
    /// The present one.
    old: String,
    /// The one from now on.
    new: String,
}

/// Changes the own password; every other session ends.
#[utoipa::path(responses((status = 204), (status = 422, body = Problem)))]
#[put("/session/password")]
pub(super) async fn change_password(
    store: Data<Store>,
    hashing: Data<Hashing>,
    who: Signed,
    typed: Json<NewPassword>,
) -> Result<HttpResponse, Problem> {
    let Who { session, token, actor } = who.0;
    check_password(&typed.new, &session.sign_in).map_err(|fault| StoreError::invalid("new", fault.to_string()))?;
    if typed.new == typed.old {
        return Err(StoreError::invalid("new", "This is the password you have. Choose another one.").into());
    }
    // Guessing the old password from inside is slowed like guessing it at the door.
    let _alone = hashing.alone(&session.sign_in).await?;
    let now = Utc::now();
    let mut connection = store.read().await?;
    if let Some(until) = sessions::look_up(&mut connection, &session.sign_in, now).await?.locked_until {
        return Err(locked((until - now).num_seconds().max(1)));
    }
    let hash = sessions::own_hash(&mut connection, session.person).await?;
    drop(connection);
    let old = typed.old.clone();
    let right = hashing.run(move || passwords::matches(&old, Some(&hash))).await?;
    if !right {
        let known = Some((session.person, session.name.clone()));
        let seconds = store
            .change(&actor, None, async |writing| sessions::refused(writing, &session.sign_in, known.clone()).await)
            .await?;
        if seconds > 0 {
            return Err(locked(seconds));
        }
        return Err(StoreError::invalid("old", "This is not your present password.").into());
    }
    let hash = hashed(&hashing, typed.new.clone()).await?;
    store
        .change(&actor, None, async |writing| sessions::set_own_password(writing, session.person, &token, &hash).await)
        .await?;
    Ok(HttpResponse::NoContent().finish())
}

/// What the first administrator says at the first start.
#[derive(Deserialize, ToSchema)]
pub(super) struct FirstStart {
    /// The code the program printed when it started.
    code: String,
    /// The company's name; not asked where the books have one.
    #[serde(default)]
    company: String,
    /// Its base currency; not asked where the books have one.
    #[serde(default)]
    currency: String,
    /// The administrator's name.
    name: String,
    /// The name to sign in with.
    sign_in: String,
    /// The password.
    password: String,
}

/// The code that only who starts the program can read.
#[derive(Debug, Clone)]
pub struct StartCode {
    /// The code; none where the books have someone already.
    code: Option<String>,
    /// How often something else was typed, by whomever.
    wrong: Arc<AtomicU32>,
}

/// After so many wrong ones the code is over: eight digits are few for someone who tries.
const WRONG_CODES: u32 = 5;

impl StartCode {
    /// The code for books that wait for their first administrator; none for others.
    pub fn new(code: Option<String>) -> Self {
        Self { code, wrong: Arc::default() }
    }

    /// Refuses what is not the code, and after a few tries whatever is typed.
    fn check(&self, typed: &str) -> Result<(), Problem> {
        let refused = |sentence: &str| Err(Problem::new(StatusCode::FORBIDDEN, "wrong_code", sentence).at("code"));
        let waits = self.code.is_some();
        if waits && self.wrong.load(Ordering::SeqCst) >= WRONG_CODES {
            return refused("Too many wrong codes were typed. Start Glad Till again: it prints a new one.");
        }
        if self.code.as_deref().is_some_and(|code| code == typed.trim()) {
            return Ok(());
        }
        self.wrong.fetch_add(1, Ordering::SeqCst);
        tracing::warn!("a wrong code for the first start");
        refused("This is not the code. It stands where Glad Till was started, in the lines it printed.")
    }
}

/// Sets the books up with their first administrator. Once only.
#[utoipa::path(responses((status = 204), (status = 403, body = Problem), (status = 422, body = Problem)))]
#[post("/first-start")]
pub(super) async fn first_start(
    store: Data<Store>,
    code: Data<StartCode>,
    hashing: Data<Hashing>,
    from: From,
    typed: Json<FirstStart>,
) -> Result<HttpResponse, Problem> {
    code.check(&typed.code)?;
    check_password(&typed.password, typed.sign_in.trim())
        .map_err(|fault| StoreError::invalid("password", fault.to_string()))?;
    let hash = hashed(&hashing, typed.password.clone()).await?;
    let mut actor = Actor::program(Utc::now());
    actor.doer.from = from.address.to_string();
    store
        .change(&actor, None, async |writing| {
            if !people::nobody(writing).await? {
                return Err(StoreError::WrongState("These books have an administrator already. Sign in.".to_owned()));
            }
            if company_name(writing).await?.is_none() {
                starting::begin(writing, &typed.company, &typed.currency, Utc::now().date_naive()).await?;
            }
            let new = NewPerson {
                sign_in: &typed.sign_in,
                name: &typed.name,
                role: Role::Administrator,
                password_hash: &hash,
                must_change: false,
            };
            people::add(writing, &new).await?;
            Ok(())
        })
        .await?;
    Ok(HttpResponse::NoContent().finish())
}
