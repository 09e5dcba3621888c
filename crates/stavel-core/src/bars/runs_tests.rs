//! Builders that share rows build what each builds alone.

use super::runs::push_to_all;
use super::{Builder, Built};
use crate::model::time::{DAY, HOUR, MINUTE, parse};
use crate::model::{ABSENT, Columns, Field, Frame, Micros, Scale, Session, Side, Span};

const SCALE: Scale = Scale { price: 5, volume: 1 };

/// Days that begin half past the hour, with a break and a settlement that lie on no whole hour of the world's time.
fn sessions() -> [Session; 3] {
    let session = |hours: &str, clock: &str| Session {
        week: hours.parse().unwrap(),
        clock: clock.parse().unwrap(),
        ..Session::always()
    };
    let settles = "14:20".parse().unwrap();
    let pit = session("mon-fri 08:37-12:05, mon-fri 12:15-17:10 UTC+05:30", "UTC+05:30");
    [
        session("sun 17:00 - fri 17:00 America/New_York", "America/New_York+7h"),
        Session { settlement: Some(settles), ..pit },
        Session::always(),
    ]
}

fn rows(fields: &[Field], times: impl Iterator<Item = Micros>, absent: f64, seed: u64) -> Columns {
    let mut rng = fastrand::Rng::with_seed(seed);
    let mut rows = Columns::empty(fields, SCALE);
    for time in times {
        rows.time.push(time);
        for (field, column) in fields.iter().zip(&mut rows.data) {
            let value = match field {
                Field::Origin => [0, 1, 2, 10_001][rng.usize(0..4)],
                Field::Open | Field::Close | Field::Bid => rng.i64(1000..2000),
                Field::High | Field::Ask => rng.i64(2000..2100),
                Field::Low => rng.i64(900..1000),
                _ => rng.i64(0..90),
            };
            column.push(if rng.f64() < absent && *field != Field::Origin { ABSENT } else { value });
        }
    }
    rows
}

fn minutes(session: &Session) -> Vec<Micros> {
    let span = Span::new(parse("2024-03-04").unwrap(), parse("2024-03-25").unwrap());
    session.open_spans(span).iter().flat_map(|open| (open.from..open.to).step_by(MINUTE as usize)).collect()
}

fn told(built: Built) -> (Columns, bool, bool, u64, u64) {
    (built.bars, built.partial_first, built.partial_last, built.on_closed_days, built.too_large)
}

/// Both ways, in pieces of odd sizes; builders begin at rows of their own.
fn compare(rows: &Columns, from: Frame, frames: &[&str], sides: &[Side], session: &Session, late: bool) {
    let builders = || -> Vec<Builder> {
        let wishes = sides.iter().flat_map(|side| frames.iter().map(move |frame| (frame, side)));
        wishes
            .map(|(frame, side)| {
                Builder::new(from, frame.parse().unwrap(), *side, &rows.fields, SCALE, session)
                    .unwrap()
                    .with_details(&rows.fields)
            })
            .collect()
    };
    let begins: Vec<usize> =
        (0..frames.len() * sides.len()).map(|i| if late { i * 1733 % rows.len() } else { 0 }).collect();
    let (mut shared, mut alone) = (builders(), builders());
    for from in (0..rows.len()).step_by(7013) {
        let to = (from + 7013).min(rows.len());
        let here: Vec<usize> = begins.iter().map(|b| b.saturating_sub(from).min(to - from)).collect();
        push_to_all(&mut shared, &rows.rows(from..to), &here);
    }
    for (builder, begin) in alone.iter_mut().zip(&begins) {
        (*begin..rows.len()).for_each(|row| builder.push(&rows.rows(row..row + 1)));
    }
    for (i, (shared, alone)) in shared.into_iter().zip(alone).enumerate() {
        let (shared, alone) = (told(shared.finish()), told(alone.finish()));
        assert!(!alone.0.is_empty());
        assert!(shared == alone, "{} {late} {}", frames[i % frames.len()], session.clock);
    }
}

#[test]
fn bars_of_many_frames_share_their_rows() {
    use Field::*;
    let usual = [Open, High, Low, Close, Volume, Spread];
    let all = [Open, High, Low, Close, Volume, TickCount, OpenInterest, Spread, Origin];
    let frames = ["3m", "7m", "45m", "9h", "1d", "3d", "1w", "1mo"];
    for (seed, session) in sessions().iter().enumerate() {
        for (fields, absent) in [(&usual[..], 0.0), (&all[..], 0.0), (&usual[..], 0.0001), (&all[..4], 0.0)] {
            let rows = rows(fields, minutes(session).into_iter(), absent, seed as u64);
            compare(&rows, Frame::M1, &frames, &[Side::Bid], session, false);
            compare(&rows, Frame::M1, &frames, &[Side::Bid], session, true);
        }
    }
}

#[test]
fn ticks_of_both_sides_share_theirs() {
    use Field::{Ask, AskVolume, Bid, BidVolume};
    let mut rng = fastrand::Rng::with_seed(5);
    let mut time = parse("2024-03-08 11:00").unwrap();
    let mut times = Vec::new();
    for _ in 0..20_000 {
        // Several within a second, quiet minutes, a weekend.
        time += match rng.u32(0..9000) {
            0 => 2 * DAY,
            1..9 => HOUR,
            n => i64::from(n % 40) * 100_000,
        };
        times.push(time);
    }
    let session = &sessions()[0];
    for absent in [0.0, 0.0002] {
        let rows = rows(&[Bid, Ask, BidVolume, AskVolume], times.iter().copied(), absent, 3);
        let frames = ["7m", "10m", "1h", "1d"];
        for sides in [&[Side::Bid][..], &[Side::Mid], &[Side::Bid, Side::Ask]] {
            compare(&rows, Frame::Ticks, &frames, sides, session, false);
            compare(&rows, Frame::Ticks, &frames, sides, session, true);
        }
        compare(&rows, Frame::Ticks, &["50t", "1m", "5m"], &[Side::Bid], session, false);
    }
}
