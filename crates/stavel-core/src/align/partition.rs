//! A clock that was changed: the best division of the weeks into stretches, each under one rule.
//!
//! The division is optimal for its cost: what the rules leave unexplained plus a fixed price for each change
//! (penalised least cost, found by dynamic programming over the weeks; Jackson et al., "An algorithm for
//! optimal partitioning of data on an interval", IEEE Signal Processing Letters 12, 2005).

use super::rules::ClockRule;

/// A change of clock must explain as much more as this many whole weeks give.
const PENALTY_CHANGE: f64 = 1.75;
/// Fewest weeks of a stretch.
pub(super) const LEAST_WEEKS: usize = 2;

/// Weeks, by their places, under one rule, by its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct RuleWeeks {
    pub from: usize,
    pub to: usize,
    pub rule: usize,
}

/// Divides weeks into stretches of [`LEAST_WEEKS`] or more. `mean` is what a week gives on average. Gives what
/// the rules get in all, less the penalties, with the stretches in order.
pub(super) fn partition(rules: &[ClockRule], mean: f64) -> (f64, Vec<RuleWeeks>) {
    let weeks = rules.first().map_or(0, |r| r.got.len());
    // Every rule pays its penalty by the week.
    let gain = |rule: usize, week: usize| rules[rule].got[week] - rules[rule].penalty * mean;
    let price = PENALTY_CHANGE * mean;
    // The best division of the weeks before each, with its last stretch; and by rule, the best that ends in
    // that rule, with the place where its stretch began.
    let mut best: Vec<(f64, Option<RuleWeeks>)> = vec![(0.0, None); weeks + 1];
    let mut running: Vec<(f64, usize)> = vec![(f64::MIN, 0); rules.len()];
    for week in 1..=weeks {
        best[week].0 = f64::MIN;
        for rule in 0..rules.len() {
            running[rule].0 += gain(rule, week - 1);
            if let Some(from) = week.checked_sub(LEAST_WEEKS)
                && best[from].0 > f64::MIN
            {
                let own: f64 = (from..week).map(|w| gain(rule, w)).sum();
                let begun =
                    best[from].0 + own - rules[rule].once * mean - if from == 0 { 0.0 } else { price };
                if begun > running[rule].0 {
                    running[rule] = (begun, from);
                }
            }
            let (value, from) = running[rule];
            // A stretch that runs on is no worse than one cut in two, so ties keep the rule of lower place.
            if value > best[week].0 {
                best[week] = (value, Some(RuleWeeks { from, to: week, rule }));
            }
        }
    }
    let mut out = Vec::new();
    let mut at = weeks;
    while let Some(stretch) = best[at].1 {
        out.push(stretch);
        at = stretch.from;
    }
    out.reverse();
    (best[weeks].0, out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Clock;
    use crate::model::time::HOUR;
    use proptest::prelude::*;

    fn rules(got: Vec<Vec<f64>>) -> Vec<ClockRule> {
        let rule =
            |(i, got)| ClockRule { clock: Clock::fixed(i as i64 * HOUR), penalty: 0.01, once: 0.1, got };
        got.into_iter().enumerate().map(rule).collect()
    }

    /// The value of the best division by trying all of them.
    fn plain(rules: &[ClockRule], from: usize, mean: f64) -> f64 {
        let weeks = rules[0].got.len();
        let mut best = f64::MIN;
        for to in from + LEAST_WEEKS..=weeks {
            let own =
                |r: &ClockRule| (from..to).map(|w| r.got[w] - r.penalty * mean).sum::<f64>() - r.once * mean;
            let own: f64 = rules.iter().map(own).fold(f64::MIN, f64::max);
            let rest = if to == weeks { 0.0 } else { plain(rules, to, mean) - PENALTY_CHANGE * mean };
            best = best.max(own + rest);
        }
        best
    }

    proptest! {
        #[test]
        fn no_division_is_better(
            got in proptest::collection::vec(proptest::collection::vec(0.0f64..1.0, 9), 1..5),
        ) {
            let rules = rules(got);
            let (value, stretches) = partition(&rules, 0.5);
            prop_assert!((value - plain(&rules, 0, 0.5)).abs() < 1e-9);
            prop_assert_eq!((stretches[0].from, stretches[stretches.len() - 1].to), (0, 9));
            prop_assert!(stretches.windows(2).all(|w| w[0].to == w[1].from));
        }
    }

    #[test]
    fn three_weeks_off_are_no_change_of_clock_and_six_are() {
        let weeks = |off: usize| {
            let is_off = |w: &usize| (10..10 + off).contains(w);
            let of = |sign: bool| (0..30).map(|w| f64::from(u8::from(is_off(&w) == sign))).collect();
            partition(&rules(vec![of(false), of(true)]), 1.0).1.len()
        };
        assert_eq!((weeks(3), weeks(6)), (1, 3));
    }
}
