//! # till-e2e: Glad Till as its users see it
//!
//! Starts the real server on a free port with a copy of the demo books, and headless Chromium
//! before it. The same harness takes the screenshots of `docs/screenshots`.

mod browser;
mod driver;

pub use browser::{Browser, Key};
pub use driver::Driver;

/// Who signs in before the browser: a place in [`till_demo::STAFF`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Who {
    /// A supervisor.
    Ines = 0,
    /// A clerk.
    Tomas = 1,
    /// Another lead.
    Maud = 2,
    /// The auditor.
    Otto = 3,
    /// The administrator.
    Sanna = 4,
}

use std::error::Error;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use tempfile::TempDir;
use till_processor::book::Book;
use till_processor::service::{Desk, Options, start_at};
use till_server::settings::CardProcessor;
use till_store::Store;
use tokio::sync::OnceCell;

/// What the harness returns.
pub type Result<T> = std::result::Result<T, Box<dyn Error + Send + Sync>>;

/// The demo, with someone signed in at a place of it.
///
/// # Errors
/// Where the demo cannot be made, or the browser does not start.
pub async fn start(path: &str, who: Who) -> Result<(Till, Browser)> {
    let till = Till::demo().await?;
    let browser = Browser::open().await?;
    browser.sign_in(&till, who).await?;
    browser.go(&till.place(path)).await?;
    Ok((till, browser))
}

/// A running Glad Till with books of its own.
#[allow(missing_debug_implementations)]
pub struct Till {
    /// Where it listens.
    pub address: SocketAddr,
    /// Its books.
    pub store: Store,
    /// Its simulated card processor.
    pub processor: Desk,
    handle: tokio::sync::oneshot::Sender<()>,
    _folder: TempDir,
}

static TEMPLATE: OnceCell<(TempDir, PathBuf, Book)> = OnceCell::const_new();

/// The demo books, made once a process.
async fn template() -> Result<(&'static PathBuf, &'static Book)> {
    let made = TEMPLATE
        .get_or_try_init(|| async {
            let folder = tempfile::tempdir()?;
            let file = folder.path().join("template.db");
            let store = Store::open(&file).await?;
            let book = till_demo::build(&store).await?;
            store.close().await;
            Ok::<_, Box<dyn Error + Send + Sync>>((folder, file, book))
        })
        .await?;
    Ok((&made.1, &made.2))
}

impl Till {
    /// Starts the server with the demo company.
    ///
    /// # Errors
    /// Where the books cannot be made or no port is free.
    pub async fn demo() -> Result<Self> {
        let (template, book) = template().await?;
        let folder = tempfile::tempdir()?;
        let file = folder.path().join("books.db");
        std::fs::copy(template, &file)?;
        let store = Store::open(&file).await?;
        let (address_is, address) = tokio::sync::oneshot::channel();
        let (handle, stop) = tokio::sync::oneshot::channel::<()>();
        let served = store.clone();
        let (key, secret) = ("key of the demo".to_owned(), "secret of the demo".to_owned());
        let processor = Desk::with(
            Options {
                address: SocketAddr::from(([127, 0, 0, 1], 0)),
                key: key.clone(),
                secret: secret.clone(),
                notify: None,
                file: None,
                today: till_demo::BUSINESS_DATE,
                slow: Duration::from_secs(4),
            },
            book.clone(),
        );
        let desk = processor.clone();
        // The server has a thread and a runtime of its own, as in the program.
        std::thread::spawn(move || {
            actix_web::rt::System::new().block_on(async move {
                let Ok(beside) = start_at(desk.clone()) else { return };
                let mut settings = till_server::settings::Settings::for_tests();
                let address = format!("http://{}", beside.address);
                settings.card_processor =
                    Some(CardProcessor { address, key, secret, patience: Duration::from_secs(2) });
                actix_web::rt::spawn(beside.server);
                let Ok(listening) = till_server::listen(served, &settings).await else { return };
                desk.notify(&format!("http://{}/api/card-events", listening.address));
                let server = listening.handle.clone();
                let _ = address_is.send(listening.address);
                actix_web::rt::spawn(async move {
                    let _ = stop.await;
                    server.stop(false).await;
                });
                let _ = listening.server.await;
            });
        });
        Ok(Self { address: address.await?, store, processor, handle, _folder: folder })
    }

    /// An address in it.
    pub fn place(&self, path: &str) -> String {
        format!("http://{}{path}", self.address)
    }

    /// Ends every session, as an administrator or a long lunch would.
    ///
    /// # Errors
    /// Where the books cannot be written.
    pub async fn end_sessions(&self) -> Result<()> {
        let long_ago = till_demo::BUSINESS_DATE.and_time(Default::default()).and_utc();
        self.store.jot(async |connection| till_store::people::sessions::end_all(connection, long_ago).await).await?;
        Ok(())
    }

    /// Puts a customer on hold with a reason, as the program.
    ///
    /// # Errors
    /// Where there is no such customer, or it was changed meanwhile.
    pub async fn stop_customer(&self, id: i64, reason: &str) -> Result<()> {
        let program = till_store::Actor::program(till_demo::BUSINESS_DATE.and_time(Default::default()).and_utc());
        let id = till_core::ids::CustomerId(id);
        self.store
            .change(&program, None, async |writing| {
                let version = till_store::customers::view(writing, id).await?.version;
                till_store::customers::put_on_stop(writing, id, version, reason).await
            })
            .await?;
        Ok(())
    }

    /// Ships `count` small orders of a customer, one shipment each, so that there is more to bill.
    ///
    /// # Errors
    /// Where the books refuse one of them.
    pub async fn ship_more(&self, customer: i64, count: usize) -> Result<()> {
        let program = till_store::Actor::program(till_demo::BUSINESS_DATE.and_time(Default::default()).and_utc());
        self.store
            .change(&program, None, async |writing| {
                let rules = till_store::rules::load(writing).await?;
                for _ in 0..count {
                    let line = till_store::orders::LineForm {
                        item: "LD-GD".to_owned(),
                        quantity: "2".to_owned(),
                        ..Default::default()
                    };
                    let form = till_store::orders::OrderForm {
                        customer: till_core::ids::CustomerId(customer),
                        customer_order_number: Some("more".to_owned()),
                        lines: vec![line],
                        ..Default::default()
                    };
                    let order = till_store::orders::enter_form(writing, &rules, &form, Default::default()).await?;
                    till_store::orders::confirm(writing, order).await?;
                    let shipment = till_store::shipments::start(writing, &rules, order, None).await?;
                    till_store::shipments::post(writing, &rules, shipment, None, till_demo::BUSINESS_DATE).await?;
                }
                Ok(())
            })
            .await?;
        Ok(())
    }

    /// An order of a customer, confirmed and not shipped: so many of an item. Returns its number.
    ///
    /// # Errors
    /// Where the books refuse it.
    pub async fn order(&self, customer: &str, (item, quantity): (&str, &str)) -> Result<String> {
        let program = till_store::Actor::program(till_demo::BUSINESS_DATE.and_time(Default::default()).and_utc());
        let number = self
            .store
            .change(&program, None, async |writing| {
                let rules = till_store::rules::load(writing).await?;
                let found = till_store::customers::list(writing, Some(customer)).await?;
                let customer = found.first().ok_or(till_store::StoreError::NotSetUp)?.id;
                let line = till_store::orders::LineForm {
                    item: item.to_owned(),
                    quantity: quantity.to_owned(),
                    ..Default::default()
                };
                let form = till_store::orders::OrderForm {
                    customer,
                    customer_order_number: Some("by card".to_owned()),
                    lines: vec![line],
                    ..Default::default()
                };
                let order = till_store::orders::enter_form(writing, &rules, &form, Default::default()).await?;
                till_store::orders::confirm(writing, order).await?;
                Ok(till_store::orders::view(writing, order).await?.row.number)
            })
            .await?;
        Ok(number)
    }

    /// Stops it and proves its books.
    ///
    /// # Errors
    /// Names the proofs that fail.
    pub async fn stop_and_verify(self) -> Result<()> {
        let _ = self.handle.send(());
        let mut connection = self.store.read().await?;
        let verification = till_store::verify::verify(&mut connection).await?;
        if verification.holds {
            return Ok(());
        }
        let broken: Vec<_> = verification.proofs.into_iter().filter(|proof| !proof.holds).collect();
        Err(format!("the books do not hold: {broken:#?}").into())
    }
}
