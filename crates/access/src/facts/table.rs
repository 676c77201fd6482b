use regnant_policy::{FactDefinition, FactId, Schema, Stage, Type};
use regnant_radius::{Definition, Dictionary, Kind};

use crate::facts::request::{Carrier, Medium, Purpose};
use crate::nas::NasKind;

/// Which facts there are and where each comes from.
#[derive(Clone, Debug)]
pub struct FactTable {
    schema: Schema,
    sources: Vec<Source>,
    dictionary: Dictionary,
}

/// Where a fact comes from.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Source {
    NasName,
    NasSite,
    NasKind,
    NasAddress,
    NasDialect,
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
    EndpointMac,
    EndpointKnown,
    EndpointGroups,
    EndpointBarred,
    /// An attribute by its number.
    Attribute(u8),
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
    /// The facts of this crate and one for each attribute that is no secret.
    pub fn new(dictionary: Dictionary) -> Self {
        let mut definitions = Vec::new();
        let mut sources = Vec::new();
        for (name, kind, known, source, meaning) in own_facts() {
            definitions.push(FactDefinition { name: name.into(), kind, known, meaning: meaning.into() });
            sources.push(source);
        }
        for attribute in dictionary.definitions().iter().filter(|attribute| !attribute.secret) {
            definitions.push(FactDefinition {
                name: format!("request.{}", attribute.name),
                kind: attribute_type(attribute),
                known: Stage::FirstPacket,
                meaning: format!("The attribute {} as the NAS sent it ({}).", attribute.name, attribute.rfc),
            });
            sources.push(Source::Attribute(attribute.number));
        }
        Self { schema: Schema::new(definitions), sources, dictionary }
    }

    /// The facts as policies see them.
    pub fn schema(&self) -> &Schema {
        &self.schema
    }

    /// The attributes.
    pub fn dictionary(&self) -> &Dictionary {
        &self.dictionary
    }

    pub(crate) fn source(&self, id: FactId) -> Source {
        self.sources[usize::from(id.0)]
    }
}

fn attribute_type(attribute: &Definition) -> Type {
    let one = match attribute.kind {
        Kind::Text => Type::Text { ignore_case: attribute.number == regnant_radius::number::USER_NAME },
        Kind::Octets => Type::Text { ignore_case: true },
        Kind::Address => Type::Address,
        Kind::Integer if attribute.values().next().is_some() => {
            Type::Enumeration(attribute.values().map(|(name, number)| (name.to_owned(), number.into())).collect())
        }
        Kind::Integer => Type::Integer,
    };
    if attribute.repeats { Type::Set(Box::new(one)) } else { one }
}

fn words<T>(list: &[(&'static str, T)]) -> Type {
    Type::Enumeration(list.iter().zip(0..).map(|((word, _), number)| ((*word).to_owned(), number)).collect())
}

#[rustfmt::skip]
fn own_facts() -> Vec<(&'static str, Type, Stage, Source, &'static str)> {
    let names = || Type::Set(Box::new(Type::NAME));
    vec![
        ("nas.name", Type::NAME, Stage::FirstPacket, Source::NasName, "The name of the NAS in the inventory."),
        ("nas.site", Type::NAME, Stage::FirstPacket, Source::NasSite, "The site where the NAS stands."),
        ("nas.kind", words(&NasKind::ALL), Stage::FirstPacket, Source::NasKind, "What the NAS is."),
        ("nas.address", Type::Address, Stage::FirstPacket, Source::NasAddress, "The address that the request came from."),
        ("nas.dialect", Type::NAME, Stage::FirstPacket, Source::NasDialect, "The dialect that grants for the NAS are rendered in."),
        ("request.carrier", words(&Carrier::ALL), Stage::FirstPacket, Source::Carrier, "What carries the credential."),
        ("request.purpose", words(&Purpose::ALL), Stage::FirstPacket, Source::Purpose, "What is asked for: a network, a login or a VPN."),
        ("request.medium", words(&Medium::ALL), Stage::FirstPacket, Source::Medium, "Over what the request came, by NAS-Port-Type."),
        ("request.port", Type::Integer, Stage::FirstPacket, Source::Port, "NAS-Port, or the last number of NAS-Port-Id."),
        ("request.ssid", Type::Text { ignore_case: false }, Stage::FirstPacket, Source::Ssid, "The wireless network, from Called-Station-Id."),
        ("request.mac", Type::Mac, Stage::FirstPacket, Source::Mac, "The device's MAC address, from Calling-Station-Id."),
        ("claimed.name", Type::NAME, Stage::Proof, Source::ClaimedName, "The name that somebody claims, before any proof."),
        ("claimed.realm", Type::NAME, Stage::Proof, Source::ClaimedRealm, "The realm of the claimed name, after its last @."),
        ("claimed.outer", Type::NAME, Stage::Proof, Source::ClaimedOuter, "The identity told outside the tunnel, often anonymous."),
        ("claimed.realm-differs", Type::Boolean, Stage::Proof, Source::RealmDiffers, "Whether the realms outside and inside the tunnel disagree."),
        ("request.method", Type::NAME, Stage::Proof, Source::Method, "The method that proved somebody: eap-tls, peap, pap."),
        ("request.inner-methods", names(), Stage::Proof, Source::InnerMethods, "The methods inside the tunnel."),
        ("user.proved", Type::Boolean, Stage::Proof, Source::User(Part::Proved), "Whether a user proved who they are."),
        ("user.claimed", Type::NAME, Stage::Proof, Source::User(Part::Claimed), "The name that was looked up for the user."),
        ("user.failure", Type::NAME, Stage::Proof, Source::User(Part::Failure), "The event that kept the user from being proved."),
        ("user.name", Type::NAME, Stage::Proof, Source::User(Part::Name), "The proved user's name, as the store writes it."),
        ("user.store", Type::NAME, Stage::Proof, Source::User(Part::Store), "The store that proved the user."),
        ("user.groups", names(), Stage::Proof, Source::User(Part::Groups), "The proved user's groups."),
        ("user.proof", Type::NAME, Stage::Proof, Source::User(Part::Proof), "The method that proved the user."),
        ("user.age", Type::Duration, Stage::Proof, Source::User(Part::Age), "How long ago the user's credential was checked, where a session was resumed."),
        ("machine.proved", Type::Boolean, Stage::Proof, Source::Machine(Part::Proved), "Whether a machine proved itself, in this conversation or as remembered."),
        ("machine.claimed", Type::NAME, Stage::Proof, Source::Machine(Part::Claimed), "The name that was looked up for the machine."),
        ("machine.failure", Type::NAME, Stage::Proof, Source::Machine(Part::Failure), "The event that kept the machine from being proved."),
        ("machine.name", Type::NAME, Stage::Proof, Source::Machine(Part::Name), "The proved machine's name, as the store writes it."),
        ("machine.store", Type::NAME, Stage::Proof, Source::Machine(Part::Store), "The store that knows the machine."),
        ("machine.groups", names(), Stage::Proof, Source::Machine(Part::Groups), "The proved machine's groups."),
        ("machine.proof", Type::NAME, Stage::Proof, Source::Machine(Part::Proof), "The method that proved the machine; `remembered, ...` where it did so earlier."),
        ("machine.age", Type::Duration, Stage::Proof, Source::Machine(Part::Age), "How long ago a remembered machine proved itself."),
        ("certificate.subject", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Subject), "The subject of the accepted certificate."),
        ("certificate.common-name", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::CommonName), "The subject's common name."),
        ("certificate.issuer", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Issuer), "Who issued it."),
        ("certificate.serial", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Serial), "Its serial number in hexadecimal."),
        ("certificate.fingerprint", Type::NAME, Stage::Proof, Source::Certificate(CertificatePart::Fingerprint), "SHA-256 over it, in hexadecimal."),
        ("certificate.san-dns", names(), Stage::Proof, Source::Certificate(CertificatePart::SanDns), "Its DNS names."),
        ("certificate.san-upn", names(), Stage::Proof, Source::Certificate(CertificatePart::SanUpn), "Its user principal names."),
        ("certificate.san-email", names(), Stage::Proof, Source::Certificate(CertificatePart::SanEmail), "Its mail addresses."),
        ("certificate.remaining", Type::Duration, Stage::Proof, Source::Certificate(CertificatePart::Remaining), "How long it is valid still."),
        ("tls.version", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Version), "The version of TLS: `TLS 1.2` or `TLS 1.3`."),
        ("tls.suite", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Suite), "The cipher suite, as IANA names it."),
        ("tls.group", Type::NAME, Stage::Proof, Source::Tls(TlsPart::Group), "The group of the key exchange."),
        ("tls.resumed", Type::Boolean, Stage::Proof, Source::Tls(TlsPart::Resumed), "Whether an earlier session was resumed."),
        ("tls.bound", Type::Boolean, Stage::End, Source::Tls(TlsPart::Bound), "Whether tunnel and inner method were proved to belong together; told after the rules."),
        ("endpoint.mac", Type::Mac, Stage::Proof, Source::EndpointMac, "The MAC address that was looked up."),
        ("endpoint.known", Type::Boolean, Stage::Proof, Source::EndpointKnown, "Whether a store lists the device."),
        ("endpoint.groups", names(), Stage::Proof, Source::EndpointGroups, "The device's groups; none where it is not listed."),
        ("endpoint.barred", Type::Boolean, Stage::Proof, Source::EndpointBarred, "Whether the device must stay out."),
    ]
}
