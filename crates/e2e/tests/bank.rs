//! The bank by keyboard: a statement day from the file to reconciled, and a receipt with its early-payment discount.

use till_e2e::{Browser, Key, Result, Who, start};

/// Gives the hidden field of the screen a file, as the dialog of the system would.
async fn choose(browser: &Browser, name: &str, content: &str) -> Result<()> {
    let content = serde_json::to_string(content)?;
    let script = format!(
        "const field = document.querySelector('input[type=file]'); const chosen = new DataTransfer();
         chosen.items.add(new File([{content}], '{name}', {{ type: 'application/xml' }})); field.files = chosen.files;
         field.dispatchEvent(new Event('change', {{ bubbles: true }}));"
    );
    browser.run(&script).await?;
    Ok(())
}

/// Two statements, 18 lines: the sure ones together, the likely ones with a key each, the rest booked; then the bank and the books
/// say the same, and what is not on the bank's paper yet is said to be on its way.
#[tokio::test]
async fn a_statement_day_from_import_to_reconciled() -> Result<()> {
    let (till, browser) = start("/", Who::Tomas).await?;
    // What is open of a statement stands on the day sheet, with the way there.
    browser.wait_for("main", "BS-1: 15 lines are not in the books").await?;
    browser.go(&till.place("/bank")).await?;
    browser.wait_for("h1", "Bank statements").await?;
    browser.wait_for("#roll", "15 lines are not in the books").await?;
    // A file that is none is refused in a sentence, and changes nothing.
    choose(&browser, "no.xml", "<html></html>").await?;
    browser.wait_for("main", "This is no bank statement in camt.053").await?;
    choose(&browser, "day.xml", &till_demo::next_statement(&till.store).await?).await?;
    browser.wait_for("h1", "BS-2").await?;
    browser.wait_for("main", "Dune & Daughter").await?;
    // The same file again is known.
    let again = till_demo::next_statement(&till.store).await?;
    browser.go(&till.place("/bank")).await?;
    browser.wait_for("main", "BS-2").await?;
    assert!(again.contains("2026-077"));
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "BS-2").await?;
    browser.settle().await?;
    browser.letter('a').await?;
    browser.yes("Accept 2 lines that are sure?").await?;
    browser.wait_for("header", "1 line of 3 open").await?;
    // The one that is nobody's is booked: a hive tour, 120.00.
    browser.wait_for("main", "nothing known fits").await?;
    browser.press(Key::Down).await?;
    browser.wait_for("#roll", "Dune & Daughter").await?;
    browser.letter('b').await?;
    browser.wait_for("[role=dialog]", "120.00 EUR are left of the line").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "0 lines of 3 open").await?;
    browser.wait_for("#roll", "69000").await?;
    // The day before: 8 are sure, 6 likely (one is a slip that was counted short, one a check that came back), one nobody knows.
    browser.go(&till.place("/bank/1?state=open")).await?;
    browser.wait_for("header", "15 lines of 15 open").await?;
    browser.settle().await?;
    browser.letter('a').await?;
    browser.yes("Accept 8 lines that are sure?").await?;
    for left in ["7", "6", "5", "4", "3", "2"] {
        browser.wait_for("header", &format!("{left} lines of 15 open")).await?;
        browser.wait_for("#roll", "Entry when accepted").await?;
        browser.settle().await?;
        browser.letter('p').await?;
    }
    browser.wait_for("header", "1 line of 15 open").await?;
    browser.wait_for("#roll", "B. Linnet").await?;
    browser.letter('b').await?;
    browser.wait_for("[role=dialog]", "25.00 EUR are left of the line").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main", "Every line of this statement is cleared").await?;
    browser.go(&till.place("/bank")).await?;
    browser.wait_for("#roll", "Reconciled").await?;
    browser.wait_for("#roll", "RA-16").await?;
    // One was wrong: it is open again, its receipt is reversed, and the account says so.
    browser.go(&till.place("/bank/2")).await?;
    browser.wait_for("header", "0 lines of 3 open").await?;
    browser.press(Key::Down).await?;
    browser.press(Key::Down).await?;
    browser.wait_for("#roll", "SALTMARSH").await?;
    browser.settle().await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "was made of this line: it is reversed").await?;
    browser.type_text("another order was meant").await?;
    browser.control('\n').await?;
    browser.wait_for("header", "1 line of 3 open").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// 25.00 of someone nobody knows: looked for by a part of a name, what that does is seen before it is accepted, and it is undone again.
#[tokio::test]
async fn a_line_nobody_knows_is_looked_for() -> Result<()> {
    let (till, browser) = start("/bank/1?state=open", Who::Tomas).await?;
    browser.wait_for("header", "15 lines of 15 open").await?;
    browser
        .run("[...document.querySelectorAll('[role=row]')].find((row) => row.innerText.includes('B. Linnet')).click()")
        .await?;
    browser.wait_for("#roll", "B. Linnet").await?;
    browser.settle().await?;
    browser.letter('f').await?;
    browser.wait_for("[role=dialog]", "What is line").await?;
    browser.type_text("nothing of the kind").await?;
    browser.wait_for("[role=dialog]", "Nothing that is open fits").await?;
    browser.control('a').await?;
    browser.type_text("saltm").await?;
    browser.wait_for("[role=dialog]", "Saltmarsh Honey Co-op").await?;
    browser.settle().await?;
    browser.press(Key::Down).await?;
    let asked = browser.wait_for("[role=dialog]", "21000").await?;
    assert!(asked.contains("25.00") && asked.contains("Accept · Saltmarsh"), "{asked}");
    browser.settle().await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "14 lines of 15 open").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// 199.92 for an invoice of 204.00 in time: 4.08 less, with their tax; two cents too little are written off. Then the receipt says so.
#[tokio::test]
async fn a_receipt_with_its_early_payment_discount() -> Result<()> {
    let (till, browser) = start("/receipts/new?customer=12", Who::Tomas).await?;
    browser.wait_for("main", "4.08 less until 29 Mar 2026").await?;
    browser.tab_to("Amount EUR").await?;
    browser.type_text("199.90").await?;
    let tape = browser.wait_for("#roll", "less early-payment discount").await?;
    for part in ["4.08", "0.76", "less written off", "0.02", "66000", "41000", "82000", "settled"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    browser.wait_for("main", "4.08 discount, 0.02 written off").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
