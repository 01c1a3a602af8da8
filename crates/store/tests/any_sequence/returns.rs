//! Steps of returns: authorized, received, inspected, credited, replaced, taken back, closed.

use till_core::fixed::Quantity;
use till_core::ids::{DocumentKind, InvoiceId, ReturnId};
use till_core::returns::{ProofPolicy, Repair, ReturnLimit};
use till_store::invoices::{self, AddedLine, CameBack, CreditAlone, CreditLine, ToCredit};
use till_store::receipts::ToReverse;
use till_store::returns::{
    self, BackAtOnce, ComesBack, InspectForm, InspectLine, NewReturn, NewReturnLine, ReceiveForm, ReceiveLine,
    ReplaceForm, ReturnFilter, ReturnRules, ReturnToClose, ReturnView, ReturnableFilter, UnknownAtOnce, UnknownBack,
    WrongItem,
};
use till_store::rules;

use super::Made;
use super::common::*;

const DISPOSITIONS: [&str; 4] = ["RESTOCK", "SCRAP", "SUPPLIER", "REJECT"];

/// A return of which something is wanted, or any; none where there is none yet.
async fn one_with(company: &Company, at: usize, wanted: impl Fn(&ReturnView) -> bool) -> Option<ReturnView> {
    let mut books = company.store.read().await.unwrap();
    let rules = rules::load(&mut books).await.unwrap();
    let all = returns::list(&mut books, &rules, &ReturnFilter::default(), (500, 0)).await.unwrap().returns;
    let mut first = None;
    for offset in 0..all.len() {
        let view = returns::view(&mut books, &rules, all[(at + offset) % all.len()].id).await.unwrap();
        if wanted(&view) {
            return Some(view);
        }
        first.get_or_insert(view);
    }
    first
}

/// All of a quantity, a part of it, or a little more.
fn some_of(all: Quantity, how_much: i64) -> String {
    let part = match how_much % 5 {
        0 | 1 => all.scaled(),
        2 => all.scaled() / 2,
        3 => how_much.abs() * 100,
        _ => all.scaled() + how_much.abs() % 3,
    };
    Quantity::from_scaled(part).to_string()
}

pub(crate) async fn run(company: &Company, made: &mut Made, (at, what, how_much): (usize, u8, i64)) {
    match what {
        0..=4 => authorize(company, made, at, how_much).await,
        5..=8 => receive(company, made, at, how_much).await,
        9..=11 => inspect(company, made, at, how_much).await,
        12 | 13 => credit(company, made, at, how_much).await,
        14 => replace(company, made, at, how_much).await,
        15 => undo(company, made, at).await,
        16 => close(company, made, at).await,
        17..=19 => at_once(company, made, at, how_much).await,
        20 => put_right(company, made, at, how_much).await,
        _ => repair(company, made, at, how_much).await,
    }
}

/// A direct return, with a fee or not, or an exchange: to pay, to credit or even.
async fn at_once(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    if made.invoices.is_empty() {
        return;
    }
    let invoice: InvoiceId = made.invoices[at % made.invoices.len()];
    let lines = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let filter = ReturnableFilter { invoice: Some(invoice), ..ReturnableFilter::default() };
        returns::returnable(&mut books, &rules, &filter, (50, 0)).await.unwrap().lines
    };
    let Some(line) = lines.iter().find(|line| line.obstacle.is_none()).or(lines.first()) else { return };
    let price = Some((how_much.abs() % 900 + 1).to_string());
    let goes = |item: &str, quantity: i64| AddedLine {
        item: Some(item.to_owned()),
        quantity: quantity.to_string(),
        unit_price: price.clone(),
        ..AddedLine::default()
    };
    let added = match how_much.rem_euclid(4) {
        0 => Vec::new(),
        1 => vec![AddedLine { unit_price: Some("1.13".to_owned()), ..goes("FRT", 1) }],
        2 => vec![goes("B", how_much.abs() % 3 + 1)],
        _ => vec![goes("A", 1), goes("FRT", 1)],
    };
    let what = match added.first().map(|line| line.item.as_deref()) {
        None | Some(Some("FRT")) => "direct return",
        _ => "exchange",
    };
    let disposition = [None, Some("RESTOCK"), Some("SCRAP")][usize::try_from(how_much.abs()).unwrap_or(0) % 3];
    let wish = BackAtOnce {
        back: vec![ComesBack {
            position: usize::try_from(line.position).unwrap(),
            quantity: some_of(line.left, how_much / 4),
            reason: "UNWANTED".to_owned(),
            disposition: disposition.map(str::to_owned),
        }],
        added,
        date: Some(made.on),
        reason: "by chance".to_owned(),
        seen: None,
    };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::at_once(writing, &rules, invoice, &wish).await
        })
        .await;
    if let Ok(done) = &outcome
        && done.document.kind == DocumentKind::Invoice
    {
        made.invoices.push(InvoiceId(done.document.id));
    }
    made.note(what, outcome);
}

async fn put_right(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    if made.invoices.is_empty() {
        return;
    }
    let invoice: InvoiceId = made.invoices[at % made.invoices.len()];
    let wish = WrongItem {
        quantity: some_of(Quantity::from_whole(how_much.abs() % 3 + 1), how_much / 4),
        item: "B".to_owned(),
        sent_quantity: Some((how_much.abs() % 4).to_string()),
        reason: "WRONG".to_owned(),
        date: Some(made.on),
        ..WrongItem::default()
    };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::put_right(writing, &rules, invoice, &wish).await
        })
        .await;
    made.note("put right", outcome);
}

async fn repair(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    if how_much % 5 == 4 {
        return keep(company, made, at, how_much / 5).await;
    }
    let way = if how_much % 2 == 0 { Repair::In } else { Repair::Out };
    let wanted = |view: &ReturnView| match way {
        Repair::In => view.lines[0].expected.is_positive(),
        Repair::Out => view.lines[0].in_repair.is_positive(),
    };
    let Some(view) = one_with(company, at, wanted).await else { return };
    let all = if way == Repair::In { view.lines[0].expected } else { view.lines[0].in_repair };
    let form = ReceiveForm {
        lines: vec![ReceiveLine { line: view.lines[0].id, quantity: some_of(all, how_much / 2) }],
        date: Some(made.on),
        in_repair: false,
        note: None,
    };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::repair(writing, &rules, view.id, (view.version, None), way, &form).await
        })
        .await;
    made.note("repair", outcome);
}

/// What is in for repair is received after all.
async fn keep(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let Some(view) = one_with(company, at, |view| view.lines[0].in_repair.is_positive()).await else { return };
    let form = ReceiveForm {
        lines: vec![ReceiveLine { line: view.lines[0].id, quantity: some_of(view.lines[0].in_repair, how_much) }],
        date: Some(made.on),
        in_repair: true,
        note: None,
    };
    let outcome = change(company, async |writing, rules| {
        returns::receive(writing, rules, view.id, (view.version, None), &form).await
    })
    .await;
    made.note("keep from repair", outcome);
}

async fn post_authorized(company: &Company, made: &mut Made, what: &'static str, new: NewReturn) {
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::authorize(writing, &rules, &new, None).await
        })
        .await;
    made.note(what, outcome);
}

/// Of goods that left and are not billed.
async fn authorize_unbilled(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let customer = company.customers[at % company.customers.len()];
    let lines = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let filter = ReturnableFilter { customer: Some(customer), ..ReturnableFilter::default() };
        returns::returnable(&mut books, &rules, &filter, (200, 0)).await.unwrap().lines
    };
    let unbilled: Vec<_> = lines.into_iter().filter(|line| line.shipment_line.is_some()).collect();
    if unbilled.is_empty() {
        return;
    }
    let line = &unbilled[usize::try_from(how_much.abs()).unwrap_or(0) % unbilled.len()];
    let new = NewReturn {
        customer,
        lines: vec![NewReturnLine {
            shipment_line: line.shipment_line,
            quantity: some_of(line.left, how_much / 3),
            reason: "SURPLUS".to_owned(),
            ..NewReturnLine::default()
        }],
        ..NewReturn::default()
    };
    post_authorized(company, made, "authorize unbilled", new).await;
}

/// Of goods that no document shows.
async fn authorize_unknown(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let cost = (how_much % 3 == 0).then(|| (how_much.abs() % 80).to_string());
    let new = NewReturn {
        customer: company.customers[at % company.customers.len()],
        lines: vec![NewReturnLine {
            item: Some(["A", "B", "FRT"][usize::try_from(how_much.abs()).unwrap_or(0) % 9 % 3].to_owned()),
            price: Some(format!("{}.35", how_much.abs() % 90)),
            cost_reason: cost.as_ref().map(|_| "by chance".to_owned()),
            cost,
            quantity: (how_much.abs() % 3 + 1).to_string(),
            reason: "UNWANTED".to_owned(),
            ..NewReturnLine::default()
        }],
        ..NewReturn::default()
    };
    post_authorized(company, made, "authorize unknown", new).await;
}

/// Goods that no document shows are credited at once, with others for them, dearer or cheaper, or none.
async fn exchange_unknown(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let price = format!("{}.40", how_much.abs() % 60);
    let out = |price: &str| AddedLine {
        item: Some("B".to_owned()),
        quantity: "1".to_owned(),
        unit_price: Some(price.to_owned()),
        ..AddedLine::default()
    };
    let added = match how_much.rem_euclid(4) {
        0 => Vec::new(),
        1 => vec![out(&price)],
        _ => vec![out(&format!("{}.15", how_much.abs() % 53))],
    };
    let wish = UnknownAtOnce {
        customer: company.customers[at % company.customers.len()],
        back: vec![UnknownBack {
            item: ["A", "B"][usize::try_from(how_much.abs()).unwrap_or(0) % 2].to_owned(),
            quantity: "1".to_owned(),
            price,
            reason: "UNWANTED".to_owned(),
            disposition: (how_much % 3 == 0).then(|| "RESTOCK".to_owned()),
            ..UnknownBack::default()
        }],
        added,
        date: Some(made.on),
        reason: "by chance".to_owned(),
        seen: None,
    };
    let outcome = change(company, async |writing, rules| returns::unknown_at_once(writing, rules, &wish).await).await;
    if let Ok(done) = &outcome
        && done.document.kind == DocumentKind::Invoice
    {
        made.invoices.push(InvoiceId(done.document.id));
    }
    made.note("exchange unknown", outcome);
}

/// What is asked of returns: the policies change between sequences, as the companies do.
pub(crate) async fn policies(company: &Company, which: usize) {
    let new = ReturnRules {
        days: 60,
        proof: [ProofPolicy::Free, ProofPolicy::Warn][which % 2],
        limit: ReturnLimit::ALL[which / 2 % 2],
    };
    change(company, async |writing, rules| returns::set_rules(writing, rules, &new).await).await.unwrap();
}

async fn authorize(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    match how_much.rem_euclid(5) {
        0 => return authorize_unbilled(company, made, at, how_much / 5).await,
        1 => return authorize_unknown(company, made, at, how_much / 5).await,
        2 => return exchange_unknown(company, made, at, how_much / 5).await,
        _ => {}
    }
    if made.invoices.is_empty() {
        return;
    }
    let invoice: InvoiceId = made.invoices[at % made.invoices.len()];
    let (customer, lines) = {
        let mut books = company.store.read().await.unwrap();
        let rules = rules::load(&mut books).await.unwrap();
        let customer = invoices::view(&mut books, invoice).await.unwrap().customer.id;
        let filter = ReturnableFilter { invoice: Some(invoice), ..ReturnableFilter::default() };
        (customer, returns::returnable(&mut books, &rules, &filter, (50, 0)).await.unwrap().lines)
    };
    // Now and then a line of which nothing may come back.
    let Some(line) = lines.iter().find(|line| line.obstacle.is_none()).or(lines.first()) else { return };
    let new = NewReturn {
        customer,
        lines: vec![NewReturnLine {
            line: line.line,
            quantity: some_of(line.left, how_much),
            reason: "DAMAGED".to_owned(),
            ..NewReturnLine::default()
        }],
        ..NewReturn::default()
    };
    post_authorized(company, made, "authorize return", new).await;
}

async fn receive(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let expects = |view: &ReturnView| view.lines.iter().any(|line| line.expected.is_positive());
    let Some(view) = one_with(company, at, expects).await else { return };
    let form = ReceiveForm {
        lines: vec![ReceiveLine { line: view.lines[0].id, quantity: some_of(view.lines[0].expected, how_much) }],
        date: Some(made.on),
        in_repair: false,
        note: None,
    };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::receive(writing, &rules, view.id, (view.version, None), &form).await
        })
        .await;
    made.note("receive return", outcome);
}

async fn inspect(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let waits = |view: &ReturnView| view.lines.iter().any(|line| line.waiting.is_positive());
    let Some(view) = one_with(company, at, waits).await else { return };
    let disposition = DISPOSITIONS[usize::try_from(how_much.abs()).unwrap_or(0) % DISPOSITIONS.len()];
    let claim = (disposition == "SUPPLIER").then(|| format!("{}.50", how_much.abs() % 40));
    let quantity = some_of(view.lines[0].waiting, how_much);
    let form = InspectForm {
        lines: vec![InspectLine { line: view.lines[0].id, quantity, disposition: disposition.to_owned(), claim }],
        date: Some(made.on),
        note: None,
    };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::inspect(writing, &rules, view.id, (view.version, None), &form).await
        })
        .await;
    made.note("inspect return", outcome);
}

fn unsettled(view: &ReturnView) -> bool {
    view.lines.iter().any(|line| line.to_settle.is_positive())
}

async fn credit(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let Some(view) = one_with(company, at, unsettled).await else { return };
    let line = &view.lines[0];
    let Some(document) = &line.document else { return credit_unknown(company, made, &view, how_much).await };
    let lines = vec![CreditLine {
        position: usize::try_from(line.position.unwrap()).unwrap(),
        quantity: Some(some_of(line.to_settle, how_much)),
        amount: None,
        return_line: Some(line.id),
    }];
    let wish = ToCredit { lines, added: Vec::new(), date: Some(made.on), reason: "by chance".to_owned(), seen: None };
    let invoice = InvoiceId(document.id);
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            invoices::credit(writing, &rules, invoice, &wish).await
        })
        .await;
    made.note("credit return", outcome);
}

/// What came back without a document is credited by a credit memo of its own.
async fn credit_unknown(company: &Company, made: &mut Made, view: &ReturnView, how_much: i64) {
    let line = &view.lines[0];
    let wish = CreditAlone {
        customer: view.customer.id,
        currency: None,
        added: vec![AddedLine {
            item: Some(line.code.clone()),
            quantity: some_of(line.to_settle, how_much),
            unit_price: line.unit_price.map(|price| price.to_string()),
            ..AddedLine::default()
        }],
        came_back: vec![CameBack { line: 0, return_line: line.id }],
        date: Some(made.on),
        reason: "by chance".to_owned(),
        seen: None,
    };
    let outcome = change(company, async |writing, rules| invoices::credit_alone(writing, rules, &wish).await).await;
    made.note("credit unknown", outcome);
}

async fn replace(company: &Company, made: &mut Made, at: usize, how_much: i64) {
    let Some(view) = one_with(company, at, unsettled).await else { return };
    let line = &view.lines[0];
    let quantity = some_of(line.to_settle, how_much);
    let form = ReplaceForm { line: line.id, quantity, date: Some(made.on), note: None };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::replace(writing, &rules, view.id, (view.version, None), &form).await
        })
        .await;
    made.note("replace return", outcome);
}

async fn undo(company: &Company, made: &mut Made, at: usize) {
    let stands = |view: &ReturnView| view.steps.iter().any(|step| step.reversed_on.is_none());
    let Some(view) = one_with(company, at, stands).await else { return };
    let Some(step) = view.steps.iter().rfind(|step| step.reversed_on.is_none()) else { return };
    let wish = ToReverse { date: Some(made.on), reason: "by chance".to_owned() };
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::undo(writing, &rules, (view.id, step.id), (view.version, None), &wish).await
        })
        .await;
    made.note("undo return", outcome);
}

async fn close(company: &Company, made: &mut Made, at: usize) {
    let Some(view) = one_with(company, at, |view| view.closed_on.is_none()).await else { return };
    let wish = ReturnToClose { version: view.version, reason: "by chance".to_owned() };
    let id: ReturnId = view.id;
    let outcome = company
        .store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::close(writing, &rules, id, &wish).await
        })
        .await;
    made.note("close return", outcome);
}
