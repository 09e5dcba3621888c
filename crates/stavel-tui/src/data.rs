//! What the bench knows of the shelf, read on another thread.

use std::collections::HashMap;
use std::sync::Arc;

use stavel_core::Result;
use stavel_core::check::known_checks;
use stavel_core::model::time::DAY;
use stavel_core::model::{Decision, Instrument, Micros, SeriesName, SeriesPattern, Span};
use stavel_core::store::{
    CheckMark, FactFilter, InstrumentFact, JournalLine, SeriesInfo, Shelf, StaleBecause, drawings_in,
    fact_names_of, own_fact_names,
};
use stavel_work::{Coverage, PlacedDrawing, Recipe, Step, assumed_of_rows, kept_rehearsals, placed_among};

/// What checks of whole editions found, by the editions' numbers in the catalog.
pub type CheckedEditions = HashMap<i64, CheckMark>;

/// The shelf at a moment.
#[derive(Clone, Default)]
pub struct Snapshot {
    pub instruments: Arc<Vec<Instrument>>,
    pub series: Arc<Vec<SeriesInfo>>,
    /// The latest acts, newest first.
    pub journal: Arc<Vec<JournalLine>>,
    /// By edition.
    pub coverage: HashMap<i64, Arc<Coverage>>,
    /// What the rows of current editions rest on that nobody said or found, by edition.
    assumed: Arc<HashMap<i64, Vec<Decision>>>,
    /// The places of an instrument's series among all.
    places: Arc<HashMap<String, Vec<usize>>>,
    /// What checks of current editions found, where it still holds.
    pub checked: Arc<CheckedEditions>,
    /// The sources of each instrument, in the order of their colours.
    sources: Arc<HashMap<String, Vec<String>>>,
    /// Why current editions are stale, by edition.
    stale: Arc<HashMap<i64, Vec<StaleBecause>>>,
    /// Dated facts by what they are about, in order of time.
    facts: Arc<HashMap<String, Vec<InstrumentFact>>>,
    /// The names of the feeds that have histories.
    pub feeds: Arc<Vec<String>>,
    /// When each series was delivered last, according to the journal.
    delivered: Arc<HashMap<SeriesName, Micros>>,
    /// The names of the rehearsals that are kept, each beginning with its instrument.
    rehearsals: Arc<Vec<String>>,
    pub version: i64,
}

impl Snapshot {
    /// Reads the catalog.
    pub fn read(shelf: &Shelf, before: &Snapshot) -> Result<Snapshot> {
        // Before all else: what changes while the rest is read is seen as a change afterwards.
        let version = shelf.version()?;
        let instruments = shelf.instruments()?;
        let series = shelf.series()?;
        let mut places: HashMap<String, Vec<usize>> = HashMap::new();
        for (i, info) in series.iter().enumerate() {
            places.entry(info.name.instrument.clone()).or_default().push(i);
        }
        let mut sources: HashMap<String, Vec<String>> = HashMap::new();
        for info in &series {
            sources.entry(info.name.instrument.clone()).or_default().push(info.name.source.clone());
        }
        for of_one in sources.values_mut() {
            // Results come after what was brought in, so that the colours of vendor and broker stay.
            of_one.sort_by_key(|s| (s == "joined", s.clone()));
            of_one.dedup();
        }
        // A feed whose text cannot be read is told where feeds are shown.
        let known = stavel_work::feeds(shelf).unwrap_or_default();
        let feeds = known.into_iter().filter(|feed| !feed.series.is_empty()).map(|feed| feed.name).collect();
        let journal = shelf.journal(JOURNAL)?;
        let rehearsals = kept_rehearsals(shelf.root()).into_iter().map(|(name, _)| name).collect();
        Ok(Snapshot {
            feeds: Arc::new(feeds),
            delivered: Arc::new(delivered_in(&journal)),
            rehearsals: Arc::new(rehearsals),
            instruments: Arc::new(instruments),
            series: Arc::new(series),
            places: Arc::new(places),
            sources: Arc::new(sources),
            journal: Arc::new(journal),
            coverage: before.coverage.clone(),
            stale: Arc::new(shelf.stale_editions()?),
            assumed: Arc::new(assumed_of(shelf)?),
            checked: Arc::new(known_checks(shelf)?),
            facts: Arc::new(facts_of(shelf)?),
            version,
        })
    }

    /// Reads the coverage of the series whose coverage is not known.
    pub fn with_coverage(mut self, shelf: &Shelf) -> Result<Snapshot> {
        for info in self.series.iter() {
            if let std::collections::hash_map::Entry::Vacant(entry) = self.coverage.entry(info.edition.id) {
                entry.insert(Arc::new(Coverage::of(shelf, info)?));
            }
        }
        Ok(self)
    }

    /// The dated facts that concern an instrument and are meant by a filter, in order of time.
    pub fn facts_about(&self, name: &str, filter: &FactFilter) -> Vec<&InstrumentFact> {
        let Some(instrument) = self.instrument(name) else { return Vec::new() };
        let like_of = |name: &str| Ok(self.instrument(name).and_then(|i| i.own.like.clone()));
        let own = own_fact_names(name, like_of).unwrap_or_default();
        let mut out: Vec<&InstrumentFact> = Vec::new();
        for shelved in fact_names_of(instrument, own) {
            let facts = self.facts.get(&shelved.name).map_or(&[][..], Vec::as_slice);
            out.extend(facts.iter().filter(|fact| filter.holds(fact) && shelved.concerns(fact)));
        }
        out.sort_by_key(|fact| fact.time);
        out
    }

    /// The drawings that have a place among the rows of a series. Those that cannot be read are told by the command.
    pub fn drawings_on(&self, info: &SeriesInfo) -> Vec<PlacedDrawing> {
        let facts = self.facts.get(&info.name.instrument).map_or(&[][..], Vec::as_slice);
        let drawings = drawings_in(facts).unwrap_or_default();
        placed_among(&drawings, info, self.series_of(&info.name.instrument))
    }

    /// Whether the present edition of a series was delivered, according to the journal.
    pub fn is_delivered(&self, info: &SeriesInfo) -> bool {
        self.delivered.get(&info.name).is_some_and(|at| *at >= info.edition.made)
    }

    /// Whether a rehearsal of an instrument is kept.
    pub fn is_rehearsed(&self, instrument: &str) -> bool {
        let plain: String = instrument.chars().filter(char::is_ascii_alphanumeric).collect();
        self.rehearsals.iter().any(|name| name.split('-').next() == Some(&plain))
    }

    /// One series.
    pub fn find(&self, name: &SeriesName) -> Option<&SeriesInfo> {
        self.series_of(&name.instrument).find(|s| s.name == *name)
    }

    /// What has changed of all that a series was made from; nothing where it is up to date.
    fn changes(&self, info: &SeriesInfo) -> &[StaleBecause] {
        self.stale.get(&info.edition.id).map_or(&[], Vec::as_slice)
    }

    /// Why a series is stale, in words; none where it is up to date.
    pub fn stale(&self, info: &SeriesInfo) -> Option<String> {
        let words: Vec<String> = self.changes(info).iter().map(StaleBecause::to_string).collect();
        (!words.is_empty()).then(|| words.join(", "))
    }

    /// What the rows of a series rest on that nobody said or found; nothing where all is known.
    pub fn assumed(&self, info: &SeriesInfo) -> &[Decision] {
        self.assumed.get(&info.edition.id).map_or(&[], Vec::as_slice)
    }

    /// One instrument.
    pub fn instrument(&self, name: &str) -> Option<&Instrument> {
        self.instruments.iter().find(|i| i.name == name)
    }

    /// The series of an instrument, in order of name.
    pub fn series_of<'a>(&'a self, instrument: &str) -> impl Iterator<Item = &'a SeriesInfo> + use<'a> {
        let places = self.places.get(instrument).map_or(&[][..], Vec::as_slice);
        places.iter().filter_map(|place| self.series.get(*place))
    }

    /// The sources of an instrument, in order of name; a source's place gives its colour.
    pub fn sources_of(&self, instrument: &str) -> &[String] {
        self.sources.get(instrument).map_or(&[], Vec::as_slice)
    }

    /// The colour of a series' source.
    pub fn colour_of(&self, name: &SeriesName) -> ratatui::style::Color {
        let place = self.sources_of(&name.instrument).iter().position(|s| *s == name.source).unwrap_or(0);
        crate::theme::source(place)
    }

    /// The series that were not framed from others: those the spine shows.
    pub fn roots_of<'a>(&'a self, instrument: &'a str) -> impl Iterator<Item = &'a SeriesInfo> {
        self.series_of(instrument).filter(|s| !s.edition.provenance.made.is_framed())
    }

    /// The series to read a chart of another from: one of its frames that is up to date and still has more bars in the
    /// window than there are columns, else itself.
    pub fn quick_source<'a>(&'a self, info: &'a SeriesInfo, window: Span, columns: usize) -> &'a SeriesInfo {
        let wanted = columns as i64 * 8;
        let is_frame = |s: &&SeriesInfo| {
            s.name.source == info.name.source
                && s.name.side == info.name.side
                && s.edition.provenance.made.is_framed()
                && s.edition.provenance.parents().any(|(id, _)| id == info.edition.id)
                && window.length() / s.name.frame.length().max(1) > wanted
                && s.name.frame.length() < DAY
                && s.edition.first <= info.edition.first + s.name.frame.length()
                && s.edition.last + s.name.frame.length() >= info.edition.last
                && self.changes(s).is_empty()
        };
        let frames = self.series_of(&info.name.instrument).filter(is_frame);
        frames.max_by_key(|s| s.name.frame.length()).unwrap_or(info)
    }
}

/// Lines of the journal that are read.
const JOURNAL: usize = 200;

/// When each series was delivered last. The whole job in one go notes its steps as a recipe.
fn delivered_in(journal: &[JournalLine]) -> HashMap<SeriesName, Micros> {
    let mut out: HashMap<SeriesName, Micros> = HashMap::new();
    // An operation has the time of its start: what it made is older than the line after it.
    let mut until = Micros::MAX;
    for line in journal {
        if line.step.contains("deliver") {
            let (steps, at) = match toml::from_str::<Step>(&line.step) {
                Ok(step) => (vec![step], line.made),
                Err(_) => (toml::from_str::<Recipe>(&line.step).map(|r| r.step).unwrap_or_default(), until),
            };
            for step in &steps {
                let Step::Deliver(step) = step else { continue };
                for name in step.series.iter().filter_map(SeriesPattern::exact) {
                    let known = out.entry(name).or_insert(at);
                    *known = at.max(*known);
                }
            }
        }
        until = line.made;
    }
    out
}

fn facts_of(shelf: &Shelf) -> Result<HashMap<String, Vec<InstrumentFact>>> {
    shelf.fact_names()?.into_iter().map(|name| Ok((name.clone(), shelf.facts(&name)?))).collect()
}

fn assumed_of(shelf: &Shelf) -> Result<HashMap<i64, Vec<Decision>>> {
    let mut all = HashMap::new();
    for info in shelf.series()? {
        let assumed = assumed_of_rows(shelf, &info.name)?;
        if !assumed.is_empty() {
            all.insert(info.edition.id, assumed);
        }
    }
    Ok(all)
}
