//! The session days before and after a clock change: when each begins and ends, and how many bars it has.

use stavel_core::bars::Grid;
use stavel_core::model::time::{DAY, HOUR, date, wall, weekday};
use stavel_core::model::{Frame, Session, Span};

use crate::canvas::Canvas;
use crate::theme;

/// Days that are looked at on either side for a change.
const NEAR: i64 = 200;

/// Session days shown before the change, and after it.
const AROUND: usize = 2;

const WEEKDAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];

/// The day nearest to another on which the session's clock is changed: one of 23 or 25 hours, say.
pub fn change_near(session: &Session, day: i64) -> Option<i64> {
    let is_changed = |day: &i64| session.day_span(*day).length() != DAY;
    (0..NEAR).flat_map(|apart| [day + apart, day - apart]).find(is_changed)
}

/// The session days around a change: some that open before it, the day itself where it opens, and some after it.
pub fn days_around(session: &Session, change: i64) -> Vec<i64> {
    let opens = |day: &i64| session.opens_on(*day);
    let mut days: Vec<i64> = (change - 10..change).rev().filter(opens).take(AROUND).collect();
    days.reverse();
    days.extend(Some(change).filter(opens));
    days.extend((change + 1..change + 11).filter(opens).take(AROUND));
    days
}

/// Draws the days around the change nearest to a day, where the clock is changed at all and there is room.
pub fn draw(session: &Session, day: i64, frame: Frame, mut canvas: Canvas<'_>) {
    let Some(change) = change_near(session, day).filter(|_| canvas.height() >= 8) else { return };
    let title = format!("around {}, when {} is changed", date(change), session.clock);
    canvas.put(1, 0, &title, theme::words());
    canvas.put(1, 1, "session day", theme::faint());
    canvas.put(18, 1, "begins (UTC)", theme::faint());
    canvas.put(37, 1, "ends (UTC)", theme::faint());
    canvas.put_right(60, 1, "open", theme::faint());
    canvas.put_right(76, 1, &format!("bars of {frame}"), theme::faint());
    for (y, day) in (2..).zip(days_around(session, change)) {
        let span = session.day_span(day);
        let open: i64 = session.open_spans(span).iter().map(Span::length).sum();
        let style = if day == change { theme::strong() } else { theme::words() };
        canvas.put(1, y, &format!("{} {}", WEEKDAYS[weekday(day) as usize], date(day)), style);
        canvas.put(18, y, &wall(span.from), theme::words());
        canvas.put(37, y, &wall(span.to), theme::words());
        canvas.put_right(60, y, &format!("{:.1} h", open as f64 / HOUR as f64), theme::words());
        let bars = Grid::new(frame, session).bars_in(span).len();
        canvas.put_right(76, y, &bars.to_string(), theme::words());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::{day_of, parse};

    fn around(clock: &str, at: &str) -> Vec<String> {
        let session = Session {
            week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
            clock: clock.parse().unwrap(),
            ..Session::always()
        };
        let change = change_near(&session, day_of(parse(at).unwrap()));
        let days = change.map_or(Vec::new(), |change| days_around(&session, change));
        days.iter().map(|day| wall(session.day_span(*day).from)).collect()
    }

    #[test]
    fn the_days_before_and_after_the_nearest_change_are_found() {
        // New York's changes lie on closed Sundays of that clock: Thursday and Friday, then Monday and Tuesday.
        let expected = ["2024-03-06 22:00", "2024-03-07 22:00", "2024-03-10 21:00", "2024-03-11 21:00"];
        assert_eq!(around("America/New_York+7h", "2024-04-20"), expected);
        // Oslo's Sunday is a short session day with 23 hours.
        let expected = [
            "2024-03-27 23:00",
            "2024-03-28 23:00",
            "2024-03-30 23:00",
            "2024-03-31 22:00",
            "2024-04-01 22:00",
        ];
        assert_eq!(around("Europe/Oslo", "2024-02-20"), expected);
        assert!(around("UTC", "2024-04-20").is_empty());
    }
}
