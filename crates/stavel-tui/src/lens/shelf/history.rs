//! The editions of a series, with what each was made from and what became of its rows.

use stavel_core::model::provenance::{TakenFile, TakenIn};
use stavel_core::model::time::{SECOND, wall};
use stavel_core::model::{Clock, Made, SeriesName};
use stavel_core::store::EditionInfo;

use crate::canvas::{Canvas, bytes, scroll, thousands};
use crate::theme;
use crate::view::View;

/// The history that is shown.
pub struct ShownHistory<'a> {
    pub series: &'a SeriesName,
    /// The place of the edition that is chosen.
    pub at: usize,
    /// None while they are read.
    pub editions: Option<&'a [EditionInfo]>,
    /// What a comparison gave, in words.
    pub compared: Option<&'a str>,
}

/// Draws the history of a series.
pub fn draw(view: &View<'_>, shown: &ShownHistory<'_>, mut canvas: Canvas<'_>) {
    let (at, series) = (shown.at, shown.series);
    let x = canvas.put(1, 0, "history of ", theme::faint());
    canvas.put(x, 0, &series.to_string(), theme::strong());
    canvas.put(
        1,
        1,
        "↑↓ edition   c compare with the current one   u step back   h back to the shelf",
        theme::faint(),
    );
    let Some(editions) = shown.editions else {
        canvas.put(1, 2, "reading …", theme::faint());
        return;
    };
    let current = view.snapshot.find(series).map(|s| s.edition.id);
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
        canvas.put(33, y, e.provenance.made.act(), theme::words());
        canvas.put_right(54, y, &thousands(e.rows), theme::words());
        canvas.put_right(66, y, &bytes(e.bytes), theme::faint());
        let clock = e.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
        canvas.put(69, y, &clock, theme::faint());
        y += 1;
    }
    y += 1;
    canvas.rule(y, theme::rule());
    y += 1;
    if let Some(text) = shown.compared {
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
    let made = &edition.provenance.made;
    canvas.put(1, y, &format!("edition {} was made from", edition.number), theme::faint());
    y += 1;
    let files = match made {
        Made::Intake(taken) => taken.files.as_slice(),
        _ => &[],
    };
    for file in files.iter().take(6) {
        let x = canvas.put(3, y, &file.name, theme::words());
        canvas.put(x + 2, y, &bytes(file.bytes), theme::faint());
        canvas.put(5, y + 1, &fingerprint_of(file), theme::faint());
        y += 2;
    }
    if files.len() > 6 {
        canvas.put(3, y, &format!("and {} files more", files.len() - 6), theme::faint());
        y += 1;
    }
    if files.is_empty() {
        let parents: Vec<String> =
            edition.provenance.parents().map(|(_, series)| series.to_string()).collect();
        let from = match (edition.before, parents.is_empty()) {
            (_, false) => parents.join(", "),
            (Some(_), true) => "the edition before it".to_owned(),
            (None, true) => "files that do not say".to_owned(),
        };
        canvas.put(3, y, &from, theme::words());
        y += 1;
    }
    if let Made::Check(mending) = made {
        let words: Vec<String> =
            mending.counts.iter().map(|(mend, rows)| format!("{mend} {}", thousands(*rows))).collect();
        canvas.put(3, y, &format!("mended: {}", words.join(", ")), theme::words());
        y += 1;
    }
    if let Made::Intake(taken) = made {
        draw_account(taken, y + 1, canvas);
    }
}

fn fingerprint_of(file: &TakenFile) -> String {
    match (&file.blake3, &file.sha256) {
        (Some(hash), _) => format!("blake3 {hash}"),
        (None, Some(hash)) => format!("sha256 {hash}"),
        (None, None) => "no fingerprint was taken".to_owned(),
    }
}

/// What became of the rows that were read.
fn draw_account(taken: &TakenIn, mut y: u16, canvas: &mut Canvas<'_>) {
    let account = format!(
        "{} rows read = {} kept + {} rejected + {} already there; {} gave way; {} s",
        thousands(taken.rows_read),
        thousands(taken.rows_kept),
        thousands(taken.rows_rejected),
        thousands(taken.rows_already_there),
        thousands(taken.rows_replaced),
        taken.seconds
    );
    canvas.put(3, y, &account, theme::words());
    canvas.put(3, y + 1, &format!("layout {}", taken.layout), theme::faint());
    y += 2;
    for (reason, rows) in &taken.reasons {
        canvas.put(3, y, &format!("{rows} rejected: {reason}"), theme::words().fg(theme::WRONG));
        y += 1;
    }
    if let Some(path) = &taken.rejects {
        canvas.put(3, y, &format!("they are in {path}"), theme::faint());
    }
}
