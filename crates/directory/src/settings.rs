//! How a directory is asked.

use std::net::IpAddr;
use std::time::Duration;

use regnant_base::Mac;
use regnant_outside::{Realms, RealmsError, Told};
use serde::{Deserialize, Serialize};
use thiserror::Error;
use url::{Host, Url};

use crate::domain::ControllerPlace;
use crate::names::is_filter;

/// How a directory is asked, as people write it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct DirectorySettings {
    /// Its servers, the one that is asked first in front: `ldaps://HOST[:PORT]`, or
    /// `ldap://HOST[:PORT]`, on which TLS is started (RFC 4513 section 3).
    pub servers: Vec<String>,
    /// The trust whose authorities issued the servers' certificates; the system's where none.
    pub trust: Option<String>,
    /// Whom searches are bound as; nobody where it is empty.
    pub bind_as: String,
    /// Below which entry everything is searched.
    pub base: String,
    /// What people have in common (RFC 4515).
    pub person_filter: String,
    /// The attributes by any of which a person is found; the account has the name that stands in
    /// the first of them.
    pub person_names: Vec<String>,
    /// What machines have in common; none are looked up where it is empty.
    pub machine_filter: String,
    /// The attributes by any of which a machine is found.
    pub machine_names: Vec<String>,
    /// What devices have in common that are kept by their MAC addresses; none are looked up where it
    /// is empty.
    pub device_filter: String,
    /// The attribute that holds a device's address.
    pub device_name: String,
    /// How addresses are written there.
    pub device_notation: Notation,
    /// The attribute that holds an account's certificates (DER), or what tells them from others
    /// (`altSecurityIdentities`); none are known where it is empty.
    pub certificates: String,
    /// What accounts and devices have in common that are disabled, beside the marks that are known; none where it
    /// is empty.
    pub disabled_filter: String,
    /// The attribute that holds an account's NT hash in hexadecimal, for MS-CHAP.
    pub nt_hash: String,
    /// The attribute that holds an account's password in clear, for CHAP, EAP-MD5 and MS-CHAP.
    pub clear_password: String,
    /// How groups are found.
    pub groups: GroupsBy,
    /// Below which entry a group counts by its short name; the base where none.
    pub group_base: Option<String>,
    /// The attribute that holds the short name of a group.
    pub group_name: String,
    /// Whether groups of groups count too.
    pub nested: bool,
    /// The facts that it tells, each with the attribute that holds it.
    pub facts: Told,
    /// The realms and domains that it answers for; all where none.
    pub realms: Realms,
    /// The short name of the Active Directory domain whose controllers check responses of MS-CHAP;
    /// none do where it is empty.
    pub domain: String,
    /// The account of this machine in that domain, such as `REGNANT$`. It is the account that
    /// searches, and has its password.
    pub machine_account: String,
    /// The domain's controllers, the one that is asked first in front, or `dns:DOMAIN` for those that
    /// the DNS names (`dns://SERVER[:PORT]/DOMAIN` asks this DNS server, RFC 4501); the hosts of `servers`
    /// where none.
    pub domain_controllers: Vec<String>,
    /// How many seconds an answer is waited for, 1 to 30.
    pub time_limit: u16,
    /// For how many seconds accounts and groups are kept, at most 3600; proofs never are.
    pub keep: u16,
}

/// How the groups of an account are found.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum GroupsBy {
    /// The account says them, in `memberOf`.
    #[default]
    MemberOf,
    /// Groups say their members, in `member`, `uniqueMember` (by their entry) or `memberUid` (by
    /// their name).
    Search,
    /// The directory tells all of them, groups of groups and the primary group with them, in
    /// `tokenGroups`; Active Directory does.
    TokenGroups,
}

/// How MAC addresses are written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Notation {
    /// `02:00:5e:20:00:01`, as RFC 2307 has it.
    #[default]
    Colons,
    /// `02-00-5e-20-00-01`.
    Hyphens,
    /// `0200.5e20.0001`.
    Dots,
    /// `02005e200001`.
    Bare,
}

impl Notation {
    /// An address as it is written.
    pub(crate) fn write(self, mac: Mac) -> String {
        let digits = mac.to_string().replace(':', "");
        let (size, sign) = match self {
            Self::Colons => (2, ":"),
            Self::Hyphens => (2, "-"),
            Self::Dots => (4, "."),
            Self::Bare => return digits,
        };
        let parts = digits.as_bytes().chunks(size).map(String::from_utf8_lossy);
        parts.collect::<Vec<_>>().join(sign)
    }
}

impl Default for DirectorySettings {
    fn default() -> Self {
        Self {
            servers: Vec::new(),
            trust: None,
            bind_as: String::new(),
            base: String::new(),
            person_filter: "(objectClass=person)".into(),
            person_names: vec!["uid".into()],
            machine_filter: String::new(),
            machine_names: vec!["cn".into()],
            device_filter: String::new(),
            device_name: "macAddress".into(),
            device_notation: Notation::default(),
            certificates: String::new(),
            disabled_filter: String::new(),
            nt_hash: String::new(),
            clear_password: String::new(),
            groups: GroupsBy::default(),
            group_base: None,
            group_name: "cn".into(),
            nested: true,
            domain: String::new(),
            machine_account: String::new(),
            domain_controllers: Vec::new(),
            facts: Told::default(),
            realms: Realms::default(),
            time_limit: 3,
            keep: 60,
        }
    }
}

/// Servers of one directory.
pub(crate) const MOST_SERVERS: usize = 8;
/// Attributes by which somebody is found.
const MOST_NAMES: usize = 4;
/// Bytes of a text.
const LONGEST: usize = 1_024;

/// How a server is reached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Transport {
    /// TLS from the first byte on.
    Ldaps,
    /// TLS is started before anything is asked.
    StartTls,
}

impl Transport {
    /// Where it is spoken unless somebody says otherwise.
    pub(crate) fn port(self) -> u16 {
        match self {
            Self::Ldaps => 636,
            Self::StartTls => 389,
        }
    }
}

impl DirectorySettings {
    /// Whether a directory can be asked so.
    pub fn check(&self) -> Result<(), SettingsError> {
        if self.servers.is_empty() || self.servers.len() > MOST_SERVERS {
            return Err(SettingsError::Servers(self.servers.len()));
        }
        self.servers.iter().try_for_each(|server| server_url(server).map(drop))?;
        if self.base.trim().is_empty() {
            return Err(SettingsError::NoBase);
        }
        let texts = [&self.bind_as, &self.base, &self.person_filter, &self.machine_filter, &self.group_name];
        let texts = texts.into_iter().chain(&self.group_base).chain(&self.trust);
        if let Some(text) = texts.into_iter().find(|text| text.len() > LONGEST || text.chars().any(char::is_control)) {
            return Err(SettingsError::Text(text.chars().take(40).collect()));
        }
        for filter in [&self.person_filter, &self.machine_filter, &self.device_filter, &self.disabled_filter]
            .into_iter()
            .filter(|filter| !filter.is_empty())
        {
            if !is_filter(filter) {
                return Err(SettingsError::Filter(filter.clone()));
            }
        }
        if self.person_filter.is_empty() && self.machine_filter.is_empty() && self.device_filter.is_empty() {
            return Err(SettingsError::Nobody);
        }
        for names in [&self.person_names, &self.machine_names] {
            if names.is_empty() || names.len() > MOST_NAMES || !names.iter().all(|name| is_attribute(name)) {
                return Err(SettingsError::Names(names.join(", ")));
            }
        }
        if let Some(place) = self.facts.0.values().find(|place| !is_attribute(place)) {
            return Err(SettingsError::Names(place.chars().take(40).collect()));
        }
        self.realms.check()?;
        self.check_domain()?;
        let secrets = [&self.certificates, &self.nt_hash, &self.clear_password];
        let named = secrets.into_iter().filter(|name| !name.is_empty());
        if let Some(wrong) =
            named.chain([&self.device_name]).find(|name| !is_attribute(name.trim_end_matches(";binary")))
        {
            return Err(SettingsError::Names(wrong.chars().take(40).collect()));
        }
        if !is_attribute(&self.group_name) {
            return Err(SettingsError::Names(self.group_name.clone()));
        }
        if !(1..=30).contains(&self.time_limit) || self.keep > 3_600 {
            return Err(SettingsError::Times);
        }
        Ok(())
    }

    /// How long an answer is waited for.
    pub fn limit(&self) -> Duration {
        Duration::from_secs(self.time_limit.into())
    }

    fn check_domain(&self) -> Result<(), SettingsError> {
        let short = |text: &str| {
            (1..=15).contains(&text.len())
                && text.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"-_".contains(&byte))
        };
        let account = self.machine_account.strip_suffix('$');
        match (self.domain.is_empty(), self.machine_account.is_empty()) {
            (true, true) if self.domain_controllers.is_empty() => return Ok(()),
            (true, _) => return Err(SettingsError::NoDomain),
            _ => {}
        }
        if !short(&self.domain) {
            return Err(SettingsError::Domain(self.domain.chars().take(40).collect()));
        }
        if !account.is_some_and(short) {
            return Err(SettingsError::MachineAccount(self.machine_account.chars().take(40).collect()));
        }
        if self.bind_as.is_empty() {
            return Err(SettingsError::NoMachine);
        }
        if let Some(wrong) = self.domain_controllers.iter().find(|one| ControllerPlace::read(one).is_none()) {
            return Err(SettingsError::Controller(wrong.chars().take(40).collect()));
        }
        if self.domain_controllers.len() > MOST_SERVERS {
            return Err(SettingsError::Servers(self.domain_controllers.len()));
        }
        Ok(())
    }

    /// Where the domain's controllers are.
    pub(crate) fn controllers(&self) -> Vec<ControllerPlace> {
        if !self.domain_controllers.is_empty() {
            return self.domain_controllers.iter().filter_map(|one| ControllerPlace::read(one)).collect();
        }
        let hosts = self.servers.iter().filter_map(|server| server_url(server).ok()?.0.host_str().map(str::to_owned));
        let mut known = Vec::new();
        hosts.map(ControllerPlace::Host).for_each(|host| {
            if !known.contains(&host) {
                known.push(host);
            }
        });
        known
    }

    pub(crate) fn group_base(&self) -> &str {
        self.group_base.as_deref().unwrap_or(&self.base)
    }
}

/// The address of a server, with how it is reached.
pub(crate) fn server_url(text: &str) -> Result<(Url, Transport), SettingsError> {
    let wrong = || SettingsError::Server(text.to_owned());
    let url = Url::parse(text).map_err(|_| wrong())?;
    let transport = match url.scheme() {
        "ldaps" => Transport::Ldaps,
        "ldap" => Transport::StartTls,
        _ => return Err(wrong()),
    };
    let bare = matches!(url.path(), "" | "/") && url.query().is_none() && url.username().is_empty();
    match url.host() {
        Some(Host::Domain(name)) if bare && !name.is_empty() => Ok((url, transport)),
        Some(Host::Ipv4(_)) if bare => Ok((url, transport)),
        // A host name in a certificate is what TLS checks; of IPv6 addresses the library knows none.
        Some(Host::Ipv6(address)) => Err(SettingsError::Ipv6(address.into())),
        _ => Err(wrong()),
    }
}

/// An attribute's name as RFC 4512 section 1.4 has it: a keystring, or an OID.
fn is_attribute(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || c == '-' || c == '.';
    !name.is_empty()
        && name.len() <= 64
        && name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.chars().all(fits)
}

/// Why a directory cannot be asked so.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SettingsError {
    /// None, or too many.
    #[error("it has {0} servers: name 1 to {MOST_SERVERS}")]
    Servers(usize),
    /// No address.
    #[error(
        "`{0}` is no address of a directory: write ldaps://HOST or ldap://HOST, with :PORT where it is another than usual"
    )]
    Server(String),
    /// An address that no certificate can be checked for.
    #[error("name the server {0} by its host name: its certificate is checked for that")]
    Ipv6(IpAddr),
    /// Nothing to search below.
    #[error("`base` is missing: the entry below which people are, such as dc=example,dc=org")]
    NoBase,
    /// A text that is too long, or not printable.
    #[error("`{0}` is too long, or not printable: a text has at most {LONGEST} bytes")]
    Text(String),
    /// What is no filter.
    #[error("`{0}` is no filter (RFC 4515): it is in parentheses, such as (objectClass=person)")]
    Filter(String),
    /// Nobody would be looked up.
    #[error("`person-filter`, `machine-filter` and `device-filter` are all empty: nobody would ever be found")]
    Nobody,
    /// What is no attribute.
    #[error("`{0}` is no attribute, or more than {MOST_NAMES}: name those in which the name stands, such as uid")]
    Names(String),
    /// What is no realm.
    #[error(transparent)]
    Realms(#[from] RealmsError),
    /// A machine without a domain.
    #[error("`domain` is missing: the short name of the domain whose controllers are asked, such as EXAMPLE")]
    NoDomain,
    /// What is no domain.
    #[error("`{0}` is no short name of a domain: it has up to 15 letters, digits and hyphens")]
    Domain(String),
    /// What is no account of a machine.
    #[error(
        "`{0}` is no account of a machine: it has up to 15 letters, digits and hyphens, and ends with $, such as REGNANT$"
    )]
    MachineAccount(String),
    /// Nobody's password.
    #[error("`bind-as` is missing: it is the machine account, such as REGNANT$@ad.example.org, and has its password")]
    NoMachine,
    /// What is no host.
    #[error("`{0}` is no host of a domain controller, and no dns:DOMAIN or dns://ADDRESS/DOMAIN that names them")]
    Controller(String),
    /// Times that make no sense.
    #[error("`time-limit` is 1 to 30 seconds, and `keep` at most 3600")]
    Times,
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings() -> DirectorySettings {
        let servers = vec!["ldaps://127.0.0.1:6360".into(), "ldap://dir.tarnmouth.example".into()];
        DirectorySettings { servers, base: "dc=tarnmouth,dc=example".into(), ..DirectorySettings::default() }
    }

    #[test]
    fn an_address_is_written_as_the_directory_has_it() {
        let mac: Mac = "02005e200001".parse().unwrap();
        let written = [Notation::Colons, Notation::Hyphens, Notation::Dots, Notation::Bare].map(|one| one.write(mac));
        assert_eq!(written, ["02:00:5e:20:00:01", "02-00-5e-20-00-01", "0200.5e20.0001", "02005e200001"]);
    }

    #[test]
    fn what_cannot_be_asked_is_told_with_what_to_write() {
        assert_eq!(settings().check(), Ok(()));
        let wrong = |change: &dyn Fn(&mut DirectorySettings)| {
            let mut settings = settings();
            change(&mut settings);
            settings.check().unwrap_err().to_string()
        };
        for (told, change) in [
            ("it has 0 servers", &(|s: &mut DirectorySettings| s.servers.clear()) as &dyn Fn(&mut DirectorySettings)),
            ("is no address of a directory", &|s| s.servers = vec!["127.0.0.1:389".into()]),
            ("is no address of a directory", &|s| s.servers = vec!["https://dir.example".into()]),
            ("is no address of a directory", &|s| s.servers = vec!["ldap://dir.example/dc=x?uid?sub".into()]),
            ("by its host name", &|s| s.servers = vec!["ldaps://[::1]".into()]),
            ("`base` is missing", &|s| s.base = " ".into()),
            ("is no filter", &|s| s.person_filter = "objectClass=person".into()),
            ("is no filter", &|s| s.machine_filter = "(a=b)(c=d)".into()),
            ("all empty", &|s| s.person_filter.clear()),
            ("is no attribute", &|s| s.nt_hash = "a b".into()),
            ("is no filter", &|s| s.device_filter = "x".into()),
            ("is no attribute", &|s| s.person_names = vec!["uid)(x".into()]),
            ("`time-limit`", &|s| s.time_limit = 0),
            ("`domain` is missing", &|s| s.machine_account = "REGNANT$".into()),
            ("is no short name", &|s| s.domain = "tarnmouth.example".into()),
            ("is no account of a machine", &|s| s.domain = "TARN".into()),
            ("is no account of a machine", &|s| {
                (s.domain, s.machine_account) = ("TARN".into(), "REGNANT".into());
            }),
            ("it is the machine account", &|s| {
                (s.domain, s.machine_account) = ("TARN".into(), "REGNANT$".into());
            }),
            ("too long", &|s| s.base = "x".repeat(2_000)),
        ] {
            let said = wrong(change);
            assert!(said.contains(told), "{told}: {said}");
        }
    }
}
