//! Signing in: what a password must be, how guessing is slowed, how long a session lasts.
//!
//! *Source: NIST SP 800-63B, sections 5.1.1 (length before composition, no forced change
//! without cause), 5.2.2 (throttling) and 4.2.3 (reauthentication after 12 hours or
//! inactivity); value from memory.*

use chrono::{DateTime, Duration, Utc};

/// How many wrong passwords cost nothing.
pub const FREE_TRIES: u32 = 4;
/// The longest a sign-in is locked, however often it is tried.
pub const LOCKED_AT_MOST: Duration = Duration::minutes(15);

const SHORTEST: usize = 12;
const LONGEST: usize = 200;
/// Beginnings of passwords that every list of guesses begins with.
const KNOWN: [&str; 9] =
    ["password", "passwort", "123456", "qwerty", "letmein", "welcome", "iloveyou", "changeme", "gladtill"];

/// Wrong passwords so far.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Attempts {
    /// In a row, since the last right one.
    pub failures: u32,
}

/// How long a sign-in stays locked after so many wrong passwords in a row: nothing for the
/// first four, then 15 seconds, doubling each time, 15 minutes at most.
pub fn locked_for(attempts: Attempts) -> Duration {
    let Some(over) = attempts.failures.checked_sub(FREE_TRIES + 1) else { return Duration::zero() };
    let doubled = 15_i64.checked_shl(over.min(20)).unwrap_or(i64::MAX);
    Duration::seconds(doubled.min(LOCKED_AT_MOST.num_seconds()))
}

/// What is wrong with a password.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum PasswordFault {
    /// Too short.
    #[error("A password has at least 12 characters. A few words in a row are easy to remember.")]
    Short,
    /// Too long.
    #[error("A password has at most 200 characters.")]
    Long,
    /// It holds the sign-in name.
    #[error("The password holds the sign-in name. Choose another one.")]
    HoldsName,
    /// Everyone's first guess.
    #[error("This password is among the first that are guessed. Choose another one.")]
    Guessable,
}

/// Whether a password can be taken.
///
/// # Errors
/// What is wrong with it.
pub fn check_password(password: &str, sign_in: &str) -> Result<(), PasswordFault> {
    let length = password.chars().count();
    let low = password.to_lowercase();
    let mut different: Vec<char> = low.chars().collect();
    different.sort_unstable();
    different.dedup();
    if length < SHORTEST {
        Err(PasswordFault::Short)
    } else if length > LONGEST {
        Err(PasswordFault::Long)
    } else if !sign_in.is_empty() && low.contains(&sign_in.to_lowercase()) {
        Err(PasswordFault::HoldsName)
    } else if different.len() < 5 || KNOWN.iter().any(|known| low.replace(' ', "").starts_with(known)) {
        Err(PasswordFault::Guessable)
    } else {
        Ok(())
    }
}

/// A sign-in name as saved: small letters, digits, dots and dashes, 2 to 40 of them.
///
/// # Errors
/// A sentence that says what it may hold.
pub fn check_sign_in_name(typed: &str) -> Result<String, String> {
    let name = typed.trim().to_lowercase();
    let fits = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '.' || c == '-';
    if (2..=40).contains(&name.len()) && name.chars().all(fits) {
        Ok(name)
    } else {
        Err("A sign-in name has 2 to 40 letters, digits, dots or dashes, such as ines.calder.".to_owned())
    }
}

/// A person's or company's name as saved.
///
/// # Errors
/// Where it is empty, too long, or holds control characters.
pub fn check_name(typed: &str) -> Result<String, String> {
    let name = typed.trim();
    if name.is_empty() {
        Err("A name is needed.".to_owned())
    } else if name.chars().count() > 80 {
        Err("A name has at most 80 characters.".to_owned())
    } else if name.chars().any(char::is_control) {
        Err("A name has no line breaks or control characters.".to_owned())
    } else {
        Ok(name.to_owned())
    }
}

/// How long sessions last.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionLength {
    /// Without a request.
    pub idle: Duration,
    /// In all.
    pub whole: Duration,
}

impl Default for SessionLength {
    /// An hour without a request, twelve in all: a working day without signing in twice.
    fn default() -> Self {
        Self { idle: Duration::minutes(60), whole: Duration::hours(12) }
    }
}

/// When a session began and was last used.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SessionTimes {
    /// When it began.
    pub made: DateTime<Utc>,
    /// The last request.
    pub seen: DateTime<Utc>,
}

impl SessionTimes {
    /// Whether it still holds.
    pub fn holds(&self, now: DateTime<Utc>, length: SessionLength) -> bool {
        now < self.seen + length.idle && now < self.made + length.whole
    }

    /// Whether the last use is worth noting: not at each request, but often enough that the
    /// idle time is kept to within a quarter.
    pub fn worth_noting(&self, now: DateTime<Utc>, length: SessionLength) -> bool {
        now - self.seen >= (length.idle / 4).min(Duration::seconds(60))
    }
}
