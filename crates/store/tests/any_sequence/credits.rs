//! Steps of credits: a credit memo that stands alone, what is kept of credit memos applied, unapplied, refunded; money that lies
//! unapplied refunded; claims on suppliers answered; goods that are back and not
//! credited owed at the end of a month.

use till_core::calendar::end_of_month;
use till_core::ids::{CreditMemoId, RefundId};
use till_core::money::Money;
use till_store::invoices::{self, AddedLine, CreditAlone, CreditMemoFilter, CreditMemoView};
use till_store::receipts::{self, CreditOf, NewApplications, ToReverse, ToUnapply};
use till_store::refunds::{self, CreditToRefund, RefundView};
use till_store::returns::{self, ClaimAnswer, ClaimView, NewAccrual};
use till_store::rules;

use super::Made;
use super::common::*;

/// A credit memo of which something was kept and that fits, or any of which something was; none where there is none.
async fn memo_with(company: &Company, at: usize, wanted: impl Fn(&CreditMemoView) -> bool) -> Option<CreditMemoView> {
    let mut books = company.store.read().await.unwrap();
    let all = invoices::credit_memos(&mut books, &CreditMemoFilter::default(), (500, 0)).await.unwrap().memos;
    let mut first = None;
    for offset in 0..all.len() {
        let view = invoices::credit_memo(&mut books, all[(at + offset) % all.len()].id).await.unwrap();
        if view.kept.is_none() {
            continue;
        }
        if wanted(&view) {
            return Some(view);
        }
        first.get_or_insert(view);
    }
    first
}

fn open(view: &CreditMemoView) -> bool {
    view.kept.as_ref().is_some_and(|kept| kept.open.is_positive())
}

pub(crate) async fn run(company: &Company, made: &mut Made, (at, what, minor): (usize, u8, i64)) {
    match what {
        0..=3 => alone(company, made, at, minor).await,
        4..=6 => apply(company, made, at).await,
        7 => unapply(company, made, at).await,
        8 => refund_memo(company, made, at, minor).await,
        9 => refund_receipt(company, made, at, minor).await,
        10 => reverse_refund(company, made, at).await,
        11..=13 => answer(company, made, at, minor).await,
        14 => reverse_answer(company, made, at).await,
        _ => accrue(company, made).await,
    }
}

async fn alone(company: &Company, made: &mut Made, at: usize, minor: i64) {
    let item = [Some("A"), None, Some("FRT")][at % 3];
    let added = vec![AddedLine {
        item: item.map(str::to_owned),
        account: item.is_none().then(|| "61000".to_owned()),
        description: Some("by chance".to_owned()),
        quantity: (at % 4 + 1).to_string(),
        unit_price: Some((minor / 100).to_string()),
        tax_code: item.is_none().then(|| ["S23", "S135", "Z0"][at % 3].to_owned()),
        ..AddedLine::default()
    }];
    let currency = (minor % 5 == 0).then(|| "EUR".to_owned());
    let wish = CreditAlone {
        customer: company.customers[usize::try_from(minor.abs()).unwrap_or(0) % 3],
        currency,
        added,
        came_back: Vec::new(),
        date: Some(made.on),
        reason: "by chance".to_owned(),
        seen: None,
    };
    let outcome = change(company, async |writing, rules| invoices::credit_alone(writing, rules, &wish).await).await;
    made.note("credit alone", outcome);
}

async fn apply(company: &Company, made: &mut Made, at: usize) {
    let Some(view) = memo_with(company, at, open).await else { return };
    let new = NewApplications { date: Some(made.on), applications: None };
    let (id, version) = (view.id, view.version);
    let outcome =
        change(company, async |writing, rules| receipts::apply(writing, rules, id, version, &new, None).await).await;
    made.note("apply credit", outcome);
}

async fn unapply(company: &Company, made: &mut Made, at: usize) {
    let applied = |view: &CreditMemoView| view.kept.as_ref().is_some_and(|kept| !kept.applied.is_empty());
    let Some(view) = memo_with(company, at, applied).await else { return };
    let wish = ToUnapply { applications: None, date: Some(made.on), reason: "by chance".to_owned() };
    let (id, version): (CreditMemoId, i64) = (view.id, view.version);
    let outcome = change(company, async |writing, rules| {
        let seen = receipts::preview_unapply(writing, rules, id, &wish).await?.fingerprint;
        receipts::unapply(writing, rules, id, (version, &seen), &wish).await
    })
    .await;
    if made.note("unapply credit", outcome).is_some() {
        let after = invoices::credit_memo(&mut *company.store.read().await.unwrap(), id).await.unwrap().kept.unwrap();
        let gone: Money = after.refunds.iter().filter(|one| one.reversed_on.is_none()).map(|one| one.amount).sum();
        assert_eq!(after.open, after.amount - gone, "all but what was paid back is free again");
    }
}

async fn refund(company: &Company, made: &mut Made, of: CreditOf, minor: i64) {
    let wish = CreditToRefund {
        amount: (minor % 2 == 0).then(|| format!("{}", minor / 1_000)),
        method: ["transfer", "cash", "check"][usize::try_from(minor.abs()).unwrap_or(0) % 5 % 3].to_owned(),
        date: Some(made.on),
        reason: "by chance".to_owned(),
    };
    let outcome =
        change(company, async |writing, rules| refunds::refund(writing, rules, of, (None, None), &wish).await).await;
    made.note("refund a credit", outcome);
}

async fn refund_memo(company: &Company, made: &mut Made, at: usize, minor: i64) {
    let Some(view) = memo_with(company, at, open).await else { return };
    refund(company, made, view.id.into(), minor).await;
}

async fn refund_receipt(company: &Company, made: &mut Made, at: usize, minor: i64) {
    if made.receipts.is_empty() {
        return;
    }
    let (id, _) = super::money::one_with(company, made, at, |view| view.row.unapplied.is_positive()).await;
    refund(company, made, id.into(), minor).await;
}

async fn reverse_refund(company: &Company, made: &mut Made, at: usize) {
    let stands = |refunds: &[RefundView]| refunds.iter().find(|one| one.reversed_on.is_none()).map(|one| one.id);
    let of_memo = |view: &CreditMemoView| view.kept.as_ref().and_then(|kept| stands(&kept.refunds));
    let mut id: Option<RefundId> =
        memo_with(company, at, |view| of_memo(view).is_some()).await.as_ref().and_then(of_memo);
    if id.is_none() && !made.receipts.is_empty() {
        let (_, view) = super::money::one_with(company, made, at, |view| stands(&view.refunds).is_some()).await;
        id = stands(&view.refunds);
    }
    let Some(id) = id else { return };
    let wish = ToReverse { date: Some(made.on), reason: "by chance".to_owned() };
    let outcome = change(company, async |writing, rules| refunds::reverse(writing, rules, id, &wish).await).await;
    made.note("reverse a refund", outcome);
}

/// A claim on a supplier that fits, or any.
async fn claim_with(company: &Company, at: usize, wanted: impl Fn(&ClaimView) -> bool) -> Option<ClaimView> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let all = returns::claims(&mut books, &rules).await.unwrap().claims;
    all.iter().find(|one| wanted(one)).or_else(|| all.get(at % all.len().max(1))).cloned()
}

async fn answer(company: &Company, made: &mut Made, at: usize, minor: i64) {
    let Some(claim) = claim_with(company, at, |one| one.open.is_positive()).await else { return };
    // A part each, now and then more than is open.
    let settled = Money(claim.open.0 * (minor % 4) / 3);
    let refused = if minor % 3 == 0 { claim.open - settled } else { Money::ZERO };
    let typed = |amount: Money| Some(format!("{}.{:02}", amount.0.abs() / 100, amount.0.abs() % 100));
    let new = ClaimAnswer {
        settled: typed(settled),
        refused: typed(refused),
        method: Some("transfer".to_owned()),
        date: Some(made.on),
        ..ClaimAnswer::default()
    };
    let outcome = change(company, async |writing, rules| returns::answer(writing, rules, claim.id, &new).await).await;
    made.note("answer a claim", outcome);
}

async fn reverse_answer(company: &Company, made: &mut Made, at: usize) {
    let stands = |claim: &ClaimView| claim.answers.iter().any(|one| one.reversed_on.is_none());
    let Some(claim) = claim_with(company, at, stands).await else { return };
    let Some(one) = claim.answers.iter().find(|one| one.reversed_on.is_none()) else { return };
    let wish = ToReverse { date: Some(made.on), reason: "by chance".to_owned() };
    let outcome =
        change(company, async |writing, rules| returns::reverse_answer(writing, rules, one.id, &wish).await).await;
    made.note("reverse an answer", outcome);
}

async fn accrue(company: &Company, made: &mut Made) {
    let new = NewAccrual { date: Some(end_of_month(made.on)), seen: None };
    let outcome = change(company, async |writing, rules| returns::enter_accrual(writing, rules, &new).await).await;
    made.note("owe what is back", outcome);
}
