//! How the intake form looks: the fields, what is understood, the lines of the file beside the same lines
//! as understood, tied by colour.

use std::path::{Path, PathBuf};

use stavel_core::Error;
use stavel_core::intake::{IntakePlan, Planned, PreviewLine, Understood};
use stavel_core::model::Clock;
use stavel_core::model::price::scaled;
use stavel_core::model::time::wall;
use stavel_core::model::{Layout, Stamp, Use};
use stavel_work::Step;

use crate::canvas::{self, Canvas, thousands};
use crate::intake::{COLUMNS, FIELDS, IntakeForm};
use crate::theme;
use crate::view::View;

/// Draws the form.
pub fn draw(form: &IntakeForm, view: &View<'_>, mut canvas: Canvas<'_>) {
    // On a small screen the columns need the room of the fields.
    if form.at == COLUMNS && canvas.height() < 24 {
        let x = canvas.put(1, 0, form.text(1).trim(), theme::strong());
        canvas.put(x + 2, 0, form.text(0), theme::faint());
        let (width, height) = (canvas.width(), canvas.height().saturating_sub(1));
        let below = canvas.part(0, 1, width, height);
        match &form.planned.value {
            Some(Ok(planned)) => return draw_planned(form, planned, below),
            Some(Err(err)) if form.before_correction().is_some() => return draw_failed(form, err, below),
            _ => {}
        }
    }
    canvas.put(1, 0, "take files in", theme::strong());
    for (i, (label, about)) in FIELDS.iter().enumerate() {
        let y = i as u16 + 1;
        let here = i == form.at && form.browser.is_none();
        canvas.put(1, y, if here { "▸" } else { " " }, theme::strong());
        canvas.put(3, y, label, if here { theme::strong() } else { theme::words() });
        if form.text(i).is_empty() && !here {
            canvas.put(15, y, about, theme::faint());
            continue;
        }
        // Of a long path the part at the cursor is shown.
        let room = canvas.width().saturating_sub(18) as usize;
        let hidden = form.typed[i].visual_scroll(room);
        let shown = |chars: &mut dyn Iterator<Item = char>| chars.collect::<String>();
        let text = form.text(i);
        if here {
            let at = form.typed[i].cursor();
            let before = shown(&mut text.chars().take(at).skip(hidden));
            let x = canvas.put(15, y, &before, theme::strong());
            let x = canvas.put(x, y, "▏", theme::strong());
            let x = canvas.put(x, y, &shown(&mut text.chars().skip(at)), theme::strong());
            canvas.put(x + 1, y, if text.is_empty() { about } else { "" }, theme::faint());
        } else {
            canvas.put(15, y, &shown(&mut text.chars().skip(hidden)), theme::strong());
        }
    }
    let top = FIELDS.len() as u16 + 1;
    canvas.rule(top, theme::rule());
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(top + 1));
    let mut below = canvas.part(0, top + 1, width, height);
    if let Some(browser) = &form.browser {
        return browser.draw(&mut below);
    }
    match &form.planned.value {
        None if form.planned.is_reading() => {
            below.put(1, 0, "looking …", theme::faint());
        }
        None => draw_welcome(view, &mut below),
        Some(Err(err)) => draw_failed(form, err, below),
        Some(Ok(planned)) => draw_planned(form, planned, below),
    }
}

/// What stands below the fields before a path is given: what happens next, what is read, and where files were before.
fn draw_welcome(view: &View<'_>, canvas: &mut Canvas<'_>) {
    canvas.put(
        1,
        0,
        "With a path and a source, what is understood of the files is shown here.",
        theme::words(),
    );
    canvas.put(1, 1, "Nothing is stored before Enter; each guess is told with its reason.", theme::faint());
    let mut y = 3;
    for (what, how) in READ {
        canvas.put(1, y, what, theme::words());
        canvas.put(15, y, how, theme::faint());
        y += 1;
    }
    let mut recent: Vec<String> = Vec::new();
    for step in view.snapshot.journal.iter().filter_map(|l| toml::from_str::<Step>(&l.step).ok()) {
        let Step::Intake(intake) = step else { continue };
        for path in intake.paths {
            let place = short_place(&path);
            if !recent.contains(&place) && recent.len() < 8 {
                recent.push(place);
            }
        }
    }
    y += 1;
    if !recent.is_empty() {
        canvas.put(1, y, "taken in lately", theme::words());
        for (i, place) in recent.iter().enumerate() {
            canvas.put(15 + 3, y + i as u16, place, theme::faint());
        }
        y += recent.len() as u16 + 1;
    }
    canvas.pieces(
        1,
        y,
        &[
            ("↓", theme::strong()),
            (" on the path looks through folders; there Tab goes through recent places", theme::faint()),
        ],
    );
}

/// A path by its last two parts, which tell a person enough.
fn short_place(path: &Path) -> String {
    let parts: Vec<_> = path.components().collect();
    let last: PathBuf = parts[parts.len().saturating_sub(2)..].iter().collect();
    if parts.len() > 2 { format!("…/{}", last.display()) } else { last.display().to_string() }
}

/// What can be taken in.
const READ: [(&str, &str); 6] = [
    ("text", "any layout: comma, semicolon, tab, blanks; with names or none; UTF-16"),
    ("JSON", "an array of records, columns, or a record a line"),
    ("tables", "Parquet, sheets of XLSX and ODS, tables of HTML pages"),
    ("packed", "all of these within .zip, .gz and .zst, not unpacked"),
    ("many", "folders, patterns with * and ?; series by file name or by a column"),
    ("facts", "dividends, splits, statements, events of an instrument"),
];

/// What is wrong; with a correction that led there, what is understood without it stays in view.
fn draw_failed(form: &IntakeForm, err: &Error, mut below: Canvas<'_>) {
    let (width, height) = (below.width(), below.height());
    let room = if form.before_correction().is_some() { 2 } else { 6 };
    let mut words = below.part(1, 0, width.saturating_sub(2), room);
    words.paragraph(0, &err.to_string(), theme::words().fg(theme::WRONG));
    if let Some(planned) = form.before_correction() {
        below.put(1, 2, "x goes back to what was found; the arrows correct further", theme::faint());
        draw_planned(form, planned, below.part(0, 4, width, height.saturating_sub(4)));
    }
}

fn draw_planned(form: &IntakeForm, planned: &Planned, mut canvas: Canvas<'_>) {
    let mut y = 0;
    let shown = form.shown.min(planned.plans.len().saturating_sub(1));
    // One table to confirm: what becomes of which files.
    let room = (canvas.height() as usize / 4).max(2);
    let first = canvas::scroll(shown, room, planned.plans.len());
    for (i, plan) in planned.plans.iter().enumerate().skip(first).take(room) {
        let style = if i == shown && planned.plans.len() > 1 { theme::chosen() } else { theme::strong() };
        let x = canvas.put(1, y, &format!("{:<22}", series_in_words(plan)), style);
        canvas.put(x + 1, y, &sum_of(plan), theme::words());
        y += 1;
    }
    if planned.plans.len() > room {
        canvas.put(
            1,
            y,
            &format!("{} series; PgUp PgDn shows the others", planned.plans.len()),
            theme::faint(),
        );
        y += 1;
    }
    for facts in planned.facts.iter().take(3) {
        canvas.put(1, y, &facts.in_words(), theme::words());
        y += 1;
    }
    for (place, why) in planned.left.iter().take(2) {
        canvas.put(1, y, &format!("passed over {place}: {why}"), theme::words().fg(theme::RISING));
        y += 1;
    }
    if planned.left.len() > 2 {
        canvas.put(1, y, &format!("and {} more are passed over", planned.left.len() - 2), theme::faint());
        y += 1;
    }
    let Some(plan) = planned.plans.get(shown) else { return };
    y = draw_reasons(form, plan, y, &mut canvas);
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(y));
    draw_table(form, plan, canvas.part(0, y, width, height));
}

fn series_in_words(plan: &IntakePlan) -> String {
    match &plan.by_symbol {
        Some(symbols) => {
            let frame = plan.series.frame;
            format!("{}@{}:{frame}", symbols.join(" "), plan.series.source)
        }
        None => plan.series.to_string(),
    }
}

/// Files, rows, ends, what would be rejected, the largest jump.
fn sum_of(plan: &IntakePlan) -> String {
    let scanned = &plan.preview.scanned;
    let about = if scanned.is_estimate { "about " } else { "" };
    let mut words = match plan.files.as_slice() {
        [(member, _)] => format!("{} ({})", member.name(), member.kind()),
        files => format!("{} files", files.len()),
    };
    words.push_str(&format!(", {about}{} rows", thousands(scanned.rows)));
    if let Some((first, last)) = scanned.ends {
        words.push_str(&format!(", {} … {}", wall(first), wall(last)));
    }
    words.push_str(&match scanned.rejected {
        0 => ", none rejected".to_owned(),
        n => format!(", {about}{} rejected", thousands(n)),
    });
    words
}

/// Why it is read so: dates, clock, stamp, marks.
fn draw_reasons(form: &IntakeForm, plan: &IntakePlan, y: u16, canvas: &mut Canvas<'_>) -> u16 {
    let layout = form.layout(plan);
    let clock = plan.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
    let mut reasons = vec![format!("clock {clock}: {}", plan.clock_from.in_words())];
    if layout.columns.iter().any(|u| matches!(u, Use::Moment | Use::Date)) {
        reasons.insert(0, format!("{}: {}", layout.dates.words(), plan.preview.dates_from));
    }
    if plan.series.frame.is_bars() {
        let end = if plan.stamp == Stamp::Open { "open" } else { "close" };
        let why = if plan.stamp_from.is_empty() { "nothing tells" } else { &plan.stamp_from };
        reasons.push(format!("stamped at the {end}: {why}"));
        let lacking: Vec<&str> = plan
            .fields()
            .into_iter()
            .filter(|f| !layout.fields().contains(f))
            .map(stavel_core::model::Field::name)
            .collect();
        if !lacking.is_empty() {
            reasons.push(format!("{} absent in this file", lacking.join(", ")));
        }
    }
    reasons.push(marks_in_words(layout));
    reasons.push(if form.replace {
        "replaces the span it covers".into()
    } else {
        "adds to what is there".to_owned()
    });
    if let Some((jump, at)) = plan.preview.scanned.jump {
        let jump = scaled(jump, layout.price_decimals);
        reasons.insert(0, format!("largest jump {jump} at {}", wall(at)));
    }
    if form.corrected.is_some() {
        reasons.push("corrected by hand; the layout is saved when it is taken in".into());
    }
    let width = canvas.width().saturating_sub(2);
    // The table below is worth more than the last of the reasons.
    let height = (canvas.height() / 5).clamp(1, canvas.height().saturating_sub(y).max(1));
    let text = reasons.join("  ·  ");
    canvas.part(1, y, width, height).paragraph(0, &text, theme::faint());
    y + (canvas::wrapped(&text, width as usize).len() as u16).min(height)
}

fn marks_in_words(layout: &Layout) -> String {
    let mut words = vec![layout.delimiter.word()];
    words.extend(layout.name.as_ref().map(|n| format!("layout {n}")));
    words.push(if layout.header.is_some() { "a header".into() } else { "no header".into() });
    words.extend((layout.numbers.decimal == b',').then(|| "decimal comma".into()));
    words.extend(layout.numbers.thousands.map(|t| format!("'{}' between thousands", t as char)));
    words.join(", ")
}

/// The lines as they are, the same lines as understood, and above them what each column is.
fn draw_table(form: &IntakeForm, plan: &IntakePlan, mut canvas: Canvas<'_>) {
    let layout = form.layout(plan);
    let lines = &plan.preview.lines;
    let count = layout.columns.len();
    let mut widths: Vec<u16> = (0..count).map(|c| layout.columns[c].word().len() as u16).collect();
    for line in lines.iter().filter(|l| l.cells.len() > 1) {
        for (width, cell) in widths.iter_mut().zip(&line.cells) {
            *width = (*width).max(canvas::columns(cell).min(26));
        }
    }
    let here = form.at == COLUMNS;
    let at = form.column.min(count.saturating_sub(1));
    let half = canvas.width() / 2;
    let raw = (widths.iter().map(|w| w + 1).sum::<u16>() + 2).clamp(20, half.max(20));
    // The column under the cursor is always to be seen.
    let before: u16 = widths.iter().take(at + 1).map(|w| w + 1).sum();
    let skipped =
        (0..at).take_while(|&c| before - widths[..c].iter().map(|w| w + 1).sum::<u16>() > raw - 2).count();
    canvas.put(1, 1, "as it is written", theme::faint());
    let mut x = 1;
    for (c, used) in layout.columns.iter().enumerate().skip(skipped) {
        let style = match (here && c == at, used) {
            (true, _) => theme::chosen(),
            (false, Use::Skip) => theme::faint(),
            (false, _) => theme::words().fg(theme::source(c)),
        };
        canvas.part(0, 0, raw, 1).put(x, 0, used.word(), style);
        x += widths[c] + 1;
    }
    let why = plan.preview.why.get(at).map_or("", String::as_str);
    canvas.put(
        raw + 1,
        0,
        &format!("column {}: {why}", at + 1),
        if here { theme::words() } else { theme::faint() },
    );
    draw_heads(layout, raw, &mut canvas);
    let room = canvas.height().saturating_sub(2);
    for (i, line) in lines.iter().take(room as usize).enumerate() {
        let y = i as u16 + 2;
        let mut part = canvas.part(0, y, raw, 1);
        let mut x = 1;
        for (c, cell) in line.cells.iter().enumerate().skip(if line.cells.len() > 1 { skipped } else { 0 }) {
            let used = layout.columns.get(c).is_some_and(|u| *u != Use::Skip) && line.is != Understood::Head;
            let style = if used { theme::words().fg(theme::source(c)) } else { theme::faint() };
            part.put(x, 0, &cell.chars().take(26).collect::<String>(), style);
            x += widths.get(c).copied().unwrap_or(0) + 1;
        }
        draw_understood(layout, line, raw, y, &mut canvas);
    }
}

/// Where the values of the right side begin, after the time.
const AFTER_TIME: u16 = 25;
const VALUE: u16 = 11;

/// The column of the file a field is read from.
fn column_of(layout: &Layout, field: stavel_core::model::Field) -> usize {
    layout.place_of(&Use::Field(field)).unwrap_or(0)
}

fn draw_heads(layout: &Layout, left: u16, canvas: &mut Canvas<'_>) {
    let time = layout.columns.iter().position(Use::is_time).unwrap_or(0);
    canvas.put(left + 1, 1, "time", theme::words().fg(theme::source(time)));
    let mut x = left + 1 + AFTER_TIME;
    for field in layout.fields() {
        canvas.put_right(
            x + VALUE - 1,
            1,
            field.name(),
            theme::words().fg(theme::source(column_of(layout, field))),
        );
        x += VALUE;
    }
}

fn draw_understood(layout: &Layout, line: &PreviewLine, left: u16, y: u16, canvas: &mut Canvas<'_>) {
    let time = layout.columns.iter().position(Use::is_time).unwrap_or(0);
    match &line.is {
        Understood::Head => {
            canvas.put(left + 1, y, "· no row", theme::rule().fg(theme::FAINT));
        }
        Understood::Not(why) => {
            canvas.put(left + 1, y, &format!("◆ {why}"), theme::words().fg(theme::WRONG));
        }
        Understood::Row { time: text, values } => {
            canvas.put(left + 1, y, text, theme::words().fg(theme::source(time)));
            let mut x = left + 1 + AFTER_TIME;
            for (field, value) in layout.fields().into_iter().zip(values) {
                canvas.put_right(
                    x + VALUE - 1,
                    y,
                    value,
                    theme::words().fg(theme::source(column_of(layout, field))),
                );
                x += VALUE;
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_recent_place_is_told_by_its_last_two_parts() {
        let told = ["a.csv", "quill/a.csv", "/x/quill/a.csv", "x/y/z"].map(|p| short_place(Path::new(p)));
        assert_eq!(told, ["a.csv", "quill/a.csv", "…/quill/a.csv", "…/y/z"]);
    }
}
