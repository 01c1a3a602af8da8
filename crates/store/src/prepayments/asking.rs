//! Asking for a part of an order in advance: what each line asks for, the prepayment invoice as it would be, billing it.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use sqlx::SqliteConnection;
use till_core::accounts::Purpose;
use till_core::checks::{Blocker, Check, Findings, Step, one, stops};
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{CustomerId, DocumentKind, DocumentRef, OrderId, OrderLineId};
use till_core::invoice::{InvoiceDecision, InvoiceInput, ItemKind, decide};
use till_core::money::{Currency, Money};
use till_core::prepayment::Prepaid;
use till_core::prepayment::asking::{self, AskAs, AskLine, Asked, LineWish, PercentFrom, Wish, ask};
use till_core::tax::{TaxCategory, TaxRate};

use super::facts::of_lines;
use super::requests::{PaymentRequestRow, requests_of};
use super::views::{PrepaymentRow, of_order};
use crate::convert::{currency, json, known};
use crate::invoices::{
    Head, InvoicePreview, OrderPick, PostedInvoice, ToDecide, ToPost, inputs, load_ordered, post_all, read,
    write_drafts,
};
use crate::rules::Rules;
use crate::writing::{Writing, changed};
use crate::{Result, StoreError, sensible_date};

/// What is asked of a line, as typed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceLine {
    /// The order line.
    pub order_line: OrderLineId,
    /// In or out; none for what comes by itself.
    #[serde(default)]
    pub included: Option<bool>,
    /// Its own share, in percent; none for what comes by itself.
    #[serde(default)]
    pub percent: Option<String>,
}

/// What is asked of an order in advance, as typed.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceForm {
    /// A share of its lines, or an amount.
    #[serde(default)]
    pub ask_as: AskAs,
    /// The share, in percent; none for the customer's usual one.
    #[serde(default)]
    pub percent: Option<String>,
    /// The amount, in the order's currency, where one is asked for.
    #[serde(default)]
    pub amount: Option<String>,
    /// What was set line by line; lines that are not named come by themselves.
    #[serde(default)]
    pub lines: Vec<AdvanceLine>,
    /// Document date, if typed.
    #[serde(default)]
    pub document_date: Option<NaiveDate>,
    /// Posting date, if typed.
    #[serde(default)]
    pub posting_date: Option<NaiveDate>,
    /// Words above the lines.
    #[serde(default)]
    pub text_above: Option<String>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What is kept of it with the order: the share, and what was set line by line.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SavedAdvance {
    /// The share for the order, in percent; none for the customer's usual one.
    #[serde(default)]
    pub percent: Option<String>,
    /// Line by line.
    #[serde(default)]
    pub lines: Vec<AdvanceLine>,
}

/// A line of an order, and what it asks for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvanceLineView {
    /// The order line.
    pub order_line: OrderLineId,
    /// The item's code.
    pub code: String,
    /// Its words.
    pub description: String,
    /// What kind of item.
    pub kind: ItemKind,
    /// Ordered less what was canceled, in the unit sold.
    pub wanted: Quantity,
    /// The unit sold.
    pub unit: String,
    /// What of it is billed.
    pub billed: Quantity,
    /// Whether it is in.
    pub included: bool,
    /// Its share; none where an amount is asked for, or nobody set one.
    pub percent: Option<Rate>,
    /// Where that comes from.
    pub from: PercentFrom,
    /// What may be asked for in advance of it, as the order is priced.
    pub of: Money,
    /// What may still be asked for, as the order is priced.
    pub room: Money,
    /// What was asked for before, less what was credited, as the order is priced.
    pub before: Money,
    /// What of that invoices used.
    pub used: Money,
    /// What is asked for now, as the document is priced.
    pub now: Money,
    /// What is to be credited: asked for less than before, or canceled. As the order is priced.
    pub lower: Money,
}

/// What an order asks for in advance, and the prepayment invoice that would be.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AdvancePlan {
    /// The order.
    pub order: DocumentRef,
    /// Changes with every edit of the order.
    pub version: i64,
    /// Whose.
    pub customer: CustomerId,
    /// The customer's name.
    pub customer_name: String,
    /// The order's currency.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub currency: Currency,
    /// Whether the order's prices carry the tax.
    pub gross_priced: bool,
    /// The customer's usual share.
    pub usual: Option<Rate>,
    /// What is kept with the order.
    pub saved: SavedAdvance,
    /// The lines.
    pub lines: Vec<AdvanceLineView>,
    /// What is asked for now, all lines together, as the document is priced.
    pub now: Money,
    /// What is to be credited, all lines together, as the order is priced.
    pub lower: Money,
    /// Prepayment invoices of the order, the oldest first.
    pub invoices: Vec<PrepaymentRow>,
    /// Requests for payment that were sent for it, the oldest first.
    pub requests: Vec<PaymentRequestRow>,
    /// The prepayment invoice that would be; none where nothing is asked for.
    pub preview: Option<InvoicePreview>,
    /// What stands in the way of billing it.
    pub blockers: Vec<Blocker>,
}

/// An order with its lines as asking needs them.
pub(super) struct Loaded {
    pub(super) order: DocumentRef,
    version: i64,
    state: String,
    pub(super) customer: CustomerId,
    customer_name: String,
    customer_class: Option<String>,
    pub(super) currency: Currency,
    gross_priced: bool,
    usual: Option<Rate>,
    saved: SavedAdvance,
    lines: Vec<(AskLine, LineWords)>,
    rows: Vec<Prepaid>,
}

struct LineWords {
    description: String,
    unit: String,
    class: String,
}

async fn load(connection: &mut SqliteConnection, rules: &Rules, id: OrderId, on: NaiveDate) -> Result<Loaded> {
    let head = sqlx::query!(
        r#"SELECT orders.number, orders.version, orders.state, customer_id, name, customers.class, orders.currency, orders.gross_priced,
                  customers.share_ahead_e6 AS usual, orders.advance
           FROM orders JOIN customers ON customers.id = customer_id WHERE orders.id = ?"#,
        id.0
    )
    .fetch_optional(&mut *connection)
    .await?
    .ok_or_else(|| StoreError::not_found(DocumentKind::Order, id))?;
    let lines = sqlx::query!(
        r#"SELECT order_lines.id AS "id!", items.code, items.kind, items.class, items.share_ahead_e6, order_lines.description, order_lines.unit,
                  order_lines.tax_code, order_lines.amount_minor, ordered_e4, cancelled_e4, billed_e4
           FROM order_lines JOIN items ON items.id = item_id WHERE order_id = ? ORDER BY position"#,
        id.0
    )
    .fetch_all(&mut *connection)
    .await?;
    let ids = json(&lines.iter().map(|line| line.id).collect::<Vec<_>>())?;
    let rows = of_lines(connection, &ids).await?;
    let gross_priced = head.gross_priced != 0;
    let mut all = Vec::with_capacity(lines.len());
    for line in lines {
        let wanted = Quantity::from_scaled(line.ordered_e4 - line.cancelled_e4);
        let billed = Quantity::from_scaled(line.billed_e4);
        let mine: Vec<&Prepaid> = rows.iter().filter(|row| row.order_line.0 == line.id).collect();
        let priced = |part: &dyn Fn(&Prepaid) -> Money| -> Money { mine.iter().map(|row| part(row)).sum() };
        let tax = rules.taxes.rate_on(&line.tax_code, on).unwrap_or_else(|| TaxRate {
            code: line.tax_code.clone(),
            category: TaxCategory::O,
            rate: Rate::ZERO,
        });
        let asks = AskLine {
            order_line: OrderLineId(line.id),
            code: line.code,
            kind: known(&line.kind, ItemKind::of)?,
            wanted,
            billed,
            billed_before: mine.first().map_or(billed, |row| row.billed_before),
            amount: Money(line.amount_minor).share(wanted.scaled(), line.ordered_e4),
            tax,
            item_percent: line.share_ahead_e6.map(Rate::from_scaled),
            wish: LineWish::default(),
            before: priced(&|row| row.whole.less(&row.credited).priced(gross_priced)),
            used: priced(&|row| row.used.priced(gross_priced)),
            to_credit: priced(&|row| row.to_credit(wanted, billed, gross_priced)),
        };
        all.push((asks, LineWords { description: line.description, unit: line.unit, class: line.class }));
    }
    Ok(Loaded {
        order: DocumentRef { kind: DocumentKind::Order, id: id.0, number: head.number },
        version: head.version,
        state: head.state,
        customer: CustomerId(head.customer_id),
        customer_name: head.name,
        customer_class: head.class,
        currency: currency(&head.currency)?,
        gross_priced,
        usual: (head.usual > 0).then(|| Rate::from_scaled(head.usual)),
        saved: head.advance.as_deref().map(read).transpose()?.unwrap_or_default(),
        lines: all,
        rows,
    })
}

fn said(text: &Option<String>) -> Option<&str> {
    text.as_deref().map(str::trim).filter(|text| !text.is_empty())
}

fn read_percent(text: &Option<String>, field: String) -> Result<Option<Rate>> {
    let Some(text) = said(text) else { return Ok(None) };
    let number = text.trim_end_matches('%').trim_end();
    Rate::from_percent(number).map(Some).map_err(|error| StoreError::decimal(field, &error))
}

/// Reads what was typed: the wish for the order, and that for each line, which is put on it.
fn read_form(loaded: &mut Loaded, form: &AdvanceForm) -> Result<Wish> {
    for (field, date) in [("document_date", form.document_date), ("posting_date", form.posting_date)] {
        if let Some(date) = date {
            sensible_date(field, date)?;
        }
    }
    for typed in &form.lines {
        let at = loaded.lines.iter().position(|(line, _)| line.order_line == typed.order_line);
        let Some(at) = at else {
            let sentence = format!("{} has no line {}.", loaded.order.number, typed.order_line);
            return Err(StoreError::invalid("lines", sentence));
        };
        loaded.lines[at].0.wish = LineWish {
            included: typed.included,
            percent: read_percent(&typed.percent, format!("lines.{at}.percent"))?,
        };
    }
    let amount = match said(&form.amount).filter(|_| form.ask_as != AskAs::Percent) {
        Some(amount) => loaded.currency.parse(amount).map_err(|error| StoreError::decimal("amount", &error))?,
        None => Money::ZERO,
    };
    let percent = read_percent(&form.percent, "percent".to_owned())?;
    Ok(Wish { ask_as: form.ask_as, percent, usual: loaded.usual, amount })
}

/// What is typed where nothing was: what is kept with the order.
fn from_saved(saved: &SavedAdvance) -> AdvanceForm {
    AdvanceForm { percent: saved.percent.clone(), lines: saved.lines.clone(), ..AdvanceForm::default() }
}

/// What stands in the way of asking anything of the order.
fn obstacle(loaded: &Loaded) -> Option<String> {
    match loaded.state.as_str() {
        "draft" => Some(format!("{} is a draft. Confirm it before it is billed in advance.", loaded.order.number)),
        "closed" => Some(format!("{} is closed: nothing is left to bill in advance.", loaded.order.number)),
        _ => None,
    }
}

/// The prepayment invoice that what is asked for comes to; nothing where nothing is.
async fn to_decide(
    connection: &mut SqliteConnection,
    rules: &Rules,
    loaded: &Loaded,
    (form, asked): (&AdvanceForm, &[Asked]),
) -> Result<Option<ToDecide>> {
    let picks: Vec<_> = asked
        .iter()
        .filter(|asked| asked.now.is_positive())
        .map(|asked| (None, OrderPick { order_line: asked.order_line, quantity: None }))
        .collect();
    let mut lines = load_ordered(connection, &picks).await?;
    let in_use = asked.iter().zip(&loaded.lines).filter(|(asked, _)| asked.now.is_positive());
    for (picked, (asked, (_, words))) in lines.iter_mut().zip(in_use) {
        let class = loaded.customer_class.as_deref();
        let account = rules.accounts.account(Purpose::PrepaymentLiability, Some(&words.class), class).ok().cloned();
        picked.line = asked.to_bill(picked.line.clone(), account, loaded.currency);
        picked.line.description = format!("{}, {} {}", words.description, asked.asks.asked_on, words.unit);
        picked.picking.source = picked.line.source.clone();
    }
    if lines.is_empty() {
        return Ok(None);
    }
    let head = Head {
        document_date: form.document_date,
        posting_date: form.posting_date,
        text_above: said(&form.text_above).map(str::to_owned),
        gross_priced: Some(asking::document_gross_priced(form.ask_as, loaded.gross_priced)),
        ..Head::default()
    };
    Ok(Some(ToDecide { customer: loaded.customer, lines, head }))
}

/// What is wrong with what is asked for, before the document is looked at.
fn check(loaded: &Loaded, wish: &Wish, asked: &[Asked]) -> Vec<Blocker> {
    let mut findings = Findings::at(Step::Post);
    let lines: Vec<AskLine> = loaded.lines.iter().map(|(line, _)| line.clone()).collect();
    let of = (loaded.order.number.as_str(), loaded.currency);
    asking::check(wish, (&lines, loaded.gross_priced), of, &mut findings);
    if let Some(sentence) = obstacle(loaded) {
        findings.add_at(Check::NothingToDo, "order", sentence, Some(loaded.order.clone()));
    }
    let mut found = findings.finish();
    if found.is_empty() && !asked.iter().any(|asked| asked.now.is_positive()) {
        let sentence = match asked.iter().any(|asked| asked.lower.is_positive()) {
            true => "Less is asked for than was billed in advance: credit the difference.",
            false => "Nothing more is asked for. Enter a percentage or an amount, and choose lines.",
        };
        found = one(Check::NothingToDo, Step::Post, "percent", sentence);
    }
    found
}

/// What an order asks for in advance; as typed, or as it is kept with the order. Nothing is written.
///
/// # Errors
/// An unknown order or line, a figure that cannot be read.
pub async fn plan(
    connection: &mut SqliteConnection,
    rules: &Rules,
    id: OrderId,
    form: Option<&AdvanceForm>,
) -> Result<AdvancePlan> {
    let on = form.and_then(|form| form.document_date).unwrap_or(rules.business_date);
    let mut loaded = load(connection, rules, id, on).await?;
    let form = form.cloned().unwrap_or_else(|| from_saved(&loaded.saved));
    let wish = read_form(&mut loaded, &form)?;
    let lines: Vec<AskLine> = loaded.lines.iter().map(|(line, _)| line.clone()).collect();
    let asked = ask(&wish, &lines, loaded.gross_priced);
    let mut blockers = check(&loaded, &wish, &asked);
    let preview = match to_decide(connection, rules, &loaded, (&form, &asked)).await? {
        Some(wanted) => {
            let input = inputs(connection, rules, Step::Post, vec![wanted]).await?.remove(0);
            let decision = decide(&input);
            blockers.extend(decision.blockers.clone());
            Some(InvoicePreview::of(&input, decision))
        }
        None => None,
    };
    let invoices = of_order(connection, rules, id, &loaded.rows).await?;
    let requests = requests_of(connection, id).await?;
    Ok(AdvancePlan {
        version: loaded.version,
        customer: loaded.customer,
        customer_name: loaded.customer_name,
        currency: loaded.currency,
        gross_priced: loaded.gross_priced,
        usual: loaded.usual,
        saved: loaded.saved,
        now: asked.iter().map(|asked| asked.now).sum(),
        lower: asked.iter().map(|asked| asked.lower).sum(),
        lines: loaded.lines.into_iter().zip(asked).map(|((line, words), asked)| view(line, words, asked)).collect(),
        order: loaded.order,
        invoices,
        requests,
        preview,
        blockers,
    })
}

fn view(line: AskLine, words: LineWords, asked: Asked) -> AdvanceLineView {
    AdvanceLineView {
        order_line: line.order_line,
        code: line.code,
        description: words.description,
        kind: line.kind,
        wanted: line.wanted,
        unit: words.unit,
        billed: line.billed,
        included: asked.included,
        percent: asked.percent,
        from: asked.from,
        of: asked.of,
        room: asked.room,
        before: line.before,
        used: line.used,
        now: asked.now,
        lower: asked.lower,
    }
}

/// Bills what is asked for in advance, and keeps the shares with the order.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn bill(writing: &mut Writing<'_>, rules: &Rules, id: OrderId, form: &AdvanceForm) -> Result<PostedInvoice> {
    let asked = asked(writing, rules, id, form).await?;
    writing.saw(form.seen.as_deref(), &asked.decision.fingerprint)?;
    if form.ask_as == AskAs::Percent {
        let saved = SavedAdvance { percent: form.percent.clone(), lines: form.lines.clone() };
        keep(writing, &asked.loaded, saved).await?;
    }
    post(writing, rules, asked).await
}

/// What is asked for, decided on and not refused.
pub(super) struct ToAsk<'a> {
    pub(super) loaded: Loaded,
    wanted: ToDecide,
    pub(super) input: InvoiceInput<'a>,
    pub(super) decision: InvoiceDecision,
}

/// Decides on what is asked for.
pub(super) async fn asked<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    id: OrderId,
    form: &AdvanceForm,
) -> Result<ToAsk<'a>> {
    let on = form.document_date.unwrap_or(rules.business_date);
    let mut loaded = load(connection, rules, id, on).await?;
    let wish = read_form(&mut loaded, form)?;
    let lines: Vec<AskLine> = loaded.lines.iter().map(|(line, _)| line.clone()).collect();
    let asked = ask(&wish, &lines, loaded.gross_priced);
    let found = check(&loaded, &wish, &asked);
    if stops(&found) {
        return Err(StoreError::Refused(found));
    }
    let Some(wanted) = to_decide(connection, rules, &loaded, (form, &asked)).await? else {
        return Err(StoreError::Moved);
    };
    let input = inputs(connection, rules, Step::Post, vec![wanted.clone()]).await?.remove(0);
    let decision = decide(&input);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    Ok(ToAsk { loaded, wanted, input, decision })
}

/// Posts the prepayment invoice that was decided on.
pub(super) async fn post(writing: &mut Writing<'_>, rules: &Rules, asked: ToAsk<'_>) -> Result<PostedInvoice> {
    let drafts = write_drafts(writing, rules, &[asked.wanted], None, None).await?;
    let draft = drafts.first().copied().ok_or(StoreError::Moved)?;
    let posted = post_all(writing, vec![ToPost::of(draft, &asked.input, asked.decision)]).await?;
    posted.into_iter().next().ok_or(StoreError::Moved)
}

/// Keeps with an order what it asks for in advance. Returns its version.
///
/// # Errors
/// [`StoreError::Stale`] where someone changed the order since `version`; a figure that cannot be read.
pub async fn save(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: OrderId,
    (version, wanted): (i64, &SavedAdvance),
) -> Result<i64> {
    let mut loaded = load(writing, rules, id, rules.business_date).await?;
    if loaded.version != version {
        return Err(StoreError::Stale { what: loaded.order.number, current: loaded.version });
    }
    let wish = read_form(&mut loaded, &from_saved(wanted))?;
    let mut findings = Findings::at(Step::Post);
    let lines: Vec<AskLine> = loaded.lines.iter().map(|(line, _)| line.clone()).collect();
    let of = (loaded.order.number.as_str(), loaded.currency);
    asking::check(&wish, (&lines, loaded.gross_priced), of, &mut findings);
    let found = findings.finish();
    if stops(&found) {
        return Err(StoreError::Refused(found));
    }
    keep(writing, &loaded, wanted.clone()).await
}

async fn keep(writing: &mut Writing<'_>, loaded: &Loaded, wanted: SavedAdvance) -> Result<i64> {
    let percent = said(&wanted.percent).map(|text| text.trim_end_matches('%').trim_end().to_owned());
    let set = |line: &AdvanceLine| line.included.is_some() || said(&line.percent).is_some();
    let wanted = SavedAdvance { percent, lines: wanted.lines.into_iter().filter(set).collect() };
    if wanted == loaded.saved {
        return Ok(loaded.version);
    }
    let (kept, version) = (json(&wanted)?, loaded.version + 1);
    sqlx::query!("UPDATE orders SET advance = ?, version = ? WHERE id = ?", kept, version, loaded.order.id)
        .execute(&mut **writing)
        .await?;
    let shown = |saved: &SavedAdvance| -> Option<String> {
        let lines = saved.lines.iter().filter_map(|line| {
            let (known, _) = loaded.lines.iter().find(|(known, _)| known.order_line == line.order_line)?;
            let out = if line.included == Some(false) { Some("out".to_owned()) } else { None };
            Some(format!("{} {}", known.code, out.or(said(&line.percent).map(|text| format!("{text}%")))?))
        });
        let order = said(&saved.percent).map(|text| format!("{text}%"));
        let words: Vec<String> = order.into_iter().chain(lines).collect();
        (!words.is_empty()).then(|| words.join(", "))
    };
    let (before, after) = (shown(&loaded.saved), shown(&wanted));
    let at = (DocumentKind::Order, loaded.order.id, loaded.order.number.as_str());
    let words = format!("changed what {} asks for in advance", loaded.order.number);
    let fields = changed("advance %", before.as_deref(), after.as_deref());
    writing.note_on(at, "order_changed", words, Some(version), fields);
    Ok(version)
}
