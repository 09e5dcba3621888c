//! Reading data files: whole, by span, piece by piece.

use std::fs::File;
use std::path::{Path, PathBuf};

use parquet::basic::LogicalType;
use parquet::column::reader::ColumnReader;
use parquet::file::reader::{FileReader, RowGroupReader, SerializedFileReader};
use parquet::file::statistics::Statistics;
use rayon::prelude::*;

use super::editions::{EditionInfo, SegmentFormat, SegmentInfo};
use super::home::open_segment;
use super::shared_file::SharedFile;
use crate::model::columns::blank;
use crate::model::time::DAY;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, Span};
use crate::{Error, Result};

/// Reads a Parquet file written by a [`super::SegmentWriter`].
///
/// # Errors
/// Where the file cannot be read, or is none of a shelf.
pub fn read_file(path: &Path, fields: &[Field], scale: Scale, span: Span) -> Result<Columns> {
    let mut all = Columns::empty(fields, scale);
    let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    let reader = open(path, file)?;
    for group in 0..reader.num_row_groups() {
        if let Some(rows) = read_group(&reader, group, fields, scale, span)? {
            all.append(&rows);
        }
    }
    Ok(all)
}

fn open(path: &Path, file: File) -> Result<SerializedFileReader<SharedFile>> {
    SerializedFileReader::new(SharedFile::new(file))
        .map_err(|e| Error::storage(format!("{} is damaged and cannot be read ({e}).", path.display())))
}

/// Reads the rows of one row group that lie in a span, its columns on every core; none where the whole group lies
/// outside.
fn read_group(
    reader: &SerializedFileReader<SharedFile>,
    group: usize,
    fields: &[Field],
    scale: Scale,
    span: Span,
) -> Result<Option<Columns>> {
    let meta = reader.metadata().row_group(group);
    if let Some(Statistics::Int64(stats)) = meta.column(0).statistics()
        && let (Some(&min), Some(&max)) = (stats.min_opt(), stats.max_opt())
        && (max < span.from || min >= span.to)
    {
        return Ok(None);
    }
    let rows = meta.num_rows() as usize;
    let group = reader.get_row_group(group)?;
    let names: Vec<&str> = meta.columns().iter().map(|c| c.column_descr().name()).collect();
    let read = |name: &str, blank: i64| -> Result<Vec<i64>> {
        let at = names.iter().position(|n| *n == name);
        at.map_or_else(|| Ok(vec![blank; rows]), |at| read_column(group.as_ref(), at, rows))
    };
    let of_field = |f: &Field| read(f.name(), blank(*f));
    let data = || fields.par_iter().map(of_field).collect::<Result<_>>();
    let (time, data) = rayon::join(|| read("time", 0), data);
    let columns = Columns { time: time?, fields: fields.to_vec(), data: data?, scale };
    let range = columns.range_of(span);
    Ok(Some(if range.len() == columns.len() { columns } else { columns.rows(range) }))
}

fn read_column(group: &dyn RowGroupReader, at: usize, rows: usize) -> Result<Vec<i64>> {
    let ColumnReader::Int64ColumnReader(mut reader) = group.get_column_reader(at)? else {
        return Err(Error::storage(
            "A data file of the shelf has a column that does not hold whole numbers.",
        ));
    };
    let is_nullable = group.metadata().column(at).column_descr().max_def_level() > 0;
    let mut values = Vec::with_capacity(rows);
    let mut levels: Vec<i16> = Vec::with_capacity(if is_nullable { rows } else { 0 });
    let mut read = 0;
    while read < rows {
        let into = is_nullable.then_some(&mut levels);
        let (records, _, _) = reader.read_records(rows - read, into, None, &mut values)?;
        if records == 0 {
            return Err(Error::storage("A data file of the shelf ends before its rows do."));
        }
        read += records;
    }
    Ok(if values.len() == rows { values } else { with_absent(&values, &levels) })
}

/// Values with an absent one in each place whose level is 0.
fn with_absent(values: &[i64], levels: &[i16]) -> Vec<i64> {
    let mut values = values.iter();
    levels.iter().map(|l| if *l > 0 { values.next().copied().unwrap_or(ABSENT) } else { ABSENT }).collect()
}

/// The columns of a data file, as its schema has them.
pub struct FileColumns {
    pub fields: Vec<Field>,
    pub scale: Scale,
    /// True where absent values are nulls.
    pub is_nullable: bool,
    /// True where the times are marked as UTC.
    pub is_utc: bool,
}

impl FileColumns {
    /// Reads the schema of a file.
    ///
    /// # Errors
    /// Where it is damaged.
    pub fn read(path: &Path) -> Result<FileColumns> {
        let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        let reader = open(path, file)?;
        let schema = reader.metadata().file_metadata().schema_descr();
        let mut out =
            FileColumns { fields: Vec::new(), scale: Scale::default(), is_nullable: true, is_utc: true };
        for column in schema.columns() {
            match (Field::named(column.name()), column.logical_type_ref()) {
                (Some(field), _) => {
                    out.fields.push(field);
                    out.is_nullable &= column.max_def_level() > 0;
                    let decimals = u8::try_from(column.type_scale()).unwrap_or_default();
                    if field.is_price() {
                        out.scale.price = out.scale.price.max(decimals);
                    } else if field.is_volume() {
                        out.scale.volume = out.scale.volume.max(decimals);
                    }
                }
                (None, Some(LogicalType::Timestamp(stamp))) => out.is_utc = stamp.is_adjusted_to_u_t_c,
                (None, _) => {}
            }
        }
        Ok(out)
    }
}

/// Pieces of one file, one row group at a time.
pub struct ScanFile {
    reader: SerializedFileReader<SharedFile>,
    next: usize,
    fields: Vec<Field>,
    scale: Scale,
    span: Span,
    format: SegmentFormat,
}

impl ScanFile {
    /// Opens a file to read these fields within a span.
    ///
    /// # Errors
    /// Where the file cannot be opened, or is none of a shelf.
    pub fn open(path: &Path, fields: &[Field], scale: Scale, span: Span) -> Result<ScanFile> {
        let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        let (fields, format) = (fields.to_vec(), SegmentFormat::Nulls);
        Ok(ScanFile { reader: open(path, file)?, next: 0, fields, scale, span, format })
    }

    /// Opens a segment of a shelf, wherever it lies.
    ///
    /// # Errors
    /// Where a file cannot be opened.
    pub fn of_shelf(
        root: &Path,
        segment: &SegmentInfo,
        fields: &[Field],
        scale: Scale,
        span: Span,
    ) -> Result<ScanFile> {
        let (path, file) = open_segment(root, &segment.path)?;
        let (fields, format) = (fields.to_vec(), segment.format);
        Ok(ScanFile { reader: open(&path, file)?, next: 0, fields, scale, span, format })
    }

    fn step(&mut self) -> Result<Option<Columns>> {
        while self.next < self.reader.num_row_groups() {
            self.next += 1;
            let rows = read_group(&self.reader, self.next - 1, &self.fields, self.scale, self.span)?;
            if let Some(mut rows) = rows.filter(|r| !r.is_empty()) {
                if self.format == SegmentFormat::Zeros {
                    let spreads = rows.column_mut(Field::Spread).into_iter().flatten();
                    spreads.filter(|s| **s == 0).for_each(|s| *s = ABSENT);
                }
                return Ok(Some(rows));
            }
        }
        Ok(None)
    }
}

impl Iterator for ScanFile {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}

/// An edition that can be read again and again, from any thread, without the catalog.
#[derive(Clone)]
pub struct Reader {
    root: PathBuf,
    files: Vec<SegmentInfo>,
    /// The edition that is read.
    pub edition: EditionInfo,
}

impl Reader {
    pub(super) fn new(root: &Path, files: Vec<SegmentInfo>, edition: &EditionInfo) -> Reader {
        Reader { root: root.into(), files, edition: edition.clone() }
    }

    /// Rows within a span piece by piece, in order; only `fields` are read (all where none are given).
    pub fn scan(&self, span: Span, fields: Option<&[Field]>) -> Scan {
        Scan::new(&self.root, self.files.clone(), &self.edition, span, fields)
    }

    /// The bytes of its files.
    pub fn bytes(&self) -> u64 {
        self.files.iter().map(|file| file.bytes).sum()
    }

    /// The last rows within a span: those of its last day, UTC, that has some; none where no day has.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn last_rows(&self, span: Span, fields: Option<&[Field]>) -> Result<Option<Columns>> {
        let days = |file: &SegmentInfo| file.days.iter().map(|(day, _)| day).collect::<Vec<i64>>();
        let mut days: Vec<i64> = self.files.iter().flat_map(days).collect();
        days.sort_unstable();
        days.dedup();
        for day in days.into_iter().rev() {
            let Some(part) = Span::new(day * DAY, (day + 1) * DAY).overlap(&span) else { continue };
            let mut all: Option<Columns> = None;
            for piece in self.scan(part, fields) {
                match &mut all {
                    Some(all) => all.append(&piece?),
                    none => *none = Some(piece?),
                }
            }
            if all.as_ref().is_some_and(|rows| !rows.is_empty()) {
                return Ok(all);
            }
        }
        Ok(None)
    }

    /// The times of the first and of the last row within a span.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn ends(&self, span: Span) -> Result<Option<(Micros, Micros)>> {
        let first = self.scan(span, Some(&[])).find(|piece| !piece.as_ref().is_ok_and(Columns::is_empty));
        let last = self.last_rows(span, Some(&[]))?;
        let (Some(first), Some(last)) = (first.transpose()?, last) else { return Ok(None) };
        Ok(first.ends().zip(last.ends()).map(|(a, b)| (a.0, b.1)))
    }

    /// The number of rows within a span: whole days are known, only what the span cuts is read.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn count(&self, span: Span) -> Result<u64> {
        let mut rows = 0;
        let mut cut: Vec<Span> = Vec::new();
        for file in &self.files {
            for (day, n) in file.days.iter() {
                let whole = Span::new(day * DAY, (day + 1) * DAY);
                match whole.overlap(&span) {
                    Some(part) if part == whole => rows += u64::from(n),
                    Some(part) => cut.push(part),
                    None => {}
                }
            }
        }
        // Two files may hold parts of one day.
        cut.sort_unstable();
        cut.dedup();
        for part in cut {
            for piece in self.scan(part, Some(&[])) {
                rows += piece?.len() as u64;
            }
        }
        Ok(rows)
    }
}

/// Pieces of an edition in order of time, one row group at a time. Owns all it needs, so it may go
/// to another thread.
pub struct Scan {
    root: PathBuf,
    files: std::vec::IntoIter<SegmentInfo>,
    open: Option<ScanFile>,
    fields: Vec<Field>,
    scale: Scale,
    span: Span,
}

impl Scan {
    pub(super) fn new(
        root: &Path,
        files: Vec<SegmentInfo>,
        edition: &EditionInfo,
        span: Span,
        fields: Option<&[Field]>,
    ) -> Scan {
        let files: Vec<SegmentInfo> =
            files.into_iter().filter(|f| f.last >= span.from && f.first < span.to).collect();
        Scan {
            root: root.into(),
            files: files.into_iter(),
            open: None,
            fields: fields.map_or_else(|| edition.fields.clone(), <[Field]>::to_vec),
            scale: edition.scale,
            span,
        }
    }

    fn step(&mut self) -> Result<Option<Columns>> {
        loop {
            if let Some(open) = &mut self.open {
                if let Some(rows) = open.step()? {
                    return Ok(Some(rows));
                }
                self.open = None;
            }
            let Some(file) = self.files.next() else { return Ok(None) };
            let open = ScanFile::of_shelf(&self.root, &file, &self.fields, self.scale, self.span)?;
            self.open = Some(open);
        }
    }
}

impl Iterator for Scan {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}
