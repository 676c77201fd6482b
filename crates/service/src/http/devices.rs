use std::collections::BTreeMap;

use axum::Json;
use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{IntoResponse, Response};
use regnant_base::Mac;
use regnant_journal::{JournalError, NewestKind};
use regnant_records::{AttributeValue, AttributeValues, DeviceEntry, DeviceFilter, DeviceRow, RecordName};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::administration::entries;
use crate::clock::iso;
use crate::http::Api;
use crate::http::callers::{Bar, Change, Look, May, Signed};
use crate::http::error::{ApiError, blocking};
use crate::http::extract::{Asked, Sent};
use crate::http::record::{etag, limit, page, seen, shown, stays_in, words};
use crate::http::view::EntryView;

/// Why a device must stay out.
#[derive(Serialize, ToSchema)]
pub(crate) struct BarredView {
    reason: String,
    /// Who said so; empty where nobody knows any more.
    by: String,
    at: Option<String>,
}

/// A device.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceView {
    store: String,
    mac: String,
    /// What it is.
    title: String,
    groups: Vec<String>,
    /// Whose it is.
    owner: String,
    note: String,
    /// From when on it is not known any more; never where there is none.
    expires: Option<String>,
    /// What people keep of it beside, by the names of attributes.
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    attributes: AttributeValues,
    /// Why it must stay out, where it must.
    barred: Option<BarredView>,
}

/// Devices, by store and address.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceList {
    devices: Vec<DeviceView>,
    /// How many there are, whatever the filter says.
    all: usize,
    /// After which the next page begins; none at the end.
    next: Option<String>,
}

/// A device with what is known of it.
#[derive(Serialize, ToSchema)]
pub(crate) struct DeviceDetail {
    device: DeviceView,
    /// The newest entry of the journal that is about its address.
    heard: Option<EntryView>,
    /// When it was seen first, as far as the journal goes back; none where it never was.
    first_seen: Option<String>,
    /// Where the active policy names it.
    named_by: Vec<String>,
}

/// A device as it shall be.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct NewDevice {
    store: String,
    /// Its address, in any notation.
    mac: String,
    #[serde(default)]
    title: String,
    #[serde(default)]
    groups: Vec<String>,
    #[serde(default)]
    owner: String,
    #[serde(default)]
    note: String,
    #[serde(default)]
    expires: Option<String>,
    /// What people keep of it beside, by the names of declared attributes.
    #[serde(default)]
    #[schema(value_type = BTreeMap<String, serde_json::Value>)]
    attributes: AttributeValues,
    /// Why it must stay out, where it must.
    #[serde(default)]
    barred: Option<String>,
}

/// What of a device shall be otherwise; what is left out stays. Whether it is barred is
/// `PUT /api/v1/devices/bar`'s.
#[derive(Default, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DevicePatch {
    mac: Option<String>,
    title: Option<String>,
    groups: Option<Vec<String>>,
    owner: Option<String>,
    note: Option<String>,
    /// Empty is never.
    expires: Option<String>,
    /// By name; null takes one away.
    #[schema(value_type = Option<BTreeMap<String, serde_json::Value>>)]
    attributes: Option<BTreeMap<String, Option<AttributeValue>>>,
}

/// Devices that must stay out, or may come in again.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct BarForm {
    /// Their addresses, in any notation.
    macs: Vec<String>,
    /// Why they must stay out; left out, they may come in again.
    #[serde(default)]
    reason: Option<String>,
}

/// What shall be done with several devices.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct DeviceAct {
    /// Their addresses, in any notation.
    macs: Vec<String>,
    /// Groups that they shall be in.
    #[serde(default)]
    into: Vec<String>,
    /// Groups that they shall not be in.
    #[serde(default)]
    out_of: Vec<String>,
    /// Whether they shall be removed.
    #[serde(default)]
    remove: bool,
}

/// How many devices were changed.
#[derive(Serialize, ToSchema)]
pub(crate) struct Acted {
    devices: usize,
}

/// Which devices are wanted.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct WantedDevices {
    /// Every one of these words stands in title, owner, note, groups or attributes, or is a part
    /// of the address in any notation.
    q: Option<String>,
    /// Only those of this store.
    store: Option<String>,
    /// Only those of this group.
    group: Option<String>,
    /// Only those that are barred, or that are not.
    barred: Option<bool>,
    /// Only those after this one: `next` of the page before.
    after: Option<String>,
    /// At most this many, 1 to 5000; 500 if not said.
    limit: Option<usize>,
}

impl From<DeviceRow> for DeviceView {
    fn from(row: DeviceRow) -> Self {
        let barred = row.barred.map(|barred| BarredView {
            reason: barred.reason,
            by: barred.by,
            at: (barred.at != 0).then(|| iso(barred.at.cast_unsigned())),
        });
        Self {
            store: row.store,
            mac: row.first.to_string(),
            title: row.title,
            groups: row.groups,
            owner: row.owner,
            note: row.note,
            expires: shown(row.expires),
            attributes: row.attributes,
            barred,
        }
    }
}

impl From<NewDevice> for DeviceEntry {
    fn from(new: NewDevice) -> Self {
        Self {
            store: new.store,
            mac: new.mac,
            last: None,
            title: new.title,
            groups: new.groups,
            owner: new.owner,
            note: new.note,
            expires: new.expires,
            barred: new.barred.is_some(),
            barred_reason: new.barred.unwrap_or_default(),
            attributes: new.attributes,
        }
    }
}

impl DevicePatch {
    fn on(self, row: &DeviceRow) -> DeviceEntry {
        let mut before = entries::device(row);
        for (name, value) in self.attributes.unwrap_or_default() {
            match value {
                Some(value) => before.attributes.insert(name, value),
                None => before.attributes.remove(&name),
            };
        }
        DeviceEntry {
            mac: self.mac.unwrap_or(before.mac),
            title: self.title.unwrap_or(before.title),
            groups: self.groups.unwrap_or(before.groups),
            owner: self.owner.unwrap_or(before.owner),
            note: self.note.unwrap_or(before.note),
            expires: self.expires.map_or(before.expires, |at| Some(at).filter(|at| !at.is_empty())),
            ..before
        }
    }
}

/// Devices of which it is asked at once when they were seen.
const MOST_SEEN: usize = 500;

fn mac(text: &str) -> Result<Mac, ApiError> {
    text.trim().parse().map_err(|error| ApiError::bad(format!("`{}`: {error}.", text.escape_debug())))
}

fn macs(texts: &[String]) -> Result<Vec<Mac>, ApiError> {
    texts.iter().map(|text| mac(text)).collect()
}

/// Devices by store and address, a page at a time.
#[utoipa::path(get, path = "/api/v1/devices", params(WantedDevices),
    responses((status = 200, body = DeviceList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn devices(
    State(api): State<Api>,
    _: May<Look>,
    Asked(wanted): Asked<WantedDevices>,
) -> Result<Json<DeviceList>, ApiError> {
    let limit = limit(wanted.limit)?;
    let after = wanted.after.as_deref().map(|after| {
        let (store, address) = after.rsplit_once('/').ok_or_else(|| ApiError::bad("`after` is `next` of a page."))?;
        Ok::<_, ApiError>((store.to_owned(), mac(address)?))
    });
    let filter = DeviceFilter {
        words: words(wanted.q.as_ref()),
        store: wanted.store,
        group: wanted.group,
        barred: wanted.barred,
        ends: None,
        after: after.transpose()?,
        limit: limit + 1,
    };
    let identities = api.administration.clone();
    let found = blocking(move || identities.identities.devices(&filter)).await?;
    let (found, next) = page(found, limit, |row| format!("{}/{}", row.store, row.first));
    let all = api.administration.identities.device_counts().values().sum();
    Ok(Json(DeviceList { devices: found.into_iter().map(Into::into).collect(), all, next }))
}

/// A device, with what is known of it. The ETag is for If-Match.
#[utoipa::path(get, path = "/api/v1/devices/{store}/{mac}", params(("store" = String, Path), ("mac" = String, Path)),
    responses((status = 200, body = DeviceDetail), (status = 404, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn device(
    State(api): State<Api>,
    _: May<Look>,
    Path((store, address)): Path<(String, String)>,
) -> Result<Response, ApiError> {
    let (address, reading) = (mac(&address)?, api.clone());
    let row = blocking(move || reading.administration.identities.device(&store, address)).await?;
    let reading = api.clone();
    let heard = blocking(move || {
        let newest = reading.reader.newest(NewestKind::Device, &address.to_string())?;
        let entry = newest.map(|id| reading.reader.entry(&id.to_string())).transpose()?.flatten();
        let first = newest.map(|_| reading.reader.first_of_device(address)).transpose()?.flatten();
        let first_seen = first.map(|id| iso(id.timestamp_ms()));
        Ok::<_, JournalError>((entry.map(|entry| EntryView::new(&entry, &reading.administration)), first_seen))
    });
    let (heard, first_seen) = heard.await?;
    let record = RecordName::Device { store: row.store.clone(), mac: address };
    let (tag, named_by) = (etag(&row), api.administration.identities.named_by(&record));
    Ok((tag, Json(DeviceDetail { device: row.into(), heard, first_seen, named_by })).into_response())
}

/// Of which devices it is asked when they were seen.
#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub(crate) struct AskedSeen {
    /// Their addresses, in any notation, with commas between them; 1 to 500.
    macs: String,
}

/// When devices were seen last.
#[derive(Serialize, ToSchema)]
pub(crate) struct SeenList {
    seen: Vec<SeenView>,
}

/// When a device was seen last.
#[derive(Serialize, ToSchema)]
pub(crate) struct SeenView {
    mac: String,
    at: String,
    /// The entry of the journal.
    entry: String,
}

/// When devices were seen last, as far as the journal goes back; those that never were are
/// left out.
#[utoipa::path(get, path = "/api/v1/devices/seen", operation_id = "devices_seen", params(AskedSeen),
    responses((status = 200, body = SeenList), (status = 400, body = ApiError), (status = 401, body = ApiError)))]
pub(crate) async fn seen_last(
    State(api): State<Api>,
    _: May<Look>,
    Asked(asked): Asked<AskedSeen>,
) -> Result<Json<SeenList>, ApiError> {
    let macs = asked.macs.split(',').map(|text| mac(text).map(|mac| mac.to_string())).collect::<Result<Vec<_>, _>>()?;
    if macs.len() > MOST_SEEN {
        return Err(ApiError::bad(format!("`macs` has 1 to {MOST_SEEN} addresses.")));
    }
    let read = move || api.reader.newest_among(NewestKind::Device, &macs);
    let found = blocking(read).await?;
    let view = |(mac, id): (String, ulid::Ulid)| SeenView { mac, at: iso(id.timestamp_ms()), entry: id.to_string() };
    let mut seen: Vec<_> = found.into_iter().map(view).collect();
    seen.sort_by(|a, b| a.mac.cmp(&b.mac));
    Ok(Json(SeenList { seen }))
}

/// Adds a device.
#[utoipa::path(post, path = "/api/v1/devices", operation_id = "add_device", request_body = NewDevice,
    responses((status = 201, body = DeviceView), (status = 400, body = ApiError), (status = 409, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn add(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Sent(new): Sent<NewDevice>,
) -> Result<Response, ApiError> {
    let row = blocking(move || api.administration.identities.add_device(new.into(), &by)).await?;
    Ok((StatusCode::CREATED, etag(&row), Json(DeviceView::from(row))).into_response())
}

/// Puts a device in the place of one. With If-Match only where it is still as it was read.
#[utoipa::path(put, path = "/api/v1/devices/{store}/{mac}", operation_id = "replace_device",
    params(("store" = String, Path), ("mac" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = NewDevice,
    responses((status = 200, body = DeviceView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn replace(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, address)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(form): Sent<NewDevice>,
) -> Result<Response, ApiError> {
    stays_in(&store, &form.store)?;
    let (seen, address) = (seen(&headers)?, mac(&address)?);
    let work =
        move || api.administration.identities.change_device((&store, address), seen.as_ref(), |_| form.into(), &by);
    let row = blocking(work).await?;
    Ok((etag(&row), Json(DeviceView::from(row))).into_response())
}

/// Changes some of a device. With If-Match only where it is still as it was read.
#[utoipa::path(patch, path = "/api/v1/devices/{store}/{mac}", operation_id = "change_device",
    params(("store" = String, Path), ("mac" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    request_body = DevicePatch,
    responses((status = 200, body = DeviceView), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 412, body = ApiError), (status = 401, body = ApiError),
        (status = 403, body = ApiError)))]
pub(crate) async fn change(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, address)): Path<(String, String)>,
    headers: HeaderMap,
    Sent(patch): Sent<DevicePatch>,
) -> Result<Response, ApiError> {
    let (seen, address) = (seen(&headers)?, mac(&address)?);
    let work =
        move || api.administration.identities.change_device((&store, address), seen.as_ref(), |row| patch.on(row), &by);
    let row = blocking(work).await?;
    Ok((etag(&row), Json(DeviceView::from(row))).into_response())
}

/// Removes a device that the active policy does not name.
#[utoipa::path(delete, path = "/api/v1/devices/{store}/{mac}", operation_id = "remove_device",
    params(("store" = String, Path), ("mac" = String, Path), ("If-Match" = Option<String>, Header, description = "The ETag that was read")),
    responses((status = 204), (status = 404, body = ApiError), (status = 409, body = ApiError),
        (status = 412, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn remove(
    State(api): State<Api>,
    May { signed: Signed { author: by, .. }, .. }: May<Change>,
    Path((store, address)): Path<(String, String)>,
    headers: HeaderMap,
) -> Result<StatusCode, ApiError> {
    let seen = seen(&headers)?;
    let record = RecordName::Device { store, mac: mac(&address)? };
    blocking(move || api.administration.identities.remove(record, seen.as_ref(), &by)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Keeps devices out for a reason, or lets them in again; all or none. What an engineer barred is an engineer's to
/// let in.
#[utoipa::path(put, path = "/api/v1/devices/bar", operation_id = "bar_devices", request_body = BarForm,
    responses((status = 200, body = Acted), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn bar(
    State(api): State<Api>,
    May { signed, .. }: May<Bar>,
    Sent(form): Sent<BarForm>,
) -> Result<Json<Acted>, ApiError> {
    if form.reason.as_ref().is_some_and(|reason| reason.trim().is_empty() || reason.len() > 1_024) {
        return Err(ApiError::bad("Say why, in at most 1024 bytes: whoever looks for the device next must know."));
    }
    let macs = macs(&form.macs)?;
    api.quota.take(&signed, macs.len())?;
    let by = (signed.author.clone(), signed.role());
    let work = move || api.administration.identities.bar(&macs, form.reason.as_deref(), (&by.0, by.1));
    let devices = blocking(work).await?;
    Ok(Json(Acted { devices: devices.len() }))
}

/// Puts several devices into groups, takes them out of groups, or removes them; all or none.
#[utoipa::path(post, path = "/api/v1/devices/act", operation_id = "act_on_devices", request_body = DeviceAct,
    responses((status = 200, body = Acted), (status = 400, body = ApiError), (status = 404, body = ApiError),
        (status = 409, body = ApiError), (status = 401, body = ApiError), (status = 403, body = ApiError)))]
pub(crate) async fn act(
    State(api): State<Api>,
    May { signed, .. }: May<Change>,
    Sent(act): Sent<DeviceAct>,
) -> Result<Json<Acted>, ApiError> {
    if act.remove != (act.into.is_empty() && act.out_of.is_empty()) {
        return Err(ApiError::bad("Say `into` or `out_of` with groups, or `remove` alone."));
    }
    if act.into.iter().any(|group| group.trim().is_empty() || group.len() > 253) {
        return Err(ApiError::bad("A group has a name of 1 to 253 bytes."));
    }
    let macs = macs(&act.macs)?;
    api.quota.take(&signed, macs.len())?;
    let by = signed.author;
    let devices = blocking(move || match act.remove {
        true => api.administration.identities.remove_devices(&macs, &by),
        false => api.administration.identities.regroup(&macs, (&act.into, &act.out_of), &by).map(|rows| rows.len()),
    });
    Ok(Json(Acted { devices: devices.await? }))
}
