//! Stores: where identities are looked up.

use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, DirectoryFields, StoreAction};
use crate::failure::Failure;
use crate::import_lines;
use crate::paint::{self, say};
use crate::people::changes;
use crate::records::{all, export, flag, path, put, put_list, show_filtered, show_one, text, texts};
use crate::sign_in::ask_secretly;

/// Keeps stores.
pub(crate) fn run(args: &args::Store) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        StoreAction::List { show: how } => {
            let row = |one: &Value| {
                let counts = ["people", "machines", "devices"].map(|field| match one["kind"] == "directory" {
                    true => String::new(),
                    false => one[field].to_string(),
                });
                let [people, machines, devices] = counts;
                let name = text(&one["name"]);
                [name, text(&one["kind"]), people, machines, devices, flag(&one["in_policy"], "yes"), state(one)]
            };
            let head = ["name", "kind", "people", "machines", "devices", "in policy", ""];
            show_filtered(&client, "stores", how, &["name", "kind", "people", "machines", "devices"], head, row)?;
        }
        StoreAction::Add { name, kind, directory } => {
            let mut form = Map::new();
            put(&mut form, "name", Some(name.as_str()));
            put(&mut form, "kind", Some(kind.as_str()));
            let fields = fields(directory);
            if kind == "directory" {
                form.insert("directory".into(), Value::Object(fields));
                put(&mut form, "bind_password", bind_password(directory)?);
            } else if !fields.is_empty() || directory.ask_bind_password {
                return Err(Failure::usage("how it is asked is said of a store of --kind directory"));
            }
            client.post("stores", &Value::Object(form))??;
            say!("store {name} is added; a gate looks identities up in it once its `identify` names it");
            if kind == "directory" {
                say!("`regnant store test {name} --person NAME` goes the way to it");
            }
        }
        StoreAction::Show { name, json } => {
            let one = client.get(&path(&["stores", name])?, &[])?;
            if *json { paint::json(&one) } else { show(name, &one) }
        }
        StoreAction::Change { name, new_name, directory } => {
            let fields = fields(directory);
            if !fields.is_empty() || directory.ask_bind_password {
                let one = client.get(&path(&["stores", name])?, &[])?;
                let mut settings = one["directory"].as_object().cloned().unwrap_or_default();
                settings.extend(fields);
                let mut form = Map::new();
                put(&mut form, "kind", one["kind"].as_str());
                form.insert("directory".into(), Value::Object(settings));
                put(&mut form, "bind_password", bind_password(directory)?);
                client.put(&path(&["stores", name])?, &Value::Object(form))??;
                say!("store {name} is asked in another way from now on");
            } else if new_name.is_none() {
                changes(&Map::new())?;
            }
            if let Some(new_name) = new_name {
                client.patch(&path(&["stores", name])?, &json!({ "name": new_name }))??;
                say!("store {name} is {new_name} now, with all that is in it");
            }
        }
        StoreAction::Test { name, person, machine, ask_password, json } => {
            let mut probe = Map::new();
            put(&mut probe, "person", person.as_deref());
            put(&mut probe, "machine", machine.as_deref());
            if *ask_password {
                put(&mut probe, "password", Some(ask_secretly("Their password: ")?));
            }
            let told = client.post(&format!("{}/test", path(&["stores", name])?), &Value::Object(probe))??;
            match json {
                true => paint::json(&told),
                false => tell(&told),
            }
            return Ok(if told["passed"] == true { ExitCode::SUCCESS } else { ExitCode::from(1) });
        }
        StoreAction::Remove { name } => {
            client.delete(&path(&["stores", name])?)??;
            say!("store {name} is removed");
        }
        StoreAction::Import(file) => return import_lines::run(&client, "stores", "store", file, None),
        StoreAction::Export => {
            let (directories, own): (Vec<_>, Vec<_>) =
                all(&client, "stores", &[])?.into_iter().partition(|one| one["kind"] == "directory");
            say!("{}", export("store", &own, &["name", "kind"].map(|field| (field, field))));
            for one in directories {
                let name = text(&one["name"]);
                say!("# {name} is a directory outside: `regnant store show {name}` tells how it is asked");
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Whether a directory answers.
fn state(one: &Value) -> String {
    let servers = one["servers"].as_array().map_or(&[][..], Vec::as_slice);
    let down = servers.iter().filter(|server| server["down_for"].is_u64()).count();
    match down {
        0 => String::new(),
        _ if down == servers.len() => "does not answer".into(),
        _ => format!("{down} of {} servers do not answer", servers.len()),
    }
}

fn show(name: &str, one: &Value) {
    let mut rows = vec![["is".to_owned(), text(&one["kind"])]];
    if one["directory"].is_object() {
        let settings = &one["directory"];
        let shown = |value: &Value| match value {
            Value::Array(_) => texts(value),
            Value::String(_) | Value::Null => text(value),
            other => other.to_string(),
        };
        let fields = [
            "trust",
            "bind_as",
            "base",
            "person_filter",
            "person_names",
            "machine_filter",
            "machine_names",
            "groups",
            "group_base",
            "group_name",
            "nested",
            "time_limit",
            "keep",
        ];
        rows.extend(fields.map(|field| [field.replace('_', " "), shown(&settings[field])]));
        for server in one["servers"].as_array().into_iter().flatten() {
            let does = match server["down_for"].as_u64() {
                Some(seconds) => format!("no answer for {seconds} s: {}", text(&server["why"])),
                None => format!("{} questions, {} without an answer", server["asked"], server["failed"]),
            };
            rows.push([text(&server["url"]), does]);
        }
    } else {
        rows.extend(["people", "machines", "devices"].map(|field| [field.to_owned(), one[field].to_string()]));
    }
    rows.push(["looked up by the policy".into(), flag(&one["in_policy"], "yes")]);
    show_one(name, rows);
}

/// The steps of a test.
fn tell(told: &Value) {
    for step in told["steps"].as_array().into_iter().flatten() {
        let mark = paint::mark(if step["passed"] == true { "granted" } else { "refused" });
        say!("{mark} {} ({} ms): {}", text(&step["what"]), step["millis"], text(&step["saw"]));
        if step["passed"] != true {
            say!("    {}", text(&step["advice"]));
        }
    }
}

fn bind_password(directory: &DirectoryFields) -> Result<Option<String>, Failure> {
    match directory.ask_bind_password {
        true => Ok(Some(ask_secretly("Password of the account that searches: ")?)),
        false => Ok(None),
    }
}

/// What the options say of a directory.
fn fields(said: &DirectoryFields) -> Map<String, Value> {
    let mut form = Map::new();
    put_list(&mut form, "servers", &said.server);
    put(&mut form, "trust", said.trust.as_deref());
    put(&mut form, "bind_as", said.bind_as.as_deref());
    put(&mut form, "base", said.base.as_deref());
    put(&mut form, "person_filter", said.person_filter.as_deref());
    put_list(&mut form, "person_names", &said.person_name);
    put(&mut form, "machine_filter", said.machine_filter.as_deref());
    put_list(&mut form, "machine_names", &said.machine_name);
    put(&mut form, "groups", said.groups.as_deref());
    put(&mut form, "group_base", said.group_base.as_deref());
    put(&mut form, "group_name", said.group_name.as_deref());
    put(&mut form, "nested", said.nested);
    put(&mut form, "time_limit", said.time_limit);
    put(&mut form, "keep", said.keep);
    form
}
