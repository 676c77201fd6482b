use std::process::ExitCode;

use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{self, NasAction};
use crate::audit::day_and_time;
use crate::failure::Failure;
use crate::import_lines;
use crate::journal::{sentence, time};
use crate::paint::{self, say};
use crate::records::{self, all, export, lines_of, path, show_one, text, texts};
use crate::sign_in::ask_secretly;

/// Keeps the equipment that asks.
pub(crate) fn run(args: &args::Nas) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    match &args.action {
        NasAction::List { words, show: how } => list(&nases(&client, &words.join(" "))?, how),
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
        NasAction::NewSecret { name, grace, ask_secret } => {
            let mut body = json!({ "grace_hours": grace });
            if *ask_secret {
                body["secret"] = json!(ask_secretly("The new shared secret: ")?);
            }
            let set = client.put(&format!("{}/secret", at(name)?), &body)??;
            match set["secret"].as_str() {
                Some(secret) => say!("the new shared secret of {name}, shown this once: {}", paint::bold(secret)),
                None => say!("{name} has another shared secret"),
            }
            tell_change(&set["nas"]);
        }
        NasAction::EndGrace { name } => {
            client.delete(&format!("{}/former-secret", at(name)?))??;
            say!("the new shared secret of {name} alone counts from now on");
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
        NasAction::Together { names, site, dialect, require_message_authenticator, tag, untag, remove } => {
            let body = json!({
                "names": lines_of(names)?,
                "site": site,
                "dialect": dialect,
                "require_message_authenticator": require_message_authenticator,
                "tag": tag,
                "untag": untag,
                "remove": remove,
            });
            let changed = client.post("nases/act", &body)??["nases"].as_u64().unwrap_or(0);
            let what = if *remove { "removed" } else { "changed" };
            say!("{changed} {} {what}", if changed == 1 { "NAS is" } else { "NASes are" });
        }
        NasAction::Import(file) => return import_lines::run(&client, "nases", "nas", file, None),
        NasAction::Export { with_secrets } => {
            let mut all = nases(&client, "")?;
            if *with_secrets {
                for nas in &mut all {
                    let shown = client.post(&format!("{}/secret", at(&text(&nas["name"]))?), &json!({}))??;
                    nas["secret"] = shown["secret"].clone();
                }
            }
            let fields = [
                ("name", "name"),
                ("kind", "kind"),
                ("site", "site"),
                ("dialect", "dialect"),
                ("note", "note"),
                ("address", "addresses"),
                ("tags", "tags"),
                ("require-message-authenticator", "require_message_authenticator"),
                ("class-at-login", "class_at_login"),
                ("secret", "secret"),
            ];
            // Where it has no secrets, importing it keeps those that are there.
            say!("{}", export("nas", &all, &fields));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// Every NAS that a filter lets through.
fn nases(client: &Client, words: &str) -> Result<Vec<Value>, Failure> {
    all(client, "nases", &[("q", words)])
}

fn at(name: &str) -> Result<String, Failure> {
    path(&["nases", name])
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

fn list(nases: &[Value], how: &args::Show) {
    let row = |nas: &Value| {
        let lacks = nas["lacks"].as_array().is_some_and(|lacks| !lacks.is_empty());
        let signs = if nas["require_message_authenticator"] == false { "no Message-Authenticator" } else { "" };
        let words = [signs, if lacks { "lacks something" } else { "" }].into_iter().filter(|word| !word.is_empty());
        [
            text(&nas["name"]),
            texts(&nas["addresses"]),
            text(&nas["kind"]),
            text(&nas["site"]),
            text(&nas["dialect"]),
            texts(&nas["tags"]),
            words.collect::<Vec<_>>().join(", "),
        ]
    };
    let fields = [
        "name",
        "addresses",
        "kind",
        "site",
        "dialect",
        "tags",
        "note",
        "require_message_authenticator",
        "class_at_login",
    ];
    records::show(nases, how, &fields, ["name", "addresses", "kind", "site", "dialect", "tags", "state"], row);
}

fn show(detail: &Value) {
    let nas = &detail["nas"];
    let signs = match (nas["require_message_authenticator"] == false, nas["signed_since"].as_str()) {
        (true, Some(since)) => {
            format!("not required, and in every request since {}: require it now", day_and_time(since))
        }
        (true, None) => "not required: its answers can be forged on the way; update it, then require it".into(),
        (false, _) => "required".into(),
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
        ["Message-Authenticator".into(), signs],
        ["last heard".into(), heard],
    ];
    rows.extend(secret_change(nas).map(|told| ["shared secret".into(), told]));
    let sums = ["granted", "observed", "refused", "silence", "unfinished"].map(|kind| {
        let hours = detail["hours"].as_array().into_iter().flatten();
        (hours.filter_map(|hour| hour[kind].as_u64()).sum::<u64>(), kind)
    });
    let sums: Vec<_> = sums.iter().filter(|(sum, _)| *sum > 0).map(|(sum, kind)| format!("{sum} {kind}")).collect();
    rows.push(["last 24 hours".into(), if sums.is_empty() { "nothing".into() } else { sums.join(", ") }]);
    if nas["class_at_login"] == true {
        rows.push(["Class at login".into(), "yes".into()]);
    }
    let more =
        [("named by the policy", &detail["named_by"]), ("without it", &detail["instead"]), ("lacks", &nas["lacks"])];
    for (what, list) in more {
        let lines = list.as_array().into_iter().flatten().map(text);
        rows.extend(lines.map(|line| [what.to_owned(), line]));
    }
    show_one(&text(&nas["name"]), rows);
}

/// What is to be known of a change of a secret that the NAS has not followed yet.
fn secret_change(nas: &Value) -> Option<String> {
    let change = nas["secret_change"].as_object()?;
    let (since, until) = (day_and_time(&text(&change["since"])), day_and_time(&text(&change["until"])));
    Some(match change["unsigned"] == true {
        true => format!(
            "another since {since}; what it does not sign counts under the one before until `regnant nas end-grace`, \
             all else until {until} or the first under the new one"
        ),
        false => {
            format!("another since {since}; the one before counts too until {until}, or until it uses the new one")
        }
    })
}

fn tell_change(nas: &Value) {
    if let Some(told) = secret_change(nas) {
        say!("{told}");
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
