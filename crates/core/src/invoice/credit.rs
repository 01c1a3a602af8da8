//! Crediting part of a posted invoice, line by line: a quantity, or an amount off the price.
//!
//! Of goods each line says whether they came back on a return or stay with the customer: a quantity is received
//! once and credited once. A credit uses the invoice's accounts, tax rates, tax dates and exchange rate, and is **cumulative**: never more
//! than was billed less what was credited, tax credited so far and now = rate × net credited so far and
//! now, and the last credit takes all that is left, so that a line credited in parts gives back exactly
//! its net and its tax. What is open of the invoice is settled by it first; the rest is kept for the
//! customer. *Source: domain.md section 9; postings.md, Documents.*
//!
//! ```
//! use till_core::fixed::Quantity;
//! use till_core::invoice::credit::{Credited, share_of};
//! use till_core::money::Money;
//! // Three pieces for 10.00, credited one by one: 3.33, 3.34 of what is left, 3.33.
//! let mut so_far = Credited::default();
//! let parts: Vec<i64> = (0..3)
//!     .map(|_| {
//!         let amount = share_of(Quantity::from_whole(3), Money(1_000), so_far, Quantity::from_whole(1));
//!         so_far.quantity = Quantity::from_scaled(so_far.quantity.scaled() + 10_000);
//!         so_far.amount += amount;
//!         amount.0
//!     })
//!     .collect();
//! assert_eq!(parts, [333, 334, 333]);
//! ```

mod advance;
pub mod alone;
mod crediting;
mod discounting;
mod entering;
mod left;
mod supplying;
mod taping;

pub use discounting::{DiscountOn, TakenBack};
pub use left::LeftToCredit;

use serde::Serialize;

use crate::accounts::{Account, AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::entry::Entry;
use crate::fingerprint;
use crate::fixed::Quantity;
use crate::ids::{InvoiceId, ReturnLineId};
use crate::invoice::{self, CustomerFacts, InvoiceDecision, InvoiceDocument, InvoiceInput, InvoiceLine, leaving};
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};
use crate::order::{OrderAfter, OrderFacts, compare};
use crate::people::check_reason;
use crate::posting::{NewApplication, NewItem, Posting, Which, account_of};
use crate::prepayment::using::used_by;
use crate::prepayment::{Part, Prepaid};
use crate::returns::OnReturn;
use crate::settle::BesideBooked;
use crate::tape::{Change, Tape};
use crate::tax::TaxLine;
use supplying::{Against, Balance};

/// What of a line was credited so far, by all credit memos.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Credited {
    /// How much of it, in the line's unit.
    pub quantity: Quantity,
    /// What was credited, as priced: with tax where prices carry it. In the invoice's currency.
    pub amount: Money,
    /// The net of it, in the invoice's currency.
    pub net: Money,
}

/// What of a line is to be credited.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A quantity, at what is left of its price.
    Quantity(Quantity),
    /// An amount off its price, as priced, in the invoice's currency; no quantity.
    Price(Money),
}

/// What is known of a line of the invoice besides what it says.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct BilledLine {
    /// The class of its item, for the account map; none where it has no item.
    pub class: Option<String>,
    /// The account that was typed on it; none where the account map decides.
    pub account: Option<Account>,
    /// What was credited of it so far.
    pub credited: Credited,
    /// The row of the register it is, where it bills in advance.
    pub prepaid: Option<Prepaid>,
    /// What returns hold of it: expected, or back and not credited. In the line's unit.
    pub on_returns: Quantity,
}

/// A line to credit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LineToCredit {
    /// Its position on the invoice, from zero.
    pub position: usize,
    /// What of it.
    pub what: What,
    /// The return its goods came back on; none where they stay with the customer.
    pub returned: Option<OnReturn>,
}

/// Everything needed to decide on a credit.
#[derive(Debug, Clone)]
pub struct CreditInput<'a> {
    /// The invoice.
    pub invoice: InvoiceId,
    /// Its number.
    pub number: String,
    /// The document, as posted.
    pub document: InvoiceDocument,
    /// What else is known of each of its lines, in their order.
    pub billed: Vec<BilledLine>,
    /// What was credited of each of its taxes, in the invoice's currency.
    pub tax_credited: Vec<Money>,
    /// Its open item.
    pub item: OpenItem,
    /// The discount for early payment that stands on it.
    pub discount: DiscountOn,
    /// Whose.
    pub customer: CustomerFacts,
    /// The number of the credit memo that cancelled it, where one did.
    pub cancelled_by: Option<String>,
    /// The orders on it.
    pub orders: Vec<OrderFacts>,
    /// What to credit.
    pub lines: Vec<LineToCredit>,
    /// What goes the other way, in the invoice's currency and on the day of the credit: a fee, freight, goods in
    /// exchange. None where nothing does.
    pub supplies: Option<InvoiceInput<'a>>,
    /// Whether goods may go out in exchange, and something may be left to pay.
    pub exchange: bool,
    /// The entries of goods that come back with this very posting: they stand in its entry.
    pub goods: Vec<Entry>,
    /// Date of the credit memo.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Base currency.
    pub base: Currency,
    /// Today's date, and that of the last document of its kind.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What a credit does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct CreditDecision {
    /// What it takes back, without a minus.
    pub document: InvoiceDocument,
    /// The position on the invoice of the line that each of its lines takes back.
    pub credits: Vec<usize>,
    /// The line of a return that the goods of each of its lines came back on; none where they stay with the customer.
    pub returned: Vec<Option<ReturnLineId>>,
    /// What each of its lines gives up of what was billed in advance; nothing for what bills goods and work.
    pub given_up: Vec<Part>,
    /// What of each line of the invoice is left to credit, before this.
    pub left: Vec<LeftToCredit>,
    /// What of it settles the open rest of the invoice, in the invoice's currency and in base currency.
    pub settles: (Money, Money),
    /// What of it is kept for the customer, likewise: with what goes back of a discount.
    pub kept: (Money, Money),
    /// The discount for early payment that goes back: what is kept gives it up.
    pub discount: TakenBack,
    /// What goes the other way; none where nothing does.
    pub supplied: Option<Box<InvoiceDecision>>,
    /// What the customer owes where that comes to more than the credit, likewise.
    pub owed: (Money, Money),
    /// Its entry.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Changes with every figure and date: who posts names the one seen.
    pub fingerprint: String,
    /// Changes with what is credited, on whatever day: what an approval is for.
    pub mark: String,
}

impl CreditInput<'_> {
    fn so_far(&self, position: usize) -> Credited {
        self.billed.get(position).map(|billed| billed.credited).unwrap_or_default()
    }

    fn on_returns(&self, position: usize) -> Quantity {
        self.billed.get(position).map(|billed| billed.on_returns).unwrap_or_default()
    }

    fn prepaid(&self, position: usize) -> Option<&Prepaid> {
        self.billed.get(position)?.prepaid.as_ref()
    }

    /// The taxes of what its lines come to: what was prepaid of them was taxed before and goes back with them.
    fn taxes(&self) -> Vec<TaxLine> {
        let of_code = |tax: &TaxLine| {
            let lines = self.document.lines.iter().filter(|line| line.tax == tax.rate);
            let used = used_by(lines);
            TaxLine { rate: tax.rate.clone(), base: tax.base + used.net, tax: tax.tax + used.tax }
        };
        self.document.taxes.iter().map(of_code).collect()
    }
}

/// What a quantity of a line gives back, as priced: its share of what is left, all of it with the last.
pub fn share_of(billed: Quantity, amount: Money, so_far: Credited, quantity: Quantity) -> Money {
    let left_quantity = billed.scaled() - so_far.quantity.scaled();
    let left = amount - so_far.amount;
    if quantity.scaled() >= left_quantity { left } else { left.share(quantity.scaled(), left_quantity) }
}

impl CreditDecision {
    /// What is left to credit, in the invoice's currency; below zero where the customer owes something.
    pub fn balance(&self) -> Money {
        self.settles.0 + self.kept.0 - self.owed.0
    }

    /// What stays with the customer of what is kept, in the invoice's currency: less what goes back of a discount.
    pub fn stays(&self) -> Money {
        self.kept.0 - self.discount.credit.0
    }

    /// The place, on the document, of the first line that goes the other way: on what is to pay they come first.
    pub fn first_supplied(&self) -> usize {
        if self.owed.0.is_positive() { 0 } else { self.document.lines.len() }
    }

    /// What it does to the books: what settles the invoice stands against it at once; what is kept is an
    /// open item of its own.
    pub fn posting(&self, input: &CreditInput<'_>) -> Posting {
        let date = input.date.date;
        let mut posting = Posting { orders: self.orders.clone(), ..Posting::default() };
        let entry = posting.enter(self.entry.clone(), None);
        let currency = input.document.currency;
        let item = |purpose, account, amounts| {
            NewItem::due_at_once((input.customer.id, purpose, Side::OwedByUs), account, currency, amounts, date)
        };
        if self.settles.0.is_positive() {
            let account = input.item.account.as_ref().map(|account| account.number.as_str());
            let credit = posting.make(item(Purpose::Receivable, account, self.settles));
            posting.applications.push(NewApplication {
                date,
                debit: Which::Known(input.item.id),
                credit,
                debit_amount: self.settles,
                credit_amount: self.settles,
                beside: BesideBooked::default(),
                taxes: Vec::new(),
                reverses: None,
                entry,
            });
        }
        if self.kept.0.is_positive() {
            let account = account_of(self.entry.as_ref(), Purpose::Unapplied);
            let kept = posting.make(item(Purpose::Unapplied, account, self.kept));
            posting.applications.extend(discounting::application(input, &self.discount, kept, entry));
        } else if self.owed.0.is_positive() {
            let whose = (input.customer.id, currency);
            posting.make(supplying::to_pay(whose, input.supplies.as_ref(), self.entry.as_ref(), (self.owed, date)));
        } else if !self.settles.0.is_positive() {
            // Over nothing, as where a quantity came to less than half a cent: it stands there all the same.
            posting.make(item(Purpose::Receivable, None, (Money::ZERO, Money::ZERO)));
        }
        supplying::leave(self.supplied.as_deref(), self.first_supplied(), date, &mut posting);
        posting
    }
}

/// Decides on crediting lines of an invoice.
pub fn decide(input: &CreditInput<'_>) -> CreditDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let lines: Vec<InvoiceLine> = input
        .lines
        .iter()
        .enumerate()
        .filter_map(|(at, wish)| crediting::line(input, at, wish, &mut findings))
        .collect();
    let known: Vec<&LineToCredit> =
        input.lines.iter().filter(|line| line.position < input.document.lines.len()).collect();
    let credits: Vec<usize> = known.iter().map(|line| line.position).collect();
    let returned: Vec<Option<ReturnLineId>> =
        known.iter().map(|wish| wish.returned.as_ref().map(|returned| returned.line)).collect();
    let supplied = input.supplies.as_ref().map(invoice::decide);
    let (document, balance) =
        crediting::document(input, lines, supplied.as_ref().and_then(|one| one.document.as_ref()));
    let Balance { settles, kept, owed, .. } = balance;
    if let Some(supplied) = &supplied {
        let in_advance = input.document.is_prepayment();
        let against = Against { credit: document.total, exchange: input.exchange, in_advance };
        supplying::check(supplied, against, &mut findings);
    }
    let date = input.date.date;
    if owed.0.is_zero() {
        input.dates.check("credit memo", date, "date", &mut findings);
    }
    if settles.0.is_positive() && !input.item.is_there(settles.0, date) {
        let when =
            input.item.first_day(settles.0).map_or_else(String::new, |day| format!(" Choose {} or later.", words(day)));
        let sentence = format!("Not all that is open of {} was open on {}.{when}", input.number, words(date));
        findings.add(Check::DateTooEarly, "date", sentence);
    }
    let given_up: Vec<Part> = credits
        .iter()
        .zip(&document.lines)
        .map(|(at, line)| advance::given_up(input, *at, line).unwrap_or_default())
        .collect();
    let taken = discounting::taken_back(input, &document, &balance);
    discounting::check(input, &taken, &mut findings);
    let entry = entering::enter(input, (&document, &given_up), (&balance, &taken), supplied.as_ref(), &mut findings);
    let mut after = input.orders.clone();
    if document.is_prepayment() {
        for order in &mut after {
            let of_order = document.lines.iter().filter(|line| line.source.order() == Some(order.id));
            order.prepaid_left -= of_order.map(|line| line.net).sum::<Money>();
        }
    }
    for invoice in after.iter_mut().flat_map(|order| &mut order.invoices) {
        if invoice.invoice == input.invoice {
            invoice.open -= settles.0;
        }
    }
    let (orders, order_changes) = compare(&input.orders, &after);
    // What was credited before: the same credit a second time is another one.
    let before: Vec<_> = credits
        .iter()
        .map(|at| input.so_far(*at))
        .map(|so_far| (so_far.quantity.scaled(), so_far.amount, so_far.net))
        .collect();
    let amounts: Vec<_> = document.lines.iter().map(|line| (line.quantity.scaled(), line.net, line.amount)).collect();
    let other_way = supplied.as_ref().and_then(|one| one.document.as_ref());
    let against: Option<Vec<_>> =
        other_way.map(|other| other.lines.iter().map(|line| (line.quantity.scaled(), line.net, &line.tax)).collect());
    let what = (input.invoice, &credits, &returned, &before, amounts, &document.taxes, settles.0);
    let mut changes = taping::changes(input, settles.1 - owed.1, kept.0 - taken.credit.0, order_changes);
    if let Some((with, supplied)) = input.supplies.as_ref().zip(supplied.as_ref()) {
        changes.extend(leaving::changes(with, &supplied.leaving));
    }
    CreditDecision {
        tape: taping::tape(input, (&document, other_way), (&balance, &taken)),
        changes,
        mark: mark(&what, against.as_ref(), &taken),
        fingerprint: fingerprint::of(&(&document, &credits, &returned, &before, &entry, settles, kept, other_way)),
        blockers: findings.finish(),
        left: left::left(input, &credits, &document.lines),
        document,
        credits,
        returned,
        given_up,
        settles,
        kept,
        discount: taken,
        owed,
        supplied: supplied.map(Box::new),
        entry,
        orders,
    }
}

/// What an approval is for. Where nothing goes the other way, and no discount back, it is what it was before those could be.
fn mark(what: &impl Serialize, against: Option<&impl Serialize>, taken: &TakenBack) -> String {
    match (against, taken.credit.0.is_zero()) {
        (None, true) => fingerprint::of(what),
        (Some(against), true) => fingerprint::of(&(what, against)),
        (against, false) => fingerprint::of(&(what, against, taken.credit.0)),
    }
}

fn check(input: &CreditInput<'_>, findings: &mut Findings) {
    if let Some(memo) = &input.cancelled_by {
        let sentence = format!("{} is canceled, by {memo}: nothing of it is left to credit.", input.number);
        findings.add(Check::CannotCredit, "invoice", sentence);
    }
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCredit, "reason", sentence);
    }
    if input.lines.is_empty() {
        findings.add(Check::NothingToDo, "lines", "Nothing is to be credited. Say how much of which line.");
    }
    for (at, wish) in input.lines.iter().enumerate() {
        if input.lines[..at].iter().any(|other| other.position == wish.position) {
            let sentence = format!("Line {} is named twice. Put it together.", wish.position + 1);
            findings.add(Check::NamedTwice, format!("lines.{at}"), sentence);
        }
    }
    let date = input.date.date;
    if let Some(obstacle) = input.periods.obstacle(date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    let posted = input.document.posting_date.date;
    if date < posted {
        let sentence = format!(
            "{} was posted {}. It cannot be credited before; choose that day or a later one.",
            input.number,
            words(posted)
        );
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}
