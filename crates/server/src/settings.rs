//! How Glad Till runs: by default, by file, by environment, by flag, each over the one before.
//!
//! `glad-till config` shows what is in force and where each value comes from.

use std::collections::BTreeMap;
use std::net::IpAddr;
use std::path::{Path, PathBuf};

use till_core::people::SessionLength;

/// A setting: its name in the file, its variable, its default, what it is for.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Name in the file.
    pub name: &'static str,
    /// Environment variable.
    pub variable: &'static str,
    /// Value where nobody says another.
    pub default: &'static str,
    /// What it is for.
    pub about: &'static str,
    /// Whether its value is never shown.
    pub secret: bool,
}

impl Key {
    const fn secret(mut self) -> Self {
        self.secret = true;
        self
    }

    /// A value of it, as it may be shown.
    pub fn shown<'a>(&self, value: &'a str) -> &'a str {
        if self.secret && !value.is_empty() { "(not shown)" } else { value }
    }
}

const fn key(name: &'static str, variable: &'static str, default: &'static str, about: &'static str) -> Key {
    Key { name, variable, default, about, secret: false }
}

/// Every setting.
pub const KEYS: &[Key] = &[
    key("data", "DATA", "data", "folder with the books"),
    key("port", "PORT", "8484", "port to listen on; 0 takes a free one"),
    key("listen", "GLAD_TILL_LISTEN", "127.0.0.1", "address to listen on"),
    key("hosts", "GLAD_TILL_HOSTS", "", "further names the application is reached by, with commas between"),
    key(
        "public_address",
        "GLAD_TILL_PUBLIC_ADDRESS",
        "",
        "where customers reach their pages; none: as who makes a link",
    ),
    key("tls_certificate", "GLAD_TILL_TLS_CERTIFICATE", "", "file with the certificate chain (PEM), to serve TLS"),
    key("tls_key", "GLAD_TILL_TLS_KEY", "", "file with its private key (PEM)"),
    key("trusted_proxies", "GLAD_TILL_TRUSTED_PROXIES", "", "addresses whose X-Forwarded-* headers are believed"),
    key("idle_minutes", "GLAD_TILL_IDLE_MINUTES", "30", "a session ends after so long without a request"),
    key("session_hours", "GLAD_TILL_SESSION_HOURS", "12", "a session ends after so long in any case"),
    key(
        "requests_per_second",
        "GLAD_TILL_REQUESTS_PER_SECOND",
        "50",
        "from one address, with bursts of four times that; customers' pages take a tenth of it",
    ),
    key(
        "sign_ins_per_minute",
        "GLAD_TILL_SIGN_INS_PER_MINUTE",
        "20",
        "tries to sign in from one address; half as many links that lead nowhere",
    ),
    key(
        "insecure",
        "GLAD_TILL_INSECURE",
        "no",
        "yes serves other machines without TLS and without a proxy: passwords can be read on the way",
    ),
    key("copies", "GLAD_TILL_COPIES", "14", "daily copies to keep; 0 makes none"),
    key("card_processor", "GLAD_TILL_CARD_PROCESSOR", "", "address of the card processor; none takes no cards"),
    key("card_key", "GLAD_TILL_CARD_KEY", "", "what we are known by at the card processor").secret(),
    key("card_secret", "GLAD_TILL_CARD_SECRET", "", "signs what the card processor tells us").secret(),
    key("card_seconds", "GLAD_TILL_CARD_SECONDS", "10", "so long an answer of the card processor is waited for"),
    key("log", "GLAD_TILL_LOG", "text", "how the log is written: text or json"),
];

/// The settings in force.
#[derive(Debug, Clone)]
pub struct Settings {
    /// Folder with the books.
    pub data: PathBuf,
    /// Port.
    pub port: u16,
    /// Address.
    pub listen: IpAddr,
    /// Names the application is reached by, beside those of this machine.
    pub hosts: Vec<String>,
    /// Where customers reach their pages, without a slash at its end; none for the address a link is made at.
    pub public_address: Option<String>,
    /// Certificate and key.
    pub tls: Option<(PathBuf, PathBuf)>,
    /// Proxies whose headers are believed.
    pub trusted_proxies: Vec<IpAddr>,
    /// How long sessions last.
    pub session: SessionLength,
    /// Requests a second from one address.
    pub requests_per_second: u32,
    /// Sign-ins a minute from one address.
    pub sign_ins_per_minute: u32,
    /// Daily copies to keep.
    pub copies: usize,
    /// The card processor; none where no cards are taken.
    pub card_processor: Option<CardProcessor>,
    /// Whether the log is JSON.
    pub json_log: bool,
    /// Every value with where it comes from, as shown.
    pub shown: Vec<(&'static Key, String, String)>,
}

/// Where the card processor is, and what the two know each other by.
#[derive(Clone)]
pub struct CardProcessor {
    /// Its address, without a slash at its end.
    pub address: String,
    /// What we are known by there.
    pub key: String,
    /// Signs what it tells us.
    pub secret: String,
    /// So long an answer is waited for.
    pub patience: std::time::Duration,
}

impl std::fmt::Debug for CardProcessor {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.debug_struct("CardProcessor").field("address", &self.address).finish_non_exhaustive()
    }
}

/// What is wrong with the settings.
#[derive(Debug, thiserror::Error)]
pub enum SettingsError {
    /// The file cannot be read.
    #[error("The settings file {file} cannot be read: {error}")]
    File {
        /// Which.
        file: String,
        /// Why.
        error: String,
    },
    /// A name nobody knows.
    #[error("The settings file has “{0}”, which is no setting. `glad-till config` lists them.")]
    Unknown(String),
    /// A value that cannot be.
    #[error("The setting {name} (from {origin}) is “{value}”: {why}")]
    Value {
        /// Which setting.
        name: &'static str,
        /// Where it comes from.
        origin: String,
        /// What it is.
        value: String,
        /// What it should be.
        why: String,
    },
}

/// Reads the file of settings: one `name = value` a line, TOML.
fn read_file(file: &Path) -> Result<BTreeMap<String, String>, SettingsError> {
    let fault = |error: String| SettingsError::File { file: file.display().to_string(), error };
    let text = std::fs::read_to_string(file).map_err(|error| fault(error.to_string()))?;
    let table: toml::Table = text.parse().map_err(|error: toml::de::Error| fault(error.message().to_owned()))?;
    table
        .into_iter()
        .map(|(name, value)| {
            if !KEYS.iter().any(|key| key.name == name) {
                return Err(SettingsError::Unknown(name));
            }
            let text = match value {
                toml::Value::String(text) => text,
                toml::Value::Array(parts) => {
                    parts.iter().map(|part| part.as_str().unwrap_or_default()).collect::<Vec<_>>().join(",")
                }
                other => other.to_string(),
            };
            Ok((name, text))
        })
        .collect()
}

impl Settings {
    /// The settings from all their sources. `flags` are those of the command line, by name.
    ///
    /// # Errors
    /// A file that cannot be read, a name nobody knows, a value that cannot be.
    pub fn load(
        file: Option<&Path>,
        variable: impl Fn(&str) -> Option<String>,
        flags: &[(&str, String)],
    ) -> Result<Self, SettingsError> {
        let from_file = file.map(read_file).transpose()?.unwrap_or_default();
        let mut shown = Vec::with_capacity(KEYS.len());
        for key in KEYS {
            let flag = flags.iter().find(|(name, _)| *name == key.name).map(|(_, value)| value.clone());
            let (value, origin) = flag
                .map(|value| (value, format!("--{}", key.name)))
                .or_else(|| variable(key.variable).map(|value| (value, key.variable.to_owned())))
                .or_else(|| from_file.get(key.name).map(|value| (value.clone(), "file".to_owned())))
                .unwrap_or_else(|| (key.default.to_owned(), "default".to_owned()));
            shown.push((key, value.trim().to_owned(), origin));
        }
        Self::of(shown)
    }

    /// The defaults, on a free port: for tests and the screenshots.
    ///
    /// # Panics
    /// Never: the defaults are sound, and a test proves it.
    #[allow(clippy::expect_used)]
    pub fn for_tests() -> Self {
        let flags = ["port", "requests_per_second", "sign_ins_per_minute", "copies"];
        let values = ["0", "100000", "10000", "0"];
        let flags: Vec<_> = flags.into_iter().zip(values.map(str::to_owned)).collect();
        Self::load(None, |_| None, &flags).expect("the defaults are sound")
    }

    fn of(shown: Vec<(&'static Key, String, String)>) -> Result<Self, SettingsError> {
        let read = Reader { shown: &shown };
        let tls = match (read.text("tls_certificate"), read.text("tls_key")) {
            ("", "") => None,
            ("", _) => return Err(read.wrong("tls_certificate", "name the certificate too, or leave the key out")),
            (_, "") => return Err(read.wrong("tls_key", "name the key too, or leave the certificate out")),
            (certificate, key) => Some((certificate.into(), key.into())),
        };
        let json_log = match read.text("log") {
            "json" => true,
            "text" => false,
            _ => return Err(read.wrong("log", "write text or json")),
        };
        let address = read.text("card_processor").trim_end_matches('/');
        let card_processor = match (address, read.text("card_key"), read.text("card_secret")) {
            ("", ..) => None,
            (address, ..) if !address.starts_with("http://") && !address.starts_with("https://") => {
                return Err(read.wrong("card_processor", "write an address that begins with http:// or https://"));
            }
            (_, "", _) => return Err(read.wrong("card_key", "name the key the processor gave the company")),
            (_, _, "") => return Err(read.wrong("card_secret", "name the secret the processor signs with")),
            (address, key, secret) => Some(CardProcessor {
                address: address.to_owned(),
                key: key.to_owned(),
                secret: secret.to_owned(),
                patience: std::time::Duration::from_secs(read.number("card_seconds", 1, 120)?),
            }),
        };
        let public_address = match read.text("public_address").trim_end_matches('/') {
            "" => None,
            address if address.starts_with("http://") || address.starts_with("https://") => Some(address.to_owned()),
            _ => return Err(read.wrong("public_address", "write an address that begins with http:// or https://")),
        };
        let insecure = match read.text("insecure") {
            "yes" => true,
            "no" => false,
            _ => return Err(read.wrong("insecure", "write yes or no")),
        };
        let listen: IpAddr = read.parsed("listen", "an address such as 127.0.0.1 or 0.0.0.0")?;
        let in_the_open = tls.is_none() && read.text("trusted_proxies").is_empty();
        if !listen.is_loopback() && in_the_open && !insecure {
            let why = "other machines would send passwords that can be read on the way. Name tls_certificate and tls_key, or the \
                       proxy that serves TLS in trusted_proxies; or write insecure = yes";
            return Err(read.wrong("listen", why));
        }
        Ok(Self {
            public_address,
            card_processor,
            data: read.text("data").into(),
            port: read.number("port", 0, 65_535)?,
            listen,
            hosts: read.list("hosts").map(str::to_lowercase).collect(),
            tls,
            trusted_proxies: read
                .list("trusted_proxies")
                .map(|part| part.parse().map_err(|_| read.wrong("trusted_proxies", "addresses with commas between")))
                .collect::<Result<_, _>>()?,
            session: SessionLength {
                idle: chrono::Duration::minutes(read.number("idle_minutes", 1, 1_440)?),
                whole: chrono::Duration::hours(read.number("session_hours", 1, 168)?),
            },
            requests_per_second: read.number("requests_per_second", 1, 1_000_000)?,
            sign_ins_per_minute: read.number("sign_ins_per_minute", 1, 100_000)?,
            copies: read.number("copies", 0, 10_000)?,
            json_log,
            shown,
        })
    }

    /// Whether the browser talks to this program by TLS.
    pub fn serves_tls(&self) -> bool {
        self.tls.is_some()
    }
}

struct Reader<'a> {
    shown: &'a [(&'static Key, String, String)],
}

impl<'a> Reader<'a> {
    fn find(&self, name: &str) -> Option<&'a (&'static Key, String, String)> {
        self.shown.iter().find(|(key, ..)| key.name == name)
    }

    fn text(&self, name: &str) -> &'a str {
        self.find(name).map_or("", |(_, value, _)| value.as_str())
    }

    fn list(&self, name: &str) -> impl Iterator<Item = &'a str> {
        self.text(name).split(',').map(str::trim).filter(|part| !part.is_empty())
    }

    fn wrong(&self, name: &'static str, why: impl Into<String>) -> SettingsError {
        let (value, origin) =
            self.find(name).map(|(_, value, origin)| (value.clone(), origin.clone())).unwrap_or_default();
        SettingsError::Value { name, origin, value, why: why.into() }
    }

    fn parsed<T: std::str::FromStr>(&self, name: &'static str, wanted: &str) -> Result<T, SettingsError> {
        self.text(name).parse().map_err(|_| self.wrong(name, format!("write {wanted}")))
    }

    fn number<T: TryFrom<i64>>(&self, name: &'static str, low: i64, high: i64) -> Result<T, SettingsError> {
        let wrong = || self.wrong(name, format!("write a whole number from {low} to {high}"));
        let number: i64 = self.text(name).parse().map_err(|_| wrong())?;
        if (low..=high).contains(&number) { T::try_from(number).map_err(|_| wrong()) } else { Err(wrong()) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn load(file: Option<&Path>, variables: &[(&str, &str)], flags: &[(&str, &str)]) -> Result<Settings, String> {
        let flags: Vec<_> = flags.iter().map(|(name, value)| (*name, (*value).to_owned())).collect();
        let variable =
            |name: &str| variables.iter().find(|(known, _)| *known == name).map(|(_, value)| (*value).to_owned());
        Settings::load(file, variable, &flags).map_err(|error| error.to_string())
    }

    #[test]
    fn each_source_goes_over_the_one_before() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("till.toml");
        std::fs::write(&file, "port = 1001\nidle_minutes = 5\nhosts = [\"Till.example\", \"books\"]\n").unwrap();
        let settings = load(Some(&file), &[("PORT", "1002"), ("GLAD_TILL_LOG", "json")], &[("port", "1003")]).unwrap();
        assert_eq!((settings.port, settings.json_log, settings.copies), (1003, true, 14));
        assert_eq!(settings.session.idle, chrono::Duration::minutes(5));
        assert_eq!(settings.hosts, ["till.example", "books"]);
        let origins: Vec<&str> = settings.shown.iter().map(|(_, _, origin)| origin.as_str()).collect();
        assert_eq!(origins[..4], ["default", "--port", "default", "file"]);
    }

    #[test]
    fn what_cannot_be_is_said_with_its_place() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("till.toml");
        let said = load(None, &[("PORT", "99999")], &[]).unwrap_err();
        assert_eq!(said, "The setting port (from PORT) is “99999”: write a whole number from 0 to 65535");
        std::fs::write(&file, "prot = 1").unwrap();
        assert!(load(Some(&file), &[], &[]).unwrap_err().contains("“prot”, which is no setting"));
        std::fs::write(&file, "port = ").unwrap();
        assert!(load(Some(&file), &[], &[]).unwrap_err().contains("cannot be read"));
        assert!(load(None, &[("GLAD_TILL_TLS_KEY", "k.pem")], &[]).unwrap_err().contains("name the certificate too"));
        let cards = [("GLAD_TILL_CARD_PROCESSOR", "http://127.0.0.1:9/"), ("GLAD_TILL_CARD_KEY", "k")];
        assert!(load(None, &cards, &[]).unwrap_err().contains("card_secret"));
        let both = [cards[0], cards[1], ("GLAD_TILL_CARD_SECRET", "hush")];
        let settings = load(None, &both, &[]).unwrap();
        assert_eq!(settings.card_processor.as_ref().unwrap().address, "http://127.0.0.1:9");
        assert!(!format!("{:?}", settings.card_processor).contains("hush"), "secrets are never written");
        let shown = |name: &str| {
            settings.shown.iter().find(|(key, ..)| key.name == name).map(|(key, value, _)| key.shown(value))
        };
        assert_eq!((shown("card_secret"), shown("port")), (Some("(not shown)"), Some("8484")));
        assert!(load(None, &[("GLAD_TILL_PUBLIC_ADDRESS", "till.example")], &[]).unwrap_err().contains("http://"));
        let public = load(None, &[("GLAD_TILL_PUBLIC_ADDRESS", "https://till.example/")], &[]).unwrap().public_address;
        assert_eq!(public.as_deref(), Some("https://till.example"));
        assert!(load(None, &[("GLAD_TILL_CARD_PROCESSOR", "localhost")], &[]).unwrap_err().contains("http://"));
        assert!(load(None, &[("GLAD_TILL_LISTEN", "here")], &[]).unwrap_err().contains("127.0.0.1"));
        assert!(load(Some(&folder.path().join("none")), &[], &[]).unwrap_err().contains("cannot be read"));
        assert_eq!(Settings::for_tests().port, 0);
    }
}
