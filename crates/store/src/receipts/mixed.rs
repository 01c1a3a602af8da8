//! Money together with what of the customer's lies open: credit memos that were kept, money without a target, deposits on account.
//!
//! What lies open is used first, in the order it was chosen; the money goes to what is left. All of it in one change of the books.

use serde::{Deserialize, Serialize};
use till_core::checks::stops;
use till_core::entry::Entry;
use till_core::ids::{CreditMemoId, DocumentKind, DocumentRef, OpenItemId, ReceiptId};
use till_core::money::{Currency, Money};
use till_core::open_items::OpenItem;
use till_core::settle::{Method, ToApply, pool, usable};
use till_core::tape::{Change, TapeLine, TapeStyle};

use super::applying::{apply, preview_apply};
use super::{CreditOf, MoneyPreview, NewApplication, NewApplications, NewReceipt, PostedReceipt, receipt_input};
use crate::rules::Rules;
use crate::writing::Writing;
use crate::{Result, StoreError, money_places, open_items};

/// What of a credit is used with money that came.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditUsed {
    /// The credit memo, the receipt, the deposit.
    pub document: DocumentRef,
    /// How much of it, in its currency.
    pub amount: Money,
    /// What it goes to.
    pub to: Vec<CreditTo>,
    /// The entry it writes; none where both stand on one account.
    pub entry: Option<Entry>,
}

/// What of a credit goes to an item.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct CreditTo {
    /// The item.
    pub item: OpenItemId,
    /// Number of its document.
    pub number: String,
    /// How much.
    pub amount: Money,
}

/// What is to go to an item.
struct Target {
    item: OpenItemId,
    amount: Money,
    typed: Option<NewApplication>,
}

/// What was used, what is left for the money to do, and what stands in the way.
struct Used {
    credits: Vec<(CreditUsed, MoneyPreview)>,
    rest: NewReceipt,
    stopped: bool,
}

/// The credits that were chosen, each once and of someone the payer pays for.
async fn chosen(writing: &mut Writing<'_>, new: &NewReceipt, currency: Currency) -> Result<Vec<OpenItem>> {
    let found = open_items::load(writing, &new.with).await?;
    let group = open_items::paying_group(writing, new.customer).await?;
    let mut credits = Vec::with_capacity(found.len());
    for (position, id) in new.with.iter().enumerate() {
        let wrong = |sentence: String| StoreError::invalid(format!("with.{position}"), sentence);
        let item = found.iter().find(|item| item.id == *id);
        let item = item.ok_or_else(|| wrong("That is no credit of this customer.".to_owned()))?;
        usable(item, &group, currency).map_err(wrong)?;
        if new.with[..position].contains(id) {
            return Err(wrong(format!("{} is named twice.", item.document.number)));
        }
        credits.push(item.clone());
    }
    Ok(credits)
}

fn credit_of(document: &DocumentRef) -> Result<CreditOf> {
    match document.kind {
        DocumentKind::Receipt | DocumentKind::Deposit => Ok(CreditOf::Payment(ReceiptId(document.id))),
        DocumentKind::CreditMemo => Ok(CreditOf::CreditMemo(CreditMemoId(document.id))),
        _ => Err(StoreError::invalid("with", format!("{} cannot be used with money.", document.number))),
    }
}

/// Where all of it goes: as typed, or as is suggested for the money and the credits together.
async fn targets(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (new, method): (&NewReceipt, &Method),
    (currency, together): (Currency, Money),
) -> Result<Vec<Target>> {
    let all = NewReceipt { amount: currency.format(together), with: Vec::new(), ..new.clone() };
    let input = receipt_input(writing, rules, &all, method.clone()).await?;
    let typed = |at: usize| new.applications.as_ref().and_then(|typed| typed.get(at)).cloned();
    let of = |(at, ToApply { item, amount, .. }): (usize, &ToApply)| Target {
        item: item.id,
        amount: *amount,
        typed: typed(at),
    };
    Ok(input.to_apply.iter().enumerate().map(of).collect())
}

/// Uses the credits, and says what is left for the money.
async fn use_credits(writing: &mut Writing<'_>, rules: &Rules, new: &NewReceipt, method: &Method) -> Result<Used> {
    let currency = super::currency_of(writing, new).await?;
    let money = currency.parse(&new.amount).map_err(|error| StoreError::decimal("amount", &error))?;
    let credits = chosen(writing, new, currency).await?;
    let together = money + credits.iter().map(|item| item.open).sum::<Money>();
    let targets = targets(writing, rules, (new, method), (currency, together)).await?;
    let open: Vec<Money> = credits.iter().map(|item| item.open).collect();
    let wanted: Vec<Money> = targets.iter().map(|target| target.amount).collect();
    let pooled = pool(&open, &wanted);
    let mut used = Used { credits: Vec::new(), rest: NewReceipt { with: Vec::new(), ..new.clone() }, stopped: false };
    for (credit, parts) in credits.iter().zip(&pooled.credits) {
        let of = credit_of(&credit.document)?;
        let part = |(at, amount): &(usize, Money)| {
            let target: &Target = &targets[*at];
            NewApplication::to_item(target.item, currency.format(*amount))
        };
        let amount = parts.iter().map(|(_, amount)| *amount).sum();
        let parts: Vec<NewApplication> = parts.iter().map(part).collect();
        if parts.is_empty() {
            continue;
        }
        let wish = NewApplications { date: new.date, applications: Some(parts) };
        let preview = preview_apply(writing, rules, of, &wish).await?;
        let to = preview.document.applied.iter().map(|one| CreditTo {
            item: one.item,
            number: one.document.number.clone(),
            amount: one.credit_amount,
        });
        let one =
            CreditUsed { document: credit.document.clone(), amount, to: to.collect(), entry: preview.entry.clone() };
        let stopped = stops(&preview.blockers);
        let fingerprint = preview.fingerprint.clone();
        used.credits.push((one, preview));
        if stopped {
            used.stopped = true;
            return Ok(used);
        }
        let (_, version) = of.item(writing).await?;
        apply(writing, rules, of, version, &wish, Some(&fingerprint)).await?;
    }
    if new.applications.is_some() {
        let left = targets
            .into_iter()
            .zip(&pooled.left)
            .filter(|(_, left)| left.is_positive())
            .filter_map(|(target, left)| Some(NewApplication { amount: currency.format(*left), ..target.typed? }));
        used.rest.applications = Some(left.collect());
    }
    Ok(used)
}

fn mark(used: &Used, receipt: &str) -> String {
    let credits: Vec<&str> = used.credits.iter().map(|(_, preview)| preview.fingerprint.as_str()).collect();
    till_core::fingerprint::of(&(&credits, receipt))
}

/// What money with credits would do. The credits are used, so it is to be rehearsed, or followed by [`post`] of the rest.
///
/// # Errors
/// An unknown credit, one of someone else's, what cannot be read.
pub async fn preview_mixed(writing: &mut Writing<'_>, rules: &Rules, new: &NewReceipt) -> Result<MoneyPreview> {
    let method = money_places::method(writing, &new.method).await?;
    let used = use_credits(writing, rules, new, &method).await?;
    if let Some((_, stopped)) = used.credits.last().filter(|_| used.stopped) {
        return Ok(stopped.clone());
    }
    let mut preview = super::preview_by(writing, rules, &used.rest, method).await?;
    preview.fingerprint = mark(&used, &preview.fingerprint);
    let currency = preview.currency;
    let (mut lines, mut changes): (Vec<TapeLine>, Vec<Change>) = (Vec::new(), Vec::new());
    for (one, of) in &used.credits {
        let mut tape = till_core::tape::Tape::new("", "", currency);
        tape.amount(TapeStyle::Line, format!("{} used", one.document.number), one.amount);
        for to in &one.to {
            tape.amount(TapeStyle::Detail, format!("to {}", to.number), to.amount);
        }
        lines.extend(tape.lines);
        changes.extend(of.changes.clone());
        preview.blockers.extend(of.blockers.iter().filter(|blocker| !stops(std::slice::from_ref(blocker))).cloned());
    }
    preview.tape.lines.splice(0..0, lines);
    // In the order they happen.
    preview.changes.splice(0..0, changes);
    preview.with = used.credits.into_iter().map(|(one, _)| one).collect();
    Ok(preview)
}

/// Posts money together with credits: all of it, or nothing.
///
/// # Errors
/// [`StoreError::Moved`] where a figure changed since the preview, or what the core refuses.
pub(super) async fn post_mixed(
    writing: &mut Writing<'_>,
    rules: &Rules,
    (new, method): (&NewReceipt, Method),
    seen: Option<&str>,
) -> Result<PostedReceipt> {
    let used = use_credits(writing, rules, new, &method).await?;
    if let Some((_, stopped)) = used.credits.last().filter(|_| used.stopped) {
        return Err(StoreError::Refused(stopped.blockers.clone()));
    }
    let preview = super::preview_by(writing, rules, &used.rest, method.clone()).await?;
    if seen.is_some_and(|seen| seen != mark(&used, &preview.fingerprint)) {
        return Err(StoreError::Moved);
    }
    super::post_by(writing, rules, &used.rest, method, Some(&preview.fingerprint)).await
}
