//! Makes the pictures of `docs/screenshots` from the demo company, at 1280 × 800.
//!
//! `cargo run -p till-e2e --bin screenshots [FOLDER] [NAME…]`; a name written `NAME=/PLACE` takes any other place.

use std::path::PathBuf;

use till_e2e::{Browser, Key, Result, Till, Who};

/// Under twenty of them: one a main view.
const VIEWS: &[(&str, &str)] = &[
    ("day-sheet", "/"),
    ("unbilled", "/billing"),
    ("invoice", "/invoices"),
    ("run", "/billing"),
    ("exchange", "/billing/invoices?q=I-3281"),
    ("going-out", "/billing/going-out"),
    ("new-receipt", "/receipts/new"),
    ("prepayments", "/prepayments"),
    ("bank-slips", "/bank-slips"),
    ("new-order", "/orders/new"),
    ("order", "/orders?q=SH-2611"),
    ("orders", "/orders"),
    ("shipment", "/shipments?state=picking"),
    ("item", "/items/1"),
    ("return", "/returns?q=RA-17"),
    ("customer", "/customers/3"),
    ("journal", "/ledger"),
    ("bank-statement", "/bank/1"),
    ("customer-page", "/quotes/1"),
];

#[tokio::main]
async fn main() -> Result<()> {
    let mut arguments = std::env::args().skip(1);
    let folder = PathBuf::from(arguments.next().unwrap_or_else(|| "docs/screenshots".to_owned()));
    let only: Vec<String> = arguments.collect();
    std::fs::create_dir_all(&folder)?;
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    let others = only.iter().filter_map(|wanted| wanted.split_once('='));
    for (name, place) in VIEWS.iter().copied().chain(others) {
        let wanted = |wanted: &String| wanted == name || *wanted == format!("{name}={place}");
        if !only.is_empty() && !only.iter().any(wanted) {
            continue;
        }
        take(&till, &browser, name, place).await?;
        let file = folder.join(format!("{name}.png"));
        // A caret that blinks would make every picture another one.
        browser.run("document.activeElement.style.caretColor = 'transparent'").await?;
        std::fs::write(&file, browser.picture().await?)?;
        println!("{}", file.display());
    }
    browser.close().await?;
    Ok(())
}

/// Opens a view and brings it into the state its picture is to show.
async fn take(till: &Till, browser: &Browser, name: &str, place: &str) -> Result<()> {
    match name {
        // The invoice is found as a clerk finds it.
        "invoice" => {
            browser.go(&till.place("/billing/invoices?state=open&q=Kestrel")).await?;
            browser.press(Key::Enter).await?;
        }
        _ => browser.go(&till.place(place)).await?,
    }
    match name {
        "unbilled" => {
            // Two shipments of one customer, for one invoice.
            browser.letter('/').await?;
            browser.type_text("Saltmarsh").await?;
            browser.press(Key::Enter).await?;
            browser.letter(' ').await?;
            browser.letter('/').await?;
            for _ in 0.."Saltmarsh".len() {
                browser.press(Key::Backspace).await?;
            }
            browser.press(Key::Enter).await?;
            browser.settle().await?;
        }
        "run" => {
            browser.letter('r').await?;
            browser.settle().await?;
            browser.press(Key::Enter).await?;
        }
        "exchange" => {
            browser.press(Key::Enter).await?;
            browser.wait_for("h1", "I-3281").await?;
            browser.letter('e').await?;
            browser.wait_for("h1", "Goods back on I-3281").await?;
            browser.type_text("a suit is wanted more").await?;
            browser.tab_to("Quantity of FR-50 that is back").await?;
            browser.type_text("1").await?;
            browser.tab_to("Where FR-50 goes").await?;
            browser.type_text("Restock").await?;
            browser.tab_to("Item that goes out, or charge").await?;
            browser.type_text("SU-FL").await?;
            browser.wait_for("[role=listbox]", "Suit with veil").await?;
            browser.press(Key::Tab).await?;
            browser.wait_for("#roll", "To pay").await?;
        }
        "new-receipt" => {
            browser.type_text("Harrow").await?;
            browser.press(Key::Enter).await?;
            browser.press(Key::Tab).await?;
            browser.type_text("2000").await?;
            browser.settle().await?;
        }
        "new-order" => {
            for (typed, key) in [
                ("Kestrel", Key::Enter),
                ("KM 1162", Key::Enter),
                ("hb-12", Key::Enter),
                ("40", Key::Enter),
                ("ex-09", Key::Enter),
                ("12", Key::Enter),
                ("feed", Key::Down),
            ] {
                browser.type_text(typed).await?;
                browser.settle().await?;
                browser.press(key).await?;
                browser.settle().await?;
            }
        }
        "order" | "shipment" => browser.press(Key::Enter).await?,
        "return" => {
            browser.press(Key::Enter).await?;
            browser.wait_for("h1", "RA-17").await?;
            browser.letter('i').await?;
            browser.wait_for("main table", "Restock").await?;
            browser.type_text("1").await?;
            browser.press(Key::Tab).await?;
            browser.type_text("1").await?;
            browser.wait_for("#roll", "72000").await?;
        }
        "customer-page" => {
            browser.letter('w').await?;
            browser.press(Key::Enter).await?;
            let link = browser.wait_for("[data-testid=page-link]", "/page#").await?;
            browser.go(link.trim()).await?;
        }
        "bank-statement" => {
            for _ in 0..6 {
                browser.press(Key::Down).await?;
            }
            browser.wait_for("#roll", "Entry when accepted").await?;
        }
        _ => {}
    }
    browser.settle().await
}
