//! The demo files: which markets, which spans, who writes what.

use std::cmp::Ordering;
use std::io;
use std::path::Path;

use fastrand::Rng;
use stavel_core::model::session::Holiday;
use stavel_core::model::session::OpenHours;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, day_of, days_from_civil, monday_of};
use stavel_core::model::{Clock, Session, Span};

use crate::market::{Character, Market, MarketQuote, MinuteBar};
use crate::truth::{Defects, Truth};
use crate::writers::{ContractMinutes, QuillMinutes, QuillTicks, TarnMinutes};

/// The clock in which Tarn writes.
pub const BROKER_CLOCK: &str = "America/New_York+7h";
/// The session week of the currency pairs.
pub const FOREX_HOURS: &str = "sun 17:00 - fri 17:00 America/New_York";
/// The session week of the Skerry Exchange.
pub const SKERRY_HOURS: &str = "mon-fri 09:00-16:30 Europe/Oslo";
/// The seed of the demo that ships.
pub const SEED: u64 = 20_240_305;
/// The recipe that rebuilds the whole example from the demo files beside it.
pub const RECIPE: &str = include_str!("noksek.toml");
/// The orders of its rehearsal.
pub const ORDERS: &str = include_str!("orders.csv");

/// How NOKSEK moves.
pub const NOKSEK: Character =
    Character { level: 102_300.0, move_a_minute: 7.0, spread: 14.0, ticks_a_minute: 11.0, step: 1 };
/// How NZDSEK moves.
pub const NZDSEK: Character =
    Character { level: 638_500.0, move_a_minute: 36.0, spread: 42.0, ticks_a_minute: 8.0, step: 1 };

/// How barley moves.
pub const BLY: Character =
    Character { level: 41_225.0, move_a_minute: 22.0, spread: 25.0, ticks_a_minute: 5.0, step: 25 };

/// How long each part of the demo is, in UTC.
#[derive(Debug, Clone)]
pub struct DemoSpans {
    pub noksek: Span,
    pub nzdsek: Span,
    /// Ticks of both pairs, a part of their span.
    pub ticks: Vec<Span>,
    pub tarn: Span,
    /// The months of the barley contract with their spans, in order.
    pub contracts: [(&'static str, Span); 4],
    slipped_week: Micros,
    defects_from: Micros,
}

const fn at(year: i64, month: i64, day: i64) -> Micros {
    days_from_civil(year, month, day) * DAY
}

impl DemoSpans {
    /// As a person would have them: years of minutes, two months of ticks, ten months of the broker.
    pub fn full(years: u32) -> DemoSpans {
        let end = at(2024, 4, 1);
        let start = at(2024 - years.clamp(1, 60) as i64, 4, 1);
        DemoSpans {
            noksek: Span::new(start, end),
            nzdsek: Span::new(start, end),
            ticks: vec![Span::new(at(2024, 2, 1), end)],
            tarn: Span::new(at(2023, 6, 1), end),
            contracts: [
                ("2024-01", Span::new(at(2023, 11, 1), at(2024, 1, 13))),
                ("2024-03", Span::new(at(2023, 11, 1), at(2024, 3, 16))),
                ("2024-05", Span::new(at(2024, 1, 1), end)),
                ("2024-07", Span::new(at(2024, 2, 26), end)),
            ],
            slipped_week: at(2023, 11, 13),
            defects_from: at(2023, 9, 4),
        }
    }

    /// The same variety in a few megabytes.
    pub fn small() -> DemoSpans {
        let end = at(2024, 4, 5);
        DemoSpans {
            noksek: Span::new(at(2024, 2, 25) + 18 * HOUR, end),
            nzdsek: Span::new(at(2024, 3, 17), end),
            ticks: vec![
                Span::new(at(2024, 3, 27), at(2024, 3, 30)),
                Span::new(at(2024, 4, 1), at(2024, 4, 5)),
            ],
            tarn: Span::new(at(2024, 2, 25), end),
            contracts: [
                ("2024-01", Span::new(at(2024, 1, 2), at(2024, 1, 13))),
                ("2024-03", Span::new(at(2024, 1, 2), at(2024, 3, 16))),
                ("2024-05", Span::new(at(2024, 2, 26), end)),
                ("2024-07", Span::new(at(2024, 3, 18), end)),
            ],
            slipped_week: at(2024, 3, 4),
            defects_from: at(2024, 3, 11),
        }
    }
}

/// Writes every raw file of the demo, its truth file and its recipe below `folder`.
///
/// # Errors
/// Where the folder cannot be written.
pub fn write_demo(folder: &Path, spans: &DemoSpans, seed: u64) -> io::Result<Truth> {
    let clock: Clock = BROKER_CLOCK.parse().map_err(io::Error::other)?;
    let defects = Defects::around(spans.defects_from, spans.slipped_week);
    let pairs = [
        ("NOKSEK", NOKSEK, spans.noksek, Some(defects), Some(spans.tarn), seed),
        ("NZDSEK", NZDSEK, spans.nzdsek, None, None, seed + 1),
    ];
    for (name, character, span, defects, tarn, seed) in pairs {
        write_pair(
            folder,
            name,
            Market::new(character, seed),
            &DemoHours { span, ticks: &spans.ticks, tarn },
            defects,
            &clock,
        )?;
    }
    write_contracts(folder, spans, seed + 2)?;
    let truth = Truth { broker_clock: BROKER_CLOCK.into(), defects: defects.list("NOKSEK@quill:1m") };
    let text = serde_json::to_string_pretty(&truth).map_err(io::Error::other)?;
    std::fs::write(folder.join("truth.json"), text + "\n")?;
    std::fs::write(folder.join("noksek.toml"), RECIPE)?;
    std::fs::write(folder.join("orders.csv"), ORDERS)?;
    Ok(truth)
}

struct DemoHours<'a> {
    span: Span,
    ticks: &'a [Span],
    tarn: Option<Span>,
}

/// The session week of a market, closed at Christmas and on New Year's Day.
pub(crate) fn session(hours: &str, clock: &str, span: Span) -> io::Result<Session> {
    let clock: Clock = clock.parse().map_err(io::Error::other)?;
    let closed = |day: &i64| {
        let (_, month, day) = stavel_core::model::time::civil_from_days(*day);
        (month, day) == (12, 25) || (month, day) == (1, 1)
    };
    let days = (day_of(span.from)..day_of(span.to) + 1).filter(closed);
    let holidays = days.map(Holiday::closed).collect();
    Ok(Session { week: hours.parse().map_err(io::Error::other)?, clock, holidays, ..Session::always() })
}

fn write_pair(
    folder: &Path,
    name: &'static str,
    mut market: Market,
    hours: &DemoHours<'_>,
    defects: Option<Defects>,
    clock: &Clock,
) -> io::Result<()> {
    let session = session(FOREX_HOURS, BROKER_CLOCK, hours.span)?;
    let mut open = OpenHours::new(&session, hours.span);
    let mut minutes = QuillMinutes::new(&folder.join("quill").join(format!("{name}_1m")), name, defects);
    let mut ticks = QuillTicks::new(&folder.join("quill").join(format!("{name}_ticks")), name);
    let mut tarn = match hours.tarn {
        Some(span) => Some((
            span,
            TarnMinutes::new(&folder.join("tarn").join(format!("{name}_1m.csv")))?,
            Broker::new(),
        )),
        None => None,
    };
    let mut quotes: Vec<MarketQuote> = Vec::new();
    let mut last = market.level();
    // While its clock slips, Quill writes the bars of an hour ago; the true hour is kept for that.
    let mut recent: Vec<MinuteBar> = Vec::new();
    let mut t = hours.span.from;
    while t < hours.span.to {
        quotes.clear();
        if open.is_open(t) {
            market.minute(t, &mut quotes);
        }
        let bar = MinuteBar::of(t, &quotes);
        let vendor = bar.unwrap_or(MinuteBar::flat(t, last));
        last = vendor.close;
        recent.push(vendor);
        let slip = defects.map_or(0, |d| d.slip(t)) / MINUTE;
        let written = recent[recent.len().saturating_sub(1 + slip as usize)];
        minutes.bar(MinuteBar { time: t, ..written })?;
        if recent.len() > 600 {
            recent.drain(..500);
        }
        if hours.ticks.iter().any(|s| s.holds(t)) {
            ticks.quotes(&quotes)?;
        }
        if let (Some((span, out, broker)), Some(bar)) = (&mut tarn, bar)
            && span.holds(t)
        {
            out.bar(&MinuteBar { time: clock.to_wall(t), ..broker.own(bar) })?;
        }
        t += MINUTE;
    }
    minutes.finish()?;
    ticks.finish()?;
    tarn.map_or(Ok(()), |(_, out, _)| out.finish())
}

/// Another feed's view of the same market: off by a point or two that come and go.
struct Broker {
    rng: Rng,
    off: i64,
}

impl Broker {
    fn new() -> Broker {
        Broker { rng: Rng::with_seed(77), off: 0 }
    }

    fn own(&mut self, bar: MinuteBar) -> MinuteBar {
        self.off = (self.off + self.rng.i64(-1..=1)).clamp(-2, 2);
        let (open, close) = (bar.open + self.off, bar.close + self.off + self.rng.i64(-1..=1));
        let high = (bar.high + self.off + self.rng.i64(-1..=1)).max(open).max(close);
        let low = (bar.low + self.off + self.rng.i64(-1..=1)).min(open).min(close);
        MinuteBar { open, high, low, close, spread: (bar.spread + self.rng.i64(-2..=3)).max(1), ..bar }
    }
}

/// Some months of the barley contract; trade moves from each to the next before it ends.
fn write_contracts(folder: &Path, spans: &DemoSpans, seed: u64) -> io::Result<()> {
    let all = spans.contracts.map(|(_, span)| span);
    let (from, to) = all.iter().fold((Micros::MAX, Micros::MIN), |(a, b), s| (a.min(s.from), b.max(s.to)));
    let whole = Span::new(from, to);
    let session = session(SKERRY_HOURS, "Europe/Oslo", whole)?;
    let mut market = Market::new(BLY, seed);
    let mut rng = Rng::with_seed(seed + 10);
    let file = |(month, _): (&str, Span)| {
        ContractMinutes::new(&folder.join("quill/BLY").join(format!("BLY-{month}_1m.csv")))
    };
    let mut files = spans.contracts.into_iter().map(file).collect::<io::Result<Vec<_>>>()?;
    // From the Monday ten days before a contract ends, most trade is in the next.
    let rolls = all.map(|span| monday_of(day_of(span.to) - 10) * DAY);
    let mut quotes = Vec::new();
    for open in session.open_spans(whole) {
        let mut t = open.from;
        while t < open.to {
            market.minute(t, &mut quotes);
            if let Some(bar) = MinuteBar::of(session.clock.to_wall(t), &quotes) {
                let lots = 1 + quotes.len() as i64 * rng.i64(1..5);
                let busy = rolls.iter().position(|roll| t < *roll).unwrap_or(rolls.len() - 1);
                for (month, file) in files.iter_mut().enumerate().filter(|(month, _)| all[*month].holds(t)) {
                    let volume = match month.cmp(&busy) {
                        Ordering::Equal => lots,
                        Ordering::Less => lots / 5,
                        Ordering::Greater => lots / (6 * (month - busy) as i64),
                    };
                    if volume > 0 {
                        file.bar(&carried(bar, month as i64, volume))?;
                    }
                }
            }
            t += MINUTE;
        }
    }
    files.into_iter().try_for_each(ContractMinutes::finish)
}

/// Each farther contract costs what it takes to store barley for two months more: 3.50.
fn carried(bar: MinuteBar, months: i64, volume: i64) -> MinuteBar {
    let carry = 350 * months;
    MinuteBar {
        open: bar.open + carry,
        high: bar.high + carry,
        low: bar.low + carry,
        close: bar.close + carry,
        volume,
        ..bar
    }
}
