//! Small statistics that several stages need.

/// The middle one of some numbers in order, the upper one of two; none where there are none. The numbers are
/// put in another order.
pub fn median(values: &mut [i64]) -> Option<i64> {
    let middle = values.len() / 2;
    (!values.is_empty()).then(|| *values.select_nth_unstable(middle).1)
}

/// Pairs of numbers gathered one by one, for Pearson's correlation.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Correlation {
    n: f64,
    x: f64,
    y: f64,
    xx: f64,
    yy: f64,
    xy: f64,
}

impl Correlation {
    /// Adds a pair.
    #[inline]
    pub fn add(&mut self, x: f64, y: f64) {
        self.n += 1.0;
        self.x += x;
        self.y += y;
        self.xx += x * x;
        self.yy += y * y;
        self.xy += x * y;
    }

    /// Adds the pairs of another.
    pub fn merge(&mut self, other: &Correlation) {
        self.n += other.n;
        self.x += other.x;
        self.y += other.y;
        self.xx += other.xx;
        self.yy += other.yy;
        self.xy += other.xy;
    }

    /// Of numbers whose mean is 0, as changes of prices are; 0 where it cannot be told.
    pub fn about_zero(&self) -> f64 {
        if self.xx > 0.0 && self.yy > 0.0 { self.xy / (self.xx * self.yy).sqrt() } else { 0.0 }
    }

    /// About the means; 0 where it cannot be told.
    pub fn about_mean(&self) -> f64 {
        let n = self.n.max(1.0);
        let (xx, yy) = (self.xx - self.x * self.x / n, self.yy - self.y * self.y / n);
        let spread = (xx * yy).max(0.0).sqrt();
        if spread > 0.0 { (self.xy - self.x * self.y / n) / spread } else { 0.0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_middle_of_none_is_none_and_of_two_the_upper() {
        assert_eq!(
            [median(&mut []), median(&mut [3]), median(&mut [9, 1]), median(&mut [5, 1, 3])],
            [None, Some(3), Some(9), Some(3)]
        );
    }

    proptest! {
        #[test]
        fn it_is_that_of_the_definition_and_parts_add_up(
            pairs in proptest::collection::vec((-100.0f64..100.0, -100.0f64..100.0), 3..40),
            cut in 0usize..40,
        ) {
            let mut all = Correlation::default();
            pairs.iter().for_each(|(x, y)| all.add(*x, *y));
            let n = pairs.len() as f64;
            let mean = |of: fn(&(f64, f64)) -> f64| pairs.iter().map(of).sum::<f64>() / n;
            let (mx, my) = (mean(|p| p.0), mean(|p| p.1));
            let about = |mx: f64, my: f64| {
                let sum = |of: &dyn Fn(f64, f64) -> f64| pairs.iter().map(|(x, y)| of(x - mx, y - my)).sum::<f64>();
                sum(&|x, y| x * y) / (sum(&|x, _| x * x) * sum(&|_, y| y * y)).sqrt()
            };
            prop_assert!((all.about_mean() - about(mx, my)).abs() < 1e-6);
            prop_assert!((all.about_zero() - about(0.0, 0.0)).abs() < 1e-6);
            let (mut head, mut tail) = (Correlation::default(), Correlation::default());
            let cut = cut.min(pairs.len());
            pairs[..cut].iter().for_each(|(x, y)| head.add(*x, *y));
            pairs[cut..].iter().for_each(|(x, y)| tail.add(*x, *y));
            head.merge(&tail);
            prop_assert!((head.about_mean() - all.about_mean()).abs() < 1e-9);
        }
    }
}
