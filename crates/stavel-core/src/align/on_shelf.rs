//! Aligning on the shelf.

use super::anchoring::Mover;
use super::coarse::{correlate_finely, fine_step, gather};
use super::evidence::{Dailies, Evidence, WeekEdges, dailies, days_of, longest_bars, week_edges};
use super::{Fit, Sides, WeekFit, correlate, fit, fit_to};
use crate::job::Job;
use crate::model::Stamp;
use crate::model::provenance::{Anchoring, Disorder};
use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{
    ABSENT, Clock, Columns, Doubtful, Field, Made, Micros, Provenance, SeriesName, Shape, Span,
};
use crate::store::{Origin, SeriesInfo, Shelf, ahead};
use crate::{Error, Result};

/// Everything found out about the clock of a series.
pub struct ClockStudy {
    /// The series whose clock is sought.
    pub subject: SeriesInfo,
    /// The anchored series it is compared with.
    pub reference: SeriesInfo,
    /// True where the second is quoted the other way round.
    pub inverse: bool,
    /// The correlation of each week at all offsets.
    pub weeks: Vec<WeekFit>,
    /// The clock found, with what speaks for and against it.
    pub fit: Fit,
    /// True where a person chose the clock.
    pub chosen: bool,
    /// The longest bars, side by side.
    pub evidence: Vec<Evidence>,
    /// When weeks begin and end, by several clocks.
    pub edges: WeekEnds,
    /// Daily bars of both on the instrument's clock, written times taken for UTC, and by the clock.
    pub dailies: (Dailies, Dailies),
    /// Days (first and last, as written), of weeks that do not speak against the clock, on which the two are not
    /// alike by it.
    pub unlike: Vec<(i64, i64)>,
}

/// When weeks begin and end.
pub struct WeekEnds {
    /// On the wall the series is written in.
    pub written: WeekEdges,
    /// On the clock of the instrument's session days: written times taken for UTC, by the clock, and of the
    /// other series.
    pub before: WeekEdges,
    /// By the clock found.
    pub after: WeekEdges,
    /// Of the reference.
    pub reference: WeekEdges,
}

/// What a person says of the clock beforehand.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AlignWishes {
    /// The clock a person says it is.
    pub clock: Option<Clock>,
    /// Which end of a bar its time names, where a person says it.
    pub stamp: Option<Stamp>,
}

/// Compares a series with an anchored one and fits a clock, or rates the one a person chose.
///
/// # Errors
/// Where the other series is afloat itself, or there is nothing to compare.
pub fn study(
    shelf: &Shelf,
    name: &SeriesName,
    to: &SeriesName,
    ask: &AlignWishes,
    job: &Job,
) -> Result<ClockStudy> {
    let (subject, reference) = (shelf.find(name)?, shelf.find(to)?);
    if reference.is_afloat() {
        return Err(Error::input(format!("{to} is afloat itself; align to a series whose clock is known.")));
    }
    if name == to {
        return Err(Error::arguments(format!("{name} cannot be aligned to itself.")));
    }
    let own = name.frame.length().max(MINUTE);
    let theirs_step = to.frame.length().max(MINUTE);
    let step = own.max(theirs_step);
    let fine = fine_step(step, theirs_step);
    let mut mine = bars(shelf, &subject, step, Span::ALL)?;
    if let Some(clock) = &subject.edition.clock {
        // An anchored series is studied in the times it was written in.
        mine.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
        mine.sort();
    }
    // Only what can overlap is read of the other side.
    let near = mine.ends().map_or(Span::ALL, |(a, b)| Span::new(a - 9 * DAY, b + 9 * DAY));
    let theirs = bars(shelf, &reference, fine, near)?;
    let compare = |inverse: bool| match fine < step {
        true => correlate_finely(&mine, &theirs, (step, fine), inverse, job),
        false => correlate(&mine, &theirs, step, inverse, job),
    };
    let turned = is_inverse_pair(shelf, name, to);
    let mut weeks = compare(turned)?;
    let mut inverse = turned;
    if !weeks.iter().any(|w| w.is_clear)
        && let Ok(other) = compare(!turned)
        && other.iter().any(|w| w.is_clear)
    {
        (weeks, inverse) = (other, !turned);
    }
    let bar = name.frame.length();
    // Filler has no range; it would hide where a week ends.
    let moving = |rows: &Columns| -> Vec<Micros> {
        let [high, low] = [Field::High, Field::Low].map(|f| rows.column(f));
        (0..rows.len()).filter(|i| high[*i] > low[*i]).map(|i| rows.time[i]).collect()
    };
    let (own_times, their_times) = (moving(&mine), moving(&theirs));
    let written = week_edges(own_times.iter().copied(), bar);
    let sides = Sides { subject: &mine, reference: &theirs, step, inverse };
    let mut found = fit_asked(&weeks, bar, &sides, &written, ask);
    found.mid_week.extend(set_back_while_open(shelf, &subject, &found)?);
    found.mid_week.sort_unstable();
    found.mid_week.dedup();
    let unlike = unlike_days(&sides, &found, bar);
    let back = if found.stamp == Stamp::Close { bar } else { 0 };
    let evidence = longest_bars(&mine, &theirs, &found.clock, back, 10);
    let wall = shelf.instrument(&name.instrument)?.sheet.session.clock;
    let to_utc = |t: Micros| found.clock.from_wall(t).settle() - back;
    let edges = WeekEnds {
        written,
        before: week_edges(own_times.iter().map(|t| wall.to_wall(*t)), bar),
        after: week_edges(own_times.iter().map(|t| wall.to_wall(to_utc(*t))), bar),
        reference: week_edges(their_times.iter().map(|t| wall.to_wall(*t)), to.frame.length()),
    };
    let dailies = match own < 12 * HOUR && !inverse {
        true => {
            let reference = days_of(&theirs, &wall, |t| t);
            let compared =
                |shift: &dyn Fn(Micros) -> Micros| dailies(&days_of(&mine, &wall, shift), &reference);
            (compared(&|t| t), compared(&to_utc))
        }
        false => Default::default(),
    };
    Ok(ClockStudy {
        subject,
        reference,
        inverse,
        weeks,
        fit: found,
        chosen: ask.clock.is_some(),
        evidence,
        edges,
        dailies,
        unlike,
    })
}

/// Of the weeks in which two anchored series say anything of each other: how many there are, how many agree
/// best at the same time, and by how much the others are apart most often. (0, 0, none) without such weeks.
///
/// # Errors
/// Where one of them cannot be read.
pub fn agreement(
    shelf: &Shelf,
    (a, b): (&SeriesName, &SeriesName),
    job: &Job,
) -> Result<(usize, usize, Option<Micros>)> {
    let (a, b) = (shelf.find(a)?, shelf.find(b)?);
    let step = a.name.frame.length().max(b.name.frame.length()).max(MINUTE);
    let (first, last) = (a.edition.first.max(b.edition.first), a.edition.last.min(b.edition.last));
    let rows = |info| bars(shelf, info, step, Span::new(first, last + 1));
    let Ok(weeks) = correlate(&rows(&a)?, &rows(&b)?, step, false, job) else { return Ok((0, 0, None)) };
    let clear_weeks: Vec<Micros> = weeks.iter().filter(|w| w.is_clear).map(WeekFit::best_offset).collect();
    let mut apart: Vec<Micros> = clear_weeks.iter().copied().filter(|offset| offset.abs() >= step).collect();
    apart.sort_unstable();
    let most = apart.chunk_by(|a, b| a == b).max_by_key(|run| run.len()).map(|run| run[0]);
    Ok((clear_weeks.len(), clear_weeks.len() - apart.len(), most))
}

/// True where one pair is the other quoted the other way round: the base of each is the quote of the other.
fn is_inverse_pair(shelf: &Shelf, a: &SeriesName, b: &SeriesName) -> bool {
    let sheet = |n: &SeriesName| shelf.instrument(&n.instrument).ok().map(|i| i.sheet);
    match (sheet(a), sheet(b)) {
        (Some(a), Some(b)) => a.base == b.quote && a.quote == b.base && !a.quote.is_empty(),
        _ => false,
    }
}

/// Bars of a quarter of an hour or more look the same stamped at their close on one clock, and at their open
/// on a clock a bar ahead. Where the week begins just a bar after midnight and ends with a bar stamped at
/// midnight, the former is meant.
fn begins_a_bar_late(written: &WeekEdges, bar: Micros) -> bool {
    let minutes = bar / MINUTE;
    (15..=240).contains(&minutes)
        && written.weeks >= 3
        && written.keep_open * 2 > written.weeks
        && written.opens.rem_euclid(1440) == minutes
        && (written.closes - minutes).rem_euclid(1440) == 0
}

/// Changes that set the clock back and near which written times come twice: the market was open then, and what a
/// row of these hours was written by cannot be told.
fn set_back_while_open(shelf: &Shelf, subject: &SeriesInfo, found: &Fit) -> Result<Vec<Micros>> {
    let mut out = Vec::new();
    if !subject.is_afloat() {
        return Ok(out);
    }
    for (at, after) in found.clock.changes() {
        if after.offset_at(*at) >= found.clock.offset_at(*at - 1) {
            continue;
        }
        // A weekend may lie between the moment that was found and the rows.
        let near = Span::new(*at - 3 * DAY, *at + 3 * DAY);
        let rows = shelf.scan(&subject.edition, near, Some(&[]))?;
        for rows in rows {
            if rows?.time.windows(2).any(|w| w[0] == w[1]) {
                out.push(*at);
            }
        }
    }
    Ok(out)
}

/// Days on which a clock is wrong, but for weeks that are known to speak against it. Bars of many hours have too few
/// returns to tell.
fn unlike_days(sides: &Sides<'_>, found: &Fit, bar: Micros) -> Vec<(i64, i64)> {
    if sides.step > HOUR {
        return Vec::new();
    }
    let odd: Vec<Micros> = found.weeks.iter().filter(|w| w.is_clear && !w.agrees).map(|w| w.start).collect();
    sides.unlike_days(&odd, &found.clock, if found.stamp == Stamp::Close { bar } else { 0 })
}

/// The clock and stamp found, where a person has not said them.
fn fit_asked(
    weeks: &[WeekFit],
    bar: Micros,
    sides: &Sides<'_>,
    written: &WeekEdges,
    ask: &AlignWishes,
) -> Fit {
    let found = fit(weeks, if ask.stamp == Some(Stamp::Open) { 0 } else { bar }, Some(sides));
    if let Some(clock) = &ask.clock {
        return fit_to(weeks, bar, &found, clock, ask.stamp.unwrap_or_default());
    }
    match ask.stamp {
        Some(Stamp::Close) => stamped_at_close(weeks, bar, found),
        None if begins_a_bar_late(written, bar) => stamped_at_close(weeks, bar, found),
        _ => found,
    }
}

/// The fit a bar earlier, for bars stamped at their close.
fn stamped_at_close(weeks: &[WeekFit], bar: Micros, found: Fit) -> Fit {
    if found.stamp == Stamp::Close {
        return found;
    }
    match found.clock.shifted(-bar) {
        Ok(clock) => {
            Fit { mid_week: found.mid_week.clone(), ..fit_to(weeks, bar, &found, &clock, Stamp::Close) }
        }
        Err(_) => found,
    }
}

/// High, low and close of a series in bars of `step`, in order of time; bars of `step` or longer as they are.
///
/// # Errors
/// Where the series cannot be read.
pub fn bars(shelf: &Shelf, info: &SeriesInfo, step: Micros, span: Span) -> Result<Columns> {
    info.refuse_layers("aligned")?;
    info.refuse_counted("aligned")?;
    let shape = crate::model::columns::shape_of(&info.edition.fields);
    let [high, low, close] = match shape {
        Shape::Bars => [Field::High, Field::Low, Field::Close],
        Shape::Quotes | Shape::Layered => [Field::Bid; 3],
        Shape::Trades => [Field::Last; 3],
        Shape::Depth => [Field::Price; 3],
    };
    let as_they_are = shape == Shape::Bars && info.name.frame.length() >= step;
    let mut out = Columns::empty(&[Field::High, Field::Low, Field::Close], info.edition.scale);
    // An open stands for other prices only where some of those are not there.
    let has = |f: &Field| info.edition.fields.contains(f);
    let open = (shape == Shape::Bars && ![high, low, close].iter().all(has)).then_some(Field::Open);
    let fields: Vec<Field> = open.into_iter().chain([high, low, close]).collect();
    for rows in ahead(shelf.scan(&info.edition, span, Some(&fields))?) {
        let rows = whole_prices(rows?, [high, low, close]);
        let (high, low, close) = (rows.column(high), rows.column(low), rows.column(close));
        for i in 0..rows.len() {
            let start = if as_they_are { rows.time[i] } else { rows.time[i].div_euclid(step) * step };
            gather(&mut out, start, [high[i], low[i], close[i]]);
        }
    }
    Ok(out)
}

/// Rows with these prices, none of them absent.
fn whole_prices(rows: Columns, prices: [Field; 3]) -> Columns {
    if rows.shape() == Shape::Bars {
        return if prices.iter().all(|f| rows.has(*f) && !rows.column(*f).contains(&ABSENT)) {
            rows
        } else {
            rows.with_whole_bars()
        };
    }
    let mut rows = rows;
    let reference: Vec<bool> = rows.column(prices[2]).iter().map(|v| *v != ABSENT).collect();
    rows.retain(|i| reference[i]);
    rows
}

/// Anchors an afloat series by a clock: a new edition in UTC. Gives the doubtful wall times.
///
/// # Errors
/// Where the series is anchored already.
pub fn anchor_series(
    shelf: &mut Shelf,
    name: &SeriesName,
    clock: &Clock,
    stamp: Stamp,
    mut anchoring: Anchoring,
    job: &Job,
) -> Result<Doubtful> {
    let info = shelf.find(name)?;
    if !info.is_afloat() {
        return Err(Error::input(format!(
            "{name} is anchored already; stavel undo {name} sets it afloat again."
        )));
    }
    anchoring.disorder = anchored_disorder(shelf, &info, clock)?;
    anchoring.stamp = stamp.word().to_owned();
    let origin = Origin {
        provenance: Provenance::of(Made::Align(anchoring.clone())),
        clock: Some(clock.clone()),
        fields: info.edition.fields.clone(),
        scale: info.edition.scale,
    };
    let scan = shelf.scan(&info.edition, Span::ALL, None)?;
    job.begin(format!("anchor {name}"), info.edition.rows);
    let mut mover = Mover::new(clock, stamp, name.frame);
    let mut draft = shelf.draft(name, origin)?;
    for rows in ahead(scan) {
        let rows = rows?;
        job.advance(rows.len() as u64)?;
        draft.push(mover.push(rows))?;
    }
    if let Some(rest) = mover.finish() {
        draft.push(rest)?;
    }
    anchoring.doubtful_times = mover.doubtful().twice + mover.doubtful().never;
    draft.set_made(Made::Align(anchoring));
    draft.commit()?;
    Ok(mover.doubtful())
}

/// What intake noted of rows out of order, with its times moved to UTC.
fn anchored_disorder(shelf: &Shelf, info: &SeriesInfo, clock: &Clock) -> Result<Vec<Disorder>> {
    let mut places = Vec::new();
    for edition in shelf.editions(&info.name)? {
        let Made::Intake(taken) = edition.provenance.made else { continue };
        places.extend(taken.disorder.into_iter().map(|place| Disorder {
            from: clock.from_wall(place.from).settle(),
            to: clock.from_wall(place.to).settle(),
            ..place
        }));
    }
    Ok(places)
}
