//! Writing decided invoices into the books: many in a few statements.

use sqlx::SqliteConnection;
use till_core::ids::{DocumentKind, DocumentRef, InvoiceId};
use till_core::invoice::{CustomerFacts, Delivery, InvoiceDecision, InvoiceDocument, InvoiceInput};
use till_core::posting::Posting;

use super::PostedInvoice;
use crate::convert::{json, terms_json};
use crate::rules::next_numbers;
use crate::writing::{Writing, set};
use crate::{Result, StoreError, deliveries, posting};

/// A draft to post, with what was decided on it.
pub(crate) struct ToPost {
    id: InvoiceId,
    customer: CustomerFacts,
    /// Whether it writes an entry, and one of the cost.
    entries: (bool, bool),
    posting: Posting,
    decision: InvoiceDecision,
}

impl ToPost {
    pub(crate) fn of(id: InvoiceId, input: &InvoiceInput<'_>, mut decision: InvoiceDecision) -> Self {
        let entries = (decision.entry.is_some(), decision.cost_entry.is_some());
        let posting = decision.take_posting();
        Self { id, customer: input.customer.clone(), entries, posting, decision }
    }
}

/// One invoice with its number.
struct Numbered<'a> {
    id: InvoiceId,
    number: String,
    sequence: i64,
    document: &'a InvoiceDocument,
    decision: &'a InvoiceDecision,
    posting: &'a Posting,
    entries: (bool, bool),
    customer: &'a CustomerFacts,
    entry: Option<i64>,
    cost_entry: Option<i64>,
}

/// Turns drafts into posted invoices, in their order, with everything that follows from it.
///
/// # Errors
/// [`StoreError::Moved`] where there is nothing to post on one of them.
pub(crate) async fn post_all(writing: &mut Writing<'_>, to_post: Vec<ToPost>) -> Result<Vec<PostedInvoice>> {
    let ahead = |one: &ToPost| one.decision.document.as_ref().is_some_and(InvoiceDocument::is_prepayment);
    // Prepayment invoices have numbers of their own, and are posted by themselves.
    let range = if to_post.iter().all(ahead) { "prepayment_invoice" } else { "invoice" };
    let (prefix, first) = next_numbers(writing, range, to_post.len()).await?;
    let mut all = Vec::with_capacity(to_post.len());
    for (one, sequence) in to_post.iter().zip(first..) {
        all.push(Numbered {
            id: one.id,
            number: format!("{prefix}{sequence}"),
            sequence,
            document: one.decision.document.as_ref().ok_or(StoreError::Moved)?,
            decision: &one.decision,
            posting: &one.posting,
            entries: one.entries,
            customer: &one.customer,
            entry: None,
            cost_entry: None,
        });
    }
    enter(writing, &mut all).await?;
    write_lines(writing, &all).await?;
    write_taxes(writing, &all).await?;
    write_heads(writing, &all).await?;
    let going: Vec<_> = all.iter().map(|one| (one.id.0, one.customer.id, one.customer.delivery)).collect();
    deliveries::add(writing, &going).await?;
    let ids: Vec<i64> = all.iter().map(|one| one.id.0).collect();
    crate::approvals::documents_gone(writing, DocumentKind::Invoice, &ids).await?;
    Ok(all.into_iter().map(|one| note(writing, one)).collect())
}

fn note(writing: &mut Writing<'_>, one: Numbered<'_>) -> PostedInvoice {
    let document = one.document;
    let mut fields = vec![
        set("total", document.currency.format(document.total)),
        set("due", till_core::calendar::words(document.due_date)),
        set("lines", document.lines.len()),
    ];
    if let Some(discount) = &document.discount {
        fields.push(set("discount", document.currency.format(discount.amount)));
    }
    fields.push(set(
        "goes out",
        match one.customer.delivery {
            Delivery::Paper => "on paper",
            Delivery::Email | Delivery::Structured => "by email",
        },
    ));
    let words = format!("posted {} to {}", one.number, one.customer.name);
    writing.note_on((DocumentKind::Invoice, one.id.0, &one.number), "invoice_posted", words, None, fields);
    PostedInvoice { id: one.id, number: one.number }
}

/// Everything but the documents themselves.
async fn enter(writing: &mut Writing<'_>, all: &mut [Numbered<'_>]) -> Result<()> {
    let sources: Vec<DocumentRef> = all
        .iter()
        .map(|one| DocumentRef { kind: DocumentKind::Invoice, id: one.id.0, number: one.number.clone() })
        .collect();
    let of: Vec<_> = sources.iter().zip(all.iter()).map(|(source, one)| (source, one.posting)).collect();
    let written = posting::write_all(writing, &of).await?;
    for (one, ids) in all.iter_mut().zip(written) {
        let mut ids = ids.into_iter().map(|id| id.0);
        one.entry = if one.entries.0 { ids.next() } else { None };
        one.cost_entry = if one.entries.1 { ids.next() } else { None };
    }
    Ok(())
}

async fn write_lines(connection: &mut SqliteConnection, all: &[Numbered<'_>]) -> Result<()> {
    let mut lines = Vec::new();
    for one in all {
        let mut leaves: Vec<Option<i64>> = vec![None; one.document.lines.len()];
        for leaving in &one.decision.leaving {
            if let Some(line) = leaves.get_mut(leaving.line) {
                *line = Some(leaving.issues.iter().map(|issue| issue.quantity.scaled()).sum());
            }
        }
        for (position, (line, cost)) in one.document.lines.iter().zip(&one.decision.costs).enumerate() {
            lines.push((
                (
                    one.id,
                    position,
                    line.ordered.scaled(),
                    line.billed_before.scaled(),
                    line.still_to_come.scaled(),
                    &line.code,
                    &line.description,
                    &line.unit,
                ),
                (
                    line.unit_price.scaled(),
                    line.list_price.scaled(),
                    line.discount.scaled(),
                    &line.discount_reason,
                    line.full,
                    line.amount,
                    line.off,
                    line.net,
                ),
                (&line.tax.code, line.tax.category, line.tax.rate.scaled(), &line.order_tax_code, &line.tax_reason),
                (line.order_price.scaled(), &line.price_reason, line.surcharge.scaled(), &line.surcharge_name),
                (
                    &line.price_steps,
                    &line.marks,
                    line.kind.word(),
                    line.source.order_line(),
                    line.item,
                    &line.account,
                    cost,
                    line.tax_date,
                    leaves[position],
                    one.decision.advanced.get(position).map(|part| (part.tax, part.net_base)),
                ),
            ));
        }
    }
    let lines = json(&lines)?;
    sqlx::query!(
        "UPDATE document_lines SET
            ordered_e4 = new.value ->> '$[0][2]', billed_before_e4 = new.value ->> '$[0][3]', still_to_come_e4 = new.value ->> '$[0][4]',
            code = new.value ->> '$[0][5]', description = new.value ->> '$[0][6]', unit = new.value ->> '$[0][7]',
            unit_price_e6 = new.value ->> '$[1][0]', list_price_e6 = new.value ->> '$[1][1]', discount_e6 = new.value ->> '$[1][2]',
            discount_reason = new.value ->> '$[1][3]', full_minor = new.value ->> '$[1][4]', amount_minor = new.value ->> '$[1][5]',
            off_minor = new.value ->> '$[1][6]', net_minor = new.value ->> '$[1][7]',
            tax_code = new.value ->> '$[2][0]', tax_category = new.value ->> '$[2][1]', tax_rate_e6 = new.value ->> '$[2][2]',
            order_tax_code = new.value ->> '$[2][3]', tax_reason = new.value ->> '$[2][4]',
            order_price_e6 = new.value ->> '$[3][0]', price_reason = new.value ->> '$[3][1]',
            surcharge_e6 = new.value ->> '$[3][2]', surcharge_name = new.value ->> '$[3][3]',
            price_steps = new.value -> '$[4][0]', marks = new.value -> '$[4][1]', kind = new.value ->> '$[4][2]',
            order_line_id = new.value ->> '$[4][3]', item_id = new.value ->> '$[4][4]', account = new.value ->> '$[4][5]',
            cost_minor = new.value ->> '$[4][6]', tax_date = new.value ->> '$[4][7]', leaves_e4 = new.value ->> '$[4][8]',
            prepaid_tax_minor = new.value ->> '$[4][9][0]', prepaid_base_minor = new.value ->> '$[4][9][1]'
         FROM jsonb_each(?) AS new
         WHERE document_id = new.value ->> '$[0][0]' AND position = new.value ->> '$[0][1]'",
        lines
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn write_taxes(connection: &mut SqliteConnection, all: &[Numbered<'_>]) -> Result<()> {
    let mut taxes = Vec::new();
    let mut shares = Vec::new();
    for one in all {
        for (position, tax) in one.document.taxes.iter().enumerate() {
            let rate = tax.rate.rate.scaled();
            taxes.push((one.id, position, &tax.rate.code, tax.rate.category, rate, tax.base, tax.tax));
        }
        for (position, share) in one.document.order_shares.iter().enumerate() {
            let mut lines = one.document.lines.iter().filter(|line| line.source.order() == Some(share.order));
            let theirs = lines.next().and_then(|line| line.source.customer_order_number());
            shares.push((one.id, share.order, position, share.gross, theirs));
        }
    }
    let taxes = json(&taxes)?;
    sqlx::query!(
        "INSERT INTO document_taxes (document_id, position, tax_code, category, rate_e6, base_minor, tax_minor)
         SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4, value ->> 5, value ->> 6 FROM jsonb_each(?)",
        taxes
    )
    .execute(&mut *connection)
    .await?;
    let shares = json(&shares)?;
    sqlx::query!(
        "INSERT INTO document_orders (document_id, order_id, position, gross_minor, customer_order_number)
         SELECT value ->> 0, value ->> 1, value ->> 2, value ->> 3, value ->> 4 FROM jsonb_each(?)",
        shares
    )
    .execute(connection)
    .await?;
    Ok(())
}

async fn write_heads(connection: &mut SqliteConnection, all: &[Numbered<'_>]) -> Result<()> {
    let mut heads = Vec::with_capacity(all.len());
    for one in all {
        let document = one.document;
        let discount = document.discount.as_ref();
        heads.push((
            (one.id, &one.number, one.sequence, document.currency.code(), document.rate.scaled()),
            (document.document_date.date, document.posting_date.date, document.tax_date, document.due_date),
            terms_json(&document.terms)?,
            (
                document.net,
                document.tax,
                document.total,
                document.total_base,
                document.tax_computed,
                document.lines_total,
            ),
            (one.entry, one.cost_entry, document.gross_priced as i64),
            (
                discount.and_then(|discount| discount.percent).map(|percent| percent.scaled()),
                discount.map(|discount| discount.amount),
                discount.map(|discount| &discount.reason),
            ),
            &one.decision.differences,
            json(&one.decision.tape)?,
        ));
    }
    let heads = json(&heads)?;
    sqlx::query!(
        "UPDATE documents SET state = 'posted', number = new.value ->> '$[0][1]', sequence = new.value ->> '$[0][2]',
                currency = new.value ->> '$[0][3]', rate_e9 = new.value ->> '$[0][4]',
                document_date = new.value ->> '$[1][0]', posting_date = new.value ->> '$[1][1]', tax_date = new.value ->> '$[1][2]',
                due_date = new.value ->> '$[1][3]', terms = new.value ->> '$[2]',
                net_minor = new.value ->> '$[3][0]', tax_minor = new.value ->> '$[3][1]', total_minor = new.value ->> '$[3][2]',
                total_base_minor = new.value ->> '$[3][3]', tax_computed = new.value ->> '$[3][4]',
                lines_minor = new.value ->> '$[3][5]', entry_id = new.value ->> '$[4][0]', cost_entry_id = new.value ->> '$[4][1]',
                gross_priced = new.value ->> '$[4][2]', discount_e6 = new.value ->> '$[5][0]', discount_minor = new.value ->> '$[5][1]',
                discount_reason = new.value ->> '$[5][2]', differences = new.value -> '$[6]', tape = new.value ->> '$[7]', held = NULL, version = version + 1,
                (bill_to_name, bill_to_address, bill_to_tax_id) = (SELECT name, address, tax_id FROM customers WHERE id = customer_id)
         FROM jsonb_each(?) AS new WHERE documents.id = new.value ->> '$[0][0]'",
        heads
    )
    .execute(connection)
    .await?;
    Ok(())
}
