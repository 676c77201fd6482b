use clap::{Args, Subcommand};

use crate::args::{Api, ImportLines, Show};

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
        #[command(flatten)]
        show: Show,
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
    /// Set another secret, made unless you give one; for a while the one until now counts too
    NewSecret {
        /// Its name
        name: String,
        /// For how many hours the one until now counts too, unless the NAS uses the new one before
        #[arg(long, value_name = "HOURS", default_value_t = 24, value_parser = clap::value_parser!(u32).range(0..=720))]
        grace: u32,
        /// Read the new secret from standard input
        #[arg(long)]
        ask_secret: bool,
    },
    /// Say that one has its new secret, so that the one before counts no more
    EndGrace {
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
    /// Change several together, or remove them; all or none
    Together {
        /// Their names; with - also from standard input, one in a line
        #[arg(required = true, value_name = "NAME")]
        names: Vec<String>,
        /// Where they stand
        #[arg(long)]
        site: Option<String>,
        /// The dialect in which they are told
        #[arg(long)]
        dialect: Option<String>,
        /// Whether their requests must carry Message-Authenticator
        #[arg(long, value_name = "true|false")]
        require_message_authenticator: Option<bool>,
        /// A tag that they shall have; may be repeated
        #[arg(long)]
        tag: Vec<String>,
        /// A tag that they shall not have; may be repeated
        #[arg(long)]
        untag: Vec<String>,
        /// Remove them
        #[arg(long, conflicts_with_all = ["site", "dialect", "require_message_authenticator", "tag", "untag"])]
        remove: bool,
    },
    /// Add and change many from a file; what it does not say of one stays (exit code 1 where a
    /// record was refused)
    Import(ImportLines),
    /// Print all as an inventory file (TOML), without their secrets
    Export {
        /// With their secrets; the audit tells of each that you saw it
        #[arg(long)]
        with_secrets: bool,
    },
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
