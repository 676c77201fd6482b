mod attribute;
mod nas;
mod records;
mod store;
mod try_out;

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

pub(crate) use attribute::{Attribute, AttributeAction};
pub(crate) use nas::{Nas, NasAction, NasFields};
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
    /// standard input
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

#[derive(Subcommand)]
pub(crate) enum Policy {
    /// Check a policy and run its cases, without a service (exit code 0 clean, 1 errors, 3 a failed case)
    Check(Check),
    /// Write a first policy, of only what you say that there is
    New {
        /// Where to
        #[arg(value_name = "FOLDER")]
        folder: PathBuf,
    },
    /// Lay a policy out; comments and ends of lines stay (with --check: exit code 1 where a file is laid
    /// out otherwise)
    Format(Format),
    /// Check a policy and make it the active edition: a folder, or your draft
    Activate(Activate),
    /// Write the active edition, another one or your draft into a folder
    Pull(Pull),
    /// Keep a folder as your draft, which decides nothing
    Push(Push),
    /// Show how two policies differ, by meaning and by line
    Diff(Diff),
    /// List editions: who, when, why and from which
    Editions(Editions),
    /// Make an earlier edition the active one again, checked against the records as they are now
    Rollback(Rollback),
    /// Show what policies would decide with facts that you state or that an entry of the journal kept; nothing
    /// is sent, and nothing counted
    WhatIf(WhatIf),
    /// Print a case made of an entry of the journal, ready to be kept in the policy
    Case {
        /// The entry
        #[arg(long, value_name = "ID")]
        entry: String,
        #[command(flatten)]
        api: Api,
    },
    /// Show how often each rule decided in the last day and week, and when last
    Hits {
        /// Print JSON
        #[arg(long)]
        json: bool,
        #[command(flatten)]
        api: Api,
    },
    /// Say what a code of a finding means, such as W412; without one, list them
    Explain {
        /// The code
        code: Option<String>,
    },
    /// Forget your draft
    DropDraft {
        #[command(flatten)]
        api: Api,
    },
}

#[derive(Args)]
pub(crate) struct Format {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// Change nothing, and say which files are laid out otherwise
    #[arg(long)]
    pub(crate) check: bool,
}

#[derive(Args)]
pub(crate) struct WhatIf {
    /// Facts in the place of those of the entry, as a case states them; may be repeated
    #[arg(long = "fact", value_name = "NAME = VALUE")]
    pub(crate) facts: Vec<String>,
    /// The entry whose facts are taken
    #[arg(long, value_name = "ID")]
    pub(crate) entry: Option<String>,
    /// A policy beside the active edition: a folder, `draft`, or an edition by its number
    #[arg(long = "with", value_name = "POLICY")]
    pub(crate) other: Option<String>,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Pull {
    /// Where to
    #[arg(value_name = "FOLDER")]
    pub(crate) folder: PathBuf,
    /// This edition [default: the active one]
    #[arg(long, value_name = "NUMBER")]
    pub(crate) edition: Option<u32>,
    /// Your draft
    #[arg(long, conflicts_with = "edition")]
    pub(crate) draft: bool,
    /// Although files there would be lost
    #[arg(long)]
    pub(crate) anyway: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Push {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// The edition that it is made from [default: that of the draft before, else the active one]
    #[arg(long, value_name = "NUMBER")]
    pub(crate) made_from: Option<u32>,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Diff {
    /// An edition by its number, `active`, `draft`, or a folder; with one alone, against the active edition
    /// [default: the active edition against your draft]
    pub(crate) from: Option<String>,
    /// The same
    pub(crate) to: Option<String>,
    /// Leave out the lines
    #[arg(long)]
    pub(crate) meaning: bool,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Editions {
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Args)]
pub(crate) struct Rollback {
    /// The edition
    #[arg(value_name = "NUMBER")]
    pub(crate) number: u32,
    /// Why; asked for where somebody is there to type
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
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
pub(crate) struct Check {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// Check against the records of a running service, as `activate` would: which
    /// stores, certificates and trusts there are
    #[arg(long)]
    pub(crate) against_service: bool,
    /// Tell which rules no case reaches
    #[arg(long)]
    pub(crate) coverage: bool,
    #[command(flatten)]
    pub(crate) api: Api,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
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
pub(crate) struct Activate {
    /// The policy: a file, or a folder with main.writ [default: your draft]
    #[arg(value_name = "PATH")]
    pub(crate) path: Option<PathBuf>,
    /// Why; asked for where somebody is there to type
    #[arg(long, value_name = "TEXT")]
    pub(crate) note: Option<String>,
    /// Check it against the service, show what it would change, and change nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Only if this is still the active edition [default of a draft: the one that it is made from]
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
    /// Forget a certificate with its key, which no gate presents
    Remove {
        /// Its name
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
    /// Forget a trust that no gate has
    Remove {
        /// Its name
        name: String,
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
