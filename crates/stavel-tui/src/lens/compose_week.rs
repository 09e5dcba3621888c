//! The session week as a grid of days and half hours: looked at, and painted.

use stavel_core::model::session::{SessionWeek, open_quarters};
use stavel_core::model::{Clock, Instrument};

use crate::canvas::Canvas;
use crate::theme;

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
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
}

impl WeekPaint {
    /// Begins with the hours that an instrument has.
    pub fn of(instrument: &Instrument) -> WeekPaint {
        let week = &instrument.sheet.session.week;
        WeekPaint { quarters: open_quarters(week), zone: week.zone.clone(), day: 0, half: 18 }
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

    /// The week that was painted; none where nothing is open.
    pub fn week(&self) -> Option<SessionWeek> {
        SessionWeek::of_quarters(&self.quarters, &self.zone)
    }
}

/// Draws the hours of an instrument, or those that are being painted, on the wall of their zone.
pub fn draw(instrument: &Instrument, paint: Option<&WeekPaint>, mut canvas: Canvas<'_>) {
    let week = &instrument.sheet.session.week;
    let quarters = paint.map_or_else(|| open_quarters(week), |p| p.quarters.clone());
    let across = if canvas.width() >= 56 { 2 } else { 1 };
    let head = match paint {
        Some(_) => format!("painting hours in {}", week.zone),
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
            let (mark, style) = match open {
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
        None => "p paints the hours".to_owned(),
    };
    let width = canvas.width();
    let mut below = canvas.part(1, 10, width.saturating_sub(2), 6);
    let y = below.paragraph(0, &told, theme::words());
    if paint.is_some() {
        below.paragraph(
            y + 1,
            ", . move by half an hour, < > by three, the arrows by a day; Space opens or closes, d copies the day to the next, x clears it; p keeps the week, Esc leaves it",
            theme::faint(),
        );
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
}
