//! A billing run over 10,000 shipments of 4 lines, made, looked at, checked and posted, as a ratio
//! to SQLite inserting the same rows; and a page of what is unbilled, as a ratio to the bare query.
//!
//! `cargo bench -p till-bench --bench billing` (`INVOICES=500` for a quick look; `BOOKS=FILE` keeps
//! the made company there, and takes it from there the next time).

use std::error::Error;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, SqliteConnection};
use till_bench::raw::{CACHE, insert_in_bulk, insert_one_by_one, ratio};
use till_core::invoice::Combine;
use till_store::runs::{self, RunForm};
use till_store::unbilled::{self, UnbilledFilter};
use till_store::{Store, rules, verify};

/// What a run writes anew.
const TABLES: &[(&str, &str)] = &[
    ("entries", "true"),
    ("entry_lines", "true"),
    ("documents", "true"),
    ("document_lines", "true"),
    ("document_taxes", "true"),
    ("document_orders", "true"),
    ("deliveries", "true"),
];

/// Shipments on a page of the interface.
const PAGE: i64 = 200;
const PAGES: u32 = 20;

/// The rows a page of unbilled shows and the sum over all of it, and nothing else.
const BARE_PAGE: &str = "SELECT shipments.number, shipments.posting_date, orders.number, orders.customer_order_number, customers.name,
       items.code, order_lines.description, shipment_lines.unbilled_e4, order_lines.unit_price_e6
  FROM (SELECT shipments.id FROM (SELECT shipment_id FROM shipment_lines WHERE unbilled_e4 > 0 GROUP BY shipment_id) AS open
        JOIN shipments ON shipments.id = open.shipment_id
        ORDER BY min(shipments.posting_date) OVER (PARTITION BY shipments.customer_id), shipments.customer_id, shipments.posting_date, shipments.id
        LIMIT ? OFFSET ?) AS page
  JOIN shipments ON shipments.id = page.id JOIN orders ON orders.id = shipments.order_id
  JOIN customers ON customers.id = shipments.customer_id JOIN shipment_lines ON shipment_lines.shipment_id = shipments.id
  JOIN order_lines ON order_lines.id = shipment_lines.order_line_id JOIN items ON items.id = order_lines.item_id
 WHERE shipment_lines.unbilled_e4 > 0";
const BARE_SUMS: &str = "SELECT customer_id, count(*), sum(net), min(posting_date)
  FROM (SELECT shipment_id, sum(unbilled_minor) AS net FROM shipment_lines WHERE unbilled_e4 > 0 GROUP BY shipment_id) AS open
  JOIN shipments ON shipments.id = open.shipment_id GROUP BY customer_id";

#[tokio::main(flavor = "current_thread")]
async fn main() -> Result<(), Box<dyn Error>> {
    let wanted: usize = std::env::var("INVOICES").ok().and_then(|text| text.parse().ok()).unwrap_or(10_000);
    let folder = tempfile::tempdir()?;
    let file = folder.path().join("books.db");
    let start = Instant::now();
    let kept = std::env::var_os("BOOKS").map(PathBuf::from);
    let store = match &kept {
        Some(kept) if kept.exists() => {
            std::fs::copy(kept, &file)?;
            Store::open(&file).await?
        }
        _ => till_bench::large_company(&file, wanted, 4).await?.0,
    };
    if let Some(kept) = kept.filter(|kept| !kept.exists()) {
        let mut raw: SqliteConnection = SqliteConnectOptions::new().filename(&file).connect().await?;
        sqlx::query("VACUUM INTO ?").bind(kept.display().to_string()).execute(&mut raw).await?;
        raw.close().await?;
    }
    println!("made {wanted} posted shipments of 4 lines in {:.1?}", start.elapsed());

    let ours = pages(&store, wanted).await?;
    let bare = bare_pages(&file, wanted).await?;
    println!("| a page of {PAGE} unbilled shipments | time | ratio |");
    println!("|---|---|---|");
    println!("| with blockers, tracks and values | {ours:.2?} | {} |", ratio(ours, bare));
    println!("| the bare query | {bare:.2?} | 1.00 |");

    let before = peak_kilobytes();
    let all = run(&store).await?;
    println!("peak memory: {} MB before the run, {} MB after it", before / 1024, peak_kilobytes() / 1024);
    let verification = verify::verify(&mut *store.read().await?).await?;
    println!("verify: {}", if verification.holds { "holds" } else { "DOES NOT HOLD" });
    store.close().await;

    let one_by_one = insert_one_by_one(&file, &folder.path().join("one_by_one.db"), TABLES).await?;
    let in_bulk = insert_in_bulk(&file, &folder.path().join("in_bulk.db"), TABLES).await?;
    println!("| what | time | each | ratio |");
    println!("|---|---|---|---|");
    for (name, time) in [
        ("the run: make it, look at it, check, post all of it", all),
        ("SQLite inserting the same rows, a statement each", one_by_one),
        ("SQLite copying the same rows, a statement a table", in_bulk),
    ] {
        let each = time / u32::try_from(wanted).unwrap_or(1);
        println!("| {name} | {time:.2?} | {each:.1?} | {} |", ratio(all, time));
    }
    Ok(())
}

/// The run from beginning to end, as the interface does it.
async fn run(store: &Store) -> Result<Duration, Box<dyn Error>> {
    let by = till_bench::by();
    let start = Instant::now();
    let form = RunForm { combine: Combine::Shipment, ..RunForm::default() };
    let id = store
        .change(&by, None, async |writing| {
            let rules = rules::load(writing).await?;
            runs::make(writing, &rules, &form, None).await
        })
        .await?;
    println!("made in {:.2?}", start.elapsed());
    let looked = Instant::now();
    let view = {
        let mut connection = store.read().await?;
        let rules = rules::load(&mut connection).await?;
        runs::view(&mut connection, &rules, id, None, (50, 0)).await?
    };
    println!("looked at in {:.2?}: {:?}", looked.elapsed(), view.counts);
    let begun = Instant::now();
    let mut progress = store
        .change(&by, None, async |writing| {
            let rules = rules::load(writing).await?;
            runs::begin(writing, &rules, id, view.version, &view.seen, Some(view.looked.clone())).await
        })
        .await?;
    println!("checked in {:.2?}", begun.elapsed());
    let posted = Instant::now();
    while progress.left > 0 {
        progress = store
            .change(&by, None, async |writing| {
                let rules = rules::load(writing).await?;
                runs::go_on(writing, &rules, id).await
            })
            .await?;
    }
    println!("posted {} in {:.2?}", progress.posted, posted.elapsed());
    Ok(start.elapsed())
}

/// Pages spread over all of the list: the mean of one.
async fn pages(store: &Store, shipments: usize) -> Result<Duration, Box<dyn Error>> {
    let mut connection = store.read().await?;
    let rules = rules::load(&mut connection).await?;
    let start = Instant::now();
    for page in 0..PAGES {
        let filter = UnbilledFilter { limit: Some(PAGE), offset: offset(page, shipments), ..UnbilledFilter::default() };
        unbilled::list(&mut connection, &rules, &filter).await?;
    }
    Ok(start.elapsed() / PAGES)
}

async fn bare_pages(file: &Path, shipments: usize) -> Result<Duration, Box<dyn Error>> {
    let options = SqliteConnectOptions::new().filename(file).pragma("cache_size", CACHE);
    let mut raw: SqliteConnection = options.connect().await?;
    let start = Instant::now();
    for page in 0..PAGES {
        sqlx::query(BARE_SUMS).fetch_all(&mut raw).await?;
        sqlx::query(BARE_PAGE).bind(PAGE).bind(offset(page, shipments)).fetch_all(&mut raw).await?;
    }
    let time = start.elapsed() / PAGES;
    raw.close().await?;
    Ok(time)
}

fn offset(page: u32, shipments: usize) -> i64 {
    let all = i64::try_from(shipments).unwrap_or(i64::MAX);
    (all / i64::from(PAGES) * i64::from(page)).min((all - PAGE).max(0))
}

/// The most memory this process has held so far, as the system counts it.
fn peak_kilobytes() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    status
        .lines()
        .find_map(|line| line.strip_prefix("VmHWM:"))
        .and_then(|rest| rest.trim().trim_end_matches("kB").trim().parse().ok())
        .unwrap_or(0)
}
