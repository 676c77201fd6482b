//! The port's own directory: a real slapd, in a folder of its own.

use std::ffi::OsString;
use std::fs;
use std::io::{self, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use thiserror::Error;

use crate::harbour;

/// Whom searches are bound as, and their password.
pub const SEARCHER: (&str, &str) = ("cn=regnant,dc=tarnmouth,dc=example", "Harbour-Master-19");
/// The entry below which everybody is.
pub const BASE: &str = "dc=tarnmouth,dc=example";
/// The entry below which groups are.
pub const GROUPS: &str = "ou=groups,dc=tarnmouth,dc=example";
/// The name in the certificate that it presents.
pub const HOST: &str = "localhost";

const ROOT: (&str, &str) = ("cn=root,dc=tarnmouth,dc=example", "made-for-this-port");
/// How long it may take until it listens.
const PATIENCE: Duration = Duration::from_secs(20);

/// A slapd with the port's people, machines and groups.
#[derive(Debug)]
pub struct PortDirectory {
    folder: PathBuf,
    /// The port for StartTLS, and the one for LDAPS.
    ports: (u16, u16),
    child: Option<Child>,
}

/// Why it does not run.
#[derive(Debug, Error)]
pub enum DirectoryTrouble {
    /// A program is not there.
    #[error("{0} is missing: install OpenLDAP's server and tools (Debian: apt-get install slapd ldap-utils)")]
    Missing(&'static str),
    /// It does not start.
    #[error("the port's directory does not start: {0}")]
    Start(String),
    /// A file.
    #[error("the folder of the port's directory: {0}")]
    Folder(#[from] io::Error),
}

impl PortDirectory {
    /// Starts one in a folder, with what it held there before; `certificate` and `key` are PEM.
    pub fn start(folder: &Path, (certificate, key): (&str, &str), ports: (u16, u16)) -> Result<Self, DirectoryTrouble> {
        end_left_over(folder);
        if let Some(port) = [ports.0, ports.1].into_iter().find(|port| TcpStream::connect(("127.0.0.1", *port)).is_ok())
        {
            return Err(DirectoryTrouble::Start(format!("somebody else listens on 127.0.0.1:{port}")));
        }
        let data = folder.join("data");
        let is_new = !data.exists();
        fs::create_dir_all(&data)?;
        // slapd reads paths in its configuration from the place where it starts.
        let folder = folder.canonicalize()?;
        fs::write(folder.join("server.pem"), certificate)?;
        fs::write(folder.join("server.key"), key)?;
        let at = folder.display();
        let schemas = ["core", "cosine", "inetorgperson", "nis"];
        let mut schemas: String =
            schemas.iter().map(|name| format!("include /etc/ldap/schema/{name}.schema\n")).collect();
        fs::write(folder.join("elsewhere.schema"), elsewhere())?;
        schemas.push_str(&format!("include \"{at}/elsewhere.schema\"\n"));
        let ((root, password), (searcher, _)) = (ROOT, SEARCHER);
        let config = format!(
            "{schemas}modulepath /usr/lib/ldap\nmoduleload back_mdb\nmoduleload memberof\nmoduleload ppolicy\nmoduleload retcode\n\
             pidfile \"{at}/pid\"\n\
             TLSCertificateFile \"{at}/server.pem\"\nTLSCertificateKeyFile \"{at}/server.key\"\n\
             sizelimit 2000\n\
             database mdb\nsuffix {BASE}\nrootdn {root}\nrootpw {password}\ndirectory \"{at}/data\"\n\
             index objectClass,uid,cn,member eq\n\
             overlay memberof\nmemberof-refint TRUE\noverlay ppolicy\n\
             overlay retcode\nretcode-parent \"cn=codes,{BASE}\"\nretcode-indir TRUE\n\
             access to attrs=userPassword by anonymous auth by * none\n\
             access to * by dn.exact=\"{searcher}\" read by * none\n"
        );
        fs::write(folder.join("slapd.conf"), config)?;
        let mut directory = Self { folder, ports, child: None };
        directory.again()?;
        if is_new && let Err(trouble) = directory.add(harbour::DIRECTORY) {
            drop(directory);
            let _ = fs::remove_dir_all(data);
            return Err(trouble);
        }
        Ok(directory)
    }

    /// Starts it again.
    pub fn again(&mut self) -> Result<(), DirectoryTrouble> {
        let (plain, tls) = self.ports;
        let mut child = Command::new(program("slapd")?)
            .arg("-f")
            .arg(self.folder.join("slapd.conf"))
            .args(["-h", &format!("ldap://127.0.0.1:{plain} ldaps://127.0.0.1:{tls}"), "-d", "0"])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()?;
        let began = Instant::now();
        while TcpStream::connect(("127.0.0.1", tls)).is_err() {
            if let Some(ended) = child.try_wait()? {
                return Err(DirectoryTrouble::Start(format!("it ended with {ended}")));
            }
            if began.elapsed() > PATIENCE {
                let _ = child.kill();
                let _ = child.wait();
                return Err(DirectoryTrouble::Start(format!("it does not listen after {} s", PATIENCE.as_secs())));
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        self.child = Some(child);
        Ok(())
    }

    /// Kills it; [`Self::again`] starts it with what it holds.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// The process, where it runs.
    pub fn process(&self) -> Option<u32> {
        self.child.as_ref().map(Child::id)
    }

    /// Adds entries (LDIF, RFC 2849).
    pub fn add(&self, ldif: &str) -> Result<(), DirectoryTrouble> {
        self.run("ldapadd", ldif)
    }

    /// Changes entries.
    pub fn modify(&self, ldif: &str) -> Result<(), DirectoryTrouble> {
        self.run("ldapmodify", ldif)
    }

    fn run(&self, tool: &'static str, ldif: &str) -> Result<(), DirectoryTrouble> {
        let url = format!("ldap://127.0.0.1:{}", self.ports.0);
        let mut child = Command::new(program(tool)?)
            .args(["-x", "-H", &url, "-D", ROOT.0, "-w", ROOT.1])
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()?;
        if let Some(mut input) = child.stdin.take() {
            input.write_all(ldif.as_bytes())?;
        }
        let output = child.wait_with_output()?;
        match output.status.success() {
            true => Ok(()),
            false => Err(DirectoryTrouble::Start(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
        }
    }

    /// Its address with TLS.
    pub fn ldaps(&self) -> String {
        format!("ldaps://{HOST}:{}", self.ports.1)
    }

    /// Its address with StartTLS.
    pub fn ldap(&self) -> String {
        format!("ldap://{HOST}:{}", self.ports.0)
    }
}

impl Drop for PortDirectory {
    fn drop(&mut self) {
        self.kill();
    }
}

/// What other directories keep of accounts, so that this one can stand for them: an auxiliary class,
/// `elsewhere`, whose attributes are called as theirs.
const ELSEWHERE: [&str; 8] = [
    "sAMAccountName",
    "userAccountControl",
    "accountExpires",
    "lockoutTime",
    "nsAccountLock",
    "sambaAcctFlags",
    "sambaNTPassword",
    "loginDisabled",
];

fn elsewhere() -> String {
    let mut schema = String::new();
    for (number, name) in ELSEWHERE.iter().enumerate() {
        schema.push_str(&format!(
            "attributetype ( 1.3.6.1.4.1.32473.9.1.{number} NAME '{name}' EQUALITY caseIgnoreMatch \
             SYNTAX 1.3.6.1.4.1.1466.115.121.1.15 )\n"
        ));
    }
    schema.push_str(
        "attributetype ( 1.3.6.1.4.1.32473.9.1.90 NAME 'objectSid' EQUALITY octetStringMatch \
         SYNTAX 1.3.6.1.4.1.1466.115.121.1.40 SINGLE-VALUE )\n",
    );
    schema.push_str(&format!(
        "objectclass ( 1.3.6.1.4.1.32473.9.2 NAME 'elsewhere' AUXILIARY MAY ( objectSid $ {} ) )\n",
        ELSEWHERE.join(" $ ")
    ));
    schema
}

/// Ends the one of an earlier start whose owner was killed before it.
fn end_left_over(folder: &Path) {
    let Ok(folder) = folder.canonicalize() else { return };
    let Ok(pid) = fs::read_to_string(folder.join("pid")) else { return };
    let pid = pid.trim();
    let called = fs::read(format!("/proc/{pid}/cmdline")).unwrap_or_default();
    // The number may be somebody else's by now.
    if String::from_utf8_lossy(&called).contains(&*folder.join("slapd.conf").to_string_lossy()) {
        let _ = Command::new("kill").arg(pid).stderr(Stdio::null()).status();
        let began = Instant::now();
        while Path::new("/proc").join(pid).exists() && began.elapsed() < PATIENCE {
            std::thread::sleep(Duration::from_millis(20));
        }
    }
}

/// Where a program is. Servers are not where everybody looks.
fn program(name: &'static str) -> Result<OsString, DirectoryTrouble> {
    let looked = std::env::var_os("PATH").unwrap_or_default();
    let folders =
        std::env::split_paths(&looked).chain(["/usr/sbin", "/usr/lib/openldap", "/usr/libexec"].map(PathBuf::from));
    let found = folders.map(|folder| folder.join(name)).find(|path| path.is_file());
    found.map(Into::into).ok_or(DirectoryTrouble::Missing(name))
}
