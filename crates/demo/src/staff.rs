//! Who works at Marram Hive Supply, with which sign-ins. All of them are invented.

use chrono::{DateTime, NaiveDate, NaiveTime, Utc};
use till_core::ids::PersonId;
use till_core::people::{LimitKind, Role};
use till_store::people::NewPerson;
use till_store::settings::NewLimit;
use till_store::{Actor, Result, Store, Writing, passwords, people, settings};

/// Someone of the demo company.
#[derive(Debug, Clone, Copy)]
pub struct Member {
    /// The name to sign in with.
    pub sign_in: &'static str,
    /// The name.
    pub name: &'static str,
    /// The role.
    pub role: Role,
    /// The password, printed when the demo starts.
    pub password: &'static str,
}

/// Everyone, in the order of their ids.
pub const STAFF: [Member; 5] = [
    Member { sign_in: "ines", name: "Ines Calder", role: Role::Lead, password: "heather honey in june" },
    Member { sign_in: "tomas", name: "Tomas Reed", role: Role::Clerk, password: "lime blossom in july" },
    Member { sign_in: "maud", name: "Maud Ferrier", role: Role::Lead, password: "borage field in may" },
    Member { sign_in: "otto", name: "Otto Brandt", role: Role::Auditor, password: "ivy bloom in october" },
    Member { sign_in: "sanna", name: "Sanna Lind", role: Role::Administrator, password: "willow catkins in march" },
];

/// Someone at work on a day of the demo, at nine in the morning.
pub(crate) fn at_work(member: usize, day: NaiveDate) -> Actor {
    let Member { name, role, .. } = STAFF[member];
    let id = PersonId(i64::try_from(member).unwrap_or(0) + 1);
    Actor::person(id, name, role, "demo", nine(day))
}

pub(crate) fn nine(day: NaiveDate) -> DateTime<Utc> {
    day.and_time(NaiveTime::from_hms_opt(9, 0, 0).unwrap_or_default()).and_utc()
}

pub(crate) const INES: usize = 0;
pub(crate) const TOMAS: usize = 1;
pub(crate) const SANNA: usize = 4;

/// Adds everyone to books that have nobody yet.
///
/// # Errors
/// Where a sign-in name is taken.
pub async fn add(store: &Store, day: NaiveDate) -> Result<()> {
    let hashes = STAFF.iter().map(|member| passwords::hash(member.password)).collect::<Result<Vec<_>>>()?;
    store
        .change(&Actor::program(nine(day)), None, async |writing| {
            for (member, hash) in STAFF.iter().zip(&hashes) {
                let Member { sign_in, name, role, .. } = *member;
                let new = NewPerson { sign_in, name, role, password_hash: hash, must_change: false };
                people::add(writing, &new).await?;
            }
            Ok(())
        })
        .await
}

/// How far each role goes without asking.
pub(crate) async fn set_limits(writing: &mut Writing<'_>) -> Result<()> {
    for (role, kind, amount) in [
        (Role::Clerk, LimitKind::PriceChange, "50"),
        (Role::Clerk, LimitKind::CreditMemo, "250"),
        (Role::Clerk, LimitKind::WriteOff, "5"),
        (Role::Clerk, LimitKind::Refund, "100"),
        (Role::Lead, LimitKind::PriceChange, "500"),
        (Role::Lead, LimitKind::CreditMemo, "2500"),
        (Role::Lead, LimitKind::WriteOff, "100"),
        (Role::Lead, LimitKind::Refund, "1000"),
    ] {
        settings::set_limit(writing, &NewLimit { role, kind, amount: Some(amount.to_owned()) }).await?;
    }
    Ok(())
}
