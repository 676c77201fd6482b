use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::Api;

#[derive(Subcommand)]
pub(crate) enum Policy {
    /// Check a policy and run its cases, without a service (exit code 0 clean, 1 errors, 3 a failed case)
    Check(Check),
    /// Print what a policy is checked against, by names alone: stores, groups, certificates, equipment, dialects;
    /// `check --inventory` takes it where no service is reached
    Inventory {
        #[command(flatten)]
        api: Api,
    },
    /// Write a first policy, of only what you say that there is
    New {
        /// Where to
        #[arg(value_name = "FOLDER")]
        folder: PathBuf,
        /// Ask with the names that a running service has, and take no others
        #[arg(long)]
        against_service: bool,
        #[command(flatten)]
        api: Api,
    },
    /// Lay a policy out; comments and ends of lines stay (with --check: exit code 1 where a file is laid
    /// out otherwise)
    Format(Format),
    /// Check a policy and make it the active edition: a folder; or your draft, while the edition that it is made from
    /// is still active (or the one of --expected)
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
pub(crate) struct Check {
    /// The policy: a file, or a folder with main.writ
    #[arg(value_name = "PATH")]
    pub(crate) path: PathBuf,
    /// Check against the records of a running service, as `activate` would: which
    /// stores, certificates and trusts there are
    #[arg(long, conflicts_with_all = ["inventory", "dictionaries", "dialects"])]
    pub(crate) against_service: bool,
    /// Check against what a file says that there is: an inventory as `regnant import` takes it, or what
    /// `regnant policy inventory` printed
    #[arg(long, value_name = "FILE")]
    pub(crate) inventory: Option<PathBuf>,
    /// A dictionary of your own, where the policy names its attributes; may be repeated
    #[arg(long = "dictionary", value_name = "FILE")]
    pub(crate) dictionaries: Vec<PathBuf>,
    /// A dialect of your own, in which equipment of the inventory is told; may be repeated
    #[arg(long = "dialect", value_name = "FILE")]
    pub(crate) dialects: Vec<PathBuf>,
    /// Tell which rules no case reaches
    #[arg(long)]
    pub(crate) coverage: bool,
    #[command(flatten)]
    pub(crate) api: Api,
    /// Print JSON
    #[arg(long)]
    pub(crate) json: bool,
}

/// What editors start to help with policies, over standard input and output.
#[derive(Args)]
pub(crate) struct Lsp {
    /// Help with the names that a running service has
    #[arg(long, conflicts_with = "inventory")]
    pub(crate) against_service: bool,
    /// Help with the names of a file: an inventory, or what `regnant policy inventory` printed
    #[arg(long, value_name = "FILE")]
    pub(crate) inventory: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) api: Api,
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
pub(crate) struct Activate {
    /// The policy: a file, or a folder with main.writ [default: your draft]
    #[arg(value_name = "PATH")]
    pub(crate) path: Option<PathBuf>,
    /// Check it against the service, show what it would change, and change nothing
    #[arg(long)]
    pub(crate) dry_run: bool,
    #[command(flatten)]
    pub(crate) next: NextEdition,
}

/// What is said of an edition that is to be the active one.
#[derive(Args)]
pub(crate) struct NextEdition {
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
    #[command(flatten)]
    pub(crate) next: NextEdition,
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
