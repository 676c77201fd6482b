//! What the commands that keep records have in common.

use std::fmt::Write as _;
use std::io::stdin;

use regnant_base::printable;
use serde_json::{Map, Value, json};

use crate::api::Client;
use crate::args::{Filtered, Show};
use crate::failure::Failure;
use crate::paint::{self, say, table};

/// Every record of a list that a query lets through, page after page.
pub(crate) fn all(client: &Client, path: &str, query: &[(&str, &str)]) -> Result<Vec<Value>, Failure> {
    let key = path.rsplit(['/', '-']).next().unwrap_or(path);
    let (mut records, mut after) = (Vec::new(), String::new());
    loop {
        let mut query = query.to_vec();
        query.extend([("limit", "5000")]);
        if !after.is_empty() {
            query.push(("after", &after));
        }
        let page = client.get(path, &query)?;
        records.extend(page[key].as_array().into_iter().flatten().cloned());
        match page["next"].as_str() {
            Some(next) => next.clone_into(&mut after),
            None => return Ok(records),
        }
    }
}

/// The first records of a list, as many as people read, and whether there are more.
pub(crate) fn first(
    client: &Client,
    path: &str,
    query: &[(&str, &str)],
    most: usize,
) -> Result<(Vec<Value>, bool), Failure> {
    let limit = most.to_string();
    let query = [query, &[("limit", limit.as_str())]].concat();
    let page = client.get(path, &query)?;
    let records = page[path].as_array().cloned().unwrap_or_default();
    Ok((records, page["next"].is_string()))
}

/// An address of the API of these parts, whatever stands in them.
pub(crate) fn path(parts: &[&str]) -> Result<String, Failure> {
    let mut path = String::new();
    for (place, part) in parts.iter().enumerate() {
        if part.is_empty() {
            return Err(Failure::usage("say a name; `list` shows them"));
        }
        if place > 0 {
            path.push('/');
        }
        for byte in part.bytes() {
            match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' => path.push(byte.into()),
                _ => drop(write!(path, "%{byte:02X}")),
            }
        }
    }
    Ok(path)
}

/// The store that was said, or the only one of its kind.
pub(crate) fn store(client: &Client, said: Option<&String>, kind: &str) -> Result<String, Failure> {
    if let Some(said) = said {
        return Ok(said.clone());
    }
    let stores = all(client, "stores", &[])?;
    let stores = stores.iter().filter(|store| store["kind"] == kind);
    let names: Vec<_> = stores.map(|store| text(&store["name"])).collect();
    match &names[..] {
        [one] => Ok(one.clone()),
        [] => Err(Failure::usage(format!("there is no store of {kind} yet: regnant store add NAME --kind {kind}"))),
        _ => Err(Failure::usage(format!("say --store: there are {}", names.join(", ")))),
    }
}

/// Shows records as a table, as JSON, or as CSV of these fields, which an import reads again.
pub(crate) fn show<const N: usize>(
    records: &[Value],
    show: &Show,
    fields: &[&str],
    head: [&'static str; N],
    row: impl Fn(&Value) -> [String; N],
) {
    if show.json {
        return paint::json(&json!(records));
    }
    if show.csv {
        let head = fields.iter().map(|field| match field.starts_with("attributes.") {
            true => (*field).to_owned(),
            false => field.replace('.', "_"),
        });
        say!("{}", head.collect::<Vec<_>>().join(","));
        for record in records {
            let cells = fields.iter().map(|field| csv_cell(&plain(at(record, field))));
            say!("{}", cells.collect::<Vec<_>>().join(","));
        }
        return;
    }
    table(head, records.iter().map(row));
}

/// Shows those of a short list that hold all the words that are wanted.
pub(crate) fn show_filtered<const N: usize>(
    client: &Client,
    path: &str,
    how: &Filtered,
    fields: &[&str],
    head: [&'static str; N],
    row: impl Fn(&Value) -> [String; N],
) -> Result<(), Failure> {
    show(&all(client, path, &[("q", &how.words.join(" "))])?, &how.show, fields, head, row);
    Ok(())
}

/// Names that were said; for `-` also those of standard input, one in a line.
pub(crate) fn lines_of(names: &[String]) -> Result<Vec<String>, Failure> {
    let mut all = Vec::new();
    for name in names {
        match name.as_str() {
            "-" => {
                let lines = stdin().lines().collect::<Result<Vec<_>, _>>()?;
                all.extend(lines.into_iter().map(|line| line.trim().to_owned()).filter(|line| !line.is_empty()));
            }
            name => all.push(name.to_owned()),
        }
    }
    Ok(all)
}

/// A field, or one within it.
fn at<'v>(record: &'v Value, field: &str) -> &'v Value {
    field.split('.').fold(record, |value, part| &value[part])
}

/// A value as a cell has it: the members of a list with `;` between them.
fn plain(value: &Value) -> String {
    match value {
        Value::Null => String::new(),
        Value::String(_) => text(value),
        Value::Array(list) => list.iter().map(text).collect::<Vec<_>>().join(";"),
        value => value.to_string(),
    }
}

/// Shows what is known of one record, without what is empty.
pub(crate) fn show_one(title: &str, rows: Vec<[String; 2]>) {
    let rows: Vec<_> = rows.into_iter().filter(|[_, value]| !value.is_empty()).collect();
    say!("{}", paint::bold(title));
    let width = rows.iter().map(|[label, _]| label.chars().count()).max().unwrap_or(0);
    for [label, value] in rows {
        say!("  {label:width$}  {value}");
    }
}

/// A cell as RFC 4180 has it; one that a spreadsheet would run is written so that it does not.
pub(crate) fn csv_cell(text: &str) -> String {
    let text = if text.starts_with(['=', '+', '-', '@', '\t', '\r']) { format!("'{text}") } else { text.to_owned() };
    match text.contains(['"', ',', '\n', '\r']) {
        true => format!("\"{}\"", text.replace('"', "\"\"")),
        false => text,
    }
}

/// Records as an inventory file has them. TOML writes texts, lists of texts and truth values
/// as JSON does.
pub(crate) fn export(table: &str, records: &[Value], fields: &[(&str, &str)]) -> String {
    let mut text = String::new();
    for record in records {
        let _ = writeln!(text, "[[{table}]]");
        for (name, field) in fields {
            let value = at(record, field);
            if !value.is_null() {
                let _ = writeln!(text, "{name} = {value}");
            }
        }
        text.push('\n');
    }
    text.trim_end().to_owned()
}

/// Takes up a field, where it was said.
pub(crate) fn put(form: &mut Map<String, Value>, field: &str, value: Option<impl Into<Value>>) {
    form.extend(value.map(|value| (field.to_owned(), value.into())));
}

/// A list that takes the place of the one before, where it was said; "" alone is none.
pub(crate) fn put_list(form: &mut Map<String, Value>, field: &str, list: &[String]) {
    if !list.is_empty() {
        let list: Vec<_> = list.iter().filter(|one| !one.is_empty()).collect();
        form.insert(field.to_owned(), json!(list));
    }
}

pub(crate) fn text(value: &Value) -> String {
    printable(value.as_str().unwrap_or_default()).into_owned()
}

pub(crate) fn texts(value: &Value) -> String {
    value.as_array().into_iter().flatten().map(text).collect::<Vec<_>>().join(" ")
}

/// A word where something is true.
pub(crate) fn flag(value: &Value, word: &str) -> String {
    if value == true { word.to_owned() } else { String::new() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_cell_is_run_by_a_spreadsheet() {
        for (text, cell) in [
            ("quay-sw-1", "quay-sw-1"),
            ("=cmd()", "'=cmd()"),
            ("+1", "'+1"),
            ("a, \"b\"", "\"a, \"\"b\"\"\""),
            ("@x,y", "\"'@x,y\""),
        ] {
            assert_eq!(csv_cell(text), cell);
        }
    }

    #[test]
    fn any_name_is_one_part_of_an_address() {
        assert_eq!(path(&["nases", "quay-sw-1"]).unwrap(), "nases/quay-sw-1");
        assert_eq!(path(&["nases", "a/b c?é"]).unwrap(), "nases/a%2Fb%20c%3F%C3%A9");
        assert!(path(&["nases", ""]).is_err());
    }
}
