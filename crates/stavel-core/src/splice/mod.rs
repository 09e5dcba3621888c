//! Splice: several sources of one instrument merged into one history.

mod level;
mod on_shelf;
mod rule;
mod seams;

pub use level::{LevelGap, SideGuess, carry_spread, measure, set_level};
pub use on_shelf::{Ask, Levels, SplicedSeries, splice_rows, splice_series};
pub use rule::{Level, Rule};
pub use seams::{Judged, judge};

use crate::model::columns::FILLED;
use crate::model::session::OpenHours;
use crate::model::time::civil_from_days;
use crate::model::{Columns, Field, Micros, Session, Span};
use crate::{Error, Result};

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
    /// What is to be said of the first seams.
    pub judged: Vec<Judged>,
}

/// Seams that are judged; a splice with more of them is a mosaic.
const JUDGED: usize = 100;

/// How sources are joined.
pub struct How<'a> {
    pub rule: &'a Rule,
    /// For [`Rule::Grade`]: one for each source.
    pub grades: &'a [MonthGrades],
    pub session: &'a Session,
    /// The length of a bar; 0 for ticks.
    pub bar: Micros,
}

/// Joins sources of one shape, each sorted by time, in UTC and of the same scale.
///
/// A field that a source does not have is 0 in its rows. Each row knows the place of its source, from 1 on, in
/// its origin.
///
/// # Errors
/// Where there are fewer than two sources or nothing in them.
pub fn splice(sources: Vec<Columns>, how: &How<'_>) -> Result<Spliced> {
    if sources.len() < 2 {
        return Err(Error::arguments("A splice needs two series or more, in order of precedence."));
    }
    if let Some(empty) = sources.iter().position(Columns::is_empty) {
        return Err(Error::input(format!("The {}. of the series to splice has no rows.", empty + 1)));
    }
    let has = |f: &Field| *f == Field::Origin || sources.iter().any(|s| s.has(*f));
    let fields: Vec<Field> = Field::ALL.into_iter().filter(has).collect();
    let even: Vec<Columns> = (sources.into_iter().enumerate())
        .map(|(place, s)| {
            let mut even = s.with_fields(&fields);
            if let Some(origin) = even.column_mut(Field::Origin) {
                // What was made up to fill a hole stays known as that.
                origin.iter_mut().filter(|o| **o != FILLED).for_each(|o| *o = place as i64 + 1);
            }
            even
        })
        .collect();
    let chosen = match how.rule {
        Rule::Span | Rule::Holes | Rule::Cut(_) => by_precedence(&even, how.rule, how.session),
        Rule::Hours(week) => {
            let week = Session { week: week.clone(), ..how.session.clone() };
            by_hours(&even, &week)
        }
        Rule::Grade => by_grade(&even, how),
    };
    if chosen.is_empty() {
        return Err(Error::input("By this rule no row of any source is left; choose another."));
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
    let judged = seams
        .iter()
        .take(JUDGED)
        .map(|m| judge(m, &even, &rows, usual_step, (how.session, how.bar)))
        .collect();
    Ok(Spliced { usual_step, overlap: overlap(&even[0], &even[1]), rows, pieces, seams, judged })
}

type Chosen = (Micros, usize, usize);

/// How clean a source is in each month, by year and month: higher is cleaner.
pub type MonthGrades = std::collections::BTreeMap<(i64, i64), f64>;

fn all_of(source: &Columns, s: usize) -> Vec<Chosen> {
    source.time.iter().enumerate().map(|(i, t)| (*t, s, i)).collect()
}

fn by_precedence(sources: &[Columns], rule: &Rule, session: &Session) -> Vec<Chosen> {
    let mut chosen = all_of(&sources[0], 0);
    if let Rule::Cut(at) = rule {
        chosen.retain(|(t, _, _)| t >= at);
    }
    for (s, source) in sources.iter().enumerate().skip(1) {
        chosen = add_source(chosen, source, s, rule, session);
    }
    chosen
}

/// The first owns the hours of the week, the second all others where it has history; sources after it are asked
/// outside the spans of both.
fn by_hours(sources: &[Columns], week: &Session) -> Vec<Chosen> {
    let reach = |c: &Columns| c.ends().map_or(Span::new(0, 0), |(a, b)| Span::new(a, b + 1));
    let spans: Vec<Span> = sources.iter().map(reach).collect();
    let whole = spans.iter().fold(spans[0], |a, s| Span::new(a.from.min(s.from), a.to.max(s.to)));
    let mut chosen: Vec<Chosen> = Vec::new();
    for (s, source) in sources.iter().enumerate() {
        let mut hours = OpenHours::new(week, whole);
        let owns = |t: Micros, hours: &mut OpenHours| match (s, hours.is_open(t)) {
            (0, inside) => inside || !spans[1].holds(t),
            (1, inside) => !inside || !spans[0].holds(t),
            _ => spans[..s].iter().all(|span| !span.holds(t)),
        };
        let rows = all_of(source, s).into_iter().filter(|(t, _, _)| owns(*t, &mut hours));
        chosen.extend(rows);
    }
    chosen.sort_by_key(|c| c.0);
    chosen
}

/// Each month of session days to the source with the best grade in it; of equals to the first. A month that
/// nobody graded goes to the first source whose history reaches over it.
fn by_grade(sources: &[Columns], how: &How<'_>) -> Vec<Chosen> {
    let month_of = |t: Micros| {
        let (year, month, _) = civil_from_days(how.session.clock.day_of(t));
        (year, month)
    };
    let reaches = |s: &Columns, t: Micros| s.ends().is_some_and(|(a, b)| a <= t && t <= b);
    let mut best: std::collections::BTreeMap<(i64, i64), (f64, usize)> = Default::default();
    for (s, months) in how.grades.iter().enumerate() {
        for (month, grade) in months {
            let entry = best.entry(*month).or_insert((*grade, s));
            if *grade > entry.0 {
                *entry = (*grade, s);
            }
        }
    }
    let mut chosen: Vec<Chosen> = Vec::new();
    for (s, source) in sources.iter().enumerate() {
        let owned = |t: Micros| match best.get(&month_of(t)) {
            Some(b) => b.1 == s,
            None => sources[..s].iter().all(|before| !reaches(before, t)),
        };
        chosen.extend(all_of(source, s).into_iter().filter(|(t, _, _)| owned(*t)));
    }
    chosen.sort_by_key(|c| c.0);
    chosen
}

/// Adds the rows of the next source that the rule grants it.
fn add_source(
    chosen: Vec<Chosen>,
    source: &Columns,
    s: usize,
    rule: &Rule,
    session: &Session,
) -> Vec<Chosen> {
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
            Rule::Cut(at) => t < (*at).min(first),
            // These two choose by themselves.
            Rule::Hours(_) | Rule::Grade => false,
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
