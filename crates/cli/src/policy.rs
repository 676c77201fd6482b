//! Policies and their editions: from a folder to a draft, to the edition that decides, and back.

use std::fs;
use std::io::{IsTerminal, Write as _, stdin, stdout};
use std::path::Path;
use std::process::ExitCode;

use regnant_base::printable;
use regnant_policy::{CODES, PolicyFiles, explain, format};
use regnant_service::CheckReport;
use serde_json::{Value, json};

use crate::api::Client;
use crate::args;
use crate::check::print_report;
use crate::failure::Failure;
use crate::first_policy;
use crate::paint::{self, say};
use crate::policy_files;
use crate::records::{path, text};

/// Runs one of the commands about policies.
pub(crate) fn run(command: &args::Policy) -> Result<ExitCode, Failure> {
    match command {
        args::Policy::Check(args) => crate::check::run(args),
        args::Policy::New { folder, against_service, api } => first_policy::run(folder, against_service.then_some(api)),
        args::Policy::Inventory { api } => {
            paint::json(&Client::new(api)?.get("policy/inventory", &[])?);
            Ok(ExitCode::SUCCESS)
        }
        args::Policy::Format(args) => lay_out(args),
        args::Policy::Activate(args) => activate(args),
        args::Policy::Pull(args) => pull(args),
        args::Policy::Push(args) => push(args),
        args::Policy::Diff(args) => difference(args),
        args::Policy::Editions(args) => editions(args),
        args::Policy::Rollback(args) => rollback(args),
        args::Policy::WhatIf(args) => what_if(args),
        args::Policy::Case { entry, api } => {
            let told = Client::new(api)?.get(&format!("{}/case", path(&["journal", entry])?), &[])?;
            print!("{}", told["case"].as_str().unwrap_or_default());
            Ok(ExitCode::SUCCESS)
        }
        args::Policy::Hits { json, api } => hits(*json, api),
        args::Policy::Explain { code } => tell_code(code.as_deref()),
        args::Policy::DropDraft { api } => {
            Client::new(api)?.delete("policy/draft")??;
            say!("the draft is forgotten");
            Ok(ExitCode::SUCCESS)
        }
    }
}

/// Lays files out, or says which are not laid out so: exit code 1 where one is not.
fn lay_out(args: &args::Format) -> Result<ExitCode, Failure> {
    let policy = policy_files::read(&args.path)?;
    let folder = policy.main.parent().filter(|_| args.path.is_dir());
    let (mut other, mut wrong) = (0, false);
    for (name, before) in policy.files.iter() {
        let path = folder.map_or_else(|| policy.main.clone(), |folder| folder.join(name));
        let after = match format(before) {
            Ok(after) => after,
            Err(diagnostic) => {
                let source = regnant_policy::Source::new(path.display().to_string(), before);
                say!("{}", diagnostic.render(&source));
                wrong = true;
                continue;
            }
        };
        if after == *before {
            continue;
        }
        other += 1;
        match args.check {
            true => say!("{} is laid out otherwise", path.display()),
            false => replace(&path, &after)?,
        }
    }
    if !args.check && other > 0 {
        say!("{other} {} laid out anew", if other == 1 { "file is" } else { "files are" });
    }
    Ok(if wrong || (args.check && other > 0) { ExitCode::from(1) } else { ExitCode::SUCCESS })
}

/// Puts a text in the place of a file, which is whole at any moment.
fn replace(path: &Path, text: &str) -> Result<(), Failure> {
    let beside = path.with_extension("writ.new");
    let unwritable = |error| Failure::new(format!("{} cannot be written: {error}", path.display()));
    fs::write(&beside, text).and_then(|()| fs::rename(&beside, path)).map_err(unwritable)
}

fn body(files: &PolicyFiles) -> Value {
    json!({ "source": files.main, "included": files.included })
}

fn files_of(view: &Value) -> PolicyFiles {
    let included = view["included"].as_object().into_iter().flatten();
    PolicyFiles {
        main: view["source"].as_str().unwrap_or_default().to_owned(),
        included: included.map(|(path, file)| (path.clone(), file.as_str().unwrap_or_default().to_owned())).collect(),
    }
}

/// Checks a policy and makes it the active edition: a folder, or one's own draft.
fn activate(args: &args::Activate) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.next.api)?;
    let (files, made_from, version) = match &args.path {
        Some(path) => (policy_files::read(path)?.files, None, None),
        None => {
            let draft = client.get("policy/draft", &[])?;
            (files_of(&draft), draft["made_from"].as_u64(), draft["version"].as_u64())
        }
    };
    let expected = args.next.expected.map(u64::from).or(made_from);
    let changes = client.post("policy/difference", &json!({ "from": "active", "to": { "files": body(&files) } }))??;
    if args.dry_run {
        let report = client.post("policy/check?to_activate=true", &body(&files))??;
        if args.next.json {
            paint::json(&json!({ "report": report, "difference": changes }));
        } else {
            tell_changes(&changes);
            if let Some(report) = read_report(&report) {
                print_report(&report);
            }
        }
        let report: Option<CheckReport> = read_report(&report);
        return Ok(match report.map(|report| (report.errors(), report.failed_cases())) {
            Some((0, 0)) => ExitCode::SUCCESS,
            Some((0, _)) => ExitCode::from(3),
            _ => ExitCode::from(1),
        });
    }
    if !args.next.json {
        tell_changes(&changes);
    }
    let note = note(args.next.note.as_deref())?;
    let answer = match version {
        Some(version) => {
            client.post_seen("policy/draft/activate", &json!({ "version": version, "note": note }), expected)
        }
        None => {
            let mut wanted = body(&files);
            wanted["note"] = json!(note);
            client.post_seen("policy/activate", &wanted, expected)
        }
    };
    finish(answer?, args.next.json)
}

/// Makes an earlier edition the active one again.
fn rollback(args: &args::Rollback) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.next.api)?;
    let number = args.number;
    let compared = client.post("policy/difference", &json!({ "from": "active", "to": { "edition": number } }))??;
    if !args.next.json {
        tell_changes(&compared);
    }
    let wanted = json!({ "number": number, "note": note(args.next.note.as_deref())? });
    finish(client.post_seen("policy/rollback", &wanted, args.next.expected.map(u64::from))?, args.next.json)
}

fn finish(answer: Result<Value, crate::api::Refused>, as_json: bool) -> Result<ExitCode, Failure> {
    match answer {
        Ok(done) => {
            if as_json {
                paint::json(&done);
                return Ok(ExitCode::SUCCESS);
            }
            if let Some(report) = read_report(&done["report"]) {
                print_report(&report);
            }
            say!("edition {} is active, in the place of {}", done["number"], done["replaces"]);
            Ok(ExitCode::SUCCESS)
        }
        Err(refused) => {
            if as_json {
                paint::json(&refused.body);
            } else if let Some(report) = read_report(&refused.body["report"]) {
                print_report(&report);
            }
            Err(refused.into())
        }
    }
}

/// Why: as it was said, or as it is typed where somebody is there to type.
fn note(said: Option<&str>) -> Result<String, Failure> {
    match said {
        Some(note) => Ok(note.to_owned()),
        None if stdin().is_terminal() && stdout().is_terminal() => {
            print!("Why (for those who read the editions): ");
            let _ = stdout().flush();
            let mut line = String::new();
            stdin().read_line(&mut line).map_err(|error| Failure::new(format!("nothing can be typed: {error}")))?;
            Ok(line.trim().to_owned())
        }
        None => Ok(String::new()),
    }
}

/// Writes an edition, or one's own draft, into a folder.
fn pull(args: &args::Pull) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let (view, what) = match (args.edition, args.draft) {
        (Some(number), _) => (client.get(&format!("policy/editions/{number}"), &[])?, format!("edition {number}")),
        (None, true) => (client.get("policy/draft", &[])?, "your draft".into()),
        (None, false) => {
            let view = client.get("policy", &[])?["edition"].clone();
            let what = format!("edition {}", view["number"]);
            (view, what)
        }
    };
    let written = policy_files::write(&args.folder, &files_of(&view), args.anyway)?;
    let folder = args.folder.display();
    match written.as_slice() {
        [] => say!("{folder} is {what} already"),
        files => say!("{what} is in {folder}: {}", files.join(", ")),
    }
    Ok(ExitCode::SUCCESS)
}

/// Keeps a folder as one's own draft.
fn push(args: &args::Push) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let files = policy_files::read(&args.path)?.files;
    let active = client.get("policy", &[])?["edition"]["number"].clone();
    let known = client.get_if_there("policy/draft")?;
    let seen = known.as_ref().and_then(|draft| draft["version"].as_u64());
    let mut wanted = body(&files);
    wanted["made_from"] = match (&args.made_from, &known) {
        (Some(number), _) => json!(number),
        (None, Some(draft)) => draft["made_from"].clone(),
        (None, None) => active.clone(),
    };
    let kept = client.put_seen("policy/draft", &wanted, seen.map(|seen| format!("\"{seen}\"")).as_deref())??;
    say!("the draft is kept: version {}, made from edition {}", kept["version"], kept["made_from"]);
    if kept["made_from"] != kept["active"] {
        say!(
            "edition {} is active by now: `regnant policy diff {} active` shows what it changed",
            kept["active"],
            kept["made_from"]
        );
    }
    Ok(ExitCode::SUCCESS)
}

/// One side of a comparison, as it is written on the command line.
fn side(word: &str) -> Result<Value, Failure> {
    match (word, word.parse::<u32>()) {
        ("active" | "draft", _) => Ok(json!(word)),
        (_, Ok(number)) => Ok(json!({ "edition": number })),
        (path, Err(_)) => Ok(json!({ "files": body(&policy_files::read(Path::new(path))?.files) })),
    }
}

fn difference(args: &args::Diff) -> Result<ExitCode, Failure> {
    let client = Client::new(&args.api)?;
    let (from, to) = match (args.from.as_deref(), args.to.as_deref()) {
        (None, _) => ("active", "draft"),
        (Some(from), None) => ("active", from),
        (Some(from), Some(to)) => (from, to),
    };
    let told = client.post("policy/difference", &json!({ "from": side(from)?, "to": side(to)? }))??;
    if args.json {
        paint::json(&told);
        return Ok(ExitCode::SUCCESS);
    }
    tell_changes(&told);
    if args.from.is_none() {
        tell_what_others_changed(&client)?;
    }
    if !args.meaning {
        for file in told["files"].as_array().into_iter().flatten() {
            say!("\n{}", paint::bold(&text(&file["path"])));
            for line in file["unified"].as_str().unwrap_or_default().lines() {
                say!("{}", printable(line));
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// What others changed since the draft was begun, and what both did.
fn tell_what_others_changed(client: &Client) -> Result<(), Failure> {
    let others = client.get("policy/draft/others", &[])?;
    if others["made_from"] == others["active"] {
        return Ok(());
    }
    say!(
        "\n{}",
        paint::bold(&format!("since edition {}, from which the draft is made, others changed:", others["made_from"]))
    );
    tell_changes(&others);
    for change in others["both"].as_array().into_iter().flatten() {
        let (of, name) = (text(&change["of"]), text(&change["name"]));
        say!("{} you and others changed {of} {name}: see that both are in the draft", paint::mark("refused"));
    }
    Ok(())
}

/// What changes in meaning.
fn tell_changes(told: &Value) {
    let changes = told["changes"].as_array().map_or(&[][..], Vec::as_slice);
    if changes.is_empty() {
        let same = told["files"].as_array().is_none_or(Vec::is_empty);
        return say!("{}", if same { "nothing differs" } else { "only the layout or comments differ" });
    }
    for change in changes {
        let of = match (text(&change["of"]).as_str(), change["gate"].as_str()) {
            ("part", Some(gate)) => format!("{} of gate {gate}", text(&change["name"])),
            (of, Some(gate)) => format!("{of} \"{}\" of gate {gate}", text(&change["name"])),
            (of, None) => format!("{of} {}", text(&change["name"])).trim().to_owned(),
        };
        let (place, what) = (format!("{}:{}", text(&change["file"]), change["line"]), text(&change["change"]));
        match what.as_str() {
            "changed" => {
                let part = change["part"].as_str().map_or(String::new(), |part| format!(", its {part}"));
                say!("{} {of}{part} ({place})", paint::bold("changed"));
                say!("  - {}\n  + {}", text(&change["before"]), text(&change["after"]));
            }
            "moved" => say!(
                "{} {of} from {} to {} ({place})",
                paint::bold("moved"),
                text(&change["before"]),
                text(&change["after"])
            ),
            what => say!("{} {of} ({place})", paint::bold(what)),
        }
    }
    for told in told["told"].as_array().into_iter().flatten() {
        let lines = |field: &str| told[field].as_array().into_iter().flatten().map(text).collect::<Vec<_>>();
        let (before, after) = (lines("before"), lines("after"));
        say!("for {} a NAS of the dialect {} is told", text(&told["grant"]), text(&told["dialect"]));
        before.iter().filter(|line| !after.contains(line)).for_each(|line| say!("  - {line}"));
        after.iter().filter(|line| !before.contains(line)).for_each(|line| say!("  + {line}"));
    }
}

fn what_if(args: &args::WhatIf) -> Result<ExitCode, Failure> {
    if args.facts.is_empty() && args.entry.is_none() {
        return Err(Failure::usage("state facts (--fact 'nas.kind = switch'), name an entry (--entry ID), or both"));
    }
    let mut policies = vec![json!("active")];
    policies.extend(args.other.as_deref().map(side).transpose()?);
    let form = json!({ "policies": policies, "entry": args.entry, "facts": args.facts.join(", ") });
    let told = Client::new(&args.api)?.post("policy/what-if", &form)??;
    if args.json {
        paint::json(&told);
        return Ok(ExitCode::SUCCESS);
    }
    let answers = told["answers"].as_array().map_or(&[][..], Vec::as_slice);
    for answer in answers {
        if let Some(report) = read_report(&answer["report"]) {
            say!("{}", paint::bold(&format!("{} does not check:", text(&answer["policy"]))));
            print_report(&report);
            continue;
        }
        tell_answer(answer);
    }
    if let Some(note) = told["note"].as_str() {
        say!("{note}");
    }
    if answers.len() > 1 {
        say!("{}", if told["same"] == true { "both come to the same" } else { "they come to something else" });
    }
    Ok(ExitCode::SUCCESS)
}

fn listed(list: &Value) -> String {
    list.as_array().into_iter().flatten().map(text).collect::<Vec<_>>().join(", ")
}

/// What one policy comes to, and the rules on the way.
fn tell_answer(answer: &Value) {
    let outcome = text(&answer["outcome"]);
    let given = match answer["grants"].as_array().is_some_and(|grants| !grants.is_empty()) {
        true => format!(": {} ({})", listed(&answer["grants"]), listed(&answer["says"])),
        false => String::new(),
    };
    let by = match answer["by_rule"] == true {
        true => format!("by \"{}\"", text(&answer["by"])),
        false => text(&answer["by"]),
    };
    let gate = answer["gate"].as_str().map_or(String::new(), |gate| format!(" at gate {gate}"));
    say!("{}", paint::bold(&format!("{}{gate}", text(&answer["policy"]))));
    say!("  {} {outcome}{given}, {by}", paint::mark(&outcome));
    for rule in answer["rules"].as_array().into_iter().flatten() {
        let mark = if rule["outcome"] == "true" { paint::mark("granted") } else { paint::mark("skipped") };
        say!("    {mark} {}: {}", text(&rule["title"]), text(&rule["outcome"]));
        for test in rule["tests"].as_array().into_iter().flatten().filter(|test| test["outcome"] != "true") {
            say!("        {} is {}", text(&test["text"]), text(&test["outcome"]));
        }
    }
    if let Some(more) = answer["more_rules"].as_u64().filter(|more| *more > 0) {
        say!("    and {more} more rules");
    }
}

fn hits(as_json: bool, api: &args::Api) -> Result<ExitCode, Failure> {
    let told = Client::new(api)?.get("policy/hits", &[])?;
    if as_json {
        paint::json(&told);
        return Ok(ExitCode::SUCCESS);
    }
    let cells = |hit: &Value| {
        [text(&hit["gate"]), text(&hit["rule"]), hit["day"].to_string(), hit["week"].to_string(), text(&hit["last"])]
    };
    let list = told["rules"].as_array().map_or(&[][..], Vec::as_slice);
    paint::table(["gate", "rule", "last day", "last week", "last"], list.iter().map(cells));
    Ok(ExitCode::SUCCESS)
}

/// What a code means; or every code.
fn tell_code(code: Option<&str>) -> Result<ExitCode, Failure> {
    let Some(code) = code else {
        paint::table(
            ["code", "what was found"],
            CODES.iter().map(|help| [help.code.to_owned(), help.title.to_owned()]),
        );
        return Ok(ExitCode::SUCCESS);
    };
    let Some(help) = explain(code) else {
        return Err(Failure::usage(format!("there is no code {code}; `regnant policy explain` lists them")));
    };
    say!("{}: {}", paint::bold(help.code), help.title);
    for line in paint::wrap(help.text, 100) {
        say!("  {line}");
    }
    Ok(ExitCode::SUCCESS)
}

fn editions(args: &args::Editions) -> Result<ExitCode, Failure> {
    let told = Client::new(&args.api)?.get("policy/editions", &[])?;
    if args.json {
        paint::json(&told);
        return Ok(ExitCode::SUCCESS);
    }
    let cells = |edition: &Value| {
        let from = edition["made_from"].as_u64().map_or(String::new(), |number| number.to_string());
        [
            edition["number"].to_string(),
            text(&edition["state"]),
            text(&edition["created_at"]),
            text(&edition["created_by"]),
            from,
            text(&edition["note"]).replace('\n', " "),
        ]
    };
    let list = told["editions"].as_array().map_or(&[][..], Vec::as_slice);
    paint::table(["edition", "state", "since", "by", "from", "why"], list.iter().map(cells));
    Ok(ExitCode::SUCCESS)
}

fn read_report(report: &Value) -> Option<CheckReport> {
    serde_json::from_value(report.clone()).ok()
}
