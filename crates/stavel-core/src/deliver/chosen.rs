//! What of a series a delivery holds: its columns, its rows, the names of its files.

use std::path::{Path, PathBuf};

use super::delivered_rows::DeliveredRows;
use super::order::PriceSides;
use super::{Compress, DeliveryOrder, FileFormat, Split};
use crate::model::columns::shape_of;
use crate::model::time::{civil_from_days, date, day_of, days_from_civil};
use crate::model::{Clock, Field, Made, Shape, Span, Use};
use crate::store::{SeriesInfo, Shelf};
use crate::{Advice, Error, Result};

/// Whether the first and the last bar of a series lack rows at their outer ends, as far as that is known: of bars that
/// were built.
pub fn partial_ends(info: &SeriesInfo) -> (bool, bool) {
    match &info.edition.provenance.made {
        Made::Frames(framing) => (framing.partial_first, framing.partial_last),
        _ => (false, false),
    }
}

/// The series as it is delivered: with the fields that are written.
///
/// # Errors
/// Where it is afloat, or has no such fields or sides.
pub fn what_is_delivered(shelf: &Shelf, order: &DeliveryOrder) -> Result<(SeriesInfo, DeliveredRows)> {
    let mut info = shelf.find(&order.series)?;
    refuse_afloat(&info)?;
    let is_table = order.format.is_columnar();
    if !is_table {
        info.refuse_layers("delivered as lines (Parquet holds them)")?;
    }
    // Where rows come from is the shelf's own matter; a table of columns may hold it, lines others read do not.
    let has_own_columns = order.layout.as_ref().is_some_and(|l| !l.columns.contains(&Use::Values));
    if !is_table && !has_own_columns && !order.origin {
        info.edition.fields.retain(|f| *f != Field::Origin);
    }
    if !is_table && !has_own_columns && !order.details {
        leave_details(&mut info);
    }
    let rows = DeliveredRows::of(shelf, order, &mut info)?;
    // Who asks for the marks gets the column also where no row has one: nothing in it is an estimate.
    if order.origin && !info.edition.fields.contains(&Field::Origin) {
        info.edition.fields.push(Field::Origin);
    }
    if let Some(only) = &order.only {
        if let Some(missing) = only.iter().find(|f| !info.edition.fields.contains(f)) {
            return Err(Error::arguments(format!("{} has no {}.", info.name, missing.name())));
        }
        info.edition.fields.retain(|f| only.contains(f));
    }
    Ok((info, rows))
}

/// What bars that were made of ticks know beside the usual columns stays on the shelf, unless it is asked for. What a source
/// itself wrote beside its bars is a part of them.
fn leave_details(info: &mut SeriesInfo) {
    let is_built = info.edition.provenance.made.is_framed();
    let fields = &mut info.edition.fields;
    if shape_of(fields) != Shape::Bars {
        return;
    }
    let is_of_ticks = is_built || fields.iter().any(|f| f.is_detail());
    fields.retain(|f| match f {
        Field::TickCount | Field::BidVolume | Field::AskVolume => !is_of_ticks,
        f => !f.is_detail(),
    });
}

fn refuse_afloat(info: &SeriesInfo) -> Result<()> {
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{0} is afloat: its times are not UTC; align it first.",
            info.name
        ))
        .advise(Advice::Align(info.name.to_string())));
    }
    Ok(())
}

/// The span asked for, narrowed to the last rows where only those are wanted.
///
/// # Errors
/// Where the rows cannot be read.
pub fn span_of(rows: &DeliveredRows, info: &SeriesInfo, order: &DeliveryOrder) -> Result<Span> {
    let mut span = order.span;
    if order.complete_only {
        let (first, last) = partial_ends(info);
        // Nothing lies between two bars: from just after the first is from the second.
        span.from = if first { span.from.max(info.edition.first + 1) } else { span.from };
        span.to = if last { span.to.min(info.edition.last) } else { span.to }.max(span.from);
    }
    let Some(last) = order.last else { return Ok(span) };
    let mut times = std::collections::VecDeque::new();
    for piece in rows.scan(span, &[]) {
        times.extend(piece?.time);
        let over = times.len().saturating_sub(last as usize);
        times.drain(..over);
    }
    Ok(times.front().map_or(span, |&from| Span::new(from, span.to)))
}

/// The spans of the files that a span of rows is cut into, on the wall of a clock.
pub fn cut(span: Span, split: Option<Split>, clock: &Clock, (first, last): (i64, i64)) -> Vec<Span> {
    let Some(split) = split else { return vec![span] };
    let within = Span::new(span.from.max(first), span.to.min(last.saturating_add(1)));
    let begin = |day: i64| {
        let (year, month, _) = civil_from_days(day);
        match split {
            Split::Year => days_from_civil(year, 1, 1),
            Split::Month => days_from_civil(year, month, 1),
            Split::Day => day,
        }
    };
    let next = |day: i64| {
        let (year, month, _) = civil_from_days(day);
        match split {
            Split::Year => days_from_civil(year + 1, 1, 1),
            Split::Month if month == 12 => days_from_civil(year + 1, 1, 1),
            Split::Month => days_from_civil(year, month + 1, 1),
            Split::Day => day + 1,
        }
    };
    let mut spans = Vec::new();
    let mut day = begin(clock.day_of(within.from));
    while clock.day_start(day) < within.to {
        spans.extend(Span::new(clock.day_start(day), clock.day_start(next(day))).overlap(&span));
        day = next(day);
    }
    spans
}

/// The path of a delivery: a file's own, or a name in a folder.
///
/// # Errors
/// Where the pattern of names holds a word that is not known.
pub fn path_of(
    order: &DeliveryOrder,
    info: &SeriesInfo,
    to: &Path,
    span: Span,
    made_up: bool,
) -> Result<PathBuf> {
    if is_folder(to) {
        return Ok(to.join(file_name(order, info, span, made_up)?));
    }
    // Several files of one path are told apart by the beginning of their stretch.
    let Some(split) = order.split else { return Ok(to.into()) };
    let name = to.file_name().unwrap_or_default().to_string_lossy().into_owned();
    // The ending of a packed file has two parts.
    let bare = if Compress::of_name(to) == Compress::None { name.clone() } else { file_stem(&name) };
    let stem = file_stem(&bare);
    let ending = &name[stem.len()..];
    Ok(to.with_file_name(format!("{stem}_{}{ending}", stretch(split, span, &order.clock))))
}

fn file_stem(name: &str) -> String {
    Path::new(name).file_stem().unwrap_or_default().to_string_lossy().into_owned()
}

/// The name of a stretch: `2024`, `2024-03`, `2024-03-05`.
fn stretch(split: Split, span: Span, clock: &Clock) -> String {
    let day = date(clock.day_of(span.from));
    let length = match split {
        Split::Year => day.len() - 6,
        Split::Month => day.len() - 3,
        Split::Day => day.len(),
    };
    day[..length].to_owned()
}

/// The file name of a series in a folder: `NOKSEK_joined_1h.csv`.
fn file_name(order: &DeliveryOrder, info: &SeriesInfo, span: Span, is_made_up: bool) -> Result<String> {
    let s = &order.series;
    // Whoever is handed the file shall not take made-up ticks for a record.
    let rebuilt = if matches!(info.edition.provenance.made, Made::Rebuild(_)) { "_rebuilt" } else { "" };
    // Whoever is handed the file shall see which prices are in it.
    let frame = match order.sides {
        PriceSides::Own => s.frame_and_side(),
        PriceSides::Together => format!("{}.both", s.frame),
        PriceSides::Only(side) => format!("{}.{}", s.frame, side.word()),
    };
    let built = if s.built && rebuilt.is_empty() { ".built" } else { "" };
    let made_up = if is_made_up { "_made-up" } else { "" };
    let packed = match order.compress {
        Compress::None => String::new(),
        by => format!(".{}", by.word()),
    };
    let ending = format!("{}{packed}", order.format.ending());
    let usual = || {
        let cut =
            order.split.map_or(String::new(), |split| format!("_{}", stretch(split, span, &order.clock)));
        let layout = order.layout.as_ref().and_then(|l| l.name.as_deref()).filter(|_| order.is_one_of_many);
        let layout = layout.map_or(String::new(), |name| format!("_{name}"));
        format!("{}_{}_{frame}{built}{rebuilt}{made_up}{layout}{cut}.{ending}", s.instrument, s.source)
    };
    let Some(pattern) = &order.names else { return Ok(usual()) };
    let ends = Span::new(span.from.max(info.edition.first), span.to.min(info.edition.last));
    let day = |t: i64| date(day_of(order.clock.to_wall(t)));
    let (from, to) = (day(ends.from), day(ends.to.saturating_sub(i64::from(span.to <= info.edition.last))));
    let marks = format!("{frame}{built}{rebuilt}{made_up}");
    let layout = order.layout.as_ref().and_then(|l| l.name.clone()).unwrap_or_default();
    let words = [
        ("{instrument}", s.instrument.as_str()),
        ("{source}", s.source.as_str()),
        ("{frame}", marks.as_str()),
        ("{layout}", layout.as_str()),
        ("{from}", from.as_str()),
        ("{to}", to.as_str()),
    ];
    let name = words.iter().fold(pattern.clone(), |name, (word, value)| name.replace(word, value));
    let bad = |why: &str| {
        Err(Error::arguments(format!(
            "'{}' names no file: {why}; write one as {{instrument}}_{{frame}}_{{from}}.",
            crate::error::printable(pattern)
        )))
    };
    if name.contains(['{', '}']) {
        return bad("the words in it are {instrument}, {source}, {frame}, {layout}, {from} and {to}");
    }
    if name.is_empty() || name.contains(['/', '\\', '\0']) || name.starts_with('.') {
        return bad("a name has no folders in it and begins with no point");
    }
    // A pattern with a point in it says the ending itself; the point of a frame such as 1m.ask is none.
    Ok(if pattern.contains('.') { name } else { format!("{name}.{ending}") })
}

/// True for a path that means a folder: one that is there, or is written with a mark at its end.
pub fn is_folder(to: &Path) -> bool {
    to.is_dir() || to.to_string_lossy().ends_with(['/', std::path::MAIN_SEPARATOR])
}

/// A path with a further ending after the one it has.
pub fn with_ending(path: &Path, ending: &str) -> PathBuf {
    let mut name = path.to_owned().into_os_string();
    name.push(".");
    name.push(ending);
    PathBuf::from(name)
}

impl FileFormat {
    /// True for tables of columns, which are read by engines.
    pub fn is_columnar(self) -> bool {
        matches!(self, FileFormat::Parquet | FileFormat::Dataset)
    }
}
