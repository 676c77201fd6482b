//! What the terminal shows: bold and dim where it is one, plain text elsewhere.

use std::io::{IsTerminal, stdout};

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
        "refused" | "stopped" => "✕",
        "silence" => "–",
        "unfinished" => "…",
        "unheard" => "?",
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
    println!("{}", serde_json::to_string_pretty(value).unwrap_or_default());
}
