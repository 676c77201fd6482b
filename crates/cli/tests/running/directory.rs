//! A real directory (slapd) with the port's people, in a folder of its own.

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use regnant_campus::harbour;
use regnant_certificates::{Authority, Order, Purpose};

use super::issuer::now;
use super::{Ends as _, Running, typed};

/// Who searches, and their password.
pub(crate) const SEARCHER: &str = "cn=regnant,dc=tarnmouth,dc=example";
pub(crate) const SEARCHER_PASSWORD: &str = "Harbour-Master-19";
pub(crate) const BASE: &str = "dc=tarnmouth,dc=example";
const ROOT: &str = "cn=root,dc=tarnmouth,dc=example";
const ROOT_PASSWORD: &str = "made-for-this-test";

/// A running slapd.
pub(crate) struct Slapd {
    folder: tempfile::TempDir,
    child: Option<Child>,
    /// The port for StartTLS, and the one for LDAPS.
    ports: (u16, u16),
}

impl Slapd {
    /// One with the port's people, machines and groups.
    pub(crate) fn start() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::new("Tarnmouth Directory Authority", now() - 86_400).unwrap();
        let issued = authority.issue(&order("localhost")).unwrap();
        fs::write(folder.path().join("server.pem"), &issued.certificate).unwrap();
        fs::write(folder.path().join("server.key"), &issued.key).unwrap();
        fs::write(folder.path().join("authority.pem"), authority.certificate()).unwrap();
        fs::create_dir(folder.path().join("data")).unwrap();
        let at = folder.path().display();
        let schemas = ["core", "cosine", "inetorgperson", "nis"];
        let schemas: String = schemas.iter().map(|name| format!("include /etc/ldap/schema/{name}.schema\n")).collect();
        let config = format!(
            "{schemas}modulepath /usr/lib/ldap\nmoduleload back_mdb\nmoduleload memberof\n\
             pidfile {at}/pid\n\
             TLSCertificateFile {at}/server.pem\nTLSCertificateKeyFile {at}/server.key\n\
             sizelimit 2000\n\
             database mdb\nsuffix {BASE}\nrootdn {ROOT}\nrootpw {ROOT_PASSWORD}\ndirectory {at}/data\n\
             index objectClass,uid,cn,member eq\n\
             overlay memberof\nmemberof-refint TRUE\n\
             access to attrs=userPassword by anonymous auth by * none\n\
             access to * by dn.exact=\"{SEARCHER}\" read by * none\n"
        );
        fs::write(folder.path().join("slapd.conf"), config).unwrap();
        let free = || TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        let mut slapd = Self { ports: (free(), free()), folder, child: None };
        slapd.again();
        slapd.add(harbour::DIRECTORY);
        slapd
    }

    /// Starts it, or starts it again.
    pub(crate) fn again(&mut self) {
        let (plain, tls) = self.ports;
        let program = ["/usr/sbin/slapd", "/usr/lib/openldap/slapd", "/usr/libexec/slapd"];
        let program = program.iter().find(|path| Path::new(path).exists());
        let program =
            program.expect("slapd is missing: install OpenLDAP's server (Debian: apt-get install slapd ldap-utils)");
        let child = Command::new(program)
            .arg("-f")
            .arg(self.folder.path().join("slapd.conf"))
            .args(["-h", &format!("ldap://127.0.0.1:{plain} ldaps://127.0.0.1:{tls}"), "-d", "0"])
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        self.child = Some(child);
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", tls)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(20), "slapd does not listen");
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// Kills it.
    pub(crate) fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            child.kill().unwrap();
            child.wait().unwrap();
        }
    }

    /// Has it hang, or go on.
    pub(crate) fn hang(&self, hangs: bool) {
        let signal = if hangs { "-STOP" } else { "-CONT" };
        let pid = self.child.as_ref().unwrap().id().to_string();
        assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    /// Adds entries.
    pub(crate) fn add(&self, ldif: &str) {
        self.run("ldapadd", ldif);
    }

    /// Changes entries.
    pub(crate) fn modify(&self, ldif: &str) {
        self.run("ldapmodify", ldif);
    }

    fn run(&self, program: &str, ldif: &str) {
        let url = format!("ldap://127.0.0.1:{}", self.ports.0);
        let mut command = Command::new(program);
        command.args(["-x", "-H", &url, "-D", ROOT, "-w", ROOT_PASSWORD]);
        let output = typed(&mut command, ldif);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    /// Its address with TLS.
    pub(crate) fn ldaps(&self) -> String {
        format!("ldaps://localhost:{}", self.ports.1)
    }

    /// Its address with StartTLS.
    pub(crate) fn ldap(&self) -> String {
        format!("ldap://localhost:{}", self.ports.0)
    }

    /// The authority that issued its certificate.
    pub(crate) fn authority(&self) -> PathBuf {
        self.folder.path().join("authority.pem")
    }

    /// Has a service ask it, as the store `tarn-directory`; `more` stands behind the command.
    pub(crate) fn connect(&self, service: &Running, server: &str, more: &[&str]) {
        service.client(&["trust", "add", "port-directory"]).arg(self.authority()).succeeds();
        let add = ["store", "add", "tarn-directory", "--kind", "directory", "--server", server];
        let how = ["--trust", "port-directory", "--base", BASE, "--bind-as", SEARCHER, "--ask-bind-password"];
        let machines =
            ["--machine-filter", "(objectClass=device)", "--group-base", "ou=groups,dc=tarnmouth,dc=example"];
        let mut command = service.client(&[&add[..], &how, &machines, more].concat());
        let output = typed(&mut command, &format!("{SEARCHER_PASSWORD}\n"));
        assert!(output.status.success(), "{}", super::printed(&output));
    }
}

impl Drop for Slapd {
    fn drop(&mut self) {
        if self.child.is_some() {
            self.hang(false);
        }
        self.kill();
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
