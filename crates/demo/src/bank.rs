//! The stand-in bank: what the company's bank says of 17 and 18 March, as statements in camt.053.
//!
//! It knows what the books put on its account, and adds what customers paid since, as they do: with a payment reference, with a
//! number among other words, by name only, less the early-payment discount, a part, several at once; a fee, interest, and one
//! nobody can place.

use chrono::NaiveDate;
use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement};
use till_core::ids::{CustomerId, DocumentKind};
use till_core::money::Money;
use till_core::settle::creditor_reference;
use till_store::bank::{self, BankAccountForm, InHandRow, NewSlip, ToBank};
use till_store::customers::{self, OpenItem};
use till_store::{Result, Store, StoreError, Writing, rules};

use crate::BUSINESS_DATE;
use crate::company::{People, date};
use crate::staff::{INES, at_work};

/// The number of the company's account, as its bank says it. No country has these letters.
pub const ACCOUNT: &str = "XX33MARR0001234567";

/// Says the account's number and takes the statement of 17 March in. Nothing of it is accepted yet.
pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    store
        .change(&at_work(INES, BUSINESS_DATE), None, async |writing| {
            bank::set_account(writing, "bank", &BankAccountForm { number: ACCOUNT.to_owned() }).await?;
            let back = slips(writing, &SPRING).await?;
            let statement = first(writing, people, back).await?;
            let rules = rules::load(writing).await?;
            bank::take_in(writing, &rules, "marram-2026-03-17.xml", &[statement]).await?;
            Ok(())
        })
        .await
}

/// Up to which day what came in goes on a slip, and the day that is taken to the bank.
const WINTER: [(&str, &str); 3] =
    [("2026-01-30", "2026-01-30"), ("2026-02-13", "2026-02-13"), ("2026-02-27", "2026-02-27")];
const SPRING: [(&str, &str); 2] = [("2026-03-10", "2026-03-13"), ("2026-03-16", "2026-03-17")];

/// Takes the checks of the months that are closed since to the bank.
pub(crate) async fn winter(store: &Store) -> Result<()> {
    let by = at_work(INES, BUSINESS_DATE);
    store.change(&by, None, async |writing| slips(writing, &WINTER).await.map(|_| ())).await
}

/// Takes the checks to the bank every other Friday, the last of them on 17 March: the bank counts 0.50 less of those. Returns a check
/// that comes back.
async fn slips(writing: &mut Writing<'_>, days: &[(&str, &str)]) -> Result<Option<InHandRow>> {
    let mut comes_back = None;
    for (until, banked) in days.iter().copied() {
        let (until, banked) = (date(until)?, date(banked)?);
        for currency in ["EUR", "GBP", "USD"] {
            // The pounds of the last days wait for more.
            let here = bank::in_hand(writing).await?.into_iter();
            let on: Vec<InHandRow> = here
                .filter(|one| one.currency.code() == currency && one.date <= until && one.amount.is_positive())
                .collect();
            if on.is_empty() || (currency != "EUR" && banked.to_string() == "2026-03-17") {
                continue;
            }
            let entries = on.iter().map(|one| one.entry).collect();
            let rules = rules::load(writing).await?;
            let new = NewSlip { entries, bank: None, date: Some(banked) };
            let seen = bank::preview_slip(writing, &rules, &new).await?.fingerprint;
            let slip = bank::prepare_slip(writing, &rules, &new, Some(&seen)).await?;
            let wish = ToBank { counted: None, date: Some(banked) };
            let seen = bank::preview_bank_slip(writing, &rules, slip.id, &wish).await?.fingerprint;
            bank::bank_slip(writing, &rules, slip.id, (1, Some(&seen)), &wish).await?;
            let receipt = |one: &InHandRow| one.document.kind == DocumentKind::Receipt;
            if currency == "EUR" && banked < date("2026-03-17")? {
                comes_back = on.into_iter().find(receipt).or(comes_back);
            }
        }
    }
    Ok(comes_back)
}

/// What the bank says next: its statement of 18 March as a file, to be imported by whoever tries the program.
///
/// # Errors
/// Where the books cannot be read.
pub async fn next_statement(store: &Store) -> Result<String> {
    let mut books = store.read().await?;
    let rules = rules::load(&mut books).await?;
    let state = bank::accounts(&mut books, &rules).await?;
    let account = state.iter().find(|one| one.number.as_deref() == Some(ACCOUNT)).and_then(|one| one.reconciliation);
    let opening = account.map_or(Money::ZERO, |one| one.bank);
    let day = date("2026-03-18")?;
    let mut lines = vec![
        fee(day, -350, "Charge for 7 transfers"),
        stranger(day, 12_000, "Dune & Daughter", "hive tour, 8 persons"),
    ];
    if let Some(item) = owed(customers::view(&mut books, CustomerId(1)).await?, day).last() {
        lines.push(BankLine {
            reference: creditor_reference(&item.number),
            party: Some("SALTMARSH HONEY CO-OP".to_owned()),
            ..BankLine::plain(day, item.open, "")
        });
    }
    let made = "2026-03-18T18:30:00";
    Ok(till_formats::camt::write("MARR-2026-03-18", made, &[statement("2026-077", day, opening, lines)]))
}

fn statement(bank_id: &str, day: NaiveDate, opening: Money, lines: Vec<BankLine>) -> BankStatement {
    let all: Money = lines.iter().map(|line| line.amount).sum();
    BankStatement {
        bank_id: bank_id.to_owned(),
        account: ACCOUNT.to_owned(),
        currency: till_core::money::Currency::of("EUR").unwrap_or_else(|_| unreachable!("the euro is known")),
        opening: Balance { date: day, amount: opening },
        closing: Balance { date: day, amount: opening + all },
        lines,
    }
}

fn fee(day: NaiveDate, amount: i64, words: &str) -> BankLine {
    BankLine { kind: BankLineKind::Fee, ..BankLine::plain(day, Money(amount), words) }
}

fn stranger(day: NaiveDate, amount: i64, party: &str, words: &str) -> BankLine {
    BankLine { party: Some(party.to_owned()), ..BankLine::plain(day, Money(amount), words) }
}

/// What a customer owes at home since before a day, the oldest due first.
fn owed(view: customers::CustomerView, day: NaiveDate) -> Vec<OpenItem> {
    let own = |item: &OpenItem| item.currency.code() == "EUR" && item.document_date < day && item.branch.is_none();
    view.open_items.into_iter().filter(own).collect()
}

async fn first(writing: &mut Writing<'_>, people: &People, back: Option<InHandRow>) -> Result<BankStatement> {
    let day = date("2026-03-17")?;
    let rules = rules::load(writing).await?;
    // What the books put on the account by the evening of the 16th is its opening balance, what they put there since comes on the 17th.
    let known = bank::outstanding(writing, &rules, "bank").await?;
    let opening: Money = known.iter().filter(|one| one.date < day).map(|one| one.amount).sum();
    let mut lines: Vec<BankLine> = known
        .iter()
        .filter(|one| one.date == day)
        .map(|one| {
            let words = if one.words.is_empty() { one.document.number.clone() } else { one.words.clone() };
            match one.document.kind {
                DocumentKind::CardPayout => {
                    BankLine { kind: BankLineKind::CardPayout, ..BankLine::plain(day, one.amount, &words) }
                }
                // A coin is missing.
                DocumentKind::BankSlip => BankLine {
                    kind: BankLineKind::Deposit,
                    ..BankLine::plain(day, one.amount - Money(50), "paid in at the counter")
                },
                _ => BankLine::plain(day, one.amount, &words),
            }
        })
        .collect();
    let mut nth = 0;
    for number in ["1002", "1003", "1006", "1007", "1009", "1010", "1012"] {
        let customer = people.customer(number)?;
        let view = customers::view(writing, customer).await?;
        let name = view.name.clone();
        let owed = owed(view, day);
        let Some(item) = owed.first() else { continue };
        nth += 1;
        let account = Some(format!("XX{:02}TIDE{:010}", 10 + nth, 4_711 * nth));
        let plain = |amount: Money, words: &str| BankLine {
            party: Some(name.to_uppercase()),
            party_account: account.clone(),
            ..BankLine::plain(day, amount, words)
        };
        let line = match nth {
            1 => BankLine { reference: creditor_reference(&item.number), ..plain(item.open, "") },
            2 => plain(item.open, &format!("Invoice {} dated {}, thank you", item.number, item.document_date)),
            3 if owed.len() > 1 => {
                let two = &owed[..2];
                plain(two.iter().map(|one| one.open).sum(), &format!("{} + {}", two[0].number, two[1].number))
            }
            4 => plain(item.open - Money(1_250), &format!("{} less one broken jar", item.number)),
            5 => plain(item.open - item.early.map_or(Money::ZERO, |early| early.amount), &item.number.to_lowercase()),
            _ => plain(item.open, "as agreed"),
        };
        lines.push(line);
    }
    if let Some(back) = back {
        let words = format!("{} unpaid, with our charge of 15.00", back.words);
        lines.push(BankLine {
            kind: BankLineKind::Returned,
            ..BankLine::plain(day, -back.amount - Money(1_500), &words)
        });
    }
    lines.push(stranger(day, 2_500, "B. Linnet", "deposit for the swarm box, call me"));
    lines.push(fee(day, -650, "Account fee March"));
    lines.push(BankLine { kind: BankLineKind::Interest, ..BankLine::plain(day, Money(80), "Interest February") });
    if lines.iter().any(|line| line.amount.is_zero()) {
        return Err(StoreError::WrongState("a line of nothing in the demo's statement".to_owned()));
    }
    Ok(statement("2026-076", day, opening, lines))
}
