//! Correlation of returns over all offsets, a week at a time, by fast Fourier transform.

use rayon::prelude::*;
use realfft::RealFftPlanner;
use realfft::num_complex::Complex;

use crate::job::Job;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, WEEK};
use crate::model::{Columns, Field};
use crate::{Error, Result};

/// The farthest a wall is taken to be from UTC.
const REACH: Micros = 14 * HOUR;
/// 1970-01-03 15:00, a Saturday: in whatever clock, currency markets rest then and clocks change after.
const WEEK_START: Micros = 2 * DAY + 15 * HOUR;
/// A return counts at most this many times the mean return, so that one jump does not speak for a week.
const CLIP: f32 = 8.0;
/// Fewest returns on both sides for a week to be looked at.
const FEWEST: usize = 100;

/// The offsets looked at: written time minus UTC, from -14 h to +14 h in steps of one bar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Offsets {
    pub step: Micros,
}

impl Offsets {
    /// How many there are.
    pub fn count(&self) -> usize {
        2 * self.around() + 1
    }
    fn around(&self) -> usize {
        (REACH / self.step) as usize
    }
    /// The offset at a place in the list.
    pub fn at(&self, place: usize) -> Micros {
        (place as Micros - self.around() as Micros) * self.step
    }
    /// The place of the offset nearest to `offset`, if it is within reach.
    pub fn place(&self, offset: Micros) -> Option<usize> {
        let place = (offset + self.around() as Micros * self.step + self.step / 2).div_euclid(self.step);
        usize::try_from(place).ok().filter(|&p| p < self.count())
    }
}

/// One week's correlation at every offset.
#[derive(Debug, Clone)]
pub struct WeekFit {
    /// When the week begins, as written.
    pub start: Micros,
    pub offsets: Offsets,
    /// From -1 to 1, for each offset.
    pub correlation: Vec<f32>,
    /// Place of the highest.
    pub best: usize,
    /// True where the highest stands out far enough from the others to mean something.
    pub speaks: bool,
}

impl WeekFit {
    /// Correlation at an offset; 0 out of reach.
    pub fn at(&self, offset: Micros) -> f32 {
        self.offsets.place(offset).map_or(0.0, |p| self.correlation[p])
    }
    /// The best offset.
    pub fn best_offset(&self) -> Micros {
        self.offsets.at(self.best)
    }
    /// The highest correlation.
    pub fn peak(&self) -> f32 {
        self.correlation[self.best]
    }
}

/// Compares bars whose times are `here` as written with bars whose times are `there` in UTC.
/// Both need closes, sorted times and bars of `step`.
///
/// # Errors
/// Where there is no week in which both have enough bars, or the person stops it.
pub fn correlate(here: &Columns, there: &Columns, step: Micros, job: &Job) -> Result<Vec<WeekFit>> {
    let offsets = Offsets { step: step.max(MINUTE) };
    let Some(((first, last), _)) = here.ends().zip(there.ends()) else {
        return Err(Error::input("One of the two series is empty; there is nothing to compare."));
    };
    let weeks: Vec<Micros> = {
        let start = WEEK_START + (first - WEEK_START).div_euclid(WEEK) * WEEK;
        (0..).map(|i| start + i * WEEK).take_while(|w| *w <= last).collect()
    };
    job.begin("align", weeks.len() as u64);
    let plan = Plan::new(offsets);
    let fits: Vec<Option<WeekFit>> = weeks
        .par_iter()
        .map(|&start| {
            job.advance(1)?;
            Ok(plan.week(here, there, start))
        })
        .collect::<Result<_>>()?;
    let fits: Vec<WeekFit> = fits.into_iter().flatten().collect();
    if fits.is_empty() {
        return Err(Error::input(
            "The two series share no week with enough bars to compare; take in history that overlaps.",
        ));
    }
    Ok(fits)
}

struct Plan {
    offsets: Offsets,
    /// Bars in a week and before and after it on the other side.
    bars: usize,
    size: usize,
    forward: std::sync::Arc<dyn realfft::RealToComplex<f32>>,
    back: std::sync::Arc<dyn realfft::ComplexToReal<f32>>,
}

impl Plan {
    fn new(offsets: Offsets) -> Plan {
        let bars = (WEEK / offsets.step) as usize;
        // Room for every offset without wrapping round, in a size made of small primes.
        let least = bars + offsets.count();
        let power = least.next_power_of_two();
        let size = if power / 4 * 3 >= least { power / 4 * 3 } else { power };
        let mut planner = RealFftPlanner::new();
        let (forward, back) = (planner.plan_fft_forward(size), planner.plan_fft_inverse(size));
        Plan { offsets, bars, size, forward, back }
    }

    fn week(&self, here: &Columns, there: &Columns, start: Micros) -> Option<WeekFit> {
        let reach = self.offsets.at(self.offsets.count() - 1);
        let x = returns(here, start, self.offsets.step, self.bars)?;
        let y = returns(there, start - reach, self.offsets.step, self.bars + self.offsets.count() - 1)?;
        let products = self.products(&x, &y);
        let energy_x: f64 = x.iter().map(|v| (v * v) as f64).sum();
        let mut energy_y: f64 = y[..self.bars].iter().map(|v| (v * v) as f64).sum();
        // Product k pairs written bar t with the bar at y[t + k], which is UTC t - reach + k: the
        // offset (written minus UTC) falls as k grows.
        let mut correlation = vec![0.0; self.offsets.count()];
        for k in 0..self.offsets.count() {
            let norm = (energy_x * energy_y).sqrt();
            let value = if norm > 0.0 { (products[k] as f64 / norm) as f32 } else { 0.0 };
            correlation[self.offsets.count() - 1 - k] = value;
            if k + self.bars < y.len() {
                energy_y += (y[k + self.bars] as f64).powi(2) - (y[k] as f64).powi(2);
            }
        }
        let best = (0..correlation.len()).max_by(|&a, &b| correlation[a].total_cmp(&correlation[b]))?;
        let speaks = stands_out(&correlation, best);
        Some(WeekFit { start, offsets: self.offsets, correlation, best, speaks })
    }

    /// Sums over t of x[t] * y[t + k], for every k.
    fn products(&self, x: &[f32], y: &[f32]) -> Vec<f32> {
        let spectrum = |values: &[f32]| {
            let mut input = self.forward.make_input_vec();
            input[..values.len()].copy_from_slice(values);
            let mut out = self.forward.make_output_vec();
            // Sizes come from the plan itself, so this cannot fail.
            let _ = self.forward.process(&mut input, &mut out);
            out
        };
        let (sx, sy) = (spectrum(x), spectrum(y));
        let mut product: Vec<Complex<f32>> = sx.iter().zip(&sy).map(|(a, b)| a.conj() * b).collect();
        for end in [0, product.len() - 1] {
            product[end].im = 0.0;
        }
        let mut out = self.back.make_output_vec();
        let _ = self.back.process(&mut product, &mut out);
        let scale = 1.0 / self.size as f32;
        out.iter_mut().for_each(|v| *v *= scale);
        out
    }
}

/// Returns on a grid of `count` steps from `start`: the change of the close where the bar before is
/// there, else 0; clipped. None where there are too few.
fn returns(rows: &Columns, start: Micros, step: Micros, count: usize) -> Option<Vec<f32>> {
    let close = rows.column(Field::Close);
    let range = rows.range_of(crate::model::Span::new(start - step, start + count as Micros * step));
    let mut out = vec![0.0f32; count];
    let (mut sum, mut seen) = (0.0f64, 0usize);
    for i in range.start.max(1)..range.end {
        if rows.time[i] - rows.time[i - 1] != step || rows.time[i] < start {
            continue;
        }
        let change = (close[i] - close[i - 1]) as f32;
        if change != 0.0 {
            out[((rows.time[i] - start) / step) as usize] = change;
            sum += change.abs() as f64;
            seen += 1;
        }
    }
    // Long bars are few in a week, short ones many.
    if seen < FEWEST.min(count / 4) {
        return None;
    }
    let most = (sum / seen as f64) as f32 * CLIP;
    out.iter_mut().for_each(|v| *v = v.clamp(-most, most));
    Some(out)
}

/// True where the peak is far above what unlike series give: eight times the spread of the others.
fn stands_out(correlation: &[f32], best: usize) -> bool {
    let others = correlation.iter().enumerate().filter(|(i, _)| i.abs_diff(best) > 2).map(|(_, v)| *v as f64);
    let (n, sum, squares) = others.fold((0.0, 0.0, 0.0), |(n, s, q), v| (n + 1.0, s + v, q + v * v));
    let mean: f64 = if n > 0.0 { sum / n } else { 0.0 };
    let spread = if n > 0.0 { (squares / n - mean * mean).max(0.0).sqrt() } else { 0.0 };
    let peak = correlation[best] as f64;
    // Few offsets (hourly bars) make a poor estimate of the spread, so the peak must also be high itself.
    peak > 0.15 && peak - mean > 8.0 * spread || n < 120.0 && peak > 0.6 && peak - mean > 3.5 * spread
}
