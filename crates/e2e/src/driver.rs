//! ChromeDriver, in a process group of its own so that Chromium ends with it.

use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::process::{Child, Command, Stdio};

use crate::Result;

/// A running ChromeDriver.
#[derive(Debug)]
pub struct Driver {
    process: Child,
    /// Where it listens.
    pub address: String,
}

impl Driver {
    /// Starts ChromeDriver on a free port.
    ///
    /// # Errors
    /// Where it is not installed (`make browser` does that) or does not start.
    pub fn start() -> Result<Self> {
        // The port it finds free in one address family may be taken in the other by the time it
        // listens there; it ends then, and is started again.
        Self::start_once().or_else(|_| Self::start_once()).or_else(|_| Self::start_once())
    }

    fn start_once() -> Result<Self> {
        let mut process = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .process_group(0)
            .spawn()
            .map_err(|error| format!("chromedriver cannot be started ({error}); `make browser` installs it"))?;
        let output = process.stdout.take().ok_or("chromedriver has no output")?;
        let mut lines = BufReader::new(output).lines();
        let port = loop {
            let line = lines.next().ok_or("chromedriver ended before it listened")??;
            if let Some((_, rest)) = line.split_once("started successfully on port ") {
                break rest.trim_end_matches('.').to_owned();
            }
        };
        // What it says later is read and dropped, or it would wait for a reader.
        std::thread::spawn(move || lines.for_each(drop));
        Ok(Self { process, address: format!("http://127.0.0.1:{port}") })
    }
}

impl Drop for Driver {
    fn drop(&mut self) {
        let group = format!("-{}", self.process.id());
        let _ = Command::new("kill").args(["-KILL", "--", &group]).status();
        let _ = self.process.wait();
    }
}
