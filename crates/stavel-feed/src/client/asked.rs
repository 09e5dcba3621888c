//! What a service says beside its histories: texts of calendars, specs.

use stavel_core::{Error, Result};

use super::http::{FetchedText, Service};
use super::pieces::{encoded, joined};
use super::specs::ToldSpecs;

/// Asks for a text of a service; `etag` is that of what is known already.
///
/// # Errors
/// One sentence, where it cannot be had.
pub fn fetch_text(
    service: &Service,
    path: &str,
    etag: Option<&str>,
    is_cancelled: &dyn Fn() -> bool,
) -> Result<FetchedText> {
    service.text(&joined(&service.feed.address, path), etag, is_cancelled)
}

/// Asks what the specs of an instrument are; `symbol` is its name at the service.
///
/// # Errors
/// One sentence.
pub fn fetch_specs(service: &Service, symbol: &str, is_cancelled: &dyn Fn() -> bool) -> Result<ToldSpecs> {
    let specs =
        service.feed.specs.as_ref().ok_or_else(|| {
            Error::input(format!("The feed {} says no specs in its text.", service.feed.name))
        })?;
    let path = specs.path.replace("{instrument}", &encoded(symbol));
    let document = service.document(&joined(&service.feed.address, &path), is_cancelled)?;
    Ok(specs.read(&document))
}
