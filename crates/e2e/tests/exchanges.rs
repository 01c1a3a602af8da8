//! What is done with goods that come back in one step, by keyboard: an exchange to pay, an exchange to credit, a wrong item put
//! right, goods in for repair.

use till_e2e::{Browser, Key, Result, Who, start};

/// Kestrel gives two books back (22.00 each, no tax on them), sellable, and takes a suit for them at 94.00 and 21.62 of tax:
/// 71.62 to pay, an invoice of its own. One document, one entry, tax on each side.
#[tokio::test]
async fn an_exchange_to_pay() -> Result<()> {
    let (till, browser) = start("/billing/invoices?q=I-3291", Who::Tomas).await?;
    browser.wait_for("main", "I-3291").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3291").await?;
    browser.letter('e').await?;
    browser.wait_for("h1", "Goods back on I-3291").await?;
    browser.type_text("suits are wanted more").await?;
    browser.tab_to("Quantity of BK-01 that is back").await?;
    browser.type_text("14").await?;
    browser.wait_for("main", "13 may still come back").await?;
    browser.control('a').await?;
    browser.type_text("2").await?;
    browser.wait_for("footer", "Return and credit · credit €44.00").await?;
    browser.tab_to("Where BK-01 goes").await?;
    browser.type_text("Restock").await?;
    browser.tab_to("Item that goes out, or charge").await?;
    browser.type_text("SU-FL").await?;
    browser.wait_for("[role=listbox]", "Suit with veil").await?;
    browser.press(Key::Tab).await?;
    browser.tab_to("Price of line 1 that goes the other way").await?;
    browser.type_text("94").await?;
    browser.wait_for("footer", "€71.62 to pay").await?;
    let tape = browser.wait_for("#roll", "To pay").await?;
    for part in ["-44.00", "115.62", "21.62", "65000", "11000", "balances"] {
        assert!(tape.replace('−', "-").contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.control('\n').await?;
    browser.yes("Post this exchange?").await?;
    browser.wait_for("[data-testid=notice]", "€71.62 to pay. What came back stands on RA-24").await?;
    let invoice = browser.wait_for("main", "An exchange: what is below zero came back of I-3291").await?;
    assert!(invoice.contains("SU-FL") && invoice.contains("BK-01"), "{invoice}");
    browser.wait_for("header", "balance due €71.62").await?;
    // It is an open invoice like any other.
    browser.wait_for("footer", "Record receipt · €71.62").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Tern Point, which has paid, gives a suit back (94.00 + 21.62) and takes a pair of gloves (19.60 + 4.51): 91.51 are kept for
/// it. A restocking fee goes the same way.
#[tokio::test]
async fn an_exchange_in_the_customers_favor() -> Result<()> {
    let (till, browser) = start("/billing/invoices?q=I-3281", Who::Ines).await?;
    browser.wait_for("main", "I-3281").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3281").await?;
    browser.letter('e').await?;
    browser.wait_for("h1", "Goods back on I-3281").await?;
    browser.tab_to("Quantity of SU-FL that is back").await?;
    browser.type_text("1").await?;
    browser.tab_to("Item that goes out, or charge").await?;
    browser.type_text("GL-LE").await?;
    browser.wait_for("[role=listbox]", "Gloves").await?;
    browser.press(Key::Tab).await?;
    browser.tab_to("Price of line 1 that goes the other way").await?;
    browser.type_text("19.60").await?;
    browser.wait_for("footer", "credit €91.51").await?;
    browser.wait_for("#roll", "kept for the customer").await?;
    // Without its reason nothing leaves the house.
    browser.control('\n').await?;
    browser.wait_for("main", "Say why, in a few words").await?;
    browser.tab_to("Why").await?;
    browser.type_text("too small").await?;
    browser.control('\n').await?;
    browser.yes("Post this exchange?").await?;
    browser.wait_for("[data-testid=notice]", "CM-67 is posted: credit €91.51").await?;
    let memo = browser.wait_for("main", "goes out for it").await?;
    for part in ["received on RA-24", "1 pair", "Tax 23 % of", "91.51"] {
        assert!(memo.contains(part), "“{part}” is not on the credit memo:\n{memo}");
    }
    browser.close().await?;
    till.stop_and_verify().await
}

/// Two trays of the small jars went where the large ones were billed: put right in one step, and the small ones inspected.
#[tokio::test]
async fn a_wrong_item_is_put_right_in_one_step() -> Result<()> {
    let (till, browser) = start("/billing/invoices?q=I-3299", Who::Tomas).await?;
    browser.wait_for("main", "I-3299").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3299").await?;
    browser.letter('i').await?;
    browser.wait_for("h1", "Wrong item, I-3299").await?;
    browser.tab_to("Billed, and did not go").await?;
    browser.type_text("JR-50").await?;
    browser.tab_to("Quantity").await?;
    browser.type_text("2").await?;
    browser.tab_to("Item that really went").await?;
    browser.type_text("JR-50").await?;
    browser.wait_for("main", "JR-50 is what was billed").await?;
    browser.control('a').await?;
    browser.type_text("JR-34").await?;
    browser.wait_for("#roll", "2 × JR-34, was sent").await?;
    browser.wait_for("#roll", "12000").await?;
    browser.control('\n').await?;
    browser.yes("Fix this delivery?").await?;
    browser.wait_for("[data-testid=notice]", "Fixed with RA-24").await?;
    browser.wait_for("main table", "went in place of JR-50").await?;
    browser.letter('i').await?;
    browser.tab_to("Restock: quantity of JR-34").await?;
    browser.type_text("2").await?;
    browser.wait_for("#roll", "2 × JR-34, restocked").await?;
    browser.control('\n').await?;
    browser.yes("Post this inspection?").await?;
    browser.wait_for("header", "done").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// The smoker that is in for repair goes back; what the repair costs is billed to the customer it came from.
#[tokio::test]
async fn a_repair_goes_back_and_is_billed() -> Result<()> {
    let (till, browser) = start("/returns?q=RA-22", Who::Tomas).await?;
    browser.wait_for("main", "RA-22").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main table", "1 in for repair").await?;
    browser.wait_for("header", "repair").await?;
    browser.letter('k').await?;
    browser.wait_for("main table", "Goes back now").await?;
    browser.control('\n').await?;
    browser.yes("Do these goods go back?").await?;
    browser.wait_for("[data-testid=notice]", "Goods of RA-22 are sent back").await?;
    browser.wait_for("main table", "1 repaired").await?;
    browser.wait_for("header", "done").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// What is expected back is entered by a supervisor, and not by a clerk.
#[tokio::test]
async fn expected_returns_are_entered() -> Result<()> {
    let (till, browser) = start("/returns/expected", Who::Ines).await?;
    browser.wait_for("main table", "XR-3").await?;
    // Two frames of RA-17 wait to be credited, at 46.00 each.
    browser.letter('b').await?;
    // February is over and closed; March ends later.
    browser.wait_for("[role=dialog]", "28 Feb 2026 is closed").await?;
    browser.type_text("31 Mar 2026").await?;
    browser.wait_for("[role=dialog]", "RA-17 2 × FR-50").await?;
    browser.wait_for("[role=dialog]", "92.00 EUR will be credited for them").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "AR-1 is entered: 92.00 EUR, reversed on 1 Apr 2026").await?;
    browser.tab_to("Share expected back, %").await?;
    browser.type_text("101").await?;
    browser.wait_for("main", "between 0 and 100 %").await?;
    browser.control('a').await?;
    browser.type_text("1").await?;
    // 49,355.65 were billed and not credited: one in a hundred is 493.56.
    browser.wait_for("#roll", "493.56").await?;
    browser.control('\n').await?;
    browser.yes("Enter this estimate?").await?;
    browser.wait_for("[data-testid=notice]", "XR-4 is entered").await?;
    browser.wait_for("main table", "XR-4").await?;
    browser.wait_for("main", "AR-1").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// No invoice shows two pairs of gloves that Kestrel brings back: 39.20 and 9.02 of tax at the price that is said. A suit goes
/// out for them, 94.00 and 21.62: 67.40 to pay, in one posting, by a supervisor.
#[tokio::test]
async fn an_exchange_that_points_at_no_invoice() -> Result<()> {
    let (till, browser) = start("/returns", Who::Ines).await?;
    browser.wait_for("main", "RA-17").await?;
    browser.letter('e').await?;
    browser.wait_for("h1", "Exchange without an invoice").await?;
    browser.type_text("kestrel").await?;
    browser.wait_for("[role=listbox]", "Kestrel Moor").await?;
    browser.press(Key::Enter).await?;
    browser.tab_to("Why").await?;
    browser.type_text("a suit is wanted").await?;
    browser.tab_to("Item of line 1 without a document").await?;
    browser.type_text("GL-LE").await?;
    browser.wait_for("[role=listbox]", "Gloves").await?;
    browser.press(Key::Tab).await?;
    browser.tab_to("Quantity of line 1 without a document").await?;
    browser.type_text("2").await?;
    browser.tab_to("Price of line 1 without a document").await?;
    browser.type_text("19.60").await?;
    browser.wait_for("footer", "Return and credit · credit €48.22").await?;
    browser.tab_to("Item that goes out, or charge").await?;
    browser.type_text("SU-FL").await?;
    browser.wait_for("[role=listbox]", "Suit with veil").await?;
    browser.press(Key::Tab).await?;
    browser.wait_for("footer", "Post the exchange · €67.40 to pay").await?;
    let tape = browser.wait_for("#roll", "To pay").await?;
    for part in ["-48.22", "115.62", "65000", "12000", "balances"] {
        assert!(tape.replace('−', "-").contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.control('\n').await?;
    browser.yes("Post this exchange?").await?;
    browser.wait_for("[data-testid=notice]", "€67.40 to pay. What came back stands on RA-24").await?;
    browser.wait_for("main", "An exchange: what is below zero came back on RA-24").await?;
    browser.wait_for("header", "balance due €67.40").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Tomas begins a credit of one roof (24.75 and its tax) and is called away; Ines finds the draft above the list, says why, and
/// posts it: then the draft is gone.
#[tokio::test]
async fn a_credit_that_one_begins_and_another_posts() -> Result<()> {
    let (till, browser) = start("/billing/invoices?q=I-3118", Who::Tomas).await?;
    browser.wait_for("main", "I-3118").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3118").await?;
    browser.letter('l').await?;
    browser.wait_for("h1", "Credit I-3118").await?;
    browser.tab_to("Quantity of RF-AL to credit").await?;
    browser.type_text("1").await?;
    browser.wait_for("footer", "Credit €30.44").await?;
    browser.click("h1").await?;
    browser.letter('s').await?;
    browser.wait_for("[data-testid=notice]", "The draft is saved").await?;
    browser.close().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/billing/credit-memos")).await?;
    let drafts = browser.wait_for("main", "Would credit").await?;
    assert!(drafts.contains("not said yet") && drafts.contains("30.44 EUR"), "{drafts}");
    browser.click("[aria-label='Drafts of credit memos'] a").await?;
    browser.wait_for("header", "draft").await?;
    browser.tab_to("Why").await?;
    browser.type_text("dented").await?;
    browser.control('\n').await?;
    browser.yes("Credit €30.44 of I-3118?").await?;
    browser.wait_for("[data-testid=notice]", "CM-67 credits €30.44").await?;
    browser.go(&till.place("/billing/credit-memos")).await?;
    let list = browser.wait_for("main", "CM-67").await?;
    assert!(!list.contains("Would credit"), "the draft ends as it is posted: {list}");
    browser.close().await?;
    till.stop_and_verify().await
}
