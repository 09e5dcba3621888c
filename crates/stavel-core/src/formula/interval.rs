//! Spans of numbers, and what a function makes of them.
//!
//! The rules are those of interval arithmetic (R. E. Moore, Interval Analysis, 1966): the result holds every value that the
//! function has while its arguments lie in theirs, and, for one function by itself, no other.

/// All numbers from `low` to `high`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Interval {
    /// The lowest.
    pub low: f64,
    /// The highest.
    pub high: f64,
}

impl Interval {
    /// Every number there is.
    pub(super) const ALL: Interval = Interval { low: f64::NEG_INFINITY, high: f64::INFINITY };

    /// From one number to another.
    pub fn new(low: f64, high: f64) -> Interval {
        Interval { low, high }
    }

    /// One number.
    pub fn of(value: f64) -> Interval {
        Interval { low: value, high: value }
    }

    /// How far its ends lie apart.
    pub fn width(self) -> f64 {
        self.high - self.low
    }

    /// The number half way.
    pub fn middle(self) -> f64 {
        self.low + self.width() / 2.0
    }

    /// True where a number lies in it.
    pub fn holds(self, value: f64) -> bool {
        self.low <= value && value <= self.high
    }

    /// The smallest that holds both.
    pub(super) fn and(self, other: Interval) -> Interval {
        Interval { low: self.low.min(other.low), high: self.high.max(other.high) }
    }

    fn is_finite(self) -> bool {
        self.low.is_finite() && self.high.is_finite()
    }

    /// None where an end is no number or beyond all of them.
    pub(super) fn finite(self) -> Option<Interval> {
        self.is_finite().then_some(self)
    }

    pub(super) fn negative(self) -> Interval {
        Interval { low: -self.high, high: -self.low }
    }

    pub(super) fn plus(self, other: Interval) -> Interval {
        Interval { low: self.low + other.low, high: self.high + other.high }
    }

    pub(super) fn minus(self, other: Interval) -> Interval {
        Interval { low: self.low - other.high, high: self.high - other.low }
    }

    pub(super) fn times(self, other: Interval) -> Interval {
        // An end of nothing times one without end is nothing: no value of either is without end.
        let product = |a: f64, b: f64| if a == 0.0 || b == 0.0 { 0.0 } else { a * b };
        let all = [
            product(self.low, other.low),
            product(self.low, other.high),
            product(self.high, other.low),
            product(self.high, other.high),
        ];
        Interval {
            low: all.into_iter().fold(f64::INFINITY, f64::min),
            high: all.into_iter().fold(f64::NEG_INFINITY, f64::max),
        }
    }

    /// None where the other holds 0.
    pub(super) fn over(self, other: Interval) -> Option<Interval> {
        (!other.holds(0.0)).then(|| {
            let all =
                [self.low / other.low, self.low / other.high, self.high / other.low, self.high / other.high];
            Interval {
                low: all.into_iter().fold(f64::INFINITY, f64::min),
                high: all.into_iter().fold(f64::NEG_INFINITY, f64::max),
            }
        })
    }

    pub(super) fn abs(self) -> Interval {
        if self.low >= 0.0 {
            self
        } else if self.high <= 0.0 {
            self.negative()
        } else {
            Interval { low: 0.0, high: self.high.max(-self.low) }
        }
    }

    /// What a function that never falls makes of it.
    pub(super) fn rising(self, function: impl Fn(f64) -> f64) -> Interval {
        Interval { low: function(self.low), high: function(self.high) }
    }

    /// None where there is no such power of some of the numbers.
    pub(super) fn power(self, exponent: Interval) -> Option<Interval> {
        let (low, high) = (self.low, self.high);
        let is_whole = exponent.width() == 0.0 && exponent.low.fract() == 0.0;
        if !is_whole {
            // On either axis alone a power rises or falls all the way, so its ends lie at corners.
            let is_there = low > 0.0 || low == 0.0 && exponent.low > 0.0;
            let corners = || {
                let ends = [exponent.low, exponent.high];
                ends.iter()
                    .flat_map(|e| [low.powf(*e), high.powf(*e)])
                    .map(Interval::of)
                    .reduce(Interval::and)
            };
            return is_there.then(corners).flatten();
        }
        let n = exponent.low;
        if n < 0.0 {
            return Interval::of(1.0).over(self.power(Interval::of(-n))?);
        }
        Some(match n % 2.0 == 0.0 {
            true => self.abs().rising(|v| v.powf(n)),
            false => self.rising(|v| v.powf(n)),
        })
    }
}

/// A number to so many decimals, a half away from 0.
pub(super) fn rounded(value: f64, decimals: i32) -> f64 {
    let unit = 10f64.powi(decimals.abs());
    if decimals >= 0 { (value * unit).round() / unit } else { (value / unit).round() * unit }
}
