//! Documents on their way to customers, the stand-in mailbox, texts of messages, kept views.

use actix_web::http::header;
use actix_web::web::{Data, Path, Query};
use actix_web::{HttpResponse, delete, get, post, put};
use serde::{Deserialize, Serialize};
use till_core::ids::{CreditMemoId, DeliveryId, DepositId, DocumentKind, InvoiceId, PaymentRequestId, ReturnId};
use till_formats::mail::{self, Mail};
use till_formats::paper::{self, DepositPaper, Kind, Parties, ReturnSlip, SlipLine};
use till_store::deliveries::{
    self, DeliveryFilter, DeliveryList, MailService, MailSetup, MessageView, NewMessage, Said, Template, Way,
};
use till_store::rules::Rules;
use till_store::saved_views::{self, SavedView};
use till_store::{Connection, Store, StoreError, bank, customers, deposits, invoices, prepayments, returns, rules};
use utoipa::{IntoParams, ToSchema};
use utoipa_actix_web::service_config::ServiceConfig;

use super::overview::Version;
use super::{Answer, Stretch};
use crate::problem::Problem;
use crate::request::{Change, Json, Signed};

/// The calls of this module.
pub(super) fn configure(config: &mut ServiceConfig<'_>) {
    config
        .service(send)
        .service(printed)
        .service(list_deliveries)
        .service(send_again)
        .service(view_message)
        .service(change_message)
        .service(view_paper)
        .service(taken)
        .service(mail_setup)
        .service(change_template)
        .service(set_mail)
        .service(list_views)
        .service(keep_view)
        .service(drop_view);
}

/// Which documents to list.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct WhichWay {
    /// `print` or `mail`.
    #[serde(default)]
    way: Option<String>,
}

/// Documents on their way: what failed first, then what waits, then the newest.
#[utoipa::path(operation_id = "deliveries", params(Stretch, WhichWay), responses((status = 200, body = DeliveryList)))]
#[get("/deliveries")]
pub(super) async fn list_deliveries(
    store: Data<Store>,
    stretch: Query<Stretch>,
    which: Query<WhichWay>,
) -> Answer<DeliveryList> {
    let filter = DeliveryFilter {
        way: which.way.clone().filter(|way| !way.is_empty()),
        state: stretch.state.clone().filter(|state| !state.is_empty()),
        search: stretch.search().map(str::to_owned),
        limit: stretch.limit(),
        offset: stretch.offset(),
        ..DeliveryFilter::default()
    };
    Ok(Json(deliveries::list(&mut *store.read().await?, &filter).await?))
}

/// The message a document goes with.
#[utoipa::path(responses((status = 200, body = MessageView), (status = 404, body = Problem)))]
#[get("/deliveries/{id}")]
pub(super) async fn view_message(store: Data<Store>, id: Path<i64>) -> Answer<MessageView> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    Ok(Json(deliveries::message(&mut connection, &rules, DeliveryId(*id)).await?))
}

/// Changes a message before it goes.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/deliveries/{id}")]
pub(super) async fn change_message(
    store: Data<Store>,
    change: Change,
    id: Path<i64>,
    new: Json<NewMessage>,
) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| {
            let rules = rules::load(writing).await?;
            deliveries::change_message(writing, &rules, DeliveryId(*id), &new).await
        })
        .await?;
    Ok(Json(Version { version }))
}

/// What is to go.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct ToSend {
    /// Which.
    ids: Vec<DeliveryId>,
}

/// What became of it.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct SentOut {
    /// How many went.
    sent: i64,
    /// How many the mail service did not take.
    failed: i64,
    /// What it said to the first of those.
    problem: Option<String>,
}

/// The paper of a document, as a page that stands alone.
pub(super) async fn paper_of(
    connection: &mut Connection,
    rules: &Rules,
    kind: DocumentKind,
    id: i64,
) -> Result<String, StoreError> {
    if kind == DocumentKind::Invoice {
        let view = invoices::view(connection, InvoiceId(id)).await?;
        let document = view
            .document
            .filter(|_| view.number.is_some())
            .ok_or_else(|| StoreError::WrongState("Only what is posted has a paper. Post it first.".to_owned()))?;
        let parties = Parties {
            company: &rules.company,
            number: &view.customer.number,
            name: &view.customer.name,
            address: &view.customer.address,
            tax_id: view.customer.tax_id.as_deref(),
        };
        let number = view.number.unwrap_or_default();
        let account = bank::own_account(connection).await?;
        let kind = Kind::Invoice {
            canceled_by: view.cancelled_by.as_ref().map(|memo| memo.number.as_str()),
            pay_to: account.as_deref(),
        };
        return Ok(paper::html(kind, &number, document.document_date.date, &parties, &document));
    }
    if kind == DocumentKind::PaymentRequest {
        return request_paper(connection, rules, PaymentRequestId(id)).await;
    }
    if kind == DocumentKind::Return {
        return return_slip(connection, rules, ReturnId(id)).await;
    }
    if kind == DocumentKind::Deposit {
        return deposit_paper(connection, rules, DepositId(id)).await;
    }
    let view = invoices::credit_memo(connection, CreditMemoId(id)).await?;
    let parties = Parties {
        company: &rules.company,
        number: &view.customer.number,
        name: &view.customer.name,
        address: &view.customer.address,
        tax_id: view.customer.tax_id.as_deref(),
    };
    let kind = Kind::CreditMemo {
        over: view.invoice.as_ref().map(|invoice| invoice.number.as_str()),
        whole: view.whole,
        reason: &view.reason,
    };
    Ok(paper::html(kind, &view.number, view.date, &parties, &view.document))
}

/// A request for payment in advance.
async fn request_paper(connection: &mut Connection, rules: &Rules, id: PaymentRequestId) -> Result<String, StoreError> {
    let view = prepayments::request_view(connection, id).await?;
    let parties = Parties {
        company: &rules.company,
        number: &view.customer.number,
        name: &view.customer.name,
        address: &view.customer.address,
        tax_id: view.customer.tax_id.as_deref(),
    };
    Ok(paper::html(Kind::PaymentRequest, &view.row.number, view.row.requested_on, &parties, &view.document))
}

/// The slip that travels with goods that come back.
async fn return_slip(connection: &mut Connection, rules: &Rules, id: ReturnId) -> Result<String, StoreError> {
    let view = returns::view(connection, rules, id).await?;
    let parties = Parties {
        company: &rules.company,
        number: &view.customer.number,
        name: &view.customer.name,
        address: &view.customer.address,
        tax_id: view.customer.tax_id.as_deref(),
    };
    let lines: Vec<SlipLine<'_>> = view
        .lines
        .iter()
        .map(|line| SlipLine {
            code: &line.code,
            description: &line.description,
            quantity: line.progress.authorized,
            unit: &line.unit,
            document: line.document.as_ref().map_or("", |document| &document.number),
            reason: &line.reason_name,
        })
        .collect();
    let slip = ReturnSlip {
        number: &view.number,
        authorized_on: view.authorized_on,
        expires_on: view.expires_on,
        to: &view.warehouse_name,
        reference: view.reference.as_deref(),
        over: !view.live,
        billed: view.lines.iter().any(|line| !line.unbilled),
        lines: &lines,
    };
    Ok(paper::return_slip_html(&slip, &parties))
}

/// The receipt of a deposit.
async fn deposit_paper(connection: &mut Connection, rules: &Rules, id: DepositId) -> Result<String, StoreError> {
    let view = deposits::view(connection, rules, id).await?;
    let customer = customers::view(connection, view.row.customer).await?;
    let parties = Parties {
        company: &rules.company,
        number: &customer.number,
        name: &customer.name,
        address: &customer.address,
        tax_id: customer.tax_id.as_deref(),
    };
    let order = view.row.order_number.as_ref().map(|number| format!("order {number}"));
    let target = order.or(view.row.quote_number.as_ref().map(|number| format!("quote {number}")));
    let paper = DepositPaper {
        number: &view.row.number,
        date: view.row.date,
        target: target.as_deref(),
        method: &view.row.method,
        reference: view.row.reference.as_deref(),
        currency: view.row.currency,
        amount: view.row.taken,
        taxes: &view.taken_taxes,
        reversed: view.row.reversed_on.is_some(),
    };
    Ok(paper::deposit_html(&paper, &parties))
}

/// The stand-in mail service: takes a message, or says why not.
pub(super) fn give(service: MailService, to: &str, message: String) -> Said {
    match service {
        MailService::Takes => Said::Took { message },
        MailService::Refuses => Said::Refused {
            problem: format!("550 The mail service does not know {to}. Check the address, then send again."),
        },
        MailService::Silent => {
            Said::Refused { problem: "The mail service does not answer. Nothing was sent; try again later.".to_owned() }
        }
    }
}

/// Sends messages. Each is a change of its own: what the mail service took stays sent whatever
/// becomes of the others.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = SentOut), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deliveries/send")]
pub(super) async fn send(store: Data<Store>, change: Change, new: Json<ToSend>) -> Answer<SentOut> {
    if new.ids.is_empty() || new.ids.len() > 500 {
        return Err(StoreError::invalid("ids", "Pick 1 to 500 messages to send.").into());
    }
    let mut out = SentOut { sent: 0, failed: 0, problem: None };
    for id in &new.ids {
        // A request for each message, so that the same request again goes on with what is left.
        let request = change.request_part(&id.0, &new.0);
        let said = store
            .change(change.actor(), Some(&request), async |writing| {
                let rules = rules::load(writing).await?;
                let view = deliveries::message(writing, &rules, *id).await?;
                if view.delivery.way == Way::Print {
                    return Err(StoreError::WrongState(format!(
                        "{} is printed, not emailed.",
                        view.delivery.document.number
                    )));
                }
                let setup = deliveries::setup(writing).await?;
                let document = &view.delivery.document;
                let mail = Mail {
                    from: &view.from,
                    from_name: &rules.company,
                    to: &view.to,
                    subject: &view.subject,
                    body: &view.body,
                    paper: Some((&view.attachment, paper_of(writing, &rules, document.kind, document.id).await?)),
                    id: &format!("delivery-{}-{}", id, view.delivery.tries + 1),
                    at: change.actor().at,
                };
                let said = match mail::write(&mail) {
                    Ok(message) => give(setup.service, &view.to, message),
                    Err(error) => Said::Refused { problem: error.to_string() },
                };
                deliveries::sent(writing, &view, &said).await?;
                Ok(match said {
                    Said::Took { .. } => None,
                    Said::Refused { problem } => Some(problem),
                })
            })
            .await?;
        match said {
            None => out.sent += 1,
            Some(problem) => {
                out.failed += 1;
                out.problem.get_or_insert(problem);
            }
        }
    }
    Ok(Json(out))
}

/// Marks documents of the print queue as printed.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[post("/deliveries/printed")]
pub(super) async fn printed(store: Data<Store>, change: Change, new: Json<ToSend>) -> Answer<i64> {
    let request = change.request(&new.0);
    let count = store
        .change(change.actor(), Some(&request), async |writing| deliveries::printed(writing, &new.ids).await)
        .await?;
    Ok(Json(count))
}

/// A document that goes out once more.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct Again {
    /// `invoice`, `credit_memo` or `return`.
    kind: DocumentKind,
    /// Its id.
    id: i64,
    /// The way.
    way: Way,
}

/// Puts a document on its way once more.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[post("/deliveries")]
pub(super) async fn send_again(store: Data<Store>, change: Change, new: Json<Again>) -> Answer<DeliveryId> {
    if !matches!(new.kind, DocumentKind::Invoice | DocumentKind::CreditMemo | DocumentKind::Return) {
        return Err(StoreError::invalid("kind", "Invoices, credit memos and the slips of returns go out.").into());
    }
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            deliveries::again(writing, (new.kind, new.id), new.way).await
        })
        .await?;
    Ok(Json(id))
}

/// The paper of an invoice, a credit memo, a deposit or a return, as it is printed and mailed: a page that stands alone.
#[utoipa::path(responses((status = 200, body = String, content_type = "text/html"), (status = 404, body = Problem)))]
#[get("/papers/{kind}/{id}")]
pub(super) async fn view_paper(store: Data<Store>, of: Path<(DocumentKind, i64)>) -> Result<HttpResponse, Problem> {
    let (kind, id) = of.into_inner();
    use DocumentKind::{CreditMemo, Deposit, Invoice, PaymentRequest, Return};
    if !matches!(kind, Invoice | CreditMemo | Deposit | PaymentRequest | Return) {
        return Err(StoreError::not_found(kind, id).into());
    }
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let page = paper_of(&mut connection, &rules, kind, id).await?;
    Ok(HttpResponse::Ok().content_type("text/html; charset=utf-8").body(page))
}

/// A message in the stand-in mailbox, as the mail service was given it.
#[utoipa::path(responses((status = 200, body = String, content_type = "message/rfc822"), (status = 404, body = Problem)))]
#[get("/mailbox/{id}.eml")]
pub(super) async fn taken(store: Data<Store>, id: Path<i64>) -> Result<HttpResponse, Problem> {
    let message = deliveries::taken(&mut *store.read().await?, *id).await?;
    Ok(HttpResponse::Ok()
        .content_type("message/rfc822")
        .insert_header((header::CONTENT_DISPOSITION, format!("attachment; filename=\"message-{id}.eml\"")))
        .body(message))
}

/// Texts of messages, and the mail service.
#[utoipa::path(responses((status = 200, body = MailSetup)))]
#[get("/mail-setup")]
pub(super) async fn mail_setup(store: Data<Store>) -> Answer<MailSetup> {
    Ok(Json(deliveries::setup(&mut *store.read().await?).await?))
}

/// Changes the text of messages.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = Version), (status = 409, body = Problem), (status = 422, body = Problem))
)]
#[put("/mail-setup/templates")]
pub(super) async fn change_template(store: Data<Store>, change: Change, new: Json<Template>) -> Answer<Version> {
    let request = change.request(&new.0);
    let version = store
        .change(change.actor(), Some(&request), async |writing| deliveries::change_template(writing, &new).await)
        .await?;
    Ok(Json(Version { version }))
}

/// How mail goes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub(super) struct HowMailGoes {
    /// From whom.
    from: String,
    /// What the stand-in mail service does.
    service: MailService,
}

/// Sets from whom mail goes, and what the stand-in mail service does.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = bool), (status = 422, body = Problem))
)]
#[put("/mail-setup")]
pub(super) async fn set_mail(store: Data<Store>, change: Change, new: Json<HowMailGoes>) -> Answer<bool> {
    let request = change.request(&new.0);
    store
        .change(change.actor(), Some(&request), async |writing| {
            deliveries::set_mail(writing, &new.from, new.service).await
        })
        .await?;
    Ok(Json(true))
}

/// A room of the application.
#[derive(Debug, Deserialize, IntoParams)]
pub(super) struct Room {
    /// Such as `unbilled`.
    room: String,
}

/// Views of a list that who asks has kept.
#[utoipa::path(params(Room), responses((status = 200, body = Vec<SavedView>)))]
#[get("/views")]
pub(super) async fn list_views(store: Data<Store>, signed: Signed, room: Query<Room>) -> Answer<Vec<SavedView>> {
    Ok(Json(saved_views::list(&mut *store.read().await?, signed.viewer().person, &room.room).await?))
}

/// Keeps a view of a list under a name.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 422, body = Problem))
)]
#[put("/views")]
pub(super) async fn keep_view(store: Data<Store>, change: Change, signed: Signed, new: Json<SavedView>) -> Answer<i64> {
    let request = change.request(&new.0);
    let id = store
        .change(change.actor(), Some(&request), async |writing| {
            saved_views::keep(writing, signed.viewer().person, &new).await
        })
        .await?;
    Ok(Json(id))
}

/// Drops one's own view.
#[utoipa::path(
    params(("Idempotency-Key" = String, Header)),
    responses((status = 200, body = i64), (status = 409, body = Problem))
)]
#[delete("/views/{id}")]
pub(super) async fn drop_view(store: Data<Store>, change: Change, signed: Signed, id: Path<i64>) -> Answer<i64> {
    let request = change.request(&*id);
    store
        .change(change.actor(), Some(&request), async |writing| {
            saved_views::drop(writing, signed.viewer().person, *id).await
        })
        .await?;
    Ok(Json(*id))
}
