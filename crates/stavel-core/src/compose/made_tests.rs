//! Adjusted and stress variants on a shelf, held against the same worked out plainly.

use super::test_shelf::{columns, empty_shelf, put_rows};
use super::*;
use crate::frames::{FrameSettings, build_series};
use crate::job::Job;
use crate::measures::WeekProfiler;
use crate::model::actions::Actions;
use crate::model::columns::is_made_up;
use crate::model::stress::{Stress, Stretches};
use crate::model::time::{DAY, HOUR, MINUTE, date, parse};
use crate::model::variation::Variation;
use crate::model::{Clock, Columns, Field, Micros, Scale, SeriesName, Span};
use crate::store::{InstrumentFact, Shelf};

struct Bench {
    _dir: tempfile::TempDir,
    shelf: Shelf,
}

impl Bench {
    fn new() -> Bench {
        let (dir, shelf) = empty_shelf();
        Bench { _dir: dir, shelf }
    }

    fn put(&mut self, name: &str, rows: Columns) {
        put_rows(&mut self.shelf, name, rows);
    }

    fn say(&mut self, name: &str, key: &str, value: &str) {
        let own = [(key.to_owned(), value.to_owned())].into();
        let request = ComposeRequest { name: name.into(), own, ..ComposeRequest::default() };
        compose(&mut self.shelf, &request, &Job::unwatched()).unwrap();
    }

    fn vary(&mut self, name: &str, from: &str, variation: Variation) -> crate::Result<Composed> {
        let from: SeriesName = from.parse().unwrap();
        let request = ComposeRequest {
            name: name.into(),
            like: Some(from.instrument.clone()),
            from: Some(from),
            variation,
            ..ComposeRequest::default()
        };
        compose(&mut self.shelf, &request, &Job::unwatched())
    }

    fn stressed(&mut self, name: &str, from: &str, stress: Stress) -> crate::Result<Columns> {
        let made =
            self.vary(name, from, Variation { stress: Some(Box::new(stress)), ..Variation::default() })?;
        Ok(self.rows(&made.series.unwrap().name.to_string()))
    }

    fn rows(&self, name: &str) -> Columns {
        let info = self.shelf.find(&name.parse().unwrap()).unwrap();
        self.shelf.read(&info.edition, Span::ALL).unwrap()
    }

    fn fact(&mut self, day: i64, kind: &str, value: &str) {
        let fact = InstrumentFact {
            source: "quill".into(),
            time: day * DAY,
            kind: kind.into(),
            values: [(kind.to_owned(), value.to_owned())].into(),
        };
        self.shelf.put_facts("BLY", &[fact]).unwrap();
    }
}

/// The day of the first close.
fn begin() -> i64 {
    parse("2024-01-01").unwrap() / DAY
}

/// Splits and dividends by the place of their day: what the facts say, and as numbers.
const SPLITS: [(usize, &str, f64); 3] = [(60, "2:1", 2.0), (130, "1:4", 0.25), (170, "3-for-2", 1.5)];
const DIVIDENDS: [(usize, &str, f64); 3] = [(30, "0.85", 0.85), (95, "NOK 1.10", 1.1), (150, "0.4", 0.4)];

/// Closes in points of two decimals as they were traded, and adjusted ones the way a vendor works them out: from the last day
/// back, each from the one after it.
fn share() -> (Vec<i64>, Vec<f64>) {
    let mut rng = fastrand::Rng::with_seed(11);
    let mut price = 9_000.0;
    let mut closes: Vec<i64> = Vec::new();
    for day in 0..200 {
        price *= 1.0 + (rng.f64() - 0.5) * 0.03;
        price -= DIVIDENDS.iter().filter(|d| d.0 == day).map(|d| d.2 * 100.0).sum::<f64>();
        price /= SPLITS.iter().filter(|s| s.0 == day).map(|s| s.2).product::<f64>();
        closes.push(price.round() as i64);
    }
    let mut adjusted = vec![0.0; closes.len()];
    adjusted[199] = closes[199] as f64;
    for day in (1..200).rev() {
        let split: f64 = SPLITS.iter().filter(|s| s.0 == day).map(|s| s.2).product();
        let paid: f64 = DIVIDENDS.iter().filter(|d| d.0 == day).map(|d| d.2 * 100.0).sum();
        let before = closes[day - 1] as f64;
        // What one krone before the day is worth after it.
        let kept = (before - paid) / before / split;
        adjusted[day - 1] = adjusted[day] / closes[day] as f64 * kept * before;
    }
    (closes, adjusted)
}

fn daily(closes: &[i64], adjusted: &[f64]) -> Columns {
    let scale = Scale { price: 4, volume: 0 };
    let mut rows = Columns::empty(&[Field::Open, Field::Close, Field::Volume, Field::AdjustedClose], scale);
    for (day, (close, adjusted)) in closes.iter().zip(adjusted).enumerate() {
        rows.time.push((begin() + day as i64) * DAY);
        let values = [close * 100, close * 100, 1_000, (adjusted * 100.0).round() as i64];
        rows.data.iter_mut().zip(values).for_each(|(column, value)| column.push(value));
    }
    rows
}

fn with_share() -> (Bench, Vec<f64>) {
    let mut bench = Bench::new();
    let (closes, adjusted) = share();
    bench.put("BLY@quill:1d", daily(&closes, &adjusted));
    bench.say("BLY", "hours", "mon-sun 00:00-24:00 UTC");
    for (day, said, _) in SPLITS {
        bench.fact(begin() + day as i64, "split", said);
    }
    for (day, said, _) in DIVIDENDS {
        bench.fact(begin() + day as i64, "dividend", said);
    }
    (bench, adjusted)
}

fn adjusted(which: Actions) -> Variation {
    Variation { adjusted: Some(which), ..Variation::default() }
}

#[test]
fn adjusted_closes_are_those_of_the_source_within_rounding() {
    let (mut bench, theirs) = with_share();
    let made = bench.vary("BLY.adjusted", "BLY@quill:1d", adjusted(Actions::All)).unwrap();
    let rows = bench.rows("BLY.adjusted@quill:1d");
    assert!(!rows.has(Field::AdjustedClose), "the closes are adjusted now");
    for (own, theirs) in rows.column(Field::Close).iter().zip(&theirs) {
        assert!(
            (*own as f64 / 10f64.powi(rows.scale.price.into()) - theirs / 100.0).abs() < 0.005,
            "{own} {theirs}"
        );
    }
    // All three splits lie after the first day: 2 x 1/4 x 1.5 shares for one.
    assert_eq!((rows.column(Field::Volume)[0], rows.column(Field::Volume)[199]), (750, 1_000));
    let told: Vec<_> = made.actions.iter().map(|a| (date(a.day), a.said.as_str())).collect();
    assert_eq!((told.len(), &told[1]), (6, &("2024-03-01".to_owned(), "2:1")));
    assert!(
        made.notes.iter().any(|n| n.contains("200 adjusted closes are those of the source")),
        "{:?}",
        made.notes
    );
    assert_eq!(made.doubts, [""; 0]);
}

#[test]
fn what_speaks_against_an_adjustment_is_doubted() {
    let (mut bench, mut theirs) = with_share();
    // The source was wrong once.
    theirs[50] += 20.0;
    bench.put("BLY@quill:1d", daily(&share().0, &theirs));
    let made = bench.vary("BLY.adjusted", "BLY@quill:1d", adjusted(Actions::All)).unwrap();
    assert!(
        made.doubts[0]
            .contains("1 of 200 adjusted closes are not those of the source, the last at 2024-02-20"),
        "{:?}",
        made.doubts
    );
    // Closes that were adjusted before do not jump.
    let flat: Vec<i64> = theirs.iter().map(|p| p.round() as i64).collect();
    bench.put("BLY@quill:1d", daily(&flat, &theirs));
    let made = bench.vary("BLY.adjusted", "BLY@quill:1d", adjusted(Actions::Splits)).unwrap();
    let told = made.doubts.join("\n");
    assert!(
        told.matches("do not jump at the split").count() == 3 && told.contains("2:1 of 2024-03-01"),
        "{told}"
    );
    bench.put("NOKSEK@quill:1d", daily(&flat, &theirs));
    let none = bench.vary("N", "NOKSEK@quill:1d", adjusted(Actions::All)).err().unwrap().to_string();
    assert!(none.contains("knows no splits or dividends of NOKSEK"), "{none}");
}

#[test]
fn a_fact_that_comes_later_makes_it_stale_and_one_beyond_the_rows_waits() {
    let (mut bench, _) = with_share();
    bench.fact(begin() + 230, "split", "5:1");
    let made = bench.vary("BLY.adjusted", "BLY@quill:1d", adjusted(Actions::All)).unwrap();
    assert!(
        made.notes.iter().any(|n| n.contains("1 of the facts lie after the last row")),
        "{:?}",
        made.notes
    );
    let edition = made.series.unwrap().edition;
    assert!(bench.shelf.staleness(&edition).unwrap().is_empty());
    let before = bench.rows("BLY.adjusted@quill:1d");
    // The rows go on over the split that was known before: everything before it is of another level.
    let (mut closes, mut theirs) = share();
    closes.extend([closes[199]; 30].iter().chain(&[closes[199] / 5; 5]));
    theirs.resize(closes.len(), 0.0);
    let mut rows = daily(&closes, &theirs);
    rows = rows.with_fields(&[Field::Open, Field::Close, Field::Volume]);
    bench.put("BLY@quill:1d", rows);
    bench.vary("BLY.adjusted", "BLY@quill:1d", adjusted(Actions::All)).unwrap();
    let after = bench.rows("BLY.adjusted@quill:1d");
    let close = |rows: &Columns| rows.column(Field::Close)[0] as f64 / 10f64.powi(rows.scale.price.into());
    assert!((close(&before) / close(&after) - 5.0).abs() < 0.01, "{} {}", close(&before), close(&after));
    let edition = bench.shelf.find(&"BLY.adjusted@quill:1d".parse().unwrap()).unwrap().edition;
    bench.fact(begin() + 100, "dividend", "0.10");
    let stale = bench.shelf.staleness(&edition).unwrap();
    assert!(stale[0].to_string().contains("dated facts of BLY changed"), "{stale:?}");
}

/// Minutes of twelve weeks over the change to summer time in New York, with a spread that depends on the hour and a holiday.
fn minutes() -> Columns {
    let mut rng = fastrand::Rng::with_seed(3);
    let fields = [Field::Open, Field::High, Field::Low, Field::Close, Field::Volume, Field::Spread];
    let mut rows = Columns::empty(&fields, Scale { price: 5, volume: 0 });
    let clock: Clock = "America/New_York".parse().unwrap();
    let mut price = 102_300;
    let mut time = parse("2024-01-28 22:00").unwrap();
    while time < parse("2024-04-21").unwrap() {
        let wall = clock.to_wall(time);
        let (day, minute) = (wall.div_euclid(DAY), wall.rem_euclid(DAY) / MINUTE);
        let weekday = crate::model::time::weekday(day);
        let is_open = match weekday {
            6 => minute >= 17 * 60,
            4 => minute < 17 * 60,
            5 => false,
            _ => true,
        };
        if is_open && date(day) != "2024-03-29" {
            let reach = 2 + (minute / 60 - 9).abs();
            let (open, close) = (price, price + rng.i64(-reach..=reach));
            price = close;
            let spread = 10 + minute / 60;
            let values = [
                open,
                open.max(close) + rng.i64(0..4),
                open.min(close) - rng.i64(0..4),
                close,
                rng.i64(1..90),
                spread,
            ];
            rows.time.push(time);
            rows.data.iter_mut().zip(values).for_each(|(column, value)| column.push(value));
        }
        time += MINUTE;
    }
    rows
}

fn with_minutes() -> (Bench, Columns) {
    let mut bench = Bench::new();
    let rows = minutes();
    bench.put("NOKSEK@quill:1m", rows.clone());
    (bench, rows)
}

/// Sum of ranges and median spread of each hour of the week.
fn week_of(rows: &Columns) -> Vec<(f64, Option<i64>)> {
    let mut hours = WeekProfiler::new(&"America/New_York".parse().unwrap());
    hours.push(rows);
    hours.finish().iter().map(|h| (h.range.unwrap_or(0.0), h.spread.map(|s| s[0]))).collect()
}

#[test]
fn shuffled_days_keep_the_shape_of_the_week() {
    let (mut bench, base) = with_minutes();
    for of in [Stretches::Days, Stretches::Weeks] {
        let stress = Stress { shuffle: Some(of), seed: 7, ..Stress::default() };
        let made = bench.stressed("NOKSEK.other", "NOKSEK@quill:1m", stress.clone()).unwrap();
        for (hour, (was, is)) in week_of(&base).iter().zip(week_of(&made)).enumerate() {
            assert!((was.0 - is.0).abs() <= 0.05 * was.0, "{of}, hour {hour}: {} {}", was.0, is.0);
            assert_eq!(was.1, is.1, "{of}, hour {hour}");
        }
        assert_ne!(made.column(Field::Close), base.column(Field::Close), "{of}");
        // The same days are there, the path ends where it ended, and no row is out of order.
        assert_eq!(
            (made.len(), made.column(Field::Close).last()),
            (base.len(), base.column(Field::Close).last())
        );
        assert!(made.time.windows(2).all(|w| w[0] < w[1]));
        assert!(made.column(Field::Origin).iter().all(|o| is_made_up(*o)));
        assert_eq!(
            bench.stressed("NOKSEK.other", "NOKSEK@quill:1m", stress.clone()).unwrap(),
            made,
            "the same seed"
        );
        let other = Stress { seed: 8, ..stress };
        assert_ne!(bench.stressed("NOKSEK.other", "NOKSEK@quill:1m", other).unwrap(), made);
    }
}

#[test]
fn each_minute_is_disturbed_by_itself() {
    let (mut bench, base) = with_minutes();
    let missing = Stress { missing: Some("2%".parse().unwrap()), seed: 5, ..Stress::default() };
    let made = bench.stressed("NOKSEK.a", "NOKSEK@quill:1m", missing).unwrap();
    let gone = 1.0 - made.len() as f64 / base.len() as f64;
    assert!((0.017..0.023).contains(&gone), "{gone}");
    // A history that begins later has the same minutes missing.
    let late = base.rows(30_000..base.len());
    bench.put("NZDSEK@quill:1m", late);
    let missing = Stress { missing: Some("2%".parse().unwrap()), seed: 5, ..Stress::default() };
    let part = bench.stressed("NZDSEK.a", "NZDSEK@quill:1m", missing).unwrap();
    assert_eq!(part.time, made.time[made.time.partition_point(|t| *t < base.time[30_000])..]);
    let noisy = Stress { noise: 4, slippage: 3, seed: 5, ..Stress::default() };
    let made = bench.stressed("NOKSEK.b", "NOKSEK@quill:1m", noisy).unwrap();
    let [open, high, low, close, spread] =
        [Field::Open, Field::High, Field::Low, Field::Close, Field::Spread].map(|f| made.column(f));
    assert!((0..made.len()).all(|i| low[i] <= open[i].min(close[i]) && open[i].max(close[i]) <= high[i]));
    let wider: Vec<i64> = spread.iter().zip(base.column(Field::Spread)).map(|(a, b)| a - b).collect();
    assert!(wider.iter().all(|w| (0..=6).contains(w)) && wider.contains(&6));
    let off: Vec<f64> = close.iter().zip(base.column(Field::Close)).map(|(a, b)| (a - b) as f64).collect();
    let mean = off.iter().sum::<f64>() / off.len() as f64;
    let deviation = (off.iter().map(|o| (o - mean).powi(2)).sum::<f64>() / off.len() as f64).sqrt();
    // The bid is a point and a half lower on average; noise of 4 and slippage of 1.1 points together.
    assert!((mean + 1.5).abs() < 0.1 && (deviation - 4.15).abs() < 0.1, "{mean} {deviation}");
}

#[test]
fn a_mirrored_history_falls_where_it_rose() {
    let (mut bench, base) = with_minutes();
    let mirror = Stress { mirror: true, ..Stress::default() };
    let made = bench.stressed("NOKSEK.a", "NOKSEK@quill:1m", mirror.clone()).unwrap();
    assert_eq!((made.len(), made.scale), (base.len(), base.scale));
    let first = base.column(Field::Close)[0] as f64;
    let ask = |rows: &Columns, i: usize| rows.column(Field::Close)[i] + rows.column(Field::Spread)[i];
    for i in (0..base.len()).step_by(97) {
        // The new bid times the old ask is the square of the first price, to half a point.
        let product = made.column(Field::Close)[i] as f64 * ask(&base, i) as f64;
        assert!((product / (first * first) - 1.0).abs() < 1e-5, "{i}");
        assert!(made.column(Field::Low)[i] <= made.column(Field::High)[i]);
    }
    assert_eq!(
        bench
            .vary(
                "NOKSEK.a",
                "NOKSEK@quill:1m",
                Variation { stress: Some(Box::new(mirror)), ..Variation::default() }
            )
            .unwrap()
            .doubts,
        [""; 0]
    );
}

#[test]
fn later_rows_and_what_does_not_go_together() {
    let (mut bench, base) = with_minutes();
    let later = |delay: Micros| Stress { delay, ..Stress::default() };
    let made = bench.stressed("NOKSEK.a", "NOKSEK@quill:1m", later(2 * MINUTE)).unwrap();
    assert_eq!(made.time[0], base.time[0] + 2 * MINUTE);
    let mut refused =
        |name: &str, variation: Variation| bench.vary("X", name, variation).err().unwrap().to_string();
    let of = |stress: Stress| Variation { stress: Some(Box::new(stress)), ..Variation::default() };
    assert!(refused("NOKSEK@quill:1m", of(later(MINUTE / 2))).contains("by whole bars alone"));
    let both = Variation { inverse: true, ..of(Stress { mirror: true, ..Stress::default() }) };
    assert!(refused("NOKSEK@quill:1m", both).contains("not both at once"));
    let both = Variation { adjusted: Some(Actions::All), ..of(later(MINUTE)) };
    assert!(refused("NOKSEK@quill:1m", both).contains("adjusted before"));
    bench.put("NZDSEK@quill:1m", base.rows(0..60));
    let few = Stress { shuffle: Some(Stretches::Weeks), ..Stress::default() };
    assert!(bench.vary("X", "NZDSEK@quill:1m", of(few)).err().unwrap().to_string().contains("too few weeks"));
}

#[test]
fn an_order_in_which_prices_fall_to_0_is_refused() {
    let mut bench = Bench::new();
    // Up from 1.00 to 10.00 in the first week, down to 1.50 in the second: the other way round is below 0.
    let closes = [(1, 100), (2, 1_000), (8, 900), (9, 150)];
    let rows: Vec<_> = closes.iter().map(|(day, close)| ((begin() + day) * DAY, vec![*close])).collect();
    bench.put("BLY@quill:1d", columns(&[Field::Close], 2, &rows));
    let weeks = |seed| Stress { shuffle: Some(Stretches::Weeks), seed, ..Stress::default() };
    let told: Vec<_> =
        (0..12).map(|seed| bench.stressed("B", "BLY@quill:1d", weeks(seed)).map(|rows| rows.len())).collect();
    let refused = told.iter().filter_map(|t| t.as_ref().err()).collect::<Vec<_>>();
    assert!(!refused.is_empty() && refused.len() < 12, "{told:?}");
    assert!(refused[0].to_string().contains("would fall to 0 or below"), "{}", refused[0]);
}

#[test]
fn bars_of_made_up_rows_say_so_and_its_own_hours_are_cut_after_it() {
    let (mut bench, _) = with_minutes();
    bench.say("NOKSEK.a", "hours", "mon-fri 08:00-17:00 Europe/Oslo");
    let noisy = Stress { noise: 4, ..Stress::default() };
    let made = bench.stressed("NOKSEK.a", "NOKSEK@quill:1m", noisy).unwrap();
    assert!(
        made.len() < 60 * 60 * 9 && made.time.iter().all(|t| (6..16).contains(&(t.rem_euclid(DAY) / HOUR)))
    );
    let (name, settings) = ("NOKSEK.a@quill:1m".parse().unwrap(), FrameSettings::default());
    build_series(&mut bench.shelf, &name, &["1h".parse().unwrap()], &settings, &Job::unwatched()).unwrap();
    assert!(bench.rows("NOKSEK.a@quill:1h").column(Field::Origin).iter().all(|o| is_made_up(*o)));
}
