//! Passpoint profiles: a subscription in OMA-DM's tree, packed with the authority
//! as MIME parts.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use crate::network::{Inner, Method, Network, Profile, ProfileError};
use crate::xml::{Element, element, leaf};

const BOUNDARY: &str = "regnant-passpoint";

pub(crate) fn profile(network: &Network) -> Result<Profile, ProfileError> {
    let not_there = |what| ProfileError::NotThere { platform: "Passpoint", what };
    if network.ssid.is_none() {
        return Err(not_there("wired networks"));
    }
    let inner = match network.method {
        Method::Ttls(Inner::Password) => "PAP",
        Method::Ttls(Inner::MsChapV2) => "MS-CHAP-V2",
        Method::Tls => return Err(not_there("certificates that the profile does not bring along")),
        _ => return Err(not_there("other methods than EAP-TTLS with a password")),
    };
    let domain = network.server.split_once('.').map_or(network.server.as_str(), |(_, domain)| domain);
    let value = |name: &str, value: &str| element("Node", [leaf("NodeName", name), leaf("Value", value)]);
    let node =
        |name: &str, inside: Vec<Element>| element("Node", std::iter::once(leaf("NodeName", name)).chain(inside));
    let home = node("HomeSP", vec![value("FriendlyName", &network.title), value("FQDN", domain)]);
    let method = node("EAPMethod", vec![value("EAPType", "21"), value("InnerMethod", inner)]);
    let login = vec![value("MachineManaged", "false"), method, value("Username", ""), value("Password", "")];
    let credential = node("Credential", vec![value("Realm", domain), node("UsernamePassword", login)]);
    let kind = leaf("DDFName", "urn:wfa:mo:hotspot2dot0-perprovidersubscription:1.0");
    let subscription = element(
        "Node",
        [
            leaf("NodeName", "PerProviderSubscription"),
            element("RTProperties", [element("Type", [kind])]),
            node("i001", vec![home, credential]),
        ],
    );
    let tree = element("MgmtTree", [leaf("VerDTD", "1.2"), subscription]).of("syncml:dmddf1.2").document();
    let part = |kind: &str, bytes: &[u8]| {
        format!(
            "--{BOUNDARY}\r\nContent-Type: {kind}\r\nContent-Transfer-Encoding: base64\r\n\r\n{}\r\n",
            STANDARD.encode(bytes)
        )
    };
    let mut parts = format!("Content-Type: multipart/mixed; boundary={BOUNDARY}\r\n\r\n");
    parts += &part("application/x-passpoint-profile", tree.as_bytes());
    for der in network.authorities.iter().take(1) {
        parts += &part("application/x-x509-ca-cert", der);
    }
    parts += &format!("--{BOUNDARY}--\r\n");
    let text = STANDARD.encode(parts);
    Ok(Profile { file: network.file(".passpoint"), media_type: "application/x-wifi-config", text })
}
