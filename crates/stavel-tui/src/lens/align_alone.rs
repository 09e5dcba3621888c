//! A series that is afloat while no other can be compared with it: a person says its clock, and the ends of its weeks
//! say what speaks for the usual ones.

use stavel_core::align::{WeekGuess, WeekGuesses, guess_by_weeks};
use stavel_core::model::{Clock, SeriesName};
use stavel_core::store::SeriesInfo;
use stavel_work::{AlignStep, Step, guess_in_words, minute_of_week};

use super::{FactLine, step};
use crate::canvas::Canvas;
use crate::choice::{Choice, ChoiceAnswer};
use crate::effect::{Effect, Effects, ask, say, start, warn};
use crate::jobs::Slot;
use crate::theme;
use crate::view::View;

/// The clocks that may be said of it.
#[derive(Default)]
pub struct ClockSaid {
    guesses: Slot<WeekGuesses>,
    /// The clock that is looked at.
    at: usize,
    /// The clock a person was warned of, since it does not explain every week.
    warned: Option<usize>,
}

/// The afloat series that nothing can be compared with: the chosen one, else the first.
pub fn alone<'a>(view: &View<'a>) -> Option<&'a SeriesInfo> {
    let all = || view.snapshot.roots_of(view.instrument_name());
    let is_known = |s: &SeriesInfo| !s.is_afloat() && !s.edition.provenance.made.is_joined();
    let afloat = || all().filter(|s| s.is_afloat());
    let chosen = afloat().find(|s| Some(&s.name) == view.selected).or_else(|| afloat().next())?;
    // A known series of the same source says nothing of another clock.
    all().all(|s| !is_known(s) || s.name.source == chosen.name.source).then_some(chosen)
}

impl ClockSaid {
    pub fn want(&mut self, info: &SeriesInfo, view: &View<'_>) {
        let series = info.clone();
        let key = format!("{} {}", info.edition.id, view.snapshot.version);
        self.guesses.want(key, view.threads, move |shelf, _| guess_by_weeks(shelf, &series));
    }

    pub fn collect(&mut self) {
        if self.guesses.collect() {
            (self.at, self.warned) = (0, None);
        }
    }

    pub fn choose(&mut self, down: bool) {
        self.at = step(self.at, self.clocks().len(), down);
    }

    /// True once it is known when the weeks end.
    pub fn is_read(&self) -> bool {
        self.guesses.value.is_some()
    }

    fn clocks(&self) -> &[WeekGuess] {
        self.guesses.get().map_or(&[], |g| g.clocks.as_slice())
    }

    /// Asks for the clock, with the one that is looked at as a proposal.
    pub fn ask(&self, series: &SeriesName) -> Effects {
        let proposal = self.clocks().get(self.at).map_or(String::new(), |g| g.clock.to_string());
        ask(format!("the clock of {}, as UTC, UTC+2 or Europe/Oslo", series.short()), proposal)
    }

    /// Asks which clock is right, with how many weeks fit each.
    pub fn decide(&self, series: &SeriesName) -> Effects {
        let Some(guesses) = self.guesses.get() else { return say("nothing is read yet") };
        let mut clocks: Vec<&WeekGuess> = guesses.clocks.iter().filter(|guess| guess.keep > 0).collect();
        clocks.sort_by_key(|guess| std::cmp::Reverse(guess.keep));
        let mut answers: Vec<ChoiceAnswer> = clocks
            .into_iter()
            .take(5)
            .map(|guess| ChoiceAnswer {
                command: format!("stavel align {series} --clock '{}' --anchor", guess.clock),
                evidence: format!("{}: {}", guess.clock, guess_in_words(guess, &guesses.written)),
            })
            .collect();
        answers.push(ChoiceAnswer {
            command: format!("stavel align {series} --clock CLOCK --anchor"),
            evidence: "another clock, as the files' author states it".into(),
        });
        let question =
            format!("Which clock do the times of {} follow? No other series shows it.", series.short());
        vec![Effect::Choose(Box::new(Choice { question, answers, at: 0, then: None }))]
    }

    /// Takes the clock that is looked at; one that does not explain every week only when it is asked for twice.
    pub fn accept(&mut self, series: &SeriesName) -> Effects {
        let Some(guess) = self.clocks().get(self.at).cloned() else { return say("nothing is read yet") };
        if guess.keep < guess.weeks.max(1) && self.warned.replace(self.at) != Some(self.at) {
            let told = format!(
                "by {} only {} of {} weeks close with the session",
                guess.clock, guess.keep, guess.weeks
            );
            return warn(format!("{told}; a again takes it all the same"));
        }
        take(series, guess.clock)
    }

    pub fn draw(&self, series: &SeriesName, mut canvas: Canvas<'_>) {
        let short = series.short();
        let head = format!("{short} is afloat, and no series of a known clock is there to compare.");
        let width = canvas.width().saturating_sub(3);
        let mut y = canvas.part(2, 1, width, 3).paragraph(0, &head, theme::words()) + 1;
        let then = "Say the clock its files are written in, or take in a series that names one.";
        y += canvas.part(2, y, width, 3).paragraph(0, then, theme::faint()) + 1;
        match &self.guesses.value {
            None => drop(canvas.put(2, y, "reading when its weeks end …", theme::faint())),
            Some(Err(err)) => {
                canvas.part(2, y, width, 4).paragraph(0, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            Some(Ok(guesses)) => self.draw_guesses(guesses, canvas.part(0, y, width + 3, u16::MAX)),
        }
    }

    fn draw_guesses(&self, guesses: &WeekGuesses, mut canvas: Canvas<'_>) {
        let weeks = guesses.written.weeks;
        canvas.put(2, 0, "clock", theme::faint());
        canvas.put(26, 0, "weeks that close with the session by it", theme::faint());
        let room = canvas.width().saturating_sub(42).clamp(4, 60);
        for (i, guess) in guesses.clocks.iter().enumerate() {
            let y = i as u16 + 1;
            let style = if i == self.at { theme::chosen() } else { theme::words() };
            canvas.put(2, y, &format!(" {:<22}", guess.clock.to_string()), style);
            let whole = guess.weeks.max(1);
            let filled = guess.keep * usize::from(room) / whole;
            let colour = if guess.keep == guess.weeks { theme::source(0) } else { theme::FAINT };
            canvas.put_right(36, y, &format!("{} of {}", guess.keep, guess.weeks), theme::words());
            canvas.put(38, y, &"▀".repeat(filled), theme::words().fg(colour));
        }
        let y = guesses.clocks.len() as u16 + 2;
        let (opens, closes) = (minute_of_week(guesses.written.opens), minute_of_week(guesses.written.closes));
        let told = match weeks {
            0 => "no whole week is there to see when it ends".to_owned(),
            _ => format!("as written, most weeks open {opens} and close {closes}"),
        };
        canvas.put(2, y, &told, theme::words());
        canvas.put(2, y + 1, "↑↓ choose   a takes the chosen clock   e another one", theme::faint());
        let height = canvas.height().saturating_sub(y + 3);
        draw_week(&guesses.quarters, canvas.part(0, y + 3, u16::MAX, height));
    }

    pub fn facts(&self) -> Vec<FactLine> {
        let (Some(guess), Some(guesses)) = (self.clocks().get(self.at), self.guesses.get()) else {
            return Vec::new();
        };
        vec![
            FactLine::heading(guess.clock.to_string()),
            FactLine::words(guess.clock.in_words()),
            FactLine::Gap,
            FactLine::words(guess_in_words(guess, &guesses.written)),
            FactLine::Gap,
            FactLine::words("Clocks may explain the weeks alike: only who wrote the files knows."),
        ]
    }
}

/// Stores the series in UTC by a clock that a person says.
pub fn take(series: &SeriesName, clock: Clock) -> Effects {
    start(Step::Align(AlignStep { anchor: true, clock: Some(clock), ..AlignStep::of(series.clone(), None) }))
}

/// How much moves at which time of the week as written: a line a day, from midnight to midnight.
fn draw_week(quarters: &[u32], mut canvas: Canvas<'_>) {
    if canvas.height() < 8 {
        return;
    }
    let columns = usize::from(canvas.width().saturating_sub(8)).clamp(24, 96);
    for hour in (0..24).step_by(3) {
        canvas.put(6 + (hour * columns / 24) as u16, 0, &format!("{hour:02}"), theme::faint());
    }
    let most = f64::from(quarters.iter().copied().max().unwrap_or(0).max(1));
    for (day, of_day) in quarters.chunks(96).enumerate() {
        let y = day as u16 + 1;
        canvas.put(2, y, DAYS[day % 7], theme::faint());
        for column in 0..columns {
            let (from, to) = (column * 96 / columns, ((column + 1) * 96).div_ceil(columns));
            let share =
                of_day.get(from..to).and_then(|q| q.iter().max()).map_or(0.0, |q| f64::from(*q) / most);
            if share > 0.0 {
                let mark = theme::shade(share.max(0.05));
                canvas.put(6 + column as u16, y, mark, theme::words().fg(theme::source(0)));
            }
        }
    }
    canvas.put(2, 9, "when its prices move, as written", theme::faint());
}

const DAYS: [&str; 7] = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
