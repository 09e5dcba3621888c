//! Mending: new rows out of rows and the kinds of fault to mend.

use std::collections::HashSet;

use super::{Kind, Report};
use crate::model::session::OpenHours;
use crate::model::{Columns, Field, Micros, Session, Span};
use crate::{Error, Result};

/// Mended rows and how many were changed or dropped for each kind.
pub struct Mended {
    pub rows: Columns,
    pub counts: Vec<(Kind, u64)>,
}

/// Mends the findings of `report` of the given kinds. Rows must be all rows of the series.
///
/// # Errors
/// Where one of the kinds has no mend.
pub fn mend(mut rows: Columns, report: &Report, kinds: &[Kind], session: &Session) -> Result<Mended> {
    let mut counts = Vec::new();
    for &kind in Kind::ALL.iter().filter(|k| kinds.contains(k)) {
        let before = rows.len() as u64;
        let changed = match kind {
            Kind::OutOfOrder => report.count(kind).1,
            Kind::BadOhlc => widen(&mut rows),
            Kind::DuplicateTime | Kind::ConflictingTime => {
                keep_first(&mut rows, kind == Kind::DuplicateTime);
                before - rows.len() as u64
            }
            Kind::ClosedMarket => {
                drop_closed(&mut rows, session);
                before - rows.len() as u64
            }
            Kind::Spike | Kind::NonPositive | Kind::Crossed => {
                drop_found(&mut rows, report, kind);
                before - rows.len() as u64
            }
            Kind::Missing | Kind::ClockSlip => {
                return Err(Error::arguments(format!("There is no mend for {}.", kind.word())));
            }
        };
        counts.push((kind, changed));
    }
    Ok(Mended { rows, counts })
}

/// Makes high and low of each bar hold its open and close; gives the number of bars changed.
fn widen(rows: &mut Columns) -> u64 {
    let [open, high, low, close] =
        [Field::Open, Field::High, Field::Low, Field::Close].map(|f| rows.column(f).to_vec());
    let mut changed = 0;
    for i in 0..rows.len().min(open.len()) {
        // High and low are each judged by open and close alone: one that is wrong must not spoil the other.
        let (top, bottom) = (high[i].max(open[i]).max(close[i]), low[i].min(open[i]).min(close[i]));
        if (top, bottom) != (high[i], low[i]) {
            changed += 1;
            for (field, value) in [(Field::High, top), (Field::Low, bottom)] {
                if let Some(column) = rows.column_mut(field) {
                    column[i] = value;
                }
            }
        }
    }
    changed
}

/// Of rows at one time keeps the first: of equal ones, or of all.
fn keep_first(rows: &mut Columns, only_equal: bool) {
    let mut drop = HashSet::new();
    let mut group = 0;
    for i in 1..rows.len() {
        if rows.time[i] != rows.time[group] {
            group = i;
        } else if !only_equal || (group..i).any(|j| !drop.contains(&j) && rows.same_values(i, rows, j)) {
            drop.insert(i);
        }
    }
    rows.retain(|i| !drop.contains(&i));
}

fn drop_closed(rows: &mut Columns, session: &Session) {
    let Some((first, last)) = rows.ends() else { return };
    let mut open = OpenHours::new(session, Span::new(first, last + 1));
    let is_open: Vec<bool> = rows.time.iter().map(|&t| open.is_open(t)).collect();
    rows.retain(|i| is_open[i]);
}

fn drop_found(rows: &mut Columns, report: &Report, kind: Kind) {
    let spans: Vec<Span> = report.findings.iter().filter(|f| f.kind == kind).map(|f| f.span).collect();
    let times: Vec<Micros> = rows.time.clone();
    let bad: Vec<bool> = match kind {
        Kind::Crossed => {
            let (bid, ask) = (rows.column(Field::Bid), rows.column(Field::Ask));
            bid.iter().zip(ask).map(|(b, a)| b > a).collect()
        }
        Kind::NonPositive => (0..rows.len())
            .map(|i| rows.fields.iter().zip(&rows.data).any(|(f, c)| f.is_price() && c[i] <= 0))
            .collect(),
        _ => times.iter().map(|t| spans.iter().any(|s| s.holds(*t))).collect(),
    };
    rows.retain(|i| !bad[i]);
}
