use std::collections::HashSet;

use jiff::Timestamp;
use regnant_equipment::{Edition, GrantProblem};
use regnant_policy::{COPIED, CaseResult, Compiled, Decided, Diagnostic, Edit, Position, Severity, Source, Span};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::policies::AcceptedWarning;
use crate::snapshot::Unfit;

/// What a check found.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// Errors and warnings, in the order of the text.
    pub diagnostics: Vec<DiagnosticReport>,
    /// How each case went; none where there are errors.
    pub cases: Vec<CaseReport>,
    /// How many comparisons a decision takes at most; 0 where there are errors.
    pub comparisons: usize,
    /// The rules that no case reaches, 1000 at most; none where there are errors.
    pub uncovered: Vec<UncoveredRule>,
}

/// A rule that no case reaches.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct UncoveredRule {
    /// Its gate.
    pub gate: String,
    /// Its title.
    pub rule: String,
    /// The file.
    pub file: String,
    /// The line.
    pub line: usize,
}

/// One finding.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct DiagnosticReport {
    /// A stable code.
    pub code: String,
    /// `error` or `warning`.
    pub severity: String,
    /// What is wrong.
    pub message: String,
    /// The file.
    pub file: String,
    /// The line, from 1; 0 where no line is to blame.
    pub line: usize,
    /// The column, from 1.
    pub column: usize,
    /// How many characters of the line it is about.
    pub length: usize,
    /// What to do about it.
    pub notes: Vec<String>,
    /// The finding with its source line and caret.
    pub rendered: String,
    /// What would mend it, where that is known.
    pub edit: Option<EditReport>,
}

/// What would mend a finding.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct EditReport {
    /// What it does, for a button: `write staff`, `remove the rule`.
    pub what: String,
    /// What is replaced in the file of the finding, in the order of the text; none overlaps another.
    pub changes: Vec<ReplacementReport>,
}

/// A text to be put in the place of another.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ReplacementReport {
    /// The line and the column where it begins, from 1.
    pub line: usize,
    /// The column.
    pub column: usize,
    /// How many characters are replaced, ends of lines among them.
    pub length: usize,
    /// What stands there then.
    pub text: String,
}

/// How a case went.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CaseReport {
    /// Its title.
    pub title: String,
    /// The file.
    pub file: String,
    /// The line.
    pub line: usize,
    /// What went otherwise than expected, with its line; none where it passed.
    pub failure: Option<String>,
    /// What happened instead; empty where it passed.
    pub instead: String,
    /// Why that happened.
    pub why: Vec<String>,
}

impl CaseReport {
    fn new(result: CaseResult, source: &Source) -> Self {
        let (file, line) = placed(source, result.span);
        let failure = result.failure.as_ref().map(|diagnostic| diagnostic.render(source));
        let (instead, why) = result.failure.map_or_else(Default::default, |diagnostic| {
            (diagnostic.labels.into_iter().next().map_or(String::new(), |label| label.text), diagnostic.notes)
        });
        Self { title: result.title, file, line, failure, instead, why }
    }
}

impl CheckReport {
    pub(crate) fn fit(edition: &Edition) -> Self {
        Self::of(edition, Severity::Warning)
    }

    /// As activation sees it: what nobody has looked at since it was copied is an error.
    pub(crate) fn fit_to_activate(edition: &Edition) -> Self {
        Self::of(edition, Severity::Error)
    }

    fn of(edition: &Edition, copied: Severity) -> Self {
        let policy = &edition.policy;
        let source = policy.source();
        let mut odd = policy.odd_at(Timestamp::now().as_second());
        odd.iter_mut().filter(|found| found.code == COPIED).for_each(|found| found.severity = copied);
        let mut found: Vec<_> = policy.warnings().iter().chain(&odd).collect();
        found.sort_by_key(|found| found.labels[0].span.start);
        let diagnostics = found.into_iter().map(|found| DiagnosticReport::new(found, source)).collect();
        let results = policy.run_cases();
        let uncovered = uncovered(policy, &results);
        let cases = results.into_iter().map(|result| CaseReport::new(result, source)).collect();
        let comparisons = policy.gates().iter().map(|gate| gate.comparisons).max().unwrap_or(0);
        Self { diagnostics, cases, comparisons, uncovered }
    }

    /// What was found and keeps nothing from being activated.
    pub(crate) fn warnings(&self) -> impl Iterator<Item = &DiagnosticReport> {
        self.diagnostics.iter().filter(|found| found.severity != "error")
    }

    /// Whether every warning is among these.
    pub(crate) fn warnings_are(&self, accepted: &[AcceptedWarning]) -> bool {
        let is = |found: &DiagnosticReport, one: &AcceptedWarning| {
            (&found.code, &found.message) == (&one.code, &one.message)
        };
        self.warnings().all(|found| accepted.iter().any(|one| is(found, one)))
    }

    pub(crate) fn unfit(unfit: Unfit) -> Self {
        let diagnostics = match unfit {
            Unfit::Check(checked) => {
                checked.diagnostics().iter().map(|d| DiagnosticReport::new(d, checked.source())).collect()
            }
            Unfit::Grants(edition, problems) => {
                let source = edition.policy.source();
                problems.iter().map(|(problem, nases)| DiagnosticReport::new(&lack(problem, nases), source)).collect()
            }
        };
        Self { diagnostics, ..Self::default() }
    }

    /// With cases that were judged against the records.
    pub(crate) fn with_cases(mut self, results: Vec<CaseResult>, source: &Source) -> Self {
        self.cases.extend(results.into_iter().map(|result| CaseReport::new(result, source)));
        self
    }

    /// How many findings are errors.
    pub fn errors(&self) -> usize {
        self.diagnostics.iter().filter(|diagnostic| diagnostic.severity == "error").count()
    }

    /// How many cases failed.
    pub fn failed_cases(&self) -> usize {
        self.cases.iter().filter(|case| case.failure.is_some()).count()
    }

    /// With what some NASes could not be told, where it is not known whether there are such.
    pub(crate) fn with_doubts(mut self, problems: &[GrantProblem], source: &Source) -> Self {
        self.diagnostics.extend(problems.iter().map(|problem| {
            let mut doubt = lack(problem, &[]).note("activation is an error where such a NAS may get it");
            doubt.severity = Severity::Warning;
            DiagnosticReport::new(&doubt, source)
        }));
        self
    }

    /// Every finding with its source line and caret.
    pub(crate) fn rendered(&self) -> String {
        self.diagnostics.iter().map(|diagnostic| diagnostic.rendered.as_str()).collect::<Vec<_>>().join("\n")
    }

    /// The outcome in a few words.
    pub fn summary(&self) -> String {
        let count = |number: usize, what: &str| format!("{number} {what}{}", if number == 1 { "" } else { "s" });
        match (self.errors(), self.failed_cases()) {
            (0, 0) => {
                format!(
                    "{}, {} passed; a decision takes at most {}",
                    count(self.diagnostics.len(), "warning"),
                    count(self.cases.len(), "case"),
                    count(self.comparisons, "comparison")
                )
            }
            (0, failed) => format!("{failed} of {} failed", count(self.cases.len(), "case")),
            (errors, _) => count(errors, "error"),
        }
    }
}

/// The file and the line where something stands.
fn placed(source: &Source, span: Span) -> (String, usize) {
    let Position { file, line, .. } = source.position(span.start);
    (file.to_owned(), line)
}

/// Rules without a case that are told: nobody reads more.
const MOST_UNCOVERED: usize = 1_000;

/// The rules that no case reaches.
fn uncovered(policy: &Compiled, results: &[CaseResult]) -> Vec<UncoveredRule> {
    let reached: HashSet<(usize, Option<usize>)> = results
        .iter()
        .filter_map(|result| match result.decided? {
            (gate, Decided::Rule(rule) | Decided::Undetermined(rule)) => Some((gate, Some(rule))),
            (gate, Decided::Otherwise) => Some((gate, None)),
        })
        .collect();
    let mut missed = Vec::new();
    for (place, gate) in policy.gates().iter().enumerate() {
        let missed_rules = gate.rules.iter().enumerate().filter(|(rule, _)| !reached.contains(&(place, Some(*rule))));
        for (_, rule) in missed_rules {
            let (file, line) = placed(policy.source(), rule.span);
            missed.push(UncoveredRule { gate: gate.name.clone(), rule: rule.title.clone(), file, line });
            if missed.len() >= MOST_UNCOVERED {
                return missed;
            }
        }
    }
    missed
}

/// A grant that NASes cannot be told of, as a finding at the statement.
fn lack(problem: &GrantProblem, nases: &[String]) -> Diagnostic {
    let span = problem.cannot.statement.as_ref().map_or_else(Default::default, |statement| statement.span);
    let diagnostic = Diagnostic::error("W320", span, problem.to_string());
    match nases {
        [] => diagnostic,
        nases => {
            let shown = nases.iter().take(MOST_NAMES).map(String::as_str).collect::<Vec<_>>().join(", ");
            let more = nases.len().saturating_sub(MOST_NAMES);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            diagnostic
                .note(format!("it may be given to {shown}{more}; change the grant, or let a gate keep them apart"))
        }
    }
}

/// NASes that a finding names.
const MOST_NAMES: usize = 5;

impl DiagnosticReport {
    fn new(diagnostic: &Diagnostic, source: &Source) -> Self {
        let position = source.position(diagnostic.labels[0].span.start);
        Self {
            code: diagnostic.code.into(),
            severity: match diagnostic.severity {
                Severity::Error => "error".into(),
                Severity::Warning => "warning".into(),
            },
            message: diagnostic.message.clone(),
            file: position.file.into(),
            line: position.line,
            column: position.column,
            length: source.slice(diagnostic.labels[0].span).lines().next().map_or(0, |line| line.chars().count()),
            notes: diagnostic.notes.clone(),
            rendered: diagnostic.render(source),
            edit: diagnostic.edit(source).map(|edit| EditReport::new(edit, source)),
        }
    }
}

impl EditReport {
    fn new(edit: Edit, source: &Source) -> Self {
        let changes = edit.changes.into_iter().map(|change| {
            let Position { line, column, .. } = source.position(change.span.start);
            let length = source.slice(change.span).chars().count();
            ReplacementReport { line, column, length, text: change.text }
        });
        Self { what: edit.what, changes: changes.collect() }
    }
}
