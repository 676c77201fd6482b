//! `regnant try --load`: how much a server bears.

use std::collections::HashMap;
use std::fs;
use std::net::IpAddr;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use regnant_client::load::{self, Pace, Plan, Report, So, Source};
use regnant_client::{Ask, Patience};
use regnant_decision::NasKind;
use regnant_radius::SharedSecret;
use regnant_records::{Inventory, NasEntry};
use serde::Deserialize;
use serde_json::json;

use crate::args::{Try, TryMethod};
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::try_out::{ask, dictionary};

/// Asks very much, and tells what came of it.
pub(crate) fn run(args: &Try) -> Result<ExitCode, Failure> {
    let sources = match (&args.inventory, &args.mix) {
        (Some(file), _) => of_inventory(file)?,
        (None, Some(file)) => of_mix(file, args)?,
        (None, None) => {
            let one = Arc::new(ask(args)?);
            sources(args, |_| vec![(one.clone(), 1)])?
        }
    };
    let [server] = args.server[..] else { return Err(Failure::usage("load is for one --server")) };
    let plan = Plan {
        server,
        sources,
        pace: match (args.rate, args.window) {
            (Some(rate), _) => Pace::Rate(rate),
            (None, window) => Pace::Window(window),
        },
        time: Duration::from_secs(args.seconds),
        patience: Patience { first: Duration::from_secs(args.wait), tries: args.tries, ..Patience::default() },
    };
    let mut before = So::default();
    let watch = |so: So| {
        if !args.json {
            eprintln!(
                "{} begun, {} answered a second, {} unanswered so far",
                so.begun,
                so.answered - before.answered,
                so.unanswered
            );
        }
        before = so;
    };
    let report = load::run(&plan, &Arc::new(dictionary(args)?), watch).map_err(Failure::usage)?;
    match args.json {
        true => paint::json(&as_json(&report)),
        false => tell(&report, if args.method == Some(TryMethod::Accounting) { "reports" } else { "logins" }),
    }
    let all = report.accepted + report.refused > 0 && report.unanswered == 0 && report.broken == 0;
    Ok(if all { ExitCode::SUCCESS } else { ExitCode::from(3) })
}

/// A source for each address to send from.
fn sources(args: &Try, asks: impl Fn(IpAddr) -> Vec<(Arc<Ask>, u32)>) -> Result<Vec<Source>, Failure> {
    let Some(secret) = &args.secret else { return Err(Failure::usage("say the shared secret: --secret")) };
    let source = |from: &IpAddr| Source {
        from: *from,
        secret: SharedSecret::new(secret.as_bytes()),
        signed: !args.unsigned,
        asks: asks(*from),
    };
    Ok(args.from.iter().map(source).collect())
}

/// One request of a mix.
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct MixEntry {
    method: String,
    #[serde(default = "once")]
    weight: u32,
    /// Only from this address.
    from: Option<IpAddr>,
    mac: Option<String>,
    user: Option<String>,
    password: Option<String>,
    #[serde(default)]
    attributes: HashMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Mix {
    request: Vec<MixEntry>,
}

fn once() -> u32 {
    1
}

/// What a file of requests says.
fn of_mix(file: &Path, args: &Try) -> Result<Vec<Source>, Failure> {
    let text = read(file)?;
    let mix: Mix = toml::from_str(&text).map_err(|error| wrong(file, error.message()))?;
    let mut asks = Vec::new();
    for (number, entry) in mix.request.iter().enumerate() {
        let wrong = |why: &dyn std::fmt::Display| wrong(file, &format!("request {}: {why}", number + 1));
        let method = <TryMethod as clap::ValueEnum>::from_str(&entry.method, true)
            .map_err(|_| wrong(&format!("there is no method `{}`", entry.method)))?;
        let one = Try {
            method: Some(method),
            mac: entry.mac.clone(),
            user: entry.user.clone(),
            password: entry.password.clone(),
            attributes: entry.attributes.clone().into_iter().collect(),
            ..args.clone()
        };
        let lacks = match method {
            TryMethod::Mac => one.mac.is_none().then_some("`mac`"),
            TryMethod::Pap | TryMethod::Chap | TryMethod::Mschap | TryMethod::Mschapv2 => {
                (one.user.is_none() || one.password.is_none()).then_some("a login")
            }
            _ => None,
        };
        if let Some(lacks) = lacks {
            return Err(wrong(&format!("{} needs {lacks}", entry.method)));
        }
        asks.push((entry.from, Arc::new(ask(&one)?), entry.weight));
    }
    sources(args, |from| {
        let here = asks.iter().filter(|(only, ..)| only.is_none_or(|only| only == from));
        here.map(|(_, ask, weight)| (ask.clone(), *weight)).collect()
    })
}

/// Every device at switches and controllers, every person elsewhere, with the secrets
/// that stand there.
fn of_inventory(file: &Path) -> Result<Vec<Source>, Failure> {
    let inventory = Inventory::from_toml(&file.display().to_string(), &read(file)?).map_err(Failure::usage)?;
    let mut devices = Vec::new();
    for entry in &inventory.device {
        let port = |number: usize| (number % 48) as u32 + 1;
        let from = devices.len();
        let addresses = entry.addresses().map_err(Failure::usage)?;
        devices.extend(
            addresses.enumerate().map(|(number, mac)| (Arc::new(Ask::mac(&mac.to_string(), port(from + number))), 1)),
        );
    }
    let people: Vec<_> = inventory
        .person
        .iter()
        .filter_map(|person| {
            let ask = Ask::pap(&person.name, person.password.as_ref()?.expose());
            Some((Arc::new(ask.with("Service-Type", "Login")), 1))
        })
        .collect();
    let source = |nas: &NasEntry| {
        let address = nas.address.all().first().map_or("", String::as_str);
        let from = address
            .parse()
            .map_err(|_| wrong(file, &format!("NAS `{}`: `{address}` is no single address to send from", nas.name)))?;
        let asks = match nas.kind {
            NasKind::Switch | NasKind::Controller => devices.clone(),
            _ => people.clone(),
        };
        let none = || wrong(file, &format!("NAS `{}`: `secret` is missing", nas.name));
        let secret = SharedSecret::new(nas.secret.as_ref().ok_or_else(none)?.expose().as_bytes());
        Ok(Source { from, secret, signed: nas.require_message_authenticator, asks })
    };
    let all: Vec<Source> = inventory.nas.iter().map(source).collect::<Result<_, Failure>>()?;
    Ok(all.into_iter().filter(|source| !source.asks.is_empty()).collect())
}

fn read(file: &Path) -> Result<String, Failure> {
    fs::read_to_string(file).map_err(|error| wrong(file, &error))
}

fn wrong(file: &Path, why: &(impl std::fmt::Display + ?Sized)) -> Failure {
    Failure::usage(format!("{}: {why}", file.display()))
}

fn tell(report: &Report, what: &str) {
    let [half, ninety, ninety_nine, most_of_all, longest] =
        report.micros.map(|micros| format!("{}.{:02} ms", micros / 1_000, micros % 1_000 / 10));
    say!("{} {what} in {:.1} s, {:.0} answered a second", report.begun, report.seconds, report.rate());
    say!("  accepted    {}", report.accepted);
    say!("  refused     {}", report.refused);
    say!("  unanswered  {}", report.unanswered);
    if report.broken > 0 {
        say!("  broken      {}  (their supplicants stopped, or did not believe the answer)", report.broken);
    }
    if report.held_back > 0 {
        say!("  held back   {}  (too many were under way)", report.held_back);
    }
    say!("  sent again  {} packets; {} answered; {} ignored", report.repeated, report.replies, report.ignored);
    say!(
        "  half of them took at most {half}, 90% {ninety}, 99% {ninety_nine}, 99.9% {most_of_all}, the longest {longest}"
    );
}

fn as_json(report: &Report) -> serde_json::Value {
    let [half, ninety, ninety_nine, most_of_all, longest] = report.micros;
    json!({
        "seconds": report.seconds,
        "begun": report.begun,
        "accepted": report.accepted,
        "refused": report.refused,
        "unanswered": report.unanswered,
        "broken": report.broken,
        "held_back": report.held_back,
        "repeated": report.repeated,
        "replies": report.replies,
        "ignored": report.ignored,
        "answered_per_second": report.rate(),
        "micros": { "p50": half, "p90": ninety, "p99": ninety_nine, "p999": most_of_all, "max": longest },
    })
}
