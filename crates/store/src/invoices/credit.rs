//! Crediting lines of a posted invoice.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::{Account, AccountType};
use till_core::calendar::DocumentDate;
use till_core::checks::{Blocker, Step, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{
    ApprovalId, CreditMemoId, CustomerId, DocumentKind, DocumentRef, EntryId, InvoiceId, OrderId, ReturnLineId,
};
use till_core::invoice::credit::{
    BilledLine, CreditDecision, CreditInput, Credited, LeftToCredit, LineToCredit, What, decide,
};
use till_core::invoice::{InvoiceInput, LinkRole};
use till_core::money::{Currency, Money};
use till_core::open_items::Side;
use till_core::people::check_reason;
use till_core::tape::{Change, Tape};

use super::added::{AddedLine, Beside, load_added};
use super::inputs::{Head, ToDecide, inputs};
use super::load::{self, Picked};
use crate::approvals::{self, Asked, Go, Wish};
use crate::convert::known;
use crate::documents::{self, MemoToWrite};
use crate::rules::{Rules, date_order, exchange_rate};
use crate::writing::{Writing, set};
use crate::{
    Result, StoreError, customers, deliveries, open_items, orders, posting, prepayments, returns, sensible_date,
};

/// A line to credit, as typed: a quantity, or an amount off its price.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditLine {
    /// Its position on the invoice, from zero.
    pub position: usize,
    /// How much of it, in the line's unit.
    #[serde(default)]
    pub quantity: Option<String>,
    /// How much off its price, as priced, in the invoice's currency.
    #[serde(default)]
    pub amount: Option<String>,
    /// The line of a return that its goods came back on; none where they stay with the customer.
    #[serde(default)]
    pub return_line: Option<ReturnLineId>,
}

/// Lines of an invoice to credit.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ToCredit {
    /// What of which line.
    pub lines: Vec<CreditLine>,
    /// What goes the other way: a restocking fee, return freight. In an exchange, goods.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub added: Vec<AddedLine>,
    /// Date of the credit memo, if typed.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Why.
    #[serde(default)]
    pub reason: String,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What a credit would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditPreview {
    /// What of each line of the invoice is left to credit, and what is credited of it.
    pub lines: Vec<LeftToCredit>,
    /// What is left to credit of it, with tax, in the invoice's currency; below zero where the customer owes something.
    pub total: Money,
    /// What each of the added lines comes to, as priced.
    pub added: Vec<Money>,
    /// The arithmetic.
    pub tape: Tape,
    /// The entry.
    pub entry: Option<Entry>,
    /// What changes.
    pub changes: Vec<Change>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

impl CreditPreview {
    pub(crate) fn of(decision: CreditDecision) -> Self {
        let total = decision.balance();
        let supplied = decision.supplied.and_then(|supplied| supplied.document);
        Self {
            lines: decision.left,
            total,
            added: supplied.iter().flat_map(|document| &document.lines).map(|line| line.amount).collect(),
            tape: decision.tape,
            entry: decision.entry,
            changes: decision.changes,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// What crediting did.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditPosted {
    /// The credit memo; none where it waits for approval.
    pub credit_memo: Option<CreditMemoId>,
    /// Its number.
    pub number: Option<String>,
    /// The approval it waits for.
    pub waits: Option<ApprovalId>,
}

fn read_lines(typed: &[CreditLine], currency: Currency) -> Result<Vec<LineToCredit>> {
    let said =
        |text: &Option<String>| text.as_deref().map(str::trim).filter(|text| !text.is_empty()).map(str::to_owned);
    typed
        .iter()
        .enumerate()
        .map(|(at, line)| {
            let field = |name: &str| format!("lines.{at}.{name}");
            let what = match (said(&line.quantity), said(&line.amount)) {
                (Some(quantity), None) => What::Quantity(
                    quantity.parse::<Quantity>().map_err(|error| StoreError::decimal(field("quantity"), &error))?,
                ),
                (None, Some(amount)) => {
                    What::Price(currency.parse(&amount).map_err(|error| StoreError::decimal(field("amount"), &error))?)
                }
                _ => {
                    let sentence = "Say how much comes back, or an amount off the price: one of them.";
                    return Err(StoreError::invalid(field("quantity"), sentence));
                }
            };
            Ok(LineToCredit { position: line.position, what, returned: None })
        })
        .collect()
}

pub(crate) async fn load<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: InvoiceId,
    wish: &ToCredit,
) -> Result<CreditInput<'a>> {
    if let Some(date) = wish.date {
        sensible_date("date", date)?;
    }
    let head = sqlx::query!(
        r#"SELECT invoices.number, invoices.state, invoices.customer_id, memo.number AS "cancelled_by?"
           FROM invoices LEFT JOIN documents AS memo ON memo.id = cancelled_by WHERE invoices.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Invoice, id))?;
    let Some(number) = head.number.filter(|_| head.state == "posted") else {
        return Err(StoreError::WrongState("This is a draft. Change it; there is nothing to credit.".to_owned()));
    };
    let mut document = documents::posted(connection, id.0).await?;
    let mut billed = billed_lines(connection, id).await?;
    // What an exchange takes back is credited already; what it supplies stands before that.
    let supplied = supplied_lines(connection, id).await?;
    if supplied < document.lines.len() {
        document = document.supplied_part(supplied);
        billed.truncate(supplied);
    }
    let held = returns::held_of(connection, rules, id).await?;
    for (position, line) in billed.iter_mut().enumerate() {
        line.on_returns = held.get(&position).copied().unwrap_or_default();
    }
    for (line, row) in billed.iter_mut().zip(prepayments::rows_of(connection, id).await?) {
        line.prepaid = row;
    }
    let mut lines = read_lines(&wish.lines, document.currency)?;
    for (at, (line, typed)) in lines.iter_mut().zip(&wish.lines).enumerate() {
        if let Some(of) = typed.return_line {
            let on = returns::on_return(connection, of, (id, line.position)).await?;
            let sentence = "That return is of another line.";
            line.returned = Some(on.ok_or_else(|| StoreError::invalid(format!("lines.{at}"), sentence))?);
        }
    }
    let item = open_items::item_of(connection, DocumentKind::Invoice, id.0, Side::OwedToUs).await?;
    let ids: Vec<OrderId> = document.order_shares.iter().map(|share| share.order).collect();
    let date = DocumentDate::or_business_date(wish.date, rules.business_date);
    let delivered = match document.lines.iter().find_map(|line| line.source.order()) {
        Some(order) => load::delivered_of(connection, order).await?,
        None => None,
    };
    let beside = Beside { currency: document.currency, gross_priced: document.gross_priced, delivered };
    let supplies = supplies(connection, rules, (document.customer, &beside), (&wish.added, date)).await?;
    Ok(CreditInput {
        invoice: id,
        number,
        billed,
        tax_credited: tax_credited(connection, id).await?,
        discount: open_items::discount_on(connection, item.id).await?,
        item,
        customer: customers::facts(connection, CustomerId(head.customer_id)).await?.0,
        cancelled_by: head.cancelled_by,
        orders: orders::facts(connection, &ids).await?,
        lines,
        supplies,
        exchange: false,
        goods: Vec::new(),
        date,
        reason: wish.reason.clone(),
        base: rules.base,
        dates: date_order(connection, rules, DocumentKind::CreditMemo).await?,
        accounts: &rules.accounts,
        periods: &rules.periods,
        document,
    })
}

/// How many lines of an invoice bill something: all but what an exchange takes back.
async fn supplied_lines(connection: &mut SqliteConnection, id: InvoiceId) -> Result<usize> {
    let count = sqlx::query_scalar!(r#"SELECT count(*) AS "count!" FROM invoice_lines WHERE invoice_id = ?"#, id.0)
        .fetch_one(connection)
        .await?;
    Ok(usize::try_from(count).unwrap_or_default())
}

/// What goes the other way, priced and taxed as of the day, beside what is credited.
pub(super) async fn supplies<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (customer, beside): (CustomerId, &Beside),
    (added, date): (&[AddedLine], DocumentDate),
) -> Result<Option<InvoiceInput<'a>>> {
    if added.is_empty() {
        return Ok(None);
    }
    let lines = load_added(connection, rules, customer, added, Some(beside)).await?;
    as_billed(connection, rules, (customer, beside), (lines, date)).await
}

/// Lines as if they were billed on a day, in the currency and the way of pricing of what they stand beside.
pub(super) async fn as_billed<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    (customer, beside): (CustomerId, &Beside),
    (lines, date): (Vec<Picked>, DocumentDate),
) -> Result<Option<InvoiceInput<'a>>> {
    let typed = date.typed.then_some(date.date);
    let gross_priced = Some(beside.gross_priced);
    let head = Head { document_date: typed, posting_date: typed, gross_priced, ..Head::default() };
    let wanted = vec![ToDecide { customer, lines, head }];
    let Some(mut input) = inputs(connection, rules, Step::Post, wanted).await?.pop() else { return Ok(None) };
    // Money in advance is for orders; it is not used here.
    input.deposits.clear();
    if input.basis.currency != beside.currency {
        input.basis.currency = beside.currency;
        input.rate = exchange_rate(connection, rules, beside.currency, date.date).await?;
    }
    Ok(Some(input))
}

/// What is known of the lines of an invoice besides what they say, with what was credited of each.
async fn billed_lines(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Vec<BilledLine>> {
    sqlx::query!(
        r#"SELECT class AS "class?", account, accounts.name AS "account_name?", account_type AS "account_type?",
                  (SELECT coalesce(-sum(quantity_e4), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "quantity!: i64",
                  (SELECT coalesce(-sum(amount_minor - off_minor), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "amount!: i64",
                  (SELECT coalesce(-sum(net_minor), 0) FROM document_lines WHERE credits_line_id = billed.id) AS "net!: i64"
           FROM document_lines AS billed LEFT JOIN items ON items.id = item_id LEFT JOIN accounts ON accounts.number = account
           WHERE document_id = ? ORDER BY position"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(|row| {
        let account = match (row.account, row.account_name, row.account_type) {
            (Some(number), Some(name), Some(account_type)) => {
                Some(Account { number, name, account_type: known(&account_type, AccountType::of)? })
            }
            _ => None,
        };
        let credited = Credited {
            quantity: Quantity::from_scaled(row.quantity),
            amount: Money(row.amount),
            net: Money(row.net),
        };
        Ok(BilledLine { class: row.class, account, credited, ..BilledLine::default() })
    })
    .collect()
}

/// What was credited of each tax of an invoice.
async fn tax_credited(connection: &mut SqliteConnection, id: InvoiceId) -> Result<Vec<Money>> {
    Ok(sqlx::query_scalar!(
        r#"SELECT (SELECT coalesce(-sum(credit.tax_minor), 0) FROM document_links JOIN document_taxes AS credit ON credit.document_id = from_id
                   WHERE to_id = billed.document_id AND role = 'credits'
                     AND credit.tax_code = billed.tax_code AND credit.rate_e6 = billed.rate_e6
                     -- What goes the other way on it is no credit.
                     AND credit.base_minor <= 0) AS "credited!: i64"
           FROM document_taxes AS billed WHERE document_id = ? ORDER BY position"#,
        id.0
    )
    .fetch_all(connection)
    .await?
    .into_iter()
    .map(Money)
    .collect())
}

/// What crediting lines of an invoice would do. Nothing is written.
///
/// # Errors
/// An unknown invoice, a draft, an amount that cannot be read.
pub async fn credit_preview(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: InvoiceId,
    wish: &ToCredit,
) -> Result<CreditPreview> {
    Ok(CreditPreview::of(decide(&load(connection, rules, id, wish).await?)))
}

/// Credits lines of an invoice, or asks for approval where it comes to more than the limit for credit memos.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn credit(writing: &mut Writing<'_>, rules: &Rules, id: InvoiceId, wish: &ToCredit) -> Result<CreditPosted> {
    let reason = check_reason(&wish.reason).map_err(|why| StoreError::invalid("reason", why))?;
    let input = load(writing, rules, id, wish).await?;
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    writing.saw(wish.seen.as_deref(), &decision.fingerprint)?;
    let (currency, total) = (input.document.currency, decision.balance());
    let asked = Wish {
        asked: Asked::CreditInvoice { invoice: id, wish: ToCredit { seen: None, ..wish.clone() } },
        document: DocumentRef { kind: DocumentKind::Invoice, id: id.0, number: input.number.clone() },
        amount: decision.document.total_base,
        words: format!("credit {} {currency} of {} to {}", currency.grouped(total), input.number, input.customer.name),
        changes: vec![set("credit", currency.format(total))],
        reason,
        mark: decision.mark.clone(),
        gives_away: Money::ZERO,
        held: false,
    };
    if let Go::Waits(approval) = approvals::allowed_or_asked(writing, rules, asked).await? {
        return Ok(CreditPosted { credit_memo: None, number: None, waits: Some(approval) });
    }
    let (memo, _) = write(writing, &input, &decision).await?;
    Ok(CreditPosted { credit_memo: Some(CreditMemoId(memo.id)), number: Some(memo.number), waits: None })
}

/// Writes what was decided: a credit memo, or the invoice of an exchange that leaves something to pay.
pub(crate) async fn write(
    writing: &mut Writing<'_>,
    input: &CreditInput<'_>,
    decision: &CreditDecision,
) -> Result<(DocumentRef, Option<EntryId>)> {
    let owed = decision.owed.0.is_positive();
    let kind = if owed { DocumentKind::Invoice } else { DocumentKind::CreditMemo };
    let memo = documents::new_memo(writing, kind).await?;
    let credits: Vec<(usize, Money)> = decision.credits.iter().map(|position| (*position, Money::ZERO)).collect();
    let what = MemoToWrite {
        of: (input.invoice.0, LinkRole::Credits),
        document: &decision.document,
        credits: &credits,
        returned: &decision.returned,
        given_up: &decision.given_up,
        supplied: decision.supplied.as_deref(),
        left_base: decision.owed.1 - decision.settles.1 - decision.kept.1,
        to_pay: input.supplies.as_ref().filter(|_| owed).map(|with| &with.basis.terms),
        reason: &input.reason,
        tape: &decision.tape,
    };
    documents::write_memo(writing, &memo, &what).await?;
    let entry = posting::write(writing, &memo.source(), &decision.posting(input)).await?.pop();
    documents::post_memo(writing, &memo, what.of, (entry, None)).await?;
    deliveries::add(writing, &[(memo.id, input.customer.id, input.customer.delivery)]).await?;
    let currency = input.document.currency;
    let mut fields = vec![
        set("credited", currency.format(decision.document.total)),
        set("kept", currency.format(decision.stays())),
        set("reason", input.reason.trim()),
    ];
    if let Some(other) = decision.supplied.as_ref().and_then(|supplied| supplied.document.as_ref()) {
        fields.push(set("the other way", currency.format(other.total)));
    }
    let words = format!("credited lines of {} of {} with {}", input.number, input.customer.name, memo.number);
    let at = (DocumentKind::Invoice, input.invoice.0, input.number.as_str());
    writing.note_on(at, "invoice_credited", words, None, fields);
    Ok((memo.source(), entry))
}
