//! The way to a directory, one step at a time, for whoever connects it.

use std::time::{Instant, SystemTime, UNIX_EPOCH};

use regnant_base::Mac;
use regnant_decision::PasswordAnswer;
use regnant_outside::{Step, shown_certificate};
use regnant_policy::IdentityKind;
use tokio::time::timeout;

use crate::answers::Trouble;
use crate::connection::{Question, bind_to_search, connect, search};
use crate::groups;
use crate::names::LONGEST_NAME;
use crate::passwords::PasswordTimes;
use crate::servers::Servers;
use crate::store::{Directory, Inner};

/// Whom a test looks for.
#[derive(Clone, Debug, Default)]
pub struct Probe {
    /// A person or a machine of this name.
    pub name: Option<(IdentityKind, String)>,
    /// Their password.
    pub password: Option<String>,
}

impl Directory {
    /// Goes the way to every server, and to an account; the first step that fails at a server is
    /// its last.
    pub async fn probe(&self, probe: Probe) -> Vec<Step> {
        let inner = self.inner().clone();
        let walked = self.runtime().spawn(async move { walk(&inner, &probe).await });
        walked.await.unwrap_or_else(|_| {
            let trouble = Trouble::Nonsense("it".into());
            vec![failed("read its answer", &trouble, Instant::now())]
        })
    }
}

fn failed(what: &str, trouble: &Trouble, began: Instant) -> Step {
    Step::wrong(what, trouble.to_string(), trouble.advice(), began)
}

async fn walk(inner: &Inner, probe: &Probe) -> Vec<Step> {
    let mut steps = Vec::new();
    let mut reached = false;
    for address in inner.servers.addresses() {
        let url = &address.url;
        let began = Instant::now();
        let (mut ldap, certificate) = match connect(address).await {
            Ok(connected) => connected,
            Err(trouble) => {
                steps.push(failed(&format!("connect to {url}"), &trouble, began));
                continue;
            }
        };
        let shown = certificate.and_then(|der| shown_certificate(&der));
        let saw = format!("it proves who it is: {}", shown.unwrap_or_else(|| "its authority vouches for it".into()));
        steps.push(Step::passed(&format!("connect to {url}"), saw, began));
        let began = Instant::now();
        let limit = inner.settings.limit();
        let late = || Trouble::Late { server: url.clone(), seconds: limit.as_secs() };
        let (name, password) = inner.servers.searcher();
        let bound =
            timeout(limit, bind_to_search(&mut ldap, url, name, password)).await.unwrap_or_else(|_| Err(late()));
        match bound {
            Ok(()) if name.is_empty() => {
                steps.push(Step::passed("search as nobody", "no account is named".into(), began));
            }
            Ok(()) => steps.push(Step::passed(&format!("bind as {name}"), "name and password are right".into(), began)),
            Err(trouble) => {
                steps.push(failed(&format!("bind as {name}"), &trouble, began));
                continue;
            }
        }
        let began = Instant::now();
        let base = &inner.settings.base;
        let question = Question {
            base: base.clone(),
            scope: ldap3::Scope::Base,
            filter: "(objectClass=*)".into(),
            attributes: vec!["objectClass".into()],
            most: 1,
        };
        let found = timeout(limit, search(&mut ldap, url, &question)).await.unwrap_or_else(|_| Err(late()));
        match found {
            Ok(entries) if entries.is_empty() => {
                steps.push(failed(&format!("find {base}"), &Trouble::NoBase(base.clone()), began));
                continue;
            }
            Ok(_) => steps.push(Step::passed(&format!("find {base}"), "it is there".into(), began)),
            Err(trouble) => {
                steps.push(failed(&format!("find {base}"), &trouble, began));
                continue;
            }
        }
        reached = true;
    }
    if reached && !inner.settings.bind_as.is_empty() {
        ends_soon(inner, &mut steps).await;
    }
    if let Some(domain) = &inner.domain {
        for (host, took, made) in domain.probe().await {
            let what = format!("prove this machine to {host}");
            let began = Instant::now().checked_sub(took).unwrap_or_else(Instant::now);
            steps.push(match made {
                Ok(()) => {
                    let saw = format!("{} is believed, and believes it", inner.settings.machine_account);
                    Step::passed(&what, saw, began)
                }
                Err(trouble) => failed(&what, &trouble, began),
            });
        }
    }
    if let (Some((IdentityKind::Mac, name)), true) = (&probe.name, reached) {
        find_device(inner, name, &mut steps).await;
    } else if let (Some((kind, name)), true) = (&probe.name, reached) {
        find(inner, (*kind, name), probe.password.as_deref(), &mut steps).await;
    }
    steps
}

/// So long before its end a password is told of.
const SOON: i64 = 30 * 86_400;

/// Warns where the password of the account that searches ends soon.
async fn ends_soon(inner: &Inner, steps: &mut Vec<Step>) {
    let began = Instant::now();
    let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs() as i64;
    let Ok(PasswordTimes { ends: Some(ends), .. }) = PasswordTimes::of_searcher(inner).await else { return };
    let (what, left) = ("look when its password ends", (ends - now) / 86_400);
    steps.push(match ends - now > SOON {
        true => Step::passed(what, format!("in {left} days"), began),
        false => {
            let advice = "Give it a password that does not end, or change it before: nobody is found from then on.";
            Step::wrong(what, format!("in {left} days"), advice, began)
        }
    });
}

/// Finds a device by its address, in any notation.
async fn find_device(inner: &Inner, name: &str, steps: &mut Vec<Step>) {
    let (what, began) = (format!("find the device {name}"), Instant::now());
    let Ok(mac) = name.parse::<Mac>() else {
        return steps.push(Step::wrong(&what, "that is no MAC address".into(), "Write it in any notation.", began));
    };
    steps.push(match inner.find_device(mac).await {
        Err(trouble) => failed(&what, &trouble, began),
        Ok(None) => {
            let advice = "Look at the filter of devices, at the attribute that holds the address, and at its notation.";
            Step::wrong(&what, "nothing has that address".into(), advice, began)
        }
        Ok(Some(device)) => {
            let groups: Vec<_> =
                device.groups.iter().map(|group| group.to_string().trim_matches('"').to_owned()).collect();
            let barred = if device.barred { ", barred" } else { "" };
            Step::passed(&what, format!("{}{barred}; groups: {}", device.title.read(), groups.join("; ")), began)
        }
    });
}

async fn find(inner: &Inner, (kind, name): (IdentityKind, &str), password: Option<&str>, steps: &mut Vec<Step>) {
    let what = format!("find the {} {name}", if kind == IdentityKind::Machine { "machine" } else { "person" });
    let began = Instant::now();
    if name.is_empty() || name.len() > LONGEST_NAME {
        let saw = format!("a name has 1 to {LONGEST_NAME} bytes");
        return steps.push(Step::wrong(&what, saw, "Nobody with another name is ever looked for.", began));
    }
    let mut entries = match inner.entries(kind, name).await {
        Ok(entries) => entries,
        Err(trouble) => return steps.push(failed(&what, &trouble, began)),
    };
    let entry = match (entries.pop(), entries.pop()) {
        (None, _) => {
            let near = near(inner, kind, name).await;
            let saw =
                near.map_or_else(|| "nobody has it".to_owned(), |near| format!("nobody has it, but `{near}` is there"));
            let advice = "Look at the filter, at the attributes in which the name stands, and at how it is written: a gate \
                          trims a name by `as`.";
            return steps.push(Step::wrong(&what, saw, advice, began));
        }
        (Some(one), Some(other)) => {
            let saw = format!("more than one entry has it: {} and {}", other.name, one.name);
            let advice = "Narrow the search base or the filter, or look one attribute up: nobody knows which is meant.";
            return steps.push(Step::wrong(&what, saw, advice, began));
        }
        (Some(entry), None) if !inner.is_called(kind, &entry, name) => {
            let saw = format!("nobody has it as it is written; {} is near", entry.name);
            let advice = "A name is taken as it stands, case aside: see to spaces and letters that look alike.";
            return steps.push(Step::wrong(&what, saw, advice, began));
        }
        (Some(entry), None) => entry,
    };
    steps.push(Step::passed(&what, entry.name.clone(), began));
    let began = Instant::now();
    let groups = match groups::of(&entry, &inner.settings, &inner.servers).await {
        Ok(groups) => groups,
        Err(trouble) => return steps.push(failed("read its groups", &trouble, began)),
    };
    let names = groups.names(&inner.settings);
    let names: Vec<_> = names.iter().map(|group| group.to_string().trim_matches('"').to_owned()).collect();
    let saw = if names.is_empty() { "it is in none".to_owned() } else { names.join("; ") };
    steps.push(match groups.in_part {
        false => Step::passed("read its groups", saw, began),
        true => {
            let advice =
                "See why a group cannot be read, or how deep groups are in groups: what hangs on others is unanswered.";
            Step::wrong("read its groups", format!("{saw}; and there are more that could not be told"), advice, began)
        }
    });
    let began = Instant::now();
    let what = "read its state";
    steps.push(match inner.state(&entry).await {
        Err(trouble) => failed(what, &trouble, began),
        Ok(state) => match (state.disabled, state.expired) {
            (None, None) => Step::passed(what, "nothing there has it disabled or expired".into(), began),
            (disabled, expired) => {
                let said = |word: &str, by: Option<&str>| by.map(|by| format!("the account is {word}, by {by}"));
                let saw = [said("disabled", disabled), said("expired", expired)];
                let saw = saw.into_iter().flatten().collect::<Vec<_>>().join("; ");
                Step::wrong(what, saw, "It is refused for that, once it has proved itself.", began)
            }
        },
    });
    let Some(password) = password else { return };
    let began = Instant::now();
    let what = "prove its password";
    if password.is_empty() {
        let advice = "An empty password never reaches the directory, which would bind it as nobody.";
        return steps.push(Step::wrong(what, "it is empty".into(), advice, began));
    }
    steps.push(match inner.servers.prove(&entry.name, password).await {
        Ok(PasswordAnswer::Right) => Step::passed(what, "it is right".into(), began),
        Ok(PasswordAnswer::Wrong) => Step::wrong(what, "it is wrong".into(), "Type it again.", began),
        Ok(other) => {
            let saw = match other {
                PasswordAnswer::Disabled => "it is right, and the account is disabled",
                PasswordAnswer::Expired => "it is right, and the account has expired",
                PasswordAnswer::TooOld => "it is right, and too old",
                PasswordAnswer::MustChange => "it is right, and has to be changed first",
                PasswordAnswer::NotNow => "the account may not be used at this hour",
                PasswordAnswer::NotHere => "the account may not be used from here",
                PasswordAnswer::Restricted => "the account may not be used in this way",
                _ => "the account is locked",
            };
            Step::wrong(what, saw.into(), "See to the account in the directory.", began)
        }
        Err(trouble) => failed(what, &trouble, began),
    });
}

/// A form of the name that somebody has: without realm, domain or what marks a machine.
async fn near(inner: &Inner, kind: IdentityKind, name: &str) -> Option<String> {
    let mut forms = Vec::new();
    forms.extend(name.split_once('@').map(|(user, _)| user));
    forms.extend(name.split_once('\\').map(|(_, user)| user));
    forms.extend(name.strip_prefix("host/").map(|host| host.split('.').next().unwrap_or(host)));
    forms.extend(name.strip_suffix('$'));
    for form in forms.into_iter().filter(|form| !form.is_empty()) {
        if inner.entries(kind, form).await.is_ok_and(|entries| !entries.is_empty()) {
            return Some(form.to_owned());
        }
    }
    None
}

impl Servers {
    /// Whom searches are bound as.
    pub(crate) fn searcher(&self) -> (&str, &regnant_base::Secret) {
        (&self.bind_as, &self.bind_password)
    }
}
