//! The shelf: every instrument and source on one time axis.

mod feeds;
mod history;
mod queue;

use std::collections::BTreeSet;
use std::path::PathBuf;

use stavel_core::job::Job;
use stavel_core::model::time::{HOUR, date, day_of, wall};
use stavel_core::model::{Clock, Decision, Made, SeriesName, Span};
use stavel_core::store::{EditionDiff, EditionInfo, SeriesInfo, Shelf, Verified};
use stavel_work::{
    AutoStep, ChartStep, ChartView, Coverage, FeedSight, FetchStep, ShelfStep, Step, StepReport, UpdateStep,
    feeds_seen,
};

use super::{FactLine, Lens, picture_of, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, bytes, scroll, thousands};
use crate::effect::{Effect, Effects, ask, say, start, tell_done, warn};
use crate::jobs::{Errand, Slot};
use crate::next::Task;
use crate::spine;
use crate::theme;
use crate::typing::paths_in;
use crate::view::View;

/// What can be done on the shelf.
#[derive(Debug, Clone, Copy)]
pub enum ShelfAct {
    Auto,
    Intake,
    OpenChart,
    Filter,
    Sort,
    History,
    Compare,
    Rename,
    Remove,
    Verify,
    Tidy,
    Feeds,
    FetchNew,
    FetchWindow,
    FetchFacts,
    MarkSeries,
    HoldQueue,
    BringForward,
    LeaveAway,
    Update,
}

/// The lens.
#[derive(Default)]
pub struct ShelfLens {
    sort: ListOrder,
    filter: String,
    /// The edition chosen, while the history of a series is shown.
    history: Option<usize>,
    editions: Slot<Vec<EditionInfo>>,
    /// The numbers of the editions that are compared, and what that gave in words.
    comparing: (i64, i64),
    comparison: Errand<EditionDiff>,
    compared: Option<String>,
    verified: Errand<Verified>,
    /// What was asked last.
    asked: Option<ShelfQuestion>,
    /// The series chosen among those of feeds, while these are shown.
    feeds: Option<usize>,
    fed: Slot<Vec<FeedSight>>,
    /// True while a queue is shown: Esc is for what it does then.
    is_fetching: bool,
    /// Series of feeds that are marked to be fetched in one go.
    marked: BTreeSet<SeriesName>,
}

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
enum ShelfQuestion {
    Filter,
    NewName(SeriesName),
    VendorFiles,
    BrokerFiles(Vec<PathBuf>),
    AutoOut(Vec<PathBuf>, Vec<PathBuf>),
    Remove(SeriesName),
    Tidy,
}

/// The order of the list.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum ListOrder {
    #[default]
    Name,
    Size,
    Changed,
    Depth,
}

impl ListOrder {
    fn next(self) -> (ListOrder, &'static str) {
        match self {
            ListOrder::Name => (ListOrder::Size, "the largest first"),
            ListOrder::Size => (ListOrder::Changed, "the last changed first"),
            ListOrder::Changed => (ListOrder::Depth, "those that reach back farthest first"),
            ListOrder::Depth => (ListOrder::Name, "by instrument and name"),
        }
    }
}

/// A line of the list: an instrument's name, or one of its series.
enum ListEntry<'a> {
    Instrument(&'a str),
    Series(&'a SeriesInfo),
}

impl Lens for ShelfLens {
    type Act = ShelfAct;
    const WORD: &'static str = "shelf";
    const ABOUT: &'static str = "the shelf: what there is";
    const ROWS: &'static [TableRow<ShelfAct>] = &[
        TableRow::new(ShelfAct::Intake, "i", "intake", "take files of a vendor or broker in")
            .command("stavel intake PATH --source S"),
        TableRow::new(
            ShelfAct::Auto,
            "A",
            "all in one go",
            "the whole job: a vendor and a broker in, one proved history out",
        )
        .command("stavel auto VENDOR-FILES --broker BROKER-FILES --out DIR"),
        TableRow::new(ShelfAct::OpenChart, "Enter", "chart", "see the chosen series on the chart"),
        TableRow::new(ShelfAct::Filter, "/", "filter", "show only series with some words in their names"),
        TableRow::new(ShelfAct::Sort, "s", "sort", "order by name, size, last change or depth"),
        TableRow::new(
            ShelfAct::History,
            "h",
            "history",
            "the editions of the series and what each was made from",
        )
        .command("stavel shelf SERIES --editions"),
        TableRow::new(ShelfAct::Compare, "c", "", "compare the chosen edition with the current one")
            .command("stavel shelf SERIES --compare EDITION")
            .rare(),
        TableRow::new(
            ShelfAct::Feeds,
            "f",
            "feeds",
            "what feeds have and what of it is here, or the list again",
        )
        .command("stavel feeds"),
        TableRow::new(ShelfAct::FetchNew, "n", "", "of the feed's series that is chosen, fetch what is new")
            .command("stavel fetch SERIES --new")
            .rare(),
        TableRow::new(
            ShelfAct::FetchWindow,
            "w",
            "",
            "of the feed's series that is chosen, fetch what lies in the window",
        )
        .command("stavel fetch SERIES --from T --to T")
        .rare(),
        TableRow::new(
            ShelfAct::FetchFacts,
            "e",
            "",
            "fetch what feeds say beside histories: dates, specs and costs",
        )
        .command("stavel fetch --facts")
        .rare(),
        TableRow::new(
            ShelfAct::MarkSeries,
            "m",
            "",
            "mark a feed's series, to fetch all that are marked in one go",
        )
        .rare(),
        TableRow::new(ShelfAct::HoldQueue, "v", "", "hold the queue of a fetch, or let it go on").rare(),
        TableRow::new(
            ShelfAct::BringForward,
            "b",
            "",
            "in the queue, fetch the series that is chosen before the others",
        )
        .rare(),
        TableRow::new(
            ShelfAct::LeaveAway,
            "d",
            "",
            "in the queue, leave the rest of the series that is chosen away",
        )
        .rare(),
        TableRow::new(
            ShelfAct::Update,
            "p",
            "update",
            "fetch what is new everywhere, make again what is made of it",
        )
        .command("stavel update"),
        TableRow::new(ShelfAct::Rename, "r", "rename", "give the series another name")
            .command("stavel shelf SERIES --rename NAME"),
        TableRow::new(ShelfAct::Remove, "x", "remove", "take the series off the shelf; undo brings it back")
            .command("stavel shelf SERIES --remove"),
        TableRow::new(ShelfAct::Verify, "V", "", "compare every file with what the catalog says of it")
            .command("stavel shelf --verify")
            .rare(),
        TableRow::new(ShelfAct::Tidy, "T", "", "do away with older editions and removed series")
            .command("stavel shelf --tidy")
            .rare(),
    ];

    fn act(&mut self, act: ShelfAct, view: &View<'_>) -> Effects {
        match (act, self.history) {
            (ShelfAct::Intake, _) => vec![Effect::TakeIn],
            (ShelfAct::Auto, _) => {
                self.asked = Some(ShelfQuestion::VendorFiles);
                ask("files or folders of the vendor", "")
            }
            (ShelfAct::OpenChart, _) => vec![Effect::Open("chart")],
            (ShelfAct::Feeds, _) => {
                self.feeds = if self.feeds.is_some() { None } else { Some(0) };
                // Asked anew each time: a feed may have more by now.
                self.fed.forget();
                Effects::new()
            }
            (ShelfAct::FetchNew | ShelfAct::FetchWindow, _) => self.fetch(act, view),
            (ShelfAct::FetchFacts, _) => {
                start(Step::Fetch(FetchStep { facts: true, ..FetchStep::default() }))
            }
            (ShelfAct::MarkSeries, _) => self.mark(view),
            (ShelfAct::HoldQueue | ShelfAct::BringForward | ShelfAct::LeaveAway, _) => self.steer(act, view),
            (ShelfAct::Update, _) => start(Step::Update(UpdateStep::default())),
            (ShelfAct::History, at) => {
                self.history = if at.is_some() { None } else { Some(0) };
                Effects::new()
            }
            (ShelfAct::Compare, Some(at)) => self.compare(at, view),
            (ShelfAct::Compare, None) => {
                say("h shows the history; there c compares an edition with the current one")
            }
            (ShelfAct::Sort, _) => {
                let (sort, words) = self.sort.next();
                self.sort = sort;
                say(words)
            }
            (ShelfAct::Filter, _) => {
                self.asked = Some(ShelfQuestion::Filter);
                ask("show series with these words in their names", &self.filter)
            }
            (ShelfAct::Verify, _) => {
                self.verified.send(view.threads, |shelf, job| shelf.verify(None, job));
                say("comparing every file with the catalog …")
            }
            (ShelfAct::Rename | ShelfAct::Remove | ShelfAct::Tidy, _) => self.ask_before(act, view),
        }
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if let Some(at) = self.feeds {
            let count = self.fed.get().map_or(0, |fed| feeds::series_of(fed).len());
            self.feeds = Some(step(at, count, down));
            return Effects::new();
        }
        if let Some(at) = self.history {
            let count = self.editions.get().map_or(0, |e| e.len());
            self.history = Some(step(at, count, down));
            self.compared = None;
            return Effects::new();
        }
        let series: Vec<&SeriesName> = self.listed(view).iter().map(|s| &s.name).collect();
        let at = series.iter().position(|s| Some(*s) == view.selected).unwrap_or(0);
        let next = series.get(step(at, series.len(), down));
        next.map(|name| Effect::Select((*name).clone())).into_iter().collect()
    }

    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        let is_yes = text == "yes" || text == "y";
        match self.asked.clone() {
            Some(ShelfQuestion::Filter) => {
                self.filter = text.to_owned();
                let listed = self.listed(view);
                let is_shown = listed.iter().any(|s| Some(&s.name) == view.selected);
                match listed.first() {
                    Some(first) if !is_shown => vec![Effect::Select(first.name.clone())],
                    Some(_) => Effects::new(),
                    None => warn("no series has these words; / changes them"),
                }
            }
            Some(ShelfQuestion::VendorFiles) => {
                self.ask_on(text, ShelfQuestion::BrokerFiles, "files or folders of the broker")
            }
            Some(ShelfQuestion::BrokerFiles(vendor)) => self.ask_on(
                text,
                |broker| ShelfQuestion::AutoOut(vendor.clone(), broker),
                "folder for the files and the recipe (empty: none)",
            ),
            Some(ShelfQuestion::AutoOut(files, broker)) => {
                let out = (!text.is_empty()).then(|| PathBuf::from(text));
                start(Step::Auto(AutoStep { out, ..AutoStep::of(files, broker) }))
            }
            Some(ShelfQuestion::NewName(series)) => match text.parse::<SeriesName>() {
                Ok(to) => {
                    let mut out = vec![Effect::Select(to.clone())];
                    let step = ShelfStep { series: Some(series), rename: Some(to), ..ShelfStep::default() };
                    out.extend(start(Step::Shelf(step)));
                    out
                }
                Err(err) => vec![Effect::Complain(err)],
            },
            Some(ShelfQuestion::Remove(series)) if is_yes => {
                start(Step::Shelf(ShelfStep { series: Some(series), remove: true, ..ShelfStep::default() }))
            }
            Some(ShelfQuestion::Tidy) if is_yes => {
                start(Step::Shelf(ShelfStep { tidy: true, ..ShelfStep::default() }))
            }
            _ => Effects::new(),
        }
    }

    /// The feeds first, then the history, then the filter.
    fn let_go(&mut self) -> bool {
        if self.feeds.is_some() && self.is_fetching {
            return false;
        }
        self.feeds.take().is_some()
            || self.history.take().is_some()
            || !std::mem::take(&mut self.filter).is_empty()
    }

    /// Has the history read, while it is shown.
    fn want(&mut self, view: &View<'_>) -> Effects {
        if let (Some(_), Some(series)) = (self.history, view.selected.cloned()) {
            let key = format!("{series} {}", view.snapshot.version);
            self.editions.want(key, view.threads, move |shelf, _| shelf.editions(&series));
        }
        self.is_fetching = view.job.is_some_and(|(job, _)| !job.lines().is_empty());
        if self.feeds.is_some() {
            self.fed.want(format!("{}", view.snapshot.version), view.threads, feeds_seen);
        }
        Effects::new()
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.editions.collect();
        self.fed.collect();
        let mut out = Effects::new();
        match self.comparison.collect() {
            Some(Ok(compared)) => self.compared = Some(compared_in_words(&compared, self.comparing)),
            Some(Err(err)) => out.push(Effect::Complain(err)),
            None => {}
        }
        match self.verified.collect() {
            Some(Ok(found)) => out.extend(verified_in_words(&found)),
            Some(Err(err)) => out.push(Effect::Complain(err)),
            None => {}
        }
        out
    }

    fn due(&self, view: &View<'_>) -> Option<(String, ShelfAct)> {
        if view.next().task != Task::Feeds {
            return None;
        }
        match self.feeds {
            None => Some(("see what the feeds have".into(), ShelfAct::Feeds)),
            Some(_) => self.fed_series().map(|name| (format!("fetch {name}"), ShelfAct::FetchNew)),
        }
    }

    fn reads(&self, _view: &View<'_>) -> Option<String> {
        (self.feeds.is_some() && self.fed.is_reading()).then(|| "asking the feeds …".into())
    }

    fn step_done(&mut self, step: &Step, _report: &StepReport) {
        if matches!(step, Step::Fetch(_)) {
            self.marked.clear();
        }
        self.compared = None;
        self.editions.forget();
        self.fed.forget();
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        picture_of(view, ChartView::Coverage)
    }

    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>) {
        if let Some(at) = self.feeds {
            self.draw_feeds(at, view, canvas);
            return;
        }
        match (self.history, view.selected) {
            (Some(at), Some(series)) => {
                let editions = self.editions.get().map(|e| e.as_slice());
                let shown =
                    history::ShownHistory { series, at, editions, compared: self.compared.as_deref() };
                history::draw(view, &shown, canvas);
            }
            _ => self.draw_list(view, canvas),
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let fed = self.feeds.zip(self.fed.get()).map(|(at, fed)| feeds::facts(fed, at));
        if let Some(facts) = fed.filter(|facts| !facts.is_empty()) {
            return facts;
        }
        view.series().map_or_else(Vec::new, |info| facts_of(info, view))
    }
}

impl ShelfLens {
    fn draw_feeds(&self, at: usize, view: &View<'_>, mut canvas: Canvas<'_>) {
        match &self.fed.value {
            None => {
                canvas.put(1, 0, "asking the feeds …", theme::faint());
            }
            Some(Err(why)) => {
                canvas.paragraph(0, &why.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(fed)) => feeds::draw(view, fed, (at, &self.marked), canvas),
        }
    }

    /// The series of a feed that is chosen.
    fn fed_series(&self) -> Option<SeriesName> {
        let fed = self.fed.get().filter(|_| self.feeds.is_some())?;
        let all = feeds::series_of(fed);
        all.get(self.feeds?).map(|(_, series)| series.listed.name.clone())
    }

    /// Marks the series that is chosen, or takes the mark away, and goes to the next.
    fn mark(&mut self, view: &View<'_>) -> Effects {
        let Some(series) = self.fed_series() else {
            return say("f shows what feeds have; there m marks series");
        };
        if !self.marked.remove(&series) {
            self.marked.insert(series);
        }
        self.choose(true, view)
    }

    /// Holds the queue of the fetch that runs, or changes its order.
    fn steer(&self, act: ShelfAct, view: &View<'_>) -> Effects {
        let Some((job, _)) = view.job.filter(|(job, _)| !job.lines().is_empty()) else {
            return say("nothing is being fetched; f shows what feeds have");
        };
        if matches!(act, ShelfAct::HoldQueue) {
            job.hold(!job.is_held());
            return say(if job.is_held() { "held: v goes on" } else { "going on" });
        }
        let name = self.fed_series().map(|series| series.to_string()).unwrap_or_default();
        if !job.lines().iter().any(|line| line.name == name) {
            return say("the series that is chosen is not in the queue");
        }
        if matches!(act, ShelfAct::BringForward) {
            job.bring_forward(&name);
            return say(format!("{name} comes first"));
        }
        job.change_line(&name, |line| line.is_left = true);
        say(format!("the rest of {name} is left away; n fetches it another time"))
    }

    /// Fetches the chosen series of a feed: what is new, or what lies in the window.
    fn fetch(&self, act: ShelfAct, view: &View<'_>) -> Effects {
        let fed = self.fed.get().filter(|_| self.feeds.is_some());
        let all = fed.map(|fed| feeds::series_of(fed)).unwrap_or_default();
        let Some((_, series)) = self.feeds.and_then(|at| all.get(at)) else {
            return say(
                "f shows what feeds have; there n fetches what is new of a series, w what lies in the window",
            );
        };
        let series = match self.marked.is_empty() {
            true => vec![series.listed.name.clone().into()],
            false => self.marked.iter().cloned().map(Into::into).collect(),
        };
        let wanted = FetchStep { series, ..FetchStep::default() };
        start(Step::Fetch(match act {
            ShelfAct::FetchWindow => {
                let (from, to) = (wall(view.window.from), wall(view.window.to));
                FetchStep { from: Some(from), to: Some(to), ..wanted }
            }
            _ => FetchStep { new: true, ..wanted },
        }))
    }

    /// Takes paths that were typed, and asks the next question.
    fn ask_on(
        &mut self,
        typed: &str,
        next: impl FnOnce(Vec<PathBuf>) -> ShelfQuestion,
        label: &str,
    ) -> Effects {
        let paths = paths_in(typed);
        if let Some(gone) = paths.iter().find(|p| !p.exists()) {
            return warn(format!("there is no {}", gone.display()));
        }
        if paths.is_empty() {
            return warn("name at least one file or folder");
        }
        self.asked = Some(next(paths));
        ask(label, "")
    }

    /// The series that pass the filter, in the order chosen.
    fn listed<'a>(&self, view: &View<'a>) -> Vec<&'a SeriesInfo> {
        let words: Vec<String> = self.filter.split_whitespace().map(str::to_lowercase).collect();
        let passes = |s: &&SeriesInfo| {
            // Without a filter no name is written out: a shelf may have thousands.
            words.is_empty() || {
                let name = s.name.to_string().to_lowercase();
                words.iter().all(|w| name.contains(w))
            }
        };
        let mut all: Vec<&SeriesInfo> = view.snapshot.series.iter().filter(passes).collect();
        match self.sort {
            ListOrder::Name => {}
            ListOrder::Size => all.sort_by_key(|s| std::cmp::Reverse(s.edition.bytes)),
            ListOrder::Changed => all.sort_by_key(|s| std::cmp::Reverse(s.edition.made)),
            ListOrder::Depth => all.sort_by_key(|s| s.edition.first),
        }
        all
    }

    /// The list with a line for each instrument above its series, where it is in order of name.
    fn entries<'a>(&self, view: &View<'a>) -> Vec<ListEntry<'a>> {
        let mut out = Vec::new();
        let mut before = "";
        for info in self.listed(view) {
            if self.sort == ListOrder::Name && info.name.instrument != before {
                before = &info.name.instrument;
                out.push(ListEntry::Instrument(before));
            }
            out.push(ListEntry::Series(info));
        }
        out
    }

    /// Asks before doing what cannot be undone, or what a slip of a key should not do.
    fn ask_before(&mut self, act: ShelfAct, view: &View<'_>) -> Effects {
        let Some(series) = view.selected.cloned() else { return say("no series is chosen") };
        let (asked, label, proposal) = match act {
            ShelfAct::Rename => {
                let name = series.to_string();
                (ShelfQuestion::NewName(series), format!("new name of {name}"), name)
            }
            ShelfAct::Tidy => {
                let words = "do away with all older editions and removed series? There is no undo after it. yes or no";
                (ShelfQuestion::Tidy, words.to_owned(), String::new())
            }
            _ => {
                let words = format!("take {series} off the shelf? yes or no");
                (ShelfQuestion::Remove(series), words, String::new())
            }
        };
        self.asked = Some(asked);
        ask(label, proposal)
    }

    /// Compares an edition of the history with the current one.
    fn compare(&mut self, at: usize, view: &View<'_>) -> Effects {
        let current = view.series().map(|s| s.edition.clone());
        let chosen = self.editions.get().and_then(|e| e.get(at)).cloned();
        if let (Some(current), Some(chosen)) = (current, chosen) {
            self.compared = Some("comparing …".into());
            self.comparing = (current.number, chosen.number);
            let work = move |shelf: &Shelf, job: &Job| shelf.compare(&chosen, &current, job);
            self.comparison.send(view.threads, work);
        }
        Effects::new()
    }

    fn draw_list(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let entries = self.entries(view);
        let all = view.snapshot.series.iter().map(|s| Span::new(s.edition.first, s.edition.last + HOUR));
        let Some(whole) = all.reduce(|a, b| Span::new(a.from.min(b.from), a.to.max(b.to))) else {
            draw_empty(view, &mut canvas);
            return;
        };
        let wide = canvas.width() >= 100;
        let (left, right) = (20u16, if wide { 48 } else { 14 });
        let columns = canvas.width().saturating_sub(left + right + 2).max(8);
        for (column, label) in spine::labels(whole, columns) {
            canvas.put(left + column, 0, &label, theme::faint());
        }
        match self.filter.is_empty() {
            true => canvas.put(1, 0, "═ sources overlap", theme::faint()),
            false => canvas.put(1, 0, &format!("filter: {}  Esc clears", self.filter), theme::strong()),
        };
        let after = left + columns + 1;
        canvas.put_right(after + 11, 0, "rows", theme::faint());
        if wide {
            canvas.put_right(after + 20, 0, "size", theme::faint());
            canvas.put(after + 22, 0, "clock", theme::faint());
            canvas.put(after + 44, 0, "ed.", theme::faint());
        }
        draw_journal(view, entries.len() as u16 + 2, &mut canvas);
        let rows = canvas.height().saturating_sub(1) as usize;
        let at =
            entries.iter().position(|e| matches!(e, ListEntry::Series(s) if Some(&s.name) == view.selected));
        let first = scroll(at.unwrap_or(0), rows, entries.len());
        let due = if wide { needs_of(&entries, view) } else { Vec::new() };
        for (i, entry) in entries.iter().enumerate().skip(first).take(rows) {
            let y = (i - first) as u16 + 1;
            match entry {
                ListEntry::Instrument(name) => {
                    canvas.put(1, y, name, theme::strong());
                    overlaps(view, name, whole, columns, |c, mark| {
                        canvas.put(left + c, y, mark, theme::faint());
                    });
                    if let Some((_, words)) = due.iter().find(|(first, _)| first == name).filter(|_| wide) {
                        canvas.put(after + 1, y, &format!("▸ {words}"), theme::faint());
                    }
                }
                ListEntry::Series(info) => {
                    let chosen = view.selected == Some(&info.name);
                    let colour = view.snapshot.colour_of(&info.name);
                    let style = if chosen { theme::chosen() } else { theme::words().fg(colour) };
                    let grouped = self.sort == ListOrder::Name;
                    let label = if grouped { info.name.short() } else { info.name.to_string() };
                    canvas.put(2, y, &format!(" {label:<16}"), style);
                    spine::strip(view.snapshot, info, whole, columns, |c, mark| {
                        canvas.put(left + c, y, mark, theme::words().fg(colour));
                    });
                    canvas.put_right(after + 11, y, &thousands(info.edition.rows), theme::words());
                    if wide {
                        canvas.put_right(after + 20, y, &bytes(info.edition.bytes), theme::faint());
                        let clock = info.edition.clock.as_ref().map_or("afloat".to_owned(), Clock::to_string);
                        let stale = view.snapshot.stale(info).is_some();
                        let is_made_up = view.snapshot.assumed(info).iter().any(|d| d.what == "rows");
                        let clock = if is_made_up { format!("{clock}  made up") } else { clock };
                        let (clock, style) = match (info.is_afloat(), stale) {
                            (true, _) => (clock, theme::words().fg(theme::WRONG)),
                            (_, true) => (format!("{clock}  ▲ stale"), theme::words().fg(theme::RISING)),
                            _ => (clock, theme::faint()),
                        };
                        canvas.put(after + 22, y, &clock, style);
                        canvas.put_right(after + 47, y, &info.edition.number.to_string(), theme::faint());
                    }
                }
            }
        }
    }
}

/// What instruments need next; what several need alike is named once, at the first of them.
fn needs_of<'a>(entries: &[ListEntry<'a>], view: &View<'_>) -> Vec<(&'a str, String)> {
    let mut out: Vec<(&str, String, usize)> = Vec::new();
    for entry in entries {
        let ListEntry::Instrument(name) = entry else { continue };
        let Some(next) = view.guide().of_instrument(name, view.selected) else { continue };
        match out.iter_mut().find(|(_, words, _)| *words == next.words) {
            Some((_, _, more)) => *more += 1,
            None => out.push((name, next.words, 0)),
        }
    }
    let told = |(name, words, more): (&'a str, String, usize)| match more {
        0 => (name, words),
        more => (name, format!("{words}, and of {more} more")),
    };
    out.into_iter().map(told).collect()
}

/// What can be done where there is nothing yet.
fn draw_empty(view: &View<'_>, canvas: &mut Canvas<'_>) {
    if !view.is_read {
        canvas.put(2, 2, "reading the shelf …", theme::faint());
        return;
    }
    canvas.put(2, 2, "The shelf is empty.", theme::words());
    let keys = [
        ("i", "takes in files of a vendor or broker: text, JSON, Parquet, sheets, folders, archives"),
        ("f", "shows what feeds have, the services of vendors and brokers, and fetches it"),
        ("A", "does the whole job in one go: a vendor's and a broker's files in, one proved history out"),
    ];
    let mut y = 4;
    for (key, what) in keys {
        canvas.put(2, y, key, theme::strong());
        let (width, height) = (canvas.width().saturating_sub(5), canvas.height().saturating_sub(y));
        y += canvas.part(4, y, width, height).paragraph(0, what, theme::words());
    }
}

fn compared_in_words(c: &EditionDiff, (here, there): (i64, i64)) -> String {
    let span =
        c.differs.map_or(String::new(), |(a, b)| format!("; differences from {} to {}", wall(a), wall(b)));
    format!(
        "edition {there} beside {here}: {} rows the same, {} changed, {} only in {there}, {} only in {here}{span}",
        thousands(c.same),
        thousands(c.changed),
        thousands(c.only_first),
        thousands(c.only_second)
    )
}

fn verified_in_words(found: &Verified) -> Effects {
    match found.faults.as_slice() {
        [] => {
            let rows = thousands(found.rows);
            tell_done(format!("{} files with {rows} rows are as the catalog has them", found.files))
        }
        [first, ..] => warn(format!("{} files are not as the catalog has them: {first}", found.faults.len())),
    }
}

/// How many sources have rows in each column: a thin line for one, a double one where they overlap, so
/// that one can be joined to, or checked against, the other.
fn overlaps(view: &View<'_>, instrument: &str, whole: Span, columns: u16, mut put: impl FnMut(u16, &str)) {
    let coverage_of = |source: &String| -> Vec<&Coverage> {
        let roots = view.snapshot.roots_of(instrument);
        let of_source = roots.filter(|s| s.name.source == *source && !s.edition.provenance.made.is_joined());
        of_source.filter_map(|s| view.snapshot.coverage.get(&s.edition.id).map(|c| &**c)).collect()
    };
    let sources: Vec<Vec<&Coverage>> = view.snapshot.sources_of(instrument).iter().map(coverage_of).collect();
    let step = (whole.length() / columns.max(1) as i64).max(1);
    for c in 0..columns {
        let span = Span::new(whole.from + c as i64 * step, whole.from + (c as i64 + 1) * step);
        match sources.iter().filter(|of_one| of_one.iter().any(|c| c.has_rows(span))).count() {
            0 => {}
            1 => put(c, "─"),
            _ => put(c, "═"),
        }
    }
}

/// What was done lately, where there is room below the list.
fn draw_journal(view: &View<'_>, y: u16, canvas: &mut Canvas<'_>) {
    let room = canvas.height().saturating_sub(y + 1);
    if room < 3 || view.snapshot.journal.is_empty() {
        return;
    }
    canvas.rule(y, theme::rule());
    canvas.put(1, y, " done lately ", theme::faint());
    for (i, line) in view.snapshot.journal.iter().take(room as usize).enumerate() {
        let x = canvas.put(1, y + 1 + i as u16, &wall(line.made)[..16], theme::rule().fg(theme::FAINT));
        canvas.put(x + 2, y + 1 + i as u16, &line.text, theme::words());
    }
}

/// What an edition says of how it was made.
fn how_made(made: &Made) -> Vec<FactLine> {
    let mut out = Vec::new();
    match made {
        Made::Intake(taken) => {
            for (label, rows) in [
                ("read", taken.rows_read),
                ("kept", taken.rows_kept),
                ("rejected", taken.rows_rejected),
                ("was there", taken.rows_already_there),
            ] {
                out.push(FactLine::Pair(label, thousands(rows)));
            }
            out.push(FactLine::words(taken.layout.clone()));
            out.extend(taken.decisions.iter().map(told));
        }
        Made::Check(mending) => {
            let words: Vec<String> =
                mending.counts.iter().map(|(mend, rows)| format!("{mend} {rows}")).collect();
            out.push(FactLine::words(format!("mended: {}", words.join(", "))));
        }
        _ => {}
    }
    out
}

/// A decision, how it is known and, where it is only assumed, why.
fn told(d: &Decision) -> FactLine {
    let why = if d.is_assumed() { format!(": {}", d.why) } else { String::new() };
    FactLine::words(format!("{} {} {} ({}){why}", d.standing.mark(), d.what, d.value, d.standing))
}

fn facts_of(info: &SeriesInfo, view: &View<'_>) -> Vec<FactLine> {
    let e = &info.edition;
    let mut out = vec![
        FactLine::heading(info.name.to_string()),
        FactLine::Pair("rows", thousands(e.rows)),
        FactLine::Pair("first", wall(e.first)),
        FactLine::Pair("last", wall(e.last)),
        FactLine::Pair("clock", e.clock.as_ref().map_or("afloat".into(), Clock::to_string)),
        FactLine::Pair("decimals", e.scale.price.to_string()),
        FactLine::Pair("columns", e.fields.iter().map(|f| f.name()).collect::<Vec<_>>().join(" ")),
        FactLine::Pair("size", bytes(e.bytes)),
        FactLine::Gap,
        FactLine::heading(format!("edition {}", e.number)),
        FactLine::Pair("made by", e.provenance.made.act().to_owned()),
        FactLine::Pair("on", date(day_of(e.made))),
    ];
    out.extend(how_made(&e.provenance.made));
    if !e.provenance.made.is_taken_in() {
        out.extend(view.snapshot.assumed(info).iter().map(told));
    }
    if let Some(clock) = e.clock.as_ref().filter(|_| e.provenance.made.is_aligned()) {
        out.push(FactLine::words(clock.in_words()));
    }
    if let Some(why) = view.snapshot.stale(info) {
        let how = match &e.provenance.made {
            Made::Splice(_) => "join again (5, a)",
            Made::Frames(_) => "build again (6, a)",
            _ => "build its rows again (7, a)",
        };
        out.push(FactLine::words(format!("▲ stale: {why}; {how}")));
    }
    out.push(FactLine::Gap);
    out.push(FactLine::heading("reaches back to"));
    for s in view.snapshot.series_of(&info.name.instrument).filter(|s| s.name.source == info.name.source) {
        out.push(FactLine::words(format!("{:<11} {}", s.name.frame_text(), date(day_of(s.edition.first)))));
    }
    out.push(FactLine::Gap);
    out.push(FactLine::words(if e.before.is_some() {
        "u steps back to the edition before"
    } else {
        "u takes it off the shelf"
    }));
    out
}
