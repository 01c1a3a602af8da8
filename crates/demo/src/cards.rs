//! Cards: one that expires before its goods go, one to be captured now, one that was declined, a payout with its fee, a
//! charge back.

use std::cell::RefCell;

use till_core::ids::{CardAuthorizationId, CardId, CustomerId, OrderId};
use till_formats::cards::{ask, notice};
use till_processor::book::Book;
use till_processor::wire::Habit;
use till_store::cards::{self, Asked, NewAuthorization, NewCapture};
use till_store::{Result, Store, StoreError, Writing, rules};

use crate::BUSINESS_DATE;
use crate::company::People;
use crate::prepayments::{bill_part, order};
use crate::staff::{INES, at_work};

/// The books with a processor at the other end.
struct Desk<'a> {
    people: &'a People,
    book: &'a RefCell<Book>,
}

/// Takes the cards of the spring. Returns what the processor knows.
pub(crate) async fn run(store: &Store, people: &People) -> Result<Book> {
    let book = RefCell::new(Book::new(BUSINESS_DATE));
    let desk = Desk { people, book: &book };
    store.change(&at_work(INES, BUSINESS_DATE), None, async |writing| desk.cases(writing).await).await?;
    Ok(book.into_inner())
}

impl Desk<'_> {
    async fn card(&self, writing: &mut Writing<'_>, customer: CustomerId, habit: Habit) -> Result<CardId> {
        let card = self.book.borrow_mut().add_card(habit);
        let rules = rules::load(writing).await?;
        let known = (card.token.as_str(), card.last_four.as_str(), card.valid_through.as_str());
        Ok(cards::add_card(writing, &rules, customer, known).await?.id)
    }

    /// Sends what was written down, and writes the answer down.
    async fn send(&self, writing: &mut Writing<'_>, asked: &Asked) -> Result<()> {
        let Some(call) = asked.call else { return Ok(()) };
        let Some(outgoing) = cards::outgoing(writing, call).await? else { return Ok(()) };
        let answer = ask(&mut self.book.borrow_mut(), &outgoing.key, &outgoing.ask);
        let rules = rules::load(writing).await?;
        cards::answer(writing, &rules, call, &answer).await
    }

    async fn authorize(
        &self,
        writing: &mut Writing<'_>,
        (order, card): (OrderId, CardId),
        amount: Option<&str>,
    ) -> Result<CardAuthorizationId> {
        let rules = rules::load(writing).await?;
        let new = NewAuthorization { order, card, amount: amount.map(str::to_owned) };
        let asked = cards::authorize(writing, &rules, &new).await?;
        self.send(writing, &asked).await?;
        Ok(asked.authorization)
    }

    async fn capture(&self, writing: &mut Writing<'_>, id: CardAuthorizationId, amount: &str) -> Result<()> {
        let rules = rules::load(writing).await?;
        let version = cards::view(writing, &rules, id).await?.version;
        let new = NewCapture { amount: Some(amount.to_owned()), seen: None };
        let seen = Some(cards::preview_capture(writing, &rules, id, &new).await?.fingerprint);
        let asked = cards::capture(writing, &rules, id, (version, &NewCapture { seen, ..new })).await?;
        self.send(writing, &asked).await
    }

    /// What the processor told by itself.
    async fn hear(&self, writing: &mut Writing<'_>) -> Result<()> {
        let told = std::mem::take(&mut self.book.borrow_mut().waiting);
        for event in told {
            let said = notice(&event).map_err(|error| StoreError::Corrupt(error.to_string()))?;
            let rules = rules::load(writing).await?;
            cards::hear(writing, &rules, (&event.id, event.key.as_deref()), &said).await?;
        }
        Ok(())
    }

    async fn cases(&self, writing: &mut Writing<'_>) -> Result<()> {
        // Paid by card as it was ordered, for goods that come in April; paid out since, with the fee of the processor.
        let customer = self.people.customer("1008")?;
        let spring = [("RF-AL", "24.75", 12)];
        let spring = order(writing, self.people, "1008", ("2026-03-13", "2026-04-09"), &spring).await?;
        let card = self.card(writing, customer, Habit::Good).await?;
        let paid = self.authorize(writing, (spring, card), None).await?;
        self.capture(writing, paid, "150.00").await?;
        // Another part of it, which the card's bank took back.
        self.capture(writing, paid, "60.00").await?;
        let last = self.book.borrow().open_captures().last().map(|(capture, _)| capture.id.clone()).unwrap_or_default();
        self.book.borrow_mut().pay_out();
        let back = self.book.borrow_mut().charge_back(&last, 6_000, "not known to the holder of the card");
        back.map_err(|problem| StoreError::Corrupt(problem.detail))?;
        // Gone out and billed, authorized for a week: to be captured.
        let customer = self.people.customer("1012")?;
        let frames =
            order(writing, self.people, "1012", ("2026-03-11", "2026-03-16"), &[("FL-PI", "18.90", 9)]).await?;
        let card = self.card(writing, customer, Habit::Good).await?;
        self.authorize(writing, (frames, card), None).await?;
        bill_part(writing, frames, 9, "2026-03-16").await?;
        // Declined.
        let customer = self.people.customer("1005")?;
        let floors =
            order(writing, self.people, "1005", ("2026-03-17", "2026-03-27"), &[("FL-PI", "18.90", 6)]).await?;
        let card = self.card(writing, customer, Habit::Declined).await?;
        self.authorize(writing, (floors, card), None).await?;
        // It expires on the 20th, and the roofs go later.
        let customer = self.people.customer("1004")?;
        let roofs = order(writing, self.people, "1004", ("2026-03-17", "2026-03-31"), &[("RF-AL", "24.75", 8)]).await?;
        let card = self.card(writing, customer, Habit::ShortLived).await?;
        self.authorize(writing, (roofs, card), None).await?;
        self.hear(writing).await
    }
}
