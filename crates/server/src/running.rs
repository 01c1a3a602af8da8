//! Serving the books: held by one program, checked at the start, copied each day, closed in order.

use std::fs::{File, TryLockError};
use std::io::IsTerminal;
use std::path::Path;
use std::time::Duration;

use till_server::settings::Settings;
use till_store::{Store, copies};

use crate::{Failure, cannot_write, io, say};

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

pub(crate) async fn serve(settings: &Settings, hint: &[String]) -> Result<(), Failure> {
    log(settings);
    let folder = &settings.data;
    std::fs::create_dir_all(folder).map_err(cannot_write(folder))?;
    let _held = hold(folder)?;
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
