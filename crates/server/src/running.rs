//! Serving the books: held by one program, checked at the start, copied each day, closed in order.

use std::fs::{File, TryLockError};
use std::io::IsTerminal;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use till_processor::service::{Options, Running, start};
use till_server::settings::{CardProcessor, Settings};
use till_store::{Store, copies};

use crate::{Failure, cannot_write, io, say};

/// Whatever is written from now on is read by whoever runs the program alone.
pub(crate) fn keep_private() {
    #[cfg(unix)]
    rustix::process::umask(rustix::fs::Mode::RWXG | rustix::fs::Mode::RWXO);
}

/// What the program itself keeps in a folder with books. Whatever else lies there is somebody's own.
#[cfg(unix)]
fn is_ours(name: &str) -> bool {
    name.starts_with("books.")
        || name == "copies"
        || name == "card-processor.json"
        || name.starts_with("bank-statement-")
}

/// Takes what others could read of the books and their copies from them, as it was before the program kept them private. The
/// folder itself where nothing but those lies in it; links are not followed.
#[cfg(unix)]
fn make_private(folder: &Path) -> std::io::Result<()> {
    let (ours, others): (Vec<_>, Vec<_>) =
        inside(folder)?.into_iter().partition(|entry| entry.file_name().to_str().is_some_and(is_ours));
    if others.is_empty() {
        private(folder, true)?;
    }
    for entry in ours.into_iter().chain(inside(&copies::copies(folder))?) {
        let kind = entry.file_type()?;
        if kind.is_dir() || kind.is_file() {
            private(&entry.path(), kind.is_dir())?;
        }
    }
    Ok(())
}

#[cfg(unix)]
fn private(place: &Path, is_folder: bool) -> std::io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let now = std::fs::metadata(place)?.permissions().mode() & 0o777;
    if now & 0o077 != 0 {
        let own = if is_folder { 0o700 } else { 0o600 };
        std::fs::set_permissions(place, std::fs::Permissions::from_mode(now & own))?;
        tracing::warn!(place = %place.display(), was = format!("{now:o}"), "others could read this; now they cannot");
    }
    Ok(())
}

/// What lies in a folder; nothing where there is none.
#[cfg(unix)]
fn inside(folder: &Path) -> std::io::Result<Vec<std::fs::DirEntry>> {
    if folder.exists() { std::fs::read_dir(folder)?.collect() } else { Ok(Vec::new()) }
}

#[cfg(not(unix))]
fn make_private(_: &Path) -> std::io::Result<()> {
    Ok(())
}

/// Holds the books of a folder for this program alone, until it is dropped.
pub(crate) fn hold(folder: &Path) -> Result<File, Failure> {
    let file = folder.join("books.lock");
    let lock = File::options().create(true).append(true).open(&file).map_err(cannot_write(folder))?;
    match lock.try_lock() {
        Ok(()) => Ok(lock),
        Err(TryLockError::WouldBlock) => Err(Failure::InUse(folder.display().to_string())),
        Err(TryLockError::Error(error)) => Err(cannot_write(folder)(error)),
    }
}

fn log(settings: &Settings) {
    let filter = tracing_subscriber::EnvFilter::try_from_default_env()
        .unwrap_or_else(|_| "warn,till_server=info,glad_till=info".into());
    let colours = std::io::stderr().is_terminal();
    let log = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr).with_ansi(colours);
    if settings.json_log {
        log.json().flatten_event(true).init();
    } else {
        log.init();
    }
}

/// What the simulated card processor of the demo knows.
pub(crate) fn cards_file(folder: &Path) -> PathBuf {
    folder.join("card-processor.json")
}

/// The demo takes cards: where no processor is named, a simulated one is started beside it.
pub(crate) fn with_cards(mut settings: Settings) -> Result<(Settings, Option<Running>), Failure> {
    if settings.card_processor.is_some() {
        return Ok((settings, None));
    }
    let (key, secret) = (uuid::Uuid::new_v4().to_string(), uuid::Uuid::new_v4().to_string());
    let options = Options {
        address: SocketAddr::from(([127, 0, 0, 1], 0)),
        key: key.clone(),
        secret: secret.clone(),
        notify: None,
        file: Some(cards_file(&settings.data)),
        today: till_demo::BUSINESS_DATE,
        slow: Duration::from_secs(20),
    };
    let running = start(options).map_err(io(
        "The simulated card processor cannot be started",
        "Look at card-processor.json beside the books, or name another processor with card_processor.",
    ))?;
    let address = format!("http://{}", running.address);
    settings.card_processor = Some(CardProcessor { address, key, secret, patience: Duration::from_secs(10) });
    Ok((settings, Some(running)))
}

pub(crate) async fn serve(settings: &Settings, hint: &[String], cards: Option<Running>) -> Result<(), Failure> {
    log(settings);
    let folder = &settings.data;
    std::fs::create_dir_all(folder).map_err(cannot_write(folder))?;
    let _held = hold(folder)?;
    if let Err(error) = make_private(folder) {
        tracing::warn!(%error, folder = %folder.display(), "what others can read of the books could not be taken from them");
    }
    let file = copies::books(folder);
    if file.exists() {
        copies::sound(&file).await?;
    }
    let store = Store::open(&file).await?;
    copy_today(settings).await;
    let copying = settings.clone();
    actix_web::rt::spawn(async move {
        loop {
            actix_web::rt::time::sleep(Duration::from_secs(600)).await;
            copy_today(&copying).await;
        }
    });
    let listening = till_server::listen(store.clone(), settings).await?;
    let scheme = if settings.serves_tls() { "https" } else { "http" };
    say(&format!(
        "Glad Till is on {scheme}://{}  (business date and books: {}). Stop it with Ctrl C.",
        listening.address,
        file.display()
    ));
    if let Some(code) = &listening.start_code {
        say(&format!("These books wait for their first administrator. The code to set them up: {code}"));
    }
    if !hint.is_empty() {
        say("Sign in to the demo with one of these names and passwords:");
        for line in hint {
            say(line);
        }
    }
    if let Some(cards) = cards {
        cards.desk.notify(&format!("{scheme}://{}/api/card-events", listening.address));
        say(&format!("Its simulated card processor is on http://{}", cards.address));
        actix_web::rt::spawn(cards.server);
    }
    listening.server.await.map_err(io("The server stopped", "Start it again."))?;
    store.close().await;
    say("Stopped; the books are closed.");
    Ok(())
}

/// Makes today's copy. Where that fails the work goes on, and the log says so.
async fn copy_today(settings: &Settings) {
    if settings.copies == 0 {
        return;
    }
    match copies::daily(&settings.data, chrono::Local::now().date_naive(), settings.copies).await {
        Ok(Some(copy)) => tracing::info!(copy = %copy.display(), "today's copy of the books is made"),
        Ok(None) => {}
        Err(error) => tracing::error!(%error, "today's copy of the books could not be made"),
    }
}
