//! Splice: several sources of one instrument merged into one history.

mod on_shelf;

pub use on_shelf::{SplicedSeries, splice_rows, splice_series};

use crate::model::session::OpenHours;
use crate::model::{Columns, Field, Micros, Session, Span};
use crate::{Error, Result};

/// Who owns which time. Sources are given in order of precedence.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rule {
    /// The first owns all from its first to its last row; the next only what lies outside.
    Span,
    /// The same, and the next also fills open time in which those before it have no row.
    Holes,
    /// The first owns what is at or after the moment, the others what is before.
    Cut(Micros),
}

impl std::fmt::Display for Rule {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Rule::Span => f.write_str("span"),
            Rule::Holes => f.write_str("holes"),
            Rule::Cut(at) => write!(f, "cut={}", crate::model::time::rfc3339(*at)),
        }
    }
}

impl std::str::FromStr for Rule {
    type Err = Error;
    fn from_str(text: &str) -> Result<Rule> {
        match text.split_once('=') {
            None if text == "span" => Ok(Rule::Span),
            None if text == "holes" => Ok(Rule::Holes),
            Some(("cut", at)) => crate::model::time::parse(at).map(Rule::Cut),
            _ => {
                Err(Error::arguments(format!("'{text}' is not a rule; write span, holes or cut=2023-06-01.")))
            }
        }
    }
}

/// A run of rows from one source.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Piece {
    /// From its first row to its last.
    pub from: Micros,
    pub to: Micros,
    /// Place in the list of sources.
    pub source: usize,
    pub rows: u64,
}

/// Where one source follows another.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Seam {
    /// Time of the first row after it.
    pub at: Micros,
    pub before: usize,
    pub after: usize,
    /// First price after less last price before, in points.
    pub step: i64,
}

/// How two sources agree where both have rows.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Overlap {
    /// Times that both have.
    pub rows: u64,
    /// Of those, with the same close.
    pub equal: u64,
    /// Close of the second less close of the first, in points.
    pub median_diff: i64,
    /// 95 of 100 differ by no more than this, in points.
    pub p95_diff: i64,
    /// Of the changes of the closes; 0 where it cannot be told.
    pub correlation: f64,
    /// Differences from -3 or less to 3 or more points.
    pub histogram: [u64; 7],
}

/// One history out of several.
#[derive(Debug, Clone)]
pub struct Spliced {
    pub rows: Columns,
    pub pieces: Vec<Piece>,
    pub seams: Vec<Seam>,
    /// The usual step from a close to the next open, in points (median of sizes).
    pub usual_step: i64,
    /// Between the first two sources.
    pub overlap: Overlap,
}

/// Joins sources of one shape, each sorted by time, in UTC and of the same scale.
///
/// A field that a source does not have is 0 in its rows.
///
/// # Errors
/// Where there are fewer than two sources or nothing in them.
pub fn splice(sources: &[Columns], rule: Rule, session: &Session) -> Result<Spliced> {
    if sources.len() < 2 {
        return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
    }
    if let Some(empty) = sources.iter().position(Columns::is_empty) {
        return Err(Error::input(format!("The {}. of the series to splice has no rows.", empty + 1)));
    }
    let fields: Vec<Field> = Field::ALL.into_iter().filter(|f| sources.iter().any(|s| s.has(*f))).collect();
    let even: Vec<Columns> = sources.iter().map(|s| s.clone().with_fields(&fields)).collect();
    let mut chosen: Vec<(Micros, usize, usize)> =
        (0..even[0].len()).map(|i| (even[0].time[i], 0, i)).collect();
    if let Rule::Cut(at) = rule {
        chosen.retain(|(t, _, _)| *t >= at);
    }
    for (s, source) in even.iter().enumerate().skip(1) {
        chosen = add_source(chosen, source, s, rule, session);
    }
    let mut rows = Columns::empty(&fields, even[0].scale);
    // Rows that lie together in their source are copied together.
    for run in chosen.chunk_by(|a, b| a.1 == b.1 && a.2 + 1 == b.2) {
        rows.append_range(&even[run[0].1], run[0].2..run[0].2 + run.len());
    }
    let (pieces, mut seams) = pieces_of(&chosen);
    let open_or_price = |i: usize| price(&rows, i, Field::Open);
    for seam in &mut seams {
        let after = rows.time.partition_point(|&t| t < seam.at);
        if after > 0 {
            seam.step = open_or_price(after) - price(&rows, after - 1, Field::Close);
        }
    }
    let usual_step = usual_step(&rows);
    Ok(Spliced { usual_step, overlap: overlap(&even[0], &even[1]), rows, pieces, seams })
}

type Chosen = (Micros, usize, usize);

/// Adds the rows of the next source that the rule grants it.
fn add_source(chosen: Vec<Chosen>, source: &Columns, s: usize, rule: Rule, session: &Session) -> Vec<Chosen> {
    let (first, last) = match (chosen.first(), chosen.last()) {
        (Some(a), Some(b)) => (a.0, b.0),
        _ => (Micros::MAX, Micros::MIN),
    };
    let reach = source.ends().map_or(Span::new(0, 0), |(a, b)| Span::new(a, b + 1));
    let mut open = OpenHours::new(session, reach);
    let mut out = Vec::with_capacity(chosen.len() + source.len());
    let mut have = chosen.into_iter().peekable();
    for (i, &t) in source.time.iter().enumerate() {
        while let Some(c) = have.next_if(|c| c.0 <= t) {
            out.push(c);
        }
        let outside = t < first || t > last;
        let granted = match rule {
            Rule::Span => outside,
            Rule::Holes => {
                outside || out.last().is_none_or(|c: &Chosen| c.0 != t || c.1 == s) && open.is_open(t)
            }
            Rule::Cut(at) => t < at.min(first),
        };
        if granted {
            out.push((t, s, i));
        }
    }
    out.extend(have);
    out
}

fn pieces_of(chosen: &[Chosen]) -> (Vec<Piece>, Vec<Seam>) {
    let mut pieces: Vec<Piece> = Vec::new();
    let mut seams = Vec::new();
    for run in chosen.chunk_by(|a, b| a.1 == b.1) {
        let (first, last) = (run[0], run[run.len() - 1]);
        if let Some(before) = pieces.last() {
            seams.push(Seam { at: first.0, before: before.source, after: first.1, step: 0 });
        }
        pieces.push(Piece { from: first.0, to: last.0, source: first.1, rows: run.len() as u64 });
    }
    (pieces, seams)
}

/// A bar's field, or the bid or last price of a tick.
fn price(rows: &Columns, i: usize, field: Field) -> i64 {
    [field, Field::Bid, Field::Last].iter().find_map(|f| rows.column(*f).get(i)).copied().unwrap_or_default()
}

fn usual_step(rows: &Columns) -> i64 {
    let mut steps: Vec<i64> = (1..rows.len())
        .map(|i| (price(rows, i, Field::Open) - price(rows, i - 1, Field::Close)).abs())
        .collect();
    if steps.is_empty() {
        return 0;
    }
    let middle = steps.len() / 2;
    *steps.select_nth_unstable(middle).1
}

/// Compares two sources at the times that both have.
pub fn overlap(a: &Columns, b: &Columns) -> Overlap {
    let mut out = Overlap::default();
    let mut diffs: Vec<i64> = Vec::new();
    let mut before: Option<(i64, i64)> = None;
    let (mut sxy, mut sxx, mut syy) = (0.0f64, 0.0f64, 0.0f64);
    let (mut i, mut j) = (0, 0);
    while i < a.len() && j < b.len() {
        match a.time[i].cmp(&b.time[j]) {
            std::cmp::Ordering::Less => i += 1,
            std::cmp::Ordering::Greater => j += 1,
            std::cmp::Ordering::Equal => {
                let (x, y) = (price(a, i, Field::Close), price(b, j, Field::Close));
                diffs.push(y - x);
                out.histogram[((y - x).clamp(-3, 3) + 3) as usize] += 1;
                if let Some((px, py)) = before.replace((x, y)) {
                    let (dx, dy) = ((x - px) as f64, (y - py) as f64);
                    (sxy, sxx, syy) = (sxy + dx * dy, sxx + dx * dx, syy + dy * dy);
                }
                i += 1;
                j += 1;
            }
        }
    }
    if !diffs.is_empty() {
        out.rows = diffs.len() as u64;
        out.equal = diffs.iter().filter(|d| **d == 0).count() as u64;
        let middle = diffs.len() / 2;
        out.median_diff = *diffs.select_nth_unstable(middle).1;
        diffs.iter_mut().for_each(|d| *d = d.abs());
        let p95 = (diffs.len() * 95 / 100).min(diffs.len() - 1);
        out.p95_diff = *diffs.select_nth_unstable(p95).1;
        out.correlation = if sxx > 0.0 && syy > 0.0 { sxy / (sxx * syy).sqrt() } else { 0.0 };
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::MINUTE;
    use crate::model::{Clock, Scale, SessionWeek};
    use proptest::prelude::*;

    fn bars(rows: &[(i64, i64)]) -> Columns {
        let prices: Vec<i64> = rows.iter().map(|r| r.1).collect();
        Columns {
            time: rows.iter().map(|r| r.0 * MINUTE).collect(),
            fields: vec![Field::Open, Field::Close],
            data: vec![prices.clone(), prices],
            scale: Scale { price: 5, volume: 0 },
        }
    }

    fn always() -> Session {
        Session { week: SessionWeek::always(), clock: Clock::utc(), holidays: vec![] }
    }

    fn times(rows: &Columns) -> Vec<i64> {
        rows.time.iter().map(|t| t / MINUTE).collect()
    }

    #[test]
    fn the_first_owns_its_span_and_the_seams_are_told() {
        let broker = bars(&[(10, 100), (12, 102), (13, 101)]);
        let vendor = bars(&[(8, 90), (9, 95), (10, 100), (11, 99), (12, 103), (13, 101), (14, 110)]);
        let joined = splice(&[broker.clone(), vendor.clone()], Rule::Span, &always()).unwrap();
        assert_eq!(times(&joined.rows), [8, 9, 10, 12, 13, 14]);
        let pieces: Vec<(usize, u64)> = joined.pieces.iter().map(|p| (p.source, p.rows)).collect();
        assert_eq!(pieces, [(1, 2), (0, 3), (1, 1)]);
        let steps: Vec<(i64, i64)> = joined.seams.iter().map(|s| (s.at / MINUTE, s.step)).collect();
        assert_eq!(steps, [(10, 5), (14, 9)]);
        assert_eq!((joined.overlap.rows, joined.overlap.equal, joined.overlap.histogram[4]), (3, 2, 1));
        let holes = splice(&[broker.clone(), vendor.clone()], Rule::Holes, &always()).unwrap();
        assert_eq!(times(&holes.rows), [8, 9, 10, 11, 12, 13, 14]);
        let cut = splice(&[broker, vendor], Rule::Cut(12 * MINUTE), &always()).unwrap();
        assert_eq!(times(&cut.rows), [8, 9, 10, 11, 12, 13]);
        assert_eq!(cut.pieces.len(), 2);
    }

    proptest! {
        #[test]
        fn every_row_comes_from_its_owner_and_the_counts_add_up(
            a in proptest::collection::btree_set(0i64..60, 1..40),
            b in proptest::collection::btree_set(0i64..60, 1..40),
            holes: bool,
        ) {
            let make = |set: &std::collections::BTreeSet<i64>, p| bars(&set.iter().map(|t| (*t, p)).collect::<Vec<_>>());
            let rule = if holes { Rule::Holes } else { Rule::Span };
            let joined = splice(&[make(&a, 1), make(&b, 2)], rule, &always()).unwrap();
            let (first, last) = (*a.first().unwrap(), *a.last().unwrap());
            let expected: Vec<(i64, i64)> = (0..60)
                .filter_map(|t| match (a.contains(&t), b.contains(&t)) {
                    (true, _) => Some((t, 1)),
                    (false, true) if holes || t < first || t > last => Some((t, 2)),
                    _ => None,
                })
                .collect();
            let got: Vec<(i64, i64)> =
                times(&joined.rows).into_iter().zip(joined.rows.column(Field::Close).iter().copied()).collect();
            prop_assert_eq!(got, expected);
            prop_assert_eq!(joined.pieces.iter().map(|p| p.rows).sum::<u64>(), joined.rows.len() as u64);
            prop_assert_eq!(joined.seams.len() + 1, joined.pieces.len());
        }
    }
}
