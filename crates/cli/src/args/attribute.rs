use clap::{Args, Subcommand};

use crate::args::Api;

/// Keeps what people, machines and devices have beside what every one has.
#[derive(Args)]
pub(crate) struct Attribute {
    #[command(subcommand)]
    pub(crate) action: AttributeAction,
    #[command(flatten)]
    pub(crate) api: Api,
}

#[derive(Subcommand)]
pub(crate) enum AttributeAction {
    /// List what is declared
    List {
        /// Print JSON
        #[arg(long)]
        json: bool,
    },
    /// Declare one, or say anew what it means
    Add {
        /// Its name: small letters, digits and hyphens, with user. or machine. in front where it is none
        /// of devices
        name: String,
        /// What its values are
        #[arg(long = "type", value_parser = ["text", "number", "boolean", "address", "texts"], default_value = "text")]
        kind: String,
        /// What it means, for people
        #[arg(long, default_value = "")]
        meaning: String,
    },
    /// Forget one that no policy names, no device has and no store tells
    Remove {
        /// Its name
        name: String,
    },
}
