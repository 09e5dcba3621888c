//! What was asked for: how much in any second, and what was handed out whole.

use std::collections::{BTreeMap, VecDeque};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};

/// The requests of the last second, and of all time.
#[derive(Default)]
pub struct Counts {
    recent: VecDeque<Instant>,
    told: Counted,
}

/// What `GET /counts` tells.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Counted {
    /// Requests in all.
    pub requests: u64,
    /// Those that were too many in their second, and were refused with 429.
    pub refused: u64,
    /// The most in any second.
    pub most_in_a_second: u64,
    /// Replies that were made to go wrong.
    pub faults: u64,
    /// Quotes that the stream has passed.
    pub stream: u64,
    /// How often each file was handed out whole and sound.
    pub whole: BTreeMap<String, u64>,
}

impl Counts {
    /// Counts a request; false where it is one too many.
    pub fn permits(&mut self, now: Instant, per_second: u32) -> bool {
        while self.recent.front().is_some_and(|t| now.duration_since(*t) >= Duration::from_secs(1)) {
            self.recent.pop_front();
        }
        self.told.requests += 1;
        self.recent.push_back(now);
        self.told.most_in_a_second = self.told.most_in_a_second.max(self.recent.len() as u64);
        // A little unevenness of the way is nobody's fault: two more than permitted are let through.
        let is_permitted = self.recent.len() as u64 <= u64::from(per_second) + 2;
        self.told.refused += u64::from(!is_permitted);
        is_permitted
    }

    pub fn fault(&mut self) {
        self.told.faults += 1;
    }

    pub fn whole(&mut self, path: &str) {
        *self.told.whole.entry(path.to_owned()).or_default() += 1;
    }

    pub fn stream(&mut self, passed: u64) {
        self.told.stream = passed;
    }

    pub fn told(&self) -> Counted {
        self.told.clone()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn more_than_permitted_in_any_second_is_refused() {
        let mut counts = Counts::default();
        let start = Instant::now();
        let at = |ms: u64| start + Duration::from_millis(ms);
        assert!((0..6).all(|i| counts.permits(at(i * 250), 4)), "four a second");
        assert!(counts.permits(at(1260), 4) && counts.permits(at(1270), 4), "a little uneven");
        assert!(!counts.permits(at(1280), 4));
        assert!(counts.permits(at(3000), 4));
        assert_eq!((counts.told().refused, counts.told().most_in_a_second), (1, 7));
    }
}
