//! Recipes as files, and running them.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

use crate::patterns::reads_on;
use crate::report::StepReport;
use crate::step::{RollSetting, Step, step_with_older_keys, steps_with_older_keys};
use stavel_core::model::{Made, SeriesName};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// A list of steps in a TOML file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Recipe {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    #[serde(default)]
    pub step: Vec<Step>,
}

/// How a step of a recipe went.
pub enum Done {
    /// It was done now.
    Now(StepReport),
    /// Its inputs and settings are as when it was done before; this is what it said then.
    Before(Vec<String>),
}

impl Recipe {
    /// Reads a recipe. Paths in it are relative to its folder.
    ///
    /// # Errors
    /// A sentence with the place in the file.
    pub fn read(path: &Path) -> Result<Recipe> {
        let text = std::fs::read_to_string(path)
            .map_err(|e| Error::input(format!("The recipe {} cannot be read: {e}.", path.display())))?;
        let mut recipe = Recipe::from_text(&text, path)?;
        let folder = path.parent().unwrap_or(Path::new("")).to_owned();
        recipe.step.iter_mut().for_each(|s| s.place_in(&folder));
        Ok(recipe)
    }

    /// Reads the text of a recipe, with its paths as they are.
    ///
    /// # Errors
    /// A sentence with the place in the file at `path`.
    pub fn from_text(text: &str, path: &Path) -> Result<Recipe> {
        let read = toml::from_str::<Recipe>(text).or_else(|e| {
            let step = steps_with_older_keys(text).ok_or(e)?;
            let title =
                text.parse::<toml::Table>().ok().and_then(|t| Some(t.get("title")?.as_str()?.to_owned()));
            Ok(Recipe { title, step })
        });
        read.map_err(|e: toml::de::Error| {
            let line = e.span().map_or(0, |s| text[..s.start.min(text.len())].matches('\n').count() + 1);
            Error::input(format!(
                "The recipe {}, line {line}: {}.",
                path.display(),
                e.message().trim_end_matches('.')
            ))
        })
    }

    /// The recipe as the text of a file.
    pub fn to_text(&self) -> Result<String> {
        toml::to_string_pretty(self)
            .map_err(|e| Error::storage(format!("The recipe cannot be written: {e}.")))
    }
}

impl Step {
    /// Makes the step's paths relative to a folder.
    fn place_in(&mut self, folder: &Path) {
        let place = |p: &mut PathBuf| *p = folder.join(&*p);
        match self {
            Step::Intake(s) => s.paths.iter_mut().for_each(place),
            Step::Auto(s) => {
                s.files.iter_mut().chain(&mut s.broker).chain(&mut s.out).for_each(place);
            }
            Step::Deliver(s) => std::iter::once(&mut s.out).chain(&mut s.verify).for_each(place),
            Step::Dossier(s) => place(&mut s.out),
            Step::Chart(s) => std::iter::once(&mut s.out).chain(&mut s.orders).for_each(place),
            Step::Update(s) => s.recipe.iter_mut().for_each(place),
            Step::Rehearse(s) => {
                let paths = [&mut s.orders, &mut s.script, &mut s.out, &mut s.against];
                paths.into_iter().flatten().for_each(place);
            }
            Step::Check(s) => {
                let paths = [&mut s.mends, &mut s.save_mends, &mut s.report];
                paths.into_iter().flatten().for_each(place);
            }
            Step::Compose(s) => {
                let dates = s.roll.as_mut().and_then(RollSetting::file_mut);
                [&mut s.holidays, &mut s.edited].into_iter().flatten().chain(dates).for_each(place);
            }
            Step::Align(_)
            | Step::Draw(_)
            | Step::Fetch(_)
            | Step::Splice(_)
            | Step::Frames(_)
            | Step::Undo(_)
            | Step::Redo(_)
            | Step::Shelf(_) => {}
        }
    }

    /// Has every file that the step reads brought elsewhere: `bring` is given each and gives its new path.
    ///
    /// # Errors
    /// What `bring` gives.
    pub(crate) fn bring_inputs(&mut self, bring: &mut dyn FnMut(&Path) -> Result<PathBuf>) -> Result<()> {
        let inputs: Vec<&mut PathBuf> = match self {
            Step::Intake(s) => s.paths.iter_mut().collect(),
            Step::Auto(s) => s.files.iter_mut().chain(&mut s.broker).collect(),
            Step::Check(s) => s.mends.iter_mut().collect(),
            Step::Rehearse(s) => s.orders.iter_mut().chain(&mut s.script).chain(&mut s.against).collect(),
            Step::Compose(s) => {
                let dates = s.roll.as_mut().and_then(RollSetting::file_mut);
                s.holidays.iter_mut().chain(&mut s.edited).chain(dates).collect()
            }
            _ => Vec::new(),
        };
        for path in inputs {
            *path = bring(path)?;
        }
        Ok(())
    }

    /// Makes the step's paths absolute, so that it can be done from anywhere.
    ///
    /// # Errors
    /// Where the present folder is not known.
    pub(crate) fn with_absolute_paths(&mut self) -> Result<()> {
        let here = std::env::current_dir().map_err(|e| Error::io("Cannot find", Path::new("."), &e))?;
        self.place_in(&here);
        Ok(())
    }

    /// The layouts the step names.
    fn layouts(&self) -> Vec<&str> {
        match self {
            Step::Intake(s) => s.layout.as_deref().into_iter().collect(),
            Step::Deliver(s) => s.layout.iter().map(String::as_str).collect(),
            _ => Vec::new(),
        }
    }

    /// The files the step reads.
    fn input_files(&self) -> Vec<PathBuf> {
        match self {
            Step::Intake(s) => s.paths.clone(),
            Step::Auto(s) => s.files.iter().chain(&s.broker).cloned().collect(),
            Step::Check(s) => s.mends.iter().cloned().collect(),
            Step::Rehearse(s) => s.orders.iter().cloned().collect(),
            Step::Compose(s) => {
                let dates = s.roll.as_ref().and_then(RollSetting::file);
                s.holidays.iter().chain(&s.edited).chain(dates).cloned().collect()
            }
            _ => Vec::new(),
        }
    }
}

/// Everything that was done to a shelf and not undone, as a recipe.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn what_was_done(shelf: &Shelf) -> Result<Recipe> {
    let mut step = Vec::new();
    for text in shelf.steps_done()? {
        let one = toml::from_str(&text).ok().or_else(|| step_with_older_keys(&text));
        match (one, Recipe::from_text(&text, Path::new(""))) {
            (Some(one), _) => step.push(one),
            (_, Ok(run)) => step.extend(run.step),
            // Steps of a later version, or of one before, that this one cannot read.
            _ => {}
        }
    }
    Ok(Recipe { title: None, step })
}

/// Runs a recipe's steps in order with `act`, which does one step. A step whose inputs and settings are
/// as before, and whose results are still there, is not done again. `told` hears of each step.
///
/// # Errors
/// The first step that fails ends the run; its number is in the sentence.
pub fn run(
    shelf: &mut Shelf,
    recipe: &Recipe,
    mut act: impl FnMut(&mut Shelf, &Step) -> Result<StepReport>,
    mut told: impl FnMut(usize, &Step, &Done),
) -> Result<()> {
    let mut fresh: Vec<SeriesName> = Vec::new();
    for (number, step) in recipe.step.iter().enumerate() {
        let done = do_unless_done(shelf, step, &mut fresh, &mut act).map_err(|e| {
            if e.is_cancelled() {
                return e;
            }
            let place = format!("Step {} ({})", number + 1, step.act());
            if e.is_undecided() {
                return e.within(&place);
            }
            let input = Error::input(format!("{place}: {e}"));
            e.advice().cloned().map_or(input.clone(), |advice| input.advise(advice))
        })?;
        told(number, step, &done);
    }
    Ok(())
}

/// Does a step, unless its inputs and settings are as before and its results are still there. `fresh` are the series
/// that steps before it changed.
///
/// # Errors
/// What `act` gives, and where files or the catalog cannot be read.
pub fn do_unless_done(
    shelf: &mut Shelf,
    step: &Step,
    fresh: &mut Vec<SeriesName>,
    act: &mut dyn FnMut(&mut Shelf, &Step) -> Result<StepReport>,
) -> Result<Done> {
    let key = fingerprint(shelf, step)?;
    let record = shelf.done_before(&key)?.and_then(|text| serde_json::from_str::<DoneRecord>(&text).ok());
    let untouched = !reads_on(shelf, step)?.iter().any(|s| fresh.contains(s));
    // Only the feed itself knows whether it has more by now.
    if let Some(record) = record
        && !matches!(step, Step::Fetch(_) | Step::Update(_))
        && untouched
        && record.still_holds(shelf, step)?
    {
        return Ok(Done::Before(record.lines));
    }
    let reads = editions_of(shelf, &reads_on(shelf, step)?)?;
    let report = act(shelf, step)?;
    let (lines, files) = (report.lines.clone(), report.files.clone());
    let record = DoneRecord { lines, reads, made: editions_of(shelf, &report.changed)?, files };
    shelf.remember_done(&key, &serde_json::to_string(&record).unwrap_or_default())?;
    fresh.extend(report.changed.iter().cloned());
    Ok(Done::Now(report))
}

/// What a step did, to tell later whether it has to be done again.
#[derive(Serialize, Deserialize)]
struct DoneRecord {
    lines: Vec<String>,
    reads: Vec<(SeriesName, Option<i64>)>,
    made: Vec<(SeriesName, Option<i64>)>,
    files: Vec<PathBuf>,
}

impl DoneRecord {
    /// True where what the step made is still part of its series and is not stale, and what it read has not
    /// changed.
    fn still_holds(&self, shelf: &Shelf, step: &Step) -> Result<bool> {
        for (name, made) in &self.made {
            let Some(info) = shelf.current(name)? else { return Ok(false) };
            let made = made.unwrap_or_default();
            if !builds_on(shelf, &info.name, info.edition.id, made, step)?
                || !shelf.staleness(&info.edition)?.is_empty()
            {
                return Ok(false);
            }
        }
        // A pattern may name a series that was not there then.
        if reads_on(shelf, step)?.iter().any(|name| !self.reads.iter().any(|(read, _)| read == name)) {
            return Ok(false);
        }
        for (name, read) in self.reads.iter().filter(|(name, _)| !self.made.iter().any(|m| m.0 == *name)) {
            if shelf.current(name)?.map(|s| s.edition.id) != *read {
                return Ok(false);
            }
        }
        Ok(self.files.iter().all(|f| f.exists()))
    }
}

/// A key of everything that goes into a step beside the rows it reads: its settings, the files, the layout and
/// the values of spec sheets.
fn fingerprint(shelf: &Shelf, step: &Step) -> Result<String> {
    let mut hash = blake3::Hasher::new();
    hash.update(serde_json::to_string(step).unwrap_or_default().as_bytes());
    for path in step.input_files() {
        hash_path(&path, &mut hash)?;
    }
    for name in step.layouts() {
        if let Ok(layout) = crate::intake::layout_named(shelf, name) {
            hash.update(layout.to_toml().as_bytes());
        }
    }
    for instrument in reads_on(shelf, step)?.iter().map(|s| s.instrument.as_str()).collect::<BTreeSet<_>>() {
        if shelf.has_instrument(instrument)? {
            let values = shelf.instrument(instrument)?.values;
            hash.update(serde_json::to_string(&values).unwrap_or_default().as_bytes());
        }
    }
    Ok(hash.finalize().to_hex().to_string())
}

fn hash_path(path: &Path, hash: &mut blake3::Hasher) -> Result<()> {
    let failed =
        |e: std::io::Error| Error::input(format!("{} cannot be read: {e}; check the path.", path.display()));
    if path.is_dir() {
        let mut inside: Vec<PathBuf> =
            std::fs::read_dir(path).map_err(failed)?.flatten().map(|e| e.path()).collect();
        inside.sort();
        return inside.iter().try_for_each(|p| hash_path(p, hash));
    }
    hash.update(path.to_string_lossy().as_bytes());
    let mut file = std::fs::File::open(path).map_err(failed)?;
    std::io::copy(&mut file, hash).map_err(failed)?;
    Ok(())
}

fn editions_of(shelf: &Shelf, names: &[SeriesName]) -> Result<Vec<(SeriesName, Option<i64>)>> {
    names.iter().map(|n| Ok((n.clone(), shelf.current(n)?.map(|s| s.edition.id)))).collect()
}

/// True where an edition is `made` or was made from it, with no new rows taken in since (unless the
/// step took some in itself).
fn builds_on(shelf: &Shelf, name: &SeriesName, now: i64, made: i64, step: &Step) -> Result<bool> {
    let editions = shelf.editions(name)?;
    let mut at = Some(now);
    while let Some(edition) = at.and_then(|id| editions.iter().find(|e| e.id == id)) {
        if edition.id == made {
            return Ok(true);
        }
        if matches!(edition.provenance.made, Made::Intake(_)) && !matches!(step, Step::Intake(_)) {
            return Ok(false);
        }
        at = edition.before;
    }
    Ok(false)
}

#[cfg(test)]
mod tests {

    use stavel_core::job::Job;

    use super::*;
    use crate::apply;

    fn recipe_in(dir: &Path) -> Recipe {
        let mut rows = String::from("Time (UTC),Open,High,Low,Close,Volume\n");
        for i in 0..3000 {
            rows.push_str(&format!("2024-03-05 {:02}:{:02},1.0{i:04},1.2,1.0,1.1,5\n", i / 60 % 24, i % 60));
        }
        std::fs::write(dir.join("NOKSEK.csv"), rows.replacen("1.00007", "x", 1)).unwrap();
        let text = "[[step]]\nact = \"intake\"\npaths = [\"NOKSEK.csv\"]\nsource = \"quill\"\n\
            [[step]]\nact = \"check\"\nseries = \"NOKSEK@quill:1m\"\nmend = [\"duplicate_time\", \"conflicting_time\"]\n\
            [[step]]\nact = \"frames\"\nseries = \"NOKSEK@quill:1m\"\nframes = [\"5m\", \"1h\"]\n\
            [[step]]\nact = \"deliver\"\nseries = [\"NOKSEK@quill:1h\"]\nout = \"out/\"\n";
        std::fs::write(dir.join("r.toml"), text).unwrap();
        Recipe::read(&dir.join("r.toml")).unwrap()
    }

    fn done_now(shelf: &mut Shelf, recipe: &Recipe) -> Vec<&'static str> {
        let mut now = Vec::new();
        let act = |shelf: &mut Shelf, step: &Step| apply(shelf, step, &Job::unwatched());
        run(shelf, recipe, act, |_, step, done| now.extend(matches!(done, Done::Now(_)).then(|| step.act())))
            .unwrap();
        now
    }

    #[test]
    fn a_second_run_does_only_what_changed() {
        let (dir, shelf_dir) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let recipe = recipe_in(dir.path());
        let mut shelf = Shelf::open_to_write(shelf_dir.path()).unwrap();
        assert_eq!(done_now(&mut shelf, &recipe), ["intake", "check", "frames", "deliver"]);
        assert_eq!(done_now(&mut shelf, &recipe), [""; 0]);
        std::fs::remove_file(dir.path().join("out/NOKSEK_quill_1h.csv")).unwrap();
        assert_eq!(done_now(&mut shelf, &recipe), ["deliver"]);
        shelf.undo(&"NOKSEK@quill:1h".parse().unwrap()).unwrap();
        assert_eq!(done_now(&mut shelf, &recipe), ["frames", "deliver"]);
        let more =
            std::fs::read_to_string(dir.path().join("NOKSEK.csv")).unwrap() + "2024-03-06 10:00,1,1,1,1,1\n";
        std::fs::write(dir.path().join("NOKSEK.csv"), more).unwrap();
        assert_eq!(done_now(&mut shelf, &recipe), ["intake", "check", "frames", "deliver"]);
    }

    #[test]
    fn what_was_done_is_a_recipe_without_what_was_undone() {
        let (dir, shelf_dir) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let recipe = recipe_in(dir.path());
        let mut shelf = Shelf::open_to_write(shelf_dir.path()).unwrap();
        let acts = |shelf: &Shelf| -> Vec<&'static str> {
            what_was_done(shelf).unwrap().step.iter().map(Step::act).collect()
        };
        for step in &recipe.step[..3] {
            apply(&mut shelf, step, &Job::unwatched()).unwrap();
        }
        assert_eq!(acts(&shelf), ["intake", "check", "frames"]);
        shelf.undo_act().unwrap();
        assert_eq!(acts(&shelf), ["intake", "check"]);
        shelf.redo_act().unwrap();
        shelf.undo_act().unwrap();
        shelf.tidy(None, &Job::unwatched()).unwrap();
        assert_eq!(acts(&shelf), ["intake", "check"], "tidied, it is not done again");
        shelf.begin_act(&recipe.to_text().unwrap()).unwrap();
        done_now(&mut shelf, &recipe);
        shelf.end_act("", "run").unwrap();
        assert_eq!(acts(&shelf), ["intake", "check", "intake", "check", "frames", "deliver"]);
    }

    #[test]
    fn recipes_of_earlier_versions_mean_what_they_meant() {
        let read = |text: &str| Recipe::from_text(text, Path::new("r.toml"));
        let older = "title = \"t\"\n\
            [[step]]\nact = \"intake\"\npaths = [\"a.csv\"]\nsource = \"quill\"\nprefer_new = true\n\
            [[step]]\nact = \"shelf\"\ndo = \"rename\"\nseries = \"A@b:1m\"\nto = \"A@c:1m\"\n\
            [[step]]\nact = \"shelf\"\ndo = \"tidy\"\n";
        let newer = "title = \"t\"\n\
            [[step]]\nact = \"intake\"\npaths = [\"a.csv\"]\nsource = \"quill\"\nprefer = \"new\"\n\
            [[step]]\nact = \"shelf\"\nseries = \"A@b:1m\"\nrename = \"A@c:1m\"\n\
            [[step]]\nact = \"shelf\"\ntidy = true\n";
        assert_eq!(read(older).unwrap(), read(newer).unwrap());
        let unknown = read("[[step]]\nact = \"shelf\"\ndo = \"burn\"\n").unwrap_err().to_string();
        assert!(unknown.contains("line 1") && unknown.contains("do"), "{unknown}");
    }

    #[test]
    fn a_step_of_the_shelf_says_one_thing() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        for keys in ["", "remove = true\ntidy = true\nseries = \"A@b:1m\"\n"] {
            let step = toml::from_str(&format!("act = \"shelf\"\n{keys}")).unwrap();
            let err = apply(&mut shelf, &step, &Job::unwatched()).err().unwrap();
            assert!(err.to_string().contains("Say one of"), "{err}");
        }
    }

    #[test]
    fn the_docs_tell_every_key() {
        let told = include_str!("../../../docs/recipes.md");
        let table = crate::recipe_keys();
        assert!(told.contains(&table), "put this into docs/recipes.md:\n{table}");
    }

    #[test]
    fn steps_go_through_toml_and_mistakes_are_placed() {
        let dir = tempfile::tempdir().unwrap();
        let recipe = recipe_in(dir.path());
        let text = recipe.to_text().unwrap();
        std::fs::write(dir.path().join("again.toml"), &text).unwrap();
        assert_eq!(Recipe::read(&dir.path().join("again.toml")).unwrap().step.len(), 4);
        for (text, told) in [
            ("[[step]]\nact = \"dance\"\n", "line 2: unknown variant `dance`"),
            ("\n\n[[step]]\nact = \"undo\"\nseries = \"NOKSEK\"\n", "not a series"),
            ("[[step]]\nact = \"undo\"\nseries = \"A@b:1m\"\ncolour = 1\n", "colour"),
        ] {
            std::fs::write(dir.path().join("bad.toml"), text).unwrap();
            let err = Recipe::read(&dir.path().join("bad.toml")).unwrap_err().to_string();
            assert!(err.contains(told), "{err}");
        }
    }
}
