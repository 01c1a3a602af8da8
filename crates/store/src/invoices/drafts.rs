//! Drafts: made, changed, dropped. A draft reserves what it bills, so that two never bill the
//! same goods.

use std::collections::HashMap;

use chrono::NaiveDate;
use sqlx::SqliteConnection;
use till_core::checks::{Step, stops};
use till_core::fixed::{Quantity, Rate};
use till_core::ids::{ApprovalId, CustomerId, DocumentKind, InvoiceId, OpenItemId, OrderLineId, RunId, ShipmentLineId};
use till_core::invoice::{DiscountWish, InvoiceInput, LinkRole, WaitingRequest, decide, decide_in_order};
use till_core::merge::{FieldChange, Fields, differences};
use till_core::money::Money;

use super::load::read;
use super::{
    AddedLine, Head, OrderPick, Pick, Picked, ToBill, ToDecide, added, conflict, inputs, load_ordered, load_shipped,
    split, with_freight,
};
use crate::convert::{json, terms};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, customers, documents};

/// A draft as saved.
#[derive(Debug, Clone)]
pub(crate) struct DraftRow {
    pub(crate) id: InvoiceId,
    pub(crate) customer: CustomerId,
    pub(crate) version: i64,
    pub(crate) to_bill: ToBill,
    pub(crate) discount: Option<DiscountWish>,
    pub(crate) seen: Option<String>,
    pub(crate) waits: Option<WaitingRequest>,
    /// The cancelled invoice it bills anew, and the day it was cancelled.
    pub(crate) replaces: Option<(String, NaiveDate)>,
    /// What someone said is to be applied of which deposit.
    pub(crate) deposits: Vec<(OpenItemId, Money)>,
}

impl DraftRow {
    fn head(&self) -> Head {
        Head {
            discount: self.discount.clone(),
            waits: self.waits.clone(),
            replaces: self.replaces.clone(),
            deposits: self.deposits.clone(),
            ..self.to_bill.head()
        }
    }
}

fn waiting(text: &str) -> Result<WaitingRequest> {
    let (id, maker, words) = read(text)?;
    Ok(WaitingRequest { id: ApprovalId(id), maker, words })
}

/// Drafts by their ids, in that order; ids that are no draft are left out.
pub(crate) async fn drafts(connection: &mut SqliteConnection, ids: &[InvoiceId]) -> Result<Vec<DraftRow>> {
    let wanted = json(&ids)?;
    let heads = sqlx::query!(
        r#"SELECT invoices.id AS "id!: i64", customer_id, version, document_date AS "document_date: NaiveDate", posting_date AS "posting_date: NaiveDate",
                  terms, text_above, text_below, discount_e6, discount_minor, discount_reason, discount_allowed_minor, seen, deposits_wanted,
                  (SELECT json_array(approvals.id, people.name, words) FROM approvals JOIN people ON people.id = maker_id
                   WHERE document_kind = 'invoice' AND document_id = invoices.id AND approvals.state = 'waiting'
                   ORDER BY approvals.id LIMIT 1) AS "waits: String",
                  (SELECT number FROM invoices AS replaced WHERE replaced.id = invoices.replaces_id) AS "replaced_number: String",
                  (SELECT memo.posting_date FROM document_links JOIN documents AS memo ON memo.id = from_id WHERE to_id = invoices.replaces_id AND role = 'cancels') AS "cancelled_on: NaiveDate"
           FROM jsonb_each(?) AS wanted JOIN invoices ON invoices.id = wanted.value WHERE invoices.state = 'draft' ORDER BY wanted.key"#,
        wanted
    )
    .fetch_all(&mut *connection)
    .await?;
    let lines = sqlx::query!(
        r#"SELECT invoice_id AS "invoice_id!", shipment_line_id, order_line_id, quantity_e4 AS "quantity_e4!", typed
           FROM jsonb_each(?) AS wanted JOIN invoice_lines ON invoice_id = wanted.value ORDER BY wanted.key, position"#,
        wanted
    )
    .fetch_all(connection)
    .await?;
    let mut found = Vec::with_capacity(heads.len());
    let mut lines_of: HashMap<i64, Vec<_>> = HashMap::with_capacity(heads.len());
    for line in lines {
        lines_of.entry(line.invoice_id).or_default().push(line);
    }
    for head in heads {
        let mut to_bill = ToBill {
            customer: Some(CustomerId(head.customer_id)),
            document_date: head.document_date,
            posting_date: head.posting_date,
            terms: head.terms.as_deref().map(terms).transpose()?,
            text_above: head.text_above,
            text_below: head.text_below,
            ..ToBill::default()
        };
        for line in lines_of.remove(&head.id).unwrap_or_default() {
            let quantity = Some(Quantity::from_scaled(line.quantity_e4));
            match (line.shipment_line_id, line.order_line_id, line.typed) {
                (Some(id), ..) => to_bill.picks.push(Pick { shipment_line: ShipmentLineId(id), quantity }),
                (None, Some(id), _) => to_bill.order_picks.push(OrderPick { order_line: OrderLineId(id), quantity }),
                (None, None, Some(typed)) => to_bill.added.push(read::<AddedLine>(&typed)?),
                (None, None, None) => {}
            }
        }
        let discount = (head.discount_e6.is_some() || head.discount_minor.is_some()).then(|| DiscountWish {
            percent: head.discount_e6.map(Rate::from_scaled),
            amount: head.discount_minor.map(Money).filter(|_| head.discount_e6.is_none()),
            reason: head.discount_reason.clone().unwrap_or_default(),
            allowed: head.discount_allowed_minor.map(Money),
        });
        found.push(DraftRow {
            id: InvoiceId(head.id),
            customer: CustomerId(head.customer_id),
            version: head.version,
            to_bill,
            discount,
            seen: head.seen,
            waits: head.waits.as_deref().map(waiting).transpose()?,
            replaces: head.replaced_number.zip(head.cancelled_on),
            deposits: head.deposits_wanted.as_deref().map(read).transpose()?.unwrap_or_default(),
        });
    }
    Ok(found)
}

/// Why there is no such invoice: it never was there, or it was a draft that somebody dropped.
pub(super) async fn not_there(connection: &mut SqliteConnection, id: InvoiceId) -> Result<StoreError> {
    let dropped = sqlx::query!(
        r#"SELECT person, date(at) AS "day!: NaiveDate" FROM record
           WHERE document_kind = 'invoice' AND document_id = ? AND what = 'draft_dropped' ORDER BY sequence DESC LIMIT 1"#,
        id.0
    )
    .fetch_optional(connection)
    .await?;
    Ok(match dropped {
        Some(row) => StoreError::Gone(format!(
            "{} deleted this draft on {}. What it billed is unbilled again.",
            row.person,
            till_core::calendar::words(row.day)
        )),
        None => StoreError::not_found(DocumentKind::Invoice, id),
    })
}

/// A draft of the version seen, or why it cannot be changed.
pub(super) async fn draft(connection: &mut SqliteConnection, id: InvoiceId, version: Option<i64>) -> Result<DraftRow> {
    let Some(found) = drafts(connection, &[id]).await?.pop() else {
        let number = sqlx::query_scalar!("SELECT number FROM invoices WHERE id = ?", id.0)
            .fetch_optional(&mut *connection)
            .await?
            .flatten();
        let Some(number) = number else { return Err(not_there(connection, id).await?) };
        return Err(StoreError::WrongState(format!(
            "This draft is posted already, as {number}. A posted invoice never changes."
        )));
    };
    if version.is_some_and(|seen| seen != found.version) {
        return Err(StoreError::Stale { what: "This draft".to_owned(), current: found.version });
    }
    Ok(found)
}

/// What drafts come to as they stand: everything to decide on them, in their order.
pub(crate) async fn draft_inputs<'a>(
    connection: &mut SqliteConnection,
    rules: &'a Rules,
    drafts: &[DraftRow],
    step: Step,
) -> Result<Vec<InvoiceInput<'a>>> {
    let wanted = to_decide(connection, rules, drafts).await?;
    inputs(connection, rules, step, wanted).await
}

/// Drafts with their lines loaded, what they have reserved counting as free.
pub(super) async fn to_decide(
    connection: &mut SqliteConnection,
    rules: &Rules,
    drafts: &[DraftRow],
) -> Result<Vec<ToDecide>> {
    let mut picks = Vec::new();
    let mut order_picks = Vec::new();
    for draft in drafts {
        picks.extend(draft.to_bill.picks.iter().map(|pick| (Some(draft.id), *pick)));
        order_picks.extend(draft.to_bill.order_picks.iter().map(|pick| (Some(draft.id), *pick)));
    }
    let mut shipped = load_shipped(connection, &picks).await?.into_iter();
    let mut ordered = load_ordered(connection, &order_picks).await?.into_iter();
    let mut wanted = Vec::with_capacity(drafts.len());
    for draft in drafts {
        let mut lines: Vec<Picked> = shipped.by_ref().take(draft.to_bill.picks.len()).collect();
        lines.extend(ordered.by_ref().take(draft.to_bill.order_picks.len()));
        let beside = added::Beside::of(&lines);
        let typed = &draft.to_bill.added;
        let added = added::load_added(connection, rules, draft.customer, typed, beside.as_ref()).await?;
        lines.extend(added);
        wanted.push(ToDecide { customer: draft.customer, lines, head: draft.head() });
    }
    Ok(wanted)
}

/// Makes a draft of each invoice the picks come to; the drafts reserve what they bill.
///
/// # Errors
/// What the core refuses to put on a draft: more than is unbilled, a quantity of zero.
pub async fn make_drafts(writing: &mut Writing<'_>, rules: &Rules, to_bill: &ToBill) -> Result<Vec<InvoiceId>> {
    let wanted = split(writing, rules, to_bill).await?;
    if wanted.is_empty() {
        return Err(StoreError::invalid(
            "picks",
            "Nothing is selected. Select a shipment or a line to bill, or type one.",
        ));
    }
    let ids = write_checked(writing, rules, wanted, None).await?;
    for row in drafts(writing, &ids).await? {
        let fields = conflict::described(writing, &row.to_bill).await?;
        note_draft(writing, row.id, "draft_made", 1, differences(&Fields::new(), &fields)).await?;
    }
    Ok(ids)
}

/// Writes drafts, unless the core refuses one of them.
pub(super) async fn write_checked(
    writing: &mut Writing<'_>,
    rules: &Rules,
    wanted: Vec<ToDecide>,
    replaces: Option<InvoiceId>,
) -> Result<Vec<InvoiceId>> {
    let mut inputs = inputs(writing, rules, Step::Bill, wanted.clone()).await?;
    for decision in decide_in_order(&mut inputs) {
        if stops(&decision.blockers) {
            return Err(StoreError::Refused(decision.blockers));
        }
    }
    write_drafts(writing, rules, &wanted, None, replaces).await
}

/// Writes drafts as they are, in a run or not.
pub(crate) async fn write_drafts(
    connection: &mut SqliteConnection,
    rules: &Rules,
    wanted: &[ToDecide],
    run: Option<RunId>,
    replaces: Option<InvoiceId>,
) -> Result<Vec<InvoiceId>> {
    let first = crate::open_items::next_id(connection, "documents").await?;
    let ids: Vec<InvoiceId> = (first..).take(wanted.len()).map(InvoiceId).collect();
    let mut heads = Vec::with_capacity(wanted.len());
    for (one, id) in wanted.iter().zip(&ids) {
        let currency = one.lines.first().map_or(rules.base, |line| line.picking.currency);
        let head = &one.head;
        heads.push((
            (id, one.customer, currency.code().to_owned(), head.document_date, head.posting_date),
            head.terms.as_ref().map(json).transpose()?,
            (&head.text_above, &head.text_below),
            if one.in_advance() { "prepayment_invoice" } else { "invoice" },
        ));
    }
    let run = run.map(|run| run.0);
    let heads = json(&heads)?;
    sqlx::query!(
        "INSERT INTO documents (id, kind, state, customer_id, currency, document_date, posting_date, terms, text_above, text_below, run_id)
         SELECT value ->> '$[0][0]', value ->> '$[3]', 'draft', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1]', value ->> '$[2][0]', value ->> '$[2][1]', ?2 FROM json_each(?1) ORDER BY key",
        heads,
        run
    )
    .execute(&mut *connection)
    .await?;
    for (id, replaced) in ids.iter().zip(replaces) {
        documents::link(connection, id.0, LinkRole::Replaces, replaced.0).await?;
    }
    let lines: Vec<(InvoiceId, &[Picked])> =
        ids.iter().copied().zip(wanted.iter().map(|one| one.lines.as_slice())).collect();
    reserve(connection, &lines).await?;
    Ok(ids)
}

/// Puts lines on drafts and reserves what they bill.
async fn reserve(connection: &mut SqliteConnection, drafts: &[(InvoiceId, &[Picked])]) -> Result<()> {
    let mut rows = Vec::new();
    for (id, lines) in drafts {
        for (position, picked) in lines.iter().enumerate() {
            let line = &picked.line;
            let source = &line.source;
            let ordered = source.order_line().filter(|_| source.shipment_line().is_none());
            let in_advance = source.in_advance();
            let price = line.price_change.as_ref();
            let tax = line.tax_change.as_ref();
            rows.push((
                (id, position, source.shipment_line(), ordered, line.quantity.scaled()),
                (
                    price.map(|change| change.unit_price.scaled()),
                    price.map(|change| &change.reason),
                    price.and_then(|change| change.allowed),
                ),
                (
                    tax.filter(|_| source.order_line().is_some()).map(|change| &change.code),
                    tax.filter(|_| source.order_line().is_some()).map(|change| &change.reason),
                    line.tax_date,
                ),
                picked.typed.as_ref().map(json).transpose()?,
                (in_advance.map(|(line, _)| line), in_advance.map(|(_, asks)| json(asks)).transpose()?),
            ));
        }
    }
    let rows = json(&rows)?;
    sqlx::query!(
        "INSERT INTO document_lines (document_id, position, shipment_line_id, order_line_id, quantity_e4, unit_price_e6, price_reason,
                price_allowed_minor, tax_code, tax_reason, tax_date, typed, prepays_line_id, asks)
         SELECT value ->> '$[0][0]', value ->> '$[0][1]', value ->> '$[0][2]', value ->> '$[0][3]', value ->> '$[0][4]',
                value ->> '$[1][0]', value ->> '$[1][1]', value ->> '$[1][2]', value ->> '$[2][0]', value ->> '$[2][1]', value ->> '$[2][2]',
                value ->> '$[3]', value ->> '$[4][0]', value ->> '$[4][1]'
         FROM jsonb_each(?)",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE shipment_lines SET drafted_e4 = drafted_e4 + picked.quantity, unbilled_e4 = unbilled_e4 - picked.quantity, unbilled_minor = NULL
         FROM (SELECT value ->> '$[0][2]' AS line, value ->> '$[0][4]' AS quantity FROM jsonb_each(?)) AS picked
         WHERE shipment_lines.id = picked.line",
        rows
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE order_lines SET drafted_e4 = drafted_e4 + picked.quantity
         FROM (SELECT value ->> '$[0][3]' AS line, value ->> '$[0][4]' AS quantity FROM jsonb_each(?)) AS picked
         WHERE order_lines.id = picked.line",
        rows
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Takes the lines of drafts off again: what they reserved is free.
pub(super) async fn release(connection: &mut SqliteConnection, ids: &[InvoiceId]) -> Result<()> {
    let ids = json(&ids)?;
    sqlx::query!(
        "UPDATE shipment_lines SET drafted_e4 = drafted_e4 - mine.quantity, unbilled_e4 = unbilled_e4 + mine.quantity, unbilled_minor = NULL
         FROM (SELECT shipment_line_id AS line, sum(quantity_e4) AS quantity FROM invoice_lines
               WHERE invoice_id IN (SELECT value FROM jsonb_each(?)) AND shipment_line_id IS NOT NULL GROUP BY 1) AS mine
         WHERE shipment_lines.id = mine.line",
        ids
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!(
        "UPDATE order_lines SET drafted_e4 = drafted_e4 - mine.quantity
         FROM (SELECT order_line_id AS line, sum(quantity_e4) AS quantity FROM invoice_lines
               WHERE invoice_id IN (SELECT value FROM jsonb_each(?)) AND shipment_line_id IS NULL AND order_line_id IS NOT NULL GROUP BY 1) AS mine
         WHERE order_lines.id = mine.line",
        ids
    )
    .execute(&mut *connection)
    .await?;
    sqlx::query!("DELETE FROM document_lines WHERE document_id IN (SELECT value FROM jsonb_each(?))", ids)
        .execute(connection)
        .await?;
    Ok(())
}

/// What is to be billed, with the freight of shipments that come onto the draft now.
async fn with_new_freight(
    connection: &mut SqliteConnection,
    rules: &Rules,
    before: &ToBill,
    to_bill: &ToBill,
) -> Result<ToBill> {
    let on_it = |pick: &Pick| before.picks.iter().any(|other| other.shipment_line == pick.shipment_line);
    let new: Vec<Pick> = to_bill.picks.iter().filter(|pick| !on_it(pick)).copied().collect();
    let mut with = to_bill.clone();
    for pick in with_freight(connection, rules, &new).await? {
        if !with.picks.iter().any(|other| other.shipment_line == pick.shipment_line) {
            with.picks.push(pick);
        }
    }
    Ok(with)
}

/// Replaces what a draft bills and what was typed about it. Returns its new version.
///
/// # Errors
/// [`StoreError::Stale`], a line of another customer, or what the core refuses.
pub async fn change_draft(
    writing: &mut Writing<'_>,
    rules: &Rules,
    id: InvoiceId,
    version: i64,
    to_bill: &ToBill,
) -> Result<i64> {
    to_bill.check()?;
    let before = draft(writing, id, Some(version)).await?;
    let was = conflict::described(writing, &before.to_bill).await?;
    // Reserved lines count as free again, and keep their prices, until the new ones are checked.
    let wish =
        DraftRow { to_bill: with_new_freight(writing, rules, &before.to_bill, to_bill).await?, ..before.clone() };
    let wanted = to_decide(writing, rules, std::slice::from_ref(&wish)).await?;
    if let Some(foreign) = wanted[0].lines.iter().find(|line| line.picking.customer != before.customer) {
        let (owner, _) = customers::facts(writing, before.customer).await?;
        let what = foreign.picking.source.shipment().map_or("This line", |(_, number)| number);
        return Err(StoreError::invalid("picks", format!("{what} is not a shipment to {}.", owner.name)));
    }
    let inputs = inputs(writing, rules, Step::Bill, wanted.clone()).await?;
    let decision = decide(&inputs[0]);
    if stops(&decision.blockers) {
        return Err(StoreError::Refused(decision.blockers));
    }
    release(writing, &[id]).await?;
    reserve(writing, &[(id, &wanted[0].lines)]).await?;
    let head = &wanted[0].head;
    let terms = head.terms.as_ref().map(json).transpose()?;
    sqlx::query!(
        "UPDATE documents SET document_date = ?, posting_date = ?, terms = ?, text_above = ?, text_below = ?, held = NULL, version = version + 1
         WHERE id = ?",
        to_bill.document_date,
        to_bill.posting_date,
        terms,
        head.text_above,
        head.text_below,
        id.0
    )
    .execute(&mut **writing)
    .await?;
    let is = drafts(writing, &[id]).await?.pop().map(|row| row.to_bill).unwrap_or_default();
    let is = conflict::described(writing, &is).await?;
    note_draft(writing, id, "draft_changed", version + 1, differences(&was, &is)).await?;
    Ok(version + 1)
}

/// Drops a draft: its quantities are unbilled again.
///
/// # Errors
/// [`StoreError::Stale`], or where it is posted.
pub async fn drop_draft(writing: &mut Writing<'_>, id: InvoiceId, version: i64) -> Result<()> {
    let before = draft(writing, id, Some(version)).await?;
    let was = conflict::described(writing, &before.to_bill).await?;
    note_draft(writing, id, "draft_dropped", version, differences(&was, &Fields::new())).await?;
    drop_many(writing, &[id]).await
}

/// Drops drafts without a note of each.
pub(crate) async fn drop_many(writing: &mut Writing<'_>, ids: &[InvoiceId]) -> Result<()> {
    let raw: Vec<i64> = ids.iter().map(|id| id.0).collect();
    crate::approvals::documents_gone(writing, DocumentKind::Invoice, &raw).await?;
    release(writing, ids).await?;
    let ids = json(&ids)?;
    sqlx::query!("DELETE FROM document_links WHERE from_id IN (SELECT value FROM jsonb_each(?))", ids)
        .execute(&mut **writing)
        .await?;
    sqlx::query!("DELETE FROM documents WHERE id IN (SELECT value FROM jsonb_each(?))", ids)
        .execute(&mut **writing)
        .await?;
    Ok(())
}

/// Notes what was done to a draft.
pub(super) async fn note_draft(
    writing: &mut Writing<'_>,
    id: InvoiceId,
    what: &str,
    version: i64,
    changes: Vec<FieldChange>,
) -> Result<()> {
    let name = sqlx::query_scalar!(
        "SELECT name FROM invoices JOIN customers ON customers.id = customer_id WHERE invoices.id = ?",
        id.0
    )
    .fetch_one(&mut **writing)
    .await?;
    let verb = match what {
        "draft_made" => "made",
        "draft_dropped" => "deleted",
        _ => "changed",
    };
    let words = format!("{verb} a draft for {name}");
    writing.note_on((DocumentKind::Invoice, id.0, &format!("draft {id}")), what, words, Some(version), changes);
    Ok(())
}
