use regnant_policy::{FactDefinition, FactId, Schema, SentAttribute, Stage, Type};
use serde::{Deserialize, Serialize};

use crate::facts::attribute::IdentityAttribute;
use crate::request::{Carrier, Medium, NasKind, Purpose};

/// Which facts there are and where each comes from.
#[derive(Clone, Debug)]
pub struct FactTable {
    schema: Schema,
    sources: Vec<Source>,
    /// The facts that every protocol has.
    own: Vec<(FactCode, FactId)>,
    /// What is kept of identities beside.
    attributes: Vec<IdentityAttribute>,
}

/// The number of a fact that every protocol has, the same in every release: what the
/// journal keeps is found by it. One that is given up is never given again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct FactCode(pub u32);

impl FactCode {
    /// The name of the NAS.
    pub const NAS_NAME: Self = Self(1);
    /// Its site.
    pub const NAS_SITE: Self = Self(2);
    /// Its dialect.
    pub const NAS_DIALECT: Self = Self(5);
    /// What carries the credential.
    pub const CARRIER: Self = Self(6);
    /// The port.
    pub const PORT: Self = Self(9);
    /// The device's address.
    pub const MAC: Self = Self(11);
    /// The name that somebody claims.
    pub const CLAIMED_NAME: Self = Self(12);
    /// The identity told outside the tunnel.
    pub const CLAIMED_OUTER: Self = Self(14);
    /// The name that was looked up for the user.
    pub const USER_CLAIMED: Self = Self(19);
    /// The proved user's name, as the store writes it.
    pub const USER_NAME: Self = Self(21);
}

/// Where a fact comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Source {
    NasName,
    NasSite,
    NasKind,
    NasAddress,
    NasDialect,
    NasTags,
    Carrier,
    Purpose,
    Medium,
    Port,
    Ssid,
    Mac,
    ClaimedName,
    ClaimedRealm,
    ClaimedOuter,
    RealmDiffers,
    Method,
    InnerMethods,
    User(Part),
    Machine(Part),
    Certificate(CertificatePart),
    Tls(TlsPart),
    DeviceMac,
    DeviceKnown,
    DeviceGroups,
    DeviceBarred,
    DeviceStore,
    DeviceGroupsByStore,
    Now,
    /// What is kept of identities, by its place among those.
    Attribute(usize),
    /// A fact of the protocol, by its place among those.
    Protocol(usize),
}

/// What is known of a user or a machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    Proved,
    Claimed,
    Failure,
    Name,
    Store,
    Groups,
    GroupsByStore,
    Proof,
    Age,
}

/// What an accepted certificate says.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CertificatePart {
    Subject,
    CommonName,
    Issuer,
    Serial,
    Fingerprint,
    SanDns,
    SanUpn,
    SanEmail,
    SanUri,
    Unit,
    Extension,
    Remaining,
}

/// What is known of the TLS connection.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum TlsPart {
    Version,
    Suite,
    Group,
    Resumed,
    Bound,
}

impl FactTable {
    /// The facts of this crate, what is kept of identities, and those that a protocol has
    /// beside them, in its order.
    pub fn new(attributes: Vec<IdentityAttribute>, protocol: impl IntoIterator<Item = FactDefinition>) -> Self {
        let mut definitions = Vec::new();
        let (mut sources, mut own) = (Vec::new(), Vec::new());
        for (code, name, kind, known, source, meaning) in own_facts() {
            own.push((FactCode(code), FactId(definitions.len() as u16)));
            definitions.push(FactDefinition {
                name: name.into(),
                also: Vec::new(),
                kind,
                known,
                always: name.starts_with("nas.") || name == "time.now",
                meaning: meaning.into(),
            });
            sources.push(source);
        }
        for (place, attribute) in attributes.iter().enumerate() {
            own.push((attribute.code(), FactId(definitions.len() as u16)));
            definitions.push(attribute.definition());
            sources.push(Source::Attribute(place));
        }
        for (place, definition) in protocol.into_iter().enumerate() {
            definitions.push(definition);
            sources.push(Source::Protocol(place));
        }
        Self { schema: Schema::new(definitions), sources, own, attributes }
    }

    /// The same with attributes of the protocol that grants may name.
    #[must_use]
    pub fn with_attributes(self, attributes: impl IntoIterator<Item = (String, SentAttribute)>) -> Self {
        Self { schema: self.schema.with_attributes(attributes), ..self }
    }

    /// The facts as policies see them.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// The place of a fact among those of the protocol, where it is one.
    pub fn place_in_protocol(&self, id: FactId) -> Option<usize> {
        match self.source(id) {
            Source::Protocol(place) => Some(place),
            _ => None,
        }
    }

    /// What is kept of identities.
    pub fn attributes(&self) -> &[IdentityAttribute] {
        &self.attributes
    }

    pub(crate) fn source(&self, id: FactId) -> Source {
        self.sources[usize::from(id.0)]
    }

    /// Every fact that is none of the protocol's.
    pub fn own(&self) -> &[(FactCode, FactId)] {
        &self.own
    }

    /// The number of a fact, where it is none of the protocol's.
    pub fn code(&self, id: FactId) -> Option<FactCode> {
        self.own.iter().find(|(_, own)| *own == id).map(|(code, _)| *code)
    }
}

fn words<T>(list: &[(&'static str, T)]) -> Type {
    Type::Enumeration(list.iter().zip(0..).map(|((word, _), number)| ((*word).to_owned(), number)).collect())
}

#[rustfmt::skip]
fn own_facts() -> Vec<(u32, &'static str, Type, Stage, Source, &'static str)> {
    let names = || Type::Set(Box::new(Type::NAME));
    vec![
        (1, "nas.name", Type::NAME, Stage::FirstPacket, Source::NasName, "The name of the NAS in the inventory."),
        (2, "nas.site", Type::NAME, Stage::FirstPacket, Source::NasSite, "The site where the NAS stands."),
        (3, "nas.kind", words(&NasKind::ALL), Stage::FirstPacket, Source::NasKind, "What the NAS is."),
        (4, "nas.address", Type::Address, Stage::FirstPacket, Source::NasAddress, "The address that the request came from."),
        (5, "nas.dialect", Type::NAME, Stage::FirstPacket, Source::NasDialect, "The dialect that grants for the NAS are rendered in."),
        (6, "request.carrier", words(&Carrier::ALL), Stage::FirstPacket, Source::Carrier, "What carries the credential. It is `mac` where User-Name is a MAC address equal to Calling-Station-Id, and Service-Type is Call-Check or the password is that same name; the NAS's dialect says in which ways."),
        (7, "request.purpose", words(&Purpose::ALL), Stage::FirstPacket, Source::Purpose, "What is asked for: a network, a login or a VPN; see the table below."),
        (8, "request.medium", words(&Medium::ALL), Stage::FirstPacket, Source::Medium, "Over what the request came, by NAS-Port-Type."),
        (9, "request.port", Type::Integer, Stage::FirstPacket, Source::Port, "NAS-Port, or the last number of NAS-Port-Id."),
        (10, "request.ssid", Type::Text { ignore_case: false }, Stage::FirstPacket, Source::Ssid, "The wireless network, from Called-Station-Id."),
        (11, "request.mac", Type::Mac, Stage::FirstPacket, Source::Mac, "The device's MAC address, from Calling-Station-Id."),
        (12, "claimed.name", Type::NAME, Stage::Proof, Source::ClaimedName, "The name that somebody claims, before any proof; inside a tunnel or by certificate where there is one."),
        (13, "claimed.realm", Type::NAME, Stage::Proof, Source::ClaimedRealm, "The realm of the claimed name, after its last @."),
        (14, "claimed.outer", Type::NAME, Stage::Proof, Source::ClaimedOuter, "The identity told outside the tunnel, often anonymous."),
        (15, "claimed.realm-differs", Type::Boolean, Stage::Proof, Source::RealmDiffers, "Whether the realms outside and inside the tunnel disagree."),
        (16, "request.method", Type::NAME, Stage::Proof, Source::Method, "The method that proved somebody: eap-tls, peap, pap."),
        (17, "request.inner-methods", names(), Stage::Proof, Source::InnerMethods, "The methods inside the tunnel."),
        (18, "user.proved", Type::Boolean, Stage::Proof, Source::User(Part::Proved), "Whether a user proved who they are."),
        (19, "user.claimed", Type::NAME, Stage::Proof, Source::User(Part::Claimed), "The name that was looked up for the user."),
        (20, "user.failure", Type::NAME, Stage::Proof, Source::User(Part::Failure), "The event that kept the user from being proved."),
        (21, "user.name", Type::NAME, Stage::Proof, Source::User(Part::Name), "The proved user's name, as the store writes it."),
        (22, "user.store", Type::NAME, Stage::Proof, Source::User(Part::Store), "The store that proved the user."),
        (23, "user.groups", names(), Stage::Proof, Source::User(Part::Groups), "The proved user's groups."),
        (24, "user.proof", Type::NAME, Stage::Proof, Source::User(Part::Proof), "The method that proved the user."),
        (25, "user.age", Type::Duration, Stage::Proof, Source::User(Part::Age), "How long ago the user's credential was checked, where a session was resumed."),
        (26, "machine.proved", Type::Boolean, Stage::Proof, Source::Machine(Part::Proved), "Whether a machine proved itself, in this conversation or as remembered."),
        (27, "machine.claimed", Type::NAME, Stage::Proof, Source::Machine(Part::Claimed), "The name that was looked up for the machine."),
        (28, "machine.failure", Type::NAME, Stage::Proof, Source::Machine(Part::Failure), "The event that kept the machine from being proved."),
        (29, "machine.name", Type::NAME, Stage::Proof, Source::Machine(Part::Name), "The proved machine's name, as the store writes it."),
        (30, "machine.store", Type::NAME, Stage::Proof, Source::Machine(Part::Store), "The store that knows the machine."),
        (31, "machine.groups", names(), Stage::Proof, Source::Machine(Part::Groups), "The proved machine's groups."),
        (32, "machine.proof", Type::NAME, Stage::Proof, Source::Machine(Part::Proof), "The method that proved the machine; `remembered, ...` where it did so earlier."),
        (33, "machine.age", Type::Duration, Stage::Proof, Source::Machine(Part::Age), "How long ago a remembered machine proved itself."),
        (34, "certificate.subject", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Subject), "The subject of the accepted certificate."),
        (35, "certificate.common-name", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::CommonName), "The subject's common name."),
        (36, "certificate.issuer", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Issuer), "Who issued it."),
        (37, "certificate.serial", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Serial), "Its serial number in hexadecimal."),
        (38, "certificate.fingerprint", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Fingerprint), "SHA-256 over it, in hexadecimal."),
        (39, "certificate.san-dns", names(), Stage::Proof, Source::Certificate(CertificatePart::SanDns), "Its DNS names."),
        (40, "certificate.san-upn", names(), Stage::Proof, Source::Certificate(CertificatePart::SanUpn), "Its user principal names."),
        (41, "certificate.san-email", names(), Stage::Proof, Source::Certificate(CertificatePart::SanEmail), "Its mail addresses."),
        (42, "certificate.remaining", Type::Duration, Stage::Proof, Source::Certificate(CertificatePart::Remaining), "How long it is valid still."),
        (43, "tls.version", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Version), "The version of TLS: `TLS 1.2` or `TLS 1.3`."),
        (44, "tls.suite", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Suite), "The cipher suite, as IANA names it."),
        (45, "tls.group", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Group), "The group of the key exchange."),
        (46, "tls.resumed", Type::Boolean, Stage::Proof, Source::Tls(TlsPart::Resumed), "Whether an earlier session was resumed."),
        (47, "tls.bound", Type::Boolean, Stage::End, Source::Tls(TlsPart::Bound), "Whether tunnel and inner method were proved to belong together; told after the rules."),
        (48, "device.mac", Type::Mac, Stage::Proof, Source::DeviceMac, "The MAC address that was looked up."),
        (49, "device.known", Type::Boolean, Stage::Proof, Source::DeviceKnown, "Whether a store lists the device."),
        (50, "device.groups", names(), Stage::Proof, Source::DeviceGroups, "The device's groups; none where it is not listed."),
        (51, "device.barred", Type::Boolean, Stage::Proof, Source::DeviceBarred, "Whether the device must stay out."),
        (57, "device.store", Type::NAME, Stage::Proof, Source::DeviceStore, "The store that lists the device."),
        (58, "user.groups-by-store", names(), Stage::Proof, Source::User(Part::GroupsByStore), "The user's groups where a `lookup` added some, each as `GROUP of STORE`; what `in group \"GROUP\" of STORE` asks then."),
        (59, "machine.groups-by-store", names(), Stage::Proof, Source::Machine(Part::GroupsByStore), "The machine's, likewise."),
        (60, "device.groups-by-store", names(), Stage::Proof, Source::DeviceGroupsByStore, "The device's, likewise."),
        (53, "certificate.san-uri", names(), Stage::Proof, Source::Certificate(CertificatePart::SanUri), "Its URIs."),
        (54, "certificate.organizational-unit", names(), Stage::Proof, Source::Certificate(CertificatePart::Unit), "The subject's organizational units."),
        (55, "certificate.extension", names(), Stage::Proof, Source::Certificate(CertificatePart::Extension), "Its extensions beside those of RFC 5280, each OID=VALUE; `certificate.extension \"OID\"` is the value of one: a text, or bytes in hexadecimal."),
        (56, "time.now", Type::Instant, Stage::FirstPacket, Source::Now, "When the request was received: compared with a moment such as `2026-12-01T06:00Z`, or `in` hours of days by the zone's clock."),
        (52, "nas.tags", names(), Stage::FirstPacket, Source::NasTags, "The tags of the NAS in the inventory."),
    ]
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn every_fact_has_a_number_of_its_own() {
        let facts = own_facts();
        assert_eq!(facts.iter().map(|fact| fact.0).collect::<HashSet<_>>().len(), facts.len());
        for (code, name) in [
            (FactCode::NAS_NAME, "nas.name"),
            (FactCode::NAS_SITE, "nas.site"),
            (FactCode::NAS_DIALECT, "nas.dialect"),
            (FactCode::CARRIER, "request.carrier"),
            (FactCode::PORT, "request.port"),
            (FactCode::MAC, "request.mac"),
            (FactCode::CLAIMED_NAME, "claimed.name"),
            (FactCode::CLAIMED_OUTER, "claimed.outer"),
            (FactCode::USER_NAME, "user.name"),
            (FactCode::USER_CLAIMED, "user.claimed"),
        ] {
            assert!(facts.iter().any(|fact| (FactCode(fact.0), fact.1) == (code, name)), "{name}");
        }
    }
}
