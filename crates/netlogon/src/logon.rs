//! Whether a response of MS-CHAP is right ([MS-NRPC] section 3.5.4.5.1, NetrLogonSamLogonEx).

use regnant_base::Secret;

use crate::authenticate::unc;
use crate::ndr::{Reader, Writer};
use crate::status::NtStatus;
use crate::{Machine, Malformed};

/// What is to be checked.
pub struct Logon<'l> {
    /// The account's name, as its domain has it.
    pub name: &'l str,
    /// The eight bytes that were answered.
    pub challenge: &'l [u8; 8],
    /// The answer.
    pub response: &'l [u8; 24],
}

/// What came of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LogonAnswer {
    /// It is right: the session key, MD4 over the NT hash of the password.
    Right(Secret),
    /// It is not, or the account may not be used.
    Refused(NtStatus),
}

/// Somebody who is only passing through.
const NETWORK: u16 = 2;
/// An answer whose key is not sealed once more; the whole channel is.
const VALIDATION: u16 = 6;
/// Responses of MS-CHAP version 2 are taken, and accounts of machines ([MS-NRPC] section
/// 2.2.1.4.15, bits K, D and F).
const CONTROL: u32 = 0x0001_0000 | 0x0000_0800 | 0x0000_0020;
/// The account is that of guests: whoever has a wrong name or password may get it.
const GUEST: u32 = 1;

/// The call: its number, and what it is given.
pub fn logon(server: &str, machine: &Machine, logon: &Logon<'_>) -> (u16, Vec<u8>) {
    let computer = machine.computer();
    let mut writer = Writer::default();
    writer.pointer();
    writer.string(&unc(server));
    writer.pointer();
    writer.string(computer);
    writer.u16(NETWORK);
    // The arm of the union, by the same number.
    writer.u16(NETWORK);
    writer.pointer();
    writer.counted(&machine.domain);
    writer.u32(CONTROL);
    writer.u32(0);
    writer.u32(0);
    writer.counted(logon.name);
    writer.counted(computer);
    writer.bytes(logon.challenge);
    writer.counted_bytes(logon.response);
    writer.counted_bytes(&[]);
    for text in [&machine.domain, logon.name, computer] {
        writer.counted_text(text);
    }
    writer.counted_octets(logon.response);
    writer.counted_octets(&[]);
    writer.u16(VALIDATION);
    writer.u32(0);
    (39, writer.finish())
}

/// What a controller says of it. The key and the flags stand at fixed places of
/// NETLOGON_VALIDATION_SAM_INFO4 (section 2.2.1.4.13); nothing else of it is needed.
pub fn read_logon(answer: &[u8]) -> Result<LogonAnswer, Malformed> {
    // The status stands last, behind authority and flags.
    let status = answer.last_chunk::<4>().ok_or(Malformed)?;
    let status = NtStatus(u32::from_le_bytes(*status));
    if status != NtStatus::SUCCESS {
        return Ok(LogonAnswer::Refused(status));
    }
    let mut reader = Reader::new(answer);
    if reader.u16()? != VALIDATION || reader.u32()? == 0 {
        return Err(Malformed);
    }
    // Six times, six texts, two counts, the account's number and that of its primary group, and
    // its groups.
    reader.take(6 * 8 + 6 * 8 + 4 + 4 + 4 + 8)?;
    let flags = reader.u32()?;
    let key: [u8; 16] = reader.array()?;
    // Authority, flags and status follow, after what is not read.
    Reader::take(&mut reader.clone(), 12)?;
    if flags & GUEST != 0 {
        return Ok(LogonAnswer::Refused(NtStatus::LOGON_FAILURE));
    }
    // Without a key it proves nothing: the supplicant could not be answered.
    match key == [0; 16] {
        true => Ok(LogonAnswer::Refused(NtStatus::ACCOUNT_RESTRICTION)),
        false => Ok(LogonAnswer::Right(Secret::new(key))),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn answer(flags: u32, key: [u8; 16], status: u32) -> Vec<u8> {
        let mut writer = Writer::default();
        writer.u16(VALIDATION);
        writer.pointer();
        writer.bytes(&[1; 116]);
        writer.u32(flags);
        writer.bytes(&key);
        writer.bytes(&[2; 200]);
        writer.bytes(&[1, 0, 0, 0]);
        writer.u32(0);
        writer.u32(status);
        writer.finish()
    }

    #[test]
    fn the_key_is_taken_from_a_logon_that_is_one() {
        let right = LogonAnswer::Right(Secret::new([7; 16]));
        assert_eq!(read_logon(&answer(0x20, [7; 16], 0)), Ok(right));
        let refused = |status| Ok(LogonAnswer::Refused(status));
        assert_eq!(read_logon(&answer(0, [7; 16], 0xC000_006A)), refused(NtStatus::WRONG_PASSWORD));
        assert_eq!(read_logon(&answer(GUEST, [7; 16], 0)), refused(NtStatus::LOGON_FAILURE), "a guest is nobody");
        assert_eq!(read_logon(&answer(0, [0; 16], 0)), refused(NtStatus::ACCOUNT_RESTRICTION));
        let whole = answer(0, [7; 16], 0);
        for length in 0..144 {
            let cut = [&whole[..length], &[0; 4]].concat();
            assert!(!matches!(read_logon(&cut), Ok(LogonAnswer::Right(_))), "{length}");
        }
    }

    #[test]
    fn names_of_any_script_are_written_as_utf_16() {
        let machine = Machine { domain: "TARN".into(), account: "REGNANT$".into() };
        let (number, given) = logon("dc1", &machine, &Logon { name: "zoë.📻", challenge: &[1; 8], response: &[2; 24] });
        let name: Vec<u8> = "zoë.📻".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(number, 39);
        assert!(given.windows(name.len()).any(|part| part == name));
    }

    proptest! {
        #[test]
        fn whatever_comes_is_an_answer_or_none(bytes: Vec<u8>) {
            let _ = read_logon(&bytes);
        }
    }
}
