//! Statements and their lines as they are looked at, with what each line may be.

use std::collections::HashMap;

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::bank::{BankLine, BankLineKind, Certainty, Clue, Proposal, Proposed};
use till_core::day_sheet::BankFacts;
use till_core::ids::{BankLineId, BankMatchId, BankStatementId, CustomerId, DocumentKind, DocumentRef};
use till_core::money::{Currency, Money};

use super::accepting::{ToAccept, sure_mark, wished};
use super::facts::{self, Line, Lines};
use crate::convert::{currency, kind};
use crate::ledger::{self, PostedEntry};
use crate::rules::Rules;
use crate::{Result, StoreError};

/// A statement in a list.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StatementRow {
    /// Its id.
    pub id: BankStatementId,
    /// Our number of it.
    pub number: String,
    /// Code of the bank account.
    pub place: String,
    /// Its name.
    pub place_name: String,
    /// What the bank calls it.
    pub bank_id: String,
    /// Its currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// The first day.
    pub from: NaiveDate,
    /// The last day.
    pub until: NaiveDate,
    /// The balance before its first line.
    pub opening: Money,
    /// The balance after its last.
    pub closing: Money,
    /// How many lines it has.
    pub lines: i64,
    /// How many of them are not cleared.
    pub open: i64,
    /// The file it came in.
    pub file: String,
    /// When that was imported.
    pub imported_on: NaiveDate,
}

/// Statements, newest first.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StatementList {
    /// One by one.
    pub statements: Vec<StatementRow>,
    /// How many there are.
    pub count: i64,
}

/// What a line is cleared against.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct MatchView {
    /// Its id.
    pub id: BankMatchId,
    /// The document.
    pub document: DocumentRef,
    /// Whether it was in the books already, is a receipt made of the line, or was booked from it.
    pub how: String,
    /// How much.
    pub amount: Money,
    /// Whose receipt; none for what is no customer's.
    pub customer_name: Option<String>,
}

/// What a line may be, with why.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ProposalView {
    /// How sure.
    pub certainty: Certainty,
    /// 0 to 100.
    pub score: u8,
    /// Why.
    pub because: Vec<Clue>,
    /// In words: whose receipt, what it clears.
    pub words: String,
    /// Whose receipt; none for what is none.
    pub customer: Option<CustomerId>,
    /// To be sent to accept it.
    pub accept: ToAccept,
}

/// A line on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct LineView {
    /// Its id.
    pub id: BankLineId,
    /// Its place in the statement, from one.
    pub place: i64,
    /// When the bank booked it.
    pub booked_on: NaiveDate,
    /// How much; below zero where it left.
    pub amount: Money,
    /// What of it is not cleared.
    pub left: Money,
    /// What the bank says it is.
    pub kind: BankLineKind,
    /// Who paid, or was paid.
    pub party: Option<String>,
    /// The account it came from, or went to.
    pub party_account: Option<String>,
    /// What was written with it.
    pub words: String,
    /// The structured reference.
    pub reference: Option<String>,
    /// How many documents the payer says it is for, each with its amount.
    pub advised: usize,
    /// What it is cleared against.
    pub matches: Vec<MatchView>,
    /// What it may be, the best first; empty once it is cleared.
    pub proposals: Vec<ProposalView>,
}

/// Which lines to show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum LineFilter {
    /// All of them.
    #[default]
    All,
    /// Those that are not cleared.
    Open,
}

/// A statement on screen.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct StatementView {
    /// What stands in the list.
    #[serde(flatten)]
    pub row: StatementRow,
    /// Its lines, as filtered.
    pub line_list: Vec<LineView>,
    /// How many open lines are sure.
    pub sure: usize,
    /// What the sure ones come to.
    pub sure_amount: Money,
    /// What they are proposed to be: to be sent back when they are accepted together.
    pub sure_mark: String,
    /// Entries booked from its lines.
    pub entries: Vec<PostedEntry>,
}

async fn rows(
    connection: &mut SqliteConnection,
    id: Option<BankStatementId>,
    (limit, offset): (i64, i64),
) -> Result<Vec<StatementRow>> {
    let id = id.map(|id| id.0);
    sqlx::query!(
        r#"SELECT bank_statements.id AS "id!", number AS "number!", place AS "place!", money_places.name AS "name!", bank_id AS "bank_id!", bank_statements.currency AS "currency!",
                  opening_on AS "from!: NaiveDate", closing_on AS "until!: NaiveDate", opening_minor AS "opening!", closing_minor AS "closing!",
                  (SELECT count(*) FROM bank_lines WHERE statement_id = bank_statements.id) AS "lines!: i64",
                  (SELECT count(*) FROM bank_lines WHERE statement_id = bank_statements.id AND cleared_minor <> amount_minor) AS "open!: i64",
                  file_name AS "file!", imported_on AS "imported_on!: NaiveDate"
           FROM bank_statements JOIN money_places ON money_places.code = place
           WHERE ?1 IS NULL OR bank_statements.id = ?1 ORDER BY bank_statements.id DESC LIMIT ?2 OFFSET ?3"#,
        id,
        limit,
        offset
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        Ok(StatementRow {
            id: BankStatementId(row.id),
            number: row.number,
            place: row.place,
            place_name: row.name,
            bank_id: row.bank_id,
            currency: currency(&row.currency)?,
            from: row.from,
            until: row.until,
            opening: Money(row.opening),
            closing: Money(row.closing),
            lines: row.lines,
            open: row.open,
            file: row.file,
            imported_on: row.imported_on,
        })
    })
    .collect()
}

/// Statements, newest first.
///
/// # Errors
/// Where the database cannot be read.
pub async fn list(connection: &mut SqliteConnection, stretch: (i64, i64)) -> Result<StatementList> {
    let statements = rows(connection, None, stretch).await?;
    let count = sqlx::query_scalar!("SELECT count(*) FROM bank_statements").fetch_one(connection).await?;
    Ok(StatementList { statements, count })
}

/// One statement with its lines, and what each that is open may be.
///
/// # Errors
/// [`StoreError::NotFound`].
pub async fn view(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: BankStatementId,
    filter: LineFilter,
) -> Result<StatementView> {
    let row = rows(connection, Some(id), (1, 0))
        .await?
        .pop()
        .ok_or_else(|| StoreError::not_found(DocumentKind::BankStatement, id))?;
    let which = if filter == LineFilter::Open { Lines::OpenOf(id) } else { Lines::Of(id) };
    let lines = facts::lines(connection, which).await?;
    let mut matches = matches(connection, id).await?;
    let index = match row.open {
        0 => None,
        _ => Some(facts::index(connection, rules, id, (&row.place, row.currency)).await?),
    };
    let names = names(connection).await?;
    let (mut sure, mut sure_amount) = (Vec::new(), Money::ZERO);
    let line_list = lines
        .iter()
        .map(|line| {
            // A line of which a part is cleared is no payment by itself any more: someone decides on the rest.
            let proposals = match &index {
                Some(index) if line.cleared.is_zero() => index.propose(&line.line),
                _ => Vec::new(),
            };
            if let Some(first) = proposals.first().filter(|first| first.certainty == Certainty::Sure) {
                sure.push((line.id, wished(first, line)));
                sure_amount += line.line.amount;
            }
            let proposals = proposals.iter().map(|proposal| proposed(proposal, line, &names)).collect();
            shown(line, matches.remove(&line.id).unwrap_or_default(), proposals)
        })
        .collect();
    let entries = ledger::entries_of(connection, DocumentKind::BankStatement, id.0).await?;
    let sure_mark = sure_mark(&sure);
    Ok(StatementView { row, line_list, sure: sure.len(), sure_amount, sure_mark, entries })
}

fn proposed(proposal: &Proposal, line: &Line, names: &Names) -> ProposalView {
    ProposalView {
        certainty: proposal.certainty,
        score: proposal.score,
        because: proposal.because.clone(),
        words: words(&proposal.what, names),
        customer: match &proposal.what {
            Proposed::Receipt { customer, .. } => Some(*customer),
            _ => None,
        },
        accept: wished(proposal, line),
    }
}

/// What a line, or what is left of one, may be by what someone typed: a number, a name, an amount, what was noted.
///
/// # Errors
/// A line that is not there.
pub async fn find(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: BankLineId,
    typed: &str,
) -> Result<Vec<ProposalView>> {
    let line = facts::line(connection, id).await?;
    let left = line.left();
    let typed = typed.trim();
    if left.is_zero() || typed.is_empty() {
        return Ok(Vec::new());
    }
    let index = facts::index(connection, rules, line.statement, (&line.place, line.currency)).await?;
    let names = names(connection).await?;
    let of = BankLine { amount: left, ..line.line.clone() };
    let found = index.find(&of, typed, line.currency.parse(typed).ok());
    Ok(found.iter().map(|proposal| proposed(proposal, &line, &names)).collect())
}

fn words(what: &Proposed, names: &Names) -> String {
    match what {
        Proposed::Clears { document, apart, .. } if apart.is_zero() => document.number.clone(),
        Proposed::Clears { document, apart, .. } => {
            format!("{}, counted {}", document.number, if apart.is_positive() { "over" } else { "short" })
        }
        Proposed::Returned { receipt, fee } if fee.is_zero() => format!("{} came back", receipt.number),
        Proposed::Returned { receipt, .. } => format!("{} came back, with a fee", receipt.number),
        Proposed::Receipt { customer, to } => {
            let name = names.customers.get(&customer.0).cloned().unwrap_or_default();
            let numbers: Vec<&str> =
                to.iter().filter_map(|part| names.items.get(&part.item.0).map(String::as_str)).collect();
            let shown = numbers.iter().take(3).copied().collect::<Vec<_>>().join(", ");
            match numbers.len() {
                0 => name,
                1..=3 => format!("{name}: {shown}"),
                count => format!("{name}: {shown} and {} more", count - 3),
            }
        }
        Proposed::Book { of: BankLineKind::Fee } => "bank fee".to_owned(),
        Proposed::Book { of } => of.word().replace('_', " "),
    }
}

struct Names {
    customers: HashMap<i64, String>,
    items: HashMap<i64, String>,
}

async fn names(connection: &mut SqliteConnection) -> Result<Names> {
    let customers = sqlx::query!("SELECT id, name FROM customers").fetch_all(&mut *connection).await?;
    let items = sqlx::query!("SELECT id, number FROM open_items WHERE open_minor > 0 AND side = 'owed_to_us'")
        .fetch_all(connection)
        .await?;
    Ok(Names {
        customers: customers.into_iter().map(|row| (row.id, row.name)).collect(),
        items: items.into_iter().map(|row| (row.id, row.number)).collect(),
    })
}

async fn matches(
    connection: &mut SqliteConnection,
    id: BankStatementId,
) -> Result<HashMap<BankLineId, Vec<MatchView>>> {
    let rows = sqlx::query!(
        r#"SELECT bank_matches.id AS "id!", line_id AS "line!", how AS "how!", bank_matches.amount_minor AS "amount!", source_kind AS "kind!", source_id AS "source!", source_number AS "number!",
                  (SELECT customers.name FROM payments JOIN customers ON customers.id = customer_id
                   WHERE payments.id = source_id AND source_kind IN ('receipt', 'deposit')) AS "customer: String"
           FROM bank_lines JOIN bank_matches ON line_id = bank_lines.id AND undone_on IS NULL JOIN entries ON entries.id = entry_id
           WHERE statement_id = ? ORDER BY bank_matches.id"#,
        id.0
    )
    .fetch_all(connection)
    .await?;
    let mut found: HashMap<BankLineId, Vec<MatchView>> = HashMap::new();
    for row in rows {
        found.entry(BankLineId(row.line)).or_default().push(MatchView {
            id: BankMatchId(row.id),
            document: DocumentRef { kind: kind(&row.kind)?, id: row.source, number: row.number },
            how: row.how,
            amount: Money(row.amount),
            customer_name: row.customer,
        });
    }
    Ok(found)
}

fn shown(line: &Line, matches: Vec<MatchView>, proposals: Vec<ProposalView>) -> LineView {
    let of = &line.line;
    LineView {
        id: line.id,
        place: line.position + 1,
        booked_on: of.booked_on,
        amount: of.amount,
        left: line.left(),
        kind: of.kind,
        party: of.party.clone(),
        party_account: of.party_account.clone(),
        words: of.words.clone(),
        reference: of.reference.clone(),
        advised: of.advised.len(),
        matches,
        proposals,
    }
}

/// Statements with lines that are not cleared, for the day sheet.
pub(crate) async fn of_day_sheet(connection: &mut SqliteConnection, rules: &Rules) -> Result<Vec<BankFacts>> {
    let rows = sqlx::query!(
        r#"SELECT bank_statements.id AS "id!", number AS "number!", name AS "name!", bank_statements.currency AS "currency!", count(*) AS "open!: i64",
                  sum(abs(amount_minor - cleared_minor)) AS "amount!: i64", min(booked_on) AS "since!: NaiveDate"
           FROM bank_lines JOIN bank_statements ON bank_statements.id = statement_id JOIN money_places ON money_places.code = place
           WHERE cleared_minor <> amount_minor GROUP BY bank_statements.id ORDER BY bank_statements.id"#
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut facts = Vec::with_capacity(rows.len());
    for row in rows {
        let money = currency(&row.currency)?;
        let rate = crate::rules::exchange_rate(connection, rules, money, rules.business_date).await?;
        facts.push(BankFacts {
            statement: DocumentRef { kind: DocumentKind::BankStatement, id: row.id, number: row.number },
            account: row.name,
            open: row.open,
            amount: rate.map_or(Money::ZERO, |rate| Money(row.amount).to_base(rate, money, rules.base)),
            since: row.since,
        });
    }
    Ok(facts)
}
