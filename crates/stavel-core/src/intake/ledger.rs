//! The account of a reading: what became of the lines, and the rows brought to UTC and to scale.

use std::collections::BTreeMap;

use crate::error::printable;
use crate::job::Job;
use crate::model::provenance::Disorder;
use crate::model::{Columns, Micros, Scale, Shape, Unfold, present};
use crate::{Error, Result};

use super::parse::{Fault, Oddities, Parsed};
use super::plan::IntakePlan;
use super::rejects::{Rejected, Rejects};
use super::sides::{self, LastSides};
use super::taker::{Halt, ParsedBlock, RowTaker, Symbols};
use crate::model::Stamp;
use crate::model::layout::SpreadUnit;

/// Places out of order that are described one by one.
const DISORDER_SHOWN: usize = 1000;

/// The account of a reading.
pub struct Ledger {
    pub rows: u64,
    pub rejects: Rejects,
    /// The file of the rejected rows, once it is ended.
    pub rejects_at: Option<String>,
    /// Of the rejected rows that name a symbol: how many, by symbol and reason.
    pub rejected_of: BTreeMap<String, BTreeMap<String, u64>>,
    pub oddities: Oddities,
    /// Quotes that waited for a first price of the other side, by symbol (empty where rows name none).
    pub waited: BTreeMap<String, u64>,
    sides: BTreeMap<String, LastSides>,
    pub disorder: Vec<Disorder>,
    pub unfold: Unfold,
    /// What bars stamped at their close are moved back by.
    back: Micros,
    /// The file the rows are from, and where in it.
    file: usize,
    line: u64,
    latest: Micros,
    /// What a spread of one point in the file is in units of the scale; none where that is settled later, for
    /// each symbol on its own.
    point: Option<i64>,
}

/// Rows that were not taken, by reason.
#[derive(Debug, Clone, Default)]
pub struct RejectedRows {
    pub reasons: BTreeMap<String, u64>,
    /// Of these, the quotes before both sides of the market were known.
    pub waited: u64,
}

impl RejectedRows {
    /// How many there are.
    pub fn rows(&self) -> u64 {
        self.reasons.values().sum()
    }

    /// Adds others.
    pub fn add(&mut self, other: &RejectedRows) {
        for (reason, rows) in &other.reasons {
            *self.reasons.entry(reason.clone()).or_default() += rows;
        }
        self.waited += other.waited;
    }

    fn with_waited(mut self, waited: u64) -> RejectedRows {
        if waited > 0 {
            self.reasons.insert("stands before both sides of the market are known".into(), waited);
        }
        RejectedRows { waited, ..self }
    }
}

impl Ledger {
    /// An account with nothing in it.
    pub fn new(rejects: Rejects, unfold: Unfold, back: Micros, point: Option<i64>) -> Ledger {
        let (disorder, latest) = (Vec::new(), Micros::MIN);
        Ledger {
            rows: 0,
            rejects,
            rejects_at: None,
            rejected_of: BTreeMap::new(),
            oddities: Oddities::default(),
            waited: BTreeMap::new(),
            sides: BTreeMap::new(),
            disorder,
            unfold,
            back,
            file: 0,
            line: 1,
            latest,
            point,
        }
    }

    /// All rows that were not taken.
    pub fn rejected_of_all(&self) -> RejectedRows {
        let waited = self.waited.values().sum();
        RejectedRows { reasons: self.rejects.reasons.clone(), waited: 0 }.with_waited(waited)
    }

    /// Those of one symbol.
    pub fn rejected_of_symbol(&self, symbol: &str) -> RejectedRows {
        let reasons = self.rejected_of.get(symbol).cloned().unwrap_or_default();
        let waited = self.waited.get(symbol).copied().unwrap_or(0);
        RejectedRows { reasons, waited: 0 }.with_waited(waited)
    }

    /// Those of no symbol, or of one that is not among these. A symbol is named with the reason.
    pub fn rejected_of_others(&self, symbols: &[&str]) -> RejectedRows {
        let mut reasons = self.rejects.reasons.clone();
        for (symbol, of) in &self.rejected_of {
            for (reason, rows) in of {
                if let Some(left) = reasons.get_mut(reason) {
                    *left = left.saturating_sub(*rows);
                }
                if !symbols.contains(&symbol.as_str()) {
                    *reasons.entry(format!("{reason} ({})", printable(symbol))).or_default() += rows;
                }
            }
        }
        reasons.retain(|_, rows| *rows > 0);
        RejectedRows { reasons, waited: 0 }
    }

    /// A file gives spreads in points, units of the last decimal of its own prices.
    fn spreads_to_scale(&self, rows: &mut Columns) {
        if let Some(point) = self.point.filter(|p| *p != 1) {
            for (_, column) in rows.fields.iter().zip(&mut rows.data).filter(|(f, _)| f.is_spread()) {
                times(Some(column), point);
            }
        }
    }

    /// Takes a block in: notes its rejects, brings its rows to UTC and to the scale, and hands them on.
    ///
    /// # Errors
    /// Where a number wants a finer scale, or the taker takes no more.
    pub fn take(
        &mut self,
        block: ParsedBlock,
        plan: &IntakePlan,
        scale: Scale,
        taker: &mut impl RowTaker,
        job: &Job,
    ) -> Result<(), Halt> {
        let ParsedBlock { raw, parsed } = block;
        if let Some(finer) = finer_scale(&parsed, scale) {
            return Err(Halt::Finer(finer));
        }
        if raw.file != self.file {
            (self.file, self.line, self.latest) = (raw.file, 1, Micros::MIN);
            // What one file leaves out is not told by another.
            self.sides.clear();
        }
        self.line += raw.head;
        self.rows += (parsed.rows.len() + parsed.rejects.len()) as u64;
        let member = &plan.files[raw.file].0;
        for r in &parsed.rejects {
            let rest = &raw.block.text[r.byte..];
            if let Some(symbol) = r.symbol.and_then(|s| parsed.symbols.get(s as usize)) {
                let symbol = String::from_utf8_lossy(symbol).into_owned();
                *self.rejected_of.entry(symbol).or_default().entry(r.fault.words()).or_default() += 1;
            }
            self.rejects.add(Rejected {
                file: member.place(),
                line: self.line + r.line,
                byte: raw.block.byte + r.byte as u64,
                reason: r.fault.words(),
                raw: rest[..memchr::memchr(b'\n', rest).unwrap_or(rest.len())].to_vec(),
            })?;
        }
        self.oddities.add(parsed.oddities);
        let (mut rows, mut symbol_of) = (parsed.rows, parsed.symbol_of);
        let is_whole = parsed.oddities.absent == 0;
        self.fill_sides(&mut rows, &parsed.symbols, &mut symbol_of, is_whole);
        if plan.files[raw.file].1.spreads != SpreadUnit::Prices {
            self.spreads_to_scale(&mut rows);
        }
        let (stamp, frame) = (plan.stamp, plan.series.frame);
        if stamp == Stamp::Close {
            rows.time.iter_mut().for_each(|t| *t = stamp.calendar_open(frame, *t));
        }
        to_utc(&mut self.unfold, self.back, &mut rows.time);
        self.note_disorder(&member.name(), &rows.time);
        self.line += parsed.lines;
        let symbols = Symbols { names: parsed.symbols, of_row: symbol_of };
        taker.take(rows, &symbols)?;
        Ok(job.advance(raw.block.text.len() as u64)?)
    }

    /// Quotes of which only the side that changed is written have the other as it was; the first of them,
    /// before the other side is known, are left out and counted.
    fn fill_sides(
        &mut self,
        rows: &mut Columns,
        symbols: &[Vec<u8>],
        symbol_of: &mut Vec<u32>,
        is_whole: bool,
    ) {
        if rows.shape() != Shape::Quotes {
            return;
        }
        let names: Vec<String> = match symbols {
            [] => vec![String::new()],
            names => names.iter().map(|name| String::from_utf8_lossy(name).into_owned()).collect(),
        };
        let mut sides: Vec<LastSides> =
            names.iter().map(|name| self.sides.get(name).copied().unwrap_or_default()).collect();
        let of = |row: usize| symbol_of.get(row).map_or(0, |symbol| *symbol as usize);
        let waiting = sides::fill(rows, of, &mut sides, is_whole);
        for &row in &waiting {
            *self.waited.entry(names[of(row)].clone()).or_default() += 1;
        }
        self.sides.extend(names.into_iter().zip(sides));
        if waiting.is_empty() {
            return;
        }
        let stays = |row: usize| waiting.binary_search(&row).is_err();
        rows.retain(stays);
        let mut row = 0;
        symbol_of.retain(|_| {
            row += 1;
            stays(row - 1)
        });
    }

    fn note_disorder(&mut self, file: &str, times: &[Micros]) {
        if times.first().is_none_or(|t| *t >= self.latest) && times.is_sorted() {
            self.latest = times.last().copied().unwrap_or(self.latest);
            return;
        }
        // Lines and rows run side by side but for rejects and blank lines; near enough to find the place.
        let mut running = false;
        for (i, &t) in times.iter().enumerate() {
            if t >= self.latest {
                self.latest = t;
                running = false;
                continue;
            }
            let room = self.disorder.len() < DISORDER_SHOWN;
            match self.disorder.last_mut() {
                Some(d) if running => {
                    (d.from, d.to) = (d.from.min(t), d.to.max(t));
                    d.rows += 1;
                }
                _ if room => {
                    let line = self.line + i as u64;
                    self.disorder.push(Disorder { file: file.to_owned(), line, from: t, to: t, rows: 1 });
                }
                _ => {}
            }
            running = true;
        }
    }

    /// Says no to files most of whose rows are rejected: they are not what the layout says, and none of
    /// them is taken.
    pub fn refuse_if_hardly_any(&self, plan: &IntakePlan) -> Result<()> {
        let place = plan.files[0].0.place();
        match &self.rejects.first {
            _ if self.rows == 0 => {
                Err(Error::input(format!("{place} has a header but no rows; there is nothing to take in.")))
            }
            Some(first) if self.rejects.rows * 2 > self.rows => Err(Error::input(format!(
                "{} of {} rows of {place}{} cannot be understood; the first is line {}: {}. Nothing was taken.",
                self.rejects.rows,
                self.rows,
                plan.files[0].1.told(),
                first.line,
                first.reason
            ))),
            _ => Ok(()),
        }
    }
}

/// Moves the times of rows that follow those moved before.
pub fn to_utc(unfold: &mut Unfold, back: Micros, times: &mut [Micros]) {
    if !unfold.is_idle() || back != 0 {
        times.iter_mut().for_each(|t| *t = unfold.read(*t).0 - back);
    }
}

/// Multiplies the values of a column that are there.
fn times(column: Option<&mut Vec<i64>>, factor: i64) {
    let there = column.into_iter().flatten().filter(|v| present(**v).is_some());
    there.for_each(|v| *v = v.saturating_mul(factor));
}

fn finer_scale(parsed: &Parsed, scale: Scale) -> Option<Scale> {
    let mut finer = scale;
    for reject in &parsed.rejects {
        if let Fault::TooFine { field, decimals } = reject.fault
            && decimals <= crate::model::price::MAX_DECIMALS
        {
            let place = if field.is_price() { &mut finer.price } else { &mut finer.volume };
            *place = (*place).max(decimals);
        }
    }
    (finer != scale).then_some(finer)
}
