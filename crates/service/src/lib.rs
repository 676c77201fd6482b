//! The service: sockets, tasks, the HTTP API and the console's files around the
//! core in `regnant-decision`.
//!
//! This crate decides nothing itself. Read [`Service`] first, then [`Administration`],
//! through which everything that people change goes.

mod administration;
mod backup;
mod clock;
mod config;
mod console_tls;
mod data_dir;
mod findings;
mod first_policy;
mod heard;
mod http;
mod installation;
mod languages;
mod merge;
mod on_machine;
mod outside_stores;
mod sealed_stream;
mod service;
mod snapshot;
mod surroundings;
mod udp;

pub use administration::certificates::{CertificateReport, CertificatesReport, LinkReport, TrustReport};
pub use administration::policies::Wanted;
pub use administration::profile::ProfileOrder;
pub use administration::report::{CaseReport, CheckReport, DiagnosticReport};
pub use administration::revocation_lists::ListReport;
pub use administration::{Administration, AdministrationError};
pub use backup::{BackupError, Manifest, Restore, Restored, is_encrypted};
pub use config::{AdministratorsConfig, ApiConfig, Config, ConfigError, KeysConfig, RadiusConfig};
pub use console_tls::ConsoleTlsError;
pub use findings::{Finding, Weight};
pub use first_policy::{Answers, AnswersError, Members, first_policy};
pub use http::openapi::openapi_json;
pub use installation::look_at_installation;
pub use languages::LanguageError;
pub use on_machine::OnMachine;
pub use service::{Service, StartError, rotate_key};
pub use surroundings::Surroundings;

/// Parsers of outside bytes that are reached from nowhere else outside, for the fuzzer.
#[doc(hidden)]
pub mod outside {
    pub use crate::administration::import::read_all;
    pub use crate::backup::unpack;
}
