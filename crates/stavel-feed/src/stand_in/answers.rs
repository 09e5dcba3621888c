//! What stands before every reply, and replies that are a word.

use std::time::Instant;

use axum::body::Body;
use axum::http::{HeaderMap, HeaderValue, Response, StatusCode, header};
use serde_json::json;

use super::state::State;

/// The header that the token is said in.
pub const TOKEN: &str = "X-Token";

/// A reply that says why there is nothing else.
pub fn plain(status: StatusCode, told: &str) -> Response<Body> {
    let mut reply = Response::new(Body::from(json!({ "error": told }).to_string()));
    *reply.status_mut() = status;
    reply.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    reply
}

/// What stands before every reply: the token, and the pace.
pub fn refused(state: &State, headers: &HeaderMap) -> Option<Response<Body>> {
    let said = headers.get(TOKEN).and_then(|v| v.to_str().ok());
    if said != Some(state.token.as_str()) {
        return Some(plain(StatusCode::UNAUTHORIZED, "the token is missing or wrong"));
    }
    if !state.counts().permits(Instant::now(), state.switch().per_second) {
        let mut reply = plain(StatusCode::TOO_MANY_REQUESTS, "too many requests in a second");
        reply.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from_static("1"));
        return Some(reply);
    }
    None
}
