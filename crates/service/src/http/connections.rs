//! Connections: how many, from whom, and for how long.

use std::net::IpAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use axum::{Extension, Router};
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use regnant_base::{Place, Shares};
use rustls::ServerConfig;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

/// Connections at a time; one address takes at most what all leave free.
const MOST: usize = 512;
/// How long a request may take to begin: also how long a connection may be idle.
const HEADERS: Duration = Duration::from_secs(15);
/// The type of the record that a handshake begins with (RFC 8446 section 5.1).
const HANDSHAKE: u8 = 22;
/// Pause after the system gave no connection, most often because there are no file
/// descriptors left.
const REST: Duration = Duration::from_millis(50);

/// The other end of a connection.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Peer {
    pub(crate) address: IpAddr,
    /// Whether it speaks TLS to us.
    pub(crate) tls: bool,
}

/// Serves until told to stop; with a configuration of TLS, over TLS alone.
pub(crate) async fn serve(
    listener: TcpListener,
    tls: Option<Arc<ServerConfig>>,
    routes: Router,
    mut stopped: watch::Receiver<bool>,
) {
    let shares = Shares::default();
    let acceptor = tls.map(TlsAcceptor::from);
    loop {
        let accepted = tokio::select! {
            _ = stopped.changed() => return,
            accepted = listener.accept() => accepted,
        };
        match accepted {
            Ok((stream, peer)) => {
                let address = peer.ip().to_canonical();
                // Nobody is told that there is no room: that would take room.
                if let Some(place) = shares.take(&address.to_string(), MOST) {
                    let routes = routes.clone().layer(Extension(Peer { address, tls: acceptor.is_some() }));
                    match acceptor.clone() {
                        Some(acceptor) => tokio::spawn(secured(acceptor, stream, routes, place, stopped.clone())),
                        None => tokio::spawn(connection(stream, routes, place, stopped.clone())),
                    };
                }
            }
            Err(error) => {
                tracing::debug!("a connection was not taken: {error}");
                tokio::time::sleep(REST).await;
            }
        }
    }
}

/// A connection that begins with a handshake of TLS. Whoever begins with plain HTTP is told.
async fn secured(
    acceptor: TlsAcceptor,
    stream: TcpStream,
    routes: Router,
    place: Place,
    stopped: watch::Receiver<bool>,
) {
    let begin = async {
        let mut first = [0];
        match stream.peek(&mut first).await? {
            1 if first != [HANDSHAKE] => Ok(Err(stream)),
            _ => acceptor.accept(stream).await.map(Ok),
        }
    };
    match tokio::time::timeout(HEADERS, begin).await {
        Ok(Ok(Ok(stream))) => connection(stream, routes, place, stopped).await,
        Ok(Ok(Err(plain))) => connection(plain, Router::new().fallback(speaks_tls), place, stopped).await,
        Ok(Err(error)) => tracing::debug!("a handshake of TLS failed: {error}"),
        Err(_) => tracing::debug!("a handshake of TLS took too long"),
    }
}

async fn speaks_tls() -> impl IntoResponse {
    let text = "This address speaks TLS: write https:// in front of it.\n";
    (StatusCode::BAD_REQUEST, [(header::CONNECTION, "close")], text)
}

async fn connection(
    stream: impl AsyncRead + AsyncWrite + Unpin + Send + 'static,
    routes: Router,
    _place: Place,
    mut stopped: watch::Receiver<bool>,
) {
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADERS)
        .serve_connection(TokioIo::new(stream), TowerToHyperService::new(routes));
    tokio::pin!(connection);
    let ended = tokio::select! {
        ended = connection.as_mut() => ended,
        _ = stopped.changed() => {
            connection.as_mut().graceful_shutdown();
            connection.await
        }
    };
    if let Err(error) = ended {
        tracing::debug!("a connection ended early: {error}");
    }
}
