//! What people, machines and devices have beside what every one has.

use std::process::ExitCode;

use serde_json::{Value, json};

use crate::api::Client;
use crate::args::{self, AttributeAction};
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::{all, path, text};

/// Keeps what is declared.
pub(crate) fn run(args: &args::Attribute) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        AttributeAction::List { json } => {
            let attributes = all(&client, "attributes", &[])?;
            if *json {
                paint::json(&json!(attributes));
            } else {
                let row = |one: &Value| [text(&one["fact"]), text(&one["type"]), text(&one["meaning"])];
                paint::table(["fact", "type", "meaning"], attributes.iter().map(row));
            }
        }
        AttributeAction::Add { name, kind, meaning } => {
            let body = json!({ "name": name, "type": kind, "meaning": meaning });
            let taken = client.post_over("attributes", &body, &client.seen_in("attributes", name)?)??;
            let fact = fact(name);
            say!("{fact} is a fact from now on; the active policy is edition {} with it", taken["edition"]);
        }
        AttributeAction::Remove { name } => {
            let seen = client.seen_in("attributes", name)?;
            let taken = client.delete_seen(&path(&["attributes", name])?, seen.etag())??;
            let fact = fact(name);
            say!("{fact} is no fact any more; the active policy is edition {} without it", taken["edition"]);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The fact of an attribute: of one of devices the name stands alone.
fn fact(name: &str) -> String {
    if name.contains('.') { name.to_owned() } else { format!("device.{name}") }
}
