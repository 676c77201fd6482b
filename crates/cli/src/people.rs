use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, ActTogether, MachineAction, PersonAction};
use crate::failure::Failure;
use crate::import_lines;
use crate::journal::sentence;
use crate::paint::{self, say};
use crate::records::{all, export, flag, lines_of, path, put, put_list, show, show_one, store, text, texts};
use crate::sign_in::ask_secretly;

/// Keeps people.
pub(crate) fn person(args: &args::Person) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let at =
        |said: &args::InStore, name: &str| path(&["people", &store(&client, said.store.as_ref(), "people")?, name]);
    match &args.action {
        PersonAction::List { words, group, show: how } => {
            let words = words.join(" ");
            let mut query = vec![("q", words.as_str())];
            query.extend(group.as_deref().map(|group| ("group", group)));
            show(&all(&client, "people", &query)?, how, &PERSON_FIELDS, HEAD, person_row);
        }
        PersonAction::Show { name, at: said, json } => {
            let detail = client.get(&at(said, name)?, &[])?;
            if *json { paint::json(&detail) } else { show_person(&detail) }
        }
        PersonAction::Add { name, at: said, fields } => {
            let mut form = person_fields(fields);
            put(&mut form, "store", Some(store(&client, said.store.as_ref(), "people")?));
            put(&mut form, "name", Some(name.as_str()));
            put(&mut form, "password", Some(ask_secretly(&format!("Password of {name}: "))?));
            client.post("people", &Value::Object(form))??;
            say!("{name} is added and known from now on");
        }
        PersonAction::Change { name, at: said, new_name, ask_password, fields } => {
            let mut form = person_fields(fields);
            put(&mut form, "name", new_name.as_deref());
            if *ask_password {
                put(&mut form, "password", Some(ask_secretly(&format!("New password of {name}: "))?));
            }
            changes(&form)?;
            client.patch(&at(said, name)?, &Value::Object(form))??;
            say!("{} is changed", new_name.as_ref().unwrap_or(name));
        }
        PersonAction::Password { name, at: said } => {
            let path = format!("{}/password", at(said, name)?);
            let password = ask_secretly(&format!("New password of {name}: "))?;
            client.put(&path, &json!({ "password": password }))??;
            say!("{name} signs in with the new password from now on");
        }
        PersonAction::Remove { name, at: said } => {
            client.delete(&at(said, name)?)??;
            say!("{name} is removed and not known any more");
        }
        PersonAction::Together { names, at: said, act } => {
            let store = store(&client, said.store.as_ref(), "people")?;
            let changed = together(&client, "people", &store, names, act)?;
            say!("{changed} {}", if changed == 1 { "person changed" } else { "people changed" });
        }
        PersonAction::Import(file) => {
            return import_lines::run(&client, "people", "person", &file.lines, file.store.as_deref());
        }
        PersonAction::Export { with_secrets } => {
            let more = [
                ("recoverable-password", "recoverable_password"),
                ("engineers-only", "engineers_only"),
                ("ordinary", "ordinary"),
            ];
            let fields = [&EXPORTED[..], &more].concat();
            say!("{}", export("person", &with_passwords(&client, "people", *with_secrets)?, &fields));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What an inventory file says of people and machines, and where that stands in a record.
const EXPORTED: [(&str, &str); 10] = [
    ("store", "store"),
    ("name", "name"),
    ("groups", "groups"),
    ("disabled", "disabled"),
    ("expires", "expires"),
    ("mschap", "mschap"),
    ("note", "note"),
    ("password", "password"),
    ("password-hash", "password_hash"),
    ("nt-hash", "nt_hash"),
];

/// Every account, where it is wanted with what is kept of its password.
fn with_passwords(client: &Client, kind: &str, with_secrets: bool) -> Result<Vec<Value>, Failure> {
    let mut accounts = all(client, kind, &[])?;
    for account in accounts.iter_mut().filter(|_| with_secrets) {
        let at = path(&[kind, &text(&account["store"]), &text(&account["name"]), "kept-password"])?;
        let kept = client.post(&at, &json!({}))??;
        if let (Some(account), Some(kept)) = (account.as_object_mut(), kept.as_object()) {
            account.extend(kept.clone());
        }
    }
    Ok(accounts)
}

/// Changes several accounts, and gives how many.
fn together(client: &Client, kind: &str, store: &str, names: &[String], act: &ActTogether) -> Result<u64, Failure> {
    let all = lines_of(names)?;
    let named: Vec<_> = all.iter().map(|name| json!({ "store": store, "name": name })).collect();
    let mut body = json!({ "into": act.into, "out_of": act.out_of, "disabled": act.disabled, "remove": act.remove });
    body[kind] = json!(named);
    Ok(client.post("accounts/act", &body)??["accounts"].as_u64().unwrap_or(0))
}

/// Keeps machines.
pub(crate) fn machine(args: &args::Machine) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let at =
        |said: &args::InStore, name: &str| path(&["machines", &store(&client, said.store.as_ref(), "people")?, name]);
    match &args.action {
        MachineAction::List { words, group, show: how } => {
            let words = words.join(" ");
            let mut query = vec![("q", words.as_str())];
            query.extend(group.as_deref().map(|group| ("group", group)));
            show(&all(&client, "machines", &query)?, how, &MACHINE_FIELDS, HEAD, machine_row);
        }
        MachineAction::Show { name, at: said, json } => {
            let detail = client.get(&at(said, name)?, &[])?;
            if *json { paint::json(&detail) } else { show_machine(&detail) }
        }
        MachineAction::Add { name, at: said, fields } => {
            let mut form = machine_fields(name, fields)?;
            put(&mut form, "store", Some(store(&client, said.store.as_ref(), "people")?));
            put(&mut form, "name", Some(name.as_str()));
            client.post("machines", &Value::Object(form))??;
            say!("{name} is added and known from now on");
        }
        MachineAction::Change { name, at: said, new_name, fields } => {
            let mut form = machine_fields(name, fields)?;
            put(&mut form, "name", new_name.as_deref());
            changes(&form)?;
            client.patch(&at(said, name)?, &Value::Object(form))??;
            say!("{} is changed", new_name.as_ref().unwrap_or(name));
        }
        MachineAction::Remove { name, at: said } => {
            client.delete(&at(said, name)?)??;
            say!("{name} is removed and not known any more");
        }
        MachineAction::Together { names, at: said, act } => {
            let store = store(&client, said.store.as_ref(), "people")?;
            let changed = together(&client, "machines", &store, names, act)?;
            say!("{changed} {}", if changed == 1 { "machine changed" } else { "machines changed" });
        }
        MachineAction::Import(file) => {
            return import_lines::run(&client, "machines", "machine", &file.lines, file.store.as_deref());
        }
        MachineAction::Export { with_secrets } => {
            say!("{}", export("machine", &with_passwords(&client, "machines", *with_secrets)?, &EXPORTED));
        }
    }
    Ok(ExitCode::SUCCESS)
}

pub(crate) fn changes(form: &Map<String, Value>) -> Result<(), Failure> {
    match form.is_empty() {
        true => Err(Failure::usage("say what shall be otherwise; see --help")),
        false => Ok(()),
    }
}

fn person_fields(fields: &args::PersonFields) -> Map<String, Value> {
    let mut form = Map::new();
    put_list(&mut form, "groups", &fields.group);
    put(&mut form, "disabled", fields.disabled);
    put(&mut form, "expires", fields.expires.as_deref());
    put(&mut form, "mschap", fields.mschap);
    put(&mut form, "recoverable_password", fields.recoverable_password);
    put(&mut form, "engineers_only", fields.engineers_only);
    put(&mut form, "ordinary", fields.ordinary);
    put(&mut form, "note", fields.note.as_deref());
    form
}

fn machine_fields(name: &str, fields: &args::MachineFields) -> Result<Map<String, Value>, Failure> {
    let mut form = Map::new();
    put_list(&mut form, "groups", &fields.group);
    put(&mut form, "disabled", fields.disabled);
    put(&mut form, "expires", fields.expires.as_deref());
    put(&mut form, "mschap", fields.mschap);
    put(&mut form, "note", fields.note.as_deref());
    if fields.ask_password {
        put(&mut form, "password", Some(ask_secretly(&format!("Password of {name}: "))?));
    }
    Ok(form)
}

const HEAD: [&str; 6] = ["name", "store", "groups", "expires", "state", "note"];
const PERSON_FIELDS: [&str; 10] = [
    "store",
    "name",
    "groups",
    "disabled",
    "expires",
    "mschap",
    "recoverable_password",
    "engineers_only",
    "ordinary",
    "note",
];
const MACHINE_FIELDS: [&str; 7] = ["store", "name", "groups", "disabled", "expires", "mschap", "note"];

fn person_row(person: &Value) -> [String; 6] {
    let words = [
        flag(&person["disabled"], "disabled"),
        flag(&person["mschap"], "MS-CHAP"),
        flag(&person["recoverable_password"], "recoverable password"),
        flag(&person["engineers_only"], "engineers only"),
        flag(&person["ordinary"], "ordinary"),
    ];
    account_row(person, &words)
}

fn machine_row(machine: &Value) -> [String; 6] {
    account_row(machine, &[flag(&machine["disabled"], "disabled"), flag(&machine["mschap"], "MS-CHAP")])
}

fn account_row(account: &Value, words: &[String]) -> [String; 6] {
    let words: Vec<_> = words.iter().filter(|word| !word.is_empty()).cloned().collect();
    [
        text(&account["name"]),
        text(&account["store"]),
        texts(&account["groups"]),
        text(&account["expires"]),
        words.join(", "),
        text(&account["note"]),
    ]
}

fn show_person(detail: &Value) {
    let person = &detail["person"];
    let [name, store, groups, expires, state, note] = person_row(person);
    let mut rows = vec![
        ["store".to_owned(), store],
        ["groups".into(), groups],
        ["state".into(), state],
        ["expires".into(), expires],
        ["note".into(), note],
        ["last decision".into(), if detail["heard"].is_object() { sentence(&detail["heard"]) } else { "none".into() }],
        ["for engineers".into(), text(&detail["engineers_only"])],
    ];
    rows.extend(
        detail["named_by"].as_array().into_iter().flatten().map(|line| ["named by the policy".into(), text(line)]),
    );
    show_one(&name, rows);
}

fn show_machine(detail: &Value) {
    let machine = &detail["machine"];
    let [name, store, groups, expires, state, note] = machine_row(machine);
    let password = if machine["has_password"] == true { "yes" } else { "none: certificates alone prove it" };
    let mut rows = vec![
        ["store".to_owned(), store],
        ["groups".into(), groups],
        ["password".into(), password.into()],
        ["state".into(), state],
        ["expires".into(), expires],
        ["note".into(), note],
    ];
    rows.extend(
        detail["named_by"].as_array().into_iter().flatten().map(|line| ["named by the policy".into(), text(line)]),
    );
    show_one(&name, rows);
}
