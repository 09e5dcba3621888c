//! Hiding on the screen what practice must not show: names and dates, whatever wrote them.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use stavel_core::model::time::{day_of, parse};

/// What is hidden.
#[derive(Debug, Clone, Default)]
pub struct Mask {
    /// Names: each letter becomes a block.
    pub names: Vec<String>,
    /// The day that is called the first; others are counted from it.
    pub first_day: i64,
}

impl Mask {
    /// Hides names and dates in a part of a picture. A date becomes the count of its day, in as many columns.
    pub fn lay_over(&self, area: Rect, buffer: &mut Buffer) {
        for y in area.top()..area.bottom() {
            let cells: Vec<String> =
                (area.left()..area.right()).map(|x| buffer[(x, y)].symbol().to_owned()).collect();
            for (at, text) in self.changes(&cells) {
                for (i, letter) in text.chars().enumerate() {
                    buffer[(area.left() + (at + i) as u16, y)].set_char(letter);
                }
            }
        }
    }

    /// What stands instead, and where, in a line of cells.
    fn changes(&self, cells: &[String]) -> Vec<(usize, String)> {
        let mut out = Vec::new();
        let is_at = |at: usize, word: &str| {
            let mut letters = word.chars();
            let fits = cells[at..].iter().zip(letters.by_ref()).all(|(cell, letter)| {
                let mut cell = cell.chars();
                cell.next() == Some(letter) && cell.next().is_none()
            });
            fits && letters.next().is_none() && at + word.chars().count() <= cells.len()
        };
        for name in self.names.iter().filter(|name| !name.is_empty()) {
            let found = (0..cells.len()).filter(|at| is_at(*at, name));
            out.extend(found.map(|at| (at, "▒".repeat(name.chars().count()))));
        }
        let text = |from: usize, to: usize| cells[from..to].concat();
        let mut at = 0;
        while at + 7 <= cells.len() {
            let begins = at == 0 || !cells[at - 1].starts_with(|c: char| c.is_ascii_digit());
            if begins && at + 10 <= cells.len() && is_date(&text(at, at + 10)) {
                let count = parse(&text(at, at + 10)).map_or(0, |t| day_of(t) - self.first_day + 1);
                let label = if count > 0 { format!("day {count}") } else { "earlier".to_owned() };
                out.push((at, format!("{label:<10.10}")));
                at += 10;
            } else if at > 0 && cells[at - 1] == "╵" && shape_of(&text(at, at + 5)) == "00-00" {
                // The day of a label of the time axis.
                out.push((at, "·····".to_owned()));
                at += 5;
            } else if begins && is_month(&text(at, at + 7)) {
                out.push((at, "·······".to_owned()));
                at += 7;
            } else {
                at += 1;
            }
        }
        out
    }
}

fn is_date(text: &str) -> bool {
    shape_of(text) == "0000-00-00"
}

fn is_month(text: &str) -> bool {
    shape_of(text) == "0000-00"
}

fn shape_of(text: &str) -> String {
    text.chars().map(|c| if c.is_ascii_digit() { '0' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_dates_are_hidden_wherever_they_stand() {
        let area = Rect { x: 0, y: 0, width: 60, height: 2 };
        let mut buffer = Buffer::empty(area);
        buffer.set_string(
            0,
            0,
            "NOKSEK@quill 2024-03-28 10:00 bought 1.00, 2024-03-27 at",
            ratatui::style::Style::new(),
        );
        buffer.set_string(
            0,
            1,
            "│2024-03│ x2024-03-29 120240328 quilled ╵03-29 2024-03-29",
            ratatui::style::Style::new(),
        );
        let first_day = day_of(parse("2024-03-28").unwrap());
        Mask { names: vec!["NOKSEK".into(), "quill".into()], first_day }.lay_over(area, &mut buffer);
        let line = |y: u16| (0..60).map(|x| buffer[(x, y)].symbol()).collect::<String>();
        assert_eq!(line(0).trim_end(), "▒▒▒▒▒▒@▒▒▒▒▒ day 1      10:00 bought 1.00, earlier    at");
        assert_eq!(line(1).trim_end(), "│·······│ xday 2      120240328 ▒▒▒▒▒ed ╵····· day 2");
    }
}
