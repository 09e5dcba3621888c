//! Serving replays over WebSocket: a thread and a replay for each client.

use std::io::ErrorKind;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use serde_json::{Value, json};
use stavel_core::model::Micros;
use stavel_core::{Error, Result};
use tungstenite::handshake::server::{ErrorResponse, Request, Response};
use tungstenite::protocol::WebSocketConfig;
use tungstenite::{Message, WebSocket};

use super::PlayPace;
use super::session::{ServedReplay, error_event};

/// Clients at a time, at most.
const MOST_CLIENTS: usize = 64;
/// A message of a client, in bytes, at most.
const MOST_BYTES: usize = 64 * 1024;
/// A client that takes nothing in for so long is let go.
const PATIENCE: Duration = Duration::from_secs(30);
/// So many messages that are not understood, one after another, and a client is let go.
const MOST_JUNK: u32 = 20;
/// A paced replay looks for messages of its client so often.
const BEAT: Duration = Duration::from_millis(5);

/// Where replays are served, and to whom.
pub struct Served {
    /// The address and port.
    pub address: SocketAddr,
    /// Needed by every client where there is one.
    pub token: Option<String>,
    /// How time runs.
    pub pace: PlayPace,
}

/// Makes a replay for a client.
pub type OpenOne = dyn Fn() -> Result<ServedReplay> + Send + Sync;

/// Binds the address; the first is told by [`TcpListener::local_addr`].
///
/// # Errors
/// Where the address is taken; where it is open to others and there is no token.
pub fn listen(served: &Served) -> Result<TcpListener> {
    if !served.address.ip().is_loopback() && served.token.is_none() {
        return Err(Error::arguments(format!(
            "{} can be reached from other machines: put a token into STAVEL_SERVE_TOKEN first, or serve on 127.0.0.1.",
            served.address
        )));
    }
    TcpListener::bind(served.address)
        .map_err(|e| Error::input(format!("Nothing can be served on {}: {e}.", served.address)))
}

/// Serves clients until the process ends, or `most` of them have come.
///
/// # Errors
/// Where no more connections can be taken.
pub fn serve(
    listener: &TcpListener,
    served: &Served,
    open: &Arc<OpenOne>,
    most: Option<usize>,
) -> Result<()> {
    let here = Arc::new(AtomicUsize::new(0));
    let mut threads = Vec::new();
    for (count, stream) in listener.incoming().enumerate() {
        let Ok(stream) = stream else { continue };
        let (open, here, token, pace) = (open.clone(), here.clone(), served.token.clone(), served.pace);
        threads.push(std::thread::spawn(move || {
            let is_full = here.fetch_add(1, Ordering::SeqCst) >= MOST_CLIENTS;
            // Whatever becomes of one client is no matter of the others.
            if let Err(err) = serve_one(stream, token.as_deref(), pace, is_full, &*open) {
                tracing::info!(%err, "a client has gone");
            }
            here.fetch_sub(1, Ordering::SeqCst);
        }));
        if most.is_some_and(|most| count + 1 >= most) {
            break;
        }
        threads.retain(|thread| !thread.is_finished());
    }
    for thread in threads {
        let _ = thread.join();
    }
    Ok(())
}

fn serve_one(
    stream: TcpStream,
    token: Option<&str>,
    pace: PlayPace,
    is_full: bool,
    open: &OpenOne,
) -> std::result::Result<(), tungstenite::Error> {
    stream.set_write_timeout(Some(PATIENCE))?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_nodelay(true)?;
    let limits =
        WebSocketConfig::default().max_message_size(Some(MOST_BYTES)).max_frame_size(Some(MOST_BYTES));
    // The library wants its own large answer here.
    #[allow(clippy::result_large_err)]
    let check = |request: &Request, response: Response| -> std::result::Result<Response, ErrorResponse> {
        let said = request.headers().get("authorization").and_then(|value| value.to_str().ok());
        let is_meant = token.is_none_or(|token| said.and_then(|s| s.strip_prefix("Bearer ")) == Some(token));
        if is_meant {
            return Ok(response);
        }
        let mut refused = ErrorResponse::new(Some("The token is missing or wrong.".to_owned()));
        *refused.status_mut() = tungstenite::http::StatusCode::UNAUTHORIZED;
        Err(refused)
    };
    let mut socket = match tungstenite::accept_hdr_with_config(stream, check, Some(limits)) {
        Ok(socket) => socket,
        // Something that is no WebSocket client.
        Err(_) => return Ok(()),
    };
    let replay = if is_full { Err(Error::input("Too many clients are here already.")) } else { open() };
    match replay {
        Ok(replay) => Client { replay, socket, pace, junk: 0 }.run(),
        Err(err) => {
            send(&mut socket, &error_event(&err.to_string()))?;
            close(&mut socket)
        }
    }
}

struct Client {
    replay: ServedReplay,
    socket: WebSocket<TcpStream>,
    pace: PlayPace,
    junk: u32,
}

impl Client {
    fn run(mut self) -> std::result::Result<(), tungstenite::Error> {
        let hello = self.replay.hello(&self.pace.to_string());
        send(&mut self.socket, &hello)?;
        match self.pace {
            PlayPace::Acknowledged => self.run_acknowledged(),
            PlayPace::Times(_) | PlayPace::Max => self.run_paced(),
        }
    }

    /// Waits for messages; time moves only as they say.
    fn run_acknowledged(&mut self) -> std::result::Result<(), tungstenite::Error> {
        self.socket.get_ref().set_read_timeout(None)?;
        loop {
            let message = self.socket.read()?;
            if !self.take(&message)? {
                return close(&mut self.socket);
            }
        }
    }

    /// Lets time run, and takes messages as they come.
    fn run_paced(&mut self) -> std::result::Result<(), tungstenite::Error> {
        self.socket.get_ref().set_read_timeout(Some(BEAT))?;
        let (begun, from) = (Instant::now(), self.replay.now());
        loop {
            match self.socket.read() {
                Ok(message) => {
                    if !self.take(&message)? {
                        return close(&mut self.socket);
                    }
                }
                Err(tungstenite::Error::Io(e))
                    if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
                Err(err) => return Err(err),
            }
            let until = match self.pace {
                PlayPace::Times(times) => from + (begun.elapsed().as_micros() as f64 * times) as Micros,
                PlayPace::Max | PlayPace::Acknowledged => Micros::MAX,
            };
            let events = match self.replay.advance(until, 10_000) {
                Ok(events) => events,
                Err(err) => vec![error_event(&err.to_string())],
            };
            for event in &events {
                send(&mut self.socket, event)?;
            }
            if self.replay.next_time().is_none() {
                let summary = self.replay.summary();
                send(&mut self.socket, &summary)?;
                return close(&mut self.socket);
            }
        }
    }

    /// Answers a message; false where the client is to go.
    fn take(&mut self, message: &Message) -> std::result::Result<bool, tungstenite::Error> {
        let text = match message {
            Message::Text(text) => text.as_str(),
            Message::Binary(_) => "",
            Message::Close(_) => return Ok(false),
            Message::Ping(_) | Message::Pong(_) | Message::Frame(_) => return Ok(true),
        };
        let answer = match self.replay.take(text) {
            Ok(answer) => answer,
            Err(err) => {
                send(&mut self.socket, &error_event(&err.to_string()))?;
                return Ok(false);
            }
        };
        let is_junk = matches!(answer.events.as_slice(), [one] if one["event"] == json!("error"));
        self.junk = if is_junk { self.junk + 1 } else { 0 };
        for event in &answer.events {
            send(&mut self.socket, event)?;
        }
        Ok(answer.stays && self.junk < MOST_JUNK)
    }
}

fn send(socket: &mut WebSocket<TcpStream>, event: &Value) -> std::result::Result<(), tungstenite::Error> {
    socket.write(Message::text(event.to_string()))?;
    socket.flush()
}

/// Says goodbye and waits a moment for the other's.
fn close(socket: &mut WebSocket<TcpStream>) -> std::result::Result<(), tungstenite::Error> {
    socket.close(None)?;
    socket.get_ref().set_read_timeout(Some(Duration::from_secs(1)))?;
    while socket.read().is_ok() {}
    Ok(())
}
