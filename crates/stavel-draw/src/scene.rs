//! Charts as data.

use serde::{Deserialize, Serialize};
use stavel_core::error::printable;
use stavel_core::measures::{simple_average, true_ranges};
use stavel_core::model::price::as_float;
use stavel_core::model::time::{self, DAY, HOUR, MINUTE};
use stavel_core::model::{BarView, Clock, Columns, Field, Micros, Span};

use crate::drawing::{DrawingAt, SceneDrawing, drawings_on};
use crate::marks::{DealAt, MarkAt, SceneDeal, SceneMark, deals_on, marks_on, slots_in};
use crate::pane::{Candle, Layer, Pane};

/// Everything a chart shows, on one axis of slots: slot `i` is the `i`-th bar.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Scene {
    pub title: String,
    /// When each slot begins, UTC.
    pub times: Vec<Micros>,
    /// From top to bottom.
    pub panes: Vec<Pane>,
    /// Labels of the time axis.
    pub ticks: Vec<Tick>,
    /// Where days begin and time was left out.
    pub edges: Vec<Edge>,
    /// Findings, events and seams, in order of their slots.
    pub marks: Vec<SceneMark>,
    /// What a person drew on the first pane.
    pub drawings: Vec<SceneDrawing>,
    /// Deals, on the first pane.
    pub deals: Vec<SceneDeal>,
    /// Slots that are shaded, from the first to behind the last: hours that are told apart from the others.
    pub shades: Vec<(usize, usize)>,
}

/// A line between two slots.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Edge {
    /// The slot that it stands before.
    pub slot: usize,
    pub kind: EdgeKind,
}

/// What a line between two slots means.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EdgeKind {
    /// A day of the clock begins.
    Day,
    /// More than half a day without rows lies between them, such as a weekend.
    Break,
}

/// A label on the time axis.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tick {
    pub slot: usize,
    pub label: String,
}

/// How bars are drawn.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum BarStyle {
    #[default]
    Candles,
    /// Strokes from low to high, with the open at the left and the close at the right.
    Bars,
    /// A line through the closes.
    Line,
}

/// What a chart is to show.
pub struct SceneRequest<'a> {
    pub title: String,
    pub bars: &'a Columns,
    /// A second series, drawn as a line of closes.
    pub with: Option<(String, &'a Columns)>,
    /// True where the second series has a pane of its own.
    pub is_beside: bool,
    pub style: BarStyle,
    /// True where equal heights are equal ratios of prices. Prices of zero and below have none, and are drawn evenly.
    pub is_log: bool,
    /// True where the true range of each bar has a pane.
    pub has_ranges: bool,
    pub marks: &'a [MarkAt],
    pub drawings: &'a [DrawingAt],
    pub deals: &'a [DealAt],
    /// Hours that are told apart from the others.
    pub shades: &'a [Span],
    /// Bars in the moving average.
    pub average: Option<usize>,
    /// So many of the first bars are not drawn: the moving average begins with them.
    pub lead: usize,
    /// The length of a bar where time without rows is to be shown; else it is left out.
    pub gaps: Option<Micros>,
    /// The clock of the time labels.
    pub clock: &'a Clock,
}

impl<'a> SceneRequest<'a> {
    /// Bars alone, without a title.
    pub fn of(bars: &'a Columns, clock: &'a Clock) -> SceneRequest<'a> {
        SceneRequest {
            title: String::new(),
            bars,
            with: None,
            is_beside: false,
            style: BarStyle::Candles,
            is_log: false,
            has_ranges: false,
            marks: &[],
            drawings: &[],
            deals: &[],
            shades: &[],
            average: None,
            lead: 0,
            gaps: None,
            clock,
        }
    }
}

/// Makes the scene of some bars; names are made printable, since no picture may hold control characters.
pub fn scene(request: &SceneRequest<'_>) -> Scene {
    let bars = request.bars;
    let places = bars.scale.price;
    let view = BarView::new(bars);
    let lead = request.lead.min(bars.len());
    let slots = Slots::of(&bars.time[lead..], lead, request.gaps);
    let candle = |i: usize| {
        let bar = view.bar(i)?;
        let [open, high, low, close] = [bar.open, bar.high, bar.low, bar.close].map(|p| as_float(p, places));
        Some(Candle { open, high, low, close })
    };
    let line = |name: &str, values, is_second| Layer::Line { name: printable(name), values, is_second };
    let mut layers = vec![match request.style {
        BarStyle::Candles => Layer::Candles(slots.values(candle)),
        BarStyle::Bars => Layer::Strokes(slots.values(candle)),
        BarStyle::Line => line("close", slots.values(|i| candle(i).map(|c| c.close)), false),
    }];
    if let Some(n) = request.average.filter(|n| *n > 1) {
        let closes: Vec<Option<f64>> = (0..bars.len()).map(|i| candle(i).map(|c| c.close)).collect();
        let means = simple_average(&closes, n);
        layers.push(line(&format!("mean of {n}"), slots.values(|i| means[i]), false));
    }
    let second = request.with.as_ref().map(|(name, other)| {
        let closes = closes_at(other, &bars.time);
        (line(name, slots.values(|i| closes[i]), true), other.scale.price as usize)
    });
    let mut beside = None;
    if let Some((layer, decimals)) = second {
        match request.is_beside {
            true => beside = Some(pane("second", 0.3, decimals, vec![layer])),
            false => layers.push(layer),
        }
    }
    let mut price = pane("price", 0.74, places as usize, layers);
    // What is not above zero has no ratio.
    price.is_log = request.is_log && price.low > 0.0;
    let mut panes = vec![price];
    panes.extend(beside);
    panes.extend(columns_pane("volume", bars, Field::Volume, &slots));
    panes.extend(columns_pane("spread", bars, Field::Spread, &slots));
    if request.has_ranges {
        let ranges = true_ranges(bars);
        let values = slots.values(|i| ranges[i].map(|range| as_float(range, places)));
        let mut ranges = pane("true range", 0.13, places as usize, vec![Layer::Columns(values)]);
        ranges.low = 0.0;
        panes.push(ranges);
    }
    let total: f64 = panes.iter().map(|p| p.share).sum();
    panes.iter_mut().for_each(|p| p.share /= total);
    Scene {
        title: printable(&request.title),
        ticks: ticks(&slots.times, request.clock),
        edges: edges(&slots.times, request.clock),
        marks: marks_on(&slots.times, request.marks),
        drawings: drawings_on(&slots.times, places as usize, request.drawings),
        deals: deals_on(&slots.times, request.deals),
        shades: slots_in(&slots.times, request.shades),
        times: slots.times,
        panes,
    }
}

/// Which bar stands in each slot.
struct Slots {
    times: Vec<Micros>,
    /// The place of its bar; none where the slot is a time without rows.
    bars: Vec<Option<usize>>,
}

/// Most slots of a chart that shows time without rows.
const MOST_SLOTS: usize = 20_000;

impl Slots {
    /// A slot for each time, the first of which is the bar at `lead`; and for each bar that a gap has room for.
    fn of(times: &[Micros], lead: usize, gaps: Option<Micros>) -> Slots {
        let mut slots = Slots { times: Vec::with_capacity(times.len()), bars: Vec::new() };
        for (i, &time) in times.iter().enumerate() {
            if let (Some(step), Some(&before)) = (gaps.filter(|s| *s > 0), slots.times.last()) {
                // Session days begin an hour earlier or later as summer time comes and goes.
                let missing = ((time - before + step / 2) / step - 1).max(0) as usize;
                let room = MOST_SLOTS.saturating_sub(slots.times.len());
                for k in 1..=missing.min(room) {
                    slots.times.push(before + k as Micros * step);
                    slots.bars.push(None);
                }
            }
            slots.times.push(time);
            slots.bars.push(Some(lead + i));
        }
        slots
    }

    /// What stands in each slot.
    fn values<T>(&self, of_bar: impl Fn(usize) -> Option<T>) -> Vec<Option<T>> {
        self.bars.iter().map(|bar| bar.and_then(&of_bar)).collect()
    }
}

/// Lines where a day of the clock begins and where more than half a day was left out.
fn edges(times: &[Micros], clock: &Clock) -> Vec<Edge> {
    let usual = times.windows(2).map(|w| w[1] - w[0]).min().unwrap_or_default();
    // Of bars of half a day and more every one would have its line.
    if usual >= DAY / 2 {
        return Vec::new();
    }
    let pairs = times.windows(2).enumerate().map(|(i, w)| (i + 1, w[0], w[1]));
    let edge = |(slot, before, time): (usize, Micros, Micros)| {
        let kind = if time - before > usual + DAY / 2 {
            EdgeKind::Break
        } else if clock.day_of(before) != clock.day_of(time) {
            EdgeKind::Day
        } else {
            return None;
        };
        Some(Edge { slot, kind })
    };
    pairs.filter_map(edge).collect()
}

fn columns_pane(name: &str, bars: &Columns, field: Field, slots: &Slots) -> Option<Pane> {
    let cells = bars.cells(field);
    // Nothing to see where no row has a value, or where a volume is counted nowhere.
    if cells.is_absent() || field == Field::Volume && cells.present().all(|v| v == 0) {
        return None;
    }
    let values = slots.values(|i| cells.get(i).map(|v| as_float(v, bars.scale.of(field))));
    let mut pane = pane(name, 0.13, 0, vec![Layer::Columns(values)]);
    pane.low = 0.0;
    Some(pane)
}

/// The close of another series at each time, where it has a bar then.
fn closes_at(other: &Columns, times: &[Micros]) -> Vec<Option<f64>> {
    let view = BarView::new(other);
    let close = |t: &Micros| {
        let bar = view.bar(other.time.binary_search(t).ok()?)?;
        Some(as_float(bar.close, other.scale.price))
    };
    times.iter().map(close).collect()
}

fn pane(name: &str, share: f64, decimals: usize, layers: Vec<Layer>) -> Pane {
    let (mut low, mut high) = (f64::MAX, f64::MIN);
    let mut see = |v: f64| (low, high) = (low.min(v), high.max(v));
    for layer in &layers {
        match layer {
            Layer::Candles(c) | Layer::Strokes(c) => {
                c.iter().flatten().for_each(|c| [c.low, c.high].into_iter().for_each(&mut see));
            }
            Layer::Line { values, .. } => values.iter().flatten().copied().for_each(&mut see),
            Layer::Columns(values) => values.iter().flatten().copied().for_each(&mut see),
        }
    }
    if low > high {
        (low, high) = (0.0, 1.0);
    }
    if high <= low {
        (low, high) = (low - low.abs().max(1.0) * 1e-4, high + high.abs().max(1.0) * 1e-4);
    }
    Pane { name: name.into(), share, low, high, decimals, is_log: false, layers }
}

/// Labels where a new unit of wall time begins, at most about two dozen.
fn ticks(times: &[Micros], clock: &Clock) -> Vec<Tick> {
    let (Some(first), Some(last)) = (times.first(), times.last()) else { return Vec::new() };
    let span = last - first;
    let unit =
        [MINUTE * 5, MINUTE * 15, HOUR, HOUR * 4, DAY, DAY * 7, DAY * 30, DAY * 91, DAY * 365, DAY * 1826]
            .into_iter()
            .find(|u| span / u <= 24)
            .unwrap_or(DAY * 3652);
    let mut out: Vec<Tick> = Vec::new();
    let mut before: Option<i64> = None;
    for (slot, &t) in times.iter().enumerate() {
        let wall = clock.to_wall(t);
        let (key, label) = mark_of(wall, unit);
        if before.replace(key).is_some_and(|b| b != key) {
            out.push(Tick { slot, label });
        }
    }
    out
}

/// Which unit a wall time lies in, and the label of its beginning.
fn mark_of(wall: Micros, unit: Micros) -> (i64, String) {
    let day = time::day_of(wall);
    let (year, month, _) = time::civil_from_days(day);
    let date = time::date(day);
    if unit < DAY {
        let within = wall.rem_euclid(DAY);
        let clock = format!("{:02}:{:02}", within / HOUR, within / MINUTE % 60);
        // The first bar of a day is labelled with its date.
        let is_new_day = within < unit;
        (wall.div_euclid(unit), if is_new_day { date[5..].to_owned() } else { clock })
    } else if unit == DAY {
        (day, date[5..].to_owned())
    } else if unit == 7 * DAY {
        (time::monday_of(day), date[5..].to_owned())
    } else if unit <= 91 * DAY {
        let months = if unit > 30 * DAY { 3 } else { 1 };
        let key = (year * 12 + month - 1).div_euclid(months);
        (key, if month == 1 { format!("{year}") } else { date[..7].to_owned() })
    } else {
        (year.div_euclid(unit / (365 * DAY)), year.to_string())
    }
}

#[cfg(test)]
pub(crate) mod tests {
    use super::*;
    use stavel_core::model::Scale;

    pub fn bars(count: i64) -> Columns {
        let start = time::parse("2024-03-05 10:00").unwrap_or_default();
        let fields = vec![Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
        let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
        for i in 0..count {
            let open = 102_000 + (i * 37) % 200;
            rows.time.push(start + i * HOUR);
            [open, open + 30, open - 25, open + (i % 3 - 1) * 20, 5 + i % 9, 12 + i % 4]
                .into_iter()
                .zip(&mut rows.data)
                .for_each(|(v, c)| c.push(v));
        }
        rows
    }

    #[test]
    fn a_scene_has_panes_for_what_there_is() {
        let rows = bars(150);
        let clock = Clock::utc();
        let request = SceneRequest {
            title: "NOKSEK".into(),
            with: Some(("other".into(), &rows)),
            average: Some(10),
            ..SceneRequest::of(&rows, &clock)
        };
        let made = scene(&request);
        assert_eq!(
            made.panes.iter().map(|p| p.name.as_str()).collect::<Vec<_>>(),
            ["price", "volume", "spread"]
        );
        assert!((made.panes.iter().map(|p| p.share).sum::<f64>() - 1.0).abs() < 1e-9);
        assert_eq!(made.panes[0].layers.len(), 3);
        let Layer::Line { values, .. } = &made.panes[0].layers[1] else { panic!("a line") };
        assert_eq!(values[8], None);
        let mean = rows.column(Field::Close)[0..10].iter().sum::<i64>() as f64 / 10.0 / 1e5;
        assert!((values[9].unwrap() - mean).abs() < 1e-9);
        assert_eq!(made.ticks[0].label, "03-06");
    }

    #[test]
    fn the_mean_begins_with_the_bars_before_and_gaps_are_left_out_or_shown() {
        let mut rows = bars(60);
        // Two days are missing after the 40th bar, and the 50th has no price.
        rows.time[40..].iter_mut().for_each(|t| *t += 2 * DAY);
        rows.data[..4].iter_mut().for_each(|c| c[50] = stavel_core::model::ABSENT);
        let clock = Clock::utc();
        let request = SceneRequest { average: Some(10), lead: 20, ..SceneRequest::of(&rows, &clock) };
        let closed = scene(&request);
        assert_eq!((closed.times.len(), closed.times[0]), (40, rows.time[20]));
        let Layer::Line { values, .. } = &closed.panes[0].layers[1] else { panic!("a line") };
        let mean = rows.column(Field::Close)[11..=20].iter().sum::<i64>() as f64 / 10.0 / 1e5;
        assert!((values[0].unwrap() - mean).abs() < 1e-9);
        // A price that is not known is neither drawn nor part of the mean.
        let Layer::Candles(candles) = &closed.panes[0].layers[0] else { panic!("candles") };
        assert_eq!((candles[30], values[30]), (None, None));
        assert!(values[31].is_some());
        let breaks: Vec<usize> =
            closed.edges.iter().filter(|e| e.kind == EdgeKind::Break).map(|e| e.slot).collect();
        assert_eq!(breaks, [20]);
        let days = closed.edges.iter().filter(|e| e.kind == EdgeKind::Day).map(|e| closed.times[e.slot]);
        assert!(days.clone().all(|t| t % DAY == 0) && days.count() == 1);
        let open = scene(&SceneRequest { gaps: Some(HOUR), ..request });
        assert_eq!(open.times.len(), 40 + 48);
        assert!(open.times.windows(2).all(|w| w[1] - w[0] == HOUR));
        let Layer::Candles(candles) = &open.panes[0].layers[0] else { panic!("candles") };
        assert!(candles[20..68].iter().all(Option::is_none) && candles[68].is_some());
        assert!(open.edges.iter().all(|e| e.kind == EdgeKind::Day));
    }

    #[test]
    fn a_second_series_ranges_and_ratios_have_their_place() {
        let rows = bars(30);
        let clock = Clock::utc();
        let request = SceneRequest {
            with: Some(("other".into(), &rows)),
            is_beside: true,
            is_log: true,
            has_ranges: true,
            style: BarStyle::Bars,
            ..SceneRequest::of(&rows, &clock)
        };
        let made = scene(&request);
        let names: Vec<&str> = made.panes.iter().map(|p| p.name.as_str()).collect();
        assert_eq!(names, ["price", "second", "volume", "spread", "true range"]);
        let price = &made.panes[0];
        assert!(matches!(price.layers[0], Layer::Strokes(_)) && price.is_log);
        let middle = price.value_at(0.5);
        assert!((middle * middle - price.low * price.high).abs() < 1e-9, "the mean of ratios");
        assert!((price.share_of(middle) - 0.5).abs() < 1e-12);
        let Layer::Columns(ranges) = &made.panes[4].layers[0] else { panic!("columns") };
        assert!((ranges[0].unwrap() - 55e-5).abs() < 1e-9 && ranges[5].unwrap() >= ranges[0].unwrap());
    }

    #[test]
    fn an_empty_scene_is_no_trouble() {
        let rows = bars(0);
        let clock = Clock::utc();
        let request = SceneRequest { average: Some(5), ..SceneRequest::of(&rows, &clock) };
        assert_eq!(scene(&request).ticks, []);
    }
}
