//! What the journal counts while it writes, so that nobody need read entries for it.

use axum::Json;
use axum::extract::State;
use jiff::Timestamp;
use regnant_base::Mac;
use regnant_journal::{Count, JournalError, NewestKind};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::Administration;
use crate::http::Api;
use crate::http::callers::{Look, May};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::Asked;
use crate::http::view::EntryView;

const HOUR_SECONDS: i64 = 3_600;
/// A journal is kept for 90 days where nobody says otherwise.
const MOST_HOURS: i64 = 24 * 90;

/// Which hours are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedHours {
    /// How many hours, this one with them: 1 to 2160; 24 if not said.
    hours: Option<i64>,
}

/// How often what was decided.
#[derive(Serialize, ToSchema)]
pub(crate) struct CountList {
    counts: Vec<CountView>,
}

/// How often something was decided in one hour.
#[derive(Serialize, ToSchema)]
struct CountView {
    /// When the hour began, in UTC.
    hour: String,
    /// The edition that decided.
    edition: u32,
    /// The gate.
    gate: Option<String>,
    /// The rule; none where none decided.
    rule: Option<String>,
    /// The grants.
    grants: Vec<String>,
    /// `granted`, `refused`, `silence` or `unfinished`.
    outcome: String,
    /// Where the decision fell: `rule`, `otherwise`, `undetermined`, `no-gate`, `user-failed` and the like.
    cause: String,
    /// The NAS; none where so many were counted that they are not told apart.
    nas: Option<String>,
    /// How often.
    number: u64,
}

impl CountView {
    fn new(count: Count, administration: &Administration) -> Self {
        let edition = administration.policies.edition_to_read(count.edition);
        let policy = (edition.number == count.edition).then_some(&edition.policy);
        let gate = policy.zip(count.gate).and_then(|(policy, gate)| policy.gates().get(gate as usize));
        let numbered = |place: u32| (place + 1).to_string();
        Self {
            hour: Timestamp::from_second(count.hour * HOUR_SECONDS).map(|hour| hour.to_string()).unwrap_or_default(),
            edition: count.edition,
            gate: count.gate.map(|place| gate.map_or_else(|| numbered(place), |gate| gate.name.clone())),
            rule: count.rule.map(|place| {
                let rule = gate.and_then(|gate| gate.rules.get(place as usize));
                rule.map_or_else(|| numbered(place), |rule| rule.title.clone())
            }),
            grants: match (policy, count.grants) {
                (Some(policy), Some(set)) if (set as usize) < policy.grant_sets() => {
                    policy.grants(set as usize).map(|grant| grant.name.clone()).collect()
                }
                (_, Some(set)) => vec![numbered(set)],
                (_, None) => Vec::new(),
            },
            outcome: count.kind.word().into(),
            cause: count.cause,
            nas: count.nas,
            number: count.number,
        }
    }
}

/// How often what was decided, by the hour.
#[utoipa::path(get, path = "/api/v1/journal/counts", params(WantedHours),
    responses((status = 200, body = CountList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn counts(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedHours>,
) -> Result<Json<CountList>, ApiError> {
    let hours = wanted.hours.unwrap_or(24);
    if !(1..=MOST_HOURS).contains(&hours) {
        return Err(ApiError::bad(format!("`hours` is 1 to {MOST_HOURS}.")));
    }
    let read = move || {
        let until = Timestamp::now().as_second() / HOUR_SECONDS + 1;
        let counts = api.reader.counts(until - hours, until)?;
        Ok::<_, JournalError>(counts.into_iter().map(|count| CountView::new(count, &api.administration)).collect())
    };
    Ok(Json(CountList { counts: blocking(read).await? }))
}

/// Whose newest entry is wanted: one of these.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedNewest {
    /// A device, by its MAC address in any notation.
    device: Option<String>,
    /// A person, by the name that was claimed.
    person: Option<String>,
    /// A machine, by its name.
    machine: Option<String>,
    /// A NAS, by its name.
    nas: Option<String>,
}

impl WantedNewest {
    fn of(self) -> Result<(NewestKind, String), ApiError> {
        let told = |kind: NewestKind| move |name: String| (kind, name);
        let all = [
            self.device.map(told(NewestKind::Device)),
            self.person.map(|name| name.to_lowercase()).map(told(NewestKind::Person)),
            self.machine.map(|name| name.to_lowercase()).map(told(NewestKind::Machine)),
            self.nas.map(told(NewestKind::Nas)),
        ];
        let mut all = all.into_iter().flatten();
        match (all.next(), all.next()) {
            (Some((NewestKind::Device, text)), None) => {
                let mac: Mac = text.parse().map_err(|_| ApiError::bad(format!("`{text}` is no MAC address.")))?;
                Ok((NewestKind::Device, mac.to_string()))
            }
            (Some(one), None) => Ok(one),
            _ => Err(ApiError::bad("Say one of `device`, `person`, `machine` and `nas`.")),
        }
    }
}

/// The newest entry of a device, a person, a machine or a NAS.
#[utoipa::path(get, path = "/api/v1/journal/newest", params(WantedNewest),
    responses((status = 200, body = EntryView), (status = 400, body = ApiError), (status = 401, body = ApiError),
        (status = 404, body = ApiError)))]
pub(crate) async fn newest(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedNewest>,
) -> Result<Json<EntryView>, ApiError> {
    let (kind, name) = wanted.of()?;
    let missing = ApiError::not_found(format!("The journal has no entry of `{name}`."));
    let read = move || {
        let Some(id) = api.reader.newest(kind, &name)? else { return Ok::<_, JournalError>(None) };
        let found = api.reader.entry(&id.to_string())?;
        Ok(found.map(|entry| EntryView::new(&entry, &api.administration)))
    };
    blocking(read).await?.map(Json).ok_or(missing)
}
