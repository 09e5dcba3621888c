//! What is chosen of a splice and what is known of it.

use stavel_core::model::columns::shape_of;
use stavel_core::model::{Columns, Frame, Micros, SeriesName, SessionWeek, Shape, Span};
use stavel_core::splice::{
    CutTrial, JudgedSeam, Level, Prepared, Seam, SpliceRule, SpliceWishes, Spliced, ask_of,
};
use stavel_core::store::SeriesInfo;

use super::splice_rules::RuleChoice;
use crate::jobs::Slot;
use crate::view::View;

/// The source that results go to.
pub const INTO: &str = "joined";

/// What a join would give.
pub struct Proposal {
    pub prepared: Prepared,
    pub sources: Vec<SeriesName>,
    pub told: Spliced,
}

impl Proposal {
    /// The length of a bar.
    pub fn bar(&self) -> Micros {
        self.prepared.plan.bar()
    }
}

/// Bars of two sources around a seam.
pub struct SeamBars {
    pub window: Span,
    pub before: Columns,
    pub after: Columns,
}

/// The lens.
#[derive(Default)]
pub struct SpliceLens {
    pub proposal: Slot<Proposal>,
    pub trial: Slot<CutTrial>,
    pub around: Slot<SeamBars>,
    pub(super) choice: RuleChoice,
    pub(super) cut: Option<Micros>,
    pub(super) hours: Option<SessionWeek>,
    pub(super) level: Level,
    pub(super) carry_spread: bool,
    pub(super) layered: bool,
    /// How many sources have gone to the end of the order.
    pub(super) turned: usize,
    /// The place of the seam that is looked at.
    pub at: usize,
    /// True once the rule was set here, or taken from the series joined before.
    pub(super) is_set: bool,
}

impl SpliceLens {
    /// How series are to be joined, as chosen here.
    pub fn ask(&self) -> SpliceWishes {
        let rule = self.choice.rule(self.cut, self.hours.as_ref());
        SpliceWishes {
            rule,
            level: self.level,
            carry_spread: self.carry_spread,
            layered: self.layered,
            anew: false,
        }
    }

    /// Goes on with what a series was joined by.
    pub(super) fn take_over(&mut self, ask: SpliceWishes) {
        self.choice = RuleChoice::of(&ask.rule);
        // What the rule does not need stays as it was chosen.
        if let SpliceRule::Cut(at) = ask.rule {
            self.cut = Some(at);
        } else if let SpliceRule::Hours(week) = ask.rule {
            self.hours = Some(week);
        }
        (self.level, self.carry_spread, self.layered) = (ask.level, ask.carry_spread, ask.layered);
    }

    /// The cut that is tried, while that is the rule.
    pub fn cut(&self) -> Option<Micros> {
        self.cut.filter(|_| self.choice == RuleChoice::Cut)
    }

    /// The seam looked at and what is said of it.
    pub fn seam<'a>(&self, p: &'a Proposal, trial: Option<&CutTrial>) -> Option<(Seam, Option<JudgedSeam>)> {
        if self.cut().is_some() {
            return trial.and_then(|t| t.seam).map(|(seam, judged)| (seam, Some(judged)));
        }
        let told: &'a Spliced = &p.told;
        let at = self.at.min(told.seams.len().checked_sub(1)?);
        Some((told.seams[at], told.judged.get(at).copied()))
    }

    /// The series that can be joined, the shortest history first: a broker's own comes before a vendor's. In layers
    /// ticks come before minutes.
    pub fn sources<'a>(&self, view: &View<'a>) -> Vec<&'a SeriesInfo> {
        let fits = |s: &&SeriesInfo| s.name.source != INTO && !s.edition.provenance.made.is_joined();
        let mut all: Vec<&SeriesInfo> = view.snapshot.roots_of(view.instrument_name()).filter(fits).collect();
        let layered = self.layered;
        let frame = all.iter().map(|s| s.name.frame).filter(Frame::is_bars).min();
        all.retain(|s| Some(s.name.frame) == frame || layered && s.name.frame.is_ticks());
        // What was joined before keeps its order.
        let before =
            self.joined(view).and_then(|j| ask_of(j).ok()).map(|(names, _)| names).unwrap_or_default();
        let place = |s: &SeriesInfo| before.iter().position(|n| *n == s.name).unwrap_or(usize::MAX);
        all.sort_by_key(|s| {
            (place(s), s.name.frame.is_bars(), s.edition.last - s.edition.first, s.name.source.clone())
        });
        let turned = self.turned % all.len().max(1);
        all.rotate_left(turned);
        all
    }

    /// The series that was joined before, as ticks or as bars.
    pub fn joined<'a>(&self, view: &View<'a>) -> Option<&'a SeriesInfo> {
        let layered = |s: &SeriesInfo| shape_of(&s.edition.fields) == Shape::Layered;
        view.snapshot.series_of(view.instrument_name()).find(|s| {
            s.name.source == INTO && s.edition.provenance.made.is_joined() && layered(s) == self.layered
        })
    }
}

/// True where there are ticks and minutes to make layers of.
pub fn has_layers(view: &View<'_>) -> bool {
    let has = |frame| {
        view.snapshot
            .roots_of(view.instrument_name())
            .any(|s| s.name.frame == frame && !s.edition.provenance.made.is_joined())
    };
    has(Frame::Ticks) && has(Frame::M1)
}
