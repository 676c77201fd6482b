//! Tokens for several programs at once. Each is made by itself and shown once, as one made by
//! hand is.

use std::io::Read;
use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::ImportLines;
use crate::failure::Failure;
use crate::import_lines::{Form, form};
use crate::paint::{self, say};
use crate::records::{path, text};

/// Bytes of a file: nobody has very many tokens.
const MOST: u64 = 1 << 20;
const FIELDS: [&str; 3] = ["name", "role", "expires"];

/// Makes tokens: exit code 0 where every one was made, 1 where one was refused.
pub(crate) fn run(client: &Client, args: &ImportLines) -> Result<ExitCode, Failure> {
    let name = args.file.display().to_string();
    let unreadable = |error: std::io::Error| Failure::usage(format!("{name} cannot be read: {error}"));
    let mut whole = String::new();
    let read = match name.as_str() {
        "-" => std::io::stdin().take(MOST).read_to_string(&mut whole),
        _ => std::fs::File::open(&args.file).map_err(unreadable)?.take(MOST).read_to_string(&mut whole),
    };
    read.map_err(unreadable)?;
    let entries = entries(form(&args.file, whole.as_bytes()), &whole)
        .map_err(|why| Failure::usage(format!("{name}: {why}; nothing was made")))?;
    if args.dry_run {
        say!("{} to be made; nothing is in force", entries.len());
        return Ok(ExitCode::SUCCESS);
    }
    let (mut made, mut refused) = (Vec::new(), Vec::new());
    for (place, entry) in entries.iter().enumerate() {
        match client.post("tokens", entry)? {
            Ok(token) => made.push(json!({ "name": entry["name"], "id": token["id"], "token": token["token"] })),
            Err(why) => refused.push((place + 1, Failure::from(why).text().to_owned())),
        }
    }
    if args.all_or_none && !refused.is_empty() {
        for token in made.drain(..) {
            client.delete(&path(&["tokens", &text(&token["id"])])?)??;
        }
    }
    match args.json {
        true => paint::json(&json!(made)),
        false => {
            let row = |one: &Value| [text(&one["name"]), text(&one["id"]), text(&one["token"])];
            paint::table(["name", "id", "token, shown this once"], made.iter().map(row));
        }
    }
    for (place, why) in &refused {
        eprintln!("  {} entry {place}: {why}", paint::mark("refused"));
    }
    Ok(if refused.is_empty() { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

/// What a file says of each, as the API takes it.
fn entries(form: Form, whole: &str) -> Result<Vec<Map<String, Value>>, String> {
    let all: Vec<Map<String, Value>> = match form {
        Form::Csv => {
            let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(whole.as_bytes());
            let rows: Result<Vec<Map<_, _>>, _> = reader.deserialize().collect();
            rows.map_err(|error| error.to_string())?
        }
        Form::Json => serde_json::from_str(whole).map_err(|error| error.to_string())?,
        Form::JsonLines => {
            let lines = whole.lines().filter(|line| !line.trim().is_empty()).map(serde_json::from_str);
            lines.collect::<Result<_, _>>().map_err(|error| error.to_string())?
        }
        Form::Toml => {
            let file: std::collections::BTreeMap<String, Vec<Map<String, Value>>> =
                toml::from_str(whole).map_err(|error| error.message().to_owned())?;
            match file.keys().find(|key| *key != "token") {
                Some(other) => return Err(format!("it has [[{other}]], and tokens stand in [[token]]")),
                None => file.into_values().flatten().collect(),
            }
        }
    };
    let clean = |mut entry: Map<String, Value>| {
        // An empty cell says nothing.
        entry.retain(|_, value| *value != "");
        match entry.keys().find(|key| !FIELDS.contains(&key.as_str())) {
            Some(other) => Err(format!("`{other}` is no field of a token; there are {}", FIELDS.join(", "))),
            None if !entry.contains_key("name") => Err("a token has no `name`".into()),
            None => Ok(entry),
        }
    };
    all.into_iter().map(clean).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_says_the_same() {
        let csv = "name,role,expires\nci,auditor,\n";
        let toml = "[[token]]\nname = \"ci\"\nrole = \"auditor\"\n";
        let said = vec![Map::from_iter([("name".into(), json!("ci")), ("role".into(), json!("auditor"))])];
        for (form, text) in [
            (Form::Csv, csv),
            (Form::Toml, toml),
            (Form::Json, r#"[{"name":"ci","role":"auditor"}]"#),
            (Form::JsonLines, "{\"name\":\"ci\",\"role\":\"auditor\"}\n\n"),
        ] {
            assert_eq!(entries(form, text).unwrap(), said);
        }
        assert!(entries(Form::Csv, "name,token\na,b\n").unwrap_err().contains("`token` is no field"));
        assert!(entries(Form::Toml, "[[person]]\nname = \"a\"\n").unwrap_err().contains("[[token]]"));
        assert!(entries(Form::Csv, "role\nauditor\n").unwrap_err().contains("no `name`"));
    }
}
