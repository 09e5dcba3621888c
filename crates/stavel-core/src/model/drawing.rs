//! What a person draws on a chart: levels, lines, boxes, measured ranges, words.
//!
//! A drawing is anchored to times and prices, so it means the same in every frame. Its times are those of the series it
//! was drawn on, together with the clock that this series had then: where the series gets another clock, its rows move
//! in UTC, and the drawing moves with them.

use std::collections::BTreeMap;

use super::{Clock, Micros, SeriesName};
use crate::{Error, Result};

/// What is drawn.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    serde::Serialize,
    serde::Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
    strum::VariantArray,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum DrawingKind {
    /// A price.
    Level,
    /// A straight line between two points.
    Line,
    /// A straight line from one point through another and on.
    Ray,
    /// The prices and times between two corners.
    Box,
    /// From one point to another, with what lies between them in numbers.
    Range,
    /// Words at a point.
    Text,
}

impl DrawingKind {
    /// How many points it is anchored by.
    pub fn points(self) -> usize {
        match self {
            DrawingKind::Level | DrawingKind::Text => 1,
            DrawingKind::Line | DrawingKind::Ray | DrawingKind::Box | DrawingKind::Range => 2,
        }
    }
}

/// The colour of a drawing; how it looks is the picture's affair.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    serde::Serialize,
    serde::Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
    strum::VariantArray,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum DrawingColour {
    /// As events have.
    #[default]
    Violet,
    /// As what is good.
    Green,
    /// As what is wrong.
    Red,
    /// As words.
    Grey,
}

/// A time and a price.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DrawnPoint {
    /// When.
    pub time: Micros,
    /// In units of price, not in points.
    pub price: f64,
}

/// Something drawn.
#[derive(Debug, Clone, PartialEq)]
pub struct Drawing {
    /// Counted within the instrument from 1.
    pub id: u64,
    /// What it is.
    pub kind: DrawingKind,
    /// As many as its kind has; in UTC where the series had a clock, else as written.
    pub points: Vec<DrawnPoint>,
    /// Words beside it; empty where there are none.
    pub text: String,
    /// How it looks.
    pub colour: DrawingColour,
    /// The series it was drawn on.
    pub series: SeriesName,
    /// The clock that series had then; none while it was afloat.
    pub clock: Option<Clock>,
    /// The moment of a rehearsal at which it was drawn, UTC; none where it was drawn on the chart.
    pub rehearsed: Option<Micros>,
}

/// What the series of a drawing is by now.
#[derive(Debug, Clone, Copy)]
pub enum DrawnOn<'a> {
    /// It is on the shelf, with this clock; none while it is afloat.
    There(Option<&'a Clock>),
    /// It is not on the shelf any more.
    Gone,
}

/// The rows that a drawing is to be shown among.
#[derive(Debug, Clone, Copy)]
pub struct ShownAmong<'a> {
    /// Their series.
    pub series: &'a SeriesName,
    /// True where their times are as written.
    pub is_afloat: bool,
}

/// Where the time of a drawing is known.
enum Placed {
    Utc(Micros),
    Written(Micros),
}

impl Drawing {
    /// Its points among rows of its instrument, which are in UTC or, of a series afloat, as written; none where it has no
    /// place among them. Words written beside a series that is afloat are seen only there.
    pub fn points_among(&self, rows: ShownAmong<'_>, drawn_on: DrawnOn<'_>) -> Option<Vec<DrawnPoint>> {
        let is_own = rows.series.source == self.series.source;
        let time = |time: Micros| match (self.placed(time, drawn_on)?, rows.is_afloat) {
            (Placed::Utc(time), false) => Some(time),
            (Placed::Written(time), true) if is_own => Some(time),
            _ => None,
        };
        let point = |point: &DrawnPoint| Some(DrawnPoint { time: time(point.time)?, price: point.price });
        self.points.iter().map(point).collect()
    }

    fn placed(&self, time: Micros, drawn_on: DrawnOn<'_>) -> Option<Placed> {
        Some(match (&self.clock, drawn_on) {
            (Some(was), DrawnOn::There(Some(now))) if was != now => {
                Placed::Utc(now.from_wall(was.to_wall(time)).settle())
            }
            (Some(_), DrawnOn::There(Some(_)) | DrawnOn::Gone) => Placed::Utc(time),
            (Some(was), DrawnOn::There(None)) => Placed::Written(was.to_wall(time)),
            (None, DrawnOn::There(Some(now))) => Placed::Utc(now.from_wall(time).settle()),
            (None, DrawnOn::There(None)) => Placed::Written(time),
            // Nobody can say any more when that was.
            (None, DrawnOn::Gone) => return None,
        })
    }

    /// The moment from which a rehearsal may show it: it was drawn then, and none of its points lies ahead.
    pub fn known_from(&self, points: &[DrawnPoint]) -> Micros {
        let latest = points.iter().map(|point| point.time).max().unwrap_or(Micros::MAX);
        latest.max(self.rehearsed.unwrap_or(Micros::MIN))
    }

    /// As the values of a dated fact.
    pub fn to_values(&self) -> BTreeMap<String, String> {
        let mut values = BTreeMap::from([
            ("id".to_owned(), self.id.to_string()),
            ("shape".to_owned(), self.kind.to_string()),
            ("colour".to_owned(), self.colour.to_string()),
            ("series".to_owned(), self.series.to_string()),
        ]);
        for (at, point) in self.points.iter().enumerate() {
            values.insert(format!("time{}", at + 1), point.time.to_string());
            values.insert(format!("price{}", at + 1), point.price.to_string());
        }
        values.extend(self.clock.as_ref().map(|clock| ("clock".to_owned(), clock.to_string())));
        values.extend(self.rehearsed.map(|at| ("rehearsed".to_owned(), at.to_string())));
        if !self.text.is_empty() {
            values.insert("text".into(), self.text.clone());
        }
        values
    }

    /// Out of the values of a dated fact.
    ///
    /// # Errors
    /// Where one is missing or damaged.
    pub fn from_values(values: &BTreeMap<String, String>) -> Result<Drawing> {
        fn read<T: std::str::FromStr>(values: &BTreeMap<String, String>, key: &str) -> Result<Option<T>> {
            let damaged = |text: &String| {
                Error::storage(format!(
                    "A drawing in the catalog has a {key} that cannot be read ('{text}')."
                ))
            };
            values.get(key).map(|text| text.parse().map_err(|_| damaged(text))).transpose()
        }
        let missing = |key: &str| Error::storage(format!("A drawing in the catalog has no {key}."));
        let kind: DrawingKind = read(values, "shape")?.ok_or_else(|| missing("shape"))?;
        let point = |at: usize| -> Result<DrawnPoint> {
            let (time, price) = (format!("time{at}"), format!("price{at}"));
            Ok(DrawnPoint {
                time: read(values, &time)?.ok_or_else(|| missing(&time))?,
                price: read(values, &price)?.ok_or_else(|| missing(&price))?,
            })
        };
        Ok(Drawing {
            id: read(values, "id")?.ok_or_else(|| missing("id"))?,
            kind,
            points: (1..=kind.points()).map(point).collect::<Result<_>>()?,
            text: values.get("text").cloned().unwrap_or_default(),
            colour: read(values, "colour")?.unwrap_or_default(),
            series: read(values, "series")?.ok_or_else(|| missing("series"))?,
            clock: read(values, "clock")?,
            rehearsed: read(values, "rehearsed")?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{HOUR, MINUTE, parse};

    fn drawing(kind: DrawingKind, times: &[Micros], clock: Option<&str>) -> Drawing {
        Drawing {
            id: 3,
            kind,
            points: times.iter().map(|time| DrawnPoint { time: *time, price: 0.98123 }).collect(),
            text: "the high = of May".into(),
            colour: DrawingColour::Green,
            series: "NOKSEK@tarn:1m".parse().unwrap(),
            clock: clock.map(|clock| clock.parse().unwrap()),
            rehearsed: Some(7),
        }
    }

    #[test]
    fn a_drawing_comes_back_from_its_values_and_a_damaged_one_is_told() {
        for kind in <DrawingKind as strum::VariantArray>::VARIANTS {
            let times: Vec<Micros> = (0..kind.points() as i64).map(|i| -5 + i * HOUR).collect();
            for clock in [None, Some("America/New_York+7h")] {
                let drawn = drawing(*kind, &times, clock);
                let mut values = drawn.to_values();
                assert_eq!(Drawing::from_values(&values).unwrap(), drawn);
                values.insert("price1".into(), "much".into());
                assert!(Drawing::from_values(&values).unwrap_err().to_string().contains("price1"));
                values.remove("shape");
                assert!(Drawing::from_values(&values).unwrap_err().to_string().contains("shape"));
            }
        }
    }

    #[test]
    fn a_drawing_goes_with_the_rows_of_its_series_when_their_clock_changes() {
        let (own, other): (SeriesName, SeriesName) =
            ("NOKSEK@tarn:1h".parse().unwrap(), "NOKSEK@quill:1m".parse().unwrap());
        let among = |series, is_afloat| ShownAmong { series, is_afloat };
        let (utc, east): (Clock, Clock) = ("UTC".parse().unwrap(), "UTC+2".parse().unwrap());
        let at = parse("2024-03-05 13:45").unwrap();
        let time = |drawn: &Drawing, rows, on| drawn.points_among(rows, on).map(|points| points[0].time);
        // Drawn by a clock that turned out to be two hours off.
        let drawn = drawing(DrawingKind::Level, &[at], Some("UTC"));
        assert_eq!(time(&drawn, among(&own, false), DrawnOn::There(Some(&utc))), Some(at));
        assert_eq!(time(&drawn, among(&own, false), DrawnOn::There(Some(&east))), Some(at - 2 * HOUR));
        // And back: what was written stands still.
        let moved =
            Drawing { clock: Some(east.clone()), ..drawing(DrawingKind::Level, &[at - 2 * HOUR], None) };
        assert_eq!(time(&moved, among(&own, false), DrawnOn::There(Some(&utc))), Some(at));
        // While it is afloat it is seen as written, and among the rows of no other series.
        assert_eq!(time(&moved, among(&own, true), DrawnOn::There(None)), Some(at));
        assert_eq!(time(&moved, among(&other, false), DrawnOn::There(None)), None);
        let afloat = drawing(DrawingKind::Level, &[at], None);
        assert_eq!(time(&afloat, among(&own, true), DrawnOn::There(None)), Some(at));
        assert_eq!(time(&afloat, among(&other, true), DrawnOn::There(None)), None);
        assert_eq!(time(&afloat, among(&other, false), DrawnOn::There(Some(&east))), Some(at - 2 * HOUR));
        assert_eq!(time(&afloat, among(&own, false), DrawnOn::Gone), None);
        assert_eq!(time(&drawn, among(&other, false), DrawnOn::Gone), Some(at));
    }

    #[test]
    fn a_rehearsal_shows_nothing_before_its_moment() {
        let drawn = drawing(DrawingKind::Line, &[5 * MINUTE, 3 * MINUTE], Some("UTC"));
        assert_eq!(drawn.known_from(&drawn.points), 5 * MINUTE);
        let later = Drawing { rehearsed: Some(HOUR), ..drawn };
        assert_eq!(later.known_from(&later.points), HOUR);
    }
}
