//! Where controllers are found: by their hosts, or by what the DNS says of a domain.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use hickory_resolver::TokioResolver;
use hickory_resolver::config::{ConnectionConfig, NameServerConfig, ResolverConfig};
use hickory_resolver::net::NetError;
use hickory_resolver::net::runtime::TokioRuntimeProvider;
use hickory_resolver::proto::rr::{RData, RecordType};
use url::Host;

use crate::answers::Trouble;

/// How long one question to a DNS server may take.
const DNS_LIMIT: Duration = Duration::from_millis(1_500);
/// For how long the DNS is believed, however long it says itself.
const DNS_KEPT: Duration = Duration::from_secs(900);
const NOTHING_KEPT: Duration = Duration::from_secs(5);

/// Where controllers are, as settings have it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum ControllerPlace {
    /// One of this host.
    Host(String),
    /// Those that the DNS names for a domain: `dns:DOMAIN`, or `dns://SERVER[:PORT]/DOMAIN` where another
    /// DNS server is asked than the system's (RFC 4501).
    Dns {
        /// The DNS server.
        server: Option<SocketAddr>,
        /// The domain's DNS name.
        domain: String,
    },
}

/// A controller that is somewhere.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Placed {
    pub(crate) host: String,
    /// Its addresses; the system looks the host up where there are none.
    pub(crate) addresses: Vec<IpAddr>,
    /// Those of a lower one come first, those of the same in any order, by weight (RFC 2782).
    pub(crate) priority: u16,
    pub(crate) weight: u16,
}

impl ControllerPlace {
    /// Reads one; none where it is none.
    pub(crate) fn read(text: &str) -> Option<Self> {
        let is_host = |host: &str| host.len() <= 253 && Host::parse(host).is_ok();
        let Some(rest) = text.strip_prefix("dns:") else {
            return is_host(text).then(|| Self::Host(text.to_owned()));
        };
        let (server, domain) = match rest.strip_prefix("//") {
            None => (None, rest),
            Some(rest) => {
                let (server, domain) = rest.split_once('/')?;
                let bare = || server.trim_matches(['[', ']']).parse().map(|ip: IpAddr| (ip, 53).into());
                (Some(server.parse().or_else(|_| bare()).ok()?), domain)
            }
        };
        let is_domain = is_host(domain) && matches!(Host::parse(domain), Ok(Host::Domain(_)));
        is_domain.then(|| Self::Dns { server, domain: domain.to_owned() })
    }

    /// The controller that is named by its host.
    pub(crate) fn named(&self) -> Option<Placed> {
        match self {
            Self::Host(host) => Some(Placed { host: host.clone(), addresses: Vec::new(), priority: 0, weight: 0 }),
            Self::Dns { .. } => None,
        }
    }

    /// A way to ask, where the DNS is to be asked.
    pub(crate) fn resolver(&self) -> Result<Option<TokioResolver>, Trouble> {
        let Self::Dns { server, domain } = self else { return Ok(None) };
        let builder = match server {
            None => TokioResolver::builder_tokio(),
            Some(server) => {
                let at_its_port = |mut connection: ConnectionConfig| {
                    connection.port = server.port();
                    connection
                };
                let connections = [ConnectionConfig::udp(), ConnectionConfig::tcp()].map(at_its_port);
                let mut one = NameServerConfig::udp_and_tcp(server.ip());
                one.connections = connections.into();
                let config = ResolverConfig::from_name_servers(vec![one]);
                Ok(TokioResolver::builder_with_config(config, TokioRuntimeProvider::default()))
            }
        };
        let unknown = |error: &NetError| Trouble::NoController { domain: domain.clone(), why: error.to_string() };
        let mut builder = builder.map_err(|error| unknown(&error))?;
        let options = builder.options_mut();
        (options.timeout, options.attempts) = (DNS_LIMIT, 1);
        (options.positive_max_ttl, options.negative_max_ttl) = (Some(DNS_KEPT), Some(NOTHING_KEPT));
        builder.build().map(Some).map_err(|error| unknown(&error))
    }

    /// The controllers that are there now, by name.
    pub(crate) async fn look(&self, resolver: Option<&TokioResolver>) -> Result<Vec<Placed>, Trouble> {
        let (Self::Dns { domain, .. }, Some(resolver)) = (self, resolver) else {
            return Ok(self.named().into_iter().collect());
        };
        let unknown = |why: String| Trouble::NoController { domain: domain.clone(), why };
        // Under this name a domain registers those of its controllers that serve it ([MS-ADTS] 6.3.2.3).
        let name = format!("_ldap._tcp.dc._msdcs.{domain}.");
        let found =
            resolver.lookup(name.as_str(), RecordType::SRV).await.map_err(|error| unknown(error.to_string()))?;
        let mut placed = Vec::new();
        for record in found.answers() {
            let RData::SRV(one) = &record.data else { continue };
            let host = one.target.to_utf8().trim_end_matches('.').to_owned();
            // A lone dot says that there is decidedly none (RFC 2782).
            if host.is_empty() || placed.len() >= MOST_FOUND {
                continue;
            }
            let addresses = match resolver.lookup_ip(one.target.clone()).await {
                Ok(addresses) => {
                    let mut addresses: Vec<_> = addresses.iter().collect();
                    addresses.sort();
                    addresses
                }
                Err(error) => {
                    tracing::debug!("the domain controller {host} has no address: {error}");
                    continue;
                }
            };
            placed.push(Placed { host, addresses, priority: one.priority, weight: one.weight });
        }
        // Servers turn their answers about; it is the same ones all the same.
        placed.sort_by(|one, other| one.host.cmp(&other.host));
        match placed.is_empty() {
            true => Err(unknown(format!("{name} names no controller that has an address"))),
            false => Ok(placed),
        }
    }
}

/// Controllers of one domain whose addresses are looked up.
const MOST_FOUND: usize = 16;

/// In which order controllers are asked (RFC 2782). `random` gives a number up to and with its bound.
pub(crate) fn in_order(mut placed: Vec<Placed>, mut random: impl FnMut(u32) -> u32) -> Vec<Placed> {
    placed.sort_by_key(|one| (one.priority, one.weight));
    let mut ordered = Vec::with_capacity(placed.len());
    while let Some(priority) = placed.first().map(|one| one.priority) {
        let same = placed.iter().take_while(|one| one.priority == priority).count();
        let sum: u32 = placed[..same].iter().map(|one| u32::from(one.weight)).sum();
        let mut left = random(sum);
        let chosen = placed[..same].iter().position(|one| match left.checked_sub(u32::from(one.weight)) {
            Some(rest) if rest > 0 => {
                left = rest;
                false
            }
            _ => true,
        });
        ordered.push(placed.remove(chosen.unwrap_or(same - 1)));
    }
    ordered
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_hosts_or_domains_of_a_dns_server() {
        let host = |text: &str| ControllerPlace::Host(text.to_owned());
        let dns = |server: Option<&str>, domain: &str| ControllerPlace::Dns {
            server: server.map(|server| server.parse().unwrap()),
            domain: domain.to_owned(),
        };
        for (text, place) in [
            ("dc1.ad.tarnmouth.example", host("dc1.ad.tarnmouth.example")),
            ("10.44.0.4", host("10.44.0.4")),
            ("dns:ad.tarnmouth.example", dns(None, "ad.tarnmouth.example")),
            ("dns://10.44.0.53/ad.tarnmouth.example", dns(Some("10.44.0.53:53"), "ad.tarnmouth.example")),
            ("dns://10.44.0.53:5353/ad.example", dns(Some("10.44.0.53:5353"), "ad.example")),
            ("dns://[::1]:5353/ad.example", dns(Some("[::1]:5353"), "ad.example")),
            ("dns://[::1]/ad.example", dns(Some("[::1]:53"), "ad.example")),
        ] {
            assert_eq!(ControllerPlace::read(text), Some(place), "{text}");
        }
        for wrong in ["", "a b", "dns:", "dns://ad.example", "dns://dc1/ad.example", "dns:10.0.0.1", "dns:a/b?c"] {
            assert_eq!(ControllerPlace::read(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn lower_priorities_come_first_and_heavier_ones_more_often() {
        let one = |host: &str, priority, weight| Placed { host: host.into(), addresses: vec![], priority, weight };
        let placed = [one("far", 10, 100), one("light", 0, 1), one("heavy", 0, 3), one("never", 0, 0)];
        let first_by = |number: u32| {
            let mut numbers = [number].into_iter();
            let ordered = in_order(placed.to_vec(), |most| numbers.next().unwrap_or(0).min(most));
            assert_eq!((ordered.len(), ordered[3].host.as_str()), (4, "far"));
            ordered[0].host.clone()
        };
        // Of the five numbers from 0 to 4 each has its share.
        assert_eq!([0, 1, 2, 3, 4].map(first_by), ["never", "light", "heavy", "heavy", "heavy"]);
    }
}
