use std::net::IpAddr;

use crate::check::Checker;
use crate::diagnostic::Diagnostic;
use crate::parse::ast::Operand;
use crate::schema::Type;
use crate::value::{DURATION_UNITS, Value};
use crate::window::instant;
use regnant_base::did_you_mean;

impl Checker<'_> {
    /// Reads a literal as a value of `kind`, or reports why it is none.
    pub(super) fn literal(&mut self, kind: &Type, operand: &Operand) -> Option<Value<'static>> {
        let value = match (kind, operand) {
            (Type::Text { .. }, Operand::Text(text)) => Some(Value::owned(text.text.clone())),
            (Type::Enumeration(variants), Operand::Word(word)) => variants
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(&word.text))
                .map(|(_, number)| *number)
                .or_else(|| word.text.parse().ok())
                .map(Value::Integer),
            (kind, Operand::Word(word)) => read_word(kind, &word.text),
            _ => None,
        };
        if value.is_none() {
            self.report(wrong_literal(kind, operand));
        }
        value
    }

    /// A duration in whole seconds that fits an attribute.
    pub(super) fn seconds(&mut self, operand: &Operand) -> Option<u32> {
        let Value::Duration(seconds) = self.literal(&Type::Duration, operand)? else { return None };
        let fits = u32::try_from(seconds).ok().filter(|seconds| *seconds > 0);
        if fits.is_none() {
            let message = "this duration is zero or longer than an attribute can carry";
            self.report(Diagnostic::error("W213", operand.span(), message));
        }
        fits
    }
}

fn read_word(kind: &Type, word: &str) -> Option<Value<'static>> {
    match kind {
        Type::Integer => word.parse().ok().map(Value::Integer),
        Type::Boolean => word.parse().ok().map(Value::Boolean),
        Type::Address => word.parse().ok().map(Value::Address),
        Type::Mac => word.parse().ok().map(Value::Mac),
        Type::Duration => duration(word).map(Value::Duration),
        Type::Instant => instant(word).map(Value::Instant),
        _ => None,
    }
}

/// `8h`, `90m`, `1h30m`.
fn duration(word: &str) -> Option<u64> {
    let mut rest = word;
    let mut seconds = 0u64;
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit())?;
        let number: u64 = rest[..digits].parse().ok()?;
        let unit = rest[digits..].chars().next()?;
        let (_, size) = DURATION_UNITS.iter().find(|(name, _)| name.starts_with(unit))?;
        seconds = seconds.checked_add(number.checked_mul(*size)?)?;
        rest = &rest[digits + unit.len_utf8()..];
    }
    (!word.is_empty()).then_some(seconds)
}

/// `10.44.0.0/16`; bits after the prefix must be zero.
pub(super) fn block(word: &str) -> Result<(IpAddr, u8), String> {
    let (address, length) = word.split_once('/').unwrap_or((word, ""));
    let address: IpAddr = address.parse().map_err(|_| format!("`{word}` is no address and no block"))?;
    let most = if address.is_ipv4() { 32 } else { 128 };
    let length: u8 = match length {
        "" if !word.contains('/') => most,
        length => length.parse().ok().filter(|l| *l <= most).ok_or(format!("a prefix has 0 to {most} bits"))?,
    };
    let host_bits_clear = match address {
        IpAddr::V4(a) => a.to_bits().checked_shl(u32::from(length)).unwrap_or(0) == 0,
        IpAddr::V6(a) => a.to_bits().checked_shl(u32::from(length)).unwrap_or(0) == 0,
    };
    match host_bits_clear {
        true => Ok((address, length)),
        false => Err(format!("`{word}` has bits set after its {length}-bit prefix")),
    }
}

fn wrong_literal(kind: &Type, operand: &Operand) -> Diagnostic {
    let diagnostic = Diagnostic::error("W210", operand.span(), format!("expected {}", kind.describe()));
    let word = match operand {
        Operand::Word(name) => name.text.as_str(),
        _ => "",
    };
    match kind {
        Type::Text { .. } if !word.is_empty() => diagnostic.note(format!("texts stand in quotes: \"{word}\"")),
        Type::Enumeration(variants) => {
            let names = || variants.iter().map(|(name, _)| name.as_str());
            let list: Vec<_> = names().take(12).collect();
            diagnostic.suggest(did_you_mean(word, names())).note(format!("it may be: {}", list.join(", ")))
        }
        _ if matches!(operand, Operand::Window(_)) => {
            diagnostic.note("hours of days are for time.now: `time.now in { Mon..Fri 06:00-20:00 }`")
        }
        Type::Instant => diagnostic.note("write a moment like 2026-12-01T06:00Z, with Z or an offset such as +01:00"),
        Type::Duration => diagnostic.note("write a number with s, m, h or d: 90m"),
        Type::Mac => diagnostic.note("write it like 02:00:5e:20:00:01"),
        Type::Boolean => diagnostic.note("write true or false"),
        Type::Set(_) => diagnostic.note("write the members in braces: { \"staff\", \"crew\" }"),
        _ => diagnostic,
    }
}
