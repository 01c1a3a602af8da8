//! Every main view under axe-core (WCAG 2.2 A and AA), with nothing in the console.

use till_e2e::{Browser, Key, Result, Till, Who};

const VIEWS: &[&str] = &[
    "/",
    "/orders",
    "/orders?state=all&q=SH-2611",
    "/orders/1",
    "/orders/new",
    "/orders/lines",
    "/orders/quotes",
    "/quotes/1",
    "/quotes/new",
    "/orders/blanket",
    "/orders/blanket/new",
    "/orders/files",
    "/shipments",
    "/shipments/1",
    "/billing",
    "/billing/invoices",
    "/billing/runs",
    "/billing/direct",
    "/billing/going-out",
    "/billing/going-out/print?ids=1,2",
    "/going-out/8",
    "/invoices/2",
    "/invoices/2/credit",
    "/receipts",
    "/receipts/new?customer=3",
    "/receipts/1",
    "/prepayments",
    "/prepayments/new?customer=2",
    "/prepayments/new?customer=6&receipt=153",
    "/prepayments/155",
    "/prepayments/cards",
    "/prepayments/payouts",
    "/cards/1",
    "/card-payouts/1",
    "/billing/credit-memos",
    "/returns",
    "/returns/new?customer=1",
    "/returns/waiting",
    "/returns/why",
    "/returns/expected",
    "/returns/claims",
    "/credit-memos/new",
    "/returns/4",
    "/returns/8",
    "/returns/9",
    "/invoices/175/exchange",
    "/invoices/175/wrong-item",
    "/receipts?state=unapplied",
    "/customers",
    "/customers/new",
    "/customers/3",
    "/customers/7",
    "/customers/3/file",
    "/items",
    "/items/new",
    "/items/1",
    "/items/prices",
    "/ledger",
    "/ledger/trial-balance",
    "/ledger/accounts/21000",
    "/ledger/open-items",
    "/entries/30",
    "/approvals/1",
    "/setup",
    "/setup/goods",
    "/setup/fields",
    "/setup/people",
    "/setup/limits",
    "/setup/numbers",
    "/setup/periods",
    "/setup/money",
    "/setup/returns",
    "/setup/mail",
    "/setup/opening",
    "/setup/record",
    "/me",
    "/handbook",
    "/no/such/place",
];

#[tokio::test]
async fn every_main_view_is_accessible_and_quiet() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    let mut wrong = Vec::new();
    let door = Browser::open().await?;
    door.go(&till.place("/")).await?;
    for finding in door.accessibility().await? {
        wrong.push(format!("the door: {finding}"));
    }
    assert_eq!(door.console().await?, Vec::<String>::new());
    door.close().await?;
    let filter = till_store::invoices::CreditMemoFilter::default();
    let memos = till_store::invoices::credit_memos(&mut *till.store.read().await?, &filter, (1, 0)).await?.memos;
    let memo = memos.first().map(|memo| format!("/credit-memos/{}", memo.id)).ok_or("the demo has a credit memo")?;
    for view in VIEWS.iter().copied().chain([memo.as_str()]) {
        browser.go(&till.place(view)).await?;
        for finding in browser.accessibility().await? {
            wrong.push(format!("{view}: {finding}"));
        }
    }
    // What opens over a view.
    for (view, keys) in [
        ("/billing", "p"),
        ("/billing", "?"),
        ("/customers/3", "s"),
        ("/setup/periods", "\n"),
        ("/billing/invoices?state=draft", "\n"),
    ] {
        browser.go(&till.place(view)).await?;
        match keys {
            "\n" => browser.press(Key::Enter).await?,
            letter => browser.letter(letter.chars().next().unwrap_or('?')).await?,
        }
        for finding in browser.accessibility().await? {
            wrong.push(format!("{view} {keys:?}: {finding}"));
        }
    }
    browser.go(&till.place("/")).await?;
    browser.control('k').await?;
    browser.type_text("salt").await?;
    browser.settle().await?;
    for finding in browser.accessibility().await? {
        wrong.push(format!("find: {finding}"));
    }
    assert_eq!(wrong, Vec::<String>::new());
    assert_eq!(browser.console().await?, Vec::<String>::new());
    browser.close().await
}
