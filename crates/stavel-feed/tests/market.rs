//! The demo market behaves like a market.

use stavel_core::model::time::{HOUR, MINUTE, parse};
use stavel_feed::market::{Character, Market, MarketQuote, MinuteBar};

fn character() -> Character {
    Character { level: 102_300.0, move_a_minute: 7.0, spread: 14.0, ticks_a_minute: 11.0, step: 1 }
}

/// Quotes of some days, minute by minute.
fn quotes(days: i64, seed: u64) -> Vec<MarketQuote> {
    let mut market = Market::new(character(), seed);
    let start = parse("2024-03-04").unwrap();
    let mut minute = Vec::new();
    let mut all = Vec::new();
    for m in 0..days * 1440 {
        market.minute(start + m * MINUTE, &mut minute);
        all.extend_from_slice(&minute);
    }
    all
}

fn mean(values: impl Iterator<Item = i64>) -> f64 {
    let (n, sum) = values.fold((0, 0), |(n, sum), v| (n + 1, sum + v));
    sum as f64 / n as f64
}

#[test]
fn the_same_seed_is_the_same_market_and_quotes_are_in_order() {
    let (a, b) = (quotes(2, 5), quotes(2, 5));
    assert_eq!(a, b);
    assert!(a != quotes(2, 6));
    assert!(a.windows(2).all(|w| w[0].time <= w[1].time));
    assert!(a.iter().all(|q| q.ask > q.bid && q.bid > 0 && q.bid_volume > 0));
}

#[test]
fn noon_is_busier_than_night_and_the_roll_is_wide() {
    let all = quotes(10, 7);
    let hour = |q: &&MarketQuote| q.time.rem_euclid(24 * HOUR) / HOUR;
    let count = |h: i64| all.iter().filter(|q| hour(q) == h).count();
    assert!(count(14) > 3 * count(2), "{} against {}", count(14), count(2));
    let spread = |from: i64, to: i64| {
        let within = |q: &&MarketQuote| (from..to).contains(&(q.time.rem_euclid(24 * HOUR) / MINUTE));
        mean(all.iter().filter(within).map(|q| q.ask - q.bid))
    };
    assert!(spread(22 * 60, 22 * 60 + 15) > 3.0 * spread(14 * 60, 15 * 60));
    let moved = |h: i64| mean(all.iter().filter(|q| hour(q) == h).map(|q| (q.bid - 102_300).abs()));
    assert!(moved(14) > 0.0);
}

#[test]
fn bars_hold_their_quotes_and_contracts_keep_their_step() {
    let mut market =
        Market::new(Character { step: 25, level: 41_225.0, move_a_minute: 22.0, ..character() }, 3);
    let mut minute = Vec::new();
    for m in 0..600 {
        let start = parse("2024-03-04 08:00").unwrap() + m * MINUTE;
        market.minute(start, &mut minute);
        let Some(bar) = MinuteBar::of(start, &minute) else { continue };
        assert!(bar.high >= bar.open.max(bar.close) && bar.low <= bar.open.min(bar.close) && bar.volume > 0);
        assert!([bar.open, bar.high, bar.low, bar.close].iter().all(|p| p % 25 == 0));
        assert!(minute.iter().all(|q| (start..start + MINUTE).contains(&q.time)));
    }
    assert_eq!(MinuteBar::of(0, &[]), None);
}
