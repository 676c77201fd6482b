use std::net::SocketAddr;
use std::process::ExitCode;
use std::sync::Arc;
use std::time::Duration;

use regnant_client::{Ask, Credential, Exchange, ExchangeError, Patience, Reply, Server, SupplicantView};
use regnant_eap::Secret;
use regnant_radius::{Code, Dictionary, SharedSecret};
use serde_json::json;
use ulid::Ulid;

use crate::args::{self, TryMethod};
use crate::certificate::read;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::trail;
use crate::try_eap::supplicant;
use crate::try_load;

/// Asks a RADIUS server as equipment would.
pub(crate) fn run(args: &args::Try) -> Result<ExitCode, Failure> {
    if args.load {
        return try_load::run(args);
    }
    let [from] = args.from[..] else { return Err(Failure::usage("several addresses to send from are for --load")) };
    let Some(secret) = &args.secret else { return Err(Failure::usage("say the shared secret: --secret")) };
    let server = |address: &SocketAddr| Server { address: *address, secret: SharedSecret::new(secret.as_bytes()) };
    let exchange = Exchange {
        from,
        servers: args.server.iter().map(server).collect(),
        signed: !args.unsigned,
        patience: Patience { first: Duration::from_secs(args.wait), tries: args.tries, ..Patience::default() },
    };
    let (ask, dictionary) = (ask(args)?, Arc::new(dictionary(args)?));
    let mut code = ExitCode::SUCCESS;
    for _ in 0..args.times {
        code = match exchange.ask(&ask, &dictionary) {
            Ok(reply) => {
                let accepted = reply.code == Code::ACCESS_ACCEPT && reply.is_believed();
                let accounting = args.accounting.filter(|_| accepted).map(|server| Exchange {
                    servers: vec![Server { address: server, ..exchange.servers[0].clone() }],
                    ..exchange.clone()
                });
                let reports = accounting.map(|accounting| session(&accounting, &ask, &reply, &dictionary));
                print(&reply, reports.as_deref().unwrap_or_default(), args.json);
                let kept = reports.iter().flatten().all(|(_, took)| took.is_ok());
                match accepted || reply.code == Code::ACCOUNTING_RESPONSE {
                    true if kept => ExitCode::SUCCESS,
                    true => ExitCode::from(3),
                    false => ExitCode::from(1),
                }
            }
            Err(error @ (ExchangeError::NoAnswer { .. } | ExchangeError::Silent | ExchangeError::Closed(_))) => {
                no_answer(&error, args);
                ExitCode::from(3)
            }
            Err(error) => return Err(Failure::usage(error)),
        };
        if code != ExitCode::SUCCESS {
            break;
        }
    }
    Ok(code)
}

/// The attributes that there are.
pub(crate) fn dictionary(args: &args::Try) -> Result<Dictionary, Failure> {
    let mut dictionary = Dictionary::standard();
    for file in &args.dictionaries {
        dictionary.add_own(&file.display().to_string(), &read(file)?).map_err(Failure::usage)?;
    }
    Ok(dictionary)
}

/// What the arguments ask.
pub(crate) fn ask(args: &args::Try) -> Result<Ask, Failure> {
    let stray = match args.method() {
        TryMethod::Mac => args.user.is_some() || args.password.is_some(),
        TryMethod::Pap | TryMethod::Chap | TryMethod::Mschap | TryMethod::Mschapv2 => args.mac.is_some(),
        TryMethod::Accounting => args.password.is_some() || args.accounting.is_some(),
        _ => false,
    };
    if stray {
        return Err(Failure::usage(
            "mac takes --mac; pap and chap take --user and --password; accounting takes --status, --mac and --user",
        ));
    }
    if args.method() == TryMethod::Accounting {
        let mut report = Ask::report(args.status.word());
        report.attributes.extend(args.user.iter().map(|user| ("User-Name".into(), user.clone())));
        report.attributes.extend(args.mac.iter().map(|mac| ("Calling-Station-Id".into(), mac.clone())));
        report.attributes.extend(args.attributes.iter().cloned());
        return Ok(report);
    }
    let (user, password) =
        (args.user.clone().unwrap_or_default(), Secret::new(args.password.clone().unwrap_or_default()));
    let credential = match args.method() {
        TryMethod::Pap => Credential::Pap { user, password },
        TryMethod::Chap => Credential::Chap { user, password },
        TryMethod::Mschap => Credential::MsChap { user, password, is_version_2: false },
        TryMethod::Mschapv2 => Credential::MsChap { user, password, is_version_2: true },
        TryMethod::Mac => Credential::Mac(args.mac.clone().unwrap_or_default()),
        _ => Credential::Eap(Box::new(supplicant(args)?)),
    };
    let mut attributes = args.attributes.clone();
    if let (Some(mac), Credential::Eap(_)) = (&args.mac, &credential) {
        attributes.push(("Calling-Station-Id".into(), mac.clone()));
    }
    Ok(Ask { credential, attributes })
}

/// What was reported, and how long it took until it was acknowledged.
type Reported = (&'static str, Result<Duration, ExchangeError>);

/// Reports the begin and the end of a session, as equipment does.
fn session(accounting: &Exchange, ask: &Ask, reply: &Reply, dictionary: &Arc<Dictionary>) -> Vec<Reported> {
    let name = Ulid::generate().to_string();
    let report = |status| {
        let mut report = ask.report_on(reply, status, &name);
        if status == "Stop" {
            report = report.with("Acct-Session-Time", "0").with("Acct-Terminate-Cause", "User-Request");
        }
        (status, accounting.ask(&report, dictionary).map(|reply| reply.took))
    };
    ["Start", "Stop"].map(report).into()
}

fn print(reply: &Reply, reports: &[Reported], as_json: bool) {
    let micros = reply.took.as_micros() as u64;
    if as_json {
        let attributes: Vec<_> =
            reply.attributes.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect();
        let supplicant = reply.supplicant.as_ref().map(supplicant_json);
        let report = |(status, took): &Reported| match took {
            Ok(took) => json!({ "status": status, "micros": took.as_micros() as u64 }),
            Err(error) => json!({ "status": status, "error": error.to_string() }),
        };
        let reports: Vec<_> = reports.iter().map(report).collect();
        return paint::json(&json!({
            "code": reply.code.to_string(), "micros": micros, "attributes": attributes, "supplicant": supplicant,
            "reports": reports,
        }));
    }
    let outcome = match reply.code {
        Code::ACCESS_ACCEPT => "granted",
        Code::ACCOUNTING_RESPONSE => "accounting",
        _ => "refused",
    };
    say!("{} {} after {}", paint::mark(outcome), paint::bold(&reply.code.to_string()), trail::span(micros));
    if let Some(heard) = &reply.supplicant {
        tell_supplicant(heard);
    }
    let width = reply.attributes.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    for (name, value) in &reply.attributes {
        say!("  {name:width$}  {value}");
    }
    for (status, took) in reports {
        match took {
            Ok(took) => {
                let took = trail::span(took.as_micros() as u64);
                say!("{} {} acknowledged after {took}", paint::mark("accounting"), paint::bold(status));
            }
            Err(error) => say!("{} {} {error}", paint::mark("silence"), paint::bold(status)),
        }
    }
}

/// What the supplicant makes of it.
fn tell_supplicant(heard: &SupplicantView) {
    let tls = heard.tls.as_ref();
    let version = tls.and_then(|tls| tls.version).map(|version| format!(", {version}")).unwrap_or_default();
    let resumed = if tls.is_some_and(|tls| tls.resumed) { ", resumed" } else { "" };
    say!("  {} rounds{version}{resumed}", heard.rounds);
    match (&heard.failure, heard.same_keys) {
        (Some(failure), _) => say!("  the supplicant says: {failure}"),
        (None, Some(true)) => say!("  supplicant and equipment have the same keys"),
        (None, Some(false)) => say!("  {} supplicant and equipment have different keys", paint::mark("refused")),
        (None, None) if heard.believed => say!("  the method makes no keys"),
        (None, None) => say!("  {} the supplicant does not believe the answer", paint::mark("refused")),
    }
}

fn supplicant_json(heard: &SupplicantView) -> serde_json::Value {
    let tls = heard.tls.as_ref();
    json!({
        "rounds": heard.rounds,
        "believed": heard.believed,
        "same_keys": heard.same_keys,
        "failure": heard.failure.as_ref().map(ToString::to_string),
        "tls": tls.and_then(|tls| tls.version).map(|version| version.to_string()),
        "group": tls.and_then(|tls| tls.group.clone()),
        "resumed": tls.is_some_and(|tls| tls.resumed),
    })
}

fn no_answer(error: &ExchangeError, args: &args::Try) {
    if args.json {
        return paint::json(&json!({ "code": null, "error": error.to_string() }));
    }
    say!("{} {}", paint::mark("silence"), paint::bold(&error.to_string()));
    if matches!(error, ExchangeError::Closed(_)) {
        return say!("  Start the service there, or look at its address and port in its configuration.");
    }
    say!(
        "  The server stays silent towards senders it does not know and secrets that differ:\n  \
         see `regnant journal --outcome unheard` there, for {}.",
        args.from[0]
    );
}
