//! The clerk's paths through the real interface, by keyboard only.

use till_e2e::{Browser, Key, Result, Till, Who};
use till_store::invoices::InvoiceFilter;

/// Ctrl K, some words, Enter.
async fn find(browser: &Browser, words: &str) -> Result<()> {
    browser.control('k').await?;
    browser.type_text(words).await?;
    browser.settle().await?;
    browser.press(Key::Enter).await
}

/// The first number such as I-3301 in a text.
fn number(text: &str, prefix: &str) -> String {
    text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-'))
        .find(|word| word.starts_with(prefix))
        .unwrap_or_default()
        .to_owned()
}

/// What the tape shows of the Brackwater shipment: arithmetic, tax by code, entry, changes.
const BRACKWATER_TAPE: &[&str] = &[
    "20 × 27.30",
    "546.00",
    "less 5 %, 20 and over",
    "−27.30",
    "Suit with veil",
    "Net",
    "724.70",
    "Tax 13.5 % of 518.70",
    "70.02",
    "Tax 23 % of 206.00",
    "47.38",
    "61600",
    "41000",
    "Customer owes",
];

/// Steps 2 to 5 of the job: see the draft and its tape, post it, take the money in two parts,
/// see the order close, and follow the figures down to the entry and the document.
#[tokio::test]
async fn from_unbilled_to_a_closed_order_by_keyboard() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/")).await?;

    // Billing lists what is unbilled; one shipment is picked.
    find(&browser, "BW 0318").await?;
    browser.wait_for("h1", "O-").await?;
    let order = browser.text("h1").await?;
    browser.letter('b').await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.wait_for("#roll", "balances").await?;
    browser.press(Key::Down).await?;
    browser.letter(' ').await?;
    let tape = browser.wait_for("#roll", "balances").await?;
    for part in BRACKWATER_TAPE {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    let bar = browser.text("footer").await?;
    assert!(bar.contains("Post 1 invoice · €842.10"), "{bar}");

    // It asks once, then posts once.
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post 1 invoice?").await?;
    browser.press(Key::Enter).await?;
    let notice = browser.wait_for("[data-testid=notice]", "posted").await?;
    let invoice = number(&notice, "I-");
    find(&browser, &invoice).await?;
    browser.wait_for("h1", &invoice).await?;
    browser.wait_for("header", "balance due €842.10 on 1 Apr 2026").await?;
    let roll = browser.wait_for("#roll", "Related documents").await?;
    assert!(roll.contains("Entry ") && roll.contains(&order), "{roll}");

    // A part of the money: the open amount falls, the order is completed but not closed.
    browser.letter('r').await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.wait_for("#roll", "settled").await?;
    browser.control('a').await?;
    browser.type_text("500").await?;
    browser.wait_for("#roll", "stays open of 842.10").await?;
    browser.wait_for("#roll", "342.10").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", &format!("€500.00 to {invoice}")).await?;
    browser.press(Key::Enter).await?;
    let receipt = number(&browser.wait_for("[data-testid=notice]", "posted").await?, "C-");
    browser.wait_for("h1", &receipt).await?;
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.wait_for("#roll", "342.10 EUR to be paid").await?;
    browser.wait_for("main dl", "completed").await?;

    // The rest: it closes by itself.
    find(&browser, &invoice).await?;
    browser.wait_for("header", "balance due €342.10").await?;
    browser.letter('r').await?;
    browser.wait_for("#roll", "settled").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€342.10").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    find(&browser, &order).await?;
    browser.wait_for("main dl", "closed").await?;
    let trail = browser.text("[data-testid=trail]").await?;
    for prefix in ["O-", "S-", "I-", "C-"] {
        assert!(!number(&trail, prefix).is_empty(), "no {prefix} on the trail: {trail}");
    }

    // From the trial balance down to the entry and on to its document.
    find(&browser, "Trial balance").await?;
    browser.wait_for("h1", "Trial balance").await?;
    browser.wait_for("[data-row='21000']", "21000").await?;
    for _ in 0..10 {
        if browser.run("return document.querySelector('[data-row=\"21000\"]').classList.contains('current')").await?
            == true
        {
            break;
        }
        browser.press(Key::Down).await?;
    }
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "21000").await?;
    browser.wait_for("[role=grid]", "342.10").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Entry").await?;
    browser.wait_for("table", "342.10").await?;
    browser.letter('o').await?;
    browser.wait_for("h1", "C-").await?;
    browser.wait_for("table", &invoice).await?;

    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await?;
    till.stop_and_verify().await
}

/// A part-shipped order stays open, and its invoice says what is still to come.
#[tokio::test]
async fn a_part_shipped_order_stays_open() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/")).await?;
    find(&browser, "SH-2611").await?;
    browser.wait_for("h1", "O-").await?;
    let order = browser.text("h1").await?;
    browser.letter('b').await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.wait_for("#roll", "balances").await?;
    browser.press(Key::Down).await?;
    // Without a pick, Enter opens the draft of the row.
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Saltmarsh").await?;
    browser.wait_for("#roll", "20 of 60 still to come").await?;
    // Lower the quantity of the first line: too much is refused at the field, five is kept.
    browser.control('a').await?;
    browser.type_text("41").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=alert]", "only 40 of").await?;
    browser.control('a').await?;
    browser.type_text("5").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "55 of 60 still to come").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "Post this invoice?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    browser.wait_for("table", "▲ 55").await?;
    find(&browser, &order).await?;
    browser.wait_for("main dl", "open").await?;
    browser.wait_for("#roll", "shipped and not billed").await?;
    let log = browser.console().await?;
    // The refusal itself stands in the browser's log of answers; nothing else may.
    assert!(log.iter().all(|line| line.contains("422")), "{log:?}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// What is stopped says why and leads to the field; put right, it can be posted. A second click
/// on the button posts nothing twice.
#[tokio::test]
async fn what_is_stopped_is_put_right_and_posted_once() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/")).await?;
    let count = async || -> Result<i64> {
        let mut connection = till.store.read().await?;
        let filter = InvoiceFilter { state: Some("open".to_owned()), limit: 1, ..InvoiceFilter::default() };
        Ok(till_store::invoices::list(&mut connection, &filter).await?.count)
    };
    let before = count().await?;
    browser.wait_for("[role=grid]", "Blocked").await?;
    browser.press(Key::Down).await?;
    browser.wait_for("#roll", "Ferme du Vent Clair").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Ferme du Vent Clair").await?;
    browser.wait_for_focus("Tax id").await?;
    browser.type_text("FX-77 88").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for(".MuiFormHelperText-root", "letters and digits only").await?;
    browser.control('a').await?;
    browser.type_text("FX7788").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is saved").await?;
    find(&browser, "Unbilled").await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.letter('/').await?;
    browser.type_text("Vent Clair").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "Tax AE, reverse charge").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post 1 invoice?").await?;
    browser.run("const b = document.querySelector('[role=dialog] button'); b.click(); b.click(); b.click();").await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    assert_eq!(count().await?, before + 1);
    let log = browser.console().await?;
    assert!(log.iter().all(|line| line.contains("422")), "{log:?}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// Money entered for the wrong amount: reversed with a reason after its entry was seen, entered again from what it
/// said; the invoice opens and closes with it, and the open items of the day show both.
#[tokio::test]
async fn a_receipt_typed_in_error_is_reversed_and_entered_again() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/billing/invoices?state=open&q=Kestrel")).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-").await?;
    let invoice = number(&browser.text("h1").await?, "I-");
    browser.letter('r').await?;
    browser.wait_for("#roll", "settled").await?;
    browser.control('a').await?;
    browser.type_text("210").await?;
    browser.wait_for("#roll", "stays open of").await?;
    // The figure on the button is the one that is decided.
    browser.wait_for("footer button:not([disabled])", "€210.00").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", &format!("€210.00 to {invoice}")).await?;
    browser.press(Key::Enter).await?;
    let wrong = number(&browser.wait_for("[data-testid=notice]", "posted").await?, "C-");
    browser.wait_for("h1", &wrong).await?;

    // Without a reason it is refused at the field; what it does to the books stands there before.
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "21000").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog] .Mui-error", "").await?;
    browser.type_text("120 was meant").await?;
    browser.wait_for("[role=dialog]", "210.00").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.wait_for("[data-testid=notice]", &format!("{wrong} is reversed")).await?;
    browser.wait_for("main", "120 was meant").await?;

    // What it said is there again; only the amount is typed.
    browser.letter('n').await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.wait_for("#roll", "stays open of").await?;
    browser.run("[...document.querySelectorAll('main input')].find((i) => i.labels[0]?.innerText.startsWith('Amount')).focus()").await?;
    browser.control('a').await?;
    browser.type_text("120").await?;
    browser.wait_for("#roll", "120.00").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€120.00").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    find(&browser, "Open items").await?;
    browser.wait_for("h1", "Open items").await?;
    browser.letter('/').await?;
    browser.type_text("Kestrel").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=grid]", &invoice).await?;
    let log = browser.console().await?;
    assert!(log.iter().all(|line| line.contains("422")), "{log:?}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// What people type is shown as what it is.
#[tokio::test]
async fn a_reference_with_markup_is_shown_as_text() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/receipts/new")).await?;
    browser.type_text("Tern").await?;
    browser.settle().await?;
    browser.press(Key::Enter).await?;
    browser.press(Key::Tab).await?;
    browser.type_text("7.50").await?;
    browser.run("[...document.querySelectorAll('main input')].find((i) => i.labels[0]?.innerText.startsWith('Reference')).focus()").await?;
    browser.type_text("<img src=x onerror=alert(1)>").await?;
    browser.wait_for("#roll", "7.50").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€7.50").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "C-").await?;
    browser.wait_for("main dl", "<img src=x onerror=alert(1)>").await?;
    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await?;
    till.stop_and_verify().await
}

/// Single letters never act in a field, and can be switched off.
#[tokio::test]
async fn letters_act_only_outside_fields_and_can_be_switched_off() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/receipts")).await?;
    browser.letter('/').await?;
    browser.type_text("n").await?;
    browser.wait_for_place("/receipts?q=n").await?;
    browser.press(Key::Escape).await?;
    browser.wait_for_place("/receipts").await?;
    browser.letter('?').await?;
    browser.wait_for("[role=dialog]", "Keys on this screen").await?;
    browser.click("[role=dialog] input[type=checkbox]").await?;
    browser.press(Key::Escape).await?;
    browser.letter('n').await?;
    browser.settle().await?;
    assert_eq!(browser.place().await?, "/receipts");
    browser.close().await?;
    till.stop_and_verify().await
}

/// A deposit for an order goes with its invoice by itself: exactly the difference is due, and once that is paid the
/// order closes. Figures by hand: 842.10 less 300.00 leaves 542.10.
#[tokio::test]
async fn a_deposit_is_taken_and_goes_with_the_invoice() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Tomas).await?;
    browser.go(&till.place("/")).await?;
    find(&browser, "BW 0318").await?;
    browser.wait_for("h1", "O-").await?;
    let order = browser.text("h1").await?;
    browser.letter('r').await?;
    browser.wait_for("h1", "Take a deposit").await?;
    browser.wait_for_focus("Amount EUR").await?;
    // More than the order comes to is refused at its field.
    browser.type_text("842.11").await?;
    browser.wait_for("main", "Take 842.10 at most for it").await?;
    browser.control('a').await?;
    browser.type_text("300").await?;
    let tape = browser.wait_for("#roll", "its tax is due now").await?;
    for part in ["25000", "41000", "31000", "balances"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.wait_for("footer", "Take the deposit · €300.00").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", &format!("for {order}")).await?;
    browser.press(Key::Enter).await?;
    let deposit = number(&browser.wait_for("[data-testid=notice]", "taken").await?, "D-");
    browser.wait_for("h1", &deposit).await?;
    browser.wait_for("main", &format!("It is applied by itself as {order} is billed")).await?;

    find(&browser, &order).await?;
    browser.wait_for("main", &deposit).await?;
    browser.letter('b').await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.wait_for("#roll", "balances").await?;
    browser.press(Key::Down).await?;
    browser.letter(' ').await?;
    let tape = browser.wait_for("#roll", &format!("less deposit {deposit}")).await?;
    assert!(tape.contains("−300.00") && tape.contains("542.10"), "{tape}");
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post 1 invoice?").await?;
    browser.press(Key::Enter).await?;
    let invoice = number(&browser.wait_for("[data-testid=notice]", "posted").await?, "I-");
    find(&browser, &invoice).await?;
    browser.wait_for("header", "balance due €542.10").await?;
    browser.wait_for("main", "Balance due EUR").await?;
    browser.letter('r').await?;
    browser.wait_for("#roll", "settled").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€542.10").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    find(&browser, &order).await?;
    browser.wait_for("main dl", "closed").await?;

    // An applied deposit is frozen and says which step frees it; unapplied, a clerk asks for a refund above the limit.
    find(&browser, &deposit).await?;
    browser.wait_for("main", "Unapply it first").await?;
    browser.letter('u').await?;
    browser.wait_for("[role=dialog]", "held again").await?;
    browser.wait_for("[role=dialog]", "Unapply · €300.00").await?;
    browser.type_text("paid twice").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is held again").await?;
    browser.wait_for("footer", "Refund").await?;
    browser.letter('f').await?;
    browser.wait_for("[role=dialog]", "Refund · €300.00").await?;
    browser.type_text("paid twice").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "A supervisor is asked").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
