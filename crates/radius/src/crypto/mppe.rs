use md5::{Digest, Md5};

use crate::attribute::number::VENDOR_SPECIFIC;
use crate::builder::{BuildError, Builder};
use crate::crypto::secret::{Secret, SharedSecret};
use crate::packet::Packet;

/// The vendor that RFC 2548 is about.
pub(crate) const VENDOR: [u8; 4] = 311u32.to_be_bytes();
/// RFC 2548 sections 2.4.2 and 2.4.3.
const SEND_KEY: u8 = 16;
const RECV_KEY: u8 = 17;
const BLOCK: usize = 16;

impl Builder {
    /// Adds MS-MPPE-Recv-Key and MS-MPPE-Send-Key, in this order, hidden under the
    /// request's authenticator (RFC 2548 section 2.4). `salts` must be random and differ;
    /// their first bit is set here.
    pub fn session_keys(
        &mut self,
        keys: [&[u8]; 2],
        salts: [u16; 2],
        request_authenticator: &[u8; 16],
        secret: &SharedSecret,
    ) -> Result<(), BuildError> {
        for ((kind, key), salt) in [RECV_KEY, SEND_KEY].into_iter().zip(keys).zip(salts) {
            let salt = (salt | 0x8000).to_be_bytes();
            let mut value = [&VENDOR[..], &[kind, 0], &salt].concat();
            value.extend(hide(key, &salt, request_authenticator, secret));
            value[5] = (value.len() - VENDOR.len()) as u8;
            self.attribute(VENDOR_SPECIFIC, &value)?;
        }
        Ok(())
    }
}

/// The keys of an Access-Accept, receive key then send key, as the equipment
/// reads them; `None` where they are missing or do not decode.
pub fn read_session_keys(
    reply: &Packet<'_>,
    request_authenticator: &[u8; 16],
    secret: &SharedSecret,
) -> Option<(Secret, Secret)> {
    let find = |wanted: u8| {
        let value = reply.all(VENDOR_SPECIFIC).find(|value| kind(value) == Some(wanted))?;
        let (salt, hidden) = value.get(6..)?.split_first_chunk::<2>()?;
        reveal(hidden, salt, request_authenticator, secret)
    };
    Some((find(RECV_KEY)?, find(SEND_KEY)?))
}

/// The number of an attribute of RFC 2548.
fn kind(value: &[u8]) -> Option<u8> {
    value.strip_prefix(&VENDOR)?.first().copied()
}

pub(crate) fn hide(key: &[u8], salt: &[u8; 2], authenticator: &[u8; 16], secret: &SharedSecret) -> Vec<u8> {
    let mut bytes = [&[key.len() as u8], key].concat();
    bytes.resize(bytes.len().next_multiple_of(BLOCK), 0);
    let mut pad = Md5::new().chain_update(secret.expose()).chain_update(authenticator).chain_update(salt).finalize();
    for block in bytes.chunks_exact_mut(BLOCK) {
        block.iter_mut().zip(pad).for_each(|(byte, pad)| *byte ^= pad);
        pad = Md5::new().chain_update(secret.expose()).chain_update(&*block).finalize();
    }
    bytes
}

fn reveal(hidden: &[u8], salt: &[u8; 2], authenticator: &[u8; 16], secret: &SharedSecret) -> Option<Secret> {
    let mut bytes = Vec::with_capacity(hidden.len());
    let mut pad = Md5::new().chain_update(secret.expose()).chain_update(authenticator).chain_update(salt).finalize();
    for block in hidden.chunks_exact(BLOCK) {
        bytes.extend(block.iter().zip(pad).map(|(byte, pad)| byte ^ pad));
        pad = Md5::new().chain_update(secret.expose()).chain_update(block).finalize();
    }
    let (&length, rest) = bytes.split_first()?;
    rest.get(..usize::from(length)).map(Secret::new)
}
