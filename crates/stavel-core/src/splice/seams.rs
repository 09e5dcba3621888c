//! Seams judged: whether a join lies in a calm place, and where it would lie better.

use super::{Seam, price};
use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{Columns, Field, Micros, Session, Span};

/// A step of this many usual steps is large.
const LARGE: i64 = 6;
/// Movement around a seam this many times the usual is a volatile hour.
const VOLATILE: f64 = 2.5;
/// How far a better place is looked for.
const NEAR: Micros = 3 * DAY;

/// What is to be said of a seam.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Judged {
    /// Open time between the last row before and the first after.
    pub gap: Micros,
    /// Movement in the hour around it over the usual hour's.
    pub unrest: f64,
    /// Median distance of closes within a day, where both sources have rows; none where they do not overlap.
    pub apart: Option<i64>,
    /// Where the two sources join more calmly, if this place is not calm.
    pub better: Option<Micros>,
}

impl Judged {
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

/// Judges the seam between two sources; `joined` are the rows of the result.
pub fn judge(
    seam: &Seam,
    sources: &[Columns],
    joined: &Columns,
    usual_step: i64,
    (session, bar): (&Session, Micros),
) -> Judged {
    let at = joined.time.partition_point(|t| *t < seam.at);
    let before = at.checked_sub(1).map_or(seam.at, |i| joined.time[i]);
    // A weekend between two rows is no gap.
    let gap =
        session.open_spans(Span::new((before + bar).min(seam.at), seam.at)).iter().map(Span::length).sum();
    let usual = usual_hour(joined, bar);
    let unrest = movement(joined, Span::new(seam.at - HOUR / 2, seam.at + HOUR / 2)) / usual.max(1.0);
    let (a, b) = (&sources[seam.before], &sources[seam.after]);
    let near = Span::new(seam.at - DAY, seam.at + DAY);
    let mut apart: Vec<i64> = pairs(a, b, near).map(|(_, i, j)| (close(a, i) - close(b, j)).abs()).collect();
    let apart = if apart.is_empty() {
        None
    } else {
        let middle = apart.len() / 2;
        Some(*apart.select_nth_unstable(middle).1)
    };
    let mut judged = Judged { gap, unrest, apart, better: None };
    if judged.trouble(seam, usual_step, bar).is_some() {
        judged.better = calmer(a, b, seam.at, usual, bar);
    }
    judged
}

fn close(rows: &Columns, i: usize) -> i64 {
    price(rows, i, Field::Close)
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

/// What an hour of rows moves: the mean over the whole history, by rows in an hour.
fn usual_hour(rows: &Columns, bar: Micros) -> f64 {
    let each = (rows.len() / 20_000).max(1);
    let steps: Vec<i64> =
        (1..rows.len()).step_by(each).map(|i| (close(rows, i) - close(rows, i - 1)).abs()).collect();
    let mean = steps.iter().sum::<i64>() as f64 / steps.len().max(1) as f64;
    mean * (HOUR / bar.max(MINUTE)).max(1) as f64
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
