//! Writing what takes something back: a credit memo, or the invoice of an exchange that leaves something to pay. What takes back
//! is written with its minus.

use sqlx::SqliteConnection;
use till_core::calendar::Terms;
use till_core::fixed::Rate;
use till_core::ids::{DocumentKind, DocumentRef, EntryId, ReturnLineId};
use till_core::invoice::{InvoiceDecision, InvoiceDocument, InvoiceLine, LinkRole};
use till_core::money::Money;
use till_core::prepayment::Part;
use till_core::tape::Tape;
use till_core::tax::TaxLine;

use super::link;
use crate::Result;
use crate::convert::{json, terms_json};
use crate::open_items::next_id;
use crate::rules::next_numbers;
use crate::writing::Writing;

/// What takes something back, with its id and number, before it is written: a credit memo, or the invoice of an exchange
/// that leaves something to pay.
#[derive(Debug, Clone)]
pub(crate) struct NewMemo {
    pub(crate) id: i64,
    pub(crate) number: String,
    pub(crate) kind: DocumentKind,
    pub(crate) sequence: i64,
}

impl NewMemo {
    /// It, as what its entry comes from.
    pub(crate) fn source(&self) -> DocumentRef {
        DocumentRef { kind: self.kind, id: self.id, number: self.number.clone() }
    }
}

/// The next of a kind.
pub(crate) async fn new_memo(writing: &mut Writing<'_>, kind: DocumentKind) -> Result<NewMemo> {
    let (prefix, sequence) = next_numbers(writing, kind.word(), 1).await?;
    let id = next_id(writing, "documents").await?;
    Ok(NewMemo { id, number: format!("{prefix}{sequence}"), kind, sequence })
}

/// What a credit memo says.
pub(crate) struct MemoToWrite<'a> {
    /// The invoice it takes something back from, and whether all of it.
    pub(crate) of: (i64, LinkRole),
    /// What it takes back, without a minus; its dates are its own.
    pub(crate) document: &'a InvoiceDocument,
    /// The line of the invoice that each of its lines takes back, by position there, with the cost that
    /// goes back with it.
    pub(crate) credits: &'a [(usize, Money)],
    /// The line of a return that the goods of each of its lines came back on; empty where none did.
    pub(crate) returned: &'a [Option<ReturnLineId>],
    /// What each of its lines gives up of what was billed in advance; empty where none does.
    pub(crate) given_up: &'a [Part],
    /// What goes the other way.
    pub(crate) supplied: Option<&'a InvoiceDecision>,
    /// What is left of it, in base currency: above zero to pay, below zero to credit.
    pub(crate) left_base: Money,
    /// When what is left to pay is due; none on a credit memo.
    pub(crate) to_pay: Option<&'a Terms>,
    /// Why.
    pub(crate) reason: &'a str,
    /// Its arithmetic.
    pub(crate) tape: &'a Tape,
}

impl MemoToWrite<'_> {
    fn other_way(&self) -> Option<&InvoiceDocument> {
        self.supplied.and_then(|supplied| supplied.document.as_ref())
    }

    /// Where the lines it takes back begin, and where those that go the other way: what is to pay says these first.
    fn places(&self) -> (usize, usize) {
        match self.to_pay {
            Some(_) => (self.other_way().map_or(0, |document| document.lines.len()), 0),
            None => (0, self.document.lines.len()),
        }
    }
}

/// Writes it, with the minus of what takes back, as a draft: it is posted with [`post_memo`].
pub(crate) async fn write_memo(
    connection: &mut SqliteConnection,
    memo: &NewMemo,
    what: &MemoToWrite<'_>,
) -> Result<()> {
    let document = what.document;
    let invoice = what.of.0;
    let (currency, kind) = (document.currency.code(), memo.kind.word());
    let dated = document.document_date.date;
    let posted = document.posting_date.date;
    let other = what.other_way();
    // Its rate and how its tax was computed: of the invoice it takes back from, or of what is to pay.
    let own = other.filter(|_| what.to_pay.is_some()).unwrap_or(document);
    let (rate, computed) = (own.rate.scaled(), own.tax_computed.word());
    let of_other = |of: fn(&InvoiceDocument) -> Money| other.map_or(0, |other| of(other).0);
    let (due, terms) = match what.to_pay {
        Some(terms) => {
            let total = Money(of_other(|other| other.total)) - document.total;
            (terms.next_due(dated, total, total), Some(terms_json(terms)?))
        }
        None => (dated, None),
    };
    let tape = json(what.tape)?;
    let reason = what.reason.trim();
    let gross_priced = i64::from(document.gross_priced);
    let discount = document.discount.as_ref();
    let (percent, off) =
        (discount.and_then(|discount| discount.percent).map(Rate::scaled), discount.map(|discount| -discount.amount.0));
    let why = discount.map(|discount| &discount.reason);
    let (net, tax) = (of_other(|other| other.net) - document.net.0, of_other(|other| other.tax) - document.tax.0);
    let total = net + tax;
    let base = what.left_base.0;
    let lines = of_other(|other| other.lines_total) - document.lines_total.0;
    let tax_date = document.tax_date.max(other.map_or(document.tax_date, |other| other.tax_date));
    sqlx::query!(
        "INSERT INTO documents (id, kind, number, sequence, state, customer_id, document_date, posting_date, tax_date, due_date, currency, rate_e9,
                net_minor, tax_minor, total_minor, total_base_minor, bill_to_name, bill_to_address, bill_to_tax_id, terms,
                gross_priced, tax_computed, lines_minor, discount_e6, discount_minor, discount_reason, reason, tape)
         SELECT ?1, ?22, ?2, ?3, 'draft', customer_id, ?4, ?5, ?6, ?13, ?7, ?8, ?9, ?10, ?11, ?12, bill_to_name, bill_to_address,
                bill_to_tax_id, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?24 FROM documents WHERE id = ?23",
        memo.id, memo.number, memo.sequence, dated, posted, tax_date, currency, rate,
        net, tax, total, base, due, terms, gross_priced, computed, lines, percent, off, why, reason, kind, invoice, tape
    )
    .execute(&mut *connection)
    .await?;
    write_memo_lines(connection, memo.id, what).await?;
    if let Some((supplied, document)) = what.supplied.zip(what.other_way()) {
        write_supplied(connection, (memo.id, what.places().1), supplied, document).await?;
    }
    write_memo_taxes(connection, memo.id, what).await
}

/// Posts what was written, with its entry and that of the cost.
pub(crate) async fn post_memo(
    connection: &mut SqliteConnection,
    memo: &NewMemo,
    (invoice, role): (i64, LinkRole),
    (entry, cost_entry): (Option<EntryId>, Option<EntryId>),
) -> Result<()> {
    link(connection, memo.id, role, invoice).await?;
    let (entry, cost_entry) = (entry.map(|id| id.0), cost_entry.map(|id| id.0));
    sqlx::query!(
        "UPDATE documents SET state = 'posted', entry_id = ?, cost_entry_id = ? WHERE id = ?",
        entry,
        cost_entry,
        memo.id
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("UPDATE documents SET version = version + 1 WHERE id = ?", invoice).execute(connection).await?;
    Ok(())
}

/// What a line says beyond its amounts is what the line it takes back says.
async fn write_memo_lines(connection: &mut SqliteConnection, id: i64, what: &MemoToWrite<'_>) -> Result<()> {
    let document = what.document;
    let (first, _) = what.places();
    let rows: Vec<_> = document
        .lines
        .iter()
        .zip(what.credits)
        .enumerate()
        .map(|(at, (line, (credits, cost)))| {
            let given_up = what.given_up.get(at).filter(|part| !part.is_zero());
            let amounts = (-line.full, -line.amount, -line.off, -line.net, -*cost);
            let given_up = given_up.map(|part| (-part.tax, -part.net_base));
            let returned = what.returned.get(at).copied().flatten();
            (first + at, *credits, -line.quantity.scaled(), amounts, given_up, returned)
        })
        .collect();
    let (rows, invoice) = (json(&rows)?, what.of.0);
    sqlx::query!(
        "INSERT INTO document_lines (document_id, position, credits_line_id, quantity_e4, full_minor, amount_minor, off_minor, net_minor,
                cost_minor, kind, item_id, account, ordered_e4, billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6,
                order_price_e6, list_price_e6, price_reason, price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks,
                tax_code, tax_category, tax_rate_e6, tax_date, order_tax_code, tax_reason, prepaid_tax_minor, prepaid_base_minor, return_line_id)
         SELECT ?1, new.value ->> '$[0]', credited.id, new.value ->> '$[2]', new.value ->> '$[3][0]', new.value ->> '$[3][1]',
                new.value ->> '$[3][2]', new.value ->> '$[3][3]', new.value ->> '$[3][4]', kind, item_id, account, ordered_e4,
                billed_before_e4, still_to_come_e4, code, description, unit, unit_price_e6, order_price_e6, list_price_e6, price_reason,
                price_steps, discount_e6, discount_reason, surcharge_e6, surcharge_name, marks, tax_code, tax_category, tax_rate_e6,
                tax_date, order_tax_code, tax_reason, new.value ->> '$[4][0]', new.value ->> '$[4][1]', new.value ->> '$[5]'
         FROM jsonb_each(?2) AS new
         -- In this order: begun with the lines of the invoice, the list would be read once for each of them.
         CROSS JOIN document_lines AS credited ON credited.document_id = ?3 AND credited.position = new.value ->> '$[1]'",
        id,
        rows,
        invoice
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// The lines that go the other way, from a place of a document on: supplies of the day, as on an invoice.
pub(crate) async fn write_supplied(
    connection: &mut SqliteConnection,
    (id, first): (i64, usize),
    supplied: &InvoiceDecision,
    document: &InvoiceDocument,
) -> Result<()> {
    let leaves = |at: usize| {
        let leaving = supplied.leaving.iter().find(|leaving| leaving.line == at);
        leaving.map(|leaving| leaving.issues.iter().map(|issue| issue.quantity.scaled()).sum::<i64>())
    };
    let goods: Vec<_> = supplied.costs.iter().enumerate().map(|(at, cost)| (leaves(at), *cost)).collect();
    write_typed(connection, (id, first, 1), &document.lines, &goods).await
}

/// Lines that stand on nothing but what was typed, from a place of a document on, with a sign of minus one where they are
/// credited; with each what leaves stock with it, and its cost.
pub(crate) async fn write_typed(
    connection: &mut SqliteConnection,
    (id, first, sign): (i64, usize, i64),
    lines: &[InvoiceLine],
    goods: &[(Option<i64>, Money)],
) -> Result<()> {
    let money = |amount: Money| Money(sign * amount.0);
    let rows: Vec<_> = lines
        .iter()
        .zip(goods)
        .enumerate()
        .map(|(at, (line, (leaves, cost)))| {
            (
                (first + at, sign * line.quantity.scaled(), line.kind.word(), line.item, &line.account, leaves, cost),
                (&line.code, &line.description, &line.unit, line.unit_price.scaled(), line.list_price.scaled()),
                (line.discount.scaled(), &line.discount_reason, line.surcharge.scaled(), &line.surcharge_name),
                (
                    money(line.full),
                    money(line.amount),
                    money(line.off),
                    money(line.net),
                    &line.price_steps,
                    &line.marks,
                ),
                (&line.tax.code, line.tax.category, line.tax.rate.scaled(), line.tax_date, &line.tax_reason),
            )
        })
        .collect();
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO document_lines (document_id, position, quantity_e4, kind, item_id, account, leaves_e4, cost_minor, code, description, unit,
                unit_price_e6, order_price_e6, list_price_e6, discount_e6, discount_reason, surcharge_e6, surcharge_name, full_minor, amount_minor,
                off_minor, net_minor, price_steps, marks, tax_code, tax_category, tax_rate_e6, tax_date, tax_reason, ordered_e4, billed_before_e4,
                still_to_come_e4)
         SELECT ?1, value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]', value ->> '$[0][5]',
                value ->> '$[0][6]', value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[1][3]', value ->> '$[1][3]',
                value ->> '$[1][4]', value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]', value ->> '$[2][3]', value ->> '$[3][0]',
                value ->> '$[3][1]', value ->> '$[3][2]', value ->> '$[3][3]', value -> '$[3][4]', value -> '$[3][5]', value ->> '$[4][0]',
                value ->> '$[4][1]', value ->> '$[4][2]', value ->> '$[4][3]', value ->> '$[4][4]', value ->> '$[0][1]', 0, 0
         FROM jsonb_each(?2)",
        id,
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Tax on each side: what goes back with a minus, what is supplied without.
async fn write_memo_taxes(connection: &mut SqliteConnection, id: i64, what: &MemoToWrite<'_>) -> Result<()> {
    let back = what.document.taxes.iter().map(|tax| (tax, -tax.base, -tax.tax));
    let other = what.other_way().into_iter().flat_map(|document| &document.taxes).map(|tax| (tax, tax.base, tax.tax));
    let sides: Vec<_> = if what.to_pay.is_some() { other.chain(back).collect() } else { back.chain(other).collect() };
    write_taxes(connection, id, sides.into_iter()).await
}

/// The taxes of a document, each with its base and its tax as they are kept.
pub(crate) async fn write_taxes(
    connection: &mut SqliteConnection,
    id: i64,
    sides: impl Iterator<Item = (&TaxLine, Money, Money)>,
) -> Result<()> {
    let taxes: Vec<_> = sides
        .enumerate()
        .map(|(position, (tax, base, amount))| {
            (position, &tax.rate.code, tax.rate.category, tax.rate.rate.scaled(), base, amount)
        })
        .collect();
    let taxes = json(&taxes)?;
    sqlx::query!(
        "INSERT INTO document_taxes (document_id, position, tax_code, category, rate_e6, base_minor, tax_minor)
         SELECT ?1, value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5 FROM jsonb_each(?2)",
        id,
        taxes
    )
    .execute(connection)
    .await?;
    Ok(())
}
