//! What SQLite says when the machine gets in the way, as a sentence that says what to do.

/// What got in the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// No space left.
    DiskFull,
    /// The file or its folder cannot be written.
    ReadOnly,
    /// Something else holds the file.
    Busy,
    /// The file cannot be opened.
    CannotOpen,
    /// The file is damaged, or no database.
    Damaged,
    /// Anything else.
    Other,
}

impl Fault {
    /// What an error of SQLite means.
    pub fn of(error: &sqlx::Error) -> Self {
        let code = match error {
            sqlx::Error::Database(database) => database.code().and_then(|code| code.parse::<i32>().ok()),
            sqlx::Error::PoolTimedOut => return Self::Busy,
            _ => None,
        };
        // The lowest byte is the kind of error: sqlite.org/rescode.html.
        match code.map(|code| code & 0xff) {
            Some(13) => Self::DiskFull,
            Some(8) => Self::ReadOnly,
            Some(5 | 6) => Self::Busy,
            Some(14) => Self::CannotOpen,
            Some(11 | 26) => Self::Damaged,
            _ => Self::Other,
        }
    }

    /// A stable word for it.
    pub const fn code(self) -> &'static str {
        match self {
            Self::DiskFull => "disk_full",
            Self::ReadOnly => "read_only",
            Self::Busy => "busy",
            Self::CannotOpen => "cannot_open",
            Self::Damaged => "damaged",
            Self::Other => "books_unavailable",
        }
    }

    /// What happened and what to do.
    pub const fn sentence(self) -> &'static str {
        match self {
            Self::DiskFull => {
                "The disk is full. Nothing was changed. Ask whoever looks after this machine to free some space, then try again."
            }
            Self::ReadOnly => {
                "The books cannot be written: the file or its folder is read-only. Nothing was changed. Make it writable, then try again."
            }
            Self::Busy => {
                "Something else holds the books just now, perhaps another Glad Till or a copy being made. Nothing was changed. Try again in a moment."
            }
            Self::CannotOpen => {
                "The file of the books cannot be opened. Check that the folder exists and may be written, then start again."
            }
            Self::Damaged => {
                "The file of the books is damaged, or no database at all. Post nothing more; restore the latest copy with `glad-till restore`."
            }
            Self::Other => {
                "The books could not be written or read just now. Nothing was changed. Try again; if it stays, ask whoever looks after this machine."
            }
        }
    }
}
