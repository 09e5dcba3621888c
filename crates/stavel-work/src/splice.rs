//! Doing a splice step, and telling how it came about.

use std::sync::Arc;

use serde_json::{Value, json};

use crate::report::{LongList, StepReport};
use crate::step::SpliceStep;
use stavel_core::job::Job;
use stavel_core::model::price::as_float;
use stavel_core::model::time::{self, length_in_words, rfc3339};
use stavel_core::splice::{JudgedSeam, Seam, SpliceWishes, Spliced, SplicedSeries, splice_series};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Result, align};

/// Rows in both sources from which on their changes are compared, and the least their correlation is to be.
const ENOUGH: u64 = 100;
const ALIKE: f64 = 0.5;
/// Seams told in lines.
const TOLD: usize = 20;

pub fn splice_one(shelf: &mut Shelf, step: &SpliceStep, job: &Job) -> Result<StepReport> {
    let ask = SpliceWishes {
        rule: step.rule.clone(),
        level: step.level,
        carry_spread: step.carry_spread,
        layered: step.layered,
        anew: step.anew,
    };
    let made = splice_series(shelf, &step.series, &step.into, &ask, job)?;
    let mut report = StepReport::new(splice_json(step, &made), splice_lines(step, &made));
    let troubles = troubles(shelf, step, &made, job)?;
    let SplicedSeries { info, spliced, .. } = made;
    report.lists = long_lists(step, &info, spliced);
    report.wants_person = !troubles.is_empty();
    report.json["troubles"] = json!(troubles);
    report.lines.extend(troubles.iter().map(|t| format!("  ▲ {t}")));
    Ok(StepReport { changed: vec![info.name], ..report })
}

/// What a careful person would look at before using the joined history.
fn troubles(shelf: &Shelf, step: &SpliceStep, made: &SplicedSeries, job: &Job) -> Result<Vec<String>> {
    let s = &made.spliced;
    let bar = made.info.name.frame.length();
    let mut all = Vec::new();
    let overlap = &made.overlap;
    // One bad print spoils the correlation of all: the weeks are asked only where it is low.
    if overlap.rows >= ENOUGH && overlap.correlation < ALIKE {
        let (a, b) = (&step.series[0], &step.series[1]);
        let (weeks, agree, apart) = align::agreement(shelf, (a, b), job)?;
        let look = format!("stavel align {b} --to {a} compares them");
        match apart {
            Some(by) if agree * 2 <= weeks => all.push(format!(
                "where both have rows they agree best {} apart: another clock, or stamp? {look}",
                length_in_words(by.abs())
            )),
            _ if agree * 2 <= weeks => all.push(format!(
                "where both have rows their changes hardly agree (correlation {:.2}): another market? {look}",
                overlap.correlation
            )),
            _ => {}
        }
    }
    let is_troubled =
        |(seam, judged): &(&Seam, &JudgedSeam)| judged.trouble(seam, s.usual_step, bar).is_some();
    let seams = s.seams.iter().zip(&s.judged).filter(is_troubled).count();
    if seams > 0 {
        all.push(format!("{seams} of {} seams want to be looked at", s.seams.len()));
    }
    Ok(all)
}

/// Pieces and seams: a splice that fills holes may have a hundred thousand.
fn long_lists(step: &SpliceStep, info: &SeriesInfo, spliced: Spliced) -> Vec<LongList> {
    let (decimals, bar) = (info.edition.scale.price, info.name.frame.length());
    let (names, s) = (step.series.clone(), Arc::new(spliced));
    let (of_pieces, of_seams) = (names.clone(), s.clone());
    let pieces = s.clone();
    let piece = move |i: usize| {
        let p = &pieces.pieces[i];
        json!({"from": rfc3339(p.from), "to": rfc3339(p.to), "series": of_pieces[p.source], "rows": p.rows})
    };
    let seam = move |i: usize| {
        let s = &of_seams;
        let (m, judged) = (&s.seams[i], s.judged.get(i));
        json!({
            "at": rfc3339(m.at), "before": names[m.before], "after": names[m.after],
            "step": as_float(m.step, decimals), "usual_step": as_float(s.usual_step, decimals),
            "apart": judged.and_then(|j| j.apart).map(|a| as_float(a, decimals)),
            "trouble": judged.and_then(|j| j.trouble(m, s.usual_step, bar)),
            "better": judged.and_then(|j| j.better).map(rfc3339),
        })
    };
    vec![
        LongList { name: "pieces", len: s.pieces.len(), entry: Arc::new(piece) },
        LongList { name: "seams", len: s.seams.len(), entry: Arc::new(seam) },
    ]
}

fn splice_json(step: &SpliceStep, made: &SplicedSeries) -> Value {
    let info = &made.info;
    let decimals = info.edition.scale.price;
    let levels: Vec<Value> = made
        .gaps
        .iter()
        .zip(&step.series[1..])
        .map(|(gap, series)| match gap {
            None => json!({"series": series, "median": null}),
            Some(gap) => json!({
                "series": series, "median": as_float(gap.median, decimals), "ratio": gap.ratio,
                "side": gap.side.map(|g| g.in_words(&step.series[0].short(), &series.short())),
                "months": gap.months.iter().map(|((y, m), d)| json!({
                    "month": format!("{y:04}-{m:02}"), "median": as_float(*d, decimals),
                })).collect::<Vec<_>>(),
            }),
        })
        .collect();
    json!({
        "series": info.name,
        "edition": info.edition.number,
        "rows": info.edition.rows,
        "overlap": {
            "rows": made.overlap.rows, "equal": made.overlap.equal, "median_diff": as_float(made.overlap.median_diff, decimals),
            "p95_diff": as_float(made.overlap.p95_diff, decimals), "correlation": made.overlap.correlation,
        },
        "level": step.level.to_string(),
        "levels": levels,
        "spreads_carried": made.spliced.carried,
        "keeps_older_levels": made.keeps_older,
        "unchanged": made.is_unchanged,
        "put_aside": made.put_aside,
        "kept_rows": made.kept,
        "rebuilt_from": made.rebuilt_from.map(rfc3339),
    })
}

fn splice_lines(step: &SpliceStep, made: &SplicedSeries) -> Vec<String> {
    let (info, s) = (&made.info, &made.spliced);
    let parts: Vec<String> = (0..step.series.len())
        .map(|i| {
            let rows: u64 = s.pieces.iter().filter(|p| p.source == i).map(|p| p.rows).sum();
            format!("{} {rows}", step.series[i].short())
        })
        .collect();
    let mut lines = vec![format!("{}: {} = {} rows", info.name, parts.join(" + "), info.edition.rows)];
    let serves = |i: &usize| s.pieces.iter().any(|p| p.source == *i);
    for idle in (0..step.series.len()).filter(|i| !serves(i)) {
        lines.push(format!("  {} serves no row under the rule {}", step.series[idle].short(), step.rule));
    }
    seam_lines(step, made, &mut lines);
    lines.push(format!(
        "  overlap {} rows, {} equal, median {} and p95 {} points apart",
        made.overlap.rows, made.overlap.equal, made.overlap.median_diff, made.overlap.p95_diff
    ));
    level_lines(step, made, &mut lines);
    edition_lines(made, &mut lines);
    lines
}

/// How the sources meet.
fn seam_lines(step: &SpliceStep, made: &SplicedSeries, lines: &mut Vec<String>) {
    let (info, s) = (&made.info, &made.spliced);
    for (i, seam) in s.seams.iter().take(TOLD).enumerate() {
        lines.push(format!(
            "  seam {} {} -> {}: step {} points, usual {}",
            time::wall(seam.at),
            step.series[seam.before].short(),
            step.series[seam.after].short(),
            seam.step,
            s.usual_step
        ));
        let judged = s.judged.get(i);
        if let Some((judged, trouble)) =
            judged.and_then(|j| Some((j, j.trouble(seam, s.usual_step, info.name.frame.length())?)))
        {
            let gap = if judged.gap > 0 {
                format!(" after {}", length_in_words(judged.gap))
            } else {
                String::new()
            };
            let better = judged.better.map(|b| format!("; calmer: cut={}", rfc3339(b))).unwrap_or_default();
            lines.push(format!("    {trouble}{gap}{better}"));
        }
    }
}

/// How far the levels of later sources lie from the first, and what was done about it.
fn level_lines(step: &SpliceStep, made: &SplicedSeries, lines: &mut Vec<String>) {
    for (gap, series) in made.gaps.iter().zip(&step.series[1..]) {
        let Some(gap) = gap else { continue };
        if let Some(side) = gap.side {
            lines.push(format!("  {}", side.in_words(&step.series[0].short(), &series.short())));
        }
        if gap.median != 0 {
            let done = match step.level {
                stavel_core::splice::Level::None => {
                    "left as it is (--level shift or ratio mends it)".to_owned()
                }
                level => format!("mended by {level}"),
            };
            lines.push(format!(
                "  {} lies {:+} points from {}: {done}",
                series.short(),
                gap.median,
                step.series[0].short()
            ));
        }
    }
}

/// What the new edition is beside the one before.
fn edition_lines(made: &SplicedSeries, lines: &mut Vec<String>) {
    let info = &made.info;
    if made.spliced.carried > 0 {
        lines
            .push(format!("  {} rows were given the spread of their hour of the week", made.spliced.carried));
    }
    if made.keeps_older {
        lines.push(
            "  levels and spreads are those of the edition before, so that no row of the past changes; they would be others now (--anew measures them again)"
                .into(),
        );
    }
    if let Some(act) = &made.put_aside {
        lines.push(format!(
            "  what {act} had made of {} is not in this edition; undo brings it back",
            info.name
        ));
    }
    if made.is_unchanged {
        lines.insert(
            0,
            format!("{}: nothing has changed since it was joined; no edition was made", info.name),
        );
    } else if made.kept > 0 {
        let from = made.rebuilt_from.map_or_else(|| "nowhere".into(), time::wall);
        lines.push(format!("  {} rows were taken over; written anew from {from} on", made.kept));
    }
}
