//! A source's own bars of a long frame held against those built from its short ones: how they differ, and of what kind the
//! difference is.

use std::cmp::Ordering;
use std::collections::BTreeMap;

use super::{FrameSettings, build_bars};
use crate::Result;
use crate::job::Job;
use crate::model::time::{DAY, MINUTE};
use crate::model::{Bar, BarView, Columns, Field, Frame, Micros, Session, Span};
use crate::store::{SeriesInfo, Shelf};

/// Why a bar of the source differs from the one that is built.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, strum::IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum DifferenceKind {
    /// It begins at another time: its session days, or its hours, begin elsewhere.
    Boundary,
    /// Minutes that it was made of are missing in the short bars: it goes further than they do.
    MissingRows,
    /// All its prices lie off by about the same, as those of another side do.
    Side,
    /// The first or the last bar, whose rows begin or end within it.
    Partial,
    /// The source has it and there is nothing to build it from, or the other way round.
    Alone,
    /// None of these: its prices are others.
    Value,
}

impl DifferenceKind {
    /// Its word in documents.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

/// Bars of one kind of difference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// The kind.
    pub kind: DifferenceKind,
    /// How many bars.
    pub bars: u64,
    /// The first of them.
    pub first: Micros,
    /// The last of them.
    pub last: Micros,
    /// Points by which their prices are off, at most; 0 where they are apart in time.
    pub most: i64,
}

/// A long frame of a source compared with the one built from its short bars.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FrameComparison {
    /// The frame.
    pub frame: Frame,
    /// Bars of the source within the span that the short bars cover.
    pub bars: u64,
    /// Those equal in open, high, low and close.
    pub equal: u64,
    /// The others, by kind.
    pub differences: Vec<Difference>,
    /// How much later the source's bars begin than those that are built, where nearly all are off by the same.
    pub offset: Option<Micros>,
}

/// Compares the source's own bars of a frame with those built from `base` now.
///
/// # Errors
/// Where the bars cannot be built or read.
pub fn compare_frame(
    shelf: &Shelf,
    base: &SeriesInfo,
    own: &SeriesInfo,
    job: &Job,
) -> Result<FrameComparison> {
    let session = shelf.instrument(&base.name.instrument)?.sheet.session;
    let frame = own.name.frame;
    let built = build_bars(shelf, base, frame, &FrameSettings::default(), job)?;
    let span = Span::new(base.edition.first - frame.length(), base.edition.last + base.name.frame.length());
    let scale = own.edition.scale.finer(&built.bars.scale);
    let theirs = shelf.read(&own.edition, span)?.rescaled(scale);
    let ours = built.bars.rescaled(scale);
    // Of ticks the minutes that have some.
    let length = base.name.frame.length().max(MINUTE);
    let mut times: Vec<Micros> = Vec::new();
    for rows in shelf.scan(&base.edition, Span::ALL, Some(&[]))? {
        let minutes = rows?.time.into_iter().map(|t| t.div_euclid(MINUTE) * MINUTE);
        minutes.for_each(|t| {
            if times.last() != Some(&t) {
                times.push(t);
            }
        });
    }
    let short = ShortRows { times, length, session: &session };
    Ok(compare(frame, &theirs, &ours, &short))
}

/// The rows that bars are built from, as far as it matters where some are missing.
pub(super) struct ShortRows<'a> {
    pub times: Vec<Micros>,
    pub length: Micros,
    pub session: &'a Session,
}

impl ShortRows<'_> {
    /// True where open time of a bar has fewer rows than it has room for.
    fn lack_some(&self, from: Micros, to: Micros) -> bool {
        let there = self.times.partition_point(|t| *t < to) - self.times.partition_point(|t| *t < from);
        let open: Micros = self.session.open_spans(Span::new(from, to)).iter().map(Span::length).sum();
        (there as i64) < open / self.length.max(1)
    }
}

/// Bars of the source, `theirs`, against those that were built, `ours`, at one scale.
pub(super) fn compare(
    frame: Frame,
    theirs: &Columns,
    ours: &Columns,
    short: &ShortRows<'_>,
) -> FrameComparison {
    let offset = offset_of(theirs, ours);
    let shift = offset.unwrap_or(0);
    let (there, here) = (BarView::new(theirs), BarView::new(ours));
    let mut out = Tally { bars: theirs.len() as u64, equal: 0, by_kind: BTreeMap::new() };
    let mut pairs = Vec::new();
    let (mut a, mut b) = (0, 0);
    while a < there.len() || b < here.len() {
        let order = match (there.time.get(a), here.time.get(b)) {
            (Some(x), Some(y)) => (x - shift).cmp(y),
            (Some(_), None) => Ordering::Less,
            _ => Ordering::Greater,
        };
        match order {
            Ordering::Equal => {
                if let (Some(x), Some(y)) = (there.bar(a), here.bar(b)) {
                    pairs.push((a, b, x, y));
                }
                (a, b) = (a + 1, b + 1);
            }
            Ordering::Less => {
                let kind = if offset.is_none() && is_between(here.time, there.time[a]) {
                    DifferenceKind::Boundary
                } else {
                    DifferenceKind::Alone
                };
                out.add(kind, there.time[a], 0);
                a += 1;
            }
            Ordering::Greater => {
                out.add(DifferenceKind::Alone, here.time[b], 0);
                b += 1;
            }
        }
    }
    let side = side_step(&pairs);
    let last = pairs.len().saturating_sub(1);
    for (i, (a, b, x, y)) in pairs.iter().enumerate() {
        let off = [x.open - y.open, x.high - y.high, x.low - y.low, x.close - y.close];
        let most = off.iter().map(|d| d.abs()).max().unwrap_or(0);
        if shift == 0 && most == 0 {
            out.equal += 1;
            continue;
        }
        let end = here.time.get(b + 1).copied().unwrap_or(here.time[*b] + frame.length());
        let reaches_over = x.high >= y.high && x.low <= y.low;
        let kind = if shift != 0 {
            DifferenceKind::Boundary
        } else if side.is_some_and(|step| off.iter().all(|d| (d - step).abs() <= step.abs())) {
            DifferenceKind::Side
        } else if i == last || i == 0 && reaches_over {
            DifferenceKind::Partial
        } else if reaches_over && short.lack_some(here.time[*b], end) {
            DifferenceKind::MissingRows
        } else {
            DifferenceKind::Value
        };
        out.add(kind, there.time[*a], most);
    }
    let differences = out.by_kind.into_values().collect();
    FrameComparison { frame, bars: out.bars, equal: out.equal, differences, offset }
}

struct Tally {
    bars: u64,
    equal: u64,
    by_kind: BTreeMap<DifferenceKind, Difference>,
}

impl Tally {
    fn add(&mut self, kind: DifferenceKind, at: Micros, most: i64) {
        let new = Difference { kind, bars: 0, first: at, last: at, most: 0 };
        let d = self.by_kind.entry(kind).or_insert(new);
        d.bars += 1;
        d.last = d.last.max(at);
        d.most = d.most.max(most);
    }
}

/// True for a moment that lies within one of the bars that begin at these times.
fn is_between(times: &[Micros], t: Micros) -> bool {
    let next = times.partition_point(|x| *x <= t);
    next > 0 && next < times.len()
}

/// How much later nearly all of the source's bars begin; none where they begin together, or are off by this and that.
fn offset_of(theirs: &Columns, ours: &Columns) -> Option<Micros> {
    let mut counts: BTreeMap<Micros, usize> = BTreeMap::new();
    let mut matched = 0;
    for t in &theirs.time {
        let next = ours.time.partition_point(|x| *x < *t);
        let near = [next.checked_sub(1), Some(next)].into_iter().flatten().filter_map(|i| ours.time.get(i));
        if let Some(off) = near.map(|x| t - x).min_by_key(|off| off.abs()).filter(|off| off.abs() < DAY) {
            *counts.entry(off).or_default() += 1;
            matched += 1;
        }
    }
    let (off, count) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    (off != 0 && count * 10 >= matched * 6).then_some(off)
}

/// By how much all four prices are off in most bars, where they are off together; none where they are not.
fn side_step(pairs: &[(usize, usize, Bar, Bar)]) -> Option<i64> {
    let mut steps: Vec<i64> = pairs.iter().map(|(_, _, x, y)| x.close - y.close).collect();
    let step = crate::stats::median(&mut steps)?;
    let is_off = |(_, _, x, y): &&(usize, usize, Bar, Bar)| {
        let off = [x.open - y.open, x.high - y.high, x.low - y.low, x.close - y.close];
        off.iter().all(|d| d.signum() == step.signum())
    };
    (step != 0 && pairs.iter().filter(is_off).count() * 10 >= pairs.len() * 7).then_some(step)
}

/// The own bars of a source that are longer than a series, those that are built left away.
///
/// # Errors
/// Where the shelf cannot be read.
pub fn own_long_frames(shelf: &Shelf, base: &SeriesInfo) -> Result<Vec<SeriesInfo>> {
    let name = &base.name;
    let mut out: Vec<SeriesInfo> = shelf.series_of(&name.instrument)?;
    out.retain(|s| {
        s.name.source == name.source
            && s.name.side == name.side
            && !s.edition.provenance.made.is_framed()
            && !s.is_afloat()
            && crate::bars::can_build(name.frame, s.name.frame)
            && s.edition.fields.contains(&Field::Close)
    });
    out.sort_by_key(|s| s.name.frame.length());
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::bars::Builder;
    use crate::model::time::{HOUR, parse};
    use crate::model::{Scale, Side};

    fn minutes() -> Columns {
        let mut rng = fastrand::Rng::with_seed(3);
        let fields = [Field::Open, Field::High, Field::Low, Field::Close];
        let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
        let mut price = 100_000;
        for m in 0..5 * 1440 {
            let close = price + rng.i64(-9..=9);
            rows.time.push(parse("2024-03-04").unwrap() + m * MINUTE);
            let values = [price, price.max(close) + 3, price.min(close) - 3, close];
            rows.data.iter_mut().zip(values).for_each(|(c, v)| c.push(v));
            price = close;
        }
        rows
    }

    fn build(rows: &Columns, frame: &str) -> Columns {
        let session = Session::always();
        let frame = frame.parse().unwrap();
        let mut builder =
            Builder::new(Frame::M1, frame, Side::Bid, &rows.fields, rows.scale, &session).unwrap();
        builder.push(rows);
        builder.finish().bars
    }

    fn told(
        frame: &str,
        theirs: &Columns,
        rows: &Columns,
    ) -> (u64, Vec<(DifferenceKind, u64)>, Option<Micros>) {
        let session = Session::always();
        let short = ShortRows { times: rows.time.clone(), length: MINUTE, session: &session };
        let c = compare(frame.parse().unwrap(), theirs, &build(rows, frame), &short);
        (c.equal, c.differences.iter().map(|d| (d.kind, d.bars)).collect(), c.offset)
    }

    #[test]
    fn differences_of_long_frames_are_told_by_their_kind() {
        let rows = minutes();
        let own = build(&rows, "1h");
        assert_eq!(told("1h", &own, &rows), (120, vec![], None));
        // Ten minutes of one hour are missing, among them its high and low.
        let mut holed = rows.clone();
        let (from, to) = (parse("2024-03-05 10:20").unwrap(), parse("2024-03-05 10:30").unwrap());
        let mut peak = rows.clone();
        let at = peak.time.partition_point(|t| *t < from);
        peak.column_mut(Field::High).unwrap()[at] += 500;
        let times = holed.time.clone();
        holed.retain(|i| times[i] < from || times[i] >= to);
        assert_eq!(
            told("1h", &build(&peak, "1h"), &holed),
            (119, vec![(DifferenceKind::MissingRows, 1)], None)
        );
        // Bars of the ask.
        let mut ask = own.clone();
        ask.data.iter_mut().for_each(|c| c.iter_mut().enumerate().for_each(|(i, v)| *v += 14 + i as i64 % 3));
        assert_eq!(told("1h", &ask, &rows), (0, vec![(DifferenceKind::Side, 120)], None));
        // One price that nobody can explain, and an unfinished end.
        let mut other = own.clone();
        other.column_mut(Field::Close).unwrap()[50] += 2;
        *other.column_mut(Field::Close).unwrap().last_mut().unwrap() += 1;
        let kinds = vec![(DifferenceKind::Partial, 1), (DifferenceKind::Value, 1)];
        assert_eq!(told("1h", &other, &rows), (118, kinds, None));
        // A bar that the source has and the short ones do not reach.
        let mut longer = own.clone();
        longer.push_from(&own, 119);
        *longer.time.last_mut().unwrap() += 5 * HOUR;
        assert_eq!(told("1h", &longer, &rows), (120, vec![(DifferenceKind::Alone, 1)], None));
    }

    #[test]
    fn days_that_begin_elsewhere_are_told_with_their_offset() {
        let rows = minutes();
        let mut days = build(&rows, "1d");
        days.time.iter_mut().for_each(|t| *t += 2 * HOUR);
        let (equal, kinds, offset) = told("1d", &days, &rows);
        assert_eq!((equal, kinds, offset), (0, vec![(DifferenceKind::Boundary, 5)], Some(2 * HOUR)));
    }
}
