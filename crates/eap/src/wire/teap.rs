//! TEAP's keys and the proof that tunnel and inner methods belong together (RFC
//! 7170 sections 4.2.13 and 5, RFC 9930 section 6; RFC 9427 section 2.2 for TLS 1.3).

use std::fmt;

use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop};

use crate::crypto::prf::SuiteHash;
use crate::failure::TlsFailure;
use crate::keys::Keys;
use crate::tls::{Engine, TlsVersion};
use crate::wire::kind::Kind;
use crate::wire::reader::Reader;
use crate::wire::tlv;

pub(crate) const VERSION: u8 = 1;

const EMSK_PRESENT: u8 = 1;
const MSK_PRESENT: u8 = 2;
const REQUEST: u8 = 0;
const RESPONSE: u8 = 1;
const LENGTH: usize = 76;

/// One chain of compound keys.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
struct Chain {
    s_imck: [u8; 40],
    cmk: [u8; 20],
}

impl fmt::Debug for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Chain(..)")
    }
}

/// Both chains, side by side. One step for each inner method.
#[derive(Clone, Debug)]
pub(crate) struct Chains {
    hash: SuiteHash,
    is_1_3: bool,
    msk: Chain,
    emsk: Chain,
    /// Whether the last inner method had an EMSK.
    has_emsk: bool,
    /// Outer TLVs of server and peer, which the proof covers.
    outer: (Vec<u8>, Vec<u8>),
}

/// A binding that holds: its nonce, and whether it proves the EMSK chain.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Held {
    pub(crate) nonce: [u8; 32],
    pub(crate) emsk: bool,
}

impl Chains {
    pub(crate) fn new(engine: &dyn Engine, outer: (Vec<u8>, Vec<u8>)) -> Result<Self, TlsFailure> {
        let is_1_3 = engine.about().version == Some(TlsVersion::Tls13);
        let mut s_imck = [0; 40];
        let context = [Kind::TEAP.0];
        engine.export("EXPORTER: teap session key seed", is_1_3.then_some(&context[..]), &mut s_imck)?;
        let chain = Chain { s_imck, cmk: [0; 20] };
        Ok(Self { hash: engine.hash(), is_1_3, msk: chain.clone(), emsk: chain, has_emsk: false, outer })
    }

    /// Goes on by an inner method's keys; one without keys counts as zeros.
    pub(crate) fn advance(&mut self, engine: &dyn Engine, keys: Option<&Keys>) -> Result<(), TlsFailure> {
        let mut imsk = [0; 32];
        if let Some(keys) = keys {
            imsk.copy_from_slice(&keys.msk.expose()[..32]);
        }
        self.msk = self.step(engine, &self.msk, &imsk)?;
        let emsk = keys.and_then(|keys| keys.emsk.as_ref());
        self.has_emsk = emsk.is_some();
        if let Some(emsk) = emsk {
            const LABEL: &str = "TEAPbindkey@ietf.org";
            let bound = self.hash.prf(emsk.expose(), LABEL, &[0, 0, 64], 64);
            imsk.copy_from_slice(&bound[..32]);
        }
        self.emsk = self.step(engine, &self.emsk, &imsk)?;
        Ok(())
    }

    /// Where no method runs (a session is resumed, or nobody else is there): the
    /// proof is made with zeros, and the keys stay those of the step before. What
    /// the RFC leaves open here a peer in wide use decides like this.
    pub(crate) fn stand_still(&mut self, engine: &dyn Engine) -> Result<(), TlsFailure> {
        self.has_emsk = false;
        self.msk.cmk = self.step(engine, &self.msk, &[0; 32])?.cmk;
        Ok(())
    }

    fn step(&self, engine: &dyn Engine, chain: &Chain, imsk: &[u8; 32]) -> Result<Chain, TlsFailure> {
        let made = self.derive(engine, &chain.s_imck, "Inner Methods Compound Keys", imsk, 60)?;
        let (mut s_imck, mut cmk) = ([0; 40], [0; 20]);
        s_imck.copy_from_slice(&made[..40]);
        cmk.copy_from_slice(&made[40..]);
        Ok(Chain { s_imck, cmk })
    }

    fn derive(
        &self,
        engine: &dyn Engine,
        secret: &[u8],
        label: &str,
        seed: &[u8],
        length: usize,
    ) -> Result<Vec<u8>, TlsFailure> {
        if !self.is_1_3 {
            return Ok(self.hash.prf(secret, label, seed, length));
        }
        let mut out = vec![0; length];
        engine.export(&format!("EXPORTER: {label}"), Some(&[secret, seed].concat()), &mut out)?;
        Ok(out)
    }

    /// MSK and EMSK of the whole, from the EMSK chain where the peer proved that
    /// it has it.
    pub(crate) fn keys(&self, engine: &dyn Engine, emsk: bool, session_id: Vec<u8>) -> Result<Keys, TlsFailure> {
        let chain = if emsk { &self.emsk } else { &self.msk };
        let msk = self.derive(engine, &chain.s_imck, "Session Key Generating Function", &[], 64)?;
        let label = "Extended Session Key Generating Function";
        let extended = self.derive(engine, &chain.s_imck, label, &[], 64)?;
        Ok(Keys::new(&msk, Some(&extended), session_id))
    }

    /// The value of Crypto-Binding with the proofs that there are.
    fn object(&self, sub_type: u8, nonce: &[u8; 32], flags: u8) -> Vec<u8> {
        let mut value = vec![0, VERSION, VERSION, flags << 4 | sub_type];
        value.extend_from_slice(nonce);
        value.resize(LENGTH, 0);
        let zeroed = value.clone();
        if flags & EMSK_PRESENT != 0 {
            value[36..56].copy_from_slice(&self.mac(&self.emsk, &zeroed));
        }
        if flags & MSK_PRESENT != 0 {
            value[56..].copy_from_slice(&self.mac(&self.msk, &zeroed));
        }
        value
    }

    fn mac(&self, chain: &Chain, zeroed: &[u8]) -> [u8; 20] {
        let mut whole = Vec::new();
        tlv::push(&mut whole, true, tlv::CRYPTO_BINDING, zeroed);
        let made = self.hash.mac(&chain.cmk, &[&whole, &[Kind::TEAP.0], &self.outer.0, &self.outer.1]);
        *made.first_chunk().expect("the hash is longer")
    }

    fn flags(&self) -> u8 {
        if self.has_emsk { EMSK_PRESENT | MSK_PRESENT } else { MSK_PRESENT }
    }

    /// The server's proof; the last bit of its nonce is zero.
    pub(crate) fn request(&self, mut nonce: [u8; 32]) -> (Vec<u8>, [u8; 32]) {
        nonce[31] &= 0xfe;
        (self.object(REQUEST, &nonce, self.flags()), nonce)
    }

    /// The peer's answer to a proof that holds.
    pub(crate) fn response(&self, held: Held) -> Vec<u8> {
        let mut nonce = held.nonce;
        nonce[31] |= 1;
        self.object(RESPONSE, &nonce, if held.emsk { EMSK_PRESENT | MSK_PRESENT } else { MSK_PRESENT })
    }

    fn check(&self, value: &[u8], sub_type: u8) -> Option<Held> {
        let mut reader = Reader(value);
        let [_, version, received, kind] = reader.array()?;
        let nonce = reader.array()?;
        let (emsk, msk): ([u8; 20], [u8; 20]) = (reader.array()?, reader.array()?);
        let flags = kind >> 4;
        if !reader.is_empty() || (version, received, kind & 0x0f) != (VERSION, VERSION, sub_type) {
            return None;
        }
        let mut zeroed = value.to_vec();
        zeroed[36..].fill(0);
        let holds = |chain, mac: &[u8; 20]| bool::from(self.mac(chain, &zeroed).ct_eq(mac));
        let by_emsk = flags & EMSK_PRESENT != 0 && self.has_emsk;
        // What cannot be judged is no proof; what can must hold.
        let fails = by_emsk && !holds(&self.emsk, &emsk) || flags & MSK_PRESENT != 0 && !holds(&self.msk, &msk);
        let proves = by_emsk || flags & MSK_PRESENT != 0;
        (proves && !fails).then_some(Held { nonce, emsk: by_emsk })
    }

    pub(crate) fn check_request(&self, value: &[u8]) -> Option<Held> {
        self.check(value, REQUEST).filter(|held| held.nonce[31] & 1 == 0)
    }

    /// Whether the peer's answer holds, for the nonce that was sent.
    pub(crate) fn check_response(&self, value: &[u8], sent: &[u8; 32]) -> Option<Held> {
        let held = self.check(value, RESPONSE)?;
        let mut expected = *sent;
        expected[31] |= 1;
        (held.nonce == expected).then_some(held)
    }
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::tls::TlsAbout;

    /// A TLS connection whose exporter depends on its secret and what it is asked.
    #[derive(Debug)]
    struct Fake {
        secret: u8,
        about: Arc<TlsAbout>,
    }

    impl Fake {
        fn new(secret: u8, version: TlsVersion) -> Self {
            Self { secret, about: Arc::new(TlsAbout { version: Some(version), ..TlsAbout::default() }) }
        }
    }

    impl Engine for Fake {
        fn receive(&mut self, _: &[u8]) -> Result<(), TlsFailure> {
            Ok(())
        }
        fn records(&mut self) -> Vec<u8> {
            Vec::new()
        }
        fn read(&mut self) -> Vec<u8> {
            Vec::new()
        }
        fn write(&mut self, _: &[u8]) {}
        fn is_handshaking(&self) -> bool {
            false
        }
        fn export(&self, label: &str, context: Option<&[u8]>, out: &mut [u8]) -> Result<(), TlsFailure> {
            let made = self.hash().prf(&[self.secret; 32], label, context.unwrap_or_default(), out.len());
            out.copy_from_slice(&made);
            Ok(())
        }
        fn about(&self) -> &Arc<TlsAbout> {
            &self.about
        }
        fn hash(&self) -> SuiteHash {
            SuiteHash::Sha256
        }
    }

    const VERSIONS: [TlsVersion; 2] = [TlsVersion::Tls12, TlsVersion::Tls13];

    fn chains(engine: &Fake, inner: &[Option<Keys>]) -> Chains {
        let mut chains = Chains::new(engine, (b"server".to_vec(), b"peer".to_vec())).unwrap();
        inner.iter().for_each(|keys| chains.advance(engine, keys.as_ref()).unwrap());
        chains
    }

    fn keys(msk: u8, emsk: Option<u8>) -> Option<Keys> {
        Some(Keys::new(&[msk; 64], emsk.map(|fill| [fill; 64]).as_ref().map(|emsk| &emsk[..]), Vec::new()))
    }

    #[test]
    fn the_proof_holds_for_the_same_tunnel_and_the_same_methods_in_the_same_order() {
        for version in VERSIONS {
            let engine = Fake::new(1, version);
            let both = [keys(2, None), keys(3, Some(4))];
            let (ours, theirs) = (chains(&engine, &both), chains(&engine, &both));
            let (request, nonce) = ours.request([0xff; 32]);
            let held = theirs.check_request(&request).unwrap();
            assert!(held.emsk && held.nonce == nonce && nonce[31] == 0xfe);
            let answer = theirs.response(held);
            assert!(ours.check_response(&answer, &nonce).unwrap().emsk);
            assert_eq!(ours.check_response(&answer, &[1; 32]), None, "an answer to another nonce");
            assert_eq!(ours.check_response(&request, &nonce), None, "a request is no answer");
            let others = [
                chains(&engine, &[keys(3, Some(4)), keys(2, None)]),
                chains(&engine, &[keys(2, None)]),
                chains(&engine, &[keys(2, None), None]),
                chains(&engine, &[keys(2, None), keys(3, Some(5))]),
                chains(&Fake::new(9, version), &both),
            ];
            for other in others {
                assert_eq!(other.check_request(&request), None);
            }
        }
    }

    #[test]
    fn the_keys_are_those_of_the_chain_that_was_proved() {
        for version in VERSIONS {
            let engine = Fake::new(1, version);
            let chains = chains(&engine, &[keys(3, Some(4))]);
            let made = |emsk| chains.keys(&engine, emsk, Vec::new()).unwrap();
            assert_ne!(made(true), made(false));
            // A peer that confirms the MSK chain alone is taken at its word.
            let (request, nonce) = chains.request([7; 32]);
            let held = chains.check_request(&request).unwrap();
            let answer = chains.response(Held { emsk: false, ..held });
            assert!(!chains.check_response(&answer, &nonce).unwrap().emsk);
        }
    }

    #[test]
    fn without_an_emsk_only_the_other_chain_is_proved_and_zeros_stand_for_no_keys() {
        let engine = Fake::new(1, TlsVersion::Tls12);
        let chains = |keys| chains(&engine, &[keys]);
        let (request, _) = chains(keys(3, None)).request([7; 32]);
        assert_eq!(request[3] >> 4, MSK_PRESENT);
        assert!(!chains(keys(3, None)).check_request(&request).unwrap().emsk);
        let zeros = chains(Some(Keys::new(&[0; 64], None, Vec::new())));
        assert!(zeros.check_request(&chains(None).request([7; 32]).0).is_some());
    }

    #[test]
    fn a_proof_that_is_cut_or_changed_does_not_hold() {
        let engine = Fake::new(1, TlsVersion::Tls13);
        let chains = chains(&engine, &[keys(3, Some(4))]);
        let (request, _) = chains.request([7; 32]);
        for length in 0..request.len() {
            assert_eq!(chains.check_request(&request[..length]), None);
        }
        for place in 0..request.len() {
            for bit in 0..8 {
                let mut changed = request.clone();
                changed[place] ^= 1 << bit;
                let held = chains.check_request(&changed);
                // The first byte is reserved, and covered all the same.
                assert_eq!(held, None, "byte {place}, bit {bit}");
            }
        }
    }
}
