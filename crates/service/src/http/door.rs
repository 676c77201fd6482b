//! What every request meets before its handler: which name it calls us by, where it
//! comes from, and how much of a body it may send.

use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use axum::body::{Body, HttpBody, to_bytes};
use axum::extract::{FromRequestParts, Request, State};
use axum::http::{HeaderMap, HeaderValue, Method, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use regnant_base::Place;

use crate::http::Api;
use crate::http::attempts::Trier;
use crate::http::callers::{BROWSER_COOKIE, Change, Permission, Signed, cookie, cookie_name};
use crate::http::connections::Peer;
use crate::http::error::ApiError;

/// What is larger is refused before it is read: of policies and files, and of all else.
const MOST_BODY: usize = 20 << 20;
const ORDINARY: usize = 1 << 20;
/// Where policies and files go.
const FILES: [&str; 6] = [
    "/api/v1/policy/",
    "/api/v1/inventory",
    "/api/v1/certificates",
    "/api/v1/trusts",
    "/api/v1/dictionaries",
    "/api/v1/dialects",
];
/// All bodies that are held at a time have so many pieces together; of these each who signed in has a share.
const PIECES: usize = 4_096;
const PIECE: usize = 16 << 10;
/// What anybody may send before they signed in.
const MOST_BEFORE_SIGN_IN: usize = 4 << 10;
/// How long a body may take.
const BODY: Duration = Duration::from_secs(20);
/// What is open to everybody that has a body.
const OPEN: [&str; 3] = ["/api/v1/sign-in", "/api/v1/sign-in/token", "/api/v1/welcome"];

/// What is open to whoever signed in, of bodies that are read as they come.
const STREAMED: &str = "/api/v1/import/";

/// Which names and proxies are ours.
#[derive(Debug, Default)]
pub(crate) struct Front {
    /// Names by which people call the console, beside addresses and `localhost`.
    pub(crate) hosts: Vec<String>,
    /// Proxies whose word on who asked is believed.
    pub(crate) proxies: Vec<IpAddr>,
    /// Whether nobody else is heard, for only they speak TLS.
    pub(crate) only_proxies: bool,
    /// Whether others than this machine speak plain HTTP to us, which somebody accepted.
    pub(crate) in_plain_text: bool,
}

/// An address as proxies write it: bare, in brackets, with a port.
fn address(entry: &str) -> Option<IpAddr> {
    let bare = || entry.strip_prefix('[')?.strip_suffix(']')?.parse().ok();
    let with_port = || entry.parse::<SocketAddr>().ok().map(|address| address.ip());
    entry.parse().ok().or_else(with_port).or_else(bare).map(|address: IpAddr| address.to_canonical())
}

/// Where a request comes from, and the name it asked for.
#[derive(Clone, Debug)]
pub(crate) struct Origin {
    pub(crate) source: IpAddr,
    pub(crate) host: String,
    /// Whether it came over TLS, to us or to a proxy.
    pub(crate) secure: bool,
    /// What the browser is known by, where somebody signed in with it before.
    pub(crate) browser: Option<String>,
}

impl Origin {
    /// Somebody who tries to sign in under a name from here.
    pub(crate) fn trier<'t>(&'t self, name: &'t str) -> Trier<'t> {
        Trier { name, source: self.source, browser: self.browser.as_deref() }
    }
}

impl Front {
    fn origin(&self, peer: Peer, headers: &HeaderMap) -> Result<Origin, ApiError> {
        let no_host = || ApiError::bad("The request names no host.");
        let text = |name: &str| headers.get(name).and_then(|value| value.to_str().ok());
        let browser = |secure| cookie(headers, &cookie_name(BROWSER_COOKIE, secure)).map(str::to_owned);
        if !self.is_proxy(peer.address) {
            let host = text("host").ok_or_else(no_host)?.to_owned();
            return Ok(Origin { source: peer.address, host, secure: peer.tls, browser: browser(peer.tls) });
        }
        // The last entry is what our own proxy wrote; what stands before it anybody did. There may be several lines.
        let last = |name: &str| {
            let lines = headers.get_all(name).iter().filter_map(|value| value.to_str().ok());
            lines.flat_map(|line| line.split(',')).map(str::trim).next_back()
        };
        let secure = last("x-forwarded-proto") == Some("https");
        Ok(Origin {
            source: self.asked_from(peer.address, headers)?,
            host: last("x-forwarded-host").or_else(|| text("host")).ok_or_else(no_host)?.to_owned(),
            secure,
            browser: browser(secure),
        })
    }

    /// Where a request comes from that a proxy passed on: from the right, past the proxies that are ours, the first
    /// address that is another's. What cannot be read is refused: the proxy's own would stand for everybody.
    fn asked_from(&self, proxy: IpAddr, headers: &HeaderMap) -> Result<IpAddr, ApiError> {
        let unread = || {
            ApiError::bad(format!(
                "The proxy {proxy} does not say in X-Forwarded-For, as an address, from where this request comes."
            ))
        };
        let mut entries = Vec::new();
        for line in headers.get_all("x-forwarded-for") {
            entries.extend(line.to_str().map_err(|_| unread())?.split(',').map(str::trim));
        }
        for entry in entries.into_iter().rev() {
            let address = address(entry).ok_or_else(unread)?;
            if !self.is_proxy(address) {
                return Ok(address);
            }
        }
        Err(unread())
    }

    fn is_proxy(&self, address: IpAddr) -> bool {
        self.proxies.contains(&address)
    }

    /// Whether whoever connects from there is heard at all.
    fn hears(&self, peer: IpAddr) -> bool {
        !self.only_proxies || self.is_proxy(peer) || peer.is_loopback()
    }

    /// A page of somebody else may point a name of its own at our address. Addresses
    /// cannot be pointed elsewhere.
    fn is_ours(&self, host: &str) -> bool {
        let bare = match host.strip_prefix('[') {
            Some(rest) => rest.split(']').next().unwrap_or_default(),
            None => host.rsplit_once(':').map_or(host, |(name, _)| name),
        };
        bare.parse::<IpAddr>().is_ok()
            || bare.eq_ignore_ascii_case("localhost")
            || self.hosts.iter().any(|known| known.eq_ignore_ascii_case(bare))
    }
}

pub(crate) async fn admit(State(api): State<Api>, request: Request, next: Next) -> Response {
    let of_api = request.uri().path().starts_with("/api/");
    let mut response = match enter(&api, request).await {
        // A large body has its place until it is dealt with.
        Ok((request, _place)) => next.run(request).await,
        Err(error) => error.into_response(),
    };
    if of_api {
        response.headers_mut().insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    response
}

async fn enter(api: &Api, request: Request) -> Result<(Request, Option<Place>), ApiError> {
    let (mut parts, body) = request.into_parts();
    let here = Peer { address: [127, 0, 0, 1].into(), tls: false };
    let peer = parts.extensions.get().copied().unwrap_or(here);
    if !api.front.hears(peer.address) {
        return Err(ApiError::forbidden(
            "Only the proxies that the configuration names are heard here, for they speak TLS.".to_owned(),
        ));
    }
    let origin = api.front.origin(peer, &parts.headers)?;
    if !api.front.is_ours(&origin.host) {
        return Err(ApiError::forbidden(format!(
            "Nobody here is called `{}`: add the name to `hosts` under [api] in the configuration.",
            regnant_base::printable(&origin.host)
        )));
    }
    parts.extensions.insert(origin);
    if matches!(parts.method, Method::GET | Method::HEAD) || !parts.uri.path().starts_with("/api/") {
        return Ok((Request::from_parts(parts, Body::empty()), None));
    }
    // Whoever has not signed in cannot make us hold what they send.
    let (most, sender) = match OPEN.contains(&parts.uri.path()) {
        true => (MOST_BEFORE_SIGN_IN, None),
        false => {
            let signed = Signed::from_request_parts(&mut parts, api).await?;
            let sender = signed.bearer.administrator.clone();
            // Whoever changes nothing has policies to send at most.
            let places = if signed.may(Change::ROLES) { &FILES[..] } else { &FILES[..1] };
            let of_files = places.iter().any(|place| parts.uri.path().starts_with(place));
            parts.extensions.insert(signed);
            (if of_files { MOST_BODY } else { ORDINARY }, Some(sender))
        }
    };
    // What is read as it comes bounds itself.
    if parts.uri.path().starts_with(STREAMED) {
        return Ok((Request::from_parts(parts, body), None));
    }
    let too_large = || ApiError::too_large(format!("The body of this request may have {most} bytes at most."));
    // One that does not say how long it is may be as long as any.
    let announced = body.size_hint().upper().map_or(most, |bytes| usize::try_from(bytes).unwrap_or(usize::MAX));
    if announced > most {
        return Err(too_large());
    }
    let place = match sender {
        None => None,
        Some(sender) => Some(api.bodies.take_many(&sender, PIECES, 1, announced.div_ceil(PIECE)).ok_or_else(|| {
            ApiError::too_many("Too much is sent at once; wait until the other calls are answered, then try again.")
        })?),
    };
    let bytes = tokio::time::timeout(BODY, to_bytes(body, most))
        .await
        .map_err(|_| ApiError::timeout("The body of the request did not come in time."))?
        .map_err(|_| too_large())?;
    Ok((Request::from_parts(parts, Body::from(bytes)), place))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(list: &[(&'static str, &str)]) -> HeaderMap {
        list.iter().map(|(name, value)| (name.parse().unwrap(), HeaderValue::from_str(value).unwrap())).collect()
    }

    #[test]
    fn only_a_proxy_that_is_named_says_who_asked() {
        let proxy: IpAddr = "10.44.0.9".parse().unwrap();
        let front = Front { hosts: vec!["regnant.tarnmouth.example".into()], proxies: vec![proxy], ..Front::default() };
        let peer = |address: &str| Peer { address: address.parse().unwrap(), tls: false };
        let told = headers(&[
            ("host", "127.0.0.1:8480"),
            ("x-forwarded-for", "1.2.3.4, 10.44.7.7"),
            ("x-forwarded-host", "regnant.tarnmouth.example"),
            ("x-forwarded-proto", "https"),
        ]);
        let through = front.origin(peer("10.44.0.9"), &told).unwrap();
        assert_eq!((through.source.to_string().as_str(), through.secure), ("10.44.7.7", true));
        assert_eq!(through.host, "regnant.tarnmouth.example");
        let direct = front.origin(peer("10.44.0.8"), &told).unwrap();
        assert_eq!((direct.source.to_string().as_str(), direct.secure), ("10.44.0.8", false));
        assert_eq!(direct.host, "127.0.0.1:8480");
    }

    #[test]
    fn what_anybody_wrote_before_a_proxy_is_never_believed() {
        let [first, second]: [IpAddr; 2] = ["10.44.0.9", "10.44.0.10"].map(|address| address.parse().unwrap());
        let front = Front { proxies: vec![first, second], ..Front::default() };
        let asked = |lines: &[&str]| {
            let mut all = headers(&[("host", "127.0.0.1:8480")]);
            for line in lines {
                all.append("x-forwarded-for", HeaderValue::from_str(line).unwrap());
            }
            front.origin(Peer { address: first, tls: false }, &all).ok().map(|origin| origin.source.to_string())
        };
        for (lines, source) in [
            (&["1.2.3.4", "10.44.7.7"][..], Some("10.44.7.7")),
            (&["1.2.3.4, 10.44.7.7, 10.44.0.10"], Some("10.44.7.7")),
            (&["10.44.7.7", "10.44.0.10, 10.44.0.9"], Some("10.44.7.7")),
            (&["10.44.7.7:51000"], Some("10.44.7.7")),
            (&["[2001:db8::7]:51000"], Some("2001:db8::7")),
            (&["[2001:db8::7]"], Some("2001:db8::7")),
            (&["::ffff:10.44.7.7"], Some("10.44.7.7")),
            (&["10.44.7.7, unknown"], None),
            (&["10.44.7.7, "], None),
            (&["10.44.0.10"], None),
            (&[], None),
        ] {
            assert_eq!(asked(lines).as_deref(), source, "{lines:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn any_entry_is_an_address_or_none(entry: String) {
            address(&entry);
        }
    }

    #[test]
    fn where_a_proxy_speaks_tls_nobody_goes_around_it() {
        let [proxy, other, here]: [IpAddr; 3] =
            ["10.44.0.9", "10.44.0.8", "::1"].map(|address| address.parse().unwrap());
        let behind = Front { proxies: vec![proxy], only_proxies: true, ..Front::default() };
        assert!(behind.hears(proxy) && behind.hears(here) && !behind.hears(other));
        assert!(Front { only_proxies: false, ..behind }.hears(other));
    }

    #[test]
    fn a_name_that_somebody_points_at_us_is_not_ours() {
        let front = Front { hosts: vec!["regnant.tarnmouth.example".into()], ..Front::default() };
        for ours in [
            "127.0.0.1:8480",
            "[::1]:8480",
            "[fe80::1]",
            "10.44.0.2",
            "LOCALHOST:8480",
            "Regnant.Tarnmouth.example:443",
        ] {
            assert!(front.is_ours(ours), "{ours}");
        }
        for other in ["elsewhere.example", "elsewhere.example:8480", "", "127.0.0.1.elsewhere.example", "[x]"] {
            assert!(!front.is_ours(other), "{other}");
        }
    }
}
