//! What a splice reads: series of the shelf or rows in memory, as they are or framed on the way.

use std::sync::Arc;

use crate::bars::{Builder, Grid};
use crate::model::columns::blank;
use crate::model::{Columns, Field, Frame, Micros, Scale, Session, Side, Span};
use crate::store::{Reader, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Rows given in one piece by a source in memory.
const CHUNK: usize = 64 * 1024;

/// Pieces of rows in order of time; they may go to another thread.
pub type RowPieces = Box<dyn Iterator<Item = Result<Columns>> + Send>;

/// One history that goes into a splice. It can be read again and again, any part and any fields.
#[derive(Clone)]
pub struct Source {
    rows: Rows,
    session: Arc<Session>,
    /// From its first row to the end of its last.
    pub span: Span,
    /// The length of a bar; 0 for ticks.
    pub length: Micros,
    /// The columns it has.
    pub fields: Vec<Field>,
    /// Decimals of its prices and volumes.
    pub scale: Scale,
}

#[derive(Clone)]
enum Rows {
    Held(Arc<Columns>),
    Stored(Reader),
    /// Ticks that become bars of the frame while they are read.
    Framed(Reader, Frame),
}

impl Source {
    /// Rows in memory, sorted by time, in UTC; `length` is that of a bar, 0 for ticks.
    ///
    /// # Errors
    /// Where there are none.
    pub fn held(rows: Columns, length: Micros, session: &Session) -> Result<Source> {
        let (first, last) = rows.ends().ok_or_else(|| Error::input("A series to splice has no rows."))?;
        Ok(Source {
            span: Span::new(first, last + length.max(1)),
            length,
            fields: rows.fields.clone(),
            scale: rows.scale,
            session: Arc::new(session.clone()),
            rows: Rows::Held(Arc::new(rows)),
        })
    }

    /// A series of the shelf; ticks become bars of `framed`, where that is given.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn stored(
        shelf: &Shelf,
        info: &SeriesInfo,
        framed: Option<Frame>,
        session: &Session,
    ) -> Result<Source> {
        let edition = &info.edition;
        let reader = shelf.reader(edition)?;
        let (rows, length, fields) = match framed {
            None => (Rows::Stored(reader), info.name.frame.length(), edition.fields.clone()),
            Some(frame) => {
                let like = builder(&edition.fields, edition.scale, frame, session)?;
                (Rows::Framed(reader, frame), frame.length(), like.fields().to_vec())
            }
        };
        let span = match framed {
            None => Span::new(edition.first, edition.last + length.max(1)),
            Some(frame) => {
                let mut grid = Grid::new(frame, session);
                Span::new(grid.bar_at(edition.first).stamp, grid.bar_at(edition.last).span.to)
            }
        };
        Ok(Source { rows, session: Arc::new(session.clone()), span, length, fields, scale: edition.scale })
    }

    /// True where its rows are ticks.
    pub fn is_ticks(&self) -> bool {
        self.length == 0
    }

    /// These fields of its rows within a span; a field that it does not have is absent.
    ///
    /// # Errors
    /// Where a file of it cannot be opened; what fails later comes as an item.
    pub fn pieces(&self, fields: &[Field], span: Span) -> Result<RowPieces> {
        Ok(match &self.rows {
            Rows::Held(rows) => Box::new(chunks(rows.clone(), fields.to_vec(), span)),
            Rows::Stored(reader) => Box::new(reader.scan(span, Some(fields))),
            Rows::Framed(reader, frame) => Box::new(self.framed(reader, *frame, fields, span)?),
        })
    }

    /// The same as bars: ticks become minutes.
    ///
    /// # Errors
    /// As [`Source::pieces`].
    pub fn bars(&self, fields: &[Field], span: Span) -> Result<RowPieces> {
        match &self.rows {
            Rows::Stored(reader) if self.is_ticks() => {
                Ok(Box::new(self.framed(reader, Frame::M1, fields, span)?))
            }
            Rows::Held(rows) if self.is_ticks() => {
                let builder = builder(&self.fields, self.scale, Frame::M1, &self.session)?;
                let rows = chunks(rows.clone(), self.fields.clone(), around(span, Frame::M1));
                Ok(Box::new(Framed { rows, builder: Some(builder), fields: fields.to_vec(), span }))
            }
            _ => self.pieces(fields, span),
        }
    }

    fn framed(
        &self,
        reader: &Reader,
        frame: Frame,
        fields: &[Field],
        span: Span,
    ) -> Result<Framed<RowPieces>> {
        let edition = &reader.edition;
        let wanted: Vec<Field> = [Field::Bid, Field::Ask, Field::BidVolume, Field::Last, Field::Volume]
            .into_iter()
            .filter(|f| edition.fields.contains(f))
            .collect();
        let builder = builder(&wanted, edition.scale, frame, &self.session)?;
        let rows: RowPieces = Box::new(reader.scan(around(span, frame), Some(&wanted)));
        Ok(Framed { rows, builder: Some(builder), fields: fields.to_vec(), span })
    }

    /// [`Source::bars`] in one piece.
    ///
    /// # Errors
    /// Where a file of it cannot be read.
    pub fn window(&self, fields: &[Field], span: Span) -> Result<Columns> {
        let mut all = Columns::empty(fields, self.scale);
        for piece in self.bars(fields, span)? {
            all.append(&piece?);
        }
        Ok(all)
    }

    /// Opens and closes of all its bars within a span, in one piece; a close that has no open is both.
    ///
    /// # Errors
    /// Where a file of it cannot be read.
    pub fn opens_and_closes(&self, span: Span) -> Result<Columns> {
        let fields = [Field::Open, Field::Close];
        Ok(self.window(&fields, span)?.with_whole_bars().with_fields(&fields))
    }

    /// The number of its rows within a span.
    ///
    /// # Errors
    /// Where a file of it cannot be read.
    pub fn count(&self, span: Span) -> Result<u64> {
        match &self.rows {
            Rows::Held(rows) => Ok(rows.range_of(span).len() as u64),
            Rows::Stored(reader) => reader.count(span),
            Rows::Framed(..) => self.pieces(&[], span)?.try_fold(0, |n, piece| Ok(n + piece?.len() as u64)),
        }
    }
}

fn builder(fields: &[Field], scale: Scale, frame: Frame, session: &Session) -> Result<Builder> {
    Builder::new(Frame::Ticks, frame, Side::Bid, fields, scale, session)
}

/// The ticks of all bars that begin in a span, and so many before it that the first of them is whole.
fn around(span: Span, frame: Frame) -> Span {
    Span::new(span.from.saturating_sub(frame.length()), span.to.saturating_add(frame.length()))
}

fn chunks(
    rows: Arc<Columns>,
    fields: Vec<Field>,
    span: Span,
) -> impl Iterator<Item = Result<Columns>> + Send + 'static {
    let range = rows.range_of(span);
    range.clone().step_by(CHUNK).map(move |from| {
        let part = from..(from + CHUNK).min(range.end);
        let data = fields.iter().map(|f| match rows.column(*f) {
            [] => vec![blank(*f); part.len()],
            column => column[part.clone()].to_vec(),
        });
        Ok(Columns {
            time: rows.time[part.clone()].to_vec(),
            data: data.collect(),
            fields: fields.clone(),
            scale: rows.scale,
        })
    })
}

/// Bars made of ticks while those are read.
struct Framed<I> {
    rows: I,
    /// None once the last bar was given.
    builder: Option<Builder>,
    fields: Vec<Field>,
    span: Span,
}

impl<I: Iterator<Item = Result<Columns>>> Iterator for Framed<I> {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        loop {
            let bars = match self.rows.next() {
                Some(Err(err)) => return Some(Err(err)),
                Some(Ok(rows)) => {
                    let builder = self.builder.as_mut()?;
                    builder.push(&rows);
                    builder.take_closed()
                }
                None => self.builder.take()?.finish().bars,
            };
            let bars = bars.rows(bars.range_of(self.span));
            if !bars.is_empty() {
                return Some(Ok(bars.with_fields(&self.fields)));
            }
        }
    }
}
