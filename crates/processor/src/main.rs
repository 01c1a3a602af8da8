//! The simulated card processor as a program of its own.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

use chrono::NaiveDate;
use clap::Parser;
use std::io::Write as _;
use till_processor::service::{Options, start};

/// A simulated card processor, to work and test against without a network.
#[derive(Parser)]
struct CommandLine {
    /// Where it listens.
    #[arg(long, default_value = "127.0.0.1:8486")]
    listen: SocketAddr,
    /// What callers send as their bearer token.
    #[arg(long, env = "CARD_PROCESSOR_KEY")]
    key: String,
    /// Signs its notifications.
    #[arg(long, env = "CARD_PROCESSOR_SECRET")]
    secret: String,
    /// Where its notifications go, such as http://127.0.0.1:8484/api/card-events.
    #[arg(long)]
    notify: Option<String>,
    /// The file it is kept in.
    #[arg(long)]
    file: Option<PathBuf>,
    /// Its today, where it begins anew; none for the day on the wall.
    #[arg(long)]
    today: Option<NaiveDate>,
}

#[actix_web::main]
async fn main() -> ExitCode {
    let line = CommandLine::parse();
    let options = Options {
        address: line.listen,
        key: line.key,
        secret: line.secret,
        notify: line.notify,
        file: line.file,
        today: line.today.unwrap_or_else(|| chrono::Utc::now().date_naive()),
        slow: Duration::from_secs(20),
    };
    let ended = match start(options) {
        Ok(running) => {
            let _ = writeln!(std::io::stdout(), "The card processor listens on http://{}", running.address);
            running.server.await
        }
        Err(error) => Err(error),
    };
    match ended {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            let _ = writeln!(std::io::stderr(), "card-processor: {error}. Choose another address with --listen.");
            ExitCode::FAILURE
        }
    }
}
