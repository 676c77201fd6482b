//! A first policy, of only what somebody says that there is.

use std::fmt::Write as _;

use regnant_policy::{format, quoted};
use serde::{Deserialize, Serialize};
use thiserror::Error;
use utoipa::ToSchema;

/// What there is; what is empty is not.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct Answers {
    /// The store of people and machines.
    pub people: String,
    /// The store of devices by MAC address.
    pub devices: String,
    /// The certificate that 802.1X presents, by its name.
    pub certificate: String,
    /// Groups of people, and the VLAN that each gets by 802.1X.
    pub crew: Vec<Members>,
    /// Groups of devices, and the VLAN that each gets at wired ports.
    pub fleet: Vec<Members>,
    /// The VLAN of devices that nobody knows.
    pub holding: Option<u16>,
    /// A site whose wired ports are watched first.
    pub watched: String,
    /// The group that administers equipment.
    pub operators: String,
    /// The group that looks at it.
    pub readers: String,
    /// The group that comes in by VPN.
    pub remote: String,
}

/// A group and its VLAN.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Members {
    /// The group.
    pub group: String,
    /// The VLAN, 1 to 4094.
    pub vlan: u16,
}

/// Why no policy can be made of answers.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum AnswersError {
    /// A store's name cannot stand in a policy.
    #[error("`{0}` is no name of a store: letters, digits, - and _")]
    Store(String),
    /// There is no such VLAN.
    #[error("`{0}` is no VLAN: a number of 1 to 4094")]
    Vlan(u16),
    /// A group would have two VLANs.
    #[error("`{0}` was named before")]
    Twice(String),
}

impl Answers {
    fn check(&self) -> Result<(), AnswersError> {
        let bare = |text: &str| text.chars().all(|c| c.is_alphanumeric() || c == '-' || c == '_');
        if let Some(wrong) = [&self.people, &self.devices].into_iter().find(|name| !bare(name)) {
            return Err(AnswersError::Store(wrong.clone()));
        }
        let vlans = self.crew.iter().chain(&self.fleet).map(|members| members.vlan).chain(self.holding);
        if let Some(wrong) = vlans.into_iter().find(|vlan| !(1..=4094).contains(vlan)) {
            return Err(AnswersError::Vlan(wrong));
        }
        for list in [&self.crew, &self.fleet] {
            for (place, one) in list.iter().enumerate() {
                if list[..place].iter().any(|before| before.group.to_lowercase() == one.group.to_lowercase()) {
                    return Err(AnswersError::Twice(one.group.clone()));
                }
            }
        }
        Ok(())
    }

    /// Without what hangs on something that is not there.
    fn of_what_is_there(mut self) -> Self {
        if self.people.is_empty() {
            (self.certificate, self.operators) = (String::new(), String::new());
            (self.readers, self.remote) = (String::new(), String::new());
        }
        if self.certificate.is_empty() {
            self.crew.clear();
        }
        if self.devices.is_empty() {
            self.fleet.clear();
            self.holding = None;
        }
        if self.holding.is_none() {
            self.watched.clear();
        }
        self.crew.retain(|members| !members.group.is_empty());
        self.fleet.retain(|members| !members.group.is_empty());
        self
    }
}

/// The name of a grant for a group, by its place among them.
fn grant(kind: &str, place: usize) -> String {
    format!("{kind}-{}", place + 1)
}

/// A policy of what is said that there is, laid out, each rule with its case.
pub fn first_policy(answers: &Answers) -> Result<String, AnswersError> {
    answers.check()?;
    let answers = &answers.clone().of_what_is_there();
    let mut text = written(answers);
    // Group names are texts in quotes, and store names bare words: words can be made of all of it.
    if let Ok(laid) = format(&text) {
        text = laid;
    }
    Ok(text)
}

fn written(answers: &Answers) -> String {
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
        // A name is shown in a comment, which ends with its line.
        let about: String = about.chars().filter(|c| !c.is_control()).collect();
        let _ = writeln!(policy, "# {about}\ngrant {name} {{\n{says}\n}}\n");
    };
    for (place, Members { group, vlan }) in answers.crew.iter().enumerate() {
        add(&grant("people", place), group, &format!("vlan {vlan}\nreauthenticate 8h"));
    }
    for (place, Members { group, vlan }) in answers.fleet.iter().enumerate() {
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
    for (place, Members { group, .. }) in answers.crew.iter().enumerate() {
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
    for (place, Members { group, .. }) in answers.fleet.iter().enumerate() {
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
    use crate::Surroundings;
    use regnant_policy::Source;

    fn whole() -> Answers {
        let members = |group: &str, vlan| Members { group: group.into(), vlan };
        Answers {
            people: "harbour".into(),
            devices: "harbour-devices".into(),
            certificate: "radius.example".into(),
            crew: vec![members("staff", 20), members("contract \"ors\"", 60)],
            fleet: vec![members("cranes", 30), members("cameras", 50)],
            holding: Some(99),
            watched: "yard".into(),
            operators: "network-operators".into(),
            readers: "network-readers".into(),
            remote: "staff".into(),
        }
    }

    /// Every answer, and each left out in turn.
    #[test]
    fn whatever_is_answered_is_a_policy_that_checks_with_a_case_for_each_rule() {
        let without: [fn(&mut Answers); 11] = [
            |_| {},
            |a| a.people.clear(),
            |a| a.devices.clear(),
            |a| a.certificate.clear(),
            |a| a.crew.clear(),
            |a| a.fleet.clear(),
            |a| a.holding = None,
            |a| a.operators.clear(),
            |a| a.readers.clear(),
            |a| a.remote.clear(),
            |a| a.watched.clear(),
        ];
        for change in without {
            let mut some = whole();
            change(&mut some);
            let text = first_policy(&some).unwrap();
            assert_eq!(format(&text).unwrap(), text);
            let report = Surroundings::default().check(Source::new("main.writ", &text)).unwrap();
            assert_eq!((report.errors(), report.failed_cases()), (0, 0), "{text}\n{:?}", report.diagnostics);
            assert!(report.uncovered.is_empty(), "{text}\n{:?}", report.uncovered);
        }
        let mut odd = whole();
        odd.crew[0].group = "staff\ngrant other { vlan 1 }".into();
        assert!(!first_policy(&odd).unwrap().contains("\ngrant other"), "a name says nothing of its own");
        assert!(first_policy(&Answers::default()).unwrap().contains("gate nobody { otherwise refuse }"));
    }

    #[test]
    fn answers_that_no_policy_can_be_made_of_say_why() {
        let told = |change: fn(&mut Answers)| {
            let mut some = whole();
            change(&mut some);
            first_policy(&some).unwrap_err().to_string()
        };
        assert_eq!(
            told(|a| a.people = "har bour".into()),
            "`har bour` is no name of a store: letters, digits, - and _"
        );
        assert_eq!(told(|a| a.holding = Some(4095)), "`4095` is no VLAN: a number of 1 to 4094");
        assert_eq!(told(|a| a.crew[1].group = "Staff".into()), "`Staff` was named before");
    }
}
