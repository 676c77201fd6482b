use std::collections::HashSet;
use std::io;
use std::net::{SocketAddr, UdpSocket};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use regnant_decision::{EntryKind, Machines, SeenMachine};
use regnant_journal::{
    AccountingLog, Entry, EntryFilter, HeardFile, Journal, JournalError, JournalReader, NodeFile, set_aside,
};
use regnant_outside::Never;
use regnant_records::{
    Author, FetchedLists, HashPool, KeyError, KeyId, NodeAudit, Records, RecordsError, RotationError, TokenUses,
    take_key,
};
use thiserror::Error;
use tokio::net::TcpListener;
use tokio::runtime::Handle;
use tokio::sync::watch;
use tokio::task;

use crate::administration::downloads::Fetched;
use crate::administration::issuers::Issuers;
use crate::administration::{Administration, AdministrationError};
use crate::backup::{self, BackupError, Places};
use crate::clock::now_ms;
use crate::config::Config;
use crate::console_tls::{ConsoleTls, ConsoleTlsError};
use crate::data_dir::DataDir;
use crate::heard::HeardOfNases;
use crate::http::{self, Api};
use crate::snapshot::{CheckedEditions, Environment};
use crate::udp::accounting::AccountingReceiver;
use crate::udp::conversations::Conversations;
use crate::udp::duplicates::Duplicates;
use crate::udp::granted::Granted;
use crate::udp::guesses::Patience;
use crate::udp::handshakes::Handshakes;
use crate::udp::listening::{self, Ids};
use crate::udp::receiver::Receiver;
use crate::udp::unheard::Unheard;
use crate::udp::{Counters, RadiusState, count, socket};

/// Entries that may wait for the journal, and as many reports for accounting; with more,
/// requests stay unanswered.
const QUEUE: usize = 16_384;
/// Decisions of before a restart that reports without a Class of ours are matched with.
const REMEMBERED: usize = 20_000;
/// How many of them are read at once: memory stays small at a start.
const AT_ONCE: usize = 500;
/// When what is renewed is looked at again after a failure of ours.
const RENEW_AGAIN: Duration = Duration::from_secs(600);
const UNHEARD_EVERY: Duration = Duration::from_millis(500);
/// What was heard of equipment is written at every so manieth tick.
const HEARD_EVERY: u64 = 20;
/// How long the API may take to end.
const STUCK_CLIENTS: Duration = Duration::from_millis(300);
/// Whose share of the journal the unheard take.
const UNHEARD: &str = "unheard";

/// A running service.
pub struct Service {
    administration: Arc<Administration>,
    journal: Arc<Journal>,
    accounting: Arc<AccountingLog>,
    radius: Arc<RadiusState>,
    addresses: [Vec<SocketAddr>; 2],
    api: SocketAddr,
    console: String,
    console_tls: Option<Arc<ConsoleTls>>,
    welcome: Option<String>,
    receivers: Vec<JoinHandle<()>>,
    server: task::JoinHandle<()>,
    ticker: task::JoinHandle<()>,
    renewal: task::JoinHandle<()>,
    passwords: task::JoinHandle<()>,
    stop: watch::Sender<bool>,
    _data: DataDir,
}

/// The shared records within a data directory.
pub(crate) const RECORDS: &str = "records.sqlite";
/// What this node saw of administrators.
pub(crate) const NODE_AUDIT: &str = "audit.sqlite";

/// Makes a new sealing key and seals every secret of the records anew under it; gives the
/// ids of the key before and of the new one. No service may run on the directory.
pub fn rotate_key(config: &Config, data: &Path) -> Result<(KeyId, KeyId), StartError> {
    if !data.join(RECORDS).exists() {
        return Err(StartError::NoRecords(data.join(RECORDS)));
    }
    let data = DataDir::take(data)?;
    put_right(&data, config)?;
    Ok(regnant_records::rotate_key(
        &data.join(&config.keys.sealing),
        &data.join(RECORDS),
        &Author::machine(),
        now_ms(),
    )?)
}

/// A NAS gives up after some seconds: a password that could not be checked by then need not be.
const WORTH_WAITING: Duration = Duration::from_secs(4);

/// Brings a restore that was interrupted to its end, or takes it back, and removes what is left of a backup.
pub(crate) fn put_right(data: &DataDir, config: &Config) -> Result<(), StartError> {
    let done = backup::finish(&data.join(""), &data.join(&config.keys.sealing));
    let done = done.and_then(|()| Ok(backup::clear(&data.join(""))?));
    done.map_err(|error| StartError::Interrupted(Box::new(error)))
}

impl Service {
    /// Opens the data directory, binds every port and begins to answer.
    pub async fn start(config: &Config, data: &Path) -> Result<Self, StartError> {
        let data = DataDir::take(data)?;
        put_right(&data, config)?;
        let key = take_key(&data.join(&config.keys.sealing), &data.join(RECORDS))?;
        let threads = std::thread::available_parallelism().map_or(1, usize::from);
        let list_file = open_or_set_aside(&data.join("lists.sqlite"), FetchedLists::open)?;
        let tls = || ConsoleTls::open(&config.api, &data.join("")).map(Arc::new);
        let console_tls = config.api.speaks_tls().then(tls).transpose()?;
        let never = Never::new(&config.outside.never);
        let environment = Environment {
            console_tls: console_tls.clone(),
            heard: open_heard(&data.join("heard.sqlite"))?,
            key: key.clone(),
            folder: data.join(""),
            pool: HashPool::start(threads, WORTH_WAITING),
            lists: Fetched::restored(list_file.all()?),
            list_file,
            staples: Fetched::default(),
            issuers: Arc::new(Issuers::new(Handle::current(), never.clone())),
            runtime: Handle::current(),
            never,
            checked: CheckedEditions::default(),
        };
        let records = Records::open(&data.join(RECORDS), &key, now_ms())?;
        let uses = open_or_set_aside(&data.join("tokens.sqlite"), TokenUses::open)?;
        let seen = open_or_set_aside(&data.join(NODE_AUDIT), NodeAudit::open)?;
        let administration = Arc::new(Administration::open(records, environment, (uses, seen))?);
        let count = if config.radius.receivers == 0 { threads } else { config.radius.receivers };
        let bind = |addresses: &[SocketAddr], count| -> Result<Vec<_>, StartError> {
            addresses.iter().map(|address| socket::bind(*address, count)).collect()
        };
        let authentication = bind(&config.radius.authentication, count)?;
        // One thread takes more reports than one disk.
        let accounting = bind(&config.radius.accounting, 1)?;
        let addresses: [Vec<SocketAddr>; 2] = [&authentication, &accounting]
            .map(|sockets| sockets.iter().filter_map(|group| group.first()?.local_addr().ok()).collect());
        let listener = listen(config.api.listen).await?;
        let node = NodeFile::open(&data.join("node.sqlite"))?;
        let machines = Machines::restored(remembered(&node));
        let journal = Arc::new(Journal::open(&data.join("journal"), node, config.journal.keep(), QUEUE)?);
        let reports = data.join("accounting");
        let reported = Arc::new(AccountingLog::open(&reports, config.accounting.keep(), QUEUE, &journal)?);
        let reader = Arc::new(JournalReader::open(&data.join("journal"), &reports)?);

        let radius = Arc::new(RadiusState {
            administration: administration.clone(),
            duplicates: Duplicates::new(),
            reported: Duplicates::new(),
            granted: Granted::new(),
            conversations: Conversations::new(config.radius.conversation_seconds.map(Duration::from_secs)),
            handshakes: Handshakes::start(threads),
            sessions: Arc::default(),
            machines,
            guesses: Patience::new(Handle::current()),
            secret: key.derive("opaque names of accounts"),
            retries: config.radius.password_retries,
            unheard: Unheard::default(),
            counters: Counters::default(),
        });
        let (stop, stopped) = watch::channel(false);
        task::spawn_blocking({
            let (radius, reader) = (radius.clone(), reader.clone());
            move || remember_granted(&radius.granted, &reader)
        });
        let mut receivers = Vec::new();
        for (end, socket) in each(authentication, 0) {
            let Some(journal) = journal.handle() else { continue };
            let name = format!("regnant-rx-{}", receivers.len());
            let receiver = Receiver { radius: radius.clone(), journal, slow: Handle::current(), ids: Ids::new() };
            receivers.push(listening::listen(name, socket, end, stopped.clone(), receiver));
        }
        for (end, socket) in each(accounting, addresses[0].len() as u32) {
            let Some(accounting) = reported.handle() else { continue };
            let name = format!("regnant-acct-{}", receivers.len());
            let receiver = AccountingReceiver { radius: radius.clone(), accounting, ids: Ids::new() };
            receivers.push(listening::listen(name, socket, end, stopped.clone(), receiver));
        }
        let api = listener.local_addr().map_err(|error| StartError::Listen {
            address: config.api.listen,
            what: "the API",
            error,
        })?;
        let tls = console_tls.as_ref().map(ConsoleTls::server).transpose().map_err(ConsoleTlsError::from)?;
        let console = format!("{}://{api}", if tls.is_some() { "https" } else { "http" });
        let places = Places { folder: data.join(""), key: data.join(&config.keys.sealing), id: key.id() };
        let state = Api::new(
            administration.clone(),
            (journal.clone(), reported.clone()),
            reader,
            radius.clone(),
            (&config.api, &config.administrators, places),
            stopped.clone(),
        );
        let welcome = state.open_welcome()?.map(|secret| format!("{console}/welcome#{secret}"));
        let server = tokio::spawn(http::serve(listener, tls, state, stopped));
        let ticker = tokio::spawn(tick(radius.clone(), journal.clone()));
        let renewal = tokio::spawn(renew(administration.clone()));
        let passwords = tokio::spawn(renew_machine_passwords(administration.clone()));
        Ok(Self {
            administration,
            journal,
            accounting: reported,
            radius,
            addresses,
            api,
            console,
            console_tls,
            welcome,
            receivers,
            server,
            ticker,
            renewal,
            passwords,
            stop,
            _data: data,
        })
    }

    /// Where everything that people change goes through.
    pub fn administration(&self) -> &Arc<Administration> {
        &self.administration
    }

    /// Where RADIUS authentication is answered.
    pub fn radius(&self) -> &[SocketAddr] {
        &self.addresses[0]
    }

    /// Where RADIUS accounting is answered.
    pub fn accounting(&self) -> &[SocketAddr] {
        &self.addresses[1]
    }

    /// Where console and API are.
    pub fn api(&self) -> SocketAddr {
        self.api
    }

    /// The address of the console, as people type it.
    pub fn console(&self) -> &str {
        &self.console
    }

    /// SHA-256 of the certificate that the console presents, where it speaks TLS.
    pub fn fingerprint(&self) -> Option<String> {
        self.console_tls.as_ref().map(|tls| tls.fingerprint())
    }

    /// The one-time link to set the first administrator's password, while there
    /// is none.
    pub fn welcome(&self) -> Option<&str> {
        self.welcome.as_deref()
    }

    /// Stops receiving, ends what is being decided, writes the journal to its end;
    /// tells how many entries could not be written. Takes a few seconds at most.
    pub async fn stop(self) -> usize {
        let _ = self.stop.send(true);
        let receivers = self.receivers;
        let radius = self.radius.clone();
        let ended = task::spawn_blocking(move || {
            receivers.into_iter().for_each(|thread| drop(thread.join()));
            radius.handshakes.end();
        });
        let _ = ended.await;
        self.ticker.abort();
        self.renewal.abort();
        self.passwords.abort();
        flush_unheard(&self.radius, &self.journal);
        let administration = self.administration.clone();
        let _ = task::spawn_blocking(move || write_heard(&administration)).await;
        // Live listeners of the journal end with the server; a stuck client may not hold us.
        let mut server = self.server;
        if tokio::time::timeout(STUCK_CLIENTS, &mut server).await.is_err() {
            server.abort();
        }
        let (journal, accounting) = (self.journal, self.accounting);
        // What is not kept of accounting was not acknowledged either: it comes again.
        let reports = task::spawn_blocking(move || accounting.close());
        let unwritten = task::spawn_blocking(move || journal.close()).await.unwrap_or_default();
        let _ = reports.await;
        unwritten
    }
}

/// Every socket with the number of its address, the first of which is this.
fn each(groups: Vec<Vec<UdpSocket>>, first: u32) -> impl Iterator<Item = (u32, UdpSocket)> {
    (first..).zip(groups).flat_map(|(end, group)| group.into_iter().map(move |one| (end, one)))
}

/// What was given before a restart. Where it cannot be read, reports that repeat no Class of
/// ours find no decision for a while.
fn remember_granted(granted: &Granted, reader: &JournalReader) {
    let mut filter =
        EntryFilter { kinds: vec![EntryKind::Granted, EntryKind::Observed], limit: AT_ONCE, ..EntryFilter::default() };
    for _ in 0..REMEMBERED / AT_ONCE {
        let page = match reader.entries(&filter) {
            Ok(page) => page,
            Err(error) => return tracing::warn!("what was granted before the start cannot be read: {error}"),
        };
        for entry in &page {
            match entry {
                Entry::Decision(evidence) => {
                    granted.restore(evidence);
                    filter.before = Some(evidence.id.to_string());
                }
                Entry::Unreadable { id, .. } => filter.before = Some(id.to_string()),
                Entry::Unheard(_) | Entry::Accounting(_) => {}
            }
        }
        if page.len() < AT_ONCE {
            return;
        }
    }
}

/// The machines that were remembered. Where they cannot be read nobody is kept out:
/// each proves itself again when it next comes.
fn remembered(node: &NodeFile) -> Vec<SeenMachine> {
    let (seen, unread) = node.machines().unwrap_or_else(|error| {
        tracing::error!("the machines that were remembered cannot be read, and prove themselves again: {error}");
        (Vec::new(), 0)
    });
    if unread > 0 {
        tracing::error!("{unread} of the machines that were remembered cannot be read, and prove themselves again");
    }
    seen
}

/// Opens a file of what this node observed. One that is damaged is set aside under
/// another name, and told: people must come in though yesterday cannot be read.
fn open_or_set_aside<T>(file: &Path, open: impl Fn(&Path) -> Result<T, RecordsError>) -> Result<T, RecordsError> {
    let damaged = match open(file) {
        Err(error) if error.is_damage() => error,
        opened => return opened,
    };
    match set_aside(file) {
        Ok(aside) => tracing::error!(
            "{} is damaged ({damaged}) and was set aside as {}; the service begins a new one",
            file.display(),
            aside.display()
        ),
        Err(error) => {
            tracing::error!("{} is damaged and cannot be set aside: {error}", file.display());
            return Err(damaged);
        }
    }
    open(file)
}

async fn listen(address: SocketAddr) -> Result<TcpListener, StartError> {
    TcpListener::bind(address).await.map_err(|error| match error.kind() {
        io::ErrorKind::AddrInUse => StartError::PortInUse { address, what: "the API" },
        _ => StartError::Listen { address, what: "the API", error },
    })
}

/// What was heard of equipment before; where it cannot be read it is heard anew.
fn open_heard(file: &Path) -> Result<HeardOfNases, JournalError> {
    let open = || HeardFile::open(file).and_then(HeardOfNases::restored);
    open().or_else(|error| {
        let aside = set_aside(file).map_err(|_| error)?;
        tracing::error!(
            "{} cannot be read and was set aside as {}: whether equipment signs is found out anew",
            file.display(),
            aside.display()
        );
        open()
    })
}

/// Writes what was heard of equipment.
fn write_heard(administration: &Administration) {
    if let Err(error) = administration.environment().heard.write() {
        tracing::warn!(
            "whether equipment signs cannot be written down, and is found out anew after a restart: {error}"
        );
    }
}

async fn tick(radius: Arc<RadiusState>, journal: Arc<Journal>) {
    let mut interval = tokio::time::interval(UNHEARD_EVERY);
    for ticks in 0_u64.. {
        interval.tick().await;
        if ticks % HEARD_EVERY == 0 {
            let administration = radius.administration.clone();
            task::spawn_blocking(move || write_heard(&administration));
        }
        flush_unheard(&radius, &journal);
        journal_abandoned(&radius, &journal);
    }
}

/// Renews and warns, at the start and then as often as it is needed.
/// How long a machine account of a domain has one password, and how often that is looked at.
const MACHINE_PASSWORD: Duration = Duration::from_secs(30 * 86_400);
/// How soon a renewal that was cut short is taken up again.
const LOOK_AT_RENEWALS: Duration = Duration::from_secs(30);
const LOOK_AT_PASSWORDS: Duration = Duration::from_secs(6 * 3_600);

async fn renew(administration: Arc<Administration>) {
    let mut told = HashSet::new();
    loop {
        let administration = administration.clone();
        let work = move || {
            let done = administration.certificates.look_after(&mut told);
            let pause = done.unwrap_or_else(|error| {
                tracing::warn!("certificates cannot be looked after: {error}");
                RENEW_AGAIN
            });
            (told, pause)
        };
        let pause;
        (told, pause) = task::spawn_blocking(work).await.unwrap_or_else(|_| (HashSet::new(), RENEW_AGAIN));
        tokio::time::sleep(pause).await;
    }
}

/// Gives machine accounts of domains another password when theirs is old, and ends what was cut
/// short: a domain may believe the next password already.
async fn renew_machine_passwords(administration: Arc<Administration>) {
    let by = Author::new("regnant", "on schedule");
    let identities = &administration.identities;
    let mut looked = Instant::now();
    loop {
        let mut stores = identities.renewals_begun().unwrap_or_default();
        if stores.is_empty() && looked.elapsed() > LOOK_AT_PASSWORDS {
            looked = Instant::now();
            stores = identities.machine_passwords_older(MACHINE_PASSWORD).await;
        }
        for store in stores {
            match identities.renew_machine_password(&store, &by).await {
                Ok(()) => tracing::info!("the machine account of {store} has another password"),
                Err(error) => tracing::warn!("the machine account of {store} keeps its password: {error}"),
            }
        }
        tokio::time::sleep(LOOK_AT_RENEWALS).await;
    }
}

/// A conversation that stopped half-way becomes an entry of its own.
fn journal_abandoned(radius: &RadiusState, journal: &Journal) {
    let Some(place) = journal.handle() else { return };
    for waiting in radius.conversations.expired(Instant::now()) {
        match place.slot(waiting.conversation.nas()) {
            Some(slot) => slot.decision(waiting.conversation.abandon()),
            None => count(&radius.counters.unjournaled),
        }
    }
}

fn flush_unheard(radius: &RadiusState, journal: &Journal) {
    let Some(place) = journal.handle() else { return };
    radius.unheard.flush(now_ms(), |record| match place.slot(UNHEARD) {
        Some(slot) => {
            slot.unheard(record.clone());
            true
        }
        None => false,
    });
}

/// Why the service does not start. Nothing was changed that a second try would
/// not do again.
#[derive(Debug, Error)]
#[non_exhaustive]
pub enum StartError {
    /// The data directory cannot be used.
    #[error("the data directory {path} cannot be used: {1}", path = .0.display())]
    DataDir(PathBuf, #[source] io::Error),
    /// Another service has it.
    #[error("the data directory {path} is in use by another service; stop that one, or give this one --data of its own", path = .0.display())]
    DataDirInUse(PathBuf),
    /// A backup or a restore was interrupted, and what it left cannot be put right.
    #[error("what an interrupted backup or restore left cannot be put right: {0}")]
    Interrupted(Box<BackupError>),
    /// There are no records in it.
    #[error("there are no records in {}: name the data directory that a service was run on", .0.display())]
    NoRecords(PathBuf),
    /// Another program listens there.
    #[error(
        "{what} cannot listen on {address}: the port is in use; stop what listens there, or change the address in the configuration"
    )]
    PortInUse {
        /// The address.
        address: SocketAddr,
        /// What wanted to listen.
        what: &'static str,
    },
    /// The system refuses the address.
    #[error("{what} cannot listen on {address}: {error}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// What wanted to listen.
        what: &'static str,
        /// What the system says.
        #[source]
        error: io::Error,
    },
    /// TLS of console and API.
    #[error(transparent)]
    Tls(#[from] ConsoleTlsError),
    /// The key file.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Another sealing key cannot be set.
    #[error(transparent)]
    Rotation(#[from] RotationError),
    /// The records.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// The journal.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// The administration, most often the active policy.
    #[error(transparent)]
    Administration(#[from] AdministrationError),
}
