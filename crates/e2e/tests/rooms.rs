//! More of the clerk's paths: drafts, money lying still, two people at once, lists.

use till_e2e::{Browser, Key, Result, Till, Who};

async fn open(place: &str) -> Result<(Till, Browser)> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place(place)).await?;
    Ok((till, browser))
}

async fn done(till: Till, browser: Browser) -> Result<()> {
    let log = browser.console().await?;
    assert!(log.iter().all(|line| line.contains("409") || line.contains("422")), "{log:?}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// Money that lies unapplied is applied from its receipt, oldest invoice first.
#[tokio::test]
async fn unapplied_money_is_applied_from_the_day_sheet() -> Result<()> {
    let (till, browser) = open("/").await?;
    browser.wait_for("[role=grid]", "Quillback Orchards").await?;
    // Below what waits for a word, and below a deposit that is left hanging on an order that is done.
    let mut hanging = false;
    for _ in 0..10 {
        let roll = browser.text("#roll").await?;
        hanging |= roll.contains("D-42");
        if roll.contains("unapplied money") && roll.contains("Quillback") {
            break;
        }
        browser.press(Key::Down).await?;
    }
    assert!(hanging, "the deposit is not among what lies still");
    browser.wait_for("#roll", "unapplied money").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "C-").await?;
    browser.wait_for("footer", "Apply €40.00").await?;
    browser.wait_for("#roll", "27000 Unapplied").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "€40.00 to I-").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is applied").await?;
    browser.wait_for("main dl", "● none").await?;
    browser.wait_for("[data-testid=trail]", "partly paid").await?;
    done(till, browser).await
}

/// A line is added to a draft, left out again, and the draft dropped: all of it is unbilled again.
#[tokio::test]
async fn a_draft_is_changed_and_dropped() -> Result<()> {
    let (till, browser) = open("/billing/invoices?state=draft&q=Orchard").await?;
    browser.wait_for("[role=grid]", "537.51").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Orchard Lane").await?;
    browser.wait_for("main", "More of this customer").await?;
    browser
        .run("[...document.querySelectorAll('main button')].find((b) => b.innerText === 'Add to the draft').click()")
        .await?;
    browser.wait_for("#roll", "50 × 21.40").await?;
    browser.wait_for("footer", "all changes saved").await?;
    browser.click("button[aria-label='Leave HB-SU out']").await?;
    browser.wait_for("header", "€537.51").await?;
    browser.run("document.activeElement.blur()").await?;
    // Nothing is deleted without a question.
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Delete the draft for Orchard Lane Apiaries?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "unbilled again").await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.letter('/').await?;
    browser.type_text("Orchard").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=grid]", "2,300.75").await?;
    done(till, browser).await
}

/// Next and previous document need no way back to the list.
#[tokio::test]
async fn documents_are_walked_through() -> Result<()> {
    let (till, browser) = open("/billing/invoices?state=open").await?;
    browser.wait_for("[role=grid]", "I-").await?;
    browser.press(Key::Enter).await?;
    let first = browser.wait_for("h1", "I-").await?;
    browser.letter('.').await?;
    browser.settle().await?;
    let second = browser.text("h1").await?;
    assert_ne!(first, second);
    browser.letter(',').await?;
    browser.wait_for("h1", &first).await?;
    browser.press(Key::Escape).await?;
    browser.wait_for("h1", "Invoices").await?;
    done(till, browser).await
}

/// A packed shipment is posted and can be billed from then on.
#[tokio::test]
async fn a_packed_shipment_is_posted() -> Result<()> {
    let (till, browser) = open("/shipments?state=packed").await?;
    browser.wait_for("[role=grid]", "packed").await?;
    browser.press(Key::Enter).await?;
    let number = browser.wait_for("h1", "S-").await?;
    browser.wait_for("#roll", "71000 Cost of goods sold").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "leaves stock").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "It can be billed now").await?;
    browser.letter('b').await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.wait_for("[role=grid]", &number).await?;
    done(till, browser).await
}

/// What is picked in a list adds up on the tape.
#[tokio::test]
async fn picks_add_up() -> Result<()> {
    let (till, browser) = open("/receipts?q=Quillback&state=unapplied").await?;
    browser.wait_for("[role=grid]", "40.00").await?;
    browser.letter(' ').await?;
    let tape = browser.wait_for("[data-testid=picked]", "1 receipt selected").await?;
    assert!(tape.contains("Unapplied EUR") && tape.contains("40.00"), "{tape}");
    done(till, browser).await
}

/// Whoever comes by keyboard is at the work of a room with one key, past the rooms; the tab is named as the room is.
#[tokio::test]
async fn the_work_is_one_key_away() -> Result<()> {
    let (till, browser) = open("/orders").await?;
    browser.wait_for("main", "O-").await?;
    browser.run("document.activeElement.blur(); document.querySelector('a[href=\"#worktop\"]').focus()").await?;
    let shown = browser.run("return document.activeElement.getBoundingClientRect().top >= 0").await?;
    assert_eq!(shown, true, "it is seen where the keyboard comes to it");
    browser.press(Key::Enter).await?;
    let at = browser.run("return document.activeElement.textContent + ' in ' + document.title").await?;
    assert_eq!(at, "Orders in Orders · Glad Till");
    done(till, browser).await
}
