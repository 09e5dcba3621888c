//! Data files: Parquet with integer columns, written through the typed column writers.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use parquet::basic::{Compression, Encoding, LogicalType, Repetition, TimeUnit, Type as Physical, ZstdLevel};
use parquet::column::reader::ColumnReader;
use parquet::data_type::Int64Type;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::reader::{FileReader, RowGroupReader, SerializedFileReader};
use parquet::file::statistics::Statistics;
use parquet::file::writer::SerializedFileWriter;
use parquet::schema::types::{ColumnPath, PrimitiveTypeBuilder, Type, TypePtr};

use super::catalog::{EditionInfo, SegmentInfo};
use crate::model::{Columns, Field, Micros, Scale, Span};
use crate::{Error, Result};

/// Rows in a row group: small enough that reading a day of ticks does not read a month.
pub const GROUP_ROWS: usize = 128 * 1024;

fn int64(name: &str) -> PrimitiveTypeBuilder<'_> {
    Type::primitive_type_builder(name, Physical::INT64).with_repetition(Repetition::REQUIRED)
}

fn schema(fields: &[Field], scale: Scale, anchored: bool) -> Result<TypePtr> {
    let timestamp = LogicalType::timestamp(anchored, TimeUnit::MICROS);
    let mut columns = vec![Arc::new(int64("time").with_logical_type(Some(timestamp)).build()?)];
    for field in fields {
        let places = scale.of(*field) as i32;
        let decimal = int64(field.name()).with_scale(places).with_precision(18);
        columns.push(Arc::new(decimal.with_logical_type(Some(LogicalType::decimal(places, 18))).build()?));
    }
    Ok(Arc::new(Type::group_type_builder("history").with_fields(columns).build()?))
}

fn properties(fields: &[Field]) -> Arc<WriterProperties> {
    let mut builder = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::try_new(1).unwrap_or_default()))
        .set_statistics_enabled(EnabledStatistics::Chunk)
        .set_created_by("stavel".into());
    // Times and prices move in small steps; volumes and spreads repeat.
    let names = std::iter::once("time").chain(fields.iter().filter(|f| f.is_price()).map(|f| f.name()));
    for name in names {
        let path = ColumnPath::from(name);
        builder = builder
            .set_column_dictionary_enabled(path.clone(), false)
            .set_column_encoding(path, Encoding::DELTA_BINARY_PACKED);
    }
    Arc::new(builder.build())
}

/// A file being written: rows are gathered into row groups.
pub struct SegmentWriter {
    path: PathBuf,
    writer: SerializedFileWriter<File>,
    waiting: Columns,
    ends: Option<(Micros, Micros)>,
    rows: u64,
}

impl SegmentWriter {
    /// Begins a file for rows with these fields; `anchored` times are marked as UTC.
    pub fn create(path: &Path, fields: &[Field], scale: Scale, anchored: bool) -> Result<SegmentWriter> {
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
        }
        let file = File::create(path).map_err(|e| Error::io("Cannot write", path, &e))?;
        let writer = SerializedFileWriter::new(file, schema(fields, scale, anchored)?, properties(fields))?;
        Ok(SegmentWriter {
            path: path.into(),
            writer,
            waiting: Columns::empty(fields, scale),
            ends: None,
            rows: 0,
        })
    }

    /// Adds rows that follow those already there.
    pub fn push(&mut self, rows: &Columns) -> Result<()> {
        let Some((first, last)) = rows.ends() else { return Ok(()) };
        self.ends = Some(self.ends.map_or((first, last), |(f, l)| (f.min(first), l.max(last))));
        self.rows += rows.len() as u64;
        self.waiting.append(rows);
        if self.waiting.len() >= GROUP_ROWS {
            self.flush()?;
        }
        Ok(())
    }

    fn flush(&mut self) -> Result<()> {
        let waiting = std::mem::replace(&mut self.waiting, Columns::empty(&[], Scale::default()));
        for from in (0..waiting.len()).step_by(GROUP_ROWS) {
            let rows = from..(from + GROUP_ROWS).min(waiting.len());
            let mut group = self.writer.next_row_group()?;
            for column in std::iter::once(&waiting.time).chain(&waiting.data) {
                if let Some(mut writer) = group.next_column()? {
                    writer.typed::<Int64Type>().write_batch(&column[rows.clone()], None, None)?;
                    writer.close()?;
                }
            }
            group.close()?;
        }
        self.waiting = Columns::empty(&waiting.fields, waiting.scale);
        Ok(())
    }

    /// Ends the file, syncs it and gives it its final name.
    pub fn finish(mut self, to: &Path) -> Result<(u64, Micros, Micros, u64)> {
        self.flush()?;
        let file = self.writer.into_inner()?;
        file.sync_all().map_err(|e| Error::io("Cannot sync", &self.path, &e))?;
        let bytes = file.metadata().map_err(|e| Error::io("Cannot size", &self.path, &e))?.len();
        std::fs::rename(&self.path, to).map_err(|e| Error::io("Cannot rename", &self.path, &e))?;
        let (first, last) = self.ends.unwrap_or_default();
        Ok((self.rows, first, last, bytes))
    }
}

/// Reads a Parquet file written by a [`SegmentWriter`].
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

/// Pieces of an edition in order of time, one row group at a time. Owns all it needs, so it may go
/// to another thread.
pub struct Scan {
    root: PathBuf,
    files: std::vec::IntoIter<SegmentInfo>,
    open: Option<(SerializedFileReader<File>, usize)>,
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
            if let Some((reader, next)) = &mut self.open {
                while *next < reader.num_row_groups() {
                    *next += 1;
                    let rows = read_group(reader, *next - 1, &self.fields, self.scale, self.span)?;
                    if let Some(rows) = rows.filter(|r| !r.is_empty()) {
                        return Ok(Some(rows));
                    }
                }
                self.open = None;
            }
            let Some(file) = self.files.next() else { return Ok(None) };
            self.open = Some((open_at_home(&self.root, &file.path)?, 0));
        }
    }
}

/// Opens a segment in `data/` or `past/`. A writer may move it between the two looks, hence three.
fn open_at_home(root: &Path, path: &str) -> Result<SerializedFileReader<File>> {
    let (data, past) = (root.join("data").join(path), root.join("past").join(path));
    let home = [&data, &past, &data].into_iter().find(|p| p.exists()).unwrap_or(&data);
    open(home)
}

impl Iterator for Scan {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        self.step().transpose()
    }
}
