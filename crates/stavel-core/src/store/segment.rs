//! Writing data files: Parquet with integer columns, encoded column by column on every core.

use std::fs::File;
use std::io::Write;
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use bytes::Bytes;
use parquet::basic::{Compression, Encoding, LogicalType, Repetition, TimeUnit, Type as Physical, ZstdLevel};
use parquet::column::writer::{
    ColumnCloseResult, ColumnWriterImpl, get_column_writer, get_typed_column_writer,
};
use parquet::data_type::Int64Type;
use parquet::file::metadata::KeyValue;
use parquet::file::properties::{EnabledStatistics, WriterProperties};
use parquet::file::writer::{SerializedFileWriter, SerializedPageWriter, TrackedWrite};
use parquet::schema::types::{ColumnPath, PrimitiveTypeBuilder, SchemaDescriptor, Type, TypePtr};
use rayon::prelude::*;
use twox_hash::XxHash3_128;

use super::days::RowsByDay;
use super::editions::{SegmentFormat, SegmentInfo};
use super::home::{make_folders, sync_folder};
use crate::model::price::LIMIT;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, present};
use crate::{Error, Result};

/// Rows in a row group: small enough that reading a day of ticks does not read a month.
pub const GROUP_ROWS: usize = 128 * 1024;

/// Values that go through an encoder at once.
const BATCH: usize = 8 * 1024;

fn int64(name: &str) -> PrimitiveTypeBuilder<'_> {
    Type::primitive_type_builder(name, Physical::INT64)
}

fn schema(fields: &[Field], places: impl Fn(Field) -> u8, anchored: bool) -> Result<TypePtr> {
    let timestamp = LogicalType::timestamp(anchored, TimeUnit::MICROS);
    let time = int64("time").with_repetition(Repetition::REQUIRED).with_logical_type(Some(timestamp));
    let mut columns = vec![Arc::new(time.build()?)];
    for field in fields {
        let places = i32::from(places(*field));
        let decimal = int64(field.name()).with_repetition(Repetition::OPTIONAL);
        let decimal = decimal.with_scale(places).with_precision(18);
        columns.push(Arc::new(decimal.with_logical_type(Some(LogicalType::decimal(places, 18))).build()?));
    }
    Ok(Arc::new(Type::group_type_builder("history").with_fields(columns).build()?))
}

fn properties(fields: &[Field]) -> Arc<WriterProperties> {
    let mut builder = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::try_new(1).unwrap_or_default()))
        .set_statistics_enabled(EnabledStatistics::Chunk)
        .set_write_batch_size(BATCH)
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

/// Some neighbouring rows of shared columns.
#[derive(Clone)]
pub struct SharedRows {
    /// The columns.
    pub rows: Arc<Columns>,
    /// Which of their rows.
    pub range: Range<usize>,
}

/// How the columns of a file are encoded.
#[derive(Clone)]
struct Coding {
    schema: TypePtr,
    descriptor: Arc<SchemaDescriptor>,
    properties: Arc<WriterProperties>,
}

/// The rows of one row group, ready to be encoded on any thread.
pub struct Group {
    pieces: Vec<SharedRows>,
    coding: Coding,
}

/// An encoded row group.
pub struct Encoded {
    columns: Vec<(Bytes, ColumnCloseResult)>,
}

impl Group {
    /// Columns to encode.
    pub fn width(&self) -> usize {
        self.coding.descriptor.num_columns()
    }

    /// Encodes and compresses one column (0 is the time).
    ///
    /// # Errors
    /// Where a value does not fit the column.
    pub fn encode_column(&self, column: usize) -> Result<(Bytes, ColumnCloseResult)> {
        let mut out = TrackedWrite::new(Vec::new());
        let pages = Box::new(SerializedPageWriter::new(&mut out));
        let descriptor = self.coding.descriptor.column(column);
        let writer = get_column_writer(descriptor, self.coding.properties.clone(), pages);
        let mut writer = get_typed_column_writer::<Int64Type>(writer);
        for piece in &self.pieces {
            let values = match column.checked_sub(1) {
                None => &piece.rows.time,
                Some(field) => &piece.rows.data[field],
            };
            let values = &values[piece.range.clone()];
            match column {
                0 => writer.write_batch(values, None, None)?,
                _ => write_nullable(&mut writer, values)?,
            };
        }
        let closed = writer.close()?;
        Ok((Bytes::from(out.into_inner()?), closed))
    }

    /// Encodes all columns, side by side.
    ///
    /// # Errors
    /// Where a value does not fit its column.
    pub fn encode(&self) -> Result<Encoded> {
        let columns = (0..self.width()).into_par_iter().map(|c| self.encode_column(c));
        Ok(Encoded { columns: columns.collect::<Result<_>>()? })
    }
}

/// The definition levels of values that are all there.
static ALL_THERE: [i16; GROUP_ROWS] = [1; GROUP_ROWS];

/// Writes values of which some may be absent: those become nulls.
///
/// # Errors
/// Where a value has more than 18 digits: it was multiplied or added up beyond what a column can say.
fn write_nullable(writer: &mut ColumnWriterImpl<'_, Int64Type>, values: &[i64]) -> Result<usize> {
    if values.iter().any(|v| (*v <= -LIMIT || *v >= LIMIT) && *v != ABSENT) {
        return Err(Error::input(
            "A price or volume would have more than 18 digits, which is more than a history can hold; nothing was changed.",
        ));
    }
    if !values.contains(&ABSENT) {
        return values.chunks(GROUP_ROWS).try_fold(0, |n, part| {
            Ok(n + writer.write_batch(part, Some(&ALL_THERE[..part.len()]), None)?)
        });
    }
    let levels: Vec<i16> = values.iter().map(|v| i16::from(present(*v).is_some())).collect();
    let there: Vec<i64> = values.iter().copied().filter_map(present).collect();
    Ok(writer.write_batch(&there, Some(&levels), None)?)
}

impl Encoded {
    /// A group out of its columns, encoded one by one.
    pub fn of(columns: Vec<(Bytes, ColumnCloseResult)>) -> Encoded {
        Encoded { columns }
    }
}

/// A file that hashes what is written to it.
struct Hashing {
    file: File,
    hash: XxHash3_128,
}

impl Write for Hashing {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let written = self.file.write(bytes)?;
        self.hash.write(&bytes[..written]);
        Ok(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.file.flush()
    }
}

/// What a finished file holds.
#[derive(Debug, Clone, Default)]
pub struct WrittenFile {
    /// Rows in it.
    pub rows: u64,
    /// The time of its first row.
    pub first: Micros,
    /// The time of its last row.
    pub last: Micros,
    /// Its length.
    pub bytes: u64,
    /// Of the whole file, by XXH3 with 128 bits, in hexadecimal.
    pub hash: String,
    /// Rows by day.
    pub days: RowsByDay,
}

impl WrittenFile {
    /// The file as a segment that the catalog does not know yet.
    pub fn as_segment(&self, path: &str) -> SegmentInfo {
        SegmentInfo {
            id: 0,
            path: path.to_owned(),
            rows: self.rows,
            first: self.first,
            last: self.last,
            bytes: self.bytes,
            hash: Some(self.hash.clone()),
            days: self.days.clone(),
            format: SegmentFormat::Nulls,
        }
    }
}

/// The key of what a data file says of itself, in its Parquet metadata.
pub const ABOUT: &str = "stavel";

/// A file being written: rows are gathered into row groups, which are encoded when they are full.
pub struct SegmentWriter {
    path: PathBuf,
    writer: SerializedFileWriter<Hashing>,
    coding: Coding,
    group_rows: usize,
    waiting: Vec<SharedRows>,
    waiting_rows: usize,
    about: WrittenFile,
}

impl SegmentWriter {
    /// Begins a file for rows with these fields; `anchored` times are marked as UTC.
    ///
    /// # Errors
    /// Where the file cannot be made.
    pub fn create(path: &Path, fields: &[Field], scale: Scale, anchored: bool) -> Result<SegmentWriter> {
        SegmentWriter::with_schema(path, fields, schema(fields, |f| scale.of(f), anchored)?)
    }

    /// The same with as many decimals for every field, and times in UTC.
    ///
    /// # Errors
    /// Where the file cannot be made.
    pub fn create_uniform(path: &Path, fields: &[Field], decimals: u8) -> Result<SegmentWriter> {
        SegmentWriter::with_schema(path, fields, schema(fields, |_| decimals, true)?)
    }

    fn with_schema(path: &Path, fields: &[Field], schema: TypePtr) -> Result<SegmentWriter> {
        if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
            make_folders(folder)?;
        }
        let file = File::create(path).map_err(|e| Error::io("Cannot write", path, &e))?;
        let properties = properties(fields);
        let descriptor = Arc::new(SchemaDescriptor::new(schema.clone()));
        let hashing = Hashing { file, hash: XxHash3_128::new() };
        Ok(SegmentWriter {
            path: path.into(),
            writer: SerializedFileWriter::new(hashing, schema.clone(), properties.clone())?,
            coding: Coding { schema, descriptor, properties },
            group_rows: GROUP_ROWS,
            waiting: Vec::new(),
            waiting_rows: 0,
            about: WrittenFile::default(),
        })
    }

    /// The same with smaller row groups, for files of which many are read at once.
    pub fn with_group_rows(mut self, rows: usize) -> SegmentWriter {
        self.group_rows = rows;
        self
    }

    /// Puts a text into the file's metadata that tells what it holds.
    pub fn say(&mut self, about: &str) {
        self.writer.append_key_value_metadata(KeyValue::new(ABOUT.to_owned(), about.to_owned()));
    }

    /// Adds rows that follow those already there.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn push(&mut self, rows: impl Into<Arc<Columns>>) -> Result<()> {
        let rows = rows.into();
        let range = 0..rows.len();
        for group in self.queue(SharedRows { rows, range }) {
            self.append(group.encode()?)?;
        }
        Ok(())
    }

    /// Adds rows and gives the row groups they filled, to be encoded and given to
    /// [`SegmentWriter::append`] in the same order.
    pub fn queue(&mut self, piece: SharedRows) -> Vec<Group> {
        let times = &piece.rows.time[piece.range.clone()];
        let (Some(&first), Some(&last)) = (times.first(), times.last()) else { return Vec::new() };
        if self.about.rows == 0 {
            self.about.first = first;
        }
        self.about.last = last;
        self.about.rows += times.len() as u64;
        self.about.days.count(times);
        let mut groups = Vec::new();
        let mut range = piece.range;
        while !range.is_empty() {
            let room = self.group_rows - self.waiting_rows;
            let cut = range.start + room.min(range.len());
            self.waiting.push(SharedRows { rows: piece.rows.clone(), range: range.start..cut });
            self.waiting_rows += cut - range.start;
            range.start = cut;
            if self.waiting_rows == self.group_rows {
                groups.extend(self.rest());
            }
        }
        groups
    }

    /// The rows that do not fill a row group, if there are any.
    pub fn rest(&mut self) -> Option<Group> {
        self.waiting_rows = 0;
        let pieces = std::mem::take(&mut self.waiting);
        (!pieces.is_empty()).then(|| Group { pieces, coding: self.coding.clone() })
    }

    /// Writes an encoded row group.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn append(&mut self, encoded: Encoded) -> Result<()> {
        debug_assert_eq!(encoded.columns.len(), self.coding.schema.get_fields().len());
        let mut group = self.writer.next_row_group()?;
        for (bytes, closed) in encoded.columns {
            group.append_column(&bytes, closed)?;
        }
        group.close()?;
        Ok(())
    }

    /// Writes the rest and the footer.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn end(mut self) -> Result<Unsynced> {
        if let Some(group) = self.rest() {
            self.append(group.encode()?)?;
        }
        let hashing = self.writer.into_inner()?;
        let bytes = hashing.file.metadata().map_err(|e| Error::io("Cannot size", &self.path, &e))?.len();
        let about = WrittenFile { bytes, hash: format!("{:032x}", hashing.hash.finish_128()), ..self.about };
        Ok(Unsynced { file: hashing.file, path: self.path, about })
    }

    /// Ends the file, syncs it and gives it its final name.
    ///
    /// # Errors
    /// Where the file cannot be written or named.
    pub fn finish(self, to: &Path) -> Result<WrittenFile> {
        self.end()?.settle(to)
    }
}

/// A whole file that the disk may not hold yet.
pub struct Unsynced {
    file: File,
    path: PathBuf,
    pub about: WrittenFile,
}

impl Unsynced {
    /// Syncs the file, gives it its final name and syncs the folder that holds the name.
    pub fn settle(self, to: &Path) -> Result<WrittenFile> {
        self.file.sync_all().map_err(|e| Error::io("Cannot sync", &self.path, &e))?;
        std::fs::rename(&self.path, to).map_err(|e| Error::io("Cannot rename", &self.path, &e))?;
        to.parent().map_or(Ok(()), sync_folder)?;
        Ok(self.about)
    }
}
