//! Serving replays to a person's own programs: over WebSocket, or by standard input and output.

mod net;
mod session;

use std::fmt;
use std::io::{BufRead, Write};
use std::path::Path;
use std::str::FromStr;
use std::sync::Arc;

use stavel_core::model::Micros;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

pub use net::{OpenOne, Served, listen, serve};
pub use session::{ServedAnswer, ServedReplay, error_event};

use crate::rehearse::{Opening, open_replay};
use crate::span::span_between;
use crate::step::RehearseStep;

/// How time runs for whoever is served.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub enum PlayPace {
    /// As the client says, message by message.
    #[default]
    Acknowledged,
    /// So many times as fast as it was.
    Times(f64),
    /// As fast as it goes.
    Max,
}

impl fmt::Display for PlayPace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            PlayPace::Acknowledged => f.write_str("acknowledged"),
            PlayPace::Times(times) => write!(f, "{times}"),
            PlayPace::Max => f.write_str("max"),
        }
    }
}

impl FromStr for PlayPace {
    type Err = Error;

    fn from_str(text: &str) -> Result<PlayPace> {
        if text == "max" {
            return Ok(PlayPace::Max);
        }
        let times = text.strip_suffix('x').unwrap_or(text).parse::<f64>().ok();
        let times = times.filter(|times| (0.01..=1e6).contains(times));
        times.map(PlayPace::Times).ok_or_else(|| {
            Error::arguments(format!(
                "'{text}' is no pace; write how many times as fast it runs, as 60, or max."
            ))
        })
    }
}

/// What makes a replay for each client.
///
/// # Errors
/// Where a setting makes no sense, or the series cannot be played at all.
pub fn opener(folder: &Path, step: &RehearseStep) -> Result<Arc<OpenOne>> {
    let (folder, step) = (folder.to_owned(), step.clone());
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let rules = step.rules()?;
    let open = move || {
        let opening = Opening {
            series: &step.series,
            span,
            begin: None,
            factor: None,
            rules: rules.clone(),
            account: step.account.as_deref(),
            prices_only: false,
            spread_of: step.spread_of.as_ref(),
        };
        Ok(ServedReplay::new(open_replay(&Shelf::open(&folder)?, &opening)?, Micros::MAX))
    };
    // What cannot be played is told at once, not to the first client.
    open()?;
    Ok(Arc::new(open))
}

/// Serves one replay by lines: messages come in by one, answers go out by the other.
///
/// # Errors
/// Where a line cannot be read or written, or rows cannot be read.
pub fn serve_lines(mut replay: ServedReplay, lines: impl BufRead, mut out: impl Write) -> Result<()> {
    writeln!(out, "{}", replay.hello(&PlayPace::Acknowledged.to_string()))?;
    out.flush()?;
    for line in lines.lines() {
        let line = line?;
        if line.trim().is_empty() {
            continue;
        }
        let answer = replay.take(&line)?;
        for event in &answer.events {
            writeln!(out, "{event}")?;
        }
        out.flush()?;
        if !answer.stays {
            break;
        }
    }
    Ok(())
}
