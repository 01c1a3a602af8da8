//! The customer's own page, on a phone and with the keyboard alone, from the clerk's link to the confirmed order.

use till_e2e::{Browser, Key, Result, Till, Who};

/// Goes on with Tab to the button or link whose words begin so.
async fn tab_to(browser: &Browser, words: &str) -> Result<()> {
    for _ in 0..60 {
        let here = browser.run("return document.activeElement.innerText ?? ''").await?;
        if here.as_str().is_some_and(|here| here.starts_with(words)) {
            return Ok(());
        }
        // Where the focus goes is known at once: nothing has to settle.
        browser.type_text("\u{E004}").await?;
    }
    Err(format!("“{words}” is not reached with Tab").into())
}

/// Presses Enter on what leads to another page: there is nothing to settle on this one.
async fn leave(browser: &Browser) -> Result<()> {
    browser.type_text("\u{E007}").await
}

/// Nothing stands beyond the edge, and nothing was refused by the page's policy.
async fn fits(phone: &Browser) -> Result<()> {
    let wide = phone.run("return document.documentElement.scrollWidth - window.innerWidth").await?;
    assert!(wide.as_i64().is_some_and(|wide| wide <= 0), "{wide} too wide");
    // That a request was refused is what was tried.
    let mut console = phone.console().await?;
    console.retain(|line| !line.contains("/accept - Failed to load resource"));
    assert!(console.is_empty(), "{console:?}");
    let faults = phone.accessibility().await?;
    assert!(faults.is_empty(), "{faults:?}");
    Ok(())
}

#[tokio::test]
async fn a_customer_accepts_a_quote_and_pays_its_deposit_on_their_page() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Tomas).await?;
    browser.go(&till.place("/quotes/1")).await?;
    browser.wait_for("h1", "Q-301").await?;
    browser.wait_for("main dl", "a deposit for 30 %").await?;
    browser.letter('w').await?;
    browser.wait_for("[role=dialog]", "accepts it by name").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "The link was emailed to").await?;
    let link = browser.wait_for("[data-testid=page-link]", "/page#").await?;

    let phone = Browser::phone().await?;
    phone.go(link.trim()).await?;
    let page = phone.wait_for("main", "Waiting for you").await?;
    assert!(page.contains("Quote Q-301") && page.contains("Marram Hive Supply"), "{page}");
    assert!(!phone.place().await?.contains('#'), "the link stands in no history");
    fits(&phone).await?;
    tab_to(&phone, "Accept · €").await?;
    phone.press(Key::Enter).await?;
    phone.wait_for_focus("Your name").await?;
    // Without a name it says so, at the field.
    phone.press(Key::Enter).await?;
    phone.wait_for("main", "Type your name").await?;
    phone.type_text("Ann Brook").await?;
    phone.press(Key::Enter).await?;
    phone.wait_for("main", "You have accepted quote Q-301. Thank you.").await?;
    let waits = phone.wait_for("main", "waits for a deposit of €").await?;
    assert!(waits.contains("It is confirmed as soon as that is there"), "{waits}");

    // They have left a card before, and use another: it is typed on the processor's page, and pays as soon as they are back.
    assert!(waits.to_uppercase().contains("CARD ENDING IN"), "{waits}");
    tab_to(&phone, "Another card").await?;
    leave(&phone).await?;
    phone.wait_for("h1", "A card for payments").await?;
    tab_to(&phone, "Keep this card").await?;
    leave(&phone).await?;
    phone.wait_for("h1", "The card is kept").await?;
    tab_to(&phone, "Go back").await?;
    leave(&phone).await?;
    phone.wait_for("main", "was paid with your card. Thank you.").await?;
    let page = phone.text("main").await?;
    assert!(!page.contains("waits for a deposit") && page.contains("Ordered 18 Mar 2026"), "{page}");
    fits(&phone).await?;
    phone.close().await?;

    // In the books: the order is open, the deposit is held for it, and the clerk sees by whom it was accepted.
    browser.go(&till.place("/quotes/1")).await?;
    browser.wait_for("main dl", "Ann Brook on the customer page").await?;
    browser.letter('o').await?;
    browser.wait_for("h1", "O-").await?;
    browser.wait_for("main dl", "Ann Brook on the customer page").await?;
    browser.wait_for("main dl", "open").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

#[tokio::test]
async fn a_customer_pays_an_invoice_and_a_link_that_was_ended_leads_nowhere() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Tomas).await?;
    // Orchard Lane owes two invoices.
    browser.go(&till.place("/customers")).await?;
    browser.control('k').await?;
    browser.type_text("Orchard Lane").await?;
    browser.settle().await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Orchard Lane").await?;
    browser.letter('w').await?;
    browser.wait_for("[role=dialog]", "Whoever has the link sees the page").await?;
    browser.press(Key::Enter).await?;
    let link = browser.wait_for("[data-testid=page-link]", "/page#").await?;
    browser.press(Key::Escape).await?;

    let phone = Browser::phone().await?;
    phone.go(link.trim()).await?;
    phone.wait_for("main", "Balance due").await?;
    let due = |text: &str| text.lines().skip_while(|line| !line.contains("Balance due")).nth(1).map(str::to_owned);
    let before = due(&phone.text("main").await?);
    tab_to(&phone, "Pay by card").await?;
    phone.press(Key::Enter).await?;
    tab_to(&phone, "Pay €").await?;
    leave(&phone).await?;
    phone.wait_for("h1", "A card for payments").await?;
    tab_to(&phone, "Keep this card").await?;
    leave(&phone).await?;
    phone.wait_for("h1", "The card is kept").await?;
    tab_to(&phone, "Go back").await?;
    leave(&phone).await?;
    phone.wait_for("main", "was paid with your card. Thank you.").await?;
    assert_ne!(due(&phone.text("main").await?), before, "less is due");

    browser.wait_for("main", "handed over").await.ok();
    browser.run("document.querySelector('#worktop')?.focus()").await?;
    tab_to(&browser, "End").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "End this link?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "leads nowhere any more").await?;
    browser.close().await?;
    phone.go(link.trim()).await?;
    phone.run("location.reload()").await?;
    phone.wait_for("main", "This link does not work any more. Ask us for a new one.").await?;
    phone.close().await?;
    till.stop_and_verify().await
}
