//! wpa_supplicant configurations and NetworkManager keyfiles.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use crate::network::{Inner, Method, Network, Profile, ProfileError};

/// The authorities travel in the file itself, as a named blob.
pub(crate) fn wpa_supplicant(network: &Network) -> Result<Profile, ProfileError> {
    let mut lines = vec![
        format!("# {}: fill in identity and password or certificate.", one_line(&network.title)),
        "blob-base64-authority={".to_owned(),
        // The format is PEM; one blob holds all authorities.
        wrapped(&STANDARD.encode(network.pem())),
        "}".to_owned(),
        "network={".to_owned(),
    ];
    match &network.ssid {
        Some(ssid) => lines.extend([format!("  ssid={}", hex(ssid)), "  key_mgmt=WPA-EAP WPA-EAP-SHA256".into()]),
        None => lines.extend(["  key_mgmt=IEEE8021X".to_owned(), "  eapol_flags=0".into()]),
    }
    lines.push(format!("  eap={}", method_word(network.method)));
    lines.push("  ca_cert=\"blob://authority\"".into());
    lines.push(format!("  domain_match=\"{}\"", quoted(&network.server)));
    if network.method.inner().is_some() {
        lines.push(format!("  anonymous_identity=\"{}\"", quoted(&network.outer)));
    }
    lines.extend(phase_2(network.method).map(|(key, word)| format!("  phase2=\"{key}={word}\"")));
    lines.push("  identity=\"\"".into());
    if needs_password(network.method) {
        lines.push("  password=\"\"".into());
    } else {
        lines.extend(["  client_cert=\"\"".to_owned(), "  private_key=\"\"".into()]);
    }
    lines.push("}\n".into());
    Ok(Profile { file: network.file(".conf"), media_type: "text/plain", text: lines.join("\n") })
}

pub(crate) fn network_manager(network: &Network) -> Result<Profile, ProfileError> {
    if let Method::Teap(_) = network.method {
        return Err(ProfileError::NotThere { platform: "NetworkManager", what: "TEAP" });
    }
    let name = one_line(network.ssid.as_deref().unwrap_or(&network.title));
    let mut lines = vec![
        "[connection]".to_owned(),
        format!("id={name}"),
        format!("uuid={}", network.uuid("connection").to_lowercase()),
    ];
    match &network.ssid {
        Some(ssid) => lines.extend([
            "type=wifi".to_owned(),
            String::new(),
            "[wifi]".into(),
            "mode=infrastructure".into(),
            format!("ssid={}", one_line(ssid)),
            String::new(),
            "[wifi-security]".into(),
            "key-mgmt=wpa-eap".into(),
        ]),
        None => lines.push("type=ethernet".into()),
    }
    lines.extend([
        String::new(),
        "[802-1x]".to_owned(),
        format!("eap={};", method_word(network.method).to_lowercase()),
        format!("ca-cert=data:;base64,{}", STANDARD.encode(network.pem())),
        format!("domain-match={}", one_line(&network.server)),
    ]);
    if network.method.inner().is_some() {
        lines.push(format!("anonymous-identity={}", one_line(&network.outer)));
    }
    lines.extend(phase_2(network.method).map(|(key, word)| {
        let key = if key == "auth" { "phase2-auth" } else { "phase2-autheap" };
        format!("{key}={}", word.to_lowercase())
    }));
    lines.push("identity=".into());
    if needs_password(network.method) {
        // 1: asked for when it is needed, and kept in the user's own keyring.
        lines.push("password-flags=1".into());
    }
    lines.push(String::new());
    Ok(Profile { file: network.file(".nmconnection"), media_type: "text/plain", text: lines.join("\n") })
}

fn needs_password(method: Method) -> bool {
    !matches!(method, Method::Tls | Method::Peap(Inner::Tls) | Method::Ttls(Inner::Tls) | Method::Teap(Inner::Tls))
}

fn method_word(method: Method) -> &'static str {
    match method {
        Method::Tls => "TLS",
        Method::Peap(_) => "PEAP",
        Method::Ttls(_) => "TTLS",
        Method::Teap(_) => "TEAP",
    }
}

fn phase_2(method: Method) -> Option<(&'static str, &'static str)> {
    let word = match method.inner()? {
        Inner::Password => "PAP",
        Inner::MsChapV2 => "MSCHAPV2",
        Inner::Gtc => "GTC",
        Inner::Tls => "TLS",
    };
    let bare = matches!(word, "PAP" | "MSCHAPV2") || !matches!(method, Method::Ttls(_));
    Some((if bare { "auth" } else { "autheap" }, word))
}

fn wrapped(text: &str) -> String {
    text.as_bytes().chunks(76).map(String::from_utf8_lossy).collect::<Vec<_>>().join("\n")
}

/// A line break would begin another setting.
fn one_line(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).collect()
}

fn quoted(text: &str) -> String {
    one_line(text).replace('"', "")
}

/// Any bytes may be in an SSID; without quotes they are written in hexadecimal.
fn hex(ssid: &str) -> String {
    ssid.bytes().map(|byte| format!("{byte:02x}")).collect()
}
