use crate::diagnostic::Diagnostic;
use crate::parse::ast::{Name, Policy};
use crate::parse::parser::parse_file;
use crate::source::{Source, SourceFile, Span};
use regnant_base::did_you_mean;

/// Files of one policy.
const MOST_FILES: usize = 256;

/// Reads the file that a policy begins with, and every file that is included.
pub(crate) struct Files<'s> {
    source: &'s Source,
    /// Files that have been read, or are being read.
    read: Vec<&'s str>,
    /// Files whose includes are being read, to find circles.
    open: Vec<&'s str>,
    policy: Policy,
    diagnostics: Vec<Diagnostic>,
}

impl<'s> Files<'s> {
    pub(crate) fn new(source: &'s Source) -> Self {
        Self { source, read: Vec::new(), open: Vec::new(), policy: Policy::default(), diagnostics: Vec::new() }
    }

    pub(crate) fn read(mut self) -> (Policy, Vec<Diagnostic>) {
        let files = self.source.files();
        if files.len() > MOST_FILES {
            let message = format!("the policy has {} files and may have {MOST_FILES}", files.len());
            return (self.policy, vec![Diagnostic::error("W100", Span::default(), message)]);
        }
        if let Some(main) = files.first() {
            self.file(main);
        }
        for file in files.iter().skip(1).filter(|file| !self.read.contains(&file.name.as_str())) {
            let at = Span { start: file.span.start, end: file.span.start };
            if let Some(why) = bad_path(&file.name) {
                let message = format!("the file `{}` {why}", file.name.escape_debug());
                self.diagnostics.push(Diagnostic::error("W130", at, message));
                continue;
            }
            let message = format!("nothing includes `{}`", file.name);
            let note = format!("write `include \"{}\"` in main.writ, or remove the file", file.name);
            self.diagnostics.push(Diagnostic::warning("W504", at, message).note(note));
        }
        (self.policy, self.diagnostics)
    }

    fn file(&mut self, file: &'s SourceFile) {
        let (read, found) = parse_file(self.source, file);
        self.diagnostics.extend(found);
        let is_main = self.read.is_empty();
        self.read.push(&file.name);
        if !is_main {
            let gates = read.gates.iter().map(|gate| ("a gate", gate.name.span));
            let zone = read.zone.iter().map(|zone| ("`zone`", zone.span));
            for (what, span) in gates.chain(zone) {
                let message = format!("{what} stands in main.writ alone");
                let note = "an included file may hold define, list, acl, grant and case";
                self.diagnostics.push(Diagnostic::error("W133", span, message).note(note));
            }
        }
        let Policy { zone, includes, lists, defines, acls, grants, gates, cases, outline } = read;
        self.policy.outline.extend(outline);
        if is_main {
            self.policy.zone = zone;
            self.policy.gates = gates;
        }
        self.policy.lists.extend(lists);
        self.policy.defines.extend(defines);
        self.policy.acls.extend(acls);
        self.policy.grants.extend(grants);
        self.policy.cases.extend(cases);
        self.open.push(&file.name);
        for path in &includes {
            self.include(path);
        }
        self.open.pop();
    }

    fn include(&mut self, path: &Name) {
        let error = |code, message: String| Diagnostic::error(code, path.span, message);
        if let Some(why) = bad_path(&path.text) {
            let note = "write the path of a file of the policy's folder, such as \"access-lists.writ\"";
            self.diagnostics.push(error("W130", format!("`{}` {why}", path.text)).note(note));
            return;
        }
        if self.open.contains(&path.text.as_str()) {
            let circle = [&self.open[..], &[path.text.as_str()]].concat().join(" → ");
            self.diagnostics.push(error("W132", format!("files include one another in a circle: {circle}")));
            return;
        }
        if self.read.contains(&path.text.as_str()) {
            let note = "once is enough: what it holds counts in every file";
            self.diagnostics.push(error("W132", format!("`{}` is included twice", path.text)).note(note));
            return;
        }
        let files = self.source.files();
        match files.iter().find(|file| file.name == path.text) {
            Some(file) => self.file(file),
            None => {
                let others = files.iter().skip(1).map(|file| file.name.as_str());
                let message = format!("there is no file `{}` in the policy's folder", path.text);
                self.diagnostics.push(error("W131", message).suggest(did_you_mean(&path.text, others)));
            }
        }
    }
}

/// Why this is no path of a file of a policy's folder, where it is none.
pub fn bad_path(path: &str) -> Option<&'static str> {
    let parts = || path.split('/');
    if path.starts_with('/') || path.contains(['\\', ':']) || parts().any(|part| part == "..") {
        Some("leaves the policy's folder")
    } else if !path.ends_with(".writ") {
        Some("is no .writ file")
    } else if parts().any(|part| part.is_empty() || part.starts_with('.')) || path.chars().any(char::is_control) {
        Some("is no path of a file")
    } else {
        None
    }
}
