//! Tables as CSV, RFC 4180, UTF-8.
//!
//! ```
//! use till_formats::table::{Cell, to_csv};
//! let bytes = to_csv(&["customer", "open"], &[vec![Cell::text("=1+1"), Cell::number("12.50")]]).unwrap();
//! assert_eq!(String::from_utf8(bytes).unwrap(), "customer,open\r\n'=1+1,12.50\r\n");
//! ```

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
                Cell::Text(text) if text.starts_with(['=', '+', '-', '@', '\t', '\r']) => format!("'{text}"),
                Cell::Text(text) | Cell::Number(text) => text.clone(),
            }))
            .map_err(failed)?;
    }
    writer.into_inner().map_err(|error| TableError(error.to_string()))
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
    fn a_ragged_row_is_refused() {
        assert!(to_csv(&["a", "b"], &[vec![Cell::text("x")]]).is_err());
    }

    #[test]
    fn negative_numbers_stay_numbers() {
        let rows = [vec![Cell::number("-1.50")]];
        assert_eq!(to_csv(&["a"], &rows).unwrap(), b"a\r\n-1.50\r\n");
    }
}
