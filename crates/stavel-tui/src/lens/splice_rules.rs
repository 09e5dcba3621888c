//! The rules of splicing as choices of the lens: their order, their words, and the settings they need.

use stavel_core::model::time::wall;
use stavel_core::model::{Micros, SessionWeek};
use stavel_core::splice::SpliceRule;

/// The rule that is chosen. What it needs beside is kept by the lens while other rules are tried.
#[derive(Clone, Copy, Default, PartialEq)]
pub enum RuleChoice {
    #[default]
    Span,
    Holes,
    Grade,
    Cut,
    Hours,
}

impl RuleChoice {
    /// The choice after it.
    pub fn next(self) -> RuleChoice {
        match self {
            RuleChoice::Span => RuleChoice::Holes,
            RuleChoice::Holes => RuleChoice::Grade,
            RuleChoice::Grade => RuleChoice::Cut,
            RuleChoice::Cut => RuleChoice::Hours,
            RuleChoice::Hours => RuleChoice::Span,
        }
    }

    /// The rule with its settings; the usual one, where they are not known yet.
    pub fn rule(self, cut: Option<Micros>, hours: Option<&SessionWeek>) -> SpliceRule {
        match (self, cut, hours) {
            (RuleChoice::Holes, ..) => SpliceRule::Holes,
            (RuleChoice::Grade, ..) => SpliceRule::Grade,
            (RuleChoice::Cut, Some(at), _) => SpliceRule::Cut(at),
            (RuleChoice::Hours, _, Some(week)) => SpliceRule::Hours(week.clone()),
            _ => SpliceRule::Span,
        }
    }

    /// The choice that a rule is.
    pub fn of(rule: &SpliceRule) -> RuleChoice {
        match rule {
            SpliceRule::Span => RuleChoice::Span,
            SpliceRule::Holes => RuleChoice::Holes,
            SpliceRule::Grade => RuleChoice::Grade,
            SpliceRule::Cut(_) => RuleChoice::Cut,
            SpliceRule::Hours(_) => RuleChoice::Hours,
        }
    }

    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            RuleChoice::Span => "span",
            RuleChoice::Holes => "holes",
            RuleChoice::Grade => "grade",
            RuleChoice::Cut => "cut",
            RuleChoice::Hours => "hours",
        }
    }

    /// What it means, in a sentence.
    pub fn about(self) -> &'static str {
        match self {
            RuleChoice::Span => {
                "The first source owns all from its first to its last row; the next only what lies outside."
            }
            RuleChoice::Holes => "As span, and the next source also fills open minutes that the first lacks.",
            RuleChoice::Grade => "Each month belongs to the source that is the cleaner in it.",
            RuleChoice::Cut => "The first owns what is at or after the cut, the others what is before.",
            RuleChoice::Hours => "The first owns these hours of the week, the next all others.",
        }
    }

    /// The keys that change it.
    pub fn keys(self) -> &'static str {
        match self {
            RuleChoice::Cut => "r: next rule  , . an hour  < > far  t: type it",
            RuleChoice::Hours => "r: next rule  t: type the hours",
            RuleChoice::Span | RuleChoice::Holes | RuleChoice::Grade => "r: next rule",
        }
    }
}

/// A rule in a word or two.
pub fn rule_in_words(rule: &SpliceRule) -> String {
    match rule {
        SpliceRule::Cut(at) => format!("cut {}", wall(*at)),
        SpliceRule::Hours(_) => "hours".into(),
        rule => rule.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_rule_is_reached_and_is_the_choice_it_came_from() {
        let hours = "mon-fri 08:00-17:00 UTC".parse().unwrap();
        let mut choice = RuleChoice::default();
        let mut told = Vec::new();
        loop {
            let rule = choice.rule(Some(0), Some(&hours));
            assert!(RuleChoice::of(&rule) == choice, "{rule}");
            told.push((rule_in_words(&rule), choice.about(), choice.keys()));
            choice = choice.next();
            if choice == RuleChoice::default() {
                break;
            }
        }
        assert_eq!(told.len(), 5);
        told.dedup_by_key(|(words, about, _)| (words.clone(), *about));
        assert_eq!(told.len(), 5, "each is told in its own words");
        assert!(RuleChoice::Cut.rule(None, None) == SpliceRule::Span, "no cut is known yet");
    }
}
