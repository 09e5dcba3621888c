//! Rehearsals that are kept as they go on, and taken up again.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use stavel_core::Result;
use stavel_core::job::Job;
use stavel_core::model::Micros;
use stavel_core::model::time::wall;
use stavel_core::store::Shelf;
use stavel_work::{
    KeptHead, KeptMark, KeptRehearsal, RehearsalFile, RehearsalOut, RehearsalTable, kept_rehearsals,
    layout_named, moment_svg, read_rehearsal, write_beside, write_rehearsal,
};

use super::{RehearseLens, RehearseQuestion};
use crate::effect::{Effect, Effects, ask, tell_done, warn};
use crate::view::View;

/// How far time has come is kept at least so often.
const OFTEN: Duration = Duration::from_secs(2);

/// What is kept of the rehearsal that is on.
#[derive(Default)]
pub struct Kept {
    folder: PathBuf,
    file: Option<RehearsalFile>,
    /// What is taken up again, and its file.
    pub again: Option<KeptRehearsal>,
    path: Option<PathBuf>,
    pub marks: Vec<KeptMark>,
    /// What is said once it plays.
    pub told: Option<String>,
    since: Duration,
}

impl Kept {
    /// Another rehearsal begins: with the file of the one that is taken up again, else with none.
    pub fn anew(&mut self, folder: &Path) {
        self.folder = folder.to_owned();
        let path = self.path.take();
        self.file =
            path.zip(self.again.as_ref()).and_then(|(path, again)| RehearsalFile::go_on(&path, again).ok());
        self.since = Duration::ZERO;
    }

    /// True where it is time to keep how far it has come.
    pub fn is_due(&mut self, passed: Duration) -> bool {
        self.since += passed;
        self.since >= OFTEN
    }
}

/// A name for a rehearsal that begins now.
fn name_now(instrument: &str) -> String {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).map_or(0, |now| now.as_secs());
    let now = wall(now as Micros * 1_000_000);
    let plain: String = instrument.chars().filter(char::is_ascii_alphanumeric).collect();
    format!("{plain}-{}-{}", &now[..10].replace('-', ""), &now[11..16].replace(':', ""))
}

/// What is to be written, as it was typed.
fn rehearsal_out(text: &str, shelf: &Shelf) -> Result<RehearsalOut> {
    let (path, layout) = match text.trim().rsplit_once(" by ") {
        Some((before, layout)) => (before.trim(), Some(layout_named(shelf, layout.trim())?)),
        None => (text.trim(), None),
    };
    let (path, table) = match path.rsplit_once(' ') {
        Some((before, table)) if table.parse::<RehearsalTable>().is_ok() => {
            (before.trim(), table.parse().unwrap_or_default())
        }
        _ => (path, RehearsalTable::Fills),
    };
    Ok(RehearsalOut { table, layout, ..RehearsalOut::of(Path::new(path)) })
}

impl RehearseLens {
    /// Keeps the rehearsal where it can be taken up again; before anything was done there is nothing to keep.
    pub(super) fn save(&mut self) {
        self.kept.since = Duration::ZERO;
        let Some(play) = &mut self.play else { return };
        let log = play.replay.log().to_vec();
        if self.kept.file.is_none() {
            if log.is_empty() && play.bookmarks.is_empty() {
                return;
            }
            let series =
                play.played.iter().map(|one| (one.info.name.clone(), one.info.edition.number)).collect();
            let (rules, account) = (self.rules.clone(), self.account.clone());
            let beside = play.beside();
            let head = KeptHead {
                series,
                beside,
                begin: self.begin,
                until: self.until,
                rules,
                account,
                blind: self.blind,
            };
            match RehearsalFile::begin(&self.kept.folder, &name_now(&play.series().instrument), head) {
                Ok(file) => self.kept.file = Some(file),
                Err(err) => return play.trouble = Some(err),
            }
        }
        if let Some(Err(err)) = self.kept.file.as_mut().map(|file| file.keep(&log, &play.bookmarks, play.now))
        {
            play.trouble = Some(err);
        }
    }

    pub(super) fn ask_which_to_take_up(&mut self, view: &View<'_>) -> Effects {
        let all = kept_rehearsals(view.threads.root());
        let on = self.kept.file.as_ref().map(RehearsalFile::name);
        let names: Vec<String> =
            all.into_iter().map(|(name, _)| name).filter(|name| Some(name) != on.as_ref()).collect();
        let Some(latest) = names.first() else { return warn("no earlier rehearsal is kept") };
        self.asked = Some(RehearseQuestion::TakeUp);
        let others = names.iter().skip(1).take(4).cloned().collect::<Vec<_>>().join(", ");
        let label = if others.is_empty() {
            "take up again".to_owned()
        } else {
            format!("take up again (also {others})")
        };
        ask(label, latest.clone())
    }

    /// Writes what was rehearsed so far: a file or a folder, then what a table holds and its layout, as `run.csv trades by day-first`.
    pub(super) fn write_report(&mut self, text: &str, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return warn(super::NOTHING_PLAYS) };
        let written = Shelf::open(view.threads.root()).and_then(|shelf| {
            let out = rehearsal_out(text, &shelf)?;
            write_rehearsal(&shelf, play, &out, &Job::unwatched())
        });
        match written {
            Ok(written) => tell_done(written.in_words().join("; ")),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// Chooses another line of the journal.
    pub(super) fn choose_line(&mut self, down: bool) -> Effects {
        let lines = self.play.as_ref().map_or(0, |play| super::journal::lines(play).len());
        let last = lines.saturating_sub(1);
        self.journal_line = if down {
            (self.journal_line + 1).min(last)
        } else {
            self.journal_line.min(last).saturating_sub(1)
        };
        Effects::new()
    }

    /// Writes the picture of a line of the journal: nothing that came after it is in it.
    pub(super) fn write_moment(&mut self, line: usize, text: &str, view: &View<'_>) -> Effects {
        let Some(play) = &self.play else { return warn(super::NOTHING_PLAYS) };
        let made = Shelf::open(view.threads.root())
            .and_then(|shelf| moment_svg(&shelf, play, line, &Job::unwatched()));
        let path = Path::new(text.trim());
        match made {
            Ok(Some(svg)) => match write_beside(path, svg.as_bytes()) {
                Ok(told) => tell_done(told),
                Err(err) => vec![Effect::Complain(err)],
            },
            Ok(None) => warn("there are no two bars before that moment"),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// Takes a rehearsal up again, where its rows are still the same.
    pub(super) fn take_up(&mut self, name: &str, view: &View<'_>) -> Effects {
        let all = kept_rehearsals(view.threads.root());
        let Some((_, path)) = all.into_iter().find(|(other, _)| other == name.trim()) else {
            return warn(format!("no rehearsal '{}' is kept", name.trim()));
        };
        let kept = match read_rehearsal(&path) {
            Ok(kept) => kept,
            Err(err) => return vec![Effect::Complain(err)],
        };
        for (series, number) in &kept.head.series {
            match view.snapshot.find(series) {
                None => return warn(format!("{series} is no longer on the shelf")),
                Some(info) if info.edition.number != *number => {
                    return warn(format!(
                        "{series} has other rows now (edition {} instead of {number}): it would come out differently",
                        info.edition.number
                    ));
                }
                Some(_) => {}
            }
        }
        let Some((first, _)) = kept.head.series.first().cloned() else { return warn("it plays nothing") };
        self.beside = kept.head.series.iter().skip(1).map(|(name, _)| name.clone()).collect();
        (self.rules, self.account) = (kept.head.rules.clone(), kept.head.account.clone());
        (self.blind, self.is_hidden) = (kept.head.blind, kept.head.blind.is_some());
        self.blind_series = kept.head.blind.and(kept.head.series.first()).map(|(name, _)| name.clone());
        let reached = kept.reached;
        self.until = kept.head.until;
        (self.kept.again, self.kept.path) = (Some(kept), Some(path));
        self.begin_anew(reached);
        let told = format!("taken up again at {}", wall(reached));
        self.kept.told = Some(told);
        vec![Effect::Select(first)]
    }
}
