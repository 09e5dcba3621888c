//! Seams judged: whether a join lies in a calm place, and where it would lie better.

use super::row_adapter::RowAdapter;
use super::{Seam, Source};
use crate::Result;
use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{Columns, Micros, Session, Span};
use crate::stats::median;

/// A step of this many usual steps is large.
const LARGE: i64 = 6;
/// Movement around a seam this many times the usual is a volatile hour.
const VOLATILE: f64 = 2.5;
/// How far a better place is looked for.
const NEAR: Micros = 3 * DAY;
/// How much more is read at once, for the seams that follow.
const FURTHER: Micros = 14 * DAY;

/// What is to be said of a seam.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct JudgedSeam {
    /// Open time between the last row before and the first after.
    pub gap: Micros,
    /// Movement in the hour around it over the usual hour's.
    pub unrest: f64,
    /// Median distance of closes within a day, where both sources have rows; none where they do not overlap.
    pub apart: Option<i64>,
    /// Where the two sources join more calmly, if this place is not calm.
    pub better: Option<Micros>,
}

impl JudgedSeam {
    /// What is wrong with the place, in words; none where it is calm.
    pub fn trouble(&self, seam: &Seam, usual_step: i64, bar: Micros) -> Option<String> {
        let mut out = Vec::new();
        if seam.step.abs() > LARGE * usual_step.max(1) {
            out.push("a large step");
        }
        if self.unrest > VOLATILE {
            out.push("in a volatile hour");
        }
        if self.gap > (5 * bar).max(5 * MINUTE) {
            out.push("at a gap");
        }
        (!out.is_empty()).then(|| out.join(", "))
    }
}

/// Judges seams one after another, in order of time.
pub struct SeamJudge<'a> {
    sources: &'a [Source],
    session: &'a Session,
    adapters: &'a [RowAdapter],
    bar: Micros,
    usual_step: i64,
    /// Points that an hour usually moves.
    usual_hour: f64,
    /// What was read of each source, as opens and closes, and of what span.
    read: Vec<(Span, Columns)>,
}

impl<'a> SeamJudge<'a> {
    /// `bar` is the length of a row; `usual` the step and the hour that are usual, in points.
    pub fn new(
        (sources, adapters): (&'a [Source], &'a [RowAdapter]),
        (session, bar): (&'a Session, Micros),
        (usual_step, usual_hour): (i64, f64),
    ) -> SeamJudge<'a> {
        let read = vec![(Span::new(0, 0), Columns::default()); sources.len()];
        SeamJudge { sources, session, adapters, bar, usual_step, usual_hour, read }
    }

    /// Judges a seam; `before` is the time of the last row before it.
    pub fn judge(&mut self, seam: &Seam, before: Micros) -> Result<JudgedSeam> {
        // A weekend between two rows is no gap.
        let after = (before + self.bar).min(seam.at);
        let gap = self.session.open_spans(Span::new(after, seam.at)).iter().map(Span::length).sum();
        for source in [seam.before, seam.after] {
            self.look(source, seam.at)?;
        }
        let (a, b) = (&self.read[seam.before].1, &self.read[seam.after].1);
        let moved = movement(a, Span::new(seam.at - HOUR / 2, seam.at))
            + seam.step.abs() as f64
            + movement(b, Span::new(seam.at, seam.at + HOUR / 2));
        let usual = self.usual_hour.max(1.0);
        let near = Span::new(seam.at - DAY, seam.at + DAY);
        let mut apart: Vec<i64> =
            pairs(a, b, near).map(|(_, i, j)| (close(a, i) - close(b, j)).abs()).collect();
        let apart = median(&mut apart);
        let mut judged = JudgedSeam { gap, unrest: moved / usual, apart, better: None };
        if judged.trouble(seam, self.usual_step, self.bar).is_some() {
            judged.better = calmer(a, b, seam.at, usual, self.bar);
        }
        Ok(judged)
    }

    /// The last bar of a source before a moment and the first at or after it: time, open, close.
    pub fn bars_around(&mut self, source: usize, at: Micros) -> Result<[Option<(Micros, i64, i64)>; 2]> {
        self.look(source, at)?;
        let rows = &self.read[source].1;
        let after = rows.time.partition_point(|t| *t < at);
        let bar = |i: usize| Some((*rows.time.get(i)?, rows.data[0][i], close(rows, i)));
        Ok([after.checked_sub(1).and_then(bar), bar(after)])
    }

    /// Reads a source around a moment, unless that was read already.
    fn look(&mut self, source: usize, at: Micros) -> Result<()> {
        let wanted = Span::new(at - NEAR, at + NEAR);
        let (have, rows) = &mut self.read[source];
        if have.from > wanted.from || have.to < wanted.to {
            // Days of ticks are many rows; bars of weeks are few.
            let further = if self.sources[source].is_ticks() { 0 } else { FURTHER };
            *have = Span::new(wanted.from, wanted.to + further);
            *rows = self.adapters[source].adapt(self.sources[source].opens_and_closes(*have)?);
        }
        Ok(())
    }
}

fn close(rows: &Columns, i: usize) -> i64 {
    rows.data[1][i]
}

/// The times both have within a span, with the rows.
fn pairs<'a>(
    a: &'a Columns,
    b: &'a Columns,
    span: Span,
) -> impl Iterator<Item = (Micros, usize, usize)> + 'a {
    a.range_of(span).filter_map(move |i| Some((a.time[i], i, b.time.binary_search(&a.time[i]).ok()?)))
}

/// Points moved from row to row within a span.
fn movement(rows: &Columns, span: Span) -> f64 {
    let range = rows.range_of(span);
    let steps = range.clone().skip(1).map(|i| (close(rows, i) - close(rows, i - 1)).abs());
    steps.sum::<i64>() as f64
}

/// The nearest time at which both have rows without a gap, the hour is calm and the closes are the same.
fn calmer(a: &Columns, b: &Columns, at: Micros, usual: f64, bar: Micros) -> Option<Micros> {
    let follows = |rows: &Columns, i: usize| i > 0 && rows.time[i] - rows.time[i - 1] <= bar.max(MINUTE);
    let calm = |t: Micros| movement(a, Span::new(t - HOUR / 2, t + HOUR / 2)) < usual;
    let mut near: Vec<(Micros, usize, usize)> = pairs(a, b, Span::new(at - NEAR, at + NEAR))
        .filter(|(_, i, j)| {
            follows(a, *i) && follows(b, *j) && (close(a, i - 1) - close(b, j - 1)).abs() <= 1
        })
        .collect();
    near.sort_by_key(|(t, ..)| (t - at).abs());
    near.iter().map(|p| p.0).find(|t| calm(*t))
}
