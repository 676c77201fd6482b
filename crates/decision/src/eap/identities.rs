//! Who a conversation proved: by credential, by certificate, by a session that is
//! resumed, or earlier from the same address.

use std::time::{Duration, UNIX_EPOCH};

use regnant_eap::{About, Certificate, CertificateFault, Chain, Claim, IdentityType, InnerOutcome, Standing};
use regnant_policy::{Event, Gate, IdentityKind, Reaction};

use crate::decide::Means;
use crate::eap::offers::{GateOffer, name_form};
use crate::eap::resumption::{IdentityBefore, ProvedBefore};
use crate::eap::session::Proofs;
use crate::facts::request_facts::{Identity, RequestFacts};
use crate::lookup::{Asked, LookUp, LookUpAnswer};
use crate::proof::{Asker, Attempt, Claimed, ProofOutcome, Stop, Tried, kind_of, plain_name, react, seek};
use crate::stores::NoAnswer;

/// The words for how a method proved somebody: `peap, eap-mschapv2`.
pub(crate) fn proof_words(about: &About, inner: &str) -> String {
    match about.method {
        Some(outer) if outer.to_string() != inner => format!("{outer}, {inner}"),
        _ => inner.to_owned(),
    }
}

pub(crate) fn kind_of_type(identity_type: IdentityType) -> IdentityKind {
    match identity_type {
        IdentityType::User => IdentityKind::User,
        IdentityType::Machine => IdentityKind::Machine,
    }
}

/// Checks a credential that the conversation asks about.
pub(crate) async fn check_claim(
    claim: &Claim,
    about: &About,
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) -> ProofOutcome {
    let kind = claim.identity_type.map_or_else(|| kind_of(&claim.name), kind_of_type);
    let outcome = look_up(
        (kind, &claim.name),
        proof_words(about, claim.method),
        (Tried::Credential(&claim.credential), None),
        gate,
        request_facts,
        &mut proofs.lookups,
        means,
    )
    .await;
    proofs.note((kind, claim.identity_type), &claim.name, &outcome, Chain::default());
    outcome
}

/// Judges the certificates that the conversation accepted.
pub(crate) async fn take_certificates(
    about: &About,
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) {
    let outer = about.tls.iter().filter(|tls| !tls.certificates.is_empty()).map(|tls| (None, tls));
    let inner = about
        .inner
        .iter()
        .filter(|inner| inner.outcome == InnerOutcome::Proved)
        .filter_map(|inner| Some((inner.identity_type, inner.tls.as_ref()?)));
    for (identity_type, tls) in outer.chain(inner) {
        take_certificate((&tls.certificates, None), identity_type, about, gate, request_facts, proofs, means).await;
    }
}

async fn take_certificate(
    (chain, only): (&Chain, Option<&str>),
    identity_type: Option<IdentityType>,
    about: &About,
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) -> Option<IdentityKind> {
    let certificate = chain.own()?;
    let places = gate.trust.iter().flat_map(|trust| &trust.names);
    let named = places
        .filter(|(kind, _)| identity_type.is_none_or(|identity_type| kind_of_type(identity_type) == *kind))
        .find_map(|(kind, place)| Some((*kind, *place, certificate.name(name_form(*place))?.to_owned())));
    let (kind, outcome, name) = match named {
        Some((kind, place, name)) => {
            let proof = proof_words(about, "eap-tls");
            let log = &mut proofs.lookups;
            let answer = LookUpAnswer::NamedBy(place.word().into());
            log.push(LookUp { kind, asked: Asked::Certificate, name: name.clone(), answer, held: None });
            let tried = (Tried::Certificate(certificate), only);
            let outcome = look_up((kind, &name), proof, tried, gate, request_facts, log, means).await;
            (kind, outcome, name)
        }
        None => {
            let kind = identity_type.map_or(IdentityKind::User, kind_of_type);
            let name = certificate.subject.clone();
            let (asked, answer) = (Asked::Certificate, LookUpAnswer::CertificateNamesNobody);
            proofs.lookups.push(LookUp { kind, asked, name: name.clone(), answer, held: None });
            (kind, ProofOutcome::not_proved(&name, Event::Unknown), name)
        }
    };
    proofs.note((kind, identity_type), &name, &outcome, chain.clone());
    *request_facts.identity_mut(kind) = outcome.identity;
    if request_facts.known.details.certificate.is_none() || kind == IdentityKind::User {
        request_facts.known.details.certificate = Some(certificate.clone());
    }
    Some(kind)
}

/// Why a chain is not taken.
pub(crate) enum Unjudged {
    /// It does not hold.
    Fault(CertificateFault),
    /// Its issuers could not be asked, for want of room of our own.
    NoRoom,
}

impl From<CertificateFault> for Unjudged {
    fn from(fault: CertificateFault) -> Self {
        Self::Fault(fault)
    }
}

/// Judges a certificate's chain afresh, and asks its issuers where the gate wants
/// that.
pub(crate) async fn judge_chain(
    chain: &Chain,
    offer: &GateOffer,
    asked: &mut Vec<(String, String)>,
    means: Means<'_>,
) -> Result<(), Unjudged> {
    let (Some(trust), false) = (&offer.trust, chain.is_empty()) else { return Ok(()) };
    let now = UNIX_EPOCH + Duration::from_millis(means.resources.now);
    for question in trust.questions(chain, now)? {
        let subject = Certificate::read(&question.certificate).map(|read| read.subject).unwrap_or_default();
        let answer = means.resources.responders.ask(&question).await;
        let told = match &answer {
            Ok(Standing::Good) => "good".into(),
            Ok(Standing::Revoked) => "revoked".into(),
            Ok(Standing::Unknown) => "it does not know the certificate".into(),
            Err(none) => none.told().to_string(),
        };
        asked.push((subject, told));
        if let Err(NoAnswer::NoRoom(_)) = answer {
            return Err(Unjudged::NoRoom);
        }
    }
    Ok(trust.judge(chain, now)?)
}

/// The chains that the handshakes of a conversation took.
pub(crate) fn taken_chains(about: &About) -> impl Iterator<Item = &Chain> {
    let proved = about.inner.iter().filter(|inner| inner.outcome == InnerOutcome::Proved);
    let connections = about.tls.iter().chain(proved.filter_map(|inner| inner.tls.as_ref()));
    connections.map(|tls| &tls.certificates)
}

/// Takes everybody whom a resumed session told of, as its first conversation did:
/// who was proved is looked up and judged afresh, and who was not proved stays so.
pub(crate) async fn take_session(
    before: &ProvedBefore,
    about: &About,
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) {
    let age = means.resources.now.saturating_sub(before.at) / 1_000;
    for identity in &before.identities {
        let kind = match identity.chain.own() {
            Some(_) => {
                let chain = (&identity.chain, identity.store.as_deref());
                take_certificate(chain, identity.identity_type, about, gate, request_facts, proofs, means).await
            }
            None => take_password(identity, gate, request_facts, proofs, means).await,
        };
        if let Some(Identity::Proved(proved)) = kind.map(|kind| request_facts.identity_mut(kind)) {
            proved.age = Some(age);
        }
    }
}

async fn take_password(
    before: &IdentityBefore,
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) -> Option<IdentityKind> {
    let IdentityBefore { kind, claimed, name, proof, password_mark, store, .. } = before;
    let outcome = match before.event {
        None => {
            let (claimed, tried) = ((*kind, claimed.as_str()), (Tried::Earlier(*password_mark), store.as_deref()));
            look_up(claimed, proof.clone(), tried, gate, request_facts, &mut proofs.lookups, means).await
        }
        Some(event) => {
            request_facts.known.details.claimed = Some(plain_name(*kind, claimed).to_owned());
            let (asked, answer) = (Asked::Session, LookUpAnswer::NotProvedBefore(event));
            proofs.lookups.push(LookUp { kind: *kind, asked, name: name.clone(), answer, held: None });
            ProofOutcome::not_proved(name, event)
        }
    };
    proofs.note((*kind, None), claimed, &outcome, Chain::default());
    *request_facts.identity_mut(*kind) = outcome.identity;
    Some(*kind)
}

/// A machine that proved itself from this address not long ago.
pub(crate) async fn recall_machine(
    gate: &Gate,
    offer: &GateOffer,
    request_facts: &mut RequestFacts<'_>,
    proofs: &mut Proofs,
    means: Means<'_>,
) -> Result<(), Stop> {
    let (Some(seconds), Some(mac), Some(clause), Identity::Absent) = (
        gate.remember_machine,
        request_facts.request.mac,
        gate.identify(IdentityKind::Machine),
        request_facts.identity(IdentityKind::Machine),
    ) else {
        return Ok(());
    };
    let oldest = means.resources.now.saturating_sub(u64::from(seconds) * 1_000);
    let seen = means.resources.machines.recall(mac, oldest).filter(|seen| seen.is_taken_by(gate));
    let Some(seen) = seen else { return Ok(()) };
    let proof = format!("remembered, {}", seen.proof);
    // Whether it still holds is what a silent store, or issuer, did not say. A gate
    // that insists on machines does not go on without an answer.
    let unanswered = |request_facts: &mut RequestFacts<'_>, identity| {
        request_facts.known.machine = identity;
        match clause.reaction(Event::Absent) {
            Reaction::Continue => Ok(()),
            _ => react(clause, Some(Event::Unreachable)),
        }
    };
    match judge_chain(&seen.chain, offer, &mut proofs.asked, means).await {
        Ok(()) => {}
        Err(Unjudged::NoRoom) => return react(clause, Some(Event::NoRoom)),
        Err(Unjudged::Fault(CertificateFault::RevocationUnknown)) => {
            return unanswered(request_facts, Identity::NotProved { claimed: seen.name, event: Event::Unreachable });
        }
        Err(Unjudged::Fault(_)) => return Ok(()),
    }
    let own = seen.chain.own().cloned();
    // A chain that cannot be read any more proves nothing.
    if own.is_none() && !seen.chain.is_empty() {
        return Ok(());
    }
    let from = Asker::of(request_facts);
    let (claimed, log) = (Claimed::plain(seen.name), &mut proofs.lookups);
    // Another store may have another of that name.
    let mut attempt = Attempt { claimed, proof, clause, from, log, only: Some(&seen.store) };
    let outcome = attempt.run(proved_by(own.as_deref(), seen.password_mark), means).await;
    match (outcome.identity, outcome.event) {
        (Identity::Proved(mut proved), _) => {
            proved.age = Some(means.resources.now.saturating_sub(seen.at) / 1_000);
            request_facts.known.machine = Identity::Proved(proved);
        }
        (identity, Some(Event::Unreachable)) => return unanswered(request_facts, identity),
        (_, no_room @ Some(Event::NoRoom)) => return react(clause, no_room),
        // What is only remembered proves nothing against anybody: where it does not
        // hold any more, no machine was presented.
        _ => {}
    }
    Ok(())
}

/// What an earlier proof stands for: a certificate that is judged anew, or the
/// password of that time.
fn proved_by(own: Option<&Certificate>, password_mark: u64) -> Tried<'_> {
    own.map_or(Tried::Earlier(password_mark), Tried::Certificate)
}

async fn look_up(
    (kind, claimed): (IdentityKind, &str),
    proof: String,
    (tried, only): (Tried<'_>, Option<&str>),
    gate: &Gate,
    request_facts: &mut RequestFacts<'_>,
    log: &mut Vec<LookUp>,
    means: Means<'_>,
) -> ProofOutcome {
    match seek(kind, claimed, gate, request_facts, log) {
        Ok((clause, claimed)) => {
            let from = Asker::of(request_facts);
            Attempt { claimed, proof, clause, from, log, only }.run(tried, means).await
        }
        Err(outcome) => outcome,
    }
}
