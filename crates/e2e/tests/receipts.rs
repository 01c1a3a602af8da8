//! Receipts by keyboard: what money is for, begun with what the payer wrote, a stack of checks.

use till_e2e::{Key, Result, Who, start};

/// Money goes to what equals it, to what comes to it together, and to what the payer named: by number, and by payment reference.
#[tokio::test]
async fn a_receipt_goes_to_what_the_payer_means() -> Result<()> {
    let (till, browser) = start("/receipts/new?customer=1", Who::Tomas).await?;
    browser.wait_for("main", "I-3304").await?;
    // Saltmarsh owes 3,275.83, 171.95, 282.79 and 180.81.
    browser.tab_to("Amount EUR").await?;
    browser.type_text("282.79").await?;
    browser.wait_for("main", "equals the amount").await?;
    browser.control('a').await?;
    browser.type_text("454.74").await?;
    browser.wait_for("main", "together equal").await?;
    browser.control('a').await?;
    browser.type_text("300").await?;
    browser.wait_for("#roll", "to I-3271").await?;
    browser.tab_to("Reference, remarks").await?;
    browser.type_text("our payment of i3276 and RF27 I330 4").await?;
    browser.wait_for("main", "named by reference").await?;
    browser.wait_for("main", "named by number").await?;
    let tape = browser.wait_for("#roll", "to I-3304").await?;
    for part in ["to I-3276", "180.81", "119.19"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-66").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// A receipt begins with the payment reference that the payer wrote: whose it is, and how much, is known by it.
#[tokio::test]
async fn a_receipt_begins_with_a_payment_reference() -> Result<()> {
    let (till, browser) = start("/receipts/new", Who::Tomas).await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.type_text("RF27 I330 4").await?;
    browser.wait_for("[role=listbox]", "I-3304").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "Saltmarsh Honey Co-op owes").await?;
    browser.wait_for("footer", "Post the receipt · €180.81").await?;
    browser.wait_for("#roll", "to I-3304").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// It begins with an amount: 199.92 are an invoice of 204.00 less its discount, and nothing else. Then 100.00 pounds of a customer billed
/// in euros: they are worth 116.90, and the invoice says what would settle it.
#[tokio::test]
async fn a_receipt_begins_with_an_amount_and_comes_in_pounds() -> Result<()> {
    let (till, browser) = start("/receipts/new", Who::Tomas).await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.type_text("199.92").await?;
    browser.wait_for("[role=listbox]", "€204.00 open, 199.92 with the discount").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("footer", "Post the receipt · €199.92").await?;
    let tape = browser.wait_for("#roll", "less early-payment discount").await?;
    assert!(tape.contains("4.08") && tape.contains("settled"), "{tape}");
    browser.go(&till.place("/receipts/new?customer=1")).await?;
    browser.wait_for("main", "I-3304").await?;
    browser.settle().await?;
    // On the way to the amount nobody tabs through the currencies: outside of the fields c opens them.
    browser.run("document.activeElement.blur()").await?;
    browser.letter('c').await?;
    browser.wait_for("[role=listbox]", "GBP").await?;
    browser.press(Key::Down).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for_focus("Amount GBP").await?;
    browser.type_text("100").await?;
    let tape = browser.wait_for("#roll", "at the rates of the day").await?;
    for part in ["116.90", "100.00", "31000", "21000"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    // 180.81 / 1.169 = 154.67
    browser.wait_for("main", "£154.67").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-66").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Two checks, 180.81 and 171.95, against a control total of 352.76: each is posted by itself, and found in the list.
#[tokio::test]
async fn a_stack_of_checks_with_its_control_total() -> Result<()> {
    let (till, browser) = start("/receipts", Who::Tomas).await?;
    browser.wait_for("h1", "Receipts").await?;
    browser.letter('k').await?;
    browser.wait_for("h1", "Stack of receipts").await?;
    browser.wait_for_focus("Customer").await?;
    for (named, total, so_far) in
        [("I-3304", "€180.81", "1 receipt · 180.81 EUR"), ("I-3276", "€171.95", "2 receipts · 352.76 EUR")]
    {
        browser.type_text(named).await?;
        browser.wait_for("[role=listbox]", named).await?;
        browser.press(Key::Enter).await?;
        browser.wait_for("footer", &format!("Post the receipt · {total}")).await?;
        browser.wait_for("#roll", &format!("to {named}")).await?;
        browser.settle().await?;
        browser.control('\n').await?;
        browser.yes("Post this receipt?").await?;
        browser.wait_for("main", so_far).await?;
        browser.wait_for_focus("Customer").await?;
    }
    browser.tab_to("Control total EUR").await?;
    browser.type_text("400").await?;
    browser.wait_for("main", "47.24 to go").await?;
    browser.control('a').await?;
    browser.type_text("352.76").await?;
    browser.wait_for("main", "the stack is complete").await?;
    // A reload loses nothing of it.
    browser.run("location.reload()").await?;
    browser.wait_for("main", "the stack is complete").await?;
    browser.run("document.activeElement.blur()").await?;
    browser.letter('q').await?;
    browser.yes("Finish the stack?").await?;
    browser.wait_for_place("/receipts").await?;
    browser.wait_for("main", "Saltmarsh").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
