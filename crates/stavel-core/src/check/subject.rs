//! What is checked.

use super::Finding;
use crate::model::{Frame, Session, Span};

/// What is known of a series before its rows are read.
pub struct CheckSubject<'a> {
    /// When the market is open.
    pub session: &'a Session,
    /// The frame of the rows.
    pub frame: Frame,
    /// The span the rows lie in.
    pub span: Span,
    /// True where a price of zero or below cannot be: of currencies and shares, not of spreads.
    pub is_positive: bool,
    /// Rows that stood out of order in their file.
    pub disorder: Vec<Finding>,
}
