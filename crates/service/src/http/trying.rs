//! Policies tried without asking equipment: what if, a case of an entry, and how often each rule decides.

use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use jiff::Timestamp;
use regnant_equipment::Edition;
use regnant_evidence::{Evidence, KeptFact, RuleRecord, WhatIf, WhatIfAnswer, case_of, facts_of};
use regnant_journal::Entry;
use regnant_policy::{Source, StatedFacts, TruthValue};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::administration::report::CheckReport;
use crate::http::Api;
use crate::http::callers::{May, ReadPolicy, Signed};
use crate::http::difference::Compared;
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Sent;
use crate::http::hours::hour_text;

/// What is tried.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct WhatIfForm {
    /// The policies, one or two.
    policies: Vec<Compared>,
    /// An entry of the journal whose facts are taken.
    entry: Option<String>,
    /// Facts in their place, as a case states them: `nas.kind = switch, user.groups = { "staff" }`.
    #[serde(default)]
    facts: String,
}

/// What policies come to.
#[derive(Serialize, ToSchema)]
pub(crate) struct WhatIfView {
    answers: Vec<AnswerView>,
    /// Whether all come to the same.
    same: bool,
    /// What is to be known of the entry.
    note: Option<String>,
}

/// What a policy comes to.
#[derive(Serialize, ToSchema)]
pub(crate) struct AnswerView {
    /// Which policy: `edition 12`, `draft` or `files`.
    policy: String,
    /// What its check found, where it does not check; then there is nothing else.
    report: Option<CheckReport>,
    /// The gate that takes the request.
    gate: Option<String>,
    /// Gates that were passed over, with what their conditions came to.
    passed_gates: Vec<PassedGate>,
    /// `granted`, `observed`, `refused` or `silence`.
    outcome: String,
    /// What decides: the title of a rule, `otherwise`, or why no rule is asked.
    by: String,
    /// Whether a rule of that title decides.
    by_rule: bool,
    grants: Vec<String>,
    /// What they say, for people.
    says: Vec<String>,
    /// The rules that were tried.
    rules: Vec<TriedRule>,
    /// How many of them are left out.
    more_rules: usize,
}

/// A gate that was passed over.
#[derive(Serialize, ToSchema)]
pub(crate) struct PassedGate {
    gate: String,
    /// `false`, `absent` or `unanswered`.
    outcome: String,
}

/// A rule that was tried.
#[derive(Serialize, ToSchema)]
pub(crate) struct TriedRule {
    title: String,
    /// What would follow.
    then: String,
    /// `true`, `false`, `absent` or `unanswered`.
    outcome: String,
    tests: Vec<TriedTest>,
}

/// A comparison that was looked at.
#[derive(Serialize, ToSchema)]
pub(crate) struct TriedTest {
    text: String,
    outcome: String,
}

fn word(outcome: TruthValue) -> String {
    match outcome {
        TruthValue::True => "true",
        TruthValue::False => "false",
        TruthValue::Absent => "absent",
        TruthValue::Unanswered => "unanswered",
    }
    .into()
}

impl From<RuleRecord> for TriedRule {
    fn from(rule: RuleRecord) -> Self {
        let tests = rule.tests.into_iter().map(|test| TriedTest { text: test.text, outcome: word(test.outcome) });
        Self { title: rule.title, then: rule.then, outcome: word(rule.outcome), tests: tests.collect() }
    }
}

impl AnswerView {
    fn new(policy: String, answer: WhatIfAnswer) -> Self {
        let passed = answer.passed_gates.into_iter();
        Self {
            policy,
            report: None,
            gate: answer.gate,
            passed_gates: passed.map(|(gate, outcome)| PassedGate { gate, outcome: word(outcome) }).collect(),
            outcome: answer.outcome.word().into(),
            by: answer.by,
            by_rule: answer.by_rule,
            grants: answer.grants,
            says: answer.says,
            rules: answer.rules.into_iter().map(Into::into).collect(),
            more_rules: answer.more_rules,
        }
    }

    fn unfit(policy: String, report: CheckReport) -> Self {
        Self {
            policy,
            report: Some(report),
            gate: None,
            passed_gates: Vec::new(),
            outcome: String::new(),
            by: String::new(),
            by_rule: false,
            grants: Vec::new(),
            says: Vec::new(),
            rules: Vec::new(),
            more_rules: 0,
        }
    }
}

/// What policies come to with the facts of an entry, with others in their place, or with those alone. It is
/// taken that everybody was proved as the facts say. Nothing is sent, and nothing counted.
#[utoipa::path(post, path = "/api/v1/policy/what-if", request_body = WhatIfForm,
    responses((status = 200, body = WhatIfView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn what_if(
    State(api): State<Api>,
    May { signed: Signed { author: by, bearer, .. }, .. }: May<ReadPolicy>,
    Sent(form): Sent<WhatIfForm>,
) -> Result<Json<WhatIfView>, ApiError> {
    if !(1..=2).contains(&form.policies.len()) {
        return Err(ApiError::bad("Name one policy, or two to be compared."));
    }
    let study = api.study.clone();
    study.run(&bearer.administrator, move || tried(&api, form, &by.name)).await.map(Json)
}

fn tried(api: &Api, form: WhatIfForm, author: &str) -> Result<WhatIfView, ApiError> {
    let entry = form.entry.as_deref().map(|id| decision(api, id)).transpose()?;
    let languages = api.administration.snapshot().languages.clone();
    let vocabulary = &*languages.vocabulary;
    let stated = match form.facts.trim().is_empty() {
        true => StatedFacts::default(),
        false => StatedFacts::read(&form.facts, vocabulary.schema())
            .map_err(|told| ApiError::bad(format!("The facts cannot be read: {told}.")))?,
    };
    let facts = WhatIf::new(entry.as_ref(), vocabulary, stated);
    let (mut views, mut answers) = (Vec::new(), Vec::new());
    for policy in form.policies {
        let name = policy.name();
        let files = policy.files(&api.administration.policies, author)?;
        match languages.edition(0, Source::from(&files), vocabulary.schema()) {
            Err(checked) => {
                views.push(AnswerView::unfit(name, CheckReport::unfit(crate::snapshot::Unfit::Check(checked))));
            }
            Ok(edition) => {
                let answer = WhatIfAnswer::of(&edition.policy, vocabulary.schema(), &facts);
                answers.push(answer.clone());
                views.push(AnswerView::new(name, answer));
            }
        }
    }
    let same = answers.len() == views.len() && answers.windows(2).all(|pair| pair[0].comes_to(&pair[1]));
    let before_rules = entry.as_ref().is_some_and(|entry| {
        entry.ending.because().is_none_or(|because| matches!(because, regnant_decision::Because::Proof(..)))
    });
    let note = before_rules.then(|| {
        "The entry ended before any rule was tried, since nobody was proved; here the rules are tried all the same."
            .into()
    });
    Ok(WhatIfView { answers: views, same, note })
}

/// A decision of the journal.
fn decision(api: &Api, id: &str) -> Result<Evidence, ApiError> {
    match api.reader.entry(id)? {
        Some(Entry::Decision(evidence)) => Ok(*evidence),
        Some(_) => Err(ApiError::bad(format!("The entry `{id}` tells of no decision."))),
        None => Err(ApiError::not_found(format!("The journal has no entry `{id}`."))),
    }
}

/// A case of an entry.
#[derive(Serialize, ToSchema)]
pub(crate) struct CaseView {
    /// Its text in Writ.
    case: String,
}

/// A case made of an entry: its facts, as far as the policy that decided asks for them, and what was decided.
#[utoipa::path(get, path = "/api/v1/journal/{id}/case", params(("id" = String, Path)),
    responses((status = 200, body = CaseView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn case(
    State(api): State<Api>,
    _: May<ReadPolicy>,
    Path(id): Path<String>,
) -> Result<Json<CaseView>, ApiError> {
    let work = move || {
        let entry = decision(&api, &id)?;
        let edition = api.administration.policies.edition_to_read(entry.edition);
        case_of(&entry, &*edition).map_err(|why| ApiError::bad(format!("No case can be made of it: {why}.")))
    };
    Ok(Json(CaseView { case: blocking(work).await? }))
}

/// What was known of a request.
#[derive(Serialize, ToSchema)]
pub(crate) struct FactList {
    facts: Vec<FactView>,
}

/// A fact of a request.
#[derive(Serialize, ToSchema)]
pub(crate) struct FactView {
    /// Its name.
    name: String,
    /// Its value, as Writ writes it.
    value: String,
    /// Whether the policy that decided asks for it.
    asked: bool,
}

/// What was known of a request, as far as it was kept and Writ can write it.
#[utoipa::path(get, path = "/api/v1/journal/{id}/facts", params(("id" = String, Path)),
    responses((status = 200, body = FactList), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError)))]
pub(crate) async fn facts(
    State(api): State<Api>,
    _: May<ReadPolicy>,
    Path(id): Path<String>,
) -> Result<Json<FactList>, ApiError> {
    let work = move || {
        let entry = decision(&api, &id)?;
        let edition = api.administration.policies.edition_to_read(entry.edition);
        let view = |KeptFact { name, value, asked }| FactView { name, value, asked };
        Ok::<_, ApiError>(FactList { facts: facts_of(&entry, &*edition).into_iter().map(view).collect() })
    };
    Ok(Json(blocking(work).await?))
}

/// How often rules decided.
#[derive(Serialize, ToSchema)]
pub(crate) struct HitList {
    rules: Vec<RuleHits>,
}

/// How often a rule of the active edition decided, under this edition and those before, by its title.
#[derive(Serialize, ToSchema)]
pub(crate) struct RuleHits {
    gate: String,
    /// Its title; `otherwise` at the end of each gate.
    rule: String,
    /// In the last 24 hours.
    day: u64,
    /// In the last 7 days.
    week: u64,
    /// The hour in which it decided last, in UTC, within 90 days.
    last: Option<String>,
}

/// How often each rule of the active edition decided in the last day and week, and when last.
#[utoipa::path(get, path = "/api/v1/policy/hits",
    responses((status = 200, body = HitList), (status = 401, body = ApiError)))]
pub(crate) async fn hits(State(api): State<Api>, _: May<ReadPolicy>) -> Result<Json<HitList>, ApiError> {
    let work = move || {
        let until = Timestamp::now().as_second() / 3_600 + 1;
        let counts = api.reader.counts(until - 24 * 90, until)?;
        let mut editions: BTreeMap<u32, std::sync::Arc<Edition>> = BTreeMap::new();
        let mut found: BTreeMap<(String, Option<String>), (u64, u64, i64)> = BTreeMap::new();
        for count in counts {
            let read = || api.administration.policies.edition_to_read(count.edition);
            let edition = editions.entry(count.edition).or_insert_with(read);
            if edition.number != count.edition {
                continue;
            }
            let gate = count.gate.and_then(|gate| edition.policy.gates().get(gate as usize));
            let Some(gate) = gate.filter(|_| count.cause == "rule" || count.cause == "otherwise") else { continue };
            let rule = count.rule.and_then(|rule| gate.rules.get(rule as usize)).map(|rule| rule.title.clone());
            let (day, week, last) = found.entry((gate.name.clone(), rule)).or_default();
            *day += if count.hour >= until - 24 { count.number } else { 0 };
            *week += if count.hour >= until - 24 * 7 { count.number } else { 0 };
            *last = count.hour.max(*last);
        }
        let active = api.administration.snapshot().active.edition.clone();
        let rows = active.policy.gates().iter().flat_map(|gate| {
            let titles = gate.rules.iter().map(|rule| Some(rule.title.clone())).chain([None]);
            titles.map(|title| (gate.name.clone(), title)).collect::<Vec<_>>()
        });
        let view = |key: (String, Option<String>)| {
            let (day, week, last) = found.get(&key).copied().unwrap_or_default();
            let last = (last > 0).then(|| hour_text(last));
            RuleHits { gate: key.0, rule: key.1.unwrap_or_else(|| "otherwise".into()), day, week, last }
        };
        Ok::<_, regnant_journal::JournalError>(HitList { rules: rows.map(view).collect() })
    };
    Ok(Json(blocking(work).await?))
}
