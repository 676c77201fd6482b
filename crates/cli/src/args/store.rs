use clap::{Args, Subcommand};

use crate::args::{Api, Filtered, ImportLines};

#[derive(Args)]
pub(crate) struct Store {
    #[command(subcommand)]
    pub(crate) action: StoreAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum StoreAction {
    /// List the stores and what is in them
    List {
        #[command(flatten)]
        show: Filtered,
    },
    /// Add one
    Add {
        /// Its name, as policies refer to it
        name: String,
        /// What it holds; or that it is outside: a directory (LDAP), or a service that tells facts
        /// over HTTPS
        #[arg(long, value_parser = ["people", "devices", "directory", "http"])]
        kind: String,
        #[command(flatten)]
        outside: OutsideFields,
    },
    /// Show what is in one, or how it is asked and whether it answers
    Show {
        /// Its name
        name: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Give one that the active policy does not name another name, with all that is in it; or
    /// have a store outside asked in another way, where what is not said stays
    Change {
        /// Its name
        name: String,
        /// The new name
        #[arg(long = "name", value_name = "NAME")]
        new_name: Option<String>,
        #[command(flatten)]
        outside: OutsideFields,
    },
    /// Go the way to a store outside step by step, and say where it ends and what to do (exit code 1
    /// where a step fails)
    Test {
        /// Its name
        name: String,
        /// A person to look for, as the gate's `as` makes the name
        #[arg(long, conflicts_with_all = ["machine", "device"])]
        person: Option<String>,
        /// A machine to look for
        #[arg(long, conflicts_with = "device")]
        machine: Option<String>,
        /// A device to ask a service about, as the gate's `by` makes its name
        #[arg(long)]
        device: Option<String>,
        /// Read their password from standard input and try it
        #[arg(long)]
        ask_password: bool,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Give the machine account by which a domain's controllers are asked another password, there and
    /// here
    NewPassword {
        /// The directory's name
        name: String,
    },
    /// Show which bases and groups a directory has to offer, as it was looked at last
    Offer {
        /// Its name
        name: String,
        /// Letters that are in them
        #[arg(default_value = "")]
        letters: String,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Show the devices that a directory keeps by their MAC addresses. What --json prints,
    /// `regnant device import -` takes over
    Devices {
        /// The directory's name
        name: String,
        /// Print each device as a line of JSON
        #[arg(long)]
        json: bool,
    },
    /// Remove one that is empty and that the active policy does not name
    Remove {
        /// Its name
        name: String,
    },
    /// Add many from a file (exit code 1 where one was refused)
    Import(ImportLines),
    /// Print all as an inventory file (TOML), without what is in them
    Export,
}

/// How a store outside is asked.
#[derive(Args, Default)]
pub(crate) struct OutsideFields {
    /// The trust whose authorities issued their certificates; "" is the system's [default: ""]
    #[arg(long, help_heading = "Stores outside")]
    pub(crate) trust: Option<String>,
    /// Read the secret that it is asked with from standard input: the password of the account that
    /// searches a directory, what stands in the header of a service, or what a token is had for
    #[arg(long, help_heading = "Stores outside")]
    pub(crate) ask_secret: bool,
    /// A fact that it tells, with the attribute of a directory that holds it or where it stands in
    /// an answer (JSON Pointer), such as machine.compliant=/compliant; may be repeated; "" is none
    #[arg(long, value_name = "FACT=PLACE", help_heading = "Stores outside")]
    pub(crate) fact: Vec<String>,
    /// A realm or domain that it answers for, such as example.org or EXAMPLE\; may be repeated; ""
    /// is all [default: all]
    #[arg(long, help_heading = "Stores outside")]
    pub(crate) realm: Vec<String>,
    /// How many seconds an answer is waited for [default: 3]
    #[arg(long, value_name = "SECONDS", help_heading = "Stores outside")]
    pub(crate) time_limit: Option<u16>,
    /// For how many seconds answers are kept; proofs never are [default: 60]
    #[arg(long, value_name = "SECONDS", help_heading = "Stores outside")]
    pub(crate) keep: Option<u16>,
    #[command(flatten)]
    pub(crate) directory: DirectoryFields,
    #[command(flatten)]
    pub(crate) http: HttpFields,
}

/// How a service that tells facts is asked.
#[derive(Args, Default)]
#[command(next_help_heading = "Services that tell facts")]
pub(crate) struct HttpFields {
    /// Where, with {name} where the name stands: https://HOST/devices/{name}
    #[arg(long)]
    pub(crate) url: Option<String>,
    /// The header that carries the secret
    #[arg(long, value_name = "NAME")]
    pub(crate) header: Option<String>,
    /// Where a token is had for the secret (OAuth 2.0 client credentials)
    #[arg(long, value_name = "URL")]
    pub(crate) token_url: Option<String>,
    /// Who asks for the token
    #[arg(long)]
    pub(crate) client: Option<String>,
    /// What the token is to be good for
    #[arg(long)]
    pub(crate) scope: Option<String>,
}

/// How a directory is asked.
#[derive(Args, Default)]
#[command(next_help_heading = "Directories")]
pub(crate) struct DirectoryFields {
    /// A server, ldaps://HOST[:PORT], or ldap://HOST[:PORT] with StartTLS; may be repeated, the one
    /// that is asked first in front
    #[arg(long, value_name = "URL")]
    pub(crate) server: Vec<String>,
    /// Whom searches are bound as; "" is nobody [default: ""]
    #[arg(long, value_name = "DN")]
    pub(crate) bind_as: Option<String>,
    /// The entry below which everything is searched
    #[arg(long, value_name = "DN")]
    pub(crate) base: Option<String>,
    /// What people have in common; "" looks up none [default: (objectClass=person)]
    #[arg(long, value_name = "FILTER")]
    pub(crate) person_filter: Option<String>,
    /// An attribute by which a person is found; may be repeated [default: uid]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) person_name: Vec<String>,
    /// What machines have in common; "" looks up none [default: ""]
    #[arg(long, value_name = "FILTER")]
    pub(crate) machine_filter: Option<String>,
    /// An attribute by which a machine is found; may be repeated [default: cn]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) machine_name: Vec<String>,
    /// What devices have in common that are kept by their MAC addresses; "" looks up none [default: ""]
    #[arg(long, value_name = "FILTER")]
    pub(crate) device_filter: Option<String>,
    /// The attribute that holds a device's address [default: macAddress]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) device_name: Option<String>,
    /// How addresses are written there [default: colons]
    #[arg(long, value_parser = ["colons", "hyphens", "dots", "bare"])]
    pub(crate) device_notation: Option<String>,
    /// The attribute that holds an account's certificates, or what tells them from others, such as
    /// userCertificate;binary or altSecurityIdentities [default: ""]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) certificates: Option<String>,
    /// What accounts and devices have in common that are disabled, beside the marks that are known, such as
    /// (employeeType=left) [default: ""]
    #[arg(long, value_name = "FILTER")]
    pub(crate) disabled_filter: Option<String>,
    /// The attribute that holds an account's NT hash, for MS-CHAP [default: ""]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) nt_hash: Option<String>,
    /// The attribute that holds an account's password in clear, for CHAP, EAP-MD5 and MS-CHAP
    /// [default: ""]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) clear_password: Option<String>,
    /// Whether accounts say their groups, groups their members, or the directory all of them, with
    /// the primary group and groups of groups (Active Directory) [default: member-of]
    #[arg(long, value_parser = ["member-of", "search", "token-groups"])]
    pub(crate) groups: Option<String>,
    /// The entry below which a group counts by its short name [default: the base]
    #[arg(long, value_name = "DN")]
    pub(crate) group_base: Option<String>,
    /// The attribute that holds the short name of a group [default: cn]
    #[arg(long, value_name = "ATTRIBUTE")]
    pub(crate) group_name: Option<String>,
    /// The short name of the Active Directory domain whose controllers check responses of MS-CHAP;
    /// "" is none [default: ""]
    #[arg(long, value_name = "NAME")]
    pub(crate) domain: Option<String>,
    /// The account of this machine in that domain, such as REGNANT$; --bind-as is the same account
    #[arg(long, value_name = "ACCOUNT")]
    pub(crate) machine_account: Option<String>,
    /// A controller of the domain; may be repeated, the one that is asked first in front. Or those that
    /// the DNS names: dns:DOMAIN, or dns://SERVER/DOMAIN to ask another DNS server than the system's. ""
    /// is the hosts of the servers [default: those]
    #[arg(long, value_name = "HOST|dns:DOMAIN")]
    pub(crate) domain_controller: Vec<String>,
    /// Whether groups of groups count too [default: true]
    #[arg(long, value_name = "true|false")]
    pub(crate) nested: Option<bool>,
}
