//! How replies go wrong.

use std::time::Duration;

use axum::body::{Body, Bytes};
use axum::http::{Response, StatusCode, header};
use fastrand::Rng;

/// What is done to a reply.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ReplyFault {
    /// The body ends half way.
    Cut,
    /// The service has a fault of its own.
    Broken,
    /// A byte of the body is another one.
    Changed,
    /// The body is shorter than the service says.
    Shorter,
    /// It comes late.
    Slow,
}

/// Draws whether a reply goes wrong, and how.
pub fn draw(rng: &mut Rng, in_a_hundred: u32) -> Option<ReplyFault> {
    let all =
        [ReplyFault::Cut, ReplyFault::Broken, ReplyFault::Changed, ReplyFault::Shorter, ReplyFault::Slow];
    (rng.u32(0..100) < in_a_hundred).then(|| all[rng.usize(0..all.len())])
}

/// A reply that goes wrong; `body` is what it would be.
pub async fn reply(fault: ReplyFault, head: axum::http::response::Builder, body: &[u8]) -> Response<Body> {
    let sent = |builder: axum::http::response::Builder, body: Body| {
        builder.body(body).unwrap_or_else(|_| Response::new(Body::empty()))
    };
    match fault {
        ReplyFault::Broken => sent(
            Response::builder().status(StatusCode::INTERNAL_SERVER_ERROR),
            Body::from("a fault, as asked for"),
        ),
        ReplyFault::Changed => {
            let mut bytes = body.to_vec();
            let at = bytes.len() / 2;
            if let Some(byte) = bytes.get_mut(at) {
                *byte ^= 0x20;
            }
            sent(head, Body::from(bytes))
        }
        ReplyFault::Slow => {
            tokio::time::sleep(Duration::from_millis(150)).await;
            sent(head, Body::from(body.to_vec()))
        }
        ReplyFault::Cut => cut(head.header(header::CONTENT_LENGTH, body.len()), &body[..body.len() / 2]),
        ReplyFault::Shorter => cut(head.header(header::CONTENT_LENGTH, body.len() + 100), body),
    }
}

/// A body after which the connection breaks off.
fn cut(head: axum::http::response::Builder, bytes: &[u8]) -> Response<Body> {
    let begins = Ok(Bytes::copy_from_slice(bytes));
    let breaks = Err(std::io::Error::other("cut off, as asked for"));
    let stream = futures_util::stream::iter([begins, breaks]);
    head.body(Body::from_stream(stream)).unwrap_or_else(|_| Response::new(Body::empty()))
}
