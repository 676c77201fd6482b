use clap::{Args, Subcommand};

use crate::args::Api;

/// Which of a short list are shown, and how.
#[derive(Args)]
pub(crate) struct Filtered {
    /// Only those that hold all these words
    pub(crate) words: Vec<String>,
    #[command(flatten)]
    pub(crate) show: Show,
}

/// How a list is shown.
#[derive(Args)]
pub(crate) struct Show {
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
    /// Print CSV
    #[arg(long, conflicts_with = "json")]
    pub(crate) csv: bool,
}

/// A file of records that are in stores.
#[derive(Args)]
pub(crate) struct ImportFile {
    #[command(flatten)]
    pub(crate) lines: ImportLines,
    /// The store of records that name none [default: the only one of its kind]
    #[arg(long)]
    pub(crate) store: Option<String>,
}

/// A file of records.
#[derive(Args)]
pub(crate) struct ImportLines {
    /// CSV with the names of the fields in its first line (lists with ; between their
    /// members), JSON (an array, or an object in each line) or TOML; - is standard input
    #[arg(value_name = "FILE")]
    pub(crate) file: std::path::PathBuf,
    /// Only show what would come of it
    #[arg(long)]
    pub(crate) dry_run: bool,
    /// Apply nothing where one record is refused
    #[arg(long)]
    pub(crate) all_or_none: bool,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
}

/// Which store.
#[derive(Args)]
pub(crate) struct InStore {
    /// The store [default: the only one of its kind]
    #[arg(long, value_name = "STORE")]
    pub(crate) store: Option<String>,
}

#[derive(Args)]
pub(crate) struct Person {
    #[command(subcommand)]
    pub(crate) action: PersonAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum PersonAction {
    /// List people
    List {
        /// Only what holds all these words: name, store, group or note
        words: Vec<String>,
        /// Only those of this group
        #[arg(long)]
        group: Option<String>,
        #[command(flatten)]
        show: Show,
    },
    /// Show one, and what is known of them
    Show {
        /// The name
        name: String,
        #[command(flatten)]
        at: InStore,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add one; the password is read from standard input
    Add {
        /// The name they sign in with
        name: String,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        fields: PersonFields,
    },
    /// Change one; what is not said stays
    Change {
        /// The name
        name: String,
        #[command(flatten)]
        at: InStore,
        /// Another name
        #[arg(long = "name", value_name = "NAME")]
        new_name: Option<String>,
        /// Read a new password from standard input
        #[arg(long)]
        ask_password: bool,
        #[command(flatten)]
        fields: PersonFields,
    },
    /// Set a new password, which is read from standard input, for somebody who forgot theirs
    Password {
        /// The name
        name: String,
        #[command(flatten)]
        at: InStore,
    },
    /// Change several together, or remove them; all or none
    Together {
        /// Their names; with - also from standard input, one in a line
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        act: ActTogether,
    },
    /// Remove one whom the active policy does not name
    Remove {
        /// The name
        name: String,
        #[command(flatten)]
        at: InStore,
    },
    /// Add and change many from a file; what it does not say of one stays (exit code 1 where a
    /// record was refused)
    Import(ImportFile),
    /// Print all as an inventory file (TOML), without their passwords
    Export {
        /// With what is kept of their passwords; the audit tells of each that you saw it
        #[arg(long)]
        with_secrets: bool,
    },
}

/// What is done with several.
#[derive(Args)]
pub(crate) struct ActTogether {
    /// A group that they shall be in; may be repeated
    #[arg(long, value_name = "GROUP")]
    pub(crate) into: Vec<String>,
    /// A group that they shall not be in; may be repeated
    #[arg(long, value_name = "GROUP")]
    pub(crate) out_of: Vec<String>,
    /// Whether they are disabled
    #[arg(long, value_name = "true|false")]
    pub(crate) disabled: Option<bool>,
    /// Remove them
    #[arg(long, conflicts_with_all = ["into", "out_of", "disabled"])]
    pub(crate) remove: bool,
}

#[derive(Args)]
pub(crate) struct PersonFields {
    /// A group; may be repeated, and takes the place of all before; "" is none
    #[arg(long)]
    pub(crate) group: Vec<String>,
    /// Whether the account is disabled
    #[arg(long, value_name = "true|false")]
    pub(crate) disabled: Option<bool>,
    /// When the account ends, such as 2026-12-31T18:00:00Z; "" is never
    #[arg(long, value_name = "TIME")]
    pub(crate) expires: Option<String>,
    /// Whether MS-CHAP methods (PEAP and TEAP with EAP-MSCHAPv2) may prove them; what is kept
    /// for that is as good as the password
    #[arg(long, value_name = "true|false")]
    pub(crate) mschap: Option<bool>,
    /// Whether the password is kept so that it can be had back, which CHAP needs
    #[arg(long, value_name = "true|false")]
    pub(crate) recoverable_password: Option<bool>,
    /// Whether the helpdesk must leave the password alone
    #[arg(long, value_name = "true|false")]
    pub(crate) engineers_only: Option<bool>,
    /// Whether the helpdesk may set the password though a rule could make an administrator of whoever comes so
    #[arg(long, value_name = "true|false")]
    pub(crate) ordinary: Option<bool>,
    /// What people should know
    #[arg(long)]
    pub(crate) note: Option<String>,
}

#[derive(Args)]
pub(crate) struct Machine {
    #[command(subcommand)]
    pub(crate) action: MachineAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum MachineAction {
    /// List machines that prove themselves
    List {
        /// Only what holds all these words: name, store, group or note
        words: Vec<String>,
        /// Only those of this group
        #[arg(long)]
        group: Option<String>,
        #[command(flatten)]
        show: Show,
    },
    /// Show one, and what is known of it
    Show {
        /// Its name
        name: String,
        #[command(flatten)]
        at: InStore,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add one
    Add {
        /// Its name, without host/ before it or $ after it
        name: String,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        fields: MachineFields,
    },
    /// Change one; what is not said stays
    Change {
        /// Its name
        name: String,
        #[command(flatten)]
        at: InStore,
        /// Another name
        #[arg(long = "name", value_name = "NAME")]
        new_name: Option<String>,
        #[command(flatten)]
        fields: MachineFields,
    },
    /// Change several together, or remove them; all or none
    Together {
        /// Their names; with - also from standard input, one in a line
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        act: ActTogether,
    },
    /// Remove one that the active policy does not name
    Remove {
        /// Its name
        name: String,
        #[command(flatten)]
        at: InStore,
    },
    /// Add and change many from a file; what it does not say of one stays (exit code 1 where a
    /// record was refused)
    Import(ImportFile),
    /// Print all as an inventory file (TOML), without their passwords
    Export {
        /// With what is kept of their passwords; the audit tells of each that you saw it
        #[arg(long)]
        with_secrets: bool,
    },
}

#[derive(Args)]
pub(crate) struct MachineFields {
    /// Read a password from standard input
    #[arg(long)]
    pub(crate) ask_password: bool,
    /// A group; may be repeated, and takes the place of all before; "" is none
    #[arg(long)]
    pub(crate) group: Vec<String>,
    /// Whether the account is disabled
    #[arg(long, value_name = "true|false")]
    pub(crate) disabled: Option<bool>,
    /// When the account ends, such as 2026-12-31T18:00:00Z; "" is never
    #[arg(long, value_name = "TIME")]
    pub(crate) expires: Option<String>,
    /// Whether MS-CHAP methods may prove it
    #[arg(long, value_name = "true|false")]
    pub(crate) mschap: Option<bool>,
    /// What people should know
    #[arg(long)]
    pub(crate) note: Option<String>,
}

#[derive(Args)]
pub(crate) struct Device {
    #[command(subcommand)]
    pub(crate) action: DeviceAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum DeviceAction {
    /// List devices; at most 100 of them, unless as JSON or CSV
    List {
        /// Only those in which all these stand: title, owner, note, groups, or a part of the
        /// address in any notation
        words: Vec<String>,
        /// Only those of this group
        #[arg(long)]
        group: Option<String>,
        /// Only those that are barred (true), or that are not (false)
        #[arg(long, value_name = "true|false")]
        barred: Option<bool>,
        #[command(flatten)]
        show: Show,
    },
    /// Show one, and what is known of it
    Show {
        /// Its address, in any notation
        mac: String,
        #[command(flatten)]
        at: InStore,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Add one
    Add {
        /// Its address, in any notation
        mac: String,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        fields: DeviceFields,
    },
    /// Change one; what is not said stays
    Change {
        /// Its address, in any notation
        mac: String,
        #[command(flatten)]
        at: InStore,
        #[command(flatten)]
        fields: DeviceFields,
    },
    /// Keep devices out, whatever else is true
    Bar {
        /// Their addresses, in any notation; with - also from standard input, with anything
        /// between them
        #[arg(required = true, value_name = "MAC")]
        macs: Vec<String>,
        /// Why, for whoever looks for the device next
        #[arg(long)]
        reason: String,
    },
    /// Let devices in again
    Unbar {
        /// Their addresses, in any notation; with - also from standard input
        #[arg(required = true, value_name = "MAC")]
        macs: Vec<String>,
    },
    /// Put devices into groups, or take them out of groups
    Regroup {
        /// Their addresses, in any notation; with - also from standard input
        #[arg(required = true, value_name = "MAC")]
        macs: Vec<String>,
        /// A group that they shall be in; may be repeated
        #[arg(long)]
        into: Vec<String>,
        /// A group that they shall not be in; may be repeated
        #[arg(long)]
        out_of: Vec<String>,
    },
    /// Remove devices that the active policy does not name
    Remove {
        /// Their addresses, in any notation; with - also from standard input
        #[arg(required = true, value_name = "MAC")]
        macs: Vec<String>,
    },
    /// Add and change many from a file; what it does not say of one stays (exit code 1 where a
    /// record was refused)
    Import(ImportFile),
    /// Print all as an inventory file (TOML)
    Export,
}

#[derive(Args)]
pub(crate) struct DeviceFields {
    /// What you keep of devices beside, as NAME=VALUE; may be repeated; nothing after = takes it
    /// away, and ; stands between several texts
    #[arg(long, value_name = "NAME=VALUE")]
    pub(crate) set: Vec<String>,
    /// What it is
    #[arg(long)]
    pub(crate) title: Option<String>,
    /// A group; may be repeated, and takes the place of all before; "" is none
    #[arg(long)]
    pub(crate) group: Vec<String>,
    /// Whose it is
    #[arg(long)]
    pub(crate) owner: Option<String>,
    /// What people should know
    #[arg(long)]
    pub(crate) note: Option<String>,
    /// From when on it is not known any more, such as 2026-12-31T18:00:00Z; "" is never
    #[arg(long, value_name = "TIME")]
    pub(crate) expires: Option<String>,
}

#[derive(Args)]
pub(crate) struct Group {
    #[command(subcommand)]
    pub(crate) action: GroupAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum GroupAction {
    /// List the groups that somebody is in, that the active policy names, or that were added
    List {
        #[command(flatten)]
        show: Filtered,
    },
    /// Show where the active policy names one, and who is in it
    Show {
        /// Its name
        name: String,
    },
    /// Add one by its name, so that it stays where nobody is in it
    Add {
        /// Its name
        name: String,
        /// What people should know
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Give one another name, so that everybody who is in it is in the other then; or say what
    /// people should know of it
    Change {
        /// Its name
        name: String,
        /// The new name
        #[arg(long = "name", value_name = "NAME", required_unless_present_any = ["note", "ordinary"])]
        new_name: Option<String>,
        /// What people should know
        #[arg(long)]
        note: Option<String>,
        /// Whether the helpdesk may set passwords of whoever is in it, though a rule could make an administrator of
        /// whoever comes so
        #[arg(long, value_name = "true|false")]
        ordinary: Option<bool>,
        /// Although the active policy names it, or there is one of that name, with which it becomes one
        #[arg(long)]
        anyway: bool,
    },
    /// Take everybody out of one, and forget it
    Remove {
        /// Its name
        name: String,
        /// Although the active policy names it
        #[arg(long)]
        anyway: bool,
    },
    /// Add many, and say what people should know of them, from a file (exit code 1 where one was
    /// refused)
    Import(ImportLines),
    /// Print all as an inventory file (TOML)
    Export,
}

#[derive(Args)]
pub(crate) struct Site {
    #[command(subcommand)]
    pub(crate) action: SiteAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum SiteAction {
    /// List the sites at which a NAS stands, that the active policy names, or that were added
    List {
        #[command(flatten)]
        show: Filtered,
    },
    /// Show where the active policy names one, and how many NASes stand there
    Show {
        /// Its name
        name: String,
    },
    /// Add one by its name, so that it stays where nothing stands there
    Add {
        /// Its name
        name: String,
        /// What people should know
        #[arg(long, default_value = "")]
        note: String,
    },
    /// Give one another name, at every NAS that stands there; or say what people should know of it
    Change {
        /// Its name
        name: String,
        /// The new name
        #[arg(long = "name", value_name = "NAME", required_unless_present = "note")]
        new_name: Option<String>,
        /// What people should know
        #[arg(long)]
        note: Option<String>,
        /// Although the active policy names it, or there is one of that name, with which it becomes one
        #[arg(long)]
        anyway: bool,
    },
    /// Forget one at which nothing stands
    Remove {
        /// Its name
        name: String,
        /// Although the active policy names it or equipment stands there, which stands nowhere then
        #[arg(long)]
        anyway: bool,
    },
    /// Add many, and say what people should know of them, from a file (exit code 1 where one was
    /// refused)
    Import(ImportLines),
    /// Print all as an inventory file (TOML)
    Export,
}

#[derive(Args)]
pub(crate) struct Administrator {
    #[command(subcommand)]
    pub(crate) action: AdministratorAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum AdministratorAction {
    /// List who may sign in
    List {
        #[command(flatten)]
        show: Filtered,
    },
    /// Show one
    Show {
        /// The name they sign in with
        name: String,
    },
    /// Add somebody; the password is read from standard input
    Add {
        /// The name they sign in with
        name: String,
        /// What they may do: everything; bar devices and set passwords of people; read all
        /// but secrets
        #[arg(long, value_parser = ["engineer", "helpdesk", "auditor"])]
        role: String,
    },
    /// Change somebody; their sessions end
    Change {
        /// The name
        name: String,
        /// Another role
        #[arg(long, value_parser = ["engineer", "helpdesk", "auditor"])]
        role: Option<String>,
        /// Whether they are kept out
        #[arg(long, value_name = "true|false")]
        disabled: Option<bool>,
        /// From when on they are kept out, such as 2026-12-31T18:00:00Z; "" is never
        #[arg(long, value_name = "TIME")]
        expires: Option<String>,
        /// Read a new password from standard input
        #[arg(long)]
        ask_password: bool,
        /// Whether their tokens go on though they get another password; else they end
        #[arg(long, requires = "ask_password")]
        keep_tokens: bool,
    },
    /// Remove somebody with their sessions and tokens
    Remove {
        /// The name
        name: String,
    },
    /// Add and change many from a file; who is there already keeps password and second factor
    /// where it says none (exit code 1 where one was refused)
    Import(ImportLines),
    /// Print all (TOML), without their passwords and second factors
    Export,
    /// Take away the second factor of somebody who lost it
    ResetSecondFactor {
        /// The name
        name: String,
    },
    /// Set the first administrator, an engineer, on this machine, while the service does not
    /// run; the password is read from standard input
    First {
        /// The name they sign in with
        name: String,
        /// Directory with the records
        #[arg(long, value_name = "DIR")]
        data: std::path::PathBuf,
        /// Configuration file (TOML), where it says where the sealing key is
        #[arg(long, value_name = "FILE")]
        config: Option<std::path::PathBuf>,
    },
    /// Set a new password for an engineer and take their second factor away, on this machine,
    /// while the service does not run; the password is read from standard input
    Rescue {
        /// The name
        name: String,
        /// Directory with the records
        #[arg(long, value_name = "DIR")]
        data: std::path::PathBuf,
        /// Configuration file (TOML), where it says where the sealing key is
        #[arg(long, value_name = "FILE")]
        config: Option<std::path::PathBuf>,
        /// Whether their tokens go on; else they end
        #[arg(long)]
        keep_tokens: bool,
    },
}

#[derive(Args)]
pub(crate) struct Token {
    #[command(subcommand)]
    pub(crate) action: TokenAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum TokenAction {
    /// List tokens: everybody's for engineers and auditors, else your own
    List {
        #[command(flatten)]
        show: Filtered,
    },
    /// Show one
    Show {
        /// Its id, or what it is called
        id: String,
    },
    /// Make one for a program, and show it this once
    Add {
        /// What to call it
        name: String,
        /// What it may do, as far as you may [default: what you may]
        #[arg(long, value_parser = ["engineer", "helpdesk", "auditor"])]
        role: Option<String>,
        /// When it ends, such as 2026-12-31T18:00:00Z
        #[arg(long, value_name = "TIME")]
        expires: Option<String>,
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Say of one what it is called, may do or when it ends
    Change {
        /// Its id, as `list` shows it
        id: String,
        /// What to call it
        #[arg(long)]
        name: Option<String>,
        /// What it may do, as far as you may
        #[arg(long, value_parser = ["engineer", "helpdesk", "auditor"])]
        role: Option<String>,
        /// When it ends, such as 2026-12-31T18:00:00Z; "" is never
        #[arg(long, value_name = "TIME")]
        expires: Option<String>,
    },
    /// Make many of your own from a file with name, role and expires, and show them this once
    /// (exit code 1 where one was refused)
    Import(ImportLines),
    /// Print what is known of all but the tokens themselves (TOML)
    Export,
    /// Revoke one by its id
    #[command(visible_alias = "remove")]
    Revoke {
        /// Its id, as `list` shows it
        id: String,
    },
}
