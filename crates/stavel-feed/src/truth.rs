//! What is wrong with the demo files, by design.

use serde::{Deserialize, Serialize};
use stavel_core::model::Micros;
use stavel_core::model::time::{DAY, HOUR, MINUTE, rfc3339};

/// One planted defect. Times are UTC as the vendor wrote them.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq, Eq)]
pub struct Planted {
    /// The kind of finding that names it.
    pub kind: String,
    pub series: String,
    pub from: String,
    pub to: String,
    pub what: String,
}

/// The truth about the demo files.
#[derive(Debug, Clone, Serialize, Deserialize, PartialEq, Eq)]
pub struct Truth {
    /// The clock in which Tarn writes.
    pub broker_clock: String,
    pub defects: Vec<Planted>,
}

/// Where each defect of the vendor's minutes lies, in UTC as written.
#[derive(Debug, Clone, Copy)]
pub struct Defects {
    pub missing_day: Micros,
    pub missing_hour: Micros,
    /// This many minutes from here are written twice.
    pub repeated: Micros,
    /// This many minutes from here are written late.
    pub late: Micros,
    pub bad_bar: Micros,
    pub spike: Micros,
    /// Monday of the week that is written an hour late.
    pub slipped_week: Micros,
}

/// Minutes written twice.
pub const REPEATED: i64 = 30;
/// Minutes written late, and after how many others they come.
pub const LATE: (i64, i64) = (40, 120);

impl Defects {
    /// Defects spread over the weeks after `monday`, the slipped week apart.
    pub fn around(monday: Micros, slipped_week: Micros) -> Defects {
        let at = |day: i64, hour: i64, minute: i64| monday + day * DAY + hour * HOUR + minute * MINUTE;
        Defects {
            missing_day: at(2, 0, 0),
            missing_hour: at(8, 10, 0),
            repeated: at(3, 9, 0),
            late: at(9, 13, 0),
            bad_bar: at(10, 15, 20),
            spike: at(11, 12, 34),
            slipped_week,
        }
    }

    /// The slip of the vendor's clock at a written time: an hour from the Sunday before the slipped
    /// week's Monday to its Sunday.
    pub fn slip(&self, written: Micros) -> Micros {
        let from = self.slipped_week - DAY;
        if (from..from + 7 * DAY).contains(&written) { HOUR } else { 0 }
    }

    /// The list for the truth file.
    pub fn list(&self, series: &str) -> Vec<Planted> {
        let plant = |kind: &str, from: Micros, to: Micros, what: &str| Planted {
            kind: kind.into(),
            series: series.into(),
            from: rfc3339(from),
            to: rfc3339(to),
            what: what.into(),
        };
        let minutes = |n: i64| n * MINUTE;
        vec![
            plant(
                "clock_slip",
                self.slipped_week - DAY,
                self.slipped_week + 6 * DAY,
                "a week written an hour late",
            ),
            plant("missing", self.missing_day, self.missing_day + DAY, "a day is missing"),
            plant("missing", self.missing_hour, self.missing_hour + HOUR, "an hour is missing"),
            plant(
                "duplicate_time",
                self.repeated,
                self.repeated + minutes(REPEATED),
                "thirty rows are repeated",
            ),
            plant("out_of_order", self.late, self.late + minutes(LATE.0), "a block of rows is out of order"),
            plant("bad_ohlc", self.bad_bar, self.bad_bar + MINUTE, "the high is below the low"),
            plant("spike", self.spike, self.spike + MINUTE, "one bar is three per cent too high"),
        ]
    }
}
