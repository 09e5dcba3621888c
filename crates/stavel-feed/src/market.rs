//! A price that walks: volatility and spread by hour, clusters, news, a wide spread at the daily roll.

use fastrand::Rng;
use stavel_core::model::time::{HOUR, MINUTE, Micros};

/// Share of the day's usual activity in each hour of UTC.
const ACTIVITY: [f64; 24] = [
    0.35, 0.30, 0.30, 0.30, 0.35, 0.45, 0.70, 1.10, 1.40, 1.30, 1.10, 1.00, 1.10, 1.50, 1.60, 1.50, 1.20,
    0.90, 0.70, 0.60, 0.50, 0.35, 0.30, 0.35,
];

/// What makes one market unlike another.
#[derive(Debug, Clone)]
pub struct Character {
    /// First price and the level it is drawn back to, in points.
    pub level: f64,
    /// Typical move a minute, in points.
    pub move_a_minute: f64,
    /// Typical spread, in points.
    pub spread: f64,
    /// Ticks in a minute of usual activity.
    pub ticks_a_minute: f64,
    /// Prices are multiples of this many points.
    pub step: i64,
}

/// One quote.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MarketQuote {
    /// UTC.
    pub time: Micros,
    /// In points.
    pub bid: i64,
    pub ask: i64,
    /// In hundredths of a lot.
    pub bid_volume: i64,
    pub ask_volume: i64,
}

/// A market that makes one open minute after the other.
#[derive(Debug, Clone)]
pub struct Market {
    character: Character,
    rng: Rng,
    price: f64,
    /// Volatility now, as a multiple of the usual.
    heat: f64,
}

impl Market {
    /// A market at its level, with its own seed.
    pub fn new(character: Character, seed: u64) -> Market {
        Market { price: character.level, character, rng: Rng::with_seed(seed), heat: 1.0 }
    }

    /// The price now, in points.
    pub fn level(&self) -> i64 {
        self.price.round() as i64
    }

    /// The quotes of one open minute; quiet minutes may have none.
    pub fn minute(&mut self, start: Micros, quotes: &mut Vec<MarketQuote>) {
        quotes.clear();
        let activity = ACTIVITY[(start.rem_euclid(24 * HOUR) / HOUR) as usize];
        self.change_heat();
        let expected = self.character.ticks_a_minute * activity * (0.4 + 0.6 * self.heat.min(2.5));
        let count = (expected * (0.3 + 1.4 * self.rng.f64())) as usize;
        if count == 0 || activity < 0.4 && self.rng.f64() < 0.01 {
            return;
        }
        let mut times: Vec<Micros> = (0..count).map(|_| self.rng.i64(0..60_000) * 1000).collect();
        times.sort_unstable();
        let news = if self.rng.f64() < 1.0 / 4000.0 { self.jump() } else { 0.0 };
        let step = self.character.move_a_minute * activity * self.heat / (count as f64).sqrt();
        for (i, time) in times.into_iter().enumerate() {
            self.price += step * self.normal() + (self.character.level - self.price) * 2e-6;
            if i == count / 2 {
                self.price += news;
            }
            quotes.push(self.quote(start + time, activity));
        }
    }

    fn quote(&mut self, time: Micros, activity: f64) -> MarketQuote {
        let step = self.character.step;
        let bid = (self.price / step as f64).round() as i64 * step;
        let wide = if is_roll(time) { 5.0 } else { 1.0 };
        let spread =
            self.character.spread * wide * (1.3 - 0.3 * activity.min(1.0)) * (0.7 + 0.3 * self.heat.min(4.0));
        let spread = spread * (0.8 + 0.4 * self.rng.f64());
        MarketQuote {
            time,
            bid,
            ask: bid + ((spread / step as f64).round() as i64).max(1) * step,
            bid_volume: self.rng.i64(10..480),
            ask_volume: self.rng.i64(10..480),
        }
    }

    fn change_heat(&mut self) {
        let noise = self.normal();
        self.heat = (self.heat + 0.03 * (1.0 - self.heat) + 0.06 * noise).clamp(0.4, 6.0);
    }

    /// News: a jump that stays, and some unrest after it.
    fn jump(&mut self) -> f64 {
        self.heat = 4.0;
        let size = self.character.move_a_minute * (5.0 + 9.0 * self.rng.f64());
        if self.rng.bool() { size } else { -size }
    }

    /// Nearly normal with mean 0 and variance 1: a sum of four uniform numbers, scaled.
    fn normal(&mut self) -> f64 {
        let sum: f64 = (0..4).map(|_| self.rng.f64() * 2.0 - 1.0).sum();
        sum * 0.866_025_403_784_438_6
    }
}

/// The quarter of an hour around 17:00 in New York, near enough for a spread (21:55-22:15 UTC).
fn is_roll(time: Micros) -> bool {
    let minute = time.rem_euclid(24 * HOUR) / MINUTE;
    (21 * 60 + 55..22 * 60 + 15).contains(&minute)
}

/// A minute's bar in points.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MinuteBar {
    pub time: Micros,
    pub open: i64,
    pub high: i64,
    pub low: i64,
    pub close: i64,
    /// In hundredths of a lot; 0 marks filler.
    pub volume: i64,
    /// Mean spread in points.
    pub spread: i64,
}

impl MinuteBar {
    /// The bid bar of a minute's quotes.
    pub fn of(start: Micros, quotes: &[MarketQuote]) -> Option<MinuteBar> {
        let (first, last) = (quotes.first()?, quotes.last()?);
        Some(MinuteBar {
            time: start,
            open: first.bid,
            high: quotes.iter().map(|q| q.bid).max()?,
            low: quotes.iter().map(|q| q.bid).min()?,
            close: last.bid,
            volume: quotes.iter().map(|q| q.bid_volume).sum(),
            spread: quotes.iter().map(|q| q.ask - q.bid).sum::<i64>() / quotes.len() as i64,
        })
    }

    /// A flat bar without volume.
    pub fn flat(start: Micros, price: i64) -> MinuteBar {
        MinuteBar { time: start, open: price, high: price, low: price, close: price, volume: 0, spread: 0 }
    }
}
