//! Checks on their way to the bank, payments that come back, disputes, money with credits, remittance advice, a bank's table: by
//! keyboard, from the screen to the ledger.

use till_e2e::{Browser, Key, Result, Who, start};

/// Gives the hidden field of the screen a file, as the dialog of the system would.
async fn choose(browser: &Browser, name: &str, content: &str) -> Result<()> {
    let content = serde_json::to_string(content)?;
    let script = format!(
        "const field = document.querySelector('input[type=file]'); const chosen = new DataTransfer();
         chosen.items.add(new File([{content}], '{name}', {{ type: 'text/csv' }})); field.files = chosen.files;
         field.dispatchEvent(new Event('change', {{ bubbles: true }}));"
    );
    browser.run(&script).await?;
    Ok(())
}

/// What lies in hand goes on a slip but for the pounds; it is banked half a euro short, canceled; what stood on it is in
/// hand again.
#[tokio::test]
async fn checks_go_to_the_bank_and_back() -> Result<()> {
    let (till, browser) = start("/bank-slips", Who::Ines).await?;
    browser.wait_for("h1", "Bank deposit slips").await?;
    browser.wait_for("#roll", "In hand EUR").await?;
    browser.settle().await?;
    browser.letter('n').await?;
    browser.wait_for("h1", "New bank deposit slip").await?;
    // One slip holds one currency: the pounds are let go by themselves.
    browser.wait_for("#roll", "On the slip").await?;
    browser.settle().await?;
    browser.letter('p').await?;
    browser.yes("Prepare a slip over").await?;
    browser.wait_for("h1", "DS-").await?;
    browser.wait_for("main", "prepared").await?;
    browser.settle().await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "Counted by the bank EUR").await?;
    browser.run("document.querySelector('[role=dialog] input[name=counted]').select()").await?;
    browser.type_text("74.50").await?;
    let asked = browser.wait_for("[role=dialog]", "82000").await?;
    for part in ["31000", "74.50", "0.50", "32000", "75.00"] {
        assert!(asked.contains(part), "“{part}” is not in the dialog:\n{asked}");
    }
    browser.settle().await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("main", "at the bank").await?;
    browser.wait_for("#roll", "counted short").await?;
    browser.settle().await?;
    browser.letter('x').await?;
    browser.wait_for("[role=dialog]", "Cancel DS-").await?;
    browser.type_text("the counter was closed").await?;
    browser.control('\n').await?;
    browser.wait_for("main", "What stood on it is in hand").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// The bank's line of a check that came back, with 15.00 for it: accepted and charged on, from the line to the invoice over the
/// charge.
#[tokio::test]
async fn a_check_comes_back_on_the_statement() -> Result<()> {
    let (till, browser) = start("/bank/1", Who::Ines).await?;
    browser.wait_for("main", "came back, with a fee").await?;
    browser
        .run("[...document.querySelectorAll('[role=row]')].find((row) => row.innerText.includes('came back')).click()")
        .await?;
    browser.wait_for("#roll", "it is that payment with a fee of the bank").await?;
    let tape = browser.wait_for("#roll", "81000").await?;
    assert!(tape.contains("15.00") && tape.contains("21000"), "{tape}");
    browser.settle().await?;
    browser.letter('c').await?;
    browser.wait_for("[role=dialog]", "Tax code of the charge").await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("[role=dialog]", "Choose the tax code of the charge").await?;
    browser.run("const field = document.querySelector('[role=dialog] select'); const set = Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, 'value').set; set.call(field, 'O0'); field.dispatchEvent(new Event('change', { bubbles: true }))").await?;
    browser.wait_for("[role=dialog]", "69000").await?;
    browser.settle().await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("body", "is cleared as C-").await?;
    browser.go(&till.place("/receipts")).await?;
    browser.wait_for("main", "C-6").await?;
    // What it had settled is open again, and the fee stands beside it.
    let mut books = till.store.read().await?;
    let view = till_store::customers::view(&mut books, till_core::ids::CustomerId(1)).await?;
    assert!(view.open_items.iter().any(|item| item.open.0 == 1_500), "{:?}", view.open_items);
    drop(books);
    browser.close().await?;
    till.stop_and_verify().await
}

/// A short payment goes into dispute with its posting, is given to someone, and closed.
#[tokio::test]
async fn a_short_payment_is_disputed_and_closed() -> Result<()> {
    let (till, browser) = start("/receipts/new?customer=12", Who::Tomas).await?;
    browser.wait_for("main", "less until").await?;
    browser.tab_to("Amount EUR").await?;
    browser.type_text("150").await?;
    browser.wait_for("main", "dispute").await?;
    browser.settle().await?;
    browser.click("button.quietly").await?;
    browser.wait_for("[role=dialog]", "is in dispute").await?;
    browser.run("document.querySelector('[role=dialog] [name=words]').focus()").await?;
    browser.type_text("three hives came").await?;
    browser.control('\n').await?;
    browser.wait_for("main", "in dispute: price").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    browser.go(&till.place("/disputes")).await?;
    browser.wait_for("main", "three hives came").await?;
    browser.settle().await?;
    browser.letter('p').await?;
    browser.wait_for("[role=dialog]", "stay open").await?;
    browser.type_text("a hive follows").await?;
    browser.control('\n').await?;
    browser.wait_for("main", "Nothing is in dispute").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// 67.40 of a credit memo that was kept and the rest in money, with the early-payment discount on what is left for the money.
#[tokio::test]
async fn money_and_a_credit_pay_together() -> Result<()> {
    let (till, browser) = start("/receipts/new", Who::Tomas).await?;
    let mut wanted = None;
    for id in 1..=24 {
        let mut books = till.store.read().await?;
        let Ok(view) = till_store::customers::view(&mut books, till_core::ids::CustomerId(id)).await else { continue };
        if view.credits.iter().any(|one| one.document.number == "CM-64") {
            wanted = Some(id);
        }
    }
    let customer = wanted.ok_or("CM-64 is nobody's")?;
    browser.go(&till.place(&format!("/receipts/new?customer={customer}"))).await?;
    browser.wait_for("main", "Used with it").await?;
    browser.tab_to("Amount EUR").await?;
    browser.type_text("40").await?;
    browser
        .run("[...document.querySelectorAll('main fieldset label')].find((one) => one.innerText.includes('CM-64')).querySelector('input').click()")
        .await?;
    let tape = browser.wait_for("#roll", "CM-64 used").await?;
    assert!(tape.contains("67.40"), "{tape}");
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    // Nothing of it lies there any more.
    let mut books = till.store.read().await?;
    let view = till_store::customers::view(&mut books, till_core::ids::CustomerId(customer)).await?;
    assert!(view.credits.iter().all(|one| one.document.number != "CM-64"), "{:?}", view.credits);
    drop(books);
    browser.close().await?;
    till.stop_and_verify().await
}

/// A payer's own list: one invoice whole, one with a deduction, one that nobody knows.
#[tokio::test]
async fn one_payment_by_the_payer_s_list() -> Result<()> {
    let (till, browser) = start("/receipts/advice?customer=12", Who::Tomas).await?;
    browser.wait_for("main", "Press f and choose").await?;
    let open = {
        let mut books = till.store.read().await?;
        let view = till_store::customers::view(&mut books, till_core::ids::CustomerId(12)).await?;
        view.open_items.into_iter().next()
    };
    let open = open.ok_or("nothing is open")?;
    choose(&browser, "list.csv", "what,paid\nx,1\n").await?;
    browser.wait_for("main", "No column says which documents are paid").await?;
    let less = open.currency.format(open.open - till_core::money::Money(500));
    let list = format!("Invoice;Paid;Deduction;Reason\n{};{less};5.00;broken lid\nI-9999;10.00;;\n", open.number);
    choose(&browser, "list.csv", &list).await?;
    browser.wait_for("header", "1 line pays nothing known").await?;
    browser.wait_for("main", "in dispute: broken lid").await?;
    browser.wait_for("#roll", "unapplied").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    browser.go(&till.place("/disputes")).await?;
    browser.wait_for("main", "broken lid").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// A statement as the bank's own table: its columns are guessed, put right, kept, and it follows the one before.
#[tokio::test]
async fn a_bank_s_own_table_is_imported() -> Result<()> {
    let (till, browser) = start("/bank", Who::Tomas).await?;
    browser.wait_for("main", "BS-1").await?;
    let closing = {
        let mut books = till.store.read().await?;
        let row = till_store::bank::list(&mut books, (1, 0)).await?.statements.remove(0);
        row.closing
    };
    let eur = till_core::money::Currency::of("EUR")?;
    let after = eur.format(closing + till_core::money::Money(12_000) - till_core::money::Money(350));
    let table = "Booked;Amount;Who;Text\n18.03.2026;120,00;Dune & Daughter;hive tour\n18.03.2026;-3,50;;Charge for 7 transfers\n";
    choose(&browser, "march.csv", table).await?;
    browser.wait_for("[role=dialog]", "which column is what?").await?;
    browser.wait_for("[role=dialog]", "is no day").await?;
    for (label, choice) in [("Days are written", "18.03.2026"), ("Amounts are written", "1.234,50")] {
        browser
            .run(&format!(
                "[...document.querySelectorAll('[role=dialog] [role=combobox]')].find((one) => one.closest('.MuiFormControl-root').innerText.includes('{label}')).dispatchEvent(new MouseEvent('mousedown', {{ bubbles: true }}))"
            ))
            .await?;
        browser
            .run(&format!(
                "[...document.querySelectorAll('[role=option]')].find((one) => one.innerText === '{choice}').click()"
            ))
            .await?;
        browser.settle().await?;
    }
    browser.wait_for("[role=dialog]", "No column says the balance").await?;
    for (label, amount) in [("Balance before EUR", eur.format(closing)), ("Balance after EUR", after)] {
        browser
            .run(&format!(
                "[...document.querySelectorAll('[role=dialog] input')].find((one) => one.closest('.MuiFormControl-root').innerText.includes('{label}')).focus()"
            ))
            .await?;
        browser.type_text(&amount).await?;
    }
    browser.wait_for("[role=dialog]", "Import 2 lines").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.wait_for("h1", "BS-2").await?;
    browser.wait_for("main", "Charge for 7 transfers").await?;
    browser.close().await?;
    till.stop_and_verify().await
}

/// Two orders of one customer are paid together from what is to finish, and close by themselves.
#[tokio::test]
async fn orders_are_finished_together() -> Result<()> {
    let (till, browser) = start("/orders/to-finish", Who::Tomas).await?;
    browser.wait_for("h1", "Orders to finish").await?;
    let before = {
        let mut books = till.store.read().await?;
        till_store::orders::to_finish(&mut books).await?
    };
    // Two after one another in the list that are one customer's.
    let at = before
        .windows(2)
        .position(|two| two[0].customer == two[1].customer && two.iter().all(|one| one.open.is_positive()))
        .ok_or("no two orders of one customer")?;
    browser.wait_for("main", &before[at].number).await?;
    browser.settle().await?;
    for _ in 0..at {
        browser.press(Key::Down).await?;
    }
    browser.letter(' ').await?;
    browser.press(Key::Down).await?;
    browser.letter(' ').await?;
    browser.wait_for("footer", "Receive for 2 orders").await?;
    browser.settle().await?;
    browser.letter('n').await?;
    browser.wait_for("h1", "New receipt").await?;
    browser.wait_for("#roll", "Entry when posted").await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    let after = {
        let mut books = till.store.read().await?;
        till_store::orders::to_finish(&mut books).await?
    };
    let open = |orders: &[till_store::orders::OrderToFinish]| -> i64 { orders.iter().map(|one| one.open.0).sum() };
    assert_eq!(open(&before) - open(&after), before[at].open.0 + before[at + 1].open.0);
    assert!(after.len() < before.len(), "none of them closed");
    browser.close().await?;
    till.stop_and_verify().await
}

/// A parent pays for its branch: what the branch owes stands in the same table, and one receipt settles both.
#[tokio::test]
async fn a_parent_pays_for_its_branch() -> Result<()> {
    let (till, browser) = start("/customers", Who::Tomas).await?;
    let (parent, branch) = (till_core::ids::CustomerId(12), till_core::ids::CustomerId(10));
    let actor = till_store::Actor::program(till_demo::BUSINESS_DATE.and_time(Default::default()).and_utc());
    till.store
        .change(&actor, None, async |writing| {
            let rules = till_store::rules::load(writing).await?;
            let mut form = till_store::customers::form(writing, rules.base, branch).await?;
            let version = till_store::customers::view(writing, branch).await?.version;
            form.parent = till_store::customers::view(writing, parent).await?.number;
            till_store::customers::save(writing, &rules, Some((branch, version)), &form).await
        })
        .await?;
    browser.go(&till.place("/receipts/new?customer=12")).await?;
    browser.wait_for("main", "of Brackwater Hives").await?;
    let both = {
        let mut books = till.store.read().await?;
        till_store::customers::view(&mut books, parent).await?.open_items
    };
    let theirs = both.iter().find(|item| item.branch.is_some()).ok_or("the branch owes nothing")?;
    let amount = theirs.currency.format(theirs.open);
    browser.tab_to("Amount EUR").await?;
    browser.type_text(&amount).await?;
    browser.wait_for("#roll", &format!("to {}", theirs.number)).await?;
    browser.settle().await?;
    browser.control('\n').await?;
    browser.yes("Post this receipt?").await?;
    browser.wait_for("h1", "C-6").await?;
    browser.wait_for("main", &theirs.number).await?;
    browser.close().await?;
    till.stop_and_verify().await
}
