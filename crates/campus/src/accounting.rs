//! What equipment reports of the sessions that it has (RFC 2866).

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

use regnant_client::{Ask, Reply};
use regnant_radius::{Code, Dictionary};

use crate::nas::Nas;

/// Sessions that the campus's equipment has at a time; with more, the oldest ends.
const MOST: usize = 48;

/// The accounting of all the campus's equipment.
pub struct Accounting {
    server: SocketAddr,
    dictionary: Arc<Dictionary>,
    open: VecDeque<Session>,
    /// Equipment that said that it has started.
    started: Vec<&'static str>,
    number: u32,
}

/// Somebody or something that has access.
struct Session {
    nas: Nas,
    ask: Ask,
    reply: Reply,
    name: String,
    began: Instant,
    /// How often it was reported that it goes on.
    reports: u32,
}

impl Accounting {
    /// Reports go to this server.
    pub fn new(server: SocketAddr, dictionary: Arc<Dictionary>) -> Self {
        Self { server, dictionary, open: VecDeque::new(), started: Vec::new(), number: 0 }
    }

    /// How many sessions there are.
    pub fn sessions(&self) -> usize {
        self.open.len()
    }

    /// A reply gave access: reports that a session begins, and tells whether that was
    /// acknowledged. Who had the same port has left it.
    pub fn begin(&mut self, nas: &Nas, ask: &Ask, reply: &Reply) -> bool {
        if !self.started.contains(&nas.name) {
            self.started.push(nas.name);
            self.send(nas, &Ask::report("Accounting-On"));
        }
        let here = port(ask);
        let same_port =
            |session: &Session| session.nas.name == nas.name && here.is_some() && port(&session.ask) == here;
        while let Some(place) = self.open.iter().position(same_port) {
            self.end(place, "Lost-Carrier");
        }
        self.number += 1;
        let name = format!("{:08x}", 0x7a00_0000 + self.number);
        let session =
            Session { nas: *nas, ask: ask.clone(), reply: reply.clone(), name, began: Instant::now(), reports: 0 };
        let kept = self.send(nas, &session.report("Start"));
        self.open.push_back(session);
        if self.open.len() > MOST {
            self.end(0, "User-Request");
        }
        kept
    }

    /// Reports of the session in turn that it goes on.
    pub fn go_on(&mut self) {
        let Some(mut session) = self.open.pop_front() else { return };
        session.reports += 1;
        self.send(&session.nas, &session.measured("Interim-Update"));
        self.open.push_back(session);
    }

    /// Ends the session that has lasted longest since it was last reported, for this cause.
    pub fn end_oldest(&mut self, cause: &str) {
        if !self.open.is_empty() {
            self.end(0, cause);
        }
    }

    /// Every session ends, and so does the equipment.
    pub fn close(&mut self) {
        while !self.open.is_empty() {
            self.end(0, "NAS-Reboot");
        }
        for nas in std::mem::take(&mut self.started) {
            if let Some(nas) = crate::harbour::EQUIPMENT.iter().find(|known| known.name == nas) {
                self.send(nas, &Ask::report("Accounting-Off"));
            }
        }
    }

    fn end(&mut self, place: usize, cause: &str) {
        let Some(session) = self.open.remove(place) else { return };
        self.send(&session.nas, &session.measured("Stop").with("Acct-Terminate-Cause", cause));
    }

    /// Whether a report was acknowledged.
    fn send(&self, nas: &Nas, report: &Ask) -> bool {
        let reply = nas.exchange(self.server).ask(report, &self.dictionary);
        reply.is_ok_and(|reply| reply.code == Code::ACCOUNTING_RESPONSE)
    }
}

impl Session {
    fn report(&self, status: &str) -> Ask {
        self.ask.report_on(&self.reply, status, &self.name)
    }

    /// How long and how much: what a camera or a laptop would have sent by now.
    fn measured(&self, status: &str) -> Ask {
        let seconds = self.began.elapsed().as_secs();
        let sent = 48_000 * seconds + 7_300 * u64::from(self.reports + 1);
        self.report(status)
            .with("Acct-Session-Time", &seconds.to_string())
            .with("Acct-Input-Octets", &sent.to_string())
            .with("Acct-Output-Octets", &(sent / 9 + 1_200).to_string())
    }
}

fn port(ask: &Ask) -> Option<&str> {
    ask.attributes.iter().find(|(name, _)| name == "NAS-Port").map(|(_, port)| port.as_str())
}
