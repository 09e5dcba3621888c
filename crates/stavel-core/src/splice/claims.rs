//! Claims: the time each source may serve under a rule.

use std::collections::BTreeMap;

use super::SpliceRule;
use crate::model::time::{civil_from_days, days_from_civil};
use crate::model::{Session, Span};

/// How clean a source is in each month, by year and month: higher is cleaner.
pub type MonthGrades = BTreeMap<(i64, i64), f64>;

/// The spans each source may serve, in order; sources in order of precedence, each with the span from its first
/// row to the end of its last. Only under [`SpliceRule::Holes`] do claims of two sources overlap: there the later one
/// serves what those before it leave empty.
///
/// `grades` are looked at for [`SpliceRule::Grade`] only: one for each source, by months of session days.
pub fn claims(
    rule: &SpliceRule,
    reaches: &[Span],
    grades: &[MonthGrades],
    session: &Session,
) -> Vec<Vec<Span>> {
    let before = |s: usize| covered(&reaches[..s]);
    let free = |s: usize| Span::outside(&before(s));
    let whole = Span::new(
        reaches.iter().map(|r| r.from).min().unwrap_or_default(),
        reaches.iter().map(|r| r.to).max().unwrap_or_default(),
    );
    let all: Vec<Vec<Span>> = match rule {
        SpliceRule::Span => (0..reaches.len()).map(free).collect(),
        SpliceRule::Holes => {
            let open = session.open_spans(whole);
            (0..reaches.len()).map(|s| if s == 0 { vec![whole] } else { united(free(s), &open) }).collect()
        }
        SpliceRule::Cut(at) => {
            let later = vec![Span::new(*at, whole.to.max(*at))];
            let rest = |s: usize| {
                Span::shared(&[Span::new(whole.from, *at)], &Span::outside(&covered(&reaches[1..s])))
            };
            std::iter::once(later).chain((1..reaches.len()).map(rest)).collect()
        }
        SpliceRule::Hours(week) => {
            let week = Session { week: week.clone(), ..session.clone() };
            let inside = week.open_spans(whole);
            let beside = |hours: Vec<Span>, other: Option<&Span>| {
                united(hours, &Span::outside(&covered(other.map(std::slice::from_ref).unwrap_or_default())))
            };
            let first = beside(inside.clone(), reaches.get(1));
            let second = beside(Span::outside(&inside), reaches.first());
            [first, second].into_iter().chain((2..reaches.len()).map(free)).collect()
        }
        SpliceRule::Grade => by_grade(reaches, grades, session, whole),
    };
    all.iter().zip(reaches).map(|(spans, reach)| Span::shared(spans, &[*reach])).collect()
}

/// Each month of session days goes to the source with the best grade in it, of equals to the first. A month
/// that nobody graded is served as by [`SpliceRule::Span`].
fn by_grade(reaches: &[Span], grades: &[MonthGrades], session: &Session, whole: Span) -> Vec<Vec<Span>> {
    let mut best: BTreeMap<(i64, i64), (f64, usize)> = BTreeMap::new();
    for (s, months) in grades.iter().enumerate() {
        for (month, grade) in months {
            let entry = best.entry(*month).or_insert((*grade, s));
            if *grade > entry.0 {
                *entry = (*grade, s);
            }
        }
    }
    let month_of = |t| {
        let (year, month, _) = civil_from_days(session.clock.day_of(t));
        year * 12 + month - 1
    };
    let mut out = vec![Vec::new(); reaches.len()];
    for month in month_of(whole.from)..=month_of(whole.to) {
        let begin =
            |m: i64| session.clock.day_start(days_from_civil(m.div_euclid(12), m.rem_euclid(12) + 1, 1));
        let span = Span::new(begin(month), begin(month + 1));
        match best.get(&(month.div_euclid(12), month.rem_euclid(12) + 1)) {
            Some((_, s)) => out[*s].push(span),
            None => (0..reaches.len()).for_each(|s| {
                out[s].extend(Span::shared(&[span], &Span::outside(&covered(&reaches[..s]))));
            }),
        }
    }
    out.into_iter().map(Span::joined).collect()
}

/// The time that any of some spans covers.
fn covered(spans: &[Span]) -> Vec<Span> {
    let mut spans = spans.to_vec();
    spans.sort_unstable();
    Span::joined(spans)
}

fn united(mut a: Vec<Span>, b: &[Span]) -> Vec<Span> {
    a.extend_from_slice(b);
    a.sort_unstable();
    Span::joined(a)
}
