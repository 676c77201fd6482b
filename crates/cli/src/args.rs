use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

/// Decides who and what may join a network, and says why.
#[derive(Parser)]
#[command(name = "regnant", version, about, propagate_version = true)]
pub(crate) struct Arguments {
    #[command(subcommand)]
    pub(crate) command: Command,
}

#[derive(Subcommand)]
pub(crate) enum Command {
    /// Run the service until it is told to stop
    Serve(Serve),
    /// Run the service with an invented harbour that asks it things
    Demo(Demo),
    /// Check a policy, or make it the one that decides
    #[command(subcommand)]
    Policy(Policy),
    /// Ask a RADIUS server as equipment would (exit code 0 accepted, 1 refused, 3 no answer)
    Try(Box<Try>),
    /// Show the journal: who was given what, newest last
    Journal(Journal),
    /// Explain one entry of the journal
    Trail(Trail),
    /// Add or change equipment, people and devices from an inventory file
    Import(Import),
    /// Show, bring and ask for certificates
    Certificate(Certificate),
    /// Show and say whose certificates are believed
    Trust(Trust),
    /// Show, add and remove the names and types of attributes
    Dictionary(Dictionary),
    /// Show, add and remove ways to tell equipment what access consists of
    Dialect(Dialect),
    /// Keep the equipment that asks
    Nas(Nas),
    /// Keep secrets that policies name and replies carry
    Secret(Secret),
    /// Hand out what a client needs so that it trusts the server of a gate
    #[command(subcommand)]
    Profile(Profile),
    /// Show who changed what
    #[command(subcommand)]
    Audit(Audit),
    /// Set another sealing key
    #[command(subcommand)]
    Key(Key),
    /// Sign in and keep a token for the other commands
    SignIn(SignIn),
}

#[derive(Args)]
pub(crate) struct Dictionary {
    #[command(subcommand)]
    pub(crate) action: DictionaryAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum DictionaryAction {
    /// List the dictionaries: those of RFCs, and those of vendors
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the attributes of a dictionary
    Show {
        /// An RFC such as rfc2865, or a vendor
        name: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add a dictionary file, or put it in the place of the one of its vendor
    Add {
        /// The file (TOML); docs/dictionaries.md tells what it says
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Remove a dictionary that you added
    Remove {
        /// Its vendor
        #[arg(value_name = "VENDOR")]
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct Nas {
    #[command(subcommand)]
    pub(crate) action: NasAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum NasAction {
    /// List the equipment that may ask
    List {
        /// Only what holds all these words: name, address, kind, site, tag, note or dialect
        words: Vec<String>,
        /// Print JSON
        #[arg(long)]
        json: bool,
        /// Print CSV
        #[arg(long, conflicts_with = "json")]
        csv: bool,
    },
    /// Show one, and what is known of it
    Show {
        /// Its name
        name: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add one; a shared secret is made for it unless you give one
    Add {
        /// Its name
        name: String,
        #[command(flatten)]
        fields: NasFields,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Change one; what is not said stays
    Change {
        /// Its name
        name: String,
        /// Another name
        #[arg(long = "name", value_name = "NAME")]
        new_name: Option<String>,
        #[command(flatten)]
        fields: NasFields,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Remove one that the active policy does not name
    Remove {
        /// Its name
        name: String,
    },
    /// Show the secret that is shared with one; the audit tells that you did
    Secret {
        /// Its name
        name: String,
    },
    /// List who stayed unheard within the last minutes, why, and what it claims to be
    Unheard {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Try a secret, read from standard input, on the newest packet of such a sender
    TrySecret {
        /// The sender's address
        source: std::net::IpAddr,
    },
    /// Print all as an inventory file (TOML), without their secrets
    Export,
}

#[derive(Args)]
pub(crate) struct NasFields {
    /// An address or a block of addresses that its packets come from; may be repeated, and
    /// takes the place of all before
    #[arg(long, value_name = "ADDRESS")]
    pub(crate) address: Vec<String>,
    /// What it is
    #[arg(long, value_parser = ["switch", "controller", "access-point", "firewall", "router", "vpn", "manager", "server", "other"])]
    pub(crate) kind: Option<String>,
    /// Where it stands
    #[arg(long)]
    pub(crate) site: Option<String>,
    /// The dialect in which it is told; `regnant dialect list` shows them [default: standard]
    #[arg(long)]
    pub(crate) dialect: Option<String>,
    /// A word to find it by; may be repeated, and takes the place of all before; "" is none
    #[arg(long)]
    pub(crate) tag: Vec<String>,
    /// What people should know of it
    #[arg(long)]
    pub(crate) note: Option<String>,
    /// Whether its requests must carry Message-Authenticator [default: true]
    #[arg(long, value_name = "true|false")]
    pub(crate) require_message_authenticator: Option<bool>,
    /// Whether replies to administrators' logins carry the Class by which accounting finds
    /// their decision [default: false]
    #[arg(long, value_name = "true|false")]
    pub(crate) class_at_login: Option<bool>,
    /// Read the shared secret from standard input
    #[arg(long)]
    pub(crate) ask_secret: bool,
}

#[derive(Args)]
pub(crate) struct Secret {
    #[command(subcommand)]
    pub(crate) action: SecretAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum SecretAction {
    /// List their names; nobody is shown what they are
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Keep a secret, which is read from standard input
    Set {
        /// The name by which policies know it
        name: String,
    },
    /// Remove a secret that the active policy does not name
    Remove {
        /// Its name
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct Dialect {
    #[command(subcommand)]
    pub(crate) action: DialectAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum DialectAction {
    /// List the dialects and who speaks them
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show how a dialect says each statement
    Show {
        /// The dialect
        name: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add a dialect file, or put it in the place of the one of its name
    Add {
        /// The file (TOML); docs/dialects.md tells what it says
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Remove a dialect that you added
    Remove {
        /// The dialect
        name: String,
    },
    /// Show the attributes that a NAS would be told of a grant, in words and in hex
    Preview {
        /// The grant, or several of one rule
        #[arg(required = true, value_name = "GRANT")]
        grants: Vec<String>,
        /// The NAS
        #[arg(long, value_name = "NAME")]
        nas: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Subcommand)]
pub(crate) enum Audit {
    /// Show what was changed and by whom, newest last
    List(ListAudit),
}

#[derive(Args)]
pub(crate) struct ListAudit {
    /// At most this many changes
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=1000))]
    pub(crate) limit: u32,
    /// Only those before this one
    #[arg(long, value_name = "NUMBER")]
    pub(crate) before: Option<u64>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum Key {
    /// Make a new sealing key and seal every secret anew; stop the service before
    Rotate(RotateKey),
}

#[derive(Args)]
pub(crate) struct RotateKey {
    /// Directory with the records
    #[arg(long, value_name = "DIR")]
    pub(crate) data: PathBuf,
    /// Configuration file (TOML), where it says where the sealing key is
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
}

#[derive(Args)]
pub(crate) struct Serve {
    /// Configuration file (TOML)
    #[arg(long, value_name = "FILE")]
    pub(crate) config: PathBuf,
    /// Directory for records, journal and, unless configured elsewhere, the sealing key
    #[arg(long, value_name = "DIR")]
    pub(crate) data: PathBuf,
}

#[derive(Args)]
pub(crate) struct Demo {
    /// Directory for the demo's records; made if it does not exist
    #[arg(long, value_name = "DIR", default_value = "demo-data")]
    pub(crate) data: PathBuf,
    /// Play the story once, print what everybody was given and why, and end
    /// (exit code 0 only if every row is as the scenario says)
    #[arg(long)]
    pub(crate) once: bool,
    /// Print JSON instead of a table (with --once)
    #[arg(long, requires = "once")]
    pub(crate) json: bool,
}

#[derive(Subcommand)]
pub(crate) enum Policy {
    /// Check a policy and run its cases, without a service (exit code 0 clean, 1 errors, 3 a failed case)
    Check(Check),
    /// Check a policy and make it the active edition
    Activate(Activate),
}

#[derive(Args)]
pub(crate) struct Check {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// Check against the records of a running service, as `activate` would: which
    /// stores, certificates and trusts there are
    #[arg(long)]
    pub(crate) against_service: bool,
    #[command(flatten)]
    pub(crate) api: Api,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
}

#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum TryMethod {
    /// Name and password
    Pap,
    /// Name and challenge
    Chap,
    /// Name and a challenge of MS-CHAP
    Mschap,
    /// The same, version 2
    Mschapv2,
    /// MAC bypass
    Mac,
    /// EAP-MD5
    EapMd5,
    /// EAP-GTC
    EapGtc,
    /// EAP-MSCHAPv2
    EapMschapv2,
    /// A certificate
    EapTls,
    /// PEAP, with --inner
    Peap,
    /// EAP-TTLS, with --inner
    Ttls,
    /// TEAP, with a user, a machine, or both
    Teap,
    /// No login: a report on access, of --status, about --mac and --user
    Accounting,
}

/// What a report says.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Status {
    /// Access begins
    Start,
    /// It goes on
    Interim,
    /// It is over
    Stop,
    /// The equipment has started
    On,
    /// It is about to stop
    Off,
}

impl Status {
    /// As Acct-Status-Type has it.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Self::Start => "Start",
            Self::Interim => "Interim-Update",
            Self::Stop => "Stop",
            Self::On => "Accounting-On",
            Self::Off => "Accounting-Off",
        }
    }
}

/// What goes through a tunnel.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum InnerMethod {
    /// The password itself (ttls), or basic password (teap)
    Pap,
    /// CHAP (ttls)
    Chap,
    /// MS-CHAP (ttls)
    Mschap,
    /// MS-CHAP version 2 (ttls)
    Mschapv2,
    /// EAP-MD5 (ttls)
    EapMd5,
    /// EAP-GTC
    EapGtc,
    /// EAP-MSCHAPv2
    EapMschapv2,
    /// A certificate
    EapTls,
}

/// A version of TLS.
#[derive(Clone, Copy, PartialEq, Eq, ValueEnum)]
pub(crate) enum Tls {
    /// TLS 1.2
    #[value(name = "1.2")]
    V12,
    /// TLS 1.3
    #[value(name = "1.3")]
    V13,
}

#[derive(Args, Clone)]
pub(crate) struct Try {
    /// How to prove who asks
    #[arg(value_enum, required_unless_present_any = ["mix", "inventory"])]
    pub(crate) method: Option<TryMethod>,
    /// The RADIUS server; may be repeated, the first that answers is asked. Without it, port
    /// 1812 of this machine, and 1813 for accounting
    #[arg(
        long,
        value_name = "ADDRESS:PORT",
        default_value = "127.0.0.1:1812",
        default_value_if("method", "accounting", "127.0.0.1:1813"),
        hide_default_value = true
    )]
    pub(crate) server: Vec<SocketAddr>,
    /// The address to send from, which is the NAS's; with --load it may be repeated
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1")]
    pub(crate) from: Vec<IpAddr>,
    /// The secret shared with the server
    #[arg(long, env = "REGNANT_SECRET", hide_env_values = true, required_unless_present = "inventory")]
    pub(crate) secret: Option<String>,
    /// The user's name
    #[arg(long, required_if_eq_any = [("method", "pap"), ("method", "chap")])]
    pub(crate) user: Option<String>,
    /// The user's password
    #[arg(long, required_if_eq_any = [("method", "pap"), ("method", "chap")])]
    pub(crate) password: Option<String>,
    /// What goes through the tunnel (peap, ttls, teap)
    #[arg(long, value_enum, default_value_t = InnerMethod::EapMschapv2)]
    pub(crate) inner: InnerMethod,
    /// The identity told outside the tunnel
    #[arg(long, value_name = "NAME")]
    pub(crate) outer: Option<String>,
    /// The machine's name, such as host/quay-laptop-7 (teap)
    #[arg(long, value_name = "NAME")]
    pub(crate) machine: Option<String>,
    /// The machine's password (teap)
    #[arg(long, requires = "machine")]
    pub(crate) machine_password: Option<String>,
    /// The authorities whose servers the supplicant trusts (PEM)
    #[arg(long, value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,
    /// The name that the server's certificate must have
    #[arg(long, value_name = "NAME")]
    pub(crate) server_name: Option<String>,
    /// The supplicant's certificate (PEM, PKCS#12 as .p12 or .pfx)
    #[arg(long, value_name = "FILE")]
    pub(crate) certificate: Option<PathBuf>,
    /// Its private key (PEM), where it is not in the same file
    #[arg(long, value_name = "FILE", requires = "certificate")]
    pub(crate) key: Option<PathBuf>,
    /// The password of a PKCS#12 file
    #[arg(long, requires = "certificate")]
    pub(crate) key_password: Option<String>,
    /// Offer only this version of TLS
    #[arg(long, value_enum)]
    pub(crate) tls: Option<Tls>,
    /// Do it this often with the same supplicant; later times resume the session
    #[arg(long, default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=100))]
    pub(crate) times: u32,
    /// The longest EAP packet that the supplicant sends
    #[arg(long, value_name = "BYTES", default_value_t = 1_300, value_parser = clap::value_parser!(u32).range(100..=4000))]
    pub(crate) fragment: u32,
    /// The device's MAC address, in the notation that the equipment uses
    #[arg(long, required_if_eq("method", "mac"))]
    pub(crate) mac: Option<String>,
    /// A further attribute, such as NAS-Port=7; may be repeated. Without it, mac
    /// sends Service-Type=Call-Check and NAS-Port-Type=Ethernet, pap and chap
    /// send NAS-Port-Type=Virtual
    #[arg(long = "attribute", value_name = "NAME=VALUE", value_parser = attribute)]
    pub(crate) attributes: Vec<(String, String)>,
    /// A dictionary file with further attributes; may be repeated
    #[arg(long = "dictionary", value_name = "FILE")]
    pub(crate) dictionaries: Vec<PathBuf>,
    /// What is reported (accounting)
    #[arg(long, value_enum, default_value_t = Status::Start)]
    pub(crate) status: Status,
    /// Where access is given, report a session there as equipment does: its begin and its end
    #[arg(long, value_name = "ADDRESS:PORT", conflicts_with = "load")]
    pub(crate) accounting: Option<SocketAddr>,
    /// Send no Message-Authenticator, as old equipment does
    #[arg(long)]
    pub(crate) unsigned: bool,
    /// Seconds to wait for an answer before sending again; each further wait is twice as long
    #[arg(long, value_name = "SECONDS", default_value_t = 2, value_parser = clap::value_parser!(u64).range(1..=60))]
    pub(crate) wait: u64,
    /// How often to send to one server
    #[arg(long, default_value_t = 3, value_parser = clap::value_parser!(u32).range(1..=20))]
    pub(crate) tries: u32,
    /// Ask very much, to see what the server bears
    #[arg(long)]
    pub(crate) load: bool,
    /// Begin so many logins a second, whatever becomes of them (with --load)
    #[arg(long, value_name = "NUMBER", requires = "load", conflicts_with = "window", value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub(crate) rate: Option<u32>,
    /// Keep so many logins under way (with --load)
    #[arg(long, value_name = "NUMBER", requires = "load", default_value_t = 64, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(crate) window: u32,
    /// For how many seconds logins begin (with --load)
    #[arg(long, value_name = "NUMBER", requires = "load", default_value_t = 10, value_parser = clap::value_parser!(u64).range(1..=86_400))]
    pub(crate) seconds: u64,
    /// What to ask, instead of METHOD: a file (TOML) of [[request]] with `method`,
    /// `weight`, `from`, `mac`, `user`, `password` and `attributes` (with --load)
    #[arg(long, value_name = "FILE", requires = "load", conflicts_with = "method")]
    pub(crate) mix: Option<PathBuf>,
    /// Ask as the equipment of an inventory file, for its devices and people (with --load)
    #[arg(long, value_name = "FILE", requires = "load", conflicts_with_all = ["method", "mix"])]
    pub(crate) inventory: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
}

impl Try {
    /// The method; clap sees to it that there is one.
    pub(crate) fn method(&self) -> TryMethod {
        self.method.unwrap_or(TryMethod::Pap)
    }
}

fn attribute(text: &str) -> Result<(String, String), String> {
    let (name, value) = text.split_once('=').ok_or("write it as Name=value, such as NAS-Port=7")?;
    Ok((name.trim().to_owned(), value.to_owned()))
}

/// How to reach the service's API.
#[derive(Args)]
pub(crate) struct Api {
    /// The service's address
    #[arg(long, env = "REGNANT_API", value_name = "URL", default_value = "http://127.0.0.1:8480")]
    pub(crate) api: String,
    /// File that holds the token [default: the one that `regnant sign-in` writes]
    #[arg(long, env = "REGNANT_TOKEN_FILE", value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
}

#[derive(Args)]
pub(crate) struct Journal {
    /// Only sentences that hold all these words
    pub(crate) words: Vec<String>,
    /// Only this outcome; may be repeated, or several with commas between them
    #[arg(long, value_delimiter = ',', value_parser = ["granted", "refused", "silence", "unfinished", "unheard", "told", "accounting"])]
    pub(crate) outcome: Vec<String>,
    /// At most this many entries
    #[arg(long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..=500))]
    pub(crate) limit: u32,
    /// Go on with new entries as they come
    #[arg(long)]
    pub(crate) follow: bool,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Trail {
    /// The entry's id, as `regnant journal` shows it
    pub(crate) id: String,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Activate {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// Only if this is still the active edition
    #[arg(long, value_name = "NUMBER")]
    pub(crate) expected: Option<u32>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Import {
    /// Inventory file (TOML) with [[store]], [[nas]], [[person]], [[machine]] and [[device]]
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Certificate {
    #[command(subcommand)]
    pub(crate) action: CertificateAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum CertificateAction {
    /// Show what we present, which gates do so, and what is odd or ends soon
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Bring a certificate with its key, in PEM or PKCS#12
    Import {
        /// The files: certificate, those above it, key
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Its name, as policies refer to it
        #[arg(long)]
        name: String,
        /// The password of a PKCS#12 file
        #[arg(long)]
        password: Option<String>,
    },
    /// Make a key here and a request for an authority to sign
    Request {
        /// The server's name, which supplicants will check
        name: String,
    },
}

#[derive(Args)]
pub(crate) struct Trust {
    #[command(subcommand)]
    pub(crate) action: TrustAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum TrustAction {
    /// Show whom we trust, which gates do so, and what is odd or ends soon
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add a trust, or say anew whose certificates it believes
    Add {
        /// Its name, as policies refer to it
        name: String,
        /// Authorities and revocation lists, in PEM
        #[arg(required = true, value_name = "FILE")]
        files: Vec<PathBuf>,
        /// Where newer revocation lists are fetched from, now and every hour
        #[arg(long, value_name = "URL")]
        crl_url: Option<String>,
        /// The responder that is asked in place of those that certificates name
        #[arg(long, value_name = "URL")]
        ocsp_url: Option<String>,
        /// Let certificates that are no authorities' vouch too; whoever holds the key
        /// of one could then issue clients
        #[arg(long)]
        whatever_it_is: bool,
    },
}

#[derive(Subcommand)]
pub(crate) enum Profile {
    /// Make the profile of a gate for a platform
    Make(MakeProfile),
}

#[derive(Args)]
pub(crate) struct MakeProfile {
    /// The gate whose server the supplicant will meet
    #[arg(long)]
    pub(crate) gate: String,
    /// What the profile is for
    #[arg(long = "for", value_name = "PLATFORM", value_parser = ["apple", "windows", "wpa-supplicant", "network-manager", "android"])]
    pub(crate) platform: String,
    /// The wireless network [default: a wired one]
    #[arg(long)]
    pub(crate) ssid: Option<String>,
    /// The method, such as peap [default: the gate's first that the platform can do]
    #[arg(long)]
    pub(crate) method: Option<String>,
    /// Write it here instead of to standard output
    #[arg(long, value_name = "FILE")]
    pub(crate) output: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct SignIn {
    /// The administrator's name
    #[arg(long)]
    pub(crate) user: String,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_arguments_are_consistent() {
        super::Arguments::command().debug_assert();
    }
}
