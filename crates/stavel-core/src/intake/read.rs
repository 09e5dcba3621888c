//! Reading files of a plan: blocks of lines are read, parsed, ordered and encoded side by side.
//!
//! Each turn of the loop does four things at once on all cores: it reads the next blocks, parses the
//! blocks read in the turn before, hands the rows parsed in the turn before that to the taker, in the
//! order of the file, and encodes the row groups the taker has filled. So memory holds a few blocks of
//! each kind, whatever the size of the file.

use std::collections::BTreeMap;
use std::path::Path;

use crate::error::printable;
use crate::job::Job;
use crate::model::provenance::Disorder;
use crate::model::{Clock, Columns, Field, Frame, Micros, Scale, Shape, Unfold, present};
use crate::store::{Encoded, Place, Work};
use crate::{Error, Result};

use super::Stamp;
use super::blocks::{Block, Blocks};
use super::bring::Member;
use super::layout::{Layout, Spreads, Use};
use super::parse::{Fault, Oddities, Parsed, Parser};
use super::plan::Plan;
use super::rejects::{Rejected, Rejects};
use super::sides::LastSides;

/// Blocks read, parsed and taken together.
const TOGETHER: usize = 8;
/// Places out of order that are described one by one.
const DISORDER_SHOWN: usize = 1000;

/// Why a reading did not come to its end.
pub enum Halt {
    Failed(Error),
    /// A number did not fit the scale; this one fits it.
    Finer(Scale),
    /// Rows are not in order of time, and the taker wants them so.
    Disorder,
}

impl From<Error> for Halt {
    fn from(e: Error) -> Halt {
        Halt::Failed(e)
    }
}

/// Who takes the rows.
pub trait Taker: Send {
    /// Takes rows in the order of the file, in UTC where the clock is known. `symbols` says of which
    /// instrument each is, where a column does.
    fn take(&mut self, rows: Columns, symbols: &Symbols) -> Result<(), Halt>;
    /// Row groups to encode.
    fn work(&mut self) -> Vec<Work>;
    /// Takes an encoded row group.
    fn accept(&mut self, place: Place, encoded: Encoded) -> Result<()>;
}

/// The symbols of some rows.
#[derive(Default)]
pub struct Symbols {
    pub names: Vec<Vec<u8>>,
    pub of_row: Vec<u32>,
}

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

struct RawBlock {
    file: usize,
    /// Lines taken off its front: a header and what stands above it.
    head: u64,
    block: Block,
}

struct ParsedBlock {
    raw: RawBlock,
    parsed: Parsed,
}

/// Reads all files of a plan, scaling numbers by `scale`, and hands the rows to `taker`; gives the BLAKE3 of
/// each file whose bytes went by as they are.
pub fn read_files(
    plan: &Plan,
    scale: Scale,
    ledger: &mut Ledger,
    taker: &mut impl Taker,
    job: &Job,
) -> Result<Vec<Option<String>>, Halt> {
    let mut feeder = Feeder { plan, file: 0, open: None, hashes: Vec::new() };
    let parser = |layout: &Layout| Parser::new(layout, scale).rounding(plan.decimals_said);
    let parsers: Vec<Parser> = plan.files.iter().map(|(_, layout)| parser(layout)).collect();
    let mut raw: Vec<RawBlock> = feeder.next(2)?;
    let mut parsed: Vec<ParsedBlock> = Vec::new();
    let mut work: Vec<Work> = Vec::new();
    loop {
        let mut next = Ok(Vec::new());
        let mut fresh: Vec<Option<Parsed>> = raw.iter().map(|_| None).collect();
        let mut encoded: Vec<Vec<Option<Result<_>>>> =
            work.iter().map(|w| (0..w.group.width()).map(|_| None).collect()).collect();
        let ready = std::mem::take(&mut parsed);
        let mut taken = Ok(());
        rayon::scope(|s| {
            s.spawn(|_| next = feeder.next(TOGETHER));
            s.spawn(|_| {
                taken = ready.into_iter().try_for_each(|block| ledger.take(block, plan, scale, taker, job))
            });
            for (raw, slot) in raw.iter().zip(&mut fresh) {
                let parser = &parsers[raw.file];
                s.spawn(move |_| *slot = Some(parser.block(&raw.block.text)));
            }
            for (work, slots) in work.iter().zip(&mut encoded) {
                for (column, slot) in slots.iter_mut().enumerate() {
                    s.spawn(move |_| *slot = Some(work.group.encode_column(column)));
                }
            }
        });
        taken?;
        for (done, columns) in work.iter().zip(encoded) {
            let columns: Result<Vec<_>> = columns.into_iter().flatten().collect();
            taker.accept(done.place, Encoded::of(columns?))?;
        }
        parsed =
            raw.into_iter().zip(fresh).filter_map(|(raw, p)| Some(ParsedBlock { raw, parsed: p? })).collect();
        raw = next?;
        work = taker.work();
        if raw.is_empty() && parsed.is_empty() && work.is_empty() {
            return Ok(feeder.hashes);
        }
    }
}

/// Reads a text file by a layout, as intake would, and hands its rows, in UTC, to `seen` until that gives
/// false; gives the number of lines that are no rows.
///
/// # Errors
/// Where the file cannot be read.
pub fn read_back(
    path: &Path,
    layout: &Layout,
    clock: &Clock,
    scale: Scale,
    mut seen: impl FnMut(&Columns) -> Result<bool>,
) -> Result<u64> {
    let parser = Parser::new(layout, scale);
    // Counted times are UTC whatever the clock.
    let counted = layout.columns.iter().any(|u| matches!(u, Use::Unix(_)));
    let mut unfold = Unfold::new(Some(clock).filter(|_| !counted), Frame::Ticks);
    let mut blocks = Blocks::open(&Member::plain(path)?)?;
    let (mut first, mut rejected) = (true, 0);
    while let Some(mut block) = blocks.next()? {
        if std::mem::take(&mut first) {
            skip_head(&mut block, layout);
        }
        let mut parsed = parser.block(&block.text);
        rejected += parsed.rejects.len() as u64;
        to_utc(&mut unfold, 0, &mut parsed.rows.time);
        if !seen(&parsed.rows)? {
            break;
        }
    }
    Ok(rejected)
}

/// Reads the blocks of the files one after another.
struct Feeder<'p> {
    plan: &'p Plan,
    file: usize,
    open: Option<Blocks>,
    /// Of the files that were read to their end.
    hashes: Vec<Option<String>>,
}

impl Feeder<'_> {
    fn next(&mut self, most: usize) -> Result<Vec<RawBlock>> {
        let mut out = Vec::with_capacity(most);
        while out.len() < most {
            let Some((member, layout)) = self.plan.files.get(self.file) else { break };
            let is_first = self.open.is_none();
            let blocks = match &mut self.open {
                Some(blocks) => blocks,
                None => self.open.insert(Blocks::open(member)?),
            };
            match blocks.next()? {
                Some(mut block) => {
                    let head = if is_first { skip_head(&mut block, layout) } else { 0 };
                    out.push(RawBlock { file: self.file, head, block });
                }
                None => {
                    member.must_be_unchanged()?;
                    self.hashes.push(self.open.take().and_then(|blocks| blocks.hash()));
                    self.file += 1;
                }
            }
        }
        Ok(out)
    }
}

/// Takes a byte order mark, the header and what stands above it off the first block; gives the lines
/// taken off.
pub fn skip_head(block: &mut Block, layout: &Layout) -> u64 {
    let mark = if block.text.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    let lines = layout.skip + usize::from(layout.header.is_some());
    let mut head = mark;
    for _ in 0..lines {
        head += memchr::memchr(b'\n', &block.text[head..]).map_or(block.text.len() - head, |n| n + 1);
    }
    block.text.drain(..head);
    block.byte += head as u64;
    lines as u64
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
            times(rows.column_mut(Field::Spread), point);
        }
    }

    fn take(
        &mut self,
        block: ParsedBlock,
        plan: &Plan,
        scale: Scale,
        taker: &mut impl Taker,
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
        self.fill_sides(&mut rows, &parsed.symbols, &mut symbol_of);
        if plan.files[raw.file].1.spreads != Spreads::Prices {
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
    fn fill_sides(&mut self, rows: &mut Columns, symbols: &[Vec<u8>], symbol_of: &mut Vec<u32>) {
        if rows.shape() != Shape::Quotes {
            return;
        }
        let mut waiting = Vec::new();
        for (i, name) in symbols.iter().enumerate() {
            let name = String::from_utf8_lossy(name).into_owned();
            let before = waiting.len();
            let sides = self.sides.entry(name.clone()).or_default();
            sides.fill(rows, |row| symbol_of[row] == i as u32, &mut waiting);
            *self.waited.entry(name).or_default() += (waiting.len() - before) as u64;
        }
        if symbols.is_empty() {
            self.sides.entry(String::new()).or_default().fill(rows, |_| true, &mut waiting);
            *self.waited.entry(String::new()).or_default() += waiting.len() as u64;
        }
        if waiting.is_empty() {
            return;
        }
        waiting.sort_unstable();
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
    pub fn refuse_if_hardly_any(&self, plan: &Plan) -> Result<()> {
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
fn to_utc(unfold: &mut Unfold, back: Micros, times: &mut [Micros]) {
    if !unfold.is_idle() || back != 0 {
        times.iter_mut().for_each(|t| *t = unfold.read(*t).0 - back);
    }
}

/// Multiplies the values of a column that are there.
pub fn times(column: Option<&mut Vec<i64>>, factor: i64) {
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
