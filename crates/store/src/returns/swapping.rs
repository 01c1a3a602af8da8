//! A wrong item went: put right in one step.

use chrono::NaiveDate;
use serde::{Deserialize, Serialize};
use till_core::calendar::DateOrder;
use till_core::checks::{Blocker, stops};
use till_core::entry::Entry;
use till_core::fixed::Quantity;
use till_core::ids::{CustomerId, DocumentKind, DocumentLineId, DocumentRef, InvoiceId, ItemId, ReturnId};
use till_core::money::Money;
use till_core::returns::{BilledItem, SentItem, SwapDecision, SwapInput};
use till_core::tape::Tape;

use super::authorizing::{self, NewReturn, NewReturnLine};
use super::carrying::{NewStep, StepLine, carry_out};
use super::facts;
use super::holding;
use super::steps::{dated, quantity_of};
use crate::rules::Rules;
use crate::writing::{Writing, set};
use crate::{Result, Store, StoreError, customers, stock};

/// A wrong delivery to put right.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WrongItem {
    /// The position of the line on the invoice, from zero: what was billed and did not go.
    pub position: usize,
    /// How much of it, in the unit it was sold in, as typed.
    pub quantity: String,
    /// The code of the item that really went.
    pub item: String,
    /// How much of that, in stock units; none for as much as of the other.
    #[serde(default)]
    pub sent_quantity: Option<String>,
    /// Why: the code of a reason.
    #[serde(default)]
    pub reason: String,
    /// When; none for the business date.
    #[serde(default)]
    pub date: Option<NaiveDate>,
    /// Anything to remember of it.
    #[serde(default)]
    pub note: Option<String>,
    /// Fingerprint of the preview that was seen.
    #[serde(default)]
    pub seen: Option<String>,
}

/// What putting it right would do.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WrongItemPreview {
    /// What the right item cost, in base currency.
    pub right_cost: Money,
    /// What the other one cost, in base currency.
    pub sent_cost: Money,
    /// The arithmetic; none where something stands in the way before it.
    pub tape: Option<Tape>,
    /// The entry; none where neither cost anything.
    pub entry: Option<Entry>,
    /// What stands in the way.
    pub blockers: Vec<Blocker>,
    /// To be sent back.
    pub fingerprint: String,
}

impl WrongItemPreview {
    fn of(decision: SwapDecision) -> Self {
        Self {
            right_cost: decision.right_cost,
            sent_cost: decision.sent_cost,
            tape: Some(decision.tape),
            entry: decision.entry,
            blockers: decision.blockers,
            fingerprint: decision.fingerprint,
        }
    }
}

/// The return that keeps it, and what is decided.
struct Loaded<'a> {
    id: ReturnId,
    number: String,
    input: SwapInput<'a>,
}

struct Billed {
    line: i64,
    customer: i64,
    item: Option<i64>,
    code: String,
}

async fn billed(writing: &mut Writing<'_>, invoice: InvoiceId, position: usize) -> Result<Billed> {
    let position = i64::try_from(position).unwrap_or(i64::MAX);
    let row = sqlx::query!(
        r#"SELECT document_lines.id AS "id!", customer_id AS "customer!", item_id, coalesce(code, '') AS "code!: String"
           FROM document_lines JOIN documents ON documents.id = document_id
           WHERE document_id = ? AND position = ? AND state = 'posted' AND credits_line_id IS NULL"#,
        invoice.0,
        position
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::invalid("position", "The invoice bills no such line."))?;
    Ok(Billed { line: row.id, customer: row.customer, item: row.item_id, code: row.code })
}

async fn load<'a>(
    writing: &mut Writing<'_>,
    rules: &'a Rules,
    invoice: InvoiceId,
    wish: &WrongItem,
) -> Result<Loaded<'a>> {
    let billed = billed(writing, invoice, wish.position).await?;
    let went = wish.item.trim();
    let sent = sqlx::query!(
        r#"SELECT id AS "id!", code, class FROM items WHERE code = ? COLLATE NOCASE AND kind = 'goods'"#,
        went
    )
    .fetch_optional(&mut **writing)
    .await?
    .ok_or_else(|| StoreError::invalid("item", "Choose the goods that really went, by their code."))?;
    let quantity = quantity_of("quantity".to_owned(), &wish.quantity)?;
    let new = NewReturn {
        customer: CustomerId(billed.customer),
        lines: vec![NewReturnLine {
            line: Some(DocumentLineId(billed.line)),
            quantity: wish.quantity.clone(),
            reason: wish.reason.clone(),
            ..NewReturnLine::default()
        }],
        note: wish.note.clone(),
        ..NewReturn::default()
    };
    let preview = authorizing::preview(writing, rules, &new).await.map_err(of_line)?;
    if stops(&preview.blockers) {
        return Err(of_line(StoreError::Refused(preview.blockers)));
    }
    let seen = Some(preview.fingerprint.as_str());
    let (id, number) = authorizing::authorize_of(writing, rules, &new, seen, Some(ItemId(sent.id))).await?;
    let date = dated(rules, wish.date)?;
    let mut lines = facts::lines(writing, id).await?;
    let line = lines.swap_remove(0);
    let held = holding::held(writing, rules, &[line.origin]).await?;
    let held = held.get(&line.origin).copied().unwrap_or_default();
    // What this very return expects is what is put right.
    let on_returns = Quantity::from_scaled(held.scaled() - line.progress.expected(true).scaled());
    let class =
        sqlx::query_scalar!("SELECT class FROM items WHERE id = ?", billed.item).fetch_optional(&mut **writing).await?;
    let item = ItemId(sent.id);
    let layers = stock::layers(writing, &[item], &rules.warehouse, date.date).await?.remove(&item);
    let there = stock::facts(writing, &[item], None).await?.remove(&(item, rules.warehouse.clone()));
    let sent_quantity = match wish.sent_quantity.as_deref().map(str::trim).filter(|text| !text.is_empty()) {
        Some(text) => quantity_of("sent_quantity".to_owned(), text)?,
        None => till_core::units::in_stock_units(quantity, line.factor).unwrap_or_default(),
    };
    let input = SwapInput {
        number: number.clone(),
        line: line.id,
        customer: customers::facts(writing, new.customer).await?.0,
        warehouse: rules.warehouse.clone(),
        billed: BilledItem {
            item: ItemId(billed.item.unwrap_or_default()),
            code: billed.code,
            class,
            with_customer: facts::with_customer(writing, &line).await?,
            moved: facts::moved(writing, &line).await?,
            unit: line.unit,
            factor: line.factor,
            marks: line.marks,
            billed: line.billed,
            credited: line.credited,
            on_returns,
        },
        sent: SentItem {
            item,
            code: sent.code,
            class: Some(sent.class),
            layers: layers.unwrap_or_default(),
            committed: there.map(|facts| facts.committed).unwrap_or_default(),
        },
        quantity,
        sent_quantity,
        date,
        base: rules.base,
        dates: DateOrder::of_today(rules.business_date),
        accounts: &rules.accounts,
        periods: &rules.periods,
    };
    Ok(Loaded { id, number, input })
}

/// The line of the return is the line that is put right.
fn of_line(error: StoreError) -> StoreError {
    let renamed = |field: String| field.strip_prefix("lines.0.").map(str::to_owned).unwrap_or(field);
    match error {
        StoreError::Invalid { field, sentence } => StoreError::Invalid { field: renamed(field), sentence },
        StoreError::Refused(blockers) => StoreError::Refused(
            blockers.into_iter().map(|one| Blocker { field: renamed(one.field.clone()), ..one }).collect(),
        ),
        other => other,
    }
}

/// Puts a wrong delivery right. Returns the return that keeps it: what went by mistake waits there for inspection.
///
/// # Errors
/// [`StoreError::Moved`] where it is not as it was seen, or what the core refuses.
pub async fn put_right(
    writing: &mut Writing<'_>,
    rules: &Rules,
    invoice: InvoiceId,
    wish: &WrongItem,
) -> Result<DocumentRef> {
    let Loaded { id, number, input } = load(writing, rules, invoice, wish).await?;
    let decision = till_core::returns::swap(&input);
    let line = StepLine {
        quantity: input.quantity.scaled(),
        ..StepLine::of(input.line, input.sent_quantity, decision.sent_cost)
    };
    let fields = vec![set(&input.billed.code, input.quantity), set(&input.sent.code, input.sent_quantity)];
    let head = facts::head(writing, id).await?;
    let new = NewStep {
        kind: "swapped",
        date: input.date.date,
        note: wish.note.as_deref(),
        blockers: decision.blockers.clone(),
        fingerprint: &decision.fingerprint,
        lines: vec![line],
        deed: ("wrong_item_put_right", format!("corrected a wrong delivery with {number}"), fields),
        with: None,
    };
    carry_out(writing, (id, &head), wish.seen.as_deref(), new, |step| decision.posting(&input, step)).await?;
    // Nothing else arrives on it: it would be the wrong item at the cost of the right one.
    let (closed_on, why) = (input.date.date, "a wrong item, corrected in one step");
    sqlx::query!("UPDATE returns SET closed_on = ?, closed_reason = ? WHERE id = ?", closed_on, why, id.0)
        .execute(&mut **writing)
        .await?;
    Ok(DocumentRef { kind: DocumentKind::Return, id: id.0, number })
}

/// What putting it right would do. It is carried out as far as the step and taken back: nothing stays written.
///
/// # Errors
/// What cannot be read.
pub async fn put_right_preview(
    store: &Store,
    actor: &crate::Actor,
    invoice: InvoiceId,
    wish: &WrongItem,
) -> Result<WrongItemPreview> {
    store
        .rehearse(actor, async |writing| {
            let rules = crate::rules::load(writing).await?;
            match load(writing, &rules, invoice, wish).await {
                Ok(loaded) => Ok(WrongItemPreview::of(till_core::returns::swap(&loaded.input))),
                Err(StoreError::Refused(blockers)) => Ok(WrongItemPreview {
                    right_cost: Money::ZERO,
                    sent_cost: Money::ZERO,
                    tape: None,
                    entry: None,
                    blockers,
                    fingerprint: String::new(),
                }),
                Err(other) => Err(other),
            }
        })
        .await
}
