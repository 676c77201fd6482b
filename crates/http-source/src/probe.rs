//! The way to a service, one step at a time, for whoever connects it.

use std::io;
use std::sync::Arc;
use std::time::Instant;

use regnant_outside::{Step, shown_certificate};
use regnant_policy::{IdentityKind, Value};
use rustls::pki_types::ServerName;
use tokio::time::timeout;
use tokio_rustls::TlsConnector;

use crate::answers::Trouble;
use crate::ask::server;
use crate::source::{HttpSource, Inner};

impl HttpSource {
    /// Goes the way to the service, and asks about a name where one is given; the first step that
    /// fails is the last.
    pub async fn probe(&self, name: Option<(IdentityKind, String)>) -> Vec<Step> {
        let inner = self.inner.clone();
        let walked = self.runtime().spawn(async move { walk(&inner, name).await });
        walked.await.unwrap_or_default()
    }
}

fn failed(what: &str, trouble: &Trouble, began: Instant) -> Step {
    Step::wrong(what, trouble.to_string(), trouble.advice(), began)
}

async fn walk(inner: &Inner, name: Option<(IdentityKind, String)>) -> Vec<Step> {
    let mut steps = Vec::new();
    let (began, place) = (Instant::now(), server(&inner.place));
    let what = format!("connect to {place}");
    match connect(inner).await {
        Ok(saw) => steps.push(Step::passed(&what, saw, began)),
        Err(trouble) => return vec![failed(&what, &trouble, began)],
    }
    let began = Instant::now();
    match inner.sign_in().await {
        None => {}
        Some(Ok(())) => steps.push(Step::passed("have a token", "it was given".into(), began)),
        Some(Err(trouble)) => {
            steps.push(failed("have a token", &trouble, began));
            return steps;
        }
    }
    let Some((kind, name)) = name else { return steps };
    let began = Instant::now();
    let what = format!("ask about {name}");
    let Some(url) = inner.address_of(&name) else {
        steps.push(Step::wrong(
            &what,
            "no address can have that name".into(),
            "Nobody of it is ever asked about.",
            began,
        ));
        return steps;
    };
    match inner.ask(&url).await {
        Err(trouble) => steps.push(failed(&what, &trouble, began)),
        Ok(None) => {
            let advice = "Look at how names are written there: `by` in the gate's `lookup` says what is asked for.";
            steps.push(Step::wrong(&what, "it knows nobody of that name".into(), advice, began));
        }
        Ok(Some(answer)) => {
            steps.push(Step::passed(&what, "it answers with an object".into(), began));
            let told = inner.account(kind, &name, &answer);
            let wanted: Vec<_> = inner.settings.facts.of(kind, &inner.declared).collect();
            let misfit = |name: &str, value: &Value<'_>| {
                wanted.iter().any(|(wanted, kind, _)| *wanted == name && kind.misfit() == *value)
            };
            let (others, facts): (Vec<_>, Vec<_>) =
                told.attributes.iter().partition(|(name, value)| misfit(name, value));
            let facts: Vec<_> = facts.iter().map(|(name, value)| format!("{name} = {value}")).collect();
            let began = Instant::now();
            steps.push(match facts.len() == wanted.len() {
                true => Step::passed("read its facts", facts.join("; "), began),
                false => {
                    let mut saw = format!("{} of {} are there: {}", facts.len(), wanted.len(), facts.join("; "));
                    if !others.is_empty() {
                        let names: Vec<_> = others.iter().map(|(name, _)| &**name).collect();
                        saw.push_str(&format!("; of another type: {}", names.join(", ")));
                    }
                    let advice = "Look at the JSON Pointers and at the declared types: what is of another type is unanswered, so that rules \
                                  which ask for it are undetermined.";
                    Step::wrong("read its facts", saw, advice, began)
                }
            });
        }
    }
    steps
}

/// Connects as every question does, and tells whom it met.
async fn connect(inner: &Inner) -> Result<String, Trouble> {
    let url = &inner.place;
    let not_reached = |why: String| Trouble::NotReached { server: server(url), why };
    let host = url.host_str().unwrap_or_default().trim_start_matches('[').trim_end_matches(']').to_owned();
    let port = url.port_or_known_default().unwrap_or(443);
    let name = ServerName::try_from(host.clone()).map_err(|error| not_reached(error.to_string()))?;
    let connecting = async {
        let stream = inner.way.never.connect(&host, port).await?;
        TlsConnector::from(Arc::clone(&inner.way.tls)).connect(name, stream).await
    };
    let limit = inner.settings.limit();
    let late = || io::Error::other(format!("no answer within {} s", limit.as_secs()));
    let connected = timeout(limit, connecting).await.unwrap_or_else(|_| Err(late()));
    let stream = connected.map_err(|error| not_reached(error.to_string()))?;
    let shown = stream.get_ref().1.peer_certificates().and_then(|chain| shown_certificate(chain.first()?));
    Ok(format!("it proves who it is: {}", shown.unwrap_or_else(|| "its authority vouches for it".into())))
}
