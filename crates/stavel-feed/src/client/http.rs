//! Requests to a service: what goes out, what may come back, and what each failure means.

use std::io::Read;
use std::time::Duration;

use ureq::Agent;
use ureq::http::{HeaderMap, StatusCode};
use ureq::tls::{Certificate, RootCerts, TlsConfig, parse_pem};

use super::Feed;
use super::pace::Pace;
use super::token::{TokenHeader, token_of};
use stavel_core::{Error, Result};

/// What of a document that is not a history is read at most.
const DOCUMENT_BYTES: u64 = 64 << 20;

/// How often a service may ask to be left alone before it counts as failed.
pub const MOST_PAUSES: u32 = 60;

/// A text of a service: as it is now, or the word that it is as it was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FetchedText {
    There {
        text: String,
        etag: Option<String>,
    },
    Unchanged,
    /// The service has nothing there.
    Missing,
}

/// A document that was read as a whole.
enum WholeDocument<T> {
    /// It, and what tells it from another.
    There(T, Option<String>),
    Unchanged,
    Missing,
}

/// Why a request gave nothing.
#[derive(Debug)]
pub enum Failure {
    /// The service cannot be used at all: nothing else needs to be asked.
    Final(Error),
    /// It has nothing there.
    Missing,
    /// What it has is what was there before.
    Unchanged,
    /// It asks to be left alone for a time.
    Later(Duration),
    /// Another try may go better.
    Broken(String),
    /// The person stopped it.
    Cancelled,
}

/// A reply whose body is still to be read.
pub struct Reply {
    /// True where the body is the rest of one that was begun.
    pub is_rest: bool,
    /// The bytes of the body, as far as the service says.
    pub length: Option<u64>,
    pub etag: Option<String>,
    /// SHA-256 of the whole, as the service says.
    pub sum: Option<String>,
    pub body: Box<dyn Read + Send>,
}

/// What a request says beside its address.
#[derive(Debug, Clone, Copy, Default)]
pub struct Conditions<'a> {
    /// Only where it is no longer this.
    pub unless: Option<&'a str>,
    /// Only what follows so many bytes of this.
    pub rest_of: Option<(u64, &'a str)>,
}

/// A service that is asked at the pace it permits.
pub struct Service {
    agent: Agent,
    token: Option<TokenHeader>,
    pub(super) feed: Feed,
    pub(super) pace: Pace,
}

impl Service {
    /// Makes ready to ask the service of a feed. Nothing is sent yet.
    ///
    /// # Errors
    /// Where its token or its certificates cannot be read.
    pub fn of(feed: &Feed) -> Result<Service> {
        let token = token_of(feed)?;
        let roots = certificates_of(feed)?.map_or(RootCerts::WebPki, RootCerts::from);
        let agent = Agent::config_builder()
            .http_status_as_error(false)
            // A token goes nowhere but to the address of the feed.
            .max_redirects(0)
            .max_redirects_will_error(false)
            .proxy(None)
            .user_agent(concat!("stavel/", env!("CARGO_PKG_VERSION")))
            .timeout_connect(Some(Duration::from_secs(10)))
            .timeout_recv_response(Some(Duration::from_secs(30)))
            .timeout_recv_body(Some(Duration::from_secs(600)))
            .tls_config(TlsConfig::builder().root_certs(roots).build())
            .build()
            .new_agent();
        Ok(Service { agent, token, feed: feed.clone(), pace: Pace::new(feed.limits.per_second) })
    }

    /// Asks for an address, when the service permits it.
    ///
    /// # Errors
    /// What the service, or the way to it, gives instead.
    pub fn ask(
        &self,
        address: &str,
        conditions: Conditions<'_>,
        sum_header: Option<&str>,
        is_cancelled: &dyn Fn() -> bool,
    ) -> std::result::Result<Reply, Failure> {
        if !self.pace.wait(is_cancelled) {
            return Err(Failure::Cancelled);
        }
        let mut request = self.agent.get(address);
        if let Some(token) = &self.token {
            request = request.header(&token.name, &token.value);
        }
        if let Some(etag) = conditions.unless {
            request = request.header("If-None-Match", etag);
        }
        if let Some((from, etag)) = conditions.rest_of {
            request = request.header("Range", format!("bytes={from}-")).header("If-Range", etag);
        }
        let reply = request.call().map_err(|e| self.broken(&e))?;
        self.refuse(reply.status(), reply.headers())?;
        let text = |name: &str| reply.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
        let begins = text("content-range")
            .and_then(|range| range.strip_prefix("bytes ")?.split('-').next()?.parse::<u64>().ok());
        let is_rest = reply.status() == StatusCode::PARTIAL_CONTENT;
        if is_rest && begins != conditions.rest_of.map(|(from, _)| from) {
            return Err(Failure::Broken("it sent another part than was asked for".into()));
        }
        Ok(Reply {
            is_rest,
            length: text("content-length").and_then(|length| length.parse().ok()),
            etag: text("etag"),
            sum: sum_header.and_then(text),
            body: Box::new(reply.into_body().into_reader()),
        })
    }

    /// Reads a document of JSON; asks again where that may help.
    ///
    /// # Errors
    /// One sentence.
    pub fn document(&self, address: &str, is_cancelled: &dyn Fn() -> bool) -> Result<serde_json::Value> {
        let is_json =
            |bytes: &[u8]| serde_json::from_slice(bytes).map_err(|_| "it is cut short, or no JSON".into());
        match self.read_whole(address, None, is_json, is_cancelled)? {
            WholeDocument::There(document, _) => Ok(document),
            WholeDocument::Missing | WholeDocument::Unchanged => Err(Error::input(format!(
                "The feed {} has nothing at {address}; look at the paths of its text.",
                self.feed.name
            ))),
        }
    }

    /// Reads a text, unless it is the one whose `etag` is known; asks again where that may help.
    ///
    /// # Errors
    /// One sentence.
    pub fn text(
        &self,
        address: &str,
        etag: Option<&str>,
        is_cancelled: &dyn Fn() -> bool,
    ) -> Result<FetchedText> {
        let is_text = |bytes: &[u8]| match std::str::from_utf8(bytes) {
            Ok(text) => Ok(text.to_owned()),
            Err(_) => Err("it is no text".to_owned()),
        };
        Ok(match self.read_whole(address, etag, is_text, is_cancelled)? {
            WholeDocument::There(text, etag) => FetchedText::There { text, etag },
            WholeDocument::Unchanged => FetchedText::Unchanged,
            WholeDocument::Missing => FetchedText::Missing,
        })
    }

    fn read_whole<T>(
        &self,
        address: &str,
        etag: Option<&str>,
        understood: impl Fn(&[u8]) -> std::result::Result<T, String>,
        is_cancelled: &dyn Fn() -> bool,
    ) -> Result<WholeDocument<T>> {
        let name = &self.feed.name;
        let (mut why, mut round, mut pauses) = (String::new(), 0, 0);
        while round < self.feed.limits.tries && pauses < MOST_PAUSES {
            let conditions = Conditions { unless: etag, rest_of: None };
            match self.ask(address, conditions, None, is_cancelled) {
                Ok(reply) => {
                    let (expected, etag) = (reply.length, reply.etag);
                    let mut bytes = Vec::new();
                    let read = reply.body.take(DOCUMENT_BYTES).read_to_end(&mut bytes);
                    let is_whole = read.is_ok() && expected.is_none_or(|n| n == bytes.len() as u64);
                    match is_whole.then(|| understood(&bytes)) {
                        Some(Ok(whole)) => return Ok(WholeDocument::There(whole, etag)),
                        Some(Err(told)) => why = told,
                        None => why = "it is cut short".into(),
                    }
                }
                Err(Failure::Final(error)) => return Err(error),
                Err(Failure::Cancelled) => return Err(Error::cancelled()),
                Err(Failure::Missing) => return Ok(WholeDocument::Missing),
                Err(Failure::Unchanged) => return Ok(WholeDocument::Unchanged),
                // A pause that it asks for is no failed try.
                Err(Failure::Later(time)) => {
                    (why, pauses) = ("it keeps asking for pauses".into(), pauses + 1);
                    self.pace.hold(time);
                    continue;
                }
                Err(Failure::Broken(told)) => why = told,
            }
            self.pace.hold(pause(round));
            round += 1;
        }
        Err(Error::input(format!("The feed {name} cannot be read: {why}; try again later.")))
    }

    /// What a status means that is not a reply to be read.
    fn refuse(&self, status: StatusCode, headers: &HeaderMap) -> std::result::Result<(), Failure> {
        let name = &self.feed.name;
        Err(match status.as_u16() {
            200 | 206 => return Ok(()),
            304 => Failure::Unchanged,
            404 | 410 => Failure::Missing,
            429 | 503 => {
                let said =
                    headers.get("retry-after").and_then(|v| v.to_str().ok()?.trim().parse::<u64>().ok());
                match (said, status.as_u16()) {
                    (Some(seconds), _) => Failure::Later(Duration::from_secs(seconds.min(3600))),
                    (None, 429) => Failure::Later(Duration::from_secs(1)),
                    (None, _) => Failure::Broken("it answers 503".into()),
                }
            }
            401 | 403 => Failure::Final(Error::input(match &self.feed.token {
                Some(_) => format!("The feed {name} refuses its token; set the token anew."),
                None => format!("The feed {name} wants a token; say token.env or token.file in its text."),
            })),
            300..=399 => Failure::Final(Error::input(format!(
                "The feed {name} points to another address, which is not followed; look at the address in its text."
            ))),
            other => Failure::Broken(format!("it answers {other}")),
        })
    }

    /// What went wrong before there was a reply.
    fn broken(&self, error: &ureq::Error) -> Failure {
        let (name, address) = (&self.feed.name, &self.feed.address);
        let told = error.to_string();
        if told.contains("certificate") || told.contains("UnknownIssuer") {
            return Failure::Final(Error::input(format!(
                "The certificate of {address} is not to be trusted, so nothing was sent to the feed {name} ({}).",
                stavel_core::error::printable(&told)
            )));
        }
        match error {
            ureq::Error::HostNotFound => Failure::Broken("its host is not found".into()),
            ureq::Error::Timeout(_) => Failure::Broken("it does not answer in time".into()),
            ureq::Error::Io(e) if e.kind() == std::io::ErrorKind::ConnectionRefused => {
                Failure::Broken(format!("{address} refuses the connection"))
            }
            ureq::Error::Io(_) | ureq::Error::ConnectionFailed => {
                Failure::Broken("the connection broke off".into())
            }
            _ => Failure::Broken(stavel_core::error::printable(&told)),
        }
    }
}

/// The certificates that a feed trusts; none where it trusts the usual ones.
///
/// # Errors
/// Where its file cannot be read, or holds none.
pub fn certificates_of(feed: &Feed) -> Result<Option<Vec<Certificate<'static>>>> {
    let Some(path) = &feed.certificates else { return Ok(None) };
    let pem = std::fs::read(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    let items = parse_pem(&pem).collect::<std::result::Result<Vec<_>, _>>().unwrap_or_default();
    let certificates: Vec<Certificate<'static>> = items
        .into_iter()
        .filter_map(|item| match item {
            ureq::tls::PemItem::Certificate(certificate) => Some(certificate),
            _ => None,
        })
        .collect();
    if certificates.is_empty() {
        return Err(Error::input(format!("{} holds no certificate (PEM).", path.display())));
    }
    Ok(Some(certificates))
}

/// How long to wait before another try: longer each time.
pub fn pause(round: u32) -> Duration {
    Duration::from_millis(200 << round.min(6))
}
