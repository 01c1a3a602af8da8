//! Bank lines that are nobody's payment: fees, interest, anything else to an account.

use serde::{Deserialize, Serialize};

use super::BankLineKind;
use crate::accounts::{Account, AccountMap, AccountType, Purpose};
use crate::calendar::{DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::money::{Currency, Money};
use crate::posting::Posting;
use crate::settle::MoneyPlace;
use crate::tape::{Tape, TapeStyle};

/// What a line is booked as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Booking {
    /// To what the account map says: a fee to fees, also where it is given back; of anything else what came to other income,
    /// what left to fees.
    Usual(BankLineKind),
    /// What the bank counted otherwise of a slip: short to small differences, over to other income.
    Counted,
    /// To an account someone chose.
    Account(Account),
}

/// Everything needed to decide on booking a line.
#[derive(Debug, Clone)]
pub struct BookInput<'a> {
    /// Number of its statement.
    pub number: String,
    /// What the bank or the clerk says it is.
    pub text: String,
    /// The bank account.
    pub place: MoneyPlace,
    /// How much, in the account's currency; below zero where it left.
    pub amount: Money,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it on the day; none where none is known.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// What it is booked as.
    pub booking: Booking,
    /// When: as the bank booked it, or another day.
    pub date: DocumentDate,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What booking a line does, or why it cannot be.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct BookDecision {
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date.
    pub fingerprint: String,
}

impl BookDecision {
    /// What it does to the books: its entry.
    pub fn posting(&self) -> Posting {
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting
    }
}

/// Decides on booking a line. *Source: postings.md, Money: bank fee and interest on the bank statement.*
pub fn book(input: &BookInput<'_>) -> BookDecision {
    let mut findings = Findings::at(Step::Post);
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    if input.rate.is_none() {
        let sentence = format!("No rate of {} is known for {}. Enter one in Setup.", input.currency, words(date));
        findings.add(Check::ExchangeRateMissing, "date", sentence);
    }
    let base = input.amount.to_base(input.rate.unwrap_or(ExchangeRate::ONE), input.currency, input.base);
    let mut builder = EntryBuilder::new(input.accounts, None, input.currency);
    builder.add_to(&input.place.account, Purpose::Bank, (input.amount, base), LineFor::default());
    match &input.booking {
        Booking::Usual(kind) => {
            let came = input.amount.is_positive() && *kind != BankLineKind::Fee;
            let purpose = if came { Purpose::OtherIncome } else { Purpose::Fees };
            builder.add(purpose, -input.amount, -base, LineFor::default());
        }
        Booking::Counted => {
            let purpose = if input.amount.is_positive() { Purpose::OtherIncome } else { Purpose::WriteOff };
            builder.add(purpose, -input.amount, -base, LineFor::default());
        }
        Booking::Account(account) => {
            // What stands behind these accounts is kept line by line: documents write them, nobody by hand.
            // Money that only moves between our own accounts is no income either.
            if input.accounts.is_control(&account.number) || account.account_type == AccountType::Asset {
                let sentence = format!(
                    "{} {} is written by documents only. Enter a receipt or a refund instead, or choose income or an expense.",
                    account.number, account.name
                );
                findings.add(Check::AccountMissing, "account", sentence);
            }
            let income = account.account_type == AccountType::Revenue || input.amount.is_positive();
            let purpose = if income { Purpose::OtherIncome } else { Purpose::Fees };
            builder.add_to(account, purpose, (-input.amount, -base), LineFor::default());
        }
    }
    let entry = builder.finish_or_say(date, format!("{}, bank statement {}", input.text, input.number), &mut findings);
    let mut tape = Tape::new(input.place.name.clone(), format!("line of {}", input.number), input.currency);
    tape.amount(TapeStyle::Line, input.text.clone(), input.amount);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(date)), !input.date.typed);
    BookDecision {
        tape,
        fingerprint: fingerprint::of(&(&input.number, date, input.amount, &entry)),
        blockers: findings.finish(),
        entry,
    }
}
