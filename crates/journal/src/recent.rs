use regnant_base::BoundedMap;

/// What an event is known again by: its equipment and what it reported, whenever it was sent.
pub type EventKey = [u8; 16];

/// How far apart, in milliseconds, two reports of the same event may seem to have happened:
/// equipment sends again for that long (RFC 5080 section 2.2.1, MRD), and some does not say
/// for how long it has tried.
const APART: u64 = 30_000;

/// Events that were reported a moment ago. A report that is sent again under another
/// identifier, since its Acct-Delay-Time grew or the service was restarted before it could be
/// acknowledged, is acknowledged and not kept twice.
pub(crate) struct Recent(BoundedMap<EventKey, u64>);

impl Recent {
    /// Events that are remembered.
    pub(crate) const MOST: usize = 100_000;
    /// For how long before a restart they are read again, in milliseconds.
    pub(crate) const SPAN: u64 = 10 * 60 * 1_000;

    pub(crate) fn new() -> Self {
        Self(BoundedMap::new(Self::MOST))
    }

    /// Notes an event; tells whether it was known.
    pub(crate) fn note(&mut self, event: EventKey, happened: u64) -> bool {
        if self.0.get(&event).is_some_and(|known| known.abs_diff(happened) <= APART) {
            return true;
        }
        self.0.insert(event, happened);
        false
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_soon_after_is_the_same_event_and_later_another() {
        let mut recent = Recent::new();
        assert!(!recent.note([1; 16], 100_000));
        assert!(recent.note([1; 16], 100_000) && recent.note([1; 16], 100_000 + APART));
        assert!(!recent.note([2; 16], 100_000));
        // What is sent again does not make what comes much later the same.
        assert!(!recent.note([1; 16], 100_001 + APART));
        assert!(recent.note([1; 16], 100_001 + APART));
    }

    #[test]
    fn no_more_is_remembered_than_there_is_room_for() {
        let mut recent = Recent::new();
        for number in 0..Recent::MOST as u128 + 10 {
            recent.note(number.to_be_bytes(), 5);
        }
        assert_eq!(recent.0.len(), Recent::MOST);
        assert!(!recent.note(0u128.to_be_bytes(), 5));
    }
}
