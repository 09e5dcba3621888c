//! Building frames.

use serde_json::{Value, json};
use stavel_core::frames::rebuild::{PathError, RebuiltSeries, rebuild_series};
use stavel_core::frames::{
    BuiltSeries, Difference, DifferenceKind, FrameComparison, FrameSettings, Grid, build_series, can_build,
    compare_frame, own_long_frames,
};
use stavel_core::job::Job;
use stavel_core::model::price::scaled;
use stavel_core::model::provenance::EmptyBars;
use stavel_core::model::time::{self, DAY, MINUTE, rfc3339};
use stavel_core::model::{Clock, Frame, Made, SeriesName, SeriesPattern, Session, Side};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::assumptions;
use crate::patterns::bases;
use crate::report::StepReport;
use crate::step::{FramesStep, SidesWanted};

/// Builds frames of a series, or of each that a pattern names, by the settings of the step, or again by those each frame
/// was built with.
pub fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<StepReport> {
    if step.compare {
        return compare_frames(shelf, &step.series, job);
    }
    let mut told = Told::default();
    for base in bases(shelf, &step.series)? {
        let mut frames = Vec::new();
        for wanted in &step.frames {
            frames.extend(wanted.built_from(base.frame, shelf)?);
        }
        let mut seen = Vec::new();
        frames.retain(|f| {
            !seen.contains(f) && {
                seen.push(*f);
                true
            }
        });
        if !base.frame.is_ticks() && frames.contains(&Frame::Ticks) {
            frames.retain(|f| !f.is_ticks());
            let seed = step.seed.unwrap_or(1);
            let made = rebuild_series(shelf, &base, step.like.as_ref(), seed, job)?;
            told.rebuilt(&base, seed, &made);
        } else if step.seed.is_some() || step.like.is_some() {
            return Err(Error::arguments(
                "A seed and ticks to learn from are for ticks that are rebuilt: name the frame ticks, of a series of bars.",
            ));
        }
        if frames.is_empty() {
            continue;
        }
        if step.series.exact().is_none() {
            told.leave_out(&base, &mut frames);
        }
        for base in bases_of_sides(shelf, &base, step.side)? {
            let built = build_of(shelf, step, &base, &frames, job)?;
            told.built(shelf, &base, &frames, step.clock.as_ref(), &built)?;
        }
    }
    Ok(told.report())
}

/// The series that give the sides: ticks have all of them, a series of bars is of one.
///
/// # Errors
/// Where bars are of another side than is wanted.
fn bases_of_sides(shelf: &Shelf, base: &SeriesName, sides: Option<SidesWanted>) -> Result<Vec<SeriesName>> {
    let Some(sides) = sides.filter(|_| !base.frame.is_ticks()) else { return Ok(vec![base.clone()]) };
    let of = |side: &Side| -> Result<SeriesName> {
        let name = SeriesName { side: *side, ..base.clone() };
        let is_it = *side == base.side || *side == Side::Last && base.side == Side::Bid;
        if is_it {
            return Ok(base.clone());
        }
        shelf.find(&name).map(|info| info.name).map_err(|_| {
            Error::input(format!(
                "{base} are bars of the {}, and there is no {name} to build those of the {side} from; build them from ticks.",
                base.side
            ))
        })
    };
    sides.sides().iter().map(of).collect()
}

/// Builds the frames of one series.
fn build_of(
    shelf: &mut Shelf,
    step: &FramesStep,
    base: &SeriesName,
    frames: &[Frame],
    job: &Job,
) -> Result<Vec<BuiltSeries>> {
    let mut all = Vec::new();
    for (settings, frames) in by_settings(shelf, step, base, frames)? {
        let (clock, empty) = (settings.clock.as_ref(), settings.empty);
        let making = FrameSettings { clock, empty, ..FrameSettings::default() };
        all.extend(build_series(shelf, base, &frames, &settings.sides, &making, job)?);
    }
    Ok(all)
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

/// What is said of the frames that were built.
#[derive(Default)]
struct Told {
    json: Vec<Value>,
    lines: Vec<String>,
    changed: Vec<SeriesName>,
    /// What follows the lines of the series.
    doubts: Vec<String>,
    wants_person: bool,
}

impl Told {
    /// Leaves away what cannot be built of one of the series of a pattern, and says so.
    fn leave_out(&mut self, base: &SeriesName, frames: &mut Vec<Frame>) {
        let (can, cannot): (Vec<Frame>, Vec<Frame>) =
            frames.iter().partition(|to| can_build(base.frame, **to) || base.frame == **to);
        if !cannot.is_empty() {
            self.wants_person = true;
            self.doubts
                .push(format!("  ▲ of {base} there are no bars of {}: they would be finer", words(&cannot)));
        }
        *frames = can.into_iter().filter(|to| *to != base.frame).collect();
    }

    fn built(
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

    fn rebuilt(&mut self, base: &SeriesName, seed: u64, made: &RebuiltSeries) {
        let (name, e) = (&made.info.name, &made.info.edition);
        let measured = made.measured.as_ref();
        let error = measured.and_then(|m| m.error);
        self.json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": false, "partial_last": false, "rebuilt": true, "seed": seed,
            "learned_from": measured.map(|m| &m.on), "bars_measured": measured.map(|m| m.bars),
            "order_right": error.and_then(|e| e.order_right()), "off_points": error.map(|e| e.off),
            "straight_points": error.map(|e| e.straight), "range_points": error.map(|e| e.range),
        }));
        self.lines.push(format!(
            "{name}: {} ticks rebuilt from {base}, seed {seed}; they give back its bars and are no record of trading",
            e.rows
        ));
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

    fn report(mut self) -> StepReport {
        self.lines.append(&mut self.doubts);
        let report = StepReport::new(json!({ "series": self.json }), self.lines);
        StepReport { changed: self.changed, wants_person: self.wants_person, ..report }
    }
}

/// What was measured of rebuilt ticks, as `the right end first in 71 % of 20,000 bars (a coin has 50 %); …`.
pub fn error_in_words(error: &PathError) -> String {
    let order = error.order_right().map_or(String::new(), |right| {
        format!("the right end first in {:.0} % of {} bars (a coin has 50 %); ", right * 100.0, error.asked)
    });
    format!(
        "{order}{:.1} points off the real price on average, in bars of {:.1} (a straight line: {:.1})",
        error.off, error.range, error.straight
    )
}

/// Holds the longer bars that a source itself has against those built from its short ones.
fn compare_frames(shelf: &Shelf, of: &SeriesPattern, job: &Job) -> Result<StepReport> {
    let (mut json, mut lines, mut wants_person) = (Vec::new(), Vec::new(), false);
    for base in bases(shelf, of)? {
        let base = shelf.find(&base)?;
        let all = own_long_frames(shelf, &base)?;
        if all.is_empty() {
            lines.push(format!("{}: the source has no longer bars of its own", base.name));
        }
        for own in all {
            let compared = compare_frame(shelf, &base, &own, job)?;
            let decimals = own.edition.scale.price.max(base.edition.scale.price);
            wants_person |= compared.differences.iter().any(|d| is_doubtful(d.kind));
            lines.push(format!(
                "{} against bars built from {}: {} of {} equal",
                own.name, base.name, compared.equal, compared.bars
            ));
            lines.extend(
                compared.differences.iter().map(|d| format!("  {}", in_words(d, &compared, decimals))),
            );
            let kinds: Vec<Value> = compared.differences.iter().map(difference_json).collect();
            json.push(json!({
                "series": own.name, "built_from": base.name, "bars": compared.bars, "equal": compared.equal,
                "offset_minutes": compared.offset.map(|o| o / MINUTE), "differences": kinds,
            }));
        }
    }
    Ok(StepReport { wants_person, ..StepReport::new(json!({ "compared": json }), lines) })
}

/// True for what is wrong in one of both; ends and holes are as they must be.
fn is_doubtful(kind: DifferenceKind) -> bool {
    matches!(kind, DifferenceKind::Boundary | DifferenceKind::Side | DifferenceKind::Value)
}

fn difference_json(d: &Difference) -> Value {
    json!({
        "kind": d.kind.word(), "bars": d.bars, "first": rfc3339(d.first), "last": rfc3339(d.last),
        "most_points": d.most,
    })
}

fn in_words(d: &Difference, of: &FrameComparison, decimals: u8) -> String {
    let at = time::wall(d.first);
    let most = scaled(d.most, decimals);
    let mark = if is_doubtful(d.kind) { "▲" } else { "·" };
    let what = match d.kind {
        DifferenceKind::Boundary => match of.offset {
            Some(offset) => {
                format!(
                    "begin {} min from those that are built: other session days; say its clock",
                    offset / MINUTE
                )
            }
            None => "begin within those that are built: other session days or hours".to_owned(),
        },
        DifferenceKind::MissingRows => {
            format!("reach further, by {most} at most, where short bars are missing")
        }
        DifferenceKind::Side => {
            format!("lie off in all four prices, by {most} at most: they are of another side")
        }
        DifferenceKind::Partial => "are at an end of the rows and not whole".to_owned(),
        DifferenceKind::Alone => "have nothing beside them".to_owned(),
        DifferenceKind::Value => format!("have other prices, by {most} at most, and nothing explains it"),
    };
    format!("{mark} {} bars {what}; the first {at}", d.bars)
}

fn words(frames: &[Frame]) -> String {
    frames.iter().map(Frame::to_string).collect::<Vec<_>>().join(" ")
}

/// What a frame is built by.
#[derive(Clone, PartialEq)]
struct BuiltBy {
    clock: Option<Clock>,
    sides: Vec<Side>,
    empty: EmptyBars,
}

/// The frames grouped by what they are built by: what the step says, or what each was built by before, where it is to be
/// built again.
fn by_settings(
    shelf: &Shelf,
    step: &FramesStep,
    base: &SeriesName,
    frames: &[Frame],
) -> Result<Vec<(BuiltBy, Vec<Frame>)>> {
    let sides = step.side.filter(|_| base.frame.is_ticks());
    let said = BuiltBy {
        clock: step.clock.clone(),
        sides: sides.map_or_else(|| vec![base.side], |sides| sides.sides().to_vec()),
        empty: step.empty.unwrap_or_default(),
    };
    if !step.again {
        return Ok(vec![(said, frames.to_vec())]);
    }
    let mut out: Vec<(BuiltBy, Vec<Frame>)> = Vec::new();
    for frame in frames {
        let name = base.with_frame(*frame).with_built(true);
        let before = shelf.find(&name).or_else(|_| shelf.find(&base.with_frame(*frame)));
        let by = match before.map(|info| info.edition.provenance.made) {
            Ok(Made::Frames(f)) => BuiltBy {
                clock: f.clock.as_deref().map(str::parse).transpose()?,
                sides: vec![f.side],
                empty: f.empty,
            },
            _ => said.clone(),
        };
        match out.iter_mut().find(|(other, _)| *other == by) {
            Some((_, frames)) => frames.push(*frame),
            None => out.push((by, vec![*frame])),
        }
    }
    Ok(out)
}
