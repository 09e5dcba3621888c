//! What bars that do have ticks say of the way prices take within a bar.

use crate::model::Bar;

/// Cells from low to high, for the open and for the close.
const CELLS: usize = 5;

/// Bars that count as much as the theory does.
const PRIOR: f64 = 20.0;

/// How often the high came before the low, by where a bar opens and closes between them; and how many ticks bars have.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct PathShape {
    /// For each cell of open and close: bars whose high came first, and bars that were looked at.
    cells: [[(u32, u32); CELLS]; CELLS],
    bars: u64,
    ticks: u64,
}

/// Where a price lies from the low, 0, to the high, 1.
fn place(bar: &Bar, price: i64) -> f64 {
    (price - bar.low) as f64 / (bar.high - bar.low).max(1) as f64
}

fn cell(share: f64) -> usize {
    ((share * CELLS as f64) as usize).min(CELLS - 1)
}

impl PathShape {
    /// Counts a bar, how many ticks it had, and whether its high came before its low; none where it is flat.
    pub fn count(&mut self, bar: &Bar, ticks: u64, high_first: Option<bool>) {
        self.bars += 1;
        self.ticks += ticks;
        if let Some(high_first) = high_first {
            let at = &mut self.cells[cell(place(bar, bar.open))][cell(place(bar, bar.close))];
            at.0 += u32::from(high_first);
            at.1 += 1;
        }
    }

    /// Bars that were counted.
    pub fn bars(&self) -> u64 {
        self.bars
    }

    /// Ticks of a bar, on average; none where none was counted.
    pub fn ticks_of_a_bar(&self) -> Option<u64> {
        (self.bars > 0).then(|| (self.ticks as f64 / self.bars as f64).round() as u64)
    }

    /// How likely it is that the high came before the low.
    ///
    /// A walk that begins at the share `u` between low and high reaches the high first with the chance `u` (the
    /// gambler's ruin); seen from its end, at the share `v`, the last end it left is the high with the chance `v`. Both
    /// together give `u(1-v) / (u(1-v) + (1-u)v)`, which counts as much as [`PRIOR`] bars beside those of its cell.
    pub fn high_first(&self, bar: &Bar) -> f64 {
        let (u, v) = (place(bar, bar.open), place(bar, bar.close));
        let (high, low) = (u * (1.0 - v), (1.0 - u) * v);
        let theory = if high + low > 0.0 { high / (high + low) } else { 0.5 };
        let (first, bars) = self.cells[cell(u)][cell(v)];
        (f64::from(first) + PRIOR * theory) / (f64::from(bars) + PRIOR)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn theory_stands_in_until_bars_have_been_seen() {
        let bar = |open, close| Bar { open, high: 100, low: 0, close };
        let mut shape = PathShape::default();
        assert_eq!(shape.high_first(&bar(50, 50)), 0.5);
        assert!(shape.high_first(&bar(90, 10)) > 0.95 && shape.high_first(&bar(10, 90)) < 0.05);
        assert_eq!(shape.high_first(&bar(0, 0)), 0.5, "the bar itself says nothing more");
        for i in 0..980 {
            shape.count(&bar(50, 50), 30, Some(i % 10 != 0));
        }
        assert!(
            (shape.high_first(&bar(50, 50)) - 0.892).abs() < 0.001,
            "nine of ten, and a little of a half"
        );
        assert_eq!((shape.ticks_of_a_bar(), PathShape::default().ticks_of_a_bar()), (Some(30), None));
    }
}
