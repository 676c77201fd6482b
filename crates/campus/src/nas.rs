use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use regnant_radius::{Dictionary, SharedSecret};

use crate::enforce::Outcome;
use regnant_client::Ask;
use regnant_client::{Exchange, Patience, Server};

/// One simulated piece of equipment.
#[derive(Clone, Copy, Debug)]
pub struct Nas {
    /// Its name.
    pub name: &'static str,
    /// Its address on loopback.
    pub address: Ipv4Addr,
    /// The secret that is configured on it.
    pub secret: &'static str,
    /// Whether it signs its requests.
    pub signed: bool,
}

impl Nas {
    /// Asks the server and reads the answer.
    pub fn ask(&self, server: SocketAddr, ask: &Ask, dictionary: &Arc<Dictionary>) -> Outcome {
        Outcome::of(self.exchange(server).ask(ask, dictionary))
    }

    /// How it sends.
    pub fn exchange(&self, server: SocketAddr) -> Exchange {
        Exchange {
            from: IpAddr::V4(self.address),
            servers: vec![Server { address: server, secret: SharedSecret::new(self.secret.as_bytes()) }],
            signed: self.signed,
            patience: Patience { tries: 2, ..Patience::default() },
        }
    }
}
