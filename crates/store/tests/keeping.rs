//! What is posted never changes: the database itself refuses, whoever asks. And `verify` sees
//! what got past it.
#![allow(missing_docs, clippy::unwrap_used, clippy::explicit_auto_deref)]

mod common;

use common::*;
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor, SqliteConnection};
use till_core::money_in::Method;
use till_store::receipts::NewReceipt;
use till_store::{Store, StoreError, verify};

async fn worked() -> (Company, SqliteConnection) {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 6).await;
    company.bill(shipment).await;
    company
        .receive(&NewReceipt {
            customer: company.customers[0],
            method: Method::Check,
            date: None,
            amount: "50".to_owned(),
            reference: None,
            applications: None,
            first: None,
        })
        .await
        .unwrap();
    let raw = SqliteConnectOptions::new()
        .filename(company.folder.path().join("books.db"))
        .foreign_keys(true)
        .connect()
        .await
        .unwrap();
    (company, raw)
}

#[tokio::test]
async fn posted_rows_can_be_neither_changed_nor_deleted() {
    let (company, mut raw) = worked().await;
    for statement in [
        "UPDATE entries SET text = 'x'",
        "DELETE FROM entries",
        "UPDATE entry_lines SET base_minor = base_minor + 1",
        "DELETE FROM entry_lines",
        "INSERT INTO entry_lines SELECT 1, 99, account, purpose, base_minor, document_minor, customer_id, tax_code, tax_base_minor FROM entry_lines WHERE entry_id = 1 LIMIT 1",
        "UPDATE invoices SET total_minor = 1",
        "UPDATE invoices SET state = 'draft'",
        "UPDATE invoices SET number = 'I-9'",
        "DELETE FROM invoices",
        "UPDATE invoice_lines SET net_minor = 0",
        "DELETE FROM invoice_lines",
        "UPDATE invoice_taxes SET tax_minor = 0",
        "DELETE FROM invoice_orders",
        "UPDATE shipments SET posting_date = '2026-01-01'",
        "DELETE FROM shipments",
        "UPDATE shipment_lines SET quantity_e4 = 1",
        "UPDATE receipts SET amount_minor = 1",
        "DELETE FROM receipts",
        "UPDATE applications SET amount_minor = 1",
        "DELETE FROM applications",
        "UPDATE stock_layers SET cost_minor = 0",
        "UPDATE stock_issues SET cost_minor = 0",
        // And the limits no operation may pass.
        "UPDATE invoices SET open_minor = total_minor + 1",
        "UPDATE invoices SET open_minor = -1",
        "UPDATE order_lines SET billed_e4 = shipped_e4 + 1",
        "UPDATE order_lines SET shipped_e4 = ordered_e4 + 1",
        "UPDATE shipment_lines SET unbilled_e4 = quantity_e4 + 1",
        "UPDATE stock_layers SET remaining_e4 = -1",
        "UPDATE receipts SET unapplied_minor = amount_minor + 1",
    ] {
        assert!(raw.execute(statement).await.is_err(), "went through: {statement}");
    }
    raw.close().await.unwrap();
    company.holds().await;
}

#[tokio::test]
async fn verify_finds_what_got_past_the_triggers() {
    let cases = [
        ("UPDATE invoices SET open_minor = open_minor - 1", "Open and unapplied"),
        ("UPDATE customers SET owes_base_minor = 5", "Receivables"),
        ("UPDATE order_lines SET billed_e4 = billed_e4 - 10000 WHERE billed_e4 > 10000", "Shipped, billed"),
        (
            "UPDATE stock_layers SET remaining_cost_minor = remaining_cost_minor - 1 WHERE remaining_cost_minor > 0",
            "Stock follows",
        ),
        ("UPDATE orders SET state = 'closed'", "Orders are in the state"),
        ("UPDATE number_ranges SET next = next + 1 WHERE kind = 'invoice'", "Numbers have"),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET base_minor = base_minor + 1 WHERE entry_id = 6 AND position = 0",
            "Every entry balances",
        ),
        ("DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET tax_code = NULL, tax_base_minor = NULL", "Tax equals"),
        (
            "DROP TRIGGER invoice_lines_keep; UPDATE invoice_lines SET amount_minor = amount_minor + 1",
            "Invoice lines are quantity",
        ),
    ];
    for (damage, seen_by) in cases {
        let (company, mut raw) = worked().await;
        company.holds().await;
        raw.execute(damage).await.unwrap();
        raw.close().await.unwrap();
        let verification = verify::verify(&mut *company.store.read().await.unwrap()).await.unwrap();
        assert!(!verification.holds, "{damage}");
        let found = verification
            .proofs
            .iter()
            .any(|proof| !proof.holds && proof.name.starts_with(seen_by) && !proof.findings.is_empty());
        assert!(found, "{damage} was not seen by “{seen_by}”: {verification:#?}");
    }
}

#[tokio::test]
async fn a_newer_database_is_left_alone() {
    let (company, mut raw) = worked().await;
    company.store.close().await;
    raw.execute("INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (9999, 'later', 1, x'00', 0)").await.unwrap();
    raw.close().await.unwrap();
    let opened = Store::open(&company.folder.path().join("books.db")).await;
    assert!(matches!(opened, Err(StoreError::NewerDatabase)));
}

#[tokio::test]
async fn a_full_disk_loses_and_doubles_nothing() {
    let (company, mut raw) = worked().await;
    let order = company.order(0, 5).await;
    let shipment = company.ship(order, 5).await;
    let to_bill = company.to_bill(shipment).await;
    let (pages,): (i64,) = sqlx::query_as("PRAGMA page_count").fetch_one(&mut raw).await.unwrap();
    raw.close().await.unwrap();
    let post = async |limit: i64| {
        company
            .store
            .change(&by(), None, async |connection| {
                // The file may not grow any more: SQLite then says what it says on a full disk.
                connection.execute(sqlx::AssertSqlSafe(format!("PRAGMA max_page_count = {limit}"))).await?;
                let rules = till_store::rules::load(connection).await?;
                let mut posted = Vec::new();
                for _ in 0..1 {
                    posted = till_store::invoices::post_picks(connection, &rules, &to_bill, None).await?;
                    for filler in 0..200 {
                        let text = "x".repeat(4_000);
                        sqlx::query("INSERT INTO requests (key, fingerprint, answer) VALUES (?, 'f', ?)")
                            .bind(format!("filler {filler}"))
                            .bind(text)
                            .execute(&mut **connection)
                            .await?;
                    }
                }
                Ok(posted)
            })
            .await
    };
    let failed = post(pages).await;
    let said = failed.map(|_| ()).unwrap_err().to_string();
    assert!(said.starts_with("The disk is full. Nothing was changed."), "{said}");
    company.holds().await;
    let done = post(1_000_000).await.unwrap();
    assert_eq!(done[0].number, "I-2", "the number was not lost");
    company.holds().await;
}
