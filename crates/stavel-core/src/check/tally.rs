//! Counting sizes without keeping them.

/// Counts of positive numbers in classes a quarter of an octave wide.
#[derive(Debug, Clone)]
pub struct OctaveCounts {
    counts: Vec<u64>,
    total: u64,
}

impl Default for OctaveCounts {
    fn default() -> OctaveCounts {
        OctaveCounts { counts: vec![0; 256], total: 0 }
    }
}

fn class(value: i64) -> usize {
    let value = value.max(1) as u64;
    let octave = value.ilog2();
    // The two bits below the highest divide an octave in four.
    let part = if octave >= 2 { (value >> (octave - 2)) & 3 } else { (value << (2 - octave)) & 3 };
    octave as usize * 4 + part as usize
}

impl OctaveCounts {
    pub fn add(&mut self, value: i64) {
        self.add_many(value, 1);
    }

    pub fn add_many(&mut self, value: i64, n: u64) {
        self.counts[class(value)] += n;
        self.total += n;
    }

    pub fn total(&self) -> u64 {
        self.total
    }

    /// A number that `share` of all do not exceed, at most a quarter too high; 0 where none was counted.
    pub fn quantile(&self, share: f64) -> i64 {
        let mut left = (self.total as f64 * share).ceil() as u64;
        for (class, n) in self.counts.iter().enumerate() {
            if left <= *n && self.total > 0 {
                let (octave, part) = (class as u32 / 4, class as i64 % 4);
                return ((1i64 << octave.min(60)) as f64 * (1.0 + (part + 1) as f64 / 4.0)) as i64;
            }
            left -= n;
        }
        0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_are_never_below_and_at_most_a_quarter_above() {
        let mut tally = OctaveCounts::default();
        (1..=10_000).for_each(|v| tally.add(v * v));
        for share in [0.01, 0.5, 0.9, 0.999] {
            let exact = ((10_000.0 * share) as i64).pow(2) as f64;
            let got = tally.quantile(share) as f64;
            assert!(got >= exact && got <= exact * 1.26, "{share}: {got} for {exact}");
        }
        assert_eq!(OctaveCounts::default().quantile(0.5), 0);
    }
}
