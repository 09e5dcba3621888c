//! The bars of charts: of which frame they are, and where they are read from.

use stavel_core::Result;
use stavel_core::bars::{Builder, can_build};
use stavel_core::frames::{self, FrameSettings};
use stavel_core::job::Job;
use stavel_core::model::time::{DAY, Micros};
use stavel_core::model::{Clock, Columns, Frame, Session, Side, Span};
use stavel_core::store::{Levels, SeriesInfo, Shelf};

use crate::span::rows_within;

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
    levels: Levels,
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
            return Ok(KeptBars { frame: Frame::D1, bars: days.clone(), days, session, last, levels });
        };
        let bars = levels.bars(frame, whole, job)?;
        let days = longer(&bars, frame, Frame::D1, &session)?;
        Ok(KeptBars { frame, bars, days, session, last, levels })
    }

    /// Bars of a longer frame in a span; none where they cannot be made of those kept.
    ///
    /// # Errors
    /// Where the rows that the end of the span cuts off from a bar cannot be read.
    fn bars(&self, frame: Frame, span: Span, job: &Job) -> Result<Option<Columns>> {
        if frame != Frame::D1 && !can_build(Frame::D1, frame) {
            if !can_build(self.frame, frame) {
                return Ok(None);
            }
            let bars = self.level_in(span, job)?;
            return longer(&bars, self.frame, frame, &self.session).map(Some);
        }
        // The days that begin in the span, and the one that it begins in.
        let range = self.days.range_of(span);
        let before = range.start.checked_sub(1).filter(|at| self.days.time[*at] + DAY > span.from);
        let mut days = self.days.rows(before.unwrap_or(range.start)..range.end);
        // Of the day that the span ends in only what lies before its end, where more of it is there.
        let next = self.days.time.partition_point(|t| *t < span.to);
        let is_cut = span.to <= self.last && self.days.time.get(next) != Some(&span.to);
        if let (Some(last), true) = (days.time.last().copied(), is_cut) {
            if self.frame == Frame::D1 {
                return Ok(None);
            }
            // Rows from before its opening may be in it.
            let rest = self.level_in(Span::new(last - DAY, span.to), job)?;
            let rest = longer(&rest, self.frame, Frame::D1, &self.session)?;
            days = days.rows(0..days.len() - 1);
            days.append(&rest.rows(rest.time.partition_point(|t| *t < last)..rest.len()));
        }
        if frame == Frame::D1 {
            return Ok(Some(days));
        }
        longer(&days, Frame::D1, frame, &self.session).map(Some)
    }

    /// The bars of the level in a span; of the last only what lies before its end.
    fn level_in(&self, span: Span, job: &Job) -> Result<Columns> {
        let (whole, cut) = self.levels.whole_and_cut(self.frame, span);
        let mut bars = self.bars.rows(self.bars.range_of(whole));
        bars.append(&self.levels.bars_of_rows(self.frame, cut, job)?);
        Ok(bars)
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

/// Bars of a series at a frame, built where it has another.
pub fn bars_at(
    shelf: &Shelf,
    source: ChartSource<'_>,
    frame: Frame,
    span: Span,
    job: &Job,
) -> Result<Columns> {
    if let Some(kept) = source.kept
        && let Some(bars) = kept.bars(frame, span, job)?
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
