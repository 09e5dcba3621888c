//! Joining: the rows of several sources, each from the time it may serve, as one stream in order.

use super::dress::Dress;
use super::level::HourSpreads;
use super::source::Source;
use crate::model::{Clock, Columns, Field, Micros, Scale, Span};
use crate::store::{Ahead, ahead};
use crate::{Error, Result};

/// Rows given at once.
const BLOCK: usize = 128 * 1024;

/// Rows of a joined history that follow each other.
pub struct Block {
    pub rows: Columns,
    /// Runs of rows of one source: the source and how many.
    pub runs: Vec<(usize, usize)>,
}

/// What rows are to be joined.
pub struct Wanted<'a> {
    pub fields: &'a [Field],
    pub scale: Scale,
    /// Rows before and after it are left out.
    pub span: Span,
    /// The part of time in which one row of a source keeps out those of later ones; 0 where claims alone decide.
    pub cell: Micros,
}

/// The joined rows, block by block.
pub struct Join {
    cursors: Vec<Cursor>,
    cell: Micros,
    fields: Vec<Field>,
    scale: Scale,
    block: Block,
    /// A run that was taken and not yet copied: the source, and its rows in the piece of its cursor.
    pending: Option<(usize, std::ops::Range<usize>)>,
    spreads: Option<(HourSpreads, Clock)>,
    /// Rows that were given a spread so far.
    pub carried: u64,
}

impl Join {
    /// Begins to read. `claims` are the spans each source may serve; `dresses` bring its rows into one form.
    pub fn begin(
        sources: &[Source],
        claims: &[Vec<Span>],
        dresses: &[Dress],
        wanted: &Wanted<'_>,
    ) -> Result<Join> {
        let cursors = sources
            .iter()
            .zip(claims.iter().zip(dresses))
            .map(|(source, (spans, dress))| Cursor::begin(source, spans, dress.clone(), wanted))
            .collect::<Result<_>>()?;
        let (fields, scale) = (wanted.fields.to_vec(), wanted.scale);
        let block = Block { rows: Columns::empty(&fields, scale), runs: Vec::new() };
        Ok(Join {
            cursors,
            cell: wanted.cell,
            fields,
            scale,
            block,
            pending: None,
            spreads: None,
            carried: 0,
        })
    }

    /// Puts spreads on rows of later sources that do not know theirs; the clock tells the hour of the week.
    pub fn carrying(mut self, spreads: Option<(HourSpreads, Clock)>) -> Join {
        self.spreads = spreads;
        self
    }

    fn step(&mut self) -> Result<Option<Block>> {
        while self.block.rows.len() < BLOCK {
            let Some((s, time)) = self.earliest()? else { break };
            if self.is_taken(s, time) {
                self.cursors[s].at += 1;
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
        let empty = Block { rows: Columns::empty(&self.fields, self.scale), runs: Vec::new() };
        let mut block = std::mem::replace(&mut self.block, empty);
        if let Some((spreads, wall)) = &self.spreads {
            let mut from = 0;
            for (source, rows) in &block.runs {
                if *source > 0 {
                    self.carried += spreads.carry_to(&mut block.rows, from..from + rows, wall);
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
        for (row, &time) in first.rows.time[..first.end].iter().enumerate().skip(first.at) {
            for other in &mut *others {
                if row > first.at && other.is_due_before(time) {
                    return row;
                }
                while other.time().is_some_and(|t| t >= time && cell(t) == cell(time)) {
                    other.at += 1;
                }
            }
        }
        first.end
    }

    /// Rows of a source up to this time can be taken together: of two at one time the source named first goes
    /// first, and a cell that a source named earlier will serve is kept free.
    fn until(&self, s: usize) -> Option<Micros> {
        let bound = |(other, cursor): (usize, &Cursor)| {
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
        let range = cursor.at..end;
        cursor.served = cursor.rows.time.get(end.saturating_sub(1)).copied();
        cursor.at = end;
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
        self.block.rows.append_range(&self.cursors[s].rows, range);
        match self.block.runs.last_mut() {
            Some((source, n)) if *source == s => *n += rows,
            _ => self.block.runs.push((s, rows)),
        }
    }
}

impl Iterator for Join {
    type Item = Result<Block>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}

/// The rows of one source that lie in its claims.
struct Cursor {
    pieces: Option<Ahead>,
    claims: Vec<Span>,
    claim: usize,
    rows: Columns,
    at: usize,
    /// The row to read next lies in this claim and ends with it.
    end: usize,
    /// Time of the last row that went into the result.
    served: Option<Micros>,
    /// True where nothing follows the rows at hand.
    is_done: bool,
}

impl Cursor {
    fn begin(source: &Source, spans: &[Span], dress: Dress, wanted: &Wanted<'_>) -> Result<Cursor> {
        let claims = Span::shared(spans, &[wanted.span]);
        let pieces = match (claims.first(), claims.last()) {
            (Some(first), Some(last)) => {
                let hull = Span::new(first.from, last.to);
                let pieces = source.pieces(wanted.fields, hull)?;
                Some(ahead(pieces.map(move |piece| Ok(dress.put_on(piece?)))))
            }
            _ => None,
        };
        let rows = Columns::default();
        let mut cursor =
            Cursor { pieces, claims, claim: 0, rows, at: 0, end: 0, served: None, is_done: false };
        cursor.settle()?;
        Ok(cursor)
    }

    fn is_at_end(&self) -> bool {
        self.at == self.end
    }

    /// The time of the next row; none at the end.
    fn time(&self) -> Option<Micros> {
        (self.at < self.end).then(|| self.rows.time[self.at])
    }

    /// True where its next row is, or may be, before a moment.
    fn is_due_before(&self, t: Micros) -> bool {
        if self.is_at_end() { !self.is_done } else { self.rows.time[self.at] < t }
    }

    /// The end of the rows that follow from here on before a moment.
    fn run(&self, until: Option<Micros>) -> usize {
        match until {
            Some(until) => self.at + self.rows.time[self.at..self.end].partition_point(|t| *t < until),
            None => self.end,
        }
    }

    /// Goes to the next rows within claims, into the next pieces where this one has none left.
    fn settle(&mut self) -> Result<()> {
        while self.at == self.end {
            let Some(claim) = self.claims.get(self.claim).copied() else {
                self.is_done = true;
                return Ok(());
            };
            let times = &self.rows.time[self.at..];
            if times.is_empty() {
                match self.pieces.as_mut().and_then(Iterator::next) {
                    Some(piece) => {
                        self.rows = piece?;
                        (self.at, self.end) = (0, 0);
                        if !self.rows.is_sorted() {
                            return Err(Error::storage("A series to splice is not in order of time."));
                        }
                    }
                    None => {
                        self.is_done = true;
                        return Ok(());
                    }
                }
                continue;
            }
            self.at += times.partition_point(|t| *t < claim.from);
            self.end = self.at + self.rows.time[self.at..].partition_point(|t| *t < claim.to);
            if self.at == self.end {
                // No row of this piece is left for the claim; a later piece may have some.
                if self.at == self.rows.len() {
                    continue;
                }
                self.claim += 1;
            }
        }
        Ok(())
    }
}
