use std::borrow::Cow;
use std::sync::Arc;

use regnant_base::Mac;
use regnant_eap::{Certificate, TlsAbout};
use regnant_policy::{Event, FactId, Facts, IdentityKind, Known, Members, Value};

use crate::added::{Added, AddedFacts, OwnGroups};
use crate::facts::attribute::IdentityAttribute;
use crate::facts::table::{CertificatePart, FactCode, FactTable, Part, Source, TlsPart};
use crate::request::{Carrier, Request};
use crate::stores::{Account, Device};

/// Everything known about one request, as facts.
pub struct RequestFacts<'p> {
    /// Which facts there are.
    pub table: &'p FactTable,
    /// What the request says.
    pub request: Request<'p>,
    /// What was found out about whoever asks.
    pub known: Findings,
    /// Milliseconds since 1970.
    pub now: u64,
}

/// What was found out about whoever asks.
#[derive(Clone, Debug, Default)]
pub struct Findings {
    /// The user.
    pub user: Identity,
    /// The machine.
    pub machine: Identity,
    /// The device.
    pub device: DeviceLookUp,
    /// What stores added about each of them.
    pub added: Added,
    /// What was learned on the way to the proof.
    pub details: ProofDetails,
}

/// What is known of a user or a machine.
#[derive(Clone, Debug, Default)]
pub enum Identity {
    /// Nobody of this kind presented themselves.
    #[default]
    Absent,
    /// Somebody did and is not proved.
    NotProved {
        /// The name that was looked up.
        claimed: String,
        /// What kept them from being proved.
        event: Event,
    },
    /// Somebody is proved.
    Proved(Box<Proved>),
}

/// A proved identity.
#[derive(Clone, Debug)]
pub struct Proved {
    /// The name that was looked up.
    pub claimed: String,
    /// The store that has it.
    pub store: Arc<str>,
    /// What the store says.
    pub account: Account,
    /// The method: `pap`, `teap, eap-tls` and so on.
    pub proof: String,
    /// Seconds since the credential itself was checked, where that was earlier.
    pub age: Option<u64>,
}

impl Identity {
    /// The proved identity, where it is one.
    pub fn proved(&self) -> Option<&Proved> {
        match self {
            Self::Proved(proved) => Some(proved),
            _ => None,
        }
    }
}

/// What was learned on the way to the proof, most of it by EAP.
#[derive(Clone, Debug, Default)]
pub struct ProofDetails {
    /// The method of the conversation.
    pub method: Option<String>,
    /// The methods inside the tunnel.
    pub inner: Vec<String>,
    /// The identity outside the tunnel.
    pub outer: Option<String>,
    /// The identity that was looked up: inside a tunnel, or that a certificate names.
    pub claimed: Option<String>,
    /// The TLS connection.
    pub tls: Option<Arc<TlsAbout>>,
    /// The group of the key exchange, of the first conversation where a session
    /// was resumed without one.
    pub group: Option<String>,
    /// Whether tunnel and inner method were proved to belong together.
    pub bound: Option<bool>,
    /// The certificate that names whoever asks.
    pub certificate: Option<Arc<Certificate>>,
}

/// What is known of the device.
#[derive(Clone, Debug, Default)]
pub enum DeviceLookUp {
    /// No MAC address was sent, or the gate does not look devices up.
    #[default]
    Absent,
    /// A store did not answer.
    Unanswered(Mac),
    /// No store lists it.
    Unlisted(Mac),
    /// This store lists it.
    Listed(Mac, Arc<str>, Arc<Device>),
}

impl Facts for RequestFacts<'_> {
    fn fact(&self, id: FactId) -> Known<Value<'_>> {
        let source = self.table.source(id);
        match source {
            Source::Protocol(place) => self.request.protocol.fact(place, &self.table.schema().definition(id).kind),
            _ => self.own(source),
        }
    }
}

impl RequestFacts<'_> {
    fn own(&self, source: Source) -> Known<Value<'_>> {
        let number = |number: i64| Known::Is(Value::Integer(number));
        let text = |text: &'_ str| Known::Is(Value::Text(Cow::Owned(text.to_owned())));
        let (request, details) = (&self.request, &self.known.details);
        match source {
            Source::NasName => Known::Is(Value::text(&request.nas.name)),
            Source::NasSite => Known::Is(Value::text(&request.nas.site)),
            Source::NasDialect => Known::Is(Value::text(&request.nas.dialect)),
            Source::NasKind => number(request.nas.kind as i64),
            Source::NasAddress => Known::Is(Value::Address(request.address)),
            Source::Carrier => request.carrier.map(|carrier| Value::Integer(carrier as i64)).into(),
            Source::Purpose => request.purpose.map(|purpose| Value::Integer(purpose as i64)).into(),
            Source::Medium => request.medium.map(|medium| Value::Integer(medium as i64)).into(),
            Source::Port => request.port.map(|port| Value::Integer(port.into())).into(),
            Source::Ssid => request.ssid.map(Value::text).into(),
            Source::Mac => request.mac.map(Value::Mac).into(),
            Source::ClaimedName => self.claimed().map(Value::text).into(),
            Source::ClaimedRealm => self.claimed().and_then(realm).map(Value::text).into(),
            Source::ClaimedOuter => details.outer.as_deref().map(Value::text).into(),
            Source::RealmDiffers => self.realm_differs().map(Value::Boolean).into(),
            Source::Method => match (&details.method, request.method) {
                (Some(method), _) => Known::Is(Value::text(method)),
                (None, Some(method)) => text(method.word()),
                _ => Known::Absent,
            },
            Source::InnerMethods if details.inner.is_empty() => Known::Absent,
            Source::InnerMethods => Known::Is(Value::set(details.inner.iter().map(|m| Value::text(m)).collect())),
            Source::User(part) => known_of(&self.known.user, &self.known.added.user, part),
            Source::Machine(part) => known_of(&self.known.machine, &self.known.added.machine, part),
            Source::Certificate(part) => self.certificate(part).into(),
            Source::Tls(part) => self.tls(part).into(),
            Source::NasTags => Known::Is(Value::Set(Members::Borrowed(&request.nas.tags))),
            Source::Attribute(place) => match self.table.attributes().get(place) {
                Some(attribute) => self.attribute(attribute),
                None => Known::Absent,
            },
            Source::DeviceMac
            | Source::DeviceKnown
            | Source::DeviceGroups
            | Source::DeviceBarred
            | Source::DeviceStore
            | Source::DeviceGroupsByStore => self.device(source),
            Source::Now => Known::Is(Value::Instant((self.now / 1_000).cast_signed())),
            Source::Protocol(_) => Known::Absent,
        }
    }

    /// The name that somebody claims: inside a tunnel or by certificate where
    /// there is one. A name outside a tunnel says nothing.
    pub fn claimed(&self) -> Option<&str> {
        let plain = || self.request.claimed().filter(|_| self.request.carrier != Some(Carrier::Eap));
        self.known.details.claimed.as_deref().or_else(plain)
    }

    /// Whether the outer identity names another realm than the inner one; an
    /// outer identity without a realm disagrees with nothing (RFC 7542 section 3).
    fn realm_differs(&self) -> Option<bool> {
        let (outer, inner) = (self.known.details.outer.as_deref()?, self.known.details.claimed.as_deref()?);
        let outer = realm(outer)?;
        Some(realm(inner).is_some_and(|inner| !inner.eq_ignore_ascii_case(outer)))
    }

    fn certificate(&self, part: CertificatePart) -> Option<Value<'_>> {
        let certificate = self.known.details.certificate.as_ref()?;
        let names = |list: &'_ [String]| Value::set(list.iter().map(|name| Value::owned(name.clone())).collect());
        Some(match part {
            CertificatePart::Subject => Value::text(&certificate.subject),
            CertificatePart::CommonName => Value::text(certificate.common_name.as_deref()?),
            CertificatePart::Issuer => Value::text(&certificate.issuer),
            CertificatePart::Serial => Value::text(&certificate.serial),
            CertificatePart::Fingerprint => Value::text(&certificate.fingerprint),
            CertificatePart::SanDns => names(&certificate.dns),
            CertificatePart::SanUpn => names(&certificate.upn),
            CertificatePart::SanEmail => names(&certificate.email),
            CertificatePart::SanUri => names(&certificate.uris),
            CertificatePart::Unit => names(&certificate.units),
            CertificatePart::Extension => {
                let all = certificate.extensions.iter().map(|(oid, value)| Value::owned(format!("{oid}={value}")));
                Value::set(all.collect())
            }
            CertificatePart::Remaining => {
                let left = certificate.not_after - (self.now / 1_000) as i64;
                Value::Duration(u64::try_from(left).unwrap_or(0))
            }
        })
    }

    fn tls(&self, part: TlsPart) -> Option<Value<'_>> {
        let tls = self.known.details.tls.as_ref()?;
        Some(match part {
            TlsPart::Version => Value::owned(tls.version?.to_string()),
            TlsPart::Suite => Value::text(tls.suite.as_deref()?),
            TlsPart::Group => Value::text(self.known.details.group.as_deref()?),
            TlsPart::Resumed => Value::Boolean(tls.resumed),
            TlsPart::Bound => Value::Boolean(self.known.details.bound?),
        })
    }

    fn device(&self, source: Source) -> Known<Value<'_>> {
        let (mac, listed) = match &self.known.device {
            DeviceLookUp::Absent => return Known::Absent,
            DeviceLookUp::Unanswered(mac) if source == Source::DeviceMac => (mac, None),
            DeviceLookUp::Unanswered(_) => return Known::Unanswered,
            DeviceLookUp::Unlisted(mac) => (mac, None),
            DeviceLookUp::Listed(mac, store, device) => (mac, Some((store, device))),
        };
        let added = &self.known.added.device;
        Known::Is(match source {
            Source::DeviceMac => Value::Mac(*mac),
            Source::DeviceKnown => Value::Boolean(listed.is_some()),
            Source::DeviceBarred => Value::Boolean(listed.is_some_and(|(_, device)| device.barred)),
            Source::DeviceStore => return listed.map(|(store, _)| Value::text(store)).into(),
            Source::DeviceGroupsByStore => {
                let own =
                    listed.map_or(("", OwnGroups::NONE), |(store, device)| (&**store, OwnGroups::of_device(device)));
                return added.groups_by_store(own);
            }
            _ => return added.groups(listed.map_or(OwnGroups::NONE, |(_, device)| OwnGroups::of_device(device))),
        })
    }

    /// What is kept of an identity that is proved or listed, or added about it.
    fn attribute<'f>(&'f self, attribute: &IdentityAttribute) -> Known<Value<'f>> {
        let (own, added, unanswered): (&[_], _, _) = match attribute.of {
            IdentityKind::Mac => {
                let (attributes, unanswered) = match &self.known.device {
                    DeviceLookUp::Listed(_, _, device) => (&*device.attributes, false),
                    DeviceLookUp::Unanswered(_) => (&[][..], true),
                    _ => (&[][..], false),
                };
                (attributes, &self.known.added.device, unanswered)
            }
            of => match self.identity(of) {
                Identity::Proved(proved) => (&*proved.account.attributes, self.known.added.of(of), false),
                Identity::NotProved { event: Event::Unreachable, .. } => return Known::Unanswered,
                _ => return Known::Absent,
            },
        };
        let told = match attribute.value(own) {
            Known::Absent => attribute.value(&added.attributes),
            told => told,
        };
        match told {
            Known::Absent if unanswered || added.silent => Known::Unanswered,
            told => told,
        }
    }

    /// Every fact that is not absent and no attribute, as it is kept.
    pub fn kept_facts(&self) -> Vec<(FactCode, Known<Value<'static>>)> {
        let mut kept = Vec::with_capacity(MOST_OFTEN);
        kept.extend(self.table.own().iter().filter_map(|(code, id)| Some((*code, owned(self.fact(*id))?))));
        kept
    }
}

/// As many facts as most requests have, or more.
const MOST_OFTEN: usize = 32;

fn owned(known: Known<Value<'_>>) -> Option<Known<Value<'static>>> {
    Some(match known {
        Known::Absent => return None,
        Known::Is(value) => Known::Is(value.into_owned()),
        Known::Partial(part) => Known::Partial(part.into_owned()),
        Known::Unanswered => Known::Unanswered,
    })
}

/// The realm of a network access identifier (RFC 7542 section 2.2).
fn realm(name: &str) -> Option<&str> {
    name.rsplit_once('@').map(|(_, realm)| realm)
}

fn known_of<'f>(identity: &'f Identity, added: &'f AddedFacts, part: Part) -> Known<Value<'f>> {
    match (part, identity) {
        (Part::Claimed, Identity::NotProved { claimed, .. }) if claimed.is_empty() => Known::Absent,
        (Part::Claimed, Identity::NotProved { claimed, .. }) => Known::Is(Value::text(claimed)),
        (Part::Failure, Identity::NotProved { event, .. }) => Known::Is(Value::text(event.word())),
        (Part::GroupsByStore, Identity::NotProved { .. }) => Known::Absent,
        // A store that did not answer might have proved them.
        (_, Identity::NotProved { event: Event::Unreachable, .. }) => Known::Unanswered,
        (Part::Proved, _) => Known::Is(Value::Boolean(identity.proved().is_some())),
        (Part::Failure, _) | (_, Identity::Absent) => Known::Absent,
        (_, Identity::NotProved { .. }) => Known::Absent,
        (part, Identity::Proved(proved)) => Known::Is(match part {
            Part::Claimed => Value::text(&proved.claimed),
            Part::Name => Value::text(&proved.account.name),
            Part::Store => Value::text(&proved.store),
            Part::Groups => return added.groups(OwnGroups::of(&proved.account)),
            Part::GroupsByStore => return added.groups_by_store((&proved.store, OwnGroups::of(&proved.account))),
            Part::Age => return proved.age.map(Value::Duration).into(),
            _ => Value::text(&proved.proof),
        }),
    }
}

impl RequestFacts<'_> {
    /// What is known of a user or a machine.
    pub fn identity(&self, kind: IdentityKind) -> &Identity {
        if kind == IdentityKind::Machine { &self.known.machine } else { &self.known.user }
    }

    /// The same, to be changed.
    pub fn identity_mut(&mut self, kind: IdentityKind) -> &mut Identity {
        if kind == IdentityKind::Machine { &mut self.known.machine } else { &mut self.known.user }
    }
}
