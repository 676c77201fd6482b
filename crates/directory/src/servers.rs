//! The servers of a directory: one that fails is left alone for a while, and asked first again
//! once it answers.

use std::future::Future;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use ldap3::controls::RawControl;
use ldap3::{Ldap, LdapError, LdapResult};
use regnant_base::Secret;
use regnant_decision::PasswordAnswer;
use regnant_outside::{Breaker, ServerHealth, Way};
use tokio::runtime::Handle;
use tokio::sync::Semaphore;
use tokio::time::timeout;

use crate::answers::{PASSWORD_POLICY, Trouble, proof, trouble};
use crate::connection::{Address, Question, bind_to_search, connect, search};
use crate::entry::Entry;
use crate::settings::{DirectorySettings, SettingsError, server_url};
use crate::store::Inner;

/// Connections of a server that search, each with many questions on the way.
const SEARCHES: usize = 4;
/// How often is looked whether a server that failed may be tried again.
const TRIED_EVERY: Duration = Duration::from_secs(1);
/// Connections of a server that prove passwords.
const PROOFS: usize = 32;
/// All servers of a directory.
pub(crate) struct Servers {
    list: Vec<Server>,
    pub(crate) bind_as: String,
    pub(crate) bind_password: Secret,
    limit: Duration,
}

struct Server {
    address: Address,
    searches: [tokio::sync::Mutex<Option<Ldap>>; SEARCHES],
    turn: AtomicUsize,
    proofs: Mutex<Vec<Ldap>>,
    proof_places: Semaphore,
    state: Mutex<Breaker<Trouble>>,
    asked: AtomicU64,
    failed: AtomicU64,
}

impl Servers {
    pub(crate) fn new(settings: &DirectorySettings, bind_password: Secret, way: &Way) -> Result<Self, SettingsError> {
        let server = |text: &String| {
            let (url, transport) = server_url(text)?;
            Ok::<_, SettingsError>(Server {
                address: Address {
                    host: url.host_str().unwrap_or_default().to_owned(),
                    port: url.port().unwrap_or(transport.port()),
                    url: url.to_string(),
                    transport,
                    way: way.clone(),
                },
                searches: std::array::from_fn(|_| tokio::sync::Mutex::new(None)),
                turn: AtomicUsize::new(0),
                proofs: Mutex::default(),
                proof_places: Semaphore::new(PROOFS),
                state: Mutex::default(),
                asked: AtomicU64::new(0),
                failed: AtomicU64::new(0),
            })
        };
        let list = settings.servers.iter().map(server).collect::<Result<_, _>>()?;
        // Whoever waits for the whole time is told by what failed, and not that nothing came.
        let limit = settings.limit().mul_f32(0.9);
        Ok(Self { list, bind_as: settings.bind_as.clone(), bind_password, limit })
    }

    /// The entries that answer a question.
    pub(crate) async fn search(&self, question: &Question) -> Result<Vec<Entry>, Trouble> {
        self.ask(|server| self.search_at(server, question)).await
    }

    /// Whether a password is right for an entry; it is not empty.
    pub(crate) async fn prove(&self, name: &str, password: &str) -> Result<PasswordAnswer, Trouble> {
        // Sooner than a server is given up: that it had no place is no failure of it.
        self.ask(|server| server.prove(name, password, self.limit / 3)).await
    }

    /// A connection of one's own to the first server that lets it search.
    pub(crate) async fn first_that_searches(&self) -> Result<(Ldap, &Address), Trouble> {
        let mut last = self.down();
        for address in self.addresses() {
            let bound = async {
                let (mut ldap, _) = connect(address).await?;
                bind_to_search(&mut ldap, &address.url, &self.bind_as, &self.bind_password).await?;
                Ok(ldap)
            };
            match timeout(2 * self.limit, bound).await {
                Ok(Ok(ldap)) => return Ok((ldap, address)),
                Ok(Err(trouble)) => last = trouble,
                Err(_) => {
                    let seconds = (2 * self.limit).as_secs_f32().ceil() as u64;
                    last = Trouble::Late { server: address.url.clone(), seconds };
                }
            }
        }
        Err(last)
    }

    pub(crate) fn addresses(&self) -> impl Iterator<Item = &Address> {
        self.list.iter().map(|server| &server.address)
    }

    pub(crate) fn health(&self) -> Vec<ServerHealth> {
        let health = |server: &Server| ServerHealth {
            url: server.address.url.clone(),
            down: server.state().down().map(|(time, trouble)| (time, trouble.to_string(), trouble.advice())),
            asked: server.asked.load(Ordering::Relaxed),
            failed: server.failed.load(Ordering::Relaxed),
        };
        self.list.iter().map(health).collect()
    }

    /// Asks one server after the other, until one answers or the time is over.
    async fn ask<'s, T, F>(&'s self, question: impl Fn(&'s Server) -> F) -> Result<T, Trouble>
    where
        F: Future<Output = Result<T, Trouble>>,
    {
        let began = Instant::now();
        let (mut last, mut late_ones) = (None, Vec::new());
        // One that failed is tried again beside what is asked, and holds up nobody while another one answers.
        let is_up = |server: &&Server| server.state().is_up();
        let mut list: Vec<_> = self.list.iter().filter(is_up).collect();
        if list.is_empty() {
            list = self.list.iter().filter(|server| server.may_be_asked()).collect();
        }
        for (place, server) in list.iter().enumerate() {
            // The last one has all the time that there is left, others leave some to it.
            let left = self.limit.saturating_sub(began.elapsed());
            let others = (list.len() - place) as u32;
            let time = if others == 1 { left } else { left / 2 };
            server.asked.fetch_add(1, Ordering::Relaxed);
            let late = || Trouble::Late {
                server: server.address.url.clone(),
                seconds: self.limit.as_secs_f32().ceil() as u64,
            };
            let answer = timeout(time, question(server)).await.unwrap_or_else(|_| Err(late()));
            match answer {
                Err(trouble) if trouble.is_the_servers() => {
                    server.failed.fetch_add(1, Ordering::Relaxed);
                    if matches!(trouble, Trouble::Late { .. }) {
                        late_ones.push((*server, trouble.clone()));
                    }
                    server.note_failure(&trouble, matches!(trouble, Trouble::Late { .. } | Trouble::Unable { .. }));
                    last = Some(trouble);
                }
                // It was not asked at all.
                Err(Trouble::Busy) => return Err(Trouble::Busy),
                answer => {
                    server.note_answer();
                    // What another one answers was no hard question: whoever was late with it hangs.
                    late_ones.iter().for_each(|(other, trouble)| other.note_failure(trouble, false));
                    return answer;
                }
            }
        }
        Err(last.unwrap_or_else(|| self.down()))
    }

    /// Tries those again that were left alone for long enough. Those that refuse the account that searches are
    /// left to the questions: tried too often, it would be locked.
    pub(crate) async fn try_again(&self) {
        for server in &self.list {
            let due = {
                let state = server.state();
                state.is_due() && !matches!(state.down(), Some((_, Trouble::Bind { .. })))
            };
            if !due || !server.may_be_asked() {
                continue;
            }
            let tried = async {
                let (mut ldap, _) = connect(&server.address).await?;
                bind_to_search(&mut ldap, &server.address.url, &self.bind_as, &self.bind_password).await
            };
            let late = || Trouble::Late {
                server: server.address.url.clone(),
                seconds: self.limit.as_secs_f32().ceil() as u64,
            };
            match timeout(self.limit, tried).await.unwrap_or_else(|_| Err(late())) {
                Ok(()) => server.note_answer(),
                Err(trouble) => server.note_failure(&trouble, false),
            }
        }
    }

    /// Why nobody is asked at all.
    fn down(&self) -> Trouble {
        let why = self.list.iter().find_map(|server| server.state().down().map(|(_, trouble)| trouble.to_string()));
        Trouble::Down(why.unwrap_or_default())
    }

    async fn search_at(&self, server: &Server, question: &Question) -> Result<Vec<Entry>, Trouble> {
        let url = &server.address.url;
        let place = server.turn.fetch_add(1, Ordering::Relaxed) % SEARCHES;
        let (mut ldap, is_fresh) = self.searching(server, place, true).await?;
        match search(&mut ldap, url, question).await {
            // A connection that was closed while it waited is no failure of the server.
            Err(trouble) if trouble.is_the_servers() && !is_fresh => {
                let (mut ldap, _) = self.searching(server, place, false).await?;
                search(&mut ldap, url, question).await
            }
            answer => answer,
        }
    }

    /// A connection that searches, one that is there already where that will do; and whether it
    /// was made just now.
    async fn searching(&self, server: &Server, place: usize, will_do: bool) -> Result<(Ldap, bool), Trouble> {
        let mut kept = server.searches[place].lock().await;
        if let Some(ldap) = kept.as_mut().filter(|_| will_do)
            && !ldap.is_closed()
        {
            return Ok((ldap.clone(), false));
        }
        *kept = None;
        let (mut ldap, _) = connect(&server.address).await?;
        bind_to_search(&mut ldap, &server.address.url, &self.bind_as, &self.bind_password).await?;
        Ok((kept.insert(ldap).clone(), true))
    }
}

/// Tries servers again that failed, for as long as the directory is asked.
pub(crate) fn keep_trying(inner: &Arc<Inner>, runtime: &Handle) {
    let inner = Arc::downgrade(inner);
    runtime.spawn(async move {
        loop {
            tokio::time::sleep(TRIED_EVERY).await;
            let Some(inner) = inner.upgrade() else { return };
            // Alone it is tried by what is asked.
            if inner.servers.list.len() > 1 {
                inner.servers.try_again().await;
            }
        }
    });
}

impl Server {
    fn may_be_asked(&self) -> bool {
        self.state().may_be_asked()
    }

    fn note_answer(&self) {
        if let Some(down) = self.state().answered() {
            tracing::info!("{} answers again, after {} s", self.address.url, down.as_secs());
        }
    }

    /// One that was late may have been asked something hard.
    fn note_failure(&self, trouble: &Trouble, late: bool) {
        let (left_alone, new) = self.state().failed(late, trouble);
        if !left_alone {
            return;
        }
        if new {
            tracing::warn!("a directory does not answer: {trouble}. {}", trouble.advice());
        }
        // Whatever hangs is not asked again over the same connection.
        self.searches.iter().filter_map(|kept| kept.try_lock().ok()).for_each(|mut kept| *kept = None);
        self.proofs.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    fn state(&self) -> std::sync::MutexGuard<'_, Breaker<Trouble>> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    async fn prove(&self, name: &str, password: &str, patience: Duration) -> Result<PasswordAnswer, Trouble> {
        let url = &self.address.url;
        // That many wait already is no failure of the server.
        let place = timeout(patience, self.proof_places.acquire()).await;
        let _place = place.map_err(|_| Trouble::Busy)?.map_err(|_| Trouble::Busy)?;
        let proofs = || self.proofs.lock().unwrap_or_else(PoisonError::into_inner);
        let idle = std::iter::from_fn(|| proofs().pop()).find_map(|mut ldap| (!ldap.is_closed()).then_some(ldap));
        if let Some(mut ldap) = idle {
            if let Ok(result) = bind(&mut ldap, name, password).await {
                proofs().push(ldap);
                return proof(url, &result);
            }
            // It was closed while it waited, and so were the others most likely.
            proofs().clear();
        }
        let (mut ldap, _) = connect(&self.address).await?;
        let result = bind(&mut ldap, name, password).await.map_err(|error| trouble(url, &error))?;
        proofs().push(ldap);
        proof(url, &result)
    }
}

/// Binds, and has the directory say what its password policy makes of it.
async fn bind(ldap: &mut Ldap, name: &str, password: &str) -> Result<LdapResult, LdapError> {
    let control = RawControl { ctype: PASSWORD_POLICY.into(), crit: false, val: None };
    ldap.with_controls(control).simple_bind(name, password).await
}
