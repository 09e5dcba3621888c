//! The intake form: what is to be taken in, how it is understood, and corrections of that.

use std::sync::Arc;

use ratatui::crossterm::event::{KeyCode, KeyEvent};
use stavel_core::intake::{IntakePlan, Planned, plan};
use stavel_core::model::{DateOrder, Layout, Stamp, Use};
use stavel_work::{IntakeStep, Step, hints_of};
use tui_input::Input;

use crate::browser::Browser;
use crate::jobs::Slot;
use crate::outcome::OverlayOutcome;
use crate::typing::{edit, paths_in, type_text};
use crate::view::View;

/// Labels of the fields, with a word on what belongs there.
pub const FIELDS: [(&str, &str); 4] = [
    ("path", "files, folders, archives, patterns; ↓ looks through the folders"),
    ("source", "the vendor or broker it comes from"),
    ("instrument", "empty: told from the file's name or a column"),
    ("clock", "empty: told from the file; UTC, UTC+3, Europe/Oslo, …, or afloat"),
];

/// The place after the fields: the columns of the file.
pub const COLUMNS: usize = FIELDS.len();

/// The form. What it was read for lives with it.
#[derive(Default)]
pub struct IntakeForm {
    pub typed: [Input; 4],
    /// The field that is typed in; [`COLUMNS`] for the columns below.
    pub at: usize,
    pub planned: Slot<Planned>,
    /// What was understood last: a correction that no file can be read by is made on it.
    understood: Option<Arc<Planned>>,
    /// The plan that is shown, where there are several.
    pub shown: usize,
    /// The column under the cursor.
    pub column: usize,
    /// A layout as it was found, and as it was corrected by hand.
    pub corrected: Option<(Layout, Layout)>,
    pub stamp: Option<Stamp>,
    pub replace: bool,
    pub browser: Option<Browser>,
}

impl IntakeForm {
    /// The form as it is opened: the browser is open, so that files can be chosen at once.
    pub fn opened(view: &View<'_>) -> IntakeForm {
        let recent = view.snapshot.journal.iter().filter_map(|l| toml::from_str(&l.step).ok());
        IntakeForm { browser: Some(Browser::open(None, recent)), ..IntakeForm::default() }
    }

    /// What is typed in a field.
    pub fn text(&self, field: usize) -> &str {
        self.typed[field].value()
    }

    /// The step the form stands for; a corrected layout goes by the name it is saved under.
    pub fn step(&self) -> IntakeStep {
        let alone = self.planned.get().is_some_and(|p| p.plans.len() == 1);
        let some = |i: usize| Some(self.text(i).trim().to_owned()).filter(|t| !t.is_empty());
        IntakeStep {
            paths: paths_in(self.text(0)),
            source: self.text(1).trim().into(),
            instrument: some(2),
            clock: some(3),
            stamp: self.stamp,
            replace: self.replace,
            // Among several, each file is known by its own layout, the corrected one too once it is saved.
            layout: self.corrected.as_ref().filter(|_| alone).map(|_| self.layout_name()),
            ..Default::default()
        }
    }

    /// The name under which a corrected layout is saved.
    fn layout_name(&self) -> String {
        let known = self.plan().and_then(|p| p.files[0].1.name.clone());
        known.unwrap_or_else(|| {
            format!("{}-{}", self.text(1).trim(), if self.has_bars() { "bars" } else { "ticks" })
        })
    }

    fn has_bars(&self) -> bool {
        self.plan().is_some_and(|p| p.series.frame.is_bars())
    }

    /// The plan that is shown.
    pub fn plan(&self) -> Option<&IntakePlan> {
        let plans = &self.planned.get().or(self.before_correction())?.plans;
        plans.get(self.shown.min(plans.len().saturating_sub(1)))
    }

    /// What was understood before a correction that the files cannot be read by.
    pub fn before_correction(&self) -> Option<&Arc<Planned>> {
        self.understood.as_ref().filter(|_| self.corrected.is_some())
    }

    /// The layout of the plan that is shown, as it was corrected.
    pub fn layout<'a>(&'a self, plan: &'a IntakePlan) -> &'a Layout {
        let known = &plan.files[0].1;
        let is_of_this = |(found, corrected): &&(Layout, Layout)| {
            self.planned.get().is_none() || found.is_like(known) || corrected.is_like(known)
        };
        self.corrected.as_ref().filter(is_of_this).map_or(known, |(_, corrected)| corrected)
    }

    /// Pasted text; paths that a terminal puts in when files are dropped on it, too.
    pub fn paste(&mut self, text: &str) {
        let at = self.at.min(FIELDS.len() - 1);
        let field = &mut self.typed[at];
        if at == 0 && !field.value().is_empty() && !field.value().ends_with(' ') {
            type_text(field, " ");
        }
        type_text(field, text);
    }

    /// Has the files looked at, once a path and a source are there.
    pub fn want(&mut self, view: &View<'_>) {
        let step = IntakeStep { layout: None, ..self.step() };
        if step.paths.is_empty() || step.source.is_empty() || self.browser.is_some() {
            return;
        }
        if let Some(planned) = self.planned.get() {
            self.understood = Some(planned.clone());
        }
        let corrected = self.corrected.clone();
        let key = format!("{step:?} {:?}", corrected.as_ref().map(|(_, l)| l.to_toml()));
        self.planned.want(key, view.threads, move |shelf, _| {
            let mut hints = hints_of(shelf, &step)?;
            hints.corrected.clone_from(&corrected);
            plan(shelf, &step.paths, &hints)
        });
    }

    /// Takes what was understood of the files.
    pub fn collect(&mut self) {
        self.planned.collect();
    }

    /// A key.
    pub fn key(&mut self, key: KeyEvent, view: &View<'_>) -> OverlayOutcome {
        if let Some(browser) = self.browser.take() {
            match browser.key(key) {
                Ok(open) => self.browser = Some(open),
                Err(chosen) => {
                    for path in chosen {
                        self.paste(&quoted(&path));
                    }
                }
            }
            return OverlayOutcome::Stay;
        }
        match key.code {
            KeyCode::Esc => return OverlayOutcome::Close,
            KeyCode::Enter => return self.take(),
            KeyCode::Tab => self.at = (self.at + 1) % (COLUMNS + 1),
            KeyCode::BackTab => self.at = (self.at + COLUMNS) % (COLUMNS + 1),
            KeyCode::PageDown => self.shown += 1,
            KeyCode::PageUp => self.shown = self.shown.saturating_sub(1),
            _ if self.at == COLUMNS => self.key_in_columns(key.code),
            KeyCode::Down if self.at == 0 => {
                let recent = view.snapshot.journal.iter().filter_map(|l| toml::from_str(&l.step).ok());
                self.browser = Some(Browser::open(paths_in(self.text(0)).last(), recent));
                self.typed[0].reset();
            }
            KeyCode::Down => self.at += 1,
            KeyCode::Up => self.at = self.at.saturating_sub(1),
            _ => {
                edit(&mut self.typed[self.at], key);
                // Other files need no correction made for these.
                if self.at == 0 {
                    self.corrected = None;
                }
            }
        }
        let most = self.planned.get().map_or(0, |p| p.plans.len().saturating_sub(1));
        self.shown = self.shown.min(most);
        OverlayOutcome::Stay
    }

    fn key_in_columns(&mut self, code: KeyCode) {
        let Some(mut layout) = self.plan().map(|p| self.layout(p).clone()) else { return };
        let last = layout.columns.len().saturating_sub(1);
        match code {
            KeyCode::Left => return self.column = self.column.saturating_sub(1),
            KeyCode::Right => return self.column = (self.column + 1).min(last),
            KeyCode::Up | KeyCode::Down => {
                let Some(used) = layout.columns.get(self.column.min(last)) else { return };
                let chosen = neighbour(used, code == KeyCode::Down);
                // No two columns are one thing: the other one gives way.
                layout.columns.iter_mut().filter(|u| **u == chosen).for_each(|u| *u = Use::Skip);
                layout.columns[self.column.min(last)] = chosen;
            }
            KeyCode::Char('d') => {
                layout.dates = match layout.dates {
                    DateOrder::YearFirst => DateOrder::DayFirst,
                    DateOrder::DayFirst => DateOrder::MonthFirst,
                    DateOrder::MonthFirst => DateOrder::YearFirst,
                }
            }
            KeyCode::Char(',') => {
                layout.numbers.decimal = if layout.numbers.decimal == b'.' { b',' } else { b'.' }
            }
            KeyCode::Char('s') => {
                let now = self.plan().map(|p| p.stamp).unwrap_or_default();
                self.stamp = Some(if now == Stamp::Open { Stamp::Close } else { Stamp::Open });
                return;
            }
            KeyCode::Char('r') => return self.replace = !self.replace,
            KeyCode::Char('x') => return self.corrected = None,
            _ => return,
        }
        layout.name = None;
        let found = match self.corrected.take() {
            Some((found, _)) => found,
            None => self.plan().map_or_else(|| layout.clone(), |p| p.files[0].1.clone()),
        };
        self.corrected = Some((found, layout));
    }

    /// Takes the files in. A corrected layout is saved with them, so that such files are known next time; not
    /// where nothing could be taken.
    fn take(&mut self) -> OverlayOutcome {
        let step = self.step();
        if step.paths.is_empty() || step.source.is_empty() {
            self.at = usize::from(!step.paths.is_empty());
            return OverlayOutcome::Say("a path and a source are needed".into());
        }
        let corrected = self.corrected.as_ref().map(|(_, layout)| (self.layout_name(), layout.clone()));
        OverlayOutcome::Start(
            Box::new(Step::Intake(step)),
            corrected.map(|(name, layout)| (name, Box::new(layout))),
        )
    }
}

/// The use before or after one in the list of all; a value of a fact begins the list.
fn neighbour(used: &Use, next: bool) -> Use {
    let all = Use::all();
    let at = all.iter().position(|u| u == used).unwrap_or(0);
    all[(at + if next { 1 } else { all.len() - 1 }) % all.len()].clone()
}

fn quoted(path: &std::path::Path) -> String {
    let text = path.to_string_lossy();
    if text.contains(' ') { format!("'{text}'") } else { text.into_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_column_is_changed_under_the_cursor_and_the_other_gives_way() {
        let dir = tempfile::tempdir().unwrap();
        let shelf = stavel_core::store::Shelf::open(dir.path()).unwrap();
        let path = dir.path().join("NOKSEK.csv");
        std::fs::write(&path, "2024-03-13 10:00:00Z,1.5,1.6,3,4\n2024-03-13 10:00:01Z,1.5,1.6,3,4\n")
            .unwrap();
        let hints = stavel_core::intake::Hints { source: "quill".into(), ..Default::default() };
        let planned = plan(&shelf, std::slice::from_ref(&path), &hints).unwrap();
        let mut form = IntakeForm { at: COLUMNS, ..Default::default() };
        form.typed[0] = Input::new(path.to_string_lossy().into_owned());
        form.typed[1] = Input::new("quill".into());
        form.planned.value = Some(Ok(Arc::new(planned)));
        assert_eq!(form.step().layout, None);
        form.key_in_columns(KeyCode::Right);
        form.key_in_columns(KeyCode::Down);
        let corrected = form.corrected.clone().unwrap().1;
        let words: Vec<&str> = corrected.columns.iter().map(Use::word).collect();
        assert_eq!(words, ["moment", "ask", "-", "bid_volume", "ask_volume"]);
        assert_eq!(form.step().layout.as_deref(), Some("quill-ticks"));
        form.key_in_columns(KeyCode::Char('d'));
        assert_eq!(form.corrected.clone().unwrap().1.dates, DateOrder::DayFirst);
        // A correction that the file cannot be read by: the editor stays, with what was corrected.
        let understood = form.planned.get().unwrap().clone();
        form.understood = Some(understood);
        form.planned.value = Some(Err(stavel_core::Error::input("No row can be read.")));
        let words = |form: &IntakeForm| -> Vec<String> {
            let plan = form.plan().expect("the editor stays in view");
            form.layout(plan).columns.iter().map(|u| u.word().to_owned()).collect()
        };
        assert_eq!(words(&form)[1], "ask");
        form.key_in_columns(KeyCode::Down);
        assert_ne!(words(&form)[1], "ask");
        form.key_in_columns(KeyCode::Char('x'));
        assert!(form.corrected.is_none());
    }
}
