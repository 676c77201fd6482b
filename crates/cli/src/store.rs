//! Stores: where identities are looked up.

use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, DirectoryFields, HttpFields, OutsideFields, StoreAction};
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
                let counts = ["people", "machines", "devices"].map(|field| match is_outside(one) {
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
        StoreAction::Add { name, kind, outside } => {
            let mut form = Map::new();
            put(&mut form, "name", Some(name.as_str()));
            put(&mut form, "kind", Some(kind.as_str()));
            ask_as(&mut form, kind, outside, Map::new())?;
            let form = Value::Object(form);
            client.post("stores", &form)??;
            let names = if kind == "http" { "lookup" } else { "identify" };
            say!("store {name} is added; a gate looks identities up in it once its `{names}` names it");
            if by_what_it_keeps(&form["directory"]) {
                say!(
                    "MS-CHAP is checked by what the directory keeps, and so goes past what it enforces at binds alone:"
                );
                say!("hours, places, and a policy that entries do not name. What entries say themselves is read.");
            }
            if matches!(kind.as_str(), "directory" | "http") {
                say!("`regnant store test {name} --person NAME` goes the way to it");
            }
        }
        StoreAction::Show { name, json } => {
            let one = client.get(&path(&["stores", name])?, &[])?;
            if *json { paint::json(&one) } else { show(name, &one) }
        }
        StoreAction::Change { name, new_name, outside } => {
            let said = said(outside)?;
            if said.is_something() {
                let at = path(&["stores", name])?;
                let seen = client.seen(&at)?;
                let one = client.get(&at, &[])?;
                let kind = text(&one["kind"]);
                let mut form = Map::new();
                put(&mut form, "kind", Some(kind.as_str()));
                ask_as(&mut form, &kind, outside, one[&kind].as_object().cloned().unwrap_or_default())?;
                client.put_seen(&at, &Value::Object(form), seen.etag())??;
                say!("store {name} is asked in another way from now on");
            } else if new_name.is_none() {
                changes(&Map::new())?;
            }
            if let Some(new_name) = new_name {
                client.patch(&path(&["stores", name])?, &json!({ "name": new_name }))??;
                say!("store {name} is {new_name} now, with all that is in it");
            }
        }
        StoreAction::Test { name, person, machine, device, ask_password, json } => {
            let mut probe = Map::new();
            put(&mut probe, "person", person.as_deref());
            put(&mut probe, "machine", machine.as_deref());
            put(&mut probe, "device", device.as_deref());
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
        StoreAction::NewPassword { name } => {
            client.post(&format!("{}/new-password", path(&["stores", name])?), &json!({}))??;
            say!("the machine account of {name} has another password, in the domain and here");
        }
        StoreAction::Offer { name, letters, json } => {
            let query = [("q", letters.as_str())];
            let offer = client.get(&format!("{}/offer", path(&["stores", name])?), &query)?;
            match json {
                true => paint::json(&offer),
                false => tell_offer(name, &offer),
            }
        }
        StoreAction::Devices { name, json } => {
            let listed = client.get(&format!("{}/devices", path(&["stores", name])?), &[])?;
            tell_devices(name, &listed, *json);
        }
        StoreAction::Remove { name } => {
            client.delete(&path(&["stores", name])?)??;
            say!("store {name} is removed");
        }
        StoreAction::Import(file) => return import_lines::run(&client, "stores", "store", file, None),
        StoreAction::Export => {
            let (outside, own): (Vec<_>, Vec<_>) = all(&client, "stores", &[])?.into_iter().partition(is_outside);
            say!("{}", export("store", &own, &["name", "kind"].map(|field| (field, field))));
            for one in outside {
                let name = text(&one["name"]);
                say!("# {name} is outside: `regnant store show {name}` tells how it is asked");
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What a directory has to offer.
fn tell_offer(name: &str, offer: &Value) {
    let Some(looked) = offer["looked"].as_u64() else {
        say!("{name} was not looked at yet: it is within a minute, once it answers");
        return;
    };
    say!("{name} was looked at {looked} s ago");
    let list = |field: &str| offer[field].as_array().cloned().unwrap_or_default();
    paint::table(["may be a base"], list("places").iter().map(|place| [text(place)]));
    paint::table(
        ["group", "distinguished name"],
        list("groups").iter().map(|one| [text(&one["name"]), text(&one["dn"])]),
    );
}

/// The devices of a directory.
fn tell_devices(name: &str, listed: &Value, as_lines: bool) {
    let list = |field: &str| listed[field].as_array().map_or(&[][..], Vec::as_slice);
    let devices = list("devices");
    match as_lines {
        true => devices.iter().for_each(|device| say!("{device}")),
        false => {
            let cells = |device: &Value| {
                let barred = if device["barred"] == true { "barred" } else { "" };
                [text(&device["mac"]), text(&device["title"]), texts(&device["groups"]), barred.to_owned()]
            };
            paint::table(["address", "what it is", "groups", ""], devices.iter().map(cells));
            say!(
                "{} devices; `regnant store devices {name} --json | regnant device import -` takes them over",
                devices.len()
            );
        }
    }
    for entry in list("unread") {
        eprintln!("{} has no MAC address that could be read, and is left out", text(entry));
    }
}

/// Whether a store outside answers.
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
    let kind = text(&one["kind"]);
    if is_outside(one) {
        let settings = &one[&kind];
        let shown = |value: &Value| match value {
            Value::Array(_) => texts(value),
            Value::Object(facts) => {
                facts.iter().map(|(fact, place)| format!("{fact}={}", text(place))).collect::<Vec<_>>().join(", ")
            }
            Value::String(_) | Value::Null => text(value),
            other => other.to_string(),
        };
        let fields: &[&str] = if kind == "http" { &HTTP } else { &DIRECTORY };
        rows.extend(fields.iter().map(|field| [field.replace('_', " "), shown(&settings[*field])]));
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

/// Whether MS-CHAP is checked by what a directory keeps of passwords.
fn by_what_it_keeps(directory: &Value) -> bool {
    ["nt_hash", "clear_password"].iter().any(|field| directory[*field].as_str().is_some_and(|name| !name.is_empty()))
}

fn is_outside(one: &Value) -> bool {
    one["directory"].is_object() || one["http"].is_object()
}

/// What a directory is asked by, as it is shown.
const DIRECTORY: [&str; 25] = [
    "trust",
    "bind_as",
    "base",
    "person_filter",
    "person_names",
    "machine_filter",
    "machine_names",
    "device_filter",
    "device_name",
    "device_notation",
    "certificates",
    "disabled_filter",
    "nt_hash",
    "clear_password",
    "groups",
    "group_base",
    "group_name",
    "nested",
    "domain",
    "machine_account",
    "domain_controllers",
    "facts",
    "realms",
    "time_limit",
    "keep",
];

/// What a service is asked by.
const HTTP: [&str; 10] =
    ["url", "trust", "header", "token_url", "client", "scope", "facts", "realms", "time_limit", "keep"];

/// What the options say, of any store outside and of each kind.
struct Said {
    common: Map<String, Value>,
    directory: Map<String, Value>,
    http: Map<String, Value>,
    asks_secret: bool,
}

impl Said {
    fn is_something(&self) -> bool {
        self.asks_secret || [&self.common, &self.directory, &self.http].into_iter().any(|fields| !fields.is_empty())
    }
}

/// Puts how a store is asked into a form: what was there before, and what the options say.
fn ask_as(
    form: &mut Map<String, Value>,
    kind: &str,
    outside: &OutsideFields,
    mut before: Map<String, Value>,
) -> Result<(), Failure> {
    let said = said(outside)?;
    let (own, other, others) = match kind {
        "directory" => (said.directory, said.http, "a service, --kind http"),
        "http" => (said.http, said.directory, "a directory, --kind directory"),
        _ if said.is_something() => {
            return Err(Failure::usage("how it is asked is said of a store of --kind directory or http"));
        }
        _ => return Ok(()),
    };
    if let Some(field) = other.keys().next() {
        return Err(Failure::usage(format!("`{}` is said of {others}", field.replace('_', "-"))));
    }
    before.extend(said.common);
    before.extend(own);
    form.insert(kind.to_owned(), Value::Object(before));
    if outside.ask_secret {
        put(form, "secret", Some(ask_secretly("The secret that it is asked with: ")?));
    }
    Ok(())
}

/// Takes the options apart.
fn said(outside: &OutsideFields) -> Result<Said, Failure> {
    let mut common = Map::new();
    put(&mut common, "trust", outside.trust.as_deref());
    put_list(&mut common, "realms", &outside.realm);
    put(&mut common, "time_limit", outside.time_limit);
    put(&mut common, "keep", outside.keep);
    if !outside.fact.is_empty() {
        let pair = |said: &String| match said.split_once('=') {
            Some((fact, place)) => Ok((fact.trim().to_owned(), Value::from(place.trim()))),
            None => Err(Failure::usage(format!("`{said}` is no FACT=PLACE, such as user.department=departmentNumber"))),
        };
        let facts = outside.fact.iter().filter(|said| !said.is_empty()).map(pair);
        common.insert("facts".into(), Value::Object(facts.collect::<Result<_, _>>()?));
    }
    let (directory, http) = (directory_fields(&outside.directory), http_fields(&outside.http));
    Ok(Said { common, directory, http, asks_secret: outside.ask_secret })
}

fn http_fields(said: &HttpFields) -> Map<String, Value> {
    let mut form = Map::new();
    put(&mut form, "url", said.url.as_deref());
    put(&mut form, "header", said.header.as_deref());
    put(&mut form, "token_url", said.token_url.as_deref());
    put(&mut form, "client", said.client.as_deref());
    put(&mut form, "scope", said.scope.as_deref());
    form
}

fn directory_fields(said: &DirectoryFields) -> Map<String, Value> {
    let mut form = Map::new();
    put_list(&mut form, "servers", &said.server);
    put(&mut form, "bind_as", said.bind_as.as_deref());
    put(&mut form, "base", said.base.as_deref());
    put(&mut form, "person_filter", said.person_filter.as_deref());
    put_list(&mut form, "person_names", &said.person_name);
    put(&mut form, "machine_filter", said.machine_filter.as_deref());
    put_list(&mut form, "machine_names", &said.machine_name);
    put(&mut form, "device_filter", said.device_filter.as_deref());
    put(&mut form, "device_name", said.device_name.as_deref());
    put(&mut form, "device_notation", said.device_notation.as_deref());
    put(&mut form, "certificates", said.certificates.as_deref());
    put(&mut form, "disabled_filter", said.disabled_filter.as_deref());
    put(&mut form, "nt_hash", said.nt_hash.as_deref());
    put(&mut form, "clear_password", said.clear_password.as_deref());
    put(&mut form, "groups", said.groups.as_deref());
    put(&mut form, "group_base", said.group_base.as_deref());
    put(&mut form, "group_name", said.group_name.as_deref());
    put(&mut form, "nested", said.nested);
    put(&mut form, "domain", said.domain.as_deref());
    put(&mut form, "machine_account", said.machine_account.as_deref());
    put_list(&mut form, "domain_controllers", &said.domain_controller);
    form
}
