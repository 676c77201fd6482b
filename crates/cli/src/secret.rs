use std::process::ExitCode;

use serde_json::{Value, json};

use crate::api::Client;
use crate::args::{self, SecretAction};
use crate::dictionary::named;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::records::all;
use crate::sign_in::ask_secretly;

/// Keeps secrets that replies carry.
pub(crate) fn run(args: &args::Secret) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        SecretAction::List { json } => {
            let secrets = all(&client, "secrets", &[])?;
            match json {
                true => paint::json(&json!(secrets)),
                false => secrets.iter().filter_map(Value::as_str).for_each(|name| say!("{name}")),
            }
        }
        SecretAction::Set { name } => {
            let value = ask_secretly(&format!("The secret {name}: "))?;
            client.post("secrets", &json!({ "name": named(name)?, "value": value }))??;
            say!("secret {name} is kept; write `send ATTRIBUTE = secret \"{name}\"` in a grant");
        }
        SecretAction::Remove { name } => {
            client.delete(&format!("secrets/{}", named(name)?))??;
            say!("secret {name} is removed");
        }
    }
    Ok(ExitCode::SUCCESS)
}
