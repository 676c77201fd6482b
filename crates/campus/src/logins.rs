//! The harbour's 802.1X scenes: its crew's laptops, a contractor, a machine, and
//! those that stay out.

use regnant_eap::{ClientTls, Login, PeerMethod, Tunnelled};

use crate::certificates::{DemoCertificates, DemoCertificatesError};
use crate::enforce::Enforced;
use crate::harbour::*;
use crate::story::{DHCP, DNS_TCP, DNS_UDP, Expected, NOTHING_ELSE, Scene, holding_rules};
use regnant_client::{Ask, Supplicant};

const IDA: (&str, &str) = ("ida.marsh", "Tide-Table-61");
const TOM: (&str, &str) = ("tom.reed", "Winch-Oil-48");
const SAM: (&str, &str) = ("sam.drift", "Rope-Ends-13");
const LEE: (&str, &str) = ("lee.gone", "Old-Badge-77");
const LAPTOP: (&str, &str) = ("host/quay-laptop-7", "Keel-Plate-55");
const OUTSIDE: &str = "anonymous@tarnmouth.example";

const NILS: (&str, &str) = ("nils.ferry", "Stamp-Pad-35");
const MARA: (&str, &str) = ("mara.quay", "Dry-Dock-82");
const OTHER_LAPTOP: (&str, &str) = ("host/quay-laptop-9", "Keel-Plate-59");

/// What the asset register decides.
pub(crate) fn register_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    let ask =
        teap(Some(TOM), Some(OTHER_LAPTOP), certificates.client("authority.pem", None, None)?, "02-00-5E-10-00-0F");
    let title = "a laptop that the register calls not compliant";
    Ok(vec![Scene { title, nas: QUAY_SW_1, ask, expected: agents() }])
}

/// Those whom the directory alone knows.
pub(crate) fn directory_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    let by_air = |title, who, expected| {
        let ask = ttls(who, certificates.client("authority.pem", None, None)?).with("NAS-Port-Type", "Wireless-802.11");
        Ok::<_, DemoCertificatesError>(Scene { title, nas: MAST_WLC_1, ask, expected })
    };
    Ok(vec![
        by_air("an officer whom the directory alone knows", NILS, customs())?,
        by_air("the same, with realm", ("nils.ferry@tarnmouth.example", NILS.1), customs())?,
        by_air("staff whom the directory alone knows", MARA, crew())?,
        by_air("an officer's wrong password", (NILS.0, "Stamp-Pad-36"), Expected::Refused)?,
    ])
}

/// What comes of those, and of everybody else, while the directory does not answer.
pub(crate) fn silent_directory_scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    let trusting = || certificates.client("authority.pem", None, None);
    let by_air = |ask: Ask| ask.with("NAS-Port-Type", "Wireless-802.11");
    let scene = |title, nas, ask, expected| Scene { title, nas, ask, expected };
    Ok(vec![
        scene(
            "an officer while the directory is silent",
            MAST_WLC_1,
            by_air(ttls(NILS, trusting()?)),
            Expected::NoAnswer,
        ),
        scene("a contractor meanwhile", MAST_WLC_1, by_air(ttls(SAM, trusting()?)), agents()),
        scene("staff meanwhile", QUAY_SW_1, peap(TOM, trusting()?, "02-00-5E-10-00-02"), crew()),
    ])
}

/// Every 802.1X scene in order.
pub(crate) fn scenes(certificates: &DemoCertificates) -> Result<Vec<Scene>, DemoCertificatesError> {
    let trusting = |own| certificates.client("authority.pem", own, None);
    let scene = |title, nas, ask, expected| Scene { title, nas, ask, expected };
    let tls = |title: &str, own: &'static str, address: &str| {
        Ok::<_, DemoCertificatesError>(eap(
            title,
            "host@tarnmouth.example",
            PeerMethod::Tls(trusting(Some(own))?),
            address,
        ))
    };
    let strange = certificates.client("stranger.pem", None, None)?;
    let wireless = |ask: Ask| ask.with("NAS-Port-Type", "Wireless-802.11");
    Ok(vec![
        scene(
            "ida's laptop by certificate",
            MAST_WLC_1,
            wireless(tls("ida.marsh", "ida.marsh", "02-00-5E-10-00-01")?),
            crew(),
        ),
        scene("tom's laptop by password", QUAY_SW_1, peap(TOM, trusting(None)?, "02-00-5E-10-00-02"), crew()),
        scene("a contractor by password in a tunnel", MAST_WLC_1, wireless(ttls(SAM, trusting(None)?)), agents()),
        scene(
            "a harbour laptop and its user at once",
            QUAY_SW_1,
            teap(Some(IDA), Some(LAPTOP), trusting(None)?, "02-00-5E-10-00-07"),
            managed(),
        ),
        scene(
            "a harbour laptop before anybody signs in",
            QUAY_SW_1,
            tls("quay-laptop-7", "quay-laptop-7", "02-00-5E-10-00-08")?,
            machines(),
        ),
        scene("its user a moment later", QUAY_SW_1, peap(IDA, trusting(None)?, "02-00-5E-10-00-08"), managed()),
        scene(
            "a laptop that pretends to be the harbour's",
            QUAY_SW_1,
            teap(Some(TOM), Some((LAPTOP.0, "Keel-Plate-56")), trusting(None)?, "02-00-5E-10-00-09"),
            agents(),
        ),
        scene("a laptop that does not trust us", MAST_WLC_1, wireless(ttls(SAM, strange)), Expected::Refused),
        scene(
            "a certificate that has expired",
            MAST_WLC_1,
            wireless(tls("tom.reed", "expired", "02-00-5E-10-00-0B")?),
            Expected::Refused,
        ),
        scene(
            "a certificate that was revoked",
            MAST_WLC_1,
            wireless(tls("tom.reed", "revoked", "02-00-5E-10-00-0C")?),
            Expected::Refused,
        ),
        scene(
            "a password mistyped in a tunnel",
            QUAY_SW_1,
            peap((TOM.0, "Winch-Oil-49"), trusting(None)?, "02-00-5E-10-00-02"),
            Expected::Refused,
        ),
        scene(
            "an account that is disabled, by 802.1X",
            QUAY_SW_1,
            peap(LEE, trusting(None)?, "02-00-5E-10-00-0D"),
            Expected::Refused,
        ),
        scene(
            "a stolen device with a good password",
            QUAY_SW_1,
            peap(IDA, trusting(None)?, "02-00-5E-40-00-66"),
            Expected::Refused,
        ),
    ])
}

fn eap(title: &str, outer: &str, method: PeerMethod, address: &str) -> Ask {
    Ask::eap(Supplicant::new(title, outer, method), address)
}

fn mschapv2((name, password): (&str, &str)) -> Box<PeerMethod> {
    Box::new(PeerMethod::MsChapV2(Login::new(name, password)))
}

fn peap(who: (&str, &str), tls: ClientTls, address: &str) -> Ask {
    eap(who.0, OUTSIDE, PeerMethod::peap(tls, who.0.into(), mschapv2(who)), address)
}

fn ttls((name, password): (&str, &str), tls: ClientTls) -> Ask {
    let inner = Tunnelled::Password(Login::new(name, password));
    eap(name, OUTSIDE, PeerMethod::Ttls(tls, inner), "02-00-5E-10-00-0A")
}

fn teap(user: Option<(&str, &str)>, machine: Option<(&str, &str)>, tls: ClientTls, address: &str) -> Ask {
    let inner = |who: (&str, &str)| Tunnelled::Eap(who.0.into(), mschapv2(who));
    let title = user.or(machine).map_or("nobody", |(name, _)| name);
    let method = PeerMethod::Teap { tls, user: user.map(inner), machine: machine.map(inner) };
    eap(title, OUTSIDE, method, address)
}

fn enforced(vlan: &str) -> Enforced {
    Enforced { vlan: Some(vlan.into()), ..Enforced::default() }
}

fn crew() -> Expected {
    let filters = vec!["crew".into()];
    Expected::Enforced(Box::new(Enforced { filters, session: Some(8 * 3_600), again: true, ..enforced("20") }))
}

fn customs() -> Expected {
    Expected::Enforced(Box::new(Enforced { rules: holding_rules(), ..enforced("70") }))
}

fn managed() -> Expected {
    Expected::Enforced(Box::new(Enforced { filters: vec!["crew-managed".into()], ..enforced("20") }))
}

fn machines() -> Expected {
    let sign_in = ["tcp", "udp"].map(|protocol| format!("permit in {protocol} from any to 10.44.0.0/24 88,389,636"));
    let rules = [DNS_UDP, DNS_TCP, DHCP, &sign_in[0], &sign_in[1], NOTHING_ELSE].map(str::to_owned).into();
    Expected::Enforced(Box::new(Enforced { rules, ..enforced("20") }))
}

fn agents() -> Expected {
    Expected::Enforced(Box::new(Enforced { rules: holding_rules(), session: Some(4 * 3_600), ..enforced("60") }))
}
