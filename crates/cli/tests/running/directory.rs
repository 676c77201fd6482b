//! The port's directory (a real slapd) in a folder of its own.

use std::fs;
use std::net::TcpListener;
use std::path::PathBuf;
use std::process::Command;
use std::time::{Duration, Instant};

use regnant_campus::directory::{GROUPS, PortDirectory};
use regnant_campus::harbour::PILOT_VPN_1;
use regnant_certificates::{Authority, Order, Purpose};

use super::issuer::now;
use super::{Ends as _, Running, printed, typed};

pub(crate) use regnant_campus::directory::BASE;

/// Who searches, and their password.
pub(crate) const SEARCHER: &str = regnant_campus::directory::SEARCHER.0;
pub(crate) const SEARCHER_PASSWORD: &str = regnant_campus::directory::SEARCHER.1;

/// A running slapd.
pub(crate) struct Slapd {
    directory: PortDirectory,
    folder: tempfile::TempDir,
}

impl Slapd {
    /// One with the port's people, machines and groups.
    pub(crate) fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::new("Tarnmouth Directory Authority", now() - 86_400).unwrap();
        let issued = authority.issue(&order("localhost")).unwrap();
        fs::write(folder.path().join("authority.pem"), authority.certificate()).unwrap();
        let free = || TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let (certificate, ports) = ((issued.certificate.as_str(), issued.key.as_str()), (free(), free()));
        let directory = PortDirectory::start(&folder.path().join("slapd"), certificate, ports);
        Self { directory: directory.unwrap_or_else(|trouble| panic!("{trouble}")), folder }
    }

    /// Starts it again.
    pub(crate) fn again(&mut self) {
        self.directory.again().unwrap_or_else(|trouble| panic!("{trouble}"));
    }

    /// Kills it.
    pub(crate) fn kill(&mut self) {
        self.directory.kill();
    }

    /// Has it hang, or go on.
    pub(crate) fn hang(&self, hangs: bool) {
        let signal = if hangs { "-STOP" } else { "-CONT" };
        let process = self.directory.process().unwrap().to_string();
        assert!(Command::new("kill").args([signal, &process]).status().unwrap().success());
    }

    /// Adds entries.
    pub(crate) fn add(&self, ldif: &str) {
        self.directory.add(ldif).unwrap_or_else(|trouble| panic!("{trouble}"));
    }

    /// Changes entries.
    pub(crate) fn modify(&self, ldif: &str) {
        self.directory.modify(ldif).unwrap_or_else(|trouble| panic!("{trouble}"));
    }

    /// Its address with TLS.
    pub(crate) fn ldaps(&self) -> String {
        self.directory.ldaps()
    }

    /// Its address with StartTLS.
    pub(crate) fn ldap(&self) -> String {
        self.directory.ldap()
    }

    /// The authority that issued its certificate.
    pub(crate) fn authority(&self) -> PathBuf {
        self.folder.path().join("authority.pem")
    }

    /// Has a service ask it, as the store `tarn-directory`; `more` stands behind the command.
    pub(crate) fn connect(&self, service: &Running, server: &str, more: &[&str]) {
        service.client(&["trust", "add", "port-directory"]).arg(self.authority()).succeeds();
        let add = ["store", "add", "tarn-directory", "--kind", "directory", "--server", server];
        let how = ["--trust", "port-directory", "--base", BASE, "--bind-as", SEARCHER, "--ask-secret"];
        let machines = ["--machine-filter", "(objectClass=device)", "--group-base", GROUPS];
        let mut command = service.client(&[&add[..], &how, &machines, more].concat());
        let output = typed(&mut command, &format!("{SEARCHER_PASSWORD}\n"));
        assert!(output.status.success(), "{}", super::printed(&output));
    }
}

/// A server's certificate for this name.
pub(crate) fn order(name: &str) -> Order {
    Order {
        common_name: name.into(),
        dns: vec![name.into()],
        upn: Vec::new(),
        purpose: Purpose::Server,
        not_before: now() - 86_400,
        not_after: now() + 86_400,
        serial: 7,
        ocsp: None,
    }
}

/// The harbour, whose VPN and 802.1X look people and machines up in the directory first.
pub(crate) fn harbour_with(slapd: &Slapd, server: &str, more: &[&str]) -> Running {
    let service = Running::harbour();
    slapd.connect(&service, server, more);
    let folder = service.data.join("harbour");
    let policy = std::fs::read_to_string(folder.join("main.writ")).unwrap();
    let policy = policy.replace("identify user in harbour", "identify user in tarn-directory, harbour");
    let policy = policy.replace("identify machine in harbour", "identify machine in tarn-directory, harbour");
    assert!(policy.contains("tarn-directory"), "the harbour's policy looks people up otherwise now");
    std::fs::write(folder.join("main.writ"), policy).unwrap();
    service.client(&["policy", "activate"]).arg(&folder).succeeds();
    service
}

pub(crate) fn vpn(service: &Running, name: &str, password: &str, code: i32) -> String {
    let ask = ["pap", "--user", name, "--password", password, "--wait", "8", "--tries", "1"];
    printed(&service.try_from(&PILOT_VPN_1, &ask).ends_with(code))
}

/// Why the last request of a name ended as it did.
pub(crate) fn last(service: &Running, query: &str) -> String {
    let entry = service.entries(query, 1).remove(0);
    let detail = service.get(&format!("journal/{}", entry["id"].as_str().unwrap())).1;
    detail.to_string()
}

pub(crate) fn served_again(service: &Running) {
    let began = Instant::now();
    let ask = ["pap", "--user", "mara.quay", "--password", "Dry-Dock-82", "--wait", "1", "--tries", "1"];
    while service.try_from(&PILOT_VPN_1, &ask).output().unwrap().status.code() != Some(0) {
        assert!(began.elapsed() < Duration::from_secs(40), "the directory is not asked again");
    }
}
