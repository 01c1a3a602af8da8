//! The end of a deposit that is not used: refunded, kept as income, or taken back as typed in error.
//!
//! Money that came by a card goes back to it, or is taken back by its bank, in the same way; so does what of a captured
//! receipt lies unapplied. Each makes an open item that stands against it, so that what is held of it follows from applications alone. An
//! applied deposit is unapplied first. *Source: domain.md section 8; postings.md, Money.*
//!
//! ```
//! use till_core::deposit::ending::EndKind;
//! assert_eq!(EndKind::of("kept"), Some(EndKind::Kept));
//! ```

use serde::{Deserialize, Serialize};

use super::{HeldTax, advance_lines, tax_line};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::using::part_of;
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::ids::EntryId;
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};
use crate::people::check_reason;
use crate::posting::{NewApplication, NewItem, Posting, Which};
use crate::room::{Movement, room_from};
use crate::settle::BesideBooked;
use crate::settle::back::{Standing, by_card, taken_back};
use crate::settle::{Method, MoneyPlace, PlaceKind};
use crate::tape::{Change, Figure, Tape, TapeStyle};

/// What became of what was not used.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum EndKind {
    /// Sent back to the customer.
    Refunded,
    /// Kept as income.
    Kept,
}

impl EndKind {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Refunded => "refunded",
            Self::Kept => "kept",
        }
    }

    /// The kind with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::Refunded, Self::Kept].into_iter().find(|kind| kind.word() == word)
    }
}

/// How a deposit ends.
#[derive(Debug, Clone)]
pub enum Ending {
    /// The money is sent back.
    Refund {
        /// How, and where it is taken from.
        method: Method,
    },
    /// It goes back to the card it came from, or the card's bank takes it back.
    Card {
        /// Card clearing.
        place: MoneyPlace,
        /// What the processor asks for a charge back, beside; none where we send it back ourselves.
        fee: Option<Money>,
    },
    /// It is kept as income: the customer gave the order up, and the terms say so.
    Keep,
    /// It was typed in error: the money never came.
    Reverse {
        /// Where it was said to be.
        place: MoneyPlace,
        /// The entry that said so.
        entry: EntryId,
        /// What it said: amount and base amount.
        amount: (Money, Money),
    },
    /// It was made of money that lay unapplied, in error: that lies unapplied again.
    Return {
        /// The entry that said so.
        entry: EntryId,
        /// What it said: amount and base amount.
        amount: (Money, Money),
        /// What stands against the money it was made of.
        unapplied: Box<Standing>,
    },
}

/// Everything needed to decide on the end of a deposit.
#[derive(Debug, Clone)]
pub struct EndInput<'a> {
    /// Its open item.
    pub item: OpenItem,
    /// The customer's name.
    pub customer_name: String,
    /// The customer's class, for the account map.
    pub customer_class: Option<String>,
    /// How it ends.
    pub ending: Ending,
    /// How much of it, in its currency.
    pub amount: Money,
    /// When.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Base per unit of its currency on the day; none where none is known.
    pub rate: Option<ExchangeRate>,
    /// What came to the place a refund is taken from and left it, in base currency; not needed of a bank account.
    pub at_place: Vec<Movement>,
    /// Base currency.
    pub base: Currency,
    /// Today's date.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What ending a deposit does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct EndDecision {
    /// What is carried of the part that ends, in base currency.
    pub amount_base: Money,
    /// Its tax.
    pub taxes: Vec<HeldTax>,
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on refunding, keeping or reversing a deposit.
pub fn decide(input: &EndInput<'_>) -> EndDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let date = input.date.date;
    let part = input.amount.min(input.item.open).max(Money::ZERO);
    let (amount_base, taxes) = part_of(&input.item, part, date, None);
    let entry = enter(input, (part, amount_base), &taxes, &mut findings);
    let currency = input.item.currency;
    let held = |amount: Money| Figure::words(format!("{} {currency}", currency.grouped(amount)));
    EndDecision {
        fingerprint: fingerprint::of(&(input.item.id, part, &taxes, &entry)),
        tape: tape(input, part, &taxes),
        changes: vec![Change {
            label: match input.item.purpose {
                Purpose::DepositLiability => format!("Held of {}", input.item.document.number),
                _ => format!("Unapplied of {}", input.item.document.number),
            },
            before: Some(held(input.item.open)),
            after: held(input.item.open - part),
        }],
        amount_base,
        taxes,
        entry,
        blockers: findings.finish(),
    }
}

impl EndDecision {
    /// What it does to the books: an item that stands against the deposit, all of it at once.
    pub fn posting(&self, input: &EndInput<'_>) -> Posting {
        let mut posting = Posting::default();
        let reverses = match &input.ending {
            Ending::Reverse { entry, .. } | Ending::Return { entry, .. } => Some(*entry),
            Ending::Refund { .. } | Ending::Card { .. } | Ending::Keep => None,
        };
        let entry = posting.enter(self.entry.clone(), reverses);
        let (item, date) = (&input.item, input.date.date);
        let amounts = (input.amount, self.amount_base);
        let debit = if let Ending::Return { unapplied, .. } = &input.ending {
            // What stood against the money is what the deposit is given up for: the money is free of it.
            posting.applications = taken_back(std::slice::from_ref(&**unapplied), &posting.entries, date);
            Which::Known(unapplied.debit.id)
        } else {
            let account = item.account.as_ref().map(|account| account.number.as_str());
            let whose = (item.customer, item.purpose, Side::OwedToUs);
            let mut against = NewItem::due_at_once(whose, account, item.currency, amounts, date);
            against.taxes = self.taxes.clone();
            posting.make(against)
        };
        posting.applications.push(NewApplication {
            date,
            debit,
            credit: Which::Known(item.id),
            debit_amount: amounts,
            credit_amount: amounts,
            beside: BesideBooked::default(),
            taxes: self.taxes.clone(),
            reverses: None,
            entry,
        });
        posting
    }
}

fn check(input: &EndInput<'_>, findings: &mut Findings) {
    let (item, date) = (&input.item, input.date.date);
    let number = &item.document.number;
    let format = |amount: Money| item.currency.grouped(amount);
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("refund", date, "date", findings);
    if !input.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    } else if let Ending::Reverse { amount, .. } | Ending::Return { amount, .. } = &input.ending {
        if matches!(&input.ending, Ending::Reverse { place, .. } if place.kind == PlaceKind::CardClearing) {
            findings.add(Check::CannotCancel, "deposit", by_card(number));
        }
        if item.open != amount.0 {
            let used = format(amount.0 - item.open);
            let sentence =
                format!("{used} of {number} is applied or refunded. Unapply it first; what is refunded stays.");
            findings.add(Check::CannotCancel, "deposit", sentence);
        }
    } else if input.amount > item.open {
        let deposit = item.purpose == Purpose::DepositLiability;
        let lies = if deposit { "held" } else { "unapplied" };
        let sentence = match item.open.is_zero() {
            true if deposit => format!("Nothing of {number} is held any more. An applied deposit is unapplied first."),
            true => format!("Nothing of {number} is unapplied. Unapply it first, or credit its invoice."),
            false => format!("{} of {number} is {lies}. Enter that or less.", format(item.open)),
        };
        findings.add(Check::MoreThanHeld, "amount", sentence);
    }
    if let Some(from) = item.free_from().filter(|from| *from > date) {
        let sentence = format!("{number} is free from {} on. Choose that day or a later one.", words(from));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    if matches!(input.ending, Ending::Refund { .. } | Ending::Card { .. }) && input.rate.is_none() {
        let sentence = "No exchange rate is known for this date. Ask a supervisor to enter it.";
        findings.add(Check::ExchangeRateMissing, "date", sentence);
    }
    if let Ending::Refund { method } = &input.ending {
        check_place(input, method, findings);
        if let Some(kept_in) = method.place.currency.filter(|kept_in| *kept_in != item.currency) {
            let sentence = format!(
                "{} is kept in {kept_in}, this money in {}. Choose another way.",
                method.place.name, item.currency
            );
            findings.add(Check::CurrencyDiffers, "method", sentence);
        }
    }
}

/// A refund leaves a bank account, or the drawer as far as there is money in it: what customers paid by check or card is
/// not sent on. *Source: domain.md section 3, nothing is used before it is there.*
fn check_place(input: &EndInput<'_>, method: &Method, findings: &mut Findings) {
    match method.place.kind {
        PlaceKind::Bank => {}
        PlaceKind::ChecksInHand | PlaceKind::CardClearing => {
            let sentence = format!("Nothing is sent back from {}. Choose a transfer, or cash.", method.place.name);
            findings.add(Check::MoreThanHeld, "method", sentence);
        }
        PlaceKind::Drawer => {
            let rate = input.rate.unwrap_or(ExchangeRate::ONE);
            let paid = input.amount.to_base(rate, input.item.currency, input.base);
            let there = Money(room_from(input.date.date, &input.at_place).max(0));
            if paid > there {
                let (there, since) = (input.base.grouped(there), words(input.date.date));
                let place = &method.place.name;
                let sentence =
                    format!("From {since} on only {there} {} lie in {place}. Choose a transfer.", input.base);
                findings.add(Check::MoreThanHeld, "method", sentence);
            }
        }
    }
}

/// Dr deposits, and the tax that stood on it; Cr where the money leaves, or income with its tax.
fn enter(
    input: &EndInput<'_>,
    (amount, amount_base): (Money, Money),
    taxes: &[HeldTax],
    findings: &mut Findings,
) -> Option<Entry> {
    let item = &input.item;
    let mut builder = EntryBuilder::new(input.accounts, input.customer_class.as_deref(), item.currency);
    advance_lines(&mut builder, item, (amount, amount_base), taxes);
    let number = &item.document.number;
    let text = match &input.ending {
        Ending::Refund { method } => {
            let paid = amount.to_base(input.rate.unwrap_or(ExchangeRate::ONE), item.currency, input.base);
            at_place(&mut builder, item, &method.place, (-amount, -paid));
            builder.add_difference(paid - amount_base, input.base);
            format!("{number} of {} refunded", input.customer_name)
        }
        Ending::Card { place, fee } => {
            let to_base =
                |amount: Money| amount.to_base(input.rate.unwrap_or(ExchangeRate::ONE), item.currency, input.base);
            let (paid, asked) = (to_base(amount), fee.unwrap_or(Money::ZERO));
            let asked_base = to_base(asked);
            at_place(&mut builder, item, place, (-amount - asked, -paid - asked_base));
            let what = LineFor { currency: Some(item.currency), ..LineFor::default() };
            builder.add(Purpose::Fees, asked, asked_base, what);
            builder.add_difference(paid - amount_base, input.base);
            let what = if fee.is_some() { "charged back" } else { "sent back to the card" };
            format!("{number} of {} {what}", input.customer_name)
        }
        Ending::Keep => {
            let tax: Money = taxes.iter().map(|held| held.tax).sum();
            let tax_base: Money = taxes.iter().map(|held| held.tax_base).sum();
            let what = LineFor { currency: Some(item.currency), ..LineFor::default() };
            builder.add(Purpose::OtherIncome, tax - amount, tax_base - amount_base, what);
            for held in taxes {
                tax_line(&mut builder, &held.turned(), item.currency);
            }
            format!("{number} of {} kept as income", input.customer_name)
        }
        Ending::Reverse { place, .. } => {
            at_place(&mut builder, item, place, (-amount, -amount_base));
            format!("{number} of {} reversed", input.customer_name)
        }
        Ending::Return { unapplied, .. } => {
            advance_lines(&mut builder, &unapplied.debit, (-amount, -amount_base), &[]);
            format!("{number} of {} reversed", input.customer_name)
        }
    };
    builder.finish_or_say(input.date.date, text, findings)
}

fn at_place(builder: &mut EntryBuilder<'_>, item: &OpenItem, place: &MoneyPlace, amounts: (Money, Money)) {
    let purpose = place.kind.purpose();
    let customer = (purpose != Purpose::Bank).then_some(item.customer);
    let what = LineFor { customer, currency: Some(item.currency), ..LineFor::default() };
    builder.add_to(&place.account, purpose, amounts, what);
}

fn tape(input: &EndInput<'_>, part: Money, taxes: &[HeldTax]) -> Tape {
    let (heading, last) = match &input.ending {
        Ending::Refund { method } => ("refund of", format!("Sent back by {}", method.name.to_lowercase())),
        Ending::Card { fee: None, .. } => ("refund of", "Sent back to the card".to_owned()),
        Ending::Card { .. } => ("charge back of", "Charged back by the card's bank".to_owned()),
        Ending::Keep => ("kept as income:", "Kept as income".to_owned()),
        Ending::Reverse { .. } => ("reversal of", "Not received".to_owned()),
        Ending::Return { unapplied, .. } => {
            ("reversal of", format!("Unapplied again on {}", unapplied.credit.document.number))
        }
    };
    let number = &input.item.document.number;
    let mut tape = Tape::new(input.customer_name.clone(), format!("{heading} {number}"), input.item.currency);
    let deposit = input.item.purpose == Purpose::DepositLiability;
    tape.amount(TapeStyle::Line, if deposit { "Held" } else { "Unapplied" }, input.item.open);
    for held in taxes {
        let label = match &input.ending {
            Ending::Keep => format!("Tax {}% in it, stays due", held.rate.rate.percent()),
            Ending::Refund { .. } | Ending::Card { .. } | Ending::Reverse { .. } | Ending::Return { .. } => {
                format!("Tax {}% in it", held.rate.rate.percent())
            }
        };
        tape.part(TapeStyle::Line, label, held.net, held.tax);
    }
    if let Ending::Card { fee: Some(fee), .. } = &input.ending {
        tape.amount(TapeStyle::Line, "Fee of the processor, beside", *fee);
    }
    tape.amount(TapeStyle::Due, last, part);
    tape.amount(TapeStyle::Detail, if deposit { "stays held" } else { "stays unapplied" }, input.item.open - part);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}
