//! Help for whoever writes a policy: what the core knows of a place in its text. Nothing is changed and nothing
//! kept.

use std::collections::BTreeMap;

use axum::Json;
use axum::extract::State;
use regnant_policy::{
    CompletionKind, MAIN, PolicyFiles, Position, Replacement, Schema, Source, Span, complete, format, hover,
    occurrences, rename,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::http::Api;
use crate::http::callers::{May, ReadPolicy};
use crate::http::error::{ApiError, sentence};
use crate::http::extract::Sent;
use crate::http::policy::{PolicyText, sent_files};
use crate::{Answers, first_policy};

/// A place in a policy that is being written.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct PlaceForm {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the other files, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
    /// The file.
    #[serde(default = "main_file")]
    file: String,
    /// The line, from 1.
    line: usize,
    /// The column in characters, from 1.
    column: usize,
}

/// Places where something is named that are told.
const MOST_TOLD: usize = 10_000;

fn main_file() -> String {
    MAIN.to_owned()
}

/// A name in the place of another.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct RenameForm {
    /// Where the name stands.
    place: PlaceForm,
    /// The other name.
    name: String,
}

/// A stretch of a file.
#[derive(Serialize, ToSchema)]
pub(crate) struct StretchView {
    /// The file.
    file: String,
    /// The line where it begins, from 1.
    line: usize,
    /// The column in characters, from 1.
    column: usize,
    /// How many characters it has, ends of lines among them.
    length: usize,
}

/// What may stand at a place.
#[derive(Serialize, ToSchema)]
pub(crate) struct CompletionView {
    /// What is replaced: what is written of it already.
    replaces: StretchView,
    /// What may stand there; names before words of the language.
    items: Vec<CompletionItemView>,
}

/// Something that may stand at a place.
#[derive(Serialize, ToSchema)]
pub(crate) struct CompletionItemView {
    /// What is written.
    text: String,
    /// What it is: `name`, `value`, `fact` or `word`.
    kind: &'static str,
    /// What it is, in a few words.
    detail: String,
}

/// What stands at a place.
#[derive(Serialize, ToSchema)]
pub(crate) struct MeaningView {
    /// What it is, in a line; none where nothing is known of it.
    title: Option<String>,
    /// What it means.
    text: String,
    /// Where it is named, 10,000 places at most, the place first where it has its name from; none where the policy
    /// gives it none.
    occurrences: Vec<StretchView>,
}

/// A text in the place of another.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangedText {
    /// What is replaced.
    replaces: StretchView,
    /// What stands there then.
    text: String,
}

/// Changes of several files.
#[derive(Serialize, ToSchema)]
pub(crate) struct ChangesView {
    changes: Vec<ChangedText>,
}

/// A policy laid out.
#[derive(Serialize, ToSchema)]
pub(crate) struct FormattedView {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the other files, by their paths.
    included: BTreeMap<String, String>,
    /// Files of which no words can be made, which stay as they are.
    unread: Vec<String>,
}

impl PlaceForm {
    /// The policy, and the offset that is meant: the nearest that there is.
    fn read(self) -> Result<(Source, usize), ApiError> {
        let source = Source::from(&sent_files(self.source, self.included)?);
        let file = source.files().iter().find(|file| file.name == self.file);
        let file = file.ok_or_else(|| ApiError::bad(format!("There is no file `{}`.", self.file.escape_debug())))?;
        let offset = source.offset(file, self.line, self.column);
        Ok((source, offset))
    }
}

fn stretch(source: &Source, span: Span) -> StretchView {
    let Position { file, line, column } = source.position(span.start);
    StretchView { file: file.into(), line, column, length: source.slice(span).chars().count() }
}

fn schema(api: &Api) -> Result<Schema, AdministrationError> {
    let snapshot = api.administration.snapshot();
    Ok(api.administration.policies.surroundings(&snapshot)?.schema(&snapshot.languages))
}

/// What may stand at a place of a policy that is being written.
#[utoipa::path(post, path = "/api/v1/policy/completion", request_body = PlaceForm,
    responses((status = 200, body = CompletionView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn completion(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(place): Sent<PlaceForm>,
) -> Result<Json<CompletionView>, ApiError> {
    let study = api.study.clone();
    let work = move || {
        let (source, offset) = place.read()?;
        let told = complete(&source, offset, &schema(&api)?);
        let items = told.items.into_iter().map(|item| {
            let kind = match item.kind {
                CompletionKind::Name => "name",
                CompletionKind::Value => "value",
                CompletionKind::Fact => "fact",
                CompletionKind::Word => "word",
            };
            CompletionItemView { text: item.text, kind, detail: item.detail }
        });
        Ok::<_, ApiError>(CompletionView { replaces: stretch(&source, told.span), items: items.collect() })
    };
    Ok(Json(study.run(&signed.bearer.administrator, work).await?))
}

/// What stands at a place of a policy: what it means, where it has its name from, and who names it.
#[utoipa::path(post, path = "/api/v1/policy/meaning", request_body = PlaceForm,
    responses((status = 200, body = MeaningView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn meaning(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(place): Sent<PlaceForm>,
) -> Result<Json<MeaningView>, ApiError> {
    let study = api.study.clone();
    let work = move || {
        let (source, offset) = place.read()?;
        let told = hover(&source, offset, &schema(&api)?);
        let all = occurrences(&source, offset);
        let (title, text) = told.map_or((None, String::new()), |told| (Some(told.title), told.text));
        Ok::<_, ApiError>(MeaningView {
            title,
            text,
            occurrences: all.iter().take(MOST_TOLD).map(|span| stretch(&source, *span)).collect(),
        })
    };
    Ok(Json(study.run(&signed.bearer.administrator, work).await?))
}

/// The changes that give what stands at a place another name, in all files.
#[utoipa::path(post, path = "/api/v1/policy/rename", request_body = RenameForm,
    responses((status = 200, body = ChangesView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn renamed(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(RenameForm { place, name }): Sent<RenameForm>,
) -> Result<Json<ChangesView>, ApiError> {
    let work = move || {
        let (source, offset) = place.read()?;
        let changes = rename(&source, offset, &name).map_err(|error| ApiError::bad(sentence(error)))?;
        Ok::<_, ApiError>(changed(&source, changes))
    };
    Ok(Json(api.study.run(&signed.bearer.administrator, work).await?))
}

/// Changes of a policy, by its files.
pub(crate) fn changed(source: &Source, changes: Vec<Replacement>) -> ChangesView {
    let text = |change: Replacement| ChangedText { replaces: stretch(source, change.span), text: change.text };
    ChangesView { changes: changes.into_iter().map(text).collect() }
}

/// A policy as its beginning.
#[derive(Serialize, ToSchema)]
pub(crate) struct BeginningView {
    /// The text of `main.writ`.
    source: String,
}

/// A first policy, of only what is said that there is; nothing is kept.
#[utoipa::path(post, path = "/api/v1/policy/begin", request_body = Answers,
    responses((status = 200, body = BeginningView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn beginning(
    _: May<ReadPolicy>,
    Sent(answers): Sent<Answers>,
) -> Result<Json<BeginningView>, ApiError> {
    let source = first_policy(&answers).map_err(|error| ApiError::bad(sentence(error)))?;
    Ok(Json(BeginningView { source }))
}

/// A policy laid out, file by file.
#[utoipa::path(post, path = "/api/v1/policy/format", request_body = PolicyText,
    responses((status = 200, body = FormattedView), (status = 401, body = ApiError)))]
pub(crate) async fn formatted(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(text): Sent<PolicyText>,
) -> Result<Json<FormattedView>, ApiError> {
    let work = move || {
        let PolicyFiles { main: mut source, mut included } = text.files()?;
        let mut unread = Vec::new();
        let mut lay_out = |path: &str, text: &mut String| match format(text) {
            Ok(laid) => *text = laid,
            Err(_) => unread.push(path.to_owned()),
        };
        lay_out(MAIN, &mut source);
        included.iter_mut().for_each(|(path, text)| lay_out(path, text));
        Ok::<_, AdministrationError>(FormattedView { source, included, unread })
    };
    Ok(Json(api.study.run(&signed.bearer.administrator, work).await?))
}
