//! A formula while it is typed: what it comes to, or where it is wrong.

use stavel_core::compose::{ComposeRequest, FormulaPreview, FormulaRequest};
use stavel_core::formula::FUNCTIONS;
use stavel_core::model::price::scaled;
use stavel_core::model::series::check_name;
use stavel_core::model::time::wall;
use stavel_core::model::{ABSENT, Columns, Field, Frame};
use stavel_core::{Error, Result};
use stavel_work::ComposeStep;

use crate::canvas::Canvas;
use crate::jobs::Slot;
use crate::theme;

/// How a formula is asked for.
pub const ASKED: &str = "NAME = formula";

/// The step of a line as `NZDNOK@quill:1m = NZDSEK / NOKSEK`; source and frame may be left away.
///
/// # Errors
/// Where there is no `=`, or what stands before it is no name.
pub fn step_of(line: &str) -> Result<ComposeStep> {
    let Some((before, formula)) = line.split_once('=') else {
        return Err(Error::arguments(
            "Write the new instrument's name, =, and the formula: NZDNOK = NZDSEK / NOKSEK.",
        ));
    };
    let (rest, frame) = match before.trim().split_once(':') {
        Some((rest, frame)) => (rest, Some(frame.parse::<Frame>()?)),
        None => (before.trim(), None),
    };
    let (name, source) = match rest.split_once('@') {
        Some((name, source)) => (name, Some(source.to_owned())),
        None => (rest, None),
    };
    check_name("instrument", name)?;
    let formula = Some(formula.trim().to_owned());
    Ok(ComposeStep { name: name.to_owned(), formula, source, frame, ..ComposeStep::default() })
}

/// What is asked of the shelf while a line is typed; none while it is not yet a formula.
pub fn request_of(line: &str) -> Option<FormulaRequest> {
    let step = step_of(line).ok()?;
    let instrument = ComposeRequest { name: step.name, ..ComposeRequest::default() };
    let text = step.formula.filter(|text| !text.is_empty())?;
    Some(FormulaRequest {
        instrument,
        text,
        source: step.source,
        frame: step.frame,
        ..FormulaRequest::default()
    })
}

/// Draws what the line comes to.
pub fn draw(line: &str, preview: &Slot<FormulaPreview>, mut canvas: Canvas<'_>) {
    // On a small screen it lies over the sheet.
    canvas.clear();
    canvas.put(0, 0, "what the formula comes to", theme::strong());
    let (_, formula) = line.split_once('=').unwrap_or((line, ""));
    if formula.trim().is_empty() {
        canvas.put(0, 1, "NZDNOK = NZDSEK / NOKSEK, or NZDNOK:1m = … for bars of a minute", theme::words());
        canvas.put(0, 2, "Tab completes the names of instruments and of these:", theme::words());
        functions(canvas.part(0, 4, canvas.width(), canvas.height().saturating_sub(4)));
        return;
    }
    let shown = formula.trim();
    canvas.put(0, 2, shown, theme::words());
    match &preview.value {
        _ if preview.is_reading() && preview.value.is_none() => {
            canvas.put(0, 4, "…", theme::faint());
        }
        Some(Ok(preview)) => result(preview, canvas),
        Some(Err(error)) => {
            let told = error.to_string();
            if let Some(column) = column_of(&told) {
                canvas.put(column.saturating_sub(1), 3, "▲", theme::words().fg(theme::WRONG));
            }
            let y = canvas.paragraph(4, &told, theme::words().fg(theme::WRONG)) + 1;
            functions(canvas.part(0, y, canvas.width(), canvas.height().saturating_sub(y)));
        }
        None => {}
    }
}

/// The column that a sentence about a formula names.
fn column_of(told: &str) -> Option<u16> {
    let (_, rest) = told.split_once("column ")?;
    rest.split(|c: char| !c.is_ascii_digit()).next()?.parse().ok()
}

fn functions(mut canvas: Canvas<'_>) {
    for (y, (_, form, about)) in (0..canvas.height()).zip(FUNCTIONS) {
        canvas.put(0, y, form, theme::words());
        canvas.put(28, y, about, theme::faint());
    }
}

fn result(preview: &FormulaPreview, mut canvas: Canvas<'_>) {
    let rows = &preview.rows;
    let unit = preview.unit.unit.as_ref().map_or("unit not known".to_owned(), ToString::to_string);
    let mut y = 4;
    canvas.put(0, y, &format!("{} = {}", preview.target, preview.told), theme::strong());
    canvas.put(0, y + 1, &format!("{unit}, {} decimals", rows.scale.price), theme::words());
    y += 2;
    for doubt in &preview.unit.doubts {
        y = canvas.paragraph(y, &format!("▲ {doubt}"), theme::words().fg(theme::WRONG));
    }
    let left = &preview.left;
    for (leg, series) in preview.legs.iter().enumerate() {
        let of = |all: &[u64]| all.get(leg).copied().unwrap_or(0);
        let lost = of(&left.outside) + of(&left.missing) + of(&left.stale) + of(&left.one_sided);
        let told = if lost == 0 { String::new() } else { format!("   {lost} moments lost") };
        canvas.put(0, y, &format!("of {series}{told}"), theme::faint());
        y += 1;
    }
    if left.by_zero + left.no_number > 0 {
        let told =
            format!("▲ {} moments divided by 0, {} without such a number", left.by_zero, left.no_number);
        canvas.put(0, y, &told, theme::words().fg(theme::WRONG));
        y += 1;
    }
    if rows.is_empty() {
        canvas.put(0, y + 1, "no rows where all legs have some last", theme::words());
        return;
    }
    canvas.put(0, y + 1, &spark(rows, canvas.width().into()), theme::words().fg(theme::RISING));
    table(rows, y + 3, canvas);
}

/// The prices that a row is shown by.
fn prices(rows: &Columns) -> &[i64] {
    let there = [Field::Bid, Field::Last, Field::Close].into_iter().find(|field| rows.has(*field));
    there.map_or(&[], |field| rows.column(field))
}

/// The last rows as a line of columns, from the lowest to the highest of them.
fn spark(rows: &Columns, width: usize) -> String {
    const HEIGHTS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let all = prices(rows);
    let shown = &all[all.len().saturating_sub(width)..];
    let known = || shown.iter().copied().filter(|p| *p != ABSENT);
    let (Some(low), Some(high)) = (known().min(), known().max()) else { return String::new() };
    let height = |p: &i64| match *p {
        ABSENT => ' ',
        p => HEIGHTS[((p - low) * 7 / (high - low).max(1)) as usize],
    };
    shown.iter().map(height).collect()
}

fn table(rows: &Columns, y: u16, mut canvas: Canvas<'_>) {
    let fields: Vec<Field> = rows.fields.clone();
    let names: String = fields.iter().map(|field| format!("{:>12}", field.name())).collect();
    canvas.put(0, y, &format!("{:<23}{names}", "time, UTC"), theme::faint());
    let room = usize::from(canvas.height().saturating_sub(y + 1));
    let first = rows.len().saturating_sub(room);
    for (line, row) in (first..rows.len()).enumerate() {
        let value = |field: &Field| match rows.column(*field)[row] {
            ABSENT => "–".to_owned(),
            points if *field == Field::Spread => points.to_string(),
            points => scaled(points, rows.scale.price),
        };
        let values: String = fields.iter().map(|field| format!("{:>12}", value(field))).collect();
        canvas.put(0, y + 1 + line as u16, &format!("{:<23}{values}", wall(rows.time[row])), theme::words());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_names_the_instrument_and_what_it_is_made_of() {
        let step = step_of(" NZDNOK@quill:1m = NZDSEK / NOKSEK ").unwrap();
        assert_eq!((step.name.as_str(), step.source.as_deref()), ("NZDNOK", Some("quill")));
        assert_eq!((step.formula.as_deref(), step.frame), (Some("NZDSEK / NOKSEK"), Some(Frame::M1)));
        for (line, told) in
            [("NZDSEK / 2", "="), ("a b = NZDSEK", "cannot name"), ("X:soon = NZDSEK", "soon")]
        {
            let error = step_of(line).unwrap_err().to_string();
            assert!(error.contains(told), "{line}: {error}");
        }
        assert!(request_of("NZDNOK =").is_none() && request_of("NZDNOK = 2").is_some());
        assert_eq!(column_of("The formula, column 12: x."), Some(12));
    }
}
