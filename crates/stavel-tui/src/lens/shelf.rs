//! The shelf: every instrument and source on one time axis.

use stavel_core::model::time::{HOUR, date, day_of, wall};
use stavel_core::model::{Clock, SeriesName, Span};
use stavel_core::store::SeriesInfo;

use super::{Fact, scroll, step};
use crate::act::{Act, Lens};
use crate::app::App;
use crate::canvas::{Canvas, bytes, thousands};
use crate::spine;
use crate::theme;

/// A line of the list: an instrument's name, or one of its series.
enum Entry<'a> {
    Instrument(&'a str),
    Series(&'a SeriesInfo),
}

fn entries(app: &App) -> Vec<Entry<'_>> {
    let mut out = Vec::new();
    for instrument in app.snapshot.instruments.iter() {
        out.push(Entry::Instrument(&instrument.name));
        out.extend(app.snapshot.series_of(&instrument.name).map(Entry::Series));
    }
    out
}

pub fn act(app: &mut App, act: Act) {
    let series: Vec<SeriesName> = app.snapshot.series.iter().map(|s| s.name.clone()).collect();
    let at = series.iter().position(|s| Some(s) == app.selected.as_ref()).unwrap_or(0);
    match act {
        Act::Up | Act::Down => {
            if let Some(name) = series.get(step(at, series.len(), act == Act::Down)) {
                app.select(name.clone());
            }
        }
        Act::Enter => app.lens = Lens::Chart,
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
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
                let due = app.snapshot.next_for(name);
                canvas.put(left, y, &format!("next ▸ {due}"), theme::faint());
            }
            Entry::Series(info) => {
                let chosen = app.selected.as_ref() == Some(&info.name);
                let colour = app.snapshot.colour_of(&info.name);
                let style = if chosen { theme::chosen() } else { theme::words().fg(colour) };
                canvas.put(2, y, &format!(" {:<16}", info.name.short()), style);
                spine::strip(app, info, whole, columns, |c, mark| {
                    canvas.put(left + c, y, mark, theme::words().fg(colour));
                });
                canvas.put_right(after + 11, y, &thousands(info.edition.rows), theme::words());
                if wide {
                    canvas.put_right(after + 20, y, &bytes(info.edition.bytes), theme::faint());
                    let clock = info.edition.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
                    let style =
                        if info.is_afloat() { theme::words().fg(theme::WRONG) } else { theme::faint() };
                    canvas.put(after + 22, y, &clock, style);
                    canvas.put_right(after + 47, y, &info.edition.number.to_string(), theme::faint());
                }
            }
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
        Fact::Pair("made by", e.act.clone()),
        Fact::Pair("on", date(day_of(e.made))),
    ];
    let count = |key: &str| e.detail[key].as_u64();
    if let Some(read) = count("rows_read") {
        out.push(Fact::Pair("read", thousands(read)));
        for (label, key) in
            [("kept", "rows_kept"), ("rejected", "rows_rejected"), ("was there", "rows_already_there")]
        {
            out.push(Fact::Pair(label, thousands(count(key).unwrap_or(0))));
        }
    }
    if let Some(counts) = e.detail["counts"].as_array() {
        let words = counts.iter().map(|c| format!("{} {}", c[0].as_str().unwrap_or_default(), c[1]));
        out.push(Fact::words(format!("mended: {}", words.collect::<Vec<_>>().join(", "))));
    }
    if let Some(layout) = e.detail["layout"].as_str() {
        out.push(Fact::words(layout));
    }
    if let Some(clock) = e.clock.as_ref().filter(|_| e.act == "align") {
        out.push(Fact::words(clock.in_words()));
    }
    out.push(Fact::Gap);
    out.push(Fact::words(if e.before.is_some() {
        "u steps back to the edition before"
    } else {
        "u takes it off the shelf"
    }));
    out
}
