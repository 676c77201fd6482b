//! Passpoint profiles: a subscription in OMA-DM's tree, packed with the authority
//! as MIME parts.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use quick_xml::escape::escape;

use crate::network::{Inner, Method, Network, Profile, ProfileError};

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
    let leaf =
        |name: &str, value: &str| format!("<Node><NodeName>{name}</NodeName><Value>{}</Value></Node>", escape(value));
    let node = |name: &str, inside: String| format!("<Node><NodeName>{name}</NodeName>{inside}</Node>");
    let home = node("HomeSP", leaf("FriendlyName", &network.title) + &leaf("FQDN", domain));
    let method = leaf("EAPType", "21") + &leaf("InnerMethod", inner);
    let login =
        leaf("MachineManaged", "false") + &node("EAPMethod", method) + &leaf("Username", "") + &leaf("Password", "");
    let credential = node("Credential", leaf("Realm", domain) + &node("UsernamePassword", login));
    let tree = format!(
        "<?xml version=\"1.0\"?>\n<MgmtTree xmlns=\"syncml:dmddf1.2\"><VerDTD>1.2</VerDTD><Node>\
         <NodeName>PerProviderSubscription</NodeName><RTProperties><Type><DDFName>\
         urn:wfa:mo:hotspot2dot0-perprovidersubscription:1.0</DDFName></Type></RTProperties>{}</Node></MgmtTree>\n",
        node("i001", home + &credential)
    );
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
