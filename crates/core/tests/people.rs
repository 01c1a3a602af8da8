//! Rights, limits, approvals, signing in, numbers, the record and merging, as a reader finds them.

use chrono::{DateTime, Duration, Utc};
use proptest::prelude::*;
use till_core::calendar::{Period, Periods};
use till_core::ids::PersonId;
use till_core::merge::{FieldChange, Fields, differences, merge};
use till_core::money::Money;
use till_core::numbering::{MoveNumber, decide_move};
use till_core::people::*;
use till_core::record::{BEGINNING, Chain, Deed, Doer, Row};

fn limits() -> Limits {
    let mut limits = Limits::default();
    limits.set(Role::Clerk, LimitKind::PriceChange, Some(Money(5_000)));
    limits.set(Role::Lead, LimitKind::PriceChange, Some(Money(50_000)));
    limits
}

/// Ship and bill takes money and, over the counter, confirms: who may do it may do those.
#[test]
fn who_sells_over_the_counter_may_do_each_of_its_parts() {
    let parts = [Operation::ConfirmOrder, Operation::PostShipment, Operation::PostInvoice, Operation::PostMoney];
    for role in Role::ALL.iter().filter(|role| Operation::ShipAndBill.right(**role) == Right::Yes) {
        for part in parts {
            // Up to a limit, the operation itself asks.
            assert!(matches!(part.right(*role), Right::Yes | Right::UpTo(_)), "{role:?}: {}", part.words());
        }
    }
}

/// The whole table as the company reads it: a changed right changes this file.
#[test]
fn the_table_of_rights() {
    let mut table = String::new();
    for operation in Operation::ALL {
        let rights: Vec<String> = Role::ALL
            .iter()
            .map(|role| match operation.right(*role) {
                Right::Yes => "yes".to_owned(),
                Right::No => "-".to_owned(),
                Right::Asks => "asks".to_owned(),
                Right::UpTo(kind) => format!("≤ {}", kind.name()),
            })
            .collect();
        table += &format!("{:<36} {}\n", operation.words(), rights.join(" | "));
    }
    insta::assert_snapshot!(table);
}

#[test]
fn every_operation_has_a_word_of_its_own_and_someone_who_may() {
    let mut words: Vec<String> = Operation::ALL.iter().map(|operation| operation.word()).collect();
    words.sort();
    words.dedup();
    assert_eq!(words.len(), Operation::ALL.len());
    for operation in Operation::ALL {
        assert_eq!(Operation::of(&operation.word()), Some(*operation));
        assert!(Role::ALL.iter().any(|role| operation.right(*role) == Right::Yes || operation.limited_by().is_some()));
    }
    for role in Role::ALL {
        assert_eq!(Role::of(role.word()), Some(role));
        assert_eq!(operations_of(role).len(), Operation::ALL.iter().filter(|o| may_try(role, **o)).count());
    }
    for kind in LimitKind::ALL {
        assert_eq!(LimitKind::of(kind.word()), Some(kind));
    }
}

#[test]
fn what_nobody_set_is_a_limit_of_zero_and_none_is_no_limit() {
    let mut limits = Limits::default();
    let change = |limits: &Limits, amount| decide(Role::Clerk, Operation::ChangePrice, Money(amount), limits);
    assert_eq!(change(&limits, 0), Verdict::Allowed);
    assert!(matches!(change(&limits, 1), Verdict::NeedsApproval(_)));
    limits.set(Role::Clerk, LimitKind::PriceChange, None);
    assert_eq!(change(&limits, i64::MAX), Verdict::Allowed);
    limits.set(Role::Clerk, LimitKind::PriceChange, Some(Money(7)));
    assert!(matches!(change(&limits, -8), Verdict::NeedsApproval(_)), "a sign makes nothing smaller");
}

#[test]
fn who_may_not_is_told_who_may() {
    assert_eq!(
        denied(Role::Auditor, Operation::PostInvoice),
        "An auditor may not post invoices. Ask a clerk or supervisor."
    );
    assert_eq!(
        denied(Role::Lead, Operation::KeepPeople),
        "A supervisor may not look after people. Ask an administrator."
    );
}

#[test]
fn nobody_approves_their_own_request_or_one_that_has_ended() {
    let approval = Approval {
        gives_away: Money::ZERO,
        operation: Operation::ChangePrice,
        amount: Money(20_000),
        maker: PersonId(1),
        state: ApprovalState::Waiting,
    };
    let ask = |approval: &Approval, person, role| {
        decide_approval(approval, Question { person: PersonId(person), role }, &limits())
    };
    assert_eq!(ask(&approval, 2, Role::Lead), Ok(()));
    assert!(ask(&approval, 1, Role::Lead).unwrap_err().contains("yourself"));
    for role in [Role::Clerk, Role::Auditor, Role::Administrator] {
        assert!(ask(&approval, 2, role).is_err(), "{role:?}");
    }
    let large = Approval { amount: Money(50_001), ..approval };
    assert!(ask(&large, 2, Role::Lead).unwrap_err().contains("above the limit of a supervisor too"));
    for state in [ApprovalState::Approved, ApprovalState::Declined, ApprovalState::Withdrawn] {
        let ended = Approval { state, ..approval };
        assert!(ask(&ended, 2, Role::Lead).unwrap_err().contains("already"));
        assert_eq!(ApprovalState::of(state.word()), Some(state));
    }
    let decline = |person, role| decide_decline(&approval, Question { person: PersonId(person), role });
    assert_eq!(decline(2, Role::Lead), Ok(()));
    assert!(decline(1, Role::Lead).unwrap_err().contains("Withdraw it"));
    assert!(decline(2, Role::Auditor).is_err());
    let maker = Question { person: PersonId(1), role: Role::Clerk };
    assert_eq!(decide_withdrawal(&approval, maker), Ok(()));
    assert!(decide_withdrawal(&approval, Question { person: PersonId(2), role: Role::Lead }).is_err());
}

#[test]
fn an_administrator_always_stays_and_nobody_changes_their_own_standing() {
    let standing = |role, active| Standing { role, active };
    let administrator = standing(Role::Administrator, true);
    assert!(check_standing(administrator, standing(Role::Lead, true), false, 0).is_err());
    assert!(check_standing(administrator, standing(Role::Administrator, false), false, 0).is_err());
    assert_eq!(check_standing(administrator, standing(Role::Lead, true), false, 1), Ok(()));
    assert!(check_standing(administrator, standing(Role::Lead, true), true, 5).is_err());
    assert_eq!(check_standing(administrator, administrator, true, 0), Ok(()), "a new name is no new standing");
}

/// *Source: NIST SP 800-63B 5.1.1.1 and 5.1.1.2; value from memory:* length counts, common
/// passwords and the name are refused, nothing is asked of letters, digits and signs.
#[test]
fn passwords_are_judged_by_length_and_by_what_everyone_guesses() {
    for good in ["four plain words here", "ŽluťoučkýKůňPěl", "aB3$xyzaB3$x", "🐝 heather honey"] {
        assert_eq!(check_password(good, "ines"), Ok(()), "{good}");
    }
    for (bad, fault) in [
        ("", PasswordFault::Short),
        ("elevenchars", PasswordFault::Short),
        ("my name is INES today", PasswordFault::HoldsName),
        ("password12345", PasswordFault::Guessable),
        ("Pass Word 12345", PasswordFault::Guessable),
        ("aaaaaaaaaaaaaaaa", PasswordFault::Guessable),
        ("121212121212121", PasswordFault::Guessable),
    ] {
        assert_eq!(check_password(bad, "ines"), Err(fault), "{bad}");
    }
    assert_eq!(check_password(&"long ".repeat(50), "ines"), Err(PasswordFault::Long));
}

/// *Source: NIST SP 800-63B 5.2.2, value from memory:* no more than 100 failed attempts in a
/// row before something more is done; here a day of guessing at the longest lock gives 96.
#[test]
fn guessing_gets_slower_until_a_quarter_of_an_hour() {
    let seconds = |failures| locked_for(Attempts { failures }).num_seconds();
    assert_eq!([0, 4, 5, 6, 7, 8].map(seconds), [0, 0, 15, 30, 60, 120]);
    assert_eq!([11, 12, 100, u32::MAX].map(seconds), [900; 4]);
}

#[test]
fn names_and_reasons_are_kept_clean() {
    assert_eq!(check_sign_in_name(" Ines.Calder "), Ok("ines.calder".to_owned()));
    for bad in ["i", "ines calder", "ines@home", "ïnes", "<b>", &"x".repeat(41)] {
        assert!(check_sign_in_name(bad).is_err(), "{bad}");
    }
    assert_eq!(check_name(" Ines Calder "), Ok("Ines Calder".to_owned()));
    assert!(check_name(" ").is_err() && check_name("a\nb").is_err() && check_name(&"x".repeat(81)).is_err());
    assert_eq!(check_reason("  cut  in\ntransit "), Ok("cut in transit".to_owned()));
    assert!(check_reason("  a ").is_err() && check_reason(&"x".repeat(301)).is_err());
}

#[test]
fn a_session_holds_while_it_is_used_and_not_for_ever() {
    let made: DateTime<Utc> = "2026-03-18T08:00:00Z".parse().unwrap();
    let length = SessionLength::default();
    let times = |minutes| SessionTimes { made, seen: made + Duration::minutes(minutes) };
    assert!(times(0).holds(made + Duration::minutes(59), length));
    assert!(!times(0).holds(made + Duration::minutes(60), length));
    assert!(times(700).holds(made + Duration::minutes(719), length));
    assert!(!times(719).holds(made + Duration::minutes(720), length));
    assert!(!times(0).worth_noting(made + Duration::seconds(59), length));
    assert!(times(0).worth_noting(made + Duration::seconds(60), length));
}

#[test]
fn numbers_move_forward_only_and_with_a_reason() {
    let wish =
        |next, prefix: &str, reason: &str| MoveNumber { next, prefix: prefix.to_owned(), reason: reason.to_owned() };
    let decide = |wish: &MoveNumber| decide_move("invoice", "I-", 100, wish);
    let moved = decide(&wish(200, "I-", "a new year")).unwrap();
    assert_eq!((moved.void, moved.prefix.as_str()), (Some((100, 199)), "I-"));
    assert_eq!(decide(&wish(100, "INV-", "new letters")).unwrap().void, None);
    for (wish, field) in [
        (wish(99, "I-", "back"), "next"),
        (wish(100, "I-", "nothing"), "next"),
        (wish(i64::MAX, "I-", "far"), "next"),
        (wish(200, "I-", ""), "reason"),
        (wish(200, "I-2", "ends in a digit"), "prefix"),
        (wish(200, "I/2026", "a slash"), "prefix"),
        (wish(200, "much-too-long-", "long"), "prefix"),
    ] {
        assert_eq!(decide(&wish).unwrap_err().field, field, "{wish:?}");
    }
    assert!(decide_move("entry", "E-", 1, &wish(5, "E-", "tidy")).is_err());
}

#[test]
fn periods_are_closed_in_order() {
    let month =
        |first: &str, last: &str, open| Period { first: first.parse().unwrap(), last: last.parse().unwrap(), open };
    let periods = Periods(vec![
        month("2026-01-01", "2026-01-31", false),
        month("2026-02-01", "2026-02-28", true),
        month("2026-03-01", "2026-03-31", true),
    ]);
    let may = |first: &str, open| periods.may_set(first.parse().unwrap(), open);
    assert_eq!(may("2026-02-01", false), Ok(()));
    assert_eq!(may("2026-01-01", true), Ok(()));
    assert_eq!(may("2026-03-01", false).unwrap_err(), "February 2026 is still open. Close it first.");
    assert_eq!(may("2026-01-01", false).unwrap_err(), "January 2026 is closed already.");
    assert!(may("2026-02-02", false).is_err());
}

fn row(sequence: i64, words: &str) -> Row {
    Row {
        sequence,
        at: "2026-03-18T09:00:00Z".parse().unwrap(),
        doer: Doer { person: Some(PersonId(1)), name: "Ines".into(), from: "127.0.0.1".into(), asked_by: None },
        deed: Deed { what: "x".into(), words: words.into(), document: None, version: None, changes: vec![] },
    }
}

fn sealed(words: &[String]) -> Vec<(Row, String)> {
    let mut seal = BEGINNING.to_owned();
    (1..)
        .zip(words)
        .map(|(sequence, words)| {
            let row = row(sequence, words);
            seal = row.seal(&seal);
            (row, seal.clone())
        })
        .collect()
}

fn walk(rows: &[(Row, String)], end: &(Row, String)) -> Result<(), String> {
    let mut chain = Chain::default();
    rows.iter().try_for_each(|(row, seal)| chain.take(row, seal))?;
    chain.ends_at(end.0.sequence, &end.1)
}

proptest! {
    /// Whatever row is changed, taken out, doubled or moved: it shows.
    #[test]
    fn no_change_of_the_record_stays_hidden(words in prop::collection::vec("[a-z]{1,5}", 2..12), at: prop::sample::Index, how in 0..5_usize) {
        let rows = sealed(&words);
        let end = rows.last().unwrap().clone();
        prop_assert_eq!(walk(&rows, &end), Ok(()));
        let at = at.index(rows.len());
        let mut damaged = rows.clone();
        match how {
            0 => damaged[at].0.deed.words.push('!'),
            1 => { damaged.remove(at); }
            2 => damaged.insert(at, rows[at].clone()),
            3 => damaged.swap(at, (at + 1) % rows.len()),
            _ => damaged[at].1 = BEGINNING.to_owned(),
        }
        prop_assert!(walk(&damaged, &end).is_err());
    }

    /// What only one of two changed is kept from that one; what both changed alike is no clash.
    #[test]
    fn merging_loses_nothing(base in fields(), mine in fields(), theirs in fields()) {
        let merged = merge(&base, &mine, &theirs);
        let clashing: Vec<&String> = merged.clashes.iter().map(|clash| &clash.field).collect();
        for change in differences(&base, &mine) {
            prop_assert_eq!(merged.fields.get(&change.field), change.to.as_ref(), "mine is kept");
        }
        for change in differences(&base, &theirs) {
            if mine.get(&change.field) == base.get(&change.field) {
                prop_assert_eq!(merged.fields.get(&change.field), change.to.as_ref(), "theirs is kept");
            } else {
                let alike = mine.get(&change.field) == change.to.as_ref();
                prop_assert_eq!(!alike, clashing.contains(&&change.field));
            }
        }
        prop_assert_eq!(merge(&base, &base, &theirs).fields, theirs.clone());
        prop_assert_eq!(merge(&base, &mine, &base).fields, mine.clone());
        prop_assert!(merge(&base, &mine, &mine).clashes.is_empty());
    }

    /// Differences lead from one state to the other.
    #[test]
    fn differences_are_the_way_from_one_to_the_other(before in fields(), after in fields()) {
        let mut state = before.clone();
        for FieldChange { field, from, to } in differences(&before, &after) {
            prop_assert_eq!(state.get(&field).cloned(), from);
            match to {
                Some(value) => state.insert(field, value),
                None => state.remove(&field),
            };
        }
        prop_assert_eq!(state, after);
    }
}

fn fields() -> impl Strategy<Value = Fields> {
    prop::collection::btree_map("[a-d]", "[0-3]", 0..4)
}
