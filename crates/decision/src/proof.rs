//! Proof of identity: which store knows whom, and whether the credential is right.

use std::sync::Arc;
use std::time::{Duration, Instant};

use regnant_base::{Mac, Secret};
use regnant_eap::{Answer as EapAnswer, Certificate, Credential};
use regnant_policy::{Event, Gate, Identify, IdentityKind, Method, Reaction, StoreId};
use zeroize::Zeroizing;

use crate::decide::Means;
use crate::facts::request_facts::{DeviceLookUp, Identity, Proved, RequestFacts};
use crate::guesses::{Admission, Guesser, Held};
use crate::lookup::{Asked, LookUp, LookUpAnswer, Right};
use crate::request::{NoName, Presented};
use crate::stores::{
    Account, Answer, Found, MsChapAnswer, NoAnswer, PasswordAnswer, Store, StoreReply, Unable, within,
};

/// An event that ends the request before any rule is tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Stop {
    pub(crate) kind: IdentityKind,
    pub(crate) event: Event,
    pub(crate) reaction: Reaction,
}

/// Looks up the device, then proves the identity that the method proves; gives the session
/// key, where the method makes one. All lookups end before the first rule is tried.
pub(crate) async fn prove(
    request_facts: &mut RequestFacts<'_>,
    gate: &Gate,
    method: Method,
    means: Means<'_>,
    log: &mut Vec<LookUp>,
) -> Result<Option<Secret>, Stop> {
    look_up_device(request_facts, gate, method == Method::Mac, means, log).await?;
    let mut key = None;
    if method != Method::Mac {
        let (kind, sought) = match request_facts.request.name.ok().filter(|name| !name.is_empty()).map(str::to_owned) {
            Some(claimed) => (kind_of(&claimed), seek(kind_of(&claimed), &claimed, gate, request_facts, log)),
            None => nameless(request_facts, gate, log),
        };
        let outcome = match sought {
            Ok((clause, claimed)) => {
                let (from, proof) = (Asker::of(request_facts), method.word().into());
                let mut attempt = Attempt { claimed, proof, clause, from, log, only: None };
                // On the heap: a MAC bypass, which comes most often, needs none of it.
                Box::pin(attempt.run(Tried::Presented(request_facts.request.presented), means)).await
            }
            Err(outcome) => outcome,
        };
        *request_facts.identity_mut(kind) = outcome.identity;
        react_in(gate, kind, outcome.event)?;
        if let EapAnswer::Right { session_key } = outcome.answer {
            key = session_key;
        }
    }
    react_to_absence(request_facts, gate)?;
    Ok(key)
}

/// The clause that proves whoever claims a name, and the name to look up. A
/// credential that was presented and that nothing here can prove has failed: it
/// is never as good as none.
pub(crate) fn seek<'g>(
    kind: IdentityKind,
    claimed: &str,
    gate: &'g Gate,
    request_facts: &mut RequestFacts<'_>,
    log: &mut Vec<LookUp>,
) -> Result<(&'g Identify, Claimed), ProofOutcome> {
    let plain = plain_name(kind, claimed).to_owned();
    request_facts.known.details.claimed = Some(plain.clone());
    let is_machine = |name: &str| kind == IdentityKind::User && kind_of(name) == IdentityKind::Machine;
    let why = match gate.identify(kind) {
        _ if plain.is_empty() => LookUpAnswer::EmptyName,
        // Whoever says that this is about a user means one: a machine's password opens a machine's door alone.
        _ if is_machine(&plain) => LookUpAnswer::MachineAsUser,
        Some(clause) => match clause.name(request_facts, &plain) {
            Some(name) if is_machine(&name) => LookUpAnswer::MachineAsUser,
            Some(name) => return Ok((clause, Claimed { name, stated: plain })),
            None => LookUpAnswer::NoNameByAs,
        },
        None => LookUpAnswer::NoClause,
    };
    Err(unproved(kind, &plain, why, log))
}

/// A password without a name that can be read.
fn nameless<'g>(
    request_facts: &RequestFacts<'_>,
    gate: &'g Gate,
    log: &mut Vec<LookUp>,
) -> (IdentityKind, Result<(&'g Identify, Claimed), ProofOutcome>) {
    let kind = match gate.identify(IdentityKind::User) {
        None if gate.identify(IdentityKind::Machine).is_some() => IdentityKind::Machine,
        _ => IdentityKind::User,
    };
    let why = match request_facts.request.name {
        Ok(_) => LookUpAnswer::UserNameEmpty,
        Err(NoName::NotText) => LookUpAnswer::UserNameNotUtf8,
        Err(NoName::Missing) => LookUpAnswer::UserNameMissing,
    };
    (kind, Err(unproved(kind, "", why, log)))
}

fn unproved(kind: IdentityKind, name: &str, answer: LookUpAnswer, log: &mut Vec<LookUp>) -> ProofOutcome {
    log.push(LookUp { kind, asked: Asked::NoStore, name: name.to_owned(), answer, held: None });
    ProofOutcome::not_proved(name, Event::Failed)
}

/// What the gate does about an event; where it has no clause for the kind of
/// identity, nobody comes in by it.
pub(crate) fn react_in(gate: &Gate, kind: IdentityKind, event: Option<Event>) -> Result<(), Stop> {
    match (gate.identify(kind), event) {
        (Some(clause), event) => react(clause, event),
        (None, Some(event)) => Err(Stop { kind, event, reaction: Reaction::Refuse(None) }),
        (None, None) => Ok(()),
    }
}

/// Looks the device up; only where it `proves` the request do events count.
pub(crate) async fn look_up_device(
    request_facts: &mut RequestFacts<'_>,
    gate: &Gate,
    proves: bool,
    means: Means<'_>,
    log: &mut Vec<LookUp>,
) -> Result<(), Stop> {
    let (Some(clause), Some(mac)) = (gate.identify(IdentityKind::Mac), request_facts.request.mac) else {
        return Ok(());
    };
    let (device, event) = find_device(clause, mac, &request_facts.request.nas.name, means, log).await;
    request_facts.known.device = device;
    // What could not be asked is never passed over, whether it proves somebody or tells of them.
    react(clause, event.filter(|event| proves || *event == Event::NoRoom))
}

/// A gate may insist that a kind of identity is presented.
pub(crate) fn react_to_absence(request_facts: &RequestFacts<'_>, gate: &Gate) -> Result<(), Stop> {
    for kind in [IdentityKind::User, IdentityKind::Machine] {
        if let (Some(clause), Identity::Absent) = (gate.identify(kind), request_facts.identity(kind)) {
            react(clause, Some(Event::Absent))?;
        }
    }
    Ok(())
}

/// A password identity is a machine's when its name begins `host/` or ends `$`.
pub(crate) fn kind_of(claimed: &str) -> IdentityKind {
    match plain_name(IdentityKind::Machine, claimed).len() == claimed.len() {
        true => IdentityKind::User,
        false => IdentityKind::Machine,
    }
}

/// The name without what marks it as a machine's.
pub(crate) fn plain_name(kind: IdentityKind, claimed: &str) -> &str {
    if kind != IdentityKind::Machine {
        return claimed;
    }
    let rest = match claimed.split_at_checked(5) {
        Some((prefix, rest)) if prefix.eq_ignore_ascii_case("host/") => rest,
        _ => claimed,
    };
    rest.strip_suffix('$').unwrap_or(rest)
}

/// Shorter forms of a name, as other systems write it.
fn forms(kind: IdentityKind, name: &str) -> impl Iterator<Item = &str> {
    let realm = name.rsplit_once('@').map(|(user, _)| user);
    let domain = name.split_once('\\').map(|(_, user)| user);
    let host = name.split_once('.').map(|(host, _)| host).filter(|_| kind == IdentityKind::Machine);
    [realm, domain, host].into_iter().flatten().filter(|form| !form.is_empty())
}

pub(crate) fn react(clause: &Identify, event: Option<Event>) -> Result<(), Stop> {
    let Some(event) = event else { return Ok(()) };
    match clause.reaction(event) {
        Reaction::Continue => Ok(()),
        // After the last store there is no next one.
        Reaction::Next if event != Event::Unreachable => {
            Err(Stop { kind: clause.kind, event, reaction: Reaction::Refuse(None) })
        }
        // There was nothing, or it would have been a proof.
        Reaction::Next | Reaction::UseStale(_) => Err(Stop { kind: clause.kind, event, reaction: Reaction::Silence }),
        reaction => Err(Stop { kind: clause.kind, event, reaction: reaction.clone() }),
    }
}

/// The device, and what keeps it from being known. A store that does not answer might have it barred, so that
/// the walk ends there unless the gate asks the next one; only that one of these lists it counts then.
async fn find_device(
    clause: &Identify,
    mac: Mac,
    asker: &str,
    means: Means<'_>,
    log: &mut Vec<LookUp>,
) -> (DeviceLookUp, Option<Event>) {
    let mut silent = false;
    for id in &clause.stores {
        let answer = match means.stores.get(*id) {
            Ok(store) => means.within(store, store.device(mac, asker)).await,
            Err(gone) => Err(gone),
        };
        let told = match &answer {
            Ok(Some(device)) if device.barred => LookUpAnswer::Barred,
            Ok(Some(device)) if device.expired => LookUpAnswer::ListingExpired,
            Ok(Some(_)) => LookUpAnswer::Listed,
            Ok(None) => LookUpAnswer::NotListed,
            Err(none) => none.told(),
        };
        let (kind, asked, name) = (IdentityKind::Mac, Asked::Store(means.stores.name(*id)), mac.to_string());
        log.push(LookUp { kind, asked, name, answer: told, held: None });
        match answer {
            Ok(Some(device)) if device.barred || !device.expired => {
                return (DeviceLookUp::Listed(mac, means.stores.name(*id), device), None);
            }
            Ok(_) => {}
            Err(none) if *clause.reaction(none.event()) == Reaction::Next => silent = true,
            Err(none) => return (DeviceLookUp::Unanswered(mac), Some(none.event())),
        }
    }
    match silent {
        true => (DeviceLookUp::Unanswered(mac), Some(Event::Unreachable)),
        false => (DeviceLookUp::Unlisted(mac), Some(Event::Unknown)),
    }
}

/// What is held against an account.
#[derive(Clone, Copy)]
pub(crate) enum Tried<'c> {
    /// What a request carries.
    Presented(&'c Presented),
    /// A credential of an EAP conversation.
    Credential(&'c Credential),
    /// A certificate that was accepted.
    Certificate(&'c Certificate),
    /// An earlier proof, and the mark of the password that it was made with.
    Earlier(u64),
}

impl Tried<'_> {
    /// Whether somebody who does not know it may try again and again.
    fn can_be_guessed(self) -> bool {
        matches!(self, Self::Presented(_) | Self::Credential(_))
    }
}

/// What came of a try.
pub(crate) struct ProofOutcome {
    pub(crate) identity: Identity,
    pub(crate) event: Option<Event>,
    /// What the EAP method is told.
    pub(crate) answer: EapAnswer,
}

impl ProofOutcome {
    pub(crate) fn not_proved(name: &str, event: Event) -> Self {
        let identity = Identity::NotProved { claimed: name.to_owned(), event };
        Self { identity, event: Some(event), answer: EapAnswer::Wrong }
    }
}

/// A name that somebody claims.
#[derive(Clone)]
pub(crate) struct Claimed {
    /// The one that is looked up, as the gate's `as` makes it.
    pub(crate) name: String,
    /// The one that was stated.
    pub(crate) stated: String,
}

impl Claimed {
    /// One that is looked up as it was stated.
    pub(crate) fn plain(name: String) -> Self {
        Self { stated: name.clone(), name }
    }
}

/// One try to prove a user or machine.
pub(crate) struct Attempt<'a> {
    pub(crate) claimed: Claimed,
    pub(crate) proof: String,
    pub(crate) clause: &'a Identify,
    pub(crate) from: Asker<'a>,
    pub(crate) log: &'a mut Vec<LookUp>,
    /// The one store that is asked, where somebody was proved by it before.
    pub(crate) only: Option<&'a str>,
}

/// Refusals of those who may guess are told at whole multiples of this, so that time does not tell which names there
/// are and what is kept of them.
const BEAT: Duration = Duration::from_millis(100);

/// How long such a refusal waits still, where what did not happen would have taken so long.
fn until_told(elapsed: Duration, takes: Duration) -> Duration {
    let beats = (elapsed + takes).as_nanos() / BEAT.as_nanos() + 1;
    (BEAT * u32::try_from(beats).unwrap_or(u32::MAX)).saturating_sub(elapsed)
}

/// What came of asking the stores.
struct Walk {
    outcome: ProofOutcome,
    /// Whether one of them found the credential wrong.
    wrong: bool,
}

/// Where an attempt comes from.
#[derive(Clone, Copy)]
pub(crate) struct Asker<'a> {
    nas: &'a str,
    device: Option<Mac>,
}

impl<'a> Asker<'a> {
    pub(crate) fn of(request_facts: &RequestFacts<'a>) -> Self {
        Self { nas: &request_facts.request.nas.name, device: request_facts.request.mac }
    }
}

/// What keeps an account from being proved by a store.
enum Left {
    /// It has none of the name.
    Unknown,
    /// It is not asked about such names.
    OtherRealm,
    Event(Event),
}

/// What is wrong with a credential.
type Fault = (Event, LookUpAnswer);

const WRONG: Fault = (Event::Failed, LookUpAnswer::WrongPassword);
const RIGHT: EapAnswer = EapAnswer::Right { session_key: None };

impl Attempt<'_> {
    /// Tries a credential; whoever guesses is held back.
    pub(crate) async fn run(&mut self, tried: Tried<'_>, means: Means<'_>) -> ProofOutcome {
        if !tried.can_be_guessed() {
            return self.walk(tried, means).await.outcome;
        }
        let begun = Instant::now();
        let name = self.claimed.name.clone();
        let guesser = Guesser { nas: self.from.nas, name: &name, device: self.from.device };
        if let Admission::HeldBack(held) = means.resources.guesses.admit(guesser).await {
            self.note(Asked::NoStore, LookUpAnswer::HeldBack);
            self.held(held);
            return self.failed(Event::HeldBack);
        }
        let walk = self.walk(tried, means).await;
        let event = walk.outcome.event;
        // Counted before anything waits: whoever sends many at once has none of them looked at uncounted.
        match event {
            None => means.resources.guesses.right(guesser),
            Some(Event::Unknown) => self.held(means.resources.guesses.wrong(guesser).await),
            Some(_) if walk.wrong => self.held(means.resources.guesses.wrong(guesser).await),
            Some(_) => {}
        }
        if !matches!(event, None | Some(Event::NoRoom | Event::Unreachable)) {
            // Of a name that nobody has no credential was checked.
            let takes = match event {
                Some(Event::Unknown) => means.stores.check_takes(&self.clause.stores),
                _ => Duration::ZERO,
            };
            means.resources.timer.sleep(until_told(begun.elapsed(), takes)).await;
        }
        walk.outcome
    }

    fn held(&mut self, held: Held) {
        if let Some(last) = self.log.last_mut() {
            last.held = Some(held).filter(|held| held.tells());
        }
    }

    /// Asks one store after the other, until one of them proves somebody or says what keeps them from being
    /// proved. One that does not answer might have said so: the walk ends there, unless the gate asks the next
    /// one. What that says counts only where it proves somebody, or has them disabled after a right credential.
    async fn walk(&mut self, tried: Tried<'_>, means: Means<'_>) -> Walk {
        let mut wrong = false;
        // A MAC address is never a user, whatever a store holds: else everybody
        // who reads a label could sign in.
        if self.claimed.name.parse::<Mac>().is_ok() {
            return Walk { outcome: self.failed(Event::Unknown), wrong };
        }
        let mut silent = false;
        let mut passed_on = None;
        for id in &self.clause.stores {
            let name = means.stores.name(*id);
            if self.only.is_some_and(|only| *only != *name) {
                continue;
            }
            let event = match self.ask_one(*id, tried, means).await {
                Ok(Ok((account, answer))) => {
                    if account.groups_in_part {
                        self.note_store(&name, LookUpAnswer::GroupsInPart);
                    }
                    return Walk { outcome: self.proved(&name, account, answer), wrong };
                }
                Ok(Err(Left::OtherRealm)) => {
                    self.note_store(&name, LookUpAnswer::OtherRealm);
                    continue;
                }
                Ok(Err(Left::Unknown)) => {
                    let near = self.near(*id, means).await;
                    self.note_store(&name, near.map_or(LookUpAnswer::Unknown, LookUpAnswer::UnknownNear));
                    continue;
                }
                Ok(Err(Left::Event(event))) => event,
                Err(none) => {
                    self.note_store(&name, none.told());
                    none.event()
                }
            };
            // Whether the password of one that is locked was right, nobody said.
            wrong |= matches!(event, Event::Failed | Event::Locked);
            silent |= event == Event::Unreachable;
            if *self.clause.reaction(event) != Reaction::Next {
                let counts = !silent || matches!(event, Event::Disabled | Event::NoRoom);
                let event = if counts { event } else { Event::Unreachable };
                return Walk { outcome: self.failed(event), wrong };
            }
            passed_on.get_or_insert(event);
        }
        let event = if silent { Event::Unreachable } else { passed_on.unwrap_or(Event::Unknown) };
        Walk { outcome: self.failed(event), wrong }
    }

    /// What one store says: the account that was proved, or what keeps it from being.
    async fn ask_one(
        &mut self,
        id: StoreId,
        tried: Tried<'_>,
        means: Means<'_>,
    ) -> Answer<Result<(Account, EapAnswer), Left>> {
        let store = means.stores.get(id)?;
        if !store.answers_for(self.clause.kind, &self.claimed.stated) {
            return Ok(Err(Left::OtherRealm));
        }
        let asked = means.within(store, store.account(self.clause.kind, &self.claimed.name, self.from.nas)).await;
        if let (Err(NoAnswer::Silent(_)), Tried::Certificate(presented), Reaction::UseStale(most)) =
            (&asked, tried, self.clause.reaction(Event::Unreachable))
            && let Some((account, age)) = store.stale_account(self.clause.kind, &self.claimed.name, *most)
            && !account.disabled
            && !account.expired
            && self.is_bound(&account, presented)
        {
            // The certificate proves it, not the store.
            self.note_store(&means.stores.name(id), LookUpAnswer::RightByEarlier(age));
            return Ok(Ok((account, RIGHT)));
        }
        let account = match asked? {
            Found::Account(account) => account,
            Found::Nobody => return Ok(Err(Left::Unknown)),
            Found::Several => {
                self.note_store(&means.stores.name(id), LookUpAnswer::Several);
                return Ok(Err(Left::Event(Event::Ambiguous)));
            }
        };
        if let Tried::Certificate(presented) = tried
            && !self.is_bound(&account, presented)
        {
            self.note_store(&means.stores.name(id), LookUpAnswer::NotItsCertificate);
            return Ok(Err(Left::Event(Event::Failed)));
        }
        let right = match tried {
            Tried::Certificate(_) => Right::Certificate,
            Tried::Earlier(_) => Right::Earlier,
            _ => Right::Credential,
        };
        let answer = credential_answer(store, &account, tried, means, self.from.nas).await?;
        let (outcome, told) = match answer {
            Ok(_) if account.disabled => (Err(Left::Event(Event::Disabled)), LookUpAnswer::Disabled(right)),
            Ok(_) if account.expired => (Err(Left::Event(Event::Expired)), LookUpAnswer::Expired(right)),
            Ok(answer) => (Ok((account, answer)), LookUpAnswer::Right(right)),
            Err((event, told)) => (Err(Left::Event(event)), told),
        };
        self.note_store(&means.stores.name(id), told);
        Ok(outcome)
    }

    /// Whether the gate takes a certificate for an account: where it is bound, one that the store has.
    fn is_bound(&self, account: &Account, presented: &Certificate) -> bool {
        !self.clause.bound || account.certificates.iter().any(|kept| kept.is(presented))
    }

    /// A form of the name under which a store has somebody: without a realm, a domain, or what
    /// follows the name of a host.
    async fn near(&self, id: StoreId, means: Means<'_>) -> Option<String> {
        let store = means.stores.get(id).ok()?;
        for form in forms(self.clause.kind, &self.claimed.name) {
            if !store.gives_hints() {
                return None;
            }
            let found = means.within(store, store.account(self.clause.kind, form, self.from.nas)).await;
            if matches!(found, Ok(Found::Account(_))) {
                return Some(form.to_owned());
            }
        }
        None
    }

    fn note_store(&mut self, store: &Arc<str>, answer: LookUpAnswer) {
        self.note(Asked::Store(store.clone()), answer);
    }

    fn note(&mut self, asked: Asked, answer: LookUpAnswer) {
        let (kind, name) = (self.clause.kind, self.claimed.name.clone());
        self.log.push(LookUp { kind, asked, name, answer, held: None });
    }

    fn proved(&self, store: &Arc<str>, account: Account, answer: EapAnswer) -> ProofOutcome {
        let (claimed, proof) = (self.claimed.name.clone(), self.proof.clone());
        let proved = Proved { claimed, store: store.clone(), account, proof, age: None };
        ProofOutcome { identity: Identity::Proved(Box::new(proved)), event: None, answer }
    }

    fn failed(&self, event: Event) -> ProofOutcome {
        ProofOutcome::not_proved(&self.claimed.name, event)
    }
}

async fn credential_answer(
    store: &dyn Store,
    account: &Account,
    tried: Tried<'_>,
    means: Means<'_>,
    asker: &str,
) -> Answer<Result<EapAnswer, Fault>> {
    let failed = |told| Ok(Err((Event::Failed, told)));
    let credential = match tried {
        Tried::Certificate(_) => return Ok(Ok(RIGHT)),
        // Of a password whose change would not show, nothing holds that was proved by it.
        Tried::Earlier(mark) if mark != 0 && mark == account.password_mark => return Ok(Ok(RIGHT)),
        Tried::Earlier(_) => return failed(LookUpAnswer::PasswordChanged),
        Tried::Presented(Presented::Nothing) => return failed(LookUpAnswer::NoCredential),
        Tried::Presented(Presented::Undecodable) => return failed(LookUpAnswer::Undecodable),
        Tried::Presented(Presented::Credential(credential)) | Tried::Credential(credential) => credential,
    };
    let (can, unfit) = (store.capabilities(), |told| Ok(Err((Event::Unfit, told))));
    match credential {
        Credential::Password(password) => {
            let password = as_utf8(password.clone());
            if std::str::from_utf8(password.expose()).unwrap_or_default().parse::<Mac>().is_ok() {
                return failed(LookUpAnswer::MacAsPassword);
            }
            if !can.passwords {
                return unfit(LookUpAnswer::ChecksNoPasswords);
            }
            let answer = means.within(store, store.check_password(account, password, asker)).await?;
            Ok(fault(answer).map_or(Ok(RIGHT), Err))
        }
        Credential::Md5 { .. } if !can.recoverable_passwords => unfit(LookUpAnswer::NoRecoverablePassword),
        Credential::Md5 { .. } => {
            let Some(kept) = means.within(store, store.recoverable_password(account, asker)).await? else {
                return unfit(LookUpAnswer::NoRecoverablePassword);
            };
            Ok(match credential.check_password(kept.password.expose()) {
                answer @ EapAnswer::Right { .. } => fault(kept.standing).map_or(Ok(answer), Err),
                _ => Err(WRONG),
            })
        }
        Credential::MsChap(_) if !can.mschap => unfit(LookUpAnswer::NoNtHash),
        Credential::MsChap(response) => {
            let answer = means.within(store, store.check_mschap(account, response, asker)).await?;
            Ok(match answer {
                MsChapAnswer::Right(key) => Ok(EapAnswer::Right { session_key: Some(key) }),
                // A right one has a key.
                MsChapAnswer::Not(answer) => Err(fault(answer).unwrap_or(WRONG)),
                MsChapAnswer::Unable(Unable::NoHash) => Err((Event::Unfit, LookUpAnswer::NoNtHash)),
                MsChapAnswer::Unable(Unable::UnknownDomain) => Err((Event::Unfit, LookUpAnswer::UnknownDomain)),
                MsChapAnswer::Unable(Unable::OtherAccount) => Err((Event::Unfit, LookUpAnswer::OtherAccount)),
            })
        }
        Credential::Change(_) => unfit(LookUpAnswer::TakesNoNewPassword),
    }
}

/// What keeps a credential from proving somebody.
fn fault(answer: PasswordAnswer) -> Option<Fault> {
    let right = Right::Credential;
    Some(match answer {
        PasswordAnswer::Right => return None,
        PasswordAnswer::Wrong => WRONG,
        PasswordAnswer::Disabled => (Event::Disabled, LookUpAnswer::Disabled(right)),
        PasswordAnswer::Expired => (Event::Expired, LookUpAnswer::Expired(right)),
        PasswordAnswer::TooOld => (Event::Outdated, LookUpAnswer::TooOld),
        PasswordAnswer::MustChange => (Event::Outdated, LookUpAnswer::MustChange),
        PasswordAnswer::Locked => (Event::Locked, LookUpAnswer::Locked),
        PasswordAnswer::NotNow => (Event::Locked, LookUpAnswer::NotNow),
        PasswordAnswer::NotHere => (Event::Locked, LookUpAnswer::NotHere),
        PasswordAnswer::Restricted => (Event::Locked, LookUpAnswer::Restricted),
    })
}

impl Means<'_> {
    /// Waits for a store's answer, for as long as that store may take.
    pub(crate) async fn within<T>(self, store: &dyn Store, reply: StoreReply<'_, T>) -> Answer<T> {
        let late = if store.is_at_hand() { NoAnswer::NoRoom } else { NoAnswer::Silent };
        within((store.time_limit(), late), self.resources.timer, self.deadline, reply).await
    }
}

/// Passwords are kept in UTF-8. Clients that send ISO 8859-1 instead mean the same
/// characters; what they send is hardly ever UTF-8 too.
fn as_utf8(password: Secret) -> Secret {
    match std::str::from_utf8(password.expose()) {
        Ok(_) => password,
        Err(_) => {
            let text = Zeroizing::new(password.expose().iter().map(|byte| char::from(*byte)).collect::<String>());
            Secret::new(text.as_bytes())
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn refusals_are_told_at_beats_and_never_before_what_they_would_have_taken(elapsed in 0..5_000_000u64, takes in 0..500_000u64) {
            let (elapsed, takes) = (Duration::from_micros(elapsed), Duration::from_micros(takes));
            let told = elapsed + until_told(elapsed, takes);
            prop_assert_eq!(told.as_nanos() % BEAT.as_nanos(), 0);
            prop_assert!(told > elapsed + takes && told <= elapsed + takes + BEAT);
        }
    }
}
