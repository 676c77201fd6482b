use std::path::Path;
use std::process::ExitCode;

use serde_json::{Value, json};

use crate::api::Client;
use crate::args::{self, DictionaryAction};
use crate::certificate::read;
use crate::failure::Failure;
use crate::paint::{self, say, table};
use crate::records::all;

/// Shows and changes which attributes are known.
pub(crate) fn run(args: &args::Dictionary) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        DictionaryAction::List { json } => list(&client, *json)?,
        DictionaryAction::Show { name, json } => show(&client, name, *json)?,
        DictionaryAction::Add { file } => {
            let taken = {
                let body = file_body(file)?;
                let seen = client.seen_in("dictionaries", &name_in(&body))?;
                client.post_over("dictionaries", &body, &seen)??
            };
            say!("dictionary {} is known; the policy goes on as edition {}", text(&taken, "name"), taken["edition"]);
        }
        DictionaryAction::Remove { name } => {
            let removed = {
                let seen = client.seen_in("dictionaries", named(name)?)?;
                client.delete_seen(&format!("dictionaries/{name}"), seen.etag())??
            };
            say!("dictionary {name} is removed; the policy goes on as edition {}", removed["edition"]);
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// A name as it stands in an address.
pub(crate) fn named(name: &str) -> Result<&str, Failure> {
    match !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-') {
        true => Ok(name),
        false => {
            Err(Failure::usage(format!("`{}` is no name; names have letters, digits and hyphens", name.escape_debug())))
        }
    }
}

/// A file as the API takes it.
pub(crate) fn file_body(file: &Path) -> Result<Value, Failure> {
    let name = file.file_name().map_or_else(|| file.display().to_string(), |name| name.to_string_lossy().into_owned());
    Ok(json!({ "file": name, "text": read(file)? }))
}

/// What a file will be known by, as far as it can be read: its own name, or that of its vendor.
pub(crate) fn name_in(body: &Value) -> String {
    let read = body["text"].as_str().and_then(|text| text.parse::<toml::Table>().ok()).unwrap_or_default();
    let vendor = read.get("vendor").and_then(|vendor| vendor.get("name"));
    vendor.or_else(|| read.get("name")).and_then(toml::Value::as_str).unwrap_or_default().to_owned()
}

fn list(client: &Client, as_json: bool) -> Result<(), Failure> {
    let dictionaries = all(client, "dictionaries", &[])?;
    if as_json {
        paint::json(&json!(dictionaries));
        return Ok(());
    }
    let rows = dictionaries.iter().map(|one| {
        let vendor = one["vendor"].as_u64().map_or_else(String::new, |number| format!("vendor {number}"));
        let origin = if one["ships"] == true { "ships" } else { "added" };
        [text(one, "name"), one["attributes"].to_string(), vendor, origin.to_owned(), text(one, "title")]
    });
    table(["name", "attributes", "", "", "about"], rows);
    Ok(())
}

fn show(client: &Client, name: &str, as_json: bool) -> Result<(), Failure> {
    let body = client.get(&format!("dictionaries/{}", named(name)?), &[])?;
    if as_json {
        paint::json(&body);
        return Ok(());
    }
    let rows = body["attributes"].as_array().into_iter().flatten().map(|one| {
        let mut marks: Vec<String> = Vec::new();
        marks.extend((one["tagged"] == true).then(|| "tagged".to_owned()));
        marks.extend(one["hidden"].as_str().map(|how| format!("hidden as {how}")));
        marks.extend((one["secret"] == true && one["hidden"].is_null()).then(|| "secret".to_owned()));
        marks.extend((one["reserved"] == true).then(|| "the service's own".to_owned()));
        let also = one["also"].as_array().into_iter().flatten().filter_map(Value::as_str);
        marks.extend(also.map(|name| format!("also {name}")));
        let values = one["values"].as_array().into_iter().flatten();
        let values: Vec<_> = values.map(|value| format!("{} {}", value["number"], text(value, "name"))).collect();
        marks.extend((!values.is_empty()).then(|| values.join(", ")));
        [
            text(one, "number"),
            text(one, "name"),
            text(one, "type"),
            text(one, "accept"),
            text(one, "source"),
            marks.join("; "),
        ]
    });
    table(["number", "name", "type", "accept", "defined in", ""], rows);
    Ok(())
}

pub(crate) fn text(value: &Value, name: &str) -> String {
    value[name].as_str().unwrap_or_default().to_owned()
}
