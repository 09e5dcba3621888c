//! Quotes as they are made: a service sends them over a WebSocket (RFC 6455), as JSON.

use std::net::TcpStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustls::pki_types::CertificateDer;
use rustls::{ClientConfig, RootCertStore};
use stavel_core::error::printable;
use stavel_core::{Error, Result};
use tungstenite::client::IntoClientRequest;
use tungstenite::http::{HeaderName, HeaderValue};
use tungstenite::stream::MaybeTlsStream;
use tungstenite::{Connector, Message, WebSocket};

use super::Feed;
use super::http::certificates_of;
use super::live_text::FeedLive;
use super::pieces::joined;
use super::token::token_of;

/// How long a read waits, so that what is held back in memory can be written meanwhile.
const NAP: Duration = Duration::from_millis(200);
/// After so long without a word the service is asked whether it is still there, and after twice that it counts as away.
const SILENCE: Duration = Duration::from_secs(10);
/// A message that is longer is none of quotes.
const LONGEST_MESSAGE: usize = 8 << 20;

/// What came of waiting for a message.
#[derive(Debug, PartialEq, Eq)]
pub enum Heard {
    /// A text.
    Text(String),
    /// Something that is no text: it is passed over.
    Other,
    /// Nothing for now.
    Nothing,
    /// The connection is no more: why.
    Away(String),
}

/// A connection to a service that sends quotes.
pub struct LiveConnection {
    socket: WebSocket<MaybeTlsStream<TcpStream>>,
    last_word: Instant,
    has_asked: bool,
}

/// Why there is no connection.
#[derive(Debug)]
pub enum NotConnected {
    /// Trying again does not help.
    Final(Error),
    /// It may help.
    Away(String),
}

impl LiveConnection {
    /// Connects, and asks for the quotes of instruments, by their names at the service.
    ///
    /// # Errors
    /// Why there is no connection, in one sentence or a part of it. The token is in none.
    pub fn open(
        feed: &Feed,
        live: &FeedLive,
        symbols: &[String],
    ) -> std::result::Result<LiveConnection, NotConnected> {
        let address = joined(&feed.address, &live.path).replacen("http", "ws", 1);
        let bad = |why: String| NotConnected::Final(Error::input(format!("The feed {}: {why}.", feed.name)));
        let mut request =
            address.as_str().into_client_request().map_err(|_| bad("live: no such path can be".into()))?;
        if let Some(token) = token_of(feed).map_err(NotConnected::Final)? {
            let header = HeaderName::from_bytes(token.name.as_bytes())
                .ok()
                .zip(HeaderValue::from_str(&token.value).ok());
            let (name, mut value) =
                header.ok_or_else(|| bad("the header of its token cannot be sent".into()))?;
            value.set_sensitive(true);
            request.headers_mut().insert(name, value);
        }
        let stream = connect(feed, request.uri()).map_err(NotConnected::Away)?;
        let connector = connector(feed).map_err(NotConnected::Final)?;
        let config = tungstenite::protocol::WebSocketConfig::default()
            .max_message_size(Some(LONGEST_MESSAGE))
            .max_frame_size(Some(LONGEST_MESSAGE));
        let (mut socket, _) =
            tungstenite::client_tls_with_config(request, stream, Some(config), Some(connector))
                .map_err(|e| why_not(feed, &e.to_string(), &e))?;
        for symbol in symbols {
            let Some(text) = &live.subscribe else { break };
            let wish = text.replace("{instrument}", symbol);
            socket.send(Message::text(wish)).map_err(|e| NotConnected::Away(printable(&e.to_string())))?;
        }
        set_nap(&socket, NAP).map_err(|e| NotConnected::Away(e.to_string()))?;
        Ok(LiveConnection { socket, last_word: Instant::now(), has_asked: false })
    }

    /// Waits a moment for the next message.
    pub fn hear(&mut self) -> Heard {
        use tungstenite::Error as Fault;
        let heard = match self.socket.read() {
            Ok(Message::Text(text)) => Heard::Text(text.as_str().to_owned()),
            Ok(Message::Close(_)) => return Heard::Away("it ended the connection".into()),
            Ok(_) => Heard::Other,
            Err(Fault::Io(e)) if is_nap(&e) => return self.silence(),
            Err(Fault::Utf8(_)) => return Heard::Away("it sent a text that is none".into()),
            Err(Fault::Io(_) | Fault::ConnectionClosed | Fault::AlreadyClosed) => {
                return Heard::Away("the connection broke off".into());
            }
            Err(Fault::Capacity(_)) => return Heard::Away("it sent a message without end".into()),
            Err(fault) => return Heard::Away(printable(&fault.to_string())),
        };
        (self.last_word, self.has_asked) = (Instant::now(), false);
        heard
    }

    /// Nothing was heard: a market may be closed, or the service away.
    fn silence(&mut self) -> Heard {
        let silent = self.last_word.elapsed();
        if silent > SILENCE * 2 {
            return Heard::Away("it does not answer any more".into());
        }
        if silent > SILENCE && !self.has_asked {
            self.has_asked = true;
            if self.socket.send(Message::Ping(Vec::new().into())).is_err() {
                return Heard::Away("the connection broke off".into());
            }
        }
        Heard::Nothing
    }

    /// Says goodbye, where that is possible.
    pub fn end(mut self) {
        // Whoever is away already needs no goodbye.
        let _ = self.socket.close(None);
        let _ = self.socket.flush();
    }
}

fn is_nap(error: &std::io::Error) -> bool {
    matches!(error.kind(), std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut)
}

fn connect(feed: &Feed, uri: &tungstenite::http::Uri) -> std::result::Result<TcpStream, String> {
    use std::net::ToSocketAddrs;
    let host = uri.host().unwrap_or_default().trim_matches(['[', ']']);
    let port = uri.port_u16().unwrap_or(if uri.scheme_str() == Some("wss") { 443 } else { 80 });
    let places = (host, port).to_socket_addrs().map_err(|_| "its host is not found".to_owned())?;
    let mut why = "its host is not found".to_owned();
    for place in places {
        match TcpStream::connect_timeout(&place, Duration::from_secs(10)) {
            Ok(stream) => {
                let is_set = stream.set_read_timeout(Some(Duration::from_secs(10))).is_ok()
                    && stream.set_write_timeout(Some(Duration::from_secs(10))).is_ok();
                if is_set {
                    return Ok(stream);
                }
            }
            Err(e) if e.kind() == std::io::ErrorKind::ConnectionRefused => {
                why = format!("{} refuses the connection", feed.address);
            }
            Err(_) => why = "it does not answer in time".into(),
        }
    }
    Err(why)
}

fn connector(feed: &Feed) -> Result<Connector> {
    if feed.address.starts_with("http://") {
        return Ok(Connector::Plain);
    }
    let mut roots = RootCertStore::empty();
    match certificates_of(feed)? {
        None => roots.extend(webpki_roots::TLS_SERVER_ROOTS.iter().cloned()),
        Some(own) => {
            for certificate in own {
                roots.add(CertificateDer::from(certificate.der().to_vec())).map_err(|_| {
                    Error::input(format!("The feed {}: its certificates cannot be used.", feed.name))
                })?;
            }
        }
    }
    let config = ClientConfig::builder().with_root_certificates(roots).with_no_client_auth();
    Ok(Connector::Rustls(Arc::new(config)))
}

/// Why a service does not take the connection.
fn why_not<S>(feed: &Feed, told: &str, error: &tungstenite::HandshakeError<S>) -> NotConnected
where
    S: tungstenite::handshake::HandshakeRole,
{
    use tungstenite::Error as Fault;
    if told.contains("certificate") || told.contains("UnknownIssuer") {
        return NotConnected::Final(Error::input(format!(
            "The certificate of {} is not to be trusted, so nothing was sent to the feed {} ({}).",
            feed.address,
            feed.name,
            printable(told)
        )));
    }
    let tungstenite::HandshakeError::Failure(Fault::Http(reply)) = error else {
        return NotConnected::Away(printable(told));
    };
    let name = &feed.name;
    match reply.status().as_u16() {
        401 | 403 if feed.token.is_some() => NotConnected::Final(Error::input(format!(
            "The feed {name} refuses its token; set the token anew."
        ))),
        401 | 403 => NotConnected::Final(Error::input(format!(
            "The feed {name} wants a token; say token.env or token.file in its text."
        ))),
        404 => NotConnected::Final(Error::input(format!(
            "The feed {name} has no stream at the path of live; look at its text."
        ))),
        other => NotConnected::Away(format!("it answers {other}")),
    }
}

fn set_nap(socket: &WebSocket<MaybeTlsStream<TcpStream>>, nap: Duration) -> std::io::Result<()> {
    match socket.get_ref() {
        MaybeTlsStream::Plain(stream) => stream.set_read_timeout(Some(nap)),
        MaybeTlsStream::Rustls(stream) => stream.sock.set_read_timeout(Some(nap)),
        _ => Ok(()),
    }
}
