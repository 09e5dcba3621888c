//! Charts of series on a shelf.

use serde_json::json;
use stavel_core::bars::{Builder, can_build};
use stavel_core::frames::{self, FrameSettings};
use stavel_core::job::Job;
use stavel_core::model::time::{self, DAY, Micros, rfc3339};
use stavel_core::model::{Clock, Columns, Frame, Session, Side, Span};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use stavel_draw::{PictureLook, SceneRequest, Sheet, scene};

use crate::chart_marks::OnBars;
use crate::chart_views::draw_view;
use crate::picture_file::write_picture;
use crate::report::StepReport;
use crate::span::{rows_within, span_between};
use crate::step::ChartStep;

/// Most bars in a file's chart; more would be thinner than a line.
const MOST_BARS: usize = 900;

/// How many bars a chart has room for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChartRoom {
    /// At most so many.
    AtMost(usize),
    /// So many columns of a screen, which the bars are to fill, each one to six wide.
    Columns(usize),
    /// The same, where time without rows takes columns too.
    ColumnsOfTime(usize),
    /// As many as there are in a frame.
    Frame(Frame),
}

/// Bars to be drawn.
#[derive(Debug, Clone, Default)]
pub struct ChartBars {
    pub frame: Option<Frame>,
    pub bars: Columns,
    /// So many of the first lie before the span.
    pub lead: usize,
}

impl ChartRoom {
    /// How good it is to draw so many bars in it; none where they do not fit.
    fn fit(self, bars: f64) -> Option<f64> {
        match self {
            ChartRoom::Frame(_) => Some(bars),
            ChartRoom::AtMost(most) => (bars <= most as f64).then_some(bars),
            ChartRoom::Columns(columns) | ChartRoom::ColumnsOfTime(columns) => {
                let each = columns.max(1) as f64 / bars.max(1.0);
                // Between one column and two some bars would touch and others not.
                let uneven = if (1.15..1.85).contains(&each) { 0.5 } else { 0.0 };
                (each >= 1.0).then(|| -(each / BEST).ln().abs() - uneven)
            }
        }
    }
}

/// The columns of a bar with the gap beside it that are read best.
const BEST: f64 = 2.3;

/// Bars of a whole series in memory, so that a chart of years reads no file at all.
#[derive(Debug)]
pub struct KeptBars {
    /// Of the level that they are of.
    frame: Frame,
    bars: Columns,
    /// The same by session days.
    days: Columns,
    /// Decides where its longer bars begin.
    session: Session,
    /// The time of the last row.
    last: Micros,
}

/// More rows than this take longer to read than a person waits for the next picture.
const MANY_ROWS: f64 = 5e5;

impl KeptBars {
    /// True where a chart of a window reads so many rows that their bars are better kept.
    pub fn pay_for(info: &SeriesInfo, window: Span) -> bool {
        rows_within(info, window) > MANY_ROWS && can_build(info.name.frame, Frame::D1) && !info.is_afloat()
    }

    /// Reads the levels of the whole series, and makes those that are not there yet.
    ///
    /// # Errors
    /// Where it cannot be read, or the person stops it.
    pub fn read(shelf: &Shelf, info: &SeriesInfo, job: &Job) -> Result<KeptBars> {
        job.begin(format!("reading {}", info.name), info.edition.rows);
        let session = shelf.instrument(&info.name.instrument)?.sheet.session;
        let mut levels = shelf.levels(info)?;
        levels.make_missing(job)?;
        let whole = Span::new(info.edition.first, info.edition.last + 1);
        let last = info.edition.last;
        let Some(frame) = levels.longest_for(Frame::D1, &session, whole) else {
            let days = frames::build_bars(shelf, info, Frame::D1, &FrameSettings::default(), job)?.bars;
            return Ok(KeptBars { frame: Frame::D1, bars: days.clone(), days, session, last });
        };
        let bars = levels.bars(frame, whole, job)?;
        let days = longer(&bars, frame, Frame::D1, &session)?;
        Ok(KeptBars { frame, bars, days, session, last })
    }

    /// Bars of a longer frame in a span; none where they cannot be made of those kept.
    fn bars(&self, frame: Frame, span: Span) -> Result<Option<Columns>> {
        // Also the bar that the span begins in.
        let within = |bars: &Columns, of: Frame| {
            let range = bars.range_of(span);
            let before = range.start.checked_sub(1).filter(|at| bars.time[*at] + of.length() > span.from);
            bars.rows(before.unwrap_or(range.start)..range.end)
        };
        if frame != Frame::D1 && !can_build(Frame::D1, frame) {
            let can = can_build(self.frame, frame);
            return can
                .then(|| longer(&within(&self.bars, self.frame), self.frame, frame, &self.session))
                .transpose();
        }
        let mut days = within(&self.days, Frame::D1);
        // Of the day that the span ends in only what lies before its end, where more of it is there.
        let next = self.days.time.partition_point(|t| *t < span.to);
        let is_cut = span.to <= self.last && self.days.time.get(next) != Some(&span.to);
        if let (Some(last), true) = (days.time.last().copied(), is_cut) {
            if self.frame == Frame::D1 {
                return Ok(None);
            }
            let mut rest = self.bars.rows(self.bars.range_of(Span::new(last, span.to)));
            rest = longer(&rest, self.frame, Frame::D1, &self.session)?;
            days = days.rows(0..days.len() - 1);
            days.append(&rest);
        }
        if frame == Frame::D1 {
            Ok(Some(days))
        } else {
            longer(&days, Frame::D1, frame, &self.session).map(Some)
        }
    }
}

/// Longer bars.
fn longer(bars: &Columns, from: Frame, to: Frame, session: &Session) -> Result<Columns> {
    let mut builder = Builder::new(from, to, Side::Bid, &bars.fields, bars.scale, session)?;
    builder.push(bars);
    Ok(builder.finish().bars)
}

/// Bars out of the levels of a series, where this is faster than reading its rows.
fn bars_of_levels(
    shelf: &Shelf,
    info: &SeriesInfo,
    frame: Frame,
    span: Span,
    job: &Job,
) -> Result<Option<Columns>> {
    let mut session = shelf.instrument(&info.name.instrument)?.sheet.session;
    if info.is_afloat() {
        session.clock = Clock::utc();
    }
    let levels = shelf.levels(info)?;
    let Some(level) = levels.best_for(frame, &session, span) else { return Ok(None) };
    Ok(Some(longer(&levels.bars(level, span, job)?, level, frame, &session)?))
}

/// What a chart is drawn from.
#[derive(Clone, Copy)]
pub struct ChartSource<'a> {
    pub series: &'a SeriesInfo,
    /// Bars of the same edition.
    pub kept: Option<&'a KeptBars>,
}

impl<'a> ChartSource<'a> {
    /// The rows of a series.
    pub fn rows(series: &'a SeriesInfo) -> ChartSource<'a> {
        ChartSource { series, kept: None }
    }
}

/// Bars of a series in a span, in the frame that fits a room best; `before` more bars stand before the span where
/// there are so many.
///
/// # Errors
/// Where the series cannot be read.
pub fn bars_for_chart(
    shelf: &Shelf,
    source: ChartSource<'_>,
    span: Span,
    room: ChartRoom,
    before: usize,
    job: &Job,
) -> Result<ChartBars> {
    let info = source.series;
    let seen = Span::new(info.edition.first, info.edition.last + 1);
    let Some(span) = seen.overlap(&span) else { return Ok(ChartBars::default()) };
    let mut open_share = open_share_of(info, span, room);
    let mut frame = frame_for(info, span, room, open_share);
    // Weekends and holes have no bars: more time is read than the bars alone would take.
    let reach = (before as f64 * frame.length() as f64 / open_share * 1.5) as Micros + 4 * DAY;
    let from = if before == 0 { span.from } else { (span.from - reach).max(seen.from) };
    let mut bars = bars_at(shelf, source, frame, Span::new(from, span.to), job)?;
    // The first bar of all may begin before the first row.
    let before_span = |bars: &Columns| match span.from == seen.from {
        true => 0,
        false => bars.time.partition_point(|t| *t < span.from),
    };
    let mut first = before_span(&bars);
    // Where rows lie closer together than in the whole series, there are more bars than the room has columns.
    if let ChartRoom::Columns(columns) = room
        && bars.len() - first > columns
    {
        open_share = (bars.len() - first) as f64 * frame.length() as f64 / span.length() as f64;
        frame = frame_for(info, span, room, open_share);
        bars = bars_at(shelf, source, frame, Span::new(from, span.to), job)?;
        first = before_span(&bars);
    }
    let lead = first.min(before);
    Ok(ChartBars { frame: Some(frame), bars: bars.rows(first - lead..bars.len()), lead })
}

/// The share of a span that has bars: markets rest on weekends and nights, so what there is counts, not what the clock
/// says.
fn open_share_of(info: &SeriesInfo, span: Span, room: ChartRoom) -> f64 {
    if matches!(room, ChartRoom::ColumnsOfTime(_)) {
        return 1.0;
    }
    if info.name.frame.is_ticks() {
        return TICKS_OPEN;
    }
    let whole = (info.edition.last + 1 - info.edition.first) as f64;
    let rows = info.edition.rows as f64 * span.length() as f64 / whole;
    (rows * info.name.frame.length() as f64 / span.length() as f64).clamp(0.01, 1.0)
}

/// The frame that fits a room best, where so much of the span has bars.
fn frame_for(info: &SeriesInfo, span: Span, room: ChartRoom, open_share: f64) -> Frame {
    if let ChartRoom::Frame(frame) = room {
        return frame;
    }
    let usual = Frame::CHARTED.iter().filter_map(|f| f.parse::<Frame>().ok());
    let framed = usual.filter(|f| can_build(info.name.frame, *f));
    let itself = info.name.frame.is_bars().then_some(info.name.frame);
    let choices = itself
        .into_iter()
        .chain(framed)
        .filter_map(|f| Some((f, room.fit(span.length() as f64 * open_share / f.length() as f64)?)));
    let best = choices.reduce(|a, b| if b.1 > a.1 { b } else { a }).map(|(f, _)| f);
    best.or(itself).unwrap_or(Frame::D1)
}

/// The share of the week in which currencies trade.
const TICKS_OPEN: f64 = 0.71;

/// Draws a chart of a series into a file.
///
/// # Errors
/// Where there is nothing to draw in the span, or the file cannot be written.
pub fn draw_chart(shelf: &Shelf, step: &ChartStep, job: &Job) -> Result<StepReport> {
    let look = PictureLook { ground: step.ground, size: size_of(step)? };
    if let Some(report) = draw_view(shelf, step, look, job)? {
        return Ok(report);
    }
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let info = shelf.find(&step.series)?;
    job.begin(format!("chart {}", step.series), info.edition.rows);
    let before = step.ma.unwrap_or_default();
    let ChartBars { frame, bars, lead } =
        bars_for_chart(shelf, ChartSource::rows(&info), span, ChartRoom::AtMost(MOST_BARS), before, job)?;
    let (Some(frame), Some(first), Some(last)) = (frame, bars.time.get(lead), bars.time.last().copied())
    else {
        return Err(Error::input(format!(
            "{} has nothing to draw in that span; it reaches from {} to {}.",
            step.series,
            rfc3339(info.edition.first),
            rfc3339(info.edition.last)
        )));
    };
    let drawn = Span::new(*first, (last + frame.length().max(1)).min(span.to));
    let other = second_series(shelf, step, &info, frame, drawn, job)?;
    // Prices of another instrument have no place on its scale.
    let is_other = step.with.as_ref().is_some_and(|with| with.instrument != step.series.instrument);
    let is_beside = step.beside || is_other;
    let clock = shelf.instrument(&step.series.instrument)?.sheet.session.clock;
    let on_bars = OnBars::of(shelf, step, &info, (frame, drawn), job)?;
    let request = SceneRequest {
        shades: &on_bars.shades,
        marks: &on_bars.marks,
        drawings: &on_bars.drawings,
        deals: &on_bars.deals,
        is_beside,
        style: step.style,
        is_log: step.ratio,
        has_ranges: step.ranges,
        title: format!("{}  {frame}  {} … {}", step.series, time::wall(*first), time::wall(last)),
        bars: &bars,
        with: other.as_ref().map(|(n, c)| (n.clone(), c)),
        average: step.ma,
        lead,
        ..SceneRequest::of(&bars, &clock)
    };
    let scene = scene(&request);
    let bytes = write_picture(&Sheet { scene: &scene, look }, &step.out)?;
    let json = json!({"path": step.out, "series": step.series, "frame": frame, "bars": scene.times.len(), "bytes": bytes});
    let line = format!("{}: {} bars of {frame}, {bytes} bytes", step.out.display(), scene.times.len());
    let mut lines = vec![line];
    if is_other && !step.beside {
        lines.push("  The second series is of another instrument, and has a pane of its own.".into());
    }
    lines.extend(on_bars.remarks);
    if step.ratio && !scene.panes.iter().any(|pane| pane.is_log) {
        lines.push("  Prices of zero and below have no ratios, so equal heights are equal distances.".into());
    }
    let wants_person = on_bars.wants_person;
    Ok(StepReport { wants_person, files: vec![step.out.clone()], ..StepReport::new(json, lines) })
}

/// The bars of the second series of a step, with its name.
fn second_series(
    shelf: &Shelf,
    step: &ChartStep,
    first: &SeriesInfo,
    frame: Frame,
    span: Span,
    job: &Job,
) -> Result<Option<(String, Columns)>> {
    let Some(name) = &step.with else { return Ok(None) };
    let info = shelf.find(name)?;
    if info.is_afloat() != first.is_afloat() {
        let afloat = if info.is_afloat() { name } else { &step.series };
        return Err(Error::input(format!(
            "{afloat} is afloat: its times are as written, and have no place beside those of the other; align it first."
        )));
    }
    Ok(Some((name.to_string(), bars_at(shelf, ChartSource::rows(&info), frame, span, job)?)))
}

/// The size that a step says, in points.
fn size_of(step: &ChartStep) -> Result<(u32, u32)> {
    let Some(text) = &step.size else { return Ok(PictureLook::default().size) };
    let bad = || {
        Error::arguments(format!(
            "'{text}' is no size; write width and height from 300 to 10000 points, as 1200x720."
        ))
    };
    let (width, height) = text.split_once('x').ok_or_else(bad)?;
    let side = |text: &str| text.trim().parse::<u32>().ok().filter(|side| (300..=10_000).contains(side));
    Ok((side(width).ok_or_else(bad)?, side(height).ok_or_else(bad)?))
}

/// Bars of a series at a frame, built where it has another.
fn bars_at(shelf: &Shelf, source: ChartSource<'_>, frame: Frame, span: Span, job: &Job) -> Result<Columns> {
    if let Some(kept) = source.kept
        && let Some(bars) = kept.bars(frame, span)?
    {
        return Ok(bars);
    }
    let info = source.series;
    if info.name.frame == frame {
        return shelf.read(&info.edition, span);
    }
    if let Some(bars) = bars_of_levels(shelf, info, frame, span, job)? {
        return Ok(bars);
    }
    if info.is_afloat() {
        // Days of an unknown clock: bars are cut on the written wall, as if it were UTC.
        let utc = Clock::utc();
        let mut as_written = info.clone();
        as_written.edition.clock = Some(utc.clone());
        let making = FrameSettings { clock: Some(&utc), span, ..FrameSettings::default() };
        return Ok(frames::build_bars(shelf, &as_written, frame, &making, job)?.bars);
    }
    let making = FrameSettings { span, ..FrameSettings::default() };
    Ok(frames::build_bars(shelf, info, frame, &making, job)?.bars)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_size_is_two_numbers_of_points() {
        let of = |text: &str| {
            let step = ChartStep::of("NOKSEK@quill:1m".parse().unwrap(), "x.svg".into());
            size_of(&ChartStep { size: Some(text.into()), ..step })
        };
        assert_eq!(of("1600x900").unwrap(), (1600, 900));
        for bad in ["1600", "x", "1600x", "100x900", "1600x90000", "-1x-1"] {
            assert!(of(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn bars_fill_the_room_in_widths_that_can_be_read() {
        // Bars of two or three columns are best; those that touch are better than those that do so now and then.
        let room = ChartRoom::Columns(120);
        let fit = |bars: f64| room.fit(bars);
        assert!(
            fit(52.0) > fit(40.0)
                && fit(40.0) > fit(118.0)
                && fit(118.0) > fit(80.0)
                && fit(40.0) > fit(10.0)
        );
        assert_eq!((fit(121.0), ChartRoom::AtMost(900).fit(901.0)), (None, None));
        // A chart in a file has all the bars it may.
        assert!(ChartRoom::AtMost(900).fit(890.0) > ChartRoom::AtMost(900).fit(500.0));
        for bars in 20..=120 {
            assert!(fit(f64::from(bars)).is_some(), "{bars}");
        }
    }
}
