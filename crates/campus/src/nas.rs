use std::net::{IpAddr, Ipv4Addr, SocketAddr};
use std::sync::Arc;

use regnant_radius::{Dictionary, SharedSecret};

use crate::accounting::Accounting;
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
    /// Whether it ends a session whose begin nobody acknowledges, as some VPN gateways do.
    pub needs_accounting: bool,
}

impl Nas {
    /// Asks and reads the answer. Where there is accounting, the session is reported.
    pub fn ask(
        &self,
        exchange: &Exchange,
        ask: &Ask,
        dictionary: &Arc<Dictionary>,
        accounting: Option<&mut Accounting>,
    ) -> Outcome {
        Outcome::of(exchange.ask(ask, dictionary), |reply| {
            let enforced = self.make.enforce(reply, exchange, dictionary);
            let enforced = enforced.ok_or("the equipment could not get its access list")?;
            let kept = accounting.is_none_or(|accounting| accounting.begin(self, ask, reply));
            if self.needs_accounting && !kept {
                return Err("the equipment ends what nobody accounts for");
            }
            Ok(enforced)
        })
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
