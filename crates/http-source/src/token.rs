//! Tokens for the secret (OAuth 2.0 client credentials, RFC 6749 section 4.4).

use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use hyper::header::{AUTHORIZATION, CONTENT_TYPE};
use regnant_base::Secret;
use tokio::sync::Mutex;
use url::Url;
use url::form_urlencoded::{Serializer, byte_serialize};

use crate::answers::{Trouble, object};
use crate::ask::{HttpClient, Question, server};

/// How long a token counts of which nobody says how long.
const UNSAID: Duration = Duration::from_secs(300);
/// So long before its end it counts no more.
const MARGIN: Duration = Duration::from_secs(30);
/// The longest token.
const LONGEST: usize = 16 << 10;

/// Where tokens are had, and the one that counts.
pub(crate) struct Tokens {
    pub(crate) url: Url,
    pub(crate) client: String,
    pub(crate) scope: String,
    pub(crate) secret: Secret,
    kept: Mutex<Option<(Secret, Instant)>>,
}

impl Tokens {
    pub(crate) fn new(url: Url, client: String, scope: String, secret: Secret) -> Self {
        Self { url, client, scope, secret, kept: Mutex::new(None) }
    }

    /// A token that counts; whoever comes while one is had waits for it.
    pub(crate) async fn token(&self, client: &HttpClient) -> Result<Secret, Trouble> {
        let mut kept = self.kept.lock().await;
        if let Some((token, until)) = kept.as_ref()
            && Instant::now() < *until
        {
            return Ok(token.clone());
        }
        let (token, counts) = self.ask(client).await?;
        let until = Instant::now() + counts.saturating_sub(MARGIN).max(Duration::from_secs(1));
        *kept = Some((token.clone(), until));
        Ok(token)
    }

    /// Forgets a token that was not believed.
    pub(crate) async fn forget(&self, token: &Secret) {
        let mut kept = self.kept.lock().await;
        if kept.as_ref().is_some_and(|(known, _)| known.expose() == token.expose()) {
            *kept = None;
        }
    }

    async fn ask(&self, client: &HttpClient) -> Result<(Secret, Duration), Trouble> {
        let server = server(&self.url);
        let scope = Some(("scope", self.scope.as_str())).filter(|(_, scope)| !scope.is_empty());
        let form =
            Serializer::new(String::new()).append_pair("grant_type", "client_credentials").extend_pairs(scope).finish();
        // RFC 6749 section 2.3.1: both are encoded as in a form before they are joined.
        let encoded = |bytes: &[u8]| byte_serialize(bytes).collect::<String>();
        let basic = STANDARD.encode(format!("{}:{}", encoded(self.client.as_bytes()), encoded(self.secret.expose())));
        let question = Question {
            url: &self.url,
            headers: vec![
                (AUTHORIZATION, format!("Basic {basic}")),
                (CONTENT_TYPE, "application/x-www-form-urlencoded".into()),
            ],
            form: Some(form),
        };
        let answer = question.ask(client).await?;
        let status = answer.status;
        if !status.is_success() {
            // What the body says may tell the secret; its kind of error does not.
            let error = object(&server, &answer.body).ok();
            let error = error.and_then(|body| {
                body["error"]
                    .as_str()
                    .map(|word| word.chars().filter(char::is_ascii_graphic).take(60).collect::<String>())
            });
            let status = error.map_or_else(|| status.to_string(), |word| format!("{status} ({word})"));
            return Err(Trouble::NotAllowed { server, status });
        }
        let body = object(&server, &answer.body)?;
        let token = body["access_token"].as_str().filter(|token| !token.is_empty() && token.len() <= LONGEST);
        let bearer = body["token_type"].as_str().is_none_or(|kind| kind.eq_ignore_ascii_case("bearer"));
        match token.filter(|_| bearer) {
            Some(token) => {
                let counts = body["expires_in"].as_u64().map_or(UNSAID, Duration::from_secs);
                Ok((Secret::new(token.as_bytes()), counts.min(Duration::from_secs(24 * 3_600))))
            }
            None => Err(Trouble::NotAllowed { server, status: "an answer without a bearer token".into() }),
        }
    }
}
