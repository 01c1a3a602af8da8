//! Each operation with lines at 10, 100 and 1,000 lines: no step may grow more than 1.3 times faster than the
//! lines, beside what SQLite itself takes for so many rows.
//!
//! `cargo bench -p till-bench --bench growing`

use std::error::Error;
use std::time::{Duration, Instant};

use till_bench::{by, long_order};
use till_core::ids::InvoiceId;
use till_store::invoices::{CreditLine, Pick, ToBill, ToCancelInvoice, ToCredit};
use till_store::returns::{
    self, InspectForm, InspectLine, NewReturn, NewReturnLine, ReceiveForm, ReceiveLine, ReturnLineView,
    ReturnableFilter,
};
use till_store::shipments::{self, NewShipment, ShipAndBill};
use till_store::{Result, Store, invoices, orders, rules, verify};

/// The sizes, and how much the last step may grow, in tenths.
const SIZES: [usize; 3] = [10, 100, 1_000];
const MOST_TENTHS: u128 = 130;

/// What was timed, in its order.
#[derive(Default)]
struct Times(Vec<(&'static str, Duration)>);

impl Times {
    fn note(&mut self, what: &'static str, since: Instant) -> Instant {
        self.0.push((what, since.elapsed()));
        Instant::now()
    }
}

#[tokio::main(flavor = "current_thread")]
async fn main() -> std::result::Result<(), Box<dyn Error>> {
    let mut all = Vec::new();
    for size in SIZES {
        let folder = tempfile::tempdir()?;
        let mut times = Times::default();
        // Twice: the first time SQLite's pages are cold.
        for _ in 0..2 {
            let (store, lines) = till_bench::long_company(&folder.path().join(format!("{size}.db")), size).await?;
            times = Times::default();
            operate(&store, lines, &mut times).await?;
            let verification = verify::verify(&mut *store.read().await?).await?;
            if !verification.holds {
                return Err("the books do not hold".into());
            }
            store.close().await;
            std::fs::remove_file(folder.path().join(format!("{size}.db")))?;
        }
        all.push(times.0);
    }
    println!("| operation | 10 lines | 100 lines | 1,000 lines | last step |");
    println!("|---|---|---|---|---|");
    let mut too_fast = Vec::new();
    for (at, (what, small)) in all[0].iter().enumerate() {
        let (middle, large) = (all[1][at].1, all[2][at].1);
        let tenths = large.as_micros() * 10 / middle.as_micros().max(1);
        println!("| {what} | {small:.1?} | {middle:.1?} | {large:.1?} | × {}.{} |", tenths / 10, tenths % 10);
        if tenths > MOST_TENTHS {
            too_fast.push(*what);
        }
    }
    if too_fast.is_empty() { Ok(()) } else { Err(format!("grows faster than its lines: {too_fast:?}").into()) }
}

/// One order of so many lines from its entering to the credit of its invoice.
async fn operate(store: &Store, lines: till_bench::LongOrder, times: &mut Times) -> Result<()> {
    store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            let mut since = Instant::now();
            let order = orders::enter(writing, &long_order(&lines)).await?;
            since = times.note("enter an order", since);
            orders::confirm(writing, order).await?;
            since = times.note("confirm it", since);
            let view = orders::view(writing, order).await?;
            since = times.note("look at it", since);
            let wanted = view.lines.iter().map(|line| (line.id, line.progress.ordered)).collect();
            let new =
                NewShipment { order, packed_date: lines.day, carrier: None, consignment_number: None, lines: wanted };
            let shipment = shipments::pack(writing, &new).await?;
            since = times.note("pack its shipment", since);
            shipments::post(writing, &rules, shipment, None, lines.day).await?;
            times.note("post the shipment", since);
            let view = shipments::view(writing, shipment).await?;
            let picks: Vec<Pick> =
                view.lines.iter().map(|line| Pick { shipment_line: line.id, quantity: None }).collect();
            let to_bill = ToBill { picks, ..ToBill::default() };
            bill(writing, &rules, &to_bill, times).await
        })
        .await?;
    // Another one, over the counter.
    let order = store.change(&by(), None, async |writing| orders::enter(writing, &long_order(&lines)).await).await?;
    let what = ShipAndBill { confirm: true, ..ShipAndBill::default() };
    let since = Instant::now();
    shipments::preview_ship_and_bill(store, &by(), order, &what).await?;
    let since = times.note("preview ship and bill", since);
    store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            shipments::ship_and_bill(writing, &rules, order, &what).await
        })
        .await?;
    times.note("ship and bill", since);
    Ok(())
}

async fn bill(
    writing: &mut till_store::Writing<'_>,
    rules: &rules::Rules,
    to_bill: &ToBill,
    times: &mut Times,
) -> Result<()> {
    let mut since = Instant::now();
    invoices::preview(writing, rules, to_bill).await?;
    since = times.note("preview its invoice", since);
    let draft = invoices::make_drafts(writing, rules, to_bill).await?[0];
    since = times.note("make a draft", since);
    let view = invoices::view(writing, draft).await?;
    since = times.note("look at the draft", since);
    let changed = ToBill { text_below: Some("Thank you.".to_owned()), ..view.to_bill.clone().unwrap_or_default() };
    let version = invoices::change_draft(writing, rules, draft, view.version, &changed).await?;
    since = times.note("change the draft", since);
    let seen = invoices::view(writing, draft).await?.fingerprint;
    since = times.note("look at it again", since);
    let invoice = invoices::post_draft(writing, rules, draft, version, &seen).await?.id;
    since = times.note("post it", since);
    invoices::view(writing, invoice).await?;
    since = times.note("look at the invoice", since);
    let lines = (0..to_bill.picks.len())
        .map(|position| CreditLine { position, quantity: None, amount: Some("0.01".to_owned()), return_line: None })
        .collect();
    let wish = ToCredit { lines, reason: "a cent a line".to_owned(), ..ToCredit::default() };
    invoices::credit_preview(writing, rules, invoice, &wish).await?;
    since = times.note("preview a credit", since);
    let cancel = ToCancelInvoice { reason: "to see how long it takes".to_owned(), ..ToCancelInvoice::default() };
    invoices::cancel_preview(writing, rules, invoice, &cancel).await?;
    since = times.note("preview its cancelling", since);
    invoices::cancel(writing, rules, invoice, &cancel).await?;
    since = times.note("cancel it", since);
    let posted = invoices::post_picks(writing, rules, to_bill, None).await?[0].id;
    since = times.note("post all of it at once", since);
    invoices::credit(writing, rules, posted, &wish).await?;
    times.note("credit every line", since);
    come_back(writing, rules, posted, times).await
}

/// All of it comes back: authorized, received, inspected, credited.
async fn come_back(
    writing: &mut till_store::Writing<'_>,
    rules: &rules::Rules,
    invoice: InvoiceId,
    times: &mut Times,
) -> Result<()> {
    let customer = invoices::view(writing, invoice).await?.customer.id;
    let filter = ReturnableFilter { invoice: Some(invoice), ..ReturnableFilter::default() };
    let mut since = Instant::now();
    let billed = returns::returnable(writing, rules, &filter, (2_000, 0)).await?.lines;
    since = times.note("what may come back", since);
    let lines = billed
        .iter()
        .map(|line| NewReturnLine {
            line: line.line,
            quantity: line.left.to_string(),
            reason: "SURPLUS".to_owned(),
            ..NewReturnLine::default()
        })
        .collect();
    let new = NewReturn { customer, lines, ..NewReturn::default() };
    let (id, _) = returns::authorize(writing, rules, &new, None).await?;
    since = times.note("authorize its return", since);
    let view = returns::view(writing, rules, id).await?;
    since = times.note("look at the return", since);
    let lines =
        view.lines.iter().map(|line| ReceiveLine { line: line.id, quantity: line.expected.to_string() }).collect();
    let form = ReceiveForm { lines, ..ReceiveForm::default() };
    let version = returns::receive(writing, rules, id, (view.version, None), &form).await?.version;
    since = times.note("receive it", since);
    let waiting = returns::view(writing, rules, id).await?.lines;
    let restocked = |line: &ReturnLineView| InspectLine {
        line: line.id,
        quantity: line.waiting.to_string(),
        disposition: "RESTOCK".to_owned(),
        claim: None,
    };
    let form = InspectForm { lines: waiting.iter().map(restocked).collect(), ..InspectForm::default() };
    since = times.note("look at it again, received", since);
    returns::inspect(writing, rules, id, (version, None), &form).await?;
    since = times.note("inspect it", since);
    let credited = |line: &ReturnLineView| CreditLine {
        position: line.position.and_then(|at| usize::try_from(at).ok()).unwrap_or(0),
        quantity: Some(line.to_settle.to_string()),
        amount: None,
        return_line: Some(line.id),
    };
    let lines = waiting.iter().map(credited).collect();
    let wish = ToCredit { lines, reason: "all of it came back".to_owned(), ..ToCredit::default() };
    invoices::credit(writing, rules, invoice, &wish).await?;
    times.note("credit what came back", since);
    Ok(())
}
