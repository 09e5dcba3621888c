//! Frames: which are built, stale or missing, and where the bars of a session day lie.

use stavel_core::bars::{Grid, can_build};
use stavel_core::deliver::partial_ends;
use stavel_core::model::session::SundayPart;
use stavel_core::model::time::{DAY, HOUR, date, wall};
use stavel_core::model::{Clock, Columns, Frame, SeriesName, Side, Span};
use stavel_core::store::SeriesInfo;
use stavel_work::{
    ChartRoom, ChartSource, ChartStep, ChartView, FramesStep, FramesWanted, SidesWanted, Step, bars_for_chart,
};

use super::strokes::{draw_rows, scale_of};
use super::{FactLine, Lens, frames_change, picture_of, rests_on, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, scroll, thousands};
use crate::effect::{Effect, Effects, ask, say, start, warn};
use crate::jobs::Slot;
use crate::next::Task;
use crate::theme;
use crate::view::View;

/// What can be done with frames.
#[derive(Debug, Clone, Copy)]
pub enum FramesAct {
    Build,
    BuildAll,
    Other,
    Sides,
    Compare,
}

/// The lens.
#[derive(Default)]
pub struct FramesLens {
    at: usize,
    /// Which sides of ticks are built; none means as each frame was built before, else the bid.
    sides: Option<SidesWanted>,
    /// The last bars of the window at the chosen frame.
    preview: Slot<Columns>,
}

/// Bars that are shown of the chosen frame.
const SHOWN: usize = 60;

/// Frames that are offered beside those that are built.
const OFFERED: [&str; 10] = ["1m", "5m", "15m", "30m", "1h", "4h", "9h", "1d", "1w", "1mo"];

#[derive(Clone, Copy, PartialEq, Eq)]
enum FrameState {
    Base,
    Built,
    Stale,
    Missing,
}

/// What frames are built from: the joined series, else the chosen source's shortest.
fn base<'a>(view: &View<'a>) -> Option<&'a SeriesInfo> {
    let chosen = view.selected;
    let roots: Vec<&SeriesInfo> =
        view.snapshot.roots_of(view.instrument_name()).filter(|s| !s.is_afloat()).collect();
    let of_chosen = roots
        .iter()
        .find(|s| chosen.is_some_and(|c| c.source == s.name.source && s.edition.provenance.made.is_joined()));
    let joined = of_chosen.or_else(|| roots.iter().find(|s| s.edition.provenance.made.is_joined()));
    joined.or_else(|| roots.iter().find(|s| Some(&s.name) == chosen)).or(roots.first()).copied()
}

fn rows<'a>(
    view: &View<'a>,
    base: &'a SeriesInfo,
    side: Side,
) -> Vec<(Frame, FrameState, Option<&'a SeriesInfo>)> {
    let of_source = view
        .snapshot
        .series_of(&base.name.instrument)
        .filter(|s| s.name.source == base.name.source && s.edition.provenance.made.is_framed());
    let mut all: Vec<Frame> = OFFERED.iter().filter_map(|f| f.parse().ok()).collect();
    all.extend(of_source.map(|s| s.name.frame));
    all.sort_by_key(|f| (f.length(), *f));
    all.dedup();
    all.into_iter()
        .filter(|f| *f == base.name.frame || can_build(base.name.frame, *f))
        .map(|frame| {
            let name = SeriesName { side, ..base.name.with_frame(frame) };
            let own = view.snapshot.find(&name);
            let built = view.snapshot.find(&name.with_built(true));
            // Where a source has bars of its own at a frame, the built ones are beside them.
            let built = built.or(own.filter(|s| s.edition.provenance.made.is_framed()));
            let is_of_base =
                |s: &SeriesInfo| s.edition.provenance.parents().any(|(id, _)| id == base.edition.id);
            let standing = match built {
                _ if frame == base.name.frame => FrameState::Base,
                Some(s) if is_of_base(s) && view.snapshot.stale(s).is_none() => FrameState::Built,
                Some(_) => FrameState::Stale,
                None => FrameState::Missing,
            };
            let there = if standing == FrameState::Base { Some(base) } else { built };
            (frame, standing, there)
        })
        .collect()
}

impl Lens for FramesLens {
    type Act = FramesAct;
    const WORD: &'static str = "frames";
    const ABOUT: &'static str = "frames: bars of other lengths";
    const ROWS: &'static [TableRow<FramesAct>] = &[
        TableRow::new(FramesAct::BuildAll, "a", "build all", "build every frame that is missing or stale")
            .command("stavel frames SERIES FRAME..."),
        TableRow::new(FramesAct::Build, "Enter", "build", "build the chosen frame")
            .command("stavel frames SERIES FRAME..."),
        TableRow::new(
            FramesAct::Other,
            "o",
            "other",
            "build other frames: any length (45m 2h), bars of counts (500t 1000v 25r), a frame set, ticks of bars",
        )
        .command("stavel frames SERIES FRAME..."),
        TableRow::new(FramesAct::Sides, "s", "side", "build of ticks the bid, the ask, the middle, or bid and ask at once")
            .command("stavel frames SERIES FRAME..."),
        TableRow::new(
            FramesAct::Compare,
            "c",
            "compare",
            "hold the longer bars that the source itself has against those that are built",
        )
        .command("stavel frames SERIES"),
    ];

    fn act(&mut self, act: FramesAct, view: &View<'_>) -> Effects {
        let Some(base) = base(view) else { return say("there is no series to build frames of") };
        let rows = rows(view, base, self.side(base));
        let frames: Vec<Frame> = match act {
            FramesAct::Other => {
                return ask(
                    "frames to build: 45m 2h 3d, of ticks 500t 1000v 25r, of bars ticks, or a frame set",
                    "",
                );
            }
            FramesAct::Sides => return self.next_side(base),
            FramesAct::Compare => {
                let step = FramesStep { compare: true, ..FramesStep::of(base.name.clone(), Vec::new()) };
                return start(Step::Frames(step));
            }
            FramesAct::Build => {
                rows.get(self.at).filter(|r| r.1 != FrameState::Base).map(|r| r.0).into_iter().collect()
            }
            FramesAct::BuildAll => rows
                .iter()
                .filter(|r| matches!(r.1, FrameState::Missing | FrameState::Stale))
                .map(|r| r.0)
                .collect(),
        };
        if frames.is_empty() {
            return say("nothing to build: every frame is up to date");
        }
        self.build(base, frames.into_iter().map(FramesWanted::One).collect())
    }

    fn due(&self, view: &View<'_>) -> Option<(String, FramesAct)> {
        let is_next = view.next().task == Task::Frames;
        is_next.then(|| ("build every missing or stale frame".into(), FramesAct::BuildAll))
    }

    /// Frames that were typed.
    fn answer(&mut self, typed: &str, view: &View<'_>) -> Effects {
        let Some(base) = base(view) else { return Effects::new() };
        let words = typed.split([' ', ',']).filter(|w| !w.is_empty());
        let frames: Vec<FramesWanted> = match words.map(str::parse).collect() {
            Ok(frames) => frames,
            Err(err) => return vec![Effect::Complain(err)],
        };
        let cannot = |wanted: &&FramesWanted| match wanted {
            FramesWanted::One(frame) if frame.is_ticks() => base.name.frame.is_ticks(),
            FramesWanted::One(frame) => !can_build(base.name.frame, *frame),
            FramesWanted::Usual | FramesWanted::Set(_) => false,
        };
        if let Some(frame) = frames.iter().find(cannot) {
            return warn(format!("bars of {frame} cannot be made of {}", base.name.frame_text()));
        }
        if frames.is_empty() {
            return Effects::new();
        }
        self.build(base, frames)
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        self.at = step(self.at, base(view).map_or(0, |base| rows(view, base, self.side(base)).len()), down);
        Effects::new()
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.preview.collect();
        Effects::new()
    }

    /// Has the last bars at the chosen frame built, from the rows of the window that they take.
    fn want(&mut self, view: &View<'_>) -> Effects {
        let Some(base) = base(view).cloned() else { return Effects::new() };
        let Some(frame) = rows(view, &base, self.side(&base)).get(self.at).map(|r| r.0) else {
            return Effects::new();
        };
        let end = view.window.to.min(base.edition.last + 1).max(base.edition.first + 1);
        // Weekends take no bars: twice the time is enough; of bars that are counted, two days.
        let reach = if frame.is_counted() { 2 * DAY } else { frame.length() * SHOWN as i64 * 2 };
        let window = Span::new(end - reach, end);
        let key = format!("{} {frame} {window:?}", base.edition.id);
        self.preview.want(key, view.threads, move |shelf, job| {
            let room = ChartRoom::Frame(frame);
            let bars = bars_for_chart(shelf, ChartSource::rows(&base), window, room, 0, job)?.bars;
            Ok(bars.rows(bars.len().saturating_sub(SHOWN)..bars.len()))
        });
        Effects::new()
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        let (from, to) = (Some(wall(view.window.from)), Some(wall(view.window.to)));
        Some(ChartStep { from, to, ..picture_of(view, ChartView::Price)? })
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(base) = base(view) else {
            canvas.put(2, 1, "No series with a known clock to build frames of.", theme::words());
            return;
        };
        let side =
            if base.name.frame.is_ticks() { format!("   {}", self.side_in_words()) } else { String::new() };
        let x = canvas.put(1, 0, &format!("frames of {}", base.name), theme::words());
        canvas.put(x, 0, &side, theme::faint());
        canvas.put(1, 2, "frame", theme::faint());
        canvas.put(11, 2, "state", theme::faint());
        canvas.put_right(34, 2, "bars", theme::faint());
        canvas.put(38, 2, "first", theme::faint());
        canvas.put(57, 2, "last", theme::faint());
        let rows = rows(view, base, self.side(base));
        // The ruler below has its place; a longer list scrolls.
        let lines = rows.len().min(usize::from(canvas.height().saturating_sub(RULER + 4)).max(10));
        let top = scroll(self.at, lines, rows.len());
        for (i, (frame, standing, there)) in rows.iter().enumerate().skip(top).take(lines) {
            let y = (i - top) as u16 + 3;
            let (mark, word, colour) = match standing {
                FrameState::Base => ("●", "source", theme::source(0)),
                FrameState::Built => ("●", "built", theme::GOOD),
                FrameState::Stale => ("▲", "stale", theme::RISING),
                FrameState::Missing => ("○", "missing", theme::FAINT),
            };
            let style = if i == self.at { theme::chosen() } else { theme::words() };
            canvas.put(1, y, &format!("{:<8}", frame.to_string()), style);
            canvas.put(11, y, &format!("{mark} {word}"), theme::words().fg(colour));
            if let Some(info) = there {
                canvas.put_right(34, y, &thousands(info.edition.rows), theme::words());
                let (first, last) = partial_ends(info);
                let partial = |is_partial| if is_partial { "◐" } else { "" };
                canvas.put(38, y, &wall(info.edition.first), theme::faint());
                canvas.put(55, y, partial(first), theme::words());
                canvas.put(57, y, &wall(info.edition.last), theme::faint());
                canvas.put(74, y, partial(last), theme::words());
            }
        }
        if canvas.width() > LIST + 24 {
            let (width, height) = (canvas.width() - LIST - 1, lines as u16 + 3);
            let frame = rows.get(self.at).map(|r| r.0);
            self.draw_preview(frame, canvas.part(LIST, 0, width, height));
        }
        let y = lines as u16 + 4;
        let (width, height) = (canvas.width(), canvas.height().saturating_sub(y));
        draw_ruler(view, base, rows.get(self.at).map(|r| r.0), canvas.part(0, y, width, height));
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(base) = base(view) else { return Vec::new() };
        let rows = rows(view, base, self.side(base));
        let due = rows.iter().filter(|r| matches!(r.1, FrameState::Missing | FrameState::Stale)).count();
        let mut out = vec![FactLine::heading("frames"), FactLine::Pair("built from", base.name.short())];
        if let Some(instrument) = view.snapshot.instrument(&base.name.instrument) {
            let session = &instrument.sheet.session;
            out.push(FactLine::words(session.clock.in_words()));
            out.extend(rests_on(instrument, &["clock", "hours"]));
            if session.has_sunday_part() {
                out.extend(rests_on(instrument, &["sunday"]));
                out.push(FactLine::words(match session.sunday {
                    SundayPart::Own => "a Sunday's hours are a day of their own",
                    SundayPart::Monday => "a Sunday's hours are Monday's",
                }));
            }
        }
        out.push(FactLine::Gap);
        out.push(FactLine::words("Bars count from the session day's start and begin anew with it; they are stamped with their opening time."));
        let is_partial =
            |there: &Option<&SeriesInfo>| there.is_some_and(|s| partial_ends(s) != (false, false));
        if rows.iter().any(|(_, _, there)| is_partial(there)) {
            out.push(FactLine::words(
                "◐ partial: its rows begin, or may end, within that bar; deliver can leave it away (k)",
            ));
        }
        out.push(FactLine::Gap);
        out.push(FactLine::words(if due == 0 {
            "all up to date".to_owned()
        } else {
            match due {
                1 => "a builds the one that is missing or stale".to_owned(),
                due => format!("a builds the {due} that are missing or stale"),
            }
        }));
        out
    }
}

/// Lines of the ruler.
const RULER: u16 = 9;

/// Columns of the list of frames.
const LIST: u16 = 76;

impl FramesLens {
    /// The side whose frames are listed.
    fn side(&self, base: &SeriesInfo) -> Side {
        let chosen = self.sides.filter(|_| base.name.frame.is_ticks());
        chosen.and_then(|sides| sides.sides().first().copied()).unwrap_or(base.name.side)
    }

    fn side_in_words(&self) -> &'static str {
        match self.sides {
            None => "bid, or as it was built before",
            Some(SidesWanted::One(Side::Ask)) => "ask",
            Some(SidesWanted::One(Side::Mid)) => "the middle of bid and ask",
            Some(SidesWanted::One(_)) => "bid",
            Some(SidesWanted::Both) => "bid and ask at once",
        }
    }

    fn next_side(&mut self, base: &SeriesInfo) -> Effects {
        if !base.name.frame.is_ticks() {
            return say(format!(
                "bars have one side; only ticks have several, and {} has bars",
                base.name.short()
            ));
        }
        self.sides = match self.sides {
            None => Some(SidesWanted::One(Side::Ask)),
            Some(SidesWanted::One(Side::Ask)) => Some(SidesWanted::One(Side::Mid)),
            Some(SidesWanted::One(_)) => Some(SidesWanted::Both),
            Some(SidesWanted::Both) => None,
        };
        say(format!("frames are built of the {}", self.side_in_words()))
    }

    /// Builds frames. What is there stays as it was meant: on its clock, of its side, filled or not; unless a side was
    /// chosen.
    fn build(&self, base: &SeriesInfo, frames: Vec<FramesWanted>) -> Effects {
        let side = self.sides.filter(|_| base.name.frame.is_ticks());
        let is_rebuild = frames.contains(&FramesWanted::One(Frame::Ticks));
        let again = side.is_none() && !is_rebuild;
        start(Step::Frames(FramesStep { again, side, ..FramesStep::of(base.name.clone(), frames) }))
    }

    /// What the chosen frame looks like at the end of the window.
    fn draw_preview(&self, frame: Option<Frame>, mut canvas: Canvas<'_>) {
        let (Some(frame), Some(bars)) = (frame, self.preview.get()) else { return };
        // As many as are seen one by one.
        let shown = bars.len().min(canvas.width() as usize / 2);
        let bars = &bars.rows(bars.len() - shown..bars.len());
        let (Some(first), Some(last)) = (bars.time.first(), bars.time.last()) else {
            canvas.put(0, 0, "no rows in the window", theme::faint());
            return;
        };
        let title = format!("the last {} bars of {frame}", bars.len());
        canvas.put(0, 0, &title, theme::words());
        let (width, height) = (canvas.width(), canvas.height().saturating_sub(2));
        // The last of bars that are counted lasts as long as one on average.
        let mean = (last - first) / bars.len().max(1) as i64;
        let window = Span::new(*first, last + if frame.is_counted() { mean.max(1) } else { frame.length() });
        let scale = scale_of(bars, &Columns::empty(&bars.fields, bars.scale));
        draw_rows(bars, window, scale, theme::source(0), canvas.part(0, 1, width, height));
        let (from, to) = (wall(*first), wall(*last));
        canvas.put(0, height + 1, &from, theme::faint());
        canvas.put_right(width, height + 1, &to, theme::faint());
    }
}

/// A day of the window with the bars of each frame on it.
fn draw_ruler(view: &View<'_>, base: &SeriesInfo, chosen: Option<Frame>, mut canvas: Canvas<'_>) {
    let Some(instrument) = view.snapshot.instrument(&base.name.instrument) else { return };
    let session = &instrument.sheet.session;
    let middle = view.window.from + view.window.length() / 2;
    let mut day = session.clock.day_of(middle.clamp(base.edition.first, base.edition.last));
    while !session.opens_on(day) && day > session.clock.day_of(base.edition.first) - 7 {
        day -= 1;
    }
    let whole = session.day_span(day);
    canvas.rule(0, theme::rule());
    let title = format!("session day {} in {}: where bars begin", date(day), session.clock);
    canvas.put(1, 1, &title, theme::words());
    let left = 8u16;
    let columns = canvas.width().saturating_sub(left + 2).min(if canvas.width() > 110 { 144 } else { 96 });
    let x_of = |t: i64| left + ((t - whole.from) as f64 / whole.length() as f64 * columns as f64) as u16;
    for (y, name, clock) in [(2, "wall", session.clock.clone()), (3, "UTC", Clock::utc())] {
        canvas.put(1, y, name, theme::faint());
        let mut t = whole.from;
        while t < whole.to {
            let hour = clock.to_wall(t).rem_euclid(DAY) / HOUR;
            canvas.put(x_of(t), y, &format!("{hour:02}"), theme::faint());
            t += 2 * HOUR;
        }
    }
    let frames = ["30m", "1h", "4h", "9h", "1d"].iter().filter_map(|f| f.parse::<Frame>().ok());
    let mut y = 4;
    for frame in chosen.into_iter().chain(frames.filter(|f| Some(*f) != chosen)) {
        if !can_build(base.name.frame, frame) || frame.length() < 30 * 60_000_000 || y >= canvas.height() {
            continue;
        }
        let style = if Some(frame) == chosen { theme::strong() } else { theme::words() };
        canvas.put(1, y, &frame.to_string(), style);
        for (i, bar) in Grid::new(frame, session).bars_in(Span::new(whole.from, whole.to)).iter().enumerate()
        {
            let (a, b) = (x_of(bar.from.max(whole.from)), x_of(bar.to.min(whole.to)));
            let colour = if i % 2 == 0 { theme::RISING } else { theme::FALLING };
            let inside = (b - a).saturating_sub(1) as usize;
            canvas.put(a, y, &format!("▏{}", "▬".repeat(inside)), theme::words().fg(colour));
        }
        y += 1;
    }
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(y + 1));
    let frame = chosen.filter(|f| *f != base.name.frame).unwrap_or(Frame::D1);
    frames_change::draw(session, day, frame, canvas.part(0, y + 1, width, height));
}
