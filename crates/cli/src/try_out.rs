use std::process::ExitCode;
use std::time::Duration;

use regnant_campus::{Ask, Credential, Exchange, ExchangeError, Reply};
use regnant_radius::{Code, Dictionary, SharedSecret};
use serde_json::json;

use crate::args::{self, TryMethod};
use crate::failure::Failure;
use crate::paint;

/// Asks a RADIUS server as equipment would.
pub(crate) fn run(args: &args::Try) -> Result<ExitCode, Failure> {
    let exchange = Exchange {
        from: args.from,
        server: args.server,
        secret: SharedSecret::new(args.secret.as_bytes()),
        signed: !args.unsigned,
        wait: Duration::from_secs(args.wait),
        tries: args.tries,
    };
    match exchange.ask(&ask(args)?, &Dictionary::standard()) {
        Ok(reply) => {
            print(&reply, args.json);
            Ok(if reply.code == Code::ACCESS_ACCEPT { ExitCode::SUCCESS } else { ExitCode::from(1) })
        }
        Err(error @ ExchangeError::NoAnswer { .. }) => {
            no_answer(&error, args);
            Ok(ExitCode::from(3))
        }
        Err(error) => Err(Failure::usage(error)),
    }
}

fn ask(args: &args::Try) -> Result<Ask, Failure> {
    let stray = match args.method {
        TryMethod::Mac => args.user.is_some() || args.password.is_some(),
        _ => args.mac.is_some(),
    };
    if stray {
        return Err(Failure::usage("mac takes --mac; pap and chap take --user and --password"));
    }
    let (user, password) = (args.user.clone().unwrap_or_default(), args.password.clone().unwrap_or_default());
    let credential = match args.method {
        TryMethod::Pap => Credential::Pap { user, password },
        TryMethod::Chap => Credential::Chap { user, password },
        TryMethod::Mac => Credential::Mac(args.mac.clone().unwrap_or_default()),
    };
    Ok(Ask { credential, attributes: args.attributes.clone() })
}

fn print(reply: &Reply, as_json: bool) {
    let micros = reply.took.as_micros();
    if as_json {
        let attributes: Vec<_> =
            reply.attributes.iter().map(|(name, value)| json!({ "name": name, "value": value })).collect();
        return paint::json(&json!({ "code": reply.code.to_string(), "micros": micros, "attributes": attributes }));
    }
    let outcome = if reply.code == Code::ACCESS_ACCEPT { "granted" } else { "refused" };
    println!("{} {} after {micros} µs", paint::mark(outcome), paint::bold(&reply.code.to_string()));
    let width = reply.attributes.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
    for (name, value) in &reply.attributes {
        println!("  {name:width$}  {value}");
    }
}

fn no_answer(error: &ExchangeError, args: &args::Try) {
    if args.json {
        return paint::json(&json!({ "code": null, "error": error.to_string() }));
    }
    println!("{} {}", paint::mark("silence"), paint::bold(&error.to_string()));
    println!(
        "  The server stays silent towards senders it does not know and secrets that differ:\n  \
         see `regnant journal --outcome unheard` there, for {}.",
        args.from
    );
}
