//! What is said of frames that were built.

use serde_json::{Value, json};
use stavel_core::Result;
use stavel_core::bars::{Grid, can_build};
use stavel_core::frames::BuiltSeries;
use stavel_core::frames::rebuild::{PathError, RebuiltSeries, TicksFrom};
use stavel_core::model::time::{self, DAY, rfc3339};
use stavel_core::model::{Clock, Frame, SeriesName, Session};
use stavel_core::store::Shelf;

use crate::assumptions;
use crate::report::StepReport;

/// What is said of the frames that were built.
#[derive(Default)]
pub struct FramesTold {
    json: Vec<Value>,
    lines: Vec<String>,
    changed: Vec<SeriesName>,
    /// What follows the lines of the series.
    doubts: Vec<String>,
    wants_person: bool,
}

impl FramesTold {
    /// Leaves away what cannot be built of one of the series of a pattern, and says so.
    pub fn leave_out(&mut self, base: &SeriesName, frames: &mut Vec<Frame>) {
        let (can, cannot): (Vec<Frame>, Vec<Frame>) =
            frames.iter().partition(|to| can_build(base.frame, **to) || base.frame == **to);
        if !cannot.is_empty() {
            self.wants_person = true;
            self.doubts.push(format!(
                "  ▲ of {base} there are no bars of {}: they cannot be made of it",
                words(&cannot)
            ));
        }
        *frames = can.into_iter().filter(|to| *to != base.frame).collect();
    }

    /// Tells of the frames that were built of one series.
    pub fn built(
        &mut self,
        shelf: &Shelf,
        base: &SeriesName,
        frames: &[Frame],
        clock: Option<&Clock>,
        all: &[BuiltSeries],
    ) -> Result<()> {
        if all.len() > 1 {
            let names: Vec<String> = all.iter().map(|b| b.info.name.frame_text()).collect();
            self.lines.push(format!("{} frames of {base} built: {}", all.len(), names.join(" ")));
        }
        all.iter().for_each(|built| self.one(base, built));
        let instrument = shelf.instrument(&base.instrument)?;
        if frames.iter().any(Frame::is_of_days) && cuts_settlement(&instrument.sheet.session, base.frame) {
            self.wants_person = true;
            self.doubts.push(format!(
                "  ▲ the settlement of {} lies within a bar of {}: its daily closes are those of the bar before; build days from shorter bars",
                instrument.name, base.frame
            ));
        }
        let is_of_days = frames.iter().any(|f| f.length() >= DAY);
        if is_of_days && clock.is_none() && assumptions::day_is_anyones_guess(&instrument) {
            self.wants_person = true;
            self.doubts.push(format!(
                "  ▲ nobody has said when a session day of {0} begins; its days are those of {1}: say it with compose {0} --set hours=… --set clock=…",
                instrument.name, instrument.sheet.session.clock
            ));
        }
        Ok(())
    }

    fn one(&mut self, base: &SeriesName, built: &BuiltSeries) {
        let (name, e) = (&built.info.name, &built.info.edition);
        self.json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
            "on_closed_days": built.on_closed_days, "too_large": built.too_large,
            "filled": built.filled,
        }));
        let filled =
            if built.filled > 0 { format!(", {} of them filled", built.filled) } else { String::new() };
        let (first, last) = (time::wall(e.first), time::wall(e.last));
        self.lines.push(format!("{name}: {} bars from {first} to {last}{filled}", e.rows));
        if built.on_closed_days > 0 {
            self.lines.push(format!(
                "  ▲ {} of its bars lie on days on which the session week is closed: the week does not fit the rows; stavel check {base} --learn says which would",
                built.on_closed_days
            ));
        }
        if built.too_large > 0 {
            self.lines.push(format!(
                "  ▲ values of more than the 18 digits that a column holds are absent: {}; look at the volumes and prices of {base}",
                built.too_large
            ));
        }
        self.wants_person |= built.on_closed_days + built.too_large > 0;
        self.changed.push(name.clone());
    }

    /// Tells of ticks that were rebuilt from a series of bars.
    pub fn rebuilt(&mut self, base: &SeriesName, seed: u64, made: &RebuiltSeries) {
        let (name, e) = (&made.info.name, &made.info.edition);
        let measured = made.measured.as_ref();
        let error = measured.and_then(|m| m.error);
        self.json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": false, "partial_last": false, "rebuilt": true, "seed": seed,
            "learned_from": measured.map(|m| &m.on), "bars_measured": measured.map(|m| m.bars),
            "order_right": error.and_then(|e| e.order_right()), "off_points": error.map(|e| e.off),
            "straight_points": error.map(|e| e.straight), "range_points": error.map(|e| e.range),
            "ticks_from": ticks_from_word(made.ticks_from), "bars_without_spread": made.no_spread,
        }));
        self.lines.push(format!(
            "{name}: {} ticks rebuilt from {base}, seed {seed}; they give back its bars and are no record of trading",
            e.rows
        ));
        self.lines.push(format!("  {}", ticks_from_in_words(made.ticks_from)));
        if made.no_spread > 0 {
            self.wants_person = true;
            self.lines.push(format!(
                "  ▲ {} of the bars do not know their spread: the ticks of those have no ask",
                made.no_spread
            ));
        }
        match measured {
            Some(m) => {
                self.lines.push(format!("  order of high and low as in {} bars of {}", m.bars, m.on));
                self.lines.extend(error.map(|e| format!("  {}", error_in_words(&e))));
                if error.is_none() {
                    self.wants_person = true;
                    self.lines.push("  ▲ too few days of them to measure how far off such ticks are".into());
                }
            }
            None => {
                self.wants_person = true;
                self.lines.push(format!(
                    "  ▲ no real ticks of {} are on the shelf: the order of high and low is that of a random walk, and how far off it is is not known",
                    base.instrument
                ));
            }
        }
        self.changed.push(name.clone());
    }

    /// All that is told.
    pub fn report(mut self) -> StepReport {
        self.lines.append(&mut self.doubts);
        let report = StepReport::new(json!({ "series": self.json }), self.lines);
        StepReport { changed: self.changed, wants_person: self.wants_person, ..report }
    }
}

fn ticks_from_word(from: TicksFrom) -> &'static str {
    match from {
        TicksFrom::Counted => "tick_count",
        TicksFrom::Volume => "volume",
        TicksFrom::Mean(_) => "mean",
        TicksFrom::Usual(_) => "assumed",
    }
}

fn ticks_from_in_words(from: TicksFrom) -> String {
    match from {
        TicksFrom::Counted => "as many ticks as each bar counts".to_owned(),
        TicksFrom::Volume => {
            "○ assumed: the volume of a bar counts its ticks, as it mostly does in this trade".to_owned()
        }
        TicksFrom::Mean(ticks) => format!("{ticks} ticks a bar, the mean of the real ones"),
        TicksFrom::Usual(ticks) => {
            format!("○ assumed: {ticks} ticks a bar; nothing says how many there were")
        }
    }
}

/// What was measured of rebuilt ticks, as `the right end first in 71 % of 20,000 bars (a coin has 50 %); …`.
fn error_in_words(error: &PathError) -> String {
    let order = error.order_right().map_or(String::new(), |right| {
        format!("the right end first in {:.0} % of {} bars (a coin has 50 %); ", right * 100.0, error.asked)
    });
    format!(
        "{order}{:.1} points off the real price on average, in bars of {:.1} (a straight line: {:.1})",
        error.off, error.range, error.straight
    )
}

/// True where the settlement of a session day lies within a bar of a frame, on a usual day.
fn cuts_settlement(session: &Session, frame: Frame) -> bool {
    // A Wednesday of each season: the walls of two zones may move against each other.
    let days = [19_723 + 9, 19_723 + 191];
    frame.is_bars()
        && days.into_iter().filter_map(|day| session.settlement_of(day)).any(|at| {
            let bar = Grid::new(frame, session).bar_at(at - 1);
            bar.span.to != at
        })
}

fn words(frames: &[Frame]) -> String {
    frames.iter().map(Frame::to_string).collect::<Vec<_>>().join(" ")
}
