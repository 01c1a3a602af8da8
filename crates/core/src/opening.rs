//! Opening: what a company brings along when it begins in the middle of its life.
//!
//! Open invoices and unapplied money by customer, stock by layer, the balances of the other accounts:
//! one posting against the opening account, so that both sides of every sub-ledger begin equal. Control
//! accounts are never given a balance by hand: theirs is the sum of what stands behind them.
//! *Source: domain.md section 11; postings.md, Period ends.*
//!
//! ```
//! use till_core::opening::OpeningSide;
//! use till_core::accounts::Purpose;
//! assert_eq!(OpeningSide::Invoice.purpose(), Purpose::Receivable);
//! assert_eq!(OpeningSide::Unapplied.purpose(), Purpose::Unapplied);
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{Account, AccountMap, Purpose};
use crate::calendar::{DocumentDate, Periods, Terms, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::{ExchangeRate, Quantity};
use crate::ids::{CustomerId, ItemId};
use crate::money::{Currency, Money};
use crate::open_items::Side;
use crate::posting::{NewItem, NewLayer, Posting};
use crate::tape::{Tape, TapeStyle};

/// Which way an opening item is owed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum OpeningSide {
    /// An invoice of before that is open.
    Invoice,
    /// Money of a customer that has no target.
    Unapplied,
}

impl OpeningSide {
    /// The control account it stands on.
    pub const fn purpose(self) -> Purpose {
        match self {
            Self::Invoice => Purpose::Receivable,
            Self::Unapplied => Purpose::Unapplied,
        }
    }

    /// Who owes it.
    pub const fn side(self) -> Side {
        match self {
            Self::Invoice => Side::OwedToUs,
            Self::Unapplied => Side::OwedByUs,
        }
    }
}

/// An open item of before.
#[derive(Debug, Clone)]
pub struct OpeningItem {
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The customer's class, for the account map.
    pub customer_class: Option<String>,
    /// Which way it is owed.
    pub side: OpeningSide,
    /// The number it had.
    pub number: String,
    /// Its document date.
    pub document_date: NaiveDate,
    /// When it is due.
    pub due_date: NaiveDate,
    /// What is open, in `currency`, above zero.
    pub amount: Money,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it that it is carried at; none where none is known.
    pub rate: Option<ExchangeRate>,
}

impl OpeningItem {
    /// What it is carried at, in base currency.
    pub fn base(&self, base: Currency) -> Money {
        self.amount.to_base(self.rate.unwrap_or(ExchangeRate::ONE), self.currency, base)
    }
}

/// Stock of before.
#[derive(Debug, Clone)]
pub struct OpeningStock {
    /// The item.
    pub item: ItemId,
    /// Its code.
    pub code: String,
    /// Its class, for the account map.
    pub class: String,
    /// Where it lies.
    pub warehouse: String,
    /// How much, in stock units.
    pub quantity: Quantity,
    /// What all of it cost, in base currency.
    pub cost: Money,
}

/// The balance of an account that nothing stands behind.
#[derive(Debug, Clone)]
pub struct OpeningBalance {
    /// The account.
    pub account: Account,
    /// What its line is for.
    pub purpose: Purpose,
    /// Debit positive, credit negative, in base currency.
    pub amount: Money,
    /// What the account is kept for, where that is given by documents only.
    pub control: Option<Purpose>,
}

/// Everything needed to decide on an opening.
#[derive(Debug, Clone)]
pub struct OpeningInput<'a> {
    /// The day.
    pub date: DocumentDate,
    /// Open items.
    pub items: Vec<OpeningItem>,
    /// Stock.
    pub stock: Vec<OpeningStock>,
    /// Balances of other accounts.
    pub balances: Vec<OpeningBalance>,
    /// Numbers of opening items that are in the books already.
    pub known: Vec<String>,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
    /// Base currency.
    pub base: Currency,
}

/// What an opening does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct OpeningDecision {
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on an opening.
pub fn decide(input: &OpeningInput<'_>) -> OpeningDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let entry = enter(input, &mut findings);
    let items: Vec<_> = input
        .items
        .iter()
        .map(|item| (item.customer, &item.number, item.amount, item.document_date, item.due_date))
        .collect();
    let stock: Vec<_> =
        input.stock.iter().map(|stock| (stock.item, &stock.warehouse, stock.quantity, stock.cost)).collect();
    OpeningDecision {
        tape: tape(input),
        fingerprint: fingerprint::of(&(&entry, items, stock)),
        entry,
        blockers: findings.finish(),
    }
}

impl OpeningDecision {
    /// What it does to the books. The items stand in the order of the input; each comes from a document of
    /// before, that the writer names.
    pub fn posting(&self, input: &OpeningInput<'_>) -> Posting {
        let date = input.date.date;
        let mut posting = Posting::default();
        posting.enter(self.entry.clone(), None);
        posting.items.extend(input.items.iter().map(|item| self.item(input, item)));
        posting.layers.extend(input.stock.iter().map(|stock| NewLayer {
            item: stock.item,
            warehouse: stock.warehouse.clone(),
            date,
            quantity: stock.quantity,
            cost: stock.cost,
            step: None,
        }));
        posting
    }

    /// Due in whole, from the day it was due.
    fn item(&self, input: &OpeningInput<'_>, item: &OpeningItem) -> NewItem {
        let (purpose, side) = (item.side.purpose(), item.side.side());
        let line = self.entry.as_ref().and_then(|entry| {
            entry.lines.iter().find(|line| line.purpose == purpose && line.customer == Some(item.customer))
        });
        let days = (item.due_date - item.document_date).num_days().clamp(0, i64::from(u16::MAX));
        let terms = Terms::net_days(u16::try_from(days).unwrap_or(u16::MAX));
        NewItem {
            customer: item.customer,
            purpose,
            account: line.map(|line| line.account.clone()),
            side,
            document: None,
            currency: item.currency,
            amount: item.amount,
            amount_base: item.base(input.base),
            posting_date: input.date.date,
            document_date: item.document_date,
            terms: (side == Side::OwedToUs).then_some(terms),
            due_date: item.due_date,
            taxes: Vec::new(),
        }
    }
}

fn check(input: &OpeningInput<'_>, findings: &mut Findings) {
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    if input.items.is_empty() && input.stock.is_empty() && input.balances.is_empty() {
        findings.add(Check::NothingToDo, "items", "Give at least one open item, some stock or a balance.");
    }
    for (at, item) in input.items.iter().enumerate() {
        let field = |name: &str| format!("items.{at}.{name}");
        if !item.amount.is_positive() {
            findings.add(
                Check::AmountNotPositive,
                field("amount"),
                format!("{} needs an amount above zero.", item.number),
            );
        }
        if item.rate.is_none() {
            let sentence = format!("No exchange rate of {} is known for {}.", item.currency, words(date));
            findings.add(Check::ExchangeRateMissing, field("amount"), sentence);
        }
        if item.document_date > date {
            let sentence = format!("{} is dated after the opening of {}.", item.number, words(date));
            findings.add(Check::DateOutOfOrder, field("document_date"), sentence);
        }
        let twice = input.items[..at].iter().any(|other| other.number == item.number);
        if twice || input.known.contains(&item.number) {
            findings.add(Check::NamedTwice, field("number"), format!("{} is brought in already.", item.number));
        }
    }
    for (at, stock) in input.stock.iter().enumerate() {
        if !stock.quantity.is_positive() || stock.cost < Money::ZERO {
            let sentence = format!("{} needs a quantity above zero, and a cost of zero or more.", stock.code);
            findings.add(Check::QuantityNotPositive, format!("stock.{at}.quantity"), sentence);
        }
    }
    for (at, balance) in input.balances.iter().enumerate() {
        let account = &balance.account;
        if let Some(purpose) = balance.control {
            findings.add(
                Check::AccountMissing,
                format!("balances.{at}.account"),
                format!(
                    "{} {} is kept for {}: bring in what stands behind it instead.",
                    account.number,
                    account.name,
                    purpose.word().replace('_', " ")
                ),
            );
        }
        if input.balances[..at].iter().any(|other| other.account.number == account.number) {
            let sentence = format!("{} is named twice. Give it one balance.", account.number);
            findings.add(Check::NamedTwice, format!("balances.{at}.account"), sentence);
        }
    }
}

/// Each on its account, the whole against the opening account.
fn enter(input: &OpeningInput<'_>, findings: &mut Findings) -> Option<Entry> {
    let mut builder = EntryBuilder::new(input.accounts, None, input.base);
    let mut whole = Money::ZERO;
    for item in &input.items {
        let sign = if item.side.side() == Side::OwedToUs { 1 } else { -1 };
        let (amount, base) = (Money(sign * item.amount.0), Money(sign * item.base(input.base).0));
        let what = LineFor {
            customer: Some(item.customer),
            customer_class: item.customer_class.as_deref(),
            currency: Some(item.currency),
            ..LineFor::default()
        };
        builder.add(item.side.purpose(), amount, base, what);
        whole += base;
    }
    for stock in &input.stock {
        builder.add_base(
            Purpose::Inventory,
            stock.cost,
            LineFor { item_class: Some(&stock.class), ..LineFor::default() },
        );
        whole += stock.cost;
    }
    for balance in &input.balances {
        let amounts = (balance.amount, balance.amount);
        builder.add_to(&balance.account, balance.purpose, amounts, LineFor::default());
        whole += balance.amount;
    }
    builder.add_base(Purpose::Opening, -whole, LineFor::default());
    builder.finish_or_say(input.date.date, "Opening balances".to_owned(), findings)
}

fn tape(input: &OpeningInput<'_>) -> Tape {
    let mut tape = Tape::new("Opening balances", words(input.date.date), input.base);
    let sum = |side: OpeningSide| -> (usize, Money) {
        let mine = input.items.iter().filter(|item| item.side == side);
        (mine.clone().count(), mine.map(|item| item.base(input.base)).sum())
    };
    let mut whole = Money::ZERO;
    for (side, one, many, sign) in [
        (OpeningSide::Invoice, "open invoice", "open invoices", 1),
        (OpeningSide::Unapplied, "unapplied amount", "unapplied amounts", -1),
    ] {
        let (count, amount) = sum(side);
        if count > 0 {
            let amount = Money(sign * amount.0);
            tape.amount(TapeStyle::Line, format!("{count} {}", if count == 1 { one } else { many }), amount);
            whole += amount;
        }
    }
    let stock: Money = input.stock.iter().map(|stock| stock.cost).sum();
    if !input.stock.is_empty() {
        let layers = if input.stock.len() == 1 { "layer" } else { "layers" };
        tape.amount(TapeStyle::Line, format!("{} {layers} of stock", input.stock.len()), stock);
    }
    for balance in &input.balances {
        tape.amount(TapeStyle::Line, format!("{} {}", balance.account.number, balance.account.name), balance.amount);
    }
    whole += stock + input.balances.iter().map(|balance| balance.amount).sum();
    tape.amount(TapeStyle::Due, "Opening account", -whole);
    tape
}
