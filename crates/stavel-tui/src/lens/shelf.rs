//! The shelf: every instrument and source on one time axis.

mod history;

use std::sync::Arc;

use stavel_core::job::Job;
use stavel_core::model::time::{HOUR, date, day_of, wall};
use stavel_core::model::{Clock, Decision, Made, SeriesName, Span};
use stavel_core::store::{EditionInfo, SeriesInfo, Shelf};
use stavel_work::{ShelfStep, Step, Upkeep};

use super::{Fact, scroll, step};
use crate::act::{Act, Lens};
use crate::app::{App, Tone};
use crate::canvas::{Canvas, bytes, thousands};
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::spine;
use crate::theme;

/// What the lens remembers.
#[derive(Default)]
pub struct State {
    sort: Sort,
    filter: String,
    /// The edition chosen, while the history of a series is shown.
    pub history: Option<usize>,
    pub editions: Slot<Vec<EditionInfo>>,
    /// What the last comparison of editions gave.
    compared: Option<String>,
    /// The series that was removed last, for undo.
    pub removed: Option<SeriesName>,
    /// The series whose first edition was undone last, for redo: it is on no list.
    pub undone: Option<SeriesName>,
}

/// The order of the list.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Sort {
    #[default]
    Name,
    Size,
    Changed,
    Depth,
}

impl Sort {
    fn next(self) -> (Sort, &'static str) {
        match self {
            Sort::Name => (Sort::Size, "the largest first"),
            Sort::Size => (Sort::Changed, "the last changed first"),
            Sort::Changed => (Sort::Depth, "those that reach back farthest first"),
            Sort::Depth => (Sort::Name, "by instrument and name"),
        }
    }
}

impl State {
    /// Remembers what a step that was done means for the lens.
    pub fn note(&mut self, step: &Step) {
        self.compared = None;
        self.editions.forget();
        match step {
            Step::Shelf(s) if s.what == Upkeep::Remove => self.removed = s.series.clone(),
            Step::Shelf(s) if s.what == Upkeep::Tidy => (self.removed, self.undone) = (None, None),
            Step::Undo(s) => self.undone = s.series.clone(),
            _ => {}
        }
    }
}

/// A line of the list: an instrument's name, or one of its series.
enum Entry<'a> {
    Instrument(&'a str),
    Series(&'a SeriesInfo),
}

/// The series that pass the filter, in the order chosen.
fn listed(app: &App) -> Vec<&SeriesInfo> {
    let words: Vec<String> = app.shelf.filter.split_whitespace().map(str::to_lowercase).collect();
    let passes = |s: &&SeriesInfo| {
        let name = s.name.to_string().to_lowercase();
        words.iter().all(|w| name.contains(w))
    };
    let mut all: Vec<&SeriesInfo> = app.snapshot.series.iter().filter(passes).collect();
    match app.shelf.sort {
        Sort::Name => {}
        Sort::Size => all.sort_by_key(|s| std::cmp::Reverse(s.edition.bytes)),
        Sort::Changed => all.sort_by_key(|s| std::cmp::Reverse(s.edition.made)),
        Sort::Depth => all.sort_by_key(|s| s.edition.first),
    }
    all
}

/// The list with a line for each instrument above its series, where it is in order of name.
fn entries(app: &App) -> Vec<Entry<'_>> {
    let mut out = Vec::new();
    let mut before = "";
    for info in listed(app) {
        if app.shelf.sort == Sort::Name && info.name.instrument != before {
            before = &info.name.instrument;
            out.push(Entry::Instrument(before));
        }
        out.push(Entry::Series(info));
    }
    out
}

pub fn act(app: &mut App, act: Act) {
    match (act, app.shelf.history) {
        (Act::Up | Act::Down, Some(at)) => {
            let count = app.shelf.editions.get().map_or(0, |e| e.len());
            app.shelf.history = Some(step(at, count, act == Act::Down));
            app.shelf.compared = None;
        }
        (Act::Up | Act::Down, None) => {
            let series: Vec<SeriesName> = listed(app).iter().map(|s| s.name.clone()).collect();
            let at = series.iter().position(|s| Some(s) == app.selected.as_ref()).unwrap_or(0);
            if let Some(name) = series.get(step(at, series.len(), act == Act::Down)) {
                app.select(name.clone());
            }
        }
        (Act::Enter, _) => app.lens = Lens::Chart,
        (Act::History, Some(_)) => app.shelf.history = None,
        (Act::History, None) => app.shelf.history = Some(0),
        (Act::Compare, Some(at)) => compare(app, at),
        (Act::Compare, None) => {
            app.say("h shows the history; there c compares an edition with the current one", Tone::Plain)
        }
        (Act::Sort, _) => {
            let (sort, words) = app.shelf.sort.next();
            app.shelf.sort = sort;
            app.say(words, Tone::Plain);
        }
        (Act::Filter, _) => {
            let words = app.shelf.filter.clone();
            let prompt = Prompt::new("show series with these words in their names", &words, |app, words| {
                app.shelf.filter = words.to_owned();
                let first = listed(app).first().map(|s| s.name.clone());
                let shown = listed(app).iter().any(|s| Some(&s.name) == app.selected.as_ref());
                match first {
                    Some(first) if !shown => app.select(first),
                    Some(_) => {}
                    None => app.say("no series has these words; / changes them", Tone::Wrong),
                }
            });
            app.overlay = Some(Overlay::Prompt(prompt));
        }
        (Act::Rename | Act::Remove | Act::Tidy | Act::Verify, _) => upkeep(app, act),
        _ => {}
    }
}

/// Upkeep asks before it does what cannot be undone, or what a slip of a key should not do.
fn upkeep(app: &mut App, act: Act) {
    let Some(series) = app.selected.clone() else { return };
    let prompt = match act {
        Act::Rename => Prompt::new(format!("new name of {series}"), &series.to_string(), move |app, text| {
            match text.parse::<SeriesName>() {
                Ok(to) => {
                    app.select(to.clone());
                    app.start(Step::Shelf(ShelfStep {
                        what: Upkeep::Rename,
                        series: Some(series),
                        to: Some(to),
                    }));
                }
                Err(err) => app.complain(&err),
            }
        }),
        Act::Remove => {
            Prompt::new(format!("take {series} off the shelf? yes or no"), "", move |app, text| {
                if text == "yes" || text == "y" {
                    app.start(Step::Shelf(ShelfStep {
                        what: Upkeep::Remove,
                        series: Some(series),
                        to: None,
                    }));
                }
            })
        }
        Act::Tidy => {
            let words =
                "do away with all older editions and removed series? There is no undo after it. yes or no";
            Prompt::new(words, "", |app, text| {
                if text == "yes" || text == "y" {
                    app.start(Step::Shelf(ShelfStep { what: Upkeep::Tidy, series: None, to: None }));
                }
            })
        }
        _ => return verify(app),
    };
    app.overlay = Some(Overlay::Prompt(prompt));
}

fn verify(app: &mut App) {
    app.say("comparing every file with the catalog …", Tone::Plain);
    let work = |shelf: &Shelf, job: &Job| shelf.verify(None, job);
    app.threads.read(Arc::new(Job::unwatched()), work, |app, found| match found {
        Ok(found) if found.faults.is_empty() => {
            let rows = thousands(found.rows);
            app.say(
                format!("{} files with {rows} rows are as the catalog has them", found.files),
                Tone::Good,
            );
        }
        Ok(found) => {
            let first = found.faults[0].clone();
            app.say(
                format!("{} files are not as the catalog has them: {first}", found.faults.len()),
                Tone::Wrong,
            );
        }
        Err(err) => app.complain(&err),
    });
}

/// Compares an edition of the history with the current one.
fn compare(app: &mut App, at: usize) {
    let current = app.selected.as_ref().and_then(|s| app.snapshot.find(s)).map(|s| s.edition.clone());
    let chosen = app.shelf.editions.get().and_then(|e| e.get(at)).cloned();
    let (Some(current), Some(chosen)) = (current, chosen) else { return };
    app.shelf.compared = Some("comparing …".into());
    let (here, there) = (current.number, chosen.number);
    let work = move |shelf: &Shelf, job: &Job| shelf.compare(&chosen, &current, job);
    app.threads.read(Arc::new(Job::unwatched()), work, move |app, found| match found {
        Ok(c) => {
            let span = c.differs.map_or(String::new(), |(a, b)| format!("; differences from {} to {}", wall(a), wall(b)));
            app.shelf.compared = Some(format!(
                "edition {there} beside {here}: {} rows the same, {} changed, {} only in {there}, {} only in {here}{span}",
                thousands(c.same),
                thousands(c.changed),
                thousands(c.only_first),
                thousands(c.only_second)
            ));
        }
        Err(err) => app.complain(&err),
    });
}

/// Has the history read, while it is shown.
pub fn want(app: &mut App) {
    let (Some(_), Some(series)) = (app.shelf.history, app.selected.clone()) else { return };
    let key = format!("{series} {}", app.snapshot.version);
    let place: fn(&mut App) -> Option<&mut Slot<Vec<EditionInfo>>> = |app| Some(&mut app.shelf.editions);
    let threads = &app.threads;
    app.shelf.editions.want(key, threads, place, move |shelf, _| shelf.editions(&series));
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    if app.shelf.history.is_some() {
        return history::draw(app, canvas);
    }
    let entries = entries(app);
    let all = app.snapshot.series.iter().map(|s| Span::new(s.edition.first, s.edition.last + HOUR));
    let Some(whole) = all.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to))) else {
        if !app.is_read {
            canvas.put(2, 2, "reading the shelf …", theme::faint());
            return;
        }
        canvas.put(2, 2, "The shelf is empty.", theme::words());
        canvas.put(2, 4, "i", theme::strong());
        canvas.put(
            4,
            4,
            "takes in files of a vendor or broker: CSV, folders of them, zip archives.",
            theme::words(),
        );
        return;
    };
    let wide = canvas.width() >= 100;
    let (left, right) = (20u16, if wide { 48 } else { 14 });
    let columns = canvas.width().saturating_sub(left + right + 2).max(8);
    for (column, label) in spine::labels(whole, columns) {
        canvas.put(left + column, 0, &label, theme::faint());
    }
    canvas.put(1, 0, "═ sources overlap", theme::faint());
    let after = left + columns + 1;
    canvas.put_right(after + 11, 0, "rows", theme::faint());
    if wide {
        canvas.put_right(after + 20, 0, "size", theme::faint());
        canvas.put(after + 22, 0, "clock", theme::faint());
        canvas.put(after + 44, 0, "ed.", theme::faint());
    }
    draw_journal(app, entries.len() as u16 + 2, &mut canvas);
    let rows = canvas.height().saturating_sub(1) as usize;
    let at =
        entries.iter().position(|e| matches!(e, Entry::Series(s) if Some(&s.name) == app.selected.as_ref()));
    let first = scroll(at.unwrap_or(0), rows, entries.len());
    for (i, entry) in entries.iter().enumerate().skip(first).take(rows) {
        let y = (i - first) as u16 + 1;
        match entry {
            Entry::Instrument(name) => {
                canvas.put(1, y, name, theme::strong());
                overlaps(app, name, whole, columns, |c, mark| {
                    canvas.put(left + c, y, mark, theme::faint());
                });
                if wide {
                    let due = app.snapshot.next_for(name);
                    canvas.put(after + 1, y, &format!("next ▸ {due}"), theme::faint());
                }
            }
            Entry::Series(info) => {
                let chosen = app.selected.as_ref() == Some(&info.name);
                let colour = app.snapshot.colour_of(&info.name);
                let style = if chosen { theme::chosen() } else { theme::words().fg(colour) };
                let grouped = app.shelf.sort == Sort::Name;
                let label = if grouped { info.name.short() } else { info.name.to_string() };
                canvas.put(2, y, &format!(" {label:<16}"), style);
                spine::strip(app, info, whole, columns, |c, mark| {
                    canvas.put(left + c, y, mark, theme::words().fg(colour));
                });
                canvas.put_right(after + 11, y, &thousands(info.edition.rows), theme::words());
                if wide {
                    canvas.put_right(after + 20, y, &bytes(info.edition.bytes), theme::faint());
                    let clock = info.edition.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
                    let stale = app.snapshot.stale(info).is_some();
                    let (clock, style) = match (info.is_afloat(), stale) {
                        (true, _) => (clock, theme::words().fg(theme::WRONG)),
                        (_, true) => (format!("{clock}  ▲ stale"), theme::words().fg(theme::RISING)),
                        _ => (clock, theme::faint()),
                    };
                    canvas.put(after + 22, y, &clock, style);
                    canvas.put_right(after + 47, y, &info.edition.number.to_string(), theme::faint());
                }
            }
        }
    }
}

/// How many sources have rows in each column: a thin line for one, a double one where they overlap, so
/// that one can be joined to, or checked against, the other.
fn overlaps(app: &App, instrument: &str, whole: Span, columns: u16, mut put: impl FnMut(u16, &str)) {
    let sources = app.snapshot.sources_of(instrument);
    let step = (whole.length() / columns.max(1) as i64).max(1);
    for c in 0..columns {
        let span = Span::new(whole.from + c as i64 * step, whole.from + (c as i64 + 1) * step);
        let has = |source: &&&str| {
            app.snapshot.roots_of(instrument).any(|s| {
                let here = s.name.source == ***source && !s.edition.provenance.made.is_joined();
                here && app.snapshot.coverage.get(&s.edition.id).is_some_and(|c| c.share(span) > 0.0)
            })
        };
        match sources.iter().filter(has).count() {
            0 => {}
            1 => put(c, "─"),
            _ => put(c, "═"),
        }
    }
}

/// What was done lately, where there is room below the list.
fn draw_journal(app: &App, y: u16, canvas: &mut Canvas<'_>) {
    let room = canvas.height().saturating_sub(y + 1);
    if room < 3 || app.snapshot.journal.is_empty() {
        return;
    }
    canvas.rule(y, theme::rule());
    canvas.put(1, y, " done lately ", theme::faint());
    for (i, line) in app.snapshot.journal.iter().take(room as usize).enumerate() {
        let x = canvas.put(1, y + 1 + i as u16, &wall(line.made)[..16], theme::rule().fg(theme::FAINT));
        canvas.put(x + 2, y + 1 + i as u16, &line.text, theme::words());
    }
}

/// What an edition says of how it was made.
fn how_made(made: &Made) -> Vec<Fact> {
    let mut out = Vec::new();
    match made {
        Made::Intake(taken) => {
            for (label, rows) in [
                ("read", taken.rows_read),
                ("kept", taken.rows_kept),
                ("rejected", taken.rows_rejected),
                ("was there", taken.rows_already_there),
            ] {
                out.push(Fact::Pair(label, thousands(rows)));
            }
            out.push(Fact::words(taken.layout.clone()));
            out.extend(taken.decisions.iter().map(told));
        }
        Made::Check(mending) => {
            let words: Vec<String> =
                mending.counts.iter().map(|(mend, rows)| format!("{mend} {rows}")).collect();
            out.push(Fact::words(format!("mended: {}", words.join(", "))));
        }
        _ => {}
    }
    out
}

/// A decision, how it is known and, where it is only assumed, why.
fn told(d: &Decision) -> Fact {
    let why = if d.is_assumed() { format!(": {}", d.why) } else { String::new() };
    Fact::words(format!("{} {} {} ({}){why}", d.standing.mark(), d.what, d.value, d.standing))
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)) else { return Vec::new() };
    let e = &info.edition;
    let mut out = vec![
        Fact::heading(info.name.to_string()),
        Fact::Pair("rows", thousands(e.rows)),
        Fact::Pair("first", wall(e.first)),
        Fact::Pair("last", wall(e.last)),
        Fact::Pair("clock", e.clock.as_ref().map_or("afloat".into(), Clock::to_string)),
        Fact::Pair("decimals", e.scale.price.to_string()),
        Fact::Pair("columns", e.fields.iter().map(|f| f.name()).collect::<Vec<_>>().join(" ")),
        Fact::Pair("size", bytes(e.bytes)),
        Fact::Gap,
        Fact::heading(format!("edition {}", e.number)),
        Fact::Pair("made by", e.provenance.made.act().to_owned()),
        Fact::Pair("on", date(day_of(e.made))),
    ];
    out.extend(how_made(&e.provenance.made));
    if !e.provenance.made.is_taken_in() {
        out.extend(app.snapshot.assumed(info).iter().map(told));
    }
    if let Some(clock) = e.clock.as_ref().filter(|_| e.provenance.made.is_aligned()) {
        out.push(Fact::words(clock.in_words()));
    }
    if let Some(why) = app.snapshot.stale(info) {
        let how = match &e.provenance.made {
            Made::Splice(_) => "join again (5, a)",
            Made::Frames(_) => "build again (6)",
            _ => "build its rows again (7, b)",
        };
        out.push(Fact::words(format!("▲ stale: {why}; {how}")));
    }
    out.push(Fact::Gap);
    out.push(Fact::heading("reaches back to"));
    for s in app.snapshot.series_of(&info.name.instrument).filter(|s| s.name.source == info.name.source) {
        out.push(Fact::words(format!("{:<11} {}", s.name.frame_text(), date(day_of(s.edition.first)))));
    }
    out.push(Fact::Gap);
    out.push(Fact::words(if e.before.is_some() {
        "u steps back to the edition before"
    } else {
        "u takes it off the shelf"
    }));
    out
}
