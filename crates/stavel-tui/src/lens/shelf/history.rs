//! The editions of a series, with what each was made from and what became of its rows.

use serde_json::Value;
use stavel_core::model::Clock;
use stavel_core::model::time::{SECOND, wall};
use stavel_core::store::EditionInfo;

use crate::app::App;
use crate::canvas::{Canvas, bytes, thousands};
use crate::lens::scroll;
use crate::theme;

/// Draws the history of the chosen series.
pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let (Some(at), Some(series)) = (app.shelf.history, &app.selected) else { return };
    let x = canvas.put(1, 0, "history of ", theme::faint());
    canvas.put(x, 0, &series.to_string(), theme::strong());
    canvas.put(
        1,
        1,
        "↑↓ edition   c compare with the current one   u step back   h back to the shelf",
        theme::faint(),
    );
    let Some(editions) = app.shelf.editions.get() else {
        canvas.put(1, 2, "reading …", theme::faint());
        return;
    };
    let current = app.snapshot.find(series).map(|s| s.edition.id);
    for (x, head) in [(3, "edition"), (12, "made"), (33, "by"), (54, "rows"), (66, "size"), (69, "clock")] {
        match head {
            "rows" | "size" => canvas.put_right(x, 2, head, theme::faint()),
            _ => drop(canvas.put(x, 2, head, theme::faint())),
        }
    }
    let room = (canvas.height() / 2).saturating_sub(3).max(3) as usize;
    let first = scroll(at, room, editions.len());
    let mut y = 3;
    for (i, e) in editions.iter().enumerate().skip(first).take(room) {
        let style = if i == at { theme::chosen() } else { theme::words() };
        canvas.put(1, y, if Some(e.id) == current { "▸" } else { " " }, theme::strong());
        canvas.put(3, y, &format!("{:<8}", e.number), style);
        canvas.put(12, y, &wall(e.made / SECOND * SECOND), theme::words());
        canvas.put(33, y, &e.act, theme::words());
        canvas.put_right(54, y, &thousands(e.rows), theme::words());
        canvas.put_right(66, y, &bytes(e.bytes), theme::faint());
        let clock = e.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        canvas.put(69, y, &clock, theme::faint());
        y += 1;
    }
    y += 1;
    canvas.rule(y, theme::rule());
    y += 1;
    if let Some(text) = &app.shelf.compared {
        let (width, height) = (canvas.width().saturating_sub(2), canvas.height().saturating_sub(y));
        y += canvas.part(1, y, width, height).paragraph(0, text, theme::words().fg(theme::RISING));
        y += 1;
    }
    if let Some(edition) = editions.get(at) {
        draw_origin(edition, y, &mut canvas);
    }
}

/// The files an edition was made from with their fingerprints, and the account of their rows.
fn draw_origin(edition: &EditionInfo, mut y: u16, canvas: &mut Canvas<'_>) {
    let detail = &edition.detail;
    let text = |v: &Value| v.as_str().unwrap_or_default().to_owned();
    let count = |key: &str| detail[key].as_u64().map_or("0".to_owned(), thousands);
    canvas.put(1, y, &format!("edition {} was made from", edition.number), theme::faint());
    y += 1;
    let files = detail["files"].as_array().map_or(&[][..], Vec::as_slice);
    for file in files.iter().take(6) {
        let x = canvas.put(3, y, &text(&file["name"]), theme::words());
        let size = file["bytes"].as_u64().map_or(String::new(), bytes);
        canvas.put(x + 2, y, &size, theme::faint());
        let hash =
            file["sha256"].as_str().map_or("no SHA-256 was taken".to_owned(), |h| format!("sha256 {h}"));
        canvas.put(5, y + 1, &hash, theme::faint());
        y += 2;
    }
    if files.len() > 6 {
        canvas.put(3, y, &format!("and {} files more", files.len() - 6), theme::faint());
        y += 1;
    }
    if files.is_empty() {
        let before = if edition.before.is_some() { "the edition before it" } else { "other series" };
        canvas.put(3, y, before, theme::words());
        y += 1;
    }
    if let Some(counts) = detail["counts"].as_array() {
        let words = counts
            .iter()
            .map(|c| format!("{} {}", text(&c[0]), c[1].as_u64().map_or(String::new(), thousands)));
        canvas.put(3, y, &format!("mended: {}", words.collect::<Vec<_>>().join(", ")), theme::words());
        y += 1;
    }
    if detail["rows_read"].is_u64() {
        y += 1;
        let account = format!(
            "{} rows read = {} kept + {} rejected + {} already there; {} gave way; {} s",
            count("rows_read"),
            count("rows_kept"),
            count("rows_rejected"),
            count("rows_already_there"),
            count("rows_replaced"),
            detail["seconds"]
        );
        canvas.put(3, y, &account, theme::words());
        canvas.put(3, y + 1, &format!("layout {}", text(&detail["layout"])), theme::faint());
        y += 2;
        for (reason, rows) in detail["reasons"].as_object().into_iter().flatten() {
            canvas.put(3, y, &format!("{rows} rejected: {reason}"), theme::words().fg(theme::WRONG));
            y += 1;
        }
        if let Some(path) = detail["rejects"].as_str() {
            canvas.put(3, y, &format!("they are in {path}"), theme::faint());
        }
    }
}
