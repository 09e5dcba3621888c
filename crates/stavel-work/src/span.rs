//! The span between two ends that a person named, and the rows in one.

use stavel_core::model::{Micros, Span, time};
use stavel_core::store::SeriesInfo;
use stavel_core::{Error, Result};

/// A span out of the two ends a person gave.
///
/// # Errors
/// Where an end is no time, or the first is not the earlier.
pub fn span_between(from: Option<&str>, to: Option<&str>) -> Result<Span> {
    let end = |t: Option<&str>, other: Micros| t.map_or(Ok(other), time::parse);
    let span = Span::new(end(from, Micros::MIN)?, end(to, Micros::MAX)?);
    if span.from >= span.to {
        return Err(Error::arguments(format!(
            "The span from {} to {} is empty; the first must be the earlier.",
            from.unwrap_or_default(),
            to.unwrap_or_default()
        )));
    }
    Ok(span)
}

/// The rows of a series in a span, as if they were evenly spread.
pub fn rows_within(info: &SeriesInfo, span: Span) -> f64 {
    let whole = Span::new(info.edition.first, info.edition.last + 1);
    let inside = whole.overlap(&span).map_or(0, |s| s.length());
    info.edition.rows as f64 * inside as f64 / whole.length().max(1) as f64
}
