//! How a value is known.

use serde::{Deserialize, Serialize};

/// How a value that the work rests on is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::Display, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum Standing {
    /// A person, a file or a feed says it.
    Said,
    /// It was told from the data, with evidence that can be shown.
    Found,
    /// Nothing speaks; it is a default.
    Assumed,
}

impl Standing {
    /// Its word.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// Its mark, told apart by shape.
    pub fn mark(self) -> &'static str {
        match self {
            Standing::Said => "●",
            Standing::Found => "◐",
            Standing::Assumed => "○",
        }
    }
}

/// Something that was decided about a file, a series or an instrument, and how it is known.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Decision {
    /// What was decided: `clock`, `stamp`, `frame`, `decimals`, `side`, …
    pub what: String,
    /// What it was decided to be, as written.
    pub value: String,
    /// How that is known.
    pub standing: Standing,
    /// The evidence, or why nothing speaks.
    pub why: String,
}

impl Decision {
    /// A decision with its reason.
    pub fn new(what: &str, value: impl Into<String>, standing: Standing, why: impl Into<String>) -> Decision {
        Decision { what: what.into(), value: value.into(), standing, why: why.into() }
    }

    /// True where nothing speaks for it.
    pub fn is_assumed(&self) -> bool {
        self.standing == Standing::Assumed
    }
}
