//! Rehearsals: playing histories of the shelf, with orders of a file.

mod ask_beside;
mod brackets;
mod compared;
mod depth;
mod document;
mod kept;
mod moments;
mod opening;
mod rates;
mod report;
mod tables;
mod words;
mod written;

use rust_decimal::Decimal;
use stavel_core::job::Job;
use stavel_core::model::{Clock, Columns, Micros, Span};
use stavel_core::rehearse::{
    Deal, DealDepth, Desk, FileOrder, Idle, IdleLine, OrderRemark, Outcome, Replay, Script, ScriptRun,
    Ticket, figures_of, lots_text, money, read_orders, run_orders, run_script, script_in,
};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

use crate::intake::layout_named;
use crate::report::{StepReport, counted};
use crate::span::span_between;
use crate::step::RehearseStep;
use ask_beside::ask_in_words;

pub use brackets::{keep_bracket, read_brackets};
pub use document::{account_json, depth_json, entry_json, figures_json};
pub use kept::{KeptHead, KeptMark, KeptRehearsal, RehearsalFile, kept_rehearsals, read_rehearsal};
pub use moments::moment_svg;
pub use opening::{Opened, Opening, PlayedSeries, open_replay, spread_source};
pub use words::{entry_in_words, journal_lines, order_in_words, remark_in_words, spread_rule_in_words};
pub use written::{RehearsalFiles, RehearsalOut, write_beside, write_rehearsal};

/// What orders came to.
pub struct PlayedOrders {
    /// How it went.
    pub outcome: Outcome,
    /// Orders of a list whose times name no zone: they are taken for UTC.
    pub unzoned: usize,
    /// Lines of a script that did nothing.
    pub idle: Vec<IdleLine>,
    /// What was played.
    pub opened: Opened,
}

impl PlayedOrders {
    /// The replay at its end.
    pub fn replay(&self) -> &Replay {
        &self.opened.replay
    }
}

/// Plays a list of orders.
///
/// # Errors
/// Where a series cannot be played, or the orders cannot be read.
pub fn play_orders(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<PlayedOrders> {
    let plan = Plan::read(step)?;
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let opening = Opening {
        series: &step.series,
        span,
        begin: None,
        factor: None,
        rules: step.rules()?,
        account: step.account.as_deref(),
        // A script may look at volumes.
        prices_only: step.script.is_none(),
        spread_of: step.spread_of.as_ref(),
    };
    let mut opened = open_replay(shelf, &opening)?;
    let names: Vec<String> = step.series.iter().map(ToString::to_string).collect();
    let rows = opened.played.iter().map(|one| one.info.edition.rows).sum();
    job.begin(format!("rehearse {}", names.join(" ")), rows);
    let unzoned = match &plan {
        Plan::Orders(orders) => orders.iter().filter(|order| !order.is_zoned).count(),
        Plan::Script(_) => 0,
    };
    let mut idle = Vec::new();
    let tickets = match &plan {
        Plan::Orders(orders) => {
            orders.iter().map(|order| ticket_of(order, &opened.played)).collect::<Result<Vec<_>>>()?
        }
        Plan::Script(script) => {
            let on = script_run(&opened);
            idle = run_script(&mut opened.replay, script, &on, job)?;
            Vec::new()
        }
    };
    let outcome = run_orders(&mut opened.replay, &tickets, Micros::MAX, job)?;
    Ok(PlayedOrders { outcome, unzoned, idle, opened })
}

/// What is done in a rehearsal without a screen.
enum Plan {
    Orders(Vec<FileOrder>),
    Script(Script),
}

impl Plan {
    fn read(step: &RehearseStep) -> Result<Plan> {
        if let Some(path) = &step.script {
            let text = std::fs::read_to_string(path)
                .map_err(|e| Error::input(format!("The script {} cannot be read: {e}.", path.display())))?;
            return script_in(&text, &path.display().to_string()).map(Plan::Script);
        }
        let orders = step.orders.as_deref().ok_or_else(|| {
            Error::arguments(
                "A rehearsal without a screen needs orders: a CSV file of time,side,lots, or a script.",
            )
        })?;
        read_orders(orders).map(Plan::Orders)
    }
}

/// What a script is run on.
fn script_run(opened: &Opened) -> ScriptRun {
    let one = |one: &PlayedSeries| {
        let (edition, session) = (&one.info.edition, one.instrument.sheet.session.clone());
        let rows = Columns::empty(&edition.fields, edition.scale);
        (one.instrument.name.clone(), one.info.name.frame, rows, session)
    };
    let last = opened.played.iter().map(|one| one.info.edition.last).max();
    let span = Span::new(opened.began, last.unwrap_or(opened.began) + 1);
    ScriptRun { instruments: opened.played.iter().map(one).collect(), span }
}

/// An order of a file for the instrument that it names.
fn ticket_of(order: &FileOrder, played: &[PlayedSeries]) -> Result<(Micros, Ticket)> {
    let is_one = |one: &PlayedSeries| {
        one.instrument.name == order.instrument || one.info.name.to_string() == order.instrument
    };
    let of = match (order.instrument.as_str(), played) {
        ("", [_]) => 0,
        ("", _) => {
            return Err(Error::input(format!(
                "The order in line {} names no instrument, and {} are played.",
                order.line,
                played.len()
            )));
        }
        (name, _) => played.iter().position(is_one).ok_or_else(|| {
            Error::input(format!(
                "The order in line {} is for {}, which is not played.",
                order.line,
                stavel_core::error::printable(name)
            ))
        })?,
    };
    let ticket = order.ticket(of, played[of].info.edition.scale.price);
    Ok((order.time, ticket.map_err(|e| e.within("The orders"))?))
}

/// Plays a list of orders without a screen.
pub fn rehearse(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<StepReport> {
    let PlayedOrders { outcome, unzoned, idle, opened } = play_orders(shelf, step, job)?;
    let desk = opened.replay.desk();
    let currency = &opened.currency;
    let figures = figures_of(desk, opened.began);
    let mut json = document::outcome_json(&outcome, &opened, &figures);
    json["series"] = match step.series.as_slice() {
        [one] => serde_json::json!(one),
        all => serde_json::json!(all),
    };
    let names: Vec<String> = step.series.iter().map(ToString::to_string).collect();
    let account = desk.account();
    let positions: Vec<String> = match desk.traded() {
        [_] => vec![lots_text(account.position(0))],
        all => all
            .iter()
            .enumerate()
            .map(|(of, traded)| format!("{} {}", traded.name, lots_text(account.position(of))))
            .collect(),
    };
    let mut lines = vec![format!(
        "{}: {} quotes, {} fills, realised {} {currency} after costs of {}, position {}",
        names.join(" "),
        outcome.quotes,
        desk.deals().count(),
        money(account.realised()),
        money(account.costs()),
        positions.join(", ")
    )];
    lines.extend(journal_lines(desk, currency, 2));
    let mark = |remark: &OrderRemark| if remark.fate.is_doubtful() { "▲" } else { "○" };
    lines.extend(
        outcome.remarks.iter().map(|remark| format!("  {} {}", mark(remark), remark_in_words(remark))),
    );
    if figures.doubtful > 0 {
        lines.push(format!(
            "  ▲ {} of {} trades are in doubt{}",
            figures.doubtful,
            figures.all.trades,
            why_in_doubt(desk)
        ));
    }
    for line in &idle {
        let mark = if line.why == Idle::NeverHeld { "○" } else { "▲" };
        lines.push(format!("  {mark} {}", idle_in_words(line)));
    }
    json["idle"] =
        idle.iter().map(|line| serde_json::json!({"line": line.line, "why": idle_in_words(line)})).collect();
    if unzoned > 0 {
        let times = counted(unzoned as u64, "time");
        lines.push(format!("  {times} of the orders without a zone taken as UTC"));
    }
    let doubts = doubts_of(&opened, &mut lines);
    lines.extend(spreads_in_words(&outcome, &opened));
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    let mut files = Vec::new();
    if let Some(out) = &step.out {
        let layout = step.layout.as_deref().map(|name| layout_named(shelf, name)).transpose()?;
        let clock = step.clock.clone().unwrap_or_else(Clock::utc);
        let order = RehearsalOut { path: out.clone(), table: step.table, layout, clock };
        let written = write_rehearsal(shelf, &opened, &order, job)?;
        lines.extend(written.in_words().iter().map(|line| format!("  {line}")));
        json["path"] = serde_json::json!(out);
        files.extend(written.files.into_iter().map(|(path, _)| path));
    }
    let is_odd = outcome.remarks.iter().any(|remark| remark.fate.is_doubtful());
    let is_beyond = desk.deals().any(|deal| deal.depth == DealDepth::Beyond);
    let is_idle = idle.iter().any(|line| line.why != Idle::NeverHeld);
    let mut wants_person = is_odd || is_idle || is_beyond || !doubts.is_empty() || figures.doubtful > 0;
    if let Some(earlier) = &step.against {
        let differs = compared::compare(&mut json, earlier, &mut lines)?;
        wants_person |= differs;
    }
    Ok(StepReport { wants_person, files, ..StepReport::new(json, lines) })
}

/// Where quotes had their spread from that say none themselves.
fn spreads_in_words(outcome: &Outcome, opened: &Opened) -> Vec<String> {
    let used = outcome.spreads;
    let of =
        [(used.measured, "the usual one of their hour of the week"), (used.sheet, "that of the spec sheet")];
    let mut lines: Vec<String> = of
        .into_iter()
        .filter(|(quotes, _)| *quotes > 0)
        .map(|(quotes, what)| format!("  the spread of {quotes} quotes is {what}: their rows say none"))
        .collect();
    if used.measured > 0 && opened.replay.tapes().iter().any(|tape| tape.spreads().looks_ahead()) {
        lines.push(
            "  no row before the beginning says a spread, so the usual one is measured over later rows"
                .to_owned(),
        );
    }
    lines
}

/// A line of a script that did nothing, in words.
fn idle_in_words(idle: &IdleLine) -> String {
    let line = idle.line;
    match idle.why {
        Idle::NeverHeld => {
            format!("line {line} of the script did nothing: its condition never began to hold")
        }
        Idle::NeverKnown => format!(
            "line {line} of the script did nothing: its condition could never be told, since a value that it needs is not in these rows or there are too few bars"
        ),
        Idle::NoMoment => {
            format!("line {line} of the script did nothing: none of its moments lies among the rows")
        }
    }
}

/// Why trades are in doubt, as the end of a sentence.
fn why_in_doubt(desk: &Desk) -> &'static str {
    let is_beyond = |deal: &&Deal| deal.depth == DealDepth::Beyond;
    match (
        desk.deals().any(|deal| is_beyond(&deal)),
        desk.deals().any(|deal| deal.doubtful && !is_beyond(&deal)),
    ) {
        (true, false) => {
            ": the recorded depth had less than the order wanted, so the rest was dealt at its last level"
        }
        (false, _) => ": within a bar it is not known what came first, so the worse was taken",
        (true, true) => "; the journal says why for each fill",
    }
}

/// What a careful person would look at, beside the orders; what only has to be told is added to the lines.
fn doubts_of(opened: &Opened, lines: &mut Vec<String>) -> Vec<String> {
    let mut doubts = opened.doubts.clone();
    let desk = opened.replay.desk();
    let [recorded, without, beyond] = depth::deals_by_depth(desk);
    lines.extend(
        opened.played.iter().filter_map(|one| Some(format!("  {}", ask_in_words(one.ask.as_ref()?)))),
    );
    for depth in opened.played.iter().filter_map(|one| one.depth.as_ref().filter(|d| d.sizes.is_some())) {
        lines.push(format!("  sizes by the recorded depth of {}", depth.info.name));
    }
    if opened.played.iter().any(|one| one.depth.as_ref().is_some_and(|d| d.sizes.is_some())) {
        lines.push(format!(
            "  {recorded} fills found their size in it, {beyond} went beyond it, {without} had no depth of the last minute"
        ));
    }
    for one in &opened.played {
        if one.in_points {
            lines.push(format!(
                "  nobody has said what a step of its price is worth, so this is in points, without costs: stavel compose {} --set tick_size=… --set tick_value=…",
                one.instrument.name
            ));
        } else {
            doubts.extend(one.instrument.doubts());
        }
        let margin = &one.instrument.sheet.margin;
        if opened.replay.desk().rules().balance.is_some() && margin.of(Decimal::ONE, Decimal::ONE).is_none() {
            doubts.push(format!(
                "nobody has said what a lot of {0} binds, so no margin was looked at: stavel compose {0} --set margin=…",
                one.instrument.name
            ));
        }
        if let Some(rebuilt) = one.rebuilt() {
            lines.push(format!("  {}: {rebuilt}", one.info.name));
        }
    }
    doubts
}
