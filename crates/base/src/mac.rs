use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A 48-bit MAC address (IEEE 802).
///
/// Read from every notation that equipment sends: `02005e200001`,
/// `02-00-5E-20-00-01`, `02:00:5e:20:00:01`, `0200.5e20.0001`, either case.
/// Shown as `02:00:5e:20:00:01`.
#[derive(Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Mac(pub [u8; 6]);

impl FromStr for Mac {
    type Err = MacError;

    fn from_str(text: &str) -> Result<Self, MacError> {
        let bytes = text.as_bytes();
        // Digits between separators: all twelve, pairs, or fours.
        let (step, separators) = match bytes.len() {
            12 => (12, &b""[..]),
            17 => (2, &b":-"[..]),
            14 => (4, &b".-:"[..]),
            _ => return Err(MacError),
        };
        let mut address = [0; 6];
        let mut digits = 0;
        for (at, &byte) in bytes.iter().enumerate() {
            if at % (step + 1) == step {
                if !separators.contains(&byte) || byte != bytes[step] {
                    return Err(MacError);
                }
                continue;
            }
            let digit = (byte as char).to_digit(16).ok_or(MacError)? as u8;
            address[digits / 2] = address[digits / 2] << 4 | digit;
            digits += 1;
        }
        Ok(Self(address))
    }
}

impl fmt::Display for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // Every decision about a device shows one; formatting six numbers takes ten times
        // as long.
        const DIGITS: &[u8; 16] = b"0123456789abcdef";
        let mut text = [b':'; 17];
        for (place, byte) in text.chunks_mut(3).zip(self.0) {
            place[0] = DIGITS[usize::from(byte >> 4)];
            place[1] = DIGITS[usize::from(byte & 15)];
        }
        f.write_str(std::str::from_utf8(&text).map_err(|_| fmt::Error)?)
    }
}

impl fmt::Debug for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// The text is no MAC address.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("a MAC address is written like 02:00:5e:20:00:01")]
pub struct MacError;

#[cfg(test)]
mod tests {
    use super::Mac;

    #[test]
    fn every_notation_is_read_and_mixtures_are_not() {
        let expected = Ok(Mac([2, 0, 0x5e, 0x20, 0, 0x0f]));
        for text in ["02005e20000f", "02005E20000F", "02-00-5E-20-00-0F", "02:00:5e:20:00:0f", "0200.5e20.000f"] {
            assert_eq!(text.parse(), expected, "{text}");
        }
        for text in ["", "02005e20000", "02-00:5e-20-00-0f", "02005e20000g", "ida.marsh-laptop", "0200:5e20.000f"] {
            assert!(text.parse::<Mac>().is_err(), "{text}");
        }
    }
}
