//! Made-up histories of a broker's clock: whatever happened to it, the clock that is found without a doubt is
//! right to the row.

use stavel_core::align::{AlignWishes, anchor_series, study};
use stavel_core::model::time::{DAY, HOUR, MINUTE, WEEK};

use super::*;

/// High, low, close, and as volume the minute at which a row truly opened.
const FIELDS: [Field; 4] = [Field::High, Field::Low, Field::Close, Field::Volume];

fn market(span: Span, step: i64, rng: &mut fastrand::Rng) -> Columns {
    let mut rows = Columns::empty(&FIELDS, Scale { price: 5, volume: 0 });
    let mut price = 102_000;
    for open in forex().open_spans(span) {
        for t in (open.from..open.to).step_by(step as usize) {
            price += rng.i64(-12..=12);
            let reach = rng.i64(5..40);
            rows.time.push(t);
            let values = [price + reach, price - reach, price, t / MINUTE];
            values.into_iter().zip(&mut rows.data).for_each(|(v, c)| c.push(v));
        }
    }
    rows
}

/// What happened to a clock.
struct History {
    told: String,
    step: i64,
    weeks: i64,
    /// Offsets (wall less UTC) that are no clock's: of rows that opened in the spans.
    slips: Vec<(Span, i64)>,
    clock: Clock,
    /// True where the reference is stamped at its close, though nobody knows.
    is_late: bool,
}

const CLOCKS: [&str; 9] = [
    "UTC",
    "UTC+2",
    "UTC+3",
    "UTC-5",
    "UTC+5:30",
    "America/New_York+7h",
    "Europe/Athens",
    "Europe/London",
    "Australia/Sydney",
];

const START: &str = "2021-01-04";

impl History {
    fn made_up(rng: &mut fastrand::Rng) -> History {
        let kind = rng.u8(0..14);
        let weeks = if kind < 10 { rng.i64(30..110) } else { rng.i64(10..18) };
        let step = if kind < 10 { 15 * MINUTE } else { MINUTE };
        let start = parse(START).unwrap();
        let one = |rng: &mut fastrand::Rng| -> Clock { CLOCKS[rng.usize(0..CLOCKS.len())].parse().unwrap() };
        let first = one(rng);
        let (mut changes, mut at) = (Vec::new(), start);
        let (mut slips, mut is_late) = (Vec::new(), false);
        match kind {
            0..=9 => {
                for _ in 0..rng.i64(0..4) {
                    // On a weekend, or whenever it came to somebody's mind.
                    at += rng.i64(3..40) * WEEK;
                    let when = match rng.u8(0..9) {
                        0..=5 => at - DAY,
                        // Just after the week has begun.
                        6 => at - 2 * HOUR + rng.i64(1..16) * 15 * MINUTE,
                        _ => at + rng.i64(0..110) * HOUR,
                    };
                    changes.push((when, one(rng)));
                }
                for _ in 0..rng.i64(0..3) {
                    let week = start - DAY + rng.i64(2..weeks) * WEEK;
                    slips.push((Span::new(week, week + WEEK), HOUR * rng.i64(1..4)));
                }
            }
            10 | 11 => {
                let (every, base) = (rng.i64(1..6), first.offset_at(start));
                for minute in 1..=weeks / every {
                    let clock = Clock::fixed(base + minute * MINUTE);
                    changes.push((start - DAY + minute * every * WEEK, clock));
                }
            }
            12 => is_late = true,
            _ => {}
        }
        changes.retain(|c| c.0 < start + weeks * WEEK);
        let first = if (10..12).contains(&kind) { Clock::fixed(first.offset_at(start)) } else { first };
        let clock = if changes.is_empty() { first } else { Clock::piecewise(&first, &changes) };
        let told = format!(
            "{clock}, {weeks} weeks{}{}",
            if slips.is_empty() { String::new() } else { format!(", {} slipped", slips.len()) },
            if is_late { ", the reference stamped at its close" } else { "" }
        );
        History { told, step, weeks, slips, clock, is_late }
    }

    fn written(&self, utc: i64) -> i64 {
        let slip: i64 = self.slips.iter().filter(|(span, _)| span.holds(utc)).map(|s| s.1).sum();
        self.clock.to_wall(utc) + slip
    }
}

#[test]
fn fifty_histories_of_a_clock_are_right_or_doubted() {
    let mut rng = fastrand::Rng::with_seed(20_240_305);
    let (mut taken, mut doubted) = (0, 0);
    for number in 0..50 {
        let history = History::made_up(&mut rng);
        let start = parse(START).unwrap();
        let there = market(Span::new(start, start + history.weeks * WEEK), history.step, &mut rng);
        let mut here = there.clone();
        let keep: Vec<bool> = (0..here.len()).map(|_| rng.f64() > 0.1).collect();
        here.retain(|i| keep[i]);
        here.data[..3].iter_mut().for_each(|c| c.iter_mut().for_each(|v| *v += rng.i64(-2..=2)));
        here.time.iter_mut().for_each(|t| *t = history.written(*t));
        here.sort();
        let mut reference = there;
        if history.is_late {
            reference.time.iter_mut().for_each(|t| *t += history.step);
        }
        let frame = if history.step == MINUTE { "1m" } else { "15m" };
        let [tarn, quill] = ["tarn", "quill"].map(|source| format!("NOKSEK@{source}:{frame}"));
        let (_dir, mut shelf) = desk();
        put(&mut shelf, &quill, &reference, Some("UTC"));
        put(&mut shelf, &tarn, &here, None);
        let job = Job::unwatched();
        let found = study(&shelf, &name(&tarn), &name(&quill), &AlignWishes::default(), &job).unwrap();
        let doubts = if found.is_sure() { format!("{:?}", found.doubts()) } else { "not found".into() };
        let fit = &found.fit;
        anchor_series(&mut shelf, &name(&tarn), &fit.clock, fit.stamp, Default::default(), &job).unwrap();
        let rows = read(&shelf, &tarn);
        // A single week that is told as one that disagrees may be off.
        let odd: Vec<Span> = fit
            .weeks
            .iter()
            .filter(|w| w.is_clear && !w.agrees)
            .map(|w| Span::new(w.start, w.start + WEEK))
            .collect();
        let is_told = |written: i64| odd.iter().any(|week| week.holds(written));
        let off = (0..rows.len())
            .filter(|i| {
                let truly = rows.column(Field::Volume)[*i] * MINUTE;
                rows.time[*i] != truly && !is_told(history.written(truly))
            })
            .count();
        println!(
            "{number:2}: {}\n    found {}; {off} of {} rows off; {doubts}",
            history.told,
            fit.clock,
            rows.len()
        );
        assert!(off == 0 || doubts != "[]", "wrong without a doubt");
        *(if doubts == "[]" { &mut taken } else { &mut doubted }) += 1;
        // What is doubted is nearly right all the same, unless weeks slipped or the reference is wrong itself.
        let few = rows.len() / 10;
        assert!(off <= few || history.is_late || found.fit.weeks.iter().any(|w| !w.agrees), "{off} rows off");
    }
    println!("{taken} taken without asking, {doubted} doubted");
    assert!(taken >= 20, "doubt is the exception: {taken}");
}
