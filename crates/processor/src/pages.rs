//! Pages for people: `/` says what was captured and has the buttons a real processor has not (pay out, charge back, another
//! day); `/cards/new/{session}` takes a card.

use actix_web::http::header::ContentType;
use actix_web::web::{Data, Form, Path, ServiceConfig};
use actix_web::{HttpResponse, get, post};
use chrono::NaiveDate;
use serde::Deserialize;

use crate::book::Book;
use crate::service::{Desk, Failed};
use crate::wire::Habit;

/// The pages.
pub(crate) fn configure(config: &mut ServiceConfig) {
    config
        .service(pay_out)
        .service(charge_back)
        .service(another_day)
        .service(desk_page)
        .service(card_page)
        .service(card_typed);
}

/// What a person of the processor decides: not part of what it offers.
#[post("/stand-in/pay-out")]
async fn pay_out(desk: Data<Desk>) -> Result<HttpResponse, Failed> {
    desk.keep(Book::pay_out)?;
    Ok(to_desk())
}

#[derive(Debug, Deserialize)]
struct ToChargeBack {
    capture: String,
    amount: i64,
    words: String,
}

#[post("/stand-in/charge-back")]
async fn charge_back(desk: Data<Desk>, wish: Form<ToChargeBack>) -> Result<HttpResponse, Failed> {
    desk.keep(|book| book.charge_back(&wish.capture, wish.amount, &wish.words))??;
    Ok(to_desk())
}

#[derive(Debug, Deserialize)]
struct AnotherDay {
    today: NaiveDate,
}

#[post("/stand-in/today")]
async fn another_day(desk: Data<Desk>, wish: Form<AnotherDay>) -> Result<HttpResponse, Failed> {
    desk.keep(|book| book.set_today(wish.today))?;
    Ok(to_desk())
}

fn to_desk() -> HttpResponse {
    HttpResponse::SeeOther().insert_header(("location", "/")).finish()
}

fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn page(title: &str, body: &str) -> HttpResponse {
    const STYLE: &str = "body{font:16px/1.5 sans-serif;max-width:46rem;margin:2rem auto;padding:0 1rem}\
        table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.3rem .6rem;border-bottom:1px solid #ccc}\
        button,input,select{font:inherit;padding:.2rem .6rem}label{display:block;margin:.6rem 0}";
    let html = format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}</title><style>{STYLE}</style><h1>{title}</h1>{body}</html>"
    );
    HttpResponse::Ok()
        .content_type(ContentType::html())
        .insert_header((
            "content-security-policy",
            "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'",
        ))
        .body(html)
}

#[get("/")]
async fn desk_page(desk: Data<Desk>) -> HttpResponse {
    let book = desk.book();
    let rows: String = book
        .open_captures()
        .iter()
        .map(|(capture, left)| {
            format!(
                "<tr><td>{id}<td>{on}<td>{left}<td><form method=\"post\" action=\"/stand-in/charge-back\">\
                 <input type=\"hidden\" name=\"capture\" value=\"{id}\"><input name=\"amount\" value=\"{left}\" size=\"8\" \
                 aria-label=\"Amount\"><input name=\"words\" value=\"goods not received\" aria-label=\"Why\"> \
                 <button>Charge back</button></form>",
                id = escaped(&capture.id),
                on = capture.on,
            )
        })
        .collect();
    let body = format!(
        "<p>This stands in for the company's card processor. Amounts are minor units.</p>\
         <form method=\"post\" action=\"/stand-in/pay-out\"><button>Pay out what was captured</button></form>\
         <form method=\"post\" action=\"/stand-in/today\"><label>Its today <input type=\"date\" name=\"today\" value=\"{}\"></label>\
         <button>Go to that day</button></form><h2>Captured</h2>\
         <table><tr><th>Capture<th>On<th>Left<th>Its bank takes back</tr>{rows}</table>\
         <p>{} notifications wait to be taken.</p>",
        book.today,
        book.waiting.len(),
    );
    page("Card processor, simulated", &body)
}

#[get("/cards/new/{id}")]
async fn card_page(desk: Data<Desk>, id: Path<String>) -> HttpResponse {
    let Some((new, session)) = desk.book().session(&id).cloned() else {
        return HttpResponse::NotFound().body("There is no such page.");
    };
    if session.card.is_some() {
        let back = match new.back.filter(|back| back.starts_with("http://") || back.starts_with("https://")) {
            Some(back) => format!("<p><a id=\"back\" href=\"{}\">Go back</a></p>", escaped(&back)),
            None => "<p>You can close this page and go back.</p>".to_owned(),
        };
        return page("The card is kept", &back);
    }
    let options: String = Habit::ALL
        .iter()
        .map(|habit| {
            let value = serde_json::to_value(habit).ok().and_then(|value| value.as_str().map(str::to_owned));
            format!("<option value=\"{}\">{}</option>", value.unwrap_or_default(), habit.words())
        })
        .collect();
    let body = format!(
        "<p>A card of {}. A real processor asks for its number here, on a page of its own, so that nobody else ever has it. \
         This one is simulated: choose how the card behaves.</p><form method=\"post\"><label>Card <select name=\"habit\">{options}\
         </select></label><button>Keep this card</button></form>",
        escaped(&new.customer)
    );
    page("A card for payments", &body)
}

#[derive(Debug, Deserialize)]
struct Typed {
    habit: Habit,
}

#[post("/cards/new/{id}")]
async fn card_typed(desk: Data<Desk>, id: Path<String>, typed: Form<Typed>) -> Result<HttpResponse, Failed> {
    desk.keep(|book| book.card_typed(&id, typed.habit))?;
    Ok(HttpResponse::SeeOther().insert_header(("location", format!("/cards/new/{id}"))).finish())
}
