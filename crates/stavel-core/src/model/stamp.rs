//! Which end of a bar its time names.

use serde::{Deserialize, Serialize};

use super::time::{DAY, civil_from_days, day_of, days_from_civil, monday_of};
use super::{Frame, Micros, Unit};

/// Which end of a bar its time names in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum Stamp {
    /// When it begins.
    #[default]
    Open,
    /// When it ends.
    Close,
}

impl Stamp {
    /// Its word.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// How far a bar's time is moved back to be that of its open; 0 for what is no bar.
    pub fn back(self, frame: Frame) -> Micros {
        match self {
            Stamp::Close if frame.is_bars() && !is_of_calendar(frame) => frame.length(),
            _ => 0,
        }
    }

    /// How far the times of bars lie behind their opens, on the wall: about a day for bars of days.
    pub fn behind(self, frame: Frame) -> Micros {
        match frame {
            Frame::Bars { unit: Unit::Day, .. } if self == Stamp::Close => frame.length(),
            frame => self.back(frame),
        }
    }

    /// A written time as that of the bar's open where the calendar says where that is: so many days before, the
    /// first of the month, the Monday of the week, in which the bar's last moment lies. Other times are left as they
    /// are.
    pub fn calendar_open(self, frame: Frame, written: Micros) -> Micros {
        let Frame::Bars { unit, .. } = frame else { return written };
        let last = day_of(written - 1);
        match (self, unit) {
            (Stamp::Close, Unit::Month) => {
                let (year, month, _) = civil_from_days(last);
                days_from_civil(year, month, 1) * DAY
            }
            (Stamp::Close, Unit::Week) => monday_of(last) * DAY,
            // On the wall: a day on which the clock is set is an hour longer or shorter.
            (Stamp::Close, Unit::Day) => written - frame.length(),
            _ => written,
        }
    }

    /// The time by which a bar that opens at a time of the wall is written: its open, or where it ends. Bars of
    /// several weeks or months have no end that the calendar tells.
    pub fn written(self, frame: Frame, open: Micros) -> Option<Micros> {
        let Frame::Bars { count, unit } = frame else { return Some(open) };
        match (self, unit) {
            (Stamp::Open, _) => Some(open),
            (Stamp::Close, Unit::Week | Unit::Month) if count > 1 => None,
            (Stamp::Close, Unit::Week) => Some(open + 7 * DAY),
            (Stamp::Close, Unit::Month) => {
                let (year, month, day) = civil_from_days(day_of(open));
                let next = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
                let is_first = day == 1 && open.rem_euclid(DAY) == 0;
                is_first.then(|| days_from_civil(next.0, next.1, 1) * DAY)
            }
            (Stamp::Close, _) => Some(open + frame.length()),
        }
    }
}

/// True for bars whose length is told by the calendar: by the days on the wall.
fn is_of_calendar(frame: Frame) -> bool {
    matches!(frame, Frame::Bars { unit: Unit::Day | Unit::Week | Unit::Month, .. })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;

    #[test]
    fn what_is_written_at_the_close_is_read_back_as_the_open() {
        let at = |text: &str| parse(text).unwrap();
        for (frame, open, close) in [
            ("1m", "2024-03-05 13:45", "2024-03-05 13:46"),
            ("4h", "2024-03-05 20:00", "2024-03-06"),
            ("1d", "2024-03-31", "2024-04-01"),
            ("1w", "2024-03-04", "2024-03-11"),
            ("1mo", "2023-12-01", "2024-01-01"),
        ] {
            let frame: Frame = frame.parse().unwrap();
            assert_eq!(Stamp::Close.written(frame, at(open)), Some(at(close)), "{frame}");
            assert_eq!(Stamp::Open.written(frame, at(open)), Some(at(open)));
            let back = Stamp::Close.calendar_open(frame, at(close)) - Stamp::Close.back(frame);
            assert_eq!(back, at(open), "{frame}");
        }
        for (frame, open) in [("1mo", "2024-03-04"), ("3mo", "2024-01-01"), ("2w", "2024-03-04")] {
            assert_eq!(Stamp::Close.written(frame.parse().unwrap(), at(open)), None, "{frame}");
        }
    }
}
