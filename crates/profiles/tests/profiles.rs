//! Every profile is opened by a parser that is not ours, and says what it must.
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use regnant_profiles::*;

fn network(method: Method, ssid: Option<&str>) -> Network {
    Network {
        title: "Tarnmouth & crew".into(),
        ssid: ssid.map(str::to_owned),
        server: "radius.tarnmouth.example".into(),
        authorities: vec![b"an authority in DER".to_vec()],
        method,
        outer: "anonymous@tarnmouth.example".into(),
    }
}

const METHODS: [Method; 5] = [
    Method::Tls,
    Method::Peap(Inner::MsChapV2),
    Method::Ttls(Inner::Password),
    Method::Ttls(Inner::MsChapV2),
    Method::Teap(Inner::MsChapV2),
];

#[test]
fn property_lists_name_the_server_and_bring_its_authority() {
    for ssid in [Some("harbour <crew>"), None] {
        for method in METHODS {
            let Ok(profile) = network(method, ssid).profile(Platform::Apple) else {
                assert!(matches!(method, Method::Teap(_)));
                continue;
            };
            let read: plist::Value = plist::from_bytes(profile.text.as_bytes()).unwrap();
            let content = read.as_dictionary().unwrap()["PayloadContent"].as_array().unwrap();
            let authority = content[0].as_dictionary().unwrap();
            assert_eq!(authority["PayloadContent"].as_data(), Some(&b"an authority in DER"[..]));
            let connection = content[1].as_dictionary().unwrap();
            assert_eq!(connection.get("SSID_STR").and_then(|value| value.as_string()), ssid);
            let eap = connection["EAPClientConfiguration"].as_dictionary().unwrap();
            assert_eq!(
                eap["TLSTrustedServerNames"].as_array().unwrap()[0].as_string(),
                Some("radius.tarnmouth.example")
            );
            assert_eq!(eap["PayloadCertificateAnchorUUID"].as_array().unwrap()[0], authority["PayloadUUID"]);
        }
    }
}

#[test]
fn the_same_network_keeps_its_identifiers_and_another_has_others() {
    let text = |ssid| network(Method::Tls, Some(ssid)).profile(Platform::Apple).unwrap().text;
    assert_eq!(text("crew"), text("crew"));
    let uuid = |text: &str| text.split("regnant.").nth(1).unwrap()[..36].to_owned();
    assert_ne!(uuid(&text("crew")), uuid(&text("agents")));
}

#[test]
fn xml_profiles_are_well_formed_and_validate_the_server() {
    for ssid in [Some("harbour <crew> & \u{e9}"), None] {
        for method in METHODS {
            let profile = network(method, ssid).profile(Platform::Windows).unwrap();
            let document = roxmltree::Document::parse(&profile.text).unwrap();
            let root = document.root_element().tag_name().name();
            assert_eq!(root, if ssid.is_some() { "WLANProfile" } else { "LANProfile" });
            let text = |name: &str| {
                document
                    .descendants()
                    .find(|node| node.tag_name().name() == name)
                    .and_then(|node| node.text())
                    .map(str::to_owned)
            };
            assert_eq!(text("ServerNames").as_deref(), Some("radius.tarnmouth.example"));
            let thumbprint = text("TrustedRootCA").or_else(|| text("TrustedRootCAHash")).unwrap();
            assert_eq!(thumbprint.split(' ').count(), 20);
            assert_eq!(text("name").as_deref(), ssid);
        }
    }
}

#[test]
fn keyfiles_and_configurations_hold_no_line_that_a_name_could_add() {
    let evil = "crew\nkey_mgmt=NONE\"";
    for platform in [Platform::WpaSupplicant, Platform::NetworkManager] {
        let profile = network(Method::Peap(Inner::MsChapV2), Some(evil)).profile(platform).unwrap();
        assert!(!profile.text.lines().any(|line| line.trim_start().starts_with("key_mgmt=NONE")), "{}", profile.text);
    }
    let keyfile = network(Method::Ttls(Inner::Password), Some("crew")).profile(Platform::NetworkManager).unwrap().text;
    for line in
        ["[802-1x]", "eap=ttls;", "phase2-auth=pap", "domain-match=radius.tarnmouth.example", "password-flags=1"]
    {
        assert!(keyfile.lines().any(|found| found == line), "{line} in {keyfile}");
    }
}

#[test]
fn a_passpoint_profile_unpacks_to_a_subscription_and_an_authority() {
    let profile = network(Method::Ttls(Inner::Password), Some("crew")).profile(Platform::Android).unwrap();
    let parts = String::from_utf8(STANDARD.decode(&profile.text).unwrap()).unwrap();
    let bodies: Vec<_> = parts
        .split("base64\r\n\r\n")
        .skip(1)
        .map(|part| STANDARD.decode(part.split("\r\n").next().unwrap()).unwrap())
        .collect();
    let tree = String::from_utf8(bodies[0].clone()).unwrap();
    let document = roxmltree::Document::parse(&tree).unwrap();
    assert!(document.descendants().any(|node| node.text() == Some("tarnmouth.example")));
    assert_eq!(bodies[1], b"an authority in DER");
    assert!(network(Method::Tls, Some("crew")).profile(Platform::Android).is_err());
    assert!(network(Method::Ttls(Inner::Password), None).profile(Platform::Android).is_err());
}

#[test]
fn a_profile_without_an_authority_is_none() {
    let mut network = network(Method::Tls, None);
    network.authorities.clear();
    for (_, platform) in Platform::ALL {
        assert_eq!(network.profile(platform), Err(ProfileError::NoAuthority));
    }
}
