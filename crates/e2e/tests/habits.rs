//! What holds on every screen: lists that are ordered and set, dates as they are typed, nothing typed that is lost, a handbook
//! at hand, and windows of any size.

use till_e2e::{Browser, Key, Result, Till, Who, start};

/// Amounts are never cut at 1280 × 800, and no list has to be moved sideways.
const CUT: &str = "const list = document.querySelector('[role=grid]'); if (!list) return '';
    const cut = [...list.querySelectorAll('.row > .right')].filter((cell) => cell.scrollWidth > cell.clientWidth + 1);
    return [list.scrollWidth > list.clientWidth + 1 ? 'it scrolls sideways' : '', ...cut.map((cell) => cell.innerText)]
      .filter(Boolean).join('; ')";

/// Nothing of a page stands beside the window, and no two parts of its bar over each other.
const BESIDE: &str = "const wide = document.documentElement.scrollWidth - innerWidth;
    const parts = [...document.querySelectorAll('footer button, footer .rest, header h1, header .sum')].map((one) => one.getBoundingClientRect());
    const over = parts.some((one, at) => parts.slice(at + 1).some((other) =>
      one.left < other.right - 1 && other.left < one.right - 1 && one.top < other.bottom - 1 && other.top < one.bottom - 1));
    return [wide > 1 ? `${wide} too wide` : '', over ? 'parts lie over each other' : ''].filter(Boolean).join('; ')";

#[tokio::test]
async fn amounts_are_never_cut() -> Result<()> {
    let (till, browser) = start("/", Who::Ines).await?;
    let mut wrong = Vec::new();
    for view in [
        "/orders",
        "/orders/lines",
        "/orders/quotes",
        "/orders/to-finish",
        "/shipments",
        "/billing",
        "/billing/invoices",
        "/billing/credit-memos",
        "/billing/runs",
        "/billing/going-out",
        "/prepayments",
        "/prepayments/invoices",
        "/prepayments/cards",
        "/prepayments/payouts",
        "/returns",
        "/returns/waiting",
        "/returns/claims",
        "/receipts",
        "/bank",
        "/bank-slips",
        "/disputes",
        "/customers",
        "/items",
        "/ledger",
        "/ledger/trial-balance",
        "/ledger/open-items",
    ] {
        browser.go(&till.place(view)).await?;
        browser.settle().await?;
        let cut = browser.run(CUT).await?;
        if cut != "" {
            wrong.push(format!("{view}: {cut}"));
        }
    }
    assert_eq!(wrong, Vec::<String>::new());
    browser.close().await
}

/// A small window, and 1280 × 800 at 200 %: nothing overlaps, nothing is out of reach (WCAG 1.4.4, 1.4.10).
#[tokio::test]
async fn windows_of_any_size_hold_the_work() -> Result<()> {
    let till = Till::demo().await?;
    let mut wrong = Vec::new();
    for (width, height) in [(1920, 1080), (1024, 700), (640, 400)] {
        let browser = Browser::sized(width, height).await?;
        browser.sign_in(&till, Who::Ines).await?;
        for view in
            ["/", "/billing", "/billing/invoices", "/orders/1", "/invoices/2", "/receipts/new?customer=3", "/setup"]
        {
            browser.go(&till.place(view)).await?;
            browser.settle().await?;
            let beside = browser.run(BESIDE).await?;
            if beside != "" {
                wrong.push(format!("{view} at {width} × {height}: {beside}"));
            }
        }
        if width < 1200 {
            // The tape is hidden there until it is wanted.
            browser.go(&till.place("/billing")).await?;
            browser.click("button.fold").await?;
            browser.wait_for("#roll", "Entry when posted").await?;
        }
        browser.close().await?;
    }
    assert_eq!(wrong, Vec::<String>::new());
    Ok(())
}

/// A list is ordered by its heads, selected by its boxes, and keeps the columns one chose. The address says the order.
#[tokio::test]
async fn a_list_is_ordered_and_set() -> Result<()> {
    let (till, browser) = start("/receipts?state=unapplied", Who::Ines).await?;
    browser.wait_for("[role=grid]", "C-664").await?;
    browser.run("[...document.querySelectorAll('[role=columnheader] button')].find((one) => one.innerText === 'Unapplied').click()").await?;
    browser.wait_for_place("/receipts?state=unapplied&sort=unapplied").await?;
    let first = "return document.querySelector('[data-row] > div:nth-child(2)').innerText";
    // The smallest first: C-663 holds 40.00, C-664 holds 250.00.
    assert_eq!(browser.run(first).await?, "C-663");
    browser.go(&till.place("/receipts?state=unapplied&sort=-unapplied")).await?;
    browser.wait_for("[role=grid]", "C-664").await?;
    assert_eq!(browser.run(first).await?, "C-664");
    browser.click("[aria-label='All rows']").await?;
    let selected = browser.wait_for("[data-testid=picked]", "2 receipts selected").await?;
    assert!(selected.contains("290.00"), "{selected}");
    browser.wait_for("[role=grid] .foot", "2 rows selected").await?;
    browser
        .run("[...document.querySelectorAll('.foot button')].find((one) => one.innerText === 'Columns').click()")
        .await?;
    browser.wait_for("[role=menu]", "Reference").await?;
    browser
        .run("[...document.querySelectorAll('[role=menuitem]')].find((one) => one.innerText === 'Reference').click()")
        .await?;
    browser.press(Key::Escape).await?;
    browser.go(&till.place("/receipts")).await?;
    browser.wait_for("[role=grid]", "Customer").await?;
    let heads = browser.text("[role=grid] .head").await?;
    assert!(heads.contains("Method") && !heads.contains("Reference"), "{heads}");
    browser.close().await
}

/// What is typed into a receipt outlives a reload, another screen and Back; once it is posted it is forgotten.
#[tokio::test]
async fn a_receipt_half_typed_is_there_again() -> Result<()> {
    let (till, browser) = start("/receipts/new?customer=4", Who::Ines).await?;
    browser.wait_for_focus("Amount").await?;
    browser.type_text("17.50").await?;
    browser.press(Key::Tab).await?;
    // A day as people type it: yesterday.
    browser.wait_for_focus("Date").await?;
    browser.type_text("-1").await?;
    browser.press(Key::Tab).await?;
    browser.wait_for("#roll", "17.50").await?;
    browser.go(&till.place("/receipts/new?customer=4")).await?;
    let typed = "return [...document.querySelectorAll('main input')].map((one) => one.value).join('|')";
    browser.wait_for("#roll", "17.50").await?;
    let said = browser.run(typed).await?;
    assert!(said.as_str().is_some_and(|said| said.contains("17.50") && said.contains("17 Mar 2026")), "{said}");
    // Another customer's receipt is another one.
    browser.go(&till.place("/receipts/new?customer=3")).await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.settle().await?;
    let other = browser.run(typed).await?;
    assert!(other.as_str().is_some_and(|said| !said.contains("17.50")), "{other}");
    browser.run("history.back()").await?;
    browser.wait_for("#roll", "17.50").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€17.50").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    browser.go(&till.place("/receipts/new?customer=4")).await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.settle().await?;
    let after = browser.run(typed).await?;
    assert!(after.as_str().is_some_and(|said| !said.contains("17.50")), "{after}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// The handbook opens from any screen, and leads to the screens it is about.
#[tokio::test]
async fn the_handbook_is_one_key_away() -> Result<()> {
    let (till, browser) = start("/billing", Who::Tomas).await?;
    browser.wait_for("[role=grid]", "Kestrel Moor").await?;
    browser
        .run(
            "document.body.dispatchEvent(new KeyboardEvent('keydown', { key: 'F1', bubbles: true, cancelable: true }))",
        )
        .await?;
    browser.wait_for("h1", "Handbook").await?;
    browser.wait_for("main article", "customer PO missing").await?;
    assert_eq!(browser.accessibility().await?, Vec::<String>::new());
    browser
        .run("[...document.querySelectorAll('main article a')].find((one) => one.innerText === 'Outbox').click()")
        .await?;
    browser.wait_for("h1", "Outbox").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// A draft one leaves behind stands on one's own day sheet, and is gone from there once it is deleted.
#[tokio::test]
async fn a_draft_left_behind_is_on_the_day_sheet() -> Result<()> {
    let (till, browser) = start("/billing?q=Gannet", Who::Tomas).await?;
    browser.wait_for("[role=grid]", "S-4481").await?;
    browser.press(Key::Down).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Gannet Row").await?;
    browser.press(Key::Escape).await?;
    browser.go(&till.place("/")).await?;
    browser.wait_for("[role=grid]", "Blocked").await?;
    // Only the rows in sight are drawn: down to it.
    let mut found = false;
    for _ in 0..60 {
        browser.press(Key::Down).await?;
        if browser.text("#roll").await?.contains("draft of S-4481") {
            found = true;
            break;
        }
    }
    assert!(found, "the draft is not on the day sheet");
    browser.wait_for("[role=grid]", "Drafts you left").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Gannet Row").await?;
    // A day that is none is said at its field, and nothing is posted on another.
    let post = "return [...document.querySelectorAll('footer button')].find((one) => one.innerText.startsWith('Post')).disabled";
    browser.run("document.querySelector('[data-date]').focus()").await?;
    browser.type_text("31 Feb").await?;
    browser.press(Key::Tab).await?;
    browser.wait_for("main", "31 Feb is not a date").await?;
    browser.wait_for("footer", "not saved yet").await?;
    assert_eq!(browser.run(post).await?, true);
    browser.run("document.querySelector('[data-date]').focus()").await?;
    browser.control('a').await?;
    browser.type_text("18/3").await?;
    browser.press(Key::Tab).await?;
    browser.wait_for("footer", "all changes saved").await?;
    assert_eq!(browser.run(post).await?, false);
    browser.run("document.activeElement.blur()").await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Delete the draft").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "unbilled again").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
