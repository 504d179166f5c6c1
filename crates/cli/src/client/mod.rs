//! The client commands: each asks a service and prints what it says.

mod activation;
pub(crate) mod audit;
pub(crate) mod buffer;
pub(crate) mod config;
pub(crate) mod draft;
pub(crate) mod events;
pub(crate) mod frames;
pub(crate) mod gateways;
pub(crate) mod link;
pub(crate) mod loop_check;
pub(crate) mod messages;
pub(crate) mod models;
pub(crate) mod offers;
pub(crate) mod outages;
pub(crate) mod people;
pub(crate) mod points;
mod problems;
pub(crate) mod revisions;
pub(crate) mod sign_in;
pub(crate) mod status;
pub(crate) mod tap;
mod text_file;
pub(crate) mod trial;
pub(crate) mod watch;
pub(crate) mod write;

use crate::exit::{ExitReason, failed};
use crate::options::Target;
use anyhow::Context;
use eventsource_stream::Eventsource;
use futures_util::{Stream, StreamExt};
use reqwest::{Method, Response, StatusCode};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::path::PathBuf;

/// A service and the right to ask it.
pub(crate) struct Client {
    http: reqwest::Client,
    url: String,
    token: String,
}

/// What a sign-in leaves behind.
#[derive(Debug, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Remembered {
    pub(crate) url: String,
    pub(crate) token: String,
    /// The certificate that is trusted, when the service has a self-made one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) ca: Option<PathBuf>,
}

/// Where it is kept: `$XDG_CONFIG_HOME/interlex/sign-in.toml`, else below `~/.config`.
pub(crate) fn remembered_path() -> anyhow::Result<PathBuf> {
    let configured = std::env::var_os("XDG_CONFIG_HOME").filter(|path| !path.is_empty()).map(PathBuf::from);
    let home = || std::env::var_os("HOME").map(|home| PathBuf::from(home).join(".config"));
    let directory = configured.or_else(home).context("neither XDG_CONFIG_HOME nor HOME is set")?;
    Ok(directory.join("interlex").join("sign-in.toml"))
}

impl Client {
    /// The service that flags, environment or the last sign-in name.
    pub(crate) fn new(target: &Target) -> anyhow::Result<Self> {
        let remembered = match std::fs::read_to_string(remembered_path()?) {
            Ok(text) => Some(toml::from_str::<Remembered>(&text).context("reading the last sign-in; sign in again")?),
            Err(_) => None,
        };
        let url = target.url.clone().or_else(|| remembered.as_ref().map(|known| known.url.clone()));
        // A token is for the service that made it, and is sent to no other.
        let known = remembered.filter(|known| Some(&known.url) == url.as_ref());
        let ca = known.as_ref().and_then(|known| known.ca.clone());
        let token = target.token.clone().or(known.map(|known| known.token));
        match (url, token) {
            (Some(url), Some(token)) => {
                let url = url.trim_end_matches('/').to_owned();
                Ok(Self { http: http(ca.as_deref())?, url, token })
            }
            _ => Err(failed(ExitReason::NotAllowed, "not signed in; run: interlex sign-in URL")),
        }
    }

    pub(crate) async fn get(&self, path: &str, query: &[(&str, &str)]) -> anyhow::Result<Value> {
        Ok(self.send(Method::GET, path, query, None).await?.json().await?)
    }

    pub(crate) async fn post(&self, path: &str, body: &Value) -> anyhow::Result<Value> {
        Ok(self.send(Method::POST, path, &[], Some(body)).await?.json().await?)
    }

    pub(crate) async fn put(&self, path: &str, body: &Value) -> anyhow::Result<Value> {
        Ok(self.send(Method::PUT, path, &[], Some(body)).await?.json().await?)
    }

    /// The bytes of a file.
    pub(crate) async fn file(&self, path: &str) -> anyhow::Result<Vec<u8>> {
        Ok(self.send(Method::GET, path, &[], None).await?.bytes().await?.to_vec())
    }

    /// The lines of an answer that comes piece by piece, each a JSON object.
    pub(crate) async fn lines(
        &self,
        path: &str,
        body: &Value,
    ) -> anyhow::Result<impl Stream<Item = anyhow::Result<Value>>> {
        let response = self.send(Method::POST, path, &[], Some(body)).await?;
        let pieces = response.bytes_stream().map(|piece| piece.map_err(std::io::Error::other));
        let lines = tokio_util::codec::FramedRead::new(
            tokio_util::io::StreamReader::new(pieces),
            tokio_util::codec::LinesCodec::new(),
        );
        Ok(lines.map(|line| Ok(serde_json::from_str(&line?)?)))
    }

    /// A call whose answer has nothing in it.
    pub(crate) async fn do_it(&self, method: Method, path: &str, body: Option<&Value>) -> anyhow::Result<()> {
        self.send(method, path, &[], body).await.map(|_| ())
    }

    /// The gateway that is meant: the one that is named, or the only one there is.
    pub(crate) async fn gateway(&self, named: Option<&str>) -> anyhow::Result<String> {
        if let Some(name) = named {
            return Ok(name.to_owned());
        }
        let gateways = self.get("/api/v1/gateways", &[]).await?;
        match gateways.as_array().map(Vec::as_slice).unwrap_or_default() {
            [only] => Ok(text(only, "name").to_owned()),
            [] => Err(failed(ExitReason::Failure, "there is no gateway; add one: interlex gateways add NAME")),
            several => {
                let names: Vec<_> = several.iter().map(|gateway| text(gateway, "name")).collect();
                Err(failed(ExitReason::Failure, format!("name a gateway: --gateway {}", names.join(" or "))))
            }
        }
    }

    /// The events of a stream: name and data.
    pub(crate) async fn events(
        &self,
        path: &str,
        query: &[(&str, &str)],
    ) -> anyhow::Result<impl Stream<Item = anyhow::Result<(String, Value)>>> {
        let response = self.send(Method::GET, path, query, None).await?;
        Ok(response.bytes_stream().eventsource().map(|event| {
            let event = event.map_err(|error| failed(ExitReason::Unreachable, format!("the stream ended: {error}")))?;
            let data = serde_json::from_str(&event.data).unwrap_or(Value::String(event.data));
            Ok((event.event, data))
        }))
    }

    async fn send(
        &self,
        method: Method,
        path: &str,
        query: &[(&str, &str)],
        body: Option<&Value>,
    ) -> anyhow::Result<Response> {
        let mut url =
            reqwest::Url::parse(&format!("{}{path}", self.url)).with_context(|| format!("{:?} is no URL", self.url))?;
        if !query.is_empty() {
            url.query_pairs_mut().extend_pairs(query);
        }
        let mut request = self.http.request(method, url).bearer_auth(&self.token);
        if let Some(body) = body {
            request = request.json(body);
        }
        checked(request.send().await, &self.url).await
    }
}

/// A part of a path, with everything that a URL has another use for written otherwise.
pub(crate) fn part(text: &str) -> String {
    let plain = |byte: u8| byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_' | b'.' | b'~');
    text.bytes().map(|byte| if plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") }).collect()
}

/// A client that also trusts a certificate of the service's own.
pub(crate) fn http(ca: Option<&std::path::Path>) -> anyhow::Result<reqwest::Client> {
    let mut builder = reqwest::Client::builder();
    if let Some(path) = ca {
        let pem = std::fs::read(path).with_context(|| format!("reading {}", path.display()))?;
        let certificates = reqwest::Certificate::from_pem_bundle(&pem);
        let certificates = certificates.with_context(|| format!("{} holds no certificate", path.display()))?;
        builder = builder.tls_certs_merge(certificates);
    }
    Ok(builder.build()?)
}

/// Turns failures into errors that know their exit code.
pub(crate) async fn checked(sent: reqwest::Result<Response>, url: &str) -> anyhow::Result<Response> {
    let unreachable = |error: reqwest::Error| {
        // The outer errors only repeat that the request failed; the innermost says why.
        let causes = std::iter::successors(std::error::Error::source(&error), |cause| cause.source());
        let cause = causes.last().map(|cause| format!(": {cause}")).unwrap_or_default();
        failed(ExitReason::Unreachable, format!("{url} does not answer{cause}"))
    };
    let response = sent.map_err(unreachable)?;
    let status = response.status();
    if status.is_success() {
        return Ok(response);
    }
    let problem: Value = response.json().await.unwrap_or_default();
    let detail = problem.get("detail").and_then(Value::as_str).unwrap_or("no reason given").to_owned();
    let mistakes = problem.get("problems").and_then(|list| serde_json::from_value(list.clone()).ok());
    let mistakes: Vec<interlex_core::description::Problem> = mistakes.unwrap_or_default();
    let reason = match status {
        StatusCode::UNAUTHORIZED | StatusCode::FORBIDDEN => ExitReason::NotAllowed,
        // A value that is refused is no mistake of a description.
        StatusCode::UNPROCESSABLE_ENTITY if !mistakes.is_empty() => ExitReason::Mistakes,
        StatusCode::CONFLICT => ExitReason::Conflict,
        _ => ExitReason::Failure,
    };
    let lines: String = mistakes.iter().map(|problem| format!("\n  {problem}")).collect();
    let frames: String =
        list(&problem, "frames").iter().map(|frame| format!("\n  {}", frames::plain_line(frame))).collect();
    Err(failed(reason, format!("{detail}{lines}{frames}")))
}

/// So many of a list as are wanted, however many come at a time: `more` says what comes behind the last one.
pub(crate) async fn paged(
    client: &Client,
    path: &str,
    wanted: &[(&'static str, Option<String>)],
    limit: usize,
    more: impl Fn(&Value) -> Vec<(&'static str, String)>,
) -> anyhow::Result<Vec<Value>> {
    /// As many as the service gives at once.
    const PAGE: usize = 1000;
    let mut all: Vec<Value> = Vec::new();
    while all.len() < limit {
        let mut query: Vec<_> = wanted.iter().filter_map(|(key, value)| Some((*key, value.clone()?))).collect();
        query.push(("limit", (limit - all.len()).min(PAGE).to_string()));
        query.extend(all.last().into_iter().flat_map(&more));
        let query: Vec<_> = query.iter().map(|(key, value)| (*key, value.as_str())).collect();
        let page = client.get(path, &query).await?;
        let page = page.as_array().cloned().unwrap_or_default();
        if page.is_empty() {
            break;
        }
        all.extend(page);
    }
    Ok(all)
}

/// The beginning of the last span before a moment, as a query takes it.
pub(crate) fn before(now: i64, span: Option<interlex_core::description::Span>) -> Option<String> {
    let millis = i64::try_from(std::time::Duration::from(span?).as_millis()).unwrap_or(i64::MAX);
    Some(now.saturating_sub(millis).to_string())
}

/// A field of a JSON object as text; empty when it is not there.
pub(crate) fn text<'a>(object: &'a Value, key: &str) -> &'a str {
    object.get(key).and_then(Value::as_str).unwrap_or_default()
}

/// The names of a list in a JSON object, in words.
pub(crate) fn names(object: &Value, key: &str) -> String {
    list(object, key).iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", ")
}

/// A field of a JSON object as a whole number; 0 when it is not there.
pub(crate) fn whole(object: &Value, key: &str) -> i64 {
    object.get(key).and_then(Value::as_i64).unwrap_or_default()
}

/// A field of a JSON object as a list; empty when it is not there.
pub(crate) fn list<'a>(object: &'a Value, key: &str) -> &'a [Value] {
    object.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default()
}
