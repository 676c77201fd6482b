use regnant_base::Mac;
use std::io::{Read, stdin};
use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, DeviceAction};
use crate::failure::Failure;
use crate::import_lines;
use crate::journal::sentence;
use crate::paint::{self, say};
use crate::people::changes;
use crate::records::{all, export, first, path, put, put_list, show, show_one, store, text, texts};

/// How many devices people read.
const READ: usize = 100;
/// What is read from standard input at most.
const MOST_INPUT: u64 = 4 << 20;

/// Keeps devices.
pub(crate) fn run(args: &args::Device) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let at =
        |said: &args::InStore, mac: &str| path(&["devices", &store(&client, said.store.as_ref(), "devices")?, mac]);
    match &args.action {
        DeviceAction::List { words, group, barred, show: how } => {
            let (words, barred) = (words.join(" "), barred.map(|barred| barred.to_string()));
            let mut query = vec![("q", words.as_str())];
            query.extend(group.as_deref().map(|group| ("group", group)));
            query.extend(barred.as_deref().map(|barred| ("barred", barred)));
            if how.json || how.csv {
                let attributes = attribute_fields(&client)?;
                let fields = FIELDS.into_iter().chain(attributes.iter().map(String::as_str));
                show(&all(&client, "devices", &query)?, how, &fields.collect::<Vec<_>>(), HEAD, row);
            } else {
                let (devices, more) = first(&client, "devices", &query, READ)?;
                show(&devices, how, &FIELDS, HEAD, row);
                if more {
                    say!("{}", paint::dim("... and more: say other words, or --csv for all"));
                }
            }
        }
        DeviceAction::Show { mac, at: said, json } => {
            let detail = client.get(&at(said, mac)?, &[])?;
            if *json { paint::json(&detail) } else { show_device(&detail) }
        }
        DeviceAction::Add { mac, at: said, fields } => {
            let mut form = form(fields)?;
            put(&mut form, "store", Some(store(&client, said.store.as_ref(), "devices")?));
            put(&mut form, "mac", Some(mac.as_str()));
            let added = client.post("devices", &Value::Object(form))??;
            say!("{} is added and known from now on", text(&added["mac"]));
        }
        DeviceAction::Change { mac, at: said, fields } => {
            let form = form(fields)?;
            changes(&form)?;
            let changed = client.patch(&at(said, mac)?, &Value::Object(form))??;
            say!("{} is changed", text(&changed["mac"]));
        }
        DeviceAction::Bar { macs, reason } => {
            let acted = client.put("devices/bar", &json!({ "macs": addresses(macs)?, "reason": reason }))??;
            say!("{} must stay out from now on: {reason}", devices(&acted));
        }
        DeviceAction::Unbar { macs } => {
            let acted = client.put("devices/bar", &json!({ "macs": addresses(macs)? }))??;
            say!("{} may come in again", devices(&acted));
        }
        DeviceAction::Regroup { macs, into, out_of } => {
            let act = json!({ "macs": addresses(macs)?, "into": into, "out_of": out_of });
            say!("{} changed", devices(&client.post("devices/act", &act)??));
        }
        DeviceAction::Remove { macs } => {
            let acted = client.post("devices/act", &json!({ "macs": addresses(macs)?, "remove": true }))??;
            say!("{} removed and not known any more", devices(&acted));
        }
        DeviceAction::Import(file) => {
            return import_lines::run(&client, "devices", "device", &file.lines, file.store.as_deref());
        }
        DeviceAction::Export => {
            let fields = ["store", "mac", "title", "groups", "owner", "note", "expires"].map(|field| (field, field));
            let mut all = all(&client, "devices", &[])?;
            for device in &mut all {
                device["is_barred"] = json!(device["barred"].is_object());
            }
            let more = [("barred", "is_barred"), ("barred-reason", "barred.reason")];
            let attributes = attribute_fields(&client)?;
            let attributes: Vec<_> = attributes.iter().map(|field| (field.as_str(), field.as_str())).collect();
            say!("{}", export("device", &all, &[&fields[..], &more, &attributes].concat()));
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn devices(acted: &Value) -> String {
    match acted["devices"].as_u64().unwrap_or(0) {
        1 => "1 device".into(),
        count => format!("{count} devices"),
    }
}

/// Addresses as they were given, and those in what was pasted, whatever stands between them.
fn addresses(given: &[String]) -> Result<Vec<String>, Failure> {
    let mut all = Vec::new();
    for one in given {
        if one != "-" {
            let mac = one.parse::<Mac>().map_err(|error| Failure::usage(format!("`{one}`: {error}")))?;
            all.push(mac.to_string());
            continue;
        }
        let mut pasted = String::new();
        stdin().take(MOST_INPUT).read_to_string(&mut pasted)?;
        let words = pasted.split(|c: char| !(c.is_ascii_hexdigit() || matches!(c, ':' | '-' | '.')));
        let before = all.len();
        all.extend(words.filter_map(|word| word.parse::<Mac>().ok()).map(|mac| mac.to_string()));
        if all.len() == before {
            return Err(Failure::usage("standard input holds no MAC address"));
        }
    }
    Ok(all)
}

/// Where what is declared stands in a device.
fn attribute_fields(client: &Client) -> Result<Vec<String>, Failure> {
    let list = all(client, "attributes", &[])?;
    let of_devices = |one: &&Value| one["fact"].as_str().is_some_and(|fact| fact.starts_with("device."));
    let names = list.iter().filter(of_devices).filter_map(|one| one["name"].as_str());
    Ok(names.map(|name| format!("attributes.{name}")).collect())
}

fn form(fields: &args::DeviceFields) -> Result<Map<String, Value>, Failure> {
    let mut form = Map::new();
    if !fields.set.is_empty() {
        let pairs = fields.set.iter().map(|pair| {
            let wrong = || Failure::usage(format!("`{pair}` is no NAME=VALUE"));
            let (name, value) = pair.split_once('=').ok_or_else(wrong)?;
            Ok((name.trim().to_owned(), json!(value)))
        });
        form.insert("attributes".into(), Value::Object(pairs.collect::<Result<_, Failure>>()?));
    }
    put(&mut form, "title", fields.title.as_deref());
    put_list(&mut form, "groups", &fields.group);
    put(&mut form, "owner", fields.owner.as_deref());
    put(&mut form, "note", fields.note.as_deref());
    put(&mut form, "expires", fields.expires.as_deref());
    Ok(form)
}

const FIELDS: [&str; 8] = ["store", "mac", "title", "groups", "owner", "note", "expires", "barred.reason"];
const HEAD: [&str; 8] = ["mac", "title", "groups", "owner", "expires", "barred", "store", "note"];

fn row(device: &Value) -> [String; 8] {
    let barred = &device["barred"];
    let why = match text(&barred["reason"]) {
        reason if barred.is_object() && reason.is_empty() => "yes".into(),
        reason => reason,
    };
    [
        text(&device["mac"]),
        text(&device["title"]),
        texts(&device["groups"]),
        text(&device["owner"]),
        text(&device["expires"]),
        why,
        text(&device["store"]),
        text(&device["note"]),
    ]
}

/// A value of an attribute, as it is written.
fn written(value: &Value) -> String {
    match value {
        Value::String(_) => text(value),
        Value::Array(_) => texts(value),
        other => other.to_string(),
    }
}

fn show_device(detail: &Value) {
    let device = &detail["device"];
    let [mac, title, groups, owner, expires, why, store, note] = row(device);
    let barred = match device["barred"].is_object() {
        true => format!(
            "{} {why} ({} {})",
            paint::mark("refused"),
            text(&device["barred"]["by"]),
            text(&device["barred"]["at"])
        ),
        false => String::new(),
    };
    let mut rows = vec![
        ["title".to_owned(), title],
        ["barred".into(), barred],
        ["groups".into(), groups],
        ["owner".into(), owner],
        ["expires".into(), expires],
        ["note".into(), note],
        ["store".into(), store],
    ];
    let attributes = device["attributes"].as_object().into_iter().flatten();
    rows.extend(attributes.map(|(name, value)| [name.clone(), written(value)]));
    rows.push(["first seen".into(), text(&detail["first_seen"])]);
    rows.push([
        "last decision".into(),
        if detail["heard"].is_object() { sentence(&detail["heard"]) } else { "none".into() },
    ]);
    rows.extend(
        detail["named_by"].as_array().into_iter().flatten().map(|line| ["named by the policy".into(), text(line)]),
    );
    show_one(&mac, rows);
}
