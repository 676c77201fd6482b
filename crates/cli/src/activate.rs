use std::process::ExitCode;

use regnant_service::CheckReport;
use serde_json::{Value, json};

use crate::api::Client;
use crate::args;
use crate::check::{print_report, read_policy};
use crate::failure::Failure;
use crate::paint::{self, say};

/// Checks a policy and makes it the active edition.
pub(crate) fn run(args: &args::Activate) -> Result<ExitCode, Failure> {
    let (_, source) = read_policy(&args.path)?;
    let client = Client::new(&args.api)?;
    let body = json!({ "source": source, "expected": args.expected });
    match client.post("policy/activate", &body)? {
        Ok(done) => {
            if args.json {
                paint::json(&done);
                return Ok(ExitCode::SUCCESS);
            }
            if let Some(report) = report(&done) {
                print_report(&report);
            }
            say!("edition {} is active", done["number"]);
            Ok(ExitCode::SUCCESS)
        }
        Err(refused) => {
            if args.json {
                paint::json(&refused.body);
            } else if let Some(report) = report(&refused.body) {
                print_report(&report);
            }
            Err(refused.into())
        }
    }
}

fn report(body: &Value) -> Option<CheckReport> {
    serde_json::from_value(body.get("report")?.clone()).ok()
}
