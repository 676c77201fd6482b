//! WLAN and LAN profiles (XML).

use sha1::{Digest, Sha1};

use crate::network::{Inner, Method, Network, Profile, ProfileError};
use crate::xml::{Element, element, leaf};

const WLAN: &str = "http://www.microsoft.com/networking/WLAN/profile/v1";
const LAN: &str = "http://www.microsoft.com/networking/LAN/profile/v1";
const ONE_X: &str = "http://www.microsoft.com/networking/OneX/v1";
const HOST: &str = "http://www.microsoft.com/provisioning/EapHostConfig";
const COMMON: &str = "http://www.microsoft.com/provisioning/EapCommon";
const BASE: &str = "http://www.microsoft.com/provisioning/BaseEapConnectionPropertiesV1";
const TLS: &str = "http://www.microsoft.com/provisioning/EapTlsConnectionPropertiesV1";
const MSCHAPV2: &str = "http://www.microsoft.com/provisioning/MsChapV2ConnectionPropertiesV1";
const PEAP: &str = "http://www.microsoft.com/provisioning/MsPeapConnectionPropertiesV1";
const TTLS: &str = "http://www.microsoft.com/provisioning/EapTtlsConnectionPropertiesV1";
const TEAP: &str = "http://www.microsoft.com/provisioning/EapTeapConnectionPropertiesV1";

pub(crate) fn profile(network: &Network) -> Result<Profile, ProfileError> {
    let who = if matches!(network.method, Method::Teap(_)) { "machineOrUser" } else { "user" };
    let one_x = element(
        "OneX",
        [leaf("cacheUserData", "true"), leaf("authMode", who), element("EAPConfig", [eap_host_config(network)?])],
    )
    .of(ONE_X);
    let root = match &network.ssid {
        Some(ssid) => wireless(ssid, one_x),
        None => {
            let security = [leaf("OneXEnforced", "true"), leaf("OneXEnabled", "true"), one_x];
            element("LANProfile", [element("MSM", [element("security", security)])]).of(LAN)
        }
    };
    Ok(Profile { file: network.file(".xml"), media_type: "application/xml", text: root.document() })
}

fn wireless(ssid: &str, one_x: Element) -> Element {
    let hex: String = ssid.bytes().map(|byte| format!("{byte:02X}")).collect();
    let encryption = [leaf("authentication", "WPA2"), leaf("encryption", "AES"), leaf("useOneX", "true")];
    element(
        "WLANProfile",
        [
            leaf("name", ssid),
            element("SSIDConfig", [element("SSID", [leaf("hex", hex), leaf("name", ssid)])]),
            leaf("connectionType", "ESS"),
            leaf("connectionMode", "auto"),
            element("MSM", [element("security", [element("authEncryption", encryption), one_x])]),
        ],
    )
    .of(WLAN)
}

fn eap_host_config(network: &Network) -> Result<Element, ProfileError> {
    const NOT_THERE: ProfileError = ProfileError::NotThere { platform: "this platform", what: "this inner method" };
    let config = match network.method {
        Method::Tls => tls(network),
        Method::Peap(Inner::MsChapV2) => peap(network, mschapv2()),
        Method::Peap(Inner::Tls) => peap(network, tls(network)),
        Method::Ttls(inner) => ttls(network, inner).ok_or(NOT_THERE)?,
        Method::Teap(Inner::MsChapV2) => teap(network, mschapv2),
        Method::Teap(Inner::Tls) => teap(network, || tls(network)),
        Method::Peap(_) | Method::Teap(_) => return Err(NOT_THERE),
    };
    // Who wrote the method: nobody for the system's own, 311 for the two it added.
    let author = if matches!(network.method, Method::Ttls(_) | Method::Teap(_)) { "311" } else { "0" };
    let method = [
        leaf("Type", network.method.number().to_string()).of(COMMON),
        leaf("VendorId", "0").of(COMMON),
        leaf("VendorType", "0").of(COMMON),
        leaf("AuthorId", author).of(COMMON),
    ];
    let parts = [element("EapMethod", method), element("Config", [config]).of(HOST)];
    Ok(element("EapHostConfig", parts).of(HOST))
}

/// SHA-1 of each authority, as the system's certificate store names it.
fn thumbprints(network: &Network, name: &'static str) -> impl Iterator<Item = Element> {
    network.authorities.iter().map(move |der| {
        let digest: Vec<_> = Sha1::digest(der).iter().map(|byte| format!("{byte:02x}")).collect();
        leaf(name, digest.join(" "))
    })
}

fn server(network: &Network) -> Element {
    let told = [leaf("DisableUserPromptForServerValidation", "true"), leaf("ServerNames", network.server.as_str())];
    element("ServerValidation", told.into_iter().chain(thumbprints(network, "TrustedRootCA")))
}

fn method(number: &str, properties: Element) -> Element {
    element("Eap", [leaf("Type", number), properties]).of(BASE)
}

fn tls(network: &Network) -> Element {
    let store = element("CertificateStore", [leaf("SimpleCertSelection", "true")]);
    let parts = [element("CredentialsSource", [store]), server(network), leaf("DifferentUsername", "false")];
    method("13", element("EapType", parts).of(TLS))
}

fn mschapv2() -> Element {
    method("26", element("EapType", [leaf("UseWinLogonCredentials", "false")]).of(MSCHAPV2))
}

fn peap(network: &Network, inner: Element) -> Element {
    let parts = [
        server(network),
        leaf("FastReconnect", "true"),
        leaf("InnerEapOptional", "false"),
        inner,
        leaf("EnableQuarantineChecks", "false"),
        leaf("RequireCryptoBinding", "true"),
    ];
    method("25", element("EapType", parts).of(PEAP))
}

/// The tunnels that the system added name authorities by another word.
fn server_of_tunnel(network: &Network, more: Option<Element>) -> Element {
    let names = [leaf("ServerNames", network.server.as_str())];
    element("ServerValidation", names.into_iter().chain(thumbprints(network, "TrustedRootCAHash")).chain(more))
}

fn outer_identity(network: &Network) -> Element {
    let told = [leaf("IdentityPrivacy", "true"), leaf("AnonymousIdentity", network.outer.as_str())];
    element("Phase1Identity", told)
}

fn ttls(network: &Network, inner: Inner) -> Option<Element> {
    let inner = match inner {
        Inner::Password => element("PAPAuthentication", []),
        Inner::MsChapV2 => element("MSCHAPv2Authentication", [leaf("UseWinlogonCredentials", "false")]),
        Inner::Gtc | Inner::Tls => return None,
    };
    let server = server_of_tunnel(network, Some(leaf("DisablePrompt", "true")));
    let parts = [server, element("Phase2Authentication", [inner]), outer_identity(network)];
    Some(element("EapTtls", parts).of(TTLS))
}

fn teap(network: &Network, inner: impl Fn() -> Element) -> Element {
    // One for the machine, one for the user.
    let both = [element("InnerMethodConfig", [inner()]), element("InnerMethodConfig", [inner()])];
    let parts = [server_of_tunnel(network, None), element("Phase2Authentication", both), outer_identity(network)];
    element("EapTeap", parts).of(TEAP)
}
