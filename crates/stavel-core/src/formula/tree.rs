//! A formula as a tree.

use std::fmt;

use crate::model::Micros;

/// The place of a node; those it is made of have lower ones.
pub(super) type NodeId = usize;

/// Which price of a leg is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr, strum::VariantNames)]
#[strum(serialize_all = "lowercase")]
pub enum LegPrice {
    /// Anything between bid and ask.
    #[strum(disabled)]
    Both,
    /// The bid.
    Bid,
    /// The ask.
    Ask,
    /// Half way between them.
    Mid,
    /// The price of a trade.
    Last,
    /// The price of a bar as it stands there, whichever side it is of.
    Close,
}

/// An instrument that a formula reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FormulaLeg {
    /// Its name.
    pub instrument: String,
    /// Its source, where the formula names one.
    pub source: Option<String>,
    /// Where it first stands, from 1.
    pub column: usize,
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Node {
    Number(f64),
    /// A number that is measured on the rows of the legs: the value of a node at the first row from a moment on.
    Measured(usize),
    Leg(usize, LegPrice),
    Negative(NodeId),
    Sum(NodeId, NodeId),
    Difference(NodeId, NodeId),
    Product(NodeId, NodeId),
    Quotient(NodeId, NodeId),
    Power(NodeId, NodeId),
    Abs(NodeId),
    Sqrt(NodeId),
    Ln(NodeId),
    Exp(NodeId),
    /// To so many decimals; below 0 to tens and hundreds.
    Round(NodeId, i32),
    Min(Vec<NodeId>),
    Max(Vec<NodeId>),
    /// Over so many bars, the one at hand among them.
    Mean(NodeId, usize),
    Stdev(NodeId, usize),
    /// So many bars before the one at hand.
    Lag(NodeId, usize),
}

/// A number that is measured before the rows are made.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct MeasuredNumber {
    pub node: NodeId,
    /// From which moment on.
    pub from: Micros,
    pub value: f64,
}

/// A formula that was understood.
#[derive(Debug, Clone, PartialEq)]
pub struct Formula {
    pub(super) nodes: Vec<Node>,
    /// Where each node stands in the text, from 1.
    pub(super) columns: Vec<usize>,
    pub(super) legs: Vec<FormulaLeg>,
    pub(super) measured: Vec<MeasuredNumber>,
}

impl Node {
    /// The nodes it is made of.
    pub fn parts(&self) -> Vec<NodeId> {
        use Node::*;
        match self {
            Number(_) | Measured(_) | Leg(..) => Vec::new(),
            Negative(a)
            | Abs(a)
            | Sqrt(a)
            | Ln(a)
            | Exp(a)
            | Round(a, _)
            | Mean(a, _)
            | Stdev(a, _)
            | Lag(a, _) => vec![*a],
            Sum(a, b) | Difference(a, b) | Product(a, b) | Quotient(a, b) | Power(a, b) => vec![*a, *b],
            Min(all) | Max(all) => all.clone(),
        }
    }

    /// Bars that a window looks back over, the one at hand among them; 0 for what is no window.
    pub fn reach(&self) -> usize {
        match self {
            Node::Mean(_, n) | Node::Stdev(_, n) => *n,
            Node::Lag(_, n) => n + 1,
            _ => 0,
        }
    }
}

impl Formula {
    /// The instruments it reads, each once.
    pub fn legs(&self) -> &[FormulaLeg] {
        &self.legs
    }

    pub(super) fn root(&self) -> NodeId {
        self.nodes.len() - 1
    }

    /// True where it looks at bars before the one at hand.
    pub fn has_windows(&self) -> bool {
        self.nodes.iter().any(|node| node.reach() > 0)
    }

    /// Rows before the one at hand that a value can rest on.
    pub fn rows_before(&self) -> usize {
        let mut back = vec![0; self.nodes.len()];
        for (id, node) in self.nodes.iter().enumerate() {
            let below = node.parts().iter().map(|part| back[*part]).max().unwrap_or(0);
            back[id] = below + node.reach().saturating_sub(1);
        }
        back[self.root()]
    }

    /// The prices of a leg that it reads.
    pub fn prices_of(&self, leg: usize) -> impl Iterator<Item = LegPrice> {
        self.nodes.iter().filter_map(move |node| match node {
            Node::Leg(of, price) if *of == leg => Some(*price),
            _ => None,
        })
    }

    /// True where it gives a bid and an ask; false where each leg has one price.
    pub fn has_two_sides(&self, is_two_sided: impl Fn(usize) -> bool) -> bool {
        self.nodes.iter().any(|node| matches!(node, Node::Leg(leg, LegPrice::Both) if is_two_sided(*leg)))
    }

    /// Moments at which numbers have to be measured before the formula has a value, each with its place.
    pub fn to_measure(&self) -> impl Iterator<Item = (usize, Micros)> {
        self.measured.iter().enumerate().map(|(place, number)| (place, number.from))
    }

    /// A formula that ends with what a measured number rests on.
    pub fn measured_by(&self, place: usize) -> Formula {
        let node = self.measured[place].node;
        let (nodes, columns) = (self.nodes[..=node].to_vec(), self.columns[..=node].to_vec());
        Formula { nodes, columns, ..self.clone() }
    }

    /// Sets a measured number.
    pub fn set_measured(&mut self, place: usize, value: f64) {
        self.measured[place].value = value;
    }

    fn write(&self, f: &mut fmt::Formatter<'_>, id: NodeId, above: u8) -> fmt::Result {
        let node = &self.nodes[id];
        let level = match node {
            Node::Sum(..) | Node::Difference(..) => 1,
            Node::Product(..) | Node::Quotient(..) => 2,
            Node::Negative(_) => 3,
            Node::Power(..) => 4,
            _ => 5,
        };
        let is_inside = level < above;
        if is_inside {
            f.write_str("(")?;
        }
        let call = |f: &mut fmt::Formatter<'_>, name: &str, args: &[NodeId], last: Option<i64>| {
            write!(f, "{name}(")?;
            for (i, arg) in args.iter().enumerate() {
                f.write_str(if i > 0 { ", " } else { "" })?;
                self.write(f, *arg, 0)?;
            }
            last.map_or(Ok(()), |n| write!(f, ", {n}"))?;
            f.write_str(")")
        };
        let two = |f: &mut fmt::Formatter<'_>, sign: &str, a: NodeId, b: NodeId, left: u8, right: u8| {
            self.write(f, a, left)?;
            f.write_str(sign)?;
            self.write(f, b, right)
        };
        match node {
            Node::Number(n) => write!(f, "{n}"),
            Node::Measured(place) => write!(f, "{}", self.measured[*place].value),
            Node::Leg(leg, price) => self.write_leg(f, *leg, *price),
            Node::Negative(a) => {
                f.write_str("-")?;
                self.write(f, *a, 3)
            }
            Node::Sum(a, b) => two(f, " + ", *a, *b, 1, 2),
            Node::Difference(a, b) => two(f, " - ", *a, *b, 1, 2),
            Node::Product(a, b) => two(f, " * ", *a, *b, 2, 3),
            Node::Quotient(a, b) => two(f, " / ", *a, *b, 2, 3),
            Node::Power(a, b) => two(f, "^", *a, *b, 5, 3),
            Node::Abs(a) => call(f, "abs", &[*a], None),
            Node::Sqrt(a) => call(f, "sqrt", &[*a], None),
            Node::Ln(a) => call(f, "ln", &[*a], None),
            Node::Exp(a) => call(f, "exp", &[*a], None),
            Node::Round(a, n) => call(f, "round", &[*a], Some(i64::from(*n))),
            Node::Min(all) => call(f, "min", all, None),
            Node::Max(all) => call(f, "max", all, None),
            Node::Mean(a, n) => call(f, "mean", &[*a], Some(*n as i64)),
            Node::Stdev(a, n) => call(f, "stdev", &[*a], Some(*n as i64)),
            Node::Lag(a, n) => call(f, "lag", &[*a], Some(*n as i64)),
        }?;
        f.write_str(if is_inside { ")" } else { "" })
    }

    fn write_leg(&self, f: &mut fmt::Formatter<'_>, leg: usize, price: LegPrice) -> fmt::Result {
        let FormulaLeg { instrument, source, .. } = &self.legs[leg];
        let name = source.as_ref().map_or(instrument.clone(), |source| format!("{instrument}@{source}"));
        let ends_as_price = name.rsplit_once('.').is_some_and(|(_, word)| word.parse::<LegPrice>().is_ok());
        let is_plain = !ends_as_price
            && name.starts_with(|c: char| c.is_ascii_alphabetic())
            && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '@'));
        match is_plain {
            true => f.write_str(&name)?,
            false => write!(f, "'{name}'")?,
        }
        match price {
            LegPrice::Both => Ok(()),
            price => write!(f, ".{}", <&str>::from(price)),
        }
    }
}

impl fmt::Display for Formula {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(f, self.root(), 0)
    }
}
