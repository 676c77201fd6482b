//! Configuration profiles (property lists).

use plist::{Dictionary, Value};

use crate::network::{Inner, Method, Network, Profile, ProfileError};

pub(crate) fn profile(network: &Network) -> Result<Profile, ProfileError> {
    if let Method::Teap(_) = network.method {
        return Err(ProfileError::NotThere { platform: "this platform", what: "TEAP" });
    }
    let anchors: Vec<_> =
        (0..network.authorities.len()).map(|place| network.uuid(&format!("authority {place}"))).collect();
    let mut content: Vec<Value> = network
        .authorities
        .iter()
        .zip(&anchors)
        .map(|(der, uuid)| {
            let mut payload = payload("com.apple.security.root", uuid, "Authority");
            payload.insert("PayloadContent".into(), Value::Data(der.clone()));
            Value::Dictionary(payload)
        })
        .collect();
    content.push(Value::Dictionary(connection(network, &anchors)));
    let mut whole = payload("Configuration", &network.uuid("profile"), &network.title);
    whole.insert("PayloadContent".into(), Value::Array(content));
    let mut bytes = Vec::new();
    plist::to_writer_xml(&mut bytes, &whole).map_err(|error| ProfileError::Write(error.to_string()))?;
    let text = String::from_utf8(bytes).map_err(|error| ProfileError::Write(error.to_string()))?;
    Ok(Profile { file: network.file(".mobileconfig"), media_type: "application/x-apple-aspen-config", text })
}

fn payload(kind: &str, uuid: &str, title: &str) -> Dictionary {
    let mut payload = Dictionary::new();
    payload.insert("PayloadType".into(), kind.into());
    payload.insert("PayloadVersion".into(), Value::Integer(1.into()));
    payload.insert("PayloadIdentifier".into(), format!("regnant.{uuid}").into());
    payload.insert("PayloadUUID".into(), uuid.into());
    payload.insert("PayloadDisplayName".into(), title.into());
    payload
}

fn connection(network: &Network, anchors: &[String]) -> Dictionary {
    let mut eap = Dictionary::new();
    eap.insert("AcceptEAPTypes".into(), Value::Array(vec![Value::Integer(network.method.number().into())]));
    eap.insert("TLSTrustedServerNames".into(), Value::Array(vec![network.server.as_str().into()]));
    let anchors = anchors.iter().map(|uuid| uuid.as_str().into()).collect();
    eap.insert("PayloadCertificateAnchorUUID".into(), Value::Array(anchors));
    eap.insert("TLSMinimumVersion".into(), "1.2".into());
    if network.method.inner().is_some() {
        eap.insert("OuterIdentity".into(), network.outer.as_str().into());
    }
    if let Method::Ttls(inner) = network.method {
        let word = match inner {
            Inner::Password => "PAP",
            Inner::MsChapV2 => "MSCHAPv2",
            Inner::Gtc | Inner::Tls => "EAP",
        };
        eap.insert("TTLSInnerAuthentication".into(), word.into());
    }
    let uuid = network.uuid("connection");
    let mut connection = match &network.ssid {
        Some(ssid) => {
            let mut wireless = payload("com.apple.wifi.managed", &uuid, ssid);
            wireless.insert("SSID_STR".into(), ssid.as_str().into());
            wireless.insert("EncryptionType".into(), "WPA2".into());
            wireless.insert("AutoJoin".into(), Value::Boolean(true));
            wireless
        }
        None => {
            let mut wired = payload("com.apple.firstactiveethernet.managed", &uuid, &network.title);
            wired.insert("Interface".into(), "FirstActiveEthernet".into());
            wired
        }
    };
    connection.insert("EAPClientConfiguration".into(), Value::Dictionary(eap));
    connection
}
