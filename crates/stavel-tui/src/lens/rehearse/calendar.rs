//! What can be played: days across, a line for each series, with the kind of its rows.

use stavel_core::model::columns::shape_of;
use stavel_core::model::contract_month::ContractName;
use stavel_core::model::time::{DAY, civil_from_days, date, day_of, weekday};
use stavel_core::model::{Frame, Micros, SeriesName, Shape};
use stavel_core::store::SeriesInfo;

use super::RehearseLens;
use super::play::Play;
use crate::canvas::Canvas;
use crate::effect::{Effect, Effects, say, warn};
use crate::lens::FactLine;
use crate::theme;
use crate::view::View;

/// Columns for the names of the series.
const NAMES: u16 = 26;

/// The calendar: the day and the series that its cursor is at.
#[derive(Default)]
pub struct PlayCalendar {
    day: Option<i64>,
    line: usize,
    /// The last day that is to be played; none plays on as far as there are rows.
    end: Option<i64>,
}

/// The series that can be played: what is anchored and has a time for each row, ticks before bars, the shorter first.
pub fn playable<'a>(view: &View<'a>) -> Vec<&'a SeriesInfo> {
    let can = |info: &&SeriesInfo| {
        !info.is_afloat() && !info.name.frame.is_counted() && shape_of(&info.edition.fields) != Shape::Depth
    };
    let mut all: Vec<&SeriesInfo> = view.snapshot.series.iter().filter(can).collect();
    let chosen = view.instrument_name();
    all.sort_by_key(|info| {
        let name = &info.name;
        (name.instrument != chosen, name.instrument.clone(), name.frame.length(), name.source.clone())
    });
    all
}

/// True for contracts of one product, and for a product and its contracts.
fn are_of_one_product(a: &str, b: &str) -> bool {
    let product = |name: &str| ContractName::read(name).map_or(name.to_owned(), |read| read.product);
    let is_contract = |name: &str| ContractName::read(name).is_some();
    a != b && product(a) == product(b) && (is_contract(a) || is_contract(b))
}

/// Another series that has rows on a day: of the same instrument, else of a related contract, or of one that is like it or that
/// it is like.
pub fn plays_on(view: &View<'_>, name: &SeriesName, day: i64) -> Option<SeriesName> {
    let like = |instrument: &str| view.snapshot.instrument(instrument).and_then(|i| i.own.like.clone());
    let is_kin = |other: &str| {
        like(other).as_deref() == Some(&name.instrument)
            || like(&name.instrument).as_deref() == Some(other)
            || are_of_one_product(other, &name.instrument)
    };
    let has_rows = |info: &&SeriesInfo| {
        let coverage = view.snapshot.coverage.get(&info.edition.id);
        info.name != *name && coverage.is_some_and(|c| c.days.binary_search_by_key(&day, |(d, _)| *d).is_ok())
    };
    let all: Vec<&SeriesInfo> = playable(view).into_iter().filter(has_rows).collect();
    let same = all.iter().find(|info| info.name.instrument == name.instrument);
    same.or_else(|| all.iter().find(|info| is_kin(&info.name.instrument))).map(|info| info.name.clone())
}

/// The days of a series that have rows, with how many.
fn days_of<'a>(view: &View<'a>, info: &SeriesInfo) -> &'a [(i64, u32)] {
    view.snapshot.coverage.get(&info.edition.id).map_or(&[], |coverage| &coverage.days)
}

fn rows_on(view: &View<'_>, info: &SeriesInfo, day: i64) -> u64 {
    let days = days_of(view, info);
    days.binary_search_by_key(&day, |(d, _)| *d).map_or(0, |at| days[at].1.into())
}

/// Whether an order book was recorded that day beside the ticks of a series.
fn depth_on(view: &View<'_>, info: &SeriesInfo, day: i64) -> &'static str {
    let is_beside = |other: &&SeriesInfo| {
        other.name.frame == Frame::Depth && other.name.instrument == info.name.instrument
    };
    let mut books = view.snapshot.series.iter().filter(is_beside);
    match info.name.frame == Frame::Ticks && books.any(|book| rows_on(view, book, day) > 0) {
        true => "recorded",
        false => "none",
    }
}

/// The kind of rows in a word, with the mark of a day that has some.
fn kind_of(info: &SeriesInfo) -> (&'static str, &'static str) {
    match shape_of(&info.edition.fields) {
        Shape::Quotes | Shape::Trades => ("ticks", "█"),
        Shape::Layered => ("layers", "▓"),
        Shape::Bars | Shape::Depth => ("bars, rebuilt", "▒"),
    }
}

impl PlayCalendar {
    /// Moves the cursor to the day before or after that has rows of the series.
    pub fn move_day(&mut self, on: bool, view: &View<'_>) -> Effects {
        let Some((info, day)) = self.at(view) else { return Effects::new() };
        let days = days_of(view, info);
        let next = match on {
            true => days.get(days.partition_point(|(d, _)| *d <= day)),
            false => days[..days.partition_point(|(d, _)| *d < day)].last(),
        };
        match next {
            Some((next, _)) => self.day = Some(*next),
            None => {
                return warn(format!(
                    "{} has no rows {} that",
                    info.name,
                    if on { "after" } else { "before" }
                ));
            }
        }
        Effects::new()
    }

    /// Has playing end with the day of the cursor; once more, as far as there are rows.
    pub fn end_here(&mut self, view: &View<'_>) -> Effects {
        let Some((info, day)) = self.at(view) else { return Effects::new() };
        if self.end == Some(day) {
            self.end = None;
            return say("it plays on as far as there are rows");
        }
        if rows_on(view, info, day) == 0 {
            return warn(format!("{} has no rows on {}", info.name, date(day)));
        }
        self.end = Some(day);
        say(format!("it plays up to {}; Enter on the day to begin with", date(day)))
    }

    /// The end of the last day that is to be played, for what begins on a day.
    pub fn until(&self, begins: i64) -> Option<Micros> {
        self.end.filter(|end| *end >= begins).map(|end| (end + 1) * DAY)
    }

    /// The line above or below.
    pub fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        let last = playable(view).len().saturating_sub(1);
        self.line = if down { (self.line + 1).min(last) } else { self.line.saturating_sub(1) };
        Effects::new()
    }

    /// The series and the day that the cursor is at.
    pub fn at<'a>(&self, view: &View<'a>) -> Option<(&'a SeriesInfo, i64)> {
        let all = playable(view);
        let info = *all.get(self.line.min(all.len().checked_sub(1)?))?;
        Some((info, self.day?))
    }

    /// Puts the cursor at a day, where it is nowhere yet.
    pub fn begin_at(&mut self, day: i64) {
        self.day.get_or_insert(day);
    }

    pub fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some((info, day)) = self.at(view) else { return Vec::new() };
        let rows = rows_on(view, info, day);
        let (kind, _) = kind_of(info);
        vec![
            FactLine::heading("can be played"),
            FactLine::words(info.name.to_string()),
            FactLine::Pair("day", date(day)),
            FactLine::Pair("rows", if rows == 0 { "none".to_owned() } else { rows.to_string() }),
            FactLine::Pair("kind", kind.to_owned()),
            FactLine::Pair("depth", depth_on(view, info, day).to_owned()),
            FactLine::Pair("up to", self.end.map_or("its end".to_owned(), date)),
            FactLine::Gap,
            FactLine::words(
                "Enter plays from this day on, B has it end with this day; , and . go to days with rows, Up and Down to other series; Esc goes back",
            ),
        ]
    }

    pub fn draw(&self, play: Option<&Play>, view: &View<'_>, mut canvas: Canvas<'_>) {
        let all = playable(view);
        if all.is_empty() {
            canvas.put(
                2,
                1,
                "nothing on the shelf can be played yet: take ticks or minutes in (1)",
                theme::faint(),
            );
            return;
        }
        let columns = i64::from(canvas.width().saturating_sub(NAMES + 1)).max(7);
        let middle =
            self.day.or_else(|| play.map(|play| day_of(play.now))).unwrap_or(day_of(view.window.from));
        let first = middle - columns / 2;
        canvas.put(1, 0, "what can be played", theme::strong());
        draw_days(first, columns, &mut canvas);
        let room = usize::from(canvas.height().saturating_sub(6)).max(1);
        let line = self.line.min(all.len() - 1);
        let top = (line + 1).saturating_sub(room);
        for (i, info) in all.iter().enumerate().skip(top).take(room) {
            let y = 3 + (i - top) as u16;
            let style = if i == line { theme::strong() } else { theme::words() };
            canvas.put(1, y, &format!("{}{}", if i == line { "▸ " } else { "  " }, info.name), style);
            draw_line(info, first, columns, view, y, &mut canvas);
        }
        let x = NAMES + (middle - first) as u16;
        let end = self.end.filter(|end| (first..first + columns).contains(end));
        for y in 3..3 + all.len().min(room) as u16 {
            let marks = [Some(x), end.map(|end| NAMES + (end - first) as u16)];
            for x in marks.into_iter().flatten() {
                if let Some(cell) = canvas.buffer.cell_mut((canvas.area.x + x, canvas.area.y + y)) {
                    cell.set_bg(theme::CURSOR);
                }
            }
        }
        let y = canvas.height().saturating_sub(2);
        canvas.put(1, y, "█ ticks   ▓ layers   ▒ bars rebuilt to ticks   · no rows", theme::faint());
        let until = match self.end.filter(|end| *end >= middle) {
            Some(end) => format!("plays from here up to {}", date(end)),
            None => "plays from here on".to_owned(),
        };
        let words = format!("{}: Enter {until}; B: up to this day", date(middle));
        canvas.put(1, y + 1, &words, theme::words());
    }
}

/// The months and the Mondays above the lines.
fn draw_days(first: i64, columns: i64, canvas: &mut Canvas<'_>) {
    let mut free = 0;
    for column in 0..columns {
        let day = first + column;
        let (_, _, of_month) = civil_from_days(day);
        let x = NAMES + column as u16;
        if (of_month == 1 || column == 0) && x >= free {
            free = canvas.put(x, 1, &date(day)[..7], theme::faint()) + 1;
        }
        if weekday(day) == 0 {
            canvas.put(x, 2, "╷", theme::rule());
        }
    }
}

fn draw_line(info: &SeriesInfo, first: i64, columns: i64, view: &View<'_>, y: u16, canvas: &mut Canvas<'_>) {
    let Some(coverage) = view.snapshot.coverage.get(&info.edition.id) else { return };
    let (_, mark) = kind_of(info);
    let colour = view.snapshot.colour_of(&info.name);
    for column in 0..columns {
        let day = first + column;
        let has = coverage.days.binary_search_by_key(&day, |(d, _)| *d).is_ok();
        let (mark, style) = if has { (mark, theme::words().fg(colour)) } else { ("·", theme::rule()) };
        canvas.put(NAMES + column as u16, y, mark, style);
    }
}

impl RehearseLens {
    /// Plays the series of the calendar from the day of its cursor on.
    pub(super) fn play_day(&mut self, view: &View<'_>) -> Effects {
        let Some((info, day)) = self.calendar.at(view) else { return Effects::new() };
        let from: Micros = day * DAY;
        let days = days_of(view, info);
        let has = days.get(days.partition_point(|(d, _)| *d < day)).map(|(d, _)| *d);
        let Some(begins) = has else {
            return warn(format!("{} has no rows from {} on", info.name, date(day)));
        };
        let begin = from.max(begins * DAY);
        let name: SeriesName = info.name.clone();
        self.face = super::Face::Chart;
        self.until = self.calendar.until(begins);
        let up_to = self.until.map_or(String::new(), |until| format!(", up to {}", date(until / DAY - 1)));
        self.begin_anew(begin);
        vec![
            Effect::Select(name),
            Effect::Say(format!("begins at {}{up_to}", date(begins)), crate::effect::Tone::Plain),
        ]
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn contracts_of_a_product_are_related_and_nothing_else_is() {
        for (a, b) in [("BLY-2024-03", "BLY-2024-05"), ("BLY", "BLY-2024-05"), ("BLY-2024-05", "BLY")] {
            assert!(are_of_one_product(a, b), "{a} {b}");
        }
        for (a, b) in [("NOKSEK", "NZDSEK"), ("BLY-2024-03", "BLX-2024-03"), ("NOKSEK", "NOKSEK")] {
            assert!(!are_of_one_product(a, b), "{a} {b}");
        }
    }
}
