//! Bank statements in camt.053 (ISO 20022, Bank to Customer Statement), read in every version and written in 001.08.
//!
//! Versions differ in where a party's name and a date stand; both places are looked at. Names of elements are matched without
//! their namespace, so that a version of tomorrow is read as far as it says the same. Nothing outside the file is ever read: a
//! file with a document type, which is how entities come into it, is refused before anything else.
//!
//! ```
//! use till_formats::camt::{CamtError, read};
//! let hostile = br#"<!DOCTYPE x [<!ENTITY a "aaaa">]><Document>&a;</Document>"#;
//! assert_eq!(read(hostile), Err(CamtError::Hostile));
//! assert_eq!(read(b"name,amount"), Err(CamtError::NotCamt));
//! ```

mod writing;

use std::borrow::Cow;

use chrono::NaiveDate;
use quick_xml::events::Event;
use quick_xml::reader::Reader;
use till_core::bank::{Balance, BankLine, BankLineKind, BankStatement};
use till_core::money::{Currency, Money};
use till_core::remittance::Advised;

pub use writing::write;

/// The largest file that is read. A line is about a kilobyte: this is 20,000 lines and more.
pub const LARGEST: usize = 24 * 1024 * 1024;
/// How deep elements may lie in each other; the standard needs 12.
const DEEPEST: usize = 40;
/// How many characters of what a payer wrote are kept.
const LONGEST_WORDS: usize = 560;

/// Why a file is not read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum CamtError {
    /// Larger than [`LARGEST`].
    #[error("The file is larger than 24 MB. Ask the bank for statements of single days.")]
    TooLarge,
    /// It declares a document type: entities could blow up, or read other files.
    #[error("The file declares a document type, which no bank statement does. It is not read.")]
    Hostile,
    /// Not XML, or no camt.053 in it.
    #[error("This is no bank statement in camt.053. Choose the XML file of the bank.")]
    NotCamt,
    /// XML that ends too early, or is broken.
    #[error("The file is broken at byte {0}. Get it from the bank again.")]
    Broken(u64),
    /// Something the standard demands is not there, or cannot be read.
    #[error("Statement {statement}: {what}. Get the file from the bank again.")]
    Missing {
        /// Its place, from one.
        statement: usize,
        /// What.
        what: String,
    },
}

/// Where a balance says which it is.
const BALANCE_CODE: [&[&str]; 2] = [&["Tp", "CdOrPrtry", "Cd"], &["Tp", "Cd"]];
/// Where the number of a document stands that a payer refers to.
const DOCUMENT_NUMBER: [&[&str]; 2] = [&["RfrdDocInf", "Nb"], &["RfrdDocInf", "RfrdDocNb"]];

/// An element with what lies in it.
#[derive(Debug, Default)]
struct Node {
    name: String,
    text: String,
    currency: Option<String>,
    children: Vec<Node>,
}

impl Node {
    fn get(&self, path: &[&str]) -> Option<&Self> {
        let Some((first, rest)) = path.split_first() else { return Some(self) };
        self.children.iter().filter(|child| child.name == *first).find_map(|child| child.get(rest))
    }

    fn all<'a>(&'a self, name: &'a str) -> impl Iterator<Item = &'a Self> {
        self.children.iter().filter(move |child| child.name == name)
    }

    /// The text of the first of those that has any.
    fn text(&self, paths: &[&[&str]]) -> Option<String> {
        let text = |path: &&[&str]| self.get(path).map(|node| node.text.trim()).filter(|text| !text.is_empty());
        paths.iter().find_map(text).map(str::to_owned)
    }
}

/// The statements of a file, in its order.
///
/// # Errors
/// What is wrong with it. Nothing of a file that is wrong anywhere is taken.
pub fn read(bytes: &[u8]) -> Result<Vec<BankStatement>, CamtError> {
    if bytes.len() > LARGEST {
        return Err(CamtError::TooLarge);
    }
    let text = decoded(bytes);
    let mut reader = Reader::from_str(text.trim_start_matches('\u{feff}'));
    reader.config_mut().check_end_names = true;
    let mut stack: Vec<Node> = Vec::new();
    let mut statements = Vec::new();
    let mut of_camt = false;
    loop {
        let at = reader.buffer_position();
        match reader.read_event() {
            Ok(Event::DocType(_)) => return Err(CamtError::Hostile),
            Ok(Event::Start(start)) => {
                if stack.len() >= DEEPEST {
                    return Err(CamtError::NotCamt);
                }
                let node = element(&start).ok_or(CamtError::Broken(at))?;
                of_camt |= is_message(&node.name);
                stack.push(node);
            }
            Ok(Event::Empty(start)) => {
                let node = element(&start).ok_or(CamtError::Broken(at))?;
                if let Some(parent) = stack.last_mut() {
                    parent.children.push(node);
                }
            }
            Ok(Event::Text(text)) => {
                if let Some(node) = stack.last_mut() {
                    node.text.push_str(&text.into_inner());
                }
            }
            Ok(Event::CData(text)) => {
                if let Some(node) = stack.last_mut() {
                    node.text.push_str(&text.into_inner());
                }
            }
            // The five of XML itself and characters by their number; no other is known.
            Ok(Event::GeneralRef(name)) => {
                let text = resolved(&name).ok_or(CamtError::Hostile)?;
                if let Some(node) = stack.last_mut() {
                    node.text.push(text);
                }
            }
            Ok(Event::End(_)) => {
                let Some(node) = stack.pop() else { return Err(CamtError::Broken(at)) };
                let in_statements = stack.last().is_some_and(|parent| is_message(&parent.name));
                if in_statements && node.name == "Stmt" {
                    statements.push(statement(&node, statements.len() + 1)?);
                } else if let Some(parent) = stack.last_mut() {
                    parent.children.push(node);
                }
            }
            Ok(Event::Eof) => break,
            Ok(Event::Decl(_) | Event::PI(_) | Event::Comment(_)) => {}
            Err(_) if !of_camt && statements.is_empty() && stack.is_empty() => return Err(CamtError::NotCamt),
            Err(_) => return Err(CamtError::Broken(reader.error_position())),
        }
    }
    match (of_camt, stack.is_empty()) {
        (true, false) => Err(CamtError::Broken(bytes.len() as u64)),
        _ if statements.is_empty() => Err(CamtError::NotCamt),
        _ => Ok(statements),
    }
}

/// Whether an element is the message: the first version says in its name that it is.
fn is_message(name: &str) -> bool {
    matches!(name, "BkToCstmrStmt" | "BkToCstmrStmtV01")
}

/// The text of a file: UTF-8, or what older banks write, in which every byte is a letter of its own (ISO 8859-1).
fn decoded(bytes: &[u8]) -> Cow<'_, str> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Cow::Borrowed(text),
        Err(_) => Cow::Owned(bytes.iter().copied().map(char::from).collect()),
    }
}

fn element(start: &quick_xml::events::BytesStart<'_>) -> Option<Node> {
    let name = start.local_name().as_ref().to_owned();
    let mut currency = None;
    for attribute in start.attributes() {
        let attribute = attribute.ok()?;
        if attribute.key.local_name().as_ref() == "Ccy" {
            currency = Some(attribute.value.into_owned());
        }
    }
    Some(Node { name, currency, ..Node::default() })
}

fn resolved(name: &quick_xml::events::BytesRef<'_>) -> Option<char> {
    if let Ok(Some(letter)) = name.resolve_char_ref() {
        return Some(letter).filter(|letter| *letter != '\0');
    }
    match name.as_ref() {
        "amp" => Some('&'),
        "lt" => Some('<'),
        "gt" => Some('>'),
        "quot" => Some('"'),
        "apos" => Some('\''),
        _ => None,
    }
}

fn statement(node: &Node, place: usize) -> Result<BankStatement, CamtError> {
    let missing = |what: &str| CamtError::Missing { statement: place, what: what.to_owned() };
    // Where the first version says otherwise, its place comes last.
    let account = node
        .text(&[
            &["Acct", "Id", "IBAN"],
            &["Acct", "Id", "Othr", "Id"],
            &["Acct", "Id", "PrtryAcct", "Id"],
            &["Acct", "Id", "BBAN"],
        ])
        .ok_or_else(|| missing("the account has no number"))?;
    let balances: Vec<&Node> = node.all("Bal").collect();
    let of = |codes: &[&str]| {
        codes
            .iter()
            .find_map(|code| balances.iter().copied().find(|one| one.text(&BALANCE_CODE).as_deref() == Some(*code)))
    };
    // Opening: booked, or the closing balance of the day before, as banks say it.
    let opening = of(&["OPBD", "PRCD", "ITBD"]).ok_or_else(|| missing("it has no opening balance"))?;
    // Where a statement is cut into pages, an interim balance ends all but the last.
    let closing = of(&["CLBD"])
        .or_else(|| balances.iter().copied().rfind(|one| one.text(&BALANCE_CODE).as_deref() == Some("ITBD")))
        .ok_or_else(|| missing("it has no closing balance"))?;
    let code = node
        .text(&[&["Acct", "Ccy"]])
        .or_else(|| closing.get(&["Amt"]).and_then(|amount| amount.currency.clone()))
        .ok_or_else(|| missing("it has no currency"))?;
    let currency = Currency::of(&code).map_err(|_| missing(&format!("{code} is no currency that is known here")))?;
    let balance = |node: &Node| -> Result<Balance, CamtError> {
        let date = day(node.get(&["Dt"])).ok_or_else(|| missing("a balance has no date"))?;
        // The closing balance of the day before opens the next one.
        let before = node.text(&BALANCE_CODE).as_deref() == Some("PRCD");
        let date = if before { date.succ_opt().unwrap_or(date) } else { date };
        Ok(Balance { date, amount: signed(node, currency).ok_or_else(|| missing("a balance cannot be read"))? })
    };
    let mut lines = Vec::new();
    for (at, entry) in node.all("Ntry").enumerate() {
        // What is expected or only told is no line of the account yet.
        let status = entry.text(&[&["Sts", "Cd"], &["Sts"]]).unwrap_or_default();
        if matches!(status.as_str(), "PDNG" | "INFO" | "FUTR") {
            continue;
        }
        let entry = entry_lines(entry, currency)
            .ok_or_else(|| missing(&format!("entry {} has no amount or no date that can be read", at + 1)))?;
        lines.extend(entry);
    }
    Ok(BankStatement {
        bank_id: node.text(&[&["Id"]]).unwrap_or_default(),
        account,
        currency,
        opening: balance(opening)?,
        closing: balance(closing)?,
        lines,
    })
}

/// The day that stands in an element: as a date, or as a date with its time.
fn day(node: Option<&Node>) -> Option<NaiveDate> {
    let text = node?.text(&[&["Dt"], &["DtTm"], &[]])?;
    text.get(..10)?.parse().ok()
}

/// An amount with its sign, in that currency.
fn signed(node: &Node, currency: Currency) -> Option<Money> {
    let amount = node.get(&["Amt"])?;
    if amount.currency.as_deref().is_some_and(|code| code != currency.code()) {
        return None;
    }
    let money = decimal(&amount.text, currency)?;
    match node.text(&[&["CdtDbtInd"]]).as_deref() {
        Some("CRDT") => Some(money),
        Some("DBIT") => Some(-money),
        _ => None,
    }
}

/// A decimal as XML writes it: more places than the currency has are allowed where they are zero.
fn decimal(text: &str, currency: Currency) -> Option<Money> {
    let text = text.trim();
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { text };
    currency.parse(if text.is_empty() { "0" } else { text }).ok().filter(|money| *money >= Money::ZERO)
}

/// The lines of an entry: one for each transaction of a batch where they come to it, else one for all.
fn entry_lines(entry: &Node, currency: Currency) -> Option<Vec<BankLine>> {
    let amount = signed(entry, currency)?;
    let booked_on = day(entry.get(&["BookgDt"])).or_else(|| day(entry.get(&["ValDt"])))?;
    let turned = entry.text(&[&["RvslInd"]]).as_deref() == Some("true");
    let details: Vec<&Node> =
        entry.all("NtryDtls").flat_map(|details| details.all("TxDtls")).chain(entry.all("TxDtls")).collect();
    let code = |part: &[&str]| entry.text(&[&[&["BkTxCd", "Domn"], part].concat()]).unwrap_or_default();
    let sub = code(&["Fmly", "SubFmlyCd"]);
    let kind = match turned {
        true => BankLineKind::Returned,
        false => BankLineKind::of_code(&code(&["Cd"]), &code(&["Fmly", "Cd"]), &sub),
    };
    let of = |details: Option<&Node>, amount: Money| {
        // Whose account is the other one turns with the direction of the money.
        let incoming = amount.is_positive() != turned;
        let side = if incoming { "Dbtr" } else { "Cdtr" };
        let account = if incoming { "DbtrAcct" } else { "CdtrAcct" };
        let text = |paths: &[&[&str]]| details.and_then(|details| details.text(paths));
        let unstructured: Vec<String> = details
            .and_then(|details| details.get(&["RmtInf"]))
            .map(|info| info.all("Ustrd").map(|one| one.text.trim().to_owned()).collect())
            .unwrap_or_default();
        let advised = details.map(|details| advised(details, currency)).unwrap_or_default();
        // Where each has its amount, it is kept with that.
        let referred: Vec<String> = details
            .filter(|_| advised.is_empty())
            .and_then(|details| details.get(&["RmtInf"]))
            .map(|info| {
                let documents = info.all("Strd").flat_map(|one| one.all("RfrdDocInf"));
                documents.filter_map(|one| one.text(&[&["Nb"], &["RfrdDocNb"]])).collect()
            })
            .unwrap_or_default();
        let said = !unstructured.is_empty() || !referred.is_empty() || !advised.is_empty();
        let more = entry.text(&[&["AddtlNtryInf"]]).filter(|_| !said);
        let words: Vec<String> = unstructured.into_iter().chain(referred).chain(more).collect();
        BankLine {
            booked_on,
            value_on: day(entry.get(&["ValDt"])),
            amount,
            kind,
            words: words.join(" ").chars().take(LONGEST_WORDS).collect(),
            reference: text(&[&["RmtInf", "Strd", "CdtrRefInf", "Ref"], &["RmtInf", "Strd", "CdtrRefInf", "CdtrRef"]]),
            party: text(&[&["RltdPties", side, "Pty", "Nm"], &["RltdPties", side, "Nm"]]),
            party_account: text(&[
                &["RltdPties", account, "Id", "IBAN"],
                &["RltdPties", account, "Id", "Othr", "Id"],
                &["RltdPties", account, "Id", "PrtryAcct", "Id"],
            ]),
            bank_reference: text(&[&["Refs", "AcctSvcrRef"]]).or_else(|| entry.text(&[&["AcctSvcrRef"]])),
            advised,
        }
    };
    let parts: Option<Vec<Money>> = details.iter().map(|details| transaction(details, entry, currency)).collect();
    let parted = match parts {
        Some(parts) if details.len() > 1 && parts.iter().copied().sum::<Money>() == amount => {
            details.iter().zip(parts).map(|(details, amount)| (Some(*details), amount)).collect()
        }
        _ => vec![(details.first().copied().filter(|_| details.len() == 1), amount)],
    };
    let alone = parted.len() == 1;
    let lines = parted.into_iter().flat_map(|(details, amount)| {
        // Charges of the whole entry are those of its only transaction.
        let within =
            details.and_then(|one| charges(one, currency)).or_else(|| charges(entry, currency).filter(|_| alone));
        match within.filter(|within| within.are_in(details.unwrap_or(entry), amount, currency)) {
            Some(within) => {
                let fee = BankLine {
                    kind: BankLineKind::Fee,
                    reference: None,
                    party: None,
                    party_account: None,
                    advised: Vec::new(),
                    ..of(details, -within.amount)
                };
                let words = format!("Charges {}", fee.words).trim().chars().take(LONGEST_WORDS).collect();
                vec![of(details, amount + within.amount), BankLine { words, ..fee }]
            }
            None => vec![of(details, amount)],
        }
    });
    Some(lines.collect())
}

/// What the bank took for a transaction.
struct Charges {
    /// Above zero.
    amount: Money,
    /// Whether it is said that the amount of the line is less, or more, by them.
    included: Option<bool>,
}

impl Charges {
    /// Whether the bank took them out of what it booked: what was sent, or the transaction was over, is what is left without them, or it
    /// says so. Charges that are booked as a line of their own are not in it.
    fn are_in(&self, details: &Node, booked: Money, currency: Currency) -> bool {
        let whole = booked + self.amount;
        let said = |name| details.get(&["AmtDtls", name, "Amt"]).filter(|one| same_currency(one, currency));
        let mut over = [said("TxAmt"), said("InstdAmt")].into_iter().flatten();
        if over.any(|one| decimal(&one.text, currency) == Some(whole.abs())) {
            return !whole.is_zero();
        }
        // An incoming payment of nothing but charges would be none.
        self.included == Some(true) && (booked.is_positive() || (-booked) > self.amount)
    }
}

fn same_currency(node: &Node, currency: Currency) -> bool {
    node.currency.as_deref().is_none_or(|code| code == currency.code())
}

/// The charges of a transaction or an entry, in the account's currency; none where there are none, or some cannot be read. What the bank
/// gives back is no charge.
fn charges(node: &Node, currency: Currency) -> Option<Charges> {
    // A record each; in older versions each stands by itself.
    let records: Vec<&Node> = node
        .all("Chrgs")
        .flat_map(|one| if one.get(&["Rcrd"]).is_some() { one.all("Rcrd").collect() } else { vec![one] })
        .filter(|one| one.get(&["Amt"]).is_some())
        .collect();
    let amount = |one: &&Node| {
        let node = one.get(&["Amt"])?;
        let money = decimal(&node.text, currency).filter(|_| same_currency(node, currency))?;
        let debit = one.text(&[&["CdtDbtInd"]]).as_deref() != Some("CRDT");
        debit.then_some(money)
    };
    let amount: Money = records.iter().map(amount).sum::<Option<Money>>()?;
    let said = records.iter().find_map(|one| one.text(&[&["ChrgInclInd"]]));
    amount.is_positive().then(|| Charges { amount, included: said.map(|text| text == "true" || text == "1") })
}

/// What a payer says its transfer is for: each referred document with what is paid on it, and what was taken off. Empty where it
/// does not say what is paid on every one.
fn advised(details: &Node, currency: Currency) -> Vec<Advised> {
    let Some(info) = details.get(&["RmtInf"]) else { return Vec::new() };
    let one = |node: &Node| {
        // Amounts of one document stand together, or each by itself.
        let amounts: Vec<&Node> = node.all("RfrdDocAmt").collect();
        let all = |name: &'static str| amounts.iter().flat_map(move |one| one.all(name));
        let amount = |node: &Node| decimal(&node.text, currency).filter(|_| same_currency(node, currency));
        let discounts = all("DscntApldAmt").map(|one| amount(one.get(&["Amt"]).unwrap_or(one)));
        let adjusted = all("AdjstmntAmtAndRsn").map(|one| {
            let money = amount(one.get(&["Amt"])?)?;
            // What is debited is taken off what is paid.
            Some(if one.text(&[&["CdtDbtInd"]]).as_deref() == Some("CRDT") { -money } else { money })
        });
        let reason = all("AdjstmntAmtAndRsn").find_map(|one| one.text(&[&["AddtlInf"], &["Rsn"]]));
        Some(Advised {
            number: node.text(&DOCUMENT_NUMBER)?,
            paid: amount(all("RmtdAmt").next()?)?,
            discount: discounts.sum::<Option<Money>>()?,
            deducted: adjusted.sum::<Option<Money>>()?.max(Money::ZERO),
            words: reason.unwrap_or_default(),
        })
    };
    info.all("Strd")
        .filter(|node| node.get(&["RfrdDocInf"]).is_some())
        .map(one)
        .collect::<Option<Vec<_>>>()
        .unwrap_or_default()
}

/// What one transaction of a batch moved: its own amount, in the direction of its own or of the entry.
fn transaction(details: &Node, entry: &Node, currency: Currency) -> Option<Money> {
    let amount = details.get(&["Amt"]).or_else(|| details.get(&["AmtDtls", "TxAmt", "Amt"]))?;
    if amount.currency.as_deref().is_some_and(|code| code != currency.code()) {
        return None;
    }
    let money = decimal(&amount.text, currency)?;
    match details.text(&[&["CdtDbtInd"]]).or_else(|| entry.text(&[&["CdtDbtInd"]])).as_deref() {
        Some("CRDT") => Some(money),
        Some("DBIT") => Some(-money),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn eur() -> Currency {
        Currency::of("EUR").unwrap()
    }

    fn day(text: &str) -> NaiveDate {
        text.parse().unwrap()
    }

    fn statement() -> BankStatement {
        let transfer = BankLine {
            value_on: Some(day("2026-03-17")),
            reference: Some("RF27I3304".to_owned()),
            party: Some("Saltmarsh & Sons <Honey>".to_owned()),
            party_account: Some("XX33MARR0001234567".to_owned()),
            bank_reference: Some("B-1".to_owned()),
            advised: vec![
                Advised { number: "I-3304".to_owned(), paid: Money(18_000), ..Advised::default() },
                Advised {
                    number: "I-3305 & 6".to_owned(),
                    paid: Money(81),
                    discount: Money(2),
                    deducted: Money(7),
                    words: "broken jar".to_owned(),
                },
            ],
            ..BankLine::plain(day("2026-03-17"), Money(18_081), "thanks for \"everything\"")
        };
        let fee = BankLine {
            kind: BankLineKind::Fee,
            value_on: Some(day("2026-03-17")),
            ..BankLine::plain(day("2026-03-17"), Money(-650), "Account fee")
        };
        BankStatement {
            bank_id: "2026-077".to_owned(),
            account: "XX33MARR0001234567".to_owned(),
            currency: eur(),
            opening: Balance { date: day("2026-03-17"), amount: Money(-1_000) },
            closing: Balance { date: day("2026-03-17"), amount: Money(16_431) },
            lines: vec![transfer, fee],
        }
    }

    #[test]
    fn what_is_written_is_read() {
        let file = write("M-1", "2026-03-17T18:00:00", &[statement(), statement()]);
        assert_eq!(read(file.as_bytes()), Ok(vec![statement(), statement()]));
        // `make statements-check` holds it against the schema.
        if let Ok(place) = std::env::var("WRITE_CAMT") {
            std::fs::write(place, &file).unwrap();
        }
    }

    /// An older version as a bank may write it: by hand after the schema of 001.02, with a batch, what is pending, a date with its
    /// time, the name of the party in its old place, and a batch whose parts do not come to it.
    #[test]
    fn an_older_version_with_a_batch_is_read() {
        let file = r#"<?xml version="1.0"?><c:Document xmlns:c="urn:iso:std:iso:20022:tech:xsd:camt.053.001.02"><c:BkToCstmrStmt>
          <c:GrpHdr><c:MsgId>1</c:MsgId><c:CreDtTm>2026-03-17T18:00:00</c:CreDtTm></c:GrpHdr>
          <c:Stmt><c:Id>9</c:Id><c:CreDtTm>2026-03-17T18:00:00</c:CreDtTm><c:Acct><c:Id><c:Othr><c:Id>4711</c:Id></c:Othr></c:Id></c:Acct>
          <c:Bal><c:Tp><c:CdOrPrtry><c:Cd>PRCD</c:Cd></c:CdOrPrtry></c:Tp><c:Amt Ccy="EUR">10</c:Amt><c:CdtDbtInd>CRDT</c:CdtDbtInd><c:Dt><c:Dt>2026-03-16</c:Dt></c:Dt></c:Bal>
          <c:Bal><c:Tp><c:CdOrPrtry><c:Cd>CLBD</c:Cd></c:CdOrPrtry></c:Tp><c:Amt Ccy="EUR">40.50000</c:Amt><c:CdtDbtInd>CRDT</c:CdtDbtInd><c:Dt><c:Dt>2026-03-17</c:Dt></c:Dt></c:Bal>
          <c:Ntry><c:Amt Ccy="EUR">30</c:Amt><c:CdtDbtInd>CRDT</c:CdtDbtInd><c:Sts>BOOK</c:Sts><c:BookgDt><c:DtTm>2026-03-17T09:00:00</c:DtTm></c:BookgDt>
            <c:BkTxCd/><c:NtryDtls>
              <c:TxDtls><c:AmtDtls><c:TxAmt><c:Amt Ccy="EUR">12.50</c:Amt></c:TxAmt></c:AmtDtls><c:RltdPties><c:Dbtr><c:Nm>Tern</c:Nm></c:Dbtr></c:RltdPties>
                <c:RmtInf><c:Ustrd>I-1</c:Ustrd><c:Ustrd>and I-2</c:Ustrd></c:RmtInf></c:TxDtls>
              <c:TxDtls><c:AmtDtls><c:TxAmt><c:Amt Ccy="EUR">17.50</c:Amt></c:TxAmt></c:AmtDtls>
                <c:RmtInf><c:Strd><c:RfrdDocInf><c:Nb>I-3</c:Nb></c:RfrdDocInf></c:Strd></c:RmtInf></c:TxDtls></c:NtryDtls></c:Ntry>
          <c:Ntry><c:Amt Ccy="EUR">99</c:Amt><c:CdtDbtInd>CRDT</c:CdtDbtInd><c:Sts>PDNG</c:Sts><c:BookgDt><c:Dt>2026-03-18</c:Dt></c:BookgDt><c:BkTxCd/></c:Ntry>
          <c:Ntry><c:Amt Ccy="EUR">0.50</c:Amt><c:CdtDbtInd>CRDT</c:CdtDbtInd><c:RvslInd>true</c:RvslInd><c:Sts>BOOK</c:Sts><c:BookgDt><c:Dt>2026-03-17</c:Dt></c:BookgDt><c:BkTxCd/>
            <c:NtryDtls><c:TxDtls><c:Amt Ccy="EUR">0.20</c:Amt></c:TxDtls><c:TxDtls><c:Amt Ccy="EUR">0.20</c:Amt></c:TxDtls></c:NtryDtls>
            <c:AddtlNtryInf>fee given back</c:AddtlNtryInf></c:Ntry>
          </c:Stmt></c:BkToCstmrStmt></c:Document>"#;
        let statement = read(file.as_bytes()).unwrap().remove(0);
        assert_eq!(
            (statement.account.as_str(), statement.opening.amount, statement.closing.amount),
            ("4711", Money(1_000), Money(4_050))
        );
        assert_eq!(statement.opening.date, day("2026-03-17"), "the day after the balance before");
        let lines: Vec<(i64, &str, Option<&str>)> =
            statement.lines.iter().map(|line| (line.amount.0, line.words.as_str(), line.party.as_deref())).collect();
        assert_eq!(lines, [(1_250, "I-1 and I-2", Some("Tern")), (1_750, "I-3", None), (50, "fee given back", None)]);
        assert_eq!(statement.lines[2].kind, BankLineKind::Returned);
    }

    /// Every version, made by a library that knows nothing of this project and valid by its schema (`tools/make_statements.py`).
    #[test]
    fn every_version_says_the_same() {
        let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data");
        for version in 1..=14 {
            let file = std::fs::read(folder.join(format!("camt.053.001.{version:02}.xml"))).unwrap();
            let statement = read(&file).unwrap().remove(0);
            assert_eq!((statement.account.as_str(), statement.bank_id.as_str()), ("47110815", "2026-077"), "{version}");
            let balances = [(statement.opening.amount.0, 10_000), (statement.closing.amount.0, 124_340)];
            assert!(balances.iter().all(|(is, wanted)| is == wanted), "{version}: {balances:?}");
            let lines: Vec<i64> = statement.lines.iter().map(|line| line.amount.0).collect();
            assert_eq!(lines, [12_000, 18_000, 10_000, -350, 75_000, 310, -620], "{version}");
            let [first, second, third, fee, listed, back, _] = statement.lines.as_slice() else { panic!("{version}") };
            assert_eq!(first.party.as_deref(), Some("Tern Point"), "{version}");
            assert_eq!(
                (first.party_account.as_deref(), first.words.as_str()),
                (Some("4711"), "paying I-3001"),
                "{version}"
            );
            assert_eq!(second.reference.as_deref(), Some("RF27I3304"), "{version}");
            assert_eq!((third.words.as_str(), fee.kind), ("I-3002", BankLineKind::Fee), "{version}");
            assert_eq!(back.kind, BankLineKind::Returned, "{version}");
            let advised: Vec<_> =
                listed.advised.iter().map(|one| (one.number.as_str(), one.paid.0, one.discount.0)).collect();
            // From the twelfth on an amount says by a code what it is; the codes are no part of the schema, and none is taken for
            // another: what is named is looked for by its number.
            match version {
                12.. => assert_eq!((advised.len(), listed.words.as_str()), (0, "I-3003 I-3004"), "{version}"),
                _ => assert_eq!(advised, [("I-3003", 73_500, 1_500), ("I-3004", 1_500, 0)], "{version}"),
            }
        }
    }

    /// What the bank takes out of a payment is a line of its own: the customer paid all of it. By hand after 001.08 and 001.02.
    #[test]
    fn charges_in_a_transaction_are_parted_from_it() {
        let entry = |amount: &str, direction: &str, details: &str| {
            format!(
                "<Ntry><Amt Ccy=\"EUR\">{amount}</Amt><CdtDbtInd>{direction}</CdtDbtInd><Sts><Cd>BOOK</Cd></Sts><BookgDt><Dt>2026-03-17</Dt></BookgDt>
                 <BkTxCd/><NtryDtls><TxDtls>{details}<RmtInf><Ustrd>I-1</Ustrd></RmtInf></TxDtls></NtryDtls></Ntry>"
            )
        };
        let charge = |amount: &str, said: &str| {
            format!("<Chrgs><Rcrd><Amt Ccy=\"EUR\">{amount}</Amt><CdtDbtInd>DBIT</CdtDbtInd>{said}</Rcrd></Chrgs>")
        };
        let over = |amount: &str| format!("<AmtDtls><TxAmt><Amt Ccy=\"EUR\">{amount}</Amt></TxAmt></AmtDtls>");
        let included = "<ChrgInclInd>true</ChrgInclInd>";
        let cases = [
            // 100.00 were sent, 96.50 came; said, or told by what the transaction was over.
            (
                entry("96.50", "CRDT", &charge("3.50", included)),
                vec![(10_000, BankLineKind::Transfer), (-350, BankLineKind::Fee)],
            ),
            (
                entry("96.50", "CRDT", &(over("100.00") + &charge("3.50", ""))),
                vec![(10_000, BankLineKind::Transfer), (-350, BankLineKind::Fee)],
            ),
            // 100.00 were sent off, 103.50 left.
            (
                entry("103.50", "DBIT", &(over("100.00") + &charge("3.50", ""))),
                vec![(-10_000, BankLineKind::Transfer), (-350, BankLineKind::Fee)],
            ),
            // Two charges of one payment, as 001.02 writes them.
            (
                entry(
                    "96.50",
                    "CRDT",
                    &(over("100.00")
                        + "<Chrgs><Amt Ccy=\"EUR\">3</Amt><CdtDbtInd>DBIT</CdtDbtInd></Chrgs><Chrgs><Amt Ccy=\"EUR\">0.5</Amt></Chrgs>"),
                ),
                vec![(10_000, BankLineKind::Transfer), (-350, BankLineKind::Fee)],
            ),
            // What was sent says it where the transaction itself was over what came.
            (
                entry(
                    "96.50",
                    "CRDT",
                    &("<AmtDtls><InstdAmt><Amt Ccy=\"EUR\">100</Amt></InstdAmt><TxAmt><Amt Ccy=\"EUR\">96.50</Amt></TxAmt></AmtDtls>"
                        .to_owned()
                        + &charge("3.50", "")),
                ),
                vec![(10_000, BankLineKind::Transfer), (-350, BankLineKind::Fee)],
            ),
            // Charges that are booked by themselves, in another currency, given back, or not said to be in it.
            (entry("100.00", "CRDT", &(over("100.00") + &charge("3.50", ""))), vec![(10_000, BankLineKind::Transfer)]),
            (entry("96.50", "CRDT", &charge("3.50", "")), vec![(9_650, BankLineKind::Transfer)]),
            (
                entry("96.50", "CRDT", &charge("3.50", included).replace("EUR", "GBP")),
                vec![(9_650, BankLineKind::Transfer)],
            ),
            (
                entry("96.50", "CRDT", &charge("3.50", included).replace("DBIT", "CRDT")),
                vec![(9_650, BankLineKind::Transfer)],
            ),
        ];
        let whole = write("M-1", "2026-03-17T18:00:00", &[BankStatement { lines: Vec::new(), ..statement() }]);
        for (entry, lines) in cases {
            let file = whole.replace("</Stmt>", &format!("{entry}</Stmt>"));
            let read = read(file.as_bytes()).unwrap().remove(0);
            let found: Vec<(i64, BankLineKind)> = read.lines.iter().map(|line| (line.amount.0, line.kind)).collect();
            assert_eq!(found, lines, "{entry}");
            assert!(read.lines.iter().all(|line| line.words.ends_with("I-1")));
        }
    }

    #[test]
    fn what_is_no_statement_is_refused() {
        let good = write("M-1", "2026-03-17T18:00:00", &[statement()]);
        let broken = &good[..good.len() - 30];
        assert!(matches!(read(broken.as_bytes()), Err(CamtError::Broken(_))), "{:?}", read(broken.as_bytes()));
        for (from, to, what) in [
            ("OPBD", "XXXX", "it has no opening balance"),
            ("CLBD", "XXXX", "it has no closing balance"),
            ("<Ccy>EUR</Ccy>", "<Ccy>XYZ</Ccy>", "XYZ is no currency that is known here"),
            ("Ccy=\"EUR\">180.81", "Ccy=\"GBP\">180.81", "entry 1 has no amount or no date that can be read"),
            (">180.81<", ">1e9<", "entry 1 has no amount or no date that can be read"),
            (
                "<BookgDt><Dt>2026-03-17</Dt></BookgDt><ValDt><Dt>2026-03-17</Dt></ValDt>",
                "",
                "entry 1 has no amount or no date that can be read",
            ),
        ] {
            let wrong = good.replacen(from, to, 9);
            assert_eq!(
                read(wrong.as_bytes()),
                Err(CamtError::Missing { statement: 1, what: what.to_owned() }),
                "{from}"
            );
        }
        assert_eq!(read(b"<html><body>no</body></html>"), Err(CamtError::NotCamt));
        assert_eq!(read(b""), Err(CamtError::NotCamt));
        // Entities, whether they blow up or read a file.
        for hostile in [
            "<!DOCTYPE d [<!ENTITY a \"x\"><!ENTITY b \"&a;&a;&a;\">]><Document>&b;</Document>",
            "<?xml version=\"1.0\"?><!DOCTYPE d SYSTEM \"file:///etc/hostname\"><Document/>",
            "<Document><BkToCstmrStmt>&other;</BkToCstmrStmt></Document>",
        ] {
            assert_eq!(read(hostile.as_bytes()), Err(CamtError::Hostile), "{hostile}");
        }
        let deep = format!("<Document><BkToCstmrStmt>{}", "<a>".repeat(100_000));
        assert_eq!(read(deep.as_bytes()), Err(CamtError::NotCamt));
        assert_eq!(read(&vec![b' '; LARGEST + 1]), Err(CamtError::TooLarge));
    }
}
