//! How a machine and a domain controller prove themselves to each other, and how the machine's
//! password is changed ([MS-NRPC] sections 3.4.5.2.2 to 3.4.5.2.5).

use regnant_base::Secret;
use zeroize::Zeroize;

use crate::crypto::{Credential, SessionKey};
use crate::ndr::{Reader, Writer};
use crate::status::NtStatus;
use crate::{Machine, Malformed};

/// A member of the domain that is none of its controllers.
const WORKSTATION: u16 = 2;
/// What we can ([MS-NRPC] section 3.1.4.2): all of the usual, AES with SHA-2, and secure RPC.
const CAN: u32 = 0x612f_ffff;
const AES: u32 = 0x0100_0000;

/// The bytes of a password on its way, with what fills them up.
pub const ACCOUNT_PASSWORD_BYTES: usize = 512;

/// A call's number and what it is given.
type Call = (u16, Vec<u8>);

/// What both sides know of each other from now on.
#[derive(Clone, Debug)]
pub struct Authenticated {
    /// The key of the channel.
    pub key: SessionKey,
    /// What the next proof of a call begins with.
    pub seed: Credential,
}

/// NetrServerReqChallenge.
pub fn challenge(server: &str, machine: &Machine, challenge: &[u8; 8]) -> Call {
    let mut writer = Writer::default();
    writer.pointer();
    writer.string(&unc(server));
    writer.string(machine.computer());
    writer.bytes(challenge);
    (4, writer.finish())
}

/// The controller's own challenge, or why it has none.
pub fn read_challenge(answer: &[u8]) -> Result<Result<[u8; 8], NtStatus>, Malformed> {
    let mut reader = Reader::new(answer);
    let challenge = reader.array()?;
    Ok(well(reader.u32()?).map(|()| challenge))
}

/// NetrServerAuthenticate3: the machine proves that it knows its password.
pub fn authenticate(server: &str, machine: &Machine, key: &SessionKey, challenge: &[u8; 8]) -> Call {
    let mut writer = Writer::default();
    member(&mut writer, server, machine);
    writer.bytes(&key.credential(challenge).0);
    writer.u32(CAN);
    (26, writer.finish())
}

/// Whether the controller believes it, and proves itself: `challenge` is the controller's,
/// `own` the machine's.
pub fn read_authenticated(
    answer: &[u8],
    key: &SessionKey,
    own: &[u8; 8],
    challenge: &[u8; 8],
) -> Result<Result<Authenticated, NtStatus>, Malformed> {
    let mut reader = Reader::new(answer);
    let proof: [u8; 8] = reader.array()?;
    let (can, _) = (reader.u32()?, reader.u32()?);
    if let Err(status) = well(reader.u32()?) {
        return Ok(Err(status));
    }
    if can & AES == 0 {
        return Ok(Err(NtStatus::DOWNGRADE_DETECTED));
    }
    // Whoever has our own challenge for theirs can send our own proof back.
    if own == challenge {
        return Ok(Err(NtStatus::ACCESS_DENIED));
    }
    match key.credential(challenge).is(&proof) {
        true => Ok(Ok(Authenticated { key: key.clone(), seed: key.credential(own) })),
        // Somebody who does not know the password answered in its place.
        false => Ok(Err(NtStatus::ACCESS_DENIED)),
    }
}

/// NetrServerPasswordSet2: the machine has another password from now on. `now` is in seconds since
/// 1970; `fill` are random bytes.
pub fn set_password(
    server: &str,
    machine: &Machine,
    of: &Authenticated,
    now: u32,
    password: &Secret,
    fill: &[u8; ACCOUNT_PASSWORD_BYTES],
) -> Option<Call> {
    let mut text: Vec<u8> =
        std::str::from_utf8(password.expose()).ok()?.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let start = ACCOUNT_PASSWORD_BYTES.checked_sub(text.len())?;
    let mut buffer = fill.to_vec();
    buffer[start..].copy_from_slice(&text);
    buffer.extend((text.len() as u32).to_le_bytes());
    of.key.stream([0; 16]).encrypt(&mut buffer);
    text.zeroize();
    let mut writer = Writer::default();
    member(&mut writer, server, machine);
    writer.align(4);
    writer.bytes(&stepped(of, now).0);
    writer.u32(now);
    writer.bytes(&buffer);
    Some((30, writer.finish()))
}

/// Whether it was changed.
pub fn read_password_set(answer: &[u8], of: &Authenticated, now: u32) -> Result<Result<(), NtStatus>, Malformed> {
    let mut reader = Reader::new(answer);
    let proof: [u8; 8] = reader.array()?;
    reader.u32()?;
    let status = well(reader.u32()?);
    Ok(status.and_then(|()| match stepped(of, now.wrapping_add(1)).is(&proof) {
        true => Ok(()),
        false => Err(NtStatus::ACCESS_DENIED),
    }))
}

/// The proof of a call at a time ([MS-NRPC] section 3.1.4.5).
fn stepped(of: &Authenticated, time: u32) -> Credential {
    let [a, b, c, d, rest @ ..] = of.seed.0;
    let [a, b, c, d] = u32::from_le_bytes([a, b, c, d]).wrapping_add(time).to_le_bytes();
    let [e, f, g, h] = rest;
    of.key.credential(&[a, b, c, d, e, f, g, h])
}

fn member(writer: &mut Writer, server: &str, machine: &Machine) {
    writer.pointer();
    writer.string(&unc(server));
    writer.string(&machine.account);
    writer.u16(WORKSTATION);
    writer.string(machine.computer());
}

/// A server as its own calls name it.
pub(crate) fn unc(server: &str) -> String {
    format!("\\\\{server}")
}

fn well(status: u32) -> Result<(), NtStatus> {
    if status == 0 { Ok(()) } else { Err(NtStatus(status)) }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::PasswordHash;

    const CHALLENGES: ([u8; 8], [u8; 8]) = ([1, 2, 3, 4, 5, 6, 7, 8], [8, 7, 6, 5, 4, 3, 2, 1]);

    fn key(password: &str) -> SessionKey {
        SessionKey::new(&PasswordHash::of(&Secret::new(password.as_bytes())).unwrap(), &CHALLENGES.0, &CHALLENGES.1)
    }

    fn answer(key: &SessionKey, can: u32, status: u32) -> Vec<u8> {
        let mut writer = Writer::default();
        writer.bytes(&key.credential(&CHALLENGES.1).0);
        [can, 1_104, status].into_iter().for_each(|number| writer.u32(number));
        writer.finish()
    }

    #[test]
    fn a_controller_that_does_not_know_the_password_is_not_believed() {
        let own = key("Capstan-Bar-12");
        let read = |answer: &[u8]| {
            let read = read_authenticated(answer, &own, &CHALLENGES.0, &CHALLENGES.1);
            read.map(|answer| answer.map(drop))
        };
        assert_eq!(read(&answer(&own, CAN, 0)), Ok(Ok(())));
        assert_eq!(read(&answer(&key("another"), CAN, 0)), Ok(Err(NtStatus::ACCESS_DENIED)));
        assert_eq!(read(&answer(&own, CAN & !AES, 0)), Ok(Err(NtStatus::DOWNGRADE_DETECTED)));
        let status = NtStatus::NO_TRUST_SAM_ACCOUNT;
        assert_eq!(read(&answer(&own, CAN, status.0)), Ok(Err(status)));
        assert_eq!(read(&answer(&own, CAN, 0)[..19]), Err(Malformed));
        // Our own challenge and our own proof, sent back.
        let mut echo = answer(&own, CAN, 0);
        echo[..8].copy_from_slice(&own.credential(&CHALLENGES.0).0);
        let read = read_authenticated(&echo, &own, &CHALLENGES.0, &CHALLENGES.0);
        assert_eq!(read.map(|answer| answer.map(drop)), Ok(Err(NtStatus::ACCESS_DENIED)));
    }

    #[test]
    fn a_new_password_is_sealed_and_its_answer_is_proved() {
        let machine = Machine { domain: "TARN".into(), account: "REGNANT$".into() };
        let key = key("Capstan-Bar-12");
        let of = Authenticated { seed: key.credential(&CHALLENGES.0), key };
        let (now, fill) = (1_790_000_000, [9; ACCOUNT_PASSWORD_BYTES]);
        let set = |password: &[u8]| set_password("dc1", &machine, &of, now, &Secret::new(password), &fill);
        let (number, given) = set("Mooring-Wort-31".as_bytes()).unwrap();
        assert_eq!(number, 30);
        let mut sealed = given[given.len() - 516..].to_vec();
        of.key.stream([0; 16]).decrypt(&mut sealed);
        assert_eq!(sealed[512..], 30_u32.to_le_bytes());
        let text: Vec<u8> = "Mooring-Wort-31".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(sealed[482..512], text);
        assert!(set(&[b'x'; 257]).is_none() && set(&[0xff]).is_none());
        let mut writer = Writer::default();
        writer.bytes(&stepped(&of, now + 1).0);
        [0, 0].into_iter().for_each(|number| writer.u32(number));
        let answer = writer.finish();
        assert_eq!(read_password_set(&answer, &of, now), Ok(Ok(())));
        assert_eq!(read_password_set(&answer, &of, now + 1), Ok(Err(NtStatus::ACCESS_DENIED)));
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_or_not(bytes: Vec<u8>) {
            let key = key("x");
            let _ = read_challenge(&bytes);
            let of = Authenticated { seed: key.credential(&CHALLENGES.0), key: key.clone() };
            prop_assert!(!matches!(read_authenticated(&bytes, &key, &CHALLENGES.0, &CHALLENGES.1), Ok(Ok(_))));
            prop_assert!(!matches!(read_password_set(&bytes, &of, 1), Ok(Ok(()))));
        }
    }
}
