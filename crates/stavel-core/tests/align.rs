//! Finding clocks over rows in memory.

use stavel_core::align::{
    Fit, LEAST_CONFIDENCE, Mover, WeekFit, correlate, correlate_finely, fit_to, longest_bars,
};
use stavel_core::job::Job;
use stavel_core::model::Stamp;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, parse};
use stavel_core::model::{Clock, Columns, Field, Frame, Scale, Session, Span};

fn fit(weeks: &[WeekFit], bar: Micros) -> Fit {
    stavel_core::align::fit(weeks, bar, None)
}

fn session() -> Session {
    Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "America/New_York+7h".parse().unwrap(),
        ..Session::always()
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

/// Bars of `step` on the wall of a clock, out of shorter ones in UTC.
fn framed(rows: &Columns, step: Micros, clock: &Clock) -> Columns {
    let mut out = Columns::empty(&rows.fields, rows.scale);
    for i in 0..rows.len() {
        let wall = clock.to_wall(rows.time[i]).div_euclid(step) * step;
        let start = rows.time[i] + wall - clock.to_wall(rows.time[i]);
        let [high, low, close] = [0, 1, 2].map(|c| rows.data[c][i]);
        if out.time.last() == Some(&start) {
            let at = out.len() - 1;
            out.data[0][at] = out.data[0][at].max(high);
            out.data[1][at] = out.data[1][at].min(low);
            out.data[2][at] = close;
        } else {
            out.time.push(start);
            out.data.iter_mut().zip([high, low, close]).for_each(|(c, v)| c.push(v));
        }
    }
    out
}

fn found(clock: &str, from: &str, to: &str, step: Micros) -> Fit {
    let there = market(from, to, step, 3);
    let here = broker(&there, &clock.parse().unwrap());
    fit(&correlate(&here, &there, step, false, &Job::unwatched()).unwrap(), step)
}

/// True where two clocks show the same at every hour of a span.
fn alike(a: &Clock, b: &Clock, from: &str, to: &str) -> bool {
    let (from, to) = (parse(from).unwrap(), parse(to).unwrap());
    (from..to).step_by(HOUR as usize).all(|t| a.offset_at(t) == b.offset_at(t))
}

#[test]
fn clocks_of_every_family_are_found_over_a_year_of_minutes() {
    for clock in ["UTC", "UTC+5:30", "UTC-12", "America/New_York+7h", "Europe/Athens", "Australia/Sydney"] {
        let fit = found(clock, "2023-02-06", "2024-01-20", MINUTE);
        assert_eq!(fit.clock.to_string(), clock);
        assert!(fit.confidence > 0.97 && fit.weeks.iter().all(|w| w.agrees), "{clock}: {}", fit.confidence);
    }
}

/// Every whole and half hour and the zones that matter, by hourly bars of fourteen months, cut on the wall they
/// are written in, a tenth of them missing, against a vendor's quarters of an hour.
#[test]
fn every_clock_is_found_exactly_by_hourly_bars() {
    let (from, to) = ("2023-02-06", "2024-04-06");
    let there = market(from, to, 15 * MINUTE, 3);
    let fixed = (-24..=28).map(|halves: i64| Clock::fixed(halves * HOUR / 2));
    let zones = [
        "America/New_York+7h",
        "America/New_York+5h",
        "Europe/Athens",
        "Europe/London",
        "Australia/Sydney",
        "Asia/Kolkata",
        "Pacific/Chatham",
    ];
    let mut tried = 0;
    for clock in fixed.chain(zones.map(|z| z.parse().unwrap())) {
        let here = broker(&framed(&there, HOUR, &clock), &clock);
        let weeks = correlate_finely(&here, &there, (HOUR, 15 * MINUTE), false, &Job::unwatched()).unwrap();
        let fit = fit(&weeks, HOUR);
        assert!(alike(&fit.clock, &clock, from, to), "{clock} was taken for {}", fit.clock);
        assert!(fit.confidence > 0.97, "{clock}: {}", fit.confidence);
        tried += 1;
    }
    println!("{tried} clocks found exactly by hourly bars of 14 months");
    // Hours against hours, both cut at whole hours of UTC.
    for clock in ["America/New_York+7h", "UTC-3", "Asia/Kolkata"] {
        assert!(alike(&found(clock, from, to, HOUR).clock, &clock.parse().unwrap(), from, to), "{clock}");
    }
}

#[test]
fn three_weeks_name_the_clocks_that_stay_possible_and_when_they_part() {
    // A clock off UTC is likely one that changes; of UTC that cannot be said.
    for (clock, likely, others) in [
        ("Europe/Athens", "America/New_York+7h", [("Europe/Athens", "2024-03-20"), ("UTC+2", "2024-07-01")]),
        (
            "America/New_York+5h",
            "UTC",
            [("Europe/London", "2024-07-01"), ("America/New_York+5h", "2024-07-01")],
        ),
    ] {
        let fit = found(clock, "2024-01-08", "2024-01-27", MINUTE);
        assert_eq!(fit.clock.to_string(), likely);
        for (other, apart) in others {
            let told = fit.alternatives.iter().find(|a| a.clock.to_string() == other);
            let told = told.unwrap_or_else(|| panic!("{other} is not among {:?}", fit.alternatives));
            assert!(told.differs.is_empty(), "nothing here speaks against {other}");
            let apart = parse(apart).unwrap() / DAY;
            assert!(
                told.would_differ.iter().any(|(a, b)| (*a..=*b).contains(&apart)),
                "{:?}",
                told.would_differ
            );
        }
    }
}

#[test]
fn a_clock_that_was_changed_half_way_is_found_with_the_date() {
    let clock: Clock = "UTC+2, from 2023-07-09 America/New_York+7h".parse().unwrap();
    let there = market("2023-02-06", "2024-01-20", 15 * MINUTE, 3);
    let here = broker(&there, &clock);
    let fit = fit(&correlate(&here, &there, 15 * MINUTE, false, &Job::unwatched()).unwrap(), 15 * MINUTE);
    let [(at, after)] = fit.clock.changes() else { panic!("{}", fit.clock) };
    assert_eq!(after.to_string(), "America/New_York+7h");
    assert!((at - parse("2023-07-09").unwrap()).abs() <= DAY, "{}", fit.clock);
    assert!(fit.weeks.iter().all(|w| w.agrees) && fit.confidence > 0.97);
}

#[test]
fn bars_stamped_at_their_close_are_told_from_a_clock_a_minute_ahead() {
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let there = market("2023-09-04", "2024-01-20", MINUTE, 3);
    let mut here = broker(&there, &clock);
    here.time.iter_mut().for_each(|t| *t += MINUTE);
    let weeks = correlate(&here, &there, MINUTE, false, &Job::unwatched()).unwrap();
    let found = fit(&weeks, MINUTE);
    assert_eq!((found.clock.to_string().as_str(), found.stamp), ("America/New_York+7h", Stamp::Close));
    assert!(found.weeks.iter().all(|w| w.agrees));
    let mut mover = Mover::new(&found.clock, found.stamp, Frame::M1);
    let moved = mover.push(here);
    assert!(moved.time.iter().all(|t| there.time.binary_search(t).is_ok()));
    // A clock a person chose is rated by the same weeks.
    let wrong = fit_to(&weeks, MINUTE, &found, &"Europe/Athens".parse().unwrap(), Stamp::Close);
    let odd: Vec<Micros> = wrong.weeks.iter().filter(|w| !w.agrees).map(|w| w.start).collect();
    assert!(odd.len() == 1 && wrong.confidence < found.confidence, "{odd:?}");
}

#[test]
fn quotes_the_other_way_round_and_another_side_or_scale_are_compared_too() {
    let clock: Clock = "UTC+3".parse().unwrap();
    let there = market("2023-09-04", "2023-12-09", MINUTE, 3);
    let mut here = broker(&there, &clock);
    let turned = |v: i64| 10_000_000_000 / v;
    let high = std::mem::take(&mut here.data[0]);
    here.data[0] = here.data[1].iter().map(|v| turned(*v)).collect();
    here.data[1] = high.iter().map(|v| turned(*v)).collect();
    here.data[2].iter_mut().for_each(|v| *v = turned(*v));
    let weeks = correlate(&here, &there, MINUTE, true, &Job::unwatched()).unwrap();
    let found = fit(&weeks, MINUTE);
    assert!(found.clock == clock && found.weeks.iter().all(|w| w.agrees));
    let mut scaled = broker(&there, &clock);
    scaled.data.iter_mut().for_each(|c| c.iter_mut().for_each(|v| *v = *v / 10 + 700));
    let weeks = correlate(&scaled, &there, MINUTE, false, &Job::unwatched()).unwrap();
    assert_eq!(fit(&weeks, MINUTE).clock, clock);
}

#[test]
fn daily_bars_tell_at_which_hour_their_day_begins() {
    let there = market("2023-02-06", "2024-04-06", 15 * MINUTE, 3);
    for clock in ["America/New_York+7h", "UTC", "Europe/Oslo", "UTC+5:30"] {
        let clock: Clock = clock.parse().unwrap();
        let here = broker(&framed(&there, DAY, &clock), &clock);
        let weeks = correlate_finely(&here, &there, (DAY, 15 * MINUTE), false, &Job::unwatched()).unwrap();
        let fit = fit(&weeks, DAY);
        let speak = fit.weeks.iter().filter(|w| w.is_clear).count();
        assert!(fit.clock == clock && speak * 2 > fit.weeks.len(), "{clock}: {} by {speak}", fit.clock);
    }
    let days = framed(&there, DAY, &Clock::utc());
    let err = correlate_finely(&days, &days, (DAY, DAY), false, &Job::unwatched()).unwrap_err();
    assert!(err.to_string().contains("compare with minutes or hours"));
}

#[test]
fn unlike_series_give_no_clock() {
    let (here, there) =
        (market("2023-06-01", "2023-09-01", MINUTE, 1), market("2023-06-01", "2023-09-01", MINUTE, 2));
    let found = fit(&correlate(&here, &there, MINUTE, false, &Job::unwatched()).unwrap(), MINUTE);
    assert!(found.confidence < LEAST_CONFIDENCE);
    // The same rows in another order.
    let mut shuffled = there.clone();
    let mut order: Vec<usize> = (0..there.len()).collect();
    fastrand::Rng::with_seed(5).shuffle(&mut order);
    for (column, own) in shuffled.data.iter_mut().zip(&there.data) {
        *column = order.iter().map(|i| own[*i]).collect();
    }
    for step in [MINUTE, HOUR] {
        let utc = Clock::utc();
        let (a, b) = (framed(&shuffled, step, &utc), framed(&there, step, &utc));
        let found = fit(&correlate(&a, &b, step, false, &Job::unwatched()).unwrap(), step);
        assert!(found.confidence < LEAST_CONFIDENCE, "{}", found.confidence);
    }
    let before = market("2020-06-01", "2020-09-01", MINUTE, 2);
    assert!(correlate(&here, &before, MINUTE, false, &Job::unwatched()).is_err());
}

#[test]
fn a_slipped_week_disagrees_and_the_longest_bars_match() {
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let mut there = market("2023-10-02", "2023-12-16", MINUTE, 4);
    let here = broker(&there, &clock);
    let week = Span::new(parse("2023-11-12").unwrap(), parse("2023-11-18").unwrap());
    there.time.iter_mut().filter(|t| week.holds(**t)).for_each(|t| *t += HOUR);
    let fit = fit(&correlate(&here, &there, MINUTE, false, &Job::unwatched()).unwrap(), MINUTE);
    assert_eq!(fit.clock, clock);
    let odd: Vec<Micros> = fit.weeks.iter().filter(|w| !w.agrees).map(|w| w.offset).collect();
    assert_eq!(odd, [HOUR]);
    let evidence = longest_bars(&here, &there, &clock, 0, 10);
    assert_eq!(evidence.len(), 10);
    assert!(
        evidence.iter().filter(|e| e.range_there.is_some_and(|r| (e.range_here - r).abs() <= 4)).count() >= 8
    );
}

#[test]
fn the_fast_correlation_agrees_with_the_plain_sum() {
    // Without ranges only returns are compared.
    let flat = |mut rows: Columns| {
        (0..2).for_each(|c| rows.data[c] = rows.data[2].clone());
        rows
    };
    let there = market("2024-01-07", "2024-01-20", 30 * MINUTE, 6);
    let here = flat(broker(&there, &"UTC+3".parse().unwrap()));
    let there = flat(there);
    let weeks = correlate(&here, &there, 30 * MINUTE, false, &Job::unwatched()).unwrap();
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
fn anchoring_inverts_the_clock_and_the_hour_shown_twice_is_told_by_the_order_of_rows() {
    let clock: Clock = "America/New_York+7h".parse().unwrap();
    let there = market("2024-03-04", "2024-03-20", MINUTE, 8);
    let mut here = there.clone();
    here.time.iter_mut().for_each(|t| *t = clock.to_wall(*t));
    let mut mover = Mover::new(&clock, Stamp::Open, Frame::M1);
    assert!(mover.push(here) == there && mover.finish().is_none() && mover.doubtful().twice == 0);
    // A market that never closes, through the night in which Oslo's clocks go back.
    let oslo: Clock = "Europe/Oslo".parse().unwrap();
    let start = parse("2024-10-26 20:00").unwrap();
    let mut utc = Columns::empty(&[Field::Close], Scale::default());
    utc.time = (0..600).map(|i| start + i * MINUTE).collect();
    utc.data[0] = (0..600).collect();
    let mut written = utc.clone();
    written.time.iter_mut().for_each(|t| *t = oslo.to_wall(*t));
    written.sort();
    let mut mover = Mover::new(&oslo, Stamp::Open, Frame::M1);
    let mut back = Columns::empty(&[Field::Close], Scale::default());
    // In pieces that end within that hour.
    for from in (0..600).step_by(50) {
        back.append(&mover.push(written.rows(from..from + 50)));
    }
    back.append(&mover.finish().unwrap_or(Columns::empty(&[Field::Close], Scale::default())));
    assert!(back == utc);
    assert_eq!((mover.doubtful().twice, mover.doubtful().never), (120, 0));
    assert_eq!(mover.push(written.rows(0..0)).len(), 0);
}
