//! Carrying out a plan: read, order, weave into what is there, store.

use std::path::Path;
use std::time::Instant;

use serde_json::json;

use super::Taken;
use super::anchor::Anchor;
use super::plan::Plan;
use super::read::{Halt, Ledger, Symbols, Taker, read_files};
use super::rejects::{Rejected, Rejects};
use super::runs::{Merged, Runs};
use super::weave::{Counts, Manner, Weave};
use crate::job::Job;
use crate::model::time::rfc3339;
use crate::model::{Clock, Columns, Field, Micros, Scale, SeriesName};
use crate::store::{Encoded, Origin, Place, SeriesInfo, Shelf, Work};
use crate::{Error, Result, fingerprint};

/// Files up to this size are fingerprinted before their edition is made, larger ones after it.
const SMALL: u64 = 32 << 20;

/// Reads the files of a plan into their series: one, or one for each symbol.
///
/// # Errors
/// Where a file cannot be read to its end, no row or hardly any row can be understood, or the person
/// stops it: the shelf is then as it was.
pub fn take(shelf: &mut Shelf, plan: &Plan, job: &Job) -> Result<Vec<Taken>> {
    let begun = Instant::now();
    let there = shelf.current(&plan.series)?;
    let mut scale = there.as_ref().map_or(plan.scale, |s| s.edition.scale.finer(&plan.scale));
    let mut in_order = plan.by_symbol.is_none();
    let taken = loop {
        job.begin(format!("intake {}", plan.series), plan.bytes());
        let attempt = match in_order {
            true => take_in_order(shelf, plan, scale, begun, job),
            false => take_sorted(shelf, plan, scale, begun, job),
        };
        match attempt {
            Ok(taken) => break taken,
            Err(Halt::Finer(finer)) => scale = finer,
            Err(Halt::Disorder) => in_order = false,
            Err(Halt::Failed(e)) => return Err(e),
        }
    };
    add_fingerprints(shelf, plan, &taken, job)?;
    Ok(taken)
}

fn ledger(shelf: &Shelf, plan: &Plan) -> Result<Ledger> {
    let series = plan.series.to_string().replace([':', '@'], "-");
    let stem = format!("{series}-{}", shelf.next_edition(&plan.series)?);
    let anchor = Anchor::new(plan.clock.as_ref(), plan.stamp, plan.series.frame);
    Ok(Ledger::new(Rejects::new(shelf.root(), &stem), anchor))
}

/// The rows go straight from the parser into the files of the new edition.
fn take_in_order(
    shelf: &mut Shelf,
    plan: &Plan,
    scale: Scale,
    begun: Instant,
    job: &Job,
) -> Result<Vec<Taken>, Halt> {
    let mut ledger = ledger(shelf, plan)?;
    let there = shelf.current(&plan.series)?;
    let weave = begin(shelf, plan, &plan.series, &plan.fields(), scale)?;
    let mut straight = Straight { weave, latest: Micros::MIN, first: None, fields: plan.fields() };
    read_files(plan, scale, &mut ledger, &mut straight, job)?;
    ledger.refuse_if_hardly_any(plan)?;
    let Straight { weave, latest, first, .. } = straight;
    let ends = first.map(|f| (f, latest));
    Ok(vec![store(weave, plan, &plan.series, &mut ledger, there, ends, begun)?])
}

/// The rows are sorted on the disk first, those of each symbol apart.
fn take_sorted(
    shelf: &mut Shelf,
    plan: &Plan,
    scale: Scale,
    begun: Instant,
    job: &Job,
) -> Result<Vec<Taken>, Halt> {
    let mut ledger = ledger(shelf, plan)?;
    let fields = plan.fields();
    let mut sorting = Sorting { runs: Runs::new(shelf.root(), &fields, scale)?, fields: fields.clone() };
    read_files(plan, scale, &mut ledger, &mut sorting, job)?;
    ledger.refuse_if_hardly_any(plan)?;
    let keys = sorting.runs.keys()?;
    job.begin(format!("merge {}", plan.series), keys.iter().map(|k| k.1).sum());
    let mut all = Vec::new();
    for (key, _) in keys {
        let taken = plan.series_of_symbol(&key).and_then(|series| {
            let rows = sorting.runs.sorted(&key)?;
            take_rows(shelf, plan, &series, rows, (&fields, scale), &mut ledger, begun, job)
        });
        match taken {
            Ok(taken) => all.push(taken),
            Err(e) => {
                step_back(shelf, &all)?;
                return Err(e.into());
            }
        }
    }
    Ok(all)
}

/// Steps back what an intake made that did not come to its end: it leaves the shelf as it was.
pub fn step_back(shelf: &mut Shelf, taken: &[Taken]) -> Result<()> {
    for t in taken.iter().rev().filter(|t| t.rows_kept + t.rows_replaced > 0) {
        shelf.undo(&t.series.parse()?)?;
    }
    Ok(())
}

/// Weaves sorted rows, with the fields and scale they have, into a series.
#[allow(clippy::too_many_arguments)]
fn take_rows(
    shelf: &mut Shelf,
    plan: &Plan,
    series: &SeriesName,
    rows: Merged,
    (fields, scale): (&[Field], Scale),
    ledger: &mut Ledger,
    begun: Instant,
    job: &Job,
) -> Result<Taken> {
    let there = shelf.current(series)?;
    let scale = there.as_ref().map_or(scale, |s| s.edition.scale.finer(&scale));
    let mut weave = begin(shelf, plan, series, fields, scale)?;
    let mut ends: Option<(Micros, Micros)> = None;
    for piece in rows {
        let piece = piece?;
        if let Some((first, last)) = piece.ends() {
            ends = Some((ends.map_or(first, |e| e.0), last));
        }
        job.advance(piece.len() as u64)?;
        push_and_encode(&mut weave, piece)?;
    }
    store(weave, plan, series, ledger, there, ends, begun)
}

fn push_and_encode(weave: &mut Weave<'_>, piece: Columns) -> Result<()> {
    weave.push(piece.with_fields(weave.fields()).rescaled(weave.scale()))?;
    encode(weave)
}

fn encode(weave: &mut Weave<'_>) -> Result<()> {
    for work in weave.work() {
        let encoded = work.group.encode()?;
        weave.accept(work.place, encoded)?;
    }
    Ok(())
}

/// Begins the edition that the rows of a series go into.
fn begin<'a>(
    shelf: &'a mut Shelf,
    plan: &Plan,
    series: &SeriesName,
    fields: &[Field],
    scale: Scale,
) -> Result<Weave<'a>> {
    let there = shelf.current(series)?;
    let old = there.as_ref().map_or(Ok(Vec::new()), |s| shelf.segments(&s.edition))?;
    let known = there.as_ref().map_or(&[][..], |s| &s.edition.fields);
    let origin = Origin {
        act: "intake",
        detail: json!({}),
        clock: plan.clock.clone(),
        fields: Field::ALL.into_iter().filter(|f| known.contains(f) || fields.contains(f)).collect(),
        scale,
    };
    let manner = Manner { bars: series.frame.is_bars(), replace: plan.replace, prefer_new: plan.prefer_new };
    let draft = shelf.draft(series, origin)?;
    Ok(Weave::new(draft, there.map(|s| s.edition), old, manner))
}

/// Takes rows that are in order of time.
struct Straight<'a> {
    weave: Weave<'a>,
    first: Option<Micros>,
    latest: Micros,
    fields: Vec<Field>,
}

impl Taker for Straight<'_> {
    fn take(&mut self, rows: Columns, _: &Symbols) -> Result<(), Halt> {
        let Some((first, last)) = rows.ends() else { return Ok(()) };
        if first < self.latest || !rows.is_sorted() {
            return Err(Halt::Disorder);
        }
        self.first.get_or_insert(first);
        self.latest = last;
        debug_assert!(rows.fields.iter().all(|f| self.fields.contains(f)));
        Ok(self.weave.push(rows.with_fields(self.weave.fields()))?)
    }

    fn work(&mut self) -> Vec<Work> {
        self.weave.work()
    }

    fn accept(&mut self, place: Place, encoded: Encoded) -> Result<()> {
        self.weave.accept(place, encoded)
    }
}

/// Takes rows in any order, those of each symbol apart.
struct Sorting {
    runs: Runs,
    fields: Vec<Field>,
}

impl Taker for Sorting {
    fn take(&mut self, rows: Columns, symbols: &Symbols) -> Result<(), Halt> {
        let rows = rows.with_fields(&self.fields);
        if symbols.names.is_empty() {
            return Ok(self.runs.push("", &rows)?);
        }
        for (i, name) in symbols.names.iter().enumerate() {
            let mut own = rows.clone();
            own.retain(|row| symbols.of_row[row] == i as u32);
            self.runs.push(&String::from_utf8_lossy(name), &own)?;
        }
        Ok(())
    }

    fn work(&mut self) -> Vec<Work> {
        Vec::new()
    }

    fn accept(&mut self, _: Place, _: Encoded) -> Result<()> {
        Ok(())
    }
}

/// Ends the weaving and makes the edition, if the rows changed anything.
fn store(
    mut weave: Weave<'_>,
    plan: &Plan,
    series: &SeriesName,
    ledger: &mut Ledger,
    there: Option<SeriesInfo>,
    ends: Option<(Micros, Micros)>,
    begun: Instant,
) -> Result<Taken> {
    weave.end()?;
    encode(&mut weave)?;
    let counts = weave.counts;
    let lines_rejected = ledger.rejects.rows;
    let reason = "another row at this time is there, with other values";
    for i in 0..weave.conflicts.len() {
        let values: Vec<i64> = weave.conflicts.data.iter().map(|c| c[i]).collect();
        let raw = format!("{} {values:?}", rfc3339(weave.conflicts.time[i])).into_bytes();
        ledger.rejects.add(Rejected {
            file: series.to_string(),
            line: 0,
            byte: 0,
            reason: reason.into(),
            raw,
        })?;
    }
    let rejects = ledger.rejects.finish()?.map(|p| p.display().to_string());
    let (first, last) = ends.unwrap_or_default();
    let mut taken = Taken {
        series: series.to_string(),
        edition: there.as_ref().map_or(0, |s| s.edition.number),
        rows_read: counts.kept + counts.already + counts.conflicts + lines_rejected,
        rows_kept: counts.kept,
        rows_rejected: lines_rejected + counts.conflicts,
        rows_already_there: counts.already,
        rows_conflicting: counts.conflicts,
        rows_replaced: counts.replaced,
        first: rfc3339(first),
        last: rfc3339(last),
        clock: plan.clock.as_ref().map_or("afloat".into(), Clock::to_string),
        layout: plan.files[0].1.in_words(),
        reasons: std::mem::take(&mut ledger.rejects.reasons),
        rejects,
        files: plan.files.len(),
        seconds: 0.0,
    };
    // What is told of the lines of a file with many symbols is told once, with the first of them.
    ledger.rejects.rows = 0;
    let (mut draft, changed) = weave.finish();
    if changed {
        draft.set_detail(detail(plan, &taken, &counts, ledger, begun)?);
        taken.edition = draft.commit()?.edition.number;
    }
    taken.seconds = begun.elapsed().as_secs_f64();
    Ok(taken)
}

/// What the edition says of itself: where its rows come from and what became of them.
fn detail(
    plan: &Plan,
    taken: &Taken,
    counts: &Counts,
    ledger: &Ledger,
    begun: Instant,
) -> Result<serde_json::Value> {
    let mut files = Vec::new();
    // Members of one archive share its bytes and its hash.
    let mut hashed: Option<(&Path, u64, Option<String>)> = None;
    for (member, layout) in &plan.files {
        if hashed.as_ref().is_none_or(|h| h.0 != member.path) {
            let bytes = std::fs::metadata(&member.path)?.len();
            hashed = Some((&member.path, bytes, sha256_if_small(&member.path)?));
        }
        let (bytes, sha256) = hashed.as_ref().map(|h| (h.1, h.2.as_deref())).unwrap_or_default();
        let path = member.path.display().to_string();
        files.push(json!({
            "name": member.place(), "path": path, "bytes": bytes, "sha256": sha256, "layout": layout.in_words(),
        }));
    }
    Ok(json!({
        "files": files, "layout": taken.layout, "clock": taken.clock, "stamp": plan.stamp,
        "rows_read": taken.rows_read, "rows_kept": taken.rows_kept, "rows_rejected": taken.rows_rejected,
        "rows_already_there": taken.rows_already_there, "rows_conflicting": counts.conflicts,
        "rows_replaced": counts.replaced, "reasons": taken.reasons, "rejects": taken.rejects,
        "doubtful_times": ledger.anchor.doubtful + ledger.anchor.never,
        "times_shown_twice": ledger.anchor.doubtful, "times_never_shown": ledger.anchor.never,
        "disorder": ledger.disorder, "seconds": (begun.elapsed().as_secs_f64() * 1000.0).round() / 1000.0,
    }))
}

fn sha256_if_small(path: &Path) -> Result<Option<String>> {
    match std::fs::metadata(path)?.len() <= SMALL {
        true => Ok(Some(fingerprint::of_file(path, |_| Ok(()))?.1)),
        false => Ok(None),
    }
}

/// Adds the SHA-256 of large files to the editions made from them. The rows are on the shelf by then: one
/// core hashes more slowly than all of them take rows in.
fn add_fingerprints(shelf: &mut Shelf, plan: &Plan, taken: &[Taken], job: &Job) -> Result<()> {
    let mut large: Vec<&Path> = plan.files.iter().map(|(m, _)| m.path.as_path()).collect();
    large.dedup();
    large.retain(|p| std::fs::metadata(p).is_ok_and(|m| m.len() > SMALL));
    if large.is_empty() || taken.iter().all(|t| t.rows_kept + t.rows_replaced == 0) {
        return Ok(());
    }
    job.begin("fingerprint the file; its rows are on the shelf", plan.bytes());
    for path in large {
        let stopped = |e: Error| std::io::Error::other(e.to_string());
        let hashed = fingerprint::of_file(path, |bytes| job.advance(bytes).map_err(stopped));
        // Stopped here, the edition stays as it is, without the hash.
        let Ok((_, hash)) = hashed else { return Ok(()) };
        if plan.files.iter().any(|(m, _)| m.path == path && m.must_be_unchanged().is_err()) {
            continue;
        }
        for t in taken.iter().filter(|t| t.edition > 0) {
            shelf.add_fingerprint(&t.series.parse()?, t.edition, path, &hash)?;
        }
    }
    Ok(())
}
