mod attribute;
mod certificates;
mod nas;
mod policy;
mod records;
mod store;
mod try_out;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

pub(crate) use attribute::{Attribute, AttributeAction};
pub(crate) use certificates::{Certificate, CertificateAction, MakeProfile, Profile, Trust, TrustAction};
pub(crate) use nas::{Nas, NasAction, NasFields};
pub(crate) use policy::{Activate, Check, Diff, Editions, Format, Lsp, Policy, Pull, Push, Rollback, WhatIf};
pub(crate) use records::{
    ActTogether, Administrator, AdministratorAction, Device, DeviceAction, DeviceFields, Filtered, Group, GroupAction,
    ImportLines, InStore, Machine, MachineAction, MachineFields, Person, PersonAction, PersonFields, Show, Site,
    SiteAction, Token, TokenAction,
};
pub(crate) use store::{DirectoryFields, HttpFields, OutsideFields, Store, StoreAction};
pub(crate) use try_out::{InnerMethod, Tls, Try, TryMethod};

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
    /// Help an editor with policies (language server protocol, over standard input and output)
    Lsp(Lsp),
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
    /// Keep people
    Person(Person),
    /// Keep machines that prove themselves
    Machine(Machine),
    /// Keep devices, by their MAC addresses
    Device(Device),
    /// Declare what people, machines and devices have beside what every one has: facts of policies
    Attribute(Attribute),
    /// Show groups, who is in them and where the policy names them, and give one another name
    Group(Group),
    /// Show sites, and give one another name
    Site(Site),
    /// Keep the stores that identities are looked up in
    Store(Box<Store>),
    /// Keep who may sign in
    Administrator(Administrator),
    /// Keep tokens, with which programs sign in
    Token(Token),
    /// Keep secrets that policies name and replies carry
    Secret(Secret),
    /// Hand out what a client needs so that it trusts the server of a gate
    #[command(subcommand)]
    Profile(Profile),
    /// Show who changed what
    #[command(subcommand)]
    Audit(Audit),
    /// Back up a running service into a file
    Backup(Backup),
    /// Put a backup into a data directory that no service has open
    Restore(Restore),
    /// Set another sealing key
    #[command(subcommand)]
    Key(Key),
    /// Look at an installation and say what to do (exit code 1 where something is wrong)
    Doctor(Doctor),
    /// Sign in and keep a token for the other commands
    SignIn(SignIn),
}

#[derive(Args)]
pub(crate) struct Doctor {
    /// Directory with the service's data, on its machine: looks at files, keys, room and ports too
    #[arg(long, value_name = "DIR")]
    pub(crate) data: Option<PathBuf>,
    /// The configuration file (TOML) that goes with it
    #[arg(long, value_name = "FILE", requires = "data")]
    pub(crate) config: Option<PathBuf>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
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
    /// Show a change, with what was before and after
    Show(ShowAudit),
    /// Check that nothing in it was changed after it was written (exit code 1 where something
    /// was)
    Verify(VerifyAudit),
}

#[derive(Args)]
pub(crate) struct ShowAudit {
    /// The number of the change
    #[arg(value_name = "NUMBER")]
    pub(crate) revision: u64,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct VerifyAudit {
    /// What an earlier check told, as NUMBER:HASH, to see that nothing before was changed
    #[arg(long, value_name = "NUMBER:HASH")]
    pub(crate) known: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct ListAudit {
    /// Only changes in whose author, place, deed or subject all these words stand
    pub(crate) words: Vec<String>,
    /// Only those of this record, such as nas/quay-sw-1 or person/harbour/ida.marsh
    #[arg(long, value_name = "RECORD")]
    pub(crate) record: Option<String>,
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

#[derive(Args)]
pub(crate) struct Backup {
    /// The file, which must not be there yet
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Take the sealing key along, and encrypt all of it under a passphrase, which is read from
    /// standard input; after it your password, and the code of your second factor where you have one
    #[arg(long)]
    pub(crate) with_keys: bool,
    /// Take journal and accounting along
    #[arg(long)]
    pub(crate) with_journal: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Restore {
    /// The backup; the passphrase of an encrypted one is read from standard input
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Directory with the records; what is there is moved aside
    #[arg(long, value_name = "DIR")]
    pub(crate) data: PathBuf,
    /// Configuration file (TOML), where it says where the sealing key is
    #[arg(long, value_name = "FILE")]
    pub(crate) config: Option<PathBuf>,
    /// What becomes of the tokens that it has [default: asked at a terminal, else `end`]
    #[arg(long, value_enum)]
    pub(crate) tokens: Option<Tokens>,
}

/// What becomes of the tokens of a backup.
#[derive(Clone, Copy, Debug, ValueEnum)]
pub(crate) enum Tokens {
    /// They go on
    Keep,
    /// They end
    End,
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
    /// Leave out the port's own directory, which needs OpenLDAP's server (slapd) on this machine
    #[arg(long)]
    pub(crate) without_directory: bool,
}

/// How to reach the service's API.
#[derive(Clone, Args)]
pub(crate) struct Api {
    /// The service's address
    #[arg(long, global = true, env = "REGNANT_API", value_name = "URL", default_value = "http://127.0.0.1:8480")]
    pub(crate) api: String,
    /// File that holds the token [default: the one that `regnant sign-in` writes]
    #[arg(long, global = true, env = "REGNANT_TOKEN_FILE", value_name = "FILE")]
    pub(crate) token_file: Option<PathBuf>,
    /// SHA-256 of the service's certificate, as the service prints it at its start [default: what `regnant sign-in` kept]
    #[arg(long, global = true, env = "REGNANT_FINGERPRINT", value_name = "SHA-256")]
    pub(crate) fingerprint: Option<String>,
    /// File of the authorities that vouch for the service's certificate, in PEM [default: those of the system]
    #[arg(long, global = true, env = "REGNANT_AUTHORITY", value_name = "FILE")]
    pub(crate) authority: Option<PathBuf>,
}

impl Api {
    /// The service at this address, in plain HTTP.
    pub(crate) fn plain(api: &str) -> Self {
        Self { api: api.to_owned(), token_file: None, fingerprint: None, authority: None }
    }
}

#[derive(Args)]
pub(crate) struct Journal {
    /// Only sentences that hold all these words
    pub(crate) words: Vec<String>,
    /// Only this outcome; may be repeated, or several with commas between them
    #[arg(long, value_delimiter = ',', value_parser = ["granted", "observed", "refused", "silence", "unfinished", "unheard", "told", "accounting"])]
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
pub(crate) struct Import {
    /// Inventory file (TOML) with [[store]], [[nas]], [[person]], [[machine]] and [[device]]
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
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
