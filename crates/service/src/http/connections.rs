//! Connections: how many, from whom, and for how long.

use std::net::IpAddr;
use std::time::Duration;

use axum::{Extension, Router};
use hyper::server::conn::http1;
use hyper_util::rt::{TokioIo, TokioTimer};
use hyper_util::service::TowerToHyperService;
use regnant_base::{Place, Shares};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;

/// Connections at a time; one address takes at most what all leave free.
const MOST: usize = 512;
/// How long a request may take to begin: also how long a connection may be idle.
const HEADERS: Duration = Duration::from_secs(15);
/// Pause after the system gave no connection, most often because there are no file
/// descriptors left.
const REST: Duration = Duration::from_millis(50);

/// The other end of a connection.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Peer(pub(crate) IpAddr);

/// Serves until told to stop.
pub(crate) async fn serve(listener: TcpListener, routes: Router, mut stopped: watch::Receiver<bool>) {
    let shares = Shares::default();
    loop {
        let accepted = tokio::select! {
            _ = stopped.changed() => return,
            accepted = listener.accept() => accepted,
        };
        match accepted {
            Ok((stream, peer)) => {
                let peer = peer.ip().to_canonical();
                // Nobody is told that there is no room: that would take room.
                if let Some(place) = shares.take(&peer.to_string(), MOST) {
                    let routes = routes.clone().layer(Extension(Peer(peer)));
                    tokio::spawn(connection(stream, routes, place, stopped.clone()));
                }
            }
            Err(error) => {
                tracing::debug!("a connection was not taken: {error}");
                tokio::time::sleep(REST).await;
            }
        }
    }
}

async fn connection(stream: TcpStream, routes: Router, _place: Place, mut stopped: watch::Receiver<bool>) {
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
