//! Bars of ten years against a plain way that knows nothing of grids: each row is put into its session day by the wall
//! of the session's clock, minute by minute.

use super::*;
use crate::model::session::SundayPart;
use crate::model::time::{DAY, HOUR, MINUTE, civil_from_days, monday_of, parse, weekday};
use crate::model::{Clock, Columns, Field, Frame, Micros, Scale, Session, Side, Span};

/// A market in plain words: on which days it opens and closes, in minutes of the week of a zone.
struct PlainMarket {
    zone: Clock,
    /// Open minutes of the week, from Monday 00:00, both within one week or over its end.
    open: Vec<(i64, i64)>,
    /// Days of the zone on which it closes at noon.
    half_days: Vec<i64>,
}

const WEEK_MINUTES: i64 = 7 * 1440;

impl PlainMarket {
    fn is_open_by_week(&self, t: Micros) -> bool {
        let wall = self.zone.to_wall(t);
        let minute = (wall - monday_of(wall.div_euclid(DAY)) * DAY) / MINUTE;
        self.open
            .iter()
            .any(|(a, b)| (*a..*b).contains(&minute) || (*a..*b).contains(&(minute + WEEK_MINUTES)))
    }

    fn is_open(&self, t: Micros) -> bool {
        let wall = self.zone.to_wall(t);
        let is_over = wall.rem_euclid(DAY) >= 12 * HOUR && self.half_days.contains(&wall.div_euclid(DAY));
        self.is_open_by_week(t) && !is_over
    }

    /// True where some minute of a day of a clock is open; every ten minutes are looked at.
    fn opens_on(&self, clock: &Clock, day: i64) -> bool {
        let (from, to) = (clock.day_start(day), clock.day_start(day + 1));
        (from..to).step_by(10 * MINUTE as usize).any(|t| self.is_open_by_week(t))
    }

    /// The first open minute of a day of a clock.
    fn opening(&self, clock: &Clock, day: i64) -> Micros {
        let (from, to) = (clock.day_start(day), clock.day_start(day + 1));
        (from..to).step_by(MINUTE as usize).find(|t| self.is_open_by_week(*t)).unwrap_or(from)
    }
}

/// What tells the bar of a row from another.
fn key(market: &PlainMarket, clock: &Clock, sunday: SundayPart, frame: Frame, t: Micros) -> (i64, i64) {
    let day = clock.to_wall(t).div_euclid(DAY);
    let Frame::Bars { count, unit } = frame else { unreachable!() };
    let n = i64::from(count);
    let begins_week = weekday(day) == 6 && market.opens_on(clock, day) && !market.opens_on(clock, day - 1);
    let counted = day + i64::from(begins_week && sunday == SundayPart::Monday);
    let (year, month, _) = civil_from_days(counted);
    match unit {
        crate::model::Unit::Minute => (day, (t - market.opening(clock, day)).div_euclid(n * MINUTE)),
        crate::model::Unit::Hour => (day, (t - market.opening(clock, day)).div_euclid(n * HOUR)),
        crate::model::Unit::Day => (counted.div_euclid(n), 0),
        crate::model::Unit::Week => (monday_of(day + i64::from(begins_week)).div_euclid(7), 0),
        crate::model::Unit::Month => ((year * 12 + month - 1).div_euclid(n), 0),
    }
}

fn agrees(name: &str, market: &PlainMarket, session: &Session) {
    let span = Span::new(parse("2014-01-01").unwrap(), parse("2024-01-01").unwrap());
    let mut rows = Columns::empty(&[Field::Close], Scale { price: 2, volume: 0 });
    let mut rng = fastrand::Rng::with_seed(7);
    for t in (span.from..span.to).step_by(30 * MINUTE as usize) {
        if market.is_open(t) && rng.f64() < 0.9 {
            rows.time.push(t + rng.i64(0..30) * MINUTE);
        }
    }
    rows.time.retain(|t| market.is_open(*t));
    rows.data[0] = (0..rows.time.len()).map(|_| rng.i64(100..999)).collect();
    for frame in ["45m", "4h", "9h", "1d", "3d", "1w", "1mo", "3mo"] {
        let frame: Frame = frame.parse().unwrap();
        // The plain way reads a day minute by minute to find its opening: in short frames a part of the rows will do.
        let rows =
            if frame.length() < DAY { rows.rows(0..rows.len() / 12) } else { rows.rows(0..rows.len()) };
        let mut builder =
            Builder::new(Frame::M1, frame, Side::Bid, &rows.fields, rows.scale, session).unwrap();
        builder.push(&rows);
        let bars = builder.finish().bars;
        let keys: Vec<(i64, i64)> =
            rows.time.iter().map(|t| key(market, &session.clock, session.sunday, frame, *t)).collect();
        let closes = rows.column(Field::Close);
        let mut expected: Vec<[i64; 4]> = Vec::new();
        for (i, close) in closes.iter().enumerate() {
            match expected.last_mut() {
                Some(bar) if keys[i] == keys[i - 1] => {
                    *bar = [bar[0], bar[1].max(*close), bar[2].min(*close), *close];
                }
                _ => expected.push([*close; 4]),
            }
        }
        let prices = [Field::Open, Field::High, Field::Low, Field::Close].map(|f| bars.column(f));
        let built: Vec<[i64; 4]> = (0..bars.len()).map(|i| prices.map(|p| p[i])).collect();
        let apart = built.iter().zip(&expected).position(|(a, b)| a != b);
        let at = apart.map(|i| crate::model::time::wall(bars.time[i]));
        assert!(
            built == expected,
            "{name} {frame}: {} bars, {} expected, apart at {at:?}",
            built.len(),
            expected.len()
        );
        assert!(bars.time.windows(2).all(|w| w[0] < w[1]), "{name} {frame}: stamps grow");
    }
}

#[test]
fn frames_of_ten_years_agree_with_the_plain_way_in_every_family_of_zones() {
    let forex = || PlainMarket {
        zone: "America/New_York".parse().unwrap(),
        open: vec![(6 * 1440 + 17 * 60, 11 * 1440 + 17 * 60)],
        half_days: Vec::new(),
    };
    let week = "sun 17:00 - fri 17:00 America/New_York";
    // New York's family, Europe's, none, a southern one, and one a quarter of an hour off the whole.
    for clock in ["America/New_York+7h", "Europe/Oslo", "UTC", "Australia/Sydney", "Pacific/Chatham"] {
        for sunday in [SundayPart::Own, SundayPart::Monday] {
            let session = Session {
                week: week.parse().unwrap(),
                clock: clock.parse().unwrap(),
                sunday,
                ..Session::always()
            };
            agrees(&format!("forex on {clock}, sunday {sunday}"), &forex(), &session);
        }
    }
}

#[test]
fn frames_of_pit_hours_with_a_break_and_early_closes_agree_with_the_plain_way() {
    let oslo: Clock = "Europe/Oslo".parse().unwrap();
    let day = |date: &str| parse(date).unwrap().div_euclid(DAY);
    let half_days: Vec<i64> = (2014..2024).map(|year| day(&format!("{year}-12-24"))).collect();
    let hours = |d: i64| [(d * 1440 + 480, d * 1440 + 720), (d * 1440 + 780, d * 1440 + 930)];
    let barley = PlainMarket {
        zone: oslo.clone(),
        open: (0..5).flat_map(hours).collect(),
        half_days: half_days.clone(),
    };
    let holidays: Vec<_> = (2014..2024).map(|year| format!("{year}-12-24 -12:00").parse().unwrap()).collect();
    let session = Session {
        week: "mon-fri 08:00-12:00, mon-fri 13:00-15:30 Europe/Oslo".parse().unwrap(),
        clock: oslo,
        holidays,
        ..Session::always()
    };
    agrees("barley", &barley, &session);
    // A market that never rests has no Sunday to fold.
    let always = PlainMarket { zone: Clock::utc(), open: vec![(0, WEEK_MINUTES)], half_days: Vec::new() };
    let session = Session { sunday: SundayPart::Monday, ..Session::always() };
    agrees("all week", &always, &session);
}

#[test]
fn a_sunday_that_counts_as_monday_makes_five_days_a_week() {
    let mut session = Session {
        week: "sun 17:00 - fri 17:00 America/New_York".parse().unwrap(),
        clock: "Europe/Oslo".parse().unwrap(),
        ..Session::always()
    };
    let days = |session: &Session| -> Vec<i64> {
        let mut grid = Grid::new(Frame::D1, session);
        let span = Span::new(parse("2024-01-07").unwrap(), parse("2024-01-13").unwrap());
        let bars = session.open_spans(span);
        let mut stamps: Vec<Micros> = bars
            .iter()
            .flat_map(|s| (s.from..s.to).step_by(HOUR as usize))
            .map(|t| grid.bar_at(t).stamp)
            .collect();
        stamps.dedup();
        stamps.iter().map(|t| weekday(session.clock.day_of(*t))).collect()
    };
    assert!(session.has_sunday_part());
    let new_york = Session { clock: "America/New_York+7h".parse().unwrap(), ..session.clone() };
    assert!(!new_york.has_sunday_part() && !Session::always().has_sunday_part());
    assert_eq!(days(&session), [6, 0, 1, 2, 3, 4]);
    session.sunday = SundayPart::Monday;
    assert_eq!(days(&session), [0, 1, 2, 3, 4], "each is stamped on its own day");
}
