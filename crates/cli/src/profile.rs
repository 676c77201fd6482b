use std::fs;
use std::process::ExitCode;

use crate::api::Client;
use crate::args;
use crate::failure::Failure;
use crate::paint::say;

/// Hands out a supplicant profile.
pub(crate) fn run(args: &args::MakeProfile) -> Result<ExitCode, Failure> {
    let mut query = vec![("gate", args.gate.as_str()), ("platform", args.platform.as_str())];
    query.extend(args.ssid.as_deref().map(|ssid| ("ssid", ssid)));
    query.extend(args.method.as_deref().map(|method| ("method", method)));
    let text = Client::new(&args.api)?.get_text("supplicant-profile", &query)?;
    match &args.output {
        Some(file) => {
            fs::write(file, text)?;
            say!("written to {}", file.display());
        }
        None => print!("{text}"),
    }
    Ok(ExitCode::SUCCESS)
}
