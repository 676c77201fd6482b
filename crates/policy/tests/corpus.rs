//! What the console's grammar is held to: for each policy of the corpus whether it can be read, and what stands
//! where. `REGNANT_UPDATE=1 cargo test -p regnant-policy --test corpus` writes it anew; the console's tests read it.
mod common;

use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};

use common::*;
use regnant_policy::*;

/// What the text itself is refused for, whatever its names mean: no words can be made of it, or a word stands
/// where none may.
const UNREADABLE: [&str; 5] = ["W101", "W102", "W103", "W104", "W110"];

#[test]
fn the_corpus_says_what_stands_where() {
    let here = Path::new(env!("CARGO_MANIFEST_DIR"));
    let mut files: Vec<PathBuf> = ["tests/corpus", "tests/mistakes", "../campus/harbour"]
        .into_iter()
        .flat_map(|folder| fs::read_dir(here.join(folder)).unwrap())
        .map(|entry| entry.unwrap().path())
        .filter(|path| path.extension().is_some_and(|extension| extension == "writ"))
        .collect();
    files.sort();
    let mut told = String::new();
    for path in files {
        let text = fs::read_to_string(&path).unwrap();
        let source = Source::new("main.writ", text);
        let name = path.strip_prefix(here.join("tests")).or(path.strip_prefix(here.join("../"))).unwrap();
        let items = outline(&source);
        let checked = Parsed::parse(source).check(&schema());
        let unreadable = checked.diagnostics().iter().any(|found| UNREADABLE.contains(&found.code));
        let of_files = |code: &str| code.starts_with("W13");
        let syntax = checked.diagnostics().iter().any(|found| found.code.starts_with("W1") && !of_files(found.code));
        let state = if unreadable {
            "unreadable"
        } else if syntax {
            "refused"
        } else {
            "read"
        };
        writeln!(told, "{} {state}", name.display()).unwrap();
        for item in items.iter().filter(|item| !syntax && item.kind != OutlineKind::Part) {
            let line = checked.source().position(item.span.start).line;
            writeln!(told, "  {line} {} {}", item.kind.word(), item.name).unwrap();
        }
    }
    let expected = here.join("tests/corpus.txt");
    if std::env::var_os("REGNANT_UPDATE").is_some() {
        fs::write(&expected, &told).unwrap();
    }
    assert!(fs::read_to_string(&expected).unwrap_or_default() == told, "corpus.txt is not current: write it anew");
    assert!(told.contains("corpus/whole.writ read\n"), "the whole language cannot be read");
}
