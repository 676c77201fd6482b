//! Lines as they come: CSV (RFC 4180) and JSON objects, in bounded memory.

use std::io::{self, BufRead, BufReader, Read};

use serde_json::{Map, Value};

use crate::administration::AdministrationError;

/// Bytes of one line.
const LONGEST_LINE: u64 = 64 << 10;
/// What separates the members of a list in a cell.
const BETWEEN: char = ';';

/// How lines are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum LineForm {
    /// Cells with commas between them (RFC 4180), the names of the fields first.
    Csv,
    /// A JSON object in each line.
    Json,
}

/// Each line that is no empty one, by its number.
pub(super) type Take<'t> =
    &'t mut dyn FnMut(u64, Result<Map<String, Value>, String>) -> Result<(), AdministrationError>;

/// Reads lines, and gives how many say something of a record.
pub fn read_all(csv: bool, input: impl Read) -> Result<u64, AdministrationError> {
    let mut count = 0;
    let mut take = |_, said: Result<Map<String, Value>, String>| {
        count += u64::from(said.is_ok());
        Ok(())
    };
    if csv {
        csv_lines(input, &mut take)?;
    } else {
        json_lines(input, &mut take)?;
    }
    Ok(count)
}

pub(super) fn json_lines(input: impl Read, take: Take<'_>) -> Result<(), AdministrationError> {
    let mut input = BufReader::new(input);
    for number in 1.. {
        let mut line = Vec::new();
        let read = input.by_ref().take(LONGEST_LINE).read_until(b'\n', &mut line);
        match read.map_err(AdministrationError::Broken)? {
            0 => break,
            got if got as u64 == LONGEST_LINE && line.last() != Some(&b'\n') => {
                return Err(AdministrationError::LongLine(number, LONGEST_LINE));
            }
            _ => {}
        }
        if line.iter().all(u8::is_ascii_whitespace) {
            continue;
        }
        let said = serde_json::from_slice::<Map<String, Value>>(&line).map(|said| {
            let fields = said.into_iter().filter(|(_, value)| !value.is_null());
            fields.map(|(name, value)| (field(&name), value)).collect()
        });
        take(number, said.map_err(|error| format!("it is no JSON object: {error}")))?;
    }
    Ok(())
}

pub(super) fn csv_lines(input: impl Read, take: Take<'_>) -> Result<(), AdministrationError> {
    let mut reader = csv::ReaderBuilder::new().flexible(true).trim(csv::Trim::All).from_reader(Bounded::new(input));
    let broken = |error: csv::Error| match error.into_kind() {
        csv::ErrorKind::Io(error) => AdministrationError::Broken(error),
        kind => AdministrationError::Csv(format!("{kind:?}")),
    };
    let head = reader.byte_headers().map_err(broken)?.clone();
    let names: Vec<_> = head.iter().map(|cell| field(&String::from_utf8_lossy(cell))).collect();
    let mut record = csv::ByteRecord::new();
    while reader.read_byte_record(&mut record).map_err(broken)? {
        reader.get_mut().begin_line();
        let line = record.position().map_or(0, csv::Position::line);
        take(line, cells(&names, &record))?;
    }
    Ok(())
}

fn cells(names: &[String], record: &csv::ByteRecord) -> Result<Map<String, Value>, String> {
    if record.len() > names.len() {
        return Err(format!("it has {} cells, and the first line names {} fields", record.len(), names.len()));
    }
    let mut said = Map::new();
    for (name, cell) in names.iter().zip(record) {
        let text = std::str::from_utf8(cell).map_err(|_| format!("`{name}` is not UTF-8"))?;
        // As cells are written that a spreadsheet would run.
        let text = match text.strip_prefix('\'') {
            Some(rest) if rest.starts_with(['=', '+', '-', '@', '\t', '\r']) => rest,
            _ => text,
        };
        if let Some(attribute) = name.strip_prefix("attributes.") {
            let attributes = said.entry("attributes").or_insert_with(|| Map::new().into());
            attributes.as_object_mut().map(|all| all.insert(attribute.to_owned(), text.into()));
        } else if !name.is_empty() {
            said.insert(name.clone(), typed(name, text)?);
        }
    }
    // A cell that is empty says nothing of what may be left out.
    let silent = |name: &String, value: &Value| {
        value == ""
            && matches!(&**name, "store" | "password" | "password-hash" | "nt-hash" | "secret" | "last" | "expires")
    };
    said.retain(|name, value| !silent(name, value));
    Ok(said)
}

/// A cell as the type that its field has.
fn typed(name: &str, text: &str) -> Result<Value, String> {
    let list = || text.split(BETWEEN).map(str::trim).filter(|part| !part.is_empty()).map(Value::from).collect();
    Ok(match name {
        "groups" | "tags" | "address" => Value::Array(list()),
        "disabled"
        | "mschap"
        | "recoverable-password"
        | "engineers-only"
        | "barred"
        | "class-at-login"
        | "require-message-authenticator" => match text.to_lowercase().as_str() {
            "true" | "yes" | "1" => true.into(),
            "false" | "no" | "0" | "" => false.into(),
            _ => return Err(format!("`{name}` is true or false, and not `{}`", text.escape_debug())),
        },
        _ => text.into(),
    })
}

/// The name of a field, as a file or an export writes it.
fn field(name: &str) -> String {
    let name = name.trim().trim_start_matches('\u{feff}').to_lowercase().replace('_', "-");
    match name.as_str() {
        "addresses" => "address".into(),
        _ => name,
    }
}

/// Input no record of which may be longer than a line may.
struct Bounded<R> {
    input: R,
    left: u64,
}

impl<R> Bounded<R> {
    fn new(input: R) -> Self {
        Self { input, left: ROOM }
    }

    fn begin_line(&mut self) {
        self.left = ROOM;
    }
}

/// A reader takes some input ahead.
const ROOM: u64 = 4 * LONGEST_LINE;

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.left == 0 {
            return Err(io::Error::other(format!("a line has more than {LONGEST_LINE} bytes: is a quote missing?")));
        }
        let most = buffer.len().min(usize::try_from(self.left).unwrap_or(usize::MAX));
        let got = self.input.read(&mut buffer[..most])?;
        self.left -= got as u64;
        Ok(got)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    type Line = (u64, Result<Map<String, Value>, String>);

    fn read(form: LineForm, text: &[u8]) -> Result<Vec<Line>, String> {
        let mut all = Vec::new();
        let mut take = |line, said| {
            all.push((line, said));
            Ok(())
        };
        let read = match form {
            LineForm::Csv => csv_lines(text, &mut take),
            LineForm::Json => json_lines(text, &mut take),
        };
        read.map_err(|error| error.to_string())?;
        Ok(all)
    }

    #[test]
    fn cells_are_what_their_fields_are() {
        let text = "MAC, groups,Barred,title,expires\n02005e200001,a; b c ;,yes,'=x,\n\n2,,maybe,\"a\nb\",\n3,,,,,x\n";
        let all = read(LineForm::Csv, text.as_bytes()).unwrap();
        let first = all[0].1.clone().unwrap();
        let expected =
            serde_json::json!({ "mac": "02005e200001", "groups": ["a", "b c"], "barred": true, "title": "=x" });
        assert_eq!((all[0].0, Value::Object(first)), (2, expected));
        assert_eq!(all[1].1.clone().unwrap_err(), "`barred` is true or false, and not `maybe`");
        assert_eq!(
            (all[2].0, all[2].1.clone().unwrap_err()),
            (6, "it has 6 cells, and the first line names 5 fields".into())
        );
    }

    #[test]
    fn a_line_without_an_end_is_told_and_memory_stays_bounded() {
        let long = [b"mac,title\n1,\"".to_vec(), vec![b'x'; 1 << 20]].concat();
        assert!(read(LineForm::Csv, &long).unwrap_err().contains("is a quote missing?"));
        assert!(read(LineForm::Json, &vec![b'{'; 1 << 20]).unwrap_err().contains("line 1"));
        let many = "mac,title\n".to_owned() + &"1,abc\n".repeat(100_000);
        assert_eq!(read(LineForm::Csv, many.as_bytes()).unwrap().len(), 100_000);
    }

    proptest! {
        #[test]
        fn nothing_that_somebody_sends_makes_reading_panic(bytes: Vec<u8>, text in "[a-z,\"\n;'={}:\\[\\]]{0,200}") {
            for form in [LineForm::Csv, LineForm::Json] {
                let _ = read(form, &bytes);
                let _ = read(form, text.as_bytes());
            }
        }
    }
}
