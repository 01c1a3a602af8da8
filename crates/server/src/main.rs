//! The command line of Glad Till.

mod running;

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Parser, Subcommand};
use till_server::settings::{Settings, SettingsError};
use till_store::people::sessions;
use till_store::{Actor, Store, StoreError, copies, people, verify};

/// Glad Till: billing and receivables, from posted shipments to closed orders.
#[derive(Parser)]
#[command(name = "glad-till", version)]
struct CommandLine {
    /// File with settings; see `glad-till config`.
    #[arg(long, env = "GLAD_TILL_CONFIG", global = true)]
    config: Option<PathBuf>,
    /// Folder with the books.
    #[arg(long, global = true)]
    data: Option<PathBuf>,
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serves books that are there already, or new ones.
    Serve {
        #[command(flatten)]
        at: Port,
        /// Begin new books where there are none; the first administrator sets them up.
        #[arg(long)]
        new: bool,
    },
    /// Makes the demo company if it is not there yet, and serves it.
    Demo {
        #[command(flatten)]
        at: Port,
        /// Begin again: the demo books that are there are put aside.
        #[arg(long)]
        fresh: bool,
        /// Only make it, do not serve it.
        #[arg(long)]
        make_only: bool,
    },
    /// Proves the books: every tie-out and invariant. Exit code 1 where one fails.
    Verify {
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Copies the books into a file, while they are in use.
    Backup {
        /// The file to make.
        file: PathBuf,
    },
    /// Puts a copy in the place of the books, once it is proved. What was there is kept beside it.
    Restore {
        /// The copy.
        file: PathBuf,
    },
    /// Shows the settings in force and where each comes from.
    Config,
    /// Prints the OpenAPI document of the API.
    Openapi,
}

#[derive(Args)]
struct Port {
    /// Port to listen on; 0 takes a free one.
    #[arg(long)]
    port: Option<u16>,
}

#[derive(Debug, thiserror::Error)]
enum Failure {
    #[error("{0}")]
    Store(#[from] StoreError),
    #[error("{0}")]
    Settings(#[from] SettingsError),
    #[error("{0}")]
    Listen(#[from] till_server::ListenError),
    #[error("{what}: {error}. {what_to_do}")]
    Io { what: String, error: std::io::Error, what_to_do: String },
    #[error("{0}")]
    Json(#[from] serde_json::Error),
    #[error(
        "There are no books in {0}. Make the demo with `glad-till demo`, begin new ones with `glad-till serve --new`, or name another folder with --data."
    )]
    NoBooks(String),
    #[error("The books do not hold. What fails is listed above; post nothing more and restore a copy that holds.")]
    DoesNotHold,
    #[error("The copy does not hold, so it was not put in place. What fails is listed above; try an older copy.")]
    CopyDoesNotHold,
    #[error("Another Glad Till is using the books in {0}. Stop it first (Ctrl C where it runs), then try again.")]
    InUse(String),
}

#[actix_web::main]
async fn main() -> ExitCode {
    // Books, copies and what is saved from them are for whoever runs the program, and nobody else on the machine.
    running::keep_private();
    match run(CommandLine::parse()).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            let _ = writeln!(std::io::stderr(), "glad-till: {failure}");
            ExitCode::FAILURE
        }
    }
}

async fn run(line: CommandLine) -> Result<(), Failure> {
    let mut flags = Vec::new();
    flags.extend(line.data.as_ref().map(|data| ("data", data.display().to_string())));
    if let Command::Serve { at, .. } | Command::Demo { at, .. } = &line.command {
        flags.extend(at.port.map(|port| ("port", port.to_string())));
    }
    let settings = Settings::load(line.config.as_deref(), |name| std::env::var(name).ok(), &flags)?;
    match line.command {
        Command::Serve { new, .. } => {
            if !new {
                existing(&settings)?;
            }
            running::serve(&settings, &[], None).await
        }
        Command::Demo { fresh, make_only, .. } => {
            make_demo(&settings, fresh).await?;
            let hint: Vec<String> = till_demo::STAFF
                .iter()
                .map(|one| format!("    {:<7} {:<26} {}, {}", one.sign_in, one.password, one.name, one.role.name()))
                .collect();
            if make_only {
                return Ok(());
            }
            let (settings, processor) = running::with_cards(settings)?;
            running::serve(&settings, &hint, processor).await
        }
        Command::Verify { json } => prove(&existing(&settings)?, json).await,
        Command::Backup { file } => {
            copies::backup(&existing(&settings)?, &file).await?;
            say(&format!("● The books are copied to {}.", file.display()));
            Ok(())
        }
        Command::Restore { file } => restore(&settings, &file).await,
        Command::Config => {
            for (key, value, origin) in &settings.shown {
                say(&format!(
                    "{:<20} = {:<24} # {origin}; {} ({})",
                    key.name,
                    format!("{:?}", key.shown(value)),
                    key.about,
                    key.variable
                ));
            }
            Ok(())
        }
        Command::Openapi => {
            let _ = write!(std::io::stdout(), "{}", till_server::openapi()?);
            Ok(())
        }
    }
}

/// Tells the person at the terminal. Where nobody listens any more, the work goes on.
fn say(words: &str) {
    let _ = writeln!(std::io::stdout(), "{words}");
}

fn existing(settings: &Settings) -> Result<PathBuf, Failure> {
    let file = copies::books(&settings.data);
    if file.exists() { Ok(file) } else { Err(Failure::NoBooks(settings.data.display().to_string())) }
}

fn io(what: impl Into<String>, what_to_do: impl Into<String>) -> impl FnOnce(std::io::Error) -> Failure {
    let (what, what_to_do) = (what.into(), what_to_do.into());
    move |error| Failure::Io { what, error, what_to_do }
}

fn cannot_write(folder: &Path) -> impl FnOnce(std::io::Error) -> Failure {
    io(
        format!("The folder {} cannot be written", folder.display()),
        "Make it writable for this user, or name another one with --data or DATA.",
    )
}

/// The demo is built beside its place and moved there when it is whole, so that an interrupted
/// start leaves nothing half made.
async fn make_demo(settings: &Settings, fresh: bool) -> Result<(), Failure> {
    let folder = &settings.data;
    let file = copies::books(folder);
    std::fs::create_dir_all(folder).map_err(cannot_write(folder))?;
    let _held = running::hold(folder)?;
    if file.exists() && !fresh {
        say(&format!("The demo company is in {}; use --fresh to begin again.", file.display()));
        // A demo made before anyone signed in gets its people now.
        let store = Store::open(&file).await?;
        if people::nobody(&mut *store.read().await?).await? {
            till_demo::add_staff(&store, till_demo::BUSINESS_DATE).await?;
        }
        store.close().await;
        return Ok(());
    }
    let building = folder.join("books.building.db");
    for suffix in ["", "-wal", "-shm"] {
        let left_over = folder.join(format!("books.building.db{suffix}"));
        if left_over.exists() {
            std::fs::remove_file(left_over).map_err(cannot_write(folder))?;
        }
    }
    say(&format!(
        "Making Marram Hive Supply in {}: half a year of orders, shipments, invoices and receipts.",
        file.display()
    ));
    let store = Store::open(&building).await?;
    let book = till_demo::build(&store).await?;
    // What the bank says on the evening of that day, to be imported by whoever tries it.
    let said = folder.join("bank-statement-2026-03-18.xml");
    std::fs::write(&said, till_demo::next_statement(&store).await?).map_err(cannot_write(&said))?;
    store.close().await;
    till_processor::service::write(&book, &running::cards_file(folder)).map_err(cannot_write(folder))?;
    if file.exists() {
        for suffix in ["", "-wal", "-shm"] {
            let old = folder.join(format!("books.db{suffix}"));
            if old.exists() {
                std::fs::rename(&old, folder.join(format!("books.before.db{suffix}"))).map_err(cannot_write(folder))?;
            }
        }
    }
    std::fs::rename(&building, &file).map_err(cannot_write(folder))?;
    say(&format!("The bank's statement of 18 March lies in {}: Bank statements, n.", said.display()));
    Ok(())
}

fn list(verification: &verify::Verification) {
    for proof in &verification.proofs {
        say(&format!("{} {}", if proof.holds { "●" } else { "◆" }, proof.name));
        for finding in &proof.findings {
            say(&format!("    {finding}"));
        }
    }
}

async fn prove(file: &Path, json: bool) -> Result<(), Failure> {
    let store = Store::open(file).await?;
    let verification = verify::verify(&mut *store.read().await?).await?;
    store.close().await;
    if json {
        say(&serde_json::to_string_pretty(&verification)?);
    } else {
        list(&verification);
    }
    if verification.holds { Ok(()) } else { Err(Failure::DoesNotHold) }
}

async fn restore(settings: &Settings, file: &Path) -> Result<(), Failure> {
    let folder = &settings.data;
    std::fs::create_dir_all(folder).map_err(cannot_write(folder))?;
    let _held = running::hold(folder)?;
    let (trial, verification) = copies::prove(file, folder).await?;
    if !verification.holds {
        list(&verification);
        copies::drop_trial(&trial)?;
        return Err(Failure::CopyDoesNotHold);
    }
    let mark = chrono::Utc::now().format("%Y-%m-%dT%H%M%S").to_string();
    let kept = copies::put_in_place(&trial, folder, &mark).await?;
    let store = Store::open(&copies::books(folder)).await?;
    let (by, copy) = (Actor::program(chrono::Utc::now()), file.display().to_string());
    store.change(&by, None, async |writing| sessions::restored(writing, &copy).await).await?;
    let people = people::list(&mut *store.read().await?).await?;
    store.close().await;
    say(&format!("● {} holds and is in place. Everyone signs in anew.", file.display()));
    say("  Who may sign in is who might then: look whether someone was sent away since.");
    for one in people.iter().filter(|one| one.active) {
        say(&format!("    {:<12} {}, {}", one.sign_in, one.name, one.role.name()));
    }
    if let Some(kept) = kept {
        say(&format!("  What was there before is kept in {}.", kept.display()));
    }
    Ok(())
}
