//! A strip of a chart with a value axis of its own.

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
    /// True where equal heights are equal ratios of values.
    pub is_log: bool,
    pub layers: Vec<Layer>,
}

/// Things drawn in a pane; one value a slot.
#[derive(Debug, Clone, PartialEq)]
pub enum Layer {
    /// None where a slot has no price.
    Candles(Vec<Option<Candle>>),
    /// The same as strokes: from low to high, with the open at the left and the close at the right.
    Strokes(Vec<Option<Candle>>),
    /// A line, broken where there is no value; one of a second series has a stroke of its own.
    Line { name: String, values: Vec<Option<f64>>, is_second: bool },
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
    /// How far up a value lies, from 0 at the foot to 1 at the head.
    pub fn share_of(&self, value: f64) -> f64 {
        match self.is_log {
            true => (value.max(f64::MIN_POSITIVE) / self.low).ln() / (self.high / self.low).ln(),
            false => (value - self.low) / (self.high - self.low),
        }
    }

    /// The value that lies so far up: the inverse of [`Pane::share_of`].
    pub fn value_at(&self, share: f64) -> f64 {
        match self.is_log {
            true => self.low * (self.high / self.low).powf(share),
            false => self.low + share * (self.high - self.low),
        }
    }

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
