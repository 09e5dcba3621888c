//! Acts and their changes: what `undo` and `redo` step over.
//!
//! Every act of a person is a line of the journal, and every change it makes in the catalog is kept
//! with what was there before and after. Undoing an act puts back what was before, change by change,
//! the last first; redoing puts back what was after. A new change of the same thing ends what could be
//! redone of it. Tidying does away with editions, and with the changes that lead to them.

use std::collections::{BTreeMap, BTreeSet};

use rusqlite::{Connection, params};
use serde::{Deserialize, Serialize};

use super::fact_kind::DRAWING;
use super::records::{self, InstrumentFact};
use super::sql::{journal_line, maybe};
use super::{EditionInfo, Shelf, editions, feed_pieces};
use crate::model::{Micros, OwnValues, SeriesName};
use crate::{Error, Result};

/// What a change is of.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ChangedThing {
    Series(i64),
    Instrument(String),
    Layout(String),
    /// Dated facts of an instrument; each change is of those that came with it.
    Facts(String),
}

/// How a subject stood before or after a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SubjectState {
    Series { name: SeriesName, current: Option<i64> },
    Instrument(OwnValues),
    Layout(String),
    Facts(Vec<InstrumentFact>),
}

/// What a step back or forth did to one thing.
#[derive(Debug, Clone)]
pub enum Stepped {
    /// A series: its name before and now, and its edition now; none where it is off the shelf.
    Series {
        /// Its name before.
        was: SeriesName,
        /// Its name now.
        name: SeriesName,
        /// The edition it has now; none where it is off the shelf.
        edition: Option<Box<EditionInfo>>,
    },
    /// A spec sheet, and whether the instrument is there now.
    Instrument {
        /// Its name now.
        name: String,
        /// True where it is there now.
        is_there: bool,
    },
    /// A saved layout.
    Layout {
        /// Its name now.
        name: String,
        /// True where it is there now.
        is_there: bool,
    },
    /// Dated facts that came or went.
    Facts {
        /// The instrument they are of.
        instrument: String,
        /// How many.
        count: usize,
        /// True where they are there now.
        are_there: bool,
        /// True where all of them are drawings.
        are_drawings: bool,
    },
}

/// An act that was stepped over.
#[derive(Debug, Clone)]
pub struct SteppedAct {
    /// What the journal says of the act.
    pub text: String,
    /// What it changed, each as it stands now.
    pub changes: Vec<Stepped>,
}

/// A change as it is kept.
struct RecordedChange {
    id: i64,
    act: i64,
    subject: ChangedThing,
    before: Option<SubjectState>,
    after: Option<SubjectState>,
}

fn as_text<T: Serialize>(value: &T) -> String {
    serde_json::to_string(value).unwrap_or_default()
}

/// Keeps a change that was made; what could be redone of the same thing is not any more.
pub fn record(
    db: &Connection,
    act: i64,
    subject: &ChangedThing,
    before: Option<&SubjectState>,
    after: Option<&SubjectState>,
) -> Result<()> {
    if before == after {
        return Ok(());
    }
    let key = as_text(subject);
    retire(db, &key)?;
    db.execute("DELETE FROM change WHERE subject = ?1 AND undone > 0", [&key])?;
    // Whole acts are stepped forth over only while nothing was done since; a series still may by itself.
    db.execute("UPDATE change SET undone = 2 WHERE undone = 1", [])?;
    db.execute(
        "INSERT INTO change (act, subject, before, after) VALUES (?1, ?2, ?3, ?4)",
        params![act, key, before.map(as_text), after.map(as_text)],
    )?;
    Ok(())
}

/// When each value of an instrument's spec sheet was said or found last, as far as its changes are kept.
pub fn value_dates(db: &Connection, instrument: &str) -> Result<BTreeMap<String, Micros>> {
    let mut query = db.prepare(
        "SELECT j.made, c.after FROM change c JOIN journal j ON j.id = c.act
         WHERE c.subject = ?1 AND c.undone = 0 ORDER BY c.id",
    )?;
    let subject = as_text(&ChangedThing::Instrument(instrument.to_owned()));
    let rows =
        query.query_map([subject], |r| Ok((r.get::<_, Micros>(0)?, r.get::<_, Option<String>>(1)?)))?;
    let (mut dates, mut before) = (BTreeMap::new(), OwnValues::default());
    for row in rows {
        let (made, after) = row?;
        let after = match after.as_deref().map(serde_json::from_str::<SubjectState>) {
            Some(Ok(SubjectState::Instrument(own))) => own,
            _ => OwnValues::default(),
        };
        for (was, is) in [(&before.said, &after.said), (&before.found, &after.found)] {
            dates.extend(is.iter().filter(|(k, v)| was.get(*k) != Some(v)).map(|(k, _)| (k.clone(), made)));
        }
        before = after;
    }
    Ok(dates)
}

/// Acts that were undone, and can no longer be redone, are no steps of what was done any more.
fn retire(db: &Connection, subject: &str) -> Result<()> {
    db.execute(
        "UPDATE journal SET step = '' WHERE id IN (SELECT act FROM change WHERE subject = ?1 AND undone > 0)
         AND NOT EXISTS (SELECT 1 FROM change c WHERE c.act = journal.id AND c.undone = 0)",
        [subject],
    )?;
    Ok(())
}

/// Forgets the changes of some series, which lead to editions that are gone.
pub fn forget(db: &Connection, series: &[i64]) -> Result<()> {
    for id in series {
        let key = as_text(&ChangedThing::Series(*id));
        retire(db, &key)?;
        db.execute("DELETE FROM change WHERE subject = ?1", [key])?;
    }
    Ok(())
}

fn changes(db: &Connection, filter: &str, values: impl rusqlite::Params) -> Result<Vec<RecordedChange>> {
    let mut query = db.prepare(&format!("SELECT id, act, subject, before, after FROM change {filter}"))?;
    let mut rows = query.query(values)?;
    let mut out = Vec::new();
    while let Some(row) = rows.next()? {
        let id: i64 = row.get(0)?;
        let damaged = |e: serde_json::Error| {
            Error::storage(format!("Change {id} in the catalog cannot be read ({e}); it cannot be undone."))
        };
        let state =
            |text: Option<String>| text.map(|t| serde_json::from_str(&t).map_err(damaged)).transpose();
        out.push(RecordedChange {
            id,
            act: row.get(1)?,
            subject: serde_json::from_str(&row.get::<_, String>(2)?).map_err(damaged)?,
            before: state(row.get(3)?)?,
            after: state(row.get(4)?)?,
        });
    }
    Ok(out)
}

/// True where the latest act of the catalog that still stands is not older than `act`.
fn is_latest(db: &Connection, act: i64) -> Result<bool> {
    let standing: Option<i64> =
        maybe(db, "SELECT max(act) FROM change WHERE undone = 0 HAVING max(act) IS NOT NULL", [])?;
    Ok(standing.is_none_or(|s| s < act))
}

/// Which way a step goes.
#[derive(Clone, Copy, PartialEq, Eq)]
enum StepDirection {
    Back,
    Forth,
}

impl Shelf {
    /// Begins an act: all that changes until it ends is undone and redone together. An act within another
    /// belongs to that one.
    ///
    /// # Errors
    /// Where the shelf was opened to read.
    pub fn begin_act(&mut self, step: &str) -> Result<()> {
        self.must_write()?;
        if self.depth == 0 {
            self.act = Some(journal_line(&self.db, "", step, "")?);
        }
        self.depth += 1;
        Ok(())
    }

    /// Says anew what the act under way does, where that is known only once it is done.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn name_act(&mut self, step: &str) -> Result<()> {
        if let Some(act) = self.act {
            self.db.execute("UPDATE journal SET step = ?1 WHERE id = ?2", params![step, act])?;
        }
        Ok(())
    }

    /// Ends an act with a sentence for the journal. An act that changed nothing and has nothing to say leaves
    /// no line.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn end_act(&mut self, series: &str, text: &str) -> Result<()> {
        self.depth = self.depth.saturating_sub(1);
        let Some(act) = self.act.filter(|_| self.depth == 0) else { return Ok(()) };
        self.act = None;
        self.db
            .execute("UPDATE journal SET series = ?1, text = ?2 WHERE id = ?3", params![series, text, act])?;
        if text.is_empty() {
            self.db.execute(
                "DELETE FROM journal WHERE id = ?1 AND NOT EXISTS (SELECT 1 FROM change WHERE act = ?1)",
                [act],
            )?;
        }
        Ok(())
    }

    /// Ends an act that failed: what it changed is as it was before.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn abandon_act(&mut self) -> Result<()> {
        self.depth = self.depth.saturating_sub(1);
        let Some(act) = self.act.filter(|_| self.depth == 0) else { return Ok(()) };
        self.act = None;
        for change in changes(&self.db, "WHERE act = ?1 ORDER BY id DESC", [act])? {
            self.step_over(&change, StepDirection::Back)?;
        }
        self.db.execute("DELETE FROM change WHERE act = ?1", [act])?;
        self.db.execute("DELETE FROM journal WHERE id = ?1", [act])?;
        Ok(())
    }

    /// The steps of all acts that were done and not undone, the first first, as they were noted.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn steps_done(&self) -> Result<Vec<String>> {
        let mut query = self.db.prepare(
            "SELECT step FROM journal j WHERE step <> '' AND (
                 EXISTS (SELECT 1 FROM change c WHERE c.act = j.id AND c.undone = 0)
                 OR NOT EXISTS (SELECT 1 FROM change c WHERE c.act = j.id)) ORDER BY id",
        )?;
        let steps = query.query_map([], |r| r.get(0))?;
        Ok(steps.collect::<rusqlite::Result<_>>()?)
    }

    /// The act that changes are kept under: the one that was begun, else one of its own.
    pub(super) fn act_id(&mut self) -> Result<i64> {
        match self.act {
            Some(act) => Ok(act),
            None => journal_line(&self.db, "", "", ""),
        }
    }

    /// Steps a series back over its last change. Its instrument goes with it, where that came with its first
    /// rows and has nothing else.
    ///
    /// # Errors
    /// Where there is no such series, or nothing to step back over.
    pub fn undo(&mut self, name: &SeriesName) -> Result<SteppedAct> {
        self.must_write()?;
        let key = as_text(&ChangedThing::Series(self.known_id(name)?));
        let last = changes(&self.db, "WHERE subject = ?1 AND undone = 0 ORDER BY id DESC LIMIT 1", [&key])?;
        let change = last.into_iter().next().ok_or_else(|| {
            Error::input(format!("{name} has nothing to step back over: older editions were tidied away."))
        })?;
        let act = change.act;
        let mut done = vec![self.step_over(&change, StepDirection::Back)?];
        if let Some(SubjectState::Series { name, .. }) = &change.after {
            done.extend(self.drop_empty_instrument(&name.instrument, act)?);
        }
        Ok(SteppedAct { text: self.text_of(act)?, changes: done })
    }

    /// Steps a series forth over the change that was undone last.
    ///
    /// # Errors
    /// Where there is no such series, or nothing to step forth over.
    pub fn redo(&mut self, name: &SeriesName) -> Result<SteppedAct> {
        self.must_write()?;
        let key = as_text(&ChangedThing::Series(self.known_id(name)?));
        let next = changes(&self.db, "WHERE subject = ?1 AND undone > 0 ORDER BY id LIMIT 1", [&key])?;
        let change = next.into_iter().next().ok_or_else(|| {
            Error::input(format!(
                "{name} has nothing to step forth over: nothing of it was undone since it changed."
            ))
        })?;
        let mut done = Vec::new();
        if let Some(SubjectState::Series { name, .. }) = &change.after
            && records::instrument(&self.db, &name.instrument)?.is_none()
        {
            let key = as_text(&ChangedThing::Instrument(name.instrument.clone()));
            for change in changes(&self.db, "WHERE subject = ?1 AND undone > 0 ORDER BY id LIMIT 1", [&key])?
            {
                done.push(self.step_over(&change, StepDirection::Forth)?);
            }
        }
        done.push(self.step_over(&change, StepDirection::Forth)?);
        Ok(SteppedAct { text: self.text_of(change.act)?, changes: done })
    }

    /// Steps back over the last whole act.
    ///
    /// # Errors
    /// Where there is none.
    pub fn undo_act(&mut self) -> Result<SteppedAct> {
        self.must_write()?;
        let act: Option<i64> =
            maybe(&self.db, "SELECT act FROM change WHERE undone = 0 ORDER BY act DESC LIMIT 1", [])?;
        let act = act.ok_or_else(|| Error::input("There is nothing to step back over."))?;
        let mut done = Vec::new();
        for change in changes(&self.db, "WHERE act = ?1 AND undone = 0 ORDER BY id DESC", [act])? {
            done.push(self.step_over(&change, StepDirection::Back)?);
        }
        Ok(SteppedAct { text: self.text_of(act)?, changes: done })
    }

    /// Steps forth over the act that was undone last, unless another was done since.
    ///
    /// # Errors
    /// Where there is none.
    pub fn redo_act(&mut self) -> Result<SteppedAct> {
        self.must_write()?;
        let act: Option<i64> =
            maybe(&self.db, "SELECT act FROM change WHERE undone = 1 ORDER BY act LIMIT 1", [])?;
        let act = act.filter(|act| is_latest(&self.db, *act).unwrap_or(false)).ok_or_else(|| {
            Error::input(
                "There is nothing to step forth over: no act was undone since the last one was done.",
            )
        })?;
        let mut done = Vec::new();
        for change in changes(&self.db, "WHERE act = ?1 AND undone = 1 ORDER BY id", [act])? {
            done.push(self.step_over(&change, StepDirection::Forth)?);
        }
        Ok(SteppedAct { text: self.text_of(act)?, changes: done })
    }

    /// The id of a series that is on the shelf or was.
    fn known_id(&self, name: &SeriesName) -> Result<i64> {
        if let Some(info) = self.current(name)? {
            return Ok(info.id);
        }
        let order = [name.built, !name.built];
        for built in order {
            if let Some(id) = editions::series_id(&self.db, name, built)? {
                return Ok(id);
            }
        }
        self.find(name).map(|s| s.id)
    }

    fn text_of(&self, act: i64) -> Result<String> {
        Ok(maybe(&self.db, "SELECT text FROM journal WHERE id = ?1", [act])?.unwrap_or_default())
    }

    /// Takes an instrument off the shelf that came with rows in `act`, once it has no rows any more.
    fn drop_empty_instrument(&mut self, instrument: &str, act: i64) -> Result<Option<Stepped>> {
        let used: i64 =
            self.db
                .query_row("SELECT count(*) FROM instrument WHERE parent = ?1", [instrument], |r| r.get(0))?;
        if used > 0 || editions::has_rows(&self.db, instrument)? {
            return Ok(None);
        }
        let key = as_text(&ChangedThing::Instrument(instrument.to_owned()));
        let last = changes(&self.db, "WHERE subject = ?1 AND undone = 0 ORDER BY id DESC LIMIT 1", [&key])?;
        match last.into_iter().next().filter(|c| c.act == act && c.before.is_none()) {
            Some(change) => self.step_over(&change, StepDirection::Back).map(Some),
            None => Ok(None),
        }
    }

    /// Puts back what was before or after a change, in one transaction, and moves the files it is about.
    fn step_over(&mut self, change: &RecordedChange, way: StepDirection) -> Result<Stepped> {
        let (from, to) = match way {
            StepDirection::Back => (&change.after, &change.before),
            StepDirection::Forth => (&change.before, &change.after),
        };
        let tx = self.db.transaction()?;
        let stepped = match &change.subject {
            ChangedThing::Series(id) => put_series(&tx, *id, to.as_ref())?,
            ChangedThing::Instrument(name) => {
                match to {
                    Some(SubjectState::Instrument(own)) => records::write_instrument(&tx, name, own)?,
                    _ => records::remove_instrument(&tx, name)?,
                }
                Stepped::Instrument { name: name.clone(), is_there: to.is_some() }
            }
            ChangedThing::Layout(name) => {
                match to {
                    Some(SubjectState::Layout(text)) => records::put_layout(&tx, name, text)?,
                    _ => records::remove_layout(&tx, name)?,
                }
                Stepped::Layout { name: name.clone(), is_there: to.is_some() }
            }
            ChangedThing::Facts(instrument) => {
                let (add, facts) = match (from, to) {
                    (_, Some(SubjectState::Facts(facts))) => (true, facts.as_slice()),
                    (Some(SubjectState::Facts(facts)), _) => (false, facts.as_slice()),
                    _ => (true, &[][..]),
                };
                match add {
                    true => drop(records::add_facts(&tx, instrument, facts)?),
                    false => records::remove_facts(&tx, instrument, facts)?,
                }
                // What feeds said has to be asked for again.
                for source in facts.iter().map(|fact| &fact.source).collect::<BTreeSet<_>>() {
                    feed_pieces::forget_documents(&tx, source)?;
                }
                let are_drawings = facts.iter().all(|fact| fact.kind == DRAWING);
                Stepped::Facts {
                    instrument: instrument.clone(),
                    count: facts.len(),
                    are_there: add,
                    are_drawings,
                }
            }
        };
        tx.execute(
            "UPDATE change SET undone = ?1 WHERE id = ?2",
            params![way == StepDirection::Back, change.id],
        )?;
        tx.commit()?;
        self.after_step(stepped, &change.subject)
    }

    /// Moves files to where they belong now and names the series as it is called now.
    fn after_step(&mut self, stepped: Stepped, subject: &ChangedThing) -> Result<Stepped> {
        let ChangedThing::Series(id) = subject else { return Ok(stepped) };
        self.finish_renames()?;
        self.settle(*id)?;
        let Stepped::Series { was, name, .. } = stepped else { return Ok(stepped) };
        let info = editions::exactly(&self.db, &name, name.built)?;
        let short = self.series_of(&name.instrument)?.into_iter().find(|s| s.id == *id);
        let shown = |n: SeriesName| short.as_ref().map_or(n.with_built(false), |s| s.name.clone());
        let was = if was == name { shown(was) } else { was };
        Ok(Stepped::Series { was, name: shown(name), edition: info.map(|i| Box::new(i.edition)) })
    }
}

/// Gives a series its name and current edition of another time.
fn put_series(db: &Connection, id: i64, to: Option<&SubjectState>) -> Result<Stepped> {
    let was = editions::stored_name(db, id)?;
    let (name, current) = match to {
        Some(SubjectState::Series { name, current }) => (name.clone(), *current),
        _ => (was.clone(), None),
    };
    if name != was {
        rename(db, id, &was, &name)?;
    }
    db.execute("UPDATE series SET current = ?1 WHERE id = ?2", params![current, id])?;
    Ok(Stepped::Series { was, name, edition: None })
}

/// Gives a series another name, and its segments the paths that go with it; the files are moved afterwards.
pub fn rename(db: &Connection, id: i64, from: &SeriesName, to: &SeriesName) -> Result<()> {
    if let Some(other) = editions::series_id(db, to, to.built)?.filter(|other| *other != id) {
        let holds: i64 =
            db.query_row("SELECT count(*) FROM edition WHERE series = ?1", [other], |r| r.get(0))?;
        if holds > 0 {
            return Err(Error::input(format!(
                "The shelf has a {to} already, or had one until it is tidied; choose another name."
            )));
        }
        // Only its numbers are left of it: the series that takes its name goes on with them.
        db.execute(
            "UPDATE series SET numbered = max(numbered, (SELECT numbered FROM series WHERE id = ?1)) WHERE id = ?2",
            [other, id],
        )?;
        db.execute("DELETE FROM series WHERE id = ?1", [other])?;
    }
    db.execute(
        "UPDATE series SET instrument = ?1, source = ?2, frame = ?3, built = ?4 WHERE id = ?5",
        params![to.instrument, to.source, to.frame_and_side(), to.built, id],
    )?;
    let (old, new) = (super::home::folder_of(from) + "/", super::home::folder_of(to) + "/");
    let paths: BTreeSet<String> = editions::standings(db, id)?.into_iter().map(|s| s.0).collect();
    for path in paths {
        let Some(rest) = path.strip_prefix(&old) else { continue };
        let renamed = format!("{new}{rest}");
        db.execute("UPDATE segment SET path = ?1 WHERE path = ?2", [&renamed, &path])?;
        db.execute("INSERT OR REPLACE INTO renaming (old, new) VALUES (?1, ?2)", [&path, &renamed])?;
    }
    Ok(())
}
