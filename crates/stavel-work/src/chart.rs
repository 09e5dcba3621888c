//! Charts of series on a shelf.

use serde_json::json;
use stavel_core::job::Job;
use stavel_core::model::time::{self, rfc3339};
use stavel_core::model::{Columns, Frame, Span};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use stavel_draw::{PictureLook, SceneRequest, Sheet, scene};

use crate::chart_bars::{ChartBars, ChartRoom, ChartSource, bars_at, bars_for_chart};
use crate::chart_marks::OnBars;
use crate::chart_views::draw_view;
use crate::picture_file::write_picture;
use crate::report::StepReport;
use crate::span::span_between;
use crate::step::ChartStep;

/// Most bars in a file's chart; more would be thinner than a line.
const MOST_BARS: usize = 900;

/// Draws a chart of a series into a file.
///
/// # Errors
/// Where there is nothing to draw in the span, or the file cannot be written.
pub fn draw_chart(shelf: &Shelf, step: &ChartStep, job: &Job) -> Result<StepReport> {
    let look = PictureLook { ground: step.ground, size: size_of(step)? };
    if let Some(report) = draw_view(shelf, step, look, job)? {
        return Ok(report);
    }
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let info = shelf.find(&step.series)?;
    job.begin(format!("chart {}", step.series), info.edition.rows);
    let before = step.ma.unwrap_or_default();
    let ChartBars { frame, bars, lead } =
        bars_for_chart(shelf, ChartSource::rows(&info), span, ChartRoom::AtMost(MOST_BARS), before, job)?;
    let (Some(frame), Some(first), Some(last)) = (frame, bars.time.get(lead), bars.time.last().copied())
    else {
        return Err(Error::input(format!(
            "{} has nothing to draw in that span; it reaches from {} to {}.",
            step.series,
            rfc3339(info.edition.first),
            rfc3339(info.edition.last)
        )));
    };
    let drawn = Span::new(*first, (last + frame.length().max(1)).min(span.to));
    let other = second_series(shelf, step, &info, frame, drawn, job)?;
    // Prices of another instrument have no place on its scale.
    let is_other = step.with.as_ref().is_some_and(|with| with.instrument != step.series.instrument);
    let is_beside = step.beside || is_other;
    let clock = shelf.instrument(&step.series.instrument)?.sheet.session.clock;
    let on_bars = OnBars::of(shelf, step, &info, (frame, drawn), job)?;
    let request = SceneRequest {
        shades: &on_bars.shades,
        marks: &on_bars.marks,
        drawings: &on_bars.drawings,
        deals: &on_bars.deals,
        is_beside,
        style: step.style,
        is_log: step.ratio,
        has_ranges: step.ranges,
        title: format!("{}  {frame}  {} … {}", step.series, time::wall(*first), time::wall(last)),
        bars: &bars,
        with: other.as_ref().map(|(n, c)| (n.clone(), c)),
        average: step.ma,
        lead,
        ..SceneRequest::of(&bars, &clock)
    };
    let scene = scene(&request);
    let bytes = write_picture(&Sheet { scene: &scene, look }, &step.out)?;
    let json = json!({"path": step.out, "series": step.series, "frame": frame, "bars": scene.times.len(), "bytes": bytes});
    let line = format!("{}: {} bars of {frame}, {bytes} bytes", step.out.display(), scene.times.len());
    let mut lines = vec![line];
    if is_other && !step.beside {
        lines.push("  The second series is of another instrument, and has a pane of its own.".into());
    }
    lines.extend(on_bars.remarks);
    if step.ratio && !scene.panes.iter().any(|pane| pane.is_log) {
        lines.push("  Prices of zero and below have no ratios, so equal heights are equal distances.".into());
    }
    let wants_person = on_bars.wants_person;
    Ok(StepReport { wants_person, files: vec![step.out.clone()], ..StepReport::new(json, lines) })
}

/// The bars of the second series of a step, with its name.
fn second_series(
    shelf: &Shelf,
    step: &ChartStep,
    first: &SeriesInfo,
    frame: Frame,
    span: Span,
    job: &Job,
) -> Result<Option<(String, Columns)>> {
    let Some(name) = &step.with else { return Ok(None) };
    let info = shelf.find(name)?;
    if info.is_afloat() != first.is_afloat() {
        let afloat = if info.is_afloat() { name } else { &step.series };
        return Err(Error::input(format!(
            "{afloat} is afloat: its times are as written, and have no place beside those of the other; align it first."
        )));
    }
    Ok(Some((name.to_string(), bars_at(shelf, ChartSource::rows(&info), frame, span, job)?)))
}

/// The size that a step says, in points.
fn size_of(step: &ChartStep) -> Result<(u32, u32)> {
    let Some(text) = &step.size else { return Ok(PictureLook::default().size) };
    let bad = || {
        Error::arguments(format!(
            "'{text}' is no size; write width and height from 300 to 10000 points, as 1200x720."
        ))
    };
    let (width, height) = text.split_once('x').ok_or_else(bad)?;
    let side = |text: &str| text.trim().parse::<u32>().ok().filter(|side| (300..=10_000).contains(side));
    Ok((side(width).ok_or_else(bad)?, side(height).ok_or_else(bad)?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_size_is_two_numbers_of_points() {
        let of = |text: &str| {
            let step = ChartStep::of("NOKSEK@quill:1m".parse().unwrap(), "x.svg".into());
            size_of(&ChartStep { size: Some(text.into()), ..step })
        };
        assert_eq!(of("1600x900").unwrap(), (1600, 900));
        for bad in ["1600", "x", "1600x", "100x900", "1600x90000", "-1x-1"] {
            assert!(of(bad).is_err(), "{bad}");
        }
    }
}
