//! What PEAP puts into its tunnel: inner packets without their headers, and the
//! messages that end it.

use std::fmt;

use zeroize::{Zeroize, ZeroizeOnDrop};

use crate::crypto::prf::{hmac_sha1, peap_prf};
use crate::keys::Keys;
use crate::wire::kind::Kind;
use crate::wire::packet::{Code, Packet, build};
use crate::wire::reader::Reader;
use crate::wire::tlv;

/// An inner packet as it goes through the tunnel: without code, identifier and
/// length, which are those of the packet around it; extensions go whole.
pub(crate) fn strip(packet: &[u8]) -> &[u8] {
    packet.get(4..).unwrap_or_default()
}

/// The inner packet of what came through the tunnel.
pub(crate) fn unstrip(plain: &[u8], code: Code, identifier: u8) -> Option<Vec<u8>> {
    let (kind, data) = plain.split_first()?;
    (data.len() < 60_000).then(|| build(code, identifier, Kind(*kind), data))
}

/// The objects of an extensions message; `None` where it is something else.
pub(crate) fn extensions(plain: &[u8], code: Code) -> Option<Vec<tlv::Tlv<'_>>> {
    let packet = Packet::parse(plain).ok()?;
    (packet.code == code && packet.kind == Some(Kind::EXTENSIONS)).then(|| tlv::parse(packet.data)).flatten()
}

/// The two ends' proof that tunnel and inner method belong together.
#[derive(Zeroize, ZeroizeOnDrop)]
pub(crate) struct Binding {
    /// Keys everything else is made from.
    ipmk: [u8; 40],
    cmk: [u8; 20],
}

impl fmt::Debug for Binding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Binding(..)")
    }
}

const REQUEST: u8 = 0;
const RESPONSE: u8 = 1;
const LENGTH: usize = 56;

impl Binding {
    /// From the tunnel's key material (its first 60 bytes) and the inner method's
    /// MSK; without one, zeros count. A resumed tunnel has no inner method.
    pub(crate) fn new(tunnel_key: &[u8], inner: Option<&Keys>, resumed: bool) -> Self {
        let (mut ipmk, mut cmk) = ([0; 40], [0; 20]);
        let mut isk = [0; 32];
        if let Some(keys) = inner {
            isk.copy_from_slice(&keys.msk.expose()[..32]);
        }
        let made = match resumed {
            true => tunnel_key[..60].to_vec(),
            false => peap_prf(&tunnel_key[..40], "Inner Methods Compound Keys", &isk, 60),
        };
        ipmk.copy_from_slice(&made[..40]);
        cmk.copy_from_slice(&made[40..60]);
        Self { ipmk, cmk }
    }

    fn object(&self, sub_type: u8, nonce: &[u8; 32]) -> Vec<u8> {
        let mut value = vec![0, 0, 0, sub_type];
        value.extend_from_slice(nonce);
        value.extend_from_slice(&self.mac(&value));
        value
    }

    fn mac(&self, head: &[u8]) -> Vec<u8> {
        let mut whole = Vec::new();
        tlv::push(&mut whole, false, tlv::CRYPTO_BINDING, &[head, &[0; 20]].concat());
        hmac_sha1(&self.cmk, &[&whole, &[Kind::PEAP.0]])
    }

    pub(crate) fn request(&self, nonce: &[u8; 32]) -> Vec<u8> {
        self.object(REQUEST, nonce)
    }

    pub(crate) fn response(&self, nonce: &[u8; 32]) -> Vec<u8> {
        self.object(RESPONSE, nonce)
    }

    /// Whether a request or response holds; gives its nonce.
    fn check(&self, value: &[u8], sub_type: u8) -> Option<[u8; 32]> {
        let (head, mac) = (value.len() == LENGTH).then(|| value.split_at(36))?;
        let mut reader = Reader(head);
        let [_, _, _, found] = reader.array()?;
        let nonce = reader.array()?;
        let same = subtle::ConstantTimeEq::ct_eq(self.mac(head).as_slice(), mac);
        (found == sub_type && bool::from(same)).then_some(nonce)
    }

    pub(crate) fn check_request(&self, value: &[u8]) -> Option<[u8; 32]> {
        self.check(value, REQUEST)
    }

    pub(crate) fn check_response(&self, value: &[u8]) -> Option<[u8; 32]> {
        self.check(value, RESPONSE)
    }

    /// MSK and EMSK, bound to the inner method.
    pub(crate) fn keys(&self, session_id: Vec<u8>) -> Keys {
        let made = peap_prf(&self.ipmk, "Session Key Generating Function", &[0], 128);
        Keys::new(&made[..64], Some(&made[64..]), session_id)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys(fill: u8) -> Keys {
        Keys::new(&[fill; 32], None, Vec::new())
    }

    #[test]
    fn a_binding_holds_between_the_same_tunnel_and_the_same_inner_keys_only() {
        let tunnel = [1; 64];
        let ours = Binding::new(&tunnel, Some(&keys(2)), false);
        let nonce = [9; 32];
        let request = ours.request(&nonce);
        let same = Binding::new(&tunnel, Some(&keys(2)), false);
        assert_eq!(same.check_request(&request), Some(nonce));
        assert_eq!(same.check_response(&request), None, "a request is no response");
        assert_eq!(ours.check_response(&same.response(&nonce)), Some(nonce));
        assert_eq!(ours.keys(Vec::new()), same.keys(Vec::new()));
        // Somebody who relays the inner method has the tunnel's keys and not the method's.
        for other in [
            Binding::new(&tunnel, None, false),
            Binding::new(&tunnel, Some(&keys(3)), false),
            Binding::new(&[4; 64], Some(&keys(2)), false),
            Binding::new(&tunnel, Some(&keys(2)), true),
        ] {
            assert_eq!(other.check_request(&request), None);
            assert_ne!(other.keys(Vec::new()), ours.keys(Vec::new()));
        }
    }

    #[test]
    fn a_binding_that_is_cut_or_changed_does_not_hold() {
        let binding = Binding::new(&[1; 64], Some(&keys(2)), false);
        let request = binding.request(&[9; 32]);
        for length in 0..request.len() {
            assert_eq!(binding.check_request(&request[..length]), None);
        }
        for place in 4..request.len() {
            let mut changed = request.clone();
            changed[place] ^= 1;
            assert_eq!(binding.check_request(&changed), None, "byte {place}");
        }
    }
}
