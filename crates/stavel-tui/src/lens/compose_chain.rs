//! The rolls of a chain: its contracts over time, a table, and the days around the chosen roll, by which it is moved.

use stavel_core::compose::{RollDay, days_around_roll};
use stavel_core::model::chain::{ChainedContract, Roll, RollReason, RollRule};
use stavel_core::model::price::scaled;
use stavel_core::model::provenance::ChainMade;
use stavel_core::model::time::{DAY, date, day_of, wall};
use stavel_core::model::{Instrument, Made, Micros, Span};
use stavel_core::store::SeriesInfo;
use stavel_core::{Error, Result};
use stavel_work::{ComposeStep, RollMove, Step, chain_in_words, counted};

use crate::canvas::{Canvas, scroll};
use crate::effect::{Effects, say, start};
use crate::jobs::Slot;
use crate::theme;
use crate::view::View;

/// How a chain is asked for.
pub const ASKED: &str = "NAME = contracts, and when it rolls";

/// The chosen roll, and where it is moved.
#[derive(Default)]
pub struct RollEdit {
    /// The chosen roll.
    at: usize,
    /// Trading days that it is moved by, not yet written.
    moved: i64,
    /// True once rolls were looked at: on a small screen they lie over the sheet from then on.
    is_open: bool,
    /// The days around it, and what they are read for.
    days: Slot<Vec<RollDay>>,
    key: String,
}

/// The chain that an instrument's rows are, of its finest series.
pub fn chain_of<'a>(instrument: &Instrument, view: &View<'a>) -> Option<(&'a SeriesInfo, &'a ChainMade)> {
    let chains = view.snapshot.series_of(&instrument.name).filter_map(|s| match &s.edition.provenance.made {
        Made::Chain(made) => Some((s, made.as_ref())),
        _ => None,
    });
    chains.min_by_key(|(s, _)| s.name.frame.length())
}

/// A line that makes the chain of an instrument again, or a first one out of the contracts on the shelf.
pub fn proposal(instrument: &Instrument, view: &View<'_>) -> String {
    if let Some((info, made)) = chain_of(instrument, view) {
        let of = made.of.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
        let rule = match &made.rule {
            RollRule::Volume => "volume".to_owned(),
            RollRule::OpenInterest => "oi".to_owned(),
            RollRule::Days(days) => format!("days={days}"),
            RollRule::Dates(_) => "dates=FILE".to_owned(),
        };
        let moved: String = made.moved.iter().map(|(name, at)| format!(" move-roll={name}={at}")).collect();
        let forward = if made.forward { " forward" } else { "" };
        return format!("{} = {of} roll={rule} adjust={}{forward}{moved}", info.name.instrument, made.adjust);
    }
    let names = view.snapshot.instruments.iter().map(|i| i.name.as_str());
    let product =
        names.filter_map(stavel_core::model::contract_month::ContractName::read).map(|c| c.product).next();
    match product {
        Some(product) => format!("{product}.chain = {product}* roll=volume adjust=difference"),
        None => String::new(),
    }
}

/// The step of a line as `BLY.chain = BLY-* roll=volume adjust=difference`.
///
/// # Errors
/// Where there is no `=` after a name, or an option that there is not.
pub fn step_of(line: &str) -> Result<ComposeStep> {
    let bad = || {
        Error::arguments(
            "Write the new instrument's name, =, its contracts, and when it rolls: BLY.chain = BLY-* roll=volume adjust=difference.",
        )
    };
    let (name, rest) = line.split_once(" = ").ok_or_else(bad)?;
    let (of, options) = rest.trim().split_once(char::is_whitespace).unwrap_or((rest.trim(), ""));
    if of.is_empty() || of.contains('=') {
        return Err(bad());
    }
    stavel_core::model::series::check_name("instrument", name.trim())?;
    ComposeStep::typed(name.trim(), None, &format!("chain={of} {options}"))
}

impl RollEdit {
    /// True from the first key for rolls until they are left.
    pub fn is_open(&self) -> bool {
        self.is_open
    }

    /// Leaves the roll where it is, then the rolls; false where there was nothing to leave.
    pub fn let_go(&mut self) -> bool {
        std::mem::take(&mut self.moved) != 0 || std::mem::take(&mut self.is_open)
    }

    /// Has the days around the chosen roll read.
    pub fn want(&mut self, instrument: &Instrument, view: &View<'_>) {
        let Some((info, made)) = chain_of(instrument, view) else { return };
        self.at = self.at.min(made.rolls.len().saturating_sub(1));
        let key = format!("{} {} {}", info.edition.id, self.at, view.snapshot.version);
        if self.key == key {
            return;
        }
        self.key = key;
        let (name, made, at) = (info.name.instrument.clone(), made.clone(), self.at);
        self.days
            .want(self.key.clone(), view.threads, move |shelf, _| days_around_roll(shelf, &name, &made, at));
    }

    /// The days around the chosen roll; none while they are read.
    fn around_it(&self) -> Option<&Vec<RollDay>> {
        self.days.get().filter(|_| self.days.is_for(&self.key)).map(|days| &**days)
    }

    pub fn collect(&mut self) {
        self.days.collect();
    }

    /// Chooses the roll before or after.
    pub fn choose(&mut self, made: &ChainMade, on: bool) {
        self.moved = 0;
        self.key.clear();
        self.is_open = true;
        let last = made.rolls.len().saturating_sub(1);
        self.at = if on { (self.at + 1).min(last) } else { self.at.saturating_sub(1) };
    }

    /// Moves the chosen roll by a trading day.
    pub fn shift(&mut self, made: &ChainMade, by: i64) -> Effects {
        let (Some(days), Some(place)) = (self.around_it(), self.place(made)) else {
            return say("the days around the roll are still being read");
        };
        let to = place as i64 + self.moved + by;
        let bounds = self.bounds(made);
        let is_free =
            usize::try_from(to).ok().and_then(|to| days.get(to)).is_some_and(|day| bounds.holds(day.from));
        if !is_free {
            return say("the roll cannot go beyond its neighbours, or the days that are shown");
        }
        self.moved += by;
        self.is_open = true;
        Effects::new()
    }

    /// Writes the chain with the roll where it was moved; none where it was not.
    pub fn write(&mut self, chain: &SeriesInfo, made: &ChainMade) -> Option<Effects> {
        let (roll, day) = (made.rolls.get(self.at)?, self.moved_to(made)?);
        let at = stavel_core::model::chain::RollAt::Day(day.day);
        let move_roll = vec![RollMove { contract: roll.from.clone(), at }];
        self.moved = 0;
        let name = chain.name.instrument.clone();
        Some(start(Step::Compose(Box::new(ComposeStep { name, move_roll, ..Default::default() }))))
    }

    /// The place of the chosen roll among the days around it.
    fn place(&self, made: &ChainMade) -> Option<usize> {
        let roll = made.rolls.get(self.at)?;
        let days = self.around_it()?;
        Some(days.partition_point(|day| day.from < roll.at)).filter(|place| *place < days.len())
    }

    fn moved_to(&self, made: &ChainMade) -> Option<RollDay> {
        let place = self.place(made).filter(|_| self.moved != 0)? as i64 + self.moved;
        self.around_it()?.get(usize::try_from(place).ok()?).copied()
    }

    /// The time between the rolls on either side.
    fn bounds(&self, made: &ChainMade) -> Span {
        let before =
            self.at.checked_sub(1).and_then(|at| made.rolls.get(at)).map_or(Micros::MIN, |r| r.at + 1);
        Span::new(before, made.rolls.get(self.at + 1).map_or(Micros::MAX, |r| r.at))
    }

    /// Draws the chain; gives the line below it.
    pub fn draw(&self, info: &SeriesInfo, made: &ChainMade, mut canvas: Canvas<'_>) -> u16 {
        canvas.clear();
        let is_low = canvas.height() < 20;
        let gap = u16::from(!is_low);
        canvas.put(0, 0, &info.name.to_string(), theme::strong());
        let mut y = match is_low {
            true => {
                canvas.put(info.name.to_string().len() as u16 + 2, 0, &chain_in_words(made), theme::words());
                1
            }
            false => canvas.paragraph(1, &chain_in_words(made), theme::words()) + 1,
        };
        if made.rolls.is_empty() {
            return canvas.paragraph(
                y,
                "No roll yet: nothing in the rows of the contracts asked for one.",
                theme::words(),
            );
        }
        let around = if is_low { 2 } else { 4 };
        let shown = shown_contracts(made, self.at, around);
        y = self.timeline(made, &shown, y, &mut canvas) + gap;
        let rows = if is_low { 2 } else { 8.min(made.rolls.len()) };
        y = self.table(made, y, rows, &mut canvas);
        y = canvas.paragraph(y, &self.of_chosen(made), theme::words()) + gap;
        self.around(made, y, &mut canvas)
    }

    /// What there is to say of the chosen roll.
    fn of_chosen(&self, made: &ChainMade) -> String {
        let Some(roll) = made.rolls.get(self.at) else { return String::new() };
        if let Some(day) = self.moved_to(made) {
            let days = counted(self.moved.unsigned_abs(), "trading day");
            let way = if self.moved < 0 { "earlier" } else { "later" };
            return format!("Moved {days} {way}, to {}: a writes it, Esc leaves it.", date(day.day));
        }
        let why = match roll.why {
            RollReason::Rule => "by its rule",
            RollReason::Moved => "moved by hand",
            RollReason::Ended => "▲ it had ended before its rule said anything",
        };
        match roll.measured {
            Some(at) => format!("Out of {}, {why}; the gap is that of {} UTC.", roll.from, wall(at)),
            None => format!(
                "Out of {}, {why}; ▲ both had no price at one moment, so its gap is not known.",
                roll.from
            ),
        }
    }

    /// A line for each contract: thin where it has rows, thick where the chain is of it.
    fn timeline(&self, made: &ChainMade, shown: &[&ChainedContract], y: u16, canvas: &mut Canvas<'_>) -> u16 {
        const LABEL: u16 = 14;
        let width = canvas.width().saturating_sub(LABEL + 1);
        let from = shown.iter().map(|c| c.ends.0).min().unwrap_or(0);
        let to = shown.iter().map(|c| c.ends.1).max().unwrap_or(1).max(from + DAY);
        let column = |t: Micros| {
            let share = (t.clamp(from, to) - from) as f64 / (to - from) as f64;
            (share * f64::from(width.saturating_sub(1))).round() as u16
        };
        for (line, contract) in shown.iter().enumerate() {
            let y = y + line as u16;
            let name = &contract.series.instrument;
            canvas.put(0, y, name, theme::words());
            let used = used_of(made, name);
            let colour = theme::words().fg(theme::source(month_place(made, name)));
            for x in column(contract.ends.0)..=column(contract.ends.1) {
                canvas.put(LABEL + x, y, "─", theme::faint());
            }
            if let Some(used) =
                used.and_then(|used| used.overlap(&Span::new(contract.ends.0, contract.ends.1 + 1)))
            {
                for x in column(used.from)..=column(used.to) {
                    canvas.put(LABEL + x, y, "█", colour);
                }
            }
            if let Some(expiry) = contract.expiry {
                canvas.put(LABEL + column(expiry * DAY), y, "╂", theme::faint());
            }
        }
        let axis = y + shown.len() as u16;
        let is_shown = |name: &str| shown.iter().any(|c| c.series.instrument == name);
        for (place, roll) in made.rolls.iter().enumerate().filter(|(_, roll)| is_shown(&roll.to)) {
            let is_chosen = place == self.at;
            let at = self.moved_to(made).filter(|_| is_chosen).map_or(roll.at, |day| day.from);
            canvas.put(
                LABEL + column(at),
                axis,
                "▲",
                if is_chosen { theme::strong() } else { theme::faint() },
            );
        }
        canvas.put(0, axis, "rolls", theme::faint());
        canvas.put(LABEL, axis + 1, &date(day_of(from)), theme::faint());
        canvas.put_right(LABEL + width, axis + 1, &date(day_of(to)), theme::faint());
        axis + 2
    }

    fn table(&self, made: &ChainMade, y: u16, rows: usize, canvas: &mut Canvas<'_>) -> u16 {
        canvas.put(0, y, "  day        out of  into         last     next     gap", theme::faint());
        let first = scroll(self.at, rows, made.rolls.len());
        for (line, (place, roll)) in made.rolls.iter().enumerate().skip(first).take(rows).enumerate() {
            let is_chosen = place == self.at;
            let style = if is_chosen { theme::chosen() } else { theme::words() };
            let moved = self.moved_to(made).filter(|_| is_chosen).map(|day| self.moved_roll(roll, &day));
            let text = roll_line(moved.as_ref().unwrap_or(roll), made);
            canvas.put(
                0,
                y + 1 + line as u16,
                &format!("{} {text}", if is_chosen { "▸" } else { " " }),
                style,
            );
        }
        y + 1 + rows.min(made.rolls.len()) as u16
    }

    /// A roll that is moved: its gap is about that of the closes of the day before.
    fn moved_roll(&self, roll: &Roll, day: &RollDay) -> Roll {
        let before = self.around_it().and_then(|days| days.iter().rfind(|d| d.from < day.from).copied());
        let prices = before.and_then(|d| d.closes[0].zip(d.closes[1]));
        Roll { at: day.from, day: day.day, prices, why: RollReason::Moved, ..roll.clone() }
    }

    /// Volumes and gap of the days around the roll.
    fn around(&self, made: &ChainMade, y: u16, canvas: &mut Canvas<'_>) -> u16 {
        let Some(roll) = made.rolls.get(self.at) else { return y };
        let (Some(days), Some(place)) = (self.around_it(), self.place(made)) else {
            canvas.put(0, y, "…", theme::faint());
            return y + 1;
        };
        const LABEL: u16 = 14;
        let place = (place as i64 + self.moved).max(0) as usize;
        let count = usize::from(canvas.width().saturating_sub(LABEL + 1)) / 2;
        let first = place.saturating_sub(count / 2).min(days.len().saturating_sub(count));
        let shown = &days[first..days.len().min(first + count)];
        let most = shown.iter().flat_map(|d| d.volumes).flatten().max().unwrap_or(0);
        let names = [&roll.from, &roll.to];
        let is_known = most > 0;
        for (contract, name) in names.into_iter().enumerate() {
            let y = y + contract as u16;
            canvas.put(0, y, name, theme::words());
            let colour = theme::words().fg(theme::source(month_place(made, name)));
            for (x, day) in shown.iter().enumerate() {
                let mark = match (day.volumes[contract], day.closes[contract]) {
                    (Some(volume), _) if is_known => height(volume, most),
                    (_, Some(_)) => "─",
                    _ => "·",
                };
                canvas.put(LABEL + 2 * x as u16, y, mark, colour);
            }
        }
        let mark = LABEL + 2 * (place - first) as u16;
        canvas.put(0, y + 2, if is_known { "volume by day" } else { "days" }, theme::faint());
        let roll_day = days.get(place).map(|d| date(d.day)).unwrap_or_default();
        let label = format!("▲ {roll_day}");
        let room = canvas.width();
        if mark + 14 < room {
            canvas.put(mark, y + 2, &label, theme::strong());
        } else {
            canvas.put_right(mark + 1, y + 2, &format!("{roll_day} ▲"), theme::strong());
        }
        canvas.put(0, y + 3, ", . move the chosen roll a day   < > choose another", theme::faint());
        y + 4
    }
}

fn height(volume: i64, most: i64) -> &'static str {
    const HEIGHTS: [&str; 8] = ["▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];
    let place = (i128::from(volume.max(0)) * 7 / i128::from(most.max(1))) as usize;
    if volume <= 0 { "·" } else { HEIGHTS[place.min(7)] }
}

/// The contracts around a roll.
fn shown_contracts(made: &ChainMade, roll: usize, around: usize) -> Vec<&ChainedContract> {
    let Some(chosen) = made.rolls.get(roll) else { return made.contracts.iter().take(2 * around).collect() };
    let place = month_place(made, &chosen.from);
    let first = (place + 1).saturating_sub(around);
    made.contracts.iter().skip(first).take(2 * around).collect()
}

fn month_place(made: &ChainMade, name: &str) -> usize {
    made.contracts.iter().position(|c| c.series.instrument == name).unwrap_or(0)
}

/// The span for which the chain is of a contract; none where it is never.
fn used_of(made: &ChainMade, name: &str) -> Option<Span> {
    let into = made.rolls.iter().find(|roll| roll.to == name).map(|roll| roll.at);
    let out = made.rolls.iter().find(|roll| roll.from == name).map(|roll| roll.at);
    (into.is_some() || out.is_some())
        .then(|| Span::new(into.unwrap_or(Micros::MIN), out.unwrap_or(Micros::MAX)))
}

/// A roll by the months of its contracts.
fn roll_line(roll: &Roll, made: &ChainMade) -> String {
    let price =
        |points: Option<i64>| points.map_or_else(|| "–".to_owned(), |points| scaled(points, made.decimals));
    let month = |name: &str| made.contracts[month_place(made, name)].month.clone();
    format!(
        "{:<11}{:<8}{:<8}{:>9}{:>9}{:>8}",
        date(roll.day),
        month(&roll.from),
        month(&roll.to),
        price(roll.prices.map(|p| p.0)),
        price(roll.prices.map(|p| p.1)),
        price(roll.gap()),
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_work::RollSetting;

    #[test]
    fn a_line_names_the_chain_its_contracts_and_its_rule() {
        let step = step_of("BLY.chain = BLY-*@quill:1m roll=days=5 adjust=ratio forward").unwrap();
        assert_eq!(
            (step.name.as_str(), step.chain.as_slice()),
            ("BLY.chain", &["BLY-*@quill:1m".to_owned()][..])
        );
        assert_eq!((step.roll, step.forward), (Some(RollSetting::Days(5)), true));
        for (line, told) in [
            ("BLY.chain BLY-*", "Write the new"),
            ("B = roll=volume", "Write the new"),
            ("B = BLY-* rol=x", "rol"),
        ] {
            let error = step_of(line).unwrap_err().to_string();
            assert!(error.contains(told), "{line}: {error}");
        }
        assert_eq!([0, 1, 50, 100].map(|v| height(v, 100)), ["·", "▁", "▄", "█"]);
    }
}
