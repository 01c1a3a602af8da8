//! Writing camt.053.001.08.

use till_core::bank::{BankLine, BankLineKind, BankStatement};
use till_core::money::{Currency, Money};
use till_core::remittance::Advised;

/// Statements as camt.053.001.08: what the stand-in bank of the demo and of the tests writes. `made` is the day and time of the
/// message.
pub fn write(message: &str, made: &str, statements: &[BankStatement]) -> String {
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    out.push_str("<Document xmlns=\"urn:iso:std:iso:20022:tech:xsd:camt.053.001.08\"><BkToCstmrStmt>\n");
    out.push_str(&format!("<GrpHdr><MsgId>{}</MsgId><CreDtTm>{made}</CreDtTm></GrpHdr>\n", safe(message)));
    for statement in statements {
        out.push_str(&format!("<Stmt><Id>{}</Id><CreDtTm>{made}</CreDtTm>", safe(&statement.bank_id)));
        let account = match till_core::bank::is_iban(&statement.account) {
            true => format!("<IBAN>{}</IBAN>", safe(&statement.account)),
            false => format!("<Othr><Id>{}</Id></Othr>", safe(&statement.account)),
        };
        out.push_str(&format!("<Acct><Id>{account}</Id><Ccy>{}</Ccy></Acct>\n", statement.currency.code()));
        for (code, balance) in [("OPBD", statement.opening), ("CLBD", statement.closing)] {
            out.push_str(&format!(
                "<Bal><Tp><CdOrPrtry><Cd>{code}</Cd></CdOrPrtry></Tp>{}<Dt><Dt>{}</Dt></Dt></Bal>\n",
                amount(statement.currency, balance.amount),
                balance.date
            ));
        }
        statement.lines.iter().for_each(|line| write_entry(&mut out, statement.currency, line));
        out.push_str("</Stmt>\n");
    }
    out.push_str("</BkToCstmrStmt></Document>\n");
    out
}

fn amount(currency: Currency, amount: Money) -> String {
    let direction = if amount < Money::ZERO { "DBIT" } else { "CRDT" };
    let digits = currency.format(amount.abs());
    format!("<Amt Ccy=\"{}\">{digits}</Amt><CdtDbtInd>{direction}</CdtDbtInd>", currency.code())
}

fn write_entry(out: &mut String, currency: Currency, line: &BankLine) {
    let (domain, family, sub) = match line.kind {
        BankLineKind::Fee => ("ACMT", "MDOP", "CHRG"),
        BankLineKind::Interest => ("ACMT", "MCOP", "INTR"),
        BankLineKind::Returned => ("PMNT", "RCHQ", "UPCQ"),
        BankLineKind::Deposit => ("PMNT", "CNTR", "CDPT"),
        BankLineKind::CardPayout => ("PMNT", "MCRD", "DAJT"),
        BankLineKind::Transfer if line.amount.is_positive() => ("PMNT", "RCDT", "ESCT"),
        BankLineKind::Transfer => ("PMNT", "ICDT", "ESCT"),
    };
    out.push_str(&format!("<Ntry>{}<Sts><Cd>BOOK</Cd></Sts>", amount(currency, line.amount)));
    out.push_str(&format!("<BookgDt><Dt>{}</Dt></BookgDt>", line.booked_on));
    out.push_str(&format!("<ValDt><Dt>{}</Dt></ValDt>", line.value_on.unwrap_or(line.booked_on)));
    let reference = line.bank_reference.as_deref().map(|text| format!("<AcctSvcrRef>{}</AcctSvcrRef>", safe(text)));
    out.push_str(&reference.clone().unwrap_or_default());
    out.push_str(&format!(
        "<BkTxCd><Domn><Cd>{domain}</Cd><Fmly><Cd>{family}</Cd><SubFmlyCd>{sub}</SubFmlyCd></Fmly></Domn></BkTxCd>"
    ));
    out.push_str("<NtryDtls><TxDtls>");
    out.push_str(&amount(currency, line.amount));
    let side = if line.amount.is_positive() { "Dbtr" } else { "Cdtr" };
    let party = line.party.as_deref().map(|name| format!("<{side}><Pty><Nm>{}</Nm></Pty></{side}>", safe(name)));
    let account = line.party_account.as_deref().map(|number| {
        let id = match till_core::bank::is_iban(number) {
            true => format!("<IBAN>{}</IBAN>", safe(number)),
            false => format!("<Othr><Id>{}</Id></Othr>", safe(number)),
        };
        format!("<{side}Acct><Id>{id}</Id></{side}Acct>")
    });
    if party.is_some() || account.is_some() {
        let (party, account) = (party.unwrap_or_default(), account.unwrap_or_default());
        out.push_str(&format!("<RltdPties>{party}{account}</RltdPties>"));
    }
    let words = Some(line.words.as_str()).filter(|words| !words.is_empty());
    let words: Vec<char> = words.unwrap_or_default().chars().collect();
    let unstructured: String =
        words.chunks(140).map(|part| format!("<Ustrd>{}</Ustrd>", safe(&part.iter().collect::<String>()))).collect();
    let structured = line.reference.as_deref().map(|reference| {
        format!(
            "<Strd><CdtrRefInf><Tp><CdOrPrtry><Cd>SCOR</Cd></CdOrPrtry></Tp><Ref>{}</Ref></CdtrRefInf></Strd>",
            safe(reference)
        )
    });
    let documents: String = line.advised.iter().map(|one| referred(one, currency)).collect();
    let structured = structured.unwrap_or_default();
    if !unstructured.is_empty() || !structured.is_empty() || !documents.is_empty() {
        out.push_str(&format!("<RmtInf>{unstructured}{structured}{documents}</RmtInf>"));
    }
    out.push_str("</TxDtls></NtryDtls></Ntry>\n");
}

/// A document that a transfer says it pays, with what was taken off.
fn referred(one: &Advised, currency: Currency) -> String {
    let amount = |name: &str, money: Money| {
        format!("<{name} Ccy=\"{}\">{}</{name}>", currency.code(), currency.format(money.abs()))
    };
    let discount = match one.discount.is_zero() {
        true => String::new(),
        false => format!("<DscntApldAmt>{}</DscntApldAmt>", amount("Amt", one.discount)),
    };
    let deducted = match one.deducted.is_zero() {
        true => String::new(),
        false => {
            let words: String = one.words.chars().take(140).collect();
            let words = if words.is_empty() { words } else { format!("<AddtlInf>{}</AddtlInf>", safe(&words)) };
            let money = amount("Amt", one.deducted);
            format!("<AdjstmntAmtAndRsn>{money}<CdtDbtInd>DBIT</CdtDbtInd>{words}</AdjstmntAmtAndRsn>")
        }
    };
    let number: String = one.number.chars().take(35).collect();
    format!(
        "<Strd><RfrdDocInf><Nb>{}</Nb></RfrdDocInf><RfrdDocAmt>{discount}{deducted}{}</RfrdDocAmt></Strd>",
        safe(&number),
        amount("RmtdAmt", one.paid)
    )
}

/// A text that means nothing to XML.
fn safe(text: &str) -> String {
    quick_xml::escape::escape(text).into_owned()
}
