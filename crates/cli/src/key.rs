use std::process::ExitCode;

use regnant_service::{Config, ConfigError, rotate_key};

use crate::args;
use crate::failure::Failure;
use crate::paint::say;

/// Sets another sealing key, while no service runs on the data.
pub(crate) fn rotate(args: &args::RotateKey) -> Result<ExitCode, Failure> {
    let config = args.config.as_deref().map(Config::read).transpose().map_err(|error| match error {
        ConfigError::Unreadable(..) => Failure::usage(error),
        error => Failure::new(error),
    })?;
    let (from, to) = rotate_key(&config.unwrap_or_default(), &args.data)?;
    say!("every secret is sealed under key {to} now; key {from} opens none of them");
    say!("back up the new key file: backups of records that were made before need the old one");
    Ok(ExitCode::SUCCESS)
}
