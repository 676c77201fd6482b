//! What a policy declares, and gates as tables: their rules in order, in words, with what equipment is told; and what is done to rules, as
//! changes of the text.

use std::collections::{BTreeMap, BTreeSet};

use axum::Json;
use axum::extract::State;
use regnant_equipment::Edition;
use regnant_policy::{
    GateRead, OutlineItem, OutlineKind, RuleAct, RuleRead, Source, ThenRead, gates, item_put, outline, rule_act,
    rule_put,
};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::AdministrationError;
use crate::http::Api;
use crate::http::callers::{May, ReadPolicy};
use crate::http::difference::dialects_in_use;
use crate::http::error::{ApiError, sentence};
use crate::http::extract::Sent;
use crate::http::policy::{PolicyText, sent_files};
use crate::http::writing::{ChangesView, changed};

/// A policy, and the gate of it that is to be shown.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct GatesForm {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the other files, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
    /// The gate; the first where none is said.
    #[serde(default)]
    gate: Option<String>,
}

/// What a policy declares.
#[derive(Serialize, ToSchema)]
pub(crate) struct OutlineView {
    items: Vec<ItemView>,
}

/// Something that a policy declares.
#[derive(Serialize, ToSchema)]
pub(crate) struct ItemView {
    /// What it is: `gate`, `rule`, `grant` and so on.
    kind: &'static str,
    /// Its name or title.
    name: String,
    /// The gate around a rule.
    gate: Option<String>,
    /// The file.
    file: String,
    /// The line, from 1.
    line: usize,
}

/// The gates of a policy, one of them in full.
#[derive(Serialize, ToSchema)]
pub(crate) struct GatesView {
    /// All, in the order in which they are tried.
    gates: Vec<GateSummary>,
    /// The one that is shown; none where there is no such gate.
    shown: Option<GateView>,
    /// What equipment is told for what its rules give; empty where the policy does not check.
    told: Vec<GrantsTold>,
}

/// A gate in a line.
#[derive(Serialize, ToSchema)]
pub(crate) struct GateSummary {
    name: String,
    rules: usize,
}

/// A gate, rule by rule.
#[derive(Serialize, ToSchema)]
pub(crate) struct GateView {
    name: String,
    /// The line of its file where it stands.
    line: usize,
    /// Which requests it takes, in words; empty where it takes all.
    when: String,
    /// Whether it is watched: what rules refuse may be given all the same.
    observes: bool,
    /// Its rules in order.
    rules: Vec<RuleView>,
    /// What happens when no rule is true; none where that is not said.
    otherwise: Option<ThenView>,
}

/// A rule in words.
#[derive(Serialize, ToSchema)]
pub(crate) struct RuleView {
    title: String,
    /// The line of its file where it stands.
    line: usize,
    /// When it decides, in words.
    when: String,
    /// What follows.
    then: ThenView,
    /// Whether it refuses where its gate observes, too.
    always: bool,
    /// Whether it is passed over.
    off: bool,
    /// Until when it is passed over.
    off_until: Option<String>,
    /// The rule that it was copied from and that nobody has looked at since.
    copied_from: Option<String>,
    /// From when on it counts.
    from: Option<String>,
    /// Until when it counts.
    until: Option<String>,
}

/// What follows.
#[derive(Serialize, ToSchema)]
pub(crate) struct ThenView {
    /// `grant`, `refuse` or `silence`.
    what: &'static str,
    /// What is given.
    grants: Vec<String>,
    /// The text of a refusal.
    text: Option<String>,
}

/// What equipment is told for grants.
#[derive(Serialize, ToSchema)]
pub(crate) struct GrantsTold {
    grants: Vec<String>,
    /// By each dialect in use.
    dialects: Vec<DialectTold>,
}

/// What NASes of a dialect are told.
#[derive(Serialize, ToSchema)]
pub(crate) struct DialectTold {
    dialect: String,
    /// Attributes with their values.
    attributes: Vec<String>,
    /// Access lists of which the equipment is told the name alone: it has to have them already.
    lists_by_name: Vec<String>,
    /// Why they cannot be told, where they cannot.
    cannot: Option<String>,
}

/// Something to be done to a policy.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct ActForm {
    /// The text of `main.writ`.
    source: String,
    /// The texts of the other files, by their paths.
    #[serde(default)]
    included: BTreeMap<String, String>,
    /// What is done.
    act: Act,
}

/// What is done to a policy.
#[derive(Deserialize, ToSchema)]
#[serde(tag = "do", rename_all = "kebab-case", deny_unknown_fields)]
pub(crate) enum Act {
    /// A rule is tried before another one; after all others where none is said.
    Move { gate: String, rule: String, before: Option<String> },
    /// Another of what a rule says stands after it, marked as a copy.
    Copy { gate: String, rule: String, title: String },
    /// A rule is passed over, until a moment where one is said.
    Off { gate: String, rule: String, until: Option<String> },
    /// A rule is no longer passed over.
    On { gate: String, rule: String },
    /// Somebody has looked at what a copy gives.
    Looked { gate: String, rule: String },
    /// A rule goes.
    Remove { gate: String, rule: String },
    /// A rule, as it is written, is put before another one; after all others where none is said.
    PutRule { gate: String, before: Option<String>, text: String },
    /// A grant, an access list, a case and the like, as it is written, is put where others of its kind stand.
    Put { text: String },
}

/// What a policy declares, in the order of its text, whether it checks or not.
#[utoipa::path(post, path = "/api/v1/policy/outline", request_body = PolicyText,
    responses((status = 200, body = OutlineView), (status = 401, body = ApiError)))]
pub(crate) async fn declared(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(text): Sent<PolicyText>,
) -> Result<Json<OutlineView>, ApiError> {
    let work = move || {
        let source = Source::from(&text.files()?);
        let view = |item: OutlineItem| {
            let file = source.file_at(item.span.start)?;
            let (kind, line) = (item.kind.word(), source.position(item.span.start).line);
            Some(ItemView { kind, name: item.name, gate: item.gate, file: file.name.clone(), line })
        };
        let named = outline(&source).into_iter().filter(|item| item.kind != OutlineKind::Part);
        Ok::<_, AdministrationError>(OutlineView { items: named.filter_map(view).collect() })
    };
    Ok(Json(api.study.run(&signed.bearer.administrator, work).await?))
}

/// The gates of a policy, one of them in full, whether it checks or not.
#[utoipa::path(post, path = "/api/v1/policy/gates", request_body = GatesForm,
    responses((status = 200, body = GatesView), (status = 401, body = ApiError)))]
pub(crate) async fn table(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(form): Sent<GatesForm>,
) -> Result<Json<GatesView>, ApiError> {
    let study = api.study.clone();
    let work = move || {
        let source = Source::from(&sent_files(form.source, form.included)?);
        let read = gates(&source);
        let shown = match &form.gate {
            Some(name) => read.iter().find(|gate| gate.name == *name),
            None => read.first(),
        };
        let told = shown.map_or_else(|| Ok(Vec::new()), |gate| told(&api, &source, gate))?;
        let shown = shown.map(|gate| GateView::new(gate, &source));
        let gates = read.iter().map(|gate| GateSummary { name: gate.name.clone(), rules: gate.rules.len() }).collect();
        Ok::<_, AdministrationError>(GatesView { gates, shown, told })
    };
    Ok(Json(study.run(&signed.bearer.administrator, work).await?))
}

/// The changes of the text that do something to a policy.
#[utoipa::path(post, path = "/api/v1/policy/act", request_body = ActForm,
    responses((status = 200, body = ChangesView), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn act(
    State(api): State<Api>,
    May { signed, .. }: May<ReadPolicy>,
    Sent(form): Sent<ActForm>,
) -> Result<Json<ChangesView>, ApiError> {
    let work = move || {
        let source = Source::from(&sent_files(form.source, form.included)?);
        let changes = match form.act {
            Act::Put { text } => item_put(&source, &text),
            Act::PutRule { gate, before, text } => rule_put(&source, &gate, before.as_deref(), &text),
            Act::Move { gate, rule, before } => rule_act(&source, &gate, &rule, &RuleAct::Move { before }),
            Act::Copy { gate, rule, title } => rule_act(&source, &gate, &rule, &RuleAct::Copy { title }),
            Act::Off { gate, rule, until } => rule_act(&source, &gate, &rule, &RuleAct::Off { until }),
            Act::On { gate, rule } => rule_act(&source, &gate, &rule, &RuleAct::On),
            Act::Looked { gate, rule } => rule_act(&source, &gate, &rule, &RuleAct::Looked),
            Act::Remove { gate, rule } => rule_act(&source, &gate, &rule, &RuleAct::Remove),
        };
        Ok::<_, AdministrationError>(changes.map(|changes| changed(&source, changes)))
    };
    let changes = api.study.run(&signed.bearer.administrator, work).await?;
    Ok(Json(changes.map_err(|error| ApiError::bad(sentence(error)))?))
}

impl GateView {
    fn new(gate: &GateRead, source: &Source) -> Self {
        let GateRead { name, span, when, rules, otherwise, observes } = gate;
        Self {
            name: name.clone(),
            line: source.position(span.start).line,
            when: when.clone(),
            observes: *observes,
            rules: rules.iter().map(|rule| RuleView::new(rule, source)).collect(),
            otherwise: otherwise.as_ref().map(ThenView::new),
        }
    }
}

impl RuleView {
    fn new(rule: &RuleRead, source: &Source) -> Self {
        let RuleRead { title, span, when, then, always, off, off_until, copied_from, from, until } = rule.clone();
        let (line, then) = (source.position(span.start).line, ThenView::new(&then));
        Self { title, line, when, then, always, off, off_until, copied_from, from, until }
    }
}

impl ThenView {
    fn new(then: &ThenRead) -> Self {
        match then {
            ThenRead::Grant(grants) => Self { what: "grant", grants: grants.clone(), text: None },
            ThenRead::Refuse(text) => Self { what: "refuse", grants: Vec::new(), text: text.clone() },
            ThenRead::Silence => Self { what: "silence", grants: Vec::new(), text: None },
        }
    }
}

/// Combinations of grants that are told in each dialect.
const MOST_TOLD: usize = 500;

/// What equipment is told for each combination of grants that a gate gives.
fn told(api: &Api, source: &Source, gate: &GateRead) -> Result<Vec<GrantsTold>, AdministrationError> {
    let languages = api.administration.snapshot().languages.clone();
    let Ok(edition) = languages.edition(0, source.clone(), languages.vocabulary.schema()) else {
        return Ok(Vec::new());
    };
    let dialects = dialects_in_use(api)?;
    let given = gate.rules.iter().map(|rule| &rule.then).chain(&gate.otherwise);
    let combinations: BTreeSet<&Vec<String>> = given
        .filter_map(|then| match then {
            ThenRead::Grant(grants) => Some(grants),
            _ => None,
        })
        .collect();
    let of = |grants: &Vec<String>| GrantsTold {
        grants: grants.clone(),
        dialects: dialects.iter().filter_map(|dialect| in_dialect(&edition, dialect, grants)).collect(),
    };
    Ok(combinations.into_iter().take(MOST_TOLD).map(of).collect())
}

fn in_dialect(edition: &Edition, dialect: &str, grants: &[String]) -> Option<DialectTold> {
    let names: Vec<_> = grants.iter().map(String::as_str).collect();
    let preview = edition.preview(dialect, &names).ok()?;
    let attributes = preview.shown.into_iter().map(|(name, value)| format!("{name} {value}")).collect();
    let (dialect, lists_by_name) = (dialect.to_owned(), preview.lists_by_name);
    Some(DialectTold { dialect, attributes, lists_by_name, cannot: preview.cannot })
}
