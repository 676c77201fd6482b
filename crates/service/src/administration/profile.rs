//! Supplicant profiles for the gates of the active edition.

use regnant_certificates::read_certificates;
use regnant_eap::Certificate;
use regnant_policy::{Accepted, Gate, Inner as Written, Method as Policy};
use regnant_profiles::{Inner, Method, Network, Platform, Profile};

use crate::administration::AdministrationError;
use crate::administration::certificates::Certificates;

/// Which profile is wanted.
#[derive(Clone, Debug)]
pub struct ProfileOrder {
    /// The gate.
    pub gate: String,
    /// `apple`, `windows`, `wpa-supplicant`, `network-manager` or `android`.
    pub platform: String,
    /// The wireless network; wired where none.
    pub ssid: Option<String>,
    /// The method, as the gate writes it; the first that the platform can do
    /// where none.
    pub method: Option<String>,
}

impl Certificates {
    /// What a client needs so that it trusts the server of this gate.
    pub fn profile(&self, order: &ProfileOrder) -> Result<Profile, AdministrationError> {
        let snapshot = self.committer.snapshot.load();
        let gates = snapshot.active.edition.policy.gates();
        let gate = gates.iter().find(|gate| gate.name == order.gate).ok_or_else(|| {
            let names: Vec<_> = gates.iter().filter(|gate| gate.present.is_some()).map(|gate| &*gate.name).collect();
            AdministrationError::Profile(format!(
                "there is no gate `{}`; with 802.1X there are: {}",
                order.gate,
                names.join(", ")
            ))
        })?;
        let platform = Platform::ALL.iter().find(|(word, _)| *word == order.platform).map(|(_, platform)| *platform);
        let words: Vec<_> = Platform::ALL.iter().map(|(word, _)| *word).collect();
        let platform = platform.ok_or_else(|| {
            AdministrationError::Profile(format!(
                "`{}` is no platform; there are: {}",
                order.platform,
                words.join(", ")
            ))
        })?;
        let methods = methods(gate, order.method.as_deref())?;
        let (server, authorities) = self.server_of(gate)?;
        let mut refusal = None;
        for method in methods {
            let network = Network {
                title: order.ssid.clone().unwrap_or_else(|| gate.name.clone()),
                ssid: order.ssid.clone(),
                outer: server.split_once('.').map_or("anonymous".into(), |(_, realm)| format!("anonymous@{realm}")),
                server: server.clone(),
                authorities: authorities.clone(),
                method,
            };
            match network.profile(platform) {
                Ok(profile) => return Ok(profile),
                Err(error) => refusal = Some(error),
            }
        }
        let reason = refusal.map_or_else(|| "the gate accepts no method with a certificate".into(), |e| e.to_string());
        Err(AdministrationError::Profile(format!("gate `{}`: {reason}", gate.name)))
    }

    /// The server's name and the authorities that vouch for it: those above it in
    /// its chain, or those of the trust that issued it.
    fn server_of(&self, gate: &Gate) -> Result<(String, Vec<Vec<u8>>), AdministrationError> {
        let none = || AdministrationError::Profile(format!("gate `{}` presents no certificate", gate.name));
        let name = gate.present.as_deref().ok_or_else(none)?;
        let row = self.rows()?.into_iter().find(|row| row.name == name).ok_or_else(none)?;
        let chain = read_certificates(&row.chain).unwrap_or_default();
        let own = chain.first().and_then(|der| Certificate::read(der).ok()).ok_or_else(none)?;
        let server = own.dns.first().cloned().or(own.common_name).unwrap_or_else(|| name.to_owned());
        let trusted =
            self.trusts()?.into_iter().flat_map(|row| read_certificates(&row.authorities).unwrap_or_default());
        let top = chain.last().and_then(|der| Certificate::read(der).ok()).map(|top| top.issuer).unwrap_or_default();
        let is_root = |der: &Vec<u8>| {
            Certificate::read(der)
                .is_ok_and(|read| read.authority && read.subject == top && read.subject == read.issuer)
        };
        let mut authorities: Vec<_> = chain.iter().cloned().chain(trusted).filter(is_root).collect();
        authorities.dedup();
        Ok((server, authorities))
    }
}

/// The methods of a gate that profiles can set up, in its order.
fn methods(gate: &Gate, wanted: Option<&str>) -> Result<Vec<Method>, AdministrationError> {
    let fits = |accepted: &&Accepted| wanted.is_none_or(|wanted| accepted.method.word() == wanted);
    let found: Vec<_> = gate.accept.iter().filter(fits).flat_map(set_up).collect();
    match (found.is_empty(), wanted) {
        (true, Some(wanted)) => Err(AdministrationError::Profile(format!(
            "gate `{}` accepts no `{wanted}` that a profile can set up",
            gate.name
        ))),
        _ => Ok(found),
    }
}

fn set_up(accepted: &Accepted) -> Vec<Method> {
    let tunnel: fn(Inner) -> Method = match accepted.method {
        Policy::EapTls => return vec![Method::Tls],
        Policy::Peap => Method::Peap,
        Policy::Ttls => Method::Ttls,
        Policy::Teap => Method::Teap,
        _ => return Vec::new(),
    };
    let inner = |written: &Written| match written {
        Written::Pap | Written::Password => Some(Inner::Password),
        Written::MsChapV2 | Written::EapMsChapV2 => Some(Inner::MsChapV2),
        Written::EapGtc => Some(Inner::Gtc),
        Written::EapTls => Some(Inner::Tls),
        Written::Chap | Written::MsChap | Written::EapMd5 => None,
    };
    accepted.inner.iter().filter_map(inner).map(tunnel).collect()
}
