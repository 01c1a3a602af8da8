//! Links to customers' pages, as the clerk makes, mails and ends them.

use actix_web::web::{Data, Path};
use actix_web::{delete, get, post};
use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use till_core::calendar::words;
use till_core::ids::{CustomerId, PageLinkId};
use till_core::messages::page_message;
use till_formats::link::sign;
use till_formats::mail::{self, Mail};
use till_store::customer_pages::{self, LinkKey, LinkRow, NewLink};
use till_store::deliveries::{self, Said};
use till_store::{Store, rules};
use utoipa::ToSchema;
use utoipa_actix_web::service_config::ServiceConfig;

use super::Answer;
use super::going_out::give;
use crate::gate::{From, PAGE};
use crate::problem::Problem;
use crate::request::{Change, Json};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config.service(list).service(make).service(show).service(end);
}

/// Links to the page of a customer, newest first.
#[utoipa::path(operation_id = "page_links", responses((status = 200, body = Vec<LinkRow>)))]
#[get("/customers/{id}/page-links")]
pub(super) async fn list(store: Data<Store>, id: Path<i64>) -> Answer<Vec<LinkRow>> {
    Ok(Json(customer_pages::links(&mut *store.read().await?, CustomerId(*id), Utc::now()).await?))
}

/// A link that was made.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct MadeLinkView {
    /// Its id.
    id: PageLinkId,
    /// Where it leads. Whoever has it sees the page.
    address: String,
    /// When it stops working.
    expires_at: DateTime<Utc>,
    /// What the mail service said, where it did not take the message; none where it did, or none was to go.
    problem: Option<String>,
}

/// The text stands behind the #, which browsers send to nobody: it is in no log and in no referrer.
fn address(from: &From, key: &LinkKey, id: PageLinkId, expires: DateTime<Utc>) -> String {
    format!("{}/page#{}", from.base, sign(&key.0, PAGE, id.0, expires.timestamp()))
}

/// Makes a link to the page of a customer, and mails it where a recipient is named.
#[utoipa::path(
    operation_id = "make_page_link",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = MadeLinkView), (status = 404, body = Problem), (status = 422, body = Problem))
)]
#[post("/customers/{id}/page-links")]
pub(super) async fn make(
    store: Data<Store>,
    change: Change,
    from: From,
    id: Path<i64>,
    new: Json<NewLink>,
) -> Answer<MadeLinkView> {
    let (request, customer) = (change.request(&new.0), CustomerId(*id));
    // What is kept of the request is its answer without the text of the link.
    let (link, expires_at, problem) = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            let link = customer_pages::make(writing, customer, &new).await?;
            let Some(to) = link.recipient.clone() else { return Ok((link.id, link.expires, None)) };
            let address = address(&from, &link.key, link.id, link.expires);
            let until = words(link.expires.date_naive());
            let (subject, body) = page_message(&rules.company, &link.customer, link.quote.as_deref(), &address, &until);
            let setup = deliveries::setup(writing).await?;
            let mail = Mail {
                from: &setup.from,
                from_name: &rules.company,
                to: &to,
                subject: &subject,
                body: &body,
                paper: None,
                id: &format!("link-{}", link.id),
                at: change.actor().at,
            };
            let said = match mail::write(&mail) {
                Ok(message) => give(setup.service, &to, message),
                Err(error) => Said::Refused { problem: error.to_string() },
            };
            customer_pages::mailed(writing, customer, (link.id, &to, &subject), &said).await?;
            let problem = match said {
                Said::Took { .. } => None,
                Said::Refused { problem } => Some(problem),
            };
            Ok((link.id, link.expires, problem))
        })
        .await?;
    let (_, key) = customer_pages::text_of(&mut *store.read().await?, customer, link, Utc::now()).await?;
    Ok(Json(MadeLinkView { id: link, address: address(&from, &key, link, expires_at), expires_at, problem }))
}

/// Shows a link once more, as long as it works. That it was shown goes on the record.
#[utoipa::path(
    operation_id = "show_page_link",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = MadeLinkView), (status = 404, body = Problem), (status = 409, body = Problem))
)]
#[post("/customers/{id}/page-links/{link}/show")]
pub(super) async fn show(store: Data<Store>, change: Change, from: From, of: Path<(i64, i64)>) -> Answer<MadeLinkView> {
    let (customer, link) = (CustomerId(of.0), PageLinkId(of.1));
    let request = change.request(&(of.0, of.1));
    store
        .change(change.actor(), Some(&request), async |writing| customer_pages::shown(writing, customer, link).await)
        .await?;
    let (known, key) = customer_pages::text_of(&mut *store.read().await?, customer, link, Utc::now()).await?;
    let expires_at = known.expires;
    Ok(Json(MadeLinkView { id: link, address: address(&from, &key, link, expires_at), expires_at, problem: None }))
}

/// Ends a link: it leads nowhere from then on.
#[utoipa::path(
    operation_id = "end_page_link",
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[delete("/customers/{id}/page-links/{link}")]
pub(super) async fn end(store: Data<Store>, change: Change, of: Path<(i64, i64)>) -> Answer<i64> {
    let (customer, link) = (CustomerId(of.0), PageLinkId(of.1));
    let request = change.request(&(of.0, of.1));
    store
        .change(change.actor(), Some(&request), async |writing| customer_pages::end(writing, customer, link).await)
        .await?;
    Ok(Json(link.0))
}
