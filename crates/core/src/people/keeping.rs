//! Who may be taken away, and what may be asked of whom.

use super::Role;

/// A person as the rules about people see it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// Role.
    pub role: Role,
    /// Whether the person can sign in.
    pub active: bool,
}

/// Whether a person may get another role or be switched off: nobody changes their own standing,
/// and one administrator always stays. `others` counts the other active administrators.
///
/// # Errors
/// A sentence that says why not.
pub fn check_standing(before: Standing, after: Standing, own: bool, others: i64) -> Result<(), String> {
    if own && before != after {
        return Err("You cannot change your own role or switch yourself off. Ask another administrator.".to_owned());
    }
    let administers = |standing: Standing| standing.active && standing.role == Role::Administrator;
    if administers(before) && !administers(after) && others == 0 {
        return Err("This is the last administrator. Make someone else one first.".to_owned());
    }
    Ok(())
}

/// A reason someone typed, as saved.
///
/// # Errors
/// Where it is missing or too long.
pub fn check_reason(typed: &str) -> Result<String, String> {
    let reason = typed.split_whitespace().collect::<Vec<_>>().join(" ");
    if reason.chars().count() < 3 {
        Err("Say why, in a few words: it stays on the record.".to_owned())
    } else if reason.chars().count() > 300 {
        Err("A reason has at most 300 characters.".to_owned())
    } else {
        Ok(reason)
    }
}
