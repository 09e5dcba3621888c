use super::*;
use crate::job::Job;
use crate::model::time::{HOUR, MINUTE, Micros, parse};
use crate::model::{Field, Scale, Session, Span};

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        holidays: vec![],
    }
}

/// Bars of `step` through the session, UTC.
fn market(from: &str, to: &str, step: Micros, seed: u64) -> Columns {
    let mut rows = Columns::empty(&[Field::High, Field::Low, Field::Close], Scale { price: 5, volume: 0 });
    let mut rng = fastrand::Rng::with_seed(seed);
    let mut price = 102_000;
    for open in session().open_spans(Span::new(parse(from).unwrap(), parse(to).unwrap())) {
        let mut t = open.from.div_euclid(step) * step;
        while t < open.to {
            price += rng.i64(-12..=12);
            rows.time.push(t);
            let reach = rng.i64(5..40);
            [price + reach, price - reach, price]
                .into_iter()
                .zip(&mut rows.data)
                .for_each(|(v, c)| c.push(v));
            t += step;
        }
    }
    rows
}

/// The same market as a broker writes it: its clock, noise of two points, a tenth of the bars missing.
fn broker(of: &Columns, clock: &Clock) -> Columns {
    let mut rng = fastrand::Rng::with_seed(9);
    let mut rows = of.clone();
    rows.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    for column in &mut rows.data {
        column.iter_mut().for_each(|v| *v += rng.i64(-2..=2));
    }
    let keep: Vec<bool> = (0..rows.len()).map(|_| rng.f64() > 0.1).collect();
    rows.retain(|i| keep[i]);
    rows.sort();
    rows
}

fn found(clock: &str, from: &str, to: &str, step: Micros) -> Fit {
    let there = market(from, to, step, 3);
    let here = broker(&there, &clock.parse().unwrap());
    fit(&correlate(&here, &there, step, &Job::unwatched()).unwrap())
}

#[test]
fn clocks_of_every_family_are_found_over_a_year_of_minutes() {
    for clock in ["UTC", "UTC+5:30", "UTC-12", "America/New_York+7h", "Europe/Athens", "Australia/Sydney"] {
        let fit = found(clock, "2023-02-06", "2024-01-20", MINUTE);
        assert_eq!(fit.clock.to_string(), clock);
        assert!(fit.confidence > 0.97 && fit.weeks.iter().all(|w| w.agrees), "{clock}: {}", fit.confidence);
    }
}

#[test]
fn hourly_bars_do_too() {
    assert_eq!(
        found("America/New_York+7h", "2023-02-06", "2024-03-20", HOUR).clock.to_string(),
        "America/New_York+7h"
    );
}

#[test]
fn three_weeks_name_the_clocks_that_stay_possible() {
    let fit = found("Europe/Athens", "2024-01-08", "2024-01-27", MINUTE);
    assert_eq!(fit.clock.to_string(), "UTC+2", "the simplest that explains them");
    let others: Vec<String> = fit.alternatives.iter().map(|a| a.clock.to_string()).collect();
    assert!(
        others.contains(&"Europe/Athens".into()) && others.contains(&"America/New_York+7h".into()),
        "{others:?}"
    );
    assert!(fit.alternatives.iter().all(|a| a.differs.is_empty()));
}

#[test]
fn unlike_series_give_no_clock() {
    let (here, there) =
        (market("2023-06-01", "2023-09-01", MINUTE, 1), market("2023-06-01", "2023-09-01", MINUTE, 2));
    let fit = fit(&correlate(&here, &there, MINUTE, &Job::unwatched()).unwrap());
    assert!(fit.confidence < LEAST_CONFIDENCE);
    assert!(
        correlate(&here, &market("2020-06-01", "2020-09-01", MINUTE, 2), MINUTE, &Job::unwatched()).is_err()
    );
}

#[test]
fn a_slipped_week_disagrees_and_the_longest_bars_match() {
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let mut there = market("2023-10-02", "2023-12-16", MINUTE, 4);
    let here = broker(&there, &clock);
    let week = Span::new(parse("2023-11-12").unwrap(), parse("2023-11-18").unwrap());
    there.time.iter_mut().filter(|t| week.holds(**t)).for_each(|t| *t += HOUR);
    let fit = fit(&correlate(&here, &there, MINUTE, &Job::unwatched()).unwrap());
    assert_eq!(fit.clock, clock);
    let odd: Vec<Micros> = fit.weeks.iter().filter(|w| !w.agrees).map(|w| w.offset).collect();
    assert_eq!(odd, [HOUR]);
    let evidence = longest_bars(&here, &there, &clock, 10);
    assert_eq!(evidence.len(), 10);
    assert!(evidence.iter().filter(|e| (e.range_here - e.range_there).abs() <= 4).count() >= 8);
}

#[test]
fn the_fast_correlation_agrees_with_the_plain_sum() {
    let there = market("2024-01-07", "2024-01-20", 30 * MINUTE, 6);
    let here = broker(&there, &"UTC+3".parse().unwrap());
    let weeks = correlate(&here, &there, 30 * MINUTE, &Job::unwatched()).unwrap();
    let week = &weeks[0];
    let change = |rows: &Columns, t: Micros| -> f64 {
        let at = |t| rows.time.binary_search(&t).ok().map(|i| rows.column(Field::Close)[i]);
        match (at(t), at(t - 30 * MINUTE)) {
            (Some(b), Some(a)) => (b - a) as f64,
            _ => 0.0,
        }
    };
    for offset in [-14 * HOUR, -HOUR, 0, 3 * HOUR, 13 * HOUR] {
        let times: Vec<Micros> = (0..336).map(|i| week.start + i * 30 * MINUTE).collect();
        let pairs: Vec<(f64, f64)> =
            times.iter().map(|&t| (change(&here, t), change(&there, t - offset))).collect();
        let sum: f64 = pairs.iter().map(|(x, y)| x * y).sum();
        let norm =
            pairs.iter().map(|p| p.0 * p.0).sum::<f64>() * pairs.iter().map(|p| p.1 * p.1).sum::<f64>();
        assert!((week.at(offset) as f64 - sum / norm.sqrt()).abs() < 1e-4, "{offset}");
    }
}

#[test]
fn anchoring_inverts_the_clock() {
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let there = market("2024-03-04", "2024-03-20", MINUTE, 8);
    let mut here = there.clone();
    here.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    assert_eq!(anchor(&mut here, &clock), 0);
    assert_eq!(here, there);
}
