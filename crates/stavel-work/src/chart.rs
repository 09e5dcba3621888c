//! Charts of series on a shelf.

use serde_json::json;
use stavel_core::frames::{self, FrameSettings};
use stavel_core::job::Job;
use stavel_core::model::time::{self, rfc3339};
use stavel_core::model::{Clock, Columns, Frame, SeriesName, Span};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use stavel_draw::{SceneRequest, scene, to_pdf, to_svg};

use crate::page::write_file;
use crate::report::StepReport;
use crate::span::span_between;
use crate::step::ChartStep;

/// Most bars in a file's chart; more would be thinner than a line.
const MOST_BARS: usize = 900;

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
        let making = FrameSettings { clock: Some(&Clock::utc()), span, ..FrameSettings::default() };
        return Ok((frame, frames::build_bars(shelf, &anchored, frame, &making, job)?.bars));
    }
    Ok((
        frame,
        frames::build_bars(shelf, info, frame, &FrameSettings { span, ..FrameSettings::default() }, job)?
            .bars,
    ))
}

/// Draws a chart of a series into a file.
///
/// # Errors
/// Where there is nothing to draw in the span, or the file cannot be written.
pub fn draw_chart(shelf: &Shelf, step: &ChartStep, job: &Job) -> Result<StepReport> {
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
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
    let scene = scene(&request);
    let bytes = match step.out.extension().and_then(|e| e.to_str()) {
        Some("svg") => to_svg(&scene)?.into_bytes(),
        Some("pdf") => to_pdf(&scene)?,
        _ => return Err(Error::arguments(format!("{} must end in .svg or .pdf.", step.out.display()))),
    };
    write_file(&step.out, &bytes)?;
    let json = json!({"path": step.out, "series": step.series, "frame": frame, "bars": bars.len(), "bytes": bytes.len()});
    let line = format!("{}: {} bars of {frame}, {} bytes", step.out.display(), bars.len(), bytes.len());
    Ok(StepReport { files: vec![step.out.clone()], ..StepReport::new(json, vec![line]) })
}

/// Bars of another series at a frame, built where it has another.
fn bars_at(shelf: &Shelf, name: &SeriesName, frame: Frame, span: Span, job: &Job) -> Result<Columns> {
    let info = shelf.find(name)?;
    if name.frame == frame {
        return shelf.read(&info.edition, span);
    }
    Ok(frames::build_bars(shelf, &info, frame, &FrameSettings { span, ..FrameSettings::default() }, job)?
        .bars)
}
