//! Spreads: what is usual in each hour of the week, and what is absurd.

use super::hours::WEEK_HOURS;
use super::piece::CheckRows;
use super::{Finding, FindingDetail, FindingKind, SpreadStats};
use crate::counts::Frequencies;
use crate::model::{Micros, Span, present};

/// A spread is absurd beyond this many times the median of its hour of the week …
const FACTOR: i64 = 10;
/// … and this many times what 95 of 100 rows do not exceed.
const OVERALL: i64 = 4;
/// … and this many times what 9 of 10 rows of its hour do not exceed.
const BUSY: i64 = 3;
/// A point, as the mean counts.
const ONE: i64 = 1024;
/// Spreads beyond this many points count as this wide in the running mean.
const FARTHEST: i64 = 1 << 40;
/// Rows kept to be judged at the end.
const KEPT: usize = 500_000;

/// Gathers spreads. Rows that do not know theirs are passed over; a spread of 0 is one.
pub struct SpreadWatch {
    hours: Vec<Frequencies>,
    /// Rows far above the mean: time, spread, hour of the week.
    wide: Vec<(Micros, i64, u8, Micros)>,
    /// Over some hundred rows, in parts of [`ONE`].
    mean: i64,
    rows: u64,
    before: Micros,
}

impl Default for SpreadWatch {
    fn default() -> Self {
        let hours = vec![Frequencies::default(); WEEK_HOURS];
        SpreadWatch { hours, wide: Vec::new(), mean: 0, rows: 0, before: Micros::MIN }
    }
}

impl SpreadWatch {
    /// `hours`: the hour of the week of each row.
    pub fn piece(&mut self, piece: &CheckRows<'_>, hours: &[u8]) {
        for (i, spread) in piece.spread.iter().enumerate() {
            let Some(spread) = present(*spread) else { continue };
            let time = piece.time[i];
            self.hours[hours[i] as usize].add(spread, 1);
            self.rows += 1;
            // What is far beyond any spread counts as such, however far.
            let here = spread.clamp(-FARTHEST, FARTHEST) * ONE;
            let wide = (self.mean * 4).max(ONE);
            if here > wide && self.rows > 100 && self.wide.len() < KEPT && piece.counts(i) {
                self.wide.push((time, spread, hours[i], self.before));
            }
            self.mean += (here.min(wide) - self.mean) >> 8;
            if self.rows <= 100 {
                self.mean = self.mean.max(here);
            }
            self.before = time;
        }
    }

    /// The usual spread so far, about.
    pub fn usual(&self) -> i64 {
        self.mean / ONE
    }

    /// Spread quantiles over all and the median of each hour of the week; none where no spread is known.
    pub fn finish(
        self,
        row_length: Micros,
        out: &mut Vec<Finding>,
    ) -> Option<(SpreadStats, Vec<Option<i64>>)> {
        let mut all = Frequencies::default();
        for hour in &self.hours {
            hour.each().for_each(|(v, n)| all.add(v, n));
        }
        if all.total() == 0 {
            return None;
        }
        let median = |c: &Frequencies| (c.total() >= 20).then(|| c.quantile(0.5));
        let medians: Vec<Option<i64>> = self.hours.iter().map(median).collect();
        // Hours in which the market is wide for some minutes every day are known by their own widest tenth.
        let wide_part: Vec<i64> =
            self.hours.iter().map(|c| if c.total() >= 20 { c.quantile(0.9) } else { 0 }).collect();
        let (overall, p95) = (all.quantile(0.5), all.quantile(0.95));
        let absurd = |spread: i64, hour: u8| {
            let usual = medians[hour as usize].unwrap_or(overall).max(overall);
            spread > FACTOR * usual.max(1)
                && spread > OVERALL * p95
                && spread > BUSY * wide_part[hour as usize]
        };
        let mut last: Option<(Micros, i64)> = None;
        for (time, spread, hour, before) in self.wide {
            if !absurd(spread, hour) {
                continue;
            }
            // Only rows that follow each other are one finding: what lies between is good.
            match (last, out.last_mut()) {
                (Some((t, most)), Some(f)) if t == before && f.kind == FindingKind::WideSpread => {
                    f.span.to = time + row_length.max(1);
                    f.rows += 1;
                    let most = most.max(spread);
                    f.detail = FindingDetail::Wide { spread: most, usual: overall };
                    last = Some((time, most));
                }
                _ => {
                    let span = Span::new(time, time + row_length.max(1));
                    let detail = FindingDetail::Wide { spread, usual: overall };
                    out.push(Finding { kind: FindingKind::WideSpread, span, rows: 1, detail, remedy: None });
                    last = Some((time, spread));
                }
            }
        }
        let stats = SpreadStats {
            median: overall,
            p90: all.quantile(0.9),
            p99: all.quantile(0.99),
            max: all.each().last().map_or(0, |(v, _)| v),
        };
        Some((stats, medians))
    }
}
