use std::fmt::Write as _;
use std::process::ExitCode;

use regnant_base::printable;
use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, NasAction};
use crate::failure::Failure;
use crate::journal::{sentence, time};
use crate::paint::{self, say, table};
use crate::sign_in::ask_secretly;

/// Keeps the equipment that asks.
pub(crate) fn run(args: &args::Nas) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        NasAction::List { words, json, csv } => list(&all(&client, &words.join(" "))?, *json, *csv),
        NasAction::Show { name, json } => {
            let detail = client.get(&at(name)?, &[])?;
            if *json { paint::json(&detail) } else { show(&detail) }
        }
        NasAction::Add { name, fields, json } => {
            let mut form = changes(fields)?;
            form.insert("name".into(), json!(name));
            let lacks = |field: &str| form.get(field).is_none_or(|value| value.as_array().is_some_and(Vec::is_empty));
            if let Some(field) = ["addresses", "kind", "site"].into_iter().find(|field| lacks(field)) {
                let option = if field == "addresses" { "address" } else { field };
                return Err(Failure::usage(format!("say --{option}: a NAS has one")));
            }
            let added = client.post("nases", &Value::Object(form))??;
            if *json {
                paint::json(&added);
            } else {
                say!("NAS {name} is added and heard from now on");
                if let Some(secret) = added["secret"].as_str() {
                    say!("its shared secret, shown this once: {}", paint::bold(secret));
                }
                tell_lacks(&added["nas"]);
            }
        }
        NasAction::Change { name, new_name, fields, json } => {
            let mut patch = changes(fields)?;
            patch.extend(new_name.iter().map(|name| ("name".to_owned(), json!(name))));
            if patch.is_empty() {
                return Err(Failure::usage("say what shall be otherwise; see `regnant nas change --help`"));
            }
            let changed = client.patch(&at(name)?, &Value::Object(patch))??;
            if *json {
                paint::json(&changed);
            } else {
                say!("NAS {} is changed", text(&changed["name"]));
                tell_lacks(&changed);
            }
        }
        NasAction::Remove { name } => {
            client.delete(&at(name)?)??;
            say!("NAS {name} is removed and not heard any more");
        }
        NasAction::Secret { name } => {
            let shown = client.post(&format!("{}/secret", at(name)?), &json!({}))??;
            say!("{}", shown["secret"].as_str().unwrap_or_default());
        }
        NasAction::Unheard { json } => {
            let list = client.get("unheard", &[])?;
            if *json { paint::json(&list) } else { unheard(&list) }
        }
        NasAction::TrySecret { source } => {
            let secret = ask_secretly("The shared secret: ")?;
            let told = client.post(&format!("unheard/{source}/secret"), &json!({ "secret": secret }))??;
            say!("{}", text(&told["says"]));
            return Ok(if told["fits"] == true { ExitCode::SUCCESS } else { ExitCode::from(1) });
        }
        NasAction::Export => say!("{}", export(&all(&client, "")?)),
    }
    Ok(ExitCode::SUCCESS)
}

/// Every NAS that a filter lets through.
fn all(client: &Client, words: &str) -> Result<Vec<Value>, Failure> {
    let (mut nases, mut after) = (Vec::new(), String::new());
    loop {
        let page = client.get("nases", &[("q", words), ("after", &after), ("limit", "5000")])?;
        nases.extend(page["nases"].as_array().into_iter().flatten().cloned());
        match page["next"].as_str() {
            Some(next) => next.clone_into(&mut after),
            None => return Ok(nases),
        }
    }
}

fn at(name: &str) -> Result<String, Failure> {
    if name.is_empty() {
        return Err(Failure::usage("say the name of a NAS; `regnant nas list` shows them"));
    }
    let mut path = String::from("nases/");
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' => path.push(byte.into()),
            _ => drop(write!(path, "%{byte:02X}")),
        }
    }
    Ok(path)
}

/// What the options say.
fn changes(fields: &args::NasFields) -> Result<Map<String, Value>, Failure> {
    let mut all = Map::new();
    let texts = [("kind", &fields.kind), ("site", &fields.site), ("dialect", &fields.dialect), ("note", &fields.note)];
    all.extend(texts.into_iter().filter_map(|(name, value)| Some((name.to_owned(), json!(value.as_ref()?)))));
    if !fields.address.is_empty() {
        all.insert("addresses".into(), json!(fields.address));
    }
    if !fields.tag.is_empty() {
        let tags: Vec<_> = fields.tag.iter().filter(|tag| !tag.is_empty()).collect();
        all.insert("tags".into(), json!(tags));
    }
    let flags = [
        ("require_message_authenticator", fields.require_message_authenticator),
        ("class_at_login", fields.class_at_login),
    ];
    all.extend(flags.into_iter().filter_map(|(name, value)| Some((name.to_owned(), json!(value?)))));
    if fields.ask_secret {
        all.insert("secret".into(), json!(ask_secretly("The shared secret: ")?));
    }
    Ok(all)
}

fn list(nases: &[Value], as_json: bool, as_csv: bool) {
    if as_json {
        return paint::json(&json!(nases));
    }
    let row = |nas: &Value| {
        let signs = if nas["require_message_authenticator"] == false { "no Message-Authenticator" } else { "" };
        [
            text(&nas["name"]),
            texts(&nas["addresses"]),
            text(&nas["kind"]),
            text(&nas["site"]),
            text(&nas["dialect"]),
            texts(&nas["tags"]),
            [
                signs,
                if nas["lacks"].as_array().is_some_and(|lacks| !lacks.is_empty()) { "lacks something" } else { "" },
            ]
            .into_iter()
            .filter(|word| !word.is_empty())
            .collect::<Vec<_>>()
            .join(", "),
        ]
    };
    let head = ["name", "addresses", "kind", "site", "dialect", "tags", ""];
    if as_csv {
        let head = [&head[..6], &["require_message_authenticator"]].concat();
        say!("{}", head.join(","));
        for nas in nases {
            let mut cells = row(nas).map(|cell| csv_cell(&cell));
            cells[6] = nas["require_message_authenticator"].to_string();
            say!("{}", cells.join(","));
        }
        return;
    }
    table(head, nases.iter().map(row));
}

/// A cell as RFC 4180 has it; one that a spreadsheet would run is written so that it does not.
fn csv_cell(text: &str) -> String {
    let text = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() };
    match text.contains(['"', ',', '\n', '\r']) {
        true => format!("\"{}\"", text.replace('"', "\"\"")),
        false => text,
    }
}

fn show(detail: &Value) {
    let nas = &detail["nas"];
    let signs = match nas["require_message_authenticator"] == false {
        true => "not required: its answers can be forged on the way; update it, then require it",
        false => "required",
    };
    let heard = match detail["heard"].is_object() {
        true => sentence(&detail["heard"]),
        false => "never".into(),
    };
    let mut rows = vec![
        ["addresses".to_owned(), texts(&nas["addresses"])],
        ["kind".into(), text(&nas["kind"])],
        ["site".into(), text(&nas["site"])],
        ["tags".into(), texts(&nas["tags"])],
        ["note".into(), text(&nas["note"])],
        ["dialect".into(), text(&nas["dialect"])],
        ["Message-Authenticator".into(), signs.into()],
        ["last heard".into(), heard],
    ];
    if nas["class_at_login"] == true {
        rows.push(["Class at login".into(), "yes".into()]);
    }
    let more =
        [("named by the policy", &detail["named_by"]), ("without it", &detail["instead"]), ("lacks", &nas["lacks"])];
    for (what, list) in more {
        let lines = list.as_array().into_iter().flatten().map(text);
        rows.extend(lines.map(|line| [what.to_owned(), line]));
    }
    rows.retain(|[_, value]| !value.is_empty());
    say!("{}", paint::bold(&text(&nas["name"])));
    let width = rows.iter().map(|[label, _]| label.chars().count()).max().unwrap_or(0);
    for [label, value] in rows {
        say!("  {label:width$}  {value}");
    }
}

/// Each sender with what it claims, why it stays unheard and what to do.
fn unheard(list: &Value) {
    let senders = list["senders"].as_array().into_iter().flatten();
    if senders.clone().next().is_none() {
        return say!("Nobody stayed unheard within the last minutes.");
    }
    for sender in senders {
        let claims = &sender["claims"];
        let claimed = [("identifier", "calls itself"), ("address", "says its address is"), ("kind", "looks like a")];
        let claimed = claimed.iter().filter(|(field, _)| claims[field].is_string());
        let claimed: Vec<_> = claimed.map(|(field, says)| format!("{says} {}", text(&claims[field]))).collect();
        let nas = if sender["nas"].is_string() { format!(" ({})", text(&sender["nas"])) } else { String::new() };
        say!("{}{nas}  {}", paint::bold(&text(&sender["source"])), claimed.join(", "));
        for cause in sender["causes"].as_array().into_iter().flatten() {
            let packets = cause["packets"].as_u64().unwrap_or(0);
            let packets = if packets == 1 { "1 packet".to_owned() } else { format!("{packets} packets") };
            say!(
                "  {} {packets}, last at {}: {}",
                paint::mark("unheard"),
                time(&text(&cause["last"])),
                text(&cause["cause"])
            );
            say!("    {}", paint::dim(&text(&cause["advice"])));
        }
    }
}

fn tell_lacks(nas: &Value) {
    for lack in nas["lacks"].as_array().into_iter().flatten() {
        say!("{} {}", paint::mark("refused"), text(lack));
    }
}

/// As an inventory file has them, without their secrets: importing it keeps those that are
/// there.
fn export(nases: &[Value]) -> String {
    let mut text = String::new();
    for nas in nases {
        let fields = ["name", "kind", "site", "dialect", "note"].map(|field| (field, &nas[field]));
        let lists = [("address", &nas["addresses"]), ("tags", &nas["tags"])];
        let flags = [
            ("require-message-authenticator", &nas["require_message_authenticator"]),
            ("class-at-login", &nas["class_at_login"]),
        ];
        text += "[[nas]]\n";
        for (field, value) in fields.into_iter().chain(lists).chain(flags) {
            // TOML writes texts, lists of texts and truth values as JSON does.
            let _ = writeln!(text, "{field} = {value}");
        }
        text.push('\n');
    }
    text.trim_end().to_owned()
}

fn text(value: &Value) -> String {
    printable(value.as_str().unwrap_or_default()).into_owned()
}

fn texts(value: &Value) -> String {
    value.as_array().into_iter().flatten().map(text).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_run_by_a_spreadsheet() {
        for (text, cell) in [
            ("quay-sw-1", "quay-sw-1"),
            ("=cmd()", "'=cmd()"),
            ("+1", "'+1"),
            ("a, \"b\"", "\"a, \"\"b\"\"\""),
            ("@x,y", "\"'@x,y\""),
        ] {
            assert_eq!(csv_cell(text), cell);
        }
    }

    #[test]
    fn any_name_is_one_part_of_an_address() {
        assert_eq!(at("quay-sw-1").unwrap(), "nases/quay-sw-1");
        assert_eq!(at("a/b c?é").unwrap(), "nases/a%2Fb%20c%3F%C3%A9");
        assert!(at("").is_err());
    }
}
