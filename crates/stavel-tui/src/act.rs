//! Every act of the bench in one table: it gives dispatch, key hints, palette, key list and docs.
//!
//! The rows of a lens stand with the lens ([`Lens::ROWS`](crate::lens::Lens::ROWS)); those that hold everywhere stand
//! here.

use std::collections::BTreeMap;

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

/// A row of the table: an act of some kind, and all that is told of it.
#[derive(Debug, Clone, Copy)]
pub struct TableRow<A: 'static> {
    pub act: A,
    /// The key, as shown and as pressed.
    pub key: &'static str,
    /// Two or three words for the hint line; empty where the act is not hinted at.
    pub short: &'static str,
    /// What it does.
    pub about: &'static str,
    /// The command that does the same, where there is one.
    pub command: Option<&'static str>,
    /// True where it is done too rarely for the hint line.
    pub is_rare: bool,
}

impl<A: Copy> TableRow<A> {
    /// A row without a command.
    pub const fn new(act: A, key: &'static str, short: &'static str, about: &'static str) -> TableRow<A> {
        TableRow { act, key, short, about, command: None, is_rare: false }
    }

    /// The same with the command that does the same.
    pub const fn command(self, command: &'static str) -> TableRow<A> {
        TableRow { command: Some(command), ..self }
    }

    /// The same, not hinted at.
    pub const fn rare(self) -> TableRow<A> {
        TableRow { is_rare: true, ..self }
    }
}

/// What can be done in every lens.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Common {
    Next,
    Facts,
    PanBack,
    PanOn,
    ZoomIn,
    ZoomOut,
    Whole,
    Up,
    Down,
    PreviousSeries,
    NextSeries,
    NextLens,
    Undo,
    Redo,
    UndoAct,
    RedoAct,
    SaveRecipe,
    Picture,
    Stop,
    Palette,
    Keys,
    Warnings,
    Quit,
}

/// The acts that hold everywhere.
pub const COMMON: &[TableRow<Common>] = &[
    TableRow::new(Common::Next, "g", "", "do what the hint says is next").rare(),
    TableRow::new(
        Common::Facts,
        "F",
        "facts",
        "show the facts over the lens, where there is no room beside it",
    ),
    TableRow::new(Common::PanBack, "Left", "", "pan the window back"),
    TableRow::new(Common::PanOn, "Right", "pan", "pan the window on"),
    TableRow::new(Common::ZoomIn, "+", "", "see less time, closer"),
    TableRow::new(Common::ZoomOut, "-", "zoom", "see more time"),
    TableRow::new(Common::Whole, "0", "whole", "see the whole history"),
    TableRow::new(Common::Picture, "P", "picture", "write the picture of this lens to an SVG or PDF file")
        .command("stavel chart SERIES --view VIEW --out FILE"),
    TableRow::new(Common::Up, "Up", "", "choose the line above"),
    TableRow::new(Common::Down, "Down", "choose", "choose the line below"),
    TableRow::new(Common::PreviousSeries, "[", "", "the series before"),
    TableRow::new(Common::NextSeries, "]", "series", "the next series of the instrument"),
    TableRow::new(Common::NextLens, "Tab", "", "the next lens").rare(),
    TableRow::new(Common::Undo, "u", "undo", "step the series back over its last change")
        .command("stavel undo SERIES"),
    TableRow::new(Common::Redo, "U", "redo", "step the series forth over what was undone last")
        .command("stavel redo SERIES"),
    TableRow::new(Common::UndoAct, "z", "", "step back over the last whole act, whatever it was of")
        .command("stavel undo"),
    TableRow::new(Common::RedoAct, "Z", "", "step forth over the act that was undone last")
        .command("stavel redo"),
    TableRow::new(Common::SaveRecipe, "S", "", "save what was done to this shelf as a recipe").rare(),
    TableRow::new(
        Common::Stop,
        "Esc",
        "",
        "leave what is innermost; where there is nothing to leave, stop the job that runs",
    )
    .rare(),
    TableRow::new(Common::Palette, ":", "palette", "find any act by its words"),
    TableRow::new(Common::Keys, "?", "keys", "every key"),
    TableRow::new(Common::Warnings, "!", "", "the warnings of this session").rare(),
    TableRow::new(Common::Quit, "q", "quit", "leave the bench"),
];

/// An act of the table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Act {
    Common(Common),
    /// Opens the lens at this place of the bar.
    Open(usize),
    /// The row at a place of the rows of the lens at a place.
    OfLens {
        lens: usize,
        row: usize,
    },
}

/// A line of the table.
pub struct Line {
    pub act: Act,
    pub key: String,
    /// The place and the word of the lens it belongs to; none for everywhere.
    pub lens: Option<(usize, &'static str)>,
    pub short: &'static str,
    pub about: String,
    pub command: Option<&'static str>,
    pub is_rare: bool,
}

impl Line {
    /// The line of a row.
    pub fn of<A>(row: &TableRow<A>, act: Act, lens: Option<(usize, &'static str)>) -> Line {
        Line {
            act,
            key: row.key.to_owned(),
            lens,
            short: row.short,
            about: row.about.to_owned(),
            command: row.command,
            is_rare: row.is_rare,
        }
    }

    /// The word of its lens; empty for everywhere.
    pub fn lens_word(&self) -> &'static str {
        self.lens.map_or("", |(_, word)| word)
    }
}

/// The whole table.
pub struct ActTable {
    pub lines: Vec<Line>,
}

impl ActTable {
    /// The table of lenses in the order of the bar: the lines of each, those of everywhere, and one that opens each.
    pub fn new(lenses: impl Iterator<Item = (Vec<Line>, &'static str)>) -> ActTable {
        let (mut lines, mut open) = (Vec::new(), Vec::new());
        for (place, (own, about)) in lenses.enumerate() {
            lines.extend(own);
            let key = (place + 1).to_string();
            let row = TableRow::new((), "", "", about).rare();
            open.push(Line { key, ..Line::of(&row, Act::Open(place), None) });
        }
        lines.extend(COMMON.iter().map(|row| Line::of(row, Act::Common(row.act), None)));
        lines.extend(open);
        ActTable { lines }
    }

    /// The act of a key in a lens: the lens' own first, then what holds everywhere.
    pub fn act_of(&self, key: KeyEvent, lens: usize) -> Option<Act> {
        if key.modifiers.contains(KeyModifiers::CONTROL) {
            return (key.code == KeyCode::Char('c')).then_some(Act::Common(Common::Quit));
        }
        let name = key_name(key.code)?;
        self.lines_for(lens).find(|l| l.key == name).map(|l| l.act)
    }

    /// The lines that hold in a lens: its own, then those of everywhere.
    pub fn lines_for(&self, lens: usize) -> impl Iterator<Item = &Line> {
        let own = self.lines.iter().filter(move |l| l.lens.is_some_and(|(place, _)| place == lens));
        own.chain(self.lines.iter().filter(|l| l.lens.is_none()))
    }

    /// Gives the lines of a lens, or of everywhere for an empty word, other keys: by the key that each has.
    pub fn rebind(&mut self, lens: &str, keys: &BTreeMap<String, String>) -> Result<(), String> {
        let printable = stavel_core::error::printable;
        let is_there = |l: &&mut Line| l.lens_word() == lens;
        let has = |key: &str| self.lines.iter().any(|l| l.lens_word() == lens && l.key == key);
        if let Some(key) = keys.keys().find(|key| !has(key)) {
            return Err(format!("'{}' is no key there", printable(key)));
        }
        for line in self.lines.iter_mut().filter(is_there) {
            let Some(wanted) = keys.get(&line.key) else { continue };
            let is_key = NAMED.contains(&wanted.as_str()) || wanted.chars().count() == 1 && wanted != " ";
            if !is_key {
                return Err(format!(
                    "'{}' is no key: one character, or {}",
                    printable(wanted),
                    NAMED.join(", ")
                ));
            }
            line.key.clone_from(wanted);
        }
        let mut own: Vec<&str> =
            self.lines.iter().filter(|l| l.lens_word() == lens).map(|l| l.key.as_str()).collect();
        own.sort_unstable();
        match own.windows(2).find(|w| w[0] == w[1]) {
            Some(twice) => Err(format!("'{}' would mean two things", printable(twice[0]))),
            None => Ok(()),
        }
    }

    /// The key list as a Markdown table, for the docs.
    pub fn key_list(&self) -> String {
        let mut out = String::from("| where | key | what it does |\n|---|---|---|\n");
        for line in &self.lines {
            let place = line.lens.map_or("everywhere", |(_, word)| word);
            out.push_str(&format!("| {place} | `{}` | {} |\n", line.key, line.about));
        }
        out
    }
}

/// Keys that have a name.
const NAMED: [&str; 8] = ["Space", "Enter", "Esc", "Tab", "Left", "Right", "Up", "Down"];

fn key_name(code: KeyCode) -> Option<String> {
    Some(match code {
        KeyCode::Char(' ') => "Space".into(),
        KeyCode::Char('=') => "+".into(),
        KeyCode::Char(c) => c.to_string(),
        KeyCode::Enter => "Enter".into(),
        KeyCode::Esc => "Esc".into(),
        KeyCode::Tab => "Tab".into(),
        KeyCode::Left => "Left".into(),
        KeyCode::Right => "Right".into(),
        KeyCode::Up => "Up".into(),
        KeyCode::Down => "Down".into(),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use crate::lens;

    #[test]
    fn no_key_means_two_things_in_one_place() {
        let table = lens::table(&lens::all());
        for (i, a) in table.lines.iter().enumerate() {
            for b in &table.lines[i + 1..] {
                assert!(a.lens != b.lens || a.key != b.key, "{} and {}", a.about, b.about);
            }
        }
    }

    #[test]
    fn the_docs_list_the_keys_as_they_are() {
        let docs = include_str!("../../../docs/keys.md");
        let list = lens::table(&lens::all()).key_list();
        assert!(docs.contains(&list), "docs/keys.md is not what the table says:\n{list}");
    }
}
