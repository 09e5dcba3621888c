//! Reading formulas.

use strum::VariantNames;

use super::lexer::{Token, TokenKind, mistake, tokens};
use super::tree::{Formula, FormulaLeg, LegPrice, MeasuredNumber, Node, NodeId};
use crate::Result;
use crate::model::series::check_name;
use crate::model::time;

/// What is bought and what it is paid in, of an instrument; none where it is no pair or is not known.
pub type Currencies<'a> = &'a dyn Fn(&str) -> Option<(String, String)>;

/// What can be called, how, and what it is.
pub const FUNCTIONS: [(&str, &str, &str); 16] = [
    ("abs", "abs(x)", "x without its sign"),
    ("min", "min(x, y, …)", "the lowest"),
    ("max", "max(x, y, …)", "the highest"),
    ("sqrt", "sqrt(x)", "square root"),
    ("ln", "ln(x)", "natural logarithm"),
    ("exp", "exp(x)", "e to the x"),
    ("round", "round(x, decimals)", "rounded, a half away from 0"),
    ("mean", "mean(x, bars)", "mean over bars"),
    ("stdev", "stdev(x, bars)", "standard deviation over bars"),
    ("lag", "lag(x, bars)", "x so many bars ago"),
    ("cross", "cross(A, B)", "the pair that two pairs with one currency in common make"),
    ("ratio", "ratio(x, y)", "x / y"),
    ("spread", "spread(x, y)", "x - y"),
    ("inverse", "inverse(x)", "1 / x"),
    ("basket", "basket(0.6, A, 0.4, B, …)", "a sum by weights"),
    ("index", "index(x, 2024-01-02, 100)", "x so that it is 100 on that date"),
];

/// Formulas that are nested deeper are not read.
const DEEPEST: usize = 60;

/// Formulas with more parts are not read.
const LONGEST: usize = 500;

/// Windows that look back further are not read.
const LONGEST_WINDOW: usize = 10_000;

/// Reads a formula; `currencies` tells pairs of currencies, which `cross` goes by.
///
/// # Errors
/// One sentence with the column and with what was expected there.
pub fn parse(text: &str, currencies: Currencies<'_>) -> Result<Formula> {
    let tokens = tokens(text)?;
    let formula = Formula { nodes: Vec::new(), columns: Vec::new(), legs: Vec::new(), measured: Vec::new() };
    let mut parser = FormulaParser { tokens, at: 0, depth: 0, formula, currencies };
    let root = parser.sum()?;
    if parser.next().kind != TokenKind::End {
        return Err(parser.unexpected("an operator or the end"));
    }
    if parser.formula.legs.is_empty() {
        return Err(mistake(1, "it names no instrument, so it has no rows"));
    }
    debug_assert_eq!(root, parser.formula.root());
    Ok(parser.formula)
}

struct FormulaParser<'a> {
    tokens: Vec<Token>,
    at: usize,
    depth: usize,
    formula: Formula,
    currencies: Currencies<'a>,
}

impl FormulaParser<'_> {
    fn next(&self) -> &Token {
        &self.tokens[self.at.min(self.tokens.len() - 1)]
    }

    fn column(&self) -> usize {
        self.next().column
    }

    fn takes(&mut self, sign: char) -> bool {
        let is_it = self.next().kind == TokenKind::Sign(sign);
        self.at += usize::from(is_it);
        is_it
    }

    fn expect(&mut self, sign: char, what: &str) -> Result<()> {
        if self.takes(sign) { Ok(()) } else { Err(self.unexpected(what)) }
    }

    fn unexpected(&self, expected: &str) -> crate::Error {
        let Token { kind, column } = self.next();
        let there = match kind {
            TokenKind::Number(n) => format!("the number {n}"),
            TokenKind::Date(date) => format!("the date {date}"),
            TokenKind::Name { text, .. } => format!("'{text}'"),
            TokenKind::Dot(text) => format!("'.{text}'"),
            TokenKind::Sign(sign) => format!("'{sign}'"),
            TokenKind::End => return mistake(*column, &format!("it ends where {expected} is expected")),
        };
        mistake(*column, &format!("{there} stands where {expected} is expected"))
    }

    fn add(&mut self, node: Node, column: usize) -> Result<NodeId> {
        if self.formula.nodes.len() >= LONGEST {
            return Err(mistake(column, &format!("it has more than {LONGEST} parts")));
        }
        self.formula.nodes.push(node);
        self.formula.columns.push(column);
        Ok(self.formula.nodes.len() - 1)
    }

    fn sum(&mut self) -> Result<NodeId> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(mistake(self.column(), "it is nested too deeply to be read"));
        }
        let mut left = self.product()?;
        loop {
            let column = self.column();
            left = match () {
                () if self.takes('+') => {
                    let right = self.product()?;
                    self.add(Node::Sum(left, right), column)?
                }
                () if self.takes('-') => {
                    let right = self.product()?;
                    self.add(Node::Difference(left, right), column)?
                }
                () => break,
            };
        }
        self.depth -= 1;
        Ok(left)
    }

    fn product(&mut self) -> Result<NodeId> {
        let mut left = self.signed()?;
        loop {
            let column = self.column();
            left = match () {
                () if self.takes('*') => {
                    let right = self.signed()?;
                    self.add(Node::Product(left, right), column)?
                }
                () if self.takes('/') => {
                    let right = self.signed()?;
                    self.add(Node::Quotient(left, right), column)?
                }
                () => return Ok(left),
            };
        }
    }

    fn signed(&mut self) -> Result<NodeId> {
        let column = self.column();
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err(mistake(column, "it is nested too deeply to be read"));
        }
        let signed = if self.takes('-') {
            let of = self.signed()?;
            self.add(Node::Negative(of), column)
        } else if self.takes('+') {
            self.signed()
        } else {
            self.power()
        };
        self.depth -= 1;
        signed
    }

    fn power(&mut self) -> Result<NodeId> {
        let base = self.atom()?;
        let column = self.column();
        if !self.takes('^') {
            return Ok(base);
        }
        let exponent = self.signed()?;
        self.add(Node::Power(base, exponent), column)
    }

    fn atom(&mut self) -> Result<NodeId> {
        let Token { kind, column } = self.next().clone();
        match kind {
            TokenKind::Number(value) => {
                self.at += 1;
                self.add(Node::Number(value), column)
            }
            TokenKind::Sign('(') => {
                self.at += 1;
                let inside = self.sum()?;
                self.expect(')', "')'")?;
                Ok(inside)
            }
            TokenKind::Name { text, is_quoted } => {
                self.at += 1;
                if !is_quoted && self.takes('(') {
                    return self.call(&text, column);
                }
                self.leg(&text, is_quoted, column)
            }
            _ => Err(self.unexpected("a number, an instrument, a function or '('")),
        }
    }

    fn leg(&mut self, text: &str, is_quoted: bool, column: usize) -> Result<NodeId> {
        let price_of = |word: &str| {
            word.parse::<LegPrice>().map_err(|_| {
                let words = LegPrice::VARIANTS.iter().filter(|w| **w != "both").copied().collect::<Vec<_>>();
                mistake(
                    column,
                    &format!("'.{word}' is no price of an instrument; write .{}", words.join(" .")),
                )
            })
        };
        let (mut name, mut price) = (text, LegPrice::Both);
        if let Some((before, word)) = text.rsplit_once('.').filter(|_| !is_quoted)
            && let Ok(of) = word.parse()
        {
            (name, price) = (before, of);
        }
        if let (true, TokenKind::Dot(word)) = (is_quoted, self.next().kind.clone()) {
            price = price_of(&word)?;
            self.at += 1;
        }
        if name.contains(':') {
            let told = "a frame stands in a formula; say the frame of all legs beside it (--frame 1m)";
            return Err(mistake(column, told));
        }
        let (instrument, source) = match name.split_once('@') {
            Some((instrument, source)) => (instrument, Some(source)),
            None => (name, None),
        };
        check_name("instrument", instrument)
            .map_err(|e| mistake(column, e.to_string().trim_end_matches('.')))?;
        if let Some(source) = source {
            check_name("source", source).map_err(|e| mistake(column, e.to_string().trim_end_matches('.')))?;
        }
        let (instrument, source) = (instrument.to_owned(), source.map(str::to_owned));
        let is_it = |leg: &FormulaLeg| (&leg.instrument, &leg.source) == (&instrument, &source);
        let known = self.formula.legs.iter().position(is_it);
        let leg = known.unwrap_or_else(|| {
            self.formula.legs.push(FormulaLeg {
                instrument: instrument.clone(),
                source: source.clone(),
                column,
            });
            self.formula.legs.len() - 1
        });
        self.add(Node::Leg(leg, price), column)
    }

    fn call(&mut self, name: &str, column: usize) -> Result<NodeId> {
        let Some((_, form, _)) = FUNCTIONS.iter().find(|(known, ..)| *known == name) else {
            let words = FUNCTIONS.map(|f| f.0).join(" ");
            return Err(mistake(column, &format!("there is no function {name}; there are {words}")));
        };
        let made = match name {
            "min" | "max" => {
                let all = self.arguments()?;
                if all.len() < 2 {
                    return Err(mistake(column, &format!("{name} needs two values at least: {form}")));
                }
                if name == "min" { Node::Min(all) } else { Node::Max(all) }
            }
            "basket" => return self.basket(column, form),
            "index" => return self.index(column, form),
            "cross" => return self.cross(column, form),
            "ratio" | "spread" => {
                let [a, b] = self.so_many(column, form)?;
                if name == "ratio" { Node::Quotient(a, b) } else { Node::Difference(a, b) }
            }
            "round" | "mean" | "stdev" | "lag" => return self.counted(name, column, form),
            _ => {
                let one = if name == "inverse" { Some(self.add(Node::Number(1.0), column)?) } else { None };
                let [a] = self.so_many(column, form)?;
                match (name, one) {
                    ("inverse", Some(one)) => Node::Quotient(one, a),
                    ("abs", _) => Node::Abs(a),
                    ("sqrt", _) => Node::Sqrt(a),
                    ("ln", _) => Node::Ln(a),
                    _ => Node::Exp(a),
                }
            }
        };
        self.add(made, column)
    }

    /// The values of a call, which ends with `)`.
    fn arguments(&mut self) -> Result<Vec<NodeId>> {
        let mut all = vec![self.sum()?];
        while self.takes(',') {
            all.push(self.sum()?);
        }
        self.expect(')', "',' or ')'")?;
        Ok(all)
    }

    fn so_many<const N: usize>(&mut self, column: usize, form: &str) -> Result<[NodeId; N]> {
        let all = self.arguments()?;
        let count = all.len();
        all.try_into().map_err(|_| mistake(column, &format!("{count} values stand in a call of {N}: {form}")))
    }

    /// A call whose last value is a whole number.
    fn counted(&mut self, name: &str, column: usize, form: &str) -> Result<NodeId> {
        let of = self.sum()?;
        self.expect(',', &format!("',' of {form}"))?;
        let at = self.column();
        let sign = if self.takes('-') { -1.0 } else { 1.0 };
        let TokenKind::Number(n) = self.next().kind else {
            return Err(self.unexpected(&format!("the whole number of {form}")));
        };
        self.at += 1;
        self.expect(')', "')'")?;
        let (least, most) = match name {
            "round" => (-9.0, 12.0),
            "stdev" => (2.0, LONGEST_WINDOW as f64),
            _ => (1.0, LONGEST_WINDOW as f64),
        };
        let n = n * sign;
        if n.fract() != 0.0 || n < least || n > most {
            return Err(mistake(at, &format!("{form} takes a whole number from {least} to {most}")));
        }
        let node = match name {
            "round" => Node::Round(of, n as i32),
            "mean" => Node::Mean(of, n as usize),
            "stdev" => Node::Stdev(of, n as usize),
            _ => Node::Lag(of, n as usize),
        };
        self.add(node, column)
    }

    fn basket(&mut self, column: usize, form: &str) -> Result<NodeId> {
        let all = self.arguments()?;
        if all.len() < 2 || all.len() % 2 != 0 {
            return Err(mistake(column, &format!("a basket is pairs of a weight and a value: {form}")));
        }
        let mut sum = None;
        for pair in all.chunks(2) {
            let of = self.add(Node::Product(pair[0], pair[1]), column)?;
            sum = Some(match sum {
                Some(before) => self.add(Node::Sum(before, of), column)?,
                None => of,
            });
        }
        sum.ok_or_else(|| mistake(column, form))
    }

    fn index(&mut self, column: usize, form: &str) -> Result<NodeId> {
        let of = self.sum()?;
        self.expect(',', &format!("',' of {form}"))?;
        let TokenKind::Date(date) = self.next().kind.clone() else {
            return Err(self.unexpected(&format!("the date of {form}")));
        };
        let from = time::parse(&date).map_err(|_| self.unexpected("a date of the calendar"))?;
        self.at += 1;
        let level = match self.takes(',') {
            true => self.sum()?,
            false => self.add(Node::Number(100.0), column)?,
        };
        self.expect(')', "')'")?;
        self.formula.measured.push(MeasuredNumber { node: of, from, value: 1.0 });
        let base = self.add(Node::Measured(self.formula.measured.len() - 1), column)?;
        let share = self.add(Node::Quotient(of, base), column)?;
        self.add(Node::Product(level, share), column)
    }

    /// The pair of what two pairs do not have in common: the first one's other currency is what is bought.
    fn cross(&mut self, column: usize, form: &str) -> Result<NodeId> {
        let [a, b] = self.so_many(column, form)?;
        let pair_of = |id: NodeId| {
            let at = self.formula.columns[id];
            let Node::Leg(leg, _) = &self.formula.nodes[id] else {
                return Err(mistake(at, &format!("a cross is made of two instruments: {form}")));
            };
            let name = &self.formula.legs[*leg].instrument;
            let pair = (self.currencies)(name).ok_or_else(|| {
                mistake(at, &format!("nobody knows of which two currencies {name} is a pair"))
            })?;
            Ok((name.clone(), pair))
        };
        let ((a_name, (a_base, a_quote)), (b_name, (b_base, b_quote))) = (pair_of(a)?, pair_of(b)?);
        let node = if a_quote == b_quote {
            Node::Quotient(a, b)
        } else if a_base == b_base {
            Node::Quotient(b, a)
        } else if a_quote == b_base || a_base == b_quote {
            Node::Product(a, b)
        } else {
            return Err(mistake(column, &format!("{a_name} and {b_name} have no currency in common")));
        };
        self.add(node, column)
    }
}
