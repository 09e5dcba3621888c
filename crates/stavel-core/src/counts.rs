//! Whole numbers counted one by one: exact quantiles without keeping the numbers.

use std::collections::BTreeMap;

/// Numbers nearer to 0 than this are counted in a table, others in a map.
const TABLE: i64 = 1024;

/// How often each number came. Good for spreads, steps and differences in points, which are mostly small.
#[derive(Debug, Clone, Default)]
pub struct Frequencies {
    /// 0, 1, 2 …
    table: Vec<u64>,
    /// -1, -2, -3 …
    below: Vec<u64>,
    beyond: BTreeMap<i64, u64>,
    total: u64,
}

impl Frequencies {
    /// Counts a number `n` times.
    #[inline]
    pub fn add(&mut self, value: i64, n: u64) {
        self.total += n;
        let (table, at) = if value < 0 { (&mut self.below, !value) } else { (&mut self.table, value) };
        match table.get_mut(at as usize) {
            Some(count) => *count += n,
            None => self.add_first(value, n),
        }
    }

    /// A number beyond the table, or the first one in it.
    #[cold]
    fn add_first(&mut self, value: i64, n: u64) {
        let (table, at) = if value < 0 { (&mut self.below, !value) } else { (&mut self.table, value) };
        if at < TABLE {
            table.resize(TABLE as usize, 0);
            table[at as usize] += n;
        } else {
            *self.beyond.entry(value).or_default() += n;
        }
    }

    /// How many were counted.
    pub fn total(&self) -> u64 {
        self.total
    }

    /// How often one number came.
    pub fn of(&self, value: i64) -> u64 {
        let (table, at) = if value < 0 { (&self.below, !value) } else { (&self.table, value) };
        match usize::try_from(at).ok().filter(|_| at < TABLE) {
            Some(at) => table.get(at).copied().unwrap_or(0),
            None => self.beyond.get(&value).copied().unwrap_or(0),
        }
    }

    /// The numbers that came, from the lowest on, and how often.
    pub fn each(&self) -> impl Iterator<Item = (i64, u64)> + '_ {
        let beyond = |(v, n): (&i64, &u64)| (*v, *n);
        let below = self.below.iter().enumerate().rev().map(|(at, n)| (!(at as i64), *n));
        let table = self.table.iter().enumerate().map(|(at, n)| (at as i64, *n));
        let low = self.beyond.range(..0).map(beyond);
        low.chain(below.chain(table).filter(|(_, n)| *n > 0)).chain(self.beyond.range(0..).map(beyond))
    }

    /// The smallest number that `share` of all do not exceed; 0 where none was counted.
    pub fn quantile(&self, share: f64) -> i64 {
        let due = (self.total as f64 * share).ceil().max(1.0) as u64;
        let mut seen = 0;
        let hit = self.each().find(|(_, n)| {
            seen += n;
            seen >= due
        });
        hit.map_or(0, |(v, _)| v)
    }

    /// The middle one of all in order, the upper one of two; 0 where none was counted.
    pub fn median(&self) -> i64 {
        let mut left = self.total / 2;
        let hit = self.each().find(|(_, n)| {
            let here = left < *n;
            left = left.saturating_sub(*n);
            here
        });
        hit.map_or(0, |(v, _)| v)
    }

    /// The same counts of the sizes, signs left away.
    pub fn sizes(&self) -> Frequencies {
        let mut out = Frequencies::default();
        self.each().for_each(|(v, n)| out.add(v.saturating_abs(), n));
        out
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn order_statistics_are_those_of_the_sorted_numbers(
            mut values in proptest::collection::vec(prop_oneof![-5i64..5, -1030i64..1030, any::<i64>()], 1..80),
            share in 0.01f64..1.0,
        ) {
            let mut counts = Frequencies::default();
            values.iter().for_each(|v| counts.add(*v, 1));
            values.sort_unstable();
            let told: Vec<i64> = counts.each().flat_map(|(v, n)| vec![v; n as usize]).collect();
            prop_assert_eq!(&told, &values);
            prop_assert_eq!(counts.median(), values[values.len() / 2]);
            let due = ((values.len() as f64 * share).ceil() as usize).max(1);
            prop_assert_eq!(counts.quantile(share), values[due - 1]);
            prop_assert_eq!(counts.of(values[0]), values.iter().filter(|v| **v == values[0]).count() as u64);
        }
    }
}
