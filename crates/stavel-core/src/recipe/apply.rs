//! Doing a step.

use std::sync::Arc;

use serde_json::{Value, json};

use super::aligning::align_one;
use super::assuming::{self, assumptions};
use super::bring_in::intake_files;
use super::checking::check_step;
use super::delivering::deliver_all;
use super::rehearsing::rehearse;
use super::splicing::splice_one;
use super::step::*;
use super::stepping::step_over;
use crate::compose::{self, Request};
use crate::frames::build_series;
use crate::job::Job;
use crate::model::time::{self, DAY, rfc3339};
use crate::model::{Decision, Frame, Micros, SeriesName, Side, Span};
use crate::store::Shelf;
use crate::{Error, Result};

/// A list of a document whose entries are made when they are asked for.
#[derive(Clone)]
pub struct LongList {
    pub name: &'static str,
    pub len: usize,
    pub entry: Arc<dyn Fn(usize) -> Value + Send + Sync>,
}

impl std::fmt::Debug for LongList {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} entries of {}", self.len, self.name)
    }
}

/// What a step did.
#[derive(Debug, Clone)]
pub struct Report {
    /// The document that `--json` prints, but for its long lists.
    pub json: Value,
    /// Lists of the document that may have a hundred thousand entries; made only where it is printed.
    pub lists: Vec<LongList>,
    /// The same in lines for people; the first says it all.
    pub lines: Vec<String>,
    /// True where it is done but somebody should look.
    pub wants_person: bool,
    /// The series it made or changed.
    pub changed: Vec<SeriesName>,
    /// The files it wrote.
    pub files: Vec<std::path::PathBuf>,
    /// What the result rests on that nobody said and nothing shows.
    pub assumed: Vec<Decision>,
}

impl Report {
    /// What was done, as a document and in lines.
    pub fn new(json: Value, lines: Vec<String>) -> Report {
        Report {
            json,
            lists: Vec::new(),
            lines,
            wants_person: false,
            changed: Vec::new(),
            files: Vec::new(),
            assumed: Vec::new(),
        }
    }

    /// The whole document.
    pub fn document(&self) -> Value {
        let mut json = self.json.clone();
        for list in &self.lists {
            json[list.name] = (0..list.len).map(|i| (list.entry)(i)).collect();
        }
        json
    }

    /// Puts what was assumed into the document and into one line.
    fn tell_assumed(&mut self) {
        if self.assumed.is_empty() {
            return;
        }
        if let Some(json) = self.json.as_object_mut() {
            let list = |d: &Decision| json!({"what": d.what, "value": d.value, "why": d.why});
            json.insert("assumed".into(), self.assumed.iter().map(list).collect());
        }
        let words: Vec<String> = self.assumed.iter().map(|d| format!("{} {}", d.what, d.value)).collect();
        let mark = crate::model::Standing::Assumed.mark();
        // One reason fits on the line; of several the document tells each.
        let why = match self.assumed.as_slice() {
            [one] => one.why.as_str(),
            _ => "nobody says so and nothing shows it; docs/standing.md tells how to say it",
        };
        self.lines.push(format!("  {mark} assumed: {} ({why})", words.join(", ")));
    }
}

/// Does a step. What it changes is one act of the journal, undone and redone as a whole.
///
/// # Errors
/// One sentence; the shelf is then as it was before the step.
pub fn apply(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<Report> {
    as_act(shelf, step, |shelf| done(shelf, step, job))
}

/// Does the work of a step as one act, where the step changes the shelf.
///
/// # Errors
/// What the work gives; what it changed is undone then.
pub fn as_act(
    shelf: &mut Shelf,
    step: &Step,
    work: impl FnOnce(&mut Shelf) -> Result<Report>,
) -> Result<Report> {
    if !step.writes() || matches!(step, Step::Undo(_) | Step::Redo(_)) {
        return work(shelf);
    }
    shelf.begin_act(&toml::to_string(step).unwrap_or_default())?;
    match work(shelf) {
        Ok(report) => {
            let named = report.changed.first().map(SeriesName::to_string).unwrap_or_default();
            shelf.end_act(&named, report.lines.first().map(String::as_str).unwrap_or_default())?;
            Ok(report)
        }
        Err(e) => {
            shelf.abandon_act()?;
            Err(e)
        }
    }
}

fn done(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<Report> {
    let mut report = match step {
        Step::Intake(s) => intake_files(shelf, s, job),
        Step::Check(s) => check_step(shelf, s, job).map(|c| c.told),
        Step::Align(s) => align_one(shelf, s, job),
        Step::Splice(s) => splice_one(shelf, s, job),
        Step::Frames(s) => build_frames(shelf, s, job),
        Step::Compose(s) => compose_one(shelf, s, job),
        Step::Deliver(s) => deliver_all(shelf, s, job),
        Step::Rehearse(s) => rehearse(shelf, s, job),
        Step::Undo(s) => step_over(shelf, s.series.as_ref(), true),
        Step::Redo(s) => step_over(shelf, s.series.as_ref(), false),
        Step::Shelf(s) => upkeep(shelf, s, job),
        Step::Chart(_) => Err(Error::arguments("Charts are drawn outside the core.")),
    }?;
    report.assumed.extend(assumptions(shelf, step)?);
    report.tell_assumed();
    Ok(report)
}

/// A span out of the two ends a person gave.
pub fn span_between(from: Option<&str>, to: Option<&str>) -> Result<Span> {
    let end = |t: Option<&str>, other: Micros| t.map_or(Ok(other), time::parse);
    let span = Span::new(end(from, Micros::MIN)?, end(to, Micros::MAX)?);
    if span.from >= span.to {
        return Err(Error::arguments(format!(
            "The span from {} to {} is empty; the first must be the earlier.",
            from.unwrap_or_default(),
            to.unwrap_or_default()
        )));
    }
    Ok(span)
}

fn side_of(text: Option<&str>) -> Result<Side> {
    text.map_or(Ok(Side::Bid), str::parse)
}

fn build_frames(shelf: &mut Shelf, step: &FramesStep, job: &Job) -> Result<Report> {
    let side = side_of(step.side.as_deref())?;
    let (mut json, mut lines, mut changed) = (Vec::new(), Vec::new(), Vec::new());
    let mut on_closed_days = 0;
    for built in build_series(shelf, &step.series, &step.frames, step.clock.as_ref(), side, job)? {
        let (name, e) = (&built.info.name, &built.info.edition);
        json.push(json!({
            "series": name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last),
            "partial_first": built.partial_first, "partial_last": built.partial_last,
            "on_closed_days": built.on_closed_days,
        }));
        lines.push(format!("{name}: {} bars from {} to {}", e.rows, time::wall(e.first), time::wall(e.last)));
        if built.on_closed_days > 0 {
            on_closed_days += built.on_closed_days;
            lines.push(format!(
                "  ▲ {} of its bars lie on days on which the session week is closed: the week does not fit the rows; stavel check {} --learn says which would",
                built.on_closed_days, step.series
            ));
        }
        changed.push(name.clone());
    }
    let report = Report { changed, ..Report::new(json!({ "series": json }), lines) };
    let mut report = Report { wants_person: on_closed_days > 0, ..report };
    let instrument = shelf.instrument(&step.series.instrument)?;
    let is_of_days = step.frames.iter().any(|f| f.length() >= DAY);
    if is_of_days && step.clock.is_none() && assuming::day_is_anyones_guess(&instrument) {
        report.wants_person = true;
        report.lines.push(format!(
            "  ▲ nobody has said when a session day of {0} begins; its days are those of {1}: say it with compose {0} --set hours=… --set clock=…",
            instrument.name, instrument.sheet.session.clock
        ));
    }
    Ok(report)
}

fn compose_one(shelf: &mut Shelf, step: &ComposeStep, job: &Job) -> Result<Report> {
    let request = Request {
        name: step.name.clone(),
        like: step.like.clone(),
        own: step.set.clone(),
        from: step.from.clone(),
        shift: step.shift.as_deref().map_or(Ok(0), time::parse_length)?,
    };
    let made = compose::compose(shelf, &request, job)?;
    let series: Vec<Value> = made
        .series
        .iter()
        .map(|s| {
            let e = &s.edition;
            json!({"series": s.name, "edition": e.number, "rows": e.rows, "first": rfc3339(e.first), "last": rfc3339(e.last)})
        })
        .collect();
    let doubts = made.instrument.doubts();
    let json =
        json!({"instrument": made.instrument.name, "series": series, "notes": made.notes, "doubts": doubts});
    let like = made.instrument.own.like.as_deref().map(|l| format!(" like {l}")).unwrap_or_default();
    let mut lines = vec![format!("{}{like}: {}", made.instrument.name, made.notes.join("; "))];
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    Ok(Report {
        wants_person: !doubts.is_empty(),
        changed: made.series.into_iter().map(|s| s.name).collect(),
        ..Report::new(json, lines)
    })
}

fn upkeep(shelf: &mut Shelf, step: &ShelfStep, job: &Job) -> Result<Report> {
    let named = || step.series.as_ref().ok_or_else(|| Error::arguments("Say which series is meant."));
    match step.what {
        Upkeep::Remove => {
            let name = named()?;
            shelf.remove(name)?;
            let line = format!(
                "{name} is off the shelf; stavel undo {name} brings it back until the shelf is tidied"
            );
            Ok(Report { changed: vec![name.clone()], ..Report::new(json!({"removed": name}), vec![line]) })
        }
        Upkeep::Rename => {
            let (name, to) =
                (named()?, step.to.as_ref().ok_or_else(|| Error::arguments("Say the new name."))?);
            shelf.rename(name, to)?;
            let line = format!("{name} is {to} now, with all its editions");
            Ok(Report {
                changed: vec![to.clone()],
                ..Report::new(json!({"renamed": name, "to": to}), vec![line])
            })
        }
        Upkeep::Tidy => {
            let tidied = shelf.tidy(step.series.as_ref(), job)?;
            let mut line = format!(
                "{} older editions are gone, and {} files with {}",
                tidied.editions,
                tidied.files,
                bytes_in_words(tidied.bytes)
            );
            if tidied.joined > 0 {
                line += &format!("; {} small files were joined into others", tidied.joined);
            }
            let json = json!({
                "editions": tidied.editions, "files": tidied.files, "bytes": tidied.bytes, "joined": tidied.joined,
            });
            Ok(Report::new(json, vec![line]))
        }
    }
}

/// A size as people say it.
pub fn bytes_in_words(bytes: u64) -> String {
    match bytes {
        0..10_000 => format!("{bytes} bytes"),
        10_000..10_000_000 => format!("{} kB", bytes / 1000),
        10_000_000..10_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// Frames named in a list, where `all` stands for the usual ones that can be made.
pub fn frames_named(words: &[String], from: Frame) -> Result<Vec<Frame>> {
    let mut out = Vec::new();
    for word in words {
        if word == "all" {
            let usual = Frame::USUAL.iter().filter_map(|f| f.parse().ok());
            out.extend(usual.filter(|f| crate::frames::can_build(from, *f)));
        } else {
            out.push(word.parse()?);
        }
    }
    Ok(out)
}
