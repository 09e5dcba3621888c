//! Conditions of a script: what they are made of and what they come to.

use std::collections::VecDeque;

use super::super::watched::WatchedBar;

/// Bars that a condition may look back at.
pub const MOST_BACK: usize = 5_000;

/// What a condition is made of.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A number.
    Number(f64),
    /// A value of the last bar, or of the desk.
    Name(Name),
    /// A value over the last bars.
    Over(Over, Box<Value>, usize),
    /// A value so many bars ago.
    Before(Box<Value>, usize),
    /// Two values and a sign between them; what is true counts 1.
    Both(Sign, Box<Value>, Box<Value>),
    /// True where the first was not above (below) the second a bar ago and is now.
    Crosses {
        /// From below to above.
        above: bool,
        /// The one that crosses.
        what: Box<Value>,
        /// What it crosses.
        over: Box<Value>,
    },
    /// Not.
    Not(Box<Value>),
    /// Less than nothing.
    Minus(Box<Value>),
}

/// A value that has a name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum Name {
    /// First price of the bar.
    Open,
    /// Highest price of the bar.
    High,
    /// Lowest price of the bar.
    Low,
    /// Last price of the bar.
    Close,
    /// What was traded in the bar.
    Volume,
    /// The bid now.
    Bid,
    /// The ask now.
    Ask,
    /// Ask less bid, in points.
    Spread,
    /// Lots that are held; below zero where they are sold.
    Position,
    /// Orders that wait.
    Orders,
    /// Hour of the day on the session's clock.
    Hour,
    /// Minute of the hour.
    Minute,
    /// Day of the week, 1 for Monday.
    Weekday,
}

/// Over the last bars.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum Over {
    /// Their mean.
    Mean,
    /// The highest of them.
    Highest,
    /// The lowest of them.
    Lowest,
}

/// What stands between two values.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sign {
    /// Sum.
    Plus,
    /// Difference.
    Minus,
    /// Product.
    Times,
    /// Quotient.
    Per,
    /// Less.
    Less,
    /// Less or the same.
    AtMost,
    /// More.
    More,
    /// More or the same.
    AtLeast,
    /// The same.
    Same,
    /// Not the same.
    Other,
    /// Both hold.
    And,
    /// One holds.
    Or,
}

/// What the desk says at a moment; prices in points as those of bars.
#[derive(Debug, Clone, Copy, Default)]
pub struct DeskNow {
    /// The bid.
    pub bid: f64,
    /// The ask.
    pub ask: f64,
    /// Lots.
    pub position: f64,
    /// Orders that wait.
    pub orders: f64,
    /// Hour, minute and weekday of the session's clock.
    pub clock: (f64, f64, f64),
}

/// The last bars of one instrument, newest last.
#[derive(Debug, Clone, Default)]
pub struct LastBars {
    bars: VecDeque<WatchedBar>,
}

impl LastBars {
    /// Takes the next.
    pub fn push(&mut self, bar: WatchedBar) {
        if self.bars.len() == MOST_BACK + 1 {
            self.bars.pop_front();
        }
        self.bars.push_back(bar);
    }

    fn ago(&self, back: usize) -> Option<&WatchedBar> {
        self.bars.get(self.bars.len().checked_sub(1 + back)?)
    }
}

impl Value {
    /// What it comes to, so many bars ago; none where bars are missing, or a volume is absent. What the desk says is always of
    /// now.
    pub fn at(&self, bars: &LastBars, desk: &DeskNow, back: usize) -> Option<f64> {
        Some(match self {
            Value::Number(number) => *number,
            Value::Name(name) => name.at(bars, desk, back)?,
            Value::Minus(value) => -value.at(bars, desk, back)?,
            Value::Not(value) => truth(value.at(bars, desk, back)? == 0.0),
            Value::Before(value, ago) => value.at(bars, desk, back + ago)?,
            Value::Over(over, value, count) => {
                let mut each = (back..back + count).map(|back| value.at(bars, desk, back));
                match over {
                    Over::Mean => each.sum::<Option<f64>>()? / *count as f64,
                    Over::Highest => each.try_fold(f64::MIN, |most, one| Some(most.max(one?)))?,
                    Over::Lowest => each.try_fold(f64::MAX, |least, one| Some(least.min(one?)))?,
                }
            }
            Value::Crosses { above, what, over } => {
                let sign = if *above { 1.0 } else { -1.0 };
                let beyond = |back: usize| {
                    let distance = what.at(bars, desk, back)? - over.at(bars, desk, back)?;
                    Some(distance * sign > 0.0)
                };
                truth(beyond(back)? && !beyond(back + 1)?)
            }
            Value::Both(sign, a, b) => {
                let (a, b) = (a.at(bars, desk, back)?, b.at(bars, desk, back)?);
                match sign {
                    Sign::Plus => a + b,
                    Sign::Minus => a - b,
                    Sign::Times => a * b,
                    Sign::Per if b == 0.0 => return None,
                    Sign::Per => a / b,
                    Sign::Less => truth(a < b),
                    Sign::AtMost => truth(a <= b),
                    Sign::More => truth(a > b),
                    Sign::AtLeast => truth(a >= b),
                    Sign::Same => truth(a == b),
                    Sign::Other => truth(a != b),
                    Sign::And => truth(a != 0.0 && b != 0.0),
                    Sign::Or => truth(a != 0.0 || b != 0.0),
                }
            }
        })
    }

    /// The bars that it looks back at, itself included.
    pub fn reach(&self) -> usize {
        match self {
            Value::Number(_) | Value::Name(_) => 1,
            Value::Minus(value) | Value::Not(value) => value.reach(),
            Value::Before(value, ago) => value.reach() + ago,
            Value::Over(_, value, count) => value.reach() + count - 1,
            Value::Crosses { what, over, .. } => what.reach().max(over.reach()) + 1,
            Value::Both(_, a, b) => a.reach().max(b.reach()),
        }
    }
}

fn truth(holds: bool) -> f64 {
    if holds { 1.0 } else { 0.0 }
}

impl Name {
    fn at(self, bars: &LastBars, desk: &DeskNow, back: usize) -> Option<f64> {
        let bar = || bars.ago(back);
        Some(match self {
            Name::Open => bar()?.open as f64,
            Name::High => bar()?.high as f64,
            Name::Low => bar()?.low as f64,
            Name::Close => bar()?.close as f64,
            Name::Volume => bar()?.volume? as f64,
            Name::Bid => desk.bid,
            Name::Ask => desk.ask,
            Name::Spread => desk.ask - desk.bid,
            Name::Position => desk.position,
            Name::Orders => desk.orders,
            Name::Hour => desk.clock.0,
            Name::Minute => desk.clock.1,
            Name::Weekday => desk.clock.2,
        })
    }
}
