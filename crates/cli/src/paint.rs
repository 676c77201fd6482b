//! What the terminal shows: bold and dim where it is one, plain text elsewhere.

use std::fmt;
use std::io::{ErrorKind, IsTerminal, Write, stdout};

use regnant_base::printable;

/// Prints a line on standard output. Whoever reads it may have seen enough: then the
/// command ends quietly.
macro_rules! say {
    ($($part:tt)*) => { $crate::paint::line(format_args!($($part)*)) };
}
pub(crate) use say;

pub(crate) fn line(text: fmt::Arguments<'_>) {
    if let Err(error) = writeln!(stdout().lock(), "{text}") {
        if error.kind() != ErrorKind::BrokenPipe {
            eprintln!("regnant: standard output cannot be written: {error}");
        }
        // As the system ends a program that writes into a closed pipe.
        std::process::exit(if error.kind() == ErrorKind::BrokenPipe { 141 } else { 1 });
    }
}

/// Stands out, where the terminal can.
pub(crate) fn bold(text: &str) -> String {
    styled(text, "1")
}

/// Steps back, where the terminal can.
pub(crate) fn dim(text: &str) -> String {
    styled(text, "2")
}

fn styled(text: &str, code: &str) -> String {
    match stdout().is_terminal() {
        true => format!("\x1b[{code}m{text}\x1b[0m"),
        false => text.to_owned(),
    }
}

/// The mark of an outcome; shape tells it apart, not colour alone.
pub(crate) fn mark(outcome: &str) -> &'static str {
    match outcome {
        "granted" | "passed" => "●",
        "observed" => "◑",
        "refused" | "stopped" => "✕",
        "silence" => "–",
        "unfinished" => "…",
        "told" => "→",
        "accounting" => "≡",
        "unheard" => "?",
        "unreadable" => "▨",
        _ => "○",
    }
}

/// Text broken at spaces into lines of at most `width` characters.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines = vec![String::new()];
    for word in text.split(' ') {
        let line = lines.last_mut().expect("there is always a line");
        let longer = line.chars().count() + 1 + word.chars().count();
        if line.is_empty() {
            line.push_str(word);
        } else if longer <= width {
            line.push(' ');
            line.push_str(word);
        } else {
            lines.push(word.to_owned());
        }
    }
    lines
}

/// Prints a value as JSON, indented.
pub(crate) fn json(value: &impl serde::Serialize) {
    say!("{}", serde_json::to_string_pretty(value).unwrap_or_default());
}

/// Prints rows under a head, in columns as wide as they need to be.
pub(crate) fn table<const N: usize>(head: [&str; N], rows: impl IntoIterator<Item = [String; N]>) {
    let rows: Vec<_> = rows.into_iter().map(|row| row.map(|cell| printable(&cell).into_owned())).collect();
    let width = |column: usize| {
        let cells = rows.iter().map(|row| row[column].chars().count());
        cells.max().unwrap_or(0).max(head[column].chars().count())
    };
    let widths: [usize; N] = std::array::from_fn(width);
    let line = |cells: [&str; N]| {
        let cells = cells.iter().zip(widths).map(|(cell, width)| format!("{cell:width$}"));
        cells.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    say!("{}", bold(&line(head)));
    for row in &rows {
        say!("{}", line(std::array::from_fn(|column| row[column].as_str())));
    }
}
