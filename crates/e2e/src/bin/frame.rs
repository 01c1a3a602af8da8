//! How long after the server's answer a draft shows what it comes to: quantities are typed, and the
//! browser's own clock says when the answer was there, when the tape had changed and when it was drawn.
//!
//! `cargo run -p till-e2e --bin frame`. One frame at sixty a second is 16.7 ms.

use till_e2e::{Browser, Key, Result, Till, Who};

const CHANGES: u32 = 30;

/// Notes every change of the tape, and the frame after it.
const WATCH: &str = "window.changes = [];
performance.setResourceTimingBufferSize(5000);
new MutationObserver(() => {
  const at = performance.now();
  requestAnimationFrame(() => window.changes.push([at, performance.now()]));
}).observe(document.getElementById('roll'), { subtree: true, childList: true, characterData: true });";

/// For each answer that brought the draft anew: how long until the tape changed, and until the frame.
const READ: &str = "const answers = performance.getEntriesByType('resource')
  .filter((entry) => /\\/api\\/invoices\\/\\d+$/.test(entry.name) && entry.initiatorType === 'fetch')
  .map((entry) => entry.responseEnd);
return answers.map((answer, at) => {
  const change = window.changes.find(([changed]) => changed >= answer && changed < (answers[at + 1] ?? Infinity));
  return change && change.map((time) => time - answer);
}).filter(Boolean);";

#[tokio::main]
async fn main() -> Result<()> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, Who::Ines).await?;
    browser.go(&till.place("/billing?q=S-4476")).await?;
    browser.press(Key::Enter).await?;
    browser.wait_for("h1", "Draft for").await?;
    browser.settle().await?;
    browser.run(WATCH).await?;
    for quantity in 1..=CHANGES {
        browser
            .run("const field = document.querySelector('[data-quantity] input'); field.focus(); field.select();")
            .await?;
        browser.type_text(&quantity.to_string()).await?;
        browser.press(Key::Enter).await?;
        browser.wait_for("#roll", &format!("{quantity} ×")).await?;
    }
    let found: Vec<(f64, f64)> = serde_json::from_value(browser.run(READ).await?)?;
    let median = |of: fn(&(f64, f64)) -> f64| {
        let mut times: Vec<f64> = found.iter().map(of).collect();
        times.sort_by(f64::total_cmp);
        (times[times.len() / 2], times[times.len() * 9 / 10])
    };
    let (changed, drawn) = (median(|one| one.0), median(|one| one.1));
    println!("| {} changes of a draft, after the answer | median | nine in ten within |", found.len());
    println!("|---|---|---|");
    println!("| the tape has changed | {:.1} ms | {:.1} ms |", changed.0, changed.1);
    println!("| the frame that shows it | {:.1} ms | {:.1} ms |", drawn.0, drawn.1);
    browser.close().await?;
    Ok(())
}
