//! Charts of series on a shelf, and steps with charts among them.

use std::path::Path;

use serde_json::json;
use stavel_core::check;
use stavel_core::frames::{self, Making};
use stavel_core::job::Job;
use stavel_core::model::time::{self, rfc3339};
use stavel_core::model::{Clock, Columns, Frame, SeriesName, Span};
use stavel_core::recipe::{self, ChartStep, CheckStep, Report, Step};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use crate::report;
use crate::scene::{SceneRequest, scene};

/// Most bars in a file's chart; more would be thinner than a line.
const MOST_BARS: usize = 900;

/// Does any step: charts and pages here, all others in the core.
///
/// # Errors
/// As [`recipe::apply`].
pub fn apply(shelf: &mut Shelf, step: &Step, job: &Job) -> Result<Report> {
    match step {
        Step::Chart(step) => chart(shelf, step, job),
        Step::Check(check @ CheckStep { report: Some(path), .. }) => {
            is_page(path)?;
            recipe::as_act(shelf, step, |shelf| check_with_page(shelf, check, path, job))
        }
        other => recipe::apply(shelf, other, job),
    }
}

fn check_with_page(shelf: &mut Shelf, check: &CheckStep, path: &Path, job: &Job) -> Result<Report> {
    let done = recipe::check_step(shelf, check, job)?;
    write_page(&done.info, &done.found, path)?;
    let mut report = done.told;
    report.lines.push(format!("{} holds the report", path.display()));
    report.files.push(path.to_owned());
    Ok(report)
}

fn is_page(path: &Path) -> Result<()> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("html" | "pdf") => Ok(()),
        _ => Err(Error::arguments(format!("{} must end in .html or .pdf.", path.display()))),
    }
}

/// Writes the report of a check.
fn write_page(info: &SeriesInfo, found: &check::Report, path: &Path) -> Result<()> {
    let page = report::Page {
        series: &info.name,
        edition: info.edition.number,
        clock: if info.is_afloat() { "as written, its clock is not known".into() } else { "UTC".into() },
        decimals: info.edition.scale.price,
        report: found,
    };
    let bytes = match path.extension().and_then(|e| e.to_str()) {
        Some("pdf") => crate::pdf::from_svg(&report::draw(&page))?,
        _ => report::html(&page).into_bytes(),
    };
    write_file(path, &bytes)
}

/// Writes a file, and the folder it goes to.
fn write_file(path: &Path, bytes: &[u8]) -> Result<()> {
    if let Some(folder) = path.parent().filter(|p| !p.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(|e| Error::io("Cannot make", folder, &e))?;
    }
    std::fs::write(path, bytes).map_err(|e| Error::io("Cannot write", path, &e))
}

/// Bars of a series in a span, in the shortest usual frame that gives at most `most` of them.
///
/// # Errors
/// Where the series cannot be read.
pub fn bars_for_chart(
    shelf: &Shelf,
    info: &SeriesInfo,
    span: Span,
    most: usize,
    job: &Job,
) -> Result<(Frame, Columns)> {
    let seen = Span::new(info.edition.first, info.edition.last + 1);
    let Some(span) = seen.overlap(&span) else { return Ok((info.name.frame, Columns::default())) };
    // Markets rest on weekends and nights, so count what there is, not what the clock says.
    let share = span.length() as f64 / seen.length() as f64;
    let own = (info.edition.rows as f64 * share) as usize;
    if !info.name.frame.is_ticks() && own <= most {
        return Ok((info.name.frame, shelf.read(&info.edition, span)?));
    }
    let open_share = if info.name.frame.is_ticks() {
        0.71
    } else {
        (own as f64 * info.name.frame.length() as f64 / span.length() as f64).min(1.0)
    };
    let usual = Frame::CHARTED.iter().filter_map(|f| f.parse::<Frame>().ok());
    let fits = |f: &Frame| span.length() as f64 * open_share / f.length() as f64 <= most as f64;
    let frame = usual.filter(|f| frames::can_build(info.name.frame, *f)).find(fits);
    let frame = frame.unwrap_or(Frame::D1);
    if info.is_afloat() {
        // Days of an unknown clock: bars are cut on the written wall, as if it were UTC.
        let anchored = SeriesInfo {
            edition: {
                let mut e = info.edition.clone();
                e.clock = Some(Clock::utc());
                e
            },
            ..info.clone()
        };
        let making = Making { clock: Some(&Clock::utc()), span, ..Making::default() };
        return Ok((frame, frames::build_bars(shelf, &anchored, frame, &making, job)?.bars));
    }
    Ok((frame, frames::build_bars(shelf, info, frame, &Making { span, ..Making::default() }, job)?.bars))
}

fn chart(shelf: &Shelf, step: &ChartStep, job: &Job) -> Result<Report> {
    let span = recipe::span_between(step.from.as_deref(), step.to.as_deref())?;
    let info = shelf.find(&step.series)?;
    job.begin(format!("chart {}", step.series), info.edition.rows);
    let (frame, bars) = bars_for_chart(shelf, &info, span, MOST_BARS, job)?;
    let Some((first, last)) = bars.ends() else {
        return Err(Error::input(format!(
            "{} has nothing to draw in that span; it reaches from {} to {}.",
            step.series,
            rfc3339(info.edition.first),
            rfc3339(info.edition.last)
        )));
    };
    let other = match &step.with {
        Some(name) => Some((
            name.to_string(),
            bars_at(shelf, name, frame, Span::new(first, last + frame.length()), job)?,
        )),
        None => None,
    };
    let clock = shelf.instrument(&step.series.instrument)?.sheet.session.clock;
    let request = SceneRequest {
        title: format!("{}  {frame}  {} … {}", step.series, time::wall(first), time::wall(last)),
        bars: &bars,
        with: other.as_ref().map(|(n, c)| (n.clone(), c)),
        average: step.ma,
        clock: &clock,
    };
    let picture = crate::svg::draw(&scene(&request));
    let bytes = match step.out.extension().and_then(|e| e.to_str()) {
        Some("svg") => picture.into_bytes(),
        Some("pdf") => crate::pdf::from_svg(&picture)?,
        _ => return Err(Error::arguments(format!("{} must end in .svg or .pdf.", step.out.display()))),
    };
    write_file(&step.out, &bytes)?;
    let json = json!({"path": step.out, "series": step.series, "frame": frame, "bars": bars.len(), "bytes": bytes.len()});
    let line = format!("{}: {} bars of {frame}, {} bytes", step.out.display(), bars.len(), bytes.len());
    Ok(Report { files: vec![step.out.clone()], ..Report::new(json, vec![line]) })
}

/// Bars of another series at a frame, built where it has another.
fn bars_at(shelf: &Shelf, name: &SeriesName, frame: Frame, span: Span, job: &Job) -> Result<Columns> {
    let info = shelf.find(name)?;
    if name.frame == frame {
        return shelf.read(&info.edition, span);
    }
    Ok(frames::build_bars(shelf, &info, frame, &Making { span, ..Making::default() }, job)?.bars)
}
