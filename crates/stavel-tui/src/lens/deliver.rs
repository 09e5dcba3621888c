//! Deliver: the first lines exactly as they will be written, and what was proved.

use stavel_core::deliver::{DeliveryOrder, FileFormat, first_lines, partial_ends};
use stavel_core::model::Clock;
use stavel_work::{DeliverStep, Step, StepReport};

use super::{FactLine, Lens};
use crate::act::TableRow;
use crate::canvas::{Canvas, bytes, thousands};
use crate::effect::{Effects, ask, say, start, warn};
use crate::jobs::Slot;
use crate::theme;
use crate::view::View;

/// What can be done to deliver.
#[derive(Debug, Clone, Copy)]
pub enum DeliverAct {
    Format,
    Clock,
    Deliver,
    Origins,
    Details,
    CompleteOnly,
    DeliverStale,
}

/// The lens.
#[derive(Default)]
pub struct DeliverLens {
    lines: Slot<Vec<String>>,
    /// A place among [`FileFormat::ALL`].
    format: usize,
    own_clock: bool,
    /// Write of each row where it comes from.
    origin: bool,
    details: bool,
    /// True where partial bars are left away.
    complete_only: bool,
    /// What was delivered since the bench was opened, newest last.
    done: Vec<Delivered>,
    /// The delivery that a file name is asked for.
    asked: Option<DeliverStep>,
}

/// A file that was delivered.
struct Delivered {
    path: String,
    rows: u64,
    bytes: u64,
    proved: bool,
}

impl Lens for DeliverLens {
    type Act = DeliverAct;
    const WORD: &'static str = "deliver";
    const ABOUT: &'static str = "deliver: files that are proved";
    const ROWS: &'static [TableRow<DeliverAct>] = &[
        TableRow::new(DeliverAct::Deliver, "a", "deliver", "write the file and prove it")
            .command("stavel deliver SERIES --out PATH"),
        TableRow::new(DeliverAct::Format, "f", "format", "the next file format"),
        TableRow::new(DeliverAct::Clock, "c", "clock", "times in UTC or in the instrument's clock"),
        TableRow::new(DeliverAct::Origins, "o", "origins", "write of each row where it comes from, or not"),
        TableRow::new(
            DeliverAct::Details,
            "d",
            "details",
            "write of bars also tick counts, both volumes and the ends of spreads, or not",
        ),
        TableRow::new(DeliverAct::CompleteOnly, "k", "partial", "leave partial bars away, or not"),
        TableRow::new(DeliverAct::DeliverStale, "A", "as it is", "deliver the series although it is stale"),
    ];

    fn act(&mut self, act: DeliverAct, view: &View<'_>) -> Effects {
        match act {
            DeliverAct::Format => self.format = (self.format + 1) % FileFormat::ALL.len(),
            DeliverAct::Clock => self.own_clock = !self.own_clock,
            DeliverAct::Origins => self.origin = !self.origin,
            DeliverAct::Details => {
                self.details = !self.details;
                return say(match self.details {
                    true => {
                        "bars are written with tick counts, both volumes and the ends of spreads, where they have them"
                    }
                    false => "bars are written with the usual columns",
                });
            }
            DeliverAct::CompleteOnly => self.complete_only = !self.complete_only,
            DeliverAct::Deliver => return self.deliver(false, view),
            DeliverAct::DeliverStale => return self.deliver(true, view),
        }
        Effects::new()
    }

    fn due(&self, view: &View<'_>) -> Option<(String, DeliverAct)> {
        let is_next = self.done.is_empty() && view.next().lens == Some(Self::WORD);
        is_next.then(|| ("write the file and prove it".into(), DeliverAct::Deliver))
    }

    fn answer(&mut self, path: &str, _view: &View<'_>) -> Effects {
        let asked = self.asked.clone();
        asked.map_or_else(Effects::new, |step| {
            start(Step::Deliver(Box::new(DeliverStep { out: path.into(), ..step })))
        })
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.lines.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let Some(info) = view.series() else { return Effects::new() };
        let order = DeliveryOrder {
            clock: self.clock(view),
            origin: self.origin,
            details: self.details,
            complete_only: self.complete_only,
            ..DeliveryOrder::of(info.name.clone(), FileFormat::ALL[self.format])
        };
        let key = format!("{} {order:?}", info.edition.id);
        self.lines.want(key, view.threads, move |shelf, _| first_lines(shelf, &order, 40));
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

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        let Some(series) = view.selected else {
            canvas.put(2, 1, "Nothing chosen to deliver.", theme::words());
            return;
        };
        let mut x = canvas.put(1, 0, &format!("{series} as  "), theme::words());
        for (i, format) in FileFormat::ALL.iter().enumerate() {
            let style = if i == self.format { theme::chosen() } else { theme::faint() };
            x = canvas.put(x, 0, &format!(" {} ", format.word()), style) + 1;
        }
        canvas.put(x + 2, 0, &format!("times in {}", self.clock(view)), theme::words());
        let kept = self.done.len().min(6) as u16;
        let preview = canvas.height().saturating_sub(kept + 4);
        let told = "the first lines, exactly as they will be written";
        let x = canvas.put(1, 1, told, theme::faint()) + 3;
        let ends = view.series().map_or((false, false), partial_ends);
        let partial = match (self.complete_only, ends) {
            (true, _) => "partial bars are left away",
            (false, (true, true)) => "◐ the first and the last bar are partial",
            (false, (true, false)) => "◐ the first bar is partial",
            (false, (false, true)) => "◐ the last bar is partial",
            (false, (false, false)) => "",
        };
        canvas.put(x, 1, partial, theme::words());
        match &self.lines.value {
            None => {
                canvas.put(3, 2, "reading …", theme::faint());
            }
            Some(Err(err)) => {
                canvas.paragraph(3, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(lines)) => {
                for (i, line) in lines.iter().take(preview as usize).enumerate() {
                    let style = if i == 0 { theme::words().fg(theme::source(1)) } else { theme::words() };
                    canvas.put_right(4, i as u16 + 2, &(i + 1).to_string(), theme::rule().fg(theme::FAINT));
                    canvas.put(6, i as u16 + 2, line, style);
                }
            }
        }
        let y = preview + 2;
        canvas.rule(y, theme::rule());
        if self.done.is_empty() {
            canvas.put(
                1,
                y + 1,
                "nothing delivered yet: a writes the file, reads it back and compares it row by row",
                theme::faint(),
            );
        }
        for (i, done) in self.done.iter().rev().take(6).enumerate() {
            let (mark, colour) =
                if done.proved { ("✓ proved", theme::GOOD) } else { ("✗ differs", theme::WRONG) };
            let x = canvas.put(1, y + 1 + i as u16, mark, theme::words().fg(colour));
            let text = format!("  {} rows  {}  {}", thousands(done.rows), bytes(done.bytes), done.path);
            canvas.put(x, y + 1 + i as u16, &text, theme::words());
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(info) = view.series() else { return Vec::new() };
        let mut out = vec![
            FactLine::heading(info.name.to_string()),
            FactLine::Pair("rows", thousands(info.edition.rows)),
            FactLine::Pair(
                "columns",
                info.edition.fields.iter().map(|f| f.name()).collect::<Vec<_>>().join(" "),
            ),
            FactLine::Gap,
            FactLine::heading("the other series"),
        ];
        for s in view.snapshot.series_of(view.instrument_name()).filter(|s| s.name != info.name) {
            out.push(FactLine::words(s.name.short()));
        }
        if info.edition.fields.contains(&stavel_core::model::Field::Spread) {
            out.insert(3, FactLine::words("spread in points; empty where its source does not say it"));
        }
        if let Some(why) = view.snapshot.stale(info) {
            out.insert(
                1,
                FactLine::words(format!("▲ stale: {why}; build it again, or A delivers it as it is")),
            );
        }
        out.extend([
            FactLine::words("↑ ↓ choose among them"),
            FactLine::Gap,
            FactLine::heading("proof"),
            FactLine::words("A file counts as delivered when it was read back by other code and every row and digit was the same."),
        ]);
        out
    }
}

impl DeliverLens {
    /// The clock that times are written in.
    fn clock(&self, view: &View<'_>) -> Clock {
        let own = view.instrument().map(|i| i.sheet.session.clock.clone());
        own.filter(|_| self.own_clock).unwrap_or_else(Clock::utc)
    }

    /// Asks where the series is to be written to.
    fn deliver(&mut self, stale_ok: bool, view: &View<'_>) -> Effects {
        let Some(info) = view.series() else { return say("nothing is chosen to deliver") };
        let (series, format) = (info.name.clone(), FileFormat::ALL[self.format]);
        if info.is_afloat() {
            return warn(format!("{} is afloat: align it first (4)", series.short()));
        }
        if let Some(why) = view.snapshot.stale(info).filter(|_| !stale_ok) {
            let short = series.short();
            return warn(format!("{short} is stale: {why}; build it again, or a delivers it as it is"));
        }
        let proposal =
            format!("{}_{}_{}.{}", series.instrument, series.source, series.frame_text(), format.ending());
        self.asked = Some(DeliverStep {
            series: vec![series.into()],
            format: vec![format],
            clock: Some(self.clock(view)).filter(|c| *c != Clock::utc()),
            origin: self.origin,
            details: self.details,
            complete_only: self.complete_only,
            stale_ok,
            ..DeliverStep::default()
        });
        ask("write it to (a file, or a folder ending in /)", proposal)
    }
}
