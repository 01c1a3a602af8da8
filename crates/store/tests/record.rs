//! The record shows what was changed or taken out; numbers and periods leave their trace on it.

use crate::common::{self, *};
use sqlx::sqlite::SqliteConnectOptions;
use sqlx::{ConnectOptions, Connection, Executor, SqliteConnection};
use till_core::accounts::{AccountType, Purpose};
use till_core::marks::{FieldKind, FieldPlace, OwnField};
use till_core::numbering::MoveNumber;
use till_store::chart::{self, NewChartAccount, NewMapRow};
use till_store::marks::{self, NewCode, NewList};
use till_store::prices::{self, NewBreak, NewListPrice, NewPromotion};
use till_store::record::{self, RecordFilter};
use till_store::shipments::{self, PickForm, ShipmentFilter, ShipmentForm};
use till_store::stock::{self, Warehouse};
use till_store::{Store, StoreError, copies, customers, orders, settings, setup, verify};

async fn raw(company: &Company) -> SqliteConnection {
    SqliteConnectOptions::new().filename(company.folder.path().join("books.db")).connect().await.unwrap()
}

async fn worked() -> Company {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let shipment = company.ship(order, 6).await;
    company.bill(shipment).await;
    company
}

async fn findings(store: &Store) -> Vec<String> {
    let verification = verify::verify(&mut *store.read().await.unwrap()).await.unwrap();
    verification.proofs.into_iter().filter(|proof| !proof.holds).flat_map(|proof| proof.findings).collect()
}

#[tokio::test]
async fn every_change_of_the_record_shows() {
    let cases = [
        ("UPDATE record SET words = 'nothing' WHERE sequence = 3", "row 3 of the record is not as it was written"),
        ("UPDATE record SET at = '2020-01-01T00:00:00.000Z' WHERE sequence = 2", "row 2 of the record is not as"),
        ("UPDATE record SET changes = '[]' WHERE changes <> '[]'", "is not as it was written"),
        ("UPDATE record SET person = 'someone else' WHERE sequence = 5", "row 5 of the record is not as"),
        ("DELETE FROM record WHERE sequence = 4", "row 4 of the record is missing"),
        ("DELETE FROM record WHERE sequence = (SELECT max(sequence) FROM record)", "the record ends at row"),
        ("DELETE FROM record", "the record ends at row 0"),
    ];
    for (damage, said) in cases {
        let company = worked().await;
        company.holds().await;
        let mut raw = raw(&company).await;
        assert!(raw.execute(damage).await.is_err(), "the database let it through: {damage}");
        raw.execute("DROP TRIGGER record_keeps; DROP TRIGGER record_stays").await.unwrap();
        raw.execute(damage).await.unwrap();
        raw.close().await.unwrap();
        let found = findings(&company.store).await;
        assert!(found.iter().any(|finding| finding.contains(said)), "{damage}: {found:?}");
    }
}

#[tokio::test]
async fn what_leaves_no_trace_is_not_done() {
    let company = worked().await;
    let silent = company
        .store
        .change(&by(), None, async |writing| {
            sqlx::query("UPDATE customers SET name = 'silently'").execute(&mut **writing).await?;
            Ok(())
        })
        .await;
    assert!(matches!(silent, Err(StoreError::Unrecorded)), "{silent:?}");
    let names: Vec<String> =
        sqlx::query_scalar("SELECT name FROM customers").fetch_all(&mut raw(&company).await).await.unwrap();
    assert!(!names.contains(&"silently".to_owned()));
}

#[tokio::test]
async fn the_record_is_read_by_document_by_person_and_by_day() {
    let company = worked().await;
    let mut connection = company.store.read().await.unwrap();
    let read = async |connection: &mut SqliteConnection, filter: RecordFilter| {
        record::list(connection, &RecordFilter { limit: 100, ..filter }).await.unwrap()
    };
    let all = read(&mut connection, RecordFilter::default()).await;
    let whole = usize::try_from(all.count).unwrap();
    assert_eq!(all.rows.len(), whole);
    assert!(all.rows.windows(2).all(|pair| pair[0].sequence == pair[1].sequence + 1), "newest first, none missing");
    let invoice = RecordFilter { document: Some((till_core::ids::DocumentKind::Invoice, 1)), ..Default::default() };
    let words: Vec<String> = read(&mut connection, invoice).await.rows.into_iter().map(|row| row.deed.words).collect();
    assert_eq!(words, ["posted I-1 to 1"].map(str::to_owned), "{words:?}");
    let none = RecordFilter { from: Some(day("2026-03-19")), ..Default::default() };
    assert_eq!(read(&mut connection, none).await.count, 0);
    let that_day = RecordFilter { from: Some(day("2026-03-18")), to: Some(day("2026-03-18")), ..Default::default() };
    assert_eq!(usize::try_from(read(&mut connection, that_day).await.count).unwrap(), whole);
    let nobody = RecordFilter { person: Some(till_core::ids::PersonId(9)), ..Default::default() };
    assert_eq!(read(&mut connection, nobody).await.count, 0);
}

#[tokio::test]
async fn numbers_passed_over_are_void_and_the_books_hold() {
    let company = worked().await;
    let wish = |next, reason: &str| MoveNumber { prefix: "I-".to_owned(), next, reason: reason.to_owned() };
    let moved = async |kind: &str, wish: MoveNumber| {
        company.store.change(&by(), None, async |writing| settings::move_number(writing, kind, &wish).await).await
    };
    assert!(moved("invoice", wish(1, "go back")).await.unwrap_err().to_string().contains("never go back"));
    assert!(moved("invoice", wish(100, " ")).await.unwrap_err().to_string().contains("Say why"));
    assert!(moved("entry", wish(100, "tidy")).await.unwrap_err().to_string().contains("no gaps"));
    moved("invoice", wish(100, "a new book of forms")).await.unwrap();
    company.holds().await;
    let order = company.order(1, 2).await;
    let shipment = company.ship(order, 2).await;
    company.bill(shipment).await;
    company.holds().await;
    let view = settings::view(&mut *company.store.read().await.unwrap()).await.unwrap();
    let range = view.numbers.iter().find(|range| range.kind == "invoice").unwrap();
    assert_eq!(range.next, 101);
    assert_eq!((range.void[0].first.as_str(), range.void[0].last.as_str()), ("I-2", "I-99"));
    // Used after all, it would show.
    let mut raw = raw(&company).await;
    raw.execute("DROP TRIGGER void_numbers_keep; UPDATE void_numbers SET last = 100").await.unwrap();
    raw.close().await.unwrap();
    assert!(findings(&company.store).await.iter().any(|finding| finding.starts_with("invoice: numbers run")));
}

#[tokio::test]
async fn periods_are_closed_in_order_and_opened_from_the_end() {
    let company = worked().await;
    let set = async |first: &str, open| {
        company.store.change(&by(), None, async |writing| setup::set_period(writing, day(first), open).await).await
    };
    let view = settings::view(&mut *company.store.read().await.unwrap()).await.unwrap();
    let open: Vec<String> =
        view.periods.iter().filter(|period| period.open).map(|period| period.first.to_string()).collect();
    let (first, second) = (&open[0], &open[1]);
    assert!(set(second, false).await.unwrap_err().to_string().contains("is still open. Close it first"));
    set(first, false).await.unwrap();
    assert!(set(first, false).await.unwrap_err().to_string().contains("closed already"));
    set(second, false).await.unwrap();
    assert!(set(first, true).await.unwrap_err().to_string().contains("is closed. Open it first"));
    assert!(set("2026-03-02", true).await.unwrap_err().to_string().contains("No period begins"));
}

#[tokio::test]
async fn a_copy_made_while_others_post_holds_and_replaces_the_books() {
    let company = worked().await;
    let file = company.folder.path().join("books.db");
    let copy = company.folder.path().join("copy.db");
    let posting = async {
        for customer in [0, 1, 0, 1, 0] {
            let order = company.order(customer, 3).await;
            let shipment = company.ship(order, 3).await;
            company.bill(shipment).await;
        }
    };
    let (made, ()) = tokio::join!(copies::backup(&file, &copy), posting);
    made.unwrap();
    assert!(matches!(copies::backup(&file, &copy).await, Err(StoreError::Exists(_))));
    company.holds().await;
    company.store.close().await;
    let (trial, verification) = copies::prove(&copy, company.folder.path()).await.unwrap();
    assert!(verification.holds, "{verification:#?}");
    let aside = copies::put_in_place(&trial, company.folder.path(), "test").await.unwrap().unwrap();
    let before = Store::open(&aside).await.unwrap();
    assert_eq!(findings(&before).await, Vec::<String>::new(), "what was there before is whole too");
    before.close().await;
    let store = Store::open(&file).await.unwrap();
    assert_eq!(findings(&store).await, Vec::<String>::new());
}

#[tokio::test]
async fn what_is_no_sound_copy_is_refused_and_nothing_is_left_behind() {
    let company = worked().await;
    let folder = company.folder.path();
    std::fs::write(folder.join("text.db"), "these are no books at all, only a text file of some length".repeat(40))
        .unwrap();
    let refused = copies::prove(&folder.join("text.db"), folder).await.unwrap_err();
    assert!(refused.to_string().contains("damaged, or no database"), "{refused}");
    let missing = copies::prove(&folder.join("missing.db"), folder).await.unwrap_err();
    assert!(matches!(missing, StoreError::NoCopy(_)), "{missing}");
    assert!(!folder.join("books.restoring.db").exists());
    // A copy whose pages were damaged.
    copies::backup(&folder.join("books.db"), &folder.join("copy.db")).await.unwrap();
    let mut bytes = std::fs::read(folder.join("copy.db")).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle..middle + 4096].fill(0x5a);
    std::fs::write(folder.join("copy.db"), bytes).unwrap();
    let damaged = copies::prove(&folder.join("copy.db"), folder).await;
    assert!(damaged.is_err() || !damaged.unwrap().1.holds);
}

#[tokio::test]
async fn one_copy_a_day_is_made_and_the_oldest_go() {
    let company = worked().await;
    let folder = company.folder.path();
    for date in ["2026-03-16", "2026-03-17", "2026-03-18", "2026-03-19"] {
        assert!(copies::daily(folder, day(date), 3).await.unwrap().is_some());
        assert!(copies::daily(folder, day(date), 3).await.unwrap().is_none(), "one a day");
    }
    let mut kept: Vec<_> = std::fs::read_dir(copies::copies(folder))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    kept.sort();
    assert_eq!(kept, ["books-2026-03-17.db", "books-2026-03-18.db", "books-2026-03-19.db"]);
}

#[tokio::test]
async fn books_of_an_older_program_are_copied_before_they_are_brought_up_to_date() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("books.db");
    // Books as the first version left them: its migration alone.
    let mut raw = SqliteConnectOptions::new().filename(&file).create_if_missing(true).connect().await.unwrap();
    let first = include_str!("../migrations/0001_books.sql");
    raw.execute(first).await.unwrap();
    raw.execute("CREATE TABLE _sqlx_migrations (version BIGINT PRIMARY KEY, description TEXT NOT NULL, installed_on TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP, success BOOLEAN NOT NULL, checksum BLOB NOT NULL, execution_time BIGINT NOT NULL)").await.unwrap();
    let migrator = sqlx::migrate!("./migrations");
    let checksum = migrator.iter().next().unwrap().checksum.to_vec();
    sqlx::query("INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) VALUES (1, 'books', 1, ?, 0)")
        .bind(checksum)
        .execute(&mut raw)
        .await
        .unwrap();
    raw.close().await.unwrap();
    Store::open(&file).await.unwrap().close().await;
    let copy = copies::copies(folder.path()).join(format!("books.before-version-{}.db", migrator.iter().count()));
    let mut kept = SqliteConnectOptions::new().filename(copy).connect().await.unwrap();
    let people: Vec<String> =
        sqlx::query_scalar("SELECT name FROM sqlite_master WHERE name = 'people'").fetch_all(&mut kept).await.unwrap();
    assert_eq!(people, Vec::<String>::new(), "the copy is from before");
}

/// Books with shipments, invoices and money as the program kept them before there were price lists,
/// allocation and cost entries: everything is still there, and every proof holds.
#[tokio::test]
async fn books_with_shipments_are_brought_up_to_date_and_hold() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("books.db");
    let mut raw = SqliteConnectOptions::new()
        .filename(&file)
        .create_if_missing(true)
        .foreign_keys(false)
        .connect()
        .await
        .unwrap();
    raw.execute(include_str!("data/books_before_orders.sql")).await.unwrap();
    raw.close().await.unwrap();
    let store = Store::open(&file).await.unwrap();
    let mut connection = store.read().await.unwrap();
    let verification = till_store::verify::verify(&mut connection).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|proof| !proof.holds).collect();
    assert!(verification.holds, "{broken:#?}");
    let shipments = till_store::shipments::list(&mut connection, &ShipmentFilter { limit: 10, ..Default::default() })
        .await
        .unwrap();
    let states: Vec<_> =
        shipments.shipments.iter().map(|one| (one.number.as_str(), format!("{:?}", one.state))).collect();
    let expected = [("S-3", "Packed"), ("S-2", "Posted"), ("S-1", "Posted")];
    assert_eq!(states, expected.map(|(number, state)| (number, state.to_owned())));
    // What lay packed then leaves now, and what had left is taken back at the cost it left at.
    let by = common::by();
    store
        .change(&by, None, async |writing| {
            let rules = till_store::rules::load(writing).await?;
            till_store::shipments::post(writing, &rules, shipments.shipments[0].id, None, rules.business_date).await?;
            let back = till_store::shipments::TakeBack { version: 2, date: None, reason: "a wrong door".to_owned() };
            till_store::shipments::take_back(writing, &rules, shipments.shipments[1].id, &back).await
        })
        .await
        .unwrap();
    let verification = till_store::verify::verify(&mut store.read().await.unwrap()).await.unwrap();
    let broken: Vec<_> = verification.proofs.iter().filter(|proof| !proof.holds).collect();
    assert!(verification.holds, "{broken:#?}");
}

/// The last deed of the record: its changes, “field: from → to”.
async fn last_changes(company: &Company) -> Vec<String> {
    let filter = RecordFilter { limit: 1, ..RecordFilter::default() };
    let list = record::list(&mut *company.store.read().await.unwrap(), &filter).await.unwrap();
    let said = |value: &Option<String>| value.clone().unwrap_or_else(|| "–".to_owned());
    list.rows[0]
        .deed
        .changes
        .iter()
        .map(|change| format!("{}: {} → {}", change.field, said(&change.from), said(&change.to)))
        .collect()
}

/// Kinds of changes that said only what they came to say what was there before, in words.
#[tokio::test]
async fn what_is_changed_is_told_from_value_to_value() {
    let company = Company::new().await;
    let order = company.order(0, 10).await;
    let line = orders::view(&mut *company.store.read().await.unwrap(), order).await.unwrap().lines[0].id;
    let form = |quantity: &str, carrier: Option<&str>| ShipmentForm {
        carrier: carrier.map(str::to_owned),
        consignment_number: None,
        freight: None,
        warehouse: None,
        lines: vec![PickForm { order_line: line, quantity: quantity.to_owned() }],
    };
    change(&company, async |writing, rules| {
        let shipment = shipments::start(writing, rules, order, Some(&form("4", None))).await?;
        shipments::save(writing, shipment, 1, &form("3", Some("Coast Parcels"))).await
    })
    .await
    .unwrap();
    assert_eq!(last_changes(&company).await, ["carrier: – → Coast Parcels", "line 1, A: 4 → 3"]);

    let list =
        change(&company, async |writing, rules| prices::add_list(writing, "Trade", rules.base).await).await.unwrap();
    for (price, told) in [("20", "price: – → 20.00"), ("18", "price: 20.00 → 18.00")] {
        let new = NewListPrice { item: "A".to_owned(), valid_from: Some(day("2026-03-01")), price: price.to_owned() };
        change(&company, async |writing, rules| prices::set_price(writing, list, &new, rules.business_date).await)
            .await
            .unwrap();
        assert_eq!(last_changes(&company).await.last().unwrap(), told);
    }
    for (off, told) in [("5", "off: – → 5 %"), ("7", "off: 5 % → 7 %")] {
        let (from, off) = ("100".to_owned(), off.to_owned());
        let new = NewBreak { price_list: None, item: "A".to_owned(), class: String::new(), from, off };
        change(&company, async |writing, _| prices::set_break(writing, &new).await).await.unwrap();
        assert_eq!(last_changes(&company).await.last().unwrap(), told);
    }
    let promotion = |last: &str| NewPromotion {
        code: "SPRING".to_owned(),
        name: "spring offer".to_owned(),
        first: day("2026-03-01"),
        last: day(last),
        item: "A".to_owned(),
        class: String::new(),
        off: "10".to_owned(),
    };
    for last in ["2026-03-31", "2026-04-15"] {
        change(&company, async |writing, _| prices::set_promotion(writing, &promotion(last)).await).await.unwrap();
    }
    assert_eq!(last_changes(&company).await, ["to: 31 Mar 2026 → 15 Apr 2026"]);

    let field = |required| OwnField {
        key: "gate".to_owned(),
        label: "Gate".to_owned(),
        place: FieldPlace::Order,
        kind: FieldKind::Text,
        choices: Vec::new(),
        required,
        active: true,
    };
    for required in [false, true] {
        change(&company, async |writing, _| marks::set_field(writing, &field(required)).await).await.unwrap();
    }
    assert_eq!(last_changes(&company).await, ["required: no → yes"]);
    for codes in [&["N"][..], &["N", "S"]] {
        let codes =
            codes.iter().map(|code| NewCode { code: (*code).to_owned(), name: format!("{code} side") }).collect();
        let list = NewList { key: "place".to_owned(), name: "Place".to_owned(), codes, required_by: Vec::new() };
        change(&company, async |writing, _| marks::set_list(writing, &list).await).await.unwrap();
    }
    assert_eq!(last_changes(&company).await, ["codes: N N side → N N side, S S side"]);
    for name in ["Yard", "The yard"] {
        let warehouse = Warehouse { code: "YARD".to_owned(), name: name.to_owned(), counted: true };
        change(&company, async |writing, _| stock::set_warehouse(writing, &warehouse).await).await.unwrap();
    }
    assert_eq!(last_changes(&company).await, ["name: Yard → The yard"]);

    let customer = company.customers[0];
    let mut main = customers::ship_tos(&mut *company.store.read().await.unwrap(), customer).await.unwrap().remove(0);
    main.address = "2 Test Road".to_owned();
    change(&company, async |writing, _| customers::set_ship_to(writing, customer, &main).await).await.unwrap();
    assert_eq!(last_changes(&company).await, ["address: 1 Test Road → 2 Test Road"]);
    for (name, to) in [("Sales of A", "61400"), ("Sales of B", "61400")] {
        let new = NewChartAccount { number: to.to_owned(), name: name.to_owned(), account_type: AccountType::Revenue };
        change(&company, async |writing, _| match name {
            "Sales of A" => chart::add(writing, &new).await,
            other => chart::rename(writing, to, other).await,
        })
        .await
        .unwrap();
    }
    assert_eq!(last_changes(&company).await, ["name: Sales of A → Sales of B"]);
    let row = |account: Option<&str>| NewMapRow {
        purpose: Purpose::Revenue,
        item_class: Some("goods".to_owned()),
        customer_class: None,
        account: account.map(str::to_owned),
    };
    change(&company, async |writing, _| chart::lead(writing, &row(Some("61400"))).await).await.unwrap();
    assert_eq!(last_changes(&company).await, ["sales of goods: – → 61400"]);
    change(&company, async |writing, _| chart::lead(writing, &row(None)).await).await.unwrap();
    assert_eq!(last_changes(&company).await, ["sales of goods: 61400 → –"]);
}

/// What the account map refuses, each at its field: an account of another type, one that carries something that is
/// proved, the row for all classes taken out.
#[tokio::test]
async fn the_account_map_keeps_what_is_proved_apart() {
    let company = worked().await;
    let lead = async |purpose: Purpose, account: Option<&str>| {
        let account = account.map(str::to_owned);
        let row = NewMapRow { purpose, item_class: None, customer_class: None, account };
        change(&company, async |writing, _| chart::lead(writing, &row).await).await
    };
    for (purpose, account, said) in [
        (Purpose::Receivable, Some("61000"), "is a revenue account"),
        (Purpose::Receivable, Some("11000"), "needs an account of its own"),
        (Purpose::InHand, Some("31000"), "needs an account of its own"),
        (Purpose::Revenue, Some("99999"), "There is no account 99999"),
        (Purpose::Revenue, None, "always leads to an account"),
    ] {
        let Err(StoreError::Invalid { field, sentence }) = lead(purpose, account).await else { panic!("{said}") };
        assert!(field == "account" && sentence.contains(said), "{sentence}");
    }
    lead(Purpose::Returns, Some("61000")).await.unwrap();
    company.holds().await;
}
