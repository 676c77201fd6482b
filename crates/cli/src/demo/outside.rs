//! The stores outside of the harbour: its own directory, and its asset register.

use std::net::{Ipv4Addr, SocketAddr};
use std::path::Path;
use std::sync::mpsc::{Receiver, RecvTimeoutError};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use regnant_campus::certificates::{DemoCertificates, OUTSIDE, TRUST};
use regnant_campus::directory::{BASE, DirectoryTrouble, GROUPS, PortDirectory, SEARCHER};
use regnant_campus::harbour::{ASSET_REGISTER, REGISTER_FACTS, TARN_DIRECTORY};
use regnant_campus::register::{Register, SECRET};
use serde_json::{Map, json};

use crate::api::Client;
use crate::failure::Failure;
use crate::paint::say;

const REGISTER: SocketAddr = SocketAddr::new(std::net::IpAddr::V4(Ipv4Addr::LOCALHOST), 8481);
/// For StartTLS and for LDAPS.
const DIRECTORY: (u16, u16) = (13_890, 16_360);

/// How long the directory is stopped for once in a while, and how long it runs before and between.
const STOPPED: Duration = Duration::from_secs(60);
const BEFORE: Duration = Duration::from_secs(180);
const BETWEEN: Duration = Duration::from_secs(1_800);

/// What runs beside the service.
pub(crate) struct Outside {
    register: Register,
    directory: Option<Arc<Mutex<PortDirectory>>>,
    /// Why there is no directory, where one was wanted.
    pub(crate) missing: Option<String>,
}

impl Outside {
    /// Starts both, or the register alone.
    pub(crate) fn open(data: &Path, certificates: &DemoCertificates, with_directory: bool) -> Result<Self, Failure> {
        let [certificate, key] = ["pem", "key"].map(|kind| certificates.file(&format!("{OUTSIDE}.{kind}")));
        let register = Register::start(REGISTER, certificate, key)
            .map_err(|error| Failure::new(format!("the asset register does not start on {REGISTER}: {error}")))?;
        let (mut directory, mut missing) = (None, None);
        if with_directory {
            match PortDirectory::start(&data.join("directory"), (certificate, key), DIRECTORY) {
                Ok(started) => directory = Some(Arc::new(Mutex::new(started))),
                Err(trouble @ DirectoryTrouble::Missing(_)) => missing = Some(trouble.to_string()),
                Err(trouble) => return Err(Failure::new(trouble.to_string())),
            }
        }
        Ok(Self { register, directory, missing })
    }

    /// Whether the directory runs.
    pub(crate) fn has_directory(&self) -> bool {
        self.directory.is_some()
    }

    /// Has the service ask them.
    pub(crate) fn connect(&self, client: &Client) -> Result<(), Failure> {
        let mut facts = Map::new();
        for (name, kind, meaning, place) in REGISTER_FACTS {
            client.post("attributes", &json!({ "name": name, "type": kind, "meaning": meaning }))??;
            facts.insert(name.to_owned(), place.into());
        }
        let register = json!({
            "kind": "http",
            "http": { "url": self.register.url(), "trust": TRUST, "header": SECRET.0, "facts": facts, "keep": 20 },
            "secret": SECRET.1,
        });
        client.put(&format!("stores/{ASSET_REGISTER}"), &register)??;
        if let Some(directory) = &self.directory {
            let server = directory.lock().unwrap_or_else(PoisonError::into_inner).ldaps();
            let directory = json!({
                "kind": "directory",
                "directory": {
                    "servers": [server], "trust": TRUST, "base": BASE, "bind_as": SEARCHER.0, "group_base": GROUPS,
                    "machine_filter": "(objectClass=device)", "keep": 20,
                },
                "secret": SEARCHER.1,
            });
            client.put(&format!("stores/{TARN_DIRECTORY}"), &directory)??;
        }
        Ok(())
    }

    /// Does something while the directory is stopped.
    pub(crate) fn while_stopped<T>(&self, work: impl FnOnce() -> Result<T, Failure>) -> Result<Option<T>, Failure> {
        let Some(directory) = &self.directory else { return Ok(None) };
        let mut directory = directory.lock().unwrap_or_else(PoisonError::into_inner);
        directory.kill();
        let done = work();
        directory.again().map_err(|trouble| Failure::new(trouble.to_string()))?;
        done.map(Some)
    }

    /// Stops the directory for a minute now and then, until the other end of `stop` is dropped.
    pub(crate) fn stumble(&self, stop: &Receiver<()>) {
        let mut wait = BEFORE;
        while self.has_directory() && stop.recv_timeout(wait) == Err(RecvTimeoutError::Timeout) {
            say!("the port's directory stops for {} s: Today tells of it", STOPPED.as_secs());
            let stopped = self.while_stopped(|| Ok(stop.recv_timeout(STOPPED)));
            match stopped {
                Ok(Some(Err(RecvTimeoutError::Timeout))) => say!("the port's directory is there again"),
                Ok(_) => return,
                Err(failure) => say!("{}", failure.text()),
            }
            wait = BETWEEN;
        }
    }

    /// Lines about them, for whoever starts the demo.
    pub(crate) fn tell(&self) {
        let beside = match (&self.directory, &self.missing) {
            (Some(_), _) => format!("the port's directory on ldaps://localhost:{}, ", DIRECTORY.1),
            (None, _) => String::new(),
        };
        say!("  beside    {beside}its asset register on https://{REGISTER}");
        if let Some(missing) = &self.missing {
            say!("            without its directory: {missing}");
        }
    }
}
