//! Fetching what is signed itself: revocation lists, and responders' answers.

use std::time::Duration;

use regnant_outside::Never;
use ureq::config::Config;
use ureq::http::{Response, Uri};
use ureq::unversioned::resolver::{DefaultResolver, ResolvedSocketAddrs, Resolver};
use ureq::unversioned::transport::{DefaultConnector, NextTimeout};
use ureq::{Agent, Body, Error};

/// Finds none of the addresses to which the service never goes.
#[derive(Debug)]
struct Resolving {
    never: Never,
    inner: DefaultResolver,
}

impl Resolver for Resolving {
    fn resolve(&self, uri: &Uri, config: &Config, timeout: NextTimeout) -> Result<ResolvedSocketAddrs, Error> {
        let found = self.inner.resolve(uri, config, timeout)?;
        let mut allowed = self.empty();
        for address in self.never.allowed(uri.host().unwrap_or_default(), found.iter().copied())? {
            allowed.push(address);
        }
        Ok(allowed)
    }
}

/// Who fetches: follows nobody elsewhere, and goes nowhere where the service never goes.
pub(crate) fn agent(never: &Never, patience: Duration) -> Agent {
    let config =
        Agent::config_builder().timeout_global(Some(patience)).max_redirects(0).max_redirects_will_error(false);
    let resolver = Resolving { never: never.clone(), inner: DefaultResolver::default() };
    Agent::with_parts(config.build(), DefaultConnector::default(), resolver)
}

/// What came of a call: a place that sends elsewhere gave nothing.
pub(crate) fn came(answer: Result<Response<Body>, Error>) -> Result<Response<Body>, String> {
    let answer = answer.map_err(|error| error.to_string())?;
    if !answer.status().is_redirection() {
        return Ok(answer);
    }
    let place = answer.headers().get("location").and_then(|place| place.to_str().ok()).unwrap_or("elsewhere");
    Err(format!("it sends on to {}, where nobody follows: give the address itself", place.escape_debug()))
}
