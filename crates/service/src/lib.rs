//! The service: sockets, tasks, the HTTP API and the console's files around the
//! core in `regnant-access`.
//!
//! This crate decides nothing itself. Read [`Service`] first, then [`Office`],
//! through which everything that people change goes.

mod clock;
mod config;
mod data_dir;
mod http;
mod office;
mod service;
mod udp;
mod world;

pub use config::{ApiConfig, Config, ConfigError, KeysConfig, RadiusConfig};
pub use http::openapi::openapi_json;
pub use office::certificates::{CertificateReport, CertificatesReport, LinkReport, TrustReport};
pub use office::profile::ProfileOrder;
pub use office::report::{CaseReport, CheckReport, DiagnosticReport};
pub use office::revocation_lists::ListReport;
pub use office::{Office, OfficeError, check_alone};
pub use service::{Service, StartError};
