//! A dataset: Parquet files in folders by instrument, source, frame and year, with one schema for all
//! instruments. All numbers have nine decimals, spreads are differences of prices.

use std::path::{Path, PathBuf};

use super::delivered_rows::DeliveredRows;
use super::table::same_rows;
use crate::job::Job;
use crate::model::price::unit;
use crate::model::time::{DAY, civil_from_days, day_of, days_from_civil};
use crate::model::{Columns, Field, Scale, SeriesName, Span, present};
use crate::store::{ScanFile, SegmentWriter, SeriesInfo};
use crate::{Error, Result};

/// Decimals of every number.
const DECIMALS: u8 = 9;

/// What a number has to be below, so that it has 18 digits with its nine decimals.
const BELOW: i64 = 1_000_000_000;

/// The columns beside the time: all there are, whatever a series has.
fn all_fields() -> Vec<Field> {
    Field::ALL.into_iter().filter(|f| *f != Field::Covers && !f.is_only_in_files()).collect()
}

/// The files of a series, by year, UTC.
///
/// # Errors
/// Where the rows cannot be counted.
pub fn files(
    rows: &DeliveredRows,
    series: &SeriesName,
    span: Span,
    to: &Path,
) -> Result<Vec<(PathBuf, Span)>> {
    let Some((first, last)) = rows.ends(span)? else { return Ok(Vec::new()) };
    let folder = to
        .join(format!("instrument={}", series.instrument))
        .join(format!("source={}", series.source))
        .join(format!("frame={}", series.frame_and_side()));
    let year = |t: i64| civil_from_days(day_of(t)).0;
    let mut files = Vec::new();
    for year in year(first)..=year(last) {
        let whole = Span::new(days_from_civil(year, 1, 1) * DAY, days_from_civil(year + 1, 1, 1) * DAY);
        let Some(part) = whole.overlap(&span) else { continue };
        if rows.count(part)? > 0 {
            files.push((folder.join(format!("year={year}")).join("rows.parquet"), part));
        }
    }
    Ok(files)
}

/// Refuses numbers that nine decimals, or nine digits before them, do not hold.
///
/// # Errors
/// One sentence.
pub fn refuse_what_is_lost(info: &SeriesInfo, rows: &DeliveredRows, span: Span) -> Result<()> {
    let scale = info.edition.scale;
    for piece in rows.scan(span, &info.edition.fields) {
        let piece = piece?;
        for (field, column) in piece.fields.iter().zip(&piece.data) {
            let decimals = decimals_of(*field, scale);
            let lost = unit(decimals.saturating_sub(DECIMALS));
            let does_not_fit =
                |v: &&i64| present(**v).is_some_and(|v| v % lost != 0 || v.abs() / unit(decimals) >= BELOW);
            if let Some(value) = column.iter().find(does_not_fit) {
                return Err(Error::input(format!(
                    "{} has a {} of {}, which does not fit the one schema of a dataset (nine digits before the point and nine behind it); choose parquet.",
                    info.name,
                    field.name(),
                    crate::model::price::scaled(*value, decimals)
                )));
            }
        }
    }
    Ok(())
}

/// Decimals of a field's numbers; of spreads those of the prices.
fn decimals_of(field: Field, scale: Scale) -> u8 {
    if field.is_spread() { scale.price } else { scale.of(field) }
}

/// Writes the rows of a span and reads them back; gives their number and whether they are the same.
///
/// # Errors
/// Where the file cannot be written.
pub fn write(
    rows: &DeliveredRows,
    fields: &[Field],
    span: Span,
    path: &Path,
    job: &Job,
) -> Result<(u64, bool)> {
    let (all, scale) = (all_fields(), rows.scale());
    let mut writer = SegmentWriter::create_uniform(path, &all, DECIMALS)?;
    for piece in rows.scan(span, fields) {
        let piece = piece?;
        job.advance(piece.len() as u64)?;
        writer.push(widened(&piece, &all, scale))?;
    }
    let count = writer.finish(path)?.rows;
    let uniform = Scale { price: DECIMALS, volume: DECIMALS };
    let back =
        ScanFile::open(path, fields, uniform, Span::ALL)?.map(|piece| piece.map(|p| narrowed(p, scale)));
    let again = rows.scan(span, fields).inspect(|piece| {
        if let Ok(piece) = piece {
            let _ = job.advance(piece.len() as u64);
        }
    });
    Ok((count, same_rows(back, again)?))
}

/// Rows with every column there is, all numbers with nine decimals.
fn widened(rows: &Columns, all: &[Field], scale: Scale) -> Columns {
    let column = |field: &Field| {
        let decimals = decimals_of(*field, scale);
        let bring = |v: &i64| match present(*v) {
            None => *v,
            Some(v) if decimals > DECIMALS => v / unit(decimals - DECIMALS),
            Some(v) => v * unit(DECIMALS - decimals),
        };
        match rows.has(*field) {
            true => rows.column(*field).iter().map(bring).collect(),
            false => vec![crate::model::ABSENT; rows.len()],
        }
    };
    Columns {
        time: rows.time.clone(),
        fields: all.to_vec(),
        data: all.iter().map(column).collect(),
        scale: Scale { price: DECIMALS, volume: DECIMALS },
    }
}

/// Rows read back, at the decimals of the series: a number that was changed beyond them becomes another one.
fn narrowed(mut rows: Columns, scale: Scale) -> Columns {
    for (field, column) in rows.fields.iter().zip(&mut rows.data) {
        let decimals = decimals_of(*field, scale);
        for v in column.iter_mut().filter(|v| present(**v).is_some()) {
            *v = match decimals.checked_sub(DECIMALS) {
                Some(more) => *v * unit(more),
                None if *v % unit(DECIMALS - decimals) == 0 => *v / unit(DECIMALS - decimals),
                None => i64::MAX,
            };
        }
    }
    rows.scale = scale;
    rows
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::ABSENT;

    #[test]
    fn numbers_of_any_scale_come_to_nine_decimals_and_back() {
        let fields = [Field::Close, Field::Volume, Field::Spread, Field::TickCount];
        let scale = Scale { price: 5, volume: 2 };
        let mut rows = Columns::empty(&fields, scale);
        rows.time = vec![1, 2];
        rows.data = vec![vec![987_650, -1], vec![150, ABSENT], vec![12, ABSENT], vec![7, 0]];
        let wide = widened(&rows, &all_fields(), scale);
        assert_eq!(wide.column(Field::Close), [9_876_500_000, -10_000]);
        assert_eq!(wide.column(Field::Volume), [1_500_000_000, ABSENT]);
        assert_eq!(wide.column(Field::Spread), [120_000, ABSENT], "a difference of prices");
        assert_eq!(wide.column(Field::TickCount), [7_000_000_000, 0]);
        assert_eq!(wide.column(Field::Bid), [ABSENT, ABSENT]);
        let back = narrowed(wide.with_fields(&fields), scale);
        assert_eq!(back, rows);
        let mut changed = widened(&rows, &fields, scale);
        changed.data[0][0] += 1;
        assert_ne!(narrowed(changed, scale), rows, "beyond the decimals of the series");
    }
}
