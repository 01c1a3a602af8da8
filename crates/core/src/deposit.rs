//! Customer deposits: money taken in advance on purpose, before an invoice exists.
//!
//! A deposit is an open item owed by us, on an account of its own, for an order or on account. Where tax on money in
//! advance is due at receipt, its tax per code is booked as it comes in: the account carries the net, the item the
//! whole, and what of the item is tax stands beside it ([`HeldTax`]). A deposit keeps the regime it was taken under.
//! [`take`] takes one, out of money that comes in or of money that lies unapplied; [`using`] applies those of its orders
//! to an invoice, [`ending`] gives one back, keeps it as income or takes it back as typed in error, [`undoing`] takes that
//! back.
//!
//! *Source: domain.md section 8; postings.md, Money. That an advance is taxed as it is received where the supply is
//! known: Directive 2006/112/EC art. 65, from memory; money on account, for no order, is for no known supply and is
//! not taxed.*
//!
//! ```
//! use till_core::deposit::split_by_code;
//! use till_core::money::Money;
//! use till_core::tax::{TaxCategory, TaxRate};
//! let rate = TaxRate { code: "S23".to_owned(), category: TaxCategory::S, rate: "0.23".parse().unwrap() };
//! // postings.md: a deposit of 80.00 with 23 % in it is 65.04 and 14.96.
//! let day = "2026-03-18".parse().unwrap();
//! let held = split_by_code(Money(8_000), &[(rate, Money(29_028))], day, |amount| amount);
//! assert_eq!((held[0].net, held[0].tax), (Money(6_504), Money(1_496)));
//! ```

pub mod ending;
pub mod undoing;
pub mod using;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::{Entry, EntryBuilder, LineFor, TaxMark};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::ids::CustomerId;
use crate::money::{Currency, Money, too_large};
use crate::open_items::{OpenItem, Side};
use crate::posting::{NewApplication, NewItem, Posting, Which, account_of};
use crate::settle::BesideBooked;
use crate::settle::Method;
use crate::spread::spread;
use crate::tape::{Change, Figure, Tape, TapeStyle};
use crate::tax::TaxRate;

/// When tax on money in advance is due. *Source: domain.md section 4.*
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum AdvanceTax {
    /// As the money is received, where it is for an order.
    AtReceipt,
    /// As the invoice is posted.
    #[default]
    AtInvoice,
}

impl AdvanceTax {
    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::AtReceipt => "at_receipt",
            Self::AtInvoice => "at_invoice",
        }
    }

    /// The regime with this word.
    pub fn of(word: &str) -> Option<Self> {
        [Self::AtReceipt, Self::AtInvoice].into_iter().find(|regime| regime.word() == word)
    }
}

/// Tax of one code that stands on money in advance, or what of it is used: net and tax, in the currency of the
/// money and at what they are carried at. Net and tax together are what the customer paid.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct HeldTax {
    /// Code, category and rate.
    #[serde(flatten)]
    pub rate: TaxRate,
    /// The day it is reported on.
    pub tax_date: NaiveDate,
    /// Net, in the currency of the money.
    pub net: Money,
    /// Tax, in the currency of the money.
    pub tax: Money,
    /// Net, in base currency.
    pub net_base: Money,
    /// Tax, in base currency.
    pub tax_base: Money,
}

impl HeldTax {
    /// What the customer paid for it.
    pub fn gross(&self) -> Money {
        self.net + self.tax
    }

    /// The same, in base currency.
    pub fn gross_base(&self) -> Money {
        self.net_base + self.tax_base
    }

    /// The same, with the signs turned.
    pub fn turned(&self) -> Self {
        Self { net: -self.net, tax: -self.tax, net_base: -self.net_base, tax_base: -self.tax_base, ..self.clone() }
    }

    /// The same, reported on another day.
    pub fn on(&self, tax_date: NaiveDate) -> Self {
        Self { tax_date, ..self.clone() }
    }
}

/// Splits money in advance over the tax codes of what it is for, by each code's share of the gross, and takes the tax
/// out of each part. `gross` is each code with what it comes to with tax; `to_base` converts to base currency: the
/// whole first, then each tax, and what remains is the net.
pub fn split_by_code(
    amount: Money,
    gross: &[(TaxRate, Money)],
    tax_date: NaiveDate,
    to_base: impl Fn(Money) -> Money,
) -> Vec<HeldTax> {
    let weights: Vec<i64> = gross.iter().map(|(_, gross)| gross.0).collect();
    let parts = spread(amount, &weights);
    let whole_base = to_base(amount);
    let taxes: Vec<(Money, Money)> = gross
        .iter()
        .zip(&parts)
        .map(|((rate, _), part)| {
            let net = part.without(rate.rate);
            (net, *part - net)
        })
        .collect();
    let tax_bases: Vec<Money> = taxes.iter().map(|(_, tax)| to_base(*tax)).collect();
    let nets: Vec<i64> = taxes.iter().map(|(net, _)| net.0).collect();
    let net_bases = spread(whole_base - tax_bases.iter().copied().sum::<Money>(), &nets);
    gross
        .iter()
        .zip(taxes)
        .zip(tax_bases.into_iter().zip(net_bases))
        .filter(|((_, (net, tax)), _)| !net.is_zero() || !tax.is_zero())
        .map(|(((rate, _), (net, tax)), (tax_base, net_base))| HeldTax {
            rate: rate.clone(),
            tax_date,
            net,
            tax,
            net_base,
            tax_base,
        })
        .collect()
}

/// What is left of tax that stands on money in advance once some of it was used; a code that is used up is left out.
pub fn left_of(held: &[HeldTax], used: &[HeldTax]) -> Vec<HeldTax> {
    let left = |held: &HeldTax| {
        let mut left = held.clone();
        for used in used.iter().filter(|used| used.rate == held.rate) {
            left.net -= used.net;
            left.tax -= used.tax;
            left.net_base -= used.net_base;
            left.tax_base -= used.tax_base;
        }
        left
    };
    let some = |left: &HeldTax| !left.gross().is_zero() || !left.gross_base().is_zero();
    held.iter().map(left).filter(some).collect()
}

/// A line on the account of money in advance, without the tax that stands on it, and a line for each tax: debit
/// positive. `taxes` carry the sign of the amounts.
pub(crate) fn advance_lines(
    builder: &mut EntryBuilder<'_>,
    item: &OpenItem,
    (document, base): (Money, Money),
    taxes: &[HeldTax],
) {
    let tax: Money = taxes.iter().map(|held| held.tax).sum();
    let tax_base: Money = taxes.iter().map(|held| held.tax_base).sum();
    let what = LineFor { customer: Some(item.customer), currency: Some(item.currency), ..LineFor::default() };
    let amounts = (document - tax, base - tax_base);
    match &item.account {
        Some(account) => builder.add_to(account, item.purpose, amounts, what),
        None => builder.add(item.purpose, amounts.0, amounts.1, what),
    }
    for held in taxes {
        tax_line(builder, held, item.currency);
    }
}

/// The tax line of an advance: debit positive, its taxed amount the other way round.
pub(crate) fn tax_line(builder: &mut EntryBuilder<'_>, held: &HeldTax, currency: Currency) {
    let mark = TaxMark {
        code: held.rate.code.clone(),
        base: -held.net_base,
        document_base: -held.net,
        rate: Some(held.rate.rate),
        tax_date: Some(held.tax_date),
    };
    let what = LineFor { tax: Some(mark), currency: Some(currency), ..LineFor::default() };
    builder.add(Purpose::TaxPayable, held.tax, held.tax_base, what);
}

/// What a deposit is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DepositTarget {
    /// Number of the order, or of the quote.
    pub number: String,
    /// Its currency.
    pub currency: Currency,
    /// What it comes to by tax code, with tax, at the rates of the day.
    pub gross: Vec<(TaxRate, Money)>,
    /// What was taken for it before and is held or used.
    pub taken_before: Money,
}

impl DepositTarget {
    /// All of it, with tax.
    pub fn total(&self) -> Money {
        self.gross.iter().map(|(_, gross)| *gross).sum()
    }
}

/// Where the money of a deposit comes from.
#[derive(Debug, Clone)]
pub enum Comes {
    /// It comes in now.
    In {
        /// How, and where it is from then on.
        method: Method,
    },
    /// It is there already and lies unapplied: it is reserved, at what it is carried at.
    Unapplied {
        /// What it lies on.
        item: OpenItem,
    },
}

/// Everything needed to decide on taking a deposit.
#[derive(Debug, Clone)]
pub struct TakeInput<'a> {
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The customer's class, for the account map.
    pub customer_class: Option<String>,
    /// What it is for; none on account.
    pub target: Option<DepositTarget>,
    /// Where its money comes from.
    pub comes: Comes,
    /// When.
    pub date: DocumentDate,
    /// How much, in `currency`.
    pub amount: Money,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it; none where none is known.
    pub rate: Option<ExchangeRate>,
    /// Base currency.
    pub base: Currency,
    /// When tax on it is due.
    pub regime: AdvanceTax,
    /// What is held of this customer in base currency, before it.
    pub held_before: Money,
    /// Today's date, and that of the last deposit.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What taking a deposit does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct TakeDecision {
    /// When tax on it is due: on account always at the invoice.
    pub regime: AdvanceTax,
    /// All of it, in base currency.
    pub amount_base: Money,
    /// Tax that stands on it; none where it is due at the invoice.
    pub taxes: Vec<HeldTax>,
    /// The entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on taking a deposit. *Source: postings.md, Money.*
pub fn take(input: &TakeInput<'_>) -> TakeDecision {
    let mut findings = Findings::at(Step::Post);
    check_take(input, &mut findings);
    let to_base = |amount: Money| input.to_base(amount);
    let amount_base = to_base(input.amount);
    let taxed = input.target.as_ref().filter(|_| input.regime == AdvanceTax::AtReceipt);
    let taxes = taxed.map(|target| split_by_code(input.amount, &target.gross, input.date.date, to_base));
    let regime = if taxes.is_some() { AdvanceTax::AtReceipt } else { AdvanceTax::AtInvoice };
    let taxes = taxes.unwrap_or_default();
    let entry = enter_take(input, amount_base, &taxes, &mut findings);
    TakeDecision {
        fingerprint: fingerprint::of(&(input.amount, input.comes.mark(), &taxes, &entry)),
        tape: tape_take(input, &taxes),
        changes: changes_take(input, amount_base),
        regime,
        amount_base,
        taxes,
        entry,
        blockers: findings.finish(),
    }
}

impl Comes {
    /// What tells one from another: the code of a way of paying, the number of what the money lies on.
    fn mark(&self) -> &str {
        match self {
            Self::In { method } => &method.code,
            Self::Unapplied { item } => &item.document.number,
        }
    }
}

impl TakeInput<'_> {
    /// What is carried of an amount, in base currency: at the rate of the day, or its part of what is carried already.
    fn to_base(&self, amount: Money) -> Money {
        match &self.comes {
            Comes::In { .. } => amount.to_base(self.rate.unwrap_or(ExchangeRate::ONE), self.currency, self.base),
            Comes::Unapplied { item } => {
                let whole = self.amount.min(item.open).max(Money::ZERO);
                let carried = item.release(whole, self.date.date);
                if amount == whole { carried } else { carried.share(amount.0, whole.0.max(1)) }
            }
        }
    }
}

impl TakeDecision {
    /// What it does to the books. Money that lay unapplied is used up by an item that stands against it, all of it at
    /// once.
    pub fn posting(&self, input: &TakeInput<'_>) -> Posting {
        let mut posting = Posting::default();
        let entry = posting.enter(self.entry.clone(), None);
        let account = account_of(self.entry.as_ref(), Purpose::DepositLiability);
        let whose = (input.customer, Purpose::DepositLiability, Side::OwedByUs);
        let amounts = (input.amount, self.amount_base);
        let mut item = NewItem::due_at_once(whose, account, input.currency, amounts, input.date.date);
        item.taxes = self.taxes.clone();
        posting.make(item);
        let Comes::Unapplied { item } = &input.comes else { return posting };
        let (whose, date) = ((item.customer, item.purpose, Side::OwedToUs), input.date.date);
        let account = item.account.as_ref().map(|account| account.number.as_str());
        let debit = posting.make(NewItem::due_at_once(whose, account, item.currency, amounts, date));
        posting.applications.push(NewApplication {
            date,
            debit,
            credit: Which::Known(item.id),
            debit_amount: amounts,
            credit_amount: amounts,
            beside: BesideBooked::default(),
            taxes: Vec::new(),
            reverses: None,
            entry,
        });
        posting
    }
}

fn check_take(input: &TakeInput<'_>, findings: &mut Findings) {
    if !input.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "amount", "Enter an amount above zero.");
    }
    if let Some(sentence) = too_large(input.amount) {
        findings.add(Check::AmountTooLarge, "amount", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("deposit", input.date.date, "date", findings);
    match &input.comes {
        Comes::In { method } => check_in(input, method, findings),
        Comes::Unapplied { item } => check_unapplied(input, item, findings),
    }
    let Some(target) = &input.target else { return };
    let format = |amount: Money| input.currency.grouped(amount);
    if target.currency != input.currency {
        let sentence = format!("{} is in {}, the money in {}.", target.number, target.currency, input.currency);
        findings.add(Check::CurrencyDiffers, "order", sentence);
    } else if input.amount + target.taken_before > target.total() {
        let before = match target.taken_before.is_positive() {
            true => format!(", and {} was taken for it before", format(target.taken_before)),
            false => String::new(),
        };
        let sentence = format!(
            "{} comes to {} with tax{before}. Take {} at most for it, and the rest on account.",
            target.number,
            format(target.total()),
            format((target.total() - target.taken_before).max(Money::ZERO))
        );
        findings.add(Check::MoreThanOrder, "amount", sentence);
    }
}

fn check_in(input: &TakeInput<'_>, method: &Method, findings: &mut Findings) {
    if input.rate.is_none() {
        let sentence = "No exchange rate is known for this date. Ask a supervisor to enter it.";
        findings.add(Check::ExchangeRateMissing, "date", sentence);
    }
    if let Some(kept_in) = method.place.currency.filter(|kept_in| *kept_in != input.currency) {
        let place = &method.place.name;
        let sentence = format!("{place} is kept in {kept_in}, the money is in {}. Choose another way.", input.currency);
        findings.add(Check::CurrencyDiffers, "method", sentence);
    }
}

/// Never more than lies there, on that day and on every later one. *Source: domain.md section 3.*
fn check_unapplied(input: &TakeInput<'_>, item: &OpenItem, findings: &mut Findings) {
    let (number, date) = (&item.document.number, input.date.date);
    if input.amount > item.open {
        let sentence = match item.open.is_zero() {
            true => format!("Nothing of {number} is unapplied. Unapply it first."),
            false => format!("{} of {number} is unapplied. Enter that or less.", item.currency.grouped(item.open)),
        };
        findings.add(Check::MoreThanHeld, "amount", sentence);
    } else if let Some(first) = item.first_day(input.amount).filter(|first| date < *first) {
        let sentence =
            format!("So much of {number} is unapplied from {} on. Choose that day or a later one.", words(first));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}

/// Dr where the money is, or what it lay on; Cr deposits, and tax by code where it is due at receipt.
fn enter_take(input: &TakeInput<'_>, amount_base: Money, taxes: &[HeldTax], findings: &mut Findings) -> Option<Entry> {
    let mut builder = EntryBuilder::new(input.accounts, input.customer_class.as_deref(), input.currency);
    match &input.comes {
        Comes::In { method } => {
            let purpose = method.place.kind.purpose();
            let customer = (purpose != Purpose::Bank).then_some(input.customer);
            let what = LineFor { customer, ..LineFor::default() };
            builder.add_to(&method.place.account, purpose, (input.amount, amount_base), what);
        }
        Comes::Unapplied { item } => advance_lines(&mut builder, item, (input.amount, amount_base), &[]),
    }
    let tax: Money = taxes.iter().map(|held| held.tax).sum();
    let tax_base: Money = taxes.iter().map(|held| held.tax_base).sum();
    let what = LineFor { customer: Some(input.customer), ..LineFor::default() };
    builder.add(Purpose::DepositLiability, tax - input.amount, tax_base - amount_base, what);
    for held in taxes {
        tax_line(&mut builder, &held.turned(), input.currency);
    }
    let text = match &input.comes {
        Comes::In { .. } => format!("Deposit of {}", input.customer_name),
        Comes::Unapplied { item } => {
            format!("{} of {} turned into a deposit", item.document.number, input.customer_name)
        }
    };
    builder.finish_or_say(input.date.date, text, findings)
}

fn changes_take(input: &TakeInput<'_>, amount_base: Money) -> Vec<Change> {
    let mut changes = vec![Change {
        label: "Deposits held for the customer".to_owned(),
        before: Some(Figure::money(input.held_before)),
        after: Figure::money(input.held_before + amount_base),
    }];
    if let Comes::Unapplied { item } = &input.comes {
        let lies = |amount: Money| Figure::words(format!("{} {}", item.currency.grouped(amount), item.currency));
        changes.push(Change {
            label: format!("Unapplied of {}", item.document.number),
            before: Some(lies(item.open)),
            after: lies(item.open - input.amount),
        });
    }
    changes
}

fn tape_take(input: &TakeInput<'_>, taxes: &[HeldTax]) -> Tape {
    let heading = match &input.target {
        Some(target) => format!("deposit for {}", target.number),
        None => "deposit on account".to_owned(),
    };
    let mut tape = Tape::new(input.customer_name.clone(), heading, input.currency);
    if let Some(target) = &input.target {
        tape.amount(TapeStyle::Line, format!("{} comes to, with tax", target.number), target.total());
        if target.taken_before.is_positive() {
            tape.amount(TapeStyle::Line, "deposits taken before", -target.taken_before);
        }
        let left = target.total() - target.taken_before - input.amount;
        tape.amount(TapeStyle::Detail, "then left to pay", left);
    }
    for held in taxes {
        tape.part(TapeStyle::Line, format!("Tax {}% in it", held.rate.rate.percent()), held.net, held.tax);
    }
    let label = match &input.comes {
        Comes::In { method } => format!("Taken by {}", method.name.to_lowercase()),
        Comes::Unapplied { item } => format!("Taken from {}", item.document.number),
    };
    tape.amount(TapeStyle::Due, label, input.amount);
    if let Comes::Unapplied { item } = &input.comes {
        tape.amount(TapeStyle::Detail, "stays unapplied", item.open - input.amount);
    }
    let tax = match taxes.is_empty() {
        true => "its tax is due with the invoice",
        false => "its tax is due now",
    };
    tape.remark(TapeStyle::Detail, tax, false);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}
