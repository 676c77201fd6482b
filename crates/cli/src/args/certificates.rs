use std::path::PathBuf;

use clap::{Args, Subcommand};

use crate::args::Api;

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
