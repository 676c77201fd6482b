use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};

use regnant_base::Network;
use regnant_journal::Keep;
use serde::de::Error as _;
use serde::{Deserialize, Deserializer};
use thiserror::Error;

/// The configuration file: where to listen, and where the key is. What a policy
/// needs (equipment, people, rules) stands in the records instead.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Config {
    /// The RADIUS side.
    pub radius: RadiusConfig,
    /// The HTTP side.
    pub api: ApiConfig,
    /// The journal.
    pub journal: KeepConfig,
    /// What equipment reports of the access that it gives.
    pub accounting: KeepConfig,
    /// Keys.
    pub keys: KeysConfig,
    /// Administrators who come from a directory.
    pub administrators: AdministratorsConfig,
    /// Directories, services and responders that are asked.
    pub outside: OutsideConfig,
}

/// Where whoever is asked may be.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct OutsideConfig {
    /// Networks to which the service never goes, whatever a store, a trust, a certificate or a name server says:
    /// `["169.254.0.0/16", "fe80::/10"]` if not said, where clouds keep what only machines may know.
    #[serde(deserialize_with = "networks")]
    pub never: Vec<Network>,
}

fn networks<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<Network>, D::Error> {
    let texts = Vec::<String>::deserialize(from)?;
    texts.iter().map(|text| text.parse().map_err(D::Error::custom)).collect()
}

impl Default for OutsideConfig {
    fn default() -> Self {
        Self { never: ["169.254.0.0/16", "fe80::/10"].map(|network| network.parse().expect("a block")).into() }
    }
}

/// Who may sign in to console and API by an account of a directory: whoever is in one of these
/// groups, in the role of the first list that has one. A name that the records have an administrator
/// of is never asked about there.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct AdministratorsConfig {
    /// The directory, by the name of its store; nobody comes from one if not said.
    pub store: Option<String>,
    /// Groups whose members are engineers, by short or distinguished name.
    pub engineer: Vec<String>,
    /// Groups whose members are helpdesk.
    pub helpdesk: Vec<String>,
    /// Groups whose members are auditors.
    pub auditor: Vec<String>,
    /// For how many seconds a role counts until it is looked up again; 300 if not said, which is the
    /// most.
    #[serde(rename = "look-again-seconds")]
    pub look_again_seconds: Option<u64>,
}

/// How much is kept of the journal, or of accounting. What is too old, or too much, is
/// deleted a whole file at a time, the oldest first; a file holds a day, or 1 GB of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct KeepConfig {
    /// For how many days it is kept: `"90d"` if not said.
    pub keep: Days,
    /// How much of it is kept: `"20 GB"` if not said. `MB`, `GB` and `TB` are powers of
    /// 1,000.
    #[serde(rename = "at-most")]
    pub at_most: Bytes,
}

/// A number of days, written `90d`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Days(pub u32);

/// A number of bytes, written `500 MB`, `20 GB` or `1 TB`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Bytes(pub u64);

impl TryFrom<String> for Days {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let days = text.trim().strip_suffix('d').and_then(|days| days.trim().parse().ok());
        days.filter(|days| *days > 0).map(Self).ok_or_else(|| format!("`{text}` is no number of days, such as \"90d\""))
    }
}

impl TryFrom<String> for Bytes {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let wrong = || format!("`{text}` is no number of bytes, such as \"500 MB\" or \"20 GB\"");
        let (number, unit) = text.trim().split_at_checked(text.trim().len().saturating_sub(2)).ok_or_else(wrong)?;
        let power = match unit {
            "MB" => 1_000_000,
            "GB" => 1_000_000_000,
            "TB" => 1_000_000_000_000,
            _ => return Err(wrong()),
        };
        let number: u64 = number.trim().parse().map_err(|_| wrong())?;
        number.checked_mul(power).filter(|bytes| *bytes > 0).map(Self).ok_or_else(wrong)
    }
}

impl KeepConfig {
    pub(crate) fn keep(&self) -> Keep {
        Keep { days: self.keep.0, at_most: self.at_most.0 }
    }
}

impl Default for KeepConfig {
    fn default() -> Self {
        let Keep { days, at_most } = Keep::default();
        Self { keep: Days(days), at_most: Bytes(at_most) }
    }
}

/// The RADIUS side.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct RadiusConfig {
    /// Where to listen for authentication; `["0.0.0.0:1812", "[::]:1812"]` if not
    /// said (RFC 2865 section 3).
    pub authentication: Vec<SocketAddr>,
    /// Where to listen for accounting; `["0.0.0.0:1813", "[::]:1813"]` if not said (RFC 2866
    /// section 3), and nowhere if the list is empty.
    pub accounting: Vec<SocketAddr>,
    /// How many threads receive requests for access; 0 means one for each processor.
    pub receivers: usize,
    /// For how many seconds an EAP conversation waits for its supplicant; 60 if
    /// not said. People need time to accept a certificate; every conversation
    /// costs memory as long as it waits.
    pub conversation_seconds: Option<u64>,
    /// How often a person may type a password anew in one conversation of
    /// EAP-MSCHAPv2; 0 if not said. Supplicants that ask nobody then say nothing
    /// more, so that a wrong password shows only when their time is up.
    pub password_retries: u8,
}

/// The HTTP side.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct ApiConfig {
    /// Where console and API listen; `127.0.0.1:8480` if not said.
    pub listen: SocketAddr,
    /// Whether they speak TLS; if not said, they do wherever others than this machine can
    /// reach them, unless a proxy is named, and where a certificate is named.
    pub tls: Option<bool>,
    /// The certificate that they present, by its name in the records; if not said, or while
    /// there is none of that name, one that vouches for itself and was made at the first
    /// start.
    pub certificate: Option<String>,
    /// `"I accept"` where everybody on the way may read passwords: plain HTTP on an address
    /// that others can reach, and no proxy with TLS in front of it.
    #[serde(rename = "plain-http")]
    pub plain_http: Option<String>,
    /// The names by which people call the console; none if not said, and then it is
    /// reached by address and as `localhost` alone. A name that is not here is
    /// refused: somebody's page could point a name of its own at this address.
    pub hosts: Vec<String>,
    /// The addresses of proxies in front; none if not said. Their X-Forwarded-For,
    /// X-Forwarded-Host and X-Forwarded-Proto are believed, nobody else's: whoever
    /// stands here can say that they are anybody.
    pub proxies: Vec<IpAddr>,
}

/// What is to be written by whoever wants plain HTTP on a network.
const ACCEPTED: &str = "I accept";

/// Keys.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct KeysConfig {
    /// The file of the key that secrets are sealed under; made if it does not
    /// exist. A relative path is taken from the data directory. Losing it loses
    /// every stored secret; keep a copy away from the database.
    pub sealing: PathBuf,
}

impl Default for RadiusConfig {
    fn default() -> Self {
        let everywhere = |port| vec![([0, 0, 0, 0], port).into(), ([0u16; 8], port).into()];
        let (authentication, accounting) = (everywhere(1812), everywhere(1813));
        Self { authentication, accounting, receivers: 0, conversation_seconds: None, password_retries: 0 }
    }
}

impl Default for ApiConfig {
    fn default() -> Self {
        Self {
            listen: ([127, 0, 0, 1], 8480).into(),
            tls: None,
            certificate: None,
            plain_http: None,
            hosts: Vec::new(),
            proxies: Vec::new(),
        }
    }
}

impl ApiConfig {
    /// Whether console and API speak TLS.
    pub(crate) fn speaks_tls(&self) -> bool {
        let open = !self.listen.ip().is_loopback() && self.proxies.is_empty() && self.plain_http.is_none();
        self.tls.unwrap_or(open || self.certificate.is_some())
    }

    /// Whether only proxies are heard: they speak TLS in our place.
    pub(crate) fn only_proxies(&self) -> bool {
        !self.speaks_tls() && !self.listen.ip().is_loopback() && self.plain_http.is_none()
    }

    /// Whether others than this machine speak plain HTTP to it, with no proxy between.
    pub(crate) fn in_plain_text(&self) -> bool {
        !self.speaks_tls() && !self.listen.ip().is_loopback() && self.proxies.is_empty()
    }

    fn check(&self) -> Result<(), String> {
        if self.plain_http.as_ref().is_some_and(|word| word != ACCEPTED) {
            return Err(format!(
                "`plain-http` under [api] is \"{ACCEPTED}\" where everybody on the way may read passwords, or is left out"
            ));
        }
        if self.speaks_tls() {
            return Ok(());
        }
        if self.certificate.is_some() {
            return Err("`certificate` under [api] needs TLS: leave out `tls`, or leave out the certificate".into());
        }
        if self.only_proxies() && self.proxies.is_empty() {
            return Err(format!(
                "console and API would listen on {} without TLS, and everybody on the way would read passwords: leave out \
                 `tls` under [api], name the proxy with TLS that stands in front under `proxies`, or write \
                 plain-http = \"{ACCEPTED}\"",
                self.listen
            ));
        }
        Ok(())
    }
}

impl Default for KeysConfig {
    fn default() -> Self {
        Self { sealing: "sealing.key".into() }
    }
}

impl Config {
    /// Reads a configuration file.
    pub fn read(path: &Path) -> Result<Self, ConfigError> {
        let text = fs::read_to_string(path).map_err(|error| ConfigError::Unreadable(path.into(), error))?;
        let config: Self = toml::from_str(&text).map_err(|error| ConfigError::Wrong(path.into(), error.to_string()))?;
        config.check().map_err(|what| ConfigError::Wrong(path.into(), what))?;
        Ok(config)
    }

    /// What TOML does not tell.
    fn check(&self) -> Result<(), String> {
        if self.radius.authentication.is_empty() {
            return Err(
                "`authentication` names no address, so nobody could ask; leave it out for port 1812, or name one"
                    .into(),
            );
        }
        self.api.check()?;
        if self.radius.conversation_seconds.is_some_and(|seconds| !(1..=300).contains(&seconds)) {
            return Err("`conversation_seconds` is 1 to 300: how long a supplicant may take to answer".into());
        }
        Ok(())
    }
}

/// Why a configuration file cannot be used.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum ConfigError {
    /// It cannot be read.
    #[error("the configuration {path} cannot be read: {1}", path = .0.display())]
    Unreadable(PathBuf, #[source] std::io::Error),
    /// It does not say what is expected.
    #[error("the configuration {path} is wrong: {1}", path = .0.display())]
    Wrong(PathBuf, String),
}
