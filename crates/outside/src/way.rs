//! The way to whoever is asked: whom to believe, and where never to go.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use regnant_base::Network;
use rustls::ClientConfig;
use tokio::net::{TcpStream, lookup_host};

/// How one goes to whoever is asked.
#[derive(Clone, Debug)]
pub struct Way {
    /// By what they prove who they are.
    pub tls: Arc<ClientConfig>,
    /// Where nobody is ever asked.
    pub never: Never,
}

/// Networks to which the service never goes, whatever address an engineer, a certificate or a name server tells it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Never(Arc<[Network]>);

impl Never {
    /// Those.
    pub fn new(networks: &[Network]) -> Self {
        Self(networks.into())
    }

    /// Whether one may go there.
    pub fn allows(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        !self.0.iter().any(|network| network.contains(address))
    }

    /// Those of addresses to which one may go; an error where there are none of these.
    pub fn allowed(&self, host: &str, all: impl IntoIterator<Item = SocketAddr>) -> io::Result<Vec<SocketAddr>> {
        let (allowed, others): (Vec<_>, Vec<_>) = all.into_iter().partition(|address| self.allows(address.ip()));
        match others.first() {
            Some(other) if allowed.is_empty() => Err(io::Error::new(
                io::ErrorKind::PermissionDenied,
                format!(
                    "{host} is at {}, where this service never goes: `[outside] never` in its configuration says so",
                    other.ip()
                ),
            )),
            _ => Ok(allowed),
        }
    }

    /// Looks a host up, and connects to it.
    pub async fn connect(&self, host: &str, port: u16) -> io::Result<TcpStream> {
        let found: Vec<_> = lookup_host((host, port)).await?.collect();
        self.connect_to(host, found).await
    }

    /// Connects to one of these addresses of a host.
    pub async fn connect_to(&self, host: &str, all: Vec<SocketAddr>) -> io::Result<TcpStream> {
        TcpStream::connect(&self.allowed(host, all)?[..]).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_is_told_however_it_is_written() {
        let never = Never::new(&["169.254.0.0/16".parse().unwrap(), "fe80::/10".parse().unwrap()]);
        let allows = |address: &str| never.allows(address.parse().unwrap());
        assert!(allows("10.44.0.9") && allows("::1"));
        assert!(!allows("169.254.169.254") && !allows("::ffff:169.254.169.254") && !allows("fe80::1"));
        let at = |address: &str| SocketAddr::new(address.parse().unwrap(), 80);
        assert_eq!(never.allowed("x", [at("169.254.1.1"), at("10.44.0.9")]).unwrap(), [at("10.44.0.9")]);
        let told = never.allowed("metadata", [at("169.254.1.1")]).unwrap_err().to_string();
        assert!(told.contains("metadata is at 169.254.1.1") && told.contains("never goes"), "{told}");
    }
}
