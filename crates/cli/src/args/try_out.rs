use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;

use clap::{Args, ValueEnum};

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
