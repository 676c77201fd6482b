//! A first policy, of only what somebody says that there is.

use std::io::{BufRead, Write as _};
use std::path::Path;
use std::process::ExitCode;

use regnant_base::{did_you_mean, printable};
use regnant_policy::{IdentityKind, PolicyFiles, Source};
use regnant_service::{Answers, Members, Surroundings, first_policy};

use crate::args;
use crate::check::{checked, of_service, print_report};
use crate::failure::Failure;
use crate::paint::say;
use crate::policy_files;

/// Asks, and writes the policy into a folder that has none; with a service, of what that has alone.
pub(crate) fn run(folder: &Path, service: Option<&args::Api>) -> Result<ExitCode, Failure> {
    if folder.join(regnant_policy::MAIN).exists() {
        return Err(Failure::usage(format!("{} has a policy already; name another folder", folder.display())));
    }
    let around = service.map_or_else(|| Ok(Surroundings::default()), of_service)?;
    say!("What there is, a question at a time; an empty line is: not here.");
    let answers = ask(&mut std::io::stdin().lock(), &around)?;
    let text = first_policy(&answers).map_err(|error| Failure::usage(error.to_string()))?;
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
    fn groups(&mut self, question: &str, known: &[String]) -> Result<Vec<Members>, Failure> {
        let question = match known {
            [] => question.to_owned(),
            known => format!("{question} ({})", shown(known)),
        };
        let mut all: Vec<Members> = Vec::new();
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
            if all.iter().any(|known| known.group.eq_ignore_ascii_case(&group)) {
                return Err(Failure::usage(format!("`{group}` was named before")));
            }
            all.push(Members { group, vlan: vlan(number)? });
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_answer_questions() {
        let whole = "harbour\nharbour-devices\nradius.example\nstaff 20\ncontract \"ors\" 60\n\nnetwork-operators\nnetwork-readers\nstaff\n\
                     cranes 30\ncameras 50\n\n99\nyard\n";
        let answers = ask(&mut whole.as_bytes(), &Surroundings::default()).ok().unwrap();
        assert_eq!((answers.crew.len(), answers.fleet.len(), answers.holding), (2, 2, Some(99)));
        assert_eq!((answers.crew[1].group.as_str(), answers.watched.as_str()), ("contract \"ors\"", "yard"));
        for wrong in ["har bour\n", "h\nd\nc\nstaff\n", "h\nd\nc\nstaff 4095\n", "h\nd\nc\nstaff 20\nStaff 21\n"] {
            assert!(ask(&mut wrong.as_bytes(), &Surroundings::default()).is_err(), "{wrong}");
        }
    }
}
