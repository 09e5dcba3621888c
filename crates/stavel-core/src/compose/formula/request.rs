//! What is asked of a formula.

use crate::compose::request::ComposeRequest;
use crate::model::{Frame, Micros, SeriesName};

/// Rows of several instruments to be put into a formula.
#[derive(Debug, Clone, Default)]
pub struct FormulaRequest {
    /// The instrument to make, and the values of its sheet.
    pub instrument: ComposeRequest,
    /// The formula as it is written.
    pub text: String,
    /// The source of the legs that name none, and of the result.
    pub source: Option<String>,
    /// The frame of the legs.
    pub frame: Option<Frame>,
    /// How long a price of a leg holds.
    pub stale: Option<Micros>,
    /// The series of the legs, where they are known from before; else they are looked for.
    pub legs: Vec<SeriesName>,
}
