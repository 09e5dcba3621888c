//! Later files of a series: what is known of it already, and how far that goes.

use super::scan::Scanned;
use crate::align::{bars, correlate};
use crate::job::Job;
use crate::model::Stamp;
use crate::model::provenance::Anchoring;
use crate::model::time::{DAY, HOUR, MINUTE, wall};
use crate::model::{Clock, Columns, Field, Made, Micros, SeriesName, Span, Standing};
use crate::store::{EditionInfo, SeriesInfo, Shelf};
use crate::{Advice, Error, Result, Setting};

/// The stamp of a series' bars, where an earlier file or a comparison has told it.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn known_stamp(shelf: &Shelf, series: &SeriesName) -> Result<Option<Stamp>> {
    let named = |word: &str| [Stamp::Open, Stamp::Close].into_iter().find(|s| s.word() == word);
    if shelf.current_own(series)?.is_none() {
        return Ok(None);
    }
    for edition in shelf.editions(series)?.iter().rev() {
        match &edition.provenance.made {
            Made::Intake(taken) => {
                let decision = taken.decisions.iter().find(|d| d.what == "stamp");
                if let Some(decision) = decision.filter(|d| d.standing != Standing::Assumed) {
                    return Ok(named(&decision.value));
                }
            }
            // The stamp is found with the clock; beside a clock that was chosen it may be anyone's guess.
            Made::Align(anchoring) if !anchoring.chosen && !anchoring.stamp.is_empty() => {
                return Ok(named(&anchoring.stamp));
            }
            _ => {}
        }
    }
    Ok(None)
}

/// Asks where rows of a silent file would be moved by a clock that was found, but hardly is theirs: the series it
/// was compared with speaks against it, or they lie where the clock changes as the rows it was found from never
/// showed (a winter fits a fixed clock as well as one that changes in spring) and nothing else tells.
///
/// # Errors
/// A question.
pub fn may_go_on(shelf: &Shelf, info: &SeriesInfo, scanned: &Scanned, place: &str) -> Result<()> {
    let (Some(clock), Some((first, last))) = (&info.edition.clock, scanned.ends) else { return Ok(()) };
    let editions = shelf.editions(&info.name)?;
    let found = editions.iter().rev().find_map(|e| match &e.provenance.made {
        Made::Align(anchoring) => Some((e, anchoring)),
        _ => None,
    });
    let said_since = |number: i64| editions.iter().any(|e| e.number > number && says_clock(e));
    let Some((aligned, anchoring)) = found.filter(|(e, _)| !said_since(e.number)) else { return Ok(()) };
    let question = |why: String| {
        Err(Error::undecided(format!(
            "The clock {clock} of {} was found from rows from {} to {}; {why} in the rows of {place} ({} to {}). Say that clock if it is theirs all the same, or the clock that is.",
            info.name,
            wall(aligned.first),
            wall(aligned.last),
            wall(first),
            wall(last)
        )).advise(Advice::Choose(Setting::Clock, vec![clock.to_string()])))
    };
    match against_reference(shelf, info, anchoring, scanned)? {
        // One week of several may have slipped.
        Some(NewWeeks { agree, weeks, .. }) if agree == weeks || weeks > 3 && agree + 1 == weeks => {
            return Ok(());
        }
        Some(NewWeeks { weeks, agree, usual }) => {
            return question(format!(
                "but {} fits other offsets from UTC in {} of {weeks} weeks, most often {:+} min,",
                anchoring.to,
                weeks - agree,
                usual / MINUTE
            ));
        }
        None => {}
    }
    let seen = offsets(clock, aligned.first, aligned.last);
    if offsets(clock, first, last).iter().all(|offset| seen.contains(offset)) {
        return Ok(());
    }
    match by_session(shelf, info, scanned)? {
        Some(true) => Ok(()),
        Some(false) => question("by it weeks would not begin when the session does".into()),
        None => question("it never changed there as it would".into()),
    }
}

fn says_clock(edition: &EditionInfo) -> bool {
    let Made::Intake(taken) = &edition.provenance.made else { return false };
    taken.decisions.iter().any(|d| d.what == "clock" && d.standing == Standing::Said)
}

/// Weeks of new rows beside the series that the clock was found with.
struct NewWeeks {
    weeks: usize,
    agree: usize,
    /// The offset from UTC that most of the others ask for.
    usual: Micros,
}

/// Holds what was seen of new rows against the series that the clock was found with; none where that does not
/// reach there, or no week says anything.
fn against_reference(
    shelf: &Shelf,
    info: &SeriesInfo,
    anchoring: &Anchoring,
    scanned: &Scanned,
) -> Result<Option<NewWeeks>> {
    let Some(clock) = &info.edition.clock else { return Ok(None) };
    let reference = anchoring.to.parse::<SeriesName>().ok().map(|to| shelf.find(&to));
    let Some(Ok(reference)) = reference else { return Ok(None) };
    let step = info.name.frame.length().max(reference.name.frame.length()).max(MINUTE);
    if reference.is_afloat() || step > HOUR || info.name.frame.length() < reference.name.frame.length() {
        return Ok(None);
    }
    // Of a large file only some places were seen: no more is read of the reference.
    let mut spans: Vec<Span> = Vec::new();
    for t in &scanned.glimpses.time {
        match spans.last_mut() {
            Some(span) if *t - DAY <= span.to => span.to = *t + DAY,
            _ => spans.push(Span::new(*t - DAY, *t + DAY)),
        }
    }
    let mut there = Columns::empty(&[Field::High, Field::Low, Field::Close], reference.edition.scale);
    for span in spans {
        there.append(&bars(shelf, &reference, step, span)?);
    }
    let Ok(weeks) = correlate(&scanned.glimpses, &there, step, false, &Job::unwatched()) else {
        return Ok(None);
    };
    let back = known_stamp(shelf, &info.name)?.unwrap_or_default().behind(info.name.frame);
    let mut offsets: Vec<Micros> = Vec::new();
    let (mut agree, mut weeks_seen) = (0, 0);
    for week in weeks.iter().filter(|w| w.is_clear) {
        weeks_seen += 1;
        let by_clock = |t: Micros| (clock.offset_at(t) + back - week.best_offset()).abs() < step;
        match by_clock(week.start + DAY) || by_clock(week.start + week.length - DAY) {
            true => agree += 1,
            false => offsets.push(week.best_offset() - back),
        }
    }
    offsets.sort_unstable();
    let usual = offsets.chunk_by(|a, b| a == b).max_by_key(|run| run.len()).map(|run| run[0]);
    let compared = NewWeeks { weeks: weeks_seen, agree, usual: usual.unwrap_or_default() };
    Ok((weeks_seen > 0).then_some(compared))
}

/// Whether weeks begin when the session of the instrument does, where that was said; none where too few weeks are
/// seen. Hours learned from the rows of a winter cannot tell what summer does.
fn by_session(shelf: &Shelf, info: &SeriesInfo, scanned: &Scanned) -> Result<Option<bool>> {
    let instrument = shelf.instrument(&info.name.instrument)?;
    let Some(clock) = &info.edition.clock else { return Ok(None) };
    if instrument.standing("hours") != Standing::Said {
        return Ok(None);
    }
    let near = info.name.frame.length().max(20 * MINUTE);
    let begins_so = |written: Micros| {
        let utc = clock.from_wall(written).settle();
        let open = instrument.sheet.session.open_spans(Span::new(utc - DAY, utc + DAY));
        open.iter().any(|span| (span.from - utc).abs() <= near)
    };
    let weekends = scanned.gaps.iter().filter(|(before, after)| after - before >= DAY);
    let (yes, no): (Vec<_>, Vec<_>) = weekends.map(|(_, after)| begins_so(*after)).partition(|so| *so);
    Ok(match (yes.len(), no.len()) {
        (yes, no) if yes + no < 2 || yes == no => None,
        (yes, no) => Some(yes > no),
    })
}

/// The offsets from UTC that a clock has in a span, looked at day by day.
fn offsets(clock: &Clock, first: Micros, last: Micros) -> Vec<Micros> {
    let mut all = Vec::new();
    let days = (last - first) / DAY;
    for day in 0..=days {
        let offset = clock.offset_at(first + day * DAY);
        if !all.contains(&offset) {
            all.push(offset);
        }
    }
    all
}

/// Says no to rows of another clock that would replace a part of a series: the rest would stay by the old.
///
/// # Errors
/// One sentence, where rows of the series would be left over.
pub fn may_replace(info: &SeriesInfo, clock: Option<&Clock>, ends: Option<(Micros, Micros)>) -> Result<()> {
    let there = info.edition.clock.as_ref();
    if there == clock {
        return Ok(());
    }
    let (first, last) = ends.unwrap_or_default();
    let utc = |t: Micros| clock.map_or(t, |c| c.from_wall(t).settle());
    // Afloat rows may lie up to a day from where they are written.
    let slack = if there.is_none() || clock.is_none() { DAY } else { 0 };
    if utc(first) + slack <= info.edition.first && utc(last) - slack >= info.edition.last {
        return Ok(());
    }
    let words = |clock: Option<&Clock>| clock.map_or("afloat".to_owned(), Clock::to_string);
    Err(Error::arguments(format!(
        "{} is {} and the new rows are {}: they can replace all of it, but not a part. Say the same clock, or take them into another source.",
        info.name,
        words(there),
        words(clock)
    )).advise(Advice::Say(Setting::Clock)))
}
