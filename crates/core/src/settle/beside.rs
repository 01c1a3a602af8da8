//! What settles an item beside money: a discount earned by paying early, a small difference that is given up.
//!
//! The offer is of the invoice less packaging, credits and money in advance; a part payment earns its share of it. Where the
//! terms adjust the tax, the customer keeps back the percentage of net and of tax, and both are booked, by tax code. A
//! difference within the company's tolerance is written off, or kept as income where too much came.
//! *Source: domain.md sections 5 and 10; postings.md, Money.*
//!
//! ```
//! use till_core::settle::Beside;
//! use till_core::money::Money;
//! // 984.00 paid with 964.32: 19.68 were earned.
//! let beside = Beside { discount: Money(1_968), ..Beside::default() };
//! assert_eq!(Money(96_432) + beside.sum(), Money(98_400));
//! ```

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};

use super::{SettleInput, Source};
use crate::accounts::Purpose;
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::deposit::HeldTax;
use crate::entry::{EntryBuilder, LineFor, TaxMark};
use crate::ids::{DocumentKind, OpenItemId};
use crate::money::{Currency, Money};
use crate::open_items::OpenItem;
use crate::spread::spread;
use crate::tax::TaxRate;
use crate::terms::{DiscountOffer, Terms};

/// What of an item is to be settled without money, in the item's currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Beside {
    /// Earned by paying early.
    pub discount: Money,
    /// A difference that is given up; below zero where too much came and is kept as income.
    pub written_off: Money,
}

impl Beside {
    /// Both together.
    pub fn sum(&self) -> Money {
        self.discount + self.written_off
    }
}

/// An amount in a document's currency, and what it is in base currency.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Both {
    /// In the document's currency.
    pub amount: Money,
    /// In base currency.
    pub base: Money,
}

impl Both {
    /// The two together.
    pub const fn of(amount: Money, base: Money) -> Self {
        Self { amount, base }
    }

    fn turned(self) -> Self {
        Self { amount: -self.amount, base: -self.base }
    }
}

/// What an application settles without money, as it is booked: each in the item's currency, and in base currency.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BesideBooked {
    /// Earned by paying early, its tax among it.
    pub discount: Both,
    /// Too little came: given up.
    pub written_off: Both,
    /// Too much came: kept as income.
    pub kept: Both,
    /// The discount by tax code, where the terms take its tax with it; empty otherwise.
    pub taxes: Vec<HeldTax>,
}

impl BesideBooked {
    /// What the item gives up beside the money, in base currency.
    pub fn base(&self) -> Money {
        self.discount.base + self.written_off.base - self.kept.base
    }

    /// Whether nothing is settled without money.
    pub fn is_nothing(&self) -> bool {
        [self.discount, self.written_off, self.kept].iter().all(|both| both.amount.is_zero())
    }

    /// The same with the signs turned: taken back.
    pub fn turned(&self) -> Self {
        Self {
            discount: self.discount.turned(),
            written_off: self.written_off.turned(),
            kept: self.kept.turned(),
            taxes: self.taxes.iter().map(HeldTax::turned).collect(),
        }
    }
}

/// What was sold at a tax rate on an invoice, less what was credited of it and what is owed back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sold {
    /// Code, category and rate.
    pub rate: TaxRate,
    /// The day it was reported on.
    pub tax_date: NaiveDate,
    /// Net, in the invoice's currency.
    pub net: Money,
    /// Tax, in the invoice's currency.
    pub tax: Money,
}

/// What paying early earns on an open item.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Early {
    /// The item.
    pub item: OpenItemId,
    /// Its terms.
    pub terms: Terms,
    /// The day they count from.
    pub document_date: NaiveDate,
    /// What was sold, by tax code.
    pub sold: Vec<Sold>,
    /// What deposits pay of it, as far as their tax is among what was sold.
    pub in_advance: Money,
    /// What was earned on it so far, less what was taken back.
    pub taken: Money,
}

impl Early {
    /// Net and total of what the discount is of.
    fn bases(&self) -> (Money, Money) {
        let net: Money = self.sold.iter().map(|sold| sold.net).sum();
        let total: Money = net + self.sold.iter().map(|sold| sold.tax).sum();
        if self.in_advance.is_zero() || !total.is_positive() {
            return (net, total);
        }
        (net - self.in_advance.share(net.0, total.0), total - self.in_advance)
    }

    /// The whole offer; none where nothing is left that earns it.
    pub fn offer(&self) -> Option<DiscountOffer> {
        let (net, total) = self.bases();
        self.terms
            .offer(self.document_date, net, total)
            .filter(|offer| total.is_positive() && offer.amount.is_positive())
    }

    /// What of the offer is left, whenever it is paid.
    pub fn left(&self) -> Money {
        self.offer().map_or(Money::ZERO, |offer| (offer.amount - self.taken).max(Money::ZERO))
    }

    /// What all of it earns that is open, paid on a day.
    pub fn for_all(&self, date: NaiveDate, open: Money) -> Money {
        match self.offer() {
            Some(offer) if date <= offer.until_with_grace => self.left().min(open),
            _ => Money::ZERO,
        }
    }

    /// What an amount earns that is paid on a day: all that is left of the offer where it settles what is open with
    /// it, else its share.
    pub fn earned(&self, date: NaiveDate, open: Money, paid: Money) -> Money {
        let all = self.for_all(date, open);
        if paid + all >= open {
            return all.min(open - paid).max(Money::ZERO);
        }
        let (_, total) = self.bases();
        let Some(offer) = self.offer() else { return Money::ZERO };
        let to_pay = total - offer.amount;
        if to_pay.is_positive() { offer.amount.share(paid.0, to_pay.0).min(all) } else { all }
    }

    /// The parts of a discount by tax code: what is earned so far with it, less what was earned before. Empty where
    /// the terms leave the tax as it is.
    fn taxes(&self, discount: Money) -> Vec<HeldTax> {
        let (Some(terms), Some(offer)) = (self.terms.discount, self.offer()) else { return Vec::new() };
        if !terms.tax_adjusted || discount.is_zero() {
            return Vec::new();
        }
        let (net, total) = self.bases();
        let weights: Vec<i64> = self.sold.iter().map(|sold| sold.tax.0).collect();
        let whole = spread((total - net).times_rate(terms.rate), &weights);
        let until = |taken: Money, all: Money| all.share(taken.0, offer.amount.0);
        let taxes: Vec<Money> =
            whole.iter().map(|all| until(self.taken + discount, *all) - until(self.taken, *all)).collect();
        let nets = spread(
            discount - taxes.iter().copied().sum::<Money>(),
            &self.sold.iter().map(|sold| sold.net.0).collect::<Vec<_>>(),
        );
        let parts = self.sold.iter().zip(nets.into_iter().zip(taxes));
        parts
            .map(|(sold, (net, tax))| HeldTax {
                rate: sold.rate.clone(),
                tax_date: sold.tax_date,
                net,
                tax,
                net_base: Money::ZERO,
                tax_base: Money::ZERO,
            })
            .filter(|part| !part.gross().is_zero())
            .collect()
    }
}

/// The day money came on that may earn a discount, applied on a day; none where money in advance or a credit is applied.
pub fn paid_on(source: &Source, date: NaiveDate) -> Option<NaiveDate> {
    match source {
        Source::Received { .. } => Some(date),
        Source::Item(item) if item.document.kind == DocumentKind::Receipt => Some(item.posting_date),
        Source::Item(_) | Source::Containers { .. } => None,
    }
}

/// Whether a difference may be given up with it: deposits carry tax of their own, and packaging is owed back to the piece.
pub fn settles_differences(source: &Source) -> bool {
    match source {
        Source::Received { .. } => true,
        Source::Item(item) => item.purpose != Purpose::DepositLiability,
        Source::Containers { .. } => false,
    }
}

/// Whether a company may count so much as no difference.
///
/// # Errors
/// What to write instead.
pub fn check_tolerance(amount: Money) -> Result<(), String> {
    match (Money::ZERO..=Money(10_000)).contains(&amount) {
        true => Ok(()),
        false => Err("A tolerance lies between 0.00 and 100.00.".to_owned()),
    }
}

/// What is booked of what was wished, and the base amounts of the item and of the money that go with the rest.
pub(super) fn booked(
    input: &SettleInput<'_>,
    (item, wish): (&OpenItem, Beside),
    (paid, receivable_base, money_base): (Money, Money, Money),
) -> BesideBooked {
    if wish == Beside::default() {
        return BesideBooked::default();
    }
    let early = input.early.get(&item.id);
    // The item gives up what the money settles, the discount and what is written off, in proportion.
    let written_off = wish.written_off.max(Money::ZERO);
    let kept = (-wish.written_off).max(Money::ZERO);
    let parts = spread(receivable_base, &[paid.0, wish.discount.0, written_off.0]);
    let mut taxes = early.map(|early| early.taxes(wish.discount)).unwrap_or_default();
    let tax: Money = taxes.iter().map(|part| part.tax).sum();
    let mut weights = vec![(wish.discount - tax).0];
    weights.extend(taxes.iter().map(|part| part.tax.0));
    let bases = spread(parts[1], &weights);
    let nets = spread(bases[0], &taxes.iter().map(|part| part.net.0).collect::<Vec<_>>());
    for (at, part) in taxes.iter_mut().enumerate() {
        (part.net_base, part.tax_base) = (nets[at], bases[at + 1]);
    }
    BesideBooked {
        discount: Both::of(wish.discount, parts[1]),
        written_off: Both::of(written_off, parts[2]),
        kept: Both::of(kept, money_base.share(kept.0, (paid + kept).0)),
        taxes,
    }
}

/// The lines of what an application settles without money: debits. Turned, they take it back.
pub(crate) fn beside_lines(builder: &mut EntryBuilder<'_>, currency: Currency, beside: &BesideBooked) {
    let what = || LineFor { currency: Some(currency), ..LineFor::default() };
    let tax: Money = beside.taxes.iter().map(|part| part.tax).sum();
    let tax_base: Money = beside.taxes.iter().map(|part| part.tax_base).sum();
    builder.add(Purpose::DiscountAllowed, beside.discount.amount - tax, beside.discount.base - tax_base, what());
    for part in &beside.taxes {
        let mark = TaxMark {
            code: part.rate.code.clone(),
            base: -part.net_base,
            document_base: -part.net,
            rate: Some(part.rate.rate),
            tax_date: Some(part.tax_date),
        };
        builder.add(Purpose::TaxPayable, part.tax, part.tax_base, LineFor { tax: Some(mark), ..what() });
    }
    builder.add(Purpose::WriteOff, beside.written_off.amount, beside.written_off.base, what());
    builder.add(Purpose::OtherIncome, -beside.kept.amount, -beside.kept.base, what());
}

/// Notes what cannot be settled without money.
pub(super) fn check(input: &SettleInput<'_>, position: usize, findings: &mut Findings) {
    let Some(to_apply) = input.to_apply.get(position) else { return };
    let (item, wish) = (&to_apply.item, to_apply.beside);
    let number = &item.document.number;
    let at = Some(item.document.clone());
    let format = |amount: Money| item.currency.grouped(amount);
    if wish == Beside::default() {
        return;
    }
    if item.currency != input.currency {
        let sentence =
            format!("{number} is in another currency than the money: only what is paid can be applied to it.");
        findings.add_at(Check::CurrencyDiffers, format!("applications.{position}.amount"), sentence, at);
        return;
    }
    let field = format!("applications.{position}.discount");
    if wish.discount < Money::ZERO {
        findings.add(Check::AmountNotPositive, field, "A discount is not below zero. Leave it empty for none.");
    } else if wish.discount.is_positive() {
        check_discount(input, position, (field, at.clone()), findings);
    }
    let field = format!("applications.{position}.write_off");
    if !wish.written_off.is_zero() && !settles_differences(&input.source) {
        let sentence = format!("A deposit or packaging gives up no difference. Apply what {number} has open, or less.");
        findings.add_at(Check::MoreThanTolerance, field, sentence, at);
        return;
    }
    let too_much = wish.written_off < Money::ZERO;
    if too_much && to_apply.amount + wish.sum() < item.open {
        let sentence = format!("Something of {number} stays open: nothing too much came.");
        findings.add_at(Check::MoreThanTolerance, field, sentence, at);
    } else if too_much && -wish.written_off > input.tolerance {
        let sentence = format!("More than {} too much is the customer's: leave it unapplied.", format(input.tolerance));
        findings.add_at(Check::MoreThanTolerance, field, sentence, at);
    } else if wish.written_off > input.tolerance {
        let sentence = format!(
            "{} of {number} is above the tolerance of {}: it needs a limit for write-offs.",
            format(wish.written_off),
            format(input.tolerance)
        );
        findings.add_at(Check::AboveTolerance, field, sentence, at);
    }
}

fn check_discount(
    input: &SettleInput<'_>,
    position: usize,
    (field, at): (String, Option<crate::ids::DocumentRef>),
    findings: &mut Findings,
) {
    let Some(to_apply) = input.to_apply.get(position) else { return };
    let (item, discount) = (&to_apply.item, to_apply.beside.discount);
    let number = &item.document.number;
    let early = input.early.get(&item.id);
    let (Some(early), Some(date)) = (early, paid_on(&input.source, input.date.date)) else {
        let sentence =
            format!("{number} has no discount for early payment. Write the difference off, or leave it open.");
        findings.add_at(Check::DiscountNotEarned, field, sentence, at);
        return;
    };
    let most = early.earned(date, item.open, to_apply.amount);
    if discount <= most {
        return;
    }
    let until = early.offer().map(|offer| offer.until_with_grace);
    let sentence = match until.filter(|until| date > *until) {
        Some(until) => format!("The discount on {number} could be earned until {}.", words(until)),
        None => format!("{} of discount is earned on {number} at most with that payment.", item.currency.grouped(most)),
    };
    findings.add_at(Check::DiscountNotEarned, field, sentence, at);
}

/// The offer on an item that was missed: what could have been earned until when.
pub(super) fn missed(input: &SettleInput<'_>, item: OpenItemId) -> Option<DiscountOffer> {
    let early = input.early.get(&item)?;
    let offer = early.offer()?;
    let date = paid_on(&input.source, input.date.date)?;
    (date > offer.until_with_grace && early.taken.is_zero()).then_some(offer)
}
