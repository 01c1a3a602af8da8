//! Steps of cards, with the simulated processor at the other end: authorized, captured in steps, voided, sent back, charged
//! back, paid out; answers that are lost, notices that come twice or out of order.

use till_core::ids::{CardAuthorizationId, CardReturnId};
use till_core::money::Money;
use till_formats::cards::{ask, notice};
use till_processor::book::Book;
use till_processor::wire::Habit;
use till_store::cards::{self, Asked, BookPayout, BookReturn, CardView, NewAuthorization, NewCapture, NewRefund};
use till_store::{StoreError, orders, rules};

use super::common::*;
use super::{Made, Step, pages};

async fn view(company: &Company, id: CardAuthorizationId) -> CardView {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    cards::view(&mut books, &rules, id).await.unwrap()
}

/// Sends what was written down. Where the answer is lost, it is asked again with its key later, or told of.
pub(crate) async fn send(company: &Company, made: &mut Made, asked: Option<Asked>, lost: bool) {
    let Some(call) = asked.and_then(|asked| asked.call) else { return };
    let outgoing = cards::outgoing(&mut *company.store.read().await.unwrap(), call).await.unwrap().unwrap();
    let answer = ask(&mut made.processor, &outgoing.key, &outgoing.ask);
    if lost {
        return;
    }
    let answered = change(company, async |writing, rules| cards::answer(writing, rules, call, &answer).await).await;
    made.note("answer of the card processor", answered);
}

/// What the processor told by itself, in the order given; each twice.
async fn hear(company: &Company, made: &mut Made, backwards: bool) {
    let mut told = std::mem::take(&mut made.processor.waiting);
    if backwards {
        told.reverse();
    }
    for event in told.iter().chain(&told) {
        let said = notice(event).unwrap();
        let about = (event.id.as_str(), event.key.as_deref());
        match change(company, async |writing, rules| cards::hear(writing, rules, about, &said).await).await {
            // The second time.
            Err(StoreError::Unrecorded) => {}
            other => {
                made.note("notice of the card processor", other);
            }
        }
    }
}

/// The authorization asked for, or the next one that has what is wanted.
async fn one_with(company: &Company, made: &Made, at: usize, wanted: impl Fn(&CardView) -> bool) -> Option<CardView> {
    for offset in 0..made.cards.len() {
        let view = view(company, made.cards[(at + offset) % made.cards.len()]).await;
        if wanted(&view) {
            return Some(view);
        }
    }
    None
}

async fn authorize(company: &Company, made: &mut Made, (at, what, minor): (usize, u8, i64)) {
    let order = made.orders[at % made.orders.len()];
    let shown = orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap();
    let habit = [Habit::Good, Habit::Good, Habit::Good, Habit::ShortLived, Habit::Declined][usize::from(what % 5)];
    let card = made.processor.add_card(habit);
    let customer = shown.row.customer;
    let kept = change(company, async |writing, rules| {
        cards::add_card(writing, rules, customer, (&card.token, &card.last_four, &card.valid_through)).await
    })
    .await;
    let Some(kept) = made.note("keep a card", kept) else { return };
    let amount = (what % 2 == 0).then(|| shown.row.currency.format(Money(minor)));
    let new = NewAuthorization { order, card: kept.id, amount };
    let asked = change(company, async |writing, rules| cards::authorize(writing, rules, &new).await).await;
    let asked = made.note("authorize a card", asked);
    made.cards.extend(asked.as_ref().map(|asked| asked.authorization));
    send(company, made, asked, what == 4).await;
}

async fn capture(company: &Company, made: &mut Made, (at, minor, lost): (usize, i64, bool)) {
    let Some(view) = one_with(company, made, at, |view| view.row.left.is_positive()).await else { return };
    // All that is left, what has gone out, or any amount.
    let amount = match minor % 3 {
        0 => Some(view.row.currency.format(view.row.left)),
        1 => None,
        _ => Some(view.row.currency.format(Money(minor / 4))),
    };
    let (id, wish) = (view.row.id, (view.version, &NewCapture { amount, seen: None }));
    let asked = change(company, async |writing, rules| cards::capture(writing, rules, id, wish).await).await;
    let asked = made.note("capture", asked);
    send(company, made, asked, lost).await;
}

async fn refund(company: &Company, made: &mut Made, (at, minor): (usize, i64)) {
    let booked = |view: &CardView| view.captures.iter().any(|one| one.document.is_some() && one.left.is_positive());
    let Some(view) = one_with(company, made, at, booked).await else { return };
    let Some(of) = view.captures.iter().find(|one| one.document.is_some() && one.left.is_positive()) else { return };
    let amount = (minor % 2 == 0).then(|| view.row.currency.format(Money(minor / 8)));
    let (id, wish) = (of.id, NewRefund { amount, reason: "by chance".to_owned(), seen: None });
    let asked = change(company, async |writing, rules| cards::refund(writing, rules, id, &wish).await).await;
    let asked = made.note("refund to a card", asked);
    send(company, made, asked, minor % 7 == 0).await;
}

/// Brings into the books what the processor told and was not booked at once.
async fn book(company: &Company, made: &mut Made) {
    let mut returns: Vec<CardReturnId> = Vec::new();
    let mut captures = Vec::new();
    for id in made.cards.clone() {
        let view = view(company, id).await;
        captures.extend(view.captures.iter().filter(|one| one.document.is_none()).map(|one| one.id));
        returns.extend(
            view.captures.iter().flat_map(|one| &one.returns).filter(|one| one.number.is_none()).map(|one| one.id),
        );
    }
    let date = Some(made.on);
    for id in captures {
        let booked = change(company, async |writing, rules| cards::book_capture(writing, rules, id, date).await).await;
        made.note("book a capture", booked);
    }
    for id in returns {
        let wish = BookReturn { date, seen: None };
        let booked = change(company, async |writing, rules| cards::book_return(writing, rules, id, &wish).await).await;
        made.note("book what went back to a card", booked);
    }
    let open = cards::payouts(&mut *company.store.read().await.unwrap(), true, (20, 0)).await.unwrap().payouts;
    for payout in open {
        let wish = BookPayout { method: "transfer".to_owned(), date, seen: None };
        let booked = change(company, async |writing, rules| cards::book_payout(writing, rules, payout.id, &wish).await);
        made.note("book a payout", booked.await);
    }
}

pub(crate) async fn run(company: &Company, made: &mut Made, step: &Step) {
    let Step::Card { at, what, minor } = step else { return pages::run(company, made, step).await };
    if made.orders.is_empty() {
        return;
    }
    // Authorized for a week from the business date on, whatever the days on which it is captured.
    let today = if *what < 5 { day("2026-03-18") } else { made.on };
    made.processor.set_today(today);
    match what {
        0..5 => authorize(company, made, (*at, *what, *minor)).await,
        5..9 => capture(company, made, (*at, *minor, *what == 8)).await,
        9 => {
            let Some(view) = one_with(company, made, *at, |view| view.row.left.is_positive()).await else { return };
            let (id, version) = (view.row.id, view.version);
            let asked = change(company, async |writing, rules| cards::void(writing, rules, id, version).await).await;
            let asked = made.note("void a card", asked);
            send(company, made, asked, *minor % 5 == 0).await;
        }
        10 | 11 => refund(company, made, (*at, *minor)).await,
        12 => {
            let open = made.processor.open_captures();
            let Some((of, left)) = open.get(at % open.len().max(1)) else { return };
            let amount = if minor % 2 == 0 { *left } else { 1 + minor.abs() % left };
            let (id, why) = (of.id.clone(), "not known to its holder");
            made.processor.charge_back(&id, amount, why).unwrap();
        }
        13 => {
            made.processor.pay_out();
        }
        14 => {
            // Whatever was not answered is asked again with its key.
            for id in made.cards.clone() {
                let open = cards::open_calls(&mut *company.store.read().await.unwrap(), id).await.unwrap();
                for outgoing in open {
                    let asked = Asked { authorization: id, call: Some(outgoing.call), waits: None };
                    send(company, made, Some(asked), false).await;
                }
            }
        }
        _ => {
            hear(company, made, *minor % 2 == 0).await;
            book(company, made).await;
        }
    }
}

/// A processor that knows nothing yet.
pub(crate) fn processor() -> Book {
    Book::new(day("2026-03-18"))
}
