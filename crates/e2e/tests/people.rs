//! People at the till: signing in, asking and approving, two on one draft, set-up; by keyboard.

use till_e2e::{Browser, Key, Result, Till, Who};

async fn seat(till: &Till, who: Who) -> Result<Browser> {
    let browser = Browser::open().await?;
    browser.sign_in(till, who).await?;
    Ok(browser)
}

async fn quiet(browser: Browser) -> Result<()> {
    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await
}

/// Opens the customer's draft from the list.
async fn draft_of(browser: &Browser, till: &Till, customer: &str) -> Result<()> {
    browser.go(&till.place(&format!("/billing/invoices?state=draft&q={customer}"))).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for").await?;
    Ok(())
}

#[tokio::test]
async fn the_door_says_what_is_wrong_and_opens_with_the_right_words() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.go(&till.place("/ledger/trial-balance")).await?;
    browser.wait_for(".company", "Marram Hive Supply").await?;
    browser.type_text("ines").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("not the right words").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("form", "Name and password do not go together").await?;
    // The wrong answer is the console's only line: Chromium notes each 401 there.
    assert_eq!(browser.console().await?.len(), 1);
    browser.control('a').await?;
    browser.type_text("heather honey in june").await?;
    browser.press(Key::Enter).await?;
    // In at once, where one wanted to go.
    browser.wait_for("h1", "Trial balance").await?;
    browser.wait_for("nav", "Ines Calder, supervisor").await?;
    quiet(browser).await
}

#[tokio::test]
async fn a_price_above_the_limit_is_asked_for_approved_and_posted() -> Result<()> {
    let till = Till::demo().await?;
    let (clerk, lead) = (seat(&till, Who::Tomas).await?, seat(&till, Who::Ines).await?);
    // Tomas changes the price on a new draft: within his limit at once, above it by asking.
    clerk.go(&till.place("/billing?q=Saltmarsh")).await?;
    clerk.letter(' ').await?;
    clerk.press(Key::Enter).await?;
    clerk.wait_for("h1", "Draft for Saltmarsh").await?;
    clerk.click("button[aria-label^='Price of']").await?;
    clerk.wait_for_focus("For one").await?;
    clerk.control('a').await?;
    clerk.type_text("30.00").await?;
    clerk.press(Key::Enter).await?;
    clerk.wait_for("[role=dialog]", "Say why").await?;
    clerk.press(Key::Tab).await?;
    clerk.type_text("dropped on the way").await?;
    clerk.press(Key::Tab).await?;
    clerk.press(Key::Enter).await?;
    clerk.wait_for("[data-testid=notice]", "waits for a supervisor").await?;
    clerk.wait_for("main", "pending approval").await?;
    let draft = clerk.place().await?;

    // Ines sees it on her day sheet, opens it and approves it.
    lead.go(&till.place("/")).await?;
    lead.wait_for("[role=grid]", "Needs your approval").await?;
    lead.go(&till.place(&draft)).await?;
    lead.click("a[href^='/approvals/']").await?;
    lead.wait_for("main", "dropped on the way").await?;
    lead.letter('p').await?;
    lead.press(Key::Enter).await?;
    lead.wait_for("main", "approved").await?;

    // What it came to, on the clerk's screen; the record names both.
    clerk.go(&till.place(&draft)).await?;
    clerk.wait_for("table[aria-label='Lines of the draft']", "32.50 on the order").await?;
    clerk.wait_for("#roll", "price changed, 32.50 on the order: dropped on the way").await?;
    clerk.wait_for("#roll", "Ines Calder, asked by Tomas Reed").await?;
    clerk.run("document.activeElement.blur()").await?;
    clerk.letter('p').await?;
    clerk.wait_for("[role=dialog]", "Post this invoice?").await?;
    clerk.press(Key::Enter).await?;
    clerk.wait_for("[data-testid=notice]", "posted").await?;
    assert!(clerk.console().await?.iter().all(|line| line.contains("422")), "the price without a reason alone");
    clerk.close().await?;
    quiet(lead).await?;
    till.stop_and_verify().await
}

#[tokio::test]
async fn two_on_one_draft_see_each_other_and_lose_nothing() -> Result<()> {
    let till = Till::demo().await?;
    let (tomas, ines) = (seat(&till, Who::Tomas).await?, seat(&till, Who::Ines).await?);
    draft_of(&tomas, &till, "Orchard").await?;
    let place = tomas.place().await?;
    // The list says who has it open.
    ines.go(&till.place("/billing/invoices?state=draft")).await?;
    ines.wait_for("[role=grid]", "▲ TR").await?;
    ines.go(&till.place(&place)).await?;
    ines.wait_for("header", "open at Tomas Reed").await?;
    // Ines lowers the quantity; Tomas, who does not know, sets a date.
    ines.wait_for_focus("Quantity of").await?;
    ines.control('a').await?;
    ines.type_text("8").await?;
    ines.press(Key::Enter).await?;
    ines.wait_for("#roll", "8 × 46.00").await?;
    tomas.run("document.querySelector('[data-date]').focus()").await?;
    tomas.type_text("17/3").await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("[role=dialog]", "Ines Calder changed this draft too").await?;
    let said = tomas.text("[role=dialog]").await?;
    assert!(said.contains("10 → 8") && said.contains("both can stand"), "{said}");
    tomas.press(Key::Enter).await?;
    tomas.wait_for("#roll", "8 × 46.00").await?;
    tomas.wait_for("#roll", "from 17 Mar 2026").await?;
    // Both change the same quantity: it is said, and theirs can be taken.
    ines.go(&till.place(&place)).await?;
    ines.wait_for_focus("Quantity of").await?;
    ines.control('a').await?;
    ines.type_text("6").await?;
    ines.press(Key::Enter).await?;
    ines.wait_for("#roll", "6 × 46.00").await?;
    tomas.click("[data-quantity] input").await?;
    tomas.control('a').await?;
    tomas.type_text("3").await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("[role=dialog]", "theirs 6, yours 3").await?;
    tomas.press(Key::Escape).await?;
    tomas.wait_for("#roll", "6 × 46.00").await?;
    assert!(tomas.console().await?.iter().all(|line| line.contains("409")), "the refused saves alone");
    tomas.close().await?;
    quiet(ines).await?;
    till.stop_and_verify().await
}

/// Who posts what somebody changed meanwhile posts nothing, sees what changed, and posts it as it is then.
#[tokio::test]
async fn a_draft_that_changed_while_it_was_looked_at_shows_what_and_is_posted_then() -> Result<()> {
    let till = Till::demo().await?;
    let (tomas, ines) = (seat(&till, Who::Tomas).await?, seat(&till, Who::Ines).await?);
    tomas.go(&till.place("/billing?q=S-4476")).await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("h1", "Draft for").await?;
    tomas.wait_for_focus("Quantity of").await?;
    let place = tomas.place().await?;
    tomas.run("document.activeElement.blur()").await?;
    tomas.letter('p').await?;
    tomas.wait_for("[role=dialog]", "Post this invoice?").await?;
    ines.go(&till.place(&place)).await?;
    ines.wait_for_focus("Quantity of").await?;
    ines.control('a').await?;
    ines.type_text("8").await?;
    ines.press(Key::Enter).await?;
    ines.wait_for("#roll", "8 × 32.50").await?;
    tomas.press(Key::Enter).await?;
    let told = tomas.wait_for("[role=dialog]", "is not what you looked at").await?;
    for part in ["Nothing was posted", "Ines Calder changed a draft", "→ 8", "Net:"] {
        assert!(told.contains(part), "“{part}” is not told:\n{told}");
    }
    tomas.press(Key::Enter).await?;
    tomas.wait_for("#roll", "8 × 32.50").await?;
    tomas.run("document.activeElement.blur()").await?;
    tomas.letter('p').await?;
    tomas.wait_for("[role=dialog]", "Post this invoice?").await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("[data-testid=notice]", "posted").await?;
    tomas.close().await?;
    quiet(ines).await?;
    till.stop_and_verify().await
}

#[tokio::test]
async fn names_are_text_whatever_stands_in_them() -> Result<()> {
    let till = Till::demo().await?;
    let sanna = seat(&till, Who::Sanna).await?;
    let nasty = "<img src=x onerror=document.title='gone'>";
    sanna.go(&till.place("/setup/people")).await?;
    sanna.letter('n').await?;
    sanna.wait_for_focus("Name").await?;
    sanna.type_text(nasty).await?;
    sanna.press(Key::Tab).await?;
    sanna.type_text("nasty").await?;
    sanna.press(Key::Tab).await?;
    sanna.press(Key::Tab).await?;
    sanna.type_text("begin with this one").await?;
    sanna.press(Key::Enter).await?;
    sanna.wait_for("[data-testid=notice]", "can sign in now").await?;
    sanna.wait_for("[role=grid]", nasty).await?;
    sanna.go(&till.place("/setup/record")).await?;
    sanna.wait_for("[role=grid]", nasty).await?;
    sanna.go(&till.place("/setup")).await?;
    sanna.letter('c').await?;
    sanna.wait_for_focus("Company").await?;
    sanna.control('a').await?;
    sanna.type_text(nasty).await?;
    sanna.press(Key::Enter).await?;
    sanna.wait_for("[data-testid=notice]", "saved").await?;
    sanna.wait_for("main", nasty).await?;
    till.stop_customer(3, nasty).await?;
    sanna.go(&till.place("/customers/3")).await?;
    sanna.wait_for("main", nasty).await?;
    for place in ["/setup/people", "/setup/record", "/customers/3", "/", "/setup"] {
        sanna.go(&till.place(place)).await?;
        let images = sanna.run("return document.querySelectorAll('img').length").await?;
        assert_eq!(images, 0, "{place}");
        // The room is named, and what its name says is only said.
        let title = sanna.run("return document.title").await?;
        assert!(title.as_str().is_some_and(|title| title.ends_with(" · Glad Till")), "{place}: {title}");
    }
    quiet(sanna).await?;
    till.stop_and_verify().await
}

#[tokio::test]
async fn a_session_that_ends_in_the_middle_keeps_what_was_typed() -> Result<()> {
    let till = Till::demo().await?;
    let tomas = seat(&till, Who::Tomas).await?;
    tomas.go(&till.place("/receipts/new?customer=3")).await?;
    tomas.wait_for_focus("Amount").await?;
    tomas.type_text("123.45").await?;
    tomas.settle().await?;
    // The session ends elsewhere: idle too long, or ended by an administrator.
    till.end_sessions().await?;
    tomas.press(Key::Tab).await?;
    tomas.control('\n').await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("body", "Your session has ended").await?;
    tomas.wait_for_focus("Password").await?;
    tomas.type_text("lime blossom in july").await?;
    tomas.press(Key::Enter).await?;
    tomas.wait_for("main", "123.45").await?;
    let typed =
        tomas.run("return [...document.querySelectorAll('input')].map((field) => field.value).join(' ')").await?;
    assert!(typed.as_str().is_some_and(|typed| typed.contains("123.45")), "{typed}");
    tomas.close().await?;
    till.stop_and_verify().await
}

#[tokio::test]
async fn the_auditor_reads_and_is_offered_nothing_to_change() -> Result<()> {
    let till = Till::demo().await?;
    let otto = seat(&till, Who::Otto).await?;
    for place in [
        "/",
        "/billing",
        "/billing/invoices?state=draft",
        "/receipts",
        "/customers/3",
        "/setup/periods",
        "/setup/people",
    ] {
        otto.go(&till.place(place)).await?;
        let bar = otto.text("footer").await?;
        for word in ["Post", "New receipt", "Receive", "stop", "Close", "New person", "draft x"] {
            assert!(!bar.contains(word), "{place} offers {word}: {bar}");
        }
    }
    draft_of(&otto, &till, "Orchard").await?;
    let bar = otto.text("footer").await?;
    assert!(!bar.contains("Post") && !bar.contains("Delete"), "{bar}");
    assert_eq!(otto.run("return document.querySelector('[data-quantity] input').disabled").await?, true);
    quiet(otto).await
}

#[tokio::test]
async fn a_lead_closes_march_and_an_administrator_moves_a_number() -> Result<()> {
    let till = Till::demo().await?;
    let ines = seat(&till, Who::Ines).await?;
    ines.go(&till.place("/setup/periods")).await?;
    ines.wait_for("[role=grid]", "March 2026").await?;
    for _ in 0..6 {
        ines.press(Key::Down).await?;
    }
    ines.wait_for("footer", "Close March 2026").await?;
    ines.press(Key::Enter).await?;
    ines.wait_for("[role=dialog]", "Nothing can be posted from 1 Mar 2026 to 31 Mar 2026").await?;
    ines.press(Key::Enter).await?;
    ines.wait_for("[data-testid=notice]", "March 2026 is closed").await?;
    // What that stops is said where it is stopped, with whom to ask.
    ines.go(&till.place("/billing?q=Saltmarsh")).await?;
    ines.letter(' ').await?;
    ines.wait_for("#roll", "1 Mar 2026 to 31 Mar 2026 is closed").await?;

    let sanna = seat(&till, Who::Sanna).await?;
    sanna.go(&till.place("/setup/numbers")).await?;
    for _ in 0..20 {
        if sanna.text("footer").await?.contains("Move I-") {
            break;
        }
        sanna.press(Key::Down).await?;
    }
    sanna.wait_for("footer", "Move I-").await?;
    sanna.press(Key::Enter).await?;
    sanna.wait_for_focus("Next number").await?;
    sanna.control('a').await?;
    sanna.type_text("1").await?;
    sanna.press(Key::Enter).await?;
    sanna.wait_for("[role=dialog]", "Numbers never go back").await?;
    sanna.control('a').await?;
    sanna.type_text("9001").await?;
    sanna.press(Key::Tab).await?;
    sanna.press(Key::Tab).await?;
    sanna.type_text("a new book of forms").await?;
    sanna.press(Key::Tab).await?;
    sanna.press(Key::Enter).await?;
    sanna.wait_for("[role=grid]", "I-9001").await?;
    sanna.wait_for("#roll", "Sanna Lind: a new book of forms").await?;
    quiet(ines).await?;
    sanna.close().await?;
    till.stop_and_verify().await
}
