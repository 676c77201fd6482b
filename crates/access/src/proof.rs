//! Proof of identity: which store knows whom, and whether the credential is right.

use regnant_policy::{Event, Facts, Gate, Identify, IdentityKind, Mac, Method, Reaction};
use serde::{Deserialize, Serialize};

use crate::facts::request::Credential;
use crate::facts::situation::{Device, Situation, User};
use crate::stores::{Person, Stores};

/// What one store said, for the journal.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LookUpRecord {
    /// `user` or `mac`.
    pub kind: String,
    /// The store.
    pub store: String,
    /// What was looked up.
    pub name: String,
    /// What it said, in a few words.
    pub answer: String,
}

/// An event that ends the request before any rule is tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Stop {
    pub(crate) kind: IdentityKind,
    pub(crate) event: Event,
    pub(crate) reaction: Reaction,
}

/// Looks up the device, then proves the identity that the method proves. All
/// lookups end before the first rule is tried.
pub(crate) async fn prove<S: Stores>(
    situation: &mut Situation<'_>,
    gate: &Gate,
    method: Method,
    stores: &S,
    log: &mut Vec<LookUpRecord>,
) -> Result<(), Stop> {
    if let (Some(clause), Some(mac)) = (gate.identify(IdentityKind::Mac), situation.derived.mac) {
        situation.device = find_device(clause, mac, stores, log).await;
        if method == Method::Mac {
            let event = match situation.device {
                Device::Unlisted(_) => Some(Event::Unknown),
                Device::Unanswered(_) => Some(Event::Unreachable),
                _ => None,
            };
            react(clause, event)?;
        }
    }
    let Some(clause) = gate.identify(IdentityKind::User) else { return Ok(()) };
    if method.proves() != IdentityKind::User {
        return react(clause, Some(Event::Absent));
    }
    let Some(claimed) = situation.derived.claimed().and_then(|name| clause.name(situation as &dyn Facts, name)) else {
        return react(clause, Some(Event::Absent));
    };
    let mut attempt = Attempt { claimed, method, clause, log };
    let (user, event) = attempt.run(&situation.derived.credential, stores).await;
    situation.user = user;
    react(clause, event)
}

fn react(clause: &Identify, event: Option<Event>) -> Result<(), Stop> {
    let Some(event) = event else { return Ok(()) };
    match clause.reaction(event) {
        Reaction::Continue => Ok(()),
        // After the last store there is no next one.
        Reaction::Next => Err(Stop { kind: clause.kind, event, reaction: Reaction::Refuse(None) }),
        reaction => Err(Stop { kind: clause.kind, event, reaction: reaction.clone() }),
    }
}

async fn find_device<S: Stores>(clause: &Identify, mac: Mac, stores: &S, log: &mut Vec<LookUpRecord>) -> Device {
    let mut silent = false;
    for store in &clause.stores {
        let answer = stores.endpoint(store, mac).await;
        let told = match &answer {
            Ok(Some(endpoint)) if endpoint.barred => "listed, barred".into(),
            Ok(Some(_)) => "listed".into(),
            Ok(None) => "not listed".into(),
            Err(unreachable) => format!("no answer: {unreachable}"),
        };
        log.push(LookUpRecord { kind: "mac".into(), store: store.clone(), name: mac.to_string(), answer: told });
        match answer {
            Ok(Some(endpoint)) => return Device::Listed(mac, endpoint),
            Ok(None) => {}
            Err(_) => silent = true,
        }
    }
    if silent { Device::Unanswered(mac) } else { Device::Unlisted(mac) }
}

/// One try to prove a user.
struct Attempt<'a> {
    claimed: String,
    method: Method,
    clause: &'a Identify,
    log: &'a mut Vec<LookUpRecord>,
}

impl Attempt<'_> {
    async fn run<S: Stores>(&mut self, credential: &Credential, stores: &S) -> (User, Option<Event>) {
        // A MAC address is never a user, whatever a store holds: else everybody
        // who reads a label could sign in.
        if self.claimed.parse::<Mac>().is_ok() {
            return self.failed(Event::Unknown);
        }
        let mut silent = false;
        let mut passed_on = None;
        for store in &self.clause.stores {
            let person = match stores.person(store, &self.claimed).await {
                Ok(Some(person)) => person,
                Ok(None) => {
                    self.note(store, "unknown".into());
                    continue;
                }
                Err(unreachable) => {
                    self.note(store, format!("no answer: {unreachable}"));
                    silent = true;
                    continue;
                }
            };
            let event = match self.check(store, &person, credential, stores).await {
                Ok(None) => {
                    let (claimed, method) = (self.claimed.clone(), self.method);
                    return (User::Proved { claimed, store: store.clone(), person, method }, None);
                }
                Ok(Some(event)) => event,
                Err(()) => {
                    silent = true;
                    continue;
                }
            };
            if *self.clause.reaction(event) != Reaction::Next {
                return self.failed(event);
            }
            passed_on.get_or_insert(event);
        }
        let event = if silent { Event::Unreachable } else { passed_on.unwrap_or(Event::Unknown) };
        self.failed(event)
    }

    /// What is wrong with the person's credential or account; `Err` where the
    /// store did not say.
    async fn check<S: Stores>(
        &mut self,
        store: &str,
        person: &Person,
        credential: &Credential,
        stores: &S,
    ) -> Result<Option<Event>, ()> {
        let (event, told) = match self.credential_event(store, person, credential, stores).await {
            Ok(None) if person.disabled => (Some(Event::Disabled), "right credential; the account is disabled".into()),
            Ok(None) if person.expired => (Some(Event::Expired), "right credential; the account has expired".into()),
            Ok(None) => (None, "right credential".into()),
            Ok(Some((event, told))) => (Some(event), told.to_owned()),
            Err(unreachable) => {
                self.note(store, format!("no answer: {unreachable}"));
                return Err(());
            }
        };
        self.note(store, told);
        Ok(event)
    }

    async fn credential_event<S: Stores>(
        &self,
        store: &str,
        person: &Person,
        credential: &Credential,
        stores: &S,
    ) -> crate::Answer<Option<(Event, &'static str)>> {
        let wrong = Some((Event::Failed, "wrong password"));
        match credential {
            Credential::None => Ok(Some((Event::Failed, "no credential was sent"))),
            Credential::Noise => {
                Ok(Some((Event::Failed, "the password does not decode: the shared secret most likely differs")))
            }
            Credential::Password(password) => {
                let text = std::str::from_utf8(password.expose()).unwrap_or_default();
                if text.parse::<Mac>().is_ok() {
                    return Ok(Some((Event::Failed, "a MAC address is never a password")));
                }
                let right = stores.password_is_right(store, person, password.clone()).await?;
                Ok(if right { None } else { wrong })
            }
            Credential::Chap(response) => Ok(match stores.recoverable_password(store, person).await? {
                None => Some((Event::Unfit, "no recoverable password, which CHAP needs")),
                Some(password) if response.matches(password.expose()) => None,
                Some(_) => wrong,
            }),
        }
    }

    fn note(&mut self, store: &str, answer: String) {
        self.log.push(LookUpRecord { kind: "user".into(), store: store.into(), name: self.claimed.clone(), answer });
    }

    fn failed(&self, event: Event) -> (User, Option<Event>) {
        (User::NotProved { claimed: self.claimed.clone(), event }, Some(event))
    }
}
