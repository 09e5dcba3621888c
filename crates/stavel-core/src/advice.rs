//! What a person can do about an error, as a value. The command line and the bench tell it in their own words.

/// What a person can do about an error.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Advice {
    /// Say this of the act, or leave it away where it was said.
    Say(Setting),
    /// Say one of the two.
    SayEither(Setting, Setting),
    /// Say one of these values.
    Choose(Setting, Vec<String>),
    /// Find the clock of this series.
    Align(String),
    /// Give a value to a key of the spec sheet of an instrument.
    SetValue {
        /// The instrument whose value it is.
        instrument: String,
        /// The key of the spec sheet.
        key: &'static str,
    },
    /// Look at the editions of this series.
    ListEditions(String),
    /// Build frames first.
    BuildFrames,
    /// Have the catalog made anew from the data files.
    RebuildCatalog,
    /// Compare the files of the shelf with its catalog.
    VerifyShelf,
    /// Name another folder for the shelf.
    OtherShelf,
}

/// A setting of an act that a person can give.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Setting {
    /// The clock of the written times.
    Clock,
    /// The order of day, month and year.
    Dates,
    /// The frame of the rows.
    Frame,
    /// The instrument of a file.
    Instrument,
    /// Whether ticks and minutes are kept as layers of one series.
    Layered,
    /// How the columns are understood.
    Layout,
    /// Whether later sources are brought to the level of the first.
    Level,
    /// Patterns of file names.
    Names,
    /// Which end of a bar its time names.
    Stamp,
}
