//! The PDUs of connection-oriented DCE/RPC ([C706] chapter 12), with the security of [MS-RPCE].
//!
//! ```text
//!  0                   1                   2                   3
//!  0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1 2 3 4 5 6 7 8 9 0 1
//! +-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+-+
//! |   version 5   |    minor 0    |     type      |     flags     |
//! |            data representation: little-endian, ASCII, IEEE    |
//! |            length             |     length of signature       |
//! |                             call                              |
//! ```

use thiserror::Error;

use crate::crypto::SessionKey;
use crate::ndr::Reader;
use crate::seal::{SIGNATURE, Seal};
use crate::{Machine, Malformed};

/// The bytes of a PDU's header.
pub const HEADER: usize = 16;
/// The longest answer that is taken, of all its PDUs together.
pub const LONGEST_ANSWER: usize = 256 << 10;

/// The longest PDU that is sent and taken.
const LONGEST_PDU: u16 = 5_840;
const REPRESENTATION: [u8; 4] = [0x10, 0, 0, 0];

const REQUEST: u8 = 0;
const RESPONSE: u8 = 2;
const FAULT: u8 = 3;
const BIND: u8 = 11;
const BIND_ACK: u8 = 12;
const BIND_NAK: u8 = 13;

const FIRST: u8 = 1;
const LAST: u8 = 2;

/// The secure channel, as security of RPC ([MS-RPCE] section 2.2.1.1.7), encrypting.
const NETLOGON_SECURITY: u8 = 68;
const PRIVACY: u8 = 6;
/// Contents and what fills them up are a multiple of these before they are encrypted.
const FILL: usize = 16;
/// The trailer before a signature ([MS-RPCE] section 2.2.2.11).
const TRAILER: usize = 8;

/// An interface: its UUID as it is sent, and its version.
pub(crate) type Interface = ([u8; 16], u32);

/// The endpoint mapper.
pub(crate) const MAPPER: Interface =
    ([0x08, 0x83, 0xaf, 0xe1, 0x1f, 0x5d, 0xc9, 0x11, 0x91, 0xa4, 0x08, 0x00, 0x2b, 0x14, 0xa0, 0xfa], 3);
/// NETLOGON.
pub(crate) const NETLOGON: Interface =
    ([0x78, 0x56, 0x34, 0x12, 0x34, 0x12, 0xcd, 0xab, 0xef, 0x00, 0x01, 0x23, 0x45, 0x67, 0xcf, 0xfb], 1);
/// NDR.
pub(crate) const NDR: Interface =
    ([0x04, 0x5d, 0x88, 0x8a, 0xeb, 0x1c, 0xc9, 0x11, 0x9f, 0xe8, 0x08, 0x00, 0x2b, 0x10, 0x48, 0x60], 2);

/// One connection, of which one call after the other goes out.
#[derive(Debug)]
pub struct Link {
    interface: Interface,
    call: u32,
    /// Who asks, and what seals, where it is sealed.
    sealed: Option<(Machine, Seal)>,
    /// What came of the answer so far.
    answer: Vec<u8>,
}

/// Why a connection is of no more use.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[non_exhaustive]
pub enum LinkError {
    /// What came is cut, or nothing that belongs here.
    #[error("it answers what is no DCE/RPC")]
    Malformed,
    /// It takes no such connection.
    #[error("it does not take the connection (reason {0})")]
    Refused(u16),
    /// The call failed there.
    #[error("the call failed with 0x{0:08X}")]
    Fault(u32),
    /// What came was made by somebody else.
    #[error("its answer is not signed as it should be")]
    Forged,
    /// More came than is taken.
    #[error("its answer has more than {LONGEST_ANSWER} bytes")]
    TooLong,
}

impl From<Malformed> for LinkError {
    fn from(_: Malformed) -> Self {
        Self::Malformed
    }
}

/// How many bytes a PDU has whose header this is.
pub fn pdu_length(header: &[u8; HEADER]) -> Result<usize, LinkError> {
    let length = usize::from(u16::from_le_bytes([header[8], header[9]]));
    let sane = header[0] == 5 && header[4] & 0xf0 == 0x10 && length >= HEADER;
    if sane { Ok(length) } else { Err(LinkError::Malformed) }
}

impl Link {
    /// One to the endpoint mapper.
    pub fn to_mapper() -> Self {
        Self { interface: MAPPER, call: 0, sealed: None, answer: Vec::new() }
    }

    /// One to NETLOGON on which both sides prove themselves.
    pub fn plain() -> Self {
        Self { interface: NETLOGON, ..Self::to_mapper() }
    }

    /// One to NETLOGON of a machine that has proved itself.
    pub fn sealed(machine: &Machine, key: SessionKey) -> Self {
        Self { sealed: Some((machine.clone(), Seal::new(key))), ..Self::plain() }
    }

    /// The first PDU.
    pub fn bind(&mut self) -> Vec<u8> {
        let mut body = Vec::new();
        for size in [LONGEST_PDU, LONGEST_PDU, 0, 0] {
            body.extend(size.to_le_bytes());
        }
        // One context, with one way to write values.
        body.extend([1, 0, 0, 0, 0, 0, 1, 0]);
        for (uuid, version) in [self.interface, NDR] {
            body.extend(uuid);
            body.extend(version.to_le_bytes());
        }
        let signature = self.sealed.as_ref().map(|(machine, _)| negotiate(machine)).unwrap_or_default();
        if !signature.is_empty() {
            body.extend(trailer(0));
        }
        self.pdu(BIND, &body, &signature)
    }

    /// What came to it.
    pub fn bound(&mut self, pdu: &[u8]) -> Result<(), LinkError> {
        let (kind, mut body, _) = parts(pdu)?;
        match kind {
            BIND_ACK => {}
            BIND_NAK => return Err(LinkError::Refused(body.u16()?)),
            FAULT => return Err(fault(body)?),
            _ => return Err(LinkError::Malformed),
        }
        body.take(8)?;
        let port = body.u16()?;
        body.take(port.into())?;
        body.align(4);
        let (results, _) = (body.u8()?, body.take(3)?);
        let (result, reason) = (body.u16()?, body.u16()?);
        match (results, result) {
            (1.., 0) => Ok(()),
            (1.., _) => Err(LinkError::Refused(reason)),
            _ => Err(LinkError::Malformed),
        }
    }

    /// A call: its number, and what it is given. `confounder` is eight random bytes.
    pub fn request(&mut self, operation: u16, given: &[u8], confounder: [u8; 8]) -> Vec<u8> {
        self.call += 1;
        self.answer.clear();
        let mut body = (given.len() as u32).to_le_bytes().to_vec();
        body.extend([0, 0]);
        body.extend(operation.to_le_bytes());
        let start = body.len();
        body.extend(given);
        let Some((_, seal)) = &mut self.sealed else { return self.pdu(REQUEST, &body, &[]) };
        let fill = (body.len() - start).next_multiple_of(FILL) - (body.len() - start);
        body.resize(body.len() + fill, 0);
        let signature = seal.seal(&mut body[start..], confounder);
        body.extend(trailer(fill as u8));
        self.pdu(REQUEST, &body, &signature)
    }

    /// A PDU that came after it; the whole answer, once all of it is there.
    pub fn answer(&mut self, pdu: &[u8]) -> Result<Option<Vec<u8>>, LinkError> {
        let (kind, mut body, signature) = parts(pdu)?;
        let call = u32::from_le_bytes(pdu[12..16].try_into().map_err(|_| LinkError::Malformed)?);
        if call != self.call {
            return Err(LinkError::Malformed);
        }
        match kind {
            RESPONSE => {}
            FAULT => return Err(fault(body)?),
            _ => return Err(LinkError::Malformed),
        }
        body.take(8)?;
        let mut contents = body.rest().to_vec();
        if let Some((_, seal)) = &mut self.sealed {
            let (signature, fill) = signature.ok_or(LinkError::Forged)?;
            seal.open(&mut contents, signature).map_err(|_| LinkError::Forged)?;
            let length = contents.len().checked_sub(fill).ok_or(LinkError::Malformed)?;
            contents.truncate(length);
        }
        if self.answer.len() + contents.len() > LONGEST_ANSWER {
            return Err(LinkError::TooLong);
        }
        self.answer.extend(contents);
        Ok((pdu[3] & LAST != 0).then(|| std::mem::take(&mut self.answer)))
    }

    /// A PDU that is whole by itself: nothing that is sent here is longer.
    fn pdu(&self, kind: u8, body: &[u8], signature: &[u8]) -> Vec<u8> {
        let length = HEADER + body.len() + signature.len();
        let mut pdu = vec![5, 0, kind, FIRST | LAST];
        pdu.extend(REPRESENTATION);
        pdu.extend((length as u16).to_le_bytes());
        pdu.extend((signature.len() as u16).to_le_bytes());
        pdu.extend(self.call.to_le_bytes());
        pdu.extend(body);
        pdu.extend(signature);
        pdu
    }
}

/// The kind of a PDU, its body, and its signature with how many bytes fill the body up.
type Parts<'p> = (u8, Reader<'p>, Option<(&'p [u8], usize)>);

fn parts(pdu: &[u8]) -> Result<Parts<'_>, LinkError> {
    let header: &[u8; HEADER] = pdu.get(..HEADER).and_then(|head| head.try_into().ok()).ok_or(LinkError::Malformed)?;
    if pdu_length(header)? != pdu.len() {
        return Err(LinkError::Malformed);
    }
    let signature = usize::from(u16::from_le_bytes([header[10], header[11]]));
    let body = &pdu[HEADER..];
    if signature == 0 {
        return Ok((header[2], Reader::new(body), None));
    }
    let (body, signature) = body.split_at_checked(body.len().wrapping_sub(signature)).ok_or(LinkError::Malformed)?;
    let (body, trailer) = body.split_at_checked(body.len().wrapping_sub(TRAILER)).ok_or(LinkError::Malformed)?;
    let fill = usize::from(trailer[2]);
    Ok((header[2], Reader::new(body), Some((signature, fill))))
}

fn fault(mut body: Reader<'_>) -> Result<LinkError, Malformed> {
    body.take(8)?;
    body.u32().map(LinkError::Fault)
}

fn trailer(fill: u8) -> [u8; TRAILER] {
    [NETLOGON_SECURITY, PRIVACY, fill, 0, 1, 0, 0, 0]
}

/// NL_AUTH_MESSAGE ([MS-NRPC] section 2.2.1.3.1): the domain and the machine by their short names.
fn negotiate(machine: &Machine) -> Vec<u8> {
    let mut message = vec![0, 0, 0, 0, 3, 0, 0, 0];
    for name in [machine.domain.as_str(), machine.computer()] {
        message.extend(name.as_bytes());
        message.push(0);
    }
    message
}

const _: () = assert!(SIGNATURE < 256);

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn machine() -> Machine {
        Machine { domain: "TARN".into(), account: "REGNANT$".into() }
    }

    /// What a controller sends, plain.
    fn pdu(kind: u8, flags: u8, call: u32, body: &[u8]) -> Vec<u8> {
        let link = Link { call, ..Link::plain() };
        let mut pdu = link.pdu(kind, body, &[]);
        pdu[3] = flags;
        pdu
    }

    #[test]
    fn an_answer_in_pieces_is_put_together_and_is_that_of_the_call() {
        let mut link = Link::plain();
        link.bind();
        link.request(4, b"x", [0; 8]);
        let piece = |flags, call, text: &[u8]| pdu(RESPONSE, flags, call, &[&[0; 8][..], text].concat());
        assert_eq!(link.answer(&piece(FIRST, 1, b"har")), Ok(None));
        assert_eq!(link.answer(&piece(LAST, 1, b"bour")), Ok(Some(b"harbour".to_vec())));
        assert_eq!(link.answer(&piece(LAST, 7, b"x")), Err(LinkError::Malformed));
        let fault = pdu(FAULT, 3, 1, &[0, 0, 0, 0, 0, 0, 0, 0, 5, 0, 0, 0]);
        assert_eq!(link.answer(&fault), Err(LinkError::Fault(5)));
        let long = vec![0; 60_000];
        let outcomes: Vec<_> = (0..6).map(|_| link.answer(&piece(0, 1, &long))).collect();
        assert!(outcomes.contains(&Err(LinkError::TooLong)), "{outcomes:?}");
    }

    #[test]
    fn a_sealed_link_takes_no_plain_answer() {
        let mut link = Link::sealed(&machine(), SessionKey([1; 16]));
        link.bind();
        link.request(39, b"x", [0; 8]);
        let plain = pdu(RESPONSE, 3, 1, &[&[0; 8][..], b"harbour"].concat());
        assert_eq!(link.answer(&plain), Err(LinkError::Forged));
    }

    #[test]
    fn a_refusal_is_told_with_its_reason() {
        let ack = |result: u16, reason: u16| {
            let mut body = vec![0; 8];
            body.extend([4, 0, b'1', b'3', b'5', 0, 0, 0, 1, 0, 0, 0]);
            body.extend(result.to_le_bytes());
            body.extend(reason.to_le_bytes());
            body.extend([0; 20]);
            pdu(BIND_ACK, 3, 0, &body)
        };
        assert_eq!(Link::plain().bound(&ack(0, 0)), Ok(()));
        assert_eq!(Link::plain().bound(&ack(2, 1)), Err(LinkError::Refused(1)));
        assert_eq!(Link::plain().bound(&pdu(BIND_NAK, 3, 0, &[8, 0, 0, 0])), Err(LinkError::Refused(8)));
        let whole = ack(0, 0);
        for length in 0..whole.len() {
            let mut cut = whole[..length].to_vec();
            Link::plain().bound(&cut).unwrap_err();
            if length >= HEADER {
                cut[8] = length as u8;
                let _ = Link::plain().bound(&cut);
            }
        }
    }

    proptest! {
        #[test]
        fn whatever_comes_is_an_answer_or_an_error(mut bytes: Vec<u8>, sealed: bool, header: bool) {
            if header && bytes.len() >= HEADER {
                let length = (bytes.len() as u16).to_le_bytes();
                (bytes[0], bytes[4], bytes[8], bytes[9]) = (5, 0x10, length[0], length[1]);
            }
            let mut link = if sealed { Link::sealed(&machine(), SessionKey([1; 16])) } else { Link::plain() };
            let _ = link.bound(&bytes);
            let _ = link.answer(&bytes);
        }
    }
}
