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

    /// A written time as that of the bar's open where the calendar says where that is: the first of the month,
    /// the Monday of the week, in which the bar's last moment lies. Other times are left as they are.
    pub fn calendar_open(self, frame: Frame, written: Micros) -> Micros {
        let Frame::Bars { unit, .. } = frame else { return written };
        let last = day_of(written - 1);
        match (self, unit) {
            (Stamp::Close, Unit::Month) => {
                let (year, month, _) = civil_from_days(last);
                days_from_civil(year, month, 1) * DAY
            }
            (Stamp::Close, Unit::Week) => monday_of(last) * DAY,
            _ => written,
        }
    }
}

/// True for bars whose length is told by the calendar.
fn is_of_calendar(frame: Frame) -> bool {
    matches!(frame, Frame::Bars { unit: Unit::Week | Unit::Month, .. })
}
