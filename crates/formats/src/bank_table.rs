//! Bank statements as tables: CSV files that every bank writes in its own way, read by the columns someone said.

use till_core::bank::columns::{self, StatementColumns};
use till_core::bank::{Balance, BankLine, BankStatement};
use till_core::money::{Currency, Money};

use crate::table::{ReadError, Table, read_csv};

/// Why a table is no statement.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BankTableError {
    /// It is no table.
    #[error(transparent)]
    Table(#[from] ReadError),
    /// A column that was said is not there.
    #[error("The file has no column “{column}”. Choose one of: {there}.")]
    NoColumn {
        /// What it is for.
        field: &'static str,
        /// Its name.
        column: String,
        /// What there is.
        there: String,
    },
    /// A column that is needed was not said.
    #[error("{sentence}")]
    NotSaid {
        /// What for.
        field: &'static str,
        /// What to do.
        sentence: String,
    },
    /// A cell that is not what its column should hold.
    #[error("Line {line}, {column}: “{cell}” is no {wanted}. Check how the file writes it.")]
    Cell {
        /// What the column is for.
        field: &'static str,
        /// The line, from one.
        line: usize,
        /// The column.
        column: String,
        /// What stands there.
        cell: String,
        /// What should.
        wanted: &'static str,
    },
    /// Its balances do not follow from its lines, read downwards or upwards.
    #[error(
        "Line {line}: the balance is not the one before and the amount. Check the columns, and whether the file is whole."
    )]
    Balances {
        /// The line, from one.
        line: usize,
    },
}

impl BankTableError {
    /// Which of the columns it is about; none for the file itself.
    pub fn field(&self) -> Option<&'static str> {
        match self {
            Self::NoColumn { field, .. } | Self::NotSaid { field, .. } | Self::Cell { field, .. } => Some(field),
            Self::Balances { .. } => Some("balance"),
            Self::Table(_) => None,
        }
    }
}

/// What the table itself does not say.
#[derive(Debug, Clone, Copy)]
pub struct Said<'a> {
    /// The account, as its bank names it.
    pub account: &'a str,
    /// Its currency.
    pub currency: Currency,
    /// The balance before the first line, where no column says it.
    pub opening: Option<Money>,
    /// The balance after the last, where no column says it.
    pub closing: Option<Money>,
    /// What the file is called: it stands for the bank's own name of the statement.
    pub name: &'a str,
}

/// The columns of a table.
///
/// # Errors
/// A file that is no table.
pub fn headings(bytes: &[u8]) -> Result<Vec<String>, ReadError> {
    Ok(read_csv(bytes)?.headings)
}

struct Columns<'a> {
    table: &'a Table,
}

impl Columns<'_> {
    fn find(&self, field: &'static str, name: &str) -> Result<usize, BankTableError> {
        self.table.headings.iter().position(|heading| heading == name).ok_or_else(|| BankTableError::NoColumn {
            field,
            column: name.to_owned(),
            there: self.table.headings.iter().filter(|one| !one.is_empty()).cloned().collect::<Vec<_>>().join(", "),
        })
    }

    fn may(&self, field: &'static str, name: Option<&String>) -> Result<Option<usize>, BankTableError> {
        name.filter(|name| !name.is_empty()).map(|name| self.find(field, name)).transpose()
    }
}

/// Reads a statement.
///
/// # Errors
/// What is wrong, with the line and the column.
pub fn read(bytes: &[u8], columns: &StatementColumns, said: &Said<'_>) -> Result<BankStatement, BankTableError> {
    let table = read_csv(bytes)?;
    let of = Columns { table: &table };
    let needed = |field, sentence: &str| BankTableError::NotSaid { field, sentence: sentence.to_owned() };
    if columns.date.is_empty() {
        return Err(needed("date", "Choose the column with the day the bank booked it."));
    }
    let date = of.find("date", &columns.date)?;
    let amount = of.may("amount", columns.amount.as_ref())?;
    let paid_in = of.may("paid_in", columns.paid_in.as_ref())?;
    let paid_out = of.may("paid_out", columns.paid_out.as_ref())?;
    if amount.is_none() && (paid_in.is_none() || paid_out.is_none()) {
        return Err(needed("amount", "Choose the column with the amount, or one for what came and one for what left."));
    }
    let balance = of.may("balance", columns.balance.as_ref())?;
    let party = of.may("party", columns.party.as_ref())?;
    let party_account = of.may("party_account", columns.party_account.as_ref())?;
    let words = of.may("words", columns.words.as_ref())?;
    let reference = of.may("reference", columns.reference.as_ref())?;
    let wrong = |field, at: usize, (line, cells): (usize, &[String]), wanted| BankTableError::Cell {
        field,
        line,
        column: table.headings[at].clone(),
        cell: cells[at].clone(),
        wanted,
    };
    let money = |field, at: usize, row: (usize, &[String])| {
        columns::amount(&row.1[at], said.currency, columns.decimal_comma).ok_or_else(|| wrong(field, at, row, "amount"))
    };
    let mut lines = Vec::with_capacity(table.rows.len());
    let mut balances = Vec::new();
    for (line, cells) in &table.rows {
        let row = (*line, cells.as_slice());
        let some = |at: Option<usize>| at.map(|at| cells[at].trim().to_owned()).filter(|text| !text.is_empty());
        let moved = match (amount, paid_in, paid_out) {
            (Some(at), ..) => money("amount", at, row)?,
            (None, Some(came), Some(left)) => {
                let one = |field, at: usize| {
                    if cells[at].trim().is_empty() { Ok(Money::ZERO) } else { money(field, at, row) }
                };
                // Some banks write what left with its minus all the same.
                one("paid_in", came)? - one("paid_out", left)?.abs()
            }
            _ => Money::ZERO,
        };
        let party = some(party);
        let words = some(words).unwrap_or_default();
        lines.push(BankLine {
            kind: columns::kind_of(party.as_deref(), &words, moved),
            booked_on: columns::day(&cells[date], columns.days).ok_or_else(|| wrong("date", date, row, "day"))?,
            value_on: None,
            amount: moved,
            words,
            reference: some(reference),
            party,
            party_account: some(party_account),
            bank_reference: None,
            advised: Vec::new(),
        });
        if let Some(at) = balance {
            balances.push((*line, money("balance", at, row)?));
        }
    }
    let (opening, closing) = ends(&mut lines, &balances, said)?;
    let first = lines.iter().map(|line| line.booked_on).min();
    let last = lines.iter().map(|line| line.booked_on).max();
    let (Some(first), Some(last)) = (first, last) else {
        return Err(needed("date", "The file has no line: there is nothing to import."));
    };
    Ok(BankStatement {
        bank_id: said.name.to_owned(),
        account: said.account.to_owned(),
        currency: said.currency,
        opening: Balance { date: first, amount: opening },
        closing: Balance { date: last, amount: closing },
        lines,
    })
}

/// The balances at both ends; puts lines that stand the newest first into their order.
fn ends(
    lines: &mut [BankLine],
    balances: &[(usize, Money)],
    said: &Said<'_>,
) -> Result<(Money, Money), BankTableError> {
    let (Some(first), Some(last)) = (balances.first(), balances.last()) else {
        // The newest first, as far as the days tell.
        if lines.first().map(|line| line.booked_on) > lines.last().map(|line| line.booked_on) {
            lines.reverse();
        }
        return match (said.opening, said.closing) {
            (Some(opening), Some(closing)) => Ok((opening, closing)),
            _ => Err(BankTableError::NotSaid {
                field: if said.opening.is_none() { "opening" } else { "closing" },
                sentence: "No column says the balance: type the balance before the first line and after the last."
                    .to_owned(),
            }),
        };
    };
    let down = (1..lines.len()).find(|at| balances[at - 1].1 + lines[*at].amount != balances[*at].1);
    if down.is_none() {
        return Ok((first.1 - lines[0].amount, last.1));
    }
    let up = (1..lines.len()).find(|at| balances[*at].1 + lines[at - 1].amount != balances[at - 1].1);
    match (up, down) {
        (None, _) => {
            let opening = last.1 - lines.last().map_or(Money::ZERO, |line| line.amount);
            lines.reverse();
            Ok((opening, first.1))
        }
        (_, down) => Err(BankTableError::Balances { line: balances[down.unwrap_or_default()].0 }),
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used, reason = "a test fails loudly")]
mod tests {
    use super::*;
    use till_core::bank::BankLineKind;
    use till_core::bank::columns::DayOrder;

    fn said(opening: Option<i64>, closing: Option<i64>) -> Said<'static> {
        Said {
            account: "XX33MARR0001234567",
            currency: Currency::of("EUR").unwrap(),
            opening: opening.map(Money),
            closing: closing.map(Money),
            name: "march.csv",
        }
    }

    fn read_of(
        text: &str,
        change: impl FnOnce(&mut StatementColumns),
        said: &Said<'_>,
    ) -> Result<BankStatement, BankTableError> {
        let mut columns = StatementColumns::guess(&headings(text.as_bytes()).unwrap());
        change(&mut columns);
        read(text.as_bytes(), &columns, said)
    }

    /// 1,000.00 before, 290.28 came, 6.50 and 15.00 left: 1,268.78 after. As three banks write it.
    #[test]
    fn each_bank_writes_it_in_its_own_way() {
        let plain = "Booking date,Amount,Balance,Name,IBAN,Details\n\
                     2026-03-17,290.28,1290.28,Saltmarsh,XX81 9P34,I-3107\n\
                     2026-03-17,-6.50,1283.78,,,Account fee\n\
                     2026-03-18,-15.00,1268.78,,,\"check 104417; unpaid\"\n";
        // The newest first, in two columns, days and cents as on the continent.
        let continental = "Booked;Credit;Debit;Balance;Payer;Text\n\
                           18.03.26;;15,00;1.268,78;;check 104417\n\
                           17.03.26;;6,50;1.283,78;;Account fee\n\
                           17.03.26;290,28;;1.290,28;Saltmarsh;I-3107\n";
        // No balance at all, a minus behind, months first.
        let bare = "date,value,memo\n03/17/2026,290.28,I-3107\n03/17/2026,6.50-,fee\n03/18/2026,(15.00),check\n";
        let typed = said(Some(100_000), Some(126_878));
        let statements = [
            read_of(plain, |_| {}, &said(None, None)).unwrap(),
            read_of(
                continental,
                |columns| (columns.days, columns.decimal_comma) = (DayOrder::DayFirst, true),
                &said(None, None),
            )
            .unwrap(),
            read_of(bare, |columns| columns.days = DayOrder::MonthFirst, &typed).unwrap(),
        ];
        for one in &statements {
            assert_eq!((one.opening.amount, one.closing.amount), (Money(100_000), Money(126_878)));
            assert_eq!(one.lines.iter().map(|line| line.amount.0).collect::<Vec<_>>(), [29_028, -650, -1_500]);
            assert_eq!(
                (one.opening.date.to_string(), one.closing.date.to_string()),
                ("2026-03-17".to_owned(), "2026-03-18".to_owned())
            );
        }
        let first = &statements[0].lines[0];
        assert_eq!(
            (first.party.as_deref(), first.party_account.as_deref(), first.words.as_str()),
            (Some("Saltmarsh"), Some("XX81 9P34"), "I-3107")
        );
        assert_eq!(statements[0].lines[2].words, "check 104417; unpaid");
        // What the bank takes for its work is known by its words, where nobody is named.
        assert_eq!(
            statements[0].lines.iter().map(|line| line.kind).collect::<Vec<_>>(),
            [BankLineKind::Transfer, BankLineKind::Fee, BankLineKind::Returned]
        );
    }

    #[test]
    fn what_is_wrong_is_said_with_its_line_and_column() {
        let file = "date,amount,balance\n2026-03-17,10.00,110.00\n2026-03-18,5.00,115.00\n";
        let (none, typed) = (said(None, None), said(Some(0), Some(1_500)));
        let wrong = |text: &str, change: fn(&mut StatementColumns), said: &Said<'_>| {
            let error = read_of(text, change, said).unwrap_err();
            (error.field(), error.to_string())
        };
        let (field, sentence) = wrong(file, |columns| columns.date = "day".to_owned(), &none);
        assert_eq!(
            (field, sentence.as_str()),
            (Some("date"), "The file has no column “day”. Choose one of: date, amount, balance.")
        );
        assert_eq!(wrong(file, |columns| columns.date.clear(), &none).0, Some("date"));
        assert_eq!(wrong(file, |columns| columns.amount = None, &none).0, Some("amount"));
        assert_eq!(wrong(file, |columns| columns.balance = None, &none).0, Some("opening"));
        assert!(read_of(file, |columns| columns.balance = None, &typed).is_ok());
        let (field, sentence) = wrong(&file.replace("5.00,", "five,"), |_| {}, &none);
        assert_eq!(
            (field, sentence.as_str()),
            (Some("amount"), "Line 3, amount: “five” is no amount. Check how the file writes it.")
        );
        let (field, sentence) = wrong(&file.replace("2026-03-18", "2026-02-31"), |_| {}, &none);
        assert_eq!(
            (field, sentence.as_str()),
            (Some("date"), "Line 3, date: “2026-02-31” is no day. Check how the file writes it.")
        );
        let (field, sentence) = wrong(&file.replace("115.00", "116.00"), |_| {}, &none);
        assert!(field == Some("balance") && sentence.starts_with("Line 3: the balance"), "{sentence}");
        assert_eq!(wrong("date,amount,balance\n", |_| {}, &typed).0, Some("date"), "no line at all");
        assert!(headings(b"\xff\xfe").is_err(), "UTF-16 is no table");
        assert!(headings(b"date,date\n").is_err());
    }
}
