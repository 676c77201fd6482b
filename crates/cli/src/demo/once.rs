use std::process::ExitCode;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use regnant_campus::story::{Expected, Scene};
use regnant_campus::{Accounting, harbour};
use regnant_radius::Dictionary;
use serde::Serialize;
use serde_json::Value;

use super::{ACCOUNTING, API, Port, RADIUS};
use crate::api::Client;
use crate::args::Api;
use crate::failure::Failure;
use crate::paint::{self, say};

/// One row of the story as it went.
#[derive(Serialize)]
struct Row {
    who: &'static str,
    nas: &'static str,
    given: String,
    why: String,
    as_expected: bool,
}

/// Plays the story once and prints what everybody was given and why.
pub(super) fn play(port: &Port, as_json: bool) -> Result<ExitCode, Failure> {
    let client = Client::with_token(&Api::plain(&format!("http://{API}")), port.token.clone())?;
    let dictionary = Arc::new(harbour::dictionary());
    let mut accounting = Accounting::new(ACCOUNTING, dictionary.clone());
    let mut play = |scene| row(scene, &client, &dictionary, &mut accounting);
    let mut rows = port.scenes.iter().map(&mut play).collect::<Result<Vec<_>, _>>()?;
    let silent = port.outside.while_stopped(|| port.silent.iter().map(&mut play).collect::<Result<Vec<_>, _>>())?;
    rows.extend(silent.into_iter().flatten());
    accounting.close();
    let right = rows.iter().filter(|row| row.as_expected).count();
    match as_json {
        true => paint::json(&rows),
        false => {
            print(&rows);
            say!("\n{right} of {} as the scenario says", rows.len());
        }
    }
    let missing = port.outside.missing.as_ref();
    if let Some(why) = missing {
        eprintln!("left out: {}\n{why}; or leave them out by --without-directory", port.left_out.join("; "));
    }
    let whole = right == rows.len() && missing.is_none();
    Ok(if whole { ExitCode::SUCCESS } else { ExitCode::from(1) })
}

fn row(
    scene: &Scene,
    client: &Client,
    dictionary: &Arc<Dictionary>,
    accounting: &mut Accounting,
) -> Result<Row, Failure> {
    let before = newest(client, scene)?;
    let outcome = scene.play(RADIUS, dictionary, Some(accounting));
    Ok(Row {
        who: scene.title,
        nas: scene.nas.name,
        given: outcome.describe(),
        why: why(client, scene, &before)?,
        as_expected: scene.expected.is_met_by(&outcome),
    })
}

/// The newest entry that this sender can have caused.
fn newest(client: &Client, scene: &Scene) -> Result<Value, Failure> {
    let source = scene.nas.address.to_string();
    // Who has no answer is unheard, or is a NAS that nobody answers for a reason.
    let unheard = [("limit", "1"), ("outcome", "unheard"), ("q", source.as_str())];
    let silent = [("limit", "1"), ("outcome", "silence"), ("q", scene.nas.name)];
    let list = match scene.expected {
        Expected::NoAnswer => {
            let lists = [client.get("journal", &unheard)?, client.get("journal", &silent)?];
            let newest = lists.iter().filter_map(|list| list["entries"].get(0));
            let newest = newest.max_by_key(|entry| entry["at"].as_str().map(str::to_owned));
            return Ok(newest.cloned().unwrap_or_default());
        }
        _ => client.get("journal", &[("limit", "10"), ("q", scene.nas.name)])?,
    };
    // What it reports of the access is another matter.
    let mut asked = list["entries"].as_array().into_iter().flatten().filter(|entry| entry["outcome"] != "accounting");
    Ok(asked.next().cloned().unwrap_or_default())
}

/// Waits for the journal to tell of the scene: an entry is written some tens of
/// milliseconds after the reply, and what stays unheard within a second.
fn why(client: &Client, scene: &Scene, before: &Value) -> Result<String, Failure> {
    let until = Instant::now() + Duration::from_secs(3);
    while Instant::now() < until {
        let entry = newest(client, scene)?;
        if entry != *before {
            return Ok(entry["reason"].as_str().unwrap_or_default().to_owned());
        }
        thread::sleep(Duration::from_millis(25));
    }
    Ok("the journal says nothing".into())
}

fn print(rows: &[Row]) {
    let width = |text: fn(&Row) -> &str, head: &str| {
        rows.iter().map(|row| text(row).chars().count()).max().unwrap_or(0).max(head.len())
    };
    let (who, nas) = (width(|row| row.who, "who"), width(|row| row.nas, "where"));
    let given = width(|row| &row.given, "was given");
    say!("  {}", paint::bold(&format!("{:who$}  {:nas$}  {:given$}  why", "who", "where", "was given")));
    for row in rows {
        let mark = if row.as_expected { "●" } else { "✕" };
        say!("{mark} {:who$}  {:nas$}  {:given$}  {}", row.who, row.nas, row.given, row.why);
    }
}
