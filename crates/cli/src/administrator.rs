use std::process::ExitCode;

use regnant_service::{Config, OnMachine};
use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, AdministratorAction, TokenAction};
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::people::changes;
use crate::records::{all, export, flag, path, put, show_filtered, show_one, text};
use crate::sign_in::ask_secretly;
use crate::{import_lines, import_tokens};

/// Keeps who may sign in.
pub(crate) fn run(args: &args::Administrator) -> Result<ExitCode, Failure> {
    // These two need no service, and no token.
    match &args.action {
        AdministratorAction::First { name, data, config } => {
            let machine = on_machine(data, config.as_deref())?;
            let password = ask_secretly(&format!("Password of {name}: "))?;
            machine.first_administrator(name, &password)?;
            say!("{name} is the first administrator, an engineer");
            return Ok(ExitCode::SUCCESS);
        }
        AdministratorAction::Rescue { name, data, config, keep_tokens } => {
            let machine = on_machine(data, config.as_deref())?;
            let password = ask_secretly(&format!("New password of {name}: "))?;
            machine.rescue_administrator(name, &password, *keep_tokens)?;
            let tokens = if *keep_tokens { "their tokens go on" } else { "their tokens have ended" };
            say!("{name} is an engineer, signs in with the new password, and has no second factor; {tokens}");
            return Ok(ExitCode::SUCCESS);
        }
        _ => {}
    }
    let client = Client::new(&args.api)?;
    match &args.action {
        AdministratorAction::List { show: how } => {
            let row = |one: &Value| {
                [
                    text(&one["name"]),
                    text(&one["role"]),
                    flag(&one["second_factor"], "yes"),
                    flag(&one["disabled"], "disabled"),
                    text(&one["expires"]),
                ]
            };
            let head = ["name", "role", "second factor", "state", "expires"];
            show_filtered(&client, "administrators", how, &ADMINISTRATOR_FIELDS, head, row)?;
        }
        AdministratorAction::Show { name } => {
            let one = client.get(&path(&["administrators", name])?, &[])?;
            show_fields(name, &one, &ADMINISTRATOR_FIELDS[1..]);
        }
        AdministratorAction::Add { name, role } => {
            let password = ask_secretly(&format!("Password of {name}: "))?;
            client.post("administrators", &json!({ "name": name, "role": role, "password": password }))??;
            say!("{name} may sign in as {role}");
        }
        AdministratorAction::Change { name, role, disabled, expires, ask_password, keep_tokens } => {
            let mut form = Map::new();
            put(&mut form, "role", role.as_deref());
            put(&mut form, "disabled", *disabled);
            put(&mut form, "expires", expires.as_deref());
            if *ask_password {
                put(&mut form, "password", Some(ask_secretly(&format!("New password of {name}: "))?));
            }
            changes(&form)?;
            put(&mut form, "keep_tokens", keep_tokens.then_some(true));
            client.patch(&path(&["administrators", name])?, &Value::Object(form))??;
            let tokens = match (*ask_password, *keep_tokens) {
                (true, false) => "; so have tokens of theirs, where somebody else set the password",
                _ => "",
            };
            say!("{name} is changed, and their sessions have ended{tokens}");
        }
        AdministratorAction::Remove { name } => {
            client.delete(&path(&["administrators", name])?)??;
            say!("{name} is removed with their sessions and tokens");
        }
        AdministratorAction::Import(file) => {
            return import_lines::run(&client, "administrators", "administrator", file, None);
        }
        AdministratorAction::Export => {
            let fields = ["name", "role", "disabled", "expires"].map(|field| (field, field));
            say!("{}", export("administrator", &all(&client, "administrators", &[])?, &fields));
        }
        AdministratorAction::ResetSecondFactor { name } => {
            client.delete(&path(&["administrators", name, "second-factor"])?)??;
            say!("{name} has no second factor any more, and their sessions have ended");
        }
        AdministratorAction::First { .. } | AdministratorAction::Rescue { .. } => {}
    }
    Ok(ExitCode::SUCCESS)
}

fn on_machine(data: &std::path::Path, config: Option<&std::path::Path>) -> Result<OnMachine, Failure> {
    let config = config.map_or_else(|| Ok(Config::default()), Config::read)?;
    Ok(OnMachine::open(&config, data)?)
}

/// Shows these fields of a record.
fn show_fields(title: &str, record: &Value, fields: &[&str]) {
    let shown = |value: &Value| match value {
        Value::String(_) | Value::Null => text(value),
        other => other.to_string(),
    };
    show_one(title, fields.iter().map(|field| [field.replace('_', " "), shown(&record[*field])]).collect());
}

/// Keeps tokens.
pub(crate) fn token(args: &args::Token) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        TokenAction::List { show: how } => {
            let row = |one: &Value| {
                ["id", "name", "administrator", "role", "created", "expires", "used", "used_from"]
                    .map(|field| text(&one[field]))
            };
            let head = ["id", "name", "administrator", "role", "created", "expires", "used", "from"];
            show_filtered(&client, "tokens", how, &TOKEN_FIELDS, head, row)?;
        }
        TokenAction::Show { id } => {
            let tokens = all(&client, "tokens", &[])?;
            let one = tokens.iter().find(|one| one["id"] == **id || one["name"] == **id);
            let one =
                one.ok_or_else(|| Failure::new(format!("there is no token `{id}`; `regnant token list` shows them")))?;
            show_fields(&text(&one["id"]), one, &TOKEN_FIELDS[1..]);
        }
        TokenAction::Add { name, role, expires, json } => {
            let mut form = Map::new();
            put(&mut form, "name", Some(name.as_str()));
            put(&mut form, "role", role.as_deref());
            put(&mut form, "expires", expires.as_deref());
            let made = client.post("tokens", &Value::Object(form))??;
            if *json {
                paint::json(&made);
            } else {
                say!("token {} ({name}), shown this once:\n{}", text(&made["id"]), text(&made["token"]));
                say!("it ends with the token that you act by: see regnant token show {}", text(&made["id"]));
            }
        }
        TokenAction::Change { id, name, role, expires } => {
            let mut form = Map::new();
            put(&mut form, "name", name.as_deref());
            put(&mut form, "role", role.as_deref());
            put(&mut form, "expires", expires.as_deref());
            changes(&form)?;
            client.patch(&path(&["tokens", id])?, &Value::Object(form))??;
            say!("token {id} is changed");
        }
        TokenAction::Import(file) => return import_tokens::run(&client, file),
        TokenAction::Export => {
            let fields = ["name", "role", "expires"].map(|field| (field, field));
            say!("{}", export("token", &all(&client, "tokens", &[])?, &fields));
        }
        TokenAction::Revoke { id } => {
            client.delete(&path(&["tokens", id])?)??;
            say!("token {id} is revoked");
        }
    }
    Ok(ExitCode::SUCCESS)
}

const ADMINISTRATOR_FIELDS: [&str; 5] = ["name", "role", "second_factor", "disabled", "expires"];
const TOKEN_FIELDS: [&str; 9] =
    ["id", "name", "administrator", "role", "created", "expires", "parent", "used", "used_from"];
