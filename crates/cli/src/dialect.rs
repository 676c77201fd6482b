use std::process::ExitCode;

use serde_json::{Value, json};

use crate::api::Client;
use crate::args::{self, DialectAction};
use crate::dictionary::{file_body, name_in, named, text};
use crate::failure::Failure;
use crate::paint::{self, say, table};
use crate::records::all;

/// Shows and changes how equipment is told.
pub(crate) fn run(args: &args::Dialect) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        DialectAction::List { json } => list(&client, *json)?,
        DialectAction::Show { name, json } => show(&client, name, *json)?,
        DialectAction::Add { file } => {
            let taken = {
                let body = file_body(file)?;
                let seen = client.seen_in("dialects", &name_in(&body))?;
                client.post_over("dialects", &body, &seen)??
            };
            say!("dialect {} is known; the policy goes on as edition {}", text(&taken, "name"), taken["edition"]);
        }
        DialectAction::Remove { name } => {
            let removed = {
                let seen = client.seen_in("dialects", named(name)?)?;
                client.delete_seen(&format!("dialects/{name}"), seen.etag())??
            };
            say!("dialect {name} is removed; the policy goes on as edition {}", removed["edition"]);
        }
        DialectAction::Preview { grants, nas, json } => return preview(&client, grants, nas, *json),
    }
    Ok(ExitCode::SUCCESS)
}

fn list(client: &Client, as_json: bool) -> Result<(), Failure> {
    let dialects = all(client, "dialects", &[])?;
    if as_json {
        paint::json(&json!(dialects));
        return Ok(());
    }
    let rows = dialects.iter().map(|one| {
        let origin = if one["ships"] == true { "ships" } else { "added" };
        let nases = items(&one["nases"]).filter_map(Value::as_str).collect::<Vec<_>>().join(", ");
        [text(one, "name"), origin.to_owned(), text(one, "extends"), nases, text(one, "title")]
    });
    table(["name", "", "extends", "spoken by", "about"], rows);
    Ok(())
}

fn show(client: &Client, name: &str, as_json: bool) -> Result<(), Failure> {
    let body = client.get(&format!("dialects/{}", named(name)?), &[])?;
    if as_json {
        paint::json(&body);
        return Ok(());
    }
    let dialect = &body["dialect"];
    say!("{}  {}", paint::bold(&text(dialect, "name")), text(dialect, "title"));
    let mut rows = Vec::new();
    for one in items(&body["statements"]) {
        let mut keyword = text(one, "keyword");
        let attributes =
            items(&one["attributes"]).map(|sent| format!("{} = {}", text(sent, "name"), text(sent, "value")));
        let mut said: Vec<_> = attributes.collect();
        if said.is_empty() {
            said.push(match one["cannot"].as_str() {
                Some(why) => format!("cannot: {why}"),
                None => "no way to say it".into(),
            });
        }
        if keyword == "acl" {
            said[0] = format!("{} ({})", said[0], text(&body, "lists"));
        }
        let needs: Vec<_> = items(&one["needs"]).filter_map(Value::as_str).collect();
        said.extend((!needs.is_empty()).then(|| format!("only together with {}", needs.join(", "))));
        for line in said {
            rows.push([std::mem::take(&mut keyword), line]);
        }
    }
    table(["statement", "is told as"], rows);
    let bypass = items(&body["mac_bypass"]).filter_map(Value::as_str).collect::<Vec<_>>().join(", ");
    say!("MAC bypass by {}", if bypass.is_empty() { "no way" } else { &bypass });
    let classes = if body["several_classes"] == true { "every Class" } else { "one Class" };
    say!("reports repeat {classes} of a reply");
    Ok(())
}

fn preview(client: &Client, grants: &[String], nas: &str, as_json: bool) -> Result<ExitCode, Failure> {
    let body = client.get("dialects/preview", &[("grant", &grants.join(",")), ("nas", nas)])?;
    let cannot = body["cannot"].as_str();
    let code = if cannot.is_some() { ExitCode::from(1) } else { ExitCode::SUCCESS };
    if as_json {
        paint::json(&body);
        return Ok(code);
    }
    say!("{} to {} in the dialect {}", grants.join(", "), text(&body, "nas"), text(&body, "dialect"));
    if let Some(cannot) = cannot {
        say!("{} {cannot}", paint::mark("refused"));
        return Ok(code);
    }
    table(["attribute", "value"], items(&body["attributes"]).map(|one| [text(one, "name"), text(one, "value")]));
    if body["varies"] == true {
        say!("Some values come from facts; the longest that they may be are shown.");
    }
    let lists: Vec<_> = items(&body["lists_by_name"]).filter_map(Value::as_str).collect();
    if !lists.is_empty() {
        say!("It is told the name alone of {}, and has to have what stands under it already.", lists.join(", "));
    }
    let hex = text(&body, "hex");
    say!("{} bytes", hex.len() / 2);
    for line in hex.as_bytes().chunks(64) {
        say!("  {}", String::from_utf8_lossy(line));
    }
    Ok(code)
}

fn items(value: &Value) -> impl Iterator<Item = &Value> {
    value.as_array().into_iter().flatten()
}
