//! Drawing on the chart of an instrument.

use std::collections::HashMap;

use serde_json::{Value, json};
use stavel_core::model::time::{self, Micros, rfc3339, wall};
use stavel_core::model::{Clock, Drawing, DrawingKind, DrawnOn, DrawnPoint, SeriesName, ShownAmong};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_core::{Error, Result};

use stavel_draw::DrawingAt;

use crate::report::{StepReport, counted};
use crate::step::DrawStep;

/// A drawing with its points among the rows of a series.
#[derive(Debug, Clone, PartialEq)]
pub struct PlacedDrawing {
    /// As it is kept.
    pub drawing: Drawing,
    /// In UTC or, of a series afloat, as written.
    pub points: Vec<DrawnPoint>,
}

impl PlacedDrawing {
    /// To be put on a chart; `is_chosen` where it is the one that a person works on.
    pub fn on_chart(&self, is_chosen: bool) -> DrawingAt {
        DrawingAt {
            id: self.drawing.id,
            kind: self.drawing.kind,
            points: self.points.clone(),
            text: self.drawing.text.clone(),
            colour: self.drawing.colour,
            is_chosen,
        }
    }

    /// The moment from which a rehearsal may show it.
    pub fn known_from(&self) -> Micros {
        self.drawing.known_from(&self.points)
    }
}

/// The drawings of an instrument that have a place among the rows of one of its series; `all` are its series.
pub fn placed_among<'s>(
    drawings: &[Drawing],
    shown: &SeriesInfo,
    all: impl Iterator<Item = &'s SeriesInfo>,
) -> Vec<PlacedDrawing> {
    let clocks: HashMap<SeriesName, Option<&Clock>> =
        all.map(|series| (series.name.with_built(false), series.edition.clock.as_ref())).collect();
    let among = ShownAmong { series: &shown.name, is_afloat: shown.is_afloat() };
    let placed = |drawing: &Drawing| {
        let drawn_on = clocks.get(&drawing.series.with_built(false));
        let drawn_on = drawn_on.map_or(DrawnOn::Gone, |clock| DrawnOn::There(*clock));
        let points = drawing.points_among(among, drawn_on)?;
        Some(PlacedDrawing { drawing: drawing.clone(), points })
    };
    drawings.iter().filter_map(placed).collect()
}

/// The drawings that are seen on the chart of a series.
///
/// # Errors
/// Where the catalog cannot be read, or a drawing is damaged.
pub fn drawings_on(shelf: &Shelf, shown: &SeriesInfo) -> Result<Vec<PlacedDrawing>> {
    let instrument = &shown.name.instrument;
    Ok(placed_among(&shelf.drawings(instrument)?, shown, shelf.series_of(instrument)?.iter()))
}

/// Draws, changes or takes away; else lists what is drawn.
///
/// # Errors
/// Where a point cannot be read, the drawing is not there, or the shelf cannot be written.
pub fn draw_on(shelf: &mut Shelf, step: &DrawStep) -> Result<StepReport> {
    let info = shelf.find(&step.series)?;
    let instrument = info.name.instrument.clone();
    if let Some(id) = step.remove {
        let gone = shelf.remove_drawing(&instrument, id)?;
        let line = format!("{} {id} of {instrument} is taken away; undo brings it back", gone.kind);
        return Ok(StepReport::new(json!({"instrument": instrument, "removed": id}), vec![line]));
    }
    let drawing = match (step.kind, step.change) {
        (Some(kind), _) => new_drawing(&info, kind, step)?,
        (None, Some(id)) => changed_drawing(shelf, &info, id, step)?,
        (None, None) => {
            let said = [&step.at, &step.to, &step.text, &step.rehearsed].iter().any(|said| said.is_some());
            if said || step.colour.is_some() {
                return Err(Error::arguments(
                    "Say what to draw (level, line, ray, box, range or text), or which drawing to change (--change NUMBER).",
                ));
            }
            return list(shelf, &info);
        }
    };
    let id = shelf.put_drawing(&drawing)?;
    let placed = drawings_on(shelf, &info)?.into_iter().find(|placed| placed.drawing.id == id);
    let told = placed.as_ref().map(|placed| in_words(placed, info.is_afloat())).unwrap_or_default();
    let json = json!({"instrument": instrument, "drawing": placed.map(|p| to_json(&p, info.is_afloat()))});
    let mut lines = vec![format!("{instrument}: {told}")];
    let (first, last) = (info.edition.first, info.edition.last);
    // Far from all rows a year or a month was likely mistyped.
    let is_far = |point: &DrawnPoint| !(first..=last).contains(&point.time);
    let wants_person = drawing.points.iter().all(is_far);
    if wants_person {
        lines.push(format!(
            "  ▲ it lies outside of the rows, which reach from {} to {}",
            wall(first),
            wall(last)
        ));
    }
    Ok(StepReport { wants_person, ..StepReport::new(json, lines) })
}

fn new_drawing(info: &SeriesInfo, kind: DrawingKind, step: &DrawStep) -> Result<Drawing> {
    let point = |name: &str, text: &Option<String>| match text {
        Some(text) => point_of(text),
        None => Err(Error::arguments(format!("A {kind} needs a point: {name} 'TIME, PRICE'."))),
    };
    let mut points = vec![point("--at", &step.at)?];
    match kind.points() {
        1 if step.to.is_some() => {
            return Err(Error::arguments(format!("A {kind} has one point; leave --to away.")));
        }
        1 => {}
        _ => points.push(point("--to", &step.to)?),
    }
    if kind == DrawingKind::Text && step.text.is_none() {
        return Err(Error::arguments("A text needs its words: --text."));
    }
    let drawing = Drawing {
        id: 0,
        kind,
        points,
        text: step.text.clone().unwrap_or_default(),
        colour: step.colour.unwrap_or_default(),
        series: info.name.with_built(false),
        clock: info.edition.clock.clone(),
        rehearsed: step.rehearsed.as_deref().map(time::parse).transpose()?,
    };
    refuse_without_length(&drawing)?;
    Ok(drawing)
}

/// A drawing that is there, with what is said of it anew. Its points are among the rows of the series then.
fn changed_drawing(shelf: &Shelf, info: &SeriesInfo, id: u64, step: &DrawStep) -> Result<Drawing> {
    let instrument = &info.name.instrument;
    shelf.drawing(instrument, id)?;
    let placed = drawings_on(shelf, info)?.into_iter().find(|placed| placed.drawing.id == id);
    let PlacedDrawing { mut drawing, points } = placed.ok_or_else(|| {
        Error::input(format!("Drawing {id} has no place among the rows of {}: {}.", info.name, why_not(info)))
    })?;
    if step.at.is_some() || step.to.is_some() {
        drawing.points = points;
        (drawing.series, drawing.clock) = (info.name.with_built(false), info.edition.clock.clone());
    }
    for (at, text) in [&step.at, &step.to].into_iter().enumerate() {
        let Some(text) = text else { continue };
        match drawing.points.get_mut(at) {
            Some(point) => *point = point_of(text)?,
            None => {
                return Err(Error::arguments(format!("A {} has one point; leave --to away.", drawing.kind)));
            }
        }
    }
    if let Some(text) = &step.text {
        if text.is_empty() && drawing.kind == DrawingKind::Text {
            return Err(Error::arguments("A text needs its words; --remove takes it away."));
        }
        drawing.text.clone_from(text);
    }
    drawing.colour = step.colour.unwrap_or(drawing.colour);
    // As it is now it was not there before.
    if let Some(at) = &step.rehearsed {
        drawing.rehearsed = Some(time::parse(at)?);
    }
    refuse_without_length(&drawing)?;
    Ok(drawing)
}

/// Why a drawing has no place among the rows of a series.
fn why_not(info: &SeriesInfo) -> &'static str {
    match info.is_afloat() {
        true => "the clock of this series is not known, and they were drawn on others",
        false => "they were drawn on series whose clock is not known, or which are gone",
    }
}

/// # Errors
/// Where a line has no direction, since both its points are one.
fn refuse_without_length(drawing: &Drawing) -> Result<()> {
    match drawing.points.as_slice() {
        [a, b] if a == b => {
            Err(Error::arguments(format!("Both points of the {} are the same; give it two.", drawing.kind)))
        }
        _ => Ok(()),
    }
}

/// A point as a person types it.
fn point_of(text: &str) -> Result<DrawnPoint> {
    let bad = || {
        Error::arguments(format!(
            "'{text}' is no point; write a time and a price, as '2024-03-13 12:30, 0.9815'."
        ))
    };
    let (at, price) = text.rsplit_once(',').ok_or_else(bad)?;
    let price = price.trim().parse::<f64>().ok().filter(|price| price.is_finite()).ok_or_else(bad)?;
    Ok(DrawnPoint { time: time::parse(at.trim())?, price })
}

/// A point as [`point_of`] reads it.
pub fn point_in_words(point: DrawnPoint) -> String {
    format!("{}, {}", wall(point.time), point.price)
}

/// A drawing in a line.
pub fn in_words(placed: &PlacedDrawing, is_afloat: bool) -> String {
    let PlacedDrawing { drawing, points } = placed;
    let written = if is_afloat { " written" } else { "" };
    let points: Vec<String> = points.iter().map(|point| point_in_words(*point) + written).collect();
    let text = if drawing.text.is_empty() { String::new() } else { format!("  {}", drawing.text) };
    format!("{} {}  {}{text}", drawing.kind, drawing.id, points.join(" to "))
}

fn to_json(placed: &PlacedDrawing, is_afloat: bool) -> Value {
    let PlacedDrawing { drawing, points } = placed;
    let time = |time| if is_afloat { wall(time) } else { rfc3339(time) };
    let points: Vec<Value> =
        points.iter().map(|point| json!({"time": time(point.time), "price": point.price})).collect();
    json!({
        "id": drawing.id,
        "kind": drawing.kind,
        "points": points,
        "text": drawing.text,
        "colour": drawing.colour,
        "drawn_on": drawing.series,
        "rehearsed": drawing.rehearsed.map(rfc3339),
    })
}

fn list(shelf: &Shelf, info: &SeriesInfo) -> Result<StepReport> {
    let instrument = &info.name.instrument;
    let (all, placed) = (shelf.drawings(instrument)?, drawings_on(shelf, info)?);
    let mut lines = vec![match all.len() {
        0 => format!("nothing is drawn on {instrument}"),
        n => format!("{} on {instrument}", counted(n as u64, "drawing")),
    }];
    lines.extend(placed.iter().map(|placed| format!("  {}", in_words(placed, info.is_afloat()))));
    if placed.len() < all.len() {
        let away = counted((all.len() - placed.len()) as u64, "drawing");
        lines.push(format!("  {away} more, without a place among these rows: {}", why_not(info)));
    }
    let drawings: Vec<Value> = placed.iter().map(|placed| to_json(placed, info.is_afloat())).collect();
    let json = json!({"series": info.name, "drawings": drawings, "elsewhere": all.len() - placed.len()});
    Ok(StepReport::new(json, lines))
}
