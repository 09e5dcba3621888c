//! Reading a script.

use std::str::FromStr;

use super::super::order_words::order_in_line;
use super::super::orders_file::FileOrder;
use super::value::{MOST_BACK, Name, Over, Sign, Value};
use crate::model::{Clock, Frame, Micros, time};
use crate::{Error, Result};

/// A script.
#[derive(Debug, Clone, PartialEq)]
pub struct Script {
    /// Bars of this frame are looked at.
    pub frame: Frame,
    /// What is done when, in the order of its lines.
    pub rules: Vec<Rule>,
}

/// A line of a script that does something.
#[derive(Debug, Clone, PartialEq)]
pub struct Rule {
    /// The line of the text.
    pub line: usize,
    /// The instrument it is about; empty where only one is played.
    pub instrument: String,
    /// When.
    pub when: When,
    /// What.
    pub what: Deed,
}

/// When something is done.
#[derive(Debug, Clone, PartialEq)]
pub enum When {
    /// At a moment, UTC.
    At(Micros),
    /// Every day at a time of a clock: microseconds from midnight.
    Every(Micros, Clock),
    /// When a condition holds at the end of a bar and did not at the end of the bar before.
    Holds(Value),
}

/// What a rule does.
#[derive(Debug, Clone, PartialEq)]
pub enum Deed {
    /// Gives an order.
    Order(Box<FileOrder>, String),
    /// Closes what is held and takes the orders back.
    Flat,
    /// Turns the position round.
    Reverse,
    /// Takes the orders back.
    Cancel,
    /// Writes a line into the journal.
    Note(String),
}

/// Reads a script that lies at `place`.
///
/// # Errors
/// A sentence with the line that is not understood.
pub fn script_in(text: &str, place: &str) -> Result<Script> {
    let mut script = Script { frame: Frame::M1, rules: Vec::new() };
    let (mut size, mut instrument) = ("1.00".to_owned(), String::new());
    for (i, line) in text.lines().enumerate() {
        let said = line.split('#').next().unwrap_or_default().trim();
        if said.is_empty() {
            continue;
        }
        let bad = |why: String| {
            Error::input(format!("{place}, line {}: {}.", i + 1, crate::error::printable(&why)))
        };
        let (word, rest) = said.split_once(char::is_whitespace).unwrap_or((said, ""));
        match word {
            "frame" => {
                script.frame = rest
                    .trim()
                    .parse()
                    .map_err(|e: Error| bad(e.to_string().trim_end_matches('.').into()))?;
            }
            "size" => {
                order_in_line(&format!("buy {}", rest.trim()), "").map_err(bad)?;
                size = rest.trim().to_owned();
            }
            "instrument" => instrument = rest.trim().to_owned(),
            "at" | "every" | "when" => {
                let (when, what) = rest
                    .split_once(": ")
                    .ok_or_else(|| bad("what is to be done stands after a colon and a blank".to_owned()))?;
                let when = when_of(word, when.trim()).map_err(bad)?;
                let what = deed_of(what.trim(), &size).map_err(bad)?;
                script.rules.push(Rule { line: i + 1, instrument: instrument.clone(), when, what });
            }
            other => {
                return Err(bad(format!(
                    "'{other}' is not understood; a line begins with frame, size, instrument, at, every or when"
                )));
            }
        }
    }
    if script.rules.is_empty() {
        return Err(Error::input(format!("{place} does nothing: it has no line with at, every or when.")));
    }
    Ok(script)
}

fn when_of(word: &str, text: &str) -> Result<When, String> {
    match word {
        "at" => {
            time::parse(text).map(When::At).map_err(|_| format!("'{text}' is no time as 2024-03-05 09:30"))
        }
        "every" => {
            let (_, rest) = text.split_once("day ").ok_or("write: every day 16:55 Europe/Oslo")?;
            let (hour, clock) = rest.trim().split_once(' ').unwrap_or((rest.trim(), "UTC"));
            let of_day = hour
                .split_once(':')
                .and_then(|(h, m)| Some((h.parse::<i64>().ok()?, m.parse::<i64>().ok()?)))
                .filter(|(h, m)| (0..24).contains(h) && (0..60).contains(m));
            let (h, m) = of_day.ok_or_else(|| format!("'{hour}' is no time of a day as 16:55"))?;
            let clock: Clock =
                clock.trim().parse().map_err(|e: Error| e.to_string().trim_end_matches('.').to_owned())?;
            Ok(When::Every(h * time::HOUR + m * time::MINUTE, clock))
        }
        _ => {
            let mut reader = ConditionReader { rest: tokens(text)?, at: 0 };
            let value = reader.either()?;
            match reader.next() {
                None if value.reach() > MOST_BACK => {
                    Err(format!("it looks back over more than {MOST_BACK} bars"))
                }
                None => Ok(When::Holds(value)),
                Some(left) => Err(format!("'{left}' is not expected there")),
            }
        }
    }
}

fn deed_of(text: &str, size: &str) -> Result<Deed, String> {
    match text {
        "flat" => Ok(Deed::Flat),
        "reverse" => Ok(Deed::Reverse),
        "cancel" => Ok(Deed::Cancel),
        _ => match text.strip_prefix("note ") {
            Some(note) => Ok(Deed::Note(note.trim().to_owned())),
            None => order_in_line(text, size).map(|(order, tag)| Deed::Order(Box::new(order), tag)),
        },
    }
}

/// Words, numbers and signs of a condition.
fn tokens(text: &str) -> Result<Vec<String>, String> {
    let mut out = Vec::new();
    let mut chars = text.chars().peekable();
    while let Some(c) = chars.next() {
        let mut word = String::from(c);
        match c {
            c if c.is_whitespace() => continue,
            c if c.is_ascii_alphanumeric() || c == '.' || c == '_' => {
                while let Some(c) = chars.next_if(|c| c.is_ascii_alphanumeric() || *c == '.' || *c == '_') {
                    word.push(c);
                }
            }
            '<' | '>' | '!' => word.extend(chars.next_if_eq(&'=')),
            '(' | ')' | ',' | '+' | '-' | '*' | '/' | '=' => {}
            other => return Err(format!("'{other}' is not understood")),
        }
        out.push(word);
    }
    Ok(out)
}

/// Reads a condition: or, and, not, comparisons, sums, products, in that order of binding.
struct ConditionReader {
    rest: Vec<String>,
    at: usize,
}

impl ConditionReader {
    fn peek(&self) -> Option<&str> {
        self.rest.get(self.at).map(String::as_str)
    }

    fn next(&mut self) -> Option<String> {
        self.at += 1;
        self.rest.get(self.at - 1).cloned()
    }

    fn take(&mut self, word: &str) -> bool {
        let is_it = self.peek() == Some(word);
        self.at += usize::from(is_it);
        is_it
    }

    fn need(&mut self, word: &str) -> Result<(), String> {
        if self.take(word) {
            Ok(())
        } else {
            Err(format!("'{word}' is missing before '{}'", self.peek().unwrap_or("the end")))
        }
    }

    fn either(&mut self) -> Result<Value, String> {
        let mut value = self.all()?;
        while self.take("or") {
            value = Value::Both(Sign::Or, Box::new(value), Box::new(self.all()?));
        }
        Ok(value)
    }

    fn all(&mut self) -> Result<Value, String> {
        let mut value = self.not()?;
        while self.take("and") {
            value = Value::Both(Sign::And, Box::new(value), Box::new(self.not()?));
        }
        Ok(value)
    }

    fn not(&mut self) -> Result<Value, String> {
        if self.take("not") { Ok(Value::Not(Box::new(self.not()?))) } else { self.compared() }
    }

    fn compared(&mut self) -> Result<Value, String> {
        let value = self.sum()?;
        if self.take("crosses") {
            let above = self.take("above");
            if !above {
                self.need("below")?;
            }
            return Ok(Value::Crosses { above, what: Box::new(value), over: Box::new(self.sum()?) });
        }
        let sign = match self.peek() {
            Some("<") => Sign::Less,
            Some("<=") => Sign::AtMost,
            Some(">") => Sign::More,
            Some(">=") => Sign::AtLeast,
            Some("=") => Sign::Same,
            Some("!=") => Sign::Other,
            _ => return Ok(value),
        };
        self.at += 1;
        Ok(Value::Both(sign, Box::new(value), Box::new(self.sum()?)))
    }

    fn sum(&mut self) -> Result<Value, String> {
        let mut value = self.product()?;
        loop {
            let sign = match self.peek() {
                Some("+") => Sign::Plus,
                Some("-") => Sign::Minus,
                _ => return Ok(value),
            };
            self.at += 1;
            value = Value::Both(sign, Box::new(value), Box::new(self.product()?));
        }
    }

    fn product(&mut self) -> Result<Value, String> {
        let mut value = self.one()?;
        loop {
            let sign = match self.peek() {
                Some("*") => Sign::Times,
                Some("/") => Sign::Per,
                _ => return Ok(value),
            };
            self.at += 1;
            value = Value::Both(sign, Box::new(value), Box::new(self.one()?));
        }
    }

    fn one(&mut self) -> Result<Value, String> {
        if self.at > 400 {
            return Err("it is too long".to_owned());
        }
        let word = self.next().ok_or("a value is missing at the end")?;
        if word == "(" {
            let value = self.either()?;
            self.need(")")?;
            return Ok(value);
        }
        if word == "-" {
            return Ok(Value::Minus(Box::new(self.one()?)));
        }
        if word.starts_with(|c: char| c.is_ascii_digit()) {
            return word.parse().map(Value::Number).map_err(|_| format!("'{word}' is no number"));
        }
        if self.peek() == Some("(") {
            return self.called(&word);
        }
        let names = <Name as strum::VariantNames>::VARIANTS.join(", ");
        Name::from_str(&word)
            .map(Value::Name)
            .map_err(|_| format!("'{word}' is not known; there are {names}"))
    }

    /// `mean(close, 20)` and its like.
    fn called(&mut self, word: &str) -> Result<Value, String> {
        self.need("(")?;
        let value = self.sum()?;
        self.need(",")?;
        let count = self.next().and_then(|n| n.parse::<usize>().ok()).filter(|n| (1..=MOST_BACK).contains(n));
        let count = count.ok_or_else(|| format!("{word} needs a number of bars from 1 to {MOST_BACK}"))?;
        self.need(")")?;
        match word {
            "before" => Ok(Value::Before(Box::new(value), count)),
            _ => match Over::from_str(word) {
                Ok(over) => Ok(Value::Over(over, Box::new(value), count)),
                Err(_) => Err(format!("'{word}' is not known; there are mean, highest, lowest and before")),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_script_is_read_and_mistakes_are_placed() {
        let text = "# crossing\nframe 5m\nsize 0.50\ninstrument NOKSEK\n\n\
            at 2024-03-05 09:30: buy limit 1.02500 with stop 50pt until day\n\
            every day 16:55 Europe/Oslo: flat\n\
            when mean(close, 5) crosses above mean(close, 20) and not position > 0: buy with stop 50pt target 105pt tag up\n\
            when close < before(lowest(low, 10), 1) or spread >= 2 * 9 - 1: note low again  # said\n";
        let script = script_in(text, "a.txt").unwrap();
        assert_eq!((script.frame.to_string().as_str(), script.rules.len()), ("5m", 4));
        assert_eq!(script.rules.iter().map(|r| r.line).collect::<Vec<_>>(), [6, 7, 8, 9]);
        assert!(matches!(&script.rules[2].what, Deed::Order(order, tag)
            if tag == "up" && order.size == crate::rehearse::Size::Lots(5_000)));
        assert_eq!(script.rules[3].what, Deed::Note("low again".into()));
        let When::Holds(value) = &script.rules[3].when else { panic!() };
        assert_eq!(value.reach(), 11);
        for (line, why) in [
            ("buy 1", "a line begins with frame"),
            ("at noon: buy", "'noon' is no time"),
            ("when close > 1 buy", "stands after a colon"),
            ("when close >: buy", "a value is missing"),
            ("when price > 1: buy", "'price' is not known; there are open"),
            ("when mean(close) > 1: buy", "',' is missing before ')'"),
            ("when mean(close, 0) > 1: buy", "needs a number of bars"),
            ("when sum(close, 3) > 1: buy", "'sum' is not known"),
            ("when (close > 1: buy", "')' is missing"),
            ("when close > 1 2: buy", "'2' is not expected"),
            ("when close ; 1: buy", "';' is not understood"),
            ("every day 25:00: flat", "'25:00' is no time of a day"),
            ("frame soon", "line 1"),
            ("when close > 1: hold", "the side must be buy or sell"),
            ("frame 5m", "does nothing"),
        ] {
            let err = script_in(line, "a.txt").unwrap_err().to_string();
            assert!(err.contains(why), "{line}: {err}");
        }
    }
}
