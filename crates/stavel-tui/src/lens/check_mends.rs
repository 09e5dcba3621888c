//! Mends before they are done: what each would do, and the rows of a place before and after.

use stavel_core::check::{Mend, Mended};
use stavel_core::model::time::wall;
use stavel_core::model::{Columns, Span};
use stavel_work::mend_in_words;

use super::strokes::{draw_rows, scale_of};
use crate::canvas::{Canvas, thousands};
use crate::theme;

/// What the mends chosen would do.
pub struct MendPreview {
    pub counts: Mended,
    pub before: Columns,
    pub after: Columns,
    pub window: Span,
}

/// The list of mends with their counts, and the place before and after.
pub fn draw(mends: &[Mend], preview: Option<&MendPreview>, mut canvas: Canvas<'_>) {
    canvas.put(1, 0, "mends chosen", theme::strong());
    canvas.put(15, 0, "a does them   m takes one more or away   W saves the list   Esc none", theme::faint());
    let mut y = 1;
    // What is safe is several mends: once they are tried, each is told with its own count.
    let tried = preview.map(|p| p.counts.iter().map(|(mend, n)| (mend.clone(), thousands(*n))).collect());
    let listed: Vec<(Mend, String)> =
        tried.unwrap_or_else(|| mends.iter().map(|mend| (mend.clone(), "…".to_owned())).collect());
    for (mend, n) in listed.iter().take(8) {
        canvas.put_right(10, y, n, theme::strong());
        canvas.put(12, y, &format!("{mend}: {}", mend_in_words(mend)), theme::words());
        y += 1;
    }
    if listed.len() > 8 {
        canvas.put(12, y, &format!("and {} more", listed.len() - 8), theme::faint());
        y += 1;
    }
    let Some(p) = preview else {
        canvas.put(1, y + 1, "trying them …", theme::faint());
        return;
    };
    y += 1;
    let head = format!("{} … {}", wall(p.window.from), wall(p.window.to));
    canvas.put(1, y, &head, theme::faint());
    let height = canvas.height().saturating_sub(y + 2);
    let half = (canvas.width().saturating_sub(4)) / 2;
    let scale = scale_of(&p.before, &p.after);
    for (x, title, rows) in [(1, "before", &p.before), (half + 3, "after", &p.after)] {
        canvas.put(x, y + 1, &format!("{title}: {} rows", thousands(rows.len() as u64)), theme::words());
        draw_rows(rows, p.window, scale, theme::source(0), canvas.part(x, y + 2, half, height));
    }
}

/// The rows of one place, as strokes.
pub fn draw_place(rows: &Columns, window: Span, mut canvas: Canvas<'_>) {
    canvas.put(0, 0, &format!("{} … {}", wall(window.from), wall(window.to)), theme::faint());
    let (width, height) = (canvas.width(), canvas.height().saturating_sub(1));
    draw_rows(rows, window, scale_of(rows, rows), theme::source(0), canvas.part(0, 1, width, height));
}
