//! Values that may be absent.
//!
//! A column is a vector of whole numbers. A value that is not known is *absent*: null in Parquet and
//! JSON, empty in text. In memory it is [`ABSENT`], the one number that no price or volume can have,
//! since those have at most eighteen digits. Whoever reads a column whose values may be absent does so
//! through [`present`] or [`Cells`], so that an absent value is never taken for a number.

/// Stands for an absent value in a column.
pub const ABSENT: i64 = i64::MIN;

/// The value, where there is one.
#[inline(always)]
pub fn present(value: i64) -> Option<i64> {
    (value != ABSENT).then_some(value)
}

/// A column whose values may be absent, or that is not there at all: then every value is absent.
#[derive(Debug, Clone, Copy, Default)]
pub struct Cells<'a>(&'a [i64]);

impl<'a> Cells<'a> {
    /// A view of a column.
    pub fn new(column: &'a [i64]) -> Cells<'a> {
        Cells(column)
    }

    /// The value of a row, where there is one.
    #[inline(always)]
    pub fn get(&self, row: usize) -> Option<i64> {
        self.0.get(row).copied().and_then(present)
    }

    /// The values that are there, in order.
    pub fn present(&self) -> impl Iterator<Item = i64> + 'a {
        self.0.iter().copied().filter_map(present)
    }

    /// True where no row has a value.
    pub fn is_absent(&self) -> bool {
        self.0.iter().all(|v| *v == ABSENT)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_zero_is_a_value_and_a_missing_column_has_none() {
        let column = [0, ABSENT, -3];
        let cells = Cells::new(&column);
        assert_eq!([cells.get(0), cells.get(1), cells.get(2), cells.get(3)], [Some(0), None, Some(-3), None]);
        assert_eq!(cells.present().collect::<Vec<_>>(), [0, -3]);
        assert!(!cells.is_absent() && Cells::default().is_absent());
    }
}
