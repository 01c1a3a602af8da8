//! Taking back: applications that were made in error, receipts that were typed in error.
//!
//! An application is never deleted: another one with its signs turned takes it back, on a day on or
//! after its own. *Unapply* leaves the money with the customer, without a target. *Reverse* takes
//! the whole receipt back: what it was applied to is open again, the rest is no longer unapplied,
//! and the money is not where it was said to be. *Source: domain.md section 10; postings.md, Money.*

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::beside::{BesideBooked, beside_lines};
use super::entering::on_item;
use super::{Member, MoneyPlace, PlaceKind, orders_with, owing_changes};
use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Check, Findings, Step};
use crate::deposit::{HeldTax, advance_lines};
use crate::entry::{Entry, EntryBuilder, LineFor};
use crate::fingerprint;
use crate::fixed::ExchangeRate;
use crate::ids::{ApplicationId, CustomerId, DocumentKind, EntryId};
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};
use crate::order::{OrderAfter, OrderFacts, compare};
use crate::people::check_reason;
use crate::posting::{NewApplication, NewItem, Posting, Which};
use crate::room::{Movement, first_day, room_from};
use crate::tape::{Change, Tape, TapeStyle};

/// An application that stands.
#[derive(Debug, Clone)]
pub struct Standing {
    /// Its id.
    pub id: ApplicationId,
    /// What it settled.
    pub debit: OpenItem,
    /// Where that came from.
    pub credit: OpenItem,
    /// When.
    pub date: NaiveDate,
    /// Amount and base amount on the side that is owed to us.
    pub settled: (Money, Money),
    /// Amount and base amount on the side that is owed by us.
    pub used: (Money, Money),
    /// What of it was settled without money.
    pub beside: BesideBooked,
    /// Tax that went with it, where the credit is money in advance that was taxed as it came in.
    pub taxes: Vec<HeldTax>,
    /// The entry it was made by; none where the two were only matched.
    pub entry: Option<EntryId>,
}

impl Standing {
    /// Whether it took back a discount for a credit: it settled nothing.
    pub fn takes_back(&self) -> bool {
        self.settled.0.is_zero()
    }
}

/// A receipt that is reversed as a whole.
#[derive(Debug, Clone)]
pub struct WholeReceipt {
    /// The item it made, owed by us.
    pub credit: OpenItem,
    /// Where its money was; none for containers of older books.
    pub place: Option<MoneyPlace>,
    /// Its amount and base amount.
    pub amount: (Money, Money),
    /// The entry it wrote.
    pub entry: EntryId,
    /// Whether it was reversed already.
    pub reversed: bool,
}

/// What the bank takes for a check or a transfer that came back.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct BankFee {
    /// How much, in the currency of the account.
    pub amount: Money,
    /// That currency.
    pub currency: Currency,
    /// Base per unit of it on the day; none where none is known.
    pub rate: Option<ExchangeRate>,
}

impl BankFee {
    /// The same in base currency; none where no rate is known.
    pub fn in_base(&self, base: Currency) -> Option<Money> {
        Some(self.amount.to_base(self.rate?, self.currency, base))
    }
}

/// Everything needed to decide on taking back.
#[derive(Debug, Clone)]
pub struct BackInput<'a> {
    /// What is taken back, as people say it: “R-12”.
    pub number: String,
    /// Whose money it is.
    pub payer: Member,
    /// The payer's class, for the account map.
    pub payer_class: Option<String>,
    /// Everyone concerned, the payer among them.
    pub group: Vec<Member>,
    /// The applications to take back. With one that earned a discount goes what credits took back of discounts on that item: it is theirs
    /// again.
    pub applications: Vec<Standing>,
    /// The receipt, where all of it is reversed.
    pub receipt: Option<WholeReceipt>,
    /// What the bank takes for it, where it came back; none for what was only typed in error.
    pub fee: Option<BankFee>,
    /// The day.
    pub date: DocumentDate,
    /// Why.
    pub reason: String,
    /// Currency of the money.
    pub currency: Currency,
    /// Base currency.
    pub base: Currency,
    /// Orders on what was settled.
    pub orders: Vec<OrderFacts>,
    /// Today's date, and that of the last document of its kind.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// An entry, and the one it takes back.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Reversal {
    /// The entry.
    pub entry: Entry,
    /// What it takes back, in whole or in part.
    pub reverses: Option<EntryId>,
}

/// What taking back does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct BackDecision {
    /// The entries, each pointing to the one it takes back.
    pub entries: Vec<Reversal>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What each customer owes more, in base currency.
    pub owes_more: Vec<(CustomerId, Money)>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on unapplying, or on reversing a whole receipt.
pub fn decide(input: &BackInput<'_>) -> BackDecision {
    let mut findings = Findings::at(Step::Post);
    check(input, &mut findings);
    let entries = match &input.receipt {
        Some(receipt) => reversal(input, receipt, &mut findings).into_iter().collect(),
        None => {
            let text = format!("{} of {} unapplied", input.number, input.payer.name);
            let builder = || EntryBuilder::new(input.accounts, input.payer_class.as_deref(), input.currency);
            unapplied(&input.applications, builder, (input.date.date, &text, input.base), &mut findings)
        }
    };
    let (orders, order_changes) = compare(&input.orders, &orders_after(input));
    let owes_more = owes_more(&input.applications);
    let less: Vec<(CustomerId, Money)> = owes_more.iter().map(|(customer, amount)| (*customer, -*amount)).collect();
    let mut changes = owing_changes(&input.group, &less);
    changes.extend(order_changes);
    let ids: Vec<ApplicationId> = input.applications.iter().map(|application| application.id).collect();
    BackDecision {
        fingerprint: fingerprint::of(&(&ids, &entries)),
        tape: tape(input),
        entries,
        changes,
        orders,
        owes_more,
        blockers: findings.finish(),
    }
}

impl BackDecision {
    /// What it does to the books. What takes a whole receipt back is owed to us, and stands against it.
    pub fn posting(&self, input: &BackInput<'_>) -> Posting {
        let date = input.date.date;
        let mut posting = Posting {
            entries: self.entries.clone(),
            applications: taken_back(&input.applications, &self.entries, date),
            orders: self.orders.clone(),
            ..Posting::default()
        };
        let Some(receipt) = &input.receipt else { return posting };
        let credit = &receipt.credit;
        let account = credit.account.as_ref().map(|account| account.number.as_str());
        let whose = (credit.customer, credit.purpose, Side::OwedToUs);
        let debit = posting.make(NewItem::due_at_once(whose, account, input.currency, receipt.amount, date));
        posting.applications.push(NewApplication {
            date,
            debit,
            credit: Which::Known(credit.id),
            debit_amount: receipt.amount,
            credit_amount: receipt.amount,
            beside: BesideBooked::default(),
            taxes: Vec::new(),
            reverses: None,
            entry: Some(0),
        });
        posting
    }
}

/// Applications taken back on a day, each by the entry that was written for it.
pub(crate) fn taken_back(standing: &[Standing], entries: &[Reversal], date: NaiveDate) -> Vec<NewApplication> {
    let back = |standing: &Standing| NewApplication {
        date,
        debit: Which::Known(standing.debit.id),
        credit: Which::Known(standing.credit.id),
        debit_amount: (-standing.settled.0, -standing.settled.1),
        credit_amount: (-standing.used.0, -standing.used.1),
        beside: standing.beside.turned(),
        taxes: standing.taxes.iter().map(HeldTax::turned).collect(),
        reverses: Some(standing.id),
        // A receipt that is reversed as a whole has one entry for all of it.
        entry: entries
            .iter()
            .position(|reversal| reversal.reverses == standing.entry)
            .or((standing.entry.is_some() && !entries.is_empty()).then_some(0)),
    };
    standing.iter().map(back).collect()
}

fn check(input: &BackInput<'_>, findings: &mut Findings) {
    if let Err(sentence) = check_reason(&input.reason) {
        findings.add(Check::CannotCancel, "reason", sentence);
    }
    if let Some(obstacle) = input.periods.obstacle(input.date.date) {
        findings.add(Check::PeriodClosed, "date", obstacle);
    }
    input.dates.check("receipt", input.date.date, "date", findings);
    let at_processor =
        |receipt: &WholeReceipt| receipt.place.as_ref().is_some_and(|place| place.kind == PlaceKind::CardClearing);
    if input.receipt.as_ref().is_some_and(at_processor) {
        findings.add(Check::CannotCancel, "receipt", by_card(&input.number));
    }
    if input.receipt.as_ref().is_some_and(|receipt| receipt.reversed) {
        findings.add(Check::CannotCancel, "receipt", format!("{} is reversed already.", input.number));
    }
    check_fee(input, findings);
    // A reversal stands against its own receipt: taken apart, the money would be there again.
    let reversal = |application: &Standing| application.debit.document.kind == DocumentKind::Receipt;
    if input.receipt.is_none() && input.applications.iter().any(reversal) {
        let sentence =
            format!("{} is reversed: nothing of it is applied any more. Enter it again instead.", input.number);
        findings.add(Check::CannotCancel, "receipt", sentence);
    }
    // What a deposit was made of is free again once that is reversed, and not before.
    let set_aside = |application: &&Standing| {
        application.debit.document.kind == DocumentKind::Deposit && application.credit.purpose == Purpose::Unapplied
    };
    if let Some(deposit) = input.applications.iter().find(set_aside) {
        let by = &deposit.debit.document.number;
        let sentence = format!("{} was turned into {by}, a deposit. Reverse {by} first.", input.number);
        findings.add(Check::CannotCancel, "receipt", sentence);
    }
    // What was paid back of it is not there to be taken back as well.
    let refunded = |application: &&Standing| application.debit.document.kind == DocumentKind::Refund;
    if let Some(refund) = input.applications.iter().find(refunded).filter(|_| input.receipt.is_some()) {
        let by = &refund.debit.document.number;
        let sentence =
            format!("Some of {} was paid back with {by}. Reverse {by} first, if it was never sent.", input.number);
        findings.add(Check::CannotCancel, "receipt", sentence);
    }
    let ends = |application: &&Standing| {
        matches!(
            application.debit.document.kind,
            DocumentKind::Deposit | DocumentKind::DepositEnd | DocumentKind::CardReturn | DocumentKind::Refund
        ) && !set_aside(application)
    };
    if let Some(end) = input.applications.iter().find(ends).filter(|_| input.receipt.is_none()) {
        let by = &end.debit.document.number;
        let sentence = format!("{} ended with {by}: that is not unapplied. Take a new deposit instead.", input.number);
        findings.add(Check::CannotCancel, "receipt", sentence);
    }
    check_discounts(input, findings);
    if input.receipt.is_none() && input.applications.is_empty() {
        findings.add(Check::NothingToDo, "applications", format!("Nothing of {} is applied.", input.number));
    }
    let received = input.receipt.as_ref().map(|receipt| receipt.credit.posting_date);
    let latest = input.applications.iter().map(|application| application.date).chain(received).max();
    // What was taken back already on a later day still stood in between.
    let until = input.receipt.as_ref().filter(|receipt| !receipt.reversed).and_then(|receipt| {
        let mine = input.applications.iter().filter(|application| application.credit.id == receipt.credit.id);
        let freed = mine.map(|application| application.used.0);
        first_whole_day(&receipt.credit, freed, receipt.amount.0, input.date.date)
    });
    if let Some(latest) = latest.into_iter().chain(until).max().filter(|latest| input.date.date < *latest) {
        findings.add(
            Check::DateTooEarly,
            "date",
            format!("{} was last moved on {}. Choose that day or a later one.", input.number, words(latest)),
        );
    }
}

/// What a credit gave up of a discount stands as long as the discount does.
fn check_discounts(input: &BackInput<'_>, findings: &mut Findings) {
    let lost = |item: &OpenItem| {
        let earned = |one: &Standing| one.debit.id == item.id && one.beside.discount.amount.is_positive();
        input.applications.iter().any(earned)
    };
    if let Some(one) = input.applications.iter().find(|one| one.takes_back() && !lost(&one.debit)) {
        let (credit, debit) = (&one.credit.document.number, &one.debit.document.number);
        let sentence = format!("{credit} gave up the discount that {debit} had earned: that is not unapplied.");
        findings.add(Check::CannotCancel, "applications", sentence);
    }
}

fn check_fee(input: &BackInput<'_>, findings: &mut Findings) {
    let Some(fee) = &input.fee else { return };
    let at_bank = |receipt: &WholeReceipt| receipt.place.as_ref().is_some_and(|place| place.kind == PlaceKind::Bank);
    if !fee.amount.is_positive() {
        findings.add(Check::AmountNotPositive, "fee", "Enter what the bank took, or leave it empty.");
    } else if !input.receipt.as_ref().is_some_and(at_bank) {
        let sentence = format!("{} was not at the bank: it takes no fee for it.", input.number);
        findings.add(Check::CannotCancel, "fee", sentence);
    }
    if fee.rate.is_none() {
        let sentence =
            format!("No rate of {} is known for {}. Enter one in Setup.", fee.currency, words(input.date.date));
        findings.add(Check::ExchangeRateMissing, "date", sentence);
    }
}

/// Money that came by a card really came.
pub(crate) fn by_card(number: &str) -> String {
    format!("{number} was captured from a card: the processor pays it. Send it back to the card instead.")
}

/// The first day from which on all of an item is there, once what is applied of it now is freed on `date`;
/// none where it is there on `date` already.
pub(crate) fn first_whole_day(
    item: &OpenItem,
    freed: impl Iterator<Item = Money>,
    whole: Money,
    date: NaiveDate,
) -> Option<NaiveDate> {
    let mut movements = item.movements.clone();
    movements.extend(freed.map(|amount| Movement::new(date, amount.0)));
    if room_from(date, &movements) >= whole.0 {
        return None;
    }
    first_day(whole.0, &movements)
}

/// Dr what was settled, Cr where it came from: one entry for each that is taken back.
pub(crate) fn unapplied<'map>(
    applications: &[Standing],
    builder: impl Fn() -> EntryBuilder<'map>,
    (date, text, base): (NaiveDate, &str, Currency),
    findings: &mut Findings,
) -> Vec<Reversal> {
    let mut made_by: Vec<Option<EntryId>> = Vec::new();
    for application in applications {
        if !made_by.contains(&application.entry) {
            made_by.push(application.entry);
        }
    }
    let mut entries = Vec::new();
    for reverses in made_by {
        let mine = applications.iter().filter(|application| application.entry == reverses);
        let mut builder = builder();
        let mut difference = Money::ZERO;
        for application in mine.filter(|application| !only_matched(application)) {
            on_item(&mut builder, &application.debit, application.settled);
            let taxes: Vec<HeldTax> = application.taxes.iter().map(HeldTax::turned).collect();
            let used = (-application.used.0, -application.used.1);
            advance_lines(&mut builder, &application.credit, used, &taxes);
            beside_lines(&mut builder, application.debit.currency, &application.beside.turned());
            difference += application.used.1 + application.beside.base() - application.settled.1;
        }
        builder.add_difference(difference, base);
        if let Some(entry) = builder.finish_or_say(date, text.to_owned(), findings) {
            entries.push(Reversal { entry, reverses });
        }
    }
    entries
}

/// Whether the two sides stand on one account at one base amount: nothing was written then.
fn only_matched(application: &Standing) -> bool {
    let (debit, credit) = (&application.debit, &application.credit);
    debit.purpose == credit.purpose
        && debit.account == credit.account
        && debit.customer == credit.customer
        && application.settled.1 == application.used.1
        && application.beside.is_nothing()
}

/// The money is not there: Cr where it was; Dr what it had settled, and what of it was unapplied.
fn reversal(input: &BackInput<'_>, receipt: &WholeReceipt, findings: &mut Findings) -> Option<Reversal> {
    let mut builder = EntryBuilder::new(input.accounts, input.payer_class.as_deref(), input.currency);
    let mut difference = Money::ZERO;
    for application in &input.applications {
        on_item(&mut builder, &application.debit, application.settled);
        if application.credit.id != receipt.credit.id {
            on_item(&mut builder, &application.credit, (-application.used.0, -application.used.1));
        }
        beside_lines(&mut builder, application.debit.currency, &application.beside.turned());
        difference += application.used.1 + application.beside.base() - application.settled.1;
    }
    on_item(&mut builder, &receipt.credit, (receipt.credit.open, receipt.credit.open_base));
    let (amount, base) = (-receipt.amount.0, -receipt.amount.1);
    match &receipt.place {
        Some(place) => {
            let purpose = place.kind.purpose();
            let customer = (purpose != Purpose::Bank).then_some(input.payer.id);
            builder.add_to(&place.account, purpose, (amount, base), LineFor { customer, ..LineFor::default() });
        }
        None => findings.add(
            Check::CannotCancel,
            "receipt",
            format!("{} stands for containers, not for money. Bill them again instead.", input.number),
        ),
    }
    builder.add_difference(difference, input.base);
    if let (Some(fee), Some(place)) = (&input.fee, &receipt.place) {
        let base = fee.in_base(input.base).unwrap_or_default();
        let of = || LineFor { currency: Some(fee.currency), ..LineFor::default() };
        builder.add(Purpose::Fees, fee.amount, base, of());
        builder.add_to(&place.account, Purpose::Bank, (-fee.amount, -base), of());
    }
    let text = format!("{} of {} reversed", input.number, input.payer.name);
    let entry = builder.finish_or_say(input.date.date, text, findings)?;
    Some(Reversal { entry, reverses: Some(receipt.entry) })
}

fn owes_more(applications: &[Standing]) -> Vec<(CustomerId, Money)> {
    let mut more: Vec<(CustomerId, Money)> = Vec::new();
    let mut add = |customer: CustomerId, amount: Money| match more.iter_mut().find(|(known, _)| *known == customer) {
        Some((_, sum)) => *sum += amount,
        None => more.push((customer, amount)),
    };
    for application in applications {
        add(application.debit.customer, application.settled.1);
        if application.credit.purpose == Purpose::Receivable {
            add(application.credit.customer, -application.used.1);
        }
    }
    more
}

fn orders_after(input: &BackInput<'_>) -> Vec<OrderFacts> {
    orders_with(&input.orders, input.applications.iter().map(|back| (&back.debit.document, back.settled.0)))
}

fn tape(input: &BackInput<'_>) -> Tape {
    let what = if input.receipt.is_some() { "reversed" } else { "unapplied" };
    let subheading = format!("{} {what}", input.number);
    let mut tape = Tape::new(input.payer.name.clone(), subheading, input.currency);
    for application in &input.applications {
        if application.takes_back() {
            let label = format!("{} gets back what it gave up of it", application.credit.document.number);
            tape.amount(TapeStyle::Detail, label, application.used.0);
            continue;
        }
        tape.amount(TapeStyle::Line, format!("from {}", application.debit.document.number), application.used.0);
        tape.remark(TapeStyle::Detail, format!("applied on {}, open again", words(application.date)), false);
        if application.beside.discount.amount.is_positive() {
            tape.amount(TapeStyle::Detail, "its discount is lost", application.beside.discount.amount);
        }
    }
    match &input.receipt {
        Some(receipt) => {
            if receipt.credit.open.is_positive() {
                tape.amount(TapeStyle::Line, "was unapplied", receipt.credit.open);
            }
            tape.amount(TapeStyle::Due, "Not received", receipt.amount.0);
            if let Some(fee) = &input.fee {
                let words = format!("the bank takes {} {} for it", fee.currency.grouped(fee.amount), fee.currency);
                tape.remark(TapeStyle::Detail, words, false);
            }
        }
        None => {
            let mine = input.applications.iter().filter(|application| !application.takes_back());
            let all: Money = mine.map(|application| application.used.0).sum();
            let held = |application: &Standing| application.credit.purpose == Purpose::DepositLiability;
            let label = if input.applications.iter().any(held) { "Held again" } else { "Unapplied again" };
            tape.amount(TapeStyle::Due, label, all);
        }
    }
    tape.remark(TapeStyle::Detail, format!("dated {}", words(input.date.date)), !input.date.typed);
    tape
}
