//! Chance that is the same on every machine and in every version: the same seed gives the same ticks.

/// The SplitMix64 generator of Steele, Lea and Flood ("Fast splittable pseudorandom number generators", 2014).
pub(crate) struct Chance(u64);

impl Chance {
    /// From a seed alone.
    pub fn of(seed: u64) -> Chance {
        Chance(seed)
    }

    /// For one moment: rows before and after it do not matter.
    pub fn at(seed: u64, time: i64) -> Chance {
        let mut chance = Chance(seed);
        let mixed = chance.next() ^ time as u64;
        Chance(mixed)
    }

    pub fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    /// A whole number below `end`, which is above 0.
    pub fn below(&mut self, end: u64) -> u64 {
        // The high half of the product; what is uneven in it is far below what could be seen.
        ((u128::from(self.next()) * u128::from(end.max(1))) >> 64) as u64
    }

    /// From 0 to below 1.
    pub fn share(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// About a normal number of mean 0 and deviation 1: a sum of twelve shares.
    pub fn normal(&mut self) -> f64 {
        (0..12).map(|_| self.share()).sum::<f64>() - 6.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_seed_gives_the_same_numbers_for_ever() {
        // The first numbers of SplitMix64 from 0, as published with it.
        let mut chance = Chance(0);
        assert_eq!(
            [chance.next(), chance.next(), chance.next()],
            [0xe220_a839_7b1d_cdaf, 0x6e78_9e6a_a1b9_65f4, 0x06c4_5d18_8009_454f]
        );
        let mut chance = Chance::at(7, 1);
        let all: Vec<u64> = (0..1000).map(|_| chance.below(10)).collect();
        assert!((0..10).all(|n| all.contains(&n)) && all.iter().all(|n| *n < 10));
        let mean = (0..10_000).map(|_| chance.normal()).sum::<f64>() / 10_000.0;
        assert!(mean.abs() < 0.05, "{mean}");
    }
}
