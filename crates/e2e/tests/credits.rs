//! Credit memos with no invoice behind them and what becomes of a credit, suppliers' answers to claims, the slip of a return:
//! by keyboard.

use till_e2e::{Key, Result, Who, start};

/// 20.00 of freight and 4.60 of tax are given back to Kestrel Moor: 24.60 kept, 14.60 refunded, the rest applied to its open
/// invoice of 1,207.48. A reload in between loses nothing.
#[tokio::test]
async fn a_credit_that_stands_alone_is_refunded_in_part_and_applied() -> Result<()> {
    let (till, browser) = start("/billing/credit-memos", Who::Ines).await?;
    browser.wait_for("main", "CM-66").await?;
    browser.letter('n').await?;
    browser.wait_for("h1", "New credit memo").await?;
    browser.type_text("1004").await?;
    browser.wait_for("[role=listbox]", "Kestrel Moor").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("header", "Kestrel Moor Bee Supplies").await?;
    browser.tab_to("Item or account of line 1").await?;
    browser.type_text("FRT").await?;
    browser.wait_for("[role=listbox]", "Freight").await?;
    browser.press(Key::Tab).await?;
    browser.tab_to("Words of line 1").await?;
    browser.type_text("Freight given back").await?;
    browser.tab_to("Price of line 1").await?;
    browser.type_text("20").await?;
    browser.wait_for("footer", "Credit €24.60").await?;
    browser.run("location.reload()").await?;
    browser.wait_for("footer", "Credit €24.60").await?;
    // Without its reason nothing leaves the house.
    browser.control('\n').await?;
    browser.wait_for("main", "Say why, in a few words").await?;
    browser.tab_to("Why").await?;
    browser.type_text("came a day late").await?;
    browser.control('\n').await?;
    browser.yes("Credit €24.60 to Kestrel Moor Bee Supplies?").await?;
    browser.wait_for("[data-testid=notice]", "CM-67 credits €24.60").await?;
    browser.wait_for("header", "€24.60 unapplied").await?;
    browser.letter('f').await?;
    browser.wait_for("[role=dialog]", "Refund CM-67?").await?;
    browser.control('a').await?;
    browser.type_text("14.60").await?;
    browser.wait_for("[role=dialog]", "Refund · €14.60").await?;
    browser.tab_to("Why").await?;
    browser.type_text("the customer asks for it").await?;
    browser.wait_for("[role=dialog]", "31000").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "RF-1 pays €14.60 back").await?;
    browser.wait_for("header", "€10.00 unapplied").await?;
    browser.letter('p').await?;
    browser.wait_for("footer", "Apply €10.00").await?;
    browser.wait_for("#roll", "1,197.48").await?;
    browser.letter('p').await?;
    browser.yes("Apply €10.00 of CM-67?").await?;
    browser.wait_for("[data-testid=notice]", "€10.00 of CM-67 is applied").await?;
    let roll = browser.wait_for("#roll", "to I-3291").await?;
    for part in ["refunded, RF-1", "-14.60", "-10.00", "27000"] {
        assert!(roll.replace('−', "-").contains(part), "“{part}” is not on the roll:\n{roll}");
    }
    browser.close().await?;
    till.stop_and_verify().await
}

/// Of 6.00 that are open of a claim the supplier pays 4.00 and refuses 2.00; the answer is reversed, and it is open again.
#[tokio::test]
async fn a_supplier_answers_a_claim() -> Result<()> {
    let (till, browser) = start("/returns/claims", Who::Tomas).await?;
    browser.wait_for("main", "SM-ST").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "The supplier's answer to the claim on SM-ST").await?;
    browser.control('a').await?;
    browser.type_text("4").await?;
    browser.tab_to("Refused, EUR").await?;
    browser.type_text("2.01").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "6.00 EUR of the claim are open").await?;
    browser.tab_to("Refused, EUR").await?;
    browser.control('a').await?;
    browser.type_text("2").await?;
    browser.wait_for("[role=dialog]", "→ 0.00").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "The claim on SM-ST of RA-16 is answered").await?;
    browser.wait_for("main", "answered").await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Reverse an answer?").await?;
    browser.tab_to("Why").await?;
    browser.type_text("another claim's").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is open again").await?;
    browser.wait_for("header", "6.00 EUR open").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// The slip of a return that is awaited goes by email, as what was written for it says.
#[tokio::test]
async fn the_slip_of_a_return_goes_by_email() -> Result<()> {
    let (till, browser) = start("/returns?q=RA-18", Who::Tomas).await?;
    browser.wait_for("main", "RA-18").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "RA-18").await?;
    browser.letter('m').await?;
    browser.wait_for("[role=dialog]", "Send the slip of RA-18?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "The message with RA-18 is ready to send").await?;
    browser.wait_for("main", "message to").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
