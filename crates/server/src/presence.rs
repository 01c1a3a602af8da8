//! Who has what open, so that two people do not begin the same work. Kept in memory only: it
//! says something about now, and is gone with the program.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use till_core::ids::{DocumentKind, PersonId};
use utoipa::ToSchema;

/// A screen that has not said so for this long has it no longer open.
const FORGOTTEN_AFTER: Duration = Duration::from_secs(40);
/// How many one person may have noted at once; more than one has screens.
const MOST: usize = 50;

/// A document someone else has open.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OpenElsewhere {
    /// What it is.
    pub kind: DocumentKind,
    /// Its id.
    pub id: i64,
    /// Who has it open.
    pub names: Vec<String>,
}

type Places = HashMap<(DocumentKind, i64, PersonId), (String, Instant)>;

/// What everyone has open.
#[derive(Debug, Default)]
pub struct Presence(Mutex<Places>);

impl Presence {
    /// Notes that someone has a document open now, or has closed it.
    pub fn note(&self, person: (PersonId, &str), kind: DocumentKind, id: i64, open: bool, now: Instant) {
        let Ok(mut places) = self.0.lock() else { return };
        places.retain(|_, (_, seen)| now.duration_since(*seen) < FORGOTTEN_AFTER);
        let place = (kind, id, person.0);
        if !open {
            places.remove(&place);
        } else if places.contains_key(&place) || places.keys().filter(|(_, _, who)| *who == person.0).count() < MOST {
            places.insert(place, (person.1.to_owned(), now));
        }
    }

    /// What others than this person have open.
    pub fn of_others(&self, person: PersonId, now: Instant) -> Vec<OpenElsewhere> {
        let Ok(places) = self.0.lock() else { return Vec::new() };
        let mut open: Vec<OpenElsewhere> = Vec::new();
        for ((kind, id, who), (name, seen)) in places.iter() {
            if *who == person || now.duration_since(*seen) >= FORGOTTEN_AFTER {
                continue;
            }
            match open.iter_mut().find(|one| (one.kind, one.id) == (*kind, *id)) {
                Some(one) => one.names.push(name.clone()),
                None => open.push(OpenElsewhere { kind: *kind, id: *id, names: vec![name.clone()] }),
            }
        }
        for one in &mut open {
            one.names.sort();
        }
        open.sort_by_key(|one| (one.kind, one.id));
        open
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn others_see_it_until_it_is_closed_or_forgotten() {
        let presence = Presence::default();
        let start = Instant::now();
        let (ines, tomas) = ((PersonId(1), "Ines"), (PersonId(2), "Tomas"));
        presence.note(ines, DocumentKind::Invoice, 7, true, start);
        presence.note(tomas, DocumentKind::Invoice, 7, true, start);
        assert_eq!(presence.of_others(PersonId(1), start)[0].names, ["Tomas"]);
        assert_eq!(presence.of_others(PersonId(3), start)[0].names, ["Ines", "Tomas"]);
        presence.note(tomas, DocumentKind::Invoice, 7, false, start);
        assert!(presence.of_others(PersonId(1), start).is_empty());
        assert!(presence.of_others(PersonId(2), start + FORGOTTEN_AFTER).is_empty());
    }

    #[test]
    fn one_person_fills_no_more_than_their_own_part() {
        let presence = Presence::default();
        let start = Instant::now();
        for id in 0..500 {
            presence.note((PersonId(1), "Ines"), DocumentKind::Invoice, id, true, start);
        }
        presence.note((PersonId(2), "Tomas"), DocumentKind::Order, 7, true, start);
        assert_eq!(presence.of_others(PersonId(2), start).len(), MOST);
        assert_eq!(presence.of_others(PersonId(1), start).len(), 1);
    }
}
