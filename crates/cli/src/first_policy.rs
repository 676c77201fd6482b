//! A first policy, of only what somebody says that there is.

use std::fmt::Write as _;
use std::io::{BufRead, Write as _};
use std::path::Path;
use std::process::ExitCode;

use regnant_base::{did_you_mean, printable};
use regnant_policy::{IdentityKind, PolicyFiles, Source, format, quoted};
use regnant_service::Surroundings;

use crate::args;
use crate::check::{checked, of_service, print_report};
use crate::failure::Failure;
use crate::paint::say;
use crate::policy_files;

/// What there is; what is empty is not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Answers {
    people: String,
    devices: String,
    /// What tunnels present.
    certificate: String,
    /// A group of people, and the VLAN that they get by 802.1X.
    crew: Vec<(String, u16)>,
    /// A group of devices, and the VLAN that they get at wired ports.
    fleet: Vec<(String, u16)>,
    /// The VLAN of devices that nobody knows.
    holding: Option<u16>,
    /// A site whose wired ports are watched first.
    watched: String,
    /// The group that administers equipment, and the one that looks at it.
    operators: String,
    readers: String,
    /// The group that comes in by VPN.
    remote: String,
}

/// Asks, and writes the policy into a folder that has none; with a service, of what that has alone.
pub(crate) fn run(folder: &Path, service: Option<&args::Api>) -> Result<ExitCode, Failure> {
    if folder.join(regnant_policy::MAIN).exists() {
        return Err(Failure::usage(format!("{} has a policy already; name another folder", folder.display())));
    }
    let around = service.map_or_else(|| Ok(Surroundings::default()), of_service)?;
    say!("What there is, a question at a time; an empty line is: not here.");
    let answers = ask(&mut std::io::stdin().lock(), &around)?;
    let text = write(&answers);
    let text =
        format(&text).map_err(|error| Failure::new(format!("the policy cannot be laid out: {}", error.message)))?;
    let files = PolicyFiles::from(text.as_str());
    policy_files::write(folder, &files, false)?;
    let path = folder.join(regnant_policy::MAIN).display().to_string();
    print_report(&checked(&around, Source::new(&path, &text))?);
    say!("{path} is a beginning: read it, then `regnant policy activate {}`", folder.display());
    Ok(ExitCode::SUCCESS)
}

/// Questions, and the lines that answer them.
struct Questions<'i, I> {
    input: &'i mut I,
}

impl<I: BufRead> Questions<'_, I> {
    fn line(&mut self, question: &str) -> Result<String, Failure> {
        print!("{question}: ");
        let _ = std::io::stdout().flush();
        let mut text = String::new();
        self.input.read_line(&mut text).map_err(|error| Failure::new(format!("nothing can be read: {error}")))?;
        Ok(text.trim().to_owned())
    }

    /// One of these names where any are known, and none where the line is empty. What is not known is asked
    /// again.
    fn one_of(&mut self, question: &str, known: &[String]) -> Result<String, Failure> {
        let question = match known {
            [] => question.to_owned(),
            known => format!("{question} ({})", shown(known)),
        };
        loop {
            let name = self.line(&question)?;
            match known_as(&name, known) {
                Some(name) => return Ok(name),
                None => tell_unknown(&name, known),
            }
        }
    }

    /// Groups with a VLAN each, until an empty line.
    fn groups(&mut self, question: &str, known: &[String]) -> Result<Vec<(String, u16)>, Failure> {
        let question = match known {
            [] => question.to_owned(),
            known => format!("{question} ({})", shown(known)),
        };
        let mut all: Vec<(String, u16)> = Vec::new();
        loop {
            let text = self.line(&question)?;
            let Some((group, number)) = text.rsplit_once(char::is_whitespace) else {
                if text.is_empty() {
                    return Ok(all);
                }
                let message = format!("`{text}` has no VLAN: write a group and a number, such as staff 20");
                return Err(Failure::usage(message));
            };
            let Some(group) = known_as(group.trim(), known) else {
                tell_unknown(group.trim(), known);
                continue;
            };
            if all.iter().any(|(known, _)| known.eq_ignore_ascii_case(&group)) {
                return Err(Failure::usage(format!("`{group}` was named before")));
            }
            all.push((group, vlan(number)?));
        }
    }
}

/// Names in a question.
const MOST_SHOWN: usize = 12;

fn shown(known: &[String]) -> String {
    let first = known.iter().take(MOST_SHOWN).map(String::as_str).collect::<Vec<_>>().join(", ");
    match known.len().saturating_sub(MOST_SHOWN) {
        0 => format!("there are: {first}"),
        more => format!("there are: {first} and {more} more"),
    }
}

/// The name as it is known; any where none are, and the empty one.
fn known_as(name: &str, known: &[String]) -> Option<String> {
    match name.is_empty() || known.is_empty() {
        true => Some(name.to_owned()),
        false => known.iter().find(|one| one.eq_ignore_ascii_case(name)).cloned(),
    }
}

fn tell_unknown(name: &str, known: &[String]) {
    let meant = did_you_mean(name, known.iter().map(String::as_str));
    let meant = meant.map_or(String::new(), |meant| format!("; did you mean {meant}?"));
    say!("  there is no {}{meant}", printable(name));
}

fn ask(input: &mut impl BufRead, around: &Surroundings) -> Result<Answers, Failure> {
    let (mut answers, mut questions) = (Answers::default(), Questions { input });
    let (people, fleet) = (around.groups_of(IdentityKind::User), around.groups_of(IdentityKind::Mac));
    let users = around.stores_of(IdentityKind::User);
    answers.people = name(questions.one_of("The store of people and machines, such as harbour", &users)?)?;
    let devices = around.stores_of(IdentityKind::Mac);
    answers.devices =
        name(questions.one_of("The store of devices by MAC address, such as harbour-devices", &devices)?)?;
    if !answers.people.is_empty() {
        let question = "The certificate that 802.1X presents, by its name (wired ports and wireless)";
        answers.certificate = questions.one_of(question, around.certificates())?;
        if !answers.certificate.is_empty() {
            answers.crew = questions.groups("  A group of people and its VLAN, such as staff 20", &people)?;
        }
        answers.operators = questions.one_of("The group that administers switches, firewalls and the like", &people)?;
        answers.readers = questions.one_of("The group that may look at them", &people)?;
        answers.remote = questions.one_of("The group that comes in by VPN", &people)?;
    }
    if !answers.devices.is_empty() {
        answers.fleet =
            questions.groups("A group of devices at wired ports and its VLAN, such as cameras 50", &fleet)?;
        answers.holding = match questions.line("The VLAN of devices that nobody knows")?.as_str() {
            "" => None,
            text => Some(vlan(text)?),
        };
        if answers.holding.is_some() {
            let question = "A site at which wired ports are watched before they refuse, such as yard";
            answers.watched = questions.one_of(question, &around.sites())?;
        }
    }
    Ok(answers)
}

fn vlan(text: &str) -> Result<u16, Failure> {
    let number = text.parse().ok().filter(|number| (1..=4094).contains(number));
    number.ok_or_else(|| Failure::usage(format!("`{text}` is no VLAN: a number of 1 to 4094")))
}

/// A name that stands bare in a policy.
fn name(text: String) -> Result<String, Failure> {
    let fits = text.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_');
    match fits {
        true => Ok(text),
        false => Err(Failure::usage(format!("`{text}` is no name of a store: letters, digits, - and _"))),
    }
}

/// The name of a grant for a group, by its place among them.
fn grant(kind: &str, place: usize) -> String {
    format!("{kind}-{}", place + 1)
}

fn write(answers: &Answers) -> String {
    let mut policy = String::from("# A first policy. Gates are tried in order, and so are their rules.\n\n");
    grants(answers, &mut policy);
    let mut cases = String::new();
    if !answers.remote.is_empty() {
        login_gate(answers, &mut policy, &mut cases, "vpn", &[(&answers.remote, "remote")]);
    }
    let logins = [(&answers.operators, "operator"), (&answers.readers, "reader")];
    let logins: Vec<_> = logins.into_iter().filter(|(group, _)| !group.is_empty()).collect();
    if !logins.is_empty() {
        login_gate(answers, &mut policy, &mut cases, "login", &logins);
    }
    if !answers.crew.is_empty() {
        people_gate(answers, &mut policy, &mut cases);
    }
    if !answers.fleet.is_empty() || answers.holding.is_some() {
        device_gate(answers, &mut policy, &mut cases);
    }
    if !policy.contains("gate ") {
        policy.push_str("# Nothing is here yet, so that everybody is refused.\ngate nobody { otherwise refuse }\n");
    }
    policy + &cases
}

fn grants(answers: &Answers, policy: &mut String) {
    let mut add = |name: &str, about: &str, says: &str| {
        let _ = writeln!(policy, "# {about}\ngrant {name} {{\n{says}\n}}\n");
    };
    for (place, (group, vlan)) in answers.crew.iter().enumerate() {
        add(&grant("people", place), group, &format!("vlan {vlan}\nreauthenticate 8h"));
    }
    for (place, (group, vlan)) in answers.fleet.iter().enumerate() {
        add(&grant("devices", place), group, &format!("vlan {vlan}"));
    }
    if let Some(vlan) = answers.holding {
        add("holding", "what nobody knows", &format!("vlan {vlan}"));
    }
    if !answers.operators.is_empty() {
        add("operator", "whoever administers equipment", "service administrative\nprivilege 15");
    }
    if !answers.readers.is_empty() {
        add("reader", "whoever looks at it", "service nas-prompt\nprivilege 1");
    }
    if !answers.remote.is_empty() {
        add("remote", "whoever comes in by VPN", "session 8h");
    }
}

/// Logins by a password that the NAS sees, of equipment or of a VPN.
fn login_gate(answers: &Answers, policy: &mut String, cases: &mut String, purpose: &str, groups: &[(&String, &str)]) {
    let title = |given: &str| match given {
        "operator" => "Administrators of equipment",
        "reader" => "Readers of equipment",
        _ => "People from outside",
    };
    let _ = writeln!(
        policy,
        "gate {purpose}s {{\nwhen request.purpose = {purpose}\n\naccept pap\nidentify user in {} as lower(before(claimed.name, \"@\"))\n",
        answers.people
    );
    for (group, given) in groups {
        let (title, group) = (quoted(title(given)), quoted(group));
        let _ = writeln!(policy, "rule {title} {{\nwhen user in group {group}\ngrant {given}\n}}");
        let _ = writeln!(
            cases,
            "\ncase {title} {{\ngiven request.purpose = {purpose}, request.carrier = pap, user.proved = true, user.groups = {{ {group} }}\n\
             expect grant {given} by {title}\n}}"
        );
    }
    policy.push_str("otherwise refuse\n}\n\n");
}

/// 802.1X of people, at wired ports and over the air.
fn people_gate(answers: &Answers, policy: &mut String, cases: &mut String) {
    let _ = writeln!(
        policy,
        "gate people {{\nwhen request.purpose = network and request.carrier = eap\n\naccept peap(eap-mschapv2), ttls(pap)\n\
         present certificate {}\nidentify user in {} as lower(before(claimed.name, \"@\"))\n",
        quoted(&answers.certificate),
        answers.people
    );
    if !answers.devices.is_empty() {
        let _ = writeln!(policy, "identify mac in {}\n", answers.devices);
        barred(policy, cases, "eap", "people");
    }
    for (place, (group, _)) in answers.crew.iter().enumerate() {
        let (title, given, group) = (quoted(&format!("People of {group}")), grant("people", place), quoted(group));
        let _ = writeln!(policy, "rule {title} {{\nwhen user in group {group}\ngrant {given}\n}}");
        let _ = writeln!(
            cases,
            "\ncase {title} {{\ngiven request.purpose = network, request.carrier = eap, device.barred = false, user.proved = true,\n\
             user.groups = {{ {group} }}\nexpect grant {given} by {title}\n}}"
        );
    }
    policy.push_str("otherwise refuse\n}\n\n");
}

/// MAC bypass at wired ports.
fn device_gate(answers: &Answers, policy: &mut String, cases: &mut String) {
    let _ = writeln!(
        policy,
        "gate wired-ports {{\nwhen request.purpose = network and request.medium = wired\n\naccept mac\n\
         identify mac in {} {{ unknown continue }}\n",
        answers.devices
    );
    barred(policy, cases, "mac", "devices");
    for (place, (group, _)) in answers.fleet.iter().enumerate() {
        let (title, given, group) = (quoted(&format!("Devices of {group}")), grant("devices", place), quoted(group));
        let _ = writeln!(policy, "rule {title} {{\nwhen device in group {group}\ngrant {given}\n}}");
        let _ = writeln!(
            cases,
            "\ncase {title} {{\ngiven request.purpose = network, request.medium = wired, request.carrier = mac, device.known = true,\n\
             device.barred = false, device.groups = {{ {group} }}\nexpect grant {given} by {title}\n}}"
        );
    }
    if answers.holding.is_some() {
        policy.push_str("rule \"Devices that nobody knows\" {\nwhen not device.known\ngrant holding\n}\n");
        cases.push_str(
            "\ncase \"Devices that nobody knows\" {\ngiven request.purpose = network, request.medium = wired, request.carrier = mac,\n\
             device.known = false, device.barred = false, device.groups = { }\nexpect grant holding by \"Devices that nobody knows\"\n}\n",
        );
    }
    if !answers.watched.is_empty() {
        let _ = writeln!(policy, "observe when nas.site = {} with grant holding", quoted(&answers.watched));
    }
    policy.push_str("otherwise refuse\n}\n\n");
}

/// What must stay out stays out, whatever else is true.
fn barred(policy: &mut String, cases: &mut String, carrier: &str, of: &str) {
    let medium = if carrier == "mac" { "request.medium = wired, " } else { "" };
    let _ = writeln!(policy, "rule \"Barred {of}\" always {{\nwhen device.barred\nrefuse\n}}");
    let _ = writeln!(
        cases,
        "\ncase \"Barred {of}\" {{\ngiven request.purpose = network, {medium}request.carrier = {carrier}, device.barred = true\n\
         expect refuse by \"Barred {of}\"\n}}"
    );
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every answer, and each left out in turn.
    #[test]
    fn whatever_is_answered_is_a_policy_that_checks_with_a_case_for_each_rule() {
        let whole = "harbour\nharbour-devices\nradius.example\nstaff 20\ncontract \"ors\" 60\n\nnetwork-operators\nnetwork-readers\nstaff\n\
                     cranes 30\ncameras 50\n\n99\nyard\n";
        let answers = ask(&mut whole.as_bytes(), &Surroundings::default()).ok().unwrap();
        assert_eq!((answers.crew.len(), answers.fleet.len(), answers.holding), (2, 2, Some(99)));
        let without: [fn(&mut Answers); 9] = [
            |_| {},
            |a| a.certificate.clear(),
            |a| a.crew.clear(),
            |a| a.fleet.clear(),
            |a| (a.holding, a.watched) = (None, String::new()),
            |a| a.operators.clear(),
            |a| a.readers.clear(),
            |a| a.remote.clear(),
            |a| a.watched.clear(),
        ];
        for change in without {
            let mut some = answers.clone();
            change(&mut some);
            if some.certificate.is_empty() {
                some.crew.clear();
            }
            let text = format(&write(&some)).unwrap();
            assert_eq!(format(&text).unwrap(), text);
            let report = Surroundings::default().check(Source::new("main.writ", &text)).unwrap();
            assert_eq!((report.errors(), report.failed_cases()), (0, 0), "{text}\n{:?}", report.diagnostics);
            assert!(report.uncovered.is_empty(), "{text}\n{:?}", report.uncovered);
        }
        let nothing = format(&write(&Answers::default())).unwrap();
        assert!(nothing.contains("gate nobody { otherwise refuse }"));
        for wrong in ["har bour\n", "h\nd\nc\nstaff\n", "h\nd\nc\nstaff 4095\n", "h\nd\nc\nstaff 20\nStaff 21\n"] {
            assert!(ask(&mut wrong.as_bytes(), &Surroundings::default()).is_err(), "{wrong}");
        }
    }
}
