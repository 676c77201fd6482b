use std::env;
use std::fs;
use std::io::BufReader;
use std::path::PathBuf;

use serde::Serialize;
use serde_json::Value;
use ureq::Agent;
use ureq::http::{Response, StatusCode};
use ureq::unversioned::resolver::DefaultResolver;
use ureq::unversioned::transport::{Connector, TcpConnector};

use crate::args;
use crate::failure::Failure;
use crate::records::all;
use crate::service_tls::{Doubted, ServiceTls};

/// A client of the service's API.
pub(crate) struct Client {
    agent: Agent,
    tls: ServiceTls,
    base: String,
    token: Option<String>,
}

/// A call that the service refused: the status and its JSON body.
pub(crate) struct Refused {
    pub(crate) status: StatusCode,
    pub(crate) body: Value,
}

/// What somebody saw before they change it.
pub(crate) enum Seen {
    /// There was none.
    Nothing,
    /// It had this ETag.
    As(String),
}

impl Seen {
    /// Its ETag, where there was one.
    pub(crate) fn etag(&self) -> Option<&str> {
        match self {
            Self::Nothing => None,
            Self::As(etag) => Some(etag),
        }
    }
}

impl From<Refused> for Failure {
    fn from(refused: Refused) -> Self {
        let hint = match refused.status {
            StatusCode::UNAUTHORIZED => " Run `regnant sign-in`, or set REGNANT_TOKEN or REGNANT_TOKEN_FILE.",
            _ => "",
        };
        match refused.body.get("error").and_then(Value::as_str) {
            Some(error) => Self::new(format!("{error}{hint}")),
            None => Self::new(format!("the service answered {}{hint}", refused.status)),
        }
    }
}

impl Client {
    /// A client with the token of the environment or of a file.
    pub(crate) fn new(args: &args::Api) -> Result<Self, Failure> {
        Ok(Self { token: Some(token(args)?), ..Self::anonymous(args)? })
    }

    /// A client that is not signed in.
    pub(crate) fn anonymous(args: &args::Api) -> Result<Self, Failure> {
        let config = Agent::config_builder().http_status_as_error(false).build();
        let tls = ServiceTls::new(args)?;
        let connector = TcpConnector::default().chain(tls.clone());
        let agent = Agent::with_parts(config, connector, DefaultResolver::default());
        Ok(Self { agent, tls, base: args.api.trim_end_matches('/').to_owned(), token: None })
    }

    /// A client with this token.
    pub(crate) fn with_token(args: &args::Api, token: String) -> Result<Self, Failure> {
        Ok(Self { token: Some(token), ..Self::anonymous(args)? })
    }

    /// Whether the service proves who it is; where it does not, what it presented.
    pub(crate) fn proves_itself(&self) -> Result<Result<(), Doubted>, Failure> {
        match (self.agent.get(format!("{}/api/v1/health", self.base)).call(), self.tls.doubted()) {
            (Err(_), Some(presented)) => Ok(Err(presented)),
            (sent, _) => self.reached(sent).map(|_| Ok(())),
        }
    }

    /// Why a service that did not prove itself is not spoken to.
    pub(crate) fn doubts(&self, presented: &Doubted) -> Failure {
        Failure::new(self.tls.remedy(&self.base, presented))
    }

    /// Reads an address of the API.
    pub(crate) fn get(&self, path: &str, query: &[(&str, &str)]) -> Result<Value, Failure> {
        let request = self.agent.get(format!("{}/api/v1/{path}", self.base)).query_pairs(query.iter().copied());
        let sent = self.authorize(request).call();
        Ok(read(self.reached(sent)?)?)
    }

    /// Reads an address of the API at which there may be nothing.
    pub(crate) fn get_if_there(&self, path: &str) -> Result<Option<Value>, Failure> {
        let request = self.agent.get(format!("{}/api/v1/{path}", self.base));
        match read(self.reached(self.authorize(request).call())?) {
            Err(refused) if refused.status == StatusCode::NOT_FOUND => Ok(None),
            answer => Ok(Some(answer?)),
        }
    }

    /// What there is at an address of the API, for a change that is to find it so.
    pub(crate) fn seen(&self, path: &str) -> Result<Seen, Failure> {
        let answer = self.reached(self.authorize(self.agent.get(format!("{}/api/v1/{path}", self.base))).call())?;
        let etag = answer.headers().get("etag").and_then(|value| value.to_str().ok()).map(str::to_owned);
        match (answer.status(), etag) {
            (StatusCode::NOT_FOUND, _) => Ok(Seen::Nothing),
            (_, Some(etag)) => Ok(Seen::As(etag)),
            _ => Ok(read(answer).map(|_| Seen::Nothing)?),
        }
    }

    /// The same of one of a list whose records tell their ETags.
    pub(crate) fn seen_in(&self, list: &str, name: &str) -> Result<Seen, Failure> {
        let records = all(self, list, &[])?;
        let known = records.iter().find(|one| one["name"].as_str().is_some_and(|one| one.eq_ignore_ascii_case(name)));
        let etag = known.and_then(|one| one["etag"].as_str());
        Ok(etag.map_or(Seen::Nothing, |etag| Seen::As(etag.to_owned())))
    }

    /// Sends JSON to an address of the API, where what it takes the place of is still as it was seen.
    pub(crate) fn post_over(
        &self,
        path: &str,
        body: &impl Serialize,
        seen: &Seen,
    ) -> Result<Result<Value, Refused>, Failure> {
        let request = self.authorize(self.agent.post(format!("{}/api/v1/{path}", self.base)));
        let request = match seen {
            Seen::Nothing => request.header("if-none-match", "*"),
            Seen::As(etag) => request.header("if-match", etag),
        };
        Ok(read(self.reached(request.send_json(body))?))
    }

    /// Puts something at an address of the API, where it is still as it was seen.
    pub(crate) fn put_seen(
        &self,
        path: &str,
        body: &impl Serialize,
        seen: Option<&str>,
    ) -> Result<Result<Value, Refused>, Failure> {
        let request = self.authorize(self.agent.put(format!("{}/api/v1/{path}", self.base)));
        let request = seen.iter().fold(request, |request, seen| request.header("if-match", *seen));
        Ok(read(self.reached(request.send_json(body))?))
    }

    /// Reads a file from an address of the API.
    pub(crate) fn get_text(&self, path: &str, query: &[(&str, &str)]) -> Result<String, Failure> {
        let request = self.agent.get(format!("{}/api/v1/{path}", self.base)).query_pairs(query.iter().copied());
        let mut answer = self.reached(self.authorize(request).call())?;
        match answer.status().is_success() {
            true => answer.body_mut().read_to_string().map_err(|error| Failure::new(error.to_string())),
            false => Err(read(answer).err().map_or_else(|| Failure::new("no file"), Failure::from)),
        }
    }

    /// Sends JSON to an address of the API, where what was seen is still so.
    pub(crate) fn post_seen(
        &self,
        path: &str,
        body: &impl Serialize,
        seen: Option<u64>,
    ) -> Result<Result<Value, Refused>, Failure> {
        let request = self.authorize(self.agent.post(format!("{}/api/v1/{path}", self.base)));
        let request = seen.iter().fold(request, |request, seen| request.header("if-match", format!("\"{seen}\"")));
        Ok(read(self.reached(request.send_json(body))?))
    }

    /// Sends JSON to an address of the API.
    pub(crate) fn post(&self, path: &str, body: &impl Serialize) -> Result<Result<Value, Refused>, Failure> {
        let request = self.agent.post(format!("{}/api/v1/{path}", self.base));
        let sent = self.authorize(request).send_json(body);
        Ok(read(self.reached(sent)?))
    }

    /// Sends a body as it is read to an address of the API.
    pub(crate) fn stream(
        &self,
        path: &str,
        query: &[(&str, String)],
        kind: &str,
        mut body: impl std::io::Read,
    ) -> Result<Result<Value, Refused>, Failure> {
        let pairs = query.iter().map(|(name, value)| (*name, value.as_str()));
        let request = self.agent.post(format!("{}/api/v1/{path}", self.base)).query_pairs(pairs);
        let request = self.authorize(request).header("content-type", kind);
        Ok(read(self.reached(request.send(ureq::SendBody::from_reader(&mut body)))?))
    }

    /// Asks for a file, which is read as it comes.
    pub(crate) fn download(
        &self,
        path: &str,
        body: &serde_json::Value,
    ) -> Result<Result<impl std::io::Read + use<>, Refused>, Failure> {
        let request = self.agent.post(format!("{}/api/v1/{path}", self.base));
        let answer = self.reached(self.authorize(request).send_json(body))?;
        match answer.status().is_success() {
            true => Ok(Ok(answer.into_body().into_reader())),
            false => match read(answer) {
                Err(refused) => Ok(Err(refused)),
                Ok(_) => Err(Failure::new("no file")),
            },
        }
    }

    /// Changes what is at an address of the API.
    pub(crate) fn patch(&self, path: &str, body: &impl Serialize) -> Result<Result<Value, Refused>, Failure> {
        let request = self.agent.patch(format!("{}/api/v1/{path}", self.base));
        let sent = self.authorize(request).send_json(body);
        Ok(read(self.reached(sent)?))
    }

    /// Puts something at an address of the API.
    pub(crate) fn put(&self, path: &str, body: &impl Serialize) -> Result<Result<Value, Refused>, Failure> {
        let request = self.agent.put(format!("{}/api/v1/{path}", self.base));
        let sent = self.authorize(request).send_json(body);
        Ok(read(self.reached(sent)?))
    }

    /// Removes what is at an address of the API.
    pub(crate) fn delete(&self, path: &str) -> Result<Result<Value, Refused>, Failure> {
        self.delete_seen(path, None)
    }

    /// The same, of what is still as it was read.
    pub(crate) fn delete_seen(&self, path: &str, seen: Option<&str>) -> Result<Result<Value, Refused>, Failure> {
        let request = self.authorize(self.agent.delete(format!("{}/api/v1/{path}", self.base)));
        let request = seen.iter().fold(request, |request, seen| request.header("if-match", *seen));
        Ok(read(self.reached(request.call())?))
    }

    /// Signs in and makes a token; none where the code of a second factor is wanted too.
    pub(crate) fn sign_in(&self, name: &str, password: &str, code: Option<&str>) -> Result<Option<String>, Failure> {
        let form = serde_json::json!({ "name": name, "password": password, "code": code });
        let request = self.agent.post(format!("{}/api/v1/sign-in/token", self.base));
        match read(self.reached(request.send_json(form))?) {
            Ok(body) => {
                let token = body.get("token").and_then(Value::as_str);
                token.map(|token| Some(token.to_owned())).ok_or_else(|| Failure::new("the service gave no token"))
            }
            Err(refused) if code.is_none() && refused.body["needs_code"] == true => Ok(None),
            Err(refused) => Err(refused.into()),
        }
    }

    /// The journal's live events that a filter lets through.
    pub(crate) fn live(&self, query: &[(&str, &str)]) -> Result<BufReader<impl std::io::Read + use<>>, Failure> {
        let request = self.agent.get(format!("{}/api/v1/journal/live", self.base)).query_pairs(query.iter().copied());
        let answer = self.reached(self.authorize(request).call())?;
        match answer.status().is_success() {
            true => Ok(BufReader::new(answer.into_body().into_reader())),
            false => Err(read(answer).err().map_or_else(|| Failure::new("no live events"), Failure::from)),
        }
    }

    fn authorize<B>(&self, request: ureq::RequestBuilder<B>) -> ureq::RequestBuilder<B> {
        match &self.token {
            Some(token) => request.header("authorization", format!("Bearer {token}")),
            None => request,
        }
    }

    fn reached(&self, sent: Result<Response<ureq::Body>, ureq::Error>) -> Result<Response<ureq::Body>, Failure> {
        sent.map_err(|error| match self.tls.doubted() {
            Some(presented) => self.doubts(&presented),
            None => Failure::new(format!(
                "the service at {} cannot be reached: {error}; is it running, and is --api right?",
                self.base
            )),
        })
    }
}

fn read(mut answer: Response<ureq::Body>) -> Result<Value, Refused> {
    let body = answer.body_mut().read_json().unwrap_or(Value::Null);
    match answer.status() {
        status if status.is_success() => Ok(body),
        status => Err(Refused { status, body }),
    }
}

fn token(args: &args::Api) -> Result<String, Failure> {
    if let Ok(token) = env::var("REGNANT_TOKEN") {
        return Ok(token);
    }
    let path = token_path(args)?;
    let text = fs::read_to_string(&path).map_err(|error| {
        Failure::new(format!(
            "the token file {} cannot be read: {error}; run `regnant sign-in`, or set REGNANT_TOKEN_FILE",
            path.display()
        ))
    })?;
    Ok(text.trim().to_owned())
}

/// Where the token is kept.
pub(crate) fn token_path(args: &args::Api) -> Result<PathBuf, Failure> {
    let config = || env::var_os("XDG_CONFIG_HOME").map(PathBuf::from);
    let home = || env::var_os("HOME").map(|home| PathBuf::from(home).join(".config"));
    args.token_file
        .clone()
        .or_else(|| Some(config().or_else(home)?.join("regnant/token")))
        .ok_or_else(|| Failure::usage("there is no home directory for the token; give --token-file"))
}
