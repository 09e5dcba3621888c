//! The axes of a chart: slots of time, and values of a pane.

use std::ops::Range;

use plotters::coord::ranged1d::{KeyPointHint, NoDefaultFormatting, Ranged, ValueFormatter};
use plotters::prelude::{Cartesian2d, ChartContext};

use crate::pane::Pane;
use crate::scene::Tick;

/// The time axis: slots from left to right, labelled where the scene says.
#[derive(Clone)]
pub struct BarSlots {
    pub count: usize,
    pub ticks: Vec<Tick>,
}

impl Ranged for BarSlots {
    type FormatOption = NoDefaultFormatting;
    type ValueType = f64;

    fn map(&self, slot: &f64, (from, to): (i32, i32)) -> i32 {
        from + ((slot / self.count.max(1) as f64) * f64::from(to - from)).round() as i32
    }

    fn key_points<H: KeyPointHint>(&self, _most: H) -> Vec<f64> {
        self.ticks.iter().map(|tick| tick.slot as f64 + 0.5).collect()
    }

    fn range(&self) -> Range<f64> {
        0.0..self.count as f64
    }
}

impl ValueFormatter<f64> for BarSlots {
    fn format(slot: &f64) -> String {
        format!("{slot:.0}")
    }

    fn format_ext(&self, slot: &f64) -> String {
        let tick = self.ticks.iter().find(|tick| tick.slot == *slot as usize);
        tick.map_or_else(String::new, |tick| tick.label.clone())
    }
}

/// The value axis of a pane, with the labels that the bench has.
#[derive(Clone)]
pub struct PaneAxis {
    /// The pane without its layers.
    pane: Pane,
}

impl PaneAxis {
    pub fn of(pane: &Pane) -> PaneAxis {
        PaneAxis { pane: Pane { layers: Vec::new(), ..pane.clone() } }
    }
}

impl Ranged for PaneAxis {
    type FormatOption = NoDefaultFormatting;
    type ValueType = f64;

    fn map(&self, value: &f64, (from, to): (i32, i32)) -> i32 {
        from + (self.pane.share_of(*value) * f64::from(to - from)).round() as i32
    }

    fn key_points<H: KeyPointHint>(&self, _most: H) -> Vec<f64> {
        self.pane.labels()
    }

    fn range(&self) -> Range<f64> {
        self.pane.low..self.pane.high
    }
}

impl ValueFormatter<f64> for PaneAxis {
    fn format(value: &f64) -> String {
        format!("{value}")
    }

    fn format_ext(&self, value: &f64) -> String {
        format!("{value:.*}", self.pane.decimals)
    }
}

/// A pane with its axes.
pub type Axes<'a, B> = ChartContext<'a, B, Cartesian2d<BarSlots, PaneAxis>>;
