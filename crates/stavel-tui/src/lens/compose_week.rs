//! The session week as a grid of days and half hours: looked at, and painted.

use stavel_core::measures::HourProfile;
use stavel_core::model::price::{scaled, unit};
use stavel_core::model::session::{SessionWeek, open_quarters};
use stavel_core::model::time::HOUR;
use stavel_core::model::{Clock, Instrument, Micros, Scale};

use crate::canvas::{Canvas, thousands};
use crate::theme;

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
/// A quarter of an hour.
const QUARTER: Micros = HOUR / 4;
/// Quarters of an hour in a day.
const DAY: usize = 96;
/// Quarters of an hour that a stroke paints.
const STROKE: usize = 2;

/// Hours that are being painted.
pub struct WeekPaint {
    quarters: Vec<bool>,
    zone: Clock,
    /// The day and the half hour under the cursor.
    day: usize,
    half: usize,
    /// What the pointer paints while it is held: open or closed.
    brush: Option<bool>,
}

impl WeekPaint {
    /// Begins with the hours that an instrument has.
    pub fn of(instrument: &Instrument) -> WeekPaint {
        let week = &instrument.sheet.session.week;
        WeekPaint { quarters: open_quarters(week), zone: week.zone.clone(), day: 0, half: 18, brush: None }
    }

    /// Moves the cursor by half hours; it stays on its day.
    pub fn move_by(&mut self, halves: i64) {
        let last = (DAY / STROKE) as i64 - 1;
        self.half = (self.half as i64 + halves).clamp(0, last) as usize;
    }

    /// Moves the cursor to the day before or after.
    pub fn next_day(&mut self, down: bool) {
        self.day = if down { (self.day + 1).min(6) } else { self.day.saturating_sub(1) };
    }

    /// Opens the half hour under the cursor, or closes it, and goes on to the next.
    pub fn paint(&mut self) {
        let at = self.day * DAY + self.half * STROKE;
        let open = !self.quarters[at];
        self.quarters[at..at + STROKE].fill(open);
        self.move_by(1);
    }

    /// Gives the next day the hours of this one, and goes on to it.
    pub fn copy_day(&mut self) {
        if self.day < 6 {
            let hours = self.quarters[self.day * DAY..(self.day + 1) * DAY].to_vec();
            self.day += 1;
            self.quarters[self.day * DAY..(self.day + 1) * DAY].copy_from_slice(&hours);
        }
    }

    /// Closes the whole day.
    pub fn clear_day(&mut self) {
        self.quarters[self.day * DAY..(self.day + 1) * DAY].fill(false);
    }

    /// The pointer is pressed at a half hour, or drawn over it: the first decides whether it opens or closes.
    pub fn brush(&mut self, day: usize, half: usize, wide: usize, is_press: bool) {
        (self.day, self.half) = (day, half);
        let at = day * DAY + half * STROKE;
        let open = match self.brush.filter(|_| !is_press) {
            Some(open) => open,
            None => !self.quarters[at],
        };
        self.brush = Some(open);
        self.quarters[at..(at + wide * STROKE).min((day + 1) * DAY)].fill(open);
    }

    /// Shows the same open hours on the wall of another zone, as of a moment.
    pub fn turn_to(&mut self, zone: Clock, at: Micros) {
        let quarters = (zone.to_wall(at) - self.zone.to_wall(at)).div_euclid(QUARTER);
        let count = self.quarters.len() as i64;
        let before = std::mem::take(&mut self.quarters);
        let from = |i: usize| (i as i64 - quarters).rem_euclid(count) as usize;
        self.quarters = (0..before.len()).map(|i| before[from(i)]).collect();
        self.zone = zone;
    }

    /// The zone on whose wall it is painted.
    pub fn zone(&self) -> &Clock {
        &self.zone
    }

    /// The week that was painted; none where nothing is open.
    pub fn week(&self) -> Option<SessionWeek> {
        SessionWeek::of_quarters(&self.quarters, &self.zone)
    }
}

/// Cells of an hour in a grid so wide.
fn cells_of_an_hour(width: u16) -> u16 {
    if width >= 56 { 2 } else { 1 }
}

/// The day and the half hour at a place of the grid, and how many half hours lie there; none beside it.
pub fn cell_at(x: u16, y: u16, width: u16) -> Option<(usize, usize, usize)> {
    let across = cells_of_an_hour(width);
    let (cell, day) = (x.checked_sub(6)?, y.checked_sub(2)?);
    let wide = usize::from(2 / across);
    (cell < 24 * across && day < 7).then(|| (usize::from(day), usize::from(cell) * wide, wide))
}

/// The rows that hours are for, over the week.
#[derive(Default)]
pub struct WeekShape {
    /// Rows by the quarter of an hour.
    pub quarters: Vec<u64>,
    /// What each hour has, on average.
    pub hours: Vec<HourProfile>,
}

/// The rows that hours are for, where they have been read.
pub struct WeekRows<'a> {
    pub shape: Option<&'a WeekShape>,
    /// Of which series.
    pub series: &'a str,
    /// Decimals of its prices and volumes.
    pub scale: Scale,
}

/// Draws the hours of an instrument, or those that are being painted, on the wall of their zone.
pub fn draw(instrument: &Instrument, paint: Option<&WeekPaint>, rows: &WeekRows<'_>, mut canvas: Canvas<'_>) {
    let week = &instrument.sheet.session.week;
    let quarters = paint.map_or_else(|| open_quarters(week), |p| p.quarters.clone());
    let across = cells_of_an_hour(canvas.width());
    let head = match paint {
        Some(paint) => format!("painting hours in {}", paint.zone),
        None => format!("hours in {}", week.zone),
    };
    canvas.put(1, 0, &head, if paint.is_some() { theme::strong() } else { theme::words() });
    for hour in (0..24).step_by(3) {
        canvas.put(6 + hour * across, 1, &format!("{hour:02}"), theme::faint());
    }
    for (day, name) in DAYS.iter().enumerate() {
        let y = day as u16 + 2;
        let here = paint.is_some_and(|p| p.day == day);
        canvas.put(1, y, name, if here { theme::strong() } else { theme::faint() });
        for cell in 0..24 * across as usize {
            let each = 4 / across as usize;
            let from = day * DAY + cell * each;
            let open = quarters[from..from + each].iter().filter(|q| **q).count();
            let of_cell = rows.shape.and_then(|shape| shape.quarters.get(from..from + each));
            let rows: u64 = of_cell.map_or(0, |quarters| quarters.iter().sum());
            let (mark, style) = match open {
                // Rows that the hours leave out are seen where they are.
                0 if rows > 0 => ("▪", theme::words().fg(theme::RISING)),
                0 => ("·", theme::rule()),
                n if n == each => ("█", theme::words().fg(theme::source(0))),
                _ => ("▌", theme::words().fg(theme::source(0))),
            };
            let cursor = here && paint.is_some_and(|p| (p.half * STROKE) / each == cell);
            let (mark, style) = match (cursor, open) {
                (true, 0) => ("□", theme::chosen()),
                (true, _) => ("■", theme::chosen()),
                _ => (mark, style),
            };
            canvas.put(6 + cell as u16, y, mark, style);
        }
    }
    let told = match paint {
        Some(paint) => paint.week().map_or("never open".to_owned(), |week| week.to_string()),
        None => "p paints the hours, e adds a single day".to_owned(),
    };
    let width = canvas.width();
    let lines = canvas.height().saturating_sub(10);
    let mut below = canvas.part(1, 10, width.saturating_sub(2), lines);
    let mut y = below.paragraph(0, &told, theme::words());
    if let Some(inside) = rows.shape.and_then(|shape| inside(&shape.quarters, &quarters)) {
        y = below.paragraph(y, &format!("{inside}, of {}", rows.series), theme::words());
    }
    if paint.is_some() {
        below.paragraph(
            y + 1,
            ", . move by half an hour, < > by three, the arrows by a day; Space opens or closes, d copies the day to the next, x clears it, t turns to another zone; the mouse paints; p keeps the week, Esc leaves it",
            theme::faint(),
        );
    } else {
        y = below.paragraph(y, &exceptions(instrument), theme::faint());
        for line in rows.shape.map_or(Vec::new(), |shape| told_of_hours(&shape.hours, rows.scale)) {
            y = below.paragraph(y + 1, &line, theme::words());
        }
    }
}

/// How many rows lie in open quarters; none where there are no rows.
fn inside(counts: &[u64], quarters: &[bool]) -> Option<String> {
    let all: u64 = counts.iter().sum();
    let inside: u64 = counts.iter().zip(quarters).filter(|(_, open)| **open).map(|(n, _)| n).sum();
    (all > 0).then(|| match all - inside {
        0 => format!("all {} rows inside", thousands(all)),
        outside => format!("{} rows inside, {} outside (▪)", thousands(inside), thousands(outside)),
    })
}

/// The hours in which most is traded, prices go furthest and spreads are widest, each beside what is usual.
fn told_of_hours(hours: &[HourProfile], scale: Scale) -> Vec<String> {
    // An hour that has rows in few weeks is no usage.
    let weeks = hours.iter().map(|h| h.weeks).max().unwrap_or(0);
    let usual = |h: &&(usize, HourProfile)| h.1.weeks * 2 >= weeks;
    let all: Vec<(usize, HourProfile)> =
        hours.iter().copied().enumerate().filter(|h| h.1.weeks > 0).collect();
    let most = |value: &dyn Fn(&HourProfile) -> Option<f64>| {
        let known: Vec<(usize, f64)> =
            all.iter().filter(usual).filter_map(|(hour, h)| Some((*hour, value(h)?))).collect();
        let (hour, most) = known.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1))?;
        let others: f64 = known.iter().filter(|k| k.0 != hour).map(|k| k.1).sum();
        (known.len() > 1).then(|| (name_of(hour), most, others / (known.len() - 1) as f64))
    };
    let price = |points: f64| scaled(points.round() as i64, scale.price);
    let volume = |units: f64| scaled((units / unit(scale.volume) as f64).round() as i64, 0);
    let mut out = Vec::new();
    out.extend(most(&|h| h.volume).map(|(hour, most, mean)| {
        format!("most volume {hour}: {} an hour, {} in others", volume(most), volume(mean))
    }));
    out.extend(most(&|h| h.range).map(|(hour, most, mean)| {
        format!("widest range {hour}: {}, {} in others", price(most), price(mean))
    }));
    out.extend(match most(&|h| h.spread.map(|s| s[1] as f64)) {
        Some((hour, most, mean)) => Some(format!(
            "widest spread {hour}: nine of ten rows within {most:.0} points, {mean:.0} in others"
        )),
        None => (!all.is_empty()).then(|| "its rows know no spread".to_owned()),
    });
    out
}

/// An hour of the week by its name, as `tue 15:00`.
fn name_of(hour: usize) -> String {
    format!("{} {:02}:00", DAYS[hour / 24 % 7], hour % 24)
}

/// The single days with other hours than the week's, the last ones first.
fn exceptions(instrument: &Instrument) -> String {
    let text = instrument.values.get("holidays").map_or("", String::as_str);
    let mut days: Vec<&str> = text.split(',').map(str::trim).filter(|d| !d.is_empty()).collect();
    days.sort_unstable_by(|a, b| b.cmp(a));
    match days.len() {
        0 => "no single days with other hours".to_owned(),
        n => {
            let more = n.saturating_sub(4);
            let shown = days[..n - more].join(", ");
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            format!("single days: {shown}{more}")
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::{Instrument, OwnValues};

    #[test]
    fn strokes_open_and_close_half_hours_and_days_are_copied_and_cleared() {
        let said = [("hours".to_owned(), "tue 10:00-11:00 Europe/Oslo".to_owned())].into();
        let own = OwnValues { said, ..OwnValues::default() };
        let mut paint = WeekPaint::of(&Instrument::resolve("BLY", None, own).unwrap());
        paint.move_by(-100);
        paint.move_by(16);
        paint.paint();
        paint.paint();
        assert_eq!(paint.week().unwrap().to_string(), "mon 08:00-09:00, tue 10:00-11:00 Europe/Oslo");
        paint.copy_day();
        assert_eq!(paint.week().unwrap().to_string(), "mon-tue 08:00-09:00 Europe/Oslo");
        paint.move_by(-2);
        paint.paint();
        assert_eq!(paint.week().unwrap().to_string(), "mon 08:00-09:00, tue 08:30-09:00 Europe/Oslo");
        paint.clear_day();
        paint.next_day(false);
        paint.clear_day();
        assert!(paint.week().is_none());
    }

    #[test]
    fn the_pointer_paints_what_it_is_drawn_over_and_a_zone_is_another_wall_for_the_same_hours() {
        let said = [("hours".to_owned(), "mon 00:00-08:00 Europe/Oslo".to_owned())].into();
        let own = OwnValues { said, ..OwnValues::default() };
        let mut paint = WeekPaint::of(&Instrument::resolve("BLY", None, own).unwrap());
        assert_eq!(
            (cell_at(6, 2, 60), cell_at(53, 8, 60), cell_at(54, 8, 60)),
            (Some((0, 0, 1)), Some((6, 47, 1)), None)
        );
        assert_eq!((cell_at(7, 3, 40), cell_at(5, 3, 40), cell_at(7, 9, 40)), (Some((1, 2, 2)), None, None));
        // Pressed on an open hour it closes, also those that were closed already.
        paint.brush(0, 14, 1, true);
        paint.brush(0, 15, 1, false);
        paint.brush(0, 16, 1, false);
        assert_eq!(paint.week().unwrap().to_string(), "mon 00:00-07:00 Europe/Oslo");
        paint.brush(1, 18, 2, true);
        assert_eq!(paint.week().unwrap().to_string(), "mon 00:00-07:00, tue 09:00-10:00 Europe/Oslo");
        paint.turn_to(Clock::utc(), stavel_core::model::time::parse("2024-01-10").unwrap());
        assert_eq!(paint.week().unwrap().to_string(), "tue 08:00-09:00, sun 23:00-06:00 UTC");
        assert_eq!(
            inside(&vec![2; 672], &paint.quarters).unwrap(),
            format!("64 rows inside, {} outside (▪)", thousands(1280))
        );
        assert_eq!(inside(&[0; 672], &paint.quarters), None);
        assert_eq!(inside(&[1; 672], &[true; 672]).unwrap(), "all 672 rows inside");
    }

    #[test]
    fn the_hours_that_stand_out_are_named_and_one_of_few_weeks_is_not() {
        let hour = |weeks, volume, spread| HourProfile {
            weeks,
            rows: 60.0,
            volume: Some(volume),
            range: Some(volume),
            spread: Some([1, spread, spread]),
        };
        let mut hours = vec![HourProfile::default(); 168];
        (hours[0], hours[39], hours[167]) = (hour(10, 100.0, 40), hour(9, 300.0, 10), hour(1, 900.0, 99));
        let told = told_of_hours(&hours, Scale { price: 2, volume: 1 });
        assert_eq!(
            told,
            [
                "most volume tue 15:00: 30 an hour, 10 in others",
                "widest range tue 15:00: 3.00, 1.00 in others",
                "widest spread mon 00:00: nine of ten rows within 40 points, 10 in others",
            ]
        );
        hours.iter_mut().for_each(|h| h.spread = None);
        assert_eq!(told_of_hours(&hours, Scale::default())[2], "its rows know no spread");
        assert!(told_of_hours(&[], Scale::default()).is_empty());
    }
}
