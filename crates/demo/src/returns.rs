//! Goods that came back: damaged in transit and half restocked, one that waits for inspection, one that is awaited, one that
//! was replaced, one that never arrived; a price that was put right; an exchange in the customer's favor, a wrong item, a repair,
//! a restocking fee; trays of a shipment that is not billed; and what is expected back.

use chrono::NaiveDate;
use till_core::fixed::Quantity;
use till_core::ids::{InvoiceId, ReturnId};
use till_core::returns::{ProofPolicy, Repair, ReturnLimit};
use till_store::invoices::{self, AddedLine, CreditAlone, CreditLine, ToCredit};
use till_store::returns::{
    self, BackAtOnce, ClaimAnswer, ComesBack, DoneAtOnce, InspectForm, InspectLine, NewExpectedReturns, NewReturn,
    NewReturnLine, ReceiveForm, ReceiveLine, ReplaceForm, ReturnRules, ReturnableFilter, ReturnableRow, WrongItem,
};
use till_store::rules::Rules;
use till_store::{Result, Store, StoreError, Writing, rules};

use crate::BUSINESS_DATE;
use crate::company::{People, date};
use crate::staff::{INES, at_work};

/// What comes back: whose, which item, how much, why, and what the customer calls it.
struct Back {
    customer: &'static str,
    item: &'static str,
    quantity: i64,
    reason: &'static str,
    reference: Option<&'static str>,
    /// When it is authorized, and until when it may arrive.
    on: &'static str,
    until: Option<&'static str>,
    planned: Option<&'static str>,
}

pub(crate) async fn run(store: &Store, people: &People) -> Result<()> {
    let ines = at_work(INES, BUSINESS_DATE);
    store.change(&ines, None, async |writing| cases(writing, people).await).await?;
    // A suit that was too small, paid long ago: two pairs of gloves are taken for it, the rest is kept.
    let exchange =
        back_at_once(store, people, ("1006", "SU-FL", "2026-03-17"), "too small, gloves taken for it").await?;
    post_at_once(store, exchange, vec![goes("GL-LE", "2", None)]).await?;
    let less_a_fee = back_at_once(store, people, ("1001", "SM-ST", "2026-03-17"), "ordered one too many").await?;
    post_at_once(store, less_a_fee, vec![goes("FRT", "1", Some("5.00"))]).await?;
    wrong_item(store, people).await?;
    store.change(&ines, None, async |writing| repair(writing, people).await).await?;
    store.change(&ines, None, async |writing| too_many(writing, people).await).await?;
    store.change(&ines, None, async |writing| goodwill(writing, people).await).await?;
    store.change(&ines, None, async |writing| supplier_pays(writing).await).await?;
    store
        .change(&ines, None, async |writing| {
            let rules = rules::load(writing).await?;
            let mut new = NewExpectedReturns { share: "0.5".to_owned(), ..NewExpectedReturns::default() };
            new.seen = Some(returns::expected_returns_preview(writing, &rules, &new).await?.fingerprint);
            returns::enter_expected_returns(writing, &rules, &new).await
        })
        .await?;
    Ok(())
}

/// What goes out for what came back, or is charged.
fn goes(item: &str, quantity: &str, price: Option<&str>) -> AddedLine {
    AddedLine {
        item: Some(item.to_owned()),
        quantity: quantity.to_owned(),
        unit_price: price.map(str::to_owned),
        description: price.map(|_| "Restocking fee".to_owned()),
        ..AddedLine::default()
    }
}

/// One of an item that is back today, sellable, of the newest invoice that billed it by a day.
async fn back_at_once(
    store: &Store,
    people: &People,
    (customer, item, by): (&str, &str, &str),
    reason: &str,
) -> Result<(InvoiceId, BackAtOnce)> {
    let row = store
        .rehearse(&at_work(INES, BUSINESS_DATE), async |writing| {
            billed(writing, people, (customer, item, 1), date(by)?).await
        })
        .await?;
    let back = ComesBack {
        position: usize::try_from(row.position).unwrap_or(0),
        quantity: "1".to_owned(),
        reason: "UNWANTED".to_owned(),
        disposition: Some("RESTOCK".to_owned()),
    };
    Ok((invoice(&row), BackAtOnce { back: vec![back], reason: reason.to_owned(), ..BackAtOnce::default() }))
}

async fn post_at_once(
    store: &Store,
    (invoice, mut wish): (InvoiceId, BackAtOnce),
    added: Vec<AddedLine>,
) -> Result<DoneAtOnce> {
    let ines = at_work(INES, BUSINESS_DATE);
    wish.added = added;
    wish.seen = Some(returns::at_once_preview(store, &ines, invoice, &wish).await?.fingerprint);
    store
        .change(&ines, None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::at_once(writing, &rules, invoice, &wish).await
        })
        .await
}

/// Two trays of the smaller jars went where the larger ones were billed.
async fn wrong_item(store: &Store, people: &People) -> Result<()> {
    let ines = at_work(INES, BUSINESS_DATE);
    let row = store
        .rehearse(&ines, async |writing| billed(writing, people, ("1012", "JR-50", 2), date("2026-03-13")?).await)
        .await?;
    let mut wish = WrongItem {
        position: usize::try_from(row.position).unwrap_or(0),
        quantity: "2".to_owned(),
        item: "JR-34".to_owned(),
        reason: "WRONG".to_owned(),
        note: Some("the trays stood side by side".to_owned()),
        ..WrongItem::default()
    };
    wish.seen = Some(returns::put_right_preview(store, &ines, invoice(&row), &wish).await?.fingerprint);
    store
        .change(&ines, None, async |writing| {
            let rules = rules::load(writing).await?;
            returns::put_right(writing, &rules, invoice(&row), &wish).await
        })
        .await?;
    Ok(())
}

/// A delivery came a day late: its freight is given back, and kept for the customer.
async fn goodwill(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules::load(writing).await?;
    let line = AddedLine {
        description: Some("Freight given back, the delivery came late".to_owned()),
        ..goes("FRT", "1", Some("18.00"))
    };
    let mut wish = CreditAlone {
        customer: people.customer("1004")?,
        currency: None,
        added: vec![line],
        came_back: Vec::new(),
        date: None,
        reason: "promised by phone, the delivery came a day late".to_owned(),
        seen: None,
    };
    wish.seen = Some(invoices::credit_alone_preview(writing, &rules, &wish).await?.fingerprint);
    invoices::credit_alone(writing, &rules, &wish).await?;
    Ok(())
}

/// Of what was claimed for the smoker the supplier has paid a part.
async fn supplier_pays(writing: &mut Writing<'_>) -> Result<()> {
    let rules = rules::load(writing).await?;
    let claims = returns::claims(writing, &rules).await?.claims;
    let Some(claim) = claims.first() else { return Ok(()) };
    let mut answer = ClaimAnswer {
        settled: Some("9.00".to_owned()),
        method: Some("transfer".to_owned()),
        reference: Some("their credit note 118".to_owned()),
        ..ClaimAnswer::default()
    };
    answer.seen = Some(returns::answer_preview(writing, &rules, claim.id, &answer).await?.fingerprint);
    returns::answer(writing, &rules, claim.id, &answer).await?;
    Ok(())
}

/// A smoker whose hinge is to be mended: it stays the customer's.
async fn repair(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let back = Back {
        customer: "1010",
        item: "SM-ST",
        quantity: 1,
        reason: "FAULTY",
        reference: Some("the hinge"),
        on: "2026-03-13",
        until: None,
        planned: None,
    };
    let (id, _) = authorize(writing, people, &back).await?;
    let rules = rules_on(writing, "2026-03-16").await?;
    let view = returns::view(writing, &rules, id).await?;
    let lines = vec![ReceiveLine { line: view.lines[0].id, quantity: "1".to_owned() }];
    let form = ReceiveForm { lines, ..ReceiveForm::default() };
    let seen = returns::repair_preview(writing, &rules, id, Repair::In, &form).await?.fingerprint;
    returns::repair(writing, &rules, id, (view.version, Some(&seen)), Repair::In, &form).await?;
    Ok(())
}

/// Two trays more were sent than ordered, and are not billed yet. Goods without a document are taken back with a warning.
async fn too_many(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let rules = rules_on(writing, "2026-03-17").await?;
    let asked = ReturnRules { days: rules.return_days, proof: ProofPolicy::Warn, limit: ReturnLimit::Line };
    returns::set_rules(writing, &rules, &asked).await?;
    let customer = people.customer("1003")?;
    let filter = ReturnableFilter { customer: Some(customer), search: Some("JR-50"), ..ReturnableFilter::default() };
    let found = returns::returnable(writing, &rules, &filter, (50, 0)).await?.lines;
    let row = found.iter().find(|row| row.shipment_line.is_some());
    let row = row.ok_or_else(|| StoreError::Corrupt("the demo finds no trays that are not billed".to_owned()))?;
    let line = NewReturnLine {
        shipment_line: row.shipment_line,
        quantity: "2".to_owned(),
        reason: "SURPLUS".to_owned(),
        disposition: Some("RESTOCK".to_owned()),
        ..NewReturnLine::default()
    };
    let new = NewReturn { customer, lines: vec![line], ..NewReturn::default() };
    let seen = returns::preview(writing, &rules, &new).await?.fingerprint;
    returns::authorize(writing, &rules, &new, Some(&seen)).await?;
    Ok(())
}

async fn cases(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let back = Back {
        customer: "1004",
        item: "JR-34",
        quantity: 2,
        reason: "UNWANTED",
        reference: None,
        on: "2026-02-09",
        until: Some("2026-03-11"),
        planned: Some("RESTOCK"),
    };
    // Never arrived: its last day has passed.
    authorize(writing, people, &back).await?;
    damaged(writing, people).await?;
    replaced(writing, people).await?;
    let waits = Back {
        customer: "1002",
        item: "FR-50",
        quantity: 2,
        reason: "FAULTY",
        reference: Some("claim 26-11"),
        on: "2026-03-10",
        until: None,
        planned: None,
    };
    let (waits, ..) = authorize(writing, people, &waits).await?;
    receive(writing, waits, 2, "2026-03-16").await?;
    let awaited = Back {
        customer: "1008",
        item: "BK-01",
        quantity: 1,
        reason: "ERROR",
        reference: None,
        on: "2026-03-17",
        until: None,
        planned: Some("RESTOCK"),
    };
    authorize(writing, people, &awaited).await?;
    price_error(writing, people).await
}

/// Half of it can be sold again, half cannot; credited the day after.
async fn damaged(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let back = Back {
        customer: "1001",
        item: "JR-34",
        quantity: 4,
        reason: "DAMAGED",
        reference: Some("carrier's report 4471"),
        on: "2026-03-03",
        until: None,
        planned: None,
    };
    let (id, row) = authorize(writing, people, &back).await?;
    receive(writing, id, 4, "2026-03-06").await?;
    let rules = rules_on(writing, "2026-03-06").await?;
    returns::add_picture(writing, &rules, id, ("carton.png", include_bytes!("../assets/carton.png"))).await?;
    let half = [("2", "RESTOCK"), ("2", "SCRAP")];
    inspect(writing, id, &half, "2026-03-09", "two trays wet through, two dry").await?;
    let rules = rules_on(writing, "2026-03-10").await?;
    let lines = returns::view(writing, &rules, id).await?.lines;
    let credited = CreditLine {
        position: lines[0].position.and_then(|at| usize::try_from(at).ok()).unwrap_or(0),
        quantity: Some("4".to_owned()),
        amount: None,
        return_line: Some(lines[0].id),
    };
    credit(writing, invoice(&row), credited, ("damaged in transit", "2026-03-10")).await
}

/// A faulty smoker, and a new one for it at no charge.
async fn replaced(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let back = Back {
        customer: "1010",
        item: "SM-ST",
        quantity: 1,
        reason: "FAULTY",
        reference: None,
        on: "2026-03-11",
        until: None,
        planned: Some("SUPPLIER"),
    };
    let (id, _) = authorize(writing, people, &back).await?;
    receive(writing, id, 1, "2026-03-12").await?;
    inspect(writing, id, &[("1", "SUPPLIER")], "2026-03-12", "the bellows leak").await?;
    let rules = rules::load(writing).await?;
    let view = returns::view(writing, &rules, id).await?;
    let form = ReplaceForm {
        line: view.lines[0].id,
        quantity: "1".to_owned(),
        date: Some(date("2026-03-13")?),
        note: Some("goes with the club's next order".to_owned()),
    };
    let seen = returns::replace_preview(writing, &rules, id, &form).await?.fingerprint;
    returns::replace(writing, &rules, id, (view.version, Some(&seen)), &form).await?;
    Ok(())
}

/// A price that had been promised lower: the goods stay with the customer.
async fn price_error(writing: &mut Writing<'_>, people: &People) -> Result<()> {
    let row = billed(writing, people, ("1009", "HB-12", 1), date("2026-03-13")?).await?;
    let lines = ReturnableFilter { invoice: Some(invoice(&row)), ..ReturnableFilter::default() };
    let rules = rules::load(writing).await?;
    let of_invoice = returns::returnable(writing, &rules, &lines, (100, 0)).await?.lines;
    let position = of_invoice.iter().position(|line| line.line == row.line).unwrap_or(0);
    let off = CreditLine { position, quantity: None, amount: Some("12.00".to_owned()), return_line: None };
    credit(writing, invoice(&row), off, ("price promised on the phone", "2026-03-17")).await
}

/// The newest line of an item that was billed to a customer by a day, of which so much may come back.
async fn billed(
    writing: &mut Writing<'_>,
    people: &People,
    (customer, item, quantity): (&str, &str, i64),
    by: NaiveDate,
) -> Result<ReturnableRow> {
    let rules = rules::load(writing).await?;
    let filter = ReturnableFilter {
        customer: Some(people.customer(customer)?),
        search: Some(item),
        ..ReturnableFilter::default()
    };
    let found = returns::returnable(writing, &rules, &filter, (200, 0)).await?.lines;
    let fits = |row: &ReturnableRow| {
        row.line.is_some() && row.code == item && row.date <= by && row.left >= Quantity::from_whole(quantity)
    };
    found.into_iter().find(fits).ok_or_else(|| {
        StoreError::Corrupt(format!("the demo finds no {item} billed to {customer} that could come back"))
    })
}

/// The invoice a billed line is on.
const fn invoice(row: &ReturnableRow) -> InvoiceId {
    InvoiceId(row.document.id)
}

/// The rules as they were on a day: the business date itself never goes back.
async fn rules_on(writing: &mut Writing<'_>, on: &str) -> Result<Rules> {
    Ok(Rules { business_date: date(on)?, ..rules::load(writing).await? })
}

async fn authorize(writing: &mut Writing<'_>, people: &People, back: &Back) -> Result<(ReturnId, ReturnableRow)> {
    let on = date(back.on)?;
    let row = billed(writing, people, (back.customer, back.item, back.quantity), on).await?;
    let rules = rules_on(writing, back.on).await?;
    let new = NewReturn {
        customer: people.customer(back.customer)?,
        lines: vec![NewReturnLine {
            line: row.line,
            quantity: back.quantity.to_string(),
            reason: back.reason.to_owned(),
            disposition: back.planned.map(str::to_owned),
            ..NewReturnLine::default()
        }],
        expires_on: back.until.map(date).transpose()?,
        reference: back.reference.map(str::to_owned),
        ..NewReturn::default()
    };
    let seen = returns::preview(writing, &rules, &new).await?.fingerprint;
    let (id, _) = returns::authorize(writing, &rules, &new, Some(&seen)).await?;
    Ok((id, row))
}

async fn receive(writing: &mut Writing<'_>, id: ReturnId, quantity: i64, on: &str) -> Result<()> {
    let rules = rules_on(writing, on).await?;
    let view = returns::view(writing, &rules, id).await?;
    let lines = vec![ReceiveLine { line: view.lines[0].id, quantity: quantity.to_string() }];
    let form = ReceiveForm { lines, ..ReceiveForm::default() };
    let seen = returns::receive_preview(writing, &rules, id, &form).await?.fingerprint;
    returns::receive(writing, &rules, id, (view.version, Some(&seen)), &form).await?;
    Ok(())
}

async fn inspect(writing: &mut Writing<'_>, id: ReturnId, what: &[(&str, &str)], on: &str, found: &str) -> Result<()> {
    let rules = rules_on(writing, on).await?;
    let view = returns::view(writing, &rules, id).await?;
    let lines = what
        .iter()
        .map(|(quantity, disposition)| InspectLine {
            line: view.lines[0].id,
            quantity: (*quantity).to_owned(),
            disposition: (*disposition).to_owned(),
            claim: (*disposition == "SUPPLIER").then(|| "15.00".to_owned()),
        })
        .collect();
    let form = InspectForm { lines, date: None, note: Some(found.to_owned()) };
    let seen = returns::inspect_preview(writing, &rules, id, &form).await?.fingerprint;
    returns::inspect(writing, &rules, id, (view.version, Some(&seen)), &form).await?;
    Ok(())
}

async fn credit(
    writing: &mut Writing<'_>,
    invoice: InvoiceId,
    line: CreditLine,
    (reason, on): (&str, &str),
) -> Result<()> {
    let rules = rules_on(writing, on).await?;
    let mut wish = ToCredit { lines: vec![line], added: Vec::new(), date: None, reason: reason.to_owned(), seen: None };
    wish.seen = Some(invoices::credit_preview(writing, &rules, invoice, &wish).await?.fingerprint);
    invoices::credit(writing, &rules, invoice, &wish).await?;
    Ok(())
}
