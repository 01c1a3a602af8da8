//! One payment over many invoices, by the payer's own list: allotted, decided and posted, beside SQLite inserting the rows it leaves.
//!
//! 2,000 invoices in one posting, and the curve over 100, 1,000 and 10,000: the cost of a line must not grow with their number.
//!
//! `cargo bench -p till-bench --bench remitting`

use std::error::Error;
use std::time::{Duration, Instant};

use till_bench::{by, raw};
use till_core::ids::CustomerId;
use till_core::money::Money;
use till_core::opening::OpeningSide;
use till_core::remittance::Advised;
use till_store::openings::{self, NewOpening, NewOpeningItem};
use till_store::receipts::{self, NewReceipt};
use till_store::{Result, Store, rules, verify};

struct Timed {
    allot: Duration,
    post: Duration,
    bulk: Duration,
    single: Duration,
}

/// So many invoices of one customer, opened with.
async fn books(store: &Store, invoices: usize) -> Result<()> {
    let start = "2026-03-01".parse().unwrap_or_default();
    store
        .change(&by(), None, async |writing| {
            till_demo::set_up(writing, start).await?;
            till_bench::add_customers(writing).await?;
            let rules = rules::load(writing).await?;
            for batch in (0..invoices).collect::<Vec<_>>().chunks(500) {
                let item = |at: &usize| NewOpeningItem {
                    customer: "10000".to_owned(),
                    side: OpeningSide::Invoice,
                    number: format!("I-{}", 500_000 + at),
                    document_date: start,
                    due_date: None,
                    amount: format!("{}.{:02}", 10 + at % 900, at % 100),
                };
                let new =
                    NewOpening { date: Some(start), items: batch.iter().map(item).collect(), ..NewOpening::default() };
                let seen = openings::preview(writing, &rules, &new).await?.fingerprint;
                openings::post(writing, &rules, &new, &seen).await?;
            }
            Ok(())
        })
        .await
}

async fn remit(invoices: usize) -> std::result::Result<Timed, Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("made.db");
    let store = Store::open(&file).await?;
    books(&store, invoices).await?;
    let amounts: Vec<Money> = (0..invoices).map(|at| Money(((10 + at % 900) * 100 + at % 100) as i64)).collect();
    let lines: Vec<Advised> = amounts
        .iter()
        .enumerate()
        .map(|(at, paid)| Advised { number: format!("i {}", 500_000 + at), paid: *paid, ..Advised::default() })
        .collect();
    let sum: Money = amounts.iter().copied().sum();
    let customer = CustomerId(1);
    let begun = Instant::now();
    let advice = {
        let mut books = store.read().await?;
        let rules = rules::load(&mut books).await?;
        receipts::advice(&mut books, &rules, (customer, None), &lines).await?
    };
    let allot = begun.elapsed();
    if advice.not_found > 0 {
        return Err(format!("{} lines pay nothing", advice.not_found).into());
    }
    let new = NewReceipt {
        customer,
        method: "transfer".to_owned(),
        date: None,
        amount: advice.currency.format(sum),
        reference: None,
        applications: Some(advice.applications),
        first: None,
        with: Vec::new(),
        currency: None,
    };
    let begun = Instant::now();
    store
        .change(&by(), None, async |writing| {
            let rules = rules::load(writing).await?;
            receipts::post(writing, &rules, &new, None).await
        })
        .await?;
    let post = begun.elapsed();
    if !verify::verify(&mut *store.read().await?).await?.holds {
        return Err("the books do not hold".into());
    }
    store.close().await;
    // What the posting left: the receipt, its entry, an application for each invoice. Every invoice was written once more besides,
    // as settled.
    let tables = [
        ("payments", "1"),
        ("entries", "source_kind = 'receipt'"),
        ("entry_lines", "entry_id IN (SELECT id FROM made.entries WHERE source_kind = 'receipt')"),
        ("applications", "1"),
        ("open_items", "1"),
    ];
    let bulk = raw::insert_in_bulk(&file, &folder.path().join("bulk.db"), &tables).await?;
    let single = raw::insert_one_by_one(&file, &folder.path().join("single.db"), &tables).await?;
    Ok(Timed { allot, post, bulk, single })
}

#[tokio::main]
async fn main() -> std::result::Result<(), Box<dyn Error>> {
    println!("| invoices | find them | post | each | raw, a statement each | ratio | raw, a statement a table |");
    println!("|---|---|---|---|---|---|---|");
    for invoices in [100, 1_000, 2_000, 10_000] {
        let Timed { allot, post, bulk, single } = remit(invoices).await?;
        let each = post / u32::try_from(invoices)?;
        println!(
            "| {invoices} | {allot:.1?} | {post:.1?} | {each:.1?} | {single:.1?} | {} | {bulk:.1?} |",
            raw::ratio(post, single)
        );
    }
    Ok(())
}
