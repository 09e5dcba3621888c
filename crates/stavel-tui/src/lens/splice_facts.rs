//! Splice in words: the rule, the levels, the order, and the series joined before.

use stavel_core::splice::{SpliceRule, SpliceWishes};

use super::FactLine;
use super::splice_rules::{RuleChoice, rule_in_words};
use super::splice_state::{SpliceLens, has_layers};
use crate::canvas::thousands;
use crate::view::View;

/// The facts of the lens.
pub fn facts(lens: &SpliceLens, view: &View<'_>) -> Vec<FactLine> {
    let ask = lens.ask();
    let mut out = vec![FactLine::heading(format!("rule {}", rule_in_words(&ask.rule)))];
    let choice = RuleChoice::of(&ask.rule);
    out.push(FactLine::words(choice.about()));
    if let SpliceRule::Hours(week) = &ask.rule {
        out.push(FactLine::words(week.to_string()));
    }
    out.push(FactLine::words(choice.keys()));
    level_facts(lens, &ask, &mut out);
    out.push(FactLine::Gap);
    out.push(FactLine::heading("order"));
    for (i, s) in lens.sources(view).iter().enumerate() {
        out.push(FactLine::words(format!("{} {}", i + 1, s.name.short())));
    }
    out.push(FactLine::words("p: the next one comes first"));
    out.push(FactLine::words(if ask.layered {
        "Ticks where there are ticks, minutes elsewhere. y: bars only"
    } else if has_layers(view) {
        "The shorter history comes first. y: ticks and minutes in layers"
    } else {
        "The shorter history comes first: what the broker itself recorded is worth most."
    }));
    out.push(FactLine::Gap);
    joined_facts(lens, view, &mut out);
    out
}

fn joined_facts(lens: &SpliceLens, view: &View<'_>, out: &mut Vec<FactLine>) {
    let Some(info) = lens.joined(view) else {
        return out.push(FactLine::words("not written yet: a joins them"));
    };
    out.push(FactLine::words(format!("{} is edition {}", info.name.short(), info.edition.number)));
    let Some(why) = view.snapshot.stale(info) else {
        return out.push(FactLine::words("it is up to date"));
    };
    out.push(FactLine::words(format!("▲ stale: {why}. a joins again; what is the same still is kept")));
}

/// How the later sources lie to the first, and what is done about it.
fn level_facts(lens: &SpliceLens, ask: &SpliceWishes, out: &mut Vec<FactLine>) {
    out.push(FactLine::Gap);
    out.push(FactLine::heading(format!("level {}", ask.level)));
    if let Some(p) = lens.proposal.get() {
        for (gap, series) in p.prepared.gaps.iter().zip(&p.sources[1..]) {
            let (first, second) = (p.sources[0].short(), series.short());
            out.push(FactLine::words(match gap {
                None => format!("{second}: no time in common"),
                Some(gap) => match gap.side {
                    Some(side) => side.in_words(&first, &second),
                    None if gap.median == 0 => format!("{second} is level with {first}"),
                    None => format!("{second} lies {:+} points from {first}", gap.median),
                },
            }));
        }
        if p.prepared.keeps_older {
            out.push(FactLine::words(
                "as measured when it was joined before, so that no row of the past changes",
            ));
        }
        if p.told.carried > 0 {
            out.push(FactLine::words(format!("{} rows get a spread", thousands(p.told.carried))));
        }
    }
    out.push(FactLine::words("l: none, shift or ratio"));
    out.push(FactLine::words(if ask.carry_spread { "c: spreads are carried" } else { "c: carry spreads" }));
}
