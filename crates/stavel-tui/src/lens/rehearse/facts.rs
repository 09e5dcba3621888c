//! What stands beside a rehearsal: the account, what waits, what it rests on, and what was announced so far.

use rust_decimal::Decimal;
use stavel_core::model::columns::shape_of;
use stavel_core::model::price::{scaled, unit};
use stavel_core::model::time::{DAY, length_in_words};
use stavel_core::model::{Micros, Shape, Span};
use stavel_core::rehearse::{lots_text, money_to};
use stavel_core::store::{FactFilter, InstrumentFact, fact_kind};
use stavel_work::spread_rule_in_words;

use super::drawn::{columns_on, drawn_so_far};
use super::picture::bars_of;
use super::play::Play;
use super::{Face, RehearseLens};
use crate::dates;
use crate::lens::{FactLine, rests_on};
use crate::view::View;

impl RehearseLens {
    pub(super) fn all_facts(&self, view: &View<'_>) -> Vec<FactLine> {
        if self.face == Face::Calendar {
            return self.calendar.facts(view);
        }
        let Some(play) = &self.play else { return Vec::new() };
        let mut out = facts_of(play);
        out.extend(dates_so_far(play, view));
        let bars = bars_of(play, columns_on(view));
        if let Some(at) = self.drawn_point(play, &bars) {
            out.extend(self.drawer.facts(&drawn_so_far(play, view), at, bars.scale.price.into()));
        }
        out
    }
}

/// The moment of the next event that has a time of its own; what it is stays untold.
pub fn next_event(play: &Play, view: &View<'_>) -> Option<Micros> {
    let filter = FactFilter { span: Some(Span::new(play.now + 1, Micros::MAX)), ..FactFilter::default() };
    let facts = view.snapshot.facts_about(&play.series().instrument, &filter);
    let events = facts.iter().filter(|fact| fact.kind == fact_kind::EVENT && fact.has_moment());
    events.map(|fact| fact.time).find(|time| *time > play.now)
}

/// The latest dates of the last days, up to the moment reached: what is announced later is not known yet.
fn dates_so_far(play: &Play, view: &View<'_>) -> Vec<FactLine> {
    let span = Span::new(play.now - 5 * DAY, play.now + 1);
    let filter = FactFilter { span: Some(span), ..FactFilter::default() };
    let facts = view.snapshot.facts_about(&play.series().instrument, &filter);
    // When in its day something was said that has no time is not known: it is only told when the day is over.
    let is_known = |fact: &&&InstrumentFact| {
        fact.has_moment() || fact.kind == fact_kind::HOLIDAY || fact.time + DAY <= play.now
    };
    let lines = facts.iter().rev().filter(is_known).filter_map(|fact| {
        let (shape, _) = dates::mark(fact)?;
        Some(FactLine::words(format!("{shape} {}", dates::in_words(fact))))
    });
    let lines: Vec<FactLine> = lines.take(3).collect();
    if lines.is_empty() {
        return lines;
    }
    [FactLine::Gap, FactLine::heading("announced")].into_iter().chain(lines).collect()
}

fn account_lines(play: &Play) -> Vec<FactLine> {
    let desk = play.replay.desk();
    let account = desk.account();
    let currency = &play.currency;
    let money = |amount| money_to(amount, play.money_decimals);
    let of = play.of();
    let mut out = vec![
        FactLine::heading("account"),
        FactLine::Pair("position", format!("{} lots", lots_text(account.position(of)))),
    ];
    if let Some(mean) = account.mean_price(of) {
        let decimals = usize::from(play.decimals());
        out.push(FactLine::Pair("at", format!("{:.*}", decimals + 1, mean / unit(play.decimals()) as f64)));
    }
    let open =
        desk.open_profit().map_or("not known".to_owned(), |open| format!("{} {currency}", money(open)));
    out.extend([
        FactLine::Pair("open", open),
        FactLine::Pair("realised", format!("{} {currency}", money(account.realised()))),
        FactLine::Pair("of it costs", money(Decimal::ZERO - account.costs())),
        FactLine::Pair("deals", desk.deals().count().to_string()),
        FactLine::Pair("orders", desk.orders().len().to_string()),
    ]);
    if let Some(equity) = desk.equity() {
        out.push(FactLine::Pair("equity", format!("{} {currency}", money(equity))));
        let margin =
            desk.margin().map_or("not known".to_owned(), |margin| format!("{} {currency}", money(margin)));
        out.push(FactLine::Pair("margin", margin));
    }
    out
}

fn facts_of(play: &Play) -> Vec<FactLine> {
    let desk = play.replay.desk();
    let traded = &desk.traded()[play.of()];
    let sheet = &traded.sheet;
    let one = &play.played[play.of()];
    let mut out = account_lines(play);
    out.extend([
        FactLine::Gap,
        FactLine::heading("spec sheet"),
        FactLine::Pair(
            "one point",
            format!("{} {}", sheet.money(1, traded.decimals).normalize(), sheet.quote),
        ),
        FactLine::Pair("commission", sheet.commission.to_string()),
        FactLine::Pair("swap", format!("{} / {} {}", sheet.swap_long, sheet.swap_short, sheet.swap_kind)),
    ]);
    if one.in_points {
        out.push(FactLine::words(
            "nobody has said what a step of the price is worth: profit is in points (7 says it)",
        ));
    } else {
        out.extend(rests_on(&one.instrument, &["contract_size", "tick_size", "tick_value"]));
    }
    out.extend(play.doubts.iter().map(|doubt| FactLine::words(format!("▲ {doubt}"))));
    let tape = play.tape();
    out.extend([
        FactLine::Gap,
        FactLine::heading("tape"),
        FactLine::words(match shape_of(&one.info.edition.fields) {
            Shape::Layered => "layers: recorded ticks where there are some, elsewhere a minute's open and its close",
            Shape::Quotes | Shape::Trades => "recorded ticks",
            Shape::Bars | Shape::Depth => {
                "bars rebuilt to ticks: the open when a bar begins, its close when it ends; high and low in the order that is worse"
            }
        }),
    ]);
    if one.ask.is_some() {
        out.push(FactLine::words("bid and ask each have bars of their own"));
    }
    let used = tape.spreads_used();
    if used.measured + used.sheet > 0 {
        out.push(FactLine::words(spread_rule_in_words(tape.spreads().source())));
        if used.measured > 0 && tape.spreads().looks_ahead() {
            out.push(FactLine::words("▲ measured over later rows: none before the beginning says a spread"));
        }
    }
    let left = one.info.edition.last - play.now;
    out.push(FactLine::Pair(
        "left",
        if left > DAY { format!("{} days", left / DAY) } else { length_in_words(left.max(0)) },
    ));
    for (i, mark) in play.bookmarks.iter().enumerate().rev().take(3) {
        out.push(FactLine::words(format!(
            "{} {} {}",
            i + 1,
            &stavel_core::model::time::wall(mark.at)[..16],
            mark.words
        )));
    }
    if let Some(quote) = play.quote() {
        let price = |points| scaled(points, play.decimals());
        out.push(FactLine::Pair("bid / ask", format!("{} / {}", price(quote.bid), price(quote.ask))));
    }
    out
}
