//! The frame of bars, by the grid that their stamps stand on.
//!
//! The usual gap between bars says how often there is trade, not how long a bar is: minutes with trade in
//! two of a hundred still begin on whole minutes, and on every one of them.

use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{Frame, Micros, Unit};

/// Lengths that bars shorter than a day have, in minutes, the longest first.
const MINUTES: [i64; 20] = [720, 480, 360, 240, 180, 120, 90, 60, 45, 30, 20, 15, 12, 10, 6, 5, 4, 3, 2, 1];
/// So many gaps stand on a grid by chance hardly ever.
const ENOUGH: usize = 12;

/// The frame of bars with these times, in whatever order; None where they do not tell it.
pub fn frame_of(times: &[Micros]) -> Option<Frame> {
    let mut times = times.to_vec();
    times.sort_unstable();
    times.dedup();
    let gaps: Vec<Micros> = times.windows(2).map(|w| w[1] - w[0]).collect();
    match *gaps.iter().min()? {
        // A day with a change of the clock has 23 hours.
        least if least >= 22 * HOUR => of_days(&gaps),
        least => of_minutes(&gaps, least),
    }
}

fn of_minutes(gaps: &[Micros], least: Micros) -> Option<Frame> {
    let share = |fits: &dyn Fn(Micros) -> bool| gaps.iter().filter(|g| fits(**g)).count() * 100 / gaps.len();
    // Weekends, early ends of trade and changes of the clock may lie beside the grid.
    let on_grid = |step: Micros| share(&|gap| gap % step == 0) >= 90;
    let usual = MINUTES.map(|minutes| minutes * MINUTE);
    let step = usual.into_iter().chain([least]).filter(|step| step % MINUTE == 0 && on_grid(*step)).max()?;
    // Few gaps tell only where they are the step itself.
    let is_dense = share(&|gap| gap == step) >= 50;
    (gaps.len() >= ENOUGH || is_dense).then(|| Frame::of_length(step))?
}

fn of_days(gaps: &[Micros]) -> Option<Frame> {
    // The bar that still runs may be written as the day on which the file was made.
    let gaps = if gaps.len() > 3 { &gaps[..gaps.len() - 1] } else { gaps };
    let days: Vec<i64> = gaps.iter().map(|gap| (gap + DAY / 2) / DAY).collect();
    let near = |gap: &Micros, day: &i64| (gap - day * DAY).abs() <= HOUR;
    if gaps.iter().zip(&days).filter(|(gap, day)| near(gap, day)).count() * 10 < gaps.len() * 9 {
        return None;
    }
    let most = |fits: &dyn Fn(i64) -> bool| days.iter().filter(|d| fits(**d)).count() * 5 >= days.len() * 4;
    let bars = |count, unit| Some(Frame::Bars { count, unit });
    match *days.iter().min()? {
        // The first trading days of months are up to five weeks apart, the last ones too.
        least if least >= 85 => None,
        least if least >= 26 && most(&|d| d <= 35) => bars(1, Unit::Month),
        // A week may begin a day later for a holiday.
        least if least >= 5 && most(&|d| (d + 1) % 7 <= 2) => bars(1, Unit::Week),
        least if least <= 4 && (most(&|d| d <= 4) || days.len() >= ENOUGH) => bars(1, Unit::Day),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{days_from_civil, parse, weekday};

    fn frame(times: &[Micros]) -> Option<String> {
        frame_of(times).map(|f| f.to_string())
    }

    fn start() -> Micros {
        parse("2024-03-04").unwrap()
    }

    #[test]
    fn sparse_minutes_are_minutes() {
        let mut rng = 7u64;
        let mut times = vec![start()];
        for _ in 0..300 {
            rng = rng.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            times.push(times[times.len() - 1] + (1 + (rng >> 33) as i64 % 100) * MINUTE);
        }
        assert_eq!(frame(&times).as_deref(), Some("1m"));
        let newest_first: Vec<Micros> = times.iter().rev().copied().collect();
        assert_eq!(frame(&newest_first).as_deref(), Some("1m"));
        times.sort_by_key(|t| t.wrapping_mul(0x9E37_79B9_7F4A_7C15u64 as i64));
        assert_eq!(frame(&times).as_deref(), Some("1m"));
    }

    #[test]
    fn every_usual_length_is_found_over_a_weekend() {
        for text in ["1m", "5m", "15m", "30m", "1h", "4h", "9h"] {
            let length = text.parse::<Frame>().unwrap().length();
            let week = (0..200).map(|i| start() + i * length);
            let times: Vec<Micros> = week.filter(|t| weekday(t / DAY) < 5).collect();
            assert_eq!(frame(&times).as_deref(), Some(text));
        }
    }

    #[test]
    fn days_weeks_and_months() {
        let open = |i: i64, hour: i64| start() + i * DAY + hour * HOUR;
        // Days by a clock that changes in the middle, without weekends.
        let days: Vec<Micros> =
            (0..40).filter(|i| i % 7 < 5).map(|i| open(i, if i > 20 { 21 } else { 22 })).collect();
        assert_eq!(frame(&days).as_deref(), Some("1d"));
        assert_eq!(frame(&(0..9).map(|i| open(i * 7, 0)).collect::<Vec<_>>()).as_deref(), Some("1w"));
        let months: Vec<Micros> = (1..13).map(|m| days_from_civil(2023, m, 1) * DAY).collect();
        assert_eq!(frame(&months).as_deref(), Some("1mo"));
    }

    #[test]
    fn what_times_do_not_tell_is_left_open() {
        let at = |minutes: &[i64]| minutes.iter().map(|m| start() + m * MINUTE).collect::<Vec<_>>();
        assert_eq!(frame(&at(&[5])), None);
        assert_eq!(frame(&at(&[0, 0])), None);
        // Few bars with trade, all gaps even by chance.
        assert_eq!(frame(&at(&[0, 4, 10, 22, 38])), None);
        let seconds: Vec<Micros> = (0..50).map(|i| start() + i * i * 1_000_000).collect();
        assert_eq!(frame(&seconds), None);
    }
}
