//! The layout that is written: a general or saved one, with what else was said.

use crate::intake::layout_named;
use crate::step::DeliverStep;
use stavel_core::deliver::FileFormat;
use stavel_core::model::layout::{decimals_of, form_of, general, is_absent_text};
use stavel_core::model::{DateOrder, Delimiter, Field, Layout, Marks, Since1970, Use};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// One way of writing a series.
#[derive(Debug, Clone)]
pub struct DeliveryShape {
    /// The format of the file.
    pub format: FileFormat,
    /// How its lines are written, where it is not the usual way.
    pub layout: Option<Layout>,
    /// Only these fields; none for all.
    pub only: Option<Vec<Field>>,
}

/// The ways a step wants its series written: one for each layout, or for each format.
///
/// # Errors
/// Where a layout is not known, or something was said that does not go with a format.
pub fn shapes(shelf: &Shelf, step: &DeliverStep) -> Result<Vec<DeliveryShape>> {
    if !step.layout.is_empty() && !matches!(step.format.as_slice(), [] | [FileFormat::Csv]) {
        return Err(Error::arguments("A layout says how lines of text are written; leave --format away."));
    }
    let mut out = Vec::new();
    for name in &step.layout {
        let layout = Some(changed(layout_named(shelf, name)?, step)?);
        out.push(DeliveryShape { format: FileFormat::Csv, layout, only: None });
    }
    if !out.is_empty() {
        return Ok(out);
    }
    for format in &formats_of(step) {
        if *format == FileFormat::Csv {
            let usual = general("rfc3339").filter(|_| says_how_lines_are(step));
            let layout = usual.map(|usual| changed(Layout { name: None, ..usual }, step)).transpose()?;
            out.push(DeliveryShape { format: *format, layout, only: None });
            continue;
        }
        let may_round = matches!(format, FileFormat::Json | FileFormat::Ndjson | FileFormat::Html);
        let option = option_of_lines(step).filter(|o| !(may_round && o.ends_with("decimals")));
        if let Some(option) = option {
            return Err(Error::arguments(format!(
                "--{option} says how lines of text are written; it does not go with {}.",
                format.word()
            )));
        }
        let only = (!step.columns.is_empty()).then(|| fields_of(step, *format)).transpose()?;
        out.push(DeliveryShape { format: *format, layout: None, only });
    }
    Ok(out)
}

/// The formats that are wanted: those that are said, else the one that the file's name ends in.
fn formats_of(step: &DeliverStep) -> Vec<FileFormat> {
    match step.format.is_empty() {
        true => vec![FileFormat::of_name(&step.out).unwrap_or(FileFormat::Csv)],
        false => step.format.clone(),
    }
}

/// True where a step says something that the usual lines of CSV are not.
fn says_how_lines_are(step: &DeliverStep) -> bool {
    option_of_lines(step).is_some() || !step.columns.is_empty()
}

/// The first option of a step that is about lines of text.
fn option_of_lines(step: &DeliverStep) -> Option<&'static str> {
    let said = [
        ("dates", step.dates.is_some()),
        ("delimiter", step.delimiter.is_some()),
        ("no-header", step.no_header),
        ("decimal-mark", step.decimal_mark.is_some()),
        ("quotes", step.quotes.is_some()),
        ("absent", step.absent.is_some()),
        ("line-end", step.line_end.is_some()),
        ("encoding", step.encoding.is_some()),
        ("stamp", step.stamp.is_some()),
        // Last, since records may have them too.
        ("decimals", step.decimals.is_some()),
        ("volume-decimals", step.volume_decimals.is_some()),
    ];
    said.into_iter().find(|(_, is_said)| *is_said).map(|(option, _)| option)
}

/// The fields among the columns of a format that has its own names for them.
fn fields_of(step: &DeliverStep, format: FileFormat) -> Result<Vec<Field>> {
    let fields = step.columns.iter().filter(|c| *c != "time").map(|word| {
        Field::named(word).ok_or_else(|| {
            Error::arguments(format!(
                "'{}' is no column of {}; say columns as open, close, volume.",
                stavel_core::error::printable(word),
                format.word()
            ))
        })
    });
    fields.collect()
}

/// A layout with what a step says beside it.
fn changed(mut layout: Layout, step: &DeliverStep) -> Result<Layout> {
    if let Some(dates) = &step.dates {
        set_dates(&mut layout, dates)?;
    }
    if !step.columns.is_empty() {
        set_columns(&mut layout, &step.columns)?;
    }
    if let Some(text) = &step.delimiter {
        layout.delimiter = Delimiter::named(text).ok_or_else(|| {
            Error::arguments(format!(
                "'{}' cannot stand between cells; say comma, semicolon, tab, pipe, blanks, or one mark.",
                stavel_core::error::printable(text)
            ))
        })?;
    }
    if step.no_header {
        layout.header = None;
    }
    match step.decimal_mark {
        None => {}
        Some(mark @ ('.' | ',')) => layout.numbers.decimal = mark as u8,
        Some(mark) => {
            return Err(Error::arguments(format!(
                "'{}' is no decimal mark; say . or ,",
                mark.escape_default()
            )));
        }
    }
    let writing = &mut layout.writing;
    writing.decimals = decimals_of(step.decimals)?.or(writing.decimals);
    writing.volume_decimals = decimals_of(step.volume_decimals)?.or(writing.volume_decimals);
    writing.quotes = step.quotes.unwrap_or(writing.quotes);
    writing.line_end = step.line_end.unwrap_or(writing.line_end);
    writing.encoding = step.encoding.unwrap_or(writing.encoding);
    writing.stamp = step.stamp.or(writing.stamp);
    if let Some(absent) = &step.absent {
        if !is_absent_text(absent) {
            return Err(Error::arguments(format!(
                "'{}' would be read back as a value, not as an absent one; say nothing, -, NA, NaN, null or none.",
                stavel_core::error::printable(absent)
            )));
        }
        writing.absent.clone_from(absent);
    }
    Ok(layout)
}

/// Changes how a layout writes its times.
fn set_dates(layout: &mut Layout, said: &str) -> Result<()> {
    if said.contains('%') {
        set_times(layout, &[Use::Moment]);
        layout.writing.forms.moment = Some(form_of(said)?);
        layout.writing.offsets = false;
        return Ok(());
    }
    for word in said.split(',').map(str::trim) {
        let unix = |since| vec![Use::Unix(since)];
        let columns = match word {
            "year-first" | "day-first" | "month-first" => {
                layout.dates = word.parse().unwrap_or(DateOrder::YearFirst);
                let precision = layout.marks.precision;
                layout.marks = Marks { precision, ..Marks::usual(layout.dates) };
                layout.writing.offsets = false;
                continue;
            }
            "rfc3339" => {
                layout.dates = DateOrder::YearFirst;
                layout.marks = Marks { between: b'T', ..Marks::usual(DateOrder::YearFirst) };
                layout.writing.offsets = true;
                vec![Use::Moment]
            }
            "apart" => vec![Use::Date, Use::Time],
            "together" => vec![Use::Moment],
            "only" => vec![Use::Date],
            "unix-s" => unix(Since1970::Seconds),
            "unix-ms" => unix(Since1970::Millis),
            "unix-us" => unix(Since1970::Micros),
            "unix-ns" => unix(Since1970::Nanos),
            other => {
                return Err(Error::arguments(format!(
                    "'{}' says nothing of dates; say year-first, day-first, month-first, apart, together, only, unix-s, unix-ms, unix-us, unix-ns, rfc3339, or a form as '%d.%m.%Y %H:%M'.",
                    stavel_core::error::printable(other)
                )));
            }
        };
        if word != "rfc3339" {
            layout.writing.offsets = false;
        }
        set_times(layout, &columns);
    }
    Ok(())
}

/// Puts columns for the time in the place of those there are.
fn set_times(layout: &mut Layout, times: &[Use]) {
    let at = layout.columns.iter().position(Use::is_time).unwrap_or(0);
    let was: Vec<bool> = layout.columns.iter().map(Use::is_time).collect();
    let mut columns: Vec<Use> = layout.columns.iter().filter(|u| !u.is_time()).cloned().collect();
    columns.splice(at..at, times.iter().cloned());
    layout.columns = columns;
    if let Some(names) = &mut layout.header {
        let mut flags = was.into_iter();
        names.retain(|_| !flags.next().unwrap_or(false));
        let at = at.min(names.len());
        names.splice(at..at, times.iter().map(name_of));
    }
}

/// The usual name of a column.
fn name_of(used: &Use) -> String {
    match used {
        Use::Moment | Use::Unix(_) | Use::DayNumber => "time".into(),
        Use::Skip => String::new(),
        used => used.word().to_owned(),
    }
}

/// The use that a word among the columns names: one of layouts, or the ask or the events beside the bid.
fn column_named(word: &str) -> Option<Use> {
    let beside = || Field::named(word).filter(|f| f.is_only_in_files()).map(Use::Field);
    Use::named(word).filter(|u| !matches!(u, Use::Value(_))).or_else(beside)
}

/// Changes which columns a layout has.
fn set_columns(layout: &mut Layout, said: &[String]) -> Result<()> {
    let words: Vec<(&str, Option<&str>)> = said
        .iter()
        .map(|column| {
            column.split_once('=').map_or((column.as_str(), None), |(word, name)| (word, Some(name)))
        })
        .collect();
    let has_dates = words.iter().any(|(word, _)| *word == "date");
    let times: Vec<Use> = layout.columns.iter().filter(|u| u.is_time()).cloned().collect();
    let (mut columns, mut names) = (Vec::new(), Vec::new());
    for (word, name) in words {
        // The time of a row, as the layout writes it; beside a date only the time of day.
        let used = match word {
            "time" if !has_dates => match times.as_slice() {
                [one] => one.clone(),
                _ => Use::Moment,
            },
            word => column_named(word).ok_or_else(|| {
                Error::arguments(format!(
                    "'{}' is no column; say columns as time, open, close, volume, or moment, date, symbol.",
                    stavel_core::error::printable(word)
                ))
            })?,
        };
        names.push(name.map_or_else(|| name_of(&used), str::to_owned));
        columns.push(used);
    }
    if !columns.iter().any(Use::is_time) {
        return Err(Error::arguments("No column says when a row is; say time among --columns."));
    }
    // Only a moment in one cell is read with its offset.
    layout.writing.offsets &= !columns.contains(&Use::Date);
    layout.columns = columns;
    layout.header = layout.header.as_ref().map(|_| names);
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(options: &str) -> Layout {
        let step: DeliverStep = toml::from_str(options).unwrap();
        changed(general("rfc3339").unwrap(), &step).unwrap()
    }

    fn words(layout: &Layout) -> String {
        let columns: Vec<&str> = layout.columns.iter().map(Use::word).collect();
        format!("{} / {}", columns.join(" "), layout.header.clone().unwrap_or_default().join(" "))
    }

    #[test]
    fn what_is_said_changes_the_layout_and_its_header() {
        assert_eq!(words(&of("dates = 'apart'")), "date time values / date time values");
        assert_eq!(words(&of("dates = 'unix-ms'")), "unix-ms values / time values");
        assert_eq!(words(&of("dates = 'only'")), "date values / date values");
        assert_eq!(
            words(&of("columns = ['time=Date', 'close=C', 'symbol']")),
            "moment close symbol / Date C symbol"
        );
        assert_eq!(words(&of("columns = ['date', 'time', 'close']\nno_header = true")), "date time close / ");
        assert_eq!(words(&of("dates = 'unix-s'\ncolumns = ['close', 'time']")), "close unix-s / close time");
        let day_first = of("dates = 'day-first,apart'\ndecimal_mark = ','\ndelimiter = ';'");
        assert_eq!((day_first.dates, day_first.marks.date), (DateOrder::DayFirst, Some(b'.')));
        assert!(!day_first.writing.offsets && day_first.numbers.decimal == b',');
        assert_eq!(of("dates = '%d %b %Y, %H:%M'").writing.forms.moment.as_deref(), Some("%d %b %Y, %H:%M"));
    }

    #[test]
    fn what_cannot_be_meant_is_told() {
        let told = |options: &str| {
            let step: DeliverStep = toml::from_str(options).unwrap();
            changed(general("rfc3339").unwrap(), &step).unwrap_err().to_string()
        };
        assert!(told("dates = 'weekly'").contains("'weekly'"));
        assert!(told("columns = ['close']").contains("when a row is"));
        assert!(told("columns = ['time', 'closing']").contains("'closing'"));
        assert!(told("absent = '0'").contains("read back as a value"));
        assert!(told("delimiter = 'xx'").contains("'xx'"));
        assert!(told("decimal_mark = ';'").contains("decimal mark"));
        assert!(told("decimals = 99").contains("99 decimals"));
    }
}
