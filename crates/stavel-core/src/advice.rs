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
    SetValue { instrument: String, key: &'static str },
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
    Clock,
    Dates,
    Frame,
    Instrument,
    Layered,
    Layout,
    Level,
    /// Patterns of file names.
    Names,
    Stamp,
}
