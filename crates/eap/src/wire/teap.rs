//! TEAP's keys and the proof that tunnel and inner methods belong together (RFC
//! 7170 sections 4.2.13 and 5, RFC 9930 section 6; RFC 9427 section 2.2 for TLS 1.3).

use std::fmt;

use subtle::ConstantTimeEq;
use zeroize::{Zeroize, ZeroizeOnDrop, Zeroizing};

use crate::crypto::prf::SuiteHash;
use crate::failure::TlsFailure;
use crate::keys::Keys;
use crate::tls::{Engine, TlsVersion};
use crate::wire::kind::Kind;
use crate::wire::reader::Reader;
use crate::wire::tlv;

pub(crate) const VERSION: u8 = 1;

/// Crypto-Binding's flags that say that the MSK Compound MAC is there, and it alone.
const MSK_PRESENT: u8 = 2;
const REQUEST: u8 = 0;
const RESPONSE: u8 = 1;
/// Where the EMSK Compound MAC would stand, and where the MSK's stands.
const UNUSED: usize = 36;
const MAC: usize = 56;
const LENGTH: usize = 76;

/// The chain of compound keys, one step for each inner method, made of their MSKs.
///
/// A method such as EAP-TLS has an EMSK too, of which a second chain could be made
/// and proved beside this one (RFC 7170 section 5.2). A supplicant in wide use
/// then proves both and takes its keys from this one, while the RFC takes them from
/// the other: access would be told and no frame pass. What is proved by one chain
/// alone leaves nobody in doubt, so the other is never offered.
#[derive(Clone, Zeroize, ZeroizeOnDrop)]
pub(crate) struct Chain {
    #[zeroize(skip)]
    hash: SuiteHash,
    #[zeroize(skip)]
    is_1_3: bool,
    s_imck: [u8; 40],
    cmk: [u8; 20],
    /// Outer TLVs of server and peer, which the proof covers.
    #[zeroize(skip)]
    outer: (Vec<u8>, Vec<u8>),
}

impl fmt::Debug for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Chain(..)")
    }
}

impl Chain {
    pub(crate) fn new(engine: &dyn Engine, outer: (Vec<u8>, Vec<u8>)) -> Result<Self, TlsFailure> {
        let is_1_3 = engine.about().version == Some(TlsVersion::Tls13);
        let mut s_imck = [0; 40];
        let context = [Kind::TEAP.0];
        engine.export("EXPORTER: teap session key seed", is_1_3.then_some(&context[..]), &mut s_imck)?;
        Ok(Self { hash: engine.hash(), is_1_3, s_imck, cmk: [0; 20], outer })
    }

    /// Goes on by an inner method's keys; one without keys counts as zeros.
    pub(crate) fn advance(&mut self, engine: &dyn Engine, keys: Option<&Keys>) -> Result<(), TlsFailure> {
        let mut imsk = Zeroizing::new([0; 32]);
        if let Some(keys) = keys {
            imsk.copy_from_slice(&keys.msk.expose()[..32]);
        }
        let made = self.step(engine, &imsk)?;
        self.s_imck.copy_from_slice(&made[..40]);
        self.cmk.copy_from_slice(&made[40..]);
        Ok(())
    }

    /// Where no method runs (a session is resumed, or nobody else is there): the
    /// proof is made with zeros, and the keys stay those of the step before. What
    /// the RFC leaves open here a peer in wide use decides like this.
    pub(crate) fn stand_still(&mut self, engine: &dyn Engine) -> Result<(), TlsFailure> {
        let made = self.step(engine, &[0; 32])?;
        self.cmk.copy_from_slice(&made[40..]);
        Ok(())
    }

    fn step(&self, engine: &dyn Engine, imsk: &[u8; 32]) -> Result<Zeroizing<Vec<u8>>, TlsFailure> {
        self.derive(engine, "Inner Methods Compound Keys", imsk, 60)
    }

    fn derive(
        &self,
        engine: &dyn Engine,
        label: &str,
        seed: &[u8],
        length: usize,
    ) -> Result<Zeroizing<Vec<u8>>, TlsFailure> {
        if !self.is_1_3 {
            return Ok(Zeroizing::new(self.hash.prf(&self.s_imck, label, seed, length)));
        }
        let mut out = Zeroizing::new(vec![0; length]);
        let context = Zeroizing::new([&self.s_imck[..], seed].concat());
        engine.export(&format!("EXPORTER: {label}"), Some(&context), &mut out)?;
        Ok(out)
    }

    /// MSK and EMSK of the whole.
    pub(crate) fn keys(&self, engine: &dyn Engine, session_id: Vec<u8>) -> Result<Keys, TlsFailure> {
        let msk = self.derive(engine, "Session Key Generating Function", &[], 64)?;
        let extended = self.derive(engine, "Extended Session Key Generating Function", &[], 64)?;
        Ok(Keys::new(&msk, Some(&extended), session_id))
    }

    /// The value of Crypto-Binding.
    fn object(&self, sub_type: u8, nonce: &[u8; 32]) -> Vec<u8> {
        let mut value = vec![0, VERSION, VERSION, MSK_PRESENT << 4 | sub_type];
        value.extend_from_slice(nonce);
        value.resize(LENGTH, 0);
        let mac = self.mac(&value);
        value[MAC..].copy_from_slice(&mac);
        value
    }

    fn mac(&self, zeroed: &[u8]) -> [u8; 20] {
        let mut whole = Vec::new();
        tlv::push(&mut whole, true, tlv::CRYPTO_BINDING, zeroed);
        let made = self.hash.mac(&self.cmk, &[&whole, &[Kind::TEAP.0], &self.outer.0, &self.outer.1]);
        *made.first_chunk().expect("the hash is longer")
    }

    /// The server's proof, and its nonce, whose last bit is zero.
    pub(crate) fn request(&self, mut nonce: [u8; 32]) -> (Vec<u8>, [u8; 32]) {
        nonce[31] &= 0xfe;
        (self.object(REQUEST, &nonce), nonce)
    }

    /// The peer's answer to a proof that holds.
    pub(crate) fn response(&self, mut nonce: [u8; 32]) -> Vec<u8> {
        nonce[31] |= 1;
        self.object(RESPONSE, &nonce)
    }

    /// The nonce of a proof that holds.
    fn check(&self, value: &[u8], sub_type: u8) -> Option<[u8; 32]> {
        let mut reader = Reader(value);
        let [_, version, received, kind] = reader.array()?;
        let nonce = reader.array()?;
        let (_, mac): ([u8; 20], [u8; 20]) = (reader.array()?, reader.array()?);
        let right = (VERSION, VERSION, MSK_PRESENT << 4 | sub_type);
        if !reader.is_empty() || (version, received, kind) != right {
            return None;
        }
        let mut zeroed = value.to_vec();
        zeroed[UNUSED..].fill(0);
        bool::from(self.mac(&zeroed).ct_eq(&mac)).then_some(nonce)
    }

    /// The nonce of the server's proof, where it holds.
    pub(crate) fn check_request(&self, value: &[u8]) -> Option<[u8; 32]> {
        self.check(value, REQUEST).filter(|nonce| nonce[31] & 1 == 0)
    }

    /// Whether the peer's answer holds, for the nonce that was sent.
    pub(crate) fn check_response(&self, value: &[u8], sent: &[u8; 32]) -> bool {
        let mut expected = *sent;
        expected[31] |= 1;
        self.check(value, RESPONSE) == Some(expected)
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
        fn refuse(&mut self) -> Option<Vec<u8>> {
            None
        }
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

    fn chain(engine: &Fake, inner: &[Option<Keys>]) -> Chain {
        let mut chain = Chain::new(engine, (b"server".to_vec(), b"peer".to_vec())).unwrap();
        inner.iter().for_each(|keys| chain.advance(engine, keys.as_ref()).unwrap());
        chain
    }

    fn keys(msk: u8) -> Option<Keys> {
        Some(Keys::new(&[msk; 64], None, Vec::new()))
    }

    #[test]
    fn the_proof_holds_for_the_same_tunnel_and_the_same_methods_in_the_same_order() {
        for version in VERSIONS {
            let engine = Fake::new(1, version);
            let both = [keys(2), keys(3)];
            let (ours, theirs) = (chain(&engine, &both), chain(&engine, &both));
            let (request, nonce) = ours.request([0xff; 32]);
            assert_eq!(theirs.check_request(&request), Some(nonce));
            assert_eq!(nonce[31], 0xfe);
            let answer = theirs.response(nonce);
            assert!(ours.check_response(&answer, &nonce));
            assert!(!ours.check_response(&answer, &[1; 32]), "an answer to another nonce");
            assert!(!ours.check_response(&request, &nonce), "a request is no answer");
            let same = |chain: &Chain| chain.keys(&engine, Vec::new()).unwrap();
            assert_eq!(same(&ours), same(&theirs));
            let others = [
                chain(&engine, &[keys(3), keys(2)]),
                chain(&engine, &[keys(2)]),
                chain(&engine, &[keys(2), None]),
                chain(&engine, &[keys(2), keys(4)]),
                chain(&Fake::new(9, version), &both),
            ];
            for other in others {
                assert_eq!(other.check_request(&request), None);
            }
        }
    }

    #[test]
    fn a_method_with_an_emsk_is_proved_by_its_msk_and_zeros_stand_for_no_keys() {
        let engine = Fake::new(1, TlsVersion::Tls12);
        let chain = |keys| chain(&engine, &[keys]);
        let with = Some(Keys::new(&[3; 64], Some(&[4; 64]), Vec::new()));
        let (request, _) = chain(with).request([7; 32]);
        assert_eq!(request[3] >> 4, MSK_PRESENT);
        assert!(request[UNUSED..MAC].iter().all(|&byte| byte == 0));
        assert!(chain(keys(3)).check_request(&request).is_some());
        assert!(chain(keys(0)).check_request(&chain(None).request([7; 32]).0).is_some());
    }

    #[test]
    fn a_proof_that_is_cut_or_changed_does_not_hold() {
        let engine = Fake::new(1, TlsVersion::Tls13);
        let chain = chain(&engine, &[keys(3)]);
        let (request, _) = chain.request([7; 32]);
        for length in 0..request.len() {
            assert_eq!(chain.check_request(&request[..length]), None);
        }
        // What stands in the place of the MAC that is not there is not looked at.
        for place in (0..UNUSED).chain(MAC..request.len()) {
            for bit in 0..8 {
                let mut changed = request.clone();
                changed[place] ^= 1 << bit;
                // The first byte is reserved, and covered all the same.
                assert_eq!(chain.check_request(&changed), None, "byte {place}, bit {bit}");
            }
        }
    }
}
