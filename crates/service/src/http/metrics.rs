//! What a monitoring system reads now and again, in the text form of OpenMetrics 1.0.

use std::fmt::Write as _;

use axum::extract::State;
use axum::http::{HeaderName, header};
use regnant_journal::Intake;

use crate::http::Api;
use crate::http::callers::{Look, May};

const FORM: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

/// How the service, its books and the stores outside do, as OpenMetrics 1.0 has it.
#[utoipa::path(get, path = "/api/v1/metrics",
    responses((status = 200, body = String, content_type = "application/openmetrics-text"), (status = 401, body = crate::http::error::ApiError)))]
pub(crate) async fn metrics(State(api): State<Api>, _: May<Look>) -> ([(HeaderName, &'static str); 1], String) {
    let mut text = Exposition::default();
    let snapshot = api.administration.snapshot();
    let works = api.journal.trouble().is_none() && api.accounting.trouble().is_none();
    text.gauge("regnant_working", "1 while requests can be answered, 0 while journal or accounting cannot be written");
    text.sample("regnant_working", &[], u64::from(works));
    text.gauge("regnant_edition", "The number of the active edition");
    text.sample("regnant_edition", &[], snapshot.active.edition.number.into());
    packets(&mut text, &api);
    book(&mut text, "journal", &api.journal);
    book(&mut text, "accounting", &api.accounting);
    text.describe("regnant_store_up", "gauge", "1 while a server of a store outside answers, 0 while it does not");
    text.describe("regnant_store_down_seconds", "gauge", "For how long a server has not answered");
    text.describe("regnant_store_questions", "counter", "Questions that a server was asked since the start");
    text.describe("regnant_store_failures", "counter", "Questions that a server did not answer since the start");
    for (store, outside) in snapshot.outside.all() {
        for server in outside.health() {
            let labels = [("store", store), ("server", server.url.as_str())];
            let down = server.down.map(|(time, ..)| time.as_secs());
            text.sample("regnant_store_up", &labels, u64::from(down.is_none()));
            text.sample("regnant_store_down_seconds", &labels, down.unwrap_or(0));
            text.sample("regnant_store_questions_total", &labels, server.asked);
            text.sample("regnant_store_failures_total", &labels, server.failed);
        }
    }
    ([(header::CONTENT_TYPE, FORM)], text.end())
}

fn packets(text: &mut Exposition, api: &Api) {
    let counts = api.radius.counts();
    for (name, help, count) in [
        ("received", "Datagrams received", counts.received),
        ("repeated", "Duplicates of requests being worked on or answered a moment ago", counts.repeated),
        ("unjournaled", "Packets dropped because they could not be written down", counts.unjournaled),
        ("status", "Status-Server requests answered", counts.status),
        ("reports", "Accounting-Requests kept and acknowledged", counts.reports),
        ("unsent", "Replies that the system did not take", counts.unsent),
        (
            "crowded_out",
            "Packets or half-open EAP conversations given up because there were too many",
            counts.crowded_out,
        ),
        ("unlisted", "Unheard packets of senders beyond those that the list holds", counts.unlisted),
    ] {
        text.describe(&format!("regnant_packets_{name}"), "counter", help);
        text.sample(&format!("regnant_packets_{name}_total"), &[], count);
    }
    text.gauge("regnant_eap_conversations", "EAP conversations in progress");
    text.sample("regnant_eap_conversations", &[], counts.conversations);
    text.gauge("regnant_eap_resumable", "EAP sessions that may be resumed");
    text.sample("regnant_eap_resumable", &[], counts.resumable);
}

fn book<W: Send + 'static>(text: &mut Exposition, name: &str, book: &Intake<W>) {
    let (ages, (files, bytes)) = (book.commit_ages(), book.size());
    for (what, help, value) in [
        ("files", "Files", files),
        ("bytes", "Bytes of all files", bytes),
        (
            "commit_age_milliseconds",
            "How old the oldest entry of ninety-nine of a hundred commits was at most",
            ages.p99,
        ),
    ] {
        let family = format!("regnant_{name}_{what}");
        text.gauge(&family, help);
        text.sample(&family, &[], value);
    }
    let deleted = format!("regnant_{name}_files_deleted");
    text.describe(&deleted, "counter", "Files deleted since the start");
    text.sample(&format!("{deleted}_total"), &[], book.deleted());
}

/// Families of samples. The samples of one stand together, whatever the order in which they come.
#[derive(Default)]
struct Exposition(Vec<(String, String)>);

impl Exposition {
    fn gauge(&mut self, family: &str, help: &str) {
        self.describe(family, "gauge", help);
    }

    fn describe(&mut self, family: &str, kind: &str, help: &str) {
        self.0.push((family.to_owned(), format!("# TYPE {family} {kind}\n# HELP {family} {help}.\n")));
    }

    /// A sample of a family that was described; one of a counter ends with `_total`.
    fn sample(&mut self, name: &str, labels: &[(&str, &str)], value: u64) {
        let family = name.strip_suffix("_total").unwrap_or(name);
        let Some((_, text)) = self.0.iter_mut().find(|(known, _)| known == family) else { return };
        let labels: Vec<_> = labels.iter().map(|(name, value)| format!("{name}=\"{}\"", escaped(value))).collect();
        let labels = if labels.is_empty() { String::new() } else { format!("{{{}}}", labels.join(",")) };
        let _ = writeln!(text, "{name}{labels} {value}");
    }

    fn end(self) -> String {
        let families: String = self.0.into_iter().map(|(_, text)| text).collect();
        families + "# EOF\n"
    }
}

fn escaped(value: &str) -> String {
    value.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_of_a_family_stand_together_and_labels_are_escaped() {
        let mut text = Exposition::default();
        text.describe("a", "counter", "As");
        text.gauge("b", "Bs");
        text.sample("a_total", &[("server", "ldap://\"x\\\n")], 1);
        text.sample("b", &[], 2);
        text.sample("a_total", &[("server", "y")], 3);
        let lines = "# TYPE a counter\n# HELP a As.\na_total{server=\"ldap://\\\"x\\\\\\n\"} 1\na_total{server=\"y\"} 3\n\
                     # TYPE b gauge\n# HELP b Bs.\nb 2\n# EOF\n";
        assert_eq!(text.end(), lines);
    }
}
