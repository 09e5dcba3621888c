//! The kinds of dated facts.

/// Every kind.
pub const ALL: [&str; 7] = [EVENT, HOLIDAY, DIVIDEND, SPLIT, STATEMENT, SHEET, GAP];
/// Something is announced or decided.
pub const EVENT: &str = "event";
/// A session day without trading, or with other hours.
pub const HOLIDAY: &str = "holiday";
/// Money was paid.
pub const DIVIDEND: &str = "dividend";
/// One share became several, or several one.
pub const SPLIT: &str = "split";
/// What a company or an authority reported.
pub const STATEMENT: &str = "statement";
/// A value of the spec sheet as a broker says it, from a day on.
pub const SHEET: &str = "sheet";
/// A time in which a live stream was away.
pub const GAP: &str = "gap";
/// What a person drew on a chart. It is no date of the instrument, and only meant where it is asked for by its kind.
pub const DRAWING: &str = "drawing";
