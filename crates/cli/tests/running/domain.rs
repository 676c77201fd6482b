//! A real domain controller (Samba), in a network namespace of its own: its ports are fixed.

use std::fs;
use std::net::TcpStream;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use regnant_certificates::Authority;

use super::directory::order;
use super::issuer::now;
use super::{Ends as _, Running, printed, typed};

pub(crate) const ADMINISTRATOR: &str = "administrator@ad.tarnmouth.example";
pub(crate) const ADMINISTRATOR_PASSWORD: &str = "Harbour-Master-19";
/// The account of this machine, and its password.
pub(crate) const MACHINE: &str = "REGNANT$";
pub(crate) const MACHINE_PASSWORD: &str = "Capstan-Pawl-63";
pub(crate) const DOMAIN: &str = "dc=ad,dc=tarnmouth,dc=example";

/// A running domain controller.
pub(crate) struct Domain {
    folder: tempfile::TempDir,
    child: Option<Child>,
    /// The namespace, and the addresses of this side and of the other.
    namespace: String,
    address: String,
}

impl Domain {
    /// One with nobody but its administrator.
    pub(crate) fn start() -> Self {
        let folder = tempfile::Builder::new().prefix("domain").tempdir().unwrap();
        let number = std::process::id() % 250;
        let (namespace, here, there) = (format!("regnant-ad-{number}"), format!("rh{number}"), format!("rn{number}"));
        let (own, address) = (format!("10.255.{number}.1"), format!("10.255.{number}.2"));
        let _ = Command::new("ip").args(["netns", "del", &namespace]).stderr(Stdio::null()).status();
        for command in [
            format!("netns add {namespace}"),
            format!("link add {here} type veth peer name {there} netns {namespace}"),
            format!("addr add {own}/30 dev {here}"),
            format!("link set {here} up"),
            format!("-n {namespace} addr add {address}/30 dev {there}"),
            format!("-n {namespace} link set {there} up"),
            format!("-n {namespace} link set lo up"),
        ] {
            let output = Command::new("ip").args(command.split(' ')).output();
            let output = output.expect("ip is missing: install iproute2 (Debian: apt-get install iproute2)");
            assert!(output.status.success(), "ip {command}: {}", printed(&output));
        }
        let domain = Self { folder, child: None, namespace, address };
        let authority = Authority::new("Tarnmouth Domain Authority", now() - 86_400).unwrap();
        let issued = authority.issue(&order(&domain.address)).unwrap();
        let at = domain.folder.path();
        let write = |name: &str, text: &str| fs::write(at.join(name), text).unwrap();
        write("server.pem", &issued.certificate);
        write("server.key", &issued.key);
        write("authority.pem", authority.certificate());
        write("empty.conf", "");
        let key = at.join("server.key");
        fs::set_permissions(key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
        let provision = [
            "domain",
            "provision",
            "--dns-backend=SAMBA_INTERNAL",
            "--realm=AD.TARNMOUTH.EXAMPLE",
            "--domain=TARN",
            "--server-role=dc",
            "--host-name=dc1",
            "--option=vfs objects = dfs_samba4 acl_xattr",
        ];
        let output = Command::new("samba-tool")
            .args(provision)
            .arg(format!("--adminpass={ADMINISTRATOR_PASSWORD}"))
            .arg(format!("--host-ip={}", domain.address))
            .arg(format!("--targetdir={}", at.join("dc").display()))
            .arg("-s")
            .arg(at.join("empty.conf"))
            .output();
        let output =
            output.expect("samba-tool is missing: install Samba (Debian: apt-get install samba samba-ad-provision)");
        assert!(output.status.success(), "{}", printed(&output));
        let conf = fs::read_to_string(domain.conf()).unwrap();
        let at = at.display();
        let tls = format!(
            "\tserver services = ldap, rpc, dns\n\tntlm auth = mschapv2-and-ntlmv2-only\n\ttls certfile = {at}/server.pem\n\ttls keyfile = {at}/server.key\n\ttls cafile = {at}/authority.pem"
        );
        fs::write(domain.conf(), conf.replacen("[global]\n", &format!("[global]\n{tls}\n"), 1)).unwrap();
        let mut domain = domain;
        domain.again();
        domain
    }

    fn conf(&self) -> std::path::PathBuf {
        self.folder.path().join("dc/etc/smb.conf")
    }

    /// Starts it, or starts it again.
    pub(crate) fn again(&mut self) {
        let child = Command::new("ip")
            .args(["netns", "exec", &self.namespace, "samba", "-i", "-s"])
            .arg(self.conf())
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        self.child = Some(child);
        let began = Instant::now();
        while TcpStream::connect((self.address.as_str(), 636)).is_err() {
            assert!(began.elapsed() < Duration::from_secs(60), "the domain controller does not listen");
            std::thread::sleep(Duration::from_millis(100));
        }
    }

    /// Ends it.
    pub(crate) fn kill(&mut self) {
        let Some(mut child) = self.child.take() else { return };
        // Its processes are those of the namespace.
        let pids = Command::new("ip").args(["netns", "pids", &self.namespace]).output().unwrap();
        for pid in String::from_utf8_lossy(&pids.stdout).split_whitespace() {
            let _ = Command::new("kill").args(["-9", pid]).stderr(Stdio::null()).status();
        }
        let _ = child.kill();
        child.wait().unwrap();
    }

    /// Changes the domain.
    pub(crate) fn tool(&self, args: &[&str]) {
        let output = Command::new("samba-tool").args(args).arg("-s").arg(self.conf()).output().unwrap();
        assert!(output.status.success(), "{args:?}: {}", printed(&output));
    }

    pub(crate) fn host(&self) -> String {
        self.address.clone()
    }

    pub(crate) fn url(&self) -> String {
        format!("ldaps://{}", self.address)
    }

    /// Its controllers, by what its own DNS says.
    pub(crate) fn by_dns(&self) -> String {
        format!("dns://{}/ad.tarnmouth.example", self.address)
    }

    pub(crate) fn authority(&self) -> impl AsRef<Path> + use<> {
        self.folder.path().join("authority.pem")
    }

    /// Has a service ask it, as the store `port-domain`.
    pub(crate) fn connect(&self, service: &Running) {
        let authority = self.authority();
        service.client(&["trust", "add", "port-domain"]).arg(authority.as_ref()).succeeds();
        let add = ["store", "add", "port-domain", "--kind", "directory", "--trust", "port-domain", "--base", DOMAIN];
        let who = ["--bind-as", ADMINISTRATOR, "--ask-secret", "--groups", "token-groups", "--keep", "0"];
        let people =
            ["--person-filter", "(&(objectClass=user)(!(objectClass=computer)))", "--person-name", "sAMAccountName"];
        let machines =
            ["--machine-filter", "(objectClass=computer)", "--machine-name", "cn", "--group-name", "sAMAccountName"];
        let mut command = service.client(&[&add[..], &who, &people, &machines].concat());
        let output = typed(command.args(["--server", &self.url()]), &format!("{ADMINISTRATOR_PASSWORD}\n"));
        assert!(output.status.success(), "{}", printed(&output));
    }

    /// Gives this machine an account, with which the store `port-domain` asks from now on, its
    /// controllers with it.
    pub(crate) fn join(&self, service: &Running) {
        self.tool(&["computer", "create", "REGNANT"]);
        self.tool(&["user", "setpassword", MACHINE, &format!("--newpassword={MACHINE_PASSWORD}")]);
        self.tool(&["user", "enable", MACHINE]);
        let who = ["--bind-as", "REGNANT$@ad.tarnmouth.example", "--domain", "TARN", "--machine-account", MACHINE];
        let mut command = service.client(&[&["store", "change", "port-domain", "--ask-secret"], &who[..]].concat());
        command.args(["--domain-controller", &self.by_dns()]);
        let output = typed(&mut command, &format!("{MACHINE_PASSWORD}\n"));
        assert!(output.status.success(), "{}", printed(&output));
    }
}

impl Drop for Domain {
    fn drop(&mut self) {
        self.kill();
        let _ = Command::new("ip").args(["netns", "del", &self.namespace]).stderr(Stdio::null()).status();
    }
}
