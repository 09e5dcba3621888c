//! Where a formula has no value.

/// Why a formula has no value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Undefined {
    /// Something would be divided by 0, or by what may be 0.
    DividedByZero,
    /// There is no such root, logarithm or power, or the number is too large.
    NoNumber,
    /// Not enough bars have passed for a mean, a deviation or a lag.
    WindowNotFull,
}
