//! Whether a response of MS-CHAP is right ([MS-NRPC] section 3.5.4.5.1, NetrLogonSamLogonEx).

use regnant_base::Secret;

use crate::authenticate::unc;
use crate::ndr::{Reader, Writer};
use crate::sid::Sid;
use crate::status::NtStatus;
use crate::{Machine, Malformed};

/// What is to be checked.
pub struct Logon<'l> {
    /// The domain that the account is of, by its short name or as the DNS has it.
    pub domain: &'l str,
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
    /// It is right.
    Right {
        /// The session key, MD4 over the NT hash of the password.
        key: Secret,
        /// Whose response it was: any domain may have an account of a name.
        account: Sid,
    },
    /// It is not, or the account may not be used.
    Refused(NtStatus),
    /// The controller knows nothing of the account's domain, and answers for no other.
    Elsewhere,
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
    writer.counted(logon.domain);
    writer.u32(CONTROL);
    writer.u32(0);
    writer.u32(0);
    writer.counted(logon.name);
    writer.counted(computer);
    writer.bytes(logon.challenge);
    writer.counted_bytes(logon.response);
    writer.counted_bytes(&[]);
    for text in [logon.domain, logon.name, computer] {
        writer.counted_text(text);
    }
    writer.counted_octets(logon.response);
    writer.counted_octets(&[]);
    writer.u16(VALIDATION);
    writer.u32(0);
    (39, writer.finish())
}

/// What a controller says of it: NETLOGON_VALIDATION_SAM_INFO4 (section 2.2.1.4.13), as far as it tells whose
/// response was right, and under which key.
pub fn read_logon(answer: &[u8]) -> Result<LogonAnswer, Malformed> {
    // The status stands last, behind authority and flags.
    let status = answer.last_chunk::<4>().ok_or(Malformed)?;
    let status = NtStatus(u32::from_le_bytes(*status));
    let mut reader = Reader::new(answer);
    let (level, contents) = (reader.u16()?, reader.u32()?);
    if status != NtStatus::SUCCESS {
        // Whether it speaks for the account's domain.
        let authority = if contents == 0 { reader.u8()? } else { 1 };
        let unknown = authority == 0 && status == NtStatus::NO_SUCH_USER || status == NtStatus::NO_SUCH_DOMAIN;
        return Ok(match unknown {
            true => LogonAnswer::Elsewhere,
            false => LogonAnswer::Refused(status),
        });
    }
    if level != VALIDATION || contents == 0 {
        return Err(Malformed);
    }
    let account = Validated::read(&mut reader)?;
    // Authority, flags and status follow, after what is not read.
    Reader::take(&mut reader.clone(), 12)?;
    if account.flags & GUEST != 0 {
        return Ok(LogonAnswer::Refused(NtStatus::LOGON_FAILURE));
    }
    // Without a key it proves nothing: the supplicant could not be answered.
    match account.key == [0; 16] {
        true => Ok(LogonAnswer::Refused(NtStatus::ACCOUNT_RESTRICTION)),
        false => Ok(LogonAnswer::Right { key: Secret::new(account.key), account: account.sid }),
    }
}

/// What is read of a logon that went well.
struct Validated {
    flags: u32,
    key: [u8; 16],
    sid: Sid,
}

impl Validated {
    /// The fixed part stands in front; what its pointers point to follows in their order.
    fn read(reader: &mut Reader<'_>) -> Result<Self, Malformed> {
        // Six times.
        reader.take(6 * 8)?;
        let mut names = [false; 6];
        for there in &mut names {
            *there = counted(reader)?;
        }
        // How often it logged on, and failed to.
        reader.take(4)?;
        let (number, _primary_group) = (reader.u32()?, reader.u32()?);
        let (_, groups) = (reader.u32()?, reader.u32()?);
        let flags = reader.u32()?;
        let key = reader.array()?;
        let (server, domain) = (counted(reader)?, counted(reader)?);
        let domain_sid = reader.u32()?;
        // Another key, the account's flags, a status, two times, two counts.
        reader.take(8 + 4 + 4 + 8 + 8 + 4 + 4)?;
        let (_, extra) = (reader.u32()?, reader.u32()?);
        // The domain's name in the DNS, the principal's, and ten texts for later.
        for _ in 0..12 {
            counted(reader)?;
        }
        for _ in names.into_iter().filter(|there| *there) {
            reader.skip_text()?;
        }
        if groups != 0 {
            let count = reader.u32()? as usize;
            reader.take(count.checked_mul(8).ok_or(Malformed)?)?;
        }
        for _ in [server, domain].into_iter().filter(|there| *there) {
            reader.skip_text()?;
        }
        let domain_sid = if domain_sid == 0 { None } else { Some(Sid::take(reader)?) };
        let sid = match (number, domain_sid) {
            // An account that has no number there stands first among the other identifiers.
            (0, _) if extra != 0 => first_of(reader)?,
            (0, _) | (_, None) => return Err(Malformed),
            (number, Some(domain)) => domain.of(number)?,
        };
        Ok(Self { flags, key, sid })
    }
}

/// The header of a counted text: whether there is one.
fn counted(reader: &mut Reader<'_>) -> Result<bool, Malformed> {
    reader.u32()?;
    Ok(reader.u32()? != 0)
}

/// The first of a list of identifiers.
fn first_of(reader: &mut Reader<'_>) -> Result<Sid, Malformed> {
    let count = reader.u32()? as usize;
    let mut list = Reader::new(reader.take(count.checked_mul(8).ok_or(Malformed)?)?);
    match list.u32()? {
        0 => Err(Malformed),
        _ => Sid::take(reader),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const DOMAIN: [u8; 20] = [1, 3, 0, 0, 0, 0, 0, 5, 21, 0, 0, 0, 9, 0, 0, 0, 8, 0, 0, 0];

    fn sid(domain: &[u8], number: u32) -> Sid {
        let mut bytes = [domain, &number.to_le_bytes()].concat();
        bytes[1] += 1;
        Sid::read(&bytes).unwrap()
    }

    /// An identifier as NDR has it.
    fn written(writer: &mut Writer, sid: &[u8]) {
        writer.u32(u32::from(sid[1]));
        writer.bytes(sid);
    }

    /// What a controller answers about the account of this number, or the first of the other identifiers.
    fn answer(flags: u32, key: [u8; 16], status: u32, number: u32) -> Vec<u8> {
        let mut writer = Writer::default();
        writer.u16(VALIDATION);
        writer.pointer();
        writer.bytes(&[1; 48]);
        ["ida.marsh", "Ida Marsh"].iter().for_each(|name| writer.counted(name));
        (0..4).for_each(|_| [0, 0].into_iter().for_each(|zero| writer.u32(zero)));
        writer.bytes(&[1; 4]);
        writer.u32(number);
        writer.u32(513);
        writer.u32(1);
        writer.pointer();
        writer.u32(flags);
        writer.bytes(&key);
        ["DC1", "TARN"].iter().for_each(|name| writer.counted(name));
        writer.pointer();
        writer.bytes(&[2; 40]);
        writer.u32(1);
        writer.pointer();
        (0..24).for_each(|_| writer.u32(0));
        ["ida.marsh", "Ida Marsh"].iter().for_each(|name| writer.counted_text(name));
        [1, 513, 7].into_iter().for_each(|group| writer.u32(group));
        ["DC1", "TARN"].iter().for_each(|name| writer.counted_text(name));
        written(&mut writer, &DOMAIN);
        writer.u32(1);
        writer.pointer();
        writer.u32(7);
        let mut other = DOMAIN;
        other[12] = 77;
        written(&mut writer, &other);
        writer.bytes(&[1, 0, 0, 0]);
        writer.u32(0);
        writer.u32(status);
        writer.finish()
    }

    /// One without contents.
    fn refusal(status: u32, authority: u8) -> Vec<u8> {
        let mut writer = Writer::default();
        writer.u16(VALIDATION);
        writer.u32(0);
        writer.bytes(&[authority]);
        writer.u32(0);
        writer.u32(status);
        writer.finish()
    }

    #[test]
    fn the_key_is_taken_from_a_logon_that_is_one_with_whose_it_is() {
        let right = LogonAnswer::Right { key: Secret::new([7; 16]), account: sid(&DOMAIN, 1_104) };
        assert_eq!(read_logon(&answer(0x20, [7; 16], 0, 1_104)), Ok(right));
        let mut other = DOMAIN;
        other[12] = 77;
        let other = LogonAnswer::Right { key: Secret::new([7; 16]), account: Sid::read(&other).unwrap() };
        assert_eq!(read_logon(&answer(0x20, [7; 16], 0, 0)), Ok(other), "without a number the first of the others");
        let refused = |status| Ok(LogonAnswer::Refused(status));
        assert_eq!(read_logon(&answer(0, [7; 16], 0xC000_006A, 1)), refused(NtStatus::WRONG_PASSWORD));
        assert_eq!(read_logon(&answer(GUEST, [7; 16], 0, 1)), refused(NtStatus::LOGON_FAILURE), "a guest is nobody");
        assert_eq!(read_logon(&answer(0, [0; 16], 0, 1)), refused(NtStatus::ACCOUNT_RESTRICTION));
        let whole = answer(0, [7; 16], 0, 1_104);
        for length in 0..whole.len() - 40 {
            let cut = [&whole[..length], &[0; 4]].concat();
            assert!(!matches!(read_logon(&cut), Ok(LogonAnswer::Right { .. })), "{length}");
        }
    }

    #[test]
    fn a_controller_that_does_not_speak_for_a_domain_says_nothing_of_its_accounts() {
        let user = NtStatus::NO_SUCH_USER;
        assert_eq!(read_logon(&refusal(user.0, 1)), Ok(LogonAnswer::Refused(user)));
        assert_eq!(read_logon(&refusal(user.0, 0)), Ok(LogonAnswer::Elsewhere));
        assert_eq!(read_logon(&refusal(NtStatus::NO_SUCH_DOMAIN.0, 1)), Ok(LogonAnswer::Elsewhere));
        let wrong = NtStatus::WRONG_PASSWORD;
        assert_eq!(read_logon(&refusal(wrong.0, 0)), Ok(LogonAnswer::Refused(wrong)));
    }

    #[test]
    fn names_of_any_script_are_written_as_utf_16() {
        let machine = Machine { domain: "TARN".into(), account: "REGNANT$".into() };
        let asked = Logon { domain: "TARN", name: "zoë.📻", challenge: &[1; 8], response: &[2; 24] };
        let (number, given) = logon("dc1", &machine, &asked);
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
