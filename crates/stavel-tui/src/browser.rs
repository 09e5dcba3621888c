//! Looking through folders for files to take in.

use std::path::{Path, PathBuf};

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use stavel_core::intake::is_table_name;
use stavel_work::Step;

use crate::canvas::{Canvas, bytes, scroll};
use crate::theme;

/// An entry of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
struct PathEntry {
    name: String,
    path: PathBuf,
    is_folder: bool,
    bytes: u64,
}

/// The list of a folder, narrowed by what is typed.
pub struct Browser {
    folder: PathBuf,
    entries: Vec<PathEntry>,
    /// Folders that files were taken from lately.
    recent: Vec<PathBuf>,
    typed: String,
    at: usize,
    chosen: Vec<PathBuf>,
}

impl Browser {
    /// Opens at a path that was typed, else at the place files were taken from last, else here.
    pub fn open(near: Option<&PathBuf>, steps: impl Iterator<Item = Step>) -> Browser {
        let mut recent: Vec<PathBuf> = Vec::new();
        for step in steps {
            let Step::Intake(step) = step else { continue };
            let folders =
                step.paths.iter().filter_map(|p| if p.is_dir() { Some(p.as_path()) } else { p.parent() });
            for folder in folders.filter_map(|f| f.canonicalize().ok()) {
                if !recent.contains(&folder) && recent.len() < 5 {
                    recent.push(folder);
                }
            }
        }
        let near =
            near.and_then(|p| if p.is_dir() { Some(p.clone()) } else { p.parent().map(Path::to_owned) });
        let start = near.and_then(|p| p.canonicalize().ok()).or(recent.first().cloned());
        let here = || std::env::current_dir().unwrap_or_else(|_| PathBuf::from("/"));
        let mut browser = Browser {
            folder: start.unwrap_or_else(here),
            entries: Vec::new(),
            recent,
            typed: String::new(),
            at: 0,
            chosen: Vec::new(),
        };
        browser.read();
        browser
    }

    fn read(&mut self) {
        let mut entries: Vec<PathEntry> = std::fs::read_dir(&self.folder)
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|e| {
                let (name, path) = (e.file_name().to_string_lossy().into_owned(), e.path());
                let meta = std::fs::metadata(&path).ok()?;
                let wanted = !name.starts_with('.') && (meta.is_dir() || is_table_name(&name));
                wanted.then(|| PathEntry { name, path, is_folder: meta.is_dir(), bytes: meta.len() })
            })
            .collect();
        entries.sort_by(|a, b| (!a.is_folder, &a.name).cmp(&(!b.is_folder, &b.name)));
        (self.entries, self.at) = (entries, 0);
        self.typed.clear();
    }

    /// The entries that have the typed words in their names, in any order.
    fn found(&self) -> Vec<&PathEntry> {
        let words: Vec<String> = self.typed.split_whitespace().map(str::to_lowercase).collect();
        let has_all = |e: &&PathEntry| {
            let name = e.name.to_lowercase();
            words.iter().all(|word| name.contains(word.as_str()))
        };
        self.entries.iter().filter(has_all).collect()
    }

    /// A key; gives the chosen paths when the list is left.
    pub fn key(mut self, key: KeyEvent) -> Result<Browser, Vec<PathBuf>> {
        let here = self.found().get(self.at).map(|e| (*e).clone());
        match key.code {
            KeyCode::Esc => return Err(self.chosen),
            KeyCode::Down => self.at = (self.at + 1).min(self.found().len().saturating_sub(1)),
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            KeyCode::Left => self.up(),
            KeyCode::Backspace if self.typed.is_empty() => self.up(),
            KeyCode::Backspace => {
                self.typed.pop();
                self.at = 0;
            }
            KeyCode::Tab if !self.recent.is_empty() => {
                let next = self.recent.iter().position(|r| *r == self.folder).map_or(0, |i| i + 1);
                self.folder = self.recent[next % self.recent.len()].clone();
                self.read();
            }
            KeyCode::Char(' ') => {
                if let Some(entry) = here {
                    match self.chosen.iter().position(|p| *p == entry.path) {
                        Some(i) => drop(self.chosen.remove(i)),
                        None => self.chosen.push(entry.path),
                    }
                    self.at = (self.at + 1).min(self.found().len().saturating_sub(1));
                }
            }
            KeyCode::Right | KeyCode::Enter => match here {
                Some(entry) if entry.is_folder && (key.code == KeyCode::Right || self.chosen.is_empty()) => {
                    self.folder = entry.path;
                    self.read();
                }
                Some(entry) if key.code == KeyCode::Enter => {
                    if self.chosen.is_empty() {
                        self.chosen.push(entry.path);
                    }
                    return Err(self.chosen);
                }
                _ => {}
            },
            KeyCode::Char(c) => {
                self.typed.push(c);
                self.at = 0;
            }
            _ => {}
        }
        Ok(self)
    }

    fn up(&mut self) {
        let before = self.folder.clone();
        if self.folder.pop() {
            self.read();
            self.at = self.entries.iter().position(|e| e.path == before).unwrap_or(0);
        }
    }

    pub fn draw(&self, canvas: &mut Canvas<'_>) {
        let x = canvas.put(1, 0, &self.folder.to_string_lossy(), theme::strong());
        let x = canvas.put(x + 2, 0, if self.typed.is_empty() { "" } else { "with " }, theme::faint());
        canvas.put(x, 0, &self.typed, theme::strong());
        if !self.chosen.is_empty() {
            let (width, text) = (canvas.width(), format!("{} chosen", self.chosen.len()));
            canvas.put_right(width - 1, 0, &text, theme::words().fg(theme::GOOD));
        }
        let found = self.found();
        let room = canvas.height().saturating_sub(2) as usize;
        let first = scroll(self.at, room, found.len());
        for (i, entry) in found.iter().enumerate().skip(first).take(room) {
            let y = (i - first) as u16 + 2;
            let mark = if self.chosen.contains(&entry.path) { "●" } else { " " };
            canvas.put(1, y, mark, theme::words().fg(theme::GOOD));
            let style = if i == self.at { theme::chosen() } else { theme::words() };
            let name = if entry.is_folder { format!("{}/", entry.name) } else { entry.name.clone() };
            canvas.put(3, y, &name, style);
            if !entry.is_folder {
                canvas.put_right(70, y, &bytes(entry.bytes), theme::faint());
            }
        }
        if found.is_empty() {
            canvas.put(3, 2, "nothing here that Stavel takes in", theme::faint());
        }
        let wide = canvas.width() >= 120;
        for (i, place) in self.recent.iter().enumerate().filter(|_| wide) {
            if i == 0 {
                canvas.put(80, 1, "recent places", theme::faint());
            }
            canvas.put(80, i as u16 + 2, &place.to_string_lossy(), theme::words());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_are_found_narrowed_and_marked() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["NOKSEK_1m.csv", "NOKSEK_2m.csv.gz", "NZDSEK.json", "notes.md", ".hidden.csv"] {
            std::fs::write(dir.path().join(name), "x").unwrap();
        }
        std::fs::create_dir(dir.path().join("more")).unwrap();
        let press = |b: Browser, code| b.key(KeyEvent::from(code));
        let mut browser = Browser::open(Some(&dir.path().to_owned()), std::iter::empty());
        let names = |b: &Browser| b.found().iter().map(|e| e.name.clone()).collect::<Vec<_>>();
        assert_eq!(names(&browser), ["more", "NOKSEK_1m.csv", "NOKSEK_2m.csv.gz", "NZDSEK.json"]);
        for c in "nok".chars() {
            browser = press(browser, KeyCode::Char(c)).ok().unwrap();
        }
        assert_eq!(names(&browser).len(), 2);
        for code in [KeyCode::Char(' '), KeyCode::Char(' ')] {
            browser = press(browser, code).ok().unwrap();
        }
        let chosen = press(browser, KeyCode::Enter).err().unwrap();
        let chosen: Vec<String> =
            chosen.iter().map(|p| p.file_name().unwrap().to_string_lossy().into_owned()).collect();
        assert_eq!(chosen, ["NOKSEK_1m.csv", "NOKSEK_2m.csv.gz"]);
    }
}
