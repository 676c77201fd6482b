//! Groups and sites: names that records have in common.

use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, GroupAction, SiteAction};
use crate::failure::Failure;
use crate::import_lines;
use crate::paint::say;
use crate::records::{all, export, path, put, show_filtered, show_one, text};

/// Keeps groups.
pub(crate) fn group(args: &args::Group) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let kinds = ["people", "machines", "devices"];
    match &args.action {
        GroupAction::List { show: how } => {
            let row = |one: &Value| {
                let [people, machines, devices] = kinds.map(|field| one[field].to_string());
                [text(&one["name"]), people, machines, devices, named_by(one).to_string(), text(&one["note"])]
            };
            let head = ["name", "people", "machines", "devices", "in policy", "note"];
            show_filtered(&client, "groups", how, &["name", "note", "people", "machines", "devices"], head, row)?;
        }
        GroupAction::Show { name } => show_name(&client, "groups", name, &[&kinds[..], &["ordinary"]].concat())?,
        GroupAction::Add { name, note } => {
            client.post("groups", &json!({ "name": name, "note": note }))??;
            say!("group {name} is added; `regnant person change`, `device regroup` and others put somebody into it");
        }
        GroupAction::Change { name, new_name, note, ordinary, anyway } => {
            let renamed = change(&client, "groups", name, (new_name.as_ref(), note.as_ref(), *ordinary, *anyway))?;
            match new_name {
                Some(new_name) => say!("{} in {new_name} now, and nobody is in {name}", are(&renamed)),
                None => say!("group {name} is changed"),
            }
        }
        GroupAction::Remove { name, anyway } => {
            let left = client.delete(&format!("{}?anyway={anyway}", path(&["groups", name])?))??;
            say!("{} left {name}, which is no more", counted(&left));
        }
        GroupAction::Import(file) => return import_lines::run(&client, "groups", "group", file, None),
        GroupAction::Export => say!("{}", exported(&client, "groups", "group", &["name", "note", "ordinary"])?),
    }
    Ok(ExitCode::SUCCESS)
}

/// Keeps sites.
pub(crate) fn site(args: &args::Site) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        SiteAction::List { show: how } => {
            let row = |one: &Value| {
                [text(&one["name"]), one["nases"].to_string(), named_by(one).to_string(), text(&one["note"])]
            };
            show_filtered(
                &client,
                "sites",
                how,
                &["name", "note", "nases"],
                ["name", "NASes", "in policy", "note"],
                row,
            )?;
        }
        SiteAction::Show { name } => show_name(&client, "sites", name, &["nases"])?,
        SiteAction::Add { name, note } => {
            client.post("sites", &json!({ "name": name, "note": note }))??;
            say!("site {name} is added; `regnant nas change --site` puts equipment there");
        }
        SiteAction::Change { name, new_name, note, anyway } => {
            let renamed = change(&client, "sites", name, (new_name.as_ref(), note.as_ref(), None, *anyway))?;
            match new_name {
                Some(new_name) => say!("{} at {new_name} now, and nothing at {name}", are(&renamed)),
                None => say!("the note of site {name} is changed"),
            }
        }
        SiteAction::Remove { name, anyway } => {
            let left = client.delete(&format!("{}?anyway={anyway}", path(&["sites", name])?))??;
            say!("site {name} is no more; {} stood there", counted(&left));
        }
        SiteAction::Import(file) => return import_lines::run(&client, "sites", "site", file, None),
        SiteAction::Export => say!("{}", exported(&client, "sites", "site", &["name", "note"])?),
    }
    Ok(ExitCode::SUCCESS)
}

fn exported(client: &Client, list: &str, table: &str, fields: &[&'static str]) -> Result<String, Failure> {
    let fields: Vec<_> = fields.iter().map(|field| (*field, *field)).collect();
    Ok(export(table, &all(client, list, &[])?, &fields))
}

fn change(
    client: &Client,
    list: &str,
    name: &str,
    (new_name, note, ordinary, anyway): (Option<&String>, Option<&String>, Option<bool>, bool),
) -> Result<Value, Failure> {
    let mut body = Map::new();
    put(&mut body, "name", new_name.map(String::as_str));
    put(&mut body, "note", note.map(String::as_str));
    put(&mut body, "ordinary", ordinary);
    put(&mut body, "anyway", Some(anyway));
    Ok(client.patch(&path(&[list, name])?, &Value::Object(body))??)
}

fn named_by(one: &Value) -> usize {
    one["named_by"].as_array().map_or(0, Vec::len)
}

fn show_name(client: &Client, list: &str, name: &str, counts: &[&str]) -> Result<(), Failure> {
    let one = client.get(&path(&[list, name])?, &[])?;
    let mut rows = vec![["note".to_owned(), text(&one["note"])]];
    rows.extend(counts.iter().map(|field| [(*field).to_owned(), one[*field].to_string()]));
    let lines = one["named_by"].as_array().into_iter().flatten();
    rows.extend(lines.map(|line| ["named by the policy".into(), text(line)]));
    show_one(&text(&one["name"]), rows);
    Ok(())
}

/// How many records of each kind: "2 people, 3 devices"; "nobody" where there are none.
fn counted(renamed: &Value) -> String {
    let kinds = [
        ("nases", "NAS", "NASes"),
        ("people", "person", "people"),
        ("machines", "machine", "machines"),
        ("devices", "device", "devices"),
    ];
    let told = kinds.iter().filter_map(|(field, one, several)| match renamed[*field].as_u64()? {
        0 => None,
        1 => Some(format!("1 {one}")),
        many => Some(format!("{many} {several}")),
    });
    match told.collect::<Vec<_>>() {
        none if none.is_empty() => "nobody".to_owned(),
        told => told.join(", "),
    }
}

/// Those with the verb that fits: "1 person is", "2 people, 1 device are".
fn are(renamed: &Value) -> String {
    let count: u64 = ["nases", "people", "machines", "devices"].iter().filter_map(|kind| renamed[*kind].as_u64()).sum();
    format!("{} {}", counted(renamed), if count > 1 { "are" } else { "is" })
}
