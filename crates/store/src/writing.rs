//! A change under way: the connection inside its transaction, who makes it, and what it notes
//! for the record.

use std::ops::{Deref, DerefMut};

use chrono::{DateTime, Utc};
use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, DocumentRef, PersonId};
use till_core::merge::{FieldChange, Fields};
use till_core::money::Money;
use till_core::people::Role;
use till_core::record::{Deed, Doer};

use crate::{Result, StoreError};

/// Who makes a change, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Actor {
    /// Who, and from where.
    pub doer: Doer,
    /// The person's role; none for the program itself, which no limit holds.
    pub role: Option<Role>,
    /// The time on the wall.
    pub at: DateTime<Utc>,
}

impl Actor {
    /// The program itself: the command line, the demo.
    pub fn program(at: DateTime<Utc>) -> Self {
        let doer = Doer { person: None, name: "Glad Till".to_owned(), from: "program".to_owned(), asked_by: None };
        Self { doer, role: None, at }
    }

    /// A customer on their own page. No role: what is done is bounded by what the page offers.
    pub fn customer(name: &str, from: &str, at: DateTime<Utc>) -> Self {
        let name = format!("{name}, on the customer page");
        Self { doer: Doer { person: None, name, from: from.to_owned(), asked_by: None }, role: None, at }
    }

    /// A person.
    pub fn person(id: PersonId, name: &str, role: Role, from: &str, at: DateTime<Utc>) -> Self {
        let doer = Doer { person: Some(id), name: name.to_owned(), from: from.to_owned(), asked_by: None };
        Self { doer, role: Some(role), at }
    }
}

/// A change under way. It is the connection too: reading functions take it as one.
#[derive(Debug)]
pub struct Writing<'c> {
    connection: &'c mut SqliteConnection,
    actor: Actor,
    deeds: Vec<Deed>,
    approved: Option<Approved>,
}

/// What was approved, while it is carried out.
#[derive(Debug)]
pub(crate) struct Approved {
    /// Mark of what was asked for, as the approver saw it.
    pub(crate) mark: String,
    /// Over how much, in base currency.
    pub(crate) amount: Money,
    /// The role of who asked: as theirs the operation is decided on again.
    pub(crate) maker: Role,
}

impl<'c> Writing<'c> {
    pub(crate) fn new(connection: &'c mut SqliteConnection, actor: Actor) -> Self {
        Self { connection, actor, deeds: Vec::new(), approved: None }
    }

    /// Who makes the change.
    pub fn actor(&self) -> &Actor {
        &self.actor
    }

    /// From here on the change is someone else's wish, approved by who makes it.
    pub(crate) fn carry_out(&mut self, maker: &str, approved: Approved) {
        self.actor.doer.asked_by = Some(maker.to_owned());
        self.approved = Some(approved);
    }

    /// What was approved and is not carried out yet; taken by the operation that does.
    pub(crate) fn take_approved(&mut self) -> Option<Approved> {
        self.approved.take()
    }

    /// Whether what is to be done is what was seen. A person always says what they saw; the program has nobody
    /// before it, and what was approved is held against its own mark.
    ///
    /// # Errors
    /// [`StoreError::Moved`] where it is not.
    pub(crate) fn saw(&self, seen: Option<&str>, what: &str) -> Result<()> {
        match seen {
            Some(seen) if seen == what => Ok(()),
            None if self.actor.role.is_none() || self.approved.is_some() => Ok(()),
            _ => Err(StoreError::Moved),
        }
    }

    /// The role whose limits count: of who asked, where it was approved; otherwise of who makes the
    /// change. None for the program itself.
    pub(crate) fn asking_role(&self) -> Option<Role> {
        self.approved.as_ref().map(|approved| approved.maker).or(self.actor.role)
    }

    /// Notes what was done. A change that notes nothing is not carried out.
    pub fn note(&mut self, deed: Deed) {
        self.deeds.push(deed);
    }

    /// Notes what was done to a document.
    pub(crate) fn note_on(
        &mut self,
        (kind, id, number): (DocumentKind, i64, &str),
        what: &str,
        words: impl Into<String>,
        version: Option<i64>,
        changes: Vec<FieldChange>,
    ) {
        self.note(Deed {
            what: what.to_owned(),
            words: words.into(),
            document: Some(DocumentRef { kind, id, number: number.to_owned() }),
            version,
            changes,
        });
    }

    /// Notes a change of the set-up.
    pub(crate) fn note_setting(&mut self, name: &str, words: impl Into<String>, changes: Vec<FieldChange>) {
        self.note_on((DocumentKind::Setting, 0, name), "setting_changed", words, None, changes);
    }

    pub(crate) fn take_deeds(&mut self) -> Vec<Deed> {
        std::mem::take(&mut self.deeds)
    }
}

impl Deref for Writing<'_> {
    type Target = SqliteConnection;

    fn deref(&self) -> &SqliteConnection {
        self.connection
    }
}

impl DerefMut for Writing<'_> {
    fn deref_mut(&mut self) -> &mut SqliteConnection {
        self.connection
    }
}

/// A field that went from one value to another; nothing where it stayed.
pub(crate) fn changed(field: &str, from: Option<&str>, to: Option<&str>) -> Vec<FieldChange> {
    if from == to {
        return Vec::new();
    }
    vec![FieldChange { field: field.to_owned(), from: from.map(str::to_owned), to: to.map(str::to_owned) }]
}

/// A field of something new.
pub(crate) fn set(field: &str, to: impl ToString) -> FieldChange {
    FieldChange { field: field.to_owned(), from: None, to: Some(to.to_string()) }
}

/// What something says, field by field, for the record; what is empty is left out.
pub(crate) fn fields<const N: usize>(said: [(&str, String); N]) -> Fields {
    said.into_iter().filter(|(_, value)| !value.is_empty()).map(|(field, value)| (field.to_owned(), value)).collect()
}

/// How the record says that something is so.
pub(crate) fn yes_or_no(so: bool) -> String {
    if so { "yes" } else { "no" }.to_owned()
}
