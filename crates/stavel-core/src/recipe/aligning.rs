//! Doing an align step, and telling what was found.

use serde_json::{Value, json};

use super::apply::Report;
use super::step::AlignStep;
use crate::Result;
use crate::align::{self, Ask, Dailies, Fit, Study, WeekEdges};
use crate::intake::Stamp;
use crate::job::Job;
use crate::model::Clock;
use crate::model::price::as_float;
use crate::model::provenance::Anchoring;
use crate::model::time::{self, MINUTE, rfc3339};
use crate::store::Shelf;

/// Rules told by a scan.
const SCANNED: usize = 40;

pub fn align_one(shelf: &mut Shelf, step: &AlignStep, job: &Job) -> Result<Report> {
    let ask = Ask { clock: step.clock.clone(), stamp: step.stamp };
    let study = align::study(shelf, &step.series, &step.to, &ask, job)?;
    let sure = study.is_sure() || study.chosen;
    let fit = &study.fit;
    let mut lines = Vec::new();
    let mut anchored = !study.here.is_afloat();
    let mut changed = Vec::new();
    let mut settled = sure;
    if !sure {
        lines.push(format!(
            "no clock: {} and {} are not alike at one offset in enough weeks; check that they are the same instrument",
            step.series, step.to
        ));
    } else {
        lines = study_lines(&study);
    }
    if step.scan {
        lines.push("  score of each rule".into());
        lines.extend(fit.scan.iter().take(SCANNED).map(|(clock, score)| format!("    {score:.4}  {clock}")));
    }
    if step.anchor && sure {
        if study.here.is_afloat() {
            let anchoring = Anchoring {
                to: step.to.to_string(),
                chosen: study.chosen,
                confidence: Some(fit.confidence),
                ..Anchoring::default()
            };
            let doubtful = align::anchor_series(shelf, &step.series, &fit.clock, fit.stamp, anchoring, job)?;
            lines.push(format!(
                "anchored: stored in UTC; {} wall times were shown twice, {} never",
                doubtful.twice, doubtful.never
            ));
            anchored = true;
            changed.push(step.series.clone());
        } else if study.here.edition.clock.as_ref() != Some(&fit.clock) {
            lines.push(format!(
                "it is anchored in another clock, {}; undo that first to take this one",
                study.here.edition.clock.as_ref().map(Clock::to_string).unwrap_or_default()
            ));
            settled = false;
        }
    } else if step.anchor {
        lines
            .push(format!("{} is left afloat; a clock of your own is taken with --clock CLOCK", step.series));
    }
    let mut json = align_json(&study, sure, anchored);
    if step.scan {
        json["scan"] = fit.scan.iter().map(|(c, s)| json!({"clock": c, "score": s})).collect();
    }
    Ok(Report { wants_person: !settled, changed, ..Report::new(json, lines) })
}

fn study_lines(study: &Study) -> Vec<String> {
    let fit = &study.fit;
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    let mut words = align::clock_in_words(&fit.clock, &study.edges.written);
    if fit.stamp == Stamp::Close {
        words.push("bars are stamped at their close".into());
    }
    if study.inverse {
        words.push(format!("{} is quoted the other way round", study.there.name));
    }
    let mut lines = vec![
        format!(
            "{} is {} in {}: {agree} of {} weeks agree, confidence {:.2}",
            study.here.name,
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
            study.there.name.short(),
            same(&before),
            same(&after)
        ));
    }
    lines
}

fn edges_in_words(study: &Study, of: impl Fn(&WeekEdges) -> (i64, usize)) -> String {
    let told = |e: &WeekEdges| {
        let (minute, keep) = of(e);
        format!("{} in {keep} of {} weeks", minute_of_week(minute), e.weeks)
    };
    let e = &study.edges;
    format!(
        "before {}, after {}; {} {}",
        told(&e.before),
        told(&e.after),
        study.there.name.short(),
        told(&e.there)
    )
}

/// A minute of the week as people say it.
pub fn minute_of_week(minute: i64) -> String {
    let day = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"][(minute / 1440).rem_euclid(7) as usize];
    format!("{day} {:02}:{:02}", minute.rem_euclid(1440) / 60, minute.rem_euclid(60))
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
fn align_json(study: &Study, sure: bool, anchored: bool) -> Value {
    let decimals = |info: &crate::store::SeriesInfo| info.edition.scale.price;
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
            "range_here": as_float(e.range_here, decimals(&study.here)),
            "range_there": as_float(e.range_there, decimals(&study.there)),
            "range_there_before": as_float(e.range_before, decimals(&study.there)),
        })).collect::<Vec<_>>(),
        "session": {
            "before": edges(&study.edges.before), "after": edges(&study.edges.after), "there": edges(&study.edges.there),
        },
        "daily_bars": {"before": days(&study.dailies.0), "after": days(&study.dailies.1)},
        "anchored": anchored,
    })
}
