//! Runs a script on a replay.

use super::super::order::{DeskAct, LOT, Ticket};
use super::super::replay::{Replay, ReplayAct};
use super::super::watched::{Watch, WatchedBar};
use super::read::{Deed, Script, When};
use super::value::{DeskNow, LastBars, Value};
use crate::job::Job;
use crate::model::time::{DAY, HOUR, MINUTE, weekday};
use crate::model::{Columns, Frame, Micros, Session, Span};
use crate::{Error, Result};

/// What a script is run on: each instrument's name, the frame and fields of its rows, and its session.
pub struct ScriptRun {
    /// The instruments, as the replay has them.
    pub instruments: Vec<(String, Frame, Columns, Session)>,
    /// Where the rows end, so far as is known: no time of a day is asked for beyond.
    pub span: Span,
}

/// A rule with its instrument and whether its condition held.
struct RunningRule<'a> {
    line: usize,
    of: usize,
    what: &'a Deed,
    condition: Option<&'a Value>,
    held: bool,
    /// True once its condition could be told, and once it acted.
    was_known: bool,
    has_acted: bool,
}

/// A line of a script that did nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct IdleLine {
    /// The line of the text.
    pub line: usize,
    /// Why.
    pub why: Idle,
}

/// Why a line of a script did nothing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Idle {
    /// Its condition never held.
    NeverHeld,
    /// Its condition could never be told: a value that it needs is not known, or there were too few bars.
    NeverKnown,
    /// None of its moments lies among the rows.
    NoMoment,
}

/// Runs a script to the end of a replay: the lines that did nothing.
///
/// # Errors
/// Where a rule is for an instrument that is not played, rows cannot be read, or the person stops it.
pub fn run_script(replay: &mut Replay, script: &Script, on: &ScriptRun, job: &Job) -> Result<Vec<IdleLine>> {
    let mut rules = Vec::new();
    let mut timed: Vec<(Micros, usize)> = Vec::new();
    for rule in &script.rules {
        let of = place_of(&rule.instrument, on, rule.line)?;
        let place = rules.len();
        let condition = match &rule.when {
            When::Holds(value) => Some(value),
            When::At(time) => {
                timed.push((*time, place));
                None
            }
            When::Every(of_day, clock) => {
                let days = clock.day_of(on.span.from)..=clock.day_of(on.span.to);
                timed.extend(days.filter_map(|day| {
                    // A time that a clock leaves out is not made up.
                    let time = clock.from_wall(day * DAY + of_day);
                    Some((first_of(time)?, place))
                }));
                None
            }
        };
        rules.push(RunningRule {
            line: rule.line,
            of,
            what: &rule.what,
            condition,
            held: false,
            was_known: false,
            has_acted: false,
        });
    }
    timed.retain(|(time, _)| on.span.holds(*time));
    timed.sort_unstable();
    let mut watch = Watch::default();
    if rules.iter().any(|rule| rule.condition.is_some()) {
        for (of, (_, from, rows, session)) in on.instruments.iter().enumerate() {
            watch.add(of, rows, *from, script.frame, session)?;
        }
    }
    let mut bars = vec![LastBars::default(); on.instruments.len()];
    let mut timed = timed.into_iter().peekable();
    loop {
        let until = timed.peek().map_or(Micros::MAX, |(time, _)| time - 1);
        let over = match watch.is_empty() {
            true => {
                replay.play_to(until, 1_000_000)?;
                Vec::new()
            }
            false => replay.play_to_bar(&mut watch, until)?,
        };
        job.advance(0)?;
        if !over.is_empty() {
            judge(replay, &mut rules, &mut bars, &over, on)?;
            continue;
        }
        let is_there = replay.next_time().is_none_or(|next| next > until);
        match timed.next_if(|_| is_there) {
            Some((time, place)) if replay.next_time().is_some() => {
                rules[place].has_acted = true;
                // Given between two quotes: it waits for the next, as an order of a file does.
                if let Some(act) = act_of(&rules[place], replay, on)? {
                    replay.act(time, ReplayAct::Submit(act))?;
                }
            }
            Some(_) => {}
            None if is_there => return Ok(idle(&rules)),
            None => {}
        }
    }
}

fn idle(rules: &[RunningRule<'_>]) -> Vec<IdleLine> {
    let why = |rule: &RunningRule<'_>| match (rule.condition, rule.was_known) {
        (None, _) => Idle::NoMoment,
        (Some(_), true) => Idle::NeverHeld,
        (Some(_), false) => Idle::NeverKnown,
    };
    let idle = rules.iter().filter(|rule| !rule.has_acted);
    idle.map(|rule| IdleLine { line: rule.line, why: why(rule) }).collect()
}

/// Looks at the conditions of the instruments whose bars are over.
fn judge(
    replay: &mut Replay,
    rules: &mut [RunningRule<'_>],
    bars: &mut [LastBars],
    over: &[WatchedBar],
    on: &ScriptRun,
) -> Result<()> {
    for bar in over {
        bars[bar.of].push(*bar);
        for rule in rules.iter_mut().filter(|rule| rule.of == bar.of) {
            let Some(condition) = rule.condition else { continue };
            let now = desk_now(replay, bar.of, &on.instruments[bar.of].3);
            let value = condition.at(&bars[bar.of], &now, 0);
            let holds = value.is_some_and(|value| value != 0.0);
            let held = std::mem::replace(&mut rule.held, holds);
            rule.was_known |= value.is_some();
            rule.has_acted |= holds && !held;
            if let Some(act) = (holds && !held).then(|| act_of(rule, replay, on)).transpose()?.flatten() {
                let time = replay.desk().now();
                replay.act(time, ReplayAct::Give(act))?;
            }
        }
    }
    Ok(())
}

fn desk_now(replay: &Replay, of: usize, session: &Session) -> DeskNow {
    let desk = replay.desk();
    let Some(quote) = desk.quote(of) else { return DeskNow::default() };
    let wall = session.clock.to_wall(quote.time);
    let day = wall.div_euclid(DAY);
    DeskNow {
        bid: quote.bid as f64,
        ask: quote.ask as f64,
        position: desk.account().position(of) as f64 / LOT as f64,
        orders: desk.orders().iter().filter(|order| order.of == of).count() as f64,
        clock: (
            (wall.rem_euclid(DAY) / HOUR) as f64,
            (wall.rem_euclid(HOUR) / MINUTE) as f64,
            (weekday(day) + 1) as f64,
        ),
    }
}

/// What a rule does now; nothing where there is nothing to close.
fn act_of(rule: &RunningRule<'_>, replay: &Replay, on: &ScriptRun) -> Result<Option<DeskAct>> {
    let of = rule.of;
    let desk = replay.desk();
    let is_flat = desk.account().position(of) == 0 && !desk.account().holdings().iter().any(|h| h.of == of);
    Ok(match rule.what {
        Deed::Order(order, tag) => {
            let decimals = on.instruments[of].2.scale.price;
            Some(DeskAct::Order(Ticket { tag: tag.clone(), ..order.ticket(of, decimals)? }))
        }
        Deed::Flat if is_flat => Some(DeskAct::CancelAll { of: Some(of) }),
        Deed::Flat => Some(DeskAct::Flat { of: Some(of) }),
        Deed::Reverse if is_flat => None,
        Deed::Reverse => Some(DeskAct::Reverse { of }),
        Deed::Cancel => Some(DeskAct::CancelAll { of: Some(of) }),
        Deed::Note(text) => Some(DeskAct::Note { text: text.clone(), tag: String::new() }),
    })
}

fn place_of(name: &str, on: &ScriptRun, line: usize) -> Result<usize> {
    match (name, on.instruments.len()) {
        ("", 1) => Ok(0),
        ("", _) => Err(Error::input(format!(
            "Line {line} of the script names no instrument and several are played; write instrument NAME before it."
        ))),
        (name, _) => on.instruments.iter().position(|(other, ..)| other == name).ok_or_else(|| {
            Error::input(format!(
                "Line {line} of the script is for {}, which is not played.",
                crate::error::printable(name)
            ))
        }),
    }
}

fn first_of(wall: crate::model::Wall) -> Option<Micros> {
    match wall {
        crate::model::Wall::Once(time) | crate::model::Wall::Twice { first: time, .. } => Some(time),
        crate::model::Wall::Never { .. } => None,
    }
}
