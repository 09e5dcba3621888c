//! Carrying out a plan: read, order, weave into what is there, store.

use std::collections::BTreeMap;
use std::time::Instant;

use super::Taken;
use super::ledger::{Ledger, RejectedRows};
use super::plan::IntakePlan;
use super::read::read_files;
use super::rejects::{Rejected, Rejects};
use super::runs::{Merged, SortedRuns};
use super::taker::{Halt, RowTaker, Symbols};
use super::weave::{Weave, WeaveCounts, WeaveSettings};
use crate::job::Job;
use crate::model::layout::SpreadUnit;
use crate::model::price::{scaled, unit};
use crate::model::provenance::{TakenFile, TakenIn};
use crate::model::time::rfc3339;
use crate::model::{Clock, Columns, Field, Made, Micros, Provenance, Scale, SeriesName, Unfold, present};
use crate::store::{Encoded, GroupPlace, Origin, SeriesInfo, Shelf, Work};
use crate::{Error, Result, fingerprint};

/// Reads the files of a plan into their series: one, or one for each symbol.
///
/// # Errors
/// Where a file cannot be read to its end, no row or hardly any row can be understood, or the person
/// stops it: the shelf is then as it was.
pub fn take(shelf: &mut Shelf, plan: &IntakePlan, job: &Job) -> Result<Vec<Taken>> {
    shelf.begin_act("")?;
    let taken = take_whole(shelf, plan, job);
    match taken {
        Ok(_) => shelf.end_act(&plan.series.to_string(), "")?,
        Err(_) => shelf.abandon_act()?,
    }
    taken
}

/// Files that overlap in time are taken one after the other, as if each had been taken on its own: what is
/// there already is not taken twice.
fn take_whole(shelf: &mut Shelf, plan: &IntakePlan, job: &Job) -> Result<Vec<Taken>> {
    let mut all: Vec<Taken> = Vec::new();
    for part in plan.without_overlap() {
        for taken in take_part(shelf, &part, job)? {
            match all.iter_mut().find(|t| t.series == taken.series) {
                Some(before) => before.add(taken),
                None => all.push(taken),
            }
        }
    }
    Ok(all)
}

fn take_part(shelf: &mut Shelf, plan: &IntakePlan, job: &Job) -> Result<Vec<Taken>> {
    let begun = Instant::now();
    let there = shelf.current_own(&plan.series)?;
    let scale = there.as_ref().map_or(plan.scale, |s| s.edition.scale.finer(&plan.scale));
    let mut taking = Taking { plan, scale, decimals: plan.scale.price, begun };
    let mut in_order = plan.by_symbol.is_none();
    loop {
        job.begin(format!("intake {}", plan.series), plan.bytes());
        let attempt = match in_order {
            true => take_in_order(shelf, &taking, job),
            false => take_sorted(shelf, &taking, job),
        };
        match attempt {
            Ok(taken) => return Ok(taken),
            Err(Halt::Finer(finer)) => {
                if finer.price > taking.scale.price {
                    taking.decimals = finer.price;
                }
                taking.scale = finer;
            }
            Err(Halt::Disorder) => in_order = false,
            Err(Halt::Failed(e)) => return Err(e),
        }
    }
}

/// What one attempt at taking the files of a plan works with.
struct Taking<'a> {
    plan: &'a IntakePlan,
    /// Of the numbers as they are read.
    scale: Scale,
    /// Of the prices in the files: what a point is there.
    decimals: u8,
    begun: Instant,
}

impl Taking<'_> {
    /// An empty account. Where rows name their symbols, each has a point of its own, which is known once all
    /// its rows were read.
    fn ledger(&self, shelf: &Shelf) -> Result<Ledger> {
        let plan = self.plan;
        let series = plan.series.to_string().replace([':', '@'], "-");
        let stem = format!("{series}-{}", shelf.next_edition(&plan.series)?);
        let frame = plan.series.frame;
        let unfold = Unfold::new(plan.clock.as_ref(), frame);
        let point = unit(self.scale.price.saturating_sub(self.decimals));
        let point = plan.by_symbol.is_none().then_some(point);
        Ok(Ledger::new(Rejects::new(shelf.root(), &stem), unfold, plan.stamp.back(frame), point))
    }
}

/// The rows go straight from the parser into the files of the new edition.
fn take_in_order(shelf: &mut Shelf, taking: &Taking<'_>, job: &Job) -> Result<Vec<Taken>, Halt> {
    let plan = taking.plan;
    let mut ledger = taking.ledger(shelf)?;
    let there = shelf.current_own(&plan.series)?;
    let weave = begin(shelf, plan, &plan.series, &plan.fields(), taking.scale)?;
    let mut straight = InOrder { weave, latest: Micros::MIN, first: None, fields: plan.fields() };
    let hashes = read_files(plan, taking.scale, &mut ledger, &mut straight, job)?;
    ledger.refuse_if_hardly_any(plan)?;
    let files = taken_files(plan, &hashes)?;
    let InOrder { weave, latest, first, .. } = straight;
    let ends = first.map(|f| (f, latest));
    let told = ledger.rejected_of_all();
    Ok(vec![store(weave, taking, &plan.series, (&mut ledger, told), &files, (there, ends))?])
}

/// The rows are sorted on the disk first, those of each symbol apart.
fn take_sorted(shelf: &mut Shelf, taking: &Taking<'_>, job: &Job) -> Result<Vec<Taken>, Halt> {
    let (plan, scale) = (taking.plan, taking.scale);
    let mut ledger = taking.ledger(shelf)?;
    let fields = plan.fields();
    let runs = SortedRuns::new(shelf.root(), &fields, scale)?;
    let mut sorting = Sorting { runs, fields: fields.clone(), decimals: BTreeMap::new() };
    let hashes = read_files(plan, scale, &mut ledger, &mut sorting, job)?;
    ledger.refuse_if_hardly_any(plan)?;
    let files = taken_files(plan, &hashes)?;
    let keys = sorting.runs.keys()?;
    job.begin(format!("merge {}", plan.series), keys.iter().map(|k| k.1).sum());
    let mut all = Vec::new();
    let names: Vec<&str> = keys.iter().map(|(key, _)| key.as_str()).collect();
    // What belongs to no series of its own is told with the first.
    let mut others = ledger.rejected_of_others(&names);
    for (key, _) in &keys {
        let series = plan.series_of_symbol(key)?;
        let rows = sorting.runs.sorted(key)?;
        let mut rejected = std::mem::take(&mut others);
        rejected.add(&ledger.rejected_of_symbol(key));
        // The instruments of a symbol column have decimals, and so points, of their own.
        let own = match sorting.decimals.get(key) {
            Some(decimals) if plan.by_symbol.is_some() => Scale { price: *decimals, ..scale },
            _ => scale,
        };
        all.push(take_rows(shelf, taking, &series, (rows, own), (&mut ledger, rejected, &files), job)?);
    }
    Ok(all)
}

/// Weaves sorted rows into a series, after they were brought to their own scale.
fn take_rows(
    shelf: &mut Shelf,
    taking: &Taking<'_>,
    series: &SeriesName,
    (rows, own): (Merged, Scale),
    (ledger, rejected, files): (&mut Ledger, RejectedRows, &[TakenFile]),
    job: &Job,
) -> Result<Taken> {
    let there = shelf.current_own(series)?;
    let scale = there.as_ref().map_or(own, |s| s.edition.scale.finer(&own));
    let mut weave = begin(shelf, taking.plan, series, &taking.plan.fields(), scale)?;
    let mut ends: Option<(Micros, Micros)> = None;
    for piece in rows {
        let mut piece = piece?.coarsened(own);
        if taking.plan.files[0].1.spreads == SpreadUnit::Prices {
            // Differences of prices are in the scale of the reading; files of many symbols agree in their unit.
            let finer = unit(taking.scale.price.saturating_sub(own.price));
            let there = piece.column_mut(Field::Spread).into_iter().flatten();
            there.filter(|v| present(**v).is_some()).for_each(|v| *v /= finer);
        }
        if let Some((first, last)) = piece.ends() {
            ends = Some((ends.map_or(first, |e| e.0), last));
        }
        job.advance(piece.len() as u64)?;
        push_and_encode(&mut weave, piece)?;
    }
    store(weave, taking, series, (ledger, rejected), files, (there, ends))
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
    plan: &IntakePlan,
    series: &SeriesName,
    fields: &[Field],
    scale: Scale,
) -> Result<Weave<'a>> {
    let there = shelf.current_own(series)?;
    let old = there.as_ref().map_or(Ok(Vec::new()), |s| shelf.segments(&s.edition))?;
    let known = there.as_ref().map_or(&[][..], |s| &s.edition.fields);
    let origin = Origin {
        provenance: Provenance::of(Made::Intake(Box::default())),
        clock: plan.clock.clone(),
        fields: Field::ALL.into_iter().filter(|f| known.contains(f) || fields.contains(f)).collect(),
        scale,
    };
    let manner =
        WeaveSettings { bars: series.frame.is_bars(), replace: plan.replace, prefer_new: plan.prefer_new };
    let draft = shelf.draft(series, origin)?;
    Ok(Weave::new(draft, there.map(|s| s.edition), old, manner))
}

/// Takes rows that are in order of time.
struct InOrder<'a> {
    weave: Weave<'a>,
    first: Option<Micros>,
    latest: Micros,
    fields: Vec<Field>,
}

impl RowTaker for InOrder<'_> {
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

    fn accept(&mut self, place: GroupPlace, encoded: Encoded) -> Result<()> {
        self.weave.accept(place, encoded)
    }
}

/// Takes rows in any order, those of each symbol apart.
struct Sorting {
    runs: SortedRuns,
    fields: Vec<Field>,
    /// Decimals that the prices of each symbol need.
    decimals: BTreeMap<String, u8>,
}

impl RowTaker for Sorting {
    fn take(&mut self, rows: Columns, symbols: &Symbols) -> Result<(), Halt> {
        let rows = rows.with_fields(&self.fields);
        if symbols.names.is_empty() {
            return Ok(self.runs.push("", &rows)?);
        }
        for (i, name) in symbols.names.iter().enumerate() {
            let mut own = rows.clone();
            own.retain(|row| symbols.of_row[row] == i as u32);
            let name = String::from_utf8_lossy(name);
            let decimals = self.decimals.entry(name.clone().into_owned()).or_default();
            *decimals = own.decimals_needed(*decimals);
            self.runs.push(&name, &own)?;
        }
        Ok(())
    }

    fn work(&mut self) -> Vec<Work> {
        Vec::new()
    }

    fn accept(&mut self, _: GroupPlace, _: Encoded) -> Result<()> {
        Ok(())
    }
}

/// Ends the weaving and makes the edition, if the rows changed anything.
fn store(
    mut weave: Weave<'_>,
    taking: &Taking<'_>,
    series: &SeriesName,
    (ledger, rejected): (&mut Ledger, RejectedRows),
    files: &[TakenFile],
    (there, ends): (Option<SeriesInfo>, Option<(Micros, Micros)>),
) -> Result<Taken> {
    let plan = taking.plan;
    weave.end()?;
    encode(&mut weave)?;
    let counts = weave.counts;
    let lines_rejected = rejected.rows();
    let mut reasons = rejected.reasons;
    let reason = "another row at this time is there, with other values";
    if !weave.conflicts.is_empty() {
        *reasons.entry(reason.into()).or_default() += weave.conflicts.len() as u64;
    }
    for i in 0..weave.conflicts.len() {
        let raw = told_row(&weave.conflicts, i).into_bytes();
        ledger.rejects.add(Rejected {
            file: series.to_string(),
            line: 0,
            byte: 0,
            reason: reason.into(),
            raw,
        })?;
    }
    let rejects = ledger.rejects.finish()?.map(|p| p.display().to_string());
    ledger.rejects_at = rejects.or(ledger.rejects_at.take());
    let rejects = ledger.rejects_at.clone().filter(|_| !reasons.is_empty());
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
        reasons,
        rows_waited: rejected.waited,
        tails: std::mem::take(&mut ledger.oddities.tails),
        rounded: std::mem::take(&mut ledger.oddities.rounded),
        cells_lost: std::mem::take(&mut ledger.oddities.lost),
        rejects,
        files: plan.files.len(),
        seconds: 0.0,
    };
    let (mut draft, changed) = weave.finish();
    if changed {
        draft.set_made(Made::Intake(Box::new(told_of(taking, &taken, &counts, ledger, files))));
        taken.edition = draft.commit()?.edition.number;
    }
    taken.seconds = taking.begun.elapsed().as_secs_f64();
    Ok(taken)
}

/// A row as its time and its values between commas, absent ones empty.
fn told_row(rows: &Columns, row: usize) -> String {
    let value = |(field, column): (&Field, &Vec<i64>)| {
        present(column[row]).map_or(String::new(), |v| scaled(v, rows.scale.of(*field)))
    };
    let values: Vec<String> = rows.fields.iter().zip(&rows.data).map(value).collect();
    format!("{},{}", rfc3339(rows.time[row]), values.join(","))
}

/// What the edition says of itself: where its rows come from and what became of them.
fn told_of(
    taking: &Taking<'_>,
    taken: &Taken,
    counts: &WeaveCounts,
    ledger: &Ledger,
    files: &[TakenFile],
) -> TakenIn {
    let plan = taking.plan;
    TakenIn {
        files: files.to_vec(),
        layout: taken.layout.clone(),
        clock: taken.clock.clone(),
        stamp: plan.stamp.word().into(),
        replace: plan.replace,
        prefer_new: plan.prefer_new,
        rows_read: taken.rows_read,
        rows_kept: taken.rows_kept,
        rows_rejected: taken.rows_rejected,
        rows_already_there: taken.rows_already_there,
        rows_conflicting: counts.conflicts,
        rows_replaced: counts.replaced,
        reasons: taken.reasons.clone(),
        rejects: taken.rejects.clone(),
        times_shown_twice: ledger.unfold.doubtful.twice,
        times_never_shown: ledger.unfold.doubtful.never,
        disorder: ledger.disorder.clone(),
        decisions: plan.decisions.clone(),
        seconds: (taking.begun.elapsed().as_secs_f64() * 1000.0).round() / 1000.0,
    }
}

/// The files of a plan with their sizes and hashes; those whose bytes did not go by while they were read are
/// hashed now. Members of one archive share its bytes and its hash.
fn taken_files(plan: &IntakePlan, hashes: &[Option<String>]) -> Result<Vec<TakenFile>> {
    let mut files: Vec<TakenFile> = Vec::new();
    for (i, (member, layout)) in plan.files.iter().enumerate() {
        let path = member.path.display().to_string();
        let unreadable = |e: std::io::Error| Error::io("Cannot read", &member.path, &e);
        let (bytes, blake3) = match (files.last().filter(|f| f.path == path), hashes.get(i)) {
            (Some(before), _) => (before.bytes, before.blake3.clone()),
            (None, Some(Some(hash))) => {
                (std::fs::metadata(&member.path).map_err(unreadable)?.len(), Some(hash.clone()))
            }
            (None, _) => {
                let (bytes, hash) = fingerprint::blake3_of(&member.path).map_err(unreadable)?;
                (bytes, Some(hash))
            }
        };
        let (name, layout) = (member.place(), layout.in_words());
        files.push(TakenFile { name, path, bytes, blake3, sha256: None, layout });
    }
    Ok(files)
}
