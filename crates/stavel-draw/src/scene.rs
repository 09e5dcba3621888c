//! Charts as data.

use stavel_core::error::printable;
use stavel_core::model::price::as_float;
use stavel_core::model::time::{self, DAY, HOUR, MINUTE};
use stavel_core::model::{Bar, BarView, Clock, Columns, Field, Micros};

/// Everything a chart shows, on one axis of slots: slot `i` is the `i`-th bar.
#[derive(Debug, Clone, PartialEq)]
pub struct Scene {
    pub title: String,
    /// When each slot begins, UTC.
    pub times: Vec<Micros>,
    /// From top to bottom.
    pub panes: Vec<Pane>,
    /// Labels of the time axis.
    pub ticks: Vec<Tick>,
}

/// A label on the time axis.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tick {
    pub slot: usize,
    pub label: String,
}

/// A strip of the chart with its own value axis.
#[derive(Debug, Clone, PartialEq)]
pub struct Pane {
    pub name: String,
    /// Its part of the height; all parts together are the whole.
    pub share: f64,
    pub low: f64,
    pub high: f64,
    /// Decimals of its labels.
    pub decimals: usize,
    pub layers: Vec<Layer>,
}

/// Things drawn in a pane; one value a slot.
#[derive(Debug, Clone, PartialEq)]
pub enum Layer {
    Candles(Vec<Candle>),
    /// A line, broken where there is no value.
    Line {
        name: String,
        values: Vec<Option<f64>>,
    },
    /// Columns from the foot of the pane; none where the value is not known.
    Columns(Vec<Option<f64>>),
}

/// A bar in price units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Candle {
    pub open: f64,
    pub high: f64,
    pub low: f64,
    pub close: f64,
}

impl Pane {
    /// Round values within the pane, some six in a large one.
    pub fn labels(&self) -> Vec<f64> {
        let span = self.high - self.low;
        let want = if self.share > 0.4 { 6.0 } else { 2.0 };
        let rough = span / want;
        let power = 10f64.powf(rough.log10().floor());
        let round = [1.0, 2.0, 5.0, 10.0].into_iter().map(|m| m * power).find(|s| *s >= rough);
        let step = round.unwrap_or(power * 10.0);
        let first = (self.low / step).ceil();
        (0..20).map(|i| (first + i as f64) * step).take_while(|v| *v <= self.high).collect()
    }
}

impl Candle {
    /// True where it closed at or above its open.
    pub fn rises(&self) -> bool {
        self.close >= self.open
    }
}

/// What a chart is to show.
pub struct SceneRequest<'a> {
    pub title: String,
    pub bars: &'a Columns,
    /// A second series, drawn as a line of closes.
    pub with: Option<(String, &'a Columns)>,
    /// Bars in the moving average.
    pub average: Option<usize>,
    /// The clock of the time labels.
    pub clock: &'a Clock,
}

/// Makes the scene of some bars; names are made printable, since no picture may hold control characters.
pub fn scene(request: &SceneRequest<'_>) -> Scene {
    let bars = request.bars;
    let places = bars.scale.price;
    let view = BarView::new(bars);
    let mut before = Bar::default();
    let candles: Vec<Candle> = (0..bars.len())
        .map(|i| {
            // A row without a price stands where the last one was left.
            let bar = view.bar(i).unwrap_or(Bar::flat(before.close));
            before = bar;
            Candle {
                open: as_float(bar.open, places),
                high: as_float(bar.high, places),
                low: as_float(bar.low, places),
                close: as_float(bar.close, places),
            }
        })
        .collect();
    let closes: Vec<f64> = candles.iter().map(|c| c.close).collect();
    let mut layers = vec![Layer::Candles(candles)];
    if let Some(n) = request.average.filter(|n| *n > 1) {
        layers.push(Layer::Line { name: format!("mean of {n}"), values: moving_average(&closes, n) });
    }
    if let Some((name, other)) = &request.with {
        layers.push(Layer::Line { name: printable(name), values: closes_at(other, &bars.time) });
    }
    let mut panes = vec![pane("price", 0.74, places as usize, layers)];
    panes.extend(columns_pane("volume", bars, Field::Volume));
    panes.extend(columns_pane("spread", bars, Field::Spread));
    let total: f64 = panes.iter().map(|p| p.share).sum();
    panes.iter_mut().for_each(|p| p.share /= total);
    Scene {
        title: printable(&request.title),
        ticks: ticks(&bars.time, request.clock),
        times: bars.time.clone(),
        panes,
    }
}

fn columns_pane(name: &str, bars: &Columns, field: Field) -> Option<Pane> {
    let cells = bars.cells(field);
    // Nothing to see where no row has a value, or where a volume is counted nowhere.
    if cells.is_absent() || field == Field::Volume && cells.present().all(|v| v == 0) {
        return None;
    }
    let values = (0..bars.len()).map(|i| cells.get(i).map(|v| as_float(v, bars.scale.of(field)))).collect();
    let mut pane = pane(name, 0.13, 0, vec![Layer::Columns(values)]);
    pane.low = 0.0;
    Some(pane)
}

/// Mean of the last `n` values; none for the first `n - 1`.
pub fn moving_average(values: &[f64], n: usize) -> Vec<Option<f64>> {
    let mut sum = 0.0;
    let mut out = Vec::with_capacity(values.len());
    for (i, v) in values.iter().enumerate() {
        sum += v;
        if i >= n {
            sum -= values[i - n];
        }
        out.push((i + 1 >= n).then(|| sum / n as f64));
    }
    out
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
            Layer::Candles(c) => c.iter().for_each(|c| [c.low, c.high].into_iter().for_each(&mut see)),
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
    Pane { name: name.into(), share, low, high, decimals, layers }
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
        let request = SceneRequest {
            title: "NOKSEK".into(),
            bars: &rows,
            with: Some(("other".into(), &rows)),
            average: Some(10),
            clock: &Clock::utc(),
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
    fn an_empty_scene_is_no_trouble() {
        let rows = bars(0);
        let request = SceneRequest {
            title: String::new(),
            bars: &rows,
            with: None,
            average: Some(5),
            clock: &Clock::utc(),
        };
        assert_eq!(scene(&request).ticks, []);
    }
}
