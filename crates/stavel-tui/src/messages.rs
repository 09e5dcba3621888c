//! The message line, and the list of warnings behind it.

use crate::effect::Tone;

/// What the message line shows, and in which tone.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Message {
    pub text: String,
    /// Shown after the text if there is room.
    pub also: String,
    pub tone: Tone,
}

/// Warnings of this session, oldest first; the same one is listed once, at its latest place.
#[derive(Debug, Default)]
pub struct Warnings {
    list: Vec<String>,
    /// Warnings added so far, repeated ones too.
    added: u64,
}

/// The most warnings that are kept.
const MOST: usize = 200;

impl Warnings {
    pub fn add(&mut self, text: &str) {
        self.list.retain(|earlier| earlier != text);
        self.list.push(text.to_owned());
        if self.list.len() > MOST {
            self.list.remove(0);
        }
        self.added += 1;
    }

    /// Adds the lines of a report that are marked as warnings; its first line is added already.
    pub fn add_lines(&mut self, lines: &[String]) {
        let marked = lines.iter().skip(1).filter(|line| line.contains(['▲', '✗']));
        for line in marked.take(MOST) {
            self.add(&stavel_core::error::printable(line.trim().trim_start_matches(['▲', '✗', ' '])));
        }
    }

    /// How many were added so far: two equal counts mean that nothing was added in between.
    pub fn count(&self) -> u64 {
        self.added
    }

    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    pub fn len(&self) -> usize {
        self.list.len()
    }

    /// The warnings, newest first.
    pub fn newest_first(&self) -> impl Iterator<Item = &str> {
        self.list.iter().rev().map(String::as_str)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn repeated_warnings_are_listed_once_and_counted() {
        let mut warnings = Warnings::default();
        for text in ["a", "b", "a"] {
            warnings.add(text);
        }
        assert_eq!((warnings.newest_first().collect::<Vec<_>>(), warnings.count()), (vec!["a", "b"], 3));
        let lines = ["done", "  ▲ a gap", "  fine"].map(str::to_owned);
        warnings.add_lines(&lines);
        assert_eq!((warnings.newest_first().next(), warnings.len()), (Some("a gap"), 3));
        (0..300).for_each(|n| warnings.add(&n.to_string()));
        assert_eq!((warnings.len(), warnings.newest_first().next()), (200, Some("299")));
    }
}
