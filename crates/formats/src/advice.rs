//! Remittance advice as a table: a payer's list of what its payment is for.

use till_core::bank::columns;
use till_core::money::{Currency, Money};
use till_core::remittance::Advised;

use crate::table::{ReadError, read_csv};

/// Why a table is no advice.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AdviceError {
    /// It is no table.
    #[error(transparent)]
    Table(#[from] ReadError),
    /// No column names what is paid.
    #[error("No column says which documents are paid. Call it “number” or “invoice”. The file has: {0}.")]
    NoNumber(String),
    /// No column says how much.
    #[error("No column says how much is paid. Call it “paid” or “amount”. The file has: {0}.")]
    NoAmount(String),
    /// A cell that is no amount.
    #[error("Line {line}, {column}: “{cell}” is no amount.")]
    Cell {
        /// The line, from one.
        line: usize,
        /// The column.
        column: String,
        /// What stands there.
        cell: String,
    },
    /// More lines than are read at once.
    #[error("The file has {0} lines; 10,000 are read at once. Divide it.")]
    TooLong(usize),
}

/// The most lines of one advice.
const MOST: usize = 10_000;

/// Reads an advice. Columns are known by their names: number or invoice; paid, amount or net; discount; deduction or deducted;
/// reason, words or text. Amounts have a point before their cents, or a comma where every amount of the file has.
///
/// ```
/// use till_core::money::{Currency, Money};
/// let csv = "Invoice;Paid;Discount\nI-3107;284,47;5,81\n";
/// let lines = till_formats::advice::read(csv.as_bytes(), Currency::of("EUR").unwrap()).unwrap();
/// assert_eq!((lines[0].number.as_str(), lines[0].paid, lines[0].discount), ("I-3107", Money(28_447), Money(581)));
/// ```
///
/// # Errors
/// What is wrong, with the line and the column.
pub fn read(bytes: &[u8], currency: Currency) -> Result<Vec<Advised>, AdviceError> {
    let table = read_csv(bytes)?;
    if table.rows.len() > MOST {
        return Err(AdviceError::TooLong(table.rows.len()));
    }
    let there = || table.headings.join(", ");
    let find = |names: &[&str]| {
        let exact = table.headings.iter().position(|heading| names.contains(&heading.as_str()));
        exact.or_else(|| table.headings.iter().position(|heading| names.iter().any(|name| heading.contains(name))))
    };
    let number = find(&["number", "invoice", "document"]).ok_or_else(|| AdviceError::NoNumber(there()))?;
    let paid = find(&["paid", "payment", "amount", "net"]).filter(|at| *at != number);
    let paid = paid.ok_or_else(|| AdviceError::NoAmount(there()))?;
    let discount = find(&["discount"]);
    let deducted = find(&["deduct", "withheld", "short"]);
    let words = find(&["reason", "words", "text", "remark"]);
    let amounts = [Some(paid), discount, deducted];
    // A comma with one or two digits behind it stands before cents.
    let comma =
        table.rows.iter().flat_map(|(_, cells)| amounts.iter().flatten().map(|at| cells[*at].trim())).any(|cell| {
            let (before, after) = cell.rsplit_once(',').unwrap_or((cell, ""));
            !before.is_empty() && (1..=2).contains(&after.trim_end_matches('-').len())
        });
    let money = |at: Option<usize>, line: usize, cells: &[String]| {
        let Some(at) = at.filter(|at| !cells[*at].trim().is_empty()) else { return Ok(Money::ZERO) };
        columns::amount(&cells[at], currency, comma).ok_or_else(|| AdviceError::Cell {
            line,
            column: table.headings[at].clone(),
            cell: cells[at].clone(),
        })
    };
    table
        .rows
        .iter()
        .map(|(line, cells)| {
            Ok(Advised {
                number: cells[number].trim().to_owned(),
                paid: money(Some(paid), *line, cells)?,
                discount: money(discount, *line, cells)?.abs(),
                deducted: money(deducted, *line, cells)?.abs(),
                words: words.map(|at| cells[at].trim().to_owned()).unwrap_or_default(),
            })
        })
        .collect()
}
