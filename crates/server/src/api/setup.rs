//! Set-up: company, numbers, periods, limits, people.

use actix_web::web::{Data, Path};
use actix_web::{get, post, put};
use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::ids::PersonId;
use till_core::numbering::MoveNumber;
use till_core::people::{Role, check_password};
use till_store::people::{self, NewPerson, Person};
use till_store::settings::{self, CompanySettings, NewLimit, RightsRow, SetupView};
use till_store::{Store, StoreError, passwords, setup};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::overview::Version;
use crate::hashing::Hashing;
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(view_setup)
        .service(view_rights)
        .service(change_company)
        .service(move_number)
        .service(set_period)
        .service(add_period)
        .service(set_limit)
        .service(list_people)
        .service(add_person)
        .service(change_person)
        .service(reset_password);
}

/// Company, numbers, periods, limits.
#[utoipa::path(responses((status = 200, body = SetupView)))]
#[get("/setup")]
pub(super) async fn view_setup(store: Data<Store>) -> Answer<SetupView> {
    Ok(Json(settings::view(&mut *store.read().await?).await?))
}

/// What each role may do.
#[utoipa::path(responses((status = 200, body = Vec<RightsRow>)))]
#[get("/setup/rights")]
pub(super) async fn view_rights() -> Answer<Vec<RightsRow>> {
    Ok(Json(settings::rights()))
}

/// Changes the company's settings.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/setup/company")]
pub(super) async fn change_company(store: Data<Store>, change: Change, new: Json<CompanySettings>) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| settings::change_company(writing, &new).await)
        .await?;
    Ok(Json(Version { version }))
}

/// Moves the next number of a kind of document forward.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SetupView), (status = 422, body = Problem))
)]
#[put("/setup/numbers/{kind}")]
pub(super) async fn move_number(
    store: Data<Store>,
    change: Change,
    kind: Path<String>,
    new: Json<MoveNumber>,
) -> Answer<SetupView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            settings::move_number(writing, &kind, &new).await?;
            settings::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SetPeriod {
    /// Whether it is to be open.
    open: bool,
}

/// Closes or opens the period that begins on a day.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SetupView), (status = 422, body = Problem))
)]
#[put("/setup/periods/{first}")]
pub(super) async fn set_period(
    store: Data<Store>,
    change: Change,
    first: Path<NaiveDate>,
    new: Json<SetPeriod>,
) -> Answer<SetupView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            setup::set_period(writing, *first, new.open).await?;
            settings::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

/// Adds the month after the last period.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SetupView), (status = 422, body = Problem))
)]
#[post("/setup/periods")]
pub(super) async fn add_period(store: Data<Store>, change: Change) -> Answer<SetupView> {
    let request = change.request(&());
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            settings::add_month(writing).await?;
            settings::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

/// Sets the limit of a role.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SetupView), (status = 422, body = Problem))
)]
#[put("/setup/limits")]
pub(super) async fn set_limit(store: Data<Store>, change: Change, new: Json<NewLimit>) -> Answer<SetupView> {
    let request = change.request(&new.0);
    let view = store
        .change(change.actor(), Some(&request), async |writing| {
            settings::set_limit(writing, &new).await?;
            settings::view(writing).await
        })
        .await?;
    Ok(Json(view))
}

/// Everyone who signs in.
#[utoipa::path(responses((status = 200, body = Vec<Person>)))]
#[get("/people")]
pub(super) async fn list_people(store: Data<Store>) -> Answer<Vec<Person>> {
    Ok(Json(people::list(&mut *store.read().await?).await?))
}

/// Someone to add.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct AddPerson {
    /// The name to sign in with.
    sign_in: String,
    /// The name people know.
    name: String,
    /// The role.
    role: Role,
    /// The password to begin with; another one is chosen at the first sign-in.
    password: String,
}

/// A password's hash, made where waiting holds nobody up.
async fn hashed(hashing: &Hashing, password: &str, sign_in: &str) -> Result<String, Problem> {
    check_password(password, sign_in.trim()).map_err(|fault| StoreError::invalid("password", fault.to_string()))?;
    let password = password.to_owned();
    Ok(hashing.run(move || passwords::hash(&password)).await??)
}

/// Adds a person.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 422, body = Problem))
)]
#[post("/people")]
pub(super) async fn add_person(
    store: Data<Store>,
    hashing: Data<Hashing>,
    change: Change,
    new: Json<AddPerson>,
) -> Answer<PersonId> {
    let hash = hashed(&hashing, &new.password, &new.sign_in).await?;
    // The mark of the request is kept: of the password only its length may stand behind it.
    let request = change.request(&(&new.sign_in, &new.name, new.role, new.password.len()));
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            let person = NewPerson {
                sign_in: &new.sign_in,
                name: &new.name,
                role: new.role,
                password_hash: &hash,
                must_change: true,
            };
            people::add(writing, &person).await
        })
        .await?;
    Ok(Json(id))
}

/// What is to change about a person.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ChangePerson {
    /// The version seen.
    version: i64,
    /// The name.
    name: String,
    /// The role.
    role: Role,
    /// Whether the person can sign in.
    active: bool,
}

/// Changes name, role, or whether someone can sign in.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/people/{id}")]
pub(super) async fn change_person(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<ChangePerson>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            people::change(writing, PersonId(*id), new.version, &new.name, new.role, new.active).await
        })
        .await?;
    Ok(Json(Version { version }))
}

#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ResetPassword {
    /// The version seen.
    version: i64,
    /// The password to begin with.
    password: String,
}

/// Gives someone a password to begin with, and signs them out.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/people/{id}/password")]
pub(super) async fn reset_password(
    store: Data<Store>,
    hashing: Data<Hashing>,
    change: Change,
    id: Path<i64>,
    new: Json<ResetPassword>,
) -> Answer<Version> {
    let person = people::list(&mut *store.read().await?).await?.into_iter().find(|one| one.id.0 == *id);
    // Whom nobody knows is told below; a password is none that says its own name.
    let sign_in = person.map(|person| person.sign_in).unwrap_or_default();
    let hash = hashed(&hashing, &new.password, &sign_in).await?;
    let request = change.request(&(new.version, new.password.len()));
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            people::reset_password(writing, PersonId(*id), new.version, &hash).await
        })
        .await?;
    Ok(Json(Version { version }))
}
