//! The demo books as version 4 left them, brought forward: every customer, account, open item and
//! order is what it was before, and every proof holds.
//!
//! The figures to compare with were read from the program of that version over its own API
//! (`data/demo_books_version_4.json`), not from this code.

use std::io::Read;

use chrono::NaiveDate;
use serde::Deserialize;
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection};
use till_core::ids::{CreditMemoId, DocumentKind};
use till_core::money::Money;
use till_store::orders::OrderFilter;
use till_store::record::{self, RecordFilter};
use till_store::{Store, customers, invoices, ledger, orders, verify};

/// Number, open, due.
type Item = (String, i64, NaiveDate);

#[derive(Deserialize)]
struct Before {
    /// Number, state, track.
    orders: Vec<(String, String, [u16; 4])>,
    /// Account, balance.
    accounts: Vec<(String, i64)>,
    /// Number, owes, unapplied, unbilled, open items.
    customers: Vec<(String, i64, i64, i64, Vec<Item>)>,
}

async fn brought_forward() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("books.db");
    let mut books = Vec::new();
    let packed: &[u8] = include_bytes!("data/demo_books_version_4.db.gz");
    flate2::read::GzDecoder::new(packed).read_to_end(&mut books).unwrap();
    std::fs::write(&file, books).unwrap();
    let store = Store::open(&file).await.unwrap();
    (folder, store)
}

#[tokio::test]
async fn the_demo_books_of_before_are_the_same_afterwards() {
    let before: Before = serde_json::from_str(include_str!("data/demo_books_version_4.json")).unwrap();
    let (_folder, store) = brought_forward().await;
    let mut books = store.read().await.unwrap();
    let verification = verify::verify(&mut books).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|proof| !proof.holds).collect();
    assert!(verification.holds, "{broken:#?}");

    let trial = ledger::trial_balance(&mut books, "2026-03-18".parse().unwrap()).await.unwrap();
    let accounts: Vec<_> = trial.accounts.iter().map(|one| (one.number.clone(), one.balance.0)).collect();
    assert_eq!(accounts, before.accounts);

    let rows = customers::list(&mut books, None).await.unwrap();
    assert_eq!(rows.len(), before.customers.len());
    for (number, owes, unapplied, unbilled, open) in before.customers {
        let id = rows.iter().find(|row| row.number == number).unwrap().id;
        let view = customers::view(&mut books, id).await.unwrap();
        assert_eq!((view.owes.0, view.unapplied.0, view.unbilled.0), (owes, unapplied, unbilled), "{number}");
        let own = view.open_items.iter().filter(|item| item.branch.is_none());
        let mut items: Vec<_> = own.map(|item| (item.number.clone(), item.open.0, item.due_date)).collect();
        items.sort();
        assert_eq!(items, open, "{number}");
    }

    let filter = OrderFilter { limit: 1_000, ..OrderFilter::default() };
    let list = orders::list(&mut books, &filter).await.unwrap();
    let mut found: Vec<_> = list
        .orders
        .iter()
        .map(|row| {
            let track = [row.track.ordered, row.track.shipped, row.track.billed, row.track.paid];
            (row.number.clone(), row.state.word().to_owned(), track)
        })
        .collect();
    found.sort();
    assert_eq!(found.len(), before.orders.len());
    assert_eq!(found, before.orders);
}

/// Credit memos share a range of ids with invoices since. By the id of before one is still found, with its lines,
/// and what was written of it under that id is its history.
#[tokio::test]
async fn a_credit_memo_is_found_by_the_id_it_had() {
    let (folder, store) = brought_forward().await;
    let mut books = store.read().await.unwrap();
    let memos =
        invoices::credit_memos(&mut books, &invoices::CreditMemoFilter::default(), (10, 0)).await.unwrap().memos;
    let [memo] = memos.as_slice() else { panic!("{memos:?}") };
    let found = invoices::credit_memo(&mut books, CreditMemoId(1)).await.unwrap();
    assert_eq!((found.id, found.number.as_str(), found.whole), (memo.id, "CM-61", true));
    // 30.01 with the invoice it cancels, line by line.
    assert_eq!((found.document.total, found.document.lines.is_empty()), (Money(3_001), false));
    drop(books);
    let mut raw = SqliteConnectOptions::new().filename(folder.path().join("books.db")).connect().await.unwrap();
    sqlx::query(
        "INSERT INTO record (sequence, at, person, from_where, what, words, document_kind, document_id, document_number, changes, seal)
         SELECT max(sequence) + 1, '2026-03-17T09:00:00.000Z', 'Ines Calder', 'here', 'mailed', 'mailed CM-61', 'credit_memo', 1,
                'CM-61', '[]', max(seal) FROM record",
    )
    .execute(&mut raw)
    .await
    .unwrap();
    raw.close().await.unwrap();
    let mut books = store.read().await.unwrap();
    let of =
        |id: i64| RecordFilter { document: Some((DocumentKind::CreditMemo, id)), limit: 5, ..RecordFilter::default() };
    let history = record::list(&mut books, &of(memo.id.0)).await.unwrap();
    assert_eq!((history.count, history.rows[0].deed.words.as_str()), (1, "mailed CM-61"));
}

/// Books whose rows do not fit together are not opened half way: everything is as it was.
#[tokio::test]
async fn books_with_a_row_that_points_to_nothing_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("books.db");
    drop(Store::open(&file).await.unwrap());
    let mut raw = SqliteConnectOptions::new().filename(&file).foreign_keys(false).connect().await.unwrap();
    sqlx::query("INSERT INTO saved_views (person_id, room, name, query) VALUES (99, 'x', 'y', 'z')")
        .execute(&mut raw)
        .await
        .unwrap();
    raw.close().await.unwrap();
    let refused = Store::open(&file).await.unwrap_err();
    assert!(refused.to_string().contains("point to nothing"), "{refused}");
}
