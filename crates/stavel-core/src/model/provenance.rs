//! Provenance: what made an edition, and everything that went into it.
//!
//! [`Made`] says which act made an edition, with its settings and what came of it. [`Input`] names
//! what the act read on the shelf: editions of other series and values of spec sheets. Comparing the
//! inputs with what the shelf holds now tells whether an edition is stale; see
//! [`crate::store::Shelf::staleness`].

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::actions::Action;
use super::chain::{ChainedContract, Roll, RollAdjust, RollAt, RollRule};
use super::variation::Variation;
use super::{Decision, Frame, Micros, SeriesName, SeriesPattern, Side};

/// What made an edition, and what that act read.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Provenance {
    /// What was done.
    pub made: Made,
    /// What it was done with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub inputs: Vec<Input>,
    /// Version of the act's method: it grows whenever the same inputs would give other rows.
    pub method: u32,
}

/// Something on the shelf that an act read.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Input {
    /// An edition, with the name its series had.
    Edition {
        /// Its number in the catalog.
        id: i64,
        /// The series it is of.
        series: SeriesName,
    },
    /// A value of a spec sheet, as written; none where the sheet had none.
    Sheet {
        /// The instrument.
        instrument: String,
        /// The key of its spec sheet.
        key: String,
        /// Its value then, as written; none where it had none.
        value: Option<String>,
    },
    /// The contracts that a pattern named.
    Contracts {
        /// The pattern, with source and frame.
        pattern: SeriesPattern,
        /// Their series, in order of their names.
        found: Vec<SeriesName>,
    },
    /// What was known of an instrument on dates.
    Facts {
        /// The instrument.
        instrument: String,
        /// A fingerprint of its facts: BLAKE3, in hexadecimal.
        hash: String,
    },
}

/// The act that made an edition, with its settings and its outcome.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "act", rename_all = "lowercase")]
pub enum Made {
    /// Files were taken in.
    Intake(Box<TakenIn>),
    /// Findings were mended.
    Check(Mending),
    /// The series was anchored.
    Align(Anchoring),
    /// Sources were joined.
    Splice(Joining),
    /// Bars were built.
    Frames(Framing),
    /// Ticks were rebuilt from bars.
    Rebuild(Box<Rebuilding>),
    /// The rows of another instrument were taken over.
    Compose(Box<Composing>),
    /// Rows of several instruments were put into a formula.
    Formula(Box<FormulaMade>),
    /// Contracts of several months were put one behind the other.
    Chain(Box<ChainMade>),
    /// The files say nothing about how they were made.
    Unknown,
}

/// Files that were taken in.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct TakenIn {
    /// The files, in order of time.
    pub files: Vec<TakenFile>,
    /// The layout in words.
    pub layout: String,
    /// A clock, or `afloat`.
    pub clock: String,
    /// `open` or `close`.
    pub stamp: String,
    /// The span that the new rows cover was replaced.
    pub replace: bool,
    /// Of two bars at one time the new one was kept.
    pub prefer_new: bool,
    /// Rows in the files.
    pub rows_read: u64,
    /// Rows that were new.
    pub rows_kept: u64,
    /// Rows that could not be understood.
    pub rows_rejected: u64,
    /// Rows that were there already, equal in every value.
    pub rows_already_there: u64,
    /// Bars that stood at the time of another with other values.
    pub rows_conflicting: u64,
    /// Older rows that gave way.
    pub rows_replaced: u64,
    /// Rejected rows by reason.
    pub reasons: BTreeMap<String, u64>,
    /// The file of rejected rows.
    pub rejects: Option<String>,
    /// Rows in an hour that the clock showed twice.
    pub times_shown_twice: u64,
    /// Rows at times that the clock never showed.
    pub times_never_shown: u64,
    /// Runs of rows that stood before rows they follow.
    pub disorder: Vec<Disorder>,
    /// What was decided about the files, and how it is known.
    pub decisions: Vec<Decision>,
    /// How long it took.
    pub seconds: f64,
}

/// A file that was taken in.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct TakenFile {
    /// The file, and within an archive its member.
    pub name: String,
    /// Where it lay.
    pub path: String,
    /// Its length.
    pub bytes: u64,
    /// BLAKE3 of its bytes, in hexadecimal digits.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub blake3: Option<String>,
    /// Of files taken in by earlier versions.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    /// Its layout in words.
    pub layout: String,
}

/// Rows of a file whose times lie before that of a row above them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Disorder {
    /// The file.
    pub file: String,
    /// The line of its first row, from 1.
    pub line: u64,
    /// As the rows are stored: UTC where the clock is known, else as written.
    pub from: Micros,
    /// The time of its last row.
    pub to: Micros,
    /// How many rows.
    pub rows: u64,
}

/// Mends of a check, in their notation.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Mending {
    /// The mends as they are written.
    pub mends: Vec<String>,
    /// Rows each mend changed.
    pub counts: Vec<(String, u64)>,
    /// True where a mend put rows in order of time.
    pub settles_order: bool,
}

/// A clock that was found or chosen.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Anchoring {
    /// The anchored series it was compared with.
    pub to: String,
    /// True where a person chose the clock.
    pub chosen: bool,
    /// Share of the weeks that agree, 0 to 1; none where the clock was only chosen.
    pub confidence: Option<f64>,
    /// `open` or `close`.
    pub stamp: String,
    /// Rows at written times that the clock showed twice or never.
    pub doubtful_times: u64,
    /// What intake noted of rows out of order, in UTC.
    pub disorder: Vec<Disorder>,
}

/// Series that were joined; which they were stands in the inputs.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Joining {
    /// The rule, level and layer in their notation.
    pub rule: String,
    /// How levels were brought together, as it is written.
    pub level: String,
    /// Spreads of the first source were put on rows that knew none.
    pub carry_spread: bool,
    /// Ticks and minutes were kept as layers.
    pub layered: bool,
    /// Median difference and ratio by which each later source was brought to level.
    pub gaps: Option<Vec<Option<(i64, f64)>>>,
    /// Median spread by hour of the week that was carried over.
    pub spreads: Option<Vec<Option<i64>>>,
    /// Moments at which the source changes, the first thousand.
    pub seams: Vec<Micros>,
    /// Rows that were given a spread.
    pub carried: u64,
    /// Rows taken over from the edition before.
    pub kept_rows: u64,
}

/// Bars that were built of shorter ones or of ticks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Framing {
    /// The frame that was built.
    pub frame: Frame,
    /// Of quotes, the side the bars follow.
    pub side: Side,
    /// The clock of the session days, where it was said; else it is an input from the sheet.
    pub clock: Option<String>,
    /// True where rows are missing at the outer end of the first bar, or of the last.
    pub partial_first: bool,
    /// True where the rows may end within the last bar.
    pub partial_last: bool,
    /// What became of bars without rows.
    #[serde(default)]
    pub empty: EmptyBars,
    /// Values that were more than a column holds and are absent.
    #[serde(default)]
    pub too_large: u64,
}

/// Ticks that were rebuilt from bars.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rebuilding {
    /// What their chances were drawn from.
    pub seed: u64,
    /// The real ticks that said in which order highs and lows come; none where a random walk did.
    pub like: Option<SeriesName>,
    /// Bars that were looked at.
    pub bars: u64,
    /// How far such ticks are from real ones, where that could be measured.
    pub error: Option<PathError>,
}

/// How far rebuilt ticks are from real ones, measured on bars of odd days, rebuilt by what those of even days say, against their real ticks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct PathError {
    /// Bars with a range that were compared.
    pub bars: u64,
    /// Points from low to high, on average.
    pub range: f64,
    /// Points between the real and the rebuilt price at nine moments of each bar, on average.
    pub off: f64,
    /// The same for a straight line from open to close.
    pub straight: f64,
    /// Bars in which it is a question whether the high or the low came first.
    pub asked: u64,
    /// Those of them in which the rebuilt ticks had the right one first.
    pub right: u64,
}

/// What becomes of a bar in open time that has no rows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum EmptyBars {
    /// There is none.
    #[default]
    Skip,
    /// A flat one at the close before it, marked as filled.
    Fill,
}

/// Rows of another instrument, moved and cut to other hours.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Composing {
    /// How its rows differ from those of its base.
    #[serde(flatten)]
    pub variation: Variation,
    /// The splits and dividends that its prices are adjusted for, in order of time.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub actions: Vec<Action>,
    /// What of the base is not there, or not as it was asked for.
    #[serde(flatten)]
    pub left: LeftAway,
}

/// Rows of a variant that are not as they were asked for.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct LeftAway {
    /// Left away: outside the hours, the days or the span.
    pub outside: u64,
    /// Left away: without a price of the side, or with one that cannot be turned over or held.
    pub unpriced: u64,
    /// Their spread is not known and stays so.
    pub no_spread: u64,
    /// Their spread would be below 0 and is 0.
    pub below_zero: u64,
    /// Turned over without a spread that is known: their bid was.
    pub bid_alone: u64,
    /// Left away: their minutes were drawn to go missing.
    pub missing: u64,
}

impl LeftAway {
    /// Adds those of other rows.
    pub fn add(&mut self, more: &LeftAway) {
        self.outside += more.outside;
        self.unpriced += more.unpriced;
        self.no_spread += more.no_spread;
        self.below_zero += more.below_zero;
        self.bid_alone += more.bid_alone;
        self.missing += more.missing;
    }
}

/// Rows that were worked out by a formula; which series its legs are stands in the inputs, in order.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct FormulaMade {
    /// The formula as it was written.
    pub text: String,
    /// The formula as it was worked out: ready forms and measured numbers written out.
    pub told: String,
    /// How long a price of a leg holds, in microseconds.
    pub stale: Micros,
    /// What the values are measured in, where that is known.
    pub unit: Option<String>,
    /// Rows of the legs that made no row, by the month of the world's time (`2024-03`).
    pub left: BTreeMap<String, LegsLeft>,
}

/// Contracts that were put one behind the other; their editions stand in the inputs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ChainMade {
    /// Which contracts were asked for, with source and frame.
    pub of: Vec<SeriesPattern>,
    /// When it rolls.
    pub rule: RollRule,
    /// How its prices are brought to one level.
    pub adjust: RollAdjust,
    /// True where the first contract keeps its prices, false where the last one does.
    pub forward: bool,
    /// Rolls that a person put elsewhere, by the contract they roll out of.
    pub moved: BTreeMap<String, RollAt>,
    /// The contracts, by month.
    pub contracts: Vec<ChainedContract>,
    /// The rolls, in order of time.
    pub rolls: Vec<Roll>,
    /// Decimals of the prices of the rolls.
    pub decimals: u8,
    /// Rows with a price of 0 or less that was above 0 before it was adjusted.
    #[serde(default)]
    pub below_zero: u64,
}

/// Moments at which a leg had a row and the formula none.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct LegsLeft {
    /// By leg: its rows had not begun yet, or had ended.
    pub outside: Vec<u64>,
    /// By leg: it had no bar at that time, or only one side of a quote so far.
    pub missing: Vec<u64>,
    /// By leg: its last price was older than a price holds.
    pub stale: Vec<u64>,
    /// By leg: its spread was not known, so that it had one side alone.
    pub one_sided: Vec<u64>,
    /// By leg: a close before stood in for its bar. There is a row then.
    pub carried: Vec<u64>,
    /// Something would have been divided by 0.
    pub by_zero: u64,
    /// There was no such number, or one that a column cannot hold.
    pub no_number: u64,
    /// Fewer bars had passed than a window looks back on.
    pub waiting: u64,
}

impl LegsLeft {
    /// Nothing, of so many legs.
    pub fn of(legs: usize) -> LegsLeft {
        let none = vec![0; legs];
        LegsLeft {
            outside: none.clone(),
            missing: none.clone(),
            stale: none.clone(),
            one_sided: none.clone(),
            carried: none,
            ..LegsLeft::default()
        }
    }

    /// Adds those of other rows of the same legs.
    pub fn add(&mut self, more: &LegsLeft) {
        let pairs = [
            (&mut self.outside, &more.outside),
            (&mut self.missing, &more.missing),
            (&mut self.stale, &more.stale),
            (&mut self.one_sided, &more.one_sided),
            (&mut self.carried, &more.carried),
        ];
        for (mine, more) in pairs {
            mine.resize(mine.len().max(more.len()), 0);
            mine.iter_mut().zip(more).for_each(|(mine, more)| *mine += more);
        }
        self.by_zero += more.by_zero;
        self.no_number += more.no_number;
        self.waiting += more.waiting;
    }

    /// All that made no row together.
    pub fn sum(&self) -> u64 {
        let by_leg = self.outside.iter().chain(&self.missing).chain(&self.stale).chain(&self.one_sided);
        by_leg.sum::<u64>() + self.by_zero + self.no_number + self.waiting
    }
}

impl Provenance {
    /// A provenance without inputs on the shelf.
    pub fn of(made: Made) -> Provenance {
        let method = made.method();
        Provenance { made, inputs: Vec::new(), method }
    }

    /// The same with what was read on the shelf.
    pub fn reading(mut self, inputs: Vec<Input>) -> Provenance {
        self.inputs = inputs;
        self
    }

    /// The editions it was made from, in order.
    pub fn parents(&self) -> impl Iterator<Item = (i64, &SeriesName)> {
        self.inputs.iter().filter_map(|input| match input {
            Input::Edition { id, series } => Some((*id, series)),
            Input::Sheet { .. } | Input::Contracts { .. } | Input::Facts { .. } => None,
        })
    }

    /// The values of spec sheets and the facts that it was made with, in order.
    pub fn sheet_inputs(&self) -> impl Iterator<Item = &Input> {
        self.inputs.iter().filter(|input| matches!(input, Input::Sheet { .. } | Input::Facts { .. }))
    }

    /// A fingerprint of everything that went in: inputs, settings and method, but not what came of it.
    /// BLAKE3, in hexadecimal.
    pub fn fingerprint(&self) -> String {
        let went_in = (self.made.act(), self.made.settings(), &self.inputs, self.method);
        let text = serde_json::to_vec(&went_in).unwrap_or_default();
        blake3::hash(&text).to_hex().to_string()
    }
}

impl Made {
    /// The word of the act.
    pub fn act(&self) -> &'static str {
        match self {
            Made::Intake(_) => "intake",
            Made::Check(_) => "check",
            Made::Align(_) => "align",
            Made::Splice(_) => "splice",
            Made::Frames(_) | Made::Rebuild(_) => "frames",
            Made::Compose(_) | Made::Formula(_) | Made::Chain(_) => "compose",
            Made::Unknown => "unknown",
        }
    }

    /// The version of the act's method in this program.
    pub fn method(&self) -> u32 {
        match self {
            // Grows by one with each change of a method that gives other rows.
            Made::Intake(_) | Made::Check(_) | Made::Align(_) | Made::Unknown => 1,
            Made::Splice(_) | Made::Frames(_) | Made::Rebuild(_) => 1,
            Made::Compose(_) | Made::Formula(_) | Made::Chain(_) => 1,
        }
    }

    /// True where the rows were computed from other series, so that they are stale once those change.
    pub fn is_derived(&self) -> bool {
        match self {
            Made::Splice(_) | Made::Frames(_) | Made::Rebuild(_) => true,
            Made::Compose(_) | Made::Formula(_) | Made::Chain(_) => true,
            Made::Intake(_) | Made::Check(_) | Made::Align(_) | Made::Unknown => false,
        }
    }

    /// True for rows taken in from files.
    pub fn is_taken_in(&self) -> bool {
        matches!(self, Made::Intake(_))
    }

    /// True for rows whose clock was found or chosen.
    pub fn is_aligned(&self) -> bool {
        matches!(self, Made::Align(_))
    }

    /// True for rows of several sources.
    pub fn is_joined(&self) -> bool {
        matches!(self, Made::Splice(_))
    }

    /// True for bars that were built of other rows, and for ticks that were rebuilt from bars.
    pub fn is_framed(&self) -> bool {
        matches!(self, Made::Frames(_) | Made::Rebuild(_))
    }

    /// The settings of the act, as values to be hashed.
    fn settings(&self) -> serde_json::Value {
        use serde_json::json;
        match self {
            Made::Intake(t) => {
                let files: Vec<_> =
                    t.files.iter().map(|f| (&f.name, f.bytes, &f.blake3, &f.layout)).collect();
                json!([files, t.clock, t.stamp, t.replace, t.prefer_new])
            }
            Made::Check(m) => json!(m.mends),
            Made::Align(a) => json!([a.to, a.chosen, a.stamp]),
            Made::Splice(j) => json!([j.rule, j.level, j.carry_spread, j.layered, j.gaps, j.spreads]),
            Made::Frames(f) if f.empty == EmptyBars::Fill => json!([f.frame, f.side, f.clock, f.empty]),
            Made::Frames(f) => json!([f.frame, f.side, f.clock]),
            Made::Rebuild(r) => json!([r.seed]),
            Made::Compose(c) if c.variation == Variation::moved(c.variation.shift) => {
                json!([c.variation.shift])
            }
            Made::Compose(c) => json!(c.variation),
            Made::Formula(f) => json!(["formula", f.told, f.stale]),
            Made::Chain(c) => json!(["chain", c.of, c.rule, c.adjust, c.forward, c.moved]),
            Made::Unknown => json!(null),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn framed(value: &str, edition: i64) -> Provenance {
        let made = Made::Frames(Framing {
            frame: Frame::M1,
            side: Side::Bid,
            clock: None,
            partial_first: false,
            partial_last: true,
            empty: EmptyBars::Skip,
            too_large: 0,
        });
        Provenance::of(made).reading(vec![
            Input::Edition { id: edition, series: "NOKSEK@joined:1m".parse().unwrap() },
            Input::Sheet { instrument: "NOKSEK".into(), key: "hours".into(), value: Some(value.into()) },
        ])
    }

    #[test]
    fn the_fingerprint_holds_what_went_in_and_not_what_came_out() {
        let base = framed("mon-fri 08:00-17:00 Europe/Oslo", 3);
        let mut told_otherwise = base.clone();
        if let Made::Frames(f) = &mut told_otherwise.made {
            f.partial_first = true;
        }
        assert_eq!(base.fingerprint(), told_otherwise.fingerprint());
        let mut other_side = base.clone();
        if let Made::Frames(f) = &mut other_side.made {
            f.side = Side::Ask;
        }
        let mut newer_method = base.clone();
        newer_method.method += 1;
        let others = [framed("mon-fri 09:00-17:00 Europe/Oslo", 3), framed("x", 4), other_side, newer_method];
        for other in others {
            assert_ne!(base.fingerprint(), other.fingerprint(), "{other:?}");
        }
    }

    #[test]
    fn it_is_read_as_written() {
        let made = [
            Made::Intake(Box::new(TakenIn { rows_read: 7, ..TakenIn::default() })),
            Made::Check(Mending { mends: vec!["spike".into()], ..Mending::default() }),
            Made::Align(Anchoring { confidence: Some(0.5), ..Anchoring::default() }),
            Made::Splice(Joining { gaps: Some(vec![None, Some((3, 1.5))]), ..Joining::default() }),
            Made::Compose(Box::new(Composing {
                variation: Variation { days: Some("mon,fri".parse().unwrap()), ..Variation::moved(-5) },
                left: LeftAway { outside: 2, ..LeftAway::default() },
                ..Composing::default()
            })),
            Made::Unknown,
        ];
        for made in made.into_iter().map(Provenance::of).chain([framed("x", 1)]) {
            let text = serde_json::to_string(&made).unwrap();
            assert_eq!(serde_json::from_str::<Provenance>(&text).unwrap(), made, "{text}");
        }
    }
}
