//! When a bar is over.

use crate::bars::Grid;
use crate::model::time::{DAY, HOUR};
use crate::model::{Frame, Micros, Session, Unit};

/// Tells when the bars of a history are over.
///
/// A bar of minutes or hours ends its length after it began. One of days is over with its last session day: a day has 25
/// hours in autumn, a month up to 31 days. Until then nobody knows its close.
#[derive(Debug, Clone)]
pub struct BarEnds {
    session: Session,
    frame: Frame,
    /// The grid of bars of days, of the frame asked for last.
    grid: Option<(Frame, Grid)>,
}

impl BarEnds {
    /// The ends of the bars of a frame in a session.
    pub fn new(frame: Frame, session: &Session) -> BarEnds {
        BarEnds { session: session.clone(), frame, grid: None }
    }

    /// The frame.
    pub fn frame(&self) -> Frame {
        self.frame
    }

    /// When the bar is over that began at a moment. `covers` is how long it lasts, of rows that each know it; `next` is the time of
    /// the next row, where there is one. A next row that comes before the end cuts the bar short: that is left to the caller.
    pub fn end(&mut self, time: Micros, covers: Option<Micros>, next: Option<Micros>) -> Micros {
        let frame = covers.map_or(Some(self.frame), Frame::of_length);
        let length = covers.unwrap_or(self.frame.length());
        let Some(frame) = frame.filter(Frame::is_of_days) else { return time + length };
        if self.grid.as_ref().is_none_or(|(of, _)| *of != frame) {
            self.grid = Some((frame, Grid::new(frame, &self.session)));
        }
        if let Some((_, grid)) = &mut self.grid
            && grid.bar_at(time).stamp == time
        {
            return grid.days_end_at(time);
        }
        // A bar on another clock than that of the session: where the next one follows on it, that is its end.
        let months =
            if matches!(frame, Frame::Bars { unit: Unit::Month, .. }) { length / (30 * DAY) } else { 0 };
        // An hour is given back in autumn and taken away in spring, and months have 28 to 31 days.
        let shortest = time + length - 2 * months * DAY - HOUR;
        let longest = time + length + months * DAY + HOUR;
        match next {
            Some(next) if (shortest..=longest).contains(&next) => next,
            _ if months > 0 => longest,
            _ => time + length,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{SECOND, parse};

    fn ends(frame: &str) -> BarEnds {
        let session = Session {
            week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
            clock: "America/New_York+7h".parse().unwrap(),
            ..Session::always()
        };
        BarEnds::new(frame.parse().unwrap(), &session)
    }

    /// When bars are over of which each begins as it is written, and the last has none after it.
    fn over(frame: &str, begin: &[&str]) -> Vec<String> {
        let (mut ends, times): (_, Vec<Micros>) =
            (ends(frame), begin.iter().map(|text| parse(text).unwrap()).collect());
        let end = |i: usize| ends.end(times[i], None, times.get(i + 1).copied());
        (0..times.len()).map(end).map(|end| crate::model::time::rfc3339(end)[..16].to_owned()).collect()
    }

    #[test]
    fn a_day_is_over_with_its_session_day_also_where_that_has_25_hours() {
        let begin = [
            "2024-10-31T21:00Z",
            "2024-11-03T22:00Z",
            "2024-11-04T22:00Z",
            "2024-03-07T22:00Z",
            "2024-03-10T21:00Z",
        ];
        let end = [
            "2024-11-01T21:00",
            "2024-11-04T22:00",
            "2024-11-05T22:00",
            "2024-03-08T22:00",
            "2024-03-11T21:00",
        ];
        assert_eq!(over("1d", &begin), end);
        // Days of Oslo, which the session does not have: the one of 27 October has 25 hours, the one of 31 March 23.
        let begin = ["2024-10-25T22:00Z", "2024-10-26T22:00Z", "2024-10-27T23:00Z"];
        assert_eq!(over("1d", &begin), ["2024-10-26T22:00", "2024-10-27T23:00", "2024-10-28T23:00"]);
        assert_eq!(over("1d", &["2024-03-28T23:00Z", "2024-04-01T22:00Z"])[0], "2024-03-29T23:00");
    }

    #[test]
    fn a_week_and_a_month_are_over_with_their_last_day() {
        assert_eq!(over("1w", &["2024-10-27T21:00Z"]), ["2024-11-03T22:00"]);
        // From the first session day of the month on; the last of January ends on the evening of the 31st.
        assert_eq!(over("1mo", &["2023-12-31T22:00Z"]), ["2024-01-31T22:00"]);
        let plain = ["2024-01-01T00:00Z", "2024-02-01T00:00Z", "2024-03-01T00:00Z"];
        assert_eq!(over("1mo", &plain), ["2024-02-01T00:00", "2024-03-01T00:00", "2024-04-01T01:00"]);
    }

    #[test]
    fn shorter_bars_end_their_length_after_they_began_and_rows_of_layers_know_theirs() {
        assert_eq!(
            over("4h", &["2024-10-31T21:00Z", "2024-11-01T01:00Z"]),
            ["2024-11-01T01:00", "2024-11-01T05:00"]
        );
        let time = parse("2024-10-31T21:00Z").unwrap();
        assert_eq!(ends("ticks").end(time, Some(0), None), time);
        assert_eq!(ends("1m").end(time, Some(90 * SECOND), None), time + 90 * SECOND);
        assert_eq!(ends("1m").end(parse("2024-11-02T22:00Z").unwrap(), Some(DAY), None) % DAY, 22 * HOUR);
    }
}
