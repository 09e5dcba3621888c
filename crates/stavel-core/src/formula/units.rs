//! What a formula's values are measured in.

use std::collections::BTreeMap;
use std::fmt;

use super::parser::Currencies;
use super::tree::{Formula, Node};

/// A product of currencies and goods, each to a power: a price of NZDSEK is SEK to the 1 and NZD to the -1.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct PriceUnit(BTreeMap<String, f64>);

/// What is known of a formula's unit.
#[derive(Debug, Clone, PartialEq)]
pub struct UnitTold {
    /// Of its values; none where it cannot be told.
    pub unit: Option<PriceUnit>,
    /// Where unlike units are added or compared, a sentence each.
    pub doubts: Vec<String>,
}

impl PriceUnit {
    fn of_pair(base: &str, quote: &str) -> PriceUnit {
        let mut unit = PriceUnit::default();
        for (name, power) in [(quote, 1.0), (base, -1.0)] {
            if !name.is_empty() {
                *unit.0.entry(name.to_owned()).or_default() += power;
            }
        }
        unit.settled()
    }

    fn settled(mut self) -> PriceUnit {
        self.0.retain(|_, power| power.abs() > 1e-9);
        self
    }

    fn times(&self, other: &PriceUnit, power: f64) -> PriceUnit {
        let mut out = self.clone();
        for (name, of) in &other.0 {
            *out.0.entry(name.clone()).or_default() += of * power;
        }
        out.settled()
    }

    /// What is bought and what it is paid in, where it is one for another.
    pub fn as_pair(&self) -> Option<(&str, &str)> {
        let of =
            |power: f64| self.0.iter().find(|(_, p)| (**p - power).abs() < 1e-9).map(|(n, _)| n.as_str());
        (self.0.len() == 2).then(|| Some((of(-1.0)?, of(1.0)?))).flatten()
    }

    /// True for a number of nothing.
    pub fn is_number(&self) -> bool {
        self.0.is_empty()
    }
}

impl fmt::Display for PriceUnit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some((base, quote)) = self.as_pair() {
            return write!(f, "{quote} for one {base}");
        }
        if self.is_number() {
            return f.write_str("a number without a unit");
        }
        let told = |(name, power): (&String, &f64)| match *power {
            1.0 => name.clone(),
            power => format!("{name}^{power}"),
        };
        f.write_str(&self.0.iter().map(told).collect::<Vec<_>>().join(" "))
    }
}

impl Formula {
    /// The unit of its values, by what each leg is a pair of.
    pub fn unit(&self, currencies: Currencies<'_>) -> UnitTold {
        let mut doubts = Vec::new();
        let mut units: Vec<Option<PriceUnit>> = Vec::new();
        for (id, node) in self.nodes.iter().enumerate() {
            let unit = self.unit_of(id, node, &units, currencies, &mut doubts);
            units.push(unit);
        }
        UnitTold { unit: units.pop().flatten(), doubts }
    }

    fn unit_of(
        &self,
        id: usize,
        node: &Node,
        units: &[Option<PriceUnit>],
        currencies: Currencies<'_>,
        doubts: &mut Vec<String>,
    ) -> Option<PriceUnit> {
        let of = |part: usize| units[part].clone();
        match node {
            Node::Number(_) => Some(PriceUnit::default()),
            // What an index begins with is of the same unit as what it is divided by.
            Node::Measured(place) => of(self.measured[*place].node),
            Node::Leg(leg, _) => {
                currencies(&self.legs[*leg].instrument).map(|(b, q)| PriceUnit::of_pair(&b, &q))
            }
            Node::Negative(a)
            | Node::Abs(a)
            | Node::Round(a, _)
            | Node::Mean(a, _)
            | Node::Stdev(a, _)
            | Node::Lag(a, _) => of(*a),
            Node::Sum(a, b) | Node::Difference(a, b) => self.alike(id, &[*a, *b], units, doubts),
            Node::Min(all) | Node::Max(all) => self.alike(id, all, units, doubts),
            Node::Product(a, b) => Some(of(*a)?.times(&of(*b)?, 1.0)),
            Node::Quotient(a, b) => Some(of(*a)?.times(&of(*b)?, -1.0)),
            Node::Power(a, b) => match self.nodes[*b] {
                Node::Number(power) => Some(PriceUnit::default().times(&of(*a)?, power)),
                _ => None,
            },
            Node::Sqrt(a) => Some(PriceUnit::default().times(&of(*a)?, 0.5)),
            Node::Ln(_) | Node::Exp(_) => Some(PriceUnit::default()),
        }
    }

    /// The unit of what is added or compared; a bare number goes with any.
    fn alike(
        &self,
        id: usize,
        parts: &[usize],
        units: &[Option<PriceUnit>],
        doubts: &mut Vec<String>,
    ) -> Option<PriceUnit> {
        let mut one: Option<PriceUnit> = None;
        let mut is_known = true;
        for part in parts {
            match (&units[*part], &one) {
                (None, _) => is_known = false,
                (Some(unit), _) if unit.is_number() && matches!(self.nodes[*part], Node::Number(_)) => {}
                (Some(unit), None) => one = Some(unit.clone()),
                (Some(unit), Some(before)) if unit != before => {
                    doubts.push(format!(
                        "column {}: {before} and {unit} are put together, which are unlike",
                        self.columns[id]
                    ));
                    is_known = false;
                }
                _ => {}
            }
        }
        is_known.then(|| one.unwrap_or_default())
    }
}
