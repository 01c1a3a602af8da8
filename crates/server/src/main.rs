//! The command line of Glad Till.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{Args, Parser, Subcommand};
use till_store::{Store, StoreError, verify};

/// Glad Till: billing and receivables, from posted shipments to closed orders.
#[derive(Parser)]
#[command(name = "glad-till", version)]
struct CommandLine {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Serves books that are there already.
    Serve(Where),
    /// Makes the demo company if it is not there yet, and serves it.
    Demo {
        #[command(flatten)]
        at: Where,
        /// Begin again: the demo books that are there are put aside.
        #[arg(long)]
        fresh: bool,
        /// Only make it, do not serve it.
        #[arg(long)]
        make_only: bool,
    },
    /// Proves the books: every tie-out and invariant. Exit code 1 where one fails.
    Verify {
        #[command(flatten)]
        data: Data,
        /// As JSON.
        #[arg(long)]
        json: bool,
    },
    /// Prints the OpenAPI document of the API.
    Openapi,
}

#[derive(Args)]
struct Data {
    /// Folder with the books.
    #[arg(long, env = "DATA", default_value = "data")]
    data: PathBuf,
}

#[derive(Args)]
struct Where {
    #[command(flatten)]
    data: Data,
    /// Port on 127.0.0.1.
    #[arg(long, env = "PORT", default_value_t = 8484)]
    port: u16,
}

#[derive(Debug, thiserror::Error)]
enum Failure {
    #[error("{0}")]
    Store(#[from] StoreError),
    #[error("{what}: {error}. {what_to_do}")]
    Io { what: String, error: std::io::Error, what_to_do: String },
    #[error("{0}")]
    Json(#[from] serde_json::Error),
    #[error("There are no books in {0}. Make the demo with `glad-till demo`, or name another folder with --data.")]
    NoBooks(String),
    #[error("The books do not hold. What fails is listed above; post nothing more and restore a copy that holds.")]
    DoesNotHold,
}

#[actix_web::main]
async fn main() -> ExitCode {
    tracing_subscriber::fmt()
        .with_env_filter(
            tracing_subscriber::EnvFilter::try_from_default_env().unwrap_or_else(|_| "warn,till_server=info".into()),
        )
        .with_writer(std::io::stderr)
        .init();
    match run(CommandLine::parse().command).await {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => {
            let _ = writeln!(std::io::stderr(), "glad-till: {failure}");
            ExitCode::FAILURE
        }
    }
}

async fn run(command: Command) -> Result<(), Failure> {
    match command {
        Command::Serve(at) => serve(&existing(&at.data)?, at.port).await,
        Command::Demo { at, fresh, make_only } => {
            let file = make_demo(&at.data, fresh).await?;
            if make_only { Ok(()) } else { serve(&file, at.port).await }
        }
        Command::Verify { data, json } => prove(&existing(&data)?, json).await,
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

fn books(data: &Data) -> PathBuf {
    data.data.join("books.db")
}

fn existing(data: &Data) -> Result<PathBuf, Failure> {
    let file = books(data);
    if file.exists() { Ok(file) } else { Err(Failure::NoBooks(data.data.display().to_string())) }
}

fn io(what: impl Into<String>, what_to_do: impl Into<String>) -> impl FnOnce(std::io::Error) -> Failure {
    let (what, what_to_do) = (what.into(), what_to_do.into());
    move |error| Failure::Io { what, error, what_to_do }
}

/// The demo is built beside its place and moved there when it is whole, so that an interrupted
/// start leaves nothing half made.
async fn make_demo(data: &Data, fresh: bool) -> Result<PathBuf, Failure> {
    let folder = &data.data;
    let file = books(data);
    let cannot =
        || io(format!("The folder {} cannot be written", folder.display()), "Name another one with --data or DATA.");
    std::fs::create_dir_all(folder).map_err(cannot())?;
    if file.exists() && !fresh {
        say(&format!("The demo company is in {}; use --fresh to begin again.", file.display()));
        return Ok(file);
    }
    let building = folder.join("books.building.db");
    for suffix in ["", "-wal", "-shm"] {
        let left_over = folder.join(format!("books.building.db{suffix}"));
        if left_over.exists() {
            std::fs::remove_file(left_over).map_err(cannot())?;
        }
    }
    say(&format!(
        "Making Marram Hive Supply in {}: half a year of orders, shipments, invoices and receipts.",
        file.display()
    ));
    let store = Store::open(&building).await?;
    till_demo::build(&store).await?;
    store.close().await;
    if file.exists() {
        for suffix in ["", "-wal", "-shm"] {
            let old = folder.join(format!("books.db{suffix}"));
            if old.exists() {
                std::fs::rename(&old, folder.join(format!("books.before.db{suffix}"))).map_err(cannot())?;
            }
        }
    }
    std::fs::rename(&building, &file).map_err(cannot())?;
    Ok(file)
}

async fn serve(file: &Path, port: u16) -> Result<(), Failure> {
    let store = Store::open(file).await?;
    let listening = till_server::listen(store.clone(), port).map_err(io(
        format!("Port {port} cannot be used"),
        "Is Glad Till running already? Choose another with --port or PORT.",
    ))?;
    say(&format!(
        "Glad Till is on http://{}  (business date and books: {}). Stop it with Ctrl C.",
        listening.address,
        file.display()
    ));
    say("There is no sign-in yet: whoever can use this machine can use these books.");
    listening.server.await.map_err(io("The server stopped", "Start it again."))?;
    store.close().await;
    say("Stopped; the books are closed.");
    Ok(())
}

async fn prove(file: &Path, json: bool) -> Result<(), Failure> {
    let store = Store::open(file).await?;
    let verification = verify::verify(&mut *store.read().await?).await?;
    store.close().await;
    if json {
        say(&serde_json::to_string_pretty(&verification)?);
    } else {
        for proof in &verification.proofs {
            say(&format!("{} {}", if proof.holds { "●" } else { "◆" }, proof.name));
            for finding in &proof.findings {
                say(&format!("    {finding}"));
            }
        }
    }
    if verification.holds { Ok(()) } else { Err(Failure::DoesNotHold) }
}
