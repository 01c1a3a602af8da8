//! What must hold for any input, of domain.md section 14, as far as the core alone decides it.

use crate::common::*;
use proptest::prelude::*;
use till_core::accounts::Purpose;
use till_core::checks::stops;
use till_core::fixed::Quantity;
use till_core::ids::{InvoiceId, OrderId};
use till_core::invoice;
use till_core::money::{Currency, Money};
use till_core::order::{InvoiceShares, LineProgress, OrderState, settlement, state, track};
use till_core::settle::{self, Because, Said, ToApply, suggest};

proptest! {
    /// Entries balance in the base currency, whatever the currency (exponents 0, 2 and 3) and its rate; what
    /// was taxed is what was sold, in both currencies.
    #[test]
    fn foreign_invoices_balance(
        prices in prop::collection::vec(1i64..50_000_000, 1..8),
        rate in 1i64..5_000_000_000,
        currency in prop::sample::select(vec!["GBP", "JPY", "KWD"]),
    ) {
        let books = Books::new();
        let lines = prices.iter().enumerate().map(|(at, price)| {
            let price = till_core::fixed::UnitPrice::from_scaled(*price * 1_000).to_string();
            line(at as i64 + 1, "3", &price, "2.5", if at % 2 == 0 { "S23" } else { "S135" })
        }).collect();
        let mut input = books.invoice(lines);
        let currency = Currency::of(currency).unwrap();
        (input.basis.currency, input.orders[0].currency) = (currency, currency);
        input.rate = Some(till_core::fixed::ExchangeRate::from_scaled(rate));
        let decision = invoice::decide(&input);
        agrees(&decision.posting(), &[]);
        if let Some(entry) = decision.entry {
            prop_assert!(entry.balances());
            prop_assert_eq!(entry.lines.iter().map(|line| line.document.0).sum::<i64>(), 0);
            prop_assert!(entry.lines.iter().all(|line| line.currency == currency));
            let sold = |of: fn(&till_core::entry::EntryLine) -> i64| -> i64 {
                entry.lines.iter().filter(|line| line.purpose == Purpose::Revenue).map(of).sum()
            };
            let taxed: Vec<_> = entry.lines.iter().filter_map(|line| line.tax.as_ref()).collect();
            prop_assert_eq!(taxed.iter().map(|tax| tax.base.0).sum::<i64>(), -sold(|line| line.base.0));
            prop_assert_eq!(taxed.iter().map(|tax| tax.document_base.0).sum::<i64>(), -sold(|line| line.document.0));
        }
    }

    /// Never more on an invoice than is unbilled: what is too much always stops.
    #[test]
    fn too_much_always_stops(unbilled in 1i64..1_000_000, over in 1i64..1_000_000) {
        let books = Books::new();
        let mut one = line(1, "1", "5", "0", "S23");
        one.unbilled = Quantity::from_scaled(unbilled);
        one.quantity = Quantity::from_scaled(unbilled + over);
        prop_assert!(stops(&invoice::decide(&books.invoice(vec![one])).blockers));
    }

    /// Applied is never above what either side had; open never goes below zero; and a foreign
    /// receivable is carried at zero once it is settled, however it was paid.
    #[test]
    fn paying_in_parts_releases_exactly_what_was_carried(
        open in 100i64..1_000_000,
        carried in 100i64..2_000_000,
        cuts in prop::collection::vec(1i64..400_000, 1..12),
        rate in 500_000_000i64..2_000_000_000,
    ) {
        let books = Books::new();
        let gbp = Currency::of("GBP").unwrap();
        let (mut open_left, mut carried_left) = (open, carried);
        for cut in cuts.iter().chain([&i64::MAX]) {
            if open_left == 0 { break; }
            let amount = (*cut).min(open_left);
            let mut item = open_invoice(1, open_left, carried_left);
            item.currency = gbp;
            let mut input = books.money(transfer(), amount, vec![ToApply::new(item, Money(amount))]);
            input.currency = gbp;
            input.rate = Some(till_core::fixed::ExchangeRate::from_scaled(rate));
            let decision = settle::decide(&input);
            prop_assert!(!stops(&decision.blockers));
            prop_assert!(decision.entry.as_ref().is_none_or(|entry| entry.balances()));
            agrees(&decision.posting(&input), &[&input.to_apply[0].item]);
            let applied = &decision.document.applied[0];
            prop_assert!(applied.open_after.0 >= 0);
            open_left = applied.open_after.0;
            carried_left -= applied.receivable_base.0;
        }
        prop_assert_eq!((open_left, carried_left), (0, 0));
    }

    /// What is suggested never gives more than there is, nor more than an invoice has open; what the clerk came from goes first.
    #[test]
    fn suggestions_stay_within_both_sides(
        amount in 0i64..500_000, opens in prop::collection::vec(1i64..200_000, 0..12), come_from in any::<bool>(),
        words in "[IR0-9 ,-]{0,24}",
    ) {
        let invoices: Vec<_> = opens.iter().enumerate().map(|(at, open)| open_invoice(at as i64, *open, *open)).collect();
        let first = opens.len().checked_sub(2).filter(|_| come_from).map(|at| invoices[at].document.clone());
        let said = Said { first: first.as_ref(), words: Some(&words), ..Said::default() };
        let suggested = suggest((Money(amount), eur()), &invoices, said, day("2026-04-10"));
        let all: i64 = suggested.iter().map(|one| one.amount.0).sum();
        prop_assert!(all <= amount);
        if suggested.iter().all(|one| !matches!(one.because, Because::Number | Because::Reference)) {
            prop_assert_eq!(all, amount.min(opens.iter().sum()), "where nothing is named all of it is used");
        }
        if let (Some(one), true, Some(first)) = (suggested.first(), amount > 0, &first) {
            prop_assert_eq!((one.item.0, one.because), (first.id, Because::ComeFrom));
        }
        let mut items: Vec<_> = suggested.iter().map(|one| one.item).collect();
        items.sort_unstable();
        items.dedup();
        prop_assert_eq!(items.len(), suggested.len(), "each item once");
        for one in &suggested {
            prop_assert!(one.amount.0 > 0 && one.amount.0 <= opens[usize::try_from(one.item.0).unwrap()]);
        }
    }

    /// Whatever was drawn, money that some invoices come to exactly settles invoices in whole and leaves nothing.
    #[test]
    fn money_that_is_a_sum_settles_in_whole(opens in prop::collection::vec(1i64..200_000, 1..10), picks in any::<u16>()) {
        let invoices: Vec<_> = opens.iter().enumerate().map(|(at, open)| open_invoice(at as i64, *open, *open)).collect();
        let paid: i64 = opens.iter().enumerate().filter(|(at, _)| picks & (1 << at) != 0).map(|(_, open)| open).sum();
        prop_assume!(paid > 0);
        let suggested = suggest((Money(paid), eur()), &invoices, Said::default(), day("2026-04-10"));
        prop_assert_eq!(suggested.iter().map(|one| one.amount.0).sum::<i64>(), paid);
        for one in &suggested {
            prop_assert_eq!(one.amount.0, opens[usize::try_from(one.item.0).unwrap()]);
            prop_assert!(matches!(one.because, Because::Equal | Because::Together));
        }
    }

    /// What an invoice was paid is shared over its orders without losing a cent, and an order
    /// is closed exactly when nothing of it is left to ship, bill or pay.
    #[test]
    fn orders_close_when_nothing_is_left(
        ordered in 1i64..100, shipped_share in 0i64..=4, billed_share in 0i64..=4,
        grosses in prop::collection::vec(1i64..100_000, 1..5), paid_share in 0i64..=4,
    ) {
        let shipped = ordered * shipped_share / 4;
        let billed = shipped * billed_share / 4;
        let line = LineProgress {
            ordered: Quantity::from_whole(ordered), cancelled: Quantity::ZERO,
            shipped: Quantity::from_whole(shipped), billed: Quantity::from_whole(billed), value: Money(1_000),
        };
        let total: i64 = grosses.iter().sum();
        let invoice = InvoiceShares {
            in_advance: false,
            name: "I-1".to_owned(),
            invoice: InvoiceId(1), total: Money(total), open: Money(total - total * paid_share / 4),
            shares: grosses.iter().enumerate().map(|(at, gross)| (OrderId(at as i64), Money(*gross))).collect(),
        };
        let invoices = [invoice];
        let paid: i64 = (0..grosses.len()).map(|at| settlement(OrderId(at as i64), &invoices).paid_gross.0).sum();
        prop_assert_eq!(paid, total * paid_share / 4);
        let mine = settlement(OrderId(0), &invoices);
        let done = shipped == ordered && billed == ordered && paid_share == 4;
        prop_assert_eq!(state(true, &[line], mine) == OrderState::Closed, done);
        let beats = track(true, &[line], mine);
        prop_assert!(beats.shipped >= beats.billed && beats.billed >= beats.paid);
        prop_assert_eq!(beats.paid == 1000, done);
    }
}
