//! What the processor answered, and what it tells by itself.

use chrono::{NaiveDate, SecondsFormat};
use sqlx::SqliteConnection;
use till_core::card::payout::Report;
use till_core::card::{Answer, Ask, Notice, Status, Told};
use till_core::ids::{CardAuthorizationId, CardCallId, CardCaptureId, CardReturnId, DocumentKind, OrderId};
use till_core::money::Money;

use super::asking::note;
use super::booking::{book_capture_if_possible, book_refund_if_possible};
use super::facts::load;
use crate::convert::json;
use crate::invoices::read;
use crate::open_items::next_id;
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, customer_pages, orders};

/// Writes down what the processor answered, and brings it into the books where nothing stops that.
///
/// # Errors
/// [`StoreError::Unrecorded`] where it was answered already: nothing is written a second time.
pub async fn answer(writing: &mut Writing<'_>, rules: &Rules, call: CardCallId, answer: &Answer) -> Result<()> {
    let row = sqlx::query!(
        "SELECT authorization_id, capture_id, ask, reason FROM card_calls WHERE id = ? AND answer IS NULL",
        call.0
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or(StoreError::Unrecorded)?;
    let authorization = CardAuthorizationId(row.authorization_id);
    let kept = json(answer)?;
    sqlx::query!("UPDATE card_calls SET answer = ? WHERE id = ?", kept, call.0).execute(&mut **writing).await?;
    let ask: Ask = read(&row.ask)?;
    match (&ask, answer) {
        (Ask::Authorize { .. } | Ask::Void { .. }, Answer::Authorization(told)) => {
            if !tell(writing, authorization, told).await? {
                told_before(writing, authorization).await?;
            }
        }
        (Ask::Capture { .. }, Answer::Captured { reference, amount, on }) => {
            match capture_named(writing, reference).await? {
                Some(_) => told_before(writing, authorization).await?,
                None => captured(writing, rules, authorization, (reference, *amount, *on)).await?,
            }
        }
        (Ask::Refund { .. }, Answer::Refunded { reference, amount, on }) => {
            let capture = row.capture_id.map(CardCaptureId).ok_or(StoreError::Moved)?;
            let reason = row.reason.unwrap_or_default();
            match return_known(writing, reference).await? {
                true => told_before(writing, authorization).await?,
                false => {
                    refunded(writing, rules, (authorization, capture), (reference, *amount, *on, &reason)).await?;
                }
            }
        }
        (ask, Answer::Refused { words }) => refused(writing, rules, authorization, (ask, words)).await?,
        (ask, _) => {
            let words = format!("the processor answered something else than “{}”", ask.word());
            return Err(StoreError::Corrupt(words));
        }
    }
    refresh(writing, rules, authorization).await?;
    hear_again(writing, rules).await
}

/// It told of it by itself before it answered: nothing is written twice.
async fn told_before(writing: &mut Writing<'_>, authorization: CardAuthorizationId) -> Result<()> {
    let loaded = load(writing, authorization).await?;
    note(writing, &loaded, ("card_answered", "heard from the processor about"), Vec::new()).await
}

async fn refresh(writing: &mut Writing<'_>, rules: &Rules, authorization: CardAuthorizationId) -> Result<()> {
    let order = sqlx::query_scalar!("SELECT order_id FROM card_authorizations WHERE id = ?", authorization.0)
        .fetch_one(&mut **writing)
        .await?;
    orders::refresh_states(writing, order.map(OrderId).as_slice()).await?;
    // What a customer accepted may have all that was asked for now.
    match order {
        Some(order) => customer_pages::settle(writing, rules, OrderId(order)).await,
        None => Ok(()),
    }
}

/// What the processor tells of an authorization; what counts lower than what is known came out of order. Returns whether
/// it stands otherwise since: what says the same again disturbs nobody who has it open.
async fn tell(writing: &mut Writing<'_>, id: CardAuthorizationId, told: &Told) -> Result<bool> {
    let loaded = load(writing, id).await?;
    let news = told.revision > loaded.revision;
    if news {
        let (status, until) = (told.status.word(), told.valid_until);
        sqlx::query!(
            "UPDATE card_authorizations SET status = ?, reference = ?, revision = ?, valid_until = ?, words = ? WHERE id = ?",
            status,
            told.reference,
            told.revision,
            until,
            told.declined,
            id.0
        )
        .execute(&mut **writing)
        .await?;
    }
    let known = (loaded.card.status, loaded.card.valid_until, &loaded.words);
    let otherwise = news && known != (told.status, Some(told.valid_until), &told.declined);
    if otherwise {
        let mut fields = vec![set("state", told.status.words())];
        fields.extend(told.declined.as_ref().map(|why| set("why", why)));
        note(writing, &loaded, ("card_told", "heard from the processor about"), fields).await?;
    }
    Ok(otherwise)
}

async fn refused(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: CardAuthorizationId,
    (ask, words): (&Ask, &str),
) -> Result<()> {
    let loaded = load(writing, id).await?;
    let status = loaded.card.after_refusal(ask, rules.business_date);
    if let Some(status) = status.map(Status::word) {
        sqlx::query!("UPDATE card_authorizations SET status = ?, words = ? WHERE id = ?", status, words, id.0)
            .execute(&mut **writing)
            .await?;
    }
    note(writing, &loaded, ("card_refused", "the processor refused what was asked about"), vec![set("why", words)])
        .await
}

async fn captured(
    writing: &mut Writing<'_>,
    rules: &Rules,
    authorization: CardAuthorizationId,
    (reference, amount, on): (&str, Money, NaiveDate),
) -> Result<()> {
    let loaded = load(writing, authorization).await?;
    let id = next_id(writing, "card_captures").await?;
    sqlx::query!(
        "INSERT INTO card_captures (id, authorization_id, reference, amount_minor, captured_on) VALUES (?, ?, ?, ?, ?)",
        id,
        authorization.0,
        reference,
        amount.0,
        on
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("amount", loaded.card.currency.format(amount))];
    note(writing, &loaded, ("card_captured", "captured from"), fields).await?;
    book_capture_if_possible(writing, rules, CardCaptureId(id)).await
}

async fn refunded(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (authorization, capture): (CardAuthorizationId, CardCaptureId),
    (reference, amount, on, reason): (&str, Money, NaiveDate, &str),
) -> Result<()> {
    let back = ("refunded", reference, amount, Money::ZERO, on, reason);
    let id = went_back(writing, (authorization, capture), back).await?;
    book_refund_if_possible(writing, rules, id).await
}

/// Keeps what went back to a card: kind, name at the processor, amount, fee, day, why.
async fn went_back(
    writing: &mut Writing<'_>,
    (authorization, capture): (CardAuthorizationId, CardCaptureId),
    (kind, reference, amount, fee, on, reason): (&str, &str, Money, Money, NaiveDate, &str),
) -> Result<CardReturnId> {
    let loaded = load(writing, authorization).await?;
    let id = next_id(writing, "card_returns").await?;
    sqlx::query!(
        "INSERT INTO card_returns (id, kind, capture_id, reference, amount_minor, fee_minor, happened_on, reason) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        id, kind, capture.0, reference, amount.0, fee.0, on, reason
    )
    .execute(&mut **writing)
    .await?;
    let what = if kind == "refunded" { "sent money back to the card of" } else { "heard of a charge back on" };
    let fields = vec![set("amount", loaded.card.currency.format(amount)), set("why", reason)];
    note(writing, &loaded, ("card_went_back", what), fields).await?;
    Ok(CardReturnId(id))
}

/// Whether a notice came before.
///
/// # Errors
/// Where the database cannot be read.
pub async fn heard(connection: &mut SqliteConnection, id: &str) -> Result<bool> {
    let known = sqlx::query_scalar!(r#"SELECT EXISTS (SELECT 1 FROM card_events WHERE id = ?) AS "known!: bool""#, id);
    Ok(known.fetch_one(connection).await?)
}

/// What became of a notice.
enum Outcome {
    Done,
    Known,
    Waits,
}

/// Takes in what the processor tells by itself: once, in whatever order it comes. `key` is that of the request it came of.
///
/// # Errors
/// [`StoreError::Unrecorded`] where it came before: nothing is written a second time.
pub async fn hear(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (id, key): (&str, Option<&str>),
    notice: &Notice,
) -> Result<()> {
    if heard(writing, id).await? {
        return Err(StoreError::Unrecorded);
    }
    let outcome = match open_call(writing, key).await?.zip(notice.as_answer()) {
        Some(((call, ask), told)) if ask.fits(&told) => {
            Box::pin(answer(writing, rules, call, &told)).await?;
            Outcome::Done
        }
        _ => take_in(writing, rules, notice).await?,
    };
    let (kept, at) = (json(notice)?, writing.actor().at.to_rfc3339_opts(SecondsFormat::Millis, true));
    let word = match outcome {
        Outcome::Done => "done",
        Outcome::Known => "known",
        Outcome::Waits => "waits",
    };
    sqlx::query!("INSERT INTO card_events (id, notice, came_at, outcome) VALUES (?, ?, ?, ?)", id, kept, at, word)
        .execute(&mut **writing)
        .await?;
    if !matches!(outcome, Outcome::Done) {
        let words = match outcome {
            Outcome::Waits => format!("the card processor told of something not known yet, {id}"),
            _ => format!("the card processor told again what is known, {id}"),
        };
        writing.note_setting("Card processor", words, Vec::new());
    }
    Box::pin(hear_again(writing, rules)).await
}

/// The request a notice came of, where that was not answered yet.
async fn open_call(connection: &mut SqliteConnection, key: Option<&str>) -> Result<Option<(CardCallId, Ask)>> {
    let call = sqlx::query!("SELECT id, ask FROM card_calls WHERE key = ? AND answer IS NULL", key);
    let call = call.fetch_optional(connection).await?;
    call.map(|call| Ok((CardCallId(call.id), read(&call.ask)?))).transpose()
}

async fn named(connection: &mut SqliteConnection, reference: &str) -> Result<Option<CardAuthorizationId>> {
    let id = sqlx::query_scalar!(r#"SELECT id AS "id!" FROM card_authorizations WHERE reference = ?"#, reference);
    Ok(id.fetch_optional(connection).await?.map(CardAuthorizationId))
}

async fn capture_named(
    connection: &mut SqliteConnection,
    reference: &str,
) -> Result<Option<(CardAuthorizationId, CardCaptureId)>> {
    let row = sqlx::query!(r#"SELECT id AS "id!", authorization_id FROM card_captures WHERE reference = ?"#, reference)
        .fetch_optional(connection)
        .await?;
    Ok(row.map(|row| (CardAuthorizationId(row.authorization_id), CardCaptureId(row.id))))
}

async fn return_known(connection: &mut SqliteConnection, reference: &str) -> Result<bool> {
    let known = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM card_returns WHERE reference = ?) AS "known!: bool""#,
        reference
    );
    Ok(known.fetch_one(connection).await?)
}

async fn take_in(writing: &mut Writing<'_>, rules: &Rules, notice: &Notice) -> Result<Outcome> {
    match notice {
        Notice::Authorization(told) => {
            let Some(id) = named(writing, &told.reference).await? else { return Ok(Outcome::Waits) };
            let news = tell(writing, id, told).await?;
            refresh(writing, rules, id).await?;
            Ok(if news { Outcome::Done } else { Outcome::Known })
        }
        Notice::Captured { of, reference, amount, on } => {
            let Some(id) = named(writing, &of.reference).await? else { return Ok(Outcome::Waits) };
            let known = capture_named(writing, reference).await?.is_some();
            if !known {
                captured(writing, rules, id, (reference, *amount, *on)).await?;
            }
            tell(writing, id, of).await?;
            refresh(writing, rules, id).await?;
            Ok(if known { Outcome::Known } else { Outcome::Done })
        }
        Notice::Refunded { reference, capture, amount, on } => {
            if return_known(writing, reference).await? {
                return Ok(Outcome::Known);
            }
            let Some(of) = capture_named(writing, capture).await? else { return Ok(Outcome::Waits) };
            refunded(writing, rules, of, (reference, *amount, *on, "sent back by the processor")).await?;
            Ok(Outcome::Done)
        }
        Notice::ChargedBack { reference, capture, amount, fee, words, on } => {
            if return_known(writing, reference).await? {
                return Ok(Outcome::Known);
            }
            let Some(of) = capture_named(writing, capture).await? else { return Ok(Outcome::Waits) };
            went_back(writing, of, ("charged_back", reference, *amount, *fee, *on, words)).await?;
            Ok(Outcome::Done)
        }
        Notice::PaidOut(report) => paid_out(writing, report).await,
    }
}

async fn paid_out(writing: &mut Writing<'_>, report: &Report) -> Result<Outcome> {
    let known = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM card_payouts WHERE reference = ?) AS "known!: bool""#,
        report.reference
    )
    .fetch_one(&mut **writing)
    .await?;
    if known {
        return Ok(Outcome::Known);
    }
    let id = next_id(writing, "card_payouts").await?;
    let (code, lines) = (report.currency.code(), json(&report.lines)?);
    sqlx::query!(
        "INSERT INTO card_payouts (id, reference, currency, paid_on, gross_minor, fee_minor, net_minor, report) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
        id, report.reference, code, report.on, report.gross.0, report.fee.0, report.net.0, lines
    )
    .execute(&mut **writing)
    .await?;
    let fields = vec![set("paid", report.currency.format(report.net))];
    let words = format!("the processor paid out {}", report.reference);
    writing.note_on((DocumentKind::CardPayout, id, &report.reference), "card_paid_out", words, None, fields);
    Ok(Outcome::Done)
}

/// What came too early may be about something that is known now.
async fn hear_again(writing: &mut Writing<'_>, rules: &Rules) -> Result<()> {
    let waiting =
        sqlx::query!("SELECT id, notice FROM card_events WHERE outcome = 'waits' ORDER BY came_at, id LIMIT 200")
            .fetch_all(&mut **writing)
            .await?;
    for event in waiting {
        let outcome = match Box::pin(take_in(writing, rules, &read(&event.notice)?)).await? {
            Outcome::Waits => continue,
            Outcome::Done => "done",
            Outcome::Known => "known",
        };
        sqlx::query!("UPDATE card_events SET outcome = ? WHERE id = ?", outcome, event.id)
            .execute(&mut **writing)
            .await?;
    }
    Ok(())
}
