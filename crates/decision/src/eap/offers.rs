use std::collections::HashMap;
use std::sync::Arc;

use regnant_eap::{IdentityType, InnerOffer, Judgement, NameForm, Offer, ServerTls, Source, Standings, Trust};
use regnant_policy::{
    Accepted, CertificateName, Compiled, Gate, IdentityKind, Inner, Method, Revocation, RevocationSource, TrustClause,
};
use thiserror::Error;

/// Certificates and authorities by the names that policies refer to.
#[derive(Clone, Debug, Default)]
pub struct CertificateMaterial {
    /// What we can present.
    pub certificates: HashMap<String, Presentable>,
    /// Whom we can trust.
    pub trusts: HashMap<String, TrustMaterial>,
    /// Where answers of issuers' responders are found.
    pub standings: Option<Arc<dyn Standings>>,
}

/// A certificate of ours.
#[derive(Clone)]
pub struct Presentable {
    /// Its chain in DER, its own first.
    pub chain: Vec<Vec<u8>>,
    /// Its private key in DER.
    pub key: regnant_eap::Secret,
    /// An OCSP response for it.
    pub stapled: Option<Vec<u8>>,
}

/// Authorities and revocation lists, in DER.
#[derive(Clone, Debug, Default)]
pub struct TrustMaterial {
    /// The authorities.
    pub authorities: Vec<Vec<u8>>,
    /// Their lists.
    pub crls: Vec<Vec<u8>>,
    /// The responder to ask in place of those that certificates name.
    pub responder: Option<String>,
    /// Whether certificates that are no authorities' vouch too.
    pub whatever: bool,
}

impl std::fmt::Debug for Presentable {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Presentable").field("chain", &self.chain.len()).finish_non_exhaustive()
    }
}

/// What each gate of an edition offers over EAP, ready to begin.
#[derive(Debug, Default)]
pub struct GateOffers {
    gates: Vec<GateOffer>,
}

/// What one gate offers.
#[derive(Clone, Debug, Default)]
pub(crate) struct GateOffer {
    pub(crate) methods: Arc<[Offer]>,
    pub(crate) trust: Option<Arc<Trust>>,
    /// What our own certificate says, where the gate presents one.
    pub(crate) presented: Option<Presented>,
}

/// Our certificate, for people.
#[derive(Clone, Debug)]
pub(crate) struct Presented {
    pub(crate) subject: String,
    pub(crate) issuer: String,
}

impl GateOffers {
    /// Prepares every gate of a policy. One whose certificates cannot be used offers nothing, and is told.
    pub fn prepare(policy: &Compiled, materials: &CertificateMaterial) -> (Self, Vec<OfferProblem>) {
        let mut problems = Vec::new();
        let prepare = |gate| {
            let prepared = GateOffer::prepare(gate, materials);
            prepared.unwrap_or_else(|problem| {
                problems.push(problem);
                GateOffer::default()
            })
        };
        let gates = policy.gates().iter().map(prepare).collect();
        (Self { gates }, problems)
    }

    pub(crate) fn of(&self, gate: usize) -> Option<&GateOffer> {
        self.gates.get(gate)
    }
}

impl GateOffer {
    /// Whether issuers are asked before the verdict.
    pub(crate) fn asks_issuers(&self) -> bool {
        self.trust.as_ref().is_some_and(|trust| trust.asks_issuers())
    }

    fn prepare(gate: &Gate, materials: &CertificateMaterial) -> Result<Self, OfferProblem> {
        let problem = |reason: String| OfferProblem { gate: gate.name.clone(), reason };
        let trust = gate.trust.as_ref().map(|clause| trust(clause, materials)).transpose().map_err(problem)?;
        let tls = match &gate.present {
            None => None,
            Some(name) => {
                let material = materials
                    .certificates
                    .get(name)
                    .ok_or_else(|| problem(format!("there is no certificate `{name}`")))?;
                let made =
                    ServerTls::new(&material.chain, material.key.expose(), material.stapled.clone(), trust.clone());
                Some(made.map_err(|error| problem(format!("certificate `{name}`: {error}")))?)
            }
        };
        let methods = gate.accept.iter().filter_map(|accepted| offer(accepted, gate, tls.as_ref())).collect();
        let presented = tls.as_ref().map(|tls| {
            let certificate = tls.certificate();
            let issuer = certificate.issuer_common_name.clone().unwrap_or_else(|| certificate.issuer.clone());
            Presented { subject: certificate.subject.clone(), issuer }
        });
        Ok(Self { methods, trust, presented })
    }
}

fn trust(clause: &TrustClause, materials: &CertificateMaterial) -> Result<Arc<Trust>, String> {
    let material = materials.trusts.get(&clause.name).ok_or_else(|| format!("there is no trust `{}`", clause.name))?;
    let judgement = clause.revocation.as_ref().map(judgement).unwrap_or_default();
    let make = if material.whatever { Trust::whatever } else { Trust::new };
    let made = make(&material.authorities, &material.crls, judgement);
    let trust = made.map_err(|error| format!("trust `{}`: {error}", clause.name))?;
    Ok(Arc::new(match &materials.standings {
        Some(standings) => trust.with_responder(standings.clone(), material.responder.clone()),
        None => trust,
    }))
}

fn judgement(revocation: &Revocation) -> Judgement {
    let source = |source: &RevocationSource| match source {
        RevocationSource::Crl => Source::Crl,
        RevocationSource::Ocsp => Source::Ocsp,
    };
    let sources = revocation.sources.iter().map(source).collect();
    Judgement { sources, unknown_passes: revocation.unreachable_passes }
}

fn offer(accepted: &Accepted, gate: &Gate, tls: Option<&ServerTls>) -> Option<Offer> {
    let inner = || accepted.inner.iter().filter_map(|inner| inner_eap(*inner, tls)).collect::<Arc<[Offer]>>();
    Some(match accepted.method {
        Method::Pap | Method::Chap | Method::MsChap | Method::MsChapV2 | Method::Mac => return None,
        Method::EapMd5 => Offer::Md5,
        Method::EapGtc => Offer::Gtc,
        Method::EapMsChapV2 => Offer::MsChapV2,
        Method::EapTls => Offer::Tls(tls?.clone()),
        Method::Peap => Offer::Peap { tls: tls?.clone(), inner: inner(), bound: accepted.bound },
        Method::Ttls => {
            let inner = accepted.inner.iter().filter_map(|inner| match inner {
                Inner::Pap => Some(InnerOffer::Pap),
                Inner::Chap => Some(InnerOffer::Chap),
                Inner::MsChap => Some(InnerOffer::MsChap),
                Inner::MsChapV2 => Some(InnerOffer::MsChapV2),
                eap => inner_eap(*eap, tls).map(InnerOffer::Eap),
            });
            Offer::Ttls(tls?.clone(), inner.collect())
        }
        Method::Teap => {
            // The machine first: its user may not be there yet.
            let wanted = [(IdentityKind::Machine, IdentityType::Machine), (IdentityKind::User, IdentityType::User)];
            let identities = wanted.iter().filter(|(kind, _)| gate.identify(*kind).is_some()).map(|(_, told)| *told);
            Offer::Teap { tls: tls?.clone(), inner: inner(), identities: identities.collect() }
        }
    })
}

fn inner_eap(inner: Inner, tls: Option<&ServerTls>) -> Option<Offer> {
    Some(match inner {
        Inner::EapMd5 => Offer::Md5,
        Inner::EapGtc => Offer::Gtc,
        Inner::EapMsChapV2 => Offer::MsChapV2,
        Inner::EapTls => Offer::Tls(tls?.clone()),
        Inner::Pap | Inner::Chap | Inner::MsChap | Inner::MsChapV2 | Inner::Password => return None,
    })
}

/// The place in a certificate, as the EAP side calls it.
pub(crate) fn name_form(name: CertificateName) -> NameForm {
    match name {
        CertificateName::SanUpn => NameForm::SanUpn,
        CertificateName::SanEmail => NameForm::SanEmail,
        CertificateName::SanDns => NameForm::SanDns,
        CertificateName::SubjectCn => NameForm::SubjectCn,
    }
}

/// A gate whose certificates cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("gate `{gate}`: {reason}")]
pub struct OfferProblem {
    /// The gate.
    pub gate: String,
    /// Why.
    pub reason: String,
}
