//! Packets for which there is no room just now, until there is: a commit that takes long for once is over in a moment,
//! and equipment waits seconds before it sends again.

use std::collections::{HashMap, HashSet, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use crate::udp::socket::Datagram;

/// Packets of one sender: as many as a NAS has under way towards one server from one port (RFC 2865 section 3).
const EACH: usize = 256;
/// Packets of all.
const MOST: usize = 2_048;
/// How many are dealt with before what came since has its turn: a batch of the socket.
const AT_ONCE: usize = 32;
/// How long one waits at most.
const PATIENCE: Duration = Duration::from_secs(1);

/// Packets in the order in which they came.
#[derive(Default)]
pub(crate) struct Parked {
    packets: VecDeque<Packet>,
    of: HashMap<IpAddr, usize>,
}

struct Packet {
    since: Instant,
    bytes: Box<[u8]>,
    source: SocketAddr,
    asked: Option<IpAddr>,
}

impl Parked {
    pub(crate) fn is_empty(&self) -> bool {
        self.packets.is_empty()
    }

    /// Keeps one; not where there is no room for it here either.
    pub(crate) fn keep(&mut self, datagram: &Datagram<'_>, since: Instant) -> bool {
        let own = self.of.get(&datagram.source.ip()).copied().unwrap_or(0);
        if own >= EACH || self.packets.len() >= MOST {
            return false;
        }
        self.of.insert(datagram.source.ip(), own + 1);
        let Datagram { bytes, source, asked } = *datagram;
        self.packets.push_back(Packet { since, bytes: bytes.into(), source, asked });
        true
    }

    /// Has those dealt with for which there is room by now, those of each sender in their order; gives how many waited
    /// for too long.
    pub(crate) fn try_again(&mut self, now: Instant, mut deal: impl FnMut(&Datagram<'_>) -> bool) -> usize {
        let (mut full, mut left_out, mut dealt) = (HashSet::new(), 0, 0);
        for _ in 0..self.packets.len() {
            let Some(packet) = self.packets.pop_front() else { break };
            let sender = packet.source.ip();
            let is_late = now.saturating_duration_since(packet.since) > PATIENCE;
            let datagram = Datagram { bytes: &packet.bytes, source: packet.source, asked: packet.asked };
            if !is_late && (dealt >= AT_ONCE || full.contains(&sender) || !deal(&datagram)) {
                full.insert(sender);
                self.packets.push_back(packet);
                continue;
            }
            dealt += usize::from(!is_late);
            left_out += usize::from(is_late);
            if let Some(own) = self.of.get_mut(&sender) {
                *own -= 1;
                if *own == 0 {
                    self.of.remove(&sender);
                }
            }
        }
        left_out
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn datagram(sender: u8, bytes: &[u8]) -> Datagram<'_> {
        Datagram { bytes, source: SocketAddr::from(([127, 0, 0, sender], 1_812)), asked: None }
    }

    #[test]
    fn one_sender_leaves_room_and_each_keeps_its_order() {
        let (mut parked, now) = (Parked::default(), Instant::now());
        let kept = (0..=255_u8).chain(0..=255).filter(|number| parked.keep(&datagram(1, &[*number]), now)).count();
        assert_eq!(kept, EACH);
        assert!(parked.keep(&datagram(2, &[7]), now));
        // There is room for two of the first, and for all of the second.
        let mut dealt = Vec::new();
        let left_out = parked.try_again(now, |datagram| {
            let first = datagram.source.ip() == IpAddr::from([127, 0, 0, 1]);
            let room = !first || dealt.len() < 2;
            if room {
                dealt.push(datagram.bytes[0]);
            }
            room
        });
        assert_eq!((left_out, &dealt[..]), (0, &[0, 1, 7][..]));
        assert_eq!(parked.of.len(), 1, "nothing of the second waits");
        let mut rest = Vec::new();
        while !parked.is_empty() {
            let before = rest.len();
            parked.try_again(now, |datagram| {
                rest.push(datagram.bytes[0]);
                true
            });
            assert!(rest.len() - before <= AT_ONCE);
        }
        assert_eq!(rest, (2..=255).collect::<Vec<u8>>());
        assert!(parked.is_empty() && parked.of.is_empty());
    }

    #[test]
    fn what_nobody_waits_for_any_more_is_left_out_and_all_together_are_bounded() {
        let (mut parked, now) = (Parked::default(), Instant::now());
        let kept = (0..20).flat_map(|sender| (0..EACH).map(move |_| sender));
        let kept = kept.filter(|sender| parked.keep(&datagram(*sender, b"x"), now)).count();
        assert_eq!(kept, MOST);
        assert_eq!(parked.try_again(now + PATIENCE, |_| false), 0);
        assert_eq!(parked.try_again(now + 2 * PATIENCE, |_| panic!("nobody waits for it")), MOST);
        assert!(parked.is_empty() && parked.of.is_empty());
    }
}
