//! What can go wrong with the books, with what a person needs to put it right.

use till_core::calendar;
use till_core::checks::Blocker;
use till_core::fixed::DecimalError;
use till_core::ids::DocumentKind;

use crate::faults::Fault;

/// Why an operation was not carried out. Nothing is written in any of these cases.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The core refused.
    #[error("{}", .0.first().map_or("Not possible.", |blocker| blocker.sentence.as_str()))]
    Refused(Vec<Blocker>),
    /// A field holds something that cannot be read.
    #[error("{sentence}")]
    Invalid {
        /// The field, as named in the request.
        field: String,
        /// What is wrong and what to write instead.
        sentence: String,
    },
    /// No such document.
    #[error("There is no {} {id}.", .kind.word())]
    NotFound {
        /// What was asked for.
        kind: DocumentKind,
        /// Its id or number.
        id: String,
    },
    /// It was there, and somebody dropped it.
    #[error("{0}")]
    Gone(String),
    /// Someone else changed it since it was read.
    #[error("{what} was changed by someone else in the meantime. Look at it again, then repeat your change.")]
    Stale {
        /// What was to be changed.
        what: String,
        /// The version it has now.
        current: i64,
    },
    /// The figures moved between preview and posting.
    #[error("The figures have changed since you looked. Nothing was posted; check them again and post.")]
    Moved,
    /// The document is in a state that does not allow the step.
    #[error("{0}")]
    WrongState(String),
    /// The same key came with a different request.
    #[error("This Idempotency-Key was already used for another request. Use a new one.")]
    KeyReused,
    /// It takes a right or someone's approval that the person has not.
    #[error("{0}")]
    NotAllowed(String),
    /// An operation noted nothing for the record: a fault of the program.
    #[error("This change would have left no trace on the record, so it was not carried out.")]
    Unrecorded,
    /// The database was written by a newer program.
    #[error("This database was made by a newer Glad Till. Start that version, or restore a copy of your own version.")]
    NewerDatabase,
    /// The books were never set up.
    #[error("These books are not set up yet. Run `glad-till demo`, or set up a company first.")]
    NotSetUp,
    /// A value in the database is not what the program wrote.
    #[error("The database holds something unexpected: {0}. Run `glad-till verify`.")]
    Corrupt(String),
    /// SQLite said no.
    #[error("{}", Fault::of(.0).sentence())]
    Database(#[from] sqlx::Error),
    /// A file beside the books could not be used.
    #[error("{what} cannot be used: {error}. Check that the folder exists, may be written and has space.")]
    File {
        /// Which.
        what: String,
        /// What the system said.
        error: std::io::Error,
    },
    /// A file is there already and is not written over.
    #[error("{0} exists already and is not written over. Name another file.")]
    Exists(String),
    /// There is no such copy.
    #[error("There is no file {0}. Name a copy made with `glad-till backup`, or one from the folder copies.")]
    NoCopy(String),
    /// The file is damaged.
    #[error("The file of the books is damaged: {0}. Restore the latest copy with `glad-till restore`.")]
    Unsound(String),
    /// Migrations could not be applied.
    #[error("The database could not be brought up to date: {0}")]
    Migration(sqlx::migrate::MigrateError),
}

impl StoreError {
    /// For a field that cannot be read.
    pub fn invalid(field: impl Into<String>, sentence: impl Into<String>) -> Self {
        Self::Invalid { field: field.into(), sentence: sentence.into() }
    }

    /// For a number in a field.
    pub fn decimal(field: impl Into<String>, error: &DecimalError) -> Self {
        Self::invalid(field, error.to_string())
    }

    /// For a document that is not there.
    pub fn not_found(kind: DocumentKind, id: impl ToString) -> Self {
        Self::NotFound { kind, id: id.to_string() }
    }
}

/// Checks that a date a person typed is near enough to be meant.
///
/// # Errors
/// [`StoreError::Invalid`] for a year before 2000 or after 2100.
pub fn sensible_date(field: &str, date: chrono::NaiveDate) -> Result<chrono::NaiveDate, StoreError> {
    use chrono::Datelike;
    if (2000..=2100).contains(&date.year()) {
        Ok(date)
    } else {
        Err(StoreError::invalid(
            field,
            format!("{} is out of reach. Use a date between 2000 and 2100.", calendar::words(date)),
        ))
    }
}
