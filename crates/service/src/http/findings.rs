//! What is odd about a running service, and what to do about it.

use axum::Json;
use axum::extract::State;
use regnant_decision::EntryKind;
use regnant_outside::all_down;
use regnant_records::Role;
use serde::Serialize;
use utoipa::ToSchema;

use crate::administration::{Administration, AdministrationError};
use crate::clock::{iso, now_ms};
use crate::findings::{Finding, Look};
use crate::http::Api;
use crate::http::callers::{May, ReadPolicy};
use crate::http::error::{ApiError, blocking};

/// A backup older than this is told, in milliseconds.
const BACKUP_EVERY: u64 = 7 * 86_400_000;
const HOURS: i64 = 24;
/// A token that ends within this time is told, in milliseconds.
const TOKENS_END: i64 = 14 * 86_400_000;

/// What was looked at.
#[derive(Serialize, ToSchema)]
pub(crate) struct FindingList {
    findings: Vec<Finding>,
}

/// What is odd about the service, and what to do: certificates, equipment, the policy,
/// administrators, backups, and what was not answered.
#[utoipa::path(get, path = "/api/v1/findings",
    responses((status = 200, body = FindingList), (status = 401, body = ApiError)))]
pub(crate) async fn findings(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Json<FindingList>, ApiError> {
    blocking(move || look(&api)).await.map(|findings| Json(FindingList { findings }))
}

fn look(api: &Api) -> Result<Vec<Finding>, AdministrationError> {
    let administration = &*api.administration;
    Ok([
        unanswered(api),
        unheard(api),
        equipment(administration)?,
        certificates(administration)?,
        policy(administration)?,
        administrators(administration)?,
        backups(administration)?,
        outside(administration),
        unusable(administration),
        console(api),
    ]
    .concat())
}

fn outside(administration: &Administration) -> Vec<Finding> {
    let mut look = Look::at("stores outside");
    for (store, outside) in administration.snapshot().outside.all() {
        let health = outside.health();
        for server in &health {
            let Some((time, why, advice)) = &server.down else { continue };
            let found = format!("{why}, of the store {store}, for {} s", time.as_secs());
            match all_down(&health) {
                Some(_) => look.trouble(found, *advice),
                None => look.advice(found, *advice),
            }
        }
    }
    look.else_well("every store outside answers, as far as it was asked")
}

fn unusable(administration: &Administration) -> Vec<Finding> {
    let mut look = Look::at("what is configured");
    for unusable in administration.snapshot().unusable() {
        look.trouble(
            format!("{unusable}; what needs it is refused, and a store counts as one that does not answer"),
            "Set it anew, or bring back the key that it was sealed under.",
        );
    }
    look.else_well("this node can use all that is configured")
}

fn unanswered(api: &Api) -> Vec<Finding> {
    let mut look = Look::at("answers");
    for trouble in [api.journal.trouble(), api.accounting.trouble()].into_iter().flatten() {
        look.trouble(trouble, "Until it can be written, requests stay unanswered: the service's log says more.");
    }
    let counts = api.radius.counts();
    if counts.unjournaled > 0 {
        look.trouble(
            format!(
                "{} packets stayed unanswered since the start, for they could not be journaled",
                counts.unjournaled
            ),
            "The disk is too slow or full, or one NAS floods: see what it takes, and who sends so much.",
        );
    }
    if counts.crowded_out > 0 {
        look.advice(
            format!(
                "{} packets or conversations were given up since the start, for there were too many",
                counts.crowded_out
            ),
            "Find who begins so many: Today and the journal tell the NAS.",
        );
    }
    if counts.unsent > 0 {
        look.advice(
            format!("{} replies were not taken by the system since the start", counts.unsent),
            "The service's log says why, at REGNANT_LOG=debug; most often the way back is missing.",
        );
    }
    let until = i64::try_from(now_ms() / 3_600_000).unwrap_or(0) + 1;
    let silent = api.reader.counts(until - HOURS, until).unwrap_or_default();
    let silent: u64 = silent.iter().filter(|count| count.kind == EntryKind::Silence).map(|count| count.number).sum();
    if silent > 0 {
        look.advice(
            format!("{silent} requests of the last day were left without an answer"),
            "Today tells why: most often a store did not answer, or the NAS cannot be told what was granted.",
        );
    }
    look.else_well("every request of the last day was answered")
}

fn unheard(api: &Api) -> Vec<Finding> {
    let mut look = Look::at("unheard");
    for sender in api.radius.unheard.senders().into_iter() {
        if let Some(record) = sender.records.last() {
            let nas = record.nas.as_ref().map(|nas| format!(" ({nas})")).unwrap_or_default();
            look.advice(
                format!("{}{nas} asks and is not heard: {}", record.source, record.cause),
                record.cause.advice(),
            );
        }
    }
    look.else_well("nobody asked within the last minutes without being heard")
}

fn equipment(administration: &Administration) -> Result<Vec<Finding>, AdministrationError> {
    let mut look = Look::at("equipment");
    let edition = administration.snapshot().active.edition.clone();
    let nases = administration.equipment.all()?;
    for row in nases.iter().filter(|row| !row.radius.require_message_authenticator) {
        match administration.equipment.heard(&row.name).signed_since {
            0 => look.advice(
                format!("{} need not sign its requests, so that answers to it can be forged on the way", row.name),
                "Update it, then require Message-Authenticator.",
            ),
            _ => look.advice(
                format!("{} signs all its requests, and need not", row.name),
                format!("Require it: regnant nas change {} --require-message-authenticator true", row.name),
            ),
        }
    }
    for row in &nases {
        for lack in &edition.lacks(&row.identity(), row.single_address()) {
            look.trouble(
                format!("{}: {lack}", row.name),
                "Give it a dialect that can say it, or grant it something else.",
            );
        }
    }
    Ok(look.else_well(format!("{} NASes sign their requests and can be told what the policy grants", nases.len())))
}

fn certificates(administration: &Administration) -> Result<Vec<Finding>, AdministrationError> {
    let mut look = Look::at("certificates");
    let report = administration.certificates.report()?;
    let found = report.certificates.iter().map(|one| (&one.name, &one.findings, !one.gates.is_empty()));
    let found = found.chain(report.trusts.iter().map(|one| (&one.name, &one.findings, !one.gates.is_empty())));
    for (name, findings, in_use) in found {
        for finding in findings {
            let remedy = "Its page under Certificates says more; bring another under the same name.";
            match in_use {
                true => look.trouble(format!("{name}: {finding}"), remedy),
                false => look.advice(format!("{name}: {finding}"), remedy),
            }
        }
    }
    Ok(look.else_well("all certificates and trusts are as they should be"))
}

fn policy(administration: &Administration) -> Result<Vec<Finding>, AdministrationError> {
    let mut look = Look::at("policy");
    let (row, report) = administration.policies.active()?;
    if administration.policies.is_first()? {
        look.trouble(
            "no policy was activated yet: everybody is refused",
            "Write one, and `regnant policy activate` it.",
        );
    }
    for warning in &report.diagnostics {
        look.advice(
            format!("{} {} ({}, line {})", warning.code, warning.message, warning.file, warning.line),
            "Mend it in the policy, and activate that.",
        );
    }
    for case in report.cases.iter().filter(|case| case.failure.is_some()) {
        look.trouble(format!("the case \"{}\" fails", case.title), "Mend the policy, or the case.");
    }
    Ok(look.else_well(format!("edition {} has no warnings, and its cases pass", row.number)))
}

fn administrators(administration: &Administration) -> Result<Vec<Finding>, AdministrationError> {
    let mut look = Look::at("administrators");
    let all = administration.administrators.all()?;
    let (now, mut engineers) = (now_ms().cast_signed(), 0);
    for row in all.iter().filter(|row| row.role == Role::Engineer && row.is_let_in(now)) {
        engineers += 1;
        if row.second_factor.is_none() {
            look.advice(
                format!("the engineer `{}` signs in with a password alone", row.name),
                "Set a second factor under Settings.",
            );
        }
    }
    if engineers == 1 {
        look.advice(
            "there is one engineer",
            "Add a second: whoever loses both password and recovery codes needs root on the machine.",
        );
    }
    let soon = |at: &i64| (now..now + TOKENS_END).contains(at);
    for row in administration.administrators.tokens()? {
        if let Some(at) = row.expires.filter(soon) {
            let name = if row.name.is_empty() { row.hash.id() } else { row.name };
            look.advice(
                format!("the token `{name}` of {} ends {}", row.administrator, iso(at.cast_unsigned())),
                "Whatever acts by it stops then: make another under Settings, or sign in again.",
            );
        }
    }
    Ok(look.else_well(format!("{} administrators, and every engineer has a second factor", all.len())))
}

fn backups(administration: &Administration) -> Result<Vec<Finding>, AdministrationError> {
    let mut look = Look::at("backups");
    match administration.administrators.last_backup()? {
        None => look.advice("no backup was ever taken", "regnant backup FILE --with-keys, and keep it elsewhere."),
        Some(entry) if now_ms().saturating_sub(entry.at) > BACKUP_EVERY => look.advice(
            format!("the last backup is {} days old", now_ms().saturating_sub(entry.at) / 86_400_000),
            "Take one every day, and keep a copy of the sealing key apart from them: regnant backup FILE.",
        ),
        Some(_) => {}
    }
    Ok(look.else_well("a backup was taken within the last week"))
}

fn console(api: &Api) -> Vec<Finding> {
    let mut look = Look::at("console");
    if api.front.in_plain_text {
        look.trouble(
            "console and API speak plain HTTP on a network: whoever is on the way reads passwords",
            "Take `plain-http` out of the configuration, or put a proxy with TLS in front.",
        );
    }
    look.else_well("console and API are reached over TLS, or from this machine alone")
}
