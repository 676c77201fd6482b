//! The endpoint mapper ([C706] appendix O): which port an interface has.

use crate::Malformed;
use crate::ndr::{Reader, Writer};
use crate::pdu::{NDR, NETLOGON};

/// The port of the endpoint mapper itself.
pub const PORT: u16 = 135;

/// `ept_map`: its number, and what asks for the port of NETLOGON over TCP.
pub fn ask() -> (u16, Vec<u8>) {
    let tower = tower();
    let mut writer = Writer::default();
    // No object.
    writer.u32(0);
    writer.pointer();
    writer.u32(tower.len() as u32);
    writer.u32(tower.len() as u32);
    writer.bytes(&tower);
    // No entry to go on from.
    writer.align(4);
    writer.bytes(&[0; 20]);
    writer.u32(4);
    (3, writer.finish())
}

/// The port that an answer tells; none where nobody has the interface.
pub fn read(answer: &[u8]) -> Result<Option<u16>, Malformed> {
    let mut reader = Reader::new(answer);
    reader.take(20)?;
    let count = reader.u32()?;
    let (_, _, actual) = (reader.u32()?, reader.u32()?, reader.u32()?);
    if actual != count || count > 64 {
        return Err(Malformed);
    }
    for _ in 0..count {
        reader.u32()?;
    }
    for _ in 0..count {
        reader.u32()?;
        let length = reader.u32()?;
        let tower = reader.take(length as usize)?;
        if let Some(port) = port_of(tower)? {
            return Ok(Some(port));
        }
    }
    Ok(None)
}

/// The floor of TCP, whose other side is the port.
const TCP: u8 = 0x07;

/// What an interface stands on ([C706] appendix I): itself, how values are written, RPC over
/// connections, TCP, IP.
fn tower() -> Vec<u8> {
    let interface = |(uuid, version): ([u8; 16], u32)| {
        let mut left = vec![0x0d];
        left.extend(uuid);
        left.extend((version as u16).to_le_bytes());
        (left, vec![0, 0])
    };
    let floors = [
        interface(NETLOGON),
        interface(NDR),
        (vec![0x0b], vec![0, 0]),
        (vec![TCP], vec![0, 0]),
        (vec![0x09], vec![0; 4]),
    ];
    let mut tower = (floors.len() as u16).to_le_bytes().to_vec();
    for (left, right) in floors {
        for side in [left, right] {
            tower.extend((side.len() as u16).to_le_bytes());
            tower.extend(side);
        }
    }
    tower
}

fn port_of(tower: &[u8]) -> Result<Option<u16>, Malformed> {
    // The sides of floors stand at any place.
    fn side<'t>(rest: &mut &'t [u8]) -> Result<&'t [u8], Malformed> {
        let (length, after) = rest.split_first_chunk::<2>().ok_or(Malformed)?;
        let (side, after) = after.split_at_checked(u16::from_le_bytes(*length).into()).ok_or(Malformed)?;
        *rest = after;
        Ok(side)
    }
    let (count, mut rest) = tower.split_first_chunk::<2>().ok_or(Malformed)?;
    for _ in 0..u16::from_le_bytes(*count) {
        let (left, right) = (side(&mut rest)?, side(&mut rest)?);
        if let ([TCP, ..], [high, low]) = (left, right) {
            return Ok(Some(u16::from_be_bytes([*high, *low])).filter(|port| *port != 0));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn answer(port: u16) -> Vec<u8> {
        let mut tower = tower();
        let place = tower.len() - 4 - 2 - 3 - 2;
        tower[place..place + 2].copy_from_slice(&port.to_be_bytes());
        let mut writer = Writer::default();
        writer.bytes(&[0; 20]);
        [1, 4, 0, 1].into_iter().for_each(|number| writer.u32(number));
        writer.pointer();
        writer.u32(tower.len() as u32);
        writer.u32(tower.len() as u32);
        writer.bytes(&tower);
        writer.u32(0);
        writer.finish()
    }

    #[test]
    fn the_port_is_read_out_of_its_tower() {
        assert_eq!(read(&answer(49_152)), Ok(Some(49_152)));
        assert_eq!(read(&answer(0)), Ok(None));
        let whole = answer(49_152);
        for length in 0..whole.len() - 12 {
            let _ = read(&whole[..length]);
        }
        let mut none = vec![0; 20];
        none.extend([0; 16]);
        assert_eq!(read(&none), Ok(None));
    }

    proptest! {
        #[test]
        fn whatever_comes_is_a_port_or_none(bytes: Vec<u8>, place in 0_usize..160, to: u8) {
            let _ = read(&bytes);
            let mut changed = answer(49_152);
            let place = place % changed.len();
            changed[place] = to;
            let _ = read(&changed);
        }
    }
}
