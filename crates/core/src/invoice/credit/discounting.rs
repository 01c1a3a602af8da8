//! What a credit takes back of a discount for early payment: who keeps a discount back on goods and returns them gets what was paid
//! for them, not more.
//!
//! Only what is kept for the customer was paid; what is still open of the invoice earned nothing yet, and what is set off against
//! goods in exchange keeps its discount. Packaging earns none. Of the discount that stands on the invoice goes back what the goods'
//! part of what is kept is of all that was paid of them; the last credit takes all that stands. *Common practice, no source; the base
//! of the discount is that of domain.md section 5.*

use chrono::NaiveDate;

use super::CreditInput;
use super::supplying::Balance;
use crate::calendar::words;
use crate::checks::{Check, Findings};
use crate::deposit::HeldTax;
use crate::entry::EntryBuilder;
use crate::invoice::{InvoiceDocument, ItemKind};
use crate::money::Money;
use crate::posting::{NewApplication, Which};
use crate::settle::{BesideBooked, Both, beside_lines};
use crate::spread::spread;

/// The discount for early payment that stands on an invoice: what was earned, less what was lost and taken back.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct DiscountOn {
    /// How much, by tax code where its tax went with it.
    pub stands: BesideBooked,
    /// The last day on which it changed; none where there is none.
    pub last: Option<NaiveDate>,
}

/// A discount that a credit takes back, and what the credit gives up for it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct TakenBack {
    /// As it was given, without a minus.
    pub given: BesideBooked,
    /// What the kept credit gives up, in the invoice's currency and at what the credit is carried at.
    pub credit: (Money, Money),
}

/// Net and gross of what earns a discount, and gross of all, of some lines.
struct Parts {
    earning: Money,
    all: Money,
}

/// What is left of the invoice before this credit, and what of that earned.
fn left(input: &CreditInput<'_>) -> Parts {
    let net = |at: usize| input.document.lines.get(at).map_or(Money::ZERO, |line| line.net - input.so_far(at).net);
    let places = 0..input.document.lines.len();
    let earns = |at: &usize| input.document.lines.get(*at).is_some_and(|line| line.kind != ItemKind::Packaging);
    Parts { earning: places.clone().filter(earns).map(net).sum(), all: places.map(net).sum() }
}

fn credited(document: &InvoiceDocument) -> Parts {
    let earns = document.lines.iter().filter(|line| line.kind != ItemKind::Packaging);
    Parts { earning: earns.map(|line| line.net).sum(), all: document.net }
}

/// What of the discount that stands goes back with a credit.
pub(super) fn taken_back(input: &CreditInput<'_>, document: &InvoiceDocument, balance: &Balance) -> TakenBack {
    let standing = &input.discount.stands;
    let (kept, kept_base) = balance.kept;
    if !standing.discount.amount.is_positive() || !kept.is_positive() {
        return TakenBack::default();
    }
    let tax_left: Money =
        input.taxes().iter().zip(&input.tax_credited).map(|(tax, credited)| tax.tax - *credited).sum();
    let (before, now) = (left(input), credited(document));
    let paid = before.all + tax_left - input.item.open;
    let paid_for_goods = paid.share(before.earning.0, before.all.0);
    let kept_for_goods = kept.share(now.earning.0, now.all.0);
    let amount = if kept_for_goods >= paid_for_goods {
        standing.discount.amount
    } else {
        standing.discount.amount.share(kept_for_goods.0, paid_for_goods.0)
    };
    let amount = amount.clamp(Money::ZERO, standing.discount.amount.min(kept));
    let credit_base = if amount == kept { kept_base } else { kept_base.share(amount.0, kept.0) };
    TakenBack { given: part_of(standing, amount), credit: (amount, credit_base) }
}

/// A discount is not taken back before it was given.
pub(super) fn check(input: &CreditInput<'_>, taken: &TakenBack, findings: &mut Findings) {
    let last = input.discount.last.filter(|last| *last > input.date.date && taken.credit.0.is_positive());
    if let Some(last) = last {
        let sentence = format!(
            "The early-payment discount on {} last changed on {}: some of it goes back. Choose that day or a later one.",
            input.number,
            words(last)
        );
        findings.add(Check::DateTooEarly, "date", sentence);
    }
}

/// A part of a discount, by tax code; the whole of it where that is all.
fn part_of(standing: &BesideBooked, amount: Money) -> BesideBooked {
    let whole = &standing.discount;
    if amount.is_zero() {
        return BesideBooked::default();
    }
    let base = if amount == whole.amount { whole.base } else { whole.base.share(amount.0, whole.amount.0) };
    let weights = |of: fn(&HeldTax) -> [Money; 2]| -> Vec<i64> {
        standing.taxes.iter().flat_map(|part| of(part).map(|money| money.0)).collect()
    };
    let amounts = spread(amount, &weights(|part| [part.net, part.tax]));
    let bases = spread(base, &weights(|part| [part.net_base, part.tax_base]));
    let taxes = standing.taxes.iter().zip(amounts.chunks(2).zip(bases.chunks(2)));
    let taxes = taxes.map(|(part, (amounts, bases))| HeldTax {
        net: amounts[0],
        tax: amounts[1],
        net_base: bases[0],
        tax_base: bases[1],
        ..part.clone()
    });
    BesideBooked {
        discount: Both::of(amount, base),
        taxes: taxes.filter(|part| !part.gross().is_zero() || !part.gross_base().is_zero()).collect(),
        ..BesideBooked::default()
    }
}

/// The application that takes it back: it settles nothing of the invoice, the kept credit gives it up.
pub(super) fn application(
    input: &CreditInput<'_>,
    taken: &TakenBack,
    credit: Which,
    entry: Option<usize>,
) -> Option<NewApplication> {
    taken.credit.0.is_positive().then(|| NewApplication {
        date: input.date.date,
        debit: Which::Known(input.item.id),
        credit,
        debit_amount: (Money::ZERO, Money::ZERO),
        credit_amount: taken.credit,
        beside: taken.given.turned(),
        taxes: Vec::new(),
        reverses: None,
        entry,
    })
}

/// Its lines: the discount is given back, by tax code where its tax went with it. The credit's own side is the caller's. What rounding
/// in another currency makes of it is a currency difference.
pub(super) fn enter(input: &CreditInput<'_>, builder: &mut EntryBuilder<'_>, taken: &TakenBack) {
    beside_lines(builder, input.document.currency, &taken.given.turned());
    builder.add_difference(taken.given.discount.base - taken.credit.1, input.base);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fixed::Rate;
    use crate::tax::{TaxCategory, TaxRate};

    /// The parts of a discount, taken one after the other, are the discount, by net and tax and in both currencies.
    #[test]
    fn parts_of_a_discount_are_the_discount() {
        let part = |code: &str, net: i64, tax: i64| HeldTax {
            rate: TaxRate { code: code.to_owned(), category: TaxCategory::S, rate: Rate::from_scaled(230_000) },
            tax_date: "2026-04-01".parse().unwrap(),
            net: Money(net),
            tax: Money(tax),
            net_base: Money(net * 117 / 100),
            tax_base: Money(tax * 117 / 100),
        };
        let taxes = vec![part("S23", 1_600, 368), part("S9", 101, 9)];
        let base: Money = taxes.iter().map(HeldTax::gross_base).sum();
        let mut left = BesideBooked { discount: Both::of(Money(2_078), base), taxes, ..BesideBooked::default() };
        for amount in [1, 700, 333, 1_000, 44] {
            let taken = part_of(&left, Money(amount));
            assert_eq!(taken.taxes.iter().map(HeldTax::gross).sum::<Money>(), Money(amount));
            assert_eq!(taken.taxes.iter().map(HeldTax::gross_base).sum::<Money>(), taken.discount.base);
            left.discount = Both::of(left.discount.amount - Money(amount), left.discount.base - taken.discount.base);
            for part in &mut left.taxes {
                let Some(of) = taken.taxes.iter().find(|one| one.rate.code == part.rate.code) else { continue };
                (part.net, part.tax) = (part.net - of.net, part.tax - of.tax);
                (part.net_base, part.tax_base) = (part.net_base - of.net_base, part.tax_base - of.tax_base);
                assert!(part.net >= Money::ZERO && part.tax >= Money::ZERO, "{part:?}");
            }
        }
        assert_eq!(left.discount, Both::default());
        assert!(left.taxes.iter().all(|part| part.gross().is_zero() && part.gross_base().is_zero()));
    }
}
