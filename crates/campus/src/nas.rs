use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use regnant_radius::{Dictionary, SharedSecret};

use crate::enforce::Outcome;
use crate::make::Make;
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
    /// What it understands.
    pub make: Make,
}

impl Nas {
    /// Asks the server and reads the answer.
    pub fn ask(&self, server: SocketAddr, ask: &Ask, dictionary: &Arc<Dictionary>) -> Outcome {
        self.ask_by(&self.exchange(server), ask, dictionary)
    }

    /// The same, by an exchange of its own.
    pub fn ask_by(&self, exchange: &Exchange, ask: &Ask, dictionary: &Arc<Dictionary>) -> Outcome {
        Outcome::of(exchange.ask(ask, dictionary), |reply| self.make.enforce(reply, exchange, dictionary))
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
