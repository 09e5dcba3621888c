//! Averages of the last values.

use std::collections::VecDeque;

/// Mean of the last `n` values that are known; none for the first `n - 1` of them, and where there is no value.
pub fn simple_average(values: &[Option<f64>], n: usize) -> Vec<Option<f64>> {
    let mut sum = 0.0;
    let mut last: VecDeque<f64> = VecDeque::with_capacity(n + 1);
    let next = |value: &Option<f64>| {
        let v = (*value)?;
        sum += v;
        last.push_back(v);
        if last.len() > n {
            sum -= last.pop_front().unwrap_or_default();
        }
        (last.len() == n).then(|| sum / n as f64)
    };
    values.iter().map(next).collect()
}

/// An average that moves by a share of the way to each new value, begun with the mean of the first `n`.
pub(super) fn smoothed(values: &[Option<f64>], n: usize, weight: f64) -> Vec<Option<f64>> {
    let (mut seen, mut sum) = (0, 0.0);
    let mut now: Option<f64> = None;
    let next = |value: &Option<f64>| {
        let v = (*value)?;
        now = match now {
            Some(before) => Some(before + weight * (v - before)),
            None => {
                (seen, sum) = (seen + 1, sum + v);
                (seen == n).then(|| sum / n as f64)
            }
        };
        now
    };
    values.iter().map(next).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn averages_begin_when_enough_is_known_and_pass_over_what_is_not() {
        let values = [Some(1.0), None, Some(3.0), Some(5.0), Some(9.0)];
        assert_eq!(simple_average(&values, 2), [None, None, Some(2.0), Some(4.0), Some(7.0)]);
        // From 2 on by two thirds of the way: to 4, then to 7 1/3.
        let of = smoothed(&values, 2, 2.0 / 3.0);
        assert_eq!(of[..4], [None, None, Some(2.0), Some(4.0)]);
        assert!((of[4].unwrap() - 7.333_333).abs() < 1e-6);
        assert_eq!(smoothed(&values, 9, 0.2), [None; 5]);
    }
}
