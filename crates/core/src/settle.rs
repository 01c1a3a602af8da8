//! Settling: what is owed to us against what is owed by us.
//!
//! One function for all of it. A receipt, containers brought back, money that lies unapplied, a
//! credit: each is a *credit* that goes to open items owed to us. [`decide`] says what becomes of
//! it, [`back::decide`] takes applications back and reverses receipts.
//!
//! - Nothing is applied before it is there: both sides are asked for their [`crate::room`] from the
//!   day on, so that no balance is below zero on any day.
//! - In one currency the amounts are the same; in two, both are kept, converted at the date.
//! - Each side releases its carried base amount in proportion, the last application all that is
//!   left; the difference is a realized currency difference.
//! - A customer pays for itself and for the branches whose parent it is.
//!
//! *Source: domain.md sections 3, 8, 10 and 11; postings.md, Money.*
//!
//! ```
//! use till_core::settle::PlaceKind;
//! use till_core::accounts::Purpose;
//! // A check is in hand until it is taken to the bank.
//! assert_eq!(PlaceKind::ChecksInHand.purpose(), Purpose::InHand);
//! ```

pub mod back;
mod beside;
mod checking;
mod entering;
mod place;
mod pooling;
mod reference;
mod suggesting;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::accounts::{AccountMap, Purpose};
use crate::calendar::{DateOrder, DocumentDate, Periods, words};
use crate::checks::{Blocker, Findings, Step};
use crate::deposit::HeldTax;
use crate::deposit::using::{TaxRoom, most_by_code, part_of};
use crate::entry::Entry;
use crate::fingerprint;
use crate::fixed::{ExchangeRate, Quantity};
use crate::ids::{CustomerId, DocumentKind, DocumentRef, InvoiceId, ItemId, OpenItemId};
use crate::money::{Currency, Money};
use crate::open_items::{OpenItem, Side};
use crate::order::{OrderAfter, OrderFacts, compare};
use crate::posting::{ContainerMove, NewApplication, NewItem, Posting, Which, account_of};
use crate::spread::spread;
use crate::tape::{Change, Figure, Tape, TapeStyle};

pub(crate) use beside::beside_lines;
pub use beside::{Beside, BesideBooked, Both, Early, Sold, check_tolerance, paid_on, settles_differences};
pub use place::{Method, MoneyPlace, PlaceKind, check_named, check_place};
pub use pooling::{Pooled, pool, usable};
pub(crate) use reference::remainder as remainder_97;
pub use reference::{creditor_reference, grouped_reference, is_reference, references_in};
pub use suggesting::{Because, Said, Suggestion, suggest};
pub(crate) use suggesting::{number_parts, place_of, sum_of};

/// Where the credit comes from.
#[derive(Debug, Clone)]
pub enum Source {
    /// Money that comes in now.
    Received {
        /// How, and where it is from then on.
        method: Method,
    },
    /// Empty containers that were brought back: no money, but what was charged for them.
    Containers {
        /// What came back, in words: “3 × DRUM”.
        what: String,
        /// The packaging.
        item: ItemId,
        /// How many.
        quantity: Quantity,
    },
    /// An open item owed by us: unapplied money, a credit.
    Item(OpenItem),
}

/// One of those the payer may pay for: itself, and branches whose parent it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its id.
    pub id: CustomerId,
    /// Its name.
    pub name: String,
    /// What it owes, in base currency.
    pub owes: Money,
}

/// An amount for an open item owed to us.
#[derive(Debug, Clone)]
pub struct ToApply {
    /// The item.
    pub item: OpenItem,
    /// How much of the credit goes to it, in the credit's currency.
    pub amount: Money,
    /// What of it is settled without money.
    pub beside: Beside,
}

impl ToApply {
    /// An amount, and nothing beside it.
    pub fn new(item: OpenItem, amount: Money) -> Self {
        Self { item, amount, beside: Beside::default() }
    }
}

/// Everything needed to decide on settling.
#[derive(Debug, Clone)]
pub struct SettleInput<'a> {
    /// Whose credit it is.
    pub payer: CustomerId,
    /// The payer's name.
    pub payer_name: String,
    /// The payer's class, for the account map.
    pub payer_class: Option<String>,
    /// Those it may pay for, itself among them.
    pub group: Vec<Member>,
    /// Where it comes from.
    pub source: Source,
    /// Date of the receipt, or of the applying.
    pub date: DocumentDate,
    /// The amount received, or open on the credit, in `currency`.
    pub amount: Money,
    /// Its currency.
    pub currency: Currency,
    /// Base per unit of it, on the date; none where none is known.
    pub rate: Option<ExchangeRate>,
    /// What was suggested, and why, where nobody said where it goes; empty where someone did.
    pub suggested: Vec<Suggestion>,
    /// Where a deposit is applied: what each item has for it. Nothing for any other credit.
    pub rooms: Vec<AdvanceRoom>,
    /// What paying early earns on items that have an offer.
    pub early: BTreeMap<OpenItemId, Early>,
    /// Up to which difference an item counts as paid, in the money's currency. *Common practice, no source.*
    pub tolerance: Money,
    /// Rates of the other currencies among the items, on the date.
    pub other_rates: Vec<(Currency, ExchangeRate)>,
    /// Base currency.
    pub base: Currency,
    /// Where it goes.
    pub to_apply: Vec<ToApply>,
    /// Orders on those items.
    pub orders: Vec<OrderFacts>,
    /// Today's date, and that of the last document of its kind.
    pub dates: DateOrder,
    /// The account map.
    pub accounts: &'a AccountMap,
    /// The periods.
    pub periods: &'a Periods,
}

/// What an invoice has for a deposit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AdvanceRoom {
    /// The invoice's open item.
    pub item: OpenItemId,
    /// What of it belongs to the order the deposit is for, less what other deposits of that order cover; none where
    /// the deposit is on account.
    pub of_order: Option<Money>,
    /// What it has of each tax code, less what deposits cover already.
    pub taxes: Vec<TaxRoom>,
}

/// An amount applied.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Applied {
    /// The open item.
    pub item: OpenItemId,
    /// What it came from.
    pub document: DocumentRef,
    /// Whose account it stands on.
    pub customer: CustomerId,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// How much of it, in its currency.
    pub amount: Money,
    /// How much of the credit, in the credit's currency.
    pub credit_amount: Money,
    /// What the item gives up, in base currency.
    pub receivable_base: Money,
    /// What the credit was carried at, in base currency.
    pub money_base: Money,
    /// What of it is settled without money.
    pub beside: BesideBooked,
    /// What stays open on the item, in its currency.
    pub open_after: Money,
    /// Tax that goes with it, where the credit is a deposit that was taxed as it came in.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub taxes: Vec<HeldTax>,
}

/// What becomes of a credit.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Settlement {
    /// Its date.
    pub date: DocumentDate,
    /// All of it, in its currency.
    pub amount: Money,
    /// All of it in base currency.
    pub amount_base: Money,
    /// What is applied.
    pub applied: Vec<Applied>,
    /// What stays without a target, in its currency.
    pub unapplied: Money,
    /// The same in base currency.
    pub unapplied_base: Money,
}

/// What posting does, or why it cannot be.
#[derive(Debug, Clone)]
pub struct SettleDecision {
    /// What becomes of the credit.
    pub document: Settlement,
    /// The entry; none where both items stand on one account at one base amount.
    pub entry: Option<Entry>,
    /// The arithmetic.
    pub tape: Tape,
    /// What changes.
    pub changes: Vec<Change>,
    /// What the orders become.
    pub orders: Vec<OrderAfter>,
    /// What each customer owes less, in base currency.
    pub owes_less: Vec<(CustomerId, Money)>,
    /// What stands in the way, and warnings.
    pub blockers: Vec<Blocker>,
    /// Mark of what was seen.
    pub fingerprint: String,
}

/// Decides on a receipt, on containers brought back, or on applying what is open on a credit.
pub fn decide(input: &SettleInput<'_>) -> SettleDecision {
    let mut findings = Findings::at(Step::Post);
    let document = settle(input);
    checking::check(input, &document, &mut findings);
    let entry = entering::enter(input, &document, &mut findings);
    let (orders, order_changes) = compare(&input.orders, &orders_after(input, &document));
    let owes_less = owes_less(input, &document);
    let mut changes = owing_changes(&input.group, &owes_less);
    changes.extend(order_changes);
    SettleDecision {
        tape: tape(input, &document),
        fingerprint: fingerprint::of(&(&document, &entry)),
        blockers: findings.finish(),
        document,
        entry,
        changes,
        orders,
        owes_less,
    }
}

impl SettleDecision {
    /// What it does to the books.
    pub fn posting(&self, input: &SettleInput<'_>) -> Posting {
        let mut posting = Posting { orders: self.orders.clone(), ..Posting::default() };
        let entry = posting.enter(self.entry.clone(), None);
        let credit = match &input.source {
            Source::Item(item) => Which::Known(item.id),
            Source::Received { .. } | Source::Containers { .. } => posting.make(self.credit_item(input)),
        };
        let date = self.document.date.date;
        if let Source::Containers { item, quantity, .. } = &input.source {
            posting.containers.push(ContainerMove {
                customer: input.payer,
                item: *item,
                date,
                quantity: Quantity::from_scaled(-quantity.scaled()),
                amount: -self.document.amount,
                canceled: None,
            });
        }
        posting.applications.extend(self.document.applied.iter().map(|applied| NewApplication {
            date,
            debit: Which::Known(applied.item),
            credit,
            debit_amount: (applied.amount, applied.receivable_base),
            credit_amount: (applied.credit_amount, applied.money_base),
            beside: applied.beside.clone(),
            taxes: applied.taxes.clone(),
            reverses: None,
            entry,
        }));
        posting
    }

    /// All of what came in is money without a target first.
    fn credit_item(&self, input: &SettleInput<'_>) -> NewItem {
        let of_map = input.accounts.account(Purpose::Unapplied, None, input.payer_class.as_deref()).ok();
        let account =
            account_of(self.entry.as_ref(), Purpose::Unapplied).or(of_map.map(|account| account.number.as_str()));
        let document = &self.document;
        let amounts = (document.amount, document.amount_base);
        let whose = (input.payer, Purpose::Unapplied, Side::OwedByUs);
        NewItem::due_at_once(whose, account, input.currency, amounts, document.date.date)
    }
}

fn settle(input: &SettleInput<'_>) -> Settlement {
    let rate = input.rate.unwrap_or(ExchangeRate::ONE);
    let amount_base = match &input.source {
        Source::Received { .. } | Source::Containers { .. } => input.amount.to_base(rate, input.currency, input.base),
        Source::Item(item) => item.open_base,
    };
    let all: Money = input.to_apply.iter().map(|to_apply| to_apply.amount).sum();
    let unapplied = input.amount - all;
    let weights: Vec<i64> = input.to_apply.iter().map(|to_apply| to_apply.amount.0).chain([unapplied.0]).collect();
    let (parts, taxes) = match &input.source {
        Source::Item(item) if !item.taxes.is_empty() => advance_parts(input, item),
        _ => (money_parts(input, amount_base, &weights), vec![Vec::new(); input.to_apply.len()]),
    };
    let stays = amount_base - parts.iter().take(input.to_apply.len()).copied().sum::<Money>();
    let applied = input
        .to_apply
        .iter()
        .zip(&parts)
        .zip(taxes)
        .map(|((ToApply { item, amount, beside }, money_base), taxes)| {
            let debit = debit_amount(input, item, *amount) + beside.sum();
            let receivable_base = item.release(debit, input.date.date);
            let paid = debit - beside.discount - beside.written_off.max(Money::ZERO);
            Applied {
                beside: beside::booked(input, (item, *beside), (paid, receivable_base, *money_base)),
                item: item.id,
                document: item.document.clone(),
                customer: item.customer,
                currency: item.currency,
                amount: debit,
                credit_amount: *amount,
                receivable_base,
                money_base: *money_base,
                open_after: item.open - debit,
                taxes,
            }
        })
        .collect();
    Settlement { date: input.date, amount: input.amount, amount_base, applied, unapplied, unapplied_base: stays }
}

/// The same of a deposit that was taxed as it came in: by code, one after the other, as far as each invoice has of it.
fn advance_parts(input: &SettleInput<'_>, item: &OpenItem) -> (Vec<Money>, Vec<Vec<HeldTax>>) {
    advance_steps(input, item).into_iter().map(|step| (step.base, step.taxes)).unzip()
}

/// One application of a deposit among those of an operation.
struct AdvanceStep {
    /// The most there is for it, after those before it.
    most: Money,
    base: Money,
    taxes: Vec<HeldTax>,
}

/// The applications of a deposit one after the other: what an earlier one used of a tax code is not there for a later.
fn advance_steps(input: &SettleInput<'_>, item: &OpenItem) -> Vec<AdvanceStep> {
    let mut left = item.clone();
    let step = |ToApply { item: debit, amount, .. }: &ToApply| {
        let room = input.rooms.iter().find(|room| room.item == debit.id).map(|room| room.taxes.as_slice());
        let most = room.map_or(left.open, |room| most_by_code(&left, room));
        let (base, taxes) = part_of(&left, *amount, input.date.date, room);
        left = left.after(*amount, base, &taxes);
        AdvanceStep { most, base, taxes }
    };
    input.to_apply.iter().map(step).collect()
}

/// What each application uses of the credit's base amount, and last what stays: in proportion, and of an item
/// never more than is carried from that day on.
fn money_parts(input: &SettleInput<'_>, amount_base: Money, weights: &[i64]) -> Vec<Money> {
    let mut parts = spread(amount_base, weights);
    let Source::Item(item) = &input.source else { return parts };
    let Some((stays, used)) = parts.split_last_mut() else { return parts };
    let all: Money = used.iter().copied().sum();
    let room = item.base_room_from(input.date.date);
    // What stays may come to less than a cent at home: it takes the rest all the same.
    if all > room && weights.last().is_some_and(|left| *left > 0) {
        used.copy_from_slice(&spread(room, &weights[..weights.len() - 1]));
        *stays += all - room;
    }
    parts
}

/// What an amount of the credit comes to in the currency of the item: the same, or converted at the date. What settles it settles it
/// to the cent, whichever way is rounded.
fn debit_amount(input: &SettleInput<'_>, item: &OpenItem, amount: Money) -> Money {
    if item.currency == input.currency {
        return amount;
    }
    let rate = |wanted: Currency| input.other_rates.iter().find(|(known, _)| *known == wanted).map(|(_, rate)| *rate);
    let of_item = if item.currency == input.base { Some(ExchangeRate::ONE) } else { rate(item.currency) };
    match (input.rate, of_item) {
        (Some(from), Some(to)) if settles(item, to, (input.currency, from)) == amount => item.open,
        (Some(from), Some(to)) => amount.exchanged((input.currency, from), (item.currency, to)),
        _ => Money::ZERO,
    }
}

/// What settles an item in another currency, at the rates of the day: the rate is base currency for one of it.
///
/// ```
/// # use till_core::{fixed::ExchangeRate, money::{Currency, Money}};
/// // 100.00 at 1.17 are paid with 117.00.
/// let rate: ExchangeRate = "1.17".parse()?;
/// let (gbp, eur) = (Currency::of("GBP").unwrap(), Currency::of("EUR").unwrap());
/// assert_eq!(Money(10_000).exchanged((gbp, rate), (eur, ExchangeRate::ONE)), Money(11_700));
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
pub fn settles(item: &OpenItem, rate: ExchangeRate, money: (Currency, ExchangeRate)) -> Money {
    item.open.exchanged((item.currency, rate), money)
}

/// What each customer owes less. Money that only moves between two items of a customer changes
/// nothing of what it owes net, but what it owes is the sum of what is open on receivables.
fn owes_less(input: &SettleInput<'_>, document: &Settlement) -> Vec<(CustomerId, Money)> {
    let mut less: Vec<(CustomerId, Money)> = Vec::new();
    let mut add = |customer: CustomerId, amount: Money| match less.iter_mut().find(|(known, _)| *known == customer) {
        Some((_, sum)) => *sum += amount,
        None => less.push((customer, amount)),
    };
    for applied in &document.applied {
        add(applied.customer, applied.receivable_base);
    }
    if let Source::Item(item) = &input.source
        && item.purpose == Purpose::Receivable
    {
        add(item.customer, -document.applied.iter().map(|applied| applied.money_base).sum::<Money>());
    }
    less
}

/// What customers owe, before and after.
fn owing_changes(group: &[Member], less: &[(CustomerId, Money)]) -> Vec<Change> {
    let several = less.len() > 1;
    less.iter()
        .filter(|(_, amount)| !amount.is_zero())
        .filter_map(|(id, amount)| {
            let member = group.iter().find(|member| member.id == *id)?;
            let label = if several { format!("{} owes", member.name) } else { "Customer owes".to_owned() };
            Some(Change {
                label,
                before: Some(Figure::money(member.owes)),
                after: Figure::money(member.owes - *amount),
            })
        })
        .collect()
}

fn tape(input: &SettleInput<'_>, document: &Settlement) -> Tape {
    let (subheading, first) = match &input.source {
        Source::Received { method } => (format!("{} of {}", method.name, words(document.date.date)), "Received"),
        Source::Containers { what, .. } => (format!("{what} of {}", words(document.date.date)), "Brought back"),
        Source::Item(item) if item.purpose == Purpose::DepositLiability => {
            (format!("{} of {}", item.document.number, words(item.posting_date)), "Deposit held")
        }
        Source::Item(item) => (format!("{} of {}", item.document.number, words(item.posting_date)), "Unapplied"),
    };
    let mut tape = Tape::new(input.payer_name.clone(), subheading, input.currency);
    tape.amount(TapeStyle::Line, first, document.amount);
    for (to_apply, applied) in input.to_apply.iter().zip(&document.applied) {
        tape.amount(TapeStyle::Line, format!("to {}", applied.document.number), -applied.credit_amount);
        if let Some(branch) =
            input.group.iter().find(|member| member.id == applied.customer && member.id != input.payer)
        {
            tape.remark(TapeStyle::Detail, format!("of {}", branch.name), false);
        }
        if applied.currency != input.currency {
            let amount = applied.currency.grouped(applied.amount);
            tape.remark(TapeStyle::Detail, format!("{amount} {} at the rates of the day", applied.currency), false);
        }
        beside_on_tape(&mut tape, &applied.beside);
        if let Some(offer) = beside::missed(input, applied.item) {
            let amount = applied.currency.grouped(offer.amount);
            let until = words(offer.until_with_grace);
            tape.remark(TapeStyle::Detail, format!("a discount of {amount} could be earned until {until}"), false);
        }
        if applied.open_after.is_zero() {
            tape.remark(TapeStyle::Detail, "settled", false);
        } else if applied.currency == input.currency {
            tape.part(TapeStyle::Detail, "stays open", to_apply.item.open, applied.open_after);
        } else {
            let left = applied.currency.grouped(applied.open_after);
            tape.remark(TapeStyle::Detail, format!("{left} {} stay open", applied.currency), false);
        }
    }
    let held = matches!(&input.source, Source::Item(item) if item.purpose == Purpose::DepositLiability);
    tape.amount(TapeStyle::Due, if held { "Stays held" } else { "Stays unapplied" }, document.unapplied);
    tape.remark(TapeStyle::Detail, format!("dated {}", words(document.date.date)), !document.date.typed);
    tape
}

fn beside_on_tape(tape: &mut Tape, beside: &BesideBooked) {
    let mut say = |label: &str, amount: Money| {
        if !amount.is_zero() {
            tape.amount(TapeStyle::Detail, label, amount);
        }
    };
    say("less early-payment discount", beside.discount.amount);
    for part in &beside.taxes {
        say(&format!("of which tax {}%", part.rate.rate.percent()), part.tax);
    }
    say("less written off", beside.written_off.amount);
    say("too much, kept as income", beside.kept.amount);
}

fn orders_after(input: &SettleInput<'_>, document: &Settlement) -> Vec<OrderFacts> {
    let settled = document.applied.iter().map(|applied| (&applied.document, -applied.amount));
    orders_with(&input.orders, settled)
}

/// Orders as they are with what is open of invoices moved by so much: each document is looked at once.
pub(crate) fn orders_with<'a>(
    orders: &[OrderFacts],
    moved: impl Iterator<Item = (&'a DocumentRef, Money)>,
) -> Vec<OrderFacts> {
    let mut by_invoice: BTreeMap<InvoiceId, Money> = BTreeMap::new();
    for (document, amount) in moved.filter(|(document, _)| document.kind == DocumentKind::Invoice) {
        *by_invoice.entry(InvoiceId(document.id)).or_default() += amount;
    }
    let mut after = orders.to_vec();
    for invoice in after.iter_mut().flat_map(|order| &mut order.invoices) {
        invoice.open += by_invoice.get(&invoice.invoice).copied().unwrap_or_default();
    }
    after
}
