//! Deliver: the first and last lines exactly as they will be written while the settings are changed, and what was
//! proved.

use ratatui::style::Style;
use stavel_core::deliver::{FileFormat, ReadyDelivery, first_lines, last_lines, partial_ends};
use stavel_core::model::Clock;
use stavel_core::model::layout::GENERAL;
use stavel_work::{
    AccountWish, ChartStep, ChartView, CostSheet, DeliverStep, Step, StepReport, cost_sheet, costs_csv,
    delivery_orders,
};

use super::deliver_costs;
use super::deliver_settings::{Choices, DeliverSetting, SETTINGS, place_of};
use super::{FactLine, Lens, picture_of};
use crate::act::TableRow;
use crate::canvas::{Canvas, bytes, cut_to, thousands};
use crate::effect::{Effect, Effects, ask, say, start, warn};
use crate::jobs::Slot;
use crate::next::Task;
use crate::theme;
use crate::view::View;

/// What can be done to deliver.
#[derive(Debug, Clone, Copy)]
pub enum DeliverAct {
    Before,
    Next,
    Type,
    Format,
    Layout,
    Clock,
    Deliver,
    ToFolder,
    Origins,
    Details,
    CompleteOnly,
    DeliverStale,
    SaveLayout,
    Usual,
    Costs,
    Copy,
}

/// What is asked for.
enum Asked {
    /// Where to write to.
    Path(Box<DeliverStep>),
    /// The value of a setting.
    Value(usize),
    /// The name of a layout.
    LayoutName(Box<DeliverStep>),
    /// The currency of the account.
    Account,
}

/// The lens.
#[derive(Default)]
pub struct DeliverLens {
    lines: Slot<EndLines>,
    /// Whether it fits, in words.
    fit: Slot<String>,
    /// Layouts that were saved.
    saved: Slot<Vec<String>>,
    /// Everything that is set; its series is chosen when it is used.
    wish: DeliverStep,
    /// A place among [`SETTINGS`].
    chosen: usize,
    /// What was delivered since the bench was opened, newest last.
    done: Vec<Delivered>,
    asked: Option<Asked>,
    /// True while the costs are shown instead of the lines.
    shows_costs: bool,
    costs: Slot<CostSheet>,
    /// The currency the costs are shown in; none for that of the prices.
    account: Option<AccountWish>,
}

/// The lines at both ends of a file.
struct EndLines {
    first: Vec<String>,
    last: Vec<String>,
}

/// A file that was delivered.
struct Delivered {
    path: String,
    rows: u64,
    bytes: u64,
    proved: bool,
}

/// Columns of the settings, where there is room for them beside the lines.
const SETTINGS_WIDTH: u16 = 40;
/// The folder that files go to unless a path is given, below the one in which the program was started.
const FOLDER: &str = "out/";
/// The width from which there is.
const WIDE: u16 = 100;

impl Lens for DeliverLens {
    type Act = DeliverAct;
    const WORD: &'static str = "deliver";
    const ABOUT: &'static str = "deliver: files that are proved";
    const ROWS: &'static [TableRow<DeliverAct>] = &[
        TableRow::new(DeliverAct::Deliver, "a", "deliver", "write the file and prove it")
            .command("stavel deliver SERIES --out PATH"),
        TableRow::new(
            DeliverAct::ToFolder,
            "D",
            "",
            "write the file to out/ and prove it, without asking for a path",
        )
        .rare(),
        TableRow::new(DeliverAct::Before, ",", "", "the choice before, of the setting that is chosen"),
        TableRow::new(DeliverAct::Next, ".", "change", "the next choice of the setting that is chosen"),
        TableRow::new(
            DeliverAct::Type,
            "e",
            "type",
            "type the setting that is chosen; of costs the account's currency",
        ),
        TableRow::new(DeliverAct::Format, "f", "format", "the next file format"),
        TableRow::new(
            DeliverAct::Layout,
            "l",
            "layout",
            "the next layout: those that ship, then those saved",
        ),
        TableRow::new(DeliverAct::Clock, "c", "clock", "times in UTC or in the instrument's clock"),
        TableRow::new(DeliverAct::SaveLayout, "w", "save layout", "save how lines are written under a name")
            .command("stavel layout save NAME FILE"),
        TableRow::new(
            DeliverAct::Costs,
            "v",
            "costs",
            "what trading the instrument costs, or the lines again",
        )
        .command("stavel costs INSTRUMENT"),
        TableRow::new(
            DeliverAct::Copy,
            "y",
            "copy",
            "copy the costs, or the lines shown, to the terminal's clipboard",
        ),
        TableRow::new(DeliverAct::Usual, "x", "usual", "everything as it is usual again"),
        TableRow::new(DeliverAct::Origins, "o", "origins", "write of each row where it comes from, or not")
            .rare(),
        TableRow::new(
            DeliverAct::Details,
            "d",
            "details",
            "write of bars also tick counts, both volumes and the ends of spreads, or not",
        )
        .rare(),
        TableRow::new(DeliverAct::CompleteOnly, "k", "partial", "leave partial bars away, or not").rare(),
        TableRow::new(DeliverAct::DeliverStale, "A", "as it is", "deliver the series although it is stale")
            .rare(),
    ];

    fn act(&mut self, act: DeliverAct, view: &View<'_>) -> Effects {
        match act {
            DeliverAct::Before => return self.turn(self.chosen, false, view),
            DeliverAct::Next => return self.turn(self.chosen, true, view),
            DeliverAct::Type if self.shows_costs => {
                self.asked = Some(Asked::Account);
                let said = self.account.as_ref().map_or(String::new(), |a| a.currency.clone());
                return ask("currency of the account (nothing: that of the prices)", said);
            }
            DeliverAct::Type => {
                let setting = &SETTINGS[self.chosen];
                self.asked = Some(Asked::Value(self.chosen));
                return ask(format!("{} (nothing: as usual)", setting.name), (setting.said)(&self.wish));
            }
            DeliverAct::Format => return self.turn(place_of("format"), true, view),
            DeliverAct::Layout => return self.turn(place_of("layout"), true, view),
            DeliverAct::Clock => return self.turn(place_of("clock"), true, view),
            DeliverAct::Origins => return self.turn(place_of("origins"), true, view),
            DeliverAct::Details => return self.turn(place_of("details"), true, view),
            DeliverAct::CompleteOnly => return self.turn(place_of("whole bars"), true, view),
            DeliverAct::Usual => (self.wish, self.shows_costs) = (DeliverStep::default(), false),
            DeliverAct::SaveLayout => return self.save_layout(),
            DeliverAct::Costs => self.shows_costs = !self.shows_costs,
            DeliverAct::Copy => return self.copy(),
            DeliverAct::Deliver => return self.deliver(false, view),
            DeliverAct::ToFolder => return self.deliver_to_folder(view),
            DeliverAct::DeliverStale => return self.deliver(true, view),
        }
        Effects::new()
    }

    fn choose(&mut self, down: bool, _view: &View<'_>) -> Effects {
        let last = SETTINGS.len() - 1;
        self.shows_costs = false;
        self.chosen = if down { (self.chosen + 1).min(last) } else { self.chosen.saturating_sub(1) };
        Effects::new()
    }

    fn due(&self, view: &View<'_>) -> Option<(String, DeliverAct)> {
        let next = view.next();
        let is_next = next.task == Task::Deliver && next.series.as_ref() == view.selected;
        let name = view.selected?.short();
        is_next.then(|| (format!("write {name} to {FOLDER} and prove it"), DeliverAct::ToFolder))
    }

    fn answer(&mut self, text: &str, _view: &View<'_>) -> Effects {
        match self.asked.take() {
            None => Effects::new(),
            Some(Asked::Path(step)) => {
                start(Step::Deliver(Box::new(DeliverStep { out: text.into(), ..*step })))
            }
            Some(Asked::Value(at)) => match (SETTINGS[at].say)(&mut self.wish, text.trim()) {
                Ok(()) => Effects::new(),
                Err(why) => warn(why),
            },
            Some(Asked::Account) => {
                let currency = text.trim().to_uppercase();
                self.account = Some(currency)
                    .filter(|c| !c.is_empty())
                    .map(|currency| AccountWish { currency, at: None });
                Effects::new()
            }
            Some(Asked::LayoutName(step)) => {
                self.saved.forget();
                vec![Effect::SaveLayout(text.trim().to_owned(), step)]
            }
        }
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.lines.collect();
        self.fit.collect();
        self.saved.collect();
        self.costs.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        self.saved.want(format!("{}", view.snapshot.version), view.threads, |shelf, _| {
            Ok(shelf.layouts()?.into_iter().filter_map(|layout| layout.name).collect())
        });
        if self.shows_costs && !view.instrument_name().is_empty() {
            let name = view.instrument_name().to_owned();
            let account = self.account.clone();
            let key = format!("{} {name} {account:?}", view.snapshot.version);
            self.costs.want(key, view.threads, move |shelf, job| {
                cost_sheet(shelf, &name, account.as_ref(), None, job)
            });
        }
        let Some(info) = view.series() else { return Effects::new() };
        let step =
            DeliverStep { series: vec![info.name.clone().into()], stale_ok: true, ..self.wish.clone() };
        let key = format!("{} {step:?}", info.edition.id);
        let lined = step.clone();
        self.lines.want(key.clone(), view.threads, move |shelf, _| {
            let order = delivery_orders(shelf, &lined)?.remove(0);
            Ok(EndLines { first: first_lines(shelf, &order, 40)?, last: last_lines(shelf, &order, 40)? })
        });
        self.fit.want(key, view.threads, move |shelf, _| {
            let order = delivery_orders(shelf, &step)?.remove(0);
            let prepared = ReadyDelivery::of(shelf, &order)?;
            let is_plain = order.format.is_text();
            let size = match prepared.bytes() {
                size if is_plain && size > 0 => format!(", about {}", bytes(size)),
                _ => String::new(),
            };
            Ok(format!("{} rows{size}", thousands(prepared.rows())))
        });
        Effects::new()
    }

    /// Remembers the files of a delivery.
    fn step_done(&mut self, step: &Step, report: &StepReport) {
        if !matches!(step, Step::Deliver(_)) {
            return;
        }
        for f in report.json["files"].as_array().into_iter().flatten() {
            self.done.push(Delivered {
                path: f["path"].as_str().unwrap_or_default().into(),
                rows: f["rows"].as_u64().unwrap_or(0),
                bytes: f["bytes"].as_u64().unwrap_or(0),
                proved: f["proved"] == true,
            });
        }
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        picture_of(view, ChartView::Costs)
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(series) = view.selected else {
            canvas.put(2, 1, "Nothing chosen to deliver.", theme::words());
            return;
        };
        let x = canvas.put(1, 0, &format!("{series}  "), theme::words());
        let (mark, told, colour) = self.fits();
        canvas.put(x, 0, &format!("{mark} {told}"), theme::words().fg(colour));
        let (width, height) = (canvas.width(), canvas.height());
        if self.shows_costs {
            self.draw_costs(canvas.part(0, 1, width, height.saturating_sub(1)));
            return;
        }
        let kept = self.done.len().clamp(1, 5) as u16;
        let body = height.saturating_sub(kept + 3);
        if width >= WIDE {
            self.draw_settings(view, canvas.part(0, 2, SETTINGS_WIDTH, body.saturating_sub(1)));
            let left = SETTINGS_WIDTH + 1;
            self.draw_lines(canvas.part(left, 2, width.saturating_sub(left), body.saturating_sub(1)));
        } else {
            self.draw_one_setting(view, canvas.part(0, 1, width, 1));
            self.draw_lines(canvas.part(0, 2, width, body.saturating_sub(1)));
        }
        let ends = view.series().map_or((false, false), partial_ends);
        let partial = match (self.wish.complete_only, ends) {
            (true, _) | (false, (false, false)) => "",
            (false, (true, true)) => "◐ the first and the last bar are partial (k leaves them away)",
            (false, (true, false)) => "◐ the first bar is partial (k leaves it away)",
            (false, (false, true)) => "◐ the last bar is partial (k leaves it away)",
        };
        canvas.put(1, body + 1, partial, theme::words());
        let y = body + 2;
        canvas.rule(y, theme::rule());
        self.draw_done(canvas.part(0, y + 1, width, kept));
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(info) = view.series() else { return Vec::new() };
        if let (true, Some(sheet)) = (self.shows_costs, self.costs.get()) {
            let mut out = vec![FactLine::heading("what is doubtful")];
            if sheet.doubts.is_empty() {
                out.push(FactLine::words("nothing"));
            }
            out.extend(sheet.doubts.iter().map(|doubt| FactLine::words(format!("▲ {doubt}"))));
            return out;
        }
        let setting = &SETTINGS[self.chosen];
        let mut out = vec![FactLine::heading(setting.name), FactLine::words(setting.about), FactLine::Gap];
        if let Some(why) = view.snapshot.stale(info) {
            out.push(FactLine::words(format!(
                "▲ {} is stale: {why}; build it again, or A delivers it as it is",
                info.name.short()
            )));
            out.push(FactLine::Gap);
        }
        out.extend([
            FactLine::heading(info.name.to_string()),
            FactLine::Pair("rows", thousands(info.edition.rows)),
            FactLine::Pair(
                "columns",
                info.edition.fields.iter().map(|f| f.name()).collect::<Vec<_>>().join(" "),
            ),
        ]);
        if info.edition.fields.contains(&stavel_core::model::Field::Spread) {
            out.push(FactLine::words("spread in points; empty where its source does not say it"));
        }
        out.extend([
            FactLine::words("[ ] another series"),
            FactLine::Gap,
            FactLine::heading("proof"),
            FactLine::words("A file counts as delivered when it was read back by other code and every row and digit was the same. A manifest beside it tells later whether it still is."),
        ]);
        out
    }
}

impl DeliverLens {
    /// The next or the previous choice of a setting.
    fn turn(&mut self, at: usize, on: bool, view: &View<'_>) -> Effects {
        (self.chosen, self.shows_costs) = (at, false);
        let setting = &SETTINGS[at];
        let mut choices = vec![String::new()];
        choices.extend(self.choices_of(setting, view));
        if choices.len() == 1 {
            return say(format!("{} is typed: e", setting.name));
        }
        let said = (setting.said)(&self.wish);
        let place = choices.iter().position(|c| *c == said).unwrap_or(0);
        let next = if on { place + 1 } else { place + choices.len() - 1 } % choices.len();
        match (setting.say)(&mut self.wish, &choices[next]) {
            Ok(()) => Effects::new(),
            Err(why) => warn(why),
        }
    }

    fn choices_of(&self, setting: &DeliverSetting, view: &View<'_>) -> Vec<String> {
        match setting.choices {
            Choices::Words(words) => words.iter().map(|w| (*w).to_owned()).collect(),
            Choices::Flag => vec!["yes".into()],
            Choices::Layouts => {
                let ships = GENERAL.iter().map(|g| g.name.to_owned());
                ships.chain(self.saved.get().into_iter().flat_map(|s| s.iter().cloned())).collect()
            }
            Choices::Clocks => {
                let own = view.instrument().map(|i| i.sheet.session.clock.clone());
                own.filter(|c| *c != Clock::utc()).map(|c| c.to_string()).into_iter().collect()
            }
        }
    }

    /// Whether what is set fits: a mark, words and their colour.
    fn fits(&self) -> (&'static str, String, ratatui::style::Color) {
        match &self.fit.value {
            None => ("·", "looking through its rows …".into(), theme::FAINT),
            Some(Ok(rows)) => ("✓", format!("can be written: {rows}"), theme::GOOD),
            Some(Err(_)) => ("▲", "cannot be written so".into(), theme::WRONG),
        }
    }

    fn value_of(&self, setting: &DeliverSetting) -> (String, Style) {
        let said = (setting.said)(&self.wish);
        let by_layout = setting.is_of_layout && !self.wish.layout.is_empty();
        match said.is_empty() {
            false => (said, theme::words()),
            true if by_layout => ("as the layout".into(), theme::faint()),
            true => (setting.usual.to_owned(), theme::faint()),
        }
    }

    fn draw_settings(&self, _view: &View<'_>, mut canvas: Canvas<'_>) {
        let rows = canvas.height() as usize;
        let from = crate::canvas::scroll(self.chosen, rows, SETTINGS.len());
        for (y, (at, setting)) in SETTINGS.iter().enumerate().skip(from).take(rows).enumerate() {
            let (value, style) = self.value_of(setting);
            let is_chosen = at == self.chosen;
            let (name, value_style) =
                if is_chosen { (theme::chosen(), theme::chosen()) } else { (theme::faint(), style) };
            let mark = if is_chosen { "▸" } else { " " };
            canvas.put(1, y as u16, &format!("{mark}{:<13}", setting.name), name);
            canvas.put(15, y as u16, &format!(" {} ", cut_to(&value, 22)), value_style);
        }
    }

    fn draw_one_setting(&self, _view: &View<'_>, mut canvas: Canvas<'_>) {
        let setting = &SETTINGS[self.chosen];
        let (value, _) = self.value_of(setting);
        let x = canvas.put(1, 0, &format!("▸{} {value}", setting.name), theme::chosen());
        canvas.put(x + 2, 0, &format!("↑ ↓ {} of {}", self.chosen + 1, SETTINGS.len()), theme::faint());
    }

    fn draw_lines(&self, mut canvas: Canvas<'_>) {
        let wrong = theme::words().fg(theme::WRONG);
        let refused = self.fit.value.as_ref().and_then(|fit| fit.as_ref().err());
        let (width, height) = (canvas.width(), canvas.height());
        let told = refused.map_or(0, |why| canvas.paragraph(0, &why.to_string(), wrong));
        let mut canvas = canvas.part(0, told, width, height.saturating_sub(told));
        canvas.put(1, 0, "the first lines, exactly as they will be written", theme::faint());
        let lines = match &self.lines.value {
            None => {
                canvas.put(3, 1, "reading …", theme::faint());
                return;
            }
            Some(Err(err)) if refused.is_none() => {
                canvas.paragraph(2, &err.to_string(), wrong);
                return;
            }
            Some(Err(_)) => return,
            Some(Ok(lines)) => lines,
        };
        let height = canvas.height() as usize;
        // Both ends, the first lines a little more.
        let last = if lines.last.is_empty() { 0 } else { (height.saturating_sub(3) / 3).clamp(1, 12) };
        let first = height.saturating_sub(1 + if last > 0 { last + 1 } else { 0 });
        for (i, line) in lines.first.iter().take(first).enumerate() {
            let style = if i == 0 { theme::words().fg(theme::source(1)) } else { theme::words() };
            canvas.put_right(4, i as u16 + 1, &(i + 1).to_string(), theme::rule().fg(theme::FAINT));
            canvas.put(6, i as u16 + 1, line, style);
        }
        if last > 0 {
            let y = (lines.first.len().min(first) + 1) as u16;
            canvas.put(1, y, "and the last", theme::faint());
            let from = lines.last.len().saturating_sub(last);
            for (i, line) in lines.last[from..].iter().enumerate() {
                canvas.put(6, y + 1 + i as u16, line, theme::words());
            }
        }
    }

    fn draw_costs(&self, mut canvas: Canvas<'_>) {
        canvas.clear();
        match &self.costs.value {
            None => {
                canvas.put(3, 0, "measuring spreads …", theme::faint());
            }
            Some(Err(why)) => {
                canvas.paragraph(0, &why.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(sheet)) => {
                let source =
                    sheet.spreads.as_ref().map_or(String::new(), |s| format!(", spreads of {}", s.series));
                let x =
                    canvas.put(1, 0, &format!("costs of {}{source}", sheet.instrument.name), theme::words());
                let x = canvas.put(x + 3, 0, "e", theme::strong());
                let x = canvas.put(x + 1, 0, &format!("in {}", sheet.money.currency), theme::words());
                let x = canvas.put(x + 3, 0, "v", theme::strong());
                let x = canvas.put(x + 1, 0, "the lines again", theme::words());
                let x = canvas.put(x + 3, 0, "y", theme::strong());
                canvas.put(x + 1, 0, "copies", theme::words());
                let (width, height) = (canvas.width(), canvas.height());
                deliver_costs::draw(sheet, canvas.part(0, 2, width, height.saturating_sub(2)));
            }
        }
    }

    /// Puts the costs, or the lines that are shown, on the clipboard.
    fn copy(&self) -> Effects {
        let text = match (self.shows_costs, self.costs.get(), self.lines.get()) {
            (true, Some(sheet), _) => match costs_csv(sheet) {
                Ok(text) => text,
                Err(why) => return warn(why.to_string()),
            },
            (false, _, Some(lines)) => lines.first.join("\n") + "\n",
            _ => return warn("there is nothing to copy yet".to_owned()),
        };
        let told = format!("{} lines copied, where the terminal keeps a clipboard", text.lines().count());
        let mut effects = say(told);
        effects.push(Effect::Copy(text));
        effects
    }

    fn draw_done(&self, mut canvas: Canvas<'_>) {
        if self.done.is_empty() {
            let told = "nothing delivered yet: a writes the file and proves it by reading it back";
            canvas.put(1, 0, told, theme::faint());
        }
        let rows = canvas.height() as usize;
        for (i, done) in self.done.iter().rev().take(rows).enumerate() {
            let (mark, colour) =
                if done.proved { ("✓ proved", theme::GOOD) } else { ("✗ differs", theme::WRONG) };
            let x = canvas.put(1, i as u16, mark, theme::words().fg(colour));
            let text = format!("  {} rows  {}  {}", thousands(done.rows), bytes(done.bytes), done.path);
            canvas.put(x, i as u16, &text, theme::words());
        }
    }

    /// Asks for a name for how lines are written now.
    fn save_layout(&mut self) -> Effects {
        if !matches!(self.wish.format.as_slice(), [] | [FileFormat::Csv]) {
            return warn("only lines of CSV have a layout: f chooses csv".to_owned());
        }
        self.asked = Some(Asked::LayoutName(Box::new(self.wish.clone())));
        ask("save how lines are written as", "")
    }

    /// Asks where the series is to be written to.
    /// Writes the file to the usual folder, without asking for a path.
    fn deliver_to_folder(&self, view: &View<'_>) -> Effects {
        let Some(info) = view.series() else { return say("nothing is chosen to deliver") };
        let series = vec![info.name.clone().into()];
        start(Step::Deliver(Box::new(DeliverStep { series, out: FOLDER.into(), ..self.wish.clone() })))
    }

    fn deliver(&mut self, stale_ok: bool, view: &View<'_>) -> Effects {
        let Some(info) = view.series() else { return say("nothing is chosen to deliver") };
        let series = info.name.clone();
        let format = self.wish.format.first().copied().unwrap_or(FileFormat::Csv);
        if info.is_afloat() {
            return warn(format!("{} is afloat: align it first (4)", series.short()));
        }
        if let Some(why) = view.snapshot.stale(info).filter(|_| !stale_ok) {
            let short = series.short();
            return warn(format!("{short} is stale: {why}; build it again, or A delivers it as it is"));
        }
        let stem = format!("{}_{}_{}", series.instrument, series.source, series.frame_text());
        let packed = self.wish.compress.map_or(String::new(), |by| format!(".{}", by.word()));
        let is_folder =
            format == FileFormat::Dataset || self.wish.split.is_some() || self.wish.names.is_some();
        let proposal =
            if is_folder { "out/".to_owned() } else { format!("{stem}.{}{packed}", format.ending()) };
        let step = DeliverStep { series: vec![series.into()], stale_ok, ..self.wish.clone() };
        self.asked = Some(Asked::Path(Box::new(step)));
        ask("write it to (a file, or a folder ending in /)", proposal)
    }
}
