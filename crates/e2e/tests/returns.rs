//! Goods that come back, by keyboard: found in all that was billed, inspected with three dispositions, credited on the open
//! invoice; above the limit; replaced; a step taken back.

use till_e2e::{Browser, Key, Result, Who, start};

/// Authorizes what comes back of an item that was billed to Kestrel on I-3291, found by its name.
async fn authorize(browser: &Browser, item: &str, quantity: &str) -> Result<()> {
    browser.letter('n').await?;
    browser.wait_for("h1", "Authorize a return").await?;
    browser.type_text("Kestrel").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "lines").await?;
    browser.tab_to("Find what was sold").await?;
    browser.type_text(item).await?;
    browser.wait_for("main table", "I-3291").await?;
    browser.tab_to(&format!("Quantity of {item} of I-3291 that comes back")).await?;
    browser.type_text(quantity).await?;
    // A reason is asked for at the line, before anything is authorized.
    browser.wait_for("main table", "Say why").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("Damaged").await?;
    browser.wait_for("#roll", "may arrive until 17 May 2026").await?;
    browser.control('\n').await?;
    browser.yes("Authorize this return?").await?;
    browser.wait_for("[data-testid=notice]", "RA-24 is authorized").await?;
    browser.wait_for("h1", "RA-24").await?;
    Ok(())
}

/// Kestrel returns four of thirteen books (22.00 each, no tax on them): two restocked, one scrapped, one to the supplier, who
/// is to credit 10.00. 88.00 go off what is open of I-3291.
#[tokio::test]
async fn a_return_is_found_inspected_and_credited() -> Result<()> {
    let (till, browser) = start("/returns", Who::Tomas).await?;
    browser.wait_for("main", "RA-17").await?;
    authorize(&browser, "BK-01", "4").await?;
    // What is here is what was expected, unless another quantity is typed.
    browser.letter('g').await?;
    browser.wait_for("#roll", "4 × BK-01, at cost").await?;
    browser.wait_for("#roll", "12000").await?;
    browser.tab_to("Quantity of BK-01 that arrived").await?;
    browser.control('a').await?;
    browser.type_text("14").await?;
    browser.wait_for("main table", "13 pc of BK-01 can come back at most").await?;
    browser.control('a').await?;
    browser.type_text("4").await?;
    browser.wait_for("#roll", "4 × BK-01, at cost").await?;
    browser.control('\n').await?;
    browser.yes("Are these goods here?").await?;
    browser.wait_for("main table", "4 pc").await?;
    browser.wait_for("header", "inspect").await?;
    browser.letter('i').await?;
    browser.tab_to("Restock: quantity of BK-01").await?;
    browser.type_text("2").await?;
    browser.tab_to("Scrap: quantity of BK-01").await?;
    browser.type_text("1").await?;
    browser.tab_to("Back to the supplier: quantity of BK-01").await?;
    browser.type_text("2").await?;
    browser.wait_for("main table", "wait for inspection").await?;
    browser.press(Key::Backspace).await?;
    browser.type_text("1").await?;
    browser.tab_to("Claim on the supplier for BK-01").await?;
    browser.type_text("10").await?;
    // The whole claim, not its first figure only: until then the main action waits.
    let tape = browser.wait_for("#roll", "10.00").await?;
    for part in ["14000", "11000", "72000", "12000", "claim on the supplier", "balances"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.control('\n').await?;
    browser.yes("Post this inspection?").await?;
    browser.wait_for("header", "credit or replace").await?;
    // Credited on the invoice it was billed on, which is open: nothing has to be typed.
    browser.letter('l').await?;
    browser.wait_for("h1", "Credit I-3291").await?;
    browser.wait_for("main table", "4 pc received, to be credited").await?;
    browser.wait_for("#roll", "off what is open of I-3291").await?;
    browser.wait_for("footer", "Credit €88.00").await?;
    browser.control('\n').await?;
    browser.yes("Credit €88.00 of I-3291?").await?;
    browser.wait_for("[data-testid=notice]", "CM-67 credits €88.00 of I-3291").await?;
    browser.wait_for("main table", "received on RA-24").await?;
    browser.wait_for("#roll", "RA-24 settled").await?;
    browser.letter('o').await?;
    browser.wait_for("h1", "I-3291").await?;
    browser.wait_for("main", "balance due €1,119.48").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Above Tomas' limit the credit waits for Ines; nothing is credited before she says so. A replacement settles a return without
/// one, and is taken back as entered in error.
#[tokio::test]
async fn a_credit_above_the_limit_waits_and_a_replacement_needs_none() -> Result<()> {
    let (till, browser) = start("/returns", Who::Tomas).await?;
    browser.wait_for("main", "RA-17").await?;
    authorize(&browser, "BK-01", "12").await?;
    browser.letter('g').await?;
    browser.wait_for("#roll", "12 × BK-01, at cost").await?;
    browser.control('\n').await?;
    browser.yes("Are these goods here?").await?;
    browser.wait_for("header", "inspect").await?;
    browser.letter('l').await?;
    browser.wait_for("footer", "Credit €264.00").await?;
    browser.control('\n').await?;
    browser.yes("Credit €264.00 of I-3291?").await?;
    browser.wait_for("[data-testid=notice]", "waits for a supervisor").await?;
    browser.close().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/")).await?;
    browser.wait_for("main", "requested by Tomas Reed").await?;
    browser.go(&till.place("/returns?q=RA-24")).await?;
    browser.wait_for("main", "RA-24").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main table", "12 pc").await?;
    // Half a dozen are replaced instead: what was asked for is another credit then.
    browser.letter('t').await?;
    browser.wait_for("[role=dialog]", "Send a replacement for RA-24?").await?;
    browser.control('a').await?;
    browser.type_text("6").await?;
    browser.wait_for("[role=dialog]", "71000").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "A replacement for RA-24 leaves stock").await?;
    browser.wait_for("main table", "6 replaced").await?;
    browser.letter('u').await?;
    browser.wait_for("[role=dialog]", "Reverse a step of RA-24?").await?;
    browser.wait_for("[role=dialog]", "Step of RA-24 reversed").await?;
    browser.type_text("it never left").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "reversed 18 Mar 2026: it never left").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Two trays of S-4473 came back before they were billed: nothing is to be credited, the order has two to ship again. A book that
/// no document shows comes back at 20.00, as Ines lets, and is credited by a credit memo of its own.
#[tokio::test]
async fn what_was_not_billed_comes_back_to_its_order_and_what_no_document_shows_is_credited_alone() -> Result<()> {
    let (till, browser) = start("/returns?q=RA-23", Who::Ines).await?;
    browser.wait_for("main", "RA-23").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main table", "not billed").await?;
    browser.letter('g').await?;
    browser.wait_for("#roll", "2 × JR-50, at cost").await?;
    browser.wait_for("#roll", "2 tray to ship again").await?;
    browser.control('\n').await?;
    browser.yes("Are these goods here?").await?;
    browser.wait_for("main table", "2 back on its order").await?;
    browser.letter('i').await?;
    browser.wait_for("#roll", "11000").await?;
    browser.control('\n').await?;
    browser.yes("Post this inspection?").await?;
    browser.wait_for("header", "done").await?;
    browser.go(&till.place("/billing?q=S-4473")).await?;
    browser.wait_for("main", "11").await?;
    browser.go(&till.place("/returns")).await?;
    browser.wait_for("main", "RA-17").await?;
    browser.letter('n').await?;
    browser.wait_for("h1", "Authorize a return").await?;
    browser.type_text("Kestrel").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "lines").await?;
    browser.press(Key::Escape).await?;
    browser.letter('o').await?;
    browser.type_text("BK-01").await?;
    browser.press(Key::Tab).await?;
    browser.tab_to("Quantity of line 1 without a document").await?;
    browser.type_text("1").await?;
    browser.tab_to("Price of line 1 without a document").await?;
    browser.type_text("20").await?;
    browser.tab_to("Why line 1 without a document comes back").await?;
    browser.type_text("Not needed").await?;
    browser.wait_for("#roll", "No document shows that BK-01 was sold").await?;
    browser.wait_for("#roll", "1 × BK-01, no document").await?;
    browser.control('\n').await?;
    browser.yes("Authorize this return?").await?;
    browser.wait_for("h1", "RA-24").await?;
    browser.wait_for("main table", "no document").await?;
    browser.letter('g').await?;
    browser.wait_for("#roll", "as the newest goods in stock").await?;
    browser.control('\n').await?;
    browser.yes("Are these goods here?").await?;
    browser.wait_for("header", "inspect").await?;
    browser.letter('l').await?;
    browser.wait_for("h1", "New credit memo").await?;
    browser.wait_for("main table", "received on RA-24").await?;
    browser.tab_to("Why").await?;
    browser.type_text("no receipt").await?;
    browser.wait_for("footer", "Credit €20.00").await?;
    browser.control('\n').await?;
    browser.yes("Credit €20.00 to Kestrel Moor Bee Supplies?").await?;
    browser.wait_for("main table", "1 credited").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
