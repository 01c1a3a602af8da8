//! Posting 10,000 invoices of 4 lines, as a ratio to SQLite inserting the same rows.
//!
//! `cargo bench -p till-bench` (`INVOICES=500` for a quick look).

use std::error::Error;
use std::time::{Duration, Instant};

use till_bench::raw::{insert_in_bulk, insert_one_by_one, ratio};
use till_store::invoices::{Pick, ToBill};
use till_store::{Store, invoices, rules, verify};

/// What posting writes anew.
const TABLES: &[(&str, &str)] = &[
    ("entries", "true"),
    ("entry_lines", "true"),
    ("documents", "true"),
    ("document_lines", "true"),
    ("document_taxes", "true"),
    ("document_orders", "true"),
];

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    let wanted: usize = std::env::var("INVOICES").ok().and_then(|text| text.parse().ok()).unwrap_or(10_000);
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("books.db");
    let start = Instant::now();
    let (store, shipments) = till_bench::large_company(&file, wanted, 4).await?;
    println!("made {wanted} posted shipments of 4 lines in {:.1?}", start.elapsed());

    let posting = post(&store, &shipments).await?;
    let verification = verify::verify(&mut *store.read().await?).await?;
    println!("verify: {}", if verification.holds { "holds" } else { "DOES NOT HOLD" });
    store.close().await;

    let one_by_one = insert_one_by_one(&file, &folder.path().join("one_by_one.db"), TABLES).await?;
    let in_bulk = insert_in_bulk(&file, &folder.path().join("in_bulk.db"), TABLES).await?;
    println!("| what, in one transaction | time | each | ratio |");
    println!("|---|---|---|---|");
    for (name, time) in [
        ("post the invoices: decide, write, update every counter", posting),
        ("SQLite inserting the same rows, a statement each", one_by_one),
        ("SQLite copying the same rows, a statement a table", in_bulk),
    ] {
        let each = time / u32::try_from(wanted).unwrap_or(1);
        println!("| {name} | {time:.2?} | {each:.1?} | {} |", ratio(posting, time));
    }
    Ok(())
}

async fn post(store: &Store, shipments: &[Vec<till_core::ids::ShipmentLineId>]) -> Result<Duration, Box<dyn Error>> {
    let start = Instant::now();
    store
        .change(&till_bench::by(), None, async |connection| {
            let rules = rules::load(connection).await?;
            for lines in shipments {
                let picks = lines.iter().map(|line| Pick { shipment_line: *line, quantity: None }).collect();
                invoices::post_picks(connection, &rules, &ToBill { picks, ..ToBill::default() }, None).await?;
            }
            Ok(())
        })
        .await?;
    Ok(start.elapsed())
}
