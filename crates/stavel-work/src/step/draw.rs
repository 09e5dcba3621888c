//! The settings of drawing on a chart, and of the dossier of a history.

use std::path::PathBuf;

use clap::Args;
use serde::{Deserialize, Serialize};
use stavel_core::model::{DrawingColour, DrawingKind, SeriesName};

use super::one_of;

/// Something to draw on the chart of an instrument, to change or to take away; else what is drawn is listed.
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DrawStep {
    /// The series whose times are meant: in UTC, or as written while it is afloat. The drawing is seen on every series of
    /// its instrument.
    pub series: SeriesName,
    /// What to draw: a level (a price), a line between two points, a ray (a line that goes on), a box, a
    /// range (measured between two points), or text.
    #[arg(value_parser = one_of::<DrawingKind>(), conflicts_with_all = ["change", "remove"])]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<DrawingKind>,
    /// The first point, as '2024-03-13 12:30, 0.9815'.
    #[arg(long, value_name = "TIME, PRICE", conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<String>,
    /// The second point of what has two.
    #[arg(long, value_name = "TIME, PRICE", conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Words beside it.
    #[arg(long, conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Its colour.
    #[arg(long, value_parser = one_of::<DrawingColour>(), conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub colour: Option<DrawingColour>,
    /// The number of a drawing that is there, to be moved, coloured or worded anew.
    #[arg(long, value_name = "NUMBER", conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub change: Option<u64>,
    /// The number of a drawing to be taken away; undo brings it back.
    #[arg(long, value_name = "NUMBER")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remove: Option<u64>,
    /// The moment of a rehearsal at which it is drawn or changed, UTC: no rehearsal shows it before.
    #[arg(long, value_name = "TIME", conflicts_with = "remove")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rehearsed: Option<String>,
}

impl DrawStep {
    /// What is drawn on a series' instrument.
    pub fn of(series: SeriesName) -> DrawStep {
        DrawStep {
            series,
            kind: None,
            at: None,
            to: None,
            text: None,
            colour: None,
            change: None,
            remove: None,
            rehearsed: None,
        }
    }

    /// False where it only lists.
    pub fn changes_something(&self) -> bool {
        self.kind.is_some() || self.change.is_some() || self.remove.is_some()
    }
}

/// The dossier of a history: is it fit to test on?
#[derive(Debug, Clone, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DossierStep {
    /// The series.
    pub series: SeriesName,
    /// The file, .html or .pdf.
    #[arg(long, value_name = "FILE")]
    pub out: PathBuf,
}
