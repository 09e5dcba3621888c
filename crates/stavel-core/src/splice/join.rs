//! Joining: the rows of several sources, each from the time it may serve, as one stream in order.

use super::row_adapter::RowAdapter;
use super::source::{RowPieces, Source};
use crate::hour_spreads::HourSpreads;
use crate::model::{Clock, Columns, Field, Micros, Scale, Span};
use crate::store::{Cursor, ahead};
use crate::{Error, Result};

/// Rows given at once.
const BLOCK: usize = 32 * 1024;

/// Rows of a joined history that follow each other.
pub struct JoinedRows {
    /// The rows, in order of time.
    pub rows: Columns,
    /// Runs of rows of one source: the source and how many.
    pub runs: Vec<(usize, usize)>,
    /// Rows that were given a spread.
    pub carried: u64,
}

/// What rows are to be joined.
pub struct JoinedSpan<'a> {
    pub fields: &'a [Field],
    pub scale: Scale,
    /// Rows before and after it are left out.
    pub span: Span,
    /// The part of time in which one row of a source keeps out those of later ones; 0 where claims alone decide.
    pub cell: Micros,
}

/// The joined rows, block by block.
pub struct Join {
    cursors: Vec<Claimed>,
    cell: Micros,
    fields: Vec<Field>,
    scale: Scale,
    block: JoinedRows,
    /// A run that was taken and not yet copied: the source, and its rows in the piece of its cursor.
    pending: Option<(usize, std::ops::Range<usize>)>,
    spreads: Option<(HourSpreads, Clock)>,
}

impl Join {
    /// Begins to read. `claims` are the spans each source may serve; `adapters` bring its rows into one form.
    ///
    /// # Errors
    /// Where a source cannot be read.
    pub fn begin(
        sources: &[Source],
        claims: &[Vec<Span>],
        adapters: &[RowAdapter],
        wanted: &JoinedSpan<'_>,
    ) -> Result<Join> {
        let cursors = sources
            .iter()
            .zip(claims.iter().zip(adapters))
            .map(|(source, (spans, adapter))| Claimed::begin(source, spans, adapter.clone(), wanted))
            .collect::<Result<_>>()?;
        let (fields, scale) = (wanted.fields.to_vec(), wanted.scale);
        let block =
            JoinedRows { rows: Columns::with_room(&fields, scale, BLOCK), runs: Vec::new(), carried: 0 };
        Ok(Join { cursors, cell: wanted.cell, fields, scale, block, pending: None, spreads: None })
    }

    /// Puts spreads on rows of later sources that do not know theirs; the clock tells the hour of the week.
    pub fn carrying(mut self, spreads: Option<(HourSpreads, Clock)>) -> Join {
        self.spreads = spreads;
        self
    }

    fn step(&mut self) -> Result<Option<JoinedRows>> {
        while self.block.rows.len() < BLOCK {
            let Some((s, time)) = self.earliest()? else { break };
            if self.is_taken(s, time) {
                self.cursors[s].rows.pass(1);
                continue;
            }
            let end = match s {
                0 if self.cell > 0 => self.run_beside(),
                _ => self.cursors[s].run(self.until(s)),
            };
            self.take(s, end);
        }
        self.copy_pending();
        if self.block.rows.is_empty() {
            return Ok(None);
        }
        let rows = Columns::with_room(&self.fields, self.scale, BLOCK);
        let empty = JoinedRows { rows, runs: Vec::new(), carried: 0 };
        let mut block = std::mem::replace(&mut self.block, empty);
        if let Some((spreads, wall)) = &self.spreads {
            let mut from = 0;
            for (source, rows) in &block.runs {
                if *source > 0 {
                    block.carried += spreads.carry_to(&mut block.rows, from..from + rows, wall);
                }
                from += rows;
            }
        }
        Ok(Some(block))
    }

    /// The source with the earliest row left, and its time.
    fn earliest(&mut self) -> Result<Option<(usize, Micros)>> {
        let mut earliest: Option<(usize, Micros)> = None;
        for s in 0..self.cursors.len() {
            if self.cursors[s].is_at_end() {
                if self.pending.as_ref().is_some_and(|p| p.0 == s) {
                    self.copy_pending();
                }
                self.cursors[s].settle()?;
            }
            if let Some(t) = self.cursors[s].time()
                && earliest.is_none_or(|e| t < e.1)
            {
                earliest = Some((s, t));
            }
        }
        Ok(earliest)
    }

    /// True where a source named earlier has a row in the same cell.
    fn is_taken(&self, s: usize, time: Micros) -> bool {
        if self.cell == 0 || s == 0 {
            return false;
        }
        let cell = |t: Micros| t.div_euclid(self.cell);
        let here = cell(time);
        let holds = |t: Option<Micros>| t.is_some_and(|t| cell(t) == here);
        self.cursors[..s].iter().any(|c| holds(c.served) || holds(c.time()))
    }

    /// The end of the rows of the first source that follow while all others have, next, only rows that it
    /// keeps out, or later ones; what it keeps out is passed over. The first of its rows is due.
    fn run_beside(&mut self) -> usize {
        let Some((first, others)) = self.cursors.split_first_mut() else { return 0 };
        let cell = |t: Micros| if self.cell == 1 { t } else { t.div_euclid(self.cell) };
        let at = first.rows.at();
        for (row, &time) in (at..).zip(first.times()) {
            for other in &mut *others {
                if row > at && other.is_due_before(time) {
                    return row;
                }
                while other.time().is_some_and(|t| t >= time && cell(t) == cell(time)) {
                    other.rows.pass(1);
                }
            }
        }
        first.end
    }

    /// Rows of a source up to this time can be taken together: of two at one time the source named first goes
    /// first, and a cell that a source named earlier will serve is kept free.
    fn until(&self, s: usize) -> Option<Micros> {
        let bound = |(other, cursor): (usize, &Claimed)| {
            let t = cursor.time()?;
            Some(match other.cmp(&s) {
                std::cmp::Ordering::Less if self.cell > 0 => t - t.rem_euclid(self.cell),
                std::cmp::Ordering::Less => t,
                std::cmp::Ordering::Equal => return None,
                std::cmp::Ordering::Greater => t.saturating_add(1),
            })
        };
        self.cursors.iter().enumerate().filter_map(bound).min()
    }

    fn take(&mut self, s: usize, end: usize) {
        let cursor = &mut self.cursors[s];
        let range = cursor.rows.at()..end;
        cursor.served = cursor.rows.rows().time.get(end.saturating_sub(1)).copied();
        cursor.rows.pass(range.len());
        match &mut self.pending {
            Some((source, pending)) if *source == s && pending.end == range.start => pending.end = range.end,
            _ => {
                self.copy_pending();
                self.pending = Some((s, range));
            }
        }
        let waiting = self.pending.as_ref().map_or(0, |p| p.1.len());
        if self.block.rows.len() + waiting >= BLOCK {
            self.copy_pending();
        }
    }

    fn copy_pending(&mut self) {
        let Some((s, range)) = self.pending.take() else { return };
        let rows = range.len();
        self.block.rows.append_range(self.cursors[s].rows.rows(), range);
        match self.block.runs.last_mut() {
            Some((source, n)) if *source == s => *n += rows,
            _ => self.block.runs.push((s, rows)),
        }
    }
}

impl Iterator for Join {
    type Item = Result<JoinedRows>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}

/// The rows of one source that lie in its claims.
struct Claimed {
    rows: Cursor<RowPieces>,
    claims: Vec<Span>,
    claim: usize,
    /// Where, in the piece at hand, the rows of the claim end.
    end: usize,
    /// Time of the last row that went into the result.
    served: Option<Micros>,
    /// True where nothing follows the rows at hand.
    is_done: bool,
}

impl Claimed {
    fn begin(
        source: &Source,
        spans: &[Span],
        adapter: RowAdapter,
        wanted: &JoinedSpan<'_>,
    ) -> Result<Claimed> {
        let claims = Span::shared(spans, &[wanted.span]);
        let pieces: RowPieces = match (claims.first(), claims.last()) {
            (Some(first), Some(last)) => {
                let pieces = source.pieces(wanted.fields, Span::new(first.from, last.to))?;
                Box::new(ahead(pieces.map(move |piece| in_order(adapter.adapt(piece?)))))
            }
            _ => Box::new(std::iter::empty()),
        };
        let rows = Cursor::new(pieces);
        let mut claimed = Claimed { rows, claims, claim: 0, end: 0, served: None, is_done: false };
        claimed.settle()?;
        Ok(claimed)
    }

    fn is_at_end(&self) -> bool {
        self.rows.at() == self.end
    }

    /// The time of the next row; none at the end.
    fn time(&self) -> Option<Micros> {
        self.times().first().copied()
    }

    /// The times of the rows at hand that the claim holds.
    fn times(&self) -> &[Micros] {
        &self.rows.rows().time[self.rows.at()..self.end]
    }

    /// True where its next row is, or may be, before a moment.
    fn is_due_before(&self, t: Micros) -> bool {
        self.time().map_or(!self.is_done, |time| time < t)
    }

    /// The end of the rows that follow from here on before a moment.
    fn run(&self, until: Option<Micros>) -> usize {
        let before = |until| self.rows.at() + self.times().partition_point(|t| *t < until);
        until.map_or(self.end, before)
    }

    /// Goes to the next rows within claims, into the next pieces where this one has none left.
    fn settle(&mut self) -> Result<()> {
        while self.is_at_end() {
            let claim = self.claims.get(self.claim).copied();
            let (Some(claim), true) = (claim, self.rows.load()?) else {
                self.end = self.rows.at();
                self.is_done = true;
                return Ok(());
            };
            let left =
                |rows: &Cursor<_>, until| rows.rows().time[rows.left()].partition_point(|t| *t < until);
            self.rows.pass(left(&self.rows, claim.from));
            self.end = self.rows.at() + left(&self.rows, claim.to);
            // Where no row of this piece is left for the claim, a later piece may have some.
            if self.is_at_end() && !self.rows.left().is_empty() {
                self.claim += 1;
            }
        }
        Ok(())
    }
}

fn in_order(rows: Columns) -> Result<Columns> {
    match rows.is_sorted() {
        true => Ok(rows),
        false => Err(Error::storage("A series to splice is not in order of time.")),
    }
}
