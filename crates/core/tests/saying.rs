//! The words of the server's sentences: one word for one meaning, the one the trade uses. Those of the screens are held by
//! `web/tests/words.test.ts`.

use std::fs;
use std::path::{Path, PathBuf};

use till_core::checks::Check;

/// Words that are not said, with what is said instead.
const UNSAID: [(&str, &str); 27] = [
    ("on stop", "on hold"),
    ("set aside", "reserved"),
    ("taken over", "imported"),
    ("take over", "import"),
    ("taken back", "reversed"),
    ("take it back", "withdraw it"),
    ("by mail", "by email"),
    ("mail address", "email address"),
    ("their number", "customer PO"),
    ("order number missing", "customer PO missing"),
    ("a lead", "a supervisor"),
    ("call-off", "blanket order"),
    ("recipe", "recurring run"),
    ("own field", "custom field"),
    ("buyer accounts", "reverse charge"),
    ("supply within the union", "Intra-Community supply"),
    ("date ahead", "date in the future"),
    ("share ahead", "advance %"),
    ("money ahead", "prepayments"),
    ("is picked", "is selected"),
    ("drop it", "delete it"),
    ("dropped", "deleted, canceled"),
    ("put right", "corrected"),
    ("cancelled", "canceled"),
    ("instalment", "installment"),
    ("litre", "liter"),
    ("telephone", "phone"),
];

fn sources(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        if path.is_dir() {
            sources(&path, found);
        } else if path.extension().is_some_and(|kind| kind == "rs") {
            found.push(path);
        }
    }
}

/// The texts of a line between quotation marks. Texts over several lines are those of queries.
fn texts(line: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut letters = line.chars();
    while letters.by_ref().any(|letter| letter == '"') {
        let mut text = String::new();
        while let Some(letter) = letters.next() {
            match letter {
                '\\' => text.extend(letters.next()),
                '"' => break,
                _ => text.push(letter),
            }
        }
        found.push(text);
    }
    found
}

/// Whether a text is a sentence or a label, and no name in a query, a path or a table.
fn is_said(text: &str) -> bool {
    let query = [
        "SELECT", "FROM ", "JOIN ", "UPDATE ", "INSERT ", "WHERE", "AS ", " = ?", "_e4", "AND ", "CASE ", "_by",
        "_on: ",
    ];
    text.contains(' ') && !query.iter().any(|word| text.contains(word))
}

/// A word stands alone: “a lead” is not in “a leader”, nor “email address” a “mail address”.
fn says(text: &str, word: &str) -> bool {
    let text = text.to_lowercase();
    let apart = |letter: Option<char>| letter.is_none_or(|letter| !letter.is_alphanumeric());
    text.match_indices(&word.to_lowercase())
        .any(|(at, _)| apart(text[..at].chars().next_back()) && apart(text[at + word.len()..].chars().next()))
}

#[test]
fn sentences_say_what_the_trade_says() {
    let mut paths = Vec::new();
    for crate_name in ["core", "store", "server", "formats"] {
        sources(&Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(crate_name).join("src"), &mut paths);
    }
    assert!(paths.len() > 250, "{}", paths.len());
    let mut wrong = Vec::new();
    for path in paths {
        let source = fs::read_to_string(&path).unwrap();
        let code = source.split("#[cfg(test)]\nmod tests").next().unwrap();
        for line in code.lines().filter(|line| !line.trim_start().starts_with("//")) {
            for text in texts(line).iter().filter(|text| is_said(text)) {
                for (word, better) in UNSAID.iter().filter(|(word, _)| says(text, word)) {
                    wrong.push(format!("{}: “{text}” says {word}; say {better}", path.display()));
                }
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_word_that_is_not_said_is_found_where_it_stands() {
    let line = r#"say(format!("{} is on stop: \"{reason}\". A lead can lift it.", x), "email address");"#;
    let found: Vec<&str> = UNSAID
        .iter()
        .filter(|(word, _)| texts(line).iter().any(|text| says(text, word)))
        .map(|(word, _)| *word)
        .collect();
    assert_eq!(found, ["on stop", "a lead"]);
    assert!(!is_said("SELECT cancelled_e4 FROM order_lines") && !is_said("call_off"));
}

/// The handbook says what to do about whatever can block.
#[test]
fn the_handbook_knows_every_reason() {
    let handbook = fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/handbook.md")).unwrap();
    let (_, table) = handbook.split_once("## What a blocked reason wants").unwrap();
    let told: Vec<&str> = table
        .lines()
        .filter_map(|line| line.strip_prefix("| ")?.split_once(" | "))
        .flat_map(|(reasons, _)| reasons.split(", "))
        .collect();
    let unknown: Vec<&str> =
        Check::ALL.iter().map(|check| check.words()).filter(|words| !told.contains(words)).collect();
    assert!(unknown.is_empty(), "{unknown:?}");
    let words: Vec<&str> = Check::ALL.iter().map(|check| check.words()).collect();
    let left: Vec<&&str> = told.iter().filter(|reason| **reason != "it says" && !words.contains(reason)).collect();
    assert!(left.is_empty(), "nothing says {left:?} any more");
}
