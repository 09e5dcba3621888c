//! Levels: how far apart sources lie, which side of the market that is, and spreads carried over.

use std::collections::BTreeMap;

use super::{Level, price};
use crate::check::WEEK_HOURS;
use crate::model::time::{DAY, HOUR, civil_from_days, day_of, monday_of};
use crate::model::{Clock, Columns, Field};

/// How far the second source lies above the first where both have rows.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LevelGap {
    /// Median difference of closes, in points.
    pub median: i64,
    /// First less second as a factor for the second: median of first over second.
    pub ratio: f64,
    /// Median difference by year and month.
    pub months: Vec<((i64, i64), i64)>,
    /// What the difference looks like beside the spread.
    pub side: Option<SideGuess>,
}

/// Which sides of the market two sources follow, by the level between them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SideGuess {
    /// The second lies half a spread above the first, or below.
    MidAboveBid,
    BidBelowMid,
    /// The second lies a whole spread above the first, or below.
    AskAboveBid,
    BidBelowAsk,
}

impl SideGuess {
    /// The two sources by their names in words.
    pub fn in_words(self, first: &str, second: &str) -> String {
        match self {
            SideGuess::MidAboveBid => format!("{second} lies half a spread above {first}: mid against bid"),
            SideGuess::BidBelowMid => format!("{second} lies half a spread below {first}: bid against mid"),
            SideGuess::AskAboveBid => format!("{second} lies a spread above {first}: ask against bid"),
            SideGuess::BidBelowAsk => format!("{second} lies a spread below {first}: bid against ask"),
        }
    }
}

/// Measures the level of the second source over the first at the times both have. None where they share none.
pub fn measure(a: &Columns, b: &Columns) -> Option<LevelGap> {
    let mut differences: Vec<i64> = Vec::new();
    let mut ratios: Vec<f64> = Vec::new();
    let mut by_month: BTreeMap<(i64, i64), Vec<i64>> = BTreeMap::new();
    let mut j = 0;
    for i in 0..a.len() {
        while j < b.len() && b.time[j] < a.time[i] {
            j += 1;
        }
        if j == b.len() {
            break;
        }
        if b.time[j] != a.time[i] {
            continue;
        }
        let (x, y) = (price(a, i, Field::Close), price(b, j, Field::Close));
        let (year, month, _) = civil_from_days(day_of(a.time[i]));
        differences.push(y - x);
        by_month.entry((year, month)).or_default().push(y - x);
        if y != 0 {
            ratios.push(x as f64 / y as f64);
        }
    }
    if differences.is_empty() || ratios.is_empty() {
        return None;
    }
    let median = median_of(&mut differences);
    let middle = ratios.len() / 2;
    let ratio = *ratios.select_nth_unstable_by(middle, f64::total_cmp).1;
    let months = by_month.into_iter().map(|(month, mut d)| (month, median_of(&mut d))).collect();
    let spread = usual_spread(a).or_else(|| usual_spread(b));
    let side = spread.filter(|s| *s >= 3).and_then(|s| side_of(median, s));
    Some(LevelGap { median, ratio, months, side })
}

fn median_of(values: &mut [i64]) -> i64 {
    let middle = values.len() / 2;
    *values.select_nth_unstable(middle).1
}

/// A difference within a quarter of the spread of half a spread or of a whole one.
fn side_of(difference: i64, spread: i64) -> Option<SideGuess> {
    let near = |quarters: i64| (4 * difference - quarters * spread).abs() <= spread;
    match difference {
        0 => None,
        d if d > 0 && near(4) => Some(SideGuess::AskAboveBid),
        d if d > 0 && near(2) => Some(SideGuess::MidAboveBid),
        d if d < 0 && near(-4) => Some(SideGuess::BidBelowAsk),
        d if d < 0 && near(-2) => Some(SideGuess::BidBelowMid),
        _ => None,
    }
}

/// The median spread of rows that know theirs.
fn usual_spread(rows: &Columns) -> Option<i64> {
    let mut known: Vec<i64> = match (rows.column(Field::Bid), rows.column(Field::Ask)) {
        ([], _) | (_, []) => rows.column(Field::Spread).iter().copied().filter(|s| *s > 0).collect(),
        (bid, ask) => bid.iter().zip(ask).map(|(b, a)| a - b).collect(),
    };
    if known.is_empty() { None } else { Some(median_of(&mut known)) }
}

/// Brings a later source to the level of the first.
pub fn set_level(rows: &mut Columns, gap: &LevelGap, level: Level) {
    for (field, column) in rows.fields.iter().zip(&mut rows.data) {
        if !field.is_price() {
            continue;
        }
        match level {
            Level::None => {}
            Level::Shift => column.iter_mut().for_each(|v| *v -= gap.median),
            Level::Ratio => column.iter_mut().for_each(|v| *v = (*v as f64 * gap.ratio).round() as i64),
        }
    }
}

/// Puts the first source's median spread of each hour of the week on rows of another that do not know theirs;
/// gives their number.
pub fn carry_spread(from: &Columns, to: &mut Columns, wall: &Clock) -> u64 {
    let hour = |t: i64| {
        let shown = wall.to_wall(t);
        ((shown - monday_of(day_of(shown)) * DAY) / HOUR) as usize % WEEK_HOURS
    };
    let known = from.column(Field::Spread);
    let mut by_hour: Vec<Vec<i64>> = vec![Vec::new(); WEEK_HOURS];
    known.iter().zip(&from.time).filter(|(s, _)| **s > 0).for_each(|(s, t)| by_hour[hour(*t)].push(*s));
    let medians: Vec<i64> = by_hour.iter_mut().map(|h| if h.is_empty() { 0 } else { median_of(h) }).collect();
    if medians.iter().all(|m| *m == 0) {
        return 0;
    }
    if !to.has(Field::Spread) {
        let fields: Vec<Field> =
            Field::ALL.into_iter().filter(|f| *f == Field::Spread || to.has(*f)).collect();
        *to = std::mem::take(to).with_fields(&fields);
    }
    let times = to.time.clone();
    let mut carried = 0;
    for (spread, t) in to.column_mut(Field::Spread).into_iter().flatten().zip(times) {
        let usual = medians[hour(t)];
        if *spread == 0 && usual > 0 {
            *spread = usual;
            carried += 1;
        }
    }
    carried
}
