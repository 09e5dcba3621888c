//! Frames: which are built, stale or missing, and where the bars of a session day lie.

use stavel_core::frames::{Grid, can_build};
use stavel_core::model::time::{DAY, HOUR, date, wall};
use stavel_core::model::{Clock, Frame, Span};
use stavel_core::store::SeriesInfo;
use stavel_work::{FramesStep, Step};

use super::{Fact, rests_on, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::{Canvas, thousands};
use crate::theme;

#[derive(Default)]
pub struct State {
    at: usize,
}

/// Frames that are offered beside those that are built.
const OFFERED: [&str; 10] = ["1m", "5m", "15m", "30m", "1h", "4h", "9h", "1d", "1w", "1mo"];

#[derive(Clone, Copy, PartialEq, Eq)]
enum Standing {
    Base,
    Built,
    Stale,
    Missing,
}

/// What frames are built from: the joined series, else the chosen source's shortest.
fn base(app: &App) -> Option<&SeriesInfo> {
    let chosen = app.selected.as_ref();
    let roots: Vec<&SeriesInfo> =
        app.snapshot.roots_of(app.instrument()).filter(|s| !s.is_afloat()).collect();
    let of_chosen = roots
        .iter()
        .find(|s| chosen.is_some_and(|c| c.source == s.name.source && s.edition.provenance.made.is_joined()));
    let joined = of_chosen.or_else(|| roots.iter().find(|s| s.edition.provenance.made.is_joined()));
    joined.or_else(|| roots.iter().find(|s| Some(&s.name) == chosen)).or(roots.first()).copied()
}

fn rows<'a>(app: &'a App, base: &'a SeriesInfo) -> Vec<(Frame, Standing, Option<&'a SeriesInfo>)> {
    let offered = OFFERED.iter().filter_map(|f| f.parse::<Frame>().ok());
    offered
        .filter(|f| *f == base.name.frame || can_build(base.name.frame, *f))
        .map(|frame| {
            let own = app.snapshot.find(&base.name.with_frame(frame));
            let built = app.snapshot.find(&base.name.with_frame(frame).with_built(true));
            // Where a source has bars of its own at a frame, the built ones are beside them.
            let built = built.or(own.filter(|s| s.edition.provenance.made.is_framed()));
            let is_of_base =
                |s: &SeriesInfo| s.edition.provenance.parents().any(|(id, _)| id == base.edition.id);
            let standing = match built {
                _ if frame == base.name.frame => Standing::Base,
                Some(s) if is_of_base(s) && app.snapshot.stale(s).is_none() => Standing::Built,
                Some(_) => Standing::Stale,
                None => Standing::Missing,
            };
            let there = if standing == Standing::Base { Some(base) } else { built };
            (frame, standing, there)
        })
        .collect()
}

pub fn act(app: &mut App, act: Act) {
    let Some(base) = base(app) else { return };
    let rows = rows(app, base);
    let frames: Vec<Frame> = match act {
        Act::Up | Act::Down => {
            app.frames.at = step(app.frames.at, rows.len(), act == Act::Down);
            return;
        }
        Act::Build => {
            rows.get(app.frames.at).filter(|r| r.1 != Standing::Base).map(|r| r.0).into_iter().collect()
        }
        Act::BuildAll => {
            let due = |r: &&(Frame, Standing, Option<&SeriesInfo>)| {
                matches!(r.1, Standing::Missing | Standing::Stale)
            };
            rows.iter().filter(due).map(|r| r.0).collect()
        }
        _ => return,
    };
    if frames.is_empty() {
        return app.say("nothing to build: every frame is up to date", Tone::Plain);
    }
    let series = base.name.clone();
    app.start(Step::Frames(FramesStep { series, frames, clock: None, side: None }));
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let Some(base) = base(app) else {
        canvas.put(2, 1, "No series with a known clock to build frames of.", theme::words());
        return;
    };
    canvas.put(1, 0, &format!("frames of {}", base.name), theme::words());
    canvas.put(1, 2, "frame", theme::faint());
    canvas.put(11, 2, "state", theme::faint());
    canvas.put_right(34, 2, "bars", theme::faint());
    canvas.put(38, 2, "first", theme::faint());
    canvas.put(57, 2, "last", theme::faint());
    let rows = rows(app, base);
    for (i, (frame, standing, there)) in rows.iter().enumerate() {
        let y = i as u16 + 3;
        let (mark, word, colour) = match standing {
            Standing::Base => ("●", "source", theme::source(0)),
            Standing::Built => ("●", "built", theme::GOOD),
            Standing::Stale => ("▲", "stale", theme::RISING),
            Standing::Missing => ("○", "missing", theme::FAINT),
        };
        let style = if i == app.frames.at { theme::chosen() } else { theme::words() };
        canvas.put(1, y, &format!("{:<8}", frame.to_string()), style);
        canvas.put(11, y, &format!("{mark} {word}"), theme::words().fg(colour));
        if let Some(info) = there {
            canvas.put_right(34, y, &thousands(info.edition.rows), theme::words());
            canvas.put(38, y, &wall(info.edition.first), theme::faint());
            canvas.put(57, y, &wall(info.edition.last), theme::faint());
        }
    }
    let y = rows.len() as u16 + 4;
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(y));
    draw_ruler(app, base, rows.get(app.frames.at).map(|r| r.0), canvas.part(0, y, width, height));
}

/// A day of the window with the bars of each frame on it.
fn draw_ruler(app: &App, base: &SeriesInfo, chosen: Option<Frame>, mut canvas: Canvas<'_>) {
    let Some(instrument) = app.snapshot.instrument(&base.name.instrument) else { return };
    let session = &instrument.sheet.session;
    let middle = app.window.from + app.window.length() / 2;
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
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(base) = base(app) else { return Vec::new() };
    let rows = rows(app, base);
    let due = rows.iter().filter(|r| matches!(r.1, Standing::Missing | Standing::Stale)).count();
    let mut out = vec![Fact::heading("frames"), Fact::Pair("built from", base.name.short())];
    if let Some(instrument) = app.snapshot.instrument(&base.name.instrument) {
        let session = &instrument.sheet.session;
        out.push(Fact::words(session.clock.in_words()));
        out.extend(rests_on(instrument, &["clock", "hours"]));
    }
    out.push(Fact::Gap);
    out.push(Fact::words("Bars count from the session day's start and begin anew with it; they are stamped with their opening time."));
    out.push(Fact::Gap);
    out.push(Fact::words(if due == 0 {
        "all up to date".to_owned()
    } else {
        format!("b builds the {due} that are missing or stale")
    }));
    out
}
