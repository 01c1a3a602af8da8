//! What is posted never changes: the database itself refuses, whoever asks. And `verify` sees
//! what got past it.

use crate::common::*;
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor, SqliteConnection};
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
            method: "check".to_owned(),
            date: None,
            amount: "50".to_owned(),
            reference: None,
            applications: None,
            first: None,
            with: Vec::new(),
            currency: None,
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
        "INSERT INTO entry_lines (entry_id, position, account, purpose, base_minor, document_minor) SELECT 1, 99, account, purpose, base_minor, document_minor FROM entry_lines WHERE entry_id = 1 LIMIT 1",
        "UPDATE documents SET total_minor = 1",
        "UPDATE documents SET state = 'draft'",
        "UPDATE documents SET number = 'I-9'",
        "DELETE FROM documents",
        "UPDATE document_lines SET net_minor = 0",
        "DELETE FROM document_lines",
        "UPDATE document_taxes SET tax_minor = 0",
        "DELETE FROM document_orders",
        "UPDATE shipments SET posting_date = '2026-01-01'",
        "DELETE FROM shipments",
        "UPDATE shipment_lines SET quantity_e4 = 1",
        "UPDATE payments SET amount_minor = 1",
        "DELETE FROM payments",
        "UPDATE open_items SET amount_minor = 1",
        "UPDATE open_items SET account = NULL",
        "DELETE FROM open_items",
        "UPDATE applications SET debit_minor = 1",
        "DELETE FROM applications",
        "INSERT INTO applications (application_date, debit_item, debit_minor, debit_base_minor, credit_item, credit_minor, credit_base_minor, reverses_id) SELECT application_date, debit_item, -debit_minor - 1, -debit_base_minor, credit_item, -credit_minor, -credit_base_minor, id FROM applications",
        "UPDATE stock_layers SET cost_minor = 0",
        "UPDATE stock_moves SET cost_minor = 0",
        // And the limits no operation may pass.
        "UPDATE open_items SET open_minor = amount_minor + 1",
        "UPDATE open_items SET open_minor = -1",
        "UPDATE documents SET tax_computed = 'per_line'",
        "UPDATE order_lines SET billed_e4 = shipped_e4 + 1",
        "UPDATE order_lines SET shipped_e4 = ordered_e4 + 1",
        "UPDATE shipment_lines SET unbilled_e4 = quantity_e4 + 1",
        "UPDATE stock_layers SET remaining_e4 = -1",
        "UPDATE number_ranges SET next = 1 WHERE kind = 'entry'",
    ] {
        let refused = raw.execute(statement).await.expect_err(statement).to_string();
        assert!(!refused.contains("no such") && !refused.contains("syntax"), "{statement}: {refused}");
    }
    raw.close().await.unwrap();
    company.holds().await;
}

#[tokio::test]
async fn verify_finds_what_got_past_the_triggers() {
    let cases = [
        ("UPDATE open_items SET open_minor = open_minor - 1 WHERE kind = 'invoice'", "Open and unapplied"),
        ("UPDATE open_items SET open_base_minor = open_base_minor - 1 WHERE kind = 'invoice'", "Open and unapplied"),
        ("UPDATE open_items SET next_due_date = '2026-01-01' WHERE kind = 'invoice'", "What falls due next"),
        ("UPDATE customers SET owes_base_minor = 5", "Open items equal"),
        (
            "DROP TRIGGER applications_keep; UPDATE applications SET application_date = '2026-01-01'",
            "Open and unapplied",
        ),
        (
            "DROP TRIGGER applications_keep; UPDATE applications SET debit_base_minor = debit_base_minor - 1, debit_minor = debit_minor - 1",
            "Open items equal",
        ),
        ("DROP TRIGGER open_items_keep; UPDATE open_items SET amount_minor = amount_minor + 1", "Open and unapplied"),
        (
            "DROP TRIGGER payments_keep; UPDATE payments SET amount_base_minor = amount_base_minor + 1",
            "Receipts in hand",
        ),
        // Goods that came in on a day after some of them left.
        (
            "DROP TRIGGER stock_layers_keep; UPDATE stock_layers SET posting_date = '2026-12-01'",
            "No sub-ledger is below zero",
        ),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET tax_base_minor = tax_base_minor + 1 WHERE tax_code IS NOT NULL",
            "What was taxed",
        ),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET tax_date = '2026-03-01' WHERE tax_code IS NOT NULL",
            "What was taxed",
        ),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET purpose = 'charge_revenue' WHERE purpose = 'revenue'",
            "Revenue equals",
        ),
        ("DROP TRIGGER stock_moves_stay; DELETE FROM stock_moves", "Billed goods have left stock"),
        ("UPDATE order_lines SET billed_e4 = billed_e4 - 10000 WHERE billed_e4 > 10000", "Shipped, billed"),
        (
            "UPDATE stock_layers SET remaining_cost_minor = remaining_cost_minor - 1 WHERE remaining_cost_minor > 0",
            "Stock follows",
        ),
        ("UPDATE orders SET state = 'closed'", "Orders are in the state"),
        (
            "DROP TRIGGER documents_keep; UPDATE documents SET net_minor = net_minor + 1, total_minor = total_minor + 1",
            "Invoices add up",
        ),
        ("DROP TRIGGER documents_keep; UPDATE documents SET entry_id = NULL", "Every posting has its entry"),
        ("DROP TRIGGER stock_layers_keep; UPDATE stock_layers SET cost_minor = cost_minor + 1", "Inventory equals"),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET purpose = 'revenue' WHERE purpose = 'receivable' AND entry_id = (SELECT max(entry_id) FROM entry_lines WHERE purpose = 'receivable')",
            "Control accounts carry nothing else",
        ),
        ("UPDATE orders SET confirmed = 0", "What is reserved is there"),
        ("UPDATE stock_layers SET remaining_e4 = 0, remaining_cost_minor = 0", "What is reserved is there"),
        (
            "PRAGMA ignore_check_constraints = 1; UPDATE order_lines SET allocated_e4 = 5000000 WHERE allocated_e4 > 0",
            "What is short, free and billable",
        ),
        (
            "UPDATE deliveries SET way = 'mail', state = 'done', done_at = '2026-03-18T09:00:00Z'",
            "Documents on their way are posted",
        ),
        ("UPDATE number_ranges SET next = next + 1 WHERE kind = 'invoice'", "Numbers have"),
        (
            "DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET base_minor = base_minor + 1 WHERE entry_id = 6 AND position = 0",
            "Every entry balances",
        ),
        ("DROP TRIGGER entry_lines_keep; UPDATE entry_lines SET tax_code = NULL, tax_base_minor = NULL", "Tax equals"),
        (
            "DROP TRIGGER document_lines_keep; UPDATE document_lines SET amount_minor = amount_minor + 1",
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
