//! How policies differ, by meaning, by line and by what equipment would be told.

use std::collections::{BTreeMap, BTreeSet};
use std::time::{Duration, Instant};

use axum::Json;
use axum::extract::State;
use regnant_base::go_on;
use regnant_policy::{Change as PolicyChange, ChangeKind, PolicyFiles, Source, changes};
use serde::{Deserialize, Serialize};
use similar::TextDiff;
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::administration::policies::Policies;
use crate::http::Api;
use crate::http::callers::{May, ReadPolicy, Signed};
use crate::http::error::ApiError;
use crate::http::extract::Sent;
use crate::http::policy::sent_files;

/// A policy that is compared: an edition by its number, one's own draft, or files.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields, rename_all = "lowercase")]
pub(crate) enum Compared {
    /// An edition.
    Edition(u32),
    /// The edition that decides.
    Active,
    /// One's own draft.
    Draft,
    /// These files.
    Files {
        /// The text of `main.writ`.
        source: String,
        /// The texts of the others, by their paths.
        #[serde(default)]
        included: BTreeMap<String, String>,
    },
}

/// Two policies to be compared.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Comparison {
    from: Compared,
    to: Compared,
}

/// How two policies differ.
#[derive(Serialize, ToSchema)]
pub(crate) struct DifferenceView {
    /// What another thing is meant by now, whatever the layout.
    changes: Vec<PolicyChangeView>,
    /// What NASes would be told in the place of what they are told now, by grant and by each dialect in use;
    /// none where one of the policies does not check.
    told: Vec<ToldDifference>,
    /// The lines that differ, file by file.
    files: Vec<FileDifference>,
}

/// What NASes of a dialect would be told for a grant.
#[derive(Serialize, ToSchema)]
pub(crate) struct ToldDifference {
    grant: String,
    dialect: String,
    /// Attributes with their values, as they are now.
    before: Vec<String>,
    /// As they would be.
    after: Vec<String>,
}

/// What differs in meaning.
#[derive(Clone, Serialize, ToSchema)]
pub(crate) struct PolicyChangeView {
    /// `added`, `removed`, `moved` or `changed`.
    change: String,
    /// What: a `rule`, a `grant` and so on.
    of: String,
    /// Its name or title.
    name: String,
    /// The gate that it is part of.
    gate: Option<String>,
    /// Of a rule what of it: `head`, `condition` or `result`.
    part: Option<String>,
    /// What it said, or at which place it was tried.
    before: String,
    /// What it says now.
    after: String,
    /// The file.
    file: String,
    /// The line.
    line: usize,
}

/// The lines of a file that differ.
#[derive(Serialize, ToSchema)]
pub(crate) struct FileDifference {
    /// The file.
    path: String,
    /// Lines as they were, with `-` before them, and as they are, with `+`, among some that are the same.
    unified: String,
}

/// How two policies differ, by meaning and by line.
#[utoipa::path(post, path = "/api/v1/policy/difference", request_body = Comparison,
    responses((status = 200, body = DifferenceView), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn difference(
    State(api): State<Api>,
    May { signed: Signed { author: by, bearer, .. }, .. }: May<ReadPolicy>,
    Sent(Comparison { from, to }): Sent<Comparison>,
) -> Result<Json<DifferenceView>, ApiError> {
    let study = api.study.clone();
    let work = move || {
        let policies = &api.administration.policies;
        let (from, to) = (from.files(policies, &by.name)?, to.files(policies, &by.name)?);
        let mut difference = compare(&from, &to);
        difference.told = told(&api, (&from, &to), &difference.changes)?;
        Ok::<_, AdministrationError>(difference)
    };
    Ok(Json(study.run(&bearer.administrator, work).await?))
}

impl PolicyChangeView {
    /// Whether both change one thing.
    pub(crate) fn is_of_what(&self, other: &Self) -> bool {
        (&self.of, &self.gate, &self.name) == (&other.of, &other.gate, &other.name)
    }
}

impl Compared {
    /// How people are told of it.
    pub(crate) fn name(&self) -> String {
        match self {
            Self::Edition(number) => format!("edition {number}"),
            Self::Active => "the active edition".into(),
            Self::Draft => "your draft".into(),
            Self::Files { .. } => "what was sent".into(),
        }
    }

    pub(crate) fn files(self, policies: &Policies, author: &str) -> Result<PolicyFiles, AdministrationError> {
        Ok(match self {
            Self::Edition(number) => policies.edition(number)?.files,
            Self::Active => policies.active()?.0.files,
            Self::Draft => policies.draft(author)?.files,
            Self::Files { source, included } => sent_files(source, included)?,
        })
    }
}

/// How long lines are compared, of all files together; what is not found by then is told as more than it is.
const DIFF_LIMIT: Duration = Duration::from_secs(1);
/// Lines around those that differ.
const AROUND: usize = 3;

/// What another thing is meant by in the second.
pub(crate) fn changed(from: &PolicyFiles, to: &PolicyFiles) -> Vec<PolicyChangeView> {
    let (before, after) = (Source::from(from), Source::from(to));
    let view = |change: PolicyChange| {
        let place = if change.kind == ChangeKind::Removed { &before } else { &after };
        let position = place.position(change.span.start);
        PolicyChangeView {
            change: change.kind.word().into(),
            of: change.of.word().into(),
            name: change.name,
            gate: change.gate,
            part: Some(change.part.to_owned()).filter(|part| !part.is_empty()),
            before: change.before,
            after: change.after,
            file: position.file.into(),
            line: position.line,
        }
    };
    changes(&before, &after).into_iter().map(view).collect()
}

fn compare(from: &PolicyFiles, to: &PolicyFiles) -> DifferenceView {
    let paths: BTreeSet<_> = from.iter().chain(to.iter()).map(|(path, _)| path).collect();
    let text = |files: &PolicyFiles, path: &str| {
        let found = files.iter().find(|(known, _)| *known == path).map(|(_, text)| text.to_owned());
        found.unwrap_or_default()
    };
    let until = Instant::now() + DIFF_LIMIT;
    let files = paths.into_iter().filter_map(|path| {
        let (old, new) = (text(from, path), text(to, path));
        let unified = || {
            TextDiff::configure()
                .deadline(until)
                .diff_lines(&old, &new)
                .unified_diff()
                .context_radius(AROUND)
                .to_string()
        };
        (old != new).then(|| FileDifference { path: path.to_owned(), unified: unified() })
    });
    DifferenceView { changes: changed(from, to), told: Vec::new(), files: files.collect() }
}

/// The dialects that NASes speak.
pub(crate) fn dialects_in_use(api: &Api) -> Result<BTreeSet<String>, AdministrationError> {
    Ok(api.administration.equipment.all()?.into_iter().map(|row| row.dialect).collect())
}

/// Differences of what is told that are shown.
const MOST_TOLD: usize = 100;

/// What NASes would be told for grants that say something else, or whose lists do.
fn told(
    api: &Api,
    (from, to): (&PolicyFiles, &PolicyFiles),
    changes: &[PolicyChangeView],
) -> Result<Vec<ToldDifference>, AdministrationError> {
    let changed = |change: &&PolicyChangeView| change.change == "changed";
    let lists = changes.iter().filter(changed).any(|change| change.of == "access list" || change.of == "list");
    let grants: BTreeSet<&str> = changes
        .iter()
        .filter(changed)
        .filter(|change| change.of == "grant")
        .map(|change| change.name.as_str())
        .collect();
    if !lists && grants.is_empty() {
        return Ok(Vec::new());
    }
    let languages = api.administration.snapshot().languages.clone();
    let edition = |files: &PolicyFiles| languages.edition(0, Source::from(files), languages.vocabulary.schema()).ok();
    let (Some(before), Some(after)) = (edition(from), edition(to)) else { return Ok(Vec::new()) };
    let dialects = dialects_in_use(api)?;
    let mut told = Vec::new();
    for grant in before.policy.grant_names().filter(|grant| lists || grants.contains(grant)) {
        for dialect in &dialects {
            go_on();
            let (Ok(old), Ok(new)) = (before.preview(dialect, &[grant]), after.preview(dialect, &[grant])) else {
                continue;
            };
            if (&old.attributes, &old.shown) != (&new.attributes, &new.shown) && told.len() < MOST_TOLD {
                let shown = |list: Vec<(String, String)>| {
                    list.into_iter().map(|(name, value)| format!("{name} {value}")).collect()
                };
                let (before, after) = (shown(old.shown), shown(new.shown));
                told.push(ToldDifference { grant: grant.to_owned(), dialect: dialect.clone(), before, after });
            }
        }
    }
    Ok(told)
}
