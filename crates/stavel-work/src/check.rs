//! Doing a check step, and telling what was found.

use serde_json::{Map, Value, json};

use crate::findings::{cause_in_words, finding_in_words, loss_in_words};
use crate::page::{is_page, write_page};
use crate::report::{StepReport, counted};
use crate::span::span_between;
use crate::step::CheckStep;
use stavel_core::check::{self, Agreement, Crossed, FindingKind, Mend, MendList};
use stavel_core::job::Job;
use stavel_core::model::SeriesName;
use stavel_core::model::price::as_float;
use stavel_core::model::time::{self, MINUTE, length_in_words, rfc3339};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Does a check step.
///
/// # Errors
/// Where the series or a mend list cannot be read, or the mends leave nothing.
pub fn check_step(shelf: &mut Shelf, step: &CheckStep, job: &Job) -> Result<StepReport> {
    step.report.as_deref().map_or(Ok(()), is_page)?;
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let mends = mends_of(step)?;
    if let Some(path) = &step.save_mends {
        if mends.is_empty() {
            return Err(Error::arguments("There are no mends to save; name some with --mend."));
        }
        MendList { mend: mends.clone() }.write(path)?;
    }
    let (info, mut found) = check::check_series(shelf, &step.series, span, job)?;
    let crossed = match &step.against {
        Some(against) => Some(check::cross_check(shelf, &step.series, against, span, job)?),
        None => None,
    };
    // Only what the series itself shows is mended: a second series may be the one that is wrong.
    let mended = match step.mends_something() {
        true => Some(check::mend_found(shelf, &info, &found, &mends, span, job)?),
        false => None,
    };
    // What is told of a mended series is what it is now.
    let mut info = info;
    if mended.iter().flatten().any(|(_, rows)| *rows > 0) {
        (info, found) = check::check_series(shelf, &step.series, span, job)?;
    }
    if let Some(crossed) = &crossed {
        found.findings.extend(crossed.cross.findings.iter().cloned());
        found.sort();
    }
    let decimals = info.edition.scale.price;
    let mut json = check_json(&step.series, &found, decimals);
    let mut lines = check_lines(&step.series, &found);
    if let Some(crossed) = &crossed {
        json["against"] = cross_json(crossed);
        lines.extend(cross_lines(&step.series, crossed));
    }
    if step.learn {
        let learned = check::learn_week(shelf, &step.series, job)?;
        let present = shelf.instrument(&step.series.instrument)?.sheet.session.week;
        let take = format!("stavel compose {} --set 'hours={}'", step.series.instrument, learned.week);
        lines.push(if learned.week == present {
            format!("  the rows keep to the sheet's session week, {present}")
        } else {
            format!(
                "  the rows of {} weeks say: {}; the sheet says {present}; take it with: {take}",
                learned.weeks, learned.week
            )
        });
        json["learned"] = json!({
            "hours": learned.week.to_string(), "sheet": present.to_string(), "steadiness": learned.steadiness,
            "weeks": learned.weeks, "command": take,
        });
    }
    let mut changed = Vec::new();
    if let Some(counts) = mended {
        let told: Map<String, Value> = counts.iter().map(|(m, n)| (m.to_string(), json!(n))).collect();
        json["mended"] = told.into();
        json["edition"] = json!(shelf.find(&step.series)?.edition.number);
        let words: Vec<String> = counts.iter().map(|(m, n)| format!("{m} {n}")).collect();
        lines.insert(0, format!("{} mended: {}", step.series, words.join(", ")));
        changed.push(step.series.clone());
    }
    let mut report = StepReport { changed, ..StepReport::new(json, lines) };
    if let Some(path) = &step.report {
        write_page(&info, &found, path)?;
        report.lines.push(format!("{} holds the report", path.display()));
        report.files.push(path.clone());
    }
    Ok(report)
}

/// The mends of the step's list file, then its own.
fn mends_of(step: &CheckStep) -> Result<Vec<Mend>> {
    let mut mends = match &step.mends {
        Some(path) => MendList::read(path)?.mend,
        None => Vec::new(),
    };
    mends.extend(step.mend.iter().filter(|m| !mends.contains(m)).cloned().collect::<Vec<_>>());
    Ok(mends)
}

/// A check in lines for people.
fn check_lines(series: &SeriesName, found: &check::CheckReport) -> Vec<String> {
    let mut lines = vec![format!(
        "{series}: grade {}, {} rows, {} findings, {}",
        found.grade.points,
        found.rows,
        found.findings.len(),
        coverage_in_words(found)
    )];
    if !found.grade.losses.is_empty() {
        let losses: Vec<String> = found.grade.losses.iter().map(loss_in_words).collect();
        lines.push(format!("  points lost: {}", losses.join(", ")));
    }
    for &kind in FindingKind::ALL {
        let (n, rows) = found.count(kind);
        if n > 0 {
            let first = found.findings.iter().find(|f| f.kind == kind);
            let first = first
                .map(|f| format!("{} {}", time::wall(f.span.from), finding_in_words(f)))
                .unwrap_or_default();
            lines.push(format!("  {:<16} {n:>5} findings {rows:>8} rows   first {first}", kind.word()));
        }
    }
    lines.push(format!(
        "  filler in closed hours {}, quiet rows in open hours {} (kept); {}; {:.1} rows a minute",
        found.filler_closed,
        found.filler_open,
        missing_in_words(found),
        found.rows_a_minute(),
    ));
    if let Some(gap) = found.largest_gap() {
        lines.push(format!(
            "  largest hole {} of open market, from {}",
            length_in_words(gap.open),
            time::wall(gap.span.from)
        ));
    }
    lines
}

/// How much of open time has rows, in words.
fn coverage_in_words(found: &check::CheckReport) -> String {
    match found.coverage {
        Some(share) => format!("{:.2} % of open time covered", share * 100.0),
        None => "open time not known while it is afloat".into(),
    }
}

fn missing_in_words(found: &check::CheckReport) -> String {
    match found.minutes_missing() {
        Some(minutes) => format!(
            "{minutes} minutes missing on {}",
            counted(found.missing_days().count() as u64, "empty day")
        ),
        None => "what is missing is not known while it is afloat".into(),
    }
}

/// A check's report as the document that other programs rely on.
pub fn check_json(series: &SeriesName, found: &check::CheckReport, decimals: u8) -> Value {
    let price = |e: check::Extreme| as_float(e.points, decimals);
    json!({
        "series": series,
        "rows": found.rows,
        "first": rfc3339(found.first),
        "last": rfc3339(found.last),
        "coverage": found.coverage,
        "grade": found.grade.points,
        "points_lost": found.grade.losses.iter().map(|l| json!({"points": l.points, "why": cause_in_words(&l.cause)})).collect::<Vec<_>>(),
        "missing_days": found.missing_days().map(time::date).collect::<Vec<_>>(),
        "gaps": found.gaps.iter().map(|g| json!({
            "from": rfc3339(g.span.from), "to": rfc3339(g.span.to), "minutes": g.open / MINUTE,
        })).collect::<Vec<_>>(),
        "findings": found.findings.iter().map(|f| json!({
            "kind": f.kind, "severity": f.kind.severity(), "from": rfc3339(f.span.from), "to": rfc3339(f.span.to),
            "rows": f.rows, "detail": finding_in_words(f),
            "certain": found.is_certain(f), "safe": f.kind == FindingKind::DuplicateTime,
        })).collect::<Vec<_>>(),
        "stats": {
            "max_range": price(found.max_range), "max_range_at": rfc3339(found.max_range.at),
            "max_body": price(found.max_body), "max_body_at": rfc3339(found.max_body.at),
            "max_gap": price(found.max_gap), "max_gap_at": rfc3339(found.max_gap.at),
            "largest_hole_minutes": found.largest_gap().map(|g| g.open / MINUTE),
            "minutes_missing": found.minutes_missing(),
            "rows_a_minute": found.rows_a_minute(),
            "spread": found.spread,
            "session_range": found.session_range.map(|r| json!({
                "days": r.days, "median": as_float(r.median, decimals), "p90": as_float(r.p90, decimals),
                "max": as_float(r.max, decimals),
            })),
            "hours": found.hours.iter().enumerate().map(|(hour, h)| json!({
                "hour_of_week": hour, "rows": h.activity(), "moved": h.movement(), "spread": h.spread,
            })).collect::<Vec<_>>(),
            "months": found.months().iter().map(|m| json!({
                "month": format!("{:04}-{:02}", m.year, m.month),
                "coverage": m.present as f64 / m.expected.max(1) as f64,
            })).collect::<Vec<_>>(),
            "filler_closed": found.filler_closed, "quiet_open": found.filler_open,
        },
    })
}

fn agreement_json(a: &Agreement) -> Value {
    json!({
        "both": a.both, "equal": a.equal, "apart": a.apart, "only_here": a.only_here, "only_there": a.only_there,
        "correlation": a.correlation(),
    })
}

fn cross_json(crossed: &Crossed) -> Value {
    let c = &crossed.cross;
    json!({
        "series": crossed.other.name,
        "edition": crossed.other.edition.number,
        "frame": crossed.frame,
        "from": rfc3339(crossed.span.from),
        "to": rfc3339(crossed.span.to),
        "level": as_float(c.level, crossed.decimals),
        "tolerance": as_float(c.tolerance, crossed.decimals),
        "all": agreement_json(&c.all),
        "months": c.months.iter().map(|((year, month), a)| {
            let mut json = agreement_json(a);
            json["month"] = json!(format!("{year:04}-{month:02}"));
            json
        }).collect::<Vec<_>>(),
        "worst_days": c.worst_days.iter().map(|(day, a)| {
            let mut json = agreement_json(a);
            json["day"] = json!(time::date(*day));
            json
        }).collect::<Vec<_>>(),
    })
}

fn cross_lines(series: &SeriesName, crossed: &Crossed) -> Vec<String> {
    let (mine, other) = (series.short(), crossed.other.name.short());
    let c = &crossed.cross;
    let share = |n: u64, of: u64| n as f64 * 100.0 / of.max(1) as f64;
    let told = |a: &Agreement| {
        format!(
            "{} bars in both, {:.1} % equal, {} apart, {} only in {mine}, {} only in {other}, changes correlate {:.3}",
            a.both,
            share(a.equal, a.both),
            a.apart,
            a.only_here,
            a.only_there,
            a.correlation()
        )
    };
    let mut lines = vec![
        format!("  against {} at {}: {}", crossed.other.name, crossed.frame, told(&c.all)),
        format!("    usual level {} points, bars more than {} points apart disagree", c.level, c.tolerance),
    ];
    lines.extend(c.months.iter().map(|((y, m), a)| format!("    {y:04}-{m:02} {}", told(a))));
    if !c.worst_days.is_empty() {
        lines.push("    worst days".into());
        lines.extend(c.worst_days.iter().map(|(day, a)| format!("      {} {}", time::date(*day), told(a))));
    }
    lines
}
