//! The changes of a variant while they are typed: what there is, and what was said.

use stavel_core::model::SeriesName;
use stavel_work::{ComposeStep, variation_in_words};

use crate::canvas::Canvas;
use crate::theme;

/// How the question for them begins; the series that rows come from follows.
pub const ASKED: &str = "rows as those of ";

/// Changes as they are typed, and what each means.
const CHANGES: [(&str, &str); 19] = [
    ("days=mon-thu", "these weekdays alone"),
    ("since=2024-01-01", "rows from then on"),
    ("until=2024-04-01", "rows before then"),
    ("shift=1h", "later by so much"),
    ("side=ask", "bid, ask or mid alone"),
    ("inverse", "the other way round"),
    ("scale=0.01", "prices multiplied"),
    ("add-spread=3", "points more of spread"),
    ("times-spread=1.5", "spreads multiplied"),
    ("spread-of=SERIES", "spreads by the hour"),
    ("adjusted=all", "splits and dividends"),
    ("", "made up, for stress tests:"),
    ("shuffle=days", "or weeks: swapped"),
    ("mirror", "what rose falls"),
    ("noise=3", "points of noise"),
    ("slippage=2", "points worse at most"),
    ("missing=1%", "of the minutes gone"),
    ("delay=2s", "prices seen later"),
    ("seed=7", "where chances begin"),
];

/// The changes that are typed; none while another thing is asked.
pub fn typed<'a>(typing: Option<(&'a str, &'a str)>) -> Option<(&'a str, &'a str)> {
    typing.and_then(|(asked, line)| Some((asked.strip_prefix(ASKED)?, line)))
}

/// Draws what was typed so far, and what else there is.
pub fn draw(from: &str, line: &str, mut canvas: Canvas<'_>) {
    canvas.clear();
    let from = from.split(',').next().unwrap_or(from).to_owned();
    canvas.put(0, 0, &format!("rows as those of {from}, but"), theme::strong());
    let told =
        from.parse::<SeriesName>().and_then(|from| ComposeStep::typed("NAME", Some(from), line)?.variation());
    let mut y = match told {
        Ok(variation) => {
            let words = variation_in_words(&variation);
            let words = if words.is_empty() { "as they are".to_owned() } else { words.join("; ") };
            canvas.paragraph(1, &words, theme::words())
        }
        Err(error) => canvas.paragraph(1, &error.to_string(), theme::words().fg(theme::WRONG)),
    };
    // What is typed now is looked for among the changes; a low screen shows those that fit.
    y += u16::from(canvas.height() >= 24);
    let begun = line.split_whitespace().next_back().filter(|_| !line.ends_with(' ')).unwrap_or_default();
    let is_begun =
        |form: &str| !begun.is_empty() && form.starts_with(begun.split('=').next().unwrap_or(begun));
    let columns = if canvas.height() < 24 && canvas.width() >= 78 { 2 } else { 1 };
    let rows = CHANGES.len().div_ceil(columns);
    let width = canvas.width() / columns as u16;
    for (place, (form, about)) in CHANGES.iter().enumerate() {
        let (x, y) = ((place / rows) as u16 * width, y + (place % rows) as u16);
        let mut part = canvas.part(x, y, width.saturating_sub(1), 1);
        let style = if is_begun(form) { theme::strong() } else { theme::words() };
        part.put(0, 0, form, style);
        part.put(if form.is_empty() { 0 } else { 18 }, 0, about, theme::faint());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_change_that_is_shown_can_be_typed() {
        let from: SeriesName = "NOKSEK@quill:1m".parse().unwrap();
        for (form, _) in CHANGES.iter().filter(|(form, _)| !form.is_empty()) {
            let line = form.replace("SERIES", "NOKSEK@tarn:1m");
            // A seed is of chances.
            let line = if line.starts_with("seed") { format!("mirror {line}") } else { line };
            let variation =
                ComposeStep::typed("A", Some(from.clone()), &line).and_then(|step| step.variation());
            assert!(variation.is_ok_and(|v| v != Default::default()), "{line}");
        }
        assert_eq!(
            typed(Some(("rows as those of A@b:1m, changed by", "x"))),
            Some(("A@b:1m, changed by", "x"))
        );
        assert_eq!(typed(Some(("NAME = formula", "x"))), None);
    }
}
