//! The rows of contracts by session day.

use std::collections::BTreeMap;

use crate::Result;
use crate::bars::Grid;
use crate::job::Job;
use crate::model::session::SundayPart;
use crate::model::time::weekday;
use crate::model::{Field, Frame, Micros, Session, Span};
use crate::store::{SeriesInfo, Shelf};

/// What a contract did on a session day.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct DayTotal {
    pub rows: u64,
    /// The volume that is known, in the finest scale of all contracts; none where none is.
    pub volume: Option<i64>,
    /// The last open interest that is known.
    pub open_interest: Option<i64>,
}

/// A day on which some contract traded.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct TradingDay {
    /// In days since 1970-01-01.
    pub day: i64,
    /// Where it begins: its midnight, or its first row before that.
    pub from: Micros,
}

/// The trading days of all contracts, and what each did on each of them.
pub(super) struct DayTable {
    pub days: Vec<TradingDay>,
    /// By contract, then by day; none where it had no row.
    pub totals: Vec<Vec<Option<DayTotal>>>,
}

/// Session days, one after the other.
struct SessionDays<'a> {
    grid: Grid,
    session: &'a Session,
}

impl SessionDays<'_> {
    /// The session day of a moment, and where its rows end. A Sunday that counts as Monday is Monday.
    fn at(&mut self, time: Micros) -> (TradingDay, bool, Span) {
        let bar = self.grid.bar_at(time);
        let day = self.session.clock.day_of(bar.stamp);
        let is_sunday = weekday(day) == 6 && self.session.sunday == SundayPart::Monday;
        let day = day + i64::from(is_sunday);
        // Where rows before its midnight are of it too, it begins with them.
        let from = self.session.day_span(day).from.min(time);
        (TradingDay { day, from }, bar.opens, bar.span)
    }
}

/// Which rows are counted, and by which days.
pub(super) struct DayCount<'a> {
    pub session: &'a Session,
    pub span: Span,
}

/// Counts the rows of each contract. A day on which the session does not open is none, so that a stray row moves no roll.
///
/// # Errors
/// Where rows cannot be read.
pub(super) fn count_days(
    shelf: &Shelf,
    contracts: &[SeriesInfo],
    count: &DayCount<'_>,
    job: &Job,
) -> Result<DayTable> {
    let finest = contracts.iter().map(|c| c.edition.scale.volume).max().unwrap_or(0);
    let mut of_contracts = Vec::new();
    let mut all: BTreeMap<i64, TradingDay> = BTreeMap::new();
    for contract in contracts {
        let mut days = SessionDays { grid: Grid::new(Frame::D1, count.session), session: count.session };
        let edition = &contract.edition;
        let has = |f: &Field| edition.fields.contains(f);
        let fields: Vec<Field> = [Field::Volume, Field::OpenInterest].into_iter().filter(has).collect();
        let more = crate::model::price::unit(finest - edition.scale.volume);
        let mut totals: BTreeMap<i64, DayTotal> = BTreeMap::new();
        for rows in shelf.scan(edition, count.span, Some(&fields))? {
            let rows = rows?;
            job.advance(rows.len() as u64)?;
            let (volume, open) = (rows.cells(Field::Volume), rows.cells(Field::OpenInterest));
            let mut row = 0;
            while row < rows.len() {
                let (day, opens, span) = days.at(rows.time[row]);
                let end = row + rows.time[row..].partition_point(|t| *t < span.to);
                let end = end.max(row + 1);
                if opens {
                    all.entry(day.day).and_modify(|d| d.from = d.from.min(day.from)).or_insert(day);
                    let total = totals.entry(day.day).or_default();
                    total.rows += (end - row) as u64;
                    let known = (row..end).filter_map(|i| volume.get(i)).map(|v| v.saturating_mul(more));
                    total.volume = total.volume.into_iter().chain(known).reduce(i64::saturating_add);
                    total.open_interest = (row..end).rev().find_map(|i| open.get(i)).or(total.open_interest);
                }
                row = end;
            }
        }
        of_contracts.push(totals);
    }
    let days: Vec<TradingDay> = all.into_values().collect();
    let totals =
        of_contracts.iter().map(|of| days.iter().map(|d| of.get(&d.day).copied()).collect()).collect();
    Ok(DayTable { days, totals })
}

impl DayTable {
    /// The last day on which a contract had a row; where volumes are known, with some volume: what is written after the last
    /// trade is no trading.
    pub fn last_of(&self, contract: usize) -> Option<usize> {
        let totals = &self.totals[contract];
        let traded = totals.iter().rposition(|t| t.and_then(|t| t.volume).is_some_and(|v| v > 0));
        traded.or_else(|| totals.iter().rposition(Option::is_some))
    }

    /// True where a contract has rows on a day.
    pub fn has(&self, contract: usize, day: usize) -> bool {
        self.totals[contract].get(day).is_some_and(Option::is_some)
    }

    /// The trading day that a moment lies in; the one before it where it lies between two.
    pub fn place_of(&self, moment: Micros) -> usize {
        self.days.partition_point(|d| d.from <= moment).saturating_sub(1)
    }
}
