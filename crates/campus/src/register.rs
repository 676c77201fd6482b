//! The port's asset register, played: a service that answers in JSON over HTTPS.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::JoinHandle;
use std::time::Duration;

use http_body_util::Full;
use hyper::body::{Bytes, Incoming};
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, LOCATION};
use hyper::server::conn::http1;
use hyper::service::service_fn;
use hyper::{Method, Request, Response, StatusCode};
use hyper_util::rt::TokioIo;
use rustls::ServerConfig;
use rustls::crypto::aws_lc_rs::default_provider;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::net::TcpListener;
use tokio::sync::oneshot;
use tokio_rustls::TlsAcceptor;

/// What has to stand in the header of a question.
pub const SECRET: (&str, &str) = ("X-Register-Key", "Slipway-Winch-3");
/// Who may have a token, and by which secret.
pub const CLIENT: (&str, &str) = ("regnant", "Capstan-Pawl-8");

/// How the register answers.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Mood {
    /// As it should.
    #[default]
    Well,
    /// With a page for people.
    Html,
    /// That it does not know who asks.
    Unauthorized,
    /// That something went wrong.
    Error,
    /// Not at all.
    Nothing,
    /// That it is elsewhere.
    Elsewhere,
    /// With much more than anybody asked for.
    Much,
}

/// What it knows, and what it was asked.
#[derive(Debug, Default)]
struct Desk {
    mood: Mood,
    assets: BTreeMap<String, String>,
    asked: Vec<String>,
    /// The token that counts, where one was had.
    token: Option<String>,
    tokens: u64,
}

/// A register that runs.
#[derive(Debug)]
pub struct Register {
    address: SocketAddr,
    desk: Arc<Mutex<Desk>>,
    stop: Option<oneshot::Sender<()>>,
    thread: Option<JoinHandle<()>>,
}

impl Register {
    /// One that listens here and presents this certificate and key, in PEM. It knows the port's
    /// machines.
    pub fn start(listen: SocketAddr, certificate: &str, key: &str) -> io::Result<Self> {
        let wrong = |error: &dyn std::fmt::Display| io::Error::other(error.to_string());
        let chain: Result<Vec<_>, _> = CertificateDer::pem_slice_iter(certificate.as_bytes()).collect();
        let key = PrivateKeyDer::from_pem_slice(key.as_bytes()).map_err(|error| wrong(&error))?;
        let config = ServerConfig::builder_with_provider(Arc::new(default_provider()))
            .with_safe_default_protocol_versions()
            .map_err(|error| wrong(&error))?
            .with_no_client_auth()
            .with_single_cert(chain.map_err(|error| wrong(&error))?, key)
            .map_err(|error| wrong(&error))?;
        let acceptor = TlsAcceptor::from(Arc::new(config));
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build()?;
        let listener = runtime.block_on(TcpListener::bind(listen))?;
        let (address, desk) =
            (listener.local_addr()?, Arc::new(Mutex::new(Desk { assets: assets(), ..Desk::default() })));
        let (stop, stopped) = oneshot::channel();
        let shared = desk.clone();
        let thread = std::thread::spawn(move || runtime.block_on(serve(listener, acceptor, shared, stopped)));
        Ok(Self { address, desk, stop: Some(stop), thread: Some(thread) })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }

    /// What a store asks, `{name}` for the name of a machine.
    pub fn url(&self) -> String {
        format!("https://localhost:{}/assets/{{name}}", self.address.port())
    }

    /// Where a token is had.
    pub fn token_url(&self) -> String {
        format!("https://localhost:{}/token", self.address.port())
    }

    /// Has it answer in another way from now on.
    pub fn set_mood(&self, mood: Mood) {
        self.lock().mood = mood;
    }

    /// Has it know something else of a name: a JSON object.
    pub fn put(&self, name: &str, json: &str) {
        self.lock().assets.insert(name.to_owned(), json.to_owned());
    }

    /// Has the token that it gave last count no more.
    pub fn take_token_back(&self) {
        self.lock().token = None;
    }

    /// The names that it was asked about, in order.
    pub fn asked(&self) -> Vec<String> {
        self.lock().asked.clone()
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Desk> {
        self.desk.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Register {
    fn drop(&mut self) {
        drop(self.stop.take());
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// What the register knows at first.
fn assets() -> BTreeMap<String, String> {
    let asset = |name: &str, compliant: bool, owner: &str, seen: &str| {
        let json = format!(
            r#"{{"asset":"{name}","state":{{"compliant":{compliant},"last-seen":"{seen}"}},"owner":"{owner}"}}"#
        );
        (name.to_owned(), json)
    };
    [asset("quay-laptop-7", true, "ida.marsh", "2026-11-20"), asset("quay-laptop-9", false, "tom.reed", "2026-08-02")]
        .into()
}

async fn serve(
    listener: TcpListener,
    acceptor: TlsAcceptor,
    desk: Arc<Mutex<Desk>>,
    mut stopped: oneshot::Receiver<()>,
) {
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            _ = &mut stopped => return,
        };
        let Ok((stream, _)) = accepted else { continue };
        let _ = stream.set_nodelay(true);
        let (acceptor, desk) = (acceptor.clone(), desk.clone());
        tokio::spawn(async move {
            let Ok(stream) = acceptor.accept(stream).await else { return };
            let answer = service_fn(move |request| answer(request, desk.clone()));
            let _ = http1::Builder::new().serve_connection(TokioIo::new(stream), answer).await;
        });
    }
}

async fn answer(request: Request<Incoming>, desk: Arc<Mutex<Desk>>) -> Result<Response<Full<Bytes>>, Infallible> {
    let mood = desk.lock().unwrap_or_else(PoisonError::into_inner).mood;
    if mood == Mood::Nothing {
        tokio::time::sleep(Duration::from_secs(3_600)).await;
    }
    let mut desk = desk.lock().unwrap_or_else(PoisonError::into_inner);
    Ok(match (mood, request.method(), request.uri().path()) {
        (Mood::Html, ..) => reply(StatusCode::OK, "text/html", "<!doctype html><title>Sign in</title>".into()),
        (Mood::Unauthorized, ..) => plain(StatusCode::UNAUTHORIZED),
        (Mood::Error, ..) => plain(StatusCode::INTERNAL_SERVER_ERROR),
        (Mood::Elsewhere, ..) => {
            let mut elsewhere = plain(StatusCode::FOUND);
            elsewhere.headers_mut().insert(LOCATION, "https://elsewhere.example/".parse().expect("it is one"));
            elsewhere
        }
        (Mood::Much, ..) => reply(StatusCode::OK, "application/json", format!("{{\"x\":\"{}\"}}", "y".repeat(1 << 20))),
        (_, &Method::POST, "/token") => desk.token_for(&request),
        (_, &Method::GET, path) => match path.strip_prefix("/assets/") {
            Some(name) if desk.knows(&request) => desk.asset(name),
            Some(_) => plain(StatusCode::UNAUTHORIZED),
            None => plain(StatusCode::NOT_FOUND),
        },
        _ => plain(StatusCode::METHOD_NOT_ALLOWED),
    })
}

impl Desk {
    /// Whether it may be asked by whoever asks.
    fn knows(&self, request: &Request<Incoming>) -> bool {
        let header = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
        let bearer = header(AUTHORIZATION.as_str()).and_then(|value| value.strip_prefix("Bearer "));
        header(SECRET.0) == Some(SECRET.1) || bearer.is_some() && bearer == self.token.as_deref()
    }

    fn asset(&mut self, name: &str) -> Response<Full<Bytes>> {
        let name = name.replace("%3A", ":");
        self.asked.push(name.clone());
        if name.starts_with("odd-") {
            return plain(StatusCode::BAD_REQUEST);
        }
        match self.assets.get(&name) {
            Some(json) => reply(StatusCode::OK, "application/json", json.clone()),
            None => plain(StatusCode::NOT_FOUND),
        }
    }

    fn token_for(&mut self, request: &Request<Incoming>) -> Response<Full<Bytes>> {
        // `regnant:Capstan-Pawl-8` in base64.
        let wanted = "Basic cmVnbmFudDpDYXBzdGFuLVBhd2wtOA==";
        let said = request.headers().get(AUTHORIZATION).and_then(|value| value.to_str().ok());
        if said != Some(wanted) {
            return reply(StatusCode::UNAUTHORIZED, "application/json", r#"{"error":"invalid_client"}"#.into());
        }
        self.tokens += 1;
        let token = format!("token-{}", self.tokens);
        let json = format!(r#"{{"access_token":"{token}","token_type":"Bearer","expires_in":600}}"#);
        self.token = Some(token);
        reply(StatusCode::OK, "application/json", json)
    }
}

fn plain(status: StatusCode) -> Response<Full<Bytes>> {
    reply(status, "text/plain", status.to_string())
}

fn reply(status: StatusCode, kind: &'static str, body: String) -> Response<Full<Bytes>> {
    let mut response = Response::new(Full::new(Bytes::from(body)));
    *response.status_mut() = status;
    response.headers_mut().insert(CONTENT_TYPE, hyper::header::HeaderValue::from_static(kind));
    response
}
