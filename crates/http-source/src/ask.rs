//! One question and its answer.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::pin::Pin;
use std::task::{Context, Poll};
use std::time::Duration;

use http_body_util::{BodyExt, Full, LengthLimitError, Limited};
use hyper::body::Bytes;
use hyper::header::{ACCEPT, HeaderName, LOCATION};
use hyper::{Method, Request, StatusCode};
use hyper_rustls::{HttpsConnector, HttpsConnectorBuilder};
use hyper_util::client::legacy::Client;
use hyper_util::client::legacy::connect::HttpConnector;
use hyper_util::client::legacy::connect::dns::Name;
use hyper_util::rt::{TokioExecutor, TokioTimer};
use regnant_outside::{Never, Way};
use rustls::ClientConfig;
use tokio::net::lookup_host;
use tower_service::Service;
use url::Url;

use crate::answers::Trouble;

/// Bytes of an answer that are read at most.
const MOST: usize = 256 << 10;
/// Connections that wait for a next question, and for how long.
const IDLE: (usize, Duration) = (16, Duration::from_secs(30));
/// How long a connection may take.
const CONNECT: Duration = Duration::from_millis(1_500);

/// What asks over HTTPS, over connections that are used again.
pub(crate) struct HttpClient {
    client: Client<HttpsConnector<HttpConnector<Resolving>>, Full<Bytes>>,
    never: Never,
}

/// A client that believes by this.
pub(crate) fn client(way: &Way) -> HttpClient {
    let mut tcp = HttpConnector::new_with_resolver(Resolving(way.never.clone()));
    tcp.enforce_http(false);
    tcp.set_nodelay(true);
    tcp.set_connect_timeout(Some(CONNECT));
    let https = HttpsConnectorBuilder::new()
        .with_tls_config(ClientConfig::clone(&way.tls))
        .https_only()
        .enable_http1()
        .wrap_connector(tcp);
    let client = Client::builder(TokioExecutor::new())
        .pool_timer(TokioTimer::new())
        .pool_idle_timeout(IDLE.1)
        .pool_max_idle_per_host(IDLE.0)
        .build(https);
    HttpClient { client, never: way.never.clone() }
}

/// Looks hosts up, and finds none where the service never goes.
#[derive(Clone)]
pub(crate) struct Resolving(Never);

impl Service<Name> for Resolving {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Self::Response>> + Send>>;

    fn poll_ready(&mut self, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: Name) -> Self::Future {
        let never = self.0.clone();
        Box::pin(async move {
            let found: Vec<_> = lookup_host((name.as_str(), 0)).await?.collect();
            Ok(never.allowed(name.as_str(), found)?.into_iter())
        })
    }
}

/// The server of an address, as people know it.
pub(crate) fn server(url: &Url) -> String {
    url.origin().ascii_serialization()
}

/// What is asked.
pub(crate) struct Question<'q> {
    pub(crate) url: &'q Url,
    pub(crate) headers: Vec<(HeaderName, String)>,
    /// What is posted; nothing where it is a GET.
    pub(crate) form: Option<String>,
}

/// An answer, whatever it says.
pub(crate) struct Answer {
    pub(crate) status: StatusCode,
    pub(crate) location: Option<String>,
    pub(crate) body: Bytes,
}

impl Question<'_> {
    /// Asks it.
    pub(crate) async fn ask(self, client: &HttpClient) -> Result<Answer, Trouble> {
        let server = server(self.url);
        let not_reached = |why: String| Trouble::NotReached { server: server.clone(), why };
        let method = if self.form.is_some() { Method::POST } else { Method::GET };
        let mut request = Request::builder().method(method).uri(self.url.as_str()).header(ACCEPT, "application/json");
        for (name, value) in self.headers {
            request = request.header(name, value);
        }
        // What is an address already is looked up by nobody.
        let address = self.url.host_str().map(|host| host.trim_matches(['[', ']']).parse::<IpAddr>());
        if let Some(Ok(address)) = address {
            let allowed = client.never.allowed(&server, [SocketAddr::new(address, 0)]);
            allowed.map_err(|error| not_reached(error.to_string()))?;
        }
        let body = Full::new(Bytes::from(self.form.unwrap_or_default()));
        let request = request.body(body).map_err(|error| not_reached(error.to_string()))?;
        let response = client.client.request(request).await.map_err(|error| not_reached(innermost(&error)))?;
        let status = response.status();
        let location = response.headers().get(LOCATION).and_then(|to| to.to_str().ok()).map(str::to_owned);
        match Limited::new(response.into_body(), MOST).collect().await {
            Ok(body) => Ok(Answer { status, location, body: body.to_bytes() }),
            Err(error) if error.is::<LengthLimitError>() => Err(Trouble::TooLong { server, most: MOST }),
            Err(error) => Err(not_reached(error.to_string())),
        }
    }
}

/// What a chain of errors begins with, which is what went wrong.
fn innermost(error: &dyn std::error::Error) -> String {
    let mut inner = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}
