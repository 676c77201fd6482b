use std::process::ExitCode;

use serde_json::json;

use crate::api::Client;
use crate::args::{self, SecretAction};
use crate::dictionary::named;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::{all, text};
use crate::sign_in::ask_secretly;

/// Keeps secrets that replies carry.
pub(crate) fn run(args: &args::Secret) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        SecretAction::List { json } => {
            let secrets = all(&client, "secrets", &[])?;
            match json {
                true => paint::json(&json!(secrets)),
                false => secrets.iter().for_each(|one| say!("{}", text(&one["name"]))),
            }
        }
        SecretAction::Set { name } => {
            let seen = client.seen_in("secrets", named(name)?)?;
            let value = ask_secretly(&format!("The secret {name}: "))?;
            client.post_over("secrets", &json!({ "name": name, "value": value }), &seen)??;
            say!("secret {name} is kept; write `send ATTRIBUTE = secret \"{name}\"` in a grant");
        }
        SecretAction::Remove { name } => {
            let seen = client.seen_in("secrets", named(name)?)?;
            client.delete_seen(&format!("secrets/{name}"), seen.etag())??;
            say!("secret {name} is removed");
        }
    }
    Ok(ExitCode::SUCCESS)
}
