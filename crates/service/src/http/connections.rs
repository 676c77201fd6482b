//! Connections: how many, from whom, and for how long.

use std::net::IpAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use axum::Router;
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use hyper::body::Incoming;
use hyper::server::conn::http1;
use hyper::service::{Service as _, service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use regnant_base::{BoundedMap, Place, Shares};
use rustls::ServerConfig;
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio_rustls::TlsAcceptor;

use crate::http::attempts::network;
use crate::http::patience::Patient;

/// Connections at a time; one network takes at most what all leave free.
const MOST: usize = 512;
/// And beside them, of networks that somebody who is signed in calls from.
const KEPT: usize = 128;
/// How long a network is known after such a call, and how many are.
const KNOWN: (Duration, usize) = (Duration::from_secs(12 * 3_600), 1_024);
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

/// Room for connections, some of it for networks from where somebody is signed in.
#[derive(Debug)]
pub(crate) struct Room {
    all: Shares,
    kept: Shares,
    known: Mutex<BoundedMap<IpAddr, Instant>>,
}

impl Default for Room {
    fn default() -> Self {
        Self { all: Shares::default(), kept: Shares::default(), known: Mutex::new(BoundedMap::new(KNOWN.1)) }
    }
}

impl Room {
    /// Somebody who is signed in called from there.
    pub(crate) fn know(&self, address: IpAddr) {
        let now = Instant::now();
        *self.known().touch(network(address), || now) = now;
    }

    fn take(&self, address: IpAddr) -> Option<Place> {
        let (network, now) = (network(address), Instant::now());
        let who = network.to_string();
        let is_known = || self.known().get(&network).is_some_and(|at| now.duration_since(*at) < KNOWN.0);
        self.all.take(&who, MOST).or_else(|| is_known().then(|| self.kept.take(&who, KEPT)).flatten())
    }

    fn known(&self) -> MutexGuard<'_, BoundedMap<IpAddr, Instant>> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Serves until told to stop; with a configuration of TLS, over TLS alone.
pub(crate) async fn serve(
    listener: TcpListener,
    tls: Option<Arc<ServerConfig>>,
    routes: Router,
    room: Arc<Room>,
    mut stopped: watch::Receiver<bool>,
) {
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
                if let Some(place) = room.take(address) {
                    let routes = (routes.clone(), Peer { address, tls: acceptor.is_some() });
                    match acceptor.clone() {
                        Some(acceptor) => tokio::spawn(secured(acceptor, stream, routes, place, stopped.clone())),
                        None => tokio::spawn(connection(Patient::new(stream), routes, place, stopped.clone())),
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
    (routes, peer): (Router, Peer),
    place: Place,
    stopped: watch::Receiver<bool>,
) {
    let begin = async {
        let mut first = [0];
        match stream.peek(&mut first).await? {
            1 if first != [HANDSHAKE] => Ok(Err(Patient::new(stream))),
            _ => acceptor.accept(Patient::new(stream)).await.map(Ok),
        }
    };
    match tokio::time::timeout(HEADERS, begin).await {
        Ok(Ok(Ok(stream))) => connection(stream, (routes, peer), place, stopped).await,
        Ok(Ok(Err(plain))) => connection(plain, (Router::new().fallback(speaks_tls), peer), place, stopped).await,
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
    (routes, peer): (Router, Peer),
    _place: Place,
    mut stopped: watch::Receiver<bool>,
) {
    let routes = TowerToHyperService::new(routes);
    // Each request is told from where it comes; a layer would be a copy of every route for each connection.
    let told = service_fn(move |mut request: hyper::Request<Incoming>| {
        request.extensions_mut().insert(peer);
        routes.call(request)
    });
    let connection = http1::Builder::new()
        .timer(TokioTimer::new())
        .header_read_timeout(HEADERS)
        .serve_connection(TokioIo::new(stream), told);
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_is_signed_in_finds_room_though_all_of_it_is_taken() {
        let (room, here): (_, IpAddr) = (Room::default(), "10.44.0.9".parse().unwrap());
        room.know(here);
        let taken: Vec<_> =
            (0..2 * MOST as u32).filter_map(|number| room.take(IpAddr::from(number.to_be_bytes()))).collect();
        assert_eq!(taken.len(), MOST);
        let own: Vec<_> = std::iter::from_fn(|| room.take(here)).collect();
        assert_eq!(own.len(), KEPT / 2);
        assert!(room.take("10.44.0.8".parse().unwrap()).is_none());
    }

    #[test]
    fn a_network_of_ipv6_has_one_share() {
        let room = Room::default();
        let own = |number: u32| room.take(format!("2001:db8::{number:x}").parse().unwrap());
        let taken: Vec<_> = (0..2 * MOST as u32).filter_map(own).collect();
        assert_eq!(taken.len(), MOST / 2);
        assert!(room.take("2001:db8:0:1::1".parse().unwrap()).is_some());
    }
}
