//! The Port of Tarnmouth, played on loopback.

mod certificates;
mod once;
mod outside;

use std::net::SocketAddr;
use std::path::Path;
use std::process::ExitCode;
use std::sync::Arc;
use std::sync::mpsc::channel;
use std::thread;

use jiff::{SignedDuration, Timestamp, Zoned};
use regnant_campus::certificates::{DemoCertificatesError, SERVER, TRUST};
use regnant_campus::story::{self, Scene};
use regnant_campus::{Nas, Outcome, harbour, traffic};
use regnant_client::Ask;
use regnant_policy::PolicyFiles;
use regnant_records::{Author, Inventory, Role, TrustRow};
use regnant_service::{Administration, ApiConfig, Config, RadiusConfig, Service, Wanted};
use tokio::runtime::Runtime;

use crate::api::Client;
use crate::args;
use crate::demo::outside::Outside;
use crate::failure::Failure;
use crate::paint::{self, say};
use crate::serve::{Stop, ended, tell_log, until_done};
use crate::sign_in::keep_token;

const RADIUS: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(std::net::Ipv4Addr::LOCALHOST), 18120);
const ACCOUNTING: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(std::net::Ipv4Addr::LOCALHOST), 18130);
const API: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(std::net::Ipv4Addr::LOCALHOST), 8480);

/// Runs the demo.
pub(crate) fn run(args: &args::Demo) -> Result<ExitCode, Failure> {
    tell_log();
    if let Some(why) = not_ours(&args.data) {
        return Err(Failure::usage(why));
    }
    let config = Config {
        radius: RadiusConfig { authentication: vec![RADIUS], accounting: vec![ACCOUNTING], ..RadiusConfig::default() },
        api: ApiConfig { listen: API, ..ApiConfig::default() },
        ..Config::default()
    };
    until_done(Runtime::new()?, async {
        let service = Service::start(&config, &args.data).await?;
        let wants_directory = !args.without_directory;
        let port = tokio::task::block_in_place(|| furnish(service.administration(), &args.data, wants_directory))?;
        let code = match args.once {
            true => tokio::task::block_in_place(|| once::play(&port, args.json)),
            false => with_traffic(&args.data, port).await,
        };
        let ended = ended(service.stop().await);
        code.and_then(|code| ended.map(|_| code))
    })
}

/// The port, ready to be played.
struct Port {
    /// What reads its journal.
    token: String,
    scenes: Vec<Scene>,
    /// What is played while the directory is stopped.
    silent: Vec<Scene>,
    /// Scenes that are left out, for the directory is not there.
    left_out: Vec<&'static str>,
    outside: Outside,
}

/// What the demo leaves in its directory to know it again.
const MARK: &str = "demo";

/// Why the demo may not move in: it adds an administrator whose password everybody
/// knows. A directory that it made has its mark; the mark is made where there is
/// nothing yet.
fn not_ours(data: &Path) -> Option<String> {
    let mark = data.join(MARK);
    // A demo of before the mark left its token and certificates.
    let older = data.join("token").exists() && data.join("certificates").is_dir();
    if data.join("records.sqlite").exists() && !mark.exists() && !older {
        return Some(format!(
            "{} was not made by the demo, which would add an administrator to it whose password everybody knows; give \
             the demo a directory of its own",
            data.display()
        ));
    }
    let made = std::fs::create_dir_all(data).and_then(|()| std::fs::write(&mark, "made by the demo\n"));
    made.err().map(|error| format!("{} cannot be written: {error}", mark.display()))
}

/// Puts the harbour into the records. What a visitor changed stays as it is: the
/// policy is activated only the first time.
fn furnish(administration: &Arc<Administration>, data: &Path, wants_directory: bool) -> Result<Port, Failure> {
    let author = &Author::new(harbour::ADMINISTRATORS[0].name, "the demo");
    administration.languages.add_dictionary("tarnworks.dictionary.toml", harbour::DICTIONARY, author)?;
    administration.languages.add_dialect("tarnworks.dialect.toml", harbour::DIALECT, author)?;
    if administration.equipment.all()?.is_empty() {
        let in_two_days = Timestamp::now() + SignedDuration::from_hours(48);
        for text in [harbour::INVENTORY, &harbour::camera_on_loan(&format!("{in_two_days:.0}"))] {
            administration.inventories.import(Inventory::from_toml("inventory.toml", text)?, author)?;
        }
    }
    add_administrators(administration, author)?;
    let certificates = certificates::lay_out(&data.join("certificates"))?;
    let own = format!("{}{}", certificates.file("server.pem"), certificates.file("server.key"));
    administration.certificates.import(SERVER, &own, author)?;
    let trust = TrustRow {
        name: TRUST.into(),
        authorities: certificates.file("authority.pem").into(),
        crls: certificates.file("revoked.crl.pem").into(),
        ..TrustRow::default()
    };
    administration.certificates.set_trust(&trust, author)?;
    for earlier in administration.administrators.tokens()?.iter().filter(|token| token.name == "demo") {
        administration.administrators.forget_token(earlier.hash, author)?;
    }
    let (token, _) = administration.administrators.token_for(author, "demo", (Role::Engineer, None), None)?;
    keep_token(&data.join("token"), &token)?;
    let outside = Outside::open(data, &certificates, wants_directory)?;
    let client = Client::with_token(&args::Api::plain(&format!("http://{API}")), token.clone())?;
    outside.connect(&client)?;
    if administration.policies.is_first()? {
        let (today, tomorrow) = days();
        let folder = harbour::policy_folder(outside.has_directory(), (&today, &tomorrow));
        let [(_, main), included @ ..] = folder;
        let included = included.into_iter().map(|(name, text)| (name.to_owned(), text)).collect();
        let wanted = Wanted {
            files: PolicyFiles { main, included },
            note: "The port's first policy".into(),
            made_from: None,
            draft: None,
            accepted: None,
        };
        administration.policies.activate(wanted, author, None)?;
    }
    let made =
        |scenes: Result<Vec<Scene>, _>| scenes.map_err(|error: DemoCertificatesError| Failure::new(error.to_string()));
    let (of_directory, silent) =
        (made(story::directory_scenes(&certificates))?, made(story::silent_directory_scenes(&certificates))?);
    let mut scenes = [made(story::scenes(&certificates))?, made(story::register_scenes(&certificates))?].concat();
    let titles = of_directory.iter().chain(&silent).map(|scene| scene.title).collect();
    Ok(match outside.has_directory() {
        true => {
            scenes.extend(of_directory);
            Port { token, scenes, silent, left_out: Vec::new(), outside }
        }
        false => Port { token, scenes, silent: Vec::new(), left_out: titles, outside },
    })
}

/// Everybody who signs in, as the scenario has them; a password that a visitor changed stays.
fn add_administrators(administration: &Administration, author: &Author) -> Result<(), Failure> {
    let known = administration.administrators.all()?;
    for one in &harbour::ADMINISTRATORS {
        if !known.iter().any(|row| row.name == one.name) {
            let role = Role::ALL.into_iter().find(|role| role.word() == one.role).unwrap_or(Role::Auditor);
            administration.administrators.add(one.name, one.password, role, author)?;
        }
    }
    Ok(())
}

async fn with_traffic(data: &Path, port: Port) -> Result<ExitCode, Failure> {
    let Port { scenes, outside, .. } = port;
    say!("The Port of Tarnmouth is open. Its equipment asks something every second or so.\n");
    for (place, one) in harbour::ADMINISTRATORS.iter().enumerate() {
        let console = if place == 0 { format!("console   http://{API}") } else { String::new() };
        say!("  {console:<33} sign in as {} with {} ({})", one.name, one.password, one.role);
    }
    say!("  RADIUS    {RADIUS}, from a NAS's address with its secret, such as");
    say!(
        "            regnant try mac --server {RADIUS} --from 127.0.0.11 --secret bollard-9-anchor --mac 02-00-5E-20-00-07"
    );
    say!("            and its reports (accounting) to {ACCOUNTING}");
    say!("  802.1X    certificates and keys for a supplicant are in {}", data.join("certificates").display());
    outside.tell();
    say!("  journal   REGNANT_TOKEN_FILE={} regnant journal --follow", data.join("token").display());
    say!("\nPress Ctrl-C to close the port. What the equipment enforces:\n");
    let (stop, told) = channel();
    let trickle = thread::spawn(move || traffic::run(RADIUS, ACCOUNTING, &scenes, &told, tell));
    let (wake, woken) = channel();
    let stumbling = thread::spawn(move || outside.stumble(&woken));
    Stop::listen()?.received().await;
    say!("closing");
    drop((stop, wake));
    let _ = tokio::task::spawn_blocking(move || (trickle.join(), stumbling.join())).await;
    Ok(ExitCode::SUCCESS)
}

/// One line of what a NAS makes of the answer.
fn tell(nas: &Nas, ask: &Ask, outcome: &Outcome) {
    let mark = match outcome {
        Outcome::Accepted(_) => paint::mark("granted"),
        Outcome::Refused(_) => paint::mark("refused"),
        Outcome::NoAnswer => paint::mark("silence"),
    };
    let now = Zoned::now().strftime("%H:%M:%S");
    say!("{now} {mark} {:<11}  {:<26}  {}", nas.name, ask.who(), outcome.describe());
}

/// Today and tomorrow, as a policy writes days.
fn days() -> (String, String) {
    let day = |after: i64| {
        let at = Timestamp::from_second(Timestamp::now().as_second() + after * 86_400).unwrap_or_default();
        at.to_string().chars().take(10).collect()
    };
    (day(0), day(1))
}
