//! Cross-checks on the shelf: against another series, or an older edition.

use super::cross::{Cross, SeriesComparer, walk};
use super::on_shelf::session_of;
use super::{Finding, FindingDetail, FindingKind, Remedy};
use crate::align;
use crate::frames::{FrameSettings, build_bars};
use crate::job::Job;
use crate::model::price::unit;
use crate::model::session::OpenHours;
use crate::model::time::{HOUR, MINUTE, WEEK};
use crate::model::{Columns, Field, Frame, SeriesName, Span};
use crate::store::{Cursor, Scan, SeriesInfo, Shelf};
use crate::{Advice, Error, Result};

/// What a series is held against.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Against {
    /// Another series.
    Series(SeriesName),
    /// An edition of the same series, by number.
    Edition(i64),
}

crate::model::as_text!(Against);

impl std::fmt::Display for Against {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Against::Series(name) => name.fmt(f),
            Against::Edition(number) => number.fmt(f),
        }
    }
}

impl std::str::FromStr for Against {
    type Err = Error;
    fn from_str(text: &str) -> Result<Against> {
        match text.parse() {
            Ok(number) => Ok(Against::Edition(number)),
            Err(_) => text.parse().map(Against::Series),
        }
    }
}

/// A cross-check with what it was made of.
pub struct Crossed {
    /// The series that is checked.
    pub checked: SeriesInfo,
    /// The series it is compared with.
    pub other: SeriesInfo,
    /// The frame at which bars were compared.
    pub frame: Frame,
    /// Decimals of the points in it.
    pub decimals: u8,
    /// Where both have rows.
    pub span: Span,
    /// What the comparison gave.
    pub cross: Cross,
}

/// Holds a series against another of its instrument, or an older edition of itself, where both have rows.
/// Ticks or short bars are framed to the longer frame first.
///
/// # Errors
/// Where one is afloat and the other not, they share no time, or cannot be brought to one frame.
pub fn cross_check(
    shelf: &Shelf,
    name: &SeriesName,
    against: &Against,
    span: Span,
    job: &Job,
) -> Result<Crossed> {
    let checked = shelf.find(name)?;
    let other = match against {
        Against::Series(other) if other == name => {
            return Err(Error::arguments(format!(
                "{name} cannot be held against itself; name another series or an edition."
            )));
        }
        Against::Series(other) => shelf.find(other)?,
        Against::Edition(number) => {
            let edition = shelf.editions(name)?.into_iter().find(|e| e.number == *number);
            let edition = edition.ok_or_else(|| {
                Error::input(format!("{name} has no edition {number}; look at those it has."))
                    .advise(Advice::ListEditions(name.to_string()))
            })?;
            SeriesInfo { edition, ..checked.clone() }
        }
    };
    if checked.is_afloat() != other.is_afloat() {
        let afloat = if checked.is_afloat() { &checked } else { &other };
        return Err(Error::input(format!(
            "{} is afloat and the other is not: their times cannot be compared; find its clock first (stavel align).",
            afloat.name
        )));
    }
    let reach = |i: &SeriesInfo| Span::new(i.edition.first, i.edition.last + i.name.frame.length().max(1));
    let span = reach(&checked).overlap(&reach(&other)).and_then(|s| s.overlap(&span)).ok_or_else(|| {
        Error::input(format!("{} and {} have no time in common there.", checked.name, other.name))
    })?;
    let frame = if checked.name.frame.is_bars() || other.name.frame.is_bars() {
        checked.name.frame.max(other.name.frame)
    } else {
        Frame::M1
    };
    let same = checked.name.source == other.name.source;
    let (a, b) = (checked.edition.scale.price, other.edition.scale.price);
    let decimals = a.max(b);
    let mut comparer = SeriesComparer::new(frame.length(), same);
    job.begin(format!("check {name} against {}", other.name), checked.edition.rows + other.edition.rows);
    let factors = (unit(decimals - a), unit(decimals - b));
    let (left, right) =
        (pieces(shelf, &checked, frame, span, job)?, pieces(shelf, &other, frame, span, job)?);
    // Rows of closed hours are a matter of one series alone.
    let mut open = OpenHours::new(&session_of(shelf, &checked, job)?.0, span);
    let mut n = 0u32;
    walk(&mut comparer, Cursor::new(left), Cursor::new(right), factors, |t| {
        n += 1;
        if n.is_multiple_of(1 << 16) {
            job.advance(1 << 16)?;
        }
        Ok(open.is_open(t))
    })?;
    let mut cross = comparer.finish();
    if !same && frame.length() <= HOUR {
        cross.findings.extend(slips(shelf, &checked, &other, span, job)?);
    }
    Ok(Crossed { checked, other, frame, decimals, span, cross })
}

/// Bars of a series at a frame: as they are on the shelf, or framed.
enum BarsAtFrame {
    Shelf(Scan),
    Framed(Option<Columns>),
}

impl Iterator for BarsAtFrame {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        match self {
            BarsAtFrame::Shelf(scan) => scan.next().map(|rows| rows.map(Columns::with_whole_bars)),
            BarsAtFrame::Framed(rows) => rows.take().map(Ok),
        }
    }
}

fn pieces(shelf: &Shelf, info: &SeriesInfo, frame: Frame, span: Span, job: &Job) -> Result<BarsAtFrame> {
    if info.name.frame == frame {
        let fields = [Field::Open, Field::High, Field::Low, Field::Close];
        return Ok(BarsAtFrame::Shelf(shelf.scan(&info.edition, span, Some(&fields))?));
    }
    let built = build_bars(shelf, info, frame, &FrameSettings { span, ..FrameSettings::default() }, job)?;
    // A bar cut by the span's ends is no bar to compare.
    let (from, to) = (usize::from(built.partial_first), built.bars.len() - usize::from(built.partial_last));
    Ok(BarsAtFrame::Framed(Some(built.bars.rows(from..to.max(from)))))
}

/// Weeks in which the two correlate best an hour or more apart.
fn slips(
    shelf: &Shelf,
    checked: &SeriesInfo,
    other: &SeriesInfo,
    span: Span,
    job: &Job,
) -> Result<Vec<Finding>> {
    let step = checked.name.frame.length().max(other.name.frame.length()).max(MINUTE);
    let rows = |info| align::bars(shelf, info, step, span);
    let Ok(weeks) = align::correlate(&rows(checked)?, &rows(other)?, step, false, job) else {
        return Ok(Vec::new());
    };
    let odd = |w: &&align::WeekFit| w.is_clear && w.best_offset().abs() >= HOUR / 2;
    let mut out: Vec<Finding> = Vec::new();
    for week in weeks.iter().filter(odd) {
        let by = week.best_offset();
        match out.last_mut() {
            Some(f) if f.span.to == week.start && f.remedy == Some(Remedy::Move(-by)) => f.span.to += WEEK,
            _ => {
                let detail = FindingDetail::LaterThan { by, other: other.name.clone() };
                let span = Span::new(week.start, week.start + WEEK);
                out.push(Finding {
                    kind: FindingKind::ClockSlip,
                    span,
                    rows: 0,
                    detail,
                    remedy: Some(Remedy::Move(-by)),
                });
            }
        }
    }
    Ok(out)
}
