//! The dossier of a history: is it fit to test on? What there is, what was found and mended, whose clock it has, where its
//! sources meet, what it costs, and what was said, found and assumed.

use std::path::Path;

use serde_json::json;
use stavel_core::check::{self, CheckReport, FindingKind, Severity};
use stavel_core::job::Job;
use stavel_core::model::time::{date, day_of, length_in_words, wall};
use stavel_core::model::{Made, SeriesName, Span, Standing, Weight};
use stavel_core::store::{EditionInfo, FactFilter, SeriesInfo, Shelf, fact_kind};
use stavel_core::{Error, Result};
use stavel_draw::{Dossier, DossierLine, DossierPicture, DossierSection, LineTone, SceneRequest, scene};

use crate::assumptions::of_rows;
use crate::chart_bars::{ChartBars, ChartRoom, ChartSource, bars_for_chart};
use crate::chart_marks::marks_of;
use crate::chart_views::{costs_grid, coverage, days_grid, week};
use crate::costs::{cost_sheet, costs_report};
use crate::findings::{finding_in_words, loss_in_words};
use crate::page::{is_page, write_file};
use crate::report::{StepReport, counted};
use crate::sheet::sheet_values;

/// Bars of the chart of the whole history.
const BARS: usize = 400;
/// Of each kind so many findings are told.
const FINDINGS: usize = 3;
/// Seams that are told one by one.
const SEAMS: usize = 12;
/// Less of the open time with rows than this is not enough to test on without care.
const FULL: f64 = 0.98;

/// Writes the dossier of a series into a file, `.html` or `.pdf`; exit 3 where anything speaks against testing on it.
///
/// # Errors
/// Where there is no such series, it cannot be read, or the file not be written.
pub fn dossier(shelf: &Shelf, name: &SeriesName, out: &Path, job: &Job) -> Result<StepReport> {
    is_page(out)?;
    let info = shelf.find(name)?;
    if info.edition.rows == 0 {
        return Err(Error::input(format!("{name} has no rows to tell of.")));
    }
    let (dossier, fitness) = dossier_of(shelf, &info, job)?;
    let bytes = match out.extension().and_then(|e| e.to_str()) {
        Some("pdf") => dossier.to_pdf()?,
        _ => dossier.to_html()?.into_bytes(),
    };
    write_file(out, &bytes)?;
    let mut lines = vec![format!("{}: {}, {} bytes", out.display(), fitness.verdict(), bytes.len())];
    lines.extend(fitness.against.iter().map(|why| format!("  ▲ {why}")));
    let json = json!({
        "path": out, "series": info.name, "fit": fitness.against.is_empty(), "against": fitness.against,
        "grade": fitness.grade, "bytes": bytes.len(),
    });
    let wants_person = !fitness.against.is_empty();
    Ok(StepReport { wants_person, files: vec![out.to_owned()], ..StepReport::new(json, lines) })
}

/// Whether a history is fit to test on.
#[derive(Debug, Clone, Default)]
pub struct Fitness {
    pub grade: u8,
    /// What speaks against it; nothing where it is fit.
    pub against: Vec<String>,
}

impl Fitness {
    fn verdict(&self) -> String {
        match self.against.len() {
            0 => format!("fit to test on, grade {}", self.grade),
            n => format!(
                "to be tested on with care, grade {}: {} speak against it",
                self.grade,
                counted(n as u64, "thing")
            ),
        }
    }

    fn of(shelf: &Shelf, info: &SeriesInfo, found: &CheckReport) -> Result<Fitness> {
        let mut against = Vec::new();
        if info.is_afloat() {
            against.push("its clock is not known, so its hours and days are those that were written".into());
        }
        match found.coverage {
            None => against.push("nobody has said, and nothing shows, when the market is open".into()),
            Some(share) if share < FULL => {
                against.push(format!("{:.1} % of open time has rows", share * 100.0));
            }
            Some(_) => {}
        }
        for &kind in FindingKind::ALL {
            let (count, rows) = found.count(kind);
            if count > 0 && kind.severity() == Severity::Fault {
                against.push(format!(
                    "{} of {} ({rows} rows)",
                    counted(count as u64, "finding"),
                    kind.word()
                ));
            }
        }
        let stale = shelf.staleness(&info.edition)?;
        against.extend(stale.iter().map(|why| format!("it is stale: {why}")));
        against.extend(
            of_rows(shelf, &info.name)?
                .iter()
                .map(|d| format!("{} {} is only assumed: {}", d.what, d.value, d.why)),
        );
        Ok(Fitness { grade: found.grade.points, against })
    }
}

fn plain(text: impl Into<String>) -> DossierLine {
    DossierLine::new(LineTone::Plain, text)
}

fn section(heading: &str, lines: Vec<DossierLine>, pictures: Vec<DossierPicture>) -> DossierSection {
    DossierSection { heading: heading.into(), lines, pictures }
}

fn dossier_of(shelf: &Shelf, info: &SeriesInfo, job: &Job) -> Result<(Dossier, Fitness)> {
    let found = check::check_series(shelf, &info.name, Span::ALL, job)?.1;
    let fitness = Fitness::of(shelf, info, &found)?;
    let sections = vec![
        verdict(&fitness),
        what_there_is(shelf, info, &found, job)?,
        what_was_found(shelf, info, &found)?,
        where_from(shelf, info)?,
        what_it_costs(shelf, info, job)?,
        what_is_said(shelf, info)?,
    ];
    let e = &info.edition;
    let title =
        format!("{}  {} … {}  edition {}", info.name, date(day_of(e.first)), date(day_of(e.last)), e.number);
    Ok((Dossier { title, sections }, fitness))
}

fn verdict(fitness: &Fitness) -> DossierSection {
    let tone = if fitness.against.is_empty() { LineTone::Good } else { LineTone::Doubt };
    let mut lines = vec![DossierLine::new(tone, fitness.verdict())];
    lines.extend(fitness.against.iter().map(|why| DossierLine::new(LineTone::Doubt, why)));
    section("is it fit to test on?", lines, Vec::new())
}

/// Rows and their ends, a chart of all of it, and the strips of the sources.
fn what_there_is(shelf: &Shelf, info: &SeriesInfo, found: &CheckReport, job: &Job) -> Result<DossierSection> {
    let e = &info.edition;
    let clock = if info.is_afloat() { "as written" } else { "UTC" };
    let lines = vec![
        plain(format!(
            "{} rows of {}, from {} to {} ({clock})",
            e.rows,
            info.name.frame,
            wall(e.first),
            wall(e.last)
        )),
        plain(format!("prices with {} decimals, {} bytes on the shelf", e.scale.price, e.bytes)),
    ];
    let mut pictures = Vec::new();
    if !info.name.frame.is_counted() {
        let ChartBars { frame, bars, lead } =
            bars_for_chart(shelf, ChartSource::rows(info), Span::ALL, ChartRoom::AtMost(BARS), 0, job)?;
        if let (Some(frame), false) = (frame, bars.is_empty()) {
            let clock = shelf.instrument(&info.name.instrument)?.sheet.session.clock;
            let marks = marks_of(shelf, info, &found.findings, Some(Weight::High), Span::ALL)?;
            let title = format!("{}  bars of {frame}", info.name);
            let request = SceneRequest { title, lead, marks: &marks, ..SceneRequest::of(&bars, &clock) };
            pictures.push(DossierPicture::Chart(scene(&request)));
        }
    }
    pictures.push(DossierPicture::CellGrid(coverage(shelf, info, Span::ALL)?));
    Ok(section("what there is", lines, pictures))
}

/// Findings by kind, what was lost of the grade, how full the days are, and what was mended before.
fn what_was_found(shelf: &Shelf, info: &SeriesInfo, found: &CheckReport) -> Result<DossierSection> {
    let mut lines = vec![plain(format!(
        "grade {}, {}",
        found.grade.points,
        counted(found.findings.len() as u64, "finding")
    ))];
    lines
        .extend(found.grade.losses.iter().map(|loss| plain(format!("points lost: {}", loss_in_words(loss)))));
    for &kind in FindingKind::ALL {
        let (count, rows) = found.count(kind);
        if count == 0 {
            continue;
        }
        let tone = match kind.severity() {
            Severity::Fault => LineTone::Wrong,
            Severity::Doubt => LineTone::Doubt,
            Severity::Note => LineTone::Plain,
        };
        lines.push(DossierLine::new(
            tone,
            format!("{}: {}, {rows} rows", kind.word(), counted(count as u64, "finding")),
        ));
        for finding in found.findings.iter().filter(|f| f.kind == kind).take(FINDINGS) {
            let told = format!("{}  {}", wall(finding.span.from), finding_in_words(finding));
            lines.push(plain(told).below(1));
        }
    }
    if let Some(gap) = found.largest_gap() {
        let words = length_in_words(gap.open);
        lines.push(plain(format!("the largest hole: {words} of open market, from {}", wall(gap.span.from))));
    }
    for edition in line_of_editions(shelf, info)? {
        if let Made::Check(mending) = &edition.provenance.made {
            for (mend, rows) in &mending.counts {
                lines.push(plain(format!("mended in edition {}: {mend}, {rows} rows", edition.number)));
            }
        }
    }
    lines.extend(mended_in_sources(shelf, info)?);
    let pictures = match found.days.is_empty() {
        true => Vec::new(),
        false => vec![DossierPicture::CellGrid(days_grid(info, found)?)],
    };
    Ok(section("what was found and mended", lines, pictures))
}

/// What was mended in the series that a history was built from.
fn mended_in_sources(shelf: &Shelf, info: &SeriesInfo) -> Result<Vec<DossierLine>> {
    let mut lines = Vec::new();
    for (_, source) in info.edition.provenance.parents().filter(|(_, source)| **source != info.name) {
        let Some(source) = shelf.current(source)? else { continue };
        let editions = line_of_editions(shelf, &source)?;
        let mends = editions.iter().filter_map(|edition| match &edition.provenance.made {
            Made::Check(mending) => Some(mending),
            _ => None,
        });
        for (mend, rows) in mends.flat_map(|mending| &mending.counts) {
            lines.push(plain(format!("mended in its source {}: {mend}, {rows} rows", source.name.short())));
        }
    }
    Ok(lines)
}

/// The editions that the current one goes back to, the newest first.
pub(crate) fn line_of_editions(shelf: &Shelf, info: &SeriesInfo) -> Result<Vec<EditionInfo>> {
    let all = shelf.editions(&info.name)?;
    let mut line = vec![info.edition.clone()];
    while let Some(before) = line.last().and_then(|e| e.before).and_then(|id| all.iter().find(|e| e.id == id))
    {
        line.push(before.clone());
    }
    Ok(line)
}

/// The series it was made from, the evidence of its clock, and where sources meet.
fn where_from(shelf: &Shelf, info: &SeriesInfo) -> Result<DossierSection> {
    let mut lines = Vec::new();
    add_origin(shelf, info, 0, &mut lines)?;
    Ok(section("where it comes from", lines, Vec::new()))
}

/// Sources of sources are told so deep.
const DEEPEST: usize = 4;

fn add_origin(shelf: &Shelf, info: &SeriesInfo, depth: usize, lines: &mut Vec<DossierLine>) -> Result<()> {
    for edition in line_of_editions(shelf, info)? {
        let name = &info.name;
        let told = match &edition.provenance.made {
            Made::Intake(taken) => format!(
                "{name}: taken in, {} of {}, clock {}, rows stamped at the {}",
                counted(taken.rows_read, "row"),
                counted(taken.files.len() as u64, "file"),
                taken.clock,
                taken.stamp
            ),
            Made::Check(mending) => {
                let rows: u64 = mending.counts.iter().map(|(_, rows)| rows).sum();
                format!("{name}: mended, {}", counted(rows, "row"))
            }
            Made::Align(anchoring) => {
                let clock = edition.clock.as_ref().map_or("not known".to_owned(), ToString::to_string);
                let how = if anchoring.chosen { "chosen by a person" } else { "found" };
                let share = anchoring
                    .confidence
                    .map_or(String::new(), |c| format!(", {:.0} % of the weeks agree", c * 100.0));
                let doubtful = match anchoring.doubtful_times {
                    0 => String::new(),
                    n => format!("; {} at hours that the clock showed twice or never", counted(n, "row")),
                };
                let to =
                    if anchoring.to.is_empty() { String::new() } else { format!(" by {}", anchoring.to) };
                format!("{name}: clock {clock}, {how}{to}{share}{doubtful}")
            }
            Made::Splice(joining) => {
                format!(
                    "{name}: joined by {}, level {}, {}",
                    joining.rule,
                    joining.level,
                    counted(joining.seams.len() as u64, "seam")
                )
            }
            other => format!("{name}: made by {}", other.act()),
        };
        lines.push(plain(told).below(depth));
        if let Made::Splice(joining) = &edition.provenance.made {
            let seams: Vec<String> = joining.seams.iter().take(SEAMS).map(|seam| wall(*seam)).collect();
            if !seams.is_empty() {
                let more = joining.seams.len().saturating_sub(SEAMS);
                let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                lines.push(plain(format!("seams at {}{more}", seams.join(", "))).below(depth + 1));
            }
            for (later, gap) in joining.gaps.iter().flatten().enumerate() {
                if let Some((difference, ratio)) = gap {
                    let told = format!(
                        "source {} was brought to level: {difference} points, ratio {ratio:.6}",
                        later + 2
                    );
                    lines.push(plain(told).below(depth + 1));
                }
            }
        }
    }
    if depth < DEEPEST {
        let parents: Vec<_> = info.edition.provenance.parents().map(|(_, series)| series.clone()).collect();
        for parent in parents.into_iter().filter(|parent| *parent != info.name) {
            if let Some(parent) = shelf.current(&parent)? {
                add_origin(shelf, &parent, depth + 1, lines)?;
            }
        }
    }
    Ok(())
}

/// Spreads and the money of a trade, where rows know spreads.
fn what_it_costs(shelf: &Shelf, info: &SeriesInfo, job: &Job) -> Result<DossierSection> {
    // Its own rows may not know their spreads; those of another series of the instrument may, and are named then.
    let sheet = match cost_sheet(shelf, &info.name.to_string(), None, None, job) {
        Err(why) if !why.is_cancelled() && !why.is_storage() => {
            cost_sheet(shelf, &info.name.instrument, None, None, job)?
        }
        sheet => sheet?,
    };
    let (mut lines, mut pictures) = (Vec::new(), Vec::new());
    let told = costs_report(&sheet)?;
    let tone = |line: &String| if line.contains('▲') { LineTone::Doubt } else { LineTone::Plain };
    lines.extend(told.lines.iter().map(|line| DossierLine::new(tone(line), line.replace('▲', "").trim())));
    if sheet.spreads.as_ref().is_some_and(|spreads| spreads.profile.all.is_some()) {
        pictures.push(DossierPicture::CellGrid(costs_grid(&sheet)?));
    }
    Ok(section("what a trade costs", lines, pictures))
}

/// The spec sheet, value by value, and the dates that are known.
fn what_is_said(shelf: &Shelf, info: &SeriesInfo) -> Result<DossierSection> {
    let mut lines = Vec::new();
    for value in sheet_values(shelf, &info.name.instrument)?.iter().filter(|v| v.applies && v.is_known()) {
        let tone = if value.standing == Standing::Assumed { LineTone::Doubt } else { LineTone::Plain };
        let by = value.by.as_ref().map_or(String::new(), |by| format!(", as {by} says"));
        let shown = if value.value.is_empty() { "none" } else { &value.value };
        lines.push(DossierLine::new(tone, format!("{}: {shown} ({}{by})", value.key, value.standing)));
    }
    let within = Span::new(info.edition.first, info.edition.last + 1);
    let filter = FactFilter { span: Some(within), ..FactFilter::default() };
    let facts = shelf.facts_about(&info.name.instrument, &filter)?;
    for (kind, what) in [
        (fact_kind::EVENT, "event"),
        (fact_kind::HOLIDAY, "holiday"),
        (fact_kind::SPLIT, "split"),
        (fact_kind::DIVIDEND, "dividend"),
        (fact_kind::STATEMENT, "statement"),
        (fact_kind::GAP, "gap of a stream"),
    ] {
        let count = facts.iter().filter(|fact| fact.kind == kind).count() as u64;
        if count > 0 {
            lines.push(plain(format!("dates within the history: {}", counted(count, what))));
        }
    }
    Ok(section("what was said, found and assumed", lines, vec![DossierPicture::CellGrid(week(shelf, info)?)]))
}
