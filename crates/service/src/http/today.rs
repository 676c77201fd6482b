//! What is odd now: refusals with one cause as one story with its remedy, what ends soon, and
//! who fell silent.

use std::collections::{BTreeMap, BTreeSet};

use axum::Json;
use axum::extract::State;
use jiff::Timestamp;
use regnant_decision::EntryKind;
use regnant_journal::{Count, JournalError, NewestKind};
use regnant_outside::all_down;
use regnant_policy::Diagnostic;
use regnant_records::DeviceFilter;
use serde::Serialize;
use utoipa::ToSchema;

use crate::administration::{Administration, AdministrationError};
use crate::clock::{iso, now_ms};
use crate::http::Api;
use crate::http::callers::{Look, May};
use crate::http::error::{ApiError, blocking};
use crate::http::hours::{HourView, hour_text, hours};
use crate::outside_stores::OutsideStore;

/// What is looked back at.
const HOURS: i64 = 24;
/// What ends within this is told, in milliseconds.
const SOON: i64 = 7 * 86_400_000;
/// Certificates are told earlier: another takes time to get.
const CERTIFICATE_DAYS: i64 = 30;
/// A NAS that was heard, and not for so long, is told.
const SILENT_AFTER: u64 = 24 * 3_600_000;
/// How much is told of each.
const MOST: usize = 50;

/// What is odd now.
#[derive(Serialize, ToSchema)]
pub(crate) struct TodayView {
    /// What was decided in each of the last 24 hours, the earliest first.
    hours: Vec<HourView>,
    /// Wrong codes that came with your own password within the last week.
    guessed: Option<GuessedView>,
    /// What did not go well, what happened most first.
    stories: Vec<StoryView>,
    /// Directories none of whose servers answers.
    down: Vec<DownView>,
    /// What ends soon, the next first.
    ends: Vec<EndView>,
    /// Equipment that was heard once and is not any more.
    silent: Vec<SilentView>,
    /// Equipment whose requests need not be signed: answers to it can be forged on the way.
    unsigned: Vec<UnsignedView>,
    /// What of the policy wants to be looked at: gates that are watched, rules that are off, end soon or have
    /// ended.
    policy: Vec<OddView>,
}

/// Somebody knows a password.
#[derive(Serialize, ToSchema)]
pub(crate) struct GuessedView {
    /// How many codes were wrong, since the service began.
    codes: u32,
    /// Where the last came from.
    from: String,
    /// When it came.
    last: String,
}

/// What of the policy wants to be looked at.
#[derive(Serialize, ToSchema)]
pub(crate) struct OddView {
    /// The code of the finding, such as `W508`.
    code: String,
    /// What it is.
    message: String,
    /// What to do.
    remedy: String,
    /// The file.
    file: String,
    /// The line.
    line: usize,
}

/// What did not go well, for one reason.
#[derive(Serialize, ToSchema)]
pub(crate) struct StoryView {
    /// How often.
    number: u64,
    /// `refused`, `silence` or `unfinished`.
    outcome: String,
    /// Why, in words that go on after a number.
    why: String,
    /// What to do.
    remedy: String,
    /// Where; at most 20.
    nases: Vec<String>,
    /// The hour in which it began, in UTC.
    since: String,
    /// The gate.
    gate: Option<String>,
    /// The rule, where one decided.
    rule: Option<String>,
    /// What finds its entries in the journal.
    q: String,
}

/// A store outside that does not answer.
#[derive(Serialize, ToSchema)]
pub(crate) struct DownView {
    store: String,
    /// Since when.
    since: String,
    /// What went wrong last.
    why: String,
    /// What to do.
    remedy: String,
    /// How many questions its servers left without an answer since the start.
    failed: u64,
    /// Whether the active policy looks identities up in it.
    in_policy: bool,
}

/// Something that ends soon.
#[derive(Serialize, ToSchema)]
pub(crate) struct EndView {
    /// `device`, `person`, `machine`, `former-secret`, `certificate`, `authority` or `token`.
    kind: String,
    /// The store, of those that are in one.
    store: Option<String>,
    /// Its name or address.
    name: String,
    /// What it is, where there is more to say.
    title: String,
    at: String,
}

/// A NAS that is not heard any more.
#[derive(Serialize, ToSchema)]
pub(crate) struct SilentView {
    name: String,
    /// When it was heard last.
    last: String,
}

/// A NAS whose requests need not be signed.
#[derive(Serialize, ToSchema)]
pub(crate) struct UnsignedView {
    name: String,
    /// Since when they all are, so that it can be required.
    signed_since: Option<String>,
}

/// What is odd now.
#[utoipa::path(get, path = "/api/v1/today",
    responses((status = 200, body = TodayView), (status = 401, body = ApiError)))]
pub(crate) async fn today(State(api): State<Api>, May { signed, .. }: May<Look>) -> Result<Json<TodayView>, ApiError> {
    let guessed = api.attempts.guessed(&signed.bearer.administrator).map(|guessed| GuessedView {
        codes: guessed.codes,
        from: guessed.from.to_string(),
        last: iso(guessed.at),
    });
    let (reading, until) = (api.clone(), Timestamp::now().as_second() / 3_600 + 1);
    let counts = blocking(move || reading.reader.counts(until - HOURS, until)).await?;
    let (hours, stories) = (hours(&counts, until, HOURS), stories(counts, &api.administration));
    let (down, policy) = (down(&api.administration), odd(&api.administration));
    let reading = api.clone();
    let ends = blocking(move || ends(&reading.administration)).await?;
    let nases = {
        let reading = api.clone();
        blocking(move || reading.administration.equipment.all()).await?
    };
    let unsigned = nases.iter().filter(|row| !row.radius.require_message_authenticator);
    let unsigned = unsigned.take(MOST).map(|row| {
        let since = api.administration.equipment.heard(&row.name).signed_since;
        UnsignedView { name: row.name.clone(), signed_since: (since > 0).then(|| iso(since)) }
    });
    let unsigned = unsigned.collect();
    let names: Vec<_> = nases.into_iter().map(|row| row.name).collect();
    let silent = blocking(move || silent(&api, &names)).await?;
    Ok(Json(TodayView { hours, guessed, stories, down, ends, silent, unsigned, policy }))
}

fn odd(administration: &Administration) -> Vec<OddView> {
    let active = administration.snapshot().active.edition.clone();
    let view = |found: Diagnostic| {
        let position = active.policy.source().position(found.labels[0].span.start);
        OddView {
            code: found.code.into(),
            message: found.message,
            remedy: found.notes.first().cloned().unwrap_or_default(),
            file: position.file.into(),
            line: position.line,
        }
    };
    active.policy.odd_at(Timestamp::now().as_second()).into_iter().take(MOST).map(view).collect()
}

/// What stories are told apart by.
type Cause = (&'static str, String, Option<String>, Option<String>);

fn stories(counts: Vec<Count>, administration: &Administration) -> Vec<StoryView> {
    let mut told: BTreeMap<Cause, (u64, i64, BTreeSet<String>)> = BTreeMap::new();
    let mut editions = BTreeMap::new();
    for count in counts {
        if !matches!(count.kind, EntryKind::Refused | EntryKind::Silence | EntryKind::Unfinished | EntryKind::Observed)
        {
            continue;
        }
        let number = count.edition;
        let edition = editions.entry(number).or_insert_with(|| administration.policies.edition_to_read(number));
        let policy = (edition.number == number).then_some(&edition.policy);
        let gate = policy.zip(count.gate).and_then(|(policy, gate)| policy.gates().get(gate as usize));
        let rule = gate.zip(count.rule).and_then(|(gate, rule)| gate.rules.get(rule as usize));
        let cause =
            (count.kind.word(), count.cause, gate.map(|gate| gate.name.clone()), rule.map(|rule| rule.title.clone()));
        let (times, since, nases) = told.entry(cause).or_insert_with(|| (0, count.hour, BTreeSet::new()));
        *times += count.number;
        *since = count.hour.min(*since);
        nases.extend(count.nas.filter(|_| nases.len() < 20));
    }
    let mut stories: Vec<_> = told
        .into_iter()
        .map(|((outcome, cause, gate, rule), (number, since, nases))| {
            let (why, mut remedy) = words(&cause, gate.as_deref(), rule.as_deref());
            if outcome == EntryKind::Observed.word() {
                remedy = "The gate is watched. Where all of these should be refused, it is time to remove `observe`; \
                          else give whoever belongs in a rule."
                    .to_owned();
            }
            let nases: Vec<_> = nases.into_iter().collect();
            let place = match &nases[..] {
                [one] => one.as_str(),
                _ => "",
            };
            let phrase = match (cause.as_str(), &rule) {
                (_, Some(rule)) => rule.as_str(),
                ("otherwise", _) => "no rule applies",
                _ => "",
            };
            let q = format!("{place} {phrase}").trim().to_owned();
            let outcome = outcome.to_owned();
            StoryView { number, outcome, why, remedy, nases, since: hour_text(since), gate, rule, q }
        })
        .collect();
    stories.sort_by_key(|story| std::cmp::Reverse(story.number));
    stories.truncate(MOST);
    stories
}

/// A cause as people read it, and what to do.
fn words(cause: &str, gate: Option<&str>, rule: Option<&str>) -> (String, String) {
    let gate = gate.map(|gate| format!("gate `{gate}`")).unwrap_or_else(|| "the gate".into());
    let (who, event) = cause.split_once('-').unwrap_or(("", cause));
    let whose = match who {
        "user" => "the person",
        "machine" => "the machine",
        "mac" => "the device",
        _ => "",
    };
    let (why, remedy): (String, &str) = match (whose, event) {
        (_, "rule") => (
            format!("by the rule `{}` of {gate}", rule.unwrap_or_default()),
            "The rule says so. If that is not meant, change it, or whom it is true of.",
        ),
        (_, "otherwise") => (
            format!("because no rule of {gate} applies"),
            "Open one: its trail says which rule was nearest, and what it asked for.",
        ),
        ("", _) => match cause {
            "undetermined" => (
                "because a store did not answer and a rule hung on it".to_owned(),
                "See that the store runs and can be reached from here.",
            ),
            "no-gate" => (
                "because no gate takes such requests".to_owned(),
                "Open one for its facts, and add a gate whose `when` is true of them.",
            ),
            "method-not-accepted" => (
                format!("because {gate} does not accept the method"),
                "Set the clients to a method that it accepts, or accept theirs.",
            ),
            "no-credential" => (
                "because the request carries nothing to prove".to_owned(),
                "See what the equipment is set to send: it asks without a password or EAP.",
            ),
            "conversation-failed" => (
                "because the EAP conversation failed".to_owned(),
                "Open one: most often one side does not trust the other's certificate.",
            ),
            "abandoned" => (
                "because the client stopped answering".to_owned(),
                "Most often it does not trust our certificate, or somebody was asked and did not answer: hand out a profile.",
            ),
            "cannot-be-told" => (
                "because the NAS could not be told what was granted".to_owned(),
                "Its page says what it lacks: give it a dialect that can say it.",
            ),
            other => (format!("because of `{other}`"), "Open one: its trail says why."),
        },
        (whose, "unknown") => (
            format!("because {whose} is in no store that {gate} asks"),
            "Add it, or see whether the name comes with a realm that the store does not have.",
        ),
        (whose, "failed") => (
            format!("because {whose} proved nothing: the password or certificate is wrong"),
            "Set a new password, or look whether something goes on trying an old one.",
        ),
        (whose, "disabled") => (format!("because {whose} is disabled"), "Enable the account if it should come in."),
        (whose, "expired") => (format!("because the time of {whose} is over"), "Give the account another end."),
        (whose, "locked") => (
            format!("because the account of {whose} is locked, or may not be used now or from here"),
            "See to the account in the directory: another password changes nothing.",
        ),
        (whose, "outdated") => (
            format!("because the password of {whose} is too old, or has to be changed first"),
            "Have a new one set where the account is kept.",
        ),
        (whose, "held-back") => (
            format!("because somebody guesses at the password of {whose}"),
            "See in the journal where the wrong ones come from; whoever was right lately from their own device gets in.",
        ),
        (whose, "no-room") => (
            format!("because there was no room to ask about {whose}"),
            "See who asks so much, and whether a store has become slow.",
        ),
        (whose, "unreachable") => (
            format!("because the store of {whose} did not answer"),
            "See that the store runs and can be reached from here.",
        ),
        (whose, "ambiguous") => (
            format!("because a store has several accounts of the name of {whose}"),
            "Narrow the directory's search base or filter, or look one attribute up.",
        ),
        (whose, "unfit") => (
            format!("because the store cannot check what {whose} sent"),
            "MS-CHAP needs an NT hash and CHAP a recoverable password: the account's page sets both.",
        ),
        (whose, _) => (format!("because nothing was said of {whose}"), "Open one: its trail says what came."),
    };
    (why, remedy.to_owned())
}

fn down(administration: &Administration) -> Vec<DownView> {
    let snapshot = administration.snapshot();
    let named = snapshot.active.edition.policy.stores();
    let view = |(store, outside): (&str, &OutsideStore)| {
        let health = outside.health();
        let (time, why, advice) = all_down(&health)?;
        Some(DownView {
            store: store.to_owned(),
            since: iso(now_ms().saturating_sub(time.as_millis() as u64)),
            why: regnant_base::printable(why).into_owned(),
            remedy: advice.to_owned(),
            failed: health.iter().map(|server| server.failed).sum(),
            in_policy: named.iter().any(|name| name == store),
        })
    };
    snapshot.outside.all().filter_map(view).collect()
}

fn ends(administration: &Administration) -> Result<Vec<EndView>, AdministrationError> {
    let (now, identities) = (now_ms().cast_signed(), &administration.identities);
    let soon = |at: Option<i64>| at.filter(|at| (now..now + SOON).contains(at));
    let mut ends = Vec::new();
    let mut tell = |kind: &str, store: Option<&String>, name: &str, title: &str, at: i64| {
        let (kind, store, name, title) = (kind.to_owned(), store.cloned(), name.to_owned(), title.to_owned());
        ends.push((at, EndView { kind, store, name, title, at: iso(at.cast_unsigned()) }));
    };
    for row in identities.people()? {
        soon(row.expires).into_iter().for_each(|at| tell("person", Some(&row.store), &row.name, &row.note, at));
    }
    for row in identities.machines()? {
        soon(row.expires).into_iter().for_each(|at| tell("machine", Some(&row.store), &row.name, &row.note, at));
    }
    let filter = DeviceFilter { ends: Some((now, now + SOON)), limit: MOST, ..DeviceFilter::default() };
    for row in identities.devices(&filter)? {
        let at = row.expires.unwrap_or(now);
        tell("device", Some(&row.store), &row.first.to_string(), &row.title, at);
    }
    for row in administration.equipment.all()? {
        let change = administration.equipment.running_grace(&row, now).filter(|change| now < change.until);
        if let Some(change) = change {
            tell("former-secret", None, &row.name, "It was given another secret and does not use it yet", change.until);
        }
    }
    let report = administration.certificates.report()?;
    for certificate in report.certificates {
        if let Some(link) = certificate.chain.first().filter(|link| link.days_left < CERTIFICATE_DAYS) {
            tell("certificate", None, &certificate.name, &link.subject, link.not_after * 1_000);
        }
    }
    for trust in report.trusts {
        for link in trust.authorities.iter().filter(|link| link.days_left < CERTIFICATE_DAYS) {
            tell("authority", None, &trust.name, &link.subject, link.not_after * 1_000);
        }
    }
    for row in administration.administrators.tokens()? {
        let name = if row.name.is_empty() { row.hash.id() } else { row.name };
        soon(row.expires).into_iter().for_each(|at| tell("token", None, &name, &row.administrator, at));
    }
    ends.sort_by_key(|(at, _)| *at);
    Ok(ends.into_iter().map(|(_, end)| end).take(MOST).collect())
}

fn silent(api: &Api, names: &[String]) -> Result<Vec<SilentView>, JournalError> {
    let now = now_ms();
    let newest = api.reader.newest_of(NewestKind::Nas)?;
    let last = names.iter().filter_map(|name| Some((name, newest.get(name)?.timestamp_ms())));
    let silent = last.filter(|(_, at)| at + SILENT_AFTER < now);
    Ok(silent.map(|(name, at)| SilentView { name: name.clone(), last: iso(at) }).take(MOST).collect())
}
