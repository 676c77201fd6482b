//! Groups and sites: names that records have in common.

use std::process::ExitCode;

use serde_json::{Value, json};

use crate::api::Client;
use crate::args::{self, GroupAction, SiteAction};
use crate::failure::Failure;
use crate::paint::say;
use crate::records::{path, show_filtered, show_one, text};

/// Shows groups, and renames or empties one.
pub(crate) fn group(args: &args::Group) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let kinds = ["people", "machines", "devices"];
    match &args.action {
        GroupAction::List { show: how } => {
            let row = |one: &Value| {
                let [people, machines, devices] = kinds.map(|field| one[field].to_string());
                [text(&one["name"]), people, machines, devices, named_by(one).to_string()]
            };
            let head = ["name", "people", "machines", "devices", "in policy"];
            show_filtered(
                &client.get("groups", &[])?["groups"],
                how,
                &["name", "people", "machines", "devices"],
                head,
                row,
            );
        }
        GroupAction::Show { name } => show_name(&client, "group", name, &kinds)?,
        GroupAction::Change { name, new_name, anyway } => {
            let body = json!({ "name": new_name, "anyway": anyway });
            let renamed = client.patch(&path(&["groups", name])?, &body)??;
            say!("{} are in {new_name} now, and nobody is in {name}", counted(&renamed));
        }
        GroupAction::Remove { name, anyway } => {
            let left = client.delete(&format!("{}?anyway={anyway}", path(&["groups", name])?))??;
            say!("{} left {name}, in which nobody is any more", counted(&left));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Shows sites, and renames one.
pub(crate) fn site(args: &args::Site) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        SiteAction::List { show: how } => {
            let row = |one: &Value| [text(&one["name"]), one["nases"].to_string(), named_by(one).to_string()];
            show_filtered(
                &client.get("sites", &[])?["sites"],
                how,
                &["name", "nases"],
                ["name", "NASes", "in policy"],
                row,
            );
        }
        SiteAction::Show { name } => show_name(&client, "site", name, &["nases"])?,
        SiteAction::Change { name, new_name, anyway } => {
            let body = json!({ "name": new_name, "anyway": anyway });
            let renamed = client.patch(&path(&["sites", name])?, &body)??;
            say!("{} at {new_name} now, and nothing at {name}", counted(&renamed));
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn all(client: &Client, kind: &str) -> Result<Vec<Value>, Failure> {
    Ok(client.get(kind, &[])?[kind].as_array().cloned().unwrap_or_default())
}

fn named_by(one: &Value) -> usize {
    one["named_by"].as_array().map_or(0, Vec::len)
}

fn show_name(client: &Client, what: &str, name: &str, counts: &[&str]) -> Result<(), Failure> {
    let all = all(client, &format!("{what}s"))?;
    let known = |one: &&Value| one["name"].as_str().is_some_and(|known| known.to_lowercase() == name.to_lowercase());
    let one = all.iter().find(known).ok_or_else(|| {
        Failure::new(format!("there is no {what} `{name}`: no record has it, and the active policy does not name it"))
    })?;
    let mut rows: Vec<_> = counts.iter().map(|field| [(*field).to_owned(), one[*field].to_string()]).collect();
    let lines = one["named_by"].as_array().into_iter().flatten();
    rows.extend(lines.map(|line| ["named by the policy".into(), text(line)]));
    show_one(&text(&one["name"]), rows);
    Ok(())
}

/// How many records of each kind: "2 people and 3 devices".
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
    told.collect::<Vec<_>>().join(", ")
}
