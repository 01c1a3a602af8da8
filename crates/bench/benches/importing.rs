//! Taking a file of 50,000 shipment lines over, as a ratio to SQLite inserting the same rows.
//!
//! `cargo bench -p till-bench --bench importing` (`LINES=5000` for a quick look).

use std::error::Error;
use std::fmt::Write as _;
use std::time::Instant;

use till_bench::raw::{insert_in_bulk, insert_one_by_one, ratio};
use till_formats::table::read_csv;
use till_store::imports::{self, ImportKind, ImportLine};
use till_store::{rules, verify};

/// What taking a file over writes anew.
const TABLES: &[(&str, &str)] =
    &[("orders", "true"), ("order_lines", "true"), ("shipments", "true"), ("shipment_lines", "true")];

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    let wanted: usize = std::env::var("LINES").ok().and_then(|text| text.parse().ok()).unwrap_or(50_000);
    let folder = tempfile::tempdir()?;
    let books = folder.path().join("books.db");
    let (store, _) = till_bench::large_company(&books, 0, 4).await?;
    let mut text = "shipment,date,customer,item,quantity,price,carrier\n".to_owned();
    for at in 0..wanted {
        let (shipment, item) = (at / 4, at % 24);
        let (day, customer, quantity) = (shipment % 27 + 1, 10_000 + shipment % 200, at % 9 + 1);
        writeln!(text, "WH-{shipment},2026-02-{day:02},{customer},IT-{item},{quantity},12.35,Otter")?;
    }

    let start = Instant::now();
    let table = read_csv(text.as_bytes())?;
    let lines: Vec<ImportLine> = table
        .rows
        .into_iter()
        .map(|(line, cells)| ImportLine { line, cells: table.headings.iter().cloned().zip(cells).collect() })
        .collect();
    let check = {
        let mut connection = store.read().await?;
        let rules = rules::load(&mut connection).await?;
        imports::check(&mut connection, &rules, ImportKind::Shipments, &lines, &|_| ()).await?
    };
    println!("read and checked {} lines in {:.2?}: {} problems", check.lines, start.elapsed(), check.problem_count);
    let by = till_bench::by();
    let id = store
        .change(&by, None, async |writing| {
            imports::keep(writing, ImportKind::Shipments, "bench.csv", &text, &check).await
        })
        .await?;
    let start = Instant::now();
    store
        .change(&by, None, async |writing| {
            let rules = rules::load(writing).await?;
            imports::take_over(writing, &rules, id, &lines, false, &|_| ()).await
        })
        .await?;
    let ours = start.elapsed();
    let verification = verify::verify(&mut *store.read().await?).await?;
    println!("verify: {}", if verification.holds { "holds" } else { "DOES NOT HOLD" });
    store.close().await;

    let one_by_one = insert_one_by_one(&books, &folder.path().join("one_by_one.db"), TABLES).await?;
    let in_bulk = insert_in_bulk(&books, &folder.path().join("in_bulk.db"), TABLES).await?;
    println!("| what, in one transaction | time | each line | ratio |");
    println!("|---|---|---|---|");
    for (name, time) in [
        ("take the file over: check anew, decide, number, write", ours),
        ("SQLite inserting the same rows, a statement each", one_by_one),
        ("SQLite copying the same rows, a statement a table", in_bulk),
    ] {
        let each = time / u32::try_from(wanted).unwrap_or(1);
        println!("| {name} | {time:.2?} | {each:.1?} | {} |", ratio(ours, time));
    }
    Ok(())
}
