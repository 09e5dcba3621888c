//! The settings of fetch.

use clap::Args;
use serde::{Deserialize, Serialize};
use stavel_core::model::SeriesPattern;

use super::settings::is_default;

/// Series to fetch from their feeds.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct FetchStep {
    /// The series, or patterns of them as NOK*@quill:ticks; the source is the name of the feed.
    #[arg(required_unless_present = "facts")]
    pub series: Vec<SeriesPattern>,
    /// From this day on; else from the first the feed has.
    #[arg(long, value_name = "TIME", conflicts_with_all = ["new", "last"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Up to this moment; else up to the last the feed has.
    #[arg(long, value_name = "TIME", conflicts_with_all = ["new", "last"])]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Only what follows what is here, and what was not finished when it was fetched.
    #[arg(long, conflicts_with = "last")]
    #[serde(skip_serializing_if = "is_default")]
    pub new: bool,
    /// The last days the feed has, so many.
    #[arg(long, value_name = "DAYS")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub last: Option<u32>,
    /// Also what is here: the feed may have corrected it. Its rows take the place of those that are here.
    #[arg(long, conflicts_with = "new")]
    #[serde(skip_serializing_if = "is_default")]
    pub again: bool,
    /// Not histories, but what feeds say beside them: calendars, and specs and costs of the instruments that are here;
    /// with --new only what was not asked for within the last hour.
    #[arg(long, conflicts_with_all = ["last", "from", "to", "again", "dry_run"])]
    #[serde(skip_serializing_if = "is_default")]
    pub facts: bool,
    /// Say what would be fetched, in pieces and time, and fetch nothing.
    #[arg(long)]
    #[serde(skip)]
    pub dry_run: bool,
}
