//! What a person drew, on the slots and prices of a chart.

use stavel_core::model::time::length_in_words;
use stavel_core::model::{DrawingColour, DrawingKind, DrawnPoint, Micros};

use crate::pane::Pane;

/// A drawing to be put on a chart.
#[derive(Debug, Clone, PartialEq)]
pub struct DrawingAt {
    /// As it is kept; 0 for one that is just being drawn.
    pub id: u64,
    pub kind: DrawingKind,
    /// Times among those of the bars, prices in units of price.
    pub points: Vec<DrawnPoint>,
    pub text: String,
    pub colour: DrawingColour,
    /// True for the one that is being moved or drawn.
    pub is_chosen: bool,
}

/// A drawing on the slots of a chart.
#[derive(Debug, Clone, PartialEq)]
pub struct SceneDrawing {
    pub kind: DrawingKind,
    pub points: Vec<ScenePoint>,
    /// Words beside it: its text, the price of a level, what a range measures.
    pub words: String,
    pub colour: DrawingColour,
    pub is_chosen: bool,
}

/// A place on a chart: slots from the left edge of the first (a bar's middle lies half a slot on), a price.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ScenePoint {
    pub slot: f64,
    pub price: f64,
}

/// A stretch of a straight line in a pane: slots, and the share of the height from the foot.
pub type Stretch = [(f64, f64); 2];

/// The place of a time among the slots of a chart: the middle of the bar that holds it. Before the first slot and behind
/// the last, slots are as long as the shortest one.
pub fn slot_of(times: &[Micros], time: Micros) -> Option<f64> {
    let (first, last) = (*times.first()?, *times.last()?);
    let usual = usual_of(times);
    let at = if time < first {
        (time - first).div_euclid(usual)
    } else if time >= last {
        times.len() as i64 - 1 + (time - last).div_euclid(usual)
    } else {
        times.partition_point(|t| *t <= time) as i64 - 1
    };
    Some(at as f64 + 0.5)
}

/// The time at which a slot begins: the inverse of [`slot_of`], as far as slots tell it.
pub fn time_of(times: &[Micros], slot: f64) -> Option<Micros> {
    let (first, last) = (*times.first()?, *times.last()?);
    let (at, usual) = (slot.floor() as i64, usual_of(times));
    Some(match usize::try_from(at) {
        Err(_) => first + at * usual,
        Ok(place) => match times.get(place) {
            Some(time) => *time,
            None => last + (at - (times.len() as i64 - 1)) * usual,
        },
    })
}

fn usual_of(times: &[Micros]) -> Micros {
    times.windows(2).map(|w| w[1] - w[0]).filter(|step| *step > 0).min().unwrap_or(1)
}

/// Drawings on the slots of a chart, whose prices have so many decimals.
pub fn drawings_on(times: &[Micros], decimals: usize, drawings: &[DrawingAt]) -> Vec<SceneDrawing> {
    let on = |drawing: &DrawingAt| {
        let point =
            |point: &DrawnPoint| Some(ScenePoint { slot: slot_of(times, point.time)?, price: point.price });
        let points: Vec<ScenePoint> = drawing.points.iter().map(point).collect::<Option<_>>()?;
        let measured = match (drawing.kind, drawing.points.as_slice()) {
            (DrawingKind::Level, [at]) => Some(format!("{:.decimals$}", at.price)),
            (DrawingKind::Range, [from, to]) => {
                let bars = points.get(1)?.slot - points.first()?.slot;
                Some(range_in_words(*from, *to, Some(bars), decimals))
            }
            _ => None,
        };
        let words = [Some(drawing.text.clone()).filter(|text| !text.is_empty()), measured];
        Some(SceneDrawing {
            kind: drawing.kind,
            points,
            words: words.into_iter().flatten().collect::<Vec<_>>().join("  "),
            colour: drawing.colour,
            is_chosen: drawing.is_chosen,
        })
    };
    drawings.iter().filter_map(on).collect()
}

/// What lies between two points: the difference of prices, in per cent of the first where that is above zero, bars where
/// they are counted, time.
pub fn range_in_words(from: DrawnPoint, to: DrawnPoint, bars: Option<f64>, decimals: usize) -> String {
    let by = to.price - from.price;
    let share =
        if from.price > 0.0 { format!(" ({:+.2} %)", by * 100.0 / from.price) } else { String::new() };
    let back = if to.time < from.time { "-" } else { "" };
    let time = length_in_words((to.time - from.time).abs());
    let bars = bars.map_or_else(String::new, |bars| format!(", {bars:+.0} bars"));
    format!("{by:+.decimals$}{share}{bars}, {back}{time}")
}

impl SceneDrawing {
    /// Its straight stretches within a pane of so many slots; what lies outside is cut off.
    pub fn stretches(&self, pane: &Pane, slots: f64) -> Vec<Stretch> {
        let place = |point: &ScenePoint| (point.slot, pane.share_of(point.price));
        let lines: Vec<Stretch> = match (self.kind, self.points.as_slice()) {
            (DrawingKind::Level, [at]) => {
                let (_, y) = place(at);
                vec![[(0.0, y), (slots, y)]]
            }
            (DrawingKind::Line, [a, b]) => vec![[place(a), place(b)]],
            (DrawingKind::Ray, [a, b]) => vec![[place(a), far_along(place(a), place(b), slots)]],
            (DrawingKind::Box, [a, b]) => {
                let ((x1, y1), (x2, y2)) = (place(a), place(b));
                let corners = [(x1, y1), (x2, y1), (x2, y2), (x1, y2), (x1, y1)];
                corners.windows(2).map(|w| [w[0], w[1]]).collect()
            }
            (DrawingKind::Range, [a, b]) => {
                let ((x1, y1), (x2, y2)) = (place(a), place(b));
                vec![[(x1, y1), (x2, y1)], [(x2, y1), (x2, y2)]]
            }
            _ => Vec::new(),
        };
        lines.into_iter().filter_map(|line| within(line, slots)).collect()
    }

    /// Where its words stand; none where that is outside.
    pub fn words_at(&self, pane: &Pane, slots: f64) -> Option<(f64, f64)> {
        let of = match self.kind {
            DrawingKind::Range => self.points.last()?,
            DrawingKind::Box => self.points.iter().max_by(|a, b| a.price.total_cmp(&b.price))?,
            _ => self.points.first()?,
        };
        let left = self.points.iter().map(|point| point.slot).fold(f64::MAX, f64::min);
        let slot = match self.kind {
            // A level goes through the whole chart, and so its words are seen wherever it was drawn.
            DrawingKind::Level => left.clamp(0.0, slots),
            // Of what begins before the chart the words are seen at its left.
            DrawingKind::Box => left.max(0.0),
            _ => of.slot,
        };
        let share = pane.share_of(of.price);
        ((0.0..=slots).contains(&slot) && (0.0..=1.0).contains(&share)).then_some((slot, share))
    }
}

/// A point far enough along a line from one point through another to lie outside of every pane.
fn far_along(a: (f64, f64), b: (f64, f64), slots: f64) -> (f64, f64) {
    let (x, y) = (b.0 - a.0, b.1 - a.1);
    let far = (slots + a.0.abs() + 1.0) / x.abs().max(1e-9);
    let high = (2.0 + a.1.abs()) / y.abs().max(1e-9);
    let by = if x == 0.0 {
        high
    } else if y == 0.0 {
        far
    } else {
        far.min(high)
    };
    let by = by.max(1.0);
    (a.0 + x * by, a.1 + y * by)
}

/// What of a stretch lies in a pane of so many slots (the method of Liang and Barsky); none where nothing does.
fn within([a, b]: Stretch, slots: f64) -> Option<Stretch> {
    let (dx, dy) = (b.0 - a.0, b.1 - a.1);
    let (mut from, mut to) = (0.0f64, 1.0f64);
    for (step, room) in [(-dx, a.0), (dx, slots - a.0), (-dy, a.1), (dy, 1.0 - a.1)] {
        if step == 0.0 {
            if room < 0.0 {
                return None;
            }
        } else if step < 0.0 {
            from = from.max(room / step);
        } else {
            to = to.min(room / step);
        }
    }
    let at = |share: f64| (a.0 + dx * share, a.1 + dy * share);
    (from <= to).then(|| [at(from), at(to)])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn from_1_to_3(is_log: bool) -> Pane {
        Pane { name: String::new(), share: 1.0, low: 1.0, high: 3.0, decimals: 2, is_log, layers: Vec::new() }
    }

    fn drawn(kind: DrawingKind, points: &[(f64, f64)]) -> SceneDrawing {
        let points = points.iter().map(|(slot, price)| ScenePoint { slot: *slot, price: *price }).collect();
        SceneDrawing {
            kind,
            points,
            words: String::new(),
            colour: DrawingColour::default(),
            is_chosen: false,
        }
    }

    fn near(found: &[Stretch], wanted: &[Stretch]) -> bool {
        let all = |stretches: &[Stretch]| {
            stretches.concat().into_iter().flat_map(|(x, y)| [x, y]).collect::<Vec<_>>()
        };
        let (found, wanted) = (all(found), all(wanted));
        found.len() == wanted.len() && found.iter().zip(&wanted).all(|(a, b)| (a - b).abs() < 1e-9)
    }

    #[test]
    fn a_drawing_stands_at_its_prices_and_what_is_outside_is_cut_off() {
        use DrawingKind::{Box, Level, Line, Range, Ray, Text};
        let pane = from_1_to_3(false);
        let of = |kind, points: &[(f64, f64)]| drawn(kind, points).stretches(&pane, 10.0);
        assert!(near(&of(Level, &[(3.5, 2.0)]), &[[(0.0, 0.5), (10.0, 0.5)]]));
        assert!(of(Level, &[(3.5, 3.1)]).is_empty(), "a price above the pane is not seen");
        assert!(near(&of(Level, &[(-8.0, 1.0)]), &[[(0.0, 0.0), (10.0, 0.0)]]), "wherever it was drawn");
        assert!(near(&of(Line, &[(-5.0, 2.0), (5.0, 3.0)]), &[[(0.0, 0.75), (5.0, 1.0)]]));
        // A ray goes on to the edge, to either side, and one that is steep up to the head.
        assert!(near(&of(Ray, &[(2.0, 2.0), (4.0, 2.2)]), &[[(2.0, 0.5), (10.0, 0.9)]]));
        assert!(near(&of(Ray, &[(4.0, 2.0), (2.0, 2.0)]), &[[(4.0, 0.5), (0.0, 0.5)]]));
        assert!(near(&of(Ray, &[(4.0, 2.0), (4.0, 2.1)]), &[[(4.0, 0.5), (4.0, 1.0)]]));
        assert_eq!(of(Box, &[(2.0, 1.5), (4.0, 2.5)]).len(), 4);
        assert_eq!(of(Box, &[(2.0, 1.5), (40.0, 2.5)]).len(), 3, "the right side lies outside");
        assert_eq!(of(Range, &[(2.0, 1.5), (4.0, 2.5)]).len(), 2);
        assert!(of(Text, &[(2.0, 2.0)]).is_empty());
        assert_eq!(drawn(Text, &[(2.0, 2.0)]).words_at(&pane, 10.0), Some((2.0, 0.5)));
        assert_eq!(drawn(Text, &[(12.0, 2.0)]).words_at(&pane, 10.0), None);
        assert_eq!(drawn(Level, &[(-8.0, 2.0)]).words_at(&pane, 10.0), Some((0.0, 0.5)));
        // By ratio the middle of 1 and 3 lies at the root of 3.
        let log = drawn(Level, &[(0.5, 3f64.sqrt())]).stretches(&from_1_to_3(true), 10.0);
        assert!(near(&log, &[[(0.0, 0.5), (10.0, 0.5)]]));
    }

    #[test]
    fn a_range_tells_what_lies_between_its_points() {
        let point = |time, price| DrawnPoint { time, price };
        let hour = 3_600_000_000;
        let told = range_in_words(point(0, 2.0), point(26 * hour, 2.05), Some(26.0), 3);
        assert_eq!(told, "+0.050 (+2.50 %), +26 bars, 26 h");
        let back = range_in_words(point(hour, -2.0), point(0, -2.5), Some(-1.0), 1);
        assert_eq!(back, "-0.5, -1 bars, -1 h");
    }

    #[test]
    fn anchors_lie_in_the_bar_that_holds_them_in_every_frame_and_come_back() {
        let minute = 60_000_000;
        let mut rng = fastrand::Rng::with_seed(7);
        for _ in 0..300 {
            // Minutes with holes, and longer frames of the same rows.
            let mut at = rng.i64(-1_000_000..1_000_000) * minute;
            let minutes: Vec<i64> = (0..rng.usize(2..400))
                .map(|_| {
                    at += minute * if rng.u8(0..20) == 0 { rng.i64(1..4000) } else { 1 };
                    at
                })
                .collect();
            let anchor = minutes[rng.usize(0..minutes.len())];
            for frame in [1, 5, 15, 60, 240, 1440] {
                let mut times: Vec<i64> =
                    minutes.iter().map(|t| t.div_euclid(frame * minute) * frame * minute).collect();
                times.dedup();
                let slot = slot_of(&times, anchor).unwrap();
                let bar = time_of(&times, slot).unwrap();
                assert!(bar <= anchor && anchor < bar + frame * minute, "{frame}");
                assert_eq!(slot_of(&times, bar), Some(slot));
                // Moved about and back it is where it was, also outside of what is there.
                for by in [-700.0, -1.0, 1.0, 900.0] {
                    let away = time_of(&times, slot + by).unwrap();
                    assert_eq!(slot_of(&times, away), Some(slot + by), "{frame} {by}");
                }
            }
        }
        assert_eq!((slot_of(&[], 5), time_of(&[], 0.5)), (None, None));
    }
}
