//! The rhythm of the day: weeks whose busy and quiet hours sit at other hours than in the weeks around.

use crate::model::time::{DAY, HOUR};
use crate::model::{Clock, Micros, Span};
use crate::stats::Correlation;

/// How far a week may have slipped, in hours.
const REACH: i64 = 3;
/// How much better the shifted profile must fit.
const MARGIN: f32 = 0.12;
/// The longest run of weeks that is a slip; what lasts longer is another rule.
const LONGEST: usize = 6;

/// Weeks (first day, movement by hour of the wall's day) that slipped against the weeks before and after
/// them: their span and by how much.
///
/// Weeks in which New York and Europe are not at their usual distance are passed over: then half of the
/// market sits at another hour without any clock being wrong.
pub fn slips(weeks: &[(i64, [f32; 24])]) -> Vec<(Span, Micros)> {
    let usual = mean_profile(weeks);
    let shifts: Vec<Option<i64>> =
        weeks.iter().map(|(day, p)| shift_of(p, &usual).filter(|_| !is_odd(*day))).collect();
    let mut out = Vec::new();
    let mut i = 0;
    while i < weeks.len() {
        let Some(shift) = shifts[i].filter(|s| *s != 0) else {
            i += 1;
            continue;
        };
        let run = shifts[i..].iter().take_while(|s| **s == Some(shift)).count();
        let calm = |at: Option<usize>| at.and_then(|at| shifts.get(at)).is_some_and(|s| *s == Some(0));
        // At home on both sides: a series that ends in another rhythm may have another clock there.
        if run <= LONGEST && calm(i.checked_sub(1)) && calm(Some(i + run)) {
            let span = Span::new(weeks[i].0 * DAY - DAY, (weeks[i + run - 1].0 + 6) * DAY);
            out.push((span, shift * HOUR));
        }
        i += run;
    }
    out
}

fn mean_profile(weeks: &[(i64, [f32; 24])]) -> [f32; 24] {
    let mut mean = [0.0; 24];
    for (_, profile) in weeks {
        let sum: f32 = profile.iter().sum::<f32>().max(1.0);
        mean.iter_mut().zip(profile).for_each(|(m, p)| *m += p / sum);
    }
    mean
}

/// By how many hours a profile fits the usual one best; none where it does not clearly fit.
fn shift_of(profile: &[f32; 24], usual: &[f32; 24]) -> Option<i64> {
    if profile.iter().filter(|v| **v > 0.0).count() < 20 {
        return None;
    }
    let fit = |shift: i64| {
        let pairs = (0..24).map(|h| (profile[h], usual[(h as i64 - shift).rem_euclid(24) as usize]));
        correlation(pairs)
    };
    let fits: Vec<(i64, f32)> = (-REACH..=REACH).map(|s| (s, fit(s))).collect();
    let here = fits[REACH as usize].1;
    let best = fits.iter().copied().max_by(|a, b| a.1.total_cmp(&b.1))?;
    if best.0 != 0 && best.1 - here > MARGIN && best.1 > 0.8 {
        Some(best.0)
    } else if here > 0.6 {
        Some(0)
    } else {
        None
    }
}

fn correlation(pairs: impl Iterator<Item = (f32, f32)>) -> f32 {
    let mut sums = Correlation::default();
    pairs.for_each(|(a, b)| sums.add(f64::from(a), f64::from(b)));
    sums.about_mean() as f32
}

/// True where New York is not five hours behind London in the week of a Monday.
fn is_odd(monday: i64) -> bool {
    let at = |zone: &str| Clock::zone(zone, 0).map_or(0, |c| c.offset_at((monday + 2) * DAY));
    at("Europe/London") - at("America/New_York") != 5 * HOUR
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_that_sits_two_hours_late_is_found_and_a_new_rule_is_none() {
        let monday = 19_723; // 2024-01-01
        let busy = |h: i64, shift: i64| 10.0 + 90.0 * (-((h - shift - 14).pow(2) as f32) / 18.0).exp();
        let week = |i: i64, shift: i64| (monday + 7 * i, std::array::from_fn(|h| busy(h as i64, shift)));
        let mut weeks: Vec<(i64, [f32; 24])> = (0..9).map(|i| week(i, 0)).collect();
        weeks[4] = week(4, 2);
        let span = Span::new((monday + 27) * DAY, (monday + 34) * DAY);
        assert_eq!(slips(&weeks), [(span, 2 * HOUR)]);
        let ruled: Vec<(i64, [f32; 24])> = (0..9).map(|i| week(i, if i < 7 { 0 } else { 1 })).collect();
        assert_eq!(slips(&ruled), []);
    }
}
