//! Billing in the real interface, by keyboard: direct, combined, a run of fifty, cancelled and
//! billed anew, sent out. Single invoices and parts of lines are in `clerk.rs`.

use till_e2e::{Browser, Key, Result, Till, Who};

async fn start(path: &str) -> Result<(Till, Browser)> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place(path)).await?;
    Ok((till, browser))
}

/// Two shipments of two orders make one invoice; a line is typed beside them, a discount is given.
#[tokio::test]
async fn two_orders_a_typed_line_and_a_discount_on_one_invoice() -> Result<()> {
    let (till, browser) = start("/billing?q=Saltmarsh").await?;
    browser.wait_for("#roll", "one invoice from S-4476 and S-4477").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Saltmarsh").await?;
    browser.press(Key::Escape).await?;
    // A typed line: an account without a tax code is refused at the field, then put right.
    browser.letter('a').await?;
    browser.wait_for("[role=dialog]", "Add a line").await?;
    browser.type_text("FRT").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "added here").await?;
    browser.wait_for("#roll", "2,770.66").await?;
    // A discount over all of it, with its reason.
    browser.letter('o').await?;
    browser.wait_for("[role=dialog]", "Discount on this invoice").await?;
    browser.type_text("10").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "Say why").await?;
    browser.press(Key::Tab).await?;
    browser.press(Key::Tab).await?;
    browser.type_text("spring fair").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "less 10 %, spring fair").await?;
    let tape = browser.wait_for("#roll", "−226.08").await?;
    // The tape leads from what was ordered to what is due.
    for part in ["why not what was ordered", "still to come", "discount on this invoice", "balances"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post this invoice?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    browser.wait_for("main", "to print").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Sold over the counter: an order is typed, and with one question it is confirmed, shipped, billed
/// and paid in cash. A sum that cannot be read is refused at its field.
#[tokio::test]
async fn sold_over_the_counter_and_paid_in_cash() -> Result<()> {
    let (till, browser) = start("/orders/new").await?;
    for typed in ["Kestrel", "KM 1163", "hb-12", "4"] {
        browser.type_text(typed).await?;
        browser.settle().await?;
        browser.press(Key::Enter).await?;
        browser.settle().await?;
    }
    browser.wait_for("#roll", "With tax").await?;
    // Enter on an empty line leaves the fields.
    browser.press(Key::Enter).await?;
    browser.letter('i').await?;
    browser.wait_for("[role=dialog]", "Sell over the counter").await?;
    browser.wait_for("[role=dialog]", "All of it is posted together, or nothing").await?;
    browser.back().await?;
    browser.press(Key::Down).await?;
    browser.wait_for("[role=dialog]", "Entry of the receipt").await?;
    browser.wait_for("[role=dialog]", "pays all of it now").await?;
    browser.press(Key::Tab).await?;
    browser.wait_for_focus("Amount EUR").await?;
    browser.type_text("x").await?;
    browser.wait_for("[role=dialog] [data-field='paid.amount']", "is not a number").await?;
    browser.press(Key::Backspace).await?;
    browser.settle().await?;
    browser.wait_for("[role=dialog]", "pays all of it now").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "and the money for it").await?;
    browser.wait_for("main", "settled").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Part of an unbilled line is put on a draft of the customer, and the draft gets terms of its own.
#[tokio::test]
async fn part_of_a_line_more_and_terms_for_one_invoice() -> Result<()> {
    let (till, browser) = start("/billing?q=S-4476").await?;
    browser.wait_for("main", "S-4476").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for Saltmarsh").await?;
    browser.wait_for("main", "More of this customer, unbilled").await?;
    browser.run("document.querySelector(\"[aria-label*='to add']\").focus()").await?;
    browser.type_text("1").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "S-4477").await?;
    browser.letter('m').await?;
    browser.wait_for("[role=dialog]", "Terms for this invoice").await?;
    browser.back().await?;
    browser.letter(' ').await?;
    browser.press(Key::Tab).await?;
    browser.type_text("end").await?;
    browser.wait_for("[role=dialog]", "due ").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "end of month").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Direct invoices typed into a grid, posted together; what is wrong stands at its row.
#[tokio::test]
async fn direct_invoices_from_a_grid() -> Result<()> {
    let (till, browser) = start("/billing/direct").await?;
    browser.wait_for("h1", "Direct invoices").await?;
    for (typed, key) in
        [("1001 Saltmarsh Honey Co-op", Key::Tab), ("FRT", Key::Tab), ("Two parcels", Key::Tab), ("2", Key::Enter)]
    {
        browser.type_text(typed).await?;
        browser.press(key).await?;
    }
    browser.wait_for("main", "€44.28").await?;
    for (typed, key) in [("1002 Orchard Lane Apiaries", Key::Tab), ("64000", Key::Tab), ("A fee", Key::Enter)] {
        browser.type_text(typed).await?;
        browser.press(key).await?;
    }
    browser.wait_for("main", "An account has no price of its own").await?;
    let disabled = browser.run("return document.querySelector('footer button').disabled").await?;
    assert_eq!(disabled, serde_json::json!(true), "nothing is posted while a row is wrong");
    // The price and the tax code put it right.
    browser.run("document.querySelector('[data-cell=\"1-unit_price\"]').focus()").await?;
    browser.type_text("15").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("S23").await?;
    browser.wait_for("h1 + .sum", "2 invoices").await?;
    browser.wait_for("main", "€18.45").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "Post 2 invoices?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await?;
    till.stop_and_verify().await
}

/// Goods on a direct invoice leave stock with it: 4 × 32.50 less 2.5 %, 126.75, with 23 % 155.90; and their cost of the oldest layer, of
/// which 6 of 72 are left at 18.46: 73.84. Taxed otherwise than usual, the row asks why.
#[tokio::test]
async fn goods_on_a_direct_invoice() -> Result<()> {
    let (till, browser) = start("/billing/direct").await?;
    browser.wait_for("h1", "Direct invoices").await?;
    for (typed, key) in
        [("1002 Orchard Lane Apiaries", Key::Tab), ("HB-12", Key::Tab), ("", Key::Tab), ("4", Key::Tab), ("", Key::Tab)]
    {
        browser.type_text(typed).await?;
        browser.press(key).await?;
    }
    browser.wait_for("main", "€155.90").await?;
    let roll = browser.wait_for("#roll", "Entry of the cost").await?;
    assert!(roll.contains("73.84"), "{roll}");
    // 126.75 with 13.5 %: 143.86.
    browser.type_text("S135").await?;
    browser.wait_for("main", "is taxed as S135, not S23. Say why.").await?;
    let disabled = browser.run("return document.querySelector('footer button').disabled").await?;
    assert_eq!(disabled, serde_json::json!(true));
    browser.run("document.querySelector('[data-cell=\"0-reason\"]').focus()").await?;
    browser.type_text("sold as feed boxes").await?;
    browser.wait_for("h1 + .sum", "€143.86").await?;
    browser.wait_for("footer button:not([disabled])", "Post 1 invoice").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "Post 1 invoice?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    // Two are left of that layer, and the item tells where the four went.
    browser.go(&till.place("/items/1")).await?;
    browser.wait_for("#roll", "2 of 72").await?;
    browser.wait_for("main", "left with I-").await?;
    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await?;
    till.stop_and_verify().await
}

/// A run of fifty invoices: two are blocked, one is left out, the others are posted with progress
/// and a page that says which numbers they got; what was left is given back.
#[tokio::test]
async fn a_run_of_fifty_with_two_blocked_and_one_left_out() -> Result<()> {
    let till = Till::demo().await?;
    // Sixteen invoices of the demo and one of work, and thirty-four more.
    till.ship_more(4, 34).await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/billing")).await?;
    browser.wait_for("h1 + .sum", "shipments").await?;
    browser.letter('r').await?;
    browser.wait_for("[role=dialog]", "A run of").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Run 1").await?;
    let sum = browser.wait_for("h1 + .sum", "2 blocked").await?;
    assert!(sum.starts_with("49 ready"), "{sum}");
    browser.wait_for("#roll", "By account").await?;
    // The second row is left out; its total goes from the tape.
    browser.press(Key::Down).await?;
    browser.letter('l').await?;
    browser.wait_for("h1 + .sum", "48 ready · 2 blocked · 1 excluded").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post 48 invoices?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1 + .sum", "48 posted").await?;
    browser.wait_for("main", "I-33").await?;
    browser.wait_for("main", "wants its own order number").await?;
    // The browser is closed and opened again: the run is as it was left.
    browser.go(&till.place("/billing/runs")).await?;
    browser.wait_for("main", "3 drafts").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1 + .sum", "48 posted").await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Delete Run 1?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "unbilled again").await?;
    browser.go(&till.place("/billing")).await?;
    browser.wait_for("h1 + .sum", "3 shipments").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// A posted invoice is cancelled and what it billed put on a new draft at once.
#[tokio::test]
async fn cancelled_and_billed_anew() -> Result<()> {
    let (till, browser) = start("/billing/invoices?state=open&q=Kestrel").await?;
    browser.wait_for("main", "I-3291").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3291").await?;
    browser.letter('x').await?;
    let ask = browser.wait_for("[role=dialog]", "Credit").await?;
    assert!(ask.contains("−1,207.48"), "{ask}");
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "Say why").await?;
    browser.type_text("two pallets went to the wrong yard").await?;
    browser.press(Key::Tab).await?;
    for _ in 0..4 {
        let on_tick = browser.run("return document.activeElement.type === 'checkbox'").await?;
        if on_tick == serde_json::json!(true) {
            break;
        }
        browser.press(Key::Tab).await?;
    }
    browser.letter(' ').await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is canceled by CM-67").await?;
    browser.wait_for("h1", "Draft for Kestrel").await?;
    browser.wait_for("#roll", "I-3291 canceled").await?;
    browser.wait_for("#roll", "1,207.48").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Two of the books arrived wet and stay with the customer, the pack of frames was promised for less: 44.00 at 0 % and 6.00
/// with 1.38 of tax at 23 % go off what is open, 1,207.48 − 51.38 = 1,156.10. More than is left is refused at its line.
#[tokio::test]
async fn lines_of_an_invoice_are_credited() -> Result<()> {
    let (till, browser) = start("/billing/invoices?state=open&q=Kestrel").await?;
    browser.wait_for("main", "I-3291").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "I-3291").await?;
    browser.letter('l').await?;
    browser.wait_for("h1", "Credit I-3291").await?;
    browser.type_text("two arrived wet, one price was promised lower").await?;
    tab_to(&browser, "Quantity of BK-01 to credit").await?;
    browser.type_text("14").await?;
    browser.wait_for("main table", "13 are left to credit").await?;
    browser.press(Key::Backspace).await?;
    browser.press(Key::Backspace).await?;
    browser.type_text("2").await?;
    tab_to(&browser, "Amount off the price of FR-50").await?;
    browser.type_text("6").await?;
    browser.wait_for("#roll", "−51.38").await?;
    browser.wait_for("footer", "Credit €51.38").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "Credit €51.38 of I-3291?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "CM-67 credits €51.38 of I-3291").await?;
    browser.wait_for("#roll", "CM-67 for some lines").await?;
    browser.letter('o').await?;
    browser.wait_for("h1", "I-3291").await?;
    browser.wait_for("main", "balance due €1,156.10").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// What the mail service did not take is read, put right and sent again.
#[tokio::test]
async fn a_message_is_changed_and_sent_again() -> Result<()> {
    let (till, browser) = start("/billing/going-out").await?;
    browser.wait_for("main", "failed").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Message with I-").await?;
    browser.run("document.querySelector('[data-field=subject] input').focus()").await?;
    browser.control('a').await?;
    browser.type_text("Your invoice, once more").await?;
    browser.press(Key::Escape).await?;
    browser.control('\n').await?;
    browser.wait_for("[data-testid=notice]", "is emailed to accounts@orchardlane.example").await?;
    let mailbox = browser.wait_for("#roll", "accounts@orchardlane.example").await?;
    assert!(mailbox.contains("Read the message"), "{mailbox}");
    browser.close().await?;
    till.stop_and_verify().await
}

/// Why an order is not among the unbilled.
#[tokio::test]
async fn the_list_says_where_an_order_is() -> Result<()> {
    let (till, browser) = start("/billing").await?;
    browser.wait_for("h1 + .sum", "shipments").await?;
    browser.letter('/').await?;
    browser.type_text("O-2054").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main", "O-2054 was billed on I-3291").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Waits until the paper of the page is there, and gives its words beside those of the page the server makes.
async fn papers(browser: &Browser, address: &str) -> Result<(String, String)> {
    let shown = "return document.querySelector('.printed')?.shadowRoot?.textContent ?? ''";
    let mut on_page = String::new();
    for _ in 0..100 {
        on_page = browser.run(shown).await?.as_str().unwrap_or_default().to_owned();
        if !on_page.is_empty() {
            break;
        }
        tokio::time::sleep(std::time::Duration::from_millis(50)).await;
    }
    let made = format!(
        "const request = new XMLHttpRequest(); request.open('GET', '{address}', false); request.send();
         return new DOMParser().parseFromString(request.responseText, 'text/html').body.textContent"
    );
    Ok((on_page, browser.run(&made).await?.as_str().unwrap_or_default().to_owned()))
}

/// What is printed of an invoice is the page that is mailed, word for word.
#[tokio::test]
async fn the_paper_is_the_page_that_is_mailed() -> Result<()> {
    let (till, browser) = start("/billing/invoices?state=open").await?;
    browser.wait_for("main", "I-").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("#roll", "Due").await?;
    let id = browser.run("return location.pathname.split('/').pop()").await?.as_str().unwrap_or_default().to_owned();
    let (printed, mailed) = papers(&browser, &format!("/api/papers/invoice/{id}")).await?;
    assert!(printed.contains("Invoice I-") && printed.contains("Marram Hive Supply"), "{printed}");
    assert_eq!(printed.trim(), mailed.trim());
    browser.close().await?;
    till.stop_and_verify().await
}

/// Tab until something with this label has the focus.
async fn tab_to(browser: &Browser, label: &str) -> Result<()> {
    for _ in 0..40 {
        let here = browser.run("return document.activeElement.getAttribute('aria-label') ?? ''").await?;
        if here.as_str() == Some(label) {
            return Ok(());
        }
        browser.press(Key::Tab).await?;
    }
    Err(format!("“{label}” is not reached with Tab").into())
}

async fn find(browser: &Browser, words: &str) -> Result<()> {
    browser.control('k').await?;
    browser.type_text(words).await?;
    browser.settle().await?;
    browser.press(Key::Enter).await
}

/// A number such as P-18 in a text.
fn number(text: &str, prefix: &str) -> String {
    let mut words = text.split(|c: char| !(c.is_ascii_alphanumeric() || c == '-'));
    words.find(|word| word.starts_with(prefix)).unwrap_or_default().to_owned()
}

/// A quarter ahead with one line out, paid; a part shipped and billed, a part canceled and credited, the rest shipped and
/// billed: each invoice is due for what was not prepaid. 25 % of 255.20 and 94.80 are 63.80 and 23.70, tax 8.61 and 5.45.
#[tokio::test]
async fn a_quarter_ahead_in_parts_with_a_cancellation_between() -> Result<()> {
    let (till, browser) = start("/").await?;
    find(&browser, "PO 28428").await?;
    browser.wait_for("h1", "O-").await?;
    let order = browser.text("h1").await?;
    browser.letter('h').await?;
    browser.wait_for("h1", &format!("Bill in advance of {order}")).await?;
    browser.wait_for_focus("Advance %").await?;
    // More than all is refused at its field.
    browser.type_text("125").await?;
    browser.wait_for("main", "Enter a percentage from 0 to 100").await?;
    browser.control('a').await?;
    browser.type_text("25").await?;
    tab_to(&browser, "BK-01 in").await?;
    browser.letter(' ').await?;
    let tape = browser.wait_for("#roll", "101.56").await?;
    for part in ["25% of 255.20", "26000", "41000", "balances"] {
        assert!(tape.contains(part), "“{part}” is not on the tape:\n{tape}");
    }
    browser.wait_for("footer", "Post prepayment invoice · €101.56").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€14.06 of tax").await?;
    browser.press(Key::Enter).await?;
    let ahead = number(&browser.wait_for("[data-testid=notice]", "posted").await?, "P-");
    browser.wait_for("h1", &format!("Prepayment invoice {ahead}")).await?;
    browser.letter('r').await?;
    browser.wait_for("#roll", "settled").await?;
    browser.control('\n').await?;
    browser.wait_for("[role=dialog]", "€101.56").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;

    // Three of eight boxes go: 95.70 less 23.93 (23.925), tax 9.69 (9.6890).
    find(&browser, &order).await?;
    browser.wait_for("main", &ahead).await?;
    browser.letter('s').await?;
    browser.wait_for("h1", "S-").await?;
    for (code, picked) in [("FD-FN", "3"), ("JR-34", "0"), ("BK-01", "0")] {
        tab_to(&browser, &format!("Picked of {code}")).await?;
        browser.control('a').await?;
        browser.type_text(picked).await?;
        browser.press(Key::Enter).await?;
    }
    browser.wait_for("#roll", "balances").await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main dl", "● shipped").await?;
    browser.letter('o').await?;
    browser.wait_for("h1", &order).await?;
    browser.letter('b').await?;
    browser.wait_for("h1", "Unbilled").await?;
    browser.wait_for("#roll", "balances").await?;
    browser.press(Key::Down).await?;
    browser.letter(' ').await?;
    let tape = browser.wait_for("#roll", &format!("less prepaid on {ahead}")).await?;
    assert!(tape.contains("−23.93") && tape.contains("81.46"), "{tape}");
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Post 1 invoice?").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;

    // Two trays are canceled: 23.70 × 2 ÷ 8 is 5.93 (5.925), tax 1.36; it was paid, so it is kept for the customer.
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Cancel what has not shipped").await?;
    browser.type_text("JR-34").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("2").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("two trays too many").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "Canceled on").await?;
    browser.wait_for("main", "▲ Credit…").await?;
    find(&browser, &ahead).await?;
    browser.wait_for("h1", &ahead).await?;
    browser.wait_for("main", "▲ Credit…").await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Credit · €7.29").await?;
    browser.press(Key::Tab).await?;
    browser.type_text("two trays too many").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "credits €7.29").await?;

    // The rest: 159.50 less 39.87, 71.10 less 17.77, books 418.00; tax 16.15 and 12.27.
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.letter('i').await?;
    browser.wait_for("[role=dialog]", "Ship and bill · €619.38").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "posted").await?;
    find(&browser, &ahead).await?;
    browser.wait_for("main", "81.57").await?;
    browser.go(&till.place("/prepayments/invoices?q=Dunlin")).await?;
    browser.wait_for("[role=grid]", "used").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// A card is authorized, the goods go and are billed, the day sheet asks for the capture; the processor pays out, and the
/// payout is matched and booked with its fee. 4 roofs at 24.75 less 2.5 % are 96.53, with tax 118.73; of it the processor
/// keeps 1.4 %, 1.66. Another card was charged back, 60.00 with a fee of 15.00: 58.73 less 16.66 are 42.07.
#[tokio::test]
async fn a_card_is_authorized_captured_and_found_on_the_payout() -> Result<()> {
    let (till, browser) = start("/").await?;
    let order = till.order("1012", ("RF-AL", "4")).await?;
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.letter('k').await?;
    browser.wait_for("[role=dialog]", "Nothing is posted before it is captured").await?;
    browser.press(Key::Enter).await?;
    let card = number(&browser.wait_for("[data-testid=notice]", "is authorized").await?, "CA-");
    browser.wait_for("main", &card).await?;
    browser.wait_for("main", "wait for the goods").await?;

    browser.letter('i').await?;
    browser.wait_for("[role=dialog]", "balances").await?;
    browser.press(Key::Enter).await?;
    let invoice = number(&browser.wait_for("[data-testid=notice]", "posted").await?, "I-");
    browser.go(&till.place("/")).await?;
    browser.wait_for("main", &format!("{order} has shipped, {card} is authorized")).await?;

    find(&browser, &card).await?;
    browser.wait_for("h1", &card).await?;
    browser.letter('c').await?;
    let asked = browser.wait_for("[role=dialog]", "33000").await?;
    for part in ["open invoices of the order", "21000", "balances"] {
        assert!(asked.contains(part), "“{part}” does not stand in the dialog:\n{asked}");
    }
    browser.press(Key::Enter).await?;
    let receipt = number(&browser.wait_for("[data-testid=notice]", "is captured").await?, "C-");
    browser.wait_for("main", &receipt).await?;
    browser.wait_for("main dl", "captured").await?;
    find(&browser, &invoice).await?;
    browser.wait_for("header", "settled").await?;

    // The processor pays out, and tells of it by itself. What a bank took back of another card goes off it: that is to be
    // booked first.
    let paid = till.processor.keep(|book| book.pay_out())?;
    let payout = &paid[0];
    assert_eq!((payout.gross, payout.fee, payout.net), (5_873, 1_666, 4_207));
    payout_of(&till, &browser, &payout.id).await?;
    browser.wait_for("main", "1 line is not matched").await?;
    find(&browser, "CA-12").await?;
    browser.wait_for("h1", "CA-12").await?;
    tab_to(&browser, "Book the charge back of €60.00").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "Fee of the processor").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is in the books: CB-").await?;
    payout_of(&till, &browser, &payout.id).await?;
    browser.wait_for("main", &receipt).await?;
    browser.letter('p').await?;
    let asked = browser.wait_for("[role=dialog]", "33000").await?;
    assert!(asked.contains("81000") && asked.contains("31000"), "{asked}");
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "is booked").await?;
    browser.wait_for("h1", "CP-").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Opens a payout, once the processor told of it.
async fn payout_of(till: &Till, browser: &Browser, id: &str) -> Result<()> {
    for _ in 0..50 {
        browser.go(&till.place("/prepayments/payouts?state=to_book")).await?;
        if browser.text("main").await?.contains(id) {
            break;
        }
    }
    browser.wait_for("main", id).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", id).await.map(|_| ())
}

/// An order that is not finished is not closed by hand: what hangs is said with its amounts, and the step that goes on from
/// there. Shipped, billed and paid in one posting it closes by itself.
#[tokio::test]
async fn a_wrong_close_is_refused_and_finished_properly() -> Result<()> {
    let (till, browser) = start("/").await?;
    let order = till.order("1012", ("RF-AL", "4")).await?;
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.letter('f').await?;
    let said = browser.wait_for("[role=dialog]", "closes by itself").await?;
    for part in
        ["what hangs on it would be left behind", "1 line to ship.", "€118.73", "Ship, bill and receive the rest"]
    {
        assert!(said.contains(part), "“{part}” does not stand in the dialog:\n{said}");
    }
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "pays all of it now").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[data-testid=notice]", "with its shipment and the money for it").await?;
    find(&browser, &order).await?;
    browser.wait_for("h1", &order).await?;
    browser.wait_for("main dl", "closed").await?;
    browser.close().await?;
    till.stop_and_verify().await
}
