//! Tables whose rows have a time and cells of several kinds, as fills and trades are: as JSON, for a workbook, as Parquet;
//! as text they are written by a layout.

use std::sync::Arc;

use parquet::basic::{LogicalType, Repetition, TimeUnit, Type as Physical};
use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DataType, Int64Type};
use parquet::file::properties::WriterProperties;
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use parquet::schema::types::{Type, TypePtr};

use super::{SideTable, TableCell};
use crate::model::price::parse_scaled;
use crate::model::time::rfc3339;
use crate::model::{Clock, Micros};
use crate::{Error, Result};

/// A cell.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TimedCell {
    /// A moment, UTC.
    Time(Micros),
    /// Words.
    Text(String),
    /// A number as exact decimal text, with a point.
    Number(String),
    /// Yes or no.
    Flag(bool),
    /// Not known, or there is none.
    Absent,
}

impl From<&str> for TimedCell {
    fn from(text: &str) -> TimedCell {
        if text.is_empty() { TimedCell::Absent } else { TimedCell::Text(text.to_owned()) }
    }
}

/// The kind of the cells of a column.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TimedKind {
    /// Moments.
    Time,
    /// Words.
    Text,
    /// Exact numbers.
    Number,
    /// Yes or no.
    Flag,
}

/// A table; the first column is the time of its rows.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TimedTable {
    /// What it is called.
    pub name: &'static str,
    /// The names and kinds of its columns; the first is of times.
    pub columns: Vec<(&'static str, TimedKind)>,
    /// Its rows, each with a cell for each column.
    pub rows: Vec<Vec<TimedCell>>,
}

impl TimedTable {
    /// As JSON: an array of records, or a record a line. Times are RFC 3339 in UTC, numbers exact, what is absent null.
    pub fn to_json(&self, by_line: bool) -> Vec<u8> {
        let record = |row: &Vec<TimedCell>| {
            let cells = self.columns.iter().zip(row).map(|((name, _), cell)| {
                let value = match cell {
                    TimedCell::Time(time) => quoted(&rfc3339(*time)),
                    TimedCell::Text(text) => quoted(text),
                    TimedCell::Number(number) => number.clone(),
                    TimedCell::Flag(flag) => flag.to_string(),
                    TimedCell::Absent => "null".to_owned(),
                };
                format!("{}:{value}", quoted(name))
            });
            format!("{{{}}}", cells.collect::<Vec<_>>().join(","))
        };
        let records: Vec<String> = self.rows.iter().map(record).collect();
        let text = match by_line {
            true => records.iter().map(|record| format!("{record}\n")).collect(),
            false => format!("[\n{}\n]\n", records.join(",\n")),
        };
        text.into_bytes()
    }

    /// As a sheet of a workbook, with times on a clock.
    pub fn to_side_table(&self, clock: &Clock) -> SideTable {
        let cell = |cell: &TimedCell| match cell {
            TimedCell::Time(time) => TableCell::Time(clock.to_wall(*time)),
            TimedCell::Text(text) => TableCell::Text(text.clone()),
            TimedCell::Number(number) => number.parse().map_or(TableCell::Empty, TableCell::Number),
            TimedCell::Flag(flag) => TableCell::Text(if *flag { "yes" } else { "no" }.to_owned()),
            TimedCell::Absent => TableCell::Empty,
        };
        SideTable {
            name: self.name.to_owned(),
            columns: self.columns.iter().map(|(name, _)| (*name).to_owned()).collect(),
            rows: self.rows.iter().map(|row| row.iter().map(cell).collect()).collect(),
        }
    }

    /// As Parquet: times are TIMESTAMP(MICROS, UTC), numbers DECIMAL(18) of as many decimals as the column needs, what is
    /// absent is null.
    ///
    /// # Errors
    /// Where a number is too large for that.
    pub fn to_parquet(&self) -> Result<Vec<u8>> {
        let failed = |e: parquet::errors::ParquetError| {
            Error::storage(format!("The {} cannot be written as Parquet: {e}.", self.name))
        };
        let fields: Vec<TypePtr> = (0..self.columns.len())
            .map(|column| self.parquet_type(column))
            .collect::<parquet::errors::Result<_>>()
            .map_err(failed)?;
        let schema = Type::group_type_builder(self.name).with_fields(fields).build().map_err(failed)?;
        let mut out = Vec::new();
        let properties = Arc::new(WriterProperties::builder().build());
        let mut writer = SerializedFileWriter::new(&mut out, Arc::new(schema), properties).map_err(failed)?;
        let mut group = writer.next_row_group().map_err(failed)?;
        for column in 0..self.columns.len() {
            self.push_column(column, &mut group)?.map_err(failed)?;
        }
        group.close().map_err(failed)?;
        writer.close().map_err(failed)?;
        Ok(out)
    }

    /// The decimals that the numbers of a column need.
    fn decimals(&self, column: usize) -> u8 {
        let of = |row: &Vec<TimedCell>| match &row[column] {
            TimedCell::Number(number) => number.split_once('.').map_or(0, |(_, decimals)| decimals.len()),
            _ => 0,
        };
        u8::try_from(self.rows.iter().map(of).max().unwrap_or(0)).unwrap_or(u8::MAX)
    }

    fn parquet_type(&self, column: usize) -> parquet::errors::Result<TypePtr> {
        let (name, kind) = self.columns[column];
        let (physical, logical) = match kind {
            TimedKind::Time => (Physical::INT64, Some(LogicalType::timestamp(true, TimeUnit::MICROS))),
            TimedKind::Text => (Physical::BYTE_ARRAY, Some(LogicalType::String)),
            TimedKind::Number => {
                let scale = i32::from(self.decimals(column));
                (Physical::INT64, Some(LogicalType::decimal(scale, 18)))
            }
            TimedKind::Flag => (Physical::BOOLEAN, None),
        };
        let mut builder = Type::primitive_type_builder(name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_logical_type(logical);
        if kind == TimedKind::Number {
            builder = builder.with_precision(18).with_scale(i32::from(self.decimals(column)));
        }
        builder.build().map(Arc::new)
    }

    fn push_column<W: std::io::Write + Send>(
        &self,
        column: usize,
        group: &mut SerializedRowGroupWriter<'_, W>,
    ) -> Result<parquet::errors::Result<()>> {
        let cells = || self.rows.iter().map(|row| &row[column]);
        let levels: Vec<i16> = cells().map(|cell| i16::from(*cell != TimedCell::Absent)).collect();
        let decimals = self.decimals(column);
        Ok(match self.columns[column].1 {
            TimedKind::Text => {
                let texts: Vec<ByteArray> = cells()
                    .filter_map(|cell| match cell {
                        TimedCell::Text(text) => Some(ByteArray::from(text.as_str())),
                        _ => None,
                    })
                    .collect();
                push::<ByteArrayType, W>(group, &texts, &levels)
            }
            TimedKind::Flag => {
                let flags: Vec<bool> = cells()
                    .filter_map(|cell| if let TimedCell::Flag(flag) = cell { Some(*flag) } else { None })
                    .collect();
                push::<BoolType, W>(group, &flags, &levels)
            }
            TimedKind::Time | TimedKind::Number => {
                let values: Vec<i64> = cells()
                    .filter_map(|cell| match cell {
                        TimedCell::Time(time) => Some(Ok(*time)),
                        TimedCell::Number(number) => Some(parse_scaled(number.as_bytes(), decimals)),
                        _ => None,
                    })
                    .collect::<std::result::Result<_, _>>()
                    .map_err(|_| {
                        let name = self.columns[column].0;
                        Error::input(format!("A number of the column {name} is too large for Parquet."))
                    })?;
                push::<Int64Type, W>(group, &values, &levels)
            }
        })
    }
}

fn push<T: DataType, W: std::io::Write + Send>(
    group: &mut SerializedRowGroupWriter<'_, W>,
    values: &[T::T],
    levels: &[i16],
) -> parquet::errors::Result<()> {
    if let Some(mut column) = group.next_column()? {
        column.typed::<T>().write_batch(values, Some(levels), None)?;
        column.close()?;
    }
    Ok(())
}

fn quoted(text: &str) -> String {
    serde_json::Value::from(text).to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use parquet::file::reader::{FileReader, SerializedFileReader};

    fn table() -> TimedTable {
        let time = parse("2024-03-05 09:31:02.5").unwrap();
        TimedTable {
            name: "fills",
            columns: vec![
                ("time", TimedKind::Time),
                ("words", TimedKind::Text),
                ("price", TimedKind::Number),
                ("doubtful", TimedKind::Flag),
            ],
            rows: vec![
                vec![
                    TimedCell::Time(time),
                    "a \"b\"".into(),
                    TimedCell::Number("1.02551".into()),
                    TimedCell::Flag(true),
                ],
                vec![TimedCell::Time(time), "".into(), TimedCell::Number("-3".into()), TimedCell::Absent],
            ],
        }
    }

    #[test]
    fn json_is_exact_and_knows_what_is_absent() {
        let lines = String::from_utf8(table().to_json(true)).unwrap();
        let first =
            r#"{"time":"2024-03-05T09:31:02.500Z","words":"a \"b\"","price":1.02551,"doubtful":true}"#;
        assert_eq!(lines.lines().next().unwrap(), first);
        let all: serde_json::Value = serde_json::from_slice(&table().to_json(false)).unwrap();
        assert_eq!((&all[1]["words"], all[1]["price"].as_i64()), (&serde_json::Value::Null, Some(-3)));
        assert!(TimedTable { rows: Vec::new(), ..table() }.to_json(true).is_empty());
    }

    #[test]
    fn parquet_is_read_back_with_its_types() {
        let bytes = bytes::Bytes::from(table().to_parquet().unwrap());
        let reader = SerializedFileReader::new(bytes).unwrap();
        let rows = reader.get_row_iter(None).unwrap();
        let told: Vec<String> = rows.map(|row| row.unwrap().to_string()).collect();
        assert!(told[0].contains("words: \"a \\\"b\\\"\"") || told[0].contains("a \"b\""), "{told:?}");
        assert!(told[0].contains("price: 1.02551") && told[0].contains("doubtful: true"), "{told:?}");
        assert!(told[1].contains("price: -3.00000") && told[1].contains("words: null"), "{told:?}");
        let large = TimedCell::Number("99999999999999999999".into());
        let mut too_large = table();
        too_large.rows[0][2] = large;
        assert!(too_large.to_parquet().is_err());
    }
}
