//! Doing an align step, and telling what was found.

use serde_json::{Value, json};

use crate::intake::learned_line;
use crate::report::StepReport;
use crate::step::AlignStep;
use stavel_core::align::{self, AlignWishes, ClockStudy, Dailies, Doubt, Fit, WeekEdges, WeekGuess};
use stavel_core::intake::known_stamp;
use stavel_core::job::Job;
use stavel_core::model::Stamp;
use stavel_core::model::price::as_float;
use stavel_core::model::provenance::Anchoring;
use stavel_core::model::time::{self, MINUTE, rfc3339};
use stavel_core::model::{Clock, Doubtful, SeriesName, Standing};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Rules told by a scan.
const SCANNED: usize = 40;

/// Finds the clock of a series, or takes the one that is said, and anchors the series where that is asked.
pub fn align_one(shelf: &mut Shelf, step: &AlignStep, job: &Job) -> Result<StepReport> {
    let Some(to) = &step.to else { return take_clock(shelf, step, job) };
    let ask = AlignWishes { clock: step.clock.clone(), stamp: step.stamp };
    let study = align::study(shelf, &step.series, to, &ask, job)?;
    let sure = study.is_sure() || study.chosen;
    // What single weeks say against it is no reason to ask.
    let doubts = if sure && !study.chosen { study.doubts() } else { Vec::new() };
    let doubtful = !doubts.is_empty();
    let taken = sure && (!doubtful || step.accept);
    let mut lines = if sure { study_lines(&study) } else { vec![not_found(&study, step, to)] };
    if doubtful {
        lines.extend(doubts.iter().map(|doubt| format!("  ▲ {}", doubt_in_words(&study, doubt))));
        let then = if step.accept { "it is taken all the same" } else { "--accept takes it all the same" };
        lines.push(format!("  {then}"));
    }
    if step.scan {
        lines.push("  score of each rule".into());
        let scan = study.fit.scan.iter().take(SCANNED);
        lines.extend(scan.map(|(clock, score)| format!("    {score:.4}  {clock}")));
    }
    let mut changed = Vec::new();
    let mut anchored = !study.subject.is_afloat();
    let mut settled = taken;
    if step.anchor && taken && study.subject.is_afloat() {
        lines.push(anchor(shelf, step, &study, to, job)?);
        lines.extend(learned_line(shelf, &step.series, job)?);
        lines.extend(days_line(shelf, &step.series, &study.fit.clock)?);
        anchored = true;
        changed.push(step.series.clone());
    } else if step.anchor && taken && study.subject.edition.clock.as_ref() != Some(&study.fit.clock) {
        lines.push(format!(
            "it is anchored in another clock, {}; undo that first to take this one",
            study.subject.edition.clock.as_ref().map(Clock::to_string).unwrap_or_default()
        ));
        settled = false;
    } else if step.anchor && !taken {
        lines.push(format!(
            "{} is left as it is; a clock of your own is taken with --clock CLOCK",
            step.series
        ));
    }
    let mut json = align_json(&study, sure, anchored);
    json["against"] = study
        .disagreeing()
        .iter()
        .map(|(from, to)| {
            json!({"from": time::date(*from), "to": time::date(*to), "weeks": (to - from) / 7 + 1})
        })
        .collect();
    json["doubts"] = doubts.iter().map(|doubt| doubt_in_words(&study, doubt)).collect();
    json["decided_until"] = json!(study.decided_until().map(time::date));
    if step.scan {
        json["scan"] = study.fit.scan.iter().map(|(c, s)| json!({"clock": c, "score": s})).collect();
    }
    Ok(StepReport { wants_person: !settled, changed, ..StepReport::new(json, lines) })
}

fn not_found(study: &ClockStudy, step: &AlignStep, to: &SeriesName) -> String {
    let clear_weeks: Vec<i64> =
        study.weeks.iter().filter(|w| w.is_clear).map(|w| w.best_offset() / MINUTE).collect();
    match (clear_weeks.iter().min(), clear_weeks.iter().max()) {
        (Some(least), Some(most)) if clear_weeks.len() * 2 > study.weeks.len() && least < most => format!(
            "no clock: in {} of {} weeks {} and {to} are alike, but at offsets from {least:+} to {most:+} min that no \
             clock explains; it drifts, or was changed often",
            clear_weeks.len(),
            study.weeks.len(),
            step.series
        ),
        _ => format!(
            "no clock: {} and {to} are not alike at one offset in enough weeks; check that they are the same instrument",
            step.series
        ),
    }
}

/// A reason to look before the clock found is taken, in words.
pub fn doubt_in_words(study: &ClockStudy, doubt: &Doubt) -> String {
    let to = &study.reference.name;
    match doubt {
        Doubt::Against(spans) => {
            format!(
                "weeks that follow each other, or begin or end the series, speak against it: {}",
                stretches_in_words(spans)
            )
        }
        Doubt::Days(spans) => {
            format!("on these days the two are not alike by it: {}", stretches_in_words(spans))
        }
        Doubt::Faint => format!(
            "it explains {:.0} % of what the weeks say, and single weeks are not all that is against it",
            study.fit.confidence * 100.0
        ),
        Doubt::OffQuarter { from, offset } => format!(
            "from {} on it is {} min off a whole quarter of an hour: the clock was set wrongly, or drifts",
            time::date(*from),
            (offset + 7 * MINUTE).rem_euclid(15 * MINUTE) / MINUTE - 7
        ),
        Doubt::OtherAtClose => format!(
            "its rows come one bar before those of {to}: the bars of {to} may be stamped at their close; \
             see how they were taken in before this clock is taken"
        ),
        Doubt::FewWeeks { parts, weeks } => {
            let starts: Vec<(i64, i64)> = parts.iter().map(|day| (*day, *day)).collect();
            format!(
                "its parts that begin {} are known by no more than {weeks} weeks each",
                stretches_in_words(&starts)
            )
        }
        Doubt::MidWeek(at) => format!(
            "it was changed while the market was open, at about {}; rows of the hours around may be off",
            time::wall(*at)
        ),
        Doubt::Undecided(from, to) => format!(
            "rows from {} to {} were compared with nothing, and a clock that fits as well differs there",
            time::date(*from),
            time::date(*to)
        ),
        Doubt::Unseen(from, to) => format!(
            "rows from {} to {} were compared with nothing; the clock may have been another then",
            time::date(*from),
            time::date(*to)
        ),
    }
}

fn anchor(
    shelf: &mut Shelf,
    step: &AlignStep,
    study: &ClockStudy,
    to: &SeriesName,
    job: &Job,
) -> Result<String> {
    let anchoring = Anchoring {
        to: to.to_string(),
        chosen: study.chosen,
        confidence: Some(study.fit.confidence),
        ..Anchoring::default()
    };
    let fit = &study.fit;
    let doubtful = align::anchor_series(shelf, &step.series, &fit.clock, fit.stamp, anchoring, job)?;
    Ok(anchored_line(doubtful))
}

/// Tells where session days are counted on another clock than the one a series was written in, as far as nobody said
/// the other.
fn days_line(shelf: &Shelf, series: &SeriesName, clock: &Clock) -> Result<Option<String>> {
    let instrument = shelf.instrument(&series.instrument)?;
    let counted = &instrument.sheet.session.clock;
    let is_open = instrument.standing("clock") == Standing::Assumed && counted != clock;
    Ok(is_open.then(|| {
        format!(
            "  session days of {0} are counted on {counted} (assumed); to count them on this clock: stavel compose {0} --set 'clock={clock}'",
            series.instrument
        )
    }))
}

fn anchored_line(doubtful: Doubtful) -> String {
    format!(
        "anchored: stored in UTC; {} wall times were shown twice, {} never",
        doubtful.twice, doubtful.never
    )
}

/// Anchors a series by the clock a person knows, without another series to compare it with.
fn take_clock(shelf: &mut Shelf, step: &AlignStep, job: &Job) -> Result<StepReport> {
    let Some(clock) = &step.clock else {
        return Err(Error::arguments(format!(
            "Say with which series {} is to be compared (--to SERIES), or its --clock where you know it.",
            step.series
        )));
    };
    let known = known_stamp(shelf, &step.series)?;
    let stamp = step.stamp.or(known).unwrap_or_default();
    let mut lines = vec![format!("{} is taken to be written in {clock}", step.series)];
    let (mut changed, mut wants_person) = (Vec::new(), false);
    let mut anchored = !shelf.find(&step.series)?.is_afloat();
    if step.anchor {
        let anchoring = Anchoring { chosen: true, ..Anchoring::default() };
        let doubtful = align::anchor_series(shelf, &step.series, clock, stamp, anchoring, job)?;
        lines.push(anchored_line(doubtful));
        // A clock that never showed these times is hardly theirs.
        if doubtful.never > 0 {
            wants_person = true;
            lines.push(format!(
                "  ▲ {clock} never showed {} of these times: look whether it is theirs; stavel undo {} takes it back",
                doubtful.never, step.series
            ));
        }
        anchored = true;
        changed.push(step.series.clone());
    }
    let json = json!({"clock": clock, "chosen": true, "stamp": stamp, "anchored": anchored});
    Ok(StepReport { wants_person, changed, ..StepReport::new(json, lines) })
}

fn study_lines(study: &ClockStudy) -> Vec<String> {
    let fit = &study.fit;
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    let mut words = align::clock_in_words(&fit.clock, &study.edges.written);
    if fit.stamp == Stamp::Close {
        words.push("bars are stamped at their close".into());
    }
    let bar = study.subject.name.frame.length();
    let is_one = bar >= 15 * MINUTE && fit.clock.changes().is_empty();
    if let (true, Stamp::Open, Ok(other)) = (is_one, fit.stamp, fit.clock.shifted(-bar)) {
        words.push(format!("the same rows as if stamped at their close in {other}"));
    }
    if study.inverse {
        words.push(format!("{} is quoted the other way round", study.reference.name));
    }
    let mut lines = vec![
        format!(
            "{} is {} in {}: {agree} of {} weeks agree, confidence {:.2}",
            study.subject.name,
            if study.chosen { "taken to be written" } else { "written" },
            fit.clock,
            fit.weeks.len(),
            fit.confidence
        ),
        format!("  {}", words.join("; ")),
    ];
    lines.extend(alternatives_in_words(fit));
    lines.push(format!("  week opens {}", edges_in_words(study, |e| (e.opens, e.keep_open))));
    lines.push(format!("  week closes {}", edges_in_words(study, |e| (e.closes, e.keep_close))));
    lines.push(format!(
        "  days of six hours or less on weekends: {} before, {} after",
        study.edges.before.stubs, study.edges.after.stubs
    ));
    let (before, after) = study.dailies;
    if after.days > 0 {
        let same = |d: &Dailies| {
            let share = d.same.map(|n| format!("{:.0}", n as f64 * 100.0 / d.days.max(1) as f64));
            format!("open {} high {} low {} close {} %", share[0], share[1], share[2], share[3])
        };
        lines.push(format!(
            "  daily bars like those of {}: before {}; after {}",
            study.reference.name.short(),
            same(&before),
            same(&after)
        ));
    }
    lines
}

fn edges_in_words(study: &ClockStudy, of: impl Fn(&WeekEdges) -> (i64, usize)) -> String {
    let told = |e: &WeekEdges| {
        let (minute, keep) = of(e);
        format!("{} in {keep} of {} weeks", minute_of_week(minute), e.weeks)
    };
    let e = &study.edges;
    format!(
        "before {}, after {}; {} {}",
        told(&e.before),
        told(&e.after),
        study.reference.name.short(),
        told(&e.reference)
    )
}

/// A minute of the week as people say it.
pub fn minute_of_week(minute: i64) -> String {
    let day = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"][(minute / 1440).rem_euclid(7) as usize];
    format!("{day} {:02}:{:02}", minute.rem_euclid(1440) / 60, minute.rem_euclid(60))
}

/// What the ends of its weeks say of a clock.
pub fn guess_in_words(guess: &WeekGuess, written: &WeekEdges) -> String {
    if guess.weeks == 0 {
        return format!("no whole week shows when it ends; {}", guess.clock.in_words());
    }
    format!(
        "by it {} of {} weeks close when the session does; as written, most close at {}",
        guess.keep,
        guess.weeks,
        minute_of_week(written.closes)
    )
}

/// Stretches of days in words: the first few.
pub fn stretches_in_words(stretches: &[(i64, i64)]) -> String {
    let mut out: Vec<String> = stretches
        .iter()
        .take(3)
        .map(
            |(a, b)| {
                if a == b { time::date(*a) } else { format!("{} to {}", time::date(*a), time::date(*b)) }
            },
        )
        .collect();
    if stretches.len() > 3 {
        out.push(format!("{} more times", stretches.len() - 3));
    }
    out.join(", ")
}

/// Other clocks that explain the weeks.
fn alternatives_in_words(fit: &Fit) -> Vec<String> {
    fit.alternatives
        .iter()
        .map(|a| match a.differs.len() {
            0 => format!(
                "  also possible: {}; it differs {}, which this data does not cover",
                a.clock,
                stretches_in_words(&a.would_differ)
            ),
            n => format!(
                "  less likely: {} ({:.2}); {n} covered weeks speak against it, the first {}",
                a.clock,
                a.score,
                time::date(time::day_of(a.differs[0]) + 2)
            ),
        })
        .collect()
}

/// An alignment as the document that other programs rely on.
fn align_json(study: &ClockStudy, sure: bool, anchored: bool) -> Value {
    let decimals = |info: &stavel_core::store::SeriesInfo| info.edition.scale.price;
    let edges = |e: &WeekEdges| {
        json!({
            "opens": minute_of_week(e.opens), "closes": minute_of_week(e.closes), "weeks": e.weeks,
            "keep_open": e.keep_open, "keep_close": e.keep_close, "stub_days": e.stubs,
        })
    };
    let days = |d: &Dailies| json!({"days": d.days, "open": d.same[0], "high": d.same[1], "low": d.same[2], "close": d.same[3]});
    json!({
        "clock": sure.then(|| study.fit.clock.to_string()),
        "chosen": study.chosen,
        "stamp": study.fit.stamp,
        "inverse": study.inverse,
        "in_words": align::clock_in_words(&study.fit.clock, &study.edges.written),
        "confidence": study.fit.confidence,
        "weeks": study.fit.weeks.iter().map(|w| json!({
            "week": time::date(time::day_of(w.start) + 2), "offset_minutes": w.offset / MINUTE,
            "correlation": w.correlation, "agrees": w.agrees,
        })).collect::<Vec<_>>(),
        "alternatives": study.fit.alternatives.iter().map(|a| json!({
            "clock": a.clock, "score": a.score,
            "differs": a.differs.iter().map(|w| time::date(time::day_of(*w) + 2)).collect::<Vec<_>>(),
            "would_differ": a.would_differ.iter().map(|(from, to)| json!({
                "from": time::date(*from), "to": time::date(*to),
            })).collect::<Vec<_>>(),
        })).collect::<Vec<_>>(),
        "evidence": study.evidence.iter().map(|e| json!({
            "utc": rfc3339(e.utc), "written": time::wall(e.written),
            "range_here": as_float(e.range_here, decimals(&study.subject)),
            "range_there": e.range_there.map(|r| as_float(r, decimals(&study.reference))),
            "range_there_before": e.range_before.map(|r| as_float(r, decimals(&study.reference))),
        })).collect::<Vec<_>>(),
        "session": {
            "before": edges(&study.edges.before), "after": edges(&study.edges.after), "there": edges(&study.edges.reference),
        },
        "daily_bars": {"before": days(&study.dailies.0), "after": days(&study.dailies.1)},
        "anchored": anchored,
    })
}
