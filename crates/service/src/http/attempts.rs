use std::net::{IpAddr, Ipv6Addr};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use hmac::{Hmac, KeyInit, Mac};
use regnant_base::BoundedMap;
use sha2::Sha256;
use subtle::ConstantTimeEq;

/// Passwords for one name from one source within [`WINDOW`] before it must wait.
const MOST_OF_NAME: u32 = 10;
/// And from a browser that signed in under that name before.
const MOST_OF_BROWSER: u32 = 50;
/// And for all names.
const MOST_OF_SOURCE: u32 = 60;
/// Refusals that the audit tells of within [`WINDOW`], of names that somebody has and of others.
const MOST_TOLD: (u32, u32) = (60, 10);
const WINDOW: Duration = Duration::from_secs(60);
/// Names and sources that are remembered at a time; the oldest go first.
const MOST: usize = 4_096;
/// How long a browser stays known.
pub(crate) const BROWSER: Duration = Duration::from_secs(90 * 24 * 3_600);
/// Wrong codes of one account, wherever they come from, before each pauses the next.
const FREE_CODES: u32 = 5;
/// The pauses after them: twice as long each time.
const PAUSE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(900));
/// Codes of an account that was quiet for so long are forgotten.
const FORGET_CODES: Duration = Duration::from_secs(24 * 3_600);
/// Wrong codes that are told to nobody, and how long the others are.
const MISTYPED: u32 = 2;
const GUESSED: Duration = Duration::from_secs(7 * 24 * 3_600);

/// Tries at sign-in, so that guessing is slow, without anybody being kept out by somebody who guesses from
/// elsewhere. A try is counted before it is checked: many at once are as many.
#[derive(Debug)]
pub(crate) struct Attempts {
    inner: Mutex<Tables>,
    /// What browsers that signed in are known by again; another at each start.
    key: [u8; 32],
}

#[derive(Debug)]
struct Tables {
    tried: BoundedMap<(String, Lane), (u32, Instant)>,
    codes: BoundedMap<String, Codes>,
    guessed: BoundedMap<String, Guessed>,
    told: Told,
}

/// What the tries of a name are counted under.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
enum Lane {
    Source(IpAddr),
    /// Browsers that signed in under the name before. Their address says nothing: others share it.
    Browser,
}

#[derive(Debug)]
struct Codes {
    wrong: u32,
    /// When the next may be tried.
    next: Instant,
}

/// Wrong codes that came with the right password of an account, since the start.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Guessed {
    pub(crate) codes: u32,
    /// Where the last came from, and when, in milliseconds since 1970.
    pub(crate) from: IpAddr,
    pub(crate) at: u64,
}

/// What the audit was told of within a minute, and what was left out.
#[derive(Debug)]
struct Told {
    since: Instant,
    known: u32,
    others: u32,
    left_out: u32,
}

/// Who tries.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Trier<'t> {
    pub(crate) name: &'t str,
    pub(crate) source: IpAddr,
    /// What the browser was given when somebody signed in with it.
    pub(crate) browser: Option<&'t str>,
}

impl Default for Attempts {
    fn default() -> Self {
        let mut key = [0; 32];
        getrandom::fill(&mut key).expect("the system gives random bytes");
        let told = Told { since: Instant::now(), known: 0, others: 0, left_out: 0 };
        let tables =
            Tables { tried: BoundedMap::new(MOST), codes: BoundedMap::new(MOST), guessed: BoundedMap::new(MOST), told };
        Self { inner: Mutex::new(tables), key }
    }
}

impl Attempts {
    /// Counts a try at a password; whether it may be made.
    pub(crate) fn reserve(&self, trier: Trier<'_>) -> bool {
        self.reserve_at(trier, Instant::now())
    }

    /// Takes a try back that was right.
    pub(crate) fn right(&self, trier: Trier<'_>) {
        let lane = self.lane(trier);
        let mut inner = self.lock();
        inner.tried.remove(&(trier.name.to_lowercase(), lane));
        if let Some((count, _)) = inner.tried.get_mut(&(String::new(), lane)) {
            *count = count.saturating_sub(1);
        }
    }

    /// Counts a try at the code of an account whose password was right; how long it must wait, where it must.
    pub(crate) fn reserve_code(&self, account: &str) -> Result<(), Duration> {
        self.reserve_code_at(account, Instant::now())
    }

    /// A right code.
    pub(crate) fn right_code(&self, account: &str) {
        self.lock().codes.remove(&account.to_lowercase());
    }

    /// A code that was wrong. Its owner is told, for whoever sent it knows the password.
    pub(crate) fn wrong_code(&self, account: &str, from: IpAddr) {
        let mut inner = self.lock();
        let guessed = inner.guessed.touch(account.to_lowercase(), || Guessed { codes: 0, from, at: 0 });
        *guessed = Guessed { codes: guessed.codes.saturating_add(1), from, at: now() * 1_000 };
    }

    /// The wrong codes of an account within the last week, where they are more than somebody mistypes.
    pub(crate) fn guessed(&self, account: &str) -> Option<Guessed> {
        let guessed = self.lock().guessed.get_mut(&account.to_lowercase()).map(|guessed| *guessed)?;
        let is_recent = guessed.at / 1_000 + GUESSED.as_secs() > now();
        (guessed.codes > MISTYPED && is_recent).then_some(guessed)
    }

    /// Another password: what was guessed with the one before says nothing of it.
    pub(crate) fn new_password(&self, account: &str) {
        self.lock().guessed.remove(&account.to_lowercase());
    }

    /// Whether it is a browser that signed in under the name before.
    pub(crate) fn knows(&self, trier: Trier<'_>) -> bool {
        self.lane(trier) == Lane::Browser
    }

    /// Whether the audit is told of a refusal, and how many it was not told of before. Names that nobody has
    /// never take the room of those that somebody has.
    pub(crate) fn tell(&self, is_known: bool) -> Option<u32> {
        self.tell_at(is_known, Instant::now())
    }

    /// By what a browser is known that signed in under a name.
    pub(crate) fn browser(&self, name: &str) -> String {
        let ends = now() + BROWSER.as_secs();
        format!("{ends}.{}", self.seal(name, ends))
    }

    fn seal(&self, name: &str, ends: u64) -> String {
        let keyed = Hmac::<Sha256>::new_from_slice(&self.key).expect("HMAC takes a key of any length");
        let sealed = keyed.chain_update(ends.to_be_bytes()).chain_update(name.to_lowercase()).finalize().into_bytes();
        sealed.iter().map(|byte| format!("{byte:02x}")).collect()
    }

    fn is_browser_of(&self, name: &str, shown: &str) -> bool {
        let Some((ends, sealed)) = shown.split_once('.') else { return false };
        let Ok(ends) = ends.parse::<u64>() else { return false };
        ends > now() && bool::from(self.seal(name, ends).as_bytes().ct_eq(sealed.as_bytes()))
    }

    fn lane(&self, trier: Trier<'_>) -> Lane {
        match trier.browser.is_some_and(|shown| self.is_browser_of(trier.name, shown)) {
            true => Lane::Browser,
            false => Lane::Source(network(trier.source)),
        }
    }

    fn reserve_at(&self, trier: Trier<'_>, now: Instant) -> bool {
        let lane = self.lane(trier);
        let mut inner = self.lock();
        let mut take = |name: String, most: u32| {
            let (count, since) = inner.tried.touch((name, lane), || (0, now));
            if now.duration_since(*since) >= WINDOW {
                (*count, *since) = (0, now);
            }
            let free = *count < most;
            *count += u32::from(free);
            free
        };
        let most = if lane == Lane::Browser { MOST_OF_BROWSER } else { MOST_OF_NAME };
        // An empty name stands for all of a source; it is nobody's.
        take(trier.name.to_lowercase(), most) && (lane == Lane::Browser || take(String::new(), MOST_OF_SOURCE))
    }

    fn reserve_code_at(&self, account: &str, now: Instant) -> Result<(), Duration> {
        let mut inner = self.lock();
        let codes = inner.codes.touch(account.to_lowercase(), || Codes { wrong: 0, next: now });
        if let Some(wait) = codes.next.checked_duration_since(now).filter(|wait| !wait.is_zero()) {
            return Err(wait);
        }
        if now.duration_since(codes.next) >= FORGET_CODES {
            codes.wrong = 0;
        }
        codes.wrong = codes.wrong.saturating_add(1);
        let pause = match codes.wrong.checked_sub(FREE_CODES) {
            None => Duration::ZERO,
            Some(more) => (PAUSE.0 * (1 << more.min(10))).min(PAUSE.1),
        };
        codes.next = now + pause;
        Ok(())
    }

    fn tell_at(&self, is_known: bool, now: Instant) -> Option<u32> {
        let told = &mut self.lock().told;
        if now.duration_since(told.since) >= WINDOW {
            *told = Told { since: now, known: 0, others: 0, left_out: told.left_out };
        }
        let (count, most) = if is_known { (&mut told.known, MOST_TOLD.0) } else { (&mut told.others, MOST_TOLD.1) };
        if *count >= most {
            told.left_out = told.left_out.saturating_add(1);
            return None;
        }
        *count += 1;
        Some(std::mem::take(&mut told.left_out))
    }

    fn lock(&self) -> MutexGuard<'_, Tables> {
        self.inner.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Whoever has an address of IPv6 has a /64 of them.
pub(crate) fn network(source: IpAddr) -> IpAddr {
    match source {
        IpAddr::V6(address) if address.to_ipv4_mapped().is_none() => {
            Ipv6Addr::from_bits(address.to_bits() >> 64 << 64).into()
        }
        source => source.to_canonical(),
    }
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default().as_secs()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn source(number: u8) -> IpAddr {
        IpAddr::from([10, 44, 0, number])
    }

    fn from(name: &str, source: IpAddr) -> Trier<'_> {
        Trier { name, source, browser: None }
    }

    #[test]
    fn guessing_is_slow_by_name_and_source_and_shuts_nobody_else_out() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        let may = |trier: Trier<'_>, now| attempts.reserve_at(trier, now);
        for _ in 0..10 {
            assert!(may(from("Harbour", source(1)), now), "tried at once, they are as many");
        }
        assert!(!may(from("harbour", source(1)), now));
        assert!(may(from("harbour", source(2)), now), "elsewhere the same name may");
        assert!(may(from("radius", source(1)), now), "and another name here");
        assert!(may(from("harbour", source(1)), now + WINDOW), "again after a minute");
        for number in 0..60 {
            may(from(&format!("guess-{number}"), source(3)), now);
        }
        assert!(!may(from("anybody", source(3)), now), "many names from one source");
        attempts.right(from("guess-1", source(3)));
        assert!(may(from("anybody", source(3)), now), "a right one costs nothing");
    }

    #[test]
    fn a_browser_that_signed_in_is_known_for_its_name_and_no_address_is() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        let browser = attempts.browser("harbour");
        attempts.right(from("harbour", source(1)));
        for _ in 0..10 {
            attempts.reserve_at(from("harbour", source(1)), now);
        }
        assert!(!attempts.reserve_at(from("harbour", source(1)), now), "whoever shares the address is not known");
        let known = Trier { browser: Some(&browser), ..from("Harbour", source(1)) };
        let tries = (0..100).filter(|_| attempts.reserve_at(known, now)).count();
        assert_eq!(tries, MOST_OF_BROWSER as usize, "more, and not without limit");
        let other = Trier { browser: Some(&browser), ..from("radius", source(4)) };
        assert!((0..20).filter(|_| attempts.reserve_at(other, now)).count() == 10, "for no other name");
        let (ends, sealed) = browser.split_once('.').unwrap();
        for forged in ["", ".", "x", "9.9", sealed, &format!("{}1.{sealed}", ends), &format!("1.{sealed}")] {
            assert!(!attempts.is_browser_of("harbour", forged), "{forged}");
        }
        assert!(!Attempts::default().is_browser_of("harbour", &browser), "another service");
    }

    #[test]
    fn a_network_of_ipv6_is_one_source() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        let at = |text: &str| text.parse::<IpAddr>().unwrap();
        let tried = |number: u32| attempts.reserve_at(from("harbour", at(&format!("2001:db8::{number:x}"))), now);
        assert_eq!((0..100).filter(|number| tried(*number)).count(), 10);
        assert!(attempts.reserve_at(from("harbour", at("2001:db8:0:1::1")), now));
        assert_eq!(network(at("::ffff:10.44.0.1")), source(1));
    }

    #[test]
    fn codes_are_counted_by_account_over_all_sources_with_growing_pauses() {
        let (attempts, begun) = (Attempts::default(), Instant::now());
        // A day of trying as often as it may be tried.
        let (mut now, mut tries) = (begun, 0);
        while now < begun + Duration::from_secs(24 * 3_600) {
            match attempts.reserve_code_at("Harbour", now) {
                Ok(()) => tries += 1,
                Err(wait) => now += wait,
            }
        }
        assert!((20..130).contains(&tries), "{tries} codes of a million in a day");
        let _ = attempts.reserve_code_at("harbour", now);
        assert!(attempts.reserve_code_at("harbour", now).is_err());
        assert!(attempts.reserve_code_at("radius", now).is_ok(), "another account");
        attempts.right_code("HARBOUR");
        assert!(attempts.reserve_code_at("harbour", now).is_ok());
    }

    #[test]
    fn an_owner_is_told_of_codes_that_are_no_mistyping() {
        let (attempts, from) = (Attempts::default(), source(9));
        let told = |name| attempts.guessed(name).map(|guessed| (guessed.codes, guessed.from));
        for _ in 0..2 {
            attempts.wrong_code("Harbour", from);
        }
        assert_eq!(told("harbour"), None);
        attempts.wrong_code("harbour", from);
        attempts.right_code("harbour");
        assert_eq!((told("HARBOUR"), told("radius")), (Some((3, from)), None));
        attempts.new_password("harbour");
        assert_eq!(told("harbour"), None);
    }

    #[test]
    fn invented_names_never_hide_a_known_one_and_what_was_left_out_is_counted() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        let told = |known, now| attempts.tell_at(known, now);
        assert_eq!((0..100).filter(|_| told(false, now).is_some()).count(), 10);
        assert_eq!(told(true, now), Some(90));
        assert_eq!(told(true, now), Some(0));
        assert_eq!(told(false, now), None);
        assert_eq!(told(false, now + WINDOW), Some(1));
    }

    #[test]
    fn a_flood_of_names_keeps_nobody_out_and_takes_bounded_room() {
        let (attempts, now) = (Attempts::default(), Instant::now());
        for number in 0..3 * MOST {
            attempts.reserve_at(from(&number.to_string(), IpAddr::from((number as u32).to_be_bytes())), now);
        }
        assert!(attempts.reserve_at(from("harbour", source(1)), now));
        assert!(attempts.lock().tried.len() <= MOST);
    }
}
