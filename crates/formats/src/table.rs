//! Tables as CSV, RFC 4180, UTF-8.
//!
//! ```
//! use till_formats::table::{Cell, to_csv};
//! let bytes = to_csv(&["customer", "open"], &[vec![Cell::text("=1+1"), Cell::number("12.50")]]).unwrap();
//! assert_eq!(String::from_utf8(bytes).unwrap(), "customer,open\r\n'=1+1,12.50\r\n");
//! ```

use std::collections::HashSet;

/// What a table is made of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cell {
    /// Words, dates, document numbers.
    Text(String),
    /// A decimal, exact, with a point.
    Number(String),
}

impl Cell {
    /// Words.
    pub fn text(text: impl Into<String>) -> Self {
        Self::Text(text.into())
    }

    /// A decimal.
    pub fn number(text: impl Into<String>) -> Self {
        Self::Number(text.into())
    }
}

/// A table could not be written.
#[derive(Debug, thiserror::Error)]
#[error("the table could not be written: {0}")]
pub struct TableError(String);

/// Whether a spreadsheet may take a text for a formula: by its first character that is seen, in any width.
fn is_formula(text: &str) -> bool {
    let unseen = |character: char| {
        character.is_whitespace()
            || matches!(character, '\u{200b}'..='\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2060}'..='\u{2064}' | '\u{feff}' | '\u{ad}')
    };
    let seen = text.trim_start_matches(unseen);
    text.starts_with(['\t', '\r']) || seen.starts_with(['=', '+', '-', '@', '＝', '＋', '－', '＠', '−'])
}

/// Writes a table with a line of headings.
///
/// Text that a spreadsheet would take for a formula gets an apostrophe before it: customers'
/// names are data, never commands.
///
/// # Errors
/// Where a row has another number of cells than the headings.
pub fn to_csv(headings: &[&str], rows: &[Vec<Cell>]) -> Result<Vec<u8>, TableError> {
    let failed = |error: csv::Error| TableError(error.to_string());
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    writer.write_record(headings).map_err(failed)?;
    for row in rows {
        writer
            .write_record(row.iter().map(|cell| match cell {
                Cell::Text(text) if is_formula(text) => format!("'{text}"),
                Cell::Text(text) | Cell::Number(text) => text.clone(),
            }))
            .map_err(failed)?;
    }
    writer.into_inner().map_err(|error| TableError(error.to_string()))
}

/// A table that was read: its headings, and its rows with the line each stands on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Table {
    /// Headings in small letters, spaces as `_`.
    pub headings: Vec<String>,
    /// Line in the file, counted from one, and cells.
    pub rows: Vec<(usize, Vec<String>)>,
}

/// The most columns a table has.
const MOST_COLUMNS: usize = 100;
/// The longest a cell is, in characters.
const LONGEST_CELL: usize = 4_000;

/// Why a table could not be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ReadError {
    /// It is no text in UTF-8.
    #[error("The file is not in UTF-8. Save it as CSV in UTF-8 and try again.")]
    NotUtf8,
    /// It has no line of headings.
    #[error("The file is empty. Its first line names the columns.")]
    Empty,
    /// A heading stands twice.
    #[error("The column {0} stands twice in the first line. Keep one.")]
    Doubled(String),
    /// More columns than any table has.
    #[error("The first line names {0} columns; 100 at most are read. Is it the right file?")]
    TooWide(usize),
    /// A cell longer than any is.
    #[error("A cell of line {0} is longer than 4,000 characters. Look for a quote that is not closed.")]
    LongCell(usize),
    /// A line that is no row of the table.
    #[error("Line {line} has {cells} cells, the first line has {wanted}. Fix it and try again.")]
    Ragged {
        /// The line.
        line: usize,
        /// How many cells it has.
        cells: usize,
        /// How many it should have.
        wanted: usize,
    },
    /// Quotes that do not match, or the like.
    #[error("The file cannot be read as CSV: {0}.")]
    Malformed(String),
}

/// Reads a table with a line of headings, separated by commas or by semicolons, whichever its
/// first line has more of. Empty lines are passed over.
///
/// ```
/// use till_formats::table::read_csv;
/// let table = read_csv("Item;Their order\nHB-12;\"A; 7\"\n".as_bytes()).unwrap();
/// assert_eq!(table.headings, ["item", "their_order"]);
/// assert_eq!(table.rows, [(2, vec!["HB-12".to_owned(), "A; 7".to_owned()])]);
/// ```
///
/// # Errors
/// What is wrong, with the line.
pub fn read_csv(bytes: &[u8]) -> Result<Table, ReadError> {
    let text = std::str::from_utf8(bytes).map_err(|_| ReadError::NotUtf8)?;
    let text = text.strip_prefix('\u{feff}').unwrap_or(text);
    let first = text.lines().next().unwrap_or("");
    let separator = if first.matches(';').count() > first.matches(',').count() { b';' } else { b',' };
    let mut reader = csv::ReaderBuilder::new().delimiter(separator).flexible(true).from_reader(text.as_bytes());
    let malformed = |error: csv::Error| ReadError::Malformed(error.to_string());
    let headings: Vec<String> = reader
        .headers()
        .map_err(malformed)?
        .iter()
        .map(|heading| heading.trim().to_lowercase().replace([' ', '-'], "_"))
        .collect();
    if headings.is_empty() || headings.iter().all(String::is_empty) {
        return Err(ReadError::Empty);
    }
    if headings.len() > MOST_COLUMNS {
        return Err(ReadError::TooWide(headings.len()));
    }
    let mut seen = HashSet::new();
    if let Some(doubled) = headings.iter().find(|heading| !heading.is_empty() && !seen.insert(heading.as_str())) {
        return Err(ReadError::Doubled(doubled.clone()));
    }
    let mut rows = Vec::new();
    let (mut counted, mut line) = (0, 1);
    for record in reader.records() {
        let record = record.map_err(malformed)?;
        // The reader stops before the line feed of a CR LF and before empty lines: the record itself
        // starts behind them, and that is the line a spreadsheet shows.
        let start = record.position().map_or(0, |position| usize::try_from(position.byte()).unwrap_or(0));
        let gap = text[start..].len() - text[start..].trim_start_matches(['\r', '\n']).len();
        line += text[counted..start + gap].matches('\n').count();
        counted = start + gap;
        if record.iter().all(|cell| cell.trim().is_empty()) {
            continue;
        }
        if record.iter().any(|cell| cell.len() > LONGEST_CELL && cell.chars().count() > LONGEST_CELL) {
            return Err(ReadError::LongCell(line));
        }
        if record.len() != headings.len() {
            return Err(ReadError::Ragged { line, cells: record.len(), wanted: headings.len() });
        }
        rows.push((line, record.iter().map(|cell| cell.trim().to_owned()).collect()));
    }
    Ok(Table { headings, rows })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Source: RFC 4180 section 2, rules 5 to 7 (from memory): fields with commas, quotes or
    /// line breaks are quoted, quotes inside are doubled.
    #[test]
    fn quotes_as_the_rfc_says() {
        let rows = [vec![Cell::text("Harrow, Pike"), Cell::text("the \"old\" quay\nstores")]];
        let text = String::from_utf8(to_csv(&["a", "b"], &rows).unwrap()).unwrap();
        assert_eq!(text, "a,b\r\n\"Harrow, Pike\",\"the \"\"old\"\" quay\nstores\"\r\n");
    }

    #[test]
    fn no_text_is_a_formula_however_it_begins() {
        for text in ["=1+1", "+1", "-1", "@sum", "\t=1", "\r=1", "＝1+1", "\u{200b}=1+1", "\u{feff} =1", "  =1"] {
            let table = to_csv(&["a"], &[vec![Cell::text(text)]]).unwrap();
            assert!(String::from_utf8(table).unwrap().contains('\''), "{text:?}");
        }
        for text in ["Harrow = Pike", "a-b", "3 Moor Gate", "e@mail.example"] {
            let table = to_csv(&["a"], &[vec![Cell::text(text)]]).unwrap();
            assert_eq!(String::from_utf8(table).unwrap(), format!("a\r\n{text}\r\n"));
        }
    }

    #[test]
    fn a_ragged_row_is_refused() {
        assert!(to_csv(&["a", "b"], &[vec![Cell::text("x")]]).is_err());
    }

    #[test]
    fn negative_numbers_stay_numbers() {
        let rows = [vec![Cell::number("-1.50")]];
        assert_eq!(to_csv(&["a"], &rows).unwrap(), b"a\r\n-1.50\r\n");
    }

    #[test]
    fn a_table_is_as_wide_and_its_cells_as_long_as_tables_are() {
        let wide: Vec<String> = (0..60_000).map(|column| format!("c{column}")).collect();
        assert_eq!(read_csv(wide.join(",").as_bytes()), Err(ReadError::TooWide(60_000)));
        let hundred = wide[..100].join(",");
        assert!(read_csv(hundred.as_bytes()).is_ok());
        assert_eq!(read_csv("a,b,a\n".as_bytes()), Err(ReadError::Doubled("a".to_owned())));
        assert!(read_csv(format!("a,b\nx,{}\n", "é".repeat(4_000)).as_bytes()).is_ok());
        let long = format!("a,b\nx,{}\n", "y".repeat(4_001));
        assert_eq!(read_csv(long.as_bytes()), Err(ReadError::LongCell(2)));
    }

    #[test]
    fn reads_what_spreadsheets_write() {
        let text = "\u{feff}Item,Quantity\r\nHB-12,3\r\n\r\n\"WX, brood\",\"1.5\"\r\n";
        let table = read_csv(text.as_bytes()).unwrap();
        assert_eq!(table.headings, ["item", "quantity"]);
        assert_eq!(
            table.rows.iter().map(|(line, cells)| (*line, cells[0].as_str())).collect::<Vec<_>>(),
            [(2, "HB-12"), (4, "WX, brood")]
        );
    }

    #[test]
    fn what_cannot_be_read_names_its_line() {
        assert_eq!(read_csv(b""), Err(ReadError::Empty));
        assert_eq!(read_csv(b"a,b\n1,2\n3\n"), Err(ReadError::Ragged { line: 3, cells: 1, wanted: 2 }));
        assert_eq!(read_csv(b"a,A\n1,2\n"), Err(ReadError::Doubled("a".to_owned())));
        assert_eq!(read_csv(b"a\n\xff\n"), Err(ReadError::NotUtf8));
    }

    #[test]
    fn what_is_written_is_read_back() {
        let rows = [vec![Cell::text("a \"b\"; c"), Cell::number("-1.50")]];
        let table = read_csv(&to_csv(&["one", "two"], &rows).unwrap()).unwrap();
        assert_eq!(table.rows, [(2, vec!["a \"b\"; c".to_owned(), "-1.50".to_owned()])]);
    }
}
