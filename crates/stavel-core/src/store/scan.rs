//! Reading data files: whole, by span, piece by piece.

use std::fs::File;
use std::path::{Path, PathBuf};

use parquet::column::reader::ColumnReader;
use parquet::file::reader::{FileReader, RowGroupReader, SerializedFileReader};
use parquet::file::statistics::Statistics;

use super::catalog::{EditionInfo, SegmentInfo};
use crate::model::time::DAY;
use crate::model::{Columns, Field, Scale, Span};
use crate::{Error, Result};

/// Reads a Parquet file written by a [`super::SegmentWriter`].
pub fn read_file(path: &Path, fields: &[Field], scale: Scale, span: Span) -> Result<Columns> {
    let mut all = Columns::empty(fields, scale);
    let reader = open(path)?;
    for group in 0..reader.num_row_groups() {
        if let Some(rows) = read_group(&reader, group, fields, scale, span)? {
            all.append(&rows);
        }
    }
    Ok(all)
}

fn open(path: &Path) -> Result<SerializedFileReader<File>> {
    let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    SerializedFileReader::new(file)
        .map_err(|e| Error::storage(format!("{} is damaged and cannot be read ({e}).", path.display())))
}

/// Reads the rows of one row group that lie in a span; none where the whole group lies outside.
fn read_group(
    reader: &SerializedFileReader<File>,
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
    let read = |name: &str| -> Result<Vec<i64>> {
        let at = names.iter().position(|n| *n == name);
        at.map_or_else(|| Ok(vec![0; rows]), |at| read_column(group.as_ref(), at, rows))
    };
    let columns = Columns {
        time: read("time")?,
        fields: fields.to_vec(),
        data: fields.iter().map(|f| read(f.name())).collect::<Result<_>>()?,
        scale,
    };
    let range = columns.range_of(span);
    Ok(Some(if range.len() == columns.len() { columns } else { columns.rows(range) }))
}

fn read_column(group: &dyn RowGroupReader, at: usize, rows: usize) -> Result<Vec<i64>> {
    let mut values = Vec::with_capacity(rows);
    match group.get_column_reader(at)? {
        ColumnReader::Int64ColumnReader(mut reader) => {
            while values.len() < rows {
                let (read, _, _) = reader.read_records(rows - values.len(), None, None, &mut values)?;
                if read == 0 {
                    return Err(Error::storage("A data file of the shelf ends before its rows do."));
                }
            }
            Ok(values)
        }
        _ => Err(Error::storage("A data file of the shelf has a column that does not hold whole numbers.")),
    }
}

/// Pieces of one file, one row group at a time.
pub struct ScanFile {
    reader: SerializedFileReader<File>,
    next: usize,
    fields: Vec<Field>,
    scale: Scale,
    span: Span,
}

impl ScanFile {
    /// Opens a file to read these fields within a span.
    pub fn open(path: &Path, fields: &[Field], scale: Scale, span: Span) -> Result<ScanFile> {
        Ok(ScanFile { reader: open(path)?, next: 0, fields: fields.to_vec(), scale, span })
    }

    fn step(&mut self) -> Result<Option<Columns>> {
        while self.next < self.reader.num_row_groups() {
            self.next += 1;
            let rows = read_group(&self.reader, self.next - 1, &self.fields, self.scale, self.span)?;
            if let Some(rows) = rows.filter(|r| !r.is_empty()) {
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

    /// The number of rows within a span: whole days are known, only what the span cuts is read.
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
            let home = home_of(&self.root, &file.path);
            self.open = Some(ScanFile::open(&home, &self.fields, self.scale, self.span)?);
        }
    }
}

/// Where a segment is: in `data/` or `past/`. A writer may move it between the two looks, hence three.
pub fn home_of(root: &Path, path: &str) -> PathBuf {
    let (data, past) = (root.join("data").join(path), root.join("past").join(path));
    [&data, &past, &data].into_iter().find(|p| p.exists()).unwrap_or(&data).clone()
}

impl Iterator for Scan {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}
