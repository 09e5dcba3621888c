//! The first lines of a file beside what is understood of them.

use super::cells;
use super::parse::Parser;
use crate::error::printable;
use crate::model::layout::{CELLS, Layout};
use crate::model::price::scaled;
use crate::model::{Scale, present, time};

/// Lines shown.
const LINES: usize = 60;

/// One line of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PreviewLine {
    /// Its cells, fit to be shown.
    pub cells: Vec<String>,
    /// What it was understood as.
    pub is: Understood,
}

/// What a line is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Understood {
    /// Stands before the rows: a header, a title, a comment.
    Head,
    /// A row: its time, as written, then for each field (in the order of [`Layout::fields`]) its value.
    Row {
        /// Its time, as it is told.
        time: String,
        /// Its values, as they are told, by field.
        values: Vec<String>,
    },
    /// No row, for this reason.
    Not(String),
}

/// The first lines of a sample under a layout.
pub fn preview(sample: &[u8], layout: &Layout, scale: Scale) -> Vec<PreviewLine> {
    let sample = sample.strip_prefix(b"\xef\xbb\xbf").unwrap_or(sample);
    let parser = Parser::new(layout, scale);
    let fields = layout.fields();
    let lead = layout.skip + usize::from(layout.header.is_some());
    let lines = sample.split(|&c| c == b'\n').take(LINES).enumerate();
    lines
        .map(|(n, line)| (n, line.trim_ascii_end()))
        .filter(|(_, line)| !line.is_empty())
        .map(|(n, line)| {
            let text = |c: &[u8]| printable(&String::from_utf8_lossy(c));
            let is_head = n < lead || layout.comment.is_some() && line.first() == layout.comment.as_ref();
            let parsed = parser.block(line);
            let is = match (is_head, parsed.rejects.first()) {
                (true, _) => Understood::Head,
                (false, Some(r)) => Understood::Not(r.fault.words()),
                (false, None) => Understood::Row {
                    time: parsed.rows.time.first().map_or(String::new(), |&t| time::wall(t)),
                    values: fields
                        .iter()
                        .zip(&parsed.rows.data)
                        .map(|(f, c)| {
                            let value = c.first().copied().and_then(present);
                            value.map_or(String::new(), |v| scaled(v, scale.of(*f)))
                        })
                        .collect(),
                },
            };
            let cells = match (n < layout.skip, line.contains(&CELLS)) {
                (true, false) => vec![text(line)],
                _ => cells::of(line, layout.delimiter).map(text).collect(),
            };
            PreviewLine { cells, is }
        })
        .collect()
}
